//! A handler together with the procedures that it reaches, and where the values of their locals come from.

use super::differing::Differences;
use crate::flow::graph::{Graph, Step, StepKind};
use crate::project::{Meaning, Place, PlaceId, ProcFacts, ProcId};
use crate::rules::Facts;
use crate::rules::facts::HandlerView;
use crate::script::ast::{Block, ExprId, LocalId, LocalKind, Statement, StatementKind, blocks};
use crate::source::Span;
use rustc_hash::{FxHashMap, FxHashSet};

/// How many names are followed, each to what it is given.
const MOST_NAMES: usize = 8;

/// A handler and the procedures that it reaches.
pub struct Bodies<'p, 'f> {
    /// The project.
    pub facts: &'f Facts<'p>,
    /// The handler.
    pub handler: HandlerView<'p, 'f>,
    graphs: Vec<&'f Graph>,
    /// What each local is given by its `let` and by assignments.
    values: FxHashMap<PlaceId, Vec<ExprId>>,
    /// The locals that are assigned again, or are names of a `for` or a `spawn`.
    others: FxHashSet<PlaceId>,
    /// What was found out of how the instances' values differ.
    pub(super) differing: Differences,
}

impl<'p, 'f> Bodies<'p, 'f> {
    /// Those of a handler.
    #[must_use]
    pub fn new(facts: &'f Facts<'p>, handler: HandlerView<'p, 'f>) -> Self {
        let graphs = facts.world.bodies(handler.script, handler.graph);
        let mut bodies = Self {
            facts,
            handler,
            graphs,
            values: FxHashMap::default(),
            others: FxHashSet::default(),
            differing: Differences::default(),
        };
        bodies.find_locals();
        bodies
    }

    fn find_locals(&mut self) {
        let unit = self.handler.unit;
        for step in self.graphs.iter().flat_map(|graph| &graph.blocks).flat_map(|block| &block.steps) {
            match step.kind {
                StepKind::Let { place, value } => self.values.entry(place).or_default().push(value),
                StepKind::Assign { place, value, .. } if matches!(unit.place(place), Place::Local(_)) => {
                    self.values.entry(place).or_default().push(value);
                    self.others.insert(place);
                }
                StepKind::Bind { place } => {
                    self.others.insert(place);
                }
                _ => {}
            }
        }
    }

    /// All steps.
    pub fn steps(&self) -> impl Iterator<Item = &'f Step> {
        self.graphs.iter().flat_map(|graph| &graph.blocks).flat_map(|block| &block.steps)
    }

    /// What a local is given: by its `let`, by assignments, and by calls where it is a procedure's parameter.
    #[must_use]
    pub fn given(&self, local: LocalId) -> Vec<ExprId> {
        let place = self.handler.unit.local_places[local.0 as usize];
        self.values.get(&place).into_iter().flatten().copied().chain(self.passed(local)).collect()
    }

    /// What stands behind an expression: that of a `let`, or of a parameter for which one call alone passes something.
    #[must_use]
    pub fn behind(&self, expr: ExprId) -> ExprId {
        let unit = self.handler.unit;
        let mut expr = unit.behind(expr);
        for _ in 0..MOST_NAMES {
            let Meaning::Value(place) = unit.meaning(expr) else { break };
            let Place::Local(local) = unit.place(place) else { break };
            match self.passed(local)[..] {
                [passed] if !self.others.contains(&place) => expr = unit.behind(passed),
                _ => break,
            }
        }
        expr
    }

    /// What the script's calls pass for a procedure's parameter.
    fn passed(&self, local: LocalId) -> Vec<ExprId> {
        let unit = self.handler.unit;
        if unit.tree.local(local).kind != LocalKind::Parameter {
            return Vec::new();
        }
        let is_it = |procedure: &ProcFacts| procedure.parameters.iter().position(|&parameter| parameter == local);
        let found = unit.procedures.iter().enumerate().find_map(|(id, facts)| Some((id, is_it(facts)?)));
        let Some((id, at)) = found else { return Vec::new() };
        unit.calls_of(ProcId::at(id)).filter_map(|(_, arguments)| arguments.get(at).copied()).collect()
    }

    /// The tests that must have come out as given where a stretch is reached: the `when`, those that it stands in, and those
    /// that lead out before it.
    #[must_use]
    pub fn tests_before(&self, at: Span) -> Vec<(ExprId, bool)> {
        let tree = &self.handler.unit.tree;
        let mut tests: Vec<(ExprId, bool)> = self.handler.tree.when.map(|when| (when, true)).into_iter().collect();
        // Where a procedure is called from one place alone, what was tested before the call holds in it too.
        let ways = self.handler.unit.ways_to(at);
        let in_procedure = |way: &&Span| tree.procedures.iter().any(|procedure| procedure.body.span.contains(**way));
        let ways = if ways.iter().filter(in_procedure).count() + 1 == ways.len() { ways } else { vec![at] };
        for at in ways {
            let bodies = tree.procedures.iter().map(|procedure| &procedure.body).chain([&self.handler.tree.body]);
            let around = bodies.filter(|body| body.span.contains(at));
            around.for_each(|body| tests_before(&body.statements, at, &mut tests));
        }
        tests
    }
}

/// The tests that must have come out as given where a statement is reached.
fn tests_before(statements: &[Statement], at: Span, tests: &mut Vec<(ExprId, bool)>) {
    for statement in statements.iter().take_while(|statement| statement.span.start < at.end) {
        let around = statement.span.contains(at);
        if let StatementKind::If { arms, .. } = &statement.kind {
            for arm in arms {
                if around && arm.body.span.contains(at) {
                    tests.push((arm.tests[0], true));
                    break;
                }
                let in_its_test = around && at.end <= arm.body.span.start;
                if in_its_test || !around && !leads_out(&arm.body) {
                    break;
                }
                tests.push((arm.tests[0], false));
            }
        }
        if let StatementKind::While { condition, body } = &statement.kind
            && body.span.contains(at)
        {
            tests.push((*condition, true));
        }
        if around {
            let inner = blocks(statement).into_iter().find(|block| block.span.contains(at));
            inner.into_iter().for_each(|block| tests_before(&block.statements, at, tests));
        }
    }
}

fn leads_out(block: &Block) -> bool {
    block.statements.last().is_some_and(|last| matches!(last.kind, StatementKind::Return(_)))
}
