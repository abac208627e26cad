//! Handlers that begin once, for their instance, scene or run, so that no second activation runs beside the first.

use super::*;

/// The one statement that sends a signal, where there is one only and no loop does it over and over.
pub(super) type OnlySender = Option<Sender>;

#[derive(Clone, Copy, Debug)]
pub(super) struct Sender {
    handler: HandlerId,
    /// It goes to the sender's own instance.
    to_own: bool,
}

impl World<'_> {
    /// Who sends each signal that scripts send; none where it may be sent more than once by one activation.
    pub(super) fn find_senders(&self) -> FxHashMap<SignalId, OnlySender> {
        let mut senders: FxHashMap<SignalId, OnlySender> = FxHashMap::default();
        let mut add = |signal: SignalId, sender: OnlySender| {
            senders.entry(signal).and_modify(|known| *known = None).or_insert(sender);
        };
        for id in self.handler_ids() {
            let unit = self.parts(id).0;
            for block in &self.handler_graph(id).blocks {
                for (signal, to) in block.steps.iter().filter_map(sent) {
                    let to_own = to.is_some_and(|to| unit.meaning(to) == Meaning::Own);
                    let over_and_over = block.loops > 0 || block.loop_head;
                    add(signal, (!over_and_over).then_some(Sender { handler: id, to_own }));
                }
            }
        }
        let procedures = self.graphs.iter().flat_map(|graphs| &graphs.procedures);
        for (signal, _) in procedures.flat_map(|graph| &graph.blocks).flat_map(|block| &block.steps).filter_map(sent) {
            add(signal, None);
        }
        senders
    }

    /// Whether a handler begins once for its instance, as long as that, its scene and the run last.
    #[must_use]
    pub fn begins_once(&self, id: HandlerId) -> bool {
        let (unit, at, _) = self.parts(id);
        match at.trigger {
            Trigger::Start | Trigger::Spawn | Trigger::Removed => true,
            Trigger::Enter | Trigger::Leave => unit.scene.is_some(),
            Trigger::Signal { .. } => self.is_sent_once(id),
            _ => false,
        }
    }

    /// Whether what a handler answers is sent by nothing but one statement of a handler that itself begins once.
    fn is_sent_once(&self, id: HandlerId) -> bool {
        let unit = self.parts(id).0;
        let Some(signal) = unit.handlers[self.handler(id).1].signal else { return false };
        let declared = self.project.registry.signal(signal);
        if declared.from_engine || self.unread.contains(&*declared.name) {
            return false;
        }
        let Some(&Some(Sender { handler, to_own })) = self.senders.get(&signal) else { return false };
        let (sending, trigger) = (self.parts(handler).0, &self.parts(handler).1.trigger);
        let to_each = to_own && sending.owner == unit.owner;
        let alone = sending.owner.is_some_and(|owner| !self.project.registry.is_many(owner));
        match trigger {
            Trigger::Start => to_each || alone,
            Trigger::Spawn => to_each,
            Trigger::Enter => sending.scene.is_some() && sending.scene == unit.scene && (to_each || alone),
            _ => false,
        }
    }
}

/// The signal that a step sends, and to whom.
fn sent(step: &graph::Step) -> Option<(SignalId, Option<ExprId>)> {
    match step.kind {
        StepKind::Send { signal, to, .. } => Some((signal?, to)),
        _ => None,
    }
}
