//! Loops: their heads, the rounds of a `repeat`, and what a `for` over all instances puts right.

use super::*;
use crate::flow::graph::{Change, Rounds};
use crate::flow::value::is_whole;

/// How many places that a loop steps are looked at together.
const MOST_STEPPED: usize = 4;
/// How many facts about a place are carried along with what a loop counts.
const MOST_COUNTED: usize = 8;
/// How many relations of a counter to others are looked at as it starts to count.
const MOST_STARTS: usize = 4;
/// How many places such a relation is about at most.
const MOST_START_TERMS: usize = 3;
/// How often a loop within a loop is looked at afresh as it begins.
const MOST_AFRESH: u32 = 8;
/// How many loops it may stand in for that, and for its way out to be known apart.
const DEEPEST_AFRESH: usize = 2;
/// In how many modes a loop's head is looked at.
const MOST_MODES: usize = 8;
/// By how many flags it is looked at apart.
const MOST_FLAGS: usize = 2;
/// How many loops stand around one that is deep inside others: each round of each of them goes through it again.
const DEEP: usize = 4;
/// How often such loops are come to, all in all, before each is widened at once.
const MOST_DEEP: u32 = 200;

/// What was known at the heads of a body's loops; apart by the modes that numbers hang on.
#[derive(Default)]
pub(super) struct Heads {
    seen: FxHashMap<BlockId, SmallVec<[Head; 1]>>,
    begun: FxHashMap<BlockId, u32>,
    deep: u32,
}

/// What was known at a loop's head.
struct Head {
    known: State,
    /// How often it was come to.
    rounds: u32,
    /// What the slots hold once a round is through.
    behind: Option<Values>,
}

impl Head {
    /// Goes on with what is known by now, where that is more than before; where a `round` is through, with what that left.
    ///
    /// What has a round behind it is known apart for the way out: what the first round is certain to set is set there, where a
    /// first round is certain.
    fn go_on(&mut self, joined: State, round: Option<&Values>) -> Entered {
        let grown = joined != self.known;
        let behind_grown = round.is_some_and(|values| self.take_behind(values));
        let behind = self.behind.iter().filter(|_| round.is_some());
        let narrower = behind.flat_map(|behind| behind.unlike(&joined.values));
        let narrower: SmallVec<[(usize, Abstract); 8]> = narrower.map(|(slot, value)| (slot, value.clone())).collect();
        if grown {
            self.rounds += 1;
            self.known.clone_from(&joined);
        }
        match (grown, behind_grown) {
            // Who begins again may leave at once, with what only those knew so far who had a round behind them.
            (false, false) if round.is_none() && self.behind.is_some() => smallvec![(joined, Onward::Out)],
            (false, false) => Entered::new(),
            (true, _) if narrower.is_empty() => smallvec![(joined, Onward::Either)],
            _ => {
                let mut out = joined.clone();
                narrower.into_iter().for_each(|(slot, value)| out.values[slot] = value);
                let inside = grown.then_some((joined, Onward::Inside));
                inside.into_iter().chain([(out, Onward::Out)]).collect()
            }
        }
    }

    /// Takes in what the slots hold once another round is through; says whether that is more.
    fn take_behind(&mut self, round: &Values) -> bool {
        let all = self.behind.as_ref().map_or_else(|| round.clone(), |known| known.joined(round));
        let grown = self.behind.as_ref() != Some(&all);
        self.behind = Some(all);
        grown
    }
}

/// Where a loop's head is left to.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Onward {
    /// Into another round, or out of the loop.
    Either,
    Inside,
    Out,
}

impl Onward {
    /// Whether a block that follows the head is one to go to.
    pub(super) fn leads_to(self, head: &Block, next: BlockId) -> bool {
        self == Self::Either || (self == Self::Out) == (way_out(head) == Some(next))
    }
}

/// Where a loop goes on once its condition fails, or there are no rounds left.
fn way_out(head: &Block) -> Option<BlockId> {
    match head.exit {
        Exit::Branch { no, .. } => Some(no),
        Exit::Repeat { done, .. } => Some(done),
        _ => None,
    }
}

/// The states with which a loop's head is left.
pub(super) type Entered = SmallVec<[(State, Onward); 2]>;

impl Heads {
    /// A loop within a loop that begins again is looked at afresh, by itself, the first few times; later what it was like
    /// before counts too, so that an end comes.
    pub(super) fn begin(&mut self, block: &Block) {
        if !(1..=DEEPEST_AFRESH).contains(&block.loops) {
            return;
        }
        for step in &block.steps {
            if let StepKind::Begin { head, .. } = step.kind {
                let begun = self.begun.entry(head).or_default();
                *begun += 1;
                if *begun <= MOST_AFRESH {
                    self.seen.remove(&head);
                }
            }
        }
    }
}

impl<'w> Run<'w, '_> {
    /// The states with which a loop's head is entered again: none once nothing grows. `came_round` if all of them have a round
    /// behind them.
    pub(super) fn at_head(
        &mut self,
        heads: &mut Heads,
        at: BlockId,
        block: &Block,
        mut states: States,
        came_round: bool,
    ) -> Entered {
        if let Exit::Each { place, .. } = &block.exit
            && let Some(slot) = self.slot(*place)
        {
            states.iter_mut().for_each(|state| self.release(state, slot)); // The next round is about another one.
        }
        states.iter_mut().for_each(|state| self.drop_right(state)); // Where they meet that could not be seen any more.
        let mut apart: States = States::new();
        for mut state in states {
            let joined = match apart.iter().position(|other| self.is_alike_at_head(other, &state)) {
                Some(at) => {
                    let mut other = apart.remove(at);
                    self.let_hold(&mut other, &mut state);
                    other.join(&state)
                }
                None => state,
            };
            apart.push(joined);
        }
        apart.into_iter().flat_map(|state| self.come_to_head(heads, at, block, state, came_round)).collect()
    }

    /// Whether the modes that numbers hang on have the same values.
    pub(super) fn is_in_mode_of(&self, one: &State, other: &State) -> bool {
        self.modes.iter().all(|slots| one.value(slots.mode) == other.value(slots.mode))
    }

    /// Whether two ways lead to a loop's head that need not be told apart: by modes, or by flags such as `any = true`.
    fn is_alike_at_head(&self, one: &State, other: &State) -> bool {
        let is_truth = |slot: &&Slot| {
            let facts = &self.table.slots[**slot as usize];
            facts.ty == Type::Bool && facts.cell.is_none()
        };
        let mut flags = self.table.flags.iter().filter(is_truth).take(MOST_FLAGS);
        flags.all(|&flag| one.value(flag) == other.value(flag)) && self.is_in_mode_of(one, other)
    }

    fn come_to_head(
        &mut self,
        heads: &mut Heads,
        at: BlockId,
        block: &Block,
        mut next: State,
        came_round: bool,
    ) -> Entered {
        heads.deep += u32::from(block.loops > DEEP);
        let all = heads.seen.entry(at).or_default();
        let place = all.iter().position(|head| self.is_alike_at_head(&head.known, &next));
        // Where there are too many, one stands for all.
        let Some(place) = place.or((all.len() >= MOST_MODES).then_some(0)) else {
            self.guess_relations(&mut next, block);
            all.push(Head { known: next.clone(), rounds: 1, behind: None });
            return smallvec![(next, Onward::Either)];
        };
        let Head { known, rounds, .. } = &mut all[place];
        if *rounds == 1 {
            self.relate_rounds(known, &mut next, block);
        }
        let patience = if self.most_parts > 1 { ROUNDS } else { 1 };
        let mut before = known.clone();
        self.let_hold(&mut before, &mut next);
        let is_deep = heads.deep > MOST_DEEP;
        let joined = if is_deep {
            self.widened_at_once(&before, &next)
        } else if *rounds < patience {
            before.join(&next)
        } else if *rounds < patience * 10 {
            before.widen(&next, self.thresholds)
        } else {
            before.widen(&next, &[])
        };
        let round = came_round && !is_deep && block.loops <= DEEPEST_AFRESH && way_out(block).is_some();
        all[place].go_on(joined, round.then_some(&next.values))
    }

    /// What is known at a loop's head where there is no time to see how far it grows: numbers may be anything that their range
    /// allows, and what is suspect is told without waiting for what comes.
    fn widened_at_once(&mut self, known: &State, next: &State) -> State {
        let [known, next] = [known, next].map(|state| {
            let mut state = state.clone();
            state.facts.clear();
            self.judge_settled(&mut state);
            state
        });
        let mut wide = known.widen(&next, &[]);
        for (slot, _) in (0..).zip(&self.table.slots) {
            if let Value::Num(num) = &wide.value(slot).value {
                let all = Num::range(f64::NEG_INFINITY, f64::INFINITY, num.int);
                wide.values[slot as usize].value = Value::Num(all);
            }
            wide.doubted.push_new(slot);
        }
        self.assume_ranges(&mut wide);
        wide
    }

    /// What a loop steps by constants may keep its relation from round to round: such relations are put down as the loop is
    /// entered, where they only say what the ranges say; those that a round does not keep go as the head is widened.
    pub(super) fn guess_relations(&mut self, state: &mut State, head: &Block) {
        if self.most_parts == 1 {
            return;
        }
        let steps = self.steps_of_round(state, head);
        let mut guesses: SmallVec<[Linear; 6]> = SmallVec::new();
        if let Some(left) = self.rounds_left(head) {
            for &(slot, by) in &steps {
                let form = Linear::slot(slot).plus(&Linear::slot(left), by);
                guesses.extend([form, form.times(-1.0)]);
            }
        }
        if !matches!(head.exit, Exit::Repeat { .. }) {
            for (at, &(a, a_by)) in steps.iter().enumerate() {
                for &(b, b_by) in steps[at + 1..].iter().filter(|&&(b, _)| b != a) {
                    let form = Linear::slot(a).times(b_by).plus(&Linear::slot(b).times(a_by), -1.0);
                    guesses.extend([form.times(-1.0), form]);
                }
            }
        }
        for (slot, _) in self.stepped(head) {
            let mut facts = std::mem::take(&mut state.facts);
            facts.keep_without(slot, &|slot| state.ends(slot));
            state.facts = facts;
        }
        self.count_along(state, head, &steps);
        for form in guesses {
            let highest = state.facts.highest(&form, &|slot| state.ends(slot));
            if highest.is_finite() {
                state.facts.add(form.plus(&Linear::constant(highest), -1.0));
            }
        }
    }

    /// The places that a round steps.
    fn stepped<'h>(&self, head: &'h Block) -> impl Iterator<Item = (Slot, &'h Change)> {
        head.changes.iter().filter_map(|(place, change)| Some((self.slot(*place)?, change))).take(MOST_STEPPED)
    }

    /// How far a round steps them, at most and at least.
    fn steps_of_round(&mut self, state: &State, head: &Block) -> SmallVec<[(Slot, f64); 4]> {
        let mut steps = SmallVec::new();
        let stepped: SmallVec<[(Slot, &Change); 4]> = self.stepped(head).collect();
        for (slot, change) in stepped {
            let (lo, hi) = self.ends_of_change(state, change);
            let ends = if lo == hi { &[hi][..] } else { &[hi, lo] };
            steps.extend(ends.iter().filter(|end| end.is_finite() && **end != 0.0).map(|&end| (slot, end)));
        }
        steps
    }

    fn ends_of_change(&mut self, state: &State, change: &Change) -> (f64, f64) {
        match change {
            Change::Within(lo, hi) => (*lo, *hi),
            Change::Up(by) => self.ends_of(state, *by),
            Change::Down(by) => {
                let (lo, hi) = self.ends_of(state, *by);
                (-hi, -lo)
            }
            Change::Sum(all) => all.iter().fold((0.0, 0.0), |(lo, hi), part| {
                let part = self.ends_of_change(state, part);
                (lo + part.0, hi + part.1)
            }),
            Change::Either(all) => all.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(lo, hi), part| {
                let part = self.ends_of_change(state, part);
                (lo.min(part.0), hi.max(part.1))
            }),
            Change::Over(rounds, inner) => {
                let (lo, hi) = self.ends_of_change(state, inner);
                let (least, most) = match *rounds {
                    Rounds::Number(number) => (number, number),
                    Rounds::Counted(count) => {
                        let (least, most) = self.ends_of(state, count);
                        (least.max(0.0), most.max(0.0))
                    }
                    Rounds::Each(actor) => (0.0, self.world.most_count(self.handler, actor)),
                };
                (lo * if lo < 0.0 { most } else { least }, hi * if hi > 0.0 { most } else { least })
            }
        }
    }

    /// What counts down the rounds that are still to come.
    fn rounds_left(&self, head: &Block) -> Option<Slot> {
        match head.exit {
            Exit::Repeat { count, .. } => self.table.slot(Key::Rounds(count)),
            Exit::Each { place, .. } => self.table.slot(Key::RoundsOver(place)),
            _ => None,
        }
    }

    /// Two places that had one value each as the loop was entered, and have one each after a round, lie on a line: where
    /// every round goes on along it, that relates them for good (after Karr, 1976).
    fn relate_rounds(&self, known: &mut State, next: &mut State, head: &Block) {
        let moved = |slot: Slot| {
            let number = |state: &State| state.num(slot).and_then(Num::single).filter(|&number| is_whole(number));
            let (before, after) = (number(known)?, number(next)?);
            (before != after).then_some((slot, before, after - before))
        };
        let slots = self.rounds_left(head).into_iter().chain(self.stepped(head).map(|(slot, _)| slot));
        let lines: SmallVec<[(Slot, f64, f64); 4]> = slots.filter_map(moved).collect();
        for (at, &(a, a_from, a_by)) in lines.iter().enumerate() {
            for &(b, b_from, b_by) in &lines[at + 1..] {
                let beside = |slot, from| Linear::slot(slot).plus(&Linear::constant(from), -1.0);
                let line = beside(a, a_from).times(b_by).plus(&beside(b, b_from).times(a_by), -1.0);
                for state in [&mut *known, &mut *next] {
                    state.facts.add(line.times(-1.0));
                    state.facts.add(line);
                }
            }
        }
    }

    /// Between which numbers an expression lies. Where it has no value yet, as with the name of a `for` that holds nothing
    /// before its first round, that may be any.
    fn ends_of(&mut self, state: &State, expr: ExprId) -> (f64, f64) {
        let quiet = std::mem::replace(&mut self.quiet, true);
        let ends = self.eval(&mut state.clone(), expr).ends();
        self.quiet = quiet;
        if self.take_dead() { (f64::NEG_INFINITY, f64::INFINITY) } else { ends }
    }

    /// What is known of a place as a loop is entered stays true less what a counter has counted since: with
    /// `parcels + n ≤ 20` and `i` at 0, `parcels - i + n ≤ 20` is kept while both go up by one. What the counter starts at
    /// may be a number, or stand in relation to others.
    fn count_along(&self, state: &mut State, head: &Block, steps: &[(Slot, f64)]) {
        let mut along: SmallVec<[Linear; 4]> = SmallVec::new();
        let counts = |state: &State, slot: Slot| {
            self.table.slots[slot as usize].cell.is_none() || state.num(slot).and_then(Num::single).is_some()
        };
        let counters: SmallVec<[(Slot, f64); 4]> =
            steps.iter().copied().filter(|&(slot, _)| counts(state, slot)).collect();
        for (counter, by) in self.rounds_left(head).map(|left| (left, -1.0)).into_iter().chain(counters) {
            let starts = starts_of(state, counter);
            for &(slot, far) in steps.iter().filter(|&&(slot, _)| slot != counter) {
                let about = state.facts.about(slot).filter(|fact| fact.factor(counter) == 0.0);
                for fact in about.take(MOST_COUNTED) {
                    let factor = -fact.factor(slot) * far / by;
                    let starts =
                        starts.iter().filter(|start| start.factor(counter) * factor > 0.0 && start.factor(slot) == 0.0);
                    along.extend(starts.map(|start| fact.plus(start, factor / start.factor(counter))));
                }
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
            self.end_rounds(&mut state, left);
            next.push((done, state));
        }
    }

    /// Nobody asks any more how many rounds are left: what is known of other places together with them is so without.
    fn end_rounds(&self, state: &mut State, left: Slot) {
        let (least, most) = state.ends(left);
        let known = state
            .facts
            .about(left)
            .filter(|fact| fact.terms.len() > 2 && least >= 0.0 && (most == 0.0 || fact.factor(left) > 0.0));
        let known: SmallVec<[Linear; 4]> = known.map(|fact| fact.without(left)).collect();
        state.forget_all(&[left], self.in_loop);
        state.values[left as usize] = Abstract::of(anything(Type::Int));
        known.into_iter().for_each(|fact| state.facts.add(fact));
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
            let count = self.table.slot(Key::Count(actor)).map(Linear::slot);
            self.put(state, left, Abstract::of(Value::Num(rounds)), count.as_slice(), &[]);
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
        self.end_rounds(behind, left);
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

/// Forms that are at most zero as a counter starts to count: its ends, and how it relates to others.
fn starts_of(state: &State, counter: Slot) -> SmallVec<[Linear; 6]> {
    let ((lo, hi), own) = (state.ends(counter), Linear::slot(counter));
    let low = lo.is_finite().then(|| Linear::constant(lo).plus(&own, -1.0));
    let high = hi.is_finite().then(|| own.plus(&Linear::constant(hi), -1.0));
    let related = state.facts.about(counter).filter(|fact| fact.terms.len() <= MOST_START_TERMS).take(MOST_STARTS);
    low.into_iter().chain(high).chain(related).collect()
}
