//! `unused/enum-value`: a value of an enum that nothing assigns, compares, or starts with.

use crate::finding::{Finding, Level, RuleName};
use crate::project::CellId;
use crate::registry::{Type, Value, VarId};
use crate::rules::Facts;
use crate::rules::{Example, Rule};
use crate::script::ast::{ExprKind, TextPart};
use rustc_hash::FxHashSet;

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("unused/enum-value"),
    level: Level::Note,
    means: "A value of an enum that nothing assigns, compares, or starts with.",
    hurts: "Half a feature is left behind, or the name in the script is spelled another way.",
    bad: Example {
        registry: r#"[variables.tide.phase]
type = "enum"
scope = "global"
values = ["ebb", "flood", "storm"]
default = "ebb"
"#,
        script: r#"script tides for tide

on bell {
    if phase == "ebb" {
        phase = "flood"
    }
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.phase]
type = "enum"
scope = "global"
values = ["ebb", "flood"]
default = "ebb"
"#,
        script: r#"script tides for tide

on bell {
    if phase == "ebb" {
        phase = "flood"
    }
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let registry = facts.registry();
    let mut findings = Vec::new();
    let written = literals(facts);
    for id in registry.var_ids() {
        let variable = registry.var(id);
        if !matches!(variable.ty, Type::Enum(_))
            || variable.engine_writes
            || variable.retired.is_some()
            || !facts.is_read(CellId(id.0)) && !facts.is_written(CellId(id.0))
        {
            continue;
        }
        let unused: Vec<&str> =
            variable.values.iter().map(|value| &**value).filter(|value| !is_used(facts, id, value, &written)).collect();
        if !unused.is_empty() {
            let identity = registry.identity(id);
            let verb = if unused.len() == 1 { "is" } else { "are" };
            let message = format!("of the values of `{identity}`, {} {verb} never used", crate::words::both(&unused));
            findings.push(
                Finding::new(RULE.name, variable.place.header, message)
                    .about(identity)
                    .help("use it, or take it out of `values`"),
            );
        }
    }
    findings
}

/// All plain texts that scripts and invariants contain.
fn literals<'a>(facts: &'a Facts<'_>) -> FxHashSet<&'a str> {
    let units = facts.project.scripts.iter().chain(facts.project.invariants.iter().map(|invariant| &invariant.unit));
    let exprs = units.flat_map(|unit| &unit.tree.exprs);
    let texts = exprs.filter_map(|expr| match &expr.kind {
        ExprKind::Text(parts) => Some(parts),
        _ => None,
    });
    texts
        .filter_map(|parts| if let [TextPart::Plain(text)] = &parts[..] { Some(text.as_str()) } else { None })
        .collect()
}

fn is_used(facts: &Facts<'_>, id: VarId, value: &str, written: &FxHashSet<&str>) -> bool {
    let is = |constant: &Value| matches!(constant, Value::Text(text) if &**text == value);
    let registry = facts.registry();
    let started = registry.instances.iter().flat_map(|instance| &instance.start);
    written.contains(value)
        || registry.var(id).default.as_ref().is_some_and(is)
        || started.filter(|start| start.variable == id).any(|start| is(&start.value))
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn values_that_nobody_names() {
        expect(
            r#"[variables.tide.phase] # ~ unused/enum-value
type = "enum"
scope = "global"
values = ["ebb", "flood", "slack"]
default = "ebb"
engine = "reads"
"#,
            &[r#"script tides for tide

on bell {
    phase = "flood"
}
"#],
        );
    }
}
