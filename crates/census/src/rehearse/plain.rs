//! Expressions about numbers and flags alone, with their names looked up beforehand.
//!
//! Most of what a run works out is of this kind: it has no texts, calls no procedure, draws nothing. Where something is
//! amiss on the way (a value is unset, a divisor is zero) there is no answer here, and `evaluate` works the whole out
//! again, as far as the fault.

use super::activation::Activation;
use super::layout::{CellFacts, Home, Limit};
use super::machine::{Machine, Observer};
use super::value::{Scalar, Value};
use crate::project::builtin::Builtin;
use crate::project::{Base, CellId, Meaning, Place, ScriptUnit};
use crate::registry::{End, InstanceId, Type};
use crate::script::ast::{BinaryOp, ExprId, ExprKind, LocalId, UnaryOp};

/// A step of a plain expression.
#[derive(Clone, Copy, Debug)]
pub enum Plain {
    /// It is not plain.
    Not,
    /// A literal.
    Literal(Scalar),
    /// A local.
    Local(LocalId),
    /// A value of the script's own instance, by index.
    Own(u32),
    /// A value of a listed instance, by index.
    Listed(InstanceId, u32),
    /// A shared value, by index.
    Shared(u32),
    /// `-a`, `not a`
    Opposite(ExprId),
    /// `a + b`
    Binary(BinaryOp, ExprId, ExprId),
    /// `min(a, b)`
    Least(ExprId, ExprId),
    /// `max(a, b)`
    Most(ExprId, ExprId),
}

/// The plain expressions of a script, by the ids of its expressions; one stands behind all that it is made of.
#[must_use]
pub fn plain(unit: &ScriptUnit, cells: &[CellFacts]) -> Vec<Plain> {
    let mut all: Vec<Plain> = Vec::with_capacity(unit.tree.exprs.len());
    for at in 0..unit.tree.exprs.len() {
        let expr = ExprId(u32::try_from(at).unwrap_or(u32::MAX));
        let is_plain = |inner: ExprId| !matches!(all.get(inner.0 as usize), None | Some(Plain::Not));
        let scalar = matches!(unit.ty(expr), Type::Bool | Type::Int | Type::Number);
        let found = match &unit.tree.expr(expr).kind {
            ExprKind::Int(value) => Plain::Literal(Scalar::Int(*value)),
            ExprKind::Float(value) => Plain::Literal(Scalar::Number(*value)),
            ExprKind::Bool(value) => Plain::Literal(Scalar::Bool(*value)),
            ExprKind::Path(_) if scalar => match unit.meaning(expr) {
                Meaning::Value(place) => site(unit, unit.place(place), cells),
                Meaning::Bound(place, end) => bound(unit, unit.place(place), end, cells),
                _ => Plain::Not,
            },
            ExprKind::Unary(UnaryOp::Not | UnaryOp::Minus, inner) if scalar && is_plain(*inner) => {
                Plain::Opposite(*inner)
            }
            &ExprKind::Binary(op, left, right) if scalar && is_plain(left) && is_plain(right) => {
                Plain::Binary(op, left, right)
            }
            ExprKind::Call(_, arguments) if scalar && arguments.iter().all(|&argument| is_plain(argument)) => {
                match (unit.meaning(expr), &arguments[..]) {
                    (Meaning::Builtin(Builtin::Min), &[a, b]) => Plain::Least(a, b),
                    (Meaning::Builtin(Builtin::Max), &[a, b]) => Plain::Most(a, b),
                    _ => Plain::Not,
                }
            }
            _ => Plain::Not,
        };
        all.push(found);
    }
    all
}

fn site(unit: &ScriptUnit, place: Place, cells: &[CellFacts]) -> Plain {
    match cell_of(unit, place) {
        None => match place {
            Place::Local(local) => Plain::Local(local),
            _ => Plain::Not,
        },
        Some((cell, listed)) => kept(cells, cell, listed),
    }
}

/// An end of a range: a number, or what another cell of the same instance holds. That of a listed instance takes more:
/// it may not be there.
fn bound(unit: &ScriptUnit, place: Place, end: End, cells: &[CellFacts]) -> Plain {
    let Some((cell, None)) = cell_of(unit, place) else { return Plain::Not };
    let facts = &cells[cell.index()];
    match if end == End::Min { facts.min } else { facts.max } {
        _ if facts.scene.is_some() => Plain::Not,
        Some(Limit::Number(value)) => Value::Number(value).fitted(facts.ty).scalar().map_or(Plain::Not, Plain::Literal),
        Some(Limit::Cell(other)) => kept(cells, other, None),
        None => Plain::Not,
    }
}

/// The cell of a place that is found beforehand, and the listed instance whose it is.
fn cell_of(unit: &ScriptUnit, place: Place) -> Option<(CellId, Option<InstanceId>)> {
    match place {
        Place::Private(index) => Some((unit.privates[index as usize].cell, None)),
        Place::Variable(variable, Base::One | Base::Own) => Some((CellId(variable.0), None)),
        Place::Variable(variable, Base::Listed(listed)) => Some((CellId(variable.0), Some(listed))),
        Place::Local(_) | Place::Variable(..) | Place::Was => None,
    }
}

fn kept(cells: &[CellFacts], cell: CellId, listed: Option<InstanceId>) -> Plain {
    let facts = &cells[cell.index()];
    let index = |at: usize| u32::try_from(at).unwrap_or(u32::MAX);
    match (facts.home, listed) {
        _ if facts.scene.is_some() => Plain::Not,
        (Home::Each(_, at), None) => Plain::Own(index(at)),
        (Home::Each(_, at), Some(listed)) => Plain::Listed(listed, index(at)),
        (Home::Shared(at), _) => Plain::Shared(index(at)),
    }
}

impl<O: Observer> Machine<'_, '_, O> {
    /// The value of a plain expression, where nothing is amiss.
    #[inline]
    pub(super) fn scalar(&self, activation: &Activation, unit: &ScriptUnit, expr: ExprId) -> Option<Scalar> {
        let script = activation.script;
        // Invariants and expectations are looked at from outside of any script.
        if !std::ptr::eq(unit, self.layout.project.script(script)) {
            return None;
        }
        self.plain_value(activation, &self.layout.plain[script.index()], expr)
    }

    /// Most operands are a literal or a name, which need no call of their own.
    #[inline(always)]
    #[allow(clippy::inline_always, reason = "the two ways call each other, and this is the one to be copied")]
    fn plain_value(&self, activation: &Activation, all: &[Plain], expr: ExprId) -> Option<Scalar> {
        match *all.get(expr.0 as usize)? {
            Plain::Literal(value) => Some(value),
            Plain::Local(local) => activation.local_at(local)?.scalar(),
            Plain::Own(index) => self.memory.own(activation.of?, index)?.scalar(),
            Plain::Listed(listed, index) => self.memory.own(self.listed(activation, listed)?, index)?.scalar(),
            Plain::Shared(index) => self.memory.shared(index)?.scalar(),
            made => self.made_value(activation, all, made),
        }
    }

    #[inline(never)]
    fn made_value(&self, activation: &Activation, all: &[Plain], made: Plain) -> Option<Scalar> {
        let of = |inner: ExprId| self.plain_value(activation, all, inner);
        match made {
            Plain::Not | Plain::Literal(_) | Plain::Local(_) | Plain::Own(_) | Plain::Listed(..) | Plain::Shared(_) => {
                None
            }
            Plain::Opposite(inner) => Some(of(inner)?.opposite()),
            Plain::Binary(op, left, right) => {
                let a = of(left)?;
                match (op, a) {
                    (BinaryOp::And, Scalar::Bool(false)) => return Some(a),
                    (BinaryOp::Or, Scalar::Bool(true)) => return Some(a),
                    (BinaryOp::Implies, Scalar::Bool(false)) => return Some(Scalar::Bool(true)),
                    _ => {}
                }
                a.operate(op, of(right)?)
            }
            Plain::Least(left, right) => {
                let (a, b) = (of(left)?, of(right)?);
                Some(if a.compare(b)?.is_le() { a.beside(b) } else { b.beside(a) })
            }
            Plain::Most(left, right) => {
                let (a, b) = (of(left)?, of(right)?);
                Some(if a.compare(b)?.is_ge() { a.beside(b) } else { b.beside(a) })
            }
        }
    }
}
