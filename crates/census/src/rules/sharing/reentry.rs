//! `sharing/reentry`: a handler changes something after a wait, and can be triggered again for the same instance while it waits.

use super::{guard, resent};
use crate::finding::{Finding, Level, RuleName};
use crate::flow::access::plain_step;
use crate::flow::certain;
use crate::flow::engine::{Key, Pause};
use crate::flow::graph::StepKind;
use crate::flow::linear::Slot;
use crate::flow::value::Value;
use crate::project::{Base, Place};
use crate::rules::Facts;
use crate::rules::facts::HandlerView;
use crate::rules::{Example, Rule};
use crate::script::ast::{BinaryOp, ExprId, ExprKind, Trigger};
use crate::source::Span;
use rayon::prelude::*;
use rustc_hash::FxHashMap;
use std::cell::OnceCell;

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("sharing/reentry"),
    level: Level::Warning,
    means: "A handler changes something after a wait, and can be triggered again for the same instance while it waits.",
    hurts: "The event fires ten times, and the change is made ten times.",
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

on touched(other: parcel) {
    wait 1s
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

private busy: bool = false

on touched(other: parcel) when not busy {
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
    let handlers: Vec<HandlerView<'_, '_>> =
        facts.handlers().filter(|handler| can_come_again(facts, handler)).collect();
    let stepping: Vec<Stepping<'_, '_>> =
        handlers.into_par_iter().filter_map(|handler| Stepping::of(facts, handler)).collect();
    let mut signals = resent::Signals::new(facts);
    let mut findings = Vec::new();
    for it in stepping {
        let handler = &it.handler;
        let mut open = guard::waits(handler).enumerate().skip(it.first_open);
        let unguarded = open.any(|(at, pause)| {
            (at == it.first_open || it.is_open(facts, pause)) && signals.can_come_again(handler, pause)
        });
        let unread = || {
            let world = &facts.world;
            world.guards_unread(handler.id)
                || world.is_sent_unread(handler.id)
                || world.guard_is_set_unread(handler.id)
                || resent::senders(facts, handler.id).any(|id| world.guards_unread(id) || world.guard_is_set_unread(id))
        };
        if unguarded && !unread() {
            findings.push(word(facts, it.handler, it.steps[0]));
        }
    }
    findings
}

/// A handler that steps something after a pause at which nothing of its own keeps it out.
struct Stepping<'p, 'f> {
    handler: HandlerView<'p, 'f>,
    /// The steps after a wait.
    steps: Vec<Span>,
    /// The first such pause, by its number.
    first_open: usize,
    /// Some of them are put off.
    puts_off: bool,
    /// Where it pauses if others leave alone what it finds.
    alone: OnceCell<Vec<Pause>>,
}

impl<'p, 'f> Stepping<'p, 'f> {
    fn of(facts: &'f Facts<'p>, handler: HandlerView<'p, 'f>) -> Option<Self> {
        let is_late = |at: &Span| handler.found.reached.get(at).is_some_and(|reached| reached.after_wait);
        let steps: Vec<Span> = guard::steps(facts, &handler).into_iter().filter(is_late).collect();
        if steps.is_empty() {
            return None;
        }
        let puts_off = guard::is_any_put_off(&handler, &steps);
        let mut it = Self { handler, steps, first_open: 0, puts_off, alone: OnceCell::new() };
        it.first_open = guard::waits(&handler).position(|pause| it.is_open(facts, pause))?;
        Some(it)
    }

    /// Whether a second activation that begins at a pause comes to a step.
    fn is_open(&self, facts: &Facts<'_>, pause: &Pause) -> bool {
        let (handler, steps) = (&self.handler, &self.steps);
        (pause.wait.is_some() || self.puts_off)
            && !guard::removes_what_came(facts, handler, pause)
            && !stays_as_it_is(facts, handler, pause)
            && !self.is_put_back_elsewhere(facts, pause)
            && {
                let again = facts.world.again(handler.id, pause);
                steps.iter().any(|at| again.contains_key(at))
                    && !asks_again(facts, handler, pause, steps)
                    && !is_overtaken(facts, handler, pause, steps)
            }
    }

    /// Whether the handler lets itself in again at a pause only because others have put something back while it waited before: that
    /// they mean to.
    fn is_put_back_elsewhere(&self, facts: &Facts<'_>, pause: &Pause) -> bool {
        if !pause.waited || pause.forked || pause.later {
            return false; // The handler itself has put it back.
        }
        let id = self.handler.id;
        let is_same = |other: &&Pause| (other.wait, other.at, other.later) == (pause.wait, pause.at, pause.later);
        let lets_in = |other: &Pause| {
            let again = facts.world.again(id, other);
            self.steps.iter().any(|at| again.contains_key(at))
        };
        let alone = self.alone.get_or_init(|| facts.world.pauses_left_alone(id, &FxHashMap::default()));
        let mut same = alone.iter().filter(is_same).peekable();
        same.peek().is_some() && !same.any(lets_in)
    }
}

/// Whether what a handler listens to stays as it is until the handler goes on, since all that others ever give it is what it
/// is by then: `on changed lit when lit`, where the handler itself puts the lamp out at its end.
fn stays_as_it_is(facts: &Facts<'_>, handler: &HandlerView<'_, '_>, pause: &Pause) -> bool {
    let (world, unit) = (&facts.world, handler.unit);
    let Some(place) = unit.handlers[handler.index].changed else { return false };
    let (Some(cell), Some(slot)) =
        (facts.project.cell_of(unit, place), world.table(handler.id).slot(Key::Place(place)))
    else {
        return false;
    };
    let is_apart = match unit.place(place) {
        Place::Variable(_, Base::One | Base::Listed(_)) => {
            unit.owner.is_none_or(|actor| !facts.project.registry.is_many(actor))
        }
        Place::Variable(_, Base::Own) | Place::Private(_) => true,
        _ => false,
    };
    if !is_apart || pause.forked || pause.later || world.is_unsettled(cell) {
        return false;
    }
    let begun = world.entry_state(handler.id, &[]);
    let now = pause.changed(slot).or(begun.as_ref().map(|state| state.value(slot))).map(|known| &known.value);
    let is_one = match now {
        Some(Value::Bool { yes, no }) => yes != no,
        Some(Value::Num(num)) => num.single().is_some(),
        Some(Value::Text(Some(texts))) => texts.len() == 1,
        _ => false,
    };
    let others = world.effects[cell.index()].iter().filter(|effect| effect.handler != Some(handler.id));
    is_one && others.into_iter().all(|effect| !effect.clears && effect.set.as_ref() == now)
}

/// Whether a handler asks again after its only wait, so that of all that have waited only the first one does what follows:
/// `if not burning { burning = true … }`.
fn asks_again(facts: &Facts<'_>, handler: &HandlerView<'_, '_>, pause: &Pause, after: &[Span]) -> bool {
    if !is_only_wait(handler, pause) {
        return false;
    }
    let mut ends = facts.world.pauses_from(handler.id, None);
    ends.retain(|end| end.wait.is_none() && end.stepped && !end.at_once);
    let again = facts.world.again_behind(handler.id, pause, &ends);
    !ends.is_empty() && !after.iter().any(|at| again.contains_key(at))
}

/// Whether a handler waits nowhere else, and no more than once.
fn is_only_wait(handler: &HandlerView<'_, '_>, pause: &Pause) -> bool {
    let comes_again = |wait: Span| handler.found.reached.get(&wait).is_none_or(|reached| reached.after_wait);
    let is_another = |wait: Span| pause.wait != Some(wait) || comes_again(wait);
    !handler.found.pauses.iter().any(|other| other.forked || other.wait.is_some_and(is_another))
}

/// Whether an activation gives up at its only wait where another has begun meanwhile, so that only the last one goes on:
/// `turn += 1  let mine = turn  wait 1s  if mine == turn { … }`.
fn is_overtaken(facts: &Facts<'_>, handler: &HandlerView<'_, '_>, pause: &Pause, after: &[Span]) -> bool {
    let (world, unit) = (&facts.world, handler.unit);
    let first = &handler.graph.blocks[0];
    let at_once = first.steps.iter().take_while(|step| !certain::waits(unit, &step.kind));
    let stepped = at_once.filter_map(|step| match step.kind {
        StepKind::Assign { place, axis: None, op, value, .. } => {
            let is_count = |by: ExprId| matches!(unit.tree.expr(by).kind, ExprKind::Int(by) if by > 0);
            let step = plain_step(unit, place, (op, value));
            let counts = matches!(step, Some((BinaryOp::Add, by)) if is_count(by)) && world.is_one_place(unit, place);
            world.table(handler.id).slot(Key::Place(place)).filter(|_| counts)
        }
        _ => None,
    });
    let endless = |slot: &Slot| world.table(handler.id).slots[*slot as usize].max.is_none();
    let stepped: Vec<Slot> = stepped.filter(endless).collect();
    if stepped.is_empty() || !is_only_wait(handler, pause) {
        return false;
    }
    let reached = world.reached_overtaken(handler.id, stepped);
    !after.iter().any(|at| reached.get(at).is_some_and(|reached| reached.after_wait))
}

/// Whether the same trigger can come for the same instance while an activation waits.
fn can_come_again(facts: &Facts<'_>, handler: &HandlerView<'_, '_>) -> bool {
    match &handler.tree.trigger {
        _ if facts.world.begins_alone(handler.id) => false,
        Trigger::Unreadable => false,
        Trigger::Signal { .. } => handler.unit.handlers[handler.index].signal.is_some(),
        _ => true,
    }
}

fn word(facts: &Facts<'_>, handler: HandlerView<'_, '_>, first: Span) -> Finding {
    let statement = facts.project.text(handler.unit, first).lines().next().unwrap_or("").trim().to_owned();
    let line = facts.project.sources.file(handler.unit.file).position(first.start).line;
    let message = format!(
        "this can be triggered again while it waits, and then `{statement}` (line {line}) is done once for each time"
    );
    Finding::new(RULE.name, handler.unit.at(handler.tree.head), message)
        .help("keep it out while it waits: `private busy: bool = false`, then `when not busy`, `busy = true` before the wait and `busy = false` behind it")
        .with(handler.unit.at(first), "done again here")
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::{expect, expect_in_scripts};

    #[test]
    fn guards_of_every_ordinary_kind() {
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
private rest: int = 0

on bell when not busy {
    busy = true
    wait 1s
    height += 1
    busy = false
}

on touched(other) {
    if rest > 0 {
        return
    }
    rest = 30
    wait 1s
    height += 1
}

on tick {
    if rest > 0 {
        rest -= 1
    }
}

on bumped(other) {
    remove other
    wait 1s
    height += 1
}
"#],
        );
    }

    #[test]
    fn who_asks_again_after_the_wait_lets_only_the_first_one_go_on() {
        let registry = r#"[variables.tide]
lit = { type = "bool", scope = "global", default = false, engine = "writes" }
oil = { type = "int", scope = "global", default = 9, engine = "writes" }
height = { type = "int", scope = "global", default = 0, engine = "reads" }
"#;
        let judged = |head: &str, rest: &str| {
            expect_in_scripts(
                registry,
                &[&format!("script tides for tide\n\non bell {{{head}\n    wait 1s\n{rest}}}\n")],
            );
        };
        judged("", "    if not lit and oil > 0 {\n        lit = true\n        height += 1\n    }\n");
        judged(
            "",
            "    light()\n}\n\nproc light() {\n    if lit or oil == 0 {\n        return\n    }\n    lit = true\n    height += 1\n",
        );
        let told = " // ~ sharing/reentry";
        judged(told, "    if not lit {\n        height += 1\n    }\n");
        judged(told, "    if not lit {\n        lit = chance(0.5)\n        height += 1\n    }\n");
        judged(told, "    if not lit {\n        lit = true\n        height += 1\n    }\n    height += 1\n");
        judged(told, "    if oil > 0 {\n        height += 1\n    }\n");
    }

    #[test]
    fn what_a_procedure_steps_is_put_off_with_its_call() {
        expect_in_scripts(
            "[variables.tide]\nheight = { type = \"int\", scope = \"global\", default = 0, engine = \"reads\" }\n",
            &["script tides for tide

on bell { // ~ sharing/reentry
    after 1s { rise(1) }
}

on touched {
    rise(2)
    after 1s { note \"high\" }
}

proc rise(by: int) { lift(by) }
proc lift(by: int) { height += by }
"],
        );
    }

    #[test]
    fn who_was_overtaken_gives_up() {
        let judged = |head: &str, steps: &str, test: &str| {
            let script = format!(
                "script tides for tide\n\nprivate turn: int = 0\n\non bell {{{head}\n    {steps}\n    let mine = turn\n    wait 1s\n    if {test} {{\n        height += 1\n    }}\n}}\n\non touched {{\n    show \"{{turn}}\"\n}}\n"
            );
            let registry =
                "[variables.tide]\nheight = { type = \"int\", scope = \"global\", default = 0, engine = \"reads\" }\n";
            expect_in_scripts(registry, &[&script]);
        };
        let told = " // ~ sharing/reentry";
        judged("", "turn += 1", "mine == turn");
        judged("", "turn = turn + 1", "mine == turn");
        judged("", "turn += 2", "not (turn > mine)");
        judged(told, "turn += 1", "mine == turn or chance(0.5)");
        judged(told, "if chance(0.5) {\n        turn += 1\n    }", "mine == turn");
    }

    #[test]
    fn what_nobody_else_puts_back_does_not_change_again() {
        let registry = r#"[variables.tide]
low = { type = "bool", scope = "global", default = false }
mood = { type = "enum", scope = "global", values = ["calm", "brisk", "storm"], default = "calm" }
height = { type = "int", scope = "global", default = 0, engine = "reads" }
"#;
        let judged = |head: &str, others: &str| {
            expect_in_scripts(
                registry,
                &[&format!(
                    "script tides for tide

on changed low when low {{{head}
    wait 1s
    height += 1
    low = false
}}

on bell {{
    low = true
    mood = \"calm\"
}}
{others}"
                )],
            );
        };
        let told = " // ~ sharing/reentry";
        judged("", "");
        judged(told, "\non bumped {\n    low = false\n}\n");
        judged(told, "\non bumped {\n    low = not low\n}\n");
        judged("", "\non bumped {\n    if not low {\n        low = true\n    }\n}\n");
        let own = "[variables.harbor_master]\ncalled = { type = \"bool\", scope = \"instance\", default = false }\n\n[owners.harbor_master]\nkind = \"actor\"\n";
        let script = "script calls for harbor_master\n\non changed called when called {\n    wait 1s\n    send tide_turned\n    called = false\n}\n\non bell {\n    called = true\n}\n\non tide_turned {\n    hide slip\n}\n";
        expect_in_scripts(own, &[script]);
        let storm = "script tides for tide

on changed mood when mood == \"storm\" {
    wait 1s
    height += 1
    mood = \"calm\"
}

on bell when not low {
    mood = \"storm\"
}

on bumped {
    low = not low
}
";
        expect_in_scripts(registry, &[storm]);
        let either =
            storm.replace("\n    mood = \"storm\"", "\n    mood = \"brisk\"\n    wait 1s\n    mood = \"storm\"");
        expect_in_scripts(registry, &[&either.replace("\"storm\" {", "\"storm\" { // ~ sharing/reentry")]);
    }

    #[test]
    fn a_local_guards_nothing() {
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

on bell { // ~ sharing/reentry
    let busy = true
    wait 1s
    height += 1
    note "{busy}"
}

on touched(other) { // ~ sharing/reentry
    after 1s {
        height += 1
    }
}

on every 2s {
    wait 1s
    height += 1
}
"#],
        );
    }

    #[test]
    fn what_one_start_sends_comes_once() {
        let registry = r#"[variables]
tide.height = { type = "int", scope = "global", default = 0, engine = "reads" }
mailboat.load = { type = "int", scope = "instance", default = 0, engine = "reads" }
[signals]
begun = { from = "script" }
made = { from = "script" }
"#;
        let tides = "script tides for tide

on start { send begun }

on begun {
    wait 1s
    height += 1
}
";
        let boats = "script boats for mailboat

on spawn { send made to self }

on made {
    wait 1s
    load += 1
}
";
        expect_in_scripts(registry, &[tides, boats]);
        let flagged = |script: &str, handler: &str| script.replace(handler, &format!("{handler} // ~ sharing/reentry"));
        expect_in_scripts(registry, &[&flagged(&tides.replace("start", "bell"), "on begun {"), boats]);
        let over = tides.replace("send begun", "repeat 2 { send begun }");
        expect_in_scripts(registry, &[&flagged(&over, "on begun {"), boats]);
        expect_in_scripts(registry, &[tides, &flagged(&boats.replace(" to self", ""), "on made {")]);
    }
}
