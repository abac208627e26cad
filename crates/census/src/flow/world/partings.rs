//! What goes with an instance, a scene or a run, and who still sees what was written to it last.

use super::*;
use crate::flow::engine::{Last, Parting};
use crate::registry::Lifetime;

/// By cell: what handlers wrote last before the cell went.
pub(super) type Partings = FxHashMap<CellId, Vec<(HandlerId, Parting, Value)>>;

impl World<'_> {
    /// Whether a cell certainly goes, once a handler's dispatch is over, with its instance, with the scene that is left, or
    /// with the run.
    #[must_use]
    pub fn goes_with(&self, handler: HandlerId, cell: Option<CellId>, parting: Parting) -> bool {
        let Some(cell) = cell else { return false };
        let variable = match self.project.cells[cell.index()] {
            Cell::Variable(id) => Some(self.project.registry.var(id)),
            Cell::Private(..) => None,
        };
        let outlives = variable.is_some_and(|variable| variable.lifetime > Lifetime::Run);
        let stays = outlives
            && match parting {
                Parting::Restarted => !self.fresh_at_start(cell),
                Parting::Answered => self.restarts, // What is queued is dropped then.
                Parting::Overwritten => false,
                Parting::Removed | Parting::Left => true,
            };
        if self.unsettled[cell.index()] || stays {
            return false;
        }
        let trigger = &self.parts(handler).1.trigger;
        // Much else comes in the dispatches in which things are made and taken away.
        let apart =
            !matches!(trigger, Trigger::Start | Trigger::Spawn | Trigger::Enter | Trigger::Leave | Trigger::Removed);
        match (parting, self.home(cell)) {
            (Parting::Removed, Home::Instance(actor)) => {
                (apart || matches!(trigger, Trigger::Removed)) && !self.lingering.contains(&actor)
            }
            (Parting::Restarted | Parting::Answered, _) => apart,
            (Parting::Overwritten, _) => self.overwriter(handler, cell).is_some(),
            (Parting::Left, Home::Scene) => apart || matches!(trigger, Trigger::Leave),
            (Parting::Left, Home::Instance(actor)) => {
                (apart || matches!(trigger, Trigger::Leave)) && self.go_along(actor)
            }
            _ => false,
        }
    }

    /// The actors whose removed instances can go on after others had their turn: their `removed` handlers wait.
    pub(super) fn find_lingering(&self) -> FxHashSet<OwnerId> {
        let lingers = |id: &HandlerId| self.yields[id.index()] && matches!(self.parts(*id).1.trigger, Trigger::Removed);
        self.handler_ids().filter(lingers).filter_map(|id| self.parts(id).0.owner).collect()
    }

    /// Whether something in a body may take values along, or have them dealt with.
    pub(super) fn may_part(&self, graph: &Graph) -> bool {
        let goes = |step: &graph::Step| match step.kind {
            StepKind::Go(_) | StepKind::Remove(_) => true,
            StepKind::Send { signal: Some(signal), .. } => self.has_certain_answer(signal),
            _ => false,
        };
        graph.blocks.iter().any(|block| matches!(block.exit, Exit::Restart) || block.steps.iter().any(goes))
    }

    /// Whether all instances of an actor belong to scenes.
    pub(super) fn go_along(&self, actor: OwnerId) -> bool {
        let registry = &self.project.registry;
        registry.instances_of(actor).all(|id| registry.instance(id).scene.is_some())
    }

    /// What a handler can find in a cell beside what lasts.
    pub(super) fn left_at_parting(&self, handler: HandlerId, cell: CellId) -> impl Iterator<Item = &Value> {
        self.left_with(handler, cell, |_| true)
    }

    /// What of that is there also where everything was made anew just before: what a later handler will write over.
    pub(super) fn left_until_overwritten(&self, handler: HandlerId, cell: CellId) -> impl Iterator<Item = &Value> {
        self.left_with(handler, cell, |parting| parting == Parting::Overwritten)
    }

    fn left_with(
        &self,
        handler: HandlerId,
        cell: CellId,
        meant: impl Fn(Parting) -> bool,
    ) -> impl Iterator<Item = &Value> {
        let known = self.partings.get(&cell).into_iter().flatten();
        let is_seen = move |by, parting| meant(parting) && self.sees_parting(by, cell, parting, handler);
        known.filter(move |&&(by, parting, _)| is_seen(by, parting)).map(|(_, _, left)| left)
    }

    /// Whether a handler can find in a cell what does not last.
    #[must_use]
    pub fn finds_what_goes(&self, handler: HandlerId, cell: CellId) -> bool {
        self.left_at_parting(handler, cell).next().is_some()
    }

    /// Whether a handler's turn can come between a parting from a cell and the end of what goes.
    fn sees_parting(&self, by: HandlerId, cell: CellId, parting: Parting, handler: HandlerId) -> bool {
        let trigger = &self.parts(handler).1.trigger;
        match (parting, trigger) {
            (Parting::Removed, Trigger::Removed) => {
                by < handler || !matches!(self.parts(by).1.trigger, Trigger::Removed)
            }
            (Parting::Removed, _) => false,
            // What is sent stands in the queue before the changes of the same dispatch.
            (Parting::Answered, Trigger::Changed(_)) if self.answers_with_nothing_before(by) => false,
            (Parting::Answered, _) => self.comes_before_answer(by, handler),
            (Parting::Overwritten, Trigger::Spawn) => {
                self.parts(handler).0.owner.is_none_or(|owner| self.is_spawned(owner))
            }
            (Parting::Overwritten, _) => {
                self.may_follow(by, handler) && self.overwriter(by, cell).is_none_or(|last| handler <= last)
            }
            (Parting::Left, Trigger::Leave) if matches!(self.parts(by).1.trigger, Trigger::Leave) => {
                self.may_follow(by, handler)
            }
            // `start` handlers find what outlives a run, until one of them renews it.
            (_, Trigger::Spawn) | (Parting::Left, Trigger::Leave) | (Parting::Restarted, Trigger::Start) => true,
            _ => self.may_follow(by, handler),
        }
    }

    /// Whether one trigger can be answered by one handler and then by the other.
    pub(super) fn may_follow(&self, by: HandlerId, handler: HandlerId) -> bool {
        let kind = |id: HandlerId| std::mem::discriminant(&self.parts(id).1.trigger);
        (by < handler || by == handler && self.answers_for_many(by))
            && kind(by) == kind(handler)
            && self.signal_of(by) == self.signal_of(handler)
    }

    /// Whether a handler may answer one trigger for several instances.
    pub(super) fn answers_for_many(&self, id: HandlerId) -> bool {
        let unit = self.parts(id).0;
        let to_one = unit.handlers[self.handler(id).1].signal.is_some_and(|signal| {
            let signal = self.project.registry.signal(signal);
            signal.from_engine && !signal.to_all
        });
        !to_one && unit.owner.is_some_and(|owner| self.project.registry.is_many(owner))
    }

    /// Takes in what a handler wrote last; says whether that is more.
    pub(super) fn take_parting(
        &mut self,
        by: HandlerId,
        (cell, parting): (CellId, Parting),
        last: Last,
        age: usize,
    ) -> bool {
        self.take_written(cell, last.written);
        let Some(left) = self.cell_within_bounds(cell, last.left) else { return false };
        let all = self.partings.entry(cell).or_default();
        let Some((.., known)) = all.iter_mut().find(|(id, kind, _)| (*id, *kind) == (by, parting)) else {
            all.push((by, parting, left));
            return true;
        };
        let joined = known.join(&left);
        let next = if age >= ROUNDS { widen(known, &joined, &[]) } else { joined };
        let grown = next != *known;
        *known = next;
        grown
    }
}
