//! `sharing/burst`: a handler of a signal that can come many times for one act of the player changes something, and nothing keeps the rest of the burst out.

use super::guard;
use super::sequence::{Counts, Sequence};
use crate::finding::{Finding, Level, RuleName};
use crate::flow::called::{self, Called};
use crate::flow::engine::Pause;
use crate::flow::graph::{Block, Step};
use crate::rules::Facts;
use crate::rules::facts::HandlerView;
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
        let pauses =
            handler.found.pauses.iter().filter(|pause| pause.stepped || steps_later(facts, &handler, &steps, pause));
        let pauses = pauses.filter(|pause| pause.at_once && !guard::removes_what_came(facts, &handler, pause));
        let mut unguarded: Vec<Span> = pauses
            .flat_map(|pause| {
                let again = facts.world.again(handler.id, pause);
                steps.iter().copied().filter(move |at| again.contains_key(at)).collect::<Vec<_>>()
            })
            .collect();
        if unguarded.len() > 1 {
            let sequence = Sequence::new(facts, &handler, Counts::First);
            unguarded.sort_unstable_by_key(|&at| sequence.turn(at));
        }
        if let Some(&first) = unguarded.first().filter(|_| !facts.world.guards_unread(handler.id)) {
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

/// Whether an activation that is at a pause may step something after it, or in an `after` block that it has put off.
fn steps_later(facts: &Facts<'_>, handler: &HandlerView<'_, '_>, steps: &[Span], pause: &Pause) -> bool {
    if pause.forked && guard::is_any_put_off(handler, steps) {
        return true;
    }
    let Some(wait) = pause.wait else { return false };
    let does_any = |calls: &[Called]| guard::calls_any_of(facts, handler, calls, steps);
    let is_step = |step: &Step| steps.contains(&step.span) || does_any(&called::by_step(handler.unit, step));
    let blocks = &handler.graph.blocks;
    let stands = |at: &usize| blocks[*at].exit_span == wait || blocks[*at].steps.iter().any(|step| step.span == wait);
    let Some(first) = (0..blocks.len()).find(stands) else { return true };
    let behind = blocks[first].steps.iter().skip_while(|step| step.span != wait);
    let leaves_later = |block: &Block| block.exit_span != wait && does_any(&called::by_exit(handler.unit, &block.exit));
    if behind.skip(1).any(is_step) || leaves_later(&blocks[first]) {
        return true;
    }
    let mut seen = vec![false; blocks.len()];
    let mut open: Vec<usize> = blocks[first].exit.successors().iter().map(|next| next.index()).collect();
    while let Some(at) = open.pop() {
        if !std::mem::replace(&mut seen[at], true) {
            if blocks[at].steps.iter().any(is_step) || leaves_later(&blocks[at]) {
                return true;
            }
            open.extend(blocks[at].exit.successors().iter().map(|next| next.index()));
        }
    }
    false
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::{expect, expect_in_scripts, expect_with};

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
    fn every_way_through_and_what_is_put_off_count() {
        let script = |mark: &str, body: &str| {
            let text = format!(
                "script tides for tide\n\nprivate busy: bool = false\n\non bumped(other) when not busy {{{mark}\n    busy = true\n{body}\n}}\n"
            );
            let registry =
                "[variables.tide]\nheight = { type = \"int\", scope = \"global\", default = 0, engine = \"reads\" }\n";
            expect_in_scripts(registry, &[&text]);
        };
        let perhaps = "    if chance(0.5) { wait 1s }\n    busy = false";
        script("", &format!("    height += 1 // ~ sharing/burst\n    note \"{{busy}}\"\n{perhaps}"));
        script(
            " // ~ sharing/reentry",
            "    note \"{busy}\"\n    after 1s {\n        height += 1 // ~ sharing/burst\n    }\n    busy = false",
        );
        script(
            " // ~ sharing/reentry",
            "    note \"{busy}\"\n    busy = false\n    after 1s {\n        height += 1 // ~ sharing/burst\n    }\n    wait 1s",
        );
        script("", "    height += 1\n    after 1s {\n        busy = false\n    }");
        // The one way steps and keeps the rest out, the other does neither.
        script("", "    if chance(0.5) { height += 1 } else { busy = false }\n    wait 1s\n    busy = false");
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
