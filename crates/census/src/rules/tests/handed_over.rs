//! What a sender has tested before it sends, where nothing can come between that and the answer.

use crate::rules::testing::expect_in_scripts;

const STATE: &str = r#"[owners.buoy]
kind = "actor"
count = "many"
[instances]
red_buoy = { of = "buoy" }
green_buoy = { of = "buoy" }
[variables]
tide.oil = { type = "int", scope = "global", default = 9, min = 0, max = 40, engine = "reads", writers = ["*"] }
tide.need = { type = "int", scope = "global", default = 3, min = 1, max = 9, engine = "reads" }
tide.swell = { type = "int", scope = "global", default = 3, min = 0, max = 9, engine = "both" }
buoy.glow = { type = "int", scope = "instance", default = 2, min = 0, max = 5, engine = "reads" }
[signals]
lit = { from = "script" }
drawn = { from = "script", parameters = { cost = "int" } }
gust = { from = "engine", to = "all" }
crane = { from = "engine", to = "all" }
"#;

/// A tide's script that reads nothing but what these do.
fn tide(body: &str) {
    let script = format!("script lamps for tide\n\n{body}\non gust {{\n    need = random(1, 9)\n    oil = 40\n}}\n");
    expect_in_scripts(STATE, &[&script]);
}

#[test]
fn an_answer_builds_on_what_its_sender_has_tested() {
    tide(
        "on bell {\n    if oil >= 3 {\n        send lit\n        show \"Light.\"\n    }\n}\n\non lit {\n    oil -= 3\n}\n",
    );
    tide("on bell {\n    if oil >= need {\n        send lit\n    }\n}\n\non lit {\n    oil -= need\n}\n");
    tide(
        "on bell {\n    if swell >= 3 {\n        send lit\n    }\n}\n\non lit {\n    swell -= 3 // ~ range/can-fall-below\n}\n",
    );
    tide("on bell {\n    send lit\n}\n\non lit {\n    oil -= 3 // ~ range/can-fall-below\n}\n");
}

#[test]
fn who_asks_once_more_is_careful() {
    tide(
        "on bell {\n    if oil >= 3 {\n        send lit\n    }\n}\n\non lit {\n    if oil < 3 {\n        show \"Too late.\"\n        return\n    }\n    oil -= 3\n}\n",
    );
}

#[test]
fn what_goes_along_is_known_beside_what_was_tested() {
    tide(
        "on bell {\n    let cost = need * 2\n    if oil >= cost {\n        send drawn(cost)\n    }\n}\n\non drawn(cost) {\n    oil -= cost\n}\n",
    );
    tide("on bell {\n    send drawn(min(need, oil))\n}\n\non drawn(cost) {\n    oil -= cost\n}\n");
    tide(
        "on bell {\n    send drawn(min(need, oil))\n}\n\non drawn(cost) {\n    oil -= cost + 1 // ~ range/can-fall-below\n}\n",
    );
}

#[test]
fn what_comes_between_counts() {
    let answer = "\non lit {\n    oil -= 3 // ~ range/can-fall-below\n}\n";
    let tests = |then: &str| format!("on bell {{\n    if oil >= 3 {{\n        {then}\n    }}\n}}\n{answer}");
    tide(&tests("send lit\n        oil = 0"));
    tide(&tests("send lit\n        send lit"));
    tide(&format!("{}\non bell {{\n    oil = 1\n}}\n", tests("send lit")));
    tide(&format!("{}\non drawn {{\n    oil = 1\n}}\n", tests("send drawn(1)\n        send lit")));
    tide(&format!(
        "{}\non lit {{\n    oil -= 3 // ~ range/can-fall-below\n}}\n",
        tests("send lit").replace(" // ~ range/can-fall-below", "")
    ));
    tide(&format!(
        "{}\non drawn {{\n    oil = 1\n}}\n\non crane {{\n    send bell\n    send drawn(1)\n}}\n",
        tests("send lit")
    ));
    tide(&tests("wait 1s\n        send lit").replace("on bell {", "on bell { // ~ sharing/reentry"));
}

#[test]
fn a_choice_is_a_moment_of_its_own() {
    let asks = |choice: &str, mark: &str| {
        tide(&format!(
            "on bell {{ // ~ sharing/reentry\n    ask \"Light it?\" {{\n        choice \"Yes\" {choice}\n        choice \"No\" {{\n        }}\n    }}\n}}\n\non lit {{\n    oil -= 3{mark}\n}}\n"
        ));
    };
    asks("{\n            if oil >= 3 {\n                send lit\n            }\n        }", "");
    asks("when oil >= 3 {\n            send lit\n        }", " // ~ range/can-fall-below");
}

#[test]
fn one_of_many_sends_to_itself_or_for_all() {
    let buoys = |to: &str, mark: &str| {
        let script = format!(
            "script lamps for buoy\n\non bell {{\n    if glow >= 2 {{\n        send lit{to}\n    }}\n}}\n\non lit {{\n    glow -= 2{mark}\n}}\n\non gust {{\n    glow = 5\n}}\n"
        );
        expect_in_scripts(STATE, &[&script]);
    };
    buoys(" to self", "");
    buoys("", " // ~ range/can-fall-below");
    let sends = |signal: &str| {
        format!("script lamps for buoy\n\non {signal} {{\n    if tide.oil >= 3 {{\n        send lit\n    }}\n}}\n")
    };
    let takes = |mark: &str| {
        format!("script oil for tide\n\non lit {{\n    oil -= 3{mark}\n}}\n\non gust {{\n    oil = 9\n}}\n")
    };
    expect_in_scripts(STATE, &[&sends("touched(other)"), &takes("")]);
    expect_in_scripts(STATE, &[&sends("bell"), &takes(" // ~ range/can-fall-below")]);
}
