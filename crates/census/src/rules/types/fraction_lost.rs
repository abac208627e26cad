//! `type/fraction-lost`: a number with a fraction where a whole number is wanted.

use crate::finding::{Level, RuleName};
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("type/fraction-lost"),
    level: Level::Error,
    means: "A number with a fraction where a whole number is wanted.",
    hurts: "The fraction is dropped without a word, and half a unit goes missing each time.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: "script tides for tide

on start {
    height = 7 / 2
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

on start {
    height = floor(7 / 2)
}
",
    },
    check: None,
};

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn fractions_need_rounding() {
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
    height = 7 / 2 // ~ type/fraction-lost
    note "{height}"
    height = floor(7 / 2)
    note "{height}"
    height += 0.5 // ~ type/fraction-lost
    let half = height / 2
    note "{half:1}"
}
"#],
        );
    }
}
