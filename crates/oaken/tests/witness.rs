//! `oaken check --prove` and `--witness`: findings that show how they happen.

mod support;

use serde_json::{Value, json};
use support::Project;

const REGISTRY: &str = r#"[owners.tide]
kind = "system"
[owners.harbor]
kind = "scene"
[owners.boat]
kind = "actor"
count = "many"
[owners.parcel]
kind = "actor"
count = "many"
[instances.dawn_boat]
of = "boat"
scene = "harbor"
[signals.touched]
from = "engine"
parameters = { other = "actor" }
[signals.bell]
from = "engine"
to = "all"
[signals.gust]
from = "engine"
to = "all"
parameters = { force = { type = "int", min = 0, max = 12 } }
[variables.tide]
height = { type = "int", scope = "global", default = 0, min = 0, max = 6, engine = "reads" }
coins = { type = "int", scope = "global", default = 10, engine = "reads" }
mast = { type = "bool", scope = "global", default = false }
flag = { type = "bool", scope = "global", default = false, engine = "reads" }
[variables.boat]
parcels = { type = "int", scope = "instance", default = 18, min = 0, max = 20 }
mate = { type = "ref", scope = "instance", of = "boat" }
[invariants.flag_needs_mast]
holds = "tide.flag implies tide.mast"
"#;

fn with(script: &str) -> Project {
    let project = Project::open_to_all("first_scene = \"harbor\"\n", REGISTRY);
    project.write("scripts/one.oaken", script);
    project
}

/// The witness of the finding under a rule, as JSON.
fn witness(project: &Project, rule: &str) -> Value {
    let run = project.oaken(&["check", "--prove", "--format", "json", "--fail-on", "never"]);
    let document: Value = serde_json::from_str(&run.out).unwrap_or_else(|error| panic!("{error}: {}", run.err));
    let findings = document["findings"].as_array().expect("findings");
    let found = findings.iter().find(|finding| finding["rule"] == rule);
    found.unwrap_or_else(|| panic!("no {rule} in {findings:?}"))["witness"].clone()
}

/// Asserts that a script's finding has a replayed witness, and that the rehearsal written for it fails.
#[track_caller]
fn proven(script: &str, rule: &str, line: usize) -> Value {
    let project = with(script);
    let witness = witness(&project, rule);
    assert_eq!(witness["replayed"], true, "{rule} has no witness");
    let name = format!("{rule}@scripts/one.oaken:{line}");
    let run = project.oaken(&["check", "--witness", &name, "--save", "rehearsals/shown.toml"]);
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    let rehearsal = project.oaken(&["rehearse"]);
    assert_eq!(rehearsal.code, 1, "{}\n{}", rehearsal.out, project.read("rehearsals/shown.toml"));
    witness
}

/// The same, where the witness says this.
#[track_caller]
fn proven_by(script: &str, rule: &str, line: usize, words: &str) {
    let found = proven(script, rule, line);
    assert!(found["sentence"].as_str().is_some_and(|text| text.contains(words)), "{found}");
}

#[test]
fn a_cap_that_is_passed_is_shown_with_the_numbers() {
    let script = "script loading for boat\non touched(other: parcel) {\n    parcels += 1\n    remove other\n}\n";
    let witness = proven(script, "range/can-exceed", 3);
    let step = json!({ "fire": "touched", "on": "dawn_boat", "with": { "other": "parcel" }, "times": 3 });
    assert_eq!(witness["steps"], json!([step]));
    let sentence = witness["sentence"].as_str().expect("a sentence");
    assert!(sentence.ends_with("3 times: `dawn_boat.parcels` is 21, and its `max` is 20"), "{sentence}");
}

#[test]
fn a_saved_witness_passes_once_the_mistake_is_mended() {
    let script = "script loading for boat\non touched(other: parcel) {\n    parcels += 1\n    remove other\n}\n";
    let project = with(script);
    let name = "range/can-exceed@scripts/one.oaken:3";
    let run = project.oaken(&["check", "--witness", name, "--save", "rehearsals/shown.toml"]);
    assert!(
        run.out.starts_with("rehearsals/shown.toml fails until this is mended: `touched` on `dawn_boat`"),
        "{}",
        run.out
    );
    assert_eq!(project.oaken(&["rehearse"]).code, 1);
    project.write("scripts/one.oaken", script.replace("parcels += 1", "parcels = min(parcels + 1, 20)"));
    let run = project.oaken(&["rehearse"]);
    assert_eq!(run.code, 0, "{}", run.out);
    let printed = with(script).oaken(&["check", "--witness", name]);
    assert_eq!(printed.out, project.read("rehearsals/shown.toml"));
}

#[test]
fn what_is_done_over_and_over_is_told_once() {
    let script = "script games for tide
on bell {
    ask \"Play?\" {
        choice \"Yes\" { height += 1 }
        choice \"No\" { height = 0 }
    }
}
";
    proven_by(script, "range/can-exceed", 4, "`bell` then choice 1, 7 times over: `tide.height` is 7");
}

#[test]
fn what_takes_several_different_steps_is_found() {
    let script = "script mast for tide
on bell {
    if mast { flag = true }
}
on gust(force) {
    if force > 10 {
        mast = false
    }
    ask \"Fit a mast?\" {
        choice \"No\" { note \"no\" }
        choice \"Yes\" { mast = true }
    }
}
";
    let witness = proven(script, "invariant/can-break", 7);
    let steps = witness["steps"].as_array().expect("steps");
    assert!(steps.iter().any(|step| step["choose"] == 2), "{steps:?}");
    assert!(steps.len() <= 5, "nothing is in it that it can do without: {steps:?}");
}

#[test]
fn values_never_set_and_empty_refs_are_shown() {
    let script = "script mates for boat\non bell {\n    tide.coins += mate.parcels\n}\n";
    proven(script, "init/empty-ref", 3);
    let script = "script tides for tide\nprivate last: int\non bell {\n    coins += last\n    last = 2\n}\n";
    proven(script, "init/read-before-set", 4);
    let script = "script tides for tide\non gust(force) {\n    coins = floor(60 / (force - 7))\n}\n";
    let witness = proven(script, "range/divide-by-zero", 3);
    assert_eq!(witness["steps"][0]["with"]["force"], 7);
    // Something else goes wrong each time before, and the boat is there once only.
    let script = "script mates for boat\non touched(other: boat) {\n    mate.parcels = 2\n    remove other\n    other.parcels = 3\n}\n";
    let witness = proven(script, "init/empty-ref", 5);
    assert_eq!(witness["steps"].as_array().map(Vec::len), Some(1));
}

#[test]
fn a_lost_update_is_shown_with_what_was_lost() {
    let script = "script tides for tide\non bell {\n    let before = coins\n    wait 1s\n    coins = before + 5\n}\n";
    let witness = proven(script, "sharing/lost-update", 5);
    let sentence = witness["sentence"].as_str().expect("a sentence");
    assert!(
        sentence.contains("`tide.coins` was 10, became 15 during the wait, and is set to 15 where 20"),
        "{sentence}"
    );
}

#[test]
fn a_handler_that_goes_on_twice_is_shown() {
    let script = "script tides for tide\non bell {\n    wait 1s\n    coins += 5\n}\n";
    let witness = proven(script, "sharing/reentry", 2);
    assert!(witness["sentence"].as_str().is_some_and(|text| text.contains("changes a second time, from 15 to 20")));
}

#[test]
fn a_guard_that_stays_up_is_shown() {
    let script = "script tides for tide
private busy: bool = false
on gust(force) when not busy {
    busy = true
    if force == 3 {
        return
    }
    wait 1s
    coins += 1
    busy = false
}
";
    // The guard itself has no name in a rehearsal; that the next gust does nothing has.
    let witness = proven(script, "sharing/stuck-guard", 4);
    assert_eq!(witness["steps"], json!([{ "fire": "gust", "with": { "force": 3 } }]));
    let project = with(script);
    let name = "sharing/stuck-guard@scripts/one.oaken:4";
    project.oaken(&["check", "--witness", name, "--save", "rehearsals/shown.toml"]);
    assert!(project.oaken(&["rehearse"]).out.contains("expected tide.coins == 11"));
    project.write("scripts/one.oaken", script.replace("        return", "        busy = false\n        return"));
    let mended = project.oaken(&["rehearse"]);
    assert_eq!(mended.code, 0, "{}", mended.out);
}

#[test]
fn a_listed_guard_that_stays_up_is_expected_to_come_down() {
    let script = "script loading for tide
on gust(force) when not flag {
    flag = true
    if force < 3 {
        wait 1s
        flag = false
    }
}
";
    proven(script, "sharing/stuck-guard", 3);
    let printed = with(script).oaken(&["check", "--witness", "sharing/stuck-guard@scripts/one.oaken:3"]);
    assert!(printed.out.contains("expect = \"tide.flag != true\""), "{}{}", printed.out, printed.err);
}

#[test]
fn what_an_after_block_overwrites_is_shown() {
    let script = "script coins for tide\n\non bell {\n    let seen = coins\n    after 1s {\n        coins = seen + 1\n    }\n}\n";
    proven_by(script, "sharing/lost-update", 6, "during the wait");
}

#[test]
fn what_comes_out_right_by_chance_at_one_moment_is_shown_apart() {
    let script = "script one for tide\n\non bell {\n    wait 1s\n    coins += 1\n    let had = coins\n    wait 1s\n    coins = had + 2\n}\n";
    proven_by(script, "sharing/lost-update", 8, "where 14 would count both");
}

#[test]
fn a_signal_that_is_sent_twice_is_told_by_what_answers_it() {
    let project =
        Project::open_to_all("first_scene = \"harbor\"\n", &format!("{REGISTRY}\n[signals.rung]\nfrom = \"script\"\n"));
    let script = "script one for tide\n\non bell {\n    wait 1s\n    send rung\n}\n\non rung {\n    coins += 1\n}\n";
    project.write("scripts/one.oaken", script);
    let name = "sharing/reentry@scripts/one.oaken:3";
    assert_eq!(project.oaken(&["check", "--witness", name, "--save", "rehearsals/shown.toml"]).code, 0);
    let saved = project.read("rehearsals/shown.toml");
    assert!(saved.contains("expect = \"tide.coins == 11\""), "{saved}");
    assert_eq!(project.oaken(&["rehearse"]).code, 1);
    let mended = script
        .replace("tide\n\non bell {", "tide\n\nprivate busy: bool = false\n\non bell when not busy {\n    busy = true")
        .replace("    send rung\n", "    send rung\n    busy = false\n");
    project.write("scripts/one.oaken", &mended);
    assert_eq!(project.oaken(&["rehearse"]).code, 0);
}

#[test]
fn an_instance_that_is_made_twice_is_shown() {
    let script = "script crew for tide\n\non bell {\n    wait 1s\n    spawn boat\n}\n";
    proven_by(script, "sharing/reentry", 3, "a second `boat` is made");
}

#[test]
fn a_guard_whose_wait_is_dropped_is_shown() {
    let script = "script busy for boat\n\non bell when not tide.flag {\n    tide.flag = true\n    wait 2s\n    parcels = 3\n    tide.flag = false\n}\n\non touched(other: boat) {\n    remove other\n}\n";
    proven_by(script, "sharing/stuck-guard", 4, "still true");
}

#[test]
fn time_alone_can_do_it() {
    let script = "script tides for tide\non every 10s {\n    height += 1\n}\n";
    let witness = proven(script, "range/can-exceed", 3);
    assert_eq!(witness["steps"], json!([{ "pass": "70s" }]));
}

#[test]
fn the_same_check_gives_the_same_witnesses() {
    let script = "script loading for boat\non touched(other) {\n    parcels -= 7\n}\non gust(force) {\n    tide.height = force\n}\n";
    let project = with(script);
    let run = || project.oaken(&["check", "--prove", "--format", "json"]).out;
    assert_eq!(run(), run());
    let text = project.oaken(&["check", "--prove"]);
    assert!(text.out.contains("Witness: `gust` with force = 12: `tide.height` is 12"), "{}", text.out);
    assert!(text.err.contains("2 findings can have a witness, and 2 of them have one."), "{}", text.err);
    assert!(!project.oaken(&["check"]).out.contains("Witness"), "a plain check does not search");
}

#[test]
fn findings_that_can_t_be_shown_are_answered() {
    let project = with("script tides for tide\non bell {\n    height += 1\n}\n");
    project
        .oaken(&["check", "--witness", "range/can-exceed@scripts/one.oaken:4"])
        .could_not("did you mean `range/can-exceed@scripts/one.oaken:3`");
    let names: Vec<String> = project.marks();
    let unused = names.iter().find(|name| name.contains("unused/")).expect("something is unused");
    let (place, rule) = unused.split_once(' ').expect("a place and a rule");
    project.oaken(&["check", "--witness", &format!("{rule}@{place}")]).could_not("says nothing that happens in a run");
}

#[test]
fn two_questions_are_open_at_once() {
    let script = r#"script one for boat

on touched(other) {
    if other is boat {
        ask "Change places?" {
            choice "No" {
                note "stays"
            }
            choice "Yes" {
                parcels = max(parcels - 1, 0)
            }
        }
    }
}
"#;
    let steps = proven(script, "sharing/reentry", 3)["steps"].clone();
    let choices = steps.as_array().expect("steps").iter().filter(|step| step["choose"] == 2).count();
    assert_eq!(choices, 2, "{steps}");
}
