//! `init/empty-ref`: a variable is reached through a `ref` that can be none, or through a name whose instance is gone.

use crate::finding::{Finding, Level, RuleName};
use crate::flow::engine::Event;
use crate::rules::Facts;
use crate::rules::facts::each_event;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("init/empty-ref"),
    level: Level::Error,
    means: "A variable is reached through a `ref` that can be none, or through a name whose instance is gone.",
    hurts: "There is nothing there: the read gives zero, and the write goes nowhere.",
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
        script: "script desk for office

on bell {
    called.parcels = 0
}
",
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
        script: "script desk for office

on bell {
    if called is not none {
        called.parcels = 0
    }
}
",
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    each_event(facts, |unit, event| match event {
        Event::EmptyRef { held, at } => {
            let name = facts.place_name(unit, *held);
            let message = format!("`{name}` can be none here, and then there is nothing to reach through it");
            let mut finding = Finding::new(RULE.name, unit.at(unit.tree.expr(*at).span), message);
            finding.variable = facts.identity_of(unit, *held);
            Some(finding.help(format!("ask first: `if {name} is not none {{ … }}`")))
        }
        Event::Absent { instance, at } => {
            let instance = facts.registry().instance(*instance);
            let place = instance.scene.map_or(String::new(), |scene| {
                format!(" when `{}` is not loaded, or", facts.registry().owner(scene).name)
            });
            let message = format!("`{}` may not be there: it is gone{place} when it was removed", instance.name);
            let finding = Finding::new(RULE.name, unit.at(unit.tree.expr(*at).span), message);
            Some(finding.help(format!("ask first: `if {} is not none {{ … }}`", instance.name)))
        }
        _ => None,
    })
}
