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

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn statements_handlers_and_entries() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 6
engine = "reads"

# waive unused/variable: the engine asks for it by number
[variables.tide.flow]
type = "int"
scope = "global"
default = 0
"#,
            &[r#"script tides for tide

// waive range: the flood in act 3 is meant
on bell {
    height += 1
}

// waive sharing/reentry: it may come again
on touched(other) {
    height += 1 // waive range/can-exceed: meant
    wait 1s
    // waive range/can-exceed: meant
    // waive sharing: nothing to waive // ~ unused/waiver
    height += 2
}
"#],
        );
    }
}
