//! `type/mismatch`: a value of one type where another is wanted.

use crate::finding::{Level, RuleName};
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("type/mismatch"),
    level: Level::Error,
    means: "A value of one type where another is wanted.",
    hurts: "The game takes it for zero, or for nothing, or refuses to load the script.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on start {
    height = "high"
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: "script tides for tide

on start {
    height = 3
}
",
    },
    check: None,
};

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn values_where_they_do_not_belong() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 6
engine = "reads"

[variables.tide.phase]
type = "enum"
scope = "global"
values = ["ebb", "flood"]
default = "ebb"
engine = "both"
"#,
            &[r#"script tides for tide

private name: text = "x"

on bell {
    height = "three" // ~ type/mismatch
    phase = name // ~ type/mismatch
    if height { // ~ type/mismatch
        note "x"
    }
    show "a" + name // ~ type/mismatch
    let both = name + "b" // ~ type/mismatch
    note "{both}"
    let root = sqrt(4) // ~ type/mismatch
    let most = max(1) // ~ type/mismatch
    note "{root} {most}"
    rise(1, 2) // ~ type/mismatch
    name = phase
}

proc rise(by: int) {
    height = clamp(height + by, 0, 6)
}
"#],
        );
    }

    #[test]
    fn a_parameter_without_a_type_has_that_of_what_it_is_given() {
        expect(
            r#"[variables.tide]
height = { type = "int", scope = "global", default = 0, min = 0, max = 20, engine = "reads" }
rate = { type = "number", scope = "global", default = 0.5, min = 0, max = 9, engine = "reads" }
mood = { type = "enum", scope = "global", values = ["calm", "storm"], default = "calm", engine = "both" }
"#,
            &[r#"script tides for tide

proc far(by) {
    near(by, 2.5)
}

proc near(by, most) {
    if height + by <= 20 {
        height += by
    }
    rate = min(rate, most)
    if by == 3 {
        height = most // ~ type/fraction-lost
    }
}

proc turn(to) {
    if to == "grim" { // ~ range/unknown-value
        note "it never comes"
    }
    mood = to
}

on bell {
    far(3)
    near(2, 4)
    near("two", 4) // ~ type/mismatch
    turn(mood)
    turn("storm")
}
"#],
        );
    }
}
