//! `oaken rehearse`, on projects in temporary folders.

mod support;

use serde_json::Value;
use support::{Project, Run};

const REGISTRY: &str = r#"[owners.tide]
kind = "system"
[owners.harbor]
kind = "scene"
[owners.marsh]
kind = "scene"
[owners.boat]
kind = "actor"
count = "many"
[owners.parcel]
kind = "actor"
count = "many"
[owners.lamp]
kind = "actor"
[instances.dawn_boat]
of = "boat"
scene = "harbor"
[instances.dusk_boat]
of = "boat"
scene = "marsh"
[signals.touched]
from = "engine"
parameters = { other = "actor" }
[signals.gust]
from = "engine"
to = "all"
parameters = { force = { type = "number", min = 0, max = 12 } }
[signals.told]
from = "script"
[variables.tide]
height = { type = "int", scope = "global", default = 3, min = 0, max = 6 }
mood = { type = "enum", scope = "global", values = ["calm", "storm"], default = "calm" }
blank = { type = "int", scope = "global" }
kept = { type = "int", scope = "global", default = 0, lifetime = "session" }
[variables.harbor]
guests = { type = "int", scope = "scene", default = 2 }
[variables.boat]
parcels = { type = "int", scope = "instance", default = 0, min = 0, max = "boat.hold_size" }
hold_size = { type = "int", scope = "instance", default = 20, constant = true }
mate = { type = "ref", scope = "instance", of = "boat" }
[variables.parcel]
weight = { type = "int", scope = "instance", default = 1 }
[variables.lamp]
oil = { type = "number", scope = "instance", default = 2.5, min = 0 }
"#;

const LOADING: &str = r#"script loading for boat

private busy: bool = false

on touched(other: parcel) when not busy {
    busy = true
    if parcels < hold_size {
        parcels += 1
        remove other
        show hold_label "{parcels} of {hold_size} parcels"
    } else {
        show "The hold is full."
    }
    wait 0.5s
    busy = false
}
"#;

const TIDES: &str = r#"script tides for tide

on gust(force) {
    if force > 6 {
        height += 4
        kept += 1
    }
    ask "Turn back?" {
        choice "Yes" { mood = "storm" }
        choice "Never" when force > 6 { mood = "calm" }
    }
}

on every 1s {
    lamp.oil -= 0.5
}
"#;

/// A project with one rehearsal.
fn with(rehearsal: &str) -> Project {
    let project = Project::open_to_all("first_scene = \"harbor\"\n", REGISTRY);
    project.write("scripts/loading.oaken", LOADING);
    project.write("scripts/tides.oaken", TIDES);
    project.write("rehearsals/one.toml", rehearsal);
    project
}

fn rehearse(rehearsal: &str) -> Run {
    with(rehearsal).oaken(&["rehearse"])
}

#[track_caller]
fn passes(rehearsal: &str) {
    let run = rehearse(rehearsal);
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    assert!(run.out.contains("1 rehearsal passed."), "{}", run.out);
}

/// Asserts that it fails, and that all these words are said.
#[track_caller]
fn fails(rehearsal: &str, words: &[&str]) {
    told(rehearsal, 1, words);
}

/// Asserts that it can't be read, and that all these words are said.
#[track_caller]
fn unreadable(rehearsal: &str, words: &[&str]) {
    told(rehearsal, 2, words);
}

#[track_caller]
fn told(rehearsal: &str, code: i32, words: &[&str]) {
    let run = rehearse(rehearsal);
    assert_eq!(run.code, code, "{}{}", run.out, run.err);
    let flat = run.out.split_whitespace().collect::<Vec<_>>().join(" ");
    for word in words {
        assert!(flat.contains(word), "not said: {word}\n{}", run.out);
    }
    assert!(!run.err.contains("panicked"), "{}", run.err);
}

fn document(rehearsal: &str, options: &[&str]) -> Value {
    let arguments = [&["rehearse", "--format", "json"], options].concat();
    let run = with(rehearsal).oaken(&arguments);
    serde_json::from_str(&run.out).unwrap_or_else(|error| panic!("{error}: {}{}", run.out, run.err))
}

// ---- what a rehearsal can do ----

#[test]
fn the_example_of_the_contract_passes() {
    passes(
        r#"title = "A full hold turns parcels away"
seed = 7
watch = ["boat.parcels"]
[given]
"dawn_boat.parcels" = 19
[[step]]
fire = "touched"
on = "dawn_boat"
with = { other = "parcel" }
times = 2
[[step]]
pass = "0.6s"
[[step]]
expect = "dawn_boat.parcels == 20"
because = "the second parcel stays ashore"
[[step]]
expect = "shown(\"hold_label\") == \"20 of 20 parcels\""
[[step]]
fire = "touched"
on = "dawn_boat"
with = { other = "parcel" }
[[step]]
expect = "dawn_boat.parcels == 20 and count(parcel) == 2"
because = "what is turned away stays where it is"
[[step]]
restart = true
[[step]]
expect = "dawn_boat.parcels == 0 and shown(\"hold_label\") == \"\" and count(parcel) == 0"
"#,
    );
}

#[test]
fn questions_are_answered_by_the_choices_that_are_offered() {
    passes(
        r#"faults = ["range/can-exceed"]
[[step]]
fire = "gust"
with = { force = 3 }
[[step]]
fire = "gust"
with = { force = 7.5 }
[[step]]
choose = 1
[[step]]
expect = "mood == \"storm\" and height == 7"
[[step]]
choose = 2
[[step]]
expect = "mood == \"calm\""
"#,
    );
    let one_choice = "[[step]]\nfire = \"gust\"\nwith = { force = 3 }\n[[step]]\nchoose = 2\n";
    fails(one_choice, &["step 2 of 2, line 4: the question offers 1 choice, and this chooses number 2"]);
    fails("[[step]]\nchoose = 1\n", &["no question is open, so there is nothing to choose"]);
}

#[test]
fn values_are_put_in_place_and_scenes_are_loaded() {
    passes(
        r#"[given]
tide.height = 5
lamp.oil = 1
[[step]]
set = { "dawn_boat.mate" = "dawn_boat", "tide.mood" = "storm", "harbor.guests" = 7 }
[[step]]
expect = "dawn_boat.mate.parcels == 0 and mood == \"storm\" and height == 5 and lamp.oil == 1"
[[step]]
go = "marsh"
[[step]]
expect = "scene is marsh and dusk_boat.hold_size == 20"
[[step]]
set = { "dusk_boat.mate" = "none" }
[[step]]
go = "harbor"
[[step]]
expect = "harbor.guests == 2 and dawn_boat.mate is none"
"#,
    );
}

#[test]
fn instances_that_the_run_makes_can_be_named() {
    passes(
        r#"[[step]]
fire = "touched"
on = "boat"
with = { other = "parcel" }
[[step]]
fire = "touched"
on = "boat 1"
with = { other = "parcel" }
[[step]]
expect = "count(boat) == 2 and count(parcel) == 1"
because = "the first parcel went aboard, and then the boat was busy"
[[step]]
set = { "parcel 2.weight" = 4 }
"#,
    );
    fails(
        "[[step]]\nset = { \"parcel 3.weight\" = 4 }\n",
        &["`parcel 3` is not there: it was not made yet, or it was removed"],
    );
}

#[test]
fn a_session_s_values_are_kept_through_a_restart() {
    passes(
        r#"faults = ["range/can-exceed"]
[[step]]
fire = "gust"
with = { force = 12 }
[[step]]
restart = true
[[step]]
expect = "tide.kept == 1 and tide.height == 3"
"#,
    );
}

// ---- how a failure is told ----

#[test]
fn a_failing_step_says_what_it_read_and_what_changed_before() {
    fails(
        r#"title = "Room for one"
[given]
"dawn_boat.parcels" = 18
[[step]]
fire = "touched"
on = "dawn_boat"
with = { other = "parcel" }
[[step]]
pass = "2s"
[[step]]
expect = "dawn_boat.parcels == 18"
"#,
        &[
            "FAILED Room for one rehearsals/one.toml, 2s",
            "step 3 of 3, line 10: expected dawn_boat.parcels == 18",
            "dawn_boat.parcels 19",
            "0s at the start dawn_boat.parcels 0 → 18",
            "0s touched scripts/loading.oaken:8 dawn_boat.parcels 18 → 19",
            "0 rehearsals passed, 1 failed.",
        ],
    );
}

#[test]
fn a_fault_fails_a_rehearsal_unless_it_is_meant() {
    let steps = "[[step]]\nfire = \"gust\"\nwith = { force = 9 }\n";
    fails(steps, &["fault at 0s, scripts/tides.oaken:5: range/can-exceed", "`tide.height` is 7, and its `max` is 6"]);
    passes(&format!("faults = [\"range/can-exceed\"]\n{steps}"));
    fails(&format!("faults = [\"range/can-fall-below\"]\n{steps}"), &["range/can-exceed"]);
    let run = rehearse("faults = [\"range/can-exceed\"]\n[[step]]\npass = \"1s\"\n");
    assert_eq!(run.code, 0);
    assert!(run.out.contains("`range/can-exceed` is meant to happen here, and did not"), "{}", run.out);
}

#[test]
fn a_fault_that_repeats_is_told_once_with_its_count() {
    fails(
        "[[step]]\npass = \"9s\"\n[[step]]\nset = { lamp.oil = 0.2 }\n[[step]]\npass = \"2s\"\n",
        &["fault at 6s, scripts/tides.oaken:15: range/can-fall-below, 2 times in all"],
    );
}

#[test]
fn what_has_no_answer_fails_with_the_reason() {
    fails("[[step]]\nexpect = \"tide.blank == 0\"\n", &["`tide.blank` is unset", "tide.blank unset"]);
    fails("[[step]]\nexpect = \"dusk_boat.parcels == 0\"\n", &["`dusk_boat.parcels` leads through none"]);
    fails("[[step]]\nexpect = \"dawn_boat.mate.parcels == 0\"\n", &["`dawn_boat.mate.parcels` leads through none"]);
    fails("[[step]]\ngo = \"marsh\"\n[[step]]\nexpect = \"harbor.guests == 2\"\n", &["a scene that is not loaded"]);
    fails("[[step]]\nexpect = \"6 / (height - 3) > 1\"\n", &["is 0, and something is divided by it"]);
    fails(
        "[given]\n\"dusk_boat.parcels\" = 1\n",
        &["`given`: `dusk_boat` is not there: the scene `marsh` is not loaded"],
    );
    passes("[[step]]\nexpect = \"not (tide.blank is set)\"\n");
}

#[test]
fn a_run_without_an_end_is_stopped() {
    let project = with("[[step]]\nfire = \"gust\"\nwith = { force = 1 }\n");
    project.write(
        "scripts/tides.oaken",
        "script tides for tide\non gust(force) {\n    send told\n}\non told {\n    send told\n}\n",
    );
    let run = project.oaken(&["rehearse"]);
    assert_eq!(run.code, 1, "{}", run.out);
    assert!(run.out.contains("set each other off without an end"), "{}", run.out);
    project.write(
        "scripts/tides.oaken",
        "script tides for tide\non gust(force) {\n    while true {\n        height = 2\n    }\n}\n",
    );
    let run = project.oaken(&["rehearse"]);
    assert!(run.out.contains("stopped at scripts/tides.oaken:"), "{}", run.out);
    assert!(run.out.contains("a loop goes round without an end"), "{}", run.out);
}

// ---- what is asked for beside the outcome ----

#[test]
fn the_log_tells_every_change_and_is_the_same_each_time() {
    let text = "watch = [\"boat.parcels\"]\n[[step]]\nfire = \"touched\"\non = \"dawn_boat\"\nwith = { other = \"parcel\" }\n[[step]]\npass = \"1s\"\n";
    let project = with(text);
    let first = project.oaken(&["rehearse", "--log"]);
    assert_eq!(first.code, 0, "{}", first.err);
    assert!(first.out.contains("scripts/loading.oaken:8"), "{}", first.out);
    assert!(first.out.contains("dawn_boat.parcels  0 → 1"), "{}", first.out);
    assert!(first.out.contains("hold_label shows \"1 of 20 parcels\""), "{}", first.out);
    assert!(!first.out.contains("lamp.oil"), "what is not watched is not told: {}", first.out);
    assert_eq!(first.out, project.oaken(&["rehearse", "--log"]).out);
    let all = document(&text.replace("watch = [\"boat.parcels\"]\n", ""), &["--log"]);
    let log = all["rehearsals"][0]["log"].as_array().expect("a log");
    let oil = log.iter().find(|line| line["name"] == "lamp.oil").expect("the oil burns");
    assert_eq!((&oil["old"], &oil["new"], &oil["trigger"]), (&"2.5".into(), &"2".into(), &"every 1s".into()));
    assert_eq!((oil["seconds"].as_f64(), oil["tick"].as_u64()), (Some(1.0), Some(60)));
    let busy: Vec<&Value> = log.iter().filter(|line| line["name"] == "dawn_boat.busy").collect();
    assert_eq!(busy.len(), 2, "privates are told as well");
}

#[test]
fn the_csv_has_a_line_for_each_change() {
    let project = with("[[step]]\nfire = \"touched\"\non = \"dawn_boat\"\nwith = { other = \"parcel\" }\n");
    project.write("scripts/tides.oaken", "script tides for tide\non start {\n    note \"=1+1\"\n}\n");
    let run = project.oaken(&["rehearse", "--csv", "log.csv"]);
    assert_eq!(run.code, 0, "{}", run.err);
    let text = project.read("log.csv");
    let mut lines = text.lines();
    assert_eq!(lines.next(), Some("rehearsal,tick,seconds,step,kind,trigger,script,line,name,old,new,text"));
    assert!(
        text.contains("rehearsals/one.toml,0,0,1,change,touched,scripts/loading.oaken,8,dawn_boat.parcels,0,1,\n"),
        "{text}"
    );
    assert!(text.contains(",note,start,scripts/tides.oaken,3,,,,'=1+1"), "{text}");
}

#[test]
fn charts_are_drawn_as_svg_and_png() {
    let project = with("title = \"Oil & <light>\"\nwatch = [\"lamp.oil\", \"tide.mood\"]\n[[step]]\npass = \"7s\"\n");
    let run = project.oaken(&["rehearse", "--chart", "oil.svg"]);
    assert_eq!(run.code, 1, "{}", run.err);
    let svg = project.read("oil.svg");
    assert!(svg.starts_with("<svg") && svg.contains("Oil &amp; &lt;light&gt;"), "the title is escaped");
    assert!(svg.contains("min 0") && svg.contains("range/can-fall-below") && svg.contains("calm"));
    project.oaken(&["rehearse", "--chart", "oil.png"]);
    let png = std::fs::read(project.path("oil.png")).expect("a picture");
    assert_eq!(&png[1..4], b"PNG");
    project.oaken(&["rehearse", "--chart", "oil.bmp"]).could_not("is neither .svg nor .png");
    project.write("rehearsals/two.toml", "[[step]]\npass = \"1s\"\n");
    project.oaken(&["rehearse", "--chart", "oil.svg"]).could_not("here are 2 rehearsals: name the one to draw");
}

#[test]
fn rehearsals_are_named_by_file_or_folder() {
    let project = with("[[step]]\nexpect = \"height == 3\"\n");
    project.write("rehearsals/two.toml", "[[step]]\nexpect = \"height == 4\"\n");
    project.write("elsewhere.toml", "[[step]]\nexpect = \"height > 2\"\n");
    assert_eq!(project.oaken(&["rehearse"]).code, 1);
    assert_eq!(project.oaken(&["rehearse", "rehearsals/one.toml"]).code, 0);
    let run = project.oaken(&["rehearse", "rehearsals/one.toml", "elsewhere.toml"]);
    assert!(run.out.contains("elsewhere.toml") && run.out.contains("2 rehearsals passed."), "{}", run.out);
    assert!(project.oaken(&["rehearse", "rehearsals"]).out.contains("1 rehearsal passed, 1 failed."));
    project.oaken(&["rehearse", "nowhere.toml"]).could_not("nowhere.toml can't be read");
}

#[test]
fn the_json_tells_outcome_failures_and_faults() {
    let document = document(
        "title = \"t\"\nseed = 3\n[[step]]\nfire = \"gust\"\nwith = { force = 8 }\n[[step]]\nexpect = \"height < 7\"\nbecause = \"b\"\n",
        &[],
    );
    assert_eq!(document["schema"], "oaken-census/rehearsals/1");
    assert_eq!(document["summary"], serde_json::json!({ "passed": 0, "failed": 1, "unreadable": 0 }));
    let one = &document["rehearsals"][0];
    assert_eq!((&one["outcome"], &one["seed"]), (&"failed".into(), &3.into()));
    assert_eq!(one["failures"][0]["expected"], "height < 7");
    assert_eq!(one["failures"][0]["because"], "b");
    assert_eq!(one["failures"][0]["values"], serde_json::json!([{ "name": "height", "value": "7" }]));
    assert_eq!((&one["faults"][0]["rule"], &one["faults"][0]["line"]), (&"range/can-exceed".into(), &5.into()));
    assert_eq!(one["stopped"], Value::Null);
}

// ---- what can't be read ----

#[test]
fn steps_that_do_two_things_or_none_are_refused() {
    unreadable(
        "[[step]]\npass = \"1s\"\nchoose = 1\n",
        &["line 3: a step does one thing, and this one has `pass` and `choose`", "make two steps of it"],
    );
    unreadable("[[step]]\nfier = \"gust\"\n", &["this step does nothing", "did you mean `fire`?"]);
    unreadable("[[step]]\npass = \"1s\"\ntimes = 2\n", &["a `pass` step has no key `times`"]);
    unreadable("[[step]]\nrestart = false\n", &["`restart` is true, or it is left out"]);
    unreadable("step = 3\n", &["a step begins with `[[step]]`"]);
    unreadable("titel = \"x\"\n", &["a rehearsal has no key `titel`", "did you mean `title`?"]);
}

#[test]
fn names_that_mean_nothing_are_answered_with_the_nearest() {
    unreadable("[[step]]\nfire = \"gusts\"\n", &["there is no signal `gusts`", "did you mean `gust`?"]);
    unreadable("[[step]]\nfire = \"told\"\n", &["`told` is sent by scripts only"]);
    unreadable(
        "[[step]]\nfire = \"touched\"\non = \"dawn_bota\"\nwith = { other = \"parcel\" }\n",
        &["there is no instance and no actor `dawn_bota`", "did you mean `dawn_boat`?"],
    );
    unreadable(
        "[[step]]\nset = { tide.hieght = 1 }\n",
        &["there is no variable `tide.hieght`", "did you mean `tide.height`?"],
    );
    unreadable("watch = [\"dawn_boat.parcel\"]\n", &["there is no variable `dawn_boat.parcel`", "`dawn_boat.parcels`"]);
    unreadable(
        "[given]\n\"boat.parcels\" = 1\n",
        &["each `boat` has its own `parcels`", "as in `\"dawn_boat.parcels\"`"],
    );
    unreadable("[[step]]\ngo = \"mash\"\n", &["there is no scene `mash`", "did you mean `marsh`?"]);
    unreadable("faults = [\"range/can-exced\"]\n", &["did you mean `range/can-exceed`?"]);
}

#[test]
fn arguments_are_checked_against_the_signal() {
    unreadable("[[step]]\nfire = \"gust\"\n", &["`gust` brings `force` along, and this step does not say it"]);
    unreadable("[[step]]\nfire = \"gust\"\nwith = { force = \"strong\" }\n", &["`force` wants a number"]);
    unreadable(
        "[[step]]\nfire = \"gust\"\nwith = { force = 13 }\n",
        &["`force` is 13, and the game sends 0 to 12 only"],
    );
    unreadable("[[step]]\nfire = \"gust\"\nwith = { force = 1, forse = 1 }\n", &["`gust` has no parameter `forse`"]);
    unreadable(
        "[[step]]\nfire = \"gust\"\non = \"dawn_boat\"\nwith = { force = 1 }\n",
        &["`gust` happens to everyone"],
    );
    unreadable(
        "[[step]]\nfire = \"touched\"\nwith = { other = 3 }\n",
        &["`other` wants an instance's or an actor's name"],
    );
    unreadable("[[step]]\nset = { tide.mood = \"stormy\" }\n", &["`tide.mood` has no value \"stormy\""]);
    unreadable("[[step]]\nset = { \"dawn_boat.mate\" = \"lamp\" }\n", &["`lamp` is a `lamp`, and a `boat` is wanted"]);
}

#[test]
fn times_counts_and_expectations_are_checked() {
    unreadable("[[step]]\npass = \"-1s\"\n", &["time does not run backwards"]);
    unreadable("[[step]]\npass = \"1 s\"\n", &["\"1 s\" is no length of time: write `0.5s`"]);
    unreadable("[[step]]\npass = 3\n", &["`pass` wants a text"]);
    unreadable("[[step]]\nchoose = 0\n", &["`choose` is 1 or more"]);
    unreadable("[[step]]\nfire = \"gust\"\nwith = { force = 1 }\ntimes = 0\n", &["`times` is 1 or more"]);
    unreadable("[[step]]\nexpect = \"height ==\"\n", &["line 2: `expect` can't be read: expected a value"]);
    unreadable("[[step]]\nexpect = \"height = 3\"\n", &["`expect` can't be read"]);
    unreadable("[[step]]\nexpect = \"height\"\n", &["a condition is true or false"]);
    unreadable("[[step]]\nexpect = \"hieght == 3\"\n", &["did you mean `height`?"]);
    unreadable("[[step]]\nexpect = \"random(1, 2) == 1\"\n", &["an expectation can't draw"]);
    unreadable("[[step]]\nexpect = \"boat.parcels == 1\"\n", &["boat"]);
    unreadable("title = \"\n", &["this is not TOML"]);
}

#[test]
fn a_project_without_rehearsals_says_where_they_go() {
    let run = Project::tide().oaken(&["rehearse"]);
    assert_eq!(run.code, 0);
    assert!(run.out.contains("`rehearsals/NAME.toml` is where they go"), "{}", run.out);
}
