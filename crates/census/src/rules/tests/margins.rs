//! Bounds that are variables too, and what never comes to them, or is put back as it does.

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

#[test]
fn what_starts_within_its_own_bound_is_where_it_starts() {
    let registry = r#"[instances.eider]
of = "mailboat"
scene = "harbor"
start = { hold = 5, load = 5 }
[variables.mailboat]
hold = { type = "int", scope = "instance", default = 3, min = 1, max = 9, engine = "reads" }
load = { type = "int", scope = "instance", default = 3, min = 0, max = "mailboat.hold", engine = "reads" }
"#;
    let bell = |body: &str| {
        expect_in_scripts(registry, &[&format!("script stowing for mailboat\n\non bell {{\n{body}}}\n")]);
    };
    bell("    hold = 3 // ~ range/can-exceed\n");
    bell("    if load == 5 {\n        hold = 4 // ~ range/can-exceed\n    }\n");
    bell("    hold = max(hold, load)\n");
}

#[test]
fn a_bound_that_moves_is_kept_away_from_too() {
    let registry = r#"[variables.tide]
hold = { type = "int", scope = "global", default = 8, min = 4, max = 40, engine = "reads" }
load = { type = "int", scope = "global", default = 3, min = 0, max = "tide.hold", engine = "reads" }
"#;
    let moving = |body: &str, mark: &str| {
        let script = format!(
            "script stowing for tide\n\non bell {{\n    load += 1{mark}\n    if load == hold {{\n        load = 0\n    }}\n}}\n\non touched(other) {{\n{body}}}\n"
        );
        expect_in_scripts(registry, &[&script]);
    };
    moving("    hold = min(hold + 5, 40)\n", "");
    moving("    hold = 40\n", "");
    moving("    if hold > 4 and load < hold - 1 {\n        hold -= 1\n    }\n", "");
    moving("    hold = random(4, 40)\n    if load >= hold {\n        load = 0\n    }\n", "");
    moving("    if hold > 4 and load < hold {\n        hold -= 1\n    }\n", TOLD);
    moving("    hold = random(4, 40)\n    load = min(load, hold)\n", TOLD);
}

#[test]
fn what_is_certainly_beyond_a_bound_that_moves_is_told_once() {
    let registry = r#"[variables.tide]
hold = { type = "int", scope = "global", default = 8, min = 4, max = 40, engine = "both" }
load = { type = "int", scope = "global", default = 3, min = 0, max = "tide.hold", engine = "both" }
"#;
    for test in ["load == hold", "load > hold - 1", "load >= hold - 1"] {
        let script = format!(
            "script stowing for tide\n\non bell {{\n    if {test} {{\n        load += 2 // ~ range/can-exceed\n    }}\n    load += 1\n}}\n"
        );
        expect_in_scripts(registry, &[&script]);
    }
}

#[test]
fn a_bound_that_is_cut_by_its_own_comes_nearer_without_a_write() {
    let registry = r#"[variables.tide]
roof = { type = "int", scope = "global", default = 20, min = 4, max = 30, engine = "reads" }
hold = { type = "int", scope = "global", default = 8, min = 0, max = "tide.roof", overflow = "clamp", engine = "reads" }
load = { type = "int", scope = "global", default = 3, min = 0, max = "tide.hold", engine = "reads" }
"#;
    let script = r"script stowing for tide

on bell {
    load += 1 // ~ range/can-exceed
    if load == hold {
        load = 0
    }
}

on touched(other) {
    roof = max(load, 4)
}
";
    expect_in_scripts(registry, &[script]);
}
