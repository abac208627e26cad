//! Modes and the numbers that hang on them: kept apart as a handler begins, and seen together wherever others can look.

use super::*;
use crate::flow::judge::Guessed;
use crate::registry::End;

/// How many states a handler begins with at most.
const MOST_BEGINNINGS: usize = 6;

impl Run<'_, '_> {
    /// Runs the handler from whatever can be when it begins, apart by the modes that numbers hang on.
    pub fn handler_by_modes(&mut self) {
        let state = self.entry();
        let is_there = |slots: &ModeSlots| !self.is_unbound(&state, slots.mode);
        let begun = self.by_modes(state.clone(), is_there, true);
        begun.into_iter().for_each(|state| self.handler_from(state));
    }

    /// The states with which a handler goes on where others have had their turn.
    pub(super) fn by_modes_after_others(&self, state: State) -> States {
        if self.modes.is_empty() { smallvec![state] } else { self.by_modes(state, |_| true, false).into() }
    }

    /// The states with which a loop goes on where its name takes an instance, unless that may be one that was just written to.
    pub(super) fn by_modes_of_name(&self, state: State, name: PlaceId) -> States {
        let holder = self.slot(name);
        let is_written = |slot: Slot| {
            let is_same = |written: Slot| self.cell_of(written) == self.cell_of(slot);
            state.unseen.iter().any(|write| is_same(write.slot)) || state.modes.iter().any(|&written| is_same(written))
        };
        let meant = |slots: &ModeSlots| {
            let is_named =
                [slots.mode, slots.number].iter().all(|&slot| self.table.slots[slot as usize].holder == holder);
            is_named && !is_written(slots.mode) && !is_written(slots.number)
        };
        if holder.is_none() || !self.modes.iter().any(meant) {
            return smallvec![state];
        }
        self.by_modes(state.clone(), meant, false).into()
    }

    /// The states with which a handler begins, or goes on: apart by modes, where a number hangs on one.
    fn by_modes(&self, state: State, meant: impl Fn(&ModeSlots) -> bool, begins: bool) -> Vec<State> {
        let mut states = vec![state];
        let count = |slots: &ModeSlots| self.world.within_modes(slots.pair).len();
        let mut modes: SmallVec<[(usize, Slot); 4]> =
            self.modes.iter().filter(|slots| meant(slots)).map(|slots| (count(slots), slots.mode)).collect();
        // A flag comes before a count of a few.
        modes.sort_unstable();
        modes.dedup();
        for (_, mode) in modes {
            let split: Vec<State> = states.iter().flat_map(|state| self.by_mode(state, mode, begins)).collect();
            if split.len() <= MOST_BEGINNINGS {
                states = split;
            }
        }
        states
    }

    /// One state for each value of a mode; the same where that tells no more of any number.
    fn by_mode(&self, state: &State, mode: Slot, begins: bool) -> Vec<State> {
        let Some(first) = self.modes.iter().find(|slots| slots.mode == mode) else { return vec![state.clone()] };
        let values = self.world.within_modes(first.pair).iter().map(|(value, _)| value);
        let (mut possible, mut tells) = (false, false);
        let mut states = Vec::new();
        for (at, value) in values.enumerate() {
            let Some(value) = state.value(mode).value.meet(value) else { continue };
            possible = true;
            let mut state = state.clone();
            state.values[mode as usize].value = value;
            match self.narrow_by_mode(&mut state, mode, at, begins) {
                Some(more) => tells |= more,
                None => {
                    tells = true;
                    continue;
                }
            }
            states.push(state);
        }
        if possible && tells { states } else { vec![state.clone()] }
    }

    /// Narrows the numbers to what they are with that value of a mode; says whether that is less, none where it can't be.
    fn narrow_by_mode(&self, state: &mut State, mode: Slot, at: usize, begins: bool) -> Option<bool> {
        let mut tells = false;
        for slots in self.modes.iter().filter(|slots| slots.mode == mode) {
            let is_parted = begins && self.world.may_be_parted(self.handler, slots.pair);
            if is_parted || state.value(slots.number).is_untold() {
                continue;
            }
            let within = if begins {
                self.world.within_mode(self.handler, slots.pair, at)?
            } else {
                self.world.within_modes(slots.pair)[at].1.as_ref()?
            };
            let known = &state.value(slots.number).value;
            let narrow = known.meet(within)?;
            if narrow != *known {
                tells = true;
                state.values[slots.number as usize].value = narrow;
            }
        }
        Some(tells)
    }

    /// Others can look: what the modes and the numbers are by now, they are together.
    pub(in crate::flow) fn see_modes(&mut self, state: &mut State, guessed: &Guessed) {
        if state.modes.is_empty() {
            return;
        }
        let is_written = |slots: &&ModeSlots| [slots.mode, slots.number].iter().any(|slot| state.modes.contains(slot));
        let written: Vec<ModeSlots> = self.modes.iter().filter(is_written).copied().collect();
        written.into_iter().for_each(|slots| self.see_together(state, slots, guessed));
        state.modes = Shared::default();
    }

    /// The change of a number, or of a mode, is dealt with: as what they are left, they stay together till the game goes on.
    pub(super) fn see_modes_of(&mut self, state: &State, kept: Slot) {
        let is_kept = |slots: &&ModeSlots| slots.number == kept || slots.mode == kept;
        let of_it: Vec<ModeSlots> = self.modes.iter().filter(is_kept).copied().collect();
        of_it.into_iter().for_each(|slots| self.see_together(state, slots, &Guessed::new()));
    }

    /// A name lets its instance go: nobody here knows by then which one that was.
    pub(super) fn let_go_of_modes(&mut self, state: &mut State, name: Slot) {
        if state.modes.is_empty() {
            return;
        }
        let table = self.table;
        let is_let_go = |slot: &Slot| table.slots[name as usize].dependents().contains(slot);
        let is_written = |slot: &Slot| is_let_go(slot) && state.modes.contains(slot);
        let meant = |slots: &&ModeSlots| is_written(&slots.mode) || is_written(&slots.number);
        let written: Vec<ModeSlots> = self.modes.iter().filter(meant).copied().collect();
        written.into_iter().for_each(|slots| self.see_together(state, slots, &Guessed::new()));
        state.modes.retain(|slot| !is_let_go(slot));
    }

    fn see_together(&mut self, state: &State, slots: ModeSlots, guessed: &Guessed) {
        let mode = state.value(slots.mode);
        let Some(number) = number_seen(state, slots.number, guessed).filter(|_| mode.set) else { return };
        let number = Value::Num(number);
        let values = self.world.within_modes(slots.pair).iter().enumerate();
        for (at, _) in values.filter(|(_, (value, _))| mode.value.meet(value).is_some()) {
            let seen = self.in_modes.entry((slots.pair, at)).or_insert_with(|| number.clone());
            *seen = seen.join(&number);
        }
    }

    /// A number was written of which nobody knows the mode: it stays in that, and what only moves up is no lower than before.
    pub(super) fn see_lone(&mut self, state: &State, write: &Unseen) {
        let lone = self.lone_at(write.slot, false);
        let Value::Num(written) = &write.written else { return };
        let seen = state.num(write.slot).and_then(|now| now.meet(written)).unwrap_or_else(|| written.clone());
        for pair in lone {
            for (at, (_, within)) in self.world.within_modes(pair).iter().enumerate() {
                let Some(Value::Num(within)) = within else { continue };
                let lo = if write.down { seen.lo } else { seen.lo.max(within.lo) };
                let hi = if write.up { seen.hi } else { seen.hi.min(within.hi) };
                let left = (lo <= hi).then(|| Num::range(lo, hi, seen.int)).and_then(|left| left.meet(&seen));
                let Some(left) = left.map(Value::Num) else { continue };
                let known = self.in_modes.entry((pair, at)).or_insert_with(|| left.clone());
                *known = known.join(&left);
            }
        }
    }

    /// A mode, or a number that hangs on one, is about to be given a value.
    pub(super) fn write_mode(&mut self, state: &mut State, slot: Slot, new: &Value) {
        if self.modes.iter().any(|slots| slots.mode == slot || slots.number == slot) {
            state.modes.push_new(slot);
        }
        for pair in self.lone_at(slot, true) {
            self.change_mode(pair, &state.value(slot).value, new);
        }
    }

    /// From one mode to another a number of which nobody knows anything else goes along.
    fn change_mode(&mut self, pair: PairId, old: &Value, new: &Value) {
        let world = self.world;
        let modes = || world.within_modes(pair).iter().enumerate();
        let seen = |(at, (mode, within)): (usize, &(Value, Option<Value>))| {
            let here = self.in_modes.get(&(pair, at)).cloned();
            old.meet(mode)?;
            either(within.clone(), here)
        };
        let Some(left) = modes().filter_map(seen).reduce(|a, b| a.join(&b)) else { return };
        for (at, _) in modes().filter(|(_, (mode, _))| new.meet(mode).is_some()) {
            let known = self.in_modes.entry((pair, at)).or_insert_with(|| left.clone());
            *known = known.join(&left);
        }
    }

    /// The pairs of which such a slot is one half that nobody names the other beside.
    fn lone_at(&self, slot: Slot, is_mode: bool) -> SmallVec<[PairId; 2]> {
        let meant = |lone: &&LoneSlot| (lone.slot, lone.is_mode) == (slot, is_mode);
        self.lone.iter().filter(meant).map(|lone| lone.pair).collect()
    }

    /// A call that is not gone into may leave a number as whatever it ever is, whatever the mode.
    pub(super) fn see_any_modes(&mut self, state: &State, written: &FxHashSet<CellId>) {
        let is_written = |slot: Slot| self.cell_of(slot).is_some_and(|cell| written.contains(&cell));
        let together = self.modes.iter().filter(|slots| is_written(slots.mode) || is_written(slots.number));
        let lone = self.lone.iter().filter(|lone| is_written(lone.slot));
        let told = together.filter(|slots| state.num(slots.number).is_some());
        let pairs: Vec<PairId> = told.map(|slots| slots.pair).chain(lone.map(|lone| lone.pair)).collect();
        for pair in pairs {
            let any = self.world.any_number_of(pair);
            let modes = 0..self.world.within_modes(pair).len();
            self.in_modes.extend(modes.map(|at| ((pair, at), any.clone())));
        }
    }
}

/// What is so by one, by the other, or by both.
fn either(a: Option<Value>, b: Option<Value>) -> Option<Value> {
    match (a, b) {
        (Some(a), Some(b)) => Some(a.join(&b)),
        (a, b) => a.or(b),
    }
}

/// What others see a number as: what certainly left its range is taken to stop at its end.
fn number_seen(state: &State, number: Slot, guessed: &Guessed) -> Option<Num> {
    let num = state.num(number).filter(|_| state.value(number).set)?;
    Some(match guessed.iter().find(|(slot, _)| *slot == number) {
        Some((_, End::Max)) => Num::constant(num.hi, num.int),
        Some((_, End::Min)) => Num::constant(num.lo, num.int),
        None => num.clone(),
    })
}
