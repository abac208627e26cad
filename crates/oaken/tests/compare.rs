//! `oaken compare`, on folders and in a real repository.

mod support;

use std::process::Command;
use support::{CONFIG, Project, TIDE};

const OLD: &str = r#"[owners.tide]
kind = "system"
[variables.tide]
height = { type = "int", scope = "global", default = 3, min = 0, max = 6, lifetime = "saved" }
mood = { type = "enum", scope = "global", values = ["calm", "storm", "fog"], default = "calm", lifetime = "saved" }
gone = { type = "int", scope = "global", default = 1, lifetime = "saved" }
brief = { type = "int", scope = "global", default = 1 }
coins = { type = "int", scope = "global", default = 10, about = "What the office has" }
kept = { type = "int", scope = "global", default = 1, lifetime = "saved" }
wide = { type = "number", scope = "global", default = 1, max = 5 }
"#;

const NEW: &str = r#"[owners.tide]
kind = "system"
[owners.office]
kind = "system"
[variables.tide]
height = { type = "int", scope = "global", default = 2, min = 0, max = 5, lifetime = "saved" }
mood = { type = "enum", scope = "global", values = ["calm", "storm", "gale"], default = "calm", lifetime = "saved" }
purse = { type = "int", scope = "global", default = 10, about = "What the office has", writers = ["office"] }
held = { type = "int", scope = "global", default = 1, lifetime = "saved", formerly = ["tide.kept"] }
wide = { type = "number", scope = "global", default = 1, max = 9 }
fresh = { type = "bool", scope = "global", default = true }
"#;

fn folders() -> Project {
    let project = Project::empty();
    for (name, registry) in [("old", OLD), ("new", NEW)] {
        project.write(&format!("{name}/oaken.toml"), CONFIG);
        project.write(&format!("{name}/registry/all.toml"), registry);
    }
    project
}

#[test]
fn every_kind_of_change_is_told_and_what_breaks_saves() {
    let project = folders();
    let run = project.oaken(&["compare", "old", "new", "--format", "json"]);
    let document: serde_json::Value = serde_json::from_str(&run.out).expect("JSON");
    let changes = document["changes"].as_array().expect("changes");
    let told = |id: &str, kind: &str| {
        let found = changes.iter().find(|change| change["id"] == id && change["kind"] == kind);
        found.unwrap_or_else(|| panic!("no {kind} of {id} in {}", run.out)).clone()
    };
    for (id, kind, breaks, text) in [
        ("tide.height", "narrowed", true, "0 to 6 → 0 to 5"),
        ("tide.height", "default", false, "3 → 2"),
        ("tide.mood", "values", true, "gone: `fog`; new: `gale`"),
        ("tide.gone", "removed", true, "was int, global"),
        ("tide.brief", "removed", false, "was int, global"),
        ("tide.purse", "renamed", false, "was `tide.coins`, by its content"),
        ("tide.purse", "writers", false, "its owner → its owner, `office`"),
        ("tide.held", "renamed", false, "was `tide.kept`"),
        ("tide.wide", "widened", false, "any depth to 5 → any depth to 9"),
        ("tide.fresh", "added", false, "bool, global, true"),
        ("office", "added", false, "the owner"),
    ] {
        let change = told(id, kind);
        assert_eq!((&change["breaks_saves"], &change["text"]), (&breaks.into(), &text.into()), "{id} {kind}");
    }
    assert_eq!(changes.len(), 11, "{}", run.out);
    assert_eq!(project.oaken(&["compare", "old", "new", "--fail-on", "saves"]).code, 1);
    assert_eq!(project.oaken(&["compare", "old", "old", "--fail-on", "any"]).code, 0);
    let markdown = project.oaken(&["compare", "old", "new", "--format", "markdown"]).out;
    assert!(
        markdown.contains("| removed | tide.gone | was int, global | saves hold a value that nothing reads |"),
        "{markdown}"
    );
    let text = project.oaken(&["compare", "old", "new"]).out;
    assert!(text.contains("11 changes; 3 break saves."), "{text}");
}

#[test]
fn a_registry_at_the_root_is_found_in_a_revision_too() {
    let project = Project::empty();
    project.write("oaken.toml", format!("{CONFIG}registry = [\".\"]\nscripts = [\"./scripts/\"]\n"));
    project.write("tide.toml", TIDE);
    project.write("scripts/tide.oaken", support::RISE);
    git(&project, &["init", "-q"]);
    git(&project, &["add", "-A"]);
    git(&project, &["commit", "-qm", "one"]);
    let run = project.oaken(&["compare", "HEAD", "--fail-on", "any"]);
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
}

fn git(project: &Project, arguments: &[&str]) {
    let done = Command::new("git")
        .args(["-c", "user.name=boats", "-c", "user.email=boats@example.org", "-c", "init.defaultBranch=main"])
        .args(arguments)
        .current_dir(project.root())
        .output()
        .expect("git");
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
}

#[test]
fn revisions_of_a_repository_are_compared() {
    let project = Project::empty();
    git(&project, &["init", "-q"]);
    project.write("mail/oaken.toml", CONFIG);
    project.write("mail/registry/tide.toml", TIDE);
    git(&project, &["add", "-A"]);
    git(&project, &["commit", "-qm", "one"]);
    project.write("mail/registry/tide.toml", TIDE.replace("max = 6", "max = 4"));
    git(&project, &["commit", "-qam", "two"]);
    project.write("mail/registry/tide.toml", TIDE.replace("max = 6", "max = 9"));
    let compare = |arguments: &[&str]| project.oaken(&[&["compare", "--project", "mail"], arguments].concat());
    let since = compare(&["HEAD"]);
    assert!(since.out.contains("0 to 4 → 0 to 9"), "{}{}", since.out, since.err);
    let between = compare(&["HEAD~1", "HEAD"]);
    assert!(between.out.contains("narrowed") && between.out.contains("0 to 6 → 0 to 4"), "{}", between.out);
    compare(&["HEAD~7"]).could_not("HEAD~7 is no project's folder, and no revision that git knows here");
    compare(&["--fail-on=any", "--output=x"]).could_not("unexpected argument");
    assert_eq!(compare(&["HEAD", "HEAD", "--fail-on", "any"]).code, 0);
}
