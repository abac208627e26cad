//! `range/always`: a condition that is always true, whatever happens in play.

use crate::finding::{Finding, Level, RuleName};
use crate::rules::Facts;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("range/always"),
    level: Level::Warning,
    means: "A condition that is always true, whatever happens in play.",
    hurts: "The test decides nothing, and what it was meant to keep out gets in.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 5
"#,
        script: "script tides for tide

on bell {
    if height >= 0 {
        height = random(0, 5)
    }
}
",
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 5
"#,
        script: "script tides for tide

on bell {
    if height > 0 {
        height = random(0, 5)
    } else {
        height = 1
    }
}
",
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    super::decided::check(facts, RULE.name, true)
}
