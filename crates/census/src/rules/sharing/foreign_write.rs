//! `sharing/foreign-write`: a script writes a variable whose owner does not list it among the writers.

use crate::finding::{Finding, Level, RuleName};
use crate::flow::access::Access;
use crate::project::{CellId, ScriptUnit};
use crate::registry::{OwnerId, VarId};
use crate::rules::Facts;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("sharing/foreign-write"),
    level: Level::Error,
    means: "A script writes a variable whose owner does not list it among the writers.",
    hurts: "Somebody else's number changes under their hands, and they look for the reason in their own scripts.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: "script desk for office

on bell {
    tide.height = 3
}
",
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
writers = ["office"]
"#,
        script: "script desk for office

on bell {
    tide.height = 3
}
",
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let registry = facts.registry();
    let mut findings = Vec::new();
    for id in registry.var_ids() {
        let variable = registry.var(id);
        let Some(writers) = &variable.writers else { continue };
        if variable.constant {
            continue; // That nobody at all may write it is said once, by another rule.
        }
        for (unit, access) in facts.uses(CellId(id.0)).filter(|(_, access)| access.writes()) {
            let Some(owner) = unit.owner else { continue };
            if owner != variable.owner && !writers.contains(&owner) {
                findings.push(word(facts, unit, access, owner, id));
            }
        }
    }
    findings
}

fn word(facts: &Facts<'_>, unit: &ScriptUnit, access: &Access, owner: OwnerId, id: VarId) -> Finding {
    let registry = facts.registry();
    let variable = registry.var(id);
    let (writer, home) = (&registry.owner(owner).name, registry.owner(variable.owner));
    let identity = registry.identity(id);
    let steward = variable.steward.as_ref().or(home.steward.as_ref());
    let asks = steward.map_or(String::new(), |steward| format!(", which {steward} answers for"));
    let message = format!("a script of `{writer}` writes `{identity}`{asks}; only `{}` may", allowed(facts, id));
    Finding::new(RULE.name, unit.at(access.statement), message)
        .about(identity)
        .help(format!("send a signal that `{}` answers, or add \"{writer}\" to its `writers`", home.name))
        .with(variable.place.header, "the variable is defined here")
}

fn allowed(facts: &Facts<'_>, id: VarId) -> String {
    let registry = facts.registry();
    let variable = registry.var(id);
    let others = variable.writers.iter().flatten().map(|&owner| &*registry.owner(owner).name);
    let all: Vec<&str> = std::iter::once(&*registry.owner(variable.owner).name).chain(others).collect();
    all.join("`, `")
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::{expect, expect_with};

    #[test]
    fn owners_and_listed_writers_may_write() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 6
writers = ["office"]
engine = "reads"
"#,
            &[
                r#"script tides for tide

on bell {
    height = 1
}
"#,
                r#"script desk for office

on touched(other) {
    tide.height = 2
}
"#,
                r#"script pier for harbor

on touched(other) {
    tide.height = 3 // ~ sharing/foreign-write sharing/order-hazard
}
"#,
            ],
        );
    }

    #[test]
    fn anyone_writes_where_the_project_says_so() {
        expect_with(
            r#"[project]
name = "Saltmarsh Mail"
first_scene = "harbor"

[sharing]
writers = "anyone"
"#,
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 6
engine = "reads"
"#,
            &[r#"script pier for harbor

on bell {
    tide.height = 3
}
"#],
        );
    }
}
