//! `oaken check`: its output, its JSON, its exit codes.

mod support;

use support::{CONFIG, Project, RISE, TIDE};

#[test]
fn a_finding_says_what_happens_with_the_numbers_and_the_cure() {
    let run = Project::tide().oaken(&["check"]);
    assert_eq!(run.code, 1);
    for words in [
        "scripts/tide.oaken",
        "4:5",
        "error",
        "range/can-exceed",
        "height += 1",
        "`height` is 0 to 6 here, `height += 1` makes it up to 7, and its `max` is 6.",
        "height = min(height, height.max)",
        "1 error and 1 note in 1 variable and 1 script.",
    ] {
        assert!(run.out.replace("\n           ", " ").contains(words), "not said: {words}\n{}", run.out);
    }
    assert_eq!(run.err, "");
}

#[test]
fn the_numbers_are_those_of_all_ways_to_a_place() {
    let project = Project::tide();
    let room = "[variables.tide.room]\ntype = \"int\"\nscope = \"global\"\ndefault = 30\nmin = 10\nmax = 60\n";
    let height = TIDE.replace("max = 6", "max = \"tide.room\"").replace("default = 0", "default = 5");
    project.write("registry/tide.toml", format!("{height}[signals.horn]\nfrom = \"engine\"\n{room}"));
    let falls = "on bell {\n    if height >= 2 {\n        height -= 3\n    }\n}\n";
    let rises = "on horn {\n    height = min(height + 5, room)\n    room -= 1\n}\n";
    project.write("scripts/tide.oaken", format!("script tides for tide\n{falls}{rises}"));
    let told = project.findings().into_iter().map(|finding| finding["message"].to_string());
    let falls: Vec<String> = told.filter(|message| message.contains("height -= 3")).collect();
    assert!(matches!(&falls[..], [one] if one.contains("`height` is 2 to 30 here")), "{falls:?}");
}

#[test]
fn the_json_has_the_fields_of_the_contract() {
    let project = Project::tide();
    let run = project.oaken(&["check", "--format", "json"]);
    assert_eq!(run.code, 1);
    let document: serde_json::Value = serde_json::from_str(&run.out).expect("JSON");
    assert_eq!(document["schema"], "oaken-census/findings/1");
    assert_eq!(document["project"], "Saltmarsh Mail");
    let summary = &document["summary"];
    let counts =
        ["errors", "warnings", "notes", "waived", "accepted", "variables", "scripts"].map(|key| summary[key].as_u64());
    assert_eq!(counts, [1, 0, 1, 0, 0, 1, 1].map(Some));
    let finding = document["findings"].as_array().and_then(|all| all.last()).expect("a finding");
    assert_eq!(finding["rule"], "range/can-exceed");
    assert_eq!(finding["level"], "error");
    assert_eq!(finding["file"], "scripts/tide.oaken");
    let place = ["line", "column", "end_line", "end_column"].map(|key| finding[key].as_u64());
    assert_eq!(place, [4, 5, 4, 16].map(Some));
    assert_eq!(finding["variable"], "tide.height");
    assert_eq!(finding["witness"], serde_json::Value::Null);
    assert_eq!(finding["related"][0]["file"], "registry/tide.toml");
    assert_eq!(finding["related"][0]["line"], 10);
    assert_eq!(finding["fingerprint"].as_str().map(str::len), Some(16));
}

#[test]
fn exit_codes_follow_the_level_asked_for() {
    let project = Project::tide();
    assert_eq!(project.oaken(&["check", "--fail-on", "never"]).code, 0);
    assert_eq!(project.oaken(&["check", "--fail-on", "error"]).code, 1);
    project.write("scripts/tide.oaken", RISE.replace("height += 1", "height = +1"));
    assert_eq!(project.oaken(&["check"]).code, 0, "a warning is no error");
    assert_eq!(project.oaken(&["check", "--fail-on", "warning"]).code, 1);
    assert_eq!(project.oaken(&["check", "--fail-on", "sometimes"]).code, 2);
}

#[test]
fn findings_stand_in_the_order_of_file_line_and_column() {
    let project = Project::tide();
    project.write("scripts/a.oaken", "script one for tide\n\non bell {\n    foo = 1\n    bar = baz\n}\n");
    let marks = project.marks();
    let mut sorted = marks.clone();
    sorted.sort();
    assert_eq!(marks, sorted);
    assert_eq!(marks.iter().filter(|mark| mark.ends_with("registry/unknown-name")).count(), 3, "{marks:?}");
}

#[test]
fn paths_choose_what_is_shown() {
    let project = Project::tide();
    project.write("scripts/a.oaken", "script one for tide\n\non bell {\n    foo = 1\n}\n");
    let run = project.oaken(&["check", "scripts/a.oaken"]);
    assert!(run.out.contains("scripts/a.oaken") && !run.out.contains("range/can-exceed"), "{}", run.out);
    let run = project.oaken(&["check", "registry"]);
    assert_eq!(run.code, 0, "{}", run.out);
    project.oaken(&["check", "scripts/none.oaken"]).could_not("can't be read");
    project.oaken(&["check", "/tmp"]).could_not("outside the project");
}

#[test]
fn levels_are_the_projects_to_set() {
    let project = Project::tide();
    project.write("oaken.toml", format!("{CONFIG}\n[rules]\n\"range/can-exceed\" = \"warning\"\nrange = \"off\"\n"));
    let run = project.oaken(&["check"]);
    assert_eq!(run.code, 0);
    assert!(run.out.contains("1 warning in 1 variable"), "{}", run.out);
    project.write("oaken.toml", format!("{CONFIG}\n[rules]\n\"range/can-excede\" = \"warning\"\n"));
    assert!(project.marks().contains(&"oaken.toml:5 registry/bad-entry".to_owned()), "{:?}", project.marks());
}

#[test]
fn a_waiver_with_a_reason_is_counted_and_one_without_is_a_finding() {
    let project = Project::tide();
    let waived = RISE.replace("    height", "    // waive range/can-exceed: the flood of act 3\n    height");
    project.write("scripts/tide.oaken", &waived);
    let run = project.oaken(&["check"]);
    assert_eq!(run.code, 0, "{}", run.out);
    assert!(run.out.contains("1 finding waived."), "{}", run.out);
    project.write("scripts/tide.oaken", waived.replace(": the flood of act 3", ""));
    let marks = project.marks();
    assert!(marks.contains(&"scripts/tide.oaken:4 registry/bad-waiver".to_owned()), "{marks:?}");
    assert!(marks.contains(&"scripts/tide.oaken:5 range/can-exceed".to_owned()), "{marks:?}");
}

#[test]
fn a_fingerprint_survives_moved_lines() {
    let project = Project::tide();
    let fingerprint = |project: &Project| {
        let all = project.findings();
        let found = all.iter().find(|finding| finding["rule"] == "range/can-exceed").expect("the finding").clone();
        found["fingerprint"].as_str().expect("a fingerprint").to_owned()
    };
    let before = fingerprint(&project);
    project.write("scripts/tide.oaken", RISE.replace("on bell", "// one\n// two\n\non bell"));
    assert_eq!(fingerprint(&project), before);
    project.write("scripts/tide.oaken", RISE.replace("+= 1", "+= 2"));
    assert_ne!(fingerprint(&project), before);
}

#[test]
fn the_project_is_found_from_below_and_by_name() {
    let project = Project::tide();
    let root = project.root().to_str().expect("a path");
    let elsewhere = Project::empty();
    let run = elsewhere.oaken(&["check", "--project", root]);
    assert_eq!(run.code, 1, "{}", run.err);
    elsewhere.oaken(&["check"]).could_not("`oaken init` makes a project");
    elsewhere.oaken(&["check", "--project", "."]).could_not("there is no `oaken.toml`");
    let below = std::process::Command::new(env!("CARGO_BIN_EXE_oaken"))
        .arg("check")
        .current_dir(project.path("scripts"))
        .output()
        .expect("the program");
    assert_eq!(below.status.code(), Some(1));
}

#[test]
fn nothing_of_a_file_reaches_the_terminal_unescaped() {
    let project = Project::tide();
    let nasty = "script tides for tide\n\non bell {\n    height = \"\u{1b}[31mred\u{7}\u{202e}\"\n}\n";
    project.write("scripts/tide.oaken", nasty);
    let run = project.oaken(&["check"]);
    assert!(run.out.contains("type/mismatch"), "{}", run.out);
    for c in ['\u{1b}', '\u{7}', '\u{202e}'] {
        assert!(!run.out.contains(c), "{c:?} came through");
    }
}

#[test]
fn the_same_twice_is_reported_with_both_places() {
    let project = Project::tide();
    project.write("registry/later.toml", "[variables.tide.height]\ntype = \"int\"\nscope = \"global\"\n");
    let all = project.findings();
    let double = all.iter().find(|finding| finding["rule"] == "registry/duplicate").expect("a finding");
    assert_eq!(double["file"], "registry/tide.toml");
    assert_eq!(double["related"][0]["file"], "registry/later.toml");
    project.write("registry/later.toml", TIDE);
    let double = project.marks().iter().filter(|mark| mark.ends_with("registry/duplicate")).count();
    assert_eq!(double, 3, "an owner, a variable and a signal");
}
