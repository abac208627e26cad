//! `unused/variable`: a variable that nothing reads or writes, the game included.

use crate::finding::{Finding, Level, RuleName};
use crate::project::CellId;
use crate::registry::{Type, VarId};
use crate::rules::Facts;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("unused/variable"),
    level: Level::Warning,
    means: "A variable that nothing reads or writes, the game included.",
    hurts: "The list grows until nobody dares to touch it.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: "script tides for tide

on bell {
}
",
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on bell {
    height += 1
    note "{height}"
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let registry = facts.registry();
    // An entry that can't be read has a finding of its own.
    let counts = |id: VarId| registry.var(id).retired.is_none() && registry.var(id).ty != Type::Unknown;
    let unused = registry.var_ids().filter(|&id| counts(id) && is_unused(facts, CellId(id.0)));
    unused
        .map(|id| {
            let identity = registry.identity(id);
            Finding::new(RULE.name, registry.var(id).place.header, format!("nothing reads or writes `{identity}`"))
                .about(identity.clone())
                .help("take the entry out, or give it `engine = \"reads\"` if the game itself uses it")
        })
        .collect()
}

/// Whether nothing at all touches a variable.
#[must_use]
pub fn is_unused(facts: &Facts<'_>, cell: CellId) -> bool {
    facts.uses(cell).next().is_none() && !facts.is_read_beside_scripts(cell) && !facts.is_written(cell)
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn the_engine_counts_and_so_do_bounds() {
        expect(
            r#"[variables.tide.height] # ~ unused/variable
type = "int"
scope = "global"
default = 0

[variables.tide.gauge]
type = "int"
scope = "global"
default = 0
max = "tide.mark"
engine = "reads"

[variables.tide.mark]
type = "int"
scope = "global"
default = 3

[variables.tide.old]
type = "int"
scope = "global"
default = 3
retired = { since = "0.2" }
"#,
            &[r#"script tides for tide

on bell {
    note "x"
}
"#],
        );
    }
}
