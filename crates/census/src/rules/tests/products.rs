//! How many there is money for, times what one costs: on every way on which the number came about.

use crate::rules::testing::expect_in_scripts;

const STATE: &str = r#"[variables.office]
oil = { type = "int", scope = "global", default = 20, min = 0, max = 100, engine = "reads" }
cost = { type = "int", scope = "global", default = 4, min = 1, max = 9, engine = "both" }
crates = { type = "int", scope = "global", default = 0, min = 0, max = 50, engine = "both" }
"#;

/// A handler with these lines in it, and these procedures behind it.
fn on_bell(lines: &str, procedures: &str) {
    expect_in_scripts(STATE, &[&format!("script desk for office\non bell {{\n{lines}}}\n{procedures}")]);
}

const AS_MANY_AS: &str = "proc as_many_as(money: int) -> int {
    if money <= 0 {
        return 0
    }
    return floor(money / cost)
}
";

#[test]
fn none_on_one_way_and_as_many_as_there_is_money_for_on_the_other() {
    on_bell(
        "    let trips = 0\n    if oil >= cost {\n        trips = floor(oil / cost)\n    }\n    oil -= trips * cost\n",
        "",
    );
    on_bell(
        "    let trips = 1
    if oil >= cost {
        trips = floor(oil / cost)
    }
    oil -= trips * cost // ~ range/can-fall-below
",
        "",
    );
    on_bell(
        "    let trips = 3
    if trips * cost > oil {
        trips = 2
    }
    if trips * cost > oil {
        trips = 0
    }
    oil -= trips * cost
",
        "",
    );
}

#[test]
fn a_procedure_gives_how_many() {
    on_bell("    let trips = min(3, as_many_as(oil))\n    oil -= trips * cost\n", AS_MANY_AS);
    on_bell("    oil -= as_many_as(oil) * cost\n", AS_MANY_AS);
    on_bell("    let trips = max(3, as_many_as(oil))\n    oil -= trips * cost // ~ range/can-fall-below\n", AS_MANY_AS);
    on_bell(
        "    oil -= as_many_as(oil) * cost // ~ range/can-fall-below\n",
        &AS_MANY_AS.replace("return 0", "return 1"),
    );
    on_bell(
        "    oil -= most() * cost\n",
        "proc most() -> int {
    let trips = floor(oil / cost)
    if trips > 5 {
        return 5
    }
    return trips
}
",
    );
    on_bell("    burn(floor(oil / cost))\n", "proc burn(trips: int) {\n    oil -= trips * cost\n}\n");
}

#[test]
fn a_loop_counts_as_far_as_the_money_goes() {
    let burns = |test: &str, marked: &str| {
        on_bell(
            &format!(
                "    let trips = 0\n    while {test} {{\n        trips += 1\n    }}\n    oil -= trips * cost{marked}\n"
            ),
            "",
        );
    };
    burns("oil - trips * cost >= cost", "");
    burns("(trips + 1) * cost <= oil", "");
    burns("trips * cost <= oil", " // ~ range/can-fall-below");
    on_bell(
        "    let trips = min(3, crates)
    while trips > 0 and trips * cost > oil {
        trips -= 1
    }
    oil -= trips * cost
",
        "",
    );
}

#[test]
fn a_product_is_another_once_a_factor_is() {
    let between = |line: &str, marked: &str| {
        on_bell(&format!("    let trips = floor(oil / cost)\n    {line}\n    oil -= trips * cost{marked}\n"), "");
    };
    between("trips = min(trips, 4)", "");
    between("cost = max(cost - 1, 1)", "");
    between("trips += 1", " // ~ range/can-fall-below");
    between("cost = 9", " // ~ range/can-fall-below");
    between("oil = min(oil, 4)", " // ~ range/can-fall-below");
}

#[test]
fn a_place_takes_off_what_it_is_multiplied_to() {
    expect_in_scripts(
        &STATE.replace("min = 0, max = 50", "min = -900"),
        &["script desk for office
on bell {
    repeat 2 {
        if crates * cost > crates {
            crates -= cost * crates // ~ range/can-fall-below
        }
        if random(0, 9) == 6 {
            crates += 1
        }
    }
}
on bumped {
    cost = 2
}
"],
    );
}

#[test]
fn what_goes_round_is_another_factor() {
    expect_in_scripts(
        &STATE.replace("crates = { ", "crates = { overflow = \"wrap\", "),
        &["script desk for office
on bell {
    if oil >= cost * crates {
        crates += 3
        if oil + 27 >= cost * crates and crates > 5 {
            oil -= cost * crates // ~ range/can-fall-below
        }
    }
}
"],
    );
}

#[test]
fn so_many_of_a_hundred_are_no_more_than_a_hundred() {
    let share = |lines: &str| {
        let hold = "load = { type = \"int\", scope = \"global\", default = 3, min = 0, max = \"office.hold\", engine = \"both\" }
hold = { type = \"int\", scope = \"global\", default = 5, min = 1, max = 50, engine = \"reads\" }
";
        let script = format!(
            "script desk for office\non bell {{\n{lines}}}\non touched(other) {{\n    hold = max(load, 4)\n}}\n"
        );
        expect_in_scripts(&format!("{STATE}{hold}"), &[&script]);
    };
    share("    oil = floor(load * 100 / hold)\n");
    share("    oil = floor(100 * load / load.max)\n");
    share("    let part = load * 100\n    oil = 100 - ceil(part / max(hold, 1))\n");
    share("    let most = min(crates, cost)\n    oil = floor(most * 50 / cost) + 50\n");
    share("    if crates <= cost {\n        oil = round(crates * 100 / (cost + 1))\n    }\n");
    share("    oil = floor(load * 101 / hold) // ~ range/can-exceed\n");
    share("    oil = floor(load * 100 / cost) // ~ range/can-exceed\n");
    share("    oil = floor((load + 1) * 100 / hold) // ~ range/can-exceed\n");
    share("    oil = floor((load - 1) * 100 / hold) // ~ range/can-fall-below\n");
    share("    if crates <= cost + 1 {\n        oil = floor(crates * 100 / cost) // ~ range/can-exceed\n    }\n");
}
