//! How much a step moves is decided first, and the step is made afterwards.

use crate::rules::testing::expect_in_scripts;

const STATE: &str = r#"[variables.office]
parcels = { type = "int", scope = "global", default = 0, min = 0, max = 20, engine = "both" }
oil = { type = "int", scope = "global", default = 9, min = 0, max = 40, engine = "both" }
room = { type = "int", scope = "global", default = 20, min = 5, max = 60, engine = "both" }
stock = { type = "int", scope = "global", default = 0, min = 0, max = "office.room", engine = "both" }
"#;

/// A handler with these lines in it, which decide `more`, and a step by that.
fn judged(lines: &str, step: &str, procedures: &str) {
    expect_in_scripts(STATE, &[&format!("script desk for office\n\non bell {{\n{lines}    {step}\n}}\n{procedures}")]);
}

fn decided(lines: &str, step: &str) {
    judged(lines, step, "");
}

#[test]
fn a_test_decides_on_the_amount() {
    decided("    let more = 0\n    if parcels < 20 {\n        more = 1\n    }\n", "parcels += more");
    decided("    let more = 3\n    if parcels > 17 {\n        more = 0\n    }\n", "parcels += more");
    let steps = "    let more = 0
    if parcels < 10 {
        more = 5
    } else if parcels < 15 {
        more = 2
    } else if parcels < 20 {
        more = 1
    }
";
    decided(steps, "parcels += more");
    decided(&steps.replace("more = 2", "more = 7"), "parcels += more // ~ range/can-exceed");
    let costs =
        "    let cost = 0\n    if oil > 10 {\n        cost = 5\n    } else if oil > 2 {\n        cost = 2\n    }\n";
    decided(costs, "oil -= cost");
    decided(&costs.replace("oil > 2", "oil > 0"), "oil -= cost // ~ range/can-fall-below");
}

#[test]
fn a_test_against_a_bound_that_is_a_variable_decides() {
    let steps = "    let more = 0
    if stock + 3 <= room {
        more = 3
    } else if stock < room {
        more = 1
    }
";
    decided(steps, "stock += more");
    decided(&steps.replace("more = 3", "more = 4"), "stock += more // ~ range/can-exceed");
    decided(&steps.replace("stock < room", "stock < 60"), "stock += more // ~ range/can-exceed");
}

#[test]
fn a_procedure_decides_on_the_amount() {
    let amount = "
proc amount() -> int {
    if stock + 3 <= room {
        return 3
    }
    if stock < room {
        return 1
    }
    return 0
}
";
    judged("", "stock += amount()", amount);
    judged("    let more = amount()\n", "stock += more", amount);
    judged("", "stock += amount() // ~ range/can-exceed", &amount.replace("return 0", "return 1"));
}

#[test]
fn a_procedure_gives_nothing_or_as_many_as_there_is_money_for() {
    let afford = |lines: &str| format!("\nproc afford(money: int) -> int {{\n{lines}}}\n");
    for lines in [
        "    if money < 4 {\n        return 0\n    }\n    return floor(money / 4)\n",
        "    let many = 0\n    if money > 3 {\n        many = floor(money / 4)\n    }\n    return many\n",
        "    let most = floor(money / 4)\n    if most > 7 {\n        return 7\n    }\n    return most\n",
    ] {
        judged("", "oil -= afford(oil) * 4", &afford(lines));
        judged("    let more = afford(oil)\n", "oil -= more * 4", &afford(lines));
        judged("    let more = afford(oil)\n", "oil -= more * 5 // ~ range/can-fall-below", &afford(lines));
    }
}

#[test]
fn a_way_is_cut_to_a_step_on_either_side() {
    let state = r#"[variables.office]
depth = { type = "number", scope = "global", default = 0, min = -2, max = 8, engine = "both" }
goal = { type = "number", scope = "global", default = 0, min = -2, max = 5, engine = "both" }
"#;
    let moved = |cuts: &str, step: &str| {
        let lines = format!("    let way = goal - depth\n{cuts}    {step}\n");
        expect_in_scripts(state, &[&format!("script desk for office\n\non bell {{\n{lines}}}\n")]);
    };
    let cuts = "    if way > 0.5 {\n        way = 0.5\n    } else if way < -0.5 {\n        way = -0.5\n    }\n";
    moved(cuts, "depth += way");
    moved(&cuts.replace("way = 0.5", "way = 4"), "depth += way // ~ range/can-exceed");
    moved(&cuts.replace("way < -0.5", "way > 0.2").replace("way = -0.5", "way = 0.2"), "depth += way");
}

#[test]
fn a_procedure_finds_out_whether_it_can_be_done() {
    let able = |test: &str| format!("\nproc check(many: int) {{\n    able = {test}\n}}\n");
    let paid = |lines: &str, test: &str| {
        let script = format!(
            "script desk for office\n\nprivate able: bool = false\n\non gust(force) {{\n{lines}}}\n{}",
            able(test)
        );
        expect_in_scripts(&format!("{STATE}\n{GUST}"), &[&script]);
    };
    let lines = "    check(force)\n    if able {\n        oil -= force\n    }\n";
    paid(lines, "oil >= many");
    paid(lines, "many < oil and oil > 3");
    let told = lines.replace("oil -= force", "oil -= force // ~ range/can-fall-below");
    paid(&told, "oil >= many - 1");
    paid(&told.replace("if able", "if not able"), "oil >= many");
}

#[test]
fn each_number_has_a_test_of_its_own() {
    let paid = |few: i32, step: &str| {
        let lines = format!(
            "    match force {{\n        0, 1, 2, 3 {{\n            if oil < {few} {{ return }}\n        }}\n        else {{\n            if oil < 6 {{ return }}\n        }}\n    }}\n    {step}\n"
        );
        let script = format!("script desk for office\n\non gust(force) {{\n{lines}}}\n");
        expect_in_scripts(&format!("{STATE}\n{GUST}"), &[&script]);
    };
    paid(3, "oil -= force");
    paid(2, "oil -= force // ~ range/can-fall-below");
}

const GUST: &str = r#"[signals.gust]
from = "engine"
to = "all"
parameters = { force = { type = "int", min = 0, max = 6 } }
"#;

#[test]
fn one_of_two_numbers_tells_which_way_was_taken() {
    let state = r#"[variables.office]
heat = { type = "number", scope = "global", default = 20, min = 0, max = 100, engine = "both" }
goal = { type = "number", scope = "global", default = 50, min = 0, max = 100, engine = "both" }
"#;
    let moved = |far: i32, step: &str| {
        let lines = format!(
            "    let way = 1\n    if goal < heat {{\n        way = -1\n    }}\n    if abs(goal - heat) > {far} {{\n        {step}\n    }}\n"
        );
        expect_in_scripts(state, &[&format!("script desk for office\n\non bell {{\n{lines}}}\n")]);
    };
    moved(2, "heat += 2 * way");
    moved(1, "heat += 2 * way // ~ range/can-exceed range/can-fall-below");
}
