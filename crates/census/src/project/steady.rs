//! Procedures that do nothing but work out a value from numbers, flags and texts: such a one gives the same again as long as what
//! it reads stays as it is.

use super::builtin::Builtin;
use super::{Base, Meaning, Place, PlaceId, ProcId, ScriptUnit};
use crate::registry::Type;
use crate::script::ast::*;

/// How many places such a procedure reads at most.
const MOST_READ: usize = 16;
/// How many different values one gives at most that sorts things.
const MOST_GIVEN: usize = 5;
/// How many procedures it comes to call at most, all in all.
const MOST_CALLED: usize = 32;

/// What a procedure reads and calls, that does nothing else.
#[derive(Default)]
struct Worked {
    reads: Vec<PlaceId>,
    calls: Vec<ProcId>,
}

/// What each procedure of a script reads, itself and through those that it calls; none for one that does anything else.
pub(super) fn find(unit: &ScriptUnit) -> Vec<Option<Vec<PlaceId>>> {
    let mut worked: Vec<Option<Worked>> = unit.tree.procedures.iter().map(|procedure| work(unit, procedure)).collect();
    let mut callers: Vec<Vec<usize>> = vec![Vec::new(); worked.len()];
    for (at, worked) in worked.iter().enumerate() {
        worked.iter().flat_map(|worked| &worked.calls).for_each(|called| callers[called.index()].push(at));
    }
    let mut lost: Vec<usize> = (0..worked.len()).filter(|&at| worked[at].is_none()).collect();
    while let Some(at) = lost.pop() {
        for &caller in &callers[at] {
            lost.extend(worked[caller].take().map(|_| caller));
        }
    }
    (0..worked.len()).map(|at| reads(&worked, at)).collect()
}

/// What one of them reads altogether; none where it comes to call too many, or reads too much.
fn reads(worked: &[Option<Worked>], first: usize) -> Option<Vec<PlaceId>> {
    worked[first].as_ref()?;
    let mut open = vec![first];
    let mut reads: Vec<PlaceId> = Vec::new();
    let mut next = 0;
    while let Some(worked) = open.get(next).and_then(|&at| worked[at].as_ref()) {
        next += 1;
        reads.extend(&worked.reads);
        if open.len() > MOST_CALLED {
            return None;
        }
        for called in worked.calls.iter().map(|called| called.index()) {
            if !open.contains(&called) {
                open.push(called);
            }
        }
    }
    reads.sort_unstable();
    reads.dedup();
    Some(reads).filter(|reads| reads.len() <= MOST_READ)
}

/// Whether a procedure gives a number or a text that is written out, another where it goes another way, and few of them in all.
pub(super) fn sorts(unit: &ScriptUnit, at: usize) -> bool {
    let is_fit = matches!(unit.procedures[at].gives, Some(Type::Int | Type::Number | Type::Text | Type::Enum(_)));
    let mut given: Vec<Option<Written>> = Vec::new();
    walk(&unit.tree.procedures[at].body, &mut |statement| {
        if let StatementKind::Return(Some(value)) = statement.kind {
            let value = written(unit, value);
            if !given.contains(&value) {
                given.push(value);
            }
        }
    });
    is_fit && given.iter().any(Option::is_some) && (2..=MOST_GIVEN).contains(&given.len())
}

/// A value that is written out: a text, or a number by its bits.
#[derive(PartialEq, Eq)]
enum Written {
    Number(u64),
    Text(String),
}

fn written(unit: &ScriptUnit, expr: ExprId) -> Option<Written> {
    match &unit.tree.expr(expr).kind {
        ExprKind::Int(value) => Some(Written::Number((*value as f64).to_bits())),
        ExprKind::Float(value) => Some(Written::Number(value.to_bits())),
        ExprKind::Unary(UnaryOp::Minus, inner) => match written(unit, *inner)? {
            Written::Number(bits) => Some(Written::Number((-f64::from_bits(bits)).to_bits())),
            Written::Text(_) => None,
        },
        ExprKind::Text(parts) => match &parts[..] {
            [TextPart::Plain(text)] => Some(Written::Text(text.clone())),
            _ => None,
        },
        _ => None,
    }
}

/// What a procedure reads and calls; none where it does anything else.
fn work(unit: &ScriptUnit, procedure: &Procedure) -> Option<Worked> {
    let mut worked = Worked::default();
    let mut is_steady = true;
    walk(&procedure.body, &mut |statement| {
        is_steady = is_steady && add_statement(unit, statement, &mut worked).is_some();
    });
    is_steady.then_some(worked)
}

fn add_statement(unit: &ScriptUnit, statement: &Statement, worked: &mut Worked) -> Option<()> {
    let mut add = |expr: &ExprId| add_expr(unit, *expr, worked);
    match &statement.kind {
        StatementKind::Assign { target, value, .. } => {
            let place = unit.place_of(*target)?;
            matches!(unit.place(place), Place::Local(_)).then_some(())?;
            add(value)
        }
        StatementKind::Let { value, .. } => add(value),
        StatementKind::If { arms, .. } => arms.iter().flat_map(|arm| &arm.tests).try_for_each(add),
        StatementKind::Match { subject, arms, .. } => {
            add(subject)?;
            arms.iter().flat_map(|arm| &arm.tests).try_for_each(add)
        }
        StatementKind::While { condition: asked, .. } | StatementKind::Repeat { count: asked, .. } => add(asked),
        StatementKind::Return(value) => value.iter().try_for_each(add),
        StatementKind::Break => Some(()),
        _ => None,
    }
}

fn add_expr(unit: &ScriptUnit, expr: ExprId, worked: &mut Worked) -> Option<()> {
    match &unit.tree.expr(expr).kind {
        ExprKind::Int(_) | ExprKind::Float(_) | ExprKind::Bool(_) => Some(()),
        ExprKind::Text(parts) => parts.iter().all(|part| !matches!(part, TextPart::Token { .. })).then_some(()),
        ExprKind::Path(_) => {
            let Meaning::Value(place) = unit.meaning(expr) else { return None };
            match unit.place(place) {
                Place::Local(_) => {}
                Place::Private(_) | Place::Variable(_, Base::One | Base::Own) => worked.reads.push(place),
                _ => return None,
            }
            Some(())
        }
        ExprKind::Unary(_, inner) => add_expr(unit, *inner, worked),
        ExprKind::Binary(_, left, right) => {
            add_expr(unit, *left, worked)?;
            add_expr(unit, *right, worked)
        }
        ExprKind::Call(_, arguments) => {
            match unit.meaning(expr) {
                Meaning::Procedure(id) => worked.calls.push(id),
                Meaning::Builtin(Builtin::Random | Builtin::Chance | Builtin::Count) => return None,
                Meaning::Builtin(_) => {}
                _ => return None,
            }
            arguments.iter().try_for_each(|&argument| add_expr(unit, argument, worked))
        }
        _ => None,
    }
}
