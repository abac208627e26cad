//! A handler together with the procedures that it reaches, and where the values of their locals come from.

use crate::flow::graph::{Graph, Step, StepKind};
use crate::project::{Meaning, Place, PlaceId, ProcFacts, ProcId};
use crate::rules::Facts;
use crate::rules::facts::HandlerView;
use crate::script::ast::{ExprId, LocalId, LocalKind};
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
}

impl<'p, 'f> Bodies<'p, 'f> {
    /// Those of a handler.
    #[must_use]
    pub fn new(facts: &'f Facts<'p>, handler: HandlerView<'p, 'f>) -> Self {
        let graphs = facts.world.bodies(handler.script, handler.graph);
        let mut bodies = Self { facts, handler, graphs, values: FxHashMap::default(), others: FxHashSet::default() };
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

    /// Whether a local has no value that stands in the script: the name of a `for`.
    #[must_use]
    pub fn is_bound(&self, local: LocalId) -> bool {
        let place = self.handler.unit.local_places[local.0 as usize];
        self.others.contains(&place) && !self.values.contains_key(&place)
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
}
