//! `unused/never-changes`: a variable is read and never written, and is not marked as constant.

use crate::finding::{Finding, Level, RuleName};
use crate::project::CellId;
use crate::rules::Facts;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("unused/never-changes"),
    level: Level::Note,
    means: "A variable is read and never written, and is not marked as constant.",
    hurts: "It looks like something that happens in play, and nothing ever does.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on bell {
    note "{height}"
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
constant = true
"#,
        script: r#"script tides for tide

on bell {
    note "{height}"
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let registry = facts.registry();
    let still = registry.var_ids().filter(|&id| {
        let (cell, variable) = (CellId(id.0), registry.var(id));
        !variable.constant
            && variable.retired.is_none()
            && facts.is_read(cell)
            && !facts.is_written(cell)
            && !crate::rules::init::never_set::is_never_set(facts, cell)
    });
    still
        .map(|id| {
            let identity = registry.identity(id);
            let value = registry
                .var(id)
                .default
                .as_ref()
                .map_or("what it starts as".to_owned(), |value| registry.value_text(value));
            let own = registry.has_own_start(id);
            let is = if own {
                "each instance keeps what it starts with".to_owned()
            } else {
                format!("it is always {value}")
            };
            Finding::new(
                RULE.name,
                registry.var(id).place.header,
                format!("`{identity}` is read and never written: {is}"),
            )
            .about(identity)
            .help("write `constant = true` if it is a tuning value")
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn a_tuning_value_without_its_mark() {
        expect(
            r#"[variables.tide.height] # ~ unused/never-changes
type = "int"
scope = "global"
default = 0
min = 0
max = 6
engine = "reads"
"#,
            &[r#"script tides for tide

on bell {
    note "{height}"
}
"#],
        );
    }
}
