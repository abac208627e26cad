//! Terms that are written more than once: what they gave is known of as long as nothing that they name has changed.

use super::*;
use crate::flow::forms::Side;
use crate::flow::terms::is_abs;

/// How many terms are remembered at once.
const MOST_TERMS: usize = 16;
/// How deep terms that name different places are compared.
const DEEPEST: usize = 6;

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

    /// What a comparison has told may tell more of a distance: of `abs(n)`, once `n` is known to be above zero; and of a
    /// product, once a factor is known to be zero.
    pub(in crate::flow) fn tell_terms(&self, state: Option<State>, compared: [ExprId; 2]) -> Option<State> {
        let mut state = state?;
        if !self.has_own_terms() {
            return Some(state);
        }
        let is_told = |&(slot, term): &(Slot, ExprId)| is_abs(self.unit, term) || self.table.tracks(slot);
        let mut told: SmallVec<[(Slot, ExprId); 4]> = state.terms.iter().copied().filter(is_told).collect();
        if !told.is_empty() {
            let [left, right] = compared.map(|expr| self.reads(expr));
            told.retain(|(_, term)| self.reads(*term).iter().any(|slot| left.contains(slot) || right.contains(slot)));
        }
        for (slot, term) in told {
            self.tell_term(&mut state, slot, term)?;
        }
        Some(state)
    }

    /// What is known by now of a term; none where that can't be.
    fn tell_term(&self, state: &mut State, slot: Slot, term: ExprId) -> Option<()> {
        let forms = match self.table.factors(slot) {
            Some([a, b]) => self.product_forms_anew(state, &self.slot_forms(a), &self.slot_forms(b)),
            None => self.shape_forms(state, term),
        };
        let own = Linear::slot(slot);
        let above = forms.uppers().iter().map(|form| own.plus(form, -1.0));
        let below = forms.lowers().iter().map(|form| form.plus(&own, -1.0));
        for form in above.chain(below).filter(Linear::is_known) {
            if !state.facts.implies(&form, &|slot| state.ends(slot)) {
                state.assume(form)?;
            }
        }
        Some(())
    }

    pub(super) fn add_term(&self, state: &mut State, term: (Slot, ExprId)) {
        if state.terms.len() >= MOST_TERMS {
            state.terms.to_mut().remove(0);
        }
        state.terms.push(term);
    }

    /// Takes in what an expression gives, if it is such a term; gives what is known of that altogether.
    pub(in crate::flow) fn remember_term(&mut self, state: &mut State, expr: ExprId, value: Value) -> Value {
        let Some(slot) = self.term_slot(expr) else { return value };
        if self.term(state, expr).is_some() {
            let known = &mut state.values[slot as usize].value;
            let both = known.meet(&value).unwrap_or(value);
            known.clone_from(&both);
            if let Some(given) = self.table.slot(Key::Result(expr)) {
                let same = [Linear::slot(slot)];
                state.relate(given, &same, &same, both.ends());
            }
            if self.table.tracks(slot) {
                // Where that can't be nothing comes here, so nothing needs to be told of it.
                let _ = self.tell_term(state, slot, expr);
            }
            return both;
        }
        let forms = self.forms(state, expr);
        let mut value = self.narrowed(state, value, &forms);
        let (mut uppers, mut lowers) = (Side::from(forms.uppers()), Side::from(forms.lowers()));
        if let Some(same) = self.same_term(state, expr) {
            value = state.value(same).value.meet(&value).unwrap_or(value);
            uppers.push(Linear::slot(same));
            lowers.push(Linear::slot(same));
        }
        self.put(state, slot, Abstract::of(value.clone()), &uppers, &lowers);
        self.add_term(state, (slot, expr));
        value
    }

    /// Another term that gives the same, in which what was passed to a procedure has another name.
    fn same_term(&self, state: &State, expr: ExprId) -> Option<Slot> {
        if self.table.passed.is_empty() {
            return None;
        }
        let same = state.terms.iter().find(|&&(_, known)| self.gives_same(state, known, expr, DEEPEST));
        same.map(|&(slot, _)| slot)
    }

    /// Whether two expressions without chance give the same as things are.
    fn gives_same(&self, state: &State, one: ExprId, other: ExprId, depth: usize) -> bool {
        let unit = self.unit;
        if one == other {
            return true;
        }
        let Some(depth) = depth.checked_sub(1) else { return false };
        let same = |a: ExprId, b: ExprId| self.gives_same(state, a, b, depth);
        match (&unit.tree.expr(one).kind, &unit.tree.expr(other).kind) {
            (ExprKind::Unary(op, a), ExprKind::Unary(other, b)) if op == other && same(*a, *b) => return true,
            (ExprKind::Binary(op, a, b), ExprKind::Binary(other, c, d)) if op == other => {
                let either_way = matches!(op, BinaryOp::Add | BinaryOp::Multiply);
                if same(*a, *c) && same(*b, *d) || either_way && same(*a, *d) && same(*b, *c) {
                    return true;
                }
            }
            (ExprKind::Call(_, given), ExprKind::Call(_, others)) => {
                let all_same = || given.iter().zip(others).all(|(&a, &b)| same(a, b));
                return unit.meaning(one) == unit.meaning(other) && given.len() == others.len() && all_same();
            }
            (ExprKind::Path(_), ExprKind::Path(_)) if unit.meaning(one) == unit.meaning(other) => return true,
            _ => {}
        }
        unit.ty(one).is_numeric() && unit.ty(other).is_numeric() && self.is_same_number(state, one, other)
    }

    fn is_same_number(&self, state: &State, one: ExprId, other: ExprId) -> bool {
        let (Forms::Exactly(one), Forms::Exactly(other)) = (self.forms(state, one), self.forms(state, other)) else {
            return false;
        };
        products::is_zero(state, &one.plus(&other, -1.0))
    }
}
