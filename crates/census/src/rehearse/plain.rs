//! Expressions about numbers and flags alone, with their names looked up beforehand.
//!
//! Most of what a run works out is of this kind: it has no texts, calls no procedure, draws nothing. Where something is
//! amiss on the way (a value is unset, a divisor is zero) there is no answer here, and `evaluate` works the whole out
//! again, as far as the fault.

use super::activation::Activation;
use super::layout::{CellFacts, Home, Limit};
use super::machine::{Machine, Observer};
use super::memory::{Instance, Memory};
use super::value::{Scalar, Value};
use crate::project::builtin::Builtin;
use crate::project::{Base, CellId, Meaning, Place, ScriptUnit};
use crate::registry::{End, InstanceId, Type};
use crate::script::ast::{BinaryOp, ExprId, ExprKind, LocalId, UnaryOp};

/// A step of a plain expression. Which one it is stands in a byte of its own, since that is asked all the time.
#[derive(Clone, Copy, Debug)]
#[repr(u8)]
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
            ExprKind::Int(value) => Plain::Literal((*value).into()),
            ExprKind::Float(value) => Plain::Literal((*value).into()),
            ExprKind::Bool(value) => Plain::Literal((*value).into()),
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

/// Where a cell's value is kept.
pub(super) fn kept(cells: &[CellFacts], cell: CellId, listed: Option<InstanceId>) -> Plain {
    let facts = &cells[cell.index()];
    let index = |at: usize| u32::try_from(at).unwrap_or(u32::MAX);
    match (facts.home, listed) {
        _ if facts.scene.is_some() => Plain::Not,
        (Home::Each(_, at), None) => Plain::Own(index(at)),
        (Home::Each(_, at), Some(listed)) => Plain::Listed(listed, index(at)),
        (Home::Shared(at), _) => Plain::Shared(index(at)),
    }
}

/// What plain expressions look at.
pub(super) struct Sight<'a> {
    /// Those of the script.
    pub all: &'a [Plain],
    pub memory: &'a Memory<'a, 'a>,
    /// The script's own instance.
    pub own: Option<&'a Instance>,
    pub activation: &'a Activation,
}

impl Sight<'_> {
    /// The value of an expression; none where it is not plain, or anything is amiss.
    #[inline]
    pub fn value(&self, expr: ExprId) -> Option<Scalar> {
        self.at(self.all.get(expr.0 as usize)?)
    }

    /// Most operands are a literal or a name, which need no call of their own.
    #[inline(always)]
    #[allow(clippy::inline_always, reason = "the two ways call each other, and this is the one to be copied")]
    pub fn at(&self, plain: &Plain) -> Option<Scalar> {
        match *plain {
            Plain::Literal(value) => Some(value),
            Plain::Local(local) => self.activation.local(local)?.scalar(),
            Plain::Own(index) => self.own?.value(index)?.scalar(),
            Plain::Shared(index) => self.memory.shared(index)?.scalar(),
            Plain::Listed(listed, index) => {
                let own = self.own.filter(|own| own.listed == Some(listed));
                own.or_else(|| self.memory.listed_instance(listed))?.value(index)?.scalar()
            }
            _ => self.made(plain),
        }
    }

    #[inline(never)]
    fn made(&self, made: &Plain) -> Option<Scalar> {
        match *made {
            Plain::Not | Plain::Literal(_) | Plain::Local(_) | Plain::Own(_) | Plain::Listed(..) | Plain::Shared(_) => {
                None
            }
            Plain::Opposite(inner) => Some(self.value(inner)?.opposite()),
            Plain::Binary(op, left, right) => {
                let a = self.value(left)?;
                match op {
                    BinaryOp::And if a.is_false() => return Some(a),
                    BinaryOp::Or if a.is_true() => return Some(a),
                    BinaryOp::Implies if a.is_false() => return Some(true.into()),
                    _ => {}
                }
                a.operate(op, self.value(right)?)
            }
            Plain::Least(left, right) => {
                let (a, b) = (self.value(left)?, self.value(right)?);
                Some(if a.compare(b)?.is_le() { a.beside(b) } else { b.beside(a) })
            }
            Plain::Most(left, right) => {
                let (a, b) = (self.value(left)?, self.value(right)?);
                Some(if a.compare(b)?.is_ge() { a.beside(b) } else { b.beside(a) })
            }
        }
    }
}

impl<O: Observer> Machine<'_, '_, O> {
    /// The value of a plain expression, where nothing is amiss.
    #[inline]
    pub(super) fn scalar(&self, activation: &Activation, unit: &ScriptUnit, expr: ExprId) -> Option<Scalar> {
        // Invariants and expectations are looked at from outside of any script.
        if !std::ptr::eq(unit, self.layout.project.script(activation.script)) {
            return None;
        }
        self.sight(activation).value(expr)
    }
}
