//! Linear forms of products and quotients of places, which are not linear themselves.

use super::access::walk_expr;
use super::engine::Run;
use super::forms::{Forms, Side, by_number, common, scaled, span};
use super::linear::{Linear, Slot};
use super::state::State;
use crate::registry::Type;
use crate::script::ast::*;
use smallvec::SmallVec;

/// The ends of a range.
type Span = (f64, f64);

/// How many factors of places behind those of a form are asked for.
const MOST_BEHIND: usize = 8;

/// Forms on either side, as they are found.
#[derive(Default)]
struct Found {
    uppers: Side,
    lowers: Side,
}

impl Found {
    fn add(&mut self, forms: &Forms) {
        for (mine, more) in [(&mut self.uppers, forms.uppers()), (&mut self.lowers, forms.lowers())] {
            for form in more.iter().filter(|form| form.is_known()) {
                if !mine.contains(form) {
                    mine.push(*form);
                }
            }
        }
    }

    fn forms(self) -> Forms {
        if self.uppers.is_empty() && self.lowers.is_empty() {
            return Forms::Unknown;
        }
        Forms::between(self.uppers, self.lowers)
    }
}

impl Run<'_, '_> {
    /// The forms of a product of two numbers, neither of which is known.
    pub(super) fn product_forms(&self, state: &State, a: &Forms, b: &Forms) -> Forms {
        let known = [(a, b), (b, a)].map(|(count, price)| self.known_products(state, count, price));
        let exact = known.iter().find(|forms| matches!(forms, Forms::Exactly(_)));
        exact.cloned().unwrap_or_else(|| {
            let mut found = self.multiply(state, a, b);
            known.iter().for_each(|forms| found.add(forms));
            found.forms()
        })
    }

    /// The same, but for what products tell that are kept track of.
    pub(super) fn product_forms_anew(&self, state: &State, a: &Forms, b: &Forms) -> Forms {
        by_number(state, a, b).unwrap_or_else(|| self.multiply(state, a, b).forms())
    }

    fn multiply(&self, state: &State, a: &Forms, b: &Forms) -> Found {
        let (a_span, b_span) = (span(state, a), span(state, b));
        let mut found = Found::default();
        for (count, price) in [(a, b), (b, a)] {
            self.affordable(state, count, price).iter().for_each(|forms| found.add(forms));
        }
        for (forms, own, by) in [(a, a_span, b_span), (b, b_span, a_span)] {
            part_of(state, forms, own, by).iter().for_each(|forms| found.add(forms));
        }
        found
    }

    /// How many of a price there are in a sum, times the price, is no more than the sum: `min(n, floor(oil / cost)) * cost`.
    pub(super) fn affordable(&self, state: &State, count: &Forms, price: &Forms) -> SmallVec<[Forms; 1]> {
        let (true, Forms::Exactly(price)) = (self.has_own_terms(), price) else { return SmallVec::new() };
        let ends = |slot| state.ends(slot);
        let sums = state.terms.iter().filter_map(|&(slot, term)| {
            let (sum, divisor) = self.divided(term).filter(|&(sum, by)| self.is_plain(sum) && self.is_plain(by))?;
            let divisor = self.forms(state, divisor);
            let priced = span(state, &divisor).0 > 0.0 && divisor.uppers() == [*price];
            let within = |form: &Linear| state.facts.implies(&form.plus(&Linear::slot(slot), -1.0), &ends);
            (priced && count.uppers().iter().any(within)).then_some(sum)
        });
        sums.map(|sum| Forms::between(self.forms(state, sum).uppers().into(), Side::new())).collect()
    }

    /// Whether an expression only adds up places and numbers.
    fn is_plain(&self, expr: ExprId) -> bool {
        let mut plain = true;
        walk_expr(self.unit, expr, &mut |inner| {
            plain &= match self.unit.tree.expr(inner).kind {
                ExprKind::Binary(op, ..) => matches!(op, BinaryOp::Add | BinaryOp::Subtract),
                ExprKind::Call(..) => false,
                _ => true,
            };
        });
        plain
    }

    /// What is divided, and by what.
    fn divided(&self, expr: ExprId) -> Option<(ExprId, ExprId)> {
        match self.unit.tree.expr(expr).kind {
            ExprKind::Binary(BinaryOp::Divide, whole, divisor) => Some((whole, divisor)),
            _ => None,
        }
    }

    /// The same where the divisor is certainly above zero.
    fn division(&self, state: &State, expr: ExprId) -> Option<(ExprId, ExprId)> {
        self.divided(expr).filter(|&(_, divisor)| span(state, &self.forms(state, divisor)).0 > 0.0)
    }

    /// The same for a `let` that holds the quotient, as long as it still is that.
    fn division_behind(&self, state: &State, expr: ExprId) -> Option<(ExprId, ExprId)> {
        let behind = self.unit.behind(expr);
        if behind != expr {
            self.divided(behind)?;
            let held = self.slot_of(expr)?;
            let quotient = match self.term(state, behind) {
                Some(term) => Linear::slot(term),
                None => match self.forms(state, behind) {
                    Forms::Exactly(quotient) => quotient, // By a number.
                    _ => return None,
                },
            };
            let (difference, ends) = (Linear::slot(held).plus(&quotient, -1.0), |slot| state.ends(slot));
            let same = [1.0, -1.0].iter().all(|&sign| state.facts.implies(&difference.times(sign), &ends));
            if !same {
                return None;
            }
        }
        self.division(state, behind)
    }

    /// What `a < b` (`strict`) or `a ≤ b` says where one of them is a quotient: `load / hold < 1` that `load < hold`; none
    /// where that can't be.
    pub(super) fn multiply_out(&self, state: &mut State, left: ExprId, right: ExprId, strict: bool) -> Option<()> {
        for (expr, other, sign) in [(left, right, 1.0), (right, left, -1.0)] {
            let Some((whole, divisor)) = self.division_behind(state, expr) else { continue };
            let Some(limit) = self.known(state, other) else { continue };
            let is_int = |expr| self.unit.ty(expr) == Type::Int;
            let gap = match strict {
                false => 0.0,
                true if is_int(whole) && is_int(divisor) && limit.fract() == 0.0 => 1.0,
                true => f64::from_bits(1),
            };
            let beyond = self.forms(state, whole).plus(&self.forms(state, divisor), -limit).scaled(sign);
            for form in beyond.lowers().iter().filter(|form| !form.terms.is_empty()) {
                state.assume(self.plainest(form.plus(&Linear::constant(gap), 1.0)))?;
            }
        }
        Some(())
    }
}

/// The forms of a number times one from `low` to `high`, none of them below zero: where the sign of the first is known, the
/// product lies between two multiples of it. So `oil + (20 - oil) * share` is no more than 20.
fn part_of(state: &State, forms: &Forms, (lo, hi): Span, (low, high): Span) -> Option<Forms> {
    if low < 0.0 || !high.is_finite() {
        return None;
    }
    let times = |by: f64| (scaled(forms.uppers(), by), scaled(forms.lowers(), by));
    let ((most, more), (least, less)) = (times(high), times(low));
    Some(if lo >= 0.0 {
        Forms::between(most, less)
    } else if hi <= 0.0 {
        Forms::between(least, more)
    } else {
        Forms::between(common(state, &most, &least, -1.0), common(state, &more, &less, 1.0))
    })
}

/// The forms of a quotient whose divisor is above zero.
pub(super) fn quotient(state: &State, whole: &Forms, divisor: &Forms) -> Forms {
    let (low, high) = span(state, divisor);
    if low <= 0.0 {
        return Forms::Unknown;
    }
    let mut found = Found::default();
    part_of(state, whole, span(state, whole), (1.0 / high, 1.0 / low)).iter().for_each(|forms| found.add(forms));
    found.add(&rates(state, whole, divisor));
    found.forms()
}

/// The factors of what the places of a form are held against: of `part` 100, where that is `100 * load`.
fn factors_behind(state: &State, form: &Linear) -> impl Iterator<Item = f64> {
    let of_term =
        |&(slot, factor): &(Slot, f64)| state.facts.paired(slot).map(move |(own, (_, other), _)| factor * other / own);
    form.terms.iter().flat_map(of_term).map(f64::abs).collect::<SmallVec<[f64; 4]>>().into_iter()
}

/// Numbers that a quotient lies between, since the whole is so many times the divisor at most, or at least: of `100 * load / hold`
/// 100 is asked for, which it keeps to where `load` is no more than `hold`.
fn rates(state: &State, whole: &Forms, divisor: &Forms) -> Forms {
    let ends = |slot| state.ends(slot);
    let side = |forms: &[Linear], sign: f64| {
        let factors = |forms: &[Linear]| -> SmallVec<[f64; 4]> {
            forms.iter().flat_map(|form| form.terms.iter().map(|&(_, factor)| factor)).collect()
        };
        let by = factors(divisor.lowers());
        let mut of_whole = factors(forms);
        of_whole.extend(forms.iter().flat_map(|form| factors_behind(state, form)).take(MOST_BEHIND));
        let of_terms = of_whole.iter().flat_map(|factor| by.iter().map(move |by| factor / by));
        let holds = |&rate: &f64| {
            // Of a divisor that is at least so much the whole is no more than so many times that.
            let divisors = if rate * sign >= 0.0 { divisor.lowers() } else { divisor.uppers() };
            let mut pairs = forms.iter().flat_map(|form| divisors.iter().map(move |divisor| (form, divisor)));
            pairs.any(|(form, divisor)| state.facts.implies(&form.plus(divisor, -rate).times(sign), &ends))
        };
        let mut rates: SmallVec<[f64; 4]> = of_terms.chain([1.0]).collect();
        rates.sort_unstable_by(|a, b| (a * sign).total_cmp(&(b * sign)));
        rates.dedup();
        rates.into_iter().find(holds).map(Linear::constant).into_iter().collect()
    };
    Forms::between(side(whole.uppers(), 1.0), side(whole.lowers(), -1.0))
}
