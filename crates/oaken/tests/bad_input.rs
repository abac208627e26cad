//! Inputs that nobody should write: each gives a clear message and the right exit code, and nothing crashes.

mod support;

use support::{CONFIG, Project, RISE, TIDE};

#[test]
fn a_broken_oaken_toml_is_named_with_its_place() {
    let project = Project::tide();
    project.write("oaken.toml", "[project]\nname = \"x\n");
    project.oaken(&["check"]).could_not("line 2");
    project.write("oaken.toml", "[project]\nnaem = \"x\"\n");
    let of_config = |project: &Project| -> Vec<String> {
        project.marks().into_iter().filter(|mark| mark.starts_with("oaken.toml")).collect()
    };
    assert_eq!(of_config(&project), ["oaken.toml:2 registry/bad-entry"], "the name is there, misspelled");
    project.write("oaken.toml", "[project]\nabout = \"x\"\n");
    assert_eq!(of_config(&project), ["oaken.toml:1 registry/bad-entry", "oaken.toml:2 registry/bad-entry"]);
}

#[test]
fn a_script_of_no_bytes_says_how_to_begin() {
    let project = Project::tide();
    project.write("scripts/empty.oaken", "");
    assert!(project.marks().contains(&"scripts/empty.oaken:1 syntax/error".to_owned()));
}

#[test]
fn bytes_that_are_no_text_are_one_finding() {
    let project = Project::tide();
    project.write("scripts/nul.oaken", b"script nul for tide\n\non bell {\n    height = \0\n}\n");
    project.write("scripts/latin.oaken", b"script latin for tide\n\n// caf\xe9\non bell {\n    height = 0\n}\n");
    project.write("registry/latin.toml", b"# caf\xe9\n");
    let marks = project.marks();
    assert!(marks.contains(&"scripts/nul.oaken:4 syntax/error".to_owned()), "{marks:?}");
    assert!(marks.contains(&"scripts/latin.oaken:3 syntax/error".to_owned()), "{marks:?}");
    assert!(marks.contains(&"registry/latin.toml:1 registry/bad-entry".to_owned()), "{marks:?}");
    assert_eq!(marks.iter().filter(|mark| mark.contains("latin.oaken")).count(), 1, "{marks:?}");
}

#[test]
fn other_line_ends_and_a_byte_order_mark_are_fine() {
    let project = Project::tide();
    let windows = format!("\u{feff}{}", RISE.replace('\n', "\r\n"));
    project.write("scripts/tide.oaken", windows);
    project.write("registry/tide.toml", format!("\u{feff}{}", TIDE.replace('\n', "\r\n")));
    let all = project.findings();
    let last = all.last().expect("the finding");
    assert_eq!((&last["line"], &last["column"], &last["end_column"]), (&4.into(), &5.into(), &16.into()));
    assert_eq!(all.len(), 2, "{all:?}");
}

#[test]
fn one_line_of_ten_megabytes_is_read() {
    let project = Project::tide();
    let sum = "1 + ".repeat(2_500_000);
    project.write("scripts/long.oaken", format!("script long for tide\n\non bell {{\n    height = {sum}1\n}}\n"));
    let marks = project.marks();
    assert!(marks.contains(&"scripts/long.oaken:4 syntax/error".to_owned()), "{marks:?}");
    let run = project.oaken(&["check"]);
    assert!(run.out.len() < 20_000, "the line is cut where it is shown");
    assert!(run.out.contains("characters more"), "and the cut is said");
}

#[test]
fn nesting_a_hundred_thousand_deep_is_refused_once() {
    for (open, close) in [("(", ")"), ("not ", ""), ("-", "")] {
        let project = Project::tide();
        let deep = format!("{}1{}", open.repeat(100_000), close.repeat(100_000));
        project.write("scripts/deep.oaken", format!("script deep for tide\n\non bell {{\n    height = {deep}\n}}\n"));
        let marks: Vec<String> = project.marks().into_iter().filter(|mark| mark.contains("deep.oaken")).collect();
        assert_eq!(marks, ["scripts/deep.oaken:4 syntax/error"], "{open}");
    }
    let project = Project::tide();
    let blocks = format!("{}\n{}\n", "if height > 1 {\n".repeat(100_000), "}\n".repeat(100_000));
    project.write("scripts/deep.oaken", format!("script deep for tide\n\non bell {{\n{blocks}}}\n"));
    let errors = project.marks().into_iter().filter(|mark| mark.contains("syntax/error")).count();
    assert_eq!(errors, 1);
}

#[test]
fn toml_nested_deep_is_refused() {
    let project = Project::tide();
    project.write("registry/deep.toml", format!("x = {}{}\n", "[".repeat(100_000), "]".repeat(100_000)));
    assert!(project.marks().iter().any(|mark| mark.starts_with("registry/deep.toml:1 registry/bad-entry")));
}

#[test]
fn fifty_thousand_variables_are_read() {
    let project = Project::tide();
    let mut text = String::new();
    for at in 0..50_000 {
        text.push_str(&format!("[variables.tide.mark{at:05}]\ntype = \"int\"\nscope = \"global\"\ndefault = 0\n"));
    }
    project.write("registry/many.toml", text);
    project.write("oaken.toml", format!("{CONFIG}\n[rules]\nunused = \"off\"\nshadow = \"off\"\n"));
    let run = project.oaken(&["check"]);
    assert!(run.out.contains("in 50001 variables and 1 script"), "{}", run.out);
}

#[test]
fn a_link_that_leads_in_a_circle_ends() {
    let project = Project::tide();
    std::os::unix::fs::symlink(project.path("scripts"), project.path("scripts/again")).expect("a link");
    std::os::unix::fs::symlink("/etc", project.path("registry/outside")).expect("a link");
    assert_eq!(project.oaken(&["check"]).code, 1);
}

#[test]
fn paths_out_of_the_project_are_refused() {
    let project = Project::tide();
    project.write("oaken.toml", "[project]\nname = \"x\"\nscripts = [\"../elsewhere\", \"scripts\"]\n");
    assert!(project.marks().contains(&"oaken.toml:3 registry/bad-entry".to_owned()));
    let other = Project::tide();
    std::os::unix::fs::symlink(other.path("scripts"), project.path("linked")).expect("a link");
    project.write("oaken.toml", "[project]\nname = \"x\"\nscripts = [\"linked\"]\n");
    project.oaken(&["check"]).could_not("leads outside the project's folder");
}

#[test]
fn names_of_other_scripts_are_names() {
    let project = Project::tide();
    let entry = |owner: &str| {
        format!(
            "[owners.{owner}]\nkind = \"system\"\n\n[variables.{owner}.\"高さ\"]\ntype = \"int\"\nscope = \"global\"\ndefault = 0\nmax = 3\n"
        )
    };
    project.write("registry/more.toml", entry("\"船ß\""));
    project.write("scripts/歌.oaken", "script 歌 for 船ß\n\non bell {\n    高さ += 1\n}\n");
    assert!(project.marks().contains(&"scripts/歌.oaken:4 range/can-exceed".to_owned()), "{:?}", project.marks());
    project.write("registry/more.toml", entry("船ß"));
    let run = project.oaken(&["check"]);
    assert!(run.out.contains("put the name in quotes"), "{}", run.out);
}

#[test]
fn a_closed_pipe_is_no_crash() {
    let project = Project::tide();
    let many: String = (0..3000).map(|at| format!("    foo{at} = 1\n")).collect();
    project.write("scripts/many.oaken", format!("script many for tide\n\non bell {{\n{many}}}\n"));
    let shell = format!("{} check | head -1", env!("CARGO_BIN_EXE_oaken"));
    let output =
        std::process::Command::new("sh").args(["-c", &shell]).current_dir(project.root()).output().expect("a shell");
    let said = String::from_utf8_lossy(&output.stderr);
    assert!(!said.contains("panicked") && said.is_empty(), "{said}");
}

#[test]
fn a_broken_entry_keeps_the_rest_of_its_file() {
    let project = Project::tide();
    project.write("registry/more.toml", "[variables.tide.flow]\ntype = \"int\"\nscope = \"global\"\ndefault = \n\n[variables.tide.ebb]\ntype = \"int\"\nscope = \"global\"\ndefault = 1\n");
    project.write("scripts/tide.oaken", RISE.replace("height += 1", "note \"{ebb}\""));
    let marks = project.marks();
    assert!(marks.contains(&"registry/more.toml:4 registry/bad-entry".to_owned()), "{marks:?}");
    assert!(!marks.iter().any(|mark| mark.contains("unknown-name")), "{marks:?}");
}

#[test]
fn procedures_that_call_one_another_two_thousand_deep_are_checked() {
    let project = Project::tide();
    let mut script = "script deep for tide\n\non bell {\n    p0()\n}\n".to_owned();
    for at in 0..2000 {
        script.push_str(&format!("\nproc p{at}() {{\n    let step = {at}\n    p{}()\n}}\n", at + 1));
    }
    script.push_str("\nproc p2000() {\n    height = 0\n}\n");
    project.write("scripts/deep.oaken", script);
    let marks = project.marks();
    let unused = marks.iter().filter(|mark| mark.contains("deep.oaken") && mark.ends_with("unused/local"));
    assert_eq!(unused.count(), 2000, "{marks:?}");
}

#[test]
fn ten_thousand_labels_and_waivers_are_each_looked_at() {
    let project = Project::tide();
    let name = |at: u32| {
        (0..5).map(|place| char::from(b"bdfhjlnprt"[(at / 10_u32.pow(place) % 10) as usize])).collect::<String>()
    };
    let shows: String = (0..10_000).map(|at| format!("    show {} \"!\"\n", name(at))).collect();
    let waived: String = (0..2_000).map(|_| "    // waive unused/local: kept\n    let spare = 1\n").collect();
    project.write(
        "scripts/many.oaken",
        format!("script many for tide\n\non bell {{\n{shows}}}\n\non tick {{\n{waived}}}\n"),
    );
    let marks = project.marks();
    let ours: Vec<&String> = marks.iter().filter(|mark| mark.contains("many.oaken")).collect();
    // Each label but the first is one letter away from an earlier one; the waivers are used.
    assert_eq!(ours.iter().filter(|mark| mark.ends_with("shadow/lookalike")).count(), 9_999);
    assert!(
        !ours.iter().any(|mark| mark.ends_with("unused/waiver") || mark.ends_with("unused/local")),
        "{:?}",
        ours.last()
    );
}
