//! What a number lies between while a mode holds: `timer` is 1 to 10 while `active` is true, and 0 while it is not. A mode is a
//! cell of few values, a `bool`, an enum, a direction that is 1 or -1 or a count of a few; what the number can be is kept apart
//! by those (the boolean partitioning of Jeannet, "Dynamic partitioning in linear relation analysis", 2003).
//!
//! Both must always be seen together. Whoever writes one of them knows the other one of the same instance too; or else whatever
//! it leaves the number as may be so in any mode, and the number goes along from mode to mode as it can be.

use super::touched::Touched;
use super::*;
use crate::flow::access::walk_behind;
use crate::registry::{Lifetime, Overflow};

/// How many values a mode has at most.
const MOST_VALUES: usize = 6;
/// How far the values of a whole number lie apart at most, to be one.
const MOST_SPAN: f64 = 32.0;
/// In how many bodies each of the two is written at most: what many see to is seldom kept together.
const MOST_WRITERS: usize = 8;
/// How many steps runs of the handlers go through at most that write one of the two.
const MOST_STEPS: usize = 1200;
/// After how many rounds numbers stop nowhere any more.
const LAST_ROUND: usize = 30;
/// How often the handlers are run at most.
const MOST_ROUNDS: usize = 40;
/// How many modes, and how many numbers, are looked at in one script.
const MOST_MODES: usize = 64;
/// How many of them are looked at together.
const MOST_PAIRS: usize = 48;

ids! {
    /// A number and a mode that it hangs on.
    PairId,
}

/// A number and a mode that it hangs on.
#[derive(Debug)]
pub(super) struct Pair {
    mode: CellId,
    number: CellId,
    /// What the mode can be, and what the number is then; none where they were never seen so.
    within: Vec<(Value, Option<Value>)>,
    /// The one of the two whose changes somebody deals with, if any.
    kept: Option<CellId>,
    /// What the number is then once the queue is empty, and that is through.
    quiet: Vec<Option<Value>>,
    /// Those who leave the other one of the two to that one.
    passing_on: Vec<HandlerId>,
}

/// By pair and the place of the mode's value: what the number was seen to be.
type SeenInModes = FxHashMap<(PairId, usize), Value>;

/// The cells that something hangs on that can go wrong.
type AskedCells = SmallVec<[CellId; 4]>;

/// The pairs by their cells.
#[derive(Default)]
struct Partners {
    /// By cell: the pairs that it is one half of, with the other half.
    all: FxHashMap<CellId, SmallVec<[(usize, CellId); 2]>>,
    /// By mode: the same with its numbers.
    numbers: FxHashMap<CellId, SmallVec<[(usize, CellId); 2]>>,
}

impl Partners {
    fn of(pairs: &[Pair]) -> Self {
        let mut partners = Self::default();
        for (at, &Pair { mode, number, .. }) in pairs.iter().enumerate() {
            partners.all.entry(mode).or_default().push((at, number));
            partners.all.entry(number).or_default().push((at, mode));
            partners.numbers.entry(mode).or_default().push((at, number));
        }
        partners
    }

    fn of_cell(&self, cell: CellId) -> &[(usize, CellId)] {
        self.all.get(&cell).map_or(&[], |partners| partners)
    }

    fn numbers(&self, mode: CellId) -> &[(usize, CellId)] {
        self.numbers.get(&mode).map_or(&[], |numbers| numbers)
    }
}

/// A pair in the slots of a handler.
#[derive(Clone, Copy, Debug)]
pub struct ModeSlots {
    /// Which.
    pub pair: PairId,
    /// The slot of the mode.
    pub mode: Slot,
    /// That of the number.
    pub number: Slot,
}

/// One of a pair in a slot of a handler that nobody names the other one beside: another instance's.
#[derive(Clone, Copy, Debug)]
pub struct LoneSlot {
    /// Which pair.
    pub pair: PairId,
    /// The slot.
    pub slot: Slot,
    /// Whether it is the mode.
    pub is_mode: bool,
}

impl World<'_> {
    /// What may go together of what is asked for in handlers: a mode and a number that a handler writes both, by what each other
    /// is.
    fn find_pairs(&self, touched: &Touched, asked: &[AskedCells]) -> Vec<Pair> {
        let writers = touched.count_writers(self.project.cells.len());
        let mut known: FxHashSet<(CellId, CellId)> = FxHashSet::default();
        let mut pairs: Vec<Pair> = Vec::new();
        for (script, _) in self.project.script_ids() {
            let asking: Vec<HandlerId> = self.handlers_of(script).filter(|id| !asked[id.index()].is_empty()).collect();
            let numbers: FxHashSet<CellId> = asking.iter().flat_map(|id| asked[id.index()].iter().copied()).collect();
            if numbers.is_empty() {
                continue;
            }
            let is_asked = |pair: &Pair| {
                let asks =
                    |id: &HandlerId| touched.reads(self, *id, pair.mode) && asked[id.index()].contains(&pair.number);
                asking.iter().any(asks)
            };
            let found = self.pairs_in(script, touched, &numbers, &writers).into_iter().filter(is_asked);
            pairs.extend(found.filter(|pair| known.insert((pair.mode, pair.number))).take(MOST_PAIRS));
        }
        pairs
    }

    fn pairs_in(&self, script: ScriptId, touched: &Touched, asked: &FxHashSet<CellId>, writers: &[usize]) -> Vec<Pair> {
        let accesses = &self.accesses[script.index()];
        let mut written: Vec<CellId> =
            accesses.iter().filter(|access| access.writes()).map(|access| access.cell).collect();
        written.sort_unstable();
        written.dedup();
        written.retain(|cell| writers[cell.index()] <= MOST_WRITERS);
        let modes = written.iter().map(|&cell| (cell, self.mode_values(cell)));
        let modes: Vec<(CellId, Vec<Value>)> =
            modes.filter(|(_, values)| !values.is_empty()).take(MOST_MODES).collect();
        let numbers: Vec<CellId> =
            written.iter().copied().filter(|cell| asked.contains(cell)).take(MOST_MODES).collect();
        let mut pairs: Vec<Pair> = Vec::new();
        for (mode, values) in &modes {
            let others = numbers.iter().filter(|&number| number != mode && self.may_hang_on(*number, *mode));
            for &number in others.filter(|&&number| self.decide_each_other(script, touched, *mode, number)) {
                let within = values.iter().map(|value| (value.clone(), None)).collect();
                let kept = self.kept_with(touched, number, *mode).or_else(|| self.kept_with(touched, *mode, number));
                let other = if kept == Some(number) { *mode } else { number };
                let passing_on = kept.map(|kept| self.leaving_it_to_the_keeper(touched, kept, other));
                let (quiet, passing_on) = (vec![None; values.len()], passing_on.unwrap_or_default());
                pairs.push(Pair { mode: *mode, number, within, kept, quiet, passing_on });
            }
        }
        pairs
    }

    /// Whether some handler writes both, and reads one of them, or the one when the other has changed: in another handler the
    /// flag may decide.
    fn decide_each_other(&self, script: ScriptId, touched: &Touched, mode: CellId, number: CellId) -> bool {
        let is_kept = |cell, other| self.kept_with(touched, cell, other).is_some();
        is_kept(number, mode)
            || is_kept(mode, number)
            || self.handlers_of(script).any(|id| {
                let both = [mode, number];
                both.iter().all(|&cell| touched.writes(self, id, cell))
                    && both.iter().any(|&cell| touched.reads(self, id, cell))
            })
    }

    /// A cell whose changes somebody deals with who writes another, that goes with it, too.
    fn kept_with(&self, touched: &Touched, cell: CellId, other: CellId) -> Option<CellId> {
        self.keeper_of(cell).is_some_and(|id| touched.writes(self, id, other)).then_some(cell)
    }

    /// Whether a cell is only written by scripts, and has a value all the time.
    pub(super) fn is_all_known(&self, cell: CellId) -> bool {
        self.is_given_by_scripts(cell)
            && !self.given_unread[cell.index()]
            && !self.cleared[cell.index()]
            && self.has_default(cell)
            && !self.follows_a_bound(cell)
    }

    /// The values that a cell can have, if it is a mode: none if it is not, or has too many.
    fn mode_values(&self, cell: CellId) -> Vec<Value> {
        let ty = match self.project.cells[cell.index()] {
            Cell::Variable(id) => self.project.registry.var(id).ty,
            Cell::Private(script, index) => self.project.script(script).privates[index as usize].ty,
        };
        if !self.is_all_known(cell) {
            return Vec::new();
        }
        let values = match (ty, &self.reach[cell.index()]) {
            (Type::Bool, _) => [true, false].map(|yes| Value::Bool { yes, no: !yes }).into(),
            (Type::Enum(of), _) => match self.any_of(of) {
                Value::Text(Some(all)) => all.iter().map(|&one| Value::Text(Some(smallvec![one]))).collect(),
                _ => Vec::new(),
            },
            (Type::Int, Value::Num(num)) => few_numbers(num),
            _ => Vec::new(),
        };
        if values.len() > MOST_VALUES { Vec::new() } else { values }
    }

    /// Whether a variable moves with a bound that moves, where nobody writes it.
    pub(super) fn follows_a_bound(&self, cell: CellId) -> bool {
        let Cell::Variable(id) = self.project.cells[cell.index()] else { return false };
        let variable = self.project.registry.var(id);
        let moves = |bound: &Option<Bound>| match bound {
            Some(Bound::Variable(other)) => self.fixed(CellId(other.0)).is_none(),
            _ => false,
        };
        variable.overflow != Overflow::Error && (moves(&variable.min) || moves(&variable.max))
    }

    /// Whether a cell is a number that goes with a mode: both begin, and go, at the same time.
    fn may_hang_on(&self, number: CellId, mode: CellId) -> bool {
        self.type_of(number).is_numeric()
            && self.lasting_of(number) == self.lasting_of(mode)
            && self.is_all_known(number)
    }

    /// Where a cell lives, the scene that it goes with where any is left, and how long it is kept. A private goes with the
    /// scene that its script is for, or in.
    fn lasting_of(&self, cell: CellId) -> (Home, Option<OwnerId>, Lifetime) {
        let (scene, lifetime) = match self.project.cells[cell.index()] {
            Cell::Variable(id) => {
                let variable = self.project.registry.var(id);
                ((variable.scope == Scope::Scene).then_some(variable.owner), variable.lifetime)
            }
            Cell::Private(script, _) => (self.project.script(script).scene, Lifetime::Run),
        };
        (self.home(cell), scene.filter(|_| self.goes), lifetime)
    }

    /// Puts down the pairs, and their slots for these handlers: whoever writes one of the two comes to know the other one, too.
    fn put_down_pairs(&mut self, pairs: Vec<Pair>, handlers: &[HandlerId]) {
        let mut tables = std::mem::take(&mut self.tables);
        let partners = Partners::of(&pairs);
        self.modes = pairs;
        for &id in handlers {
            let (unit, ..) = self.parts(id);
            let missing = self.missing_places(&tables[id.index()], id, &partners);
            let table = &mut tables[id.index()];
            if !missing.is_empty() {
                *table = table.with_places(self, unit, &missing);
            }
            table.modes = self.slots_together(table, &partners);
            table.lone = self.find_lone(table, id, &partners);
        }
        self.tables = tables;
        (0..self.modes.len()).for_each(|at| self.begin_pair(at));
    }

    /// The places that a handler does not name yet of what it writes the other half of.
    fn missing_places(&self, table: &SlotTable, handler: HandlerId, partners: &Partners) -> Vec<PlaceId> {
        let (unit, ..) = self.parts(handler);
        let index = PlaceIndex::new(unit);
        let mut missing: Vec<PlaceId> = Vec::new();
        for access in self.accesses_in(handler).filter(|access| access.writes()) {
            let others = partners.of_cell(access.cell).iter().map(|&(_, other)| other);
            for place in others
                .filter_map(|cell| index.beside(self.project, unit, (access.place, self.own_base(access.cell)), cell))
            {
                if table.slot(Key::Place(place)).is_none() && !missing.contains(&place) {
                    missing.push(place);
                }
            }
        }
        missing
    }

    /// What a handler writes of pairs whose other half of the same instance it does not name.
    fn find_lone(&self, table: &SlotTable, handler: HandlerId, partners: &Partners) -> Vec<LoneSlot> {
        let mut lone: Vec<LoneSlot> = Vec::new();
        for access in self.accesses_in(handler).filter(|access| access.writes()) {
            let Some(slot) = table.slot(Key::Place(access.place)) else { continue };
            for &(at, _) in partners.of_cell(access.cell) {
                let pair = PairId::at(at);
                let is_there = |slots: &ModeSlots| slots.pair == pair && (slots.mode == slot || slots.number == slot);
                let is_known = lone.iter().any(|known| (known.pair, known.slot) == (pair, slot));
                if !table.modes.iter().any(is_there) && !is_known {
                    lone.push(LoneSlot { pair, slot, is_mode: self.modes[at].mode == access.cell });
                }
            }
        }
        lone
    }

    /// The slots of both cells of one instance, by pair: that of the mode, that of the number.
    fn slots_together(&self, table: &SlotTable, partners: &Partners) -> Vec<ModeSlots> {
        let base_of = |facts: &SlotFacts, cell| facts.base.unwrap_or_else(|| self.own_base(cell));
        let named =
            (0..).zip(&table.slots).filter_map(|(slot, facts): (Slot, &SlotFacts)| Some((slot, facts, facts.cell?)));
        let halves = named.filter(|(.., cell)| !partners.of_cell(*cell).is_empty());
        let slots: FxHashMap<(CellId, Base), Slot> =
            halves.map(|(slot, facts, cell)| ((cell, base_of(facts, cell)), slot)).collect();
        let mut together: Vec<(usize, Slot, Slot)> = Vec::new();
        for (&(mode, base), &slot) in &slots {
            for &(pair, number) in partners.numbers(mode) {
                together.extend(slots.get(&(number, base)).map(|&number| (pair, slot, number)));
            }
        }
        together.sort_unstable();
        together.into_iter().map(|(at, mode, number)| ModeSlots { pair: PairId::at(at), mode, number }).collect()
    }

    /// Which instance a private is taken from: that of its script.
    fn own_base(&self, cell: CellId) -> Base {
        let registry = &self.project.registry;
        match self.home(cell) {
            Home::Instance(actor) => registry.only_instance(actor).map_or(Base::Own, Base::Listed),
            Home::Everywhere | Home::Scene => Base::One,
        }
    }

    /// What the two are as a run, or an instance, begins.
    fn begin_pair(&mut self, at: usize) {
        let Pair { mode, number, .. } = self.modes[at];
        let mut starts = vec![(self.start_value_of(mode), self.start_value_of(number))];
        if let (Cell::Variable(mode), Cell::Variable(number)) =
            (&self.project.cells[mode.index()], &self.project.cells[number.index()])
        {
            starts = self.starts_together(*mode, *number).unwrap_or(starts);
        }
        let Pair { within, quiet, .. } = &mut self.modes[at];
        for (mode, number) in starts {
            for ((value, within), quiet) in within.iter_mut().zip(quiet.iter_mut()) {
                if mode.meet(value).is_some() {
                    *within = Some(within.as_ref().map_or_else(|| number.clone(), |known| known.join(&number)));
                    quiet.clone_from(within);
                }
            }
        }
    }

    fn starts_together(&self, mode: VarId, number: VarId) -> Option<Vec<(Value, Value)>> {
        let registry = &self.project.registry;
        let of = registry.var(mode).owner;
        let default = |id: VarId| registry.var(id).default.as_ref().map(|value| self.start_value(id, value, None));
        let start = |id: VarId, instance| match registry.start_of(id, instance) {
            Some(value) => Some(self.start_value(id, value, Some(instance))),
            None => default(id),
        };
        let mut starts = vec![(default(mode)?, default(number)?)];
        for instance in registry.instances_of(of).filter(|_| registry.var(mode).scope == Scope::Instance) {
            starts.push((start(mode, instance)?, start(number, instance)?));
        }
        Some(starts)
    }

    /// Where something can go wrong by all that the values of single cells tell, modes may rule it out: what numbers are
    /// while a mode holds is found out on top of all else, by running those handlers until nothing grows that write one of
    /// the two. How tests come out stays as it was: one that guards against what only a whole script rules out is there for
    /// good reason.
    pub(super) fn look_by_modes(&mut self, found: &mut [Found]) {
        let asked: Vec<AskedCells> =
            self.handler_ids().map(|id| self.asked_in(id, &found[id.index()].events)).collect();
        if asked.iter().all(SmallVec::is_empty) {
            return;
        }
        let touched = Touched::new(self);
        let mut pairs = self.find_pairs(&touched, &asked);
        let writers = self.writers_of(&touched, &Partners::of(&pairs));
        let of = |cell: CellId| writers.get(&cell).map_or(&[][..], Vec::as_slice);
        pairs.retain(|pair| self.is_worth_it(of(pair.mode).iter().chain(of(pair.number)).copied()));
        if pairs.is_empty() {
            return;
        }
        let partners = Partners::of(&pairs);
        let asks = |id: &HandlerId| asked[id.index()].iter().any(|cell| !partners.of_cell(*cell).is_empty());
        let writes = pairs.iter().flat_map(|pair| of(pair.mode).iter().chain(of(pair.number)).copied());
        let mut handlers: Vec<HandlerId> = self.handler_ids().filter(asks).chain(writes).collect();
        handlers.retain(|&id| self.can_begin(id));
        handlers.sort_unstable();
        handlers.dedup();
        self.put_down_pairs(pairs, &handlers);
        if let Some(latest) = self.settle_modes(&handlers) {
            let judged = latest.into_iter().filter(|(id, _)| !asked[id.index()].is_empty());
            judged.for_each(|(id, events)| found[id.index()].events = self.settled_events(id, events));
            self.leave_out_lent(found);
        }
    }

    /// Runs these handlers until nothing grows that the modes tell; gives what can still go wrong in each, or none where no
    /// end came.
    fn settle_modes(&mut self, handlers: &[HandlerId]) -> Option<FxHashMap<HandlerId, Vec<Event>>> {
        let mut latest: FxHashMap<HandlerId, Vec<Event>> = FxHashMap::default();
        let mut active: FxHashSet<PairId> = (0..self.modes.len()).map(PairId::at).collect();
        let mut grown = active.clone();
        for round in 0..MOST_ROUNDS {
            let is_due = |id: &HandlerId| {
                let SlotTable { modes, lone, .. } = self.table(*id);
                let mut pairs = modes.iter().map(|slots| slots.pair).chain(lone.iter().map(|lone| lone.pair));
                pairs.any(|pair| grown.contains(&pair))
            };
            let due: Vec<HandlerId> = handlers.iter().copied().filter(is_due).collect();
            let runs: Vec<(SeenInModes, Vec<Event>)> =
                due.par_iter().map(|&id| self.run_by_modes(id, &active)).collect();
            grown.clear();
            for (id, (seen, events)) in due.into_iter().zip(runs) {
                latest.insert(id, events);
                let more = seen.into_iter().filter(|(key, seen)| self.take_mode(id, *key, seen, round));
                grown.extend(more.map(|((pair, _), _)| pair));
            }
            if grown.is_empty() {
                return Some(latest);
            }
            // One that tells nothing any more is left out, which those that build on it have to be told too.
            active.retain(|pair| self.tells(*pair) || !grown.contains(pair));
        }
        None
    }

    /// The handlers that write each of these cells.
    fn writers_of(&self, touched: &Touched, partners: &Partners) -> FxHashMap<CellId, Vec<HandlerId>> {
        let mut writers: FxHashMap<CellId, Vec<HandlerId>> = FxHashMap::default();
        for id in self.handler_ids() {
            for cell in touched.written(self, id).filter(|cell| !partners.of_cell(*cell).is_empty()) {
                writers.entry(cell).or_default().push(id);
            }
        }
        writers
    }

    /// Whether running these handlers again and again costs no more than it may.
    fn is_worth_it(&self, writers: impl Iterator<Item = HandlerId>) -> bool {
        let mut steps = 0;
        for id in writers {
            if self.calls_much(id) {
                return false;
            }
            steps += self.size(id);
        }
        steps <= MOST_STEPS
    }

    /// Whether the modes of a pair tell any more of its number than what it ever is.
    fn tells(&self, pair: PairId) -> bool {
        let Pair { number, within, quiet, .. } = &self.modes[pair.index()];
        let reach = &self.reach[number.index()];
        let mut known = within.iter().map(|(_, known)| known).chain(quiet);
        known.any(|known| known.as_ref().is_none_or(|known| known.meet(reach).as_ref() != Some(reach)))
    }

    /// The cells that something hangs on that can go wrong in a handler.
    pub(super) fn asked_in(&self, handler: HandlerId, events: &[Event]) -> AskedCells {
        let (unit, ..) = self.parts(handler);
        let mut cells = AskedCells::new();
        if events.is_empty() {
            return cells;
        }
        let mut by_statement: FxHashMap<Span, AskedCells> = FxHashMap::default();
        for access in self.accesses_in(handler) {
            by_statement.entry(access.statement).or_default().push(access.cell);
        }
        for event in events {
            let at = match *event {
                Event::Outside { at, variable, .. } => {
                    cells.push(CellId(variable.0));
                    at
                }
                Event::Broken { at, .. } => at,
                Event::Zero { at, .. } => {
                    let span = unit.tree.expr(at).span;
                    let named = self.accesses_in(handler).filter(|access| span.contains(access.at));
                    cells.extend(named.map(|access| access.cell));
                    span
                }
                _ => continue,
            };
            cells.extend(by_statement.get(&at).into_iter().flatten().copied());
            self.add_what_stands_behind(unit, at, &mut cells);
        }
        cells.sort_unstable();
        cells.dedup();
        cells
    }

    /// Adds the cells that `let`s were worked out from whose names stand in a statement.
    fn add_what_stands_behind(&self, unit: &ScriptUnit, at: Span, cells: &mut AskedCells) {
        let exprs = &unit.tree.exprs;
        let from = exprs.partition_point(|expr| expr.span.end <= at.start);
        let within = (from..exprs.len()).take_while(|&index| exprs[index].span.start < at.end);
        let names = within.map(|index| ExprId(u32::try_from(index).unwrap_or(u32::MAX)));
        for name in names.filter(|&name| unit.behind(name) != name) {
            walk_behind(unit, unit.behind(name), &mut |inner| {
                cells.extend(unit.place_of(inner).and_then(|place| self.project.cell_of(unit, place)));
            });
        }
    }

    /// What a handler leaves numbers as while modes hold, and what can go wrong.
    fn run_by_modes(&self, handler: HandlerId, active: &FxHashSet<PairId>) -> (SeenInModes, Vec<Event>) {
        let mut run = Run::new(self, handler);
        run.modes = run.table.modes.iter().copied().filter(|slots| active.contains(&slots.pair)).collect();
        run.lone = run.table.lone.iter().copied().filter(|lone| active.contains(&lone.pair)).collect();
        run.handler_by_modes();
        (run.in_modes, run.events)
    }

    /// The values of a pair's mode, with what the number is then.
    #[must_use]
    pub fn within_modes(&self, pair: PairId) -> &[(Value, Option<Value>)] {
        &self.modes[pair.index()].within
    }

    /// What the number of a pair is as a handler begins, with the mode's value at that place of the list.
    #[must_use]
    pub fn within_mode(&self, handler: HandlerId, pair: PairId, at: usize) -> Option<&Value> {
        let Pair { kept, within, quiet, .. } = &self.modes[pair.index()];
        let is_quiet = kept.is_some_and(|kept| self.finds_kept(handler, kept));
        if is_quiet { quiet[at].as_ref() } else { within[at].1.as_ref() }
    }

    /// All that the number of a pair ever is.
    #[must_use]
    pub fn any_number_of(&self, pair: PairId) -> Value {
        self.reach[self.number_of(pair).index()].clone()
    }

    /// The number of a pair.
    pub(super) fn number_of(&self, pair: PairId) -> CellId {
        self.modes[pair.index()].number
    }

    /// Takes in what a handler left the number of a pair as with the mode's value at that place of the list; says whether that is
    /// more.
    fn take_mode(&mut self, by: HandlerId, (pair, at): (PairId, usize), seen: &Value, round: usize) -> bool {
        let cell = self.number_of(pair);
        let Some(seen) = self.cell_within_bounds(cell, seen.clone()) else { return false };
        let stops = self.stops_by_modes(cell, round);
        let next = |known: Option<&Value>| {
            known.map_or_else(|| seen.clone(), |known| self.grown(cell, known, &seen, round > 0, &stops))
        };
        let Pair { within, quiet, passing_on, .. } = &self.modes[pair.index()];
        let more = Some(next(within[at].1.as_ref())).filter(|next| within[at].1.as_ref() != Some(next));
        let is_passed_on = passing_on.contains(&by);
        let quieter = Some(next(quiet[at].as_ref())).filter(|next| !is_passed_on && quiet[at].as_ref() != Some(next));
        let grows = more.is_some() || quieter.is_some();
        let pair = &mut self.modes[pair.index()];
        pair.within[at].1 = more.or_else(|| pair.within[at].1.take());
        pair.quiet[at] = quieter.or_else(|| pair.quiet[at].take());
        grows
    }

    /// The numbers that a cell may stop at while a mode holds: beside those that it always may, its bounds and what lies beside
    /// them, where a mode may end; after some rounds only those are left.
    fn stops_by_modes(&self, cell: CellId, round: usize) -> Vec<f64> {
        if round >= LAST_ROUND {
            return Vec::new();
        }
        let mut stops = if round < LAST_STOPS { self.cell_stops[cell.index()].clone() } else { Vec::new() };
        stops.extend(self.ends_at_start(cell).into_iter().flatten().flat_map(stops::beside));
        stops.sort_unstable_by(f64::total_cmp);
        stops.dedup();
        stops
    }

    /// Whether what is written to a pair just before something goes can be seen as a handler begins.
    #[must_use]
    pub fn may_be_parted(&self, handler: HandlerId, pair: PairId) -> bool {
        let Pair { mode, number, .. } = self.modes[pair.index()];
        [mode, number].into_iter().any(|cell| self.finds_what_goes(handler, cell))
    }
}

/// All that a whole number can be, where that is little.
fn few_numbers(num: &Num) -> Vec<Value> {
    let mut values = Vec::new();
    let mut number = num.lo;
    while num.hi - num.lo < MOST_SPAN && number <= num.hi {
        if num.contains(number) {
            values.push(Value::Num(Num::constant(number, true)));
        }
        number += 1.0;
    }
    values
}
