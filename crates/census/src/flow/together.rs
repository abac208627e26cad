//! What holds where two ways meet of places that go together: `room` is less where `more` is 3, and more where it is 1, so
//! `load + more` keeps to an end that each range by itself tells nothing of. Of the sums and differences of two places that the
//! join of octagons keeps (Miné, 2006) these are the ones about a number that decides which way is gone, or is decided there.

use super::linear::{Linear, Slot};
use super::state::Known;
use super::value::Value;
use smallvec::SmallVec;

/// How many places that differ are looked at; where there are more, the two ways have little to do with each other.
const MOST_DIFFERING: usize = 6;
/// How many facts of either way are looked at.
const MOST_LOOKED_AT: usize = 16;
/// How many facts come of it at most.
const MOST_FOUND: usize = 8;

/// A place that holds something else on each way: its ends there.
#[derive(Clone, Copy)]
struct Differing {
    slot: Slot,
    mine: (f64, f64),
    theirs: (f64, f64),
}

impl Differing {
    /// The most that the place is, taken so many times, on each way.
    fn most(&self, sign: f64) -> (f64, f64) {
        let end = |(lo, hi): (f64, f64)| if sign > 0.0 { hi } else { -lo };
        (end(self.mine), end(self.theirs))
    }
}

/// The facts that hold on both ways of one of these places and what goes together with it.
#[must_use]
pub fn facts(mine: &Known, theirs: &Known, amounts: &[Slot]) -> SmallVec<[Linear; MOST_FOUND]> {
    let mut found = SmallVec::new();
    let is_decisive = |&slot: &Slot| {
        let (a, b) = (mine.ends(slot), theirs.ends(slot));
        // One of the ways has given it a single number, or each leaves it others.
        a != b && (a.0 == a.1 || b.0 == b.1) || a.1 < b.0 || b.1 < a.0
    };
    let amounts: SmallVec<[Slot; 4]> = amounts.iter().copied().filter(is_decisive).collect();
    if amounts.is_empty() {
        return found;
    }
    let Some(differing) = differing(mine, theirs) else { return found };
    for given in differing.iter().filter(|place| amounts.contains(&place.slot)) {
        let others = differing.iter().filter(|other| other.slot != given.slot);
        for other in others.filter(|other| !amounts.contains(&other.slot) || other.slot > given.slot) {
            for sign in [1.0, -1.0] {
                add(&mut found, (mine, theirs), given, &Linear::slot(other.slot).times(sign), other.most(sign));
            }
        }
        let known = mine.facts.iter().take(MOST_LOOKED_AT).chain(theirs.facts.iter().take(MOST_LOOKED_AT));
        for fact in known.filter(|fact| fact.terms.len() == 2 && fact.factor(given.slot) == 0.0) {
            let form = fact.without_constant();
            let most = (
                mine.facts.plainly_highest(&form, &|slot| mine.ends(slot)),
                theirs.facts.plainly_highest(&form, &|slot| theirs.ends(slot)),
            );
            add(&mut found, (mine, theirs), given, &form, most);
        }
    }
    found
}

/// The places that hold something else on each way; none where there are too many.
fn differing(mine: &Known, theirs: &Known) -> Option<SmallVec<[Differing; MOST_DIFFERING]>> {
    let mut all = SmallVec::new();
    for (at, value) in mine.values.unlike(&theirs.values) {
        let (Value::Num(own), Some(Value::Num(other))) =
            (&value.value, theirs.values.get(at).map(|value| &value.value))
        else {
            continue;
        };
        if all.len() == MOST_DIFFERING {
            return None;
        }
        all.push(Differing { slot: Slot::try_from(at).ok()?, mine: (own.lo, own.hi), theirs: (other.lo, other.hi) });
    }
    Some(all)
}

/// Adds what a form and a place come to together, where that is less than the most of each.
fn add(
    found: &mut SmallVec<[Linear; MOST_FOUND]>,
    (mine, theirs): (&Known, &Known),
    given: &Differing,
    form: &Linear,
    most: (f64, f64),
) {
    if !most.0.is_finite() || !most.1.is_finite() {
        return;
    }
    for sign in [1.0, -1.0] {
        let own = given.most(sign);
        let mut sum = form.plus(&Linear::slot(given.slot), sign);
        if !sum.is_known() || found.len() >= MOST_FOUND {
            continue;
        }
        let apart = most.0.max(most.1) + own.0.max(own.1);
        // The way on which each by itself comes to more is asked first: mostly it tells that they come to as much together.
        let (first, second) = if most.0 + own.0 < most.1 + own.1 { (theirs, mine) } else { (mine, theirs) };
        let most_of = |known: &Known| known.facts.plainly_highest(&sum, &|slot| known.ends(slot));
        let of_first = most_of(first);
        if of_first >= apart {
            continue;
        }
        let together = of_first.max(most_of(second));
        if together < apart {
            sum.constant -= together;
            if !found.contains(&sum) {
                found.push(sum);
            }
        }
    }
}
