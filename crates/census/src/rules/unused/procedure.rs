//! `unused/procedure`: a procedure that nothing calls.

use crate::finding::{Finding, Level, RuleName};
use crate::project::{Meaning, ProcId};
use crate::rules::Facts;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("unused/procedure"),
    level: Level::Warning,
    means: "A procedure that nothing calls.",
    hurts: "What it was to do does not happen.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on bell {
    note "{height}"
}

proc rise() {
    height += 1
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
    rise()
    note "{height}"
}

proc rise() {
    height += 1
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for unit in &facts.project.scripts {
        for (at, procedure) in unit.tree.procedures.iter().enumerate() {
            let name = facts.project.text(unit, procedure.name.span);
            let called = unit.meanings.contains(&Meaning::Procedure(ProcId::at(at)));
            if !called && !unit.may_use(name) {
                let message = format!("nothing calls the procedure `{name}`");
                findings.push(
                    Finding::new(RULE.name, unit.at(procedure.name.span), message)
                        .help(format!("call it, `{name}(…)`, or take it out")),
                );
            }
        }
    }
    findings
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn called_or_not() {
        expect(
            "",
            &[r#"script tides for tide

on bell {
    first()
}

proc first() {
    second()
}

proc second() {
    note "second"
}

proc third() { // ~ unused/procedure
    note "third"
}
"#],
        );
    }
}
