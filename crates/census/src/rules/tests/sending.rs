//! What scripts send each other, over many signals and back again.

use crate::rules::testing::expect_in_scripts;
use std::fmt::Write;

const HELD: &str = r#"[variables.tide]
held = { type = "int", scope = "global", default = 0, min = 0, max = 30, engine = "reads" }
"#;

#[test]
fn an_argument_that_grows_in_a_circle_of_signals_stops_where_a_test_stops_it() {
    let registry = format!(
        "{HELD}[signals]\npassed = {{ from = \"script\", parameters = {{ n = \"int\" }} }}\nback = {{ from = \"script\", parameters = {{ n = \"int\" }} }}\n"
    );
    let office = "script desk for office

on bell {
    send passed(0)
}

on back(n) {
    if n < 20 {
        send passed(n + 1)
    }
}
";
    let tide =
        |more: &str| format!("script water for tide\n\non passed(n) {{\n    held = n + {more}\n    send back(n)\n}}\n");
    expect_in_scripts(&registry, &[office, &tide("10")]);
    expect_in_scripts(&registry, &[office, &tide("11 // ~ range/can-exceed")]);
}

#[test]
fn what_is_sent_grows_again_late_and_no_further_than_what_it_is_taken_from() {
    let registry = r#"[variables]
lighthouse.load = { type = "int", scope = "instance", default = 0, min = 0, max = 6, writers = ["office", "tide"] }
tide.debt = { type = "int", scope = "global", default = 30, min = 0, max = 60, engine = "reads" }
[signals]
sold = { from = "script", parameters = { n = "int" } }
"#;
    let office = "script desk for office

on touched(other) { // ~ sharing/reentry
    ask \"Sell?\" {
        choice \"All\" when lighthouse.load > 0 {
            send sold(lighthouse.load)
        }
    }
}

on bell {
    lighthouse.load = 6
}
";
    let tide = "script water for tide

on sold(n) {
    debt -= min(n * 4, debt)
    lighthouse.load = 0
}
";
    expect_in_scripts(registry, &[office, tide]);
}

#[test]
fn a_long_chain_of_signals_is_followed_to_its_end() {
    let mut registry = HELD.to_owned();
    let mut script = "script water for tide\n\non s0(n) {\n    held = n // ~ range/can-exceed\n}\n".to_owned();
    for at in 0..60 {
        let _ = writeln!(registry, "[signals.s{at}]\nfrom = \"script\"\nparameters = {{ n = \"int\" }}");
        let _ = match at {
            59 => writeln!(script, "\non bell {{\n    send s59(0)\n}}"),
            _ => writeln!(script, "\non s{}(n) {{\n    send s{at}(n + 1)\n}}", at + 1),
        };
    }
    expect_in_scripts(&registry, &[&script]);
}

/// A sender that keeps itself out while its signal is answered, and what else there is.
fn filled(answer: &str, rest: &str) {
    let state = r#"[variables.tide]
water = { type = "int", scope = "global", default = 0, min = 0, max = 100, engine = "reads" }
filling = { type = "bool", scope = "global", default = false }

[signals.fill]
from = "script"
"#;
    let script = format!(
        "script pumps for tide\n\non bell when not filling {{\n    filling = true\n    send fill\n}}\n\n{answer}\n\n{rest}"
    );
    expect_in_scripts(state, &[&script]);
}

#[test]
fn an_answer_that_lets_its_sender_in_again_at_its_end_meets_no_other() {
    let answer = "on fill {\n    if water < 99 {\n        wait 1s\n        water += 2\n    }\n    filling = false\n}";
    filled(answer, "");
    filled(
        "on fill {\n    let before = water\n    wait 1s\n    water = min(before + 2, 100)\n    filling = false\n}",
        "",
    );
    let told =
        answer.replace("on fill {", "on fill { // ~ sharing/reentry").replace("+= 2", "+= 2 // ~ range/can-exceed");
    filled(
        &told.replace("    if water", "    filling = false\n    if water").replace("}\n    filling = false\n", "}\n"),
        "",
    );
    filled(&told.replace(" // ~ sharing/reentry", ""), "on every 3s {\n    filling = false\n}\n");
    filled(&told, "on start {\n    send fill\n    send fill\n}\n");
}

#[test]
fn a_sender_that_lets_itself_in_again_sends_again() {
    let state = r#"[variables.tide]
water = { type = "int", scope = "global", default = 0, min = 0, max = 100, engine = "reads" }
filling = { type = "bool", scope = "global", default = false }

[signals.fill]
from = "script"
"#;
    let script = r#"script pumps for tide

on bell when not filling {
    filling = true
    send fill
    wait 1s
    filling = false
}

on fill { // ~ sharing/reentry
    if water < 99 {
        wait 5s
        water += 2 // ~ range/can-exceed
    }
    filling = false
}
"#;
    expect_in_scripts(state, &[script]);
}
