//! Instances that procedures give: what was asked of one where it was chosen is known by the name that takes it.

use crate::rules::testing::expect_in_scripts;

const STATE: &str = r#"[variables.mailboat]
load = { type = "int", scope = "instance", default = 0, min = 0, max = "mailboat.hold", writers = ["*"] }
hold = { type = "int", scope = "instance", default = 4, min = 1, max = 6, engine = "both" }
oil = { type = "int", scope = "instance", default = 5, min = 0, max = 9, engine = "both", writers = ["*"] }
[signals.rung]
from = "engine"
to = "all"
"#;

const FULLEST: &str = "proc with_oil(least: int) -> mailboat {
    for boat in mailboat where boat.oil >= least {
        return boat
    }
    return none
}
";

fn on_rung(procedures: &str, lines: &str) {
    let script = format!("script lamps for office\n{procedures}{FULLEST}\non rung {{\n{lines}}}\n");
    expect_in_scripts(STATE, &[&script]);
}

#[test]
fn what_was_asked_where_it_was_chosen_is_known_where_it_is_taken() {
    on_rung("", "    let one = with_oil(3)\n    if one is not none {\n        one.oil -= 3\n    }\n");
    on_rung(
        "private chosen: mailboat\n",
        "    chosen = with_oil(3)\n    if chosen is none {\n        return\n    }\n    chosen.oil -= 3\n",
    );
    on_rung(
        "",
        "    let one = with_oil(3)
    if one is not none {
        one.oil -= 4 // ~ range/can-fall-below
    }
    one = with_oil(4)
    if one is not none {
        one.oil -= 4
    }
",
    );
}

#[test]
fn one_procedure_may_pass_on_what_another_gives() {
    let passed_on = "proc best() -> mailboat {
    if chance(0.5) {
        return with_oil(6)
    }
    return with_oil(4)
}
";
    for (taken, told) in [("4", ""), ("5", " // ~ range/can-fall-below")] {
        let lines =
            format!("    let one = best()\n    if one is not none {{\n        one.oil -= {taken}{told}\n    }}\n");
        on_rung(passed_on, &lines);
    }
}

#[test]
fn what_two_of_its_numbers_have_to_do_with_each_other_is_known_too() {
    let with_room = "proc with_room() -> mailboat {
    for boat in mailboat {
        if boat.load < boat.hold {
            return boat
        }
    }
    return with_oil(9)
}
";
    for (ask, told) in [(" and one.load < one.hold", ""), ("", " // ~ range/can-exceed")] {
        let lines =
            format!("    let one = with_room()\n    if one is not none{ask} {{\n        one.load += 1{told}\n    }}\n");
        on_rung(with_room, &lines);
    }
    let or_none = with_room.replace("return with_oil(9)", "return none");
    let on_board =
        "    let one = with_room()\n    if one is none {\n        return\n    }\n    one.load += 1\n    one.oil = 9\n";
    on_rung(
        &or_none,
        &format!(
            "{on_board}    let other = with_oil(3)\n    if other is not none {{\n        other.oil -= 3\n    }}\n"
        ),
    );
}

#[test]
fn one_that_is_given_unasked_counts_too() {
    let lines =
        "    let one = either()\n    if one is not none {\n        one.oil -= 3 // ~ range/can-fall-below\n    }\n";
    on_rung(
        "proc either() -> mailboat {
    for boat in mailboat {
        if boat.oil >= 3 or chance(0.1) {
            return boat
        }
    }
    return with_oil(3)
}
",
        lines,
    );
    on_rung("", "    let one = with_oil(1)\n    one.oil -= 1 // ~ init/empty-ref\n");
}
