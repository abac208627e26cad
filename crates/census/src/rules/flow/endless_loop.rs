//! `flow/endless-loop`: a `while` with no wait in it, and no way out, whose condition nothing in it can change.

use crate::finding::{Finding, Level, RuleName};
use crate::flow::access::{exit_reads, parts, walk_expr};
use crate::flow::graph::{Exit, Step, StepKind};
use crate::project::builtin::Builtin;
use crate::project::{Base, CellId, Meaning, Place, PlaceId, ProcId, ScriptId, ScriptUnit};
use crate::registry::Bound;
use crate::rules::Facts;
use crate::rules::{Example, Rule};
use crate::script::ast::*;
use crate::source::Span;

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("flow/endless-loop"),
    level: Level::Error,
    means: "A `while` with no wait in it, and no way out, whose condition nothing in it can change.",
    hurts: "The game stands still.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on bell {
    while height < 3 {
        note "rising"
    }
    height = 3
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: "script tides for tide

on bell {
    while height < 3 {
        height += 1
    }
}
",
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (script, unit) in facts.project.script_ids() {
        for (start, condition) in endless(facts, script, unit) {
            let message = "once it has begun, nothing in this loop can end it: it never waits, never leaves, and never changes its condition";
            let at = Span { start, end: unit.tree.expr(condition).span.end };
            findings.push(
                Finding::new(RULE.name, unit.at(at), message)
                    .help("change what the condition reads, or `wait` inside the loop"),
            );
        }
    }
    findings
}

/// The loops of a script that nothing ends once they have begun: where each starts, and its condition.
#[must_use]
pub fn endless(facts: &Facts<'_>, script: ScriptId, unit: &ScriptUnit) -> Vec<(u32, ExprId)> {
    let mut found = Vec::new();
    let bodies = unit.tree.handlers.iter().map(|handler| &handler.body);
    for body in bodies.chain(unit.tree.procedures.iter().map(|procedure| &procedure.body)) {
        walk(body, &mut |statement| {
            if let StatementKind::While { condition, body } = &statement.kind
                && is_endless(facts, script, unit, *condition, body)
            {
                found.push((statement.span.start, *condition));
            }
        });
    }
    found
}

fn is_endless(facts: &Facts<'_>, script: ScriptId, unit: &ScriptUnit, condition: ExprId, body: &Block) -> bool {
    if matches!(unit.tree.expr(condition).kind, ExprKind::Bool(false)) || leaves(unit, body, false) {
        return false;
    }
    let mut reads = Reads { places: Vec::new(), others: false };
    reads.gather(facts, script, unit, condition);
    !reads.others && !changes(facts, script, unit, body, &reads.places)
}

/// What a condition comes out by.
struct Reads {
    places: Vec<PlaceId>,
    /// Something else: what is drawn, what a procedure does beside, or what nobody can tell.
    others: bool,
}

impl Reads {
    fn gather(&mut self, facts: &Facts<'_>, script: ScriptId, unit: &ScriptUnit, expr: ExprId) {
        let mut called = Vec::new();
        self.expr(unit, expr, &mut called);
        for id in called {
            let graphs = facts.world.bodies(script, facts.world.procedure_graph(script, id));
            for block in graphs.into_iter().flat_map(|graph| &graph.blocks) {
                block.steps.iter().for_each(|step| self.step(unit, step));
                exit_reads(&block.exit).into_iter().for_each(|expr| self.expr(unit, expr, &mut Vec::new()));
                self.others |= matches!(block.exit, Exit::Choose(_));
            }
        }
    }

    fn step(&mut self, unit: &ScriptUnit, step: &Step) {
        let parts = parts(step);
        let is_local = |place: PlaceId| matches!(unit.place(place), Place::Local(_));
        self.others |= match &step.kind {
            StepKind::Assign { place, .. } => !is_local(*place),
            StepKind::Clear { .. } | StepKind::Spawn { .. } | StepKind::Remove(_) | StepKind::Wait(_) => true,
            _ => false,
        };
        let value = parts.target.and_then(|(_, _, value)| value);
        parts.reads.into_iter().chain(value).for_each(|expr| self.expr(unit, expr, &mut Vec::new()));
    }

    fn expr(&mut self, unit: &ScriptUnit, expr: ExprId, called: &mut Vec<ProcId>) {
        walk_expr(unit, expr, &mut |expr| match unit.meaning(expr) {
            Meaning::Value(place) | Meaning::Axis(place, _) | Meaning::Bound(place, _) => self.places.push(place),
            Meaning::Builtin(Builtin::Random | Builtin::Chance) => self.others = true,
            Meaning::Procedure(id) => called.push(id),
            Meaning::None => {
                let kind = &unit.tree.expr(expr).kind;
                self.others |= matches!(kind, ExprKind::Error | ExprKind::Path(_) | ExprKind::Call(..));
            }
            _ => {}
        });
    }
}

/// Whether a block waits, returns, or breaks out of the loop around it.
fn leaves(unit: &ScriptUnit, block: &Block, in_inner_loop: bool) -> bool {
    block.statements.iter().any(|statement| match &statement.kind {
        StatementKind::Wait(_)
        | StatementKind::WaitUntil(_)
        | StatementKind::Ask { .. }
        | StatementKind::Return(_)
        | StatementKind::Restart => true,
        StatementKind::Break => !in_inner_loop,
        StatementKind::Remove(what) => unit.meaning(*what) == Meaning::Own,
        StatementKind::Call(call) => {
            matches!(unit.meaning(*call), Meaning::Procedure(id) if unit.procedures[id.index()].waits)
        }
        StatementKind::After { .. } => false,
        StatementKind::While { body, .. } | StatementKind::Repeat { body, .. } | StatementKind::For { body, .. } => {
            leaves(unit, body, true)
        }
        _ => blocks(statement).into_iter().any(|block| leaves(unit, block, in_inner_loop)),
    })
}

/// Whether a block can change one of the places, or what they go through.
fn changes(facts: &Facts<'_>, script: ScriptId, unit: &ScriptUnit, block: &Block, reads: &[PlaceId]) -> bool {
    let cells: Vec<_> = reads.iter().flat_map(|&place| related(facts, unit, place)).collect();
    let (mut changed, mut later) = (false, Vec::new());
    walk(block, &mut |statement| match &statement.kind {
        // Its turn comes once the loop is through.
        StatementKind::After { body, .. } => later.push(body.span),
        _ if later.iter().any(|span: &Span| span.contains(statement.span)) => {}
        StatementKind::Assign { target, .. } | StatementKind::Clear { target } => match unit.place_of(*target) {
            Some(place) => {
                changed |= reads.contains(&place)
                    || facts.project.cell_of(unit, place).is_some_and(|cell| cells.contains(&cell));
            }
            None => changed = true,
        },
        StatementKind::Spawn { .. } | StatementKind::Remove(_) => changed = true,
        _ => {}
    });
    let writes = |id: ProcId| {
        cells.iter().any(|cell| facts.world.written_by(script, id).contains(cell)) || peoples(facts, script, id)
    };
    let writing: Vec<bool> = (0..unit.procedures.len()).map(|id| !changed && writes(ProcId::at(id))).collect();
    let calls_writing = |(at, expr): (u32, &Expr)| {
        let called = if let Meaning::Procedure(id) = unit.meaning(ExprId(at)) { Some(id) } else { None };
        let now = || block.span.contains(expr.span) && !later.iter().any(|span| span.contains(expr.span));
        called.is_some_and(|id| writing[id.index()]) && now()
    };
    changed || writing.contains(&true) && (0..).zip(&unit.tree.exprs).any(calls_writing)
}

/// Whether a procedure spawns or removes, with all that it calls: others may do anything then.
fn peoples(facts: &Facts<'_>, script: ScriptId, id: ProcId) -> bool {
    let bodies = facts.world.bodies(script, facts.world.procedure_graph(script, id));
    let mut steps = bodies.into_iter().flat_map(|graph| &graph.blocks).flat_map(|block| &block.steps);
    steps.any(|step| matches!(step.kind, StepKind::Spawn { .. } | StepKind::Remove(_)))
}

/// The cells that reading a place reads: its own, those it goes through, and its bounds.
fn related(facts: &Facts<'_>, unit: &ScriptUnit, place: PlaceId) -> Vec<CellId> {
    let mut cells: Vec<CellId> = facts.project.cell_of(unit, place).into_iter().collect();
    if let Place::Variable(variable, base) = unit.place(place) {
        let facts_of = facts.registry().var(variable);
        for bound in [&facts_of.min, &facts_of.max].into_iter().flatten() {
            if let Bound::Variable(bound) = bound {
                cells.push(CellId(bound.0));
            }
        }
        if let Base::Held(held) = base {
            cells.extend(related(facts, unit, held));
        }
    }
    cells
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn loops_that_nothing_ends() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 6
engine = "reads"
"#,
            &[r#"script tides for tide

on bell {
    while height < 3 { // ~ flow/endless-loop
        note "x"
    }
}

on touched(other) {
    while height < 3 {
        height += 1
    }
    while chance(0.5) {
        note "x"
    }
    while height > 2 {
        rise()
    }
    height = random(0, 6)
    while height > 0 {
        wait 1s
    }
}

proc rise() {
    height = 0
}
"#],
        );
    }

    #[test]
    fn a_count_that_is_forgotten_is_one_mistake() {
        let rung = "[variables.tide]\nrung = { type = \"int\", scope = \"global\", default = 0, engine = \"reads\" }\n";
        let count = |step: &str, mark: &str| {
            let script = format!(
                "script bells for tide\n\non bell {{\n    let n = 0\n    while n < 3 {{{mark}\n        rung += 1\n{step}    }}\n}}\n"
            );
            expect(rung, &[&script]);
        };
        count("        n += 1\n", "");
        count("", " // ~ flow/endless-loop");
    }

    #[test]
    fn what_leaves_a_loop_and_what_does_not() {
        expect(
            r#"[variables.tide]
height = { type = "int", scope = "global", default = 0, min = 0, max = 9, overflow = "clamp", engine = "both" }
rounds = { type = "int", scope = "global", default = 0, engine = "both" }
"#,
            &[r#"script tides for tide

on bell {
    while height > 6 {
        if rounds == 4 {
            break
        }
        rounds = 3
    }
    let i = 0
    while i < 3 { // ~ flow/endless-loop
        note "{i}"
    }
}

on touched(other) {
    while random(1, 6) < 4 {
        note "luck"
    }
    while true {
        if height == 2 {
            return
        }
        wait 2t
    }
}

on bumped(other) {
    while true { // ~ flow/endless-loop
        note "round"
    }
}
"#],
        );
    }

    #[test]
    fn what_a_condition_asks_of_others() {
        let loops = |condition: &str, body: &str, mark: &str| {
            let script = format!(
                "script bells for tide\n\non bell {{\n    while {condition} {{{mark}\n        {body}\n    }}\n}}\n\nproc is_high() -> bool {{\n    return height > 3\n}}\n\nproc launch() {{\n    spawn mailboat\n}}\n"
            );
            expect_only(&script);
        };
        let endless = " // ~ flow/endless-loop";
        loops("count(mailboat) < 4", "rounds += 1", endless);
        loops("count(mailboat) < 4", "launch()", "");
        loops("not is_high()", "rounds += 1", endless);
        loops("not is_high()", "height += 1", "");
        loops("height > 3", "after 1s {\n            height -= 1\n        }", endless);
    }

    #[track_caller]
    fn expect_only(script: &str) {
        let config = format!("{}[rules]\n\"unused\" = \"off\"\n", crate::rules::testing::CONFIG);
        let registry = r#"[variables.tide]
height = { type = "int", scope = "global", default = 0, engine = "both" }
rounds = { type = "int", scope = "global", default = 0, engine = "both" }
"#;
        crate::rules::testing::expect_with(&config, registry, &[script]);
    }
}
