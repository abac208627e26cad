//! `init/read-before-set`: a variable is read on a way where nothing has given it a value yet.

use crate::finding::{Finding, Level, RuleName};
use crate::flow::engine::Event;
use crate::project::{PlaceId, ScriptUnit};
use crate::rules::Facts;
use crate::rules::facts::each_event;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("init/read-before-set"),
    level: Level::Error,
    means: "A variable is read on a way where nothing has given it a value yet.",
    hurts: "The game reads whatever the type calls zero, and everything worked out from it is wrong.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
"#,
        script: r#"script tides for tide

on bell {
    note "{height}"
    height = 2
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
"#,
        script: r#"script tides for tide

on start {
    height = 1
}

on bell {
    note "{height}"
    height = 2
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    each_event(facts, |unit, event| {
        let Event::Unset { place, at, cleared } = event else { return None };
        if facts.project.cell_of(unit, *place).is_some_and(|cell| super::never_set::is_never_set(facts, cell)) {
            return None; // That is said once, of the entry.
        }
        let name = facts.place_name(unit, *place);
        let message = if *cleared {
            format!(
                "`{name}` is read here, and on some way to here it has no value: it was never given one, or was cleared"
            )
        } else {
            format!("`{name}` is read here before anything has given it a value")
        };
        let mut finding = Finding::new(RULE.name, unit.at(unit.tree.expr(*at).span), message);
        finding.variable = facts.identity_of(unit, *place);
        Some(finding.help(cure(facts, unit, *place, &name)))
    })
}

fn cure(facts: &Facts<'_>, unit: &ScriptUnit, place: PlaceId, name: &str) -> String {
    match facts.identity_of(unit, place) {
        Some(_) => format!("give it a `default` in the registry, or ask first: `if {name} is set {{ … }}`"),
        None => format!("let it start from a value, `private {name}: … = …`, or ask first: `if {name} is set {{ … }}`"),
    }
}
