//! The commands beside `check`, run as a user would.

mod support;

use support::{Project, TIDE};

#[test]
fn a_new_project_checks_clean() {
    let project = Project::empty();
    let run = project.oaken(&["init", "ferry"]);
    assert_eq!(run.code, 0, "{}", run.err);
    let check = project.oaken(&["check", "--project", "ferry", "--fail-on", "note"]);
    assert_eq!(check.code, 0, "{}", check.out);
    assert!(check.out.contains("Nothing to report in 1 variable and 1 script."), "{}", check.out);
    assert!(project.read("ferry/oaken.toml").contains("name = \"ferry\""));
    project.oaken(&["init", "ferry"]).could_not("is there already; nothing was changed");
}

#[test]
fn the_demo_is_big_enough_and_has_its_mistakes() {
    let project = Project::empty();
    let run = project.oaken(&["demo", "mail"]);
    assert_eq!(run.code, 0, "{}", run.err);
    assert!(run.out.contains("$ oaken check"), "{}", run.out);
    let check = project.oaken(&["check", "--project", "mail", "--format", "json"]);
    let document: serde_json::Value = serde_json::from_str(&check.out).expect("JSON");
    assert!(document["summary"]["variables"].as_u64() >= Some(40));
    assert!(document["summary"]["scripts"].as_u64() >= Some(12));
    let mut rules: Vec<&str> = document["findings"]
        .as_array()
        .expect("findings")
        .iter()
        .filter_map(|finding| finding["rule"].as_str())
        .collect();
    rules.sort_unstable();
    rules.dedup();
    for rule in
        ["range/can-exceed", "sharing/stuck-guard", "sharing/lost-update", "type/plus-sign-assign", "init/empty-ref"]
    {
        assert!(rules.contains(&rule), "{rule} is not among {rules:?}");
    }
    project.oaken(&["demo", "mail"]).could_not("is there already");
}

#[test]
fn every_rule_is_explained() {
    let project = Project::empty();
    let list = project.oaken(&["explain"]);
    assert!(list.out.contains("range/can-exceed") && list.out.contains("flow/endless-loop"), "{}", list.out);
    let one = project.oaken(&["explain", "range/can-exceed"]);
    assert!(one.out.contains("This is flagged:") && one.out.contains("parcels += 3"), "{}", one.out);
    project.oaken(&["explain", "range/can-excede"]).could_not("did you mean `range/can-exceed`?");
    project.oaken(&["explain", "range"]).could_not("it is a family");
    let json = project.oaken(&["explain", "--format", "json"]);
    let document: serde_json::Value = serde_json::from_str(&json.out).expect("JSON");
    let rules = document["rules"].as_array().expect("rules");
    assert!(rules.len() > 55, "{}", rules.len());
    for rule in rules {
        assert!(rule["means"].as_str().is_some_and(|text| text.ends_with('.')), "{rule}");
    }
}

#[test]
fn lists_are_filtered_and_a_slip_is_told() {
    let project = Project::tide();
    let all = project.oaken(&["list"]);
    assert!(all.out.contains("tide.height") && all.out.contains("0 to 6"), "{}", all.out);
    assert!(project.oaken(&["list", "--unused"]).out.contains("No variable fits"));
    assert!(project.oaken(&["list", "--steward", "world", "--type", "int"]).out.contains("tide.height"));
    project.oaken(&["list", "--owner", "tied"]).could_not("did you mean `tide`?");
    let json = project.oaken(&["list", "--format", "json"]);
    let document: serde_json::Value = serde_json::from_str(&json.out).expect("JSON");
    assert_eq!(document["variables"][0]["variable"], "tide.height");
    assert_eq!(document["variables"][0]["max"], 6.0);
}

#[test]
fn one_variable_is_shown_with_all_that_touches_it() {
    let project = Project::tide();
    let run = project.oaken(&["show", "height"]);
    for words in [
        "tide.height",
        "How high the water stands",
        "int, global scope",
        "0 to 6",
        "world",
        "scripts/tide.oaken:4",
        "on bell",
        "range/can-exceed",
    ] {
        assert!(run.out.contains(words), "not shown: {words}\n{}", run.out);
    }
    project.oaken(&["show", "tide.hieght"]).could_not("did you mean");
    let json = project.oaken(&["show", "tide.height", "--format", "json"]);
    let document: serde_json::Value = serde_json::from_str(&json.out).expect("JSON");
    assert_eq!(document["uses"].as_array().map(Vec::len), Some(2));
}

#[test]
fn an_entry_is_added_behind_its_owners_and_comments_stay() {
    let project = Project::tide();
    let run = project.oaken(&[
        "add",
        "tide.flow",
        "--type",
        "number",
        "--default",
        "-1.5",
        "--min",
        "-3",
        "--about",
        "A \"fast\" stream",
    ]);
    assert_eq!(run.code, 0, "{}", run.err);
    let entry = "[variables.tide.flow]\ntype = \"number\"\nscope = \"global\"\ndefault = -1.5\nmin = -3\nabout = 'A \"fast\" stream'\n";
    let text = project.read("registry/tide.toml");
    let expected = TIDE.replace("[signals.bell]", &format!("{entry}\n[signals.bell]"));
    assert_eq!(text, expected);
    assert!(!project.marks().iter().any(|mark| mark.contains("bad-entry")));
}

#[test]
fn an_entry_that_would_be_wrong_is_refused_and_nothing_changes() {
    let project = Project::tide();
    let before = project.read("registry/tide.toml");
    let cases: [(&[&str], &str); 7] = [
        (&["add", "tide.height", "--type", "int"], "is in the registry already"),
        (&["add", "tied.flow", "--type", "int"], "did you mean `tide`?"),
        (&["add", "flow", "--type", "int"], "write OWNER.NAME"),
        (&["add", "tide.flow", "--type", "int", "--default", "1.5"], "whole number"),
        (&["add", "tide.flow", "--type", "itn"], "did you mean `int`?"),
        (&["add", "tide.self", "--type", "int"], "word of the language"),
        (&["add", "tide.flow", "--type", "int", "--default", "1\nx = 2"], "can't be the value"),
    ];
    for (arguments, words) in cases {
        project.oaken(arguments).could_not(words);
        assert_eq!(project.read("registry/tide.toml"), before, "{arguments:?}");
    }
    let run = project.oaken(&["add", "tide.flow", "--type", "int", "--dry-run"]);
    assert_eq!((run.code, project.read("registry/tide.toml")), (0, before));
}

#[test]
fn a_read_only_file_is_left_alone() {
    let project = Project::tide();
    let path = project.path("registry/tide.toml");
    let mut permissions = std::fs::metadata(&path).expect("a file").permissions();
    permissions.set_readonly(true);
    std::fs::set_permissions(&path, permissions).expect("permissions");
    project.oaken(&["add", "tide.flow", "--type", "int", "--default", "0"]).could_not("read-only; nothing was changed");
    assert_eq!(project.read("registry/tide.toml"), TIDE);
}
