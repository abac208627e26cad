//! What the rules about guards share: what a handler steps, where it pauses, and the flags that it tests and sets.

use crate::flow::access::is_step;
use crate::flow::called::Called;
use crate::flow::certain;
use crate::flow::engine::{Key, OWN_INSTANCE, Pause};
use crate::flow::graph::{Exit, Graph, StepKind};
use crate::flow::linear::Slot;
use crate::flow::world::entry_tests;
use crate::project::{Base, CellId, Place, PlaceId, ScriptUnit};
use crate::registry::{Lifetime, OwnerId, Scope, Type};
use crate::rules::Facts;
use crate::rules::facts::HandlerView;
use crate::script::ast::{AssignOp, Block, ExprKind, StatementKind, walk};
use crate::source::Span;

/// The steps that a handler reaches, its procedures' too, in order.
#[must_use]
pub fn steps(facts: &Facts<'_>, handler: &HandlerView<'_, '_>) -> Vec<Span> {
    let procedures = &facts.world.graphs[handler.script.index()].procedures;
    let all =
        std::iter::once(handler.graph).chain(procedures).flat_map(|graph| &graph.blocks).flat_map(|block| &block.steps);
    let mut steps: Vec<Span> = all
        .filter(|step| is_step(handler.unit, step) && handler.found.reached.contains_key(&step.span))
        .map(|step| step.span)
        .collect();
    steps.sort_unstable();
    steps
}

/// The places where an activation is suspended: its waits, and its end where an `after` is still to come.
pub fn waits<'f>(handler: &HandlerView<'_, 'f>) -> impl Iterator<Item = &'f Pause> + use<'f> {
    handler.found.pauses.iter().filter(|pause| is_suspended(pause))
}

/// Whether an activation goes on after a pause.
#[must_use]
pub fn is_suspended(pause: &Pause) -> bool {
    pause.wait.is_some() || (pause.to_come && !pause.later)
}

/// The `after` blocks of a handler, and those of its script's procedures.
#[must_use]
pub fn put_off<'p>(handler: &HandlerView<'p, '_>) -> Vec<&'p Block> {
    let mut found = Vec::new();
    let procedures = handler.unit.tree.procedures.iter().map(|procedure| &procedure.body);
    for body in std::iter::once(&handler.tree.body).chain(procedures) {
        walk(body, &mut |statement| {
            if let StatementKind::After { body, .. } = &statement.kind {
                found.push(body);
            }
        });
    }
    found
}

/// Whether any of these stretches lies in a block that is put off, or in a procedure that one calls.
#[must_use]
pub fn is_any_put_off(handler: &HandlerView<'_, '_>, stretches: &[Span]) -> bool {
    let blocks = put_off(handler);
    let is_within = |at: Span| blocks.iter().any(|block| block.span.contains(at));
    !blocks.is_empty() && stretches.iter().any(|&at| handler.unit.ways_to(at).into_iter().any(is_within))
}

/// Whether one of these steps is done in a procedure that is called, straight or by way of others.
#[must_use]
pub fn calls_any_of(facts: &Facts<'_>, handler: &HandlerView<'_, '_>, calls: &[Called], steps: &[Span]) -> bool {
    calls.iter().any(|called| {
        let graph = facts.world.procedure_graph(handler.script, called.procedure);
        let mut blocks = facts.world.bodies(handler.script, graph).into_iter().flat_map(|graph| &graph.blocks);
        blocks.any(|block| block.steps.iter().any(|step| steps.contains(&step.span)))
    })
}

/// Whether on the way to a pause the script's own instance, or one that the signal brought, was removed.
#[must_use]
pub fn removes_what_came(facts: &Facts<'_>, handler: &HandlerView<'_, '_>, pause: &Pause) -> bool {
    let table = facts.world.table(handler.id);
    let brought = handler.unit.handlers[handler.index]
        .parameters
        .iter()
        .filter_map(|(local, _)| table.slot(Key::Place(handler.unit.local_places[local.0 as usize])));
    pause.removed.contains(&OWN_INSTANCE) || brought.into_iter().any(|slot| pause.removed.contains(&slot))
}

/// The waits of a body, and its calls of procedures that wait, in order.
#[must_use]
pub fn wait_steps(unit: &ScriptUnit, graph: &Graph) -> Vec<Span> {
    let steps = graph.blocks.iter().flat_map(|block| &block.steps);
    let mut waits: Vec<Span> = steps.filter(|step| certain::waits(unit, &step.kind)).map(|step| step.span).collect();
    waits.sort_unstable();
    waits
}

/// A `bool` that a handler tests as it begins, and sets so that the test fails.
pub struct Flag {
    /// Its cell.
    pub cell: CellId,
    /// Its place.
    pub place: PlaceId,
    /// Its slot.
    pub slot: Slot,
    /// The value that keeps the handler out.
    pub up: bool,
    /// Whether it goes when the script's own instance goes.
    pub dies_with_instance: bool,
    /// Whether it goes when the scene is left in which the handler runs.
    pub dies_with_scene: bool,
    /// Whether it goes when the run ends.
    pub dies_with_run: bool,
}

impl Flag {
    /// Whether the flag is gone, or anew, once an activation has come to its end in this state.
    #[must_use]
    pub fn is_gone(&self, facts: &Facts<'_>, handler: &HandlerView<'_, '_>, end: &Pause) -> bool {
        let removed = self.dies_with_instance && end.removed.contains(&OWN_INSTANCE);
        let left = self.dies_with_scene && end.went;
        removed || left || (self.dies_with_run && restarts_at(facts, handler, end.at))
    }

    /// Whether a waiting activation of the handler can be dropped while the flag lives on.
    #[must_use]
    pub fn outlives_a_drop(&self, facts: &Facts<'_>, handler: &HandlerView<'_, '_>) -> bool {
        let Some(id) = facts.project.variable_of(self.cell) else { return false };
        let world = &facts.world;
        let kept = facts.registry().var(id).lifetime > Lifetime::Run;
        let actor = handler.unit.owner.filter(|&owner| facts.registry().is_actor(owner));
        let removed = actor.is_some_and(|actor| world.removable(actor)) && !self.dies_with_instance;
        // An instance that goes with its scene takes what is its own along, but one that stays only loses what waits in `in` it.
        let goes_alone = actor.is_some_and(|actor| world.in_scenes(actor)) && (kept || !self.dies_with_instance);
        let left = world.changes_scene() && (handler.unit.scene.is_some() || goes_alone) && !self.dies_with_scene;
        removed || left || (kept && restarts(facts))
    }
}

/// Whether an activation ends with a `restart` at a place.
fn restarts_at(facts: &Facts<'_>, handler: &HandlerView<'_, '_>, at: Span) -> bool {
    let procedures = &facts.world.graphs[handler.script.index()].procedures;
    let blocks = std::iter::once(handler.graph).chain(procedures).flat_map(|graph| &graph.blocks);
    blocks.into_iter().any(|block| matches!(block.exit, Exit::Restart) && block.exit_span == at)
}

fn restarts(facts: &Facts<'_>) -> bool {
    let graphs = facts.world.graphs.iter().flat_map(|graphs| graphs.handlers.iter().chain(&graphs.procedures));
    graphs.flat_map(|graph| &graph.blocks).any(|block| matches!(block.exit, Exit::Restart))
}

/// The flags that a handler's entry tests.
#[must_use]
pub fn flags(facts: &Facts<'_>, handler: &HandlerView<'_, '_>) -> Vec<Flag> {
    let unit = handler.unit;
    let Some(tests) = entry_tests(unit, handler.tree) else { return Vec::new() };
    let table = facts.world.table(handler.id);
    let mut flags: Vec<Flag> = Vec::new();
    for (test, wanted) in tests {
        for (place, outcome) in plain_flags(unit, test, wanted) {
            let (Some(cell), Some(slot)) = (facts.project.cell_of(unit, place), table.slot(Key::Place(place))) else {
                continue;
            };
            let actor = unit.owner.filter(|&owner| facts.registry().is_actor(owner));
            let own = match unit.place(place) {
                Place::Private(_) | Place::Variable(_, Base::Own) => true,
                Place::Variable(_, Base::Listed(id)) => {
                    Some(facts.registry().instance(id).of) == actor.filter(|&actor| !facts.registry().is_many(actor))
                }
                _ => false,
            };
            let variable = facts.project.variable_of(cell).map(|id| facts.registry().var(id));
            let dies_with_scene = match variable {
                None => unit.scene.is_some(),
                Some(variable) if variable.scope == Scope::Scene => true,
                Some(variable) => own && variable.lifetime == Lifetime::Run && stands_in_scenes(facts, actor),
            };
            flags.push(Flag {
                cell,
                place,
                slot,
                up: !outcome,
                dies_with_instance: own && actor.is_some(),
                dies_with_scene,
                dies_with_run: variable.is_none_or(|variable| variable.lifetime == Lifetime::Run),
            });
        }
    }
    flags
}

/// Whether every instance of an actor stands in some scene, so that it goes when that is left.
fn stands_in_scenes(facts: &Facts<'_>, actor: Option<OwnerId>) -> bool {
    let registry = facts.registry();
    actor.is_some_and(|actor| registry.instances_of(actor).all(|id| registry.instance(id).scene.is_some()))
}

/// The flags that a test asks for, with what each must be.
fn plain_flags(unit: &ScriptUnit, test: crate::script::ast::ExprId, wanted: bool) -> Vec<(PlaceId, bool)> {
    use crate::script::ast::{BinaryOp, UnaryOp};
    match &unit.tree.expr(test).kind {
        ExprKind::Path(_) if unit.ty(test) == Type::Bool => {
            unit.place_of(test).map(|place| (place, wanted)).into_iter().collect()
        }
        ExprKind::Unary(UnaryOp::Not, inner) => plain_flags(unit, *inner, !wanted),
        ExprKind::Binary(BinaryOp::And, left, right) if wanted => {
            [plain_flags(unit, *left, true), plain_flags(unit, *right, true)].concat()
        }
        ExprKind::Binary(BinaryOp::Or, left, right) if !wanted => {
            [plain_flags(unit, *left, false), plain_flags(unit, *right, false)].concat()
        }
        ExprKind::Binary(op @ (BinaryOp::Equal | BinaryOp::NotEqual), left, right) => {
            let (ExprKind::Bool(value), Some(place)) = (&unit.tree.expr(*right).kind, unit.place_of(*left)) else {
                return Vec::new();
            };
            vec![(place, (*op == BinaryOp::Equal) == (*value == wanted))]
        }
        _ => Vec::new(),
    }
}

/// The first statement, in a handler or the procedures that it reaches, that gives a flag this value.
#[must_use]
pub fn assigns(facts: &Facts<'_>, handler: &HandlerView<'_, '_>, cell: CellId, value: bool) -> Option<Span> {
    let procedures = &facts.world.graphs[handler.script.index()].procedures;
    let all =
        std::iter::once(handler.graph).chain(procedures).flat_map(|graph| &graph.blocks).flat_map(|block| &block.steps);
    let mut found: Vec<Span> = all
        .filter(|step| handler.found.reached.contains_key(&step.span))
        .filter_map(|step| match &step.kind {
            StepKind::Assign { place, op: AssignOp::Set, value: given, .. }
                if facts.project.cell_of(handler.unit, *place) == Some(cell)
                    && matches!(handler.unit.tree.expr(handler.unit.behind(*given)).kind, ExprKind::Bool(constant) if constant == value) =>
            {
                Some(step.span)
            }
            _ => None,
        })
        .collect();
    found.sort_unstable();
    found.first().copied()
}
