//! Runs one handler abstractly, from its trigger to all its ends.
//!
//! Blocks are taken in reverse postorder; a loop's head is visited until its state no longer grows, with widening from
//! the third round on. Procedures are run in place, with the arguments that the call gives. States that differ in a write
//! which may have left its range are kept apart, up to a limit, so that a fault is told of the write that made it.

mod beginning;
mod blocks;
mod calls;
mod loops;
mod modes;
mod names;
mod outcomes;
mod partings;
mod products;
mod receivers;
mod recursion;
mod rounds;
mod slots;
mod sweep;
mod terms;
mod waits;
mod writes;

pub use calls::MOST_DEPTH;
use loops::{Heads, Onward};
pub use partings::{Last, Parting};
use receivers::Receivers;
use rounds::Each;
pub use slots::{Alias, Key, Limit, SlotFacts, SlotTable};

use super::eval::{Split, anything, ways};
use super::forms::{Forms, narrowed};
use super::graph::{Block, BlockId, Exit, Graph, Offer, Step, StepKind, Waiting};
use super::judge::{self, is_free};
use super::linear::{BodyLength, Facts, Linear, Slot};
use super::shared::Shared;
use super::state::{Known, Origin, PendingStep, PutOff, Source, State, Suspect, Unseen, Values, Wrong, hull};
use super::trend::Moved;
use super::value::{Abstract, Num, Value};
use super::world::{Asked, Counted, Effect, Extent, HandlerId, LoneSlot, ModeSlots, Others, PairId, Part, World};
use crate::project::{Base, CellId, Meaning, Place, PlaceId, ProcId, ScriptId, ScriptUnit};
use crate::registry::{Bound, End, InstanceId, InvariantId, Overflow, OwnerId, SignalId, Type, VarId};
use crate::script::ast::*;
use crate::source::Span;
use rustc_hash::{FxHashMap, FxHashSet};
use smallvec::{SmallVec, smallvec};
use std::cmp::Ordering;
use std::collections::hash_map::Entry;
use std::collections::{BTreeMap, BTreeSet};
use std::rc::Rc;
use std::sync::Arc;

/// How many states that differ in their suspects are kept apart at one point of a body of ordinary length; of a short one up to
/// twice as many.
const MOST_PARTS: usize = 6;
/// How many steps a body of ordinary length has at most; in longer ones fewer states are kept apart.
const ORDINARY: usize = 120;
/// How often a loop's head is visited before it is widened.
const ROUNDS: u32 = 2;
/// How many reads are remembered that locals were worked out from.
const MOST_SOURCES: usize = 32;
/// How many tests are remembered that flags were given.
const MOST_TESTS: usize = 16;
/// How often one test looks behind flags, and behind those that stand there.
pub(super) const MOST_FLAGS_BEHIND: u32 = 8;

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
    /// Where a comparison came out one way only: what it asks about.
    pub asked: Option<Compared>,
}

/// The operand that a comparison asks about.
#[derive(Clone, Copy, Debug)]
pub struct Compared {
    /// The operand.
    pub expr: ExprId,
    /// Its least value.
    pub lo: f64,
    /// Its largest value.
    pub hi: f64,
    /// The number that it is compared with, where that lies between the two.
    pub between: Option<f64>,
}

impl Outcome {
    /// Takes in how it came out elsewhere.
    pub fn take(&mut self, other: &Self) {
        self.yes |= other.yes;
        self.no |= other.no;
        self.asked = match (self.asked, other.asked) {
            (Some(mine), Some(theirs)) => Some(Compared {
                lo: mine.lo.min(theirs.lo),
                hi: mine.hi.max(theirs.hi),
                between: mine.between.or(theirs.between),
                ..mine
            }),
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
    /// What it came from.
    pub origin: Origin,
    /// What it can be when others see it: from the least to the most.
    pub settled: (f64, f64),
}

/// Something that can go wrong, found on the way.
#[derive(Clone, PartialEq, Debug)]
#[allow(missing_docs, reason = "the fields name the places that the fault belongs to")]
pub enum Event {
    Unset {
        place: PlaceId,
        /// What is read is the place's bound, which this variable is.
        bound: Option<VarId>,
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

impl Event {
    /// Takes in the ranges of the same fault on another way.
    fn take_ranges(&mut self, other: &Self) {
        match (self, other) {
            (
                Self::Outside { before, after, limit, .. },
                Self::Outside { before: other_before, after: other_after, limit: other_limit, .. },
            ) => {
                *before = hull(*before, *other_before);
                *after = hull(*after, *other_after);
                *limit = hull(*limit, *other_limit);
            }
            (Self::Zero { range, .. }, Self::Zero { range: other_range, .. }) => *range = hull(*range, *other_range),
            _ => {}
        }
    }
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
    /// Some way comes here behind a wait.
    pub waited: bool,
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

/// What is known where a signal is sent.
pub struct SentHere<'w> {
    /// What goes along.
    pub arguments: &'w [ExprId],
    /// The instance to which it goes, if to one.
    pub to: Option<Base>,
    /// What is known there.
    pub state: State,
}

/// What is known of a signal for whoever answers it.
#[derive(Default)]
pub struct HandedAt<'w> {
    /// By statement that sends it.
    pub sent: BTreeMap<Span, SentHere<'w>>,
    /// What is known once the handler waits or ends.
    pub left: Option<State>,
    /// It may be sent again before that.
    pub again: bool,
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
    /// What was known as signals were sent of which others build on that, before a wait and after one.
    pub handing: BTreeMap<(SignalId, bool), HandedAt<'w>>,
    /// What is left in the place whose changes the handler deals with.
    pub kept: Option<Value>,
    /// The signals whose answers certainly give that place something else, where the handler has sent one.
    pub left_to: FxHashSet<SignalId>,
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
    /// What nobody names the other half of such a pair beside.
    pub lone: Vec<LoneSlot>,
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
    receivers: Receivers,
    /// Where calls left what they gave: once the statement is through nobody asks for it any more.
    given: Vec<Slot>,
    /// The call that is about to be made as a condition.
    asked: Option<ExprId>,
    /// The slots by which ways are told apart here.
    apart_by: SmallVec<[Slot; 4]>,
    /// The call that has been made on the way that is gone: its result is known.
    pub(in crate::flow) worked_out: Option<ExprId>,
    /// What the last such call came back with.
    answered: Option<Answers>,
    /// A procedure was called that never comes back: nothing goes on from here.
    dead: bool,
    /// How much was gone through in procedures, and how much may be, in steps times slots.
    work: usize,
    most_work: usize,
    /// The calls that were not gone into.
    left_calls: sweep::LeftCalls,
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
    /// Where in the events each is.
    reported: FxHashMap<(Span, u8, u32), usize>,
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
            handing: BTreeMap::new(),
            kept: None,
            left_to: FxHashSet::default(),
            left_by_first: Vec::new(),
            overtaken: Vec::new(),
            pauses: Vec::new(),
            sendings: Vec::new(),
            let_in: FxHashSet::default(),
            margins: FxHashMap::default(),
            built_on: Asked::default(),
            modes: Vec::new(),
            lone: Vec::new(),
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
            receivers: Receivers::default(),
            given: Vec::new(),
            asked: None,
            apart_by: SmallVec::new(),
            worked_out: None,
            answered: None,
            dead: false,
            work: 0,
            most_work: world.most_work(handler),
            left_calls: sweep::LeftCalls::default(),
            flags_behind: None,
            in_loop: false,
            trying_a_round: false,
            thresholds: world.thresholds(handler),
            most_parts: (MOST_PARTS * ORDINARY / world.size(handler).max(1)).clamp(1, 2 * MOST_PARTS),
            in_bursts,
            reported: FxHashMap::default(),
        }
    }

    /// Runs the handler from whatever can be when it begins.
    pub fn handler_from_entry(&mut self) {
        let state = self.entry();
        self.handler_from(state);
    }

    /// Runs the handler from a state.
    pub fn handler_from(&mut self, state: State) {
        self.body_from(state);
        self.sweep();
    }

    fn body_from(&mut self, state: State) {
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
        match self.reported.entry(key) {
            Entry::Vacant(free) => {
                free.insert(self.events.len());
                self.events.push(event);
            }
            Entry::Occupied(known) => {
                if let Some(told) = self.events.get_mut(*known.get()) {
                    told.take_ranges(&event);
                }
            }
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
                if yes != no && !self.reads(expr).is_empty() =>
            {
                let between = |number: &f64| num.lo < *number && *number < num.hi;
                other.single().map(|it| Compared { expr, lo: num.lo, hi: num.hi, between: Some(it).filter(between) })
            }
            _ => None,
        };
        self.outcomes.entry(test).or_default().take(&Outcome { yes, no, asked });
    }

    /// A value that goes along with a signal. One that was never given is told where it is read; it goes along as its type's
    /// zero, so that it hides nothing of what others send.
    fn known_or_zero(&self, value: Value, expr: ExprId) -> Value {
        match (value, self.unit.ty(expr)) {
            (Value::Other, ty @ (Type::Int | Type::Number)) => zero(ty),
            (value, _) => value,
        }
    }

    // ---- steps ----

    fn step(&mut self, mut state: State, step: &'w Step) -> Option<State> {
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
                        let value = self.known_or_zero(value, argument);
                        self.sent.push((*signal, at, value));
                    }
                }
                if let Some(to) = to {
                    self.eval(&mut state, *to);
                    self.address(&mut state, *to);
                }
                self.note_sent(&mut state, *signal, *to);
                self.keep_sending(&state, *signal, step.span);
                if let Some(signal) = signal {
                    self.hand_over(&mut state, (*signal, step.span), arguments, *to);
                }
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
                self.end_with_own(&state, *what);
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
        self.slot(place).into_iter().for_each(|slot| self.expect(slot, value));
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
        if !self.is_served(value) {
            self.copy_instance(state, slot, value);
        }
    }

    /// Remembers the test that a flag was given: the flag says what the test says, until one of the two changes.
    pub(super) fn remember_test(&self, state: &mut State, slot: Slot, value: ExprId) {
        let value = self.answer_of(value);
        // What a procedure does on the way is done once, however often the flag is asked.
        let tells = self.unit.ty(value) == Type::Bool && !matches!(self.unit.tree.expr(value).kind, ExprKind::Bool(_));
        if tells && !self.calls_any(value) && !self.reads(value).contains(&slot) {
            if state.tests.len() >= MOST_TESTS {
                state.tests.to_mut().remove(0);
            }
            state.tests.push((slot, value));
        }
    }

    /// What a call of a procedure answers that does nothing else and is given nothing; other expressions answer for themselves.
    fn answer_of(&self, mut value: ExprId) -> ExprId {
        for _ in 0..MOST_FLAGS_BEHIND {
            let Meaning::Procedure(id) = self.unit.meaning(value) else { break };
            let first = &self.world.procedure_graph(self.script, id).blocks[0];
            match first.exit {
                Exit::Return(Some(answer)) if first.steps.is_empty() && self.locals_in(answer).is_empty() => {
                    value = answer
                }
                _ => break,
            }
        }
        value
    }

    /// Remembers what a local was worked out from.
    pub(super) fn sourced(&mut self, state: &mut State, slot: Slot, value: ExprId, before: &State) {
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
/// The ways on from a block.
pub(super) type Ways = SmallVec<[(BlockId, State); 2]>;
/// The states in which a condition came out true, and false.
type Answers = [Vec<State>; 2];

/// What a type calls zero; nothing is known of it where that matters little.
fn zero(ty: Type) -> Value {
    match ty {
        Type::Int | Type::Number => Value::Num(Num::constant(0.0, ty == Type::Int)),
        Type::Bool => Value::Bool { yes: false, no: true },
        _ => anything(ty),
    }
}

fn cut(state: &mut State, slot: Slot, (lo, hi): (f64, f64)) {
    if let Value::Num(num) = &state.values[slot as usize].value
        && let Some(kept) = num.meet(&Num::range(lo, hi, num.int))
    {
        state.values[slot as usize].value = Value::Num(kept);
    }
}
