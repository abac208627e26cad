//! Places that a body gives one written value on one way and another on another, and asks about further on: `rank = "rich"`
//! where there is enough, and `if rank == "rich" { … }`. What they hold tells which way was taken.

use super::access::{exit_reads, is_number, walk_expr};
use super::graph::{Block, BlockId, Exit, Graph, Step, StepKind};
use crate::project::{Base, Place, PlaceId, ScriptUnit};
use crate::script::ast::*;
use rustc_hash::FxHashSet;

/// How many writes of a body are looked at.
const MOST_WRITES: usize = 16;
/// How many times a number among these places is given something else.
const MOST_COMPUTED: usize = 2;
/// How many such places of a body tell ways apart.
const MOST_CHOSEN: usize = 3;

/// A place by which the ways of a body can be told apart.
#[derive(Clone, Copy, Debug)]
pub struct Chosen {
    /// The place.
    pub place: PlaceId,
    /// The last block that asks about it.
    pub until: BlockId,
}

/// The places by which the ways of a body can be told apart.
#[must_use]
pub fn chosen(unit: &ScriptUnit, graph: &Graph) -> Vec<Chosen> {
    let mut chosen: Vec<Chosen> = Vec::new();
    let blocks = (0..).map(BlockId).zip(&graph.blocks).skip(1);
    let writes = blocks.flat_map(|(at, block)| block.steps.iter().map(move |step| (at, step)));
    let writes = writes.filter_map(|(at, step)| Some((at, given(unit, step)?)));
    for (at, place) in writes.take(MOST_WRITES) {
        let known = chosen.iter().position(|known| known.place == place);
        if known.is_none() && (chosen.len() == MOST_CHOSEN || !is_one_of_few(unit, graph, place)) {
            continue;
        }
        let Some(until) = last_asking_behind(unit, graph, at, place) else { continue };
        match known {
            Some(known) => chosen[known].until = until.max(chosen[known].until),
            None => chosen.push(Chosen { place, until }),
        }
    }
    chosen
}

/// The place that a step gives a value which is written out.
fn given(unit: &ScriptUnit, step: &Step) -> Option<PlaceId> {
    let StepKind::Assign { place, axis: None, op: AssignOp::Set, value, .. } = step.kind else { return None };
    let is_meant =
        matches!(unit.place(place), Place::Local(_) | Place::Private(_) | Place::Variable(_, Base::One | Base::Own));
    (is_meant && is_written(unit, value)).then_some(place)
}

/// Whether a body gives a place hardly anything but what is written out, if it is a number: others would be too many to tell apart,
/// above all in loops.
fn is_one_of_few(unit: &ScriptUnit, graph: &Graph, place: PlaceId) -> bool {
    let is_computed = |step: &Step| match step.kind {
        StepKind::Assign { target, place: given, op, value, .. } if given == place => {
            unit.ty(target).is_numeric() && (op != AssignOp::Set || !is_written(unit, value))
        }
        _ => false,
    };
    let computed = |block: &Block| block.steps.iter().filter(|step| is_computed(step)).count();
    let in_loop = |block: &&Block| block.loops > 0;
    graph.blocks.iter().filter(in_loop).all(|block| computed(block) == 0)
        && graph.blocks.iter().map(computed).sum::<usize>() <= MOST_COMPUTED
}

/// Whether a value is written out, also behind the name of a `let`.
fn is_written(unit: &ScriptUnit, value: ExprId) -> bool {
    is_number(unit, value)
        || match &unit.tree.expr(unit.behind(value)).kind {
            ExprKind::Bool(_) => true,
            ExprKind::Text(parts) => parts.iter().all(|part| matches!(part, TextPart::Plain(_))),
            _ => false,
        }
}

/// The last block that asks about a place where a way leads from a write, and other ways lead as well.
fn last_asking_behind(unit: &ScriptUnit, graph: &Graph, at: BlockId, place: PlaceId) -> Option<BlockId> {
    let later =
        |from: BlockId| graph.blocks[from.index()].exit.successors_now().into_iter().filter(move |next| *next > from);
    let reached = |first: BlockId, around: Option<BlockId>| {
        let (mut seen, mut open) = (FxHashSet::default(), vec![first]);
        while let Some(block) = open.pop() {
            if Some(block) != around && seen.insert(block) {
                open.extend(later(block));
            }
        }
        seen
    };
    let mut behind = reached(at, None);
    behind.remove(&at);
    behind.retain(|&block| asks(unit, &graph.blocks[block.index()], place));
    if behind.is_empty() {
        return None;
    }
    let beside = reached(BlockId(0), Some(at));
    behind.into_iter().filter(|block| beside.contains(block)).max()
}

/// Whether a block asks about a place in its test, or works out something from the number there.
fn asks(unit: &ScriptUnit, block: &Block, place: PlaceId) -> bool {
    let names = |expr: ExprId| {
        let mut found = false;
        walk_expr(unit, expr, &mut |inner| found |= unit.place_of(inner) == Some(place));
        found
    };
    let works_out = |step: &Step| match &step.kind {
        StepKind::Assign { value, .. } | StepKind::Let { value, .. } => unit.ty(*value).is_numeric() && names(*value),
        StepKind::Send { arguments, .. } => arguments.iter().any(|&value| unit.ty(value).is_numeric() && names(value)),
        _ => false,
    };
    let is_tested = !matches!(block.exit, Exit::Return(_)) && exit_reads(&block.exit).into_iter().any(names);
    is_tested || block.steps.iter().any(works_out)
}
