//! The blocks of a body, in reverse postorder: what is known where ways meet, and where they part.

use super::*;

/// The states with which ways lead to a block, in the order of the ways.
#[derive(Default)]
struct Arriving {
    states: States,
    /// Whether any comes from within a loop.
    in_loop: bool,
    /// Whether any does not come back from a later block.
    comes_on: bool,
}

impl<'w, 'p> Run<'w, 'p> {
    pub(super) fn body(&mut self, graph: &'w Graph, entry: State) -> Vec<State> {
        self.blocks(graph, BlockId(0), entry, None, &mut BTreeSet::new()).0
    }

    /// Runs blocks from one on, up to another: gives the states with which the body is left, and those that arrive there.
    pub(super) fn blocks(
        &mut self,
        graph: &'w Graph,
        first: BlockId,
        entry: State,
        until: Option<BlockId>,
        visited: &mut BTreeSet<BlockId>,
    ) -> (Vec<State>, Vec<State>) {
        let (mut left, mut arrived): (Vec<State>, Vec<State>) = (Vec::new(), Vec::new());
        let mut waiting: BTreeMap<BlockId, Arriving> = BTreeMap::new();
        let mut heads = Heads::default();
        let called_in_loop = self.in_loop;
        let outer_apart = self.apart_by.clone();
        waiting.insert(first, Arriving { states: smallvec![entry], in_loop: called_in_loop, comes_on: true });
        while let Some((at, arriving)) = waiting.pop_first() {
            let came_round = !arriving.comes_on;
            self.tell_apart(&outer_apart, graph, at);
            let states = self.met(arriving);
            let block = &graph.blocks[at.index()];
            if until.is_some() {
                visited.insert(at);
            }
            self.in_loop = called_in_loop || block.loops > 0 || block.loop_head;
            let states = if block.loop_head {
                self.at_head(&mut heads, at, block, states, came_round)
            } else {
                states.into_iter().map(|state| (state, Onward::Either)).collect()
            };
            heads.begin(block);
            if !self.stack.is_empty() {
                self.work += block.size() * states.len() * self.table.slots.len();
            }
            for (mut state, onward) in states {
                self.tell_where_many(&mut state);
                for state in self.steps(state, block) {
                    let (mark, before) = (self.given.len(), left.len());
                    let ways = self.exit(graph, at, state, &mut left);
                    let given = self.given.split_off(mark);
                    left[before..].iter_mut().for_each(|state| state.forget_all(&given, self.in_loop));
                    for (next, mut state) in ways.into_iter().filter(|&(next, _)| onward.leads_to(block, next)) {
                        state.forget_all(&given, self.in_loop);
                        if until == Some(next) {
                            arrived.push(state);
                            continue;
                        }
                        let arriving = waiting.entry(next).or_default();
                        arriving.states.push(state);
                        arriving.in_loop |= self.in_loop;
                        arriving.comes_on |= next > at;
                    }
                }
            }
        }
        self.in_loop = called_in_loop;
        self.apart_by = outer_apart;
        (left, arrived)
    }

    /// Tells ways apart by what the callers ask about, and by what this body still does from a block on.
    fn tell_apart(&mut self, outer: &[Slot], graph: &Graph, at: BlockId) {
        if graph.chosen.is_empty() {
            return;
        }
        self.apart_by.truncate(outer.len());
        let chosen = graph.chosen.iter().filter(|chosen| chosen.until >= at);
        let slots: SmallVec<[Slot; 4]> = chosen.filter_map(|chosen| self.slot(chosen.place)).collect();
        self.apart_by.extend(slots);
    }

    /// What is known where ways meet. The last ones first, as where branches stand inside each other: what one way gives outright
    /// is then held against all that the later ways come to.
    fn met(&mut self, Arriving { states, in_loop, .. }: Arriving) -> States {
        if states.len() < 2 {
            return states;
        }
        self.in_loop = in_loop;
        let mut parts = States::new();
        states.into_iter().rev().for_each(|state| self.arrive(&mut parts, state));
        parts
    }

    /// Runs the steps of a block. A procedure's call may leave several states behind.
    fn steps(&mut self, mut state: State, block: &'w Block) -> States {
        let mut last_uses = &block.last_uses[..];
        let used_up = self.used_up(&mut last_uses, 0);
        self.let_go(&mut state, &used_up);
        let mut states: States = smallvec![state];
        for (at, step) in (1..).zip(&block.steps) {
            let mut next = States::new();
            let mark = self.given.len();
            for state in states {
                if !self.table.has_sorting {
                    self.run_step(state, (block, at as usize), step, &mut next);
                    continue;
                }
                let (ways, call) = self.apart_by_step(state, &step.kind);
                let outer = std::mem::replace(&mut self.worked_out, call);
                ways.into_iter().for_each(|way| self.run_step(way, (block, at as usize), step, &mut next));
                self.worked_out = outer;
            }
            let mut given = self.given.split_off(mark);
            given.extend(self.used_up(&mut last_uses, at));
            next.iter_mut().for_each(|state| self.let_go(state, &given));
            states = next;
        }
        states
    }

    /// Runs a step, which is in a block behind so many with it.
    fn run_step(&mut self, state: State, (block, at): (&Block, usize), step: &'w Step, next: &mut States) {
        match &step.kind {
            StepKind::Call(call) => self.call_step(state, *call, step, next),
            StepKind::Let { place, value } if self.is_answer(*value) => {
                self.reach(step.span, &state);
                self.let_answer(state, (*place, *value), next);
            }
            StepKind::Assign { target, place, axis, op, value } => {
                self.reach(step.span, &state);
                let assignment = Assignment {
                    target: *target,
                    place: *place,
                    axis: *axis,
                    op: *op,
                    value: *value,
                    span: step.span,
                    last: self.is_parting(block, at),
                };
                self.assign(state, &assignment, step, next);
            }
            StepKind::Clear { target, place } => {
                self.reach(step.span, &state);
                for state in self.apart_by_self(state, *place) {
                    let cleared = self.clear(state, *target, *place, step.span);
                    cleared.into_iter().for_each(|state| self.arrive(next, state));
                }
                if self.take_dead() {
                    next.clear();
                }
            }
            StepKind::Wait(waiting) => {
                let others_begin = !matches!(waiting, Waiting::Answer); // There they do once it is asked.
                for state in self.apart_by_flag(state) {
                    let Some(waited) = self.step(state, step) else { continue };
                    if others_begin {
                        next.extend(self.by_modes_after_others(waited));
                    } else {
                        next.push(waited);
                    }
                }
            }
            _ if self.worked_out.is_some() => {
                self.step(state, step).into_iter().for_each(|state| self.arrive(next, state));
            }
            _ => next.extend(self.step(state, step)),
        }
    }

    /// Nobody asks for these slots again: how they relate to others, and what they were worked out from, is of no use.
    fn let_go(&self, state: &mut State, slots: &[Slot]) {
        if !slots.is_empty() {
            state.forget_all(slots, self.in_loop);
            state.sources.retain(|source| !slots.contains(&source.local));
            state.tests.retain(|(local, _)| !slots.contains(local));
        }
    }

    /// The locals that nobody asks for after so many steps; they are taken off the list.
    fn used_up(&self, last_uses: &mut &[(u32, PlaceId)], after: u32) -> SmallVec<[Slot; 4]> {
        let count = last_uses.iter().take_while(|&&(at, _)| at == after).count();
        let (now, later) = last_uses.split_at(count);
        *last_uses = later;
        let is_passed = |slot: &Slot| self.table.passed.contains(slot);
        now.iter().filter_map(|&(_, place)| self.slot(place)).filter(|slot| !is_passed(slot)).collect()
    }

    /// Whether a truth is found out by a procedure, which is asked once for all.
    pub(super) fn is_answer(&self, value: ExprId) -> bool {
        self.unit.ty(value) == Type::Bool && self.calls_any(value)
    }

    /// A `let` that a procedure answers: both ways that it may come out.
    fn let_answer(&mut self, state: State, (place, value): (PlaceId, ExprId), next: &mut States) {
        let doubted = self.is_doubted(&state, value);
        let (yes, no) = self.branch(state, value);
        if self.take_dead() {
            return;
        }
        for (outcome, way) in [(true, yes), (false, no)] {
            let Some(mut state) = way else { continue };
            if let Some(slot) = self.slot(place) {
                let before = state.clone();
                let given = Value::Bool { yes: outcome, no: !outcome };
                self.put(&mut state, slot, Abstract::of(given), &[], &[]);
                self.sourced(&mut state, slot, value, &before);
                self.remember_test(&mut state, slot, value);
                if doubted {
                    state.doubted.push_new(slot);
                }
            }
            self.arrive(next, state);
        }
    }

    fn call_step(&mut self, mut state: State, call: ExprId, step: &'w Step, next: &mut States) {
        let unit = self.unit;
        let (Meaning::Procedure(id), ExprKind::Call(_, arguments)) = (unit.meaning(call), &unit.tree.expr(call).kind)
        else {
            next.extend(self.step(state, step));
            return;
        };
        self.reach(step.span, &state);
        for state in self.call_parts(&mut state, call, id, arguments) {
            self.arrive(next, state);
        }
        if self.take_dead() {
            next.clear();
        }
    }

    /// Adds a state to those at a point; states with the same suspects, flags, names for the own instance, and losses become
    /// one.
    pub(super) fn arrive(&self, parts: &mut States, mut state: State) {
        let alike = |part: &State| {
            let mut marks = part.suspects.iter().zip(&state.suspects);
            let flags = &self.table.flags;
            let burst = |state: &State| (state.stepped, state.at_once);
            let steps = !self.in_bursts || burst(part) == burst(&state);
            steps
                && (&part.selves, &part.removed, &part.sent) == (&state.selves, &state.removed, &state.sent)
                && part.handing == state.handing
                && (part.went, part.forked.is_some()) == (state.went, state.forked.is_some())
                && flags.iter().all(|&flag| part.value(flag) == state.value(flag))
                && self.apart_by.iter().all(|&slot| part.value(slot) == state.value(slot))
                && self.is_in_mode_of(part, &state)
                && part.suspects.len() == state.suspects.len()
                && marks.all(|(a, b)| (a.wrong, a.at) == (b.wrong, b.at))
        };
        let same = parts.iter().position(alike);
        if same.is_none() && parts.len() < self.most_parts {
            parts.push(state);
            return;
        }
        // The one that was joined last stands last: where there is no room, the first gives way.
        let (same, last) = (same.unwrap_or(0), parts.len() - 1);
        parts.swap(same, last);
        self.let_hold(&mut parts[last], &mut state);
        parts[last].take_in(&state, self.in_loop, &self.table.amounts);
    }

    pub(super) fn within(&self, state: &State, slot: Slot) -> bool {
        let facts = &self.table.slots[slot as usize];
        [(facts.max, End::Max), (facts.min, End::Min)]
            .into_iter()
            .all(|(limit, end)| limit.is_none_or(|limit| judge::within(state, slot, limit, end)))
    }

    pub(super) fn reach(&mut self, at: Span, state: &State) {
        let reached = self.reached.entry(at).or_default();
        reached.before_wait |= state.at_once;
        reached.after_wait |= state.waited;
    }

    fn exit(&mut self, graph: &'w Graph, at: BlockId, mut state: State, left: &mut Vec<State>) -> Ways {
        let block = &graph.blocks[at.index()];
        let span = block.exit_span;
        self.reach(span, &state);
        let mut next = Ways::new();
        match &block.exit {
            Exit::Goto(to) => next.push((*to, state)),
            Exit::Branch { test, yes, no } => {
                for state in self.split_by_flag(state, *test) {
                    let (a, b) = self.branch(state, *test);
                    next.extend(a.map(|state| (*yes, state)));
                    next.extend(b.map(|state| (*no, state)));
                }
            }
            Exit::Match { subject, arms, otherwise, .. } => {
                let (ways, call) = self.apart_by_operands(state, &[*subject]);
                let outer = std::mem::replace(&mut self.worked_out, call);
                ways.into_iter().for_each(|way| self.match_(way, *subject, arms, *otherwise, &mut next));
                self.worked_out = outer;
            }
            Exit::Fork { now, later, delay } => {
                if let Duration::Seconds(value) = delay {
                    self.eval(&mut state, *value);
                }
                let ticks = self.ticks(delay);
                let mut after = state.clone();
                for suspect in after.suspects.take() {
                    self.set_right(&mut after, suspect.wrong);
                }
                after.later = true;
                after.unseen = Shared::default();
                after.sent = Shared::default();
                after.handing = Shared::default();
                let last = ticks.filter(|_| !self.goes_on_later(graph, *later)).unwrap_or(f64::INFINITY);
                let put_off = PutOff { first: ticks.unwrap_or(0.0), last: last.max(1.0) };
                state.forked = PutOff::either(state.forked, Some(put_off));
                next.push((*now, state));
                self.let_rest_run(&mut after, *now);
                let after = self.wait(after, None, ticks).map(|after| self.by_modes_after_others(after));
                next.extend(after.into_iter().flatten().map(|after| (*later, after)));
            }
            Exit::Choose(offers) => self.choose(&state, offers, span, &mut next),
            Exit::Each { place, actor, filter, body, done } => {
                let mut inside = state.clone();
                self.unbind(&mut state, *place);
                self.next_round_over(&mut inside, &mut state, *place);
                self.bind(&mut inside, *place);
                self.assume_invariants_of(&mut inside, *place);
                if let Some(slot) = actor.and_then(|actor| self.table.slot(Key::Count(actor))) {
                    cut(&mut inside, slot, (1.0, f64::INFINITY));
                }
                self.take_up_suspects(&mut inside, *place);
                let (inside, mut other) = match filter {
                    Some(filter) => self.branch(inside, *filter),
                    None => (Some(inside), None),
                };
                let plain = filter.is_none_or(|filter| !self.calls_any(filter));
                let known = actor.filter(|_| plain).map_or_else(Vec::new, |actor| {
                    let each = Each { head: at, place: *place, body: *body };
                    self.known_of_all(graph, each, actor, inside.as_ref(), other.as_ref())
                });
                if let (Some(other), Some(slot)) = (&mut other, self.slot(*place)) {
                    self.release(other, slot);
                }
                let goes_on = other.filter(|_| filter.is_some_and(|filter| self.calls_procedure(filter)));
                next.extend(goes_on.map(|state| (at, state)));
                let inside = inside.map(|state| self.by_modes_of_name(state, *place));
                next.extend(inside.into_iter().flatten().map(|state| (*body, state)));
                self.all_visited(&mut state, *place, span);
                self.take_known_of_all(&mut state, known);
                next.push((*done, state));
            }
            Exit::Repeat { count, body, done } => self.repeat(state, *count, *body, *done, &mut next),
            Exit::Return(value) => self.return_(state, *value, span, left),
            Exit::End => {
                if state.later || self.stack.is_empty() {
                    let close = Span { start: span.end.saturating_sub(1), end: span.end };
                    self.end(state, close);
                } else {
                    self.end_unanswered(&mut state);
                    left.push(state);
                }
            }
            Exit::Restart => {
                self.part_from_run(&mut state);
                self.end(state, span);
            }
            Exit::Gone => self.end(state, span),
        }
        if self.take_dead() {
            next.clear();
        }
        next
    }

    fn match_(
        &mut self,
        state: State,
        subject: ExprId,
        arms: &[(Vec<ExprId>, BlockId)],
        otherwise: Option<BlockId>,
        next: &mut Ways,
    ) {
        let mut state = state;
        // A procedure that the subject calls runs once, not for each arm.
        let given = self.calls_procedure(subject).then(|| self.eval(&mut state, subject));
        let mut rest = Some(state);
        for (tests, block) in arms {
            for &test in tests {
                let Some(state) = rest.take() else { break };
                let (equal, different) = match &given {
                    Some(given) => self.may_equal(state, given, test),
                    None => self.equals(state, subject, test),
                };
                next.extend(equal.map(|state| (*block, state)));
                rest = different;
            }
        }
        if let (Some(block), Some(state)) = (otherwise, rest) {
            next.push((block, state));
        }
    }

    fn choose(&mut self, state: &State, offers: &[Offer], span: Span, next: &mut Ways) {
        let Some(asked) = self.ask(state.clone(), offers) else { return };
        for offer in offers {
            let offered = match offer.when {
                Some(when) => self.branch(asked.clone(), when).0,
                None => Some(asked.clone()),
            };
            let Some(mut state) = offered else { continue };
            if !self.calls_any(offer.text) {
                self.show(&mut state, offer.text);
            }
            let waited = self.wait(state, Some(span), None).map(|state| self.by_modes_after_others(state));
            for mut state in waited.into_iter().flatten() {
                state.alone = true;
                next.push((offer.block, state));
            }
        }
    }

    /// What the procedures do that the choices' conditions and texts call, whichever choice is taken then; none where they
    /// never come back.
    fn ask(&mut self, state: State, offers: &[Offer]) -> Option<State> {
        offers.iter().try_fold(state, |mut state, offer| {
            let by_text = self.calls_any(offer.text);
            let (yes, no) = match offer.when {
                Some(when) if by_text => self.branch(state, when),
                Some(when) if self.calls_any(when) => {
                    self.eval(&mut state, when);
                    (Some(state), None)
                }
                None if by_text => (Some(state), None),
                _ => return Some(state),
            };
            if self.take_dead() {
                return None;
            }
            let shown = yes.and_then(|mut state| {
                if by_text {
                    self.show(&mut state, offer.text);
                }
                (!self.take_dead()).then_some(state)
            });
            match (shown, no) {
                (Some(shown), Some(no)) => Some(shown.join(&no)),
                (shown, no) => shown.or(no),
            }
        })
    }
}
