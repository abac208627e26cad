//! `registry/duplicate`: one name for two things: an identity, or an owner, instance or signal of the same name.

use crate::finding::{Level, RuleName};
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("registry/duplicate"),
    level: Level::Error,
    means: "One name for two things: an identity, or an owner, instance or signal of the same name.",
    hurts: "Two people mean two things by one name, and each changes the other's.",
    bad: Example {
        registry: r#"[owners.boathouse]
kind = "system"

[owners.boathouse]
kind = "scene"
"#,
        script: "script tides for tide

on start {
}
",
    },
    good: Example {
        registry: r#"[owners.boathouse]
kind = "system"
"#,
        script: "script tides for tide

on start {
}
",
    },
    check: None,
};

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn both_places_are_known() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 6
engine = "reads"
[variables.tide.height] # ~ registry/duplicate
type = "int"
scope = "global"
default = 0
min = 0
max = 6
engine = "reads"

[owners.dawn_boat] # ~ registry/duplicate
kind = "system"

[signals.tide] # ~ registry/duplicate
from = "engine"
"#,
            &[r#"script tides for tide

on bell {
    height = 2
}
"#],
        );
    }

    #[test]
    fn parameters_have_names_of_their_own() {
        expect(
            "[signals.gust]\nfrom = \"engine\"\nto = \"all\"\nparameters = { force = \"int\", side = \"int\" }\n",
            &[r#"script tides for tide

on gust(force, force) { // ~ registry/duplicate
    row(force, 2)
}

proc row(by: int, by: int) { // ~ registry/duplicate
    note "{by}"
}
"#],
        );
    }
}
