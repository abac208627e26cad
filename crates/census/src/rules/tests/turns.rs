//! Handlers of a script that answer one trigger, one after the other: what the first certainly writes is what the next finds.

use crate::rules::testing::expect_in_scripts;

const STATE: &str = r#"[variables]
office.queue = { type = "int", scope = "global", default = 0, min = 0, max = 6, engine = "reads" }
office.last = { type = "int", scope = "global", engine = "reads" }
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
