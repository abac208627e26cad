//! Judging writes: what may have left its range or broken an invariant, and the write that it is told of.
//!
//! A write after which something may be wrong splits the state: one goes on where all is well, the other where it is not
//! and carries a [`Suspect`] that names the write. What the handler does next may put it right, and then the suspect goes;
//! where the handler settles, what is left of them becomes events. So a fault is told of the last write that led from
//! inside to outside, on the way that was taken.

use super::engine::{Event, Limit, Move, Run, SlotFacts, SlotTable};
use super::linear::{BodyLength, Linear, Slot};
use super::shared::Shared;
use super::state::{State, Suspect, Wrong};
use super::trend::Moved;
use super::value::{Num, Value};
use super::world::World;
use crate::project::Base;
use crate::registry::{End, InvariantId, Overflow, Scope};
use crate::source::Span;
use rustc_hash::FxHashSet;
use smallvec::{SmallVec, smallvec};

/// How many things one write may make wrong before its states are no longer kept apart.
const MOST_SPLITS: usize = 3;

/// How many suspects are followed at once.
const MOST_SUSPECTS: usize = 64;

/// How many places one bounds at most of which it is looked at whether a write of the bound puts them right: in a body of
/// ordinary length, and in a long one.
const MOST_BOUNDED: (usize, usize) = (100, 16);

impl Moved {
    /// Whether moving so can take something out of its range at this end: the value itself, or what the value is the `bound` of.
    fn can_break(self, end: End, bound: bool) -> bool {
        if (end == End::Max) == bound { self.down } else { self.up }
    }
}

impl Run<'_, '_> {
    /// The states after a write to a slot: split by whether it left something wrong.
    pub(super) fn judge_write(
        &mut self,
        before: &State,
        mut state: State,
        slot: Slot,
        at: Span,
        moved: Moved,
    ) -> SmallVec<[State; 2]> {
        let mut fresh: SmallVec<[Wrong; 2]> = SmallVec::new();
        self.judge_ranges(before, &mut state, (slot, moved), at, &mut fresh);
        self.judge_invariants(before, &mut state, (slot, moved), at, &mut fresh);
        self.split_by_all(state, fresh)
    }

    /// The states after a `clear`: nothing is in no range, but an invariant takes it for what the type calls zero.
    pub(super) fn judge_clear(
        &mut self,
        before: &State,
        mut state: State,
        slot: Slot,
        at: Span,
    ) -> SmallVec<[State; 2]> {
        let mut fresh: SmallVec<[Wrong; 2]> = SmallVec::new();
        self.judge_invariants(before, &mut state, (slot, Moved::EITHER), at, &mut fresh);
        self.split_by_all(state, fresh)
    }

    fn split_by_all(&mut self, state: State, fresh: SmallVec<[Wrong; 2]>) -> SmallVec<[State; 2]> {
        let mut states: SmallVec<[State; 2]> = smallvec![state];
        for wrong in fresh.into_iter().take(MOST_SPLITS) {
            let mut next: SmallVec<[State; 2]> = SmallVec::new();
            for state in states {
                let (right, left) = self.split_by(&state, wrong);
                if right.is_none() && left.is_none() {
                    next.push(state);
                    continue;
                }
                next.extend(right.map(|mut state| {
                    state.suspects.retain(|suspect| suspect.wrong != wrong);
                    state
                }));
                next.extend(left);
            }
            states = next;
        }
        states
    }

    fn judge_ranges(
        &self,
        before: &State,
        state: &mut State,
        (slot, moved): (Slot, Moved),
        at: Span,
        fresh: &mut SmallVec<[Wrong; 2]>,
    ) {
        let facts = &self.table.slots[slot as usize];
        let same = self.same_as(state, slot);
        let is_suspect = |wrong: Wrong| state.suspects.iter().any(|suspect| suspect.wrong == wrong);
        let mut right: SmallVec<[Wrong; 4]> = SmallVec::new();
        let mut broken: SmallVec<[(Wrong, Limit); 2]> = SmallVec::new();
        let is_few =
            facts.bounds().len() <= if self.table.length == BodyLength::Long { MOST_BOUNDED.1 } else { MOST_BOUNDED.0 };
        let leaves = |end: End| facts.is_bound(end) && moved.can_break(end, true);
        let bounded = if is_few || leaves(End::Min) || leaves(End::Max) { facts.bounds() } else { &[] };
        for &other in std::iter::once(&slot).chain(bounded).chain(&same) {
            if self.is_gone(state, other) || self.is_unbound(state, other) {
                continue;
            }
            for (limit, end) in self.judged_limits(other) {
                let wrong = Wrong::Outside(other, end);
                let bounds = limit == Limit::Slot(slot);
                let written = other == slot || same.contains(&other);
                let can_break = (bounds || written) && moved.can_break(end, bounds);
                let is_suspect = (can_break || is_few) && is_suspect(wrong);
                if !is_suspect && !can_break {
                    continue;
                }
                let is_within = within(state, other, limit, end);
                if is_suspect && (is_within || within(before, other, limit, end)) {
                    right.push(wrong); // By this write, or as a test has told since the last one.
                }
                if !is_within
                    && can_break
                    && (before.value(other).is_untold() || !surely_beyond(before, other, limit, end))
                {
                    broken.push((wrong, limit));
                }
            }
        }
        if !right.is_empty() {
            right.sort_unstable();
            state.suspects.retain(|suspect| right.binary_search(&suspect.wrong).is_err());
        }
        for (wrong, limit) in broken {
            let limits = match limit {
                Limit::Number(value) => (value, value),
                Limit::Slot(bound) => state.ends(bound),
            };
            self.add_suspect(before, state, wrong, slot, at, limits);
            fresh.push(wrong);
        }
    }

    /// Whether a slot is a variable of a scene that is certainly not loaded.
    fn is_gone(&self, state: &State, slot: Slot) -> bool {
        let Some(variable) = self.table.slots[slot as usize].variable else { return false };
        let variable = self.world.project.registry.var(variable);
        variable.scope == Scope::Scene
            && matches!(&state.value(self.table.scene).value, Value::Text(Some(scenes)) if !scenes.contains(&variable.owner.0))
    }

    /// The ends of a slot's range that a write beyond them is a fault at.
    fn judged_limits(&self, slot: Slot) -> SmallVec<[(Limit, End); 2]> {
        let facts = &self.table.slots[slot as usize];
        let judged = facts.variable.is_some_and(|id| self.world.project.registry.var(id).overflow == Overflow::Error);
        let ends = [(facts.max, End::Max), (facts.min, End::Min)];
        ends.into_iter().filter(|_| judged).filter_map(|(limit, end)| Some((limit?, end))).collect()
    }

    fn add_suspect(&self, before: &State, state: &mut State, wrong: Wrong, slot: Slot, at: Span, limit: (f64, f64)) {
        let suspect = Suspect { wrong, at, written: slot, before: before.ends(slot), after: state.ends(slot), limit };
        state.add_suspect(suspect);
    }

    /// Of the writes to an invariant's variables the last one counts, whichever made it false.
    fn judge_invariants(
        &mut self,
        before: &State,
        state: &mut State,
        (slot, moved): (Slot, Moved),
        at: Span,
        fresh: &mut SmallVec<[Wrong; 2]>,
    ) {
        let Some(variable) = self.table.slots[slot as usize].variable else { return };
        for &index in self.world.invariants_of(variable) {
            let wraps = self.world.project.registry.var(variable).overflow == Overflow::Wrap;
            // What was broken may be this very instance's, by another name; then this is the last write of it.
            let broken = |suspect: &Suspect| matches!(suspect.wrong, Wrong::Broken(id, _) if id.index() == index);
            let upsets = wraps || self.world.upsets(index, variable).meets(moved) || state.suspects.iter().any(broken);
            for base in self.table.invariant_bases(index).iter().copied() {
                if !concerns(self.world, self.table, slot, index, base)
                    || self.holder(base).is_some_and(|holder| is_free(state, holder))
                {
                    continue;
                }
                let wrong = Wrong::Broken(InvariantId::at(index), base);
                let known = state.suspects.len();
                state.suspects.retain(|suspect| suspect.wrong != wrong);
                let was_well = state.suspects.len() == known;
                if was_well && !upsets || self.judge(state.clone(), index, base).1.is_none() {
                    continue;
                }
                // Unless it was false before the handler did anything.
                if !was_well || self.judge(before.clone(), index, base).0.is_some() {
                    self.add_suspect(before, state, wrong, slot, at, (0.0, 0.0));
                    fresh.push(wrong);
                }
            }
        }
    }

    /// Splits a state by whether something is as it should be.
    fn split_by(&mut self, state: &State, wrong: Wrong) -> (Option<State>, Option<State>) {
        match wrong {
            Wrong::Broken(invariant, base) => self.judge(state.clone(), invariant.index(), base),
            Wrong::Outside(slot, end) => {
                let Some(limit) = self.limit_of(slot, end) else { return (None, None) };
                let form = excess(slot, limit, end);
                let whole = state.num(slot).is_some_and(|num| num.int)
                    && match limit {
                        Limit::Number(value) => value.fract() == 0.0,
                        Limit::Slot(bound) => state.num(bound).is_some_and(|num| num.int),
                    };
                let gap = if whole { 1.0 } else { f64::from_bits(1) };
                let beyond = form.times(-1.0).plus(&Linear::constant(gap), 1.0);
                (assume(state, form), assume(state, beyond))
            }
        }
    }

    fn limit_of(&self, slot: Slot, end: End) -> Option<Limit> {
        let facts = &self.table.slots[slot as usize];
        match end {
            End::Min => facts.min,
            End::Max => facts.max,
        }
    }

    // ---- settling ----

    /// Others can see what was done: what is still suspect is told, and what follows takes it not to have happened.
    pub(super) fn settle(&mut self, state: &mut State) {
        self.show_others(state, |_| true);
        let guessed = self.judge_settled(state);
        self.see_modes(state, &guessed);
    }

    /// What is still suspect is told, also where nobody's turn comes yet; gives what nothing is known of any more but that it
    /// lies within its range.
    pub(super) fn judge_settled(&mut self, state: &mut State) -> Guessed {
        for step in state.steps.take() {
            let facts = &self.table.slots[step.slot as usize];
            if let (Some(cell), Some(settled), false) = (facts.cell, state.num(step.slot), self.quiet) {
                let (by, settled) = ((step.by.lo, step.by.hi), (settled.lo, settled.hi));
                let before = step.before.clone();
                self.moves.push(Move { cell, at: step.at, before, by, cut: step.cut, origin: step.origin, settled });
            }
        }
        let guessed = self.tell_suspects(state, |_| true);
        state.moved_bounds = Shared::default();
        guessed
    }

    /// The suspects that are meant become events, and what follows takes them not to have happened; gives those where that can't
    /// be, with the end that they lie beyond.
    pub(super) fn tell_suspects(&mut self, state: &mut State, meant: impl Fn(Wrong) -> bool) -> Guessed {
        let mut guessed = Guessed::new();
        for wrong in all_wrong(&self.tell_at_once(state, meant)) {
            guessed.extend(self.set_right(state, wrong));
            self.doubt(state, wrong);
        }
        guessed
    }

    /// Where very many writes are suspect, all is told at once: to see which of it is put right later is not worth what it takes.
    pub(super) fn tell_where_many(&mut self, state: &mut State) {
        if state.suspects.len() > MOST_SUSPECTS {
            self.tell_suspects(state, |_| true);
        }
    }

    /// What is known of these slots from here on takes a fault not to have happened.
    fn doubt(&self, state: &mut State, wrong: Wrong) {
        match wrong {
            Wrong::Outside(slot, _) => state.doubted.push_new(slot),
            Wrong::Broken(invariant, _) => {
                let named = &self.world.project.invariants[invariant.index()].variables;
                let is_named = |facts: &SlotFacts| facts.variable.is_some_and(|variable| named.contains(&variable));
                let slots = (0..).zip(&self.table.slots).filter(|(_, facts)| is_named(facts));
                slots.for_each(|(slot, _)| state.doubted.push_new(slot));
            }
        }
    }

    /// The suspects that are meant become events, before the handler settles.
    pub(super) fn tell_at_once(&mut self, state: &mut State, meant: impl Fn(Wrong) -> bool) -> Vec<Suspect> {
        let suspects = state.suspects.take().into_iter();
        let (mut told, kept): (Vec<Suspect>, Vec<Suspect>) = suspects.partition(|suspect| meant(suspect.wrong));
        state.suspects = kept.into();
        let right = self.right_among(state, &told);
        told.retain(|suspect| !right.contains(&suspect.wrong));
        self.drop_consequences(state, &mut told);
        for suspect in &told {
            self.tell(suspect);
        }
        told
    }

    /// Drops the invariants that are broken by nothing but a write that leaves its range, which is told of there already.
    fn drop_consequences(&mut self, state: &State, told: &mut Vec<Suspect>) {
        let outside: SmallVec<[(Span, Wrong); 2]> =
            told.iter().map(|it| (it.at, it.wrong)).filter(|(_, wrong)| matches!(wrong, Wrong::Outside(..))).collect();
        told.retain(|suspect| {
            let Wrong::Broken(..) = suspect.wrong else { return true };
            if !outside.iter().any(|&(at, _)| at == suspect.at) {
                return true;
            }
            let mut kept_in = state.clone();
            outside.iter().for_each(|&(_, wrong)| _ = self.set_right(&mut kept_in, wrong));
            !self.is_right(&kept_in, suspect.wrong)
        });
    }

    /// Drops the suspects that have turned out to be right.
    pub(super) fn drop_right(&mut self, state: &mut State) {
        if !state.suspects.is_empty() {
            let right = self.right_among(state, &state.suspects);
            state.suspects.retain(|suspect| !right.contains(&suspect.wrong));
        }
    }

    /// What has turned out to be right of that which some writes are suspected of; asked once where many are of the same.
    fn right_among(&mut self, state: &State, suspects: &[Suspect]) -> AllWrong {
        let mut right = all_wrong(suspects);
        right.retain(|wrong| self.is_right(state, *wrong));
        right
    }

    /// Whether what was suspect has turned out to be right: a test may have told so since, such as `oil > 100` that did not
    /// hold, without a write.
    fn is_right(&mut self, state: &State, wrong: Wrong) -> bool {
        match wrong {
            Wrong::Broken(invariant, base) => self.judge(state.clone(), invariant.index(), base).1.is_none(),
            Wrong::Outside(slot, end) => self.limit_of(slot, end).is_none_or(|limit| within(state, slot, limit, end)),
        }
    }

    fn tell(&mut self, suspect: &Suspect) {
        match suspect.wrong {
            Wrong::Broken(invariant, _) => self.event(Event::Broken { at: suspect.at, invariant }),
            Wrong::Outside(slot, end) => {
                let Some(variable) = self.table.slots[slot as usize].variable else { return };
                let written = self.table.slots[suspect.written as usize].variable.unwrap_or(variable);
                let (before, after, limit) = (suspect.before, suspect.after, suspect.limit);
                self.event(Event::Outside { at: suspect.at, written, variable, end, before, after, limit });
            }
        }
    }

    /// Goes on as if something had not gone wrong; gives the variable, and the end, where it certainly has.
    pub(super) fn set_right(&mut self, state: &mut State, wrong: Wrong) -> Option<(Slot, End)> {
        match wrong {
            Wrong::Broken(invariant, base) => {
                if let (Some(right), _) = self.judge(state.clone(), invariant.index(), base) {
                    *state = right;
                }
                None
            }
            Wrong::Outside(slot, end) => {
                let limit = self.limit_of(slot, end)?;
                // Where the variable may not be there at all, its bound can be anything.
                let binds = matches!(limit, Limit::Number(_)) || self.is_there(state, slot);
                if let Some(right) = assume(state, excess(slot, limit, end)).filter(|_| binds) {
                    *state = right;
                    return None;
                }
                state.facts.forget(slot);
                self.forget_tests(state, |read| read == slot);
                let (lo, hi) = match limit {
                    Limit::Number(value) => (value, value),
                    Limit::Slot(bound) => state.ends(bound),
                };
                let int = state.num(slot).is_some_and(|num| num.int);
                let range = if end == End::Max { (f64::NEG_INFINITY, hi) } else { (lo, f64::INFINITY) };
                if let Value::Num(reach) = self.world.reach(&self.table.slots[slot as usize]) {
                    let inside = reach.meet(&Num::range(range.0, range.1, int)).unwrap_or(reach);
                    state.values[slot as usize].value = Value::Num(inside);
                }
                self.assume_range(state, slot);
                Some((slot, end))
            }
        }
    }
}

/// Whether a slot is a variable of the instance that an invariant is judged for.
#[must_use]
pub fn concerns(world: &World<'_>, table: &SlotTable, slot: Slot, at: usize, base: Base) -> bool {
    world.project.invariants[at].variables.iter().any(|&variable| {
        let slots = [table.of_variable(variable, base), table.of_variable(variable, Base::One)];
        slots.contains(&Some(slot))
    })
}

/// Whether a name holds nothing yet.
pub(super) fn is_free(state: &State, holder: Slot) -> bool {
    matches!(state.value(holder).value, Value::Ref { none: false, some: false })
}

/// Variables that certainly lie beyond an end of their range.
pub(super) type Guessed = SmallVec<[(Slot, End); 1]>;

/// What some writes are suspected of, each once: many may have made the same thing wrong.
type AllWrong = SmallVec<[Wrong; 4]>;

fn all_wrong(suspects: &[Suspect]) -> AllWrong {
    let each: FxHashSet<Wrong> = suspects.iter().map(|suspect| suspect.wrong).collect();
    let mut all: AllWrong = each.into_iter().collect();
    all.sort_unstable();
    all
}

/// How far a slot lies beyond a limit: at most zero where it is inside.
fn excess(slot: Slot, limit: Limit, end: End) -> Linear {
    let own = Linear::slot(slot);
    let form = match limit {
        Limit::Number(value) => own.plus(&Linear::constant(value), -1.0),
        Limit::Slot(bound) => own.plus(&Linear::slot(bound), -1.0),
    };
    if end == End::Max { form } else { form.times(-1.0) }
}

/// Whether a slot is known to lie within a limit.
#[must_use]
pub fn within(state: &State, slot: Slot, limit: Limit, end: End) -> bool {
    state.facts.implies(&excess(slot, limit, end), &|slot| state.ends(slot))
}

/// Whether a slot certainly lies beyond a limit.
fn surely_beyond(state: &State, slot: Slot, limit: Limit, end: End) -> bool {
    state.facts.highest(&excess(slot, limit, end).times(-1.0), &|slot| state.ends(slot)) < 0.0
}

/// The state where a form is at most zero, if there is one.
fn assume(state: &State, form: Linear) -> Option<State> {
    if state.facts.highest(&form.times(-1.0), &|slot| state.ends(slot)) < 0.0 {
        return None; // It is certainly more.
    }
    let mut state = state.clone();
    state.narrow_by(&form)?;
    if form.terms.is_empty() && form.constant > 0.0 {
        return None;
    }
    state.facts.add(form);
    Some(state)
}
