//! How far steps go: strides, bounds that move, loops that run for certain, and ways out on entry.

use crate::report;
use crate::rules::testing::{CONFIG, expect_in_scripts, project};

const STATE: &str = r#"[signals.gust]
from = "engine"
to = "all"
parameters = { force = { type = "int", min = 0, max = 30 } }
[variables.tide]
left = { type = "int", scope = "global", default = 10, engine = "reads" }
level = { type = "number", scope = "global", default = 0, min = 0, max = 10, engine = "reads" }
lives = { type = "int", scope = "global", default = 5, min = 0, engine = "reads" }
bells = { type = "int", scope = "global", default = 0, engine = "reads" }
mark = { type = "int", scope = "global", engine = "reads" }
room = { type = "int", scope = "global", default = 20, min = 10, max = 40, engine = "reads" }
load = { type = "int", scope = "global", default = 0, min = 0, max = "tide.room", engine = "reads" }
kept = { type = "int", scope = "global", default = 15, min = 0, max = "tide.room", overflow = "clamp", engine = "reads" }
"#;

fn judged(scripts: &[&str]) {
    expect_in_scripts(STATE, scripts);
}

fn on_bell(lines: &str) {
    judged(&[&format!("script bells for tide\n\non bell {{\n{lines}}}\n")]);
}

#[test]
fn a_stride_with_no_end_lands_where_it_lands() {
    on_bell("    left -= 2\n    if left == 4 or left == 0 {\n        note \"even\"\n    }\n");
    on_bell("    left -= 3\n    if left == 0 { // ~ range/limit-skipped\n        note \"low\"\n    }\n");
}

#[test]
fn halves_stay_halves_below_an_open_end() {
    on_bell("    if level < level.max {\n        level += 0.5\n    }\n");
    on_bell("    if level < level.max {\n        level += 0.3 // ~ range/can-exceed\n    }\n");
}

#[test]
fn what_a_reported_step_jumps_over_is_not_told_again() {
    on_bell(
        "    if lives > 0 {\n        lives -= 2 // ~ range/can-fall-below\n    }\n    if lives == 0 {\n        note \"over\"\n    }\n",
    );
}

#[test]
fn a_loss_leaves_no_more_than_there_was() {
    judged(&[r#"script storm for tide

on gust(force) {
    load = max(load - force, 0)
    kept = max(kept - force, 1)
}

on bell {
    if room <= 35 {
        room += 5
    }
    if load < room {
        load += 1
    }
}
"#]);
    judged(&[r#"script storm for tide

on gust(force) {
    load = max(load, force) // ~ range/can-exceed
}

on bell {
    if room <= 35 {
        room += 5
    }
}
"#]);
}

#[test]
fn what_is_cut_with_its_bound_can_be_what_the_bound_was() {
    judged(&[r#"script storm for tide

on gust(force) {
    room = 12
    if force > 20 {
        room = 20
    }
}

on bell {
    if kept == 12 {
        note "cut some time ago"
    }
}
"#]);
}

#[test]
fn a_number_of_rounds_above_zero_is_made_for_certain() {
    on_bell("    repeat 3 {\n        mark = 1\n    }\n    show \"{mark}\"\n");
    on_bell("    repeat left {\n        mark = 1\n    }\n    show \"{mark}\"\n");
    on_bell("    repeat 0 {\n        mark = 1\n    }\n    show \"{mark}\" // ~ init/read-before-set\n");
    let of_any = |test: &str, told: &str| {
        let rounds = format!("    {test}repeat bells {{\n        mark = bells\n    }}\n    show \"{{mark}}\"{told}\n");
        judged(&[&format!("script bells for tide\n\non bell {{\n{rounds}    clear mark\n    bells += 1\n}}\n")]);
    };
    of_any("", " // ~ init/read-before-set");
    of_any("if bells < 1 {\n        bells = 1\n    }\n    ", "");
}

#[test]
fn what_the_first_round_sets_is_set_where_a_first_round_is_certain() {
    let count = |from: &str, told: &str| {
        let head = format!("script bells for tide\n\non gust(force) {{\n    let n = {from}\n");
        let rounds = "    while n > 0 {\n        mark = n\n        n -= 1\n    }\n";
        judged(&[&format!("{head}{rounds}    show \"{{mark}}\"{told}\n    clear mark\n}}\n")]);
    };
    count("force + 1", "");
    count("force", " // ~ init/read-before-set");
    on_bell(
        "    let n = 0\n    let part = 0\n    while n < 3 {\n        n += 1\n        part = n\n    }\n    level = 6 / part\n",
    );
    on_bell(
        "    let n = 0\n    let part = 0\n    while n < 1 {\n        part = n\n        n += 1\n    }\n    level = 6 / part // ~ range/divide-by-zero\n",
    );
}

#[test]
fn a_loop_over_all_makes_as_many_rounds_as_are_counted() {
    let fed = |test: &str, step: &str| {
        let script = format!(
            "script feed for tide\n\non bell {{\n    if {test} {{\n        for boat in mailboat {{\n            {step}\n        }}\n    }}\n}}\n\non gust {{\n    spawn mailboat\n}}\n"
        );
        judged(&[&script]);
    };
    fed("lives >= count(mailboat)", "lives -= 1");
    fed("lives - 2 * count(mailboat) >= 0", "lives -= 2");
    fed("load + count(mailboat) <= room", "load += 1");
    fed("lives >= count(mailboat)", "lives -= 2 // ~ range/can-fall-below");
    fed("lives >= 5", "lives -= 1 // ~ range/can-fall-below");
}

#[test]
fn a_round_that_may_leave_by_itself_has_not_set_what_comes_after() {
    let rounds = "    let n = 0\n    while n < 3 {\n        n += 1\n        if force > 20 {\n            break\n        }\n        mark = n\n    }\n";
    judged(&[&format!(
        "script bells for tide\n\non gust(force) {{\n{rounds}    show \"{{mark}}\" // ~ init/read-before-set\n    clear mark\n}}\n"
    )]);
    let afresh = "    repeat 2 {\n        let n = 0\n        while n < 3 {\n            n += 1\n            mark = n\n        }\n        show \"{mark}\"\n        clear mark\n    }\n";
    on_bell(afresh);
}

const BUSY: &str = "script bells for tide\n\nprivate busy: bool = false\n\non bell {\n    if busy {\n        show \"One at a time.\"\n";
const STEP: &str = "    busy = true\n    let had = bells\n    wait 1s\n    bells = had + 1\n    busy = false\n";

#[test]
fn a_handler_that_turns_away_with_a_word_is_guarded() {
    judged(&[&format!("{BUSY}        return\n    }}\n{STEP}}}\n")]);
    let stuck = "    busy = true // ~ sharing/stuck-guard\n    wait 1s\n    if left == 0 {\n        return\n    }\n    left = 0\n    busy = false\n";
    judged(&[&format!("{BUSY}        return\n    }}\n{stuck}}}\n")]);
}

#[test]
fn a_guard_around_everything_may_have_an_else_that_only_talks() {
    judged(&[&format!("{BUSY}    }} else {{\n{STEP}    }}\n}}\n")]);
}

#[test]
fn a_write_is_held_against_what_a_procedure_left() {
    judged(&[r#"script yard for tide

proc refit() -> int {
    room = 30
    load = 28
    return 12
}

on bell {
    room = refit() // ~ range/can-exceed
    note "{room}"
}
"#]);
}

#[test]
fn a_decided_test_names_the_range_that_decides_it() {
    let script = "script bells for tide\n\non bell {\n    if room <= 35 {\n        room += 5\n        if room >= 12 {\n            note \"wide\"\n        }\n    }\n}\n";
    let report = report::check(&project(CONFIG, STATE, &[script]));
    let told: Vec<&str> = report.findings.iter().map(|told| told.finding.message.as_str()).collect();
    let wanted = "`room >= 12` is always true here, whatever happens in play: `room` is 25 to 40";
    assert!(told.contains(&wanted), "{told:#?}");
}

#[test]
fn what_one_boat_gives_the_other_takes() {
    let registry = "[signals.met]\nfrom = \"engine\"\nparameters = { by = \"mailboat\" }\n[variables.mailboat]\nparcels = { type = \"int\", scope = \"instance\", default = 0, min = 0, max = 20, engine = \"both\" }\n";
    let script = |head: &str, lines: &str| {
        let script = format!("script meeting for mailboat\n\non met(by){head} {{\n{lines}}}\n");
        expect_in_scripts(registry, &[&script]);
    };
    let given =
        "    let given = min(by.parcels, parcels.max - parcels)\n    by.parcels -= given\n    parcels += given\n";
    // Whether it is met by another boat or, as an engine may have it, by itself.
    script("", given);
    script(" when by != self", given);
    script(" when by != self and parcels < 20", "    parcels += 1\n    by.parcels = max(by.parcels - 1, 0)\n");
    script("", "    if by == self {\n        return\n    }\n    if by.parcels > 0 {\n        by.parcels -= 1\n    }\n");
    script(
        " when by != self",
        "    let given = by.parcels\n    by.parcels = 0\n    parcels += given // ~ range/can-exceed\n",
    );
    // Met by itself, the second step is one too many.
    script(" when parcels < 20 and by.parcels < 20", "    parcels += 1\n    by.parcels += 1 // ~ range/can-exceed\n");
    script(" when by != self and parcels < 20 and by.parcels < 20", "    parcels += 1\n    by.parcels += 1\n");
}

#[test]
fn others_that_only_take_away_leave_room() {
    let taken = |gong: &str, mark: &str| {
        judged(&[&format!(
            r#"script bells for tide

private busy: bool = false

on bell when not busy {{
    busy = true
    if load < 10 {{
        wait 1s
        load += 1{mark}
    }}
    busy = false
}}

on gust(force) {{
    {gong}
}}
"#
        )]);
    };
    taken("load = max(load - 1, 0)", "");
    taken("load = clamp(load - force, 0, load.max)", "");
    taken("load = min(load + force, room)", " // ~ range/can-exceed");
}

#[test]
fn a_name_takes_over_what_is_known_of_the_other() {
    let registry = r#"[variables.parcel]
weight = { type = "int", scope = "instance", default = 1, min = 1, max = 9, engine = "reads", writers = ["office"] }
goal = { type = "text", scope = "instance", engine = "reads", writers = ["office"] }
[variables.office]
last = { type = "ref", of = "parcel", scope = "global", engine = "reads" }
"#;
    expect_in_scripts(
        registry,
        &[r#"script counter for office

on bell {
    spawn parcel as box
    box.goal = "North"
    last = box
    show "{last.goal}"
    wait 1s
    if last is not none {
        show "{last.goal}" // ~ init/read-before-set
    }
}
"#],
    );
}

#[test]
fn a_cooldown_of_any_kind_outlasts_a_burst() {
    let registry = r#"[variables.mailboat]
pause = { type = "number", scope = "instance", default = 0, min = 0, max = 5 }
tooted = { type = "int", scope = "instance", default = 0, engine = "reads" }
storm = { type = "bool", scope = "instance", default = false, engine = "both" }
"#;
    let horn = |private: &str, entry: &str, rest: &str| {
        let script = format!(
            "script horn for mailboat\n{private}\non bumped(other) {{\n    if {entry} {{\n        show \"Not yet.\"\n        return\n    }}\n{rest}}}\n\non tick {{\n    pause = max(pause - tick_length(), 0)\n}}\n"
        );
        expect_in_scripts(registry, &[&script]);
    };
    horn("", "pause > 0", "    pause = pause.max\n    tooted += 1\n");
    let loud = "    loud = true\n    tooted += 1\n    after 3s {\n        loud = false\n    }\n";
    horn("private loud: bool = false\n", "loud", loud);
    // What the handler does not change itself is no guard.
    horn("", "storm", "    tooted += 1 // ~ sharing/burst\n");
}

#[test]
fn a_bound_that_only_grows_leaves_nothing_outside() {
    let registry = r#"[variables.mailboat]
hold = { type = "int", scope = "type", default = 20, min = 10, max = 40, engine = "reads", writers = ["office"] }
parcels = { type = "int", scope = "instance", default = 0, min = 0, max = "mailboat.hold", engine = "both" }
"#;
    let refit = |lines: &str| {
        expect_in_scripts(registry, &[&format!("script yard for office\n\non bell {{\n{lines}}}\n")]);
    };
    refit("    if mailboat.hold <= 35 {\n        mailboat.hold += 5\n    }\n");
    refit("    mailboat.hold = max(mailboat.hold, 25)\n");
    refit("    mailboat.hold = 25\n    mailboat.hold += 5\n"); // From 20 to 30, and again to 30.
    refit("    mailboat.hold = 25 // ~ range/can-exceed\n    mailboat.hold += random(5, 9)\n");
    refit("    if mailboat.hold > 10 {\n        mailboat.hold -= 1 // ~ range/can-exceed\n    }\n");
}

#[test]
fn a_scene_that_is_not_loaded_has_nothing_to_be_outside() {
    let registry = r#"[variables.harbor]
guests = { type = "int", scope = "scene", default = 0, min = 0, max = "office.most", engine = "both" }
[variables.office]
most = { type = "int", scope = "global", default = 6, min = 1, max = 12, engine = "reads", writers = ["*"] }
"#;
    let shrunk = |owner: &str, test: &str, mark: &str| {
        let script = format!(
            "script walls for {owner}\n\non bell {{\n    if {test} {{\n        office.most -= 1{mark}\n    }}\n}}\n"
        );
        expect_in_scripts(registry, &[&script]);
    };
    shrunk("tide", "scene is not harbor and office.most > 1", "");
    shrunk("marsh", "office.most > 1", "");
    shrunk("tide", "scene is harbor and office.most > 1 and office.most > harbor.guests", "");
    shrunk("tide", "office.most > 1", " // ~ range/can-exceed");
}

#[test]
fn a_bound_that_moves_once_every_instance_fits() {
    let moved = |lines: &str| {
        let crane = format!("script cranes for tide\n\non bell when hold >= 10 {{\n{lines}\n}}\n");
        let boats = "script loading for mailboat\n\non touched(other) when load < tide.hold {\n load += 1\n}\n";
        let state = r#"[variables]
tide.hold = { type = "int", scope = "global", default = 20, min = 5, max = 40 }
mailboat.load = { type = "int", scope = "instance", default = 0, min = 0, max = "tide.hold", writers = ["*"] }
mailboat.deep = { type = "bool", scope = "instance", default = false, engine = "both" }
"#;
        expect_in_scripts(state, &[&crane, boats]);
    };
    let fit = "b.load = min(b.load, hold - 5)";
    moved(&format!("for b in mailboat {{\n {fit}\n}}\nhold -= 5"));
    moved("for b in mailboat where b.load > hold - 5 {\n b.load = hold - 5\n}\nhold -= 5");
    moved("for b in mailboat {\n if b.load > hold - 7 { b.load = hold - 7 }\n}\nhold -= 5");
    moved(&format!("for b in mailboat where b.deep {{\n {fit}\n}}\nhold -= 5 // ~ range/can-exceed"));
    moved(&format!("for b in mailboat {{\n {fit}\n if b.deep {{ break }}\n}}\nhold -= 5 // ~ range/can-exceed"));
    moved(&format!("for b in mailboat {{\n {fit}\n dawn_boat.load = hold\n}}\nhold -= 5 // ~ range/can-exceed"));
}

#[test]
fn a_for_makes_no_more_rounds_than_there_are_instances() {
    let registry = r#"[variables]
mailboat.lit = { type = "bool", scope = "instance", default = false, engine = "writes" }
mailboat.load = { type = "int", scope = "instance", default = 0, min = 0, max = 20, engine = "writes" }
office.lights = { type = "int", scope = "global", default = 0, min = 0, max = 2, engine = "reads" }
office.total = { type = "int", scope = "global", default = 0, min = 0, max = 39, engine = "reads" }
[instances.dusk_boat]
of = "mailboat"
"#;
    let count = "script lights for office

on bell {
    lights = 0
    for boat in mailboat where boat.lit {
        lights += 1
    }
    total = 0
    for boat in mailboat {
        total += boat.load // ~ range/can-exceed
    }
}
";
    expect_in_scripts(registry, &[count]);
    expect_in_scripts(&registry.replace("max = 39", "max = 40"), &[&count.replace(" // ~ range/can-exceed", "")]);
    let more = count.replace("lights += 1", "lights += 1 // ~ range/can-exceed") + "\non touched { spawn mailboat }\n";
    expect_in_scripts(registry, &[&more]);
}

#[test]
fn two_halves_make_a_whole() {
    let registry = r#"[variables]
office.left = { type = "int", scope = "global", default = 0, min = 0, max = 10, engine = "both" }
office.right = { type = "int", scope = "global", default = 0, min = 0, max = 10, engine = "both" }
"#;
    let share = "script shares for office

on bell {
    let all = left + right
    let part = floor(all / 2)
    left = part
    right = all - part
}
";
    expect_in_scripts(registry, &[share]);
    expect_in_scripts(
        registry,
        &[&share.replace("floor(all / 2)", "floor(all / 3)").replace("- part\n", "- part // ~ range/can-exceed\n")],
    );
}

#[test]
fn a_bound_that_one_instance_lowers_is_no_bound_for_the_name_of_a_for() {
    let registry = r#"[variables]
mailboat.room = { type = "int", scope = "instance", default = 5, writers = ["*"] }
mailboat.load = { type = "int", scope = "instance", default = 2, min = 0, max = "mailboat.room", writers = ["*"] }
"#;
    let lowered = |rounds: &str, mark: &str| {
        let script = format!(
            "script marks for tide in harbor\n\non bell {{\n    dawn_boat.room = 1{mark}\n    for each in mailboat {{\n{rounds}    }}\n}}\n"
        );
        expect_in_scripts(registry, &[&script]);
    };
    lowered("        note \"{each.load}\"\n", " // ~ range/can-exceed");
    lowered("        if each.load + 2 <= each.room { each.load += 2 }\n", " // ~ range/can-exceed");
    lowered("        if each.load > each.room { each.load = each.room }\n", "");
}

#[test]
fn what_is_copied_or_halved_stops_where_its_source_does() {
    let state = "[variables.tide]\nheight = { type = \"int\", scope = \"global\", default = 0, min = 0, max = 100, engine = \"reads\" }\n";
    let judged = |lines: &str| {
        let script = format!(
            "script tides for tide\n\nprivate before: int = 0\nprivate now: int = 1\n\non bell {{\n{lines}}}\n"
        );
        crate::rules::testing::expect_in_scripts(state, &[&script]);
    };
    let both = "    let next = before + now\n    before = now\n    now = next\n";
    judged(&format!("{both}    if now > 90 {{\n        before = 0\n        now = 1\n    }}\n    height = before\n"));
    judged(&format!(
        "{both}    if now > 190 {{\n        before = 0\n        now = 1\n    }}\n    height = before // ~ range/can-exceed\n"
    ));
    judged("    now = floor(now / 2)\n    before = now\n    height = before\n");
}

#[test]
fn what_has_no_range_of_its_own_stops_where_that_ends_which_it_feeds_or_follows() {
    let state = r#"[variables.tide]
heat = { type = "number", scope = "global", default = 20, min = 0, max = 100, engine = "reads" }
goal = { type = "number", scope = "global", default = 50, min = 0, max = 100, engine = "both" }
"#;
    let judged = |lines: &str| {
        let script = format!("script tides for tide\n\nprivate smooth: number = 0\n\non bell {{\n{lines}}}\n");
        crate::rules::testing::expect_in_scripts(state, &[&script]);
    };
    judged("    smooth += (goal - smooth) * 0.1\n    heat = smooth\n");
    judged("    let way = goal - smooth\n    smooth = smooth + way * 0.25\n    heat = smooth\n");
    judged("    smooth = smooth * 0.9 + 5\n    heat = smooth\n");
    judged("    smooth = smooth * 0.9 + 15\n    heat = smooth // ~ range/can-exceed\n");
    let blend = "}\n\nproc blend(a: number, b: number, share: number) -> number {\n    return a + (b - a) * share\n";
    judged(&format!("    smooth = blend(smooth, goal, 0.1)\n    heat = smooth\n{blend}"));
    judged(&format!(
        "    smooth = blend(smooth, goal, 1.5)\n    heat = smooth // ~ range/can-exceed range/can-fall-below\n{blend}"
    ));
}

#[test]
fn what_comes_to_rest_by_itself_is_not_taken_to_go_on() {
    let state = r#"[variables.tide]
heat = { type = "number", scope = "global", default = 20, min = 0, max = 100, engine = "reads" }
drift = { type = "int", scope = "global", default = 0, min = 0, max = 60, engine = "reads" }
"#;
    let judged = |bell: &str, tick: &str| {
        let script = "script tides for tide\n\nprivate smooth: number = 0\n\n";
        let script = format!("{script}on bell {{\n{bell}}}\n\non tick {{\n{tick}}}\n");
        expect_in_scripts(state, &[&script]);
    };
    let heat = "    heat = smooth\n";
    judged("    smooth = smooth * 0.9 + 5\n", heat);
    judged("    smooth = smooth * 0.9 + 15\n", "    heat = smooth // ~ range/can-exceed\n");
    judged("    smooth += (80 - smooth) * 0.2\n", heat);
    judged("    smooth += 5\n", "    heat = smooth // ~ range/can-exceed\n");
    let far = |slip: &str| {
        format!("    note \"{{smooth:1}}\"\n    if drift > 40 {{{slip}\n        note \"far\"\n    }}\n    smooth = 1\n")
    };
    judged("    drift = max(drift - 2, 0)\n    drift += 1\n", &far(" // ~ range/never"));
    judged("    if drift < 30 { drift += 1 }\n", &far(" // ~ range/never"));
    judged("    if drift < 41 { drift += 1 }\n", &far(""));
}
