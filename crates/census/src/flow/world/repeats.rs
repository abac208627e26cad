//! Handlers that come once for each of a few instances as a run or a scene begins: how far they step a cell together.

use super::*;
use crate::registry::Overflow;

/// By handler and cell: from where to where the activations before the last one move the cell together.
pub(super) type Repeats = FxHashMap<(HandlerId, CellId), (f64, f64)>;

impl World<'_> {
    /// Finds how far `start` and `enter` handlers step what belongs to all their instances, where each does so at most once.
    pub(super) fn find_repeats(&self) -> Repeats {
        let mut repeats = Repeats::default();
        for id in self.handler_ids() {
            let (script, _) = self.handler(id);
            let several =
                self.parts(id).0.owner.filter(|&owner| self.is_opening(id) && self.project.registry.is_many(owner));
            let Some(others) = several.and_then(|owner| self.others_in_opening(id, owner)) else { continue };
            for (cell, by) in self.steps_at_once(id) {
                let in_procedure = self.procedure_writes[script.index()].iter().any(|writes| writes.contains(&cell));
                if let Some((down, up)) = by.filter(|_| !in_procedure) {
                    repeats.insert((id, cell), (down * others, up * others));
                }
            }
        }
        repeats
    }

    /// How many instances answer such a moment beside one; none where they may be any number.
    fn others_in_opening(&self, id: HandlerId, owner: OwnerId) -> Option<f64> {
        let is_spawn = |step: &graph::Step| matches!(step.kind, StepKind::Spawn { actor, .. } if actor == Some(owner));
        let spawns = |graph: &Graph| graph.blocks.iter().flat_map(|block| &block.steps).any(is_spawn);
        let opens = |id: HandlerId| self.is_opening(id) && matches!(self.parts(id).1.trigger, Trigger::Start);
        let by_procedure = self.graphs.iter().flat_map(|graphs| &graphs.procedures).any(spawns);
        let at_start = opens(id)
            && !by_procedure
            && !self.handler_ids().any(|other| self.is_opening(other) && spawns(self.handler_graph(other)));
        let listed = self.project.registry.instances_of(owner).count();
        let most = self.find_count(self.handler(id).0, owner).most;
        let all = if at_start { u32::try_from(listed).ok().map(f64::from)?.min(most.max(0.0)) } else { most };
        all.is_finite().then_some((all - 1.0).max(0.0))
    }

    /// How far one activation of a handler moves each cell that it writes: at least, and at most; none where that is no plain
    /// step, or stands in a loop.
    fn steps_at_once(&self, id: HandlerId) -> FxHashMap<CellId, Option<(f64, f64)>> {
        let (unit, _, graph) = self.parts(id);
        let mut steps: FxHashMap<CellId, Option<(f64, f64)>> = FxHashMap::default();
        for block in &graph.blocks {
            let over_and_over = block.loops > 0 || block.loop_head;
            for step in &block.steps {
                let (place, by) = match step.kind {
                    StepKind::Assign { place, op, value, .. } => (place, self.plain_step(unit, op, value)),
                    StepKind::Clear { place, .. } => (place, None),
                    _ => continue,
                };
                let Some(cell) = self.project.cell_of(unit, place) else { continue };
                let by = by.filter(|_| !over_and_over && self.keeps_to_its_writes(cell));
                let known = steps.entry(cell).or_insert(Some((0.0, 0.0)));
                *known = known.zip(by).map(|((down, up), (lo, hi))| (down + lo.min(0.0), up + hi.max(0.0)));
            }
        }
        steps
    }

    /// What a step adds, where that is a number as it stands, or one that nothing changes.
    fn plain_step(&self, unit: &ScriptUnit, op: AssignOp, value: ExprId) -> Option<(f64, f64)> {
        let constant = match unit.place_of(value).map(|place| unit.place(place)) {
            Some(Place::Variable(id, _)) if !self.moved[id.index()] => self.start_of(id),
            Some(_) => return None,
            None => self.literal(unit, value, Type::Number),
        };
        let Value::Num(num) = constant else { return None };
        let ends = match op {
            AssignOp::Add => (num.lo, num.hi),
            AssignOp::Subtract => (-num.hi, -num.lo),
            _ => return None,
        };
        (ends.0.is_finite() && ends.1.is_finite()).then_some(ends)
    }

    /// Whether nothing but a write of its own moves a cell: no bound takes it along.
    fn keeps_to_its_writes(&self, cell: CellId) -> bool {
        match self.project.cells[cell.index()] {
            Cell::Variable(id) => self.project.registry.var(id).overflow == Overflow::Error,
            Cell::Private(..) => true,
        }
    }
}
