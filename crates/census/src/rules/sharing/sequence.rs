//! The order in which a handler comes to what stands in it and in the procedures that it calls: a procedure's body stands
//! where it is called, for the first time or for the last.

use crate::flow::called::{by_blocks, by_expr};
use crate::project::ProcId;
use crate::rules::Facts;
use crate::rules::facts::HandlerView;
use crate::script::ast::ExprId;
use crate::source::Span;
use rustc_hash::FxHashSet;

/// Which of the calls of a procedure decides where its body stands.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Counts {
    /// The first.
    First,
    /// The last.
    Last,
}

/// Where something stands: the turn of the stretch that it lies in, and its place in that.
pub type Turn = (i64, u32);

/// The order of what a handler comes to.
pub struct Sequence {
    /// By their beginning in the text: stretches without a call that is gone into, each with its turn.
    stretches: Vec<(u32, i64)>,
}

/// What is to be done to find it.
enum Task {
    /// A stretch begins here.
    Begin(u32),
    /// A procedure's body comes, or the handler's.
    Body(Option<ProcId>),
}

impl Sequence {
    /// That of a handler.
    #[must_use]
    pub fn new(facts: &Facts<'_>, handler: &HandlerView<'_, '_>, counts: Counts) -> Self {
        let mut stretches: Vec<(u32, i64)> = Vec::new();
        let mut seen: FxHashSet<ProcId> = FxHashSet::default();
        let calls_none = handler.unit.procedures.is_empty();
        let mut tasks = if calls_none { Vec::new() } else { vec![Task::Body(None)] };
        while let Some(task) = tasks.pop() {
            match task {
                Task::Begin(at) => stretches.push((at, stretches.len() as i64 * counts.sign())),
                Task::Body(Some(id)) if !seen.insert(id) => {}
                Task::Body(body) => {
                    let mut of_body = tasks_of(facts, handler, body);
                    if counts == Counts::First {
                        of_body.reverse();
                    }
                    tasks.append(&mut of_body);
                }
            }
        }
        stretches.sort_unstable();
        Self { stretches }
    }

    /// When the handler comes to a place.
    #[must_use]
    pub fn turn(&self, at: Span) -> Turn {
        let behind = self.stretches.partition_point(|&(begin, _)| begin <= at.start);
        let turn = behind.checked_sub(1).map_or(0, |before| self.stretches[before].1);
        (turn, at.start)
    }
}

impl Counts {
    /// The last ones are found from the end on.
    fn sign(self) -> i64 {
        if self == Self::First { 1 } else { -1 }
    }
}

/// What there is to do in a body, in order: each call comes to its procedure, and what stands behind it comes after that.
fn tasks_of(facts: &Facts<'_>, handler: &HandlerView<'_, '_>, body: Option<ProcId>) -> Vec<Task> {
    let unit = handler.unit;
    let (begin, graph) = match body {
        Some(id) => (unit.tree.procedures[id.index()].span.start, facts.world.procedure_graph(handler.script, id)),
        None => (handler.tree.span.start, handler.graph),
    };
    let mut calls = by_blocks(unit, &graph.blocks);
    calls.extend(handler.tree.when.filter(|_| body.is_none()).into_iter().flat_map(|when| by_expr(unit, when)));
    let at = |call: ExprId| unit.tree.expr(call).span;
    let mut calls: Vec<(Span, ProcId)> = calls.into_iter().map(|called| (at(called.call), called.procedure)).collect();
    calls.sort_unstable_by_key(|(call, _)| call.end);
    let behind = calls.into_iter().flat_map(|(call, id)| [Task::Body(Some(id)), Task::Begin(call.end)]);
    std::iter::once(Task::Begin(begin)).chain(behind).collect()
}
