//! Tests that keep one another from coming out differently. `if open { open = true }` waits for what only it leads to; in a
//! longer circle each test waits for a write that another one stands before. That a test hangs on another's mistake is no
//! second finding, but of a circle that hangs on nothing else one is told.

use super::decided::{Guard, guards};
use crate::flow::access::{Body, walk_behind};
use crate::flow::world::Unreached;
use crate::project::{CellId, ProcId, ScriptId, ScriptUnit};
use crate::registry::SignalId;
use crate::rules::Facts;
use crate::script::ast::*;
use crate::source::Span;
use rustc_hash::{FxHashMap, FxHashSet};

/// A test of a script that comes out one way only.
pub type Test = (ScriptId, ExprId);

/// The tests of a project that come out one way only.
#[derive(Default)]
pub struct Tests {
    /// Those held back since a write that no way leads to could change them.
    pub held_back: Vec<Test>,
    /// Those of the same kind that are never told: whether there is anything, and of what kind it is.
    pub silent: Vec<Test>,
    /// All others, told or not: they explain what hangs on them.
    pub others: Vec<Test>,
}

/// Of the tests that are held back those to be told all the same: one for each circle.
#[must_use]
pub fn unexplained(facts: &Facts<'_>, tests: &Tests) -> Vec<Test> {
    let held_back: Vec<Test> = tests.held_back.iter().chain(&tests.silent).copied().collect();
    let blame = Blame::new(facts, &tests.others, &held_back);
    let causes: Vec<Cause> = held_back.iter().map(|&test| blame.cause(test)).collect();
    let mut explained = vec![false; held_back.len()];
    let behind = behind(&causes);
    (0..causes.len()).filter(|&at| causes[at].other).for_each(|at| explain(&behind, at, &mut explained));
    let to_tell = || 0..tests.held_back.len();
    let on_a_circle: Vec<usize> = to_tell().filter(|&at| !explained[at] && leads_to(&causes, at, at)).collect();
    let mut told = Vec::new();
    for at in on_a_circle.into_iter().chain(to_tell()) {
        if !explained[at] {
            explain(&behind, at, &mut explained);
            told.push(held_back[at]);
        }
    }
    told
}

/// What keeps a test from coming out differently: some of those held back, by their index, or anything else.
#[derive(Default)]
struct Cause {
    tests: FxHashSet<usize>,
    other: bool,
}

/// For each test those that hang on it.
fn behind(causes: &[Cause]) -> Vec<Vec<usize>> {
    let mut behind = vec![Vec::new(); causes.len()];
    for (at, cause) in causes.iter().enumerate() {
        cause.tests.iter().for_each(|&test| behind[test].push(at));
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

/// How many tests are gone through to find whether one stands on a circle.
const MOST_ON_A_CIRCLE: usize = 1000;

fn leads_to(causes: &[Cause], from: usize, to: usize) -> bool {
    let mut seen = FxHashSet::default();
    let mut open: Vec<usize> = causes[from].tests.iter().copied().collect();
    while let Some(at) = open.pop() {
        if at == to {
            return true;
        }
        if seen.len() < MOST_ON_A_CIRCLE && seen.insert(at) {
            open.extend(&causes[at].tests);
        }
    }
    false
}

/// Where something is done: in which body of which script, and at which place.
type Site = (ScriptId, Body, Span);

struct Blame<'a> {
    facts: &'a Facts<'a>,
    /// The conditions of each body.
    guards: FxHashMap<(ScriptId, Body), Vec<Guard>>,
    /// The tests that come out one way only, with their index if they are held back.
    tests: FxHashMap<Test, Option<usize>>,
    /// Where signals are sent.
    sends: FxHashMap<SignalId, Vec<Site>>,
}

impl<'a> Blame<'a> {
    fn new(facts: &'a Facts<'a>, others: &[Test], held_back: &[Test]) -> Self {
        let held_back = held_back.iter().enumerate().map(|(at, &test)| (test, Some(at)));
        let tests = held_back.chain(others.iter().map(|&test| (test, None))).collect();
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

    /// What stands before the writes that could change how a test comes out.
    fn cause(&self, (script, test): Test) -> Cause {
        let unit = self.facts.project.script(script);
        let mut cells: FxHashSet<CellId> = FxHashSet::default();
        walk_behind(unit, test, &mut |expr| cells.extend(self.facts.cells_in(unit, expr)));
        let mut cause = Cause::default();
        let mut open: Vec<Site> = Vec::new();
        for cell in cells {
            cause.other |= self.facts.world.is_mistaken(cell);
            let writes = self.facts.world.unreached_writes(cell);
            open.extend(writes.map(|&Unreached { script, body, at }| (script, body, at)));
        }
        cause.other |= open.is_empty();
        let mut seen = FxHashSet::default();
        while let Some(site) = open.pop() {
            if seen.insert(site) && !self.add_tests_before(site, &mut cause) {
                let ways = self.ways_to(site);
                cause.other |= ways.is_empty();
                open.extend(ways);
            }
        }
        cause
    }

    /// Adds the tests that guard a place; none may.
    fn add_tests_before(&self, (script, body, at): Site, cause: &mut Cause) -> bool {
        let unit = self.facts.project.script(script);
        let mut any = false;
        let guards = self.guards.get(&(script, body)).into_iter().flatten();
        let conditions = guards.filter(|guard| guard.guards(at)).map(|guard| guard.test);
        for condition in conditions.chain(self.when(script, body)) {
            walk_behind(unit, condition, &mut |test| {
                let Some(index) = self.tests.get(&(script, test)) else { return };
                any = true;
                match index {
                    Some(index) => _ = cause.tests.insert(*index),
                    None => cause.other = true,
                }
            });
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
