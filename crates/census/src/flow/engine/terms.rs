//! Terms that are written more than once: what they gave is known of as long as nothing that they name has changed.

use super::*;
use crate::flow::terms::is_abs;

/// How many terms are remembered at once.
const MOST_TERMS: usize = 16;

impl Run<'_, '_> {
    /// The slot of what a term gave, where it would give the same again.
    pub(in crate::flow) fn term(&self, state: &State, expr: ExprId) -> Option<Slot> {
        let slot = self.term_slot(expr)?;
        state.terms.iter().any(|&(known, _)| known == slot).then_some(slot)
    }

    fn term_slot(&self, expr: ExprId) -> Option<Slot> {
        if self.has_own_terms() { self.table.slot(Key::Term(expr)) } else { None }
    }

    /// Whether there are terms, and what is being run is the script's own: an invariant's expressions have ids of their own.
    pub(in crate::flow) fn has_own_terms(&self) -> bool {
        self.table.has_terms && self.foreign.is_none()
    }

    /// What a comparison has told may tell more of a distance: of `abs(n)`, once `n` is known to be above zero.
    pub(in crate::flow) fn tell_distances(&self, state: Option<State>, compared: [ExprId; 2]) -> Option<State> {
        let mut state = state?;
        if !self.has_own_terms() {
            return Some(state);
        }
        let distances = state.terms.iter().copied().filter(|&(_, term)| is_abs(self.unit, term));
        let mut distances: SmallVec<[(Slot, ExprId); 4]> = distances.collect();
        if !distances.is_empty() {
            let [left, right] = compared.map(|expr| self.reads(expr));
            distances
                .retain(|(_, term)| self.reads(*term).iter().any(|slot| left.contains(slot) || right.contains(slot)));
        }
        for (slot, term) in distances {
            let (forms, own) = (self.shape_forms(&state, term), Linear::slot(slot));
            let above = forms.uppers().iter().map(|form| own.plus(form, -1.0));
            let below = forms.lowers().iter().map(|form| form.plus(&own, -1.0));
            for form in above.chain(below).filter(Linear::is_known) {
                if !state.facts.implies(&form, &|slot| state.ends(slot)) {
                    state.assume(form)?;
                }
            }
        }
        Some(state)
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
