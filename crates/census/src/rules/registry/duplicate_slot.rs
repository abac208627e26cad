//! `registry/duplicate-slot`: two variables have one slot number.

use crate::finding::{Level, RuleName};
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("registry/duplicate-slot"),
    level: Level::Error,
    means: "Two variables have one slot number.",
    hurts: "An engine that addresses variables by number overwrites one with the other.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
slot = 4

[variables.tide.flow]
type = "int"
scope = "global"
default = 0
slot = 4
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
slot = 4

[variables.tide.flow]
type = "int"
scope = "global"
default = 0
slot = 5
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
    fn one_slot_for_one_variable() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 6
slot = 3
engine = "reads"

[variables.tide.flow]
type = "int"
scope = "global"
default = 0
slot = 3 # ~ registry/duplicate-slot
engine = "both"
"#,
            &[r#"script tides for tide

on bell {
    height = 2
}
"#],
        );
    }
}
