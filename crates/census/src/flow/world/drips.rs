//! What comes down a little with each tick, as a cooldown does: over a wait of so many ticks by so much at most.

use super::super::access::AccessKind;
use super::*;
use crate::flow::graph::Step;

/// By cell: the one `tick` handler that takes from it, once for each of its instances, and how much.
pub(super) type Drips = FxHashMap<CellId, (HandlerId, f64)>;

impl World<'_> {
    pub(super) fn find_drips(&self) -> Drips {
        let mut drips = Drips::default();
        let mut several: FxHashSet<CellId> = FxHashSet::default();
        let ticks = |id: &HandlerId| matches!(self.parts(*id).1.trigger, Trigger::Tick) && !self.yields[id.index()];
        for id in self.handler_ids().filter(ticks) {
            for (cell, rate) in self.drips_of(id) {
                if drips.insert(cell, (id, rate)).is_some() {
                    several.insert(cell);
                }
            }
        }
        drips.retain(|cell, _| !several.contains(cell));
        drips
    }

    fn drips_of(&self, id: HandlerId) -> Vec<(CellId, f64)> {
        let (unit, _, graph) = self.parts(id);
        let (script, index) = self.handler(id);
        let steps =
            graph.blocks.iter().filter(|block| block.loops == 0 && !block.loop_head).flat_map(|block| &block.steps);
        let dripping = steps.filter_map(|step| self.drip(unit, step));
        let is_only = |cell: CellId| {
            let written = self.accesses[script.index()].iter().filter(|access| access.cell == cell && access.writes());
            let mut own = written.filter(|access| access.body == Body::Handler(index));
            let by_procedures = self.procedure_writes[script.index()].iter().any(|cells| cells.contains(&cell));
            matches!((own.next().map(|access| access.kind), own.next()), (Some(AccessKind::Write(..)), None))
                && !by_procedures
        };
        dripping.filter(|&(cell, _)| is_only(cell)).collect()
    }

    /// The cell from which a step takes an amount that is written out: the handler's own instance's, or the only one.
    fn drip(&self, unit: &ScriptUnit, step: &Step) -> Option<(CellId, f64)> {
        let StepKind::Assign { place, op: AssignOp::Subtract, value, .. } = step.kind else { return None };
        let many = unit.owner.is_some_and(|owner| self.project.registry.is_many(owner));
        let is_own = match unit.place(place) {
            Place::Private(_) | Place::Variable(_, Base::Own) => true,
            Place::Variable(_, Base::One) => !many,
            _ => false,
        };
        #[allow(clippy::cast_precision_loss, reason = "beyond 2⁵³ an amount is as good as one beside it")]
        let amount = match unit.tree.expr(value).kind {
            ExprKind::Int(amount) => amount as f64,
            ExprKind::Float(amount) => amount,
            _ => return None,
        };
        let cell = self.project.cell_of(unit, place).filter(|_| is_own && amount > 0.0)?;
        // What wraps is at its most where it has come down far enough; one value of all instances comes down for each of them.
        let comes_down = self.project.variable_of(cell).is_none_or(|id| {
            let variable = self.project.registry.var(id);
            variable.overflow != Overflow::Wrap && !(many && variable.scope != Scope::Instance)
        });
        comes_down.then_some((cell, amount))
    }

    /// For how many ticks a handler waits, where that tells how far something comes down by then.
    pub(in crate::flow) fn ticks_that_count(&self, table: &SlotTable, ticks: Option<f64>) -> Option<u32> {
        let drips = |facts: &SlotFacts| facts.cell.is_some_and(|cell| self.drips.contains_key(&cell));
        let ticks = ticks.filter(|ticks| *ticks < f64::from(u32::MAX))?;
        #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "that was looked at")]
        table.slots.iter().any(drips).then_some(ticks.max(0.0).ceil() as u32)
    }
}
