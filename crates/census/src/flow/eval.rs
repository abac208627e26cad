//! Working out expressions and tests over abstract values.
//!
//! [`Run::branch`] is the centre: it splits a state by a test into what is known where it comes out true and where it
//! comes out false. On the way every read is judged: an unset variable, an empty `ref` or a divisor of zero becomes an
//! [`Event`], and the state goes on as if that fault had not happened, so that one mistake is reported once.

use super::engine::{Event, Key, MOST_FLAGS_BEHIND, Run};
use super::forms::{Forms, narrowed};
use super::linear::{Linear, Slot};
use super::state::State;
use super::terms::is_abs;
use super::value::{Abstract, Num, Value};
use crate::project::builtin::Builtin;
use crate::project::{Base, Meaning, Place, PlaceId};
use crate::registry::{Bound, End, InstanceId, Type, VarId};
use crate::script::ast::*;
use smallvec::{SmallVec, smallvec};

/// What is known where a test comes out true, and where it comes out false.
pub type Split = (Option<State>, Option<State>);

/// The join of two ways, either of which may not be there.
#[must_use]
pub fn join_ways(a: Option<State>, b: Option<State>) -> Option<State> {
    match (a, b) {
        (Some(a), Some(b)) => Some(a.join(&b)),
        (a, b) => a.or(b),
    }
}

/// How a test comes out where it is asked on several ways.
fn join_splits(a: Split, b: Split) -> Split {
    (join_ways(a.0, b.0), join_ways(a.1, b.1))
}

/// A state for each way that a condition can come out.
#[must_use]
pub fn ways(state: State, value: &Value) -> Split {
    let (yes, no) = match *value {
        Value::Bool { yes, no } => (yes, no),
        _ => (true, true),
    };
    (yes.then(|| state.clone()), no.then_some(state))
}

/// Anything of a type.
#[must_use]
pub fn anything(ty: Type) -> Value {
    match ty {
        Type::Bool => Value::Bool { yes: true, no: true },
        Type::Int => Value::Num(Num::all(true)),
        Type::Number => Value::Num(Num::all(false)),
        Type::Text | Type::Enum(_) => Value::Text(None),
        Type::Ref(_) => Value::Ref { none: true, some: true },
        Type::Unknown | Type::Vec2 | Type::Vec3 => Value::Other,
    }
}

impl Run<'_, '_> {
    // ---- reading places ----

    /// Judges the way to a place: the instances that it goes through must be there.
    pub fn pass_through(&mut self, state: &mut State, place: PlaceId, at: ExprId) {
        match self.unit.place(place) {
            Place::Variable(variable, Base::Held(held)) => {
                self.read_place(state, held, at, true);
                self.judge_kind(state, held, variable, at);
                self.expect_held(state, held, at);
            }
            Place::Variable(_, Base::Listed(instance)) => self.expect_listed(state, instance, at),
            Place::Variable(variable, Base::One) => self.judge_scene(state, variable, at),
            _ => {}
        }
    }

    /// Judges to whom a signal is sent: that instance must be there.
    pub(super) fn address(&mut self, state: &mut State, to: ExprId) {
        match self.unit.meaning(to) {
            Meaning::Value(held) => self.expect_held(state, held, to),
            Meaning::Instance(instance) => self.expect_listed(state, instance, to),
            _ => {}
        }
    }

    fn expect_held(&mut self, state: &mut State, held: PlaceId, at: ExprId) {
        if let Some(slot) = self.slot(held)
            && let Value::Ref { none: true, .. } = state.values[slot as usize].value
        {
            self.event(Event::EmptyRef { held, at });
            state.values[slot as usize].value = Value::Ref { none: false, some: true };
            self.assume_dependents(state, slot);
        }
    }

    fn expect_listed(&mut self, state: &mut State, instance: InstanceId, at: ExprId) {
        if let Some(slot) = self.table.slot(Key::Instance(instance)).filter(|_| !self.is_own(instance))
            && let Value::Ref { none: true, .. } = self.presence(state, instance, slot)
        {
            self.event(Event::Absent { instance, at });
            state.values[slot as usize].value = Value::Ref { none: false, some: true };
        }
    }

    /// A name of any actor must be known to hold one that has the variable.
    fn judge_kind(&mut self, state: &State, held: PlaceId, variable: crate::registry::VarId, at: ExprId) {
        let Some(slot) = self.slot(held) else { return };
        if self.table.slots[slot as usize].ty == Type::Ref(None) {
            let registry = &self.world.project.registry;
            let has = |actor| registry.member(actor, &registry.var(variable).name).is_some();
            if !state.kind(slot).is_some_and(has) {
                self.event(Event::OtherKind { at, variable });
            }
        }
    }

    /// A scene's variable exists while its scene is loaded.
    fn judge_scene(&mut self, state: &mut State, variable: crate::registry::VarId, at: ExprId) {
        let registry = &self.world.project.registry;
        let facts = registry.var(variable);
        if facts.scope != crate::registry::Scope::Scene {
            return;
        }
        let scene = facts.owner.0;
        let slot = self.table.scene as usize;
        if let Value::Text(Some(scenes)) = &state.values[slot].value
            && scenes.as_slice() != [scene]
        {
            // Where that scene can't be loaded at all, what follows is still about the one that is.
            let may_be_loaded = scenes.contains(&scene);
            self.event(Event::OtherScene { at, variable });
            if may_be_loaded {
                state.values[slot].value = Value::Text(Some(smallvec![scene]));
            }
        }
    }

    /// Whether a listed instance is there: not removed, and its scene loaded.
    fn presence(&self, state: &State, instance: crate::registry::InstanceId, slot: Slot) -> Value {
        let present = state.value(slot).value.clone();
        let Some(scene) = self.world.project.registry.instance(instance).scene else { return present };
        let loaded = match &state.value(self.table.scene).value {
            Value::Text(Some(scenes)) => scenes.as_slice() == [scene.0],
            _ => false,
        };
        match present {
            Value::Ref { none: true, some: true }
                if loaded && !self.world.removable(self.world.project.registry.instance(instance).of) =>
            {
                Value::Ref { none: false, some: true }
            }
            other => other,
        }
    }

    /// Reads a place; `quiet` leaves out the judgement of the place itself.
    fn read_place(&mut self, state: &mut State, place: PlaceId, at: ExprId, is_ref: bool) -> Abstract {
        self.pass_through(state, place, at);
        let Some(slot) = self.slot(place) else {
            return Abstract::of(anything(self.unit.place_types[place.index()]));
        };
        if !is_ref {
            self.tell_unset(state, slot, (place, None), at);
        }
        let known = state.values[slot as usize].clone();
        let is_anything = || known.value == anything(self.table.slots[slot as usize].ty);
        if matches!(known.value, Value::Num(_)) && !known.set && self.foreign.is_none() && is_anything() {
            // Nobody can tell what it is meant to be, so nothing is told of what follows from it.
            return Abstract { value: Value::Other, ..known };
        }
        known
    }

    /// Tells of a read of what may be unset: a place, or the variable that bounds it.
    fn tell_unset(&mut self, state: &mut State, slot: Slot, (place, bound): (PlaceId, Option<VarId>), at: ExprId) {
        if state.value(slot).is_untold() && !self.quiet {
            self.event(Event::Unset { place, bound, at, cleared: state.value(slot).set });
            state.values[slot as usize].told = true;
            state.doubted.push_new(slot); // What is tested then is whatever the game takes for it.
        }
    }

    // ---- values ----

    /// The value of an expression. Faults on the way become events.
    pub fn eval(&mut self, state: &mut State, expr: ExprId) -> Value {
        let unit = self.unit;
        match &unit.tree.expr(expr).kind {
            ExprKind::Error => Value::Other,
            #[allow(clippy::cast_precision_loss, reason = "the ends of 64 bits are rounded outward")]
            ExprKind::Int(value) => Value::Num(Num::constant(*value as f64, true)),
            ExprKind::Float(value) => Value::Num(Num::constant(*value, false)),
            ExprKind::Bool(value) => Value::Bool { yes: *value, no: !*value },
            ExprKind::None => Value::Ref { none: true, some: false },
            kind @ ExprKind::Text(parts) => {
                self.eval_tokens(state, parts);
                self.world.text_value(kind)
            }
            ExprKind::Path(_) => self.eval_path(state, expr),
            ExprKind::Unary(UnaryOp::Not, _) | ExprKind::Is { .. } => self.eval_test(state, expr),
            ExprKind::Unary(op, operand) => match (op, self.eval(state, *operand)) {
                (UnaryOp::Minus, Value::Num(num)) => Value::Num(num.neg()),
                (_, value) => value,
            },
            ExprKind::Binary(op, left, right) => match op {
                BinaryOp::Add | BinaryOp::Subtract | BinaryOp::Multiply | BinaryOp::Divide | BinaryOp::Remainder => {
                    let a = self.eval(state, *left);
                    let b = self.eval(state, *right);
                    let value = self.arithmetic(state, *op, a, b, expr, *right);
                    self.remember_term(state, expr, value)
                }
                _ => self.eval_test(state, expr),
            },
            ExprKind::Call(_, arguments) => self.eval_call(state, expr, arguments),
        }
    }

    fn eval_test(&mut self, state: &mut State, expr: ExprId) -> Value {
        let (yes, no) = self.branch(state.clone(), expr);
        let value = Value::Bool { yes: yes.is_some(), no: no.is_some() };
        match join_ways(yes, no) {
            Some(joined) => *state = joined,
            None => self.die(),
        }
        value
    }

    fn eval_tokens(&mut self, state: &mut State, parts: &[TextPart]) {
        for part in parts {
            if let TextPart::Token { value, .. } = part {
                self.eval(state, *value);
            }
        }
    }

    fn eval_path(&mut self, state: &mut State, expr: ExprId) -> Value {
        match self.unit.meaning(expr) {
            Meaning::Value(place) => self.read_place(state, place, expr, false).value,
            Meaning::Axis(place, _) => {
                self.read_place(state, place, expr, false);
                self.remember_term(state, expr, Value::Num(Num::all(false)))
            }
            Meaning::Bound(place, end) => {
                self.pass_through(state, place, expr);
                self.bound_value(state, place, end, expr)
            }
            Meaning::Own => Value::Ref { none: false, some: true },
            Meaning::Instance(instance) => match self.table.slot(Key::Instance(instance)) {
                Some(slot) => self.presence(state, instance, slot),
                None => Value::Ref { none: true, some: true },
            },
            _ => anything(self.unit.ty(expr)),
        }
    }

    fn bound_value(&mut self, state: &mut State, place: PlaceId, end: End, at: ExprId) -> Value {
        let Place::Variable(variable, base) = self.unit.place(place) else { return Value::Other };
        match self.world.project.registry.var(variable).bound(end) {
            Some(Bound::Number(value)) => {
                Value::Num(Num::constant(*value, self.unit.place_types[place.index()] == Type::Int))
            }
            Some(Bound::Variable(other)) => match self.bound_slot(*other, base) {
                Some(slot) => {
                    self.tell_unset(state, slot, (place, Some(*other)), at);
                    state.value(slot).value.clone()
                }
                None => Value::Num(Num::all(false)),
            },
            None => Value::Other,
        }
    }

    pub(super) fn bound_slot(&self, bound: crate::registry::VarId, base: Base) -> Option<Slot> {
        let base = if self.world.project.registry.var(bound).scope == crate::registry::Scope::Instance {
            self.mapped(base)
        } else {
            Base::One
        };
        self.table.of_variable(bound, base)
    }

    fn arithmetic(
        &mut self,
        state: &mut State,
        op: BinaryOp,
        a: Value,
        b: Value,
        expr: ExprId,
        divisor: ExprId,
    ) -> Value {
        let (Value::Num(a), Value::Num(b)) = (a, b) else { return Value::Other };
        Value::Num(match op {
            BinaryOp::Add => a.add(&b),
            BinaryOp::Subtract => self.tightened(state, a.sub(&b), expr),
            BinaryOp::Multiply if a.lo < 0.0 && a == b && self.is_square(state, expr) => a.abs().mul(&b.abs()),
            BinaryOp::Multiply => a.mul(&b),
            _ => {
                let b = self.judge_divisor(state, b, divisor, expr);
                if op == BinaryOp::Divide { a.div(&b) } else { a.rem(&b) }
            }
        })
    }

    /// Whether a number is multiplied by itself.
    fn is_square(&self, state: &State, product: ExprId) -> bool {
        let ExprKind::Binary(_, left, right) = self.unit.tree.expr(product).kind else { return false };
        matches!((self.forms(state, left), self.forms(state, right)), (Forms::Exactly(a), Forms::Exactly(b)) if a == b)
    }

    /// A difference may be known better from the facts than from the two ranges.
    fn tightened(&mut self, state: &State, num: Num, expr: ExprId) -> Num {
        if state.facts.is_empty() {
            return num;
        }
        narrowed(state, num, &self.forms(state, expr))
    }

    /// A divisor that may be zero is an event; what follows takes it not to be.
    pub fn judge_divisor(&mut self, state: &mut State, divisor: Num, at: ExprId, division: ExprId) -> Num {
        if !divisor.contains(0.0) {
            return divisor;
        }
        // A relation may keep it from zero where its range does not.
        let forms = self.forms(state, at);
        let ends = |slot| state.ends(slot);
        let above = forms.lowers().iter().any(|form| state.facts.highest(&form.times(-1.0), &ends) < 0.0);
        let below = forms.uppers().iter().any(|form| state.facts.highest(form, &ends) < 0.0);
        let other = matches!(&forms, Forms::Exactly(form) if state.is_unequal(form));
        if above || below || other {
            return divisor.without(0.0).unwrap_or(divisor);
        }
        self.event(Event::Zero { divisor: at, at: division, range: (divisor.lo, divisor.hi) });
        let rest = divisor.without(0.0).unwrap_or_else(|| divisor.clone());
        if divisor.lo != divisor.hi {
            self.take_divisor(state, at, &rest, &forms);
        }
        rest
    }

    /// Goes on as if a divisor were not zero.
    fn take_divisor(&self, state: &mut State, at: ExprId, rest: &Num, forms: &Forms) {
        if let Some(slot) = self.slot_of(at) {
            state.values[slot as usize].value = Value::Num(rest.clone());
            state.doubted.push_new(slot);
        } else if let Forms::Exactly(form) = forms {
            state.add_unequal(*form);
            form.terms.iter().for_each(|&(slot, _)| state.doubted.push_new(slot));
            let above = Linear::constant(if rest.int { 1.0 } else { 0.0 }).plus(form, -1.0);
            if rest.lo >= 0.0 && above.is_known() && !state.facts.implies(&above.times(-1.0), &|slot| state.ends(slot))
            {
                let _ = state.assume(above);
            }
        }
    }

    /// How long a text is: known of one that is written out.
    fn length(&self, arguments: &[ExprId]) -> Num {
        let text = arguments.first().map(|&text| &self.unit.tree.expr(text).kind);
        match text {
            #[allow(clippy::cast_precision_loss, reason = "no text in a file is that long")]
            Some(ExprKind::Text(parts)) => {
                let least: usize = parts
                    .iter()
                    .map(|part| match part {
                        TextPart::Plain(text) => text.chars().count(),
                        TextPart::Token { .. } => 0,
                    })
                    .sum();
                let most = if parts.iter().all(|part| matches!(part, TextPart::Plain(_))) {
                    least as f64
                } else {
                    f64::INFINITY
                };
                Num::range(least as f64, most, true)
            }
            _ => Num::range(0.0, f64::INFINITY, true),
        }
    }

    fn eval_call(&mut self, state: &mut State, expr: ExprId, arguments: &[ExprId]) -> Value {
        let builtin = match self.unit.meaning(expr) {
            Meaning::Procedure(id) => {
                let known = self.table.slot(Key::Result(expr)).filter(|_| self.worked_out == Some(expr));
                let value = match known {
                    Some(slot) => state.value(slot).value.clone(),
                    None => self.call(state, expr, id, arguments),
                };
                return if matches!(value, Value::Num(_)) { self.remember_term(state, expr, value) } else { value };
            }
            Meaning::Builtin(builtin) => builtin,
            _ => {
                for &argument in arguments {
                    self.eval(state, argument);
                }
                return anything(self.unit.ty(expr));
            }
        };
        if builtin == Builtin::Count {
            let known = self.count_slot(expr).map(|slot| state.value(slot).value.clone());
            return known.unwrap_or_else(|| Value::Num(Num::range(0.0, f64::INFINITY, true)));
        }
        let values: SmallVec<[Value; 4]> = arguments.iter().map(|&argument| self.eval(state, argument)).collect();
        let ty = self.unit.ty(expr);
        if ty.is_numeric() && builtin != Builtin::Length && values.contains(&Value::Other) {
            return Value::Other;
        }
        let nums: SmallVec<[Num; 4]> = values
            .iter()
            .filter_map(|value| if let Value::Num(num) = value { Some(num.clone()) } else { None })
            .collect();
        let value = match (builtin, &nums[..]) {
            (Builtin::Random, [low, high]) => Num::range(low.lo.min(high.lo), low.hi.max(high.hi), low.int && high.int),
            (Builtin::Length, _) => self.length(arguments),
            (Builtin::Chance, [p]) => return Value::Bool { yes: p.hi > 0.0, no: p.lo < 1.0 },
            (Builtin::Number, _) => Num::all(false),
            _ => match self.world.worked_out(builtin, &nums) {
                Some(value) => value,
                None => return anything(ty),
            },
        };
        self.remember_term(state, expr, Value::Num(value))
    }

    // ---- tests ----

    /// Splits a state by a test. A procedure that never comes back ends the way that called it, and no other: not the one
    /// on which the left side of an `or` has decided already.
    pub fn branch(&mut self, state: State, expr: ExprId) -> Split {
        let split = self.split(state, expr);
        if self.take_dead() { (None, None) } else { split }
    }

    fn split(&mut self, mut state: State, expr: ExprId) -> Split {
        let unit = self.unit;
        match &unit.tree.expr(expr).kind {
            ExprKind::Bool(true) => (Some(state), None),
            ExprKind::Bool(false) => (None, Some(state)),
            ExprKind::Unary(UnaryOp::Not, inner) => {
                let (yes, no) = self.branch(state, *inner);
                (no, yes)
            }
            ExprKind::Binary(BinaryOp::And, left, right) => {
                let (yes, no) = self.branch(state, *left);
                let (both, second) = yes.map_or((None, None), |yes| self.branch(yes, *right));
                (both, join_ways(no, second))
            }
            ExprKind::Binary(op @ (BinaryOp::Or | BinaryOp::Implies), left, right) => {
                let (mut yes, mut no) = self.branch(state, *left);
                if *op == BinaryOp::Implies {
                    std::mem::swap(&mut yes, &mut no);
                }
                let (second, neither) = no.map_or((None, None), |no| self.branch(no, *right));
                (join_ways(yes, second), neither)
            }
            ExprKind::Binary(op, left, right) if op.is_comparison() => {
                let Some((asked, wanted)) = unit.tree.asked_for(*op, *left, *right) else {
                    return self.compare(state, *op, *left, *right, expr);
                };
                let doubted = self.is_doubted(&state, asked);
                let (yes, no) = self.branch(state, asked);
                let (yes, no) = if wanted { (yes, no) } else { (no, yes) };
                self.outcome(expr, yes.is_some() || doubted, no.is_some() || doubted);
                (yes, no)
            }
            ExprKind::Is { subject, negated, test } => {
                let (yes, no) = self.is_test(state, *subject, *test, expr);
                let (yes, no) = if *negated { (no, yes) } else { (yes, no) };
                self.outcome(expr, yes.is_some(), no.is_some());
                (yes, no)
            }
            ExprKind::Path(_) => {
                let value = self.eval(&mut state, expr);
                self.branch_path(state, expr, &value)
            }
            ExprKind::Call(_, arguments) => match unit.meaning(expr) {
                Meaning::Procedure(id) => self.branch_call(state, expr, id, arguments),
                _ => self.branch_value(state, expr),
            },
            _ => self.branch_value(state, expr),
        }
    }

    /// Splits a state by a value that tells nothing of anything else.
    fn branch_value(&mut self, mut state: State, expr: ExprId) -> Split {
        let value = self.eval(&mut state, expr);
        ways(state, &value)
    }

    fn branch_path(&mut self, state: State, expr: ExprId, value: &Value) -> Split {
        let Value::Bool { yes, no } = *value else { return (Some(state.clone()), Some(state)) };
        let doubted = self.is_doubted(&state, expr);
        self.outcome(expr, yes || doubted, no || doubted);
        let Meaning::Value(place) = self.unit.meaning(expr) else {
            return (yes.then(|| state.clone()), no.then_some(state));
        };
        let Some(slot) = self.slot(place) else { return (yes.then(|| state.clone()), no.then_some(state)) };
        self.way_of_flag(state, slot, (yes, no))
    }

    /// What is known where a flag is up, and where it is down, as far as each is possible.
    pub(super) fn way_of_flag(&mut self, state: State, slot: Slot, (yes, no): (bool, bool)) -> Split {
        let way = |possible: bool, outcome: bool| {
            possible.then(|| {
                let mut state = state.clone();
                state.values[slot as usize].value = Value::Bool { yes: outcome, no: !outcome };
                state
            })
        };
        let (mut yes, mut no) = (way(yes, true), way(no, false));
        // What the local was given may still say more than its own truth.
        let test = state.test_behind(slot);
        let outer = self.flags_behind;
        let looked = outer.unwrap_or(0);
        if let Some(test) = test.filter(|_| looked < MOST_FLAGS_BEHIND) {
            self.flags_behind = Some(looked + 1);
            self.in_script(|this| {
                yes = yes.take().and_then(|state| this.branch(state, test).0);
                no = no.take().and_then(|state| this.branch(state, test).1);
            });
            self.flags_behind = outer.and(self.flags_behind);
        }
        (yes, no)
    }

    /// Does something quietly with the script's own names, also while an invariant is judged.
    fn in_script(&mut self, work: impl FnOnce(&mut Self)) {
        let quiet = std::mem::replace(&mut self.quiet, true);
        let unit = std::mem::replace(&mut self.unit, self.world.project.script(self.script));
        let foreign = self.foreign.take();
        work(self);
        (self.quiet, self.unit, self.foreign) = (quiet, unit, foreign);
    }

    fn compare(&mut self, state: State, op: BinaryOp, left: ExprId, right: ExprId, expr: ExprId) -> Split {
        if !self.table.has_sorting {
            return self.compare_once(state, op, left, right, expr);
        }
        let (ways, call) = self.apart_by_operands(state, &[left, right]);
        let outer = std::mem::replace(&mut self.worked_out, call);
        let splits = ways.into_iter().map(|state| self.compare_once(state, op, left, right, expr));
        let split = splits.fold((None, None), join_splits);
        self.worked_out = outer;
        split
    }

    fn compare_once(&mut self, mut state: State, op: BinaryOp, left: ExprId, right: ExprId, expr: ExprId) -> Split {
        let a = self.eval(&mut state, left);
        let b = self.eval(&mut state, right);
        if self.calls_procedure(right) && !self.reads(left).is_empty() {
            // The left side was read before the procedure ran, which may have changed it.
            self.outcome(expr, true, true);
            return (Some(state.clone()), Some(state));
        }
        let doubted = self.is_doubted(&state, left) || self.is_doubted(&state, right);
        let (yes, no) = match (&a, &b) {
            (Value::Num(a), Value::Num(b)) => {
                let (yes, no) = self.compare_numbers(state, op, (left, a), (right, b));
                (self.tell_terms(yes, [left, right]), self.tell_terms(no, [left, right]))
            }
            _ => self.compare_others(state, op, (left, &a), (right, &b)),
        };
        self.outcome_of(expr, yes.is_some() || doubted, no.is_some() || doubted, [(left, &a), (right, &b)]);
        (yes, no)
    }

    /// Splits a state by whether two expressions are equal, as the arms of a `match` ask.
    pub fn equals(&mut self, mut state: State, left: ExprId, right: ExprId) -> Split {
        let a = self.eval(&mut state, left);
        let b = self.eval(&mut state, right);
        let doubted = self.is_doubted(&state, left);
        let split = match (&a, &b) {
            (Value::Num(a), Value::Num(b)) => self.compare_numbers(state, BinaryOp::Equal, (left, a), (right, b)),
            _ => self.compare_others(state, BinaryOp::Equal, (left, &a), (right, &b)),
        };
        self.outcome(right, split.0.is_some() || doubted, split.1.is_some() || doubted);
        split
    }

    /// Splits a state by whether a value that was worked out before equals a constant.
    pub fn may_equal(&mut self, mut state: State, given: &Value, constant: ExprId) -> Split {
        let constant_value = self.eval(&mut state, constant);
        let equal = given.meet(&constant_value).is_some();
        let different = match (given, &constant_value) {
            (Value::Num(a), Value::Num(b)) => a.single().is_none() || a.single() != b.single(),
            _ => true,
        };
        self.outcome(constant, equal, different);
        (equal.then(|| state.clone()), different.then_some(state))
    }

    /// Whether an expression reads what others may have seen out of its range: a test of it is not decided.
    pub(super) fn is_doubted(&self, state: &State, expr: ExprId) -> bool {
        !state.doubted.is_empty() && self.reads(expr).iter().any(|slot| state.doubted.contains(slot))
    }

    fn compare_numbers(&mut self, state: State, op: BinaryOp, left: (ExprId, &Num), right: (ExprId, &Num)) -> Split {
        let whole = left.1.int && right.1.int;
        let less = |this: &mut Self, state: &State, a: (ExprId, &Num), b: (ExprId, &Num), strict: bool| {
            this.assume_less(state.clone(), a, b, strict, whole)
        };
        match op {
            BinaryOp::Less => (less(self, &state, left, right, true), less(self, &state, right, left, false)),
            BinaryOp::LessEqual => (less(self, &state, left, right, false), less(self, &state, right, left, true)),
            BinaryOp::Greater => (less(self, &state, right, left, true), less(self, &state, left, right, false)),
            BinaryOp::GreaterEqual => (less(self, &state, right, left, false), less(self, &state, left, right, true)),
            _ => {
                let equal =
                    left.1.meet(right.1).filter(|_| !self.are_unequal(&state, left.0, right.0)).and_then(|both| {
                        let state = less(self, &state, left, right, false)?;
                        let mut state = less(self, &state, right, left, false)?;
                        for (expr, _) in [left, right] {
                            self.refine(&mut state, expr, &Value::Num(both.clone()))?;
                        }
                        Some(state)
                    });
                let different = self.assume_different(state, left, right, whole);
                if op == BinaryOp::Equal { (equal, different) } else { (different, equal) }
            }
        }
    }

    /// Narrows what an expression names to what it shares with a value; none if they share nothing.
    fn refine(&self, state: &mut State, expr: ExprId, value: &Value) -> Option<()> {
        if let Some(slot) = self.slot_of(expr).or_else(|| self.term(state, expr)) {
            let slot = &mut state.values[slot as usize].value;
            *slot = slot.meet(value)?;
        }
        if matches!(value, Value::Num(num) if !num.contains(0.0)) {
            self.refine_nonzero(state, expr)?;
        }
        if let (ExprKind::Binary(BinaryOp::Remainder, left, right), Value::Num(rest)) =
            (&self.unit.tree.expr(expr).kind, value)
        {
            let (left, right) = (*left, *right);
            return self.refine_divided(state, left, right, rest);
        }
        Some(())
    }

    /// Where a product or a distance from zero is not zero, nor is what it is made of.
    fn refine_nonzero(&self, state: &mut State, expr: ExprId) -> Option<()> {
        let parts: SmallVec<[ExprId; 2]> = match &self.unit.tree.expr(expr).kind {
            ExprKind::Binary(BinaryOp::Multiply, left, right) => smallvec![*left, *right],
            ExprKind::Call(_, arguments) if is_abs(self.unit, expr) => arguments.iter().copied().collect(),
            _ => return Some(()),
        };
        let other_than_zero = |expr| Num::all(self.unit.ty(expr) == Type::Int).without(0.0);
        parts.into_iter().try_for_each(|part| match other_than_zero(part) {
            Some(any) => self.refine(state, part, &Value::Num(any)),
            None => Some(()),
        })
    }

    /// What leaves one certain rest goes in strides.
    fn refine_divided(&self, state: &mut State, left: ExprId, right: ExprId, rest: &Num) -> Option<()> {
        let by = match self.known(state, right) {
            Some(by) if by >= 1.0 && self.unit.ty(left) == Type::Int && self.unit.ty(right) == Type::Int => by,
            _ => return Some(()),
        };
        let rest = rest.meet(&Num::range(0.0, by - 1.0, true))?;
        rest.single().map_or(Some(()), |rest| self.refine(state, left, &Value::Num(Num::leaving(rest, by))))
    }

    /// The slot of how many instances a `count(ACTOR)` counts.
    pub(super) fn count_slot(&self, call: ExprId) -> Option<Slot> {
        self.table.slot(Key::Count(super::access::counted_actor(self.unit, call)?))
    }

    pub(super) fn slot_of(&self, expr: ExprId) -> Option<Slot> {
        match self.unit.meaning(expr) {
            Meaning::Builtin(Builtin::Count) => self.count_slot(expr),
            Meaning::Value(place) => self.slot(place),
            Meaning::Bound(place, end) => {
                let Place::Variable(variable, base) = self.unit.place(place) else { return None };
                match self.world.project.registry.var(variable).bound(end)? {
                    Bound::Variable(other) => self.bound_slot(*other, base),
                    Bound::Number(_) => None,
                }
            }
            _ => None,
        }
    }

    fn assume_different(
        &mut self,
        state: State,
        left: (ExprId, &Num),
        right: (ExprId, &Num),
        whole: bool,
    ) -> Option<State> {
        if let (Some(a), Some(b)) = (left.1.single(), right.1.single())
            && a == b
        {
            return None;
        }
        let forms = (self.forms(&state, left.0), self.forms(&state, right.0));
        let never_less = self.never(&state, &forms.0, &forms.1);
        let never_more = self.never(&state, &forms.1, &forms.0);
        match (never_less, never_more) {
            (true, true) => return None,
            (true, false) => return self.assume_less(state, right, left, true, whole),
            (false, true) => return self.assume_less(state, left, right, true, whole),
            (false, false) => {}
        }
        let mut state = state;
        if let (Forms::Exactly(a), Forms::Exactly(b)) = &forms {
            state.add_unequal(a.plus(b, -1.0));
        }
        for ((expr, own), other) in [(left, right.1), (right, left.1)] {
            if let Some(value) = other.single() {
                self.refine(&mut state, expr, &Value::Num(own.without(value)?))?;
            }
        }
        Some(state)
    }

    /// Whether two numbers are known to differ.
    fn are_unequal(&self, state: &State, left: ExprId, right: ExprId) -> bool {
        if state.unequal.is_empty() {
            return false;
        }
        let forms = (self.forms(state, left), self.forms(state, right));
        matches!(forms, (Forms::Exactly(a), Forms::Exactly(b)) if state.is_unequal(&a.plus(&b, -1.0)))
    }

    /// Whether `a < b` is known to be false: `b - a ≤ 0` follows.
    fn never(&self, state: &State, a: &Forms, b: &Forms) -> bool {
        let ends = |slot| state.ends(slot);
        b.uppers().iter().any(|b| a.lowers().iter().any(|a| state.facts.implies(&b.plus(a, -1.0), &ends)))
    }

    /// A form that is at most zero, in the form that says most of whole numbers.
    pub(super) fn plainest(&self, form: Linear) -> Linear {
        let is_int = |&(slot, _): &(Slot, f64)| self.table.slots[slot as usize].ty == Type::Int;
        if form.terms.iter().all(is_int) { form.of_whole_numbers() } else { form }
    }

    /// What is known where `a < b` (`strict`) or `a ≤ b`.
    fn assume_less(
        &mut self,
        mut state: State,
        (left, a): (ExprId, &Num),
        (right, b): (ExprId, &Num),
        strict: bool,
        whole: bool,
    ) -> Option<State> {
        if a.lo > b.hi || (strict && a.lo >= b.hi) {
            return None;
        }
        self.multiply_out(&mut state, left, right, strict)?;
        let gap = if !strict {
            0.0
        } else if whole {
            1.0
        } else {
            f64::from_bits(1)
        };
        let (left_forms, right_forms) = (self.forms(&state, left), self.forms(&state, right));
        for low in left_forms.lowers() {
            for high in right_forms.uppers() {
                let mut form = low.plus(high, -1.0);
                form.constant += gap;
                if form.terms.is_empty() {
                    if form.constant > 0.0 {
                        return None;
                    }
                    continue;
                }
                state.assume(self.plainest(form))?;
            }
        }
        let ceiling = if strict && !whole {
            b.hi.next_down()
        } else if strict {
            b.hi - 1.0
        } else {
            b.hi
        };
        let floor = if strict && !whole {
            a.lo.next_up()
        } else if strict {
            a.lo + 1.0
        } else {
            a.lo
        };
        self.refine(&mut state, left, &Value::Num(Num::range(f64::NEG_INFINITY, ceiling, a.int)))?;
        self.refine(&mut state, right, &Value::Num(Num::range(floor, f64::INFINITY, b.int)))?;
        Some(state)
    }

    fn compare_others(&mut self, state: State, op: BinaryOp, left: (ExprId, &Value), right: (ExprId, &Value)) -> Split {
        if !matches!(op, BinaryOp::Equal | BinaryOp::NotEqual) {
            return (Some(state.clone()), Some(state));
        }
        if let Some(holder) = self.asked_for_self(left.0, right.0) {
            let (own, other) = self.split_self(state, holder);
            return if op == BinaryOp::Equal { (own, other) } else { (other, own) };
        }
        if let Some((test, outcome)) = self.asked_for_outcome(left.0, right.0) {
            let quiet = std::mem::replace(&mut self.quiet, true);
            let (yes, no) = self.branch(state, test);
            self.quiet = quiet;
            return if outcome == (op == BinaryOp::Equal) { (yes, no) } else { (no, yes) };
        }
        let mut equal = None;
        if let Some(both) = left.1.meet(right.1) {
            let mut same = state.clone();
            let fits = [left.0, right.0].into_iter().try_for_each(|expr| self.refine(&mut same, expr, &both));
            equal = fits.map(|()| {
                let named = [left.0, right.0].into_iter().filter_map(|expr| self.slot_of(expr));
                named.for_each(|slot| self.tell_copies(&mut same, slot));
                same
            });
        }
        let mut different = Some(state);
        if let (Some(state), Some(a), Some(b)) = (&mut different, self.name_of(left.0), self.name_of(right.0)) {
            state.apart.push_new((a.min(b), a.max(b)));
        }
        for ((expr, own), other) in [(left, right.1), (right, left.1)] {
            different = different.and_then(|mut state| {
                let rest = without(own, other)?;
                if let Some(slot) = self.slot_of(expr) {
                    state.values[slot as usize].value = rest;
                    self.tell_copies(&mut state, slot);
                }
                Some(state)
            });
        }
        for (expr, other) in [(left.0, right.0), (right.0, left.0)] {
            if let Some((slot, is_stand_in)) = self.asked_for_stand_in(expr, other) {
                let sure = if is_stand_in { &mut different } else { &mut equal };
                sure.iter_mut().for_each(|state| state.values[slot as usize].stand_in = false);
            }
        }
        if op == BinaryOp::Equal { (equal, different) } else { (different, equal) }
    }

    /// The slot of a variable that has a stand-in, where it is compared with a text, and whether the text is the stand-in.
    fn asked_for_stand_in(&self, expr: ExprId, other: ExprId) -> Option<(Slot, bool)> {
        let ExprKind::Text(parts) = &self.unit.tree.expr(other).kind else { return None };
        let literal = match &parts[..] {
            [] => "",
            [TextPart::Plain(text)] => text,
            _ => return None,
        };
        let slot = self.slot_of(expr)?;
        let variable = self.world.project.registry.var(self.table.slots[slot as usize].variable?);
        match &variable.default {
            Some(crate::registry::Value::Text(text)) if variable.placeholder => Some((slot, **text == *literal)),
            _ => None,
        }
    }

    /// The slot of a name that holds an instance, or of an instance that is named outright.
    fn name_of(&self, expr: ExprId) -> Option<Slot> {
        match (self.unit.meaning(expr), self.unit.ty(expr)) {
            (Meaning::Instance(instance), _) => self.table.slot(Key::Instance(instance)),
            (Meaning::Value(place), Type::Ref(_)) => self.slot(place),
            _ => None,
        }
    }

    /// The name that is compared with `self`, if that is what is compared.
    fn asked_for_self(&self, left: ExprId, right: ExprId) -> Option<Slot> {
        match (self.unit.meaning(left), self.unit.meaning(right)) {
            (Meaning::Value(place), Meaning::Own) | (Meaning::Own, Meaning::Value(place)) => self.slot(place),
            _ => None,
        }
    }

    /// The test whose outcome is compared with `true` or `false`, if that is what is compared.
    fn asked_for_outcome(&self, left: ExprId, right: ExprId) -> Option<(ExprId, bool)> {
        let written = |expr| match self.unit.tree.expr(expr).kind {
            ExprKind::Bool(value) => Some(value),
            _ => None,
        };
        let asked = written(right).map(|outcome| (left, outcome));
        let asked = asked.or_else(|| written(left).map(|outcome| (right, outcome)));
        asked.filter(|&(test, _)| self.unit.ty(test) == Type::Bool && !self.calls_procedure(test))
    }

    /// Splits a state by whether a name holds the script's own instance.
    fn split_self(&self, state: State, holder: Slot) -> Split {
        match state.holds_self(holder) {
            Some(true) => return (Some(state), None),
            Some(false) => return (None, Some(state)),
            None => {}
        }
        let mut other = state.clone();
        other.selves.push((holder, false));
        let own = match state.value(holder).value {
            Value::Ref { some: false, .. } => None,
            _ => self.as_self(state, holder).map(|mut state| {
                state.values[holder as usize].value = Value::Ref { none: false, some: true };
                self.assume_dependents(&mut state, holder);
                state
            }),
        };
        (own, Some(other))
    }

    fn is_test(&mut self, mut state: State, subject: ExprId, test: IsTest, expr: ExprId) -> Split {
        let meaning = self.unit.meaning(subject);
        if meaning == Meaning::Scene {
            return self.scene_test(state, expr);
        }
        if let Meaning::Value(place) = meaning {
            self.pass_through(&mut state, place, subject);
        }
        let slot = match meaning {
            Meaning::Value(place) => self.slot(place),
            Meaning::Instance(instance) => self.table.slot(Key::Instance(instance)),
            _ => None,
        };
        let Some(slot) = slot else { return (Some(state.clone()), Some(state)) };
        let at = slot as usize;
        let (yes, no) = match (&state.values[at].value, test) {
            (Value::Ref { none, some }, IsTest::None) => (*none, *some),
            (Value::Ref { none, some }, IsTest::Set) => (*some, *none),
            (Value::Ref { some, .. }, IsTest::Named(_)) => (*some, true),
            (_, IsTest::Set) => (state.values[at].set, state.values[at].unset),
            _ => (true, true),
        };
        let way = |possible: bool, outcome: bool| {
            possible.then(|| {
                let mut state = state.clone();
                if let (Meaning::Owner(actor), true) = (self.unit.meaning(expr), outcome) {
                    state.kinds.push_new((slot, actor));
                }
                let value = &mut state.values[at];
                match (&mut value.value, test) {
                    (Value::Ref { none, some }, IsTest::None) => (*none, *some) = (outcome, !outcome),
                    (Value::Ref { none, some }, IsTest::Set) => (*none, *some) = (!outcome, outcome),
                    (Value::Ref { none, .. }, IsTest::Named(_)) if outcome => *none = false,
                    (_, IsTest::Set) => (value.set, value.unset) = (outcome, !outcome),
                    _ => {}
                }
                self.assume_dependents(&mut state, slot);
                self.tell_copies(&mut state, slot);
                state
            })
        };
        (way(yes, true), way(no, false))
    }

    /// What a test has told of a name holds of its copies too.
    fn tell_copies(&self, state: &mut State, slot: Slot) {
        let kind = state.kind(slot);
        for copy in state.copies_of(slot) {
            let told = state.value(copy).value.meet(&state.value(slot).value);
            if let Some(told) = told {
                state.values[copy as usize].value = told;
            }
            if let Some(actor) = kind {
                state.kinds.push_new((copy, actor));
            }
            self.assume_dependents(state, copy);
        }
    }

    fn scene_test(&mut self, state: State, expr: ExprId) -> Split {
        let Meaning::Owner(scene) = self.unit.meaning(expr) else { return (Some(state.clone()), Some(state)) };
        let slot = self.table.scene as usize;
        let Value::Text(Some(scenes)) = &state.values[slot].value else { return (Some(state.clone()), Some(state)) };
        let others: SmallVec<[u32; 4]> = scenes.iter().copied().filter(|&other| other != scene.0).collect();
        let way = |possible: bool, scenes: SmallVec<[u32; 4]>| {
            possible.then(|| {
                let mut state = state.clone();
                state.values[slot].value = Value::Text(Some(scenes));
                state
            })
        };
        (way(scenes.contains(&scene.0), smallvec![scene.0]), way(!others.is_empty(), others.clone()))
    }
}

/// A value without what is equal to the other for certain; none if nothing is left.
fn without(value: &Value, other: &Value) -> Option<Value> {
    match (value, other) {
        (Value::Bool { yes, no }, Value::Bool { yes: a, no: b }) if a != b => {
            let (yes, no) = (*yes && !*a, *no && !*b);
            (yes || no).then_some(Value::Bool { yes, no })
        }
        (Value::Text(Some(all)), Value::Text(Some(one))) if one.len() == 1 => {
            let kept: SmallVec<[u32; 4]> = all.iter().copied().filter(|symbol| *symbol != one[0]).collect();
            (!kept.is_empty()).then_some(Value::Text(Some(kept)))
        }
        (Value::Ref { some, .. }, Value::Ref { none: true, some: false }) => {
            some.then_some(Value::Ref { none: false, some: true })
        }
        _ => Some(value.clone()),
    }
}
