//! What gives the same number wherever it is written: a product, a quotient, a rest, a rounding, a part of a vector, what a
//! procedure works out and does nothing else. Such a term is one number for as long as nothing that it names changes, so
//! relations can be about it as about a place. So `oil -= trips * cost` is fine behind `oil >= cost * trips` (value numbering:
//! Alpern, Wegman and Zadeck, 1988). What a `let` is given counts too where it is a quotient: what is asked of the `let` tells
//! of what was divided.

use super::access::walk_expr;
use crate::project::builtin::Builtin;
use crate::project::{Meaning, Place, PlaceId, ProcId, ScriptUnit};
use crate::registry::Type;
use crate::script::ast::*;
use rustc_hash::{FxHashMap, FxHashSet};
use smallvec::SmallVec;

/// A number that stands for all expressions that give the same.
type Class = u32;

/// How an expression is put together.
#[derive(PartialEq, Eq, Hash)]
enum Shape {
    Int(i64),
    /// By its bits.
    Float(u64),
    Named(Meaning),
    Unary(UnaryOp, Class),
    Binary(BinaryOp, Class, Class),
    Call(Builtin, SmallVec<[Class; 3]>),
    Procedure(ProcId, SmallVec<[Class; 3]>),
}

/// Tells which expressions of a script give the same.
struct Classes<'u> {
    unit: &'u ScriptUnit,
    by_shape: FxHashMap<Shape, Class>,
    by_expr: FxHashMap<ExprId, Option<Class>>,
}

impl Classes<'_> {
    /// The class of an expression; none where it may give something else each time.
    fn class(&mut self, expr: ExprId) -> Option<Class> {
        if let Some(&known) = self.by_expr.get(&expr) {
            return known;
        }
        let class = self.shape(expr).map(|shape| {
            let next = Class::try_from(self.by_shape.len()).unwrap_or(Class::MAX);
            *self.by_shape.entry(shape).or_insert(next)
        });
        self.by_expr.insert(expr, class);
        class
    }

    fn shape(&mut self, expr: ExprId) -> Option<Shape> {
        let unit = self.unit;
        Some(match &unit.tree.expr(expr).kind {
            ExprKind::Int(value) => Shape::Int(*value),
            ExprKind::Float(value) => Shape::Float(value.to_bits()),
            ExprKind::Path(_) => match unit.meaning(expr) {
                meaning @ (Meaning::Value(_) | Meaning::Axis(..) | Meaning::Bound(..)) => Shape::Named(meaning),
                _ => return None,
            },
            ExprKind::Unary(op, operand) => Shape::Unary(*op, self.class(*operand)?),
            ExprKind::Binary(op, left, right) => {
                let (left, right) = (self.class(*left)?, self.class(*right)?);
                match op {
                    BinaryOp::Add | BinaryOp::Multiply => Shape::Binary(*op, left.min(right), left.max(right)),
                    _ => Shape::Binary(*op, left, right),
                }
            }
            ExprKind::Call(_, arguments) => match unit.meaning(expr) {
                Meaning::Builtin(Builtin::Random | Builtin::Chance | Builtin::Count) => return None,
                Meaning::Builtin(builtin) => {
                    Shape::Call(builtin, arguments.iter().map(|&argument| self.class(argument)).collect::<Option<_>>()?)
                }
                Meaning::Procedure(id) => {
                    Shape::Procedure(id, arguments.iter().map(|&argument| self.class(argument)).collect::<Option<_>>()?)
                }
                _ => return None,
            },
            _ => return None,
        })
    }
}

/// Whether an expression gives a number that linear forms don't tell all of.
#[must_use]
pub fn is_term(unit: &ScriptUnit, expr: ExprId) -> bool {
    let number = |expr: &ExprId| matches!(unit.tree.expr(*expr).kind, ExprKind::Int(_) | ExprKind::Float(_));
    match &unit.tree.expr(expr).kind {
        ExprKind::Path(_) => matches!(unit.meaning(expr), Meaning::Axis(..)),
        ExprKind::Binary(BinaryOp::Multiply, left, right) => !number(left) && !number(right),
        ExprKind::Binary(BinaryOp::Divide, _, divisor) => !number(divisor),
        ExprKind::Binary(BinaryOp::Remainder, ..) => true,
        ExprKind::Call(_, arguments) => match unit.meaning(expr) {
            Meaning::Builtin(Builtin::Floor | Builtin::Ceil | Builtin::Round) => {
                arguments.first().is_some_and(|&argument| unit.ty(argument) == Type::Number)
            }
            Meaning::Builtin(Builtin::Abs | Builtin::Length | Builtin::Number) => true,
            Meaning::Procedure(id) => unit.procedures[id.index()].steady.is_some() && unit.ty(expr).is_numeric(),
            _ => false,
        },
        _ => false,
    }
}

/// Whether an expression is a distance from zero: what it gives is known better once its sign is.
#[must_use]
pub fn is_abs(unit: &ScriptUnit, expr: ExprId) -> bool {
    unit.meaning(expr) == Meaning::Builtin(Builtin::Abs)
}

/// Whether an expression multiplies a local with a place: as the local is given something else, so is the product.
#[must_use]
pub fn is_product_of_local(unit: &ScriptUnit, expr: ExprId) -> bool {
    let ExprKind::Binary(BinaryOp::Multiply, left, right) = unit.tree.expr(expr).kind else { return false };
    let places = [left, right].map(|side| unit.place_of(side).map(|place| unit.place(place)));
    places.iter().all(Option::is_some) && places.iter().flatten().any(|place| matches!(place, Place::Local(_)))
}

/// What a product multiplies a procedure's call with, and the call.
#[must_use]
pub fn times_call(unit: &ScriptUnit, expr: ExprId) -> Option<(ExprId, ExprId)> {
    let ExprKind::Binary(BinaryOp::Multiply, left, right) = unit.tree.expr(expr).kind else { return None };
    let is_call = |side| matches!(unit.meaning(side), Meaning::Procedure(_)) && unit.ty(side).is_numeric();
    let pair = if is_call(left) { (left, right) } else { (right, left) };
    (is_call(pair.0) && unit.place_of(pair.1).is_some()).then_some(pair)
}

/// Whether an expression is a quotient of places.
#[must_use]
pub fn is_quotient(unit: &ScriptUnit, expr: ExprId) -> bool {
    matches!(unit.tree.expr(expr).kind, ExprKind::Binary(BinaryOp::Divide, ..)) && is_term(unit, expr)
}

/// What decides whether two terms may give the same though they name different places.
#[derive(PartialEq, Eq, Hash)]
enum Kind {
    Binary(BinaryOp),
    Call(Builtin),
    Procedure(ProcId),
}

fn kind(unit: &ScriptUnit, term: ExprId) -> Option<Kind> {
    match unit.tree.expr(term).kind {
        ExprKind::Binary(op, ..) => Some(Kind::Binary(op)),
        ExprKind::Call(..) => match unit.meaning(term) {
            Meaning::Builtin(builtin) => Some(Kind::Call(builtin)),
            Meaning::Procedure(id) => Some(Kind::Procedure(id)),
            _ => None,
        },
        _ => None,
    }
}

/// The terms that relations are kept about.
pub struct Useful {
    /// All the places of each.
    pub terms: Vec<Vec<ExprId>>,
    /// The parameters of procedures that are named in terms: what such a term gives may be what another gives that names
    /// what was passed.
    pub passed: Vec<PlaceId>,
}

/// The terms that are written twice or more, or of use where they stand once. A procedure's term that names a `parameter` may be
/// written with another name elsewhere.
#[must_use]
pub fn useful(unit: &ScriptUnit, terms: &[(ExprId, bool)], parameters: &FxHashSet<PlaceId>) -> Useful {
    let mut useful = Useful { terms: Vec::new(), passed: Vec::new() };
    if terms.len() < 2 && terms.iter().all(|(_, alone)| !alone) {
        return useful;
    }
    let kinds = useful.find_passed(unit, terms, parameters);
    let mut classes = Classes { unit, by_shape: FxHashMap::default(), by_expr: FxHashMap::default() };
    let mut order: Vec<Class> = Vec::new();
    let mut found: FxHashMap<Class, (Vec<ExprId>, bool)> = FxHashMap::default();
    for &(term, alone) in terms {
        let Some(class) = classes.class(term) else { continue };
        let (places, is_useful) = found.entry(class).or_insert_with(|| {
            order.push(class);
            (Vec::new(), false)
        });
        let is_passed = || !kinds.is_empty() && kind(unit, term).is_some_and(|kind| kinds.contains(&kind));
        *is_useful |= alone || !places.is_empty() || is_passed();
        places.push(term);
    }
    let places = order.into_iter().filter_map(|class| found.remove(&class));
    useful.terms = places.filter(|(_, is_useful)| *is_useful).map(|(places, _)| places).collect();
    useful
}

/// The terms of one kind.
struct OfKind {
    first: ExprId,
    /// There are others beside the first.
    several: bool,
    /// The parameters that they name.
    named: Vec<PlaceId>,
}

impl Useful {
    /// Finds the parameters that are named in terms which have others of their kind beside them; gives those kinds.
    fn find_passed(
        &mut self,
        unit: &ScriptUnit,
        terms: &[(ExprId, bool)],
        parameters: &FxHashSet<PlaceId>,
    ) -> FxHashSet<Kind> {
        if parameters.is_empty() {
            return FxHashSet::default();
        }
        let mut kinds: FxHashMap<Kind, OfKind> = FxHashMap::default();
        for &(term, _) in terms {
            let Some(kind) = kind(unit, term) else { continue };
            let alike = kinds.entry(kind).or_insert(OfKind { first: term, several: false, named: Vec::new() });
            alike.several |= alike.first != term;
            walk_expr(unit, term, &mut |inner| {
                alike.named.extend(unit.place_of(inner).filter(|place| parameters.contains(place)));
            });
        }
        kinds.retain(|_, alike| alike.several && !alike.named.is_empty());
        self.passed = kinds.values().flat_map(|alike| &alike.named).copied().collect();
        self.passed.sort_unstable();
        self.passed.dedup();
        kinds.into_keys().collect()
    }
}
