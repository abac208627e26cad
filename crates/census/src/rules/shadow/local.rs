//! `shadow/local`: a local name or a private hides a registry variable that the bare name would otherwise mean.

use crate::finding::{Finding, Level, RuleName};
use crate::project::ScriptUnit;
use crate::registry::{OwnerId, OwnerKind, VarId};
use crate::rules::Facts;
use crate::rules::{Example, Rule};
use crate::script::ast::*;

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("shadow/local"),
    level: Level::Warning,
    means: "A local name or a private hides a registry variable that the bare name would otherwise mean.",
    hurts: "The script sets its own copy and the game never hears of it.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on bell {
    let height = 3
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
    let wanted = 3
    note "{wanted}"
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for unit in &facts.project.scripts {
        let privates: Vec<&str> = unit.tree.privates.iter().map(|p| facts.project.text(unit, p.name.span)).collect();
        for private in &unit.tree.privates {
            findings.extend(judge(facts, unit, private.name, "this private"));
        }
        for local in outermost(facts, unit) {
            if !privates.contains(&facts.project.text(unit, local.name.span)) {
                findings.extend(judge(facts, unit, local.name, word(local.kind)));
            }
        }
    }
    findings
}

fn word(kind: LocalKind) -> &'static str {
    match kind {
        LocalKind::Let => "this `let`",
        LocalKind::Parameter => "this parameter",
        LocalKind::For => "the name of this `for`",
        LocalKind::Spawned => "the name of this `spawn`",
    }
}

fn judge(facts: &Facts<'_>, unit: &ScriptUnit, name: Name, what: &str) -> Option<Finding> {
    let text = facts.project.text(unit, name.span);
    let hidden = meant_bare(facts, unit, text)?;
    let identity = facts.registry().identity(hidden);
    let message = format!("{what} hides the variable `{identity}`: where `{text}` is written below, this one is meant");
    let finding = Finding::new(RULE.name, unit.at(name.span), message).about(identity.clone());
    Some(
        finding
            .help(format!("give it a name of its own; the variable is then `{text}` again"))
            .with(facts.registry().var(hidden).place.header, format!("`{identity}` is defined here")),
    )
}

/// The registry variable that a bare name means in a script.
fn meant_bare(facts: &Facts<'_>, unit: &ScriptUnit, name: &str) -> Option<VarId> {
    let registry = facts.registry();
    let member = |owner: Option<OwnerId>| owner.and_then(|owner| registry.member(owner, name));
    member(unit.owner).or_else(|| member(unit.scene)).or_else(|| {
        let all = registry.by_short_name.get(name)?;
        let mut systems = all.iter().filter(|&&id| registry.owner(registry.var(id).owner).kind == OwnerKind::System);
        // Where several systems have it, the bare name alone would mean none of them.
        systems.next().filter(|_| systems.next().is_none()).copied()
    })
}

/// The locals that no other local of the same name stands around.
fn outermost<'a>(facts: &Facts<'_>, unit: &'a ScriptUnit) -> Vec<&'a Local> {
    let mut found = Vec::new();
    let tree = &unit.tree;
    for handler in &tree.handlers {
        let parameters = match &handler.trigger {
            Trigger::Signal { parameters, .. } => parameters.iter().map(|parameter| parameter.local).collect(),
            _ => Vec::new(),
        };
        body(facts, unit, &parameters, &handler.body, &mut found);
    }
    for procedure in &tree.procedures {
        let parameters: Vec<LocalId> = procedure.parameters.iter().map(|parameter| parameter.local).collect();
        body(facts, unit, &parameters, &procedure.body, &mut found);
    }
    found
}

fn body<'a>(
    facts: &Facts<'_>,
    unit: &'a ScriptUnit,
    parameters: &[LocalId],
    block: &'a Block,
    found: &mut Vec<&'a Local>,
) {
    let mut scope: Vec<String> = Vec::new();
    for &parameter in parameters {
        enter(facts, unit, parameter, &mut scope, found);
    }
    inside(facts, unit, block, &mut scope, found);
}

fn enter<'a>(
    facts: &Facts<'_>,
    unit: &'a ScriptUnit,
    local: LocalId,
    scope: &mut Vec<String>,
    found: &mut Vec<&'a Local>,
) {
    let local = unit.tree.local(local);
    let name = facts.project.text(unit, local.name.span).to_owned();
    if !scope.contains(&name) {
        found.push(local);
    }
    scope.push(name);
}

fn inside<'a>(
    facts: &Facts<'_>,
    unit: &'a ScriptUnit,
    block: &'a Block,
    scope: &mut Vec<String>,
    found: &mut Vec<&'a Local>,
) {
    let depth = scope.len();
    for statement in &block.statements {
        let outer = scope.len();
        match &statement.kind {
            StatementKind::Let { local, .. } | StatementKind::Spawn { local: Some(local), .. } => {
                enter(facts, unit, *local, scope, found);
                continue;
            }
            StatementKind::For { local, .. } => enter(facts, unit, *local, scope, found),
            _ => {}
        }
        for block in blocks(statement) {
            inside(facts, unit, block, scope, found);
        }
        scope.truncate(outer);
    }
    scope.truncate(depth);
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn each_kind_of_local_can_hide() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 6
engine = "reads"
"#,
            &[r#"script tides for tide

private seen: int = 0

on bell {
    let height = 3 // ~ shadow/local
    if height > 2 {
        let height = 4
        note "{height}"
    }
    let seen = 3
    note "{seen}"
}

on touched(height) { // ~ shadow/local
    note "x"
}

on enter {
    seen += 1
    if seen > 3 {
        seen = 0
    }
}
"#],
        );
    }

    #[test]
    fn a_name_that_two_systems_have_means_neither() {
        let state = "{ type = \"int\", scope = \"global\", default = 0, engine = \"both\" }";
        let script = |mark: &str| {
            format!("script crews for mailboat\n\non bell {{\n    let height = 3{mark}\n    note \"{{height}}\"\n}}\n")
        };
        expect(&format!("[variables]\ntide.height = {state}\n"), &[&script(" // ~ shadow/local")]);
        expect(&format!("[variables]\ntide.height = {state}\noffice.height = {state}\n"), &[&script("")]);
    }
}
