//! Who does what to a cell, and what that makes of its value.

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
    pub(super) fn take(&mut self, other: &Self) -> bool {
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

/// What several effects do to a cell.
#[derive(Clone, Debug)]
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
        }
    }
}

impl Hash for Together {
    fn hash<H: Hasher>(&self, hasher: &mut H) {
        (self.any, self.up, self.down, self.clears, self.sets, self.gives_none).hash(hasher);
        (self.ends.0.to_bits(), self.ends.1.to_bits()).hash(hasher);
        self.left.hash(hasher);
    }
}

impl Together {
    /// Takes in one more.
    pub(super) fn take(&mut self, effect: &Effect) {
        self.any = true;
        self.up |= effect.up;
        self.down |= effect.down;
        self.clears |= effect.clears;
        self.sets |= effect.set.is_some();
        self.gives_none |= effect.gives_none();
        match &effect.set {
            Some(Value::Num(num)) => self.ends = (self.ends.0.min(num.lo), self.ends.1.max(num.hi)),
            Some(value) => self.left = Some(self.left.as_ref().map_or_else(|| value.clone(), |left| left.join(value))),
            None => {}
        }
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
                let lo = if self.down { now.lo.min(self.ends.0) } else { now.lo };
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
