//! Loops: how often their rounds come, within one another, and under tests that came before.

use crate::rules::testing::expect_in_scripts;

const STATE: &str = r#"[signals.loaded]
from = "engine"
to = "all"
parameters = { k = { type = "int", min = 0, max = 4 }, j = { type = "int", min = 1, max = 3 } }
[instances.noon_boat]
of = "mailboat"
[variables.tide]
few = { type = "int", scope = "global", default = 0, min = 0, max = 12, engine = "reads" }
room = { type = "int", scope = "global", default = 9, min = 5, max = 20, engine = "both" }
load = { type = "int", scope = "global", default = 0, min = 0, max = "tide.room", engine = "reads" }
oil = { type = "int", scope = "global", default = 50, min = 0, max = 50, engine = "both" }
"#;

/// The lines of a handler that is given `k` (0 to 4) and `j` (1 to 3); `!` marks where a step goes too far.
fn loading(lines: &str) {
    let marked = lines.replace('!', " // ~ range/can-exceed").replace('?', " // ~ range/can-fall-below");
    let rest = "note \"{k} {j}\"\n}\n\non bell {\n    load = min(3, room)\n}\n";
    expect_in_scripts(STATE, &[&format!("script holds for tide\n\non loaded(k, j) {{\n{marked}\n{rest}")]);
}

#[test]
fn rounds_within_rounds_are_multiplied() {
    for (rounds, step) in [
        ("repeat 3 {\nrepeat 4 {\n#\n}\n}", 1),
        ("repeat 2 {\nrepeat 2 {\nrepeat 3 {\n#\n}\n}\n}", 1),
        ("repeat 2 {\nrepeat 2 {\nif chance(0.5) {\n#\n}\n}\n}", 3),
        ("repeat k {\nrepeat j {\n#\n}\n}", 1),
        ("repeat 3 {\nfor b in mailboat {\n#\nnote \"{b is mailboat}\"\n}\n}", 2),
        ("for b in mailboat {\nrepeat 3 {\n#\n}\nnote \"{b is mailboat}\"\n}", 2),
        ("let row = 0\nwhile row < 3 {\nlet column = 0\nwhile column < 4 {\n#\ncolumn += 1\n}\nrow += 1\n}", 1),
    ] {
        let with = |step: &str| loading(&format!("few = 0\n{}", rounds.replace('#', step)));
        with(&format!("few += {step}"));
        with(&format!("few += {}!", step + 1));
    }
}

#[test]
fn all_that_a_round_steps_adds_up() {
    loading("few = 0\nrepeat 4 {\nfew += 1\nfew += 2\n}");
    loading("few = 0\nrepeat 4 {\nfew += 2!\nfew += 2\n}");
    loading("few = 0\nrepeat 3 {\nfew += 1\nrepeat 3 {\nfew += 1\n}\n}");
    loading("few = 0\nrepeat 3 {\nfew += 1\nrepeat 4 {\nfew += 1!\n}\n}");
    loading("few = 0\nrepeat 4 {\nif chance(0.5) {\nfew += 1\n} else {\nfew += 3\n}\n}");
}

#[test]
fn a_test_before_a_loop_leaves_room_for_all_its_rounds() {
    for (room, rounds) in [
        ("load + 3 <= room", "repeat 3 {\nload += 1#\n}"),
        ("load + k <= room", "repeat k {\nload += 1#\n}"),
        ("load + 2 * k <= room", "repeat k {\nload += 2#\n}"),
        ("load + k <= room", "let left = k\nwhile left > 0 {\nleft -= 1\nload += 1#\n}"),
        ("load + 6 <= room", "repeat 2 {\nrepeat 3 {\nload += 1#\n}\n}"),
        ("load + 3 * k <= room", "repeat k {\nrepeat 3 {\nload += 1#\n}\n}"),
        ("load <= room - 3", "let before = load\nwhile load < before + 3 {\nload += 1#\n}"),
        ("load + 2 <= room", "for b in mailboat {\nload += 1#\nnote \"{b is mailboat}\"\n}"),
    ] {
        loading(&format!("if {room} {{\n{}\n}}", rounds.replace('#', "")));
        loading(&format!("if {room} + 1 {{\n{}\n}}", rounds.replace('#', "!")));
    }
    loading("if oil >= 3 * k {\nrepeat k {\noil -= 3\n}\n}");
    loading("if oil >= 2 * k {\nrepeat k {\noil -= 3?\n}\n}");
}

#[test]
fn what_a_reported_division_keeps_out_decides_no_test() {
    loading("let d = 2\nwhile d >= 0 {\nfew = floor(10 / d) // ~ range/divide-by-zero\nd -= 1\nload = few - few\n}");
}

#[test]
fn thirds_that_a_relation_is_divided_into_close_no_way() {
    loading(
        "few = 1\nlet w = 4\nlet i = 0\nwhile i < 2 {\nfew += clamp(i, 0, few.max - few)\nif w - 3 >= -1 {\nw -= 3\n}\ni += 1\n}\noil = 51!",
    );
}

#[test]
fn a_procedure_that_is_asked_about_the_name_of_a_loop() {
    expect_in_scripts(
        r#"[variables.tide]
days = { type = "int", scope = "global", writers = ["*"], engine = "reads" }
calls = { type = "int", scope = "global", default = 0, writers = ["*"], engine = "reads" }
"#,
        &["script rounds for tide

on bell {
    for boat in mailboat {
        calls += sum_of(boat is none or days is set)
    }
    days += 1 // ~ init/read-before-set
}

on touched(other) {
    days = 3
}

proc sum_of(there: bool) -> int {
    let sum = 0
    if there {
        sum = 2
    }
    return sum
}
"],
    );
}

#[test]
fn loops_far_inside_loops_are_left_alone_where_they_are_guarded() {
    let nested = |inner: &str, mark: &str| {
        let begins: String =
            (0..60).map(|_| format!("repeat 3 {{\nif load < 6 {{ load += 1 }}\n{inner}{mark}\n")).collect();
        format!("script deep for tide\n\non bell {{\n{begins}{}}}\n", "}\n".repeat(60))
    };
    let state = "[variables]\ntide.load = { type = \"int\", scope = \"global\", default = 0, min = 0, max = 6, engine = \"reads\" }\ntide.spare = { type = \"int\", scope = \"global\", default = 0, min = 0, max = 6, engine = \"reads\" }\n";
    expect_in_scripts(state, &[&nested("if load > 0 { load -= 1 }", "")]);
    expect_in_scripts(state, &[&nested("spare += 1", " // ~ range/can-exceed")]);
}

#[test]
fn one_mode_after_another_is_come_to_however_many_there_are() {
    let names: Vec<String> = (0..90).map(|at| format!("\"m{at}\"")).collect();
    let state = format!(
        "[variables]\ntide.mode = {{ type = \"enum\", values = [{}], scope = \"global\", default = \"m0\", engine = \"reads\" }}\ntide.load = {{ type = \"int\", scope = \"global\", default = 0, max = 6, engine = \"reads\" }}\n",
        names.join(", ")
    );
    let steps: String = (0..89).map(|at| format!("\"m{at}\" {{ mode = \"m{}\" }}\n", at + 1)).collect();
    let script = format!(
        "script modes for tide\n\non bell {{\nmatch mode {{\n{steps}\"m89\" {{ load += 1 }} // ~ range/can-exceed\n}}\n}}\n"
    );
    expect_in_scripts(&state, &[&script]);
}

const BOATS: &str = r#"[variables.mailboat]
oil = { type = "int", scope = "instance", default = 3, min = 0, max = 9, engine = "reads", writers = ["*"] }
[variables.tide]
pick = { type = "ref", of = "mailboat", scope = "global", engine = "reads" }
share = { type = "int", scope = "global", default = 0, min = 0, max = 60, engine = "reads" }
"#;

/// The lines of a handler while boats burn their oil.
fn picking(lines: &str) {
    let burns = "on touched(other: mailboat) {\n    other.oil = max(other.oil - 1, 0)\n}\n";
    expect_in_scripts(BOATS, &[&format!("script picks for tide\n\n{burns}\non bell {{\n{lines}}}\n")]);
}

#[test]
fn a_loop_may_find_none_or_one_that_is_right() {
    let told = " // ~ range/can-fall-below";
    let picks = |first: &str, found: &str, mark: &str| {
        picking(&format!(
            "    pick = {first}\n    for boat in mailboat where boat.oil > 0 {{\n        {found}\n    }}\n    if pick is not none {{\n        pick.oil -= 1{mark}\n    }}\n"
        ));
    };
    picks("none", "pick = boat", "");
    picks("none", "pick = boat\n        break", "");
    picks("none", "if pick is none or boat.oil > pick.oil {\n            pick = boat\n        }", "");
    picks("dawn_boat", "pick = boat", told);
    picking(&format!(
        "    if dawn_boat is not none and dawn_boat.oil > 1 {{\n        pick = dawn_boat\n    }}\n    if pick is not none {{\n        pick.oil -= 1{told}\n    }}\n"
    ));
    picking(
        "    pick = none\n    if dawn_boat is not none and dawn_boat.oil > 1 {\n        pick = dawn_boat\n    }\n    if pick is none {\n        return\n    }\n    pick.oil -= 2\n",
    );
}

#[test]
fn a_flag_tells_that_a_loop_has_counted() {
    let counts = |flag: &str, asked: &str, mark: &str| {
        picking(&format!(
            "    let boats = 0\n    let any = {flag}\n    for boat in mailboat where boat.oil > 1 {{\n        any = true\n        boats += 1\n    }}\n    if {asked} {{\n        share = floor(60 / boats){mark}\n    }}\n"
        ));
    };
    let told = " // ~ range/divide-by-zero";
    counts("false", "any", "");
    counts("false", "any and share < 9", "");
    counts("chance(0.1)", "any", told);
    counts("false", "not any or share < 9", told);
    picking(
        "    let at = 0\n    let found = false\n    while at < 9 and not found {\n        at += 1\n        if share % at == 3 {\n            found = true\n        }\n    }\n    if found {\n        share = floor(60 / at)\n    }\n",
    );
}
