//! `registry/bad-waiver`: a waiver without a reason, or of a rule that does not exist.

use crate::finding::{Level, RuleName};
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("registry/bad-waiver"),
    level: Level::Error,
    means: "A waiver without a reason, or of a rule that does not exist.",
    hurts: "It waives nothing, and whoever wrote it believes that it does.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
max = 5
"#,
        script: r#"script tides for tide

on bell {
    // waive range/can-exceed
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

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn no_reason_no_waiver() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 6
engine = "reads"
"#,
            &[r#"script tides for tide

on bell {
    // waive range/can-exceed // ~ registry/bad-waiver
    height += 1 // ~ range/can-exceed
    // waive range/can-excede: typo // ~ registry/bad-waiver
    note "{height}"
}
"#],
        );
    }
}
