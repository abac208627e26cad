//! `tally` and `whatif`: what would take a value where, and what changes would do.

mod support;

use serde_json::{Value, json};
use support::Project;

const REGISTRY: &str = r#"[owners.tide]
kind = "system"
[owners.boat]
kind = "actor"
count = "many"
[instances.dawn_boat]
of = "boat"
start = { parcels = 2, hold = 12 }
[signals.touched]
from = "engine"
parameters = { weight = { type = "int", min = 1, max = 4 } }
[signals.bell]
from = "engine"
to = "all"
[signals.gift]
from = "engine"
to = "all"
parameters = { many = "int" }
[variables.boat]
parcels = { type = "int", scope = "instance", default = 0, min = 0, max = "boat.hold" }
hold = { type = "int", scope = "instance", default = 20, constant = true }
oil = { type = "number", scope = "instance", default = 60, min = 0, max = 100, overflow = "clamp" }
[variables.tide]
height = { type = "int", scope = "global", default = 0, min = 0, max = 95, engine = "reads" }
step = { type = "int", scope = "global", default = 3, constant = true }
coins = { type = "int", scope = "global", default = 1, min = 0, engine = "reads" }
still = { type = "int", scope = "global", default = 1, max = 4, engine = "reads" }
"#;

const SCRIPT: &str = r#"script loading for boat

on bell {
    parcels += tide.step
}
on touched(weight) {
    parcels = min(parcels + weight, parcels.max)
}
on tick {
    oil -= 0.5 * tick_length()
}
"#;

const TIDES: &str = r#"script tides for tide

on every 4s {
    height += 10
    if height == 45 {
        note "half"
    }
}
on gift(many) {
    coins += many
}
on bell {
    coins = coins * 2
}
"#;

fn project() -> Project {
    let project = Project::open_to_all("", REGISTRY);
    project.write("scripts/loading.oaken", SCRIPT);
    project.write("scripts/tides.oaken", TIDES);
    project
}

/// The way of a tally from a start to a value, by a trigger.
fn way(id: &str, of: &str, to: f64, trigger: &str) -> Value {
    let run = project().oaken(&["tally", id, "--format", "json"]);
    let document: Value = serde_json::from_str(&run.out).unwrap_or_else(|error| panic!("{error}: {}", run.err));
    let ways = document["ways"].as_array().expect("ways").clone();
    let found = ways.iter().find(|way| {
        let starts = way["of"].as_array().is_some_and(|names| names.is_empty() || names.contains(&of.into()));
        starts && way["to"].as_f64() == Some(to) && way["trigger"] == trigger
    });
    found.unwrap_or_else(|| panic!("no way to {to} by {trigger} in {}", run.out)).clone()
}

#[test]
fn steps_of_one_size_are_counted_from_each_instance_s_own_start() {
    let dawn = way("boat.parcels", "dawn_boat", 12.0, "bell");
    assert_eq!((&dawn["least"], &dawn["most"], &dawn["over"]), (&json!(4.0), &json!(4.0), &json!(2.0)));
    let new = way("boat.parcels", "a new boat", 20.0, "bell");
    assert_eq!((&new["from"], &new["least"], &new["over"]), (&json!(0.0), &json!(7.0), &json!(1.0)));
}

#[test]
fn steps_that_hang_on_an_argument_give_a_range_and_are_cut() {
    let new = way("boat.parcels", "a new boat", 20.0, "touched");
    assert_eq!((&new["least"], &new["most"]), (&json!(5.0), &json!(20.0)));
    assert_eq!((&new["cut"], &new["over"], &new["step"]), (&json!(true), &json!(3.0), &json!("+1 to +4 each")));
}

#[test]
fn steps_by_time_give_a_duration() {
    let text = project().oaken(&["tally", "boat.oil"]).out;
    assert!(text.contains("from 60 (dawn_boat, a new boat) to 0, `min`"), "{text}");
    assert!(text.contains("`tick` scripts/loading.oaken:10, ") && text.contains(": 120 seconds"), "{text}");
    let text = project().oaken(&["tally", "tide.height"]).out;
    assert!(text.contains("+10 each: 40 seconds; the last one goes beyond by 5"), "{text}");
}

#[test]
fn a_test_for_one_value_that_is_jumped_over_is_told() {
    let half = way("tide.height", "", 45.0, "every 4s");
    assert_eq!((&half["least"], &half["over"]), (&json!(5.0), &json!(5.0)));
    let text = project().oaken(&["tally", "tide.height"]).out;
    assert!(text.contains("to 45, `height == 45` in scripts/tides.oaken:5"), "{text}");
    assert!(text.contains("so the test is jumped over"), "{text}");
}

#[test]
fn what_can_t_be_counted_says_why() {
    let text = project().oaken(&["tally", "coins"]).out;
    assert!(
        text.contains(
            "`gift` scripts/tides.oaken:10: can't be counted: `many` comes with the signal, and has no range"
        ),
        "{text}"
    );
    assert!(text.contains("`bell` scripts/tides.oaken:13: can't be counted: "), "{text}");
    assert!(project().oaken(&["tally", "tide.still"]).out.contains("nothing steps it"));
    project().oaken(&["tally", "tide.hight"]).could_not("did you mean `tide.height`?");
}

fn whatif(changes: &[&str]) -> Value {
    let project = project();
    project.write("rehearsals/full.toml", "[given]\n\"dawn_boat.parcels\" = 11\n[[step]]\nfire = \"bell\"\n");
    let run = project.oaken(&[&["whatif", "--format", "json"], changes].concat());
    assert_eq!(project.read("registry/all.toml"), REGISTRY, "nothing is written");
    serde_json::from_str(&run.out).unwrap_or_else(|error| panic!("{error}: {}", run.err))
}

#[test]
fn findings_tallies_and_rehearsals_that_would_change_are_told() {
    let effects = whatif(&["boat.parcels.overflow=clamp", "tide.height.max=90"]);
    let lost = effects["lost"].to_string();
    assert!(lost.contains("scripts/loading.oaken:4 error range/can-exceed"), "{lost}");
    assert_eq!(
        effects["rehearsals"],
        json!([{ "file": "rehearsals/full.toml", "before": "fails", "after": "passes" }])
    );
    let tallies = effects["tallies"].as_array().expect("tallies");
    let changed: Vec<&str> = tallies.iter().filter_map(|tally| tally["variable"].as_str()).collect();
    assert_eq!(changed, ["boat.parcels", "tide.height"]);
    let gained = whatif(&["tide.coins.default="])["gained"].to_string();
    assert!(gained.contains("init/"), "{gained}");
}

#[test]
fn a_bound_s_change_reaches_what_it_bounds() {
    let effects = whatif(&["boat.hold.default=40"]);
    let after = effects["tallies"][0]["after"].to_string();
    assert!(
        effects["tallies"][0]["variable"] == "boat.parcels" && after.contains("from 0 (a new boat) to 40"),
        "{after}"
    );
}

#[test]
fn changes_that_mean_nothing_are_answered() {
    let project = project();
    project.oaken(&["whatif", "boat.hold=40"]).could_not("say which key of `boat.hold`, as in `boat.hold.default=40`");
    project.oaken(&["whatif", "boat.hold.defalt=40"]).could_not("did you mean `default`?");
    project.oaken(&["whatif", "boat.hold.default"]).could_not("write ID.KEY=VALUE");
    let run = project.oaken(&["whatif", "tide.still.max=4"]);
    assert!(run.out.contains("Nothing would change"), "{}", run.out);
}
