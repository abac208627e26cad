//! `sharing/last-writer-wins`: every instance of an actor sets one shared variable in answer to one trigger, each to a value of its own.

use super::bodies::Bodies;
use crate::finding::{Finding, Level, RuleName};
use crate::flow::access::builds_on;
use crate::flow::graph::StepKind;
use crate::project::{Base, Meaning, Place, PlaceId};
use crate::registry::SignalId;
use crate::rules::Facts;
use crate::rules::facts::HandlerView;
use crate::rules::{Example, Rule};
use crate::script::ast::*;
use crate::source::Span;
use rustc_hash::{FxHashMap, FxHashSet};

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
    let mut findings: Vec<Finding> = Vec::new();
    for handler in facts.handlers() {
        let at = |span: Span| handler.unit.at(span);
        if !handler.unit.owner.is_some_and(|owner| registry.is_many(owner))
            || !reaches_all(facts, &handler, MOST_SENDERS)
        {
            continue;
        }
        let all = Bodies::new(facts, handler);
        let various = all.given_various();
        for step in all.steps() {
            let StepKind::Assign { place, op: AssignOp::Set, value, .. } = &step.kind else { continue };
            let Place::Variable(id, Base::One) = handler.unit.place(*place) else { continue };
            if builds_on(handler.unit, *place, *value) || findings.iter().any(|known| known.at == at(step.span)) {
                continue;
            }
            if (all.differs(*value) || various.contains(place) && all.is_chosen_on_a_way(step.span))
                && !all.is_settled(step.span)
            {
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

/// How many senders are looked at, one behind the other.
const MOST_SENDERS: u32 = 4;

/// Whether one trigger begins the handler for every instance.
fn reaches_all(facts: &Facts<'_>, handler: &HandlerView<'_, '_>, most_senders: u32) -> bool {
    let resolved = &handler.unit.handlers[handler.index];
    match &handler.tree.trigger {
        Trigger::Start | Trigger::Enter | Trigger::Leave | Trigger::Tick | Trigger::Every(_) => true,
        Trigger::Changed(_) => {
            resolved.changed.is_some_and(|place| matches!(handler.unit.place(place), Place::Variable(_, Base::One)))
        }
        Trigger::Signal { .. } => resolved.signal.is_some_and(|id| {
            let signal = facts.registry().signal(id);
            if signal.from_engine { signal.to_all } else { is_sent_to_all(facts, id, most_senders) }
        }),
        _ => false,
    }
}

/// Whether scripts send a signal to everyone: to nobody in particular, to one after the other, or each instance to itself.
fn is_sent_to_all(facts: &Facts<'_>, signal: SignalId, most_senders: u32) -> bool {
    most_senders == 0
        || facts.senders(signal).iter().map(|&id| facts.handler(id)).any(|sender| {
            let by_each = || {
                let is_many = sender.unit.owner.is_some_and(|owner| facts.registry().is_many(owner));
                is_many && reaches_all(facts, &sender, most_senders - 1)
            };
            let bodies = facts.world.bodies(sender.script, sender.graph);
            bodies.into_iter().flat_map(|graph| &graph.blocks).any(|block| {
                let again = block.loops > 0 || block.loop_head;
                block.steps.iter().any(|step| match step.kind {
                    StepKind::Send { signal: Some(sent), to, .. } if sent == signal => {
                        to.is_none() || again || by_each()
                    }
                    _ => false,
                })
            })
        })
}

impl Bodies<'_, '_> {
    /// Whether a test settles which instance has its way, whoever is asked last: one asks for it, as in `who == self`, or
    /// the best of all is looked for, as in `if load > most { most = load }`.
    fn is_settled(&self, at: Span) -> bool {
        let tests = self.tests_before(at);
        tests.iter().any(|&(test, wanted)| self.asks_for_self(self.behind(test), wanted) || self.is_contest(test))
    }

    /// Whether a test compares a variable with what the variable is given where the test has come out.
    fn is_contest(&self, test: ExprId) -> bool {
        let unit = self.handler.unit;
        let text = |expr: ExprId| self.facts.project.text(unit, unit.tree.expr(unit.behind(expr)).span);
        match unit.tree.expr(self.behind(test)).kind {
            ExprKind::Unary(UnaryOp::Not, inner) => self.is_contest(inner),
            ExprKind::Binary(BinaryOp::And, left, right) => self.is_contest(left) || self.is_contest(right),
            ExprKind::Binary(op, left, right) if op.is_order() => self.steps().any(|step| match &step.kind {
                StepKind::Assign { place, op: AssignOp::Set, value, .. } => {
                    let compared = |side: ExprId, other: ExprId| {
                        unit.meaning(side) == Meaning::Value(*place) && text(other) == text(*value)
                    };
                    let behind =
                        |(known, _): (ExprId, bool)| unit.tree.expr(known).span.contains(unit.tree.expr(test).span);
                    (compared(left, right) || compared(right, left))
                        && self.tests_before(step.span).into_iter().any(behind)
                }
                _ => false,
            }),
            _ => false,
        }
    }

    fn asks_for_self(&self, test: ExprId, wanted: bool) -> bool {
        let unit = self.handler.unit;
        match unit.tree.expr(test).kind {
            ExprKind::Unary(UnaryOp::Not, inner) => self.asks_for_self(inner, !wanted),
            ExprKind::Binary(op @ (BinaryOp::And | BinaryOp::Or), left, right) => {
                (op == BinaryOp::And) == wanted
                    && [left, right].into_iter().any(|part| self.asks_for_self(part, wanted))
            }
            ExprKind::Binary(op @ (BinaryOp::Equal | BinaryOp::NotEqual), left, right) => {
                let is_own = |side: ExprId| unit.meaning(side) == Meaning::Own;
                (op == BinaryOp::Equal) == wanted
                    && (is_own(left) && !self.differs(right) || is_own(right) && !self.differs(left))
            }
            _ => false,
        }
    }

    /// The places that are given one value here and another there.
    fn given_various(&self) -> FxHashSet<PlaceId> {
        let unit = self.handler.unit;
        let mut first: FxHashMap<PlaceId, &str> = FxHashMap::default();
        let given = self.steps().filter_map(|step| match &step.kind {
            StepKind::Assign { place, op: AssignOp::Set, value, .. } => {
                Some((*place, self.facts.project.text(unit, unit.tree.expr(unit.behind(*value)).span)))
            }
            _ => None,
        });
        given.filter(|&(place, text)| *first.entry(place).or_insert(text) != text).map(|(place, _)| place).collect()
    }

    /// Whether a test that can differ chooses a statement, or a call by which it is reached.
    fn is_chosen_on_a_way(&self, at: Span) -> bool {
        self.handler.unit.ways_to(at).iter().any(|&way| self.is_chosen(way))
    }
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn the_best_of_all_does_not_depend_on_who_is_asked_last() {
        let registry = r#"[variables]
mailboat.load = { type = "int", scope = "instance", default = 0, engine = "both" }
office.most = { type = "int", scope = "global", default = 0, engine = "reads", writers = ["*"] }
office.leader = { type = "ref", of = "mailboat", scope = "global", engine = "reads", writers = ["*"] }
"#;
        let race = |body: &str| {
            let script = format!("script race for mailboat in harbor\n\non bell {{\n{body}}}\n");
            crate::rules::testing::expect_in_scripts(registry, &[&script]);
        };
        race("    if load > office.most {\n        office.most = load\n        office.leader = self\n    }\n");
        race(
            "    let mine = load\n    if lit() and office.most < mine {\n        office.most = load\n    }\n}\n\nproc lit() -> bool {\n    return load > 2\n",
        );
        let last = " // ~ sharing/last-writer-wins\n";
        race(&format!("    if load > 3 {{\n        office.most = load{last}    }}\n"));
        race(&format!(
            "    if load > office.most {{\n        office.most = load + 1{last}        office.leader = self{last}    }}\n"
        ));
    }

    #[test]
    fn one_that_is_asked_for_is_nobodys_rival() {
        let registry = r#"[variables.tide]
caller = { type = "ref", of = "mailboat", scope = "global", writers = ["mailboat"], engine = "both" }
last = { type = "ref", of = "mailboat", scope = "global", writers = ["mailboat"], engine = "reads" }
"#;
        let told = |lines: &str| {
            expect(registry, &[&format!("script loading for mailboat in harbor\n\non bell {{\n{lines}\n}}\n")]);
        };
        told("if tide.caller == self {\n tide.last = self\n }");
        told("if tide.caller != self {\n return\n }\n tide.last = self");
        told("if tide.caller != self {\n tide.last = self // ~ sharing/last-writer-wins\n }");
    }

    #[test]
    fn what_is_one_for_all_and_what_is_not() {
        let registry = r#"[variables]
mailboat.load = { type = "int", scope = "instance", default = 0, engine = "both" }
mailboat.draught = { type = "int", scope = "instance", default = 2, constant = true, engine = "reads" }
mailboat.sails = { type = "int", scope = "instance", default = 2, constant = true, engine = "reads" }
tide.sum = { type = "int", scope = "global", default = 0, engine = "reads", writers = ["*"] }

[instances.dusk_boat]
of = "mailboat"
start = { sails = 3 }

[instances.noon_boat]
of = "mailboat"

[signals.flood]
from = "engine"
to = "all"
parameters = { height = "int" }
"#;
        let set = |body: &str| {
            expect(registry, &[&format!("script race for mailboat in harbor\n\non flood(height) {{\n{body}\n}}\n")]);
        };
        let last = "// ~ sharing/last-writer-wins";
        set("    tide.sum = draught + height");
        set(&format!("    tide.sum = sails {last}"));
        set(
            "    tide.sum = total(height)\n}\n\nproc total(most: int) -> int {\n    let all = 0\n    for boat in mailboat where boat.load < most {\n        all += boat.load\n    }\n    return all",
        );
        set(&format!(
            "    let others = 0\n    for boat in mailboat where boat != self {{\n        others += boat.load\n    }}\n    tide.sum = others {last}"
        ));
        set(&format!("    let late = 0\n    if load > 3 {{\n        late = 1\n    }}\n    tide.sum = late {last}"));
        set(&format!(
            "    tide.sum = grade() {last}\n}}\n\nproc grade() -> int {{\n    if load > 3 {{\n        return 1\n    }}\n    return 0"
        ));
    }

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

    #[test]
    fn what_is_sent_to_one_is_no_contest() {
        let registry = r#"[variables.tide]
heaviest = { type = "int", scope = "global", default = 0, writers = ["*"], engine = "reads" }
[variables.mailboat]
load = { type = "int", scope = "instance", default = 0, engine = "writes" }
"#;
        let told = |on: &str, send: &str, mark: &str| {
            let script = format!(
                "script crews for mailboat\n\non {on} {{\n    {send}\n}}\n\non tide_turned {{\n    tide.heaviest = load{mark}\n}}\n"
            );
            expect(registry, &[&script]);
        };
        let contest = " // ~ sharing/last-writer-wins";
        told("touched(other)", "send tide_turned to self", "");
        told("touched(other)", "send tide_turned", contest);
        told("tick", "send tide_turned to self", contest);
        told("touched(other)", "for boat in mailboat {\n        send tide_turned to boat\n    }", contest);
    }
}
