//! A run: time, the queue, and who answers what.
//!
//! Everything happens in dispatches. A dispatch runs the handlers of one trigger, each to its end or first wait; what it
//! sends, and the changes that someone listens to, are queued behind it. Between dispatches the run is quiet, and that is
//! where the game's signals come in. [`Machine::drain`] is the loop.

use super::activation::{Activation, Parked};
use super::fault::Fault;
use super::layout::{Home, InstanceAt, Layout};
use super::memory::Memory;
use super::queue::Queue;
use super::suspects::Suspects;
use super::value::Value;
use crate::flow::world::HandlerId;
use crate::project::{Base, CellId, Place};
use crate::registry::{InstanceId, Lifetime, OwnerId, SignalId};
use crate::source::Location;
use rand_core::{Rng as _, SeedableRng};
use rustc_hash::FxHashMap;
use smallvec::SmallVec;
use std::collections::{BTreeMap, VecDeque};

/// How often those that wait are asked at one moment whether to go on, while what they do in answer sets off more.
const MOST_ASKED: u32 = 8;

/// When a run that does not become quiet is stopped.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// How many steps may be taken between two moments at which the run is quiet, and how much may be judged because of them.
    pub steps: u32,
    /// How many dispatches there may be between two such moments.
    pub dispatches: u32,
    /// How many activations may wait at once.
    pub waiting: usize,
    /// How many runs and scenes may begin between two such moments: each looks at all that waits.
    pub beginnings: u32,
}

impl Default for Limits {
    fn default() -> Self {
        Self { steps: 2_000_000, dispatches: 100_000, waiting: 100_000, beginnings: 1_000 }
    }
}

/// Something that was done, for whoever keeps a log.
#[derive(Debug)]
#[allow(missing_docs, reason = "the fields are named for what they hold")]
pub enum Happening<'a> {
    /// A variable or a private was given a value, or lost it.
    Changed {
        cell: CellId,
        of: Option<InstanceAt>,
        old: Option<&'a Value>,
        new: Option<&'a Value>,
        at: Option<Location>,
    },
    /// Something was printed, in a label or as a passing message.
    Shown { label: Option<&'a str>, text: &'a str, at: Location },
    /// A label was cleared.
    Hidden { label: &'a str, at: Location },
    /// A note was written.
    Noted { text: &'a str, at: Location },
    /// A script sent a signal.
    Sent { signal: SignalId, at: Location },
    /// A script made a new instance.
    Spawned { actor: OwnerId, at: Location },
    /// A question was asked.
    Asked { text: &'a str, choices: &'a [String], at: Location },
    /// A handler began, or went on after a wait.
    Began { id: u64, handler: HandlerId, of: Option<InstanceAt>, resumed: bool },
    /// A handler ended, or waits.
    Ended { waits: bool },
    /// What waited was dropped, since its instance or its scene is gone.
    Dropped { id: u64 },
    /// Something went wrong.
    Fault(&'a Fault),
    /// Another scene was loaded.
    Scene(OwnerId),
    /// A new run began.
    Run,
}

/// Keeps what it wants of what happens.
pub trait Observer {
    /// Whether it looks at what is told; where it does not, changes need not be worked out for it.
    const LOOKS: bool = true;

    /// Is told of everything, as it happens. `tick` counts from the start of the program.
    fn see(&mut self, tick: u64, memory: &Memory<'_, '_>, happening: &Happening<'_>);
}

/// Keeps nothing.
#[derive(Clone, Copy, Debug, Default)]
pub struct Unobserved;

impl Observer for Unobserved {
    const LOOKS: bool = false;

    fn see(&mut self, _: u64, _: &Memory<'_, '_>, _: &Happening<'_>) {}
}

/// Whom a signal reaches.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Reach {
    /// Everyone.
    All,
    /// The handlers of that instance's scripts alone.
    Only(InstanceAt),
    /// It happens to that instance; systems and scenes hear of it too.
    Happens(InstanceAt),
    /// Systems and scenes alone.
    NoInstance,
}

/// What is dispatched.
#[derive(Clone, Debug)]
pub(super) enum Trigger {
    Signal { signal: SignalId, arguments: SmallVec<[Value; 2]>, reach: Reach },
    Changed { cell: CellId, of: Option<InstanceAt>, old: Option<Value> },
    Removed(InstanceAt),
    Tick,
    Every(usize),
    Resume(Box<Activation>),
}

/// A question that waits for its answer.
#[derive(Clone, Debug)]
pub struct Question {
    /// What was asked.
    pub text: String,
    /// The choices that are offered.
    pub choices: Vec<String>,
    pub(super) blocks: Vec<crate::flow::graph::BlockId>,
    pub(super) activation: Box<Activation>,
}

/// Why a run was stopped.
#[derive(Clone, PartialEq, Debug)]
pub struct Stopped {
    /// Where it was.
    pub at: Location,
    /// In plain words.
    pub message: String,
}

/// What the present dispatch will lead to.
#[derive(Clone, Debug, Default)]
pub(super) struct Pass {
    pub before: Vec<(CellId, Option<InstanceAt>, Option<Value>)>,
    pub go: Option<OwnerId>,
    pub restart: bool,
}

/// A run of a project. A copy goes on from where it stands.
#[derive(Clone)]
pub struct Machine<'l, 'p, O: Observer> {
    /// What it looks up.
    pub layout: &'l Layout<'p>,
    /// The values.
    pub memory: Memory<'l, 'p>,
    /// Who watches.
    pub observer: O,
    /// The loaded scene.
    pub scene: Option<OwnerId>,
    /// Ticks since the program started.
    pub now: u64,
    /// When the present run began.
    began: u64,
    queue: Queue,
    sleeping: BTreeMap<(u64, u64), Box<Activation>>,
    #[allow(clippy::vec_box, reason = "they are boxes before and after")]
    waiting: Vec<Box<Activation>>,
    /// The open questions, the oldest first.
    pub questions: VecDeque<Question>,
    /// What each label shows.
    pub labels: BTreeMap<String, String>,
    /// What went wrong, in order.
    pub faults: Vec<Fault>,
    /// Why the run was stopped, if it was.
    pub stopped: Option<Stopped>,
    pub(super) pass: Pass,
    pub(super) suspects: Suspects,
    pub(super) draws: rand_chacha::ChaCha8Rng,
    pub(super) born: u64,
    activations: u64,
    pub(super) depth: u32,
    pub(super) silent: bool,
    /// The first fault of an expression that was worked out silently.
    pub(super) unanswered: Option<(crate::finding::RuleName, crate::source::Span)>,
    /// An activation was ended inside an expression: what is left of that is worked out for nothing.
    pub(super) unwinding: bool,
    /// When it is stopped.
    pub limits: Limits,
    steps: u32,
    /// How much was judged because of writes since the run was last quiet.
    judged: u64,
    dispatches: u32,
    beginnings: u32,
    /// How many dispatches there were in all.
    pub dispatched: u64,
    /// How many steps it has taken and values it has judged so far: what it cost.
    pub worked: u64,
    spare: Vec<Vec<Option<Value>>>,
    order: FxHashMap<CellId, String>,
}

impl<'l, 'p, O: Observer> Machine<'l, 'p, O> {
    /// A program that has not begun its first run.
    pub fn new(layout: &'l Layout<'p>, seed: u64, observer: O) -> Self {
        Self {
            layout,
            memory: Memory::new(layout),
            observer,
            scene: None,
            now: 0,
            began: 0,
            queue: Queue::default(),
            sleeping: BTreeMap::new(),
            waiting: Vec::new(),
            questions: VecDeque::new(),
            labels: BTreeMap::new(),
            faults: Vec::new(),
            stopped: None,
            pass: Pass::default(),
            suspects: Suspects::default(),
            draws: rand_chacha::ChaCha8Rng::seed_from_u64(seed),
            born: 0,
            activations: 0,
            depth: 0,
            silent: false,
            unanswered: None,
            unwinding: false,
            limits: Limits::default(),
            steps: 0,
            judged: 0,
            dispatches: 0,
            beginnings: 0,
            dispatched: 0,
            worked: 0,
            spare: Vec::new(),
            order: FxHashMap::default(),
        }
    }

    // ---- what can be done from outside ----

    /// Begins the first run.
    pub fn start(&mut self) {
        self.pass.restart = true;
        self.end_dispatch();
        self.drain();
    }

    /// The game sends a signal.
    pub fn fire(&mut self, signal: SignalId, arguments: impl IntoIterator<Item = Value>, reach: Reach) {
        self.queue.push(Trigger::Signal { signal, arguments: arguments.into_iter().collect(), reach });
        self.drain();
    }

    /// Lets ticks pass.
    pub fn pass(&mut self, ticks: u64) {
        let last = self.now.saturating_add(ticks);
        while self.stopped.is_none() {
            let next = self.next_moment(last);
            if next > last {
                break;
            }
            self.now = next;
            self.queue_due();
            self.drain();
        }
        if self.stopped.is_none() {
            self.now = last;
        }
    }

    /// Whether nothing happens by itself: no handler answers to time, and nothing waits for a moment.
    #[must_use]
    pub fn is_idle(&self) -> bool {
        let answers = &self.layout.answers;
        answers.tick.is_empty() && answers.every.is_empty() && self.sleeping.is_empty()
    }

    /// The next moment, up to `last`, at which something is due; past it where nothing is.
    fn next_moment(&self, last: u64) -> u64 {
        let answers = &self.layout.answers;
        let mut next = last.saturating_add(1);
        if !answers.tick.is_empty() {
            next = self.now + 1;
        }
        for &(length, _) in &answers.every {
            let passed = self.now - self.began;
            next = next.min(self.began.saturating_add((passed / length + 1).saturating_mul(length)));
        }
        if let Some(&(due, _)) = self.sleeping.keys().next() {
            next = next.min(due.max(self.now + 1));
        }
        next
    }

    /// Answers the oldest open question with one of its choices, counted from 0.
    ///
    /// # Errors
    /// How many choices there are, where that one is not among them; none where nothing is asked.
    pub fn choose(&mut self, choice: usize) -> Result<(), Option<usize>> {
        let Some(question) = self.questions.front() else { return Err(None) };
        let Some(&block) = question.blocks.get(choice) else { return Err(Some(question.blocks.len())) };
        if let Some(mut question) = self.questions.pop_front() {
            self.go_on_at(&mut question.activation, block);
            self.queue.push(Trigger::Resume(question.activation));
            self.drain();
        }
        Ok(())
    }

    /// Puts a value in place, as the game or the designer does between dispatches.
    pub fn set(&mut self, cell: CellId, of: Option<InstanceAt>, value: Option<Value>) {
        self.write(cell, of, value, None);
        self.suspects.clear();
        self.queue_changes();
        self.drain();
    }

    /// Makes a new instance of an actor, and runs its `spawn` handlers.
    pub fn spawn(&mut self, actor: OwnerId) -> InstanceAt {
        let at = self.make_new(actor);
        self.end_dispatch();
        self.drain();
        at
    }

    /// Loads another scene.
    pub fn go(&mut self, scene: OwnerId) {
        self.pass.go = Some(scene);
        self.end_dispatch();
        self.drain();
    }

    /// Ends the run and begins the next.
    pub fn restart(&mut self) {
        self.pass.restart = true;
        self.end_dispatch();
        self.drain();
    }

    // ---- the loop ----

    /// Dispatches until nothing more is to be done at this moment.
    fn drain(&mut self) {
        self.dispatches = 0;
        self.beginnings = 0;
        self.steps = 0;
        self.judged = 0;
        let mut asked = 0;
        while self.stopped.is_none() {
            let Some(trigger) = self.queue.pop().or_else(|| self.next_ready()) else {
                // Who was asked may have done something on the way, as often as it is asked.
                asked += 1;
                if self.queue.is_empty() || asked >= MOST_ASKED {
                    break;
                }
                continue;
            };
            self.dispatch(trigger);
            self.dispatches += 1;
            self.dispatched += 1;
            if self.dispatches > self.limits.dispatches {
                let at = self.somewhere();
                self.stop(at, "signals or changes set each other off without an end");
            }
        }
    }

    fn somewhere(&self) -> Location {
        self.faults
            .last()
            .map_or(Location { file: crate::source::FileId(0), span: Default::default() }, |fault| fault.at)
    }

    /// The first `wait until` whose condition holds.
    fn next_ready(&mut self) -> Option<Trigger> {
        let mut at = 0;
        while let Some(next) = self.waiting.get_mut(at) {
            let begun = next.begun;
            let mut activation = std::mem::replace(next, Box::new(Activation::nobody(begun)));
            let ready = self.is_ready(&mut activation);
            // Who asks may remove instances on the way, and with them what waited before it, or itself.
            at = self.waiting.partition_point(|other| other.begun < begun);
            if self.waiting.get(at).is_none_or(|other| other.begun != begun) {
                continue;
            }
            if ready || activation.ended {
                self.waiting.remove(at);
            } else {
                self.waiting[at] = activation;
                at += 1;
                continue;
            }
            if !activation.ended {
                return Some(Trigger::Resume(activation));
            }
            self.tell(&Happening::Dropped { id: activation.id });
        }
        None
    }

    fn queue_due(&mut self) {
        let mut due: Vec<Box<Activation>> = Vec::new();
        while let Some(entry) = self.sleeping.first_entry() {
            if entry.key().0 > self.now {
                break;
            }
            due.push(entry.remove());
        }
        due.sort_by_key(|activation| activation.begun);
        due.into_iter().for_each(|activation| self.queue.push(Trigger::Resume(activation)));
        if !self.layout.answers.tick.is_empty() {
            self.queue.push(Trigger::Tick);
        }
        let passed = self.now - self.began;
        for (at, (length, _)) in self.layout.answers.every.iter().enumerate() {
            if passed > 0 && passed.is_multiple_of(*length) {
                self.queue.push(Trigger::Every(at));
            }
        }
    }

    fn dispatch(&mut self, trigger: Trigger) {
        let answers = &self.layout.answers;
        match trigger {
            Trigger::Signal { signal, arguments, reach } => {
                for &handler in answers.signals.get(&signal).into_iter().flatten() {
                    self.run_all(handler, reach, &arguments, &None);
                }
            }
            Trigger::Changed { cell, of, old } => {
                for &handler in answers.changed.get(&cell).into_iter().flatten() {
                    if let Some(reach) = self.change_reach(handler, of) {
                        self.run_all(handler, reach, &[], &old);
                    }
                }
            }
            Trigger::Removed(at) => {
                let actor = self.memory.instances[at.0 as usize].actor;
                for &handler in answers.removed.get(&actor).into_iter().flatten() {
                    if self.may_run(handler) {
                        self.begin(handler, Some(at), &[], &None);
                    }
                }
                self.forget_once_through(at);
            }
            Trigger::Tick => {
                for &handler in &answers.tick {
                    self.run_all(handler, Reach::All, &[], &None);
                }
            }
            Trigger::Every(at) => {
                for &handler in &answers.every[at].1 {
                    self.run_all(handler, Reach::All, &[], &None);
                }
            }
            Trigger::Resume(activation) => {
                let gone = activation.of.filter(|&of| self.memory.there(of).is_none());
                self.resume(activation);
                gone.into_iter().for_each(|at| self.forget_once_through(at));
            }
        }
        self.end_dispatch();
    }

    /// The last values of a removed instance go once none of its `removed` handlers waits, or is to come, any more.
    fn forget_once_through(&mut self, at: InstanceAt) {
        let actor = self.memory.instances[at.0 as usize].actor;
        let answered = self.layout.answers.removed.contains_key(&actor);
        let waits = || self.parked().any(|activation| activation.of == Some(at));
        if !answered || !(self.queue.has_removed(at) || waits()) {
            self.memory.forget(at);
        }
    }

    /// All activations that wait, or are about to go on.
    fn parked(&self) -> impl Iterator<Item = &Activation> {
        let asleep = self.sleeping.values().chain(&self.waiting).map(|activation| &**activation);
        asleep.chain(self.questions.iter().map(|question| &*question.activation)).chain(self.queue.resuming())
    }

    /// Whom the change of a variable concerns: where each instance has its own, a script's own one concerns it alone.
    fn change_reach(&self, handler: HandlerId, of: Option<InstanceAt>) -> Option<Reach> {
        let at = self.layout.handlers[handler.index()];
        let unit = self.layout.project.script(at.script);
        let place = unit.place(unit.handlers[at.index].changed?);
        match (place, of) {
            (Place::Variable(_, Base::Own) | Place::Private(_), Some(of)) => Some(Reach::Only(of)),
            (Place::Variable(variable, Base::Listed(_)), Some(of))
                if Some(self.layout.project.registry.var(variable).owner) == unit.owner =>
            {
                Some(Reach::Only(of))
            }
            (Place::Variable(_, Base::Listed(listed)), of) => (self.memory.listed(listed) == of).then_some(Reach::All),
            _ => Some(Reach::All),
        }
    }

    /// What a dispatch leads to: changes that someone listens to, another run, another scene.
    fn end_dispatch(&mut self) {
        self.queue_changes();
        while self.stopped.is_none() {
            if std::mem::take(&mut self.pass.restart) {
                self.begin_run();
            } else if let Some(scene) = self.pass.go.take() {
                self.change_scene(scene);
            } else {
                return;
            }
            self.queue_changes();
            self.beginnings += 1;
            if self.beginnings > self.limits.beginnings {
                let at = self.somewhere();
                self.stop(at, "runs or scenes follow one another without an end");
            }
        }
    }

    fn queue_changes(&mut self) {
        let mut before = std::mem::take(&mut self.pass.before);
        before.retain(|(cell, of, old)| self.memory.get(*cell, *of) != *old);
        if before.len() > 1 {
            for &(cell, ..) in &before {
                let layout = self.layout;
                self.order.entry(cell).or_insert_with(|| identity(layout, cell));
            }
            let order = &self.order;
            before.sort_by(|a, b| (order.get(&a.0), a.1).cmp(&(order.get(&b.0), b.1)));
        }
        for (cell, of, old) in before {
            self.queue.push(Trigger::Changed { cell, of, old });
        }
    }

    // ---- who answers ----

    /// Whether a handler's scene is loaded.
    fn may_run(&self, handler: HandlerId) -> bool {
        let script = self.layout.handlers[handler.index()].script;
        self.layout.project.script(script).scene.is_none_or(|scene| self.scene == Some(scene))
    }

    /// Runs a handler for each instance that it answers for.
    fn run_all(&mut self, handler: HandlerId, reach: Reach, arguments: &[Value], old: &Option<Value>) {
        if !self.may_run(handler) || self.stopped.is_some() {
            return;
        }
        let at = self.layout.handlers[handler.index()];
        let Some(owner) = self.layout.project.script(at.script).owner else { return };
        if !self.layout.project.registry.is_actor(owner) {
            if !matches!(reach, Reach::Only(_)) {
                self.begin(handler, None, arguments, old);
            }
            return;
        }
        match reach {
            Reach::NoInstance => {}
            Reach::Only(of) | Reach::Happens(of) => {
                let instance = &self.memory.instances[of.0 as usize];
                if instance.alive && instance.actor == owner {
                    self.begin(handler, Some(of), arguments, old);
                }
            }
            Reach::All => {
                let live: SmallVec<[InstanceAt; 8]> = self.memory.live(owner).iter().copied().collect();
                for of in live {
                    if self.memory.there(of).is_some() {
                        self.begin(handler, Some(of), arguments, old);
                    }
                }
            }
        }
    }

    // ---- runs and scenes ----

    fn begin_run(&mut self) {
        for at in self.memory.all_live() {
            self.memory.end(at);
            self.memory.forget(at);
        }
        self.queue.clear();
        self.sleeping.clear();
        self.waiting.clear();
        self.questions.clear();
        self.labels.clear();
        self.pass = Pass::default();
        self.suspects.clear();
        self.began = self.now;
        self.tell(&Happening::Run);
        let layout = self.layout;
        let registry = &layout.project.registry;
        let first = self.now == 0 && self.born == 0;
        self.memory.reset_shared(|cell| {
            let lifetime = layout.cells[cell.index()].variable.map(|id| registry.var(id).lifetime);
            first || lifetime.is_none_or(|lifetime| lifetime == Lifetime::Run)
        });
        self.scene = layout.project.config.first_scene.as_deref().and_then(|name| registry.find_owner(name));
        let first_scene = self.scene;
        let made = self.make_listed(|scene| scene.is_none() || scene == first_scene);
        for &handler in &layout.answers.start {
            self.run_all(handler, Reach::All, &[], &None);
        }
        self.run_spawn(&made);
        for &handler in &layout.answers.enter {
            if self.scene.is_some() {
                self.run_all(handler, Reach::All, &[], &None);
            }
        }
    }

    /// Makes the listed instances of the scenes that are meant.
    fn make_listed(&mut self, meant: impl Fn(Option<OwnerId>) -> bool) -> Vec<InstanceAt> {
        let registry = &self.layout.project.registry;
        let wanted: Vec<InstanceId> = (0..registry.instances.len())
            .map(InstanceId::at)
            .filter(|&id| meant(registry.instance(id).scene) && self.memory.listed(id).is_none())
            .collect();
        self.born += 1;
        wanted.into_iter().map(|id| self.memory.make_listed(id)).collect()
    }

    /// The `spawn` handlers of new instances, in script order, then by instance.
    fn run_spawn(&mut self, made: &[InstanceAt]) {
        let mut wanted: Vec<(HandlerId, InstanceAt)> = Vec::new();
        for &at in made {
            let actor = self.memory.instances[at.0 as usize].actor;
            let handlers = self.layout.answers.spawn.get(&actor).into_iter().flatten();
            wanted.extend(handlers.map(|&handler| (handler, at)));
        }
        wanted.sort_unstable();
        for (handler, at) in wanted {
            if self.may_run(handler) && self.memory.there(at).is_some() {
                self.begin(handler, Some(at), &[], &None);
            }
        }
    }

    /// Makes a new instance and runs its `spawn` handlers at once.
    pub(super) fn make_new(&mut self, actor: OwnerId) -> InstanceAt {
        self.born += 1;
        let at = self.memory.make_new(actor, self.scene);
        self.run_spawn(&[at]);
        at
    }

    fn change_scene(&mut self, scene: OwnerId) {
        let layout = self.layout;
        for &handler in &layout.answers.leave {
            if self.scene.is_some() {
                self.run_all(handler, Reach::All, &[], &None);
            }
        }
        self.pass.go = None;
        let left = self.scene;
        for at in self.memory.all_live() {
            if left.is_some() && self.memory.instances[at.0 as usize].scene == left {
                self.drop_waiting(|activation| activation.of == Some(at));
                self.memory.end(at);
                self.memory.forget(at);
            }
        }
        // Also what waits for one that was removed before, and stood in that scene.
        let stood = |at: &InstanceAt| left.is_some() && self.memory.instances[at.0 as usize].scene == left;
        let gone: Vec<InstanceAt> = self.parked().filter_map(|activation| activation.of).filter(stood).collect();
        self.drop_waiting(|activation| {
            let own = layout.project.script(activation.script).scene;
            own.is_some() && own == left || activation.of.is_some_and(|of| gone.contains(&of))
        });
        self.queue_changes();
        self.scene = Some(scene);
        self.tell(&Happening::Scene(scene));
        let registry = &layout.project.registry;
        let of_scene = |cell: CellId| match layout.project.cells[cell.index()] {
            crate::project::Cell::Variable(id) => registry.var(id).owner == scene,
            crate::project::Cell::Private(script, _) => layout.project.script(script).scene == Some(scene),
        };
        self.memory.reset_shared(of_scene);
        for at in self.memory.all_live() {
            self.memory.reset_instance(at, |cell| layout.cells[cell.index()].variable.is_none() && of_scene(cell));
        }
        let made = self.make_listed(|of| of == Some(scene));
        self.run_spawn(&made);
        for &handler in &layout.answers.enter {
            self.run_all(handler, Reach::All, &[], &None);
        }
    }

    /// Drops what waits, where it is meant.
    pub(super) fn drop_waiting(&mut self, meant: impl Fn(&Activation) -> bool) {
        let mut dropped: Vec<u64> = Vec::new();
        let mut stays = |activation: &Activation| {
            let stays = !meant(activation);
            if !stays {
                dropped.push(activation.id);
            }
            stays
        };
        self.sleeping.retain(|_, activation| stays(activation));
        self.waiting.retain(|activation| stays(activation));
        self.questions.retain(|question| stays(&question.activation));
        self.queue.retain_resuming(stays);
        dropped.into_iter().for_each(|id| self.tell(&Happening::Dropped { id }));
    }

    /// An instance is removed: what waits for it is dropped, and its `removed` handlers are queued.
    pub(super) fn remove(&mut self, at: InstanceAt) {
        if self.memory.there(at).is_none() {
            return;
        }
        self.drop_waiting(|activation| activation.of == Some(at));
        self.note_lost(at);
        self.memory.end(at);
        self.queue.push(Trigger::Removed(at));
    }

    /// A `ref` that someone listens to and that holds the instance is about to become *none*.
    fn note_lost(&mut self, gone: InstanceAt) {
        for &cell in self.layout.answers.changed.keys() {
            let holders: Vec<Option<InstanceAt>> = match self.layout.cells[cell.index()].home {
                Home::Shared(_) => vec![None],
                Home::Each(actor, _) => self.memory.live(actor).iter().map(|&at| Some(at)).collect(),
            };
            for of in holders {
                if self.memory.get(cell, of) == Some(Value::Ref(Some(gone))) {
                    self.note_before(cell, of);
                }
            }
        }
    }

    /// Keeps what a cell was when the dispatch began.
    pub(super) fn note_before(&mut self, cell: CellId, of: Option<InstanceAt>) {
        if !self.pass.before.iter().any(|(known, other, _)| *known == cell && *other == of) {
            let old = self.memory.get(cell, of);
            self.pass.before.push((cell, of, old));
        }
    }

    /// Queues a signal that a script sends.
    pub(super) fn queue_signal(&mut self, signal: SignalId, arguments: SmallVec<[Value; 2]>, reach: Reach) {
        self.queue.push(Trigger::Signal { signal, arguments, reach });
    }

    /// Puts an activation aside until what it waits for has come.
    pub(super) fn park(&mut self, mut activation: Box<Activation>, until: Parked) {
        self.born += 1;
        activation.begun = self.born;
        if self.sleeping.len() + self.waiting.len() + self.questions.len() >= self.limits.waiting {
            let at = self.place_of(&activation);
            self.stop(at, "activations pile up: too many of them wait at once");
            return;
        }
        match until {
            Parked::Ticks(0) => self.queue.push(Trigger::Resume(activation)),
            Parked::Ticks(ticks) => {
                self.sleeping.insert((self.now.saturating_add(ticks), self.born), activation);
            }
            Parked::Until => self.waiting.push(activation),
            Parked::Question { text, choices, blocks } => {
                self.questions.push_back(Question { text, choices, blocks, activation });
            }
        }
    }

    // ---- small helpers ----

    /// Counts a step; a run that takes too many is stopped.
    #[inline]
    pub(super) fn count_step(&mut self, activation: &Activation) -> bool {
        self.steps += 1;
        self.worked += 1;
        if self.steps > self.limits.steps {
            let at = self.place_of(activation);
            self.stop(at, "a loop goes round without an end and without a wait");
        }
        self.stopped.is_none()
    }

    /// Counts what is judged because of a write; a run in which that grows without an end is stopped.
    pub(super) fn count_judged(&mut self, count: usize, at: Option<Location>) {
        self.judged += count as u64;
        if self.judged > u64::from(self.limits.steps) {
            let at = at.unwrap_or_else(|| self.somewhere());
            self.stop(at, "there are more and more instances, and what is written here is judged for each of them");
        }
    }

    /// Stops the run.
    pub(super) fn stop(&mut self, at: Location, message: &str) {
        if self.stopped.is_none() {
            self.stopped = Some(Stopped { at, message: message.to_owned() });
        }
    }

    pub(super) fn tell(&mut self, happening: &Happening<'_>) {
        self.observer.see(self.now, &self.memory, happening);
    }

    /// A number for a new activation.
    pub(super) fn next_id(&mut self) -> u64 {
        self.activations += 1;
        self.activations
    }

    /// An empty environment, used again where there is one.
    pub(super) fn environment(&mut self, count: usize) -> Vec<Option<Value>> {
        let mut values = self.spare.pop().unwrap_or_default();
        values.clear();
        values.resize(count, None);
        values
    }

    /// Takes an environment back.
    pub(super) fn recycle(&mut self, values: Vec<Option<Value>>) {
        if self.spare.len() < 64 {
            self.spare.push(values);
        }
    }

    /// A draw from 0 up to, but not including, 1.
    #[allow(clippy::cast_precision_loss, reason = "53 bits fit a float exactly")]
    pub(super) fn draw(&mut self) -> f64 {
        (self.draws.next_u64() >> 11) as f64 / (1_u64 << 53) as f64
    }

    /// A whole number from `low` to `high`, both included, in either order.
    pub(super) fn draw_whole(&mut self, low: i64, high: i64) -> i64 {
        let (low, high) = (low.min(high), low.max(high));
        let span = (i128::from(high) - i128::from(low) + 1).unsigned_abs();
        let drawn = (u128::from(self.draws.next_u64()) * span) >> 64;
        i64::try_from(i128::from(low) + i128::try_from(drawn).unwrap_or(0)).unwrap_or(low)
    }
}

/// `owner.name`; a private's name stands alone.
fn identity(layout: &Layout<'_>, cell: CellId) -> String {
    match layout.cells[cell.index()].variable {
        Some(id) => layout.project.registry.identity(id),
        None => String::new(),
    }
}
