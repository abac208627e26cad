//! How much a handler's run goes through: its own steps, and those of the procedures that it calls, as often as it calls them.

use super::*;
use crate::flow::called::by_blocks;
use crate::flow::engine::MOST_DEPTH;

/// A procedure that calls itself is gone into so often, at least.
const ROUNDS: usize = 2;

/// How much may be gone through in all the procedures that handlers call, in steps times the slots of a handler: what takes
/// longest is bounded by this, however they call one another.
const ALL_WORK: usize = 16_000_000;
/// How much more for each step that stands in the text: a large project has as many handlers that ask for much.
const MORE_BY_STEP: usize = 300;
/// The same for one run.
const MOST_WORK: usize = 1_000_000;
/// What any run may go through.
const LEAST_WORK: usize = 30_000;
/// How much of that once it was not enough: more runs of that kind would add little but time.
const AGAIN: usize = 4;

/// How many steps the bodies of a script go through, with those of the procedures that they call.
#[derive(Debug)]
pub(super) struct BodySizes {
    handlers: Vec<usize>,
    procedures: Vec<usize>,
}

/// The sizes of a script's procedures, worked out as they are asked for.
struct Sizes<'g> {
    unit: &'g ScriptUnit,
    graphs: &'g Graphs,
    known: Vec<Option<usize>>,
    /// Those that are being worked out, each called by the one before.
    open: Vec<ProcId>,
}

impl Sizes<'_> {
    fn of_graph(&mut self, graph: &Graph) -> usize {
        let calls = by_blocks(self.unit, &graph.blocks);
        calls.into_iter().fold(graph.size(), |size, call| size.saturating_add(self.of_procedure(call.procedure)))
    }

    fn of_procedure(&mut self, id: ProcId) -> usize {
        let at = id.index();
        if let Some(known) = self.known[at] {
            return known;
        }
        let graph = &self.graphs.procedures[at];
        if self.open.contains(&id) {
            return graph.size().saturating_mul(ROUNDS);
        }
        if self.open.len() >= MOST_DEPTH {
            return 0;
        }
        self.open.push(id);
        let size = self.of_graph(graph);
        self.open.pop();
        self.known[at] = Some(size);
        size
    }
}

impl World<'_> {
    /// How much a run of a handler may go through in procedures, in steps times its slots.
    pub(in crate::flow) fn most_work(&self, handler: HandlerId) -> usize {
        if self.calls_much(handler) { self.most_work / AGAIN } else { self.most_work }
    }

    /// Shares what may be gone through out among the handlers that ask for much.
    pub(super) fn share_work(&self) -> usize {
        let work = |id: HandlerId| self.size(id).saturating_mul(self.table(id).slots.len());
        let heavy = self.handler_ids().filter(|&id| work(id) > LEAST_WORK).count();
        let bodies = self.graphs.iter().flat_map(|graphs| graphs.handlers.iter().chain(&graphs.procedures));
        let steps: usize = bodies.map(Graph::size).sum();
        ((ALL_WORK + MORE_BY_STEP * steps) / heavy.max(1)).clamp(LEAST_WORK, MOST_WORK)
    }

    /// How many steps a handler's run goes through, those of procedures as often as it calls them.
    #[must_use]
    pub fn size(&self, id: HandlerId) -> usize {
        let (script, index) = self.handler(id);
        self.sizes[script.index()].handlers[index]
    }

    /// How many steps a call of a procedure goes through.
    pub(in crate::flow) fn size_of_procedure(&self, script: ScriptId, id: ProcId) -> usize {
        self.sizes[script.index()].procedures[id.index()]
    }

    /// By script: how many steps its bodies go through.
    pub(super) fn find_sizes(&self) -> Vec<BodySizes> {
        let scripts: Vec<ScriptId> = self.project.script_ids().map(|(script, _)| script).collect();
        let sizes = scripts.par_iter().map(|script| {
            let (unit, graphs) = (self.project.script(*script), &self.graphs[script.index()]);
            let mut sizes = Sizes { unit, graphs, known: vec![None; graphs.procedures.len()], open: Vec::new() };
            BodySizes {
                handlers: graphs.handlers.iter().map(|graph| sizes.of_graph(graph)).collect(),
                procedures: (0..graphs.procedures.len()).map(|at| sizes.of_procedure(ProcId::at(at))).collect(),
            }
        });
        sizes.collect()
    }
}
