//! What is hostile, huge or broken, given to the commands that play, edit, compare and export.

mod support;

use support::{CONFIG, Project, TIDE};

/// A project whose every text is an attack on a terminal, a spreadsheet or a page.
fn hostile() -> Project {
    let project = Project::empty();
    project
        .write("oaken.toml", "[project]\nname = \"\\u001b[31mMail\\u001b[0m <b>\"\n[sharing]\nwriters = \"anyone\"\n");
    project.write(
        "registry/tide.toml",
        r#"[owners.tide]
kind = "system"
steward = "=HYPERLINK(\"x\")"
[signals.bell]
from = "engine"
to = "all"
[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 1
unit = "</text><script>x</script>"
about = "\u001b[2J\u202Eabc | <img src=x>"
tags = ["+1", "-1", "@x", "\ttab"]
[variables.tide.name]
type = "text"
scope = "global"
default = "'=1+1"
"#,
    );
    project.write(
        "scripts/tide.oaken",
        "script tides for tide\non bell {\n    height += 1\n    show sign \"\u{1b}[31m{name}\u{7}\"\n    name = \"\u{1b}]0;x\u{7}\"\n}\n",
    );
    project.write(
        "rehearsals/one.toml",
        "title = \"\\u001b[31m<svg onload=x> & ]]>\"\nwatch = [\"tide.height\", \"tide.name\"]\n[[step]]\nfire = \"bell\"\ntimes = 3\n[[step]]\nexpect = \"height == 9\"\nbecause = \"\\u001b[1m\"\n",
    );
    project
}

/// No control character but line ends comes out.
#[track_caller]
fn harmless(text: &str) {
    let bad = text.chars().find(|c| c.is_control() && *c != '\n' || ('\u{202a}'..='\u{202e}').contains(c));
    assert_eq!(bad, None, "{text:?}");
}

#[test]
fn nothing_from_a_file_reaches_the_terminal_as_it_is() {
    let project = hostile();
    for arguments in [
        &["rehearse", "--log"][..],
        &["check", "--prove"],
        &["tally", "height"],
        &["show", "height"],
        &["uses", "name"],
        &["list"],
        &["whatif", "height.max=5"],
        &["rename", "height", "level", "--dry-run"],
        &["change", "height", "--max", "3", "--dry-run"],
        &["retire", "tide.name", "--dry-run"],
        &["compare", "."],
        &["compare", ".", "--format", "markdown"],
        &["check", "--witness", "range/can-exceed@scripts/tide.oaken:3"],
    ] {
        let run = project.oaken(arguments);
        assert!(!run.err.contains("panicked"), "{arguments:?}: {}", run.err);
        harmless(&run.out);
        harmless(&run.err);
    }
}

#[test]
fn a_chart_holds_no_markup_from_a_file() {
    let project = hostile();
    project.oaken(&["rehearse", "--chart", "one.svg"]);
    let svg = project.read("one.svg");
    assert!(svg.contains("&lt;svg onload=x&gt; &amp; ]]&gt;"), "{}", &svg[..600]);
    assert!(!svg.contains("<script") && !svg.contains("<svg onload"), "markup came through");
    harmless(&svg);
}

#[test]
fn cells_that_look_like_formulas_are_made_harmless_and_come_back() {
    let project = hostile();
    let before = project.read("registry/tide.toml");
    let csv = project.oaken(&["export", "--to", "csv"]).out;
    for row in csv::ReaderBuilder::new().has_headers(false).from_reader(csv.as_bytes()).records() {
        for cell in row.expect("a row").iter() {
            let formula = cell.starts_with(['=', '+', '-', '@', '\t']) && cell.parse::<f64>().is_err();
            assert!(!formula, "{cell:?}");
        }
    }
    project.write("table.csv", &csv);
    let run = project.oaken(&["import", "table.csv"]);
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    assert_eq!(project.read("registry/tide.toml"), before);
}

#[test]
fn a_million_steps_are_played() {
    let project = Project::tide();
    project.write("scripts/tide.oaken", "script tides for tide\non bell {\n    height = (height + 1) % 7\n}\n");
    project.write(
        "rehearsals/long.toml",
        "[[step]]\nfire = \"bell\"\ntimes = 1000000\n[[step]]\nexpect = \"height == 1000000 % 7\"\n",
    );
    let run = project.oaken(&["rehearse"]);
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
}

#[test]
fn many_written_steps_are_read_wherever_their_parts_stand() {
    let project = Project::tide();
    project.write("scripts/tide.oaken", "script tides for tide\non bell {\n    height = (height + 1) % 7\n}\n");
    let played = |text: String| {
        project.write("rehearsals/many.toml", text);
        project.oaken(&["rehearse"])
    };
    let steps = "[[step]]\nfire = \"bell\"\n\n[[step]]\nset = { \"tide.height\" = 3 }\n".repeat(4000);
    let last =
        "[[step]]\nfire = \"bell\"\n[[step]]\n[step.set]\n\"tide.height\" = 5\n[[step]]\nexpect = \"height == 5\"\n";
    let run = played(format!("title = \"Many\"\n{steps}{last}[given]\n\"tide.height\" = 2\n"));
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    let run = played(format!("{steps}[[step]]\nfire = \"bel\"\n{last}"));
    assert_eq!(run.code, 2);
    assert!(
        format!("{}{}", run.out, run.err).contains("line 20002: there is no signal `bel`"),
        "{}{}",
        run.out,
        run.err
    );
}

#[test]
fn many_failing_steps_are_counted_and_not_all_told() {
    let project = Project::tide();
    let steps = "[[step]]\nexpect = \"height == 9\"\n".repeat(500);
    project.write("rehearsals/many.toml", format!("[[step]]\nfire = \"bell\"\ntimes = 100\n{steps}"));
    let run = project.oaken(&["rehearse"]);
    assert_eq!(run.code, 1);
    assert!(run.out.contains("… and 480 failed steps more"), "{}", &run.out[run.out.len().saturating_sub(600)..]);
    assert!(run.out.lines().count() < 150, "{}", run.out.lines().count());
    assert!(run.out.contains("`tide.height` is 7, and its `max` is 6"), "told where it left its range");
}

#[test]
fn a_time_that_would_never_end_is_stopped() {
    let project = Project::tide();
    project.write("scripts/tide.oaken", "script tides for tide\non start {\n    height = 1\n}\n");
    project
        .write("rehearsals/long.toml", "[[step]]\npass = \"99999999999999999s\"\n[[step]]\nexpect = \"height == 1\"\n");
    let run = project.oaken(&["rehearse"]);
    assert_eq!(run.code, 0, "where nothing happens time passes at once: {}{}", run.out, run.err);
}

#[test]
fn a_step_that_is_done_without_an_end_is_stopped() {
    let project = Project::tide();
    project.write("scripts/tide.oaken", "script tides for tide\non bell {\n    height = 1\n}\n");
    project.write("rehearsals/long.toml", "[[step]]\nfire = \"bell\"\ntimes = 9223372036854775807\n");
    let run = project.oaken(&["rehearse"]);
    assert_eq!(run.code, 1, "{}", run.err);
    assert!(run.out.contains("takes more than 50 million dispatches"), "{}", run.out);
}

#[test]
fn what_never_ends_inside_of_a_condition_is_stopped() {
    let project = Project::tide();
    let script = "script tides for tide
proc deep(by: int) -> int {
    let at = by
    while at > 0 { at += 1 }
    return deep(at)
}
on bell {
    if deep(3) + 1 > 2 and deep(4) == 1 {
        height = deep(5)
        note \"{height}\"
    } else { height = 2 }
    repeat deep(1) { height = 3 }
}
";
    project.write("scripts/tide.oaken", script);
    project.write("rehearsals/one.toml", "[[step]]\nfire = \"bell\"\n");
    let run = project.oaken(&["rehearse"]);
    assert_eq!(run.code, 1, "{}", run.err);
    assert!(run.out.contains("a loop goes round without an end"), "{}", run.out);
    project.write("scripts/tide.oaken", script.replace("while at > 0 { at += 1 }", ""));
    let run = project.oaken(&["rehearse"]);
    assert_eq!(run.code, 1, "{}", run.err);
    assert!(run.out.contains("procedures call one another without an end"), "{}", run.out);
}

#[test]
fn rehearsals_that_are_no_text_or_not_there_are_told() {
    let project = Project::tide();
    project.write("rehearsals/bytes.toml", b"title = \"\xff\"".as_slice());
    project.write("rehearsals/nul.toml", "title = \"\0\"\n");
    project.write("rehearsals/empty.toml", "");
    let run = project.oaken(&["rehearse"]);
    assert_eq!(run.code, 2);
    assert!(run.out.contains("line 1: this file is not UTF-8 from here on"), "{}", run.out);
    assert!(run.out.contains("UNREADABLE  rehearsals/nul.toml"), "{}", run.out);
    assert!(run.out.contains("1 rehearsal passed, 2 can't be played."), "{}", run.out);
    project.oaken(&["rehearse", "no such.toml"]).could_not("no such.toml can't be read");
    let file = project.oaken(&["rehearse", "rehearsals/empty.toml", "--csv", "rehearsals"]);
    file.could_not("can't be written");
}

#[test]
fn mistakes_in_scripts_do_not_keep_the_rest_from_being_played() {
    let project = Project::tide();
    project.write("scripts/broken.oaken", "script broken for tide\non bell {\n    height = = 3\n}\n");
    project.write("rehearsals/one.toml", "[[step]]\nfire = \"bell\"\n[[step]]\nexpect = \"height == 1\"\n");
    let run = project.oaken(&["rehearse"]);
    assert_eq!(run.code, 0, "{}", run.out);
    assert!(run.err.contains("The project has 1 error that `oaken check` tells of"), "{}", run.err);
}

#[test]
fn edits_of_a_project_with_broken_files_say_why_they_stop() {
    let project = Project::empty();
    project.write("oaken.toml", CONFIG);
    project.write("registry/tide.toml", TIDE.replace("type = \"int\"", "type = "));
    let broken = project.read("registry/tide.toml");
    for arguments in [
        &["change", "tide.height", "--max", "9"][..],
        &["rename", "tide.height", "level"],
        &["retire", "tide.height"],
        &["add", "tide.height", "--type", "int"],
    ] {
        let run = project.oaken(arguments);
        assert!(!run.err.contains("panicked"), "{}", run.err);
        if run.code != 0 {
            assert_eq!(project.read("registry/tide.toml"), broken, "{arguments:?}");
        } else {
            project.write("registry/tide.toml", &broken);
        }
    }
    let format = project.oaken(&["format"]);
    assert!(format.err.contains("registry/tide.toml has mistakes"), "{}", format.err);
    assert_eq!(project.read("registry/tide.toml"), broken);
}

#[test]
fn a_pipe_that_closes_early_is_no_error() {
    use std::io::Read;
    let project = Project::tide();
    let steps = "[[step]]\nfire = \"bell\"\n".repeat(20_000);
    project.write("rehearsals/many.toml", steps);
    let mut child = std::process::Command::new(env!("CARGO_BIN_EXE_oaken"))
        .args(["rehearse", "--log"])
        .current_dir(project.root())
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped())
        .spawn()
        .expect("the program");
    let mut out = child.stdout.take().expect("its output");
    let mut first = [0; 100];
    out.read_exact(&mut first).expect("some of it");
    drop(out);
    let mut err = String::new();
    child.stderr.take().expect("its errors").read_to_string(&mut err).expect("text");
    child.wait().expect("its end");
    assert!(!err.contains("panicked") && !err.contains("Broken pipe"), "{err}");
}

#[test]
fn options_that_do_not_go_together_are_refused() {
    let project = Project::tide();
    for arguments in [
        &["check", "--witness", "x", "--prove"][..],
        &["check", "--save", "x"],
        &["check", "--effort", "0"],
        &["retire", "height", "--remove", "--use", "x"],
        &["compare"],
        &["export"],
        &["export", "--to", "xml"],
        &["whatif"],
        &["completions", "cmd"],
        &["rehearse", "--format", "xml"],
    ] {
        let run = project.oaken(arguments);
        assert_eq!(run.code, 2, "{arguments:?}: {}", run.out);
        assert!(run.err.contains("try '--help'"), "{}", run.err);
    }
}
