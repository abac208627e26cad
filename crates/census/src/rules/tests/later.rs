//! `after` blocks and waits: what their activation does beside them, and what comes in between.

use crate::rules::testing::expect_in_scripts;

const STATE: &str = r#"[variables.tide]
level = { type = "int", scope = "global", default = 0, min = 0, max = 4, engine = "reads" }

[signals.rung]
from = "engine"
to = "all"
"#;

/// A guarded handler with these lines, beside one that empties, and one that shows.
fn judged(head: &str, lines: &str) {
    let script = format!(
        "script bells for tide\n\nprivate busy: bool = false\n\non bell when not busy {{{head}\n{lines}}}\n\non rung {{\n level = 0\n}}\n\non tick {{\n show board \"{{level}}\"\n}}\n"
    );
    expect_in_scripts(STATE, &[&script]);
}

#[test]
fn a_guard_that_its_activation_puts_back_is_down_by_then() {
    judged("", "busy = true\nafter 2s {\n if not busy {\n note \"free\"\n }\n}\nbusy = false\n");
    judged("", "busy = true\nafter 2s {\n hide board\n}\nwait 1s\nbusy = false\n");
    judged("", "busy = true\ntoast()\nwait 1s\nbusy = false\n}\n\nproc toast() {\n after 2s {\n hide board\n }\n");
}

#[test]
fn what_decides_of_a_guard_is_who_puts_it_back() {
    judged(
        "",
        "busy = true // ~ sharing/stuck-guard\nafter 3s {\n hide board\n}\nif level == 4 {\n return\n}\nwait 1s\nlevel = 4\nbusy = false\n",
    );
    judged(
        "",
        "busy = true // ~ sharing/stuck-guard\nafter 3s {\n if level < 4 {\n level += 1\n busy = false\n }\n}\n",
    );
    judged(
        "",
        "busy = true\nafter 3s {\n level = min(level + 1, level.max)\n busy = false\n}\nwait 1s\nnote \"rung\"\n",
    );
    judged(
        " // ~ sharing/reentry",
        "busy = true\nafter 3s {\n level = min(level + 1, level.max)\n}\nwait 1s\nbusy = false\n",
    );
}

#[test]
fn a_block_that_waits_goes_on_beside_no_other_of_its_activation() {
    let step = "wait 1s\n if level < 4 {\n level += 1\n }";
    judged("", &format!("busy = true\nafter 2s {{\n {step}\n busy = false\n}}\n"));
    judged("", &format!("busy = true\nafter 2s {{\n repeat 3 {{\n {step}\n }}\n busy = false\n}}\nlevel = 1\n"));
    judged(
        " // ~ sharing/reentry",
        &format!("busy = true\nafter 2s {{\n {step}\n busy = false\n}}\nwait 1s\nbusy = false\n"),
    );
    judged(
        " // ~ sharing/reentry",
        &format!("busy = true\nafter 1s {{\n busy = false\n}}\nafter 2s {{\n {step}\n busy = false\n}}\n"),
    );
    judged(
        " // ~ sharing/reentry",
        &format!("busy = true\nrepeat 2 {{\n after 2s {{\n {step}\n busy = false\n wait 1s\n level = 0\n }}\n}}\n"),
    );
}

#[test]
fn one_guard_may_take_over_from_another() {
    let relay = |first: &str, then: &str, mark: &str| {
        let script = format!(
            "script bells for tide\n\nprivate lit: bool = false\nprivate fading: bool = false\n\non bell when not lit and not fading {{{mark}\n lit = true\n after 4s {{\n {first}\n {then}\n repeat 3 {{\n wait 1s\n level = max(level - 1, 0)\n }}\n fading = false\n }}\n}}\n\non rung {{\n level = 4\n}}\n"
        );
        expect_in_scripts(STATE, &[&script]);
    };
    relay("lit = false", "fading = true", "");
    relay("fading = true", "lit = false", "");
    relay("lit = false", "fading = chance(0.5)", " // ~ sharing/reentry");
}

#[test]
fn a_block_that_is_still_to_come_lets_nobody_in() {
    judged("", "busy = true\nafter 2s {\n hide board\n}\nif level < 4 {\n wait 1s\n level += 1\n}\nbusy = false\n");
}

#[test]
fn a_block_comes_when_its_time_is_over() {
    let lines = |after: &str, mark: &str| {
        format!(
            "busy = true\nafter {after} {{\n level = 4\n busy = false\n}}\nif level < 4 {{\n wait 2s\n level += 1{mark}\n}}\n"
        )
    };
    judged("", &lines("1s", " // ~ range/can-exceed"));
    judged("", &lines("2s", " // ~ range/can-exceed"));
    judged("", &lines("3s", ""));
}

#[test]
fn a_block_may_put_off_another() {
    let inner = "after 5s {\n level = 4\n busy = false\n }\n";
    let lines = |inner: &str| {
        format!(
            "busy = true\nafter 1s {{\n {inner}}}\nwait 3s\nif level < 4 {{\n wait 4s\n level += 1 // ~ range/can-exceed\n}}\n"
        )
    };
    let head = " // ~ sharing/reentry"; // The guard is down a second before the last step.
    judged(head, &lines(inner));
    let again = format!("}}\n\nproc again() {{\n {inner}");
    judged(head, &(lines("again()\n") + &again));
}

#[test]
fn what_a_block_puts_off_comes_beside_its_activation_too() {
    for (inner, procedure) in
        [("after 5s {\n level = 4\n }\n", ""), ("again()\n", "proc again() {\n after 5s {\n level = 4\n }\n}\n")]
    {
        let script = format!(
            "script bells for tide\n\non start {{\nafter 1s {{\n {inner}}}\nwait 3s\nif level < 4 {{\n wait 4s\n level += 1 // ~ range/can-exceed\n}}\n}}\n\non rung {{\n level = 0\n}}\n{procedure}"
        );
        expect_in_scripts(STATE, &[&script]);
    }
}

#[test]
fn a_wait_forgets_no_more_than_others_set() {
    let others = "}\n\non bumped {\n level = 3\n";
    judged("", &format!("busy = true\nif level < 4 {{\n wait 1s\n level += 1\n}}\nbusy = false\n{others}"));
    let others = "}\n\non bumped {\n level = 4\n";
    judged(
        "",
        &format!(
            "busy = true\nif level < 4 {{\n wait 1s\n level += 1 // ~ range/can-exceed\n}}\nbusy = false\n{others}"
        ),
    );
}

#[test]
fn a_break_in_a_block_ends_the_block_whose_loop_is_long_over() {
    let script = "script bells for tide\n\nproc bells() {\n let rung = 0\n while rung < 3 {\n after 1s {\n if level > 2 {\n break\n }\n level += 1\n }\n rung += 1\n }\n}\n\non bell { // ~ sharing/reentry\n bells()\n level += 4 // ~ range/can-exceed\n}\n";
    expect_in_scripts(STATE, &[script]);
}

#[test]
fn what_goes_with_a_scene_is_made_anew_while_others_wait() {
    let state = "[variables]\nharbor.queue = { type = \"int\", scope = \"scene\", default = 0, min = 0, max = 50, engine = \"reads\" }\ntide.flow = { type = \"int\", scope = \"global\", default = 0, engine = \"reads\" }\n";
    let waits = |owner: &str, leaves: &str, mark: &str| {
        let pier = format!(
            "script pier for harbor\n\non every 1s {{\n    queue = min(queue + 1, 50)\n}}\n\non touched(other) {{\n    {leaves}\n}}\n"
        );
        let waiting = format!(
            "script flood for {owner}\n\non bell {{\n    if scene is harbor and harbor.queue > 3 {{\n        wait 5s\n        if scene is harbor {{\n            note \"{{floor(9 / (harbor.queue - 3))}}\"{mark}\n        }}\n    }}\n}}\n"
        );
        let back = "script marsh for marsh\n\non touched(other) {\n    go harbor\n    tide.flow = 1 // waive sharing/foreign-write: it is let in\n}\n";
        expect_in_scripts(state, &[&pier, &waiting, back]);
    };
    waits("tide", "go marsh", " // ~ range/divide-by-zero");
    waits("tide", "go harbor", " // ~ range/divide-by-zero");
    waits("tide in harbor", "go marsh", "");
}

#[test]
fn what_the_game_does_to_a_bound_moves_what_is_cut_there() {
    let state = "[variables.tide]\nroom = { type = \"int\", scope = \"global\", default = 9, min = 1, max = 20, engine = \"both\" }\nload = { type = \"int\", scope = \"global\", default = 5, min = 0, max = \"tide.room\", overflow = \"clamp\", engine = \"reads\" }\n";
    let judged = |body: &str| {
        expect_in_scripts(state, &[&format!("script hold for tide\n\non bell {{\n{body}}}\n")]);
    };
    judged("    note \"{9 % (load - 3)}\" // ~ range/divide-by-zero\n");
    judged("    if load == 5 {\n        wait 1s\n        note \"{9 % (load - 3)}\" // ~ range/divide-by-zero\n    }\n");
    judged("    if load > 0 {\n        wait 1s\n        note \"{9 % load}{9 % (load - 6)}\"\n    }\n");
}

#[test]
fn what_a_let_has_asked_is_known_over_a_wait_as_far_as_it_stays() {
    let waits = |start: u8, answer: &str, inside: &str| {
        let state = format!(
            "[variables.tide]\nlevel = {{ type = \"int\", scope = \"global\", default = {start}, min = 0, max = 50, engine = \"reads\" }}\n"
        );
        let script = format!(
            "script floods for tide\n\non bell {{\n    let wet = level > 0\n    wait 1s\n    if wet {{\n        note \"{{9 % level}}\"{inside}\n    }}\n}}\n\non touched(other) {{\n    {answer}\n}}\n"
        );
        expect_in_scripts(&state, &[&script]);
    };
    waits(0, "level = min(level + 1, level.max)", "");
    waits(0, "level = max(level, random(0, 3))", "");
    waits(5, "level = max(level - 1, 0)", " // ~ range/divide-by-zero");
    waits(0, "level = random(0, 50)", " // ~ range/divide-by-zero");
}

#[test]
fn a_cooldown_that_ticks_bring_down_keeps_out_as_long_as_it_lasts() {
    let state = "[variables.tide]\ncool = { type = \"int\", scope = \"global\", default = 0, min = 0, max = 200, engine = \"reads\" }\nload = { type = \"int\", scope = \"global\", default = 1, min = 0, max = 9, engine = \"reads\" }\n";
    let cools = |from: u8, tick: &str, more: &str, mark: &str| {
        let script = format!(
            "script hold for tide\n\non bell when cool == 0 {{\n    cool = {from}\n    load = 4\n    wait 1s\n    note \"{{9 % load}}\"{mark}\n    load = 0\n}}\n\non tick {{\n{tick}}}\n{more}"
        );
        expect_in_scripts(state, &[&script]);
    };
    let told = " // ~ range/divide-by-zero";
    let down = "    if cool > 0 {\n        cool -= 1\n    }\n";
    cools(90, down, "", "");
    cools(61, down, "", "");
    cools(59, down, "", told);
    cools(90, "    if cool > 1 {\n        cool -= 2\n    }\n", "", told);
    cools(150, "    if cool > 1 {\n        cool -= 2\n    }\n", "", "");
    cools(90, &down.repeat(2), "", told);
    cools(90, "    repeat 2 {\n        if cool > 0 {\n            cool -= 1\n        }\n    }\n", "", told);
    cools(90, down, "\non touched(other) {\n    cool = 0\n}\n", told);
    cools(90, down, "\non touched(other) {\n    cool = 80\n}\n", "");
    cools(90, down, "\non touched(other) {\n    cool = 50\n}\n", told);
    let wraps = state.replace("max = 200", "max = 200, overflow = \"wrap\"");
    let below = "script hold for tide\n\non bell {\n    if cool < 9 {\n        wait 1s\n        note \"{9 % (cool - 200)}\" // ~ range/divide-by-zero\n    }\n}\n\non tick {\n    cool -= 1\n}\n";
    expect_in_scripts(&wraps, &[below]);
    cools(90, down, "\non tick {\n    if cool > 0 {\n        cool -= 1\n    }\n}\n", told);
}

#[test]
fn what_goes_round_while_one_waits_comes_in_at_the_other_end() {
    let hour = |overflow: &str, mark: &str| {
        let state = format!(
            "[variables.tide]\nhour = {{ type = \"int\", scope = \"global\", default = 6, min = 0, max = 23, overflow = \"{overflow}\", engine = \"reads\" }}\n"
        );
        let script = format!(
            "script clock for tide\n\non every 1s {{\n    hour += 1\n}}\n\non bell {{\n    if hour > 7 {{\n        wait 5s\n        note \"{{9 % hour}}\"{mark}\n    }}\n}}\n"
        );
        expect_in_scripts(&state, &[&script]);
    };
    hour("wrap", " // ~ range/divide-by-zero");
    hour("clamp", "");
}
