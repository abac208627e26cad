//! What cells hold that are certain to be given a value as their run, instance or scene begins: what they start as counts
//! for nobody who comes later.

use super::*;

/// What such cells are given, then and later, by cell.
pub(super) type Given = FxHashMap<CellId, Value>;

impl World<'_> {
    /// The cells that count, with nothing given to them yet.
    pub(super) fn nothing_given(&self) -> Given {
        let Beforehand { start, spawn, enter, .. } = &self.beforehand;
        let all = start.keys().chain(spawn.keys()).chain(enter.keys()).copied();
        let counts = |cell: &CellId| self.is_given_by_scripts(*cell) && !self.cleared[cell.index()];
        all.filter(counts).filter_map(|cell| Some((cell, nothing(self.plain_type_of(cell)?)))).collect()
    }

    /// Whether what a cell holds is told by what scripts give it, since its type has no ways of its own, the game writes it
    /// not, and nothing of it was left unread.
    pub(super) fn is_given_by_scripts(&self, cell: CellId) -> bool {
        let by_game = match self.project.cells[cell.index()] {
            Cell::Variable(id) => self.by_game[id.index()],
            Cell::Private(..) => false,
        };
        !by_game && !self.unsettled[cell.index()] && self.plain_type_of(cell).is_some()
    }

    /// The type of a cell whose start may be known not to count; `ref`s have a way of their own.
    fn plain_type_of(&self, cell: CellId) -> Option<Type> {
        let ty = self.type_of(cell);
        matches!(ty, Type::Int | Type::Number | Type::Bool | Type::Text | Type::Enum(_)).then_some(ty)
    }

    /// What a variable can hold whenever a handler goes on that began after all that is certain to come first.
    #[must_use]
    pub fn lasting(&self, handler: HandlerId, facts: &SlotFacts) -> Value {
        self.known_as_given(handler, facts).unwrap_or_else(|| self.reach(facts))
    }

    fn known_as_given(&self, handler: HandlerId, facts: &SlotFacts) -> Option<Value> {
        let cell = facts.cell?;
        let given = self.given.get(&cell).filter(|given| !is_nothing(given))?;
        self.given_before(handler, cell, facts.base).then(|| given.clone())
    }

    /// Takes in what a handler leaves in a cell; says whether that is more.
    pub(super) fn take_given(&mut self, cell: CellId, value: &Value, grows: bool, stops: &[f64]) -> bool {
        let Some(known) = self.given.get(&cell) else { return false };
        let next = self.grown(cell, known, value, grows, stops);
        if next == *known {
            return false;
        }
        self.given.insert(cell, next);
        true
    }
}
