//! `range/limit-skipped`: a test for one value of a variable, where a step of it goes past that value without landing on it.

use crate::finding::{Finding, Level, RuleName};
use crate::flow::engine::{Event, Move};
use crate::flow::value::{Num, Value};
use crate::project::{Cell, CellId, Meaning, Place, ScriptUnit};
use crate::registry::{Bound, End, Overflow};
use crate::rules::Facts;
use crate::rules::{Example, Rule};
use crate::script::ast::*;
use crate::source::Span;
use rayon::prelude::*;
use rustc_hash::{FxHashMap, FxHashSet};
use std::cell::OnceCell;

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("range/limit-skipped"),
    level: Level::Warning,
    means: "A test for one value of a variable, where a step of it goes past that value without landing on it.",
    hurts: "5, 3, 1, -1: the test for 0 is jumped over, and the count goes on for ever.",
    bad: Example {
        registry: r#"[variables.tide.left]
type = "int"
scope = "global"
default = 5
"#,
        script: r#"script tides for tide

on bell {
    left -= 2
    if left == 0 {
        show "Low water"
    }
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.left]
type = "int"
scope = "global"
default = 5
"#,
        script: r#"script tides for tide

on bell {
    left -= 2
    if left <= 0 {
        show "Low water"
    }
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    // A step that is reported as leaving the range is the mistake; what it jumps over follows from it.
    let skipped = skipped(facts, false);
    skipped.iter().map(|skip| word(facts, skip)).collect()
}

/// A test for one value, and a step that goes past it.
pub struct Skip<'f> {
    unit: &'f ScriptUnit,
    test: ExprId,
    cell: CellId,
    value: f64,
    stepping: &'f ScriptUnit,
    step: &'f Move,
}

impl Skip<'_> {
    /// Whether this is a test of that script.
    #[must_use]
    pub fn is(&self, unit: &ScriptUnit, test: ExprId) -> bool {
        self.test == test && std::ptr::eq(self.unit, unit)
    }
}

/// The tests that a step goes past: where that is reported as leaving the range, or where it is not.
#[must_use]
pub fn skipped<'f>(facts: &'f Facts<'_>, reported: bool) -> Vec<Skip<'f>> {
    let moves = moves(facts);
    facts.project.scripts.par_iter().flat_map_iter(|unit| skipped_in(facts, unit, &moves, reported)).collect()
}

fn skipped_in<'f>(facts: &'f Facts<'_>, unit: &'f ScriptUnit, moves: &Moves<'f>, reported: bool) -> Vec<Skip<'f>> {
    let mut found = Vec::new();
    for (test, cell, value) in tests(facts, unit) {
        let steps = moves.get(&cell).map_or(&[][..], Vec::as_slice);
        if steps.is_empty() || has_mistaken_entry(facts, cell) {
            continue;
        }
        let ends = [false, true].map(|leaves| ends(facts, cell, leaves));
        let ways = OnceCell::new();
        // Others have not seen what the handler gave it on the way.
        let from = |step: &Stepped<'_>| {
            let asks_itself = || {
                let ways = ways.get_or_init(|| unit.ways_to(unit.tree.expr(test).span));
                std::ptr::eq(step.unit, unit) && ways.iter().any(|&at| step.handler.contains(at))
            };
            let origin = step.by.origin;
            if origin.is_given() && asks_itself() { origin.all() } else { origin.seen }
        };
        let skips = |step: &Stepped<'_>| {
            let from = from(step);
            // A step that keeps to the range goes past nothing at its ends.
            let inside = crosses(step, value, from, ends[usize::from(step.leaves)]);
            let is_skip = if reported { !inside && crosses(step, value, from, NO_ENDS) } else { inside };
            is_skip && !lands(facts, step.by, value) && !goes_round(facts, step.by, steps)
        };
        if let Some(step) = steps.iter().filter(|step| step.leaves || !reported).find(|step| skips(step)) {
            found.push(Skip { unit, test, cell, value, stepping: step.unit, step: step.by });
        }
    }
    found
}

/// A step, and whether it is reported as leaving its range.
struct Stepped<'f> {
    unit: &'f ScriptUnit,
    /// The handler that takes it.
    handler: Span,
    by: &'f Move,
    leaves: bool,
}

/// The steps of each cell.
type Moves<'f> = FxHashMap<CellId, Vec<Stepped<'f>>>;

fn moves<'f>(facts: &'f Facts<'_>) -> Moves<'f> {
    let mut moves = Moves::default();
    for handler in facts.handlers() {
        if facts.world.tests_unread(handler.id) {
            continue; // A test that means nothing may keep the step from it.
        }
        let outside = |event: &Event| if let Event::Outside { at, .. } = event { Some(*at) } else { None };
        let outside: FxHashSet<Span> = handler.found.events.iter().filter_map(outside).collect();
        for by in &handler.found.moves {
            let (unit, leaves) = (handler.unit, outside.contains(&by.at));
            let step = Stepped { unit, handler: handler.tree.span, by, leaves };
            moves.entry(by.cell).or_default().push(step);
        }
    }
    moves
}

/// Whether something is wrong in the entry of a cell: where its range ends nobody can tell.
fn has_mistaken_entry(facts: &Facts<'_>, cell: CellId) -> bool {
    matches!(facts.project.cells[cell.index()], Cell::Variable(id) if facts.registry().mistaken.contains(&id))
}

/// The ends of a range, as far as they are known.
type Ends = (Option<f64>, Option<f64>);

const NO_ENDS: Ends = (None, None);

/// The ends of a cell's range that are numbers; for a step that leaves it also those that are variables, since what it passes
/// may be beyond the least of them.
fn ends(facts: &Facts<'_>, cell: CellId, leaves: bool) -> Ends {
    let Cell::Variable(id) = facts.project.cells[cell.index()] else { return NO_ENDS };
    let variable = facts.registry().var(id);
    let number = |bound: &Option<Bound>, end: End| match bound.as_ref()? {
        Bound::Number(value) => Some(*value),
        Bound::Variable(other) if leaves => match &facts.world.reach[CellId(other.0).index()] {
            Value::Num(num) if end == End::Min => Some(num.hi),
            Value::Num(num) => Some(num.lo),
            _ => None,
        },
        Bound::Variable(_) => None,
    };
    (number(&variable.min, End::Min), number(&variable.max, End::Max))
}

/// Whether a step, of a number that came from a range, goes from one side of a value to the other within these ends, upwards or downwards.
fn crosses(&Stepped { by: step, leaves, .. }: &Stepped<'_>, value: f64, from: (f64, f64), (min, max): Ends) -> bool {
    let (low, high) = step.by;
    let between = |lo: f64, hi: f64| step.before.meet(&Num::range(lo.next_up(), hi.next_down(), false)).is_some();
    // From where the least of the steps does not leave the range.
    let last = max.filter(|_| leaves).map_or(value, |max| value.min((max - low.max(0.0)).next_up()));
    let first = min.filter(|_| leaves).map_or(value, |min| value.max((min - high.min(0.0)).next_down()));
    let (is_top, is_bottom) = (max.is_some_and(|max| value >= max), min.is_some_and(|min| value <= min));
    let (rises, falls) = (from.0 < value && value < step.settled.1, step.settled.0 < value && value < from.1);
    let up = high > 0.0 && !is_top && rises && between(value - high, last);
    let down = low < 0.0 && !is_bottom && falls && between(first, value - low);
    up || down
}

/// Whether a step goes from one end of all that a cell holds to the other, which it comes back from in smaller ones: `hour += 1`
/// and, past the last one, `hour -= 24`.
fn goes_round(facts: &Facts<'_>, step: &Move, all: &[Stepped<'_>]) -> bool {
    let Value::Num(reach) = &facts.world.reach[step.cell.index()] else { return false };
    let (low, high) = step.by;
    let is_whole = |by: f64| by >= reach.hi - reach.lo;
    let comes_back = |other: &Stepped<'_>| {
        let by = other.by.by;
        if high < 0.0 { by.0 > 0.0 && by.1 < -high } else { by.1 < 0.0 && -by.0 < low }
    };
    (high < 0.0 && is_whole(-high) || low > 0.0 && is_whole(low)) && all.iter().any(comes_back)
}

/// Whether a step that is cut at its end lands on a value on the way there: the end itself, from which nothing leads back, is
/// no place to step from.
fn lands(facts: &Facts<'_>, step: &Move, value: f64) -> bool {
    let by = if step.by.1 > 0.0 { step.by.1 } else { step.by.0 };
    let effects = &facts.world.effects[step.cell.index()];
    let back = effects.iter().any(|effect| if by > 0.0 { effect.down } else { effect.up });
    let both = step.by.1 > 0.0 && step.by.0 < 0.0;
    let clamps = |id| facts.registry().var(id).overflow == Overflow::Clamp;
    let is_cut = step.cut || facts.project.variable_of(step.cell).is_some_and(clamps);
    is_cut && !back && !both && starts(facts, step.cell).iter().any(|start| (value - start) % by == 0.0)
}

/// The numbers that a cell starts as, its instances' own among them.
fn starts(facts: &Facts<'_>, cell: CellId) -> Vec<f64> {
    let registry = facts.registry();
    match facts.project.cells[cell.index()] {
        Cell::Variable(id) => {
            let variable = registry.var(id);
            let own = registry.instances_of(variable.owner).filter_map(|instance| registry.start_of(id, instance));
            own.chain(&variable.default).filter_map(|value| value.as_number()).collect()
        }
        Cell::Private(script, at) => {
            let unit = facts.project.script(script);
            let start = unit.tree.privates[at as usize].start.and_then(|start| constant(facts, unit, start));
            start.into_iter().collect()
        }
    }
}

/// Tests of a variable for one value.
fn tests(facts: &Facts<'_>, unit: &ScriptUnit) -> Vec<(ExprId, CellId, f64)> {
    let mut found = Vec::new();
    for (at, expr) in (0u32..).zip(&unit.tree.exprs) {
        let ExprKind::Binary(BinaryOp::Equal | BinaryOp::NotEqual, left, right) = &expr.kind else { continue };
        for (variable, other) in [(*left, *right), (*right, *left)] {
            if let (Some(cell), Some(value)) = (tested(facts, unit, variable), constant(facts, unit, other)) {
                found.push((ExprId(at), cell, value));
                break;
            }
        }
    }
    let bodies = unit.tree.handlers.iter().map(|handler| &handler.body);
    for body in bodies.chain(unit.tree.procedures.iter().map(|procedure| &procedure.body)) {
        walk(body, &mut |statement| {
            if let StatementKind::Match { subject, arms, otherwise: None } = &statement.kind
                && let Some(cell) = tested(facts, unit, *subject)
            {
                found.extend(
                    arms_without_neighbours(facts, unit, arms).into_iter().map(|(test, value)| (test, cell, value)),
                );
            }
        });
    }
    found
}

/// The arms whose neighbouring values no other arm deals with.
fn arms_without_neighbours(facts: &Facts<'_>, unit: &ScriptUnit, arms: &[Arm]) -> Vec<(ExprId, f64)> {
    let tests = arms.iter().flat_map(|arm| &arm.tests);
    let values: Vec<(ExprId, f64)> =
        tests.filter_map(|&test| constant(facts, unit, test).map(|value| (test, value))).collect();
    let bits = |value: f64| (value + 0.0).to_bits(); // There are two zeros.
    let all: FxHashSet<u64> = values.iter().map(|&(_, value)| bits(value)).collect();
    let has = |wanted: f64| all.contains(&bits(wanted));
    values.iter().copied().filter(|&(_, value)| !has(value - 1.0) && !has(value + 1.0)).collect()
}

fn tested(facts: &Facts<'_>, unit: &ScriptUnit, expr: ExprId) -> Option<CellId> {
    match unit.meaning(expr) {
        Meaning::Value(place) if unit.ty(expr).is_numeric() => facts.project.cell_of(unit, place),
        _ => None,
    }
}

fn constant(facts: &Facts<'_>, unit: &ScriptUnit, expr: ExprId) -> Option<f64> {
    #[allow(clippy::cast_precision_loss, reason = "a value compared with")]
    match &unit.tree.expr(expr).kind {
        ExprKind::Int(value) => return Some(*value as f64),
        ExprKind::Float(value) => return Some(*value),
        ExprKind::Unary(UnaryOp::Minus, inner) => return constant(facts, unit, *inner).map(|value| -value),
        _ => {}
    }
    let cell = match unit.meaning(expr) {
        Meaning::Value(place) => facts.project.cell_of(unit, place)?,
        Meaning::Bound(place, end) => match unit.place(place) {
            Place::Variable(variable, _) => match facts.registry().var(variable).bound(end)? {
                Bound::Number(value) => return Some(*value),
                Bound::Variable(bound) => CellId(bound.0),
            },
            _ => return None,
        },
        _ => return None,
    };
    match &facts.world.reach[cell.index()] {
        Value::Num(num) if !facts.is_written(cell) => num.single(),
        _ => None,
    }
}

fn word(facts: &Facts<'_>, skip: &Skip<'_>) -> Finding {
    let &Skip { unit, test, cell, value, stepping: at, step } = skip;
    let name = facts.cell_name(cell);
    let short = name.rsplit('.').next().unwrap_or(&name).to_owned();
    let statement = facts.project.text(at, step.at).lines().next().unwrap_or("").trim().to_owned();
    let down = step.by.0 < 0.0;
    let text = facts.project.text(unit, unit.tree.expr(test).span);
    let value = crate::words::number(value);
    let message =
        format!("`{statement}` can take `{short}` past {value} without landing on it, and `{text}` then misses it");
    let (below, above) = (format!("{short} <= {value}"), format!("{short} >= {value}"));
    let mut finding = Finding::new(RULE.name, unit.at(unit.tree.expr(test).span), message);
    finding.variable = facts.project.variable_of(cell).map(|id| facts.registry().identity(id));
    finding.help(format!("write `{}`", if down { below } else { above })).with(at.at(step.at), "stepped here")
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn threes_jump_over_zero() {
        expect(
            r#"[variables.tide.left]
type = "int"
scope = "global"
default = 10
engine = "reads"
"#,
            &[r#"script tides for tide

on bell {
    left -= 3
    if left == 0 { // ~ range/limit-skipped
        note "low"
    }
}
"#],
        );
    }

    #[test]
    fn a_clock_that_goes_round_passes_nothing_on_its_way_back() {
        let judged = |step: &str, test: &str| {
            let script = format!(
                "script tides for tide\n\non every 5s {{\n    {step}\n    if {test}\n        note \"noon\"\n    }}\n}}\n"
            );
            expect(
                "[variables.tide.hour]\ntype = \"int\"\nscope = \"global\"\ndefault = 6\nmin = 0\nmax = 23\nengine = \"reads\"\n",
                &[&script],
            );
        };
        judged("hour += 1\n    if hour >= 24 { hour -= 24 }", "hour == 12 {");
        judged("hour += 2\n    if hour > 23 { hour -= 24 }", "hour == 12 {");
        judged("hour -= 1\n    if hour < 0 { hour += 24 }", "hour == 12 {");
        judged("hour = (hour + 1) % 24", "hour == 12 {");
        judged("hour = (hour - 1) % (hour.max + 1)", "hour == 12 {");
        judged("let next = hour % 12 + 1\n    hour = next", "hour == 9 {");
        judged("hour += 2\n    if hour > 23 { hour -= 24 }", "hour == 13 { // ~ range/limit-skipped");
        judged("hour -= 5\n    if hour < 0 { hour = 23 }", "hour == 2 { // ~ range/limit-skipped");
        judged("hour = (hour + 5) % 24", "hour == 12 { // ~ range/limit-skipped");
    }

    #[test]
    fn a_drawn_step_is_now_this_far_and_now_that() {
        let judged = |step: &str, told: &str| {
            let script = format!(
                "script tides for tide

on bell {{
    left -= {step}
    if left == 0 {{{told}
        note \"low\"
    }}
}}
"
            );
            expect(
                "[variables.tide.left]\ntype = \"int\"\nscope = \"global\"\ndefault = 10\nengine = \"reads\"\n",
                &[&script],
            );
        };
        judged("random(1, 3)", " // ~ range/limit-skipped");
        judged("random(0, 1)", "");
        judged("random(1, 1) * 5", "");
    }

    #[test]
    fn a_step_that_keeps_to_the_range_passes_no_end_of_it() {
        expect(
            r#"[variables.tide.marks]
type = "int"
scope = "global"
default = 0
min = 0
max = 20
engine = "reads"
[signals.gust]
from = "engine"
to = "all"
parameters = { force = { type = "int", min = 0, max = 9 } }
"#,
            &[r#"script tides for tide

on gust(force) {
    if marks + 2 * force <= 20 {
        repeat force {
            marks += 2
        }
    }
    if marks + force <= 20 {
        repeat force {
            marks += 2 // ~ range/can-exceed
        }
    }
    if marks == 20 {
        marks = 0
    }
}
"#],
        );
    }

    #[test]
    fn the_limit_that_a_step_is_cut_at_is_landed_on_from_either_side() {
        let judged = |step: &str, told: &str| {
            let script = format!(
                "script tides for tide\n\non gust(force) {{\n    marks += force\n    {step}\n}}\n\non every 5s {{\n    if marks == 20 {{\n        marks = 0\n    }}\n    if marks == 17 {{{told}\n        note \"nearly\"\n    }}\n}}\n"
            );
            expect(
                r#"[variables.tide.marks]
type = "int"
scope = "global"
default = 0
min = 0
max = 20
[signals.gust]
from = "engine"
to = "all"
parameters = { force = { type = "int", min = 0, max = 9 } }
"#,
                &[&script],
            );
        };
        judged("marks = min(marks + force, 20)", " // ~ range/limit-skipped");
        judged("marks += min(force, marks.max - marks)", " // ~ range/limit-skipped");
        judged("let room = 20 - marks\n    marks += min(room, 3)", " // ~ range/limit-skipped");
        judged("marks = max(min(marks + 2, 20), 3)", " // ~ range/limit-skipped");
    }

    #[test]
    fn what_only_the_handler_itself_sees_is_nothing_to_step_from() {
        let judged = |step: &str, told: &str| {
            let script = format!(
                "script tides for tide\n\non every 3s {{\n    {step}\n}}\n\non bell {{\n    if marks == 20 {{{told}\n        marks = 0\n    }}\n}}\n"
            );
            expect(
                "[variables.tide.marks]\ntype = \"int\"\nscope = \"global\"\ndefault = 20\nmin = 0\nmax = 30\nengine = \"reads\"\n",
                &[&script],
            );
        };
        judged("if marks < 20 { marks += 1 }", "");
        judged("if marks < 21 { marks += 1 }\n    if marks > 20 { marks -= 2 }", "");
        judged("if marks < 20 { marks = 25 }\n    if marks > 20 { marks -= 10 }", "");
        judged("if marks < 22 { marks += 3 }\n    if marks > 21 { marks -= 2 }", " // ~ range/limit-skipped");
    }

    #[test]
    fn what_a_handler_gives_and_steps_it_asks_for_itself() {
        let judged = |start: &str, told: &str| {
            let script = format!(
                "script tides for tide\n\nprivate left: int = 0\n\nproc is_over() -> bool {{\n    return left == 0{told}\n}}\n\non bell {{\n    left = {start}\n    repeat 5 {{\n        left -= 3\n        if left == 0 {{{told}\n            break\n        }}\n    }}\n}}\n\non touched(other) {{\n    left = {start}\n    repeat 5 {{\n        left -= 3\n        if is_over() {{\n            break\n        }}\n    }}\n}}\n"
            );
            expect("", &[&script]);
        };
        judged("9", "");
        judged("10", " // ~ range/limit-skipped");
    }

    #[test]
    fn what_is_passed_before_the_range_is_left() {
        expect(
            r#"[variables.tide.marks]
type = "int"
scope = "global"
default = 0
min = 0
max = 100
engine = "reads"

[variables.tide.oil]
type = "int"
scope = "global"
default = 100
min = 0
max = 100
overflow = "clamp"
engine = "reads"
"#,
            &[r#"script tides for tide

on bell {
    marks += 10 // ~ range/can-exceed
    oil -= 3
}

on every 5s {
    if marks == 95 { note "nearly" } // ~ range/limit-skipped
    if marks == 100 { note "all" }
    if oil == 1 { note "the last but one" }
    if oil == 2 { note "low" } // ~ range/limit-skipped
}
"#],
        );
    }

    #[test]
    fn steps_that_land_or_are_stopped_are_fine() {
        expect(
            r#"[variables.tide.left]
type = "int"
scope = "global"
default = 10
engine = "reads"

[variables.tide.marks]
type = "int"
scope = "global"
default = 9
min = 0
max = 9
engine = "reads"
"#,
            &[r#"script tides for tide

on bell {
    left -= 1
    if left == 0 {
        note "low"
    }
}

on touched(other) {
    marks -= 2
    if marks < 0 {
        marks = 0
    }
    if marks == 0 {
        note "none left"
    }
}
"#],
        );
    }
}
