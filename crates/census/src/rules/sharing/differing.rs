//! What can differ between the instances that answer one trigger: their own variables, what is drawn, and what is computed
//! from those or chosen by a test of them.

use super::bodies::Bodies;
use crate::flow::access::walk_expr;
use crate::project::builtin::Builtin;
use crate::project::{Base, Meaning, Place, PlaceId, ProcId};
use crate::registry::VarId;
use crate::script::ast::{Block, ExprId, LocalId, LocalKind, Statement, StatementKind, walk};
use crate::source::Span;
use rustc_hash::{FxHashMap, FxHashSet};
use std::cell::{OnceCell, RefCell};

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

/// What was found out so far, since a long handler asks the same again and again.
#[derive(Default)]
pub(super) struct Differences {
    /// The statements that choose by a test, or go round by one, with their tests.
    choosing: OnceCell<Vec<(Span, Vec<ExprId>)>>,
    names: RefCell<FxHashMap<Name, bool>>,
}

/// The search for a source of difference. What is looked at already adds nothing, so each name is gone into once.
struct Differing<'b, 'p, 'f> {
    bodies: &'b Bodies<'p, 'f>,
    seen: FxHashSet<Name>,
}

/// What is gone into once.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
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

    /// Goes into a name, unless that was done before.
    fn named(&mut self, name: Name, look: impl FnOnce(&mut Self) -> bool) -> bool {
        let known = self.bodies.differing.names.borrow().get(&name).copied();
        if let Some(known) = known {
            return known;
        }
        let first = self.seen.is_empty();
        if !self.seen.insert(name) {
            return false;
        }
        let differs = look(self);
        // What hangs on a name that is still being looked at is not known for good.
        if differs || first {
            self.bodies.differing.names.borrow_mut().insert(name, differs);
        }
        differs
    }

    fn local(&mut self, local: LocalId) -> bool {
        self.named(Name::Local(local), |search| match search.bodies.handler.unit.tree.local(local).kind {
            LocalKind::Spawned => true,
            LocalKind::For => search.loop_over(local),
            LocalKind::Let | LocalKind::Parameter => {
                let given = search.bodies.given(local);
                search.one_of(&given)
            }
        })
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
        self.named(Name::Procedure(id), |search| {
            let mut given = Vec::new();
            walk(&search.bodies.handler.unit.tree.procedures[id.index()].body, &mut |statement| {
                if let StatementKind::Return(Some(value)) = statement.kind {
                    given.push(value);
                }
            });
            search.one_of(&given)
        })
    }

    /// Whether what is one of several values can differ: one of them does, or which one it is.
    fn one_of(&mut self, given: &[ExprId]) -> bool {
        let span = |expr: ExprId| self.bodies.handler.unit.tree.expr(expr).span;
        let spans: Vec<Span> = given.iter().map(|&value| span(value)).collect();
        given.iter().any(|&value| self.expr(value)) || spans.len() > 1 && spans.into_iter().any(|at| self.is_chosen(at))
    }

    fn is_chosen(&mut self, at: Span) -> bool {
        let bodies = self.bodies;
        let all = bodies.differing.choosing.get_or_init(|| self.find_choosing());
        let around = all.iter().filter(|(span, _)| span.contains(at));
        around.flat_map(|(_, tests)| tests).any(|&test| self.expr(test))
    }

    fn find_choosing(&self) -> Vec<(Span, Vec<ExprId>)> {
        let mut found = Vec::new();
        self.each_statement(|statement| {
            let tests = choosing(statement);
            if !tests.is_empty() {
                found.push((statement.span, tests));
            }
        });
        found
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
