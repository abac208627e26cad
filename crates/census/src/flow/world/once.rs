//! Handlers that begin once, for their instance, scene or run, so that no second activation runs beside the first.

use super::*;
use crate::flow::lasting::ticks_of;

/// How many senders are looked at, one behind the other.
const MOST_SENDERS: u32 = 4;

/// The one statement that sends a signal, where there is one only and no loop does it over and over.
pub(super) type OnlySender = Option<Sender>;

#[derive(Clone, Copy, Debug)]
pub(super) struct Sender {
    pub handler: HandlerId,
    /// It goes to the sender's own instance.
    pub to_own: bool,
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

    /// Whether a handler never begins for an instance while an earlier activation for that one still goes on.
    #[must_use]
    pub fn begins_alone(&self, id: HandlerId) -> bool {
        self.alone[id.index()]
    }

    /// See [`Self::begins_alone`].
    pub(super) fn find_alone(&self, id: HandlerId) -> bool {
        // What is due at the moment of the next beginning comes before it.
        let is_in_time = || self.lasts(id).zip(self.least_gap(id, MOST_SENDERS)).is_some_and(|(all, gap)| all <= gap);
        self.begins_once(id) || is_in_time() || self.is_held_out_meanwhile(id)
    }

    /// How many ticks an activation lasts at most.
    fn lasts(&self, id: HandlerId) -> Option<f64> {
        let (script, index) = self.handler(id);
        ticks_of(self.project.script(script), index, self.project.config.tick_rate)
    }

    /// How many ticks there are at least between two beginnings for one instance, where only time sets a handler off, or only
    /// one statement of a handler of that kind.
    fn least_gap(&self, id: HandlerId, most_senders: u32) -> Option<f64> {
        match &self.parts(id).1.trigger {
            Trigger::Tick => Some(1.0),
            Trigger::Every(period) => period.ticks(self.project.config.tick_rate),
            Trigger::Signal { .. } if most_senders > 0 => {
                let sender = self.sender_for_one(id)?;
                // Now it may be sent as the sender begins, and now as it ends.
                Some(self.least_gap(sender, most_senders - 1)? - self.lasts(sender)?)
            }
            _ => None,
        }
    }

    /// Whether what a handler answers is sent by nothing but one statement of a handler that itself begins once.
    fn is_sent_once(&self, id: HandlerId) -> bool {
        let Some(Sender { handler, to_own, .. }) = self.only_sender(id) else { return false };
        let (unit, sending) = (self.parts(id).0, self.parts(handler).0);
        let to_each = self.sends_to_each(handler, to_own, unit);
        match self.parts(handler).1.trigger {
            Trigger::Start => to_each || self.is_one(handler),
            Trigger::Spawn => to_each,
            Trigger::Enter => {
                sending.scene.is_some() && sending.scene == unit.scene && (to_each || self.is_one(handler))
            }
            _ => false,
        }
    }

    /// The one statement that sends what a handler answers, if there is one only.
    fn only_sender(&self, id: HandlerId) -> Option<Sender> {
        let signal = self.parts(id).0.handlers[self.handler(id).1].signal?;
        let declared = self.project.registry.signal(signal);
        if declared.from_engine || self.unread.contains(&*declared.name) {
            return None;
        }
        *self.senders.get(&signal)?
    }

    /// The same handler, where one activation of it sends once to what is one for that: it is one itself, or sends to itself.
    pub(super) fn sender_for_one(&self, id: HandlerId) -> Option<HandlerId> {
        let Sender { handler, to_own, .. } = self.only_sender(id)?;
        (self.is_one(handler) || self.sends_to_each(handler, to_own, self.parts(id).0)).then_some(handler)
    }

    /// Whether each instance sends only to itself what it answers.
    fn sends_to_each(&self, sender: HandlerId, to_own: bool, answering: &ScriptUnit) -> bool {
        to_own && self.parts(sender).0.owner == answering.owner
    }

    /// Whether a place is the same for all of an activation, and goes no sooner than that: a private, what there is one of, or
    /// the script's own.
    #[must_use]
    pub fn is_one_place(&self, unit: &ScriptUnit, place: PlaceId) -> bool {
        match unit.place(place) {
            Place::Private(_) | Place::Variable(_, Base::One | Base::Own) => true,
            Place::Variable(_, Base::Listed(only)) => {
                let actor = self.project.registry.instance(only).of;
                unit.owner == Some(actor) && !self.project.registry.is_many(actor)
            }
            _ => false,
        }
    }

    /// Whether there is never more than one of a handler's owner.
    pub(super) fn is_one(&self, id: HandlerId) -> bool {
        self.parts(id).0.owner.is_some_and(|owner| !self.project.registry.is_many(owner))
    }
}

/// The signal that a step sends, and to whom.
pub(super) fn sent(step: &graph::Step) -> Option<(SignalId, Option<ExprId>)> {
    match step.kind {
        StepKind::Send { signal, to, .. } => Some((signal?, to)),
        _ => None,
    }
}
