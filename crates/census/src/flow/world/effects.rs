//! Who does what to a cell, and what that makes of its value.

use super::waiting::{Opening, Others};
use super::*;
use std::hash::{Hash, Hasher};

/// What one handler does to a cell, itself or in its `after` blocks.
#[derive(Clone, PartialEq, Debug)]
pub struct Effect {
    /// The handler; none: the game itself.
    pub handler: Option<HandlerId>,
    /// It can happen after the handler has waited.
    pub after_wait: bool,
    /// It is done in `after` blocks, which may still be to come when their activation is long through.
    pub later: bool,
    /// It touches only the handler's own instance.
    pub own: bool,
    /// It can move the value up.
    pub up: bool,
    /// It can move the value down.
    pub down: bool,
    /// The value that it leaves.
    pub set: Option<Value>,
    /// It can make the cell unset.
    pub clears: bool,
    /// How often the value that it leaves was found to be more.
    pub grown: usize,
}

impl Effect {
    /// One that does nothing yet.
    #[must_use]
    pub fn none(handler: HandlerId) -> Self {
        Self {
            handler: Some(handler),
            after_wait: false,
            later: false,
            own: false,
            up: false,
            down: false,
            set: None,
            clears: false,
            grown: 0,
        }
    }

    /// Whether it can leave a `ref` empty.
    pub(super) fn gives_none(&self) -> bool {
        self.clears || matches!(self.set, Some(Value::Ref { none: true, .. }))
    }

    /// Takes in what the same handler does elsewhere; says whether that is more.
    fn take(&mut self, other: &Self) -> bool {
        let before = self.clone();
        self.after_wait |= other.after_wait;
        self.own &= other.own;
        self.up |= other.up;
        self.down |= other.down;
        self.clears |= other.clears;
        self.set = match (self.set.take(), &other.set) {
            (Some(a), Some(b)) => Some(a.join(b)),
            (a, b) => a.or_else(|| b.clone()),
        };
        self.grown += usize::from(self.set != before.set);
        *self != before
    }
}

/// How many effects on a cell are gone through one by one each time that somebody asks.
const FEW: usize = 24;

/// What is done to one cell, by handler.
#[derive(Debug, Default)]
pub struct Effects {
    all: Vec<Effect>,
    /// Where there are many: the same by the moment that their handlers are for, once somebody asks.
    groups: OnceLock<Vec<Group>>,
}

impl std::ops::Deref for Effects {
    type Target = [Effect];

    fn deref(&self) -> &[Effect] {
        &self.all
    }
}

impl Effects {
    /// All of them, to be changed.
    pub(super) fn to_mut(&mut self) -> &mut Vec<Effect> {
        self.groups.take();
        &mut self.all
    }

    /// Takes in what the handler of one of them does elsewhere; says whether that is more.
    pub(super) fn take(&mut self, at: usize, effect: &Effect) -> bool {
        let grown = self.all[at].take(effect);
        if grown {
            self.groups.take();
        }
        grown
    }

    /// What one handler does.
    pub(super) fn of(&self, handler: HandlerId) -> &[Effect] {
        let from = self.all.partition_point(|effect| effect.handler < Some(handler));
        let count = self.all[from..].partition_point(|effect| effect.handler == Some(handler));
        &self.all[from..from + count]
    }

    /// What those do together that are meant. Of many, few say all that there is to say, so these are asked first.
    fn together(&self, meant: &Meant<'_>, opening: impl Fn(HandlerId) -> Option<Opening>) -> Together {
        if self.all.len() <= FEW {
            return Together::of(self.all.iter().filter(|effect| (meant.effect)(effect)));
        }
        let groups = self.groups.get_or_init(|| groups(&self.all, opening));
        let mut together = Together::default();
        for group in groups.iter().filter(|group| !group.opening.is_some_and(meant.past)) {
            together.join(&group.together(&self.all, meant.effect));
        }
        together
    }
}

/// Which effects are asked for.
struct Meant<'a> {
    /// Whether all is past that handlers for such a moment do before they first wait.
    past: &'a dyn Fn(Opening) -> bool,
    /// Of the others, whether one is meant.
    effect: &'a dyn Fn(&Effect) -> bool,
}

/// The effects of handlers for one moment.
#[derive(Debug)]
struct Group {
    opening: Option<Opening>,
    /// Where they stand.
    members: Vec<usize>,
    /// Those that do as much together as all of them.
    leading: Vec<usize>,
    whole: Together,
}

impl Group {
    fn of(all: &[Effect], opening: Option<Opening>, members: Vec<usize>) -> Self {
        let whole = Together::of(members.iter().map(|&at| &all[at]));
        let mut leading = Vec::new();
        let mut together = Together::default();
        let reaches_far = |effect: &&usize| matches!(&all[**effect].set, Some(Value::Num(num)) if num.lo == whole.ends.0 || num.hi == whole.ends.1);
        for &at in members.iter().filter(reaches_far).chain(&members) {
            let before = together.clone();
            together.take(&all[at]);
            if together != before {
                leading.push(at);
            }
            if together == whole {
                break;
            }
        }
        Self { opening, members, leading, whole }
    }

    fn together(&self, all: &[Effect], meant: &dyn Fn(&Effect) -> bool) -> Together {
        let mut together = Together::of(self.leading.iter().map(|&at| &all[at]).filter(|effect| meant(effect)));
        if together != self.whole {
            self.members.iter().map(|&at| &all[at]).filter(|effect| meant(effect)).for_each(|one| together.take(one));
        }
        together
    }
}

/// Effects apart by the moment that comes before all else, where nothing is done after a wait.
fn groups(all: &[Effect], opening: impl Fn(HandlerId) -> Option<Opening>) -> Vec<Group> {
    let of = |effect: &Effect| effect.handler.filter(|_| !effect.after_wait).and_then(&opening);
    let kinds = Opening::ALL.into_iter().map(Some).chain([None]);
    let groups = kinds.map(|kind| (kind, (0..all.len()).filter(|&at| of(&all[at]) == kind).collect::<Vec<_>>()));
    groups.filter(|(_, members)| !members.is_empty()).map(|(kind, members)| Group::of(all, kind, members)).collect()
}

impl World<'_> {
    /// What is done to the slots of a run by the effects that are meant, asked with whether the slot is the own instance's; but
    /// for what is `past` of handlers for such a moment.
    pub(super) fn effects_on(
        &self,
        run: &Run<'_, '_>,
        past: impl Fn(Opening) -> bool,
        meant: impl Fn(CellId, &Effect, bool) -> bool,
    ) -> Others {
        let of_slot = |(slot, facts): (Slot, &SlotFacts)| {
            let Some(cell) = facts.cell else { return Together::default() };
            let own = run.is_own_slot(slot);
            let meant = Meant { past: &past, effect: &|effect| meant(cell, effect, own) };
            self.effects[cell.index()].together(&meant, |handler| self.openings[handler.index()])
        };
        (0..).zip(&run.table.slots).map(of_slot).collect()
    }

    /// What the handler of a run itself does.
    pub(in crate::flow) fn effects_of_itself(&self, run: &Run<'_, '_>) -> Others {
        let of_cell = |cell: CellId| Together::of(self.effects[cell.index()].of(run.handler));
        run.table.slots.iter().map(|facts| facts.cell.map(of_cell).unwrap_or_default()).collect()
    }

    /// What the `spawn` handlers of an actor do to others than the new instance, for a `spawn` statement.
    #[must_use]
    pub fn effects_of_spawning(&self, run: &Run<'_, '_>, actor: OwnerId) -> Others {
        let Some(at_spawn) = self.at_spawn.get(&actor) else { return Others::new() };
        let of_cell = |cell: CellId| {
            let effects = &self.effects[cell.index()];
            let theirs = at_spawn.handlers.iter().flat_map(|&handler| effects.of(handler));
            Together::of(theirs.filter(|effect| !effect.own))
        };
        run.table.slots.iter().map(|facts| facts.cell.map(of_cell).unwrap_or_default()).collect()
    }
}

/// What several effects do to a cell.
#[derive(Clone, PartialEq, Debug)]
pub struct Together {
    /// There are any.
    pub any: bool,
    /// Some can move the value up.
    pub up: bool,
    /// Some can move the value down.
    pub down: bool,
    clears: bool,
    sets: bool,
    gives_none: bool,
    /// From where to where the numbers lie that they leave.
    ends: (f64, f64),
    /// What they leave that is no number.
    left: Option<Value>,
    /// By how much ticks bring it down beside that, at most.
    drips: f64,
}

impl Default for Together {
    fn default() -> Self {
        Self {
            any: false,
            up: false,
            down: false,
            clears: false,
            sets: false,
            gives_none: false,
            ends: (f64::INFINITY, f64::NEG_INFINITY),
            left: None,
            drips: 0.0,
        }
    }
}

impl Hash for Together {
    fn hash<H: Hasher>(&self, hasher: &mut H) {
        (self.any, self.up, self.down, self.clears, self.sets, self.gives_none).hash(hasher);
        (self.ends.0.to_bits(), self.ends.1.to_bits(), self.drips.to_bits()).hash(hasher);
        self.left.hash(hasher);
    }
}

impl Together {
    fn of<'e>(effects: impl IntoIterator<Item = &'e Effect>) -> Self {
        let mut together = Self::default();
        effects.into_iter().for_each(|effect| together.take(effect));
        together
    }

    /// Takes in what others do.
    fn join(&mut self, other: &Self) {
        self.any |= other.any;
        self.up |= other.up;
        self.down |= other.down;
        self.clears |= other.clears;
        self.sets |= other.sets;
        self.gives_none |= other.gives_none;
        self.ends = (self.ends.0.min(other.ends.0), self.ends.1.max(other.ends.1));
        if let Some(left) = &other.left {
            self.leave(left);
        }
    }

    fn leave(&mut self, value: &Value) {
        self.left = Some(self.left.as_ref().map_or_else(|| value.clone(), |left| left.join(value)));
    }

    /// Takes in one more.
    fn take(&mut self, effect: &Effect) {
        self.any = true;
        self.up |= effect.up;
        self.down |= effect.down;
        self.clears |= effect.clears;
        self.sets |= effect.set.is_some();
        self.gives_none |= effect.gives_none();
        match &effect.set {
            Some(Value::Num(num)) => self.ends = (self.ends.0.min(num.lo), self.ends.1.max(num.hi)),
            Some(value) => self.leave(value),
            None => {}
        }
    }

    /// The same, and ticks take from it, so much at most.
    pub(super) fn drip(&mut self, by: f64) {
        (self.any, self.down) = (true, true);
        self.drips = by;
    }

    /// A value after the effects: what it was, joined with what they leave, and only as far as they move it.
    #[must_use]
    pub fn after(&self, now: &Abstract, reach: &Value) -> Abstract {
        let mut after = now.clone();
        // A `ref` without a value is *none*, which is a value like another.
        let may_be_cleared = self.clears && !matches!(now.value, Value::Ref { .. });
        after.unset |= may_be_cleared;
        after.told &= !may_be_cleared;
        after.set |= self.sets;
        after.value = match (&now.value, reach) {
            (Value::Num(now), Value::Num(reach)) => {
                let lo = if self.down { now.lo.min(self.ends.0) } else { now.lo } - self.drips;
                let hi = if self.up { now.hi.max(self.ends.1) } else { now.hi };
                let all = now.join(reach);
                Value::Num(all.meet(&Num::range(lo, hi, all.int)).unwrap_or(all))
            }
            (now, reach) if self.sets || self.clears => {
                let joined = self.left.as_ref().map_or_else(|| now.clone(), |left| now.join(left));
                if self.gives_none && matches!(now, Value::Ref { .. }) { joined.join(reach) } else { joined }
            }
            (now, _) => now.clone(),
        };
        after
    }
}
