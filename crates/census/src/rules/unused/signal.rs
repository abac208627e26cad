//! `unused/signal`: a signal that nothing sends or nothing answers.

use crate::finding::{Finding, Level, RuleName};
use crate::flow::graph::StepKind;
use crate::registry::SignalId;
use crate::rules::Facts;
use crate::rules::{Example, Rule};
use crate::source::Location;
use rustc_hash::FxHashMap;

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("unused/signal"),
    level: Level::Warning,
    means: "A signal that nothing sends or nothing answers.",
    hurts: "Something is announced and nobody listens, or somebody listens for what is never said.",
    bad: Example {
        registry: r#"[signals.low_water]
from = "script"
[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: "script tides for tide

on low_water {
    height = 0
}
",
    },
    good: Example {
        registry: r#"[signals.low_water]
from = "script"
[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: "script tides for tide

on bell {
    send low_water
}

on low_water {
    height = 0
}
",
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let registry = facts.registry();
    let mut sent: FxHashMap<SignalId, Location> = FxHashMap::default();
    let mut answered: FxHashMap<SignalId, Location> = FxHashMap::default();
    for (unit, graphs) in facts.project.scripts.iter().zip(&facts.world.graphs) {
        for (handler, tree) in unit.handlers.iter().zip(&unit.tree.handlers) {
            if let Some(signal) = handler.signal {
                answered.entry(signal).or_insert_with(|| unit.at(tree.head));
            }
        }
        for step in graphs.handlers.iter().chain(&graphs.procedures).flat_map(|g| &g.blocks).flat_map(|b| &b.steps) {
            if let StepKind::Send { signal: Some(signal), .. } = step.kind {
                sent.entry(signal).or_insert_with(|| unit.at(step.span));
            }
        }
    }
    let mut findings = Vec::new();
    for (at, signal) in registry.signals.iter().enumerate() {
        let id = SignalId::at(at);
        if facts.is_unread_word(&signal.name) {
            continue;
        }
        let name = &signal.name;
        match (sent.get(&id), answered.get(&id)) {
            (None, None) => findings.push(
                Finding::new(RULE.name, signal.place.header, format!("nothing sends or answers the signal `{name}`"))
                    .help("take it out, or answer it: `on …`"),
            ),
            (None, Some(at)) if !signal.from_engine => findings.push(
                Finding::new(RULE.name, *at, format!("this answers `{name}`, and no script ever sends it"))
                    .help(format!("send it somewhere, `send {name}`; or declare it `from = \"engine\"`")),
            ),
            (Some(at), None) => findings.push(
                Finding::new(RULE.name, *at, format!("this sends `{name}`, and nothing answers it"))
                    .help(format!("answer it: `on {name} {{ … }}`")),
            ),
            _ => {}
        }
    }
    findings
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn sent_answered_neither_or_both() {
        expect(
            r#"[signals.low_water]
from = "script"

[signals.high_water]
from = "script"

[signals.slack_water] # ~ unused/signal
from = "script"

[signals.gull_cry] # ~ unused/signal
from = "engine"

[signals.mid_water]
from = "script"
"#,
            &[r#"script tides for tide

on bell {
    send low_water // ~ unused/signal
    send mid_water
}

on high_water { // ~ unused/signal
    note "high"
}

on mid_water {
    note "mid"
}
"#],
        );
    }
}
