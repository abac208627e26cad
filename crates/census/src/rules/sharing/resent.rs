//! Whether what a handler answers can be sent a second time while the first is still being dealt with. The guard may stand
//! with who sends it: `if not raining { raining = true  send rain_began }`, where the answer puts `raining` back when all is done.

use crate::flow::engine::{Pause, Sending};
use crate::flow::graph::{BlockId, StepKind};
use crate::flow::value::Abstract;
use crate::flow::world::HandlerId;
use crate::project::CellId;
use crate::registry::SignalId;
use crate::rules::Facts;
use crate::rules::facts::HandlerView;
use crate::script::ast::Trigger;
use crate::source::Span;
use rustc_hash::FxHashMap;

/// What some cells certainly hold.
type Held = FxHashMap<CellId, Abstract>;

/// How many signals that set each other off are followed.
const LONGEST_CHAIN: usize = 8;

/// Whether the signal that a handler answers may come again while an activation of it is at a pause.
#[must_use]
pub fn can_come_again(facts: &Facts<'_>, handler: &HandlerView<'_, '_>, pause: &Pause) -> bool {
    let Some(signal) = sent_by_scripts(facts, handler.id) else { return true };
    let Some(held) = held_when_sent(facts, signal, LONGEST_CHAIN) else { return true };
    let held = held_at(facts, handler, pause, held);
    can_be_sent(facts, signal, &held, LONGEST_CHAIN)
}

/// The signal that a handler answers, where only scripts send it.
fn sent_by_scripts(facts: &Facts<'_>, id: HandlerId) -> Option<SignalId> {
    let handler = facts.handler(id);
    let signal = handler.unit.handlers[handler.index].signal?;
    (!facts.registry().signal(signal).from_engine).then_some(signal)
}

/// Those that send what a handler answers, where only scripts do.
pub fn senders<'f>(facts: &'f Facts<'_>, id: HandlerId) -> impl Iterator<Item = HandlerId> + use<'f> {
    sent_by_scripts(facts, id).into_iter().flat_map(|signal| facts.senders(signal)).copied()
}

/// What is certain wherever a signal is sent, since its senders have set it on the way; nothing where it may be sent twice by
/// one activation.
fn held_when_sent(facts: &Facts<'_>, signal: SignalId, chain: usize) -> Option<Held> {
    let mut all: Option<Held> = None;
    for &sender in facts.senders(signal) {
        let sender = facts.handler(sender);
        let mut before = Held::default();
        if let Some(cause) = sent_by_scripts(facts, sender.id) {
            before = held_when_sent(facts, cause, chain.checked_sub(1)?)?;
        }
        let sendings = facts.world.sendings_from(sender.id);
        let at: Vec<Span> =
            sendings.iter().filter(|sending| sending.signal == signal).map(|sending| sending.at).collect();
        if !is_sent_once(&sender, &at) {
            return None;
        }
        for sending in sendings.iter().filter(|sending| sending.signal == signal) {
            let here = held_at_sending(facts, &sender, sending, &before);
            all = Some(match all {
                Some(known) => common(known, &here),
                None => here,
            });
        }
    }
    all
}

/// Whether one activation comes to at most one of these, and not over and over. What procedures send is not followed.
fn is_sent_once(sender: &HandlerView<'_, '_>, at: &[Span]) -> bool {
    let blocks = || sender.graph.blocks.iter().enumerate();
    let lies_in = |span: Span| {
        let found = blocks().find(|(_, block)| block.steps.iter().any(|step| step.span == span));
        let (at, _) = found.filter(|(_, block)| block.loops == 0 && !block.loop_head)?;
        u32::try_from(at).ok().map(BlockId)
    };
    let Some(homes) = at.iter().map(|&span| lies_in(span)).collect::<Option<Vec<BlockId>>>() else { return false };
    at.iter().zip(&homes).all(|(one, &home)| {
        let mut on = sender.graph.from(home).flat_map(|block| &block.steps);
        !on.any(|step| step.span != *one && at.contains(&step.span))
    })
}

/// What is certain at one `send`: what was before its handler began, and what that has set for good.
fn held_at_sending(facts: &Facts<'_>, sender: &HandlerView<'_, '_>, sending: &Sending, before: &Held) -> Held {
    let table = facts.world.table(sender.id);
    let writes: Vec<(CellId, Span)> = facts
        .accesses_of(sender)
        .filter(|access| access.writes())
        .map(|access| (access.cell, access.statement))
        .collect();
    let mut held = before.clone();
    held.retain(|&cell, _| !writes.iter().any(|&(written, _)| written == cell));
    for (slot, value) in &sending.changed {
        let Some(cell) = table.slots[*slot as usize].cell else { continue };
        let later = writes.iter().any(|&(written, at)| written == cell && at.start > sending.at.start);
        if facts.world.is_one_for_all(cell) && !later {
            held.insert(cell, value.clone());
        }
    }
    held
}

/// What both hold for certain.
fn common(mut one: Held, other: &Held) -> Held {
    one.retain(|cell, value| {
        other.get(cell).is_some_and(|also| {
            *value = value.join(also);
            true
        })
    });
    one
}

/// What is left of it where the answer pauses: the answer may put a cell back before that.
fn held_at(facts: &Facts<'_>, handler: &HandlerView<'_, '_>, pause: &Pause, held: Held) -> Held {
    let table = facts.world.table(handler.id);
    let mut left = Held::default();
    for (cell, value) in held {
        let slot = table.slots.iter().position(|slot| slot.cell == Some(cell));
        let Some(slot) = slot.and_then(|slot| u32::try_from(slot).ok()) else {
            left.insert(cell, value);
            continue;
        };
        let pauses = facts.world.pauses_from(handler.id, Some((slot, value.value.clone())));
        let mut here = pauses.iter().filter(|other| other.wait == pause.wait && other.at == pause.at);
        let kept = here.try_fold(None::<Abstract>, |known, pause| {
            let now = pause.changed(slot)?;
            Some(Some(known.map_or_else(|| now.clone(), |known| known.join(now))))
        });
        left.extend(kept.flatten().map(|value| (cell, value)));
    }
    left
}

/// Whether somebody can send a signal as long as these cells hold these values.
fn can_be_sent(facts: &Facts<'_>, signal: SignalId, held: &Held, chain: usize) -> bool {
    facts.senders(signal).iter().any(|&id| {
        let sender = facts.handler(id);
        let is_over = matches!(sender.tree.trigger, Trigger::Start) && !is_one_of_many(facts, &sender);
        if is_over {
            return false;
        }
        let reached = facts.world.reached_holding(id, held);
        let bodies = facts.world.bodies(sender.script, sender.graph);
        let mut steps = bodies.iter().flat_map(|graph| &graph.blocks).flat_map(|block| &block.steps);
        let sends = steps.any(|step| {
            matches!(step.kind, StepKind::Send { signal: Some(sent), .. } if sent == signal)
                && reached.contains_key(&step.span)
        });
        sends && sent_by_scripts(facts, id).is_none_or(|cause| chain == 0 || can_be_sent(facts, cause, held, chain - 1))
    })
}

/// Whether a handler answers one trigger for each of many instances.
fn is_one_of_many(facts: &Facts<'_>, handler: &HandlerView<'_, '_>) -> bool {
    handler.unit.owner.is_some_and(|owner| facts.registry().is_many(owner))
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect_in_scripts;

    const REGISTRY: &str = "[variables.tide]
busy = { type = \"bool\", scope = \"global\", default = false }
height = { type = \"int\", scope = \"global\", default = 0, engine = \"reads\" }
[signals]
begun = { from = \"script\" }
passed = { from = \"script\" }
";

    fn judged(senders: &str, answer: &str) {
        let script = format!("script tides for tide\n\n{senders}\n{answer}");
        expect_in_scripts(REGISTRY, &[&script]);
    }

    const ONE: &str = "on bell when not busy {\n    busy = true\n    send begun\n}\n";
    const LATER: &str = " {\n    wait 1s\n    height += 1\n    busy = false\n}\n";
    const TOLD: &str = "on begun { // ~ sharing/reentry\n    wait 1s\n    height += 1\n    busy = false\n}\n";

    #[test]
    fn the_guard_may_stand_with_who_sends() {
        let answer = &format!("on begun{LATER}");
        judged(ONE, answer);
        judged(
            "on every 5s {\n    if not busy and chance(0.3) {\n        busy = true\n        send begun\n    }\n}\n",
            answer,
        );
        judged("on bell when not busy {\n    busy = true\n    wait 1s\n    send begun\n}\n", answer);
        judged(
            "on bell when not busy {\n    busy = true\n    if height > 2 {\n        send begun\n    } else {\n        send begun\n    }\n}\n",
            answer,
        );
        judged(&format!("{}\non passed {{ send begun }}\n", ONE.replace("begun", "passed")), answer);
    }

    #[test]
    fn who_can_send_again_is_told_of() {
        judged(
            "on bell {\n    busy = true\n    send begun\n}\n\non touched(other) when not busy { height += 1 }\n",
            TOLD,
        );
        judged(&format!("{ONE}\non touched(other) {{ send begun }}\n"), TOLD);
        judged(&ONE.replace("    send begun\n", "    send begun\n    send begun\n"), TOLD);
        judged(&ONE.replace("    send begun\n", "    repeat 2 { send begun }\n"), TOLD);
        let chain = ONE.replace("begun", "passed");
        judged(&format!("{chain}\non passed {{ send begun }}\n\non touched(other) {{ send passed }}\n"), TOLD);
    }

    #[test]
    fn what_is_put_back_too_early_guards_nothing() {
        judged(ONE, "on begun { // ~ sharing/reentry\n    busy = false\n    wait 1s\n    height += 1\n}\n");
        judged(
            ONE,
            "on begun { // ~ sharing/reentry\n    repeat 3 {\n        wait 1s\n        height += 1\n        busy = false\n    }\n}\n",
        );
    }
}
