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
