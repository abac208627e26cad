//! `sharing/order-hazard`: handlers in two scripts answer one trigger, one writes what the other uses, and nothing says which goes first.

use super::apart::{Tests, tests_exclude};
use super::bodies::Bodies;
use super::sequence::{Counts, Sequence};
use crate::finding::{Finding, Level, RuleName};
use crate::flow::access::{Access, AccessKind, plain_step};
use crate::flow::value::Value;
use crate::project::{Base, CellId, Meaning, Place, ScriptId, ScriptUnit};
use crate::registry::{Overflow, OwnerId, SignalId, Type};
use crate::rules::Facts;
use crate::rules::facts::HandlerView;
use crate::rules::{Example, Rule};
use crate::script::ast::{AssignOp, ExprId, LocalKind, Trigger};
use rayon::prelude::*;
use rustc_hash::FxHashMap;
use std::hash::BuildHasher;

/// How many earlier handlers each one is held against.
const MOST_PAIRS: usize = 2000;

/// How often it is looked into whether the tests of two handlers exclude each other.
const MOST_EXCLUDED: usize = 100;

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
    let first: Vec<&str> =
        facts.project.config.order.iter().map(|script| script.path.trim_start_matches("./")).collect();
    let ordered = |handler: &HandlerView<'_, '_>| first.contains(&&*facts.project.sources.file(handler.unit.file).path);
    // A test that means nothing may have been meant to keep the one out where the other answers.
    let readable = |handler: &HandlerView<'_, '_>| !ordered(handler) && !facts.world.tests_unread(handler.id);
    let mut answering: FxHashMap<TriggerKey, Vec<HandlerView<'_, '_>>> = FxHashMap::default();
    for handler in facts.handlers().filter(readable) {
        if let Some(key) = key(facts, &handler) {
            answering.entry(key).or_default().push(handler);
        }
    }
    answering.into_par_iter().flat_map_iter(|(_, handlers)| together(facts, handlers)).collect()
}

/// The findings about handlers that answer one trigger. Each trigger is gone through by itself: what all handlers of a large
/// project use at once takes a lot of room.
fn together<'p, 'f>(facts: &'f Facts<'p>, handlers: Vec<HandlerView<'p, 'f>>) -> Vec<Finding> {
    if handlers.iter().all(|handler| handler.script == handlers[0].script) {
        return Vec::new();
    }
    let accesses: Vec<_> = handlers.par_iter().map(|handler| early(facts, handler)).collect();
    let mut groups: FxHashMap<CellId, Vec<Use<'p, 'f>>> = FxHashMap::default();
    for (handler, early) in handlers.into_iter().zip(accesses) {
        for (cell, accesses) in early {
            groups.entry(cell).or_default().push(Use { handler, accesses });
        }
    }
    groups.into_par_iter().flat_map_iter(|(cell, uses)| judge(facts, cell, &uses)).collect()
}

/// Which use stands behind which tests.
type Behind = (usize, Tests);

/// One handler's early accesses of one cell, in order.
struct Use<'p, 'f> {
    handler: HandlerView<'p, 'f>,
    accesses: Vec<Early>,
}

/// The findings about one cell and one trigger: at most one for each script, at its first access.
fn judge(facts: &Facts<'_>, cell: CellId, uses: &[Use<'_, '_>]) -> Vec<Finding> {
    let mut findings = Vec::new();
    let mut told: Option<ScriptId> = None;
    if !uses.iter().flat_map(|used| &used.accesses).any(|early| early.access.writes()) {
        return findings;
    }
    let (bodies, tests) = (FxHashMap::default(), FxHashMap::default());
    let mut exclusions = Exclusions { facts, cell, uses, bodies, tests, known: Vec::new() };
    for (at, later) in uses.iter().enumerate() {
        if told == Some(later.handler.script) {
            continue;
        }
        let earlier = uses[..at].iter().enumerate().filter(|(_, other)| other.handler.script != later.handler.script);
        let clash = earlier.take(MOST_PAIRS).find_map(|(before, other)| {
            let clash = clash(&mut exclusions, before, at)?;
            both_answer(facts, &other.handler, &later.handler).then_some((other, clash))
        });
        if let Some((other, clash)) = clash {
            told = Some(later.handler.script);
            findings.push(word(facts, cell, other, later, &clash));
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
/// their filters exclude each other, or the `when` of one never comes out true, in whichever order they come.
fn both_answer(facts: &Facts<'_>, a: &HandlerView<'_, '_>, b: &HandlerView<'_, '_>) -> bool {
    let registry = facts.registry();
    if let (Some(x), Some(y)) = (facts.world.scenes_of(a.unit), facts.world.scenes_of(b.unit))
        && !x.is_empty()
        && !x.iter().any(|scene| y.contains(scene))
    {
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
    let begins = |handler: &HandlerView<'_, '_>| {
        handler.tree.when.is_none_or(|when| facts.world.entry_state_in_any_order(handler.id, &[(when, true)]).is_some())
    };
    begins(a) && begins(b)
}

/// A use of a cell before the handler's first wait.
#[derive(Clone, Copy)]
struct Early {
    access: Access,
    /// A step by what does not depend on the variable.
    pure_step: bool,
    /// A hash of the value that is assigned, where that is always the same.
    constant: Option<u64>,
}

fn early(facts: &Facts<'_>, handler: &HandlerView<'_, '_>) -> Vec<(CellId, Vec<Early>)> {
    let periodic = matches!(handler.tree.trigger, Trigger::Tick | Trigger::Every(_));
    let when = handler.tree.when.map(|when| handler.unit.tree.expr(when).span);
    let mut all: Vec<Early> = Vec::new();
    for access in facts.accesses_of(handler) {
        let reached = handler.found.reached.get(&access.statement).is_some_and(|reached| reached.before_wait);
        if (reached || when == Some(access.statement)) && !(periodic && access.shown) {
            all.push(describe(facts, handler.unit, *access));
        }
    }
    let sequence = Sequence::new(facts, handler, Counts::First);
    all.sort_by_key(|early| (early.access.cell, sequence.turn(early.access.at)));
    all.chunk_by(|a, b| a.access.cell == b.access.cell).map(|uses| (uses[0].access.cell, uses.to_vec())).collect()
}

fn describe(facts: &Facts<'_>, unit: &ScriptUnit, access: Access) -> Early {
    let mut early = Early { access, pure_step: access.into_itself, constant: None };
    let clamps =
        facts.project.variable_of(access.cell).is_some_and(|id| facts.registry().var(id).overflow == Overflow::Clamp);
    let kind = match access.kind {
        AccessKind::Write(op, value) => AccessKind::Write(op, value.map(|value| unit.behind(value))),
        kind => kind,
    };
    match kind {
        AccessKind::Write(op, Some(value)) if plain_step(unit, access.place, (op, value)).is_some() => {
            early.pure_step = !clamps;
        }
        AccessKind::Write(AssignOp::Set, Some(value)) => early.constant = constant(facts, unit, value),
        AccessKind::Read => early.pure_step = access.into_itself && !clamps,
        _ => {}
    }
    early
}

/// A hash of what literals come to, or a tuning value holds.
fn constant(facts: &Facts<'_>, unit: &ScriptUnit, value: ExprId) -> Option<u64> {
    let tuned = || match unit.meaning(value) {
        Meaning::Value(place) => facts.project.cell_of(unit, place).filter(|&cell| !facts.is_written(cell)),
        _ => None,
    };
    let known = if crate::project::is_constant(unit, &unit.tree, value) {
        facts.world.literal(unit, value, unit.ty(value))
    } else {
        facts.world.reach[tuned()?.index()].clone()
    };
    match known {
        // There are two zeros.
        Value::Num(num) => Some(rustc_hash::FxBuildHasher.hash_one((num.single()? + 0.0).to_bits())),
        known => known.is_single().then(|| rustc_hash::FxBuildHasher.hash_one(known)),
    }
}

/// The first access of one handler that does not go with some access of the other, and that one.
fn clash(exclusions: &mut Exclusions<'_, '_, '_>, first: usize, second: usize) -> Option<(Early, Early)> {
    let (a, b) = (&exclusions.uses[first], &exclusions.uses[second]);
    let (one, other) = (a.handler.unit, b.handler.unit);
    for (at, x) in a.accesses.iter().enumerate() {
        let clashing = |y: &Early| may_be_one(one, x, other, y) && clashes(x, y);
        for (beside, y) in b.accesses.iter().enumerate().filter(|(_, y)| clashing(y)) {
            if !exclusions.excluded((first, at), (second, beside)) {
                return Some((*x, *y));
            }
        }
    }
    None
}

/// Whether the tests before the accesses of one cell exclude each other, found as it is asked for.
struct Exclusions<'p, 'f, 'u> {
    facts: &'f Facts<'p>,
    cell: CellId,
    uses: &'u [Use<'p, 'f>],
    bodies: FxHashMap<usize, Bodies<'p, 'f>>,
    /// By use and access.
    tests: FxHashMap<(usize, usize), Tests>,
    known: Vec<(Behind, Behind, bool)>,
}

impl Exclusions<'_, '_, '_> {
    fn excluded(&mut self, x: (usize, usize), y: (usize, usize)) -> bool {
        let (left, right) = ((x.0, self.tests_before(x)), (y.0, self.tests_before(y)));
        if let Some((.., excluded)) = self.known.iter().find(|(a, b, _)| (a, b) == (&left, &right)) {
            return *excluded;
        }
        if self.known.len() >= MOST_EXCLUDED {
            return false;
        }
        let (a, b) = (&self.uses[x.0].handler, &self.uses[y.0].handler);
        let excluded = tests_exclude(self.facts, self.cell, (a, &left.1), (b, &right.1));
        self.known.push((left, right, excluded));
        excluded
    }

    fn tests_before(&mut self, access: (usize, usize)) -> Tests {
        if let Some(tests) = self.tests.get(&access) {
            return tests.clone();
        }
        let used = &self.uses[access.0];
        let bodies = self.bodies.entry(access.0).or_insert_with(|| Bodies::new(self.facts, used.handler));
        let tests = bodies.tests_before(used.accesses[access.1].access.at);
        self.tests.insert(access, tests.clone());
        tests
    }
}

fn clashes(x: &Early, y: &Early) -> bool {
    let pure = x.pure_step && y.pure_step;
    let same = x.constant.is_some() && x.constant == y.constant;
    (x.access.writes() || y.access.writes()) && !pure && !same
}

fn may_be_one(a: &ScriptUnit, x: &Early, b: &ScriptUnit, y: &Early) -> bool {
    match (a.place(x.access.place), b.place(y.access.place)) {
        (Place::Variable(_, Base::Listed(x)), Place::Variable(_, Base::Listed(y))) => x == y,
        // Whose variable is meant is not said there, which is a finding of its own.
        (Place::Variable(_, Base::Some), _) | (_, Place::Variable(_, Base::Some)) => false,
        (Place::Variable(_, x), Place::Variable(_, y)) => match (is_fresh(a, x), is_fresh(b, y)) {
            (true, true) => false,
            (true, false) => !matches!(y, Base::Listed(_)),
            (false, true) => !matches!(x, Base::Listed(_)),
            (false, false) => true,
        },
        _ => true,
    }
}

/// Whether a variable is taken from an instance that the very handler has spawned.
fn is_fresh(unit: &ScriptUnit, base: Base) -> bool {
    let Base::Held(held) = base else { return false };
    matches!(unit.place(held), Place::Local(local) if unit.tree.local(local).kind == LocalKind::Spawned)
}

fn word(facts: &Facts<'_>, cell: CellId, a: &Use<'_, '_>, b: &Use<'_, '_>, clash: &(Early, Early)) -> Finding {
    let (a_unit, b_unit) = (a.handler.unit, b.handler.unit);
    let ((earlier, later), first) = (clash, b.accesses[0]);
    let name = facts.cell_name(cell);
    let verb = |early: &Early| if early.access.writes() { "writes" } else { "reads" };
    let here = if first.access.statement == later.access.statement {
        format!("this {} `{name}`", verb(later))
    } else {
        format!("this {} `{name}`, {} {} it", verb(&first), facts.where_is(b_unit, later.access.at), verb(later))
    };
    let other = facts.where_is(a_unit, earlier.access.at);
    let message = format!(
        "{here}, and {other} {} it in answer to the same trigger: which comes first hangs on the files' names",
        verb(earlier)
    );
    let path = &facts.project.sources.file(a_unit.file).path;
    let mut finding = Finding::new(RULE.name, b_unit.at(first.access.at), message);
    finding.variable = facts.project.variable_of(cell).map(|id| facts.registry().identity(id));
    finding
        .help(format!("say which goes first: `first = [\"{path}\"]` under `[order]` in oaken.toml"))
        .with(a_unit.at(earlier.access.at), "the other one is here")
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::{expect, expect_with};

    #[test]
    fn steps_that_are_written_out_go_together_as_others_do() {
        let registry =
            "[variables.tide]\nleft = { type = \"int\", scope = \"global\", default = 9, engine = \"reads\" }\n";
        let first = "script one for tide\n\non bell {\n    left = left + 1\n}\n";
        expect(registry, &[first, "script two for tide\n\non bell {\n    left = left - 2\n}\n"]);
        expect(registry, &[first, "script two for tide\n\non bell {\n    left -= 2\n}\n"]);
        let doubles = "script two for tide\n\non bell {\n    left = left + left // ~ sharing/order-hazard\n}\n";
        expect(registry, &[first, doubles]);
    }

    #[test]
    fn tests_that_exclude_each_other_part_two_handlers() {
        let registry = "[signals.gust]\nfrom = \"engine\"\nto = \"all\"\nparameters = { force = \"int\" }\n[variables.tide]\nheight = { type = \"int\", scope = \"global\", default = 0, engine = \"both\" }\nlimit = { type = \"int\", scope = \"global\", default = 5, engine = \"both\" }\nlast = { type = \"int\", scope = \"global\", default = 0, engine = \"reads\" }\n";
        let parted = |first: &str, second: &str, mark: &str| {
            let one = format!("script one for tide\n\non gust(force) when {first} {{\n    last = 1\n}}\n");
            let two = format!("script two for tide\n\non gust(power) when {second} {{\n    last = 2{mark}\n}}\n");
            expect(registry, &[&one, &two]);
        };
        let hazard = " // ~ sharing/order-hazard";
        parted("force > 6", "power <= 6", "");
        parted("height > limit", "height <= limit and power > 3", "");
        parted("force == height", "height < power", "");
        parted("force > 6", "power >= 6", hazard);
        parted("height > limit", "limit > 3", hazard);
        // The one that goes first opens the way for the other.
        let one = "script one for tide\n\non gust(force) when height > 3 {\n    last = 1\n    height = 0\n}\n";
        let two = "script two for tide\n\non gust(force) when height <= 3 { // ~ sharing/order-hazard\n    last = 2 // ~ sharing/order-hazard\n}\n";
        expect(registry, &[one, two]);
    }

    #[test]
    fn a_test_that_leads_out_of_one_branch_keeps_nothing_from_the_other() {
        let registry = "[variables.tide]\nheight = { type = \"int\", scope = \"global\", default = 0, engine = \"both\" }\nhigh = { type = \"bool\", scope = \"global\", default = false, engine = \"both\" }\nlast = { type = \"int\", scope = \"global\", default = 0, engine = \"reads\" }\n";
        let one = "script one for tide\n\non bell when not high {\n    last = 1\n}\n";
        let branches = |first: &str, other: &str| {
            let two = format!(
                "script two for tide\n\non bell {{\n    if height > 3 {{\n        if not high {{\n            return\n        }}\n{first}    }} else {{\n{other}        height = 3\n    }}\n}}\n"
            );
            expect(registry, &[one, &two]);
        };
        branches("        last = 2\n", "");
        branches("", "        last = 2 // ~ sharing/order-hazard\n");
    }

    #[test]
    fn each_handler_s_own_new_instance_is_no_other_s() {
        let registry = "[variables.parcel]\nweight = { type = \"int\", scope = \"instance\", default = 1, engine = \"reads\", writers = [\"*\"] }\n";
        let first = "script one for tide\n\non bell {\n    spawn parcel as mine\n    mine.weight = 3\n}\n";
        expect(registry, &[first, "script two for office\n\non bell {\n    spawn parcel as p\n    p.weight = 4\n}\n"]);
        let all = "script two for office\n\non bell {\n    for p in parcel {\n        p.weight = 4 // ~ sharing/order-hazard\n    }\n}\n";
        expect(registry, &[first, all]);
    }

    #[test]
    fn what_the_game_sets_to_one_mode_is_in_no_other() {
        let registry = r#"[variables.tide]
left = { type = "int", scope = "global", default = 9, engine = "reads" }
mood = { type = "enum", scope = "global", default = "calm", values = ["calm", "brisk", "storm"], engine = "writes" }
"#;
        let parted = |first: &str, second: &str, mark: &str| {
            let one = format!("script one for tide\n\non bell when mood {first} {{\n    left = 3\n}}\n");
            let two = format!("script two for tide\n\non bell when mood {second} {{\n    left += 1{mark}\n}}\n");
            expect(registry, &[&one, &two]);
        };
        parted("!= \"calm\"", "== \"calm\"", "");
        parted("!= \"calm\"", "!= \"storm\"", " // ~ sharing/order-hazard");
    }

    #[test]
    fn a_wait_on_one_way_leaves_the_other() {
        let registry =
            "[variables.tide]\nleft = { type = \"int\", scope = \"global\", default = 9, engine = \"reads\" }\n";
        let first = "script one for tide\n\non bell {\n    left = 3\n}\n";
        let second = |wait: &str, mark: &str| {
            let script = format!("script two for tide\n\non bell {{\n    {wait}\n    left = random(0, 9){mark}\n}}\n");
            expect(registry, &[first, &script]);
        };
        second("wait 1s", "");
        second("if chance(0.5) { wait 1s }", " // ~ sharing/order-hazard");
    }

    #[test]
    fn what_only_the_order_keeps_out_is_a_matter_of_order() {
        let registry = "[variables.tide]\nheight = { type = \"int\", scope = \"global\", default = 0, engine = \"reads\", writers = [\"*\"] }\nwatched = { type = \"bool\", scope = \"global\", default = false, engine = \"reads\" }\n";
        let first = "script tides for tide\n\non bell {\n    height = 4\n}\n\non touched {\n    height = 0\n}\n";
        let second = |test: &str, told: &str| {
            format!("script books for office\n\non bell when {test} {{{told}\n    note \"{{tide.height}}\"\n}}\n")
        };
        expect(registry, &[first, &second("tide.height == 0", " // ~ sharing/order-hazard")]);
        // Nobody ever watches.
        expect(registry, &[first, &second("tide.watched", "")]);
    }

    #[test]
    fn scripts_of_different_scenes_never_meet() {
        let registry = "[variables.tide]\nleft = { type = \"int\", scope = \"global\", default = 9, engine = \"reads\", writers = [\"*\"] }\n";
        // The only boat listed stands in the harbor.
        let boat = "script one for mailboat\n\non bell {\n    tide.left = 3\n}\n";
        expect(registry, &[boat, "script two for marsh\n\non bell {\n    tide.left = 4\n}\n"]);
        let harbor = "script two for harbor\n\non bell {\n    tide.left = 4 // ~ sharing/order-hazard\n}\n";
        expect(registry, &[boat, harbor]);
    }

    #[test]
    fn steps_constants_and_named_orders_are_no_conflict() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
writers = ["*"]
engine = "reads"
"#,
            &[
                r#"script tides for tide

on bell {
    height += 1
}

on touched(other) {
    height = 3
}
"#,
                r#"script desk for office

on bell {
    tide.height += 2
}

on touched(other) {
    tide.height = 3
}
"#,
            ],
        );
    }

    #[test]
    fn one_writes_and_another_decides() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 6
engine = "reads"
"#,
            &[
                r#"script tides for tide

on bell {
    height = 2
}

on touched(other) {
    height = 4
}
"#,
                r#"script desk for office

on bell {
    if tide.height > 1 { // ~ sharing/order-hazard
        note "high"
    }
}
"#,
            ],
        );
    }

    #[test]
    fn the_project_says_which_goes_first() {
        expect_with(
            r#"[project]
name = "Saltmarsh Mail"
first_scene = "harbor"

[order]
first = ["scripts/a.oaken"]
"#,
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 6
engine = "reads"
"#,
            &[
                r#"script tides for tide

on bell {
    height = 2
}

on touched(other) {
    height = 4
}
"#,
                r#"script desk for office

on bell {
    if tide.height > 1 {
        note "high"
    }
}
"#,
            ],
        );
    }

    #[test]
    fn what_comes_to_the_same_goes_together_and_what_is_drawn_does_not() {
        let registry = "[variables.tide]\nleft = { type = \"int\", scope = \"global\", default = 9, engine = \"reads\" }\nmost = { type = \"int\", scope = \"global\", default = 3, constant = true, engine = \"reads\" }\n";
        let given = |one: &str, other: &str, mark: &str| {
            let script = |name: &str, value: &str, mark: &str| {
                format!("script {name} for tide\n\non bell {{\n    left = {value}{mark}\n}}\n")
            };
            expect(registry, &[&script("one", one, ""), &script("two", other, mark)]);
        };
        let hazard = " // ~ sharing/order-hazard";
        given("most", "3", "");
        given("most + 0", "most + 0", hazard);
        given("1 + 2", "3", "");
        given("1 + 2", "4", hazard);
        given("random(1, 3)", "random(1, 3)", hazard);
    }
}
