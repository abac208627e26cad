//! Procedures that only sort things into a few: `sign(n)`, `level_of(coins)`. What such a one gives tells which way it has gone,
//! and so what is true of what it asked about.

use super::*;

/// How many ways are told apart by what a procedure gives.
const MOST_OUTCOMES: usize = 5;

/// Ways apart, and the call that has been made on each of them: what it gives there is known.
pub(in crate::flow) type Apart = (States, Option<ExprId>);

impl Run<'_, '_> {
    /// The ways apart by what a sorting procedure gives that a step is certain to call.
    pub(super) fn apart_by_step(&mut self, state: State, step: &StepKind) -> Apart {
        let values: &[ExprId] = match step {
            StepKind::Let { value, .. } | StepKind::Assign { value, .. } => std::slice::from_ref(value),
            StepKind::Send { arguments, .. } => arguments,
            _ => &[],
        };
        self.apart_by_operands(state, values)
    }

    /// The ways apart by what a sorting procedure gives that one of these expressions is certain to call.
    pub(in crate::flow) fn apart_by_operands(&mut self, state: State, operands: &[ExprId]) -> Apart {
        if self.worked_out.is_some() {
            return (smallvec![state], self.worked_out);
        }
        let call = operands.iter().find_map(|&operand| self.sorting_in(operand));
        match call.filter(|_| self.foreign.is_none() && !operands.iter().any(|&operand| self.calls_procedure(operand)))
        {
            Some(call) => self.apart_by_outcome(state, call),
            None => (smallvec![state], None),
        }
    }

    /// The first call of a sorting procedure that an expression is certain to make.
    fn sorting_in(&self, expr: ExprId) -> Option<ExprId> {
        let unit = self.unit;
        if !self.table.has_sorting {
            return None;
        }
        match &unit.tree.expr(expr).kind {
            ExprKind::Unary(_, inner) => self.sorting_in(*inner),
            ExprKind::Binary(BinaryOp::And | BinaryOp::Or | BinaryOp::Implies, left, _) => self.sorting_in(*left),
            ExprKind::Binary(_, left, right) => self.sorting_in(*left).or_else(|| self.sorting_in(*right)),
            ExprKind::Call(_, arguments) => match unit.meaning(expr) {
                Meaning::Procedure(id) if unit.procedures[id.index()].sorts => {
                    (!self.stack.contains(&id)).then_some(expr)
                }
                Meaning::Builtin(_) => arguments.iter().find_map(|&argument| self.sorting_in(argument)),
                _ => None,
            },
            _ => None,
        }
    }

    /// The ways that a call of a sorting procedure may go, those together on which it gives the same; the one that there is where
    /// these are too many, or nothing comes back.
    fn apart_by_outcome(&mut self, state: State, call: ExprId) -> Apart {
        let (Meaning::Procedure(id), ExprKind::Call(_, arguments)) =
            (self.unit.meaning(call), &self.unit.tree.expr(call).kind)
        else {
            return (smallvec![state], None);
        };
        let Some(given) = self.table.slot(Key::Result(call)).filter(|_| self.most_parts > 1) else {
            return (smallvec![state], None);
        };
        let ends = self.call_parts(&mut state.clone(), call, id, arguments);
        let outcome = |state: &State| Some(&state.value(given).value).filter(|value| value.is_single()).cloned();
        let mut ways: SmallVec<[(Option<Value>, State); MOST_OUTCOMES]> = SmallVec::new();
        for end in ends {
            let gives = outcome(&end);
            match ways.iter().position(|(known, _)| *known == gives) {
                Some(at) => {
                    let (_, known) = ways.remove(at);
                    ways.push((gives, self.joined(known, end)));
                }
                None => ways.push((gives, end)),
            }
        }
        if self.take_dead() || !(2..=MOST_OUTCOMES).contains(&ways.len()) {
            return (smallvec![state], None);
        }
        (ways.into_iter().map(|(_, state)| state).collect(), Some(call))
    }
}
