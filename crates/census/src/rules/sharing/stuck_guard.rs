//! `sharing/stuck-guard`: a guard that one way out of its handler puts back and another way out leaves up.

use super::guard;
use super::guard::Flag;
use crate::finding::{Finding, Level, RuleName};
use crate::flow::engine::Pause;
use crate::flow::value::Value;
use crate::project::{CellId, Meaning, ProcId};
use crate::rules::Facts;
use crate::rules::facts::HandlerView;
use crate::rules::{Example, Rule};
use crate::script::ast::{Block, StatementKind, walk};
use crate::source::Span;

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("sharing/stuck-guard"),
    level: Level::Warning,
    means: "A guard that one way out of its handler puts back and another way out leaves up.",
    hurts: "After that way was taken once, the handler never runs again.",
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

private busy: bool = false

on touched(other: parcel) when not busy {
    busy = true
    if parcels == 20 {
        return
    }
    wait 1s
    parcels += 1
    busy = false
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

private busy: bool = false

on touched(other: parcel) when not busy {
    if parcels == 20 {
        return
    }
    busy = true
    wait 1s
    parcels += 1
    busy = false
}
",
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for handler in facts.handlers() {
        for guard in guard::flags(facts, &handler) {
            findings.extend(judge(facts, &handler, &guard).filter(|_| !facts.world.guards_unread(handler.id)));
        }
    }
    findings
}

fn judge(facts: &Facts<'_>, handler: &HandlerView<'_, '_>, flag: &Flag) -> Option<Finding> {
    guard::assigns(facts, handler, flag.cell, !flag.up)?;
    let set = guard::assigns(facts, handler, flag.cell, flag.up)?;
    let others = facts.world.effects[flag.cell.index()].iter().any(|effect| {
        effect.handler != Some(handler.id)
            && (effect.clears || matches!(effect.set, Some(Value::Bool { yes, no }) if if flag.up { no } else { yes }))
    });
    if others || facts.world.is_unsettled(flag.cell) {
        return None;
    }
    let begun = facts.world.entry_state(handler.id, &[])?;
    let can_be = |pause: &Pause, up: bool| {
        let value = pause.changed(flag.slot).or(begun.values.get(flag.slot as usize)).map(|value| &value.value);
        matches!(value, Some(Value::Bool { yes, no }) if if flag.up == up { *yes } else { *no })
    };
    let is_up = |pause: &Pause| can_be(pause, true);
    let mut put_off = guard::put_off(handler);
    put_off.retain(|block| is_written_in(facts, handler, flag.cell, block));
    // One that puts off another leaves it to that.
    let all = put_off.clone();
    put_off.retain(|block| !all.iter().any(|other| other.span != block.span && leads_to(handler, block, other.span)));
    let decides = |pause: &Pause| match pause.later {
        true => put_off.iter().any(|block| block.span.contains(pause.at)),
        false => !pause.forked || put_off.is_empty(),
    };
    let is_way_out = |pause: &&Pause| pause.wait.is_none() && decides(pause) && !flag.is_gone(facts, handler, pause);
    let can_be_dropped = |pause: &&Pause| guard::is_suspended(pause) && flag.outlives_a_drop(facts, handler);
    let is_kept_up = || handler.found.pauses.iter().any(is_up);
    if facts.world.keeps_pauses(handler.id) && !is_kept_up() {
        return None;
    }
    // Only ways on which the guard let the handler in: those that it turns back find the guard up.
    let down = Value::Bool { yes: !flag.up, no: flag.up };
    let mut pauses = facts.world.pauses_from(handler.id, Some((flag.slot, down)));
    // One that is up again on every way out is never put back.
    let puts_back = |pause: &Pause| pause.wait.is_none() && decides(pause) && can_be(pause, false);
    if !pauses.iter().any(|pause| puts_back(pause) || can_be_dropped(&pause)) {
        return None;
    }
    // What an activation puts back at its own end is not left up by its `after` blocks.
    let is_end = |pause: &&Pause| pause.wait.is_none() && !pause.later;
    let ends_down = pauses.iter().any(|pause| is_end(&pause)) && !pauses.iter().filter(is_end).any(is_up);
    pauses.retain(|pause| is_up(pause) && !(ends_down && pause.later && pause.wait.is_none()));
    let at = pauses.iter().find(is_way_out).or_else(|| pauses.iter().find(can_be_dropped))?;
    Some(word(facts, handler, flag, set, at))
}

/// Whether a cell is written in an `after` block, which then decides what becomes of it, and not the end of its activation.
fn is_written_in(facts: &Facts<'_>, handler: &HandlerView<'_, '_>, cell: CellId, block: &Block) -> bool {
    facts.accesses_of(handler).any(|access| access.cell == cell && access.writes() && block.span.contains(access.at))
        || called_in(handler, block).any(|id| facts.world.written_by(handler.script, id).contains(&cell))
}

/// Whether a stretch stands in a block, or in a procedure that this calls.
fn leads_to(handler: &HandlerView<'_, '_>, block: &Block, stretch: Span) -> bool {
    let procedures = &handler.unit.tree.procedures;
    block.span.contains(stretch)
        || called_in(handler, block).any(|id| procedures[id.index()].body.span.contains(stretch))
}

/// The procedures that the statements of a block call.
fn called_in(handler: &HandlerView<'_, '_>, block: &Block) -> impl Iterator<Item = ProcId> + use<> {
    let mut called = Vec::new();
    walk(block, &mut |statement| {
        if let StatementKind::Call(call) = statement.kind
            && let Meaning::Procedure(id) = handler.unit.meaning(call)
        {
            called.push(id);
        }
    });
    called.into_iter()
}

fn word(facts: &Facts<'_>, handler: &HandlerView<'_, '_>, flag: &Flag, set: Span, out: &Pause) -> Finding {
    let name = facts.place_name(handler.unit, flag.place);
    let line = facts.project.sources.file(handler.unit.file).position(out.at.start).line;
    let message = match out.wait {
        None => format!(
            "`{name}` is set to {} here and put back on one way out, but the way out at line {line} leaves it as it is: the handler then never runs again",
            flag.up
        ),
        Some(_) => format!(
            "`{name}` is set to {} here, and what waits at line {line} can be dropped before it is put back: the handler then never runs again",
            flag.up
        ),
    };
    let mut finding = Finding::new(RULE.name, handler.unit.at(set), message);
    finding.variable = facts.identity_of(handler.unit, flag.place);
    finding
        .help(format!("put it back on every way out: `{name} = {}`", !flag.up))
        .with(handler.unit.at(out.at), "left here")
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::{expect, expect_in_scripts};

    #[test]
    fn every_way_out_puts_it_back_or_none_does() {
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
private once: bool = false

on bell when not busy {
    busy = true // ~ sharing/stuck-guard
    if height > 3 {
        return
    }
    wait 1s
    height += 1
    busy = false
}

on touched(other) when not once {
    once = true
    wait 1s
    height = 2
}
"#],
        );
    }

    #[test]
    fn an_after_block_puts_it_back_only_where_it_was_put_off() {
        let crane = |body: &str, mark: &str| {
            let script = format!(
                "script crane for tide\n\nprivate busy: bool = false\n\non bell when not busy {{\n    busy = true{mark}\n{body}}}\n"
            );
            expect_in_scripts("", &[&script]);
        };
        let later = "    after 1s {\n        busy = false\n    }\n";
        let perhaps = format!("    if chance(0.5) {{\n{later}    }}\n");
        crane(later, "");
        crane(&perhaps, " // ~ sharing/stuck-guard");
        crane(&format!("{perhaps}    else {{\n        busy = false\n    }}\n"), "");
        crane(&format!("{}    busy = false\n", later.replace("busy = false", "if chance(0.5) { busy = false }")), "");
        // Up again on every way out, it is never put back.
        crane(
            "    note \"{busy}\"\n    if chance(0.5) {\n        busy = false\n        note \"{busy}\"\n    }\n    busy = true\n",
            "",
        );
    }

    #[test]
    fn another_handler_may_put_it_back() {
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

on bell when not busy {
    busy = true
    if height > 3 {
        return
    }
    wait 1s
    height += 1
    busy = false
}

on touched(other) {
    busy = false
}
"#],
        );
    }

    #[test]
    fn what_a_second_activation_raises_meanwhile_is_its_own_to_put_back() {
        expect_in_scripts(
            "",
            &[r#"script tides for tide

private busy: bool = false

on bell when not busy {
    busy = true
    wait 1s
    busy = false
    wait 1s
    note "rung"
}
"#],
        );
    }

    #[test]
    fn a_test_that_is_asked_twice_comes_out_the_same_way() {
        let judged = |mark: &str, body: &str| {
            let script = format!(
                "script tides for tide\n\nprivate busy: bool = false\nprivate open: bool = false\n\nproc done() {{\n    busy = false\n}}\n\n\
                 on bell when not busy {{\n    busy = true{mark}\n{body}}}\n\non every 3s {{\n    open = not open\n}}\n"
            );
            expect("", &[&script]);
        };
        let stuck = " // ~ sharing/stuck-guard";
        let rings = "    note \"rung\"\n    done()\n";
        judged(
            "",
            &format!("    if open {{\n        busy = false\n    }}\n    if open {{\n        return\n    }}\n{rings}"),
        );
        judged(
            stuck,
            &format!(
                "    if open {{\n        busy = false\n    }}\n    if not open {{\n        return\n    }}\n{rings}"
            ),
        );
        judged(
            "",
            "    if open {\n        busy = false\n    }\n    note \"rung\"\n    if not open {\n        done()\n    }\n",
        );
        judged(
            stuck,
            "    if open {\n        busy = false\n    }\n    wait 1s\n    if not open {\n        open = true\n        done()\n    }\n",
        );
    }

    /// A skiff's guard over a wait, with instances as given, `in` a scene or not, in a game that changes scenes.
    fn of_skiffs(instances: &str, header: &str, mark: &str) {
        expect_in_scripts(
            &format!(
                "[owners.skiff]\nkind = \"actor\"\ncount = \"many\"\n\n[owners.reef]\nkind = \"scene\"\n\n[variables.skiff.taken]\n\
                 type = \"bool\"\nscope = \"instance\"\ndefault = false\n\n{instances}"
            ),
            &[&format!(
                "script skiffs for skiff{header}\n\non bell when not taken {{\n    taken = true{mark}\n    wait 1s\n    taken = false\n}}\n\n\
                 on enter {{\n    go reef\n}}\n"
            )],
        );
    }

    #[test]
    fn an_instance_that_stays_loses_what_waits_in_a_scene_and_keeps_its_guard() {
        let (moored, roaming) =
            ("[instances.teal]\nof = \"skiff\"\nscene = \"harbor\"\n", "[instances.tern]\nof = \"skiff\"\n");
        of_skiffs(roaming, " in harbor", " // ~ sharing/stuck-guard");
        of_skiffs(&format!("{moored}{roaming}"), " in harbor", " // ~ sharing/stuck-guard");
        of_skiffs(moored, " in harbor", "");
        of_skiffs(roaming, "", "");
        of_skiffs(moored, "", "");
    }
}
