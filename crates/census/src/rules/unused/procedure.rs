//! `unused/procedure`: a procedure that nothing calls.

use crate::finding::{Finding, Level, RuleName};
use crate::project::Meaning;
use crate::rules::Facts;
use crate::rules::{Example, Rule};
use crate::script::ast::Procedure;
use rustc_hash::FxHashSet;

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
        let name = |procedure: &Procedure| facts.project.text(unit, procedure.name.span);
        // Where two have one name, which is told as such, whoever calls it may mean either.
        let called: FxHashSet<_> = unit
            .meanings
            .iter()
            .filter_map(|meaning| match meaning {
                Meaning::Procedure(id) => Some(name(&unit.tree.procedures[id.index()])),
                _ => None,
            })
            .collect();
        for procedure in &unit.tree.procedures {
            let name = name(procedure);
            if !called.contains(name) && !unit.may_use(name) {
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
    fn one_name_for_two_is_one_finding() {
        let twice = "proc raise() { // %
    note \"up\"
}

";
        let script = format!(
            "script tides for tide\n\n{}{}on bell {{\n    raise()\n}}\n",
            twice.replace(" // %", ""),
            twice.replace("%", "~ registry/duplicate")
        );
        expect("", &[&script]);
    }

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
