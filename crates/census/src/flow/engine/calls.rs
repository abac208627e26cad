//! Procedures, run in place.

use super::*;

/// How deep procedures that call one another are gone into: each takes its part of the stack.
pub const MOST_DEPTH: usize = 64;

impl<'w> Run<'w, '_> {
    pub(super) fn return_(&mut self, mut state: State, value: Option<ExprId>, span: Span, left: &mut Vec<State>) {
        if state.later || self.stack.is_empty() {
            return self.end(state, span);
        }
        if let (Some(value), Some(Some(_))) = (value, self.answers.last()) {
            return self.return_outcome(state, value, left);
        }
        if let Some(value) = value {
            self.pass_on(value);
            let result = self.eval(&mut state, value);
            if self.take_dead() {
                return; // What it gives hangs on a call that never comes back.
            }
            let forms = self.forms(&state, value);
            self.give_over(&mut state, value, &result);
            if let Some(slot) = self.result_slot() {
                let result = self.narrowed(&state, result, &forms);
                self.put(&mut state, slot, Abstract::of(result), forms.uppers(), forms.lowers());
                let before = state.clone();
                self.sourced(&mut state, slot, value, &before);
                // What is given stands for itself from here on.
                state.forget_all(&self.locals_in(value), self.in_loop);
            }
        } else {
            self.end_unanswered(&mut state);
        }
        left.push(state);
    }

    /// The return of a procedure that is a condition: what the condition tells is kept for each way that it comes out.
    pub(super) fn return_outcome(&mut self, state: State, value: ExprId, left: &mut Vec<State>) {
        let (yes, no) = self.branch(state, value);
        for (at, outcome) in [(0, yes), (1, no)] {
            let Some(mut state) = outcome else { continue };
            if let Some(slot) = self.result_slot() {
                state.values[slot as usize] = Abstract::of(Value::Bool { yes: at == 0, no: at == 1 });
            }
            if let Some(Some(answers)) = self.answers.last_mut() {
                answers[at].push(state.clone());
            }
            left.push(state);
        }
    }

    /// A procedure comes to its end without a value: it gives its type's zero, as what is unset does.
    pub(super) fn end_unanswered(&mut self, state: &mut State) {
        if let Some(slot) = self.result_slot() {
            let value = match self.table.slots[slot as usize].ty {
                ty @ (Type::Int | Type::Number) => Value::Num(Num::constant(0.0, ty == Type::Int)),
                Type::Bool => Value::Bool { yes: false, no: true },
                Type::Ref(_) => Value::Ref { none: true, some: false },
                ty => anything(ty),
            };
            self.give_none(state, &value);
            self.put(state, slot, Abstract::of(value), &[], &[]);
        }
        if let Some(Some([_, no])) = self.answers.last_mut() {
            no.push(state.clone());
        }
    }

    /// Splits a state by what a procedure gives.
    pub fn branch_call(&mut self, mut state: State, expr: ExprId, id: ProcId, arguments: &[ExprId]) -> Split {
        let later = state.later;
        self.asked = Some(expr);
        let value = self.call(&mut state, expr, id, arguments);
        let [yes, no] = self.answered.take().unwrap_or_default();
        if self.dead || (yes.is_empty() && no.is_empty()) {
            return ways(state, &value);
        }
        let joined = |states: Vec<State>| {
            let states = states.into_iter().map(|state| state.set_later(later));
            states.reduce(|a, b| self.joined(a, b))
        };
        (joined(yes), joined(no))
    }

    /// Two ways as one, and what holds of their places together.
    pub(super) fn joined(&self, mut one: State, mut other: State) -> State {
        self.let_hold(&mut one, &mut other);
        one.joined(&other, &self.table.amounts)
    }

    /// The locals that an expression reads.
    pub(super) fn locals_in(&self, expr: ExprId) -> Vec<Slot> {
        let mut locals = self.reads(expr);
        locals.retain(|&slot| match self.table.slots[slot as usize].key {
            Key::Place(place) => matches!(self.unit.place(place), Place::Local(_)),
            _ => false,
        });
        locals
    }

    pub(super) fn result_slot(&self) -> Option<Slot> {
        self.results.last().copied().flatten()
    }

    /// Nothing goes on from here.
    pub(in crate::flow) fn die(&mut self) {
        self.dead = true;
    }

    /// Whether nothing goes on from what was just worked out; asked once.
    pub(in crate::flow) fn take_dead(&mut self) -> bool {
        std::mem::take(&mut self.dead)
    }

    /// Runs a procedure in place, for its value.
    pub fn call(&mut self, state: &mut State, expr: ExprId, id: ProcId, arguments: &[ExprId]) -> Value {
        let left = self.call_parts(state, expr, id, arguments);
        match left.into_iter().reduce(|a, b| self.joined(a, b)) {
            Some(joined) => *state = joined,
            None => self.dead = true,
        }
        match self.table.slot(Key::Result(expr)) {
            Some(slot) => state.values[slot as usize].value.clone(),
            None => anything(self.unit.ty(expr)),
        }
    }

    /// Runs a procedure in place; gives the states in which it can come back.
    pub(super) fn call_parts(
        &mut self,
        state: &mut State,
        expr: ExprId,
        id: ProcId,
        arguments: &[ExprId],
    ) -> Vec<State> {
        let facts = &self.unit.procedures[id.index()];
        let asked = self.asked.take() == Some(expr);
        let receiver = self.expected_of(expr);
        let mut given = Vec::with_capacity(arguments.len());
        // What an argument says of other places is over once a later one calls a procedure that may change those.
        let calling = arguments.iter().rposition(|&argument| self.calls_procedure(argument)).unwrap_or(0);
        let is_under_way = self.stack.contains(&id);
        for (at, &argument) in arguments.iter().enumerate() {
            if let Some(slot) = self.parameter(id, at).filter(|_| at >= calling && !is_under_way) {
                self.expect(slot, argument);
            }
            let value = self.eval(state, argument);
            let is_served = self.is_served(argument);
            let forms = if at < calling { Forms::Unknown } else { self.forms(state, argument) };
            given.push((argument, value, forms, is_served));
        }
        let mut entry = state.clone();
        entry.later = false; // The end of the procedure's body comes back here, also inside an `after`.
        for (at, (argument, value, forms, is_served)) in given.into_iter().enumerate() {
            if let Some(slot) = self.parameter(id, at) {
                let value = self.fitted(slot, self.narrowed(&entry, value, &forms));
                self.put(&mut entry, slot, Abstract::of(value), forms.uppers(), forms.lowers());
                let before = entry.clone();
                self.sourced(&mut entry, slot, argument, &before);
                match at < calling {
                    true => self.renew_dependents(&mut entry, slot),
                    false if is_served => {}
                    false => self.copy_instance(&mut entry, slot, argument),
                }
            }
        }
        if let Some(at) = self.stack.iter().position(|&known| known == id) {
            return self.call_again(state, entry, at, expr);
        }
        if self.stack.len() >= MOST_DEPTH || self.calls_much() {
            self.leave_call(state, entry, id, expr);
            return vec![state.clone()];
        }
        let graph = self.world.procedure_graph(self.script, id);
        self.stack.push(id);
        self.results.push(self.table.slot(Key::Result(expr)));
        self.answers.push(asked.then(Answers::default));
        self.begin_giving(receiver);
        let worked_out = self.worked_out.take(); // What its caller has worked out says nothing of what it calls itself.
        let ends = self.until_settled(id, graph, entry);
        self.worked_out = worked_out;
        self.end_giving(expr);
        self.results.pop();
        self.stack.pop();
        self.answered = self.answers.pop().flatten();
        let slots = (0..facts.parameters.len()).filter_map(|at| self.parameter(id, at));
        // A term that names one may be asked for again by what was passed.
        let ended: SmallVec<[Slot; 4]> = slots.filter(|slot| !self.table.passed.contains(slot)).collect();
        let in_loop = self.in_loop;
        for ways in self.answered.iter_mut().flatten() {
            ways.iter_mut().for_each(|way| way.forget_all(&ended, in_loop));
        }
        self.given.extend(self.table.slot(Key::Result(expr)));
        let later = state.later;
        ends.into_iter()
            .map(|mut end| {
                end.forget_all(&ended, in_loop);
                end.set_later(later)
            })
            .collect()
    }

    /// A parameter of a procedure.
    fn parameter(&self, id: ProcId, at: usize) -> Option<Slot> {
        let local = self.unit.procedures[id.index()].parameters.get(at)?;
        self.slot(self.unit.local_places[local.0 as usize])
    }

    /// Whether procedures had more steps than could be gone through.
    pub(in crate::flow) fn calls_much(&self) -> bool {
        self.work > self.most_work
    }

    /// What a call gives that is not gone into.
    pub(super) fn give_anything(&mut self, state: &mut State, call: ExprId) {
        if let Some(slot) = self.table.slot(Key::Result(call)) {
            self.put(state, slot, Abstract::of(anything(self.unit.ty(call))), &[], &[]);
        }
    }

    /// A call that is not gone into: everything that it may write can have any value it ever has.
    pub(super) fn call_unseen(&mut self, state: &mut State, id: ProcId) {
        let written = self.world.written_by(self.script, id);
        self.see_any_modes(state, written);
        for (at, facts) in self.table.slots.iter().enumerate() {
            if let Some(cell) = facts.cell.filter(|cell| written.contains(cell)) {
                let slot = Slot::try_from(at).unwrap_or(Slot::MAX);
                self.margins.extend([End::Min, End::Max].map(|end| ((cell, end), 0.0)));
                let beside = facts.variable.map(|variable| self.world.margins_beside(variable));
                self.margins.extend(beside.into_iter().flatten().map(|key| (key, 0.0)));
                state.facts.forget(slot);
                self.forget_tests(state, |read| read == slot);
                state.forget_held(slot);
                let reach = Abstract::of(self.world.reach(facts));
                let joined = state.values[at].join(&reach);
                if joined != state.values[at] {
                    state.values[at] = joined;
                }
            }
        }
        if self.unit.procedures[id.index()].waits
            && let Some(after) = self.wait(state.clone(), None, None)
        {
            *state = after;
        }
        for (slot, _) in self.counts() {
            state.facts.forget(slot);
            self.forget_tests(state, |read| read == slot);
            state.values[slot as usize] = Abstract::of(Value::Num(Num::range(0.0, f64::INFINITY, true)));
        }
        // What is written there is within its range by then, and so is what that bounds.
        let is_written = |slot: Slot| self.table.slots[slot as usize].cell.is_some_and(|cell| written.contains(&cell));
        for &slot in &self.table.limited {
            let limits = self.table.slots[slot as usize].limits();
            let moves =
                limits.iter().any(|&(_, limit, _)| matches!(limit, Some(Limit::Slot(bound)) if is_written(bound)));
            if moves || is_written(slot) {
                self.assume_range(state, slot);
            }
        }
    }
}
