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

    fn is_empty(&self) -> bool {
        self.0.iter().all(|&bits| bits == 0)
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

    /// What a step reads, and what it gives a new value, if any of that is a local.
    fn of_step(&self, step: &Step) -> Option<(Set, Set)> {
        let (mut uses, mut gives) = (Set::none(self.all.len()), Set::none(self.all.len()));
        let parts = parts(step);
        parts.reads.iter().for_each(|&read| self.of_expr(read, &mut uses));
        if let Some((target, op, value)) = parts.target {
            value.into_iter().for_each(|value| self.of_expr(value, &mut uses));
            if op != AssignOp::Set {
                self.of_expr(target, &mut uses);
            }
        }
        if let StepKind::Let { place, .. } | StepKind::Assign { place, .. } = step.kind
            && let Some(&at) = self.number.get(&place)
        {
            gives.insert(at);
        }
        (!uses.is_empty() || !gives.is_empty()).then_some((uses, gives))
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

/// What a block does with the locals.
struct Uses {
    /// By step: what it reads, and what it gives a new value; nothing where that is no local.
    steps: Vec<Option<(Set, Set)>>,
    /// What its exit reads.
    exit: Set,
    next: Vec<usize>,
}

impl Uses {
    fn of(locals: &Locals<'_>, block: &Block) -> Self {
        Self {
            steps: block.steps.iter().map(|step| locals.of_step(step)).collect(),
            exit: locals.of_exit(&block.exit),
            next: block.exit.successors().into_iter().map(|next| next.index()).collect(),
        }
    }

    /// What is asked for at the block's begin, if this is asked for at its end.
    fn before(&self, after: &Set) -> Set {
        let mut live = after.clone();
        live.add(&self.exit);
        for (reads, gives) in self.steps.iter().rev().flatten() {
            live.remove(gives);
            live.add(reads);
        }
        live
    }
}

/// Says in each block of a graph which locals are asked for no more, and from where on.
pub(super) fn mark_last_uses(unit: &ScriptUnit, graph: &mut Graph) {
    let locals = locals(unit, graph);
    if locals.all.is_empty() {
        return;
    }
    let uses: Vec<Uses> = graph.blocks.iter().map(|block| Uses::of(&locals, block)).collect();
    let none = Set::none(locals.all.len());
    let live = live_at_entry(&uses, &none);
    let mut ended: Vec<Set> = vec![none.clone(); uses.len()];
    for (block, uses) in graph.blocks.iter_mut().zip(&uses) {
        let mut after = live_after(uses, &live, &none);
        after.add(&uses.exit);
        uses.next.iter().for_each(|&next| ended[next].add(&after));
        let mut last: Vec<(u32, PlaceId)> = Vec::new();
        let steps: Vec<_> = (1_u32..).zip(&uses.steps).collect();
        for (step, of_step) in steps.into_iter().rev() {
            let Some((reads, gives)) = of_step else { continue };
            let mut over = reads.clone();
            over.add(gives);
            over.remove(&after);
            last.extend(locals.among(&over).map(|place| (step, place)));
            after.remove(gives);
            after.add(reads);
        }
        last.reverse();
        block.last_uses = last.into();
    }
    for (at, block) in graph.blocks.iter_mut().enumerate() {
        ended[at].remove(&live[at]);
        if ended[at] != none {
            let begin = locals.among(&ended[at]).map(|place| (0, place));
            block.last_uses = begin.chain(block.last_uses.iter().copied()).collect();
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

fn live_after(uses: &Uses, live: &[Set], none: &Set) -> Set {
    let mut after = none.clone();
    uses.next.iter().for_each(|&next| after.add(&live[next]));
    after
}

/// What each block, or one after it, asks for before it is given anew.
fn live_at_entry(uses: &[Uses], none: &Set) -> Vec<Set> {
    let mut live = vec![none.clone(); uses.len()];
    let mut grows = true;
    while grows {
        grows = false;
        for at in (0..uses.len()).rev() {
            let before = uses[at].before(&live_after(&uses[at], &live, none));
            if before != live[at] {
                live[at] = before;
                grows = true;
            }
        }
    }
    live
}
