//! All handlers together: what each can find as it begins, and what others do while it waits.
//!
//! A cell's *reach* is everything that its variable can hold between dispatches, over all instances. It starts from the
//! defaults and grows with what the handlers are seen to write, until nothing grows any more. Beside it stand the
//! *effects*: who writes the cell, and whether up, down, or to a value; they tell what a wait can change.

mod answers;
mod beforehand;
mod effects;
mod fresh;
mod given;
mod going;
mod once;
mod outlook;
mod partings;
mod waiting;

pub use effects::{Effect, Together};
pub use outlook::Asked;
pub use waiting::{Beside, Extent, Others, Part};

use outlook::Outlook;

use super::access::{Access, Body, Gather, PlaceIndex, Used, UsedBuilder};
use super::certain;
use super::engine::{
    Event, Key, Last, Move, Outcome, Parting, Pause, Reached, Run, Seen, SlotFacts, SlotTable, UNBOUND,
};
use super::eval::anything;
use super::graph::{self, Exit, Graph, StepKind};
use super::linear::Slot;
use super::state::State;
use super::trend::{Moved, Trend};
use super::value::{Abstract, Num, Symbol, Value};
use crate::project::{Base, Cell, CellId, Meaning, Place, PlaceId, ProcId, Project, ScriptId, ScriptUnit};
use crate::registry::{
    Bound, InstanceId, OwnerId, OwnerKind, Registry, Scope, SignalId, Type, Value as Constant, VarId, ids,
};
use crate::script::ast::*;
use crate::source::Span;
use rayon::prelude::*;
use rustc_hash::{FxHashMap, FxHashSet};
use smallvec::{SmallVec, smallvec};
use std::sync::Arc;

ids! {
    /// A handler of any script, in script order.
    HandlerId,
}

/// How often reach may grow before it is widened.
const ROUNDS: usize = 3;
/// How many handlers may ask on entry about one variable and still be held against those that wait.
const MOST_PEERS: usize = 256;
/// From which round on it is widened as far as it goes.
const LAST_STOPS: usize = 10;
/// After how many rounds growing ends for certain.
const MOST_ROUNDS: usize = 24;
/// How many turns a round has at most.
const TURNS: usize = 8;
/// How many handlers a turn has at least.
const SHORTEST_TURN: usize = 16;
/// How many numbers are kept that a cell's reach may stop at.
const MOST_STOPS: usize = 600;

/// The graphs of a script.
#[derive(Debug)]
pub struct Graphs {
    /// By handler.
    pub handlers: Vec<Graph>,
    /// By procedure.
    pub procedures: Vec<Graph>,
}

/// What a handler was found to do.
#[derive(Debug, Default)]
pub struct Found {
    /// What can go wrong.
    pub events: Vec<Event>,
    /// How tests came out.
    pub outcomes: FxHashMap<ExprId, Outcome>,
    /// The steps and exits that were reached, and when.
    pub reached: FxHashMap<Span, Reached>,
    /// Steps of variables as they settled.
    pub moves: Vec<Move>,
    /// Where others may look; kept where a rule asks.
    pub pauses: Vec<Pause>,
}

/// A handler of a script.
#[derive(Clone, Copy, Debug)]
pub struct HandlerAt {
    /// The script.
    pub script: ScriptId,
    /// Its index in the script.
    pub index: usize,
}

/// What is certain to be assigned before a handler, by place.
#[derive(Debug, Default)]
struct Beforehand {
    /// Cells that `start` handlers assign for certain, each with the first handler that does.
    start: FxHashMap<CellId, HandlerId>,
    /// Cells that `spawn` handlers assign for certain.
    spawn: FxHashMap<CellId, HandlerId>,
    /// Cells that `enter` handlers assign for certain.
    enter: FxHashMap<CellId, HandlerId>,
    /// Cells that `start` handlers certainly renew, whatever they held before.
    renewed: FxHashSet<CellId>,
}

/// All that the analysis knows.
pub struct World<'p> {
    /// The project.
    pub project: &'p Project,
    /// The graphs, by script.
    pub graphs: Vec<Graphs>,
    /// The handlers, in script order.
    pub handlers: Vec<HandlerAt>,
    /// The first handler of each script.
    first_handler: Vec<usize>,
    tables: Vec<SlotTable>,
    /// Enum values by text.
    pub symbols: FxHashMap<Arc<str>, Symbol>,
    /// What each cell can hold.
    pub reach: Vec<Value>,
    /// What is ever written to each cell, where that is more.
    written_beyond: FxHashMap<CellId, Value>,
    /// Who does what to each cell, by handler.
    pub effects: Vec<Vec<Effect>>,
    /// What scripts send, by signal and parameter.
    sent: FxHashMap<(SignalId, usize), Value>,
    /// The signals that scripts were seen to send.
    sent_signals: FxHashSet<SignalId>,
    /// The signals that are sent with something that means nothing.
    sent_unread: FxHashSet<SignalId>,
    /// All accesses, by script.
    pub accesses: Vec<Vec<Access>>,
    /// Whether some handler clears a cell.
    cleared: Vec<bool>,
    /// Whether others may come to see that a cell was cleared.
    seen_cleared: Vec<bool>,
    /// Whether anything writes a cell.
    pub written: Vec<bool>,
    /// Cells whose values are told by what could not be read, or means something else than it says: they may be anything.
    unsettled: Vec<bool>,
    /// Words of stretches that could not be read, and what misspelled names may mean.
    unread: FxHashSet<String>,
    beforehand: Beforehand,
    beginnings: fresh::Beginnings,
    /// What cells hold that something is certain to give a value to as things begin.
    given: given::Given,
    /// What was written last to cells that went.
    partings: partings::Partings,
    /// The actors whose `removed` handlers wait.
    lingering: FxHashSet<OwnerId>,
    /// Who sends the signals that scripts send.
    senders: FxHashMap<SignalId, once::OnlySender>,
    /// What is certain to be done in answer to them.
    certain_answers: FxHashMap<SignalId, answers::Answer>,
    in_invariant: FxHashSet<VarId>,
    /// Which moves of a variable can make an invariant false.
    upsets: FxHashMap<(usize, VarId), Moved>,
    /// By invariant: with the values that a run begins with it is false, so nothing may be built on it.
    begins_false: Vec<bool>,
    removed: FxHashSet<OwnerId>,
    removes_any: bool,
    /// The handlers that answer each signal, in order.
    answers: FxHashMap<SignalId, Vec<HandlerId>>,
    /// By handler: what it may take away before it first waits.
    removes_at_once: Vec<going::Between>,
    /// What `start`, `spawn` and `enter` handlers may take away before they first wait.
    removed_in_openings: going::Between,
    /// By signal that scripts send: what may be gone between the `send` and the answer.
    removed_between: FxHashMap<SignalId, going::Between>,
    /// The scripts that spawn each actor.
    spawned: FxHashMap<OwnerId, Vec<ScriptId>>,
    /// All scenes.
    scenes: SmallVec<[Symbol; 4]>,
    /// How many instances of an actor there are while a script's handlers run.
    counts: FxHashMap<(ScriptId, OwnerId), going::Count>,
    /// Some script leaves its scene.
    goes: bool,
    /// Some script ends the run.
    restarts: bool,
    /// What each procedure writes, with all that it calls.
    procedure_writes: Vec<Vec<FxHashSet<CellId>>>,
    thresholds: Vec<f64>,
    /// By handler: the numbers that its values may stop growing at.
    stops: Vec<Vec<f64>>,
    /// By handler: what must come out how for it to do anything.
    entries: Vec<Option<Vec<(ExprId, bool)>>>,
    /// By cell: the numbers that its reach may stop growing at.
    cell_stops: Vec<Vec<f64>>,
    /// By handler: how many steps its own body has.
    sizes: Vec<usize>,
    /// By handler: whether the rules about guards will ask for its pauses.
    pausing: Vec<bool>,
    /// By handler: whether others can act before it is through.
    yields: Vec<bool>,
    /// By cell: whether some test asks for one value of it.
    compared: Vec<bool>,
    /// By handler that waits: those of other scripts that ask on entry about what it names too.
    peers: Vec<Vec<HandlerId>>,
    /// By handler: whether it has its moment once, and when.
    openings: Vec<Option<waiting::Opening>>,
    /// Two handlers that are held against each other: while the first waits, or an `after` block of it is still to come, the
    /// second can begin for the same instance, or for whichever.
    begins_within: FxHashSet<(HandlerId, Part, HandlerId, Extent)>,
}

impl<'p> World<'p> {
    /// Builds the graphs and plain facts of a project, without values.
    #[must_use]
    pub fn new(project: &'p Project) -> Self {
        let graphs = graphs(project);
        let mut handlers = Vec::new();
        let mut first_handler = Vec::new();
        for (script, unit) in project.script_ids() {
            first_handler.push(handlers.len());
            handlers.extend((0..unit.tree.handlers.len()).map(|index| HandlerAt { script, index }));
        }
        let mut world = Self {
            project,
            graphs,
            handlers,
            first_handler,
            tables: Vec::new(),
            symbols: symbols(project),
            reach: Vec::new(),
            written_beyond: FxHashMap::default(),
            effects: vec![Vec::new(); project.cells.len()],
            sent: FxHashMap::default(),
            sent_signals: FxHashSet::default(),
            sent_unread: FxHashSet::default(),
            accesses: Vec::new(),
            cleared: vec![false; project.cells.len()],
            seen_cleared: vec![false; project.cells.len()],
            written: vec![false; project.cells.len()],
            unsettled: Vec::new(),
            unread: project
                .scripts
                .iter()
                .flat_map(|unit| unit.unread_names.union(&unit.meant_names).cloned())
                .collect(),
            beforehand: Beforehand::default(),
            beginnings: fresh::Beginnings::default(),
            given: given::Given::default(),
            partings: partings::Partings::default(),
            lingering: FxHashSet::default(),
            senders: FxHashMap::default(),
            certain_answers: FxHashMap::default(),
            in_invariant: project.invariants.iter().flat_map(|invariant| invariant.variables.iter().copied()).collect(),
            upsets: find_upsets(project),
            begins_false: vec![false; project.invariants.len()],
            removed: FxHashSet::default(),
            removes_any: false,
            answers: FxHashMap::default(),
            removes_at_once: Vec::new(),
            removed_in_openings: going::Between::default(),
            removed_between: FxHashMap::default(),
            spawned: FxHashMap::default(),
            scenes: all_scenes(&project.registry),
            counts: FxHashMap::default(),
            goes: false,
            restarts: false,
            procedure_writes: Vec::new(),
            thresholds: Vec::new(),
            stops: Vec::new(),
            entries: Vec::new(),
            cell_stops: Vec::new(),
            sizes: Vec::new(),
            pausing: Vec::new(),
            yields: Vec::new(),
            compared: Vec::new(),
            peers: Vec::new(),
            openings: Vec::new(),
            begins_within: FxHashSet::default(),
        };
        world.gather();
        world.find_comings_and_goings();
        world.find_certain();
        world.unsettled = world.find_unsettled();
        world.start_reach();
        world.find_thresholds();
        world.compared = world.find_compared();
        let ids: Vec<HandlerId> = world.handler_ids().collect();
        world.stops = ids.par_iter().map(|&id| world.find_stops(id)).collect();
        world.entries = ids.par_iter().map(|&id| world.find_entry(id)).collect();
        world.sizes = ids
            .iter()
            .map(|&id| world.handler_graph(id).blocks.iter().map(|block| block.steps.len() + 1).sum())
            .collect();
        for &id in &ids {
            let (script, index) = world.handler(id);
            if let Some(signal) = project.script(script).handlers[index].signal {
                world.answers.entry(signal).or_default().push(id);
            }
        }
        world.removes_at_once = ids.par_iter().map(|&id| world.find_removals(id)).collect();
        world.yields = ids.par_iter().map(|&id| world.lets_others_act(id)).collect();
        world.senders = world.find_senders();
        world.certain_answers = world.find_certain_answers();
        world.lingering = world.find_lingering();
        world.pausing = ids.iter().map(|&id| world.wants_pauses(id)).collect();
        world.openings = ids.iter().map(|&id| world.find_opening(id)).collect();
        world.removed_in_openings = world.find_removed_in_openings();
        world.removed_between = world.find_removed_between();
        world.cell_stops = world.find_cell_stops();
        world.tables = world.make_tables();
        world.counts = world.find_counts();
        world.peers = world.find_peers();
        world.given = world.nothing_given();
        world.begins_false = (0..project.invariants.len()).map(|at| world.begins_false(at)).collect();
        world
    }

    // ---- plain facts ----

    fn gather(&mut self) {
        let project = self.project;
        let gathered: Vec<(Vec<Access>, Vec<FxHashSet<CellId>>)> = project
            .scripts
            .par_iter()
            .zip(&self.graphs)
            .map(|(unit, graphs)| gather_script(project, unit, graphs))
            .collect();
        for (accesses, writes) in gathered {
            for access in accesses.iter().filter(|access| access.writes()) {
                self.written[access.cell.index()] = true;
                self.cleared[access.cell.index()] |= access.kind == super::access::AccessKind::Clear;
            }
            self.accesses.push(accesses);
            self.procedure_writes.push(writes);
        }
        for id in project.registry.var_ids() {
            self.written[id.index()] |= project.registry.var(id).engine_writes;
        }
    }

    /// What stands in a stretch that could not be read, what a misspelled name may mean, what is given `+1` or a value of
    /// another type, and all that is an owner's whose script calls a procedure that there is not.
    fn find_unsettled(&self) -> Vec<bool> {
        let project = self.project;
        let registry = &project.registry;
        let blind: Vec<bool> = project.scripts.iter().map(calls_nobody).collect();
        let blind_owners: FxHashSet<OwnerId> = project
            .scripts
            .iter()
            .zip(&blind)
            .filter(|(_, blind)| **blind)
            .filter_map(|(unit, _)| unit.owner)
            .collect();
        let mut unsettled: Vec<bool> = project
            .cells
            .iter()
            .map(|cell| match *cell {
                Cell::Variable(id) => {
                    let variable = registry.var(id);
                    self.unread.contains(&*variable.name)
                        || !variable.constant && blind_owners.contains(&variable.owner)
                }
                Cell::Private(script, index) => {
                    let unit = project.script(script);
                    blind[script.index()]
                        || unit.may_use(project.text(unit, unit.tree.privates[index as usize].name.span))
                }
            })
            .collect();
        for (unit, writes) in project.scripts.iter().zip(&self.procedure_writes) {
            let names = unit.tree.procedures.iter().map(|procedure| project.text(unit, procedure.name.span));
            for cell in names.zip(writes).filter(|(name, _)| unit.may_use(name)).flat_map(|(_, cells)| cells) {
                unsettled[cell.index()] = true;
            }
        }
        for (unit, accesses) in project.scripts.iter().zip(&self.accesses) {
            for access in accesses {
                if let super::access::AccessKind::Write(op, Some(value)) = access.kind {
                    let slip =
                        op == AssignOp::Set && matches!(unit.tree.expr(value).kind, ExprKind::Unary(UnaryOp::Plus, _));
                    let fits = unit.ty(value).is_like(unit.place_types[access.place.index()]);
                    unsettled[access.cell.index()] |= slip || !fits;
                }
            }
        }
        unsettled
    }

    fn find_thresholds(&mut self) {
        let registry = &self.project.registry;
        let mut all: Vec<f64> = vec![0.0, 1.0];
        for variable in &registry.variables {
            for bound in [&variable.min, &variable.max].into_iter().flatten() {
                all.extend(crate::registry::read::bound_at_start(bound, registry));
            }
        }
        all.sort_by(f64::total_cmp);
        all.dedup();
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

    /// Whether a handler waits or spawns, by itself or through a procedure.
    fn lets_others_act(&self, id: HandlerId) -> bool {
        let (script, index) = self.handler(id);
        let acts = |block: &graph::Block| {
            matches!(block.exit, Exit::Fork { .. })
                || block.steps.iter().any(|step| matches!(step.kind, StepKind::Spawn { .. } | StepKind::Wait(_)))
        };
        self.bodies(script, &self.graphs[script.index()].handlers[index])
            .iter()
            .any(|graph| graph.blocks.iter().any(acts))
    }

    /// A body of a script, and those of all procedures that it comes to call.
    #[must_use]
    pub fn bodies<'w>(&'w self, script: ScriptId, body: &'w Graph) -> Vec<&'w Graph> {
        let unit = self.project.script(script);
        let mut all = vec![body];
        if unit.procedures.is_empty() {
            return all;
        }
        let mut seen: FxHashSet<ProcId> = FxHashSet::default();
        let mut at = 0;
        while at < all.len() {
            let calls = called(unit, all[at]).into_iter().filter(|&id| seen.insert(id));
            all.extend(calls.map(|id| self.procedure_graph(script, id)));
            at += 1;
        }
        all
    }

    /// The numbers that scripts compare a cell with or put into it, with their neighbours, and the ends of its range.
    fn find_cell_stops(&self) -> Vec<Vec<f64>> {
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
            let parts = graphs.handlers.iter().chain(&graphs.procedures).any(|graph| self.may_part(graph));
            for at in 0..unit.tree.exprs.len() {
                let expr = ExprId(u32::try_from(at).unwrap_or(u32::MAX));
                if let ExprKind::Binary(op, ..) = unit.tree.expr(expr).kind
                    && op.is_comparison()
                {
                    self.add_stops(unit, expr, None, &mut found);
                    if parts && !matches!(op, BinaryOp::Less | BinaryOp::Greater) {
                        self.add_bounds_as_stops(unit, expr, &mut found);
                    }
                }
            }
            found
        };
        let written = |(unit, accesses): (&ScriptUnit, &Vec<Access>)| {
            let mut found = Vec::new();
            for access in accesses {
                if let super::access::AccessKind::Write(AssignOp::Set, Some(value)) = access.kind {
                    self.add_stops(unit, value, Some(access.cell), &mut found);
                }
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
        for all in &mut stops {
            all.sort_by(f64::total_cmp);
            all.dedup();
        }
        stops
    }

    /// Adds what lies beside the bounds of the cells in a test: with what comes to its bound there something else ends.
    fn add_bounds_as_stops(&self, unit: &ScriptUnit, test: ExprId, found: &mut Vec<(CellId, f64)>) {
        let registry = &self.project.registry;
        super::access::walk_expr(unit, test, &mut |inner| {
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
    fn add_stops(&self, unit: &ScriptUnit, expr: ExprId, into: Option<CellId>, found: &mut Vec<(CellId, f64)>) {
        let mut numbers: SmallVec<[f64; 4]> = SmallVec::new();
        let mut cells: SmallVec<[CellId; 4]> = into.into_iter().collect();
        let steps = steps_in(unit, expr);
        super::access::walk_expr(unit, expr, &mut |inner| {
            #[allow(clippy::cast_precision_loss, reason = "a stop may be any number")]
            match unit.tree.expr(inner).kind {
                _ if steps.contains(&inner) => {}
                ExprKind::Int(value) => numbers.extend([value as f64, -(value as f64)]),
                ExprKind::Float(value) => numbers.extend([value, -value]),
                ExprKind::Path(_) if into.is_none() => {
                    cells.extend(unit.place_of(inner).and_then(|place| self.project.cell_of(unit, place)));
                }
                _ => {}
            }
        });
        for cell in cells {
            for &number in &numbers {
                match into {
                    Some(_) => found.push((cell, number)),
                    // What is compared may stop right beside the number too.
                    None => found.extend([number - 1.0, number, number + 1.0].map(|number| (cell, number))),
                }
            }
        }
    }

    fn find_entry(&self, id: HandlerId) -> Option<Vec<(ExprId, bool)>> {
        let (unit, handler, _) = self.parts(id);
        entry_tests(unit, handler)
    }

    /// Empty where nothing loops, so that nothing grows.
    fn find_stops(&self, handler: HandlerId) -> Vec<f64> {
        let (script, index) = self.handler(handler);
        let graphs = &self.graphs[script.index()];
        let mut bodies = std::iter::once(&graphs.handlers[index]).chain(&graphs.procedures);
        if !bodies.any(|graph| graph.blocks.iter().any(|block| block.loop_head)) {
            return Vec::new();
        }
        let unit = self.project.script(script);
        let span = unit.tree.handlers[index].span;
        let from = unit.tree.exprs.partition_point(|expr| expr.span.end <= span.start);
        let mut all = self.thresholds.clone();
        for expr in unit.tree.exprs[from..].iter().take_while(|expr| expr.span.start < span.end).take(400) {
            #[allow(clippy::cast_precision_loss, reason = "a threshold may be any number")]
            match expr.kind {
                ExprKind::Int(value) => all.extend([value as f64 - 1.0, value as f64, value as f64 + 1.0]),
                ExprKind::Float(value) => all.push(value),
                _ => {}
            }
        }
        all.sort_by(f64::total_cmp);
        all.dedup();
        all.shrink_to_fit();
        all
    }

    /// The cells that some script asks for one value of.
    fn find_compared(&self) -> Vec<bool> {
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

    fn make_tables(&self) -> Vec<SlotTable> {
        let mut bounded_by: FxHashMap<VarId, Vec<VarId>> = FxHashMap::default();
        for id in self.project.registry.var_ids() {
            let variable = self.project.registry.var(id);
            for bound in [&variable.min, &variable.max].into_iter().flatten() {
                if let Bound::Variable(other) = bound {
                    bounded_by.entry(*other).or_default().push(id);
                }
            }
        }
        let by_script: Vec<Vec<SlotTable>> = self
            .project
            .scripts
            .par_iter()
            .zip(&self.graphs)
            .map(|(unit, graphs)| {
                let index = PlaceIndex::new(unit);
                (0..graphs.handlers.len())
                    .map(|at| SlotTable::new(self, unit, &self.used(unit, graphs, at, &index, &bounded_by)))
                    .collect()
            })
            .collect();
        by_script.into_iter().flatten().collect()
    }

    fn used(
        &self,
        unit: &ScriptUnit,
        graphs: &Graphs,
        at: usize,
        index: &PlaceIndex,
        bounded_by: &FxHashMap<VarId, Vec<VarId>>,
    ) -> Used {
        let mut builder = UsedBuilder::new(self.project, unit);
        if let Some(when) = unit.tree.handlers[at].when {
            builder.expr(when);
        }
        if let Some(changed) = unit.handlers[at].changed {
            builder.place(changed);
        }
        for (local, _) in &unit.handlers[at].parameters {
            builder.place(unit.local_places[local.0 as usize]);
        }
        builder.graph(&graphs.handlers[at]);
        while let Some(id) = builder.next_call() {
            builder.parameters(id);
            builder.graph(&graphs.procedures[id.index()]);
        }
        builder.finish(index, bounded_by)
    }

    // ---- look-ups ----

    /// The script and the index of a handler.
    #[must_use]
    pub fn handler(&self, id: HandlerId) -> (ScriptId, usize) {
        let at = self.handlers[id.index()];
        (at.script, at.index)
    }

    /// The id of a script's handler.
    #[must_use]
    pub fn handler_id(&self, script: ScriptId, index: usize) -> HandlerId {
        HandlerId::at(self.first_handler[script.index()] + index)
    }

    /// All handlers.
    pub fn handler_ids(&self) -> impl Iterator<Item = HandlerId> + use<> {
        (0..self.handlers.len()).map(HandlerId::at)
    }

    /// A handler's tree, its script and its graph.
    #[must_use]
    pub fn parts(&self, id: HandlerId) -> (&'p ScriptUnit, &'p Handler, &Graph) {
        let (script, index) = self.handler(id);
        let unit = self.project.script(script);
        (unit, &unit.tree.handlers[index], &self.graphs[script.index()].handlers[index])
    }

    /// How many steps a handler's own body has.
    #[must_use]
    pub fn size(&self, id: HandlerId) -> usize {
        self.sizes[id.index()]
    }

    /// The slots of a handler.
    #[must_use]
    pub fn table(&self, id: HandlerId) -> &SlotTable {
        &self.tables[id.index()]
    }

    /// The graph of a handler.
    #[must_use]
    pub fn handler_graph(&self, id: HandlerId) -> &Graph {
        let (script, index) = self.handler(id);
        &self.graphs[script.index()].handlers[index]
    }

    /// The graph of a procedure.
    #[must_use]
    pub fn procedure_graph(&self, script: ScriptId, id: ProcId) -> &Graph {
        &self.graphs[script.index()].procedures[id.index()]
    }

    /// What a procedure writes, with all that it calls.
    #[must_use]
    pub fn written_by(&self, script: ScriptId, id: ProcId) -> &FxHashSet<CellId> {
        &self.procedure_writes[script.index()][id.index()]
    }

    /// Whether an invariant is false of the defaults and the instances' own starting values. It is worked out in any
    /// handler that knows all its variables; where none does, nobody asks.
    fn begins_false(&self, at: usize) -> bool {
        let invariant = &self.project.invariants[at];
        let registry = &self.project.registry;
        let knows_all = |handler: HandlerId, base: Base| {
            let table = self.table(handler);
            let slots = invariant.variables.iter().map(|&variable| {
                let own = registry.var(variable).scope == Scope::Instance;
                table.of_variable(variable, if own { base } else { Base::One }).map(|slot| (slot, variable))
            });
            slots.collect::<Option<Vec<(Slot, VarId)>>>()
        };
        let mut known = self.handler_ids().flat_map(|id| {
            let bases = Run::new(self, id).invariant_bases(at);
            bases.into_iter().filter_map(move |base| Some((id, base, knows_all(id, base)?)))
        });
        let Some((handler, base, slots)) = known.next() else { return false };
        let mut run = Run::new(self, handler);
        let whose: Vec<Option<InstanceId>> = match invariant.actor {
            Some(actor) => std::iter::once(None).chain(registry.instances_of(actor).map(Some)).collect(),
            None => vec![None],
        };
        whose.into_iter().any(|instance| {
            let mut state = run.unassuming();
            for &(slot, variable) in &slots {
                let facts = registry.var(variable);
                let own = instance.and_then(|instance| registry.start_of(variable, instance));
                let Some(start) = own.or(facts.default.as_ref()) else { return false };
                state.values[slot as usize] = Abstract::of(self.constant(start, facts.ty));
            }
            run.judge(state, at, base).0.is_none()
        })
    }

    /// Whether an invariant can be taken to hold when a handler begins.
    #[must_use]
    pub fn can_be_assumed(&self, invariant: usize) -> bool {
        !self.begins_false[invariant]
    }

    /// Which moves of a variable can make an invariant false that was true.
    pub(super) fn upsets(&self, invariant: usize, variable: VarId) -> Moved {
        self.upsets.get(&(invariant, variable)).copied().unwrap_or(Moved::EITHER)
    }

    /// Whether a variable stands in an invariant.
    #[must_use]
    pub fn in_invariant(&self, variable: VarId) -> bool {
        self.in_invariant.contains(&variable)
    }

    /// The scenes that can be loaded while a script's handlers run.
    #[must_use]
    pub fn scenes_of(&self, unit: &ScriptUnit) -> Option<SmallVec<[Symbol; 4]>> {
        if let Some(scene) = unit.scene {
            return Some(smallvec![scene.0]);
        }
        let registry = &self.project.registry;
        if let Some(actor) = unit.owner.filter(|&owner| registry.is_actor(owner) && !self.spawned.contains_key(&owner))
        {
            let mut scenes: SmallVec<[Option<OwnerId>; 4]> =
                registry.instances_of(actor).map(|id| registry.instance(id).scene).collect();
            scenes.dedup();
            if let [Some(only)] = scenes[..] {
                return Some(smallvec![only.0]);
            }
        }
        Some(self.scenes.clone())
    }

    fn home(&self, cell: CellId) -> Home {
        match self.project.cells[cell.index()] {
            Cell::Variable(id) => {
                let variable = self.project.registry.var(id);
                match variable.scope {
                    Scope::Global | Scope::Type => Home::Everywhere,
                    Scope::Scene => Home::Scene,
                    Scope::Instance => Home::Instance(variable.owner),
                }
            }
            Cell::Private(script, _) => {
                let unit = self.project.script(script);
                match unit.owner {
                    Some(owner) if self.project.registry.is_actor(owner) => Home::Instance(owner),
                    _ if unit.scene.is_some() => Home::Scene,
                    _ => Home::Everywhere,
                }
            }
        }
    }

    // ---- reach ----

    fn start_reach(&mut self) {
        let registry = &self.project.registry;
        let mut reach = Vec::with_capacity(self.project.cells.len());
        for cell in &self.project.cells {
            reach.push(match cell {
                Cell::Variable(id) => self.start_of(*id),
                Cell::Private(script, index) => {
                    let unit = self.project.script(*script);
                    let ty = unit.privates[*index as usize].ty;
                    match unit.tree.privates[*index as usize].start {
                        Some(start) => self.literal(unit, start, ty),
                        None => nothing(ty),
                    }
                }
            });
        }
        self.reach = reach;
        for at in (0..self.unsettled.len()).filter(|&at| self.unsettled[at]) {
            let (ty, variable) = match self.project.cells[at] {
                Cell::Variable(id) => (registry.var(id).ty, Some(id)),
                Cell::Private(script, index) => (self.project.script(script).privates[index as usize].ty, None),
            };
            let inside = variable.and_then(|id| self.within_bounds(id, anything(ty)));
            self.reach[at] = inside.unwrap_or_else(|| anything(ty));
        }
        for id in registry.var_ids().filter(|&id| registry.var(id).engine_writes) {
            self.effects[id.index()].push(Effect {
                handler: None,
                after_wait: false,
                later: false,
                own: false,
                up: true,
                down: true,
                set: None,
                clears: false,
            });
        }
        self.renew_engine_reach();
    }

    /// Whether what a cell holds hangs on something that could not be read, or means something else than it says.
    #[must_use]
    pub fn is_unsettled(&self, cell: CellId) -> bool {
        self.unsettled[cell.index()]
    }

    /// The one number that a cell holds for good, where nothing writes it and all start with the same.
    #[must_use]
    pub fn fixed(&self, cell: CellId) -> Option<f64> {
        match &self.reach[cell.index()] {
            Value::Num(num) if !self.written[cell.index()] && !self.unsettled[cell.index()] => num.single(),
            _ => None,
        }
    }

    /// What the game writes lies anywhere within the range, so it reaches as far as its bounds do by now. Gives the cells
    /// that have grown.
    fn renew_engine_reach(&mut self) -> Vec<CellId> {
        let registry = &self.project.registry;
        let mut grown = Vec::new();
        for id in registry.var_ids().filter(|&id| registry.var(id).engine_writes) {
            let value = self.within_bounds(id, anything(registry.var(id).ty)).unwrap_or(Value::Other);
            let known = &self.reach[id.index()];
            let joined = if is_nothing(known) { value.clone() } else { known.join(&value) };
            if joined != *known {
                self.reach[id.index()] = joined;
                grown.push(CellId(id.0));
            }
            for effect in self.effects[id.index()].iter_mut().filter(|effect| effect.handler.is_none()) {
                effect.set = Some(value.clone());
            }
        }
        grown
    }

    /// The value of a text as it is written in a script.
    #[must_use]
    pub fn text_value(&self, kind: &ExprKind) -> Value {
        let symbol = plain_text(kind).and_then(|text| self.symbols.get(text));
        Value::Text(symbol.map(|&symbol| smallvec![symbol]))
    }

    /// A constant expression's value.
    fn literal(&self, unit: &ScriptUnit, expr: ExprId, ty: Type) -> Value {
        let value = match &unit.tree.expr(expr).kind {
            #[allow(clippy::cast_precision_loss, reason = "the ends of 64 bits are rounded outward")]
            ExprKind::Int(value) => Value::Num(Num::constant(*value as f64, ty == Type::Int)),
            ExprKind::Float(value) => Value::Num(Num::constant(*value, false)),
            ExprKind::Bool(value) => Value::Bool { yes: *value, no: !*value },
            ExprKind::None => Value::Ref { none: true, some: false },
            kind @ ExprKind::Text(_) => self.text_value(kind),
            ExprKind::Unary(UnaryOp::Minus, inner) => match self.literal(unit, *inner, ty) {
                Value::Num(num) => Value::Num(num.neg()),
                other => other,
            },
            ExprKind::Binary(op, left, right) => {
                match (self.literal(unit, *left, ty), self.literal(unit, *right, ty)) {
                    (Value::Num(a), Value::Num(b)) => match op {
                        BinaryOp::Add => Value::Num(a.add(&b)),
                        BinaryOp::Subtract => Value::Num(a.sub(&b)),
                        BinaryOp::Multiply => Value::Num(a.mul(&b)),
                        BinaryOp::Divide => Value::Num(a.div(&b)),
                        _ => anything(ty),
                    },
                    _ => anything(ty),
                }
            }
            _ => anything(ty),
        };
        match (&value, ty) {
            (Value::Num(_), Type::Int | Type::Number)
            | (Value::Bool { .. }, Type::Bool)
            | (Value::Text(_), Type::Text | Type::Enum(_))
            | (Value::Ref { .. }, Type::Ref(_)) => value,
            _ => anything(ty),
        }
    }

    fn start_of(&self, id: VarId) -> Value {
        let registry = &self.project.registry;
        let variable = registry.var(id);
        let own = (0..registry.instances.len())
            .map(InstanceId::at)
            .filter(|&instance| variable.scope == Scope::Instance && registry.instance(instance).of == variable.owner);
        let mut start =
            variable.default.as_ref().map_or_else(|| nothing(variable.ty), |value| self.start_value(id, value));
        for instance in own {
            if let Some(value) = registry.start_of(id, instance) {
                start = join_nothing(&start, &self.start_value(id, value), variable.ty, variable.default.is_none());
            }
        }
        start
    }

    /// What a variable starts as; one that would start outside of its range may be meant to be anything inside.
    fn start_value(&self, id: VarId, value: &Constant) -> Value {
        let registry = &self.project.registry;
        let variable = registry.var(id);
        let end = |bound: &Option<Bound>, open: f64| {
            bound.as_ref().and_then(|bound| crate::registry::read::bound_at_start(bound, registry)).unwrap_or(open)
        };
        let (min, max) = (end(&variable.min, f64::NEG_INFINITY), end(&variable.max, f64::INFINITY));
        match value.as_number() {
            Some(number) if min <= max && (number < min || number > max) => {
                Value::Num(Num::range(min, max, variable.ty == Type::Int))
            }
            _ => self.constant(value, variable.ty),
        }
    }

    /// The value of a constant of the registry.
    #[must_use]
    pub fn constant(&self, value: &Constant, ty: Type) -> Value {
        match value {
            Constant::Bool(value) => Value::Bool { yes: *value, no: !*value },
            Constant::Int(_) | Constant::Number(_) => {
                Value::Num(Num::constant(value.as_number().unwrap_or(0.0), ty == Type::Int))
            }
            Constant::Text(text) => Value::Text(self.symbols.get(text).map(|&symbol| smallvec![symbol])),
            Constant::Ref(_) => Value::Ref { none: false, some: true },
            Constant::Vector(_) => Value::Other,
        }
    }

    /// A value cut to the range that its variable may have; none if nothing of it is inside.
    fn within_bounds(&self, id: VarId, value: Value) -> Option<Value> {
        let variable = self.project.registry.var(id);
        let Value::Num(num) = &value else { return Some(value) };
        let end = |bound: &Option<Bound>, low: bool| match bound {
            None => {
                if low {
                    f64::NEG_INFINITY
                } else {
                    f64::INFINITY
                }
            }
            Some(Bound::Number(value)) => *value,
            Some(Bound::Variable(other)) => match self.reach.get(other.index()) {
                Some(Value::Num(reach)) => {
                    if low {
                        reach.lo
                    } else {
                        reach.hi
                    }
                }
                _ => {
                    if low {
                        f64::NEG_INFINITY
                    } else {
                        f64::INFINITY
                    }
                }
            },
        };
        let (lo, hi) = (end(&variable.min, true), end(&variable.max, false));
        num.meet(&Num::range(lo, hi, num.int)).map(Value::Num)
    }

    /// What the variable behind a slot can hold between dispatches.
    #[must_use]
    pub fn reach(&self, facts: &SlotFacts) -> Value {
        match facts.cell {
            Some(cell) => {
                let reach = &self.reach[cell.index()];
                if is_nothing(reach) { anything(facts.ty) } else { reach.clone() }
            }
            None => anything(facts.ty),
        }
    }

    /// What a slot can hold as a handler begins.
    #[must_use]
    pub fn entry_value(&self, handler: HandlerId, facts: &SlotFacts) -> Abstract {
        let (unit, _, _) = self.parts(handler);
        match facts.key {
            Key::Scene => Abstract::of(Value::Text(self.scenes_of(unit))),
            Key::Instance(instance) => {
                let absent = self.may_be_absent(unit, instance) && !self.is_just_made(handler, instance);
                Abstract::of(Value::Ref { none: absent, some: true })
            }
            Key::Count(actor) => {
                let (least, most) = (self.least_count(handler, actor), self.count_in(handler, actor).most);
                Abstract::of(Value::Num(Num::range(least, most, true)))
            }
            Key::Result(_) | Key::Rounds(_) | Key::RoundsOver(_) => Abstract::of(anything(facts.ty)),
            Key::Place(place) => match unit.place(place) {
                Place::Local(local) => self.entry_of_local(handler, unit, local, facts.ty),
                Place::Was => self.entry_of_was(handler, unit, facts.ty),
                Place::Private(_) => self.entry_of_cell(handler, facts, None),
                Place::Variable(_, base) => self.entry_of_cell(handler, facts, Some(base)),
            },
        }
    }

    /// The same as a handler goes on after a wait, for what is no cell.
    #[must_use]
    pub fn value_after_wait(&self, handler: HandlerId, facts: &SlotFacts) -> Abstract {
        match facts.key {
            Key::Instance(instance) => {
                let absent = self.may_be_absent(self.parts(handler).0, instance);
                Abstract::of(Value::Ref { none: absent, some: true })
            }
            _ => self.entry_value(handler, facts),
        }
    }

    /// Whether an actor has `spawn` handlers.
    #[must_use]
    pub fn answers_spawn(&self, actor: OwnerId) -> bool {
        self.spawn_handlers(actor).next().is_some()
    }

    fn spawn_handlers(&self, actor: OwnerId) -> impl Iterator<Item = HandlerId> + '_ {
        self.handler_ids().filter(move |&id| {
            let (unit, handler, _) = self.parts(id);
            unit.owner == Some(actor) && matches!(handler.trigger, Trigger::Spawn)
        })
    }

    fn may_be_absent(&self, unit: &ScriptUnit, instance: InstanceId) -> bool {
        let facts = self.project.registry.instance(instance);
        let other_scene =
            facts.scene.is_some_and(|scene| self.scenes_of(unit).is_none_or(|scenes| scenes.as_slice() != [scene.0]));
        other_scene || self.removable(facts.of)
    }

    fn entry_of_local(&self, handler: HandlerId, unit: &ScriptUnit, local: LocalId, ty: Type) -> Abstract {
        let (_, index) = self.handler(handler);
        let facts = &unit.handlers[index];
        if matches!(unit.tree.local(local).kind, LocalKind::For | LocalKind::Spawned) {
            return Abstract::of(UNBOUND);
        }
        let at = facts.parameters.iter().position(|(parameter, _)| *parameter == local);
        let (Some(at), Some(signal)) = (at, facts.signal) else { return Abstract::of(anything(ty)) };
        if let Type::Ref(of) = ty {
            let mut value = self.sent_ref(signal, at);
            // A parameter that only lets an actor pass lets none pass that is gone.
            let lets_all_pass = facts.parameters[at].1.is_none();
            if let (Value::Ref { none, .. }, true) = (&mut value, lets_all_pass) {
                *none |= self.may_be_taken_away(handler, signal, of) || self.may_be_lost_on_the_way(signal, of);
            }
            return Abstract::of(value);
        }
        let declared = &self.project.registry.signal(signal);
        let mut value = if declared.from_engine {
            anything(ty)
        } else {
            self.sent.get(&(signal, at)).cloned().unwrap_or_else(|| anything(ty))
        };
        if let (Value::Num(num), Some(parameter)) = (&value, declared.parameters.get(at))
            && declared.from_engine
        {
            let range =
                Num::range(parameter.min.unwrap_or(f64::NEG_INFINITY), parameter.max.unwrap_or(f64::INFINITY), num.int);
            value = Value::Num(num.meet(&range).unwrap_or_else(|| num.clone()));
        }
        Abstract::of(value)
    }

    fn sent_ref(&self, signal: SignalId, at: usize) -> Value {
        if self.project.registry.signal(signal).from_engine {
            return Value::Ref { none: false, some: true };
        }
        match self.sent.get(&(signal, at)) {
            Some(Value::Ref { none, .. }) => Value::Ref { none: *none, some: true },
            _ => Value::Ref { none: false, some: true },
        }
    }

    fn entry_of_was(&self, handler: HandlerId, unit: &ScriptUnit, ty: Type) -> Abstract {
        let (_, index) = self.handler(handler);
        let changed = unit.handlers[index].changed;
        let Some(cell) = changed.and_then(|place| self.project.cell_of(unit, place)) else {
            return Abstract::of(anything(ty));
        };
        let reach = &self.reach[cell.index()];
        let value = if is_nothing(reach) { anything(ty) } else { reach.clone() };
        // The change from having no value to having one is a change too.
        let unset = !matches!(ty, Type::Ref(_)) && (self.seen_cleared[cell.index()] || !self.has_default(cell));
        Abstract { unset, ..Abstract::of(value) }
    }

    fn entry_of_cell(&self, handler: HandlerId, facts: &SlotFacts, base: Option<Base>) -> Abstract {
        let Some(cell) = facts.cell else { return Abstract::of(anything(facts.ty)) };
        let mut value = self.lasting(handler, facts);
        for left in self.left_at_parting(handler, cell) {
            value = value.join(left);
        }
        if let (Some(variable), Some(Base::Listed(instance))) = (facts.variable, base)
            && !self.written[cell.index()]
            && let Some(start) = self.project.registry.start_of(variable, instance)
        {
            value = self.constant(start, facts.ty);
        }
        if let Some(fresh) = self.fresh_value(handler, cell, base) {
            value = value.meet(&fresh).unwrap_or(value);
        }
        if let Value::Ref { none, some } = &mut value {
            let of = match facts.ty {
                Type::Ref(of) => of,
                _ => None,
            };
            if self.assigned_before(handler, cell, base) {
                // What it starts as does not count, only what it was given since.
                *none = self.effects[cell.index()].iter().any(Effect::gives_none);
            }
            *none |= self.may_be_removed(of) || self.may_go_with_scene(of);
            *some = true;
        }
        let stand_in = facts.variable.is_some_and(|id| self.project.registry.var(id).placeholder)
            && !self.assigned_before(handler, cell, base);
        Abstract { unset: self.may_be_unset(handler, cell, base, facts.ty), stand_in, ..Abstract::of(value) }
    }

    /// Whether a cell may be without a value as a handler begins.
    fn may_be_unset(&self, handler: HandlerId, cell: CellId, base: Option<Base>, ty: Type) -> bool {
        if matches!(ty, Type::Ref(_) | Type::Unknown) || self.unsettled[cell.index()] {
            return false;
        }
        self.seen_cleared[cell.index()]
            || !self.has_default(cell)
                && !self.assigned_before(handler, cell, base)
                && !self.has_changed(handler, cell, base)
    }

    /// Whether a handler begins because a cell has changed, which then holds something. A scene's may have begun anew since.
    fn has_changed(&self, handler: HandlerId, cell: CellId, base: Option<Base>) -> bool {
        let (unit, _, _) = self.parts(handler);
        let Some(place) = unit.handlers[self.handler(handler).1].changed else { return false };
        let is_it = match unit.place(place) {
            Place::Variable(variable, of) => CellId(variable.0) == cell && base == Some(of),
            Place::Private(_) => self.project.cell_of(unit, place) == Some(cell),
            _ => false,
        };
        is_it && !matches!(self.home(cell), Home::Scene)
    }

    fn has_default(&self, cell: CellId) -> bool {
        match self.project.cells[cell.index()] {
            Cell::Variable(id) => {
                let variable = self.project.registry.var(id);
                variable.default.is_some() || variable.place.has("default")
            }
            Cell::Private(script, index) => self.project.script(script).tree.privates[index as usize].start.is_some(),
        }
    }

    // ---- what others do ----

    /// The handlers of a script.
    fn handlers_of(&self, script: ScriptId) -> impl Iterator<Item = HandlerId> + use<> {
        let first = self.first_handler[script.index()];
        (first..first + self.project.script(script).tree.handlers.len()).map(HandlerId::at)
    }

    /// Whether there is only one instance that the run's script can run for.
    fn runs_once(&self, run: &Run<'_, '_>) -> bool {
        let owner = self.project.script(run.script).owner;
        owner.is_some_and(|owner| !self.project.registry.is_many(owner))
    }

    // ---- the fixpoint ----

    /// Runs all handlers until nothing grows; what each finds in its last run stands.
    ///
    /// A round goes in turns, first those handlers that all others come after, then the scripts' first ones: what a turn has found out the next one builds on already, so
    /// that fewer rounds are needed, and what runs in one turn sees nothing of each other, so that all cores can share it.
    #[must_use]
    pub fn solve(&mut self) -> Vec<Found> {
        let mut found: Vec<Found> = (0..self.handlers.len()).map(|_| Found::default()).collect();
        let mut dirty: Vec<bool> = vec![true; self.handlers.len()];
        let dependents = self.find_dependents();
        let turns = self.turns();
        let mut outlooks: Vec<Option<Outlook>> = self.handlers.iter().map(|_| None).collect();
        for round in 0..MOST_ROUNDS {
            for turn in &turns {
                let due: Vec<HandlerId> = turn.iter().copied().filter(|id| dirty[id.index()]).collect();
                due.iter().for_each(|id| dirty[id.index()] = false);
                let is_due = |&id: &HandlerId| {
                    let outlook = outlooks[id.index()].as_ref();
                    self.can_begin(id) && outlook.is_none_or(|outlook| self.is_outdated(id, outlook))
                };
                let results: Vec<(HandlerId, RunResult)> =
                    due.into_par_iter().filter(is_due).map(|id| (id, self.run_once(id))).collect();
                let changed = self.take(results, round, &mut found, &mut outlooks);
                dependents.mark(self, &changed, &mut dirty);
            }
            let grown = Changed { cells: self.renew_engine_reach().into_iter().collect(), ..Changed::default() };
            dependents.mark(self, &grown, &mut dirty);
            if !dirty.contains(&true) {
                break;
            }
        }
        found
    }

    /// The handlers in the order in which a round takes them.
    fn turns(&self) -> Vec<Vec<HandlerId>> {
        let opening = |id: &HandlerId| self.openings[id.index()];
        let (first, mut rest): (Vec<HandlerId>, Vec<HandlerId>) =
            self.handler_ids().partition(|id| opening(id).is_some());
        let of = |moment| first.iter().copied().filter(|id| opening(id) == Some(moment)).collect();
        let mut turns: Vec<Vec<HandlerId>> = waiting::Opening::ALL.map(of).into();
        rest.sort_by_key(|id| self.handlers[id.index()].index);
        turns.extend(rest.chunks(rest.len().div_ceil(TURNS).max(SHORTEST_TURN)).map(<[HandlerId]>::to_vec));
        turns.retain(|turn| !turn.is_empty());
        turns
    }

    /// Whether anything can trigger a handler: a signal that only scripts send must be sent by one.
    #[must_use]
    pub fn can_begin(&self, handler: HandlerId) -> bool {
        let (unit, _, _) = self.parts(handler);
        let (_, index) = self.handler(handler);
        unit.handlers[index].signal.is_none_or(|signal| {
            let declared = self.project.registry.signal(signal);
            declared.from_engine || self.sent_signals.contains(&signal) || self.unread.contains(&*declared.name)
        })
    }

    /// The events that stand for certain: not what hangs on a test, or on what is sent, that could not be read.
    fn settled_events(&self, handler: HandlerId, mut events: Vec<Event>) -> Vec<Event> {
        if self.is_sent_unread(handler) {
            events.clear();
        }
        if !events.is_empty() && self.tests_unread(handler) {
            events.retain(|event| !matches!(event, Event::Outside { .. } | Event::Broken { .. } | Event::Zero { .. }));
        }
        events
    }

    /// Whether a test of a handler names something that means nothing: what it was meant to keep out nobody can tell.
    fn tests_unread(&self, handler: HandlerId) -> bool {
        let (unit, tree, graph) = self.parts(handler);
        let (script, _) = self.handler(handler);
        let bodies = self.bodies(script, graph);
        let exits = bodies.iter().flat_map(|graph| &graph.blocks).map(|block| &block.exit);
        let tests = exits.flat_map(super::access::exit_reads).chain(tree.when);
        tests.into_iter().any(|test| {
            let mut unread = false;
            super::access::walk_expr(unit, test, &mut |expr| {
                let nameless = unit.ty(expr) == Type::Unknown && unit.meaning(expr) == Meaning::None;
                unread |= nameless
                    && matches!(unit.tree.expr(expr).kind, ExprKind::Path(_) | ExprKind::Call(..) | ExprKind::Error);
            });
            unread
        })
    }

    /// Whether all that a handler is sent comes from where nobody can read what that is.
    fn is_sent_unread(&self, handler: HandlerId) -> bool {
        let (unit, _, _) = self.parts(handler);
        let (_, index) = self.handler(handler);
        unit.handlers[index].signal.is_some_and(|signal| {
            let declared = self.project.registry.signal(signal);
            let unsent = !self.sent_signals.contains(&signal) && !declared.parameters.is_empty();
            !declared.from_engine && (unsent || self.sent_unread.contains(&signal))
        })
    }

    /// What each handler builds on.
    fn find_dependents(&self) -> Dependents {
        let mut dependents = Dependents {
            by_reach: vec![Vec::new(); self.project.cells.len()],
            by_effects: vec![Vec::new(); self.project.cells.len()],
        };
        for id in self.handler_ids() {
            let (unit, _, _) = self.parts(id);
            let (_, index) = self.handler(id);
            let was = unit.handlers[index].changed.and_then(|place| self.project.cell_of(unit, place));
            let slots = &self.table(id).slots;
            let reached: FxHashSet<CellId> = slots.iter().filter_map(|slot| slot.cell).chain(was).collect();
            reached.into_iter().for_each(|cell| dependents.by_reach[cell.index()].push(id));
            let asks_others = self.yields[id.index()] || self.openings[id.index()].is_some();
            let affected = slots.iter().filter(|slot| asks_others || matches!(slot.ty, Type::Ref(_)));
            let affected: FxHashSet<CellId> = affected.filter_map(|slot| slot.cell).collect();
            affected.into_iter().for_each(|cell| dependents.by_effects[cell.index()].push(id));
        }
        dependents
    }

    fn run_once(&self, handler: HandlerId) -> RunResult {
        let mut run = Run::new(self, handler);
        let wanted = self.pausing[handler.index()];
        run.keep_pauses = wanted;
        run.handler_from_entry();
        let outlook = self.outlook(&mut run);
        let found = Found {
            events: self.settled_events(handler, run.events),
            outcomes: run.outcomes,
            reached: run.reached,
            moves: run.moves,
            pauses: if wanted { run.pauses } else { Vec::new() },
        };
        let Run { seen, partings, sent, signals, let_in, .. } = run;
        RunResult { seen, partings, sent, signals, let_in, found, outlook }
    }

    /// Whether the pauses of a handler are kept for the rules about guards: where others can act in between, or more of the
    /// same comes at once.
    fn wants_pauses(&self, handler: HandlerId) -> bool {
        let (unit, ..) = self.parts(handler);
        let signal = unit.handlers[self.handler(handler).1].signal;
        self.yields[handler.index()] || signal.is_some_and(|signal| self.project.registry.signal(signal).bursts)
    }

    /// Whether a handler's pauses were kept as it was judged.
    #[must_use]
    pub fn keeps_pauses(&self, handler: HandlerId) -> bool {
        self.pausing[handler.index()]
    }

    fn take(
        &mut self,
        results: Vec<(HandlerId, RunResult)>,
        round: usize,
        found: &mut [Found],
        outlooks: &mut [Option<Outlook>],
    ) -> Changed {
        let mut changed = Changed::default();
        for (handler, result) in results {
            found[handler.index()] = result.found;
            outlooks[handler.index()] = Some(result.outlook);
            for (other, part, extent) in result.let_in {
                if self.begins_within.insert((handler, part, other, extent)) {
                    changed.let_in.insert(other);
                }
            }
            for ((cell, ..), seen) in result.seen {
                self.take_seen(cell, seen, round, &mut changed);
            }
            for (key, last) in result.partings {
                if self.take_parting(handler, key, last, round) {
                    changed.cells.insert(key.0);
                }
            }
            for signal in result.signals {
                if self.sent_signals.insert(signal) {
                    changed.signals.insert(signal);
                }
            }
            for (signal, at, value) in result.sent {
                let known = self.sent.get(&(signal, at));
                let joined = match known {
                    Some(known) if round >= ROUNDS => widen(known, &known.join(&value), &[]),
                    Some(known) => known.join(&value),
                    None => value,
                };
                if known != Some(&joined) {
                    self.sent.insert((signal, at), joined);
                    changed.signals.insert(signal);
                }
            }
        }
        changed
    }

    fn take_seen(&mut self, cell: CellId, seen: Seen, round: usize, changed: &mut Changed) {
        let at = cell.index();
        let mut effect = seen.effect;
        if self.take_beginning(cell, &effect, round) {
            changed.effects.insert(cell);
        }
        if let Some(written) = seen.written.filter(|_| seen.grows) {
            self.take_written(cell, written);
        }
        if let Some(value) = effect.set.clone().and_then(|value| self.cell_within_bounds(cell, value)) {
            let stops = if round < LAST_STOPS { std::mem::take(&mut self.cell_stops[at]) } else { Vec::new() };
            let grows = seen.grows || round >= ROUNDS;
            let next = self.grown(cell, &self.reach[at], &value, grows, &stops);
            if next != self.reach[at] {
                self.reach[at] = next;
                changed.cells.insert(cell);
            }
            if self.take_given(cell, &value, grows, &stops) {
                changed.cells.insert(cell);
            }
            if round < LAST_STOPS {
                self.cell_stops[at] = stops;
            }
        }
        if effect.clears && !std::mem::replace(&mut self.seen_cleared[at], true) {
            changed.cells.insert(cell);
        }
        if (seen.grows || round >= ROUNDS) && matches!(effect.set, Some(Value::Num(_))) {
            effect.set = Some(self.given.get(&cell).unwrap_or(&self.reach[at]).clone());
        }
        let effects = &mut self.effects[at];
        let key = |effect: &Effect| (effect.handler, effect.own, effect.later);
        match effects.binary_search_by_key(&key(&effect), key) {
            Ok(at) => {
                if effects[at].take(&effect) {
                    changed.effects.insert(cell);
                }
            }
            Err(at) => {
                effects.insert(at, effect);
                changed.effects.insert(cell);
            }
        }
    }

    /// What a cell holds with one more value, within its bounds; as far as the next number to stop at where that grows.
    fn grown(&self, cell: CellId, known: &Value, value: &Value, grows: bool, stops: &[f64]) -> Value {
        let joined = if is_nothing(known) { value.clone() } else { known.join(value) };
        let next = if is_nothing(known) || !grows { joined } else { widen(known, &joined, stops) };
        self.cell_within_bounds(cell, next.clone()).unwrap_or(next)
    }

    /// A value as far as it lies within the bounds of its cell, if any does.
    fn cell_within_bounds(&self, cell: CellId, value: Value) -> Option<Value> {
        match self.project.cells[cell.index()] {
            Cell::Variable(id) => self.within_bounds(id, value),
            Cell::Private(..) => Some(value),
        }
    }

    fn take_written(&mut self, cell: CellId, written: Value) {
        if let Some(written) = self.cell_within_bounds(cell, written) {
            let known = self.written_beyond.entry(cell).or_insert_with(|| written.clone());
            *known = known.join(&written);
        }
    }

    /// What is ever written to a cell beside what it can hold when others see it.
    #[must_use]
    pub fn written_beyond(&self, cell: CellId) -> Option<&Value> {
        let written = self.written_beyond.get(&cell)?;
        let reach = &self.reach[cell.index()];
        (reach.join(written) != *reach).then_some(written)
    }

    /// How the tests of a handler come out where all that is ever written counts, also what can't have been written yet as
    /// it begins; none where that is no more than it sees.
    #[must_use]
    pub fn outcomes_of_all_writes(&self, handler: HandlerId) -> Option<FxHashMap<ExprId, Outcome>> {
        let slots = &self.table(handler).slots;
        let unit = self.parts(handler).0;
        let names_new = |facts: &SlotFacts| match facts.key {
            Key::Place(place) => {
                matches!(unit.place(place), Place::Local(local) if unit.tree.local(local).kind == LocalKind::Spawned)
                    && !facts.dependents().is_empty()
            }
            _ => false,
        };
        let is_more = |facts: &SlotFacts| {
            facts.cell.is_some_and(|cell| self.written_beyond(cell).is_some() || self.given.contains_key(&cell))
        };
        if self.openings[handler.index()].is_none() && !slots.iter().any(|facts| is_more(facts) || names_new(facts)) {
            return None;
        }
        let mut run = Run::new(self, handler);
        let state = run.entry_of_all_writes();
        run.handler_from(state);
        Some(run.outcomes)
    }

    /// What is known as a handler begins, once these tests have come out as given.
    #[must_use]
    pub fn entry_state(&self, handler: HandlerId, tests: &[(ExprId, bool)]) -> Option<State> {
        let mut run = Run::new(self, handler);
        run.quiet = true;
        let state = run.entry();
        tests.iter().try_fold(state, |state, &(test, wanted)| {
            let (yes, no) = run.branch(state, test);
            if wanted { yes } else { no }
        })
    }

    /// The steps that a handler reaches when the variable whose change it answers holds this value.
    #[must_use]
    pub fn reached_from(&self, handler: HandlerId, changed: PlaceId, value: &Value) -> FxHashMap<Span, Reached> {
        let mut run = Run::new(self, handler);
        run.quiet = true;
        let mut state = run.entry();
        if let Some(slot) = run.table.slot(Key::Place(changed)) {
            state.values[slot as usize] = Abstract::of(value.clone());
        }
        run.handler_from(state);
        run.reached
    }

    /// What an expression gives as a handler begins.
    #[must_use]
    pub fn value_at_entry(&self, handler: HandlerId, expr: ExprId) -> Value {
        let mut run = Run::new(self, handler);
        run.quiet = true;
        let mut state = run.entry();
        run.eval(&mut state, expr)
    }

    /// Where a handler pauses and ends, from whatever can be, or when a slot holds this value as it begins and others leave it
    /// alone.
    #[must_use]
    pub fn pauses_from(&self, handler: HandlerId, start: Option<(Slot, Value)>) -> Vec<Pause> {
        let mut run = Run::new(self, handler);
        run.quiet = true;
        run.keep_pauses = true;
        let mut state = run.entry();
        run.begun = Some(state.values.clone());
        if let Some((slot, value)) = start {
            state.values[slot as usize] = Abstract::of(value);
            run.left_alone = Some(slot);
        }
        run.handler_from(state);
        run.pauses
    }

    /// The steps that a second activation of the same instance would reach at a pause.
    #[must_use]
    pub fn again(&self, handler: HandlerId, paused: &Pause) -> FxHashMap<Span, Reached> {
        if paused.shut { FxHashMap::default() } else { self.again_with(handler, paused, |_| true) }
    }

    /// The same where of what the pause left only some cells are meant.
    #[must_use]
    pub fn again_with(
        &self,
        handler: HandlerId,
        paused: &Pause,
        meant: impl Fn(CellId) -> bool,
    ) -> FxHashMap<Span, Reached> {
        let mut run = Run::new(self, handler);
        run.quiet = true;
        let mut state = run.entry();
        let is_meant = |at: usize| run.table.slots[at].cell.is_some_and(&meant);
        for (slot, value) in &paused.changed {
            if is_meant(*slot as usize) {
                state.values[*slot as usize] = value.clone();
            }
        }
        (0..run.table.slots.len()).filter(|&at| is_meant(at)).for_each(|at| state.values[at].unset = false);
        run.handler_from(state);
        run.reached
    }
}

fn all_scenes(registry: &Registry) -> SmallVec<[Symbol; 4]> {
    let all = registry.owners.iter().enumerate().filter(|(_, owner)| owner.kind == OwnerKind::Scene);
    all.map(|(at, _)| OwnerId::at(at).0).collect()
}

fn find_upsets(project: &Project) -> FxHashMap<(usize, VarId), Moved> {
    let all =
        project.invariants.iter().enumerate().filter_map(|(at, invariant)| Some((at, invariant, invariant.holds?)));
    let upsets = all.flat_map(|(at, invariant, holds)| {
        invariant.variables.iter().map(move |&variable| {
            let trend = Trend { project, unit: &invariant.unit, variable };
            ((at, variable), trend.upsets(holds, true))
        })
    });
    upsets.collect()
}

/// Whether a script calls a procedure that there is not.
fn calls_nobody(unit: &ScriptUnit) -> bool {
    (0..unit.tree.exprs.len())
        .map(|at| ExprId(u32::try_from(at).unwrap_or(u32::MAX)))
        .any(|expr| matches!(unit.tree.expr(expr).kind, ExprKind::Call(..)) && unit.meaning(expr) == Meaning::None)
}

/// The numbers of an expression by which something is moved: `1` in `min(x + 1, 9)`. What is moved comes past them, and
/// does not stop there.
fn steps_in(unit: &ScriptUnit, expr: ExprId) -> SmallVec<[ExprId; 4]> {
    let mut steps = SmallVec::new();
    super::access::walk_expr(unit, expr, &mut |inner| {
        if let ExprKind::Binary(BinaryOp::Add | BinaryOp::Subtract, left, right) = unit.tree.expr(inner).kind {
            let is_number = |side: ExprId| matches!(unit.tree.expr(side).kind, ExprKind::Int(_) | ExprKind::Float(_));
            steps.extend([left, right].into_iter().filter(|&side| is_number(side)));
        }
    });
    steps
}

struct RunResult {
    seen: FxHashMap<(CellId, bool, bool), Seen>,
    partings: FxHashMap<(CellId, Parting), Last>,
    sent: Vec<(SignalId, usize, Value)>,
    signals: FxHashSet<SignalId>,
    let_in: FxHashSet<(HandlerId, Part, Extent)>,
    found: Found,
    outlook: Outlook,
}

#[derive(Default)]
struct Changed {
    /// Their reach has grown.
    cells: FxHashSet<CellId>,
    /// What is done to them has: that matters where others can act in between.
    effects: FxHashSet<CellId>,
    signals: FxHashSet<SignalId>,
    /// They are no longer kept out by another.
    let_in: FxHashSet<HandlerId>,
}

/// By cell: the handlers that build on what it can hold, and on what others do to it.
struct Dependents {
    by_reach: Vec<Vec<HandlerId>>,
    by_effects: Vec<Vec<HandlerId>>,
}

impl Dependents {
    /// Marks the handlers that build on what has changed.
    fn mark(&self, world: &World<'_>, changed: &Changed, dirty: &mut [bool]) {
        let reached = changed.cells.iter().flat_map(|cell| &self.by_reach[cell.index()]);
        let affected = changed.effects.iter().flat_map(|cell| &self.by_effects[cell.index()]);
        let answers = changed.signals.iter().filter_map(|signal| world.answers.get(signal)).flatten();
        reached.chain(affected).chain(answers).chain(&changed.let_in).for_each(|id| dirty[id.index()] = true);
    }
}

/// Where a cell lives.
enum Home {
    Everywhere,
    Scene,
    Instance(OwnerId),
}

fn widen(known: &Value, joined: &Value, stops: &[f64]) -> Value {
    match (known, joined) {
        (Value::Num(a), Value::Num(b)) => Value::Num(a.widen(b, stops)),
        _ => joined.clone(),
    }
}

/// The value of a cell that nothing has given one yet.
fn nothing(ty: Type) -> Value {
    match ty {
        Type::Ref(_) => Value::Ref { none: true, some: false },
        Type::Bool => Value::Bool { yes: false, no: false },
        Type::Int | Type::Number => {
            Value::Num(Num { lo: 1.0, hi: -1.0, step: 0.0, off: 0.0, set: None, int: ty == Type::Int })
        }
        Type::Text | Type::Enum(_) => Value::Text(Some(SmallVec::new())),
        _ => Value::Other,
    }
}

/// Whether a cell was never given a value.
#[must_use]
pub fn is_nothing(value: &Value) -> bool {
    match value {
        Value::Num(num) => num.is_empty(),
        Value::Bool { yes, no } => !yes && !no,
        Value::Text(Some(symbols)) => symbols.is_empty(),
        _ => false,
    }
}

fn join_nothing(known: &Value, value: &Value, ty: Type, was_nothing: bool) -> Value {
    if was_nothing && *known == nothing(ty) && !matches!(ty, Type::Ref(_)) { value.clone() } else { known.join(value) }
}

/// A number for each text that a place can be seen to hold: the values of enums, and what is written of other texts.
fn symbols(project: &Project) -> FxHashMap<Arc<str>, Symbol> {
    let registry = &project.registry;
    let mut symbols: FxHashMap<Arc<str>, Symbol> = FxHashMap::default();
    let mut add = |text: &str| {
        if !symbols.contains_key(text) {
            let next = Symbol::try_from(symbols.len()).unwrap_or(Symbol::MAX);
            symbols.insert(text.into(), next);
        }
    };
    registry.variables.iter().flat_map(|variable| &variable.values).for_each(|value| add(value));
    let defaults = registry.variables.iter().filter_map(|variable| variable.default.as_ref());
    let starts = registry.instances.iter().flat_map(|instance| instance.start.iter().map(|start| &start.value));
    for constant in defaults.chain(starts) {
        if let Constant::Text(text) = constant {
            add(text);
        }
    }
    for unit in project.scripts.iter().filter(|unit| unit.place_types.contains(&Type::Text)) {
        unit.tree.exprs.iter().filter_map(|expr| plain_text(&expr.kind)).for_each(&mut add);
    }
    symbols
}

/// A text that is written out, without tokens.
#[must_use]
pub fn plain_text(kind: &ExprKind) -> Option<&str> {
    match kind {
        ExprKind::Text(parts) => match &parts[..] {
            [] => Some(""),
            [TextPart::Plain(text)] => Some(text),
            _ => None,
        },
        _ => None,
    }
}

/// The control-flow graphs of all scripts.
#[must_use]
pub fn graphs(project: &Project) -> Vec<Graphs> {
    project.scripts.par_iter().map(|unit| lower_script(project, unit)).collect()
}

fn lower_script(project: &Project, unit: &ScriptUnit) -> Graphs {
    let count = |ty: Type| match ty {
        Type::Bool => Some(2),
        Type::Enum(of) => Some(project.registry.var(of).values.len()),
        _ => None,
    };
    Graphs {
        handlers: unit.tree.handlers.iter().map(|handler| graph::lower(unit, &handler.body, &count)).collect(),
        procedures: unit.tree.procedures.iter().map(|procedure| graph::lower(unit, &procedure.body, &count)).collect(),
    }
}

fn gather_script(project: &Project, unit: &ScriptUnit, graphs: &Graphs) -> (Vec<Access>, Vec<FxHashSet<CellId>>) {
    let index = PlaceIndex::new(unit);
    let mut found = Vec::new();
    for (at, graph) in graphs.handlers.iter().enumerate() {
        let mut gather = Gather {
            project,
            unit,
            index: &index,
            body: Body::Handler(at),
            found: Vec::new(),
            fates: FxHashMap::default(),
        };
        if let Some(when) = unit.tree.handlers[at].when {
            gather.reads(when, unit.tree.expr(when).span, None, false, true);
        }
        gather.graph(graph);
        found.append(&mut gather.found);
    }
    let mut calls: Vec<Vec<ProcId>> = Vec::new();
    let mut writes: Vec<FxHashSet<CellId>> = Vec::new();
    for (at, graph) in graphs.procedures.iter().enumerate() {
        let body = Body::Procedure(ProcId::at(at));
        let mut gather = Gather { project, unit, index: &index, body, found: Vec::new(), fates: FxHashMap::default() };
        gather.graph(graph);
        writes.push(gather.found.iter().filter(|access| access.writes()).map(|access| access.cell).collect());
        found.append(&mut gather.found);
        calls.push(called(unit, graph));
    }
    // What a procedure writes includes what those it calls write: grown until nothing changes.
    loop {
        let mut grown = false;
        for (at, calls) in calls.iter().enumerate() {
            for call in calls {
                let more: Vec<CellId> = writes[call.index()].difference(&writes[at]).copied().collect();
                grown |= !more.is_empty();
                writes[at].extend(more);
            }
        }
        if !grown {
            found.shrink_to_fit();
            return (found, writes);
        }
    }
}

/// The procedures that a body calls.
#[must_use]
pub fn called(unit: &ScriptUnit, graph: &Graph) -> Vec<ProcId> {
    let mut found = Vec::new();
    let mut look = |expr: ExprId| {
        super::access::walk_expr(unit, expr, &mut |inner| {
            if let Meaning::Procedure(id) = unit.meaning(inner) {
                found.push(id);
            }
        });
    };
    for block in &graph.blocks {
        for step in &block.steps {
            let parts = super::access::parts(step);
            parts.reads.into_iter().for_each(&mut look);
            if let Some((_, _, Some(value))) = parts.target {
                look(value);
            }
        }
        super::access::exit_reads(&block.exit)
            .into_iter()
            .chain(super::access::offered_texts(&block.exit))
            .for_each(&mut look);
    }
    found.sort_unstable();
    found.dedup();
    found
}

/// The tests that must come out as given for a handler to do anything: its `when`, early returns, and an `if` around all.
/// What is only shown or noted on the way does not count.
#[must_use]
pub fn entry_tests(unit: &ScriptUnit, handler: &Handler) -> Option<Vec<(ExprId, bool)>> {
    let mut tests: Vec<(ExprId, bool)> = handler.when.iter().map(|&when| (when, true)).collect();
    tests_on_entry(unit, &handler.body.statements, MOST_CALLED_ON_ENTRY, &mut tests);
    look_behind_names(unit, &mut tests);
    (!tests.is_empty()).then_some(tests)
}

/// How many procedures deep the tests are looked for that come before all else.
const MOST_CALLED_ON_ENTRY: u32 = 4;
/// How many tests are looked behind.
const MOST_ENTRY_TESTS: usize = 16;

/// Puts what stands behind the names of `let`s in their place, also of those that a test joins by `and`.
fn look_behind_names(unit: &ScriptUnit, tests: &mut Vec<(ExprId, bool)>) {
    let mut at = 0;
    while at < tests.len().min(MOST_ENTRY_TESTS) {
        let (test, wanted) = tests[at];
        match unit.tree.expr(test).kind {
            ExprKind::Path(_) if unit.behind(test) != test => tests[at].0 = unit.behind(test),
            ExprKind::Unary(UnaryOp::Not, inner) if unit.behind(inner) != inner => {
                tests[at] = (unit.behind(inner), !wanted);
            }
            ExprKind::Binary(op @ (BinaryOp::And | BinaryOp::Or), left, right) if (op == BinaryOp::And) == wanted => {
                let named = [left, right].into_iter().filter(|&part| unit.behind(part) != part);
                tests.extend(named.map(|part| (unit.behind(part), wanted)));
                at += 1;
            }
            _ => at += 1,
        }
    }
}

fn tests_on_entry(unit: &ScriptUnit, statements: &[Statement], depth: u32, tests: &mut Vec<(ExprId, bool)>) {
    let tells_only = |statement: &Statement| tells_only(unit, statement);
    for (at, statement) in statements.iter().enumerate() {
        let last = at + 1 == statements.len();
        let StatementKind::If { arms, otherwise } = &statement.kind else {
            if tells_only(statement) {
                continue;
            }
            if let (StatementKind::Call(call), true, 1..) = (&statement.kind, last, depth)
                && let Meaning::Procedure(id) = unit.meaning(*call)
            {
                tests_on_entry(unit, &unit.tree.procedures[id.index()].body.statements, depth - 1, tests);
            }
            return;
        };
        let returns = |arm: &Arm| match arm.body.statements.split_last() {
            Some((end, rest)) => matches!(end.kind, StatementKind::Return(None)) && rest.iter().all(tells_only),
            None => false,
        };
        let idle = |block: &Block| block.statements.iter().all(tells_only);
        match (&arms[..], otherwise) {
            (all, None) if all.iter().all(returns) => tests.extend(all.iter().map(|arm| (arm.tests[0], false))),
            ([arm], Some(otherwise)) if last && (returns(arm) || idle(&arm.body)) => {
                tests.push((arm.tests[0], false));
                return tests_on_entry(unit, &otherwise.statements, depth, tests);
            }
            ([arm], otherwise) if last && otherwise.as_ref().is_none_or(idle) => {
                tests.push((arm.tests[0], true));
                return tests_on_entry(unit, &arm.body.statements, depth, tests);
            }
            _ => return,
        }
    }
}

/// Whether a statement changes nothing that a handler could be kept from.
fn tells_only(unit: &ScriptUnit, statement: &Statement) -> bool {
    let (StatementKind::Note { text: value }
    | StatementKind::Show { text: value, .. }
    | StatementKind::Let { value, .. }) = statement.kind
    else {
        return matches!(statement.kind, StatementKind::Hide { .. });
    };
    let mut calls = false;
    super::access::walk_expr(unit, value, &mut |inner| calls |= matches!(unit.meaning(inner), Meaning::Procedure(_)));
    !calls
}
