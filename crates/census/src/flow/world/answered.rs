//! Procedures that say whether they have taken something: `if take() { … }`.

use super::*;
use crate::flow::called::Called;
use crate::flow::graph::{Block, BlockId, Exit};
use crate::script::ast::UnaryOp;

/// A procedure that writes a cell where it answers yes, and leaves it alone where it answers no.
pub(super) struct Answered<'w> {
    /// The call.
    pub called: Called,
    /// Its write.
    pub write: &'w graph::Step,
    /// The block that follows where it was done.
    pub done: BlockId,
}

impl World<'_> {
    /// The answer that a block's exit asks for, be it by a `let` right before.
    pub(super) fn answer_asked(&self, script: ScriptId, block: &Block, cell: CellId) -> Option<Answered<'_>> {
        let unit = self.project.script(script);
        let Exit::Branch { test, yes, no } = block.exit else { return None };
        let (mut asked, mut done) = (test, yes);
        while let ExprKind::Unary(UnaryOp::Not, inner) = unit.tree.expr(asked).kind {
            (asked, done) = (inner, if done == yes { no } else { yes });
        }
        let call = unit.behind(asked);
        let Meaning::Procedure(procedure) = unit.meaning(call) else { return None };
        let is_given = |step: &graph::Step| matches!(step.kind, StepKind::Let { value, .. } if value == call);
        let is_here = call == asked || block.steps.iter().any(is_given);
        let write = self.write_if_yes(script, procedure, cell).filter(|_| is_here && yes != no)?;
        Some(Answered { called: Called { call, procedure, certain: true }, write, done })
    }

    /// The one step by which a procedure writes a cell on all ways on which it gives `true`, and on none on which it gives `false`.
    pub(super) fn write_if_yes(&self, script: ScriptId, id: ProcId, cell: CellId) -> Option<&graph::Step> {
        let unit = self.project.script(script);
        let graph = self.procedure_graph(script, id);
        let (at, write) = self.single_write(script, id, cell)?;
        let gives = |block: &Block, wanted: bool| match block.exit {
            Exit::Return(Some(value)) => matches!(unit.tree.expr(value).kind, ExprKind::Bool(given) if given == wanted),
            Exit::End => !wanted,
            _ => true,
        };
        let is_told =
            graph.from(at).all(|block| gives(block, true)) && graph.but_through(at).all(|block| gives(block, false));
        is_told.then_some(write)
    }
}
