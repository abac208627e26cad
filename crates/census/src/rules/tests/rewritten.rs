//! The examples of all rules, written otherwise: what a script does, not how it says it, decides what is found.

use crate::rules::testing::{expect_in_scripts, finds};

/// Mistakes that lie in how a line is written, which is then written otherwise.
const OF_FORM: &[&str] =
    &["type/plus-sign-assign", "type/mismatch", "range/hardcoded-limit", "flow/copy-slip", "unused/waiver"];
/// What is only wrong where it stands: a procedure is judged for all its callers, and tells nothing of a trigger.
const OF_PLACE: &[&str] = &["unused/dead-write", "registry/bad-waiver", "unused/waiver"];

/// Checks that each rule finds its bad example and leaves its good one alone, both rewritten.
fn hold(rewrite: impl Fn(&str) -> String, left_out: &[&str]) {
    let mut rewritten = 0;
    for rule in crate::rules::all().into_iter().filter(|rule| !left_out.contains(&rule.name.0)) {
        let (bad, good) = (rewrite(rule.bad.script), rewrite(rule.good.script));
        rewritten += usize::from(bad != rule.bad.script || good != rule.good.script);
        assert!(finds(rule, rule.bad.registry, &bad) > 0, "{}: the bad example is not found\n{bad}", rule.name);
        assert_eq!(finds(rule, rule.good.registry, &good), 0, "{}: the good example is found\n{good}", rule.name);
    }
    assert!(rewritten > 1, "only {rewritten} examples are rewritten");
}

/// The lines of a script, each made into several, with a number of its own.
fn each_line(script: &str, rewrite: impl Fn(&str, &str, usize) -> Option<String>) -> String {
    let lines = script.lines().enumerate().map(|(at, line)| {
        let indent = &line[..line.len() - line.trim_start().len()];
        rewrite(indent, line.trim_start(), at).unwrap_or_else(|| line.to_owned())
    });
    lines.map(|line| line + "\n").collect()
}

/// The target, the sign and the value of an assignment.
fn assignment(line: &str) -> Option<(&str, &str, &str)> {
    let (target, rest) = line.split_once(' ')?;
    let (sign, value) = rest.split_once(' ')?;
    let is_path = target.chars().all(|c| c.is_alphanumeric() || "_.".contains(c));
    (is_path && ["=", "+=", "-=", "*=", "/="].contains(&sign)).then_some((target, sign, value))
}

#[test]
fn values_by_lets() {
    let by_lets = |script: &str| {
        each_line(script, |indent, line, at| {
            let (target, sign, value) = assignment(line)?;
            let plain = !value.starts_with('"') && value != "none" && !value.contains("//");
            plain.then(|| format!("{indent}let given{at} = {value}\n{indent}{target} {sign} given{at}"))
        })
    };
    hold(by_lets, OF_FORM);
}

#[test]
fn tests_by_lets() {
    let by_lets = |script: &str| {
        each_line(script, |indent, line, at| {
            let test = line.strip_prefix("if ")?.strip_suffix(" {")?;
            Some(format!("{indent}let asked{at} = {test}\n{indent}if asked{at} {{"))
        })
    };
    hold(by_lets, OF_FORM);
}

#[test]
fn tests_compared_with_true() {
    let compared = |script: &str| {
        each_line(script, |indent, line, at| {
            let test = line.strip_prefix("if ")?.strip_suffix(" {")?;
            let compared = if at % 2 == 0 { format!("({test}) == true") } else { format!("false == (not ({test}))") };
            Some(format!("{indent}if {compared} {{"))
        })
    };
    hold(compared, OF_FORM);
}

#[test]
fn entry_tests_by_early_returns() {
    let by_returns = |script: &str| {
        each_line(script, |_, line, _| {
            let (trigger, test) = line.strip_prefix("on ")?.strip_suffix(" {")?.split_once(" when ")?;
            Some(format!("on {trigger} {{\n    if not ({test}) {{\n        return\n    }}"))
        })
    };
    hold(by_returns, OF_FORM);
}

#[test]
fn bodies_by_procedures() {
    let by_procedures = |script: &str| {
        let mut procedures = 0;
        let moved = |line: &str, procedures: &mut usize| {
            let plain = line.starts_with("on ") && line.ends_with(" {") && !line.contains('(');
            *procedures += usize::from(plain);
            if plain {
                format!("{line}\n    done{procedures}()\n}}\n\nproc done{procedures}() {{\n")
            } else {
                format!("{line}\n")
            }
        };
        script.lines().map(|line| moved(line, &mut procedures)).collect::<String>()
    };
    hold(by_procedures, &[OF_FORM, OF_PLACE].concat());
}

const STATE: &str = r#"[variables.tide]
height = { type = "int", scope = "global", default = 0, min = 0, max = 20, engine = "reads" }
flow = { type = "int", scope = "global", default = 0, engine = "reads" }
level = { type = "int", scope = "global", default = 0, engine = "reads" }
mood = { type = "enum", scope = "global", values = ["ebb", "flood"], default = "ebb", engine = "both" }
turn = { type = "int", scope = "global", default = 0 }

[signals.gust]
from = "engine"
to = "all"
parameters = { force = { type = "int", min = 0, max = 9 } }

[variables.mailboat]
parcels = { type = "int", scope = "instance", default = 0, engine = "both" }
"#;

#[test]
fn loops_step_by_lets_and_procedures() {
    expect_in_scripts(
        STATE,
        &[r#"script tides for tide

on bell {
    if height <= 14 {
        repeat 3 {
            let by = 2
            height += by
        }
    }
    if height <= 17 {
        repeat 3 {
            rise(1)
        }
    }
    if height <= 18 {
        repeat 3 {
            swell()
        }
    }
    let left = 3
    if height + left <= 20 {
        let done = 0
        while done < left {
            height += 1
            done += 1
        }
    }
    note "{height}"
}

on gust(force) {
    if height + 2 * force <= 20 {
        let done = 0
        while done < force {
            height += 2
            done += 1
        }
    }
    if height + force <= 20 {
        let done = 0
        while done < force {
            height += 2 // ~ range/can-exceed
            done += 1
        }
    }
}

proc rise(by: int) {
    height += by
}

proc swell() {
    height += 1 // ~ range/can-exceed
}
"#],
    );
}

#[test]
fn guards_stand_in_procedures_and_lets() {
    expect_in_scripts(
        STATE,
        &[r#"script tides for tide

private busy: bool = false
private held: bool = false
private shut: bool = false

on bell {
    ring()
}

proc ring() {
    let free = not busy and mood == "ebb"
    if not free {
        return
    }
    busy = true
    wait 1s
    flow += 1
    busy = false
}

on touched(other) {
    let open = not held
    if open {
        held = true // ~ sharing/stuck-guard
        if flow > 3 {
            return
        }
        flow += 1
        held = false
    }
}

on tide_turned { // ~ sharing/reentry
    if not shut {
        later()
    }
}

proc later() {
    after 1s {
        level += 1
    }
}

on enter {
    send tide_turned
    shut = level > 9
}
"#],
    );
}

#[test]
fn circles_lead_through_procedures_and_lets() {
    expect_in_scripts(
        STATE,
        &[r#"script tides for tide

on changed flow {
    let now = flow
    follow(now + 1)
}

proc follow(to: int) {
    level = to
}

on changed level {
    let next = level
    flow = next // ~ sharing/feedback
}

on changed height {
    if height < 10 {
        push(1)
    }
}

proc push(by: int) {
    height += by
}

on bell {
    flow = 1
    height = 3
}
"#],
    );
}

#[test]
fn what_others_decide_goes_by_parameters_and_what_is_shown_by_lets() {
    expect_in_scripts(
        STATE,
        &[
            r#"script boats for mailboat

on bell {
    tell(parcels)
    agree(3)
}

proc tell(count: int) {
    tide.level = count // ~ sharing/foreign-write sharing/last-writer-wins
}

proc agree(count: int) {
    tide.flow = count // ~ sharing/foreign-write sharing/stale-label
}
"#,
            r#"script ebbs for tide

on tick {
    height = min(height + 1, 20)
}

on touched(other) {
    let seen = flow
    show flow_label "{seen}"
}

on tide_turned {
    flow += 1 // ~ sharing/stale-label
    let next = (turn + 1) % 4
    turn = next
}

on enter {
    send tide_turned
}
"#,
            r#"script desk for office

on tick {
    let seen = tide.height
    show height_label "{seen}"
}
"#,
        ],
    );
}

#[test]
fn early_tests_and_kinds_keep_handlers_apart() {
    expect_in_scripts(
        STATE,
        &[
            r#"script ebbs for tide

on tide_turned {
    if mood != "ebb" {
        return
    }
    flow = 1
}

on touched(other) {
    if other is mailboat {
        level = 2
    }
}

on enter {
    note "{level}"
    if mood == "ebb" {
        height = 3
    }
    send tide_turned
}
"#,
            r#"script floods for tide

on tide_turned {
    let high = mood == "flood"
    if high {
        tide.flow = 5
    }
}

on touched(other: parcel) {
    tide.level = 4
}

on enter {
    tide.level = 5 // ~ sharing/order-hazard
    if mood == "flood" {
        tide.height = 6
    }
}
"#,
        ],
    );
}

#[test]
fn what_is_told_of_a_copy_is_told_of_both() {
    let registry = r#"[variables.tide]
pilot = { type = "ref", of = "mailboat", scope = "global", engine = "both" }
mood = { type = "enum", scope = "global", values = ["ebb", "flood"], default = "ebb", engine = "both" }
height = { type = "int", scope = "global", default = 0, min = 0, max = 9, engine = "reads" }

[variables.mailboat]
parcels = { type = "int", scope = "instance", default = 0, writers = ["*"], engine = "both" }
"#;
    let script = r#"script tides for tide

on bell {
    let now = pilot
    match now {
        none { note "nobody" }
        else { pilot.parcels += 1 }
    }
    if now != none {
        pilot.parcels += 1
        pilot = none
        now.parcels += 1
        pilot.parcels += 1 // ~ init/empty-ref
    }
}

on touched(other: mailboat) {
    let had = other.parcels
    let more = had + 1
    wait 1s
    if other.parcels == had {
        other.parcels = more
    }
}

on removed_from(other: mailboat) {
    let had = other.parcels
    wait 1s
    if other.parcels >= had {
        other.parcels = had + 1 // ~ sharing/lost-update
    }
}

on tide_turned {
    let now = mood
    if now == "ebb" {
        if mood == "flood" { // ~ range/never
            note "both"
        }
    }
}

on enter {
    send tide_turned
}
"#;
    let signal = "\n[signals.removed_from]\nfrom = \"engine\"\nparameters = { other = \"actor\" }\n";
    expect_in_scripts(&(registry.to_owned() + signal), &[script]);
}

#[test]
fn a_test_is_asked_before_those_that_come_after_it() {
    let writes = "script ebbs for tide\n\non bell when mood == \"ebb\" {\n    flow = 5\n}\n";
    let reads = r#"script floods for tide

on bell {
    if tide.flow > 3 { // ~ sharing/order-hazard
        note "high"
    } else if mood == "ebb" {
        note "low"
    }
}
"#;
    expect_in_scripts(STATE, &[writes, reads]);
}

#[test]
fn a_test_behind_the_mistake_is_not_told_of_beside_it() {
    let script = r#"script tides for tide

on bell {
    level = round(10 / flow) // ~ range/divide-by-zero
    let some = flow != 0
    if some {
        note "{level}"
    }
    flow = random(0, 9)
}
"#;
    expect_in_scripts(STATE, &[script]);
}

#[test]
fn guards_by_mode_hold_across_the_scripts_of_one_owner() {
    let registry = r#"[variables.mailboat]
parcels = { type = "int", scope = "instance", default = 0, min = 0, max = 9, engine = "reads" }
helm = { type = "enum", scope = "instance", values = ["idle", "loading", "sailing"], default = "idle", engine = "reads" }
"#;
    let loads = r#"script loading for mailboat in harbor

on touched(other: parcel) when helm == "idle" and parcels < parcels.max {
    helm = "loading"
    remove other
    wait 1s
    parcels += 1MARK
    helm = "idle"
}
"#;
    let gives = |test: &str| {
        format!(
            r#"script giving for mailboat in harbor

on bell {{
    {test}
    helm = "sailing"
    parcels = 9
    wait 1s
    parcels = 0
    helm = "idle"
}}
"#
        )
    };
    let held = gives("if helm != \"idle\" { return }");
    expect_in_scripts(registry, &[&loads.replace("MARK", ""), &held]);
    let free = gives("if helm == \"sailing\" { return }");
    expect_in_scripts(registry, &[&loads.replace("MARK", " // ~ range/can-exceed"), &free]);
}
