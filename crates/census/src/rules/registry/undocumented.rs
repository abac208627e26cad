//! `registry/undocumented`: a variable says nothing about what it is for.

use crate::finding::{Finding, Level, RuleName};
use crate::rules::Facts;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("registry/undocumented"),
    level: Level::Off,
    means: "A variable says nothing about what it is for.",
    hurts: "Whoever finds it in a year has to read all scripts to know.",
    bad: Example {
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
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
about = "How high the water stands"
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
    let silent =
        registry.var_ids().filter(|&id| registry.var(id).about.as_ref().is_none_or(|about| about.trim().is_empty()));
    silent
        .map(|id| {
            let identity = registry.identity(id);
            Finding::new(RULE.name, registry.var(id).place.header, format!("`{identity}` does not say what it is for"))
                .about(identity)
                .help("write a line, `about = \"…\"`")
        })
        .collect()
}
