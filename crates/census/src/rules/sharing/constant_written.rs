//! `sharing/constant-written`: a script writes a tuning value that is marked as constant.

use crate::finding::{Finding, Level, RuleName};
use crate::project::CellId;
use crate::rules::Facts;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("sharing/constant-written"),
    level: Level::Error,
    means: "A script writes a tuning value that is marked as constant.",
    hurts: "What the designer tunes is not what the game uses.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 4
constant = true
"#,
        script: "script tides for tide

on bell {
    height = 3
}
",
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 4
"#,
        script: "script tides for tide

on bell {
    height = 3
}
",
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let registry = facts.registry();
    let constants = registry.var_ids().filter(|&id| registry.var(id).constant);
    constants
        .flat_map(|id| {
            facts.uses(CellId(id.0)).filter(|(_, access)| access.writes()).map(move |(unit, access)| (id, unit, access))
        })
        .map(|(id, unit, access)| {
            let identity = registry.identity(id);
            Finding::new(
                RULE.name,
                unit.at(access.statement),
                format!("`{identity}` is a constant, and this writes it"),
            )
            .about(identity)
            .help("take the write out, or take `constant` out of the entry")
            .with(registry.var(id).place.key("constant"), "it is made constant here")
        })
        .collect()
}
