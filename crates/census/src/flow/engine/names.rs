//! Names that hold instances: taking one, letting it go, being the script's own; and how many there are.

use super::*;
use crate::flow::world::may_be_among;

impl<'w> Run<'w, '_> {
    /// There is one more of an actor, or of those that its `spawn` handlers bring or take away.
    pub(super) fn count_spawned(&self, state: &mut State, spawned: OwnerId) {
        let alone = !self.world.answers_spawn(spawned);
        for (slot, actor) in self.counts() {
            if alone && actor != spawned {
                continue;
            }
            let lo = if self.world.removable(actor) && !alone { 0.0 } else { state.ends(slot).0 };
            let more = if alone { 1.0 } else { 0.0 };
            state.facts.forget(slot);
            self.forget_tests(state, |read| read == slot);
            state.values[slot as usize] = Abstract::of(Value::Num(Num::range(lo + more, f64::INFINITY, true)));
        }
    }

    /// There may be one less.
    pub(super) fn count_removed(&self, state: &mut State, removed: Type) {
        for (slot, actor) in self.counts() {
            if matches!(removed, Type::Ref(of) if of.is_none_or(|of| of == actor)) {
                let (lo, hi) = state.ends(slot);
                state.facts.forget(slot);
                self.forget_tests(state, |read| read == slot);
                state.values[slot as usize] = Abstract::of(Value::Num(Num::range((lo - 1.0).max(0.0), hi, true)));
            }
        }
    }

    /// The slots that say how many instances of an actor there are.
    pub(super) fn counts(&self) -> impl Iterator<Item = (Slot, OwnerId)> + use<'w, '_> {
        self.table.counts.iter().copied()
    }

    /// The instance is gone, from whatever else may hold it too.
    pub(super) fn remove(&mut self, state: &mut State, what: ExprId) {
        self.count_removed(state, self.unit.ty(what));
        let slot = match self.unit.meaning(what) {
            Meaning::Value(place) => self.slot(place),
            Meaning::Instance(instance) => self.table.slot(Key::Instance(instance)),
            Meaning::Own => {
                state.removed.push(OWN_INSTANCE);
                None
            }
            _ => None,
        };
        let removed = match (self.unit.ty(what), slot) {
            (Type::Ref(None), Some(slot)) => Type::Ref(state.kind(slot)),
            (ty, _) => ty,
        };
        for (at, facts) in self.table.slots.iter().enumerate() {
            let alike = match (self.held(state, at, facts.ty), removed) {
                (Type::Ref(Some(a)), Type::Ref(Some(b))) => a == b,
                (Type::Ref(_), Type::Ref(_)) => true,
                _ => false,
            };
            if alike {
                self.may_be_none(state, at);
            }
        }
        if let Some(slot) = slot {
            // What it held last is nobody's any more, and must not be taken for what the next one holds.
            self.renew_dependents(state, slot);
            state.values[slot as usize].value = Value::Ref { none: true, some: false };
            self.forget_tests(state, |read| read == slot);
            state.removed.push_new(slot);
        }
    }

    /// What a name holds may be gone, unless it is the one that the script runs for.
    pub(super) fn may_be_none(&self, state: &mut State, at: usize) {
        let own = matches!(self.table.slots[at].key, Key::Instance(instance) if self.is_own(instance));
        if !own && matches!(state.values[at].value, Value::Ref { some: true, .. }) {
            state.values[at].value = Value::Ref { none: true, some: true };
            self.forget_tests(state, |read| read as usize == at);
        }
    }

    /// What the `spawn` handlers of an actor remove at once, names no longer hold.
    pub(super) fn take_by_spawning(&self, state: &mut State, spawned: OwnerId) {
        let taken = self.world.taken_by_spawning(spawned);
        if taken.is_empty() {
            return;
        }
        for (at, facts) in self.table.slots.iter().enumerate() {
            if let Type::Ref(of) = self.held(state, at, facts.ty)
                && may_be_among(taken, of)
            {
                self.may_be_none(state, at);
            }
        }
    }

    /// What a slot holds by now: a name of any actor may be known to hold an instance of one.
    pub(super) fn held(&self, state: &State, slot: usize, ty: Type) -> Type {
        match ty {
            Type::Ref(None) => Type::Ref(Slot::try_from(slot).ok().and_then(|slot| state.kind(slot))),
            ty => ty,
        }
    }

    /// A name lets its instance go: what was written through it is judged now, since it can't be told apart later.
    pub(super) fn release(&mut self, state: &mut State, slot: Slot) {
        for &other in self.table.slots[slot as usize].dependents() {
            self.show_others(state, |written| written == other);
            self.tell_at_once(state, |wrong| matches!(wrong, Wrong::Outside(slot, _) if slot == other));
        }
        self.let_go_of_modes(state, slot);
    }

    /// What is suspect of the instances that names held stays so whatever is written through these names later.
    fn leave_behind(&self, state: &mut State, held_by: impl Fn(Slot) -> bool) {
        let is_held = |wrong: Wrong| match wrong {
            Wrong::Broken(_, Base::Held(place)) => self.slot(place).is_some_and(&held_by),
            _ => false,
        };
        if !state.suspects.iter().any(|suspect| is_held(suspect.wrong)) {
            return;
        }
        for mut suspect in state.suspects.take() {
            if let (true, Wrong::Broken(invariant, _)) = (is_held(suspect.wrong), suspect.wrong) {
                suspect.wrong = Wrong::Broken(invariant, Base::Some);
            }
            state.add_suspect(suspect);
        }
    }

    /// The name of a `for` means nothing behind the loop.
    pub(super) fn unbind(&mut self, state: &mut State, place: PlaceId) {
        let Some(slot) = self.slot(place) else { return };
        state.values[slot as usize] = Abstract::of(UNBOUND);
        state.forget_held(slot);
        self.renew_dependents(state, slot);
    }

    /// Whether a place is reached through a name that holds nothing yet.
    pub(in crate::flow) fn is_unbound(&self, state: &State, slot: Slot) -> bool {
        self.table.slots[slot as usize].holder.is_some_and(|holder| is_free(state, holder))
    }

    /// A name takes some instance, so what goes through it may be any such instance's.
    pub(super) fn bind(&mut self, state: &mut State, place: PlaceId) {
        if let Some(slot) = self.hold_some(state, place) {
            self.take_in_unseen(state, slot);
        }
    }

    /// A name takes an instance of which nothing is known but what all have in common.
    fn hold_some(&mut self, state: &mut State, place: PlaceId) -> Option<Slot> {
        let slot = self.slot(place)?;
        state.values[slot as usize] = Abstract::of(Value::Ref { none: false, some: true });
        state.forget_held(slot);
        self.renew_dependents(state, slot);
        Some(slot)
    }

    /// What goes through a name may be what this handler has written by another, and nobody else has seen yet.
    fn take_in_unseen(&self, state: &mut State, slot: Slot) {
        if state.unseen.is_empty() {
            return;
        }
        for other in self.all_dependents(slot) {
            let cell = self.table.slots[other as usize].cell;
            let is_same = |write: &&Unseen| write.slot != other && self.table.slots[write.slot as usize].cell == cell;
            let writes: SmallVec<[Slot; 4]> =
                state.unseen.iter().filter(|_| cell.is_some()).filter(is_same).map(|write| write.slot).collect();
            for written in writes {
                if !self.within(state, written) {
                    state.facts.forget(other);
                }
                let joined = state.value(other).join(state.value(written));
                state.values[other as usize] = joined;
            }
        }
    }

    /// A name takes an instance that was just made, whose variables hold these values.
    pub(super) fn bind_new(&mut self, state: &mut State, place: PlaceId, values: &[Option<Value>]) {
        let Some(slot) = self.hold_some(state, place).filter(|_| self.counted.is_none()) else { return };
        for &other in self.table.slots[slot as usize].dependents() {
            if let Some(Some(new)) = values.get(other as usize) {
                let value = &mut state.values[other as usize].value;
                *value = value.meet(new).unwrap_or_else(|| new.clone());
                self.assume_range(state, other);
            }
        }
    }

    /// What goes through a name that takes another instance can be anything of that instance's again.
    pub(super) fn renew_dependents(&mut self, state: &mut State, slot: Slot) {
        let all = self.all_dependents(slot);
        self.release(state, slot);
        all.iter().for_each(|&other| self.release(state, other));
        self.leave_behind(state, |holder| holder == slot || all.contains(&holder));
        state.selves.retain(|(holder, _)| *holder != slot && !all.contains(holder));
        all.iter().for_each(|&other| state.forget_held(other));
        self.forget_tests(state, |read| all.contains(&read));
        for &other in &all {
            state.facts.forget(other);
            state.values[other as usize] = self.world.entry_value(self.handler, &self.table.slots[other as usize]);
            self.count_writes(state, other as usize);
        }
        all.iter().for_each(|&other| self.assume_range(state, other));
        all.iter().for_each(|&other| self.assume_margin(state, other));
    }

    /// Where a name holds nothing on one of two ways that meet, what goes through it is what it is on the other.
    pub(super) fn let_hold(&self, one: &mut State, other: &mut State) {
        let is_empty = |state: &State, name: Slot| state.value(name).value == Value::Ref { none: true, some: false };
        for &name in &self.table.holders {
            match (is_empty(one, name), is_empty(other, name)) {
                (true, false) => self.take_over_held(name, other, one),
                (false, true) => self.take_over_held(name, one, other),
                _ => {}
            }
        }
    }

    fn take_over_held(&self, name: Slot, from: &State, into: &mut State) {
        let all = self.all_dependents(name);
        all.iter().for_each(|&at| into.facts.forget(at));
        for &at in &all {
            into.values[at as usize] = from.value(at).clone();
            // What these have to do with other places was not so on that way.
            let among_them = |fact: &Linear| fact.terms.iter().all(|(other, _)| all.contains(other));
            from.facts.about(at).filter(among_them).for_each(|fact| into.facts.add(fact));
        }
    }

    /// All that goes through a name, also through another that goes through it.
    pub(super) fn all_dependents(&self, slot: Slot) -> Vec<Slot> {
        let mut all: Vec<Slot> = Vec::new();
        let mut open = vec![slot];
        while let Some(at) = open.pop() {
            for &other in self.table.slots[at as usize].dependents() {
                all.push(other);
                open.push(other);
            }
        }
        all
    }

    /// A name that takes another's instance takes over what is known of its variables.
    pub(super) fn copy_instance(&mut self, state: &mut State, slot: Slot, value: ExprId) {
        let source = if let Meaning::Value(place) = self.unit.meaning(value) { self.slot(place) } else { None };
        if let Some(kind) = source.and_then(|source| state.kind(source)) {
            state.kinds.push_new((slot, kind));
        }
        if let (Some(source), Type::Ref(_) | Type::Enum(_) | Type::Text) = (source, self.table.slots[slot as usize].ty)
        {
            state.copies.push_new((slot, source));
        }
        if self.table.slots[slot as usize].dependents().is_empty() {
            return;
        }
        self.renew_dependents(state, slot);
        self.take_in_unseen(state, slot);
        let from = match self.unit.meaning(value) {
            Meaning::Value(place) => Base::Held(place),
            Meaning::Own => self.own_base(),
            Meaning::Instance(instance) => Base::Listed(instance),
            _ => return,
        };
        for at in self.table.slots[slot as usize].dependents().to_vec() {
            let known =
                self.table.slots[at as usize].variable.and_then(|variable| self.table.of_variable(variable, from));
            if let Some(known) = known {
                let same = [Linear::slot(known)];
                let ends = state.ends(known);
                state.relate(at, &same, &same, ends);
                state.values[at as usize] = state.values[known as usize].clone();
            }
        }
    }

    /// How the script's own variables are named: by the instance, where its actor has only that one.
    fn own_base(&self) -> Base {
        let registry = &self.world.project.registry;
        self.unit.owner.and_then(|actor| registry.only_instance(actor)).map_or(Base::Own, Base::Listed)
    }

    /// A write through a name that may hold the script's own instance, or the other way round, is looked at for either case.
    pub(super) fn apart_by_self(&self, state: State, place: PlaceId) -> SmallVec<[State; 2]> {
        match self.slot(place) {
            Some(slot) if self.most_parts > 1 => self.split_by_self(state, slot),
            _ => smallvec![state],
        }
    }

    fn split_by_self(&self, state: State, slot: Slot) -> SmallVec<[State; 2]> {
        let mut holders = self.table.beside_self(slot).map(|(_, holder)| holder);
        let Some(holder) = holders.find(|&holder| state.holds_self(holder).is_none()) else {
            return smallvec![state];
        };
        let mut apart = state.clone();
        apart.selves.push((holder, false));
        let mut ways: SmallVec<[State; 2]> = smallvec![apart];
        ways.extend(self.as_self(state, holder));
        ways
    }

    /// Whether another slot of the same variable is known to be the same instance's, or a different one's.
    pub(super) fn are_the_same(&self, state: &State, slot: Slot, other: &Alias) -> Option<bool> {
        if state.selves.is_empty() && state.apart.is_empty() {
            return None;
        }
        if self.holders_are_apart(state, slot, other.slot) {
            return Some(false);
        }
        let facts = &self.table.slots[slot as usize];
        let name = match (facts.base, other.base) {
            (Some(Base::Own), Base::Held(_)) => other.holder,
            (Some(Base::Held(_)), Base::Own) => facts.holder,
            _ => None,
        };
        name.and_then(|name| state.holds_self(name))
    }

    /// Whether two slots of one variable are known to be different instances'.
    fn holders_are_apart(&self, state: &State, a: Slot, b: Slot) -> bool {
        let holder = |slot: Slot| {
            let facts = &self.table.slots[slot as usize];
            match facts.base {
                Some(Base::Listed(instance)) => self.table.slot(Key::Instance(instance)),
                _ => facts.holder,
            }
        };
        !state.apart.is_empty() && holder(a).zip(holder(b)).is_some_and(|(a, b)| state.are_apart(a, b))
    }

    /// The other slots that are known to be the same variable of the script's own instance.
    pub(in crate::flow) fn same_as(&self, state: &State, slot: Slot) -> SmallVec<[Slot; 2]> {
        if state.selves.is_empty() {
            return SmallVec::new();
        }
        let beside = self.table.beside_self(slot);
        beside.filter(|&(_, holder)| state.holds_self(holder) == Some(true)).map(|(other, _)| other).collect()
    }

    /// What is known where a name holds the script's own instance; none where it can't.
    pub(in crate::flow) fn as_self(&self, mut state: State, holder: Slot) -> Option<State> {
        state.selves.push((holder, true));
        for &slot in self.table.slots[holder as usize].dependents() {
            let variable = self.table.slots[slot as usize].variable;
            let Some(own) = variable.and_then(|variable| self.table.of_variable(variable, Base::Own)) else { continue };
            let both = state.value(slot).value.meet(&state.value(own).value)?;
            for (at, other) in [(slot, own), (own, slot)] {
                state.values[at as usize].value = both.clone();
                state.facts.add(Linear::slot(at).plus(&Linear::slot(other), -1.0));
            }
        }
        Some(state)
    }
}
