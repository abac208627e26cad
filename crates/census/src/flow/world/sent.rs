//! What scripts send along with their signals.

use super::fixpoint::Age;
use super::*;

/// What scripts send, by signal and parameter, and in how many rounds that has grown.
#[derive(Debug, Default)]
pub(super) struct Sent(FxHashMap<(SignalId, usize), (Value, Age)>);

impl World<'_> {
    /// What a parameter of a signal is given by all that send it; nothing where none does.
    pub(super) fn sent_value(&self, parameter: (SignalId, usize)) -> Option<&Value> {
        self.sent.0.get(&parameter).map(|(value, _)| value)
    }

    /// Takes in what a handler sends; says whether that is more.
    pub(super) fn take_sent(
        &mut self,
        sender: HandlerId,
        parameter: (SignalId, usize),
        value: Value,
        (round, runs): (usize, usize),
    ) -> bool {
        let Some((known, age)) = self.sent.0.get(&parameter) else {
            self.sent.0.insert(parameter, (value, Age::default()));
            return true;
        };
        let joined = known.join(&value);
        if joined == *known {
            return false;
        }
        let next = match age.in_round(round).max(runs) {
            0..ROUNDS => joined,
            ROUNDS..LAST_STOPS => widen(known, &joined, &self.stops_of_sent(sender, parameter.0)),
            _ => widen(known, &joined, &[]),
        };
        let mut age = *age;
        age.grow(round);
        self.sent.0.insert(parameter, (next, age));
        true
    }
}
