//! `range/hardcoded-limit`: a number in a script that is a variable's bound.

use crate::finding::{Finding, Level, RuleName};
use crate::flow::access::walk_expr;
use crate::flow::graph::StepKind;
use crate::project::builtin::Builtin;
use crate::project::{Meaning, Place, ScriptUnit};
use crate::registry::read::bound_at_start;
use crate::registry::{Bound, End};
use crate::rules::Facts;
use crate::rules::{Example, Rule};
use crate::script::ast::{AssignOp, BinaryOp, ExprId, ExprKind, UnaryOp};
use rustc_hash::FxHashSet;

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("range/hardcoded-limit"),
    level: Level::Note,
    means: "A number in a script that is a variable's bound.",
    hurts: "The cap is typed in five places, and the designer changes four.",
    bad: Example {
        registry: r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = 20
engine = "reads"
"#,
        script: "script loading for mailboat in harbor

on bell {
    if parcels < 20 {
        parcels += 1
    }
}
",
    },
    good: Example {
        registry: r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = 20
engine = "reads"
"#,
        script: "script loading for mailboat in harbor

on bell {
    if parcels < parcels.max {
        parcels += 1
    }
}
",
    },
    check: Some(check),
};

/// A number and a variable that it may be a bound of.
struct Beside {
    variable: ExprId,
    number: ExprId,
    /// Which ends it can mean where it stands.
    ends: &'static [End],
}

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (script, unit) in facts.project.script_ids() {
        let mut pairs: Vec<Beside> = Vec::new();
        for (at, expr) in unit.tree.exprs.iter().enumerate() {
            match &expr.kind {
                ExprKind::Binary(op, left, right) if op.is_comparison() => {
                    in_comparison(unit, *left, *right, &mut pairs)
                }
                ExprKind::Binary(BinaryOp::Subtract, all, taken) => room_left(unit, *all, *taken, &mut pairs),
                ExprKind::Call(_, arguments) => in_call(unit, unit.meanings[at], arguments, &mut pairs),
                _ => {}
            }
        }
        let graphs = &facts.world.graphs[script.index()];
        for step in graphs.handlers.iter().chain(&graphs.procedures).flat_map(|g| &g.blocks).flat_map(|b| &b.steps) {
            if let StepKind::Assign { target, op: AssignOp::Set, value, .. } = &step.kind {
                in_assignment(unit, *target, *value, &mut pairs);
            }
        }
        let mut told: FxHashSet<ExprId> = FxHashSet::default();
        for beside in pairs {
            if !told.contains(&beside.number)
                && let Some(finding) = judge(facts, unit, &beside)
            {
                told.insert(beside.number);
                findings.push(finding);
            }
        }
    }
    findings
}

/// What is added up in an expression: each with whether it is taken away.
fn addends(unit: &ScriptUnit, expr: ExprId, taken: bool, into: &mut Vec<(ExprId, bool)>) {
    match &unit.tree.expr(expr).kind {
        ExprKind::Binary(op @ (BinaryOp::Add | BinaryOp::Subtract), left, right) => {
            addends(unit, *left, taken, into);
            addends(unit, *right, taken != (*op == BinaryOp::Subtract), into);
        }
        _ => into.push((expr, taken)),
    }
}

/// `x < 20`, `x + n <= 20` before something is put in, be that a number too, and `x - n >= 5` before something is taken out.
fn in_comparison(unit: &ScriptUnit, left: ExprId, right: ExprId, pairs: &mut Vec<Beside>) {
    let mut all = Vec::new();
    addends(unit, left, false, &mut all);
    addends(unit, right, true, &mut all);
    let (numbers, others): (Vec<_>, Vec<_>) = all.into_iter().partition(|&(expr, _)| literal(unit, expr).is_some());
    for side in [false, true] {
        let mut against = numbers.iter().filter(|&&(_, taken)| taken != side);
        let (Some(&(number, _)), None) = (against.next(), against.next()) else { continue };
        let facing = others.iter().filter(|&&(_, taken)| taken == side);
        let ends: &[End] = match (facing.clone().count(), others.len(), numbers.len()) {
            (1, 1, 1) => &[End::Max, End::Min],
            (all, other, _) if all == other => &[End::Max],
            (1, _, 1) => &[End::Min],
            _ => &[],
        };
        pairs.extend(facing.map(|&(variable, _)| Beside { variable, number, ends }));
    }
}

/// `20 - x`: the room that is left.
fn room_left(unit: &ScriptUnit, number: ExprId, taken: ExprId, pairs: &mut Vec<Beside>) {
    let mut parts = Vec::new();
    addends(unit, taken, false, &mut parts);
    let added = parts.into_iter().filter(|&(_, taken)| !taken);
    pairs.extend(added.map(|(variable, _)| Beside { variable, number, ends: &[End::Max] }));
}

/// A number that a variable is given, or that what it is given is held against.
fn in_assignment(unit: &ScriptUnit, variable: ExprId, value: ExprId, pairs: &mut Vec<Beside>) {
    match &unit.tree.expr(value).kind {
        ExprKind::Call(_, arguments) if is_limit(unit.meaning(value)) || is_rounding(unit.meaning(value)) => {
            arguments.iter().for_each(|&argument| in_assignment(unit, variable, argument, pairs));
        }
        ExprKind::Binary(BinaryOp::Subtract, all, _) => {
            pairs.push(Beside { variable, number: *all, ends: &[End::Max] });
        }
        _ => pairs.push(Beside { variable, number: value, ends: &[End::Max, End::Min] }),
    }
}

fn is_limit(meaning: Meaning) -> bool {
    matches!(meaning, Meaning::Builtin(Builtin::Clamp | Builtin::Min | Builtin::Max))
}

fn is_rounding(meaning: Meaning) -> bool {
    matches!(meaning, Meaning::Builtin(Builtin::Floor | Builtin::Ceil | Builtin::Round))
}

fn in_call(unit: &ScriptUnit, meaning: Meaning, arguments: &[ExprId], pairs: &mut Vec<Beside>) {
    if !is_limit(meaning) {
        return;
    }
    for &number in arguments.iter().filter(|&&number| literal(unit, number).is_some()) {
        for &other in arguments.iter().filter(|&&other| other != number) {
            let ends = &[End::Max, End::Min];
            walk_expr(unit, other, &mut |variable| pairs.push(Beside { variable, number, ends }));
        }
    }
}

/// A number beside a variable whose bound it is.
fn judge(facts: &Facts<'_>, unit: &ScriptUnit, beside: &Beside) -> Option<Finding> {
    let &Beside { variable, number, ends } = beside;
    let registry = facts.registry();
    let Meaning::Value(place) = unit.meaning(variable) else { return None };
    let Place::Variable(id, _) = unit.place(place) else { return None };
    let value = literal(unit, number)?;
    for &end in ends {
        let Some(bound) = registry.var(id).bound(end) else { continue };
        let is_bound = bound_at_start(bound, registry) == Some(value);
        let telling = matches!(bound, Bound::Variable(_)) || ![-1.0, 0.0, 1.0].contains(&value);
        if is_bound && telling {
            let name = facts.project.text(unit, unit.tree.expr(variable).span);
            let instead = match bound {
                Bound::Variable(other) => registry.identity(*other),
                Bound::Number(_) => format!("{name}.{}", end.word()),
            };
            let message = format!(
                "{} is the `{}` of `{}`, written out",
                crate::words::number(value),
                end.word(),
                registry.identity(id)
            );
            let at = unit.at(unit.tree.expr(number).span);
            let cure = if matches!(bound, Bound::Variable(_)) {
                format!("write `{name}.{}`, or name `{instead}`", end.word())
            } else {
                format!("write `{instead}`")
            };
            return Some(
                Finding::new(RULE.name, at, message)
                    .about(registry.identity(id))
                    .help(format!("{cure}: it then follows the registry")),
            );
        }
    }
    None
}

fn literal(unit: &ScriptUnit, expr: ExprId) -> Option<f64> {
    #[allow(clippy::cast_precision_loss, reason = "a value compared with a bound")]
    match &unit.tree.expr(expr).kind {
        ExprKind::Int(value) => Some(*value as f64),
        ExprKind::Float(value) => Some(*value),
        ExprKind::Unary(UnaryOp::Minus, inner) => literal(unit, *inner).map(|value| -value),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn bounds_are_named_not_typed() {
        expect(
            r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = "mailboat.hold_size"
engine = "reads"

[variables.mailboat.hold_size]
type = "int"
scope = "instance"
default = 20
constant = true

[variables.mailboat.oil]
type = "number"
scope = "instance"
default = 50
min = 0
max = 100
engine = "reads"
"#,
            &[r#"script loading for mailboat in harbor

on bell {
    if parcels < 20 { // ~ range/hardcoded-limit
        parcels = min(parcels + 1, hold_size)
    }
    oil = clamp(oil, 0, 100) // ~ range/hardcoded-limit
    oil = min(oil, oil.max)
}
"#],
        );
    }
    #[test]
    fn also_with_something_added_to_it_and_as_the_room_that_is_left() {
        expect(
            r#"[variables.mailboat]
parcels = { type = "int", scope = "instance", default = 5, min = 5, max = 20, engine = "reads" }
"#,
            &[r#"script loading for mailboat in harbor

on bell {
    load(random(1, 9), random(1, 3))
}

proc load(n: int, step: int) {
    if parcels + n > 20 { // ~ range/hardcoded-limit
        let room = 20 - parcels // ~ range/hardcoded-limit
        parcels = parcels + room
    } else if parcels - n < 5 { // ~ range/hardcoded-limit
        parcels = max(n, 5) // ~ range/hardcoded-limit
    }
    parcels = clamp(parcels + floor(20 / step), parcels.min, parcels.max)
    if parcels + 3 > 20 { // ~ range/hardcoded-limit
        show "Room for two at most."
    } else if parcels + 20 > 35 {
        show "Much of it is taken."
    }
    if parcels - n > 20 - step {
        show "That is how far it came, not how far it may go."
    }
}
"#],
        );
    }
}
