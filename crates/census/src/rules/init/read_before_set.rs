//! `init/read-before-set`: a variable is read on a way where nothing has given it a value yet.

use crate::finding::{Finding, Level, RuleName};
use crate::flow::engine::Event;
use crate::project::{Meaning, Place, PlaceId, ScriptUnit};
use crate::registry::{Type, VarId};
use crate::rules::Facts;
use crate::rules::facts::each_event;
use crate::rules::{Example, Rule};
use crate::script::ast::ExprId;

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("init/read-before-set"),
    level: Level::Error,
    means: "A variable is read on a way where nothing has given it a value yet.",
    hurts: "The game reads whatever the type calls zero, and everything worked out from it is wrong.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
"#,
        script: r#"script tides for tide

on bell {
    note "{height}"
    height = 2
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
"#,
        script: r#"script tides for tide

on start {
    height = 1
}

on bell {
    note "{height}"
    height = 2
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    each_event(facts, |unit, event| {
        let Event::Unset { place, bound, at, cleared } = event else { return None };
        if let Some(bound) = bound {
            return Some(unset_bound(facts, unit, *bound, *at));
        }
        if facts.project.cell_of(unit, *place).is_some_and(|cell| super::never_set::is_never_set(facts, cell)) {
            return None; // That is said once, of the entry.
        }
        let name = facts.place_name(unit, *place);
        // To put one part of a vector in place takes the others as they are.
        let is_part = matches!(unit.meaning(*at), Meaning::Axis(..));
        let read = if is_part { format!("a part of `{name}` is used") } else { format!("`{name}` is read") };
        let message = if *cleared {
            format!("{read} here, and on some way to here it has no value: it was never given one, or was cleared")
        } else {
            format!("{read} here before anything has given it a value")
        };
        let mut finding = Finding::new(RULE.name, unit.at(unit.tree.expr(*at).span), message);
        finding.variable = facts.identity_of(unit, *place);
        Some(finding.help(if is_part { whole(unit, *place, &name) } else { cure(facts, unit, *place, &name) }))
    })
}

/// A bound has a default, so it is unset only where something has cleared it.
fn unset_bound(facts: &Facts<'_>, unit: &ScriptUnit, bound: VarId, at: ExprId) -> Finding {
    let name = facts.registry().identity(bound);
    let span = unit.tree.expr(at).span;
    let read = facts.project.text(unit, span);
    let message = format!("`{read}` is `{name}`, and on some way to here that has no value: something has cleared it");
    let mut finding = Finding::new(RULE.name, unit.at(span), message);
    finding.variable = Some(name.clone());
    finding
        .help(format!("give `{name}` another value instead of clearing it, or ask first: `if {name} is set {{ … }}`"))
}

fn whole(unit: &ScriptUnit, place: PlaceId, name: &str) -> String {
    let value = if unit.place_types[place.index()] == Type::Vec3 { "vec3(0, 0, 0)" } else { "vec2(0, 0)" };
    format!("set all of it first: `{name} = {value}`")
}

fn cure(facts: &Facts<'_>, unit: &ScriptUnit, place: PlaceId, name: &str) -> String {
    let is_private = matches!(unit.place(place), Place::Private(_));
    match facts.identity_of(unit, place) {
        None if !is_private => format!("ask first: `if {name} is set {{ … }}`"),
        Some(_) => format!("give it a `default` in the registry, or ask first: `if {name} is set {{ … }}`"),
        None => format!("let it start from a value, `private {name}: … = …`, or ask first: `if {name} is set {{ … }}`"),
    }
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn start_handlers_set_for_all_that_come_after() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
engine = "reads"
"#,
            &[r#"script tides for tide

on start {
    height = 1
}

on bell {
    note "{height}"
}
"#],
        );
    }

    #[test]
    fn a_start_handler_with_a_test_or_a_wait_is_not_certain() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
engine = "reads"
[variables.tide.flow]
type = "int"
scope = "global"
engine = "reads"
"#,
            &[r#"script tides for tide

on start {
    if chance(0.5) {
        height = 1
    }
    wait 1s
    flow = 1
}

on bell {
    note "{height}" // ~ init/read-before-set
    note "{flow}" // ~ init/read-before-set
    if height is set {
        note "{height}"
    }
}
"#],
        );
    }

    #[test]
    fn every_arm_must_set_it() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
engine = "reads"
"#,
            &[r#"script tides for tide

on bell {
    match random(1, 2) {
        1 { height = 1 }
        else { height = 2 }
    }
    note "{height}"
}

on touched(other) {
    if other is mailboat {
        height = 1
    } else {
        return
    }
    height += 1
}
"#],
        );
    }

    #[test]
    fn a_bound_that_is_cleared_is_read_by_asking_for_it() {
        expect(
            r#"[variables.tide.room]
type = "int"
scope = "global"
default = 8
min = 1
max = 40

[variables.tide.load]
type = "int"
scope = "global"
default = 0
min = 0
max = "tide.room"
engine = "reads"
"#,
            &[r#"script hold for tide

on start {
    clear room
    load = 0
}

on bell {
    if load < load.max { // ~ init/read-before-set
        load += 1
    }
}

on touched(other) {
    if room is set {
        note "{load.max}"
        room = 9
    }
    load = 0
}
"#],
        );
    }

    #[test]
    fn clearing_makes_it_unset_again() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 1
engine = "reads"
"#,
            &[r#"script tides for tide

on bell {
    clear height
}

on touched(other) {
    note "{height}" // ~ init/read-before-set
    height = 2
    wait 1s
    note "{height}" // ~ init/read-before-set
}
"#],
        );
    }

    #[test]
    fn privates_and_earlier_start_handlers() {
        expect(
            "",
            &[r#"script tides for tide

private count: int
private seen: int

on start {
    note "{count}" // ~ init/read-before-set
    count = 1
    seen = 2
}

on start {
    note "{seen}"
}

on bell {
    count += seen
}
"#],
        );
    }

    #[test]
    fn spawn_handlers_set_for_their_own_instance() {
        expect(
            r#"[variables.mailboat.trips]
type = "int"
scope = "instance"
engine = "reads"
"#,
            &[r#"script loading for mailboat

on spawn {
    trips = 0
}

on bell {
    trips += 1
}
"#],
        );
    }

    #[test]
    fn start_handlers_set_for_instances_that_are_all_there_by_then() {
        let counting = |more: &str, spawns: &str, mark: &str| {
            let registry = format!(
                "[owners.skiff]\nkind = \"actor\"\ncount = \"many\"\n[instances.tern]\nof = \"skiff\"\n{more}[variables.skiff]\ntrips = {{ type = \"int\", scope = \"instance\", engine = \"reads\" }}\n"
            );
            let script = format!(
                "script skiffs for skiff\n\non start {{\n    trips = 0\n}}\n\non bell {{\n    trips += 1{mark}\n{spawns}}}\n"
            );
            expect(&registry, &[&script]);
        };
        let unset = " // ~ init/read-before-set";
        counting("", "", "");
        counting("", "    spawn skiff\n", unset);
        counting("[instances.eider]\nof = \"skiff\"\nscene = \"marsh\"\n", "", unset);
    }

    #[test]
    fn a_step_reads_what_it_steps() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
engine = "reads"
"#,
            &[r#"script tides for tide

on bell {
    height += 1 // ~ init/read-before-set
    note "{height}"
}
"#],
        );
    }

    #[test]
    fn what_the_game_writes_need_not_be_there_yet() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
engine = "both"
"#,
            &[r#"script tides for tide

on bell {
    note "{height}" // ~ init/read-before-set
}
"#],
        );
    }

    #[test]
    fn a_scene_s_spawn_handler_sets_for_instances_that_are_made_there() {
        let registry = r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
engine = "reads"
"#;
        let loading = |mark: &str| {
            format!(
                "script loading for mailboat in harbor\n\non spawn {{\n    parcels = 0\n}}\n\non bell {{\n    note \"{{parcels}}\"{mark}\n}}\n"
            )
        };
        let spawning = |scene: &str| format!("script quay for tide in {scene}\n\non bell {{\n    spawn mailboat\n}}\n");
        let late = "[instances.dusk_boat]\nof = \"mailboat\"\n";
        expect(registry, &[&loading("")]);
        expect(&format!("{registry}{late}"), &[&loading("")]);
        expect(registry, &[&loading(""), &spawning("harbor")]);
        expect(registry, &[&loading(" // ~ init/read-before-set"), &spawning("marsh")]);
    }

    #[test]
    fn a_spawn_handler_that_sets_one_of_many_sets_no_other() {
        let registry = r#"[instances.dusk_boat]
of = "mailboat"
scene = "harbor"
[variables.mailboat.parcels]
type = "int"
scope = "instance"
engine = "reads"
"#;
        let script = |name: &str, mark: &str| {
            format!(
                "script loading for mailboat\n\non spawn {{\n    {name}parcels = 0\n}}\n\non bell {{\n    note \"{{parcels}}\"{mark}\n}}\n"
            )
        };
        expect(registry, &[&script("self.", "")]);
        expect(registry, &[&script("dawn_boat.", " // ~ init/read-before-set")]);
    }

    #[test]
    fn a_part_of_a_vector_takes_the_others_as_they_are() {
        let registry = "[variables.tide.flow]\ntype = \"vec2\"\nscope = \"global\"\nengine = \"reads\"\n";
        let script = |first: &str| {
            format!(
                "script tides for tide\n\non start {{\n    {first}\n    flow.y = 1\n}}\n\non bell {{\n    flow.x += 1\n    \
                 note \"{{flow.x:1}}\"\n}}\n"
            )
        };
        expect(registry, &[&script("flow.x = 2 // ~ init/read-before-set")]);
        expect(registry, &[&script("flow = vec2(2, 0)")]);
    }

    #[test]
    fn what_is_read_without_a_value_has_none_for_others_too() {
        let registry = "[variables.tide]\nheight = { type = \"int\", scope = \"global\", default = 3, max = 9, writers = [\"*\"] }\n";
        let clears = "script tides for tide\n\non bell {\n    clear height\n    note \"{height}\" // ~ init/read-before-set\n    \
                      note \"{height}\"\n}\n";
        let reads = "script desk for office\n\non touched(other) {\n    if tide.height > 2 { // ~ init/read-before-set\n        \
                     note \"high\"\n    }\n    wait 1s\n    note \"{tide.height}\" // ~ init/read-before-set\n}\n";
        expect(registry, &[clears, reads]);
        let slips = "script desk for office\n\non tick {\n    note \"{tide.height}\" // ~ init/read-before-set\n    \
                     tide.height = +1 // ~ type/plus-sign-assign\n}\n";
        expect(&registry.replace("default = 3, ", ""), &[slips]);
    }
}
