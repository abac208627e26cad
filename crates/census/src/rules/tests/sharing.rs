//! State that more than one hand touches: guards, bursts, lost changes, order, labels, chains of changes.

use crate::rules::testing::{CONFIG, expect_in_scripts, expect_with};

const STATE: &str = r#"[variables.tide]
height = { type = "int", scope = "global", default = 0, min = 0, max = 50, overflow = "clamp", engine = "reads", writers = ["*"] }
pulls = { type = "int", scope = "global", default = 0, engine = "reads", writers = ["*"] }
open = { type = "bool", scope = "global", default = false, engine = "reads", writers = ["*"] }
held = { type = "bool", scope = "global", default = false, lifetime = "session", engine = "reads", writers = ["*"] }
mood = { type = "enum", scope = "global", values = ["calm", "storm"], default = "calm", engine = "reads", writers = ["*"] }

[variables.mailboat]
load = { type = "int", scope = "instance", default = 0, min = 0, max = 50, overflow = "clamp", engine = "reads", writers = ["*"] }
busy = { type = "bool", scope = "instance", default = false, engine = "reads", writers = ["*"] }
rest = { type = "int", scope = "instance", default = 0, engine = "reads" }
fleet = { type = "int", scope = "type", default = 0, engine = "reads" }
mate = { type = "ref", scope = "instance", of = "mailboat", engine = "both" }
"#;

fn judged(script: &str) {
    expect_in_scripts(STATE, &[script]);
}

fn judged_both(one: &str, other: &str) {
    expect_in_scripts(STATE, &[one, other]);
}

// ---- reentry ----

#[test]
fn a_step_after_a_wait_is_done_once_for_each_time() {
    judged(
        r#"script tides for tide

on bell { // ~ sharing/reentry
    wait 1s
    pulls += 1
}
"#,
    );
}

#[test]
fn a_guard_that_others_put_back_while_the_handler_waits_is_meant() {
    let cooldown = |second: &str, mark: &str| {
        judged(&format!(
            "script boats for mailboat

on touched(other) when rest == 0 {{{mark}
    rest = 3
    wait 1s
    pulls_at(1)
    {second}
    wait 1s
    pulls_at(2)
}}

proc pulls_at(many: int) {{
    load += many
}}

on every 1s when rest > 0 {{
    rest -= 1
}}
"
        ));
    };
    cooldown("note \"half\"", "");
    cooldown("note \"half\"\n    if chance(0.5) {\n        wait 1s\n    }\n    wait 1s", "");
    cooldown(
        "if chance(0.5) {\n        wait 1s\n    } else {\n        rest = 0\n    }\n    wait 1s",
        " // ~ sharing/reentry",
    );
    cooldown("rest = 0", " // ~ sharing/reentry");
}

#[test]
fn a_wait_that_not_all_ways_come_by_before_the_next() {
    let cooldown = |otherwise: &str, mark: &str| {
        judged(&format!(
            "script boats for mailboat

on touched(other) when rest == 0 {{{mark}
    rest = 3
    if chance(0.5) {{
        wait 1s
    }} else {{
        {otherwise}
    }}
    wait 1s
    load += 2
}}

on every 1s when rest > 0 {{
    rest -= 1
}}
"
        ));
    };
    cooldown("note \"at once\"", "");
    cooldown("rest = 0", " // ~ sharing/reentry");
}

#[test]
fn a_step_before_the_wait_is_not_the_waits_fault() {
    judged(
        r#"script tides for tide

on bell {
    pulls += 1
    wait 1s
    open = true
}
"#,
    );
}

#[test]
fn sending_and_spawning_after_a_wait_count_as_steps() {
    judged(
        r#"script tides for tide

on bell { // ~ sharing/reentry
    wait 1s
    send tide_turned
}

on touched(other: parcel) { // ~ sharing/reentry
    wait 1s
    spawn parcel
}

on tide_turned {
    open = true
}
"#,
    );
}

#[test]
fn an_after_block_follows_a_wait() {
    judged(
        r#"script tides for tide

on bell { // ~ sharing/reentry
    after 2s {
        pulls += 1
    }
}
"#,
    );
}

#[test]
fn a_question_is_a_wait() {
    judged(
        r#"script talk for tide

on bell { // ~ sharing/reentry
    ask "Ring again?" {
        choice "Yes" {
            pulls += 1
        }
        choice "No" {
        }
    }
}
"#,
    );
}

#[test]
fn a_procedure_that_waits_is_a_wait() {
    judged(
        r#"script tides for tide

on bell { // ~ sharing/reentry
    rest_a_while()
    pulls += 1
}

proc rest_a_while() {
    wait 2s
}
"#,
    );
}

#[test]
fn a_guard_in_the_registry_is_as_good_as_a_private_one() {
    judged(
        r#"script loading for mailboat in harbor

on bell {
    if busy { return }
    busy = true
    wait 1s
    load += 1
    busy = false
}

on touched(other: parcel) {
    if not busy {
        busy = true
        wait 1s
        load += 1
        busy = false
    }
}
"#,
    );
}

#[test]
fn a_mode_is_a_guard_too() {
    judged(
        r#"script tides for tide

on bell when mood == "calm" {
    mood = "storm"
    wait 3s
    pulls += 1
    mood = "calm"
}
"#,
    );
}

#[test]
fn a_let_guards_nothing() {
    judged(
        r#"script tides for tide

on bell { // ~ sharing/reentry
    let mine = false
    if mine { return } // ~ range/never
    mine = true
    wait 1s
    pulls += 1
}
"#,
    );
}

#[test]
fn a_guard_set_only_after_the_wait_comes_too_late() {
    judged(
        r#"script tides for tide

private busy: bool = false

on bell when not busy { // ~ sharing/reentry
    wait 1s
    busy = true // ~ unused/dead-write
    pulls += 1
    busy = false
}
"#,
    );
}

#[test]
fn what_takes_its_cause_away_can_not_come_again() {
    judged(
        r#"script loading for mailboat in harbor

on touched(other: parcel) {
    remove other
    wait 1s
    load += 1
}
"#,
    );
}

#[test]
fn start_and_spawn_do_not_come_again() {
    judged(
        r#"script loading for mailboat in harbor

on start {
    wait 1s
    load += 1
}

on spawn {
    wait 1s
    load += 1
}

on enter {
    wait 1s
    load += 1
}
"#,
    );
}

#[test]
fn setting_the_same_value_again_does_no_harm() {
    judged(
        r#"script tides for tide

on bell {
    wait 1s
    open = true
    mood = "storm"
}
"#,
    );
}

// ---- burst ----

#[test]
fn a_burst_steps_once_for_each_of_its_signals() {
    judged(
        r#"script loading for mailboat in harbor

on bumped(other) {
    load -= 1 // ~ sharing/burst
}
"#,
    );
}

#[test]
fn a_guard_that_falls_within_the_burst_holds_nothing_back() {
    judged(
        r#"script loading for mailboat in harbor

on bumped(other) when not busy {
    busy = true // ~ unused/dead-write
    load -= 1 // ~ sharing/burst
    busy = false
}
"#,
    );
}

#[test]
fn a_guard_over_a_wait_outlasts_the_burst() {
    judged(
        r#"script loading for mailboat in harbor

on bumped(other) when not busy {
    busy = true
    load -= 1
    wait 1s
    busy = false
}
"#,
    );
}

#[test]
fn a_cooldown_that_a_tick_counts_down_outlasts_the_burst() {
    judged(
        r#"script loading for mailboat in harbor

on bumped(other) {
    if rest > 0 { return }
    rest = 20
    load -= 1
}

on tick {
    if rest > 0 {
        rest -= 1
    }
}
"#,
    );
}

#[test]
fn a_burst_that_removes_what_came_only_now_and_then() {
    judged(
        r#"script boats for mailboat

on bumped(other) {
    if other is mailboat {
        remove other
    }
    load += 1 // ~ sharing/burst
}
"#,
    );
}

#[test]
fn a_burst_that_removes_what_came_is_over_with_it() {
    judged(
        r#"script loading for mailboat in harbor

on bumped(other: parcel) {
    remove other
    load += 1
}
"#,
    );
}

#[test]
fn a_burst_that_only_sets_does_no_harm() {
    judged(
        r#"script loading for mailboat in harbor

on bumped(other) {
    busy = true
    tide.open = true
}
"#,
    );
}

// ---- stuck guards ----

#[test]
fn an_early_return_leaves_the_guard_up() {
    judged(
        r#"script loading for mailboat in harbor

on touched(other: parcel) when not busy {
    busy = true // ~ sharing/stuck-guard
    if load > 40 { return }
    wait 1s
    load += 1
    busy = false
}
"#,
    );
}

#[test]
fn put_back_on_every_way() {
    judged(
        r#"script loading for mailboat in harbor

on touched(other: parcel) when not busy {
    busy = true
    if load > 40 {
        busy = false
        return
    }
    wait 1s
    load += 1
    busy = false
}
"#,
    );
}

#[test]
fn another_handler_puts_it_back() {
    judged(
        r#"script loading for mailboat in harbor

on touched(other: parcel) when not busy {
    busy = true
    if load > 40 { return }
    wait 1s
    load += 1
    busy = false
}

on every 30s {
    busy = false
}
"#,
    );
}

#[test]
fn a_wait_that_can_be_dropped_leaves_a_wider_guard_up() {
    judged(
        r#"script loading for mailboat in harbor

on touched(other: parcel) {
    if tide.open { return }
    tide.open = true // ~ sharing/stuck-guard
    wait 5s
    load += 1
    tide.open = false
}

on bell {
    remove self
}
"#,
    );
}

#[test]
fn a_guard_that_ends_with_its_run_or_its_scene_is_not_stuck() {
    let ended = |header: &str, guard: &str, out: &str, mark: &str| {
        let private = if guard == "taken" { "private taken: bool = false\n\n" } else { "" };
        let body = format!(
            "    {guard} = true{mark}\n    wait 1s\n    if tide.open {{\n        {out}\n        return\n    }}\n"
        );
        judged(&format!(
            "{header}\n\n{private}on bell when not {guard} {{\n{body}    {guard} = false\n}}\n\non bumped {{\n    tide.open = true\n}}\n"
        ));
    };
    ended("script quays for harbor", "taken", "go harbor", "");
    ended("script boats for mailboat in harbor", "taken", "go harbor", "");
    ended("script tides for tide", "taken", "go harbor", " // ~ sharing/stuck-guard");
    ended("script tides for tide", "held", "note \"out\"", " // ~ sharing/stuck-guard");
    judged(
        r#"script tides for tide

private taken: bool = false

on bell when not taken {
    taken = true
    wait 1s
    if open {
        restart
    }
    taken = false
}

on bumped {
    open = true
}

on touched(other) when not held {
    held = true // ~ sharing/stuck-guard
    wait 1s
    if open {
        restart
    }
    held = false
}
"#,
    );
}

// ---- lost updates ----

#[test]
fn the_same_handler_can_lose_its_own_update() {
    judged(
        r#"script tides for tide

on bell {
    let seen = pulls
    wait 1s
    pulls = seen + 1 // ~ sharing/lost-update
}
"#,
    );
}

#[test]
fn a_let_of_a_let_carries_the_old_value() {
    judged(
        r#"script tides for tide

on bell {
    let seen = pulls
    let more = seen * 2
    wait 1s
    pulls = more // ~ sharing/lost-update
}
"#,
    );
}

#[test]
fn read_again_after_the_wait_is_fine() {
    judged(
        r#"script tides for tide

private busy: bool = false

on bell when not busy {
    busy = true
    let seen = pulls
    note "{seen}"
    wait 1s
    seen = pulls
    pulls = seen + 1
    busy = false
}
"#,
    );
}

#[test]
fn a_guard_that_keeps_all_writers_out_loses_nothing() {
    judged(
        r#"script tides for tide

private busy: bool = false

on bell when not busy {
    busy = true
    let seen = pulls
    wait 1s
    pulls = seen + 1
    busy = false
}
"#,
    );
}

#[test]
fn a_guard_that_another_writer_does_not_heed() {
    judged(
        r#"script tides for tide

private busy: bool = false

on bell when not busy {
    busy = true
    let seen = pulls
    wait 1s
    pulls = seen + 1 // ~ sharing/lost-update
    busy = false
}

on touched(other: parcel) {
    remove other
    pulls += 1
}
"#,
    );
}

#[test]
fn what_is_read_on_the_way_counts_too() {
    judged(
        r#"script tides for tide

on bell {
    let seen = 0
    repeat 3 {
        seen += pulls
    }
    wait 1s
    pulls = seen // ~ sharing/lost-update
}

on touched(other) {
    pulls += 1
    let seen = doubled()
    wait 1s
    height = seen // ~ sharing/lost-update
}

proc doubled() -> int {
    return height * 2
}
"#,
    );
}

#[test]
fn a_write_that_takes_in_what_is_there_now_loses_nothing() {
    for value in ["pulls + seen", "pulls - seen", "min(pulls + seen, 90)"] {
        let body = format!("    let seen = floor(pulls / 2)\n    wait 1s\n    pulls = {value}\n");
        judged(&format!("script tides for tide\n\non bell {{ // ~ sharing/reentry\n{body}}}\n"));
    }
    judged(
        r#"script tides for tide

on bell { // ~ sharing/reentry
    let seen = pulls
    wait 1s
    if pulls == seen {
        pulls = seen + 1
    }
    pulls += 1
}
"#,
    );
}

#[test]
fn what_starts_once_does_not_come_between() {
    judged(
        r#"script boats for mailboat

private taken: bool = false

on spawn {
    load = 3
}

on bell when not taken {
    taken = true
    let seen = load
    wait 1s
    load = seen + 1
    taken = false
}
"#,
    );
    judged(
        r#"script tides for tide

on start {
    let seen = height
    wait 1s
    height = seen + 1
}

on start {
    let seen = pulls
    wait 1s
    pulls = seen + 1 // ~ sharing/lost-update
}

on start {
    pulls = 5
}
"#,
    );
}

#[test]
fn what_spawns_again_or_waits_comes_between() {
    judged(
        r#"script boats for mailboat

private taken: bool = false

on spawn {
    wait 2s
    load = 3
    rest = 3
}

on bell when not taken {
    taken = true
    let seen = load
    wait 1s
    load = seen + 1 // ~ sharing/lost-update
    taken = false
}

on touched(other: mailboat) when not taken {
    taken = true
    let seen = other.rest
    wait 1s
    other.rest = seen + 1 // ~ sharing/lost-update
    taken = false
}
"#,
    );
}

// ---- order ----

#[test]
fn one_writes_and_the_other_decides_by_it() {
    judged_both(
        r#"script first for tide

on bell {
    open = not open
}
"#,
        r#"script second for office

on bell {
    if tide.open { // ~ sharing/order-hazard
        note "open"
    }
}
"#,
    );
}

#[test]
fn equal_constants_and_pure_steps_do_not_mind() {
    judged_both(
        r#"script first for tide

on bell {
    open = true
    pulls += 1
}
"#,
        r#"script second for office

on bell {
    tide.open = true
    tide.pulls += 2
}
"#,
    );
}

#[test]
fn different_triggers_do_not_meet() {
    judged_both(
        r#"script first for tide

on every 2s {
    open = not open
}
"#,
        r#"script second for office

on every 3s {
    if tide.open { note "open" }
}
"#,
    );
}

#[test]
fn what_the_project_orders_is_no_hazard() {
    let config = format!("{CONFIG}\n[order]\nfirst = [\"scripts/b.oaken\"]\n");
    expect_with(
        &config,
        r#"[variables.tide.open]
type = "bool"
scope = "global"
default = false
"#,
        &[
            r#"script first for tide

on bell {
    open = not open
}
"#,
            r#"script second for office

on bell {
    if tide.open { note "open" }
}
"#,
        ],
    );
}

#[test]
fn filters_that_exclude_each_other_never_meet() {
    judged_both(
        r#"script first for mailboat in harbor

on touched(other: parcel) {
    tide.open = not tide.open
    remove other
}
"#,
        r#"script second for office

on touched(other: mailboat) {
    if tide.open { note "open" }
}
"#,
    );
}

#[test]
fn after_a_wait_it_is_another_dispatch() {
    judged_both(
        r#"script first for tide

on bell {
    wait 1s
    open = true
}
"#,
        r#"script second for office

on bell {
    if tide.open { note "open" }
}
"#,
    );
}

// ---- labels ----

#[test]
fn a_label_that_shows_the_value_from_before() {
    judged(
        r#"script tides for tide

on bell {
    show gauge "{pulls} pulls"
}

on touched(other: parcel) {
    remove other
    pulls += 1 // ~ sharing/stale-label
}
"#,
    );
}

#[test]
fn shown_again_behind_the_change() {
    judged(
        r#"script tides for tide

on bell {
    pulls += 1
    show gauge "{pulls} pulls"
}

on touched(other: parcel) {
    remove other
    pulls += 1
    draw()
}

proc draw() {
    show gauge "{pulls} pulls"
}
"#,
    );
}

#[test]
fn shown_by_whoever_hears_of_it() {
    judged(
        r#"script tides for tide

on bell {
    pulls += 1
    send tide_turned
}

on tide_turned {
    show gauge "{pulls} pulls"
}
"#,
    );
}

#[test]
fn shown_on_every_tick() {
    judged(
        r#"script tides for tide

on bell {
    pulls += 1
}

on every 1s {
    show gauge "{pulls} pulls"
}
"#,
    );
}

#[test]
fn shown_on_one_way_only() {
    judged(
        r#"script tides for tide

on bell {
    pulls += 1 // ~ sharing/stale-label
    if open {
        show gauge "{pulls} pulls"
    }
}
"#,
    );
}

// ---- chains of changes ----

#[test]
fn a_change_that_answers_itself_without_an_end() {
    judged(
        r#"script tides for tide

on changed pulls {
    pulls += 1 // ~ sharing/feedback
}

on bell {
    pulls += 1
}
"#,
    );
}

#[test]
fn a_chain_that_comes_to_an_end() {
    judged(
        r#"script tides for tide

on changed pulls {
    if pulls > 10 {
        pulls = 0
    }
}

on changed open {
    mood = "storm"
}

on changed mood {
    open = true
}

on bell {
    pulls += 1
    open = not open
}
"#,
    );
}

#[test]
fn two_that_set_each_other_off_come_to_the_limit_that_cuts_one() {
    let circle = |state: &str, mark: &str| {
        let script = format!(
            "script tides for tide\n\non changed pulls {{\n    height = pulls + 1\n}}\n\non changed height {{\n    pulls = height + 1{mark}\n}}\n\n\
             on bell {{\n    pulls += 1\n}}\n"
        );
        expect_in_scripts(state, &[&script]);
    };
    circle(STATE, "");
    circle(&STATE.replace("overflow = \"clamp\"", "overflow = \"wrap\""), " // ~ sharing/feedback");
}

// ---- whose it is ----

#[test]
fn every_boat_at_once() {
    judged(
        r#"script crews for mailboat

on bell {
    tide.pulls = load // ~ sharing/last-writer-wins
    tide.open = true
    tide.height = max(tide.height, load)
    tide.pulls += load
}

on touched(other: parcel) {
    remove other
    tide.pulls = load
}
"#,
    );
}

#[test]
fn a_type_variable_as_if_it_were_ones_own() {
    judged(
        r#"script crews for mailboat in harbor

on touched(other: parcel) {
    remove other
    fleet += 1 // ~ sharing/type-through-instance
}

on bumped(other: mailboat) {
    mailboat.fleet = 0
}
"#,
    );
}

#[test]
fn which_boat_is_meant() {
    judged(
        r#"script office for office

on bell {
    if mailboat.load > 3 { // ~ sharing/which-instance
        note "one"
    }
    for boat in mailboat where boat.load > 3 {
        note "one of them"
    }
    note "{mailboat.fleet}"
}
"#,
    );
}

#[test]
fn any_actor_may_be_another_kind() {
    judged(
        r#"script office for office

on touched(other) {
    note "{other.load}" // ~ sharing/unchecked-kind
    if other is mailboat {
        note "{other.load}"
    }
    if not (other is mailboat) { return }
    note "{other.load}"
}

on bumped(other: mailboat) {
    note "{other.load}"
}
"#,
    );
}

#[test]
fn a_copy_of_a_ref_that_goes_stale() {
    judged(
        r#"script crews for mailboat in harbor

private friend: mailboat

on spawn {
    friend = mate // ~ sharing/stale-ref
}

on bell {
    if friend is not none {
        note "{friend.load}"
    }
}

on touched(other: mailboat) {
    mate = other
}
"#,
    );
}

#[test]
fn what_a_procedure_does_stands_where_it_is_called() {
    let state = r#"[variables]
tide.height = { type = "int", scope = "global", default = 0, engine = "reads" }
tide.turns = { type = "int", scope = "global", default = 0, engine = "reads" }
"#;
    let script = "script a for tide

proc rise() { height += turns }
proc fall() { height = random(0, 3) } // ~ sharing/stale-label

on bumped {
    turns += 1 // ~ sharing/burst
    fall()
}

on bell {
    if height > 9 { note \"high\" }
    rise()
}

on start { show line \"{height}\" }
";
    let later = "script b for tide

proc lower() { height -= turns }

on bell {
    if height > turns { lower() } // ~ sharing/order-hazard
    show line \"{height}\"
}
";
    expect_in_scripts(state, &[script, later]);
}
