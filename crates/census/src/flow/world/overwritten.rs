//! What a handler writes for nobody but those that come between it and a later one which answers the same trigger and certainly
//! writes anew: `on bell { load = 0 }`, and then `on bell { load = 4 }`.

use super::certain::Wanted;
use super::led::Answered;
use super::*;

/// The later handlers, by the earlier one and the cell.
pub(super) type Overwriters = FxHashMap<(HandlerId, CellId), HandlerId>;

impl World<'_> {
    pub(super) fn find_overwriters(&self) -> Overwriters {
        let groups = self.in_turn(|trigger| !matches!(trigger, Answered::Changed(_)));
        groups.into_par_iter().flat_map_iter(|group| self.overwriters_in(&group)).collect()
    }

    fn overwriters_in(&self, group: &[HandlerId]) -> Overwriters {
        let mut overwriters = Overwriters::default();
        let mut later: FxHashMap<CellId, Vec<HandlerId>> = FxHashMap::default();
        for &id in group.iter().rev() {
            let cells = self.table(id).slots.iter().filter_map(|slot| slot.cell);
            for cell in cells.filter(|&cell| self.is_given_by_scripts(cell)) {
                let by =
                    later.get(&cell).and_then(|later| later.iter().find(|&&by| self.follows_for_certain(by, id, cell)));
                overwriters.extend(by.map(|&by| ((id, cell), by)));
            }
            if self.answers_each_time(id) {
                let renewed = self.certain_of(id, self.handler_graph(id), Wanted::Renewal);
                renewed.into_iter().for_each(|cell| later.entry(cell).or_default().push(id));
            }
        }
        overwriters
    }

    /// Whether a handler that has written to a cell is followed by another for the same instance, in whose turn nothing comes.
    fn follows_for_certain(&self, by: HandlerId, id: HandlerId, cell: CellId) -> bool {
        let registry = &self.project.registry;
        let stays = |owner: OwnerId| !registry.is_actor(owner) || !self.removable(owner);
        let (by_owner, owner) = (self.parts(by).0.owner, self.parts(id).0.owner);
        let is_there = match self.home(cell) {
            // An instance that is removed takes what it holds along. Of many, another's script writes to all or to none for certain.
            Home::Instance(actor) if Some(actor) == owner => by_owner == owner || registry.is_many(actor),
            Home::Instance(actor) => !registry.is_many(actor) && stays(actor),
            _ => true,
        };
        is_there && by_owner.is_some_and(stays) && self.has_its_turn_with(by, id)
    }

    /// The handler that writes over what an earlier one leaves in a cell, whichever of its instances that is.
    pub(super) fn overwriter(&self, handler: HandlerId, cell: CellId) -> Option<HandlerId> {
        self.overwriters.get(&(handler, cell)).copied()
    }

    /// Whether what a handler writes to a cell, perhaps of its own instance, is gone once its trigger is dealt with.
    #[must_use]
    pub fn is_overwritten(&self, handler: HandlerId, cell: CellId, is_own: bool) -> bool {
        let is_meant = || match self.home(cell) {
            Home::Instance(actor) => is_own || !self.project.registry.is_many(actor),
            _ => true,
        };
        self.overwriter(handler, cell).is_some() && is_meant()
    }
}
