//! What is taken and given back, or put in and taken back, by one and the same activation.

use crate::rules::testing::expect_in_scripts;

const STATE: &str = r#"[variables.office]
free = { type = "int", scope = "global", default = 3, min = 0, max = 3, engine = "reads" }
waiting = { type = "int", scope = "global", default = 0, min = 0, max = 5, engine = "reads" }
price = { type = "int", scope = "global", default = 2, min = 1, max = 3, engine = "both" }
"#;

/// A handler with these lines, which may begin again while it waits, and what else there is.
fn lent(lines: &str, rest: &str) {
    let script = format!("script desk for office\n\non bell {{ // ~ sharing/reentry\n{lines}}}\n{rest}");
    expect_in_scripts(STATE, &[&script]);
}

const TAKEN: &str = "    if free == 0 {\n        return\n    }\n    free -= 1\n    wait 2s\n    free += 1\n";

#[test]
fn as_much_as_was_taken_is_given_back() {
    lent(TAKEN, "");
    lent(&TAKEN.replace("    wait 2s\n    free += 1\n", "    after 2s {\n        free += 1\n    }\n"), "");
    lent("    if waiting < 5 {\n        waiting += 1\n        wait 2s\n        waiting -= 1\n    }\n", "");
    lent(
        "    if free >= price {\n        let paid = price\n        free -= paid\n        wait 2s\n        free += paid\n    }\n",
        "",
    );
    let either =
        "    if chance(0.5) {\n        wait 1s\n        free += 1\n        return\n    }\n    wait 2s\n    free += 1\n";
    lent(&TAKEN.replace("    wait 2s\n    free += 1\n", either), "");
    lent(TAKEN, "\non touched(other) {\n    if free > 0 {\n        free -= 1\n    }\n}\n");
}

#[test]
fn what_others_take_meanwhile_is_no_matter() {
    let meanwhile = |line: &str| format!("\non touched(other) {{\n    {line}\n}}\n");
    for line in ["free = 0", "free = max(free - 1, 0)", "free = floor(free / 2)", "free = min(free, 2)", "clear_out()"]
    {
        let procedure = if line == "clear_out()" { "\nproc clear_out() {\n    free = 0\n}\n" } else { "" };
        lent(TAKEN, &(meanwhile(line) + procedure));
    }
    let told = TAKEN.replace("free += 1", "free += 1 // ~ range/can-exceed");
    lent(&told, &meanwhile("free = max(free - 1, 2)"));
    lent(&told, &meanwhile("free = 3 - free // ~ range/hardcoded-limit"));
    let room = "    let put = min(price, waiting.max - waiting)\n    waiting += put\n    wait 2s\n    waiting -= put\n";
    lent(room, "");
    lent(&room.replace("waiting -= put", "waiting -= put // ~ range/can-fall-below"), &meanwhile("waiting = 0"));
}

#[test]
fn more_than_was_taken_is_told() {
    let told = TAKEN.replace("free += 1", "free += 1 // ~ range/can-exceed");
    lent(&TAKEN.replace("free += 1", "free += 2 // ~ range/can-exceed"), "");
    lent(
        &told.replace("    wait 2s\n", "    after 1s {\n        free += 1 // ~ range/can-exceed\n    }\n    wait 2s\n"),
        "",
    );
    lent(&told, "\non touched(other) {\n    free = 3\n}\n");
    lent(&told.replace("free -= 1", "if chance(0.5) {\n        free -= 1\n    }"), "");
    lent(&told, "\non touched(other) {\n    if free < 3 {\n        free += 1\n    }\n}\n");
    lent(
        "    if free >= price {\n        free -= price\n        wait 2s\n        free += price // ~ range/can-exceed\n    }\n",
        "",
    );
}

#[test]
fn what_was_put_in_as_it_came_is_taken_as_it_goes() {
    let state = "[variables.mailboat]\nfleet = { type = \"int\", scope = \"type\", default = 0, min = 0, engine = \"reads\" }\n";
    let counted = |comes: &str, goes: &str| {
        let script = format!(
            "script fleets for mailboat\n\non spawn {{\n{comes}}}\n\non removed {{\n{goes}}}\n\non bell {{\n    remove self\n}}\n"
        );
        expect_in_scripts(state, &[&script]);
    };
    let (comes, goes) = ("    mailboat.fleet += 1\n", "    mailboat.fleet -= 1\n");
    let told = "    mailboat.fleet -= 1 // ~ range/can-fall-below\n";
    counted(comes, goes);
    counted(comes, &goes.replace('1', "2 // ~ range/can-fall-below"));
    counted("    if chance(0.5) {\n        mailboat.fleet += 1\n    }\n", told);
    counted("    wait 1s\n    mailboat.fleet += 1\n", told);
}

#[test]
fn what_was_put_in_once_is_not_taken_twice() {
    let state = "[variables.mailboat]\nfleet = { type = \"int\", scope = \"type\", default = 0, min = 0, engine = \"reads\" }\n";
    let goes = "on removed {\n    mailboat.fleet -= 1 // ~ range/can-fall-below\n}\n\n";
    let script = format!(
        "script fleets for mailboat\n\non spawn {{\n    mailboat.fleet += 1\n}}\n\n{goes}{goes}on bell {{\n    remove self\n}}\n"
    );
    expect_in_scripts(state, &[&script]);
}

#[test]
fn what_is_given_back_is_what_was_taken() {
    let state = r#"[variables.mailboat]
mate = { type = "ref", scope = "instance", of = "mailboat", engine = "both" }
crew = { type = "int", scope = "instance", default = 1, min = 0, max = 3, constant = true }

[instances.long_boat]
of = "mailboat"
start = { crew = 3 }

[variables.tide]
free = { type = "int", scope = "global", default = 3, min = 0, max = 3, engine = "reads", writers = ["*"] }
"#;
    let lent = |by: &str, mark: &str| {
        let lines = format!(
            "    if mate is none or tide.free < {by} {{\n        return\n    }}\n    tide.free -= {by}\n    wait 2s\n    if mate is not none {{\n        tide.free += {by}{mark}\n    }}\n"
        );
        let script = format!("script lots for mailboat\n\non bell {{ // ~ sharing/reentry\n{lines}}}\n");
        expect_in_scripts(state, &[&script]);
    };
    lent("crew", "");
    lent("mate.crew", " // ~ range/can-exceed");
}

#[test]
fn what_is_left_of_a_range_is_no_amount_while_the_value_may_be_out_of_it() {
    let state = r#"[variables.tide]
held = { type = "int", scope = "global", default = 1, min = 1, max = 9, engine = "reads" }
owed = { type = "int", scope = "global", default = 1, min = 0, max = 9, engine = "reads" }
"#;
    let moved = |first: &str, mark: &str| {
        let script = format!(
            "script lots for tide\n\non bell {{\n    {first}\n    let part = min(held - 1, owed.max - owed)\n    held -= part\n    owed += part{mark}\n}}\n"
        );
        expect_in_scripts(state, &[&script]);
    };
    moved("held = random(1, 9)", "");
    moved("held -= 1", " // ~ range/can-fall-below");
}

#[test]
fn it_matters_little_in_which_words_something_is_lent() {
    let takes = |take: &str, give: &str, told: &str| {
        let named = if take.contains("one") { "let one = 1\n        " } else { "" };
        let lines =
            format!("    if free > 1 {{\n        {named}{take}\n        wait 2s\n        {give}{told}\n    }}\n");
        let procedures = format!(
            "proc take() {{\n    free -= 1\n    if free == 0 {{ show \"none left\" }}\n}}\n\nproc give() {{\n    free += 1{told}\n}}\n"
        );
        let others = "on touched { // ~ sharing/reentry\n    if free > 0 {\n        take()\n        wait 1s\n        give()\n    }\n}\n";
        lent(&lines, &format!("\n{procedures}\n{others}"));
    };
    takes("take()", "give()", "");
    takes("free = free - one", "free = free + 1", "");
    takes("free -= one", "free += one", "");
    takes("take()", "free += 2", " // ~ range/can-exceed");
    takes("free -= one", "free += one + 1", " // ~ range/can-exceed");
}

#[test]
fn what_a_procedure_gives_back_by_others_counts_too() {
    let gives = |give: &str, procedures: &str| {
        let lines = format!("    if free > 0 {{\n        free -= 1\n        wait 2s\n        {give}\n    }}\n");
        lent(&lines, procedures);
    };
    let more = "proc more() {\n    free += 1 // ~ range/can-exceed\n}\n";
    gives("give()", &format!("\nproc give() {{\n    free += 1 // ~ range/can-exceed\n    more()\n}}\n{more}"));
    gives(
        "free += 1 // ~ range/can-exceed\n        note \"{ask_for()}\"",
        &format!("\nproc ask_for() -> int {{\n    more()\n    return 1\n}}\n{more}"),
    );
}

#[test]
fn procedures_lend_by_what_they_are_given() {
    let takes = |take: &str, give: &str, told: &str, procedures: &str| {
        let lines = format!("    if free > 1 {{\n        {take}\n        wait 2s\n        {give}\n    }}\n");
        lent(&lines, &format!("\n{}", procedures.replace("TOLD", told)));
    };
    let both = "proc take(by: int) {\n    free -= by\n}\n\nproc give(more: int) {\n    free += moreTOLD\n}\n";
    let told = " // ~ range/can-exceed";
    takes("take(1)", "give(1)", "", both);
    takes("let one = 1\n        take(one)", "give(one)", "", both);
    takes("take(1)", "give(2)", told, both);
    takes("free += -1", "free -= -1", "", "");
    let changed =
        "proc take(by: int) {\n    by = by - 1\n    free -= by\n}\n\nproc give(more: int) {\n    free += moreTOLD\n}\n";
    takes("take(1)", "give(1)", told, changed);
}

#[test]
fn who_is_told_that_it_was_taken_gives_it_back() {
    let takes = |ask: &str, told: &str, take: &str| {
        let lines = format!("    {ask} {{\n        wait 2s\n        free += 1{told}\n    }}\n");
        lent(&lines, &format!("\n{take}"));
    };
    let early =
        "proc take() -> bool {\n    if free <= 0 {\n        return false\n    }\n    free -= 1\n    return true\n}\n";
    let late = "proc take() -> bool {\n    if free > 0 {\n        free -= 1\n        return true\n    }\n    return false\n}\n";
    let told = " // ~ range/can-exceed";
    for take in [early, late] {
        takes("if take()", "", take);
        takes("let got = take()\n    if got", "", take);
        takes("let got = take()\n    if not got {\n        return\n    }\n    if chance(0.5)", "", take);
        takes("if not take()", told, take);
        takes("if take() or chance(0.5)", told, take);
    }
    takes("if take()", told, &late.replace("    return false", "    return free == 0"));
    takes("if take()", told, &late.replace("    return false", "    return chance(0.5)"));
    takes("if take()", told, &early.replace("    return true", "    return chance(0.5)"));
}

#[test]
fn a_flag_tells_who_gives_back() {
    let takes = |lines: &str, told: &str| lent(&lines.replace("TOLD", told), "");
    let told = " // ~ range/can-exceed";
    let got = "    let got = false\n    if free > 0 {\n        free -= 1\n        got = true\n    }\n";
    let given = "    if got {\n        wait 2s\n        free += 1TOLD\n    }\n";
    takes(&format!("{got}{given}"), "");
    takes(&format!("{got}    note \"asked\"\n{}", given.replace("if got", "if got == true and chance(0.5)")), "");
    takes(&format!("{got}    if not got {{\n        return\n    }}\n    wait 1s\n    free += 1\n"), "");
    takes(&format!("{got}{}", given.replace("if got", "if got or chance(0.5)")), told);
    takes(&format!("{got}{}", given.replace("if got", "if not got")), told);
    takes(&format!("{got}    if chance(0.5) {{ got = true }}\n{given}"), told);
    takes(&format!("{got}    got = chance(0.5)\n{given}"), told);
    takes(&format!("{got}{}", given.replace("wait 2s\n", "wait 2s\n        free += 1TOLD\n")), told);
    let twice = "    let got = false\n    repeat 2 {\n        if free > 0 {\n            free -= 1\n            got = true\n        }\n    }\n";
    takes(&format!("{twice}{given}"), "");
    takes(
        &format!(
            "{got}    repeat 2 {{\n        if got {{\n            wait 2s\n            free += 1TOLD\n        }}\n    }}\n"
        ),
        told,
    );
    takes(&format!("{got}    after 1s {{\n        if got {{ free += 1 }}\n    }}\n"), "");
}

#[test]
fn less_than_was_taken_is_given_back() {
    let told = " // ~ range/can-exceed";
    let takes = |taken: u32, [first, second]: [u32; 2], told: [&str; 2]| {
        let [one, other] = told;
        let given = format!("    wait 2s\n    free += {first}{one}\n    wait 2s\n    free += {second}{other}\n");
        lent(&format!("    if free < {taken} {{\n        return\n    }}\n    free -= {taken}\n{given}"), "");
    };
    takes(2, [1, 1], ["", ""]);
    takes(2, [1, 0], ["", ""]);
    takes(2, [1, 2], [told, told]);
    takes(1, [2, 0], [told, ""]);
}
