//! Handlers that a guard keeps out, whoever they belong to, while another waits.

use crate::rules::testing::expect_in_scripts;

const STATE: &str = r#"[variables.office]
taken = { type = "bool", scope = "global", default = false, writers = ["*"] }
turn = { type = "ref", of = "mailboat", scope = "global", writers = ["*"] }
stock = { type = "int", scope = "global", default = 0, min = 0, max = 20, writers = ["*"], engine = "reads" }

[variables.mailboat]
loading = { type = "bool", scope = "type", default = false }
oil = { type = "int", scope = "type", default = 0, min = 0, max = 20, engine = "reads" }

[variables.lighthouse.busy]
type = "bool"
scope = "instance"
default = false
writers = ["*"]

[signals.crane]
from = "engine"
"#;

/// Guarded by a flag of its own, which others may raise.
const KEEPER: &str = "script cranes for lighthouse

on crane when not busy {
    busy = true
    if office.stock < 20 {
        wait 1s
        office.stock += 1
    }
    busy = false
}
";

#[test]
fn one_flag_for_all_instances() {
    expect_in_scripts(
        STATE,
        &["script loading for mailboat

on touched when not office.taken {
    office.taken = true
    let before = office.stock
    wait 1s
    if before < 20 {
        office.stock = before + 1
    }
    office.taken = false
}

on crane when not mailboat.loading {
    mailboat.loading = true
    if mailboat.oil < 20 {
        wait 1s
        mailboat.oil += 1
    }
    mailboat.loading = false
}
"],
    );
}

#[test]
fn a_turn_that_one_instance_has() {
    expect_in_scripts(
        STATE,
        &["script loading for mailboat

on touched when office.turn is none {
    if office.stock > 0 {
        office.turn = self
        wait 2s
        office.stock -= 1
        office.turn = none
    }
}

on crane {
    office.stock = 20
}
"],
    );
}

#[test]
fn an_own_flag_keeps_no_other_instance_out() {
    expect_in_scripts(
        STATE,
        &["script loading for mailboat

private busy: bool = false

on touched when not busy {
    busy = true
    let before = office.stock
    wait 1s
    if before < 20 {
        office.stock = before + 1 // ~ sharing/lost-update
    }
    busy = false
}
"],
    );
}

#[test]
fn scripts_of_other_owners() {
    let books = "script books for office

on bell {
    if lighthouse.busy { return }
    if stock < 20 {
        lighthouse.busy = true
        wait 1s
        stock += 1
        lighthouse.busy = false
    }
}
";
    expect_in_scripts(STATE, &[KEEPER, books]);
}

#[test]
fn a_flag_that_another_only_asks_about() {
    let keeper = KEEPER.replace("stock += 1", "stock += 1 // ~ range/can-exceed");
    let books = "script books for office

on bell when not lighthouse.busy { // ~ sharing/reentry
    if stock < 20 {
        wait 1s
        stock += 1 // ~ range/can-exceed
    }
}
";
    expect_in_scripts(STATE, &[&keeper, books]);
}

#[test]
fn a_time_from_which_on_it_answers_again() {
    expect_in_scripts(
        r#"[variables.tide]
clock = { type = "int", scope = "global", default = 0 }
ready_at = { type = "int", scope = "global", default = 0 }
height = { type = "int", scope = "global", default = 0, min = 0, max = 6, overflow = "clamp", engine = "reads" }
"#,
        &["script tides for tide

on every 1s {
    clock += 1
}

on bumped(other) {
    if clock < ready_at { return }
    ready_at = clock + 5
    height += 1
}

on touched(other) when clock >= ready_at { // ~ sharing/reentry
    ready_at = clock
    wait 1s
    height -= 1
}
"],
    );
}

#[test]
fn who_answers_only_those_that_are_kept_out_is_silent_too() {
    let registry =
        format!("{STATE}\n[signals.landed]\nfrom = \"script\"\n\n[signals.calm]\nfrom = \"engine\"\nto = \"all\"\n");
    let judged = |crane: &str, sends: &str, mark: &str| {
        let script = format!(
            "script loading for office

private busy: bool = false

on crane when not busy {{
    busy = true
    {crane}
    if stock < stock.max {{
        wait 1s
        stock += 1{mark}
    }}
    busy = false
}}

{sends}

on landed {{
    if stock < stock.max {{
        stock += 1
    }}
}}
"
        );
        expect_in_scripts(&registry, &[&script]);
    };
    let told = " // ~ range/can-exceed";
    judged("", "on bell when not busy {\n    send landed\n}", "");
    judged("", "on bell when not busy {\n    land()\n}\n\nproc land() {\n    send landed\n}", "");
    judged("", "on bell {\n    send landed\n}", told);
    judged("", "on bell when not busy {\n    send landed\n}\n\non calm {\n    send landed\n}", told);
    judged("", "on bell when not busy { // ~ sharing/reentry\n    after 1s {\n        send landed\n    }\n}", told);
    judged(
        "",
        "on bell when not busy and lands() {\n    show \"Landed.\"\n}\n\nproc lands() -> bool {\n    send landed\n    return true\n}",
        told,
    );
    judged("send landed", "on bell when not busy {\n    send landed\n}", told);
    judged("wait 1s", "on bell when not busy {\n    send landed\n}", told);
    judged("", "on crane when not busy {\n    send landed\n}", told);
    judged("", "on bell when not busy {\n    busy = true\n    send landed\n    wait 2s\n    busy = false\n}", "");
}
