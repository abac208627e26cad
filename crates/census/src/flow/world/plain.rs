//! The plain facts, without values: the graphs, who uses what, and what was left unread.

use super::*;
use crate::flow::called::by_expr;

impl World<'_> {
    pub(super) fn gather(&mut self) {
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
                self.cleared[access.cell.index()] |= access.kind == crate::flow::access::AccessKind::Clear;
            }
            self.accesses.push(accesses);
            self.procedure_writes.push(writes);
        }
        for id in project.registry.var_ids() {
            self.written[id.index()] |= project.registry.var(id).engine_writes;
        }
        self.placing = project.script_ids().map(|(script, _)| self.find_placing(script)).collect();
        self.moved = self.find_moved();
        self.by_game = self.find_by_game();
    }

    /// What stands in a stretch that could not be read, what a misspelled name may mean, and all that is an owner's whose
    /// script calls a procedure that there is not.
    pub(super) fn find_given_unread(&self) -> Vec<bool> {
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
    pub(super) fn find_unsettled(&self) -> Vec<bool> {
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
            let written = self.own_accesses(id).iter().filter(|access| access.writes());
            written.for_each(|access| unsettled[access.cell.index()] = true);
        }
        unsettled
    }

    /// The procedures of a script that some of its handlers call, themselves or through others.
    pub(super) fn called_from(&self, script: ScriptId, handlers: Range<usize>) -> FxHashSet<ProcId> {
        let unit = self.project.script(script);
        let mut open: Vec<ProcId> = Vec::new();
        for at in handlers {
            open.extend(&self.graphs[script.index()].handlers[at].calls);
            if let Some(when) = unit.tree.handlers[at].when {
                calls_in(unit, when, &mut open);
            }
        }
        self.called_by(script, open)
    }

    /// The procedures of a script that make or remove instances, themselves or through others.
    fn find_placing(&self, script: ScriptId) -> FxHashSet<ProcId> {
        let places = |step: &graph::Step| matches!(step.kind, StepKind::Remove(_) | StepKind::Spawn { .. });
        let is_placing = |graph: &Graph| {
            let is_gone = |block: &graph::Block| matches!(block.exit, Exit::Gone);
            graph.blocks.iter().any(|block| is_gone(block) || block.steps.iter().any(places))
        };
        let graphs = &self.graphs[script.index()].procedures;
        let all = || (0..graphs.len()).map(ProcId::at);
        let mut placing: FxHashSet<ProcId> = all().filter(|id| is_placing(&graphs[id.index()])).collect();
        if placing.is_empty() {
            return placing;
        }
        let mut callers: FxHashMap<ProcId, Vec<ProcId>> = FxHashMap::default();
        for id in all() {
            for &called in &graphs[id.index()].calls {
                callers.entry(called).or_default().push(id);
            }
        }
        let mut open: Vec<ProcId> = placing.iter().copied().collect();
        while let Some(id) = open.pop() {
            let new = callers.get(&id).into_iter().flatten().copied();
            open.extend(new.filter(|&caller| placing.insert(caller)));
        }
        placing
    }

    /// Procedures of a script, and all that they come to call.
    pub(super) fn called_by(&self, script: ScriptId, mut open: Vec<ProcId>) -> FxHashSet<ProcId> {
        let mut seen = FxHashSet::default();
        while let Some(id) = open.pop() {
            if seen.insert(id) {
                open.extend(&self.procedure_graph(script, id).calls);
            }
        }
        seen
    }

    /// Whether a handler waits or spawns, by itself or through a procedure.
    pub(super) fn lets_others_act(&self, id: HandlerId) -> bool {
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
        let mut all = vec![body];
        let mut seen: FxHashSet<ProcId> = FxHashSet::default();
        let mut at = 0;
        while at < all.len() {
            let calls = all[at].calls.iter().copied().filter(|&id| seen.insert(id));
            all.extend(calls.map(|id| self.procedure_graph(script, id)));
            at += 1;
        }
        all
    }

    pub(super) fn find_entry(&self, id: HandlerId) -> Option<Vec<(ExprId, bool)>> {
        let (unit, handler, _) = self.parts(id);
        entry_tests(unit, handler)
    }

    pub(super) fn make_tables(&self) -> Vec<SlotTable> {
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
        builder.guards(unit.tree.handlers[at].when, &graphs.handlers[at], &graphs.procedures);
        while let Some(id) = builder.next_call() {
            builder.parameters(id);
            builder.graph(&graphs.procedures[id.index()]);
        }
        builder.finish(index, bounded_by)
    }
}

pub(super) fn unread_words(project: &Project, meant: impl Fn(&ScriptUnit) -> &FxHashSet<String>) -> FxHashSet<String> {
    let in_scripts = project.scripts.iter().flat_map(|unit| unit.unread_names.union(meant(unit)));
    in_scripts.chain(&project.registry.unread).cloned().collect()
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
        calls.push(graph.calls.clone());
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
pub(super) fn calls_in(unit: &ScriptUnit, expr: ExprId, found: &mut Vec<ProcId>) {
    found.extend(by_expr(unit, expr).into_iter().map(|called| called.procedure));
}

/// Whether a write gives `+1`, or a value of another type: something else was meant.
pub(super) fn is_slip(unit: &ScriptUnit, access: &Access) -> bool {
    let crate::flow::access::AccessKind::Write(op, Some(value)) = access.kind else { return false };
    let plus = op == AssignOp::Set && matches!(unit.tree.expr(value).kind, ExprKind::Unary(UnaryOp::Plus, _));
    plus || !unit.ty(value).is_like(unit.place_types[access.place.index()])
}
