//! `sharing/feedback`: handlers `on changed` set each other off, or themselves, and nothing is certain to end it.

use crate::finding::{Finding, Level, RuleName};
use crate::flow::access::{Access, AccessKind, Body, walk_expr};
use crate::flow::graph::StepKind;
use crate::project::builtin::Builtin;
use crate::project::{CellId, Meaning, Place, ScriptUnit};
use crate::rules::Facts;
use crate::rules::facts::HandlerView;
use crate::rules::{Example, Rule};
use crate::script::ast::*;
use crate::source::Span;

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("sharing/feedback"),
    level: Level::Warning,
    means: "Handlers `on changed` set each other off, or themselves, and nothing is certain to end it.",
    hurts: "The game stands still, or the number runs away.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0

[variables.tide.flow]
type = "int"
scope = "global"
default = 0
"#,
        script: "script tides for tide

on changed height {
    flow = height + 1
}

on changed flow {
    height = flow + 1
}
",
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0

[variables.tide.flow]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on changed height {
    flow = height + 1
}

on changed flow {
    note "{flow}"
}

on bell {
    height += 1
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let handlers: Vec<HandlerView<'_, '_>> =
        facts.handlers().filter(|handler| changed(facts, handler).is_some()).collect();
    let edges: Vec<Vec<Edge>> = handlers.iter().map(|handler| edges(facts, handler, &handlers)).collect();
    let mut findings: Vec<Finding> = Vec::new();
    for circle in circles(&edges) {
        let ends = circle.iter().any(|edge| edge.ends) || circle.iter().all(|edge| edge.copies);
        if ends {
            continue;
        }
        let Some(last) = circle.iter().max_by_key(|edge| handlers[edge.from].id) else { continue };
        let unit = handlers[last.from].unit;
        let at = unit.at(last.at);
        if findings.iter().any(|finding| finding.at == at) {
            continue;
        }
        let names: Vec<String> = circle
            .iter()
            .filter_map(|edge| changed(facts, &handlers[edge.from]))
            .map(|cell| format!("`{}`", facts.cell_name(cell)))
            .collect();
        let message = if names.len() == 1 {
            format!("this answers the change of {} by changing it again, and nothing is certain to end it", names[0])
        } else {
            format!(
                "the changes of {} set each other off in a circle, and nothing is certain to end it",
                names.join(", ")
            )
        };
        let mut finding = Finding::new(RULE.name, at, message);
        finding.variable = facts.project.variable_of(last.cell).map(|id| facts.registry().identity(id));
        findings
            .push(finding.help("let one of the two follow the other, or write only where the value is really another"));
    }
    findings
}

/// A write by which one handler sets off another.
#[derive(Clone, Copy)]
struct Edge {
    from: usize,
    to: usize,
    cell: CellId,
    at: Span,
    /// A second pass writes nothing new, or a test must come to fail.
    ends: bool,
    /// The value is handed on as it is.
    copies: bool,
}

fn changed(facts: &Facts<'_>, handler: &HandlerView<'_, '_>) -> Option<CellId> {
    handler.unit.handlers[handler.index].changed.and_then(|place| facts.project.cell_of(handler.unit, place))
}

fn edges(facts: &Facts<'_>, handler: &HandlerView<'_, '_>, all: &[HandlerView<'_, '_>]) -> Vec<Edge> {
    let from = all.iter().position(|other| other.id == handler.id).unwrap_or(0);
    let mut edges = Vec::new();
    for access in &facts.world.accesses[handler.script.index()] {
        let here = match access.body {
            Body::Handler(index) => index == handler.index,
            Body::Procedure(_) => handler.found.reached.contains_key(&access.statement),
        };
        let AccessKind::Write(op, value) = access.kind else { continue };
        if !here || !handler.found.reached.contains_key(&access.statement) {
            continue;
        }
        for (to, _) in all.iter().enumerate().filter(|(_, other)| changed(facts, other) == Some(access.cell)) {
            let (ends, copies) = outcome(facts, handler, access, op, value);
            edges.push(Edge { from, to, cell: access.cell, at: access.statement, ends, copies });
        }
    }
    edges
}

/// Whether a write brings the circle to an end, and whether it only hands the value on.
fn outcome(
    facts: &Facts<'_>,
    handler: &HandlerView<'_, '_>,
    access: &Access,
    op: AssignOp,
    value: Option<ExprId>,
) -> (bool, bool) {
    let unit = handler.unit;
    let Some(value) = value else { return (true, false) };
    let trigger = changed(facts, handler);
    let copies = op == AssignOp::Set
        && matches!(unit.meaning(value), Meaning::Value(place) if facts.project.cell_of(unit, place) == trigger);
    let depends = op != AssignOp::Set || depends(facts, handler, value, &[trigger, Some(access.cell)], 4);
    let settles = op == AssignOp::Set && settles(facts, unit, access.cell, value);
    (!depends || settles || is_behind_a_failing_test(facts, handler, access), copies)
}

/// Whether a value depends on what changed, or is drawn.
fn depends(facts: &Facts<'_>, handler: &HandlerView<'_, '_>, value: ExprId, on: &[Option<CellId>], depth: u32) -> bool {
    let unit = handler.unit;
    let mut found = false;
    let mut locals = Vec::new();
    walk_expr(unit, value, &mut |expr| match unit.meaning(expr) {
        Meaning::Value(place) | Meaning::Axis(place, _) => match unit.place(place) {
            Place::Was => found = true,
            Place::Local(_) => locals.push(place),
            _ => found |= on.contains(&facts.project.cell_of(unit, place)),
        },
        Meaning::Builtin(Builtin::Random | Builtin::Chance) | Meaning::Procedure(_) => found = true,
        _ => {}
    });
    if depth == 0 {
        return found || !locals.is_empty();
    }
    found
        || handler.graph.blocks.iter().flat_map(|block| &block.steps).any(|step| match &step.kind {
            StepKind::Let { place, value } | StepKind::Assign { place, value, .. } => {
                locals.contains(place) && depends(facts, handler, *value, on, depth - 1)
            }
            _ => false,
        })
}

/// `min(x, …)`, `max(x, …)`, `clamp(x, …)` and the rounding functions of the variable itself: done twice they do no more.
fn settles(facts: &Facts<'_>, unit: &ScriptUnit, cell: CellId, value: ExprId) -> bool {
    let ExprKind::Call(_, arguments) = &unit.tree.expr(value).kind else { return false };
    let known = matches!(
        unit.meaning(value),
        Meaning::Builtin(
            Builtin::Min
                | Builtin::Max
                | Builtin::Clamp
                | Builtin::Floor
                | Builtin::Ceil
                | Builtin::Round
                | Builtin::Abs
        )
    );
    let plain = |&argument: &ExprId| {
        unit.place_of(argument).is_some_and(|place| facts.project.cell_of(unit, place) == Some(cell))
    };
    let others = arguments.iter().filter(|argument| !plain(argument)).all(|&argument| {
        let mut reads = false;
        walk_expr(unit, argument, &mut |expr| {
            reads |= unit.place_of(expr).is_some_and(|place| facts.project.cell_of(unit, place) == Some(cell))
        });
        !reads
    });
    known && arguments.iter().any(plain) && others
}

/// Whether the write stands behind a comparison of a variable of the circle that its own steps bring to fail.
fn is_behind_a_failing_test(facts: &Facts<'_>, handler: &HandlerView<'_, '_>, access: &Access) -> bool {
    let unit = handler.unit;
    let mut tests: Vec<ExprId> = handler.tree.when.into_iter().collect();
    walk(&handler.tree.body, &mut |statement| {
        if let StatementKind::If { arms, .. } = &statement.kind {
            for arm in arms.iter().filter(|arm| arm.body.span.contains(access.statement)) {
                tests.push(arm.tests[0]);
            }
        }
    });
    let rising = match access.kind {
        AccessKind::Write(AssignOp::Add, Some(value)) => sign(unit, value),
        AccessKind::Write(AssignOp::Subtract, Some(value)) => -sign(unit, value),
        AccessKind::Write(AssignOp::Set, Some(value)) => match &unit.tree.expr(value).kind {
            ExprKind::Binary(BinaryOp::Add, _, right) => sign(unit, *right),
            ExprKind::Binary(BinaryOp::Subtract, _, right) => -sign(unit, *right),
            _ => 0,
        },
        _ => 0,
    };
    tests.into_iter().any(|test| {
        let mut fails = false;
        walk_expr(unit, test, &mut |expr| {
            if let ExprKind::Binary(op, left, right) = &unit.tree.expr(expr).kind {
                let own = |side: ExprId| {
                    unit.place_of(side).is_some_and(|place| facts.project.cell_of(unit, place) == Some(access.cell))
                };
                let upper = matches!(op, BinaryOp::Less | BinaryOp::LessEqual);
                let lower = matches!(op, BinaryOp::Greater | BinaryOp::GreaterEqual);
                fails |= own(*left) && (upper && rising > 0 || lower && rising < 0);
                fails |= own(*right) && (lower && rising > 0 || upper && rising < 0);
            }
        });
        fails
    })
}

/// The sign of a literal.
fn sign(unit: &ScriptUnit, value: ExprId) -> i32 {
    match &unit.tree.expr(value).kind {
        ExprKind::Int(value) => i32::from(*value > 0) - i32::from(*value < 0),
        ExprKind::Float(value) => i32::from(*value > 0.0) - i32::from(*value < 0.0),
        ExprKind::Unary(UnaryOp::Minus, inner) => -sign(unit, *inner),
        _ => 0,
    }
}

/// Simple circles, each found from its first handler, up to eight handlers long.
fn circles(edges: &[Vec<Edge>]) -> Vec<Vec<Edge>> {
    let mut found = Vec::new();
    for start in 0..edges.len() {
        let mut path: Vec<Edge> = Vec::new();
        extend(edges, start, start, &mut path, &mut found);
    }
    found
}

fn extend(edges: &[Vec<Edge>], start: usize, at: usize, path: &mut Vec<Edge>, found: &mut Vec<Vec<Edge>>) {
    if path.len() >= 8 || found.len() >= 1000 {
        return;
    }
    for &edge in &edges[at] {
        path.push(edge);
        if edge.to == start {
            found.push(path.clone());
        } else if edge.to > start && !path.iter().any(|other| other.from == edge.to) {
            extend(edges, start, edge.to, path, found);
        }
        path.pop();
    }
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn two_that_push_each_other_on() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
engine = "reads"
[variables.tide.flow]
type = "int"
scope = "global"
default = 0
engine = "reads"
"#,
            &[r#"script tides for tide

on changed height {
    flow = height + 1
}

on changed flow {
    height = flow + 1 // ~ sharing/feedback
}

on bell {
    height += 1
}
"#],
        );
    }

    #[test]
    fn circles_that_come_to_an_end() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
engine = "reads"
[variables.tide.flow]
type = "int"
scope = "global"
default = 0
engine = "reads"
"#,
            &[r#"script tides for tide

on changed height {
    flow = height
    if height < 10 {
        height += 1
    }
}

on changed flow {
    height = min(height, 10)
}

on bell {
    height += 1
}
"#],
        );
    }
}
