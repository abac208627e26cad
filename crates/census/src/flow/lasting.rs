//! How long an activation lasts, where its waits are written out: one of `every 90s` that waits for a second is over long before
//! the next one begins.

use crate::project::{Meaning, ProcId, ScriptUnit};
use crate::script::ast::{Block, Duration, ExprId, ExprKind, Statement, StatementKind};
use rustc_hash::FxHashMap;

/// How deep procedures that call each other are looked into.
const MOST_DEPTH: usize = 8;

/// How long something takes at most, in ticks.
#[derive(Clone, Copy, Default, Debug)]
struct Length {
    /// Until what stands behind it goes on.
    main: f64,
    /// Until all that it has put off is done, too.
    whole: f64,
}

impl Length {
    fn of(ticks: f64) -> Self {
        Self { main: ticks, whole: ticks }
    }

    fn then(self, next: Self) -> Self {
        Self { main: self.main + next.main, whole: self.whole.max(self.main + next.whole) }
    }

    fn or(self, other: Self) -> Self {
        Self { main: self.main.max(other.main), whole: self.whole.max(other.whole) }
    }

    fn is_nothing(self) -> bool {
        self.whole <= 0.0
    }
}

/// How many ticks a handler takes at most, with all that it puts off; none where that can't be told.
#[must_use]
pub fn ticks_of(unit: &ScriptUnit, handler: usize, tick_rate: f64) -> Option<f64> {
    let mut clock = Clock { unit, tick_rate, calls: Vec::new(), known: FxHashMap::default() };
    Some(clock.block(&unit.tree.handlers[handler].body)?.whole)
}

struct Clock<'a> {
    unit: &'a ScriptUnit,
    tick_rate: f64,
    /// The procedures that are being looked through.
    calls: Vec<ProcId>,
    /// How long the others take.
    known: FxHashMap<ProcId, Option<Length>>,
}

impl Clock<'_> {
    /// How long a block takes; none where that can't be told.
    fn block(&mut self, block: &Block) -> Option<Length> {
        block.statements.iter().try_fold(Length::default(), |length, next| Some(length.then(self.statement(next)?)))
    }

    fn statement(&mut self, statement: &Statement) -> Option<Length> {
        match &statement.kind {
            StatementKind::If { arms, otherwise } | StatementKind::Match { arms, otherwise, .. } => {
                self.longest(arms.iter().map(|arm| &arm.body).chain(otherwise))
            }
            StatementKind::Repeat { count, body } => {
                let once = self.block(body)?;
                if once.is_nothing() { Some(once) } else { self.times(*count, once) }
            }
            StatementKind::While { body, .. } | StatementKind::For { body, .. } => {
                self.block(body).filter(|length| length.is_nothing())
            }
            StatementKind::Wait(duration) => self.ticks(duration).map(Length::of),
            StatementKind::After { delay, body } => {
                let whole = self.ticks(delay)? + self.block(body)?.whole;
                Some(Length { main: 0.0, whole })
            }
            StatementKind::WaitUntil(_) | StatementKind::Ask { .. } => None,
            StatementKind::Call(call) => self.call(*call),
            _ => Some(Length::default()),
        }
    }

    fn longest<'b>(&mut self, mut blocks: impl Iterator<Item = &'b Block>) -> Option<Length> {
        blocks.try_fold(Length::default(), |length, block| Some(length.or(self.block(block)?)))
    }

    /// So many times the same, where the count is written out.
    fn times(&self, count: ExprId, once: Length) -> Option<Length> {
        let ExprKind::Int(count) = self.unit.tree.expr(count).kind else { return None };
        #[allow(clippy::cast_precision_loss, reason = "a count of rounds beyond 2^53 lasts for ever")]
        let count = count.max(0) as f64;
        let before = Length::of(once.main * (count - 1.0).max(0.0));
        Some(if count > 0.0 { before.then(once) } else { Length::default() })
    }

    /// A wait of no time lets others in as well, so that it counts as one.
    fn ticks(&self, duration: &Duration) -> Option<f64> {
        Some(duration.ticks(self.tick_rate)?.max(1.0))
    }

    fn call(&mut self, call: ExprId) -> Option<Length> {
        let Meaning::Procedure(id) = self.unit.meaning(call) else { return Some(Length::default()) };
        if let Some(&known) = self.known.get(&id) {
            return known;
        }
        if self.calls.contains(&id) || self.calls.len() == MOST_DEPTH {
            return None;
        }
        self.calls.push(id);
        let unit = self.unit;
        let length = self.block(&unit.tree.procedures[id.index()].body);
        self.calls.pop();
        self.known.insert(id, length);
        length
    }
}
