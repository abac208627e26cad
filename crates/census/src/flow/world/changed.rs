//! Whether what has changed is still another than it was when its change is answered: nobody may have given it back by then who has
//! had a turn in between.

use super::*;

impl World<'_> {
    /// The handlers that ask for the old value and find another in its place.
    pub(super) fn find_still_changed(&self) -> FxHashSet<HandlerId> {
        let asking: Vec<HandlerId> = self.handler_ids().filter(|&id| self.was_slot(id).is_some()).collect();
        let cells: FxHashSet<CellId> = asking.iter().filter_map(|&id| self.changed_cell(id)).collect();
        let mut writers: FxHashMap<CellId, Vec<(HandlerId, PlaceId)>> = FxHashMap::default();
        for (script, accesses) in (0..).map(ScriptId).zip(&self.accesses) {
            for access in accesses.iter().filter(|access| access.writes() && cells.contains(&access.cell)) {
                let is_meant = |&id: &HandlerId| match access.body {
                    Body::Handler(index) => self.handler(id).1 == index,
                    Body::Procedure(_) => true,
                };
                let by = self.handlers_of(script).filter(is_meant).map(|id| (id, access.place));
                writers.entry(access.cell).or_default().extend(by);
            }
        }
        let stays = |id: &HandlerId| {
            self.changed_cell(*id).is_some_and(|cell| {
                let known = writers.get(&cell).map_or(&[][..], Vec::as_slice);
                self.is_given_by_scripts(cell)
                    && !self.follows_a_bound(cell)
                    && !known.iter().any(|&writer| self.may_give_back(writer, *id))
                    && !self.may_be_due_together(known)
            })
        };
        asking.into_iter().filter(stays).collect()
    }

    /// The slot of what a handler's variable was before it changed.
    fn was_slot(&self, id: HandlerId) -> Option<Slot> {
        let unit = self.parts(id).0;
        unit.handlers[self.handler(id).1].changed?;
        let is_was = |facts: &SlotFacts| match facts.key {
            Key::Place(place) => matches!(unit.place(place), Place::Was) && facts.ty.is_numeric(),
            _ => false,
        };
        self.table(id).slots.iter().position(is_was).and_then(|at| Slot::try_from(at).ok())
    }

    /// Whether one that writes may have its turn between a change and the one who answers it.
    fn may_give_back(&self, (by, place): (HandlerId, PlaceId), id: HandlerId) -> bool {
        let (unit, handler, _) = self.parts(by);
        match handler.trigger {
            Trigger::Signal { .. } => self.signal_of(by).is_none_or(|signal| !self.is_the_games_alone(signal)),
            // What it gives to the very place that it listens to is another change.
            Trigger::Changed(_) => by != id || unit.handlers[self.handler(by).1].changed != Some(place),
            Trigger::Spawn => self.goes || unit.owner.is_none_or(|owner| self.is_spawned(owner)),
            Trigger::Enter | Trigger::Leave => self.goes,
            Trigger::Start | Trigger::Tick | Trigger::Every(_) => false,
            Trigger::Removed | Trigger::Unreadable => true,
        }
    }

    /// Whether two of those who write may be due at one moment: what waits, `tick`, and what comes every so often. Then the second
    /// one has its turn before the first one's change is answered.
    fn may_be_due_together(&self, writers: &[(HandlerId, PlaceId)]) -> bool {
        let waits = |id: HandlerId| self.yields[id.index()];
        let is_timed = |id: HandlerId| matches!(self.parts(id).1.trigger, Trigger::Tick | Trigger::Every(_));
        let mut timed = writers.iter().map(|&(by, _)| by).filter(|&by| is_timed(by));
        let first = timed.next();
        writers.iter().any(|&(by, _)| waits(by)) || timed.any(|by| Some(by) != first)
    }

    /// The place whose change a handler answers and the slot of what it was, if it certainly is another by now.
    #[must_use]
    pub fn still_changed(&self, id: HandlerId) -> Option<(PlaceId, Slot)> {
        let (unit, ..) = self.parts(id);
        let place = unit.handlers[self.handler(id).1].changed.filter(|_| self.still_changed.contains(&id))?;
        Some((place, self.was_slot(id)?))
    }
}
