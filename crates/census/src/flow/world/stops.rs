//! The numbers that what grows may stop at: those that scripts write down, and the registry's bounds.

use super::super::access::{AccessKind, walk_behind, walk_expr};
use super::*;

/// Of how many cells that something is worked out from it may take the ends.
const MOST_SOURCES: usize = 8;
/// How many numbers are kept that a cell's reach may stop at.
const MOST_STOPS: usize = 600;

impl World<'_> {
    pub(super) fn find_thresholds(&mut self) {
        let registry = &self.project.registry;
        let mut all: Vec<f64> = vec![0.0, 1.0];
        for variable in &registry.variables {
            for bound in [&variable.min, &variable.max].into_iter().flatten() {
                all.extend(crate::registry::read::bound_at_start(bound, registry));
            }
        }
        in_order(&mut all);
        if all.len() > 64 {
            all.clear();
        }
        self.thresholds = all;
    }

    /// The numbers that a handler's values may stop growing at: those it writes down, and the registry's bounds.
    #[must_use]
    pub fn thresholds(&self, handler: HandlerId) -> &[f64] {
        &self.stops[handler.index()]
    }

    /// The numbers that scripts compare a cell with or put into it, with their neighbours, and the ends of its range.
    pub(super) fn find_cell_stops(&self) -> Vec<Vec<f64>> {
        let registry = &self.project.registry;
        let mut stops: Vec<Vec<f64>> = vec![Vec::new(); self.project.cells.len()];
        for id in registry.var_ids() {
            let variable = registry.var(id);
            for bound in [&variable.min, &variable.max].into_iter().flatten() {
                stops[id.index()].extend(crate::registry::read::bound_at_start(bound, registry));
            }
        }
        let compared = |(unit, graphs): (&ScriptUnit, &Graphs)| {
            let mut found = Vec::new();
            self.add_stops_of_arms(unit, graphs, &mut found);
            let parts = graphs.handlers.iter().chain(&graphs.procedures).any(|graph| self.may_part(graph));
            for at in 0..unit.tree.exprs.len() {
                let expr = ExprId(u32::try_from(at).unwrap_or(u32::MAX));
                self.add_stops_of_comparison(unit, expr, parts, &mut found);
            }
            found
        };
        let written = |(unit, accesses): (&ScriptUnit, &Vec<Access>)| {
            let mut found = Vec::new();
            for access in accesses {
                let AccessKind::Write(op, Some(value)) = access.kind else { continue };
                if op == AssignOp::Set {
                    self.add_stops(unit, value, Some(access.cell), &mut found);
                }
                found.push((access.cell, 0.0)); // What is halved, or taken from, often stays on its side of zero.
            }
            found
        };
        let scripts = &self.project.scripts;
        let compared: Vec<Vec<(CellId, f64)>> = scripts.par_iter().zip(&self.graphs).map(compared).collect();
        let written: Vec<Vec<(CellId, f64)>> = scripts.par_iter().zip(&self.accesses).map(written).collect();
        for (cell, number) in compared.into_iter().chain(written).flatten() {
            let all = &mut stops[cell.index()];
            if all.len() < MOST_STOPS {
                all.push(number);
            }
        }
        self.hand_on_stops(&mut stops);
        stops.iter_mut().for_each(in_order);
        stops
    }

    /// What has no range of its own may stop where that ends which it is worked out from, or which it is given to; what is
    /// copied also where its source does.
    fn hand_on_stops(&self, stops: &mut [Vec<f64>]) {
        for (unit, accesses) in self.project.scripts.iter().zip(&self.accesses) {
            for access in accesses {
                let AccessKind::Write(op, Some(value)) = access.kind else { continue };
                let cell_of = |expr| unit.place_of(expr).and_then(|place| self.project.cell_of(unit, place));
                let mut sources: SmallVec<[CellId; 4]> = SmallVec::new();
                walk_behind(unit, value, &mut |inner| sources.extend(cell_of(inner)));
                sources.retain(|source| *source != access.cell);
                for &source in sources.iter().take(MOST_SOURCES) {
                    let (given, taken) = (self.ends_at_start(source), self.ends_at_start(access.cell));
                    add_ends(&mut stops[access.cell.index()], taken, given);
                    add_ends(&mut stops[source.index()], given, taken);
                }
                if let Some(from) =
                    cell_of(unit.behind(value)).filter(|from| op == AssignOp::Set && *from != access.cell)
                {
                    let more = std::mem::take(&mut stops[from.index()]);
                    let into = &mut stops[access.cell.index()];
                    if into.len() + more.len() < MOST_STOPS {
                        into.extend(&more);
                    }
                    stops[from.index()] = more;
                }
            }
        }
    }

    /// The ends of a cell's range as the run begins.
    pub(super) fn ends_at_start(&self, cell: CellId) -> [Option<f64>; 2] {
        let registry = &self.project.registry;
        let Cell::Variable(id) = self.project.cells[cell.index()] else { return [None; 2] };
        let variable = registry.var(id);
        [&variable.min, &variable.max]
            .map(|bound| bound.as_ref().and_then(|bound| crate::registry::read::bound_at_start(bound, registry)))
    }

    /// Adds the numbers of an expression to the cells in it if it is a comparison, and says so.
    pub(super) fn add_stops_of_comparison(
        &self,
        unit: &ScriptUnit,
        expr: ExprId,
        parts: bool,
        found: &mut Vec<(CellId, f64)>,
    ) -> bool {
        let ExprKind::Binary(op, ..) = unit.tree.expr(expr).kind else { return false };
        if !op.is_comparison() {
            return false;
        }
        self.add_stops(unit, expr, None, found);
        if parts && !matches!(op, BinaryOp::Less | BinaryOp::Greater) {
            self.add_bounds_as_stops(unit, expr, found);
        }
        true
    }

    /// Adds what lies beside the bounds of the cells in a test: with what comes to its bound there something else ends.
    fn add_bounds_as_stops(&self, unit: &ScriptUnit, test: ExprId, found: &mut Vec<(CellId, f64)>) {
        let registry = &self.project.registry;
        walk_expr(unit, test, &mut |inner| {
            let cell = unit.place_of(inner).and_then(|place| self.project.cell_of(unit, place));
            let Some((cell, Cell::Variable(id))) = cell.map(|cell| (cell, self.project.cells[cell.index()])) else {
                return;
            };
            let (min, max) = (&registry.var(id).min, &registry.var(id).max);
            let at_start = |bound: &Option<Bound>| {
                bound.as_ref().and_then(|bound| crate::registry::read::bound_at_start(bound, registry))
            };
            found.extend(at_start(min).map(|number| (cell, number + 1.0)));
            found.extend(at_start(max).map(|number| (cell, number - 1.0)));
        });
    }

    /// Adds the numbers of an expression to the cells in it, or to the one given.
    pub(super) fn add_stops(
        &self,
        unit: &ScriptUnit,
        expr: ExprId,
        into: Option<CellId>,
        found: &mut Vec<(CellId, f64)>,
    ) {
        let numbers = self.numbers_in(unit, expr);
        let mut cells: SmallVec<[CellId; 4]> = into.into_iter().collect();
        if into.is_none() {
            walk_expr(unit, expr, &mut |inner| {
                cells.extend(unit.place_of(inner).and_then(|place| self.project.cell_of(unit, place)));
            });
        }
        for cell in cells {
            for &number in &numbers {
                match into {
                    Some(_) => found.push((cell, number)),
                    // What is compared may stop right beside the number too.
                    None => found.extend(beside(number).map(|number| (cell, number))),
                }
            }
        }
    }

    /// The numbers that an expression writes down, either way round, but for those that something is moved by; and those that
    /// stand behind its names: a bound, a value that nothing changes, what a procedure gives.
    pub(super) fn numbers_in(&self, unit: &ScriptUnit, expr: ExprId) -> SmallVec<[f64; 4]> {
        let mut numbers = self.numbers_behind(unit, expr);
        walk_behind(unit, expr, &mut |inner| {
            let Meaning::Procedure(called) = unit.meaning(inner) else { return };
            walk(&unit.tree.procedures[called.index()].body, &mut |statement| {
                if let StatementKind::Return(Some(given)) = statement.kind {
                    numbers.extend(self.numbers_behind(unit, given));
                }
            });
        });
        numbers
    }

    fn numbers_behind(&self, unit: &ScriptUnit, expr: ExprId) -> SmallVec<[f64; 4]> {
        let mut numbers: SmallVec<[f64; 4]> = SmallVec::new();
        let steps = steps_in(unit, expr);
        walk_behind(unit, expr, &mut |inner| {
            #[allow(clippy::cast_precision_loss, reason = "a stop may be any number")]
            match unit.tree.expr(inner).kind {
                _ if steps.contains(&inner) => {}
                ExprKind::Int(value) => numbers.extend([value as f64, -(value as f64)]),
                ExprKind::Float(value) => numbers.extend([value, -value]),
                _ => numbers.extend(self.number_behind(unit, inner)),
            }
        });
        numbers
    }

    fn number_behind(&self, unit: &ScriptUnit, name: ExprId) -> Option<f64> {
        let registry = &self.project.registry;
        let variable = |place| match unit.place(place) {
            Place::Variable(id, _) => Some((registry.var(id), !self.moved[id.index()])),
            _ => None,
        };
        match unit.meaning(name) {
            Meaning::Bound(place, end) => {
                crate::registry::read::bound_at_start(variable(place)?.0.bound(end)?, registry)
            }
            Meaning::Value(place) => match variable(place)? {
                (constant, true) => constant.default.as_ref()?.as_number(),
                _ => None,
            },
            _ => None,
        }
    }

    /// Adds the numbers of a `match`'s arms to the cells that it asks about.
    fn add_stops_of_arms(&self, unit: &ScriptUnit, graphs: &Graphs, found: &mut Vec<(CellId, f64)>) {
        let blocks = graphs.handlers.iter().chain(&graphs.procedures).flat_map(|graph| &graph.blocks);
        self.add_stops_of_blocks(unit, blocks, found);
    }

    pub(super) fn add_stops_of_blocks<'b>(
        &self,
        unit: &ScriptUnit,
        blocks: impl IntoIterator<Item = &'b graph::Block>,
        found: &mut Vec<(CellId, f64)>,
    ) {
        for block in blocks {
            let Exit::Match { subject, arms, .. } = &block.exit else { continue };
            let mut cells: SmallVec<[CellId; 4]> = SmallVec::new();
            walk_behind(unit, *subject, &mut |inner| {
                cells.extend(unit.place_of(inner).and_then(|place| self.project.cell_of(unit, place)));
            });
            for number in arms.iter().flat_map(|(tests, _)| tests).flat_map(|&test| self.numbers_in(unit, test)) {
                found.extend(cells.iter().flat_map(|&cell| beside(number).map(|number| (cell, number))));
            }
        }
    }

    /// Empty where nothing loops, so that nothing grows.
    pub(super) fn find_stops(&self, handler: HandlerId) -> Vec<f64> {
        let (script, index) = self.handler(handler);
        let graphs = &self.graphs[script.index()];
        let mut bodies = std::iter::once(&graphs.handlers[index]).chain(&graphs.procedures);
        if !bodies.any(|graph| graph.blocks.iter().any(|block| block.loop_head)) {
            return Vec::new();
        }
        let mut all = self.thresholds.clone();
        self.add_written_numbers(handler, &mut all);
        in_order(&mut all);
        all.shrink_to_fit();
        all
    }

    /// Adds the numbers that a handler writes down, with their neighbours.
    fn add_written_numbers(&self, handler: HandlerId, all: &mut Vec<f64>) {
        let (script, index) = self.handler(handler);
        let unit = self.project.script(script);
        let span = unit.tree.handlers[index].span;
        let from = unit.tree.exprs.partition_point(|expr| expr.span.end <= span.start);
        for expr in unit.tree.exprs[from..].iter().take_while(|expr| expr.span.start < span.end).take(400) {
            #[allow(clippy::cast_precision_loss, reason = "a threshold may be any number")]
            match expr.kind {
                ExprKind::Int(value) => all.extend([value as f64 - 1.0, value as f64, value as f64 + 1.0]),
                ExprKind::Float(value) => all.push(value),
                _ => {}
            }
        }
    }

    /// The numbers that what a handler sends may stop growing at: those it writes down, those that the handlers of the signal
    /// write down, and those of the cells that any of them touches.
    pub(super) fn stops_of_sent(&self, sender: HandlerId, signal: SignalId) -> Vec<f64> {
        let mut all = self.thresholds.clone();
        let answers = self.answers.get(&signal).into_iter().flatten().copied();
        for handler in std::iter::once(sender).chain(answers) {
            self.add_written_numbers(handler, &mut all);
            let cells = self.table(handler).slots.iter().filter_map(|slot| slot.cell);
            cells.for_each(|cell| all.extend(&self.cell_stops[cell.index()]));
            if all.len() > MOST_STOPS {
                break;
            }
        }
        in_order(&mut all);
        all
    }

    /// The cells that some script asks for one value of.
    pub(super) fn find_compared(&self) -> Vec<bool> {
        let in_script = |unit: &ScriptUnit| {
            let mut asked: Vec<ExprId> = Vec::new();
            for expr in &unit.tree.exprs {
                if let ExprKind::Binary(BinaryOp::Equal | BinaryOp::NotEqual, left, right) = expr.kind {
                    asked.extend([left, right]);
                }
            }
            let bodies = unit.tree.handlers.iter().map(|handler| &handler.body);
            for body in bodies.chain(unit.tree.procedures.iter().map(|procedure| &procedure.body)) {
                walk(body, &mut |statement| {
                    if let StatementKind::Match { subject, .. } = statement.kind {
                        asked.push(subject);
                    }
                });
            }
            let cell = |expr: ExprId| match unit.meaning(expr) {
                Meaning::Value(place) => self.project.cell_of(unit, place),
                _ => None,
            };
            asked.into_iter().filter_map(cell).collect::<Vec<CellId>>()
        };
        let found: Vec<Vec<CellId>> = self.project.scripts.par_iter().map(in_script).collect();
        let mut compared = vec![false; self.project.cells.len()];
        found.into_iter().flatten().for_each(|cell| compared[cell.index()] = true);
        compared
    }

    /// Whether some script asks whether a cell has this value or that, so that steps past it matter.
    #[must_use]
    pub fn is_compared(&self, cell: CellId) -> bool {
        self.compared[cell.index()]
    }
}

/// Adds the ends of another range for the ends that a cell has none of.
fn add_ends(stops: &mut Vec<f64>, own: [Option<f64>; 2], other: [Option<f64>; 2]) {
    if own.contains(&None) && stops.len() < MOST_STOPS {
        stops.extend(other.into_iter().flatten());
    }
}

/// A number and its neighbours.
pub(super) fn beside(number: f64) -> [f64; 3] {
    [number - 1.0, number, number + 1.0]
}

/// The numbers of an expression by which something is moved: `1` in `min(x + 1, 9)`. What is moved comes past them, and
/// does not stop there.
fn steps_in(unit: &ScriptUnit, expr: ExprId) -> SmallVec<[ExprId; 4]> {
    let mut steps = SmallVec::new();
    walk_expr(unit, expr, &mut |inner| {
        if let ExprKind::Binary(BinaryOp::Add | BinaryOp::Subtract, left, right) = unit.tree.expr(inner).kind {
            let is_number = |side: ExprId| matches!(unit.tree.expr(side).kind, ExprKind::Int(_) | ExprKind::Float(_));
            steps.extend([left, right].into_iter().filter(|&side| is_number(side)));
        }
    });
    steps
}

pub(super) fn in_order(stops: &mut Vec<f64>) {
    stops.sort_by(f64::total_cmp);
    stops.dedup();
}
