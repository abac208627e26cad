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
level = { type = "number", scope = "global", default = 50, min = 0, max = 100, engine = "both" }
share = { type = "number", scope = "global", default = 0.5, min = 0, max = 1, engine = "both" }
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

#[test]
fn a_mean_of_two_lies_between_them() {
    for kept in [
        "fuel += (level - fuel) * share",
        "fuel = fuel + share * (level - fuel)",
        "fuel = fuel * (1 - share) + level * share",
        "fuel = (fuel * cost + level) / (cost + 1)",
        "fuel += (level - fuel) * tick_length()",
    ] {
        on_paid(&format!("    {kept}\n"));
    }
    on_paid("    fuel = max(fuel * (1 - share) + level, 0) // ~ range/can-exceed\n");
    on_paid("    fuel += max((level - fuel) * rate, 0) // ~ range/can-exceed\n");
    on_paid("    fuel = (fuel * cost + level) / max(cost, 1) // ~ range/can-exceed\n");
}

#[test]
fn a_share_of_a_bound_tells_how_much_room_there_is() {
    for room in ["stock / most < 1", "stock * 100 / most < 100", "1 > stock / most"] {
        on_paid(&format!("    if {room} {{\n        stock += 1\n    }}\n"));
    }
    on_paid("    let full = stock / most\n    if full < 1 {\n        stock += 1\n    }\n");
    on_paid("    let full = stock / most\n    if full <= 1 {\n        stock += 1 // ~ range/can-exceed\n    }\n");
    on_paid(
        "    let full = stock / most
    stock = min(stock + trips, most)
    if full < 1 {
        stock += 1 // ~ range/can-exceed
    }
",
    );
    on_paid(
        "    if stock / most < 1 { // ~ range/always\n        note \"{stock * 2}\"\n    }\n"
            .replace("stock", "trips")
            .as_str(),
    );
}

#[test]
fn as_many_as_there_is_money_for() {
    on_paid("    let price = cost + 1\n    let many = min(trips, floor(oil / price))\n    oil -= many * price\n");
    on_paid(
        "    let price = cost + 1\n    let can = floor(oil / price)\n    if trips <= can {\n        oil -= price * trips\n    }\n",
    );
    on_paid(
        "    let price = cost + 1
    let many = min(trips, ceil(oil / price))
    oil -= many * price // ~ range/can-fall-below
",
    );
    on_paid(
        "    let price = cost + 1
    let many = min(trips, floor(oil / price))
    price += 1
    oil -= many * price // ~ range/can-fall-below
",
    );
}

#[test]
fn a_distance_is_one_of_two_differences() {
    on_paid(
        "    let step = min(abs(level - fuel), 3)
    if fuel < level {
        fuel += step
    } else {
        fuel -= step
    }
",
    );
    on_paid(
        "    if abs(fuel - level) < 2 {
        return
    }
    if level > fuel {
        fuel += 2
    } else {
        fuel -= 2
    }
",
    );
    on_paid(
        "    let step = min(abs(level - fuel), 3)
    if fuel > level {
        fuel += step // ~ range/can-exceed
    } else {
        fuel -= step // ~ range/can-fall-below
    }
",
    );
}

#[test]
fn an_invariant_may_have_products_of_its_own() {
    let state = format!("{STATE}[invariants.cheap]\nholds = \"office.trips * office.cost <= 100\"\n");
    let desk = "script desk for office
on paid(part, n) {
    let many = floor(oil / max(cost, 1))
    if trips * cost < 50 {
        trips = min(trips + 1, 10)
    }
    note \"{many * cost}\"
}
";
    expect_in_scripts(&state, &[desk]);
}

#[test]
fn a_number_that_division_left_beside_itself_is_still_that_number() {
    let desk = "script desk for office
on paid(part, n) {
    fuel = 8.5
    if n > 3 {
        fuel = 4.75
    }
    level = fuel / 6
    let round = 0
    while round < 1 {
        round += 1
    }
    if fuel < 6.5 {
        note \"{level:1}\"
    }
}
";
    expect_in_scripts(STATE, &[desk]);
}

#[test]
fn a_quotient_of_what_was_before_says_nothing_of_what_is_now() {
    let desk = "script desk for office
on paid(part, n) {
    if stock >= 3 {
        stock -= 3
    }
    let filled = stock / max(trips.max, 1)
    stock = min(stock + 4, trips.max - 3)
    if stock > 6 and filled < 3 { // ~ range/always
        note \"full\"
    }
}
";
    expect_in_scripts(STATE, &[desk]);
}

#[test]
fn what_is_made_whole_goes_past_no_whole_number() {
    for kept in [
        "stock = floor(most * 0.5)",
        "stock = round(most * share)",
        "stock += ceil((most - stock) * share)",
        "stock -= ceil(stock * share)",
        "stock = most - floor(most / 3)",
    ] {
        on_paid(&format!("    {kept}\n"));
    }
    on_paid("    stock = round(most * (share + 0.1)) // ~ range/can-exceed\n");
    on_paid("    stock -= ceil(stock * share + 0.5) // ~ range/can-fall-below\n");
}

#[test]
fn a_share_is_below_one_as_long_as_it_was_left_alone() {
    let kept = |share: &str, between: &str, told: &str, procedures: &str| {
        let script = format!(
            "script desk for office\n\non bell {{\n    let part = {share}\n{between}    if part < 1 {{\n        stock += 1{told}\n    }}\n}}\n\n{procedures}"
        );
        expect_in_scripts(&STATE.replace("max = \"office.most\"", "max = 40"), &[&script]);
    };
    let told = " // ~ range/can-exceed";
    let helper = "proc helper() {\n    oil = random(10, 20)\n}\n";
    let filling = "proc helper() {\n    stock = random(10, 40)\n}\n";
    for share in ["stock / stock.max", "stock / 40"] {
        kept(share, "", "", "");
        kept(share, "    helper()\n", "", helper);
        kept(share, "    repeat trips {\n        helper()\n    }\n", "", helper);
        kept(share, "    repeat trips {\n        helper()\n    }\n", told, filling);
    }
    kept("stock / 50", "", told, "");
}

/// The same with procedures behind it.
fn on_paid_with(lines: &str, procedures: &str) {
    expect_in_scripts(STATE, &[&format!("script desk for office\non paid(part, n) {{\n{lines}}}\n\n{procedures}")]);
}

#[test]
fn what_a_procedure_only_works_out_is_the_same_each_time() {
    let table = "proc price(of: int) -> int {\n    match of {\n        1 {\n            return 5\n        }\n        2, 3 {\n            return cost\n        }\n        else {\n            return high(of)\n        }\n    }\n}\n\nproc high(of: int) -> int {\n    if of > 5 {\n        return 20\n    }\n    return 12\n}\n";
    let told = " // ~ range/can-fall-below";
    let pays = |between: &str, then: &str, mark: &str| {
        let lines = format!("    if oil >= price(trips) {{\n{between}        oil -= {then}{mark}\n    }}\n");
        on_paid_with(&lines, table);
    };
    pays("", "price(trips)", "");
    pays("        let cents = price(trips)\n", "cents", "");
    pays("        stock = 1\n", "price(trips)", "");
    pays("        trips = 4\n", "price(trips)", told);
    pays("", "price(trips + 1)", told);
    pays("        let other = trips + n * 0\n", "price(other)", told);
    pays("        fuel = 3\n", "price(trips)", "");
    // What is drawn is another number each time.
    let drawn = table.replace("return 20", "return random(1, 9)");
    on_paid_with(&format!("    if oil >= price(trips) {{\n        oil -= price(trips){told}\n    }}\n"), &drawn);
    let counts = "proc next() -> int {\n    trips = min(trips + 1, 10)\n    return trips\n}\n";
    on_paid_with(&format!("    if oil >= next() {{\n        oil -= next(){told}\n    }}\n"), counts);
}

/// Handlers of a script with a procedure that says what so many cost, and one that says whether that can be paid.
fn priced(handlers: &str) {
    ["n * cost", "floor(n * rate)", "n + trips * n"].iter().for_each(|cost| priced_at(cost, handlers));
}

fn priced_at(cost: &str, handlers: &str) {
    let cost = format!(
        "proc cost_of(n: int) -> int {{\n    if label == \"\" {{\n        return n * 2\n    }}\n    return {cost}\n}}\n"
    );
    let can_pay = "proc can_pay(count: int) -> bool {\n    return cost_of(count) <= oil\n}\n";
    expect_in_scripts(STATE, &[&format!("script desk for office\n{cost}{can_pay}{handlers}")]);
}

#[test]
fn what_a_procedure_asks_of_its_parameter_holds_of_what_was_passed() {
    for count in ["trips", "3", "trips + 1"] {
        priced(&format!(
            "on paid(part, n) {{\n    if can_pay({count}) {{\n        oil -= cost_of({count})\n    }}\n}}\n"
        ));
    }
    priced(
        "on paid(part, n) {\n    let k = abs(n)\n    if not can_pay(k) {\n        return\n    }\n    oil -= cost_of(k)\n}\n",
    );
    priced(
        "on bell {\n    while trips > 0 and can_pay(trips) {\n        oil -= cost_of(trips)\n        trips -= 1\n    }\n}\n",
    );
}

#[test]
fn what_was_passed_is_another_number_once_it_changes() {
    let changed = |between: &str| {
        format!(
            "on bell when trips < 9 {{\n    if can_pay(trips) {{\n        {between}\n        oil -= cost_of(trips) // ~ range/can-fall-below\n    }}\n}}\n"
        )
    };
    priced(&changed("trips += 2"));
    priced_at("n * cost", &changed("cost = 10"));
    priced_at("floor(n * rate)", &changed("label = \"\""));
    priced("on bell {\n    if can_pay(2) {\n        oil -= cost_of(3) // ~ range/can-fall-below\n    }\n}\n");
    priced("on bell {\n    if can_pay(trips) {\n        oil -= cost_of(2) // ~ range/can-fall-below\n    }\n}\n");
}

#[test]
fn what_was_asked_in_one_procedure_is_done_in_another() {
    let bought = |test: &str, told: &str| {
        let script = format!(
            "script desk for office\n\nproc can_pay(count: int) -> bool {{\n    return count * cost <= oil\n}}\n\nproc pay(so_many: int) {{\n    oil -= so_many * cost{told}\n}}\n\non paid(part, n) {{\n    let k = abs(n)\n    if {test} {{\n        pay(k)\n    }}\n}}\n"
        );
        expect_in_scripts(STATE, &[&script]);
    };
    bought("can_pay(k)", "");
    bought("can_pay(k - 1)", " // ~ range/can-fall-below");
    bought("can_pay(k) or trips > 2", " // ~ range/can-fall-below");
}
