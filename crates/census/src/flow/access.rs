//! Who reads and who writes what, and where: the plain facts, without values.

use super::called;
use super::graph::{Block, Exit, Graph, Step, StepKind, Waiting};
use super::linear::BodyLength;
use super::terms::{Useful, is_abs, is_product_of_local, is_quotient, is_term, times_call, useful};
use crate::project::builtin::Builtin;
use crate::project::{Base, CellId, Meaning, Place, PlaceId, ProcId, Project, ScriptUnit};
use crate::registry::{Bound, End, InstanceId, OwnerId, Type, VarId};
use crate::script::ast::*;
use crate::source::Span;
use rustc_hash::{FxHashMap, FxHashSet};

/// How many products are kept track of in one handler.
pub const MOST_PRODUCTS: usize = 16;
/// How far bounds are followed that have a bound of their own.
const MOST_BOUNDS_ON: usize = 16;

/// Calls `visit` for an expression and all inside it, the outer before the inner.
pub fn walk_expr(unit: &ScriptUnit, expr: ExprId, visit: &mut impl FnMut(ExprId)) {
    visit(expr);
    match &unit.tree.expr(expr).kind {
        ExprKind::Text(parts) => {
            for part in parts {
                if let TextPart::Token { value, .. } = part {
                    walk_expr(unit, *value, visit);
                }
            }
        }
        ExprKind::Unary(_, inner) | ExprKind::Is { subject: inner, .. } => walk_expr(unit, *inner, visit),
        ExprKind::Binary(_, left, right) => {
            walk_expr(unit, *left, visit);
            walk_expr(unit, *right, visit);
        }
        ExprKind::Call(_, arguments) => arguments.iter().for_each(|&argument| walk_expr(unit, argument, visit)),
        _ => {}
    }
}

/// The same, and what stands behind the names of `let`s on the way, each once.
pub fn walk_behind(unit: &ScriptUnit, expr: ExprId, visit: &mut impl FnMut(ExprId)) {
    let mut open = vec![expr];
    let mut at = 0;
    while let Some(&next) = open.get(at) {
        at += 1;
        walk_expr(unit, next, &mut |inner| {
            visit(inner);
            let behind = unit.behind(inner);
            if behind != inner && open.len() < MOST_BEHIND && !open.contains(&behind) {
                open.push(behind);
            }
        });
    }
}

/// How many values of `let`s are gone into.
pub const MOST_BEHIND: usize = 16;

/// What a step does with its expressions.
pub struct Parts {
    /// Read for their value.
    pub reads: Vec<ExprId>,
    /// Written; also read where the sign is not `=`.
    pub target: Option<(ExprId, AssignOp, Option<ExprId>)>,
    /// Cleared.
    pub cleared: Option<ExprId>,
    /// The text is printed where a player sees it.
    pub shown: bool,
}

/// The expressions of a step.
#[must_use]
pub fn parts(step: &Step) -> Parts {
    let mut parts = Parts { reads: Vec::new(), target: None, cleared: None, shown: false };
    match &step.kind {
        StepKind::Assign { target, op, value, .. } => parts.target = Some((*target, *op, Some(*value))),
        StepKind::Clear { target, .. } => parts.cleared = Some(*target),
        StepKind::Let { value, .. } | StepKind::Read(value) | StepKind::Remove(value) | StepKind::Call(value) => {
            parts.reads.push(*value);
        }
        StepKind::Note(value) | StepKind::Begin { count: Some(value), .. } => parts.reads.push(*value),
        StepKind::Show { text, .. } => {
            parts.reads.push(*text);
            parts.shown = true;
        }
        StepKind::Wait(Waiting::Time(Duration::Seconds(value))) | StepKind::Wait(Waiting::Until(value)) => {
            parts.reads.push(*value);
        }
        StepKind::Send { arguments, to, .. } => {
            parts.reads.extend(arguments);
            parts.reads.extend(to);
        }
        _ => {}
    }
    parts
}

/// Whether doing a step twice does more than doing it once: it steps a variable, sends, or spawns.
#[must_use]
pub fn is_step(unit: &ScriptUnit, step: &Step) -> bool {
    match &step.kind {
        StepKind::Send { .. } | StepKind::Spawn { .. } => true,
        StepKind::Assign { place, op, value, .. } => {
            let outlives = !matches!(unit.place(*place), Place::Local(_) | Place::Was);
            outlives && (*op != AssignOp::Set || steps_itself(unit, *place, *value))
        }
        _ => false,
    }
}

/// Whether an expression names a place, or what stands behind it does.
#[must_use]
pub fn names(unit: &ScriptUnit, expr: ExprId, place: PlaceId) -> bool {
    let mut found = false;
    walk_behind(unit, expr, &mut |inner| found |= unit.place_of(inner) == Some(place));
    found
}

/// Whether a value is worked out by arithmetic from the very place that it goes into: `x + 1`, `min(x + 1, 9)`.
#[must_use]
pub fn steps_itself(unit: &ScriptUnit, place: PlaceId, value: ExprId) -> bool {
    let mut arithmetic: Vec<ExprId> = Vec::new();
    walk_behind(unit, value, &mut |at| {
        let expr = unit.tree.expr(at);
        let op = if let ExprKind::Binary(op, ..) = expr.kind { Some(op) } else { None };
        let outermost = arithmetic.last().is_none_or(|&outer| !unit.tree.expr(outer).span.contains(expr.span));
        if outermost && let Some(BinaryOp::Add | BinaryOp::Subtract | BinaryOp::Multiply | BinaryOp::Divide) = op {
            arithmetic.push(at);
        }
    });
    arithmetic.into_iter().any(|sum| names(unit, sum, place))
}

/// What an assignment adds to the very place that it goes into, or takes from it, and which of the two: `x += e`, `x = x + e`,
/// `x = e + x`, `x -= e`, `x = x - e`, where `e` does not name the place.
#[must_use]
pub fn plain_step(unit: &ScriptUnit, place: PlaceId, (op, value): (AssignOp, ExprId)) -> Option<(BinaryOp, ExprId)> {
    let is_it = |expr: ExprId| unit.meaning(expr) == Meaning::Value(place);
    let step = match (op, &unit.tree.expr(value).kind) {
        (AssignOp::Add, _) => (BinaryOp::Add, value),
        (AssignOp::Subtract, _) => (BinaryOp::Subtract, value),
        (AssignOp::Set, &ExprKind::Binary(op @ (BinaryOp::Add | BinaryOp::Subtract), left, right)) if is_it(left) => {
            (op, right)
        }
        (AssignOp::Set, &ExprKind::Binary(BinaryOp::Add, left, right)) if is_it(right) => (BinaryOp::Add, left),
        _ => return None,
    };
    (!names(unit, step.1, place)).then(|| without_minus(unit, step))
}

/// To add what is below zero is to take: `x += -1`.
fn without_minus(unit: &ScriptUnit, (op, value): (BinaryOp, ExprId)) -> (BinaryOp, ExprId) {
    match (op, &unit.tree.expr(value).kind) {
        (BinaryOp::Add, ExprKind::Unary(UnaryOp::Minus, taken)) => (BinaryOp::Subtract, *taken),
        (_, ExprKind::Unary(UnaryOp::Minus, added)) => (BinaryOp::Add, *added),
        _ => (op, value),
    }
}

/// Whether a write gives a place the opposite of what it holds: `way = -way`, `way *= -1`.
fn turns(unit: &ScriptUnit, place: PlaceId, (op, value): (AssignOp, ExprId)) -> bool {
    let kind = |expr: ExprId| &unit.tree.expr(unit.behind(expr)).kind;
    let is_it = |expr: ExprId| unit.place_of(expr) == Some(place);
    let is_one = |expr: ExprId| matches!(*kind(expr), ExprKind::Int(1) | ExprKind::Float(1.0));
    let is_minus_one = |expr: ExprId| matches!(*kind(expr), ExprKind::Unary(UnaryOp::Minus, one) if is_one(one));
    match (op, kind(value)) {
        (AssignOp::Multiply | AssignOp::Divide, _) => is_minus_one(value),
        (AssignOp::Set, &ExprKind::Unary(UnaryOp::Minus, inner)) => is_it(inner),
        (AssignOp::Set, &ExprKind::Binary(BinaryOp::Multiply, left, right)) => {
            is_it(left) && is_minus_one(right) || is_minus_one(left) && is_it(right)
        }
        (AssignOp::Set, &ExprKind::Binary(BinaryOp::Subtract, zero, right)) => {
            matches!(kind(zero), ExprKind::Int(0)) && is_it(right)
        }
        _ => false,
    }
}

/// Whether a value starts anew behind its last one, from the very place that it goes into: `(x + 1) % 24`.
#[must_use]
pub fn goes_round(unit: &ScriptUnit, place: PlaceId, value: ExprId) -> bool {
    let mut found = false;
    walk_behind(unit, value, &mut |at| {
        if let ExprKind::Binary(BinaryOp::Remainder, all, _) = unit.tree.expr(at).kind {
            found |= names(unit, all, place);
        }
    });
    found
}

/// Whether a value takes in what its place holds at that moment: `V + …`, `max(V, …)`, `min(V + …, 9)`, `V or …`.
#[must_use]
pub fn builds_on(unit: &ScriptUnit, place: PlaceId, value: ExprId) -> bool {
    let mut followed: Vec<ExprId> = Vec::new();
    let mut open = vec![value];
    while let Some(at) = open.pop() {
        match &unit.tree.expr(at).kind {
            ExprKind::Path(_) if unit.place_of(at) == Some(place) => return true,
            ExprKind::Path(_) => {
                let behind = unit.behind(at);
                if behind != at && followed.len() < MOST_BEHIND && !followed.contains(&behind) {
                    followed.push(behind);
                    open.push(behind);
                }
            }
            ExprKind::Binary(BinaryOp::Or | BinaryOp::And | BinaryOp::Add | BinaryOp::Subtract, left, right) => {
                open.extend([*left, *right]);
            }
            ExprKind::Call(_, arguments) => match unit.meaning(at) {
                Meaning::Builtin(Builtin::Max | Builtin::Min) => open.extend(arguments),
                Meaning::Builtin(Builtin::Clamp | Builtin::Floor | Builtin::Ceil | Builtin::Round) => {
                    open.extend(arguments.first());
                }
                _ => {}
            },
            _ => {}
        }
    }
    false
}

/// The actor that a `count(ACTOR)` counts.
#[must_use]
pub fn counted_actor(unit: &ScriptUnit, call: ExprId) -> Option<OwnerId> {
    let ExprKind::Call(_, arguments) = &unit.tree.expr(call).kind else { return None };
    match unit.meaning(*arguments.first()?) {
        Meaning::Owner(actor) => Some(actor),
        _ => None,
    }
}

/// The expressions that a block's exit reads.
#[must_use]
pub fn exit_reads(exit: &Exit) -> Vec<ExprId> {
    match exit {
        Exit::Branch { test, .. } => vec![*test],
        Exit::Match { subject, arms, .. } => {
            std::iter::once(*subject).chain(arms.iter().flat_map(|(tests, _)| tests.iter().copied())).collect()
        }
        Exit::Choose(offers) => offers.iter().filter_map(|offer| offer.when).collect(),
        Exit::Each { filter, .. } => filter.iter().copied().collect(),
        Exit::Fork { delay: Duration::Seconds(value), .. } => vec![*value],
        Exit::Return(value) => value.iter().copied().collect(),
        _ => Vec::new(),
    }
}

/// The texts of the choices that a block's exit offers.
pub fn offered_texts(exit: &Exit) -> impl Iterator<Item = ExprId> + '_ {
    let offers = match exit {
        Exit::Choose(offers) => &offers[..],
        _ => &[],
    };
    offers.iter().map(|offer| offer.text)
}

/// The body that something stands in.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum Body {
    /// A handler, by its index in the script.
    Handler(usize),
    /// A procedure.
    Procedure(ProcId),
}

/// What is done with a cell.
#[derive(Clone, Copy, PartialEq, Debug)]
pub enum AccessKind {
    /// Its value is used.
    Read,
    /// It is given a value.
    Write(AssignOp, Option<ExprId>),
    /// It is made unset.
    Clear,
}

/// One use of a cell.
#[derive(Clone, Copy, Debug)]
pub struct Access {
    /// The cell.
    pub cell: CellId,
    /// The place, as the script names it.
    pub place: PlaceId,
    /// What is done.
    pub kind: AccessKind,
    /// The name.
    pub at: Span,
    /// The statement.
    pub statement: Span,
    /// The body that it stands in.
    pub body: Body,
    /// A read whose value goes only into the same variable.
    pub into_itself: bool,
    /// A read that prints the value for the player.
    pub shown: bool,
    /// A read that decides something.
    pub tested: bool,
}

impl Access {
    /// Whether it writes.
    #[must_use]
    pub fn writes(&self) -> bool {
        self.kind != AccessKind::Read
    }
}

/// Gathers the accesses of a body.
pub struct Gather<'a> {
    /// The project.
    pub project: &'a Project,
    /// The script.
    pub unit: &'a ScriptUnit,
    /// Its places.
    pub index: &'a PlaceIndex,
    /// The body.
    pub body: Body,
    /// What was found.
    pub found: Vec<Access>,
    /// What becomes of the values of the present graph's `let`s.
    pub fates: FxHashMap<PlaceId, Fate>,
}

/// What becomes of the value of a `let`.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Fate {
    /// It is only shown.
    Shown,
    /// It only goes into a place.
    Into(PlaceId),
    /// Something else.
    Used,
}

fn is_local(unit: &ScriptUnit, expr: ExprId) -> bool {
    unit.place_of(expr).is_some_and(|place| matches!(unit.place(place), Place::Local(_)))
}

/// What becomes of the values of a graph's `let`s: a look backward, since names are used after they are given.
/// What may be meant by a name that means nothing is used.
fn fates(project: &Project, unit: &ScriptUnit, graph: &Graph) -> FxHashMap<PlaceId, Fate> {
    let mut fates: FxHashMap<PlaceId, Fate> = FxHashMap::default();
    let may_be_meant = |place: PlaceId| match unit.place(place) {
        Place::Local(local) => unit.may_use(project.text(unit, unit.tree.local(local).name.span)),
        _ => false,
    };
    let note = |fates: &mut FxHashMap<PlaceId, Fate>, expr: ExprId, fate: Fate| {
        walk_expr(unit, expr, &mut |inner| {
            let (Some(mut place), mut fate) = (unit.place_of(inner), fate) else { return };
            while let Place::Variable(_, Base::Held(held)) = unit.place(place) {
                (place, fate) = (held, Fate::Used);
            }
            if matches!(unit.place(place), Place::Local(_)) {
                fates
                    .entry(place)
                    .and_modify(|known| *known = if *known == fate { fate } else { Fate::Used })
                    .or_insert(fate);
            }
        });
    };
    for block in graph.blocks.iter().rev() {
        exit_reads(&block.exit).into_iter().for_each(|expr| note(&mut fates, expr, Fate::Used));
        offered_texts(&block.exit).for_each(|text| note(&mut fates, text, Fate::Shown));
        for step in block.steps.iter().rev() {
            if let StepKind::Let { place, value } = step.kind {
                if may_be_meant(place) {
                    fates.insert(place, Fate::Used);
                }
                let fate = fates.get(&place).copied().unwrap_or(Fate::Used);
                note(&mut fates, value, fate);
                continue;
            }
            let parts = parts(step);
            let fate = if parts.shown { Fate::Shown } else { Fate::Used };
            parts.reads.into_iter().for_each(|read| note(&mut fates, read, fate));
            // What a target goes through is read on the way to it.
            let written = parts.target.map(|(target, ..)| target).or(parts.cleared);
            if let Some(target) = written.filter(|&target| !is_local(unit, target)) {
                note(&mut fates, target, Fate::Used);
            }
            if let Some((target, _, value)) = parts.target {
                let into = unit.place_of(target).filter(|&place| !matches!(unit.place(place), Place::Local(_)));
                value.into_iter().for_each(|value| note(&mut fates, value, into.map_or(Fate::Used, Fate::Into)));
            }
        }
    }
    fates
}

impl Gather<'_> {
    /// All accesses of a graph.
    pub fn graph(&mut self, graph: &Graph) {
        let has_lets = |block: &Block| block.steps.iter().any(|step| matches!(step.kind, StepKind::Let { .. }));
        self.fates = if graph.blocks.iter().any(has_lets) {
            fates(self.project, self.unit, graph)
        } else {
            FxHashMap::default()
        };
        for block in &graph.blocks {
            for step in &block.steps {
                self.step(step);
            }
            for expr in exit_reads(&block.exit) {
                self.reads(expr, block.exit_span, None, false, true);
            }
            for text in offered_texts(&block.exit) {
                self.reads(text, self.unit.tree.expr(text).span, None, true, false);
            }
        }
    }

    fn step(&mut self, step: &Step) {
        let parts = parts(step);
        let tested = matches!(step.kind, StepKind::Wait(Waiting::Until(_)));
        let fate = if let StepKind::Let { place, .. } = step.kind { self.fates.get(&place) } else { None };
        let (into, shown) = match fate {
            Some(Fate::Into(place)) => (Some(*place), false),
            fate => (None, parts.shown || fate == Some(&Fate::Shown)),
        };
        for read in parts.reads {
            self.reads(read, step.span, into, shown, tested);
        }
        if let Some(target) = parts.cleared {
            self.write(target, AccessKind::Clear, step.span);
        }
        if let Some((target, op, value)) = parts.target {
            let own = self.unit.place_of(target);
            if let Some(value) = value {
                self.reads(value, step.span, own, false, false);
            }
            if op != AssignOp::Set {
                self.reads(target, step.span, own, false, false);
            }
            self.write(target, AccessKind::Write(op, value), step.span);
        }
    }

    fn write(&mut self, target: ExprId, kind: AccessKind, statement: Span) {
        let Some(place) = self.unit.place_of(target) else { return };
        self.way_to(place, target, statement);
        if let Some(cell) = self.project.cell_of(self.unit, place) {
            let at = self.unit.tree.expr(target).span;
            self.found.push(Access {
                cell,
                place,
                kind,
                at,
                statement,
                body: self.body,
                into_itself: false,
                shown: false,
                tested: false,
            });
        }
    }

    /// The `ref`s that lead to a place are read on the way.
    fn way_to(&mut self, place: PlaceId, expr: ExprId, statement: Span) {
        if let Place::Variable(_, Base::Held(held)) = self.unit.place(place) {
            self.push_read(held, expr, statement, None, false, false);
            self.way_to(held, expr, statement);
        }
    }

    fn push_read(
        &mut self,
        place: PlaceId,
        expr: ExprId,
        statement: Span,
        into: Option<PlaceId>,
        shown: bool,
        tested: bool,
    ) {
        if let Some(cell) = self.project.cell_of(self.unit, place) {
            let at = self.unit.tree.expr(expr).span;
            let into_itself = into == Some(place);
            let kind = AccessKind::Read;
            self.found.push(Access { cell, place, kind, at, statement, body: self.body, into_itself, shown, tested });
        }
    }

    /// All reads of an expression. `into` is the place that takes the value.
    pub fn reads(&mut self, expr: ExprId, statement: Span, into: Option<PlaceId>, shown: bool, tested: bool) {
        let (mut inner, mut tests) = (Vec::new(), Vec::new());
        walk_expr(self.unit, expr, &mut |at| {
            inner.push(at);
            let expr = self.unit.tree.expr(at);
            let around = tests.last().is_some_and(|whole: &Span| whole.contains(expr.span));
            if !around && is_test(&expr.kind) {
                tests.push(expr.span);
            }
        });
        for at in inner {
            match self.unit.meaning(at) {
                Meaning::Value(place) | Meaning::Axis(place, _) => {
                    self.way_to(place, at, statement);
                    let span = self.unit.tree.expr(at).span;
                    let tested = tested || tests.iter().any(|test| test.contains(span));
                    self.push_read(place, at, statement, into, shown, tested);
                }
                Meaning::Bound(place, end) => {
                    self.way_to(place, at, statement);
                    if let Some(bound) = self.index.bound_of(self.project, self.unit, place, end) {
                        self.push_read(bound, at, statement, into, shown, tested);
                    }
                }
                _ => {}
            }
        }
    }
}

/// Whether an expression is a comparison or a condition.
fn is_test(kind: &ExprKind) -> bool {
    match kind {
        ExprKind::Binary(op, ..) => op.is_comparison() || matches!(op, BinaryOp::And | BinaryOp::Or),
        ExprKind::Unary(UnaryOp::Not, _) | ExprKind::Is { .. } => true,
        _ => false,
    }
}

/// Whether a step gives a number that is written out.
fn is_given_number(unit: &ScriptUnit, step: &StepKind) -> bool {
    matches!(step, StepKind::Assign { op: AssignOp::Set, axis: None, value, .. } if is_number(unit, *value))
}

/// Whether a number is written out, also behind the name of a `let`.
pub(super) fn is_number(unit: &ScriptUnit, expr: ExprId) -> bool {
    match unit.tree.expr(unit.behind(expr)).kind {
        ExprKind::Int(_) | ExprKind::Float(_) => true,
        ExprKind::Unary(UnaryOp::Minus, inner) => is_number(unit, inner),
        _ => false,
    }
}

/// Whether an expression calls a procedure that only sorts things into a few.
#[must_use]
pub fn sorts(unit: &ScriptUnit, expr: ExprId) -> bool {
    matches!(unit.meaning(expr), Meaning::Procedure(id) if unit.procedures[id.index()].sorts)
}

/// What the slots of a handler must cover.
pub struct Used {
    /// The places.
    pub places: Vec<PlaceId>,
    /// The calls of procedures that give a value.
    pub results: Vec<ExprId>,
    /// The listed instances.
    pub instances: Vec<InstanceId>,
    /// The actors whose instances are counted.
    pub counted: Vec<OwnerId>,
    /// How many rounds the `repeat`s make.
    pub rounds: Vec<ExprId>,
    /// The names of the `for`s in which something is stepped.
    pub rounds_over: Vec<PlaceId>,
    /// The `bool` locals that are assigned again, the numbers that are given only ones that are written out or that turn
    /// round, and what procedures find out.
    pub flags: Vec<PlaceId>,
    /// The numbers among the locals that are assigned again, and those that a `match`
    /// with a way out asks for.
    pub amounts: Vec<PlaceId>,
    /// The terms that relations are kept about.
    pub terms: Useful,
    /// The calls of procedures whose number is multiplied with a place, with a name of that.
    pub products: Vec<(ExprId, ExprId)>,
    /// How long the bodies are: in long ones neither products nor amounts are kept track of.
    pub length: BodyLength,
}

/// Collects what a handler and the procedures that it calls use.
pub struct UsedBuilder<'a> {
    project: &'a Project,
    unit: &'a ScriptUnit,
    places: FxHashSet<PlaceId>,
    results: Vec<ExprId>,
    instances: FxHashSet<InstanceId>,
    counted: FxHashSet<OwnerId>,
    rounds: Vec<ExprId>,
    rounds_over: Vec<PlaceId>,
    flags: Vec<PlaceId>,
    amounts: Vec<PlaceId>,
    /// Terms, and whether one that stands once is of use.
    terms: Vec<(ExprId, bool)>,
    products: Vec<(ExprId, ExprId)>,
    /// The places that locals are multiplied with, by a name of each.
    multiplied: Vec<ExprId>,
    steps: usize,
    /// The numbers among the locals that begin with one that is written out.
    begun: FxHashSet<PlaceId>,
    /// Those of them that are given something else.
    computed: FxHashSet<PlaceId>,
    /// What is being added is a procedure that gives a value.
    in_function: bool,
    /// What is being added is a procedure.
    in_procedure: bool,
    /// The parameters of the procedures.
    parameters: FxHashSet<PlaceId>,
    calls: FxHashSet<ProcId>,
    open: Vec<ProcId>,
    written: Vec<(VarId, Base)>,
}

impl<'a> UsedBuilder<'a> {
    /// An empty collection.
    #[must_use]
    pub fn new(project: &'a Project, unit: &'a ScriptUnit) -> Self {
        Self {
            project,
            unit,
            places: FxHashSet::default(),
            results: Vec::new(),
            instances: FxHashSet::default(),
            counted: FxHashSet::default(),
            rounds: Vec::new(),
            rounds_over: Vec::new(),
            flags: Vec::new(),
            amounts: Vec::new(),
            terms: Vec::new(),
            products: Vec::new(),
            multiplied: Vec::new(),
            steps: 0,
            begun: FxHashSet::default(),
            computed: FxHashSet::default(),
            in_function: false,
            in_procedure: false,
            parameters: FxHashSet::default(),
            calls: FxHashSet::default(),
            open: Vec::new(),
            written: Vec::new(),
        }
    }

    /// Adds a place and whatever it goes through.
    pub fn place(&mut self, place: PlaceId) {
        if !self.places.insert(place) {
            return;
        }
        match self.unit.place(place) {
            Place::Variable(_, Base::Held(held)) => self.place(held),
            Place::Variable(_, Base::Listed(instance)) => {
                self.instances.insert(instance);
            }
            _ => {}
        }
        let passed_on = &self.unit.passed_on;
        let first = passed_on.partition_point(|&(name, _)| name < place);
        let of_name = passed_on[first..].iter().take_while(|&&(name, _)| name == place);
        of_name.for_each(|&(_, known)| self.place(known));
    }

    /// Adds an expression.
    pub fn expr(&mut self, expr: ExprId) {
        let mut inner = Vec::new();
        walk_expr(self.unit, expr, &mut |at| inner.push(at));
        for at in inner {
            if is_term(self.unit, at) {
                self.product(at);
                self.terms.push((at, self.in_function || is_abs(self.unit, at)));
            }
            match self.unit.meaning(at) {
                Meaning::Value(place) | Meaning::Axis(place, _) | Meaning::Bound(place, _) => self.place(place),
                Meaning::Instance(instance) => {
                    self.instances.insert(instance);
                }
                Meaning::Builtin(Builtin::Count) => self.counted.extend(counted_actor(self.unit, at)),
                Meaning::Procedure(id) => {
                    if let ExprKind::Call(_, arguments) = &self.unit.tree.expr(at).kind {
                        arguments.iter().for_each(|&argument| self.quotients(argument));
                    }
                    if self.unit.procedures[id.index()].gives.is_some() {
                        self.results.push(at);
                    }
                    if self.calls.insert(id) {
                        self.open.push(id);
                    }
                }
                _ => {}
            }
        }
    }

    /// Adds a body.
    pub fn graph(&mut self, graph: &Graph) {
        for block in &graph.blocks {
            self.steps += block.size();
            for step in &block.steps {
                let parts = parts(step);
                parts.reads.iter().for_each(|&expr| self.expr(expr));
                if let StepKind::Let { place, value } | StepKind::Assign { place, value, op: AssignOp::Set, .. } =
                    step.kind
                    && (self.unit.ty(value) == Type::Bool && !called::by_expr(self.unit, value).is_empty()
                        || sorts(self.unit, value))
                {
                    self.flag(place); // What a procedure answers is asked of the flag from here on.
                }
                for expr in parts.cleared.into_iter().chain(parts.target.iter().map(|target| target.0)) {
                    self.expr(expr);
                    let Some(place) = self.unit.place_of(expr) else { continue };
                    match self.unit.place(place) {
                        Place::Variable(variable, base) => self.written.push((variable, base)),
                        Place::Local(_) if self.unit.ty(expr) == Type::Bool => self.flag(place),
                        Place::Local(_) if self.unit.ty(expr).is_numeric() => {
                            self.amount(place);
                            if !is_given_number(self.unit, &step.kind) {
                                self.computed.insert(place);
                            }
                        }
                        _ => {}
                    }
                }
                if let Some((target, _, Some(value))) = parts.target {
                    self.expr(value);
                    if let (Some(place), StepKind::Assign { op, .. }) = (self.unit.place_of(target), &step.kind)
                        && turns(self.unit, place, (*op, value))
                    {
                        self.flag(place);
                    }
                    if is_local(self.unit, target) {
                        self.quotients(value);
                    }
                    // What a procedure has found out: its caller asks for the flag, not for the test.
                    if self.in_procedure && is_test(&self.unit.tree.expr(value).kind) {
                        self.unit.place_of(target).into_iter().for_each(|place| self.flag(place));
                    }
                }
                if let StepKind::Let { place, value } = &step.kind {
                    let known = if is_number(self.unit, *value) { &mut self.begun } else { &mut self.computed };
                    known.insert(*place);
                    self.quotients(*value);
                }
                match &step.kind {
                    StepKind::Let { place, .. }
                    | StepKind::Bind { place }
                    | StepKind::Spawn { place: Some(place), .. } => {
                        self.place(*place);
                    }
                    StepKind::Begin { count: Some(count), .. } => self.rounds.push(*count),
                    StepKind::Begin { over: Some((place, _)), .. } => self.rounds_over.push(*place),
                    _ => {}
                }
            }
            exit_reads(&block.exit).into_iter().chain(offered_texts(&block.exit)).for_each(|expr| self.expr(expr));
            if let Exit::Each { place, .. } = &block.exit {
                self.place(*place);
            }
            if let Exit::Match { subject, leaves: true, .. } = &block.exit {
                let asked = self.unit.place_of(*subject).filter(|_| self.unit.ty(*subject).is_numeric());
                asked.into_iter().for_each(|place| self.amount(place));
            }
        }
    }

    /// What a local is given tells of what was divided.
    fn quotients(&mut self, value: ExprId) {
        let (unit, terms) = (self.unit, &mut self.terms);
        walk_expr(unit, value, &mut |inner| terms.extend(is_quotient(unit, inner).then_some((inner, true))));
    }

    /// Keeps what is multiplied in a term, if it is a product.
    fn product(&mut self, term: ExprId) {
        self.products.extend(times_call(self.unit, term));
        if is_product_of_local(self.unit, term)
            && let ExprKind::Binary(_, left, right) = self.unit.tree.expr(term).kind
        {
            self.multiplied.extend([left, right].iter().filter(|&&side| !is_local(self.unit, side)));
            self.terms.extend((self.multiplied.len() <= MOST_PRODUCTS).then_some((term, true)));
        }
    }

    /// In a long body products would cost at every step, with all that they have to do with other places.
    fn leave_out_products(&mut self) {
        self.products.clear();
        self.multiplied.clear();
        let unit = self.unit;
        self.terms.retain(|&(term, alone)| !alone || !is_product_of_local(unit, term));
    }

    /// The products of what procedures give: a local that is given that may be multiplied later.
    fn products_of_results(&mut self) -> Vec<(ExprId, ExprId)> {
        let mut products = std::mem::take(&mut self.products);
        let unit = self.unit;
        let place = |name: &ExprId| unit.place_of(*name);
        self.multiplied.sort_unstable_by_key(place);
        self.multiplied.dedup_by_key(|name| place(name));
        let numbers = self.results.iter().filter(|&&call| unit.ty(call).is_numeric());
        products.extend(numbers.flat_map(|&call| self.multiplied.iter().map(move |&name| (call, name))));
        products.sort_unstable_by_key(|(call, name)| (*call, place(name)));
        products.dedup_by_key(|(call, name)| (*call, place(name)));
        products.truncate(MOST_PRODUCTS);
        products
    }

    fn amount(&mut self, place: PlaceId) {
        if !self.amounts.contains(&place) {
            self.amounts.push(place);
        }
    }

    fn flag(&mut self, place: PlaceId) {
        if !self.flags.contains(&place) {
            self.flags.push(place);
        }
    }

    /// Adds the flags that a handler asks about as it begins, and then writes in three places or more: which of them a way has come
    /// by is told by the flag.
    pub fn guards(&mut self, when: Option<ExprId>, graph: &Graph, procedures: &[Graph]) {
        let unit = self.unit;
        let first = match &graph.blocks[0].exit {
            Exit::Branch { test, .. } => Some(*test),
            _ => None,
        };
        let mut asked: Vec<PlaceId> = Vec::new();
        for test in when.into_iter().chain(first) {
            walk_expr(unit, test, &mut |expr| {
                let flag = unit.place_of(expr).filter(|_| unit.ty(expr) == Type::Bool);
                let is_own = |place: &PlaceId| {
                    matches!(unit.place(*place), Place::Private(_) | Place::Variable(_, Base::One | Base::Own))
                };
                asked.extend(flag.filter(is_own));
            });
        }
        for place in asked {
            let is_write = |step: &Step| matches!(step.kind, StepKind::Assign { place: given, .. } if given == place);
            let writes = |graph: &Graph| graph.blocks.iter().flat_map(|block| &block.steps).any(is_write);
            let counts = |step: &&Step| {
                let mut called = called::by_step(unit, step).into_iter().map(|called| called.procedure.index());
                is_write(step) || called.any(|at| procedures.get(at).is_some_and(writes))
            };
            if graph.blocks.iter().flat_map(|block| &block.steps).filter(counts).nth(2).is_some() {
                self.flag(place);
            }
        }
    }

    /// The procedures that were called and not yet added.
    pub fn next_call(&mut self) -> Option<ProcId> {
        self.open.pop()
    }

    /// Adds the parameters of a procedure.
    pub fn parameters(&mut self, id: ProcId) {
        self.in_function = self.unit.procedures[id.index()].gives.is_some();
        self.in_procedure = true;
        for local in &self.unit.procedures[id.index()].parameters {
            let place = self.unit.local_places[local.0 as usize];
            if place.index() < self.unit.places.len() {
                self.place(place);
                self.parameters.insert(place);
            }
        }
    }

    /// The places, with the bounds of each and what judging the writes needs.
    #[must_use]
    pub fn finish(mut self, index: &PlaceIndex, bounded_by: &FxHashMap<VarId, Vec<VarId>>) -> Used {
        let mut extra: Vec<PlaceId> = Vec::new();
        self.written.sort_unstable();
        self.written.dedup();
        for &(variable, base) in &self.written {
            let bounded = bounded_by.get(&variable).map_or(&[][..], Vec::as_slice);
            let invariants = self.project.invariants.iter().filter(|i| i.variables.contains(&variable));
            let beside = invariants.flat_map(|invariant| &invariant.variables);
            for other in bounded.iter().chain(beside) {
                extra.extend([base, Base::One, Base::Some].iter().filter_map(|&base| index.get(*other, base)));
            }
        }
        extra.into_iter().for_each(|place| self.place(place));
        let length = BodyLength::of(self.steps);
        if length == BodyLength::Long {
            self.leave_out_products();
            self.parameters.clear();
        }
        let products = self.products_of_results();
        let mut places: Vec<PlaceId> = self.places.iter().copied().collect();
        let mut from = 0;
        for _ in 0..MOST_BOUNDS_ON {
            let to = places.len();
            for at in from..to {
                for end in [End::Min, End::Max] {
                    let bound = index.bound_of(self.project, self.unit, places[at], end);
                    places.extend(bound.filter(|&bound| self.places.insert(bound)));
                }
            }
            from = to;
        }
        places.sort_unstable();
        let mut instances: Vec<InstanceId> = self.instances.into_iter().collect();
        instances.sort_unstable();
        let mut counted: Vec<OwnerId> = self.counted.into_iter().collect();
        counted.sort_unstable();
        let terms = useful(self.unit, &self.terms, &self.parameters);
        let Self { results, rounds, rounds_over, mut flags, amounts, begun, computed, .. } = self;
        // One of a few numbers tells which way was taken, as a `bool` does.
        flags.extend(amounts.iter().filter(|place| begun.contains(place) && !computed.contains(place)));
        Used { places, results, instances, counted, rounds, rounds_over, flags, amounts, terms, products, length }
    }
}

/// The places of a script by what they stand for.
#[derive(Clone, Debug, Default)]
pub struct PlaceIndex {
    by_variable: FxHashMap<(VarId, Base), PlaceId>,
    privates: FxHashMap<CellId, PlaceId>,
}

impl PlaceIndex {
    /// The index of a script.
    #[must_use]
    pub fn new(unit: &ScriptUnit) -> Self {
        let mut index = Self::default();
        for (at, place) in unit.places.iter().enumerate() {
            match place {
                Place::Variable(variable, base) => {
                    index.by_variable.insert((*variable, *base), PlaceId::at(at));
                }
                Place::Private(private) => {
                    index.privates.insert(unit.privates[*private as usize].cell, PlaceId::at(at));
                }
                _ => {}
            }
        }
        index
    }

    /// The place of another cell of the instance that a place is taken from, if the script names it; the script's own instance is
    /// named by that base.
    #[must_use]
    pub fn beside(
        &self,
        project: &Project,
        unit: &ScriptUnit,
        (place, own): (PlaceId, Base),
        cell: CellId,
    ) -> Option<PlaceId> {
        let base = match unit.place(place) {
            Place::Variable(_, base) => base,
            _ => own,
        };
        match project.variable_of(cell) {
            Some(variable) => self.get(variable, base),
            None => self.privates.get(&cell).copied().filter(|_| base == own),
        }
    }

    /// The place of a variable as taken from a base.
    #[must_use]
    pub fn get(&self, variable: VarId, base: Base) -> Option<PlaceId> {
        self.by_variable.get(&(variable, base)).copied()
    }

    /// The place of the variable that bounds another's place.
    #[must_use]
    pub fn bound_of(&self, project: &Project, unit: &ScriptUnit, place: PlaceId, end: End) -> Option<PlaceId> {
        let Place::Variable(variable, base) = unit.place(place) else { return None };
        let Some(Bound::Variable(bound)) = project.registry.var(variable).bound(end) else { return None };
        let own = project.registry.var(*bound).scope == crate::registry::Scope::Instance;
        self.get(*bound, if own { base } else { Base::One })
    }
}
