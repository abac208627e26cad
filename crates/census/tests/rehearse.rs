//! The meaning of a run: what happens, in which order, and what counts as a fault.

use census::flow::world::World;
use census::project::{self, CellId, Project};
use census::registry::SignalId;
use census::rehearse::layout::{InstanceAt, Layout};
use census::rehearse::machine::{Machine, Reach, Unobserved};
use census::rehearse::value::Value;
use census::source::{FileKind, SourceFile, Sources};

const WORLD: &str = r#"[owners.tide]
kind = "system"
[owners.office]
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
[instances.dawn_boat]
of = "boat"
scene = "harbor"
[instances.dusk_boat]
of = "boat"
scene = "harbor"
start = { load = 3 }
[signals.bell]
from = "engine"
to = "all"
[signals.touched]
from = "engine"
parameters = { other = "actor" }
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
fill = { type = "number", scope = "global", default = 0, min = 0, max = 2, overflow = "clamp" }
mood = { type = "enum", scope = "global", values = ["calm", "storm"], default = "calm" }
kept = { type = "int", scope = "global", default = 0, lifetime = "session" }
blank = { type = "int", scope = "global" }
most = { type = "int", scope = "global", default = 9, writers = ["boat"] }
[variables.harbor]
guests = { type = "int", scope = "scene", default = 4 }
[variables.boat]
load = { type = "int", scope = "instance", default = 0, min = 0, max = 20 }
mate = { type = "ref", scope = "instance", of = "boat" }
fleet = { type = "int", scope = "type", default = 0 }
crew = { type = "int", scope = "instance", default = 0, max = "tide.most" }
"#;

fn build(scripts: &[&str]) -> Project {
    let mut sources = Sources::default();
    let config = "[project]\nname = \"Saltmarsh Mail\"\nfirst_scene = \"harbor\"\ntick_rate = 10\n[sharing]\nwriters = \"anyone\"\n";
    sources.add(SourceFile::new("oaken.toml", FileKind::Config, config.as_bytes().to_vec()));
    sources.add(SourceFile::new("registry/all.toml", FileKind::Registry, WORLD.as_bytes().to_vec()));
    for (at, script) in scripts.iter().enumerate() {
        let path = format!("scripts/{}.oaken", char::from(b'a' + u8::try_from(at).expect("a letter")));
        sources.add(SourceFile::new(path, FileKind::Script, script.as_bytes().to_vec()));
    }
    let project = project::build(sources);
    let told: Vec<&str> = project.findings.iter().map(|finding| finding.message.as_str()).collect();
    assert!(told.is_empty(), "{told:?}");
    project
}

/// A run that is being played.
struct Played<'l, 'p> {
    project: &'p Project,
    machine: Machine<'l, 'p, Unobserved>,
}

/// Plays scripts from the start, and hands the run over.
fn play(scripts: &[&str], acts: impl FnOnce(&mut Played<'_, '_>)) {
    let project = build(scripts);
    let world = World::new(&project);
    let layout = Layout::new(&project, &world.graphs);
    let mut machine = Machine::new(&layout, 7, Unobserved);
    machine.start();
    acts(&mut Played { project: &project, machine });
}

impl Played<'_, '_> {
    fn signal(&self, name: &str) -> SignalId {
        let all = &self.project.registry.signals;
        SignalId::at(all.iter().position(|signal| &*signal.name == name).expect("a signal"))
    }

    fn bell(&mut self) {
        self.machine.fire(self.signal("bell"), [], Reach::All);
    }

    fn raise(&mut self, by: i64) {
        self.machine.fire(self.signal("raise"), [Value::Int(by)], Reach::All);
    }

    fn touch(&mut self, who: &str, what: InstanceAt) {
        let who = self.instance(who);
        self.machine.fire(self.signal("touched"), [Value::Ref(Some(what))], Reach::Happens(who));
    }

    fn instance(&self, name: &str) -> InstanceAt {
        let all = self.machine.memory.all_live();
        all.into_iter().find(|&at| self.machine.memory.name(at) == name).expect("an instance that is there")
    }

    fn cell(&self, identity: &str) -> CellId {
        CellId(self.project.registry.find(identity).expect("a variable").0)
    }

    fn value(&self, identity: &str) -> Option<Value> {
        self.machine.memory.get(self.cell(identity), None)
    }

    fn whole(&self, identity: &str) -> i64 {
        match self.value(identity) {
            Some(Value::Int(value)) => value,
            other => panic!("{identity} is {other:?}"),
        }
    }

    fn load(&self, boat: &str) -> i64 {
        match self.machine.memory.get(self.cell("boat.load"), Some(self.instance(boat))) {
            Some(Value::Int(value)) => value,
            other => panic!("the load is {other:?}"),
        }
    }

    fn shown(&self, label: &str) -> &str {
        self.machine.labels.get(label).map_or("", String::as_str)
    }

    fn faults(&self) -> Vec<String> {
        self.machine
            .faults
            .iter()
            .map(|fault| {
                let file = self.project.sources.file(fault.at.file);
                format!("{}:{} {}", file.path, file.position(fault.at.span.start).line, fault.rule)
            })
            .collect()
    }
}

// ---- starting ----

#[test]
fn start_comes_first_then_spawn_then_enter() {
    play(
        &[
            "script a for tide\n\non enter {\n    log = log * 10 + 3\n}\n\non start {\n    log = log * 10 + 1\n}\n",
            "script b for boat\n\non spawn {\n    tide.log = tide.log * 10 + 2\n}\n",
        ],
        |run| assert_eq!(run.whole("tide.log"), 1223, "one start, two boats spawned, one enter"),
    );
}

#[test]
fn an_actors_start_runs_once_for_each_instance_that_is_there() {
    play(&["script a for boat\n\non start {\n    boat.fleet += 1\n}\n"], |run| assert_eq!(run.whole("boat.fleet"), 2));
}

#[test]
fn instances_begin_with_their_own_values() {
    play(&["script a for tide\n\non bell {\n    log = 1\n}\n"], |run| {
        assert_eq!((run.load("dawn_boat"), run.load("dusk_boat")), (0, 3));
        assert_eq!(run.value("tide.blank"), None);
    });
}

#[test]
fn taking_a_default_sets_off_no_change() {
    play(
        &[
            "script a for tide\n\non changed height {\n    log += 1\n}\n\non bell {\n    height = 0\n    height = 4\n}\n",
        ],
        |run| {
            assert_eq!(run.whole("tide.log"), 0);
            run.bell();
            assert_eq!(run.whole("tide.log"), 1);
        },
    );
}

// ---- dispatch ----

#[test]
fn handlers_answer_in_script_order_and_instances_oldest_first() {
    play(
        &[
            "script a for boat\n\non bell {\n    tide.log = tide.log * 10 + load + 1\n}\n",
            "script b for tide\n\non bell {\n    log = log * 10 + 9\n}\n",
        ],
        |run| {
            run.bell();
            assert_eq!(run.whole("tide.log"), 149);
        },
    );
}

#[test]
fn what_is_sent_comes_after_the_whole_dispatch() {
    play(
        &[
            "script a for tide\n\non bell {\n    send told(5)\n    log = log * 10 + 1\n}\n\non told(what) {\n    log = log * 10 + what\n}\n",
            "script b for office\n\non bell {\n    tide.log = tide.log * 10 + 2\n}\n",
        ],
        |run| {
            run.bell();
            assert_eq!(run.whole("tide.log"), 125);
        },
    );
}

#[test]
fn changes_queue_after_sends_and_once_for_a_dispatch() {
    play(
        &[
            "script a for tide\n\non bell {\n    height = 3\n    send told(5)\n    height = 7\n}\n\non told(what) {\n    log = log * 10 + what\n}\n\non changed height {\n    log = log * 100 + was * 10 + height\n}\n",
        ],
        |run| {
            run.bell();
            assert_eq!(run.whole("tide.log"), 507, "told first, then one change from 0 to 7");
        },
    );
}

#[test]
fn a_change_that_is_taken_back_is_none() {
    play(
        &[
            "script a for tide\n\non bell {\n    height = 3\n    height = 0\n}\n\non changed height {\n    log += 1\n}\n",
        ],
        |run| {
            run.bell();
            assert_eq!(run.whole("tide.log"), 0);
        },
    );
}

#[test]
fn a_signal_to_one_instance_reaches_its_scripts_systems_and_scenes() {
    play(
        &[
            "script a for boat\n\non touched(other) {\n    load += 1\n}\n",
            "script b for tide\n\non touched(other) {\n    log += 1\n}\n",
            "script c for parcel\n\non touched(other) {\n    tide.log += 100\n}\n",
        ],
        |run| {
            let parcel = run.machine.spawn(run.project.registry.find_owner("parcel").expect("an actor"));
            run.touch("dawn_boat", parcel);
            assert_eq!((run.load("dawn_boat"), run.load("dusk_boat"), run.whole("tide.log")), (1, 3, 1));
        },
    );
}

#[test]
fn a_parameter_with_an_actor_is_a_filter() {
    play(
        &[
            "script a for boat\n\non touched(other: parcel) {\n    load += 1\n}\n\non touched(other: boat) {\n    load += 10\n}\n",
        ],
        |run| {
            let parcel = run.machine.spawn(run.project.registry.find_owner("parcel").expect("an actor"));
            run.touch("dawn_boat", parcel);
            let dusk = run.instance("dusk_boat");
            run.touch("dawn_boat", dusk);
            assert_eq!(run.load("dawn_boat"), 11);
        },
    );
}

#[test]
fn sent_to_one_only_that_one_hears() {
    play(
        &[
            "script a for tide\n\non bell {\n    send told(2) to dusk_boat\n}\n\non told(what) {\n    log += 100\n}\n",
            "script b for boat\n\non told(what) {\n    load += what\n}\n",
        ],
        |run| {
            run.bell();
            assert_eq!((run.load("dawn_boat"), run.load("dusk_boat"), run.whole("tide.log")), (0, 5, 0));
        },
    );
}

// ---- time ----

#[test]
fn a_wait_lasts_its_time_rounded_up_to_ticks() {
    play(&["script a for tide\n\non bell {\n    wait 0.25s\n    log = 1\n}\n"], |run| {
        run.bell();
        run.machine.pass(2);
        assert_eq!(run.whole("tide.log"), 0, "0.25 s at 10 ticks a second are 3 ticks");
        run.machine.pass(1);
        assert_eq!(run.whole("tide.log"), 1);
    });
}

#[test]
fn two_activations_run_beside_each_other() {
    play(&["script a for tide\n\non bell {\n    let mine = log\n    wait 1s\n    log = mine + 1\n}\n"], |run| {
        run.bell();
        run.bell();
        run.machine.pass(10);
        assert_eq!(run.whole("tide.log"), 1, "the second one overwrites with what it read before");
    });
}

#[test]
fn due_at_one_moment_waits_come_before_ticks_and_those_before_every() {
    play(
        &[
            "script a for tide\n\non bell {\n    wait 1s\n    log = log * 10 + 1\n}\n\non every 1s {\n    log = log * 10 + 3\n}\n\non tick {\n    clock += 1\n    if log > 0 and log < 9 {\n        log = log * 10 + 2\n    }\n}\n",
        ],
        |run| {
            run.bell();
            run.machine.pass(10);
            assert_eq!(run.whole("tide.log"), 123);
        },
    );
}

#[test]
fn every_counts_the_time_of_the_run() {
    play(&["script a for tide\n\non every 2s {\n    log += 1\n}\n"], |run| {
        run.machine.pass(19);
        assert_eq!(run.whole("tide.log"), 0);
        run.machine.pass(1);
        assert_eq!(run.whole("tide.log"), 1);
        run.machine.pass(40);
        assert_eq!(run.whole("tide.log"), 3);
    });
}

#[test]
fn after_runs_later_with_copies_of_what_it_sees() {
    play(
        &[
            "script a for tide\n\non bell {\n    let seen = log\n    after 1s {\n        log = log + seen + 100\n    }\n    seen = 50\n    log = 5\n}\n",
        ],
        |run| {
            run.bell();
            assert_eq!(run.whole("tide.log"), 5);
            run.machine.pass(10);
            assert_eq!(run.whole("tide.log"), 105);
        },
    );
}

#[test]
fn wait_until_goes_on_when_it_is_so() {
    play(
        &[
            "script a for tide\n\non bell {\n    wait until height > 3\n    log = height\n}\n\non raise(by) {\n    height += by\n}\n",
        ],
        |run| {
            run.bell();
            run.raise(2);
            assert_eq!(run.whole("tide.log"), 0);
            run.raise(3);
            assert_eq!(run.whole("tide.log"), 5);
        },
    );
}

#[test]
fn loops_go_on_where_they_waited() {
    play(
        &[
            "script a for boat\n\non bell {\n    for each in boat {\n        wait 1s\n        each.load += 1\n    }\n    repeat 2 {\n        wait 1s\n        tide.log += 1\n    }\n}\n",
        ],
        |run| {
            run.machine.fire(run.signal("bell"), [], Reach::Only(run.instance("dawn_boat")));
            run.machine.pass(10);
            assert_eq!((run.load("dawn_boat"), run.load("dusk_boat")), (1, 3));
            run.machine.pass(10);
            assert_eq!((run.load("dawn_boat"), run.load("dusk_boat")), (1, 4));
            run.machine.pass(20);
            assert_eq!(run.whole("tide.log"), 2);
        },
    );
}

// ---- questions and labels ----

#[test]
fn a_question_waits_for_its_answer() {
    play(
        &[
            "script a for tide\n\non bell {\n    ask \"Which way?\" {\n        choice \"Out\" when height > 3 { log = 1 }\n        choice \"Home\" { log = 2 }\n        choice \"Stay\" { log = 3 }\n    }\n    log = log * 10\n}\n",
        ],
        |run| {
            assert_eq!(run.machine.choose(0), Err(None), "nothing is asked");
            run.bell();
            assert_eq!(run.machine.questions[0].choices, ["Home", "Stay"]);
            assert_eq!(run.machine.choose(2), Err(Some(2)));
            run.machine.choose(1).expect("the second choice offered");
            assert_eq!(run.whole("tide.log"), 30);
        },
    );
}

#[test]
fn a_label_keeps_what_was_last_shown_in_it() {
    play(
        &[
            "script a for tide\n\non bell {\n    show board \"{height} marks, {rate:2} and {rate}\"\n    height = 9\n}\n\non raise(by) {\n    hide board\n}\n",
        ],
        |run| {
            run.bell();
            assert_eq!(run.shown("board"), "0 marks, 1.50 and 1.5");
            run.raise(1);
            assert_eq!(run.shown("board"), "");
        },
    );
}

#[test]
fn braces_and_escapes_are_printed_as_meant() {
    play(&["script a for tide\n\non bell {\n    show board \"{{{height}}} \\\"{mood}\\\"\"\n}\n"], |run| {
        run.bell();
        assert_eq!(run.shown("board"), "{0} \"calm\"");
    });
}

// ---- scenes, runs and instances ----

#[test]
fn another_scene_takes_its_instances_and_drops_what_waits_there() {
    play(
        &[
            "script a for tide\n\non bell {\n    go marsh\n    log = 1\n}\n",
            "script b for boat\n\non raise(by) {\n    wait 1s\n    tide.log = 99\n}\n",
            "script c for harbor\n\non leave {\n    tide.log += 10\n}\n",
            "script d for marsh\n\non enter {\n    tide.log += 100\n}\n",
        ],
        |run| {
            run.raise(1);
            run.bell();
            assert_eq!(run.whole("tide.log"), 111, "the handler ends, then leave, then enter");
            run.machine.pass(20);
            assert_eq!(run.whole("tide.log"), 111, "the boats are gone, and their waits with them");
            assert!(run.machine.memory.all_live().is_empty());
        },
    );
}

#[test]
fn a_scenes_variables_are_made_anew() {
    play(
        &[
            "script a for harbor\n\non bell {\n    guests = 9\n    go harbor\n}\n\non enter {\n    tide.log = guests\n}\n",
        ],
        |run| {
            run.bell();
            assert_eq!(run.whole("tide.log"), 4);
        },
    );
}

#[test]
fn a_new_run_keeps_what_lasts_and_forgets_the_rest() {
    play(
        &[
            "script a for tide\n\nprivate rounds: int = 0\n\non raise(by) {\n    height = by\n    kept = by\n    rounds = by\n    show board \"up\"\n    wait 1s\n    log = 9\n}\n\non bell {\n    restart\n    log = 5\n}\n\non start {\n    log = rounds\n}\n",
        ],
        |run| {
            run.raise(4);
            run.bell();
            assert_eq!((run.whole("tide.height"), run.whole("tide.kept"), run.whole("tide.log")), (0, 4, 0));
            assert_eq!(run.shown("board"), "");
            run.machine.pass(20);
            assert_eq!(run.whole("tide.log"), 0, "what waited is dropped");
        },
    );
}

#[test]
fn what_was_written_before_a_procedure_ends_the_run_is_judged() {
    play(
        &[
            "script a for tide\n\non bell {\n    height = 20\n    log = ended()\n}\n\nproc ended() -> int {\n    restart\n    return 1\n}\n",
        ],
        |run| {
            run.bell();
            assert_eq!(run.faults(), ["scripts/a.oaken:4 range/can-exceed"]);
        },
    );
}

#[test]
fn spawn_runs_the_new_ones_handlers_at_once() {
    play(
        &[
            "script a for tide\n\non bell {\n    log = 1\n    spawn boat as new\n    log = log * 10 + new.load\n    log = log * 10 + count(boat)\n}\n",
            "script b for boat\n\non spawn {\n    load = 7\n    tide.log = tide.log * 10 + 2\n}\n",
        ],
        |run| {
            run.bell();
            assert_eq!(run.whole("tide.log") % 10_000, 1273);
        },
    );
}

#[test]
fn removed_handlers_see_the_last_values() {
    play(
        &[
            "script a for boat\n\non touched(other: boat) {\n    remove other\n    tide.log = count(boat)\n}\n\non removed {\n    tide.log = tide.log * 10 + load\n}\n",
        ],
        |run| {
            let dusk = run.instance("dusk_boat");
            run.touch("dawn_boat", dusk);
            assert_eq!(run.whole("tide.log"), 13);
        },
    );
}

#[test]
fn removed_handlers_see_them_where_one_takes_itself_away_as_it_asks_whether_to_go_on() {
    let waits = "script a for boat\n\non touched(other: boat) {\n    wait until is_over()\n}\n\n";
    let asks =
        "proc is_over() -> bool {\n    remove self\n    return true\n}\n\non removed {\n    tide.log = load\n}\n";
    play(&[&format!("{waits}{asks}")], |run| {
        let dusk = run.instance("dusk_boat");
        run.touch("dusk_boat", dusk);
        run.machine.pass(20);
        assert_eq!((run.whole("tide.log"), run.faults()), (3, Vec::new()));
    });
}

#[test]
fn who_asks_whether_to_go_on_may_take_away_others_that_wait() {
    let script = "script a for boat\n\non touched(other: boat) {\n    wait until may_go(other)\n    tide.log += 1\n}\n\nproc may_go(other: boat) -> bool {\n    if other is not none and other != self and tide.log > 0 { remove other }\n    return tide.log > 1\n}\n\non spawn { tide.log = 0 }\n\non removed { tide.log += load }\n";
    let bell = "script b for tide\n\non bell {\n    log = 1\n}\n";
    play(&[script, bell], |run| {
        let dusk = run.instance("dusk_boat");
        run.touch("dusk_boat", dusk);
        run.touch("dawn_boat", dusk);
        run.bell();
        run.machine.pass(20);
        assert_eq!((run.whole("tide.log"), run.faults()), (5, Vec::new()));
    });
}

#[test]
fn removed_handlers_see_them_after_a_wait_too_but_not_in_another_scene() {
    let script = "script a for boat\n\non touched(other: boat) {\n    remove other\n}\n\non removed {\n    wait 1s\n    tide.log += load\n}\n";
    let goes = "script b for tide\n\non bell {\n    go marsh\n}\n";
    play(&[script, goes], |run| {
        let (dawn, dusk) = (run.instance("dawn_boat"), run.instance("dusk_boat"));
        run.touch("dawn_boat", dusk);
        run.machine.pass(20);
        assert_eq!((run.whole("tide.log"), run.faults()), (3, Vec::new()));
        run.touch("dawn_boat", dawn);
        run.bell();
        run.machine.pass(20);
        assert_eq!((run.whole("tide.log"), run.faults()), (3, Vec::new()));
    });
}

#[test]
fn one_that_is_gone_can_be_removed_but_not_sent_to() {
    play(
        &[
            "script a for boat\n\non touched(other) {\n    remove mate\n    send told(1) to mate\n    tide.log += 1\n}\n",
        ],
        |run| {
            let dusk = run.instance("dusk_boat");
            run.touch("dawn_boat", dusk);
            assert_eq!((run.whole("tide.log"), run.faults()), (1, vec!["scripts/a.oaken:5 init/empty-ref".to_owned()]));
        },
    );
}

#[test]
fn what_is_removed_is_none_for_all_that_held_it() {
    play(
        &[
            "script a for boat\n\non raise(by) {\n    mate = dusk_boat\n}\n\non touched(other: boat) {\n    remove other\n}\n\non bell {\n    if mate is none {\n        tide.log += 1\n    }\n}\n",
        ],
        |run| {
            run.raise(0);
            let dusk = run.instance("dusk_boat");
            run.touch("dawn_boat", dusk);
            run.bell();
            assert_eq!(run.whole("tide.log"), 1);
        },
    );
}

#[test]
fn remove_self_ends_the_activation() {
    play(&["script a for boat\n\non bell {\n    tide.log += 1\n    remove self\n    tide.log += 100\n}\n"], |run| {
        run.bell();
        assert_eq!(run.whole("tide.log"), 2);
        assert!(run.machine.memory.all_live().is_empty());
    });
}

// ---- values ----

#[test]
fn wrapping_and_clamping() {
    play(&["script a for tide\n\non raise(by) {\n    clock += by\n    fill += by\n}\n"], |run| {
        run.raise(5);
        assert_eq!((run.whole("tide.clock"), run.value("tide.fill")), (1, Some(Value::Number(2.0))));
        run.raise(-3);
        assert_eq!((run.whole("tide.clock"), run.value("tide.fill")), (2, Some(Value::Number(0.0))));
        assert_eq!(run.faults(), [""; 0]);
    });
}

#[test]
fn arithmetic_of_the_language() {
    let cases = [
        ("7 % 3", 1),
        ("-7 % 3", 2),
        ("7 % -3", -2),
        ("floor(-1.5)", -2),
        ("ceil(1.2)", 2),
        ("round(2.5)", 3),
        ("min(4, 2, 3)", 2),
        ("max(1, 9)", 9),
        ("clamp(15, 0, 10)", 10),
        ("abs(-4)", 4),
        ("2 + 3 * 4", 14),
        ("(2 + 3) * 4", 20),
        ("length(\"mail\")", 4),
        ("floor(number(\"2.5\") * 2)", 5),
        ("floor(number(\"tide\"))", 0),
        ("9223372036854775807 + 1", i64::MAX),
    ];
    for (expression, wanted) in cases {
        play(&[&format!("script a for tide\n\non bell {{\n    log = {expression}\n}}\n")], |run| {
            run.bell();
            assert_eq!(run.whole("tide.log"), wanted, "{expression}");
        });
    }
}

#[test]
fn draws_stay_within_their_ends_and_are_the_same_each_time() {
    let script = "script a for tide\n\non bell {\n    log = log * 10 + random(3, 1)\n}\n";
    let mut seen = Vec::new();
    for _ in 0..2 {
        play(&[script], |run| {
            for _ in 0..15 {
                run.bell();
            }
            seen.push(run.whole("tide.log"));
        });
    }
    assert_eq!(seen[0], seen[1]);
    assert!(seen[0].to_string().chars().all(|digit| ('1'..='3').contains(&digit)), "{seen:?}");
}

#[test]
fn the_right_side_is_not_looked_at_once_the_left_decides() {
    play(
        &[
            "script a for tide\n\non bell {\n    if blank is set and blank > 3 { log = 1 }\n    if blank is not set or blank > 3 { log += 2 }\n}\n",
        ],
        |run| {
            run.bell();
            assert_eq!((run.whole("tide.log"), run.faults().len()), (2, 0));
        },
    );
}

// ---- faults ----

#[test]
fn a_write_that_is_put_right_in_time_is_no_fault() {
    play(
        &[
            "script a for tide\n\non raise(by) {\n    height += by\n    if height > 10 {\n        height = 10\n    }\n}\n",
        ],
        |run| {
            run.raise(30);
            assert_eq!((run.whole("tide.height"), run.faults().len()), (10, 0));
        },
    );
}

#[test]
fn a_fault_belongs_to_the_write_that_led_outside() {
    play(
        &["script a for tide\n\non raise(by) {\n    height += by\n    height += 1\n    wait 1s\n    height = 0\n}\n"],
        |run| {
            run.raise(15);
            assert_eq!(run.faults(), ["scripts/a.oaken:4 range/can-exceed"]);
            run.machine.pass(10);
            run.raise(10);
            assert_eq!(run.faults()[1], "scripts/a.oaken:5 range/can-exceed");
        },
    );
}

#[test]
fn what_is_printed_settles_and_what_is_not_waits() {
    play(
        &[
            "script a for tide\n\non raise(by) {\n    height += by\n    show board \"{log}\"\n    show board \"{height}\"\n    height = 0\n}\n",
        ],
        |run| {
            run.raise(15);
            assert_eq!(run.faults(), ["scripts/a.oaken:4 range/can-exceed"]);
            assert_eq!(run.shown("board"), "15", "the write keeps its value");
        },
    );
}

#[test]
fn faults_of_reading_give_zero_and_go_on() {
    play(
        &["script a for tide\n\non bell {\n    log = blank + 1\n    rate = 3 / height\n    log += 7 % height\n}\n"],
        |run| {
            run.bell();
            assert_eq!(
                run.faults(),
                [
                    "scripts/a.oaken:4 init/read-before-set",
                    "scripts/a.oaken:5 range/divide-by-zero",
                    "scripts/a.oaken:6 range/divide-by-zero",
                ]
            );
            assert_eq!((run.whole("tide.log"), run.value("tide.rate")), (1, Some(Value::Number(0.0))));
        },
    );
}

#[test]
fn a_way_through_none_is_a_fault_and_changes_nothing() {
    play(&["script a for boat\n\non bell {\n    mate.load = 5\n    load += mate.load + 1\n}\n"], |run| {
        run.machine.fire(run.signal("bell"), [], Reach::Only(run.instance("dawn_boat")));
        assert_eq!(run.faults(), ["scripts/a.oaken:4 init/empty-ref", "scripts/a.oaken:5 init/empty-ref"]);
        assert_eq!(run.load("dawn_boat"), 1);
    });
    play(&["script a for tide\n\non bell {\n    remove dawn_boat\n    dawn_boat.load = 5\n    log += 1\n}\n"], |run| {
        run.bell();
        assert_eq!(run.faults(), ["scripts/a.oaken:5 init/empty-ref"]);
        assert_eq!(run.whole("tide.log"), 1);
    });
}

// ---- runs that would not end ----

#[test]
fn what_never_ends_is_stopped_and_says_where() {
    for (script, wanted) in [
        ("script a for tide\n\non bell {\n    while true {\n        log += 1\n    }\n}\n", "a loop goes round"),
        (
            "script a for tide\n\non bell {\n    log += 1\n}\n\non changed log {\n    log += 1\n}\n",
            "set each other off",
        ),
        (
            "script a for tide\n\non bell {\n    turn()\n}\n\nproc turn() {\n    turn()\n}\n",
            "procedures call one another",
        ),
        (
            "script a for tide\n\non bell {\n    log = turn()\n}\n\nproc turn() -> int {\n    return turn() + 1\n}\n",
            "procedures call one another",
        ),
        ("script a for boat\n\non bell {\n    spawn boat\n}\n\non spawn {\n    spawn boat\n}\n", "without an end"),
        // What is written bounds a value of each of the boats, which are twice as many each time.
        (
            "script a for boat\n\non bell {\n    spawn boat\n    tide.most = 9\n    send told(1)\n}\n\non told(what) {\n    spawn boat\n    tide.most = 9\n    send told(1)\n}\n",
            "more and more instances",
        ),
    ] {
        play(&[script], |run| {
            run.bell();
            let stopped = run.machine.stopped.as_ref().map_or("", |stopped| stopped.message.as_str());
            assert!(stopped.contains(wanted), "{script}: {stopped}");
        });
    }
}
