//! The conditions that stand between the beginning of a body and a place in it.

use crate::script::ast::*;
use crate::source::Span;
use smallvec::SmallVec;

/// A condition that a way may have to pass.
pub struct Guard {
    /// The condition.
    pub test: ExprId,
    /// How it has to come out there, if that is known.
    needed: Option<bool>,
    before: Before,
}

/// What a condition stands before.
enum Before {
    /// What stands in a stretch.
    Within(Span),
    /// What comes behind it, since it leads out, or waits.
    Behind(Nested),
}

/// A statement with the block that it stands in, the one that this belongs to with its block, and so on outwards.
type Nested = SmallVec<[(Span, Span); 4]>;

impl Guard {
    /// Whether it stands before a place.
    #[must_use]
    pub fn guards(&self, at: Span) -> bool {
        match &self.before {
            Before::Within(span) => span.contains(at),
            Before::Behind(nested) => {
                let common = nested.iter().find(|(_, block)| block.contains(at));
                common.is_some_and(|(statement, _)| statement.end <= at.start)
            }
        }
    }

    /// How it has to come out where a place that it stands before is reached, if that is known: not behind a branch that it
    /// stands in, since other ways lead there.
    #[must_use]
    pub fn needed_at(&self, at: Span) -> Option<bool> {
        match &self.before {
            Before::Behind(nested) if !nested.first().is_some_and(|(_, block)| block.contains(at)) => None,
            _ => self.needed,
        }
    }
}

/// The conditions of a body: found once, since there may be many places to ask for.
#[must_use]
pub fn guards(body: &Block) -> Vec<Guard> {
    let mut guards = Vec::new();
    add_guards(body, &Nested::new(), &mut guards);
    guards
}

fn add_guards(block: &Block, outside: &Nested, guards: &mut Vec<Guard>) {
    for statement in &block.statements {
        let nested: Nested = std::iter::once((statement.span, block.span)).chain(outside.iter().copied()).collect();
        let mut within =
            |test: ExprId, span: Span| guards.push(Guard { test, needed: Some(true), before: Before::Within(span) });
        match &statement.kind {
            StatementKind::If { arms, otherwise } => guards_of_if(&nested, arms, otherwise.as_ref(), guards),
            StatementKind::While { condition, body } => within(*condition, body.span),
            StatementKind::For { filter: Some(filter), body, .. } => within(*filter, body.span),
            StatementKind::Ask { choices, .. } => {
                choices
                    .iter()
                    .filter_map(|choice| Some((choice.when?, choice.body.span)))
                    .for_each(|(a, b)| within(a, b));
            }
            StatementKind::WaitUntil(test) => {
                guards.push(Guard { test: *test, needed: Some(true), before: Before::Behind(nested.clone()) });
            }
            _ => {}
        }
        for inner in blocks(statement) {
            add_guards(inner, &nested, guards);
        }
    }
}

fn guards_of_if(nested: &Nested, arms: &[Arm], otherwise: Option<&Block>, guards: &mut Vec<Guard>) {
    let end = nested.first().map_or(0, |(statement, _)| statement.end);
    let last_leads_out = otherwise.is_some_and(leads_out);
    let any_leads_out = last_leads_out || arms.iter().any(|arm| leads_out(&arm.body));
    for arm in arms {
        let test = arm.tests[0];
        let rest = Span { start: arm.body.span.end, end };
        guards.push(Guard { test, needed: Some(true), before: Before::Within(arm.body.span) });
        guards.push(Guard { test, needed: Some(false), before: Before::Within(rest) });
        if any_leads_out {
            let needed = match leads_out(&arm.body) {
                true => Some(false),
                false => (last_leads_out && arms.len() == 1).then_some(true),
            };
            guards.push(Guard { test, needed, before: Before::Behind(nested.clone()) });
        }
    }
}

fn leads_out(block: &Block) -> bool {
    let last = block.statements.last().map(|statement| &statement.kind);
    matches!(last, Some(StatementKind::Return(_) | StatementKind::Break | StatementKind::Restart))
}
