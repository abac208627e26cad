//! Where others can look and act: ends and waits.

use super::*;
use crate::flow::called::procedures;
use crate::flow::world::{Beside, Together};
use std::rc::Rc;

/// What comes of spawning one of an actor's: the same wherever a handler does it.
pub(super) struct Spawning {
    /// What `spawn` handlers do at once.
    effects: Others,
    /// What the new instance's variables hold, by slot.
    pub new: Vec<Option<Value>>,
}

impl<'w> Run<'w, '_> {
    /// An activation, or an `after` block, is through.
    pub(super) fn end(&mut self, mut state: State, span: Span) {
        self.part_before_others(&mut state);
        self.settle(&mut state);
        self.keep_left(&state);
        self.leave_to_answers(&state);
        self.keep_pause(None, span, &state);
    }

    /// Keeps what is left in the place whose changes the handler deals with.
    pub(super) fn keep_left(&mut self, state: &State) {
        let slot = self.world.keeps(self.handler).and_then(|place| self.table.slot(Key::Place(place)));
        let Some(slot) = slot else { return };
        let renews = |&&sent: &&(SignalId, bool)| {
            self.cell_of(slot).is_some_and(|cell| self.world.is_settled_by(self.handler, sent, cell, false))
        };
        if let Some(&(signal, _)) = state.sent.iter().find(renews) {
            self.left_to.insert(signal);
        } else {
            let left = &state.value(slot).value;
            self.kept = Some(self.kept.as_ref().map_or_else(|| left.clone(), |kept| kept.join(left)));
        }
        self.see_modes_of(state, slot);
    }

    fn keep_pause(&mut self, wait: Option<Span>, at: Span, state: &State) {
        let Some(changed) = self.changed_since_begun(state) else { return };
        let &Known { stepped, at_once, waited, later, went, .. } = &**state;
        let forked = state.forked.is_some();
        let to_come = state.forked.is_some_and(PutOff::is_to_come);
        let removed = state.removed.clone();
        let shut = self.world.is_shut(self, state);
        self.pauses.push(Pause {
            wait,
            at,
            changed,
            removed,
            stepped,
            at_once,
            waited,
            forked,
            to_come,
            later,
            went,
            shut,
        });
    }

    /// What the cells hold whose values are others than at the beginning; nothing where that was not kept.
    fn changed_since_begun(&self, state: &State) -> Option<Box<[(Slot, Abstract)]>> {
        let cells = |&(at, _): &(usize, _)| self.table.slots[at].cell.is_some();
        let slot = |at: usize| Slot::try_from(at).unwrap_or(Slot::MAX);
        let changed = state.values.unlike(self.begun.as_ref()?).filter(cells);
        Some(changed.map(|(at, value)| (slot(at), value.clone())).collect())
    }

    pub(super) fn keep_sending(&mut self, state: &State, signal: Option<SignalId>, at: Span) {
        if let (Some(signal), Some(changed)) = (signal, self.changed_since_begun(state)) {
            self.sendings.push(Sending { signal, at, changed });
        }
    }

    /// Keeps what is known as a signal is sent, where others build on that.
    pub(super) fn hand_over(
        &mut self,
        state: &mut State,
        (signal, at): (SignalId, Span),
        arguments: &'w [ExprId],
        to: Option<ExprId>,
    ) {
        if self.quiet || !self.world.hands_over(self.handler, signal) {
            return;
        }
        let to = to.and_then(|to| self.base_of(to));
        let in_turn = self.world.sends_in_turn(self.handler, signal, at);
        let handed = self.handing.entry((signal, !state.alone)).or_default();
        handed.again |= state.handing.iter().any(|&(sent, by)| sent == signal && !(by == at && in_turn));
        let here = match handed.sent.remove(&at) {
            Some(known) => known.state.join(state),
            None => state.clone(),
        };
        handed.sent.insert(at, SentHere { arguments, to, state: here });
        state.handing.push_new((signal, at));
    }

    /// Keeps what is known as the queue goes on, for whoever answers what was sent.
    pub(super) fn leave_to_answers(&mut self, state: &State) {
        let signals = state.handing.iter().filter(|_| !self.quiet);
        for key in signals.flat_map(|&(signal, _)| [(signal, false), (signal, true)]) {
            if let Some(handed) = self.handing.get_mut(&key) {
                let known = handed.left.take();
                handed.left = Some(known.map_or_else(|| state.clone(), |known| known.join(state)));
            }
        }
    }

    pub(super) fn wait_step(&mut self, mut state: State, waiting: Waiting, span: Span) -> Option<State> {
        match waiting {
            Waiting::Answer => Some(state), // Each choice is tested as it is asked, then waits.
            Waiting::Time(duration) => {
                if let Duration::Seconds(value) = duration {
                    self.eval(&mut state, value);
                }
                let ticks = self.ticks(&duration);
                self.wait(state, Some(span), ticks)
            }
            Waiting::Until(test) => {
                let state = self.wait(state, Some(span), None)?;
                let (yes, no) = self.branch(state, test);
                if let Some(mut no) = no.filter(|_| self.calls_procedure(test)) {
                    self.settle(&mut no);
                }
                yes
            }
        }
    }

    /// How many ticks a duration is, where it is written out.
    pub(super) fn ticks(&self, duration: &Duration) -> Option<f64> {
        duration.ticks(self.world.project.config.tick_rate)
    }

    /// Settles, then lets others do what they can, for so many ticks if that is known.
    pub(super) fn wait(&mut self, mut state: State, span: Option<Span>, ticks: Option<f64>) -> Option<State> {
        if let Some(span) = span {
            self.part_before_others(&mut state);
            self.settle(&mut state);
            self.keep_pause(Some(span), span, &state);
        }
        self.leave_to_answers(&state);
        self.overtake(&mut state);
        let world = self.world;
        // Where an `after` block is put off, what its activation goes on to do has been counted.
        let in_later = state.later && span.is_some();
        let may_begin = state.forked.is_some_and(|put_off| put_off.begins_within(ticks));
        let (main, others) = world.goes_on_beside_after(self.handler);
        let beside = Beside {
            main: in_later && main,
            later: in_later && others || may_begin,
            first: !state.waited && !state.later,
            ticks: world.ticks_that_count(self.table, ticks),
        };
        let mut state = world.while_waiting(self, &state, beside);
        for slot in 0..self.table.slots.len() {
            self.after_wait(&mut state, slot);
        }
        state.forked = state.forked.map(|put_off| put_off.later(ticks));
        (state.at_once, state.waited, state.alone) = (false, true, false);
        state.sent = Shared::default();
        state.handing = Shared::default();
        for (slot, left) in &self.left_by_first {
            state.values[*slot as usize] = left.clone();
            state.facts.forget(*slot);
            self.forget_tests(&mut state, |read| read == *slot);
        }
        self.assume_ranges(&mut state);
        self.assume_margins(&mut state);
        Some(self.assume_invariants(state))
    }

    /// Another activation has begun, and stepped up what each does as it begins.
    fn overtake(&mut self, state: &mut State) {
        let one = Num::constant(1.0, true);
        for slot in self.overtaken.clone() {
            let Some(stepped) = state.num(slot).map(|num| num.add(&one)) else { continue };
            let form = Linear::slot(slot).plus(&Linear::constant(1.0), 1.0);
            self.put(state, slot, Abstract::of(Value::Num(stepped)), &[form], &[form]);
        }
    }

    /// An `after` block begins later: what its activation goes on to do from here is done by then. In a procedure that may be
    /// anything that the handler does, since its caller goes on too.
    pub(super) fn let_rest_run(&mut self, state: &mut State, now: BlockId) {
        let mut done = self.world.effects_of_itself(self);
        self.built_on.forked(&done);
        if self.stack.is_empty() {
            let written = self.world.written_from(self.handler);
            let slots = self.table.slots.iter().zip(&mut done);
            slots.filter(|(facts, _)| facts.cell.is_none_or(|cell| !written.contains(now, cell))).for_each(
                |(_, together)| {
                    *together = Together::default();
                },
            );
        }
        let sources = state.sources.clone();
        self.apply(state, &done);
        state.sources = sources; // What is lost there the handler itself writes over.
    }

    /// Whether a body is not through at once from a block on: it waits, or puts something off, also through a procedure.
    pub(super) fn goes_on_later(&self, graph: &Graph, first: BlockId) -> bool {
        let waits = |step: &Step| crate::flow::certain::waits(self.unit, &step.kind);
        let puts_off = |block: &Block| matches!(block.exit, Exit::Fork { .. });
        let bodies = procedures(self.unit, graph.from(first)).into_iter().flat_map(|id| {
            let world = self.world;
            world.bodies(self.script, world.procedure_graph(self.script, id))
        });
        let through_procedures = bodies.flat_map(|body| &body.blocks).any(puts_off);
        through_procedures || graph.from(first).any(|block| puts_off(block) || block.steps.iter().any(waits))
    }

    /// What a wait does beside what others write: names whose instance may be gone, the scene, and what is made anew with that.
    pub(super) fn after_wait(&self, state: &mut State, slot: usize) {
        let facts = &self.table.slots[slot];
        match (facts.key, self.held(state, slot, facts.ty)) {
            (Key::Scene | Key::Instance(_), _) => {
                state.values[slot] = self.world.value_after_wait(self.handler, facts);
                self.forget_tests(state, |read| read as usize == slot);
            }
            (Key::Count(actor), _) if !self.world.is_counted_for_good(actor) => {
                state.facts.forget(Slot::try_from(slot).unwrap_or(Slot::MAX));
                state.values[slot] = self.world.entry_value(self.handler, facts);
                self.forget_tests(state, |read| read as usize == slot);
            }
            (Key::Place(_), Type::Ref(of)) if self.world.may_vanish(self.unit, of) => {
                self.may_be_none(state, slot);
            }
            _ if self.world.may_be_made_anew(self.unit, facts) => {
                state.facts.forget(Slot::try_from(slot).unwrap_or(Slot::MAX));
                state.values[slot] = state.values[slot].join(&self.world.entry_value(self.handler, facts));
                self.forget_tests(state, |read| read as usize == slot);
            }
            _ => {}
        }
    }

    /// The slot that tells whether the instance is there of which an expression reads something.
    fn way_to(&self, expr: ExprId) -> Option<Slot> {
        match self.unit.place(self.unit.place_of(expr)?) {
            Place::Variable(_, Base::Held(held)) => self.slot(held),
            Place::Variable(_, Base::Listed(instance)) => self.table.slot(Key::Instance(instance)),
            _ => None,
        }
    }

    /// Tests, terms and forms about slots whose values are others by now no longer say the same, nor do the flags
    /// themselves.
    pub(in crate::flow) fn forget_tests(&self, state: &mut State, touched: impl Fn(Slot) -> bool) {
        let is_kept = |&(slot, expr): &(Slot, ExprId)| {
            let mut kept = !touched(slot);
            crate::flow::access::walk_expr(self.unit, expr, &mut |inner| {
                kept &= !self.slot_asked(inner).is_some_and(&touched);
                kept &= !self.way_to(inner).is_some_and(&touched);
                kept &= !self.read_by_call(inner).any(&touched);
            });
            kept
        };
        state.tests.retain(is_kept);
        let gone: SmallVec<[Slot; 2]> =
            state.terms.iter().filter(|term| !is_kept(term)).map(|&(slot, _)| slot).collect();
        if !gone.is_empty() {
            state.terms.retain(is_kept);
            state.forget_all(&gone, self.in_loop);
        }
        state.unequal.retain(|form| !form.terms.iter().any(|&(slot, _)| touched(slot)));
    }

    /// What the procedure reads that an expression calls, if it does nothing but work out a value.
    fn read_by_call(&self, expr: ExprId) -> impl Iterator<Item = Slot> + '_ {
        let steady = match self.unit.meaning(expr) {
            Meaning::Procedure(id) => self.unit.procedures[id.index()].steady.as_ref(),
            _ => None,
        };
        steady.into_iter().flatten().filter_map(|&place| self.slot(place))
    }

    /// The slot whose value a name in an expression asks for.
    fn slot_asked(&self, name: ExprId) -> Option<Slot> {
        match self.unit.meaning(name) {
            Meaning::Value(place) | Meaning::Axis(place, _) => self.slot(place),
            Meaning::Bound(..) => self.slot_of(name),
            Meaning::Instance(instance) => self.table.slot(Key::Instance(instance)),
            Meaning::Scene => Some(self.table.scene),
            Meaning::Builtin(_) => self.count_slot(name),
            _ => None,
        }
    }

    /// What the `spawn` handlers of an actor do at once; gives what the new instance's variables hold, by slot.
    pub(super) fn others_now(&mut self, state: &mut State, actor: OwnerId) -> Rc<Spawning> {
        let known = self.spawning.get(&actor).cloned();
        let spawning = known.unwrap_or_else(|| {
            let effects = self.world.effects_of_spawning(self, actor);
            let new = self.world.values_of_new(self.table, actor);
            self.built_on.spawned(actor, &effects, &new);
            let spawning = Rc::new(Spawning { effects, new });
            self.spawning.insert(actor, spawning.clone());
            spawning
        });
        self.apply(state, &spawning.effects);
        spawning
    }

    /// Joins what others do into the slots that they can touch.
    pub fn apply(&mut self, state: &mut State, others: &Others) {
        if self.left_alone == LeftAlone::Everything {
            return;
        }
        let table = self.table;
        for (at, (facts, together)) in table.slots.iter().zip(others).enumerate().filter(|(_, (_, done))| done.any) {
            let slot = Slot::try_from(at).unwrap_or(Slot::MAX);
            if self.left_alone == LeftAlone::Slot(slot) {
                continue;
            }
            if state.sources.iter().any(|source| source.read == slot) {
                let sources = state.sources.to_mut();
                sources.iter_mut().filter(|source| source.read == slot).for_each(|source| source.stale = true);
            }
            let lasting = match self.counted {
                Some(_) => self.world.reach(facts),
                None => self.world.lasting(self.handler, facts),
            };
            let mut known = std::mem::take(&mut state.facts);
            known.keep_without(slot, &|slot| state.ends(slot));
            state.facts = known;
            state.values[at] = together.after(&state.values[at], &lasting);
            state.facts.loosen(slot, together.up, together.down);
            state.forget_held(slot);
            self.forget_tests(state, |read| read == slot);
            if matches!(facts.ty, Type::Ref(_)) {
                self.renew_dependents(state, slot);
            }
        }
    }
}
