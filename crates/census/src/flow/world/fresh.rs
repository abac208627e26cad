//! What is anew as a handler begins: `start` finds the values that a run begins with, `spawn` those of an instance, `enter`
//! those of a scene, but for what handlers before it have made of them.

use super::waiting::Opening;
use super::*;
use crate::registry::Lifetime;

/// What the handlers of the moments at which things are made leave behind in a cell; apart for their own instances.
pub(super) type Beginnings = FxHashMap<CellId, Vec<(HandlerId, bool, Value)>>;

impl World<'_> {
    /// Whether a handler answers the moment at which a run, an instance or a scene begins.
    #[must_use]
    pub fn is_opening(&self, handler: HandlerId) -> bool {
        self.openings[handler.index()].is_some()
    }

    /// What a cell can hold as a handler begins where it was made anew just before; none where it was not.
    pub(super) fn fresh_value(&self, handler: HandlerId, cell: CellId, base: Option<Base>) -> Option<Value> {
        let opening = self.openings[handler.index()]?;
        if self.unsettled[cell.index()] || !self.is_made_at(opening, handler, cell, base) {
            return None;
        }
        let mut value = self.value_at_start(cell, base).filter(|value| !is_nothing(value))?;
        let known = self.beginnings.get(&cell).into_iter().flatten();
        let mut by_itself = None;
        for (by, _, left) in known.filter(|(by, own, _)| self.comes_before(*by, *own, handler, base)) {
            match self.repeats.get(&(handler, cell)).filter(|_| *by == handler) {
                Some(&steps) => by_itself = Some((steps, left)),
                None => value = value.join(left),
            }
        }
        Some(by_itself.map_or(value.clone(), |(steps, left)| stepped(&value, steps, left)))
    }

    /// Whether a cell was made anew just before a handler begins, with no value, and nobody before it gives it one.
    pub(super) fn is_without_value(&self, handler: HandlerId, cell: CellId, base: Option<Base>, ty: Type) -> bool {
        let Some(opening) = self.openings[handler.index()] else { return false };
        let mut known = self.beginnings.get(&cell).into_iter().flatten();
        !matches!(ty, Type::Ref(_) | Type::Unknown)
            && !self.has_default(cell)
            && !self.unsettled[cell.index()]
            && !self.given_unread[cell.index()]
            && self.is_made_at(opening, handler, cell, base)
            && self.value_at_start(cell, base).is_none_or(|value| is_nothing(&value))
            && !known.any(|(by, own, _)| self.comes_before(*by, *own, handler, base))
    }

    /// What the variables of an instance hold, by slot, that was spawned this very moment: their defaults, and what `spawn`
    /// handlers have made of them.
    #[must_use]
    pub fn values_of_new(&self, table: &SlotTable, actor: OwnerId) -> Vec<Option<Value>> {
        let new = |facts: &SlotFacts| {
            let id = facts.variable.filter(|_| matches!(facts.base, Some(Base::Held(_))))?;
            let (cell, variable) = (facts.cell?, self.project.registry.var(id));
            let anew = variable.owner == actor
                && variable.scope == Scope::Instance
                && !self.by_game[id.index()]
                && !matches!(variable.ty, Type::Ref(_))
                && !self.unsettled[cell.index()];
            let start =
                variable.default.as_ref().filter(|_| anew).map(|default| self.start_value(id, default, None))?;
            let known = self.beginnings.get(&cell).into_iter().flatten();
            let by_spawn = known.filter(|(by, ..)| self.openings[by.index()] == Some(Opening::Spawn));
            Some(by_spawn.fold(start, |value, (_, _, left)| value.join(left)))
        };
        table.slots.iter().map(new).collect()
    }

    /// Whether a cell is made anew at a moment, right before its handlers run, and keeps its value until then.
    fn is_made_at(&self, opening: Opening, handler: HandlerId, cell: CellId, base: Option<Base>) -> bool {
        // What a name holds that takes one instance after the other may have been written by this very handler.
        let named_once = base.is_none_or(|base| matches!(base, Base::One | Base::Own | Base::Listed(_)));
        let own = self.is_own_base(handler, base);
        let unit = self.parts(handler).0;
        let (kept, scene) = match self.project.cells[cell.index()] {
            Cell::Variable(id) => {
                let variable = self.project.registry.var(id);
                let by_game = variable.lifetime > Lifetime::Run || self.by_game[id.index()];
                (by_game || matches!(variable.ty, Type::Ref(_)), Some(variable.owner))
            }
            Cell::Private(script, index) => {
                let unit = self.project.script(script);
                (matches!(unit.privates[index as usize].ty, Type::Ref(_)), unit.scene)
            }
        };
        let made = match (opening, self.home(cell)) {
            (Opening::Start, _) => true,
            (Opening::Spawn, Home::Instance(actor)) => own && unit.owner == Some(actor),
            // Who hears every scene's finds the one that is loaded anew, and has no business with the others.
            (Opening::Enter, Home::Scene) => unit.scene.is_none_or(|entered| Some(entered) == scene),
            _ => false,
        };
        made && named_once && !kept
    }

    /// Whether a place belongs to the instance that a handler runs for, which may be named as the only one of its actor.
    fn is_own_base(&self, handler: HandlerId, base: Option<Base>) -> bool {
        match base {
            None | Some(Base::Own) => true,
            Some(Base::Listed(only)) => {
                let (registry, owner) = (&self.project.registry, self.parts(handler).0.owner);
                let actor = registry.instance(only).of;
                owner == Some(actor) && !registry.is_many(actor) && !self.is_spawned(actor)
            }
            Some(_) => false,
        }
    }

    fn value_at_start(&self, cell: CellId, base: Option<Base>) -> Option<Value> {
        match (self.project.cells[cell.index()], base) {
            (Cell::Variable(id), Some(Base::Listed(instance))) => {
                let registry = &self.project.registry;
                let start = registry.start_of(id, instance).or(registry.var(id).default.as_ref());
                start.map(|value| self.start_value(id, value, Some(instance)))
            }
            (Cell::Variable(id), _) => Some(self.start_of(id)),
            (Cell::Private(script, index), _) => {
                let unit = self.project.script(script);
                let index = index as usize;
                unit.tree.privates[index].start.map(|start| self.literal(unit, start, unit.privates[index].ty))
            }
        }
    }

    /// Whether what one handler of such a moment does to a cell can come before another: for each trigger they run one after
    /// the other, each for all instances.
    fn comes_before(&self, by: HandlerId, own: bool, handler: HandlerId, base: Option<Base>) -> bool {
        let for_own = own && self.is_own_base(handler, base);
        let owner = |id: HandlerId| self.parts(id).0.owner;
        let (first, second) = (self.openings[by.index()], self.openings[handler.index()]);
        let many = |id: HandlerId| {
            owner(id).is_some_and(|owner| {
                let registry = &self.project.registry;
                registry.is_many(owner) && (self.is_spawned(owner) || registry.instances_of(owner).nth(1).is_some())
            })
        };
        let earlier = by < handler || by == handler && many(by) && !for_own;
        match (first, second) {
            (Some(Opening::Start), Some(Opening::Start)) | (Some(Opening::Enter), Some(Opening::Enter)) => earlier,
            (Some(Opening::Start), _) => true,
            // Where a `start` handler spawns, that comes at once.
            (Some(Opening::Spawn), Some(Opening::Start)) => owner(by).is_some_and(|actor| self.is_spawned(actor)),
            (Some(Opening::Spawn), Some(Opening::Spawn)) => by < handler || !for_own,
            (Some(Opening::Spawn), Some(Opening::Enter)) => true,
            _ => false,
        }
    }

    /// Takes in what a handler leaves in a cell; says whether that is more.
    pub(super) fn take_beginning(&mut self, cell: CellId, effect: &Effect, age: usize) -> bool {
        let (Some(by), Some(left)) = (effect.handler, &effect.set) else { return false };
        if self.openings[by.index()].is_none() {
            return false;
        }
        let stops: &[f64] = if age < LAST_STOPS { &self.cell_stops[cell.index()] } else { &[] };
        let all = self.beginnings.entry(cell).or_default();
        let Some((_, _, known)) = all.iter_mut().find(|(id, own, _)| (*id, *own) == (by, effect.own)) else {
            all.push((by, effect.own, left.clone()));
            return true;
        };
        let joined = known.join(left);
        let next = if age >= ROUNDS { widen(known, &joined, stops) } else { joined };
        let grown = next != *known;
        *known = next;
        grown
    }
}

/// What a value may have become by steps that lie between these ends together, as far as it was seen to.
fn stepped(value: &Value, (down, up): (f64, f64), seen: &Value) -> Value {
    let (Value::Num(num), Value::Num(seen)) = (value, seen) else { return value.join(seen) };
    let range = Num::range(num.lo + down, num.hi + up, num.int);
    seen.meet(&range).map_or_else(|| value.clone(), |seen| Value::Num(num.join(&seen)))
}
