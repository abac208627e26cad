//! One limit, called by whatever name: the same idioms with each of them.

use crate::rules::testing::expect_in_scripts;

/// How the limit is called, what stands before it is asked for, and what else the script holds.
const NAMES: [[&str; 3]; 6] = [
    ["4", "", ""],
    ["height.max", "", ""],
    ["cap", "", ""],
    ["top", "    let top = cap\n", ""],
    ["top", "    let top = height.max\n", ""],
    ["top()", "", "proc top() -> int {\n    return cap\n}\n"],
];

/// A body with `LIMIT` in it, where the limit is a number and where it is a variable.
fn by_any_name(body: &str) {
    for max in ["4", "\"tide.cap\""] {
        let state = format!(
            "[variables.tide]
cap = {{ type = \"int\", scope = \"global\", default = 4, constant = true, engine = \"reads\" }}
height = {{ type = \"int\", scope = \"global\", default = 0, min = 0, max = {max}, engine = \"reads\" }}
high = {{ type = \"bool\", scope = \"global\", default = false, engine = \"reads\" }}
"
        );
        for [name, before, rest] in NAMES {
            let body = body.replace("LIMIT", name);
            let script = format!(
                "script floods for tide\n\non bell {{\n{before}{body}}}\n\non touched {{\n    height = 0\n    high = false\n}}\n\n{rest}"
            );
            expect_in_scripts(&state, &[&script.replace("height.max", "tide.height.max")]);
        }
    }
}

#[test]
fn what_begins_anew_at_its_limit_never_passes_it() {
    by_any_name("    height += 1\n    if height == LIMIT {\n        height = 0\n    }\n");
    by_any_name("    if height == LIMIT {\n        height = 0\n    } else {\n        height += 1\n    }\n");
    by_any_name("    if height == 0 {\n        height = LIMIT\n    } else {\n        height -= 1\n    }\n");
    by_any_name("    height += 1 // ~ range/can-exceed\n    if height == LIMIT + 1 {\n        show \"High.\"\n    }\n");
}

#[test]
fn a_flag_that_is_up_from_the_limit_on_keeps_the_value_within() {
    by_any_name("    if not high {\n        height += 1\n        high = height == LIMIT\n    }\n");
    by_any_name("    if high {\n        return\n    }\n    height += 1\n    high = height >= LIMIT\n");
    by_any_name(
        "    if high {\n        return\n    }\n    height += 1 // ~ range/can-exceed\n    high = height > LIMIT\n",
    );
}

#[test]
fn a_flag_may_be_given_what_a_procedure_finds() {
    let limit = ["4", "height.max"];
    for limit in limit {
        let state = "[variables.tide]
height = { type = \"int\", scope = \"global\", default = 0, min = 0, max = 4, engine = \"reads\" }
high = { type = \"bool\", scope = \"global\", default = false, engine = \"reads\" }
";
        let judged = |mark: &str, test: &str| {
            let script = format!(
                "script floods for tide\n\non bell {{\n    if not high {{\n        height += 1{mark}\n        high = is_high()\n    }}\n}}\n\non touched {{\n    height = 0\n    high = false\n}}\n\nproc is_high() -> bool {{\n    return height {test} {limit}\n}}\n"
            );
            expect_in_scripts(state, &[&script]);
        };
        judged("", "==");
        judged("", ">=");
        judged(" // ~ range/can-exceed", ">");
    }
}
