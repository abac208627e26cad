//! What the rules ask once all is known: what a handler would do from here or there.

use super::super::access::AccessKind;
use super::*;

/// A write that no way leads to.
#[derive(Clone, Copy, Debug)]
pub struct Unreached {
    /// The script.
    pub script: ScriptId,
    /// The body in it.
    pub body: Body,
    /// The statement.
    pub at: Span,
}

/// What counts where it is asked how a test would come out.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Counted {
    /// All that a cell can hold at some time.
    Reached,
    /// Also what no way leads to, and what was meant where a write is mistaken.
    Written,
}

impl World<'_> {
    /// What is ever written to a cell beside what it can hold when others see it.
    #[must_use]
    pub fn written_beyond(&self, cell: CellId) -> Option<&Value> {
        let written = self.written_beyond.get(&cell)?;
        let reach = self.reach_of_tests(cell);
        (reach.join(written) != *reach).then_some(written)
    }

    /// What is written to a cell in all, as far as that is more than it can hold when others see it: also what no way leads to,
    /// since it may be what another test keeps from it, and that one is told of; and all that it might hold were it not for a
    /// write that leaves its range.
    #[must_use]
    pub fn all_written(&self, cell: CellId) -> Option<Value> {
        let unreached = self.beyond_reach.get(&cell).filter(|value| {
            let reach = self.reach_of_tests(cell);
            reach.join(value) != *reach
        });
        match (self.written_beyond(cell), unreached) {
            (Some(a), Some(b)) => Some(a.join(b)),
            (a, b) => a.or(b).cloned(),
        }
    }

    /// What a cell may come to by a write that is mistaken, since it can leave its range: its sign may be wrong, or its
    /// amount. Nobody can tell what was meant, but that it was to stay within the range.
    #[must_use]
    pub fn meant(&self, script: ScriptId, write: Span, cell: CellId) -> Option<Value> {
        self.mistaken.contains(&(script, write)).then(|| self.anything_in_range(cell)).flatten()
    }

    /// Anything that a slot may hold by its range alone; where that has no end, nobody can tell what.
    #[must_use]
    pub fn any_in_range(&self, facts: &SlotFacts) -> Value {
        let any = super::super::eval::anything(facts.ty);
        match facts.cell.and_then(|cell| self.cell_within_bounds(cell, any.clone())).unwrap_or(any) {
            Value::Num(num) if !num.lo.is_finite() || !num.hi.is_finite() => Value::Other,
            any => any,
        }
    }

    fn anything_in_range(&self, cell: CellId) -> Option<Value> {
        let Value::Num(reach) = &self.reach[cell.index()] else { return None };
        self.cell_within_bounds(cell, Value::Num(reach.spread(f64::NEG_INFINITY, f64::INFINITY)))
    }

    /// Puts down the writes that can leave the range of what they write, that divide by zero, or of which nobody can tell what
    /// they come to.
    fn find_mistaken(&mut self, found: &[Found]) {
        for (script, unit) in self.project.script_ids() {
            let handlers = &found[self.first_handler[script.index()]..][..unit.tree.handlers.len()];
            let mut divisions: Vec<Span> = Vec::new();
            for event in handlers.iter().flat_map(|found| &found.events) {
                match *event {
                    Event::Outside { at, written, variable, .. } if written == variable => {
                        self.mistaken.insert((script, at));
                        self.mistaken_cells.insert(CellId(variable.0));
                    }
                    Event::Untellable { at, cell } => {
                        self.mistaken.insert((script, at));
                        self.mistaken_cells.insert(cell);
                    }
                    Event::Zero { at, .. } => divisions.push(unit.tree.expr(at).span),
                    _ => {}
                }
            }
            divisions.sort_unstable();
            for write in self.accesses[script.index()].iter().filter(|access| access.writes()) {
                let next = divisions.partition_point(|division| division.start < write.statement.start);
                if divisions.get(next).is_some_and(|&division| write.statement.contains(division)) {
                    self.mistaken.insert((script, write.statement));
                    self.mistaken_cells.insert(write.cell);
                }
            }
        }
    }

    /// Whether a write to a cell is mistaken.
    #[must_use]
    pub fn is_mistaken(&self, cell: CellId) -> bool {
        self.mistaken_cells.contains(&cell)
    }

    /// The writes to a cell that no way leads to.
    pub fn unreached_writes(&self, cell: CellId) -> impl Iterator<Item = &Unreached> {
        self.unreached.get(&cell).into_iter().flatten()
    }

    /// Puts down what is written where no way leads.
    pub(super) fn find_unreached_writes(&mut self, found: &[Found]) {
        self.find_mistaken(found);
        let mistaken = self.mistaken_cells.iter();
        let mut values: FxHashMap<CellId, Value> =
            mistaken.filter_map(|&cell| Some((cell, self.anything_in_range(cell)?))).collect();
        let mut unreached: FxHashMap<CellId, Vec<Unreached>> = FxHashMap::default();
        for (script, unit) in self.project.script_ids() {
            let handlers = &found[self.first_handler[script.index()]..][..unit.tree.handlers.len()];
            let calling = handlers.iter().filter(|_| !unit.tree.procedures.is_empty());
            let by_any: FxHashSet<Span> = calling.flat_map(|found| found.reached.keys().copied()).collect();
            let is_reached = |access: &Access| match access.body {
                Body::Handler(at) => handlers[at].reached.contains_key(&access.statement),
                Body::Procedure(_) => by_any.contains(&access.statement),
            };
            for access in &self.accesses[script.index()] {
                let AccessKind::Write(op, value) = access.kind else { continue };
                if is_reached(access) {
                    continue;
                }
                let write = Unreached { script, body: access.body, at: access.statement };
                unreached.entry(access.cell).or_default().push(write);
                let ty = unit.place_types[access.place.index()];
                let any = self.project.variable_of(access.cell).map_or_else(|| anything(ty), |id| self.any_of(id));
                let written = match (op, value) {
                    (AssignOp::Set, Some(value)) => self.literal(unit, unit.behind(value), ty),
                    _ => any,
                };
                let Some(written) = self.cell_within_bounds(access.cell, written) else { continue };
                values.entry(access.cell).and_modify(|known| *known = known.join(&written)).or_insert(written);
            }
        }
        (self.beyond_reach, self.unreached) = (values, unreached);
    }

    /// How the tests of a handler come out where all that is ever written counts, also what can't have been written yet as
    /// it begins; none where that is no more than it sees.
    #[must_use]
    pub fn outcomes_of_all_writes(&self, handler: HandlerId, counted: Counted) -> Option<FxHashMap<ExprId, Outcome>> {
        let slots = &self.table(handler).slots;
        let unit = self.parts(handler).0;
        let names_new = |facts: &SlotFacts| match facts.key {
            Key::Place(place) => {
                matches!(unit.place(place), Place::Local(local) if unit.tree.local(local).kind == LocalKind::Spawned)
                    && !facts.dependents().is_empty()
            }
            _ => false,
        };
        let is_more = |facts: &SlotFacts| {
            facts.cell.is_some_and(|cell| {
                self.is_mistaken(cell)
                    || self.all_written(cell).is_some()
                    || self.given.contains_key(&cell)
                    || self.finds_kept(handler, cell)
            })
        };
        // Which of two scripts comes first may be a matter of their names: what only that decides is no finding.
        let begins_with_more = self.openings[handler.index()].is_some()
            || self.is_handed(handler)
            || self.is_led_by_another_script(handler)
            || self.still_changed.contains(&handler); // Whoever asks whether it is another takes care.
        if !begins_with_more && !slots.iter().any(|facts| is_more(facts) || names_new(facts)) {
            return None;
        }
        let mut run = Run::new(self, handler);
        let state = run.entry_of_all_writes(counted);
        run.handler_from(state);
        Some(run.outcomes)
    }

    /// What is known as a handler begins, once these tests have come out as given.
    #[must_use]
    pub fn entry_state(&self, handler: HandlerId, tests: &[(ExprId, bool)]) -> Option<State> {
        let mut run = Run::new(self, handler);
        run.quiet = true;
        let state = run.entry();
        run.after_tests(state, tests)
    }

    /// The same whichever scripts come first where several answer one trigger.
    #[must_use]
    pub fn entry_state_in_any_order(&self, handler: HandlerId, tests: &[(ExprId, bool)]) -> Option<State> {
        let mut run = Run::new(self, handler);
        run.quiet = true;
        let state = run.entry_of_all_writes(Counted::Reached);
        run.after_tests(state, tests)
    }

    /// The steps that a handler reaches when the variable whose change it answers holds this value.
    #[must_use]
    pub fn reached_from(&self, handler: HandlerId, changed: PlaceId, value: &Value) -> FxHashMap<Span, Reached> {
        let mut run = Run::new(self, handler);
        run.quiet = true;
        let mut state = run.entry();
        if let Some(slot) = run.table.slot(Key::Place(changed)) {
            state.values[slot as usize] = Abstract::of(value.clone());
        }
        run.handler_from(state);
        run.reached
    }

    /// What an expression gives as a handler begins.
    #[must_use]
    pub fn value_at_entry(&self, handler: HandlerId, expr: ExprId) -> Value {
        let mut run = Run::new(self, handler);
        run.quiet = true;
        let mut state = run.entry();
        run.eval(&mut state, expr)
    }

    /// Where a handler pauses and ends, from whatever can be, or when a slot holds this value as it begins and others leave it
    /// alone.
    #[must_use]
    pub fn pauses_from(&self, handler: HandlerId, start: Option<(Slot, Value)>) -> Vec<Pause> {
        let mut run = Run::new(self, handler);
        run.quiet = true;
        run.keep_pauses = true;
        run.in_bursts = true;
        let mut state = run.entry();
        if let Some((slot, value)) = start {
            state.values[slot as usize] = Abstract::of(value);
            run.left_alone = LeftAlone::Slot(slot);
        }
        run.handler_from(state);
        run.pauses
    }

    /// What a handler sends, and what it has done by then, where nobody puts anything back while it waits.
    #[must_use]
    pub fn sendings_from(&self, handler: HandlerId) -> Vec<Sending> {
        self.left_alone(handler, &FxHashMap::default()).sendings
    }

    /// Where a handler pauses and ends, where these cells hold these values as it begins, and nobody puts anything back while
    /// it waits.
    #[must_use]
    pub fn pauses_left_alone(&self, handler: HandlerId, held: &FxHashMap<CellId, Abstract>) -> Vec<Pause> {
        self.left_alone(handler, held).pauses
    }

    fn left_alone(&self, handler: HandlerId, held: &FxHashMap<CellId, Abstract>) -> Run<'_, '_> {
        let mut run = Run::new(self, handler);
        run.quiet = true;
        run.keep_pauses = true;
        run.left_alone = LeftAlone::Everything;
        let mut state = run.entry();
        hold(&run, &mut state, held);
        run.handler_from(state);
        run
    }

    /// The steps that a handler reaches where these cells hold these values as it begins.
    #[must_use]
    pub fn reached_holding(&self, handler: HandlerId, held: &FxHashMap<CellId, Abstract>) -> FxHashMap<Span, Reached> {
        let mut run = Run::new(self, handler);
        run.quiet = true;
        let mut state = run.entry();
        hold(&run, &mut state, held);
        run.handler_from(state);
        run.reached
    }

    /// The steps that an activation reaches where another begins while it waits, and has stepped these up by at least one.
    #[must_use]
    pub fn reached_overtaken(&self, handler: HandlerId, stepped: Vec<Slot>) -> FxHashMap<Span, Reached> {
        let mut run = Run::new(self, handler);
        run.quiet = true;
        run.overtaken = stepped;
        let state = run.entry();
        run.handler_from(state);
        run.reached
    }

    /// The steps that a second activation of the same instance would reach at a pause.
    #[must_use]
    pub fn again(&self, handler: HandlerId, paused: &Pause) -> FxHashMap<Span, Reached> {
        if paused.shut { FxHashMap::default() } else { self.again_with(handler, paused, |_| true) }
    }

    /// The steps that a second activation would still reach where the first one, which is at a pause, comes to its end by the
    /// time that the second goes on after its own wait. Other handlers do nothing meanwhile: what they put back they mean to.
    #[must_use]
    pub fn again_behind(&self, handler: HandlerId, paused: &Pause, ends: &[Pause]) -> FxHashMap<Span, Reached> {
        let Some((first, rest)) = ends.split_first() else { return FxHashMap::default() };
        let mut left: Vec<(Slot, Abstract)> = first.changed.to_vec();
        left.retain_mut(|(slot, value)| {
            rest.iter().all(|end| end.changed(*slot).map(|other| *value = value.join(other)).is_some())
        });
        self.again_from(handler, paused, |_| true, left)
    }

    /// The same where of what the pause left only some cells are meant.
    #[must_use]
    pub fn again_with(
        &self,
        handler: HandlerId,
        paused: &Pause,
        meant: impl Fn(CellId) -> bool,
    ) -> FxHashMap<Span, Reached> {
        self.again_from(handler, paused, meant, Vec::new())
    }

    fn again_from(
        &self,
        handler: HandlerId,
        paused: &Pause,
        meant: impl Fn(CellId) -> bool,
        left_by_first: Vec<(Slot, Abstract)>,
    ) -> FxHashMap<Span, Reached> {
        let mut run = Run::new(self, handler);
        run.quiet = true;
        run.left_by_first = left_by_first;
        let mut state = run.entry();
        let is_meant = |at: usize| run.table.slots[at].cell.is_some_and(&meant);
        for (slot, value) in &paused.changed {
            if is_meant(*slot as usize) {
                state.values[*slot as usize] = value.clone();
            }
        }
        (0..run.table.slots.len()).filter(|&at| is_meant(at)).for_each(|at| state.values[at].unset = false);
        run.handler_from(state);
        run.reached
    }
}

/// Gives cells these values.
fn hold(run: &Run<'_, '_>, state: &mut State, held: &FxHashMap<CellId, Abstract>) {
    for (slot, facts) in run.table.slots.iter().enumerate() {
        if let Some(value) = facts.cell.and_then(|cell| held.get(&cell)) {
            state.values[slot] = value.clone();
        }
    }
}
