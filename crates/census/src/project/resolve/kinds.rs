//! What is known of the kind of instance that a name holds: what tests tell, and what ends that knowledge.

use super::*;

/// How many `let`s a test is followed through.
const MOST_LETS: usize = 16;

impl Resolver<'_> {
    /// Adds what is known once `test` has come out as `outcome`.
    pub(super) fn learn(&mut self, tree: &Script, test: ExprId, outcome: bool) {
        self.learn_beside(tree, test, outcome, &mut Vec::new());
    }

    /// The same, where some `let`s are looked at already: that of each is asked for once.
    fn learn_beside(&mut self, tree: &Script, test: ExprId, outcome: bool, seen: &mut Vec<LocalId>) {
        match &tree.expr(test).kind {
            ExprKind::Unary(UnaryOp::Not, inner) => self.learn_beside(tree, *inner, !outcome, seen),
            ExprKind::Binary(BinaryOp::And, left, right) if outcome => {
                self.learn_beside(tree, *left, true, seen);
                self.learn_beside(tree, *right, true, seen);
            }
            ExprKind::Binary(BinaryOp::Or, left, right) if !outcome => {
                self.learn_beside(tree, *left, false, seen);
                self.learn_beside(tree, *right, false, seen);
            }
            ExprKind::Is { subject, negated, test: IsTest::Named(_) } if outcome != *negated => {
                if let (Meaning::Owner(actor), Meaning::Value(place)) =
                    (self.unit.meaning(test), self.unit.meaning(*subject))
                {
                    self.learn_kind(place, actor);
                }
            }
            ExprKind::Path(_) => {
                if let Meaning::Value(place) = self.unit.meaning(test)
                    && let Place::Local(local) = self.unit.place(place)
                    && let Some(&value) = self.definitions.get(&local)
                    && seen.len() < MOST_LETS
                    && !seen.contains(&local)
                {
                    seen.push(local);
                    self.learn_beside(tree, value, outcome, seen);
                }
            }
            ExprKind::Call(_, arguments) => {
                if let Meaning::Procedure(id) = self.unit.meaning(test)
                    && let [Statement { kind: StatementKind::Return(Some(given)), .. }] =
                        &tree.procedures[id.index()].body.statements[..]
                {
                    self.learn_given(tree, (id, arguments), *given, outcome);
                }
            }
            _ => {}
        }
    }

    /// A place holds an instance of an actor, and so do its copies.
    fn learn_kind(&mut self, place: PlaceId, actor: OwnerId) {
        let from = match self.unit.place(place) {
            Place::Local(local) => self.definitions.get(&local).and_then(|&value| self.unit.place_of(value)),
            _ => None,
        };
        let copies = self.definitions.iter().filter(|&(_, &value)| self.unit.place_of(value) == Some(place));
        let copies: Vec<PlaceId> = copies.map(|(local, _)| self.unit.local_places[local.0 as usize]).collect();
        self.kinds.extend(copies.into_iter().chain(from).chain([place]).map(|place| (place, actor)));
    }

    /// What is known of the arguments of a call once the test that its procedure gives has come out. The procedure may stand
    /// further down, and so its names are looked at as they are written.
    fn learn_given(&mut self, tree: &Script, call: (ProcId, &[ExprId]), test: ExprId, outcome: bool) {
        match &tree.expr(test).kind {
            ExprKind::Unary(UnaryOp::Not, inner) => self.learn_given(tree, call, *inner, !outcome),
            ExprKind::Binary(BinaryOp::And, left, right) if outcome => {
                self.learn_given(tree, call, *left, true);
                self.learn_given(tree, call, *right, true);
            }
            ExprKind::Binary(BinaryOp::Or, left, right) if !outcome => {
                self.learn_given(tree, call, *left, false);
                self.learn_given(tree, call, *right, false);
            }
            ExprKind::Is { subject, negated, test: IsTest::Named(name) } if outcome != *negated => {
                let ExprKind::Path(names) = &tree.expr(*subject).kind else { return };
                let asks_for = |parameter: &Parameter| {
                    let own = tree.local(parameter.local).name;
                    names.len() == 1 && self.slice(names[0].span) == self.slice(own.span)
                };
                let at = tree.procedures[call.0.index()].parameters.iter().position(asks_for);
                let argument = at.and_then(|at| call.1.get(at)).and_then(|&argument| self.unit.place_of(argument));
                let actor = self.registry().find_owner(&self.name(*name));
                if let (Some(place), Some(actor)) = (argument, actor.filter(|&actor| self.registry().is_actor(actor))) {
                    self.learn_kind(place, actor);
                }
            }
            _ => {}
        }
    }

    pub(super) fn kind_of(&self, place: PlaceId) -> Option<OwnerId> {
        self.kinds.iter().rev().find(|(known, _)| *known == place).map(|&(_, actor)| actor)
    }

    /// An assignment ends what was known about the place and about all that goes through it.
    pub(super) fn forget(&mut self, target: ExprId) {
        let Meaning::Value(place) = self.unit.meaning(target) else { return };
        let places = &self.unit.places;
        self.kinds.retain(|&(known, _)| !goes_through(places, known, place));
        // A plain copy stays one until either side is assigned; whether a test would still come out alike is not looked into.
        let unit = &self.unit;
        self.definitions.retain(|local, &mut value| {
            let copy = unit.local_places[local.0 as usize];
            copy != place && unit.place_of(value).is_some_and(|from| !may_go_through(places, from, place))
        });
    }

    /// A `let` is asked for after a wait: what it was worked out from may be something else by then.
    pub(super) fn grow_old(&mut self, tree: &Script, local: LocalId) {
        let value = self.unit.lets[local.0 as usize];
        self.unit.lets[local.0 as usize] = value.filter(|&value| is_constant(&self.unit, tree, value));
    }

    /// After a wait: what others can assign is no longer known.
    pub(super) fn forget_shared(&mut self) {
        self.waits += 1;
        let places = &self.unit.places;
        self.kinds.retain(|&(known, _)| is_local(places, known));
        self.definitions.clear();
    }
}

/// Whether a place lies inside an activation, whatever it goes through.
pub(super) fn is_local(places: &[Place], place: PlaceId) -> bool {
    matches!(places[place.index()], Place::Local(_))
}

/// Whether reading `place` reads `other` on the way.
pub(super) fn goes_through(places: &[Place], place: PlaceId, other: PlaceId) -> bool {
    let mut at = place;
    loop {
        if at == other {
            return true;
        }
        match places[at.index()] {
            Place::Variable(_, Base::Held(held)) => at = held,
            _ => return false,
        }
    }
}

/// Whether reading `place` may read the same variable as `other` on the way, of the same instance or another.
fn may_go_through(places: &[Place], place: PlaceId, other: PlaceId) -> bool {
    let same = |at: PlaceId| match (places[at.index()], places[other.index()]) {
        (Place::Variable(a, _), Place::Variable(b, _)) => a == b,
        (a, b) => a == b,
    };
    let mut at = place;
    while !same(at) {
        match places[at.index()] {
            Place::Variable(_, Base::Held(held)) => at = held,
            _ => return false,
        }
    }
    true
}
