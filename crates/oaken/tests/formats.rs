//! What `oaken check` writes for other programs, and the findings that a project accepts.

mod support;

use support::{CONFIG, Project, RISE, TIDE};

fn sarif(project: &Project) -> serde_sarif::sarif::Sarif {
    let run = project.oaken(&["check", "--format", "sarif"]);
    serde_json::from_str(&run.out).expect("a SARIF document")
}

#[test]
fn sarif_fits_the_model_of_its_schema() {
    let project = Project::tide();
    let document = sarif(&project);
    assert_eq!(serde_json::to_value(&document.version).expect("a version"), "2.1.0");
    let run = &document.runs[0];
    assert_eq!(run.tool.driver.name, "Oaken Census");
    let results = run.results.as_ref().expect("results");
    let found = results.iter().find(|result| result.rule_id.as_deref() == Some("range/can-exceed")).expect("the error");
    assert_eq!(serde_json::to_value(found.level).expect("a level"), "error");
    let rules = run.tool.driver.rules.as_ref().expect("rules");
    let index = usize::try_from(found.rule_index.expect("an index")).expect("a place in the list");
    assert_eq!(rules[index].id, "range/can-exceed");
    let place = found.locations.as_ref().expect("places")[0].physical_location.as_ref().expect("a place");
    let region = place.region.as_ref().expect("a region");
    assert_eq!((region.start_line, region.start_column), (Some(4), Some(5)));
    assert_eq!((region.end_line, region.end_column), (Some(4), Some(16)));
    let file = place.artifact_location.as_ref().expect("a file");
    assert_eq!(file.uri.as_deref(), Some("scripts/tide.oaken"));
    let related = found.related_locations.as_ref().expect("what it goes with");
    assert_eq!(related.len(), 1);
    assert!(found.message.text.as_deref().is_some_and(|text| text.contains("makes it up to 7")));
}

#[test]
fn sarif_of_a_clean_project_has_no_results() {
    let project = Project::tide();
    project.write(
        "scripts/tide.oaken",
        "script tides for tide\n\non bell {\n    if height < 6 { height += 1 } else { height = 0 }\n}\n",
    );
    let document = sarif(&project);
    let results = document.runs[0].results.as_ref().expect("results");
    assert!(results.iter().all(|result| result.rule_id.as_deref() != Some("range/can-exceed")));
}

#[test]
fn paths_become_uris() {
    let project = Project::tide();
    project.write("scripts/high tide ß.oaken", RISE);
    let run = project.oaken(&["check", "--format", "sarif"]);
    assert!(run.out.contains("scripts/high%20tide%20%C3%9F.oaken"), "{}", run.out);
}

#[test]
fn workflow_commands_stand_one_a_line() {
    let project = Project::tide();
    let run = project.oaken(&["check", "--format", "github"]);
    assert_eq!(run.code, 1);
    let line = run.out.lines().find(|line| line.contains("range/can-exceed")).expect("the error");
    assert!(
        line.starts_with(
            "::error file=scripts/tide.oaken,line=4,endLine=4,col=5,endColumn=16,title=range/can-exceed::"
        )
    );
    assert!(line.contains("more than 5.%0Awrite `height"), "{line}");
    assert!(run.out.lines().all(|line| line.starts_with("::")), "{}", run.out);
}

#[test]
fn a_text_from_a_file_starts_no_command() {
    let project = Project::tide();
    project.write("scripts/tide.oaken", "script tides for tide\n\non bell {\n    mast%0A::error::x = 1\n}\n");
    let run = project.oaken(&["check", "--format", "github"]);
    assert!(run.out.lines().all(|line| line.starts_with("::error file=")
        || line.starts_with("::notice file=")
        || line.starts_with("::warning file=")));
}

#[test]
fn accepted_findings_no_longer_count() {
    let project = Project::tide();
    let run = project.oaken(&["check", "--accept"]);
    assert_eq!(run.code, 0);
    assert!(run.out.contains("2 findings accepted in accepted.toml"), "{}", run.out);
    let text = project.read("accepted.toml");
    let entries: Vec<&str> = text.lines().filter(|line| line.contains("rule = ")).collect();
    assert_eq!(entries.len(), 2);
    assert!(
        entries[1].contains("rule = \"range/can-exceed\", file = \"scripts/tide.oaken\", at = \"height += 1\""),
        "{text}"
    );
    let run = project.oaken(&["check"]);
    assert_eq!(run.code, 0);
    assert!(run.out.contains("Nothing to report") && run.out.contains("2 findings accepted before."), "{}", run.out);
}

#[test]
fn what_is_new_counts_beside_what_was_accepted() {
    let project = Project::tide();
    project.oaken(&["check", "--accept"]);
    project.write("scripts/tide.oaken", RISE.replace("    height += 1\n", "    height += 1\n    height -= 3\n"));
    let run = project.oaken(&["check", "--fail-on", "error"]);
    assert_eq!(run.code, 1, "{}", run.out);
    assert!(run.out.contains("height -= 3"), "{}", run.out);
}

#[test]
fn accepting_survives_moved_lines_and_tells_what_can_go() {
    let project = Project::tide();
    project.oaken(&["check", "--accept"]);
    project.write("scripts/tide.oaken", RISE.replace("on bell", "// up it goes\n\non bell"));
    let run = project.oaken(&["check"]);
    assert_eq!((run.code, run.err.as_str()), (0, ""), "{}", run.out);
    project.write("scripts/tide.oaken", RISE.replace("height += 1", "if height < 6 { height += 1 }"));
    let run = project.oaken(&["check"]);
    assert!(run.err.contains("2 lines of accepted.toml can go"), "{}", run.err);
}

#[test]
fn the_accepted_file_is_sorted_and_the_same_twice() {
    let project = Project::tide();
    project.write("scripts/a.oaken", "script one for tide\n\non bell {\n    foo = 1\n    bar = 2\n}\n");
    project.oaken(&["check", "--accept"]);
    let first = project.read("accepted.toml");
    let files: Vec<&str> = first.lines().filter_map(|line| line.split("file = ").nth(1)).collect();
    let mut sorted = files.clone();
    sorted.sort_unstable();
    assert_eq!(files, sorted);
    project.oaken(&["check", "--accept"]);
    assert_eq!(project.read("accepted.toml"), first);
}

#[test]
fn a_broken_accepted_file_is_told_and_left_alone() {
    let project = Project::tide();
    project.write("accepted.toml", "[accepted\n");
    project.oaken(&["check"]).could_not("accepted.toml, line 1: this is not TOML");
    assert_eq!(project.read("accepted.toml"), "[accepted\n");
    project.write("accepted.toml", "accepted = 3\n");
    project.oaken(&["check"]).could_not("`accepted` is no table");
}

#[test]
fn accepting_and_choosing_files_do_not_go_together() {
    let project = Project::tide();
    assert_eq!(project.oaken(&["check", "--accept", "scripts"]).code, 2);
    assert!(!project.path("accepted.toml").exists());
}

#[test]
fn every_format_agrees_on_what_is_found() {
    let project = Project::empty();
    project.write("oaken.toml", CONFIG);
    project.write("registry/tide.toml", TIDE);
    project.write("scripts/tide.oaken", RISE.replace("height += 1", "height += 1\n    hieght = 2"));
    let json: serde_json::Value =
        serde_json::from_str(&project.oaken(&["check", "--format", "json"]).out).expect("JSON");
    let found = json["findings"].as_array().expect("findings").len();
    let results = sarif(&project).runs[0].results.as_ref().map_or(0, Vec::len);
    let commands = project.oaken(&["check", "--format", "github"]).out.lines().count();
    assert_eq!((results, commands), (found, found));
}
