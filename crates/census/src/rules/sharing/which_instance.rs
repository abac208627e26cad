//! `sharing/which-instance`: a variable of which every instance has its own is named through the actor.

use crate::finding::{Level, RuleName};
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("sharing/which-instance"),
    level: Level::Error,
    means: "A variable of which every instance has its own is named through the actor.",
    hurts: "There are many, and the name does not say which one is meant.",
    bad: Example {
        registry: r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = 20
engine = "reads"
"#,
        script: r#"script pier for harbor

on enter {
    note "{mailboat.parcels}"
}
"#,
    },
    good: Example {
        registry: r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = 20
engine = "reads"
"#,
        script: r#"script pier for harbor

on enter {
    note "{dawn_boat.parcels}"
}
"#,
    },
    check: None,
};
