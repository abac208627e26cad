//! `sharing/stale-ref`: a copy of a `ref` is kept while the `ref` itself is given to somebody else.

use super::bodies::Bodies;
use crate::finding::{Finding, Level, RuleName};
use crate::flow::access::{Access, Body};
use crate::flow::graph::StepKind;
use crate::project::{CellId, Meaning};
use crate::registry::Type;
use crate::rules::Facts;
use crate::rules::facts::HandlerView;
use crate::rules::{Example, Rule};
use crate::script::ast::{AssignOp, Trigger};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("sharing/stale-ref"),
    level: Level::Warning,
    means: "A copy of a `ref` is kept while the `ref` itself is given to somebody else.",
    hurts: "The script goes on with whoever was meant before.",
    bad: Example {
        registry: r#"[variables.office.called]
type = "ref"
of = "mailboat"
scope = "global"

[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = 20
engine = "reads"
"#,
        script: r#"script desk for office

private known: mailboat

on start {
    known = called
}

on bell {
    if known is not none {
        note "{known.parcels}"
    }
}

on touched(other) {
    if other is mailboat {
        called = other
    }
}
"#,
    },
    good: Example {
        registry: r#"[variables.office.called]
type = "ref"
of = "mailboat"
scope = "global"

[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = 20
engine = "reads"
"#,
        script: r#"script desk for office

on bell {
    if called is not none {
        note "{called.parcels}"
    }
}

on touched(other) {
    if other is mailboat {
        called = other
    }
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for handler in
        facts.handlers().filter(|h| matches!(h.tree.trigger, Trigger::Start | Trigger::Spawn | Trigger::Enter))
    {
        let bodies = Bodies::new(facts, handler);
        for step in bodies.steps() {
            let StepKind::Assign { place, op: AssignOp::Set, value, .. } = &step.kind else { continue };
            let Meaning::Value(from) = handler.unit.meaning(bodies.behind(*value)) else { continue };
            let cells = facts.project.cell_of(handler.unit, *place).zip(facts.project.cell_of(handler.unit, from));
            let Some((copy, original)) = cells.filter(|(copy, original)| copy != original) else { continue };
            let is_ref = matches!(handler.unit.place_types[from.index()], Type::Ref(_));
            if is_ref
                && used_elsewhere(facts, &handler, copy)
                && moves(facts, &handler, original)
                && !follows(facts, copy, original)
            {
                let (copy, original) = (facts.place_name(handler.unit, *place), facts.place_name(handler.unit, from));
                let message = format!(
                    "`{copy}` is copied from `{original}` here, and `{original}` is given to others later: `{copy}` then still means the first"
                );
                let finding = Finding::new(RULE.name, handler.unit.at(step.span), message);
                findings.push(finding.help(format!(
                    "read `{original}` where it is needed, or copy it again in `on changed {original}`"
                )));
            }
        }
    }
    findings
}

fn used_elsewhere(facts: &Facts<'_>, handler: &HandlerView<'_, '_>, cell: CellId) -> bool {
    facts.uses_by_id(cell).any(|(script, access)| {
        !access.writes() && (script, access.body) != (handler.script, Body::Handler(handler.index))
    })
}

fn moves(facts: &Facts<'_>, handler: &HandlerView<'_, '_>, cell: CellId) -> bool {
    facts.uses_by_id(cell).any(|(script, access)| {
        access.writes() && (script, access.body) != (handler.script, Body::Handler(handler.index))
    })
}

/// Whether an `on changed` of the original copies it again.
fn follows(facts: &Facts<'_>, copy: CellId, original: CellId) -> bool {
    facts.handlers().any(|handler| {
        let changed =
            handler.unit.handlers[handler.index].changed.and_then(|place| facts.project.cell_of(handler.unit, place));
        let reached = |access: &Access| handler.found.reached.contains_key(&access.statement);
        changed == Some(original)
            && facts
                .uses_by_id(copy)
                .any(|(script, access)| access.writes() && script == handler.script && reached(access))
    })
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn a_copy_that_is_made_again_is_fresh() {
        expect(
            r#"[variables.office.called]
type = "ref"
of = "mailboat"
scope = "global"
engine = "reads"
"#,
            &[r#"script desk for office

private known: mailboat

on start {
    known = called
}

on changed called {
    known = called
}

on bell {
    if known is none {
        note "nobody"
    }
}

on touched(other: mailboat) {
    called = other
}
"#],
        );
    }

    #[test]
    fn a_copy_may_go_by_a_let_or_a_procedure() {
        expect(
            "[variables.office.called]\ntype = \"ref\"\nof = \"mailboat\"\nscope = \"global\"\nengine = \"reads\"\n",
            &[r#"script desk for office

private known: mailboat
private first: mailboat

on start {
    let now = called
    known = now // ~ sharing/stale-ref
    keep()
}

proc keep() {
    first = called // ~ sharing/stale-ref
}

on bell {
    if known is none and first is none {
        note "nobody"
    }
}

on touched(other: mailboat) {
    called = other
}
"#],
        );
    }
}
