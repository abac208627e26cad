//! What is written last to a place that is gone once the dispatch is over, with its instance, its scene or its run.
//!
//! `lives -= 1` before `restart` leaves 0 lives for nobody but those whose turn comes in the same dispatch. So such values are
//! kept apart from what a cell can hold between dispatches.

use super::*;
use crate::flow::called;

/// With what a place goes.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub enum Parting {
    /// Its instance was removed.
    Removed,
    /// Its scene is left.
    Left,
    /// The run is over.
    Restarted,
    /// It stays, but what it holds does not: that is dealt with in answer to a signal.
    Answered,
    /// It stays, but a later handler that answers the same trigger writes over what it holds.
    Overwritten,
}

/// What a handler writes last to a place.
#[derive(Debug)]
pub struct Last {
    /// What the place goes with.
    pub left: Value,
    /// What was written, put right or not.
    pub written: Value,
}

impl Last {
    fn take(&mut self, other: &Self) {
        self.left = self.left.join(&other.left);
        self.written = self.written.join(&other.written);
    }
}

impl Run<'_, '_> {
    /// Nobody sees what was written to these places since the last settling but those that this parting lets see it.
    fn part(&mut self, state: &mut State, parting: Parting, meant: impl Fn(&Self, Slot) -> bool) {
        let (gone, kept): (Vec<Unseen>, Vec<Unseen>) = state.unseen.take().into_iter().partition(|write| {
            // Who comes in between may find a value gone.
            !write.clears
                && meant(self, write.slot)
                && self.world.goes_with(self.handler, self.cell_of(write.slot), parting)
        });
        state.unseen = kept.into();
        for write in gone {
            let Some(cell) = self.cell_of(write.slot) else { continue };
            let now = &state.value(write.slot).value;
            let last = Last { left: now.clone(), written: now.join(&write.written) };
            self.partings.entry((cell, parting)).and_modify(|known| known.take(&last)).or_insert(last);
            if let Parting::Answered | Parting::Overwritten = parting {
                // Up by five here and down by three there is up for all others.
                self.see_margins(state, &write);
                self.see_moves(state, &write);
            }
        }
    }

    pub(super) fn cell_of(&self, slot: Slot) -> Option<CellId> {
        self.table.slots[slot as usize].cell
    }

    /// The run ends once the dispatch is over.
    pub(super) fn part_from_run(&mut self, state: &mut State) {
        self.part(state, Parting::Restarted, |_, _| true);
    }

    /// Others have their turn. What goes with the scene where that is left, or with an instance whose last words these are, is not
    /// for them, nor what the answer to a signal deals with.
    pub(super) fn part_before_others(&mut self, state: &mut State) {
        self.part_from_answered(state);
        self.part_from_overwritten(state);
        let trigger = &self.world.parts(self.handler).1.trigger;
        let is_leaving = matches!(trigger, Trigger::Leave) && !state.waited && !state.later;
        if state.went || is_leaving {
            self.part(state, Parting::Left, |_, _| true);
        }
        if matches!(trigger, Trigger::Removed) {
            self.part(state, Parting::Removed, |run, slot| run.is_own_slot(slot));
        }
    }

    fn part_from_answered(&mut self, state: &mut State) {
        // Of what goes on after a wait others may be due at the same moment.
        if state.sent.is_empty() || state.waited || state.later {
            return;
        }
        let sent = state.sent.clone();
        self.part(state, Parting::Answered, |run, slot| {
            let settled = |cell| {
                let own = run.is_own_slot(slot);
                sent.iter().any(|&sent| run.world.is_settled_by(run.handler, sent, cell, own))
            };
            run.cell_of(slot).is_some_and(settled)
        });
    }

    fn part_from_overwritten(&mut self, state: &mut State) {
        // What comes after a wait comes after that trigger.
        if state.waited || state.later {
            return;
        }
        self.part(state, Parting::Overwritten, |run, slot| {
            let own = run.is_own_slot(slot);
            let by_name = matches!(run.table.slots[slot as usize].base, Some(Base::Held(_) | Base::Some));
            !by_name && run.cell_of(slot).is_some_and(|cell| run.world.is_overwritten(run.handler, cell, own))
        });
    }

    /// Remembers that a signal was sent whose answer is certain to do something.
    pub(super) fn note_sent(&self, state: &mut State, signal: Option<SignalId>, to: Option<ExprId>) {
        let to_own = to.map(|to| self.unit.meaning(to) == Meaning::Own);
        if let (Some(signal), None | Some(true)) = (signal, to_own)
            && self.world.has_certain_answer(signal)
        {
            state.sent.push_new((signal, to_own.is_some()));
        }
    }

    /// An instance is removed.
    pub(super) fn part_from_instance(&mut self, state: &mut State, what: ExprId) {
        let Some(base) = self.base_of(what) else { return };
        self.part(state, Parting::Removed, |run, slot| match base {
            Base::Own => run.is_own_slot(slot),
            _ => run.table.slots[slot as usize].base == Some(base),
        });
    }

    /// Where a name may hold the script's own instance, the activation ends as that is removed: others see what it leaves.
    pub(super) fn end_with_own(&mut self, state: &State, what: ExprId) {
        let nothing_waits = state.unseen.is_empty() && state.handing.is_empty();
        if nothing_waits || !self.may_be_own(state, what) {
            return;
        }
        let mut ended = state.clone();
        self.part(&mut ended, Parting::Removed, |run, slot| run.is_own_slot(slot));
        self.part_before_others(&mut ended);
        self.settle(&mut ended);
        self.keep_left(&ended);
        self.leave_to_answers(&ended);
    }

    /// Whether what is removed by a name may be the script's own instance, with which its activations end.
    fn may_be_own(&self, state: &State, what: ExprId) -> bool {
        let Some(actor) = self.unit.owner.filter(|&owner| self.world.project.registry.is_actor(owner)) else {
            return false;
        };
        let fits = |kind: Option<OwnerId>| kind.is_none_or(|kind| kind == actor);
        let is_it = match self.unit.meaning(what) {
            Meaning::Value(place) => self.slot(place).is_none_or(|slot| {
                let kind = if let Type::Ref(Some(kind)) = self.unit.ty(what) { Some(kind) } else { state.kind(slot) };
                let there = !matches!(state.value(slot).value, Value::Ref { some: false, .. });
                there && fits(kind) && state.holds_self(slot) != Some(false)
            }),
            Meaning::Instance(instance) => fits(Some(self.world.project.registry.instance(instance).of)),
            _ => false,
        };
        is_it && !matches!(self.world.parts(self.handler).1.trigger, Trigger::Removed)
    }

    /// The instance that an expression names.
    pub(in crate::flow) fn base_of(&self, what: ExprId) -> Option<Base> {
        match self.unit.meaning(what) {
            Meaning::Own => Some(Base::Own),
            Meaning::Value(place) => Some(Base::Held(place)),
            Meaning::Instance(instance) => Some(Base::Listed(instance)),
            _ => None,
        }
    }

    /// Whether a step comes right before its block's end, by which some of what it writes goes.
    pub(super) fn is_parting(&self, block: &Block, at: usize) -> bool {
        let goes = |step: &Step| matches!(step.kind, StepKind::Go(_));
        let shows = |step: &Step| {
            let calls = || !called::by_step(self.unit, step).is_empty();
            matches!(step.kind, StepKind::Wait(_) | StepKind::Spawn { .. }) || calls()
        };
        let rest = &block.steps[at..];
        (matches!(block.exit, Exit::Restart | Exit::Gone) || rest.iter().any(goes)) && !rest.iter().any(shows)
    }
}
