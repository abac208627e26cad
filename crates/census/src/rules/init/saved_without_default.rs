//! `init/saved-without-default`: a variable is saved and has no default.

use crate::finding::{Finding, Level, RuleName};
use crate::registry::{Lifetime, Type};
use crate::rules::Facts;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("init/saved-without-default"),
    level: Level::Error,
    means: "A variable is saved and has no default.",
    hurts: "A save made before the variable existed has no value for it, and the game reads nothing.",
    bad: Example {
        registry: r#"[variables.tide.record]
type = "int"
scope = "global"
lifetime = "saved"
"#,
        script: "script tides for tide

on start {
    record = 1
}
",
    },
    good: Example {
        registry: r#"[variables.tide.record]
type = "int"
scope = "global"
default = 0
lifetime = "saved"
"#,
        script: "script tides for tide

on start {
    record = 1
}
",
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let registry = facts.registry();
    let bare = registry.var_ids().filter(|&id| {
        let variable = registry.var(id);
        let has_default = variable.default.is_some() || variable.place.has("default");
        variable.lifetime == Lifetime::Saved && !has_default && !matches!(variable.ty, Type::Ref(_) | Type::Unknown)
    });
    bare.map(|id| {
        let message =
            format!("`{}` is saved, and a save made before it existed has no value for it", registry.identity(id));
        Finding::new(RULE.name, registry.var(id).place.header, message)
            .about(registry.identity(id))
            .help("give it a `default`: it stands in where a save has none")
    })
    .collect()
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn an_old_save_has_no_value() {
        expect(
            r#"[variables.tide.record] # ~ init/saved-without-default
type = "int"
scope = "global"
lifetime = "saved"
engine = "reads"
"#,
            &[r#"script tides for tide

on start {
    record = 1
}
"#],
        );
    }
}
