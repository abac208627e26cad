//! Leaves out what a run can do without.
//!
//! Delta debugging: stretches of acts are left out, long ones first, as long as the goal is still reached (A. Zeller,
//! R. Hildebrandt, "Simplifying and isolating failure-inducing input", IEEE Transactions on Software Engineering, 2002).

use super::goal::Goal;
use super::search::{Run, play};
use crate::registry::OwnerId;
use crate::rehearsal::{Action, Who};
use crate::rehearse::layout::Layout;

/// How often a run is played again at most.
const MOST_TRIES: usize = 300;

/// The run without what it can do without, equal acts in a row made one.
#[must_use]
pub fn shrink(layout: &Layout<'_>, goal: &Goal, mut run: Run) -> Run {
    let first = play(layout, goal, &run);
    let Some(clean) = first.reached.map(|reached| reached.clean) else { return run };
    run.acts.truncate(first.used);
    let mut tries = 0;
    let mut reaches = |candidate: &Run| {
        tries += 1;
        let reached = play(layout, goal, candidate).reached;
        tries < MOST_TRIES && reached.is_some_and(|reached| reached.clean || !clean)
    };
    leave_out(&mut run, &mut reaches);
    if settle_on_listed(layout, &mut run, &mut reaches) {
        leave_out(&mut run, &mut reaches);
    }
    for at in 0..run.acts.len() {
        shorten(&mut run, at, &mut reaches);
    }
    if run.seed != 0 {
        let plain = Run { seed: 0, acts: run.acts.clone() };
        if reaches(&plain) {
            run = plain;
        }
    }
    let joined = Run { seed: run.seed, acts: join(&run.acts) };
    if play(layout, goal, &joined).reached.is_some() { joined } else { run }
}

/// Leaves out stretches of acts, long ones first.
fn leave_out(run: &mut Run, reaches: &mut impl FnMut(&Run) -> bool) {
    let mut length = run.acts.len().div_ceil(2);
    while length > 0 {
        let mut at = 0;
        while at < run.acts.len() {
            let mut shorter = run.clone();
            shorter.acts.drain(at..(at + length).min(run.acts.len()));
            if reaches(&shorter) {
                *run = shorter;
            } else {
                at += length;
            }
        }
        length /= 2;
    }
}

/// Lets all that happens to instances that the run makes happen to one that is listed, where that does as well: it is
/// the better known, and what made the others can go. Says whether anything changed.
fn settle_on_listed(layout: &Layout<'_>, run: &mut Run, reaches: &mut impl FnMut(&Run) -> bool) -> bool {
    let registry = &layout.project.registry;
    let mut actors: Vec<OwnerId> = run.acts.iter().filter_map(made_target).collect();
    actors.sort_unstable();
    actors.dedup();
    let mut changed = false;
    for actor in actors {
        for listed in registry.instances_of(actor) {
            let mut other = run.clone();
            for act in other.acts.iter_mut().filter(|act| made_target(act) == Some(actor)) {
                if let Action::Fire { on, .. } = act {
                    *on = Some(Who::Listed(listed));
                }
            }
            if reaches(&other) {
                *run = other;
                changed = true;
                break;
            }
        }
    }
    changed
}

/// The actor of a signal's target that the run makes.
fn made_target(act: &Action) -> Option<OwnerId> {
    match act {
        Action::Fire { on: Some(Who::Made(actor, _) | Who::New(actor)), .. } => Some(*actor),
        _ => None,
    }
}

/// Lets less time go by, or sends a signal less often: half and half again, then a round length a little above.
fn shorten(run: &mut Run, at: usize, reaches: &mut impl FnMut(&Run) -> bool) {
    let (longest, rounds): (u64, &[u64]) = match run.acts[at] {
        Action::Pass(ticks) => (ticks, &[60, 30, 6, 1]),
        Action::Fire { times, .. } => (times, &[1]),
        _ => return,
    };
    let with = |run: &Run, count: u64| {
        let mut other = run.clone();
        match &mut other.acts[at] {
            Action::Pass(ticks) => *ticks = count,
            Action::Fire { times, .. } => *times = count,
            _ => {}
        }
        other
    };
    let (mut low, mut high) = (0, longest);
    while high - low > 1 {
        let middle = low + (high - low) / 2;
        if reaches(&with(run, middle)) {
            high = middle;
        } else {
            low = middle;
        }
    }
    for round in rounds {
        let count = high.div_ceil(*round) * round;
        if count <= longest.max(high) && (count == high || reaches(&with(run, count))) {
            *run = with(run, count);
            return;
        }
    }
}

/// Makes equal acts in a row one.
fn join(acts: &[Action]) -> Vec<Action> {
    let mut joined: Vec<Action> = Vec::new();
    for act in acts {
        match (joined.last_mut(), act) {
            (
                Some(Action::Fire { signal, on, with, times }),
                Action::Fire { signal: next, on: next_on, with: next_with, times: more },
            ) if signal == next && on == next_on && with == next_with => *times += more,
            (Some(Action::Pass(ticks)), Action::Pass(more)) => *ticks += more,
            _ => joined.push(act.clone()),
        }
    }
    joined
}
