//! `sharing/type-through-instance`: a variable that all instances of an actor share is written as if it were one instance's own.

use crate::finding::{Finding, Level, RuleName};
use crate::project::CellId;
use crate::registry::Scope;
use crate::rules::Facts;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("sharing/type-through-instance"),
    level: Level::Warning,
    means: "A variable that all instances of an actor share is written as if it were one instance's own.",
    hurts: "It changes for all of them, and it reads as if it did not.",
    bad: Example {
        registry: r#"[variables.mailboat.fleet_size]
type = "int"
scope = "type"
default = 0
"#,
        script: r#"script loading for mailboat in harbor

on bell {
    fleet_size += 1
    note "{fleet_size}"
}
"#,
    },
    good: Example {
        registry: r#"[variables.mailboat.fleet_size]
type = "int"
scope = "type"
default = 0
"#,
        script: r#"script loading for mailboat in harbor

on bell {
    mailboat.fleet_size += 1
    note "{mailboat.fleet_size}"
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let registry = facts.registry();
    let shared = registry.var_ids().filter(|&id| registry.var(id).scope == Scope::Type);
    let mut findings = Vec::new();
    for id in shared {
        let owner = &registry.owner(registry.var(id).owner).name;
        for (unit, access) in facts.uses(CellId(id.0)).filter(|(_, access)| access.writes()) {
            let written = facts.project.text(unit, access.at);
            if written.split('.').next().map(str::trim) == Some(&**owner) {
                continue;
            }
            let identity = registry.identity(id);
            let message = format!("`{written}` is one value for all `{owner}`s: this changes it for every one of them");
            findings.push(
                Finding::new(RULE.name, unit.at(access.statement), message)
                    .about(identity.clone())
                    .help(format!("write `{identity}` to say that this is meant")),
            );
        }
    }
    findings
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn the_actors_name_says_that_all_are_meant() {
        expect(
            r#"[variables.mailboat.fleet]
type = "int"
scope = "type"
default = 0
engine = "reads"
"#,
            &[r#"script loading for mailboat in harbor

on bell {
    fleet += 1 // ~ sharing/type-through-instance
    self.fleet += 1 // ~ sharing/type-through-instance
    mailboat.fleet += 1
}
"#],
        );
    }
}
