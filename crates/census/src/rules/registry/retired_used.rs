//! `registry/retired-used`: a script uses a variable that is retired.

use crate::finding::{Finding, Level, RuleName};
use crate::project::CellId;
use crate::rules::Facts;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("registry/retired-used"),
    level: Level::Warning,
    means: "A script uses a variable that is retired.",
    hurts: "It is on its way out, and this script breaks on the day it goes.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
retired = { since = "0.4" }
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
    let mut findings: Vec<Finding> = Vec::new();
    for id in registry.var_ids() {
        let Some(retired) = &registry.var(id).retired else { continue };
        let since = retired.since.as_ref().map_or(String::new(), |since| format!(" since {since}"));
        for (unit, access) in facts.uses(CellId(id.0)) {
            let at = unit.at(access.at);
            if findings.iter().any(|finding| finding.at == at) {
                continue;
            }
            let identity = registry.identity(id);
            let help =
                retired.instead.as_ref().map_or("take this use out".to_owned(), |instead| format!("use `{instead}`"));
            findings.push(
                Finding::new(RULE.name, at, format!("`{identity}` is retired{since}")).about(identity).help(help),
            );
        }
    }
    findings
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn the_use_is_named() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 6
retired = { since = "0.3", use = "tide.flow" }
engine = "reads"

[variables.tide.flow]
type = "int"
scope = "global"
default = 0
engine = "both"
"#,
            &[r#"script tides for tide

on bell {
    height = 3 // ~ registry/retired-used
}
"#],
        );
    }
}
