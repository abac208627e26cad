//! Relations between places: a short list of linear inequalities.
//!
//! Guards such as `if parcels < hold_size` leave facts of the form `parcels - hold_size + 1 ≤ 0`. They are kept as
//! sparse inequalities over a few places, a light form of the polyhedra of Cousot and Halbwachs (1978) that covers
//! difference bounds and octagons; an assignment projects the old value out by Fourier–Motzkin elimination. The list
//! is short, so what follows from it is found by adding up a few facts at a time. Dropping a fact is always sound.

use smallvec::{SmallVec, smallvec};

/// A place inside one analysis: a dense index.
pub type Slot = u32;

/// Stands for the new value while an assignment is worked out.
const FRESH: Slot = Slot::MAX;
/// How many facts are kept.
const MOST_FACTS: usize = 24;
/// How many terms a fact may have.
const MOST_TERMS: usize = 4;
/// How many facts are added up to bound a form.
const DEPTH: u32 = 3;
/// How many facts are added up where two ways meet.
const DEPTH_OF_JOINS: u32 = 2;
/// How many sums are looked at to bound a form.
const MOST_SUMS: u32 = 240;

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

    /// The factor of a slot.
    #[must_use]
    pub fn factor(&self, slot: Slot) -> f64 {
        self.terms.iter().find(|(at, _)| *at == slot).map_or(0.0, |&(_, factor)| factor)
    }

    /// `self + by · other`
    #[must_use]
    pub fn plus(&self, other: &Self, by: f64) -> Self {
        let mut sum = self.clone();
        sum.constant += other.constant * by;
        for &(slot, factor) in &other.terms {
            match sum.terms.binary_search_by_key(&slot, |&(at, _)| at) {
                Ok(at) => {
                    sum.terms[at].1 += factor * by;
                    if sum.terms[at].1.abs() < 1e-12 {
                        sum.terms.remove(at);
                    }
                }
                Err(at) => sum.terms.insert(at, (slot, factor * by)),
            }
        }
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

/// Inequalities that hold: each says that its form is at most zero.
#[derive(Clone, PartialEq, Debug, Default)]
pub struct Facts {
    known: Vec<Linear>,
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
        if let Some(same) = self.known.iter_mut().find(|known| known.terms == form.terms) {
            same.constant = same.constant.max(form.constant);
            return;
        }
        if self.known.len() >= MOST_FACTS {
            let longest = (0..self.known.len()).max_by_key(|&at| self.known[at].terms.len());
            match longest {
                Some(at) if self.known[at].terms.len() > form.terms.len() => {
                    self.known.remove(at);
                }
                _ => return,
            }
        }
        self.known.push(form);
    }

    /// The largest value that a form can have, by the facts and by the ends of the slots' ranges.
    #[must_use]
    pub fn highest(&self, form: &Linear, ends: &impl Fn(Slot) -> (f64, f64)) -> f64 {
        self.search(form, ends, f64::NEG_INFINITY, DEPTH)
    }

    /// Whether a form is known to be at most zero.
    #[must_use]
    pub fn implies(&self, form: &Linear, ends: &impl Fn(Slot) -> (f64, f64)) -> bool {
        self.search(form, ends, 0.0, DEPTH) <= 0.0
    }

    /// Adds up facts, one at a time, until the form is known to be at most `enough`, or nothing is left to try.
    fn search(&self, form: &Linear, ends: &impl Fn(Slot) -> (f64, f64), enough: f64, depth: u32) -> f64 {
        let mut best = form.highest(ends);
        if best <= enough || self.known.is_empty() {
            return best;
        }
        let mut budget = MOST_SUMS;
        let mut level: Vec<Linear> = vec![form.clone()];
        for _ in 0..depth {
            let mut next: Vec<Linear> = Vec::new();
            for form in &level {
                for fact in &self.known {
                    // Taking away a fact in which a place has the same sign cancels that place.
                    for &(slot, factor) in &fact.terms {
                        let by = form.factor(slot) / factor;
                        if by <= 0.0 {
                            continue;
                        }
                        budget -= 1;
                        if budget == 0 {
                            return best;
                        }
                        let rest = form.plus(fact, -by);
                        if rest.terms.len() > form.terms.len() + 1 || next.contains(&rest) {
                            continue;
                        }
                        best = best.min(rest.highest(ends));
                        if best <= enough {
                            return best;
                        }
                        next.push(rest);
                    }
                }
            }
            level = next;
        }
        best
    }

    /// Forgets all facts about a slot, but keeps what they say of others together.
    pub fn forget(&mut self, slot: Slot) {
        if self.known.iter().any(|fact| fact.factor(slot) != 0.0) {
            self.eliminate(slot);
        }
    }

    /// Forgets the facts about a slot that may fail when its value grows (`up`) or shrinks (`down`).
    pub fn loosen(&mut self, slot: Slot, up: bool, down: bool) {
        self.known.retain(|fact| {
            let factor = fact.factor(slot);
            !(factor > 0.0 && up || factor < 0.0 && down)
        });
    }

    /// `slot` takes a new value that lies below each of `uppers` and above each of `lowers`, forms over the old values.
    pub fn assign(&mut self, slot: Slot, uppers: &[Linear], lowers: &[Linear]) {
        let fresh = Linear::slot(FRESH);
        let mut new: Vec<Linear> = uppers.iter().map(|upper| fresh.plus(upper, -1.0)).collect();
        new.extend(lowers.iter().map(|lower| lower.plus(&fresh, -1.0)));
        self.known.splice(0..0, new);
        self.eliminate(slot);
        let renamed: Vec<Linear> = std::mem::take(&mut self.known);
        for fact in renamed {
            self.add(fact.rename(FRESH, slot));
        }
    }

    /// Fourier–Motzkin: every upper bound of the slot meets every lower one.
    fn eliminate(&mut self, slot: Slot) {
        let all = std::mem::take(&mut self.known);
        let (with, without): (Vec<Linear>, Vec<Linear>) = all.into_iter().partition(|fact| fact.factor(slot) != 0.0);
        let (above, below): (Vec<&Linear>, Vec<&Linear>) = with.iter().partition(|fact| fact.factor(slot) > 0.0);
        for a in &above {
            for b in &below {
                let sum = a.times(1.0 / a.factor(slot)).plus(b, -1.0 / b.factor(slot));
                self.add(sum);
            }
        }
        for fact in without {
            self.add(fact);
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
        if self == other {
            return self.clone();
        }
        let mut joined = Self::default();
        for fact in &self.known {
            match other.known.iter().find(|theirs| theirs.terms == fact.terms) {
                Some(theirs) => {
                    let constant = fact.constant.min(theirs.constant);
                    joined.add(Linear { terms: fact.terms.clone(), constant });
                }
                None => joined.add_weakened(fact, other, other_ends),
            }
        }
        for fact in &other.known {
            if !self.known.iter().any(|mine| mine.terms == fact.terms) {
                joined.add_weakened(fact, self, ends);
            }
        }
        joined
    }

    /// Adds as much of a fact as the other side knows too.
    fn add_weakened(&mut self, fact: &Linear, other: &Self, ends: &impl Fn(Slot) -> (f64, f64)) {
        let form = Linear { terms: fact.terms.clone(), constant: 0.0 };
        let highest = other.search(&form, ends, -fact.constant, DEPTH_OF_JOINS).max(-fact.constant);
        if highest.is_finite() {
            self.add(Linear { constant: -highest, ..form });
        }
    }

    /// The facts that still hold in a later round of a loop.
    #[must_use]
    pub fn widen(&self, later: &Self, later_ends: &impl Fn(Slot) -> (f64, f64)) -> Self {
        let holds = |fact: &&Linear| later.implies(fact, later_ends);
        Self { known: self.known.iter().filter(holds).cloned().collect() }
    }
}
