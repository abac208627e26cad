//! `sharing/burst`: a handler of a signal that can come many times for one act of the player changes something, and nothing keeps the rest of the burst out.

use super::guard;
use crate::finding::{Finding, Level, RuleName};
use crate::rules::Facts;
use crate::rules::{Example, Rule};
use crate::source::Span;

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("sharing/burst"),
    level: Level::Warning,
    means: "A handler of a signal that can come many times for one act of the player changes something, and nothing keeps the rest of the burst out.",
    hurts: "One touch, five parcels.",
    bad: Example {
        registry: r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = 20
overflow = "clamp"
engine = "reads"
"#,
        script: "script loading for mailboat in harbor

on bumped(other) {
    parcels += 1
}
",
    },
    good: Example {
        registry: r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = 20
overflow = "clamp"
engine = "reads"
"#,
        script: "script loading for mailboat in harbor

on bumped(other: parcel) {
    parcels += 1
    remove other
}
",
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let registry = facts.registry();
    let mut findings = Vec::new();
    for handler in facts.handlers() {
        let signal = handler.unit.handlers[handler.index].signal;
        let Some(signal) = signal.map(|id| registry.signal(id)).filter(|signal| signal.bursts) else { continue };
        let steps = guard::steps(facts, &handler);
        // The burst comes at one moment: what keeps it out must stand at the first wait, or at an end without one.
        let pauses = handler.found.pauses.iter().filter(|pause| pause.stepped || pause.wait.is_some());
        let pauses = pauses.filter(|pause| !pause.waited && !guard::removes_what_came(facts, &handler, pause));
        let mut unguarded: Vec<Span> = pauses
            .flat_map(|pause| {
                let again = facts.world.again(handler.id, pause);
                steps.iter().copied().filter(move |at| again.contains_key(at)).collect::<Vec<_>>()
            })
            .collect();
        unguarded.sort_unstable();
        if let Some(&first) = unguarded.first() {
            let statement = facts.project.text(handler.unit, first).lines().next().unwrap_or("").trim().to_owned();
            let message =
                format!("`{}` can come many times for one act, and `{statement}` is done each time", signal.name);
            findings.push(
                Finding::new(RULE.name, handler.unit.at(first), message)
                    .help("remove what was touched, or keep the rest out: a guard that is put back after a `wait`")
                    .with(signal.place.key("bursts"), "the signal comes in bursts"),
            );
        }
    }
    findings
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::{expect, expect_with};

    #[test]
    fn only_a_guard_that_outlasts_the_burst_helps() {
        expect_with(
            r#"[project]
name = "Saltmarsh Mail"
first_scene = "harbor"

[order]
first = ["scripts/a.oaken"]

[rules]
"unused/local" = "off"
"#,
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 6
overflow = "clamp"
engine = "reads"
"#,
            &[
                r#"script tides for tide

private busy: bool = false
private taken: bool = false

on bumped(other) when not busy {
    busy = true // ~ unused/dead-write
    height += 1 // ~ sharing/burst
    busy = false
}
"#,
                r#"script ebbs for tide

private taken: bool = false

on bumped(other: parcel) when not taken {
    taken = true
    tide.height += 1
}
"#,
            ],
        );
    }

    #[test]
    fn a_guard_over_a_wait_outlasts_it() {
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

on bumped(other) when not busy {
    busy = true
    height += 1
    wait 0.5s
    busy = false
}
"#],
        );
    }
}
