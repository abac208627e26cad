//! `flow/match-gap`: a `match` on an enum leaves values out and has no `else`.

use crate::finding::{Finding, Level, RuleName};
use crate::project::ScriptUnit;
use crate::registry::{Type, VarId};
use crate::rules::Facts;
use crate::rules::{Example, Rule};
use crate::script::ast::*;
use crate::source::Span;

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("flow/match-gap"),
    level: Level::Note,
    means: "A `match` on an enum leaves values out and has no `else`.",
    hurts: "When the value is one of those, nothing happens, and nobody decided that.",
    bad: Example {
        registry: r#"[variables.tide.phase]
type = "enum"
scope = "global"
values = ["ebb", "flood"]
default = "ebb"
"#,
        script: r#"script tides for tide

on bell {
    match phase {
        "ebb" { phase = "flood" }
    }
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.phase]
type = "enum"
scope = "global"
values = ["ebb", "flood"]
default = "ebb"
"#,
        script: r#"script tides for tide

on bell {
    match phase {
        "ebb" { phase = "flood" }
        "flood" { phase = "ebb" }
    }
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for unit in &facts.project.scripts {
        let bodies = unit.tree.handlers.iter().map(|handler| &handler.body);
        for body in bodies.chain(unit.tree.procedures.iter().map(|procedure| &procedure.body)) {
            walk(body, &mut |statement| {
                if let StatementKind::Match { subject, arms, otherwise: None } = &statement.kind
                    && let Type::Enum(of) = unit.ty(*subject)
                {
                    findings.extend(gap(facts, unit, *subject, arms, of, statement.span));
                }
            });
        }
    }
    findings
}

fn gap(facts: &Facts<'_>, unit: &ScriptUnit, subject: ExprId, arms: &[Arm], of: VarId, span: Span) -> Option<Finding> {
    let handled: Vec<&str> = arms
        .iter()
        .flat_map(|arm| &arm.tests)
        .filter_map(|&test| match &unit.tree.expr(test).kind {
            ExprKind::Text(parts) => match &parts[..] {
                [TextPart::Plain(text)] => Some(text.as_str()),
                _ => None,
            },
            _ => None,
        })
        .collect();
    let values: Vec<&str> = facts.registry().var(of).values.iter().map(|value| &**value).collect();
    let missing: Vec<&str> = values.iter().copied().filter(|value| !handled.contains(value)).collect();
    // An arm for what is no value of it is told of, and may be the one that is missing.
    let is_one = |value: &&str| values.contains(value);
    if missing.is_empty() || !handled.iter().all(is_one) {
        return None;
    }
    let head = Span { start: span.start, end: unit.tree.expr(subject).span.end };
    let name = facts.project.text(unit, unit.tree.expr(subject).span);
    let message = format!("when `{name}` is {}, this does nothing", crate::words::either(&missing));
    let finding = Finding::new(RULE.name, unit.at(head), message).help("add an arm for it, or an `else` that says so");
    Some(Finding { variable: unit.place_of(subject).and_then(|place| facts.identity_of(unit, place)), ..finding })
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn values_left_out() {
        expect(
            r#"[variables.tide.phase]
type = "enum"
scope = "global"
values = ["ebb", "flood", "slack"]
default = "ebb"
engine = "both"
"#,
            &[r#"script tides for tide

on bell {
    match phase { // ~ flow/match-gap
        "ebb" { note "x" }
    }
    match phase {
        "ebb", "flood" { note "x" }
        else { note "y" }
    }
}
"#],
        );
    }
}
