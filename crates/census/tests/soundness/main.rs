//! Every fault that a random program comes to in a random run must have been reported: at that statement, under that rule.
//! And nothing may happen that the checks say can't. The same holds for the demo's scripts with slips in them, and for small
//! programs all of whose states are gone through. Where it makes a difference which of two scripts comes first, that must have
//! been told. And what is told of a program is told of the same one in other words.
//!
//! `OAKEN_PROGRAMS`, `OAKEN_SLIPS`, `OAKEN_CLOSED` and `OAKEN_REWORDED` say how many programs of each kind, `OAKEN_RUNS` how many
//! runs of each; `OAKEN_SEED` where to begin. `OAKEN_PROJECT` names another folder to put slips into.

mod claims;
mod closed;
mod drive;
mod generate;
mod order;
mod reworded;
mod slips;

use census::flow::world::World;
use census::project::{self, Project};
use census::rehearse::fault::Fault;
use census::rehearse::layout::Layout;
use census::report::{self, Report};
use census::source::{FileKind, SourceFile, Sources};
use std::collections::BTreeSet;

fn setting(name: &str, otherwise: u64) -> u64 {
    std::env::var(name).ok().and_then(|text| text.parse().ok()).unwrap_or(otherwise)
}

fn build(program: &generate::Program) -> Project {
    let mut sources = Sources::default();
    sources.add(SourceFile::new("oaken.toml", FileKind::Config, program.config.clone().into_bytes()));
    sources.add(SourceFile::new("registry/all.toml", FileKind::Registry, program.registry.clone().into_bytes()));
    for (at, script) in program.scripts.iter().enumerate() {
        let path = format!("scripts/{at}.oaken");
        sources.add(SourceFile::new(path, FileKind::Script, script.clone().into_bytes()));
    }
    project::build(sources)
}

fn place(project: &Project, at: census::source::Location) -> String {
    let file = project.sources.file(at.file);
    format!("{}:{}", file.path, file.position(at.span.start).line)
}

/// Whether the checks said of a fault that it can happen.
fn was_reported(project: &Project, report: &Report, fault: &Fault) -> bool {
    let at = place(project, fault.at);
    report.findings.iter().any(|told| {
        let finding = &told.finding;
        let same_rule = finding.rule == fault.rule;
        (same_rule && place(project, finding.at) == at) || is_never_set(project, finding, fault)
    })
}

/// What nothing ever gives a value is reported at its entry, and its single reads are not.
fn is_never_set(project: &Project, finding: &census::finding::Finding, fault: &Fault) -> bool {
    let text = project.sources.file(fault.at.file).slice(fault.at.span);
    let names = text.split('.').any(|name| name.len() > 1 && finding.message.contains(name));
    finding.rule.0 == "init/never-set" && fault.rule.0 == "init/read-before-set" && names
}

#[derive(Default)]
struct Tally {
    runs: u64,
    faults: u64,
    errors: u64,
    happened: u64,
    misses: Vec<String>,
    quiet: Vec<String>,
    claims: usize,
    refuted: Vec<String>,
}

impl Tally {
    /// Says what came of so many programs, and that nothing was missed.
    fn close(self, programs: u64) {
        println!(
            "{programs} programs, {} runs, {} faults, {} misses; {} findings about faults, of which {} happened; \
             {} of what can't happen, {} refuted",
            self.runs,
            self.faults,
            self.misses.len(),
            self.errors,
            self.happened,
            self.claims,
            self.refuted.len()
        );
        if let Ok(path) = std::env::var("OAKEN_QUIET") {
            std::fs::write(path, self.quiet.join("\n")).expect("the list can be written");
        }
        let (misses, refuted) = (self.misses.join("\n"), self.refuted.join("\n"));
        assert!(misses.is_empty() && refuted.is_empty(), "not reported:\n{misses}\ntold, and not so:\n{refuted}");
    }
}

/// A mistake in the reading of a program, if it has one.
fn misread<'r>(report: &'r Report, but_for: &[&str]) -> Option<&'r census::report::Told> {
    report.findings.iter().find(|told| {
        let of_reader = matches!(told.finding.rule.family(), "syntax" | "registry" | "type");
        of_reader && told.level == census::finding::Level::Error && !but_for.contains(&told.finding.rule.0)
    })
}

fn judge_random(seed: u64, runs: u64, tally: &mut Tally) {
    let program = generate::program(seed);
    let project = build(&program);
    let report = report::check(&project);
    // Rarely the generator itself slips, and takes a variable from an actor that has none: nothing can be learnt then.
    if report.findings.iter().any(|told| told.finding.rule.0 == "registry/unknown-name") {
        return;
    }
    if let Some(told) = misread(&report, &["type/fraction-lost"]) {
        let at = place(&project, told.finding.at);
        panic!("seed {seed}: {at} {}: {}", told.finding.rule, told.finding.message);
    }
    judge(&program, seed, runs, tally);
}

fn judge(program: &generate::Program, seed: u64, runs: u64, tally: &mut Tally) {
    let project = build(program);
    let report = report::check(&project);
    // A run that begins outside of a range has its fault before anything happens.
    if report.findings.iter().any(|told| told.finding.rule.0 == "range/start-outside") {
        return;
    }
    let world = World::new(&project);
    let layout = Layout::new(&project, &world.graphs);
    let mut happened: BTreeSet<String> = BTreeSet::new();
    let mut missed: BTreeSet<String> = BTreeSet::new();
    for run in 0..runs {
        tally.runs += 1;
        let Some(fault) = drive::first_fault(&layout, seed.wrapping_mul(1000) + run, false) else { continue };
        tally.faults += 1;
        let told = format!("{} {}", place(&project, fault.at), fault.rule);
        if !was_reported(&project, &report, &fault) {
            if std::env::var("OAKEN_TRACE").is_ok() {
                drive::first_fault(&layout, seed.wrapping_mul(1000) + run, true);
            }
            missed.insert(format!("seed {seed}, run {run}: {told}: {}", fault.message));
        }
        happened.insert(told);
    }
    tally.misses.extend(missed.into_iter().take(1));
    let (claims, refuted) = claims::refuted(program, &project, &report, seed, runs);
    tally.claims += claims;
    tally.refuted.extend(refuted);
    for told in &report.findings {
        let rule = told.finding.rule.0;
        let of_fault = matches!(
            rule,
            "init/read-before-set"
                | "init/empty-ref"
                | "range/divide-by-zero"
                | "range/can-exceed"
                | "range/can-fall-below"
                | "invariant/can-break"
        );
        if of_fault {
            tally.errors += 1;
            if happened.contains(&format!("{} {rule}", place(&project, told.finding.at))) {
                tally.happened += 1;
            } else {
                tally.quiet.push(format!(
                    "seed {seed}: {} {rule}: {}",
                    place(&project, told.finding.at),
                    told.finding.message
                ));
            }
        }
    }
}

#[test]
fn every_fault_was_reported() {
    let (first, programs, runs) = (setting("OAKEN_SEED", 1), setting("OAKEN_PROGRAMS", 250), setting("OAKEN_RUNS", 30));
    let mut tally = Tally::default();
    (first..first + programs).for_each(|seed| judge_random(seed, runs, &mut tally));
    tally.close(programs);
}

#[test]
fn every_fault_of_a_slip_in_the_demo_was_reported() {
    let (first, programs, runs) = (setting("OAKEN_SEED", 1), setting("OAKEN_SLIPS", 120), setting("OAKEN_RUNS", 30));
    let (demo, mut tally) = (slips::demo(), Tally::default());
    assert!(misread(&report::check(&build(&demo)), &[]).is_none(), "the demo can be read");
    for seed in first..first + programs {
        let program = slips::with_slips(&demo, seed);
        if misread(&report::check(&build(&program)), &[]).is_none() {
            judge(&program, seed, runs, &mut tally);
        }
    }
    tally.close(programs);
}

/// Faults of ranges in small programs, all of whose states are gone through: whatever happens is told, and what is told
/// happens but where it takes more than each number by itself to see that it can't.
#[test]
fn what_is_told_of_a_small_program_happens_and_nothing_else() {
    let (first, programs) = (setting("OAKEN_SEED", 1), setting("OAKEN_CLOSED", 150));
    let (mut told, mut happened, mut missed) = (BTreeSet::new(), 0, Vec::new());
    let (mut skips, mut unseen_skips) = (0, Vec::new());
    for seed in first..first + programs {
        let project = build(&closed::program(seed));
        let report = report::check(&project);
        assert!(misread(&report, &[]).is_none(), "seed {seed}");
        let world = World::new(&project);
        let Some(seen) = closed::go_through(&project, &Layout::new(&project, &world.graphs)) else { continue };
        let faults = &seen.faults;
        let of_ranges = report.findings.iter().map(|it| &it.finding).filter(|it| it.rule.0.starts_with("range/can-"));
        let found: BTreeSet<String> = of_ranges.map(|it| format!("{} {}", place(&project, it.at), it.rule)).collect();
        happened += faults.len();
        // A fault ends its way, and what comes behind it is not seen.
        for (finding, name, value) in skips_told(&report).into_iter().filter(|_| faults.is_empty()) {
            skips += 1;
            if !seen.passes(name, value) {
                unseen_skips.push(format!("seed {seed}: {}: {}", place(&project, finding.at), finding.message));
            }
        }
        missed.extend(faults.difference(&found).map(|fault| format!("seed {seed}: {fault}")));
        told.extend(found.difference(faults).map(|finding| format!("seed {seed}: {finding}")));
    }
    let never: Vec<String> = told.into_iter().collect();
    println!("{programs} programs, {happened} faults, {} misses, {} never seen", missed.len(), never.len());
    println!("{skips} tests that are jumped over, {} never seen", unseen_skips.len());
    never.iter().chain(&unseen_skips).for_each(|finding| println!("never seen: {finding}"));
    assert!(missed.is_empty(), "{missed:?}");
    assert!(never.len() * 10 <= happened, "never seen:\n{}", never.join("\n"));
    assert!(unseen_skips.len() * 4 <= skips + 8, "never seen:\n{}", unseen_skips.join("\n"));
}

/// The tests that are told as jumped over: the finding, the variable and the value.
fn skips_told(report: &Report) -> Vec<(&census::finding::Finding, &str, i64)> {
    let all =
        report.findings.iter().map(|told| &told.finding).filter(|finding| finding.rule.0 == "range/limit-skipped");
    let parts = all.filter_map(|finding| {
        let value = finding.message.split_once(" past ")?.1.split(' ').next()?;
        Some((finding, finding.variable.as_deref()?, value.parse().ok()?))
    });
    parts.collect()
}

#[test]
fn where_the_order_of_scripts_decides_that_was_reported() {
    let (first, programs, runs) = (setting("OAKEN_SEED", 1), setting("OAKEN_CLOSED", 150), setting("OAKEN_RUNS", 30));
    let (mut deciding, mut missed) = (0, Vec::new());
    for seed in first..first + programs {
        let program = order::program(seed);
        let report = report::check(&build(&program));
        assert!(misread(&report, &[]).is_none(), "seed {seed}");
        if order::decides(&program, seed, runs) {
            deciding += 1;
            if !report.findings.iter().any(|told| told.finding.rule.0 == "sharing/order-hazard") {
                missed.push(seed);
            }
        }
    }
    println!("{programs} programs, {deciding} in which the order decides, {} misses", missed.len());
    assert!(missed.is_empty() && deciding > 0, "seeds {missed:?}");
}

/// What is told of a program is told of it in other words too, but for what takes knowing more than one of the two forms says.
#[test]
fn other_words_make_no_difference() {
    let (first, programs) = (setting("OAKEN_SEED", 1), setting("OAKEN_REWORDED", 20));
    let all = (first..first + programs).flat_map(|seed| {
        let both = [("", generate::program(seed)), ("closed ", closed::program(seed))];
        both.into_iter().map(move |(kind, program)| (format!("{kind}seed {seed}"), program))
    });
    let all: Vec<_> = all.filter_map(|(name, program)| Some((name, reworded::plainly(&program)?, program))).collect();
    let told: usize = all.iter().map(|(_, told, _)| told.len()).sum();
    for rewording in &reworded::ALL {
        let differing = all.iter().flat_map(|(name, told, program)| {
            let different = reworded::compare(program, told, rewording).unwrap_or_default();
            different.into_iter().map(move |finding| format!("{name}: {finding}"))
        });
        let differing: Vec<String> = differing.collect();
        println!("{}: {told} findings, {} differ", rewording.name, differing.len());
        differing.iter().for_each(|finding| println!("{finding}"));
        assert!(differing.len() * 100 < told, "{}:\n{}", rewording.name, differing.join("\n"));
    }
}

/// Prints a program, for whoever looks into a miss.
#[test]
#[ignore = "prints the program of OAKEN_SEED, or that of OAKEN_PROJECT with its slips"]
fn print_program() {
    let seed = setting("OAKEN_SEED", 1);
    let of_project = std::env::var("OAKEN_PROJECT").is_ok();
    let program = match std::env::var("OAKEN_CLOSED").as_deref() {
        Ok("order") => order::program(seed),
        Ok(_) => closed::program(seed),
        Err(_) if of_project => slips::with_slips(&slips::demo(), seed),
        Err(_) => generate::program(seed),
    };
    let project = build(&program);
    for file in &project.sources.files {
        println!("==== {}", file.path);
        for (at, line) in file.text.lines().enumerate() {
            println!("{:4} {line}", at + 1);
        }
    }
    for told in &report::check(&project).findings {
        println!("{} {}: {}", place(&project, told.finding.at), told.finding.rule, told.finding.message);
    }
    let (world, run) = (World::new(&project), setting("OAKEN_RUN", u64::MAX));
    if run < u64::MAX {
        let layout = Layout::new(&project, &world.graphs);
        println!("{:?}", drive::first_fault(&layout, seed.wrapping_mul(1000) + run, true));
    }
}

/// Formatting a script changes white space alone: every expression has the type and the meaning that it had, and once is
/// enough.
#[test]
fn formatting_changes_no_meaning() {
    for seed in 1..200 {
        let program = generate::program(seed);
        let before = build(&program);
        // Squeezed together and pulled apart, as people write.
        let loosened =
            |text: &str| text.replace("    ", "\t").replace(" + ", "+").replace(" == ", "  ==  ").replace(" {", "{");
        let formatted = |script: &String| {
            let loose = loosened(script);
            let once = census::script::format::format(&loose).unwrap_or_else(|| panic!("seed {seed}: {loose}"));
            assert_eq!(census::script::format::format(&once).as_deref(), Some(once.as_str()), "seed {seed}");
            once
        };
        let after = build(&generate::Program { scripts: program.scripts.iter().map(formatted).collect(), ..program });
        for (old, new) in before.scripts.iter().zip(&after.scripts) {
            let same = old.meanings == new.meanings && old.types == new.types && old.places == new.places;
            assert!(same && old.place_types == new.place_types, "seed {seed}: a name means something else");
            assert_eq!(written(&before, old), written(&after, new), "seed {seed}");
        }
    }
}

/// The expressions of a script: their kinds, and their texts without white space.
fn written(project: &Project, unit: &census::project::ScriptUnit) -> Vec<String> {
    let text = |expr: &census::script::ast::Expr| project.text(unit, expr.span).replace([' ', '\n', '\t'], "");
    let all = unit.tree.exprs.iter();
    all.map(|expr| format!("{:?} {}", std::mem::discriminant(&expr.kind), text(expr))).collect()
}
