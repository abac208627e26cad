//! Working out expressions with concrete values.

use super::activation::Activation;
use super::fault::{EMPTY_REF, OTHER_KIND, OTHER_SCENE, UNSET, ZERO};
use super::layout::{InstanceAt, Limit};
use super::machine::{Machine, Observer};
use super::value::{Value, finite, number_text, whole};
use crate::finding::RuleName;
use crate::project::builtin::Builtin;
use crate::project::{Base, CellId, Meaning, Place, PlaceId, ScriptUnit};
use crate::registry::{End, Type};
use crate::script::ast::{BinaryOp, ExprId, ExprKind, IsTest, TextPart, UnaryOp};
use std::cmp::Ordering;
use std::fmt::Write;

/// How deep expressions and the procedures in them may stand inside one another.
const MOST_DEPTH: u32 = 400;

impl<'p, O: Observer> Machine<'_, 'p, O> {
    /// The value of an expression.
    pub(super) fn eval(&mut self, activation: &mut Activation, unit: &'p ScriptUnit, expr: ExprId) -> Value {
        match self.scalar(activation, unit, expr) {
            Some(scalar) => scalar.into(),
            None => self.worked_out(activation, unit, expr),
        }
    }

    /// Whether a condition holds.
    #[inline]
    pub(super) fn is_so(&mut self, activation: &mut Activation, unit: &'p ScriptUnit, condition: ExprId) -> bool {
        match self.scalar(activation, unit, condition) {
            Some(scalar) => scalar.is_true(),
            None => self.worked_out(activation, unit, condition).is_true(),
        }
    }

    /// The value, whatever the expression is about.
    fn worked_out(&mut self, activation: &mut Activation, unit: &'p ScriptUnit, expr: ExprId) -> Value {
        let registry = &self.layout.project.registry;
        match &unit.tree.expr(expr).kind {
            ExprKind::Error => Value::zero(unit.ty(expr), registry),
            ExprKind::Int(value) => Value::Int(*value),
            ExprKind::Float(value) => Value::Number(*value),
            ExprKind::Bool(value) => Value::Bool(*value),
            ExprKind::None => Value::Ref(None),
            ExprKind::Text(_) => Value::Text(self.text(activation, unit, expr).into()),
            ExprKind::Path(_) => self.path(activation, unit, expr),
            ExprKind::Unary(op, operand) => {
                let value = self.eval(activation, unit, *operand);
                match op {
                    UnaryOp::Not => Value::Bool(!value.is_true()),
                    UnaryOp::Minus => value.negative(),
                    UnaryOp::Plus => value,
                }
            }
            ExprKind::Binary(op, left, right) => self.binary(activation, unit, *op, *left, *right),
            ExprKind::Call(_, arguments) => self.call_function(activation, unit, expr, arguments),
            ExprKind::Is { subject, negated, test } => {
                Value::Bool(self.is_test(activation, unit, expr, *subject, *test) != *negated)
            }
        }
    }

    fn binary(
        &mut self,
        activation: &mut Activation,
        unit: &'p ScriptUnit,
        op: BinaryOp,
        left: ExprId,
        right: ExprId,
    ) -> Value {
        let a = self.eval(activation, unit, left);
        match (op, a.is_true()) {
            (BinaryOp::And, false) => return Value::Bool(false),
            (BinaryOp::Or, true) | (BinaryOp::Implies, false) => return Value::Bool(true),
            _ => {}
        }
        let b = self.eval(activation, unit, right);
        if let (Some(a), Some(b)) = (a.scalar(), b.scalar())
            && let Some(result) = a.operate(op, b)
        {
            return result.into();
        }
        match op {
            BinaryOp::And | BinaryOp::Or | BinaryOp::Implies => Value::Bool(b.is_true()),
            BinaryOp::Equal => Value::Bool(a.equals(&b)),
            BinaryOp::NotEqual => Value::Bool(!a.equals(&b)),
            BinaryOp::Less | BinaryOp::LessEqual | BinaryOp::Greater | BinaryOp::GreaterEqual => Value::Bool(false),
            BinaryOp::Add | BinaryOp::Subtract | BinaryOp::Multiply => a.combine(op, &b),
            BinaryOp::Divide => self.divide(unit, &a, &b, right),
            BinaryOp::Remainder => {
                if b.as_number() == Some(0.0) {
                    self.divided_by_zero(unit, right);
                }
                if matches!((&a, &b), (Value::Int(_), Value::Int(_))) { Value::Int(0) } else { Value::Number(0.0) }
            }
        }
    }

    /// A quotient; a divisor of zero is a fault, and gives zero.
    pub(super) fn divide(&mut self, unit: &'p ScriptUnit, a: &Value, b: &Value, divisor: ExprId) -> Value {
        match b.as_number() {
            Some(by) if by != 0.0 => a.divided(by),
            _ => {
                self.divided_by_zero(unit, divisor);
                match a {
                    Value::Vec2(_) => Value::Vec2([0.0; 2]),
                    Value::Vec3(_) => Value::Vec3([0.0; 3]),
                    _ => Value::Number(0.0),
                }
            }
        }
    }

    #[cold]
    fn divided_by_zero(&mut self, unit: &'p ScriptUnit, divisor: ExprId) {
        self.fault_at(ZERO, unit, divisor, |_, text| format!("`{text}` is 0, and something is divided by it"));
    }

    fn is_test(
        &mut self,
        activation: &mut Activation,
        unit: &'p ScriptUnit,
        expr: ExprId,
        subject: ExprId,
        test: IsTest,
    ) -> bool {
        if unit.meaning(subject) == Meaning::Scene {
            return matches!(unit.meaning(expr), Meaning::Owner(scene) if self.scene == Some(scene));
        }
        let value = match unit.meaning(subject) {
            Meaning::Value(place) => match unit.place(place) {
                Place::Local(_) | Place::Was => self.silently(activation, unit, subject),
                _ => {
                    let found = self.locate(activation, unit, place, subject);
                    found.and_then(|(cell, of)| self.memory.get(cell, of))
                }
            },
            _ => Some(self.eval(activation, unit, subject)),
        };
        match test {
            IsTest::Set => !matches!(value, None | Some(Value::Ref(None))),
            IsTest::None => matches!(value, None | Some(Value::Ref(None))),
            IsTest::Named(_) => match (value, unit.meaning(expr)) {
                (Some(Value::Ref(Some(at))), Meaning::Owner(actor)) => {
                    self.memory.instances[at.0 as usize].actor == actor
                }
                _ => false,
            },
        }
    }

    /// The value of a local or of `was`, without a word where there is none.
    fn silently(&mut self, activation: &mut Activation, unit: &'p ScriptUnit, expr: ExprId) -> Option<Value> {
        let place = unit.place_of(expr)?;
        match unit.place(place) {
            Place::Local(local) => activation.local(local).cloned().map(|value| self.present(value)),
            _ => activation.was.clone().map(|value| self.present(value)),
        }
    }

    /// A `ref` to what is gone is *none*.
    pub(super) fn present(&self, value: Value) -> Value {
        match value {
            Value::Ref(Some(at)) => Value::Ref(self.memory.there(at)),
            value => value,
        }
    }

    // ---- names ----

    fn path(&mut self, activation: &mut Activation, unit: &'p ScriptUnit, expr: ExprId) -> Value {
        match unit.meaning(expr) {
            Meaning::Value(place) => self.read(activation, unit, place, expr),
            Meaning::Axis(place, axis) => self.read(activation, unit, place, expr).axis(axis),
            Meaning::Bound(place, end) => self.bound(activation, unit, place, end, expr),
            Meaning::Own => Value::Ref(activation.of),
            Meaning::Instance(listed) => Value::Ref(self.memory.listed(listed)),
            _ => Value::zero(unit.ty(expr), &self.layout.project.registry),
        }
    }

    fn bound(
        &mut self,
        activation: &mut Activation,
        unit: &'p ScriptUnit,
        place: PlaceId,
        end: End,
        expr: ExprId,
    ) -> Value {
        let ty = unit.ty(expr);
        let zero = Value::zero(ty, &self.layout.project.registry);
        let Some((cell, of)) = self.locate(activation, unit, place, expr) else { return zero };
        let facts = &self.layout.cells[cell.index()];
        match if end == End::Min { facts.min } else { facts.max } {
            Some(Limit::Number(value)) => Value::Number(value).fitted(ty),
            Some(Limit::Cell(other)) => self.memory.get(other, of).unwrap_or_else(|| {
                self.fault_at(UNSET, unit, expr, |_, text| format!("`{text}` is read, and has been cleared"));
                zero
            }),
            None => zero,
        }
    }

    /// Reads a place. What is unset, or behind *none*, is a fault and gives zero.
    pub(super) fn read(
        &mut self,
        activation: &mut Activation,
        unit: &'p ScriptUnit,
        place: PlaceId,
        at: ExprId,
    ) -> Value {
        let ty = unit.place_types[place.index()];
        let value = match unit.place(place) {
            Place::Local(local) => activation.local(local).cloned().map(|value| self.present(value)),
            Place::Was => activation.was.clone().map(|value| self.present(value)),
            Place::Private(_) | Place::Variable(..) => match self.locate(activation, unit, place, at) {
                Some((cell, of)) => self.memory.get(cell, of),
                None => return Value::zero(ty, &self.layout.project.registry),
            },
        };
        value.unwrap_or_else(|| {
            let is_local = matches!(unit.place(place), Place::Local(_));
            if !matches!(ty, Type::Ref(_) | Type::Unknown) && !is_local {
                self.fault_at(UNSET, unit, at, |_, text| format!("`{text}` is read, and nothing has given it a value"));
            }
            Value::zero(ty, &self.layout.project.registry)
        })
    }

    /// The cell of a place, and the instance whose it is.
    pub(super) fn locate(
        &mut self,
        activation: &mut Activation,
        unit: &'p ScriptUnit,
        place: PlaceId,
        at: ExprId,
    ) -> Option<(CellId, Option<InstanceAt>)> {
        let project = self.layout.project;
        match unit.place(place) {
            Place::Private(index) => Some((unit.privates[index as usize].cell, activation.of)),
            Place::Variable(variable, base) => {
                let cell = CellId(variable.0);
                let scene = self.layout.cells[cell.index()].scene;
                if let Some(scene) = scene.filter(|_| self.scene != scene) {
                    let scene = project.registry.owner(scene).name.clone();
                    self.fault_at(OTHER_SCENE, unit, at, |_, text| {
                        format!("`{text}` belongs to the scene `{scene}`, which is not loaded")
                    });
                    return None;
                }
                match base {
                    Base::One => Some((cell, None)),
                    Base::Own => Some((cell, activation.of)),
                    Base::Some => None,
                    Base::Listed(listed) => match self.memory.listed_for(activation.of, listed) {
                        Some(of) => Some((cell, Some(of))),
                        None => {
                            self.through_none(unit, at);
                            None
                        }
                    },
                    Base::Held(held) => match self.read(activation, unit, held, at) {
                        Value::Ref(Some(of))
                            if self.memory.instances[of.0 as usize].actor == project.registry.var(variable).owner =>
                        {
                            Some((cell, Some(of)))
                        }
                        Value::Ref(Some(_)) => {
                            self.fault_at(OTHER_KIND, unit, at, |_, text| {
                                format!(
                                    "`{text}` is taken from an instance of another actor, which has no such variable"
                                )
                            });
                            None
                        }
                        _ => {
                            self.through_none(unit, at);
                            None
                        }
                    },
                }
            }
            Place::Local(_) | Place::Was => None,
        }
    }

    /// A way leads through *none*.
    #[cold]
    pub(super) fn through_none(&mut self, unit: &'p ScriptUnit, at: ExprId) {
        self.fault_at(EMPTY_REF, unit, at, |_, text| format!("`{text}` leads through none: nothing is there"));
    }

    #[cold]
    fn fault_at(&mut self, rule: RuleName, unit: &'p ScriptUnit, at: ExprId, word: impl FnOnce(&Self, &str) -> String) {
        let span = unit.tree.expr(at).span;
        if self.silent {
            self.unanswered.get_or_insert((rule, span));
            return;
        }
        let text = self.layout.project.text(unit, span);
        let message = word(self, text);
        self.fault(rule, unit.at(span), message);
    }

    // ---- texts ----

    /// A text literal with its tokens filled in; any other expression as it is printed.
    pub(super) fn text(&mut self, activation: &mut Activation, unit: &'p ScriptUnit, expr: ExprId) -> String {
        let mut printed = String::new();
        match &unit.tree.expr(expr).kind {
            ExprKind::Text(parts) => {
                for part in parts {
                    match part {
                        TextPart::Plain(text) => printed.push_str(text),
                        TextPart::Token { value, decimals, .. } => {
                            let value = self.eval(activation, unit, *value);
                            self.print(&mut printed, &value, *decimals);
                        }
                    }
                }
            }
            _ => {
                let value = self.eval(activation, unit, expr);
                self.print(&mut printed, &value, None);
            }
        }
        printed
    }

    /// A value as the player reads it.
    pub fn print(&self, into: &mut String, value: &Value, decimals: Option<u8>) {
        let joined = |parts: &[f64]| {
            let parts: Vec<String> = parts.iter().map(|&part| number_text(part, decimals)).collect();
            format!("({})", parts.join(", "))
        };
        let _ = match value {
            Value::Bool(value) => write!(into, "{value}"),
            Value::Int(value) => match decimals {
                Some(_) => write!(into, "{}", number_text(value_as_float(*value), decimals)),
                None => write!(into, "{value}"),
            },
            Value::Number(value) => write!(into, "{}", number_text(*value, decimals)),
            Value::Text(text) => write!(into, "{text}"),
            Value::Ref(None) => write!(into, "none"),
            Value::Ref(Some(at)) => write!(into, "{}", self.memory.name(*at)),
            Value::Vec2(parts) => write!(into, "{}", joined(parts)),
            Value::Vec3(parts) => write!(into, "{}", joined(parts)),
        };
    }

    // ---- functions ----

    fn call_function(
        &mut self,
        activation: &mut Activation,
        unit: &'p ScriptUnit,
        expr: ExprId,
        arguments: &[ExprId],
    ) -> Value {
        let registry = &self.layout.project.registry;
        let zero = || Value::zero(unit.ty(expr), registry);
        let builtin = match unit.meaning(expr) {
            Meaning::Builtin(builtin) => builtin,
            Meaning::Procedure(id) => {
                if self.depth >= MOST_DEPTH {
                    self.stop(unit.at(unit.tree.expr(expr).span), "procedures call one another without an end");
                    return zero();
                }
                self.depth += 1;
                let given = self.call_value(activation, unit, id, arguments, expr);
                self.depth -= 1;
                return given.map_or_else(zero, |value| value.fitted(unit.ty(expr)));
            }
            _ => return zero(),
        };
        match builtin {
            Builtin::Count => {
                return match arguments.first().map(|&argument| unit.meaning(argument)) {
                    Some(Meaning::Owner(actor)) => {
                        Value::Int(i64::try_from(self.memory.live(actor).len()).unwrap_or(0))
                    }
                    _ => zero(),
                };
            }
            Builtin::Text | Builtin::Shown => {
                let Some(&argument) = arguments.first() else { return zero() };
                let text = self.text(activation, unit, argument);
                return Value::Text(match builtin {
                    Builtin::Shown => self.labels.get(&text).map_or("", String::as_str).into(),
                    _ => text.into(),
                });
            }
            _ => {}
        }
        let values: smallvec::SmallVec<[Value; 4]> =
            arguments.iter().map(|&argument| self.eval(activation, unit, argument)).collect();
        match (builtin, &values[..]) {
            (Builtin::Random, [Value::Int(low), Value::Int(high)]) => Value::Int(self.draw_whole(*low, *high)),
            (Builtin::Random, [low, high]) => {
                let (low, high) = (low.as_number().unwrap_or(0.0), high.as_number().unwrap_or(0.0));
                let (low, high) = (low.min(high), low.max(high));
                // The top of the draw is moved to the very end, since both ends belong to it.
                let part = self.draw() * (1.0 + f64::EPSILON);
                Value::Number(finite(low + (high - low) * part).clamp(low, high))
            }
            (Builtin::Chance, [p]) => {
                let drawn = self.draw();
                Value::Bool(drawn < p.as_number().unwrap_or(0.0))
            }
            (Builtin::TickLength, _) => Value::Number(self.layout.project.config.tick_length()),
            (builtin, values) => plain_function(builtin, values).unwrap_or_else(zero),
        }
    }
}

/// A function that only looks at its arguments.
fn plain_function(builtin: Builtin, values: &[Value]) -> Option<Value> {
    let number = |at: usize| values.get(at).and_then(Value::as_number);
    Some(match (builtin, values) {
        (Builtin::Abs, [Value::Int(value)]) => Value::Int(value.saturating_abs()),
        (Builtin::Abs, _) => Value::Number(number(0)?.abs()),
        (Builtin::Floor | Builtin::Ceil | Builtin::Round, [Value::Int(value)]) => Value::Int(*value),
        (Builtin::Floor, _) => Value::Int(whole(number(0)?.floor())),
        (Builtin::Ceil, _) => Value::Int(whole(number(0)?.ceil())),
        (Builtin::Round, _) => Value::Int(whole(number(0)?.round())),
        (Builtin::Min, _) => alike(values, |a, b| a.compare(b).is_some_and(Ordering::is_le))?,
        (Builtin::Max, _) => alike(values, |a, b| a.compare(b).is_some_and(Ordering::is_ge))?,
        (Builtin::Clamp, [x, low, high]) => {
            let raised = if x.compare(low)? == Ordering::Less { low } else { x };
            let kept = if raised.compare(high)? == Ordering::Greater { high } else { raised };
            as_all(kept, values)
        }
        (Builtin::Length, [Value::Text(text)]) => Value::Int(i64::try_from(text.chars().count()).unwrap_or(i64::MAX)),
        (Builtin::Number, [Value::Text(text)]) => Value::Number(number_of(text)),
        (Builtin::Vec2, _) => Value::Vec2([number(0)?, number(1)?]),
        (Builtin::Vec3, _) => Value::Vec3([number(0)?, number(1)?, number(2)?]),
        _ => return None,
    })
}

/// The one that comes first in an order; a `number` unless all are whole.
fn alike(values: &[Value], before: impl Fn(&Value, &Value) -> bool) -> Option<Value> {
    let first = values.iter().reduce(|a, b| if before(a, b) { a } else { b })?;
    Some(as_all(first, values))
}

fn as_all(value: &Value, values: &[Value]) -> Value {
    let all_whole = values.iter().all(|value| matches!(value, Value::Int(_)));
    if all_whole { value.clone() } else { Value::Number(value.as_number().unwrap_or(0.0)) }
}

/// The number that a text says; 0 where it says none.
fn number_of(text: &str) -> f64 {
    let plain = text.trim();
    let is_number = plain.bytes().all(|byte| byte.is_ascii_digit() || b"+-.eE".contains(&byte));
    plain.parse::<f64>().ok().filter(|value| is_number && value.is_finite()).unwrap_or(0.0)
}

#[allow(clippy::cast_precision_loss, reason = "printed with a count of decimals")]
fn value_as_float(value: i64) -> f64 {
    value as f64
}

/// The value of an expression that is made of literals, where a tick is so many seconds long.
#[must_use]
pub fn constant(unit: &ScriptUnit, expr: ExprId, tick: f64) -> Value {
    let constant = |expr: ExprId| constant(unit, expr, tick);
    match &unit.tree.expr(expr).kind {
        ExprKind::Int(value) => Value::Int(*value),
        ExprKind::Float(value) => Value::Number(*value),
        ExprKind::Bool(value) => Value::Bool(*value),
        ExprKind::Text(parts) => match &parts[..] {
            [TextPart::Plain(text)] => Value::Text(text.as_str().into()),
            _ => Value::Text("".into()),
        },
        ExprKind::Unary(op, operand) => match (op, constant(*operand)) {
            (UnaryOp::Minus, value) => value.negative(),
            (UnaryOp::Not, value) => Value::Bool(!value.is_true()),
            (UnaryOp::Plus, value) => value,
        },
        ExprKind::Binary(op, left, right) => {
            let (a, b) = (constant(*left), constant(*right));
            match (op, a.scalar(), b.scalar()) {
                (_, Some(a), Some(b)) => a.operate(*op, b).map_or(Value::Number(0.0), Value::from),
                (BinaryOp::Equal, ..) => Value::Bool(a.equals(&b)),
                (BinaryOp::NotEqual, ..) => Value::Bool(!a.equals(&b)),
                (BinaryOp::Divide, ..) => match b.as_number() {
                    Some(by) if by != 0.0 => a.divided(by),
                    _ => Value::Number(0.0),
                },
                _ => a.combine(*op, &b),
            }
        }
        ExprKind::Call(_, arguments) => {
            let values: Vec<Value> = arguments.iter().map(|&argument| constant(argument)).collect();
            match unit.meaning(expr) {
                Meaning::Builtin(Builtin::TickLength) => Value::Number(tick),
                Meaning::Builtin(builtin) => plain_function(builtin, &values).unwrap_or(Value::Int(0)),
                _ => Value::Int(0),
            }
        }
        _ => Value::Ref(None),
    }
}
