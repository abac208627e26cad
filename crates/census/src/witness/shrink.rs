//! Leaves out what a run can do without.
//!
//! Delta debugging: stretches of acts are left out, long ones first, as long as the goal is still reached (A. Zeller,
//! R. Hildebrandt, "Simplifying and isolating failure-inducing input", IEEE Transactions on Software Engineering, 2002).

use super::goal::{Goal, Watcher};
use super::search::{Run, begin, cost, play};
use crate::registry::OwnerId;
use crate::rehearsal::stage::Stage;
use crate::rehearsal::{Action, Who};
use crate::rehearse::layout::Layout;

/// How many dispatches a run takes beside what its acts bring, to set it up or to copy it.
const BESIDE: u64 = 20;

/// The run without what it can do without, equal acts in a row made one; found with at most so many dispatches.
#[must_use]
pub fn shrink(layout: &Layout<'_>, goal: &Goal, mut run: Run, effort: u64) -> Run {
    let first = play(layout, goal, &run);
    let Some(clean) = first.reached.map(|reached| reached.clean) else { return run };
    run.acts.truncate(first.used);
    let mut tries = Tries { layout, goal, clean, left: effort };
    tries.leave_out(&mut run);
    if tries.settle_on_listed(&mut run) {
        tries.leave_out(&mut run);
    }
    tries.shorten_all(&mut run);
    if run.seed != 0 {
        let plain = Run { seed: 0, acts: run.acts.clone() };
        if tries.reaches(&plain) {
            run = plain;
        }
    }
    let joined = Run { seed: run.seed, acts: join(&run.acts) };
    if play(layout, goal, &joined).reached.is_some() { joined } else { run }
}

/// Plays shorter runs, as long as there are dispatches left.
struct Tries<'l, 'p> {
    layout: &'l Layout<'p>,
    goal: &'l Goal,
    /// The goal was reached before anything else went wrong, and is to be reached so again.
    clean: bool,
    /// How many dispatches are left.
    left: u64,
}

impl<'l, 'p> Tries<'l, 'p> {
    fn begin(&self, run: &Run) -> Stage<'l, 'p, Watcher<'l>> {
        begin(self.layout, self.goal, run.seed)
    }

    /// Does acts, until the goal is reached.
    fn act(&mut self, stage: &mut Stage<'l, 'p, Watcher<'l>>, acts: &[Action]) {
        let before = cost(&stage.machine);
        for act in acts {
            if stage.machine.observer.reached.is_some() || stage.machine.stopped.is_some() {
                break;
            }
            let _ = stage.act(act);
        }
        self.left = self.left.saturating_sub(cost(&stage.machine) - before + BESIDE);
    }

    /// Whether a run that has come so far reaches the goal by further acts.
    fn reaches_from(&mut self, stage: &Stage<'l, 'p, Watcher<'l>>, acts: &[Action]) -> bool {
        if self.left == 0 {
            return false;
        }
        let mut stage = stage.clone();
        self.act(&mut stage, acts);
        stage.machine.observer.reached.is_some_and(|reached| reached.clean || !self.clean)
    }

    fn reaches(&mut self, run: &Run) -> bool {
        self.reaches_from(&self.begin(run), &run.acts)
    }

    /// Leaves out stretches of acts, long ones first. What stands before a stretch is played but once.
    fn leave_out(&mut self, run: &mut Run) {
        let mut length = run.acts.len().div_ceil(2);
        while length > 0 && self.left > 0 {
            let mut stage = self.begin(run);
            let mut at = 0;
            while at < run.acts.len() {
                let end = (at + length).min(run.acts.len());
                if self.reaches_from(&stage, &run.acts[end..]) {
                    run.acts.drain(at..end);
                } else {
                    self.act(&mut stage, &run.acts[at..end]);
                    at = end;
                }
            }
            length /= 2;
        }
    }

    /// Lets all that happens to instances that the run makes happen to one that is listed, where that does as well: it is
    /// the better known, and what made the others can go. Says whether anything changed.
    fn settle_on_listed(&mut self, run: &mut Run) -> bool {
        let registry = &self.layout.project.registry;
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
                if self.reaches(&other) {
                    *run = other;
                    changed = true;
                    break;
                }
            }
        }
        changed
    }

    /// Lets less time go by at each act that lets it pass, and sends each signal less often.
    fn shorten_all(&mut self, run: &mut Run) {
        let mut stage = self.begin(run);
        for at in 0..run.acts.len() {
            self.shorten(&stage, &mut run.acts[at..]);
            self.act(&mut stage, &run.acts[at..=at]);
        }
    }

    /// Shortens the first of these acts: half and half again, then to a round length a little above.
    fn shorten(&mut self, stage: &Stage<'l, 'p, Watcher<'l>>, acts: &mut [Action]) {
        let (longest, rounds): (u64, &[u64]) = match acts[0] {
            Action::Pass(ticks) => (ticks, &[60, 30, 6, 1]),
            Action::Fire { times, .. } => (times, &[1]),
            _ => return,
        };
        let set = |act: &mut Action, count: u64| match act {
            Action::Pass(ticks) => *ticks = count,
            Action::Fire { times, .. } => *times = count,
            _ => {}
        };
        let mut reaches = |count: u64| {
            set(&mut acts[0], count);
            self.reaches_from(stage, acts)
        };
        let (mut low, mut high) = (0, longest);
        while high - low > 1 {
            let middle = low + (high - low) / 2;
            if reaches(middle) {
                high = middle;
            } else {
                low = middle;
            }
        }
        let mut round = rounds.iter().map(|round| high.div_ceil(*round) * round);
        let found = round.find(|&count| count <= longest.max(high) && (count == high || reaches(count)));
        set(&mut acts[0], found.unwrap_or(longest));
    }
}

/// The actor of a signal's target that the run makes.
fn made_target(act: &Action) -> Option<OwnerId> {
    match act {
        Action::Fire { on: Some(Who::Made(actor, _) | Who::New(actor)), .. } => Some(*actor),
        _ => None,
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
