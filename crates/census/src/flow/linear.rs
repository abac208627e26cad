//! Relations between places: a short list of linear inequalities.
//!
//! Guards such as `if parcels < hold_size` leave facts of the form `parcels - hold_size + 1 ≤ 0`. They are kept as
//! sparse inequalities over a few places, a light form of the polyhedra of Cousot and Halbwachs (1978) that covers
//! difference bounds and octagons; an assignment projects the old value out by Fourier–Motzkin elimination. The list
//! is short, so what follows from it is found by adding up a few facts at a time. Dropping a fact is always sound.

use super::value::{gcd, is_whole};
use smallvec::{SmallVec, smallvec};
use std::sync::Arc;

/// A place inside one analysis: a dense index.
pub type Slot = u32;

/// The ends of slots' ranges: one kind for all who ask, since a copy of every search for each would crowd the processor's cache.
pub type Ends<'a> = &'a dyn Fn(Slot) -> (f64, f64);

/// Stands for the new value while an assignment is worked out.
const FRESH: Slot = Slot::MAX;
/// How many facts are kept: in a long body there are many places, each beside its own bound.
const MOST_FACTS: usize = 128;
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

/// How many sums are looked through one by one.
const FEW_SUMS: usize = 12;
/// To see whether something is certain.
const CERTAIN: Effort = Effort { depth: 3, sums: 240 };
/// To bound a form, where every sum would have to be looked at.
const BOUND: Effort = Effort { depth: 3, sums: 80 };
/// Where two ways meet.
const MEET: Effort = Effort { depth: 2, sums: 80 };
/// How many single places above a form are looked at.
const MOST_PLACES: usize = 8;

/// How long a body is: the longer, the less is kept of what places have to do with each other.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug, Default)]
pub enum BodyLength {
    /// As nearly all are.
    #[default]
    Ordinary,
    /// Where many places are, much can be said of them, and little of that is ever asked.
    Middling,
    /// Beyond what anybody writes by hand.
    Long,
}

impl BodyLength {
    /// Of a body with so many steps and ways, those in loops counted as often as they are gone through.
    #[must_use]
    pub fn of(steps: usize) -> Self {
        match steps {
            0..=150 => Self::Ordinary,
            151..=600 => Self::Middling,
            _ => Self::Long,
        }
    }

    /// How many facts are kept that have a place in common with a new one.
    fn most_beside(self) -> usize {
        match self {
            Self::Ordinary => 60,
            Self::Middling => 20,
            Self::Long => 16,
        }
    }

    /// How many sums are looked at.
    fn sums(self, effort: Effort) -> u32 {
        match self {
            Self::Ordinary => effort.sums,
            Self::Middling => effort.sums / 2,
            Self::Long => effort.sums / 3,
        }
    }
}

/// Where among many sums each stands, by its terms: a table with open addressing (W. W. Peterson, "Addressing for
/// random-access storage", 1957) that holds one more than the place.
struct Places([u8; 512]);

impl Places {
    fn of(sums: &[Linear]) -> Self {
        let mut places = Self([0; 512]);
        for (at, sum) in sums.iter().enumerate() {
            places.add(sum, at);
        }
        places
    }

    /// Whether one of the sums tells as much as a form.
    fn tell(&self, sums: &[Linear], form: &Linear) -> bool {
        let mut known = probes(form).map(|probe| self.0[probe]).take_while(|&place| place != 0);
        known.any(|place| sums[usize::from(place) - 1].tells(form))
    }

    fn add(&mut self, form: &Linear, at: usize) {
        let free = probes(form).find(|&probe| self.0[probe] == 0);
        if let (Some(free), Ok(place)) = (free, u8::try_from(at + 1)) {
            self.0[free] = place;
        }
    }
}

/// Where in the table to look for a form, one place after another.
fn probes(form: &Linear) -> impl Iterator<Item = usize> {
    let mixed = form.terms.iter().fold(0, |mixed: u64, &(slot, factor)| {
        (mixed.rotate_left(5) ^ u64::from(slot) ^ factor.to_bits()).wrapping_mul(0x9e37_79b9_7f4a_7c15)
    });
    let first = (mixed >> 55) as usize;
    (first..512).chain(0..first)
}

/// Slots with their factors, by slot, none of them zero. They stand in place, since forms are made and copied all the time.
#[derive(Clone, Copy)]
pub struct Terms {
    len: u8,
    all: [(Slot, f64); Self::ROOM],
}

impl Terms {
    /// How many terms a form may have; longer ones tell nothing that is ever used.
    const ROOM: usize = 6;
    /// No terms.
    const NONE: Self = Self { len: 0, all: [(0, 0.0); Self::ROOM] };

    /// Adds a term behind the others; false where there is no more room.
    fn push(&mut self, term: (Slot, f64)) -> bool {
        let room = self.all.get_mut(usize::from(self.len));
        let fits = room.is_some();
        if let Some(room) = room {
            *room = term;
            self.len += 1;
        }
        fits
    }
}

impl std::ops::Deref for Terms {
    type Target = [(Slot, f64)];

    fn deref(&self) -> &Self::Target {
        &self.all[..usize::from(self.len)]
    }
}

impl std::ops::DerefMut for Terms {
    fn deref_mut(&mut self) -> &mut Self::Target {
        &mut self.all[..usize::from(self.len)]
    }
}

impl FromIterator<(Slot, f64)> for Terms {
    /// Terms beyond the room are left out.
    fn from_iter<I: IntoIterator<Item = (Slot, f64)>>(terms: I) -> Self {
        let mut all = Self::NONE;
        for term in terms {
            all.push(term);
        }
        all
    }
}

impl PartialEq for Terms {
    fn eq(&self, other: &Self) -> bool {
        **self == **other
    }
}

impl std::fmt::Debug for Terms {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_list().entries(self.iter()).finish()
    }
}

/// `Σ factor · slot + constant`. One that has grown too long is unknown: its constant is not a number, and every comparison
/// with it fails.
#[derive(Clone, Copy, PartialEq, Debug)]
pub struct Linear {
    /// The terms.
    pub terms: Terms,
    /// The constant.
    pub constant: f64,
}

impl Linear {
    /// Stands for what is too long to be kept.
    const UNKNOWN: Self = Self::constant(f64::NAN);

    /// A constant.
    #[must_use]
    pub const fn constant(value: f64) -> Self {
        Self { terms: Terms::NONE, constant: value }
    }

    /// The value of a slot.
    #[must_use]
    pub fn slot(slot: Slot) -> Self {
        Self::term((slot, 1.0))
    }

    fn term(term: (Slot, f64)) -> Self {
        Self { terms: std::iter::once(term).collect(), constant: 0.0 }
    }

    /// Whether it was short enough to be kept.
    #[must_use]
    pub fn is_known(&self) -> bool {
        !self.constant.is_nan()
    }

    /// The form without one of its slots.
    #[must_use]
    pub fn without(&self, slot: Slot) -> Self {
        Self { terms: self.terms.iter().copied().filter(|&(other, _)| other != slot).collect(), ..*self }
    }

    /// A bit for each of its slots and signs: two forms without a bit in common have no term that a difference cancels.
    fn shadow(&self) -> u64 {
        self.terms.iter().fold(0, |all, &(slot, factor)| all | 1 << ((slot * 2 + u32::from(factor > 0.0)) % 64))
    }

    /// Whether it says as much as another, being the same but for a constant that is no larger.
    fn tells(&self, other: &Self) -> bool {
        self.terms == other.terms && self.constant <= other.constant
    }

    /// Whether it is about the sum or the difference of two slots: the shape of what a loop may keep from round to round.
    fn is_octagonal(&self) -> bool {
        self.terms.len() == 2 && self.terms.iter().all(|(_, factor)| factor.abs() == 1.0)
    }

    /// The factor of a slot.
    #[must_use]
    pub fn factor(&self, slot: Slot) -> f64 {
        self.terms.iter().find(|(at, _)| *at == slot).map_or(0.0, |&(_, factor)| factor)
    }

    /// `self + by · other`
    #[must_use]
    pub fn plus(&self, other: &Self, by: f64) -> Self {
        let mut terms = Terms::NONE;
        let mut fits = true;
        self.merge(other, by, |term| {
            fits = terms.push(term);
            fits
        });
        if fits { Self { terms, constant: self.constant + other.constant * by } } else { Self::UNKNOWN }
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
    fn highest_with(&self, other: &Self, by: f64, ends: Ends<'_>) -> f64 {
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
        let mut scaled = *self;
        scaled.terms.iter_mut().for_each(|term| term.1 *= by);
        scaled.constant *= by;
        scaled
    }

    /// What a form of whole numbers that is at most zero says as plainly as it can: where `100 · a − 100 · b + 1` is, so is
    /// `a − b + 1`.
    #[must_use]
    pub fn of_whole_numbers(&self) -> Self {
        let factors = self.terms.iter().map(|&(_, factor)| factor);
        if !factors.clone().all(is_whole) || !is_whole(self.constant) {
            return *self;
        }
        match factors.fold(0.0, gcd) {
            by if by > 1.0 => {
                let mut plain = self.times(1.0 / by);
                plain.terms.iter_mut().for_each(|term| term.1 = term.1.round());
                plain.constant = (self.constant / by).ceil();
                plain
            }
            _ => *self,
        }
    }

    /// The form without its constant.
    #[must_use]
    pub fn without_constant(&self) -> Self {
        Self { constant: 0.0, ..*self }
    }

    fn rename(mut self, from: Slot, to: Slot) -> Self {
        for term in self.terms.iter_mut() {
            if term.0 == from {
                term.0 = to;
            }
        }
        self.terms.sort_unstable_by_key(|&(slot, _)| slot);
        self
    }

    /// The largest value by the ends of the slots' ranges alone.
    fn highest(&self, ends: Ends<'_>) -> f64 {
        let mut sum = self.constant;
        for &(slot, factor) in self.terms.iter() {
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

/// A number that divisions on the way may have left a little beside a whole one. The least numbers that there are stand for
/// the gap that `<` leaves between two fractions, and stay.
#[must_use]
pub fn snapped(value: f64) -> f64 {
    if is_whole(value) || value.is_subnormal() {
        return value;
    }
    let whole = value.round();
    if (value - whole).abs() < 1e-9 * (1.0 + whole.abs()) { whole } else { value }
}

/// An inequality that holds: its form is at most zero.
#[derive(Clone, Copy, PartialEq, Debug)]
struct Fact {
    form: Linear,
    /// That of the form, since every search asks for it.
    shadow: u64,
}

impl Fact {
    fn new(form: Linear) -> Self {
        Self { form, shadow: form.shadow() }
    }

    /// Its constant, or a larger one where the ranges tell more.
    fn constant_within(&self, ends: Ends<'_>) -> f64 {
        let by_ranges = -Linear { constant: 0.0, ..self.form }.highest(ends);
        self.constant.max(by_ranges)
    }

    /// Whether it may have a place in common with another.
    fn is_beside(&self, other: &Self) -> bool {
        let places = |shadow: u64| (shadow | shadow >> 1) & 0x5555_5555_5555_5555;
        places(self.shadow) & places(other.shadow) != 0
    }

    /// Whether it is about the same places, with the same factors.
    fn is_about(&self, other: &Self) -> bool {
        self.shadow == other.shadow && self.form.terms == other.form.terms
    }
}

impl std::ops::Deref for Fact {
    type Target = Linear;

    fn deref(&self) -> &Linear {
        &self.form
    }
}

/// What a new fact does to a list of them.
enum Change {
    /// It stands behind the others.
    Push,
    /// It says more than the one there about the same places.
    Tighten(usize),
    /// It takes the room of a longer one.
    Replace(usize),
}

impl Change {
    fn apply(self, known: &mut Vec<Fact>, fact: Fact) {
        match self {
            Self::Push => known.push(fact),
            Self::Tighten(at) => known[at].form.constant = fact.constant,
            Self::Replace(at) => {
                known.remove(at);
                known.push(fact);
            }
        }
    }
}

/// What a fact changes beside what is known; nothing where it says no more.
fn change_by(known: &[Fact], fact: &Fact, most_beside: usize) -> Option<Change> {
    if fact.terms.len() < 2 || fact.terms.len() > MOST_TERMS || !fact.constant.is_finite() {
        return None; // Facts about one place are the ranges' business.
    }
    if let Some(at) = known.iter().position(|known| known.is_about(fact)) {
        return (fact.constant > known[at].constant).then_some(Change::Tighten(at));
    }
    let beside = |at: &usize| known.len() >= MOST_FACTS || known[*at].is_beside(fact);
    if known.len() < most_beside || known.len() < MOST_FACTS && (0..known.len()).filter(beside).count() < most_beside {
        return Some(Change::Push);
    }
    let longest = (0..known.len()).filter(beside).max_by_key(|&at| known[at].terms.len())?;
    (known[longest].terms.len() > fact.terms.len()).then_some(Change::Replace(longest))
}

fn take_in(known: &mut Vec<Fact>, form: Linear, most_beside: usize) {
    let fact = Fact::new(form);
    if let Some(change) = change_by(known, &fact, most_beside) {
        change.apply(known, fact);
    }
}

/// Which of the facts say more than the ranges do: one that these tell anyhow adds nothing to any sum. Found out as they are
/// asked for.
#[derive(Default)]
struct Telling {
    asked: Marks,
    telling: Marks,
}

/// A mark for each fact of a list.
#[derive(Default)]
struct Marks([u64; MOST_FACTS / 64]);

impl Marks {
    fn set(&mut self, at: usize) {
        self.0[at / 64] |= 1 << (at % 64);
    }

    fn has(&self, at: usize) -> bool {
        self.0[at / 64] & 1 << (at % 64) != 0
    }
}

impl Telling {
    fn has(&mut self, at: usize, tells: impl FnOnce() -> bool) -> bool {
        if !self.asked.has(at) {
            self.asked.set(at);
            if tells() {
                self.telling.set(at);
            }
        }
        self.telling.has(at)
    }
}

/// Inequalities that hold.
#[derive(Clone, PartialEq, Debug, Default)]
pub struct Facts {
    /// Shared between the states that know the same, since most branches leave it as it is.
    known: Arc<Vec<Fact>>,
    /// That of the body.
    length: BodyLength,
}

impl Facts {
    /// None yet, in a body of some length.
    #[must_use]
    pub fn of_body(length: BodyLength) -> Self {
        Self { length, ..Self::default() }
    }

    /// Whether nothing is known.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.known.is_empty()
    }

    /// Forgets all of them.
    pub fn clear(&mut self) {
        self.known = Arc::default();
    }

    /// Whether anything is known of how a slot relates to others.
    #[must_use]
    pub fn are_about(&self, slot: Slot) -> bool {
        self.known.iter().any(|fact| fact.factor(slot) != 0.0)
    }

    /// Adds `form ≤ 0`.
    pub fn add(&mut self, form: Linear) {
        let fact = Fact::new(form);
        if let Some(change) = change_by(&self.known, &fact, self.length.most_beside()) {
            change.apply(Arc::make_mut(&mut self.known), fact);
        }
    }

    /// The largest value that a form can have, by the facts and by the ends of the slots' ranges.
    #[must_use]
    pub fn highest(&self, form: &Linear, ends: Ends<'_>) -> f64 {
        // What a single place is at most was worked into its range as each fact came.
        if form.terms.len() == 1 {
            return snapped(form.highest(ends));
        }
        self.search(form, ends, f64::NEG_INFINITY, BOUND)
    }

    /// Whether a form is known to be at most zero.
    #[must_use]
    pub fn implies(&self, form: &Linear, ends: Ends<'_>) -> bool {
        self.search(form, ends, 0.0, CERTAIN) <= 0.0
    }

    /// Single places that a form may lie below, give or take a constant: its own, and those that a fact puts above them.
    #[must_use]
    pub fn places_above(&self, form: &Linear) -> SmallVec<[Linear; 4]> {
        let own = form.terms.iter().filter(|(_, factor)| factor.abs() == 1.0);
        let mut places: SmallVec<[Linear; 4]> = own.map(|&term| Linear::term(term)).collect();
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
    pub fn plainly_highest(&self, form: &Linear, ends: Ends<'_>) -> f64 {
        if form.terms.len() == 1 {
            return snapped(form.highest(ends));
        }
        self.search(form, ends, f64::NEG_INFINITY, MEET)
    }

    /// Adds up facts, one at a time, until the form is known to be at most `enough`, or nothing is left to try.
    fn search(&self, form: &Linear, ends: Ends<'_>, enough: f64, effort: Effort) -> f64 {
        let mut best = snapped(form.highest(ends));
        if best <= enough || self.known.is_empty() || form.terms.is_empty() {
            return best;
        }
        let shadow = form.shadow();
        if self.known.iter().all(|fact| fact.shadow & shadow == 0) {
            return best;
        }
        // Close together they are gone through far sooner, once for each sum.
        let shadows: SmallVec<[u64; MOST_FACTS]> = self.known.iter().map(|fact| fact.shadow).collect();
        let mut budget = self.length.sums(effort);
        let mut telling = Telling::default();
        let mut sums: SmallVec<[Linear; 6]> = smallvec![*form];
        let mut places: Option<Places> = None;
        let mut from = 0;
        for depth in 1..=effort.depth {
            let to = sums.len();
            for at in from..to {
                let form = sums[at];
                let shadow = form.shadow();
                let touching = shadows.iter().enumerate().filter(|&(_, other)| shadow & other != 0);
                let facts = touching.map(|(at, _)| (at, &self.known[at].form));
                let terms = facts.flat_map(|(at, fact)| fact.terms.iter().map(move |term| (at, fact, term)));
                for (at, fact, &(slot, factor)) in terms {
                    // Taking away a fact in which a place has the same sign cancels that place.
                    let by = form.factor(slot) / factor;
                    if by <= 0.0 || !telling.has(at, || fact.highest(ends) > 0.0) {
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
                    if !rest.is_known() || rest.terms.len() > form.terms.len() + 1 {
                        continue;
                    }
                    // Forms come about in many orders.
                    let is_told = match &places {
                        Some(places) => places.tell(&sums, &rest),
                        None => sums.iter().any(|sum| sum.tells(&rest)),
                    };
                    if is_told {
                        continue;
                    }
                    best = best.min(snapped(rest.highest(ends)));
                    if best <= enough {
                        return best;
                    }
                    if !rest.terms.is_empty() {
                        sums.push(rest);
                        match &mut places {
                            Some(places) => places.add(&rest, sums.len() - 1),
                            None if sums.len() == FEW_SUMS => places = Some(Places::of(&sums)),
                            None => {}
                        }
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
        pairs.map(|fact| fact.form).collect()
    }

    /// All of them, as forms that are at most zero.
    pub fn iter(&self) -> impl Iterator<Item = Linear> + '_ {
        self.known.iter().map(|fact| fact.form)
    }

    /// The facts about a slot, with whatever others.
    pub fn about(&self, slot: Slot) -> impl Iterator<Item = Linear> + '_ {
        self.known.iter().filter(move |fact| fact.factor(slot) != 0.0).map(|fact| fact.form)
    }

    /// The pairs with a slot, as its factor, the other term, and the constant.
    pub fn paired(&self, slot: Slot) -> impl Iterator<Item = (f64, (Slot, f64), f64)> + '_ {
        self.known.iter().filter_map(move |fact| match fact.terms[..] {
            [(a, factor), other] if a == slot => Some((factor, other, fact.constant)),
            [other, (b, factor)] if b == slot => Some((factor, other, fact.constant)),
            _ => None,
        })
    }

    /// Forgets all facts about a slot, but keeps what they say of others together.
    pub fn forget(&mut self, slot: Slot) {
        if self.are_about(slot) {
            self.eliminate(&[], slot, |_| true);
        }
    }

    /// Forgets the facts about a slot that may fail when its value grows (`up`) or shrinks (`down`).
    pub fn loosen(&mut self, slot: Slot, up: bool, down: bool) {
        let fails = |fact: &Fact| {
            let factor = fact.factor(slot);
            factor > 0.0 && up || factor < 0.0 && down
        };
        if self.known.iter().any(fails) {
            Arc::make_mut(&mut self.known).retain(|fact| !fails(fact));
        }
    }

    /// The same where the ranges are known: what that of the slot says of its facts is kept too. What others are found to do
    /// together is kept where it says more than their ranges, or where they may still grow (`in_loop`) and it
    /// may be what a loop keeps.
    pub fn forget_within(&mut self, slot: Slot, ends: Ends<'_>, in_loop: bool) {
        if !self.are_about(slot) {
            return;
        }
        let (lo, hi) = ends(slot);
        let value = Linear::slot(slot);
        let low = lo.is_finite().then(|| Linear::constant(lo).plus(&value, -1.0));
        let high = hi.is_finite().then(|| value.plus(&Linear::constant(hi), -1.0));
        let own: SmallVec<[Linear; 2]> = low.into_iter().chain(high).collect();
        self.eliminate(&own, slot, |sum| in_loop && sum.is_octagonal() || sum.highest(ends) > 0.0);
    }

    /// Puts down what the facts about a slot say of others together, since the slot is about to change.
    pub fn keep_without(&mut self, slot: Slot, ends: Ends<'_>) {
        if self.about(slot).take(2).count() < 2 {
            return;
        }
        let mut others = self.clone();
        others.forget_within(slot, ends, true);
        others.known.iter().for_each(|fact| self.add(fact.form));
    }

    /// `slot` takes a new value that lies below each of `uppers` and above each of `lowers`, forms over the old values, as
    /// are the ends. What follows of others is kept where it says more than the ranges, or may be what a loop keeps.
    pub fn assign(&mut self, slot: Slot, uppers: &[Linear], lowers: &[Linear], ends: Ends<'_>, new_ends: (f64, f64)) {
        if let ([upper], [lower]) = (uppers, lowers)
            && upper.terms[..] == [(slot, 1.0)]
            && upper == lower
        {
            self.shift(slot, upper.constant);
            return;
        }
        let is_free = |form: &Linear| form.factor(slot) == 0.0;
        let fits = self.known.len() + uppers.len() + lowers.len() <= MOST_FACTS; // New facts go before old ones.
        if fits && !self.are_about(slot) && uppers.iter().chain(lowers).all(is_free) {
            let own = Linear::slot(slot);
            uppers.iter().filter(|upper| !upper.terms.is_empty()).for_each(|upper| self.add(own.plus(upper, -1.0)));
            lowers.iter().filter(|lower| !lower.terms.is_empty()).for_each(|lower| self.add(lower.plus(&own, -1.0)));
            return;
        }
        let fresh = Linear::slot(FRESH);
        let mut new: SmallVec<[Linear; 8]> = uppers.iter().map(|upper| fresh.plus(upper, -1.0)).collect();
        new.extend(lowers.iter().map(|lower| lower.plus(&fresh, -1.0)));
        if new.is_empty() {
            self.forget(slot);
            return;
        }
        // A step by another place: how far the value was at most, or at least, tells how it relates to that place now. What a
        // single value had a part in is the same without it.
        let is_sum = |fact: &Linear| fact.terms.len() > 2 && fact.factor(slot) != 0.0;
        let (old, (lo, hi)) = (Linear::slot(slot), ends(slot));
        if new.iter().any(is_sum) || lo == hi && self.known.iter().any(|fact| is_sum(fact)) {
            new.extend(lo.is_finite().then(|| Linear::constant(lo).plus(&old, -1.0)));
            new.extend(hi.is_finite().then(|| old.plus(&Linear::constant(hi), -1.0)));
        }
        let ends = |slot| if slot == FRESH { new_ends } else { ends(slot) };
        self.eliminate(&new, slot, |sum| sum.is_octagonal() || sum.highest(&ends) > 0.0);
    }

    /// `slot` moves by a constant: what is known of it moves along, as far as floats go.
    fn shift(&mut self, slot: Slot, by: f64) {
        if by != 0.0 && self.are_about(slot) {
            let known = Arc::make_mut(&mut self.known);
            for fact in known.iter_mut().filter(|fact| fact.factor(slot) != 0.0) {
                fact.form.constant -= fact.factor(slot) * by;
            }
            known.retain(|fact| fact.constant.is_finite());
        }
    }

    /// Takes in new facts, then Fourier–Motzkin: every upper bound of the slot meets every lower one. What is left of the
    /// fresh value becomes the slot's. Of the sums only those are kept that are meant.
    fn eliminate(&mut self, new: &[Linear], slot: Slot, keep: impl Fn(&Linear) -> bool) {
        let mut above: SmallVec<[Linear; 4]> = SmallVec::new();
        let mut below: SmallVec<[Linear; 4]> = SmallVec::new();
        for fact in new.iter().chain(self.known.iter().map(|fact| &fact.form)) {
            let factor = fact.factor(slot);
            if factor > 0.0 {
                above.push(fact.times(1.0 / factor));
            } else if factor < 0.0 {
                below.push(fact.times(-1.0 / factor));
            }
        }
        let without = |fact: &&Linear| fact.factor(slot) == 0.0;
        let others = self.known.iter().filter(|fact| fact.factor(slot) == 0.0);
        let sums = above.iter().flat_map(|a| below.iter().map(move |b| a.plus(b, 1.0))).filter(|sum| keep(sum));
        let mut known = Vec::with_capacity(self.known.len() + new.len());
        for fact in sums.chain(new.iter().filter(without).copied()) {
            take_in(&mut known, fact.rename(FRESH, slot), self.length.most_beside());
        }
        let fresh = known.len();
        for fact in others {
            // Two facts that were known before have different terms.
            if known.len() >= MOST_FACTS || known[..fresh].iter().any(|known| known.is_about(fact)) {
                take_in(&mut known, fact.form, self.length.most_beside());
            } else {
                known.push(*fact);
            }
        }
        self.known = Arc::new(known);
    }

    /// Facts that hold on both of two ways. What only one of them states, and the other knows too, is kept where it says
    /// more than the ranges of the two together, or where they may still grow (`in_loop`) and it may be what a
    /// loop keeps.
    #[must_use]
    pub fn join(&self, ends: Ends<'_>, other: &Self, other_ends: Ends<'_>, in_loop: bool) -> Self {
        if Arc::ptr_eq(&self.known, &other.known) || self == other {
            return self.clone();
        }
        // What both know of the same places comes first. Mostly it stands at the same place in both lists.
        let mut joined = Vec::with_capacity(self.known.len());
        let (mut mine, mut theirs) = (Marks::default(), Marks::default());
        for (at, fact) in self.known.iter().enumerate() {
            let beside = other.known.get(at).filter(|beside| beside.is_about(fact)).map(|_| at);
            if let Some(found) = beside.or_else(|| other.known.iter().position(|known| known.is_about(fact))) {
                let beside = &other.known[found];
                let constant = match fact.constant == beside.constant {
                    true => fact.constant,
                    false => fact.constant_within(ends).min(beside.constant_within(other_ends)),
                };
                joined.push(Fact { form: Linear { constant, ..fact.form }, ..*fact });
                mine.set(at);
                theirs.set(found);
            }
        }
        let both = |slot| {
            let (mine, theirs) = (ends(slot), other_ends(slot));
            (mine.0.min(theirs.0), mine.1.max(theirs.1))
        };
        let mut take = |form: Linear| {
            if in_loop && form.is_octagonal() || form.highest(&both) > 0.0 {
                take_in(&mut joined, form, self.length.most_beside());
            }
        };
        for (_, fact) in self.known.iter().enumerate().filter(|&(at, _)| !mine.has(at)) {
            other.find_what_it_knows_too(fact, ends, other_ends, &mut take);
        }
        for (_, fact) in other.known.iter().enumerate().filter(|&(at, _)| !theirs.has(at)) {
            self.find_what_it_knows_too(fact, other_ends, ends, &mut take);
        }
        Self { known: Arc::new(joined), ..*self }
    }

    /// Finds as much of the other side's fact as is known here too; of a fact about three places also what it says, by the
    /// range of one of them, of the other two.
    fn find_what_it_knows_too(
        &self,
        fact: &Linear,
        fact_ends: Ends<'_>,
        ends: Ends<'_>,
        take: &mut impl FnMut(Linear),
    ) {
        self.weakened(fact, ends).into_iter().for_each(&mut *take);
        if fact.terms.len() != 3 {
            return;
        }
        for &(slot, factor) in fact.terms.iter() {
            let (lo, hi) = fact_ends(slot);
            let least = factor * if factor > 0.0 { lo } else { hi };
            if least.is_finite() {
                let mut pair = fact.without(slot);
                pair.constant += least;
                self.weakened(&pair, ends).into_iter().for_each(&mut *take);
            }
        }
    }

    /// As much of a fact as is known here too.
    fn weakened(&self, fact: &Linear, ends: Ends<'_>) -> Option<Linear> {
        let form = Linear { constant: 0.0, ..*fact };
        let highest = self.search(&form, ends, -fact.constant, MEET).max(-fact.constant);
        highest.is_finite().then_some(Linear { constant: -highest, ..form })
    }

    /// The facts that still hold in a later round of a loop.
    #[must_use]
    pub fn widen(&self, later: &Self, later_ends: Ends<'_>) -> Self {
        let holds = |fact: &&Fact| later.implies(fact, later_ends);
        Self { known: Arc::new(self.known.iter().filter(holds).copied().collect()), ..*self }
    }
}
