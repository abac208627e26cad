//! `sharing/unchecked-kind`: a variable of one actor is taken from a name that may be any actor.

use crate::finding::{Level, RuleName};
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("sharing/unchecked-kind"),
    level: Level::Error,
    means: "A variable of one actor is taken from a name that may be any actor.",
    hurts: "The day something else touches it, the script reads a variable that is not there.",
    bad: Example {
        registry: r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = 20
engine = "reads"
"#,
        script: "script pier for harbor

on touched(other) {
    other.parcels = 0
}
",
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
        script: "script pier for harbor

on touched(other) {
    if other is mailboat {
        other.parcels = 0
    }
}
",
    },
    check: None,
};
