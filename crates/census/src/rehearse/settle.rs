//! Writes, and the judgement of them when a handler settles.
//!
//! A write that takes a variable out of its range, or makes an invariant false, is only suspect at first: it becomes a
//! fault if it is still so when others can see it. The fault belongs to the last write that led from inside to outside.

use super::activation::Activation;
use super::fault::{ABOVE, BELOW, BROKEN, Fault, UNKNOWN_VALUE};
use super::layout::{Home, InstanceAt, Limit};
use super::machine::{Happening, Machine, Observer};
use super::suspects::{Suspect, Wrong};
use super::value::{Value, whole};
use crate::finding::RuleName;
use crate::project::{CellId, ScriptUnit};
use crate::registry::{End, Overflow, Type};
use crate::script::ast::ExprId;
use crate::source::Location;
use crate::words::number;
use smallvec::SmallVec;

type Judged = SmallVec<[(CellId, Option<InstanceAt>); 2]>;

impl<'p, O: Observer> Machine<'_, 'p, O> {
    /// Gives a cell a value, or takes it away. `at` is the statement.
    pub(super) fn write(&mut self, cell: CellId, of: Option<InstanceAt>, value: Option<Value>, at: Option<Location>) {
        let facts = &self.layout.cells[cell.index()];
        if facts.watched {
            self.note_before(cell, of);
        }
        let value = value.map(|value| self.kept(cell, of, value));
        if !facts.judged {
            return self.put(cell, of, value, at);
        }
        if !facts.concerns_others {
            self.worked += 1;
            // Its range stays as it is.
            let range = self.range(cell, of);
            let was = self.beyond(cell, range, self.memory.number(cell, of));
            self.put(cell, of, value, at);
            let is = self.beyond(cell, range, self.memory.number(cell, of));
            self.suspect_range((cell, of), was, is, at);
            return self.suspect_value(cell, of, at);
        }
        let judged = self.concerned(cell, of);
        self.worked += judged.len() as u64;
        let outside: SmallVec<[[bool; 2]; 2]> = judged.iter().map(|&(cell, of)| self.outside(cell, of)).collect();
        let invariants = self.invariants_of(cell, of);
        self.worked += invariants.len() as u64;
        self.count_judged(judged.len() + invariants.len(), at);
        let held: SmallVec<[bool; 2]> = invariants.iter().map(|&(at, of)| self.holds(at, of)).collect();
        self.put(cell, of, value, at);
        for (&(other, whose), was) in judged.iter().zip(outside) {
            if other != cell && self.overflow(other) == Overflow::Clamp {
                self.follow(other, whose, at);
            }
            self.suspect_range((other, whose), was, self.outside(other, whose), at);
        }
        self.suspect_value(cell, of, at);
        for (&(invariant, of), held) in invariants.iter().zip(held) {
            self.suspect_invariant(invariant, of, held, at);
        }
    }

    /// Puts a value in place, and tells of it where somebody looks.
    fn put(&mut self, cell: CellId, of: Option<InstanceAt>, value: Option<Value>, at: Option<Location>) {
        let old = if O::LOOKS { self.memory.get(cell, of) } else { None };
        self.memory.put(cell, of, value);
        if O::LOOKS {
            self.tell_changed(cell, of, old.as_ref(), at);
        }
    }

    fn tell_changed(&mut self, cell: CellId, of: Option<InstanceAt>, old: Option<&Value>, at: Option<Location>) {
        let new = self.memory.get(cell, of);
        self.tell(&Happening::Changed { cell, of, old, new: new.as_ref(), at });
    }

    /// The cell itself, and those whose range it ends.
    fn concerned(&self, cell: CellId, of: Option<InstanceAt>) -> Judged {
        let mut judged: Judged = SmallVec::new();
        judged.push((cell, of));
        for &other in &self.layout.cells[cell.index()].bounds {
            match (self.layout.cells[other.index()].home, of) {
                (Home::Shared(_), _) if !self.is_loaded(other) => {}
                (Home::Shared(_), _) => judged.push((other, None)),
                (Home::Each(..), Some(of)) => judged.push((other, Some(of))),
                (Home::Each(actor, _), None) => {
                    judged.extend(self.memory.live(actor).iter().map(|&at| (other, Some(at))));
                }
            }
        }
        judged
    }

    /// Whether a cell exists: a scene's variable does while its scene is loaded.
    fn is_loaded(&self, cell: CellId) -> bool {
        self.layout.cells[cell.index()].scene.is_none_or(|scene| self.scene == Some(scene))
    }

    fn overflow(&self, cell: CellId) -> Overflow {
        self.layout.cells[cell.index()].overflow
    }

    fn limit(&self, limit: Option<Limit>, of: Option<InstanceAt>) -> Option<f64> {
        match limit? {
            Limit::Number(value) => Some(value),
            Limit::Cell(cell) => self.memory.number(cell, of),
        }
    }

    /// The ends of a cell's range, where they are known.
    #[must_use]
    pub fn range(&self, cell: CellId, of: Option<InstanceAt>) -> (Option<f64>, Option<f64>) {
        let facts = &self.layout.cells[cell.index()];
        (self.limit(facts.min, of), self.limit(facts.max, of))
    }

    /// What the variable's `overflow` makes of a value.
    fn kept(&self, cell: CellId, of: Option<InstanceAt>, value: Value) -> Value {
        let overflow = self.overflow(cell);
        if overflow == Overflow::Error {
            return value;
        }
        let Some(number) = value.as_number() else { return value };
        let ty = self.layout.cells[cell.index()].ty;
        let (min, max) = self.range(cell, of);
        match (overflow, min, max) {
            (Overflow::Wrap, Some(min), Some(max)) if number < min || number > max => {
                let (min, span) = (i128::from(whole(min)), i128::from(whole(max)) - i128::from(whole(min)) + 1);
                let Value::Int(value) = value else { return value };
                let wrapped = min + (i128::from(value) - min).rem_euclid(span.max(1));
                Value::Int(i64::try_from(wrapped).unwrap_or(value))
            }
            (Overflow::Clamp, min, max) => {
                let raised = min.map_or(number, |min| number.max(min));
                let kept = max.map_or(raised, |max| raised.min(max));
                if kept == number { value } else { Value::Number(kept).fitted(ty) }
            }
            _ => value,
        }
    }

    /// With `clamp`, a value moves with a bound that moves.
    fn follow(&mut self, cell: CellId, of: Option<InstanceAt>, at: Option<Location>) {
        let Some(old) = self.memory.get(cell, of) else { return };
        let new = self.kept(cell, of, old.clone());
        if new != old {
            if self.layout.cells[cell.index()].watched {
                self.note_before(cell, of);
            }
            self.memory.put(cell, of, Some(new));
            self.tell_changed(cell, of, Some(&old), at);
        }
    }

    /// Whether a cell is below its range, and whether it is above it.
    fn outside(&self, cell: CellId, of: Option<InstanceAt>) -> [bool; 2] {
        self.beyond(cell, self.range(cell, of), self.memory.number(cell, of))
    }

    /// Whether a number is below a cell's range, and whether it is above it.
    fn beyond(&self, cell: CellId, (min, max): (Option<f64>, Option<f64>), value: Option<f64>) -> [bool; 2] {
        if self.overflow(cell) != Overflow::Error {
            return [false; 2];
        }
        let Some(value) = value else { return [false; 2] };
        [min.is_some_and(|min| value < min), max.is_some_and(|max| value > max)]
    }

    fn suspect_range(
        &mut self,
        (cell, of): (CellId, Option<InstanceAt>),
        was: [bool; 2],
        is: [bool; 2],
        at: Option<Location>,
    ) {
        if is == [false; 2] && self.suspects.is_empty() {
            return;
        }
        for (end, was, is) in [(End::Min, was[0], is[0]), (End::Max, was[1], is[1])] {
            self.suspect(Wrong::Outside(cell, of, end), was, is, at);
        }
    }

    fn suspect(&mut self, wrong: Wrong, was: bool, is: bool, at: Option<Location>) {
        if is && !was {
            self.suspects.add(wrong, at);
        } else if !is {
            self.suspects.clear_of(wrong);
        }
    }

    fn suspect_value(&mut self, cell: CellId, of: Option<InstanceAt>, at: Option<Location>) {
        let Type::Enum(variable) = self.layout.cells[cell.index()].ty else { return };
        let values = &self.layout.project.registry.var(variable).values;
        let wrong = matches!(self.memory.get(cell, of), Some(Value::Text(text)) if !values.contains(&text));
        self.suspects.clear_of(Wrong::NoValue(cell, of));
        self.suspect(Wrong::NoValue(cell, of), false, wrong, at);
    }

    // ---- invariants ----

    /// The invariants that name a cell, and the instances for which they must be judged.
    fn invariants_of(&self, cell: CellId, of: Option<InstanceAt>) -> SmallVec<[(usize, Option<InstanceAt>); 2]> {
        let mut all = SmallVec::new();
        for &at in &self.layout.cells[cell.index()].invariants {
            match (self.layout.project.invariants[at].actor, of) {
                (None, _) => all.push((at, None)),
                (Some(_), Some(of)) => all.push((at, Some(of))),
                (Some(actor), None) => all.extend(self.memory.live(actor).iter().map(|&of| (at, Some(of)))),
            }
        }
        all
    }

    /// Whether all invariants hold by now, for every instance.
    pub fn all_hold(&mut self) -> bool {
        let invariants = &self.layout.project.invariants;
        (0..invariants.len()).all(|at| match invariants[at].actor {
            None => self.holds(at, None),
            Some(actor) => self.memory.live(actor).to_vec().into_iter().all(|of| self.holds(at, Some(of))),
        })
    }

    fn holds(&mut self, at: usize, of: Option<InstanceAt>) -> bool {
        let facts = &self.layout.project.invariants[at];
        let Some(holds) = facts.holds else { return true };
        let silent = std::mem::replace(&mut self.silent, true);
        let value = self.eval(&mut Activation::onlooker(of), &facts.unit, holds);
        self.silent = silent;
        value.is_true()
    }

    /// The last write to one of an invariant's variables is the one that counts.
    fn suspect_invariant(&mut self, invariant: usize, of: Option<InstanceAt>, held: bool, at: Option<Location>) {
        let wrong = Wrong::False(invariant, of);
        let holds = self.holds(invariant, of);
        let known = self.suspects.contains(wrong);
        self.suspects.clear_of(wrong);
        self.suspect(wrong, !held && !known, !holds, at);
    }

    // ---- settling ----

    /// Others can see what was done: what is still wrong is a fault.
    pub(super) fn settle(&mut self) {
        if self.suspects.is_empty() {
            return;
        }
        for suspect in self.suspects.take(|_| true) {
            self.found_wrong(suspect);
        }
    }

    /// The player sees what a text prints.
    pub(super) fn settle_printed(&mut self, activation: &mut Activation, unit: &'p ScriptUnit, text: ExprId) {
        let mut read: SmallVec<[(CellId, Option<InstanceAt>); 4]> = SmallVec::new();
        let mut places = Vec::new();
        crate::flow::access::walk_expr(unit, text, &mut |expr| {
            places.extend(unit.place_of(expr).map(|place| (expr, place)));
        });
        let silent = std::mem::replace(&mut self.silent, true);
        for (expr, place) in places {
            read.extend(self.locate(activation, unit, place, expr));
        }
        self.silent = silent;
        let printed = |wrong: Wrong| match wrong {
            Wrong::Outside(cell, of, _) | Wrong::NoValue(cell, of) => read.contains(&(cell, of)),
            Wrong::False(..) => false,
        };
        for suspect in self.suspects.take(printed) {
            self.found_wrong(suspect);
        }
    }

    fn found_wrong(&mut self, suspect: Suspect) {
        let Some(at) = suspect.at else { return };
        let (rule, message) = self.worded(suspect.wrong);
        self.fault(rule, at, message);
    }

    fn worded(&self, wrong: Wrong) -> (RuleName, String) {
        match wrong {
            Wrong::Outside(cell, of, end) => {
                let value = self.memory.number(cell, of).unwrap_or(0.0);
                let (min, max) = self.range(cell, of);
                let limit = if end == End::Min { min } else { max }.unwrap_or(0.0);
                let rule = if end == End::Min { BELOW } else { ABOVE };
                let name = self.cell_name(cell, of);
                (rule, format!("`{name}` is {}, and its `{}` is {}", number(value), end.word(), number(limit)))
            }
            Wrong::NoValue(cell, of) => {
                let mut text = String::new();
                if let Some(value) = self.memory.get(cell, of) {
                    self.print(&mut text, &value, None);
                }
                (UNKNOWN_VALUE, format!("`{}` has no value \"{text}\"", self.cell_name(cell, of)))
            }
            Wrong::False(at, of) => {
                let invariant = &self.layout.project.registry.invariants[at];
                let whose = of.map_or_else(String::new, |of| format!(" for `{}`", self.memory.name(of)));
                (BROKEN, format!("`{}` does not hold{whose}: {}", invariant.name, invariant.holds))
            }
        }
    }

    /// A cell's name with its instance: `dawn_boat.parcels`.
    #[must_use]
    pub fn cell_name(&self, cell: CellId, of: Option<InstanceAt>) -> String {
        super::cell_name(self.layout, &self.memory, cell, of)
    }

    /// Keeps a fault.
    pub(super) fn fault(&mut self, rule: RuleName, at: Location, message: String) {
        if self.silent || self.unwinding || self.stopped.is_some() {
            return;
        }
        let fault = Fault { rule, at, tick: self.now, message };
        self.tell(&Happening::Fault(&fault));
        self.faults.push(fault);
    }
}
