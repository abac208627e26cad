//! What is known at one point of a body.

use super::linear::{Facts, Linear, Slot, snapped};
use super::shared::Shared;
use super::value::{Abstract, Num, Value};
use crate::project::Base;
use crate::registry::{End, InvariantId, OwnerId, SignalId};
use crate::script::ast::ExprId;
use crate::source::Span;
use smallvec::SmallVec;
use std::sync::Arc;

/// What can be wrong for as long as a handler has not settled.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum Wrong {
    /// A slot beyond an end of its range.
    Outside(Slot, End),
    /// An invariant that is false for an instance: for one that no name holds any more, where the base is any.
    Broken(InvariantId, Base),
}

/// Something that may be wrong, and the write that made it so.
#[derive(Clone, PartialEq, Debug)]
pub struct Suspect {
    /// What is wrong.
    pub wrong: Wrong,
    /// The statement of the write.
    pub at: Span,
    /// What was written.
    pub written: Slot,
    /// The range of what was written, before.
    pub before: (f64, f64),
    /// The range afterwards.
    pub after: (f64, f64),
    /// The range of the limit.
    pub limit: (f64, f64),
}

/// A step that has not settled yet.
#[derive(Clone, PartialEq, Debug)]
pub struct PendingStep {
    /// What was stepped.
    pub slot: Slot,
    /// The statement.
    pub at: Span,
    /// What it was before.
    pub before: Num,
    /// By how much it moved.
    pub by: Num,
    /// Whether it is cut at a limit, as in `max(x - 3, 0)`.
    pub cut: bool,
    /// What it came from.
    pub origin: Origin,
}

/// What a place came from, as ranges.
#[derive(Clone, Copy, PartialEq, Debug)]
pub struct Origin {
    /// What others saw of it last.
    pub seen: (f64, f64),
    /// What it was given since by writes that were no steps; from infinity down, where there were none.
    pub given: (f64, f64),
}

impl Origin {
    /// A place of which others saw this last.
    #[must_use]
    pub fn seen(seen: (f64, f64)) -> Self {
        Self { seen, given: (f64::INFINITY, f64::NEG_INFINITY) }
    }

    /// The same for a place of which nobody asks how it moves.
    #[must_use]
    pub fn unknown() -> Self {
        Self::seen((f64::NEG_INFINITY, f64::INFINITY))
    }

    /// What it came from on either of two ways.
    #[must_use]
    pub fn either(self, other: Self) -> Self {
        Self { seen: hull(self.seen, other.seen), given: hull(self.given, other.given) }
    }

    /// The same, once it was given this.
    #[must_use]
    pub fn then_given(self, range: (f64, f64)) -> Self {
        Self { given: hull(self.given, range), ..self }
    }

    /// Whether some write gave it what it was not before.
    #[must_use]
    pub fn is_given(self) -> bool {
        self.given.0 <= self.given.1
    }

    /// All that the handler itself can have stepped it from.
    #[must_use]
    pub fn all(self) -> (f64, f64) {
        hull(self.seen, self.given)
    }
}

/// A place that was written, and that nobody else has seen since.
#[derive(Clone, PartialEq, Debug)]
pub struct Unseen {
    /// The place.
    pub slot: Slot,
    /// Some write was worked out from what the place held when others saw it last.
    pub grows: bool,
    /// On every way it was first given something that has nothing to do with that.
    pub anew: bool,
    /// Some write can move the value up.
    pub up: bool,
    /// Some write can move the value down.
    pub down: bool,
    /// Some write took the value away.
    pub clears: bool,
    /// What was written on the way.
    pub written: Value,
    /// What it came from.
    pub origin: Origin,
}

impl Unseen {
    /// A place into which this was written.
    #[must_use]
    pub fn of(slot: Slot, written: Value) -> Self {
        let origin = Origin::unknown();
        Self { slot, grows: false, anew: false, up: false, down: false, clears: false, written, origin }
    }

    fn take_in(&mut self, other: &Self) {
        self.up |= other.up;
        self.down |= other.down;
        self.clears |= other.clears;
        self.written = self.written.join(&other.written);
    }
}

/// What a local was worked out from.
#[derive(Clone, PartialEq, Debug)]
pub struct Source {
    /// The local.
    pub local: Slot,
    /// What was read.
    pub read: Slot,
    /// Whether a wait has passed in which others can write it.
    pub stale: bool,
}

/// The `after` blocks that an activation has put off, in ticks from now.
#[derive(Clone, Copy, PartialEq, Debug)]
pub struct PutOff {
    /// When the first of them may begin.
    pub first: f64,
    /// When the last of them is through for certain.
    pub last: f64,
}

impl PutOff {
    /// What is put off on either of two ways.
    #[must_use]
    pub fn either(a: Option<Self>, b: Option<Self>) -> Option<Self> {
        match (a, b) {
            (Some(a), Some(b)) => Some(Self { first: a.first.min(b.first), last: a.last.max(b.last) }),
            (a, b) => a.or(b),
        }
    }

    /// The same after so much time, if that is known.
    #[must_use]
    pub fn later(self, ticks: Option<f64>) -> Self {
        let less = |time: f64, by: f64| (time - by).max(0.0);
        Self { first: less(self.first, ticks.unwrap_or(f64::INFINITY)), last: less(self.last, ticks.unwrap_or(0.0)) }
    }

    /// Whether something of it may be still to come.
    #[must_use]
    pub fn is_to_come(self) -> bool {
        self.last > 0.0
    }

    /// Whether something of it may begin before so much time is over.
    #[must_use]
    pub fn begins_within(self, ticks: Option<f64>) -> bool {
        self.is_to_come() && ticks.is_none_or(|ticks| self.first <= ticks)
    }
}

/// How many forms that are not zero are remembered.
const MOST_UNEQUAL: usize = 8;
/// How many steps that have not settled are taken over where two ways meet.
const MOST_STEPS: usize = 16;
/// What each slot may hold. Copies share the pieces that neither has changed, since states are copied at every branch.
#[derive(Clone, Debug)]
pub struct Values {
    pieces: Box<[Arc<Vec<Abstract>>]>,
    /// A piece holds two to the power of this: about as many values as there are pieces, where there are many.
    shift: u32,
    len: u32,
}

impl PartialEq for Values {
    fn eq(&self, other: &Self) -> bool {
        let mut pairs = self.pieces.iter().zip(&other.pieces);
        self.len == other.len && pairs.all(|(mine, theirs)| Arc::ptr_eq(mine, theirs) || mine == theirs)
    }
}

/// The sizes of pieces, as powers of two.
const PIECES: (u32, u32) = (2, 6);

impl FromIterator<Abstract> for Values {
    fn from_iter<I: IntoIterator<Item = Abstract>>(all: I) -> Self {
        let all: Vec<Abstract> = all.into_iter().collect();
        let len = all.len();
        let shift = (len.max(1).ilog2() / 2).clamp(PIECES.0, PIECES.1);
        let mut pieces = Vec::with_capacity((len >> shift) + 1);
        let mut rest = all.into_iter();
        while rest.len() > 0 {
            pieces.push(Arc::new(rest.by_ref().take(1 << shift).collect()));
        }
        Self { pieces: pieces.into(), shift, len: u32::try_from(len).unwrap_or(u32::MAX) }
    }
}

impl std::ops::Index<usize> for Values {
    type Output = Abstract;

    fn index(&self, at: usize) -> &Abstract {
        &self.pieces[at >> self.shift][at & ((1 << self.shift) - 1)]
    }
}

impl std::ops::IndexMut<usize> for Values {
    fn index_mut(&mut self, at: usize) -> &mut Abstract {
        &mut Arc::make_mut(&mut self.pieces[at >> self.shift])[at & ((1 << self.shift) - 1)]
    }
}

impl Values {
    /// The value of a slot, if there is such a slot.
    #[must_use]
    pub fn get(&self, at: usize) -> Option<&Abstract> {
        (at < self.len as usize).then(|| &self[at])
    }

    /// The values that are not those of the other, with their slots; pieces that are one and the same are passed over.
    pub fn unlike<'v>(&'v self, other: &'v Self) -> impl Iterator<Item = (usize, &'v Abstract)> {
        let pieces = self.pieces.iter().zip(&other.pieces).enumerate();
        let changed = pieces.filter(|(_, (mine, theirs))| !Arc::ptr_eq(mine, theirs));
        let shift = self.shift;
        changed.flat_map(move |(piece, (mine, theirs))| {
            let pairs = mine.iter().zip(theirs.iter()).enumerate();
            pairs.filter(|(_, (mine, theirs))| mine != theirs).map(move |(at, (mine, _))| ((piece << shift) + at, mine))
        })
    }

    /// Takes in what the other may hold; pieces that are one and the same are passed over.
    fn join(&mut self, other: &Self) {
        for (mine, theirs) in self.pieces.iter_mut().zip(&other.pieces) {
            if Arc::ptr_eq(mine, theirs) {
                continue;
            }
            if mine == theirs {
                *mine = Arc::clone(theirs); // Next time a glance tells.
                continue;
            }
            for (mine, theirs) in Arc::make_mut(mine).iter_mut().zip(theirs.iter()) {
                if mine != theirs {
                    *mine = mine.join(theirs);
                }
            }
        }
    }

    /// What either may hold.
    #[must_use]
    pub fn joined(&self, other: &Self) -> Self {
        let mut joined = self.clone();
        joined.join(other);
        joined
    }

    /// Widens what is still growing since `old`.
    fn widen(&mut self, old: &Self, thresholds: &[f64]) {
        for (mine, old) in self.pieces.iter_mut().zip(&old.pieces) {
            if Arc::ptr_eq(mine, old) || mine == old {
                continue;
            }
            for (mine, old) in Arc::make_mut(mine).iter_mut().zip(old.iter()) {
                if let (Value::Num(new), Value::Num(old)) = (&mine.value, &old.value) {
                    mine.value = Value::Num(old.widen(new, thresholds));
                }
            }
        }
    }
}

/// What is known at one point of one way, in a box: states are handed on far more often than they are made.
#[derive(Clone, PartialEq, Debug)]
pub struct State(Box<Known>);

impl From<Known> for State {
    fn from(known: Known) -> Self {
        Self(Box::new(known))
    }
}

impl std::ops::Deref for State {
    type Target = Known;

    fn deref(&self) -> &Known {
        &self.0
    }
}

impl std::ops::DerefMut for State {
    fn deref_mut(&mut self) -> &mut Known {
        &mut self.0
    }
}

impl State {
    /// What is known where two ways meet.
    #[must_use]
    pub fn join(self, other: &Self) -> Self {
        let mut joined = self;
        joined.take_in_each(other, true);
        joined
    }

    /// The same, and what holds of these places and others together.
    #[must_use]
    pub fn joined(mut self, other: &Self, amounts: &[Slot]) -> Self {
        self.take_in(other, true, amounts);
        self
    }

    /// The same inside an `after` block, or not.
    #[must_use]
    pub fn set_later(mut self, later: bool) -> Self {
        self.later = later;
        self
    }

    /// What is known at a loop's head after another round; grows in a few steps only.
    #[must_use]
    pub fn widen(&self, next: &Self, thresholds: &[f64]) -> Self {
        let mut joined = self.clone();
        joined.take_in_each(next, true); // What goes together would be another thing in each round.
        let mut wide = joined.clone();
        if joined.forked != self.forked {
            wide.forked = Some(PutOff { first: 0.0, last: f64::INFINITY });
        }
        wide.values.widen(&self.values, thresholds);
        wide.facts = self.facts.widen(&joined.facts, &|slot| wide.ends(slot));
        wide
    }
}

/// What is known.
#[derive(Clone, PartialEq, Debug)]
pub struct Known {
    /// What each slot may hold.
    pub values: Values,
    /// How slots relate.
    pub facts: Facts,
    /// Tests that a `bool` local was given and that still say the same.
    pub tests: Shared<(Slot, ExprId)>,
    /// Forms that are not zero.
    pub unequal: Shared<Linear>,
    /// Terms that would give again what their slots hold.
    pub terms: Shared<(Slot, ExprId)>,
    /// What may be wrong since the last settling.
    pub suspects: Shared<Suspect>,
    /// Slots that others may have seen out of their range: what is known of them takes that not to have happened.
    pub doubted: Shared<Slot>,
    /// Bounds that were written since the last settling: what they bound may be outside by now.
    pub moved_bounds: Shared<Slot>,
    /// Steps since the last settling.
    pub steps: Shared<Arc<PendingStep>>,
    /// What was written since the last settling.
    pub unseen: Shared<Unseen>,
    /// Modes, and numbers that hang on them, that were written since the last settling.
    pub modes: Shared<Slot>,
    /// Signals that were certainly sent since the last wait and whose answer is certain to do something; whether to the own
    /// instance.
    pub sent: Shared<(SignalId, bool)>,
    /// Signals that may have been sent since the last wait, and whose answers build on what is known here, and where.
    pub handing: Shared<(SignalId, Span)>,
    /// What locals were worked out from.
    pub sources: Shared<Source>,
    /// Whether some way leads here without a wait.
    pub at_once: bool,
    /// Whether a wait may have passed.
    pub waited: bool,
    /// Whether this goes on from the game's trigger or the player's choice, before which the queue was empty.
    pub alone: bool,
    /// Whether this is inside an `after` block.
    pub later: bool,
    /// Whether something may have been stepped, sent or spawned.
    pub stepped: bool,
    /// The `after` blocks that were put off, if any was.
    pub forked: Option<PutOff>,
    /// Whether the scene is certainly left once the dispatch is over.
    pub went: bool,
    /// Names that are known to hold the script's own instance, or another than that.
    pub selves: Shared<(Slot, bool)>,
    /// Names of any actor that are known to hold an instance of this one.
    pub kinds: Shared<(Slot, OwnerId)>,
    /// Places that hold the same, as long as neither is written: one was copied from the other.
    pub copies: Shared<(Slot, Slot)>,
    /// Names that are known to hold two different instances.
    pub apart: Shared<(Slot, Slot)>,
    /// The instance of these slots, or the script's own, was removed in this activation.
    pub removed: Shared<Slot>,
}

/// The suspects of two ways that meet; both lists are in order, and so is what comes out.
fn merged(mine: Vec<Suspect>, theirs: &[Suspect]) -> Vec<Suspect> {
    let mut all = Vec::with_capacity(mine.len() + theirs.len());
    let mut mine = mine.into_iter().peekable();
    let mut theirs = theirs.iter().peekable();
    let key = |suspect: &Suspect| (suspect.at, suspect.wrong);
    loop {
        match (mine.peek(), theirs.peek()) {
            (None, None) => return all,
            (Some(a), Some(b)) if key(a) == key(b) => {
                if let (Some(mut a), Some(b)) = (mine.next(), theirs.next()) {
                    a.before = hull(a.before, b.before);
                    a.after = hull(a.after, b.after);
                    a.limit = hull(a.limit, b.limit);
                    all.push(a);
                }
            }
            (Some(a), Some(b)) if key(a) < key(b) => all.extend(mine.next()),
            (Some(_), None) => all.extend(mine.next()),
            _ => all.extend(theirs.next().cloned()),
        }
    }
}

/// From the lower of two beginnings to the higher of two ends.
#[must_use]
pub fn hull(a: (f64, f64), b: (f64, f64)) -> (f64, f64) {
    (a.0.min(b.0), a.1.max(b.1))
}

impl Known {
    /// The test that a `bool` local was given, if it still says the same.
    #[must_use]
    pub fn test_behind(&self, local: Slot) -> Option<ExprId> {
        self.tests.iter().find(|(known, _)| *known == local).map(|&(_, test)| test)
    }

    /// Adds a suspect, in order; one that is known of the same write is replaced.
    pub fn add_suspect(&mut self, suspect: Suspect) {
        let key = (suspect.at, suspect.wrong);
        let suspects = self.suspects.to_mut();
        match suspects.binary_search_by_key(&key, |known| (known.at, known.wrong)) {
            Ok(at) => suspects[at] = suspect,
            Err(at) => suspects.insert(at, suspect),
        }
    }

    /// Takes in that a place was written.
    pub fn add_unseen(&mut self, write: &Unseen) {
        let unseen = self.unseen.to_mut();
        match unseen.binary_search_by_key(&write.slot, |known| known.slot) {
            Ok(at) => {
                let known = &mut unseen[at];
                known.grows = if write.anew { false } else { known.grows || write.grows && !known.anew };
                known.anew |= write.anew;
                known.origin = write.origin;
                known.take_in(write);
            }
            Err(at) => unseen.insert(at, write.clone()),
        }
    }

    /// Takes in what was written on another way that leads here: where only one of the two wrote, others saw what the other holds.
    fn join_unseen(&mut self, other: &Self) {
        let others = &other.unseen;
        let mut unseen = self.unseen.take();
        for known in &mut unseen {
            match others.binary_search_by_key(&known.slot, |other| other.slot) {
                Ok(at) => {
                    known.grows |= others[at].grows;
                    known.anew &= others[at].anew;
                    known.origin = known.origin.either(others[at].origin);
                    known.take_in(&others[at]);
                }
                Err(_) => {
                    known.anew = false;
                    known.origin = known.origin.either(Origin::seen(other.ends(known.slot)));
                }
            }
        }
        for other in others {
            if let Err(at) = unseen.binary_search_by_key(&other.slot, |known| known.slot) {
                let origin = other.origin.either(Origin::seen(self.ends(other.slot)));
                unseen.insert(at, Unseen { anew: false, origin, ..other.clone() });
            }
        }
        self.unseen = unseen.into();
    }

    /// The ends of a slot's range.
    #[must_use]
    pub fn ends(&self, slot: Slot) -> (f64, f64) {
        self.values.get(slot as usize).map_or((f64::NEG_INFINITY, f64::INFINITY), |value| value.value.ends())
    }

    /// The value of a slot.
    #[must_use]
    pub fn value(&self, slot: Slot) -> &Abstract {
        &self.values[slot as usize]
    }

    /// The number that a slot may hold.
    #[must_use]
    pub fn num(&self, slot: Slot) -> Option<&Num> {
        self.values[slot as usize].num()
    }

    /// Whether a name holds the script's own instance, if that is known.
    #[must_use]
    pub fn holds_self(&self, holder: Slot) -> Option<bool> {
        self.selves.iter().find(|(known, _)| *known == holder).map(|&(_, own)| own)
    }

    /// The actor whose instance a name of any actor holds, if that is known.
    #[must_use]
    pub fn kind(&self, holder: Slot) -> Option<OwnerId> {
        self.kinds.iter().find(|(known, _)| *known == holder).map(|&(_, actor)| actor)
    }

    /// Forgets what is known of the instance that a name holds, beside whether there is one.
    pub fn forget_held(&mut self, holder: Slot) {
        self.kinds.retain(|&(known, _)| known != holder);
        self.copies.retain(|&(copy, from)| copy != holder && from != holder);
        self.apart.retain(|&(a, b)| a != holder && b != holder);
    }

    /// Takes in that a form is not zero.
    pub fn add_unequal(&mut self, form: Linear) {
        if self.unequal.len() < MOST_UNEQUAL && form.is_known() && !form.terms.is_empty() {
            self.unequal.push_new(form);
        }
    }

    /// Whether a form is known not to be zero.
    #[must_use]
    pub fn is_unequal(&self, form: &Linear) -> bool {
        let ends = |slot| self.ends(slot);
        let is_zero = |form: Linear| {
            let is_never_above = |form: &Linear| match form.terms.is_empty() {
                true => form.constant <= 0.0,
                false => form.is_known() && self.facts.implies(form, &ends),
            };
            is_never_above(&form) && is_never_above(&form.times(-1.0))
        };
        self.unequal.iter().any(|known| is_zero(known.plus(form, -1.0)) || is_zero(known.plus(form, 1.0)))
    }

    /// Whether two names are known to hold different instances.
    #[must_use]
    pub fn are_apart(&self, a: Slot, b: Slot) -> bool {
        self.apart.contains(&(a.min(b), a.max(b)))
    }

    /// The places that hold the same as this one.
    #[must_use]
    pub fn copies_of(&self, holder: Slot) -> SmallVec<[Slot; 2]> {
        let other = |&(copy, from): &(Slot, Slot)| match holder {
            _ if copy == holder => Some(from),
            _ if from == holder => Some(copy),
            _ => None,
        };
        self.copies.iter().filter_map(other).collect()
    }

    /// Forgets how slots relate to others that nobody will ask for again; what that says of others together is kept, within a
    /// loop also where it says no more than their ranges, which may still grow.
    pub fn forget_all(&mut self, slots: &[Slot], in_loop: bool) {
        for &slot in slots {
            for fact in self.facts.pairs_with(slot) {
                self.narrow_by(&fact);
            }
            let mut facts = std::mem::take(&mut self.facts);
            facts.forget_within(slot, &|slot| self.ends(slot), in_loop);
            self.facts = facts;
        }
    }

    /// A slot takes a new value, with these ends, that lies below each of `uppers` and above each of `lowers`.
    pub fn relate(&mut self, slot: Slot, uppers: &[Linear], lowers: &[Linear], new_ends: (f64, f64)) {
        let mut facts = std::mem::take(&mut self.facts);
        facts.assign(slot, uppers, lowers, &|slot| self.ends(slot), new_ends);
        self.facts = facts;
    }

    /// Takes a form to be at most zero; none where the facts say that it always is above.
    #[must_use]
    pub fn assume(&mut self, form: Linear) -> Option<()> {
        if let [(slot, factor)] = form.terms[..] {
            return self.assume_of_one((slot, factor), form);
        }
        if -self.facts.highest(&form.times(-1.0), &|slot| self.ends(slot)) > 0.0 {
            return None;
        }
        let before: SmallVec<[(Slot, (f64, f64)); 4]> =
            form.terms.iter().map(|&(slot, _)| (slot, self.ends(slot))).collect();
        self.narrow_by(&form)?;
        self.facts.add(form);
        // What is known of a place tells of those that it is paired with, also where the two ways meet again.
        for (slot, ends) in before {
            if self.ends(slot) != ends {
                self.narrow_paired(slot)?;
            }
        }
        Some(())
    }

    /// The same for a form about one place, which its range can tell by itself.
    fn assume_of_one(&mut self, (slot, factor): (Slot, f64), form: Linear) -> Option<()> {
        let (lo, hi) = self.ends(slot);
        let least = factor * if factor > 0.0 { lo } else { hi };
        if least + form.constant > 0.0 {
            return None;
        }
        self.limit((slot, factor), form.constant)?;
        if self.ends(slot) != (lo, hi) {
            self.narrow_paired(slot)?;
        }
        Some(())
    }

    /// Narrows the range of each slot of a form that is at most zero; none where it can't be.
    pub fn narrow_by(&mut self, form: &Linear) -> Option<()> {
        for &(slot, factor) in form.terms.iter() {
            let rest = form.without(slot).times(-1.0);
            let lowest = -self.facts.highest(&rest, &|slot| self.ends(slot));
            self.limit((slot, factor), lowest)?;
        }
        Some(())
    }

    /// Narrows the ranges of those that a fact pairs with a slot, by that slot's own.
    fn narrow_paired(&mut self, slot: Slot) -> Option<()> {
        let facts = self.facts.clone();
        let (lo, hi) = self.ends(slot);
        for (factor, other, constant) in facts.paired(slot) {
            self.limit(other, constant + factor * if factor > 0.0 { lo } else { hi })?;
        }
        Some(())
    }

    /// Takes `factor · slot` to be at most what is missing from `lowest` to zero; none where it can't be.
    fn limit(&mut self, (slot, factor): (Slot, f64), lowest: f64) -> Option<()> {
        let Some(num) = self.num(slot).filter(|_| lowest.is_finite()) else { return Some(()) };
        let limit = num.own_near(snapped(-lowest / factor));
        let cut = match factor > 0.0 {
            true if limit < num.hi => Num::range(f64::NEG_INFINITY, limit, num.int),
            false if limit > num.lo => Num::range(limit, f64::INFINITY, num.int),
            _ => return Some(()),
        };
        self.values[slot as usize].value = Value::Num(num.meet(&cut)?);
        Some(())
    }

    /// Becomes what is known where another way joins this one, with what holds of these places and others together. Outside of loops
    /// ranges grow no more, and what says no more than they do is left out.
    pub fn take_in(&mut self, other: &Self, in_loop: bool, amounts: &[Slot]) {
        let together = super::together::facts(self, other, amounts);
        self.take_in_each(other, in_loop);
        together.into_iter().for_each(|fact| self.facts.add(fact));
    }

    /// The same but for what places do together.
    fn take_in_each(&mut self, other: &Self, in_loop: bool) {
        let (mine, theirs) = (self.terms_unknown_to(other), other.terms_unknown_to(self));
        self.forget_all(&mine, in_loop);
        let level = (!theirs.is_empty()).then(|| {
            let mut level = other.clone();
            level.forget_all(&theirs, in_loop);
            level
        });
        let other = level.as_ref().unwrap_or(other);
        let facts = if self.facts.is_empty() && other.facts.is_empty() {
            self.facts.clone()
        } else {
            self.facts.join(&|slot| self.ends(slot), &other.facts, &|slot| other.ends(slot), in_loop)
        };
        if self.unseen != other.unseen {
            self.join_unseen(other);
        }
        self.values.join(&other.values);
        self.facts = facts;
        self.take_history(other);
    }

    /// The terms that are known here only: what they tell of other places is all that can be kept where the ways meet.
    fn terms_unknown_to(&self, other: &Self) -> SmallVec<[Slot; 4]> {
        let is_known = |slot: Slot| other.terms.iter().any(|&(known, _)| known == slot);
        self.terms.iter().map(|&(slot, _)| slot).filter(|&slot| !is_known(slot)).collect()
    }

    fn take_history(&mut self, other: &Self) {
        self.tests.retain(|test| other.tests.contains(test));
        self.unequal.retain(|form| other.unequal.contains(form));
        self.terms.retain(|(slot, _)| other.terms.iter().any(|(known, _)| known == slot));
        self.selves.retain(|known| other.selves.contains(known));
        self.kinds.retain(|known| other.kinds.contains(known));
        self.copies.retain(|pair| other.copies.contains(pair));
        self.apart.retain(|pair| other.apart.contains(pair));
        if self.suspects != other.suspects {
            self.suspects = merged(self.suspects.take(), &other.suspects).into();
        }
        if self.sources != other.sources {
            self.take_sources(&other.sources);
        }
        other.doubted.iter().for_each(|&slot| self.doubted.push_new(slot));
        other.moved_bounds.iter().for_each(|&slot| self.moved_bounds.push_new(slot));
        other.modes.iter().for_each(|&slot| self.modes.push_new(slot));
        self.removed.retain(|slot| other.removed.contains(slot));
        self.sent.retain(|sent| other.sent.contains(sent));
        other.handing.iter().for_each(|&sent| self.handing.push_new(sent));
        self.at_once |= other.at_once;
        self.waited |= other.waited;
        self.alone &= other.alone;
        self.later |= other.later;
        self.stepped |= other.stepped;
        self.forked = PutOff::either(self.forked, other.forked);
        self.went &= other.went;
        for step in &other.steps {
            if self.steps.len() >= MOST_STEPS {
                break;
            }
            self.steps.push_new(step.clone());
        }
    }

    fn take_sources(&mut self, theirs: &[Source]) {
        let sources = self.sources.to_mut();
        for source in theirs {
            match sources.iter_mut().find(|mine| mine.local == source.local && mine.read == source.read) {
                Some(mine) => mine.stale |= source.stale,
                None => sources.push(source.clone()),
            }
        }
    }
}
