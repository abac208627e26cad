//! Bounds that each instance has for itself, and variables that never come to them, or are put back as they do.

use crate::rules::testing::expect_in_scripts;

fn boats(start: &str) -> String {
    format!(
        r#"[instances.eider]
of = "mailboat"
scene = "harbor"
start = {{ {start} }}
[variables.mailboat]
hold = {{ type = "int", scope = "instance", default = 8, constant = true }}
reserve = {{ type = "int", scope = "instance", default = 1, constant = true }}
load = {{ type = "int", scope = "instance", default = 3, min = 0, max = "mailboat.hold", engine = "reads", writers = ["*"] }}
oil = {{ type = "int", scope = "instance", default = 20, min = "mailboat.reserve", max = 40, engine = "reads", writers = ["*"] }}
"#
    )
}

const START: &str = "hold = 4, load = 1, reserve = 3";
const TOLD: &str = " // ~ range/can-exceed";

/// A boat that stows one parcel more and puts what it has ashore as it is full, and more that is done.
fn stowing(start: &str, mark: &str, more: &str) {
    let script = format!(
        "script stowing for mailboat\n\non bell {{\n    load += 1{mark}\n    if load == hold {{\n        load = 0\n    }}\n}}\n\n{more}"
    );
    expect_in_scripts(&boats(start), &[&script]);
}

#[test]
fn what_is_put_back_at_its_own_bound_stays_below() {
    stowing(START, "", "");
    stowing(START, "", "on touched(other) {\n    load = 0\n}\n");
    stowing(START, "", "on touched(other) {\n    load = hold - 1\n}\n");
    stowing(START, "", "on touched(other) {\n    spawn mailboat\n}\n");
    stowing(START, TOLD, "on touched(other) {\n    load = hold\n}\n");
    stowing(START, TOLD, "on touched(other) {\n    if load < hold {\n        load += 1\n    }\n}\n");
    stowing(START, "", "on touched(other) {\n    if load < hold - 1 {\n        load += 1\n    }\n}\n");
    stowing("hold = 4, load = 4", TOLD, "");
}

#[test]
fn others_come_as_near_as_they_do() {
    let desk = |body: &str| format!("script desk for office\n\non touched(other) {{\n{body}}}\n");
    let stows = |mark: &str| {
        format!(
            "script stowing for mailboat\n\non bell {{\n    load += 1{mark}\n    if load == load.max {{\n        load = 0\n    }}\n}}\n"
        )
    };
    let all = |mark: &str, value: &str| {
        let desk = desk(&format!("    for boat in mailboat {{\n        boat.load = {value}\n    }}\n"));
        expect_in_scripts(&boats(START), &[&stows(mark), &desk]);
    };
    all("", "0");
    all("", "boat.hold - 2");
    all(TOLD, "boat.hold");
    let counts = |value: &str, mark: &str| {
        let rounds = format!(
            "    for boat in mailboat {{\n        boat.load += 1{mark}\n        if boat.load == boat.hold {{\n            boat.load = {value}\n        }}\n    }}\n"
        );
        expect_in_scripts(&boats(START), &[&desk(&rounds)]);
    };
    counts("0", "");
    counts("boat.hold", TOLD);
}

#[test]
fn where_others_can_look_in_between_it_counts() {
    let waits = |wait: &str, mark: &str| {
        let script = format!(
            "script stowing for mailboat\n\non bell {{ // ~ sharing/reentry\n    wait 1s\n    load += 1{mark}\n    if load == hold {{\n{wait}        load = 0\n    }}\n}}\n"
        );
        expect_in_scripts(&boats(START), &[&script]);
    };
    waits("", "");
    waits("        wait 1s\n", TOLD);
}

#[test]
fn lower_bounds_are_kept_away_from_in_the_same_way() {
    let burns = |by: u8, more: &str, mark: &str| {
        let script = format!(
            "script burning for mailboat\n\non bell {{\n    oil -= {by}{mark}\n    if oil == reserve {{\n        oil = 40\n    }}\n}}\n\n{more}"
        );
        expect_in_scripts(&boats(START), &[&script]);
    };
    burns(1, "", "");
    burns(1, "on touched(other) {\n    oil = reserve\n}\n", " // ~ range/can-fall-below");
    burns(3, "", " // ~ range/can-fall-below");
}
