//! Live variables (Kildall, 1973): where in a body nobody asks for a local's number any more.
//!
//! How a local relates to others is of no use from there on, and the lists of relations are short.

use super::access::{exit_reads, offered_texts, parts, walk_expr};
use super::graph::{Block, Exit, Graph, Step, StepKind};
use crate::project::{Place, PlaceId, ScriptUnit};
use crate::registry::Type;
use crate::script::ast::{AssignOp, ExprId, LocalKind};
use rustc_hash::{FxHashMap, FxHashSet};
use smallvec::{SmallVec, smallvec};

/// A set of locals, by their number in the body.
#[derive(Clone, PartialEq)]
struct Set(SmallVec<[u64; 1]>);

impl Set {
    fn none(of: usize) -> Self {
        Self(smallvec![0; of.div_ceil(64)])
    }

    fn insert(&mut self, at: usize) {
        self.0[at / 64] |= 1 << (at % 64);
    }

    fn has(&self, at: usize) -> bool {
        self.0[at / 64] & 1 << (at % 64) != 0
    }

    fn add(&mut self, other: &Self) {
        self.0.iter_mut().zip(&other.0).for_each(|(mine, theirs)| *mine |= theirs);
    }

    fn remove(&mut self, other: &Self) {
        self.0.iter_mut().zip(&other.0).for_each(|(mine, theirs)| *mine &= !theirs);
    }
}

/// The locals of a body that hold numbers.
struct Locals<'a> {
    unit: &'a ScriptUnit,
    all: Vec<PlaceId>,
    number: FxHashMap<PlaceId, usize>,
}

impl Locals<'_> {
    fn of_expr(&self, expr: ExprId, set: &mut Set) {
        walk_expr(self.unit, expr, &mut |inner| {
            if let Some(&at) = self.unit.place_of(inner).and_then(|place| self.number.get(&place)) {
                set.insert(at);
            }
        });
    }

    /// What a step reads, and what it gives a new value.
    fn of_step(&self, step: &Step) -> (Set, Set) {
        let (mut uses, mut gives) = (Set::none(self.all.len()), Set::none(self.all.len()));
        let parts = parts(step);
        parts.reads.iter().for_each(|&read| self.of_expr(read, &mut uses));
        if let Some((target, op, value)) = parts.target {
            value.into_iter().for_each(|value| self.of_expr(value, &mut uses));
            if op != AssignOp::Set {
                self.of_expr(target, &mut uses);
            }
        }
        let (StepKind::Let { place, .. } | StepKind::Assign { place, .. }) = step.kind else { return (uses, gives) };
        if let Some(&at) = self.number.get(&place) {
            gives.insert(at);
        }
        (uses, gives)
    }

    fn of_exit(&self, exit: &Exit) -> Set {
        let mut uses = Set::none(self.all.len());
        exit_reads(exit).into_iter().chain(offered_texts(exit)).for_each(|read| self.of_expr(read, &mut uses));
        uses
    }

    fn among(&self, set: &Set) -> impl Iterator<Item = PlaceId> {
        (0..self.all.len()).filter(|&at| set.has(at)).map(|at| self.all[at])
    }
}

/// Says in each block of a graph which locals are asked for no more, and from where on.
pub(super) fn mark_last_uses(unit: &ScriptUnit, graph: &mut Graph) {
    let locals = locals(unit, graph);
    if locals.all.is_empty() {
        return;
    }
    let live = live_at_entry(&locals, graph);
    let none = Set::none(locals.all.len());
    let mut ended: Vec<Set> = vec![none.clone(); graph.blocks.len()];
    for block in &mut graph.blocks {
        let mut after = live_after(block, &live, &none);
        let mut at_exit = locals.of_exit(&block.exit);
        at_exit.add(&after);
        block.exit.successors().iter().for_each(|next| ended[next.index()].add(&at_exit));
        after = at_exit;
        let mut last: Vec<(u32, PlaceId)> = Vec::new();
        for (at, step) in (1..).zip(&block.steps).collect::<Vec<_>>().into_iter().rev() {
            let (uses, gives) = locals.of_step(step);
            let mut over = uses.clone();
            over.add(&gives);
            over.remove(&after);
            last.extend(locals.among(&over).map(|place| (at, place)));
            after.remove(&gives);
            after.add(&uses);
        }
        last.reverse();
        block.last_uses = last.into();
    }
    for (at, block) in graph.blocks.iter_mut().enumerate() {
        ended[at].remove(&live[at]);
        let begin: Vec<(u32, PlaceId)> = locals.among(&ended[at]).map(|place| (0, place)).collect();
        if !begin.is_empty() {
            block.last_uses = begin.into_iter().chain(block.last_uses.iter().copied()).collect();
        }
    }
}

/// The locals that a graph names, but for those in tests that a flag is given: what the flag says is asked for again.
fn locals<'a>(unit: &'a ScriptUnit, graph: &Graph) -> Locals<'a> {
    let mut locals = Locals { unit, all: Vec::new(), number: FxHashMap::default() };
    let steps = || graph.blocks.iter().flat_map(|block| &block.steps);
    let given = steps().filter_map(|step| match step.kind {
        StepKind::Let { place, value } | StepKind::Assign { place, value, .. } => Some((place, value)),
        _ => None,
    });
    let mut remembered: FxHashSet<PlaceId> = FxHashSet::default();
    for (_, value) in given.clone().filter(|&(_, value)| unit.ty(value) == Type::Bool) {
        walk_expr(unit, value, &mut |inner| remembered.extend(unit.place_of(inner)));
    }
    let mut named: Vec<PlaceId> = given.map(|(place, _)| place).collect();
    let mut read = |expr: ExprId| walk_expr(unit, expr, &mut |inner| named.extend(unit.place_of(inner)));
    for parts in steps().map(parts) {
        parts.reads.into_iter().chain(parts.target.and_then(|(.., value)| value)).for_each(&mut read);
    }
    graph.blocks.iter().flat_map(|block| exit_reads(&block.exit)).for_each(&mut read);
    for place in named {
        let Place::Local(local) = unit.place(place) else { continue };
        let kind = unit.tree.local(local).kind;
        let numeric = unit.place_types[place.index()].is_numeric();
        let meant = numeric && matches!(kind, LocalKind::Let | LocalKind::Parameter) && !remembered.contains(&place);
        if meant && !locals.number.contains_key(&place) {
            locals.number.insert(place, locals.all.len());
            locals.all.push(place);
        }
    }
    locals
}

fn live_after(block: &Block, live: &[Set], none: &Set) -> Set {
    let mut after = none.clone();
    block.exit.successors().iter().for_each(|next| after.add(&live[next.index()]));
    after
}

/// What each block, or one after it, asks for before it is given anew.
fn live_at_entry(locals: &Locals<'_>, graph: &Graph) -> Vec<Set> {
    let none = Set::none(locals.all.len());
    let mut uses: Vec<Set> = Vec::with_capacity(graph.blocks.len());
    let mut gives: Vec<Set> = Vec::with_capacity(graph.blocks.len());
    for block in &graph.blocks {
        let (mut used, mut given) = (locals.of_exit(&block.exit), none.clone());
        for step in block.steps.iter().rev() {
            let (reads, writes) = locals.of_step(step);
            used.remove(&writes);
            used.add(&reads);
            given.add(&writes);
        }
        uses.push(used);
        gives.push(given);
    }
    let mut live = uses.clone();
    let mut grows = true;
    while grows {
        grows = false;
        for at in (0..graph.blocks.len()).rev() {
            let mut all = live_after(&graph.blocks[at], &live, &none);
            all.remove(&gives[at]);
            all.add(&uses[at]);
            if all != live[at] {
                live[at] = all;
                grows = true;
            }
        }
    }
    live
}
