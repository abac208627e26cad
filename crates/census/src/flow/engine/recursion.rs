//! Procedures that call themselves, straight or by way of others: what an inner call begins with is joined with what the
//! outermost one began with, and what that one leaves stands for what the inner one leaves, until neither grows any more
//! (the functional approach of Sharir and Pnueli, 1981, with one summary for each outermost call).

use super::*;

/// How often a body is run for its inner calls before they are no longer gone into.
const MOST_ROUNDS: u32 = 24;

/// What is known of a procedure that is being run, should it be called again in there.
#[derive(Default)]
pub(super) struct Recursion {
    /// What its inner calls begin with.
    inner: Option<State>,
    /// What it leaves behind, as far as that is known.
    left: Option<State>,
    /// No end was found: inner calls are not gone into.
    given_up: bool,
}

impl Recursion {
    /// Of one whose inner calls are not gone into.
    pub(super) fn given_up() -> Self {
        Self { given_up: true, ..Self::default() }
    }
}

impl<'w> Run<'w, '_> {
    /// Runs the body of a procedure, again and again while it calls itself and that makes a difference.
    pub(super) fn until_settled(&mut self, id: ProcId, graph: &'w Graph, mut entry: State) -> Vec<State> {
        let in_loop = self.in_loop;
        self.recursions.push(Recursion::default());
        let mut round = 0;
        let ends = loop {
            let ends = self.body(graph, entry.clone());
            let Some(recursion) = self.recursions.last_mut() else { break ends };
            let Some(inner) = recursion.inner.take().filter(|_| !recursion.given_up) else { break ends };
            let thresholds = if round < MOST_ROUNDS / 2 { self.thresholds } else { &[] };
            let grow = |known: &State, more: &State| match round < ROUNDS {
                true => known.clone().join(more),
                false => known.widen(more, thresholds),
            };
            let next = grow(&entry, &inner);
            let left = ends.iter().cloned().reduce(|a, b| a.join(&b));
            let left = match (&recursion.left, left) {
                (Some(known), Some(left)) => Some(grow(known, &left)),
                (known, left) => left.or_else(|| known.clone()),
            };
            if next == entry && left == recursion.left {
                break ends;
            }
            recursion.given_up = round == MOST_ROUNDS;
            (entry, recursion.left) = (next, left);
            if recursion.given_up {
                self.begin_anyhow(&mut entry, id);
            }
            if let Some(Some(answers)) = self.answers.last_mut() {
                *answers = Answers::default();
            }
            self.in_loop = true;
            round += 1;
        };
        self.in_loop = in_loop;
        self.recursions.pop();
        ends
    }

    /// A call of a procedure that is under way already, as the one at this depth of the stack.
    pub(super) fn call_again(&mut self, state: &mut State, entry: State, at: usize, expr: ExprId) -> Vec<State> {
        self.answered = None;
        let (id, recursion) = (self.stack[at], &mut self.recursions[at]);
        recursion.inner = Some(match recursion.inner.take() {
            Some(known) => known.join(&entry),
            None => entry,
        });
        if recursion.given_up {
            self.call_unseen(state, id);
            self.give_anything(state, expr);
            return vec![state.clone()];
        }
        let Some(mut left) = recursion.left.clone() else { return Vec::new() };
        let given = self.results[at].map(|outer| left.values[outer as usize].value.clone());
        self.take_back_locals(&mut left, state);
        if let Some(slot) = self.table.slot(Key::Result(expr)) {
            left.values[slot as usize] = Abstract::of(given.unwrap_or_else(|| anything(self.unit.ty(expr))));
            self.given.push(slot);
        }
        vec![left]
    }

    /// Each call has its own locals: behind an inner one they are what they were before it.
    fn take_back_locals(&mut self, left: &mut State, caller: &State) {
        let unit = self.unit;
        let is_local = |facts: &SlotFacts| match facts.key {
            Key::Place(place) => matches!(unit.place(place), Place::Local(_)),
            Key::Result(_) | Key::Rounds(_) | Key::RoundsOver(_) | Key::Term(_) | Key::Product(..) => true,
            _ => false,
        };
        let all = self.table.slots.iter().enumerate().filter(|(_, facts)| is_local(facts));
        let locals: Vec<Slot> = all.filter_map(|(at, _)| Slot::try_from(at).ok()).collect();
        left.forget_all(&locals, true);
        left.sources.retain(|source| !locals.contains(&source.local));
        left.selves.retain(|(slot, _)| !locals.contains(slot));
        self.forget_tests(left, |slot| locals.contains(&slot));
        for &slot in &locals {
            left.forget_held(slot);
            let mut value = caller.values[slot as usize].clone();
            if let (Value::Ref { none, .. }, Type::Ref(of)) = (&mut value.value, self.table.slots[slot as usize].ty) {
                *none |= self.world.may_vanish(unit, of);
                self.renew_dependents(left, slot);
            }
            left.values[slot as usize] = value;
            let among_locals = |fact: &Linear| fact.terms.iter().all(|(other, _)| locals.contains(other));
            caller.facts.about(slot).filter(among_locals).for_each(|fact| left.facts.add(fact));
        }
        left.later = caller.later;
    }

    /// A body from whatever can be when it is called.
    fn begin_anyhow(&mut self, entry: &mut State, id: ProcId) {
        self.call_unseen(entry, id);
        for local in &self.unit.procedures[id.index()].parameters {
            if let Some(slot) = self.slot(self.unit.local_places[local.0 as usize]) {
                let value = Abstract::of(anything(self.table.slots[slot as usize].ty));
                self.put(entry, slot, value, &[], &[]);
            }
        }
    }
}
