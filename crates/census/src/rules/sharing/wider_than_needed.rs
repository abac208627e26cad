//! `sharing/wider-than-needed`: a global that only one actor's, or one scene's, scripts touch, or a variable that one handler alone uses and always writes first.

use crate::finding::{Finding, Level, RuleName};
use crate::project::CellId;
use crate::registry::{OwnerId, Scope};
use crate::rules::Facts;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("sharing/wider-than-needed"),
    level: Level::Note,
    means: "A global that only one actor's, or one scene's, scripts touch, or a variable that one handler alone uses and always writes first.",
    hurts: "Everyone can reach it, and everyone who reads the list has to wonder who does.",
    bad: Example {
        registry: r#"[variables.tide.boats_out]
type = "int"
scope = "global"
default = 0
writers = ["mailboat"]
"#,
        script: r#"script loading for mailboat in harbor

on bell {
    tide.boats_out += 1
    show "{tide.boats_out}"
}
"#,
    },
    good: Example {
        registry: r#"[variables.mailboat.boats_out]
type = "int"
scope = "type"
default = 0
"#,
        script: r#"script loading for mailboat in harbor

on bell {
    mailboat.boats_out += 1
    show "{mailboat.boats_out}"
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let registry = facts.registry();
    let mut findings = Vec::new();
    for id in registry.var_ids() {
        let (cell, variable) = (CellId(id.0), registry.var(id));
        if variable.constant
            || facts.is_read_beside_scripts(cell)
            || variable.engine_writes
            || variable.scope != Scope::Global
        {
            continue;
        }
        let mut owners: Vec<Option<OwnerId>> = facts.uses(cell).map(|(unit, _)| unit.owner).collect();
        owners.sort_unstable();
        owners.dedup();
        let [Some(only)] = owners[..] else { continue };
        if only == variable.owner || (!registry.is_actor(only) && !registry.is_scene(only)) {
            continue;
        }
        let (identity, user) = (registry.identity(id), &registry.owner(only).name);
        let message = format!("`{identity}` is global, and only scripts of `{user}` use it");
        findings.push(
            Finding::new(RULE.name, variable.place.header, message)
                .about(identity)
                .help(format!("make it a variable of `{user}`")),
        );
    }
    findings
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn a_global_for_one_actor() {
        expect(
            r#"[variables.tide.boats] # ~ sharing/wider-than-needed
type = "int"
scope = "global"
default = 0
writers = ["*"]
"#,
            &[r#"script loading for mailboat in harbor

on bell {
    tide.boats += 1
    show "{tide.boats}"
}
"#],
        );
    }
}
