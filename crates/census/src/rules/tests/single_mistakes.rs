//! One mistake in a project that is right otherwise gives one finding: nothing else is said because of it.

use crate::rules::testing::{expect, expect_with};

const REGISTRY: &str = r#"[owners.cutter]
kind = "actor"
count = "many"

[instances.dawn_cutter]
of = "cutter"

[signals.stowed]
from = "script"
parameters = { n = "int" }

[variables.cutter]
load = { type = "int", scope = "instance", default = 0, min = 0, max = "cutter.cap", engine = "reads" }
cap = { type = "int", scope = "instance", default = 8, constant = true }
oil = { type = "number", scope = "instance", default = 20, min = 0, max = 40, engine = "reads", writers = ["*"] }

[variables.office]
coins = { type = "int", scope = "global", default = 10, min = 0, max = 99, engine = "reads" }
last = { type = "ref", scope = "global", of = "cutter", engine = "reads" }
"#;

const CUTTER: &str = r#"script stowing for cutter

on touched(other: parcel) {
    let room = cap - load
    if room < 2 {
        note "full"
    } else {
        load += 2
        remove other
    }
    if load == cap {
        send stowed(load)
        load = 0
    }
}

on every 1s {
    if oil > 0 {
        oil = max(oil - 0.5, 0)
    }
    if oil == 0 {
        oil = 40
    }
}
"#;

const OFFICE: &str = r#"script desk for office

proc earn(n: int) {
    coins = min(coins + n, coins.max)
}

on stowed(n) {
    earn(n)
}

on touched(other: cutter) {
    last = other
    other.oil = 40
}

on bell {
    if coins > 20 and last is set and last.oil < 1 {
        coins -= 5
    }
}
"#;

/// Writes `new` in place of `old` in one of the three files, and expects what it is marked with and nothing else.
#[track_caller]
fn one(old: &str, new: &str) {
    let [registry, cutter, office] = [REGISTRY, CUTTER, OFFICE].map(|text| text.replacen(old, new, 1));
    assert!([REGISTRY, CUTTER, OFFICE].iter().any(|text| text.contains(old)), "{old}");
    expect(&registry, &[&cutter, &office]);
}

#[test]
fn nothing_is_said_of_the_project_as_it_is() {
    one("script stowing", "script stowing");
}

#[test]
fn misspelled_names() {
    one("load += 2", "laod += 2 // ~ registry/unknown-name");
    one("if oil > 0 {", "if oli > 0 { // ~ registry/unknown-name");
    one("if room < 2 {", "if romo < 2 { // ~ registry/unknown-name");
    one("other.oil = 40", "other.iol = 40 // ~ registry/unknown-name");
    one("send stowed(load)", "send stowde(load) // ~ registry/unknown-signal");
    one("    earn(n)", "    eran(n) // ~ type/mismatch");
    one("    earn(n)", "    earn(m) // ~ registry/unknown-name");
    one("and last.oil < 1 {", "and lsat.oil < 1 { // ~ registry/unknown-name");
    one("send stowed(load)", "stowed(load) // ~ type/mismatch");
    one("send stowed(load)", "send stowed // ~ type/mismatch");
    one("on touched(other: cutter) {", "on touchde(other: cutter) { // ~ registry/unknown-signal");
    one("load += 2", "take_aboard(2) // ~ type/mismatch");
    one("let room = cap - load", "let room = cap - laod // ~ registry/unknown-name");
    one("let room = cap - load", "room = cap - load // ~ registry/unknown-name");
    one("desk for office", "desk for ofice // ~ registry/unknown-name");
    one("stowing for cutter", "stowing for cuttter // ~ registry/unknown-name");
}

#[test]
fn ends_of_a_range_that_were_swapped() {
    one("default = 10, min = 0, max = 99", "default = 10, min = 99, max = 0} # ~ registry/bad-entry\n#");
}

#[test]
fn lines_that_can_t_be_read() {
    one("oil = max(oil - 0.5, 0)", "oil = max(oil - 0.5.2, 0) // ~ syntax/error");
    one("    } else {\n        load", "     else { // ~ syntax/error\n        load");
    one("coins -= 5", "coins -= 5 5 // ~ syntax/error");
    one("coins -= 5", "coins = last is set ? 5 : 0 // ~ syntax/error");
    one("coins -= 5", "coins = if coins > 30 { 5 } else { 9 } // ~ syntax/error");
    one("coins -= 5", "coins -= 5; note \"paid\" // ~ syntax/error");
    one("last = other", "last == other // ~ syntax/error");
    one("let room = cap - load", "let room: int = cap - load // ~ syntax/error");
    one("        note \"full\"", "        # full // ~ syntax/error\n        note \"full\"");
    one("        note \"full\"", "        note \"full\"\n        break // ~ syntax/error\n        note \"again\"");
    one("{\n        note \"full\"\n", "// ~ syntax/error\n        note \"full\"\n");
    one(
        "} else {\n        load += 2\n        remove other\n    }",
        "} else { // ~ syntax/error\n        load += 2\n        remove other",
    );
    one("on touched(other: parcel) {", "on touched(other: parcel) // ~ syntax/error");
    one("on touched(other: cutter) {", "on touched other: cutter) { // ~ syntax/error");
    one("proc earn(n: int) {", "proc earn(n: int { // ~ syntax/error");
    one("proc earn(n: int) {", "porc earn(n: int) { // ~ syntax/error");
    one("on stowed(n) {", "on stowed n { // ~ syntax/error");
    one("on every 1s {", "on evrey 1s { // ~ syntax/error");
    one("send stowed(load)", "send stowed load // ~ syntax/error");
    one("script stowing for", "scrpit stowing for // ~ syntax/error\n//");
}

#[test]
fn entries_that_can_t_be_read() {
    one(
        "max = \"cutter.cap\", engine = \"reads\" }",
        "max = \"cutter.cap\" engine = \"reads\" } # ~ registry/bad-entry",
    );
    let load = "default = 0, min = 0, max = \"cutter.cap\", engine = \"reads\" }";
    for (right, wrong) in [
        ("default", "defalut"),
        ("0, min", "\"0\", min"),
        ("max", "mxa"),
        ("cutter.cap", "cutter.cpa"),
        ("engine", "engien"),
        ("reads", "raeds"),
    ] {
        one(load, &format!("{} # ~ registry/bad-entry", load.replacen(right, wrong, 1)));
    }
    one("[variables.cutter]\n", "[variables.cuter] # ~ registry/bad-entry\n");
    one("[variables.cutter]\nload = {", "[variabels.cutter] # ~ registry/bad-entry\nload = {");
    one("parameters = { n = \"int\" }", "parameters = { n = \"itn\" } # ~ registry/bad-entry");
    one("from = \"script\"", "from = \"scirpt\" # ~ registry/bad-entry");
    one("kind = \"actor\"", "knid = \"actor\" # ~ registry/bad-entry");
    one("of = \"cutter\"\n", "of = \"cuttre\" # ~ registry/bad-entry\n");
    one("of = \"cutter\", engine", "of = \"cuter\", engine = \"reads\" } # ~ registry/bad-entry\n#");
    one("[owners.cutter]\nkind = \"actor\"", "[owners.cutter]\nkind = \"boat\" # ~ registry/bad-entry");
}

#[test]
fn kinds_that_are_not_asked_for() {
    let two = "last = other // ~ type/mismatch\n    other.oil = 40 // ~ sharing/unchecked-kind";
    let [old, new] = ["(other: cutter) {\n    last = other\n    other.oil = 40", &format!("(other) {{\n    {two}")];
    one(old, new);
}

#[test]
fn slips_of_sign_and_type() {
    one("load += 2", "cutter.load += 2 // ~ sharing/which-instance");
    one("send stowed(load)", "send stowed(\"x\") // ~ type/mismatch");
    one("on stowed(n) {", "on stowed(n: text) { // ~ type/mismatch");
    one("on stowed(n) {\n    earn(n)", "on stowed(n: bool) { // ~ type/mismatch\n    if n {\n        earn(1)\n    }");
    one("coins -= 5", "coins -= earn(5) // ~ type/mismatch");
    one(
        "coins -= 5",
        "coins -= pay() // ~ type/mismatch\n    }\n}\n\nproc pay() -> int {\n    if coins > 30 {\n        wait 1s\n        return 5",
    );
    one("oil = max(oil - 0.5, 0)", "oil =- 0.5 // ~ range/can-fall-below");
    one("load += 2", "load =+ 2 // ~ type/plus-sign-assign");
    one("coins = min(coins + n, coins.max)", "coins = coins > n // ~ type/mismatch");
    one("coins -= 5", "coins -= \"5\" // ~ type/mismatch");
}

const IN_A_SCENE: &str = r#"[variables.harbor]
depth = { type = "int", scope = "scene", default = 3, min = 0, max = 9 }

[variables.mailboat]
load = { type = "int", scope = "instance", default = 0, min = 0, max = "mailboat.hold" }
hold = { type = "int", scope = "instance", default = 6, constant = true }

[variables.tide]
phase = { type = "enum", scope = "global", default = "ebb", values = ["ebb", "flood"], engine = "writes" }
debt = { type = "int", scope = "global", default = 9, min = 0, max = 9 }
fines = { type = "int", scope = "global", default = 0, min = 0, max = 9 }

[invariants.no_debt_no_fines]
holds = "tide.debt == 0 implies tide.fines == 0"
"#;

const LOADING: &str = r#"script loading for mailboat in harbor

private busy: bool = false

on enter {
    busy = false
}

on touched(other: parcel) when not busy {
    busy = true
    let taken = room()
    if taken > 0 and depth > 2 {
        load += taken
        show "{load} aboard"
        return
    }
    wait 1s
    busy = false
}

proc room() -> int {
    return clamp(hold - load, 0, 1)
}
"#;

const WATER: &str = r#"script water for harbor

on bell {
    depth = random(0, 9)
    match tide.phase {
        "ebb" { tide_out() }
        "flood" { show "The tide comes in." }
    }
}

proc tide_out() {
    for boat in mailboat where boat.load > 0 {
        note "{boat.load} stranded"
    }
}
"#;

const DEBT: &str = r#"script debts for tide

on bell {
    debt = max(debt - 1, 0)
    if debt == 0 {
        fines = 0
    }
}

on touched(other: mailboat) {
    if debt > 0 {
        debt = debt.max
        fines = min(fines + 1, fines.max)
    }
}
"#;

/// Replaces a piece of the project in a scene and expects the findings marked in it then, and no others.
#[track_caller]
fn one_in_a_scene(old: &str, new: &str) {
    let all = [IN_A_SCENE, LOADING, WATER, DEBT];
    assert!(all.iter().any(|text| text.contains(old)), "{old}");
    let [registry, scripts @ ..] = all.map(|text| text.replacen(old, new, 1));
    expect(&registry, &scripts.each_ref().map(String::as_str));
}

#[test]
fn slips_that_a_scene_a_guard_or_an_invariant_hangs_on() {
    // On every way out but one the guard is put back, or by `enter`.
    one_in_a_scene("on enter {", "on enter {");
    one_in_a_scene("in harbor", "in harbro // ~ registry/unknown-name");
    one_in_a_scene("depth > 2 {", "dpeth > 2 { // ~ registry/unknown-name");
    one_in_a_scene("    busy = false", "    bsuy = false // ~ registry/unknown-name");
    one_in_a_scene("    busy = false", "    busy = \"no\" // ~ type/mismatch");
    one_in_a_scene("(hold - load, 0, 1)", "(hodl - load, 0, 1) // ~ registry/unknown-name");
    one_in_a_scene("(hold - load, 0, 1)", "(\"6\" - load, 0, 1) // ~ type/mismatch");
    one_in_a_scene("\"ebb\" { tide_out() }", "\"ebbb\" { tide_out() } // ~ range/unknown-value");
    one_in_a_scene("fines = 0", "finse = 0 // ~ registry/unknown-name");
    one_in_a_scene("fines == 0", "fnies == 0\" # ~ registry/bad-entry\n#");
    one_in_a_scene("0 implies", "0 implise tide.fines == 0\" # ~ registry/bad-entry\n#");
    one_in_a_scene("load += taken", "load -= taken // ~ range/can-fall-below");
    let halved = "let half = amount / 2\n    debt = max(debt - floor(half), 0)";
    one_in_a_scene("debt = max(debt - 1, 0)", &halved.replace("amount / 2", "amuont / 2 // ~ registry/unknown-name"));
    one("last is set and", "lats is set and // ~ registry/unknown-name\n");
    one("send stowed(load)", "send stoewd(load) // ~ registry/unknown-signal");
}

#[test]
fn entries_in_which_a_kind_or_a_type_is_missing() {
    let hold = "hold = { type = \"int\", scope = \"instance\", default = 6, constant = true }";
    for (right, wrong) in [("\"int\"", "\"whole\""), ("\"int\"", "3"), ("default = 6", "default = \"6\"")] {
        one_in_a_scene(hold, &format!("{} # ~ registry/bad-entry", hold.replacen(right, wrong, 1)));
    }
    one_in_a_scene("default = 9, min = 0", "default = 9, min = \"zero\"} # ~ registry/bad-entry\n#");
    one_in_a_scene("\"int\", scope = \"instance\", default = 6", "\"int\", default = 6 } # ~ registry/bad-entry\n#");
}

#[test]
fn an_invariant_that_no_more_than_a_range_breaks() {
    one_in_a_scene("max(debt - 1, 0)", "debt - 1 // ~ range/can-fall-below");
    let lower = "[invariants.low]\nholds = \"tide.debt <= 9\"\n[invariants.no_debt_no_fines]";
    one_in_a_scene("[invariants.no_debt_no_fines]", lower);
}

const LAMP: &str = r#"script lamps for tide

private busy: bool = false

on bell when not busy {
    busy = true
    while oil > 0 {
        wait 1s
        oil -= 1
    }
    busy = false
    let rest = oil + 3
    oil = rest
}

on dimmed(fully) {
    if fully {
        lit = false
        oil = 0
    }
}

on touched(other) {
    if lit and oil > 0 {
        oil -= 1
        send dimmed(true)
    }
    lit = oil > 0
}
"#;

const GULLS: &str = r#"script flying for gull

on bell {
    if hunger > 3 { remove self }
    hunger = min(hunger + 1, 9)
}
"#;

/// A lamp that burns down and gulls that come and go, with one slip.
fn one_at_the_lamp(right: &str, wrong: &str) {
    let registry = r#"[owners.gull]
kind = "actor"
count = "many"

[instances.grey]
of = "gull"

[signals.dimmed]
from = "script"
parameters = { fully = "bool" }

[variables]
tide.oil = { type = "int", scope = "global", default = 9, min = 0, max = 9, engine = "reads" }
tide.lit = { type = "bool", scope = "global", default = false, engine = "reads" }
gull.hunger = { type = "int", scope = "instance", default = 0, min = 0, max = 9 }
lighthouse.height = { type = "int", scope = "instance", default = 3, min = 0, max = 9, writers = ["office"] }

[invariants.lit_needs_oil]
holds = "not tide.lit or tide.oil > 0"
"#;
    let office =
        "script desk for office\n\non bell {\n    lighthouse.height = 4\n    note \"{lighthouse.height}\"\n}\n";
    assert!([LAMP, GULLS].iter().any(|text| text.contains(right)), "{right}");
    let scripts = [LAMP, GULLS].map(|text| text.replacen(right, wrong, 1));
    expect(registry, &[&scripts[0], &scripts[1], office]);
}

#[test]
fn slips_that_leave_nothing_where_something_was_meant() {
    one_at_the_lamp("    busy = true\n", "    bsuy = true // ~ registry/unknown-name\n");
    one_at_the_lamp("    busy = true\n", "    busy += true // ~ type/mismatch\n");
    one_at_the_lamp("while oil > 0 {", "whilee oil > 0 { // ~ syntax/error");
    one_at_the_lamp(
        "let rest = oil + 3\n    oil = rest",
        "oil = rest // ~ registry/unknown-name\n    let rest = oil + 3",
    );
    one_at_the_lamp("script flying", "scriptt flying // ~ syntax/error\n//");
    one_at_the_lamp("script flying for gull", "script flying for gul // ~ registry/unknown-name");
    one_at_the_lamp("        oil -= 1\n        send", "        oil += 1 // ~ range/can-exceed\n        send");
    one_at_the_lamp("lit and oil > 0 {", "lit and not lit and oil > 0 { // ~ range/never");
    let at_once = "busy = true // ~ unused/dead-write\n    while oil > 0 {\n";
    one_at_the_lamp("busy = true\n    while oil > 0 {\n        wait 1s\n", at_once);
}

const BUOY: &str = r#"script lights for tide

private watch: int = 0

on start {
    state = "dark"
    reach = 0
}

on every 2s {
    if state == "dark" or state == "bright" { return }
    brighten(2)
}

proc brighten(by: int) {
    reach = clamp(reach + by, 0, 9)
    if reach == 9 {
        state = "bright"
    }
}

on bell when state == "dark" {
    state = "lit"
    watch = min(watch + 1, 3)
    send kindled
}

on kindled {
    wait 5s
    watch = max(watch - 1, 0)
    if count(mailboat) > watch {
        reach = 0
        state = "dark"
    }
}
"#;

/// A light that is kindled and grows, in a project whose values last for the session, with one slip.
fn one_at_the_buoy(right: &str, wrong: &str) {
    let registry = r#"[signals.kindled]
from = "script"

[variables.tide]
state = { type = "enum", scope = "global", values = ["dark", "lit", "bright"], default = "dark", engine = "reads" }
reach = { type = "int", scope = "global", default = 0, min = 0, max = 9, engine = "reads" }

[invariants.dark_reaches_nowhere]
holds = 'tide.state == "dark" implies tide.reach == 0'
"#;
    assert!(BUOY.contains(right), "{right}");
    let config = "[project]\nname = \"Saltmarsh Mail\"\nfirst_scene = \"harbor\"\nlifetime = \"session\"\n";
    expect_with(config, registry, &[&BUOY.replacen(right, wrong, 1)]);
}

#[test]
fn slips_that_a_start_a_sender_or_an_invariant_hangs_on() {
    one_at_the_buoy("script lights", "script lights");
    one_at_the_buoy("    reach = 0\n}\n\non every", "    raech = 0 // ~ registry/unknown-name\n}\n\non every");
    one_at_the_buoy("state = \"lit\"", "state = \"lti\" // ~ range/unknown-value");
    one_at_the_buoy("state = \"dark\"\n    reach", "state = \"drak\" // ~ range/unknown-value\n    reach");
    one_at_the_buoy("state = \"lit\"", "sttae = \"lit\" // ~ registry/unknown-name");
    one_at_the_buoy("send kindled", "send kindeld // ~ registry/unknown-signal");
    one_at_the_buoy("on kindled {", "on kindeld { // ~ registry/unknown-signal");
    one_at_the_buoy("if count(", "if coutn( // ~ type/mismatch\n        ");
    one_at_the_buoy("watch = min(", "watch = minn( // ~ type/mismatch\n        ");
    one_at_the_buoy("watch: int = 0", "watch int = 0 // ~ syntax/error");
    one_at_the_buoy("watch: int = 0", "watch: = 0 // ~ syntax/error");
    one_at_the_buoy("watch: int = 0", "watch = 0 // ~ syntax/error");
}

#[test]
fn what_a_name_hides_that_means_nothing_elsewhere() {
    let registry = r#"[variables.tide]
height = { type = "int", scope = "global", default = 0, min = 0, max = 6, engine = "reads" }
rising = { type = "bool", scope = "global", default = false, engine = "reads" }
"#;
    let tides = |mark: &str| {
        format!(
            "script tides for tide

on bell {{
    height = min(height + 1, 6)
    if height > 6 {{ // ~ range/never
        note \"over\"
    }}
}}

on every 9s {{
    if rising {{{mark}
        note \"up\"
    }}
    rising = false
}}
"
        )
    };
    let office =
        |line: &str| format!("script desk for office\n\non bell {{\n    {line} // ~ registry/unknown-name\n}}\n");
    let judged = |line: &str, mark: &str| expect(registry, &[&office(line), &tides(mark)]);
    judged("note \"{heihgt}\"", " // ~ range/never");
    judged("note \"{risign}\"", " // ~ range/never");
    judged("tide.heihgt = 3", " // ~ range/never");
    judged("risign = true", "");
}
