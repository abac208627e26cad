//! What a run, an instance or a scene begins with, and who can have changed that before a handler's turn.

use crate::rules::testing::expect_in_scripts;

const STATE: &str = r#"[variables]
tide.height = { type = "int", scope = "global", default = 1, min = 0, max = 2, writers = ["*"], engine = "reads" }
tide.turns = { type = "int", scope = "global", default = 1, min = 0, max = 3, writers = ["*"], engine = "reads" }
tide.kept = { type = "int", scope = "global", default = 1, min = 0, max = 2, lifetime = "session", engine = "reads" }
mailboat.load = { type = "int", scope = "instance", default = 1, min = 0, max = 2, engine = "reads" }
harbor.queue = { type = "int", scope = "scene", default = 1, min = 0, max = 2, engine = "reads" }
"#;

#[test]
fn a_run_begins_with_the_defaults() {
    expect_in_scripts(
        STATE,
        &["script tides for tide

on start {
    height += 1
    kept += 1 // ~ range/can-exceed
    turns += 1
}

on bell {
    height = random(0, 2)
    kept = random(0, 2)
    turns = random(0, 3)
    if kept == 2 { restart }
}

on start {
    turns += 1
    if height == 3 { note \"never\" } // ~ range/never
    if height == 2 { note \"by the first\" }
    height += 1 // ~ range/can-exceed
}
"],
    );
}

#[test]
fn what_every_instance_does_adds_up() {
    let script = "script loading for mailboat

on start {
    tide.height += 1
    load += 1
}

on bell {
    load = random(0, 2)
    tide.height = 0
}
";
    expect_in_scripts(STATE, &[script]);
    let another = format!("{STATE}\n[instances.dusk_boat]\nof = \"mailboat\"\n");
    expect_in_scripts(&another, &[&script.replace("tide.height += 1", "tide.height += 1 // ~ range/can-exceed")]);
}

#[test]
fn an_instance_and_a_scene_begin_with_theirs() {
    expect_in_scripts(
        STATE,
        &[
            "script loading for mailboat

on spawn {
    load += 1
    tide.turns += 1 // ~ range/can-exceed
}

on bell {
    load = random(0, 2)
    spawn mailboat as other
    other.load = 2
}
",
            "script pier for harbor

on enter {
    queue += 1
}

on bell {
    queue = random(0, 2)
    go marsh
}
",
        ],
    );
}

#[test]
fn the_only_one_of_its_actor_begins_with_its_own_too() {
    let registry = r#"[owners.ferry]
kind = "actor"

[instances.ferry_one]
of = "ferry"
start = { load = 1 }

[variables.ferry]
load = { type = "int", scope = "instance", default = 2, min = 0, max = 3, engine = "reads" }
turn = { type = "int", scope = "instance", default = 0, engine = "reads" }
trips = { type = "int", scope = "instance", default = 0, engine = "reads" }
"#;
    let script = "script ferrying for ferry

on spawn { load += 1 }

on bell { load = 3 }

on spawn {
    let me = self
    if me.load == 2 { load += 1 }
}

on touched {
    turn += 1
    let mine = turn
    wait 1s
    if mine == turn { trips += 1 }
}
";
    expect_in_scripts(registry, &[script]);
    let again = script.replace("on spawn { load += 1 }", "on every 1s { load += 1 } // ~ range/can-exceed");
    expect_in_scripts(registry, &[&again]);
}

#[test]
fn what_another_does_to_it_before_its_turn_counts() {
    expect_in_scripts(
        STATE,
        &["script loading for mailboat

on spawn {
    for other in mailboat {
        other.load = 2
    }
}

on spawn {
    load += 1 // ~ range/can-exceed
}
"],
    );
}

#[test]
fn a_rest_tells_of_strides() {
    expect_in_scripts(
        r#"[variables]
tide.height = { type = "int", scope = "global", default = 0, min = 0, max = 10, engine = "reads" }
"#,
        &["script tides for tide

on bell {
    if height % 4 == 0 { height += 2 }
    if height % 3 == 1 { height += 1 } // ~ range/can-exceed
}

on touched(other) when height % 2 != 0 {
    height += 1
}

on bumped(other) {
    if height % 11 != height { height = 11 } // ~ range/never
    note \"{height}\"
    height = random(0, 10)
}
"],
    );
}

#[test]
fn what_is_given_for_certain_as_things_begin_counts_for_all_that_come_later() {
    let registry = r#"[variables]
tide.speed = { type = "int", scope = "global", default = 0, engine = "reads" }
mailboat.length = { type = "int", scope = "instance", default = 0, engine = "reads" }
harbor.depth = { type = "int", scope = "scene", default = 0, engine = "reads" }
"#;
    let tides = "script tides for tide

on start { speed = random(2, 4) }

on bell {
    note \"{6 / speed:1}\"
    wait 1s
    note \"{6 / speed:1}\"
    if speed == 0 { note \"its default is a value like another for what is always or never so\" }
}

on touched { speed += 1 }
";
    let boats = "script boats for mailboat

on spawn { length = 4 }

on bell {
    for each in mailboat { note \"{6 / each.length:1} {6 / length:1}\" }
}
";
    let piers = "script piers for harbor

on enter { depth = 3 }

on bell {
    note \"{6 / depth:1}\"
}
";
    expect_in_scripts(registry, &[tides, boats, piers]);
    let no_more = [
        tides
            .replace("speed:1}\"\n    wait", "speed:1}\" // ~ range/divide-by-zero\n    wait")
            .replace("on start {", "on start when chance(0.5) {"),
        boats
            .replace("length = 4", "if chance(0.5) { length = 4 }")
            .replace("{6 / each.length:1} {6 / length:1}\" }", "{6 / length:1}\" } // ~ range/divide-by-zero"),
        piers.replace("depth:1}\"", "depth:1}\" // ~ range/divide-by-zero").replace("on enter", "on touched"),
    ];
    for script in no_more {
        expect_in_scripts(registry, &[&script]);
    }
}

#[test]
fn what_is_stepped_for_certain_as_things_begin_is_past_its_default() {
    let script = "script pier for harbor

on enter { queue += 1 }

on bell {
    queue -= 2
    go marsh
}
";
    expect_in_scripts(STATE, &[script]);
    let perhaps = script.replace("{ queue", "{ if chance(0.5) { queue").replace("1 }", "1 } }");
    let perhaps = perhaps.replace("-= 2", "-= 2 // ~ range/can-fall-below");
    expect_in_scripts(STATE, &[&perhaps]);
}

#[test]
fn what_is_stepped_without_a_value_has_one_by_then() {
    let registry = "[variables]\ntide.height = { type = \"int\", scope = \"global\", engine = \"reads\" }\n";
    let judged = |step: &str| {
        let script = format!(
            "script tides for tide\n\non start {{\n    {step} // ~ init/read-before-set\n}}\n\non bell {{\n    if height > 3 {{ height = 0 }}\n}}\n"
        );
        expect_in_scripts(registry, &[&script]);
    };
    judged("height += 1");
    judged("height = height + 1");
}

#[test]
fn a_starting_value_is_not_given() {
    expect_in_scripts(
        r#"[variables]
lighthouse.lamps = { type = "int", scope = "instance", default = 0, max = 6, engine = "reads", writers = ["*"] }
[instances.lighthouse]
of = "lighthouse"
"#,
        &["script boats for mailboat

on start {
    note \"{6 / lighthouse.lamps:1}\" // ~ range/divide-by-zero
    lighthouse.lamps = 2
}
"],
    );
}

#[test]
fn what_nobody_has_given_a_value_yet_holds_none() {
    let state = r#"[variables]
tide.height = { type = "int", scope = "global", min = 0, max = 2, engine = "reads" }
tide.mark = { type = "int", scope = "global", min = 0, max = 2, engine = "reads" }
tide.high = { type = "bool", scope = "global", default = false, constant = true }
tide.turns = { type = "int", scope = "global", default = 1, min = 0, max = 3, engine = "reads" }
"#;
    let script = "script tides for tide

on start {
    height += 2 // ~ init/read-before-set
    if high { mark = 1 }
}

on bell { height = 2 }

on touched {
    if mark is set { turns += 1 }
}
";
    expect_in_scripts(state, &[script]);
    let reached =
        script.replace("if high", "if chance(0.5)").replace("turns += 1 }", "turns += 1 } // ~ range/can-exceed");
    expect_in_scripts(state, &[&reached]);
}

#[test]
fn what_has_changed_has_a_value() {
    let registry = r#"[variables]
tide.height = { type = "int", scope = "global", engine = "reads" }
"#;
    let marks = "script marks for tide

on bell { height = 2 }

on changed height {
    note \"{was}\" // ~ init/read-before-set
    note \"{height}\"
}
";
    expect_in_scripts(registry, &[marks]);
    let seen = marks.replace("note \"{height}\"", "note \"{height}\" // ~ init/read-before-set");
    expect_in_scripts(registry, &[&format!("{seen}\non touched {{ clear height }}\n")]);
    // Nobody looks between the two.
    expect_in_scripts(registry, &[&marks.replace("height = 2", "clear height\n    height = 2")]);
}

#[test]
fn each_of_a_few_instances_steps_once_as_the_run_begins() {
    let registry = r#"[variables]
mailboat.berths = { type = "int", scope = "instance", default = 2, constant = true }
mailboat.afloat = { type = "int", scope = "type", default = 0, min = 0, max = 2, engine = "reads" }
mailboat.few = { type = "int", scope = "type", default = 0, min = 0, max = 3, engine = "reads" }
office.free = { type = "int", scope = "global", default = 9, min = 5, max = 9, engine = "reads", writers = ["*"] }
office.tight = { type = "int", scope = "global", default = 9, min = 6, max = 9, engine = "reads", writers = ["*"] }
office.rung = { type = "int", scope = "global", default = 0, min = 0, max = 9, engine = "reads", writers = ["*"] }
[instances.dusk_boat]
of = "mailboat"
"#;
    let script = r#"script fleet for mailboat

on start {
    mailboat.afloat += 1
    mailboat.few += 2 // ~ range/can-exceed
    office.free -= berths
    office.tight -= berths // ~ range/can-fall-below
    repeat 3 {
        office.rung += 2 // ~ range/can-exceed
    }
}
"#;
    expect_in_scripts(registry, &[script]);
}
