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
use crate::script::ast::{AssignOp, ExprId, ExprKind, UnaryOp};

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

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (script, unit) in facts.project.script_ids() {
        for (at, expr) in unit.tree.exprs.iter().enumerate() {
            match &expr.kind {
                ExprKind::Binary(op, left, right) if op.is_comparison() => {
                    findings.extend(judge(facts, unit, *left, *right).or_else(|| judge(facts, unit, *right, *left)));
                }
                ExprKind::Call(_, arguments) => findings.extend(in_call(facts, unit, unit.meanings[at], arguments)),
                _ => {}
            }
        }
        let graphs = &facts.world.graphs[script.index()];
        for step in graphs.handlers.iter().chain(&graphs.procedures).flat_map(|g| &g.blocks).flat_map(|b| &b.steps) {
            if let StepKind::Assign { target, op: AssignOp::Set, value, .. } = &step.kind {
                findings.extend(judge(facts, unit, *target, *value));
            }
        }
    }
    findings
}

fn in_call(facts: &Facts<'_>, unit: &ScriptUnit, meaning: Meaning, arguments: &[ExprId]) -> Vec<Finding> {
    if !matches!(meaning, Meaning::Builtin(Builtin::Clamp | Builtin::Min | Builtin::Max)) {
        return Vec::new();
    }
    let mut found = Vec::new();
    for &number in arguments {
        let mut variables = Vec::new();
        for &other in arguments.iter().filter(|&&other| other != number) {
            walk_expr(unit, other, &mut |inner| variables.push(inner));
        }
        found.extend(variables.into_iter().find_map(|variable| judge(facts, unit, variable, number)));
    }
    found
}

/// A number beside a variable whose bound it is.
fn judge(facts: &Facts<'_>, unit: &ScriptUnit, variable: ExprId, number: ExprId) -> Option<Finding> {
    let registry = facts.registry();
    let Meaning::Value(place) = unit.meaning(variable) else { return None };
    let Place::Variable(id, _) = unit.place(place) else { return None };
    let value = literal(unit, number)?;
    for end in [End::Max, End::Min] {
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
}
