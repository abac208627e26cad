//! The fixpoint: all handlers are run until nothing that they leave behind grows.

use super::*;
use crate::registry::End;

/// How many rounds there are at most beside one for each handler, which a chain of handlers that set each other off may need.
/// What grows again and again is widened, so that all ends well before.
const MOST_ROUNDS: usize = 100;
/// How often a quick handler is run before its runs count: what it puts in late, once something else has come so far, has its
/// turns too.
const PATIENCE: usize = 8;
/// How many steps and ways a quick handler and the procedures of its script have at most, all in all.
const QUICK: usize = 200;
/// In how many rounds a cell that is stepped may come to rest by itself, as `max(x - 2, 0) + 1` does, before it is taken to go on
/// until a test stops it.
const SETTLING: usize = 1;
/// In how many rounds a cell takes one text after another before it may hold all that it is allowed to.
const MOST_TEXTS: usize = 64;
/// How many turns a round has at most.
const TURNS: usize = 32;
/// How many handlers a turn has at least.
const SHORTEST_TURN: usize = 16;

impl World<'_> {
    /// Runs all handlers until nothing grows; what each finds in its last run stands.
    ///
    /// A round goes in turns, first those handlers that all others come after, then the scripts' first ones: what a turn has found out the next one builds on already, so
    /// that fewer rounds are needed, and what runs in one turn sees nothing of each other, so that all cores can share it.
    #[must_use]
    pub fn solve(&mut self) -> Vec<Found> {
        let mut found: Vec<Found> = (0..self.handlers.len()).map(|_| Found::default()).collect();
        let mut dirty: Vec<bool> = vec![true; self.handlers.len()];
        let dependents = self.find_dependents();
        let turns = self.turns();
        let mut outlooks: Vec<Option<Outlook>> = self.handlers.iter().map(|_| None).collect();
        for round in 0..MOST_ROUNDS + self.handlers.len() {
            let mut has_grown = round == 0;
            for turn in &turns {
                let is_ready = |id: &HandlerId| dirty[id.index()] && self.is_led_in(*id);
                let due: Vec<HandlerId> = turn.iter().copied().filter(is_ready).collect();
                due.iter().for_each(|id| dirty[id.index()] = false);
                let is_due = |&id: &HandlerId| {
                    let outlook = outlooks[id.index()].as_ref();
                    self.can_begin(id) && outlook.is_none_or(|outlook| self.is_outdated(id, outlook))
                };
                let results: Vec<(HandlerId, RunResult)> =
                    due.into_par_iter().filter(is_due).map(|id| (id, self.run_once(id))).collect();
                let changed = self.take(results, round, &mut found, &mut outlooks);
                has_grown |= !changed.cells.is_empty();
                dependents.mark(self, &changed, &mut dirty);
            }
            if has_grown {
                let grown = Changed { cells: self.renew_engine_reach().into_iter().collect(), ..Changed::default() };
                dependents.mark(self, &grown, &mut dirty);
            }
            if !dirty.contains(&true) {
                break;
            }
        }
        self.look_for_few(&mut found);
        self.leave_out_lent(&mut found);
        self.look_by_modes(&mut found);
        self.find_unreached_writes(&found);
        self.own_stops = Vec::new(); // They are asked for while something grows only, and take their room.
        found
    }

    /// The handlers in the order in which a round takes them.
    fn turns(&self) -> Vec<Vec<HandlerId>> {
        let opening = |id: &HandlerId| self.openings[id.index()];
        let (first, mut rest): (Vec<HandlerId>, Vec<HandlerId>) =
            self.handler_ids().partition(|id| opening(id).is_some());
        let of = |moment| first.iter().copied().filter(|id| opening(id) == Some(moment)).collect();
        let mut turns: Vec<Vec<HandlerId>> = waiting::Opening::ALL.map(of).into();
        rest.sort_by_key(|id| self.handlers[id.index()].index);
        turns.extend(rest.chunks(rest.len().div_ceil(TURNS).max(SHORTEST_TURN)).map(<[HandlerId]>::to_vec));
        turns.retain(|turn| !turn.is_empty());
        turns
    }

    /// Whether anything can trigger a handler: a signal that only scripts send must be sent by one.
    #[must_use]
    pub fn can_begin(&self, handler: HandlerId) -> bool {
        let (unit, _, _) = self.parts(handler);
        let (_, index) = self.handler(handler);
        unit.handlers[index].signal.is_none_or(|signal| {
            let declared = self.project.registry.signal(signal);
            declared.from_engine || self.sent_signals.contains(&signal) || self.unread.contains(&*declared.name)
        })
    }

    /// What each handler builds on.
    fn find_dependents(&self) -> Dependents {
        let mut dependents = Dependents {
            by_reach: vec![Vec::new(); self.project.cells.len()],
            by_effects: vec![Vec::new(); self.project.cells.len()],
        };
        for id in self.handler_ids() {
            let was = self.changed_cell(id);
            let slots = &self.table(id).slots;
            let reached: FxHashSet<CellId> = slots.iter().filter_map(|slot| slot.cell).chain(was).collect();
            reached.into_iter().for_each(|cell| dependents.by_reach[cell.index()].push(id));
            let asks_others = self.yields[id.index()]
                || self.openings[id.index()].is_some()
                || self.is_handed(id)
                || self.leaders.contains_key(&id);
            let affected = slots.iter().filter(|slot| asks_others || matches!(slot.ty, Type::Ref(_)));
            let affected: FxHashSet<CellId> = affected.filter_map(|slot| slot.cell).collect();
            affected.into_iter().for_each(|cell| dependents.by_effects[cell.index()].push(id));
        }
        dependents
    }

    fn run_once(&self, handler: HandlerId) -> RunResult {
        let mut run = Run::new(self, handler);
        let wanted = self.pausing[handler.index()];
        run.keep_pauses = wanted;
        let steps = self.handler_graph(handler).blocks.iter().map(|block| block.steps.len() + 1);
        run.reached.reserve(steps.sum());
        let values = run.values_at_entry();
        let told = self.told_at_entry(&run, &values);
        let entry = run.entry_with(values);
        run.handler_from(entry);
        let outlook = self.outlook(&mut run, told);
        let handed = self.handed_by(&mut run);
        let calls_much = run.calls_much();
        let found = Found {
            events: self.settled_events(handler, run.events),
            outcomes: run.outcomes,
            reached: run.reached,
            moves: run.moves,
            pauses: if wanted { run.pauses } else { Vec::new() },
        };
        let Run { seen, partings, sent, signals, kept, left_to, margins, let_in, .. } = run;
        RunResult { seen, partings, sent, signals, handed, kept, left_to, margins, let_in, found, outlook, calls_much }
    }

    /// Whether the pauses of a handler are kept for the rules about guards: where others can act in between, or more of the
    /// same comes at once.
    pub(super) fn wants_pauses(&self, handler: HandlerId) -> bool {
        let (unit, ..) = self.parts(handler);
        let signal = unit.handlers[self.handler(handler).1].signal;
        self.yields[handler.index()] || signal.is_some_and(|signal| self.project.registry.signal(signal).bursts)
    }

    /// Whether a handler's pauses were kept as it was judged.
    #[must_use]
    pub fn keeps_pauses(&self, handler: HandlerId) -> bool {
        self.pausing[handler.index()]
    }

    fn take(
        &mut self,
        results: Vec<(HandlerId, RunResult)>,
        round: usize,
        found: &mut [Found],
        outlooks: &mut [Option<Outlook>],
    ) -> Changed {
        let mut changed = Changed::default();
        for (handler, result) in results {
            found[handler.index()] = result.found;
            // What one handler makes grow in each of its runs is widened soon; where many do so in turn, each has its turns.
            let runs =
                self.runs[handler.index()].saturating_sub(if self.quick[handler.index()] { PATIENCE } else { 0 });
            self.runs[handler.index()] += 1;
            outlooks[handler.index()] = Some(result.outlook);
            self.calling_much[handler.index()] |= result.calls_much;
            for (other, part, extent) in result.let_in {
                if self.begins_within.insert((handler, part, other, extent)) {
                    changed.let_in.insert(other);
                }
            }
            for ((cell, ..), seen) in result.seen {
                let age = self.ages[cell.index()].in_round(round).max(runs);
                if self.take_seen(cell, seen, age, &mut changed) {
                    self.ages[cell.index()].grow(round);
                }
            }
            for (key, last) in result.partings {
                let age = self.ages[key.0.index()].in_round(round).max(runs);
                if self.take_parting(handler, key, last, age) {
                    self.ages[key.0.index()].grow(round);
                    changed.cells.insert(key.0);
                }
            }
            for signal in result.signals {
                if self.sent_signals.insert(signal) {
                    changed.signals.insert(signal);
                }
            }
            for (key, seen) in result.margins {
                if self.take_margin(key, seen) {
                    changed.cells.insert(key.0);
                }
            }
            changed.cells.extend(self.take_kept(handler, result.kept, result.left_to));
            for (signal, sender, handed) in result.handed {
                if self.take_handed(signal, sender, handed) {
                    changed.signals.insert(signal);
                }
            }
            for (signal, at, value) in result.sent {
                if self.take_sent(handler, (signal, at), value, (round, runs)) {
                    changed.signals.insert(signal);
                }
            }
        }
        changed
    }

    /// Whether running a handler once more costs little.
    pub(super) fn find_quick(&self, handler: HandlerId) -> bool {
        let (script, index) = self.handler(handler);
        let graphs = &self.graphs[script.index()];
        let bodies = std::iter::once(&graphs.handlers[index]).chain(&graphs.procedures);
        bodies.map(Graph::size).sum::<usize>() <= QUICK
    }

    /// Takes in what a handler does to a cell that has grown in so many rounds before; says whether that is more.
    fn take_seen(&mut self, cell: CellId, seen: Seen, age: usize, changed: &mut Changed) -> bool {
        let at = cell.index();
        let mut effect = seen.effect;
        let mut grown = false;
        if self.take_beginning(cell, &effect, age) {
            changed.effects.insert(cell);
            grown = true;
        }
        // A flag that is put up and back at once is asked for with good reason, though nobody ever finds it up.
        if let Some(written) = seen.written.filter(|written| seen.grows || !matches!(written, Value::Num(_))) {
            self.take_written(cell, written);
        }
        let within = effect.set.clone().and_then(|value| self.cell_within_bounds(cell, value));
        if let Some(value) = within.clone() {
            let grows = seen.grows || age >= ROUNDS;
            let stops_nowhere = age >= LAST_STOPS;
            let own = effect.handler.filter(|_| seen.grows && age >= SETTLING);
            let own = own.and_then(|handler| self.stops_of_steps(handler, cell));
            let of_all = own.is_none() && !stops_nowhere;
            let stops = match own {
                _ if stops_nowhere => Vec::new(),
                Some(own) => own,
                None => std::mem::take(&mut self.cell_stops[at]),
            };
            let mut next = self.grown(cell, &self.reach[at], &value, grows, &stops);
            if next != self.reach[at] {
                if age >= MOST_TEXTS && matches!(next, Value::Text(_)) {
                    next = next.join(&self.any_in(cell));
                }
                self.reach[at] = next;
                changed.cells.insert(cell);
                grown = true;
            }
            if self.take_given(cell, &value, grows, &stops) {
                changed.cells.insert(cell);
                grown = true;
            }
            if of_all {
                self.cell_stops[at] = stops;
            }
        }
        if effect.clears && !std::mem::replace(&mut self.seen_cleared[at], true) {
            changed.cells.insert(cell);
        }
        let key = |effect: &Effect| (effect.handler, effect.own, effect.later);
        let known = self.effects[at].binary_search_by_key(&key(&effect), key);
        if (seen.grows || age >= ROUNDS) && matches!(effect.set, Some(Value::Num(_))) {
            // What goes on growing may come as far as the cell does.
            let grown = known.map_or(0, |known| self.effects[at][known].grown);
            let goes_on = grown >= LAST_STOPS || !effect.handler.is_some_and(|handler| self.quick[handler.index()]);
            let whole = || self.given.get(&cell).unwrap_or(&self.reach[at]).clone();
            effect.set = within.filter(|_| !goes_on).or_else(|| Some(whole()));
        }
        let effects = &mut self.effects[at];
        match known {
            Ok(at) => {
                if effects.take(at, &effect) {
                    changed.effects.insert(cell);
                    changed.cells.extend(Some(cell).filter(|_| self.keepers.contains_key(&cell)));
                    grown = true;
                }
            }
            Err(at) => {
                effects.to_mut().insert(at, effect);
                changed.effects.insert(cell);
                changed.cells.extend(Some(cell).filter(|_| self.keepers.contains_key(&cell)));
                grown = true;
            }
        }
        grown
    }

    /// What a cell holds with one more value, within its bounds; as far as the next number to stop at where that grows.
    pub(super) fn grown(&self, cell: CellId, known: &Value, value: &Value, grows: bool, stops: &[f64]) -> Value {
        let joined = if is_nothing(known) { value.clone() } else { known.join(value) };
        let next = if is_nothing(known) || !grows { joined } else { widen(known, &joined, stops) };
        self.cell_within_bounds(cell, next.clone()).unwrap_or(next)
    }

    /// A value as far as it lies within the bounds of its cell, if any does.
    pub(super) fn cell_within_bounds(&self, cell: CellId, value: Value) -> Option<Value> {
        match self.project.cells[cell.index()] {
            Cell::Variable(id) => self.within_bounds(id, value),
            Cell::Private(..) => Some(value),
        }
    }

    pub(super) fn take_written(&mut self, cell: CellId, written: Value) {
        if let Some(written) = self.cell_within_bounds(cell, written) {
            let known = self.written_beyond.entry(cell).or_insert_with(|| written.clone());
            *known = known.join(&written);
        }
    }
}

/// In how many rounds something has grown: what does so too often is widened.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Age {
    rounds: usize,
    last: usize,
}

impl Age {
    /// In how many rounds before this one it has grown.
    pub(super) fn in_round(self, round: usize) -> usize {
        self.rounds - usize::from(self.rounds > 0 && self.last == round)
    }

    /// It has grown in this round.
    pub(super) fn grow(&mut self, round: usize) {
        if self.rounds == 0 || self.last != round {
            *self = Self { rounds: self.rounds + 1, last: round };
        }
    }
}

struct RunResult {
    seen: FxHashMap<(CellId, bool, bool), Seen>,
    partings: FxHashMap<(CellId, Parting), Last>,
    sent: Vec<(SignalId, usize, Value)>,
    signals: FxHashSet<SignalId>,
    handed: Vec<(SignalId, handovers::Sender, Option<handed::Handed>)>,
    kept: Option<Value>,
    left_to: FxHashSet<SignalId>,
    margins: FxHashMap<(CellId, End), f64>,
    let_in: FxHashSet<(HandlerId, Part, Extent)>,
    found: Found,
    outlook: Outlook,
    calls_much: bool,
}

#[derive(Default)]
struct Changed {
    /// Their reach has grown.
    cells: FxHashSet<CellId>,
    /// What is done to them has: that matters where others can act in between.
    effects: FxHashSet<CellId>,
    signals: FxHashSet<SignalId>,
    /// They are no longer kept out by another.
    let_in: FxHashSet<HandlerId>,
}

/// By cell: the handlers that build on what it can hold, and on what others do to it.
struct Dependents {
    by_reach: Vec<Vec<HandlerId>>,
    by_effects: Vec<Vec<HandlerId>>,
}

impl Dependents {
    /// Marks the handlers that build on what has changed.
    fn mark(&self, world: &World<'_>, changed: &Changed, dirty: &mut [bool]) {
        let reached = changed.cells.iter().flat_map(|cell| &self.by_reach[cell.index()]);
        let affected = changed.effects.iter().flat_map(|cell| &self.by_effects[cell.index()]);
        let answers = changed.signals.iter().filter_map(|signal| world.answers.get(signal)).flatten();
        reached.chain(affected).chain(answers).chain(&changed.let_in).for_each(|id| dirty[id.index()] = true);
    }
}
