//! Whole scripts as people write them, with every finding marked: cases that cut across the rules, beside the tests that
//! each rule has of its own. Errors and warnings must match the marks exactly.

use crate::rules::testing::{expect, expect_in_scripts};

/// Variables that most of the cases share.
const STATE: &str = r#"[variables.mailboat]
parcels = { type = "int", scope = "instance", default = 0, min = 0, max = "mailboat.hold_size", engine = "reads" }
hold_size = { type = "int", scope = "instance", default = 20, constant = true }
oil = { type = "number", scope = "instance", default = 50, min = 0, max = 100, engine = "reads" }
low = { type = "bool", scope = "type", default = false, engine = "reads" }
lowest = { type = "number", scope = "type", default = 100, engine = "reads" }
last = { type = "number", scope = "type", default = 0, engine = "reads" }
crew = { type = "ref", scope = "instance", of = "mailboat", engine = "writes" }

[variables.parcel]
weight = { type = "int", scope = "instance", default = 1, min = 1, max = 4, constant = true }
stamp = { type = "int", scope = "instance", engine = "reads" }

[instances.heavy_parcel]
of = "parcel"
scene = "harbor"
start = { weight = 4 }

[variables.tide]
height = { type = "int", scope = "global", default = 0, min = 0, max = 12, engine = "reads" }
mood = { type = "enum", scope = "global", values = ["calm", "brisk", "storm"], default = "calm", engine = "both" }

[variables.office]
letters = { type = "int", scope = "global", default = 0, min = 0, max = 99, engine = "reads" }
opened = { type = "bool", scope = "global", default = false, engine = "reads" }
"#;

fn judged(script: &str) {
    expect_in_scripts(STATE, &[script]);
}

fn judged_all(scripts: &[&str]) {
    expect_in_scripts(STATE, scripts);
}

// ---- range: forms in which people keep to a limit ----

#[test]
fn the_room_that_is_left() {
    judged(
        r#"script loading for mailboat in harbor

on touched(other: parcel) {
    let room = hold_size - parcels
    if other.weight <= room {
        parcels += other.weight
    }
    remove other
}

on bumped(other: parcel) {
    let room = parcels.max - parcels
    parcels += min(other.weight, room)
    remove other
}
"#,
    );
}

#[test]
fn an_early_return_guards_what_follows() {
    judged(
        r#"script loading for mailboat in harbor

on touched(other: parcel) {
    if parcels >= hold_size {
        return
    }
    parcels += 1
    remove other
}

on bumped(other: parcel) {
    if not (parcels + other.weight <= hold_size) { return }
    parcels += other.weight
    remove other
}
"#,
    );
}

#[test]
fn a_guard_for_less_than_the_step() {
    judged(
        r#"script loading for mailboat in harbor

on touched(other: parcel) {
    if parcels < hold_size {
        parcels += other.weight // ~ range/can-exceed
    }
    remove other
}
"#,
    );
}

#[test]
fn a_wait_lets_others_fill_the_room() {
    judged(
        r#"script loading for mailboat in harbor

on touched(other: parcel) { // ~ sharing/reentry
    if parcels < hold_size {
        wait 0.5s
        parcels += 1 // ~ range/can-exceed
    }
}
"#,
    );
}

#[test]
fn a_held_guard_keeps_others_out_over_the_wait() {
    judged(
        r#"script loading for mailboat in harbor

private busy: bool = false

on touched(other: parcel) when not busy {
    busy = true
    if parcels < hold_size {
        wait 0.5s
        parcels += 1
    }
    busy = false
}
"#,
    );
}

#[test]
fn a_match_on_a_number_narrows() {
    judged(
        r#"script tides for tide

on bell {
    match height {
        0, 1, 2 {
            height += 10
        }
        12 {
            height = 0
        }
        else {
            height -= 3
        }
    }
}
"#,
    );
}

#[test]
fn a_procedure_takes_the_step() {
    judged(
        r#"script tides for tide

on bell {
    rise(2)
}

on every 10s {
    rise(20)
}

proc rise(by: int) {
    height = min(height + by, height.max)
}
"#,
    );
}

#[test]
fn a_procedure_gives_the_room() {
    judged(
        r#"script tides for tide

on bell {
    if room() >= 3 {
        height += 3
    }
}

on every 10s {
    height += room()
}

proc room() -> int {
    return height.max - height
}
"#,
    );
}

#[test]
fn steps_that_never_meet_the_limit() {
    expect(
        r#"[variables.tide]
marks = { type = "int", scope = "global", default = 0, min = 0, max = 95, engine = "reads" }
bells = { type = "int", scope = "global", default = 5, min = -10, max = 5, engine = "reads" }
"#,
        &[r#"script tides for tide

on bell {
    if marks < 90 {
        marks += 10
    }
    if marks == 95 { // ~ range/never
        note "never"
    }
}

on bumped(other) {
    remove other
    if bells > -9 {
        bells -= 2
    }
    if bells == 0 { // ~ range/limit-skipped
        note "over"
    }
}
"#],
    );
}

#[test]
fn two_writes_that_can_each_be_the_last_straw() {
    judged(
        r#"script tides for tide

on bell {
    height += 2 // ~ range/can-exceed
    height += 1
}
"#,
    ); // 0, 3, 6, 9, 12: the second never takes it from 12 to 13.
    judged(
        r#"script tides for tide

on bell {
    height += 2 // ~ range/can-exceed
    height += 1 // ~ range/can-exceed
}

on every 5s {
    height = max(height - 1, 0)
}
"#,
    );
}

#[test]
fn put_right_on_every_way_before_anyone_looks() {
    judged(
        r#"script tides for tide

on bell {
    height += 5
    if height > 12 {
        height = 12
    } else if height > 7 {
        note "high"
    }
}

on every 5s {
    height -= 5
    if height < 0 { height = 0 }
}
"#,
    );
}

#[test]
fn put_right_on_one_way_only() {
    judged(
        r#"script tides for tide

on bell {
    height += 5 // ~ range/can-exceed
    if mood == "calm" {
        if height > 12 { height = 12 }
    }
}
"#,
    );
}

#[test]
fn oil_is_paid_where_there_is_enough() {
    judged(
        r#"script sailing for mailboat in harbor

on every 1s {
    let cost = random(1, 5)
    if oil >= cost {
        oil -= cost
    } else {
        oil = 0
    }
}

on tick {
    oil -= 0.5 * tick_length() // ~ range/can-fall-below
}
"#,
    );
}

// ---- init ----

#[test]
fn set_in_all_arms_or_in_none() {
    judged(
        r#"script sorting for parcel

on spawn {
    match tide.mood {
        "calm" { stamp = 1 }
        "brisk" { stamp = 2 }
        "storm" { stamp = 3 }
    }
}

on bell {
    note "{stamp}"
}
"#,
    );
    judged(
        r#"script sorting for parcel

on spawn {
    if tide.mood == "calm" { stamp = random(1, 3) }
}

on bell {
    note "{stamp}" // ~ init/read-before-set
    if stamp is set and stamp > 1 {
        note "{stamp}"
    }
    if stamp is not set { return }
    note "{stamp}"
}
"#,
    );
}

#[test]
fn refs_are_looked_at_first() {
    judged(
        r#"script crews for mailboat in harbor

on bell {
    crew.oil = 50 // ~ init/empty-ref
    if crew is not none {
        crew.oil = 20
        wait 1s
        crew.oil = 30 // ~ init/empty-ref
    }
}
"#,
    );
}

#[test]
fn a_removed_parcel_is_gone() {
    judged(
        r#"script loading for mailboat in harbor

on touched(other: parcel) {
    let weight = other.weight
    remove other
    note "{weight}"
    note "{other.weight}" // ~ init/empty-ref
}
"#,
    );
}

// ---- sharing ----

#[test]
fn lost_updates_and_what_only_looks_like_them() {
    judged(
        r#"script books for office

on bell {
    let before = letters
    wait 1s
    letters = min(before + 1, 99) // ~ sharing/lost-update
}

on every 60s {
    wait 1s
    letters = max(letters - 1, 0)
}
"#,
    );
}

#[test]
fn bursts_need_a_guard_that_outlasts_them() {
    judged(
        r#"script loading for mailboat in harbor

private cooldown: int = 0

on bumped(other: parcel) {
    if parcels < hold_size {
        parcels += 1 // ~ sharing/burst
    }
}

on bumped(other: mailboat) when cooldown == 0 {
    cooldown = 30
    oil = max(oil - 5, 0)
}

on tick {
    if cooldown > 0 {
        cooldown -= 1
    }
}
"#,
    );
}

#[test]
fn a_guard_left_up_on_one_way_out() {
    judged(
        r#"script loading for mailboat in harbor

private busy: bool = false

on touched(other: parcel) when not busy {
    busy = true // ~ sharing/stuck-guard
    if parcels >= hold_size {
        return
    }
    wait 1s
    parcels += 1
    busy = false
}
"#,
    );
}

#[test]
fn once_is_once() {
    judged(
        r#"script opening for office

private done: bool = false

on bell when not done {
    done = true
    wait 1s
    letters = min(letters + 5, letters.max)
}
"#,
    );
}

#[test]
fn foreign_hands() {
    judged(
        r#"script meddling for office

on bell {
    tide.height = 3 // ~ sharing/foreign-write
    for boat in mailboat {
        boat.hold_size = 4 // ~ sharing/constant-written
    }
}
"#,
    );
}

#[test]
fn order_between_two_scripts() {
    judged_all(&[
        r#"script first for tide

on bell {
    height = random(0, 5)
}
"#,
        r#"script second for office

on bell {
    if tide.height > 3 { // ~ sharing/order-hazard
        opened = true
    }
}
"#,
    ]);
    // Two pure steps do not mind which comes first.
    judged_all(&[
        r#"script first for office

on bell {
    if letters < 50 { letters += 1 }
}
"#,
        r#"script second for office

on touched(other: parcel) {
    remove other
    if letters < 50 { letters += 2 }
}
"#,
    ]);
}

#[test]
fn every_boat_sets_the_same_flag() {
    judged(
        r#"script crews for mailboat in harbor

on tick {
    if oil < 5 {
        mailboat.low = true
    }
    mailboat.lowest = min(mailboat.lowest, oil)
    mailboat.last = oil // ~ sharing/last-writer-wins
}
"#,
    );
}

// ---- shadow and unused ----

#[test]
fn a_local_by_the_name_of_a_variable() {
    judged(
        r#"script tides for tide

on bell {
    let height = 3 // ~ shadow/local
    note "{height}"
}

on every 9s {
    if tide.height > 3 { note "high" }
}
"#,
    );
}

#[test]
fn nothing_comes_after_the_end() {
    judged(
        r#"script tides for tide

on bell {
    if mood == "calm" {
        return
    } else {
        restart
    }
    note "never" // ~ unused/unreachable
}

on start {
    while true {
        wait 1s
        height = min(height + 1, height.max)
    }
    note "never" // ~ unused/unreachable
}
"#,
    );
}

#[test]
fn a_value_that_nobody_can_have_seen() {
    judged(
        r#"script tides for tide

on bell {
    height = 3 // ~ unused/dead-write
    height = 4
    wait 1s
    height = 5
}
"#,
    );
}

// ---- types ----

#[test]
fn signs_and_fractions() {
    judged(
        r#"script tides for tide

on bell {
    height = +1 // ~ type/plus-sign-assign
}

on every 4s {
    height = 7 / 2 // ~ type/fraction-lost
    mood = "rough" // ~ range/unknown-value
    if mood = "calm" { note "x" } // ~ syntax/error
}
"#,
    );
}
