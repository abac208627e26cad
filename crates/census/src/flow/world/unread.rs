//! What could not be read, and what of a handler hangs on it: one mistake gives one finding, and not those that it leads to.

use super::super::access::{AccessKind, exit_reads, walk_behind, walk_expr};
use super::*;
use crate::words::nearest;

impl World<'_> {
    /// The events that stand for certain: not what hangs on what could not be read, or was told of as a mistake.
    pub(super) fn settled_events(&self, handler: HandlerId, mut events: Vec<Event>) -> Vec<Event> {
        if events.is_empty() {
            return events;
        }
        if self.is_sent_unread(handler) || self.is_left_open(handler) {
            return Vec::new();
        }
        let (unit, tree, _) = self.parts(handler);
        // A head that could not be read may have had a test.
        let tests_unread = matches!(tree.trigger, Trigger::Unreadable) || self.tests_unread(handler);
        let given_mistaken = self.is_given_mistaken(handler);
        let guard_unread = self.may_set_its_guard_unread(handler);
        let entry_mistaken = self.uses_mistaken_entry(handler);
        let call_mistaken = self.is_any_within(handler, &unit.mistaken_calls);
        events.retain(|event| {
            let hangs = (tests_unread || guard_unread) && (is_of_values(event) || matches!(event, Event::Lost { .. }))
                || given_mistaken && is_of_values(event)
                || entry_mistaken && (is_of_values(event) || matches!(event, Event::OtherKind { .. }))
                || call_mistaken && self.stands_in_procedure(handler, event)
                || self.is_of_mistaken_write(handler, event)
                || self.is_of_unknown_value(handler, event)
                || self.may_be_otherwise(handler, event);
            !hangs
        });
        events
    }

    /// Whether something is wrong in what a procedure gives back to a handler.
    pub(super) fn is_given_mistaken(&self, handler: HandlerId) -> bool {
        self.is_any_within(handler, &self.parts(handler).0.mistaken_returns)
    }

    /// Whether a handler uses a variable in whose entry something is wrong.
    fn uses_mistaken_entry(&self, handler: HandlerId) -> bool {
        let mistaken = &self.project.registry.mistaken;
        let is_mistaken = |slot: &SlotFacts| slot.variable.is_some_and(|id| mistaken.contains(&id));
        !mistaken.is_empty() && self.table(handler).slots.iter().any(is_mistaken)
    }

    /// Whether an event of values stands in a procedure that a handler calls: there a mistaken argument is used.
    fn stands_in_procedure(&self, handler: HandlerId, event: &Event) -> bool {
        let (unit, tree, _) = self.parts(handler);
        let at = match event {
            Event::Outside { at, .. } | Event::Broken { at, .. } | Event::Lost { at, .. } => *at,
            Event::Zero { at, .. } => unit.tree.expr(*at).span,
            _ => return false,
        };
        !tree.span.contains(at)
    }

    /// Whether a write is told of for its target or its value, and may mean to write something else.
    fn is_of_mistaken_write(&self, handler: HandlerId, event: &Event) -> bool {
        let (unit, ..) = self.parts(handler);
        let (Event::Outside { at, .. } | Event::Broken { at, .. }) = event else { return false };
        unit.mistaken.iter().chain(&unit.mistaken_targets).any(|mistaken| at.contains(*mistaken))
    }

    /// Whether what is written comes, perhaps by a `let`, from something that means nothing.
    fn is_of_unknown_value(&self, handler: HandlerId, event: &Event) -> bool {
        let (unit, ..) = self.parts(handler);
        let (Event::Outside { at, .. } | Event::Broken { at, .. }) = event else { return false };
        if unit.meant_names.is_empty() && unit.unread_names.is_empty() && unit.mistaken.is_empty() {
            return false;
        }
        let written = self.accesses[self.handler(handler).0.index()].iter().filter(|access| access.statement == *at);
        let values = written.filter_map(|access| match access.kind {
            AccessKind::Write(_, value) => value,
            _ => None,
        });
        let mut unknown = false;
        for value in values {
            walk_behind(unit, value, &mut |expr| {
                // The actor in `count(ACTOR)` is no value.
                let is_value = !matches!(unit.meaning(expr), Meaning::Owner(_));
                unknown |= is_value
                    && unit.ty(expr) == Type::Unknown
                    && matches!(unit.tree.expr(expr).kind, ExprKind::Path(_));
            });
        }
        unknown
    }

    /// Whether something that could not be read may have been meant to give a place another value.
    fn may_be_otherwise(&self, handler: HandlerId, event: &Event) -> bool {
        match event {
            Event::Unset { bound: Some(variable), .. } => {
                self.may_be_meant(handler, &self.project.registry.var(*variable).name)
            }
            Event::Unset { place, .. } => {
                let (unit, ..) = self.parts(handler);
                // A test for it may be what means nothing.
                let asked = || self.name_of(unit, *place).is_some_and(|name| unit.may_use(name));
                self.may_be_set_unread(handler, *place) || asked() && self.tests_unread(handler)
            }
            Event::Outside { variable, .. } => {
                let named = |facts: &crate::project::InvariantFacts| {
                    facts.holds.is_none() && facts.variables.contains(variable)
                };
                self.may_be_meant(handler, &self.project.registry.var(*variable).name)
                    || self.project.invariants.iter().any(named)
            }
            Event::Broken { invariant, .. } => {
                let named = &self.project.invariants[invariant.index()].variables;
                named.iter().any(|&id| self.may_be_meant(handler, &self.project.registry.var(id).name))
                    || self.gives_a_mistaken_value(handler, named)
            }
            Event::EmptyRef { held, .. } => {
                let (unit, ..) = self.parts(handler);
                let name = self.name_of(unit, *held);
                // Also a test for it may be what means nothing.
                match name {
                    Some(name) => self.may_be_meant(handler, name) || unit.may_use(name) && self.tests_unread(handler),
                    None => self.tests_unread(handler), // A `let` holds what another name stands for.
                }
            }
            _ => false,
        }
    }

    /// Whether a handler gives one of these variables a value in which something is wrong.
    fn gives_a_mistaken_value(&self, handler: HandlerId, variables: &[VarId]) -> bool {
        let (unit, ..) = self.parts(handler);
        let mistaken: Vec<&Span> = self.places_within(handler, &unit.mistaken).collect();
        let accesses = &self.accesses[self.handler(handler).0.index()];
        !mistaken.is_empty()
            && accesses
                .iter()
                .filter(|access| access.writes() && mistaken.contains(&&access.at))
                .any(|access| self.project.variable_of(access.cell).is_some_and(|id| variables.contains(&id)))
    }

    /// Finds the signals that are sent with something that means nothing, by handlers and what they call.
    pub(super) fn find_sent_unread(&mut self) {
        let mut unread = FxHashSet::default();
        for ((script, unit), graphs) in self.project.script_ids().zip(&self.graphs) {
            let called = self.called_from(script, 0..graphs.handlers.len());
            let procedures = called.into_iter().map(|id| &graphs.procedures[id.index()]);
            let blocks = graphs.handlers.iter().chain(procedures).flat_map(|graph| &graph.blocks);
            for step in blocks.flat_map(|block| &block.steps) {
                let StepKind::Send { signal: Some(signal), arguments, .. } = &step.kind else { continue };
                let is_unknown = |argument: &ExprId| unit.ty(*argument) == Type::Unknown;
                if arguments.iter().any(is_unknown) || unit.mistaken_calls.iter().any(|at| step.span.contains(*at)) {
                    unread.insert(*signal);
                }
            }
        }
        self.sent_unread = unread;
    }

    /// Whether a handler's block is not closed: what was meant to stand in it nobody can tell.
    #[must_use]
    pub fn is_left_open(&self, handler: HandlerId) -> bool {
        let (unit, tree, _) = self.parts(handler);
        unit.tree.left_open.iter().any(|open| tree.span.contains(*open))
    }

    /// Whether what a place of a handler's script holds may be set where nobody can tell: by what could not be read, or in a
    /// handler that answers nothing that could be.
    fn may_be_set_unread(&self, handler: HandlerId, place: PlaceId) -> bool {
        let (unit, ..) = self.parts(handler);
        let Some(cell) = self.project.cell_of(unit, place).filter(|_| !self.unread.is_empty()) else { return false };
        let named = match unit.place(place) {
            Place::Variable(id, _) => self.unread_targets.contains(&*self.project.registry.var(id).name),
            _ => self.name_of(unit, place).is_some_and(|name| unit.may_write(name)),
        };
        named || self.set_unread.contains(&cell)
    }

    /// The cells that are set by handlers that answer nothing that could be read.
    pub(super) fn find_set_unread(&self) -> FxHashSet<CellId> {
        self.set_by(self.handler_ids().filter(|&id| self.answers_unread(id)))
    }

    /// The cells that handlers set in their own bodies.
    fn set_by(&self, handlers: impl Iterator<Item = HandlerId>) -> FxHashSet<CellId> {
        let accesses = handlers.flat_map(|id| self.own_accesses(id));
        accesses.filter(|access| access.writes()).map(|access| access.cell).collect()
    }

    fn name_of<'a>(&'a self, unit: &'a ScriptUnit, place: PlaceId) -> Option<&'a str> {
        match unit.place(place) {
            Place::Variable(id, _) => Some(&self.project.registry.var(id).name),
            Place::Private(index) => Some(self.project.text(unit, unit.tree.privates[index as usize].name.span)),
            _ => None,
        }
    }

    /// Whether something that a handler does to what means nothing may have been meant for what has that name, or a stretch
    /// that could not be read names it: a loop or a test of it, say.
    #[must_use]
    pub fn may_be_meant(&self, handler: HandlerId, name: &str) -> bool {
        let (unit, ..) = self.parts(handler);
        let mut passed_over = self.places_within(handler, &unit.tree.skipped);
        if passed_over.any(|at| crate::words::names_in(self.project.text(unit, *at)).any(|word| word == name)) {
            return true;
        }
        self.places_within(handler, &unit.unread_acts).any(|at| {
            let word = self.project.text(unit, *at).rsplit('.').next().unwrap_or("");
            !nearest(word, [name]).is_empty()
        })
    }

    /// Whether what a handler answers could not be read, or means nothing.
    fn answers_unread(&self, handler: HandlerId) -> bool {
        let (unit, tree, _) = self.parts(handler);
        let facts = &unit.handlers[self.handler(handler).1];
        match tree.trigger {
            Trigger::Unreadable => true,
            Trigger::Signal { .. } => facts.signal.is_none(),
            Trigger::Changed(_) => facts.changed.is_none(),
            _ => false,
        }
    }

    /// Whether a handler does something to what means nothing, itself or in a procedure.
    #[must_use]
    pub fn acts_unread(&self, handler: HandlerId) -> bool {
        self.is_any_within(handler, &self.parts(handler).0.unread_acts)
    }

    fn is_any_within(&self, handler: HandlerId, places: &[Span]) -> bool {
        self.places_within(handler, places).next().is_some()
    }

    /// Those of some places that stand in a handler, or in a procedure that it calls.
    fn places_within<'a>(&'a self, handler: HandlerId, places: &'a [Span]) -> impl Iterator<Item = &'a Span> {
        let (unit, tree, _) = self.parts(handler);
        let (script, index) = self.handler(handler);
        let called = if places.is_empty() { FxHashSet::default() } else { self.called_from(script, index..index + 1) };
        let procedures = called.into_iter().map(|id| unit.tree.procedures[id.index()].span);
        let bodies: Vec<Span> = procedures.chain([tree.span]).collect();
        places.iter().filter(move |at| bodies.iter().any(|body| body.contains(**at)))
    }

    /// Whether something of a handler that could not be read may be what keeps it out.
    #[must_use]
    pub fn guards_unread(&self, handler: HandlerId) -> bool {
        self.unread_guards.binary_search(&handler).is_ok()
    }

    /// Finds those handlers.
    pub(super) fn find_unread_guards(&self) -> Vec<HandlerId> {
        let is_unread = |&id: &HandlerId| {
            let (unit, ..) = self.parts(id);
            self.acts_unread(id) || [&unit.mistaken, &unit.tree.skipped].iter().any(|of| self.is_any_within(id, of))
        };
        self.handler_ids().filter(is_unread).collect()
    }

    /// Whether something that a handler does to what means nothing may have been meant for what it asks for on entry: the
    /// guard that keeps a second activation out.
    fn may_set_its_guard_unread(&self, handler: HandlerId) -> bool {
        self.acts_unread(handler)
            && self.asked_on_entry(handler).into_iter().any(|cell| match self.project.cells[cell.index()] {
                Cell::Variable(id) => self.may_be_meant(handler, &self.project.registry.var(id).name),
                Cell::Private(script, index) => {
                    let unit = self.project.script(script);
                    let name = unit.tree.privates[index as usize].name.span;
                    self.may_be_meant(handler, self.project.text(unit, name))
                }
            })
    }

    /// The cells that a handler's tests on entry ask for.
    fn asked_on_entry(&self, handler: HandlerId) -> FxHashSet<CellId> {
        let (unit, tree, _) = self.parts(handler);
        let mut asked: FxHashSet<CellId> = FxHashSet::default();
        for (test, _) in entry_tests(unit, tree).into_iter().flatten() {
            walk_expr(unit, test, &mut |expr| {
                asked.extend(unit.place_of(expr).and_then(|place| self.project.cell_of(unit, place)));
            });
        }
        asked
    }

    /// Whether what a handler asks for on entry is also set by one of which something could not be read, which may have been
    /// kept out itself; or may be set by what could not be read.
    #[must_use]
    pub fn guard_is_set_unread(&self, handler: HandlerId) -> bool {
        let asked = self.asked_on_entry(handler);
        if asked.iter().any(|cell| self.unsettled[cell.index()]) {
            return true;
        }
        asked.iter().any(|cell| self.set_by_unread_guards.contains(cell))
    }

    /// The cells that are set by handlers of which something could not be read.
    pub(super) fn find_set_by_unread_guards(&self) -> FxHashSet<CellId> {
        self.set_by(self.unread_guards.iter().copied())
    }

    /// Whether a test of a handler names something that means nothing: what it was meant to keep out nobody can tell.
    #[must_use]
    pub fn tests_unread(&self, handler: HandlerId) -> bool {
        let (unit, tree, graph) = self.parts(handler);
        if unit.meant_names.is_empty() && unit.unread_names.is_empty() && unit.mistaken.is_empty() {
            return false;
        }
        let (script, _) = self.handler(handler);
        let bodies = self.bodies(script, graph);
        let exits = bodies.iter().flat_map(|graph| &graph.blocks).map(|block| &block.exit);
        let tests = exits.flat_map(exit_reads).chain(tree.when);
        tests.into_iter().any(|test| {
            let span = unit.tree.expr(test).span;
            let mut unread = unit.mistaken.iter().any(|mistaken| mistaken.contains(span) || span.contains(*mistaken));
            walk_expr(unit, test, &mut |expr| {
                unread |= unit.ty(expr) == Type::Unknown
                    && !matches!(unit.meaning(expr), Meaning::Owner(_))
                    && self.project.text(unit, unit.tree.expr(expr).span) != "scene" // As in `scene is harbor`.
                    && matches!(unit.tree.expr(expr).kind, ExprKind::Path(_) | ExprKind::Call(..) | ExprKind::Error);
            });
            unread
        })
    }

    /// Whether all that a handler is sent comes from where nobody can read what that is.
    #[must_use]
    pub fn is_sent_unread(&self, handler: HandlerId) -> bool {
        let (unit, _, _) = self.parts(handler);
        let (_, index) = self.handler(handler);
        unit.handlers[index].signal.is_some_and(|signal| {
            let declared = self.project.registry.signal(signal);
            let unsent = !self.sent_signals.contains(&signal) && !declared.parameters.is_empty();
            !declared.from_engine && (unsent || self.sent_unread.contains(&signal))
                || self.unread.contains(&*declared.name)
        })
    }
}

/// Whether an event is about what a place may hold.
fn is_of_values(event: &Event) -> bool {
    matches!(event, Event::Outside { .. } | Event::Broken { .. } | Event::Zero { .. })
}
