//! Whether what two handlers ask for keeps them apart, so that one and the same trigger can't take both on.

use crate::flow::access::walk_expr;
use crate::flow::engine::Key;
use crate::project::{Base, CellId, Meaning, Place, PlaceId, ScriptUnit};
use crate::registry::{OwnerId, Scope, Type, VarId};
use crate::rules::Facts;
use crate::rules::facts::HandlerView;
use crate::script::ast::{BinaryOp, ExprId, ExprKind, IsTest, LocalId, UnaryOp};
use std::cmp::Ordering;

/// Tests, with how they must have come out.
pub type Tests = Vec<(ExprId, bool)>;

/// Whether the tests of two handlers leave some shared variable or parameter no common value, or ask two for opposite orders.
#[must_use]
pub fn tests_exclude(
    facts: &Facts<'_>,
    cell: CellId,
    (a, a_tests): (&HandlerView<'_, '_>, &[(ExprId, bool)]),
    (b, b_tests): (&HandlerView<'_, '_>, &[(ExprId, bool)]),
) -> bool {
    if kinds_exclude(a, a_tests, b, b_tests) {
        return true;
    }
    let decides = |operand: &Operand| decides(facts, cell, [a, b], operand);
    // What a test asks about must be what it was as the handlers began.
    let stands = |handler: &HandlerView<'_, '_>, tests: &[(ExprId, bool)]| -> Tests {
        let asks = |test: ExprId| {
            let mut all = true;
            walk_expr(handler.unit, test, &mut |expr| {
                let place = handler.unit.place_of(expr);
                all &= place.is_none_or(|place| operand_at(handler, place).is_some_and(|operand| decides(&operand)));
            });
            all
        };
        let behind = tests.iter().map(|&(test, wanted)| positive(handler.unit, test, wanted));
        behind.filter(|&(test, _)| asks(test)).collect()
    };
    let (a_tests, b_tests) = (&stands(a, a_tests), &stands(b, b_tests));
    if a_tests.is_empty() || b_tests.is_empty() {
        return false;
    }
    let all = |handler: &HandlerView<'_, '_>, tests: &[(ExprId, bool)]| -> Vec<Comparison> {
        tests.iter().flat_map(|&(test, wanted)| comparisons(handler, test, wanted)).collect()
    };
    let (left, right) = (all(a, a_tests), all(b, b_tests));
    if left.iter().any(|test| right.iter().any(|other| test.excludes(other))) {
        return true;
    }
    let begun = |handler: &HandlerView<'_, '_>, tests| facts.world.entry_state_in_any_order(handler.id, tests);
    let states = (begun(a, a_tests), begun(b, b_tests));
    let (Some(x), Some(y)) = states else { return true };
    let (left, right) = (facts.world.table(a.id), facts.world.table(b.id));
    left.slots.iter().enumerate().any(|(at, slot)| {
        let Key::Place(place) = slot.key else { return false };
        let Some(operand) = operand_at(a, place).filter(decides) else { return false };
        let other = match operand {
            Operand::Variable(variable, base) => right.of_variable(variable, base),
            Operand::Parameter(at) => {
                let other = b.unit.handlers[b.index].parameters.get(at);
                other.and_then(|(local, _)| right.slot(Key::Place(b.unit.local_places[local.0 as usize])))
            }
            Operand::Number(_) => None,
        };
        other.is_some_and(|other| x.values[at].value.meet(&y.values[other as usize].value).is_none())
    })
}

/// What stands behind a test and its `not`s, and how it must come out then.
fn positive(unit: &ScriptUnit, test: ExprId, wanted: bool) -> (ExprId, bool) {
    match unit.tree.expr(unit.behind(test)).kind {
        ExprKind::Unary(UnaryOp::Not, inner) => positive(unit, inner, !wanted),
        _ => (unit.behind(test), wanted),
    }
}

/// Whether the tests of two handlers want what one parameter holds to be of different actors.
fn kinds_exclude(
    a: &HandlerView<'_, '_>,
    a_tests: &[(ExprId, bool)],
    b: &HandlerView<'_, '_>,
    b_tests: &[(ExprId, bool)],
) -> bool {
    let all = |handler: &HandlerView<'_, '_>, tests: &[(ExprId, bool)]| -> Vec<(usize, OwnerId)> {
        let typed = handler.unit.handlers[handler.index].parameters.iter().enumerate();
        let typed = typed.filter_map(|(at, (local, _))| match handler.unit.local_types[local.0 as usize] {
            Type::Ref(Some(actor)) => Some((at, actor)),
            _ => None,
        });
        typed.chain(tests.iter().flat_map(|&(test, wanted)| kinds(handler, test, wanted))).collect()
    };
    let (left, right) = (all(a, a_tests), all(b, b_tests));
    left.iter().any(|(at, actor)| right.iter().any(|(other_at, other)| at == other_at && actor != other))
}

/// The actors that parameters must hold one of for a test to come out as wanted.
fn kinds(handler: &HandlerView<'_, '_>, test: ExprId, wanted: bool) -> Vec<(usize, OwnerId)> {
    let unit = handler.unit;
    match unit.tree.expr(test).kind {
        ExprKind::Unary(UnaryOp::Not, inner) => kinds(handler, inner, !wanted),
        ExprKind::Binary(op @ (BinaryOp::And | BinaryOp::Or), left, right) if (op == BinaryOp::And) == wanted => {
            [kinds(handler, left, wanted), kinds(handler, right, wanted)].concat()
        }
        ExprKind::Is { subject, negated, test: IsTest::Named(name) } if negated != wanted => {
            let parameter = match unit.place_of(subject).map(|place| unit.place(place)) {
                Some(Place::Local(local)) => parameter_of(handler, local),
                _ => None,
            };
            parameter.zip(unit.owner_named(name)).into_iter().collect()
        }
        _ => Vec::new(),
    }
}

/// Whether what two tests ask about is the same for both of them: neither of the handlers writes it before its first wait,
/// and it is no matter of each instance's where they answer for different ones.
fn decides(facts: &Facts<'_>, cell: CellId, both: [&HandlerView<'_, '_>; 2], operand: &Operand) -> bool {
    let &Operand::Variable(variable, base) = operand else { return true };
    let tested = CellId(variable.0);
    let is_own = |cell: CellId| {
        let variable = facts.project.variable_of(cell).map(|id| facts.registry().var(id));
        variable.is_none_or(|variable| variable.scope == Scope::Instance)
    };
    let one_only = |handler: &HandlerView<'_, '_>| {
        handler.unit.owner.is_none_or(|owner| !facts.registry().is_many(owner)) || is_own(cell)
    };
    (base != Base::Own || both.iter().all(|handler| one_only(handler)))
        && !both.iter().any(|handler| {
            facts.accesses_of(handler).any(|access| {
                let reached = handler.found.reached.get(&access.statement);
                access.cell == tested && access.writes() && reached.is_some_and(|reached| reached.before_wait)
            })
        })
}

/// Which of its handler's parameters a local is.
fn parameter_of(handler: &HandlerView<'_, '_>, local: LocalId) -> Option<usize> {
    handler.unit.handlers[handler.index].parameters.iter().position(|&(parameter, _)| parameter == local)
}

/// What a test compares, as any handler of the same trigger would name it.
#[derive(Clone, PartialEq)]
enum Operand {
    Variable(VarId, Base),
    Parameter(usize),
    Number(f64),
}

/// A comparison that must hold: which orders of its operands it lets through.
struct Comparison {
    left: Operand,
    right: Operand,
    orders: Vec<Ordering>,
}

impl Comparison {
    /// Whether no order of the same two operands pleases both.
    fn excludes(&self, other: &Self) -> bool {
        let turned = (&self.left, &self.right) == (&other.right, &other.left);
        let same = (&self.left, &self.right) == (&other.left, &other.right);
        let theirs = |order: Ordering| other.orders.contains(&if turned { order.reverse() } else { order });
        (same || turned) && !self.orders.iter().any(|&order| theirs(order))
    }
}

/// The comparisons that all must hold for a test to come out as wanted.
fn comparisons(handler: &HandlerView<'_, '_>, test: ExprId, wanted: bool) -> Vec<Comparison> {
    use Ordering::{Equal, Greater, Less};
    let (op, left, right) = match handler.unit.tree.expr(test).kind {
        ExprKind::Unary(UnaryOp::Not, inner) => return comparisons(handler, inner, !wanted),
        ExprKind::Binary(op @ (BinaryOp::And | BinaryOp::Or), left, right) if (op == BinaryOp::And) == wanted => {
            let mut all = comparisons(handler, left, wanted);
            all.extend(comparisons(handler, right, wanted));
            return all;
        }
        ExprKind::Binary(op, left, right) => (op, left, right),
        _ => return Vec::new(),
    };
    let mut orders = match op {
        BinaryOp::Less => vec![Less],
        BinaryOp::LessEqual => vec![Less, Equal],
        BinaryOp::Greater => vec![Greater],
        BinaryOp::GreaterEqual => vec![Greater, Equal],
        BinaryOp::Equal => vec![Equal],
        BinaryOp::NotEqual => vec![Less, Greater],
        _ => return Vec::new(),
    };
    if !wanted {
        orders = [Less, Equal, Greater].into_iter().filter(|order| !orders.contains(order)).collect();
    }
    match (operand(handler, left), operand(handler, right)) {
        (Some(left), Some(right)) => vec![Comparison { left, right, orders }],
        _ => Vec::new(),
    }
}

fn operand(handler: &HandlerView<'_, '_>, expr: ExprId) -> Option<Operand> {
    let unit = handler.unit;
    match unit.tree.expr(expr).kind {
        #[allow(clippy::cast_precision_loss, reason = "two such numbers that are equal then are told apart by nobody")]
        ExprKind::Int(value) => Some(Operand::Number(value as f64)),
        ExprKind::Float(value) => Some(Operand::Number(value)),
        _ => match unit.meaning(expr) {
            Meaning::Value(place) => operand_at(handler, place),
            _ => None,
        },
    }
}

fn operand_at(handler: &HandlerView<'_, '_>, place: PlaceId) -> Option<Operand> {
    match handler.unit.place(place) {
        Place::Variable(variable, base @ (Base::One | Base::Own | Base::Listed(_))) => {
            Some(Operand::Variable(variable, base))
        }
        Place::Local(local) => parameter_of(handler, local).map(Operand::Parameter),
        _ => None,
    }
}
