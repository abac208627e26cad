//! What a write does: to its place, to those that may be the same, and to what others will see.

use super::*;
use crate::project::builtin::Builtin;

/// How many places may wait to be seen where one that is given a number joins them.
const MOST_UNSEEN: usize = 32;

impl<'w, 'p> Run<'w, 'p> {
    pub(super) fn clear(
        &mut self,
        mut state: State,
        target: ExprId,
        place: PlaceId,
        span: Span,
    ) -> SmallVec<[State; 2]> {
        self.pass_through(&mut state, place, target);
        let Some(slot) = self.slot(place) else { return smallvec![state] };
        let in_invariant = self.table.slots[slot as usize].variable.is_some_and(|id| self.world.in_invariant(id));
        let before = in_invariant.then(|| state.clone());
        let ty = self.table.slots[slot as usize].ty;
        let cleared = if matches!(ty, Type::Ref(_)) {
            Abstract::of(Value::Ref { none: true, some: false })
        } else {
            Abstract { unset: true, set: false, ..Abstract::of(anything(ty)) }
        };
        self.put(&mut state, slot, cleared, &[], &[]);
        let write = Unseen { clears: true, ..Unseen::of(slot, anything(ty)) };
        if matches!(ty, Type::Ref(_)) {
            self.see(&state, &write);
        } else {
            state.add_unseen(&write); // It may be given another value before anyone looks.
        }
        self.renew_dependents(&mut state, slot);
        state.suspects.retain(|suspect| !matches!(suspect.wrong, Wrong::Outside(other, _) if other == slot));
        match before {
            Some(before) => self.judge_clear(&before, state, slot, span),
            None => smallvec![state],
        }
    }

    /// An assignment: the states after it, where what may be wrong is told apart from what is right.
    pub(super) fn assign(&mut self, state: State, assignment: &Assignment, step: &Step, next: &mut States) {
        for state in self.apart_by_self(state, assignment.place) {
            for (state, given) in self.split_by_given(state, assignment) {
                for state in self.assign_one(state, given, assignment, step) {
                    self.arrive(next, state);
                }
            }
        }
    }

    /// Where a test joins what a flag says with something else, as `crew > 1 or not sailing`: both ways that the flag may be.
    pub(super) fn split_by_flag(&self, state: State, test: ExprId) -> SmallVec<[State; 2]> {
        let Some(joining) = self.joining(&state, test).filter(|_| self.most_parts > 1) else {
            return smallvec![state];
        };
        let open = |slot: &Slot| self.table.flags.contains(slot).then(|| either(&state.value(*slot).value)).flatten();
        let Some((slot, values)) = self.reads(joining).into_iter().find_map(|slot| Some((slot, open(&slot)?))) else {
            return smallvec![state];
        };
        let given = values.map(|value| {
            let mut state = state.clone();
            state.values[slot as usize].value = value;
            state
        });
        given.into_iter().collect()
    }

    /// Both ways that a local may be which still says what a test says of others' places: over a wait it says no more than what
    /// each way tells by then.
    pub(super) fn apart_by_flag(&mut self, state: State) -> SmallVec<[State; 2]> {
        let is_cell = |slot: &Slot| self.table.slots[*slot as usize].cell.is_some();
        let is_open = |&&(local, test): &&(Slot, ExprId)| {
            !is_cell(&local) && either(&state.value(local).value).is_some() && self.reads(test).iter().any(is_cell)
        };
        match state.tests.iter().find(is_open).filter(|_| self.most_parts > 1) {
            Some(&(local, _)) => {
                let (yes, no) = self.way_of_flag(state, local, (true, true));
                yes.into_iter().chain(no).collect()
            }
            None => smallvec![state],
        }
    }

    /// The `and` or `or` that a test comes to, also behind `not` and behind a name.
    fn joining(&self, state: &State, mut test: ExprId) -> Option<ExprId> {
        for _ in 0..MOST_FLAGS_BEHIND {
            test = match self.unit.tree.expr(test).kind {
                ExprKind::Binary(BinaryOp::Or | BinaryOp::And, ..) => return Some(test),
                ExprKind::Unary(UnaryOp::Not, inner) => inner,
                _ => state.test_behind(self.slot(self.unit.place_of(test)?)?)?,
            };
        }
        None
    }

    /// What is true where an invariant's flag is given `true`, and where it is given `false`: `flag = mast and windy`.
    fn split_by_given(&mut self, mut state: State, assignment: &Assignment) -> SmallVec<[(State, Option<Value>); 2]> {
        let &Assignment { place, op, value, .. } = assignment;
        let in_invariant = self.slot(place).is_some_and(|slot| {
            let facts = &self.table.slots[slot as usize];
            let in_invariant = facts.variable.is_some_and(|variable| self.world.in_invariant(variable));
            let is_mode = self.modes.iter().any(|slots| slots.mode == slot);
            let is_flag = (facts.cell.is_some() || self.is_answer(value)) && self.table.flags.contains(&slot);
            facts.ty == Type::Bool && (in_invariant || is_flag || is_mode)
        });
        if !in_invariant || op != AssignOp::Set || self.most_parts == 1 {
            return smallvec![(state, None)];
        }
        // What calls a procedure is worked out here and not again; all else is judged before it is known how it comes out,
        // which takes for granted that it doesn't fail.
        let calls = self.calls_any(value);
        if !calls {
            self.eval(&mut state, value);
        }
        let quiet = self.quiet;
        self.quiet |= !calls;
        let (yes, no) = self.branch(state.clone(), value);
        self.quiet = quiet;
        if self.take_dead() {
            return SmallVec::new();
        }
        let given = |state: State, yes: bool| (state, Some(Value::Bool { yes, no: !yes }));
        let mut ways: SmallVec<[(State, Option<Value>); 2]> = yes.map(|state| given(state, true)).into_iter().collect();
        ways.extend(no.map(|state| given(state, false)));
        if ways.is_empty() { smallvec![(state, None)] } else { ways }
    }

    /// The same for one state, which may be known to give this value.
    fn assign_one(
        &mut self,
        mut state: State,
        known: Option<Value>,
        assignment: &Assignment,
        step: &Step,
    ) -> SmallVec<[State; 2]> {
        let &Assignment { target, place, axis, op, value, span, .. } = assignment;
        if let Some(slot) = self.slot(place) {
            self.recall_invariants(&mut state, slot);
        }
        state.stepped = state.stepped || crate::flow::access::is_step(self.unit, step);
        let reads_itself = op != AssignOp::Set || axis.is_some();
        if reads_itself {
            self.eval(&mut state, target);
        }
        if op == AssignOp::Set {
            self.judge_lost(&state, place, value, span);
        }
        let old = self.slot(place).map(|slot| state.values[slot as usize].value.clone());
        let was_set = self.slot(place).is_some_and(|slot| state.values[slot as usize].set);
        // What a procedure does to the target on the way does not count: the old value was read before.
        let called = op != AssignOp::Set && self.calls_procedure(value);
        let given = match known {
            Some(known) if self.calls_any(value) => known,
            known => {
                self.slot(place).filter(|_| op == AssignOp::Set).into_iter().for_each(|slot| self.expect(slot, value));
                let given = self.eval(&mut state, value);
                known.unwrap_or(given)
            }
        };
        let (old_forms, forms) = match called {
            true => (Forms::Unknown, Forms::Unknown),
            false => (self.forms(&state, target), self.forms(&state, value)),
        };
        if self.take_dead() {
            return SmallVec::new();
        }
        if !reads_itself || self.calls_any(value) {
            // The value comes first, and its procedures may have taken away what the target goes through.
            self.pass_through(&mut state, place, target);
        }
        let (Some(slot), Some(old)) = (self.slot(place), old) else { return smallvec![state] };
        let ty = self.table.slots[slot as usize].ty;
        let steps_nothing = reads_itself && axis.is_none() && !(was_set && is_of(&old, ty));
        if !is_of(&given, ty) || steps_nothing {
            // A value of another type, or none at all, is a finding of its own, and tells nothing of what is kept.
            self.put_something(&mut state, slot, span);
            return smallvec![state];
        }
        let (new, forms) = match (op, &old, &given) {
            (_, _, _) if axis.is_some() => (anything(self.table.slots[slot as usize].ty), Forms::Unknown),
            (AssignOp::Set, ..) => (given, forms),
            (AssignOp::Add, Value::Num(a), Value::Num(b)) => (Value::Num(a.add(b)), old_forms.plus(&forms, 1.0)),
            (AssignOp::Subtract, Value::Num(a), Value::Num(b)) => (Value::Num(a.sub(b)), old_forms.plus(&forms, -1.0)),
            (AssignOp::Multiply, Value::Num(a), Value::Num(b)) => {
                (Value::Num(a.mul(b)), b.single().map_or_else(Forms::default, |by| old_forms.scaled(by)))
            }
            (AssignOp::Divide, Value::Num(a), Value::Num(b)) => {
                let b = self.judge_divisor(&mut state, b.clone(), value, value);
                let forms = b.single().map_or_else(Forms::default, |by| old_forms.scaled(1.0 / by));
                (Value::Num(a.div(&b)), forms)
            }
            _ => (anything(self.table.slots[slot as usize].ty), Forms::Unknown),
        };
        let new = self.fitted(slot, self.narrowed(&state, new, &forms));
        // A procedure called on the way may have moved the target since it was read.
        let moved = self.direction(&state, slot, &forms, &state.value(slot).value, &new);
        let before = self.is_judged(slot).then(|| state.clone());
        let doubted = self.is_doubted(&state, value) || reads_itself && state.doubted.contains(&slot);
        self.write(&mut state, slot, &new, &forms, moved, assignment);
        self.take_as_meant(&mut state, slot, span);
        if doubted {
            state.doubted.push_new(slot);
        }
        if let Type::Ref(_) = self.table.slots[slot as usize].ty
            && op == AssignOp::Set
            && !self.is_served(value)
        {
            self.copy_instance(&mut state, slot, value);
        }
        if op == AssignOp::Set {
            self.remember_test(&mut state, slot, value);
        }
        if self.table.slots[slot as usize].cell.is_none() {
            let before = state.clone();
            if op == AssignOp::Set {
                self.sourced(&mut state, slot, value, &before);
            } else {
                self.sourced_too(&mut state, slot, value, &before);
            }
        }
        match before {
            Some(before) => self.judge_write(&before, state, slot, span, moved),
            None => smallvec![state],
        }
    }

    /// A slot is given nobody can tell what, but what was meant is right: something in its range.
    fn put_something(&mut self, state: &mut State, slot: Slot, write: Span) {
        let facts = &self.table.slots[slot as usize];
        let any = self.world.any_in_range(facts);
        state.facts.forget(slot);
        self.write_mode(state, slot, &any);
        self.forget_tests(state, |read| read == slot);
        state.values[slot as usize] = Abstract::of(any.clone());
        let concerns = |id: InvariantId| {
            let named = &self.world.project.invariants[id.index()].variables;
            facts.variable.is_some_and(|variable| named.contains(&variable))
        };
        state.suspects.retain(|suspect| match suspect.wrong {
            Wrong::Outside(other, _) => other != slot,
            Wrong::Broken(invariant, _) => !concerns(invariant),
        });
        self.assume_range(state, slot);
        if let Some(cell) = facts.cell {
            self.event(Event::Untellable { at: write, cell });
        }
        self.see(state, &Unseen { up: true, down: true, ..Unseen::of(slot, any) });
    }

    /// Where all that is ever written counts, what a mistaken write comes to may be anything in its range.
    fn take_as_meant(&self, state: &mut State, slot: Slot, write: Span) {
        let cell = self.table.slots[slot as usize].cell.filter(|_| self.counted == Some(Counted::Written));
        if let Some(meant) = cell.and_then(|cell| self.world.meant(self.script, write, cell)) {
            state.facts.forget(slot);
            self.forget_tests(state, |read| read == slot);
            let known = &mut state.values[slot as usize].value;
            *known = known.join(&meant);
        }
    }

    /// Whether a write to a slot can make anything wrong.
    fn is_judged(&self, slot: Slot) -> bool {
        let facts = &self.table.slots[slot as usize];
        facts.min.is_some()
            || facts.max.is_some()
            || !facts.bounds().is_empty()
            || facts.variable.is_some_and(|variable| self.world.in_invariant(variable))
    }

    /// A value cut to what its forms say of it.
    pub(super) fn narrowed(&self, state: &State, value: Value, forms: &Forms) -> Value {
        match value {
            Value::Num(num) => Value::Num(narrowed(state, num, forms)),
            value => value,
        }
    }

    /// A value as its variable's type keeps it.
    pub(super) fn fitted(&self, slot: Slot, value: Value) -> Value {
        let facts = &self.table.slots[slot as usize];
        match (value, facts.ty) {
            (Value::Num(num), Type::Number) => Value::Num(Num { int: false, ..num }),
            (Value::Num(num), Type::Int) if !num.int => Value::Num(num.rounded(f64::floor)),
            (Value::Other, _) => Value::Other,
            (Value::Text(None), Type::Enum(of)) => self.world.any_of(of),
            (value, ty) if !is_of(&value, ty) => anything(ty),
            (value, _) => value,
        }
    }

    /// Whether a write can move the value up, or down.
    fn direction(&self, state: &State, slot: Slot, forms: &Forms, old: &Value, new: &Value) -> Moved {
        if state.value(slot).is_untold() {
            return Moved::EITHER; // There may have been nothing to be within its range.
        }
        let own = Linear::slot(slot);
        let ends = |slot| state.ends(slot);
        let (up, down) = match (old, new) {
            (Value::Num(old), Value::Num(new)) => (new.hi > old.lo, new.lo < old.hi),
            _ => (true, true),
        };
        let is_at_most = |form: &Linear| state.facts.implies(&form.plus(&own, -1.0), &ends);
        let is_at_least = |form: &Linear| state.facts.implies(&own.plus(form, -1.0), &ends);
        let round = self.goes_round(slot, new);
        let up = round || up && !forms.uppers().iter().any(is_at_most);
        let down = round || down && !forms.lowers().iter().any(is_at_least);
        Moved { up, down }
    }

    /// Whether a value is one that a variable goes round with: beyond the one end of its range it comes in at the other.
    fn goes_round(&self, slot: Slot, new: &Value) -> bool {
        let facts = &self.table.slots[slot as usize];
        let wraps = facts.variable.is_some_and(|id| self.world.project.registry.var(id).overflow == Overflow::Wrap);
        let (lo, hi) = new.ends();
        let leaves = |limit: Option<Limit>, beyond: &dyn Fn(f64) -> bool| {
            limit.is_some_and(|limit| if let Limit::Number(end) = limit { beyond(end) } else { true })
        };
        wraps && (leaves(facts.min, &|end| lo < end) || leaves(facts.max, &|end| hi > end))
    }

    fn write(
        &mut self,
        state: &mut State,
        slot: Slot,
        new: &Value,
        forms: &Forms,
        moved: Moved,
        &Assignment { place, op, value, span, last, .. }: &Assignment,
    ) {
        let is_compared = self.table.slots[slot as usize].cell.is_some_and(|cell| self.world.is_compared(cell));
        let exact = if is_compared { step_of(state, slot, forms) } else { None };
        let steps_itself = || op != AssignOp::Set || crate::flow::access::steps_itself(self.unit, place, value);
        let cut = is_compared && exact.is_none() && steps_itself();
        let cut_step = || Some(self.without_limits(state, (place, op, value), slot, cut_step_of(state, slot, forms)?));
        let mut step = if cut { cut_step() } else { exact };
        if let Some((_, by)) = step.as_mut().filter(|_| crate::flow::access::goes_round(self.unit, place, value)) {
            *by = without_going_round(by);
        }
        self.write_mode(state, slot, new);
        let origin = match state.unseen.binary_search_by_key(&slot, |write| write.slot) {
            Ok(at) => state.unseen[at].origin,
            Err(_) if is_compared => Origin::seen(state.ends(slot)),
            Err(_) => Origin::unknown(),
        };
        let origin = if is_compared && step.is_none() { origin.then_given(new.ends()) } else { origin };
        let own = Linear::slot(slot);
        let mut all = forms.uppers().iter().chain(forms.lowers());
        let grows = all.any(|form| form.factor(slot) == 1.0 && *form != own);
        self.put(state, slot, Abstract::of(new.clone()), forms.uppers(), forms.lowers());
        let facts = &self.table.slots[slot as usize];
        state.steps.retain(|step| step.slot != slot);
        if let Some((before, by)) = step {
            state.steps.push(Arc::new(PendingStep { slot, at: span, before, by, cut, origin }));
        }
        if let Some(variable) = facts.variable {
            let overflow = self.world.project.registry.var(variable).overflow;
            if overflow != Overflow::Error {
                self.overflow(state, slot, overflow);
            }
            for &other in facts.clamped() {
                self.follow_bound(state, other);
            }
            // By another name it may be the same instance's.
            if self.table.bounds_by_any_name(slot) {
                let aliases = self.table.aliases(slot).map(|alias| alias.slot);
                for moved in std::iter::once(slot).chain(aliases) {
                    if !self.table.slots[moved as usize].bounds().is_empty() {
                        state.moved_bounds.push_new(moved);
                    }
                }
            }
        }
        let written = state.value(slot).value.clone();
        // What is told by one value can as well be seen at once, though it may be put right: so it is where much is written.
        let is_single = match &written {
            Value::Num(num) => num.single().is_some(),
            _ => true,
        };
        let has_room = state.unseen.len() < MOST_UNSEEN;
        let is_put_right = written != Value::Other && (!is_single || last || has_room);
        let write = Unseen { grows, anew: !grows, up: moved.up, down: moved.down, origin, ..Unseen::of(slot, written) };
        if grows || is_put_right {
            state.add_unseen(&write);
        } else {
            self.see(state, &write);
        }
    }

    /// A cut step without what only the limit does that it is cut at: of `min(x + 1, 9)` the way down from 12 lands on 9.
    fn without_limits(
        &self,
        state: &State,
        (place, op, value): (PlaceId, AssignOp, ExprId),
        slot: Slot,
        (before, by): (Num, Num),
    ) -> (Num, Num) {
        let ends = |slot| state.ends(slot);
        let mut most: Option<(f64, f64)> = None;
        for part in steps_among(self.unit, place, op, value) {
            let own = if op == AssignOp::Set { Linear::slot(slot) } else { Linear::constant(0.0) };
            let forms = self.forms(state, part).scaled(if op == AssignOp::Subtract { -1.0 } else { 1.0 });
            let highest = |sides: &[Linear], sign: f64| {
                let by =
                    sides.iter().map(|form| state.facts.plainly_highest(&form.plus(&own, -1.0).times(sign), &ends));
                by.fold(f64::INFINITY, f64::min)
            };
            let (up, down) = (highest(forms.uppers(), 1.0), highest(forms.lowers(), -1.0));
            most = Some(most.map_or((up, down), |most| (most.0.max(up), most.1.max(down))));
        }
        let Some((up, down)) = most else { return (before, by) };
        let by = Num::range(by.lo.max(-down.max(0.0)), by.hi.min(up.max(0.0)), by.int);
        (before, by)
    }

    /// A variable that clamps or wraps stays within its range.
    fn overflow(&self, state: &mut State, slot: Slot, overflow: Overflow) {
        let Some(num) = state.num(slot).cloned() else { return };
        let facts = &self.table.slots[slot as usize];
        let (Some(low), Some(high)) = (self.limit(state, facts.min, End::Min), self.limit(state, facts.max, End::Max))
        else {
            return;
        };
        let fits = num.lo >= low.lo && num.hi <= high.hi;
        let kept = match overflow {
            Overflow::Wrap if fits => num,
            Overflow::Wrap => num.wrapped(low.lo, high.hi),
            _ => num.max(&low).min(&high),
        };
        if !self.within(state, slot) {
            state.facts.forget(slot);
            self.forget_tests(state, |read| read == slot);
        }
        state.values[slot as usize].value = Value::Num(kept);
        self.assume_range(state, slot);
    }

    fn limit(&self, state: &State, limit: Option<Limit>, end: End) -> Option<Num> {
        Some(match limit {
            Some(Limit::Number(value)) => Num::constant(value, value.fract() == 0.0),
            Some(Limit::Slot(slot)) => state.num(slot)?.clone(),
            None if end == End::Min => Num::range(f64::NEG_INFINITY, f64::NEG_INFINITY, false),
            None => Num::range(f64::INFINITY, f64::INFINITY, false),
        })
    }

    /// With `clamp`, a value moves with a bound that moves.
    fn follow_bound(&mut self, state: &mut State, slot: Slot) {
        if !self.within(state, slot) {
            self.overflow(state, slot, Overflow::Clamp);
            self.forget_tests(state, |read| read == slot);
            let written = state.value(slot).value.clone();
            self.see(state, &Unseen { up: true, down: true, ..Unseen::of(slot, written) });
        }
    }

    /// Gives a slot a value, and those that may be the same place the chance of it.
    pub(super) fn put(&mut self, state: &mut State, slot: Slot, value: Abstract, uppers: &[Linear], lowers: &[Linear]) {
        let products = self.move_products(state, slot, &value.value, uppers, lowers);
        state.relate(slot, uppers, lowers, value.value.ends());
        state.values[slot as usize] = value.clone();
        state.doubted.retain(|other| *other != slot);
        state.selves.retain(|(holder, _)| *holder != slot);
        state.forget_held(slot);
        let table = self.table;
        self.forget_tests(state, |read| read == slot || table.aliases(slot).any(|alias| alias.slot == read));
        self.keep_products(state, products);
        let mut kept: SmallVec<[Slot; 4]> = SmallVec::new();
        let is_name = matches!(table.slots[slot as usize].ty, Type::Ref(_));
        for other in table.aliases(slot) {
            if other.holder.is_some_and(|holder| is_free(state, holder)) {
                continue;
            }
            let alias = other.slot;
            let same = self.are_the_same(state, slot, other);
            if same != Some(true) && !is_name && *state.value(alias) == value && !state.facts.are_about(alias) {
                continue; // It makes no difference.
            }
            if self.within(state, alias) {
                kept.push(alias);
            }
            match same {
                Some(false) => continue,
                Some(true) => {
                    let same = [Linear::slot(slot)];
                    state.forget_held(alias);
                    state.relate(alias, &same, &same, value.value.ends());
                    state.values[alias as usize] = value.clone();
                    continue;
                }
                None => {}
            }
            state.facts.forget(alias);
            state.forget_held(alias);
            let joined = state.values[alias as usize].join(&value);
            state.values[alias as usize] = joined;
        }
        if self.within(state, slot) {
            // Whichever of the two it is, it is within its range.
            kept.into_iter().for_each(|alias| self.assume_range(state, alias));
        }
    }

    /// Others can see what was written to these slots: what lies beyond all that is there by then was put right before.
    pub(in crate::flow) fn show_others(&mut self, state: &mut State, meant: impl Fn(Slot) -> bool) {
        if !state.unseen.iter().any(|write| meant(write.slot)) {
            return;
        }
        let (shown, kept): (Vec<Unseen>, Vec<Unseen>) =
            state.unseen.take().into_iter().partition(|write| meant(write.slot));
        state.unseen = kept.into();
        shown.iter().for_each(|write| self.see(state, write));
    }

    /// Keeps that a slot was written, and the value that it has by now.
    fn see(&mut self, state: &State, write: &Unseen) {
        let &Unseen { slot, grows, clears, .. } = write;
        self.see_margins(state, write);
        self.see_lone(state, write);
        let is_told = is_of(&write.written, self.table.slots[slot as usize].ty);
        let Some(seen) = self.see_moves(state, write) else { return };
        seen.grows |= grows;
        let now = state.value(slot);
        seen.effect.clears |= clears && (now.unset || matches!(now.value, Value::Ref { .. }));
        // What nobody can tell is no value: others go on with what the place is given elsewhere.
        if now.set && is_told {
            let known = seen.written.take();
            seen.written = Some(known.map_or_else(|| write.written.clone(), |known| known.join(&write.written)));
            let value = match (&now.value, &write.written) {
                // On other ways that lead here it may be what it was before.
                (Value::Num(now), Value::Num(written)) => Value::Num(written.meet(now).unwrap_or_else(|| now.clone())),
                (Value::Other, written) => written.clone(), // The rest is what nobody can tell.
                // What was told of may have been taken not to have happened since.
                (now, written) => written.meet(now).unwrap_or_else(|| written.clone()),
            };
            let known = seen.effect.set.take();
            seen.effect.set = Some(known.map_or_else(|| value.clone(), |known| known.join(&value)));
        }
    }

    /// Keeps which way a slot was moved, whatever it holds by now.
    pub(super) fn see_moves(&mut self, state: &State, write: &Unseen) -> Option<&mut Seen> {
        let cell = self.table.slots[write.slot as usize].cell?;
        let (own, later, handler) = (self.is_own_slot(write.slot), state.later, self.handler);
        let seen = self.seen.entry((cell, own, later)).or_insert_with(|| {
            let effect = Effect { own, later, ..Effect::none(handler) };
            Seen { effect, grows: false, written: None }
        });
        seen.effect.up |= write.up;
        seen.effect.down |= write.down;
        seen.effect.after_wait |= state.waited || state.later;
        Some(seen)
    }

    pub(in crate::flow) fn is_own_slot(&self, slot: Slot) -> bool {
        let Key::Place(place) = self.table.slots[slot as usize].key else { return false };
        match self.unit.place(place) {
            Place::Private(_) | Place::Variable(_, Base::Own) => true,
            Place::Variable(_, Base::Listed(instance)) => self.is_own(instance),
            _ => false,
        }
    }

    /// A value worked out from what was read before a wait overwrites what others did meanwhile.
    fn judge_lost(&mut self, state: &State, place: PlaceId, value: ExprId, span: Span) {
        let Some(slot) = self.slot(place) else { return };
        if self.table.slots[slot as usize].cell.is_none() {
            return;
        }
        let reads = self.worked_out_from(value);
        let lost = state.sources.iter().any(|source| {
            source.stale
                && source.read == slot
                && reads.contains(&source.local)
                && !self.are_fixed_apart(state, source.local, slot)
        });
        if lost && !crate::flow::access::builds_on(self.unit, place, value) {
            self.event(Event::Lost { at: span, place });
        }
    }

    /// Whether a test on the way has told how far apart the numbers are that two slots hold: one still says what the other is.
    pub(super) fn are_fixed_apart(&self, state: &State, a: Slot, b: Slot) -> bool {
        let difference = Linear::slot(a).plus(&Linear::slot(b), -1.0);
        let anything = |_| (f64::NEG_INFINITY, f64::INFINITY);
        let most = state.facts.highest(&difference, &anything);
        most.is_finite() && most == -state.facts.highest(&difference.times(-1.0), &anything)
    }
}

/// What a write that steps its variable steps it from, and by how much.
fn step_of(state: &State, slot: Slot, forms: &Forms) -> Option<(Num, Num)> {
    let before = state.num(slot)?.clone();
    let steps = |form: &Linear| form.factor(slot) == 1.0;
    let ([up], [down]) = (forms.uppers(), forms.lowers()) else {
        let is_step = |side: &[Linear]| !side.is_empty() && side.iter().all(steps);
        let both = is_step(forms.uppers()) && is_step(forms.lowers());
        return both.then(|| uneven_step(state, slot, forms, before));
    };
    if !steps(up) || !steps(down) {
        return None;
    }
    if up != down {
        return Some(uneven_step(state, slot, forms, before));
    }
    let by = up.plus(&Linear::slot(slot), -1.0);
    let mut sum = Num::constant(by.constant, by.constant.fract() == 0.0);
    for &(other, factor) in by.terms.iter() {
        sum = sum.add(&state.num(other)?.mul(&Num::constant(factor, factor.fract() == 0.0)));
    }
    Some((before, sum))
}

/// The same for a step that is now this far, now that: `heat += random(1, 3)`.
fn uneven_step(state: &State, slot: Slot, forms: &Forms, before: Num) -> (Num, Num) {
    let (own, ends) = (Linear::slot(slot), |slot| state.ends(slot));
    let most = |sides: &[Linear], sign: f64| {
        let by = sides.iter().map(|form| state.facts.plainly_highest(&form.plus(&own, -1.0).times(sign), &ends));
        by.fold(f64::INFINITY, f64::min)
    };
    let by = Num::range(-most(forms.lowers(), -1.0), most(forms.uppers(), 1.0), before.int);
    (before, by)
}

/// The same for a step that is cut: `max(x - 3, 0)` moves by 3 downwards at most.
fn cut_step_of(state: &State, slot: Slot, forms: &Forms) -> Option<(Num, Num)> {
    let before = state.num(slot)?.clone();
    let (own, ends) = (Linear::slot(slot), |slot| state.ends(slot));
    let highest = |sides: &[Linear], sign: f64| {
        let by = sides.iter().map(|form| state.facts.plainly_highest(&form.plus(&own, -1.0).times(sign), &ends));
        by.fold(None, |least: Option<f64>, by| Some(least.map_or(by, |least| least.min(by))))
    };
    let (up, down) = (highest(forms.uppers(), 1.0).unwrap_or(0.0), highest(forms.lowers(), -1.0).unwrap_or(0.0));
    let by = Num::range(-down.max(0.0), up.max(0.0), before.int);
    Some((before, by))
}

/// What steps among the values that a cut step may come to: of `min(x + 1, 9)` it is `x + 1`, of `x += min(1, 9 - x)` it is 1.
fn steps_among(unit: &ScriptUnit, place: PlaceId, op: AssignOp, value: ExprId) -> Vec<ExprId> {
    let mut steps = Vec::new();
    let mut open = if matches!(op, AssignOp::Multiply | AssignOp::Divide) { Vec::new() } else { vec![value] };
    while let Some(at) = open.pop() {
        let cuts = matches!(unit.meaning(at), Meaning::Builtin(Builtin::Min | Builtin::Max | Builtin::Clamp));
        match &unit.tree.expr(at).kind {
            ExprKind::Call(_, arguments) if cuts => open.extend(arguments),
            _ if crate::flow::access::names(unit, at, place) == (op == AssignOp::Set) => steps.push(at),
            _ => {}
        }
    }
    steps
}

/// The two ways that a flag can stand, where it is not known which: `true` and `false`, or below zero and not.
fn either(value: &Value) -> Option<[Value; 2]> {
    match value {
        Value::Bool { yes: true, no: true } => Some([true, false].map(|yes| Value::Bool { yes, no: !yes })),
        Value::Num(num) => {
            let below = num.meet(&Num::range(f64::NEG_INFINITY, 0f64.next_down(), false))?;
            let above = num.meet(&Num::range(0.0, f64::INFINITY, false))?;
            Some([Value::Num(below), Value::Num(above)])
        }
        _ => None,
    }
}

/// How far a step goes that begins again at the other end: that way back, the longer one, passes nothing.
fn without_going_round(by: &Num) -> Num {
    let (down, up) = (-by.lo, by.hi);
    match down.partial_cmp(&up) {
        Some(Ordering::Greater) if up > 0.0 => Num::range(0.0, up, by.int),
        Some(Ordering::Less) if down > 0.0 => Num::range(by.lo, 0.0, by.int),
        _ => by.clone(),
    }
}

/// Whether a place of that type can keep such a value.
fn is_of(value: &Value, ty: Type) -> bool {
    match ty {
        Type::Int | Type::Number => matches!(value, Value::Num(_)),
        Type::Bool => matches!(value, Value::Bool { .. }),
        Type::Text | Type::Enum(_) => matches!(value, Value::Text(_)),
        Type::Ref(_) => matches!(value, Value::Ref { .. }),
        Type::Unknown | Type::Vec2 | Type::Vec3 => true,
    }
}
