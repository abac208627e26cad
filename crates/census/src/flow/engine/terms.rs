//! Terms that are written more than once: what they gave is known of as long as nothing that they name has changed.

use super::*;

/// How many terms are remembered at once.
const MOST_TERMS: usize = 16;

impl Run<'_, '_> {
    /// The slot of what a term gave, where it would give the same again.
    pub(in crate::flow) fn term(&self, state: &State, expr: ExprId) -> Option<Slot> {
        let slot = self.term_slot(expr)?;
        state.terms.iter().any(|&(known, _)| known == slot).then_some(slot)
    }

    fn term_slot(&self, expr: ExprId) -> Option<Slot> {
        if !self.table.has_terms || self.foreign.is_some() {
            return None; // An invariant's expressions have ids of their own.
        }
        self.table.slot(Key::Term(expr))
    }

    /// Takes in what an expression gives, if it is such a term; gives what is known of that altogether.
    pub(in crate::flow) fn remember_term(&mut self, state: &mut State, expr: ExprId, value: Value) -> Value {
        let Some(slot) = self.term_slot(expr) else { return value };
        if self.term(state, expr).is_some() {
            let known = &mut state.values[slot as usize].value;
            let both = known.meet(&value).unwrap_or(value);
            known.clone_from(&both);
            return both;
        }
        let forms = self.forms(state, expr);
        let value = self.narrowed(state, value, &forms);
        self.put(state, slot, Abstract::of(value.clone()), forms.uppers(), forms.lowers());
        if state.terms.len() >= MOST_TERMS {
            state.terms.to_mut().remove(0);
        }
        state.terms.push((slot, expr));
        value
    }
}
