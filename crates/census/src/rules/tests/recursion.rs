//! Procedures that call themselves, straight or by way of others.

use crate::rules::testing::expect_in_scripts;

const STATE: &str = r#"[variables.office]
oil = { type = "int", scope = "global", default = 10, min = 0, max = 10, engine = "reads" }
parcels = { type = "int", scope = "global", default = 0, min = 0, max = 20, engine = "reads" }
sorted = { type = "int", scope = "global", default = 0, min = 0, max = 6, engine = "reads" }
calm = { type = "bool", scope = "global", default = false, engine = "both" }
[signals.delivered]
from = "engine"
to = "all"
parameters = { count = { type = "int", min = 0, max = 8 } }
"#;

fn judged(procedures: &str, call: &str) {
    let script = format!("script desk for office\n{procedures}\non delivered(count) {{\n    {call}\n}}\n");
    expect_in_scripts(STATE, &[&script]);
}

#[test]
fn inner_calls_count_with_what_they_are_given() {
    judged(
        "proc fill(n: int) {
    if n > 0 and parcels < 20 {
        parcels += 1
        fill(n - 1)
    }
}
",
        "fill(5)",
    );
    judged(
        "proc drain(n: int) {
    if n > 0 {
        oil -= 1 // ~ range/can-fall-below
        drain(n - 1)
    }
}
",
        "drain(8)",
    );
    judged(
        "proc sort(n: int) {\n    if n < 9 {\n        sorted = n // ~ range/can-exceed\n        sort(n + 2)\n    }\n}\n",
        "sort(0)",
    );
}

#[test]
fn each_call_has_its_own_locals() {
    judged(
        "proc climb(n: int) {
    let here = n
    if n > 0 {
        climb(n - 1)
    }
    if here != n { // ~ range/never
        note \"Lost.\"
    }
    sorted = min(n, 6)
}
",
        "climb(count)",
    );
}

#[test]
fn two_that_call_each_other_come_to_their_end() {
    let both = "proc even(n: int) -> bool {
    if n == 0 {
        return true
    }
    return odd(n - 1)
}
proc odd(n: int) -> bool {
    if n == 0 {
        return false
    }
    return even(n - 1)
}
";
    judged(both, "calm = even(count)");
    judged(both, "if even(count) {\n        sorted = 7 // ~ range/can-exceed\n    }");
}

#[test]
fn what_an_inner_call_gives_is_what_the_procedure_gives() {
    judged(
        "proc worth(n: int) -> int {
    if n <= 0 {
        return 0
    }
    if n > 4 {
        return 10
    }
    return 1 + worth(n - 1)
}
",
        "parcels = min(parcels + worth(count), 20)",
    );
    judged(
        "proc shared(a: int, b: int) -> int {
    if b == 0 {
        return a
    }
    return shared(b, a % b)
}
",
        "parcels = min(shared(count, 12), 20)",
    );
    judged(
        "proc less(n: int) -> int {
    if n <= 0 {
        return 0
    }
    return less(n - 1) - n
}
",
        "parcels = min(less(count) + 20, 20) // ~ range/can-fall-below",
    );
}
