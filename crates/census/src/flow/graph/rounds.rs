//! What a round of a loop does to the places that it steps: read off the tree, as a hint to what the analysis then proves.

use super::Builder;
use crate::project::{Meaning, Place, PlaceId, ProcId};
use crate::registry::OwnerId;
use crate::script::ast::{AssignOp, BinaryOp, Block, ExprId, ExprKind, Statement, StatementKind, blocks};

/// How many calls of procedures are looked into for what a loop steps.
const MOST_CALLED: u32 = 16;
/// How many loops one may stand in whose rounds are looked into.
const DEEPEST: usize = 6;
/// How many parts a change may have; nothing is said of one with more.
const MOST_PARTS: usize = 24;

/// How far something moves a number.
#[derive(Clone, Debug)]
pub enum Change {
    /// By something between two numbers.
    Within(f64, f64),
    /// By what an expression gives.
    Up(ExprId),
    /// The same, taken off.
    Down(ExprId),
    /// By all of these.
    Sum(Vec<Change>),
    /// By one of these.
    Either(Vec<Change>),
    /// By this, once for each round of an inner loop.
    Over(Rounds, Box<Change>),
}

/// How many rounds a loop makes.
#[derive(Clone, Copy, Debug)]
pub enum Rounds {
    /// That many.
    Number(f64),
    /// As many as a `repeat` says.
    Counted(ExprId),
    /// At most one for each instance.
    Each(OwnerId),
}

/// What a stretch does to the places that it steps.
pub(super) type Changes = Vec<(PlaceId, Change)>;

impl Change {
    const NONE: Self = Self::Within(0.0, 0.0);
    const UNKNOWN: Self = Self::Within(f64::NEG_INFINITY, f64::INFINITY);

    fn parts(&self) -> usize {
        match self {
            Self::Within(..) | Self::Up(_) | Self::Down(_) => 1,
            Self::Sum(all) | Self::Either(all) => all.iter().map(Self::parts).sum(),
            Self::Over(_, inner) => 1 + inner.parts(),
        }
    }

    fn short(self) -> Self {
        if self.parts() > MOST_PARTS { Self::UNKNOWN } else { self }
    }

    fn and(self, other: Self) -> Self {
        match (self, other) {
            (Self::Within(a, b), Self::Within(c, d)) => Self::Within(a + c, b + d),
            (Self::Sum(mut all), other) => {
                all.push(other);
                Self::Sum(all).short()
            }
            (one, other) => Self::Sum(vec![one, other]).short(),
        }
    }

    fn or(self, other: Self) -> Self {
        match (self, other) {
            (Self::Within(a, b), Self::Within(c, d)) => Self::Within(a.min(c), b.max(d)),
            (one, other) => Self::Either(vec![one, other]).short(),
        }
    }

    fn over(self, rounds: Rounds) -> Self {
        match (self, rounds) {
            (Self::Within(a, b), Rounds::Number(times)) => Self::Within(a * times, b * times),
            (inner, rounds) => Self::Over(rounds, Box::new(inner)).short(),
        }
    }
}

/// Adds what is done after the rest.
fn add(all: &mut Changes, more: Changes) {
    for (place, change) in more {
        match all.iter_mut().find(|(known, _)| *known == place) {
            Some((_, known)) => *known = std::mem::replace(known, Change::NONE).and(change),
            None => all.push((place, change)),
        }
    }
}

/// What one of several stretches does.
fn either(ways: Vec<Changes>) -> Changes {
    let mut places: Vec<PlaceId> = ways.iter().flatten().map(|&(place, _)| place).collect();
    places.sort_unstable();
    places.dedup();
    let change = |place: PlaceId| {
        let of =
            |way: &Changes| way.iter().find(|(known, _)| *known == place).map_or(Change::NONE, |(_, it)| it.clone());
        ways.iter().map(of).reduce(Change::or).unwrap_or(Change::NONE)
    };
    places.into_iter().map(|place| (place, change(place))).collect()
}

/// The call that led to a procedure, and how many more are looked into.
struct Calls {
    from: Option<(ProcId, ExprId)>,
    left: u32,
}

impl Builder<'_> {
    /// What a round of a loop with this body does, also in the procedures that it calls. Loops that stand deep in others are
    /// not looked into: each would be read once more for every loop around it.
    pub(super) fn round_changes(&self, body: &Block) -> Changes {
        if self.breaks.len() > DEEPEST {
            return Changes::new();
        }
        self.changes_of(body, &mut Calls { from: None, left: MOST_CALLED })
    }

    fn changes_of(&self, body: &Block, calls: &mut Calls) -> Changes {
        let mut all = Changes::new();
        for statement in &body.statements {
            add(&mut all, self.own_change(statement, calls));
            let ways = blocks(statement).into_iter().map(|block| self.changes_of(block, calls)).collect();
            add(&mut all, self.change_of_parts(statement, ways));
        }
        all
    }

    /// What a statement does that has blocks, by what these do.
    #[allow(clippy::cast_precision_loss, reason = "rounds beyond 2⁵³ are only a hint")]
    fn change_of_parts(&self, statement: &Statement, mut ways: Vec<Changes>) -> Changes {
        let rounds = match &statement.kind {
            StatementKind::Repeat { count, .. } => match self.unit.tree.expr(self.unit.behind(*count)).kind {
                ExprKind::Int(rounds) if rounds > 0 => Rounds::Number(rounds as f64),
                _ => Rounds::Counted(*count),
            },
            StatementKind::For { local, .. } => match self.actor_of(*local) {
                Some(actor) => Rounds::Each(actor),
                None => return either(ways),
            },
            StatementKind::If { otherwise: Some(_), .. } | StatementKind::Match { otherwise: Some(_), .. } => {
                return either(ways);
            }
            StatementKind::While { .. } => return either(ways), // As many rounds as it takes.
            _ => {
                ways.push(Changes::new());
                return either(ways);
            }
        };
        either(ways).into_iter().map(|(place, change)| (place, change.over(rounds))).collect()
    }

    /// What a statement such as `x += 3` or `x = x - 1` does, or the procedure that it calls.
    fn own_change(&self, statement: &Statement, calls: &mut Calls) -> Changes {
        if let StatementKind::Call(call) = statement.kind
            && let Meaning::Procedure(id) = self.unit.meaning(call)
            && calls.left > 0
        {
            calls.left -= 1;
            let outer = calls.from.replace((id, call));
            let changes = self.changes_of(&self.unit.tree.procedures[id.index()].body, calls);
            calls.from = outer;
            return changes;
        }
        let Some((place, by, down)) = self.stepped_by(statement, calls.from) else { return Changes::new() };
        #[allow(clippy::cast_precision_loss, reason = "a step beyond 2⁵³ is only a hint")]
        let number = match self.unit.tree.expr(by).kind {
            ExprKind::Int(value) => Some(value as f64),
            ExprKind::Float(value) => Some(value),
            _ => None,
        };
        let change = match (number, down) {
            (Some(number), true) => Change::Within(-number, -number),
            (Some(number), false) => Change::Within(number, number),
            (None, true) => Change::Down(by),
            (None, false) => Change::Up(by),
        };
        vec![(place, change)]
    }

    /// What a statement steps, by what, and whether that is taken off.
    fn stepped_by(&self, statement: &Statement, call: Option<(ProcId, ExprId)>) -> Option<(PlaceId, ExprId, bool)> {
        let StatementKind::Assign { target, op, value } = &statement.kind else { return None };
        let Meaning::Value(place) = self.unit.meaning(*target) else { return None };
        let value = self.unit.behind(*value);
        let (by, down) = match (op, &self.unit.tree.expr(value).kind) {
            (AssignOp::Add | AssignOp::Subtract, _) => (value, *op == AssignOp::Subtract),
            (AssignOp::Set, ExprKind::Binary(op @ (BinaryOp::Add | BinaryOp::Subtract), from, by))
                if self.unit.meaning(*from) == Meaning::Value(place) =>
            {
                (*by, *op == BinaryOp::Subtract)
            }
            _ => return None,
        };
        Some((place, self.passed(self.unit.behind(by), call), down))
    }

    /// What a call passes for an expression that is a parameter; others stand for themselves.
    fn passed(&self, expr: ExprId, call: Option<(ProcId, ExprId)>) -> ExprId {
        let given = || {
            let (id, call) = call?;
            let Place::Local(local) = self.unit.place(self.unit.place_of(expr)?) else { return None };
            let at = self.unit.procedures[id.index()].parameters.iter().position(|&parameter| parameter == local)?;
            let ExprKind::Call(_, arguments) = &self.unit.tree.expr(call).kind else { return None };
            arguments.get(at).map(|&argument| self.unit.behind(argument))
        };
        given().unwrap_or(expr)
    }
}
