//! What listens to a change has its turn before the game goes on.

use crate::rules::testing::expect_in_scripts;

const STATE: &str = r#"[variables.tide]
height = { type = "int", scope = "global", default = 0, min = 0, max = 4, engine = "reads", writers = ["*"] }
high = { type = "bool", scope = "global", default = false, engine = "reads", writers = ["*"] }
swell = { type = "int", scope = "global", default = 0, min = 0, max = 4, engine = "both" }
[signals]
lit = { from = "script" }
ebb = { from = "engine", to = "all" }
"#;

const TOLD: &str = " // ~ range/can-exceed";

fn tide(body: &str) {
    expect_in_scripts(STATE, &[&format!("script floods for tide\n\n{body}")]);
}

#[test]
fn what_a_change_puts_right_is_right_by_the_next_signal() {
    let rises = |mark: &str| format!("on bell {{\n    height += 1{mark}\n}}\n\n");
    for test in ["height == 4", "height >= height.max", "height > 2"] {
        tide(&(rises("") + &format!("on changed height when {test} {{\n    height = 0\n}}\n")));
        tide(&(rises("") + &format!("on changed height {{\n    if {test} {{\n        height = 0\n    }}\n}}\n")));
    }
    tide(
        "on bell {\n    if height == 4 {\n        height = 1\n    }\n    height += 1\n}\n\non changed height when height == 4 {\n    height = 0\n}\n",
    );
    tide(&(rises(TOLD) + "on changed height when height == 4 and swell > 2 {\n    height = 0\n}\n"));
    tide(&(rises(TOLD) + "on changed height when height == 4 {\n    wait 1s\n    height = 0\n}\n"));
    tide(
        &(rises(TOLD)
            + "on changed height when height == 4 {\n    height = 0\n}\n\non changed height {\n    height = was\n}\n")
            .replace("= was", "= was // ~ sharing/feedback"),
    );
    tide(
        "on bell {\n    swell += 1 // ~ range/can-exceed\n}\n\non changed swell when swell == 4 {\n    swell = 0\n}\n",
    );
}

#[test]
fn what_comes_before_the_change_is_heard_counts() {
    let keeps = "on changed height when height == 4 {\n    height = 0\n}\n";
    tide(&format!("on bell {{\n    height += 1\n}}\n\non bell {{\n    height += 1{TOLD}\n}}\n\n{keeps}"));
    tide(&format!("on bell {{\n    height += 1\n    send lit\n}}\n\non lit {{\n    height += 2{TOLD}\n}}\n\n{keeps}"));
    tide(&format!("on every 1s {{\n    height += 1\n}}\n\n{keeps}"));
    tide(&format!("on every 1s {{\n    height += 1\n}}\n\non ebb {{\n    height += 1\n}}\n\n{keeps}"));
    tide(&format!("on every 1s {{\n    height += 1{TOLD}\n}}\n\non every 2s {{\n    height += 1{TOLD}\n}}\n\n{keeps}"));
}

#[test]
fn a_flag_that_is_kept_with_each_change_tells_of_the_value() {
    let judged = |when: &str, kept: &str, ebbs: &str, mark: &str| {
        tide(&format!(
            "on {when} {{\n    if not high {{\n        height += 1{mark}\n    }}\n}}\n\non changed height {{\n    high = {kept}\n}}\n\non ebb {{\n    {ebbs}\n}}\n"
        ));
    };
    judged("bell", "height == 4", "height = 0", "");
    judged("every 1s", "height >= height.max", "height = 0", "");
    judged("bell", "height == height.max", "height = 0\n    high = false", "");
    judged("bell", "height == 4 and swell > 2", "height = 0", TOLD);
    judged("bell", "height == 4", "high = false", TOLD);
    tide(
        "on bell {\n    if not high {\n        height += 1\n    }\n}\n\non changed height {\n    put()\n}\n\nproc put() {\n    high = height == 4\n}\n\non ebb {\n    height = 0\n}\n",
    );
    judged("bell", "height == 3 or chance(0.5)", "height = 0", "");
    judged("bell", "height == 4 and chance(0.5)", "height = 0", TOLD);
    let puts_up = |test: &str, by: u8, mark: &str| {
        tide(&format!(
            "on bell when not high {{\n    height += {by}{mark}\n}}\n\non changed height {{\n    if {test} {{\n        high = true\n    }}\n}}\n\non ebb when high {{\n    height = 0\n    high = false\n}}\n"
        ));
    };
    puts_up("height == 4", 1, "");
    puts_up("height >= 3", 1, "");
    puts_up("height >= 3", 2, "");
    puts_up("height >= 3 and chance(0.5)", 2, TOLD);
}
