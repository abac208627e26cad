//! How much a handler's run goes through: its own steps, and those of the procedures that it calls, as often as it calls them.

use super::plain::calls_of;
use super::*;
use crate::flow::engine::MOST_DEPTH;

/// A procedure that calls itself is gone into so often, at least.
const ROUNDS: usize = 2;

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
        let calls = calls_of(self.unit, &graph.blocks);
        calls.into_iter().fold(graph.size(), |size, call| size.saturating_add(self.of_procedure(call)))
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
    /// By handler: how many steps its run goes through.
    pub(super) fn find_sizes(&self) -> Vec<usize> {
        let scripts: Vec<ScriptId> = self.project.script_ids().map(|(script, _)| script).collect();
        let sizes = scripts.par_iter().map(|script| {
            let (unit, graphs) = (self.project.script(*script), &self.graphs[script.index()]);
            let count = graphs.procedures.len();
            let mut sizes = Sizes { unit, graphs, known: vec![None; count], open: Vec::new() };
            graphs.handlers.iter().map(|graph| sizes.of_graph(graph)).collect::<Vec<usize>>()
        });
        sizes.flatten_iter().collect()
    }
}
