//! What goes with its instance, its scene or its run: what was written to it last is there for those alone whose turn comes
//! before that. And what is new as an instance is spawned.

use crate::rules::testing::expect_in_scripts;

const STATE: &str = r#"[variables]
office.lives = { type = "int", scope = "global", default = 3, min = 0, max = 3, engine = "reads" }
office.kept = { type = "int", scope = "global", default = 3, min = 0, max = 3, lifetime = "session", engine = "reads" }
harbor.queue = { type = "int", scope = "scene", default = 3, min = 0, max = 3, engine = "reads" }
mailboat.load = { type = "int", scope = "instance", default = 3, min = 0, max = 3, engine = "reads" }
parcel.weight = { type = "int", scope = "instance", default = 3, min = 0, max = 3, engine = "reads", writers = ["*"] }
parcel.worn = { type = "int", scope = "instance", default = 3, min = 0, max = 3, engine = "reads", lifetime = "session" }
"#;

#[test]
fn a_run_that_ends_takes_its_values_along() {
    expect_in_scripts(
        STATE,
        &["script a for office

on bumped {
    lose(1)
    kept -= 1 // ~ range/can-fall-below
    if kept == 0 { restart }
}

proc lose(n: int) {
    lives -= n // ~ sharing/burst
    if lives <= 0 {
        show \"It is over.\"
        restart
    }
}
"],
    );
    // Who starts anew each time may keep it over runs, too.
    let renewed = "script a for office

on start { kept = 3 }

on touched {
    kept -= 1
    if kept == 0 { restart }
}
";
    expect_in_scripts(STATE, &[renewed]);
    let seen = "script b for office

on start { show \"{6 / kept:1} each\" } // ~ range/divide-by-zero
";
    let later = renewed.replace("kept = 3 }", "kept = 3 } // ~ sharing/order-hazard");
    expect_in_scripts(STATE, &[seen, &later]);
}

#[test]
fn a_run_that_ends_at_the_first_blow_takes_it_along() {
    let state = r#"[variables]
office.lives = { type = "int", scope = "global", default = 2, min = 0, max = 3, engine = "reads" }
office.strict = { type = "bool", scope = "global", default = true, constant = true }
"#;
    let blow = "script a for office

on touched {
    lives -= 2
    if strict { restart }
}

on bell { lives = 3 }
";
    expect_in_scripts(state, &[blow]);
    let lenient = blow.replace("if strict", "if chance(0.5)").replace("-= 2", "-= 2 // ~ range/can-fall-below");
    expect_in_scripts(state, &[&lenient]);
}

#[test]
fn a_wait_shows_them_before() {
    expect_in_scripts(
        STATE,
        &["script a for office

on touched {
    lives -= 1 // ~ range/can-fall-below
    if lives == 0 {
        wait 1s
        restart
    }
}
"],
    );
}

#[test]
fn a_scene_that_is_left_takes_its_values_along() {
    let script = "script a for harbor

on touched {
    queue -= 1
    if queue == 0 { go marsh }
}
";
    expect_in_scripts(STATE, &[script]);
    expect_in_scripts(STATE, &[&format!("{script}\non leave {{ queue -= 1 }} // ~ range/can-fall-below\n")]);
    let answer = "\non touched {
    show \"{6 / queue:1} each\" // ~ range/divide-by-zero
}
";
    expect_in_scripts(STATE, &[&format!("{script}{answer}")]);
}

#[test]
fn an_instance_takes_its_values_along() {
    let script = "script a for parcel

on touched {
    weight -= 1
    if weight == 0 { remove self }
}

on bell {
    worn -= 1 // ~ range/can-fall-below
    if worn == 0 { remove self }
}
";
    let listed = format!("{STATE}\n[instances.big_parcel]\nof = \"parcel\"\n");
    expect_in_scripts(&listed, &[script]);
    let last = "\non removed {
    weight -= 1 // ~ range/can-fall-below
}
";
    expect_in_scripts(&listed, &[&format!("{script}{last}")]);
    expect_in_scripts(
        STATE,
        &["script b for office

on bell {
    for each in parcel {
        each.weight -= 1
        if each.weight == 0 { remove each }
    }
}

on touched(other: parcel) {
    other.weight -= 1
    if other.weight == 0 { remove other }
}
"],
    );
}

#[test]
fn what_was_spawned_is_new() {
    let weigh = "script a for parcel

on touched { weight = random(0, 3) }
";
    let make = "script b for office

on bell {
    spawn parcel as p
    p.weight -= 3
}
";
    expect_in_scripts(STATE, &[weigh, make]);
    let at_once = format!("{weigh}\non spawn {{ weight = 2 }}\n");
    expect_in_scripts(STATE, &[&at_once, &make.replace("-= 3", "-= 3 // ~ range/can-fall-below")]);
    let later = make.replace("    p.weight -= 3\n", "    wait 1s\n    p.weight -= 3 // ~ range/can-fall-below\n");
    expect_in_scripts(STATE, &[weigh, &later.replace("on bell {", "on bell { // ~ sharing/reentry")]);
}

#[test]
fn two_that_were_spawned_are_two() {
    let office = |last: &str| {
        format!(
            "script b for office\n\non bell {{\n    spawn parcel as a\n    spawn parcel as b\n    a.weight = 0\n    b.weight = 3\n    \
             {last}\n}}\n"
        )
    };
    expect_in_scripts(STATE, &[&office("a.weight += 3")]);
    expect_in_scripts(STATE, &[&office("let c = b\n    c.weight = 2\n    b.weight += 2 // ~ range/can-exceed")]);
    let own = "script a for parcel\n\non bell {\n    spawn parcel as a\n    weight = 0\n    a.weight = 3\n    weight += 3\n}\n";
    expect_in_scripts(STATE, &[own]);
}

#[test]
fn what_spawns_brings_more_at_once() {
    let parcels = "script a for parcel\n\non spawn {\n    spawn mailboat\n}\n";
    let boats = "script b for mailboat\n\non spawn {\n    office.lives = 1\n}\n";
    let office = "script c for office\n\non bell {\n    lives = 3\n    spawn parcel\n    if lives < 3 {\n        show \"Lost.\"\n    }\n}\n";
    expect_in_scripts(ANSWERED, &[parcels, boats, office]);
    let later = parcels.replace("    spawn", "    wait 1s\n    spawn");
    let never = office.replace("lives < 3 {", "lives < 3 { // ~ range/never");
    expect_in_scripts(ANSWERED, &[&later, boats, &never]);
}

const ANSWERED: &str = r#"[variables]
office.minutes = { type = "int", scope = "global", default = 0, min = 0, max = 60, writers = ["*"] }
office.lives = { type = "int", scope = "global", default = 3, min = 0, max = 3, writers = ["*"] }
mailboat.load = { type = "int", scope = "instance", default = 0, min = 0, max = 5 }
[signals]
full = { from = "script" }
over = { from = "script" }
again = { from = "script" }
"#;

#[test]
fn an_answer_comes_before_the_next_signal_and_before_time_passes() {
    let hours = "script hours for office

on every 60s {
    minutes += 1
    if minutes == minutes.max { send full }
}

on full { minutes = 0 }

on touched {
    lives -= 1
    if lives <= 0 { send over }
}

on over {
    show \"It is over.\"
    restart
}
";
    expect_in_scripts(ANSWERED, &[hours]);
    let boats = "script boats for mailboat

on touched {
    load += 1
    if load == load.max { send full to self }
}

on full { load = 0 }
";
    expect_in_scripts(ANSWERED, &[boats]);
    let over = |answer: &str, mark: &str| {
        let script = format!(
            "script lives for office\n\non touched {{\n    lives -= 1{mark}\n    if lives == 0 {{ send over }}\n}}\n\non over {{\n{answer}}}\n"
        );
        expect_in_scripts(ANSWERED, &[&script]);
    };
    let told = " // ~ range/can-fall-below";
    over("    leave()\n}\n\nproc leave() {\n    if chance(0.5) { restart } else { restart }\n", "");
    over("    repeat 3 { note \"over\" }\n    restart\n", "");
    over("    leave()\n}\n\nproc leave() {\n    if chance(0.5) { return }\n    restart\n", told);
    over("    leave()\n}\n\nproc leave() {\n    wait 1s\n    restart\n", told);
    // What outlives its run is not put right where another's `restart` empties the queue.
    let kept = ANSWERED.replace("office.minutes = {", "office.minutes = { lifetime = \"session\",");
    expect_in_scripts(&kept, &[&hours.replace("minutes += 1", "minutes += 1 // ~ range/can-exceed")]);
    expect_in_scripts(&kept, &[&hours.replace("restart", "lives = 3")]);
    // Where the answer takes its time, is given to some only, or may go to another, it may come too late.
    let late = |from: &str, to: &str| {
        let marked = boats.replace("load += 1", "load += 1 // ~ range/can-exceed");
        expect_in_scripts(ANSWERED, &[&marked.replace(from, to)]);
    };
    late("{ load = 0 }", "{\n    wait 1s\n    load = 0\n}");
    late("on full {", "on full when load > 2 and chance(0.5) {");
    late(" to self", " to dawn_boat");
}

#[test]
fn what_stands_in_the_queue_before_an_answer_sees_what_led_to_it() {
    expect_in_scripts(
        ANSWERED,
        &["script hours for office

on touched {
    send again
    send again
}

on again {
    lives -= 1 // ~ range/can-fall-below
    if lives == 0 { send over }
}

on over { restart }

on tick {
    minutes += 1
    if minutes >= 60 { send full }
}

on every 1s {
    minutes += 1 // ~ range/can-exceed
    if minutes >= 60 { send full }
}

on full { minutes = 0 }
"],
    );
}

#[test]
fn what_is_cleared_before_an_end_is_missed_until_then() {
    expect_in_scripts(
        "[variables]\noffice.sum = { type = \"int\", scope = \"global\", default = 0 }\n",
        &["script a for office

on touched {
    clear sum
    restart
}

on touched {
    show \"{sum}\" // ~ init/read-before-set
}
"],
    );
}

#[test]
fn an_activation_ends_with_its_own_instance_by_whatever_name_that_goes() {
    let state = "[variables.tide]\nmark = { type = \"int\", scope = \"global\", default = 1, writers = [\"*\"], engine = \"reads\" }\n[signals.met]\nfrom = \"engine\"\nparameters = { other = \"parcel\" }\n";
    let beside = |test: &str, told: &str| {
        let parcels = format!(
            "script parcels for parcel\n\non met(other){test} {{\n    clear tide.mark\n    if other is not none {{\n        remove other\n    }}\n    tide.mark = 2\n}}\n"
        );
        let reader = format!("script bells for tide\n\non bell {{\n    note \"{{mark}}\"{told}\n}}\n");
        expect_in_scripts(state, &[&parcels, &reader]);
    };
    beside("", " // ~ init/read-before-set");
    beside(" when other != self", "");
}
