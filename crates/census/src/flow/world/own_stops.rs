//! The numbers that a cell may stop at as one handler steps it. What keeps a step from going on is a test in the handler itself,
//! so that it need not halt at each number that some other script compares the cell with: a counter that is asked about in many
//! places would be run after once for each of them.

use super::super::access::{AccessKind, exit_reads, walk_behind};
use super::stops::in_order;
use super::*;

/// The numbers that a handler's own tests may stop a cell at, by cell.
#[derive(Debug, Default)]
pub(super) struct OwnStops(Box<[(CellId, f64)]>);

impl OwnStops {
    fn of(&self, cell: CellId) -> impl Iterator<Item = f64> {
        let from = self.0.partition_point(|&(known, _)| known < cell);
        self.0[from..].iter().take_while(move |&&(known, _)| known == cell).map(|&(_, number)| number)
    }
}

/// What one body says of it.
#[derive(Default)]
struct BodyStops {
    numbers: Vec<(CellId, f64)>,
    /// Numbers that are compared with what may come from any cell.
    loose: Vec<f64>,
    /// Cells that are given what comes from others, or given to them: what stops those may stop them too.
    mixed: Vec<CellId>,
    stepped: Vec<CellId>,
}

impl World<'_> {
    /// By handler: what stops the cells that it steps; none where what keeps it from going on may stand in others.
    pub(super) fn find_own_stops(&self) -> Vec<Option<OwnStops>> {
        let held = self.held_by_others();
        let scripts: Vec<ScriptId> = self.project.script_ids().map(|(script, _)| script).collect();
        let found = scripts.par_iter().map(|&script| self.own_stops_in(script, &held)).collect::<Vec<_>>();
        found.into_iter().flatten().collect()
    }

    /// The cells that something else than the handlers that step them may hold back: who answers their change, or an invariant.
    fn held_by_others(&self) -> FxHashSet<CellId> {
        let watched = self.handler_ids().filter_map(|id| self.changed_cell(id));
        let invariants = self.project.invariants.iter().flat_map(|invariant| &invariant.variables);
        watched.chain(invariants.map(|variable| CellId(variable.0))).collect()
    }

    fn own_stops_in(&self, script: ScriptId, held: &FxHashSet<CellId>) -> Vec<Option<OwnStops>> {
        let (unit, graphs) = (self.project.script(script), &self.graphs[script.index()]);
        let reader = Reader::new(self, script);
        let procedures = graphs.procedures.iter().enumerate();
        let procedures: Vec<BodyStops> =
            procedures.map(|(at, graph)| reader.read(Body::Procedure(ProcId::at(at)), graph, None)).collect();
        let own = (0..).zip(&graphs.handlers).map(|(index, graph)| {
            if self.is_led_on(self.handler_id(script, index)) {
                return None;
            }
            let own = reader.read(Body::Handler(index), graph, unit.tree.handlers[index].when);
            let called = match procedures.is_empty() {
                true => FxHashSet::default(),
                false => self.called_from(script, index..index + 1),
            };
            let bodies = std::iter::once(&own).chain(called.iter().map(|id| &procedures[id.index()]));
            Some(self.merged_stops(&bodies.collect::<Vec<_>>(), held))
        });
        own.collect()
    }

    /// Whether others have a say in what a handler begins with, beside what cells can hold.
    fn is_led_on(&self, id: HandlerId) -> bool {
        let is_sent = |signal| !self.project.registry.signal(signal).from_engine;
        self.openings[id.index()].is_some()
            || self.changed_cell(id).is_some()
            || self.leaders.contains_key(&id)
            || self.signal_of(id).is_some_and(is_sent)
    }

    fn merged_stops(&self, bodies: &[&BodyStops], held: &FxHashSet<CellId>) -> OwnStops {
        let mut all: Vec<(CellId, f64)> = bodies.iter().flat_map(|body| &body.numbers).copied().collect();
        let mixed: FxHashSet<CellId> = bodies.iter().flat_map(|body| &body.mixed).copied().collect();
        let loose: Vec<f64> = bodies.iter().flat_map(|body| &body.loose).copied().collect();
        let stepped: FxHashSet<CellId> = bodies.iter().flat_map(|body| &body.stepped).copied().collect();
        for cell in stepped {
            all.extend(loose.iter().map(|&number| (cell, number)));
            if mixed.contains(&cell) || held.contains(&cell) {
                all.extend(self.cell_stops[cell.index()].iter().map(|&number| (cell, number)));
            }
        }
        all.sort_unstable_by(|a, b| a.0.cmp(&b.0).then(a.1.total_cmp(&b.1)));
        all.dedup();
        OwnStops(all.into())
    }

    /// What a cell may stop at as a handler steps it; nothing where what stops it may stand in others.
    pub(super) fn stops_of_steps(&self, handler: HandlerId, cell: CellId) -> Option<Vec<f64>> {
        let own = self.own_stops.get(handler.index())?.as_ref()?;
        let mut stops: Vec<f64> = own.of(cell).chain(self.ends_at_start(cell).into_iter().flatten()).collect();
        stops.push(0.0); // What is halved, or taken from, often stays on its side of zero.
        in_order(&mut stops);
        Some(stops)
    }
}

/// Reads the bodies of one script.
struct Reader<'w, 'p> {
    world: &'w World<'p>,
    unit: &'w ScriptUnit,
    script: ScriptId,
    /// Whether some body leaves its instance, its scene or its run.
    parts: bool,
    /// What the game's signals bring.
    brought: FxHashSet<LocalId>,
}

impl<'w, 'p> Reader<'w, 'p> {
    fn new(world: &'w World<'p>, script: ScriptId) -> Self {
        let (unit, graphs) = (world.project.script(script), &world.graphs[script.index()]);
        let parts = graphs.handlers.iter().chain(&graphs.procedures).any(|graph| world.may_part(graph));
        let parameters = unit.handlers.iter().flat_map(|handler| &handler.parameters);
        Self { world, unit, script, parts, brought: parameters.map(|&(local, _)| local).collect() }
    }

    fn read(&self, body: Body, graph: &Graph, when: Option<ExprId>) -> BodyStops {
        let (world, unit) = (self.world, self.unit);
        let mut stops = BodyStops::default();
        world.add_stops_of_blocks(unit, &graph.blocks, &mut stops.numbers);
        let mut look = |expr: ExprId| {
            crate::flow::access::walk_expr(unit, expr, &mut |inner| self.add_compared(inner, &mut stops));
        };
        when.into_iter().for_each(&mut look);
        for block in &graph.blocks {
            for step in &block.steps {
                let of_step = crate::flow::access::parts(step);
                of_step.reads.into_iter().chain(of_step.target.and_then(|(.., value)| value)).for_each(&mut look);
            }
            exit_reads(&block.exit).into_iter().for_each(&mut look);
        }
        for access in world.accesses_of(self.script, body) {
            let AccessKind::Write(op, Some(value)) = access.kind else { continue };
            if op == AssignOp::Set {
                world.add_stops(unit, value, Some(access.cell), &mut stops.numbers);
            }
            stops.stepped.push(access.cell);
            if !self.is_plain_step(access.cell, op, value) {
                stops.mixed.push(access.cell);
                stops.mixed.extend(self.moving_in(value));
            }
        }
        stops
    }

    /// Adds the numbers of an expression if it is a comparison.
    fn add_compared(&self, expr: ExprId, stops: &mut BodyStops) {
        let (world, unit) = (self.world, self.unit);
        let from = stops.numbers.len();
        if !world.add_stops_of_comparison(unit, expr, self.parts, &mut stops.numbers) {
            return;
        }
        let moving = self.moving_in(expr);
        if moving.iter().any(|cell| *cell != moving[0]) {
            stops.mixed.extend(moving);
        }
        let mut is_loose = false;
        walk_behind(unit, expr, &mut |inner| is_loose |= self.may_stand_for_any(inner));
        if is_loose {
            stops.loose.extend(stops.numbers[from..].iter().map(|&(_, number)| number));
            stops.loose.extend(world.numbers_in(unit, expr).into_iter().flat_map(super::stops::beside));
        }
    }

    /// Whether a name, or a call, may stand for what came from any cell.
    fn may_stand_for_any(&self, expr: ExprId) -> bool {
        match self.unit.meaning(expr) {
            Meaning::Value(place) => {
                let is_brought = |place| matches!(place, Place::Local(local) if self.brought.contains(&local));
                self.unit.behind(expr) == expr
                    && self.world.project.cell_of(self.unit, place).is_none()
                    && !is_brought(self.unit.place(place))
            }
            Meaning::Procedure(_) => true,
            _ => false,
        }
    }

    /// The cells in an expression that are not always the same.
    fn moving_in(&self, expr: ExprId) -> SmallVec<[CellId; 4]> {
        let (world, unit) = (self.world, self.unit);
        let mut cells: SmallVec<[CellId; 4]> = SmallVec::new();
        walk_behind(unit, expr, &mut |inner| {
            let cell = match unit.meaning(inner) {
                Meaning::Value(place) | Meaning::Axis(place, _) => world.project.cell_of(unit, place),
                Meaning::Bound(place, end) => self.bound(place, end),
                _ => None,
            };
            cells.extend(cell.filter(|&cell| world.fixed(cell).is_none()));
        });
        cells
    }

    /// The variable that bounds a place.
    fn bound(&self, place: PlaceId, end: End) -> Option<CellId> {
        let Place::Variable(id, _) = self.unit.place(place) else { return None };
        match self.world.project.registry.var(id).bound(end)? {
            Bound::Variable(other) => Some(CellId(other.0)),
            Bound::Number(_) => None,
        }
    }

    /// Whether a write steps a cell by what has nothing to do with what it holds: on it goes, step by step, until a test stops it.
    /// `x * 0.9 + 5` comes to rest at 50 by itself.
    fn is_plain_step(&self, cell: CellId, op: AssignOp, value: ExprId) -> bool {
        let unit = self.unit;
        let mut names = self.moving_in(value);
        let own = names.len();
        names.retain(|name| *name != cell);
        let own = own - names.len();
        let (mut adds, mut takes_itself_away) = (true, false);
        walk_behind(unit, value, &mut |inner| {
            adds &= !self.may_stand_for_any(inner);
            match unit.tree.expr(inner).kind {
                ExprKind::Binary(BinaryOp::Subtract, _, right) => {
                    takes_itself_away |= self.moving_in(right).contains(&cell);
                }
                ExprKind::Binary(BinaryOp::Add, ..) | ExprKind::Int(_) | ExprKind::Float(_) | ExprKind::Path(_) => {}
                ExprKind::Call(..) => {
                    let meaning = unit.meaning(inner);
                    adds &= matches!(meaning, Meaning::Builtin(Builtin::Min | Builtin::Max | Builtin::Clamp));
                }
                _ => adds = false,
            }
        });
        let most = match op {
            AssignOp::Set => 1,
            AssignOp::Add | AssignOp::Subtract => 0,
            _ => return false,
        };
        adds && !takes_itself_away && names.is_empty() && own <= most
    }
}
