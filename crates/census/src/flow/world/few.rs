//! The few values of a whole number whose steps leave gaps: what begins with 1, doubles, and is 1 again beyond 16, is never 6. While
//! all is run until nothing grows, what steps goes at once as far as it may, since most counters come to all that lies between. So a
//! number on which hangs what can go wrong is looked at once more: from what it starts as, by those alone who write it, as long as it
//! has few values. What all other cells hold is known by then.

use super::touched::Touched;
use super::*;

/// How many numbers are looked at.
const MOST_CELLS: usize = 64;
/// How many handlers write one of them at most, and how many steps they have.
const MOST_WRITERS: (usize, usize) = (8, 400);
/// How far its values lie apart at most.
const MOST_SPAN: f64 = 64.0;
/// How often the handlers are run: each time there must be one value more.
const MOST_ROUNDS: usize = 10;

impl World<'_> {
    /// What a cell was known to hold before few values were looked for: how tests come out was found with that.
    pub(super) fn reach_of_tests(&self, cell: CellId) -> &Value {
        self.before_few.get(&cell).unwrap_or(&self.reach[cell.index()])
    }

    /// Finds the few values of numbers that something hangs on, and leaves out what can't go wrong with those.
    pub(super) fn look_for_few(&mut self, found: &mut [Found]) {
        let asked: Vec<Vec<CellId>> =
            self.handler_ids().map(|id| self.asked_for_few(id, &found[id.index()].events)).collect();
        let mut cells: Vec<CellId> = asked.iter().flatten().copied().collect();
        cells.sort_unstable();
        cells.dedup();
        cells.truncate(MOST_CELLS);
        if cells.is_empty() {
            return;
        }
        let touched = Touched::new(self);
        let few: FxHashSet<CellId> = cells.into_iter().filter(|&cell| self.find_few(&touched, cell)).collect();
        let hang_on = |id: &HandlerId| asked[id.index()].iter().any(|cell| few.contains(cell));
        let again: Vec<HandlerId> = self.handler_ids().filter(hang_on).collect();
        let judged: Vec<(HandlerId, Vec<Event>)> =
            again.into_par_iter().map(|id| (id, self.judged_again(id))).collect();
        judged.into_iter().for_each(|(id, events)| found[id.index()].events = events);
    }

    fn asked_for_few(&self, id: HandlerId, events: &[Event]) -> Vec<CellId> {
        let asked = self.asked_in(id, events).into_iter();
        asked.filter(|&cell| self.is_all_known(cell) && self.may_have_few(cell)).collect()
    }

    /// Whether a cell is a whole number of which no more is known by now than from where to where it goes, and that is not far.
    fn may_have_few(&self, cell: CellId) -> bool {
        let is_in_sight = |num: &Num| num.int && num.set.is_none() && num.hi - num.lo <= MOST_SPAN;
        matches!(&self.reach[cell.index()], Value::Num(num) if is_in_sight(num))
    }

    /// Takes a cell to hold its few values only, if that is so: says whether it is.
    fn find_few(&mut self, touched: &Touched, cell: CellId) -> bool {
        let writers: Vec<HandlerId> =
            self.handler_ids().filter(|&id| touched.writes(self, id, cell) && self.can_begin(id)).collect();
        let steps: usize = writers.iter().map(|&id| self.handler_graph(id).size()).sum();
        if writers.len() > MOST_WRITERS.0 || steps > MOST_WRITERS.1 {
            return false;
        }
        let start = self.start_value_of(cell);
        let known = std::mem::replace(&mut self.reach[cell.index()], start);
        let given = self.given.remove(&cell);
        for _ in 0..MOST_ROUNDS {
            let now = &self.reach[cell.index()];
            let next = writers.iter().try_fold(now.clone(), |next, &id| self.with_few_written(next, id, cell));
            match next {
                Some(next) if next == *now => {
                    let given = given.map(|given| given.meet(&next).unwrap_or(given));
                    self.given.extend(given.map(|given| (cell, given)));
                    self.before_few.insert(cell, known);
                    return true;
                }
                Some(next) => self.reach[cell.index()] = next,
                None => break,
            }
        }
        self.reach[cell.index()] = known;
        self.given.extend(given.map(|given| (cell, given)));
        false
    }

    /// A few values with those that a handler leaves; none where these are not few.
    fn with_few_written(&self, known: Value, id: HandlerId, cell: CellId) -> Option<Value> {
        let mut run = Run::new(self, id);
        run.quiet = true;
        run.handler_from_entry();
        let mut next = known;
        for (_, seen) in run.seen.into_iter().filter(|((written, ..), _)| *written == cell) {
            let left = seen.effect.set.and_then(|value| self.cell_within_bounds(cell, value));
            next = left.map_or(next.clone(), |left| next.join(&left));
        }
        let are_few = matches!(&next, Value::Num(num) if num.set.is_some() || num.single().is_some());
        are_few.then_some(next)
    }

    fn judged_again(&self, id: HandlerId) -> Vec<Event> {
        let mut run = Run::new(self, id);
        run.handler_from_entry();
        self.settled_events(id, run.events)
    }
}
