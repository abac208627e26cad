//! Handlers whose signal is not sent again before they are through, since their sender keeps itself out until then: `on bell when
//! not filling { filling = true  send fill }`, where the answer to `fill` puts `filling` back at its end.

use super::super::certain::waits;
use super::*;
use crate::flow::access::AccessKind;
use crate::flow::graph::{Block, BlockId};

impl World<'_> {
    /// Whether a handler's one sender is kept out by a flag that it puts up as it sends, and that nobody but the handler puts
    /// down, with nothing to come after that.
    pub(super) fn is_held_out_meanwhile(&self, id: HandlerId) -> bool {
        // Of several that answer the first that is through would let the sender in again.
        let sender = self.sender_for_one(id).filter(|&sender| self.is_one(id) || !self.is_one(sender));
        let Some(sender) = sender else { return false };
        let Some(signal) = self.parts(id).0.handlers[self.handler(id).1].signal else { return false };
        let (unit, ..) = self.parts(sender);
        self.flags_on_entry(sender).into_iter().any(|(place, down)| {
            self.project.cell_of(unit, place).is_some_and(|cell| {
                self.lasts_as_long(cell, unit, self.parts(id).0)
                    && self.is_put_up_at_sending(sender, signal, place, !down)
                    && self.is_put_down_last(cell, sender, id)
            })
        })
    }

    /// The flags that a handler asks about as it begins, and how each must be.
    fn flags_on_entry(&self, id: HandlerId) -> Vec<(PlaceId, bool)> {
        let (unit, ..) = self.parts(id);
        let mut open = self.entries[id.index()].clone().unwrap_or_default();
        let mut flags = Vec::new();
        while let Some((test, wanted)) = open.pop() {
            match unit.tree.expr(test).kind {
                ExprKind::Unary(UnaryOp::Not, inner) => open.push((inner, !wanted)),
                ExprKind::Binary(op @ (BinaryOp::And | BinaryOp::Or), left, right)
                    if (op == BinaryOp::And) == wanted =>
                {
                    open.extend([(left, wanted), (right, wanted)]);
                }
                _ => {
                    let flag = unit
                        .place_of(test)
                        .filter(|&place| unit.ty(test) == Type::Bool && self.is_one_place(unit, place));
                    flags.extend(flag.zip(Some(wanted)));
                }
            }
        }
        flags
    }

    /// Whether a flag is not made anew while what its sender has sent is dealt with.
    fn lasts_as_long(&self, cell: CellId, sending: &ScriptUnit, answering: &ScriptUnit) -> bool {
        let alike = sending.owner == answering.owner && sending.scene == answering.scene;
        match self.project.cells[cell.index()] {
            Cell::Private(..) => alike,
            Cell::Variable(id) => {
                let variable = self.project.registry.var(id);
                !variable.engine_writes
                    && match variable.scope {
                        Scope::Global => true,
                        Scope::Scene | Scope::Type | Scope::Instance => alike,
                    }
            }
        }
    }

    /// Whether the flag is put up right before the signal is sent, and never otherwise changed by the sender.
    fn is_put_up_at_sending(&self, sender: HandlerId, signal: SignalId, flag: PlaceId, up: bool) -> bool {
        let (unit, _, graph) = self.parts(sender);
        let puts_up = |step: &graph::Step| match step.kind {
            StepKind::Assign { place, op: AssignOp::Set, value, .. } if place == flag => {
                matches!(unit.tree.expr(value).kind, ExprKind::Bool(given) if given == up)
            }
            _ => false,
        };
        let sends =
            |step: &graph::Step| matches!(step.kind, StepKind::Send { signal: Some(sent), .. } if sent == signal);
        let cell = self.project.cell_of(unit, flag);
        let changes = |step: &graph::Step| match step.kind {
            StepKind::Assign { place, .. } => self.project.cell_of(unit, place) == cell,
            _ => false,
        };
        if graph.blocks.iter().flat_map(|block| &block.steps).any(|step| changes(step) && !puts_up(step)) {
            return false;
        }
        graph.blocks.iter().filter(|block| block.steps.iter().any(sends)).all(|block| {
            let before = block.steps.iter().take_while(|step| !sends(step));
            before.filter(|step| puts_up(step) || waits(unit, &step.kind)).last().is_some_and(puts_up)
        })
    }

    /// Whether all that changes a flag is its sender, who puts it up, and the end of what answers.
    fn is_put_down_last(&self, cell: CellId, sender: HandlerId, answer: HandlerId) -> bool {
        let by = |id: HandlerId| (self.handler(id).0, Body::Handler(self.handler(id).1));
        let mut puts_down = false;
        for ((script, unit), accesses) in self.project.script_ids().zip(&self.accesses) {
            for access in accesses.iter().filter(|access| access.cell == cell && access.kind != AccessKind::Read) {
                let here = (script, access.body);
                let is_last = here == by(answer)
                    && self.is_one_place(unit, access.place)
                    && self.is_through_behind(answer, access.statement);
                if here != by(sender) && !is_last {
                    return false;
                }
                puts_down |= is_last;
            }
        }
        puts_down && !self.given_unread[cell.index()]
    }

    /// Whether a handler only goes on at once behind one of its statements, and has put nothing off.
    fn is_through_behind(&self, id: HandlerId, statement: Span) -> bool {
        let (unit, _, graph) = self.parts(id);
        let script = self.handler(id).0;
        let puts_off = |block: &Block| matches!(block.exit, Exit::Fork { .. });
        let procedures = graph.calls.iter().map(|&id| self.procedure_graph(script, id));
        if graph.blocks.iter().chain(procedures.flat_map(|graph| &graph.blocks)).any(puts_off) {
            return false;
        }
        let homes = (0..).map(BlockId).zip(&graph.blocks);
        let mut homes = homes.filter(|(_, block)| block.steps.iter().any(|step| step.span == statement));
        homes.all(|(_, block)| {
            let behind = block.steps.iter().skip_while(|step| step.span != statement);
            let further =
                block.exit.successors().into_iter().flat_map(|next| graph.from(next)).flat_map(|it| &it.steps);
            block.loops == 0 && !block.loop_head && !behind.chain(further).any(|step| waits(unit, &step.kind))
        })
    }
}
