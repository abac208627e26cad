//! `type/mismatch`: a value of one type where another is wanted.

use crate::finding::{Level, RuleName};
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("type/mismatch"),
    level: Level::Error,
    means: "A value of one type where another is wanted.",
    hurts: "The game takes it for zero, or for nothing, or refuses to load the script.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on start {
    height = "high"
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: "script tides for tide

on start {
    height = 3
}
",
    },
    check: None,
};
