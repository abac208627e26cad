//! The procedures that a step or a block's exit calls, also for their values: `coins += toll()`.

use super::access::{exit_reads, offered_texts, parts};
use super::graph::{Block, Exit, Step, StepKind};
use crate::project::{Meaning, Place, ProcId, ScriptUnit};
use crate::script::ast::{BinaryOp, ExprId, ExprKind, TextPart};

/// A call of a procedure.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Called {
    /// The call.
    pub call: ExprId,
    /// What it calls.
    pub procedure: ProcId,
    /// It comes about whenever what it stands in does: no `and` or `or` before it decides.
    pub certain: bool,
}

impl Called {
    /// What is given for a parameter, where this names one.
    #[must_use]
    pub fn given(&self, unit: &ScriptUnit, parameter: ExprId) -> Option<ExprId> {
        let Place::Local(local) = unit.place(unit.place_of(parameter)?) else { return None };
        let ExprKind::Call(_, arguments) = &unit.tree.expr(self.call).kind else { return None };
        let at = unit.procedures[self.procedure.index()].parameters.iter().position(|&named| named == local)?;
        arguments.get(at).copied()
    }
}

/// The procedures that blocks call, each once.
#[must_use]
pub fn procedures<'b>(unit: &ScriptUnit, blocks: impl IntoIterator<Item = &'b Block>) -> Vec<ProcId> {
    let mut found: Vec<ProcId> = by_blocks(unit, blocks).into_iter().map(|called| called.procedure).collect();
    found.sort_unstable();
    found.dedup();
    found
}

/// What a step calls, in order, before it does what it does itself.
#[must_use]
pub fn by_step(unit: &ScriptUnit, step: &Step) -> Vec<Called> {
    let mut found = Vec::new();
    if unit.procedures.is_empty() {
        return found;
    }
    match step.kind {
        // Read more often than any other, and without a list of its parts.
        StepKind::Assign { value, .. } => add(unit, value, true, &mut found),
        _ => parts(step).reads.into_iter().for_each(|read| add(unit, read, true, &mut found)),
    }
    found
}

/// What an expression calls, in order.
#[must_use]
pub fn by_expr(unit: &ScriptUnit, expr: ExprId) -> Vec<Called> {
    let mut found = Vec::new();
    if !unit.procedures.is_empty() {
        add(unit, expr, true, &mut found);
    }
    found
}

/// What a block's exit calls, in order.
#[must_use]
pub fn by_exit(unit: &ScriptUnit, exit: &Exit) -> Vec<Called> {
    let mut found = Vec::new();
    if !unit.procedures.is_empty() {
        let always = !matches!(exit, Exit::Each { .. });
        exit_reads(exit).into_iter().for_each(|read| add(unit, read, always, &mut found));
        offered_texts(exit).for_each(|text| add(unit, text, false, &mut found)); // Those that are offered.
    }
    found
}

/// What blocks call, each as often as it stands there.
#[must_use]
pub fn by_blocks<'b>(unit: &ScriptUnit, blocks: impl IntoIterator<Item = &'b Block>) -> Vec<Called> {
    let of_block = |block: &'b Block| {
        let by_steps = block.steps.iter().flat_map(|step| by_step(unit, step));
        by_steps.chain(by_exit(unit, &block.exit)).collect::<Vec<_>>()
    };
    blocks.into_iter().flat_map(of_block).collect()
}

/// Adds the calls of an expression: those of arguments come before what they are given to.
fn add(unit: &ScriptUnit, expr: ExprId, certain: bool, found: &mut Vec<Called>) {
    match &unit.tree.expr(expr).kind {
        ExprKind::Text(parts) => {
            for part in parts {
                if let TextPart::Token { value, .. } = part {
                    add(unit, *value, certain, found);
                }
            }
        }
        ExprKind::Unary(_, inner) | ExprKind::Is { subject: inner, .. } => add(unit, *inner, certain, found),
        ExprKind::Binary(op, left, right) => {
            let joins = matches!(op, BinaryOp::And | BinaryOp::Or | BinaryOp::Implies);
            add(unit, *left, certain, found);
            add(unit, *right, certain && !joins, found);
        }
        ExprKind::Call(_, arguments) => {
            arguments.iter().for_each(|&argument| add(unit, argument, certain, found));
            if let Meaning::Procedure(procedure) = unit.meaning(expr) {
                found.push(Called { call: expr, procedure, certain });
            }
        }
        _ => {}
    }
}
