//! `range/can-fall-below`: a write can leave a variable below its `min`.

use crate::finding::{Finding, Level, RuleName};
use crate::registry::End;
use crate::rules::Facts;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("range/can-fall-below"),
    level: Level::Error,
    means: "A write can leave a variable below its `min`.",
    hurts: "A stock goes below nothing, and what counts on it goes wrong.",
    bad: Example {
        registry: r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = 20
engine = "reads"
"#,
        script: "script loading for mailboat in harbor

on bell {
    parcels -= 1
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
        script: "script loading for mailboat in harbor

on bell {
    if parcels > 0 {
        parcels -= 1
    }
}
",
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    super::outside::check(facts, RULE.name, End::Min)
}
