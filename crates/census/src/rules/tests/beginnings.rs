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
