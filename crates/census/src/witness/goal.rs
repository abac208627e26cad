//! What a run must do to bear a finding out, and how that is seen.

use crate::finding::{Finding, RuleName};
use crate::flow::world::HandlerId;
use crate::project::CellId;
use crate::rehearse::cell_name;
use crate::rehearse::fault::{ABOVE, BELOW, BROKEN, EMPTY_REF, OTHER_KIND, OTHER_SCENE, UNKNOWN_VALUE, UNSET, ZERO};
use crate::rehearse::layout::InstanceAt;
use crate::rehearse::machine::{Happening, Observer};
use crate::rehearse::memory::Memory;
use crate::rehearse::value::Value;
use crate::source::Location;
use crate::words::number;
use rustc_hash::{FxHashMap, FxHashSet};

const FAULTS: [RuleName; 9] = [ABOVE, BELOW, BROKEN, EMPTY_REF, OTHER_KIND, OTHER_SCENE, UNKNOWN_VALUE, UNSET, ZERO];

/// What is to happen, and where.
#[derive(Clone, Debug)]
pub struct Goal {
    /// The rule of the finding.
    pub rule: RuleName,
    /// The finding's place.
    pub at: Location,
    /// The first other place that the finding names.
    pub other: Option<Location>,
    kind: Kind,
}

#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Kind {
    /// A fault at this place.
    Fault,
    /// A write that throws away what others wrote since its activation began.
    Lost,
    /// A second activation goes on beside the first.
    Reentry,
    /// A guard stays up when its activation is over.
    Stuck,
}

impl Goal {
    /// The goal of a finding, if it speaks of something that happens in a run.
    #[must_use]
    pub fn of(finding: &Finding) -> Option<Self> {
        let kind = match finding.rule.0 {
            "sharing/lost-update" => Kind::Lost,
            "sharing/reentry" => Kind::Reentry,
            "sharing/stuck-guard" => Kind::Stuck,
            _ if FAULTS.contains(&finding.rule) => Kind::Fault,
            _ => return None,
        };
        let other = finding.related.first().map(|related| related.at);
        Some(Self { rule: finding.rule, at: finding.at, other, kind })
    }

    /// Whether it is a fault, which fails a rehearsal by itself.
    #[must_use]
    pub fn is_fault(&self) -> bool {
        self.kind == Kind::Fault
    }

    /// Whether it is a step that is done once for each time that a signal comes again.
    #[must_use]
    pub fn is_done_again(&self) -> bool {
        self.kind == Kind::Reentry
    }

    fn is_at(&self, at: Location) -> bool {
        at.file == self.at.file && (self.at.span.contains(at.span) || at.span.contains(self.at.span))
    }
}

/// What was seen when the goal was reached.
#[derive(Clone, PartialEq, Debug)]
pub struct Reached {
    /// In plain words.
    pub text: String,
    /// What ought to hold at the end and does not; for a fault there is no need of it.
    pub expect: Vec<Expected>,
    /// What is wrong where no rehearsal can name it: a private, or a value of an instance without a name.
    pub hidden: Option<Hidden>,
    /// Whether nothing else went wrong before.
    pub clean: bool,
}

/// A condition that ought to hold, and why.
pub type Expected = (String, String);

/// A value that ought to be another one.
#[derive(Clone, PartialEq, Debug)]
pub struct Hidden {
    /// Where it is.
    pub cell: CellId,
    /// Whose it is.
    pub of: Option<InstanceAt>,
    /// What it ought to be.
    pub right: Option<Value>,
    /// Why, in plain words.
    pub reason: &'static str,
}

/// An activation that is alive.
#[derive(Clone, Debug)]
struct Alive {
    began: u64,
    /// The guard that it has put up.
    guard: Option<Guard>,
}

/// A guard that is up.
#[derive(Clone, Debug)]
struct Guard {
    cell: CellId,
    of: Option<InstanceAt>,
    up: Option<Value>,
    down: Option<Value>,
}

/// A change of the variable that a lost update is about.
#[derive(Clone, Debug)]
struct Change {
    by: u64,
    at: u64,
    old: Option<f64>,
}

/// Watches a run for its goal.
#[derive(Clone, Debug)]
pub struct Watcher<'g> {
    goal: &'g Goal,
    now: u64,
    alive: FxHashMap<u64, Alive>,
    running: Vec<u64>,
    changes: FxHashMap<(CellId, Option<InstanceAt>), Vec<Change>>,
    /// Every activation of the run: its handler, its instance, and when it began.
    begun: FxHashMap<u64, (HandlerId, Option<InstanceAt>, u64)>,
    /// The activations that have done the step that must not be done twice, and when.
    stepped: Vec<(u64, u64)>,
    faults: usize,
    /// The statements that changed something, each with how large a number it left.
    pub covered: FxHashSet<(Location, i32)>,
    /// What was seen, once the goal was reached.
    pub reached: Option<Reached>,
}

impl<'g> Watcher<'g> {
    /// A watcher for a goal.
    #[must_use]
    pub fn new(goal: &'g Goal) -> Self {
        Self {
            goal,
            now: 0,
            alive: FxHashMap::default(),
            running: Vec::new(),
            changes: FxHashMap::default(),
            begun: FxHashMap::default(),
            stepped: Vec::new(),
            faults: 0,
            covered: FxHashSet::default(),
            reached: None,
        }
    }

    fn reach(&mut self, text: String, expect: Vec<Expected>, hidden: Option<Hidden>) {
        if self.reached.is_none() {
            let hidden = hidden.filter(|_| expect.is_empty());
            self.reached = Some(Reached { text, expect, hidden, clean: self.faults == 0 });
        }
    }

    fn began(&mut self, id: u64, handler: HandlerId, of: Option<InstanceAt>) {
        self.running.push(id);
        let now = self.now;
        if self.goal.kind == Kind::Reentry {
            self.begun.entry(id).or_insert((handler, of, now));
        } else {
            self.alive.entry(id).or_insert(Alive { began: now, guard: None });
        }
    }

    fn ended(&mut self, memory: &Memory<'_, '_>, waits: bool) {
        let Some(id) = self.running.pop() else { return };
        // What a handler read before, an `after` block of its own may still write.
        if waits || self.goal.kind == Kind::Lost {
            return;
        }
        self.over(memory, id);
    }

    /// An activation goes on no more; its guard must be down.
    fn over(&mut self, memory: &Memory<'_, '_>, id: u64) {
        let Some(alive) = self.alive.remove(&id) else { return };
        let Some(Guard { cell, of, up, down }) = alive.guard else { return };
        if memory.get(cell, of) == up {
            let name = cell_name(memory.layout(), memory, cell, of);
            let value = crate::rehearse::value_text(memory, up.as_ref());
            let reason = "the handler is over, and must be able to run again";
            let expect = expectation(memory, cell, &name, &format!("!= {value}"), reason);
            let text = format!("`{name}` is still {value} when the handler is over, so it never runs again");
            self.reach(text, expect, Some(Hidden { cell, of, right: down, reason }));
        }
    }

    fn changed(&mut self, memory: &Memory<'_, '_>, change: &Happening<'_>) {
        let Happening::Changed { cell, of, old, new, at } = *change else { return };
        let by = self.running.last().copied().unwrap_or(0);
        match self.goal.kind {
            Kind::Lost => {
                let number = |value: Option<&Value>| value.and_then(Value::as_number);
                if at.is_some_and(|at| self.goal.is_at(at)) {
                    self.lost(memory, cell, of, number(old), number(new));
                }
                let changes = self.changes.entry((cell, of)).or_default();
                changes.push(Change { by, at: self.now, old: number(old) });
            }
            Kind::Stuck if at.is_some_and(|at| self.goal.is_at(at)) => {
                if let Some(alive) = self.alive.get_mut(&by) {
                    alive.guard = Some(Guard { cell, of, up: new.cloned(), down: old.cloned() });
                }
            }
            Kind::Reentry => {
                if old == new || !self.is_done_again(at) {
                    return;
                }
                let name = cell_name(memory.layout(), memory, cell, of);
                let text = |value| crate::rehearse::value_text(memory, value);
                let (before, after) = (text(old), text(new));
                let reason = DONE_ONCE;
                let expect = expectation(memory, cell, &name, &format!("== {before}"), reason);
                let hidden = Hidden { cell, of, right: old.cloned(), reason };
                self.reach(format!("`{name}` changes a second time, from {before} to {after}"), expect, Some(hidden));
            }
            _ => {}
        }
    }

    /// Whether the step that must not be done twice is done here, by an activation that had begun when another one of the
    /// same handler and instance did it.
    fn is_done_again(&mut self, at: Option<Location>) -> bool {
        let is_step = at.zip(self.goal.other).is_some_and(|(at, other)| {
            at.file == other.file && (other.span.contains(at.span) || at.span.contains(other.span))
        });
        let Some(id) = self.running.last().copied().filter(|_| is_step) else { return false };
        let Some(&(handler, of, began)) = self.begun.get(&id) else { return false };
        let beside = |&(other, at): &(u64, u64)| {
            other != id && at > began && self.begun.get(&other).is_some_and(|by| (by.0, by.1) == (handler, of))
        };
        let again = self.stepped.iter().any(beside);
        self.stepped.push((id, self.now));
        again
    }

    /// A write by an activation that began before somebody else's change.
    fn lost(
        &mut self,
        memory: &Memory<'_, '_>,
        cell: CellId,
        of: Option<InstanceAt>,
        old: Option<f64>,
        new: Option<f64>,
    ) {
        let Some(id) = self.running.last() else { return };
        let Some(began) = self.alive.get(id).map(|alive| alive.began) else { return };
        let changes = self.changes.get(&(cell, of)).map_or(&[][..], Vec::as_slice);
        let Some(first) = changes.iter().find(|change| change.at > began && change.by != *id) else { return };
        let (Some(stale), Some(old), Some(new)) = (first.old, old, new) else { return };
        if stale == old {
            return;
        }
        let name = cell_name(memory.layout(), memory, cell, of);
        let both = old + (new - stale);
        let right = number(both);
        let reason = "no change may be lost";
        let expect = expectation(memory, cell, &name, &format!("== {right}"), reason);
        let ty = memory.layout().cells[cell.index()].ty;
        let hidden = Hidden { cell, of, right: Some(Value::Number(both).fitted(ty)), reason };
        self.reach(
            format!(
                "`{name}` was {}, became {} during the wait, and is set to {} where {right} would count both",
                number(stale),
                number(old),
                number(new)
            ),
            expect,
            Some(hidden),
        );
    }
}

/// Why a step of a handler that came again ought not to be done again.
pub const DONE_ONCE: &str = "it came again while it waited, and is done once";

/// What ought to hold; only what the registry lists, of an instance that has a name, can be expected.
fn expectation(memory: &Memory<'_, '_>, cell: CellId, name: &str, is: &str, reason: &str) -> Vec<Expected> {
    if memory.layout().project.variable_of(cell).is_none() || name.contains(' ') {
        return Vec::new();
    }
    vec![(format!("{name} {is}"), reason.to_owned())]
}

/// How large a number is, by powers of two.
#[allow(clippy::cast_possible_truncation, reason = "a logarithm is small")]
fn magnitude(value: Option<&Value>) -> i32 {
    match value.and_then(Value::as_number) {
        Some(number) if number > 0.0 => number.log2() as i32 + 2,
        Some(number) if number < 0.0 => -2,
        Some(_) => 0,
        None => i32::MIN,
    }
}

/// How large a number is, one by one: at the goal every step nearer to it counts.
#[allow(clippy::cast_possible_truncation, reason = "a cast from float saturates")]
fn step_size(value: Option<&Value>) -> i32 {
    value.and_then(Value::as_number).map_or(i32::MIN, |number| number.floor() as i32)
}

impl Observer for Watcher<'_> {
    fn see(&mut self, _: u64, memory: &Memory<'_, '_>, happening: &Happening<'_>) {
        if self.reached.is_some() {
            return;
        }
        self.now += 1;
        if let Happening::Changed { old, new, at: Some(at), .. } = happening
            && old != new
        {
            let size = if self.goal.is_at(*at) { step_size(*new) } else { magnitude(*new) };
            self.covered.insert((*at, size));
        }
        match happening {
            Happening::Fault(fault) => {
                if self.goal.kind == Kind::Fault && fault.rule == self.goal.rule && self.goal.is_at(fault.at) {
                    self.reach(fault.message.clone(), Vec::new(), None);
                }
                self.faults += 1;
            }
            _ if self.goal.kind == Kind::Fault => {}
            Happening::Began { id, handler, of, .. } => self.began(*id, *handler, *of),
            Happening::Ended { waits } => self.ended(memory, *waits),
            Happening::Changed { .. } => self.changed(memory, happening),
            Happening::Sent { signal, at } if self.goal.kind == Kind::Reentry && self.is_done_again(Some(*at)) => {
                let name = &memory.layout().project.registry.signal(*signal).name;
                self.reach(format!("`{name}` is sent a second time"), Vec::new(), None);
            }
            Happening::Spawned { actor, at } if self.goal.kind == Kind::Reentry && self.is_done_again(Some(*at)) => {
                let name = &memory.layout().project.registry.owner(*actor).name;
                let live = memory.all_live().into_iter().filter(|at| memory.instances[at.0 as usize].actor == *actor);
                let expect = (format!("count({name}) == {}", live.count()), DONE_ONCE.to_owned());
                self.reach(format!("a second `{name}` is made"), vec![expect], None);
            }
            Happening::Dropped { id } => self.over(memory, *id),
            Happening::Run => {
                let mut waited: Vec<u64> = self.alive.keys().copied().collect();
                waited.sort_unstable();
                waited.into_iter().for_each(|id| self.over(memory, id));
                self.alive.clear();
                self.changes.clear();
                self.begun.clear();
                self.stepped.clear();
            }
            _ => {}
        }
    }
}
