//! `range/can-exceed`: a write can leave a variable above its `max`.

use crate::finding::{Finding, Level, RuleName};
use crate::registry::End;
use crate::rules::Facts;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("range/can-exceed"),
    level: Level::Error,
    means: "A write can leave a variable above its `max`.",
    hurts: "A pickup goes past the cap, and the hold shows 23 of 20.",
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
    parcels += 3
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
    if parcels <= parcels.max - 3 {
        parcels += 3
    }
}
",
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    super::outside::check(facts, RULE.name, End::Max)
}
