//! All handlers together: what each can find as it begins, and what others do while it waits.
//!
//! A cell's *reach* is everything that its variable can hold between dispatches, over all instances. It starts from the
//! defaults and grows with what the handlers are seen to write, until nothing grows any more. Beside it stand the
//! *effects*: who writes the cell, and whether up, down, or to a value; they tell what a wait can change.

mod answers;
mod beforehand;
mod changed;
mod effects;
mod entry;
mod entry_tests;
mod fixpoint;
mod fresh;
mod given;
mod going;
mod handed;
mod held_out;
mod led;
mod lent;
mod margins;
mod modes;
mod once;
mod outlook;
mod overwritten;
mod partings;
mod questions;
mod quiet;
mod repeats;
mod sent;
mod silenced;
mod stops;
mod touched;
mod unread;
mod waiting;
mod written;

pub use effects::{Effect, Together};
pub use entry_tests::entry_tests;
pub(super) use going::may_be_among;
pub use modes::{ModeSlots, PairId};
pub use outlook::Asked;
pub use questions::{Counted, Unreached};
pub use waiting::{Beside, Extent, Others, Part};

use outlook::Outlook;

use super::access::{Access, Body, Gather, PlaceIndex, Used, UsedBuilder};
use super::certain;
use super::engine::{
    Event, Key, Last, LeftAlone, Move, Outcome, Parting, Pause, Reached, Run, Seen, Sending, SlotFacts, SlotTable,
    UNBOUND,
};
use super::eval::anything;
use super::graph::{self, Exit, Graph, StepKind};
use super::linear::{Linear, Slot};
use super::state::State;
use super::trend::{Moved, Trend};
use super::value::{Abstract, Num, Symbol, TEXT_LIMIT, Value};
use crate::project::builtin::Builtin;
use crate::project::{Base, Cell, CellId, Meaning, Place, PlaceId, ProcId, Project, ScriptId, ScriptUnit, is_constant};
use crate::registry::{
    Bound, End, InstanceId, Lifetime, Overflow, OwnerId, OwnerKind, Registry, Scope, SignalId, Type, Value as Constant,
    VarId, ids,
};
use crate::script::ast::*;
use crate::source::Span;
use rayon::prelude::*;
use rustc_hash::{FxHashMap, FxHashSet};
use smallvec::{SmallVec, smallvec};
use std::ops::Range;
use std::sync::{Arc, OnceLock};

ids! {
    /// A handler of any script, in script order.
    HandlerId,
}

/// How often reach may grow before it is widened.
const ROUNDS: usize = 3;
/// How many handlers may ask on entry about one variable and still be held against those that wait.
const MOST_PEERS: usize = 256;
/// After how often it is widened as far as it goes.
const LAST_STOPS: usize = 10;

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
    /// What is written to each cell where no way leads.
    beyond_reach: FxHashMap<CellId, Value>,
    /// The writes that no way leads to.
    unreached: FxHashMap<CellId, Vec<Unreached>>,
    /// The writes that can leave the range of what they write.
    mistaken: FxHashSet<(ScriptId, Span)>,
    /// What they write to.
    mistaken_cells: FxHashSet<CellId>,
    /// Who does what to each cell, by handler.
    pub effects: Vec<Vec<Effect>>,
    sent: sent::Sent,
    /// How often what is known of each cell has grown.
    ages: Vec<fixpoint::Age>,
    /// How often each handler was run.
    runs: Vec<usize>,
    /// The handlers that cost little to run once more.
    quick: Vec<bool>,
    /// What each handler goes on to write, once somebody asks.
    written_from: Vec<OnceLock<written::WrittenFrom>>,
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
    /// By cell: whether it can come to hold something else than at its start.
    moved: Vec<bool>,
    /// Cells whose values are told by what could not be read, or means something else than it says: they may be anything.
    unsettled: Vec<bool>,
    /// Those among them that may be given a value where nothing says so.
    given_unread: Vec<bool>,
    /// Words of stretches that could not be read, and what misspelled names may mean.
    unread: FxHashSet<String>,
    /// Those of them that may be meant where something is written, or a procedure called.
    unread_targets: FxHashSet<String>,
    /// The handlers of which something could not be read that may be what keeps them out.
    unread_guards: Vec<HandlerId>,
    beforehand: Beforehand,
    beginnings: fresh::Beginnings,
    /// What cells hold that something is certain to give a value to as things begin.
    given: given::Given,
    /// The modes that numbers hang on.
    modes: Vec<modes::Pair>,
    margins: margins::Margins,
    /// What was written last to cells that went.
    partings: partings::Partings,
    /// The actors whose `removed` handlers wait.
    lingering: FxHashSet<OwnerId>,
    /// Who sends the signals that scripts send.
    senders: FxHashMap<SignalId, once::OnlySender>,
    /// Who deals with the changes of cells.
    keepers: quiet::Keepers,
    /// What handlers find written by others that answer the same trigger before them.
    leaders: led::Leaders,
    /// Who writes over what others leave, before anybody else can look.
    overwriters: overwritten::Overwriters,
    /// The handlers that answer a change and find it there still.
    still_changed: FxHashSet<HandlerId>,
    /// All who send them.
    sending: silenced::Sending,
    /// The signals before which their sender may have found something out.
    handovers: FxHashMap<SignalId, handed::Handover>,
    /// What it has found out, by signal.
    handed: FxHashMap<SignalId, handed::HandedOver>,
    /// What is certain to be done in answer to them.
    certain_answers: FxHashMap<SignalId, answers::Answer>,
    invariants_of: FxHashMap<VarId, Vec<usize>>,
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
    /// By actor: what its `spawn` handlers do at once.
    at_spawn: FxHashMap<OwnerId, Arc<going::AtSpawn>>,
    /// What `start`, `spawn` and `enter` handlers may take away before they first wait.
    removed_in_openings: going::Between,
    /// By signal that scripts send: what may be gone between the `send` and the answer.
    removed_between: FxHashMap<SignalId, going::Between>,
    /// The scripts that spawn each actor.
    spawned: FxHashMap<OwnerId, Vec<ScriptId>>,
    /// All scenes.
    scenes: SmallVec<[Symbol; 4]>,
    /// How far handlers that come once for each instance step a cell together.
    repeats: repeats::Repeats,
    /// How many instances of an actor there are while a script's handlers run.
    counts: FxHashMap<(ScriptId, OwnerId), going::Count>,
    /// Some script leaves its scene.
    goes: bool,
    /// The scenes that scripts go to.
    gone_to: FxHashSet<OwnerId>,
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
    /// The handlers that call more than one run goes into.
    calling_much: Vec<bool>,
    /// By cell: whether some test asks for one value of it.
    compared: Vec<bool>,
    /// By handler that waits: those of other scripts that ask on entry about what it names too.
    peers: Vec<Vec<HandlerId>>,
    /// By handler: whether it has its moment once, and when.
    openings: Vec<Option<waiting::Opening>>,
    /// Handlers of which never two activations for one instance go on beside each other.
    alone: Vec<bool>,
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
            beyond_reach: FxHashMap::default(),
            unreached: FxHashMap::default(),
            mistaken: FxHashSet::default(),
            mistaken_cells: FxHashSet::default(),
            effects: vec![Vec::new(); project.cells.len()],
            sent: sent::Sent::default(),
            ages: vec![fixpoint::Age::default(); project.cells.len()],
            runs: Vec::new(),
            quick: Vec::new(),
            written_from: Vec::new(),
            sent_signals: FxHashSet::default(),
            sent_unread: FxHashSet::default(),
            accesses: Vec::new(),
            cleared: vec![false; project.cells.len()],
            seen_cleared: vec![false; project.cells.len()],
            written: vec![false; project.cells.len()],
            moved: Vec::new(),
            unsettled: Vec::new(),
            given_unread: Vec::new(),
            unread: unread_words(project, |unit| &unit.meant_names),
            unread_guards: Vec::new(),
            unread_targets: unread_words(project, |unit| &unit.meant_targets),
            beforehand: Beforehand::default(),
            beginnings: fresh::Beginnings::default(),
            given: given::Given::default(),
            modes: Vec::new(),
            margins: margins::Margins::default(),
            partings: partings::Partings::default(),
            lingering: FxHashSet::default(),
            senders: FxHashMap::default(),
            keepers: quiet::Keepers::default(),
            leaders: led::Leaders::default(),
            overwriters: overwritten::Overwriters::default(),
            still_changed: FxHashSet::default(),
            sending: silenced::Sending::default(),
            handovers: FxHashMap::default(),
            handed: FxHashMap::default(),
            certain_answers: FxHashMap::default(),
            invariants_of: invariants_of(project),
            upsets: find_upsets(project),
            begins_false: vec![false; project.invariants.len()],
            removed: FxHashSet::default(),
            removes_any: false,
            answers: FxHashMap::default(),
            removes_at_once: Vec::new(),
            at_spawn: FxHashMap::default(),
            removed_in_openings: going::Between::default(),
            removed_between: FxHashMap::default(),
            spawned: FxHashMap::default(),
            scenes: all_scenes(&project.registry),
            repeats: repeats::Repeats::default(),
            counts: FxHashMap::default(),
            goes: false,
            gone_to: FxHashSet::default(),
            restarts: false,
            procedure_writes: Vec::new(),
            thresholds: Vec::new(),
            stops: Vec::new(),
            entries: Vec::new(),
            cell_stops: Vec::new(),
            sizes: Vec::new(),
            pausing: Vec::new(),
            yields: Vec::new(),
            calling_much: Vec::new(),
            compared: Vec::new(),
            peers: Vec::new(),
            openings: Vec::new(),
            alone: Vec::new(),
            begins_within: FxHashSet::default(),
        };
        world.gather();
        world.find_comings_and_goings();
        world.find_sent_unread();
        world.find_certain();
        world.given_unread = world.find_given_unread();
        world.unsettled = world.find_unsettled();
        world.unread_guards = world.find_unread_guards();
        world.start_reach();
        world.find_thresholds();
        world.compared = world.find_compared();
        let ids: Vec<HandlerId> = world.handler_ids().collect();
        world.stops = ids.par_iter().map(|&id| world.find_stops(id)).collect();
        world.entries = ids.par_iter().map(|&id| world.find_entry(id)).collect();
        world.sizes = ids.iter().map(|&id| world.handler_graph(id).size()).collect();
        for &id in &ids {
            let (script, index) = world.handler(id);
            if let Some(signal) = project.script(script).handlers[index].signal {
                world.answers.entry(signal).or_default().push(id);
            }
        }
        world.removes_at_once = ids.par_iter().map(|&id| world.find_removals(id)).collect();
        world.calling_much = vec![false; ids.len()];
        world.yields = ids.par_iter().map(|&id| world.lets_others_act(id)).collect();
        world.senders = world.find_senders();
        world.certain_answers = world.find_certain_answers();
        world.lingering = world.find_lingering();
        world.runs = vec![0; world.handlers.len()];
        world.quick = ids.iter().map(|&id| world.find_quick(id)).collect();
        world.written_from = ids.iter().map(|_| OnceLock::new()).collect();
        world.pausing = ids.iter().map(|&id| world.wants_pauses(id)).collect();
        world.alone = ids.iter().map(|&id| world.find_alone(id)).collect();
        world.openings = ids.iter().map(|&id| world.find_opening(id)).collect();
        world.at_spawn = world.find_at_spawn();
        world.take_in_what_is_spawned();
        world.removed_in_openings = world.find_removed_in_openings();
        world.removed_between = world.find_removed_between();
        world.cell_stops = world.find_cell_stops();
        world.tables = world.make_tables();
        world.counts = world.find_counts();
        world.repeats = world.find_repeats();
        world.peers = world.find_peers();
        world.given = world.nothing_given();
        world.begins_false = world.find_begins_false();
        world.margins = world.find_margins();
        world.keepers = world.find_keepers();
        world.leaders = world.find_leaders();
        world.overwriters = world.find_overwriters();
        world.still_changed = world.find_still_changed();
        world.sending = world.find_sending();
        world.handovers = world.find_handovers();
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
        self.moved = self.find_moved();
    }

    /// What stands in a stretch that could not be read, what a misspelled name may mean, and all that is an owner's whose
    /// script calls a procedure that there is not.
    fn find_given_unread(&self) -> Vec<bool> {
        let project = self.project;
        let registry = &project.registry;
        let blind: Vec<bool> = project.scripts.iter().map(|unit| unit.calls_nobody).collect();
        let blind_owners: FxHashSet<OwnerId> = project
            .scripts
            .iter()
            .zip(&blind)
            .filter(|(_, blind)| **blind)
            .filter_map(|(unit, _)| unit.owner)
            .collect();
        let mut given: Vec<bool> = project
            .cells
            .iter()
            .map(|cell| match *cell {
                Cell::Variable(id) => {
                    let variable = registry.var(id);
                    self.unread_targets.contains(&*variable.name)
                        || [&registry.mistaken, &registry.guessed].iter().any(|wrong| wrong.contains(&id))
                        || !variable.constant && blind_owners.contains(&variable.owner)
                }
                Cell::Private(script, index) => {
                    let unit = project.script(script);
                    blind[script.index()]
                        || unit.privates[index as usize].ty == Type::Unknown
                        || unit.may_write(project.text(unit, unit.tree.privates[index as usize].name.span))
                }
            })
            .collect();
        for (unit, writes) in project.scripts.iter().zip(&self.procedure_writes) {
            let names = unit.tree.procedures.iter().map(|procedure| project.text(unit, procedure.name.span));
            for cell in names.zip(writes).filter(|(name, _)| unit.may_write(name)).flat_map(|(_, cells)| cells) {
                given[cell.index()] = true;
            }
        }
        given
    }

    /// The same, and what is given `+1` or a value of another type: that gives it a value, though not the one that was meant.
    fn find_unsettled(&self) -> Vec<bool> {
        let project = self.project;
        let mut unsettled = self.given_unread.clone();
        for ((script, unit), accesses) in project.script_ids().zip(&self.accesses) {
            // What nothing calls is given nothing, so what its parameters hold is no mistake.
            let called = self.called_from(script, 0..unit.handlers.len());
            let is_called = |access: &&Access| !matches!(access.body, Body::Procedure(id) if !called.contains(&id));
            for access in accesses.iter().filter(is_called) {
                unsettled[access.cell.index()] |= is_slip(unit, access);
            }
        }
        for id in self.handler_ids().filter(|&id| self.is_given_mistaken(id)) {
            let (script, index) = self.handler(id);
            let written =
                self.accesses[script.index()].iter().filter(|it| it.writes() && it.body == Body::Handler(index));
            written.for_each(|access| unsettled[access.cell.index()] = true);
        }
        unsettled
    }

    /// The procedures of a script that some of its handlers call, themselves or through others.
    fn called_from(&self, script: ScriptId, handlers: Range<usize>) -> FxHashSet<ProcId> {
        let unit = self.project.script(script);
        let mut open: Vec<ProcId> = Vec::new();
        for at in handlers {
            open.extend(called(unit, &self.graphs[script.index()].handlers[at].blocks));
            if let Some(when) = unit.tree.handlers[at].when {
                calls_in(unit, when, &mut open);
            }
        }
        let mut seen = FxHashSet::default();
        while let Some(id) = open.pop() {
            if seen.insert(id) {
                open.extend(called(unit, &self.procedure_graph(script, id).blocks));
            }
        }
        seen
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
            let calls = called(unit, &all[at].blocks).into_iter().filter(|&id| seen.insert(id));
            all.extend(calls.map(|id| self.procedure_graph(script, id)));
            at += 1;
        }
        all
    }

    fn find_entry(&self, id: HandlerId) -> Option<Vec<(ExprId, bool)>> {
        let (unit, handler, _) = self.parts(id);
        entry_tests(unit, handler)
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

    /// The handlers that answer a signal.
    #[must_use]
    pub fn answering(&self, signal: SignalId) -> &[HandlerId] {
        self.answers.get(&signal).map_or(&[], Vec::as_slice)
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

    /// Whether each invariant is false of the defaults and the instances' own starting values. It is worked out in any
    /// handler that knows all its variables; where none does, nobody asks.
    fn find_begins_false(&self) -> Vec<bool> {
        let mut begins_false = vec![false; self.project.invariants.len()];
        let mut by_handler: FxHashMap<HandlerId, Vec<(usize, Base)>> = FxHashMap::default();
        for at in 0..begins_false.len() {
            let knows_all = |id: HandlerId| {
                let bases = self.table(id).invariant_bases(&self.project.invariants[at]).into_iter();
                bases.map(move |base| (id, base)).find(|&(id, base)| self.slots_of(at, id, base).is_some())
            };
            if let Some((handler, base)) = self.handler_ids().find_map(knows_all) {
                by_handler.entry(handler).or_default().push((at, base));
            }
        }
        for (handler, invariants) in by_handler {
            let mut run = Run::new(self, handler);
            let state = run.unassuming();
            for (at, base) in invariants {
                begins_false[at] = self.begins_false(&mut run, &state, at, base);
            }
        }
        begins_false
    }

    /// The slots of an invariant's variables in a handler, if it knows all of them.
    fn slots_of(&self, invariant: usize, handler: HandlerId, base: Base) -> Option<Vec<(Slot, VarId)>> {
        let table = self.table(handler);
        let slots = self.project.invariants[invariant].variables.iter().map(|&variable| {
            let own = self.project.registry.var(variable).scope == Scope::Instance;
            table.of_variable(variable, if own { base } else { Base::One }).map(|slot| (slot, variable))
        });
        slots.collect()
    }

    fn begins_false(&self, run: &mut Run<'_, '_>, state: &State, at: usize, base: Base) -> bool {
        let registry = &self.project.registry;
        let Some(slots) = self.slots_of(at, run.handler, base) else { return false };
        let whose: Vec<Option<InstanceId>> = match self.project.invariants[at].actor {
            Some(actor) => std::iter::once(None).chain(registry.instances_of(actor).map(Some)).collect(),
            None => vec![None],
        };
        whose.into_iter().any(|instance| {
            let mut state = state.clone();
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

    /// Whether some script clears a variable.
    #[must_use]
    pub fn is_cleared(&self, variable: VarId) -> bool {
        self.cleared[variable.index()]
    }

    /// Whether a variable stands in an invariant.
    #[must_use]
    pub fn in_invariant(&self, variable: VarId) -> bool {
        self.invariants_of.contains_key(&variable)
    }

    /// The invariants that name a variable.
    #[must_use]
    pub fn invariants_of(&self, variable: VarId) -> &[usize] {
        self.invariants_of.get(&variable).map_or(&[], Vec::as_slice)
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

    /// Whether there is one of a cell at a time, so that all who name it mean the same.
    #[must_use]
    pub fn is_one_for_all(&self, cell: CellId) -> bool {
        !matches!(self.home(cell), Home::Instance(actor) if self.project.registry.is_many(actor))
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

    /// What a cell starts as.
    fn start_value_of(&self, cell: CellId) -> Value {
        match self.project.cells[cell.index()] {
            Cell::Variable(id) => self.start_of(id),
            Cell::Private(script, index) => {
                let unit = self.project.script(script);
                let ty = unit.privates[index as usize].ty;
                // What nothing can start from is told as that, and nothing hangs on it.
                let start = unit.tree.privates[index as usize].start;
                let start = start.filter(|&start| is_constant(unit, &unit.tree, start));
                start.map_or_else(|| nothing(ty), |start| self.literal(unit, start, ty))
            }
        }
    }

    fn start_reach(&mut self) {
        let registry = &self.project.registry;
        self.reach = (0..self.project.cells.len()).map(|at| self.start_value_of(CellId::at(at))).collect();
        for at in (0..self.unsettled.len()).filter(|&at| self.unsettled[at]) {
            let any = self.any_in(CellId::at(at));
            self.reach[at] = self.cell_within_bounds(CellId::at(at), any.clone()).unwrap_or(any);
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
                grown: 0,
            });
        }
        self.renew_engine_reach();
    }

    /// Whether a handler was found to call more than one run goes into.
    pub(super) fn calls_much(&self, handler: HandlerId) -> bool {
        self.calling_much[handler.index()]
    }

    /// Whether what a cell holds hangs on something that could not be read, or means something else than it says.
    #[must_use]
    pub fn is_unsettled(&self, cell: CellId) -> bool {
        self.unsettled[cell.index()]
    }

    /// The same, where it hangs on nothing but what other scripts may do to it: then a script can still be told how its own
    /// tests come out, whatever that is.
    #[must_use]
    pub fn is_unsettled_by_others(&self, script: ScriptId, cell: CellId) -> bool {
        let unit = self.project.script(script);
        let registry = &self.project.registry;
        let wrong = |id: VarId| [&registry.mistaken, &registry.guessed].iter().any(|wrong| wrong.contains(&id));
        let slips = |access: &Access| access.cell == cell && is_slip(unit, access);
        self.is_unsettled(cell)
            && unit.is_read_whole()
            && !self.project.variable_of(cell).is_some_and(wrong)
            && !self.accesses[script.index()].iter().any(slips)
    }

    /// The cells that something writes, and those that are cut as a bound of theirs moves.
    fn find_moved(&self) -> Vec<bool> {
        let registry = &self.project.registry;
        let mut cut_by: FxHashMap<VarId, Vec<VarId>> = FxHashMap::default();
        for id in registry.var_ids().filter(|&id| registry.var(id).overflow != Overflow::Error) {
            for end in [End::Min, End::Max] {
                if let Some(Bound::Variable(bound)) = registry.var(id).bound(end) {
                    cut_by.entry(*bound).or_default().push(id);
                }
            }
        }
        let mut moved = self.written.clone();
        let mut open: Vec<VarId> = cut_by.keys().copied().filter(|bound| moved[bound.index()]).collect();
        while let Some(bound) = open.pop() {
            for &id in cut_by.get(&bound).into_iter().flatten() {
                if !std::mem::replace(&mut moved[id.index()], true) {
                    open.push(id);
                }
            }
        }
        moved
    }

    /// The one number that a cell holds for good, where nothing writes it and all start with the same.
    #[must_use]
    pub fn fixed(&self, cell: CellId) -> Option<f64> {
        match &self.reach[cell.index()] {
            Value::Num(num) if !self.moved[cell.index()] && !self.unsettled[cell.index()] => num.single(),
            _ => None,
        }
    }

    /// Anything that a cell may be given, by its type.
    pub(super) fn any_in(&self, cell: CellId) -> Value {
        let ty = match self.project.cells[cell.index()] {
            Cell::Variable(id) => self.project.registry.var(id).ty,
            Cell::Private(script, index) => self.project.script(script).privates[index as usize].ty,
        };
        if let Type::Enum(id) = ty { self.any_of(id) } else { anything(ty) }
    }

    /// Anything that a variable may be given: of an enum, any of its values.
    pub(super) fn any_of(&self, id: VarId) -> Value {
        let variable = self.project.registry.var(id);
        let values = variable.values.iter().map(|value| self.symbols.get(value).copied());
        match (variable.ty, values.collect::<Option<SmallVec<[Symbol; 4]>>>()) {
            (Type::Enum(_), Some(mut all)) if (1..=TEXT_LIMIT).contains(&all.len()) => {
                all.sort_unstable();
                Value::Text(Some(all))
            }
            (ty, _) => anything(ty),
        }
    }

    /// What the game writes, or what could not be read may write, lies anywhere within the range, so it reaches as far as its
    /// bounds do by now. Gives the cells that have grown.
    fn renew_engine_reach(&mut self) -> Vec<CellId> {
        let registry = &self.project.registry;
        let mut grown = Vec::new();
        let anything = |id: VarId| registry.var(id).engine_writes || self.unsettled[id.index()];
        let written: Vec<VarId> = registry.var_ids().filter(|&id| anything(id)).collect();
        for id in written {
            let value = self.within_bounds(id, self.any_of(id)).unwrap_or(Value::Other);
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

    /// What a function that works with its arguments alone makes of numbers; nothing for others.
    #[must_use]
    pub fn worked_out(&self, builtin: Builtin, arguments: &[Num]) -> Option<Num> {
        Some(match (builtin, arguments) {
            (Builtin::Abs, [x]) => x.abs(),
            (Builtin::Floor, [x]) => x.rounded(f64::floor),
            (Builtin::Ceil, [x]) => x.rounded(f64::ceil),
            (Builtin::Round, [x]) => x.rounded(f64::round),
            (Builtin::Min, [first, rest @ ..]) => rest.iter().fold(first.clone(), |least, x| least.min(x)),
            (Builtin::Max, [first, rest @ ..]) => rest.iter().fold(first.clone(), |most, x| most.max(x)),
            (Builtin::Clamp, [x, low, high]) => x.max(low).min(high),
            (Builtin::TickLength, []) => Num::constant(self.project.config.tick_length(), false),
            _ => return None,
        })
    }

    /// What an expression that is made of literals comes to, where that is a number.
    #[must_use]
    pub fn constant_number(&self, unit: &ScriptUnit, expr: ExprId) -> Option<f64> {
        match self.literal(unit, expr, unit.ty(expr)) {
            Value::Num(num) => num.single(),
            _ => None,
        }
    }

    /// A constant expression's value.
    #[must_use]
    pub fn literal(&self, unit: &ScriptUnit, expr: ExprId, ty: Type) -> Value {
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
                        BinaryOp::Remainder => Value::Num(a.rem(&b)),
                        _ => anything(ty),
                    },
                    _ => anything(ty),
                }
            }
            ExprKind::Call(_, arguments) => {
                let number = |&argument: &ExprId| match self.literal(unit, argument, ty) {
                    Value::Num(num) => Some(num),
                    _ => None,
                };
                let numbers: Option<Vec<Num>> = arguments.iter().map(number).collect();
                match (unit.meaning(expr), numbers) {
                    (Meaning::Builtin(builtin), Some(numbers)) => {
                        self.worked_out(builtin, &numbers).map_or_else(|| anything(ty), Value::Num)
                    }
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
            variable.default.as_ref().map_or_else(|| nothing(variable.ty), |value| self.start_value(id, value, None));
        for instance in own {
            if let Some(value) = registry.start_of(id, instance) {
                start = join_nothing(
                    &start,
                    &self.start_value(id, value, Some(instance)),
                    variable.ty,
                    variable.default.is_none(),
                );
            }
        }
        start
    }

    /// What a variable starts as, of an instance with its own bounds or of any other; one that would start outside of its
    /// range may be meant to be anything inside.
    fn start_value(&self, id: VarId, value: &Constant, of: Option<InstanceId>) -> Value {
        let registry = &self.project.registry;
        let variable = registry.var(id);
        let at_start = |bound: &Bound| match (bound, of) {
            (Bound::Variable(bound), Some(of)) if registry.var(*bound).scope == Scope::Instance => {
                registry.start_of(*bound, of)?.as_number()
            }
            _ => crate::registry::read::bound_at_start(bound, registry),
        };
        let end = |bound: &Option<Bound>, open: f64| bound.as_ref().and_then(at_start).unwrap_or(open);
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

    /// Whether an actor has `spawn` handlers.
    #[must_use]
    pub fn answers_spawn(&self, actor: OwnerId) -> bool {
        self.at_spawn.contains_key(&actor)
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

/// The words of stretches that could not be read, and those that names which mean nothing may stand for.
fn unread_words(project: &Project, meant: impl Fn(&ScriptUnit) -> &FxHashSet<String>) -> FxHashSet<String> {
    let in_scripts = project.scripts.iter().flat_map(|unit| unit.unread_names.union(meant(unit)));
    in_scripts.chain(&project.registry.unread).cloned().collect()
}

/// Whether a write gives `+1`, or a value of another type: something else was meant.
fn is_slip(unit: &ScriptUnit, access: &Access) -> bool {
    let super::access::AccessKind::Write(op, Some(value)) = access.kind else { return false };
    let plus = op == AssignOp::Set && matches!(unit.tree.expr(value).kind, ExprKind::Unary(UnaryOp::Plus, _));
    plus || !unit.ty(value).is_like(unit.place_types[access.place.index()])
}

/// Where a cell lives.
#[derive(Clone, Copy, PartialEq, Eq)]
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
            Value::Num(Num { lo: 1.0, hi: -1.0, step: 0.0, off: 0.0, set: None, int: ty == Type::Int, nonzero: false })
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
        calls.push(called(unit, &graph.blocks));
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

/// Adds the procedures that an expression calls.
fn calls_in(unit: &ScriptUnit, expr: ExprId, found: &mut Vec<ProcId>) {
    super::access::walk_expr(unit, expr, &mut |inner| {
        if let Meaning::Procedure(id) = unit.meaning(inner) {
            found.push(id);
        }
    });
}

/// The procedures that blocks call.
#[must_use]
pub fn called<'b>(unit: &ScriptUnit, blocks: impl IntoIterator<Item = &'b graph::Block>) -> Vec<ProcId> {
    let mut found = Vec::new();
    let mut look = |expr: ExprId| calls_in(unit, expr, &mut found);
    for block in blocks {
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

fn invariants_of(project: &Project) -> FxHashMap<VarId, Vec<usize>> {
    let mut all: FxHashMap<VarId, Vec<usize>> = FxHashMap::default();
    for (at, invariant) in project.invariants.iter().enumerate() {
        invariant.variables.iter().for_each(|&variable| all.entry(variable).or_default().push(at));
    }
    all
}
