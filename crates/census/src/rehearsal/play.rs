//! Plays a rehearsal, and says how it went.

use super::record::{Entry, Recorder, Wanted};
use super::stage::Stage;
use super::{Action, Put, Rehearsal, Step};
use crate::finding::RuleName;
use crate::rehearse::condition::Read;
use crate::rehearse::fault::Fault;
use crate::rehearse::layout::Layout;
use crate::rehearse::machine::{Machine, Stopped};
use crate::source::Location;

/// How many failures, and how many different faults, are kept in full; the rest are counted.
const MOST_KEPT: usize = 20;
/// How many dispatches a whole rehearsal may take.
const MOST_DISPATCHES: u64 = 50_000_000;
/// How many ticks pass between two looks at what went wrong.
const STRETCH: u64 = 10_000;

/// How a rehearsal went.
#[derive(Debug)]
pub struct Outcome<'r> {
    /// How long it took, in ticks.
    pub ticks: u64,
    /// The steps that failed; at most the first 20.
    pub failures: Vec<Failure>,
    /// How many failed in all.
    pub failed: u64,
    /// The faults, each place once; at most the first 20.
    pub faults: Vec<Happened>,
    /// How many faults happened in all.
    pub fault_count: u64,
    /// How many of them are not meant to happen.
    pub unexpected: u64,
    /// Why it was stopped, if it was.
    pub stopped: Option<Stopped>,
    /// What was seen.
    pub recorder: Recorder<'r>,
}

impl Outcome<'_> {
    /// Whether all went as it should.
    #[must_use]
    pub fn passed(&self) -> bool {
        self.failed == 0 && self.unexpected == 0 && self.stopped.is_none()
    }
}

/// A fault, and how often it happened at its place.
#[derive(Clone, PartialEq, Debug)]
pub struct Happened {
    /// The first one.
    pub fault: Fault,
    /// How often.
    pub times: u64,
    /// Whether the rehearsal says that it is meant to happen.
    pub meant: bool,
}

/// A step that failed.
#[derive(Clone, PartialEq, Debug)]
pub struct Failure {
    /// The step, from 0; none for what was `given`.
    pub step: Option<usize>,
    /// Where it stands.
    pub at: Location,
    /// Why.
    pub why: Why,
}

/// Why a step failed.
#[derive(Clone, PartialEq, Debug)]
pub enum Why {
    /// What was expected is not so.
    Unmet {
        /// What was expected.
        expected: String,
        /// Why it was.
        because: Option<String>,
        /// Why it has no answer, if it has none.
        unanswered: Option<String>,
        /// What the expression read.
        reads: Vec<Read>,
        /// The last changes of what it read, the oldest first.
        changes: Vec<Entry>,
    },
    /// It can't be done now.
    Undoable(String),
}

/// Plays a rehearsal.
#[must_use]
pub fn play<'r>(layout: &Layout<'r>, rehearsal: &'r Rehearsal, wanted: Wanted) -> Outcome<'r> {
    let recorder = Recorder::new(layout.project, rehearsal, wanted);
    let mut player = Player {
        rehearsal,
        stage: Stage { machine: Machine::new(layout, rehearsal.seed, recorder) },
        failures: Vec::new(),
        failed: 0,
        faults: Vec::new(),
        fault_count: 0,
        unexpected: 0,
    };
    player.all();
    let Player { stage: Stage { machine }, failures, failed, faults, fault_count, unexpected, .. } = player;
    Outcome {
        ticks: machine.now,
        failures,
        failed,
        faults,
        fault_count,
        unexpected,
        stopped: machine.stopped,
        recorder: machine.observer,
    }
}

struct Player<'l, 'r> {
    rehearsal: &'r Rehearsal,
    stage: Stage<'l, 'r, Recorder<'r>>,
    failures: Vec<Failure>,
    failed: u64,
    faults: Vec<Happened>,
    fault_count: u64,
    unexpected: u64,
}

impl Player<'_, '_> {
    fn all(&mut self) {
        self.stage.machine.start();
        self.after_act();
        let rehearsal = self.rehearsal;
        for put in &rehearsal.given {
            let at = Location { file: rehearsal.file, span: crate::source::Span::default() };
            self.put(put, None, at);
        }
        self.stage.machine.observer.following = true;
        self.after_act();
        for (at, step) in rehearsal.steps.iter().enumerate() {
            if self.stage.machine.stopped.is_some() {
                return;
            }
            self.stage.machine.observer.step = Some(at);
            self.step(at, step);
        }
    }

    fn step(&mut self, at: usize, step: &Step) {
        match &step.action {
            Action::Fire { signal, on, with, times } => {
                for _ in 0..*times {
                    if let Err(why) = self.stage.fire(*signal, *on, with) {
                        self.fail(Failure { step: Some(at), at: step.at, why: Why::Undoable(why) });
                        return;
                    }
                    self.after_act();
                    self.stop_in_time(step.at);
                    if self.stage.machine.stopped.is_some() {
                        return;
                    }
                }
            }
            Action::Pass(ticks) => self.pass(*ticks, step.at),
            Action::Choose(choice) => {
                if let Err(offered) = self.stage.machine.choose(*choice) {
                    let why = match offered {
                        None => "no question is open, so there is nothing to choose".to_owned(),
                        Some(count) => format!(
                            "the question offers {}, and this chooses number {}",
                            crate::words::count(count, "choice"),
                            choice + 1
                        ),
                    };
                    self.fail(Failure { step: Some(at), at: step.at, why: Why::Undoable(why) });
                }
                self.after_act();
            }
            Action::Expect { condition, because } => self.expect(at, step.at, *condition, because.as_ref()),
            Action::Set(puts) => {
                for put in puts {
                    self.put(put, Some(at), step.at);
                }
            }
            Action::Go(scene) => {
                self.stage.machine.go(*scene);
                self.after_act();
            }
            Action::Restart => {
                self.stage.machine.restart();
                self.after_act();
            }
        }
    }

    fn pass(&mut self, ticks: u64, at: Location) {
        let last = self.stage.machine.now.saturating_add(ticks);
        while self.stage.machine.now < last && self.stage.machine.stopped.is_none() {
            let stretch = if self.stage.machine.is_idle() { last - self.stage.machine.now } else { STRETCH };
            self.stage.machine.pass(stretch.min(last - self.stage.machine.now));
            self.after_act();
            self.stop_in_time(at);
        }
    }

    /// A rehearsal whose end is not in sight is stopped.
    fn stop_in_time(&mut self, at: Location) {
        let machine = &mut self.stage.machine;
        if machine.dispatched > MOST_DISPATCHES && machine.stopped.is_none() {
            let millions = MOST_DISPATCHES / 1_000_000;
            let message =
                format!("the rehearsal takes more than {millions} million dispatches, and its end is not in sight");
            machine.stopped = Some(Stopped { at, message });
        }
    }

    fn put(&mut self, put: &Put, step: Option<usize>, at: Location) {
        match self.stage.put(put) {
            Ok(()) => self.after_act(),
            Err(why) => self.fail(Failure { step, at, why: Why::Undoable(why) }),
        }
    }

    fn expect(&mut self, step: usize, at: Location, condition: usize, because: Option<&String>) {
        let rehearsal = self.rehearsal;
        let condition = &rehearsal.conditions[condition];
        let held = self.stage.machine.holds_now(condition);
        if held == Ok(true) {
            return;
        }
        let reads = self.stage.machine.reads_of(condition);
        let machine = &self.stage.machine;
        let mut changes: Vec<Entry> = Vec::new();
        for read in &reads {
            let Some((cell, of)) = read.cell else { continue };
            changes.extend(machine.observer.last_changes(&machine.memory, cell, of));
        }
        changes.sort_by_key(|entry| (entry.tick, entry.step));
        let why = Why::Unmet {
            expected: condition.text.to_string(),
            because: because.cloned(),
            unanswered: held.err(),
            reads,
            changes,
        };
        self.fail(Failure { step: Some(step), at, why });
    }

    fn fail(&mut self, failure: Failure) {
        self.failed += 1;
        if self.failures.len() < MOST_KEPT {
            self.failures.push(failure);
        }
    }

    /// Takes over what went wrong, so that it does not pile up in the machine, and looks at what is watched.
    fn after_act(&mut self) {
        for fault in std::mem::take(&mut self.stage.machine.faults) {
            self.fault_count += 1;
            let meant = self.rehearsal.faults.contains(&fault.rule);
            self.unexpected += u64::from(!meant);
            let same = |known: &Happened| known.fault.rule == fault.rule && known.fault.at == fault.at;
            match self.faults.iter().position(same) {
                Some(known) => self.faults[known].times += 1,
                None if self.faults.len() < MOST_KEPT => self.faults.push(Happened { fault, times: 1, meant }),
                None => {}
            }
        }
        self.stage.machine.observer.act += 1;
        let now = self.stage.machine.now;
        let machine = &mut self.stage.machine;
        machine.observer.sample(now, &machine.memory);
    }
}

/// The rules that the rehearsal says are meant to be broken, and that nothing broke.
#[must_use]
pub fn unmet_faults(rehearsal: &Rehearsal, outcome: &Outcome<'_>) -> Vec<RuleName> {
    let happened = |rule: &&RuleName| !outcome.faults.iter().any(|happened| happened.fault.rule == **rule);
    rehearsal.faults.iter().filter(happened).copied().collect()
}
