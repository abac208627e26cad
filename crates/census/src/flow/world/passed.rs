//! What a handler passes on of which it says nothing itself: it answers one signal and sends another, and what the first one's
//! sender has found out may still hold for those who answer the second.

use super::*;
use crate::flow::engine::SlotFacts;

/// How many places a handler passes on at most.
const MOST_PASSED: usize = 8;
/// How many handlers may stand in a row between those who know a place.
const MOST_BETWEEN: usize = 4;

/// A place that means the same to handlers of several scripts: a cell, and whose it is where it is a variable's.
pub(in crate::flow) type CommonCell = (CellId, Option<Base>);

impl World<'_> {
    /// Gives those who stand between a sender and an answer the places that both of these name.
    pub(super) fn take_up_passed(&mut self) {
        let between: Vec<HandlerId> =
            self.handler_ids().filter(|&id| self.is_handed(id) && !self.those_behind(id).is_empty()).collect();
        let before = self.named_along(&between, |id| self.those_before(id));
        let behind = self.named_along(&between, |id| self.those_behind(id));
        for ((id, before), behind) in between.into_iter().zip(before).zip(behind) {
            let (script, _) = self.handler(id);
            let own = self.named_in(id);
            let at_hand = |&(cell, _): &CommonCell| match self.project.cells[cell.index()] {
                Cell::Private(of, _) => of == script,
                Cell::Variable(_) => true,
            };
            let mut passed: Vec<CommonCell> = before.intersection(&behind).copied().filter(at_hand).collect();
            passed.retain(|place| !own.contains(place));
            passed.sort_unstable();
            passed.truncate(MOST_PASSED);
            if !passed.is_empty() {
                let table = self.tables[id.index()].with_passed(self, self.project.script(script), &passed);
                self.tables[id.index()] = table;
            }
        }
    }

    fn those_before(&self, id: HandlerId) -> Vec<HandlerId> {
        let handovers = self.signal_of(id).and_then(|signal| self.handovers.get(&signal));
        handovers.into_iter().flatten().map(|handover| handover.sender.handler).collect()
    }

    fn those_behind(&self, id: HandlerId) -> Vec<HandlerId> {
        let handed_on = self.sending.sent_by(id).iter().filter(|&&signal| self.hands_over(id, signal));
        handed_on.flat_map(|signal| &self.answers[signal]).copied().collect()
    }

    /// For each of these: what those name who are next to it, and who are next to them in turn.
    fn named_along(
        &self,
        between: &[HandlerId],
        next: impl Fn(HandlerId) -> Vec<HandlerId>,
    ) -> Vec<FxHashSet<CommonCell>> {
        let next: FxHashMap<HandlerId, Vec<HandlerId>> = between.iter().map(|&id| (id, next(id))).collect();
        let mut named: FxHashMap<HandlerId, FxHashSet<CommonCell>> = FxHashMap::default();
        for (&id, next) in &next {
            named.insert(id, next.iter().flat_map(|&other| self.named_in(other)).collect());
        }
        for _ in 1..MOST_BETWEEN {
            for id in between {
                let more = next[id].iter().filter_map(|other| named.get(other)).flatten();
                let more: Vec<CommonCell> = more.copied().collect();
                named.entry(*id).or_default().extend(more);
            }
        }
        between.iter().map(|id| named.remove(id).unwrap_or_default()).collect()
    }

    /// The numbers and the like that a handler names by what means the same in other scripts.
    fn named_in(&self, id: HandlerId) -> FxHashSet<CommonCell> {
        let (unit, ..) = self.parts(id);
        let many = unit.owner.is_some_and(|owner| self.project.registry.is_many(owner));
        let of = |facts: &SlotFacts| self.common_cell(unit, facts).filter(|_| facts.fixed.is_none());
        let is_shared = |&(_, base): &CommonCell| base.map_or(!many, |base| base != Base::Own);
        self.table(id).slots.iter().filter_map(of).filter(is_shared).collect()
    }
}
