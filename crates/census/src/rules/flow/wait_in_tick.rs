//! `flow/wait-in-tick`: a `tick` handler, or an `every` shorter than its waits, waits and is begun again meanwhile.

use crate::finding::{Finding, Level, RuleName};
use crate::rules::Facts;
use crate::rules::sharing::guard;
use crate::rules::{Example, Rule};
use crate::script::ast::Trigger;

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("flow/wait-in-tick"),
    level: Level::Warning,
    means: "A `tick` handler, or an `every` shorter than its waits, waits and is begun again meanwhile.",
    hurts: "Activations pile up, sixty a second, and each does its work later.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on tick {
    wait 1s
    note "{height}"
    height = 1
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

on every 2s {
    wait 1s
    note "{height}"
    height = 1
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for handler in facts.handlers() {
        let piles = match &handler.tree.trigger {
            Trigger::Tick | Trigger::Every(_) => !facts.world.begins_alone(handler.id),
            _ => false,
        };
        if !piles {
            continue;
        }
        let waits = guard::wait_steps(handler.unit, handler.graph);
        let unguarded = guard::waits(&handler).any(|pause| {
            let again = facts.world.again(handler.id, pause);
            waits.iter().any(|at| again.contains_key(at))
        });
        if let Some(&first) = waits.first().filter(|_| unguarded && !facts.world.guards_unread(handler.id)) {
            let message = "this waits, and the handler is begun again before it is through: activations pile up";
            findings.push(
                Finding::new(RULE.name, handler.unit.at(first), message)
                    .help("count ticks in a private instead, or keep it out while it waits with a guard"),
            );
        }
    }
    findings
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn piles_and_guards() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 6
overflow = "clamp"
engine = "reads"
"#,
            &[r#"script tides for tide

private busy: bool = false

on tick when not busy {
    busy = true
    wait 1s
    busy = false
    height = 2
}

on every 1s { // ~ sharing/reentry
    wait 2s // ~ flow/wait-in-tick
    height += 1
}
"#],
        );
    }

    #[test]
    fn waits_are_added_up_and_looked_for_in_procedures() {
        expect(
            "[variables.tide]\nheight = { type = \"int\", scope = \"global\", default = 0, engine = \"reads\" }\n",
            &[r#"script tides for tide

private busy: bool = false

on every 1s when not busy {
    busy = true
    wait 2s
    busy = false
}

on every 2s {
    wait 1s
    height = 6
}

on every 3s {
    rest() // ~ flow/wait-in-tick
}

on every 5s {
    wait 2s // ~ flow/wait-in-tick
    wait 4s
    height = 8
}

proc rest() {
    wait 4s
    height = 7
}
"#],
        );
    }

    #[test]
    fn what_is_through_by_the_next_tick_does_not_pile_up() {
        let registry =
            "[variables.tide]\nheight = { type = \"int\", scope = \"global\", default = 0, engine = \"reads\" }\n";
        let waits =
            |ticks: &str| format!("script tides for tide\n\non tick {{\n    wait {ticks}\n    height = 1\n}}\n");
        expect(registry, &[&waits("1t")]);
        expect(registry, &[&waits("2t // ~ flow/wait-in-tick")]);
    }
}
