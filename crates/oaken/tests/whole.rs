//! Edits of many files: all of them or none, whatever happens.

mod support;

use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;
use support::Project;

const FILES: usize = 500;

fn many() -> Project {
    let project = Project::empty();
    project.write("oaken.toml", "[project]\nname = \"Saltmarsh Mail\"\n[sharing]\nwriters = \"anyone\"\n");
    project.write(
        "registry/tide.toml",
        "[owners.tide]\nkind = \"system\"\n[signals.bell]\nfrom = \"engine\"\nto = \"all\"\n[variables.tide.height]\ntype = \"int\"\nscope = \"global\"\ndefault = 0\n",
    );
    for at in 0..FILES {
        let script = format!("script s{at} for tide\n\non bell {{\n    height += {at}\n    note \"{{height}}\"\n}}\n");
        project.write(&format!("scripts/s{at}.oaken"), script);
    }
    project
}

/// How many scripts have the old name, and how many the new one.
fn names(project: &Project) -> (usize, usize) {
    let mut counts = (0, 0);
    for at in 0..FILES {
        let text = project.read(&format!("scripts/s{at}.oaken"));
        counts.0 += usize::from(text.contains("height"));
        counts.1 += usize::from(text.contains("level"));
        assert_eq!(text.lines().count(), 6, "a script was cut: {text}");
    }
    counts
}

fn left_over(folder: &Path) -> Vec<String> {
    let entries = std::fs::read_dir(folder)
        .expect("a folder")
        .chain(std::fs::read_dir(folder.join("scripts")).expect("a folder"));
    let names = entries.map(|entry| entry.expect("an entry").file_name().to_string_lossy().into_owned());
    names.filter(|name| name.contains("oaken-new") || name.contains("oaken-edit") || name.starts_with(".tmp")).collect()
}

#[test]
fn a_rename_that_is_killed_leaves_the_old_project_or_the_new_one() {
    let project = many();
    let mut ends = (0, 0);
    // Later and later, until the rename comes through by itself; and back again with the names turned round.
    for round in 0..14_u64 {
        let (from, to) = if names(&project).0 == FILES { ("height", "level") } else { ("level", "height") };
        let mut child = Command::new(env!("CARGO_BIN_EXE_oaken"))
            .args(["rename", from, to])
            .current_dir(project.root())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("the program");
        std::thread::sleep(Duration::from_millis(20 + round * 45));
        child.kill().ok();
        child.wait().expect("its end");
        let next = project.oaken(&["list"]);
        assert_eq!(next.code, 0, "{}", next.err);
        let (old, new) = names(&project);
        assert!(old == FILES && new == 0 || old == 0 && new == FILES, "half of it: {old} old, {new} new; {}", next.err);
        let registry = project.read("registry/tide.toml");
        assert_eq!(registry.contains("tide.height"), old == FILES, "the registry does not agree");
        if old == FILES {
            ends.0 += 1
        } else {
            ends.1 += 1
        }
        let left: Vec<String> =
            left_over(project.root()).into_iter().filter(|name| !name.starts_with(".tmp")).collect();
        assert_eq!(left, Vec::<String>::new(), "something was left lying about");
    }
    assert!(ends.0 + ends.1 == 14);
}

#[test]
fn an_edit_that_was_written_down_is_completed_by_the_next_command() {
    let project = many();
    // What a program leaves that is killed between its last word in the journal and the renames.
    let text = project.read("scripts/s1.oaken").replace("height", "depth");
    project.write("scripts/s1.oaken.oaken-new", &text);
    project.write(".oaken-edit.json", "{\"ready\":true,\"files\":[\"scripts/s0.oaken\",\"scripts/s1.oaken\"]}");
    let run = project.oaken(&["list"]);
    assert!(run.err.contains("An edit of 2 files was interrupted; it is completed now."), "{}", run.err);
    assert_eq!(project.read("scripts/s1.oaken"), text);
    assert_eq!(left_over(project.root()), Vec::<String>::new());
    // And one that is killed before.
    project.write("scripts/s2.oaken.oaken-new", "half a scr");
    project.write(".oaken-edit.json", "{\"ready\":false,\"files\":[\"scripts/s2.oaken\"]}");
    let run = project.oaken(&["list"]);
    assert!(run.err.contains("was interrupted before it began; nothing was changed"), "{}", run.err);
    assert!(project.read("scripts/s2.oaken").contains("height += 2"));
    // And one that somebody else wrote, to reach files that are none of the project's.
    let outside = tempfile::tempdir().expect("another folder");
    let (mine, new) = (outside.path().join("mine"), outside.path().join("mine.oaken-new"));
    std::fs::write(&mine, "mine").expect("a file");
    std::fs::write(&new, "theirs").expect("a file");
    let climbing = format!("../{}/mine", outside.path().file_name().expect("a name").to_string_lossy());
    for ready in [true, false] {
        let journal = serde_json::json!({ "ready": ready, "files": [mine.to_string_lossy(), climbing] });
        project.write(".oaken-edit.json", journal.to_string());
        assert_eq!(project.oaken(&["list"]).code, 0);
        assert_eq!(std::fs::read_to_string(&mine).expect("the file"), "mine");
        assert!(new.exists(), "it is not ours to take away");
    }
    assert_eq!(left_over(project.root()), Vec::<String>::new());
}

#[test]
fn edits_at_the_same_time_are_all_done() {
    let project = many();
    let children: Vec<_> = (0..6)
        .map(|at| {
            Command::new(env!("CARGO_BIN_EXE_oaken"))
                .args(["add", &format!("tide.extra{at}"), "--type", "int", "--default", "0"])
                .current_dir(project.root())
                .stdout(Stdio::null())
                .spawn()
                .expect("the program")
        })
        .collect();
    for mut child in children {
        assert!(child.wait().expect("its end").success());
    }
    let registry = project.read("registry/tide.toml");
    for at in 0..6 {
        assert!(registry.contains(&format!("[variables.tide.extra{at}]")), "{registry}");
    }
}

#[cfg(unix)]
#[test]
fn a_read_only_file_changes_nothing() {
    use std::os::unix::fs::PermissionsExt;
    let project = many();
    let path = project.path("scripts/s250.oaken");
    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o444)).expect("permissions");
    project.oaken(&["rename", "height", "level"]).could_not("scripts/s250.oaken is read-only; nothing was changed");
    assert_eq!(names(&project), (FILES, 0));
    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o755)).expect("permissions");
    assert_eq!(project.oaken(&["rename", "height", "level"]).code, 0);
    assert_eq!(names(&project), (0, FILES));
    let mode = std::fs::metadata(&path).expect("the file").permissions().mode();
    assert_eq!(mode & 0o777, 0o755, "permissions stay");
    assert_eq!(left_over(project.root()), Vec::<String>::new());
}

/// A disk that takes no more than a part of the new files: the shell's limit on a file's size stands in for it.
#[cfg(unix)]
#[test]
fn a_disk_that_is_full_changes_nothing() {
    let project = many();
    let long = "script long for tide\n\non bell {\n    height += 1\n}\n".to_owned() + &"// On and on.\n".repeat(4000);
    project.write("scripts/long.oaken", &long);
    let run = Command::new("sh")
        .args(["-c", "trap '' XFSZ; ulimit -f 8; exec \"$0\" rename height level", env!("CARGO_BIN_EXE_oaken")])
        .current_dir(project.root())
        .output()
        .expect("a shell");
    let told = String::from_utf8_lossy(&run.stderr).into_owned();
    assert_eq!(run.status.code(), Some(2), "{told}");
    assert!(told.contains("nothing was changed"), "{told}");
    assert_eq!(names(&project), (FILES, 0));
    assert_eq!(project.read("scripts/long.oaken"), long);
    assert_eq!(left_over(project.root()), Vec::<String>::new());
    assert_eq!(project.oaken(&["rename", "height", "level"]).code, 0, "with room again it goes through");
    assert_eq!(names(&project), (0, FILES));
}
