//! `range/divide-by-zero`: a division whose divisor can be zero.

use crate::finding::{Finding, Level, RuleName};
use crate::flow::access::walk_expr;
use crate::flow::engine::Event;
use crate::project::{ScriptUnit, is_constant};
use crate::rules::Facts;
use crate::rules::facts::each_event;
use crate::rules::facts::range_text;
use crate::rules::{Example, Rule};
use crate::script::ast::{BinaryOp, ExprKind};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("range/divide-by-zero"),
    level: Level::Error,
    means: "A division whose divisor can be zero.",
    hurts: "The result is zero where nobody expects it, or whatever the engine makes of it.",
    bad: Example {
        registry: r#"[variables.tide.boats]
type = "int"
scope = "global"
default = 0
min = 0
"#,
        script: r#"script tides for tide

on bell {
    note "{10 / boats:1}"
    boats += 1
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.boats]
type = "int"
scope = "global"
default = 1
min = 1
"#,
        script: r#"script tides for tide

on bell {
    note "{10 / boats:1}"
    boats += 1
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let mut findings =
        each_event(facts, |unit, event| {
            let Event::Zero { divisor, at, range } = event else { return None };
            let text = facts.project.text(unit, unit.tree.expr(*divisor).span);
            let always = range.0 == 0.0 && range.1 == 0.0;
            let message = if always {
                format!("this divides by `{text}`, which is 0 here")
            } else {
                format!("this divides by `{text}`, which is {} here and can be 0", range_text(range.0, range.1))
            };
            let mut finding = Finding::new(RULE.name, unit.at(unit.tree.expr(*at).span), message);
            finding.variable = unit.place_of(*divisor).and_then(|place| facts.identity_of(unit, place));
            Some(finding.help(format!(
                "divide only where it is not 0: `if {text} != 0 {{ … }}`, or divide by `max({text}, 1)`"
            )))
        });
    findings.extend(facts.project.scripts.iter().flat_map(|unit| in_privates(facts, unit)));
    findings
}

/// What the first values of a script's privates divide by zero.
fn in_privates(facts: &Facts<'_>, unit: &ScriptUnit) -> Vec<Finding> {
    let mut findings = Vec::new();
    for private in &unit.tree.privates {
        let Some(start) = private.start.filter(|&start| is_constant(unit, &unit.tree, start)) else { continue };
        walk_expr(unit, start, &mut |expr| {
            if let ExprKind::Binary(BinaryOp::Divide | BinaryOp::Remainder, _, divisor) = unit.tree.expr(expr).kind
                && facts.world.constant_number(unit, divisor) == Some(0.0)
            {
                let message = "this divides by 0".to_owned();
                let finding = Finding::new(RULE.name, unit.at(unit.tree.expr(expr).span), message);
                findings.push(finding.help("write the value that it is to start with"));
            }
        });
    }
    findings
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn tests_and_relations_keep_the_divisor_from_zero() {
        expect(
            r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = "mailboat.hold_size"
engine = "reads"

[variables.mailboat.hold_size]
type = "int"
scope = "instance"
default = 20
engine = "reads"

[variables.mailboat.oil]
type = "number"
scope = "instance"
default = 50
min = 0
max = 100
engine = "reads"
"#,
            &[r#"script loading for mailboat in harbor

on bell {
    note "{100 / parcels:1}" // ~ range/divide-by-zero
    if parcels > 0 {
        note "{100 / parcels:1}"
    }
    if parcels < hold_size {
        note "{100 / (hold_size - parcels):1}"
    }
    note "{100 / max(parcels, 1):1}"
    note "{hold_size % (parcels + 1)}"
    oil /= 2
}
"#],
        );
    }

    #[test]
    fn a_fraction_that_is_lost_is_another_mistake() {
        expect(
            r#"[variables.tide]
boats = { type = "int", scope = "global", default = 0, min = 0, max = 9, engine = "both" }
share = { type = "int", scope = "global", default = 0, min = 0, max = 10, engine = "reads" }
"#,
            &["script tides for tide

on bell {
    share = 10 / boats // ~ range/divide-by-zero type/fraction-lost
}

on bumped {
    share = 10 / max(boats, 1) // ~ type/fraction-lost
}
"],
        );
    }

    #[test]
    fn a_later_test_for_zero_is_not_called_needless() {
        expect(
            r#"[variables.tide.speed]
type = "int"
scope = "global"
default = 0
min = 0
max = 9
engine = "both"

[variables.tide.hours]
type = "number"
scope = "global"
default = 0
engine = "reads"
"#,
            &[r#"script tides for tide

on bell {
    hours = 60 / speed // ~ range/divide-by-zero
    if speed != 0 {
        hours += 10 / speed
    }
    hours += 1 / speed
    hours += 1 / length("tide")
    hours += 1 / length("{speed}!")
}
"#],
        );
    }

    const STATE: &str = r#"[variables.tide]
hours = { type = "number", scope = "global", default = 0, engine = "reads" }
turn = { type = "int", scope = "global", default = 1, min = -9, max = 9, engine = "both" }
flow = { type = "number", scope = "global", default = 1, min = -1, max = 1, engine = "both" }
high = { type = "int", scope = "global", default = 9, min = 0, max = 20, engine = "both" }
low = { type = "int", scope = "global", default = 1, min = 0, max = 20, engine = "both" }
"#;

    fn on_bell(lines: &str) {
        expect(STATE, &[&format!("script tides for tide\n\non bell {{\n{lines}}}\n")]);
    }

    #[test]
    fn zero_may_be_left_out_from_between() {
        for guard in [
            "turn != 0",
            "not (turn == 0)",
            "turn > 0 or turn < 0",
            "abs(turn) > 0",
            "abs(turn) >= 2",
            "turn * turn != 0",
            "turn * high > 0",
        ] {
            on_bell(&format!(
                "    if {guard} {{\n        hours = 60 / turn + 60 / abs(turn) + 60 % (turn * turn)\n    }}\n"
            ));
        }
        on_bell("    let turned = turn != 0\n    if turned {\n        hours = 60 / turn\n    }\n");
        on_bell("    if flow == 0 {\n        return\n    }\n    hours = 60 / flow\n");
        on_bell("    hours = 60 / (turn * turn + 1)\n");
        on_bell("    if turn != 1 {\n        hours = 60 / turn // ~ range/divide-by-zero\n    }\n");
        on_bell("    if turn >= 0 {\n        hours = 60 / turn // ~ range/divide-by-zero\n    }\n");
        on_bell(
            "    if turn != 0 {\n        turn = clamp(turn + 1, -9, 9)\n        hours = 60 / turn // ~ range/divide-by-zero\n    }\n",
        );
    }

    #[test]
    fn what_differs_has_a_difference() {
        on_bell("    if high != low {\n        hours = 60 / (high - low)\n        hours += 60 / (low - high)\n    }\n");
        on_bell("    if high == low {\n        return\n    }\n    hours = 60 / (low - high)\n");
        on_bell("    let range = high - low\n    if range == 0 {\n        return\n    }\n    hours = 60 / range\n");
        on_bell("    let range = high - low\n    if high == low {\n        return\n    }\n    hours = 60 / range\n");
        on_bell("    if high != low + 1 {\n        hours = 60 / (high - low) // ~ range/divide-by-zero\n    }\n");
        on_bell(
            "    if high != low {
        high = max(high - 1, 0)
        hours = 60 / (high - low) // ~ range/divide-by-zero
    }
",
        );
        on_bell(
            "    if high != low {\n        hours = 1\n    } else if high != low { // ~ range/never\n        hours = 2\n    }\n",
        );
        on_bell(
            "    if high == 7 {\n        return\n    }\n    if high == 7 { // ~ range/never\n        hours = 2\n    }\n",
        );
    }
}
