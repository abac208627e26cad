//! Relations between places: a short list of linear inequalities.
//!
//! Guards such as `if parcels < hold_size` leave facts of the form `parcels - hold_size + 1 ≤ 0`. They are kept as
//! sparse inequalities over a few places, a light form of the polyhedra of Cousot and Halbwachs (1978) that covers
//! difference bounds and octagons; an assignment projects the old value out by Fourier–Motzkin elimination. The list
//! is short, so what follows from it is found by adding up a few facts at a time. Dropping a fact is always sound.

use smallvec::{SmallVec, smallvec};
use std::sync::Arc;

/// A place inside one analysis: a dense index.
pub type Slot = u32;

/// Stands for the new value while an assignment is worked out.
const FRESH: Slot = Slot::MAX;
/// How many facts are kept.
const MOST_FACTS: usize = 24;
/// How many terms a fact may have.
const MOST_TERMS: usize = 4;
/// How far sums of facts are followed.
#[derive(Clone, Copy)]
struct Effort {
    /// How many facts are added up.
    depth: u32,
    /// How many sums are looked at.
    sums: u32,
}

/// To see whether something is certain.
const CERTAIN: Effort = Effort { depth: 3, sums: 240 };
/// To bound a form, where every sum would have to be looked at.
const BOUND: Effort = Effort { depth: 3, sums: 80 };
/// Where two ways meet.
const MEET: Effort = Effort { depth: 2, sums: 80 };
/// How many single places above a form are looked at.
const MOST_PLACES: usize = 8;
/// `Σ factor · slot + constant`
#[derive(Clone, PartialEq, Debug)]
pub struct Linear {
    /// The terms, by slot, with factors other than zero.
    pub terms: SmallVec<[(Slot, f64); 4]>,
    /// The constant.
    pub constant: f64,
}

impl Linear {
    /// A constant.
    #[must_use]
    pub fn constant(value: f64) -> Self {
        Self { terms: SmallVec::new(), constant: value }
    }

    /// The value of a slot.
    #[must_use]
    pub fn slot(slot: Slot) -> Self {
        Self { terms: smallvec![(slot, 1.0)], constant: 0.0 }
    }

    /// A bit for each of its slots and signs: two forms without a bit in common have no term that a difference cancels.
    fn shadow(&self) -> u64 {
        self.terms.iter().fold(0, |all, &(slot, factor)| all | 1 << ((slot * 2 + u32::from(factor > 0.0)) % 64))
    }

    /// The factor of a slot.
    #[must_use]
    pub fn factor(&self, slot: Slot) -> f64 {
        self.terms.iter().find(|(at, _)| *at == slot).map_or(0.0, |&(_, factor)| factor)
    }

    /// `self + by · other`
    #[must_use]
    pub fn plus(&self, other: &Self, by: f64) -> Self {
        let mut terms = SmallVec::new();
        self.merge(other, by, |term| {
            terms.push(term);
            true
        });
        Self { terms, constant: self.constant + other.constant * by }
    }

    /// Calls `take` for each term of `self + by · other`, by slot, until it gives false.
    fn merge(&self, other: &Self, by: f64, mut take: impl FnMut((Slot, f64)) -> bool) {
        let (mut mine, mut theirs) = (&self.terms[..], &other.terms[..]);
        loop {
            let term = match (mine, theirs) {
                ([], []) => return,
                ([a, rest @ ..], []) => {
                    mine = rest;
                    *a
                }
                ([a, rest @ ..], [b, ..]) if a.0 < b.0 => {
                    mine = rest;
                    *a
                }
                ([a, rest @ ..], [b, others @ ..]) if a.0 == b.0 => {
                    (mine, theirs) = (rest, others);
                    (a.0, a.1 + b.1 * by)
                }
                (_, [b, others @ ..]) => {
                    theirs = others;
                    (b.0, b.1 * by)
                }
            };
            if term.1.abs() >= 1e-12 && !take(term) {
                return;
            }
        }
    }

    /// The largest value of `self + by · other` by the ends of the slots' ranges alone.
    fn highest_with(&self, other: &Self, by: f64, ends: &impl Fn(Slot) -> (f64, f64)) -> f64 {
        let mut sum = self.constant + other.constant * by;
        self.merge(other, by, |(slot, factor)| {
            let (lo, hi) = ends(slot);
            let end = if factor > 0.0 { hi } else { lo };
            sum = if end.is_infinite() { f64::INFINITY } else { sum + factor * end };
            sum < f64::INFINITY
        });
        sum
    }

    /// `by · self`
    #[must_use]
    pub fn times(&self, by: f64) -> Self {
        if by == 0.0 {
            return Self::constant(0.0);
        }
        let terms = self.terms.iter().map(|&(slot, factor)| (slot, factor * by)).collect();
        Self { terms, constant: self.constant * by }
    }

    fn rename(mut self, from: Slot, to: Slot) -> Self {
        for term in &mut self.terms {
            if term.0 == from {
                term.0 = to;
            }
        }
        self.terms.sort_unstable_by_key(|&(slot, _)| slot);
        self
    }

    /// The largest value by the ends of the slots' ranges alone.
    fn highest(&self, ends: &impl Fn(Slot) -> (f64, f64)) -> f64 {
        let mut sum = self.constant;
        for &(slot, factor) in &self.terms {
            let (lo, hi) = ends(slot);
            let end = if factor > 0.0 { hi } else { lo };
            if end.is_infinite() {
                return f64::INFINITY;
            }
            sum += factor * end;
        }
        sum
    }
}

/// A number that divisions on the way may have left a little beside a whole one.
#[must_use]
pub fn snapped(value: f64) -> f64 {
    let whole = value.round();
    if (value - whole).abs() < 1e-9 * (1.0 + whole.abs()) { whole } else { value }
}

/// Inequalities that hold: each says that its form is at most zero.
#[derive(Clone, PartialEq, Debug, Default)]
pub struct Facts {
    /// Shared between the states that know the same, since most branches leave it as it is.
    known: Arc<Vec<Linear>>,
}

impl Facts {
    /// Whether nothing is known.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.known.is_empty()
    }

    /// Adds `form ≤ 0`.
    pub fn add(&mut self, form: Linear) {
        if form.terms.len() < 2 || form.terms.len() > MOST_TERMS || !form.constant.is_finite() {
            return; // Facts about one place are the ranges' business.
        }
        if let Some(at) = self.known.iter().position(|known| known.terms == form.terms) {
            if form.constant > self.known[at].constant {
                Arc::make_mut(&mut self.known)[at].constant = form.constant;
            }
            return;
        }
        if self.known.len() >= MOST_FACTS {
            let longest = (0..self.known.len()).max_by_key(|&at| self.known[at].terms.len());
            match longest {
                Some(at) if self.known[at].terms.len() > form.terms.len() => {
                    Arc::make_mut(&mut self.known).remove(at);
                }
                _ => return,
            }
        }
        Arc::make_mut(&mut self.known).push(form);
    }

    /// The largest value that a form can have, by the facts and by the ends of the slots' ranges.
    #[must_use]
    pub fn highest(&self, form: &Linear, ends: &impl Fn(Slot) -> (f64, f64)) -> f64 {
        // What a single place is at most was worked into its range as each fact came.
        let effort = if form.terms.len() == 1 { MEET } else { BOUND };
        self.search(form, ends, f64::NEG_INFINITY, effort)
    }

    /// Whether a form is known to be at most zero.
    #[must_use]
    pub fn implies(&self, form: &Linear, ends: &impl Fn(Slot) -> (f64, f64)) -> bool {
        self.search(form, ends, 0.0, CERTAIN) <= 0.0
    }

    /// Single places that a form may lie below, give or take a constant: its own, and those that a fact puts above them.
    #[must_use]
    pub fn places_above(&self, form: &Linear) -> SmallVec<[Linear; 4]> {
        let own = form.terms.iter().filter(|(_, factor)| factor.abs() == 1.0);
        let mut places: SmallVec<[Linear; 4]> =
            own.map(|&term| Linear { terms: smallvec![term], constant: 0.0 }).collect();
        for at in 0..places.len() {
            let (slot, factor) = places[at].terms[0];
            for fact in self.known.iter().filter(|fact| fact.terms.len() == 2 && fact.factor(slot) * factor > 0.0) {
                let mut further = places[at].plus(fact, -factor / fact.factor(slot));
                further.constant = 0.0;
                if further.terms.len() == 1 && !places.contains(&further) {
                    places.push(further);
                }
            }
        }
        places.truncate(MOST_PLACES);
        places
    }

    /// The largest value that a form is seen to have at a glance.
    #[must_use]
    pub fn plainly_highest(&self, form: &Linear, ends: &impl Fn(Slot) -> (f64, f64)) -> f64 {
        self.search(form, ends, f64::NEG_INFINITY, MEET)
    }

    /// Adds up facts, one at a time, until the form is known to be at most `enough`, or nothing is left to try.
    fn search(&self, form: &Linear, ends: &impl Fn(Slot) -> (f64, f64), enough: f64, effort: Effort) -> f64 {
        let mut best = form.highest(ends);
        if best <= enough || self.known.is_empty() || form.terms.is_empty() {
            return best;
        }
        let mut budget = effort.sums;
        let shadows: SmallVec<[u64; MOST_FACTS]> = self.known.iter().map(Linear::shadow).collect();
        let mut sums: SmallVec<[Linear; 6]> = smallvec![form.clone()];
        let mut from = 0;
        for depth in 1..=effort.depth {
            let to = sums.len();
            for at in from..to {
                let form = sums[at].clone();
                let shadow = form.shadow();
                let touching = self.known.iter().zip(&shadows).filter(|&(_, other)| shadow & other != 0);
                let terms = touching.flat_map(|(fact, _)| fact.terms.iter().map(move |term| (fact, term)));
                for (fact, &(slot, factor)) in terms {
                    // Taking away a fact in which a place has the same sign cancels that place.
                    let by = form.factor(slot) / factor;
                    if by <= 0.0 {
                        continue;
                    }
                    budget -= 1;
                    if budget == 0 {
                        return best;
                    }
                    if depth == effort.depth {
                        best = best.min(snapped(form.highest_with(fact, -by, ends)));
                        if best <= enough {
                            return best;
                        }
                        continue;
                    }
                    let rest = form.plus(fact, -by);
                    let told = |sum: &Linear| sum.terms == rest.terms && sum.constant <= rest.constant;
                    if rest.terms.len() > form.terms.len() + 1 || sums.iter().any(told) {
                        continue;
                    }
                    best = best.min(snapped(rest.highest(ends)));
                    if best <= enough {
                        return best;
                    }
                    if !rest.terms.is_empty() {
                        sums.push(rest);
                    }
                }
            }
            from = to;
        }
        best
    }

    /// The facts about a slot and one other.
    #[must_use]
    pub fn pairs_with(&self, slot: Slot) -> SmallVec<[Linear; 4]> {
        let pairs = self.known.iter().filter(|fact| fact.terms.len() == 2 && fact.factor(slot) != 0.0);
        pairs.cloned().collect()
    }

    /// Forgets all facts about a slot, but keeps what they say of others together.
    pub fn forget(&mut self, slot: Slot) {
        if self.known.iter().any(|fact| fact.factor(slot) != 0.0) {
            self.eliminate(Vec::new(), slot);
        }
    }

    /// Forgets the facts about a slot that may fail when its value grows (`up`) or shrinks (`down`).
    pub fn loosen(&mut self, slot: Slot, up: bool, down: bool) {
        let fails = |fact: &Linear| {
            let factor = fact.factor(slot);
            factor > 0.0 && up || factor < 0.0 && down
        };
        if self.known.iter().any(fails) {
            Arc::make_mut(&mut self.known).retain(|fact| !fails(fact));
        }
    }

    /// The same for a slot whose ends are known: what they say of its facts is kept too.
    pub fn forget_within(&mut self, slot: Slot, (lo, hi): (f64, f64)) {
        if self.known.iter().all(|fact| fact.factor(slot) == 0.0) {
            return;
        }
        let value = Linear::slot(slot);
        let low = lo.is_finite().then(|| Linear::constant(lo).plus(&value, -1.0));
        let high = hi.is_finite().then(|| value.plus(&Linear::constant(hi), -1.0));
        self.eliminate(low.into_iter().chain(high).collect(), slot);
    }

    /// `slot` takes a new value that lies below each of `uppers` and above each of `lowers`, forms over the old values; the
    /// ends are those of its old one.
    pub fn assign(&mut self, slot: Slot, uppers: &[Linear], lowers: &[Linear], (lo, hi): (f64, f64)) {
        let fresh = Linear::slot(FRESH);
        let mut new: Vec<Linear> = uppers.iter().map(|upper| fresh.plus(upper, -1.0)).collect();
        new.extend(lowers.iter().map(|lower| lower.plus(&fresh, -1.0)));
        if new.is_empty() {
            self.forget(slot);
            return;
        }
        // A step by another place: how far the value was at most, or at least, tells how it relates to that place now.
        if new.iter().any(|fact| fact.terms.len() > 2 && fact.factor(slot) != 0.0) {
            let old = Linear::slot(slot);
            new.extend(lo.is_finite().then(|| Linear::constant(lo).plus(&old, -1.0)));
            new.extend(hi.is_finite().then(|| old.plus(&Linear::constant(hi), -1.0)));
        }
        self.eliminate(new, slot);
    }

    /// Takes in new facts, then Fourier–Motzkin: every upper bound of the slot meets every lower one. What is left of the
    /// fresh value becomes the slot's.
    fn eliminate(&mut self, new: Vec<Linear>, slot: Slot) {
        let names = |fact: &Linear| fact.factor(slot) != 0.0;
        let (with, others): (Vec<Linear>, Vec<Linear>) =
            Arc::unwrap_or_clone(std::mem::take(&mut self.known)).into_iter().partition(names);
        let (meeting, plain): (Vec<Linear>, Vec<Linear>) = new.into_iter().chain(with).partition(names);
        let (above, below): (Vec<&Linear>, Vec<&Linear>) = meeting.iter().partition(|fact| fact.factor(slot) > 0.0);
        let pairs = above.iter().flat_map(|a| below.iter().map(move |b| (a, b)));
        let sums = pairs.map(|(a, b)| a.times(1.0 / a.factor(slot)).plus(b, -1.0 / b.factor(slot)));
        for fact in sums.chain(plain) {
            self.add(fact.rename(FRESH, slot));
        }
        let fresh = self.known.len();
        for fact in others {
            // Two facts that were known before have different terms.
            if self.known.len() >= MOST_FACTS || self.known[..fresh].iter().any(|known| known.terms == fact.terms) {
                self.add(fact);
            } else {
                Arc::make_mut(&mut self.known).push(fact);
            }
        }
    }

    /// Facts that hold on both of two ways.
    #[must_use]
    pub fn join(
        &self,
        ends: &impl Fn(Slot) -> (f64, f64),
        other: &Self,
        other_ends: &impl Fn(Slot) -> (f64, f64),
    ) -> Self {
        if Arc::ptr_eq(&self.known, &other.known) || self == other {
            return self.clone();
        }
        let mut joined = Self::default();
        for fact in self.known.iter() {
            match other.known.iter().find(|theirs| theirs.terms == fact.terms) {
                Some(theirs) => {
                    let constant = fact.constant.min(theirs.constant);
                    joined.add(Linear { terms: fact.terms.clone(), constant });
                }
                None => joined.add_what_both_know(fact, ends, other, other_ends),
            }
        }
        for fact in other.known.iter() {
            if !self.known.iter().any(|mine| mine.terms == fact.terms) {
                joined.add_what_both_know(fact, other_ends, self, ends);
            }
        }
        joined
    }

    /// Adds as much of one side's fact as the other side knows too; of a fact about three places also what it says, by the
    /// range of one of them, of the other two.
    fn add_what_both_know(
        &mut self,
        fact: &Linear,
        ends: &impl Fn(Slot) -> (f64, f64),
        other: &Self,
        other_ends: &impl Fn(Slot) -> (f64, f64),
    ) {
        self.add_weakened(fact, other, other_ends);
        if fact.terms.len() != 3 {
            return;
        }
        for (at, &(slot, factor)) in fact.terms.iter().enumerate() {
            let (lo, hi) = ends(slot);
            let least = factor * if factor > 0.0 { lo } else { hi };
            if least.is_finite() {
                let mut pair = fact.clone();
                pair.terms.remove(at);
                pair.constant += least;
                self.add_weakened(&pair, other, other_ends);
            }
        }
    }

    /// Adds as much of a fact as the other side knows too.
    fn add_weakened(&mut self, fact: &Linear, other: &Self, ends: &impl Fn(Slot) -> (f64, f64)) {
        let form = Linear { terms: fact.terms.clone(), constant: 0.0 };
        let highest = other.search(&form, ends, -fact.constant, MEET).max(-fact.constant);
        if highest.is_finite() {
            self.add(Linear { constant: -highest, ..form });
        }
    }

    /// The facts that still hold in a later round of a loop.
    #[must_use]
    pub fn widen(&self, later: &Self, later_ends: &impl Fn(Slot) -> (f64, f64)) -> Self {
        let holds = |fact: &&Linear| later.implies(fact, later_ends);
        Self { known: Arc::new(self.known.iter().filter(holds).cloned().collect()) }
    }
}
