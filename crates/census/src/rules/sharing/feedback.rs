//! `sharing/feedback`: handlers `on changed` set each other off, or themselves, and nothing is certain to end it.

use super::bodies::Bodies;
use super::rounds::{Write, rounds};
use crate::finding::{Finding, Level, RuleName};
use crate::flow::access::{Access, AccessKind, names, walk_expr};
use crate::flow::called;
use crate::flow::engine::Pause;
use crate::flow::graph::{Block, BlockId, StepKind};
use crate::flow::world::HandlerId;
use crate::project::builtin::Builtin;
use crate::project::{CellId, Meaning, Place, ScriptUnit};
use crate::registry::{Bound, End, Overflow, Type};
use crate::rules::Facts;
use crate::rules::facts::HandlerView;
use crate::rules::{Example, Rule};
use crate::script::ast::{AssignOp, BinaryOp, ExprId, ExprKind, LocalId, UnaryOp};
use crate::source::Span;
use rustc_hash::{FxHashMap, FxHashSet};
use std::cell::LazyCell;
use std::collections::VecDeque;
use std::collections::hash_map::Entry;

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("sharing/feedback"),
    level: Level::Warning,
    means: "Handlers `on changed` set each other off, or themselves, and nothing is certain to end it.",
    hurts: "The game stands still, or the number runs away.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0

[variables.tide.flow]
type = "int"
scope = "global"
default = 0
"#,
        script: "script tides for tide

on changed height {
    flow = height + 1
}

on changed flow {
    height = flow + 1
}
",
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0

[variables.tide.flow]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on changed height {
    flow = height + 1
}

on changed flow {
    note "{flow}"
}

on bell {
    height += 1
}
"#,
    },
    check: Some(check),
};

/// How many handlers a circle leads through at most.
const LONGEST: usize = 8;
/// How many circles are looked at.
const MOST_CIRCLES: usize = 1000;
/// How many locals a value is followed through; beyond, it is taken to depend on what changed.
const MOST_LOCALS: usize = 64;
/// How many handlers that answer a change are looked at.
const MOST_ANSWERS: usize = 64;

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let handlers: Vec<HandlerView<'_, '_>> =
        facts.handlers().filter(|handler| changed(facts, handler).is_some()).collect();
    let mut answers: FxHashMap<CellId, Vec<usize>> = FxHashMap::default();
    for (at, handler) in handlers.iter().enumerate() {
        changed(facts, handler).into_iter().for_each(|cell| answers.entry(cell).or_default().push(at));
    }
    let edges: Vec<Vec<Edge>> =
        handlers.iter().enumerate().map(|(from, handler)| edges(facts, (from, handler), &answers)).collect();
    let mut findings: Vec<Finding> = Vec::new();
    let endless =
        circles(&edges).into_iter().filter(|circle| !ends(circle) && !shuts_itself(facts, circle, &edges, &handlers));
    let links =
        endless.map(|circle| circle.iter().map(|edge| (edge.from, edge.cell, edge.by, edge.at)).collect::<Vec<_>>());
    let rounds = rounds(facts, &handlers).into_iter();
    let by = |write: &Write| (write.handler, write.cell, handlers[write.handler].id, write.at);
    let rounds = rounds.map(|round| round.iter().map(by).collect());
    for circle in links.chain(rounds) {
        let Some(&(_, cell, by, at)) = circle.iter().max_by_key(|(_, _, by, at)| (*by, *at)) else { continue };
        let unit = facts.handler(by).unit;
        let at = unit.at(at);
        if findings.iter().any(|finding| finding.at == at) {
            continue;
        }
        let mut names: Vec<String> = Vec::new();
        for cell in circle.iter().filter_map(|&(from, ..)| changed(facts, &handlers[from])) {
            let name = format!("`{}`", facts.cell_name(cell));
            if !names.contains(&name) {
                names.push(name);
            }
        }
        let message = if names.len() == 1 {
            format!("this answers the change of {} by changing it again, and nothing is certain to end it", names[0])
        } else {
            format!(
                "the changes of {} set each other off in a circle, and nothing is certain to end it",
                names.join(", ")
            )
        };
        let mut finding = Finding::new(RULE.name, at, message);
        finding.variable = facts.project.variable_of(cell).map(|id| facts.registry().identity(id));
        findings
            .push(finding.help("let one of the two follow the other, or write only where the value is really another"));
    }
    findings
}

/// Which way a number goes.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Way {
    Up,
    Down,
}

impl Way {
    fn opposite(self) -> Self {
        match self {
            Self::Up => Self::Down,
            Self::Down => Self::Up,
        }
    }
}

/// What a write makes of what it is worked out from.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Turn {
    /// A second pass writes nothing new.
    Ends,
    /// The value is handed on as it is.
    Copies,
    /// What changed, or the variable itself, is moved one way; perhaps only as far as a number.
    Moves { way: Way, itself: bool, stops: bool },
    /// Anything.
    Other,
}

/// A write by which one handler sets off another.
#[derive(Clone, Debug)]
struct Edge {
    from: usize,
    to: usize,
    cell: CellId,
    /// Who writes: the handler itself, or one that answers what it sends.
    by: HandlerId,
    at: Span,
    /// Where the handler itself brings that about.
    begun: Span,
    turn: Turn,
    /// How it works out its value from what changed alone, where that is whole or a flag.
    mirror: Option<Mirror>,
    /// What brings a test before the write to fail.
    held_by: Vec<Hold>,
}

/// `x + plus`, or `plus - x`; `not x` is `1 - x`.
#[derive(Clone, Copy, PartialEq, Debug)]
struct Mirror {
    turned: bool,
    plus: f64,
}

impl Mirror {
    const SAME: Self = Self { turned: false, plus: 0.0 };

    /// What comes of it if it is turned once more, for `-x`, and moved by so much.
    fn then(self, turned: bool, plus: f64) -> Self {
        Self { turned: self.turned != turned, plus: plus + if turned { -self.plus } else { self.plus } }
    }
}

/// A test that fails once a cell has gone far enough one way.
#[derive(Clone, PartialEq, Debug)]
struct Hold {
    cell: CellId,
    way: Way,
    /// What it is compared with: that must not go along.
    beside: Vec<CellId>,
}

/// Whether a circle is certain to come to its end: a pass writes nothing new, or all that changes goes one way, up to a
/// number or to a test that comes to fail.
fn ends(circle: &[Edge]) -> bool {
    let comes_back = || {
        let all =
            circle.iter().try_fold(Mirror::SAME, |all, edge| edge.mirror.map(|next| all.then(next.turned, next.plus)));
        all == Some(Mirror::SAME)
    };
    let copies = || circle.iter().all(|edge| edge.turn == Turn::Copies);
    if circle.iter().any(|edge| edge.turn == Turn::Ends) || copies() || comes_back() {
        return true;
    }
    let fails = |hold: &Hold, cell: CellId, way: Way| {
        (hold.cell, hold.way) == (cell, way) && !circle.iter().any(|edge| hold.beside.contains(&edge.cell))
    };
    let stops_itself = |edge: &Edge| match edge.turn {
        Turn::Moves { way, itself: true, stops } => {
            stops || edge.held_by.iter().any(|hold| fails(hold, edge.cell, way))
        }
        _ => false,
    };
    if circle.iter().any(stops_itself) {
        return true;
    }
    let way = circle.iter().find_map(|edge| match edge.turn {
        Turn::Moves { way, .. } => Some(way),
        _ => None,
    });
    let Some(way) = way else { return false };
    let along = |edge: &Edge| match edge.turn {
        Turn::Moves { way: other, .. } => other == way,
        turn => turn == Turn::Copies,
    };
    let held = |edge: &Edge| {
        let stops = matches!(edge.turn, Turn::Moves { stops: true, .. });
        stops || edge.held_by.iter().any(|hold| circle.iter().any(|other| fails(hold, other.cell, way)))
    };
    circle.iter().all(along) && circle.iter().any(held)
}

/// Whether some handler of a circle writes nothing when it is set off again, after all that it did the first time: a flag
/// that it raised keeps it out, say. What the others write may be anything by then.
fn shuts_itself(facts: &Facts<'_>, circle: &[Edge], edges: &[Vec<Edge>], handlers: &[HandlerView<'_, '_>]) -> bool {
    circle.iter().any(|edge| {
        let others = circle.iter().filter(|other| other.from != edge.from).map(|other| &handlers[other.from]);
        let reached = |(other, access): &(&HandlerView<'_, '_>, &Access)| {
            access.kind != AccessKind::Read && other.found.reached.contains_key(&access.statement)
        };
        let written: FxHashSet<CellId> = others
            .flat_map(|other| facts.accesses_of(other).map(move |access| (other, access)))
            .filter(reached)
            .map(|(_, access)| access)
            .map(|access| access.cell)
            .collect();
        let handler = &handlers[edge.from];
        let pauses = facts.world.pauses_from(handler.id, None);
        pauses.iter().filter(|pause| comes_after(handler, edge.begun, pause)).all(|pause| {
            let again = facts.world.again_with(handler.id, pause, |cell| !written.contains(&cell));
            edges[edge.from].iter().all(|edge| !again.contains_key(&edge.begun))
        })
    })
}

/// Whether a way leads from a statement of a handler to a pause; of those in procedures that is not looked into.
fn comes_after(handler: &HandlerView<'_, '_>, statement: Span, pause: &Pause) -> bool {
    let stands_in = |block: &Block| block.steps.iter().any(|step| step.span == statement);
    let home = handler.graph.blocks.iter().position(stands_in).and_then(|at| u32::try_from(at).ok());
    let ends = |block: &Block| {
        let is_last = block.exit.successors().is_empty() && block.exit_span.end == pause.at.end;
        is_last || block.steps.iter().any(|step| step.span == pause.at)
    };
    home.is_none_or(|home| handler.graph.from(BlockId(home)).any(ends))
}

pub(super) fn changed(facts: &Facts<'_>, handler: &HandlerView<'_, '_>) -> Option<CellId> {
    handler.unit.handlers[handler.index].changed.and_then(|place| facts.project.cell_of(handler.unit, place))
}

/// Who writes once a handler is set off: itself, and those that answer what it sends.
struct Hand<'p, 'f> {
    bodies: Bodies<'p, 'f>,
    /// Where the first handler sends, and what was tested before that.
    sent: Option<(Span, Vec<Hold>)>,
}

/// How many handlers that answer what is sent are looked at.
const MOST_HANDS: usize = 32;

fn hands<'p, 'f>(facts: &'f Facts<'p>, handler: &HandlerView<'p, 'f>) -> Vec<Hand<'p, 'f>> {
    let mut hands = vec![Hand { bodies: Bodies::new(facts, *handler), sent: None }];
    let mut at = 0;
    while let Some(hand) = hands.get(at) {
        let mut next = Vec::new();
        for step in hand.bodies.steps() {
            let StepKind::Send { signal: Some(signal), .. } = step.kind else { continue };
            if !hand.bodies.handler.found.reached.contains_key(&step.span) {
                continue;
            }
            let mut held_by = held_by(&hand.bodies, step.span);
            held_by.extend(hand.sent.iter().flat_map(|(_, before)| before.iter().cloned()));
            let begun = hand.sent.as_ref().map_or(step.span, |&(begun, _)| begun);
            next.extend(facts.world.answering(signal).iter().map(|&id| (id, begun, held_by.clone())));
        }
        for (id, begun, held_by) in next {
            if hands.len() < MOST_HANDS && hands.iter().all(|known| known.bodies.handler.id != id) {
                hands.push(Hand { bodies: Bodies::new(facts, facts.handler(id)), sent: Some((begun, held_by)) });
            }
        }
        at += 1;
    }
    hands
}

fn edges(
    facts: &Facts<'_>,
    (from, handler): (usize, &HandlerView<'_, '_>),
    answers: &FxHashMap<CellId, Vec<usize>>,
) -> Vec<Edge> {
    let mut edges = Vec::new();
    for Hand { bodies, sent } in hands(facts, handler) {
        let hand = bodies.handler;
        let movers = LazyCell::new(|| movers(&bodies));
        for access in facts.accesses_of(&hand).filter(|access| hand.found.reached.contains_key(&access.statement)) {
            let AccessKind::Write(op, value) = access.kind else { continue };
            let Some(answers) = answers.get(&access.cell) else { continue };
            if is_written_over(&bodies, access) {
                continue;
            }
            let heard = changed(facts, handler);
            let mut held_by = held_by(&bodies, access.statement);
            let mut turn = turn(&bodies, heard, access, op, value);
            let others = || movers.iter().filter(|mover| mover.cell != access.cell && Some(mover.cell) != heard);
            if turn == Turn::Ends && value.is_some_and(|value| goes_on(&bodies, others(), value, &held_by)) {
                turn = Turn::Other;
            }
            held_by.extend(sent.iter().flat_map(|(_, before)| before.iter().cloned()));
            let mirror = value.filter(|_| op == AssignOp::Set).and_then(|value| mirror(&bodies, heard, value));
            let itself = answers.iter().filter(|&&to| to == from);
            for &to in itself.chain(answers.iter().filter(|&&to| to != from)).take(MOST_ANSWERS) {
                edges.push(Edge {
                    from,
                    to,
                    cell: access.cell,
                    by: hand.id,
                    at: access.statement,
                    begun: sent.as_ref().map_or(access.statement, |&(begun, _)| begun),
                    turn,
                    mirror,
                    held_by: held_by.clone(),
                });
            }
        }
    }
    edges
}

fn turn(bodies: &Bodies<'_, '_>, heard: Option<CellId>, access: &Access, op: AssignOp, value: Option<ExprId>) -> Turn {
    let Some(value) = value.map(|value| bodies.behind(value)) else { return Turn::Ends };
    if op == AssignOp::Subtract && is_remainder(bodies.facts, bodies.handler.unit, access.cell, value) {
        return Turn::Ends;
    }
    let is_cut = |way: Way| is_clamped(bodies.facts, access.cell, way);
    let moves = |by: Option<Way>| by.map_or(Turn::Other, |way| Turn::Moves { way, itself: true, stops: is_cut(way) });
    match op {
        AssignOp::Set => {}
        AssignOp::Add => return moves(sign(bodies, value)),
        AssignOp::Subtract => return moves(sign(bodies, value).map(Way::opposite)),
        AssignOp::Multiply | AssignOp::Divide => return Turn::Other,
    }
    let of = [heard, Some(access.cell)];
    let depends = depends(bodies, value, &of, &mut FxHashSet::default());
    if !depends || settles(bodies.facts, bodies.handler.unit, access.cell, value) {
        return Turn::Ends;
    }
    moved(bodies, value, &of).map_or(Turn::Other, |(cell, by, stops)| match by {
        None if stops => Turn::Other,
        None => Turn::Copies,
        Some(way) => Turn::Moves { way, itself: cell == access.cell, stops: stops || is_cut(way) },
    })
}

/// Whether the same handler, in the same stretch, gives the place another value that has nothing to do with this one.
fn is_written_over(bodies: &Bodies<'_, '_>, access: &Access) -> bool {
    let unit = bodies.handler.unit;
    bodies.handler.graph.blocks.iter().any(|block| {
        let behind = block.steps.iter().skip_while(|step| step.span != access.statement).skip(1);
        let mut at_once =
            behind.take_while(|step| !matches!(step.kind, StepKind::Wait(_)) && called::by_step(unit, step).is_empty());
        at_once.any(|step| match step.kind {
            StepKind::Assign { place, axis: None, op: AssignOp::Set, value, .. } => {
                place == access.place && !names(unit, value, place)
            }
            _ => false,
        })
    })
}

/// What a handler steps whenever it runs, so that it is another at the next pass.
struct Mover {
    cell: CellId,
    /// Which way it goes, where that is one way.
    way: Option<Way>,
}

fn movers(bodies: &Bodies<'_, '_>) -> Vec<Mover> {
    let facts = bodies.facts;
    let steps = facts.accesses_of(&bodies.handler).filter_map(|access| {
        let AccessKind::Write(op, value) = access.kind else { return None };
        let is_reached = bodies.handler.found.reached.contains_key(&access.statement);
        let way = match turn(bodies, None, access, op, value) {
            Turn::Moves { way, stops: false, .. } => Some(way),
            Turn::Other => None,
            _ => return None,
        };
        let is_held =
            || held_by(bodies, access.statement).iter().any(|hold| (hold.cell, Some(hold.way)) == (access.cell, way));
        (is_reached && !is_held()).then_some(Mover { cell: access.cell, way })
    });
    steps.collect()
}

/// Whether a value that does not depend on what changed is another at each pass all the same, since what it depends on is
/// stepped on the way, and no test before it comes to fail by that.
fn goes_on<'m>(
    bodies: &Bodies<'_, '_>,
    mut movers: impl Iterator<Item = &'m Mover>,
    value: ExprId,
    held_by: &[Hold],
) -> bool {
    movers.any(|mover| {
        depends(bodies, value, &[Some(mover.cell)], &mut FxHashSet::default())
            && !held_by.iter().any(|hold| (hold.cell, Some(hold.way)) == (mover.cell, mover.way))
    })
}

/// How a value is worked out from what changed, without rounding: then a circle of such writes may come back to where it
/// began, as `down = not up` and `up = not down` do.
fn mirror(bodies: &Bodies<'_, '_>, heard: Option<CellId>, value: ExprId) -> Option<Mirror> {
    let unit = bodies.handler.unit;
    let mirror = |value: ExprId| mirror(bodies, heard, value);
    let value = bodies.behind(value);
    if !matches!(unit.ty(value), Type::Int | Type::Bool) {
        return None;
    }
    match &unit.tree.expr(value).kind {
        ExprKind::Path(_) => {
            let cell = bodies.facts.project.cell_of(unit, unit.place_of(value)?)?;
            (heard == Some(cell)).then_some(Mirror::SAME)
        }
        ExprKind::Unary(UnaryOp::Not, inner) => Some(mirror(*inner)?.then(true, 1.0)),
        ExprKind::Unary(UnaryOp::Minus, inner) => Some(mirror(*inner)?.then(true, 0.0)),
        ExprKind::Binary(op @ (BinaryOp::Add | BinaryOp::Subtract), left, right) => {
            let subtracts = *op == BinaryOp::Subtract;
            match (still(bodies, *left), still(bodies, *right)) {
                (None, Some(by)) => Some(mirror(*left)?.then(false, if subtracts { -by } else { by })),
                (Some(from), None) => Some(mirror(*right)?.then(subtracts, from)),
                _ => None,
            }
        }
        _ => None,
    }
}

/// Whether a cell that goes one way comes to a limit that stays where it is, and is cut to it.
fn is_clamped(facts: &Facts<'_>, cell: CellId, way: Way) -> bool {
    let end = if way == Way::Up { End::Max } else { End::Min };
    let stays = |bound: &Bound| match bound {
        Bound::Number(_) => true,
        Bound::Variable(id) => facts.world.fixed(CellId(id.0)).is_some(),
    };
    facts.project.variable_of(cell).is_some_and(|id| {
        let variable = facts.registry().var(id);
        variable.overflow == Overflow::Clamp && variable.bound(end).is_some_and(stays)
    })
}

/// The one of some cells that an expression hands on or moves: `x`, `x + 1`, `min(x + 1, 9)`; which way it moves it, and
/// whether only as far as a number.
fn moved(bodies: &Bodies<'_, '_>, value: ExprId, of: &[Option<CellId>]) -> Option<(CellId, Option<Way>, bool)> {
    let (facts, unit) = (bodies.facts, bodies.handler.unit);
    let inner = |value: ExprId| moved(bodies, value, of);
    match &unit.tree.expr(value).kind {
        ExprKind::Path(_) => {
            let cell = facts.project.cell_of(unit, unit.place_of(value)?)?;
            of.contains(&Some(cell)).then_some((cell, None, false))
        }
        ExprKind::Binary(op @ (BinaryOp::Add | BinaryOp::Subtract), left, right) => {
            let (cell, by, stops) = match op {
                BinaryOp::Add => inner(*left).or_else(|| inner(*right))?,
                _ => inner(*left)?,
            };
            let amount = if inner(*left).is_some() { *right } else { *left };
            let way = sign(bodies, amount)?;
            let way = if *op == BinaryOp::Add { way } else { way.opposite() };
            by.is_none_or(|by| by == way).then_some((cell, Some(way), stops))
        }
        ExprKind::Call(_, arguments) => {
            let stopped = match unit.meaning(value) {
                Meaning::Builtin(Builtin::Min) => &[Way::Up][..],
                Meaning::Builtin(Builtin::Max) => &[Way::Down][..],
                Meaning::Builtin(Builtin::Clamp) => &[Way::Up, Way::Down][..],
                _ => return None,
            };
            let (cell, by, stops) = arguments.iter().find_map(|&argument| inner(argument))?;
            let still = arguments.iter().filter(|&&argument| inner(argument).is_none());
            let still = still
                .filter(|&&argument| !facts.cells_in(unit, argument).iter().any(|&cell| of.contains(&Some(cell))))
                .count();
            (still + 1 == arguments.len()).then_some((cell, by, stops || by.is_some_and(|way| stopped.contains(&way))))
        }
        _ => None,
    }
}

/// The sign of an amount that always has the same.
fn sign(bodies: &Bodies<'_, '_>, amount: ExprId) -> Option<Way> {
    let (lo, hi) = match still(bodies, amount) {
        Some(number) => (number, number),
        None => {
            let place = bodies.handler.unit.place_of(bodies.behind(amount))?;
            let is_written = bodies
                .steps()
                .any(|step| matches!(step.kind, StepKind::Assign { place: written, .. } if written == place));
            bodies.facts.world.ends_at_beginning(bodies.handler.id, place).filter(|_| !is_written)?
        }
    };
    if lo > 0.0 { Some(Way::Up) } else { (hi < 0.0).then_some(Way::Down) }
}

/// A number that never changes.
fn still(bodies: &Bodies<'_, '_>, number: ExprId) -> Option<f64> {
    let (facts, unit) = (bodies.facts, bodies.handler.unit);
    let number = bodies.behind(number);
    match &unit.tree.expr(number).kind {
        #[allow(clippy::cast_precision_loss, reason = "beyond 2⁵³ a step is as good as one beside it")]
        ExprKind::Int(value) => Some(*value as f64),
        ExprKind::Float(value) => Some(*value),
        ExprKind::Unary(UnaryOp::Minus, inner) => Some(-still(bodies, *inner)?),
        _ => facts.world.fixed(facts.project.cell_of(unit, unit.place_of(number)?)?),
    }
}

/// The cells that make a test before a write fail once they have gone far enough, and which way.
fn held_by(bodies: &Bodies<'_, '_>, write: Span) -> Vec<Hold> {
    let unit = bodies.handler.unit;
    let tests = bodies.tests_before(write).into_iter();
    tests.flat_map(|(test, wanted)| fails_by(bodies.facts, unit, unit.behind(test), wanted)).collect()
}

/// The cells that, going one way, bring a test to come out otherwise than wanted.
fn fails_by(facts: &Facts<'_>, unit: &ScriptUnit, test: ExprId, wanted: bool) -> Vec<Hold> {
    let inner = |test: ExprId, wanted: bool| fails_by(facts, unit, test, wanted);
    match &unit.tree.expr(test).kind {
        ExprKind::Unary(UnaryOp::Not, test) => inner(unit.behind(*test), !wanted),
        ExprKind::Binary(op @ (BinaryOp::And | BinaryOp::Or), left, right) => {
            let (mut left, right) = (inner(*left, wanted), inner(*right, wanted));
            if (*op == BinaryOp::And) == wanted {
                left.extend(right);
            } else {
                left.retain(|hold| right.contains(hold));
            }
            left
        }
        ExprKind::Binary(op, left, right) => {
            let ways: &[Way] =
                match (op, wanted) {
                    (BinaryOp::Less | BinaryOp::LessEqual, true)
                    | (BinaryOp::Greater | BinaryOp::GreaterEqual, false) => &[Way::Up],
                    (BinaryOp::Greater | BinaryOp::GreaterEqual, true)
                    | (BinaryOp::Less | BinaryOp::LessEqual, false) => &[Way::Down],
                    (BinaryOp::Equal, true) | (BinaryOp::NotEqual, false) => &[Way::Up, Way::Down],
                    _ => &[],
                };
            let holds = |side: ExprId, other: ExprId, turned: bool| {
                let cell = unit.place_of(side).and_then(|place| facts.project.cell_of(unit, place));
                let beside = facts.cells_in(unit, other);
                let way = move |&way: &Way| if turned { way.opposite() } else { way };
                cell.into_iter().flat_map(move |cell| {
                    let beside = beside.clone();
                    ways.iter().map(move |one| Hold { cell, way: way(one), beside: beside.clone() })
                })
            };
            holds(*left, *right, false).chain(holds(*right, *left, true)).collect()
        }
        _ => Vec::new(),
    }
}

/// Whether a value depends on what changed, or is drawn; `seen` are the locals that are looked at already.
fn depends(bodies: &Bodies<'_, '_>, value: ExprId, on: &[Option<CellId>], seen: &mut FxHashSet<LocalId>) -> bool {
    let unit = bodies.handler.unit;
    let mut found = false;
    let mut locals = Vec::new();
    walk_expr(unit, value, &mut |expr| match unit.meaning(expr) {
        Meaning::Value(place) | Meaning::Axis(place, _) => match unit.place(place) {
            Place::Was => found = true,
            Place::Local(local) => locals.push(local),
            _ => found |= on.contains(&bodies.facts.project.cell_of(unit, place)),
        },
        Meaning::Builtin(Builtin::Random | Builtin::Chance) | Meaning::Procedure(_) => found = true,
        _ => {}
    });
    let given = |local: LocalId, seen: &mut FxHashSet<LocalId>| {
        seen.len() >= MOST_LOCALS
            || seen.insert(local) && bodies.given(local).into_iter().any(|value| depends(bodies, value, on, seen))
    };
    found || locals.into_iter().any(|local| given(local, seen))
}

/// `x % …` of the variable itself: `x -= x % 5` leaves nothing to take away a second time.
fn is_remainder(facts: &Facts<'_>, unit: &ScriptUnit, cell: CellId, value: ExprId) -> bool {
    let ExprKind::Binary(BinaryOp::Remainder, left, right) = unit.tree.expr(value).kind else { return false };
    let is_it = unit.place_of(left).and_then(|place| facts.project.cell_of(unit, place)) == Some(cell);
    is_it && !facts.cells_in(unit, right).contains(&cell)
}

/// `min(x, …)`, `max(x, …)`, `clamp(x, …)`, `x % …`, `x - x % …` and the rounding functions of the variable itself: done twice
/// they do no more.
fn settles(facts: &Facts<'_>, unit: &ScriptUnit, cell: CellId, value: ExprId) -> bool {
    let is_it = |expr: ExprId| unit.place_of(expr).and_then(|place| facts.project.cell_of(unit, place)) == Some(cell);
    let arguments = match &unit.tree.expr(value).kind {
        ExprKind::Binary(BinaryOp::Remainder, ..) => return is_remainder(facts, unit, cell, value),
        ExprKind::Binary(BinaryOp::Subtract, left, right) => {
            return is_it(*left) && is_remainder(facts, unit, cell, *right);
        }
        ExprKind::Call(_, arguments) => arguments,
        _ => return false,
    };
    let known = matches!(
        unit.meaning(value),
        Meaning::Builtin(
            Builtin::Min
                | Builtin::Max
                | Builtin::Clamp
                | Builtin::Floor
                | Builtin::Ceil
                | Builtin::Round
                | Builtin::Abs
        )
    );
    let mut others = arguments.iter().filter(|&&argument| !is_it(argument));
    let others = others.all(|&argument| !facts.cells_in(unit, argument).contains(&cell));
    known && arguments.iter().any(|&argument| is_it(argument)) && others
}

/// Simple circles, each found from its first handler, up to eight handlers long.
fn circles(edges: &[Vec<Edge>]) -> Vec<Vec<Edge>> {
    let mut back: Vec<Vec<usize>> = vec![Vec::new(); edges.len()];
    edges.iter().flatten().for_each(|edge| back[edge.to].push(edge.from));
    let itself = edges.iter().flatten().filter(|edge| edge.from == edge.to);
    let alone: Vec<Vec<Edge>> = itself.map(|edge| vec![edge.clone()]).collect();
    let mut found = Vec::new();
    for start in 0..edges.len() {
        if found.len() >= MOST_CIRCLES {
            break;
        }
        let way_back = ways_back(start, &back);
        extend(edges, start, &way_back, &mut Vec::new(), &mut found);
    }
    alone.into_iter().chain(found).collect()
}

/// How many edges lead from each handler back to `start` at least, by later handlers alone: circles are found from their
/// first handler on.
fn ways_back(start: usize, back: &[Vec<usize>]) -> FxHashMap<usize, usize> {
    let mut ways = FxHashMap::from_iter([(start, 0)]);
    let mut open = VecDeque::from([start]);
    while let Some(at) = open.pop_front() {
        let way = ways[&at] + 1;
        for &from in back[at].iter().filter(|&&from| from > start && way < LONGEST) {
            if let Entry::Vacant(unknown) = ways.entry(from) {
                unknown.insert(way);
                open.push_back(from);
            }
        }
    }
    ways
}

/// Goes on from the end of a path, as long as it can come back to where it began.
fn extend(
    edges: &[Vec<Edge>],
    start: usize,
    way_back: &FxHashMap<usize, usize>,
    path: &mut Vec<Edge>,
    found: &mut Vec<Vec<Edge>>,
) {
    let at = path.last().map_or(start, |edge| edge.to);
    for edge in &edges[at] {
        let can_come_back = way_back.get(&edge.to).is_some_and(|way| path.len() + way < LONGEST);
        if edge.from == edge.to || !can_come_back || found.len() >= MOST_CIRCLES {
            continue;
        }
        path.push(edge.clone());
        if edge.to == start {
            found.push(path.clone());
        } else if !path.iter().any(|other| other.from == edge.to) {
            extend(edges, start, way_back, path, found);
        }
        path.pop();
    }
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn two_that_push_each_other_on() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
engine = "reads"
[variables.tide.flow]
type = "int"
scope = "global"
default = 0
engine = "reads"
"#,
            &[r#"script tides for tide

on changed height {
    flow = height + 1
}

on changed flow {
    height = flow + 1 // ~ sharing/feedback
}

on bell {
    height += 1
}
"#],
        );
    }

    #[test]
    fn two_that_mirror_each_other_come_back_to_where_they_began() {
        let answering = |one: &str, other: &str, mark: &str| {
            let registry = r#"[variables.tide]
height = { type = "int", scope = "global", default = 0, engine = "both" }
depth = { type = "int", scope = "global", default = 9, engine = "both" }
rising = { type = "bool", scope = "global", default = true, engine = "both" }
falling = { type = "bool", scope = "global", default = false, engine = "both" }
"#;
            let name = |write: &str| write.split(' ').next().unwrap_or_default().to_owned();
            let script = format!(
                "script tides for tide\n\non changed {} {{\n    {one}\n}}\n\non changed {} {{\n    {other}{mark}\n}}\n",
                name(other),
                name(one)
            );
            expect(registry, &[&script]);
        };
        answering("falling = not rising", "rising = not falling", "");
        answering("falling = not rising", "rising = falling", " // ~ sharing/feedback");
        answering("depth = 9 - height", "height = 9 - depth", "");
        answering("depth = height + 9", "height = depth - 9", "");
        answering("depth = 9 - height", "height = 8 - depth", " // ~ sharing/feedback");
        answering("depth = -height", "height = depth", " // ~ sharing/feedback");
    }

    #[test]
    fn a_limit_that_cuts_ends_it_and_one_that_wraps_does_not() {
        let stepping = |overflow: &str, mark: &str| {
            expect(
                &format!(
                    "[variables.tide]\nheight = {{ type = \"int\", scope = \"global\", default = 0, min = 0, max = 6, overflow = \"{overflow}\", engine = \"reads\" }}\n"
                ),
                &[&format!(
                    "script tides for tide\n\non changed height {{\n    height += 1{mark}\n}}\n\non bell {{\n    height = 0\n}}\n"
                )],
            );
        };
        stepping("clamp", "");
        stepping("wrap", " // ~ sharing/feedback");
    }

    #[test]
    fn what_is_stepped_on_the_way_is_another_at_the_next_pass() {
        let judged = |rest: &str| {
            let registry: String = ["height", "flow", "calls"]
                .iter()
                .map(|name| {
                    format!(
                        "[variables.tide.{name}]\ntype = \"int\"\nscope = \"global\"\ndefault = 0\nengine = \"both\"\n"
                    )
                })
                .collect();
            expect(&registry, &[&format!("script tides for tide\n\non changed height {{\n{rest}}}\n")]);
        };
        judged("    height = calls // ~ sharing/feedback\n    calls += 1\n");
        judged("    let next = calls + 1\n    calls = next\n    height = calls // ~ sharing/feedback\n");
        judged("    height = calls\n    flow += 1\n");
        judged("    height = calls\n    calls = min(calls + 1, 9)\n");
        judged("    height = calls\n    if calls < 9 {\n        calls += 1\n    }\n");
        judged("    if calls < 9 {\n        height = calls\n    }\n    calls += 1\n");
        judged("    if calls > 9 {\n        height = calls // ~ sharing/feedback\n    }\n    calls += 1\n");
        judged("    height = calls\n    calls = flow + 1\n");
    }

    #[test]
    fn what_is_written_over_at_once_sets_nothing_off() {
        let judged = |rest: &str| {
            let registry =
                "[variables.tide.height]\ntype = \"int\"\nscope = \"global\"\ndefault = 0\nengine = \"both\"\n";
            expect(registry, &[&format!("script tides for tide\n\non changed height {{\n{rest}}}\n")]);
        };
        judged("    height = (height + 1) % 5 // ~ unused/dead-write\n    height = 2\n");
        judged("    height = (height + 1) % 5 // ~ sharing/feedback\n    height = min(height, 2)\n");
        judged("    height += 1 // ~ sharing/feedback\n    if height > 5 {\n        height = 2\n    }\n");
    }

    #[test]
    fn circles_that_come_to_an_end() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
engine = "reads"
[variables.tide.flow]
type = "int"
scope = "global"
default = 0
engine = "reads"
"#,
            &[r#"script tides for tide

on changed height {
    flow = height
    if height < 10 {
        height += 1
    }
}

on changed flow {
    height = min(height, 10)
}

on bell {
    height += 1
}
"#],
        );
    }

    #[test]
    fn all_goes_one_way_up_to_a_test_or_a_number() {
        let registry: String = ["a", "b", "c", "d", "e", "f", "g", "h", "i"]
            .iter()
            .map(|name| {
                format!(
                    "[variables.tide.{name}]\ntype = \"int\"\nscope = \"global\"\ndefault = 0\nengine = \"reads\"\n"
                )
            })
            .collect();
        expect(
            &registry,
            &[r#"script tides for tide

on changed a {
    b = a + 1
}
on changed b {
    if b > 10 {
        return
    }
    a = b
}

on changed c {
    d = max(c - 2, 0)
}
on changed d {
    c = d
}

on changed e {
    f = e + 1
}
on changed f {
    if f > 3 {
        e = f // ~ sharing/feedback
    }
}

on changed g {
    if h < g {
        h = g + 1
    }
}
on changed h when not (h >= 8 or g == 3) {
    g = h
}

on changed i {
    i = min(i + 1, 9)
}

on bell {
    a = random(0, 9)
    c = a
    e = a
    g = a
    i = a
}
"#],
        );
    }

    #[test]
    fn constants_that_go_round() {
        let lamps = r#"[variables.tide]
lamp = { type = "bool", scope = "global", default = false, engine = "both" }
bell = { type = "bool", scope = "global", default = false, engine = "both" }
flow = { type = "enum", scope = "global", values = ["ebb", "slack", "flood"], default = "ebb", engine = "both" }
"#;
        let told = |lines: &str| expect(lamps, &[&format!("script tides for tide\n\n{lines}")]);
        told("on changed lamp {\n if lamp { lamp = false } else {\n lamp = true // ~ sharing/feedback\n }\n}\n");
        told("on changed lamp {\n if lamp { lamp = false }\n}\n");
        told(
            "on changed lamp {\n if lamp { bell = true } else { bell = false }\n}\n
on changed bell {\n if bell { lamp = true } else { lamp = false }\n}\n",
        );
        told(
            "on changed lamp {\n if lamp { bell = true } else { bell = false }\n}\n
on changed bell {\n if not bell { lamp = true } else {\n lamp = false // ~ sharing/feedback\n }\n}\n",
        );
        let modes = |last: &str| {
            format!(
                "on changed flow {{\n match flow {{\n \"ebb\" {{ flow = \"slack\" }}\n \"slack\" {{ flow = \"flood\" }}
 else {{\n {last}\n }}\n }}\n}}\n"
            )
        };
        told(&modes("note \"high\""));
        told(&modes("flow = \"ebb\" // ~ sharing/feedback"));
        told(&modes("if bell {\n flow = \"slack\" // ~ sharing/feedback\n }"));
    }

    #[test]
    fn what_keeps_itself_out_the_second_time() {
        let state = r#"[variables.tide]
height = { type = "int", scope = "global", default = 0, engine = "both" }
flow = { type = "int", scope = "global", default = 0, engine = "both" }
seen = { type = "bool", scope = "global", default = false, engine = "both" }
"#;
        let told = |lines: &str| expect(state, &[&format!("script tides for tide\n\n{lines}")]);
        told("on changed height when not seen {\n seen = true\n height += 1\n}\n");
        told(
            "on changed height {\n if seen { return }\n seen = true // ~ unused/dead-write\n height += 1 // ~ sharing/feedback\n seen = false\n}\n",
        );
        told("on changed height {\n while height < 10 { height += 1 }\n}\n");
        told("on changed height {\n height = height % 360\n}\n");
        told("on changed height {\n height = (height + 1) % 360 // ~ sharing/feedback\n}\n");
        let pair = |first: &str| {
            format!(
                "on changed height {{\n flow += 1\n {first}\n}}\n
on changed flow {{\n if not seen {{\n seen = true\n MARK\n }}\n}}\n"
            )
        };
        told(&pair("").replace("MARK", "height += 1"));
        told(&pair("seen = false").replace("MARK", "height += 1 // ~ sharing/feedback"));
    }

    #[test]
    fn a_circle_may_lead_through_what_is_sent_and_end_by_a_flag_or_a_step_of_its_own() {
        let answering = |body: &str, told: &str| {
            let registry =
                "[variables.tide]\nheight = { type = \"int\", scope = \"global\", default = 0, engine = \"both\" }\n";
            let script = format!(
                "script tides for tide\n\nprivate busy: bool = false\n\non changed height {{\n{body}}}\n\non tide_turned {{\n{told}}}\n\non bell {{\n    busy = false\n    note \"{{busy}}\"\n    send tide_turned\n}}\n"
            );
            expect(registry, &[&script]);
        };
        let circle = "    height += 1 // ~ sharing/feedback\n";
        answering("    send tide_turned\n", circle);
        answering("    if height < 9 {\n        send tide_turned\n    }\n", "    height += 1\n");
        answering("    send tide_turned\n", "    height = 5\n");
        answering("    if not busy {\n        busy = true\n        send tide_turned\n    }\n", "    height += 1\n");
        let twice = "    if busy {\n        busy = false\n        return\n    }\n    busy = true\n    height += 1\n";
        answering(twice, "    busy = false\n");
        answering("    height -= height % 5\n", "    busy = false\n");
        answering("    height -= 1 % 5 // ~ sharing/feedback\n", "    busy = false\n");
    }

    #[test]
    fn what_comes_along_says_which_way_it_goes() {
        let steps = |amount: &str, mark: &str| {
            let registry = "[variables.tide]\nheight = { type = \"int\", scope = \"global\", default = 0, engine = \"reads\" }\n[signals.rise]\nfrom = \"script\"\nparameters = { by = \"int\" }\n";
            let script = format!(
                "script tides for tide\n\non changed height {{\n    if height < 9 {{\n        send rise({amount})\n    }}\n}}\n\non rise(by) {{\n    height += by{mark}\n}}\n\non bell {{\n    height = 0\n}}\n"
            );
            expect(registry, &[&script]);
        };
        steps("random(1, 3)", "");
        steps("random(-1, 3)", " // ~ sharing/feedback");
    }
}
