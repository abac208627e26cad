//! `range/never`: a condition that never is true, whatever happens in play.

use crate::finding::{Finding, Level, RuleName};
use crate::rules::Facts;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("range/never"),
    level: Level::Warning,
    means: "A condition that never is true, whatever happens in play.",
    hurts: "What stands behind it can not be reached by any player.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 5
"#,
        script: r#"script tides for tide

on bell {
    if height > 9 {
        note "flood"
    }
    height = random(0, 5)
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 5
"#,
        script: r#"script tides for tide

on bell {
    if height > 4 {
        note "flood"
    }
    height = random(0, 5)
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    super::decided::check(facts, RULE.name, false)
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn what_every_call_of_a_procedure_passes_as_a_constant_decides_nothing() {
        expect(
            r#"[variables.tide]
height = { type = "int", scope = "global", default = 0, min = 0, max = 9, engine = "both" }
step = { type = "int", scope = "global", default = 2, constant = true }
"#,
            &[r#"script tides for tide

proc lower(by: int) {
    if by <= 0 {
        return
    }
    height = max(height - by, 0)
}

proc raise(by: int) {
    if by < 0 { // ~ range/never
        return
    }
    height = min(height + by, 9)
}

on bell {
    lower(step)
    lower(3)
    raise(height)
}
"#],
        );
    }

    #[test]
    fn a_flag_counts_with_its_not() {
        expect(
            r#"[variables.tide.open]
type = "bool"
scope = "global"
default = true

[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 9
engine = "reads"
"#,
            &[r#"script tides for tide

on bell when not open { // ~ range/never
    open = true
    height = 3
}

on touched(other) {
    while not open and height < 5 { // ~ range/never
        wait 1s
    }
    if not (height > 9) { // ~ range/never
        height = 4
    }
}

on start when not (open and height < 0) { // ~ range/always range/never
    height = 5
}
"#],
        );
    }

    #[test]
    fn strides_count() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 100
engine = "reads"
"#,
            &[r#"script tides for tide

on bell {
    if height <= 90 {
        height += 10
    }
    if height % 10 == 5 { // ~ range/never
        note "odd"
    }
}
"#],
        );
    }

    #[test]
    fn the_test_of_a_write_that_is_reported_is_left_alone() {
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
    if height <= 6 {
        height += 1 // ~ range/can-exceed
    }
}
"#],
        );
    }

    #[test]
    fn what_a_mistaken_step_keeps_a_variable_from_is_no_second_finding() {
        expect(
            r#"[variables.tide.oil]
type = "int"
scope = "global"
default = 60
min = 0
max = 100
engine = "reads"
"#,
            &[r#"script tides for tide

on bell {
    oil += min(oil, 20) // ~ range/can-exceed
    if oil == 0 { note "empty" }
}

on touched(other) {
    if oil < 10 { note "low" }
    if oil > 100 { note "over" } // ~ range/never
}

on every 5s {
    oil = min(oil - 5, 0) // ~ range/can-fall-below
    if oil > 20 { note "enough" }
    if oil > 100 { note "over" } // ~ range/never
}
"#],
        );
    }

    #[test]
    fn of_tests_that_wait_for_one_another_one_is_told() {
        let registry = r#"[variables.tide]
open = { type = "bool", scope = "global", default = false, engine = "reads" }
lit = { type = "bool", scope = "global", default = false, engine = "reads" }
leader = { type = "ref", scope = "global", of = "mailboat", engine = "reads" }
oil = { type = "int", scope = "global", default = 0, min = 0, max = 40, engine = "reads" }
coins = { type = "int", scope = "global", default = 0, min = 0, max = 40, engine = "reads" }
"#;
        let of_itself = "on bell when open { // ~ range/never\n    open = true\n}\non tide_turned {\n    open = false\n}\n\
            on touched(other) {\n    send tide_turned\n}\n";
        let of_two = "on bell when lit { // ~ range/never\n    open = true\n}\n\
            on touched(other) {\n    if open { lit = true }\n}\n";
        let by_a_signal = "on bell {\n    if open { send tide_turned } // ~ range/never\n}\non tide_turned {\n    unlock()\n}\n\
            proc unlock() {\n    open = true\n}\n";
        let of_numbers = "on bell {\n    if coins >= 5 and oil < 40 { // ~ range/never\n        coins -= 5\n        oil += 1\n    }\n}\n\
            on touched(other) {\n    if oil > 0 and coins <= 33 {\n        oil -= 1\n        coins += 7\n    }\n}\n";
        let of_nothing = "on touched(other: mailboat) {\n    if leader is set { // ~ range/never\n        leader = other\n    }\n}\n\
            on bell {\n    leader = none\n}\n";
        for body in [of_itself, of_two, by_a_signal, of_numbers, of_nothing] {
            expect(registry, &[&format!("script tides for tide\n\n{body}")]);
        }
    }

    #[test]
    fn a_flag_that_nothing_raises() {
        expect(
            r#"[variables.tide.storm]
type = "bool"
scope = "global"
default = false
engine = "reads"
"#,
            &[r#"script tides for tide

on bell {
    if storm { // ~ range/never
        note "storm"
    }
    storm = false
}
"#],
        );
    }

    #[test]
    fn what_a_needless_test_keeps_from_being_written_is_no_second_finding() {
        expect(
            r#"[variables.tide]
height = { type = "int", scope = "global", default = 0, min = 0, max = 6, engine = "reads" }
rising = { type = "bool", scope = "global", default = true }
stage = { type = "int", scope = "global", default = 0, min = 0, max = 9 }
"#,
            &[r#"script tides for tide

on every 1s {
    if height > 6 { // ~ range/never
        rising = false
        stage = 4
    }
    if rising {
        height = min(height + 1, 6)
    }
}

on bell {
    if stage == 4 {
        note "four"
    }
    if stage == 5 { // ~ range/never
        height = 0
    }
}
"#],
        );
    }
}
