//! What is written twice and gives the same both times: products, rests, roundings, parts of a vector.

use crate::rules::testing::expect_in_scripts;

const STATE: &str = r#"[variables.office]
oil = { type = "int", scope = "global", default = 50, min = 0, max = 100, engine = "reads" }
fuel = { type = "number", scope = "global", default = 50, min = 0, max = 100, engine = "reads" }
trips = { type = "int", scope = "global", default = 1, min = 0, max = 10, engine = "both" }
cost = { type = "int", scope = "global", default = 1, min = 0, max = 10, engine = "both" }
rate = { type = "number", scope = "global", default = 1, min = 0.5, max = 2.5, engine = "both" }
most = { type = "int", scope = "global", default = 40, min = 10, max = 60, engine = "reads" }
stock = { type = "int", scope = "global", default = 5, min = 0, max = "office.most", engine = "reads" }
drift = { type = "vec2", scope = "global", default = [0.0, 0.0], engine = "both" }
label = { type = "text", scope = "global", default = "12", engine = "both" }
[signals.paid]
from = "engine"
to = "all"
parameters = { part = { type = "number", min = 0, max = 30 }, n = { type = "int", min = -20, max = 20 } }
"#;

/// A handler of the signal with these lines in it.
fn on_paid(lines: &str) {
    expect_in_scripts(STATE, &[&format!("script desk for office\non paid(part, n) {{\n{lines}}}\n")]);
}

#[test]
fn a_guard_tells_of_the_same_term_behind_it() {
    for term in ["trips * cost", "floor(part)", "round(part)", "ceil(trips * rate)", "n % 7", "length(label)"] {
        on_paid(&format!("    if oil >= {term} {{\n        oil -= {term}\n    }}\n"));
        on_paid(&format!("    if oil + {term} > oil.max {{\n        return\n    }}\n    oil += {term}\n"));
        on_paid(&format!("    let whole = {term}\n    if oil >= whole {{\n        oil -= {term}\n    }}\n"));
        on_paid(&format!("    oil -= {term} // ~ range/can-fall-below\n"));
    }
    on_paid("    if oil >= trips * cost {\n        oil -= cost * trips\n    }\n");
    on_paid("    if fuel >= part / rate {\n        fuel -= part / rate\n    }\n");
    on_paid("    if drift.x >= 0 and drift.x <= 100 {\n        fuel = drift.x\n    }\n");
    on_paid("    if number(label) >= 0 and number(label) <= 9 {\n        fuel = number(label)\n    }\n");
    on_paid("    if trips * cost > 50 and trips * cost < 50 { // ~ range/never\n        oil = 1\n    }\n");
}

#[test]
fn another_term_is_another_number() {
    on_paid("    if oil >= trips * cost {\n        oil -= trips * trips // ~ range/can-fall-below\n    }\n");
    on_paid("    if fuel >= part / rate {\n        fuel -= rate * part // ~ range/can-fall-below\n    }\n");
    on_paid("    if drift.x >= 0 and drift.x <= 100 {\n        fuel = max(drift.y, 0) // ~ range/can-exceed\n    }\n");
    on_paid(
        "    if oil >= random(0, 9) * trips {\n        oil -= random(0, 9) * trips // ~ range/can-fall-below\n    }\n",
    );
}

#[test]
fn a_term_is_forgotten_when_what_it_names_changes() {
    let behind = |between: &str| {
        format!(
            "    if oil >= trips * cost {{\n{between}        oil -= trips * cost // ~ range/can-fall-below\n    }}\n"
        )
    };
    on_paid(&behind("        trips = min(trips + 1, trips.max)\n"));
    on_paid(&behind("        cost = 10\n"));
    let waits = behind("        wait 1s\n");
    expect_in_scripts(
        STATE,
        &[&format!("script desk for office\non paid(part, n) {{ // ~ sharing/reentry\n{waits}}}\n")],
    );
    on_paid(
        "    if drift.x >= 0 and drift.x <= 100 {
        drift += vec2(1, 0)
        fuel = max(drift.x, 0) // ~ range/can-exceed
    }
",
    );
    on_paid(
        "    let left = cost
    repeat 3 {
        if oil >= trips * left {
            left = min(left + 1, 10)
            oil -= trips * left // ~ range/can-fall-below
        }
    }
",
    );
}

#[test]
fn a_procedure_may_work_the_term_out() {
    let desk = "script desk for office
proc price(n: int) -> int {
    return trips * n
}
on paid(part, n) {
    if oil >= price(5) {
        oil -= price(5)
    }
    if oil >= price(5) {
        oil -= price(9) // ~ range/can-fall-below
    }
}
";
    expect_in_scripts(STATE, &[desk]);
}

#[test]
fn a_flag_that_asked_about_a_bound_says_nothing_once_the_bound_moved() {
    on_paid(
        "    let full = stock >= stock.max
    most = max(stock, 10)
    if not full {
        stock += 1 // ~ range/can-exceed
    }
",
    );
    on_paid("    let full = stock >= stock.max\n    if not full {\n        stock += 1\n    }\n");
}
