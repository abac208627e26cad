//! `sharing/last-writer-wins`: every instance of an actor sets one shared variable in answer to one trigger, each to a value of its own.

use crate::finding::{Finding, Level, RuleName};
use crate::flow::access::{builds_on, walk_expr};
use crate::flow::graph::StepKind;
use crate::project::builtin::Builtin;
use crate::project::{Base, Meaning, Place, PlaceId};
use crate::rules::Facts;
use crate::rules::facts::HandlerView;
use crate::rules::{Example, Rule};
use crate::script::ast::*;
use crate::source::Span;
use rustc_hash::FxHashSet;

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("sharing/last-writer-wins"),
    level: Level::Warning,
    means: "Every instance of an actor sets one shared variable in answer to one trigger, each to a value of its own.",
    hurts: "Whoever is asked last decides, and that is whoever was made last.",
    bad: Example {
        registry: r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = 20
engine = "reads"

[variables.tide.heaviest]
type = "int"
scope = "global"
default = 0
writers = ["mailboat"]
engine = "reads"
"#,
        script: "script loading for mailboat in harbor

on bell {
    tide.heaviest = parcels
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

[variables.tide.heaviest]
type = "int"
scope = "global"
default = 0
writers = ["mailboat"]
engine = "reads"
"#,
        script: "script loading for mailboat in harbor

on bell {
    tide.heaviest = max(tide.heaviest, parcels)
}
",
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let registry = facts.registry();
    let mut findings = Vec::new();
    for handler in facts.handlers() {
        if !handler.unit.owner.is_some_and(|owner| registry.is_many(owner)) || !reaches_all(facts, &handler) {
            continue;
        }
        for step in handler.graph.blocks.iter().flat_map(|block| &block.steps) {
            let StepKind::Assign { place, op: AssignOp::Set, value, .. } = &step.kind else { continue };
            let Place::Variable(id, Base::One) = handler.unit.place(*place) else { continue };
            if builds_on(handler.unit, *place, *value) {
                continue;
            }
            let differs = differs(facts, &handler, *value) || constants_differ(facts, &handler, *place, step.span);
            if differs {
                let (name, actor) =
                    (registry.identity(id), handler.unit.owner.map_or("", |owner| &*registry.owner(owner).name));
                let message = format!(
                    "every `{actor}` sets `{name}` here, each to a value of its own: the last one asked decides"
                );
                findings.push(
                    Finding::new(RULE.name, handler.unit.at(step.span), message)
                        .about(name.clone())
                        .help(format!("gather them, `{name} = max({name}, …)` or `+=`, or let one script decide")),
                );
            }
        }
    }
    findings
}

/// Whether one trigger begins the handler for every instance.
fn reaches_all(facts: &Facts<'_>, handler: &HandlerView<'_, '_>) -> bool {
    let resolved = &handler.unit.handlers[handler.index];
    match &handler.tree.trigger {
        Trigger::Start | Trigger::Enter | Trigger::Leave | Trigger::Tick | Trigger::Every(_) => true,
        Trigger::Changed(_) => {
            resolved.changed.is_some_and(|place| matches!(handler.unit.place(place), Place::Variable(_, Base::One)))
        }
        Trigger::Signal { .. } => resolved.signal.is_some_and(|id| {
            let signal = facts.registry().signal(id);
            if signal.from_engine { signal.to_all } else { true }
        }),
        _ => false,
    }
}

/// Whether a value can differ between instances: it reads what is theirs, or draws.
fn differs(facts: &Facts<'_>, handler: &HandlerView<'_, '_>, value: ExprId) -> bool {
    differs_beside(facts, handler, value, &mut FxHashSet::default())
}

/// The same, for a value that goes into locals which are looked at already: what they feed each other adds nothing.
fn differs_beside(
    facts: &Facts<'_>,
    handler: &HandlerView<'_, '_>,
    value: ExprId,
    seen: &mut FxHashSet<LocalId>,
) -> bool {
    let unit = handler.unit;
    let mut found = false;
    walk_expr(unit, value, &mut |expr| {
        found |= match unit.meaning(expr) {
            Meaning::Own => true,
            Meaning::Builtin(Builtin::Random | Builtin::Chance) | Meaning::Procedure(_) => true,
            Meaning::Value(place) | Meaning::Axis(place, _) | Meaning::Bound(place, _) => match unit.place(place) {
                Place::Private(_) | Place::Variable(_, Base::Own | Base::Held(_)) => true,
                Place::Local(local) => seen.insert(local) && local_differs(facts, handler, local, seen),
                _ => false,
            },
            _ => false,
        };
    });
    found
}

fn local_differs(
    facts: &Facts<'_>,
    handler: &HandlerView<'_, '_>,
    local: LocalId,
    seen: &mut FxHashSet<LocalId>,
) -> bool {
    let place = handler.unit.local_places[local.0 as usize];
    let steps = handler.graph.blocks.iter().flat_map(|block| &block.steps);
    steps.into_iter().any(|step| match &step.kind {
        StepKind::Let { place: other, value } | StepKind::Assign { place: other, value, .. } => {
            *other == place && differs_beside(facts, handler, *value, seen)
        }
        StepKind::Bind { place: other } => *other == place,
        _ => false,
    })
}

/// Whether the handler gives the variable different constants, chosen by a test that can differ.
fn constants_differ(facts: &Facts<'_>, handler: &HandlerView<'_, '_>, place: PlaceId, at: Span) -> bool {
    let unit = handler.unit;
    let given = handler.graph.blocks.iter().flat_map(|block| &block.steps).filter_map(|step| match &step.kind {
        StepKind::Assign { place: other, op: AssignOp::Set, value, .. } if *other == place => {
            Some(facts.project.text(unit, unit.tree.expr(*value).span))
        }
        _ => None,
    });
    let mut texts: Vec<&str> = given.collect();
    texts.sort_unstable();
    texts.dedup();
    if texts.len() < 2 {
        return false;
    }
    let mut chosen = false;
    walk(&handler.tree.body, &mut |statement| {
        let tests: Vec<ExprId> = match &statement.kind {
            StatementKind::If { arms, .. } => arms.iter().map(|arm| arm.tests[0]).collect(),
            StatementKind::Match { subject, .. } => vec![*subject],
            _ => Vec::new(),
        };
        chosen |= statement.span.contains(at) && tests.into_iter().any(|test| differs(facts, handler, test));
    });
    chosen
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn locals_that_feed_each_other() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
writers = ["*"]
engine = "reads"
"#,
            &[r"script crews for mailboat

on bell {
    let near = 1
    let far = 2
    repeat 3 {
        near = far
        far = near
    }
    tide.height = near
}
"],
        );
    }

    #[test]
    fn constants_and_gathering_are_fine() {
        expect(
            r#"[variables.tide.heaviest]
type = "int"
scope = "global"
default = 0
writers = ["*"]
engine = "reads"

[variables.mailboat.load]
type = "int"
scope = "instance"
default = 0
engine = "writes"
"#,
            &[r#"script loading for mailboat in harbor

on bell {
    tide.heaviest = load // ~ sharing/last-writer-wins
}

on enter {
    tide.heaviest = max(tide.heaviest, load)
}

on leave {
    tide.heaviest = 0
}

on touched(other) {
    tide.heaviest = load
}
"#],
        );
    }
}
