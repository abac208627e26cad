//! `syntax/error`: a line that the reader of scripts does not understand.

use crate::finding::{Level, RuleName};
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("syntax/error"),
    level: Level::Error,
    means: "A line that the reader of scripts does not understand.",
    hurts: "What stands there does nothing, and the rest of the handler may do something else than it looks like.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on start {
    if height = 3 {
        note "high"
    }
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on start {
    if height == 3 {
        note "high"
    }
}
"#,
    },
    check: None,
};

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn one_mistake_one_finding() {
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
    if height = 3 { // ~ syntax/error
        height = 1
    }
    height == 4 // ~ syntax/error
    let = 3 // ~ syntax/error
    height = (1 + 2 // ~ syntax/error
    height = 5
    wait 5 // ~ syntax/error
    show "open // ~ syntax/error
    height = 1 < 2 < 3 // ~ syntax/error
}

on touched(other parcel) { // ~ syntax/error
    height = 2
}

height = 3 // ~ syntax/error

on bumped(other) {
    height = 4
}
"#],
        );
    }
}
