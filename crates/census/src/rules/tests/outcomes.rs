//! What tells which way was taken: what a procedure gives that sorts things into a few, and what was put down on each way.

use crate::report;
use crate::rules::testing::{CONFIG, expect_in_scripts, project};

const STATE: &str = r#"[signals.paid]
from = "engine"
to = "all"
parameters = { n = { type = "int", min = 0, max = 9 } }
[variables.office]
coins = { type = "int", scope = "global", default = 10, min = 0, engine = "both" }
level = { type = "int", scope = "global", default = 0, min = 0, max = 2, engine = "reads" }
rich = { type = "bool", scope = "global", default = false, engine = "reads" }
rank = { type = "enum", scope = "global", default = "none", values = ["none", "some", "much"], engine = "reads" }
[variables.tide]
height = { type = "int", scope = "global", default = 0, min = 0, max = 9, engine = "reads" }
way = { type = "int", scope = "global", default = 1, engine = "reads" }
"#;

const SIGN: &str = "proc sign(n: int) -> int {\n    if n > 0 {\n        return 1\n    }\n    if n < 0 {\n        return -1\n    }\n    return 0\n}\n";
const LEVEL: &str = "proc level_of(n: int) -> int {\n    if n >= 60 {\n        return 2\n    }\n    if n >= 30 {\n        return 1\n    }\n    return 0\n}\n";

fn on_paid(owner: &str, procedure: &str, lines: &str) {
    expect_in_scripts(STATE, &[&format!("script sorts for {owner}\n{procedure}on paid(n) {{\n{lines}}}\n")]);
}

#[test]
fn what_a_procedure_sorts_tells_of_what_it_was_asked() {
    for lines in [
        "    let by = sign(n - height)\n    height += by\n",
        "    height += sign(n - height)\n",
        "    way = sign(n - height)\n    if way != 0 {\n        height += way\n    }\n",
        "    match sign(n - height) {\n        1 {\n            height += 1\n        }\n        -1 {\n            height -= 1\n        }\n    }\n",
    ] {
        on_paid("tide", SIGN, lines);
    }
    on_paid("tide", SIGN, "    height += sign(n - height) + 1 // ~ range/can-exceed\n");
    on_paid(
        "tide",
        SIGN,
        "    let by = sign(n - height)\n    height = n\n    if by == 1 {\n        height += 1 // ~ range/can-exceed\n    }\n",
    );
}

#[test]
fn each_level_tells_how_much_there_is() {
    for lines in [
        "    let l = level_of(coins)\n    if l >= 1 {\n        coins -= 30\n    }\n    if l == 2 {\n        coins -= 30\n    }\n",
        "    level = level_of(coins)\n    match level {\n        2 {\n            coins -= 60\n        }\n        1 {\n            coins -= 30\n        }\n        else {\n            note \"poor\"\n        }\n    }\n",
        "    coins -= level_of(coins) * 30\n",
        "    if n > 3 and level_of(coins) == 1 {\n        coins -= 30\n    }\n",
    ] {
        on_paid("office", LEVEL, lines);
    }
    on_paid("office", LEVEL, "    if level_of(coins) == 1 {\n        coins -= 31 // ~ range/can-fall-below\n    }\n");
    on_paid(
        "office",
        LEVEL,
        "    if level_of(coins + n) == 1 {\n        coins -= 30 // ~ range/can-fall-below\n    }\n",
    );
}

#[test]
fn what_was_never_given_is_told_where_it_is_read_first() {
    let state = format!("{STATE}spare = {{ type = \"int\", scope = \"global\", engine = \"writes\" }}\n");
    let sorts = "proc kind() -> int {\n    if spare > 3 { // ~ init/read-before-set\n        return 1\n    }\n    return 0\n}\n";
    let guarded = "on paid(n) {\n    if spare is set and kind() == 1 {\n        height = 1\n    }\n}\n";
    let open = "on bell {\n    if kind() == 1 {\n        height = 2\n    }\n}\n";
    expect_in_scripts(&state, &[&format!("script sorts for tide\n{sorts}{guarded}{open}")]);
    let sorts = sorts.replace(" // ~ init/read-before-set", "");
    expect_in_scripts(&state, &[&format!("script sorts for tide\n{sorts}{guarded}")]);
}

#[test]
fn what_was_put_down_tells_which_way_was_taken() {
    for (place, [none, some, much]) in [
        ("level", ["0", "1", "2"]),
        ("rank", ["\"none\"", "\"some\"", "\"much\""]),
        ("kept", ["\"a\"", "\"b\"", "\"c\""]),
    ] {
        let put = format!(
            "    if coins >= 60 {{\n        {place} = {much}\n    }} else if coins >= 30 {{\n        {place} = {some}\n    }} else {{\n        {place} = {none}\n    }}\n"
        );
        let local = if place == "kept" { "    let kept = \"\"\n" } else { "" };
        let taken = |by: &str| {
            format!(
                "{local}{put}    note \"paid\"\n    if {place} == {much} {{\n        coins -= 60\n    }} else if {place} == {some} {{\n        coins -= {by}\n    }}\n"
            )
        };
        on_paid("office", "", &taken("30"));
        on_paid("office", "", &taken("31 // ~ range/can-fall-below"));
    }
    let flag = |test: &str, by: &str| {
        format!(
            "    rich = coins >= 60\n    if n == 3 {{\n        rich = false\n    }}\n    if {test} {{\n        coins -= {by}\n    }}\n"
        )
    };
    on_paid("office", "", &flag("rich", "60"));
    on_paid("office", "", &flag("not rich", "60 // ~ range/can-fall-below"));
}

#[test]
fn what_is_put_down_counts_whatever_was_there_before() {
    let lines = |before: &str, behind: &str, told: &str| {
        format!(
            "    {before}\n    if coins >= 60 {{\n        level = 2\n    }} else {{\n        level = 0\n    }}\n    {behind}\n    if level == 2 {{\n        coins -= 60{told}\n    }}\n"
        )
    };
    on_paid("office", "", &lines("level = min(level + 1, 2)\n    show \"{level}\"", "note \"paid\"", ""));
    on_paid("office", "", &lines("note \"paid\"", "level = min(level + n, 2)", " // ~ range/can-fall-below"));
}

#[test]
fn a_wait_lets_others_put_down_something_else() {
    let put = "    rich = false\n    if coins >= 60 {\n        rich = true\n    }\n";
    let taken = |told: &str| format!("    if rich {{\n        coins -= 60{told}\n    }}\n");
    on_paid("office", "", &format!("{put}{}", taken("")));
    let told = taken(" // ~ range/can-fall-below");
    let guarded = format!(
        "script sorts for office\n\nprivate busy: bool = false\n\non bell when not busy {{\n    busy = true\n{put}    wait 1s\n{told}    busy = false\n}}\n"
    );
    expect_in_scripts(STATE, &[&guarded]);
}

#[test]
fn a_number_that_is_passed_over_is_named() {
    let script =
        "script sorts for tide\n\non bell {\n    way = -way\n    if way == 0 {\n        note \"still\"\n    }\n}\n";
    let report = report::check(&project(CONFIG, STATE, &[script]));
    let told: Vec<&str> = report.findings.iter().map(|told| told.finding.message.as_str()).collect();
    let wanted = "`way == 0` is never true here, whatever happens in play: `way` is -1 to 1, but never 0";
    assert!(told.contains(&wanted), "{told:#?}");
}
