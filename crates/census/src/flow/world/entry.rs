//! What a handler finds as it begins.

use super::*;

impl World<'_> {
    /// What a slot can hold as a handler begins.
    #[must_use]
    pub fn entry_value(&self, handler: HandlerId, facts: &SlotFacts) -> Abstract {
        let (unit, at, _) = self.parts(handler);
        match facts.key {
            Key::Scene => {
                let scenes = self.scenes_of(unit);
                // A run begins in the first scene, and nobody has left it by then.
                let first = self.first_scene().filter(|first| {
                    matches!(at.trigger, Trigger::Start) && scenes.as_ref().is_none_or(|all| all.contains(&first.0))
                });
                Abstract::of(Value::Text(first.map_or(scenes, |first| Some(smallvec![first.0]))))
            }
            Key::Instance(instance) => {
                let absent = self.may_be_absent(unit, instance) && !self.is_just_made(handler, instance);
                Abstract::of(Value::Ref { none: absent, some: true })
            }
            Key::Count(actor) => {
                let (least, most) = (self.least_count(handler, actor), self.count_in(handler, actor).most);
                Abstract::of(Value::Num(Num::range(least, most, true)))
            }
            Key::Result(_) | Key::Rounds(_) | Key::RoundsOver(_) | Key::Term(_) | Key::Product(..) => {
                Abstract::of(anything(facts.ty))
            }
            Key::Passed(_, base) => self.entry_of_cell(handler, facts, base),
            Key::Place(place) => match unit.place(place) {
                Place::Local(local) => self.entry_of_local(handler, unit, local, facts.ty),
                Place::Was => self.entry_of_was(handler, facts.ty),
                Place::Private(_) => self.entry_of_cell(handler, facts, None),
                Place::Variable(_, base) => self.entry_of_cell(handler, facts, Some(base)),
            },
        }
    }

    /// From where to where a number of a handler lies that it does not write itself: what comes along with its signal, or what
    /// others hold.
    #[must_use]
    pub fn ends_at_beginning(&self, handler: HandlerId, place: PlaceId) -> Option<(f64, f64)> {
        let (unit, ..) = self.parts(handler);
        let table = self.table(handler);
        let facts = &table.slots[table.slot(Key::Place(place))? as usize];
        let is_given = match unit.place(place) {
            Place::Local(local) => {
                let brought = &unit.handlers[self.handler(handler).1].parameters;
                brought.iter().any(|&(parameter, _)| parameter == local)
            }
            Place::Was => false,
            Place::Private(_) | Place::Variable(..) => true,
        };
        let value = is_given.then(|| self.entry_value(handler, facts).value)?;
        matches!(value, Value::Num(_)).then(|| value.ends())
    }

    /// The same as a handler goes on after a wait, for what is no cell.
    #[must_use]
    pub fn value_after_wait(&self, handler: HandlerId, facts: &SlotFacts) -> Abstract {
        match facts.key {
            Key::Instance(instance) => {
                let absent = self.may_be_absent(self.parts(handler).0, instance);
                Abstract::of(Value::Ref { none: absent, some: true })
            }
            Key::Scene => Abstract::of(Value::Text(self.scenes_of(self.parts(handler).0))),
            _ => self.entry_value(handler, facts),
        }
    }

    fn may_be_absent(&self, unit: &ScriptUnit, instance: InstanceId) -> bool {
        let facts = self.project.registry.instance(instance);
        let other_scene = facts.scene.is_some_and(|scene| self.loaded_with(unit).as_slice() != [scene.0]);
        other_scene || self.removable(facts.of)
    }

    fn entry_of_local(&self, handler: HandlerId, unit: &ScriptUnit, local: LocalId, ty: Type) -> Abstract {
        let (_, index) = self.handler(handler);
        let facts = &unit.handlers[index];
        if matches!(unit.tree.local(local).kind, LocalKind::For | LocalKind::Spawned) {
            return Abstract::of(UNBOUND);
        }
        let at = facts.parameters.iter().position(|(parameter, _)| *parameter == local);
        let Some(at) = at else { return Abstract::of(anything(ty)) };
        let Some(signal) = facts.signal else {
            // What a signal brings that means nothing is there, as it would be if it came from the engine.
            let is_ref = matches!(ty, Type::Ref(_));
            return Abstract::of(if is_ref { Value::Ref { none: false, some: true } } else { anything(ty) });
        };
        if let Type::Ref(of) = ty {
            let mut value = self.sent_ref(signal, at);
            // A parameter that only lets an actor pass lets none pass that is gone.
            let lets_all_pass = facts.parameters[at].1.is_none();
            if let (Value::Ref { none, .. }, true) = (&mut value, lets_all_pass) {
                *none |= self.may_be_taken_away(handler, signal, of) || self.may_be_lost_on_the_way(signal, of);
            }
            return Abstract::of(value);
        }
        let declared = &self.project.registry.signal(signal);
        let mut value = if declared.from_engine {
            anything(ty)
        } else {
            self.sent_value((signal, at))
                .filter(|_| !self.unread.contains(&*declared.name))
                .cloned()
                .unwrap_or_else(|| anything(ty))
        };
        if let (Value::Num(num), Some(parameter)) = (&value, declared.parameters.get(at))
            && declared.from_engine
        {
            let range =
                Num::range(parameter.min.unwrap_or(f64::NEG_INFINITY), parameter.max.unwrap_or(f64::INFINITY), num.int);
            value = Value::Num(num.meet(&range).unwrap_or_else(|| num.clone()));
        }
        Abstract::of(value)
    }

    fn sent_ref(&self, signal: SignalId, at: usize) -> Value {
        if self.project.registry.signal(signal).from_engine {
            return Value::Ref { none: false, some: true };
        }
        match self.sent_value((signal, at)) {
            Some(Value::Ref { none, .. }) => Value::Ref { none: *none, some: true },
            _ => Value::Ref { none: false, some: true },
        }
    }

    fn entry_of_was(&self, handler: HandlerId, ty: Type) -> Abstract {
        let Some(cell) = self.changed_cell(handler) else { return Abstract::of(anything(ty)) };
        let reach = &self.reach[cell.index()];
        let value = if is_nothing(reach) { anything(ty) } else { reach.clone() };
        // The change from having no value to having one is a change too.
        let unset = !matches!(ty, Type::Ref(_)) && (self.seen_cleared[cell.index()] || !self.has_default(cell));
        Abstract { unset, ..Abstract::of(value) }
    }

    fn entry_of_cell(&self, handler: HandlerId, facts: &SlotFacts, base: Option<Base>) -> Abstract {
        let Some(cell) = facts.cell else { return Abstract::of(anything(facts.ty)) };
        if facts.ty.is_numeric() && !self.written[cell.index()] && is_nothing(&self.reach[cell.index()]) {
            // Nobody can tell what it is meant to be, so nothing is told of what follows from it.
            let unset = self.may_be_unset(handler, cell, base, facts.ty);
            return Abstract { unset, set: !unset, ..Abstract::of(Value::Other) };
        }
        if self.is_without_value(handler, cell, base, facts.ty) {
            // Who reads it all the same is taken to mean what it is given elsewhere.
            return Abstract { unset: true, set: false, ..Abstract::of(self.reach(facts)) };
        }
        let mut value = self.lasting(handler, facts);
        let led = self.led_value(handler, cell, base);
        if let Some((led, _)) = &led {
            value = value.meet(led).unwrap_or(value);
        }
        for left in self.left_at_parting(handler, cell) {
            value = value.join(left);
        }
        if let (Some(variable), Some(Base::Listed(instance))) = (facts.variable, base)
            && !self.moved[cell.index()]
            && let Some(start) = self.project.registry.start_of(variable, instance)
        {
            value = self.constant(start, facts.ty);
        }
        if let Some(kept) = self.kept_value(handler, cell) {
            value = value.meet(&kept).unwrap_or(value);
        }
        if let Some(fresh) = self.fresh_value(handler, cell, base) {
            value = value.meet(&fresh).unwrap_or(value);
        }
        for left in self.left_until_overwritten(handler, cell) {
            value = value.join(left);
        }
        if let Value::Ref { none, .. } = &mut value {
            let of = match facts.ty {
                Type::Ref(of) => of,
                _ => None,
            };
            if self.assigned_before(handler, cell, base) {
                // What it starts as does not count, only what it was given since.
                *none = self.effects[cell.index()].iter().any(Effect::gives_none);
            }
            *none |= self.may_be_removed(of) || self.may_go_with_scene(of);
        }
        let registry = &self.project.registry;
        let has_own_start = |id: VarId| match base {
            Some(Base::Listed(instance)) => registry.own_start_of(id, instance).is_some(),
            _ => false,
        };
        let stands_in = |id: VarId| registry.var(id).placeholder && !has_own_start(id);
        let stand_in =
            facts.variable.is_some_and(stands_in) && !self.assigned_before(handler, cell, base) && led.is_none();
        // What nobody has come to give a value has none.
        let unset = led.map_or_else(|| self.may_be_unset(handler, cell, base, facts.ty), |(_, clears)| clears);
        let set = !unset || !is_nothing(&self.reach[cell.index()]) || self.finds_what_goes(handler, cell);
        Abstract { unset, set, stand_in, ..Abstract::of(value) }
    }

    /// Whether a cell may be without a value as a handler begins.
    fn may_be_unset(&self, handler: HandlerId, cell: CellId, base: Option<Base>, ty: Type) -> bool {
        if matches!(ty, Type::Ref(_) | Type::Unknown) || self.given_unread[cell.index()] {
            return false;
        }
        self.seen_cleared[cell.index()]
            || !self.has_default(cell)
                && !self.assigned_before(handler, cell, base)
                && !self.has_changed(handler, cell, base)
    }

    /// Whether a handler begins because a cell has changed, which then holds something. A scene's may have begun anew since.
    fn has_changed(&self, handler: HandlerId, cell: CellId, base: Option<Base>) -> bool {
        let (unit, _, _) = self.parts(handler);
        let Some(place) = unit.handlers[self.handler(handler).1].changed else { return false };
        let is_it = match unit.place(place) {
            Place::Variable(variable, of) => CellId(variable.0) == cell && base == Some(of),
            Place::Private(_) => self.project.cell_of(unit, place) == Some(cell),
            _ => false,
        };
        is_it && !matches!(self.home(cell), Home::Scene)
    }

    pub(super) fn has_default(&self, cell: CellId) -> bool {
        match self.project.cells[cell.index()] {
            Cell::Variable(id) => {
                let variable = self.project.registry.var(id);
                variable.default.is_some() || variable.place.has("default")
            }
            Cell::Private(script, index) => self.project.script(script).tree.privates[index as usize].start.is_some(),
        }
    }
}
