//! What all rules share: the project, the flow analysis, and who uses what.

use crate::finding::Finding;
use crate::flow::access::{Access, Body};
use crate::flow::engine::Event;
use crate::flow::graph::{Graph, StepKind};
use crate::flow::world::{Found, HandlerId, World};
use crate::project::{Cell, CellId, PlaceId, Project, ScriptId, ScriptUnit};
use crate::registry::{Bound, End, Registry, SignalId, VarId};
use crate::rules::range::decided::{Decided, decided};
use crate::script::ast::ExprId;
use crate::script::ast::Handler;
use crate::source::{Location, Span};
use rustc_hash::{FxHashMap, FxHashSet};
use std::sync::OnceLock;

/// Everything a rule may look at. Built once, read-only.
pub struct Facts<'p> {
    /// The project.
    pub project: &'p Project,
    /// Graphs, accesses, reach and effects.
    pub world: World<'p>,
    /// What each handler was found to do.
    pub found: Vec<Found>,
    /// Accesses by cell.
    uses: Vec<Vec<(ScriptId, usize)>>,
    /// Variables that bound others.
    bounds: FxHashSet<VarId>,
    /// Variables named by invariants.
    invariants: FxHashSet<VarId>,
    /// Cells whose changes a handler answers.
    watched: FxHashSet<CellId>,
    /// Names in stretches that could not be read.
    unread: FxHashSet<String>,
    /// The tests that come out one way only, once a rule has asked for them.
    decided: OnceLock<Vec<Decided>>,
    /// The handlers that send each signal, once a rule has asked for them.
    senders: OnceLock<FxHashMap<SignalId, Vec<HandlerId>>>,
}

impl<'p> Facts<'p> {
    /// The cells that an expression reads.
    #[must_use]
    pub fn cells_in(&self, unit: &ScriptUnit, expr: ExprId) -> Vec<CellId> {
        let mut cells = Vec::new();
        crate::flow::access::walk_expr(unit, expr, &mut |inner| {
            cells.extend(unit.place_of(inner).and_then(|place| self.project.cell_of(unit, place)));
        });
        cells
    }

    /// Analyses a project.
    #[must_use]
    pub fn new(project: &'p Project) -> Self {
        let mut world = World::new(project);
        let found = world.solve();
        let mut uses = vec![Vec::new(); project.cells.len()];
        for (script, accesses) in world.accesses.iter().enumerate() {
            for (at, access) in accesses.iter().enumerate() {
                uses[access.cell.index()].push((ScriptId::at(script), at));
            }
        }
        let registry = &project.registry;
        let bounds = registry.variables.iter().flat_map(|variable| [&variable.min, &variable.max]).flatten();
        let bounds =
            bounds.filter_map(|bound| if let Bound::Variable(id) = bound { Some(*id) } else { None }).collect();
        let watched = project
            .scripts
            .iter()
            .flat_map(|unit| unit.handlers.iter().filter_map(|h| project.cell_of(unit, h.changed?)))
            .collect();
        let unread = project.scripts.iter().flat_map(|unit| unit.unread_names.union(&unit.meant_names));
        let unread = unread.chain(&registry.unread).cloned().collect();
        let invariants = project.invariants.iter().flat_map(|invariant| invariant.variables.iter().copied()).collect();
        Self {
            project,
            world,
            found,
            uses,
            bounds,
            invariants,
            watched,
            unread,
            decided: OnceLock::new(),
            senders: OnceLock::new(),
        }
    }

    /// The tests that come out one way only.
    pub fn decided(&self) -> &[Decided] {
        self.decided.get_or_init(|| decided(self))
    }

    /// The handlers that send a signal, also through procedures.
    pub fn senders(&self, signal: SignalId) -> &[HandlerId] {
        self.senders.get_or_init(|| self.find_senders()).get(&signal).map_or(&[], Vec::as_slice)
    }

    fn find_senders(&self) -> FxHashMap<SignalId, Vec<HandlerId>> {
        let mut senders: FxHashMap<SignalId, Vec<HandlerId>> = FxHashMap::default();
        for handler in self.handlers() {
            let bodies = self.world.bodies(handler.script, handler.graph);
            for step in bodies.into_iter().flat_map(|graph| &graph.blocks).flat_map(|block| &block.steps) {
                if let StepKind::Send { signal: Some(signal), .. } = step.kind {
                    senders.entry(signal).or_default().push(handler.id);
                }
            }
        }
        senders.values_mut().for_each(Vec::dedup);
        senders
    }

    /// The registry.
    #[must_use]
    pub fn registry(&self) -> &'p Registry {
        &self.project.registry
    }

    /// Every use of a cell by scripts, with the script.
    pub fn uses(&self, cell: CellId) -> impl Iterator<Item = (&'p ScriptUnit, &Access)> + '_ {
        self.uses[cell.index()]
            .iter()
            .map(|&(script, at)| (self.project.script(script), &self.world.accesses[script.index()][at]))
    }

    /// Every use of a cell by scripts, with the script's id.
    pub fn uses_by_id(&self, cell: CellId) -> impl Iterator<Item = (ScriptId, &Access)> + '_ {
        self.uses[cell.index()].iter().map(|&(script, at)| (script, &self.world.accesses[script.index()][at]))
    }

    /// Whether scripts or the game write a cell.
    #[must_use]
    pub fn is_written(&self, cell: CellId) -> bool {
        self.world.written[cell.index()] || self.may_be_used_unread(cell)
    }

    /// Whether anything but its own steps reads a cell.
    #[must_use]
    pub fn is_read(&self, cell: CellId) -> bool {
        self.is_read_beside_scripts(cell)
            || self.uses(cell).any(|(_, access)| !access.writes() && !access.into_itself)
            || self.may_be_used_unread(cell)
    }

    /// Whether a bound, an invariant, `on changed` or the game reads a cell.
    #[must_use]
    pub fn is_read_beside_scripts(&self, cell: CellId) -> bool {
        self.watched.contains(&cell)
            || self.project.variable_of(cell).is_some_and(|id| {
                self.bounds.contains(&id) || self.invariants.contains(&id) || self.registry().var(id).engine_reads
            })
    }

    /// Whether a stretch that could not be read names the cell, or a name that means nothing may mean it.
    #[must_use]
    pub fn may_be_used_unread(&self, cell: CellId) -> bool {
        match self.project.cells[cell.index()] {
            Cell::Variable(id) => self.unread.contains(&*self.registry().var(id).name),
            Cell::Private(script, index) => {
                let unit = self.project.script(script);
                let name = unit.tree.privates[index as usize].name.span;
                unit.may_use(self.project.text(unit, name))
            }
        }
    }

    /// Whether a stretch that could not be read has this word, or a name that means nothing may mean it.
    #[must_use]
    pub fn is_unread_word(&self, word: &str) -> bool {
        self.unread.contains(word)
    }

    /// All handlers.
    pub fn handlers(&self) -> impl Iterator<Item = HandlerView<'p, '_>> + '_ {
        self.world.handler_ids().map(|id| self.handler(id))
    }

    /// The handlers of a script.
    pub fn handlers_of(&self, script: ScriptId) -> impl Iterator<Item = HandlerView<'p, '_>> + '_ {
        let count = self.project.script(script).tree.handlers.len();
        (0..count).map(move |at| self.handler(self.world.handler_id(script, at)))
    }

    /// A handler.
    #[must_use]
    pub fn handler(&self, id: HandlerId) -> HandlerView<'p, '_> {
        let (script, index) = self.world.handler(id);
        let (unit, tree, graph) = self.world.parts(id);
        HandlerView { id, script, index, unit, tree, graph, found: &self.found[id.index()] }
    }

    /// All events, with the script they happen in.
    pub fn events(&self) -> impl Iterator<Item = (&'p ScriptUnit, &Event)> + '_ {
        self.handlers().flat_map(|handler| handler.found.events.iter().map(move |event| (handler.unit, event)))
    }

    /// The accesses of a handler's own body, and of its script's procedures.
    pub fn accesses_of(&self, handler: &HandlerView<'_, '_>) -> impl Iterator<Item = &Access> + '_ {
        self.world.accesses_in(self.world.handler_id(handler.script, handler.index))
    }

    /// The graph of a body.
    #[must_use]
    pub fn graph(&self, script: ScriptId, body: Body) -> &Graph {
        let graphs = &self.world.graphs[script.index()];
        match body {
            Body::Handler(at) => &graphs.handlers[at],
            Body::Procedure(id) => &graphs.procedures[id.index()],
        }
    }

    /// `owner.name`, or a private's name.
    #[must_use]
    pub fn cell_name(&self, cell: CellId) -> String {
        match self.project.cells[cell.index()] {
            Cell::Variable(id) => self.registry().identity(id),
            Cell::Private(script, index) => {
                let unit = self.project.script(script);
                self.project.text(unit, unit.tree.privates[index as usize].name.span).to_owned()
            }
        }
    }

    /// The short name of a place, as its script writes it.
    #[must_use]
    pub fn place_name(&self, unit: &ScriptUnit, place: PlaceId) -> String {
        self.project.place_name(unit, place)
    }

    /// The identity of a place's variable, if the registry has it.
    #[must_use]
    pub fn identity_of(&self, unit: &ScriptUnit, place: PlaceId) -> Option<String> {
        let cell = self.project.cell_of(unit, place)?;
        self.project.variable_of(cell).map(|id| self.registry().identity(id))
    }

    /// Where a cell is declared.
    #[must_use]
    pub fn declared_at(&self, cell: CellId) -> Location {
        match self.project.cells[cell.index()] {
            Cell::Variable(id) => self.registry().var(id).place.header,
            Cell::Private(script, index) => {
                let unit = self.project.script(script);
                unit.at(unit.tree.privates[index as usize].span)
            }
        }
    }

    /// "line 12 of scripts/loading.oaken"
    #[must_use]
    pub fn where_is(&self, unit: &ScriptUnit, span: Span) -> String {
        let file = self.project.sources.file(unit.file);
        format!("line {} of {}", file.position(span.start).line, file.path)
    }

    /// A bound in words: "`max` is `hold_size` (20)".
    #[must_use]
    pub fn bound_text(&self, variable: VarId, end: End, limit: (f64, f64)) -> String {
        let range = range_text(limit.0, limit.1);
        match self.registry().var(variable).bound(end) {
            Some(Bound::Variable(other)) => {
                format!("`{}` is `{}` ({range})", end.word(), self.registry().var(*other).name)
            }
            _ => format!("`{}` is {range}", end.word()),
        }
    }
}

/// A handler with all that belongs to it.
#[derive(Clone, Copy)]
pub struct HandlerView<'p, 'f> {
    /// Its id.
    pub id: HandlerId,
    /// Its script.
    pub script: ScriptId,
    /// Its index in the script.
    pub index: usize,
    /// The script's tables.
    pub unit: &'p ScriptUnit,
    /// Its tree.
    pub tree: &'p Handler,
    /// Its graph.
    pub graph: &'f Graph,
    /// What it was found to do.
    pub found: &'f Found,
}

/// "0 to 20", "5", "18 or more", "more than 0"
#[must_use]
pub fn range_text(lo: f64, hi: f64) -> String {
    use crate::words::number;
    let (above, below) = (just_beside(lo, lo.next_down()), just_beside(hi, hi.next_up()));
    match (lo.is_finite(), hi.is_finite()) {
        _ if lo == hi => number(lo),
        (true, true) => match (above, below) {
            (None, None) => format!("{} to {}", number(lo), number(hi)),
            (Some(lo), None) => format!("more than {lo}, up to {}", number(hi)),
            (None, Some(hi)) => format!("{} or more, but less than {hi}", number(lo)),
            (Some(lo), Some(hi)) => format!("more than {lo} and less than {hi}"),
        },
        (true, false) => above.map_or_else(|| format!("{} or more", number(lo)), |lo| format!("more than {lo}")),
        (false, true) => below.map_or_else(|| format!("{} or less", number(hi)), |hi| format!("less than {hi}")),
        (false, false) => "any number".to_owned(),
    }
}

/// The number right beside another, if it is the one that was meant: an end that does not itself belong to a range is
/// kept as its neighbour.
fn just_beside(value: f64, neighbour: f64) -> Option<String> {
    let (own, beside) = (format!("{value}"), crate::words::number(neighbour));
    (value.is_finite() && beside.len() + 6 < own.len()).then_some(beside)
}

/// The findings of a rule that looks at one kind of event.
pub fn each_event(facts: &Facts<'_>, word: impl Fn(&ScriptUnit, &Event) -> Option<Finding>) -> Vec<Finding> {
    let mut findings: Vec<Finding> = Vec::new();
    for (unit, event) in facts.events() {
        if let Some(finding) = word(unit, event)
            && !findings
                .iter()
                .rev()
                .take(200)
                .any(|known| known.at == finding.at && known.variable == finding.variable)
        {
            findings.push(finding);
        }
    }
    findings
}
