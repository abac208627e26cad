//! `range/display-clamp-only`: a text clamps a variable that itself can go beyond.

use crate::finding::{Finding, Level, RuleName};
use crate::flow::access::walk_behind;
use crate::flow::value::Value;
use crate::project::builtin::Builtin;
use crate::project::{CellId, Meaning, ScriptUnit};
use crate::rules::Facts;
use crate::rules::{Example, Rule};
use crate::script::ast::{BinaryOp, ExprId, ExprKind, TextPart, UnaryOp};
use rustc_hash::FxHashSet;

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("range/display-clamp-only"),
    level: Level::Warning,
    means: "A text clamps a variable that itself can go beyond.",
    hurts: "The screen says 100 and the game reckons with 140.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on bell {
    height += 1
    show "{min(height, 5)}"
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
max = 5
overflow = "clamp"
"#,
        script: r#"script tides for tide

on bell {
    height += 1
    show "{min(height, 5)}"
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for unit in &facts.project.scripts {
        let texts = unit
            .tree
            .exprs
            .iter()
            .filter_map(|expr| if let ExprKind::Text(parts) = &expr.kind { Some(parts) } else { None });
        for part in texts.flatten() {
            let TextPart::Token { value, span, .. } = part else { continue };
            let mut shown = Vec::new();
            walk_behind(unit, *value, &mut |inner| shown.push(inner));
            let divisors = divisors(unit, &shown);
            let mut clamped = shown.into_iter().filter(|inner| !divisors.contains(inner));
            if let Some(cell) = clamped.find_map(|inner| clamp(facts, unit, inner)) {
                let name = facts.cell_name(cell);
                let mut finding = Finding::new(
                    RULE.name,
                    unit.at(*span),
                    format!(
                        "the text shows `{name}` cut to a range that `{name}` itself can leave: the game goes on with the other number"
                    ),
                );
                finding.variable = facts.project.variable_of(cell).map(|_| name.clone());
                findings.push(finding.help("cut the variable itself where it is changed, and show it as it is"));
            }
        }
    }
    findings
}

/// What stands in divisors: `max(crew, 1)` there keeps clear of zero, and is not what the screen shows.
fn divisors(unit: &ScriptUnit, shown: &[ExprId]) -> FxHashSet<ExprId> {
    let mut all = FxHashSet::default();
    for &expr in shown {
        if let ExprKind::Binary(BinaryOp::Divide | BinaryOp::Remainder, _, divisor) = unit.tree.expr(expr).kind {
            walk_behind(unit, divisor, &mut |inner| {
                all.insert(inner);
            });
        }
    }
    all
}

/// The variable that a call clamps, if it can lie beyond.
fn clamp(facts: &Facts<'_>, unit: &ScriptUnit, expr: ExprId) -> Option<CellId> {
    let ExprKind::Call(_, arguments) = &unit.tree.expr(expr).kind else { return None };
    let Meaning::Builtin(builtin) = unit.meaning(expr) else { return None };
    let (low, high) = match (builtin, arguments.len()) {
        (Builtin::Clamp, 3) => (range(facts, unit, arguments[1]), range(facts, unit, arguments[2])),
        (Builtin::Min, 2) => (None, range(facts, unit, arguments[1]).or(range(facts, unit, arguments[0]))),
        (Builtin::Max, 2) => (range(facts, unit, arguments[1]).or(range(facts, unit, arguments[0])), None),
        _ => return None,
    };
    let cells = arguments.iter().filter_map(|&argument| match unit.meaning(argument) {
        Meaning::Value(place) => facts.project.cell_of(unit, place).filter(|&cell| facts.is_written(cell)),
        _ => None,
    });
    cells.into_iter().find(|cell| match &facts.world.reach[cell.index()] {
        Value::Num(reach) if !reach.is_empty() => {
            high.is_some_and(|high| reach.hi > high.1) || low.is_some_and(|low| reach.lo < low.0)
        }
        _ => false,
    })
}

/// The range of a limit: a number, a bound, or what is never written.
fn range(facts: &Facts<'_>, unit: &ScriptUnit, expr: ExprId) -> Option<(f64, f64)> {
    #[allow(clippy::cast_precision_loss, reason = "a limit of a display")]
    match &unit.tree.expr(expr).kind {
        ExprKind::Int(value) => return Some((*value as f64, *value as f64)),
        ExprKind::Float(value) => return Some((*value, *value)),
        ExprKind::Unary(UnaryOp::Minus, inner) => return range(facts, unit, *inner).map(|(lo, hi)| (-hi, -lo)),
        _ => {}
    }
    let cell = match unit.meaning(expr) {
        Meaning::Value(place) => facts.project.cell_of(unit, place).filter(|&cell| !facts.is_written(cell))?,
        _ => return None,
    };
    match &facts.world.reach[cell.index()] {
        Value::Num(reach) if !reach.is_empty() => Some((reach.lo, reach.hi)),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn the_screen_hides_what_the_game_uses() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
engine = "reads"
"#,
            &[r#"script tides for tide

on bell {
    height += 1
    show "{min(height, 5)}" // ~ range/display-clamp-only
    show "{60 / max(height, 1):1} and {height % max(height, 2)}"
    show "{max(height, 0)}"
}
"#],
        );
    }

    #[test]
    fn only_what_can_leave_the_range_that_is_shown() {
        expect(
            r#"[variables.tide]
depth = { type = "int", scope = "global", default = 3, min = 0, max = 9, engine = "both" }
warmth = { type = "number", scope = "global", default = 0, min = 0, max = 50, engine = "both" }
"#,
            &[r#"script tides for tide

on bell {
    show "{max(depth, 1)}" // ~ range/display-clamp-only
    show "{min(depth, 9)} and {clamp(warmth, 0, 50):1}"
    show "{clamp(warmth, 0, 40):1}" // ~ range/display-clamp-only
    show "{max(depth - 2, 0)} left"
}
"#],
        );
    }
}
