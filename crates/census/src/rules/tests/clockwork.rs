//! Handlers that time sets off again and again: the next one begins when the one before is long over, or is not.

use crate::rules::testing::expect_in_scripts;

const STATE: &str = r#"[variables.tide]
night = { type = "int", scope = "global", default = 0, min = 0, max = 30, engine = "reads" }

[signals.dawn]
from = "script"
"#;

/// What counts the nights, behind this head.
fn judged(head: &str, lines: &str) {
    let count = format!("    if night < 30 {{\n{lines}    }} else {{\n        night = 0\n    }}\n");
    expect_in_scripts(
        STATE,
        &[&format!("script nights for tide\n\n{head}\n{count}}}\n\non dawn {{\n    hide slip\n}}\n")],
    );
}

const LATER: &str = "        after 1s {\n            night += 1\n        }\n        send dawn\n";

#[test]
fn one_that_is_over_in_time_meets_no_other() {
    judged("on every 90s {", "        wait 1s\n        night += 1\n        send dawn\n");
    judged("on every 90s {", LATER);
    judged(
        "on every 9s {",
        "        send dawn\n        repeat 4 {\n            wait 2s\n        }\n        night += 1\n",
    );
    judged("on every 9s {", &LATER.replace("night += 1", "after 8s {\n night += 1\n }"));
}

#[test]
fn one_that_is_not_meets_the_next() {
    let head = "on every 9s { // ~ sharing/reentry";
    let wait = "        send dawn\n        wait 10s // ~ flow/wait-in-tick\n        night += 1 // ~ range/can-exceed\n";
    judged(head, wait);
    let rounds = "        send dawn\n        repeat 5 {\n            wait 2s // ~ flow/wait-in-tick\n        }\n        night += 1 // ~ range/can-exceed\n";
    judged(head, rounds);
    let nothing = "        send dawn\n        while chance(0.5) {\n            wait 0s // ~ flow/wait-in-tick\n        }\n        night += 1 // ~ range/can-exceed\n";
    judged(head, nothing);
    judged(head, &LATER.replace("night += 1", "after 9s {\n night += 1 // ~ range/can-exceed\n }"));
}

#[test]
fn what_one_of_them_sends_comes_as_seldom() {
    let sent = |sender: &str, head: &str, mark: &str| {
        let script = format!(
            "script nights for tide\n\n{sender}\n\n{head}\n    if night < 30 {{\n        wait 5s\n        night += 1{mark}\n    }} else {{\n        night = 0\n    }}\n}}\n"
        );
        expect_in_scripts(STATE, &[&script]);
    };
    let (head, told, exceeds) = ("on dawn {", "on dawn { // ~ sharing/reentry", " // ~ range/can-exceed");
    sent("on every 9s {\n    send dawn\n}", head, "");
    sent("on every 9s {\n    wait 3s\n    send dawn\n}", head, "");
    sent("on every 4s {\n    send dawn\n}", told, exceeds);
    sent("on every 9s {\n    send dawn\n}\n\non start {\n    send dawn\n}", told, exceeds);
}
