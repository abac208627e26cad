//! The core's public face for everything that is more than checking: rehearsals, witnesses, edits, tables, comparisons.

use census::compare::{Kind, compare};
use census::edit::occurrences::{self, Target};
use census::edit::patch::{NewFile, Patch, apply, rebuilt};
use census::edit::{Form, Given, change, rename, retire};
use census::flow::world::{World, graphs};
use census::project::expression::Conditions;
use census::project::{self, Project};
use census::rehearsal::play::{Outcome, Why, play, unmet_faults};
use census::rehearsal::record::{Wanted, What};
use census::rehearsal::write::{Head, document, duration_text, step_keys};
use census::rehearsal::{Action, Rehearsal, read};
use census::rehearse::layout::Layout;
use census::rehearse::value::Value;
use census::rules::Facts;
use census::source::{FileId, FileKind, SourceFile, Sources, Span};
use census::tally::{Pace, Size, tally};
use census::{report, sheet, whatif, witness};

const REGISTRY: &str = r#"[owners.tide]
kind = "system"
[owners.harbor]
kind = "scene"
[owners.boat]
kind = "actor"
count = "many"
[instances.dawn_boat]
of = "boat"
scene = "harbor"
[signals.bell]
from = "engine"
to = "all"
[signals.raise]
from = "engine"
to = "all"
parameters = { by = { type = "int", min = 0, max = 4 } }
[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = "tide.brim"

[variables.tide.brim] # how far
type = "int"
scope = "global"
default = 5

[variables.tide.mood]
type = "enum"
scope = "global"
values = ["calm", "storm"]
default = "calm"
lifetime = "saved"

[variables.boat]
load = { type = "int", scope = "instance", default = 1 }
"#;

const SCRIPT: &str = r#"script tides for tide

on raise(by) {
    height += by
    show mark "{height}"
    if height > 3 { mood = "storm" }
}
on bell {
    for each in boat { each.load += brim }
    wait 2s
    brim = 7
}
"#;

fn build(registry: &str, script: &str, rehearsal: &str) -> Project {
    let mut sources = Sources::default();
    let config = "[project]\nname = \"Saltmarsh Mail\"\nfirst_scene = \"harbor\"\ntick_rate = 10\n[sharing]\nwriters = \"anyone\"\n";
    sources.add(SourceFile::new("oaken.toml", FileKind::Config, config.as_bytes().to_vec()));
    sources.add(SourceFile::new("registry/all.toml", FileKind::Registry, registry.as_bytes().to_vec()));
    sources.add(SourceFile::new("scripts/tides.oaken", FileKind::Script, script.as_bytes().to_vec()));
    sources.add(SourceFile::new("rehearsals/one.toml", FileKind::Rehearsal, rehearsal.as_bytes().to_vec()));
    project::build(sources)
}

fn project() -> Project {
    build(REGISTRY, SCRIPT, "")
}

fn rehearsal_file(project: &Project) -> FileId {
    project.sources.of_kind(FileKind::Rehearsal).next().expect("a rehearsal")
}

/// Plays a rehearsal and hands its outcome over.
fn played(text: &str, wanted: Wanted, look: impl FnOnce(&Layout<'_>, &Rehearsal, &Outcome<'_>)) {
    let project = build(REGISTRY, SCRIPT, text);
    let rehearsal = read::read(&project, rehearsal_file(&project)).expect("a rehearsal that can be read");
    let graphs = graphs(&project);
    let layout = Layout::new(&project, &graphs);
    let outcome = play(&layout, &rehearsal, wanted);
    look(&layout, &rehearsal, &outcome);
}

const RAISE: &str = "[[step]]\nfire = \"raise\"\nwith = { by = 3 }\n";

// ---- rehearsals ----

#[test]
fn an_outcome_counts_what_happened() {
    let text = format!(
        "faults = [\"init/empty-ref\"]\n{RAISE}{RAISE}[[step]]\nexpect = \"height < 5 and mood == \\\"calm\\\"\"\n"
    );
    played(&text, Wanted::default(), |_, rehearsal, outcome| {
        assert!(!outcome.passed());
        assert_eq!((outcome.failed, outcome.fault_count, outcome.unexpected, outcome.ticks), (1, 1, 1, 0));
        assert_eq!(outcome.faults[0].fault.rule.0, "range/can-exceed");
        assert_eq!(unmet_faults(rehearsal, outcome).len(), 1);
        let Why::Unmet { expected, reads, changes, unanswered, .. } = &outcome.failures[0].why else {
            panic!("{:?}", outcome.failures)
        };
        assert_eq!(expected, "height < 5 and mood == \"calm\"");
        assert_eq!(unanswered, &None);
        let told: Vec<(&str, &str)> = reads.iter().map(|read| (read.name.as_str(), read.value.as_str())).collect();
        assert_eq!(told, [("height", "6"), ("mood", "\"storm\"")]);
        assert_eq!(changes.len(), 3, "two of the height, one of the mood");
        assert!(outcome.recorder.log.is_empty(), "no log was asked for");
    });
}

#[test]
fn the_log_keeps_what_happened_in_order() {
    let text = format!("{RAISE}[[step]]\npass = \"1s\"\n{RAISE}");
    played(&text, Wanted { log: true, tracks: false }, |_, _, outcome| {
        let kinds: Vec<(&str, Option<usize>, u64)> =
            outcome.recorder.log.iter().map(|entry| (entry.what.kind(), entry.step, entry.tick)).collect();
        assert_eq!(
            kinds,
            [
                ("run", None, 0),
                ("change", Some(0), 0),
                ("show", Some(0), 0),
                ("change", Some(2), 10),
                ("fault", Some(2), 10),
                ("show", Some(2), 10),
                ("change", Some(2), 10)
            ]
        );
        let What::Changed { name, old, new } = &outcome.recorder.log[1].what else { panic!("no change") };
        assert_eq!((name.as_str(), old.as_str(), new.as_str()), ("tide.height", "0", "3"));
    });
}

#[test]
fn tracks_follow_values_their_bounds_and_their_faults() {
    let text = format!(
        "watch = [\"tide.height\", \"boat.load\"]\n[given]\ntide.height = 1\n{RAISE}[[step]]\nfire = \"bell\"\n[[step]]\npass = \"3s\"\n{RAISE}{RAISE}"
    );
    played(&text, Wanted { log: false, tracks: true }, |_, _, outcome| {
        let names: Vec<&str> = outcome.recorder.tracks.iter().map(|track| track.name.as_str()).collect();
        assert_eq!(names, ["tide.height", "dawn_boat.load"]);
        let points: Vec<(u64, Option<Value>, Option<f64>)> = outcome.recorder.tracks[0]
            .points
            .iter()
            .map(|point| (point.tick, point.value.clone(), point.range.1))
            .collect();
        let value = |value| Some(Value::Int(value));
        assert_eq!(
            points,
            [
                (0, value(1), Some(5.0)),
                (0, value(4), Some(5.0)),
                (20, value(4), Some(7.0)),
                (30, value(7), Some(7.0)),
                (30, value(10), Some(7.0))
            ],
            "from what is given on, with the bound where it moves"
        );
        let marks: Vec<(u64, &str)> = outcome.recorder.marks.iter().map(|mark| (mark.tick, mark.rule)).collect();
        assert_eq!(marks, [(30, "range/can-exceed")]);
    });
}

#[test]
fn a_rehearsal_that_is_written_reads_back_the_same() {
    let text = "seed = 9\n[[step]]\nfire = \"raise\"\nwith = { by = 2 }\ntimes = 3\n[[step]]\npass = \"0.5s\"\n[[step]]\nchoose = 2\n[[step]]\nset = { \"tide.mood\" = \"storm\", \"dawn_boat.load\" = 4 }\n[[step]]\ngo = \"harbor\"\n[[step]]\nrestart = true\n";
    let project = build(REGISTRY, SCRIPT, text);
    let file = rehearsal_file(&project);
    let first = read::read(&project, file).expect("it can be read");
    let steps: Vec<Action> = first.steps.iter().map(|step| step.action.clone()).collect();
    let head = Head { title: "a \"quoted\" title".to_owned(), seed: 9, ..Head::default() };
    let expect = [("height == 6".to_owned(), "so it is".to_owned())];
    let written = document(&project, &head, &steps, &expect);
    let source = SourceFile::new("written.toml", FileKind::Rehearsal, written.into_bytes());
    let again = read::read_file(&project, file, &source).expect("it reads back");
    assert_eq!((again.title.as_str(), again.seed), ("a \"quoted\" title", 9));
    let back: Vec<Action> = again.steps.iter().map(|step| step.action.clone()).collect();
    assert_eq!(back[..steps.len()], steps[..]);
    assert!(matches!(back.last(), Some(Action::Expect { .. })));
    assert_eq!(step_keys(&project, &steps[1]), [("pass", "\"0.5s\"".to_owned())]);
    assert_eq!((duration_text(&project, 0), duration_text(&project, 25)), ("0t".to_owned(), "2.5s".to_owned()));
}

#[test]
fn conditions_are_read_over_the_registry_alone() {
    let project = project();
    let conditions = Conditions::new(&project.registry);
    let read = |text: &str| conditions.read(text, FileId(0)).map(|_| ()).map_err(|error| error.message);
    assert_eq!(read("height > 1 and shown(\"mark\") == \"2\" implies mood == \"calm\""), Ok(()));
    assert_eq!(read("dawn_boat.load == height.max"), Ok(()));
    assert!(read("height").is_err_and(|message| message.contains("a condition is true or false")));
    assert!(read("mood == \"clam\"").is_err_and(|message| message.contains("\"clam\"")));
    assert!(read("boat.load == 1").is_err());
    assert!(read("chance(0.5)").is_err_and(|message| message.contains("can't draw")));
    assert!(read("height == 1 1").is_err());
    assert!(read("").is_err());
}

// ---- witnesses ----

#[test]
fn witnesses_are_the_same_each_time_and_none_is_made_up() {
    let project = project();
    let report = report::check(&project);
    let found: Vec<_> = report.findings.iter().map(|told| &told.finding).collect();
    let provable: Vec<_> = found.into_iter().filter(|finding| witness::can_have(finding)).collect();
    assert!(provable.iter().any(|finding| finding.rule.0 == "range/can-exceed"));
    let world = World::new(&project);
    let sentences = || -> Vec<Option<String>> {
        let all = witness::find_all(&world, &provable, 200_000);
        all.into_iter().map(|witness| witness.map(|witness| witness.sentence)).collect()
    };
    assert_eq!(sentences(), sentences());
    let exceed = provable.iter().position(|finding| finding.rule.0 == "range/can-exceed").expect("it is there");
    let sentence = sentences()[exceed].clone().expect("a witness");
    assert_eq!(sentence, "`raise` with by = 4 2 times: `tide.height` is 8, and its `max` is 5");
    assert!(witness::find_all(&world, &provable, 1)[exceed].is_none(), "without effort there is none");
}

// ---- edits ----

fn given(key: &'static str, value: &str, form: Form) -> Given {
    Given { key, values: vec![value.to_owned()], form }
}

#[test]
fn patches_are_applied_in_order_and_once() {
    let project = project();
    let file = project.sources.of_kind(FileKind::Registry).next().expect("a registry file");
    let patch = |start, end, text: &str| Patch { file, span: Span { start, end }, text: text.to_owned() };
    let files = apply(&project, vec![patch(8, 12, "moon"), patch(0, 0, "# new\n"), patch(8, 12, "moon")]);
    assert_eq!(files.len(), 1);
    assert!(files[0].after.starts_with("# new\n[owners.moon]\nkind"), "{}", files[0].after);
    assert_eq!(files[0].before.as_deref(), Some(REGISTRY));
    assert!(apply(&project, vec![patch(8, 12, "tide")]).is_empty(), "what stays as it is does not come up");
}

#[test]
fn changes_are_tried_before_they_are_given() {
    let project = project();
    let brim = project.registry.find("tide.brim").expect("the brim");
    let files = change::change(&project, brim, &[given("default", "8", Form::ByType)], &[]).expect("it can be done");
    assert_eq!(files[0].after, REGISTRY.replace("default = 5", "default = 8"));
    let after = rebuilt(&project, &files);
    assert_eq!(after.findings.len(), project.findings.len());
    let refused = change::change(&project, brim, &[given("default", "\"many\"", Form::Plain)], &[]);
    assert!(refused.is_err_and(|why| why.0.contains("`default` wants a whole number")));
    let gone = change::change(&project, brim, &[], &["default".to_owned()]);
    assert!(gone.is_err_and(|why| why.0.contains("default")), "a bound has a default");
}

#[test]
fn names_are_found_where_they_are_meant() {
    let project = project();
    let height = project.registry.find("tide.height").expect("the height");
    let lines = |target: Target| -> Vec<String> {
        let place = |at: census::source::Location| {
            let file = project.sources.file(at.file);
            format!("{}:{}", file.path, file.position(at.span.start).line)
        };
        occurrences::find(&project, target).into_iter().map(|occurrence| place(occurrence.at)).collect()
    };
    assert_eq!(
        lines(Target::Variable(height)),
        ["registry/all.toml:18", "scripts/tides.oaken:4", "scripts/tides.oaken:5", "scripts/tides.oaken:6"]
    );
    let boat = project.registry.find_owner("boat").expect("the boat");
    assert_eq!(
        lines(Target::Owner(boat)),
        ["registry/all.toml:5", "registry/all.toml:9", "registry/all.toml:37", "scripts/tides.oaken:9"]
    );
    assert!(rename::target(&project, "brim").is_ok_and(|target| matches!(target, Target::Variable(_))));
    assert!(rename::target(&project, "dawn_boat").is_ok_and(|target| matches!(target, Target::Instance(_))));
}

#[test]
fn a_rename_there_and_back_changes_nothing() {
    let project = project();
    let brim = rename::target(&project, "tide.brim").expect("the brim");
    let renamed = rename::rename(&project, brim, "edge", None).expect("it can be done");
    assert_eq!(renamed.places, 4);
    let after = rebuilt(&project, &renamed.files);
    let back = rename::rename(&after, rename::target(&after, "tide.edge").expect("the edge"), "brim", None);
    let files: Vec<NewFile> = back.expect("it can be undone").files;
    assert_eq!(
        files.iter().find(|file| file.path.starts_with("registry")).map(|file| file.after.as_str()),
        Some(REGISTRY)
    );
    assert_eq!(
        files.iter().find(|file| file.path.starts_with("scripts")).map(|file| file.after.as_str()),
        Some(SCRIPT)
    );
    let refused = rename::rename(&project, brim, "height", None);
    assert!(refused.is_err_and(|why| why.0.contains("height")));
}

#[test]
fn what_is_used_is_not_removed() {
    let project = project();
    let find = |name: &str| project.registry.find(name).expect("a variable");
    assert!(retire::remove(&project, find("tide.brim")).is_err_and(|why| why.0.contains("is used in 3 places")));
    let marked = retire::mark(&project, find("tide.mood"), "0.2", None).expect("it can be marked");
    assert!(marked[0].after.contains("lifetime = \"saved\"\nretired = { since = \"0.2\" }\n"), "{}", marked[0].after);
}

// ---- tables, comparisons, foresight ----

#[test]
fn a_table_has_a_row_for_each_variable() {
    let project = project();
    let (columns, rows) = (sheet::columns(), sheet::rows(&project));
    assert_eq!((columns[0], rows.len()), ("id", 4));
    let cell = |row: usize, name: &str| {
        rows[row][columns.iter().position(|column| *column == name).expect("a column")].as_str()
    };
    assert_eq!((cell(0, "id"), cell(0, "max"), cell(0, "overflow")), ("tide.height", "tide.brim", ""));
    assert_eq!((cell(2, "values"), cell(2, "lifetime")), ("calm, storm", "saved"));
    let head: Vec<String> = columns.iter().map(ToString::to_string).collect();
    let imported = sheet::import(&project, &head, &rows).expect("its own table");
    assert!(imported.files.is_empty() && imported.changed.is_empty() && imported.refused.is_empty());
    for text in ["", "plain", "\"quoted", " blanks ", "two\nlines", "'", "=1"] {
        assert_eq!(sheet::text_of(&sheet::text_cell(text)), text);
    }
    for list in [vec!["a"], vec!["a, b", "c"], vec!["[x]"], vec!["a", "b"], vec![""]] {
        let items: Vec<String> = list.iter().map(ToString::to_string).collect();
        assert_eq!(sheet::texts_of(&sheet::list_cell(&list)), Some(items));
    }
}

#[test]
fn states_are_compared_by_what_they_mean() {
    let old = project();
    assert_eq!(compare(&old, &project()), []);
    let moved = build(&REGISTRY.replace("tide", "sea"), &SCRIPT.replace("for tide", "for sea"), "");
    let kinds: Vec<(Kind, String)> =
        compare(&old, &moved).into_iter().map(|change| (change.kind, change.identity)).collect();
    assert!(kinds.contains(&(Kind::Renamed, "sea.height".to_owned())), "{kinds:?}");
    assert!(kinds.contains(&(Kind::Removed, "tide".to_owned())) && kinds.contains(&(Kind::Added, "sea".to_owned())));
    let fewer = build(&REGISTRY.replace("\"calm\", \"storm\"", "\"calm\", \"gale\""), SCRIPT, "");
    let broken: Vec<String> = compare(&old, &fewer).into_iter().filter_map(|change| change.breaks).collect();
    assert_eq!(broken, ["saves may hold `storm`"]);
}

#[test]
fn tallies_tell_steps_starts_and_ways() {
    let project = project();
    let facts = Facts::new(&project);
    let tally = tally(&facts, project.registry.find("tide.height").expect("the height"));
    assert_eq!((tally.starts.len(), tally.starts[0].value), (1, Some(0.0)));
    assert_eq!((tally.steps[0].pace, &tally.steps[0].sizes[0]), (Pace::Firing, &Size::By(0.0, 4.0)));
    let targets: Vec<f64> = tally.starts[0].targets.iter().map(|target| target.value).collect();
    assert_eq!(targets, [0.0, 3.0, 5.0]);
    let way = tally.ways.iter().find(|way| tally.starts[0].targets[way.target].value == 5.0).expect("a way up");
    assert_eq!((way.least, way.most), (2.0, None), "a raise of nothing leads nowhere");
}

#[test]
fn what_a_change_would_do_is_told_without_doing_it() {
    let project = build(REGISTRY, SCRIPT, &format!("{RAISE}{RAISE}"));
    let effects = whatif::whatif(&project, &["tide.brim.default=9".to_owned()]).expect("a change");
    assert_eq!(effects.rehearsals, [("rehearsals/one.toml".to_owned(), "fails", "passes")]);
    assert_eq!(effects.tallies[0].0, "tide.height", "what it bounds");
    let nothing = whatif::whatif(&project, &["tide.brim.default=5".to_owned()]).expect("a change");
    assert!(nothing.is_empty());
    assert!(whatif::whatif(&project, &["tide.brim.default".to_owned()]).is_err());
}
