//! `unused/local`: a `let` or a private that is never read.

use crate::finding::{Finding, Level, RuleName};
use crate::flow::access::{exit_reads, offered_texts, parts, walk_expr};
use crate::flow::graph::Exit;
use crate::project::{Base, Place, PlaceId, ScriptId, ScriptUnit};
use crate::rules::Facts;
use crate::rules::{Example, Rule};
use crate::script::ast::{ExprId, LocalKind, Name};
use rustc_hash::FxHashSet;

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("unused/local"),
    level: Level::Warning,
    means: "A `let` or a private that is never read.",
    hurts: "The value was meant for something, and that something does not happen.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: "script tides for tide

on bell {
    let wanted = height + 1
    height = 2
}
",
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: "script tides for tide

on bell {
    let wanted = height + 1
    height = wanted
}
",
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (script, unit) in facts.project.script_ids() {
        let read = read_locals(facts, script, unit);
        for (at, local) in unit.tree.locals.iter().enumerate() {
            let name = facts.project.text(unit, local.name.span);
            if local.kind == LocalKind::Let && !read.contains(&at) && !unit.may_use(name) {
                findings.push(word(unit, local.name, "let", name));
            }
        }
        for (index, private) in unit.tree.privates.iter().enumerate() {
            let name = facts.project.text(unit, private.name.span);
            if !facts.is_read(unit.privates[index].cell) {
                findings.push(word(unit, private.name, "private", name));
            }
        }
    }
    findings
}

fn word(unit: &ScriptUnit, name: Name, what: &str, text: &str) -> Finding {
    Finding::new(RULE.name, unit.at(name.span), format!("the {what} `{text}` is never read"))
        .help("use it, or take it out")
}

/// The locals whose value is used for something else than their own next value.
fn read_locals(facts: &Facts<'_>, script: ScriptId, unit: &ScriptUnit) -> FxHashSet<usize> {
    let mut read = FxHashSet::default();
    let mut look = |expr: ExprId, into: Option<PlaceId>| {
        walk_expr(unit, expr, &mut |inner| {
            let mut place = unit.place_of(inner);
            while let Some(at) = place {
                match unit.place(at) {
                    Place::Local(local) => {
                        if into != Some(at) {
                            read.insert(local.0 as usize);
                        }
                        place = None;
                    }
                    Place::Variable(_, Base::Held(held)) => place = Some(held),
                    _ => place = None,
                }
            }
        });
    };
    let graphs = &facts.world.graphs[script.index()];
    for handler in &unit.tree.handlers {
        handler.when.into_iter().for_each(|when| look(when, None));
    }
    for block in graphs.handlers.iter().chain(&graphs.procedures).flat_map(|graph| &graph.blocks) {
        for step in &block.steps {
            let parts = parts(step);
            parts.reads.into_iter().for_each(|expr| look(expr, None));
            if let Some((target, _, value)) = parts.target {
                let own = unit.place_of(target);
                value.into_iter().for_each(|value| look(value, own));
                look(target, own);
            }
        }
        exit_reads(&block.exit).into_iter().chain(offered_texts(&block.exit)).for_each(|expr| look(expr, None));
        if let Exit::Repeat { count, .. } = &block.exit {
            look(*count, None);
        }
    }
    read
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn lets_and_privates_that_go_nowhere() {
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

private count: int = 0 // ~ unused/local
private seen: int = 0

on bell {
    let wanted = 3 // ~ unused/local
    let used = 4
    height = used
    count += 1
    seen += 1
    if seen == 3 {
        height = 2
    }
}
"#],
        );
    }
}
