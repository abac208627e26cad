//! What the game can bring about: the signals worth sending, the values worth passing, the times worth letting go by.

use crate::flow::access::{AccessKind, Body};
use crate::flow::graph::{StepKind, Waiting};
use crate::flow::world::{Graphs, HandlerId, World};
use crate::project::{CellId, Meaning, Project, ScriptUnit};
use crate::registry::{OwnerId, SignalId, Type, VarId};
use crate::rehearse::layout::{Layout, Limit, duration_ticks};
use crate::script::ast::{Duration, ExprId, ExprKind, Trigger};
use crate::source::Location;
use rustc_hash::{FxHashMap, FxHashSet};
use std::collections::VecDeque;

/// How many constants of the scripts are tried as arguments.
const MOST_CONSTANTS: usize = 48;
/// How far back from a finding's handler the search looks.
const MOST_DEPTH: u32 = 6;

/// What can be done in this project.
#[derive(Debug)]
pub struct Acts {
    /// The signals that the game sends.
    pub signals: Vec<SignalId>,
    /// The variables that the game writes.
    pub written: Vec<VarId>,
    /// Lengths of time that mean something here, in ticks, the shortest first.
    pub times: Vec<u64>,
    /// Numbers that stand in the scripts and the registry.
    pub numbers: Vec<f64>,
    /// The lengths of each script's waits, in ticks.
    waits: Vec<Vec<u64>>,
    /// The handlers that write each cell.
    writers: FxHashMap<CellId, Vec<HandlerId>>,
    /// The cells that each handler reads or writes.
    touched: Vec<Vec<CellId>>,
    /// The handlers that send each signal.
    senders: FxHashMap<SignalId, Vec<HandlerId>>,
    /// The handlers that spawn or remove.
    movers: Vec<HandlerId>,
    /// The handlers that go to each scene.
    goers: FxHashMap<OwnerId, Vec<HandlerId>>,
    /// The actors that each script tells apart.
    asked_for: Vec<Vec<OwnerId>>,
}

impl Acts {
    /// Looks through a project.
    #[must_use]
    pub fn new(world: &World<'_>, layout: &Layout<'_>) -> Self {
        let project = world.project;
        let registry = &project.registry;
        let signals = (0..registry.signals.len()).map(SignalId::at).filter(|&id| registry.signal(id).from_engine);
        let mut acts = Self {
            signals: signals.collect(),
            written: registry.var_ids().filter(|&id| registry.var(id).engine_writes).collect(),
            times: times(world, layout),
            waits: world
                .graphs
                .iter()
                .map(|graphs| waits_of(graphs, world.project.config.tick_rate).collect())
                .collect(),
            numbers: numbers(project),
            writers: FxHashMap::default(),
            touched: vec![Vec::new(); layout.handlers.len()],
            senders: FxHashMap::default(),
            movers: Vec::new(),
            goers: FxHashMap::default(),
            asked_for: project.scripts.iter().map(actors_told_apart).collect(),
        };
        for id in world.handler_ids() {
            acts.look_at(world, layout, id);
        }
        acts
    }

    fn look_at(&mut self, world: &World<'_>, layout: &Layout<'_>, id: HandlerId) {
        let at = layout.handlers[id.index()];
        // What its procedures do counts as its own: which of them it calls makes little difference to a search.
        for access in &world.accesses[at.script.index()] {
            let own = match access.body {
                Body::Handler(index) => index == at.index,
                Body::Procedure(_) => true,
            };
            if own {
                self.touched[id.index()].push(access.cell);
            }
            if own && access.kind != AccessKind::Read {
                self.writers.entry(access.cell).or_default().push(id);
            }
        }
        let graphs = &world.graphs[at.script.index()];
        let steps =
            std::iter::once(&graphs.handlers[at.index]).chain(&graphs.procedures).flat_map(|graph| &graph.blocks);
        for step in steps.flat_map(|block| &block.steps) {
            match &step.kind {
                StepKind::Send { signal: Some(signal), .. } => self.senders.entry(*signal).or_default().push(id),
                StepKind::Spawn { .. } | StepKind::Remove(_) => self.movers.push(id),
                StepKind::Go(Some(scene)) => self.goers.entry(*scene).or_default().push(id),
                _ => {}
            }
        }
    }

    /// The actors that a script tells apart: those it asks for by `is`, and those that parameters are typed with.
    #[must_use]
    pub fn asked_for(&self, script: usize) -> &[OwnerId] {
        &self.asked_for[script]
    }

    /// How near each handler is to a place: 0 where it stands there, 1 where it can set that one off, and so on.
    #[must_use]
    pub fn nearness(&self, layout: &Layout<'_>, at: Location) -> FxHashMap<HandlerId, u32> {
        let mut near: FxHashMap<HandlerId, u32> = FxHashMap::default();
        let mut left: VecDeque<HandlerId> = VecDeque::new();
        for (index, handler) in layout.handlers.iter().enumerate() {
            let unit = layout.project.script(handler.script);
            if unit.file == at.file && stands_in(unit, handler.index, at) {
                let id = HandlerId::at(index);
                near.insert(id, 0);
                left.push_back(id);
            }
        }
        while let Some(id) = left.pop_front() {
            let depth = near[&id] + 1;
            if depth > MOST_DEPTH {
                continue;
            }
            for other in self.before(layout, id) {
                near.entry(other).or_insert_with(|| {
                    left.push_back(other);
                    depth
                });
            }
        }
        near
    }

    /// The different waits of the script at a place, each with a tick to spare; at most three.
    #[must_use]
    pub fn waits_near(&self, layout: &Layout<'_>, at: Location) -> Vec<u64> {
        let script = layout.project.scripts.iter().position(|unit| unit.file == at.file);
        let mut waits = script.and_then(|script| self.waits.get(script)).cloned().unwrap_or_default();
        waits.sort_unstable();
        waits.dedup();
        waits.truncate(3);
        waits.into_iter().map(|ticks| ticks + 1).collect()
    }

    /// The handlers that can set one off, or change what it reads.
    fn before(&self, layout: &Layout<'_>, id: HandlerId) -> Vec<HandlerId> {
        let at = layout.handlers[id.index()];
        let unit = layout.project.script(at.script);
        let facts = &unit.handlers[at.index];
        let mut found: Vec<HandlerId> = Vec::new();
        found.extend(facts.signal.iter().flat_map(|signal| self.senders.get(signal)).flatten());
        let changed = facts.changed.and_then(|place| layout.project.cell_of(unit, place));
        found.extend(changed.iter().flat_map(|cell| self.writers.get(cell)).flatten());
        if matches!(unit.tree.handlers[at.index].trigger, Trigger::Spawn | Trigger::Removed) {
            found.extend(&self.movers);
        }
        found.extend(scenes_of(layout.project, unit).iter().filter_map(|scene| self.goers.get(scene)).flatten());
        let mut cells: Vec<CellId> = self.touched[id.index()].clone();
        for &cell in &self.touched[id.index()] {
            cells.extend(related(layout, cell));
        }
        cells.sort_unstable();
        cells.dedup();
        found.extend(cells.iter().flat_map(|cell| self.writers.get(cell)).flatten());
        found
    }

    /// The engine's signals by how near their handlers are, the nearest first.
    #[must_use]
    pub fn ranked(&self, layout: &Layout<'_>, near: &FxHashMap<HandlerId, u32>) -> Vec<(SignalId, u32)> {
        let rank = |signal: SignalId| {
            let handlers = layout.answers.signals.get(&signal).into_iter().flatten();
            handlers.filter_map(|handler| near.get(handler)).min().copied().unwrap_or(MOST_DEPTH + 1)
        };
        let heard = self.signals.iter().filter(|signal| layout.answers.signals.contains_key(signal));
        let mut ranked: Vec<(SignalId, u32)> = heard.map(|&signal| (signal, rank(signal))).collect();
        ranked.sort_by_key(|&(signal, depth)| (depth, signal));
        ranked
    }
}

fn actors_told_apart(unit: &ScriptUnit) -> Vec<OwnerId> {
    let tests = (0..).zip(&unit.tree.exprs).filter(|(_, expr)| matches!(expr.kind, ExprKind::Is { .. }));
    let tests = tests.filter_map(|(at, _)| match unit.meaning(ExprId(at)) {
        Meaning::Owner(actor) => Some(actor),
        _ => None,
    });
    let typed = unit.handlers.iter().flat_map(|handler| &handler.parameters).filter_map(|&(_, filter)| filter);
    tests.chain(typed).collect()
}

/// The scenes in which a script's handlers can run, where that is not any.
fn scenes_of(project: &Project, unit: &ScriptUnit) -> Vec<OwnerId> {
    let registry = &project.registry;
    if let Some(scene) = unit.scene {
        return vec![scene];
    }
    let actor = unit.owner.filter(|&owner| registry.is_actor(owner));
    let placed = actor.into_iter().flat_map(|actor| registry.instances_of(actor));
    placed.map(|id| registry.instance(id).scene).collect::<Option<Vec<OwnerId>>>().unwrap_or_default()
}

/// What is judged together with a cell: its bounds, what it bounds, and what stands beside it in an invariant.
fn related(layout: &Layout<'_>, cell: CellId) -> Vec<CellId> {
    let facts = &layout.cells[cell.index()];
    let bounds = [facts.min, facts.max].into_iter().flatten().filter_map(|limit| match limit {
        Limit::Cell(cell) => Some(cell),
        Limit::Number(_) => None,
    });
    let beside = facts.invariants.iter().flat_map(|&at| &layout.project.invariants[at].variables);
    bounds.chain(facts.bounds.iter().copied()).chain(beside.map(|variable| CellId(variable.0))).collect()
}

/// Whether a place is in a handler, or in a procedure of its script.
fn stands_in(unit: &ScriptUnit, handler: usize, at: Location) -> bool {
    let tree = &unit.tree.handlers[handler];
    if tree.span.contains(at.span) {
        return true;
    }
    unit.tree.procedures.iter().any(|procedure| procedure.span.contains(at.span))
}

/// The lengths of waits and of `every`, and a little around them.
fn times(world: &World<'_>, layout: &Layout<'_>) -> Vec<u64> {
    let rate = world.project.config.tick_rate;
    let mut times: Vec<u64> = vec![1];
    times.extend(waits(world).flat_map(|ticks| [ticks / 2, ticks, ticks + 1]));
    times.extend(layout.answers.every.iter().map(|&(ticks, _)| ticks));
    times.push(duration_ticks_of_a_second(rate));
    times.sort_unstable();
    times.dedup();
    times.retain(|&ticks| ticks > 0);
    times.truncate(24);
    times
}

/// The lengths of all waits that are written down, in ticks.
fn waits(world: &World<'_>) -> impl Iterator<Item = u64> {
    let rate = world.project.config.tick_rate;
    world.graphs.iter().flat_map(move |graphs| waits_of(graphs, rate))
}

fn waits_of(graphs: &Graphs, rate: f64) -> impl Iterator<Item = u64> {
    let graphs = graphs.handlers.iter().chain(&graphs.procedures);
    let steps = graphs.flat_map(|graph| &graph.blocks).flat_map(|block| &block.steps);
    steps.filter_map(move |step| match &step.kind {
        StepKind::Wait(Waiting::Time(duration @ Duration::Literal { .. })) => Some(duration_ticks(*duration, rate)),
        _ => None,
    })
}

#[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a tick rate is positive and small")]
fn duration_ticks_of_a_second(rate: f64) -> u64 {
    rate.ceil() as u64
}

/// Numbers that something is compared with, or that bound something.
fn numbers(project: &Project) -> Vec<f64> {
    let mut found: Vec<f64> = vec![0.0, 1.0, 2.0, -1.0];
    for unit in &project.scripts {
        for expr in &unit.tree.exprs {
            match expr.kind {
                ExprKind::Int(value) => {
                    #[allow(clippy::cast_precision_loss, reason = "candidates, not results")]
                    let value = value as f64;
                    found.extend([value, value + 1.0, value - 1.0]);
                }
                ExprKind::Float(value) => found.extend([value, value + 0.5, value - 0.5]),
                _ => {}
            }
        }
    }
    found.extend([100.0, 1_000_000.0, -1_000_000.0]);
    let mut seen: FxHashSet<u64> = FxHashSet::default();
    found.retain(|value| seen.insert(value.to_bits()));
    found.truncate(MOST_CONSTANTS);
    found
}

/// The actors that a parameter's type lets pass.
#[must_use]
pub fn actors(project: &Project, ty: Type) -> Vec<OwnerId> {
    let registry = &project.registry;
    match ty {
        Type::Ref(Some(actor)) => vec![actor],
        Type::Ref(None) => (0..registry.owners.len()).map(OwnerId::at).filter(|&id| registry.is_actor(id)).collect(),
        _ => Vec::new(),
    }
}
