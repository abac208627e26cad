//! How a player could tell that a hidden value is wrong.
//!
//! A rehearsal names what the registry lists and what labels show, but no private. So the run is played twice from where
//! it went wrong: once as it is, and once with the value put right. Where the same acts then lead to something that
//! differs and can be named, that is what the rehearsal expects.

use super::acts::Acts;
use super::goal::{DONE_ONCE, Expected, Goal, Hidden, Watcher};
use super::search::{Run, constants, staged};
use crate::project::CellId;
use crate::rehearsal::stage::Stage;
use crate::rehearsal::{Action, Given};
use crate::rehearse::layout::{Home, InstanceAt, Layout};
use crate::rehearse::machine::{Machine, Observer};
use crate::rehearse::value::Value;
use crate::rehearse::{cell_name, value_text};

/// How long is waited for a difference to show, in ticks.
const PATIENCE: [u64; 4] = [0, 1, 60, 600];

/// How many other values of a parameter are tried.
const MOST_VARIANTS: usize = 12;

/// Acts that bring a difference to light, and what ought to hold after them.
#[must_use]
pub fn shown(
    layout: &Layout<'_>,
    acts: &Acts,
    goal: &Goal,
    run: &Run,
    hidden: &Hidden,
) -> Option<(Vec<Action>, Expected)> {
    let again = run.acts.iter().rev().flat_map(|act| variants(layout, acts, act)).map(|act| vec![act]);
    let ways = std::iter::once(Vec::new()).chain(again);
    ways.flat_map(|way| PATIENCE.map(|ticks| with_pass(&way, ticks))).find_map(|further| {
        let expected = difference(layout, goal, run, hidden, &further)?;
        Some((further, expected))
    })
}

/// Acts that bring to light that a signal came again, where what is done twice can't be named itself, and what ought to hold
/// after them: what would hold if it had come once.
#[must_use]
pub fn shown_by_once(layout: &Layout<'_>, goal: &Goal, run: &Run) -> Option<(Vec<Action>, Expected)> {
    let once = Run { seed: run.seed, acts: with_one_less(&run.acts)? };
    PATIENCE.map(|ticks| with_pass(&[], ticks)).into_iter().find_map(|further| {
        let expected = differing(staged(layout, goal, run), staged(layout, goal, &once), &further, DONE_ONCE)?;
        Some((further, expected))
    })
}

/// The acts, but for the last time that a signal comes.
fn with_one_less(acts: &[Action]) -> Option<Vec<Action>> {
    let mut acts = acts.to_vec();
    let last = acts.iter().rposition(|act| matches!(act, Action::Fire { .. }))?;
    match &mut acts[last] {
        Action::Fire { times, .. } if *times > 1 => *times -= 1,
        _ => {
            acts.remove(last);
        }
    }
    Some(acts)
}

/// The same act once more, and with other numbers.
fn variants(layout: &Layout<'_>, acts: &Acts, act: &Action) -> Vec<Action> {
    let Action::Fire { signal, on, with, .. } = act else { return vec![act.clone()] };
    let fire = |with: Vec<Given>| Action::Fire { signal: *signal, on: *on, with, times: 1 };
    let mut all = vec![fire(with.clone())];
    for (at, parameter) in layout.project.registry.signal(*signal).parameters.iter().enumerate() {
        for other in constants(layout, acts, parameter).into_iter().take(MOST_VARIANTS) {
            let mut with = with.clone();
            with[at] = other;
            all.push(fire(with));
        }
    }
    all
}

fn with_pass(acts: &[Action], ticks: u64) -> Vec<Action> {
    let mut all = acts.to_vec();
    all.extend((ticks > 0).then_some(Action::Pass(ticks)));
    all
}

/// What differs after the acts, as the run would have it with the value put right.
fn difference(layout: &Layout<'_>, goal: &Goal, run: &Run, hidden: &Hidden, further: &[Action]) -> Option<Expected> {
    let mut right = staged(layout, goal, run);
    right.machine.set(hidden.cell, hidden.of, hidden.right.clone());
    differing(staged(layout, goal, run), right, further, hidden.reason)
}

type Played<'l, 'p, 'g> = Stage<'l, 'p, Watcher<'g>>;

/// What differs between two runs after the same acts, as the second has it.
fn differing(
    mut wrong: Played<'_, '_, '_>,
    mut right: Played<'_, '_, '_>,
    further: &[Action],
    reason: &str,
) -> Option<Expected> {
    for act in further {
        wrong.act(act).and_then(|()| right.act(act)).ok()?;
    }
    let faults = (wrong.machine.faults.len(), right.machine.faults.len());
    let stopped = wrong.machine.stopped.is_some() || right.machine.stopped.is_some();
    if stopped || faults.0 != faults.1 {
        return None;
    }
    let condition = differing_value(&wrong.machine, &right.machine)
        .or_else(|| differing_label(&wrong.machine.labels, &right.machine.labels))?;
    Some((condition, reason.to_owned()))
}

fn differing_value<O: Observer>(wrong: &Machine<'_, '_, O>, right: &Machine<'_, '_, O>) -> Option<String> {
    let layout = right.layout;
    let named = (0..layout.cells.len()).filter(|&at| layout.cells[at].variable.is_some()).map(CellId::at);
    named.flat_map(|cell| places(right, cell)).find_map(|(cell, of)| {
        let value = right.memory.get(cell, of)?;
        let name = cell_name(layout, &right.memory, cell, of);
        let differs = wrong.memory.get(cell, of).is_some_and(|other| other != value);
        (differs && can_be_written(&value) && !name.contains(' '))
            .then(|| format!("{name} == {}", value_text(&right.memory, Some(&value))))
    })
}

fn places<O: Observer>(machine: &Machine<'_, '_, O>, cell: CellId) -> Vec<(CellId, Option<InstanceAt>)> {
    let facts = &machine.layout.cells[cell.index()];
    match facts.home {
        Home::Shared(_) if facts.scene.is_some_and(|scene| machine.scene != Some(scene)) => Vec::new(),
        Home::Shared(_) => vec![(cell, None)],
        Home::Each(actor, _) => machine.memory.live(actor).iter().map(|&of| (cell, Some(of))).collect(),
    }
}

/// Whether a value is the same once it was written down and read.
fn can_be_written(value: &Value) -> bool {
    match value {
        Value::Bool(_) | Value::Int(_) => true,
        Value::Number(number) => crate::words::number(*number).parse() == Ok(*number),
        Value::Text(text) => is_plain(text),
        _ => false,
    }
}

fn is_plain(text: &str) -> bool {
    !text.contains(['"', '\\', '{', '}']) && !text.contains(char::is_control)
}

type Labels = std::collections::BTreeMap<String, String>;

fn differing_label(wrong: &Labels, right: &Labels) -> Option<String> {
    let differs = |(label, text): &(&String, &String)| wrong.get(*label) != Some(*text) && is_plain(text);
    let (label, text) = right.iter().find(differs)?;
    Some(format!("shown(\"{label}\") == \"{text}\""))
}
