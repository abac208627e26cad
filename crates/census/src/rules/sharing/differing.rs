//! What can differ between the instances that answer one trigger: their own variables, what is drawn, and what is computed
//! from those or chosen by a test of them.

use super::bodies::Bodies;
use crate::flow::access::walk_expr;
use crate::project::builtin::Builtin;
use crate::project::{Base, Meaning, Place, PlaceId, ProcId};
use crate::registry::VarId;
use crate::script::ast::{Block, ExprId, LocalId, LocalKind, Statement, StatementKind, walk};
use crate::source::Span;
use rustc_hash::FxHashSet;

impl Bodies<'_, '_> {
    /// Whether a value can differ between instances.
    #[must_use]
    pub fn differs(&self, value: ExprId) -> bool {
        Differing::of(self).expr(value)
    }

    /// Whether a statement stands behind a test that can differ between instances.
    #[must_use]
    pub fn is_chosen(&self, at: Span) -> bool {
        Differing::of(self).is_chosen(at)
    }
}

/// The search for a source of difference. What is looked at already adds nothing, so each name is gone into once.
struct Differing<'b, 'p, 'f> {
    bodies: &'b Bodies<'p, 'f>,
    seen: FxHashSet<Name>,
}

/// What is gone into once.
#[derive(PartialEq, Eq, Hash)]
enum Name {
    Local(LocalId),
    Procedure(ProcId),
}

impl<'b, 'p, 'f> Differing<'b, 'p, 'f> {
    fn of(bodies: &'b Bodies<'p, 'f>) -> Self {
        Self { bodies, seen: FxHashSet::default() }
    }

    fn expr(&mut self, value: ExprId) -> bool {
        let unit = self.bodies.handler.unit;
        let mut found = false;
        walk_expr(unit, value, &mut |expr| {
            found = found
                || match unit.meaning(expr) {
                    Meaning::Own | Meaning::Builtin(Builtin::Random | Builtin::Chance) => true,
                    Meaning::Procedure(id) => self.procedure(id),
                    Meaning::Value(place) | Meaning::Axis(place, _) | Meaning::Bound(place, _) => self.place(place),
                    _ => false,
                };
        });
        found
    }

    fn place(&mut self, place: PlaceId) -> bool {
        let (unit, facts) = (self.bodies.handler.unit, self.bodies.facts);
        match unit.place(place) {
            Place::Private(private) => facts.is_written(unit.privates[private as usize].cell),
            Place::Variable(id, Base::Own) => self.own(id),
            Place::Variable(_, Base::Held(holder)) => self.place(holder),
            Place::Local(local) => self.local(local),
            Place::Variable(..) | Place::Was => false,
        }
    }

    /// Whether a variable of the instances' own can differ: all but a constant that starts with one value for all.
    fn own(&self, id: VarId) -> bool {
        let (facts, registry) = (self.bodies.facts, self.bodies.facts.registry());
        let variable = registry.var(id);
        let listed = registry.instances_of(variable.owner).map(|instance| registry.start_of(id, instance));
        let spawned = facts.world.is_spawned(variable.owner).then_some(variable.default.as_ref());
        let mut starts = listed.chain(spawned);
        let first = starts.next();
        !variable.constant || starts.any(|start| Some(start) != first)
    }

    fn local(&mut self, local: LocalId) -> bool {
        if !self.seen.insert(Name::Local(local)) {
            return false;
        }
        match self.bodies.handler.unit.tree.local(local).kind {
            LocalKind::Spawned => true,
            LocalKind::For => self.loop_over(local),
            LocalKind::Let | LocalKind::Parameter => {
                let given = self.bodies.given(local);
                self.one_of(&given)
            }
        }
    }

    /// Whether the instances that a `for` goes through can be others.
    fn loop_over(&mut self, name: LocalId) -> bool {
        let mut filters = Vec::new();
        self.each_statement(|statement| {
            if let StatementKind::For { local, filter: Some(filter), .. } = &statement.kind
                && *local == name
            {
                filters.push(*filter);
            }
        });
        filters.into_iter().any(|filter| self.expr(filter))
    }

    fn procedure(&mut self, id: ProcId) -> bool {
        if !self.seen.insert(Name::Procedure(id)) {
            return false;
        }
        let mut given = Vec::new();
        walk(&self.bodies.handler.unit.tree.procedures[id.index()].body, &mut |statement| {
            if let StatementKind::Return(Some(value)) = statement.kind {
                given.push(value);
            }
        });
        self.one_of(&given)
    }

    /// Whether what is one of several values can differ: one of them does, or which one it is.
    fn one_of(&mut self, given: &[ExprId]) -> bool {
        let span = |expr: ExprId| self.bodies.handler.unit.tree.expr(expr).span;
        let spans: Vec<Span> = given.iter().map(|&value| span(value)).collect();
        given.iter().any(|&value| self.expr(value)) || spans.len() > 1 && spans.into_iter().any(|at| self.is_chosen(at))
    }

    fn is_chosen(&mut self, at: Span) -> bool {
        let mut tests: Vec<ExprId> = Vec::new();
        self.each_statement(|statement| {
            if statement.span.contains(at) {
                tests.extend(choosing(statement));
            }
        });
        tests.into_iter().any(|test| self.expr(test))
    }

    /// Calls `visit` for each statement of the handler and of all procedures of its script.
    fn each_statement(&self, mut visit: impl FnMut(&'f Statement)) {
        let handler = self.bodies.handler;
        let procedures = handler.unit.tree.procedures.iter().map(|procedure| &procedure.body);
        let bodies: Vec<&'f Block> = procedures.chain([&handler.tree.body]).collect();
        bodies.into_iter().for_each(|body| walk(body, &mut visit));
    }
}

/// What decides whether, and how often, the statements in a statement run.
fn choosing(statement: &Statement) -> Vec<ExprId> {
    match &statement.kind {
        StatementKind::If { arms, .. } => arms.iter().map(|arm| arm.tests[0]).collect(),
        StatementKind::Match { subject: test, .. }
        | StatementKind::While { condition: test, .. }
        | StatementKind::Repeat { count: test, .. }
        | StatementKind::For { filter: Some(test), .. } => vec![*test],
        _ => Vec::new(),
    }
}
