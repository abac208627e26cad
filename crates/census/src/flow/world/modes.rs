//! What a number lies between while a mode holds: `timer` is 1 to 10 while `active` is true, and 0 while it is not. A mode is a
//! cell of few values, a `bool`, an enum, a direction that is 1 or -1 or a count of a few; what the number can be is kept apart by those (the
//! boolean partitioning of Jeannet, "Dynamic partitioning in linear relation analysis", 2003).
//!
//! Both must always be seen together: whoever writes one of them knows the other one of the same instance too.

use super::*;

/// How many values a mode has at most.
const MOST_VALUES: usize = 6;
/// How far the values of a whole number lie apart at most, to be one.
const MOST_SPAN: f64 = 32.0;
/// In how many bodies each of the two is written at most: what many see to is seldom kept together.
const MOST_WRITERS: usize = 8;
/// After how many rounds numbers stop nowhere any more.
const LAST_ROUND: usize = 30;
/// How often the handlers are run at most.
const MOST_ROUNDS: usize = 40;
/// How many modes, and how many numbers, are looked at in one script.
const MOST_MODES: usize = 32;
/// How many of them are looked at together.
const MOST_PAIRS: usize = 12;

ids! {
    /// A number and a mode that it hangs on.
    PairId,
}

/// A number and a mode that it hangs on.
#[derive(Debug)]
struct Pair {
    mode: CellId,
    number: CellId,
    /// What the mode can be, and what the number is then; none where they were never seen so.
    within: Vec<(Value, Option<Value>)>,
}

impl Pair {
    fn is_of(&self, mode: CellId, number: CellId) -> bool {
        (self.mode, self.number) == (mode, number)
    }
}

/// All modes that numbers hang on.
#[derive(Debug, Default)]
pub(super) struct Modes {
    pairs: Vec<Pair>,
}

/// By pair and the place of the mode's value: what the number was seen to be.
type SeenInModes = FxHashMap<(PairId, usize), Value>;

/// The cells that something hangs on that can go wrong.
type AskedCells = SmallVec<[CellId; 4]>;

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

impl World<'_> {
    /// What may go together of what is asked for in handlers: a mode and a number that a handler writes both, by what each other
    /// is.
    fn find_pairs(&self, asked: &[AskedCells]) -> Vec<Pair> {
        let writers = self.count_writers();
        let mut pairs: Vec<Pair> = Vec::new();
        for (script, _) in self.project.script_ids() {
            let asking = self.handlers_of(script).filter(|id| !asked[id.index()].is_empty());
            let numbers: FxHashSet<CellId> = asking.flat_map(|id| asked[id.index()].iter().copied()).collect();
            if numbers.is_empty() {
                continue;
            }
            let asks = |pair: &Pair| {
                let mut handlers = self.handlers_of(script);
                handlers.any(|id| asked[id.index()].contains(&pair.number) && self.reads(id, pair.mode))
            };
            let is_new = |pair: &Pair| !pairs.iter().any(|known| known.is_of(pair.mode, pair.number));
            let found: Vec<Pair> = self.pairs_in(script, &numbers, &writers).into_iter().filter(is_new).collect();
            pairs.extend(found.into_iter().filter(asks).take(MOST_PAIRS));
        }
        pairs
    }

    /// How many bodies write each cell.
    fn count_writers(&self) -> Vec<usize> {
        let mut counts = vec![0; self.project.cells.len()];
        for accesses in &self.accesses {
            let written: FxHashSet<(Body, CellId)> =
                accesses.iter().filter(|access| access.writes()).map(|access| (access.body, access.cell)).collect();
            written.into_iter().for_each(|(_, cell)| counts[cell.index()] += 1);
        }
        counts
    }

    fn pairs_in(&self, script: ScriptId, asked: &FxHashSet<CellId>, writers: &[usize]) -> Vec<Pair> {
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
            for &number in others.filter(|&&number| self.decide_each_other(script, *mode, number)) {
                let within = values.iter().map(|value| (value.clone(), None)).collect();
                pairs.push(Pair { mode: *mode, number, within });
            }
        }
        pairs
    }

    /// Whether some handler writes both, and reads one of them: in another one the flag may decide.
    fn decide_each_other(&self, script: ScriptId, mode: CellId, number: CellId) -> bool {
        self.handlers_of(script).any(|id| {
            let (mut writes, mut reads) = ([false; 2], false);
            for access in self.accesses_in(id) {
                let at = [mode, number].iter().position(|cell| *cell == access.cell);
                match at {
                    Some(at) if access.writes() => writes[at] = true,
                    Some(_) => reads = true,
                    None => {}
                }
            }
            writes == [true; 2] && reads
        })
    }

    /// Whether a cell is only written by scripts, and has a value all the time.
    fn is_all_known(&self, cell: CellId) -> bool {
        let by_game = match self.project.cells[cell.index()] {
            Cell::Variable(id) => self.project.registry.var(id).engine_writes,
            Cell::Private(..) => false,
        };
        !by_game
            && !self.unsettled[cell.index()]
            && !self.given_unread[cell.index()]
            && !self.cleared[cell.index()]
            && !is_nothing(&self.start_value_of(cell))
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

    /// Whether a cell is a number that goes with a mode: both begin, and go, at the same time.
    fn may_hang_on(&self, number: CellId, mode: CellId) -> bool {
        let lasts = |cell: CellId| match self.project.cells[cell.index()] {
            Cell::Variable(id) => self.project.registry.var(id).lifetime,
            Cell::Private(..) => crate::registry::Lifetime::Run,
        };
        let is_number = match self.project.cells[number.index()] {
            Cell::Variable(id) => {
                let variable = self.project.registry.var(id);
                let moves = |bound: &Option<Bound>| match bound {
                    Some(Bound::Variable(other)) => self.fixed(CellId(other.0)).is_none(),
                    _ => false,
                };
                let follows = moves(&variable.min) || moves(&variable.max);
                variable.ty.is_numeric() && !(variable.overflow != crate::registry::Overflow::Error && follows)
            }
            Cell::Private(script, index) => self.project.script(script).privates[index as usize].ty.is_numeric(),
        };
        let scene = |cell: CellId| match self.project.cells[cell.index()] {
            Cell::Variable(id) => Some(self.project.registry.var(id).owner),
            Cell::Private(script, _) => self.project.script(script).scene,
        };
        let together = match (self.home(number), self.home(mode)) {
            (Home::Scene, Home::Scene) => scene(number) == scene(mode),
            (a, b) => a == b,
        };
        is_number && together && lasts(number) == lasts(mode) && self.is_all_known(number)
    }

    /// What a cell starts as.
    fn start_value_of(&self, cell: CellId) -> Value {
        match self.project.cells[cell.index()] {
            Cell::Variable(id) => self.start_of(id),
            Cell::Private(script, index) => {
                let unit = self.project.script(script);
                let ty = unit.privates[index as usize].ty;
                unit.tree.privates[index as usize]
                    .start
                    .map_or_else(|| nothing(ty), |start| self.literal(unit, start, ty))
            }
        }
    }

    /// Puts down the pairs that stand, and the slots of them for these handlers: whoever writes one of the two comes to know
    /// the other one, too.
    fn put_down_pairs(&mut self, pairs: Vec<Pair>, handlers: &[HandlerId]) {
        let mut tables = std::mem::take(&mut self.tables);
        for &id in handlers {
            let (unit, ..) = self.parts(id);
            let missing = self.missing_places(&tables[id.index()], id, &pairs);
            if !missing.is_empty() {
                tables[id.index()] = tables[id.index()].with_places(self, unit, &missing);
            }
        }
        let stand = pairs.into_iter().filter(|pair| self.are_seen_together(&tables, handlers, pair));
        self.modes.pairs = stand.collect();
        for &id in handlers {
            let table = &mut tables[id.index()];
            let slots = (0..).zip(&self.modes.pairs).flat_map(|(at, pair)| {
                let found = self.slots_together(table, pair);
                found.into_iter().map(move |(mode, number)| ModeSlots { pair: PairId(at), mode, number })
            });
            table.modes = slots.collect();
        }
        self.tables = tables;
        (0..self.modes.pairs.len()).for_each(|at| self.begin_pair(at));
    }

    /// The places that a handler does not name yet of what it writes the other half of.
    fn missing_places(&self, table: &SlotTable, handler: HandlerId, pairs: &[Pair]) -> Vec<PlaceId> {
        let (unit, ..) = self.parts(handler);
        let index = PlaceIndex::new(unit);
        let mut missing: Vec<PlaceId> = Vec::new();
        for access in self.accesses_in(handler).filter(|access| access.writes()) {
            let others = pairs.iter().filter_map(|pair| match access.cell {
                cell if cell == pair.mode => Some(pair.number),
                cell if cell == pair.number => Some(pair.mode),
                _ => None,
            });
            let places = others.filter_map(|cell| index.beside(self.project, unit, access.place, cell));
            for place in places {
                if table.slot(Key::Place(place)).is_none() && !missing.contains(&place) {
                    missing.push(place);
                }
            }
        }
        missing
    }

    /// Whether all who write one of the two know the other one of the same instance.
    fn are_seen_together(&self, tables: &[SlotTable], handlers: &[HandlerId], pair: &Pair) -> bool {
        handlers.iter().all(|&handler| {
            let table = &tables[handler.index()];
            let is_written = |access: &&Access| access.writes() && [pair.mode, pair.number].contains(&access.cell);
            let written = self.accesses_in(handler).filter(is_written);
            let mut slots = written.filter_map(|access| table.slot(Key::Place(access.place))).peekable();
            if slots.peek().is_none() {
                return true;
            }
            let together = self.slots_together(table, pair);
            slots.all(|slot| together.iter().any(|&(mode, number)| slot == mode || slot == number))
        })
    }

    /// The slots of both cells of one instance.
    fn slots_together(&self, table: &SlotTable, pair: &Pair) -> Vec<(Slot, Slot)> {
        let own = if matches!(self.home(pair.mode), Home::Instance(_)) { Base::Own } else { Base::One };
        let of = |cell: CellId| {
            let slots = (0..).zip(&table.slots).filter(move |(_, facts)| facts.cell == Some(cell));
            slots.map(move |(slot, facts): (Slot, &SlotFacts)| (facts.base.unwrap_or(own), slot))
        };
        of(pair.mode)
            .filter_map(|(base, mode)| {
                of(pair.number).find(|&(other, _)| other == base).map(|(_, number)| (mode, number))
            })
            .collect()
    }

    /// What the two are as a run, or an instance, begins.
    fn begin_pair(&mut self, at: usize) {
        let Pair { mode, number, .. } = self.modes.pairs[at];
        let mut starts = vec![(self.start_value_of(mode), self.start_value_of(number))];
        if let (Cell::Variable(mode), Cell::Variable(number)) =
            (&self.project.cells[mode.index()], &self.project.cells[number.index()])
        {
            starts = self.starts_together(*mode, *number).unwrap_or(starts);
        }
        for (mode, number) in starts {
            for (value, within) in &mut self.modes.pairs[at].within {
                if mode.meet(value).is_some() {
                    *within = Some(within.as_ref().map_or_else(|| number.clone(), |known| known.join(&number)));
                }
            }
        }
    }

    fn starts_together(&self, mode: VarId, number: VarId) -> Option<Vec<(Value, Value)>> {
        let registry = &self.project.registry;
        let of = registry.var(mode).owner;
        let default = |id: VarId| registry.var(id).default.as_ref().map(|value| self.start_value(id, value));
        let start = |id: VarId, instance| match registry.start_of(id, instance) {
            Some(value) => Some(self.start_value(id, value)),
            None => default(id),
        };
        let mut starts = vec![(default(mode)?, default(number)?)];
        for instance in (0..registry.instances.len()).map(InstanceId::at) {
            if registry.var(mode).scope == Scope::Instance && registry.instance(instance).of == of {
                starts.push((start(mode, instance)?, start(number, instance)?));
            }
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
        let pairs = self.find_pairs(&asked);
        if pairs.is_empty() {
            return;
        }
        let has_part = |&id: &HandlerId| {
            let asks = |pair: &Pair| asked[id.index()].contains(&pair.number) && self.reads(id, pair.mode);
            self.can_begin(id) && pairs.iter().any(|pair| asks(pair) || self.writes(id, pair))
        };
        let handlers: Vec<HandlerId> = self.handler_ids().filter(has_part).collect();
        self.put_down_pairs(pairs, &handlers);
        if let Some(latest) = self.settle_modes(&handlers) {
            let judged = latest.into_iter().filter(|(id, _)| !asked[id.index()].is_empty());
            judged.for_each(|(id, events)| found[id.index()].events = self.settled_events(id, events));
        }
    }

    /// Runs these handlers until nothing grows that the modes tell; gives what can still go wrong in each, or none where no
    /// end came.
    fn settle_modes(&mut self, handlers: &[HandlerId]) -> Option<FxHashMap<HandlerId, Vec<Event>>> {
        let mut latest: FxHashMap<HandlerId, Vec<Event>> = FxHashMap::default();
        let mut active: FxHashSet<PairId> = (0..self.modes.pairs.len()).map(PairId::at).collect();
        let mut grown = active.clone();
        for round in 0..MOST_ROUNDS {
            let is_due = |id: &HandlerId| self.table(*id).modes.iter().any(|slots| grown.contains(&slots.pair));
            let due: Vec<HandlerId> = handlers.iter().copied().filter(is_due).collect();
            let runs: Vec<(SeenInModes, Vec<Event>)> =
                due.par_iter().map(|&id| self.run_by_modes(id, &active)).collect();
            grown.clear();
            for (id, (seen, events)) in due.into_iter().zip(runs) {
                latest.insert(id, events);
                let more = seen.into_iter().filter(|(key, seen)| self.take_mode(*key, seen, round));
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

    /// What is done with cells in a handler, and in the procedures that it may call.
    fn accesses_in(&self, handler: HandlerId) -> impl Iterator<Item = &Access> {
        let (script, index) = self.handler(handler);
        let in_reach = move |body: Body| match body {
            Body::Handler(at) => at == index,
            Body::Procedure(_) => true,
        };
        self.accesses[script.index()].iter().filter(move |access| in_reach(access.body))
    }

    fn writes(&self, handler: HandlerId, pair: &Pair) -> bool {
        self.accesses_in(handler).any(|access| access.writes() && [pair.mode, pair.number].contains(&access.cell))
    }

    fn reads(&self, handler: HandlerId, cell: CellId) -> bool {
        self.accesses_in(handler).any(|access| access.cell == cell && !access.writes())
    }

    /// Whether the modes of a pair tell any more of its number than what it ever is.
    fn tells(&self, pair: PairId) -> bool {
        let Pair { number, within, .. } = &self.modes.pairs[pair.index()];
        let reach = &self.reach[number.index()];
        within.iter().any(|(_, known)| known.as_ref().is_none_or(|known| known.meet(reach).as_ref() != Some(reach)))
    }

    /// The cells that something hangs on that can go wrong in a handler.
    fn asked_in(&self, handler: HandlerId, events: &[Event]) -> AskedCells {
        let (unit, ..) = self.parts(handler);
        let accesses = &self.accesses[self.handler(handler).0.index()];
        let mut cells = AskedCells::new();
        for event in events {
            let at = match *event {
                Event::Outside { at, variable, .. } => {
                    cells.push(CellId(variable.0));
                    at
                }
                Event::Broken { at, .. } => at,
                Event::Zero { at, .. } => unit.tree.expr(at).span,
                _ => continue,
            };
            let named = accesses.iter().filter(|access| access.statement == at || at.contains(access.at));
            cells.extend(named.map(|access| access.cell));
        }
        cells
    }

    /// What a handler leaves numbers as while modes hold, and what can go wrong.
    fn run_by_modes(&self, handler: HandlerId, active: &FxHashSet<PairId>) -> (SeenInModes, Vec<Event>) {
        let mut run = Run::new(self, handler);
        run.modes = run.table.modes.iter().copied().filter(|slots| active.contains(&slots.pair)).collect();
        run.handler_by_modes();
        (run.in_modes, run.events)
    }

    /// The values of a pair's mode, with what the number is then.
    #[must_use]
    pub fn within_modes(&self, pair: PairId) -> &[(Value, Option<Value>)] {
        &self.modes.pairs[pair.index()].within
    }

    /// The number of a pair.
    pub(super) fn number_of(&self, pair: PairId) -> CellId {
        self.modes.pairs[pair.index()].number
    }

    /// Takes in what the number of a pair was seen to be with the mode's value at that place of the list; says whether that is
    /// more.
    fn take_mode(&mut self, (pair, at): (PairId, usize), seen: &Value, round: usize) -> bool {
        let cell = self.number_of(pair);
        let Some(seen) = self.cell_within_bounds(cell, seen.clone()) else { return false };
        let stops = self.stops_by_modes(cell, round);
        let known = self.modes.pairs[pair.index()].within[at].1.as_ref();
        let next = known.map_or_else(|| seen.clone(), |known| self.grown(cell, known, &seen, round > 0, &stops));
        if known == Some(&next) {
            return false;
        }
        self.modes.pairs[pair.index()].within[at].1 = Some(next);
        true
    }

    /// The numbers that a cell may stop at while a mode holds: beside those that it always may, its bounds and what lies beside
    /// them, where a mode may end; after some rounds only those are left.
    fn stops_by_modes(&self, cell: CellId, round: usize) -> Vec<f64> {
        if round >= LAST_ROUND {
            return Vec::new();
        }
        let mut stops = if round < LAST_STOPS { self.cell_stops[cell.index()].clone() } else { Vec::new() };
        stops.extend(self.ends_at_start(cell).into_iter().flatten().flat_map(|end| [end - 1.0, end, end + 1.0]));
        stops.sort_unstable_by(f64::total_cmp);
        stops.dedup();
        stops
    }

    /// Whether what is written to a pair just before something goes can be seen as a handler begins.
    #[must_use]
    pub fn may_be_parted(&self, handler: HandlerId, pair: PairId) -> bool {
        let Pair { mode, number, .. } = self.modes.pairs[pair.index()];
        [mode, number].into_iter().any(|cell| self.left_at_parting(handler, cell).next().is_some())
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
