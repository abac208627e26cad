//! What a test tells, in every form of test, for every kind of thing that can be wrong without it.

use crate::rules::testing::expect_in_scripts;

const STATE: &str = r#"[variables.tide]
storm = { type = "bool", scope = "global", default = false, engine = "both" }
share = { type = "number", scope = "global", default = 0, engine = "reads" }
boats = { type = "int", scope = "global", default = 0, min = 0, max = 9, engine = "both" }
pilot = { type = "ref", scope = "global", of = "mailboat", engine = "both" }
depth = { type = "int", scope = "global" }
warned = { type = "bool", scope = "global", default = false, engine = "reads" }

[variables.mailboat]
load = { type = "int", scope = "instance", default = 0, engine = "both", writers = ["*"] }
"#;

/// Something that is wrong where `holds` does not: what is done, the rule that tells of it, and what ends the test's truth.
struct Case {
    holds: &'static str,
    fails: &'static str,
    done: &'static str,
    rule: &'static str,
    spoilt: &'static str,
}

const CASES: [Case; 5] = [
    Case {
        holds: "boats > 0",
        fails: "0 == boats",
        done: "share = 10 / boats",
        rule: "range/divide-by-zero",
        spoilt: "boats = 0",
    },
    Case {
        holds: "pilot is set",
        fails: "pilot is none",
        done: "pilot.load = 1",
        rule: "init/empty-ref",
        spoilt: "pilot = none",
    },
    Case {
        holds: "depth is set",
        fails: "depth is not set",
        done: "share = depth",
        rule: "init/read-before-set",
        spoilt: "clear depth",
    },
    Case {
        holds: "other is mailboat",
        fails: "other is not mailboat",
        done: "other.load = 1",
        rule: "sharing/unchecked-kind",
        spoilt: "",
    },
    Case {
        holds: "scene is harbor",
        fails: "scene is not harbor",
        done: "harbor.queue = 1",
        rule: "sharing/other-scene",
        spoilt: "",
    },
];

/// Bodies: `T` holds, `F` fails, `OK` is done where it is safe, `BAD` where it is not, and `SPOIL` ends what was told.
const BODIES: [&str; 42] = [
    "if T { OK }",
    "if F { return }\n OK",
    "if F { note \"no\" } else { OK }",
    "if F { note \"no\" }\n BAD",
    "if T and storm { OK }",
    "if storm and T { OK }",
    "if T or storm { BAD }",
    "if F or storm { return }\n OK",
    "if F and storm { return }\n BAD",
    "if not (F or storm) { OK }",
    "if not (F and storm) { BAD }",
    "if not (not (T)) { OK }",
    "if (T and storm) or (T and not storm) { OK }",
    "if (T) == true { OK }",
    "if (T) == false { return }\n OK",
    "match T {\n true { OK }\n false { note \"no\" }\n }",
    "match T {\n false { note \"no\" }\n else { OK }\n }",
    "match T {\n true { note \"yes\" }\n else { BAD }\n }",
    "let ok = T\n if ok { OK }",
    "let ok = T and storm\n if not ok { return }\n OK",
    "let ok = T or storm\n if ok { BAD }",
    "let ok = T\n if storm { ok = false }\n if ok { OK }",
    "let ok = T\n if storm { ok = true }\n if ok { BAD }",
    "let ok = false\n if T { ok = true }\n if ok { OK }",
    "let stop = false\n if F { stop = true }\n if storm { stop = true }\n if not stop { OK }",
    "let ok = false\n if T { ok = true }\n ok = not ok\n if not ok { OK }",
    "warned = T\n if warned { OK }",
    "warned = T\n SPOIL\n if warned { BAD }",
    "warned = T or storm\n if warned { BAD }",
    "while F { return }\n OK",
    "repeat 3 {\n if F { break }\n OK\n }",
    "repeat 3 {\n if F { break }\n warned = true\n }\n BAD",
    "repeat 3 {\n if F { return }\n warned = true\n }\n OK",
    "if storm { return } else if F { return }\n OK",
    "if storm {\n if F { return }\n }\n BAD",
    "if storm {\n if F { return }\n } else if not (T) { return }\n OK",
    "if T { OK } else { BAD }",
    "wait until T\n OK",
    "wait until T or storm\n BAD",
    "if T {\n SPOIL\n BAD\n }",
    "if T {\n if storm { SPOIL }\n BAD\n }",
    "let ok = T\n SPOIL\n if ok { BAD }",
];

/// One statement a line, so that marks stand where they belong.
fn script(case: &Case, body: &str) -> String {
    let bad = format!("\n{} // ~ {}\n", case.done, case.rule);
    let lines = body.replace('{', "{\n").replace('}', "\n}");
    let words = lines.split(' ').map(|word| match word.trim() {
        "T" | "(T)" | "(T))" | "(T" => word.replace('T', case.holds),
        "F" | "(F" | "F)" => word.replace('F', case.fails),
        "OK" => word.replace("OK", case.done),
        "BAD" => word.replace("BAD", &bad),
        "SPOIL" => word.replace("SPOIL", case.spoilt),
        _ => word.to_owned(),
    });
    let body: Vec<String> = words.collect();
    format!(
        "script pier for tide

on touched(other) {{
{}
}}

on bell {{
    boats = random(0, 9)
    if storm {{
        go marsh
    }}
}}

on start when chance(0.5) {{
    depth = 1
}}
",
        body.join(" ")
    )
}

#[test]
fn what_a_test_tells_in_every_form() {
    let registry = format!(
        "{STATE}[variables.harbor]\nqueue = {{ type = \"int\", scope = \"scene\", default = 0, engine = \"reads\", writers = [\"*\"] }}\n"
    );
    for case in &CASES {
        for body in BODIES.iter().filter(|body| !case.spoilt.is_empty() || !body.contains("SPOIL")) {
            expect_in_scripts(&registry, &[&script(case, body)]);
        }
    }
}

#[test]
fn what_was_told_of_a_scene_is_over_with_a_wait() {
    let registry = "[variables.harbor]\nqueue = { type = \"int\", scope = \"scene\", default = 0, engine = \"reads\", writers = [\"*\"] }\n";
    expect_in_scripts(
        registry,
        &["script pier for tide

on touched(other) {
    let here = scene is harbor
    if here {
        harbor.queue = 1
    }
    wait 1s
    if here {
        harbor.queue = 2 // ~ sharing/other-scene
    }
}

on bell {
    go marsh
}
"],
    );
}

#[test]
fn what_was_told_of_an_instance_is_over_once_it_is_removed() {
    expect_in_scripts(
        STATE,
        &["script pier for tide

on touched(other: mailboat) {
    let there = pilot is set
    remove other
    if there {
        pilot.load = 1 // ~ init/empty-ref
    }
    let many = count(mailboat) > 2
    spawn mailboat
    if many {
        share = 4
    }
    pilot = other
}

on bell {
    pilot.load = 1 // ~ init/empty-ref
}
"],
    );
}
