//! Tests that keep one another from coming out differently. `if open { open = true }` waits for what only it leads to; in a
//! longer circle each test waits for a write that another one stands before. That a test hangs on another's mistake is no
//! second finding, but of a circle that hangs on nothing else one is told.

use super::guards::{Guard, guards};
use crate::flow::access::{Body, MOST_BEHIND, walk_behind};
use crate::flow::world::Unreached;
use crate::project::{CellId, ProcId, ScriptId, ScriptUnit};
use crate::registry::SignalId;
use crate::rules::Facts;
use crate::script::ast::*;
use crate::source::Span;
use rustc_hash::{FxHashMap, FxHashSet};

/// A test of a script.
pub type Test = (ScriptId, ExprId);

/// A test, and how it always comes out.
pub type Decided = (Test, bool);

/// The tests of a project that come out one way only.
#[derive(Default)]
pub struct Tests {
    /// Those held back since a write that no way leads to could change them.
    pub held_back: Vec<Decided>,
    /// Those of the same kind that are told only where no other of their circle can be: whether there is anything, and of
    /// what kind it is. Otherwise they may well be there for safety.
    pub careful: Vec<Decided>,
    /// All others, told or not: they explain what hangs on them.
    pub others: Vec<Decided>,
}

/// Of the tests that are held back those to be told all the same: one for each circle that hangs on no other.
#[must_use]
pub fn unexplained(facts: &Facts<'_>, tests: &Tests) -> Vec<Test> {
    let held_back: Vec<Decided> = tests.held_back.iter().chain(&tests.careful).copied().collect();
    let causes = causes(&Blame::new(facts, &tests.others, &held_back), &held_back);
    let behind = behind(&causes);
    let mut explained = vec![false; causes.len()];
    (0..causes.len()).filter(|&at| causes[at].other).for_each(|at| explain(&behind, at, &mut explained));
    let mut told = Vec::new();
    for at in 0..held_back.len() {
        while !explained[at] {
            let circle = last_circle(&causes, &behind, &explained, at);
            let first = circle.into_iter().min().unwrap_or(at);
            explain(&behind, first, &mut explained);
            told.extend(held_back.get(first).map(|&(test, _)| test));
        }
    }
    told
}

/// What keeps a test from coming out differently, or a cell from being written: others, by their index, or anything else.
#[derive(Default)]
struct Cause {
    of: FxHashSet<usize>,
    other: bool,
}

/// The causes of all tests, and behind them those of the cells that they ask for: many tests ask for the same few cells.
fn causes(blame: &Blame<'_>, held_back: &[Decided]) -> Vec<Cause> {
    let mut cells: FxHashMap<CellId, usize> = FxHashMap::default();
    let mut asked: Vec<CellId> = Vec::new();
    let mut causes: Vec<Cause> = Vec::new();
    for &(test, _) in held_back {
        let mut cause = Cause::default();
        for cell in blame.unreached_cells(test) {
            cause.of.insert(*cells.entry(cell).or_insert_with(|| {
                asked.push(cell);
                held_back.len() + asked.len() - 1
            }));
        }
        cause.other = cause.of.is_empty();
        causes.push(cause);
    }
    causes.extend(asked.into_iter().map(|cell| blame.cause(cell)));
    causes
}

/// For each test, and each cell, what hangs on it.
fn behind(causes: &[Cause]) -> Vec<Vec<usize>> {
    let mut behind = vec![Vec::new(); causes.len()];
    for (at, cause) in causes.iter().enumerate() {
        cause.of.iter().for_each(|&other| behind[other].push(at));
    }
    behind
}

/// A test that hangs on an explained one is explained.
fn explain(behind: &[Vec<usize>], at: usize, explained: &mut [bool]) {
    let mut open = vec![at];
    while let Some(at) = open.pop() {
        if !std::mem::replace(&mut explained[at], true) {
            open.extend(&behind[at]);
        }
    }
}

/// The tests of a circle that a test hangs on, and that hang on no others, with the cells between them.
fn last_circle(causes: &[Cause], behind: &[Vec<usize>], explained: &[bool], from: usize) -> FxHashSet<usize> {
    let mut at = from;
    loop {
        let ahead = reached(at, |test, open| open.extend(causes[test].of.iter().filter(|&&next| !explained[next])));
        let back = reached(at, |test, open| open.extend(behind[test].iter().filter(|&&next| !explained[next])));
        match ahead.iter().copied().filter(|test| !back.contains(test)).min() {
            Some(further) => at = further,
            None => return ahead,
        }
    }
}

fn reached(from: usize, add_next: impl Fn(usize, &mut Vec<usize>)) -> FxHashSet<usize> {
    let mut seen = FxHashSet::default();
    let mut open = vec![from];
    while let Some(at) = open.pop() {
        if seen.insert(at) {
            add_next(at, &mut open);
        }
    }
    seen
}

/// Where something is done: in which body of which script, and at which place.
type Site = (ScriptId, Body, Span);

/// A test that comes out one way only.
#[derive(Clone, Copy)]
struct Known {
    outcome: bool,
    /// Its index, if it is held back.
    held_back: Option<usize>,
}

struct Blame<'a> {
    facts: &'a Facts<'a>,
    /// The conditions of each body.
    guards: FxHashMap<(ScriptId, Body), Vec<Guard>>,
    /// The tests that come out one way only.
    tests: FxHashMap<Test, Known>,
    /// Where signals are sent.
    sends: FxHashMap<SignalId, Vec<Site>>,
}

impl<'a> Blame<'a> {
    fn new(facts: &'a Facts<'a>, others: &[Decided], held_back: &[Decided]) -> Self {
        let held_back = held_back.iter().enumerate().map(|(at, test)| (test, Some(at)));
        let all = held_back.chain(others.iter().map(|test| (test, None)));
        let tests = all.map(|(&(test, outcome), held_back)| (test, Known { outcome, held_back })).collect();
        let mut blame = Self { facts, guards: FxHashMap::default(), tests, sends: FxHashMap::default() };
        for (script, unit) in facts.project.script_ids() {
            blame.add_script(script, unit);
        }
        blame
    }

    /// Puts down the conditions of a script, and where it sends signals.
    fn add_script(&mut self, script: ScriptId, unit: &ScriptUnit) {
        let handlers = (0..).zip(&unit.tree.handlers).map(|(at, handler)| (Body::Handler(at), &handler.body));
        let procedures =
            unit.tree.procedures.iter().enumerate().map(|(at, it)| (Body::Procedure(ProcId::at(at)), &it.body));
        for (body, block) in handlers.chain(procedures) {
            self.guards.insert((script, body), guards(block));
            walk(block, &mut |statement| {
                if let StatementKind::Send { signal, .. } = &statement.kind
                    && let Some(signal) = unit.signal_named(*signal)
                {
                    self.sends.entry(signal).or_default().push((script, body, statement.span));
                }
            });
        }
    }

    /// The cells that a test asks for and that something writes, or is meant to, where no way leads.
    fn unreached_cells(&self, (script, test): Test) -> FxHashSet<CellId> {
        let (project, world) = (self.facts.project, &self.facts.world);
        let unit = project.script(script);
        let mut cells: FxHashSet<CellId> = FxHashSet::default();
        walk_behind(unit, test, &mut |expr| {
            cells.extend(unit.place_of(expr).and_then(|place| project.cell_of(unit, place)));
        });
        cells.retain(|&cell| world.is_mistaken(cell) || world.unreached_writes(cell).next().is_some());
        cells
    }

    /// What stands before the unreached writes to a cell.
    fn cause(&self, cell: CellId) -> Cause {
        let world = &self.facts.world;
        let mut cause = Cause { of: FxHashSet::default(), other: world.is_mistaken(cell) };
        let writes = world.unreached_writes(cell);
        let mut open: Vec<Site> = writes.map(|&Unreached { script, body, at }| (script, body, at)).collect();
        let mut seen = FxHashSet::default();
        while let Some(site) = open.pop().filter(|_| !cause.other) {
            if seen.insert(site) && !self.add_tests_before(site, &mut cause) {
                let ways = self.ways_to(site);
                cause.other |= ways.is_empty();
                open.extend(ways);
            }
        }
        cause.other |= cause.of.is_empty(); // Procedures that only call one another.
        cause
    }

    /// Adds the tests that keep ways from a place; none may.
    fn add_tests_before(&self, (script, body, at): Site, cause: &mut Cause) -> bool {
        let guards = self.guards.get(&(script, body)).into_iter().flatten();
        let guards =
            guards.filter(|guard| guard.guards(at)).filter_map(|guard| Some((guard.test, guard.needed_at(at)?)));
        let mut any = false;
        for (condition, needed) in guards.chain(self.when(script, body).map(|when| (when, true))) {
            any |= self.add_tests_of(script, condition, needed, cause);
        }
        any
    }

    /// Adds the tests that keep a condition from coming out as needed.
    fn add_tests_of(&self, script: ScriptId, condition: ExprId, needed: bool, cause: &mut Cause) -> bool {
        let unit = self.facts.project.script(script);
        let mut any = false;
        let mut open = vec![(condition, needed)];
        let mut gone_into = 0;
        while let Some((test, needed)) = open.pop() {
            if let Some(found) = self.tests.get(&(script, test)) {
                let blocks = found.outcome != needed;
                any |= blocks;
                match found.held_back {
                    Some(index) if blocks => _ = cause.of.insert(index),
                    _ => cause.other |= blocks,
                }
                continue;
            }
            match unit.tree.expr(test).kind {
                ExprKind::Unary(UnaryOp::Not, inner) => open.push((inner, !needed)),
                ExprKind::Binary(BinaryOp::And | BinaryOp::Or, left, right) => {
                    open.extend([(left, needed), (right, needed)]);
                }
                _ if gone_into < MOST_BEHIND && unit.behind(test) != test => {
                    gone_into += 1;
                    open.push((unit.behind(test), needed));
                }
                _ => {}
            }
        }
        any
    }

    fn when(&self, script: ScriptId, body: Body) -> Option<ExprId> {
        let tree = &self.facts.project.script(script).tree;
        if let Body::Handler(at) = body { tree.handlers.get(at)?.when } else { None }
    }

    /// Where a body is called from, or its signal is sent.
    fn ways_to(&self, (script, body, _): Site) -> Vec<Site> {
        let unit = self.facts.project.script(script);
        match body {
            Body::Procedure(id) => {
                let calls = unit.calls_of(id).map(|(call, _)| unit.tree.expr(call).span);
                calls.filter_map(|at| Some((script, body_at(unit, at)?, at))).collect()
            }
            Body::Handler(at) => {
                let signal = unit.handlers.get(at).and_then(|handler| handler.signal);
                signal.and_then(|signal| self.sends.get(&signal)).cloned().unwrap_or_default()
            }
        }
    }
}

/// The body that a stretch of a script stands in.
fn body_at(unit: &ScriptUnit, at: Span) -> Option<Body> {
    let handler = unit.tree.handlers.iter().position(|handler| handler.span.contains(at)).map(Body::Handler);
    let procedures = &unit.tree.procedures;
    handler.or_else(|| {
        let procedure = procedures.iter().position(|procedure| procedure.span.contains(at))?;
        Some(Body::Procedure(ProcId::at(procedure)))
    })
}
