//! `unused/dead-write`: a value that is written again before anyone could read it.

use crate::finding::{Finding, Level, RuleName};
use crate::flow::access::{Body, exit_reads, offered_texts, parts, walk_expr};
use crate::flow::certain;
use crate::flow::graph::{Block, BlockId, Exit, Graph, Step, StepKind};
use crate::project::{Base, CellId, Meaning, Place, PlaceId, ProcId, ScriptId, ScriptUnit};
use crate::registry::{Bound, End, Overflow, Registry, VarId};
use crate::rules::Facts;
use crate::rules::{Example, Rule};
use crate::script::ast::{AssignOp, ExprId, ExprKind};
use crate::source::Span;
use fixedbitset::FixedBitSet;
use rustc_hash::{FxHashMap, FxHashSet};
use std::collections::BTreeSet;

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("unused/dead-write"),
    level: Level::Warning,
    means: "A value that is written again before anyone could read it.",
    hurts: "One of the two lines is a mistake, and which one is hard to see.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on bell {
    height = 2
    height = 3
    note "{height}"
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on bell {
    height = 2
    note "{height}"
    height = 3
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    let clamping = clamping(facts.registry());
    for (script, unit) in facts.project.script_ids() {
        let graphs = &facts.world.graphs[script.index()];
        let judge = Judge::new(facts, unit, script, &clamping);
        let none = Places::none_of(unit);
        let handlers = graphs.handlers.iter().map(|graph| (graph, &none));
        let procedures = graphs.procedures.iter().zip(&judge.procedures).map(|(graph, called)| (graph, &called.then));
        for (graph, then) in handlers.chain(procedures) {
            for (at, place) in judge.dead(graph, then) {
                let cell = facts.project.cell_of(unit, place);
                let may_be_read = cell.is_some_and(|cell| facts.may_be_used_unread(cell)) || unit.is_unread_behind(at);
                if may_be_read {
                    continue;
                }
                let name = facts.place_name(unit, place);
                let mut finding = Finding::new(
                    RULE.name,
                    unit.at(at),
                    format!("`{name}` is written again before anything can read this value"),
                );
                finding.variable = facts.identity_of(unit, place);
                findings.push(finding.help("take one of the two writes out"));
            }
        }
    }
    findings
}

/// The variables that others are clamped to.
fn clamping(registry: &Registry) -> FxHashSet<VarId> {
    let clamped = registry.var_ids().map(|id| registry.var(id)).filter(|variable| variable.overflow == Overflow::Clamp);
    let bounds = clamped.flat_map(|variable| [End::Min, End::Max].map(|end| variable.bound(end)));
    bounds.filter_map(|bound| if let Some(Bound::Variable(id)) = bound { Some(*id) } else { None }).collect()
}

/// Some of a script's places.
#[derive(Clone, PartialEq, Eq)]
struct Places(FixedBitSet);

impl Places {
    fn none_of(unit: &ScriptUnit) -> Self {
        Self(FixedBitSet::with_capacity(unit.places.len()))
    }

    fn contains(&self, place: PlaceId) -> bool {
        self.0.contains(place.index())
    }

    fn insert(&mut self, place: PlaceId) {
        self.0.insert(place.index());
    }

    fn remove(&mut self, places: &[PlaceId]) {
        places.iter().for_each(|place| self.0.set(place.index(), false));
    }
}

/// The places that are certain to be overwritten before a read; none: no way leads on from here.
type Overwritten = Option<Places>;

/// What a call of a procedure does to what is written before it.
struct Called {
    /// What it, and all that it calls, can read.
    reads: FxHashSet<CellId>,
    /// Whether others can read while it runs.
    opens: bool,
    /// What it is certain to write before it reads it.
    overwrites: Places,
    /// What is certain to be overwritten after every call of it.
    then: Places,
}

/// What is found in a graph.
#[derive(Default)]
struct Found {
    /// The writes that nobody reads.
    dead: Vec<(Span, PlaceId)>,
    /// The calls that stand alone, with what is certain to be overwritten after each.
    calls: Vec<(ProcId, Places)>,
}

/// Keeps what is overwritten on another way, too.
fn meet(known: &mut Overwritten, other: &Places) {
    match known {
        Some(known) => known.0.intersect_with(&other.0),
        None => *known = Some(other.clone()),
    }
}

struct Judge<'a, 'p> {
    facts: &'a Facts<'p>,
    unit: &'a ScriptUnit,
    clamping: &'a FxHashSet<VarId>,
    procedures: Vec<Called>,
    /// The places of each cell.
    of_cell: FxHashMap<CellId, Vec<PlaceId>>,
    /// The places that are reached through each name.
    through: FxHashMap<PlaceId, Vec<PlaceId>>,
    /// The places that only one body has.
    locals: Vec<PlaceId>,
}

impl<'a, 'p> Judge<'a, 'p> {
    fn new(facts: &'a Facts<'p>, unit: &'a ScriptUnit, script: ScriptId, clamping: &'a FxHashSet<VarId>) -> Self {
        let graphs = &facts.world.graphs[script.index()].procedures;
        let mut procedures: Vec<Called> = graphs
            .iter()
            .map(|graph| {
                let mut steps = graph.blocks.iter().flat_map(|block| &block.steps);
                let (overwrites, then) = (Places::none_of(unit), Places::none_of(unit));
                Called { reads: FxHashSet::default(), opens: steps.any(|step| opens(unit, step)), overwrites, then }
            })
            .collect();
        for access in facts.world.accesses[script.index()].iter().filter(|access| !access.writes()) {
            if let Body::Procedure(id) = access.body {
                procedures[id.index()].reads.insert(access.cell);
            }
        }
        take_over(&mut procedures, &graphs.iter().map(|graph| graph.calls.clone()).collect::<Vec<_>>());
        let mut judge = Self {
            facts,
            unit,
            clamping,
            procedures,
            of_cell: FxHashMap::default(),
            through: FxHashMap::default(),
            locals: Vec::new(),
        };
        judge.sort_places();
        // Procedures that call each other: from nothing upwards, as far as two rounds see.
        for _ in 0..2 {
            for (at, graph) in graphs.iter().enumerate() {
                let none = Places::none_of(unit);
                let mut first = judge.at_start(graph, &none).swap_remove(0).unwrap_or(none);
                first.remove(&judge.locals);
                judge.procedures[at].overwrites = first;
            }
        }
        judge.find_what_comes_then(script);
        judge
    }

    fn sort_places(&mut self) {
        for at in 0..self.unit.places.len() {
            let place = PlaceId::at(at);
            if let Some(cell) = self.facts.project.cell_of(self.unit, place) {
                self.of_cell.entry(cell).or_default().push(place);
            }
            if let Place::Variable(_, Base::Held(held)) = self.unit.place(place) {
                self.through.entry(held).or_default().push(place);
            }
            if self.is_local(place) {
                self.locals.push(place);
            }
        }
    }

    /// What every call of a procedure is followed by, to the greatest fixpoint, as far as calls that stand alone go: a value
    /// that is asked for may be part of anything.
    fn find_what_comes_then(&mut self, script: ScriptId) {
        let graphs = &self.facts.world.graphs[script.index()];
        if graphs.procedures.is_empty() {
            return;
        }
        let none = Places::none_of(self.unit);
        let mut then: Vec<Overwritten> = vec![None; graphs.procedures.len()];
        let mut open: BTreeSet<usize> = BTreeSet::new();
        for graph in &graphs.handlers {
            self.follow_calls(graph, &none, &mut then, &mut open);
        }
        // A value may be asked for anywhere, and what nothing calls counts as code.
        let alone = |at: usize| self.unit.procedures[at].gives.is_some() || forks(&graphs.procedures[at]);
        for at in 0..then.len() {
            self.follow_open_calls(&graphs.procedures, &alone, &mut then, &mut open);
            if alone(at) || then[at].is_none() {
                self.follow_calls(&graphs.procedures[at], &none, &mut then, &mut open);
            }
        }
        self.follow_open_calls(&graphs.procedures, &alone, &mut then, &mut open);
        let then: Vec<Overwritten> =
            then.into_iter().enumerate().map(|(at, then)| then.filter(|_| !alone(at))).collect();
        for (called, then) in self.procedures.iter_mut().zip(then) {
            called.then = then.unwrap_or_else(|| none.clone());
        }
    }

    /// Most procedures call what stands below them, so those further up are taken first.
    fn follow_open_calls(
        &self,
        procedures: &[Graph],
        alone: &impl Fn(usize) -> bool,
        then: &mut [Overwritten],
        open: &mut BTreeSet<usize>,
    ) {
        while let Some(at) = open.pop_first() {
            let ends = then[at].clone().filter(|_| !alone(at)).unwrap_or_else(|| Places::none_of(self.unit));
            self.follow_calls(&procedures[at], &ends, then, open);
        }
    }

    /// Takes in what is certain to be overwritten after the calls in a body; those whose procedures are followed by less than
    /// before are open again.
    fn follow_calls(&self, graph: &Graph, ends: &Places, then: &mut [Overwritten], open: &mut BTreeSet<usize>) {
        let at_start = self.at_start(graph, ends);
        let mut found = Found::default();
        graph.blocks.iter().for_each(|block| drop(self.block(block, &at_start, ends, &mut found)));
        for (id, mut after) in found.calls {
            after.remove(&self.locals);
            let count = |then: &Overwritten| then.as_ref().map(|then| then.0.count_ones(..));
            let before = count(&then[id.index()]);
            meet(&mut then[id.index()], &after);
            if count(&then[id.index()]) != before {
                open.insert(id.index());
            }
        }
    }

    /// Whether a place is reached through a name that only its own body has.
    fn is_local(&self, mut place: PlaceId) -> bool {
        while let Place::Variable(_, Base::Held(held)) = self.unit.place(place) {
            place = held;
        }
        matches!(self.unit.place(place), Place::Local(_) | Place::Was)
    }

    /// What is certain to be overwritten, by block: a backward must-analysis over the graph, to its greatest fixpoint. Blocks stand in
    /// reverse postorder, so after the first round only what leads back to a loop's head may be another.
    fn at_start(&self, graph: &Graph, ends: &Places) -> Vec<Overwritten> {
        let count = graph.blocks.len();
        let mut at_start: Vec<Overwritten> = vec![None; count];
        let mut changed: Option<FixedBitSet> = None;
        loop {
            let mut now = FixedBitSet::with_capacity(count);
            for (at, block) in graph.blocks.iter().enumerate().rev() {
                let is_due = changed.as_ref().is_none_or(|before| {
                    let mut next = block.exit.successors().into_iter().map(BlockId::index);
                    next.any(|next| if next > at { now.contains(next) } else { before.contains(next) })
                });
                if is_due {
                    let state = self.block(block, &at_start, ends, &mut Found::default());
                    now.set(at, state != at_start[at]);
                    at_start[at] = state;
                }
            }
            if now.is_clear() {
                return at_start;
            }
            changed = Some(now);
        }
    }

    fn dead(&self, graph: &Graph, ends: &Places) -> Vec<(Span, PlaceId)> {
        let at_start = self.at_start(graph, ends);
        let mut found = Found::default();
        // What no way leads to is told as that.
        for block in graph.from(BlockId(0)) {
            self.block(block, &at_start, ends, &mut found);
        }
        let mut dead = found.dead;
        dead.sort_unstable();
        dead.dedup();
        dead
    }

    fn block(&self, block: &Block, at_start: &[Overwritten], ends: &Places, found: &mut Found) -> Overwritten {
        let mut state: Overwritten = None;
        let successors = block.exit.successors();
        for next in &successors {
            if let Some(theirs) = &at_start[next.index()] {
                meet(&mut state, theirs);
            }
        }
        match block.exit {
            Exit::End | Exit::Return(_) => state = Some(ends.clone()),
            Exit::Choose(_) | Exit::Restart | Exit::Gone => state = Some(Places::none_of(self.unit)),
            _ => {}
        }
        let mut state = state?;
        for expr in exit_reads(&block.exit).into_iter().chain(offered_texts(&block.exit)) {
            self.reads(expr, &mut state);
        }
        if let Exit::Each { place, .. } = &block.exit {
            self.rebound(*place, &mut state);
        }
        for step in block.steps.iter().rev() {
            self.step(step, &mut state, found);
        }
        Some(state)
    }

    fn step(&self, step: &Step, state: &mut Places, found: &mut Found) {
        if opens(self.unit, step) {
            state.0.clear();
        }
        if let StepKind::Call(call) = step.kind
            && let Meaning::Procedure(id) = self.unit.meaning(call)
        {
            found.calls.push((id, state.clone()));
            self.called(id, state);
            state.0.union_with(&self.procedures[id.index()].overwrites.0);
            // The call itself is through; what its arguments read comes before it.
            if let ExprKind::Call(_, arguments) = &self.unit.tree.expr(call).kind {
                arguments.iter().for_each(|&argument| self.reads(argument, state));
            }
            return;
        }
        if let StepKind::Assign { place, op, axis, .. } = &step.kind {
            if state.contains(*place) {
                found.dead.push((step.span, *place));
            }
            self.rebound(*place, state);
            if *op == AssignOp::Set && axis.is_none() && self.is_kept(*place) {
                state.insert(*place);
            }
        }
        if let StepKind::Clear { place, .. } = &step.kind {
            self.rebound(*place, state);
            if self.is_kept(*place) {
                state.insert(*place);
            }
        }
        if let StepKind::Let { place, .. } | StepKind::Bind { place } | StepKind::Spawn { place: Some(place), .. } =
            &step.kind
        {
            self.rebound(*place, state);
        }
        let parts = parts(step);
        parts.reads.into_iter().for_each(|expr| self.reads(expr, state));
        if let Some((target, op, value)) = parts.target {
            value.into_iter().for_each(|expr| self.reads(expr, state));
            if op != AssignOp::Set
                || self.unit.place_of(target).is_some_and(|place| {
                    matches!(self.unit.meaning(target), Meaning::Axis(..)) && state.contains(place)
                })
            {
                self.reads(target, state);
            }
            self.way(target, state);
        }
    }

    /// Whether what a place is given waits there to be read: a bound takes hold at once of what is clamped to it.
    fn is_kept(&self, place: PlaceId) -> bool {
        match self.unit.place(place) {
            Place::Private(_) => true,
            Place::Variable(id, _) => !self.clamping.contains(&id),
            _ => false,
        }
    }

    /// A name that takes another instance ends what is known of the variables behind it.
    fn rebound(&self, place: PlaceId, state: &mut Places) {
        state.remove(self.through.get(&place).map_or(&[], Vec::as_slice));
    }

    /// The names that a target goes through are read.
    fn way(&self, target: ExprId, state: &mut Places) {
        let mut place = self.unit.place_of(target);
        while let Some(Place::Variable(_, Base::Held(held))) = place.map(|place| self.unit.place(place)) {
            self.read(held, state);
            place = Some(held);
        }
    }

    fn reads(&self, expr: ExprId, state: &mut Places) {
        walk_expr(self.unit, expr, &mut |inner| match self.unit.meaning(inner) {
            Meaning::Value(place) | Meaning::Axis(place, _) => {
                self.read(place, state);
                self.way(inner, state);
            }
            Meaning::Bound(place, end) => {
                if let Place::Variable(variable, _) = self.unit.place(place)
                    && let Some(Bound::Variable(bound)) = self.facts.registry().var(variable).bound(end)
                {
                    self.read_cell(CellId(bound.0), state);
                }
            }
            Meaning::Procedure(id) => self.called(id, state),
            _ => {}
        });
    }

    fn called(&self, id: ProcId, state: &mut Places) {
        let called = &self.procedures[id.index()];
        if called.opens {
            state.0.clear();
        }
        called.reads.iter().for_each(|&cell| self.read_cell(cell, state));
    }

    fn read(&self, place: PlaceId, state: &mut Places) {
        match self.facts.project.cell_of(self.unit, place) {
            Some(cell) => self.read_cell(cell, state),
            None => state.remove(&[place]),
        }
    }

    fn read_cell(&self, cell: CellId, state: &mut Places) {
        state.remove(self.of_cell.get(&cell).map_or(&[], Vec::as_slice));
    }
}

/// What those do that a procedure calls counts as done by it; until nothing is added. Those further down are taken first, since
/// most procedures call what stands below them.
fn take_over(procedures: &mut [Called], calls: &[Vec<ProcId>]) {
    let mut changed = true;
    while std::mem::take(&mut changed) {
        for (at, callees) in calls.iter().enumerate().rev() {
            for callee in callees.iter().map(|id| id.index()) {
                let Ok([mine, theirs]) = procedures.get_disjoint_mut([at, callee]) else { continue };
                let before = (mine.reads.len(), mine.opens);
                mine.reads.extend(&theirs.reads);
                mine.opens |= theirs.opens;
                changed |= before != (mine.reads.len(), mine.opens);
            }
        }
    }
}

/// Whether an `after` block of a body outlives its call.
fn forks(graph: &Graph) -> bool {
    graph.blocks.iter().any(|block| matches!(block.exit, Exit::Fork { .. }))
}

/// Whether a step lets others read.
fn opens(unit: &ScriptUnit, step: &Step) -> bool {
    certain::waits(unit, &step.kind) || matches!(step.kind, StepKind::Spawn { .. } | StepKind::Remove(_))
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    const TURNS: &str = r#"[variables.tide]
height = { type = "int", scope = "global", default = 0, engine = "reads" }
turns = { type = "int", scope = "global", default = 0, engine = "reads" }
"#;

    #[test]
    fn waits_reads_and_calls_keep_a_write_alive() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 6
engine = "reads"
"#,
            &[r#"script tides for tide

on bell {
    height = 1 // ~ unused/dead-write
    height = 2
    note "{height}"
    height = 3
    wait 1s
    height = 4
    look()
    height = 5
}

on touched(other) {
    height = 1
    if other is mailboat {
        height = 2
    }
}

on bumped(other) {
    height = 1 // ~ unused/dead-write
    if other is mailboat {
        height = 2
    } else {
        height = 3
    }
}

proc look() {
    note "{height}"
}
"#],
        );
    }

    #[test]
    fn what_a_procedure_leaves_is_written_again_after_every_call() {
        expect(
            TURNS,
            &[r#"script tides for tide

on bell {
    calm(true)
    height = 2
    turns = 3
}

on touched(other) {
    calm(false)
    height = 4
}

proc calm(deep: bool) {
    height = 0 // ~ unused/dead-write
    turns = 0
    if deep { return }
    lower()
}

proc lower() {
    height = 1 // ~ unused/dead-write
}
"#],
        );
    }

    #[test]
    fn what_a_procedure_leaves_counts_where_one_call_lets_it_be_read() {
        expect(
            TURNS,
            &[r#"script tides for tide

on bell {
    calm()
    height = 2
}

on touched(other) {
    note "{depth()}"
    turn()
    turns = 3 // ~ unused/dead-write
    later()
    turns = 4
}

proc depth() -> int {
    turn()
    calm()
    return height
}

proc calm() {
    height = 0
}

proc turn() {
    turns = 5
}

proc later() {
    after 1s { turns = 6 }
}
"#],
        );
    }

    #[test]
    fn a_procedure_can_write_it_again() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 6
engine = "reads"
"#,
            &[r#"script tides for tide

on bell {
    height = 1 // ~ unused/dead-write
    flood()
    height = 2
    rise()
    height = 3 // ~ unused/dead-write
    rest()
    height = 4
}

proc flood() {
    height = 6 // ~ unused/dead-write
}

proc rise() {
    height = min(height + 1, 6) // ~ unused/dead-write
}

proc rest() {
    note "nothing"
}
"#],
        );
    }

    #[test]
    fn a_bound_takes_hold_at_once_of_what_is_clamped_to_it() {
        let bounded = |overflow: &str, mark: &str| {
            expect(
                &format!(
                    r#"[variables.tide]
wall = {{ type = "int", scope = "global", default = 6, engine = "reads" }}
height = {{ type = "int", scope = "global", default = 0, max = "tide.wall", overflow = "{overflow}", engine = "both" }}
"#
                ),
                &[&format!("script tides for tide\n\non bell {{\n    wall = 8{mark}\n    wall = 9\n}}\n")],
            );
        };
        bounded("clamp", "");
        bounded("error", " // ~ unused/dead-write");
    }
}
