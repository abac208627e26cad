//! `registry/bad-entry`: something in an entry, or in `oaken.toml`, that can not be: an unknown key, a value of the wrong type, a bound that does not exist.

use crate::finding::{Level, RuleName};
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("registry/bad-entry"),
    level: Level::Error,
    means: "Something in an entry, or in `oaken.toml`, that can not be: an unknown key, a value of the wrong type, a bound that does not exist.",
    hurts: "What the entry says is not what the game gets, and every check that leans on it is blind.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = "low"
"#,
        script: "script tides for tide

on start {
}
",
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
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
    fn each_mistake_is_one_finding() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 2.5 # ~ registry/bad-entry
defualt = 3 # ~ registry/bad-entry
engine = "both"

[variables.tide.flow]
type = "int"
scope = "instance" # ~ registry/bad-entry
default = 0
min = 9
max = 2 # ~ registry/bad-entry
engine = "both"

[variables.tide.low]
type = "int"
scope = "global"
default = 0
max = "tide.high" # ~ registry/bad-entry
engine = "both"

[variables.tide.high]
type = "int"
scope = "global"
default = 0
max = "tide.low"
engine = "both"

[variables.tide.phase]
type = "enum"
scope = "global"
values = ["ebb", "ebb"] # ~ registry/bad-entry
default = "flood" # ~ registry/bad-entry
engine = "both"

[variables.gull.count] # ~ registry/bad-entry
type = "int"
scope = "global"

[variables.tide.self] # ~ registry/bad-entry
type = "int"
scope = "global"

[instances.dusk_boat]
of = "mailbaot" # ~ registry/bad-entry

[invariants.high_is_high]
holds = "tide.high > tide.lwo" # ~ registry/bad-entry
"#,
            &[r#"script tides for tide

on bell {
    note "x"
}
"#],
        );
    }
}
