//! Constants that go round: handlers `on changed` that set one after another, and come back to the first.

use super::feedback::changed;
use crate::flow::access::{AccessKind, Body};
use crate::flow::value::Value;
use crate::project::{CellId, is_constant};
use crate::rules::Facts;
use crate::rules::facts::HandlerView;
use crate::script::ast::AssignOp;
use crate::source::Span;
use rustc_hash::FxHashSet;

/// How many writes a circle may have.
const LONGEST: usize = 8;
/// How many steps are taken in looking for circles.
const MOST_STEPS: usize = 10_000;

/// A write of a constant in answer to a change.
#[derive(Clone)]
pub struct Write {
    /// The handler, by its place among those that answer changes.
    pub handler: usize,
    /// What it writes.
    pub cell: CellId,
    /// The statement.
    pub at: Span,
    value: Value,
}

/// Circles of writes, each of which sets off the next, where every variable takes another value again and again.
pub fn rounds(facts: &Facts<'_>, handlers: &[HandlerView<'_, '_>]) -> Vec<Vec<Write>> {
    let writes = in_circles(facts, handlers, constants(facts, handlers));
    let next: Vec<Vec<usize>> = writes.iter().map(|write| answers(facts, handlers, &writes, write)).collect();
    let mut search = Search { writes: &writes, next: &next, found: Vec::new(), steps: 0 };
    for start in 0..writes.len() {
        search.extend(&mut vec![start]);
    }
    search.found
}

/// The constants that handlers write to what others, or they themselves, listen to.
fn constants(facts: &Facts<'_>, handlers: &[HandlerView<'_, '_>]) -> Vec<Write> {
    let heard: FxHashSet<CellId> = handlers.iter().filter_map(|handler| changed(facts, handler)).collect();
    let mut writes = Vec::new();
    for (index, handler) in handlers.iter().enumerate() {
        for access in facts.accesses_of(handler) {
            let here = !matches!(access.body, Body::Handler(at) if at != handler.index);
            if let AccessKind::Write(AssignOp::Set, Some(value)) = access.kind
                && let value = handler.unit.behind(value)
                && here
                && heard.contains(&access.cell)
                && is_constant(handler.unit, &handler.unit.tree, value)
            {
                let value = facts.world.value_at_entry(handler.id, value);
                if value.is_single() {
                    writes.push(Write { handler: index, cell: access.cell, at: access.statement, value });
                }
            }
        }
    }
    writes
}

/// Those that can be part of a circle: something sets them off, and they set something off.
fn in_circles(facts: &Facts<'_>, handlers: &[HandlerView<'_, '_>], mut writes: Vec<Write>) -> Vec<Write> {
    loop {
        let known = writes.len();
        let written: FxHashSet<CellId> = writes.iter().map(|write| write.cell).collect();
        let from = |write: &Write| changed(facts, &handlers[write.handler]);
        let leading: FxHashSet<CellId> = writes.iter().filter_map(from).collect();
        writes.retain(|write| leading.contains(&write.cell) && from(write).is_some_and(|cell| written.contains(&cell)));
        if writes.len() == known {
            return writes;
        }
    }
}

/// The writes that can follow once this one was seen.
fn answers(facts: &Facts<'_>, handlers: &[HandlerView<'_, '_>], writes: &[Write], first: &Write) -> Vec<usize> {
    let mut all = Vec::new();
    for (index, handler) in handlers.iter().enumerate().filter(|(_, other)| changed(facts, other) == Some(first.cell)) {
        let Some(place) = handler.unit.handlers[handler.index].changed else { continue };
        let reached = facts.world.reached_from(handler.id, place, &first.value);
        let follows = |write: &Write| write.handler == index && reached.contains_key(&write.at);
        all.extend((0..writes.len()).filter(|&at| follows(&writes[at])));
    }
    all
}

struct Search<'a> {
    writes: &'a [Write],
    next: &'a [Vec<usize>],
    found: Vec<Vec<Write>>,
    steps: usize,
}

impl Search<'_> {
    fn extend(&mut self, path: &mut Vec<usize>) {
        self.steps += 1;
        let (Some(&first), Some(&last)) = (path.first(), path.last()) else { return };
        if path.len() > LONGEST || self.steps > MOST_STEPS {
            return;
        }
        for &to in &self.next[last] {
            if to == first && self.changes_all(path) {
                self.found.push(path.iter().map(|&at| self.writes[at].clone()).collect());
            } else if to > first && !path.contains(&to) {
                path.push(to);
                self.extend(path);
                path.pop();
            }
        }
    }

    /// Whether each write of a circle gives its variable another value than the one before it did.
    fn changes_all(&self, path: &[usize]) -> bool {
        path.iter().enumerate().all(|(at, &write)| {
            let mut before = path[..at].iter().rev().chain(path[at..].iter().rev());
            let before = before.find(|&&other| self.writes[other].cell == self.writes[write].cell);
            before.is_some_and(|&other| self.writes[other].value != self.writes[write].value)
        })
    }
}
