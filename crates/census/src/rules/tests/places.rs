//! Names, scenes and signals together: what an instance is reached through, and what may have become of it by then.

use crate::rules::testing::{expect, expect_in_scripts};

/// Two scenes, and actors that stand in one, in both or in none.
const STATE: &str = r#"[owners.buoy]
kind = "actor"
count = "many"
[instances.red_buoy]
of = "buoy"
scene = "marsh"
[instances.free_boat]
of = "mailboat"
[instances.old_light]
of = "lighthouse"
[variables.harbor]
crates = { type = "int", scope = "scene", default = 0, engine = "both", writers = ["*"] }
[variables.marsh]
reeds = { type = "int", scope = "scene", default = 0, engine = "both", writers = ["*"] }
[variables.mailboat]
load = { type = "int", scope = "instance", default = 0, engine = "reads", writers = ["*"] }
trips = { type = "int", scope = "type", default = 0, engine = "reads" }
lead = { type = "ref", of = "mailboat", scope = "instance", default = "free_boat" }
[variables.buoy]
lit = { type = "bool", scope = "instance", default = false, engine = "reads", writers = ["*"] }
[variables.lighthouse]
visits = { type = "int", scope = "instance", default = 0, engine = "reads", writers = ["*"] }
[variables.tide]
flagship = { type = "ref", of = "mailboat", scope = "global", default = "free_boat" }
"#;

fn judged(scripts: &[&str]) {
    expect_in_scripts(STATE, scripts);
}

#[test]
fn a_system_that_looks_which_scene_is_loaded() {
    judged(&[r#"script watch for tide

on bell {
    dawn_boat.load = 1 // ~ init/empty-ref
    if scene is harbor {
        dawn_boat.load = 2
        harbor.crates = 2
        red_buoy.lit = true // ~ init/empty-ref
    } else {
        marsh.reeds = 4
        red_buoy.lit = true
    }
    old_light.visits += 1
    free_boat.load = 3
    harbor.crates += 1 // ~ sharing/other-scene
}

on touched(other) {
    if scene is marsh {
        marsh.reeds += 1
        go harbor
        marsh.reeds += 1
    } else {
        go marsh
    }
}
"#]);
}

#[test]
fn scripts_of_actors_that_stand_in_one_scene() {
    judged(&[
        r#"script lights for buoy

on bell {
    marsh.reeds = 2
    harbor.crates = 4 // ~ sharing/other-scene
}
"#,
        r#"script loading for mailboat in harbor

on bell {
    if crates > 3 {
        crates = 0
    }
    load = crates
    lead.load += 1
    if lead == self {
        lead = free_boat
    }
}
"#,
    ]);
}

#[test]
fn what_was_copied_before_the_flag_passed_on() {
    judged(&[r#"script fleet for tide

private first: mailboat
private second: mailboat

on start {
    first = flagship // ~ sharing/stale-ref
    second = flagship
}

on bell {
    if first is not none {
        first.load += 1
    }
    if second is not none {
        second.load += 1
    }
    for boat in mailboat {
        flagship = boat
    }
}

on changed flagship {
    second = flagship
}
"#]);
}

#[test]
fn of_any_actor_until_somebody_asks() {
    judged(&[r#"script meetings for mailboat

on touched(other: buoy) {
    other.lit = load > 3
    if other.lit {
        load += 1
    }
}

on bumped(other) {
    if load > 9 {
        return
    }
    other.lit = true // ~ sharing/unchecked-kind
    if other is buoy {
        other.lit = true
    } else if other is lighthouse {
        other.visits = 2
    }
    if other is not mailboat {
        return
    }
    other.load = 4
    mailboat.load = 1 // ~ sharing/which-instance
    trips = 1 // ~ sharing/type-through-instance
    mailboat.trips += 2 // ~ sharing/burst
}
"#]);
}

#[test]
fn several_scripts_each_spawn_their_own() {
    let registry = r#"[variables.parcel]
weight = { type = "int", scope = "instance", default = 1, engine = "reads", writers = ["*"] }
fragile = { type = "bool", scope = "instance", default = false, engine = "reads", writers = ["*"] }
[variables.office]
sent = { type = "int", scope = "global", default = 0, engine = "reads", writers = ["*"] }
"#;
    expect(
        registry,
        &[
            r#"script bags for mailboat

on bell {
    spawn parcel as p
    p.weight = 4
    p.fragile = true
}
"#,
            r#"script desk for office

on bell {
    spawn parcel as p
    p.weight = 2
    if p.fragile {
        sent += 1
    }
}
"#,
            r#"script care for parcel

on spawn {
    weight = 7
}

on touched(other) {
    fragile = true
}
"#,
            r#"script quay for tide

on touched(other) {
    for p in parcel where p.fragile { // ~ sharing/order-hazard
        office.sent += 1
    }
}
"#,
        ],
    );
}

#[test]
fn a_private_keeps_what_it_was_handed() {
    let registry = r#"[variables.parcel]
weight = { type = "int", scope = "instance", default = 1, engine = "reads", writers = ["*"] }
[variables.office]
last = { type = "ref", of = "parcel", scope = "global" }
"#;
    expect(
        registry,
        &[r#"script shelf for office

private kept: parcel

on bell {
    spawn parcel as p
    last = p
    kept = p
    last.weight = 2
    kept.weight = 3
    remove p
    if kept is set {
        kept.weight = 4
    }
    last.weight = 3 // ~ init/empty-ref
}

on touched(other) {
    for p in parcel {
        last = p
    }
    if last is none {
        return
    }
    last.weight = 9
}
"#],
    );
}

#[test]
fn a_test_of_a_name_tells_of_its_copies() {
    judged(&[r#"script pairs for mailboat

private mate: mailboat

on touched(other) {
    if other is mailboat {
        mate = other
    }
    let it = other
    if other is mailboat {
        it.load += 1
    }
    if it is mailboat {
        other.load += 1
    }
    if carries(other) {
        other.load += 1
    } else {
        other.load += 1 // ~ sharing/unchecked-kind
    }
}

on bell {
    let friend = mate
    if mate is none {
        return
    }
    friend.load += 1
    mate = none
    if friend is set {
        mate.load += 1 // ~ init/empty-ref
    }
}

on every 9s {
    let friend = mate
    if friend is set {
        mate.load += 1
        wait 1s
        if friend is set {
            mate.load += 1 // ~ init/empty-ref
        }
    }
}

proc carries(it: actor) -> bool {
    return it is mailboat and chance(0.5)
}
"#]);
}

#[test]
fn a_procedure_takes_away_what_its_value_goes_into() {
    judged(&[r#"script wrecks for tide

on bumped(other: mailboat) {
    other.load = sunk(other) // ~ init/empty-ref
}

on touched(other: mailboat) {
    other.load = weighed()
}

proc sunk(it: mailboat) -> int {
    remove it
    return 3
}

proc weighed() -> int {
    note "weighed"
    return 3
}
"#]);
}

#[test]
fn a_bound_of_what_may_not_be_there_can_be_anything() {
    expect_in_scripts(
        r#"[variables.marsh]
reeds = { type = "int", scope = "scene", default = 3, min = 2, max = "tide.limit", engine = "reads" }

[variables.tide]
limit = { type = "int", scope = "global", default = 8, engine = "reads" }
"#,
        &[r#"script tides for tide

on touched(other) {
    limit -= 3 // ~ range/can-exceed
    remove other
    if limit >= 2 {
        note "deep"
    }
}
"#],
    );
}

#[test]
fn a_loop_is_looked_at_in_its_own_light() {
    expect(
        r#"[variables]
tide.height = { type = "int", scope = "global", default = 0, engine = "both" }
mailboat.height = { type = "int", scope = "instance", default = 0, engine = "both" }
mailboat.cargo1 = { type = "int", scope = "instance", engine = "reads" }
parcel.cargo2 = { type = "int", scope = "instance", default = 0, engine = "both", writers = ["*"] }
"#,
        &[
            r#"script loading for mailboat

on bell {
    repeat 3 {
        let height = 2 // ~ shadow/local
        height += 1
        note "{height}"
    }
    cargo1 += 1 // ~ init/read-before-set
}
"#,
            r"script sorting for lighthouse

on touched(other) {
    if other is mailboat {
        repeat 3 {
            if other is parcel {
                other.cargo2 = 3
            }
        }
    }
}
",
        ],
    );
}

#[test]
fn what_was_just_made_is_there() {
    let removing = r"script crews for mailboat

on touched(other: parcel) {
    remove other
    remove self
}
";
    let opening = |trigger: &str, lines: &str| {
        let script = format!("script counts for harbor\n\non {trigger} {{\n{lines}}}\n");
        judged(&[removing, &script]);
    };
    opening("start", "    free_boat.load += 1\n    dawn_boat.load += 1\n");
    opening("enter", "    dawn_boat.load += 1\n    free_boat.load += 1 // ~ init/empty-ref\n");
    opening("start", "    wait 1s\n    free_boat.load += 1 // ~ init/empty-ref\n");
    opening("bell", "    dawn_boat.load += 1 // ~ init/empty-ref\n");
    opening(
        "start",
        "    for boat in mailboat {\n        remove boat\n    }\n    free_boat.load += 1 // ~ init/empty-ref\n",
    );
}

/// A script for the mail boats, of which there are many.
fn boats(body: &str) {
    let state =
        format!("{STATE}[variables.mailboat.stock]\ntype = \"int\"\nscope = \"instance\"\ndefault = 1\nmin = 0\n");
    let script = format!("script boats for mailboat\n\non bell {{\n{body}    show \"{{stock}} left\"\n}}\n");
    expect_in_scripts(&state, &[&script]);
}

#[test]
fn a_name_may_hold_the_very_instance_that_was_just_written() {
    boats(
        "stock = 9\nfor boat in mailboat {\nnote \"{10 / (9 - boat.stock):1}\" // ~ range/divide-by-zero\n}\nstock = 1\n",
    );
    boats("stock = 9\nfor boat in mailboat {\nif boat.stock == 9 { note \"full\" }\n}\nstock = 1\n");
    boats("clear stock\nfor boat in mailboat {\nnote \"{boat.stock}\" // ~ init/read-before-set\n}\nstock = 1\n");
    boats(
        "let boat = tide.flagship\nif boat is none { return }\nstock = 9\nboat = tide.flagship\nif boat is none { return }\nnote \"{10 / (9 - boat.stock):1}\" // ~ range/divide-by-zero\nstock = 1\n",
    );
    // What was put right before, and a new one, which is another.
    boats("stock = 0\nstock += 1\nfor boat in mailboat {\nnote \"{10 / boat.stock:1}\"\n}\n");
    boats("stock = 0\nspawn mailboat as boat\nnote \"{10 / boat.stock:1}\"\nstock = 1\n");
    boats("for boat in mailboat {\nclear boat.stock\nboat.stock = 1\n}\n");
}

#[test]
fn many_names_that_are_cleared_through_do_not_double_the_ways() {
    let each = |line: &dyn Fn(usize) -> String| (0..40).map(line).collect::<String>();
    let script = format!(
        "script boats for mailboat\n\n{}\non touched(other: mailboat) {{\n{}}}\n\non bell {{\n{}{}    note \"{{load}}\" // ~ init/read-before-set\n    load = 1\n}}\n",
        each(&|at| format!("private boat_of_{at}: mailboat\n")),
        each(&|at| format!("boat_of_{at} = other\n")),
        each(&|at| format!("if boat_of_{at} is none {{ return }}\n")),
        each(&|at| format!("clear boat_of_{at}.load\n")),
    );
    judged(&[&script]);
}
