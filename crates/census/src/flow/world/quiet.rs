//! What a cell holds whenever the queue is empty: who listens to its changes (`on changed oil { … }`) has had its turn by then, so
//! what it puts right, or does beside, is done before the game's next signal.

use super::*;
use crate::registry::Lifetime;

/// How many handlers may write a cell whose changes are dealt with.
const MOST_WRITERS: usize = 256;

/// Who listens to the changes of a cell, and what the cell holds once that is through.
#[derive(Debug)]
pub(super) struct Keeper {
    handler: HandlerId,
    left: Value,
    /// The signals that the keeper sends, and whose answers certainly write the cell: what they leave counts
    /// instead.
    left_to: FxHashSet<SignalId>,
    /// Those who write the cell.
    writers: Vec<HandlerId>,
}

/// By cell, where there is one.
pub(super) type Keepers = FxHashMap<CellId, Keeper>;

impl World<'_> {
    pub(super) fn find_keepers(&self) -> Keepers {
        let mut keepers = Keepers::default();
        for handler in self.handler_ids() {
            if let Some(cell) = self.kept_by(handler) {
                let keeper = || Keeper {
                    handler,
                    left: self.start_value_of(cell),
                    left_to: FxHashSet::default(),
                    writers: Vec::new(),
                };
                keepers.entry(cell).or_insert_with(keeper);
            }
        }
        if !keepers.is_empty() {
            self.find_writers_of_kept(&mut keepers);
        }
        keepers
    }

    fn find_writers_of_kept(&self, keepers: &mut Keepers) {
        let touched = touched::Touched::new(self);
        for id in self.handler_ids() {
            for cell in touched.written(self, id) {
                if let Some(keeper) = keepers.get_mut(&cell).filter(|keeper| keeper.writers.last() != Some(&id)) {
                    keeper.writers.push(id);
                }
            }
        }
        // What answers the same change could give back the old value, and then nobody would hear of it.
        keepers.retain(|&cell, keeper| {
            let gives_back = |id: &HandlerId| *id != keeper.handler && self.changed_cell(*id) == Some(cell);
            keeper.writers.len() <= MOST_WRITERS && !keeper.writers.iter().any(gives_back)
        });
    }

    /// The cell whose every change a handler certainly deals with at once.
    fn kept_by(&self, id: HandlerId) -> Option<CellId> {
        let (unit, ..) = self.parts(id);
        let cell = self.changed_cell(id)?;
        let is_system = unit.owner.is_some_and(|owner| self.project.registry.owner(owner).kind == OwnerKind::System);
        let escapes = match self.project.cells[cell.index()] {
            Cell::Variable(variable) => {
                let variable = self.project.registry.var(variable);
                // What outlives a run is not heard of where its last change is dropped with the queue.
                variable.engine_writes || variable.lifetime != Lifetime::Run && self.restarts
            }
            Cell::Private(..) => false,
        };
        let is_known = matches!(self.home(cell), Home::Everywhere) && self.has_default(cell);
        let is_fit = is_known && !escapes && !self.given_unread[cell.index()] && !self.follows_a_bound(cell);
        let place = unit.handlers[self.handler(id).1].changed?;
        let knows_it = self.table(id).slot(Key::Place(place)).is_some();
        (is_system && is_fit && knows_it && unit.scene.is_none() && !self.yields[id.index()]).then_some(cell)
    }

    /// The cell whose changes a handler answers.
    pub(super) fn changed_cell(&self, id: HandlerId) -> Option<CellId> {
        let (unit, ..) = self.parts(id);
        let place = unit.handlers[self.handler(id).1].changed?;
        self.project.cell_of(unit, place)
    }

    /// The place whose changes a handler deals with.
    #[must_use]
    pub fn keeps(&self, id: HandlerId) -> Option<PlaceId> {
        let cell = self.changed_cell(id)?;
        let is_keeper = self.keepers.get(&cell).is_some_and(|keeper| keeper.handler == id);
        let (unit, ..) = self.parts(id);
        unit.handlers[self.handler(id).1].changed.filter(|_| is_keeper)
    }

    /// Takes in what a keeper leaves; says whether that is more.
    pub(super) fn take_kept(
        &mut self,
        id: HandlerId,
        left: Option<Value>,
        left_to: FxHashSet<SignalId>,
    ) -> Option<CellId> {
        let cell = self.changed_cell(id)?;
        let keeper = self.keepers.get_mut(&cell).filter(|keeper| keeper.handler == id)?;
        let joined = left.map_or_else(|| keeper.left.clone(), |left| keeper.left.join(&left));
        let grows = joined != keeper.left || !left_to.is_subset(&keeper.left_to);
        keeper.left = joined;
        keeper.left_to.extend(left_to);
        grows.then_some(cell)
    }

    /// Whether a handler begins with an empty queue before it and no change of a cell made since: then its keeper is through.
    pub(super) fn finds_kept(&self, id: HandlerId, cell: CellId) -> bool {
        let Some(keeper) = self.keepers.get(&cell) else { return false };
        let by_time = matches!(self.parts(id).1.trigger, Trigger::Tick | Trigger::Every(_));
        keeper.handler != id
            && !keeper.writers.iter().any(|&by| {
                let is_inside = matches!(self.parts(by).1.trigger, Trigger::Spawn);
                let is_due_too = by_time && self.yields[by.index()];
                is_inside || is_due_too || self.comes_before_answer(by, id)
            })
    }

    /// What a cell holds as a handler begins, by its keeper.
    pub(super) fn kept_value(&self, id: HandlerId, cell: CellId) -> Option<Value> {
        let keeper = self.keepers.get(&cell)?;
        let answers = |by: HandlerId| self.signal_of(by).is_some_and(|signal| keeper.left_to.contains(&signal));
        let effects = self.effects[cell.index()].iter().filter(|effect| effect.handler.is_some_and(answers));
        let by_answers = effects.filter_map(|effect| effect.set.as_ref());
        self.finds_kept(id, cell).then(|| by_answers.fold(keeper.left.clone(), |all, left| all.join(left)))
    }

    /// Who deals with the changes of a cell.
    pub(super) fn keeper_of(&self, cell: CellId) -> Option<HandlerId> {
        self.keepers.get(&cell).map(|keeper| keeper.handler)
    }

    /// Those who change a cell and leave another, which goes with it, to its keeper.
    pub(super) fn leaving_it_to_the_keeper(
        &self,
        touched: &touched::Touched,
        cell: CellId,
        with: CellId,
    ) -> Vec<HandlerId> {
        let keeper = self.keepers.get(&cell).filter(|keeper| touched.writes(self, keeper.handler, with));
        let leaves = |id: &HandlerId| !touched.writes(self, *id, with);
        keeper.into_iter().flat_map(|keeper| keeper.writers.iter().copied().filter(leaves)).collect()
    }
}
