//! `sharing/wider-than-needed`: a global that only one actor's, or one scene's, scripts touch, or a variable that one handler alone uses and always writes first.

use crate::finding::{Finding, Level, RuleName};
use crate::flow::access::{Access, AccessKind, Body, exit_reads, names, offered_texts, parts};
use crate::flow::graph::{Block, Graph};
use crate::project::{CellId, Meaning, PlaceId, ScriptUnit};
use crate::registry::{OwnerId, Scope, VarId};
use crate::rules::Facts;
use crate::rules::facts::HandlerView;
use crate::rules::{Example, Rule};
use crate::script::ast::AssignOp;

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
        if variable.constant || facts.is_read_beside_scripts(cell) || variable.engine_writes {
            continue;
        }
        let told = for_one_owner(facts, id).or_else(|| for_one_handler(facts, cell));
        findings.extend(told.map(|(message, cure)| {
            Finding::new(RULE.name, variable.place.header, message).about(registry.identity(id)).help(cure)
        }));
    }
    findings
}

/// A global that only one actor's, or one scene's, scripts touch: the message and the cure.
fn for_one_owner(facts: &Facts<'_>, id: VarId) -> Option<(String, String)> {
    let registry = facts.registry();
    let variable = registry.var(id);
    let only = |of: fn(&ScriptUnit) -> Option<OwnerId>| {
        let mut all: Vec<Option<OwnerId>> = facts.uses(CellId(id.0)).map(|(unit, _)| of(unit)).collect();
        all.sort_unstable();
        all.dedup();
        if let [Some(only)] = all[..] { Some(only) } else { None }
    };
    // A scene's scripts are its own, and those that are `in` it.
    let actor = only(|unit| unit.owner).filter(|&owner| registry.is_actor(owner));
    let user = actor.or_else(|| only(|unit| unit.scene)).filter(|_| variable.scope == Scope::Global)?;
    let (identity, name) = (registry.identity(id), &registry.owner(user).name);
    let whose = if actor.is_some() { "of" } else { "in" };
    let message = format!("`{identity}` is global, and only scripts {whose} `{name}` use it");
    Some((message, format!("make it a variable of `{name}`")))
}

/// A variable that one handler alone uses, and gives a value before it reads it.
fn for_one_handler(facts: &Facts<'_>, cell: CellId) -> Option<(String, String)> {
    let mut uses = facts.uses_by_id(cell);
    let (script, first) = uses.next()?;
    let Body::Handler(at) = first.body else { return None };
    let alike =
        |access: &Access| access.body == first.body && access.place == first.place && access.kind != AccessKind::Clear;
    if facts.may_be_used_unread(cell) || !alike(first) || !uses.all(|(other, access)| other == script && alike(access))
    {
        return None;
    }
    let handler = facts.handler(facts.world.handler_id(script, at));
    // What stands first in the text and reads it runs before anything has given it a value, if it runs at all.
    let opening = facts.uses(cell).map(|(_, access)| access).min_by_key(|access| access.at.start)?;
    if !matches!(opening.kind, AccessKind::Write(AssignOp::Set, _)) {
        return None;
    }
    let own = facts.world.is_one_place(handler.unit, first.place);
    let used = facts.uses(cell).any(|(_, access)| !access.writes() && !access.into_itself);
    if !own || !used || !writes_first(&handler, first.place) {
        return None;
    }
    let name = facts.cell_name(cell);
    let place = facts.where_is(handler.unit, handler.tree.span);
    let message = format!("only the handler at {place} uses `{name}`, and it gives it a value before it reads it");
    Some((message, "a `let` in that handler would do".to_owned()))
}

/// Whether on every way a handler assigns a place before it reads it. Blocks stand in reverse postorder, and a loop only
/// adds ways on which more was assigned, so one pass is enough.
fn writes_first(handler: &HandlerView<'_, '_>, place: PlaceId) -> bool {
    let unit = handler.unit;
    if handler.tree.when.is_some_and(|when| names(unit, when, place)) {
        return false;
    }
    let graph: &Graph = handler.graph;
    let mut assigned: Vec<Option<bool>> = vec![None; graph.blocks.len()];
    assigned[0] = Some(false);
    for at in 0..graph.blocks.len() {
        let Some(before) = assigned[at] else { continue };
        let block = &graph.blocks[at];
        let Some(after) = through(unit, block, place, before) else { return false };
        for next in block.exit.successors() {
            let known = &mut assigned[next.index()];
            *known = Some(known.unwrap_or(true) && after);
        }
    }
    true
}

/// Whether a place is assigned behind a block; none where the block may read it before.
fn through(unit: &ScriptUnit, block: &Block, place: PlaceId, mut assigned: bool) -> Option<bool> {
    for step in &block.steps {
        let parts = parts(step);
        let target = parts.target.filter(|&(target, ..)| unit.place_of(target) == Some(place));
        let value = parts.target.and_then(|(.., value)| value);
        // A step, or a write to one axis of a vector, leaves something of what was there.
        let steps =
            target.is_some_and(|(target, op, _)| op != AssignOp::Set || unit.meaning(target) != Meaning::Value(place));
        let read = parts.reads.into_iter().chain(value).any(|expr| names(unit, expr, place));
        if (read || steps) && !assigned {
            return None;
        }
        assigned |= target.is_some();
    }
    let read =
        exit_reads(&block.exit).into_iter().chain(offered_texts(&block.exit)).any(|expr| names(unit, expr, place));
    (assigned || !read).then_some(assigned)
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::{CONFIG, expect, project};

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

    #[test]
    fn a_global_for_one_scene() {
        let tide = "[variables.tide]\nboats = { type = \"int\", scope = \"global\", default = 0 }";
        let counting = |scene: &str| {
            format!(
                "script counts for tide{scene}\n\non bell {{\n    boats += 1\n}}\n\non enter {{\n    show \"{{boats}}\"\n}}\n"
            )
        };
        expect(&format!("{tide} # ~ sharing/wider-than-needed\n"), &[&counting(" in harbor")]);
        expect_no_note(&format!("{tide}\n"), &counting(""));
    }

    #[test]
    fn a_variable_that_a_let_could_be() {
        let registry = |mark: &str| {
            format!(
                "[variables.tide]\nscratch = {{ type = \"int\", scope = \"global\", default = 0 }}{mark}\npace = {{ type = \"int\", scope = \"global\", default = 0, engine = \"both\" }}\n"
            )
        };
        let marked = registry(" # ~ sharing/wider-than-needed");
        let bell = |lines: &str| format!("script bells for tide\n\non bell {{\n{lines}}}\n");
        let shown = "    show \"{scratch}\"\n";
        expect(&marked, &[&bell(&format!("    scratch = pace * 2\n{shown}"))]);
        let both = "    if pace > 3 {\n        scratch = 1\n    } else {\n        scratch = 2\n    }\n";
        expect(&marked, &[&bell(&format!("{both}{shown}"))]);
        let unmarked = registry("");
        let one = "    if pace > 3 {\n        scratch = 1\n    }\n";
        expect_no_note(&unmarked, &bell(&format!("{one}{shown}")));
        expect_no_note(&unmarked, &bell(&format!("    scratch += pace\n{shown}")));
        let cleared =
            "    scratch = 1\n    while pace > 3 {\n        show \"{scratch}\"\n        clear scratch\n    }\n";
        expect_no_note(&unmarked, &bell(cleared));
    }

    fn expect_no_note(registry: &str, script: &str) {
        let report = crate::report::check(&project(CONFIG, registry, &[script]));
        assert!(report.findings.iter().all(|told| told.finding.rule != super::RULE.name), "{script}");
    }
}
