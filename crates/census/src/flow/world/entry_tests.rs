//! The tests that must come out as given for a handler to do anything.

use super::super::access::walk_expr;
use super::*;

/// How many procedures deep the tests are looked for that come before all else.
const MOST_CALLED_ON_ENTRY: u32 = 4;

/// How many tests are looked behind.
const MOST_ENTRY_TESTS: usize = 16;

/// The tests that must come out as given for a handler to do anything: its `when`, early returns, and an `if` around all.
/// What is only shown or noted on the way does not count.
#[must_use]
pub fn entry_tests(unit: &ScriptUnit, handler: &Handler) -> Option<Vec<(ExprId, bool)>> {
    let mut tests: Vec<(ExprId, bool)> = handler.when.iter().map(|&when| (when, true)).collect();
    tests_on_entry(unit, &handler.body.statements, MOST_CALLED_ON_ENTRY, &mut tests);
    look_behind_names(unit, &mut tests);
    (!tests.is_empty()).then_some(tests)
}

/// Puts what stands behind the names of `let`s in their place, also of those that a test joins by `and`.
fn look_behind_names(unit: &ScriptUnit, tests: &mut Vec<(ExprId, bool)>) {
    let mut at = 0;
    while at < tests.len().min(MOST_ENTRY_TESTS) {
        let (test, wanted) = tests[at];
        match unit.tree.expr(test).kind {
            ExprKind::Path(_) if unit.behind(test) != test => tests[at].0 = unit.behind(test),
            ExprKind::Unary(UnaryOp::Not, inner) if unit.behind(inner) != inner => {
                tests[at] = (unit.behind(inner), !wanted);
            }
            ExprKind::Binary(op @ (BinaryOp::And | BinaryOp::Or), left, right) if (op == BinaryOp::And) == wanted => {
                let named = [left, right].into_iter().filter(|&part| unit.behind(part) != part);
                tests.extend(named.map(|part| (unit.behind(part), wanted)));
                at += 1;
            }
            _ => at += 1,
        }
    }
}

fn tests_on_entry(unit: &ScriptUnit, statements: &[Statement], depth: u32, tests: &mut Vec<(ExprId, bool)>) {
    let tells_only = |statement: &Statement| tells_only(unit, statement);
    for (at, statement) in statements.iter().enumerate() {
        let last = at + 1 == statements.len();
        let StatementKind::If { arms, otherwise } = &statement.kind else {
            if tells_only(statement) {
                continue;
            }
            if let (StatementKind::Call(call), true, 1..) = (&statement.kind, last, depth)
                && let Meaning::Procedure(id) = unit.meaning(*call)
            {
                tests_on_entry(unit, &unit.tree.procedures[id.index()].body.statements, depth - 1, tests);
            }
            return;
        };
        let returns = |arm: &Arm| match arm.body.statements.split_last() {
            Some((end, rest)) => matches!(end.kind, StatementKind::Return(None)) && rest.iter().all(tells_only),
            None => false,
        };
        let idle = |block: &Block| block.statements.iter().all(tells_only);
        match (&arms[..], otherwise) {
            (all, None) if all.iter().all(returns) => tests.extend(all.iter().map(|arm| (arm.tests[0], false))),
            ([arm], Some(otherwise)) if last && (returns(arm) || idle(&arm.body)) => {
                tests.push((arm.tests[0], false));
                return tests_on_entry(unit, &otherwise.statements, depth, tests);
            }
            ([arm], otherwise) if last && otherwise.as_ref().is_none_or(idle) => {
                tests.push((arm.tests[0], true));
                return tests_on_entry(unit, &arm.body.statements, depth, tests);
            }
            _ => return,
        }
    }
}

/// Whether a statement changes nothing that a handler could be kept from.
fn tells_only(unit: &ScriptUnit, statement: &Statement) -> bool {
    let (StatementKind::Note { text: value }
    | StatementKind::Show { text: value, .. }
    | StatementKind::Let { value, .. }) = statement.kind
    else {
        return matches!(statement.kind, StatementKind::Hide { .. });
    };
    let mut calls = false;
    walk_expr(unit, value, &mut |inner| calls |= matches!(unit.meaning(inner), Meaning::Procedure(_)));
    !calls
}
