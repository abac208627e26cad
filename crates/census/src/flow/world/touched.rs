//! Which cells each handler writes, and reads: itself, or by the procedures that it calls. Of what is read all procedures of a
//! script count.

use super::*;

/// The cells that a body uses, in order.
#[derive(Debug, Default)]
struct Cells {
    written: Vec<CellId>,
    read: Vec<CellId>,
}

impl Cells {
    fn add(&mut self, access: &Access) {
        let cells = if access.writes() { &mut self.written } else { &mut self.read };
        cells.push(access.cell);
    }

    fn in_order(mut self) -> Self {
        for cells in [&mut self.written, &mut self.read] {
            cells.sort_unstable();
            cells.dedup();
        }
        self
    }
}

/// The cells that each handler uses.
#[derive(Debug)]
pub(super) struct Touched {
    /// By script: what its procedures use.
    procedures: Vec<Cells>,
    /// By handler: what its own body does.
    handlers: Vec<Cells>,
    /// By handler: the procedures that it calls by itself.
    calls: Vec<Vec<ProcId>>,
}

impl Touched {
    /// Gathers what the handlers of a project use.
    pub(super) fn new(world: &World<'_>) -> Self {
        let scripts: Vec<ScriptId> = world.project.script_ids().map(|(id, _)| id).collect();
        let gathered: Vec<(Cells, Vec<Cells>)> = scripts.into_par_iter().map(|script| gather(world, script)).collect();
        let (procedures, handlers): (Vec<_>, Vec<_>) = gathered.into_iter().unzip();
        let calls = world.handler_ids().map(|id| calls(world, id)).collect();
        Self { procedures, handlers: handlers.into_iter().flatten().collect(), calls }
    }

    /// What the procedures write that a handler calls, one set for each.
    fn by_calls<'w>(
        &'w self,
        world: &'w World<'_>,
        handler: HandlerId,
    ) -> impl Iterator<Item = &'w FxHashSet<CellId>> + use<'w> {
        let script = world.handler(handler).0;
        self.calls[handler.index()].iter().map(move |&id| world.written_by(script, id))
    }

    fn bodies(&self, world: &World<'_>, handler: HandlerId) -> [&Cells; 2] {
        [&self.handlers[handler.index()], &self.procedures[world.handler(handler).0.index()]]
    }

    pub(super) fn writes(&self, world: &World<'_>, handler: HandlerId, cell: CellId) -> bool {
        self.handlers[handler.index()].written.binary_search(&cell).is_ok()
            || self.by_calls(world, handler).any(|written| written.contains(&cell))
    }

    pub(super) fn reads(&self, world: &World<'_>, handler: HandlerId, cell: CellId) -> bool {
        self.bodies(world, handler).iter().any(|cells| cells.read.binary_search(&cell).is_ok())
    }

    /// The cells that a handler writes; some perhaps twice.
    pub(super) fn written<'w>(
        &'w self,
        world: &'w World<'_>,
        handler: HandlerId,
    ) -> impl Iterator<Item = CellId> + use<'w> {
        let own = self.handlers[handler.index()].written.iter();
        own.chain(self.by_calls(world, handler).flatten()).copied()
    }

    /// By cell: in how many bodies it is written; all procedures of a script are one.
    pub(super) fn count_writers(&self, cells: usize) -> Vec<usize> {
        let mut counts = vec![0; cells];
        let written = self.procedures.iter().chain(&self.handlers).flat_map(|cells| &cells.written);
        written.for_each(|cell| counts[cell.index()] += 1);
        counts
    }
}

fn calls(world: &World<'_>, handler: HandlerId) -> Vec<ProcId> {
    let (unit, tree, graph) = world.parts(handler);
    let mut found = graph.calls.clone();
    tree.when.into_iter().for_each(|when| calls_in(unit, when, &mut found));
    found.sort_unstable();
    found.dedup();
    found
}

fn gather(world: &World<'_>, script: ScriptId) -> (Cells, Vec<Cells>) {
    let mut procedures = Cells::default();
    let mut handlers: Vec<Cells> = world.handlers_of(script).map(|_| Cells::default()).collect();
    for access in &world.accesses[script.index()] {
        match access.body {
            Body::Handler(index) => handlers[index].add(access),
            Body::Procedure(_) => procedures.add(access),
        }
    }
    (procedures.in_order(), handlers.into_iter().map(Cells::in_order).collect())
}
