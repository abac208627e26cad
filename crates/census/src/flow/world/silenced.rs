//! Handlers that can't begin while another waits since nobody is there to send what they answer: all who do are kept out.

use super::waiting::KeptOut;
use super::*;

/// Who sends what scripts send.
#[derive(Debug, Default)]
pub(super) struct Sending {
    /// By handler, itself or through procedures.
    sent: Vec<SmallVec<[SignalId; 2]>>,
    senders: FxHashMap<SignalId, Vec<HandlerId>>,
    /// What is sent as a handler only asks whether it begins.
    in_asking: FxHashSet<SignalId>,
}

impl Sending {
    /// The signals that a handler sends, itself or through procedures.
    pub(super) fn sent_by(&self, id: HandlerId) -> &[SignalId] {
        &self.sent[id.index()]
    }

    /// The handlers that send a signal, themselves or through procedures.
    pub(super) fn senders_of(&self, signal: SignalId) -> &[HandlerId] {
        self.senders.get(&signal).map_or(&[], |senders| senders)
    }

    /// Whether a handler may send a signal as it only asks whether it begins.
    pub(super) fn is_sent_in_asking(&self, signal: SignalId) -> bool {
        self.in_asking.contains(&signal)
    }
}

impl World<'_> {
    pub(super) fn find_sending(&self) -> Sending {
        let ids: Vec<HandlerId> = self.handler_ids().collect();
        let sent = ids.par_iter().map(|&id| {
            let mut sent: SmallVec<[SignalId; 2]> = self.sent_by(id).into();
            sent.sort_unstable();
            sent.dedup();
            sent
        });
        let mut sending = Sending { sent: sent.collect(), ..Sending::default() };
        let asking = ids.iter().filter(|&&id| self.asks_by_procedure(id));
        sending.in_asking = asking.flat_map(|id| sending.sent[id.index()].iter().copied()).collect();
        for (&id, sent) in ids.iter().zip(&sending.sent) {
            sent.iter().for_each(|&signal| sending.senders.entry(signal).or_default().push(id));
        }
        sending
    }

    /// Whether a handler calls procedures as it only asks whether it begins.
    pub(super) fn asks_by_procedure(&self, id: HandlerId) -> bool {
        let (unit, tree, _) = self.parts(id);
        let mut called = Vec::new();
        tree.when.into_iter().for_each(|when| calls_in(unit, when, &mut called));
        !called.is_empty()
    }

    /// Those who are kept out, and those who answer nothing but what these send: as a handler that answers the game waits for
    /// the first time. The queue was empty as it began, so nothing is on its way.
    pub(super) fn with_silenced(&self, run: &Run<'_, '_>, out: &KeptOut) -> KeptOut {
        let mut all = out.clone();
        let Some(led) = self.signal_of(run.handler).filter(|&led| self.is_the_games_alone(led)) else { return all };
        let mut at = 0;
        while let Some(&(by, extent)) = all.get(at) {
            at += 1;
            if extent != Extent::Everywhere {
                continue;
            }
            for signal in &self.sending.sent[by.index()] {
                if self.is_silenced(run, *signal, led, &all) {
                    for &id in self.answers.get(signal).into_iter().flatten() {
                        let goes_on = self.is_under_way(id, Part::Main, run.handler, Extent::Everywhere);
                        if !goes_on && all.iter().all(|&(other, _)| other != id) {
                            all.push((id, Extent::Everywhere));
                        }
                    }
                }
            }
        }
        all.sort_unstable();
        all
    }

    /// Whether all that send a signal are kept out, and none of them had its turn right before.
    fn is_silenced(&self, run: &Run<'_, '_>, signal: SignalId, led: SignalId, out: &KeptOut) -> bool {
        let declared = self.project.registry.signal(signal);
        let senders = self.sending.senders.get(&signal).into_iter().flatten();
        let may_send = |by: HandlerId| {
            by == run.handler
                || self.signal_of(by) == Some(led)
                || matches!(self.parts(by).1.trigger, Trigger::Spawn) // Its turn is within that of another.
                || !out.contains(&(by, Extent::Everywhere))
                || self.is_under_way(by, Part::Later, run.handler, Extent::Everywhere)
        };
        !declared.from_engine
            && !self.sending.in_asking.contains(&signal)
            && !self.unread.contains(&*declared.name)
            && !senders.copied().any(may_send)
    }
}
