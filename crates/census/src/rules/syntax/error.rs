//! `syntax/error`: a line that the reader of scripts does not understand.

use crate::finding::{Level, RuleName};
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("syntax/error"),
    level: Level::Error,
    means: "A line that the reader of scripts does not understand.",
    hurts: "What stands there does nothing, and the rest of the handler may do something else than it looks like.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on start {
    if height = 3 {
        note "high"
    }
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on start {
    if height == 3 {
        note "high"
    }
}
"#,
    },
    check: None,
};
