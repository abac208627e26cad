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
buoy.left = { type = "int", scope = "instance", default = 5, min = 0, max = 5, engine = "reads", writers = ["*"] }
[signals]
dimmed = { from = "script", parameters = { which = "buoy", by = "int" } }
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
    tide(
        "on bell {\n    if oil >= need {\n        send drawn(need)\n    }\n}\n\non drawn(cost) {\n    oil -= cost\n}\n",
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

/// What `drawn` takes, told or not, behind what sends it.
fn drawn(senders: &str, told: bool) {
    let mark = if told { " // ~ range/can-fall-below" } else { "" };
    tide(&format!("{senders}\non drawn(cost) {{\n    oil -= cost{mark}\n}}\n"));
}

#[test]
fn each_of_several_senders_makes_sure_by_itself() {
    let three = "on bell {\n    if oil >= 3 {\n        send drawn(3)\n    }\n}\n";
    let one = "on crane {\n    if oil > 0 {\n        send drawn(1)\n    }\n}\n";
    drawn(&format!("{three}\n{one}"), false);
    drawn(&format!("{three}\n{}", one.replace("drawn(1)", "drawn(2)")), true);
    drawn(&format!("{three}\n{}", one.replace("crane", "bell")), true);
    let arms = "on bell {\n    if oil >= 3 {\n        send drawn(3)\n    } else if oil > 0 {\n        send drawn(1)\n    }\n}\n";
    drawn(arms, false);
    drawn(&arms.replace("drawn(1)", "drawn(2)"), true);
}

#[test]
fn a_procedure_sends_for_its_callers() {
    let passes = "proc pass(cost: int) {\n    if oil >= cost {\n        send drawn(cost)\n    }\n}\n";
    drawn(&format!("{passes}\non bell {{\n    pass(3)\n}}\n"), false);
    drawn(&format!("{passes}\non bell {{\n    pass(3)\n    pass(2)\n}}\n"), true);
    drawn(&format!("{passes}\non bell {{\n    pass(3)\n    if oil > 0 {{\n        oil -= 1\n    }}\n}}\n"), true);
    drawn(&format!("{passes}\non bell {{\n    repeat 2 {{\n        pass(3)\n    }}\n}}\n"), true);
}

#[test]
fn what_time_sets_off_comes_with_all_that_is_due() {
    let every = "on every 1s {\n    if oil >= 3 {\n        send drawn(3)\n    }\n}\n";
    drawn(every, false);
    drawn(&every.replace("every 1s", "tick"), false);
    drawn("on start {\n    oil = 5\n    send drawn(5)\n}\n", false);
    drawn("on start {\n    oil = 5\n    send drawn(6)\n}\n", true);
    let takes = "    if oil > 0 {\n        oil -= 1\n    }\n}\n";
    drawn(&format!("{every}\non every 2s {{\n{takes}"), true);
    drawn(&format!("{every}\non tick {{\n{takes}"), false); // The ticks come first.
    drawn(&format!("{}\non every 2s {{\n{takes}", every.replace("every 1s", "tick")), true);
    drawn(&format!("{every}\non tick {{\n    send lit\n}}\n\non lit {{\n{takes}"), true);
    drawn(&format!("{every}\non tick {{\n    need = random(1, 9)\n}}\n\non changed need {{\n{takes}"), true);
    let waits = format!("on start {{\n    wait 1s\n{takes}");
    drawn(&format!("{every}\n{waits}"), false); // It goes on before, not in between.
    drawn(&format!("{every}\n{}", waits.replace("wait 1s", "wait 0s")), true);
}

#[test]
fn what_goes_on_after_a_wait_sends_too() {
    let sends = "        if oil >= 3 {\n            send drawn(3)\n        }\n";
    drawn(&format!("on start {{\n    after 1s {{\n{sends}    }}\n}}\n"), false);
    drawn(&format!("on start {{\n    after 1s {{\n{sends}    }}\n    after 1s {{\n{sends}    }}\n}}\n"), true);
    drawn(&format!("on bell {{ // ~ sharing/reentry\n    wait 1s\n{sends}}}\n"), true);
}

#[test]
fn what_the_sender_does_behind_it_is_known_as_well() {
    let full =
        |left: u32| format!("on bell {{\n    if oil > 5 {{\n        send drawn(5)\n        oil = {left}\n    }}\n}}\n");
    drawn(&full(5), false);
    drawn(&full(4), true);
    let spends = |least: u32| {
        format!("on bell {{\n    if oil >= {least} {{\n        send drawn(3)\n        oil -= 1\n    }}\n}}\n")
    };
    drawn(&spends(4), false);
    drawn(&spends(3), true);
}

#[test]
fn a_chain_hands_over_from_link_to_link() {
    let tests = "    if oil >= 3 {\n        send drawn(3)\n    }\n}\n";
    drawn(&format!("on bell {{\n    send lit\n}}\n\non lit {{\n{tests}"), false);
    drawn(&format!("on bell {{\n    send lit\n    send drawn(0)\n}}\n\non lit {{\n{tests}"), true);
    let takes = "on lit {\n    if oil > 0 {\n        oil -= 1\n    }\n}\n";
    drawn(&format!("on bell {{\n    send lit\n}}\n\non lit {{\n{tests}\n{takes}"), true);
    drawn(&format!("on changed need {{\n{tests}"), false);
    drawn(&format!("on changed need {{\n{tests}\n{}", takes.replace("lit", "changed need")), true);
}

#[test]
fn a_number_that_comes_to_its_limit_sends_for_what_empties_it() {
    let fills = "on bell {\n    if glow < glow.max {\n        glow += 1\n    }\n}\n";
    let buoy = |body: &str| {
        let state = STATE.replace("count = \"many\"\n", "").replace("green_buoy = { of = \"buoy\" }\n", "");
        expect_in_scripts(&state, &[&format!("script lamps for buoy\n\n{fills}\n{body}")]);
    };
    let empties = |by: u32, mark: &str| {
        buoy(&format!(
            "on changed glow when glow >= 4 {{\n    send lit to self\n}}\n\non lit {{\n    glow -= {by}{mark}\n}}\n"
        ));
    };
    empties(4, "");
    empties(5, " // ~ range/can-fall-below");
}

#[test]
fn what_was_never_given_hides_nothing_of_what_others_send() {
    tide(
        "on bell {\n    send drawn(41)\n}\n\non crane {\n    clear need\n    send drawn(need) // ~ init/read-before-set\n}\n\non drawn(cost) {\n    oil -= cost // ~ range/can-fall-below\n}\n",
    );
}

#[test]
fn one_that_the_sender_has_chosen_answers() {
    let takes = |mark: &str| format!("script lamps for buoy\n\non lit {{\n    glow -= 1{mark}\n}}\n");
    let sends = |body: &str, told: bool| {
        let mark = if told { " // ~ range/can-fall-below" } else { "" };
        let pet = "private pet: buoy\n\non start {\n    pet = red_buoy\n}\n";
        let pet = if body.contains("pet") { pet } else { "" };
        let tide = format!("script tides for tide\n\n{pet}\non bell {{\n{body}}}\n");
        expect_in_scripts(STATE, &[&tide, &takes(mark)]);
    };
    sends("    for one in buoy where one.glow > 0 {\n        send lit to one\n    }\n", false);
    sends("    for one in buoy {\n        send lit to one\n    }\n", true);
    sends("    for one in buoy where one.glow > 0 {\n        send lit to one\n        send lit to one\n    }\n", true);
    sends("    if red_buoy.glow > 0 {\n        send lit to red_buoy\n    }\n", false);
    sends("    if red_buoy.glow > 0 {\n        send lit to green_buoy\n    }\n", true);
    sends("    if pet is not none and pet.glow > 0 {\n        send lit to pet\n        pet = none\n    }\n", false);
    sends(
        "    if red_buoy.glow > 0 {\n        send lit to red_buoy\n        red_buoy.glow = 0 // ~ sharing/foreign-write\n    }\n",
        true,
    );
}

#[test]
fn what_goes_twice_to_one_is_answered_twice() {
    let test = "    if glow > 0 {\n        send lit to self\n    }\n";
    let buoys = |body: &str| {
        let script =
            format!("script lamps for buoy\n\n{body}\non lit {{\n    glow -= 1 // ~ range/can-fall-below\n}}\n");
        expect_in_scripts(STATE, &[&script]);
    };
    buoys(&format!("on crane {{\n{test}}}\n\non crane {{\n{test}}}\n"));
    buoys(&format!("on crane {{\n{}}}\n", test.replace("self\n", "self\n        send lit to self\n")));
}

#[test]
fn what_listens_to_a_change_leaves_it_to_an_answer() {
    let fills = |answer: &str, mark: &str| {
        tide(&format!(
            "private sacks: int = 0\n\non bell {{\n    sacks += 1\n    oil = 40 - sacks * 4{mark}\n}}\n\non changed sacks when sacks == 10 {{\n    send lit\n}}\n\non lit {{\n{answer}}}\n"
        ));
    };
    let below = " // ~ range/can-fall-below";
    fills("    sacks = 0\n", "");
    fills("    sacks = 10\n", below);
    fills("    if need > 3 {\n        sacks = 0\n    }\n", below);
}

#[test]
fn what_moves_with_a_bound_is_a_change_too() {
    let state = format!(
        "{STATE}[variables.tide.room]\ntype = \"int\"\nscope = \"global\"\ndefault = 5\nmin = 0\nmax = \"tide.need\"\noverflow = \"clamp\"\nengine = \"reads\"\n"
    );
    let script = "script lamps for tide\n\non bell {\n    need = random(1, 9)\n    send lit\n}\n\non changed room {\n    if oil > 0 {\n        oil -= 1\n    }\n}\n\non lit {\n    if oil >= 3 {\n        send drawn(3)\n    }\n}\n\non drawn(cost) {\n    oil -= cost // ~ range/can-fall-below\n}\n\non gust {\n    oil = 40\n}\n";
    expect_in_scripts(&state, &[script]);
}

#[test]
fn what_stands_between_passes_on_what_it_does_not_name() {
    let passes = |between: &str, answer: &str| {
        let lamps = "script lamps for tide\n\non bell {\n    if oil >= 5 {\n        send drawn(5)\n    }\n}\n\non gust {\n    oil = 40\n}\n";
        let keeper = format!("script keeper for office\n\non drawn(cost) {{\n{between}}}\n");
        let burner = format!("script burner for tide\n\non burnt(cost) {{\n    {answer}\n}}\n");
        let signal = "[signals.burnt]\nfrom = \"script\"\nparameters = { cost = \"int\" }\n";
        expect_in_scripts(&format!("{STATE}{signal}"), &[lamps, &keeper, &burner]);
    };
    let falls = "oil -= cost // ~ range/can-fall-below";
    passes("    send burnt(cost)\n", "oil -= cost");
    passes("    show \"Light.\"\n    send burnt(cost - 1)\n", "oil -= cost");
    passes("    send burnt(cost + 1)\n", falls);
    passes("    send burnt(cost)\n    send burnt(cost)\n", falls);
    passes("    send burnt(cost)\n}\n\non drawn(cost) {\n    tide.oil = 4\n", falls);
}

#[test]
fn a_test_that_guards_what_an_answer_does_wrong_is_no_mistake_of_its_own() {
    let fixed = STATE.replace("default = 9, min = 0, max = 40", "default = 5, min = 0, max = 9");
    let burns = |tested: &str| {
        let script = format!(
            "script lamps for tide\n\non bell {{\n    if {tested}\n        send drawn(3)\n    }}\n}}\n\non drawn(cost) {{\n    oil -= cost // ~ range/can-fall-below\n}}\n"
        );
        expect_in_scripts(&fixed, &[&script]);
    };
    burns("oil >= 2 {");
    burns("oil >= 2 and swell >= 0 { // ~ range/always");
}

#[test]
fn what_is_left_to_an_answer_has_moved_for_those_who_wait() {
    let waits = |given: &str, answered: &str, mark: &str| {
        let script = format!(
            "script lamps for tide\n\non bell {{\n    {given}\n    send lit\n}}\n\non lit {{\n    {answered}\n}}\n\non gust {{\n    need = min(need + random(0, 3), 9)\n}}\n\non crane {{\n    if oil < need {{\n        wait 1s\n        swell = abs(floor(9 / (need - oil))){mark}\n    }}\n}}\n"
        );
        expect_in_scripts(&STATE.replace("default = 9, min", "default = 0, min"), &[&script]);
    };
    let zero = " // ~ range/divide-by-zero";
    waits("oil = min(oil + 5, 20)", "oil = max(oil - 3, 0)", zero);
    waits("oil = 5", "oil = 3", zero);
    waits("oil = 5", "oil = 0", "");
}

#[test]
fn what_a_step_in_answer_leaves_is_all_that_others_find() {
    let finds = |tested: &str, mark: &str| {
        let script = format!(
            "script lamps for tide\n\non bell {{\n    oil = 40\n    send lit\n}}\n\non lit {{\n    oil -= 5\n}}\n\non crane {{\n    if oil {tested} {{\n        need = 12{mark}\n    }}\n}}\n"
        );
        expect_in_scripts(STATE, &[&script]);
    };
    let told = " // ~ range/can-exceed";
    finds("== 35", told);
    finds("> 35", "");
}

#[test]
fn what_is_sent_is_answered_before_the_changes_are_heard() {
    let hears = |sender: &str, mark: &str| {
        let script = format!(
            "script lamps for tide\n\n{sender} {{\n    oil = 40\n    send lit\n}}\n\non lit {{\n    oil = 30\n}}\n\non changed oil {{\n    note \"{{9 % (oil - 40)}}\"{mark}\n}}\n\non tick {{\n    oil = random(0, 9)\n}}\n"
        );
        expect_in_scripts(STATE, &[&script]);
    };
    hears("on bell", "");
    hears("on every 1s", " // ~ range/divide-by-zero"); // What the tick has changed is heard in between.
}

#[test]
fn what_was_tested_of_one_that_goes_along_is_known_of_it() {
    let named = |before: &str, sent: &str, answer: &str| {
        tide(&format!(
            "on touched(other: buoy) {{\n    if {before} {{\n        {sent}\n    }}\n}}\n\non dimmed(which, by) {{\n    {answer}\n}}\n"
        ));
    };
    let told = "which.left -= by // ~ range/can-fall-below";
    named("other.left >= 2", "send dimmed(other, 2)", "which.left -= by");
    named("other.left >= need", "send dimmed(other, need)", "which.left -= by");
    named("other.left >= swell", "send dimmed(other, swell)", "which.left -= by");
    named("other.left >= need", "send dimmed(other, need + 1)", told);
    named("other.left >= 1", "send dimmed(other, 2)", told);
    named("other.left >= 2", "send dimmed(other, 2)\n        other.left -= 1", told);
    named("other.left >= 2", "send dimmed(other, 2)\n        send dimmed(other, 1)", told);
    named("other.left >= 2", "send dimmed(red_buoy, 2)", told);
}
