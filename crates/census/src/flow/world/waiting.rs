//! What others can do while a handler waits.

use super::super::access::walk_expr;
use super::*;

/// What others do to the cells of a handler, by slot.
pub type Others = Vec<Together>;

/// A moment that comes before all that can happen to what it opens.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Opening {
    /// Of the run.
    Start,
    /// Of an instance.
    Spawn,
    /// Of a scene.
    Enter,
}

/// For which instances the moment of a handler is past.
#[derive(PartialEq)]
enum Past {
    Everywhere,
    ForTheInstance,
}

impl<'p> World<'p> {
    /// What can happen to cells while an activation waits, and what is known once it goes on.
    ///
    /// Handlers of the same owner's scripts are kept out whose entry test fails at first and, by induction over what happens,
    /// also after all that the others can do; provided that none of them was under way when this one began.
    #[must_use]
    pub fn while_waiting(&self, run: &mut Run<'_, 'p>, state: &State) -> State {
        let fails = |run: &Run<'_, 'p>, state: &State, id: HandlerId| {
            let tests = self.entries[id.index()].as_ref();
            tests.is_some_and(|tests| self.tests_fail(run, state, id, tests))
        };
        let mut out: Vec<HandlerId> =
            self.peers_of(run.script).filter(|&id| self.entries[id.index()].is_some()).collect();
        // Most of what stands elsewhere is let in from the first.
        out.retain(|&id| self.handler(id).0 == run.script || fails(run, state, id));
        out.retain(|&id| !(self.yields[id.index()] && self.begins_within.contains(&(id, run.handler))));
        loop {
            let mut after = state.clone();
            let others = self.effects_but_for(run, &out);
            run.built_on.waited(&out, &others);
            run.apply(&mut after, &others);
            let before = out.len();
            out.retain(|&id| fails(run, &after, id));
            if out.len() == before {
                // Only of what could be kept out will anybody ask whether it is under way.
                if self.entries[run.handler.index()].is_some() {
                    let others = self.peers_of(run.script);
                    run.let_in.extend(others.filter(|id| self.yields[id.index()] && !out.contains(id)));
                }
                return after;
            }
        }
    }

    fn tests_fail(&self, run: &Run<'_, '_>, state: &State, id: HandlerId, tests: &[(ExprId, bool)]) -> bool {
        let (script, _) = self.handler(id);
        if script == run.script {
            return tests_fail(self, run, state, tests);
        }
        let unit = self.project.script(script);
        tests.iter().any(|&(test, wanted)| fails_there(self, run, unit, state, test, wanted))
    }

    /// What the handlers do while a handler waits, but for those that are kept out and those whose moment is past.
    pub(super) fn effects_but_for(&self, run: &Run<'_, '_>, out: &[HandlerId]) -> Others {
        let runs_once = self.runs_once(run);
        let alone = self.runs_alone(run.handler).then_some(run.handler);
        self.effects_on(run, |effect, own| {
            let kept_out = effect.handler.is_some_and(|handler| out.contains(&handler));
            let past = if effect.handler.is_some() && effect.handler == alone {
                Some(if runs_once { Past::Everywhere } else { Past::ForTheInstance })
            } else {
                self.is_past(effect, run.handler)
            };
            let everywhere = past == Some(Past::Everywhere) || kept_out && runs_once;
            !everywhere && !(own && effect.own && (kept_out || past.is_some()))
        })
    }

    /// What is done to the slots of a run by the effects that are meant; asked with whether the slot is the own instance's.
    fn effects_on(&self, run: &Run<'_, '_>, meant: impl Fn(&Effect, bool) -> bool) -> Others {
        let mut others = vec![Together::default(); run.table.slots.len()];
        for (slot, together) in others.iter_mut().enumerate() {
            let Some(cell) = run.table.slots[slot].cell else { continue };
            let own = run.is_own_slot(Slot::try_from(slot).unwrap_or(Slot::MAX));
            self.effects[cell.index()]
                .iter()
                .filter(|effect| meant(effect, own))
                .for_each(|effect| together.take(effect));
        }
        others
    }

    /// Whether what a handler does before its first wait is certainly done before another one waits: `start` comes first in
    /// a run, `spawn` first for an instance, and `enter` first in a scene, which a wait does not outlive.
    fn is_past(&self, effect: &Effect, waiting: HandlerId) -> Option<Past> {
        let opening = self.openings[effect.handler?.index()].filter(|_| !effect.after_wait)?;
        match (opening, self.openings[waiting.index()]) {
            (_, Some(Opening::Start | Opening::Spawn)) | (Opening::Enter, Some(Opening::Enter)) => None,
            (Opening::Start, _) => Some(Past::Everywhere),
            (Opening::Spawn, _) => Some(Past::ForTheInstance),
            (Opening::Enter, _) => self.parts(waiting).0.scene.is_some().then_some(Past::Everywhere),
        }
    }

    /// The moment that a handler is for.
    pub(super) fn find_opening(&self, id: HandlerId) -> Option<Opening> {
        match self.parts(id).1.trigger {
            Trigger::Start => Some(Opening::Start),
            Trigger::Spawn => Some(Opening::Spawn),
            Trigger::Enter => Some(Opening::Enter),
            _ => None,
        }
    }

    /// Whether a handler begins once for its instance, so that no second activation of it can do anything while it waits; an
    /// `after` block of its own could.
    pub(super) fn runs_alone(&self, id: HandlerId) -> bool {
        let (unit, at, graph) = self.parts(id);
        let once = match at.trigger {
            Trigger::Start | Trigger::Spawn | Trigger::Removed => true,
            Trigger::Enter | Trigger::Leave => unit.scene.is_some(),
            _ => false,
        };
        let (script, _) = self.handler(id);
        let forks = |graph: &&Graph| graph.blocks.iter().any(|block| matches!(block.exit, Exit::Fork { .. }));
        once && !self.bodies(script, graph).iter().any(forks)
    }

    /// What the `spawn` handlers of an actor do to others than the new instance, for a `spawn` statement.
    #[must_use]
    pub fn effects_of_spawning(&self, run: &Run<'_, '_>, actor: OwnerId) -> Others {
        let spawning: FxHashSet<HandlerId> = self.spawn_handlers(actor).collect();
        if spawning.is_empty() {
            return Others::new();
        }
        let theirs = |effect: &Effect| effect.handler.is_some_and(|handler| spawning.contains(&handler));
        self.effects_on(run, |effect, _| !effect.own && theirs(effect))
    }
}

/// Whether one of the tests certainly comes out the other way in a state, by what outlives the activation alone.
fn tests_fail(world: &World<'_>, run: &Run<'_, '_>, state: &State, tests: &[(ExprId, bool)]) -> bool {
    let unit = world.project.script(run.script);
    tests.iter().any(|&(test, wanted)| {
        let mut local = false;
        walk_expr(unit, test, &mut |expr| {
            local |= unit.place_of(expr).is_some_and(|place| !is_shared(unit, place));
        });
        if local {
            return conjunct_fails(world, run, state, test, wanted);
        }
        fails(world, run, state, test, wanted)
    })
}

/// Of a test that also asks about parameters, the parts joined by `and` that do not.
fn conjunct_fails(world: &World<'_>, run: &Run<'_, '_>, state: &State, test: ExprId, wanted: bool) -> bool {
    let unit = world.project.script(run.script);
    match (&unit.tree.expr(test).kind, wanted) {
        (ExprKind::Binary(BinaryOp::And, left, right), true) | (ExprKind::Binary(BinaryOp::Or, left, right), false) => {
            tests_fail(world, run, state, &[(*left, wanted), (*right, wanted)])
        }
        (ExprKind::Unary(UnaryOp::Not, inner), _) => tests_fail(world, run, state, &[(*inner, !wanted)]),
        _ => false,
    }
}

/// Whether a test of another script of the same owner certainly comes out the other way in a state, as far as it asks about
/// what both scripts name; of the parts joined by `and`, one is enough.
fn fails_there(
    world: &World<'_>,
    run: &Run<'_, '_>,
    unit: &ScriptUnit,
    state: &State,
    test: ExprId,
    wanted: bool,
) -> bool {
    let slot = |place: PlaceId| match unit.place(place) {
        Place::Variable(variable, base) if is_shared(unit, place) => run.table.of_variable(variable, base),
        _ => None,
    };
    // A test whose places can all be whatever they ever are comes out either way.
    let is_narrowed = |slot: Slot| {
        let reach = run.table.slots[slot as usize].cell.map(|cell| &world.reach[cell.index()]);
        reach.is_none_or(|reach| state.value(slot).value != *reach)
    };
    let (mut known, mut narrowed) = (true, false);
    walk_expr(unit, test, &mut |expr| match unit.meaning(expr) {
        Meaning::Value(place) => match slot(place) {
            Some(slot) => narrowed |= is_narrowed(slot),
            None => known = false,
        },
        Meaning::None => {
            let nameless =
                matches!(unit.tree.expr(expr).kind, ExprKind::Path(_) | ExprKind::Call(..) | ExprKind::Error);
            known &= !nameless;
        }
        _ => known = false,
    });
    if !narrowed {
        return false;
    }
    if known {
        let mut probe = Run::new(world, run.handler);
        probe.look_from(world.project.script(run.script), unit);
        let (yes, no) = probe.branch(state.clone(), test);
        return if wanted { yes.is_none() } else { no.is_none() };
    }
    match (&unit.tree.expr(test).kind, wanted) {
        (ExprKind::Binary(BinaryOp::And, left, right), true) | (ExprKind::Binary(BinaryOp::Or, left, right), false) => {
            [left, right].into_iter().any(|&part| fails_there(world, run, unit, state, part, wanted))
        }
        (ExprKind::Unary(UnaryOp::Not, inner), _) => fails_there(world, run, unit, state, *inner, !wanted),
        _ => false,
    }
}

/// How a test of a flag alone, `busy` or `not busy`, comes out: the outer `None` where it is not such a test.
fn flag_of(unit: &ScriptUnit, run: &Run<'_, '_>, state: &State, test: ExprId) -> Option<Option<bool>> {
    match &unit.tree.expr(test).kind {
        ExprKind::Unary(UnaryOp::Not, inner) => Some(flag_of(unit, run, state, *inner)?.map(|outcome| !outcome)),
        ExprKind::Path(_) => {
            let Meaning::Value(place) = unit.meaning(test) else { return None };
            let Some(slot) = run.slot(place) else { return Some(None) };
            match state.value(slot).value {
                Value::Bool { yes: true, no: false } => Some(Some(true)),
                Value::Bool { yes: false, no: true } => Some(Some(false)),
                _ => Some(None),
            }
        }
        _ => None,
    }
}

fn is_shared(unit: &ScriptUnit, place: PlaceId) -> bool {
    matches!(unit.place(place), Place::Private(_) | Place::Variable(_, Base::One | Base::Own | Base::Listed(_)))
}

fn fails(world: &World<'_>, run: &Run<'_, '_>, state: &State, test: ExprId, wanted: bool) -> bool {
    if let Some(outcome) = flag_of(world.project.script(run.script), run, state, test) {
        return outcome == Some(!wanted);
    }
    let mut probe = Run::new(world, run.handler);
    probe.quiet = true;
    // A test of a handler whose places this one does not know can't be judged.
    let unit = world.project.script(run.script);
    let mut known = true;
    walk_expr(unit, test, &mut |expr| {
        known &= unit.place_of(expr).is_none_or(|place| probe.slot(place).is_some());
    });
    if !known {
        return false;
    }
    let (yes, no) = probe.branch(state.clone(), test);
    if wanted { yes.is_none() } else { no.is_none() }
}
