//! Witnesses: runs that really end in what a finding says.
//!
//! [`search`] looks for one among the signals, arguments, choices and draws that the game could bring; [`goal`] tells when
//! a run has reached what a finding speaks of; [`shrink`] leaves out what a run can do without, and [`otherwise`] makes it
//! show what no rehearsal can name. What comes out is written as a rehearsal, read back, and played once more: only then
//! it counts.

mod acts;
mod goal;
mod otherwise;
mod search;
mod shrink;
mod words;

use crate::finding::Finding;
use crate::flow::world::World;
use crate::project::Project;
use crate::rehearsal::write::{Head, document};
use crate::rehearsal::{Action, play, read};
use crate::rehearse::layout::Layout;
use crate::source::{FileKind, SourceFile};
use goal::Goal;
use rayon::prelude::*;

/// How many dispatches the search may spend on one finding, where nobody says otherwise.
pub const USUAL_EFFORT: u64 = 3_000_000;

/// How many times what the search may spend goes into leaving out what a run can do without.
const SHRINKING: u64 = 4;

/// A run that ends in what a finding says, replayed.
#[derive(Clone, Debug)]
pub struct Witness {
    /// What is done, in order.
    pub steps: Vec<Step>,
    /// What is done and what happened then, in plain words.
    pub sentence: String,
    /// The whole as a rehearsal.
    pub rehearsal: String,
    /// Whether the rehearsal fails until the mistake is mended; else nothing that it could expect tells of it.
    pub fails: bool,
}

/// One step: the keys of a rehearsal's step, each with its value in TOML.
pub type Step = Vec<(&'static str, String)>;

/// Whether a witness can be looked for: the finding speaks of something that happens in a run.
#[must_use]
pub fn can_have(finding: &Finding) -> bool {
    Goal::of(finding).is_some()
}

/// Looks for a run that does what each finding says. The same findings and the same effort give the same witnesses.
#[must_use]
pub fn find_all(world: &World<'_>, findings: &[&Finding], effort: u64) -> Vec<Option<Witness>> {
    let layout = Layout::new(world.project, &world.graphs);
    let layout = &layout;
    let acts = acts::Acts::new(world, layout);
    let acts = &acts;
    findings.par_iter().map(|finding| find(layout, acts, finding, effort)).collect()
}

fn find(layout: &Layout<'_>, acts: &acts::Acts, finding: &Finding, effort: u64) -> Option<Witness> {
    let goal = Goal::of(finding)?;
    let found = search::search(layout, acts, &goal, effort)?;
    let steps = shrink::shrink(layout, &goal, found, effort.saturating_mul(SHRINKING));
    replay(layout, acts, &goal, finding, &steps).or_else(|| {
        // What comes at one moment may come out right by chance, and wrong where it comes one after the other.
        let reaches = |run: &search::Run| search::play(layout, &goal, run).reached.is_some();
        spread(&steps).iter().filter(|run| reaches(run)).find_map(|run| replay(layout, acts, &goal, finding, run))
    })
}

/// How long is waited between two signals that came at one moment, in ticks.
const APART: [u64; 3] = [1, 5, 20];

/// The same acts with the last of many signals coming later, so that all takes as long as before.
fn spread(run: &search::Run) -> Vec<search::Run> {
    let many = |act: &Action| matches!(act, Action::Fire { times, .. } if *times > 1);
    let Some(at) = run.acts.iter().rposition(many) else { return Vec::new() };
    let Some(Action::Pass(ticks)) = run.acts.get(at + 1) else { return Vec::new() };
    let apart = APART.iter().filter(|&apart| apart < ticks);
    let spread = apart.map(|apart| {
        let mut acts = run.acts.clone();
        let mut last = acts[at].clone();
        if let (Action::Fire { times: before, .. }, Action::Fire { times, .. }) = (&mut acts[at], &mut last) {
            (*before, *times) = (*before - 1, 1);
        }
        acts.splice(at + 1..at + 2, [Action::Pass(*apart), last, Action::Pass(ticks - apart)]);
        search::Run { seed: run.seed, acts }
    });
    spread.collect()
}

/// Writes the steps as a rehearsal, reads that back and plays it.
fn replay(
    layout: &Layout<'_>,
    acts: &acts::Acts,
    goal: &Goal,
    finding: &Finding,
    found: &search::Run,
) -> Option<Witness> {
    let project = layout.project;
    let outcome = search::play(layout, goal, found).reached?;
    let (mut steps, mut expect) = (found.acts.clone(), outcome.expect);
    if let Some((further, expected)) =
        outcome.hidden.and_then(|hidden| otherwise::shown(layout, acts, goal, found, &hidden))
    {
        steps.extend(further);
        expect.push(expected);
    }
    if expect.is_empty()
        && goal.is_done_again()
        && let Some((further, expected)) = otherwise::shown_by_once(layout, goal, found)
    {
        steps.extend(further);
        expect.push(expected);
    }
    let fails = goal.is_fault() || !expect.is_empty();
    let head = Head {
        title: title(project, finding),
        seed: found.seed,
        comment: vec![first_line(project, finding, fails), outcome.text.clone()],
        watch: finding.variable.iter().filter(|name| project.registry.find(name).is_some()).cloned().collect(),
    };
    let text = document(project, &head, &steps, &expect);
    let source = SourceFile::new("witness.toml", FileKind::Rehearsal, text.clone().into_bytes());
    let rehearsal = read::read_file(project, finding.at.file, &source).ok()?;
    let again = search::play(layout, goal, &search::Run { seed: rehearsal.seed, acts: actions(&rehearsal) });
    again.reached.as_ref()?;
    let played = play::play(layout, &rehearsal, crate::rehearsal::record::Wanted::default());
    let undoable = |failure: &play::Failure| matches!(failure.why, play::Why::Undoable(_));
    if played.failures.iter().any(undoable) || fails && played.passed() {
        return None;
    }
    let steps = found.acts.iter().map(|act| crate::rehearsal::write::step_keys(project, act)).collect();
    let done = words::all(project, &found.acts);
    let seed = if found.seed == 0 { String::new() } else { format!(" (seed {})", found.seed) };
    Some(Witness { steps, sentence: format!("{done}{seed}: {}", outcome.text), rehearsal: text, fails })
}

fn first_line(project: &Project, finding: &Finding, fails: bool) -> String {
    let (rule, place) = (finding.rule, place(project, finding));
    if fails {
        format!("Fails until {rule} at {place} is mended:")
    } else {
        format!("Does what {rule} at {place} says, though nothing that a rehearsal can name tells it:")
    }
}

fn actions(rehearsal: &crate::rehearsal::Rehearsal) -> Vec<Action> {
    let acts = rehearsal.steps.iter().map(|step| &step.action);
    acts.filter(|action| !matches!(action, Action::Expect { .. })).cloned().collect()
}

fn title(project: &Project, finding: &Finding) -> String {
    match &finding.variable {
        Some(variable) => format!("{variable}: {} at {}", finding.rule, place(project, finding)),
        None => format!("{} at {}", finding.rule, place(project, finding)),
    }
}

fn place(project: &Project, finding: &Finding) -> String {
    let file = project.sources.file(finding.at.file);
    format!("{}:{}", file.path, file.position(finding.at.span.start).line)
}
