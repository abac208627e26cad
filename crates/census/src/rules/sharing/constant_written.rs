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

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn a_tuning_value_is_for_the_registry_alone() {
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
    hold_size = 3 // ~ sharing/constant-written
    note "{parcels} of {hold_size}, {oil:1}"
}
"#],
        );
    }
}
