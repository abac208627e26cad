//! `type/raw-fraction-shown`: a text prints a number that can have a fraction, with no count of decimals.

use crate::finding::{Finding, Level, RuleName};
use crate::registry::Type;
use crate::rules::Facts;
use crate::rules::{Example, Rule};
use crate::script::ast::{ExprKind, TextPart};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("type/raw-fraction-shown"),
    level: Level::Note,
    means: "A text prints a number that can have a fraction, with no count of decimals.",
    hurts: "The player reads 0.30000000000000004.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "number"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on bell {
    height += 0.1
    show "{height}"
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "number"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on bell {
    height += 0.1
    show "{height:1}"
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for unit in &facts.project.scripts {
        let texts = unit
            .tree
            .exprs
            .iter()
            .filter_map(|expr| if let ExprKind::Text(parts) = &expr.kind { Some(parts) } else { None });
        for part in texts.flatten() {
            if let TextPart::Token { value, decimals: None, span } = part
                && unit.ty(*value) == Type::Number
            {
                let name = facts.project.text(unit, unit.tree.expr(*value).span);
                let mut finding = Finding::new(
                    RULE.name,
                    unit.at(*span),
                    format!("`{name}` can have a fraction, and is printed with all its digits"),
                );
                finding.variable = unit.place_of(*value).and_then(|place| facts.identity_of(unit, place));
                findings.push(finding.help(format!("say how many decimals: `{{{name}:1}}`")));
            }
        }
    }
    findings
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn decimals_are_counted() {
        expect(
            r#"[variables.tide.height]
type = "number"
scope = "global"
default = 0
engine = "both"
"#,
            &[r#"script tides for tide

on bell {
    show "{height}" // ~ type/raw-fraction-shown
    show "{height:1} {round(height)}"
}
"#],
        );
    }
}
