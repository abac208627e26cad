//! Long handlers: what a test or a bound tells of one place holds among many others as it does alone.

use crate::rules::testing::expect_in_scripts;
use std::fmt::Write as _;

/// Steps of a place `X` by `A` that stay within its `max`, `B`, in the forms that people write.
const KEPT: [&str; 14] = [
    "if X + A <= B {\n    X += A\n}",
    "if A <= B - X {\n    X += A\n}",
    "if not (X + A > B) {\n    X += A\n}",
    "X += min(A, B - X)",
    "X = min(X + A, B)",
    "X = clamp(X + A, 0, B)",
    "let roomX = B - X\nif A <= roomX {\n    X += A\n}",
    "let roomX = B - X\nX += clamp(roomX, 0, A)",
    "let sumX = X + A\nif sumX > B {\n    sumX = B\n}\nX = sumX",
    "X += A\nif X > B {\n    X = B\n}",
    "let fitsX = X + A <= B\nif fitsX {\n    X += A\n}",
    "let overX = max(X + A - B, 0)\nX += A - overX",
    "let takesX = A\nif takesX > B - X {\n    takesX = B - X\n}\nX += takesX",
    "let wasX = X\nX += A\nif X > B {\n    X = wasX\n}",
];

/// The same, but past the `max`.
const PASSED: [&str; 3] = [
    "if X <= B {\n    X += A # range/can-exceed\n}",
    "X += A # range/can-exceed",
    "X = max(X + A, B) # range/can-exceed",
];

/// A registry and a handler with so many steps, each of a place of its own beside a bound of its own, around some that pass
/// theirs; `open` and `close` stand around all.
fn long(count: usize, open: &str, close: &str) -> (String, String) {
    let mut registry = "[signals.blow]\nfrom = \"engine\"\nto = \"all\"\nparameters = { force = { type = \"int\", min = 0, max = 7 } }\n[variables.tide]\nshare = { type = \"int\", scope = \"global\", default = 2, min = 0, max = 6, engine = \"both\" }\n".to_owned();
    let mut script = format!("script steps for tide\n\non blow(force) {{\n{open}");
    for at in 0..count {
        let step = if at % 9 == 8 { PASSED[at / 9 % PASSED.len()] } else { KEPT[at % KEPT.len()] };
        let (place, bound) = (format!("load{at}"), format!("cap{at}"));
        let _ = writeln!(
            registry,
            "{place} = {{ type = \"int\", scope = \"global\", default = 0, min = 0, max = \"tide.{bound}\", engine = \"reads\" }}"
        );
        let _ = writeln!(
            registry,
            "{bound} = {{ type = \"int\", scope = \"global\", default = 20, min = 10, max = 30, engine = \"both\" }}"
        );
        let amount = ["force", "share", "3"][at % 3];
        let words = step.replace('X', &place).replace('A', amount).replace('B', &bound).replace(" # ", " // ~ ");
        script.push_str(&words);
        script.push('\n');
    }
    (registry, script + close + "}\n")
}

#[test]
fn many_places_each_beside_its_own_bound() {
    let (registry, script) = long(36, "", "");
    expect_in_scripts(&registry, &[&script]);
}

#[test]
fn the_same_in_the_rounds_of_a_loop() {
    let (registry, script) = long(9, "repeat 3 {\n", "}\n");
    expect_in_scripts(&registry, &[&script]);
}

#[test]
fn what_was_read_before_a_wait_behind_many_other_values() {
    let (mut registry, mut script) =
        ("[variables.tide]\n".to_owned(), "script marks for tide\n\non bell {\n".to_owned());
    for at in 0..45 {
        let _ =
            writeln!(registry, "mark{at} = {{ type = \"int\", scope = \"global\", default = 0, engine = \"both\" }}");
        let _ = writeln!(script, "    let high{at} = mark{at} + 1\n    note \"{{high{at}}}\"");
    }
    script.push_str("    let seen = mark7\n    wait 1s\n    mark7 = seen + 1 // ~ sharing/lost-update\n}\n");
    expect_in_scripts(&registry, &[&script]);
}
