//! `sharing/order-hazard`: handlers in two scripts answer one trigger, one writes what the other uses, and nothing says which goes first.

use crate::finding::{Finding, Level, RuleName};
use crate::flow::access::{Access, AccessKind, Body, walk_expr};
use crate::flow::engine::Key;
use crate::project::{Base, CellId, Place, ScriptUnit};
use crate::registry::{Overflow, OwnerId, SignalId, Type};
use crate::rules::Facts;
use crate::rules::facts::HandlerView;
use crate::rules::{Example, Rule};
use crate::script::ast::{AssignOp, Trigger};
use crate::source::Span;
use rustc_hash::FxHashMap;

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("sharing/order-hazard"),
    level: Level::Warning,
    means: "Handlers in two scripts answer one trigger, one writes what the other uses, and nothing says which goes first.",
    hurts: "It works until somebody renames a file.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on bell {
    height = 2
}

script desk for office

on bell {
    if tide.height > 1 {
        show "High water"
    }
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on bell {
    height = 2
    send tide_turned
}

script desk for office

on tide_turned {
    if tide.height > 1 {
        show "High water"
    }
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let mut groups: FxHashMap<TriggerKey, Vec<HandlerView<'_, '_>>> = FxHashMap::default();
    for handler in facts.handlers() {
        if let Some(key) = key(facts, &handler) {
            groups.entry(key).or_default().push(handler);
        }
    }
    let first: Vec<&str> =
        facts.project.config.order.iter().map(|script| script.path.trim_start_matches("./")).collect();
    let ordered = |handler: &HandlerView<'_, '_>| first.contains(&&*facts.project.sources.file(handler.unit.file).path);
    let mut findings: Vec<Finding> = Vec::new();
    for group in groups.values() {
        let accesses: Vec<Vec<Early>> = group.iter().map(|handler| early(facts, handler)).collect();
        for (at, a) in group.iter().enumerate() {
            for (to, b) in group.iter().enumerate().skip(at + 1) {
                if a.script == b.script || ordered(a) || ordered(b) || !both_answer(facts, a, b) {
                    continue;
                }
                for conflict in conflicts(facts, a, &accesses[at], b, &accesses[to]) {
                    let finding = word(facts, a, b, &conflict);
                    if !findings.iter().any(|known| known.at == finding.at && known.variable == finding.variable) {
                        findings.push(finding);
                    }
                }
            }
        }
    }
    findings
}

/// What two handlers must share to answer one and the same trigger.
#[derive(Clone, PartialEq, Eq, Hash)]
enum TriggerKey {
    Start,
    Enter,
    Leave,
    Spawn(Option<OwnerId>),
    Removed(Option<OwnerId>),
    Tick,
    Every(u64),
    Changed(CellId),
    Signal(SignalId),
}

fn key(facts: &Facts<'_>, handler: &HandlerView<'_, '_>) -> Option<TriggerKey> {
    let resolved = &handler.unit.handlers[handler.index];
    Some(match &handler.tree.trigger {
        Trigger::Unreadable => return None,
        Trigger::Start => TriggerKey::Start,
        Trigger::Enter => TriggerKey::Enter,
        Trigger::Leave => TriggerKey::Leave,
        Trigger::Spawn => TriggerKey::Spawn(handler.unit.owner),
        Trigger::Removed => TriggerKey::Removed(handler.unit.owner),
        Trigger::Tick => TriggerKey::Tick,
        Trigger::Every(period) => TriggerKey::Every(period.ticks(facts.project.config.tick_rate)?.to_bits()),
        Trigger::Changed(_) => TriggerKey::Changed(facts.project.cell_of(handler.unit, resolved.changed?)?),
        Trigger::Signal { .. } => TriggerKey::Signal(resolved.signal?),
    })
}

/// Whether one and the same trigger can reach both: not in different scenes, not for different actors, and not where
/// their filters or tests exclude each other.
fn both_answer(facts: &Facts<'_>, a: &HandlerView<'_, '_>, b: &HandlerView<'_, '_>) -> bool {
    let registry = facts.registry();
    if a.unit.scene.is_some() && b.unit.scene.is_some() && a.unit.scene != b.unit.scene {
        return false;
    }
    let actor = |handler: &HandlerView<'_, '_>| handler.unit.owner.filter(|&owner| registry.is_actor(owner));
    let to_one = a.unit.handlers[a.index].signal.is_some_and(|signal| {
        let signal = registry.signal(signal);
        signal.from_engine && !signal.to_all
    });
    if to_one && actor(a).is_some() && actor(b).is_some() && actor(a) != actor(b) {
        return false;
    }
    let filters = a.unit.handlers[a.index].parameters.iter().zip(&b.unit.handlers[b.index].parameters);
    for ((a_local, _), (b_local, _)) in filters {
        if let (Type::Ref(Some(x)), Type::Ref(Some(y))) =
            (a.unit.local_types[a_local.0 as usize], b.unit.local_types[b_local.0 as usize])
            && x != y
        {
            return false;
        }
    }
    !whens_exclude(facts, a, b)
}

/// Whether the tests of two handlers leave some shared variable no common value.
fn whens_exclude(facts: &Facts<'_>, a: &HandlerView<'_, '_>, b: &HandlerView<'_, '_>) -> bool {
    if a.tree.when.is_none() || b.tree.when.is_none() {
        return false;
    }
    let (Some(x), Some(y)) = (facts.world.entry_state(a.id), facts.world.entry_state(b.id)) else { return true };
    let (left, right) = (facts.world.table(a.id), facts.world.table(b.id));
    left.slots.iter().enumerate().any(|(at, slot)| {
        let Key::Place(place) = slot.key else { return false };
        let Place::Variable(variable, base) = a.unit.place(place) else { return false };
        matches!(base, Base::One | Base::Own | Base::Listed(_))
            && right
                .of_variable(variable, base)
                .is_some_and(|other| x.values[at].value.meet(&y.values[other as usize].value).is_none())
    })
}

/// A use of a cell before the handler's first wait.
#[derive(Clone, Copy)]
struct Early {
    access: Access,
    /// A step by what does not depend on the variable.
    pure_step: bool,
    /// The literal that is assigned.
    constant: Option<Span>,
}

fn early(facts: &Facts<'_>, handler: &HandlerView<'_, '_>) -> Vec<Early> {
    let periodic = matches!(handler.tree.trigger, Trigger::Tick | Trigger::Every(_));
    let own = facts.world.accesses[handler.script.index()].iter().filter(|access| {
        let here = match access.body {
            Body::Handler(index) => index == handler.index,
            Body::Procedure(_) => true,
        };
        let when = handler.tree.when.map(|when| handler.unit.tree.expr(when).span);
        let reached = handler.found.reached.get(&access.statement).is_some_and(|reached| reached.before_wait);
        here && (reached || when == Some(access.statement)) && !(periodic && access.shown)
    });
    let mut all: Vec<Early> = own.map(|access| describe(facts, handler.unit, *access)).collect();
    all.sort_by_key(|early| early.access.at);
    all
}

fn describe(facts: &Facts<'_>, unit: &ScriptUnit, access: Access) -> Early {
    let mut early = Early { access, pure_step: access.into_itself, constant: None };
    let clamps =
        facts.project.variable_of(access.cell).is_some_and(|id| facts.registry().var(id).overflow == Overflow::Clamp);
    match access.kind {
        AccessKind::Write(AssignOp::Add | AssignOp::Subtract, Some(value)) => {
            let mut depends = false;
            walk_expr(unit, value, &mut |expr| depends |= unit.place_of(expr) == Some(access.place));
            early.pure_step = !depends && !clamps;
        }
        AccessKind::Write(AssignOp::Set, Some(value)) if crate::project::is_constant(&unit.tree, value) => {
            early.constant = Some(unit.tree.expr(value).span);
        }
        AccessKind::Read => early.pure_step = access.into_itself && !clamps,
        _ => {}
    }
    early
}

struct Conflict {
    cell: CellId,
    /// The first access in the later handler, and the other's.
    later: Early,
    earlier: Early,
}

fn conflicts(
    facts: &Facts<'_>,
    a: &HandlerView<'_, '_>,
    first: &[Early],
    b: &HandlerView<'_, '_>,
    second: &[Early],
) -> Vec<Conflict> {
    let mut found: Vec<Conflict> = Vec::new();
    for later in second {
        let cell = later.access.cell;
        if found.iter().any(|known| known.cell == cell) {
            continue;
        }
        let theirs = |early: &&Early| early.access.cell == cell && may_be_one(facts, a.unit, early, b.unit, later);
        let mine: Vec<&Early> = second.iter().filter(|early| early.access.cell == cell).collect();
        let clash =
            first.iter().filter(theirs).find(|early| mine.iter().any(|own| clashes(facts, a.unit, early, b.unit, own)));
        if let Some(&earlier) = clash {
            found.push(Conflict { cell, later: *later, earlier });
        }
    }
    found
}

fn clashes(facts: &Facts<'_>, a: &ScriptUnit, x: &Early, b: &ScriptUnit, y: &Early) -> bool {
    if !x.access.writes() && !y.access.writes() {
        return false;
    }
    if x.pure_step && y.pure_step {
        return false;
    }
    match (x.constant, y.constant) {
        (Some(p), Some(q)) => facts.project.text(a, p) != facts.project.text(b, q),
        _ => true,
    }
}

fn may_be_one(facts: &Facts<'_>, a: &ScriptUnit, x: &Early, b: &ScriptUnit, y: &Early) -> bool {
    let _ = facts;
    let base = |unit: &ScriptUnit, early: &Early| match unit.place(early.access.place) {
        Place::Variable(_, base) => Some(base),
        _ => None,
    };
    !matches!((base(a, x), base(b, y)), (Some(Base::Listed(x)), Some(Base::Listed(y))) if x != y)
}

fn word(facts: &Facts<'_>, a: &HandlerView<'_, '_>, b: &HandlerView<'_, '_>, conflict: &Conflict) -> Finding {
    let name = facts.cell_name(conflict.cell);
    let verb = |early: &Early| if early.access.writes() { "writes" } else { "reads" };
    let other = facts.where_is(a.unit, conflict.earlier.access.at);
    let message = format!(
        "this {} `{name}`, and {other} {} it in answer to the same trigger: which comes first hangs on the files' names",
        verb(&conflict.later),
        verb(&conflict.earlier)
    );
    let path = &facts.project.sources.file(a.unit.file).path;
    let mut finding = Finding::new(RULE.name, b.unit.at(conflict.later.access.at), message);
    finding.variable = facts.project.variable_of(conflict.cell).map(|id| facts.registry().identity(id));
    finding
        .help(format!("say which goes first: `first = [\"{path}\"]` under `[order]` in oaken.toml"))
        .with(a.unit.at(conflict.earlier.access.at), "the other one is here")
}
