//! `registry/unknown-signal`: a script answers or sends a signal that the registry does not declare.

use crate::finding::{Level, RuleName};
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("registry/unknown-signal"),
    level: Level::Error,
    means: "A script answers or sends a signal that the registry does not declare.",
    hurts: "Nothing ever happens: the handler waits for something that never comes.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: "script tides for tide

on bel {
    height = 1
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

on bell {
    height = 1
}
",
    },
    check: None,
};
