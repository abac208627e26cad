//! Which way a variable must move for a condition to become false: `oil >= 5` only fails when `oil` goes down.

use crate::project::builtin::Builtin;
use crate::project::{Meaning, Place, Project, ScriptUnit};
use crate::registry::{Bound, VarId};
use crate::script::ast::*;

/// A change by moving up, and one by moving down.
#[derive(Clone, Copy, PartialEq, Eq, Default, Debug)]
pub struct Moved {
    /// Moving up does it.
    pub up: bool,
    /// Moving down does it.
    pub down: bool,
}

impl Moved {
    /// Either does it.
    pub const EITHER: Self = Self { up: true, down: true };
    const NEITHER: Self = Self { up: false, down: false };

    /// Whether one of the ways is among the others.
    #[must_use]
    pub fn meets(self, other: Self) -> bool {
        self.up && other.up || self.down && other.down
    }

    fn or(self, other: Self) -> Self {
        Self { up: self.up || other.up, down: self.down || other.down }
    }

    fn flipped(self) -> Self {
        Self { up: self.down, down: self.up }
    }
}

/// A variable, and where the expressions are that name it.
pub struct Trend<'a> {
    /// The project.
    pub project: &'a Project,
    /// The tables of the expressions.
    pub unit: &'a ScriptUnit,
    /// The variable.
    pub variable: VarId,
}

impl Trend<'_> {
    /// Which moves of the variable can make a condition that came out as wanted come out otherwise.
    #[must_use]
    pub fn upsets(&self, condition: ExprId, wanted: bool) -> Moved {
        match &self.unit.tree.expr(condition).kind {
            ExprKind::Unary(UnaryOp::Not, inner) => self.upsets(*inner, !wanted),
            ExprKind::Binary(BinaryOp::And | BinaryOp::Or, left, right) => {
                self.upsets(*left, wanted).or(self.upsets(*right, wanted))
            }
            ExprKind::Binary(BinaryOp::Implies, left, right) => {
                self.upsets(*left, !wanted).or(self.upsets(*right, wanted))
            }
            ExprKind::Binary(op, left, right) => {
                let apart = self.raises(*left).or(self.raises(*right).flipped());
                match op {
                    BinaryOp::Less | BinaryOp::LessEqual if wanted => apart,
                    BinaryOp::Less | BinaryOp::LessEqual => apart.flipped(),
                    BinaryOp::Greater | BinaryOp::GreaterEqual if wanted => apart.flipped(),
                    BinaryOp::Greater | BinaryOp::GreaterEqual => apart,
                    _ => self.named(condition),
                }
            }
            _ => self.named(condition),
        }
    }

    /// Which moves of the variable can raise a number.
    fn raises(&self, number: ExprId) -> Moved {
        match &self.unit.tree.expr(number).kind {
            ExprKind::Path(_) if self.is_meant(number) => Moved { up: true, down: false },
            ExprKind::Unary(UnaryOp::Minus, inner) => self.raises(*inner).flipped(),
            ExprKind::Unary(UnaryOp::Plus, inner) => self.raises(*inner),
            ExprKind::Binary(BinaryOp::Add, left, right) => self.raises(*left).or(self.raises(*right)),
            ExprKind::Binary(BinaryOp::Subtract, left, right) => self.raises(*left).or(self.raises(*right).flipped()),
            ExprKind::Binary(BinaryOp::Multiply, left, right) if self.is_plain(*left) => self.raises(*right),
            ExprKind::Binary(BinaryOp::Multiply | BinaryOp::Divide, left, right) if self.is_plain(*right) => {
                self.raises(*left)
            }
            ExprKind::Call(_, arguments) => match self.unit.meaning(number) {
                Meaning::Builtin(
                    Builtin::Min | Builtin::Max | Builtin::Clamp | Builtin::Floor | Builtin::Ceil | Builtin::Round,
                ) => arguments.iter().fold(Moved::NEITHER, |all, &argument| all.or(self.raises(argument))),
                _ => self.named(number),
            },
            _ => self.named(number),
        }
    }

    /// Whether it is a number as it stands there, so not below zero.
    fn is_plain(&self, number: ExprId) -> bool {
        matches!(self.unit.tree.expr(number).kind, ExprKind::Int(_) | ExprKind::Float(_))
    }

    /// Where it is named at all, any move of it may do anything.
    fn named(&self, expr: ExprId) -> Moved {
        let mut found = false;
        super::access::walk_expr(self.unit, expr, &mut |inner| found |= self.is_meant(inner));
        if found { Moved::EITHER } else { Moved::NEITHER }
    }

    fn is_meant(&self, expr: ExprId) -> bool {
        let variable = |place| match self.unit.place(place) {
            Place::Variable(variable, _) => Some(variable),
            _ => None,
        };
        match self.unit.meaning(expr) {
            Meaning::Value(place) | Meaning::Axis(place, _) => variable(place) == Some(self.variable),
            Meaning::Bound(place, end) => {
                let bound = variable(place).and_then(|id| self.project.registry.var(id).bound(end));
                matches!(bound, Some(Bound::Variable(bound)) if *bound == self.variable)
            }
            _ => false,
        }
    }
}
