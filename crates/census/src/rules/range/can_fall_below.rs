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

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn costs_are_tested_before_they_are_paid() {
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
    let cost = 3
    if oil >= cost {
        oil -= cost
    }
    if oil > 0 {
        oil -= 0.6 // ~ range/can-fall-below
    }
}

on touched(other) {
    oil = max(oil - 1, 0)
}
"#],
        );
    }

    #[test]
    fn each_choice_is_judged_by_what_holds_after_the_question() {
        expect(
            r#"[variables.office.coins]
type = "int"
scope = "global"
default = 9
min = 0
engine = "reads"
"#,
            &[r#"script desk for office

private open: bool = true

on bell when open {
    open = false
    ask "Buy oil?" {
        choice "Yes" when coins >= 4 {
            coins -= 4
        }
        choice "No" {
            coins -= 1 // ~ range/can-fall-below
        }
    }
    open = true
}
"#],
        );
    }

    #[test]
    fn every_boat_of_a_loop_has_its_own_range() {
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
            &[r#"script pier for mailboat

on bell {
    for boat in mailboat where boat.parcels > 0 {
        boat.parcels -= 1
    }
    for boat in mailboat {
        boat.parcels -= 1 // ~ range/can-fall-below
    }
}

on touched(other: parcel) {
    remove other
    parcels = random(0, 5)
}
"#],
        );
    }
}
