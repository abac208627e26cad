//! Runs one handler abstractly, from its trigger to all its ends.
//!
//! Blocks are taken in reverse postorder; a loop's head is visited until its state no longer grows, with widening from
//! the third round on. Procedures are run in place, with the arguments that the call gives. States that differ in a write
//! which may have left its range are kept apart, up to a limit, so that a fault is told of the write that made it.

mod calls;
mod loops;
mod modes;
mod names;
mod partings;
mod products;
mod recursion;
mod rounds;
mod slots;
mod terms;
mod waits;

use loops::Heads;
pub use partings::{Last, Parting};
use rounds::Each;
pub use slots::{Alias, Key, Limit, SlotFacts, SlotTable};

use super::eval::{Split, anything, ways};
use super::forms::{Forms, narrowed};
use super::graph::{Block, BlockId, Exit, Graph, Offer, Step, StepKind, Waiting};
use super::judge::{self, is_free};
use super::linear::{BodyLength, Facts, Linear, Slot};
use super::shared::Shared;
use super::state::{Known, PendingStep, PutOff, Source, State, Suspect, Unseen, Values, Wrong};
use super::trend::Moved;
use super::value::{Abstract, Num, Value};
use super::world::{Asked, Counted, Effect, Extent, HandlerId, ModeSlots, Others, PairId, Part, World};
use crate::project::{Base, CellId, Meaning, Place, PlaceId, ProcId, ScriptId, ScriptUnit};
use crate::registry::{Bound, End, InstanceId, InvariantId, Overflow, OwnerId, SignalId, Type, VarId};
use crate::script::ast::*;
use crate::source::Span;
use rustc_hash::{FxHashMap, FxHashSet};
use smallvec::{SmallVec, smallvec};
use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet};
use std::rc::Rc;
use std::sync::Arc;

/// How many states that differ in their suspects are kept apart at one point of a body of ordinary length; of a short one up to
/// twice as many.
const MOST_PARTS: usize = 6;
/// How many steps a body of ordinary length has at most; in longer ones fewer states are kept apart.
const ORDINARY: usize = 120;
/// How many places may wait to be seen where one that is given a number joins them.
const MOST_UNSEEN: usize = 32;
/// How many places that a loop steps are looked at together.
const MOST_STEPPED: usize = 4;
/// How many facts about a place are carried along with what a loop counts.
const MOST_COUNTED: usize = 8;
/// How many relations of a counter to others are looked at as it starts to count.
const MOST_STARTS: usize = 4;
/// How many places such a relation is about at most.
const MOST_START_TERMS: usize = 3;
/// How often a loop's head is visited before it is widened.
const ROUNDS: u32 = 2;
/// How often a loop within a loop is looked at afresh as it begins.
const MOST_AFRESH: u32 = 8;
/// How many loops it may stand in for that.
const DEEPEST_AFRESH: usize = 2;
/// How many invariants of a variable are called to mind once it was written.
const MOST_RECALLED: usize = 64;
/// How many reads are remembered that locals were worked out from.
const MOST_SOURCES: usize = 32;
/// How many tests are remembered that flags were given.
const MOST_TESTS: usize = 16;
/// How often one test looks behind flags, and behind those that stand there.
pub(super) const MOST_FLAGS_BEHIND: u32 = 8;
/// How many procedure calls one handler's run may go into.
const MOST_CALLS: u32 = 3000;
/// The same once it was not enough: more runs of that kind would add little but time.
const MOST_CALLS_AGAIN: u32 = 800;
/// How deep procedures that call one another are gone into: each takes its part of the stack.
const MOST_DEPTH: usize = 64;

/// Stands in [`State::removed`] for the script's own instance.
pub const OWN_INSTANCE: Slot = Slot::MAX;

/// What the name of a `for` or a `spawn` holds before it is given an instance.
pub const UNBOUND: Value = Value::Ref { none: false, some: false };

/// Whether a step was reached before a wait, after one, or both.
#[derive(Clone, Copy, PartialEq, Eq, Default, Debug)]
pub struct Reached {
    /// On some way before any wait.
    pub before_wait: bool,
    /// On some way after a wait.
    pub after_wait: bool,
}

/// How a test came out, over all ways that lead to it.
#[derive(Clone, Copy, Default, Debug)]
pub struct Outcome {
    /// It can be true.
    pub yes: bool,
    /// It can be false.
    pub no: bool,
    /// Where a comparison came out one way only: the operand that it asks about, and from where to where that lies.
    pub asked: Option<(ExprId, f64, f64)>,
}

impl Outcome {
    /// Takes in how it came out elsewhere.
    pub fn take(&mut self, other: &Self) {
        self.yes |= other.yes;
        self.no |= other.no;
        self.asked = match (self.asked, other.asked) {
            (Some((expr, lo, hi)), Some((_, low, high))) => Some((expr, lo.min(low), hi.max(high))),
            (mine, theirs) => mine.or(theirs),
        };
    }
}

/// A step of a variable, from what it was to what it settled as.
#[derive(Clone, Debug)]
pub struct Move {
    /// The variable.
    pub cell: CellId,
    /// The statement.
    pub at: Span,
    /// What it can be before.
    pub before: Num,
    /// By how much it moves: from the least to the most.
    pub by: (f64, f64),
    /// Whether it is cut at a limit, as in `max(x - 3, 0)`.
    pub cut: bool,
    /// What it can be when others see it: from the least to the most.
    pub settled: (f64, f64),
}

/// Something that can go wrong, found on the way.
#[derive(Clone, PartialEq, Debug)]
#[allow(missing_docs, reason = "the fields name the places that the fault belongs to")]
pub enum Event {
    Unset {
        place: PlaceId,
        at: ExprId,
        cleared: bool,
    },
    EmptyRef {
        held: PlaceId,
        at: ExprId,
    },
    Absent {
        instance: InstanceId,
        at: ExprId,
    },
    Zero {
        divisor: ExprId,
        at: ExprId,
        range: (f64, f64),
    },
    /// A write of what hangs on a value that was never given: nobody can tell what.
    Untellable {
        /// The write.
        at: Span,
        /// What is written.
        cell: CellId,
    },
    /// A write that can leave a range.
    Outside {
        /// The write.
        at: Span,
        /// What was written there.
        written: VarId,
        /// What is outside then.
        variable: VarId,
        end: End,
        before: (f64, f64),
        after: (f64, f64),
        limit: (f64, f64),
    },
    Broken {
        at: Span,
        invariant: InvariantId,
    },
    Lost {
        at: Span,
        place: PlaceId,
    },
    StandIn {
        at: ExprId,
        place: PlaceId,
    },
    /// A variable of one actor, taken from a name that may hold another.
    OtherKind {
        at: ExprId,
        variable: VarId,
    },
    /// A scene's variable where another scene may be loaded.
    OtherScene {
        at: ExprId,
        variable: VarId,
    },
}

/// A moment at which others can look and act: a wait, or the end. There are many, so only what the rules about guards look
/// at is kept.
#[derive(Clone, Debug)]
pub struct Pause {
    /// The wait; none: the end.
    pub wait: Option<Span>,
    /// Where it stands.
    pub at: Span,
    /// What the cells hold whose values are others than at the handler's beginning.
    pub changed: Box<[(Slot, Abstract)]>,
    /// The names whose instances were removed.
    pub removed: Shared<Slot>,
    /// Something may have been stepped, sent or spawned.
    pub stepped: bool,
    /// Some way comes here without a wait before.
    pub at_once: bool,
    /// An `after` block was put off.
    pub forked: bool,
    /// One is still to come.
    pub to_come: bool,
    /// It lies in an `after` block.
    pub later: bool,
    /// The scene was left.
    pub went: bool,
    /// The handler's own tests on entry would fail by now.
    pub shut: bool,
}

impl Pause {
    /// What a slot holds, if that is something else than at the beginning.
    #[must_use]
    pub fn changed(&self, slot: Slot) -> Option<&Abstract> {
        self.changed.iter().find(|(other, _)| *other == slot).map(|(_, value)| value)
    }
}

/// What others leave alone while a run waits.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum LeftAlone {
    /// Nothing: they do what they can.
    Nothing,
    /// One slot.
    Slot(Slot),
    /// All of them.
    Everything,
}

/// A moment at which a signal is sent.
#[derive(Clone, Debug)]
pub struct Sending {
    /// The signal.
    pub signal: SignalId,
    /// The `send`.
    pub at: Span,
    /// What the cells hold whose values are others than at the handler's beginning.
    pub changed: Box<[(Slot, Abstract)]>,
}

/// The parts of an assignment.
struct Assignment {
    target: ExprId,
    place: PlaceId,
    axis: Option<u8>,
    op: AssignOp,
    value: ExprId,
    span: Span,
    /// Nobody looks before the block's end, by which some of what is written goes.
    last: bool,
}

/// A handler's writes to a cell.
#[derive(Clone, Debug)]
pub struct Seen {
    /// What they do.
    pub effect: Effect,
    /// It is worked out from what the cell held before, so that it grows with each round.
    pub grows: bool,
    /// What was written, put right or not before anyone could see it.
    pub written: Option<Value>,
}

/// A run of one handler.
pub struct Run<'w, 'p> {
    /// Everything that stays as it is.
    pub world: &'w World<'p>,
    /// The script.
    pub script: ScriptId,
    /// The script's tables; an invariant's while one is judged.
    pub unit: &'w ScriptUnit,
    /// The handler.
    pub handler: HandlerId,
    /// Its slots.
    pub table: &'w SlotTable,
    /// Whether events are kept back.
    pub quiet: bool,
    /// What counts beside what a cell can hold at each moment, if anything does.
    counted: Option<Counted>,
    /// While an invariant is judged: the instance that it is judged for.
    pub(super) foreign: Option<Base>,
    /// What was found.
    pub events: Vec<Event>,
    /// How tests came out.
    pub outcomes: FxHashMap<ExprId, Outcome>,
    /// What was written; apart for the script's own instance, and in `after` blocks.
    pub seen: FxHashMap<(CellId, bool, bool), Seen>,
    /// What was written last to what goes with its instance, its scene or its run.
    pub partings: FxHashMap<(CellId, Parting), Last>,
    /// What was sent.
    pub sent: Vec<(SignalId, usize, Value)>,
    /// The signals that were sent.
    pub signals: FxHashSet<SignalId>,
    /// What was known as signals were sent of which others build on that; none where nothing can be said.
    pub handing: FxHashMap<SignalId, Option<State>>,
    /// What is left in the place whose changes the handler deals with.
    pub kept: Option<Value>,
    /// What another activation of the same instance has left by the time that this one goes on after a wait.
    pub left_by_first: Vec<(Slot, Abstract)>,
    /// What another activation of the same instance has stepped up as it began while this one waited.
    pub overtaken: Vec<Slot>,
    /// Where others may look.
    pub pauses: Vec<Pause>,
    /// What is sent, where pauses are kept.
    pub sendings: Vec<Sending>,
    /// The handlers that can begin while this one waits, of those that wait themselves, or while an `after` block of it is
    /// still to come, and for whom.
    pub let_in: FxHashSet<(HandlerId, Part, Extent)>,
    /// How near it leaves cells to their bounds, where others can look.
    pub margins: FxHashMap<(CellId, End), f64>,
    /// What it asked others for.
    pub built_on: Asked,
    /// The modes that are looked at, with the numbers that hang on them.
    pub modes: Vec<ModeSlots>,
    /// By pair and value of the mode: what the numbers were seen to be.
    pub in_modes: FxHashMap<(PairId, usize), Value>,
    spawning: FxHashMap<OwnerId, Rc<waits::Spawning>>,
    /// Whether pauses are kept.
    pub keep_pauses: bool,
    /// What the slots can hold as the handler begins, where pauses are kept.
    pub begun: Option<Values>,
    /// What others leave alone while it waits, for a question about what this activation does to it.
    pub left_alone: LeftAlone,
    /// The steps and exits that were reached, and when.
    pub reached: FxHashMap<Span, Reached>,
    /// Steps of variables as they settled.
    pub moves: Vec<Move>,
    stack: Vec<ProcId>,
    /// What is known of each of them, should it be called again.
    recursions: Vec<recursion::Recursion>,
    /// Where the procedures of the stack leave what they give.
    results: Vec<Option<Slot>>,
    /// For each of them that is a condition: the states in which it came back with true, and with false.
    answers: Vec<Option<Answers>>,
    /// Where calls left what they gave: once the statement is through nobody asks for it any more.
    given: Vec<Slot>,
    /// The call that is about to be made as a condition.
    asked: Option<ExprId>,
    /// What the last such call came back with.
    answered: Option<Answers>,
    /// A procedure was called that never comes back: nothing goes on from here.
    dead: bool,
    calls: u32,
    most_calls: u32,
    /// How often the present test has looked behind a flag; none: it has not begun to.
    pub(super) flags_behind: Option<u32>,
    /// Whether what is being run is run once for each round of a loop.
    in_loop: bool,
    /// Whether a round of a `for` is run for what it leaves true.
    trying_a_round: bool,
    thresholds: &'w [f64],
    most_parts: usize,
    /// Whether more of the same signal comes at once: then ways that step are kept apart from those that do not.
    pub in_bursts: bool,
    reported: FxHashSet<(Span, u8, u32)>,
}

impl<'w, 'p> Run<'w, 'p> {
    /// A run of a handler.
    #[must_use]
    pub fn new(world: &'w World<'p>, handler: HandlerId) -> Self {
        let (script, index) = world.handler(handler);
        let unit = world.project.script(script);
        let in_bursts = unit.handlers[index].signal.is_some_and(|signal| world.project.registry.signal(signal).bursts);
        Self {
            world,
            script,
            unit,
            handler,
            table: world.table(handler),
            quiet: false,
            counted: None,
            foreign: None,
            events: Vec::new(),
            outcomes: FxHashMap::default(),
            seen: FxHashMap::default(),
            partings: FxHashMap::default(),
            sent: Vec::new(),
            signals: FxHashSet::default(),
            handing: FxHashMap::default(),
            kept: None,
            left_by_first: Vec::new(),
            overtaken: Vec::new(),
            pauses: Vec::new(),
            sendings: Vec::new(),
            let_in: FxHashSet::default(),
            margins: FxHashMap::default(),
            built_on: Asked::default(),
            modes: Vec::new(),
            in_modes: FxHashMap::default(),
            spawning: FxHashMap::default(),
            keep_pauses: false,
            begun: None,
            left_alone: LeftAlone::Nothing,
            reached: FxHashMap::default(),
            moves: Vec::new(),
            stack: Vec::new(),
            recursions: Vec::new(),
            results: Vec::new(),
            answers: Vec::new(),
            given: Vec::new(),
            asked: None,
            answered: None,
            dead: false,
            calls: 0,
            most_calls: if world.calls_much(handler) { MOST_CALLS_AGAIN } else { MOST_CALLS },
            flags_behind: None,
            in_loop: false,
            trying_a_round: false,
            thresholds: world.thresholds(handler),
            most_parts: (MOST_PARTS * ORDINARY / world.size(handler).max(1)).clamp(1, 2 * MOST_PARTS),
            in_bursts,
            reported: FxHashSet::default(),
        }
    }

    /// Runs the handler from whatever can be when it begins.
    pub fn handler_from_entry(&mut self) {
        let state = self.entry();
        self.handler_from(state);
    }

    /// Runs the handler from a state.
    pub fn handler_from(&mut self, state: State) {
        if self.keep_pauses && self.begun.is_none() {
            self.begun = Some(state.values.clone());
        }
        let (_, handler, _) = self.world.parts(self.handler);
        let graph = self.world.handler_graph(self.handler);
        let Some(when) = handler.when else {
            self.body(graph, state);
            return;
        };
        let (yes, no) = self.branch(state, when);
        if let Some(state) = yes {
            self.body(graph, state);
        }
        if let Some(state) = &no {
            self.keep_left(state);
        }
        // A procedure that the test calls may have done something, whichever way the test comes out.
        if let Some(state) = no.filter(|_| self.calls_procedure(when)) {
            self.end(state, self.unit.tree.expr(when).span);
        }
    }

    /// What is known as the handler begins.
    #[must_use]
    pub fn entry(&mut self) -> State {
        let state = self.unassuming();
        let mut state = self.assuming(state);
        if self.keep_pauses && self.begun.is_none() {
            // What its sender knew may be over by the next time.
            self.begun = Some(state.values.clone());
        }
        let world = self.world;
        if let Some((place, was)) = world.still_changed(self.handler)
            && let Some(now) = self.table.slot(Key::Place(place))
        {
            state.add_unequal(Linear::slot(now).plus(&Linear::slot(was), -1.0));
        }
        if world.take_over(self, &mut state) { self.assuming(state) } else { state }
    }

    /// The same, where all that is ever written counts, be it put right before anyone can see it.
    #[must_use]
    pub fn entry_of_all_writes(&mut self, counted: Counted) -> State {
        self.counted = Some(counted);
        let mut state = self.unassuming();
        for at in 0..self.table.slots.len() {
            self.count_writes(&mut state, at);
        }
        self.assuming(state)
    }

    /// Adds to what a slot may hold all that counts beside it.
    pub(super) fn count_writes(&self, state: &mut State, at: usize) {
        let facts = &self.table.slots[at];
        let (Some(counted), Some(cell)) = (self.counted, facts.cell) else { return };
        let value = &mut state.values[at].value;
        if !matches!(facts.ty, Type::Ref(_)) {
            *value = value.join(&self.world.reach(facts));
        }
        let written = match counted {
            Counted::Reached => self.world.written_beyond(cell).cloned(),
            Counted::Written => self.world.all_written(cell),
        };
        if let Some(written) = written {
            *value = value.join(&written);
        }
    }

    fn assuming(&mut self, mut state: State) -> State {
        self.assume_ranges(&mut state);
        self.assume_margins(&mut state);
        self.assume_invariants(state)
    }

    /// The same, but for what bounds and invariants tell.
    #[must_use]
    pub fn unassuming(&self) -> State {
        let values =
            (0..self.table.slots.len()).map(|at| self.world.entry_value(self.handler, &self.table.slots[at])).collect();
        let known = Known {
            values,
            facts: Facts::of_body(self.table.length),
            tests: Shared::default(),
            unequal: Shared::default(),
            terms: Shared::default(),
            suspects: Shared::default(),
            doubted: Shared::default(),
            moved_bounds: Shared::default(),
            steps: Shared::default(),
            unseen: Shared::default(),
            modes: Shared::default(),
            sent: Shared::default(),
            sources: Shared::default(),
            at_once: true,
            waited: false,
            alone: true,
            later: false,
            stepped: false,
            forked: None,
            went: false,
            selves: Shared::default(),
            kinds: Shared::default(),
            copies: Shared::default(),
            apart: Shared::default(),
            removed: Shared::default(),
        };
        known.into()
    }

    /// Bounds hold when a handler starts.
    fn assume_ranges(&self, state: &mut State) {
        for &slot in &self.table.limited {
            self.assume_range(state, slot);
        }
    }

    /// Where others can look, what a variable may be kept further away from its bound by all who write it.
    pub(super) fn assume_margins(&self, state: &mut State) {
        self.table.limited.iter().for_each(|&slot| self.assume_margin(state, slot));
    }

    /// The same of one, where this handler has left none of its kind as others can't see it yet.
    pub(super) fn assume_margin(&self, state: &mut State, slot: Slot) {
        let facts = &self.table.slots[slot as usize];
        let Some(cell) = facts.cell.filter(|_| self.counted.is_none()) else { return };
        for (end, limit, sign) in facts.limits() {
            let margin = self.world.margin(cell, end);
            let is_unseen = |cell: Option<CellId>| {
                let goes = cell.is_some_and(|cell| self.world.finds_what_goes(self.handler, cell));
                goes || state.unseen.iter().any(|write| self.table.slots[write.slot as usize].cell == cell)
            };
            if let Some(Limit::Slot(bound)) = limit
                && margin < 0.0
                && self.is_there(state, slot)
                && !is_unseen(Some(cell))
                && !is_unseen(self.table.slots[bound as usize].cell)
            {
                let (lo, hi) = state.ends(bound);
                let range = if sign > 0.0 { (f64::NEG_INFINITY, hi + margin) } else { (lo - margin, f64::INFINITY) };
                cut(state, slot, range);
                let beyond = Linear::slot(slot).plus(&Linear::slot(bound), -1.0).times(sign);
                state.facts.add(beyond.plus(&Linear::constant(margin), -1.0));
            }
        }
    }

    /// Keeps how near a slot that was written is to its bounds by now, and those that it bounds to it.
    fn see_margins(&mut self, state: &State, write: &Unseen) {
        let facts = &self.table.slots[write.slot as usize];
        let Some(cell) = facts.cell else { return };
        for (end, limit, sign) in facts.limits().into_iter().filter(|&(end, ..)| self.world.has_margin(cell, end)) {
            let most = match limit {
                Some(Limit::Slot(bound)) => beyond(state, write.slot, bound, sign),
                _ => f64::INFINITY, // The bound is not named here.
            };
            let most = match &write.written {
                Value::Num(written) => most.min(self.world.beyond_any_bound(cell, end, (written.lo, written.hi))),
                _ => most,
            };
            self.come_near((cell, end), most);
        }
        let Some(variable) = facts.variable else { return };
        for key in self.world.margins_beside(variable) {
            let is_it = |&&slot: &&Slot| self.table.slots[slot as usize].cell == Some(key.0);
            let sign = if key.1 == End::Max { 1.0 } else { -1.0 };
            let beside = facts.bounds().iter().find(is_it);
            self.come_near(key, beside.map_or(0.0, |&slot| beyond(state, slot, write.slot, sign)));
        }
    }

    fn come_near(&mut self, key: (CellId, End), most: f64) {
        let known = self.margins.entry(key).or_insert(most);
        *known = known.max(most);
    }

    /// A variable is within its range, and so its bounds are not beyond it: where the variable is there at all.
    pub(super) fn assume_range(&self, state: &mut State, slot: Slot) {
        let facts = &self.table.slots[slot as usize];
        let there = self.is_there(state, slot);
        for (_, limit, sign) in facts.limits() {
            match limit {
                Some(Limit::Number(value)) => {
                    let range = if sign > 0.0 { (f64::NEG_INFINITY, value) } else { (value, f64::INFINITY) };
                    cut(state, slot, range);
                }
                Some(Limit::Slot(bound)) if !state.moved_bounds.contains(&bound) => {
                    let (lo, hi) = state.ends(bound);
                    let (own_lo, own_hi) = state.ends(slot);
                    let (range, back) = if sign > 0.0 {
                        ((f64::NEG_INFINITY, hi), (own_lo, f64::INFINITY))
                    } else {
                        ((lo, f64::INFINITY), (f64::NEG_INFINITY, own_hi))
                    };
                    cut(state, slot, range);
                    if there {
                        cut(state, bound, back);
                        state.facts.add(Linear::slot(slot).plus(&Linear::slot(bound), -1.0).times(sign));
                    }
                }
                _ => {}
            }
        }
    }

    /// Whether the variable behind a slot certainly exists: its scene is loaded, the name it goes through holds one. What
    /// clamps or wraps does not count, since it may follow its bound out of the other end of its range.
    pub(super) fn is_there(&self, state: &State, slot: Slot) -> bool {
        let facts = &self.table.slots[slot as usize];
        let Some(variable) = facts.variable.map(|id| self.world.project.registry.var(id)) else { return true };
        if variable.overflow != Overflow::Error || state.value(slot).is_untold() {
            return false;
        }
        let holder_is = facts.holder.is_none_or(|holder| self.holds_one(state, holder));
        let scene_is = variable.scope != crate::registry::Scope::Scene
            || matches!(&state.value(self.table.scene).value, Value::Text(Some(scenes)) if scenes.as_slice() == [variable.owner.0]);
        holder_is && scene_is && facts.base != Some(Base::Some) && self.listed_is_there(state, facts.base)
    }

    fn holds_one(&self, state: &State, holder: Slot) -> bool {
        state.value(holder).value == Value::Ref { none: false, some: true }
    }

    fn listed_is_there(&self, state: &State, base: Option<Base>) -> bool {
        let Some(Base::Listed(instance)) = base else { return true };
        self.is_own(instance) || self.table.slot(Key::Instance(instance)).is_none_or(|slot| self.holds_one(state, slot))
    }

    /// What goes through a name is within its range, once the name is known to hold an instance; but for what a write of
    /// this very handler may have left outside.
    pub(super) fn assume_dependents(&self, state: &mut State, holder: Slot) {
        if self.holds_one(state, holder) {
            for &slot in self.table.slots[holder as usize].dependents() {
                let outside = |wrong| matches!(wrong, Wrong::Outside(other, _) if other == slot);
                if !state.suspects.iter().any(|suspect| outside(suspect.wrong)) {
                    self.assume_range(state, slot);
                }
            }
        }
    }

    fn assume_invariants(&mut self, mut state: State) -> State {
        (0..self.world.project.invariants.len()).for_each(|at| self.assume_sound(&mut state, at, |_| true));
        state
    }

    /// For the instance that a name takes all invariants hold.
    pub(super) fn assume_invariants_of(&mut self, state: &mut State, holder: PlaceId) {
        let all = 0..self.world.project.invariants.len();
        all.for_each(|at| self.assume_sound(state, at, |base| base == Base::Held(holder)));
    }

    /// What an invariant says of a variable that is about to be written may follow only now, from what tests have told since.
    fn recall_invariants(&mut self, state: &mut State, slot: Slot) {
        let (world, table) = (self.world, self.table);
        let Some(variable) = table.slots[slot as usize].variable else { return };
        for &at in world.invariants_of(variable).iter().take(MOST_RECALLED) {
            self.assume_sound(state, at, |base| judge::concerns(world, table, slot, at, base));
        }
    }

    /// An invariant holds if this handler has not broken it for any instance, where there is one.
    fn assume_sound(&mut self, state: &mut State, at: usize, meant: impl Fn(Base) -> bool) {
        let is_broken = |suspect: &Suspect| matches!(suspect.wrong, Wrong::Broken(id, _) if id.index() == at);
        if !self.world.can_be_assumed(at) || state.suspects.iter().any(is_broken) {
            return;
        }
        for base in self.table.invariant_bases(&self.world.project.invariants[at]) {
            let held = self.holder(base).is_none_or(|holder| self.holds_one(state, holder));
            if base != Base::Some
                && held
                && self.listed_is_there(state, Some(base))
                && meant(base)
                && let Some(sound) = self.judge(state.clone(), at, base).0
            {
                *state = sound;
            }
        }
    }

    /// The name through which something is taken.
    pub(super) fn holder(&self, base: Base) -> Option<Slot> {
        match base {
            Base::Held(held) => self.table.slot(Key::Place(held)),
            _ => None,
        }
    }

    /// Splits a state by an invariant.
    pub fn judge(&mut self, mut state: State, at: usize, base: Base) -> super::eval::Split {
        let invariant = &self.world.project.invariants[at];
        let Some(holds) = invariant.holds else { return (Some(state), None) };
        if invariant.variables.iter().any(|&variable| self.world.is_cleared(variable)) {
            self.take_cleared_for_zero(&mut state, &invariant.variables);
        }
        let unit = std::mem::replace(&mut self.unit, &invariant.unit);
        let quiet = std::mem::replace(&mut self.quiet, true);
        self.foreign = Some(base);
        let split = self.branch(state, holds);
        self.foreign = None;
        self.quiet = quiet;
        self.unit = unit;
        split
    }

    /// What has no value an invariant takes for what its type calls zero.
    fn take_cleared_for_zero(&self, state: &mut State, variables: &[VarId]) {
        for (at, facts) in self.table.slots.iter().enumerate() {
            if !state.values[at].unset || !facts.variable.is_some_and(|variable| variables.contains(&variable)) {
                continue;
            }
            let known = &state.values[at];
            let zero = zero(facts.ty);
            let value = if known.set { known.value.join(&zero) } else { zero };
            state.values[at].value = value;
            state.facts.forget(Slot::try_from(at).unwrap_or(Slot::MAX));
        }
    }

    // ---- what the evaluation asks for ----

    /// Quietly takes another script for its own, to ask one of its tests: names are looked up by variable.
    pub fn look_from(&mut self, other: &'w ScriptUnit) {
        self.quiet = true;
        self.unit = other;
        self.foreign = Some(Base::Own);
    }

    /// The slot of a place of the present unit.
    #[must_use]
    pub fn slot(&self, place: PlaceId) -> Option<Slot> {
        if self.foreign.is_some() {
            return match self.unit.place(place) {
                Place::Variable(variable, base) => self.table.of_variable(variable, self.mapped(base)),
                _ => None,
            };
        }
        self.table.slot(Key::Place(place))
    }

    /// A base, with an invariant's own instance replaced by the one that it is judged for.
    #[must_use]
    pub fn mapped(&self, base: Base) -> Base {
        match (self.foreign, base) {
            (Some(base), Base::Own) => base,
            _ => base,
        }
    }

    /// Whether a listed instance is the script's own, and so certainly there.
    #[must_use]
    pub fn is_own(&self, instance: InstanceId) -> bool {
        let actor = self.world.project.registry.instance(instance).of;
        self.unit.owner == Some(actor) && !self.world.project.registry.is_many(actor)
    }

    /// Keeps an event.
    pub fn event(&mut self, event: Event) {
        if self.quiet {
            return;
        }
        let key = match &event {
            Event::Unset { at, .. } => (self.unit.tree.expr(*at).span, 0, 0),
            Event::EmptyRef { at, .. } | Event::Absent { at, .. } => (self.unit.tree.expr(*at).span, 1, 0),
            Event::Zero { at, .. } => (self.unit.tree.expr(*at).span, 2, 0),
            Event::Outside { at, variable, end, .. } => (*at, 3 + u8::from(*end == End::Max), variable.0),
            Event::Broken { at, invariant } => (*at, 5, invariant.0),
            Event::Lost { at, place } => (*at, 6, place.0),
            Event::StandIn { at, place } => (self.unit.tree.expr(*at).span, 7, place.0),
            Event::OtherKind { at, variable } => (self.unit.tree.expr(*at).span, 9, variable.0),
            Event::Untellable { at, cell } => (*at, 10, cell.0),
            Event::OtherScene { at, variable } => (self.unit.tree.expr(*at).span, 8, variable.0),
        };
        if self.reported.insert(key) {
            self.events.push(event);
        }
    }

    /// Keeps how a test came out.
    pub fn outcome(&mut self, test: ExprId, yes: bool, no: bool) {
        if !self.quiet {
            self.outcomes.entry(test).or_default().take(&Outcome { yes, no, asked: None });
        }
    }

    /// Keeps how a comparison came out, with the operand whose value decides it where it came out one way only.
    pub fn outcome_of(&mut self, test: ExprId, yes: bool, no: bool, operands: [(ExprId, &Value); 2]) {
        if self.quiet {
            return;
        }
        let asked = match operands {
            // Beside a single number the range tells why; between two ranges it is how they relate.
            [(expr, Value::Num(num)), (_, Value::Num(other))] | [(_, Value::Num(other)), (expr, Value::Num(num))]
                if yes != no && other.single().is_some() && !self.reads(expr).is_empty() =>
            {
                Some((expr, num.lo, num.hi))
            }
            _ => None,
        };
        self.outcomes.entry(test).or_default().take(&Outcome { yes, no, asked });
    }

    // ---- bodies ----

    fn body(&mut self, graph: &'w Graph, entry: State) -> Vec<State> {
        self.blocks(graph, BlockId(0), entry, None, &mut BTreeSet::new()).0
    }

    /// Runs blocks from one on, up to another: gives the states with which the body is left, and those that arrive there.
    fn blocks(
        &mut self,
        graph: &'w Graph,
        first: BlockId,
        entry: State,
        until: Option<BlockId>,
        visited: &mut BTreeSet<BlockId>,
    ) -> (Vec<State>, Vec<State>) {
        let (mut left, mut arrived): (Vec<State>, Vec<State>) = (Vec::new(), Vec::new());
        let mut waiting: BTreeMap<BlockId, Arriving> = BTreeMap::new();
        let mut heads = Heads::default();
        let called_in_loop = self.in_loop;
        waiting.insert(first, Arriving { states: smallvec![entry], in_loop: called_in_loop });
        while let Some((at, arriving)) = waiting.pop_first() {
            let states = self.met(arriving);
            let block = &graph.blocks[at.index()];
            if until.is_some() {
                visited.insert(at);
            }
            self.in_loop = called_in_loop || block.loops > 0 || block.loop_head;
            let states = if block.loop_head { self.at_head(&mut heads, at, block, states) } else { states };
            heads.begin(block);
            for mut state in states {
                self.tell_where_many(&mut state);
                for state in self.steps(state, block) {
                    let (mark, before) = (self.given.len(), left.len());
                    let ways = self.exit(graph, at, state, &mut left);
                    let given = self.given.split_off(mark);
                    left[before..].iter_mut().for_each(|state| state.forget_all(&given, self.in_loop));
                    for (next, mut state) in ways {
                        state.forget_all(&given, self.in_loop);
                        if until == Some(next) {
                            arrived.push(state);
                            continue;
                        }
                        let arriving = waiting.entry(next).or_default();
                        arriving.states.push(state);
                        arriving.in_loop |= self.in_loop;
                    }
                }
            }
        }
        self.in_loop = called_in_loop;
        (left, arrived)
    }

    /// What is known where ways meet. The last ones first, as where branches stand inside each other: what one way gives outright
    /// is then held against all that the later ways come to.
    fn met(&mut self, Arriving { states, in_loop }: Arriving) -> States {
        if states.len() < 2 {
            return states;
        }
        self.in_loop = in_loop;
        let mut parts = States::new();
        states.into_iter().rev().for_each(|state| self.arrive(&mut parts, state));
        parts
    }

    /// Runs the steps of a block. A procedure's call may leave several states behind.
    fn steps(&mut self, mut state: State, block: &Block) -> States {
        let mut last_uses = &block.last_uses[..];
        let used_up = self.used_up(&mut last_uses, 0);
        self.let_go(&mut state, &used_up);
        let mut states: States = smallvec![state];
        for (at, step) in (1..).zip(&block.steps) {
            let mut next = States::new();
            let mark = self.given.len();
            for state in states {
                match &step.kind {
                    StepKind::Call(call) => self.call_step(state, *call, step, &mut next),
                    StepKind::Assign { target, place, axis, op, value } => {
                        self.reach(step.span, &state);
                        let assignment = Assignment {
                            target: *target,
                            place: *place,
                            axis: *axis,
                            op: *op,
                            value: *value,
                            span: step.span,
                            last: self.is_parting(block, at as usize),
                        };
                        self.assign(state, &assignment, step, &mut next);
                    }
                    StepKind::Clear { target, place } => {
                        self.reach(step.span, &state);
                        for state in self.apart_by_self(state, *place) {
                            let cleared = self.clear(state, *target, *place, step.span);
                            cleared.into_iter().for_each(|state| self.arrive(&mut next, state));
                        }
                        if self.take_dead() {
                            next.clear();
                        }
                    }
                    _ => next.extend(self.step(state, step)),
                }
            }
            let mut given = self.given.split_off(mark);
            given.extend(self.used_up(&mut last_uses, at));
            next.iter_mut().for_each(|state| self.let_go(state, &given));
            states = next;
        }
        states
    }

    /// Nobody asks for these slots again: how they relate to others, and what they were worked out from, is of no use.
    fn let_go(&self, state: &mut State, slots: &[Slot]) {
        if !slots.is_empty() {
            state.forget_all(slots, self.in_loop);
            state.sources.retain(|source| !slots.contains(&source.local));
        }
    }

    /// The locals that nobody asks for after so many steps; they are taken off the list.
    fn used_up(&self, last_uses: &mut &[(u32, PlaceId)], after: u32) -> SmallVec<[Slot; 4]> {
        let count = last_uses.iter().take_while(|&&(at, _)| at == after).count();
        let (now, later) = last_uses.split_at(count);
        *last_uses = later;
        now.iter().filter_map(|&(_, place)| self.slot(place)).collect()
    }

    fn call_step(&mut self, mut state: State, call: ExprId, step: &Step, next: &mut States) {
        let unit = self.unit;
        let (Meaning::Procedure(id), ExprKind::Call(_, arguments)) = (unit.meaning(call), &unit.tree.expr(call).kind)
        else {
            next.extend(self.step(state, step));
            return;
        };
        self.reach(step.span, &state);
        for state in self.call_parts(&mut state, call, id, arguments) {
            self.arrive(next, state);
        }
        if self.take_dead() {
            next.clear();
        }
    }

    /// Adds a state to those at a point; states with the same suspects, flags, names for the own instance, and losses become
    /// one.
    fn arrive(&self, parts: &mut States, state: State) {
        let alike = |part: &State| {
            let mut marks = part.suspects.iter().zip(&state.suspects);
            let flags = &self.table.flags;
            let burst = |state: &State| (state.stepped, state.at_once);
            let steps = !self.in_bursts || burst(part) == burst(&state);
            steps
                && (&part.selves, &part.removed, &part.sent) == (&state.selves, &state.removed, &state.sent)
                && (part.went, part.forked.is_some()) == (state.went, state.forked.is_some())
                && flags.iter().all(|&flag| part.value(flag) == state.value(flag))
                && self.is_in_mode_of(part, &state)
                && part.suspects.len() == state.suspects.len()
                && marks.all(|(a, b)| (a.wrong, a.at) == (b.wrong, b.at))
        };
        let same = parts.iter().position(alike);
        if same.is_none() && parts.len() < self.most_parts {
            parts.push(state);
            return;
        }
        // The one that was joined last stands last: where there is no room, the first gives way.
        let (same, last) = (same.unwrap_or(0), parts.len() - 1);
        parts.swap(same, last);
        parts[last].take_in(&state, self.in_loop, &self.table.amounts);
    }

    fn within(&self, state: &State, slot: Slot) -> bool {
        let facts = &self.table.slots[slot as usize];
        [(facts.max, End::Max), (facts.min, End::Min)]
            .into_iter()
            .all(|(limit, end)| limit.is_none_or(|limit| judge::within(state, slot, limit, end)))
    }

    fn reach(&mut self, at: Span, state: &State) {
        let reached = self.reached.entry(at).or_default();
        reached.before_wait |= state.at_once;
        reached.after_wait |= state.waited;
    }

    fn exit(&mut self, graph: &'w Graph, at: BlockId, mut state: State, left: &mut Vec<State>) -> Ways {
        let block = &graph.blocks[at.index()];
        let span = block.exit_span;
        self.reach(span, &state);
        let mut next = Ways::new();
        match &block.exit {
            Exit::Goto(to) => next.push((*to, state)),
            Exit::Branch { test, yes, no } => {
                for state in self.split_by_flag(state, *test) {
                    let (a, b) = self.branch(state, *test);
                    next.extend(a.map(|state| (*yes, state)));
                    next.extend(b.map(|state| (*no, state)));
                }
            }
            Exit::Match { subject, arms, otherwise, .. } => self.match_(state, *subject, arms, *otherwise, &mut next),
            Exit::Fork { now, later, delay } => {
                if let Duration::Seconds(value) = delay {
                    self.eval(&mut state, *value);
                }
                let ticks = self.ticks(delay);
                let mut after = state.clone();
                for suspect in after.suspects.take() {
                    self.set_right(&mut after, suspect.wrong);
                }
                after.later = true;
                after.unseen = Shared::default();
                after.sent = Shared::default();
                let last = ticks.filter(|_| !self.goes_on_later(graph, *later)).unwrap_or(f64::INFINITY);
                let put_off = PutOff { first: ticks.unwrap_or(0.0), last: last.max(1.0) };
                state.forked = PutOff::either(state.forked, Some(put_off));
                next.push((*now, state));
                self.let_rest_run(&mut after, *now);
                if let Some(after) = self.wait(after, None, ticks) {
                    next.push((*later, after));
                }
            }
            Exit::Choose(offers) => self.choose(&state, offers, span, &mut next),
            Exit::Each { place, actor, filter, body, done } => {
                let mut inside = state.clone();
                self.unbind(&mut state, *place);
                self.next_round_over(&mut inside, &mut state, *place);
                self.bind(&mut inside, *place);
                self.assume_invariants_of(&mut inside, *place);
                if let Some(slot) = actor.and_then(|actor| self.table.slot(Key::Count(actor))) {
                    cut(&mut inside, slot, (1.0, f64::INFINITY));
                }
                self.take_up_suspects(&mut inside, *place);
                let (inside, mut other) = match filter {
                    Some(filter) => self.branch(inside, *filter),
                    None => (Some(inside), None),
                };
                let plain = filter.is_none_or(|filter| !self.calls_any(filter));
                let known = actor.filter(|_| plain).map_or_else(Vec::new, |actor| {
                    let each = Each { head: at, place: *place, body: *body };
                    self.known_of_all(graph, each, actor, inside.as_ref(), other.as_ref())
                });
                if let (Some(other), Some(slot)) = (&mut other, self.slot(*place)) {
                    self.release(other, slot);
                }
                let goes_on = other.filter(|_| filter.is_some_and(|filter| self.calls_procedure(filter)));
                next.extend(goes_on.map(|state| (at, state)));
                next.extend(inside.map(|state| (*body, state)));
                self.all_visited(&mut state, *place, span);
                self.take_known_of_all(&mut state, known);
                next.push((*done, state));
            }
            Exit::Repeat { count, body, done } => self.repeat(state, *count, *body, *done, &mut next),
            Exit::Return(value) => self.return_(state, *value, span, left),
            Exit::End => {
                if state.later || self.stack.is_empty() {
                    let close = Span { start: span.end.saturating_sub(1), end: span.end };
                    self.end(state, close);
                } else {
                    self.end_unanswered(&mut state);
                    left.push(state);
                }
            }
            Exit::Restart => {
                self.part_from_run(&mut state);
                self.end(state, span);
            }
            Exit::Gone => self.end(state, span),
        }
        if self.take_dead() {
            next.clear();
        }
        next
    }

    fn match_(
        &mut self,
        state: State,
        subject: ExprId,
        arms: &[(Vec<ExprId>, BlockId)],
        otherwise: Option<BlockId>,
        next: &mut Ways,
    ) {
        let mut state = state;
        // A procedure that the subject calls runs once, not for each arm.
        let given = self.calls_procedure(subject).then(|| self.eval(&mut state, subject));
        let mut rest = Some(state);
        for (tests, block) in arms {
            for &test in tests {
                let Some(state) = rest.take() else { break };
                let (equal, different) = match &given {
                    Some(given) => self.may_equal(state, given, test),
                    None => self.equals(state, subject, test),
                };
                next.extend(equal.map(|state| (*block, state)));
                rest = different;
            }
        }
        if let (Some(block), Some(state)) = (otherwise, rest) {
            next.push((block, state));
        }
    }

    fn choose(&mut self, state: &State, offers: &[Offer], span: Span, next: &mut Ways) {
        let Some(asked) = self.ask(state.clone(), offers) else { return };
        for offer in offers {
            let offered = match offer.when {
                Some(when) => self.branch(asked.clone(), when).0,
                None => Some(asked.clone()),
            };
            let Some(mut state) = offered else { continue };
            if !self.calls_any(offer.text) {
                self.show(&mut state, offer.text);
            }
            if let Some(mut state) = self.wait(state, Some(span), None) {
                state.alone = true;
                next.push((offer.block, state));
            }
        }
    }

    /// What the procedures do that the choices' conditions and texts call, whichever choice is taken then; none where they
    /// never come back.
    fn ask(&mut self, state: State, offers: &[Offer]) -> Option<State> {
        offers.iter().try_fold(state, |mut state, offer| {
            let by_text = self.calls_any(offer.text);
            let (yes, no) = match offer.when {
                Some(when) if by_text => self.branch(state, when),
                Some(when) if self.calls_any(when) => {
                    self.eval(&mut state, when);
                    (Some(state), None)
                }
                None if by_text => (Some(state), None),
                _ => return Some(state),
            };
            if self.take_dead() {
                return None;
            }
            let shown = yes.and_then(|mut state| {
                if by_text {
                    self.show(&mut state, offer.text);
                }
                (!self.take_dead()).then_some(state)
            });
            match (shown, no) {
                (Some(shown), Some(no)) => Some(shown.join(&no)),
                (shown, no) => shown.or(no),
            }
        })
    }

    // ---- steps ----

    fn step(&mut self, mut state: State, step: &Step) -> Option<State> {
        self.reach(step.span, &state);
        state.stepped = state.stepped || super::access::is_step(self.unit, step);
        match &step.kind {
            StepKind::Assign { .. } | StepKind::Clear { .. } => {} // These may leave several states.
            StepKind::Let { place, value } => self.let_(&mut state, *place, *value),
            StepKind::Bind { place } => self.bind(&mut state, *place),
            StepKind::Read(value) | StepKind::Note(value) => {
                self.eval(&mut state, *value);
            }
            StepKind::Begin { count: Some(count), at_once, .. } => self.begin_rounds(&mut state, *count, *at_once),
            StepKind::Begin { over: Some((place, actor)), .. } => self.begin_rounds_over(&mut state, *place, *actor),
            StepKind::Begin { .. } => {}
            StepKind::Wait(waiting) => return self.wait_step(state, *waiting, step.span),
            StepKind::Send { signal, arguments, to } => {
                self.signals.extend(*signal);
                for (at, &argument) in arguments.iter().enumerate() {
                    let value = self.eval(&mut state, argument);
                    if let Some(signal) = signal {
                        self.sent.push((*signal, at, value));
                    }
                }
                if let Some(to) = to {
                    self.eval(&mut state, *to);
                    self.address(&mut state, *to);
                }
                self.note_sent(&mut state, *signal, *to);
                self.keep_sending(&state, *signal, step.span);
                self.hand_over(&state, *signal);
            }
            StepKind::Show { text, .. } => self.show(&mut state, *text),
            StepKind::Hide { .. } => {}
            StepKind::Go(_) => state.went = true,
            StepKind::Spawn { actor, place } => {
                self.settle(&mut state);
                let mut spawning = None;
                if let Some(actor) = actor {
                    spawning = Some(self.others_now(&mut state, *actor));
                    self.count_spawned(&mut state, *actor);
                    self.take_by_spawning(&mut state, *actor);
                }
                if let Some(place) = place {
                    self.bind_new(&mut state, *place, spawning.as_ref().map_or(&[], |spawning| &spawning.new));
                    if actor.is_some_and(|actor| self.world.may_be_gone_at_once(actor)) {
                        self.slot(*place).into_iter().for_each(|slot| self.may_be_none(&mut state, slot as usize));
                    }
                }
            }
            StepKind::Remove(what) => {
                self.eval(&mut state, *what);
                self.part_from_instance(&mut state, *what);
                self.judge_settled(&mut state);
                self.remove(&mut state, *what);
            }
            StepKind::Call(call) => {
                self.eval(&mut state, *call);
            }
        }
        (!self.take_dead()).then_some(state)
    }

    fn let_(&mut self, state: &mut State, place: PlaceId, value: ExprId) {
        let result = self.eval(state, value);
        let forms = self.forms(state, value);
        let result = self.narrowed(state, result, &forms);
        let Some(slot) = self.slot(place) else { return };
        let before = state.clone();
        self.put(state, slot, Abstract::of(result), forms.uppers(), forms.lowers());
        if let Meaning::Value(from) = self.unit.meaning(value) {
            state.values[slot as usize].stand_in =
                self.slot(from).is_some_and(|from| before.values[from as usize].stand_in);
        }
        if self.is_doubted(&before, value) {
            state.doubted.push_new(slot);
        }
        self.sourced(state, slot, value, &before);
        self.remember_test(state, slot, value);
        self.copy_instance(state, slot, value);
    }

    /// Remembers the test that a flag was given: the flag says what the test says, until one of the two changes.
    fn remember_test(&self, state: &mut State, slot: Slot, value: ExprId) {
        let tells = self.unit.ty(value) == Type::Bool && !matches!(self.unit.tree.expr(value).kind, ExprKind::Bool(_));
        if tells && !self.reads(value).contains(&slot) {
            if state.tests.len() >= MOST_TESTS {
                state.tests.to_mut().remove(0);
            }
            state.tests.push((slot, value));
        }
    }

    /// Remembers what a local was worked out from.
    fn sourced(&mut self, state: &mut State, slot: Slot, value: ExprId, before: &State) {
        state.sources.retain(|source| source.local != slot);
        self.sourced_too(state, slot, value, before);
    }

    /// Remembers what was added to a local, beside what it was worked out from before.
    fn sourced_too(&mut self, state: &mut State, slot: Slot, value: ExprId, before: &State) {
        for read in self.worked_out_from(value) {
            if self.table.slots[read as usize].cell.is_some() {
                state.sources.push_new(Source { local: slot, read, stale: false });
            }
            for source in before.sources.iter().filter(|source| source.local == read) {
                let stale = source.stale && !self.are_fixed_apart(before, source.local, source.read);
                state.sources.push_new(Source { local: slot, read: source.read, stale });
            }
        }
        if state.sources.len() > MOST_SOURCES {
            let beyond = state.sources.len() - MOST_SOURCES;
            state.sources.to_mut().drain(..beyond);
        }
    }

    /// The slots that an expression reads, and those of what procedures give in it.
    fn worked_out_from(&self, value: ExprId) -> Vec<Slot> {
        let mut slots = self.reads(value);
        super::access::walk_expr(self.unit, value, &mut |inner| {
            if let Meaning::Procedure(_) = self.unit.meaning(inner) {
                slots.extend(self.table.slot(Key::Result(inner)));
            }
        });
        slots
    }

    /// The slots that an expression reads.
    pub(super) fn reads(&self, expr: ExprId) -> Vec<Slot> {
        let mut reads = Vec::new();
        super::access::walk_expr(self.unit, expr, &mut |inner| {
            if let Some(slot) = self.unit.place_of(inner).and_then(|place| self.slot(place)) {
                reads.push(slot);
            }
        });
        reads
    }

    fn clear(&mut self, mut state: State, target: ExprId, place: PlaceId, span: Span) -> SmallVec<[State; 2]> {
        self.pass_through(&mut state, place, target);
        let Some(slot) = self.slot(place) else { return smallvec![state] };
        let in_invariant = self.table.slots[slot as usize].variable.is_some_and(|id| self.world.in_invariant(id));
        let before = in_invariant.then(|| state.clone());
        let ty = self.table.slots[slot as usize].ty;
        let cleared = if matches!(ty, Type::Ref(_)) {
            Abstract::of(Value::Ref { none: true, some: false })
        } else {
            Abstract { unset: true, set: false, ..Abstract::of(anything(ty)) }
        };
        self.put(&mut state, slot, cleared, &[], &[]);
        let write = Unseen { clears: true, ..Unseen::of(slot, anything(ty)) };
        if matches!(ty, Type::Ref(_)) {
            self.see(&state, &write);
        } else {
            state.add_unseen(&write); // It may be given another value before anyone looks.
        }
        self.renew_dependents(&mut state, slot);
        state.suspects.retain(|suspect| !matches!(suspect.wrong, Wrong::Outside(other, _) if other == slot));
        match before {
            Some(before) => self.judge_clear(&before, state, slot, span),
            None => smallvec![state],
        }
    }

    /// An assignment: the states after it, where what may be wrong is told apart from what is right.
    fn assign(&mut self, state: State, assignment: &Assignment, step: &Step, next: &mut States) {
        for state in self.apart_by_self(state, assignment.place) {
            for (state, given) in self.split_by_given(state, assignment) {
                for state in self.assign_one(state, given, assignment, step) {
                    self.arrive(next, state);
                }
            }
        }
    }

    /// Where a test joins what a flag says with something else, as `crew > 1 or not sailing`: both ways that the flag may be.
    fn split_by_flag(&self, state: State, test: ExprId) -> SmallVec<[State; 2]> {
        let joins = matches!(self.unit.tree.expr(test).kind, ExprKind::Binary(BinaryOp::Or | BinaryOp::And, ..));
        if !joins || self.most_parts == 1 {
            return smallvec![state];
        }
        let open = |slot: &Slot| self.table.flags.contains(slot).then(|| either(&state.value(*slot).value)).flatten();
        let Some((slot, values)) = self.reads(test).into_iter().find_map(|slot| Some((slot, open(&slot)?))) else {
            return smallvec![state];
        };
        let given = values.map(|value| {
            let mut state = state.clone();
            state.values[slot as usize].value = value;
            state
        });
        given.into_iter().collect()
    }

    /// What is true where an invariant's flag is given `true`, and where it is given `false`: `flag = mast and windy`.
    fn split_by_given(&mut self, state: State, assignment: &Assignment) -> SmallVec<[(State, Option<Value>); 2]> {
        let &Assignment { place, op, value, .. } = assignment;
        let in_invariant = self.slot(place).is_some_and(|slot| {
            let facts = &self.table.slots[slot as usize];
            let in_invariant = facts.variable.is_some_and(|variable| self.world.in_invariant(variable));
            let is_mode = self.modes.iter().any(|slots| slots.mode == slot);
            let is_flag = facts.cell.is_some() && self.table.flags.contains(&slot);
            facts.ty == Type::Bool && (in_invariant || is_flag || is_mode)
        });
        if !in_invariant || op != AssignOp::Set || self.most_parts == 1 {
            return smallvec![(state, None)];
        }
        // What calls a procedure is worked out here and not again; all else only to see how it comes out.
        let quiet = self.quiet;
        self.quiet |= !self.calls_any(value);
        let (yes, no) = self.branch(state.clone(), value);
        self.quiet = quiet;
        if self.take_dead() {
            return SmallVec::new();
        }
        let given = |state: State, yes: bool| (state, Some(Value::Bool { yes, no: !yes }));
        let mut ways: SmallVec<[(State, Option<Value>); 2]> = yes.map(|state| given(state, true)).into_iter().collect();
        ways.extend(no.map(|state| given(state, false)));
        if ways.is_empty() { smallvec![(state, None)] } else { ways }
    }

    /// The same for one state, which may be known to give this value.
    fn assign_one(
        &mut self,
        mut state: State,
        known: Option<Value>,
        assignment: &Assignment,
        step: &Step,
    ) -> SmallVec<[State; 2]> {
        let &Assignment { target, place, axis, op, value, span, .. } = assignment;
        if let Some(slot) = self.slot(place) {
            self.recall_invariants(&mut state, slot);
        }
        state.stepped = state.stepped || super::access::is_step(self.unit, step);
        let reads_itself = op != AssignOp::Set || axis.is_some();
        if reads_itself {
            self.eval(&mut state, target);
        }
        if op == AssignOp::Set {
            self.judge_lost(&state, place, value, span);
        }
        let old = self.slot(place).map(|slot| state.values[slot as usize].value.clone());
        let was_set = self.slot(place).is_some_and(|slot| state.values[slot as usize].set);
        // What a procedure does to the target on the way does not count: the old value was read before.
        let called = op != AssignOp::Set && self.calls_procedure(value);
        let given = match known {
            Some(known) if self.calls_any(value) => known,
            known => {
                let given = self.eval(&mut state, value);
                known.unwrap_or(given)
            }
        };
        let (old_forms, forms) = match called {
            true => (Forms::Unknown, Forms::Unknown),
            false => (self.forms(&state, target), self.forms(&state, value)),
        };
        if self.take_dead() {
            return SmallVec::new();
        }
        if !reads_itself || self.calls_any(value) {
            // The value comes first, and its procedures may have taken away what the target goes through.
            self.pass_through(&mut state, place, target);
        }
        let (Some(slot), Some(old)) = (self.slot(place), old) else { return smallvec![state] };
        let ty = self.table.slots[slot as usize].ty;
        let steps_nothing = reads_itself && axis.is_none() && !(was_set && is_of(&old, ty));
        if !is_of(&given, ty) || steps_nothing {
            // A value of another type, or none at all, is a finding of its own, and tells nothing of what is kept.
            self.put_something(&mut state, slot, span);
            return smallvec![state];
        }
        let (new, forms) = match (op, &old, &given) {
            (_, _, _) if axis.is_some() => (anything(self.table.slots[slot as usize].ty), Forms::Unknown),
            (AssignOp::Set, ..) => (given, forms),
            (AssignOp::Add, Value::Num(a), Value::Num(b)) => (Value::Num(a.add(b)), old_forms.plus(&forms, 1.0)),
            (AssignOp::Subtract, Value::Num(a), Value::Num(b)) => (Value::Num(a.sub(b)), old_forms.plus(&forms, -1.0)),
            (AssignOp::Multiply, Value::Num(a), Value::Num(b)) => {
                (Value::Num(a.mul(b)), b.single().map_or_else(Forms::default, |by| old_forms.scaled(by)))
            }
            (AssignOp::Divide, Value::Num(a), Value::Num(b)) => {
                let b = self.judge_divisor(&mut state, b.clone(), value, value);
                let forms = b.single().map_or_else(Forms::default, |by| old_forms.scaled(1.0 / by));
                (Value::Num(a.div(&b)), forms)
            }
            _ => (anything(self.table.slots[slot as usize].ty), Forms::Unknown),
        };
        let new = self.fitted(slot, self.narrowed(&state, new, &forms));
        // A procedure called on the way may have moved the target since it was read.
        let moved = self.direction(&state, slot, &forms, &state.value(slot).value, &new);
        let before = self.is_judged(slot).then(|| state.clone());
        let doubted = self.is_doubted(&state, value) || reads_itself && state.doubted.contains(&slot);
        self.write(&mut state, slot, &new, &forms, moved, assignment);
        self.take_as_meant(&mut state, slot, span);
        if doubted {
            state.doubted.push_new(slot);
        }
        if let Type::Ref(_) = self.table.slots[slot as usize].ty
            && op == AssignOp::Set
        {
            self.copy_instance(&mut state, slot, value);
        }
        if op == AssignOp::Set {
            self.remember_test(&mut state, slot, value);
        }
        if self.table.slots[slot as usize].cell.is_none() {
            let before = state.clone();
            if op == AssignOp::Set {
                self.sourced(&mut state, slot, value, &before);
            } else {
                self.sourced_too(&mut state, slot, value, &before);
            }
        }
        match before {
            Some(before) => self.judge_write(&before, state, slot, span, moved),
            None => smallvec![state],
        }
    }

    /// A slot is given nobody can tell what, but what was meant is right: something in its range.
    fn put_something(&mut self, state: &mut State, slot: Slot, write: Span) {
        let facts = &self.table.slots[slot as usize];
        state.facts.forget(slot);
        self.write_mode(state, slot);
        self.forget_tests(state, |read| read == slot);
        let any = self.world.any_in_range(facts);
        state.values[slot as usize] = Abstract::of(any.clone());
        let concerns = |id: InvariantId| {
            let named = &self.world.project.invariants[id.index()].variables;
            facts.variable.is_some_and(|variable| named.contains(&variable))
        };
        state.suspects.retain(|suspect| match suspect.wrong {
            Wrong::Outside(other, _) => other != slot,
            Wrong::Broken(invariant, _) => !concerns(invariant),
        });
        self.assume_range(state, slot);
        if let Some(cell) = facts.cell {
            self.event(Event::Untellable { at: write, cell });
        }
        self.see(state, &Unseen { up: true, down: true, ..Unseen::of(slot, any) });
    }

    /// Where all that is ever written counts, what a mistaken write comes to may be anything in its range.
    fn take_as_meant(&self, state: &mut State, slot: Slot, write: Span) {
        let cell = self.table.slots[slot as usize].cell.filter(|_| self.counted == Some(Counted::Written));
        if let Some(meant) = cell.and_then(|cell| self.world.meant(self.script, write, cell)) {
            state.facts.forget(slot);
            self.forget_tests(state, |read| read == slot);
            let known = &mut state.values[slot as usize].value;
            *known = known.join(&meant);
        }
    }

    /// Whether a write to a slot can make anything wrong.
    fn is_judged(&self, slot: Slot) -> bool {
        let facts = &self.table.slots[slot as usize];
        facts.min.is_some()
            || facts.max.is_some()
            || !facts.bounds().is_empty()
            || facts.variable.is_some_and(|variable| self.world.in_invariant(variable))
    }

    /// A value cut to what its forms say of it.
    fn narrowed(&self, state: &State, value: Value, forms: &Forms) -> Value {
        match value {
            Value::Num(num) => Value::Num(narrowed(state, num, forms)),
            value => value,
        }
    }

    /// A value as its variable's type keeps it.
    fn fitted(&self, slot: Slot, value: Value) -> Value {
        let facts = &self.table.slots[slot as usize];
        match (value, facts.ty) {
            (Value::Num(num), Type::Number) => Value::Num(Num { int: false, ..num }),
            (Value::Num(num), Type::Int) if !num.int => Value::Num(num.rounded(f64::floor)),
            (Value::Other, _) => Value::Other,
            (Value::Text(None), Type::Enum(of)) => self.world.any_of(of),
            (value, ty) if !is_of(&value, ty) => anything(ty),
            (value, _) => value,
        }
    }

    /// Whether a write can move the value up, or down.
    fn direction(&self, state: &State, slot: Slot, forms: &Forms, old: &Value, new: &Value) -> Moved {
        if state.value(slot).is_untold() {
            return Moved::EITHER; // There may have been nothing to be within its range.
        }
        let own = Linear::slot(slot);
        let ends = |slot| state.ends(slot);
        let (up, down) = match (old, new) {
            (Value::Num(old), Value::Num(new)) => (new.hi > old.lo, new.lo < old.hi),
            _ => (true, true),
        };
        let is_at_most = |form: &Linear| state.facts.implies(&form.plus(&own, -1.0), &ends);
        let is_at_least = |form: &Linear| state.facts.implies(&own.plus(form, -1.0), &ends);
        let up = up && !forms.uppers().iter().any(is_at_most);
        let down = down && !forms.lowers().iter().any(is_at_least);
        Moved { up, down }
    }

    fn write(
        &mut self,
        state: &mut State,
        slot: Slot,
        new: &Value,
        forms: &Forms,
        moved: Moved,
        &Assignment { place, op, value, span, last, .. }: &Assignment,
    ) {
        let is_compared = self.table.slots[slot as usize].cell.is_some_and(|cell| self.world.is_compared(cell));
        let exact = if is_compared { step_of(state, slot, forms) } else { None };
        let steps_itself = || op != AssignOp::Set || super::access::steps_itself(self.unit, place, value);
        let cut = is_compared && exact.is_none() && steps_itself();
        let mut step = if cut { cut_step_of(state, slot, forms) } else { exact };
        if let Some((_, by)) = step.as_mut().filter(|_| super::access::goes_round(self.unit, place, value)) {
            *by = without_going_round(by);
        }
        self.write_mode(state, slot);
        let own = Linear::slot(slot);
        let mut all = forms.uppers().iter().chain(forms.lowers());
        let grows = all.any(|form| form.factor(slot) == 1.0 && *form != own);
        self.put(state, slot, Abstract::of(new.clone()), forms.uppers(), forms.lowers());
        let facts = &self.table.slots[slot as usize];
        state.steps.retain(|step| step.slot != slot);
        if let Some((before, by)) = step {
            state.steps.push(Arc::new(PendingStep { slot, at: span, before, by, cut }));
        }
        if let Some(variable) = facts.variable {
            let overflow = self.world.project.registry.var(variable).overflow;
            if overflow != Overflow::Error {
                self.overflow(state, slot, overflow);
            }
            for &other in facts.clamped() {
                self.follow_bound(state, other);
            }
            // By another name it may be the same instance's.
            if self.table.bounds_by_any_name(slot) {
                let aliases = self.table.aliases(slot).map(|alias| alias.slot);
                for moved in std::iter::once(slot).chain(aliases) {
                    if !self.table.slots[moved as usize].bounds().is_empty() {
                        state.moved_bounds.push_new(moved);
                    }
                }
            }
        }
        let written = state.value(slot).value.clone();
        let is_single = matches!(&written, Value::Num(num) if num.single().is_some());
        // What is told by one number can as well be seen at once, though it may be put right: so it is where much is written.
        let has_room = state.unseen.len() < MOST_UNSEEN;
        let is_put_right = matches!(written, Value::Num(_)) && (!is_single || last || has_room);
        let write = Unseen { grows, anew: !grows, up: moved.up, down: moved.down, ..Unseen::of(slot, written) };
        if grows || is_put_right {
            state.add_unseen(&write);
        } else {
            self.see(state, &write);
        }
    }

    /// A variable that clamps or wraps stays within its range.
    fn overflow(&self, state: &mut State, slot: Slot, overflow: Overflow) {
        let Some(num) = state.num(slot).cloned() else { return };
        let facts = &self.table.slots[slot as usize];
        let (Some(low), Some(high)) = (self.limit(state, facts.min, End::Min), self.limit(state, facts.max, End::Max))
        else {
            return;
        };
        let fits = num.lo >= low.lo && num.hi <= high.hi;
        let kept = match overflow {
            Overflow::Wrap if fits => num,
            Overflow::Wrap => num.wrapped(low.lo, high.hi),
            _ => num.max(&low).min(&high),
        };
        if !self.within(state, slot) {
            state.facts.forget(slot);
            self.forget_tests(state, |read| read == slot);
        }
        state.values[slot as usize].value = Value::Num(kept);
        self.assume_range(state, slot);
    }

    fn limit(&self, state: &State, limit: Option<Limit>, end: End) -> Option<Num> {
        Some(match limit {
            Some(Limit::Number(value)) => Num::constant(value, value.fract() == 0.0),
            Some(Limit::Slot(slot)) => state.num(slot)?.clone(),
            None if end == End::Min => Num::range(f64::NEG_INFINITY, f64::NEG_INFINITY, false),
            None => Num::range(f64::INFINITY, f64::INFINITY, false),
        })
    }

    /// With `clamp`, a value moves with a bound that moves.
    fn follow_bound(&mut self, state: &mut State, slot: Slot) {
        if !self.within(state, slot) {
            self.overflow(state, slot, Overflow::Clamp);
            self.forget_tests(state, |read| read == slot);
            let written = state.value(slot).value.clone();
            self.see(state, &Unseen { up: true, down: true, ..Unseen::of(slot, written) });
        }
    }

    /// Gives a slot a value, and those that may be the same place the chance of it.
    fn put(&mut self, state: &mut State, slot: Slot, value: Abstract, uppers: &[Linear], lowers: &[Linear]) {
        let products = self.move_products(state, slot, &value.value, uppers, lowers);
        state.relate(slot, uppers, lowers, value.value.ends());
        state.values[slot as usize] = value.clone();
        state.doubted.retain(|other| *other != slot);
        state.selves.retain(|(holder, _)| *holder != slot);
        state.forget_held(slot);
        let table = self.table;
        self.forget_tests(state, |read| read == slot || table.aliases(slot).any(|alias| alias.slot == read));
        self.keep_products(state, products);
        let mut kept: SmallVec<[Slot; 4]> = SmallVec::new();
        let is_name = matches!(table.slots[slot as usize].ty, Type::Ref(_));
        for other in table.aliases(slot) {
            if other.holder.is_some_and(|holder| is_free(state, holder)) {
                continue;
            }
            let alias = other.slot;
            let same = self.are_the_same(state, slot, other);
            if same != Some(true) && !is_name && *state.value(alias) == value && !state.facts.are_about(alias) {
                continue; // It makes no difference.
            }
            if self.within(state, alias) {
                kept.push(alias);
            }
            match same {
                Some(false) => continue,
                Some(true) => {
                    let same = [Linear::slot(slot)];
                    state.forget_held(alias);
                    state.relate(alias, &same, &same, value.value.ends());
                    state.values[alias as usize] = value.clone();
                    continue;
                }
                None => {}
            }
            state.facts.forget(alias);
            state.forget_held(alias);
            let joined = state.values[alias as usize].join(&value);
            state.values[alias as usize] = joined;
        }
        if self.within(state, slot) {
            // Whichever of the two it is, it is within its range.
            kept.into_iter().for_each(|alias| self.assume_range(state, alias));
        }
    }

    /// Others can see what was written to these slots: what lies beyond all that is there by then was put right before.
    pub(super) fn show_others(&mut self, state: &mut State, meant: impl Fn(Slot) -> bool) {
        let unseen = state.unseen.clone();
        for write in unseen.iter().filter(|write| meant(write.slot)) {
            self.see(state, write);
        }
        state.unseen.retain(|write| !meant(write.slot));
    }

    /// Keeps that a slot was written, and the value that it has by now.
    fn see(&mut self, state: &State, write: &Unseen) {
        let &Unseen { slot, grows, up, down, clears, .. } = write;
        let Some(cell) = self.table.slots[slot as usize].cell else { return };
        self.see_margins(state, write);
        let own = self.is_own_slot(slot);
        let handler = self.handler;
        let later = state.later;
        let seen = self.seen.entry((cell, own, later)).or_insert_with(|| {
            let effect = Effect { own, later, ..Effect::none(handler) };
            Seen { effect, grows: false, written: None }
        });
        seen.grows |= grows;
        seen.effect.up |= up;
        seen.effect.down |= down;
        seen.effect.after_wait |= state.waited || state.later;
        let now = state.value(slot);
        seen.effect.clears |= clears && (now.unset || matches!(now.value, Value::Ref { .. }));
        // What nobody can tell is no value: others go on with what the place is given elsewhere.
        let is_told = is_of(&write.written, self.table.slots[slot as usize].ty);
        if now.set && is_told {
            let known = seen.written.take();
            seen.written = Some(known.map_or_else(|| write.written.clone(), |known| known.join(&write.written)));
            let value = match (&now.value, &write.written) {
                // On other ways that lead here it may be what it was before.
                (Value::Num(now), Value::Num(written)) => Value::Num(written.meet(now).unwrap_or_else(|| now.clone())),
                (Value::Other, written) => written.clone(), // The rest is what nobody can tell.
                (now, _) => now.clone(),
            };
            let known = seen.effect.set.take();
            seen.effect.set = Some(known.map_or_else(|| value.clone(), |known| known.join(&value)));
        }
    }

    pub(super) fn is_own_slot(&self, slot: Slot) -> bool {
        let Key::Place(place) = self.table.slots[slot as usize].key else { return false };
        match self.unit.place(place) {
            Place::Private(_) | Place::Variable(_, Base::Own) => true,
            Place::Variable(_, Base::Listed(instance)) => self.is_own(instance),
            _ => false,
        }
    }

    /// A value worked out from what was read before a wait overwrites what others did meanwhile.
    fn judge_lost(&mut self, state: &State, place: PlaceId, value: ExprId, span: Span) {
        let Some(slot) = self.slot(place) else { return };
        if self.table.slots[slot as usize].cell.is_none() {
            return;
        }
        let reads = self.worked_out_from(value);
        let lost = state.sources.iter().any(|source| {
            source.stale
                && source.read == slot
                && reads.contains(&source.local)
                && !self.are_fixed_apart(state, source.local, slot)
        });
        if lost && !super::access::builds_on(self.unit, place, value) {
            self.event(Event::Lost { at: span, place });
        }
    }

    /// Whether a test on the way has told how far apart the numbers are that two slots hold: one still says what the other is.
    fn are_fixed_apart(&self, state: &State, a: Slot, b: Slot) -> bool {
        let difference = Linear::slot(a).plus(&Linear::slot(b), -1.0);
        let anything = |_| (f64::NEG_INFINITY, f64::INFINITY);
        let most = state.facts.highest(&difference, &anything);
        most.is_finite() && most == -state.facts.highest(&difference.times(-1.0), &anything)
    }

    fn show(&mut self, state: &mut State, text: ExprId) {
        let mut printed = Vec::new();
        if let ExprKind::Text(parts) = &self.unit.tree.expr(text).kind {
            for part in parts {
                if let TextPart::Token { value, .. } = part {
                    super::access::walk_expr(self.unit, *value, &mut |inner| {
                        if let Some(place) = self.unit.place_of(inner) {
                            printed.push((inner, place));
                        }
                    });
                }
            }
        }
        self.eval(state, text);
        for (at, place) in printed {
            let Some(slot) = self.slot(place) else { continue };
            if self.may_be_stand_in(state, slot) {
                let place = self.unit.place_of(self.unit.behind(at)).unwrap_or(place);
                self.event(Event::StandIn { at, place });
            }
            self.tell_suspects(state, |wrong| matches!(wrong, Wrong::Outside(other, _) if other == slot));
        }
    }

    /// Whether a slot may still hold its variable's stand-in.
    fn may_be_stand_in(&self, state: &State, slot: Slot) -> bool {
        let value = state.value(slot);
        let default = self.table.slots[slot as usize].variable.and_then(|id| {
            let variable = self.world.project.registry.var(id);
            Some(self.world.constant(variable.default.as_ref()?, variable.ty))
        });
        value.stand_in && default.is_none_or(|default| value.value.meet(&default).is_some())
    }
}

/// The states at one point.
pub(super) type States = SmallVec<[State; 1]>;
/// The states with which ways lead to a block, in the order of the ways.
#[derive(Default)]
struct Arriving {
    states: States,
    /// Whether any comes from within a loop.
    in_loop: bool,
}

/// The ways on from a block.
pub(super) type Ways = SmallVec<[(BlockId, State); 2]>;
/// The states in which a condition came out true, and false.
type Answers = [Vec<State>; 2];

/// What a write that steps its variable steps it from, and by how much.
fn step_of(state: &State, slot: Slot, forms: &Forms) -> Option<(Num, Num)> {
    let before = state.num(slot)?.clone();
    let steps = |form: &Linear| form.factor(slot) == 1.0;
    let ([up], [down]) = (forms.uppers(), forms.lowers()) else {
        let is_step = |side: &[Linear]| !side.is_empty() && side.iter().all(steps);
        let both = is_step(forms.uppers()) && is_step(forms.lowers());
        return both.then(|| uneven_step(state, slot, forms, before));
    };
    if !steps(up) || !steps(down) {
        return None;
    }
    if up != down {
        return Some(uneven_step(state, slot, forms, before));
    }
    let by = up.plus(&Linear::slot(slot), -1.0);
    let mut sum = Num::constant(by.constant, by.constant.fract() == 0.0);
    for &(other, factor) in by.terms.iter() {
        sum = sum.add(&state.num(other)?.mul(&Num::constant(factor, factor.fract() == 0.0)));
    }
    Some((before, sum))
}

/// The same for a step that is now this far, now that: `heat += random(1, 3)`.
fn uneven_step(state: &State, slot: Slot, forms: &Forms, before: Num) -> (Num, Num) {
    let (own, ends) = (Linear::slot(slot), |slot| state.ends(slot));
    let most = |sides: &[Linear], sign: f64| {
        let by = sides.iter().map(|form| state.facts.plainly_highest(&form.plus(&own, -1.0).times(sign), &ends));
        by.fold(f64::INFINITY, f64::min)
    };
    let by = Num::range(-most(forms.lowers(), -1.0), most(forms.uppers(), 1.0), before.int);
    (before, by)
}

/// The same for a step that is cut: `max(x - 3, 0)` moves by 3 downwards at most.
fn cut_step_of(state: &State, slot: Slot, forms: &Forms) -> Option<(Num, Num)> {
    let before = state.num(slot)?.clone();
    let (own, ends) = (Linear::slot(slot), |slot| state.ends(slot));
    let highest = |sides: &[Linear], sign: f64| {
        let by = sides.iter().map(|form| state.facts.plainly_highest(&form.plus(&own, -1.0).times(sign), &ends));
        by.fold(None, |least: Option<f64>, by| Some(least.map_or(by, |least| least.min(by))))
    };
    let (up, down) = (highest(forms.uppers(), 1.0).unwrap_or(0.0), highest(forms.lowers(), -1.0).unwrap_or(0.0));
    let by = Num::range(-down.max(0.0), up.max(0.0), before.int);
    Some((before, by))
}

/// The two ways that a flag can stand, where it is not known which: `true` and `false`, or below zero and not.
fn either(value: &Value) -> Option<[Value; 2]> {
    match value {
        Value::Bool { yes: true, no: true } => Some([true, false].map(|yes| Value::Bool { yes, no: !yes })),
        Value::Num(num) => {
            let below = num.meet(&Num::range(f64::NEG_INFINITY, 0f64.next_down(), false))?;
            let above = num.meet(&Num::range(0.0, f64::INFINITY, false))?;
            Some([Value::Num(below), Value::Num(above)])
        }
        _ => None,
    }
}

/// How far a step goes that begins again at the other end: that way back, the longer one, passes nothing.
fn without_going_round(by: &Num) -> Num {
    let (down, up) = (-by.lo, by.hi);
    match down.partial_cmp(&up) {
        Some(Ordering::Greater) if up > 0.0 => Num::range(0.0, up, by.int),
        Some(Ordering::Less) if down > 0.0 => Num::range(by.lo, 0.0, by.int),
        _ => by.clone(),
    }
}

/// What a type calls zero; nothing is known of it where that matters little.
fn zero(ty: Type) -> Value {
    match ty {
        Type::Int | Type::Number => Value::Num(Num::constant(0.0, ty == Type::Int)),
        Type::Bool => Value::Bool { yes: false, no: true },
        _ => anything(ty),
    }
}

/// Whether a place of that type can keep such a value.
fn is_of(value: &Value, ty: Type) -> bool {
    match ty {
        Type::Int | Type::Number => matches!(value, Value::Num(_)),
        Type::Bool => matches!(value, Value::Bool { .. }),
        Type::Text | Type::Enum(_) => matches!(value, Value::Text(_)),
        Type::Ref(_) => matches!(value, Value::Ref { .. }),
        Type::Unknown | Type::Vec2 | Type::Vec3 => true,
    }
}

/// The most that a slot is above another, or below it for a `sign` of -1.
fn beyond(state: &State, slot: Slot, bound: Slot, sign: f64) -> f64 {
    let beyond = Linear::slot(slot).plus(&Linear::slot(bound), -1.0).times(sign);
    state.facts.highest(&beyond, &|slot| state.ends(slot))
}

fn cut(state: &mut State, slot: Slot, (lo, hi): (f64, f64)) {
    if let Value::Num(num) = &state.values[slot as usize].value
        && let Some(kept) = num.meet(&Num::range(lo, hi, num.int))
    {
        state.values[slot as usize].value = Value::Num(kept);
    }
}
