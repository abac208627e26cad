//! `registry/ambiguous-name`: a bare name that two systems have.

use crate::finding::{Level, RuleName};
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("registry/ambiguous-name"),
    level: Level::Error,
    means: "A bare name that two systems have.",
    hurts: "Which of the two is meant depends on who reads it, and one of them will be wrong.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0

[variables.office.height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script pier for harbor

on enter {
    note "{height}"
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0

[variables.office.height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script pier for harbor

on enter {
    note "{tide.height}"
}
"#,
    },
    check: None,
};
