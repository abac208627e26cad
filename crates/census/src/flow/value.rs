//! Abstract values: what a place may hold, as far as the analysis can tell.
//!
//! A number is an interval together with a congruence and, while there are few of them, the set of its values. The
//! interval domain is that of Cousot and Cousot (1977); congruences are Granger's (1989): `value ≡ off (mod step)`.
//! Both are kept in floats: interval ends are worked out with the very operations that a run uses, which round
//! monotonically, so the ends hold; congruences are kept only where floats are exact.

use smallvec::SmallVec;
use std::hash::{Hash, Hasher};
use std::sync::Arc;

/// How many single values are kept apart.
const SET_LIMIT: usize = 8;

/// A few numbers, sorted.
pub struct Set {
    len: u8,
    all: [f64; SET_LIMIT],
}

impl Set {
    /// The numbers of a sorted list, if there are few, but more than one: that one stands at both ends.
    fn of(values: &[f64]) -> Option<Arc<Self>> {
        let mut all = [0.0; SET_LIMIT];
        all.get_mut(..values.len())?.copy_from_slice(values);
        let len = u8::try_from(values.len()).ok()?;
        (len > 1).then(|| Arc::new(Self { len, all }))
    }
}

impl std::ops::Deref for Set {
    type Target = [f64];

    fn deref(&self) -> &[f64] {
        &self.all[..usize::from(self.len)]
    }
}

impl PartialEq for Set {
    fn eq(&self, other: &Self) -> bool {
        **self == **other
    }
}

impl std::fmt::Debug for Set {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        (**self).fmt(f)
    }
}

/// Numbers that a set is made of: at most those of two, each with each of the other.
type Few = SmallVec<[f64; SET_LIMIT * 2]>;

/// How many texts are kept apart.
pub const TEXT_LIMIT: usize = 256;

/// What a numeric place may hold.
#[derive(Clone, PartialEq, Debug)]
pub struct Num {
    /// The least value.
    pub lo: f64,
    /// The largest value.
    pub hi: f64,
    /// The distance between neighbouring values; 0 where nothing is known of it.
    pub step: f64,
    /// One value that the steps start from.
    pub off: f64,
    /// The values themselves, where there are two or a few more. They are shared, since values are copied all the time.
    pub set: Option<Arc<Set>>,
    /// Whether all values are whole.
    pub int: bool,
    /// Whether zero is none of them, where it lies between the ends.
    pub nonzero: bool,
}

impl Hash for Num {
    fn hash<H: Hasher>(&self, hasher: &mut H) {
        let numbers = [self.lo, self.hi, self.step, self.off];
        let few = self.set.as_deref().map_or(&[][..], |set| set);
        for number in numbers.iter().chain(few) {
            (number + 0.0).to_bits().hash(hasher); // The two zeroes are equal.
        }
        (self.int, self.nonzero).hash(hasher);
    }
}

/// The ends of 64-bit whole numbers.
const INT_MIN: f64 = -9_223_372_036_854_775_808.0;
const INT_MAX: f64 = 9_223_372_036_854_775_807.0;

/// Whether a value is whole, for certain: a look at its bits, where rounding would be a call.
#[allow(
    clippy::cast_possible_truncation,
    clippy::cast_precision_loss,
    reason = "what does not survive the way is not whole"
)]
#[must_use]
pub fn is_whole(value: f64) -> bool {
    value as i64 as f64 == value
}

/// Whether arithmetic on the value is exact: a multiple of 2⁻¹⁰, not too large.
fn exact(value: f64) -> bool {
    value.abs() < 4_398_046_511_104.0 && is_whole(value * 1024.0)
}

/// The greatest common divisor of exact values.
pub(super) fn gcd(a: f64, b: f64) -> f64 {
    let (mut a, mut b) = (a.abs(), b.abs());
    if a == 1.0 && is_whole(b) || b == 1.0 && is_whole(a) {
        return 1.0;
    }
    while b != 0.0 {
        (a, b) = (b, a % b);
    }
    a
}

impl Num {
    /// Everything.
    #[must_use]
    pub fn all(int: bool) -> Self {
        Self::range(f64::NEG_INFINITY, f64::INFINITY, int)
    }

    /// All values from `lo` to `hi`.
    #[must_use]
    pub fn range(lo: f64, hi: f64, int: bool) -> Self {
        let inward = |end: f64, next: fn(f64) -> f64| if !int || is_whole(end) { end } else { next(end) };
        let (lo, hi) = (inward(lo, f64::ceil), inward(hi, f64::floor));
        if lo == hi && lo.is_finite() {
            return Self::constant(lo, int);
        }
        Self { lo, hi, step: if int { 1.0 } else { 0.0 }, off: 0.0, set: None, int, nonzero: false }
    }

    /// One value.
    #[must_use]
    pub fn constant(value: f64, int: bool) -> Self {
        Self { lo: value, hi: value, step: 0.0, off: value, set: None, int, nonzero: false }
    }

    /// All whole numbers that leave `rest` when they are divided by `by`.
    #[must_use]
    pub fn leaving(rest: f64, by: f64) -> Self {
        Self::all(true).with_stride(Some((by, rest)))
    }

    /// The values of a list; none if it is empty.
    fn from_set(mut values: Few, int: bool) -> Option<Self> {
        values.sort_unstable_by(f64::total_cmp);
        values.dedup();
        let (&lo, &hi) = (values.first()?, values.last()?);
        let (step, off) = stride_of(&values, int);
        Some(Self { lo, hi, step, off, set: Set::of(&values), int, nonzero: false })
    }

    /// The values themselves, sorted, while there are few.
    fn values(&self) -> Option<&[f64]> {
        match &self.set {
            Some(set) => Some(set),
            None if self.lo == self.hi && self.lo.is_finite() => Some(std::slice::from_ref(&self.lo)),
            None => None,
        }
    }

    /// The one value, if there is only one.
    #[must_use]
    pub fn single(&self) -> Option<f64> {
        (self.lo == self.hi).then_some(self.lo)
    }

    /// Whether the value may be among them.
    #[must_use]
    pub fn contains(&self, value: f64) -> bool {
        let is_fraction = || !is_whole(value) && value.fract() != 0.0;
        if value < self.lo || value > self.hi || self.nonzero && value == 0.0 || self.int && is_fraction() {
            return false;
        }
        if let Some(set) = self.values() {
            return set.contains(&value);
        }
        self.step == 0.0
            || !exact(value)
            || !exact(self.off)
            || (self.step == 1.0 && is_whole(value - self.off))
            || (value - self.off) % self.step == 0.0
    }

    /// A limit, or the end or single value of its own that divisions on the way may have left it a little beside.
    #[must_use]
    pub fn own_near(&self, limit: f64) -> f64 {
        let is_near = |own: &f64| *own != limit && (limit - own).abs() < 1e-12 * own.abs();
        let own = self.set.as_deref().map_or(&[][..], |set| set);
        own.iter().chain([&self.lo, &self.hi]).copied().find(is_near).unwrap_or(limit)
    }

    fn stride(&self) -> Option<(f64, f64)> {
        match self.values() {
            Some(&[value]) => Some((0.0, value)).filter(|_| exact(value)),
            _ => (self.step != 0.0).then_some((self.step, self.off)),
        }
    }

    /// Gives a range the stride that both operands leave it, and trims its ends to it.
    fn with_stride(mut self, stride: Option<(f64, f64)>) -> Self {
        if self.values().is_some() {
            return self;
        }
        let Some((step, off)) = stride.filter(|&(step, off)| step > 0.0 && exact(step) && exact(off)) else {
            return self;
        };
        // All whole numbers have one form, whichever of them the steps start from.
        if self.int && (step < 1.0 || step == 1.0 && self.step == 1.0 && is_whole(off)) {
            return self;
        }
        self.step = step;
        self.off = off;
        self.trim()
    }

    /// Moves finite ends inward to values that the stride allows.
    fn trim(mut self) -> Self {
        if self.step == 0.0 || self.values().is_some() || (self.step == 1.0 && self.int && is_whole(self.off)) {
            return self; // The ends of whole numbers are whole.
        }
        let end = |end: f64, next: fn(f64) -> f64| self.off + next((end - self.off) / self.step) * self.step;
        let (lo, hi) = (end(self.lo, f64::ceil), end(self.hi, f64::floor));
        // Ends beyond what floats hold exactly stay as they are, and an end right beside a value may be rounded to it.
        if exact(lo) {
            self.lo = if lo < self.lo { lo + self.step } else { lo };
        }
        if exact(hi) {
            self.hi = if hi > self.hi { hi - self.step } else { hi };
        }
        if self.lo > self.hi {
            return self; // Nothing is left.
        }
        if self.lo == self.hi { Self::constant(self.lo, self.int) } else { self.counted() }
    }

    /// The values of a stride one by one, if they are few.
    fn counted(self) -> Self {
        #[allow(clippy::cast_precision_loss, reason = "a small number")]
        let few = (self.hi - self.lo) / self.step < SET_LIMIT as f64;
        if !few || !is_whole(self.step) || !is_whole(self.lo) {
            return self;
        }
        let next = |value: &f64| Some(value + self.step).filter(|next| *next <= self.hi);
        Self::from_set(std::iter::successors(Some(self.lo), next).collect(), self.int).unwrap_or(self)
    }

    /// Whether nothing is left.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.lo > self.hi || self.lo.is_nan() || self.hi.is_nan()
    }

    /// The same without zero, if that is none of them.
    fn leaving_out_zero(self, is_none: bool) -> Self {
        match is_none && self.lo < 0.0 && self.hi > 0.0 {
            true => self.without(0.0).unwrap_or(self),
            false => self,
        }
    }

    /// What either may be.
    #[must_use]
    pub fn join(&self, other: &Self) -> Self {
        let joined = self.joined(other);
        match joined.lo < 0.0 && joined.hi > 0.0 {
            true => joined.leaving_out_zero(!self.contains(0.0) && !other.contains(0.0)),
            false => joined,
        }
    }

    fn joined(&self, other: &Self) -> Self {
        let int = self.int && other.int;
        if let (Some(a), Some(b)) = (self.values(), other.values()) {
            let all = a.iter().chain(b.iter()).copied().collect();
            if let Some(joined) = Self::from_set(all, int) {
                return joined;
            }
        }
        if int && (self.is_dense() || other.is_dense()) {
            return Self::range(self.lo.min(other.lo), self.hi.max(other.hi), int);
        }
        let stride = match (self.stride_of_all(), other.stride_of_all()) {
            (Some((a, off)), Some((b, other_off))) => Some((gcd(gcd(a, b), off - other_off), off)),
            _ => None,
        };
        Self::range(self.lo.min(other.lo), self.hi.max(other.hi), int).with_stride(stride)
    }

    /// Whether it is all whole numbers from one to another.
    fn is_dense(&self) -> bool {
        self.int && self.step == 1.0 && self.set.is_none() && self.lo < self.hi
    }

    fn stride_of_all(&self) -> Option<(f64, f64)> {
        match self.values() {
            Some(set) if set.iter().all(|&value| exact(value)) => {
                let step = set.iter().fold(0.0, |step, &value| gcd(step, value - set[0]));
                Some((step, set[0]))
            }
            Some(_) => None,
            None => self.stride(),
        }
    }

    /// What both may be; none if they share nothing.
    #[must_use]
    pub fn meet(&self, other: &Self) -> Option<Self> {
        let int = self.int || other.int;
        if let Some(set) = self.values().or(other.values()) {
            let kept = set.iter().copied().filter(|&value| self.contains(value) && other.contains(value)).collect();
            return Self::from_set(kept, int);
        }
        let range = Self::range(self.lo.max(other.lo), self.hi.min(other.hi), int);
        if range.is_empty() {
            return None;
        }
        if let Some(value) = range.single() {
            return (self.contains(value) && other.contains(value)).then_some(range);
        }
        let finer = if self.step >= other.step { self } else { other };
        let range = range.with_stride(finer.stride());
        if range.is_empty() {
            return None;
        }
        if self.nonzero || other.nonzero { range.without(0.0) } else { Some(range) }
    }

    /// What is left of whole numbers that go round between two ends, one past the upper being the lower: of their stride what it
    /// shares with the way round.
    #[must_use]
    pub fn wrapped(&self, low: f64, high: f64) -> Self {
        let all = Self::range(low, high, self.int);
        let round = high - low + 1.0;
        if ![self.lo, self.hi, low, high].into_iter().all(exact) {
            return all;
        }
        if let Some(values) = self.values() {
            let values = values.iter().map(|value| low + (value - low).rem_euclid(round)).collect();
            return Self::from_set(values, self.int).unwrap_or(all);
        }
        all.with_stride(self.stride().map(|(step, off)| (gcd(step, round), off)))
    }

    /// Without one value, where that can be said.
    #[must_use]
    pub fn without(&self, value: f64) -> Option<Self> {
        if let Some(set) = self.values() {
            return Self::from_set(set.iter().copied().filter(|&other| other != value).collect(), self.int);
        }
        let mut cut = self.clone();
        let step = if self.step > 0.0 { self.step } else { 0.0 };
        if value == self.lo {
            cut.lo = if step > 0.0 { value + step } else { value.next_up() };
        } else if value == self.hi {
            cut.hi = if step > 0.0 { value - step } else { value.next_down() };
        } else if value == 0.0 {
            cut.nonzero = self.contains(0.0) || self.nonzero;
        }
        (!cut.is_empty()).then(|| cut.trim())
    }

    /// Goes to the ends that still move, over the thresholds given in order. A few values with their opposites are what turns its
    /// sign, and comes back.
    #[must_use]
    pub fn widen(&self, next: &Self, thresholds: &[f64]) -> Self {
        let joined = self.join(next);
        if joined == *self || joined.set.is_some() && joined.lo == -joined.hi && joined.neg() == joined {
            return joined;
        }
        let lo = if joined.lo < self.lo {
            thresholds.iter().rev().copied().find(|&t| t <= joined.lo).unwrap_or(f64::NEG_INFINITY)
        } else {
            self.lo
        };
        let hi = if joined.hi > self.hi {
            thresholds.iter().copied().find(|&t| t >= joined.hi).unwrap_or(f64::INFINITY)
        } else {
            self.hi
        };
        let stride = joined.stride_of_all();
        Self::range(lo, hi, joined.int).with_stride(stride).leaving_out_zero(joined.nonzero)
    }

    /// All from one end to another that lie on the same stride as these.
    #[must_use]
    pub fn spread(&self, lo: f64, hi: f64) -> Self {
        Self::range(lo, hi, self.int).with_stride(self.stride_of_all())
    }

    /// Whether every value of `other` is one of this.
    #[must_use]
    pub fn includes(&self, other: &Self) -> bool {
        self.join(other) == *self
    }

    fn each(&self, other: &Self, int: bool, f: impl Fn(f64, f64) -> f64) -> Option<Self> {
        let (a, b) = (self.values()?, other.values()?);
        if a.len() * b.len() > SET_LIMIT * 2 {
            return None;
        }
        let values: Few =
            a.iter().flat_map(|&a| b.iter().map(move |&b| (a, b))).map(|(a, b)| settle(f(a, b), int)).collect();
        Self::from_set(values, int)
    }

    /// The sum.
    #[must_use]
    pub fn add(&self, other: &Self) -> Self {
        let int = self.int && other.int;
        self.each(other, int, |a, b| a + b).unwrap_or_else(|| {
            let stride = match (self.stride_of_all(), other.stride_of_all()) {
                (Some((a, x)), Some((b, y))) => Some((gcd(a, b), x + y)),
                _ => None,
            };
            Self::bounded(add(self.lo, other.lo), add(self.hi, other.hi), int).with_stride(stride)
        })
    }

    /// The negative.
    #[must_use]
    pub fn neg(&self) -> Self {
        if let Some(set) = self.values() {
            let values = set.iter().map(|&value| settle(-value, self.int)).collect();
            return Self::from_set(values, self.int).unwrap_or_else(|| Self::all(self.int));
        }
        let stride = self.stride().map(|(step, off)| (step, -off));
        Self::bounded(-self.hi, -self.lo, self.int).with_stride(stride).leaving_out_zero(self.nonzero)
    }

    /// The difference.
    #[must_use]
    pub fn sub(&self, other: &Self) -> Self {
        self.add(&other.neg())
    }

    /// The product.
    #[must_use]
    pub fn mul(&self, other: &Self) -> Self {
        let int = self.int && other.int;
        self.each(other, int, |a, b| a * b).unwrap_or_else(|| {
            let (lo, hi) = corners(self, other, |a, b| if a == 0.0 || b == 0.0 { 0.0 } else { a * b });
            let stride = match (self.stride_of_all(), other.single()) {
                (Some((step, off)), Some(factor)) => Some((step * factor.abs(), off * factor)),
                _ => match (self.single(), other.stride_of_all()) {
                    (Some(factor), Some((step, off))) => Some((step * factor.abs(), off * factor)),
                    _ => None,
                },
            };
            // The product of two fractions may be too small for a float.
            let nonzero = int && !self.contains(0.0) && !other.contains(0.0);
            Self::bounded(lo, hi, int).with_stride(stride).leaving_out_zero(nonzero)
        })
    }

    /// The quotient, a `number`. Where the divisor can be zero, zero is among the results.
    #[must_use]
    pub fn div(&self, other: &Self) -> Self {
        if let Some(result) = self.each(other, false, |a, b| if b == 0.0 { 0.0 } else { a / b }) {
            return result;
        }
        let quotients = |by: &Self| {
            let (lo, hi) = corners(self, by, |a, b| if a == 0.0 || b.is_infinite() { 0.0 } else { a / b });
            Self::range(lo, hi, false)
        };
        if other.lo > 0.0 || other.hi < 0.0 {
            return quotients(other);
        }
        if !other.int {
            return Self::all(false);
        }
        // Whole numbers on either side of zero, which gives zero.
        let sides = [Self::range(other.lo, -1.0, true), Self::range(1.0, other.hi, true)];
        let sides = sides.iter().filter(|side| !side.is_empty());
        sides.map(quotients).fold(Self::constant(0.0, false), |all, side| all.join(&side))
    }

    /// The remainder, with the divisor's sign. Where the divisor can be zero, zero is among the results.
    #[must_use]
    pub fn rem(&self, other: &Self) -> Self {
        let int = self.int && other.int;
        if let Some(result) = self.each(other, int, remainder) {
            return result;
        }
        if other.lo > 0.0 && self.lo >= 0.0 && self.hi < other.lo {
            return self.clone();
        }
        let inside = |end: f64| if int { end - 1.0 } else { end.next_down() };
        let hi = if other.hi > 0.0 { inside(other.hi) } else { 0.0 };
        // Of what is not negative no more is left than there was.
        let hi = if other.lo >= 0.0 && self.lo >= 0.0 { hi.min(self.hi) } else { hi };
        let lo = if other.lo < 0.0 { -inside(-other.lo) } else { 0.0 };
        let stride = match (self.stride_of_all(), other.single()) {
            (Some((step, off)), Some(by)) if exact(by) && by != 0.0 => {
                let step = gcd(step, by);
                Some((step, remainder(off, step.copysign(by))))
            }
            _ => None,
        };
        Self::range(lo, hi, int).with_stride(stride)
    }

    /// The smaller of the two.
    #[must_use]
    pub fn min(&self, other: &Self) -> Self {
        self.choose(other, f64::min)
    }

    /// The larger of the two.
    #[must_use]
    pub fn max(&self, other: &Self) -> Self {
        self.choose(other, f64::max)
    }

    fn choose(&self, other: &Self, f: fn(f64, f64) -> f64) -> Self {
        let int = self.int && other.int;
        self.each(other, int, f).unwrap_or_else(|| {
            let joined = self.join(other);
            Self::range(f(self.lo, other.lo), f(self.hi, other.hi), int).with_stride(joined.stride_of_all())
        })
    }

    /// The distance from zero.
    #[must_use]
    pub fn abs(&self) -> Self {
        if self.lo >= 0.0 {
            return self.clone();
        }
        if self.hi <= 0.0 {
            return self.neg();
        }
        if let Some(set) = self.values()
            && let Some(result) = Self::from_set(set.iter().map(|value| value.abs()).collect(), self.int)
        {
            return result;
        }
        let distance = Self::range(0.0, self.hi.max(-self.lo), self.int);
        if self.nonzero { distance.without(0.0).unwrap_or(distance) } else { distance }
    }

    /// A function that rounds.
    #[must_use]
    pub fn rounded(&self, f: fn(f64) -> f64) -> Self {
        if let Some(set) = self.values()
            && let Some(result) = Self::from_set(set.iter().map(|&value| settle(f(value), true)).collect(), true)
        {
            return result;
        }
        let stride = self.stride().filter(|(step, off)| step.fract() == 0.0 && off.fract() == 0.0);
        Self::bounded(f(self.lo), f(self.hi), true).with_stride(stride)
    }

    fn bounded(lo: f64, hi: f64, int: bool) -> Self {
        Self::range(settle(lo, int), settle(hi, int), int)
    }
}

/// The rest of a division, with the divisor's sign; zero for a divisor of zero.
#[must_use]
pub fn remainder(a: f64, b: f64) -> f64 {
    if b == 0.0 {
        return 0.0;
    }
    let rest = a % b;
    if rest != 0.0 && (rest < 0.0) != (b < 0.0) { rest + b } else { rest }
}

/// What a run makes of a result: whole numbers stop at the ends of 64 bits.
fn settle(value: f64, int: bool) -> f64 {
    if value.is_nan() {
        0.0
    } else if int && value.is_finite() {
        value.clamp(INT_MIN, INT_MAX)
    } else {
        value
    }
}

fn add(a: f64, b: f64) -> f64 {
    // Opposite infinities meet only as ends of "anything".
    if a.is_infinite() { a } else { a + b }
}

fn corners(a: &Num, b: &Num, f: impl Fn(f64, f64) -> f64) -> (f64, f64) {
    let ends = [f(a.lo, b.lo), f(a.lo, b.hi), f(a.hi, b.lo), f(a.hi, b.hi)];
    ends.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(lo, hi), &end| (lo.min(end), hi.max(end)))
}

fn stride_of(values: &[f64], int: bool) -> (f64, f64) {
    if values.len() < 2 || !values.iter().all(|&value| exact(value)) {
        return (if int && values.len() > 1 { 1.0 } else { 0.0 }, values.first().copied().unwrap_or(0.0));
    }
    let step = values.iter().fold(0.0, |step, &value| gcd(step, value - values[0]));
    (step, values[0])
}

/// A text that the registry knows as some enum's value.
pub type Symbol = u32;

/// What a place may hold.
#[derive(Clone, PartialEq, Hash, Debug)]
pub enum Value {
    /// A number.
    Num(Num),
    /// True or false.
    Bool {
        /// It may be true.
        yes: bool,
        /// It may be false.
        no: bool,
    },
    /// One of these texts; none: any text.
    Text(Option<SmallVec<[Symbol; 4]>>),
    /// An instance.
    Ref {
        /// It may be none.
        none: bool,
        /// It may be some instance.
        some: bool,
    },
    /// Something that is not followed.
    Other,
}

/// What a place may hold, and whether it may hold anything yet.
#[derive(Clone, PartialEq, Hash, Debug)]
pub struct Abstract {
    /// It may be without a value.
    pub unset: bool,
    /// That was told on the way here, and once is enough.
    pub told: bool,
    /// It may have one.
    pub set: bool,
    /// It may still be the default that only stands in.
    pub stand_in: bool,
    /// The value, if it has one.
    pub value: Value,
}

impl Abstract {
    /// A place that has this value.
    #[must_use]
    pub fn of(value: Value) -> Self {
        Self { unset: false, told: false, set: true, stand_in: false, value }
    }

    /// What either may be.
    #[must_use]
    pub fn join(&self, other: &Self) -> Self {
        let value = match (self.set, other.set) {
            (false, true) => other.value.clone(),
            (true, false) => self.value.clone(),
            _ => self.value.join(&other.value),
        };
        Self {
            unset: self.unset || other.unset,
            told: (self.told || !self.unset) && (other.told || !other.unset) && (self.told || other.told),
            set: self.set || other.set,
            stand_in: self.stand_in || other.stand_in,
            value,
        }
    }

    /// Whether it may be without a value, and nothing has told so yet.
    #[must_use]
    pub fn is_untold(&self) -> bool {
        self.unset && !self.told
    }

    /// The number, if it is one.
    #[must_use]
    pub fn num(&self) -> Option<&Num> {
        match &self.value {
            Value::Num(num) => Some(num),
            _ => None,
        }
    }
}

impl Value {
    /// From where to where it lies, if it is a number; anywhere else.
    #[must_use]
    pub fn ends(&self) -> (f64, f64) {
        match self {
            Self::Num(num) => (num.lo, num.hi),
            _ => (f64::NEG_INFINITY, f64::INFINITY),
        }
    }

    /// Whether it can be one thing only.
    #[must_use]
    pub fn is_single(&self) -> bool {
        match self {
            Self::Num(num) => num.single().is_some(),
            Self::Bool { yes, no } => yes != no,
            Self::Text(texts) => texts.as_ref().is_some_and(|texts| texts.len() == 1),
            Self::Ref { .. } | Self::Other => false,
        }
    }

    /// What either may be.
    #[must_use]
    pub fn join(&self, other: &Self) -> Self {
        match (self, other) {
            (Self::Num(a), Self::Num(b)) => Self::Num(a.join(b)),
            (Self::Bool { yes: a, no: b }, Self::Bool { yes: c, no: d }) => Self::Bool { yes: *a || *c, no: *b || *d },
            (Self::Text(Some(a)), Self::Text(Some(b))) => {
                let mut all = a.clone();
                all.extend(b.iter().copied());
                all.sort_unstable();
                all.dedup();
                Self::Text((all.len() <= TEXT_LIMIT).then_some(all))
            }
            (Self::Text(_), Self::Text(_)) => Self::Text(None),
            (Self::Ref { none: a, some: b }, Self::Ref { none: c, some: d }) => {
                Self::Ref { none: *a || *c, some: *b || *d }
            }
            _ => Self::Other,
        }
    }

    /// What both may be; none if they share nothing.
    #[must_use]
    pub fn meet(&self, other: &Self) -> Option<Self> {
        Some(match (self, other) {
            (Self::Num(a), Self::Num(b)) => Self::Num(a.meet(b)?),
            (Self::Bool { yes: a, no: b }, Self::Bool { yes: c, no: d }) => {
                let (yes, no) = (*a && *c, *b && *d);
                if !yes && !no {
                    return None;
                }
                Self::Bool { yes, no }
            }
            (Self::Text(Some(a)), Self::Text(Some(b))) => {
                let kept: SmallVec<[Symbol; 4]> = a.iter().copied().filter(|symbol| b.contains(symbol)).collect();
                if kept.is_empty() {
                    return None;
                }
                Self::Text(Some(kept))
            }
            (Self::Text(None), text) | (text, Self::Text(None)) => text.clone(),
            (Self::Ref { none: a, some: b }, Self::Ref { none: c, some: d }) => {
                let (none, some) = (*a && *c, *b && *d);
                if !none && !some {
                    return None;
                }
                Self::Ref { none, some }
            }
            _ => self.clone(),
        })
    }
}
