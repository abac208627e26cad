//! Whether what a handler answers can be sent a second time while the first is still being dealt with. The guard may stand
//! with who sends it: `if not raining { raining = true  send rain_began }`, where the answer puts `raining` back when all is done.

use crate::flow::engine::{Pause, Sending};
use crate::flow::graph::{BlockId, StepKind};
use crate::flow::linear::Slot;
use crate::flow::value::Abstract;
use crate::flow::world::HandlerId;
use crate::project::CellId;
use crate::registry::SignalId;
use crate::rules::Facts;
use crate::rules::facts::HandlerView;
use crate::script::ast::Trigger;
use crate::source::Span;
use rustc_hash::{FxHashMap, FxHashSet};
use std::collections::BTreeSet;

/// What some cells certainly hold.
type Held = FxHashMap<CellId, Abstract>;

/// How many handlers that send a signal are looked at; of more, one can surely send it again.
const MOST_SENDERS: usize = 32;

/// In how many places one handler may send it.
const MOST_SENDINGS: usize = 16;

/// How many signals that set each other off are followed back.
const MOST_CAUSES: usize = 16;

/// What is known of the signals that scripts send, as it was asked for.
pub struct Signals<'a, 'p> {
    facts: &'a Facts<'p>,
    held: FxHashMap<SignalId, Option<Held>>,
    /// Whether it can be sent again as long as all stays as its senders left it.
    as_left: FxHashMap<SignalId, bool>,
}

impl<'a, 'p> Signals<'a, 'p> {
    /// Nothing is known yet.
    pub fn new(facts: &'a Facts<'p>) -> Self {
        Self { facts, held: FxHashMap::default(), as_left: FxHashMap::default() }
    }

    /// Whether the signal that a handler answers may come again while an activation of it is at a pause.
    pub fn can_come_again(&mut self, handler: &HandlerView<'_, '_>, pause: &Pause) -> bool {
        let facts = self.facts;
        let Some(signal) = sent_by_scripts(facts, handler.id).filter(|&signal| is_soon_sent(facts, signal)) else {
            return true;
        };
        let Some(held) = self.held_when_sent(signal) else { return true };
        let left = held_at(facts, handler, pause, &held);
        let again = || can_be_sent(facts, signal, &left, &mut FxHashSet::default());
        if left == held { *self.as_left.entry(signal).or_insert_with(again) } else { again() }
    }

    /// What is certain wherever a signal is sent, since its senders have set it on the way; nothing where it may be sent twice
    /// by one activation.
    fn held_when_sent(&mut self, signal: SignalId) -> Option<Held> {
        if let Some(known) = self.held.get(&signal) {
            return known.clone();
        }
        self.held.insert(signal, None); // Of signals that set each other off in a circle nothing is certain.
        let held = self.find_held_when_sent(signal);
        self.held.insert(signal, held.clone());
        held
    }

    fn find_held_when_sent(&mut self, signal: SignalId) -> Option<Held> {
        let facts = self.facts;
        let mut all: Option<Held> = None;
        let mut causes = FxHashSet::default();
        for &sender in Some(facts.senders(signal)).filter(|senders| senders.len() <= MOST_SENDERS)? {
            let sender = facts.handler(sender);
            let cause = sent_by_scripts(facts, sender.id);
            // What is sent once is sent on by each that answers it.
            if cause.is_some_and(|cause| is_one_of_many(facts, &sender) || !causes.insert(cause)) {
                return None;
            }
            let before = match cause {
                Some(cause) => self.held_when_sent(cause)?,
                None => Held::default(),
            };
            let sendings = facts.world.sendings_from(sender.id);
            let ours = || sendings.iter().filter(|sending| sending.signal == signal);
            let at: BTreeSet<Span> = ours().map(|sending| sending.at).collect();
            if at.len() > MOST_SENDINGS || !is_sent_once(&sender, &at) {
                return None;
            }
            for sending in ours() {
                let here = held_at_sending(facts, &sender, sending, &before);
                all = Some(match all {
                    Some(known) => common(known, &here),
                    None => here,
                });
            }
        }
        all
    }
}

/// Whether few signals lead to one.
fn is_soon_sent(facts: &Facts<'_>, signal: SignalId) -> bool {
    let mut causes = vec![signal];
    let mut next = 0;
    while let Some(&signal) = causes.get(next).filter(|_| causes.len() <= MOST_CAUSES) {
        next += 1;
        for cause in facts.senders(signal).iter().take(MOST_SENDERS).filter_map(|&id| sent_by_scripts(facts, id)) {
            if !causes.contains(&cause) {
                causes.push(cause);
            }
        }
    }
    causes.len() <= MOST_CAUSES
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

/// Whether one activation comes to at most one of these, and not over and over. What procedures send is not followed.
fn is_sent_once(sender: &HandlerView<'_, '_>, at: &BTreeSet<Span>) -> bool {
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
fn held_at(facts: &Facts<'_>, handler: &HandlerView<'_, '_>, pause: &Pause, held: &Held) -> Held {
    let slots = (0..).zip(&facts.world.table(handler.id).slots);
    let named: Vec<(Slot, CellId)> = slots
        .filter_map(|(slot, facts)| facts.cell.filter(|cell| held.contains_key(cell)).map(|cell| (slot, cell)))
        .collect();
    let mut left = held.clone();
    if named.is_empty() {
        return left;
    }
    let mut pauses = facts.world.pauses_left_alone(handler.id, held);
    pauses.retain(|other| other.wait == pause.wait && other.at == pause.at);
    for (slot, cell) in named {
        let now: Option<Vec<&Abstract>> = pauses.iter().map(|pause| pause.changed(slot)).collect();
        match now.and_then(|now| now.into_iter().cloned().reduce(|a, b| a.join(&b))) {
            Some(value) => _ = left.insert(cell, value),
            None => _ = left.remove(&cell),
        }
    }
    left
}

/// Whether somebody can send a signal as long as these cells hold these values; those signals that were asked about are not
/// asked about again.
fn can_be_sent(facts: &Facts<'_>, signal: SignalId, held: &Held, asked: &mut FxHashSet<SignalId>) -> bool {
    asked.insert(signal);
    facts.senders(signal).iter().any(|&id| {
        let sender = facts.handler(id);
        let is_over = matches!(sender.tree.trigger, Trigger::Start) && !is_one_of_many(facts, &sender);
        let cause = sent_by_scripts(facts, id);
        if is_over || cause.is_some_and(|cause| asked.contains(&cause)) {
            return false;
        }
        let reached = facts.world.reached_holding(id, held);
        let bodies = facts.world.bodies(sender.script, sender.graph);
        let mut steps = bodies.iter().flat_map(|graph| &graph.blocks).flat_map(|block| &block.steps);
        let sends = steps.any(|step| {
            matches!(step.kind, StepKind::Send { signal: Some(sent), .. } if sent == signal)
                && reached.contains_key(&step.span)
        });
        sends && cause.is_none_or(|cause| can_be_sent(facts, cause, held, asked))
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
    fn what_many_send_on_comes_many_times() {
        let names = ["passed", "p1", "p2", "p3", "p4", "p5", "p6", "begun"];
        let declared: String = names[1..7].iter().map(|name| format!("{name} = {{ from = \"script\" }}\n")).collect();
        let passes: String =
            names.windows(2).flat_map(|pair| vec![format!("on {} {{ send {} }}\n", pair[0], pair[1]); 20]).collect();
        let script = format!("script tides for tide\n\n{}{passes}{TOLD}", ONE.replace("begun", "passed"));
        // Each time that the first one comes the last one comes many times.
        expect_in_scripts(&format!("{REGISTRY}{declared}"), &[&script]);
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
