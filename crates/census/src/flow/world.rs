//! All handlers together: what each can find as it begins, and what others do while it waits.
//!
//! A cell's *reach* is everything that its variable can hold between dispatches, over all instances. It starts from the
//! defaults and grows with what the handlers are seen to write, until nothing grows any more. Beside it stand the
//! *effects*: who writes the cell, and whether up, down, or to a value; they tell what a wait can change.

mod answered;
mod answers;
mod beforehand;
mod chains;
mod changed;
mod drips;
mod effects;
mod entry;
mod entry_tests;
mod few;
mod fixpoint;
mod fresh;
mod given;
mod going;
mod handed;
mod handovers;
mod held_out;
mod invariants;
mod led;
mod lent;
mod margins;
mod modes;
mod once;
mod outlook;
mod overwritten;
mod own_stops;
mod partings;
mod passed;
mod plain;
mod questions;
mod quiet;
mod reach;
mod repeats;
mod sent;
mod silenced;
mod sizes;
mod stops;
mod touched;
mod unread;
mod waiting;
mod written;

pub use effects::{Effect, Effects, Together};
pub use entry_tests::entry_tests;
pub(super) use going::may_be_among;
pub use modes::{LoneSlot, ModeSlots, PairId};
pub use outlook::Asked;
pub use plain::graphs;
pub use questions::{Counted, Unreached};
pub use reach::{is_nothing, plain_text};
pub use waiting::{Beside, Extent, Others, Part};

use invariants::{find_upsets, invariants_of};
use outlook::Outlook;
use plain::{calls_in, unread_words};
use reach::{nothing, symbols, widen};

use super::access::{Access, Body, Gather, PlaceIndex, Used, UsedBuilder};
use super::certain;
use super::engine::{
    Event, Key, Last, LeftAlone, Move, Outcome, Parting, Pause, Reached, Run, Seen, Sending, SlotFacts, SlotTable,
    UNBOUND,
};
use super::eval::anything;
use super::graph::{self, Exit, Graph, StepKind};
use super::linear::{Linear, Slot};
use super::state::{State, Values};
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
    /// What cells of few values were known to hold before these were found.
    before_few: FxHashMap<CellId, Value>,
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
    pub effects: Vec<Effects>,
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
    /// All accesses, by script, in the order of the bodies that they stand in.
    pub accesses: Vec<Vec<Access>>,
    /// Whether some handler clears a cell.
    cleared: Vec<bool>,
    /// Whether others may come to see that a cell was cleared.
    seen_cleared: Vec<bool>,
    /// Whether anything writes a cell.
    pub written: Vec<bool>,
    /// By cell: whether it can come to hold something else than at its start.
    moved: Vec<bool>,
    /// By variable: whether the game writes it, or a bound at which it is cut.
    by_game: Vec<bool>,
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
    /// What they set.
    set_by_unread_guards: FxHashSet<CellId>,
    /// What handlers set that answer nothing that could be read.
    set_unread: FxHashSet<CellId>,
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
    /// What ticks bring down a little.
    drips: drips::Drips,
    /// All who send them.
    sending: silenced::Sending,
    /// The signals before which their sender may have found something out.
    handovers: FxHashMap<SignalId, Vec<handovers::Handover>>,
    /// What it has found out, by signal.
    handed: FxHashMap<(SignalId, handovers::Sender), handed::HandedOver>,
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
    /// By script: the procedures that make or remove instances.
    placing: Vec<FxHashSet<ProcId>>,
    thresholds: Vec<f64>,
    /// By handler: the numbers that its values may stop growing at.
    stops: Vec<Vec<f64>>,
    /// By handler: what must come out how for it to do anything.
    entries: Vec<Option<Vec<(ExprId, bool)>>>,
    /// By cell: the numbers that its reach may stop growing at.
    cell_stops: Vec<Vec<f64>>,
    /// By handler: the numbers that the cells which it steps may stop at.
    own_stops: Vec<Option<own_stops::OwnStops>>,
    /// By script: how many steps its bodies go through.
    sizes: Vec<sizes::BodySizes>,
    /// By handler: whether the rules about guards will ask for its pauses.
    pausing: Vec<bool>,
    /// By handler: whether others can act before it is through.
    yields: Vec<bool>,
    /// By handler: its `after` block, where it puts off one only.
    only_after: Vec<Option<waiting::OnlyAfter>>,
    /// The handlers that call more than one run goes into.
    calling_much: Vec<bool>,
    /// How much a run may go through in procedures.
    most_work: usize,
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
            before_few: FxHashMap::default(),
            written_beyond: FxHashMap::default(),
            beyond_reach: FxHashMap::default(),
            unreached: FxHashMap::default(),
            mistaken: FxHashSet::default(),
            mistaken_cells: FxHashSet::default(),
            effects: project.cells.iter().map(|_| Effects::default()).collect(),
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
            by_game: Vec::new(),
            unsettled: Vec::new(),
            given_unread: Vec::new(),
            unread: unread_words(project, |unit| &unit.meant_names),
            unread_guards: Vec::new(),
            set_by_unread_guards: FxHashSet::default(),
            set_unread: FxHashSet::default(),
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
            drips: drips::Drips::default(),
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
            placing: Vec::new(),
            thresholds: Vec::new(),
            stops: Vec::new(),
            entries: Vec::new(),
            cell_stops: Vec::new(),
            own_stops: Vec::new(),
            sizes: Vec::new(),
            pausing: Vec::new(),
            yields: Vec::new(),
            only_after: Vec::new(),
            calling_much: Vec::new(),
            most_work: 0,
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
        world.set_by_unread_guards = world.find_set_by_unread_guards();
        world.set_unread = world.find_set_unread();
        world.start_reach();
        world.find_thresholds();
        world.compared = world.find_compared();
        let ids: Vec<HandlerId> = world.handler_ids().collect();
        world.stops = ids.par_iter().map(|&id| world.find_stops(id)).collect();
        world.entries = ids.par_iter().map(|&id| world.find_entry(id)).collect();
        world.sizes = world.find_sizes();
        for &id in &ids {
            let (script, index) = world.handler(id);
            if let Some(signal) = project.script(script).handlers[index].signal {
                world.answers.entry(signal).or_default().push(id);
            }
        }
        world.removes_at_once = ids.par_iter().map(|&id| world.find_removals(id)).collect();
        world.calling_much = vec![false; ids.len()];
        world.yields = ids.par_iter().map(|&id| world.lets_others_act(id)).collect();
        world.only_after = ids.par_iter().map(|&id| world.find_only_after(id)).collect();
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
        world.most_work = world.share_work();
        world.counts = world.find_counts();
        world.repeats = world.find_repeats();
        world.peers = world.find_peers();
        world.given = world.nothing_given();
        world.begins_false = world.find_begins_false();
        world.margins = world.find_margins();
        world.keepers = world.find_keepers();
        world.leaders = world.find_leaders();
        world.overwriters = world.find_overwriters();
        world.own_stops = world.find_own_stops();
        world.still_changed = world.find_still_changed();
        world.drips = world.find_drips();
        world.sending = world.find_sending();
        world.handovers = world.find_handovers();
        world.take_up_passed();
        world
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

    /// What is done with cells in a handler's own body.
    #[must_use]
    pub fn own_accesses(&self, id: HandlerId) -> &[Access] {
        let (script, index) = self.handler(id);
        self.accesses_of(script, Body::Handler(index))
    }

    fn accesses_of(&self, script: ScriptId, body: Body) -> &[Access] {
        let all = &self.accesses[script.index()];
        let from = all.partition_point(|access| access.body < body);
        let count = all[from..].partition_point(|access| access.body == body);
        &all[from..from + count]
    }

    /// The same, and what is done in its script's procedures, some of which it may call.
    pub fn accesses_in(&self, id: HandlerId) -> impl Iterator<Item = &Access> {
        let all = &self.accesses[self.handler(id).0.index()];
        let procedures = all.partition_point(|access| access.body < Body::Handler(usize::MAX));
        self.own_accesses(id).iter().chain(&all[procedures..])
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

    /// Whether a procedure, or one that it calls, leaves anything else than it was: a value, or who is there.
    #[must_use]
    pub fn changes_anything(&self, script: ScriptId, id: ProcId) -> bool {
        !self.written_by(script, id).is_empty() || self.placing[script.index()].contains(&id)
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

/// Where a cell lives.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Home {
    Everywhere,
    Scene,
    Instance(OwnerId),
}
