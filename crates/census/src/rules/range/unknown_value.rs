//! `range/unknown-value`: a text given to an enum, or compared with one, that is not among its values.

use crate::finding::{Level, RuleName};
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("range/unknown-value"),
    level: Level::Error,
    means: "A text given to an enum, or compared with one, that is not among its values.",
    hurts: "The comparison never comes true, and a branch of the game can not be reached.",
    bad: Example {
        registry: r#"[variables.tide.phase]
type = "enum"
scope = "global"
values = ["ebb", "flood"]
default = "ebb"
"#,
        script: r#"script tides for tide

on start {
    phase = "flod"
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.phase]
type = "enum"
scope = "global"
values = ["ebb", "flood"]
default = "ebb"
"#,
        script: r#"script tides for tide

on start {
    phase = "flood"
}
"#,
    },
    check: None,
};

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn texts_are_held_against_the_values() {
        expect(
            r#"[variables.tide.phase]
type = "enum"
scope = "global"
values = ["ebb", "flood"]
default = "ebb"
engine = "reads"
"#,
            &[r#"script tides for tide

on bell {
    if phase == "eb" { // ~ range/unknown-value
        phase = "flood"
    }
    match phase {
        "ebb", "flood" { note "well" }
        "storm" { note "no" } // ~ range/unknown-value
    }
}
"#],
        );
    }
}
