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

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn a_guard_of_one_is_no_guard_for_three() {
        expect(
            r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = "mailboat.hold_size"
engine = "reads"

[variables.mailboat.hold_size]
type = "int"
scope = "instance"
default = 20
constant = true

[variables.mailboat.oil]
type = "number"
scope = "instance"
default = 50
min = 0
max = 100
engine = "reads"
"#,
            &[r#"script loading for mailboat in harbor

on bell {
    if parcels < hold_size {
        parcels += 3 // ~ range/can-exceed
    }
}
"#],
        );
    }

    #[test]
    fn guards_against_a_bound_that_is_a_variable() {
        expect(
            r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = "mailboat.hold_size"
engine = "reads"

[variables.mailboat.hold_size]
type = "int"
scope = "instance"
default = 20
constant = true

[variables.mailboat.oil]
type = "number"
scope = "instance"
default = 50
min = 0
max = 100
engine = "reads"
"#,
            &[r#"script loading for mailboat in harbor

on bell {
    if parcels < hold_size {
        parcels += 1
    }
    if hold_size > parcels and oil > 3 {
        parcels += 1
    }
    if not (parcels >= hold_size) {
        parcels += 1
    }
    if parcels == hold_size {
        return
    }
    parcels += 1
}

on touched(other: parcel) when parcels < hold_size {
    parcels += 1
    remove other
}
"#],
        );
    }

    #[test]
    fn the_room_that_is_left_fits() {
        expect(
            r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = "mailboat.hold_size"
engine = "reads"

[variables.mailboat.hold_size]
type = "int"
scope = "instance"
default = 20
constant = true

[variables.mailboat.oil]
type = "number"
scope = "instance"
default = 50
min = 0
max = 100
engine = "reads"
"#,
            &[r#"script loading for mailboat in harbor

on bell {
    let room = hold_size - parcels
    let taken = min(room, 5)
    parcels += taken
}

on touched(other: parcel) {
    parcels = min(parcels + 2, hold_size)
    parcels = clamp(parcels, 0, parcels.max)
    remove other
}
"#],
        );
    }

    #[test]
    fn procedures_count_by_the_amount_they_are_given() {
        expect(
            r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = "mailboat.hold_size"
engine = "reads"

[variables.mailboat.hold_size]
type = "int"
scope = "instance"
default = 20
constant = true

[variables.mailboat.oil]
type = "number"
scope = "instance"
default = 50
min = 0
max = 100
engine = "reads"
"#,
            &[r#"script loading for mailboat in harbor

on bell {
    take(1)
    load(2)
}

proc take(amount: int) {
    if parcels + amount <= hold_size {
        parcels += amount
    }
}

proc load(amount: int) {
    if parcels < hold_size {
        parcels += amount // ~ range/can-exceed
    }
}
"#],
        );
    }

    #[test]
    fn what_is_mended_before_anyone_looks_is_fine() {
        expect(
            r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = "mailboat.hold_size"
engine = "reads"

[variables.mailboat.hold_size]
type = "int"
scope = "instance"
default = 20
constant = true

[variables.mailboat.oil]
type = "number"
scope = "instance"
default = 50
min = 0
max = 100
engine = "reads"
"#,
            &[r#"script loading for mailboat in harbor

on bell {
    parcels += 3
    if parcels > hold_size {
        parcels = hold_size
    }
}

on touched(other: parcel) {
    parcels += 3 // ~ range/can-exceed
    remove other
    if parcels > hold_size {
        parcels = hold_size
    }
}
"#],
        );
    }

    #[test]
    fn a_wait_lets_others_fill_the_hold() {
        expect(
            r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = "mailboat.hold_size"
engine = "reads"

[variables.mailboat.hold_size]
type = "int"
scope = "instance"
default = 20
constant = true

[variables.mailboat.oil]
type = "number"
scope = "instance"
default = 50
min = 0
max = 100
engine = "reads"
"#,
            &[r#"script loading for mailboat in harbor

private busy: bool = false

on bell { // ~ sharing/reentry
    if parcels < hold_size {
        wait 1s
        parcels += 1 // ~ range/can-exceed
    }
}

on touched(other: parcel) when not busy {
    busy = true
    if parcels < hold_size {
        parcels += 1
        remove other
    }
    wait 1s
    busy = false
}
"#],
        );
    }

    #[test]
    fn a_bound_that_moves_below_is_the_bounds_fault() {
        expect(
            r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = "mailboat.hold_size"
engine = "reads"

[variables.mailboat.hold_size]
type = "int"
scope = "instance"
default = 20

[variables.mailboat.oil]
type = "number"
scope = "instance"
default = 50
min = 0
max = 100
engine = "reads"
"#,
            &[r#"script loading for mailboat in harbor

on bell {
    hold_size -= 1 // ~ range/can-exceed
}
"#],
        );
    }

    #[test]
    fn a_bound_that_moves_with_a_test_is_fine() {
        expect(
            r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = "mailboat.hold_size"
engine = "reads"

[variables.mailboat.hold_size]
type = "int"
scope = "instance"
default = 20

[variables.mailboat.oil]
type = "number"
scope = "instance"
default = 50
min = 0
max = 100
engine = "reads"
"#,
            &[r#"script loading for mailboat in harbor

on bell {
    if hold_size > parcels {
        hold_size -= 1
    }
    hold_size = max(hold_size - 2, parcels)
}
"#],
        );
    }

    #[test]
    fn each_way_is_judged_by_its_own_last_write() {
        expect(
            r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = "mailboat.hold_size"
engine = "reads"

[variables.mailboat.hold_size]
type = "int"
scope = "instance"
default = 20
constant = true

[variables.mailboat.oil]
type = "number"
scope = "instance"
default = 50
min = 0
max = 100
engine = "reads"
"#,
            &[r#"script loading for mailboat in harbor

on bell {
    if oil > 50 {
        parcels = hold_size
    } else if oil > 20 {
        parcels += 1 // ~ range/can-exceed
    } else {
        parcels = 0
    }
}
"#],
        );
    }

    #[test]
    fn clamped_and_wrapped_variables_stay_within() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 6
overflow = "clamp"
engine = "reads"

[variables.tide.hour]
type = "int"
scope = "global"
default = 0
min = 0
max = 23
overflow = "wrap"
engine = "reads"
"#,
            &[r#"script tides for tide

on bell {
    height += 3
    hour += 5
}
"#],
        );
    }

    #[test]
    fn loops_stop_at_what_they_test() {
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
    height = 0
    while height < 6 {
        height += 1
    }
}

on touched(other) {
    height = 0
    repeat 4 {
        height += 2 // ~ range/can-exceed
    }
}
"#],
        );
    }

    #[test]
    fn signals_bring_any_argument_in_their_range() {
        expect(
            r#"[signals.rain]
from = "engine"
to = "all"
parameters = { much = { type = "int", min = 0, max = 2 } }

[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 6
engine = "reads"
"#,
            &[r#"script tides for tide

on rain(much) {
    if height <= 4 {
        height += much
    }
}

on bell {
    if height <= 5 {
        height += 2 // ~ range/can-exceed
    }
}
"#],
        );
    }

    #[test]
    fn a_first_value_may_lie_above_a_bound_that_has_moved() {
        expect(
            r#"[variables.tide]
cap = { type = "int", scope = "global", default = 9, engine = "reads" }
level = { type = "int", scope = "global", max = "tide.cap", engine = "reads" }
"#,
            &[r#"script caps for tide

on bell {
    cap -= 1 // ~ range/can-exceed
}

on touched(other) {
    level = 7 // ~ range/can-exceed
}
"#],
        );
    }
}
