//! Numbers that hang on a mode: a countdown that runs while a flag is set, a swing from one end to the other.

use crate::rules::testing::expect_in_scripts;

const STATE: &str = r#"[variables.office]
left = { type = "int", scope = "global", default = 0, min = 0, max = 50, engine = "reads" }
oil = { type = "int", scope = "global", default = 20, min = 0, max = 100, engine = "reads" }
state = { type = "enum", scope = "global", default = "idle", values = ["idle", "out", "back"], engine = "reads" }
"#;

fn judged(handlers: &str) {
    expect_in_scripts(STATE, &[&format!("script desk for office\n\n{handlers}")]);
}

const COUNTDOWN: &str = "private busy: bool = false

on bell when not busy {
    busy = true
    left = 10
}

on every 1s when busy {
    left -= 1
    if left == 0 {
        busy = false
    }
}
";

#[test]
fn a_countdown_runs_while_a_flag_is_set() {
    judged(COUNTDOWN);
    judged(&COUNTDOWN.replace("left == 0", "left < 1"));
    let told = |from: &str, to: &str| {
        let script = COUNTDOWN.replace("    left -= 1\n", "    left -= 1 // ~ range/can-fall-below\n");
        assert!(script.contains(from));
        judged(&script.replace(from, to));
    };
    told("busy: bool = false", "busy: bool = true");
    told("        busy = false\n", "        busy = oil > 3\n");
    told("    left = 10\n", "    left = 0\n");
    told("on bell when not busy", "on bumped when busy {\n    left = 0\n}\n\non bell when not busy");
    told("on bell when not busy", "on bumped {\n    busy = true\n}\n\non bell when not busy");
}

#[test]
fn another_script_may_take_from_the_countdown() {
    expect_in_scripts(
        &STATE.replace("left = { ", "left = { writers = [\"tide\"], "),
        &[
            &format!(
                "script desk for office\n\n{}",
                COUNTDOWN.replace("    left -= 1\n", "    left -= 1 // ~ range/can-fall-below\n")
            ),
            "script tides for tide\n\non bumped {\n    office.left = 0\n}\n",
        ],
    );
}

#[test]
fn a_number_swings_from_end_to_end() {
    judged(
        "private rising: bool = true

on every 1s {
    if rising {
        left += 1
        if left >= left.max {
            rising = false
        }
    } else {
        left -= 1
        if left <= left.min {
            rising = true
        }
    }
}
",
    );
    let swings = "private way: int = 1

on every 1s {
    left += way
    if left >= left.max or left <= left.min {
        way = -way
    }
}
";
    judged(swings);
    judged(&format!(
        "{}\non bell {{\n    way = -way\n}}\n",
        swings.replace("left += way", "left += way // ~ range/can-exceed range/can-fall-below")
    ));
}

#[test]
fn a_number_turns_before_its_end_whatever_the_test_looks_like() {
    let turns = |test: &str, turn: &str| {
        judged(&format!(
            "private way: int = 1\n\non every 1s {{\n    {test} {{\n        {turn}\n    }}\n    left += way\n}}\n\non bell {{\n    left -= 1 // ~ range/can-fall-below\n}}\n"
        ));
    };
    let ends = "left + way > left.max or left + way < left.min";
    turns(&format!("if {ends}"), "way = -way");
    turns(&format!("if not (not ({ends}))"), "way *= -1");
    turns("if not (left + way <= left.max and left + way >= left.min)", "way = way * -1");
    turns(&format!("let out = {ends}\n    if out"), "let other = -way\n        way = other");
}

#[test]
fn what_is_out_has_something_to_burn() {
    let trips = "on bell {
    match state {
        \"idle\" {
            if oil > 0 {
                state = \"out\"
            }
        }
        \"back\" {
            state = \"idle\"
            oil = 20
        }
    }
}

on every 5s when state == \"out\" {
    oil -= 1
    if oil == 0 {
        state = \"back\"
    }
}
";
    judged(trips);
    judged(
        &trips
            .replace("if oil > 0", "if oil != 3")
            .replace("    oil -= 1\n", "    oil -= 1 // ~ range/can-fall-below\n")
            .replace("state = \"idle\"\n            oil = 20", "state = \"idle\"\n            oil = 0"),
    );
}

#[test]
fn so_many_are_lent_and_each_takes_its_share() {
    judged(
        "private lent: int = 0

on bell {
    if lent < 3 {
        lent += 1
        left += 15
    }
}

on every 7s {
    if lent > 0 {
        lent -= 1
        left -= 15
    }
}
",
    );
}

const TURNS: &str = "
private left: bool = true

on bell {
    if left {
        oil += 5 // +
        left = false
    } else {
        oil -= 5 // -
        left = true
    }
}
";

/// The one `tern` has this oil, and its script does this.
fn judged_on_board(header: &str, lines: &str) {
    let registry = "[owners.tern]
kind = \"actor\"
[variables.tern]
oil = { type = \"int\", scope = \"instance\", default = 0, min = 0, max = 5, engine = \"reads\" }
";
    expect_in_scripts(
        registry,
        &[&format!("{header}\n{lines}"), "script tides for harbor\n\non bumped {\n    go marsh\n}\n"],
    );
}

#[test]
fn a_private_goes_with_the_scene_that_its_script_is_in() {
    judged_on_board("script turning for tern", TURNS);
    // Once `harbor` is left and entered again, `left` is true whatever the oil is.
    let told = TURNS.replace("// +", "// ~ range/can-exceed").replace("// -", "// ~ range/can-fall-below");
    judged_on_board("script turning for tern in harbor", &told);
}

#[test]
fn one_that_begins_without_a_value_is_no_mode() {
    let state = STATE.replace("oil = {", "up = { type = \"bool\", scope = \"global\", engine = \"reads\" }\noil = {");
    expect_in_scripts(
        &state,
        &["script desk for office

on bell when up { // ~ init/read-before-set
    left -= 1 // ~ range/can-fall-below
    up = false
}

on every 9s {
    up = true
    left = 1
}
"],
    );
}

#[test]
fn the_arms_of_a_match_are_where_growth_stops() {
    let script = "on bell {
    oil -= 4
    match oil {
        0 {
            oil = 20
        }
        8 {
            show \"Low.\"
        }
    }
}
";
    judged(script);
    // In steps of six there is no 0 on the way.
    judged(&script.replace("oil -= 4\n", "oil -= 6 // ~ range/can-fall-below\n"));
}

#[test]
fn a_direction_that_turns_late() {
    judged(
        "private way: int = 2

on bell {
    if oil + way > oil.max or oil + way < oil.min {
        way = -way
    }
    oil += way
    if oil > 50 {
        show \"More than half.\"
    }
}
",
    );
}

#[test]
fn a_direction_that_others_set_too() {
    let script = "private way: int = 1

on bell {
    if oil + way > oil.max or oil + way < oil.min {
        way = -way
    }
    oil += way
}

on every 9s {
    way = -2
}
";
    judged(script);
    judged(
        &script
            .replace("oil + way < oil.min", "oil + way < -1")
            .replace("    oil += way\n", "    oil += way // ~ range/can-fall-below\n"),
    );
}

#[test]
fn a_direction_that_turns_in_a_loop() {
    judged(
        "on start {
    let way = 2
    while true {
        if oil + way > oil.max or oil + way < oil.min {
            way = -way
        }
        oil += way
        wait 1s
    }
}
",
    );
}

#[test]
fn a_loop_behind_leaves_the_ways_apart() {
    let script = "on bell {
    if state == \"out\" {
        oil -= 1
        if oil == 0 {
            state = \"idle\"
        }
    } else {
        oil = 40
        state = \"out\"
    }
    while left < left.max {
        left += 1
    }
}

on every 9s {
    while oil < oil.max {
        oil += 1
    }
    left = 3
}
";
    judged(script);
    let told = script.replace("oil -= 1\n", "oil -= 1 // ~ range/can-fall-below\n");
    judged(&told.replace("        if oil == 0 {", "        if oil == -1 {"));
}

#[test]
fn what_is_put_back_before_anyone_looks_is_nobody_elses_to_find() {
    let told = " // ~ range/can-exceed";
    let passing = |between: &str, left: &str, [flag, mode]: [&str; 2]| {
        judged(&format!(
            "private busy: bool = false\n\non bell {{\n    busy = true\n    state = \"out\"\n    shown()\n{between}    busy = {left}\n    state = \"idle\"\n}}\n\nproc shown() {{\n    note \"{{busy}} {{state}}\"\n}}\n\non touched(other) {{\n    if busy {{\n        left = 90{flag}\n    }}\n    if state == \"out\" {{\n        oil = 200{mode}\n    }}\n}}\n"
        ));
    };
    passing("", "false", ["", ""]);
    passing("", "chance(0.5)", [told, ""]);
    passing("    wait 1s\n", "false", [told, told]);
}

#[test]
fn what_is_set_on_one_way_only_is_no_more_than_what_is_set() {
    let shuts = |first: &str, mark: &str| {
        judged(&format!(
            "private busy: bool = false\n\non bell {{\n{first}}}\n\non touched(other) when not busy {{\n    busy = true{mark}\n    wait 1s\n    if oil < 3 {{\n        return\n    }}\n    oil -= 3\n    busy = false\n}}\n"
        ));
    };
    let stuck = " // ~ sharing/stuck-guard";
    shuts("    if oil > 3 {\n        busy = true\n    }\n", stuck);
    shuts("    if oil > 3 {\n        busy = false\n    }\n", "");
    judged(
        "private pal: mailboat\n\non touched(other: mailboat) {\n    if oil > 3 {\n        pal = other\n    }\n}\n\non bell {\n    if pal is not none {\n        wait 1s\n        note \"{pal is mailboat}\"\n    }\n}\n",
    );
}

#[test]
fn a_countdown_that_is_lengthened_too_far_still_ends_at_nought() {
    let longer = |op: &str| {
        COUNTDOWN.replace("on every 1s", &format!("on touched(other) when busy {{\n    left {op}\n}}\n\non every 1s"))
    };
    judged(&longer("+= 1 // ~ range/can-exceed"));
    // It certainly is too much, and as much as there can be, then.
    judged(&longer("= 60 // ~ range/can-exceed"));
    let ends_late = |op: &str| longer(op).replace("    left -= 1\n", "    left -= 1 // ~ range/can-fall-below\n");
    judged(&ends_late("= 0"));
}

const LAMP: &str = r#"[variables.mailboat]
oil = { type = "int", scope = "instance", default = 10, min = 0, max = 20, engine = "reads", writers = ["*"] }
is_lit = { type = "bool", scope = "instance", default = false, engine = "reads", writers = ["*"] }
"#;

#[test]
fn another_instance_may_be_given_more_whatever_its_mode() {
    let burns = |given: &str, told: bool| {
        let mark = if told { " // ~ range/can-fall-below" } else { "" };
        let lamp = format!(
            "script lamp for mailboat\n\non every 1s when is_lit {{\n    oil -= 1{mark}\n    if oil == 0 {{\n        is_lit = false\n    }}\n}}\n\non bell when oil > 0 {{\n    is_lit = true\n}}\n"
        );
        let boat = format!("script fill for office\n\non touched(other: mailboat) {{\n    {given}\n}}\n");
        expect_in_scripts(LAMP, &[&lamp, &boat]);
    };
    burns("other.oil = min(other.oil + 5, 20)", false);
    burns("other.oil = other.oil.max", false);
    burns("for boat in mailboat {\n        boat.oil = max(boat.oil, 7)\n    }", false);
    burns("if other.oil > 3 {\n        other.oil -= 3\n    }", false);
    burns("if other.oil > 2 {\n        other.oil -= 3\n    }", true);
    burns("other.oil = 0", true);
    burns("other.is_lit = true", true);
    burns("if other.oil > 0 {\n        other.is_lit = true\n    }", false);
    burns("for boat in mailboat {\n        boat.is_lit = false\n    }", false);
    burns("for boat in mailboat {\n        boat.is_lit = not boat.is_lit\n    }", true);
    burns("other.oil += 5 // ~ range/can-exceed", false);
}

#[test]
fn what_a_mode_tells_holds_after_a_wait_too() {
    let rests = |rest: &str, mark: &str| {
        judged(&format!(
            "on bell when state == \"idle\" {{\n    state = \"out\"\n    left = 20\n}}\n\non every 1s when state == \"out\" {{\n    left -= 1{mark}\n    if left == 0 {{\n        state = \"idle\"\n    }}\n}}\n\non every 9s when state == \"back\" {{\n    state = \"idle\"\n    left = 0\n}}\n\non touched(other) when state == \"out\" {{\n    state = \"back\"\n{rest}}}\n"
        ));
    };
    let told = " // ~ range/can-fall-below";
    rests("    wait 3s\n    if state == \"back\" {\n        state = \"out\"\n    }\n", "");
    rests("    wait until state == \"back\"\n    state = \"out\"\n", "");
    rests("    after 3s {\n        if state == \"back\" {\n            state = \"out\"\n        }\n    }\n", "");
    rests(
        "    ask \"Go on?\" {\n        choice \"Yes\" {\n            if state == \"back\" {\n                state = \"out\"\n            }\n        }\n    }\n",
        "",
    );
    rests("    wait 3s\n    if state != \"out\" {\n        state = \"out\"\n    }\n", told);
}

#[test]
fn a_loop_sees_each_instance_in_its_mode() {
    let told = " // ~ range/can-fall-below";
    let sees = |rounds: &str, rest: &str| {
        let boat = format!("script lamp for mailboat\n\non bell when oil > 0 {{\n    is_lit = true\n}}\n{rest}");
        let office = format!("script fill for office\n\non every 1s {{\n{rounds}}}\n");
        expect_in_scripts(LAMP, &[&boat, &office]);
    };
    let burns = "    for boat in mailboat where boat.is_lit {\n        boat.oil -= 1MARK\n        if boat.oil == 0 {\n            boat.is_lit = false\n        }\n    }\n";
    let filled = "\non touched(other: mailboat) {\n    other.oil = 20\n}\n";
    sees(&burns.replace("MARK", ""), filled);
    sees(&burns.replace("MARK", told), "\non touched(other: mailboat) {\n    other.oil = 0\n}\n");
    sees(&burns.replace("MARK", told).replace("oil == 0", "oil == 1 and chance(0.5)"), filled);
    // What was written by another name may be the same boat's.
    let before = "    for any in mailboat where any.is_lit and any.oil < 3 {\n        any.oil = 0\n    }\n";
    sees(&format!("{before}{}", burns.replace("MARK", told)), filled);
    sees(&format!("{}{}", before.replace("oil = 0", "oil = 1"), burns.replace("MARK", "")), filled);
}

#[test]
fn who_hears_of_a_mode_gets_its_number_ready() {
    let begins = |heard: &str, other: &str, mark: &str| {
        judged(&format!(
            "on bell when state == \"idle\" {{\n    state = \"out\"\n}}\n\non changed state {{\n{heard}}}\n\non every 1s when state == \"out\" {{\n    left -= 1{mark}\n    if left == 0 {{\n        state = \"back\"\n    }}\n}}\n\n{other}"
        ));
    };
    let told = " // ~ range/can-fall-below";
    let ready = "    if state == \"out\" {\n        left = max(left, 12)\n    } else if state == \"back\" {\n        state = \"idle\"\n    }\n";
    let calls_back = "on touched(other) {\n    state = \"idle\"\n}\n";
    begins(ready, "", "");
    begins(ready, calls_back, "");
    begins(&ready.replace("max(left, 12)", "left + oil - 20"), "", told);
    begins(&ready.replace("state == \"out\"", "state == \"out\" and chance(0.5)"), "", told);
    begins(&ready.replace("        left = max", "        wait 1s\n        left = max"), "", told);
    begins(ready, "on touched(other) {\n    left = 0\n}\n", told);
    // What waits is due at the same moment, and before it.
    begins(ready, "on touched(other) {\n    wait 1s\n    state = \"out\"\n}\n", told);
}
