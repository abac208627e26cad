//! Procedures that are called for what they give: what they do on the way is done once, where they are called.

use crate::rules::testing::expect_in_scripts;

const STATE: &str = r#"[variables.tide]
free = { type = "int", scope = "global", default = 3, min = 0, max = 3, engine = "both" }
height = { type = "int", scope = "global", default = 0, engine = "reads" }
level = { type = "int", scope = "global" }
depth = { type = "int", scope = "global" }
[signals]
gust = { from = "engine" }
crane = { from = "engine" }
"#;

#[test]
fn a_name_keeps_what_was_answered() {
    expect_in_scripts(
        STATE,
        &[r#"script tides for tide

on bell {
    let ok = any()
    free = 0
    if ok {
        height = floor(5 / free) // ~ range/divide-by-zero
    }
}

on touched(other) {
    let ok = room(2)
    if ok {
        free += 2
    }
    let still = height < 9 and room(1)
    if not still {
        return
    }
    height += free
    free += 1
}

on gust {
    let ok = room(2)
    free = 3
    if ok {
        free += 2 // ~ range/can-exceed
    }
}

proc any() -> bool {
    note "asked"
    return free > 1
}

proc room(by: int) -> bool {
    return free + by <= free.max
}
"#],
    );
}

#[test]
fn what_an_answer_takes_is_taken_once() {
    expect_in_scripts(
        STATE,
        &[r#"script tides for tide

on bell {
    let left = lower()
    if left {
        height += 1
    } else {
        height -= 1
    }
    note "{free}"
}

on tick {
    let left = spend()
    if not left {
        free += 1
    }
}

proc lower() -> bool {
    free = max(free - 1, 0)
    return free > 1
}

proc spend() -> bool {
    if free > 0 {
        free -= 1
        return true
    }
    return false
}
"#],
    );
}

#[test]
fn a_truth_that_is_kept_can_fail_on_the_way() {
    expect_in_scripts(
        STATE,
        &[r#"script tides for tide

private low: bool = false

on bell {
    look()
    note "{low}"
}

proc look() {
    low = 5 % free != 0 // ~ range/divide-by-zero
}
"#],
    );
}

#[test]
fn what_an_answer_sets_is_set() {
    expect_in_scripts(
        STATE,
        &[r#"script tides for tide

on start {
    note "{fill()}"
    if chance(0.5) and drain() > 2 {
        note "drained"
    }
}

proc fill() -> int {
    level = random(1, 4)
    return level
}

proc drain() -> int {
    depth = random(1, 4)
    return depth
}

on bell {
    note "{level}"
    note "{depth}" // ~ init/read-before-set
}
"#],
    );
}

#[test]
fn what_an_answer_changes_is_shown_again() {
    expect_in_scripts(
        STATE,
        &[r#"script tides for tide

on touched(other) {
    show gauge "{height} marks"
}

on bell {
    let got = raise()
    note "{got}"
}

on gust {
    height += 1
    if shown() > 3 {
        note "high"
    }
}

on crane {
    height += 1 // ~ sharing/stale-label
    if chance(0.5) and shown() > 3 {
        note "high"
    }
}

proc raise() -> int {
    height += 1 // ~ sharing/stale-label
    return height
}

proc shown() -> int {
    show gauge "{height} marks"
    return height
}
"#],
    );
}

#[test]
fn what_an_answer_took_is_given_back() {
    let script = |taking: &str, mark: &str| {
        let script = format!(
            "script tides for tide\n\non bell {{ // ~ sharing/reentry\n    if free > 0 {{\n        {taking}\n        wait 2s\n        free += 1{mark}\n    }}\n}}\n\nproc took() -> int {{\n    free -= 1\n    return free\n}}\n"
        );
        let registry =
            "[variables.tide]\nfree = { type = \"int\", scope = \"global\", default = 3, min = 0, max = 3 }\n";
        expect_in_scripts(registry, &[&script]);
    };
    script("note \"{took()} left\"", "");
    script("if took() > 1 { note \"more\" }", "");
    script("if chance(0.5) and took() > 1 { note \"more\" }", " // ~ range/can-exceed");
}
