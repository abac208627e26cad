//! The meaning of a run, told by rehearsals: each test is a script, what is done to it, and what must be so.

mod support;

use support::Project;

const REGISTRY: &str = r#"[owners.tide]
kind = "system"
[owners.harbor]
kind = "scene"
[owners.marsh]
kind = "scene"
[owners.boat]
kind = "actor"
count = "many"
[owners.parcel]
kind = "actor"
count = "many"
[owners.lamp]
kind = "actor"
[instances.dawn_boat]
of = "boat"
scene = "harbor"
start = { load = 2 }
[instances.dusk_boat]
of = "boat"
scene = "harbor"
[instances.far_boat]
of = "boat"
scene = "marsh"
[signals.touched]
from = "engine"
parameters = { other = "actor" }
[signals.bell]
from = "engine"
to = "all"
[signals.raise]
from = "engine"
to = "all"
parameters = { by = "int" }
[signals.told]
from = "script"
parameters = { what = "int" }
[variables.tide]
height = { type = "int", scope = "global", default = 0, min = 0, max = 10 }
log = { type = "int", scope = "global", default = 0 }
rate = { type = "number", scope = "global", default = 1.5 }
clock = { type = "int", scope = "global", default = 0, min = 0, max = 3, overflow = "wrap" }
fill = { type = "number", scope = "global", default = 0, min = 0, max = "tide.brim", overflow = "clamp" }
brim = { type = "number", scope = "global", default = 2 }
mood = { type = "enum", scope = "global", values = ["calm", "storm"], default = "calm" }
kept = { type = "int", scope = "global", default = 0, lifetime = "session" }
blank = { type = "int", scope = "global" }
name = { type = "text", scope = "global", default = "heron" }
at = { type = "vec2", scope = "global", default = [1.0, 2.0] }
[variables.harbor]
guests = { type = "int", scope = "scene", default = 4 }
[variables.boat]
load = { type = "int", scope = "instance", default = 0, min = 0, max = 20 }
mate = { type = "ref", scope = "instance", of = "boat" }
fleet = { type = "int", scope = "type", default = 0 }
[variables.parcel]
weight = { type = "int", scope = "instance", default = 1 }
[variables.lamp]
lit = { type = "bool", scope = "instance", default = false }
[invariants.calm_water]
holds = "tide.mood == \"calm\" or tide.height > 0"
"#;

/// Plays steps on scripts; `steps` are a short form: `fire NAME [key = value, …]`, `pass 1s`, `expect …`, and so on.
#[track_caller]
fn play(scripts: &[&str], steps: &str) {
    let project = Project::open_to_all("first_scene = \"harbor\"\ntick_rate = 10\n", REGISTRY);
    for (at, script) in scripts.iter().enumerate() {
        project.write(&format!("scripts/s{at}.oaken"), script);
    }
    let mut text = String::new();
    for line in steps.lines().map(str::trim).filter(|line| !line.is_empty()) {
        let (word, rest) = line.split_once(' ').unwrap_or((line, ""));
        let step = match word {
            "faults" => {
                text.insert_str(0, &format!("faults = [\"{rest}\"]\n"));
                continue;
            }
            "fire" => match rest.split_once(' ') {
                Some((signal, keys)) => format!("fire = \"{signal}\"\n{}", keys.replace("; ", "\n")),
                None => format!("fire = \"{rest}\""),
            },
            "expect" => format!("expect = '''{rest}'''"),
            "choose" => format!("choose = {rest}"),
            "set" => format!("set = {{ {rest} }}"),
            "restart" => "restart = true".to_owned(),
            word => format!("{word} = \"{rest}\""),
        };
        text.push_str(&format!("[[step]]\n{step}\n"));
    }
    project.write("rehearsals/one.toml", &text);
    let check = project.oaken(&["check", "--format", "json", "--fail-on", "never"]);
    for word in ["syntax/error", "registry/bad-entry", "registry/unknown-name", "type/mismatch"] {
        assert!(!check.out.contains(word), "{word}: {}", check.out);
    }
    let run = project.oaken(&["rehearse", "--log"]);
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
}

/// One script of the tide's.
#[track_caller]
fn tide(body: &str, steps: &str) {
    play(&[&format!("script tides for tide\n\n{body}\n")], steps);
}

// ---- values ----

#[test]
fn whole_numbers_and_fractions_are_reckoned_as_written() {
    tide(
        "on bell {
            log = 7 % 3 * 100 + -7 % 3 * 10 + floor(7 / 2)
            rate = 7 / 2 - 0.25
            height = round(2.5) + ceil(0.1) + abs(-1) + min(3, 1, 2) + max(1, 2) - clamp(9, 0, 3)
        }",
        "fire bell
        expect log == 100 + 20 + 3
        expect rate == 3.25
        expect height == 3 + 1 + 1 + 1 + 2 - 3
        expect 5 > 3 and not (2 >= 3) and 1 != 2",
    );
}

#[test]
fn texts_are_filled_with_tokens() {
    tide(
        "on bell {
            show sign \"{name}: {log + 1} of {rate:2}, {{mood}} {mood} {at}\"
            name = \"{name}{log}\"
        }",
        "fire bell
        expect shown(\"sign\") == \"heron: 1 of 1.50, {{mood}} calm (1, 2)\"
        expect name == \"heron0\" and length(name) == 6",
    );
}

#[test]
fn vectors_are_reckoned_part_by_part() {
    tide(
        "on bell {
            at = at * 2 + vec2(1, 0.5)
            at.y -= 1
        }",
        "fire bell
        expect at.x == 3 and at.y == 3.5
        expect at == vec2(3, 3.5)",
    );
}

#[test]
fn a_clock_wraps_and_a_vessel_overflows() {
    tide(
        "on raise(by) {
            clock += by
            fill += by
        }",
        "fire raise with = { by = 3 }
        expect clock == 3 and fill == 2
        fire raise with = { by = 1 }
        expect clock == 0
        fire raise with = { by = -9 }
        expect clock == 3 and fill == 0
        fire raise with = { by = 2 }
        expect fill == 2
        set tide.brim = 1
        expect fill == 1",
    );
}

#[test]
fn a_fault_goes_on_with_what_the_contract_says() {
    tide(
        "on bell {
            log = blank + 3
            rate = 6 / (height - height)
        }",
        "faults init/read-before-set\", \"range/divide-by-zero
        expect not (blank is set)
        fire bell
        expect log == 3",
    );
}

// ---- control ----

#[test]
fn branches_matches_and_loops_go_where_they_say() {
    tide(
        "on raise(by) {
            if by < 0 { log = 1 } else if by == 0 { log = 2 } else { log = 3 }
            match by {
                1, 2 { log += 10 }
                5 { log += 20 }
                else { log += 30 }
            }
            let round = 0
            while round < by {
                round += 1
                if round == 3 { break }
            }
            log += round * 100
            repeat by { log += 1000 }
        }",
        "fire raise with = { by = -1 }
        expect log == 31
        fire raise with = { by = 0 }
        expect log == 32
        fire raise with = { by = 2 }
        expect log == 2213
        fire raise with = { by = 5 }
        expect log == 5323",
    );
}

#[test]
fn procedures_give_values_and_may_return_early() {
    tide(
        "proc half(of: int) -> int {
            if of < 2 { return 0 }
            return floor(of / 2)
        }
        proc add(by: int) {
            if by > 100 { return }
            log += by
        }
        on raise(by) {
            add(half(by))
            add(half(half(by)))
        }",
        "fire raise with = { by = 9 }
        expect log == 6
        fire raise with = { by = 1 }
        expect log == 6
        fire raise with = { by = 1000 }
        expect log == 6",
    );
}

#[test]
fn lets_end_with_their_block() {
    tide(
        "on bell {
            let x = 1
            if x == 1 {
                let y = 5
                x = y + 1
            }
            log = x
        }",
        "fire bell
        expect log == 6",
    );
}

#[test]
fn and_and_or_stop_at_the_first_side_that_decides() {
    tide(
        "proc seen() -> bool {
            log += 1
            return true
        }
        on bell {
            if height > 0 and seen() { rate = 0 }
            if height == 0 or seen() { rate = 9 }
            if height == 0 and seen() { rate = 8 }
        }",
        "fire bell
        expect log == 1 and rate == 8",
    );
}

// ---- time ----

#[test]
fn waits_go_on_when_their_time_has_come() {
    tide(
        "on bell {
            log = 1
            wait 0.5s
            log = 2
            wait 3t
            log = 3
            wait seconds(0.11)
            log = 4
        }",
        "fire bell
        expect log == 1
        pass 0.4s
        expect log == 1
        pass 0.1s
        expect log == 2
        pass 2t
        expect log == 2
        pass 1t
        expect log == 3
        pass 200ms
        expect log == 4",
    );
}

#[test]
fn a_wait_until_goes_on_when_it_is_so() {
    tide(
        "on bell {
            wait until height >= 3
            log += height
        }
        on raise(by) { height += by }",
        "fire bell
        fire raise with = { by = 2 }
        expect log == 0
        fire raise with = { by = 2 }
        expect log == 4",
    );
}

#[test]
fn after_runs_later_with_copies_of_what_it_saw() {
    tide(
        "on raise(by) {
            let seen = by
            after 1s { log = log * 10 + seen }
            seen = 9
            height = by
        }",
        "fire raise with = { by = 2 }
        fire raise with = { by = 5 }
        expect height == 5 and log == 0
        pass 1s
        expect log == 25",
    );
}

#[test]
fn ticks_and_everies_come_in_their_order() {
    tide(
        "on tick { log = log * 10 + 1 }
        on every 0.2s { log = log * 10 + 2 }
        on bell {
            wait 0.2s
            log = log * 10 + 3
        }",
        "fire bell
        pass 0.1s
        expect log == 1
        pass 0.1s
        expect log == 1312",
    );
}

#[test]
fn a_second_activation_runs_beside_the_first() {
    tide(
        "on raise(by) {
            log = log * 10 + by
            wait 1s
            log = log * 10 + by
        }",
        "fire raise with = { by = 1 }
        pass 0.5s
        fire raise with = { by = 2 }
        pass 0.5s
        expect log == 121
        pass 1s
        expect log == 1212",
    );
}

// ---- signals and changes ----

#[test]
fn what_is_sent_comes_after_the_dispatch_and_changes_come_after_that() {
    tide(
        "on bell {
            send told(1)
            height = 4
            send told(2)
            log = log * 10 + 5
        }
        on told(what) { log = log * 10 + what }
        on changed height { log = log * 10 + 7 + was }",
        "fire bell
        expect log == 5127",
    );
}

#[test]
fn a_change_back_within_the_dispatch_is_none() {
    tide(
        "on bell {
            height = 4
            height = 0
        }
        on raise(by) {
            height = by
            height = by
        }
        on changed height { log += 1 }",
        "fire bell
        expect log == 0
        fire raise with = { by = 3 }
        expect log == 1",
    );
}

#[test]
fn scripts_answer_in_path_order_and_handlers_from_top_to_bottom() {
    play(
        &[
            "script first for tide\non bell { log = log * 10 + 1 }\non bell { log = log * 10 + 2 }\n",
            "script second for tide\non bell { log = log * 10 + 3 }\n",
        ],
        "fire bell
        expect log == 123",
    );
}

#[test]
fn filters_and_whens_are_tested_when_the_turn_comes() {
    play(
        &[
            "script first for tide\non touched(other: parcel) { log += 1 }\non touched(other: boat) { log += 10 }\non touched(other) { log += 100 }\n",
            "script second for tide\non touched(other) when log > 100 { log += 1000 }\n",
        ],
        "fire touched with = { other = \"parcel\" }
        expect log == 1101
        fire touched with = { other = \"dawn_boat\" }
        expect log == 2211",
    );
}

// ---- instances ----

#[test]
fn a_signal_happens_to_one_instance_or_to_all() {
    play(
        &["script loading for boat\non touched(other) { load += 1 }\non bell { load += 5 }\n"],
        "fire touched on = \"dusk_boat\"; with = { other = \"lamp\" }
        expect dusk_boat.load == 1 and dawn_boat.load == 2
        fire bell
        expect dusk_boat.load == 6 and dawn_boat.load == 7
        fire touched with = { other = \"lamp\" }
        expect dusk_boat.load == 6 and dawn_boat.load == 7",
    );
}

#[test]
fn a_for_goes_through_the_live_ones_oldest_first() {
    tide(
        "on bell {
            for each in boat where each.load < 2 { log = log * 10 + 1 }
            for each in boat {
                log = log * 10 + each.load
                each.load = 3
            }
        }",
        "fire bell
        expect log == 120
        expect dawn_boat.load == 3 and dusk_boat.load == 3 and count(boat) == 2",
    );
}

#[test]
fn spawned_ones_run_their_spawn_handlers_at_once() {
    play(
        &[
            "script tides for tide\non bell {\n    spawn parcel as fresh\n    log = log * 10 + fresh.weight\n    fresh.weight = 7\n}\n",
            "script parcels for parcel\non spawn { weight = 4 }\non bell { tide.log = tide.log * 10 + weight }\n",
        ],
        "fire bell
        expect log == 47 and count(parcel) == 1
        fire bell
        expect log == 4747 or log == 47477",
    );
}

#[test]
fn removing_ends_what_waits_and_runs_removed() {
    play(
        &[
            "script loading for boat\non touched(other) {\n    wait 1s\n    tide.log += 100\n}\non removed { tide.log += load }\non bell { remove self\n    }\n",
            "script tides for tide\non raise(by) { dawn_boat.mate = dusk_boat\n    }\n",
        ],
        "fire raise with = { by = 1 }
        expect dawn_boat.mate is not none
        fire touched on = \"dawn_boat\"; with = { other = \"lamp\" }
        fire bell
        expect log == 2 and count(boat) == 0
        pass 2s
        expect log == 2",
    );
}

#[test]
fn a_type_variable_is_one_for_all() {
    play(
        &["script loading for boat\non bell { boat.fleet += 1 }\n"],
        "fire bell
        expect boat.fleet == 2",
    );
}

#[test]
fn privates_are_one_for_each_instance() {
    play(
        &["script loading for boat\nprivate seen: int = 1\non touched(other) {\n    seen += 1\n    load = seen\n}\n"],
        "fire touched on = \"dusk_boat\"; with = { other = \"lamp\" }
        fire touched on = \"dusk_boat\"; with = { other = \"lamp\" }
        fire touched on = \"dawn_boat\"; with = { other = \"lamp\" }
        expect dusk_boat.load == 3 and dawn_boat.load == 2",
    );
}

// ---- runs and scenes ----

#[test]
fn a_run_starts_with_start_then_spawn_then_enter() {
    play(
        &[
            "script tides for tide\non enter { log = log * 10 + 3 }\non start { log = log * 10 + 1 }\n",
            "script loading for boat\non spawn { tide.log = tide.log * 10 + 2 }\n",
        ],
        "expect log == 1223",
    );
}

#[test]
fn a_scene_is_left_and_another_entered() {
    play(
        &[
            "script tides for tide\non bell {\n    go marsh\n    log = log * 10 + 1\n}\n",
            "script pier for harbor\non leave { tide.log = tide.log * 10 + 2\n}\non raise(by) { tide.log += 100 }\n",
            "script reeds for marsh\non enter { tide.log = tide.log * 10 + 3 }\n",
            "script far for boat in marsh\non spawn { tide.log = tide.log * 10 + 4 }\non touched(other) { load = 9 }\n",
        ],
        "expect scene is harbor and guests == 4
        set harbor.guests = 7
        fire bell
        expect scene is marsh and log == 1243
        fire raise with = { by = 1 }
        expect log == 1243
        fire touched on = \"far_boat\"; with = { other = \"lamp\" }
        expect far_boat.load == 9 and count(boat) == 1
        go harbor
        expect harbor.guests == 4 and dawn_boat.load == 2"
            .replace("guests == 4\n        set", "harbor.guests == 4\n        set")
            .as_str(),
    );
}

#[test]
fn restart_ends_waits_and_labels_and_keeps_what_is_kept() {
    tide(
        "private mine: int = 1
        on bell {
            kept += mine
            mine = 5
            show sign \"kept {kept}\"
            wait 1s
            log = 9
        }
        on raise(by) {
            restart
        }",
        "fire bell
        expect kept == 1 and shown(\"sign\") == \"kept 1\"
        fire raise with = { by = 1 }
        expect kept == 1 and shown(\"sign\") == \"\"
        pass 2s
        expect log == 0
        fire bell
        expect kept == 2",
    );
}

#[test]
fn questions_wait_and_the_oldest_is_answered_first() {
    tide(
        "on raise(by) {
            ask \"How far, {by}?\" {
                choice \"Near\" { log = log * 10 + by }
                choice \"Far\" when by > 1 { log = log * 10 + by + 5 }
            }
            log = log * 10
        }",
        "fire raise with = { by = 1 }
        fire raise with = { by = 2 }
        expect log == 0
        choose 1
        expect log == 10
        choose 2
        expect log == 1070",
    );
}

#[test]
fn a_label_keeps_what_was_last_shown_until_it_is_hidden() {
    tide(
        "on raise(by) {
            if by == 0 { hide sign } else { show sign \"{by}\" }
            show \"a passing message\"
        }",
        "expect shown(\"sign\") == \"\"
        fire raise with = { by = 3 }
        fire raise with = { by = 4 }
        expect shown(\"sign\") == \"4\"
        fire raise with = { by = 0 }
        expect shown(\"sign\") == \"\"",
    );
}

#[test]
fn the_only_one_of_an_actor_goes_by_its_actor_s_name() {
    play(
        &[
            "script light for lamp\non touched(other) { lit = not lit }\n",
            "script tides for tide\non bell { lamp.lit = true\n    }\n",
        ],
        "fire touched on = \"lamp\"; with = { other = \"parcel\" }
        expect lamp.lit
        fire touched on = \"lamp\"; with = { other = \"parcel\" }
        expect not lamp.lit
        fire bell
        expect lamp.lit
        set lamp.lit = false
        expect not lamp.lit",
    );
}

#[test]
fn draws_are_the_same_for_the_same_seed_and_within_their_ends() {
    tide(
        "on bell {
            log = random(3, 5)
            rate = random(0.5, 0.75)
            if chance(0) { log = 100 }
            if not chance(1) { log = 200 }
        }",
        "fire bell; times = 50
        expect log >= 3 and log <= 5 and rate >= 0.5 and rate <= 0.75"
            .replace("bell; ", "bell ")
            .as_str(),
    );
}

#[test]
fn ranges_are_judged_when_a_handler_settles() {
    tide(
        "on bell {
            height += 30
            if height > 10 { height = 10 }
            mood = \"storm\"
            height = 0
            height = 5
        }",
        "fire bell
        expect height == 5 and mood == \"storm\"",
    );
}
