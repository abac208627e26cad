//! `shadow/inner-scope`: a bare name means the variable of the owner or of the scene, while one of the same name exists further out.

use crate::finding::{Finding, Level, RuleName};
use crate::project::ScriptUnit;
use crate::registry::{OwnerKind, VarId};
use crate::rules::Facts;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("shadow/inner-scope"),
    level: Level::Warning,
    means: "A bare name means the variable of the owner or of the scene, while one of the same name exists further out.",
    hurts: "A reader takes it for the other one, and changes the wrong number.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0

[variables.harbor.height]
type = "int"
scope = "scene"
default = 0
"#,
        script: r#"script pier for harbor

on enter {
    height = 2
    note "{height}"
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0

[variables.harbor.height]
type = "int"
scope = "scene"
default = 0
"#,
        script: r#"script pier for harbor

on enter {
    harbor.height = 2
    note "{harbor.height}"
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let registry = facts.registry();
    let mut findings = Vec::new();
    for unit in &facts.project.scripts {
        let mut seen: Vec<VarId> = Vec::new();
        let mut uses: Vec<_> = unit.bare_uses.iter().collect();
        uses.sort_by_key(|used| used.span);
        for used in uses {
            if seen.contains(&used.variable) {
                continue;
            }
            seen.push(used.variable);
            let variable = registry.var(used.variable);
            let Some(outer) = further_out(facts, unit, used.variable) else { continue };
            let (own, other) = (registry.identity(used.variable), registry.identity(outer));
            let message = format!("`{}` means `{own}` here, and there is `{other}` too", variable.name);
            findings.push(
                Finding::new(RULE.name, unit.at(used.span), message)
                    .about(own.clone())
                    .help(format!("say which one is meant: write `{}`", said(facts, unit, used.variable)))
                    .with(registry.var(outer).place.header, format!("`{other}` is defined here")),
            );
        }
    }
    findings
}

fn said(facts: &Facts<'_>, unit: &ScriptUnit, id: VarId) -> String {
    let variable = facts.registry().var(id);
    if Some(variable.owner) == unit.owner && facts.registry().is_actor(variable.owner) {
        format!("self.{}", variable.name)
    } else {
        facts.registry().identity(id)
    }
}

/// A variable of the same short name in the scene or in a system, beyond the one that is meant.
fn further_out(facts: &Facts<'_>, unit: &ScriptUnit, id: VarId) -> Option<VarId> {
    let registry = facts.registry();
    let variable = registry.var(id);
    let all = registry.by_short_name.get(&variable.name)?;
    all.iter().copied().find(|&other| {
        let owner = registry.var(other).owner;
        let system = registry.owner(owner).kind == OwnerKind::System;
        let scene = Some(owner) == unit.scene && Some(variable.owner) == unit.owner;
        let inner = registry.owner(variable.owner).kind != OwnerKind::System || Some(variable.owner) == unit.owner;
        other != id && inner && (system || scene)
    })
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn the_first_bare_use() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 6
engine = "reads"

[variables.harbor.height]
type = "int"
scope = "scene"
default = 0
engine = "reads"
"#,
            &[r#"script pier for harbor

on enter {
    height = 1 // ~ shadow/inner-scope
    height += 1
    note "{tide.height}"
}
"#],
        );
    }
}
