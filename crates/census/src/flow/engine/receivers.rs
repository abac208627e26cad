//! Names that take the instance which a procedure gives: `let g = weakest()`. What is known of its variables where it is returned
//! is known by that name too, on each way that leads out.

use super::*;

/// A call and the name that takes what it gives, and whether it has been taken.
#[derive(Default)]
pub(super) struct Receivers {
    /// The call that is about to be made, and the name.
    next: Option<(ExprId, Slot)>,
    /// The names of the procedures under way, from the outermost to the innermost.
    waiting: Vec<Option<Slot>>,
    /// The call that has given its instance over.
    served: Option<ExprId>,
}

impl Run<'_, '_> {
    /// A name is about to take what an expression gives.
    pub(super) fn expect(&mut self, slot: Slot, value: ExprId) {
        let calls = matches!(self.unit.meaning(value), Meaning::Procedure(_));
        self.receivers.next =
            (calls && !self.table.slots[slot as usize].dependents().is_empty()).then_some((value, slot));
        self.receivers.served = None;
    }

    /// The name that takes what a call gives, where one is waiting for it.
    pub(super) fn expected_of(&mut self, call: ExprId) -> Option<Slot> {
        let receivers = &mut self.receivers;
        receivers.served = None;
        receivers.next.take().filter(|&(expected, _)| expected == call).map(|(_, slot)| slot)
    }

    /// A procedure begins whose instance goes to this name.
    pub(super) fn begin_giving(&mut self, receiver: Option<Slot>) {
        self.receivers.waiting.push(receiver);
    }

    /// The procedure of a call is at its end.
    pub(super) fn end_giving(&mut self, call: ExprId) {
        self.receivers.served = self.receivers.waiting.pop().flatten().map(|_| call);
    }

    /// A procedure is about to give this: what another one gives goes to the same name.
    pub(super) fn pass_on(&mut self, value: ExprId) {
        if let Some(Some(slot)) = self.receivers.waiting.last() {
            self.expect(*slot, value);
        }
    }

    /// A procedure gives this instance.
    pub(super) fn give_over(&mut self, state: &mut State, value: ExprId, given: &Value) {
        let Some(&Some(slot)) = self.receivers.waiting.last() else { return };
        state.values[slot as usize].value = given.clone();
        if !self.is_served(value) {
            self.copy_instance(state, slot, value);
            // The name that it had in there is at its end: what holds of the instance holds by the new one.
            let names = self.locals_in(value).into_iter().filter(|&name| name != slot);
            names.flat_map(|name| self.all_dependents(name)).for_each(|held| state.facts.forget(held));
        }
    }

    /// A procedure comes to its end without giving anything.
    pub(super) fn give_none(&mut self, state: &mut State, nothing: &Value) {
        if let Some(&Some(slot)) = self.receivers.waiting.last() {
            self.renew_dependents(state, slot);
            state.values[slot as usize].value = nothing.clone();
        }
    }

    /// Whether a call has given its instance to the name that it is for.
    pub(super) fn is_served(&mut self, value: ExprId) -> bool {
        self.receivers.served.take() == Some(value)
    }
}
