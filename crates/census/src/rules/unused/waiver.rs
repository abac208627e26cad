//! `unused/waiver`: a waiver that waives nothing.

use crate::finding::{Level, RuleName};
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("unused/waiver"),
    level: Level::Warning,
    means: "A waiver that waives nothing.",
    hurts: "The mistake was mended and the waiver stayed: it would hide the next one.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on bell {
    // waive range/can-exceed: the flood is meant
    height += 1
    note "{height}"
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
max = 5
"#,
        script: r#"script tides for tide

on bell {
    // waive range/can-exceed: the flood is meant
    height += 1
    note "{height}"
}
"#,
    },
    check: None,
};
