//! Loops: their heads, the rounds of a `repeat`, and what a `for` over all instances puts right.

use super::*;

impl<'w> Run<'w, '_> {
    /// The states with which a loop's head is entered again: none once nothing grows.
    pub(super) fn at_head(
        &mut self,
        heads: &mut FxHashMap<BlockId, (State, u32)>,
        at: BlockId,
        block: &Block,
        mut states: States,
    ) -> States {
        states.iter_mut().for_each(|state| self.drop_right(state)); // Where they meet that could not be seen any more.
        let Some(mut next) = states.into_iter().reduce(|a, b| a.join(&b)) else { return States::new() };
        let Some((known, rounds)) = heads.get_mut(&at) else {
            self.guess_relations(&mut next, block);
            heads.insert(at, (next.clone(), 1));
            return smallvec![next];
        };
        let patience = if self.most_parts > 1 { ROUNDS } else { 1 };
        let joined = if *rounds < patience {
            known.clone().join(&next)
        } else if *rounds < patience * 10 {
            known.widen(&next, self.thresholds)
        } else {
            known.widen(&next, &[])
        };
        if joined == *known {
            return States::new();
        }
        *rounds += 1;
        *known = joined.clone();
        smallvec![joined]
    }

    /// What a loop steps by constants may keep its relation from round to round: such relations are put down as the loop is
    /// entered, where they only say what the ranges say; those that a round does not keep go as the head is widened.
    pub(super) fn guess_relations(&mut self, state: &mut State, head: &Block) {
        if self.most_parts == 1 {
            return;
        }
        let places = head.stepped.iter().filter_map(|&(place, by)| Some((self.slot(place)?, by)));
        let steps: SmallVec<[(Slot, f64); 4]> = places.take(MOST_STEPPED).collect();
        let mut guesses: SmallVec<[Linear; 6]> = SmallVec::new();
        let left = match head.exit {
            Exit::Repeat { count, .. } => self.table.slot(Key::Rounds(count)),
            Exit::Each { place, .. } => self.table.slot(Key::RoundsOver(place)),
            _ => None,
        };
        if let Some(left) = left {
            for &(slot, by) in steps.iter().chain(&self.steps_by_ranges(state, head)) {
                let form = Linear::slot(slot).times(by.signum()).plus(&Linear::slot(left), by.abs());
                guesses.extend([form, form.times(-1.0)]);
            }
        }
        if !matches!(head.exit, Exit::Repeat { .. }) {
            for (at, &(a, a_by)) in steps.iter().enumerate() {
                for &(b, b_by) in &steps[at + 1..] {
                    let form = Linear::slot(a).times(b_by).plus(&Linear::slot(b).times(a_by), -1.0);
                    guesses.extend([form.times(-1.0), form]);
                }
            }
            self.count_along(state, &steps);
        }
        for form in guesses {
            let highest = state.facts.highest(&form, &|slot| state.ends(slot));
            if highest.is_finite() {
                state.facts.add(form.plus(&Linear::constant(highest), -1.0));
            }
        }
    }

    /// What a round steps by something that lies within a range, and how far at most.
    fn steps_by_ranges(&mut self, state: &State, head: &Block) -> SmallVec<[(Slot, f64); 4]> {
        let mut all = SmallVec::new();
        for &(place, by, down) in &head.moved {
            let quiet = std::mem::replace(&mut self.quiet, true);
            let (lo, hi) = self.eval(&mut state.clone(), by).ends();
            self.quiet = quiet;
            let ways = [hi, lo].map(|by| if down { -by } else { by });
            let ways = ways.into_iter().filter(|by| by.is_finite() && *by != 0.0);
            all.extend(self.slot(place).into_iter().flat_map(|slot| ways.clone().map(move |by| (slot, by))));
        }
        all
    }

    /// What is known of a place as a loop is entered stays true less what a counter, which starts at a number, has counted: with
    /// `parcels + n ≤ 20` and `i` at 0, `parcels - i + n ≤ 20` is kept while both go up by one.
    fn count_along(&self, state: &mut State, steps: &[(Slot, f64)]) {
        let mut along: SmallVec<[Linear; 4]> = SmallVec::new();
        for &(counter, by) in steps {
            let Some(start) = state.num(counter).and_then(Num::single) else { continue };
            for &(slot, far) in steps.iter().filter(|&&(slot, _)| slot != counter) {
                let about = state.facts.about(slot).filter(|fact| fact.factor(counter) == 0.0);
                along.extend(about.take(MOST_COUNTED).map(|fact| {
                    let counted = Linear::slot(counter).plus(&Linear::constant(start), -1.0);
                    fact.plus(&counted, -fact.factor(slot) * far / by)
                }));
            }
        }
        along.into_iter().for_each(|form| state.facts.add(form));
    }

    /// Another round of a `repeat`, while there are rounds left; afterwards nobody asks how many there were.
    pub(super) fn repeat(&mut self, state: State, count: ExprId, body: BlockId, done: BlockId, next: &mut Ways) {
        let Some(left) = self.table.slot(Key::Rounds(count)) else {
            next.push((body, state.clone()));
            next.push((done, state));
            return;
        };
        let mut round = state.clone();
        if round.assume(Linear::constant(1.0).plus(&Linear::slot(left), -1.0)).is_some() {
            self.next_round(&mut round, left);
            next.push((body, round));
        }
        let mut state = state;
        if state.assume(Linear::slot(left)).is_some() {
            state.facts.forget(left);
            state.values[left as usize] = Abstract::of(anything(Type::Int));
            next.push((done, state));
        }
    }

    pub(super) fn next_round(&mut self, state: &mut State, left: Slot) {
        let Some(rounds) = state.num(left) else { return };
        let rest = rounds.sub(&Num::constant(1.0, true));
        let form = [Linear::slot(left).plus(&Linear::constant(1.0), -1.0)];
        self.put(state, left, Abstract::of(Value::Num(rest)), &form, &form);
    }

    /// A `repeat` works out how many rounds it makes.
    pub(super) fn begin_rounds(&mut self, state: &mut State, count: ExprId, at_once: bool) {
        let forms = self.forms(state, count);
        let rounds = self.eval(state, count);
        let (Some(left), Value::Num(rounds)) = (self.table.slot(Key::Rounds(count)), rounds) else { return };
        self.put(state, left, Abstract::of(Value::Num(rounds)), forms.uppers(), forms.lowers());
        if at_once {
            self.next_round(state, left);
        }
    }

    /// A `for` begins: it makes no more rounds than there are instances.
    pub(super) fn begin_rounds_over(&mut self, state: &mut State, place: PlaceId, actor: OwnerId) {
        if let Some(left) = self.table.slot(Key::RoundsOver(place)) {
            let rounds = Num::range(0.0, self.world.most_count(self.handler, actor), true);
            self.put(state, left, Abstract::of(Value::Num(rounds)), &[], &[]);
        }
    }

    /// Another round of a `for`; afterwards nobody asks how many there were.
    pub(super) fn next_round_over(&mut self, inside: &mut State, behind: &mut State, place: PlaceId) {
        let Some(left) = self.table.slot(Key::RoundsOver(place)) else { return };
        let mut round = inside.clone();
        if round.assume(Linear::constant(1.0).plus(&Linear::slot(left), -1.0)).is_some() {
            *inside = round;
            self.next_round(inside, left);
        } else {
            inside.facts.forget(left);
        }
        behind.forget_all(&[left], self.in_loop);
        behind.values[left as usize] = Abstract::of(anything(Type::Int));
    }

    /// What may be wrong with any instance may be so with the one that a `for` looks at.
    pub(super) fn take_up_suspects(&self, state: &mut State, place: PlaceId) {
        let Some(holder) = self.slot(place) else { return };
        for &slot in self.table.slots[holder as usize].dependents() {
            let alike = |suspect: &&Suspect| self.is_left_outside(suspect, slot);
            let taken: SmallVec<[Suspect; 2]> = state.suspects.iter().filter(alike).cloned().collect();
            for mut suspect in taken {
                if let Wrong::Outside(_, end) = suspect.wrong {
                    suspect.wrong = Wrong::Outside(slot, end);
                    state.add_suspect(suspect);
                }
            }
        }
    }

    /// A `for` has been through all instances, and each was judged as it was let go: what was suspect of any of them by a
    /// write before the loop has been looked at.
    pub(super) fn all_visited(&self, state: &mut State, place: PlaceId, whole: Span) {
        let Some(holder) = self.slot(place) else { return };
        for &slot in self.table.slots[holder as usize].dependents() {
            state.suspects.retain(|suspect| !self.is_left_outside(suspect, slot) || whole.contains(suspect.at));
        }
    }

    /// Whether a write of the bound may have left the variable outside that a slot stands for, of whichever instance.
    pub(super) fn is_left_outside(&self, suspect: &Suspect, slot: Slot) -> bool {
        let variable = |slot: Slot| self.table.slots[slot as usize].variable;
        variable(suspect.written) != variable(slot)
            && matches!(suspect.wrong, Wrong::Outside(other, _) if variable(other) == variable(slot))
    }
}
