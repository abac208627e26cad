//! Linear forms that a number lies between, worked out of the expression for it.

use super::engine::{Key, Run};
use super::linear::{Linear, Slot};
use super::nonlinear::quotient;
use super::state::State;
use super::value::{Num, is_whole, remainder};
use crate::project::builtin::Builtin;
use crate::project::{Meaning, Place, ProcId};
use crate::registry::{Bound, Type};
use crate::script::ast::*;
use smallvec::SmallVec;

/// How many forms are kept on either side.
const MOST_FORMS: usize = 4;

/// Forms on one side of a number.
pub type Side = SmallVec<[Linear; 2]>;

/// Linear forms that a number lies between.
#[derive(Clone, Default)]
pub enum Forms {
    /// There are none.
    #[default]
    Unknown,
    /// It is this.
    Exactly(Linear),
    /// It is at most each of the first, and at least each of the others.
    Between(Box<(Side, Side)>),
}

impl Forms {
    /// It is at most each of the first, and at least each of the others.
    #[must_use]
    pub fn between(uppers: Side, lowers: Side) -> Self {
        Self::Between(Box::new((uppers, lowers)))
    }

    /// The same; where both sides are one form, it is that.
    #[must_use]
    pub fn of_sides(uppers: &[Linear], lowers: &[Linear]) -> Self {
        match (uppers, lowers) {
            ([], []) => Self::Unknown,
            ([upper], [lower]) if upper == lower => Self::Exactly(*upper),
            _ => Self::between(uppers.into(), lowers.into()),
        }
    }

    /// It is at most each of these.
    #[must_use]
    pub fn uppers(&self) -> &[Linear] {
        match self {
            Self::Unknown => &[],
            Self::Exactly(form) => std::slice::from_ref(form),
            Self::Between(sides) => &sides.0,
        }
    }

    /// It is at least each of these.
    #[must_use]
    pub fn lowers(&self) -> &[Linear] {
        match self {
            Self::Unknown => &[],
            Self::Exactly(form) => std::slice::from_ref(form),
            Self::Between(sides) => &sides.1,
        }
    }

    /// `by · self`
    #[must_use]
    pub fn scaled(&self, by: f64) -> Self {
        match self {
            Self::Unknown => Self::Unknown,
            Self::Exactly(form) => Self::Exactly(form.times(by)),
            Self::Between(_) => {
                let (uppers, lowers) = (scaled(self.uppers(), by), scaled(self.lowers(), by));
                if by < 0.0 { Self::between(lowers, uppers) } else { Self::between(uppers, lowers) }
            }
        }
    }

    /// `self + by · other`
    #[must_use]
    pub fn plus(&self, other: &Self, by: f64) -> Self {
        if let (Self::Exactly(a), Self::Exactly(b)) = (self, other) {
            let sum = a.plus(b, by);
            return if sum.is_known() { Self::Exactly(sum) } else { Self::Unknown };
        }
        let (up, down) = if by < 0.0 { (other.lowers(), other.uppers()) } else { (other.uppers(), other.lowers()) };
        let cross = |a: &[Linear], b: &[Linear]| {
            let sums = a.iter().flat_map(|a| b.iter().map(move |b| a.plus(b, by)));
            sums.filter(Linear::is_known).take(MOST_FORMS).collect()
        };
        Self::between(cross(self.uppers(), up), cross(self.lowers(), down))
    }
}

pub(super) fn scaled(side: &[Linear], by: f64) -> Side {
    side.iter().map(|form| form.times(by)).collect()
}

impl Run<'_, '_> {
    /// The forms that a numeric expression lies between. A procedure called on the way may change what the rest names,
    /// so then only a call that stands alone has forms: those of what it gives.
    pub fn forms(&self, state: &State, expr: ExprId) -> Forms {
        let alone = matches!(self.unit.meaning(expr), Meaning::Procedure(_));
        if !alone && self.calls_procedure(expr) { Forms::Unknown } else { self.forms_of(state, expr) }
    }

    /// Whether a procedure that changes something is called for its value in an expression.
    pub fn calls_procedure(&self, expr: ExprId) -> bool {
        self.calls(expr, |id| self.world.changes_anything(self.script, id))
    }

    /// Whether any procedure is called for its value in an expression.
    pub fn calls_any(&self, expr: ExprId) -> bool {
        self.calls(expr, |_| true)
    }

    fn calls(&self, expr: ExprId, meant: impl Fn(ProcId) -> bool) -> bool {
        let mut found = false;
        if self.unit.gives_values {
            super::access::walk_expr(self.unit, expr, &mut |inner| {
                if let Meaning::Procedure(id) = self.unit.meaning(inner) {
                    found |= meant(id);
                }
            });
        }
        found
    }

    fn forms_of(&self, state: &State, expr: ExprId) -> Forms {
        match self.term(state, expr) {
            Some(slot) => Forms::Exactly(Linear::slot(slot)),
            None => self.shape_forms(state, expr),
        }
    }

    /// The forms that an expression has by the way in which it is put together.
    pub(super) fn shape_forms(&self, state: &State, expr: ExprId) -> Forms {
        let unit = self.unit;
        match &unit.tree.expr(expr).kind {
            #[allow(clippy::cast_precision_loss, reason = "constants beyond 2⁵³ only loosen a form")]
            ExprKind::Int(value) => Forms::Exactly(Linear::constant(*value as f64)),
            ExprKind::Float(value) => Forms::Exactly(Linear::constant(*value)),
            ExprKind::Path(_) => self.path_forms(expr),
            ExprKind::Unary(UnaryOp::Minus, operand) => self.forms_of(state, *operand).scaled(-1.0),
            ExprKind::Unary(UnaryOp::Plus, operand) => self.forms_of(state, *operand),
            ExprKind::Binary(op, left, right) => self.binary_forms(state, *op, *left, *right),
            ExprKind::Call(_, arguments) => self.call_forms(state, expr, arguments),
            _ => Forms::Unknown,
        }
    }

    fn path_forms(&self, expr: ExprId) -> Forms {
        match self.unit.meaning(expr) {
            Meaning::Value(place) if self.unit.ty(expr).is_numeric() => {
                self.slot(place).map_or(Forms::Unknown, |slot| self.slot_forms(slot))
            }
            Meaning::Bound(place, end) => {
                let Place::Variable(variable, base) = self.unit.place(place) else { return Forms::Unknown };
                match self.world.project.registry.var(variable).bound(end) {
                    Some(Bound::Number(value)) => Forms::Exactly(Linear::constant(*value)),
                    Some(Bound::Variable(other)) => {
                        self.bound_slot(*other, base).map_or(Forms::Unknown, |slot| self.slot_forms(slot))
                    }
                    None => Forms::Unknown,
                }
            }
            _ => Forms::Unknown,
        }
    }

    pub(super) fn slot_forms(&self, slot: Slot) -> Forms {
        Forms::Exactly(self.table.slots[slot as usize].form(slot))
    }

    fn binary_forms(&self, state: &State, op: BinaryOp, left: ExprId, right: ExprId) -> Forms {
        match op {
            BinaryOp::Add | BinaryOp::Subtract => {
                let by = if op == BinaryOp::Add { 1.0 } else { -1.0 };
                self.forms_of(state, left).plus(&self.forms_of(state, right), by)
            }
            BinaryOp::Multiply => self.times(state, &self.forms_of(state, left), &self.forms_of(state, right)),
            BinaryOp::Divide => {
                let (whole, divisor) = (self.forms_of(state, left), self.forms_of(state, right));
                match known(state, &divisor) {
                    Some(by) if by != 0.0 => whole.scaled(1.0 / by),
                    _ => quotient(state, &whole, &divisor),
                }
            }
            BinaryOp::Remainder => {
                // A divisor above zero: the rest lies from zero up to it, and is no more than a dividend not below zero and no
                // less than one that it is more than.
                let (dividend, divisor) = (self.forms_of(state, left), self.forms_of(state, right));
                if let (Some(a), Some(b)) = (known(state, &dividend), known(state, &divisor))
                    && b != 0.0
                {
                    return Forms::Exactly(Linear::constant(remainder(a, b)));
                }
                let ends = |slot| state.ends(slot);
                let positive = divisor.lowers().iter().any(|form| state.facts.highest(&form.times(-1.0), &ends) < 0.0);
                if !positive {
                    return Forms::Unknown;
                }
                let whole = self.unit.ty(left) == Type::Int && self.unit.ty(right) == Type::Int;
                let least = span(state, &dividend).0;
                let fits_in = is_below(state, &dividend, &divisor);
                if least >= 0.0 && fits_in {
                    return dividend; // It goes into it not once.
                }
                let inside = Linear::constant(if whole { -1.0 } else { 0.0 });
                let below = divisor.uppers().iter().map(|form| form.plus(&inside, 1.0));
                let own = dividend.uppers().iter().filter(|_| least >= 0.0).copied();
                let above = dividend.lowers().iter().filter(|_| fits_in).copied();
                let above = std::iter::once(Linear::constant(0.0)).chain(above).take(MOST_FORMS).collect();
                Forms::between(below.chain(own).take(MOST_FORMS).collect(), above)
            }
            _ => Forms::Unknown,
        }
    }

    /// The forms of a product.
    pub(super) fn times(&self, state: &State, a: &Forms, b: &Forms) -> Forms {
        by_number(state, a, b).unwrap_or_else(|| self.product_forms(state, a, b))
    }

    /// The one value of an expression that can have no other.
    pub(super) fn known(&self, state: &State, expr: ExprId) -> Option<f64> {
        known(state, &self.forms_of(state, expr))
    }

    fn call_forms(&self, state: &State, expr: ExprId, arguments: &[ExprId]) -> Forms {
        let builtin = match self.unit.meaning(expr) {
            Meaning::Builtin(builtin) => builtin,
            Meaning::Procedure(_) => {
                let slot = self.table.slot(Key::Result(expr));
                return slot.map_or(Forms::Unknown, |slot| Forms::Exactly(Linear::slot(slot)));
            }
            _ => return Forms::Unknown,
        };
        let of = |at: usize| self.forms_of(state, arguments[at]);
        match (builtin, arguments.len()) {
            (Builtin::Min, 2..) => (1..arguments.len()).fold(of(0), |least, at| self.least(state, &least, &of(at))),
            (Builtin::Max, 2..) => (1..arguments.len()).fold(of(0), |most, at| self.most(state, &most, &of(at))),
            (Builtin::Clamp, 3) => self.least(state, &self.most(state, &of(0), &of(1)), &of(2)),
            (Builtin::Random, 2) => {
                let (a, b) = (of(0), of(1));
                Forms::between(self.most(state, &a, &b).uppers().into(), self.least(state, &a, &b).lowers().into())
            }
            (Builtin::TickLength, _) => Forms::Exactly(Linear::constant(self.world.project.config.tick_length())),
            (Builtin::Abs, 1) => {
                let number = of(0);
                self.most(state, &number, &number.scaled(-1.0))
            }
            (Builtin::Count, _) => {
                self.count_slot(expr).map_or(Forms::Unknown, |slot| Forms::Exactly(Linear::slot(slot)))
            }
            (Builtin::Floor | Builtin::Ceil | Builtin::Round, 1) => {
                let cut = self.most_cut(state, arguments[0]);
                match builtin {
                    Builtin::Floor => self.rounded_forms(state, &of(0), (cut, 0.0), f64::floor),
                    Builtin::Ceil => self.rounded_forms(state, &of(0), (0.0, cut), f64::ceil),
                    _ => self.rounded_forms(state, &of(0), (cut.min(0.5), cut.min(0.5)), f64::round),
                }
            }
            _ => Forms::Unknown,
        }
    }

    /// The forms of a number made whole, which takes it down or up so far at most; but never past a form that is whole itself.
    fn rounded_forms(&self, state: &State, number: &Forms, (down, up): (f64, f64), rounded: fn(f64) -> f64) -> Forms {
        let (lo, hi) = span(state, number);
        let moved = |side: &[Linear], by: f64, end: f64| {
            let moved = side.iter().map(|form| match self.is_whole_form(form) {
                true => *form,
                false => form.plus(&Linear::constant(by), 1.0),
            });
            let end = end.is_finite().then(|| Linear::constant(rounded(end)));
            moved.take(MOST_FORMS - 1).chain(end.filter(|_| by != 0.0)).collect()
        };
        Forms::between(moved(number.uppers(), up, hi), moved(number.lowers(), -down, lo))
    }

    /// Whether a form is a whole number whatever its places hold.
    fn is_whole_form(&self, form: &Linear) -> bool {
        let is_int =
            |&(slot, factor): &(Slot, f64)| self.table.slots[slot as usize].ty == Type::Int && is_whole(factor);
        is_whole(form.constant) && form.terms.iter().all(is_int)
    }

    /// How much is cut off at most to make a number whole: of the half of a whole number, a half.
    fn most_cut(&self, state: &State, number: ExprId) -> f64 {
        match self.unit.tree.expr(number).kind {
            _ if self.unit.ty(number) == Type::Int => 0.0,
            ExprKind::Binary(BinaryOp::Divide, whole, parts) if self.unit.ty(whole) == Type::Int => {
                let (least, most) = span(state, &self.forms_of(state, parts));
                if least == most && least >= 1.0 && least.fract() == 0.0 { 1.0 - 1.0 / least } else { 1.0 }
            }
            _ => 1.0,
        }
    }

    /// The smaller of two: below both, and above whatever both are above.
    fn least(&self, state: &State, a: &Forms, b: &Forms) -> Forms {
        Forms::between(either(a.uppers(), b.uppers()), common(state, a.lowers(), b.lowers(), 1.0))
    }

    fn most(&self, state: &State, a: &Forms, b: &Forms) -> Forms {
        Forms::between(common(state, a.uppers(), b.uppers(), -1.0), either(a.lowers(), b.lowers()))
    }
}

/// The forms of a product of which one factor is known.
pub(super) fn by_number(state: &State, a: &Forms, b: &Forms) -> Option<Forms> {
    match (known(state, a), known(state, b)) {
        (_, Some(by)) => Some(a.scaled(by)),
        (Some(by), _) => Some(b.scaled(by)),
        _ => None,
    }
}

/// The one value of a number that can have no other.
fn known(state: &State, forms: &Forms) -> Option<f64> {
    let form = forms.uppers().first()?;
    if forms.uppers().len() != 1 || forms.lowers().first() != Some(form) {
        return None;
    }
    let mut sum = form.constant;
    for &(slot, factor) in form.terms.iter() {
        sum += factor * state.num(slot)?.single()?;
    }
    Some(sum)
}

/// Whether a number is certainly less than another.
fn is_below(state: &State, a: &Forms, b: &Forms) -> bool {
    let ends = |slot| state.ends(slot);
    a.uppers().iter().any(|a| b.lowers().iter().any(|b| state.facts.highest(&a.plus(b, -1.0), &ends) < 0.0))
}

/// The forms of both, in turn: those that say most stand first in each, and none of the two may be left out.
fn either(a: &[Linear], b: &[Linear]) -> Side {
    let turns = (0..a.len().max(b.len())).flat_map(|at| a.get(at).into_iter().chain(b.get(at)));
    turns.copied().take(MOST_FORMS).collect()
}

/// The range of what lies between forms.
pub(super) fn span(state: &State, forms: &Forms) -> (f64, f64) {
    let ends = |slot| state.ends(slot);
    let hi = forms.uppers().iter().map(|form| state.facts.highest(form, &ends)).fold(f64::INFINITY, f64::min);
    let lo =
        forms.lowers().iter().map(|form| -state.facts.highest(&form.times(-1.0), &ends)).fold(-f64::INFINITY, f64::max);
    (lo, hi)
}

/// A number cut to what its forms say of it.
#[must_use]
pub fn narrowed(state: &State, num: Num, forms: &Forms) -> Num {
    let ends = |slot| state.ends(slot);
    let hi = forms.uppers().iter().map(|form| state.facts.highest(form, &ends)).fold(num.hi, f64::min);
    let lo = forms.lowers().iter().map(|form| -state.facts.highest(&form.times(-1.0), &ends)).fold(num.lo, f64::max);
    let (lo, hi) = (num.own_near(lo), num.own_near(hi));
    if lo > hi || (lo, hi) == (num.lo, num.hi) {
        return num;
    }
    num.meet(&Num::range(lo, hi, false)).unwrap_or(num)
}

/// The forms that bound both: lower ones for `sign` 1, upper ones for -1. Beside those of either list they are single
/// places with a constant: `max(parcels - 3, 0)` is at most `parcels`.
pub(super) fn common(state: &State, a: &[Linear], b: &[Linear], sign: f64) -> Side {
    let ends = |slot| state.ends(slot);
    let beyond = |form: &Linear, others: &[Linear]| {
        others.iter().any(|other| state.facts.implies(&form.plus(other, -1.0).times(sign), &ends))
    };
    let mut kept: Side = a.iter().filter(|form| beyond(form, b)).copied().collect();
    kept.extend(b.iter().filter(|form| beyond(form, a)).copied());
    // The least that is above one of the forms of a list, whichever it is.
    let above = |place: &Linear, forms: &[Linear]| {
        let distances = forms.iter().map(|form| form.plus(place, -1.0).times(-sign));
        distances.map(|form| state.facts.plainly_highest(&form, &ends)).fold(f64::INFINITY, f64::min)
    };
    let mut places: SmallVec<[Linear; 4]> = SmallVec::new();
    for form in a.iter().chain(b) {
        for place in state.facts.places_above(&form.times(-sign)) {
            let place = place.times(-sign);
            if !places.contains(&place) {
                places.push(place);
            }
        }
    }
    let beside = |place: &Linear| {
        let distance = above(place, a);
        let distance = if distance.is_finite() { distance.max(above(place, b)) } else { distance };
        distance.is_finite().then(|| place.plus(&Linear::constant(sign * distance), -1.0))
    };
    let number = beside(&Linear::constant(0.0));
    let says_more = |form: &Linear| {
        number.is_none_or(|number| state.facts.plainly_highest(&form.plus(&number, -1.0).times(sign), &ends) > 0.0)
    };
    let beside = places.iter().filter_map(beside).filter(says_more);
    for form in beside.chain(number) {
        if !kept.contains(&form) {
            kept.push(form);
        }
    }
    kept.truncate(MOST_FORMS);
    kept
}
