//! Values that are not there, not in their range, or not what they seem.

use crate::rules::testing::expect_in_scripts;

const STATE: &str = r#"[variables.tide]
height = { type = "int", scope = "global", default = 0, min = 0, max = 12, engine = "reads" }
rate = { type = "number", scope = "global", default = 1.5, min = 0, max = 6, engine = "reads" }
limit = { type = "int", scope = "global", default = 8, engine = "both" }
blank = { type = "int", scope = "global", engine = "reads" }
mood = { type = "enum", scope = "global", values = ["calm", "brisk", "storm"], default = "calm", engine = "both" }
round = { type = "int", scope = "global", default = 0, min = 0, max = 3, overflow = "wrap", engine = "reads" }
cut = { type = "int", scope = "global", default = 0, min = 0, max = 3, overflow = "clamp", engine = "reads" }
at = { type = "vec2", scope = "global", default = [0.0, 0.0], engine = "both" }

[variables.mailboat]
load = { type = "int", scope = "instance", default = 0, min = 0, max = "mailboat.hold", engine = "reads" }
hold = { type = "int", scope = "instance", default = 20, min = 5, max = 40, engine = "reads" }
mate = { type = "ref", scope = "instance", of = "mailboat", engine = "both" }
"#;

fn judged(script: &str) {
    expect_in_scripts(STATE, &[script]);
}

/// A system's handler of the bell with these lines in it.
fn on_bell(lines: &str) {
    judged(&format!("script tides for tide\n\non bell {{\n{lines}}}\n"));
}

/// The same, where the height can be anything within its range.
fn at_any_height(lines: &str) {
    let elsewhere = "on every 9s {\n    height = random(0, 12)\n    rate = random(0.0, 6.0)\n}";
    judged(&format!("script tides for tide\n\non bell {{\n{lines}}}\n\n{elsewhere}\n"));
}

/// The same for a boat that touches a parcel.
fn on_touch(lines: &str) {
    judged(&format!(
        "script loading for mailboat in harbor\n\non touched(other: parcel) {{\n    remove other\n{lines}}}\n"
    ));
}

// ---- guards ----

#[test]
fn a_clamp_of_a_sum_to_a_bound_that_is_a_variable() {
    on_touch("    load = clamp(load + tide.height, 0, hold)\n");
    on_touch("    load = min(max(load + tide.height, 0), hold)\n");
    on_touch("    load = max(load + 1, hold) // ~ range/can-exceed\n");
}

#[test]
fn what_was_within_a_bound_stays_so_over_a_wait() {
    judged(
        "script loading for mailboat in harbor

on touched(other: parcel) {
    let had = load
    wait 1s
    load = had // ~ sharing/lost-update
}

on bumped(other) {
    load = hold
}
",
    );
}

#[test]
fn what_a_single_value_had_a_part_in_is_known_without_it() {
    let lines = |by: &str, told: &str| {
        format!(
            "    height = 1\n    let sum = height + limit\n    height = clamp(limit, height.min, height.max)\n    show \"{{height}}\"\n    let more = sum - limit\n    height = more + {by}{told}\n"
        )
    };
    on_bell(&lines("11", ""));
    on_bell(&lines("12", " // ~ range/can-exceed"));
}

#[test]
fn guards_in_every_ordinary_form() {
    at_any_height("    if height < height.max { height += 1 }\n");
    at_any_height("    if height <= 11 { height += 1 }\n");
    at_any_height("    if not (height >= 12) { height += 1 }\n");
    at_any_height("    if height + 3 <= height.max { height += 3 }\n");
    at_any_height("    if height <= height.max - 3 { height += 3 }\n");
    at_any_height("    if 12 - height >= 3 { height += 3 }\n");
    at_any_height("    if height == 12 { return }\n    height += 1\n");
    at_any_height("    if height != 12 { height += 1 }\n");
    at_any_height("    if mood == \"calm\" and height < 12 { height += 1 }\n");
    at_any_height("    if mood == \"calm\" or height >= 12 { return }\n    height += 1\n");
    at_any_height(
        "    match height + 3 <= 12 {\n        true { height += 3 }\n        false { note \"high\" }\n    }\n",
    );
    at_any_height("    let fits = height + 3 <= 12\n    if fits == true { height += 3 }\n");
    at_any_height("    height = min(height + 5, 12)\n");
    at_any_height("    height = clamp(height + random(-3, 3), 0, height.max)\n");
    at_any_height("    let next = height + 5\n    if next > 12 { next = 12 }\n    height = next\n");
    at_any_height("    height += min(5, height.max - height)\n");
    at_any_height("    let room = height.max - height\n    if room > 0 { height += 1 }\n");
    at_any_height("    while height < 12 { height += 1 }\n");
    at_any_height("    repeat 3 {\n        if height < 12 { height += 1 }\n    }\n");
    at_any_height("    height = abs(height - 4)\n");
    at_any_height("    height = (height + 1) % 13\n");
    at_any_height("    match mood {\n        \"calm\" { height = 0 }\n        else { height = 12 }\n    }\n");
    at_any_height("    let low = height < 10\n    if low { height += 2 }\n");
}

#[test]
fn guards_that_do_not_guard() {
    at_any_height("    if height <= height.max { height += 1 } // ~ range/can-exceed\n");
    at_any_height("    if height < 12 { height += 5 } // ~ range/can-exceed\n");
    at_any_height("    if height > 0 { height += 1 } // ~ range/can-exceed\n");
    at_any_height("    if mood == \"calm\" or height < 12 { height += 1 } // ~ range/can-exceed\n");
    at_any_height("    height = max(height + 5, 12) // ~ range/can-exceed\n");
    at_any_height("    let room = height.max - height\n    if room >= 0 { height += 1 } // ~ range/can-exceed\n");
    at_any_height("    height += height + 1 // ~ range/can-exceed\n");
    at_any_height("    height = -1 // ~ range/can-fall-below\n");
    at_any_height("    height = 13 // ~ range/can-exceed\n");
    at_any_height("    height -= random(0, 2) // ~ range/can-fall-below\n");
    at_any_height("    rate = rate * 2 // ~ range/can-exceed\n");
    at_any_height("    rate -= 0.5 // ~ range/can-fall-below\n");
}

#[test]
fn a_limit_that_is_another_variable() {
    on_touch("    if load < hold { load += 1 }\n");
    on_touch("    if load + 2 <= load.max { load += 2 }\n");
    on_touch("    load = min(load + 4, hold)\n");
    on_touch("    load += 1 // ~ range/can-exceed\n");
    on_touch("    if load > hold - 3 { return }\n    load += 3\n");
    on_touch("    let room = hold - load\n    load += clamp(6, 0, room)\n");
    on_touch("    if load < hold { load += 1 }\n    if hold > 5 { hold -= 1 } // ~ range/can-exceed\n");
    on_touch("    if load < hold { load += 1 }\n    if hold > 5 and load < hold { hold -= 1 }\n");
    on_touch("    if hold < 40 { hold += 1 }\n    if load < hold { load += 1 }\n");
}

#[test]
fn names_that_hold_different_instances() {
    judged(
        "script loading for mailboat

on bell {
    for from in mailboat {
        for to in mailboat where to != from {
            let n = min(from.load, to.hold - to.load)
            from.load -= n
            to.load += n
        }
    }
}

on touched(other) {
    load = random(0, hold)
}
",
    );
}

#[test]
fn what_wraps_or_is_cut_is_always_within() {
    on_bell("    round += 1\n    cut += 7\n    cut -= 1\n");
    on_bell("    round += 1\n    if round > 3 { note \"never\" } // ~ range/never\n");
}

#[test]
fn a_number_that_the_game_writes_can_be_anything_within_its_range() {
    on_bell("    height = limit // ~ range/can-exceed range/can-fall-below\n");
    on_bell("    height = clamp(limit, 0, 12)\n");
    on_bell("    if limit > 100 { note \"high\" }\n");
}

#[test]
fn loops_that_go_a_known_way() {
    for round in ["repeat 5 {", "let i = 0\n    while i < 5 {\n        i += 1"] {
        let climbs = format!("    {round}\n        height += 1\n    }}\n");
        at_any_height(&format!(
            "    if height > 7 {{ return }}\n{climbs}    if height > 4 {{ rate = 2 }} // ~ range/always\n"
        ));
        at_any_height(&format!(
            "    if height <= 7 {{\n{climbs}    }}\n    if height > 4 {{ rate = 2 }} // ~ range/always\n"
        ));
        at_any_height(&format!("    if height <= 7 {{\n{climbs}    }}\n    if height > 5 {{ rate = 2 }}\n"));
        at_any_height(&format!(
            "    if height > 8 {{ return }}\n{}",
            climbs.replace("+= 1\n    }", "+= 1 // ~ range/can-exceed\n    }")
        ));
    }
}

// ---- always and never ----

#[test]
fn tests_that_come_out_one_way() {
    on_bell("    height = 3\n    if height == 3 { note \"three\" } // ~ range/always\n");
    on_bell(
        "    height = random(2, 5)\n    if height < 2 { note \"low\" } // ~ range/never\n    if height < 3 { note \"low\" }\n",
    );
    on_bell("    height = random(0, 6) * 2\n    if height == 7 { note \"odd\" } // ~ range/never\n");
    on_bell("    height = 5\n    wait 1s\n    if height == 5 { note \"five\" } // ~ range/always\n");
    on_bell("    if height > 12 { note \"over\" } // ~ range/never\n    height = random(0, 12)\n");
}

#[test]
fn a_decided_test_that_has_no_part_in_a_reported_write() {
    on_bell(
        "    height = 3\n    if height == 3 { note \"three\" } // ~ range/always\n    height += 20 // ~ range/can-exceed\n",
    );
}

#[test]
fn tests_that_nothing_in_play_decides() {
    on_bell("    while true {\n        wait 1s\n        height = random(0, 3)\n    }\n");
    on_bell("    if limit > 3 { note \"x\" }\n    if mood == \"storm\" { note \"y\" }\n");
    judged(
        "script tides for tide\n\nprivate debug: bool = false\n\non bell {\n    if debug { note \"x\" }\n    height = 1\n}\n",
    );
}

// ---- jumped over ----

#[test]
fn a_limit_that_is_jumped_over() {
    let state = r#"[variables.tide]
oil = { type = "int", scope = "global", default = 5, min = -1, max = 5, engine = "reads" }
"#;
    let judged = |lines: &str| {
        expect_in_scripts(
            state,
            &[&format!("script tides for tide\n\non bell {{\n{lines}}}\n\non every 9s {{\n    oil = 5\n}}\n")],
        );
    };
    judged("    if oil > 0 { oil -= 2 }\n    if oil == 0 { note \"dry\" } // ~ range/limit-skipped\n");
    judged("    if oil > 0 { oil -= 2 }\n    if oil <= 0 { note \"dry\" }\n");
    judged("    oil = max(oil - 2, 0)\n    if oil == 0 { note \"dry\" }\n");
    judged("    if oil > 0 { oil -= 1 }\n    if oil == 0 { note \"dry\" }\n");
}

#[test]
fn what_goes_round_keeps_of_its_stride_what_that_shares_with_the_way_round() {
    let state = r#"[variables.tide]
hour = { type = "int", scope = "global", default = 18, min = 0, max = 23, overflow = "wrap", engine = "reads" }
turn = { type = "int", scope = "global", default = 1, min = 0, max = 8, overflow = "wrap", engine = "reads" }
"#;
    let judged = |lines: &str| {
        let steps = "on every 9s {\n    hour += 2\n    turn += 2\n}\n";
        expect_in_scripts(state, &[&format!("script tides for tide\n\non bell {{\n{lines}}}\n\n{steps}")]);
    };
    judged("    if hour == 6 { note \"six\" }\n");
    judged("    if hour == 7 { note \"seven\" } // ~ range/limit-skipped\n");
    judged("    if turn == 4 { note \"four\" } // ~ range/limit-skipped\n"); // From 3 to 5, and round to 4.
}

// ---- zero ----

#[test]
fn what_is_counted_anew_is_seen_once_it_is_counted() {
    let state = STATE.replacen("default = 0", "default = 1", 1);
    let counted = |last: &str, told: &str| {
        let lines = format!("    height = 0\n    if mood == \"storm\" {{\n        height += 2\n    }}\n{last}");
        let script = format!(
            "script tides for tide\n\non bell {{\n{lines}}}\n\non every 9s {{\n    rate = min(6 / height, 6){told}\n}}\n"
        );
        expect_in_scripts(&state, &[&script]);
    };
    counted("    height += 1\n", "");
    counted("    height = max(height, 1)\n", "");
    counted("", " // ~ range/divide-by-zero");
    counted("    wait 1s\n    height = 4\n", " // ~ range/divide-by-zero");
}

#[test]
fn a_limit_that_is_jumped_over_by_a_name_for_the_cut_step() {
    judged(
        "script tides for tide

on start {
    height = 10
}

on bell {
    let left = max(height - 3, 1)
    height = left
}

on touched(other) when height == 2 { // ~ range/limit-skipped
    note \"two\"
}

on bumped(other) when height == 4 {
    note \"four\"
}
",
    );
}

#[test]
fn divisors_that_can_be_zero() {
    on_bell(
        "    rate = 6 / height // ~ range/divide-by-zero range/can-exceed\n".replace(" range/can-exceed", "").as_str(),
    );
    on_bell("    if height > 0 { rate = clamp(6 / height, 0, 6) }\n");
    on_bell("    if height != 0 { rate = clamp(6 / height, 0, 6) }\n");
    on_bell("    if height == 0 { return }\n    rate = clamp(6 / height, 0, 6)\n");
    on_bell("    rate = clamp(6 / max(height, 1), 0, 6)\n");
    on_bell("    rate = clamp(6 / (height + 1), 0, 6)\n");
    on_bell("    height = 7 % (limit - limit + 3)\n");
    on_bell("    note \"{7 % limit}\" // ~ range/divide-by-zero\n");
    on_bell("    rate /= height + 2\n");
}

#[test]
fn behind_a_divisor_that_can_be_zero_it_is_taken_not_to_be() {
    at_any_height(
        "    if limit < 4 {\n        return\n    }\n    let share = floor(height / (limit - 4)) // ~ range/divide-by-zero\n    height -= share\n",
    );
    at_any_height(
        "    if limit >= height {\n        note \"{7 % (limit - height)}\" // ~ range/divide-by-zero\n        if limit == height {\n            note \"even\"\n        }\n    }\n",
    );
}

// ---- not there yet ----

#[test]
fn a_variable_without_a_default() {
    on_bell("    note \"{height}\"\n    blank = 3\n    note \"{blank}\"\n");
    judged(
        "script tides for tide\n\non bell {\n    note \"{blank}\" // ~ init/read-before-set\n}\n\non every 5s {\n    blank = 3\n}\n",
    );
    judged("script tides for tide\n\non start {\n    blank = 3\n}\n\non bell {\n    note \"{blank}\"\n}\n");
    judged(
        "script tides for tide\n\non start when mood == \"calm\" {\n    blank = 3\n}\n\non bell {\n    note \"{blank}\" // ~ init/read-before-set\n}\n",
    );
    judged(
        "script tides for tide\n\non start {\n    wait 1s\n    blank = 3\n}\n\non bell {\n    note \"{blank}\" // ~ init/read-before-set\n}\n",
    );
    judged(
        "script tides for tide\n\non start {\n    blank = 3\n}\n\non bell {\n    note \"{blank}\" // ~ init/read-before-set\n    clear blank\n}\n",
    );
    judged(
        "script tides for tide\n\non start {\n    if mood == \"calm\" { blank = 1 } else { blank = 2 }\n}\n\non bell {\n    note \"{blank}\"\n}\n",
    );
}

#[test]
fn asked_whether_it_is_set() {
    let elsewhere = "\non every 5s {\n    blank = random(0, 3)\n}\n";
    let judged = |lines: &str| judged(&format!("script tides for tide\n\non bell {{\n{lines}}}\n{elsewhere}"));
    judged("    if blank is set { note \"{blank}\" }\n");
    judged("    if blank is not set { return }\n    note \"{blank}\"\n");
    judged("    if blank is set and blank > 1 { note \"x\" }\n");
    judged("    if blank is not set or blank > 1 { note \"x\" }\n");
    judged("    if blank is not set { blank = 0 }\n    note \"{blank}\"\n");
    judged("    if blank is set { note \"x\" } else { note \"{blank}\" } // ~ init/read-before-set\n");
    judged("    wait until blank is set\n    note \"{blank}\"\n");
}

#[test]
fn ways_through_a_ref() {
    on_touch("    note \"{mate.load}\" // ~ init/empty-ref\n");
    on_touch("    if mate is not none { note \"{mate.load}\" }\n");
    on_touch("    if mate is set { note \"{mate.load}\" }\n");
    on_touch("    if mate is none { return }\n    note \"{mate.load}\"\n");
    on_touch("    if mate is not none and mate.load > 3 { note \"x\" }\n");
    on_touch("    if mate is mailboat { note \"{mate.load}\" }\n");
    on_touch("    if mate is none or mate.load > 3 { note \"x\" }\n");
    on_touch("    if mate is not none {\n        wait 1s\n        note \"{mate.load}\" // ~ init/empty-ref\n    }\n");
}

// ---- types ----

#[test]
fn one_type_where_another_is_wanted() {
    on_bell("    height = \"three\" // ~ type/mismatch\n");
    on_bell("    height = true // ~ type/mismatch\n");
    on_bell("    if height { note \"x\" } // ~ type/mismatch\n");
    on_bell("    if height == \"three\" { note \"x\" } // ~ type/mismatch\n");
    on_bell("    note \"a\" + height // ~ type/mismatch\n");
    on_bell("    height = splash(3) // ~ type/mismatch\n");
    on_bell("    height = min(3) // ~ type/mismatch\n");
    on_bell("    send tide_turned(3) // ~ type/mismatch\n}\n\non tide_turned {\n    note \"x\"\n");
    on_bell("    height = 3 / 2 // ~ type/fraction-lost\n");
    on_bell("    height += 0.5 // ~ type/fraction-lost\n");
    on_bell("    height = round(rate)\n    rate = height / 2\n");
    on_bell("    mood = \"rough\" // ~ range/unknown-value\n");
    on_bell("    if mood == \"rough\" { note \"x\" } // ~ range/unknown-value\n");
    on_bell("    at.x = 3\n    at.y += 1\n    note \"{at.x:1}\"\n");
    on_bell("    at.z = 3 // ~ registry/unknown-name\n");
}

#[test]
fn signs_that_set_where_a_step_was_meant() {
    on_bell("    height = +1 // ~ type/plus-sign-assign\n");
    on_bell("    limit = -1\n");
    on_bell("    height = 1\n");
}

// ---- what is written for nothing ----

#[test]
fn values_that_are_written_again_unseen() {
    on_bell("    height = 1 // ~ unused/dead-write\n    height = 2\n");
    on_bell("    height = 1\n    wait 1s\n    height = 2\n");
    on_bell("    height = 1\n    note \"{height}\"\n    height = 2\n");
    on_bell("    height = 1\n    if mood == \"calm\" { height = 2 }\n");
    on_bell("    height = 1 // ~ unused/dead-write\n    if mood == \"calm\" { height = 2 } else { height = 3 }\n");
    on_bell("    height = 1\n    height = height + 2\n");
    on_bell("    height = 1\n    spawn parcel\n    height = 2\n");
}

#[test]
fn locals_that_nobody_reads() {
    on_bell("    let seen = height // ~ unused/local\n");
    on_bell("    let seen = height // ~ unused/local\n    seen += 1\n");
    on_bell("    let seen = height\n    note \"{seen}\"\n");
    judged("script tides for tide\n\nprivate rounds: int = 0 // ~ unused/local\n\non bell {\n    rounds += 1\n}\n");
    judged("script tides for tide\n\nproc unheard() { // ~ unused/procedure\n    note \"x\"\n}\n");
}

#[test]
fn ways_that_lead_nowhere() {
    on_bell("    return\n    note \"x\" // ~ unused/unreachable\n");
    on_bell("    if mood == \"calm\" { return } else { restart }\n    note \"x\" // ~ unused/unreachable\n");
    on_bell(
        "    match mood {\n        \"calm\" { return }\n        \"brisk\" { return }\n        \"storm\" { return }\n    }\n    note \"x\" // ~ unused/unreachable\n",
    );
    on_bell("    match mood {\n        \"calm\" { return }\n        \"brisk\" { return }\n    }\n    note \"x\"\n");
    on_bell("    while true {\n        wait 1s\n        if mood == \"calm\" { break }\n    }\n    note \"x\"\n");
    on_bell("    while mood == \"calm\" { // ~ flow/endless-loop\n        height = 3\n    }\n");
    on_bell("    while chance(0.5) {\n        note \"x\"\n    }\n");
}

#[test]
fn ticks_that_pile_up() {
    judged("script tides for tide\n\non tick {\n    wait 1s // ~ flow/wait-in-tick\n    note \"x\"\n}\n");
    judged("script tides for tide\n\non every 1s {\n    wait 2s // ~ flow/wait-in-tick\n    note \"x\"\n}\n");
    judged("script tides for tide\n\non every 5s {\n    wait 2s\n    note \"x\"\n}\n");
    judged(
        "script tides for tide\n\nprivate busy: bool = false\n\non tick when not busy {\n    busy = true\n    wait 1s\n    busy = false\n}\n",
    );
}

#[test]
fn a_value_of_another_type_spoils_nothing_else() {
    crate::rules::testing::expect(
        r#"[variables.tide]
share = { type = "number", scope = "global", default = 0.5, min = 0, max = 1, engine = "reads" }
fog = { type = "number", scope = "global", default = 0, min = 0, max = 100, engine = "reads" }
depth = { type = "int", scope = "global", engine = "reads" }
"#,
        &[r#"script tides for tide

on bell {
    share = chance(0.5) // ~ type/mismatch
    fog = 100 * share
    depth = "deep" // ~ type/mismatch
    note "{depth}"
}

on touched(other) {
    fog *= 1 - share
    share = (share + 1) / 2
}
"#],
    );
}

#[test]
fn what_is_worked_out_from_nothing_hides_no_other_mistake() {
    crate::rules::testing::expect_in_scripts(
        r#"[variables.tide]
wins = { type = "int", scope = "global", engine = "reads" }
total = { type = "int", scope = "global", default = 0, engine = "reads" }
oil = { type = "int", scope = "global", default = 9, min = 0, max = 9, engine = "reads" }
"#,
        &[r#"script tides for tide

on bell {
    clear wins
    total -= wins * wins // ~ init/read-before-set
    if chance(0.5) {
        total += 1
    }
}

on touched(other) {
    total += 3
    oil -= total // ~ range/can-fall-below
    if total > 70 {
        note "many"
    }
}

on start {
    wins = 0
}
"#],
    );
}

#[test]
fn a_count_of_instances_is_a_number_beside_any_mistake() {
    on_touch(
        "    height += count(mailboat) // ~ sharing/foreign-write range/can-exceed\n    load += count(mailboat) // ~ range/can-exceed\n}\n\nproc spare(most) { // ~ unused/procedure\n    most = most * 2\n    note \"{most}\"\n",
    );
}

// ---- counts that go round ----

#[test]
fn a_count_that_is_put_back_before_anyone_looks() {
    judged(
        r#"script tides for tide

private turn: int = 0
private left: number = 0.0

on bell {
    turn += 1
    if turn > 5 {
        turn = 0
    }
    if turn == 9 { // ~ range/never
        note "never"
    }
    round = turn
}

on every 9s {
    height = turn + 7
    if turn == 5 {
        note "the last"
    }
}

on tick {
    left -= tick_length()
    if left <= 0 {
        left = 6
    }
    rate = left
}
"#,
    );
    judged(
        r#"script tides for tide

private turn: int = 0

on bell {
    turn += 1
    if turn > 5 {
        turn = 0
    }
}

on every 9s {
    height = turn + 7 // ~ range/can-exceed
}

on bell {
    turn += 2
    wait 1s
    if turn > 5 {
        turn = 0
    }
}
"#,
    );
}

// ---- texts ----

#[test]
fn a_text_holds_what_is_written_to_it() {
    judged(
        r#"script tides for tide

private word: text = "ebb"
private said: text = ""

on bell {
    if word == "ebb" {
        word = "slack"
    } else if word == "flood" { // ~ range/never
        note "never written"
    }
    if said == "" {
        said = word
    } else if said != "3" {
        said = text(height)
    }
}
"#,
    );
}

#[test]
fn there_are_as_many_as_are_listed_where_nothing_makes_more() {
    let moored = |instances: &[&str], more: &str, mark: &str| {
        let listed: String = instances
            .iter()
            .enumerate()
            .map(|(at, scene)| format!("[instances.skiff_{at}]\nof = \"skiff\"\n{scene}\n"))
            .collect();
        let registry = format!(
            "[owners.skiff]\nkind = \"actor\"\ncount = \"many\"\n\n[variables.tide.moored]\ntype = \"int\"\nscope = \"global\"\n\
             default = 0\nmin = 0\nmax = 2\nengine = \"reads\"\n\n{listed}"
        );
        let script = format!("script moorings for tide\n\non bell {{\n    moored = count(skiff){mark}\n{more}}}\n");
        expect_in_scripts(&registry, &[&script]);
    };
    moored(&["", ""], "", "");
    moored(&["", "", ""], "", " // ~ range/can-exceed");
    moored(&["", "scene = \"harbor\"", "scene = \"marsh\""], "", "");
    moored(&["", "scene = \"harbor\"", "scene = \"harbor\""], "", " // ~ range/can-exceed");
    moored(&["", ""], "    spawn skiff\n", " // ~ range/can-exceed");
}

#[test]
fn a_choice_that_is_not_offered_ends_nothing() {
    let script = r#"script desk for office

private left: int

proc over() -> int {
    restart
    return 1 // ~ unused/unreachable
}

on bell {
    ask "Stay?" {
        choice "Until {over()}" when chance(0.5) {
            note "On."
        }
        choice "No" {
            note "Home."
        }
    }
    show "{left}" // ~ init/read-before-set
    left = 2
}
"#;
    expect_in_scripts("", &[script]);
}

#[test]
fn an_argument_is_worked_out_before_a_later_one_changes_what_it_names() {
    judged(
        r#"script tides for tide

on bell {
    if height < 3 {
        return
    }
    note "{below(height, lowered() < 3)}"
}

on every 9s {
    height = random(0, 12)
}

proc lowered() -> int {
    height -= 3
    return height
}

proc below(before: int, low: bool) -> bool {
    if height < 3 {
        return low
    }
    return height < before
}
"#,
    );
}

#[test]
fn a_procedure_that_comes_to_its_end_without_a_value_gives_zero() {
    let judged = |lines: &str, body: &str| {
        judged(&format!(
            "script tides for tide\n\non bell {{\n{lines}}}\n\nproc rise(by: int) -> int {{\n    note \"{{by}}\"\n{body}}}\n"
        ));
    };
    judged("    height = rise(height)\n", "    if chance(0.5) { return 3 }\n");
    judged("    height = rise(height) // ~ range/can-exceed\n", "    if chance(0.5) { return 30 }\n");
    judged("    rate = 1 / rise(height) // ~ range/divide-by-zero\n", "    if chance(0.5) { return 3 }\n");
}

#[test]
fn a_private_starts_from_what_its_expression_comes_to() {
    let judged = |start: &str, value: &str| {
        judged(&format!(
            "script tides for tide\n\nprivate lead: int = {start}\n\non bell {{\n    height = lead{value}\n}}\n"
        ));
    };
    judged("max(3, 2 + 10)", "");
    judged("max(3, 2 + 11)", " // ~ range/can-exceed");
    judged("clamp(30, 0, 17 % 13)", "");
    judged("floor(4 * 3.5)", " // ~ range/can-exceed");
    judged("floor(3 / 0) // ~ range/divide-by-zero", "");
    judged("random(1, 6) // ~ type/mismatch", "");
}

#[test]
fn steps_that_leave_gaps_leave_out_what_lies_there() {
    let between = |steps: &str, divisor: i32, told: &str| {
        judged(&format!(
            "script tides for tide\n\nprivate gear: int = 1\n\non bell {{\n{steps}\n}}\n\non touched(other) {{\n    note \"{{1 / (gear - {divisor})}}\"{told}\n}}\n"
        ));
    };
    let told = " // ~ range/divide-by-zero";
    let doubles = "    gear *= 2\n    if gear > 16 { gear = 1 }";
    between(doubles, 6, "");
    between(doubles, 8, told);
    let two_ways = "    if gear + 3 <= 9 { gear += 3 } else { gear = 3 }";
    between(two_ways, 5, "");
    between(two_ways, 7, told);
    between("    gear *= 2\n    if chance(0.5) { gear += 2 }\n    if gear > 16 { gear = 1 }", 6, told);
}
