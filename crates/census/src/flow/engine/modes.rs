//! Modes and the numbers that hang on them: kept apart as a handler begins, and seen together wherever others can look.

use super::*;

/// How many states a handler begins with at most.
const MOST_BEGINNINGS: usize = 6;

impl Run<'_, '_> {
    /// Runs the handler from whatever can be when it begins, apart by the modes that numbers hang on.
    pub fn handler_by_modes(&mut self) {
        let state = self.entry();
        self.by_modes(state).into_iter().for_each(|state| self.handler_from(state));
    }

    /// The states with which a handler begins: apart by modes, where a number hangs on one.
    fn by_modes(&self, state: State) -> Vec<State> {
        let mut states = vec![state];
        let count = |slots: &ModeSlots| self.world.within_modes(slots.pair).len();
        let mut modes: SmallVec<[(usize, Slot); 4]> =
            self.modes.iter().map(|slots| (count(slots), slots.mode)).collect();
        // A flag comes before a count of a few.
        modes.sort_unstable();
        modes.dedup();
        for (_, mode) in modes {
            let split: Vec<State> = states.iter().flat_map(|state| self.by_mode(state, mode)).collect();
            if split.len() <= MOST_BEGINNINGS {
                states = split;
            }
        }
        states
    }

    /// One state for each value of a mode; the same where that tells no more of any number.
    fn by_mode(&self, state: &State, mode: Slot) -> Vec<State> {
        let Some(first) = self.modes.iter().find(|slots| slots.mode == mode) else { return vec![state.clone()] };
        let values = self.world.within_modes(first.pair).iter().map(|(value, _)| value);
        let (mut possible, mut tells) = (false, false);
        let mut states = Vec::new();
        for (at, value) in values.enumerate() {
            let Some(value) = state.value(mode).value.meet(value) else { continue };
            possible = true;
            let mut state = state.clone();
            state.values[mode as usize].value = value;
            match self.narrow_by_mode(&mut state, mode, at) {
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
    fn narrow_by_mode(&self, state: &mut State, mode: Slot, at: usize) -> Option<bool> {
        let mut tells = false;
        for slots in self.modes.iter().filter(|slots| slots.mode == mode) {
            if self.world.may_be_parted(self.handler, slots.pair) || state.value(slots.number).is_untold() {
                continue;
            }
            let within = self.world.within_mode(self.handler, slots.pair, at)?;
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
    pub(in crate::flow) fn see_modes(&mut self, state: &mut State) {
        if state.modes.is_empty() {
            return;
        }
        let is_written = |slots: &&ModeSlots| [slots.mode, slots.number].iter().any(|slot| state.modes.contains(slot));
        let written: Vec<ModeSlots> = self.modes.iter().filter(is_written).copied().collect();
        written.into_iter().for_each(|slots| self.see_together(state, slots));
        state.modes = Shared::default();
    }

    /// The change of a number is dealt with: as what it is left, with its modes, it stays till the game goes on.
    pub(super) fn see_modes_of(&mut self, state: &State, number: Slot) {
        let of_it: Vec<ModeSlots> = self.modes.iter().filter(|slots| slots.number == number).copied().collect();
        of_it.into_iter().for_each(|slots| self.see_together(state, slots));
    }

    fn see_together(&mut self, state: &State, slots: ModeSlots) {
        let (mode, number) = (state.value(slots.mode), state.value(slots.number));
        if !mode.set || !number.set || number.num().is_none() {
            return;
        }
        let values = self.world.within_modes(slots.pair).iter().enumerate();
        for (at, _) in values.filter(|(_, (value, _))| mode.value.meet(value).is_some()) {
            let seen = self.in_modes.entry((slots.pair, at)).or_insert_with(|| number.value.clone());
            *seen = seen.join(&number.value);
        }
    }

    /// A mode, or a number that hangs on one, is written.
    pub(super) fn write_mode(&self, state: &mut State, slot: Slot) {
        if self.modes.iter().any(|slots| slots.mode == slot || slots.number == slot) {
            state.modes.push_new(slot);
        }
    }

    /// A call that is not gone into may leave a number as whatever it ever is, whatever the mode.
    pub(super) fn see_any_modes(&mut self, state: &State, written: &FxHashSet<CellId>) {
        for slots in &self.modes {
            let facts = &self.table.slots[slots.number as usize];
            let cells = [facts.cell, self.table.slots[slots.mode as usize].cell];
            if cells.into_iter().flatten().any(|cell| written.contains(&cell)) && state.num(slots.number).is_some() {
                let any = self.world.reach(facts);
                for at in 0..self.world.within_modes(slots.pair).len() {
                    self.in_modes.insert((slots.pair, at), any.clone());
                }
            }
        }
    }
}
