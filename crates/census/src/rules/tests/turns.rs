//! Handlers that answer one trigger, one after the other: what the first certainly writes is what the next finds, and what the
//! last one writes over nobody else does.

use crate::rules::testing::expect_in_scripts;

const STATE: &str = r#"[variables]
office.queue = { type = "int", scope = "global", default = 0, min = 0, max = 6, engine = "reads" }
office.last = { type = "int", scope = "global", engine = "reads" }
office.shares = { type = "int", scope = "global", default = 3, min = 0, max = 6, engine = "reads", writers = ["*"] }
office.open = { type = "bool", scope = "global", default = false, engine = "reads" }
parcel.weight = { type = "int", scope = "instance", default = 1, min = 0, max = 6, engine = "reads", writers = ["*"] }
"#;

/// A script for the office in which more and more come to wait, up to six.
fn office(handlers: &str) -> String {
    format!("script a for office\n\non touched {{\n    queue = min(queue + 1, 6)\n}}\n{handlers}")
}

fn expect(handlers: &str) {
    expect_in_scripts(STATE, &[&office(handlers)]);
}

#[test]
fn what_one_writes_the_next_finds() {
    expect("on bell { queue = 0 }\non bell { queue += 6 }\n");
    expect("on bell { queue = 0 }\non bell { queue += 3 }\non bell { queue += 3 }\n");
    expect("on bell { queue = 0 }\non bell { queue += 4 }\non bell { queue += 4 } // ~ range/can-exceed\n");
    expect("on every 1s { queue = min(queue, 2) }\non every 60t { queue += 4 }\n");
    expect("on bell { queue = 1 }\non bell { if queue == 0 { note \"empty\" } } // ~ range/never\n");
}

#[test]
fn what_may_not_have_come_counts_for_nothing() {
    expect("on bell { queue += 6 } // ~ range/can-exceed\non bell { queue = 0 }\n");
    expect("on bell when open { queue = 0 }\non bell { queue += 6 } // ~ range/can-exceed\non start { open = true }\n");
    expect(
        "on bell { if open { queue = 0 } }\non bell { queue += 6 } // ~ range/can-exceed\non start { open = true }\n",
    );
    expect("on bell {\n    wait 1s\n    queue = 0\n}\non bell { queue += 6 } // ~ range/can-exceed\n");
    expect("on every 1s { queue = 0 }\non every 2s { queue += 6 } // ~ range/can-exceed\n");
}

#[test]
fn a_value_given_just_before_is_there() {
    expect("on bell { last = queue }\non bell { note \"{last}\" }\n");
    let cleared =
        "on bell { last = queue }\non bell { clear last }\non bell { note \"{last}\" } // ~ init/read-before-set\n";
    expect(cleared);
}

#[test]
fn each_instance_finds_its_own() {
    let script = |second: &str| format!("script a for parcel\n\non bell {{ weight = 0 }}\n{second}");
    expect_in_scripts(STATE, &[&script("on bell { weight += 6 }\n")]);
    // The others had their turn before, and may all have reached for the same one.
    let others = "on bell {\n    for other in parcel {\n        other.weight += 1 // ~ range/can-exceed\n    }\n}\n";
    expect_in_scripts(STATE, &[&script(others)]);
}

const SHARED_OUT: &str = "on every 2s { note \"{6 / office.shares}\" }";
const DIVIDES: &str = "// ~ range/divide-by-zero";

#[test]
fn what_a_later_one_writes_over_does_not_last() {
    let lasts = |handlers: &str| expect(&format!("{handlers}{SHARED_OUT} {DIVIDES}\n"));
    let goes = |handlers: &str| expect(&format!("{handlers}{SHARED_OUT}\n"));
    goes("on bell { shares = 0 }\non bell { shares = 4 }\n");
    goes("on start { shares = 0 }\non start { shares = 4 }\n");
    goes("on bell {\n    shares = 0\n    wait 1s\n}\non bell { shares = 4 }\n");
    goes(&format!(
        "on bell {{ shares = 0 }}\n{} {DIVIDES}\non bell {{ shares = 4 }}\n",
        SHARED_OUT.replace("every 2s", "bell")
    ));
    lasts("on bell { shares = 4 }\non bell { shares = 0 }\n");
    lasts("on bell {\n    wait 1s\n    shares = 0\n}\non bell { shares = 4 }\n");
    lasts("on bell { shares = 0 }\non bell {\n    wait 1s\n    shares = 4\n}\n");
    lasts("on bell { shares = 0 }\non bell { if open { shares = 4 } }\non touched { open = not open }\n");
    lasts("on bell { shares = 0 }\non bell { shares = shares }\n");
}

#[test]
fn another_may_write_over_that_of_all_instances() {
    let judged = |all: &str, told: &str| {
        let own = format!(
            "script a for parcel\n\non bell {{ weight = 0 }}\non touched {{ note \"{{6 / weight}}\" }} {told}\n"
        );
        let other = format!(
            "script b for office\n\non bell {{\n    for each in parcel{all} {{\n        each.weight = 3 // ~ sharing/order-hazard\n    }}\n}}\n"
        );
        expect_in_scripts(STATE, &[&own, &other]);
    };
    judged("", "");
    judged(" where chance(0.5)", DIVIDES);
}

#[test]
fn what_is_spawned_meanwhile_sees_it() {
    let spawned = format!("script b for parcel\n\n{} {DIVIDES}\n", SHARED_OUT.replace("every 2s", "spawn"));
    let handlers = office("on bell { shares = 0 }\non bell { spawn parcel }\non bell { shares = 4 }\n");
    expect_in_scripts(STATE, &[&handlers, &spawned]);
}

#[test]
fn another_script_may_make_it_certain() {
    let by = |owner: &str, handlers: &str| format!("script b for {owner}\n\n{handlers}\n");
    let hazard = "// ~ sharing/order-hazard";
    let bell = SHARED_OUT.replace("every 2s", "bell");
    let emptied = "on bumped { shares = 0 }\n";
    let system = office(&format!("on bell {{ shares = 4 }}\n{emptied}"));
    expect_in_scripts(STATE, &[&system, &by("tide", &format!("{bell} {hazard}"))]);
    expect_in_scripts(STATE, &[&system, &by("parcel", &format!("{bell} {hazard}"))]);
    // There may be no parcel that answers.
    let actor = by("parcel", "on bell { office.shares = 4 }");
    let second = office(&format!("{emptied}{bell} // ~ range/divide-by-zero sharing/order-hazard\n"));
    expect_in_scripts(STATE, &[&actor, &second]);
}

#[test]
fn what_has_changed_is_another_than_it_was() {
    let differs = |told: &str, rest: &str| {
        let changed = format!("on changed shares {{ note \"{{1 / (shares - was)}}\" }}{told}\n");
        expect(&format!("{changed}on every 2s {{ shares = random(0, 6) }}\n{rest}"));
    };
    let told = " // ~ range/divide-by-zero";
    differs("", "");
    differs("", "on bell { shares = 3 }\n");
    // What is due at the same moment comes before the change is answered.
    differs(told, "on bell {\n    wait 1s\n    shares = 3\n}\n");
    differs(told, "on tick { shares = 3 }\n");
    differs(told, "on tide_turned { shares = 3 }\non bell { send tide_turned }\n");
    differs(told, "on changed open { shares = 3 }\non bell { open = not open }\n");
    expect(
        "on changed shares {\n    shares = 3\n    note \"{1 / (shares - was)}\" // ~ range/divide-by-zero\n}\non bell { shares = random(0, 6) }\n",
    );
}
