//! Where each cell lives in a run's memory, and which handlers answer what.
//!
//! Worked out once for a project; a run then finds everything by dense index.

use super::code::Code;
use super::plain::{self, Plain};
use crate::flow::graph::Graph;
use crate::flow::world::{Graphs, HandlerAt, HandlerId};
use crate::project::{Cell, CellId, Project, ScriptUnit};
use crate::registry::{Bound, End, Overflow, OwnerId, Scope, SignalId, Type, VarId};
use crate::script::ast::{Block, Duration, Handler, LocalId, StatementKind, Trigger, walk};
use rustc_hash::FxHashMap;

/// An instance in a run: listed or spawned. Numbers are never used again.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub struct InstanceAt(pub u32);

/// Where a cell's value is kept.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Home {
    /// One value, by index.
    Shared(usize),
    /// One for each instance of the actor, by index into the instance's values.
    Each(OwnerId, usize),
}

/// One end of a range.
#[derive(Clone, Copy, PartialEq, Debug)]
pub enum Limit {
    /// A number.
    Number(f64),
    /// Another cell: the same instance's, where each instance has its own.
    Cell(CellId),
}

/// What a run must know of a cell.
#[derive(Clone, Debug)]
pub struct CellFacts {
    /// Where it is kept.
    pub home: Home,
    /// Its type.
    pub ty: Type,
    /// The registry variable, if it is one.
    pub variable: Option<VarId>,
    /// The scene that it belongs to, and lives with.
    pub scene: Option<OwnerId>,
    /// What becomes of a write beyond its range.
    pub overflow: Overflow,
    /// The lower end of its range.
    pub min: Option<Limit>,
    /// The upper end of its range.
    pub max: Option<Limit>,
    /// The cells that it bounds.
    pub bounds: Vec<CellId>,
    /// The invariants that name it.
    pub invariants: Vec<usize>,
    /// Whether an `on changed` listens to it.
    pub watched: bool,
    /// Whether a write must be judged at all.
    pub judged: bool,
    /// Whether a write can make something else wrong than the cell itself.
    pub concerns_others: bool,
}

/// Which handlers answer what, in script order.
#[derive(Clone, Debug, Default)]
pub struct Answers {
    /// `on start`
    pub start: Vec<HandlerId>,
    /// `on enter`
    pub enter: Vec<HandlerId>,
    /// `on leave`
    pub leave: Vec<HandlerId>,
    /// `on spawn`, by actor.
    pub spawn: FxHashMap<OwnerId, Vec<HandlerId>>,
    /// `on removed`, by actor.
    pub removed: FxHashMap<OwnerId, Vec<HandlerId>>,
    /// `on tick`
    pub tick: Vec<HandlerId>,
    /// `on every`, by length in ticks, the shortest first.
    pub every: Vec<(u64, Vec<HandlerId>)>,
    /// `on changed`, by cell.
    pub changed: FxHashMap<CellId, Vec<HandlerId>>,
    /// Signals.
    pub signals: FxHashMap<SignalId, Vec<HandlerId>>,
}

/// The locals of a body: a stretch of the script's.
#[derive(Clone, Copy, Debug, Default)]
pub struct Locals {
    /// The first one.
    pub first: u32,
    /// How many there are.
    pub count: u32,
}

/// The bodies of a script as lists of operations.
#[derive(Debug)]
pub struct Codes {
    /// By handler.
    pub handlers: Vec<Code>,
    /// By procedure.
    pub procedures: Vec<Code>,
}

/// All that a run looks up.
#[derive(Debug)]
pub struct Layout<'p> {
    /// The project.
    pub project: &'p Project,
    /// The graphs, by script.
    pub graphs: &'p [Graphs],
    /// The handlers, in script order.
    pub handlers: Vec<HandlerAt>,
    /// The cells.
    pub cells: Vec<CellFacts>,
    /// How many shared values there are.
    pub shared: usize,
    /// The cells of each actor's instances, in the order of their homes.
    pub of_actor: FxHashMap<OwnerId, Vec<CellId>>,
    /// Who answers what.
    pub answers: Answers,
    /// The locals of each handler, by script.
    pub handler_locals: Vec<Vec<Locals>>,
    /// The locals of each procedure, by script.
    pub procedure_locals: Vec<Vec<Locals>>,
    /// The plain expressions, by script.
    pub plain: Vec<Vec<Plain>>,
    /// The bodies as lists of operations, by script.
    pub codes: Vec<Codes>,
}

impl<'p> Layout<'p> {
    /// Works it out.
    #[must_use]
    pub fn new(project: &'p Project, graphs: &'p [Graphs]) -> Self {
        let mut layout = Self {
            project,
            graphs,
            handlers: Vec::new(),
            cells: Vec::new(),
            shared: 0,
            of_actor: FxHashMap::default(),
            answers: Answers::default(),
            handler_locals: Vec::new(),
            procedure_locals: Vec::new(),
            plain: Vec::new(),
            codes: Vec::new(),
        };
        layout.place_cells();
        layout.link_bounds();
        for (script, unit) in project.script_ids() {
            for index in 0..unit.tree.handlers.len() {
                layout.handlers.push(HandlerAt { script, index });
                layout.answer(HandlerId::at(layout.handlers.len() - 1), unit, index);
            }
            layout.handler_locals.push((0..unit.tree.handlers.len()).map(|at| handler_locals(unit, at)).collect());
            layout.procedure_locals.push(
                (0..unit.tree.procedures.len())
                    .map(|at| locals(&unit.tree.procedures[at].body, &unit.procedures[at].parameters))
                    .collect(),
            );
        }
        layout.plain = project.scripts.iter().map(|unit| plain::plain(unit, &layout.cells)).collect();
        layout.answers.every.sort_by_key(|(ticks, _)| *ticks);
        for cell in &mut layout.cells {
            cell.concerns_others = !cell.bounds.is_empty() || !cell.invariants.is_empty();
            cell.judged =
                cell.concerns_others || cell.min.is_some() || cell.max.is_some() || matches!(cell.ty, Type::Enum(_));
        }
        layout.codes = (project.scripts.iter().enumerate()).map(|(at, unit)| layout.code_of(at, unit)).collect();
        layout
    }

    fn code_of(&self, at: usize, unit: &ScriptUnit) -> Codes {
        let code = |graph: &Graph| Code::new(self.project, unit, &self.cells, &self.plain[at], graph);
        Codes {
            handlers: self.graphs[at].handlers.iter().map(code).collect(),
            procedures: self.graphs[at].procedures.iter().map(code).collect(),
        }
    }

    fn place_cells(&mut self) {
        for cell in &self.project.cells {
            let registry = &self.project.registry;
            let (owner, ty, variable) = match *cell {
                Cell::Variable(id) => {
                    let variable = registry.var(id);
                    let each = variable.scope == Scope::Instance;
                    (each.then_some(variable.owner), variable.ty, Some(id))
                }
                Cell::Private(script, index) => {
                    let unit = self.project.script(script);
                    let owner = unit.owner.filter(|&owner| registry.is_actor(owner));
                    (owner, unit.privates[index as usize].ty, None)
                }
            };
            let id = CellId::at(self.cells.len());
            let home = match owner {
                Some(actor) => {
                    let cells = self.of_actor.entry(actor).or_default();
                    cells.push(id);
                    Home::Each(actor, cells.len() - 1)
                }
                None => {
                    self.shared += 1;
                    Home::Shared(self.shared - 1)
                }
            };
            let facts = variable.map(|id| registry.var(id));
            self.cells.push(CellFacts {
                home,
                ty,
                variable,
                scene: facts.filter(|facts| facts.scope == Scope::Scene).map(|facts| facts.owner),
                overflow: facts.map_or(Overflow::Error, |facts| facts.overflow),
                min: None,
                max: None,
                bounds: Vec::new(),
                invariants: Vec::new(),
                watched: false,
                judged: false,
                concerns_others: false,
            });
        }
    }

    fn link_bounds(&mut self) {
        for id in self.project.registry.var_ids() {
            for end in [End::Min, End::Max] {
                let limit = match self.project.registry.var(id).bound(end) {
                    None => continue,
                    Some(Bound::Number(value)) => Limit::Number(*value),
                    Some(Bound::Variable(other)) => {
                        self.cells[other.index()].bounds.push(CellId(id.0));
                        Limit::Cell(CellId(other.0))
                    }
                };
                let cell = &mut self.cells[id.index()];
                match end {
                    End::Min => cell.min = Some(limit),
                    End::Max => cell.max = Some(limit),
                }
            }
        }
        for (at, invariant) in self.project.invariants.iter().enumerate().filter(|(_, facts)| facts.holds.is_some()) {
            for variable in &invariant.variables {
                self.cells[variable.index()].invariants.push(at);
            }
        }
    }

    fn answer(&mut self, id: HandlerId, unit: &ScriptUnit, index: usize) {
        let Some(owner) = unit.owner else { return };
        let answers = &mut self.answers;
        match &unit.tree.handlers[index].trigger {
            Trigger::Unreadable => {}
            Trigger::Start => answers.start.push(id),
            Trigger::Enter => answers.enter.push(id),
            Trigger::Leave => answers.leave.push(id),
            Trigger::Spawn => answers.spawn.entry(owner).or_default().push(id),
            Trigger::Removed => answers.removed.entry(owner).or_default().push(id),
            Trigger::Tick => answers.tick.push(id),
            Trigger::Every(duration) => {
                let ticks = duration_ticks(*duration, self.project.config.tick_rate).max(1);
                match answers.every.iter_mut().find(|(known, _)| *known == ticks) {
                    Some((_, handlers)) => handlers.push(id),
                    None => answers.every.push((ticks, vec![id])),
                }
            }
            Trigger::Changed(_) => {
                if let Some(cell) = unit.handlers[index].changed.and_then(|place| self.project.cell_of(unit, place)) {
                    self.cells[cell.index()].watched = true;
                    answers.changed.entry(cell).or_default().push(id);
                }
            }
            Trigger::Signal { .. } => {
                if let Some(signal) = unit.handlers[index].signal {
                    answers.signals.entry(signal).or_default().push(id);
                }
            }
        }
    }

    /// A handler's script, its tree and its graph.
    #[must_use]
    pub fn parts(&self, id: HandlerId) -> (&'p ScriptUnit, &'p Handler, &'p Graph) {
        let at = self.handlers[id.index()];
        let unit = self.project.script(at.script);
        (unit, &unit.tree.handlers[at.index], &self.graphs[at.script.index()].handlers[at.index])
    }
}

/// A literal duration in whole ticks; zero for one that is computed.
#[must_use]
#[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a cast from float saturates")]
pub fn duration_ticks(duration: Duration, tick_rate: f64) -> u64 {
    duration.ticks(tick_rate).map_or(0, |ticks| ticks as u64)
}

fn handler_locals(unit: &ScriptUnit, at: usize) -> Locals {
    let parameters: Vec<LocalId> = unit.handlers[at].parameters.iter().map(|&(local, _)| local).collect();
    locals(&unit.tree.handlers[at].body, &parameters)
}

/// The locals that a body declares stand together in the script's table.
fn locals(body: &Block, parameters: &[LocalId]) -> Locals {
    let (mut first, mut last) = (u32::MAX, 0);
    let mut take = |local: LocalId| {
        first = first.min(local.0);
        last = last.max(local.0);
    };
    parameters.iter().copied().for_each(&mut take);
    walk(body, &mut |statement| match statement.kind {
        StatementKind::Let { local, .. }
        | StatementKind::For { local, .. }
        | StatementKind::Spawn { local: Some(local), .. } => take(local),
        _ => {}
    });
    if first > last { Locals::default() } else { Locals { first, count: last - first + 1 } }
}
