//! What is known as a handler begins: what its places hold, and what ranges, margins and invariants tell of them.

use super::*;

/// How many invariants of a variable are called to mind once it was written.
const MOST_RECALLED: usize = 64;

impl<'w, 'p> Run<'w, 'p> {
    /// What is known as the handler begins.
    #[must_use]
    pub fn entry(&mut self) -> State {
        self.entry_with(self.values_at_entry())
    }

    /// The same with what its places hold.
    pub(in crate::flow) fn entry_with(&mut self, values: Values) -> State {
        let mut state = self.assuming(self.unassuming_with(values));
        if self.keep_pauses && self.begun.is_none() {
            // What its sender knew may be over by the next time.
            self.begun = Some(state.values.clone());
        }
        let world = self.world;
        if let Some((place, was)) = world.still_changed(self.handler)
            && let Some(now) = self.table.slot(Key::Place(place))
        {
            state.add_unequal(Linear::slot(now).plus(&Linear::slot(was), -1.0));
        }
        if world.take_over(self, &mut state) { self.assuming(state) } else { state }
    }

    /// The same, where all that is ever written counts, be it put right before anyone can see it.
    #[must_use]
    pub fn entry_of_all_writes(&mut self, counted: Counted) -> State {
        self.counted = Some(counted);
        let mut state = self.unassuming();
        for at in 0..self.table.slots.len() {
            self.count_writes(&mut state, at);
        }
        self.assuming(state)
    }

    /// What is known once these tests have come out as given.
    pub(in crate::flow) fn after_tests(&mut self, state: State, tests: &[(ExprId, bool)]) -> Option<State> {
        tests.iter().try_fold(state, |state, &(test, wanted)| {
            let (yes, no) = self.branch(state, test);
            if wanted { yes } else { no }
        })
    }

    /// Adds to what a slot may hold all that counts beside it.
    pub(in crate::flow) fn count_writes(&self, state: &mut State, at: usize) {
        let facts = &self.table.slots[at];
        let (Some(counted), Some(cell)) = (self.counted, facts.cell) else { return };
        let value = &mut state.values[at].value;
        if !matches!(facts.ty, Type::Ref(_)) {
            *value = value.join(&self.world.reach(facts));
        }
        let written = match counted {
            Counted::Reached => self.world.written_beyond(cell).cloned(),
            Counted::Written => self.world.all_written(cell),
        };
        if let Some(written) = written {
            *value = value.join(&written);
        }
    }

    fn assuming(&mut self, mut state: State) -> State {
        self.assume_ranges(&mut state);
        self.assume_margins(&mut state);
        self.assume_invariants(state)
    }

    /// The same, but for what bounds and invariants tell.
    #[must_use]
    pub fn unassuming(&self) -> State {
        self.unassuming_with(self.values_at_entry())
    }

    /// What the handler's places can hold as it begins.
    pub(in crate::flow) fn values_at_entry(&self) -> Values {
        self.table.slots.iter().map(|facts| self.world.entry_value(self.handler, facts)).collect()
    }

    fn unassuming_with(&self, values: Values) -> State {
        let known = Known {
            values,
            facts: Facts::of_body(self.table.length),
            tests: Shared::default(),
            unequal: Shared::default(),
            terms: Shared::default(),
            suspects: Shared::default(),
            doubted: Shared::default(),
            moved_bounds: Shared::default(),
            steps: Shared::default(),
            unseen: Shared::default(),
            modes: Shared::default(),
            sent: Shared::default(),
            handing: Shared::default(),
            sources: Shared::default(),
            at_once: true,
            waited: false,
            alone: true,
            later: false,
            stepped: false,
            forked: None,
            went: false,
            selves: Shared::default(),
            kinds: Shared::default(),
            copies: Shared::default(),
            apart: Shared::default(),
            removed: Shared::default(),
        };
        known.into()
    }

    /// Bounds hold when a handler starts.
    pub(super) fn assume_ranges(&self, state: &mut State) {
        for &slot in &self.table.limited {
            self.assume_range(state, slot);
        }
    }

    /// Where others can look, what a variable may be kept further away from its bound by all who write it.
    pub(in crate::flow) fn assume_margins(&self, state: &mut State) {
        self.table.limited.iter().for_each(|&slot| self.assume_margin(state, slot));
    }

    /// The same of one, where this handler has left none of its kind as others can't see it yet.
    pub(in crate::flow) fn assume_margin(&self, state: &mut State, slot: Slot) {
        let facts = &self.table.slots[slot as usize];
        let Some(cell) = facts.cell.filter(|_| self.counted.is_none()) else { return };
        for (end, limit, sign) in facts.limits() {
            let margin = self.world.margin(cell, end);
            let is_unseen = |cell: Option<CellId>| {
                let goes = cell.is_some_and(|cell| self.world.finds_what_goes(self.handler, cell));
                goes || state.unseen.iter().any(|write| self.table.slots[write.slot as usize].cell == cell)
            };
            if let Some(Limit::Slot(bound)) = limit
                && margin < 0.0
                && self.is_there(state, slot)
                && !is_unseen(Some(cell))
                && !is_unseen(self.table.slots[bound as usize].cell)
            {
                let (lo, hi) = state.ends(bound);
                let range = if sign > 0.0 { (f64::NEG_INFINITY, hi + margin) } else { (lo - margin, f64::INFINITY) };
                cut(state, slot, range);
                let beyond = Linear::slot(slot).plus(&Linear::slot(bound), -1.0).times(sign);
                state.facts.add(beyond.plus(&Linear::constant(margin), -1.0));
            }
        }
    }

    /// Keeps how near a slot that was written is to its bounds by now, and those that it bounds to it.
    pub(super) fn see_margins(&mut self, state: &State, write: &Unseen) {
        let facts = &self.table.slots[write.slot as usize];
        let Some(cell) = facts.cell else { return };
        for (end, limit, sign) in facts.limits().into_iter().filter(|&(end, ..)| self.world.has_margin(cell, end)) {
            let most = match limit {
                Some(Limit::Slot(bound)) => beyond(state, write.slot, bound, sign),
                _ => f64::INFINITY, // The bound is not named here.
            };
            let most = match &write.written {
                Value::Num(written) => most.min(self.world.beyond_any_bound(cell, end, (written.lo, written.hi))),
                _ => most,
            };
            self.come_near((cell, end), most);
        }
        let Some(variable) = facts.variable else { return };
        for key in self.world.margins_beside(variable) {
            let is_it = |&&slot: &&Slot| self.table.slots[slot as usize].cell == Some(key.0);
            let sign = if key.1 == End::Max { 1.0 } else { -1.0 };
            let beside = facts.bounds().iter().find(is_it);
            self.come_near(key, beside.map_or(0.0, |&slot| beyond(state, slot, write.slot, sign)));
        }
    }

    fn come_near(&mut self, key: (CellId, End), most: f64) {
        let known = self.margins.entry(key).or_insert(most);
        *known = known.max(most);
    }

    /// A variable is within its range, and so its bounds are not beyond it: where the variable is there at all.
    pub(in crate::flow) fn assume_range(&self, state: &mut State, slot: Slot) {
        let facts = &self.table.slots[slot as usize];
        let there = self.is_there(state, slot);
        for (_, limit, sign) in facts.limits() {
            match limit {
                Some(Limit::Number(value)) => {
                    let range = if sign > 0.0 { (f64::NEG_INFINITY, value) } else { (value, f64::INFINITY) };
                    cut(state, slot, range);
                }
                Some(Limit::Slot(bound)) if !state.moved_bounds.contains(&bound) => {
                    let (lo, hi) = state.ends(bound);
                    let (own_lo, own_hi) = state.ends(slot);
                    let (range, back) = if sign > 0.0 {
                        ((f64::NEG_INFINITY, hi), (own_lo, f64::INFINITY))
                    } else {
                        ((lo, f64::INFINITY), (f64::NEG_INFINITY, own_hi))
                    };
                    cut(state, slot, range);
                    if there {
                        cut(state, bound, back);
                        state.facts.add(Linear::slot(slot).plus(&Linear::slot(bound), -1.0).times(sign));
                    }
                }
                _ => {}
            }
        }
    }

    /// Whether the variable behind a slot certainly exists: its scene is loaded, the name it goes through holds one. What
    /// clamps or wraps does not count, since it may follow its bound out of the other end of its range.
    pub(in crate::flow) fn is_there(&self, state: &State, slot: Slot) -> bool {
        let facts = &self.table.slots[slot as usize];
        let Some(variable) = facts.variable.map(|id| self.world.project.registry.var(id)) else { return true };
        if variable.overflow != Overflow::Error || state.value(slot).is_untold() {
            return false;
        }
        let holder_is = facts.holder.is_none_or(|holder| self.holds_one(state, holder));
        let scene_is = variable.scope != crate::registry::Scope::Scene
            || matches!(&state.value(self.table.scene).value, Value::Text(Some(scenes)) if scenes.as_slice() == [variable.owner.0]);
        holder_is && scene_is && facts.base != Some(Base::Some) && self.listed_is_there(state, facts.base)
    }

    fn holds_one(&self, state: &State, holder: Slot) -> bool {
        state.value(holder).value == Value::Ref { none: false, some: true }
    }

    fn listed_is_there(&self, state: &State, base: Option<Base>) -> bool {
        let Some(Base::Listed(instance)) = base else { return true };
        self.is_own(instance) || self.table.slot(Key::Instance(instance)).is_none_or(|slot| self.holds_one(state, slot))
    }

    /// What goes through a name is within its range, once the name is known to hold an instance; but for what a write of
    /// this very handler may have left outside.
    pub(in crate::flow) fn assume_dependents(&self, state: &mut State, holder: Slot) {
        if self.holds_one(state, holder) {
            for &slot in self.table.slots[holder as usize].dependents() {
                let outside = |wrong| matches!(wrong, Wrong::Outside(other, _) if other == slot);
                if !state.suspects.iter().any(|suspect| outside(suspect.wrong)) {
                    self.assume_range(state, slot);
                }
            }
        }
    }

    pub(super) fn assume_invariants(&mut self, mut state: State) -> State {
        self.table.invariants().for_each(|at| self.assume_sound(&mut state, at, |_| true));
        state
    }

    /// For the instance that a name takes all invariants hold.
    pub(in crate::flow) fn assume_invariants_of(&mut self, state: &mut State, holder: PlaceId) {
        self.table.invariants().for_each(|at| self.assume_sound(state, at, |base| base == Base::Held(holder)));
    }

    /// What an invariant says of a variable that is about to be written may follow only now, from what tests have told since.
    pub(super) fn recall_invariants(&mut self, state: &mut State, slot: Slot) {
        let (world, table) = (self.world, self.table);
        let Some(variable) = table.slots[slot as usize].variable else { return };
        for &at in world.invariants_of(variable).iter().take(MOST_RECALLED) {
            self.assume_sound(state, at, |base| judge::concerns(world, table, slot, at, base));
        }
    }

    /// An invariant holds if this handler has not broken it for any instance, where there is one.
    fn assume_sound(&mut self, state: &mut State, at: usize, meant: impl Fn(Base) -> bool) {
        let is_broken = |suspect: &Suspect| matches!(suspect.wrong, Wrong::Broken(id, _) if id.index() == at);
        if !self.world.can_be_assumed(at) || state.suspects.iter().any(is_broken) {
            return;
        }
        for &base in self.table.invariant_bases(at) {
            let held = self.holder(base).is_none_or(|holder| self.holds_one(state, holder));
            if base != Base::Some
                && held
                && self.listed_is_there(state, Some(base))
                && meant(base)
                && let Some(sound) = self.judge(state.clone(), at, base).0
            {
                *state = sound;
            }
        }
    }

    /// The name through which something is taken.
    pub(in crate::flow) fn holder(&self, base: Base) -> Option<Slot> {
        match base {
            Base::Held(held) => self.table.slot(Key::Place(held)),
            _ => None,
        }
    }

    /// Splits a state by an invariant.
    pub fn judge(&mut self, mut state: State, at: usize, base: Base) -> crate::flow::eval::Split {
        let invariant = &self.world.project.invariants[at];
        let Some(holds) = invariant.holds else { return (Some(state), None) };
        if invariant.variables.iter().any(|&variable| self.world.is_cleared(variable)) {
            self.take_cleared_for_zero(&mut state, &invariant.variables);
        }
        let unit = std::mem::replace(&mut self.unit, &invariant.unit);
        let quiet = std::mem::replace(&mut self.quiet, true);
        self.foreign = Some(base);
        let split = self.branch(state, holds);
        self.foreign = None;
        self.quiet = quiet;
        self.unit = unit;
        split
    }

    /// What has no value an invariant takes for what its type calls zero.
    fn take_cleared_for_zero(&self, state: &mut State, variables: &[VarId]) {
        for (at, facts) in self.table.slots.iter().enumerate() {
            if !state.values[at].unset || !facts.variable.is_some_and(|variable| variables.contains(&variable)) {
                continue;
            }
            let known = &state.values[at];
            let zero = zero(facts.ty);
            let value = if known.set { known.value.join(&zero) } else { zero };
            state.values[at].value = value;
            state.facts.forget(Slot::try_from(at).unwrap_or(Slot::MAX));
        }
    }
}

/// The most that a slot is above another, or below it for a `sign` of -1.
fn beyond(state: &State, slot: Slot, bound: Slot, sign: f64) -> f64 {
    let beyond = Linear::slot(slot).plus(&Linear::slot(bound), -1.0).times(sign);
    state.facts.highest(&beyond, &|slot| state.ends(slot))
}
