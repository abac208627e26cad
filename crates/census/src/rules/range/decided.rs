//! The common part of `range/always` and `range/never`: tests that come out one way only.

use crate::finding::{Finding, RuleName};
use crate::flow::access::{Access, AccessKind, walk_behind, walk_expr};
use crate::flow::engine::{Event, Outcome};
use crate::flow::value::Value;
use crate::flow::world::{Counted, HandlerId};
use crate::project::builtin::Builtin;
use crate::project::{Cell, CellId, Meaning, Place, PlaceId, ProcFacts, ProcId, ScriptId, ScriptUnit};
use crate::registry::{Bound, End, SignalId};
use crate::rules::Facts;
use crate::rules::facts::HandlerView;
use crate::rules::flow::endless_loop::endless;
use crate::rules::range::circles::{Test, Tests};
use crate::rules::range::guards::{Guard, guards};
use crate::rules::range::limit_skipped::{Skip, skipped};
use crate::script::ast::*;
use crate::source::Span;
use rayon::prelude::*;
use rustc_hash::{FxHashMap, FxHashSet};

/// How many answers in a row are looked at for a reported write.
const MOST_ANSWERS: usize = 4;

/// All tests that always come out as `outcome`.
#[must_use]
pub fn check(facts: &Facts<'_>, rule: RuleName, outcome: bool) -> Vec<Finding> {
    let told = || facts.decided().iter().filter(|it| it.told);
    let all: FxHashSet<Test> = told().map(Decided::id).collect();
    let mut findings = Vec::new();
    for it in told().filter(|it| it.found.yes == outcome) {
        let unit = facts.project.script(it.script);
        // What a name stands for is told where it is asked, however the name is turned round.
        if !behind(unit, it.test).is_some_and(|behind| all.contains(&(it.script, behind))) {
            findings.push(word(facts, unit, rule, it.test, &it.found));
        }
    }
    findings
}

/// A test that comes out one way only.
pub struct Decided {
    script: ScriptId,
    test: ExprId,
    found: Outcome,
    /// It asks whether there is anything, or of what kind it is: that may well be there for safety.
    careful: bool,
    /// Whether it would come out so whatever is written: by what is put right, and by what no way leads to.
    settled: bool,
    told: bool,
}

impl Decided {
    fn id(&self) -> Test {
        (self.script, self.test)
    }

    fn of(script: ScriptId, (test, found): (ExprId, Outcome), careful: bool, settled: bool) -> Self {
        Self { script, test, found, careful, settled, told: settled && !careful }
    }
}

/// All tests of a project that come out one way only.
#[must_use]
pub fn decided(facts: &Facts<'_>) -> Vec<Decided> {
    let project_wide = ProjectWide {
        jumped_over: skipped(facts, true),
        beyond: wholly_outside(facts),
        sent: sent_constants(facts),
        broken: broken_by_answers(facts),
    };
    let scripts: Vec<(ScriptId, &ScriptUnit)> = facts.project.script_ids().collect();
    let in_script = |(script, unit)| decided_in(facts, (script, unit), &project_wide);
    let mut all: Vec<Decided> = scripts.into_par_iter().flat_map_iter(in_script).collect();
    tell_of_circles(facts, &mut all);
    all
}

/// What the tests of all scripts are held against.
struct ProjectWide<'f> {
    /// The tests that steps jump over.
    jumped_over: Vec<Skip<'f>>,
    /// What is written with values outside its range alone.
    beyond: FxHashSet<CellId>,
    /// The parameters of signals that are only given constants.
    sent: FxHashSet<(SignalId, usize)>,
    /// By signal: what a reported write in answer to it is about.
    broken: FxHashMap<SignalId, FxHashSet<CellId>>,
}

/// The tests of a script that come out one way only.
fn decided_in(facts: &Facts<'_>, (script, unit): (ScriptId, &ScriptUnit), known: &ProjectWide<'_>) -> Vec<Decided> {
    let outcomes = outcomes(facts, script);
    let is_one_way = |test: ExprId| outcome_of(unit, &outcomes, test).is_some_and(|found| found.yes != found.no);
    let conditions: Vec<ExprId> = conditions(unit).into_iter().filter(|&test| is_one_way(test)).collect();
    let careful: Vec<ExprId> = kind_tests(unit).filter(|&test| is_one_way(test)).collect();
    if conditions.is_empty() && careful.is_empty() {
        return Vec::new();
    }
    let excused = excused(facts, script, unit, &known.broken);
    let locals = Locals::new(facts, script, &known.beyond, &known.sent);
    // That the test of a loop without end always comes out true is that loop's mistake.
    let endless = endless(facts, script, unit);
    let asks_on = |test: ExprId| {
        let span = |expr: ExprId| unit.tree.expr(expr).span;
        endless.iter().any(|&(_, condition)| span(condition).contains(span(test)))
    };
    let is_jumped_over = |test: ExprId| known.jumped_over.iter().any(|skip| skip.is(unit, test));
    let found = |test: ExprId| outcome_of(unit, &outcomes, test).unwrap_or_default();
    let is_left_out = |test: ExprId| {
        let is_skipped = is_jumped_over(test) || behind(unit, test).is_some_and(is_jumped_over);
        excused.contains(&test) || is_skipped || found(test).yes && asks_on(test)
    };
    let counts = |&test: &ExprId| !is_left_out(test) && locals.depends_on_play(test);
    let mut decided: Vec<(ExprId, bool)> = conditions.into_iter().filter(counts).map(|test| (test, false)).collect();
    decided.extend(careful.into_iter().filter(counts).map(|test| (test, true)));
    if decided.is_empty() {
        return Vec::new();
    }
    decided.sort_unstable_by_key(|&(test, _)| unit.tree.expr(test).span);
    let tests: Vec<ExprId> = decided.iter().map(|&(test, _)| test).collect();
    let wider = outcomes_of_all_writes(facts, script, &tests, Counted::Written);
    let told = decided.into_iter().map(|(test, careful)| {
        let settled = stays(unit, &wider, test, found(test).yes);
        Decided::of(script, (test, found(test)), careful, settled)
    });
    told.collect()
}

/// Whether a test still comes out one way only.
fn stays(unit: &ScriptUnit, outcomes: &FxHashMap<ExprId, Outcome>, test: ExprId, outcome: bool) -> bool {
    outcome_of(unit, outcomes, test).is_none_or(|found| (found.yes, found.no) == (outcome, !outcome))
}

/// Tests that are not told since others are, though these hang on nothing but one another: one of them is told.
fn tell_of_circles(facts: &Facts<'_>, all: &mut [Decided]) {
    let mut by_script: FxHashMap<ScriptId, FxHashMap<ExprId, Outcome>> = FxHashMap::default();
    let mut tests = Tests::default();
    for it in all.iter() {
        let mut hangs_on_writes = || {
            let reached = by_script.entry(it.script).or_insert_with(|| {
                let its_own = all.iter().filter(|other| other.script == it.script).map(|other| other.test);
                outcomes_of_all_writes(facts, it.script, &its_own.collect::<Vec<_>>(), Counted::Reached)
            });
            stays(facts.project.script(it.script), reached, it.test, it.found.yes)
        };
        let list = match !it.settled && hangs_on_writes() {
            true if it.careful => &mut tests.careful,
            true => &mut tests.held_back,
            false => &mut tests.others,
        };
        list.push((it.id(), it.found.yes));
    }
    if tests.held_back.is_empty() && tests.careful.is_empty() {
        return;
    }
    let told: FxHashSet<Test> = super::circles::unexplained(facts, &tests).into_iter().collect();
    all.iter_mut().for_each(|it| it.told |= told.contains(&it.id()));
}

/// What is set somewhere to nothing but values outside its range, as by `oil =- 1`: something else was meant, and what it
/// may hold then nobody can tell.
fn wholly_outside(facts: &Facts<'_>) -> FxHashSet<CellId> {
    let events = facts.handlers().flat_map(|handler| &handler.found.events);
    let outside = events.filter_map(|event| match *event {
        Event::Outside { at, written, variable, end, after, limit, .. } if written == variable => {
            let wholly = match end {
                End::Max => after.0 > limit.1,
                End::Min => after.1 < limit.0,
            };
            let cell = CellId(variable.0);
            let is_set =
                |access: &Access| access.statement == at && matches!(access.kind, AccessKind::Write(AssignOp::Set, _));
            // Where a step is the only thing that moves it, that tells nothing of what it was meant to come to.
            let moves_it = |access: &Access| access.statement != at && access.writes();
            let stands_still = matches!(&facts.world.reach[cell.index()], Value::Num(num) if num.lo == num.hi)
                && !facts.uses(cell).any(|(_, access)| moves_it(access));
            (wholly && (stands_still || facts.uses(cell).any(|(_, access)| is_set(access)))).then_some(cell)
        }
        _ => None,
    });
    outside.collect()
}

/// How each test of a script came out, over all its handlers.
fn outcomes(facts: &Facts<'_>, script: ScriptId) -> FxHashMap<ExprId, Outcome> {
    let mut all: FxHashMap<ExprId, Outcome> = FxHashMap::default();
    for handler in facts.handlers_of(script) {
        for (&test, outcome) in &handler.found.outcomes {
            all.entry(test).or_default().take(outcome);
        }
    }
    all
}

/// How these tests come out where all that is ever written counts, be it put right before anyone can see it. Those that stand in
/// procedures any handler may come to.
fn outcomes_of_all_writes(
    facts: &Facts<'_>,
    script: ScriptId,
    tests: &[ExprId],
    counted: Counted,
) -> FxHashMap<ExprId, Outcome> {
    let tree = &facts.project.script(script).tree;
    let stands_in = |handler: &Handler, test: ExprId| handler.span.contains(tree.expr(test).span);
    let in_procedure = tests.iter().any(|&test| !tree.handlers.iter().any(|handler| stands_in(handler, test)));
    let comes_to_any =
        |handler: &HandlerView<'_, '_>| in_procedure || tests.iter().any(|&test| stands_in(handler.tree, test));
    let handlers: Vec<_> = facts.handlers_of(script).filter(comes_to_any).collect();
    let wider = handlers.par_iter().map(|handler| facts.world.outcomes_of_all_writes(handler.id, counted));
    let wider: Vec<Option<FxHashMap<ExprId, Outcome>>> = wider.collect();
    let mut all: FxHashMap<ExprId, Outcome> = FxHashMap::default();
    for (handler, wider) in handlers.iter().zip(&wider) {
        for (&test, outcome) in wider.as_ref().unwrap_or(&handler.found.outcomes) {
            all.entry(test).or_default().take(outcome);
        }
    }
    all
}

/// How a comparison, a flag or `not` a flag came out.
fn outcome_of(unit: &ScriptUnit, outcomes: &FxHashMap<ExprId, Outcome>, test: ExprId) -> Option<Outcome> {
    match unit.tree.expr(test).kind {
        ExprKind::Unary(UnaryOp::Not, inner) => {
            let found = outcomes.get(&inner)?;
            Some(Outcome { yes: found.no, no: found.yes, asked: found.asked })
        }
        _ => outcomes.get(&test).copied(),
    }
}

/// The tests of whether there is anything, and of what kind it is.
fn kind_tests(unit: &ScriptUnit) -> impl Iterator<Item = ExprId> {
    let all = (0..).map(ExprId).zip(&unit.tree.exprs);
    all.filter(|(_, expr)| matches!(expr.kind, ExprKind::Is { .. })).map(|(id, _)| id)
}

/// The comparisons and flags that stand in conditions; a flag with its `not`.
fn conditions(unit: &ScriptUnit) -> FxHashSet<ExprId> {
    let mut roots: Vec<ExprId> = unit.tree.handlers.iter().filter_map(|handler| handler.when).collect();
    let bodies = unit.tree.handlers.iter().map(|handler| &handler.body);
    for body in bodies.chain(unit.tree.procedures.iter().map(|procedure| &procedure.body)) {
        walk(body, &mut |statement| match &statement.kind {
            StatementKind::If { arms, .. } => roots.extend(arms.iter().map(|arm| arm.tests[0])),
            StatementKind::While { condition, .. } | StatementKind::WaitUntil(condition) => roots.push(*condition),
            StatementKind::For { filter, .. } => roots.extend(filter),
            StatementKind::Ask { choices, .. } => roots.extend(choices.iter().filter_map(|choice| choice.when)),
            _ => {}
        });
    }
    let mut all = FxHashSet::default();
    let (mut looked_behind, mut asked) = (FxHashSet::default(), FxHashSet::default());
    while let Some(test) = roots.pop() {
        match &unit.tree.expr(test).kind {
            ExprKind::Unary(UnaryOp::Not, inner) if !matches!(unit.tree.expr(*inner).kind, ExprKind::Path(_)) => {
                roots.push(*inner);
            }
            ExprKind::Binary(BinaryOp::And | BinaryOp::Or, left, right) => roots.extend([*left, *right]),
            ExprKind::Is { .. } => {}
            ExprKind::Binary(op, left, right) if let Some((inner, _)) = unit.tree.asked_for(*op, *left, *right) => {
                roots.push(inner);
            }
            // What a procedure answers is asked in its place.
            ExprKind::Call(..) if let Meaning::Procedure(id) = unit.meaning(test) => {
                if asked.insert(id) {
                    roots.extend(answers(unit, id));
                }
            }
            _ => {
                let Some(behind) = behind(unit, test) else {
                    all.insert(test);
                    continue;
                };
                if looked_behind.insert(behind) {
                    roots.push(behind);
                }
                // A name for a comparison may be decided where the comparison itself was not.
                let is_answer = matches!(unit.meaning(behind), Meaning::Procedure(_));
                let is_other = matches!(
                    unit.tree.expr(behind).kind,
                    ExprKind::Is { .. } | ExprKind::Binary(BinaryOp::And | BinaryOp::Or, ..)
                );
                if !is_answer && !is_other {
                    all.insert(test);
                }
            }
        }
    }
    all
}

/// What a procedure gives.
fn answers(unit: &ScriptUnit, id: ProcId) -> Vec<ExprId> {
    let mut given = Vec::new();
    walk(&unit.tree.procedures[id.index()].body, &mut |statement| {
        if let StatementKind::Return(Some(value)) = statement.kind {
            given.push(value);
        }
    });
    given
}

/// Goes through a test, what stands behind its names, and what the procedures answer that it calls, each once.
fn walk_asked(unit: &ScriptUnit, test: ExprId, visit: &mut impl FnMut(ExprId)) {
    let (mut open, mut called) = (vec![test], FxHashSet::default());
    while let Some(part) = open.pop() {
        walk_behind(unit, part, &mut |inner| {
            visit(inner);
            if let Meaning::Procedure(id) = unit.meaning(inner)
                && called.insert(id)
            {
                open.extend(answers(unit, id));
            }
        });
    }
}

/// The value of the `let` whose name, or `not` its name, is a test.
fn behind(unit: &ScriptUnit, test: ExprId) -> Option<ExprId> {
    let asked = if let ExprKind::Unary(UnaryOp::Not, inner) = unit.tree.expr(test).kind { inner } else { test };
    Some(unit.behind(asked)).filter(|&behind| behind != asked)
}

/// What the locals of a script are given: found once, since there may be many tests to ask for.
struct Locals<'a> {
    facts: &'a Facts<'a>,
    script: ScriptId,
    unit: &'a ScriptUnit,
    /// What is written with values outside its range alone.
    beyond: &'a FxHashSet<CellId>,
    /// The parameters of signals that are only given constants.
    sent: &'a FxHashSet<(SignalId, usize)>,
    values: FxHashMap<LocalId, Vec<ExprId>>,
    /// Those that are assigned again.
    assigned: FxHashSet<PlaceId>,
}

impl<'a> Locals<'a> {
    fn new(
        facts: &'a Facts<'a>,
        script: ScriptId,
        beyond: &'a FxHashSet<CellId>,
        sent: &'a FxHashSet<(SignalId, usize)>,
    ) -> Self {
        let unit = facts.project.script(script);
        let mut locals =
            Self { facts, script, unit, beyond, sent, values: FxHashMap::default(), assigned: FxHashSet::default() };
        let bodies = unit.tree.handlers.iter().map(|handler| &handler.body);
        for body in bodies.chain(unit.tree.procedures.iter().map(|procedure| &procedure.body)) {
            walk(body, &mut |statement| match &statement.kind {
                StatementKind::Let { local, value } => locals.values.entry(*local).or_default().push(*value),
                StatementKind::Assign { target, .. } => locals.assigned.extend(unit.place_of(*target)),
                _ => {}
            });
        }
        locals
    }

    /// Whether something that can change in play has a part in a test, and nothing that could not be read.
    fn depends_on_play(&self, test: ExprId) -> bool {
        let world = &self.facts.world;
        let unsettled = |cell| world.is_unsettled(cell) && !world.is_unsettled_by_others(self.script, cell);
        let unknown = |cell| unsettled(cell) || self.beyond.contains(&cell);
        if self.facts.cells_in(self.unit, test).into_iter().any(unknown) {
            return false;
        }
        let mut depends = false;
        walk_expr(self.unit, test, &mut |expr| match self.unit.meaning(expr) {
            Meaning::Value(place) | Meaning::Axis(place, _) => depends |= self.can_change(place),
            Meaning::Procedure(_) => depends = true,
            // How many instances there are at least is settled where they are placed: a guard for none is no mistake.
            Meaning::Builtin(builtin) => depends |= matches!(builtin, Builtin::Random | Builtin::Chance),
            _ => {}
        });
        depends
    }

    fn can_change(&self, place: PlaceId) -> bool {
        match self.unit.place(place) {
            Place::Local(local) => self.local_can_change(local, place),
            _ => cell_can_change(self.facts, self.unit, place),
        }
    }

    /// A `let` that is set once, from what never changes, is a constant by another name; so is a procedure's parameter that
    /// every call gives a constant.
    fn local_can_change(&self, local: LocalId, place: PlaceId) -> bool {
        let given = match self.unit.tree.local(local).kind {
            LocalKind::Let => false,
            LocalKind::Parameter => !self.is_given_constants(local),
            _ => true,
        };
        let mut values = self.values.get(&local).into_iter().flatten();
        given || self.assigned.contains(&place) || values.any(|&value| self.depends_on_play(value))
    }

    /// Whether a local is the parameter of a procedure or of a signal of scripts, and all that is passed for it never changes.
    fn is_given_constants(&self, local: LocalId) -> bool {
        self.is_constant_within(local, MOST_PASSED_ON)
    }

    fn is_constant_within(&self, local: LocalId, calls: usize) -> bool {
        let unit = self.unit;
        for handler in &unit.handlers {
            if let Some(at) = handler.parameters.iter().position(|&(parameter, _)| parameter == local) {
                return handler.signal.is_some_and(|signal| self.sent.contains(&(signal, at)));
            }
        }
        let at = |procedure: &ProcFacts| procedure.parameters.iter().position(|&parameter| parameter == local);
        let found = unit.procedures.iter().enumerate().find_map(|(id, procedure)| Some((id, at(procedure)?)));
        let (Some((id, at)), Some(calls)) = (found, calls.checked_sub(1)) else { return false };
        let is_constant = |value: ExprId| match unit.place_of(value).map(|place| unit.place(place)) {
            Some(Place::Local(passed_on)) => self.is_constant_within(passed_on, calls),
            _ => is_literal(self.facts, unit, value),
        };
        unit.calls_of(ProcId::at(id)).all(|(_, given)| given.get(at).is_none_or(|&value| is_constant(value)))
    }
}

/// Through how many procedures it is followed what is passed on.
const MOST_PASSED_ON: usize = 8;

/// The parameters of scripts' signals that every `send` gives something that never changes.
fn sent_constants(facts: &Facts<'_>) -> FxHashSet<(SignalId, usize)> {
    let mut sent: FxHashMap<(SignalId, usize), bool> = FxHashMap::default();
    for (_, unit) in facts.project.script_ids() {
        let bodies = unit.tree.handlers.iter().map(|handler| &handler.body);
        for body in bodies.chain(unit.tree.procedures.iter().map(|procedure| &procedure.body)) {
            walk(body, &mut |statement| {
                let StatementKind::Send { signal, arguments, .. } = &statement.kind else { return };
                let Some(signal) = unit.signal_named(*signal) else { return };
                for (at, &value) in arguments.iter().enumerate() {
                    *sent.entry((signal, at)).or_insert(true) &= is_literal(facts, unit, value);
                }
            });
        }
    }
    let by_scripts = |signal: SignalId| !facts.registry().signal(signal).from_engine;
    sent.into_iter().filter(|&((signal, _), constant)| constant && by_scripts(signal)).map(|(key, _)| key).collect()
}

/// Whether a value is made of literals and of variables that nothing writes.
fn is_literal(facts: &Facts<'_>, unit: &ScriptUnit, value: ExprId) -> bool {
    let mut literal = true;
    walk_expr(unit, value, &mut |expr| match unit.meaning(expr) {
        Meaning::Value(place) | Meaning::Axis(place, _) => {
            literal &= !matches!(unit.place(place), Place::Local(_)) && !cell_can_change(facts, unit, place);
        }
        Meaning::Procedure(_) | Meaning::Builtin(_) => literal = false,
        _ => {}
    });
    literal
}

/// Whether what is no local can change in play.
fn cell_can_change(facts: &Facts<'_>, unit: &ScriptUnit, place: PlaceId) -> bool {
    match unit.place(place) {
        Place::Variable(variable, _) => {
            !facts.registry().var(variable).constant && facts.is_written(CellId(variable.0))
        }
        Place::Private(index) => facts.is_written(unit.privates[index as usize].cell),
        Place::Was | Place::Local(_) => true,
    }
}

/// Tests that guard a write which is itself reported: the write is the mistake.
fn excused(
    facts: &Facts<'_>,
    script: ScriptId,
    unit: &ScriptUnit,
    by_answers: &FxHashMap<SignalId, FxHashSet<CellId>>,
) -> FxHashSet<ExprId> {
    let mut excused = FxHashSet::default();
    let in_procedures = unit.tree.procedures.iter().flat_map(|procedure| guards(&procedure.body));
    let in_procedures: Vec<Guard> = in_procedures.collect();
    for handler in facts.handlers_of(script) {
        let in_body = guards(&handler.tree.body);
        let written = handler.found.events.iter().filter_map(|event| broken(facts, event));
        let leads_there = facts.world.signals_sent_by(handler.id).iter().any(|sent| by_answers.contains_key(sent));
        let sent = leads_there.then(|| facts.world.sends(handler.id)).into_iter().flatten();
        let sent = sent.filter_map(|(signal, at)| Some((at, by_answers.get(&signal)?.clone())));
        for (at, asked) in written.chain(sent) {
            let before = in_body.iter().chain(&in_procedures).filter(|guard| guard.guards(at));
            for guard in before.map(|guard| guard.test).chain(handler.tree.when) {
                walk_asked(unit, guard, &mut |test| {
                    if mentions(facts, unit, test, &asked) {
                        excused.insert(test);
                    }
                });
            }
        }
    }
    excused
}

/// What the reported writes are about that come in answer to each signal, or to what is sent in answer to it.
fn broken_by_answers(facts: &Facts<'_>) -> FxHashMap<SignalId, FxHashSet<CellId>> {
    let mut all: FxHashMap<SignalId, FxHashSet<CellId>> = FxHashMap::default();
    let answering: Vec<(HandlerId, SignalId)> =
        facts.world.handler_ids().filter_map(|id| Some((id, facts.world.signal_of(id)?))).collect();
    for &(id, signal) in &answering {
        for (_, cells) in facts.handler(id).found.events.iter().filter_map(|event| broken(facts, event)) {
            all.entry(signal).or_default().extend(cells);
        }
    }
    if all.is_empty() {
        return all;
    }
    for _ in 0..MOST_ANSWERS {
        for &(id, signal) in &answering {
            let sent = facts.world.signals_sent_by(id).iter().filter(|sent| **sent != signal);
            let behind: Vec<CellId> = sent.filter_map(|sent| all.get(sent)).flatten().copied().collect();
            if !behind.is_empty() {
                all.entry(signal).or_default().extend(behind);
            }
        }
    }
    all
}

/// A write that leaves a range or breaks an invariant, and the cells that this is about.
fn broken(facts: &Facts<'_>, event: &Event) -> Option<(Span, FxHashSet<CellId>)> {
    match *event {
        Event::Outside { at, variable, written, .. } => {
            let bounded = facts.registry().var(variable);
            let bounds = [&bounded.min, &bounded.max].into_iter().flatten().filter_map(|bound| match bound {
                Bound::Variable(bound) => Some(CellId(bound.0)),
                Bound::Number(_) => None,
            });
            Some((at, bounds.chain([CellId(variable.0), CellId(written.0)]).collect()))
        }
        Event::Broken { at, invariant } => {
            let named = &facts.project.invariants[invariant.index()].variables;
            Some((at, named.iter().map(|variable| CellId(variable.0)).collect()))
        }
        _ => None,
    }
}

/// Whether a test asks about one of the cells, or about a local that may stand for something of them.
fn mentions(facts: &Facts<'_>, unit: &ScriptUnit, test: ExprId, cells: &FxHashSet<CellId>) -> bool {
    let mut found = false;
    walk_expr(unit, test, &mut |expr| {
        if let Meaning::Value(place) | Meaning::Axis(place, _) | Meaning::Bound(place, _) = unit.meaning(expr) {
            let local = matches!(unit.place(place), Place::Local(_));
            found |= local || facts.project.cell_of(unit, place).is_some_and(|cell| cells.contains(&cell));
        }
    });
    found
}

fn word(facts: &Facts<'_>, unit: &ScriptUnit, rule: RuleName, test: ExprId, outcome: &Outcome) -> Finding {
    let span = unit.tree.expr(test).span;
    let text = facts.project.text(unit, span);
    let mut message = if outcome.yes {
        format!("`{text}` is always true here, whatever happens in play")
    } else {
        format!("`{text}` is never true here, whatever happens in play")
    };
    let mut variable = None;
    walk_expr(unit, test, &mut |expr| {
        if variable.is_none() {
            variable = unit.place_of(expr).and_then(|place| facts.project.cell_of(unit, place));
        }
    });
    let mut finding = Finding::new(rule, unit.at(span), "");
    if let Some(asked) = outcome.asked {
        let range = crate::rules::facts::range_text(asked.lo, asked.hi);
        let name = facts.project.text(unit, unit.tree.expr(asked.expr).span);
        let kind = &unit.tree.expr(test).kind;
        match asked.between {
            None => message.push_str(&format!(": `{name}` is {range}")),
            Some(number) if matches!(kind, ExprKind::Binary(BinaryOp::Equal | BinaryOp::NotEqual, ..)) => {
                message.push_str(&format!(": `{name}` is {range}, but never {}", number + 0.0));
            }
            Some(_) => {} // Not the range decides there, but how it relates to others.
        }
    }
    if let Some(cell) = variable
        && let Cell::Variable(id) = facts.project.cells[cell.index()]
    {
        finding.variable = Some(facts.registry().identity(id));
    }
    finding.message = message;
    finding.help(if outcome.yes {
        "test what you mean, or take the test out"
    } else {
        "test for a value that it can have, or take the branch out"
    })
}
