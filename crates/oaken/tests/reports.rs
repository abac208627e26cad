//! What `list`, `show`, `uses` and `demo` say, as text, JSON and CSV.

mod support;

use serde_json::{Value, json};
use support::Project;

fn demo() -> Project {
    let project = Project::empty();
    let run = project.oaken(&["demo", "mail"]);
    assert_eq!(run.code, 0, "{}", run.err);
    project
}

/// A command on the demo project.
#[track_caller]
fn told(project: &Project, arguments: &[&str]) -> String {
    let run = project.oaken(&[arguments, &["--project", "mail"]].concat());
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    run.out
}

#[track_caller]
fn document(project: &Project, arguments: &[&str]) -> Value {
    let out = told(project, &[arguments, &["--format", "json"]].concat());
    serde_json::from_str(&out).unwrap_or_else(|error| panic!("{error}: {out}"))
}

#[test]
fn the_list_is_filtered_and_sorted() {
    let project = demo();
    let ids = |arguments: &[&str]| -> Vec<String> {
        let list = document(&project, &[&["list"], arguments].concat());
        let rows = list["variables"].as_array().expect("variables");
        rows.iter().filter_map(|row| row["id"].as_str().or(row["variable"].as_str()).map(str::to_owned)).collect()
    };
    assert_eq!(ids(&["--owner", "lighthouse"]), ["lighthouse.keeper_awake", "lighthouse.lit", "lighthouse.oil"]);
    assert_eq!(
        ids(&["--owner", "lighthouse", "--sort", "file"]),
        ["lighthouse.lit", "lighthouse.oil", "lighthouse.keeper_awake"]
    );
    assert_eq!(ids(&["--type", "ref"]), ["mailboat.called_by"]);
    assert_eq!(ids(&["--scope", "type"]), ["mailboat.fleet_mood", "mailboat.leak_rate"]);
    assert_eq!(ids(&["--unused"]), ["office.stamp_price"]);
    assert_eq!(ids(&["--tag", "tuning", "--scope", "global"]), ["office.rate"]);
    assert_eq!(ids(&["--steward", "people", "--type", "text"]), ["islander.island"]);
    assert_eq!(ids(&["--scope", "scene", "--type", "ref"]), Vec::<String>::new());
    for (arguments, why) in [
        (&["list", "--owner", "lighthous"][..], "did you mean `lighthouse`?"),
        (&["list", "--tag", "tunning"], "did you mean `tuning`?"),
        (&["list", "--type", "integer"], "there is no type `integer`"),
    ] {
        project.oaken(&[arguments, &["--project", "mail"]].concat()).could_not(why);
    }
}

#[test]
fn the_list_as_csv_has_the_same_rows() {
    let project = demo();
    let csv = told(&project, &["list", "--owner", "tide", "--format", "csv"]);
    let mut reader = csv::Reader::from_reader(csv.as_bytes());
    assert_eq!(reader.headers().expect("a head").get(0), Some("variable"));
    let rows: Vec<csv::StringRecord> = reader.records().map(|row| row.expect("a row")).collect();
    assert_eq!(rows.len(), 3);
    assert_eq!((rows[0].get(0), rows[0].get(4)), (Some("tide.height"), Some("0 to 6")));
    let text = told(&project, &["list", "--owner", "tide"]);
    assert!(text.contains("3 variables of 40"), "{text}");
}

#[test]
fn everything_about_one_variable_is_on_one_screen() {
    let project = demo();
    let text = told(&project, &["show", "parcels"]);
    for part in [
        "mailboat.parcels  registry/boats.toml:3",
        "range      0 to hold_size",
        "steward    boats",
        "instances  dusk_boat 2",
        "scripts/loading.oaken:9      on touched       parcels += other.weight",
        "from 2 (dusk_boat) to 20, `max`, `mailboat.hold_size`",
        "error range/can-exceed at scripts/loading.oaken:9",
    ] {
        assert!(text.contains(part), "not there: {part}\n{text}");
    }
    assert!(text.lines().count() <= 40, "one screen: {}", text.lines().count());
    let show = document(&project, &["show", "mailboat.parcels"]);
    assert_eq!(show["variable"], "mailboat.parcels");
    let rules: Vec<&str> =
        show["findings"].as_array().expect("findings").iter().filter_map(|f| f["rule"].as_str()).collect();
    assert!(rules.contains(&"range/can-exceed"), "{rules:?}");
    assert!(show["steps"].as_array().is_some_and(|steps| !steps.is_empty()));
    let writes = show["uses"].as_array().expect("uses").iter().filter(|at| at["kind"] == "write").count();
    assert_eq!(writes, 2);
    project.oaken(&["show", "moood", "--project", "mail"]).could_not("did you mean `mood`");
}

#[test]
fn uses_name_places_in_all_kinds_of_files() {
    let project = demo();
    let uses = document(&project, &["uses", "harbor"]);
    let mut files: Vec<&str> =
        uses["uses"].as_array().expect("uses").iter().filter_map(|at| at["file"].as_str()).collect();
    files.dedup();
    for file in
        ["oaken.toml", "registry/owners.toml", "registry/world.toml", "scripts/harbor.oaken", "rehearsals/queue.toml"]
    {
        assert!(files.contains(&file), "{file} is not in {files:?}");
    }
}

#[test]
fn the_demo_s_findings_have_witnesses_and_its_rehearsals_an_outcome() {
    let project = demo();
    let check = document(&project, &["check", "--prove", "--fail-on", "never"]);
    let provable = |finding: &&Value| {
        let rule = finding["rule"].as_str().unwrap_or("");
        let of_fault = ["range/can-", "init/empty", "invariant/", "sharing/lost", "sharing/unchecked", "range/unknown"];
        finding["level"] == "error" && of_fault.iter().any(|name| rule.starts_with(name))
    };
    let findings = check["findings"].as_array().expect("findings");
    let of_fault: Vec<&Value> = findings.iter().filter(provable).collect();
    let proven = of_fault.iter().filter(|finding| finding["witness"]["replayed"] == true).count();
    assert!(of_fault.len() >= 9, "{}", of_fault.len());
    assert!(proven * 10 >= of_fault.len() * 9, "{proven} of {}", of_fault.len());
    let run = project.oaken(&["rehearse", "--format", "json", "--project", "mail"]);
    let played: Value = serde_json::from_str(&run.out).expect("JSON");
    assert_eq!(played["summary"], json!({ "passed": 4, "failed": 6, "unreadable": 0 }));
}
