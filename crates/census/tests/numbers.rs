//! The abstract numbers and relations, held against what concrete arithmetic does.

use census::flow::linear::{Facts, Linear, Slot};
use census::flow::value::{Num, Value};

/// A small generator of random numbers; the same each time.
struct Dice(u64);

impl Dice {
    fn below(&mut self, count: i64) -> i64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        i64::try_from(self.0 >> 33).expect("31 bits") % count
    }

    fn between(&mut self, low: i64, high: i64) -> f64 {
        let value = low + self.below(high - low + 1);
        f64::from(i32::try_from(value).expect("a small number"))
    }

    /// A set of whole numbers, and the abstract number that stands for it.
    fn set(&mut self) -> (Vec<f64>, Num) {
        let count = 1 + self.below(5);
        let values: Vec<f64> = match self.below(3) {
            0 => (0..count).map(|_| self.between(-9, 9)).collect(),
            1 => {
                let (from, step) = (self.between(-9, 9), self.between(1, 4));
                (0..count).map(|at| from + step * f64::from(i32::try_from(at).expect("small"))).collect()
            }
            _ => {
                let from = self.between(-9, 9);
                (0..=count * 3).map(|at| from + f64::from(i32::try_from(at).expect("small"))).collect()
            }
        };
        let num =
            values.iter().map(|&value| Num::constant(value, true)).reduce(|a, b| a.join(&b)).expect("one at least");
        (values, num)
    }
}

#[test]
fn a_join_holds_all_that_either_side_holds() {
    let mut dice = Dice(1);
    for _ in 0..3000 {
        let ((a, x), (b, y)) = (dice.set(), dice.set());
        let joined = x.join(&y);
        for value in a.iter().chain(&b) {
            assert!(joined.contains(*value), "{x:?} joined with {y:?} lost {value}");
        }
    }
}

#[test]
fn a_meet_holds_all_that_both_sides_hold() {
    let mut dice = Dice(2);
    for _ in 0..3000 {
        let ((a, x), (b, y)) = (dice.set(), dice.set());
        let both: Vec<f64> = a.iter().copied().filter(|value| b.contains(value)).collect();
        let met = x.meet(&y);
        for value in both {
            assert!(met.as_ref().is_some_and(|met| met.contains(value)), "{x:?} met with {y:?} lost {value}");
        }
    }
}

#[test]
fn arithmetic_holds_every_result() {
    let mut dice = Dice(3);
    type Case = (&'static str, fn(&Num, &Num) -> Num, fn(f64, f64) -> f64);
    let cases: [Case; 7] = [
        ("+", Num::add, |a, b| a + b),
        ("-", Num::sub, |a, b| a - b),
        ("*", Num::mul, |a, b| a * b),
        ("/", Num::div, |a, b| if b == 0.0 { 0.0 } else { a / b }),
        ("%", Num::rem, census::flow::value::remainder),
        ("min", Num::min, f64::min),
        ("max", Num::max, f64::max),
    ];
    for _ in 0..1500 {
        let ((a, x), (b, y)) = (dice.set(), dice.set());
        for (name, of_sets, of_values) in &cases {
            let result = of_sets(&x, &y);
            for &one in &a {
                for &other in &b {
                    let value = of_values(one, other);
                    assert!(result.contains(value), "{one} {name} {other} = {value} is not in {result:?}");
                }
            }
        }
    }
}

#[test]
fn functions_of_one_number_hold_every_result() {
    let mut dice = Dice(4);
    for _ in 0..3000 {
        let (values, num) = dice.set();
        let half = num.mul(&Num::constant(0.5, false));
        for value in values {
            assert!(num.neg().contains(-value) && num.abs().contains(value.abs()));
            for round in [f64::floor, f64::ceil, f64::round] {
                assert!(half.rounded(round).contains(round(value / 2.0)), "{value} halved and rounded");
            }
        }
    }
}

#[test]
fn widening_comes_to_an_end_and_loses_nothing() {
    let mut dice = Dice(5);
    for _ in 0..500 {
        let (_, mut wide) = dice.set();
        let mut grown = 0;
        for _ in 0..60 {
            let (more, next) = dice.set();
            let wider = wide.widen(&wide.join(&next), &[-5.0, 0.0, 5.0, 20.0]);
            assert!(more.iter().all(|&value| wider.contains(value)));
            grown += i32::from(wider != wide);
            wide = wider;
        }
        assert!(grown <= 16, "it grew {grown} times, over four stops at each end and a few strides");
    }
}

#[test]
fn what_moves_by_tens_is_never_between() {
    let tens = Num::constant(0.0, true).widen(&Num::constant(0.0, true).join(&Num::constant(10.0, true)), &[]);
    assert!(tens.contains(40.0) && tens.contains(1_000_000.0));
    assert!(!tens.contains(95.0) && !tens.contains(-10.0));
    let shifted = tens.add(&Num::constant(3.0, true));
    assert!(shifted.contains(13.0) && !shifted.contains(10.0));
    assert_eq!(Num::range(0.0, 95.0, true).meet(&tens).map(|both| both.hi), Some(90.0));
}

#[test]
fn without_takes_ends_and_members_away() {
    let num = Num::range(0.0, 5.0, true);
    assert_eq!(num.without(5.0).map(|rest| rest.hi), Some(4.0));
    assert_eq!(num.without(0.0).map(|rest| rest.lo), Some(1.0));
    assert_eq!(num.without(3.0).map(|rest| (rest.lo, rest.hi)), Some((0.0, 5.0)));
    assert_eq!(Num::constant(2.0, true).without(2.0), None);
}

#[test]
fn values_join_and_meet_kind_by_kind() {
    let yes = Value::Bool { yes: true, no: false };
    let no = Value::Bool { yes: false, no: true };
    assert_eq!(yes.join(&no), Value::Bool { yes: true, no: true });
    assert_eq!(yes.meet(&no), None);
    let some = Value::Ref { none: false, some: true };
    let none = Value::Ref { none: true, some: false };
    assert_eq!(some.join(&none), Value::Ref { none: true, some: true });
    assert_eq!(some.meet(&none), None);
    assert_eq!(yes.join(&some), Value::Other);
}

// ---- relations ----

/// `a - b + constant`
fn difference(a: Slot, b: Slot, constant: f64) -> Linear {
    Linear::slot(a).plus(&Linear::slot(b), -1.0).plus(&Linear::constant(constant), 1.0)
}

fn open(_: Slot) -> (f64, f64) {
    (f64::NEG_INFINITY, f64::INFINITY)
}

#[test]
fn facts_follow_from_one_another() {
    let mut facts = Facts::default();
    facts.add(difference(0, 1, 1.0)); // a + 1 ≤ b
    facts.add(difference(1, 2, 2.0)); // b + 2 ≤ c
    assert!(facts.implies(&difference(0, 2, 3.0), &open), "a + 3 ≤ c");
    assert!(!facts.implies(&difference(0, 2, 4.0), &open), "a + 4 ≤ c does not follow");
    assert!(!facts.implies(&difference(2, 0, 0.0), &open));
}

#[test]
fn an_assignment_moves_what_is_known_along() {
    let mut facts = Facts::default();
    facts.add(difference(0, 1, 1.0));
    let next = [Linear::slot(0).plus(&Linear::constant(1.0), 1.0)];
    facts.assign(0, &next, &next, &open, open(0)); // a = a + 1
    assert!(facts.implies(&difference(0, 1, 0.0), &open), "a ≤ b still");
    assert!(!facts.implies(&difference(0, 1, 1.0), &open), "but no longer a + 1 ≤ b");
    let copy = [Linear::slot(1)];
    facts.assign(2, &copy, &copy, &open, open(2)); // c = b
    assert!(facts.implies(&difference(0, 2, 0.0), &open));
}

#[test]
fn forgetting_keeps_what_others_say_together() {
    let mut facts = Facts::default();
    facts.add(difference(0, 1, 0.0));
    facts.add(difference(1, 2, 0.0));
    facts.forget(1);
    assert!(facts.implies(&difference(0, 2, 0.0), &open));
    assert!(!facts.implies(&difference(0, 1, 0.0), &open));
}

#[test]
fn loosening_drops_only_what_may_fail() {
    let mut facts = Facts::default();
    facts.add(difference(0, 1, 0.0));
    let mut grown = facts.clone();
    grown.loosen(1, true, false); // b only grows: a ≤ b stays
    assert!(grown.implies(&difference(0, 1, 0.0), &open));
    facts.loosen(1, false, true);
    assert!(!facts.implies(&difference(0, 1, 0.0), &open));
}

#[test]
fn where_ways_meet_the_weaker_fact_stays() {
    let (mut one, mut other) = (Facts::default(), Facts::default());
    one.add(difference(0, 1, 5.0));
    other.add(difference(0, 1, 2.0));
    let joined = one.join(&open, &other, &open, true);
    assert!(joined.implies(&difference(0, 1, 2.0), &open));
    assert!(!joined.implies(&difference(0, 1, 3.0), &open));
    let nothing = one.join(&open, &Facts::default(), &open, true);
    assert!(nothing.is_empty());
}

#[test]
fn what_says_no_more_than_the_ranges_is_kept_where_they_may_grow() {
    let (narrow, wide) = (|_| (0.0, 4.0), |_| (0.0, 9.0));
    let mut one = Facts::default();
    one.add(difference(0, 1, -9.0));
    let other = Facts::default();
    assert!(one.join(&narrow, &other, &wide, false).is_empty());
    assert!(one.join(&narrow, &other, &wide, true).implies(&difference(0, 1, -9.0), &open));
}

#[test]
fn a_step_by_a_constant_moves_along_what_is_known() {
    let mut facts = Facts::default();
    facts.add(difference(0, 1, 0.0));
    let step = Linear::slot(0).plus(&Linear::constant(3.0), 1.0);
    facts.assign(0, &[step], &[step], &open, open(0));
    assert!(facts.implies(&difference(0, 1, -3.0), &open));
    assert!(!facts.implies(&difference(0, 1, -2.0), &open));
    facts.assign(2, &[Linear::slot(0)], &[Linear::slot(0)], &open, open(2)); // Nothing was known of it before.
    assert!(facts.implies(&difference(2, 1, -3.0), &open) && facts.implies(&difference(0, 2, 0.0), &open));
}

#[test]
fn what_is_implied_is_so_for_all_numbers_that_keep_the_facts() {
    let mut dice = Dice(6);
    for _ in 0..400 {
        let mut facts = Facts::default();
        let mut known = Vec::new();
        for _ in 0..3 {
            let (a, b) = (dice.below(3), dice.below(3));
            if a != b {
                let slot = |at: i64| Slot::try_from(at).expect("a slot");
                let fact = difference(slot(a), slot(b), dice.between(-3, 3));
                known.push((a, b, fact.constant));
                facts.add(fact);
            }
        }
        let ends = |_: Slot| (-6.0, 6.0);
        let asked = difference(0, 1, dice.between(-4, 4));
        if !facts.implies(&asked, &ends) {
            continue;
        }
        for _ in 0..300 {
            let values = [dice.between(-6, 6), dice.between(-6, 6), dice.between(-6, 6)];
            let at = |slot: i64| values[usize::try_from(slot).expect("a slot")];
            if known.iter().all(|&(a, b, constant)| at(a) - at(b) + constant <= 0.0) {
                assert!(
                    values[0] - values[1] + asked.constant <= 0.0,
                    "{known:?} does not imply {asked:?}: {values:?}"
                );
            }
        }
    }
}
