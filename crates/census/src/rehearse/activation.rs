//! Activations: one run of one handler's body, over its control-flow graph.
//!
//! What an activation must remember while it waits is a [`Frame`] for the body it is in, and one for each body that called
//! it: where in it, the locals, and how far its loops have come. So a wait anywhere is a matter of putting the
//! activation aside.

use super::code::Code;
use super::layout::{InstanceAt, Locals, duration_ticks};
use super::machine::{Happening, Machine, Observer, Reach};
use super::value::{Value, whole};
use crate::flow::access::Body;
use crate::flow::graph::{Block, BlockId, Exit, Graph, Offer, StepKind, Waiting};
use crate::flow::world::HandlerId;
use crate::project::{Meaning, PlaceId, ProcId, ScriptId, ScriptUnit};
use crate::registry::{OwnerId, SignalId};
use crate::script::ast::{AssignOp, BinaryOp, Duration, ExprId, ExprKind, LocalId, Name};
use crate::source::{Location, Span};
use smallvec::SmallVec;
use std::ops::ControlFlow;

/// How deep procedures may stand inside one another.
const MOST_FRAMES: usize = 10_000;
/// How deep `spawn` handlers may spawn.
const MOST_SPAWNS: u32 = 60;

/// What a loop still has to do.
#[derive(Clone, Debug)]
enum Rounds {
    /// Rounds of a `repeat`.
    Left(u64),
    /// Instances of a `for`, the next one last.
    Instances(Vec<InstanceAt>),
}

/// A body that is being run.
#[derive(Clone, Debug)]
struct Frame {
    body: Body,
    /// The next operation.
    at: u32,
    locals: Locals,
    values: Vec<Option<Value>>,
    rounds: SmallVec<[(BlockId, Rounds); 1]>,
}

impl Frame {
    /// At the beginning of a body.
    fn new(body: Body, locals: Locals, values: Vec<Option<Value>>) -> Self {
        Self { body, at: 0, locals, values, rounds: SmallVec::new() }
    }
}

/// One run of one handler's body.
#[derive(Clone, Debug)]
pub struct Activation {
    /// The handler.
    pub handler: HandlerId,
    /// Its script.
    pub script: ScriptId,
    /// The instance that it runs for.
    pub of: Option<InstanceAt>,
    /// When it was begun, or its present wait was: a running number.
    pub begun: u64,
    /// What it is known by for as long as it lives; an `after` block goes under its handler's number.
    pub id: u64,
    /// The old value, in `on changed`.
    pub(super) was: Option<Value>,
    /// The innermost body.
    frame: Frame,
    /// The bodies that called it, the outermost first.
    callers: Vec<Frame>,
    /// What the last procedure gave.
    result: Option<Value>,
    /// The condition of a `wait until`.
    until: Option<ExprId>,
    /// It is over, whatever its frames say.
    pub(super) ended: bool,
}

/// What an activation waits for.
#[derive(Debug)]
pub(super) enum Parked {
    Ticks(u64),
    Until,
    Question { text: String, choices: Vec<String>, blocks: Vec<BlockId> },
}

/// How an activation goes on. What it waits for is boxed, since most steps just go on.
enum Next {
    On,
    Done,
    Park(Box<Parked>),
}

impl Activation {
    /// One that does nothing.
    pub(super) fn nobody(begun: u64) -> Self {
        Self { begun, ..Self::onlooker(None) }
    }

    fn new(handler: HandlerId, script: ScriptId, of: Option<InstanceAt>, frame: Frame) -> Self {
        Self {
            handler,
            script,
            of,
            begun: 0,
            id: 0,
            was: None,
            frame,
            callers: Vec::new(),
            result: None,
            until: None,
            ended: false,
        }
    }

    /// One that only looks at expressions, for an instance.
    pub(super) fn onlooker(of: Option<InstanceAt>) -> Self {
        Self::new(HandlerId(0), ScriptId(0), of, Frame::new(Body::Handler(0), Locals::default(), Vec::new()))
    }

    /// Goes on at an operation of the innermost body.
    #[inline]
    pub(super) fn go_to(&mut self, at: u32) {
        self.frame.at = at;
    }

    /// The value of a local.
    #[inline]
    pub(super) fn local(&self, local: LocalId) -> Option<&Value> {
        let at = local.0.checked_sub(self.frame.locals.first)?;
        self.frame.values.get(at as usize)?.as_ref()
    }

    /// Gives a local a value.
    #[inline]
    pub(super) fn set_local(&mut self, local: LocalId, value: Value) {
        if let Some(at) = local.0.checked_sub(self.frame.locals.first)
            && let Some(slot) = self.frame.values.get_mut(at as usize)
        {
            *slot = Some(value);
        }
    }
}

impl<'l, 'p, O: Observer> Machine<'l, 'p, O> {
    // ---- beginning and ending ----

    /// A handler's turn: its filters and its `when` are tested, then its body runs to its end or first wait.
    pub(super) fn begin(
        &mut self,
        handler: HandlerId,
        of: Option<InstanceAt>,
        arguments: &[Value],
        old: &Option<Value>,
    ) {
        if self.stopped.is_some() {
            return;
        }
        let at = self.layout.handlers[handler.index()];
        let unit = self.layout.project.script(at.script);
        let parameters = &unit.handlers[at.index].parameters;
        if !parameters.iter().zip(arguments).all(|((_, filter), value)| self.lets_pass(*filter, value)) {
            return;
        }
        let locals = self.layout.handler_locals[at.script.index()][at.index];
        let frame = self.frame(Body::Handler(at.index), locals);
        let mut activation = Activation::new(handler, at.script, of, frame);
        activation.was.clone_from(old);
        for ((local, _), value) in parameters.iter().zip(arguments) {
            let ty = unit.local_types[local.0 as usize];
            let value = self.present(value.clone()).fitted(ty);
            activation.set_local(*local, value);
        }
        if let Some(when) = unit.tree.handlers[at.index].when
            && !self.is_so(&mut activation, unit, when)
        {
            self.settle(); // A procedure that the test called may have written something.
            return self.finish(&mut activation);
        }
        activation.id = self.next_id();
        self.tell(&Happening::Began { id: activation.id, handler, of, resumed: false });
        match self.run(&mut activation) {
            Some(until) => self.park(Box::new(activation), until),
            None => self.finish(&mut activation),
        }
    }

    fn lets_pass(&self, filter: Option<OwnerId>, value: &Value) -> bool {
        let Some(actor) = filter else { return true };
        matches!(value, Value::Ref(Some(at)) if self.memory.there(*at).is_some()
            && self.memory.instances[at.0 as usize].actor == actor)
    }

    fn frame(&mut self, body: Body, locals: Locals) -> Frame {
        let values = self.environment(locals.count as usize);
        Frame::new(body, locals, values)
    }

    /// An activation goes on after its wait.
    pub(super) fn resume(&mut self, mut activation: Box<Activation>) {
        activation.until = None;
        let (id, handler, of) = (activation.id, activation.handler, activation.of);
        self.tell(&Happening::Began { id, handler, of, resumed: true });
        match self.run(&mut activation) {
            Some(until) => self.park(activation, until),
            None => self.finish(&mut activation),
        }
    }

    /// Whether what an activation waits for is so.
    pub(super) fn is_ready(&mut self, activation: &mut Activation) -> bool {
        let unit = self.layout.project.script(activation.script);
        activation.until.is_none_or(|until| self.is_so(activation, unit, until))
    }

    /// Runs an activation to its end, or to its next wait and tells what for.
    fn run(&mut self, activation: &mut Activation) -> Option<Parked> {
        let next = loop {
            match self.advance(activation) {
                Next::On => {}
                next => break next,
            }
        };
        self.unwinding = false;
        // What was cut short has not settled.
        if self.stopped.is_none() {
            self.settle();
        }
        self.tell(&Happening::Ended { waits: matches!(next, Next::Park(_)) });
        match next {
            Next::Park(until) if self.stopped.is_none() => Some(*until),
            _ => None,
        }
    }

    fn finish(&mut self, activation: &mut Activation) {
        self.unwinding = false;
        self.recycle(std::mem::take(&mut activation.frame.values));
        while let Some(caller) = activation.callers.pop() {
            self.recycle(caller.values);
        }
    }

    /// Where an activation stands.
    pub(super) fn place_of(&self, activation: &Activation) -> Location {
        let unit = self.layout.project.script(activation.script);
        let body = activation.frame.body;
        let (block, step) = self.code(activation.script, body).place(activation.frame.at.saturating_sub(1));
        let block = &self.graph(activation.script, body).blocks[block.index()];
        unit.at(block.steps.get(step).map_or(block.exit_span, |step| step.span))
    }

    fn code(&self, script: ScriptId, body: Body) -> &'l Code {
        let layout = self.layout;
        let codes = &layout.codes[script.index()];
        match body {
            Body::Handler(at) => &codes.handlers[at],
            Body::Procedure(id) => &codes.procedures[id.index()],
        }
    }

    fn graph(&self, script: ScriptId, body: Body) -> &'p Graph {
        let graphs: &'p crate::flow::world::Graphs = &self.layout.graphs[script.index()];
        match body {
            Body::Handler(at) => &graphs.handlers[at],
            Body::Procedure(id) => &graphs.procedures[id.index()],
        }
    }

    /// An activation goes on at a block of its innermost body.
    pub(super) fn go_on_at(&self, activation: &mut Activation, block: BlockId) {
        activation.frame.at = self.code(activation.script, activation.frame.body).start(block);
    }

    // ---- one step ----

    /// Runs the innermost body to its end, or up to a call or a wait.
    fn advance(&mut self, activation: &mut Activation) -> Next {
        let code = self.code(activation.script, activation.frame.body);
        loop {
            let at = activation.frame.at;
            let op = &code.ops[at as usize];
            activation.frame.at += 1;
            if !self.count_step(activation) {
                return Next::Done;
            }
            if self.does_quickly(activation, op) {
                continue;
            }
            if let Some(next) = self.does(activation, code.place(at)) {
                return next;
            }
        }
    }

    /// Does a step, or what a block ends with, the general way; tells how the activation goes on where the body does not.
    #[inline(never)]
    fn does(&mut self, activation: &mut Activation, (at, step): (BlockId, usize)) -> Option<Next> {
        let graph = self.graph(activation.script, activation.frame.body);
        let unit = self.layout.project.script(activation.script);
        let block: &'p Block = &graph.blocks[at.index()];
        let next = match block.steps.get(step) {
            Some(step) => match self.step(activation, unit, &step.kind, step.span, block) {
                // A call goes on in a body of its own.
                Next::On if !matches!(step.kind, StepKind::Call(_)) => None,
                next => Some(next),
            },
            None => match self.exit(activation, unit, at, block) {
                ControlFlow::Continue(next) => {
                    self.go_on_at(activation, next);
                    None
                }
                ControlFlow::Break(next) => Some(next),
            },
        };
        if activation.ended || self.stopped.is_some() { Some(Next::Done) } else { next }
    }

    fn step(
        &mut self,
        activation: &mut Activation,
        unit: &'p ScriptUnit,
        kind: &StepKind,
        span: Span,
        block: &Block,
    ) -> Next {
        match kind {
            StepKind::Assign { target, place, axis, op, value } => {
                self.assign(activation, unit, (*target, *place, *axis), *op, *value, span);
            }
            StepKind::Clear { target, place } => self.clear(activation, unit, *target, *place, span),
            StepKind::Let { place, value } => {
                let value = self.eval(activation, unit, *value);
                self.bind(activation, unit, *place, value);
            }
            StepKind::Read(value) => {
                self.eval(activation, unit, *value);
            }
            StepKind::Begin { head, count, at_once, .. } => {
                self.begin_loop(activation, unit, *head, *count);
                if *at_once {
                    self.next_round(activation, *head);
                }
            }
            StepKind::Wait(waiting) => return self.wait(activation, unit, *waiting, block),
            StepKind::Send { signal, arguments, to } => {
                self.send(activation, unit, *signal, arguments, *to, span);
            }
            StepKind::Show { label, text } => self.show(activation, unit, *label, *text),
            StepKind::Hide { label } => self.hide(unit, *label),
            StepKind::Note(text) => {
                let printed = self.text(activation, unit, *text);
                self.tell(&Happening::Noted { text: &printed, at: unit.at(span) });
            }
            StepKind::Spawn { actor, place } => self.spawn_step(activation, unit, *actor, *place, span),
            StepKind::Remove(what) => self.remove_step(activation, unit, *what),
            StepKind::Go(scene) => self.pass.go = scene.or(self.pass.go),
            StepKind::Call(call) => self.call(activation, unit, *call),
            StepKind::Bind { .. } => {}
        }
        Next::On
    }

    fn begin_loop(&mut self, activation: &mut Activation, unit: &'p ScriptUnit, head: BlockId, count: Option<ExprId>) {
        let rounds = match count {
            Some(count) => {
                let times = self.eval(activation, unit, count).as_number().unwrap_or(0.0);
                Rounds::Left(u64::try_from(whole(times)).unwrap_or(0))
            }
            None => {
                let graph = self.graph(activation.script, activation.frame.body);
                let actor = match graph.blocks[head.index()].exit {
                    Exit::Each { actor: Some(actor), .. } => actor,
                    _ => return,
                };
                Rounds::Instances(self.memory.live(actor).iter().rev().copied().collect())
            }
        };
        activation.frame.rounds.retain(|(known, _)| *known != head);
        activation.frame.rounds.push((head, rounds));
    }

    fn wait(&mut self, activation: &mut Activation, unit: &'p ScriptUnit, waiting: Waiting, block: &Block) -> Next {
        match waiting {
            Waiting::Time(duration) => {
                let ticks = self.ticks(activation, unit, duration);
                Next::Park(Box::new(Parked::Ticks(ticks)))
            }
            Waiting::Until(condition) => {
                activation.until = Some(condition);
                Next::Park(Box::new(Parked::Until))
            }
            Waiting::Answer => {
                let Exit::Choose(offers) = &block.exit else { return Next::On };
                self.ask(activation, unit, offers, block)
            }
        }
    }

    fn ask(&mut self, activation: &mut Activation, unit: &'p ScriptUnit, offers: &[Offer], block: &Block) -> Next {
        let asked = block.steps.iter().rev().find_map(|step| match step.kind {
            StepKind::Show { text, .. } => Some(text),
            _ => None,
        });
        let (mut choices, mut blocks) = (Vec::new(), Vec::new());
        for offer in offers {
            let offered = offer.when.is_none_or(|when| self.is_so(activation, unit, when));
            if offered {
                choices.push(self.printed(activation, unit, offer.text));
                blocks.push(offer.block);
            }
        }
        let silent = std::mem::replace(&mut self.silent, true);
        let text = asked.map_or_else(String::new, |text| self.text(activation, unit, text));
        self.silent = silent;
        self.tell(&Happening::Asked { text: &text, choices: &choices, at: unit.at(block.exit_span) });
        Next::Park(Box::new(Parked::Question { text, choices, blocks }))
    }

    /// A duration in whole ticks, rounded up.
    fn ticks(&mut self, activation: &mut Activation, unit: &'p ScriptUnit, duration: Duration) -> u64 {
        let rate = self.layout.project.config.tick_rate;
        match duration {
            Duration::Literal { .. } => duration_ticks(duration, rate),
            Duration::Seconds(value) => {
                let span = unit.tree.expr(value).span;
                let amount = self.eval(activation, unit, value).as_number().unwrap_or(0.0).max(0.0);
                let literal = Duration::Literal { amount, unit: crate::script::ast::DurationUnit::Seconds, span };
                duration_ticks(literal, rate)
            }
        }
    }

    fn send(
        &mut self,
        activation: &mut Activation,
        unit: &'p ScriptUnit,
        signal: Option<SignalId>,
        arguments: &[ExprId],
        to: Option<ExprId>,
        span: Span,
    ) {
        let values: SmallVec<[Value; 2]> =
            arguments.iter().map(|&argument| self.eval(activation, unit, argument)).collect();
        let reach = match to {
            None => Some(Reach::All),
            Some(to) => match self.eval(activation, unit, to) {
                Value::Ref(Some(at)) => Some(Reach::Only(at)),
                _ => {
                    self.through_none(unit, to);
                    None
                }
            },
        };
        if let (Some(signal), Some(reach), false) = (signal, reach, activation.ended) {
            self.tell(&Happening::Sent { signal, at: unit.at(span) });
            self.queue_signal(signal, values, reach);
        }
    }

    fn show(&mut self, activation: &mut Activation, unit: &'p ScriptUnit, label: Option<Name>, text: ExprId) {
        let printed = self.printed(activation, unit, text);
        let label = label.map(|label| self.layout.project.text(unit, label.span));
        if activation.ended {
            return;
        }
        self.tell(&Happening::Shown { label, text: &printed, at: unit.at(unit.tree.expr(text).span) });
        if let Some(label) = label {
            match self.labels.get_mut(label) {
                Some(shown) => *shown = printed,
                None => {
                    self.labels.insert(label.to_owned(), printed);
                }
            }
        }
    }

    /// A text that the player reads: what it prints settles.
    fn printed(&mut self, activation: &mut Activation, unit: &'p ScriptUnit, text: ExprId) -> String {
        let printed = self.text(activation, unit, text);
        if !self.suspects.is_empty() {
            self.settle_printed(activation, unit, text);
        }
        printed
    }

    fn hide(&mut self, unit: &'p ScriptUnit, label: Name) {
        let name = self.layout.project.text(unit, label.span);
        self.labels.remove(name);
        self.tell(&Happening::Hidden { label: name, at: unit.at(label.span) });
    }

    fn spawn_step(
        &mut self,
        activation: &mut Activation,
        unit: &'p ScriptUnit,
        actor: Option<OwnerId>,
        place: Option<PlaceId>,
        span: Span,
    ) {
        let Some(actor) = actor else { return };
        self.settle();
        self.tell(&Happening::Spawned { actor, at: unit.at(span) });
        if self.depth >= MOST_SPAWNS {
            return self.stop(unit.at(span), "`spawn` handlers spawn one another without an end");
        }
        self.depth += 1;
        let made = self.make_new(actor);
        self.depth -= 1;
        if let Some(place) = place {
            let value = self.present(Value::Ref(Some(made)));
            self.bind(activation, unit, place, value);
        }
        self.check_gone(activation);
    }

    fn remove_step(&mut self, activation: &mut Activation, unit: &'p ScriptUnit, what: ExprId) {
        let value = self.eval(activation, unit, what);
        self.settle();
        // One that is gone already is as gone as it was meant to be.
        if let Value::Ref(Some(at)) = value {
            self.remove(at);
            activation.ended |= activation.of == Some(at);
        }
    }

    /// An activation whose instance was removed is over; the `removed` handlers themselves run after that.
    fn check_gone(&self, activation: &mut Activation) {
        let removed = matches!(self.layout.parts(activation.handler).1.trigger, crate::script::ast::Trigger::Removed);
        activation.ended |= !removed && activation.of.is_some_and(|at| self.memory.there(at).is_none());
    }

    /// Gives a local a value.
    fn bind(&mut self, activation: &mut Activation, unit: &'p ScriptUnit, place: PlaceId, value: Value) {
        if let crate::project::Place::Local(local) = unit.place(place) {
            activation.set_local(local, value.fitted(unit.place_types[place.index()]));
        }
    }

    fn clear(&mut self, activation: &mut Activation, unit: &'p ScriptUnit, target: ExprId, place: PlaceId, span: Span) {
        let Some((cell, of)) = self.locate(activation, unit, place, target) else { return };
        let is_ref = matches!(self.layout.cells[cell.index()].ty, crate::registry::Type::Ref(_));
        self.write(cell, of, is_ref.then_some(Value::Ref(None)), Some(unit.at(span)));
    }

    fn assign(
        &mut self,
        activation: &mut Activation,
        unit: &'p ScriptUnit,
        (target, place, axis): (ExprId, PlaceId, Option<u8>),
        op: AssignOp,
        value: ExprId,
        span: Span,
    ) {
        let Some(new) = self.assigned(activation, unit, (target, place, axis), op, value) else { return };
        let new = new.fitted(unit.place_types[place.index()]);
        if let crate::project::Place::Local(local) = unit.place(place) {
            activation.set_local(local, new);
        } else if let Some((cell, of)) = self.locate(activation, unit, place, target) {
            self.write(cell, of, Some(new), Some(unit.at(span)));
        }
    }

    /// The value that an assignment gives; none where the activation ended on the way.
    fn assigned(
        &mut self,
        activation: &mut Activation,
        unit: &'p ScriptUnit,
        (target, place, axis): (ExprId, PlaceId, Option<u8>),
        op: AssignOp,
        value: ExprId,
    ) -> Option<Value> {
        let operation = op.operation();
        let old = match (operation, axis) {
            (None, None) => None,
            _ => Some(self.read(activation, unit, place, target)),
        };
        let given = self.eval(activation, unit, value);
        if activation.ended {
            return None;
        }
        let part = |whole: &Value| axis.map_or_else(|| whole.clone(), |axis| whole.axis(axis));
        let new = match (operation, &old) {
            (None, _) | (_, None) => given,
            (Some(BinaryOp::Divide), Some(old)) => self.divide(unit, &part(old), &given, value),
            (Some(operation), Some(old)) => part(old).combine(operation, &given),
        };
        Some(match (axis, old) {
            (Some(axis), Some(old)) => old.with_axis(axis, new.as_number().unwrap_or(0.0)),
            _ => new,
        })
    }

    // ---- procedures ----

    /// Calls a procedure as a statement: its body runs next.
    fn call(&mut self, activation: &mut Activation, unit: &'p ScriptUnit, call: ExprId) {
        let (Meaning::Procedure(id), ExprKind::Call(_, arguments)) = (unit.meaning(call), &unit.tree.expr(call).kind)
        else {
            self.eval(activation, unit, call);
            return;
        };
        self.enter(activation, unit, id, arguments, call);
    }

    fn enter(
        &mut self,
        activation: &mut Activation,
        unit: &'p ScriptUnit,
        id: ProcId,
        arguments: &[ExprId],
        call: ExprId,
    ) {
        if activation.callers.len() + 1 >= MOST_FRAMES {
            return self.stop(unit.at(unit.tree.expr(call).span), "procedures call one another without an end");
        }
        let values: SmallVec<[Value; 4]> =
            arguments.iter().map(|&argument| self.eval(activation, unit, argument)).collect();
        let locals = self.layout.procedure_locals[activation.script.index()][id.index()];
        let frame = self.frame(Body::Procedure(id), locals);
        activation.callers.push(std::mem::replace(&mut activation.frame, frame));
        for (local, value) in unit.procedures[id.index()].parameters.iter().zip(values) {
            let ty = unit.local_types[local.0 as usize];
            activation.set_local(*local, value.fitted(ty));
        }
    }

    /// Calls a procedure for its value.
    pub(super) fn call_value(
        &mut self,
        activation: &mut Activation,
        unit: &'p ScriptUnit,
        id: ProcId,
        arguments: &[ExprId],
        call: ExprId,
    ) -> Option<Value> {
        let depth = activation.callers.len();
        activation.result = None;
        self.enter(activation, unit, id, arguments, call);
        while activation.callers.len() > depth && !activation.ended && self.stopped.is_none() {
            // A procedure that waits gives no value: that is reported, and here the wait is passed over.
            if matches!(self.advance(activation), Next::Done) {
                activation.ended = true;
            }
        }
        self.unwinding |= activation.ended;
        // What was cut short leaves its frames behind: the expression goes on in the one that it stands in.
        while activation.callers.len() > depth {
            self.leave(activation);
        }
        activation.result.take()
    }

    /// The innermost body is through.
    fn leave(&mut self, activation: &mut Activation) -> Next {
        let Some(caller) = activation.callers.pop() else { return Next::Done };
        let through = std::mem::replace(&mut activation.frame, caller);
        self.recycle(through.values);
        Next::On
    }

    // ---- the ends of blocks ----

    /// Where the body goes on, or else how the activation does.
    fn exit(
        &mut self,
        activation: &mut Activation,
        unit: &'p ScriptUnit,
        head: BlockId,
        block: &'p Block,
    ) -> ControlFlow<Next, BlockId> {
        ControlFlow::Continue(match &block.exit {
            Exit::Goto(next) => *next,
            Exit::Branch { test, yes, no } => {
                if self.is_so(activation, unit, *test) {
                    *yes
                } else {
                    *no
                }
            }
            Exit::Match { subject, arms, otherwise, .. } => {
                let subject = self.eval(activation, unit, *subject);
                let mut taken = *otherwise;
                'arms: for (tests, block) in arms {
                    for &test in tests {
                        if self.eval(activation, unit, test).equals(&subject) {
                            taken = Some(*block);
                            break 'arms;
                        }
                    }
                }
                let Some(taken) = taken else { return ControlFlow::Break(Next::Done) };
                taken
            }
            Exit::Fork { now, later, delay } => {
                let ticks = self.ticks(activation, unit, *delay);
                let frame = activation.frame.clone();
                let mut fork = Activation::new(activation.handler, activation.script, activation.of, frame);
                fork.id = activation.id;
                fork.was.clone_from(&activation.was);
                self.go_on_at(&mut fork, *later);
                self.park(Box::new(fork), Parked::Ticks(ticks));
                *now
            }
            Exit::Each { place, filter, body, done, .. } => {
                self.each(activation, unit, head, (*place, *filter, *body, *done))
            }
            Exit::Repeat { body, done, .. } => {
                if self.next_round(activation, head).is_some() {
                    *body
                } else {
                    *done
                }
            }
            Exit::Return(value) => {
                if let Some(value) = value {
                    let value = self.eval(activation, unit, *value);
                    activation.result = Some(value);
                }
                return ControlFlow::Break(self.leave(activation));
            }
            Exit::End => return ControlFlow::Break(self.leave(activation)),
            Exit::Restart => {
                self.pass.restart = true;
                return ControlFlow::Break(Next::Done);
            }
            Exit::Gone | Exit::Choose(_) => return ControlFlow::Break(Next::Done),
        })
    }

    /// The next round of the loop whose head is reached: none once it is through.
    fn next_round(&mut self, activation: &mut Activation, head: BlockId) -> Option<Option<InstanceAt>> {
        let frame = &mut activation.frame;
        let at = frame.rounds.iter().position(|(known, _)| *known == head)?;
        let next = match &mut frame.rounds[at].1 {
            Rounds::Left(0) => None,
            Rounds::Left(left) => {
                *left -= 1;
                Some(None)
            }
            Rounds::Instances(left) => loop {
                match left.pop() {
                    Some(at) if self.memory.there(at).is_none() => {}
                    next => break next.map(Some),
                }
            },
        };
        if next.is_none() {
            frame.rounds.remove(at);
        }
        next
    }

    fn each(
        &mut self,
        activation: &mut Activation,
        unit: &'p ScriptUnit,
        head: BlockId,
        (place, filter, body, done): (PlaceId, Option<ExprId>, BlockId, BlockId),
    ) -> BlockId {
        while let Some(Some(at)) = self.next_round(activation, head) {
            self.bind(activation, unit, place, Value::Ref(Some(at)));
            if filter.is_none_or(|filter| self.is_so(activation, unit, filter)) {
                return body;
            }
        }
        done
    }
}
