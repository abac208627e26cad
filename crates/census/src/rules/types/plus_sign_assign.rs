//! `type/plus-sign-assign`: `x = +1` sets a variable to one, where a step was surely meant.

use crate::finding::{Finding, Level, RuleName};
use crate::flow::graph::StepKind;
use crate::rules::Facts;
use crate::rules::{Example, Rule};
use crate::script::ast::{AssignOp, ExprKind, UnaryOp};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("type/plus-sign-assign"),
    level: Level::Warning,
    means: "`x = +1` sets a variable to one, where a step was surely meant.",
    hurts: "The count never gets past one.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on bell {
    height = +1
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
    let mut findings = Vec::new();
    for (script, unit) in facts.project.script_ids() {
        let graphs = &facts.world.graphs[script.index()];
        for step in graphs.handlers.iter().chain(&graphs.procedures).flat_map(|g| &g.blocks).flat_map(|b| &b.steps) {
            let StepKind::Assign { target, op: AssignOp::Set, value, place, .. } = &step.kind else { continue };
            let ExprKind::Unary(UnaryOp::Plus, amount) = &unit.tree.expr(*value).kind else { continue };
            let (name, amount) = (
                facts.project.text(unit, unit.tree.expr(*target).span),
                facts.project.text(unit, unit.tree.expr(*amount).span),
            );
            let message = format!("`{name} = +{amount}` sets `{name}` to {amount}; it does not add {amount} to it");
            let mut finding = Finding::new(RULE.name, unit.at(step.span), message)
                .help(format!("write `{name} += {amount}`, or `{name} = {amount}` if that is meant"));
            finding.variable = facts.identity_of(unit, *place);
            findings.push(finding);
        }
    }
    findings
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn a_sign_on_the_wrong_side() {
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

on bell {
    height = +1 // ~ type/plus-sign-assign
}

on touched(other) {
    height = 1
}
"#],
        );
    }
}
