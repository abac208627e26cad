//! `init/empty-ref`: a variable is reached through a `ref` that can be none, or through a name whose instance is gone.

use crate::finding::{Finding, Level, RuleName};
use crate::flow::engine::Event;
use crate::rules::Facts;
use crate::rules::facts::each_event;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("init/empty-ref"),
    level: Level::Error,
    means: "A variable is reached through a `ref` that can be none, or through a name whose instance is gone.",
    hurts: "There is nothing there: the read gives zero, and the write goes nowhere.",
    bad: Example {
        registry: r#"[variables.office.called]
type = "ref"
of = "mailboat"
scope = "global"

[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = 20
engine = "reads"
"#,
        script: "script desk for office

on bell {
    called.parcels = 0
}
",
    },
    good: Example {
        registry: r#"[variables.office.called]
type = "ref"
of = "mailboat"
scope = "global"

[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = 20
engine = "reads"
"#,
        script: "script desk for office

on bell {
    if called is not none {
        called.parcels = 0
    }
}
",
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    each_event(facts, |unit, event| match event {
        Event::EmptyRef { held, at } => {
            let name = facts.place_name(unit, *held);
            let message = format!("`{name}` can be none here, and then there is nothing to reach through it");
            let mut finding = Finding::new(RULE.name, unit.at(unit.tree.expr(*at).span), message);
            finding.variable = facts.identity_of(unit, *held);
            Some(finding.help(format!("ask first: `if {name} is not none {{ … }}`")))
        }
        Event::Absent { instance, at } => {
            let instance = facts.registry().instance(*instance);
            let place = instance.scene.map_or(String::new(), |scene| {
                format!(" when `{}` is not loaded, or", facts.registry().owner(scene).name)
            });
            let message = format!("`{}` may not be there: it is gone{place} when it was removed", instance.name);
            let finding = Finding::new(RULE.name, unit.at(unit.tree.expr(*at).span), message);
            Some(finding.help(format!("ask first: `if {} is not none {{ … }}`", instance.name)))
        }
        _ => None,
    })
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::{expect, expect_in_scripts};

    #[test]
    fn a_scene_is_not_left_between_a_signal_and_its_answer() {
        let registry = r#"[owners.reeds]
kind = "scene"

[instances.grey_parcel]
of = "parcel"
scene = "harbor"

[signals.weighed]
from = "script"
parameters = { what = "parcel" }

[variables.parcel]
weight = { type = "int", scope = "instance", default = 1, engine = "reads", writers = ["*"] }
"#;
        let scale = "script scale for parcel\n\non touched(other) {\n    send weighed(self)\n}\n";
        let desk = |mark: &str| {
            format!(
                "script desk for office\n\non weighed(what) {{\n    what.weight = 2{mark}\n}}\n\non bell {{\n    go reeds\n}}\n"
            )
        };
        let reeds = "script reeds for reeds\n\non enter {\n    wait 8s\n    go harbor\n}\n";
        expect(registry, &[scale, &desk(""), reeds]);
        let leaves = "script quay for harbor\n\non touched(other) {\n    go reeds\n}\n";
        expect(registry, &[scale, &desk(" // ~ init/empty-ref"), reeds, leaves]);
    }

    #[test]
    fn one_that_was_cleared_during_a_wait_is_none_and_not_unset() {
        expect(
            r#"[variables.office.called]
type = "ref"
of = "parcel"
scope = "global"
engine = "reads"

[variables.parcel]
weight = { type = "int", scope = "instance", default = 1, engine = "both", writers = ["*"] }
"#,
            &[r#"script desk for office

on bell {
    wait 1s
    if called is set and called.weight > 3 {
        remove called
        called.weight = 1 // ~ init/empty-ref
    }
    let kept = called
    clear called
    if kept is set {
        kept.weight = 2
    }
}

on touched(other: parcel) {
    called = other
}
"#],
        );
    }

    #[test]
    fn tests_hold_wherever_they_have_come_out_that_way() {
        expect(
            r#"[variables.office.called]
type = "ref"
of = "mailboat"
scope = "global"

[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
writers = ["*"]
engine = "reads"
"#,
            &[
                r#"script desk for office

on bell {
    called.parcels = 1 // ~ init/empty-ref
}
"#,
                r#"script books for office

on touched(other: mailboat) {
    if called is none {
        called = other
    }
    if called is not none and called.parcels > 2 {
        called.parcels = 0
    }
    if called is set {
        called.parcels += 1
    }
}
"#,
            ],
        );
    }

    #[test]
    fn an_instance_that_was_removed_is_gone() {
        expect(
            r#"[variables.office.called]
type = "ref"
of = "mailboat"
scope = "global"

[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
writers = ["*"]
engine = "reads"
"#,
            &[r#"script desk for office

on touched(other: mailboat) {
    remove other
    other.parcels = 0 // ~ init/empty-ref
    called = other
}

on bell {
    if called is none {
        return
    }
    called.parcels = 1
}
"#],
        );
    }

    #[test]
    fn spawn_handlers_remove_at_once() {
        let registry = r#"[owners.gull]
kind = "actor"
count = "many"

[variables]
gull.hunger = { type = "int", scope = "instance", default = 1, engine = "reads", writers = ["*"] }
office.pet = { type = "ref", of = "gull", scope = "global" }
"#;
        let office = |pet: &str, bird: &str| {
            format!(
                "script desk for office\n\non touched(other: gull) {{\n    pet = other\n    spawn parcel\n    \
                 pet.hunger = 2{pet}\n    spawn gull as bird\n    bird.hunger = 2{bird}\n}}\n"
            )
        };
        let gulls = |does: &str| format!("script gulls for gull\n\non spawn {{\n    {does}\n}}\n");
        let parcels = |does: &str| format!("script parcels for parcel\n\non spawn {{\n    {does}\n}}\n");
        let mark = " // ~ init/empty-ref";
        let expect = |office: &str, gulls: &str, parcels: &str| expect_in_scripts(registry, &[office, gulls, parcels]);
        let quiet = parcels("note \"here\"");
        expect(&office("", mark), &gulls("if chance(0.5) { remove self }"), &quiet);
        expect(&office("", ""), &gulls("after 2s { remove self }"), &quiet);
        let hunts = parcels("for g in gull where g.hunger > 1 { remove g }");
        expect(&office(mark, ""), &gulls("wait 1s\n    remove self"), &hunts);
        expect(&office(mark, mark), &gulls("spawn parcel"), &hunts);
    }

    #[test]
    fn a_listed_instance_is_there_with_its_scene() {
        expect(
            r#"[variables.office.called]
type = "ref"
of = "mailboat"
scope = "global"

[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
writers = ["*"]
engine = "reads"
"#,
            &[
                r#"script desk for office

on bell {
    dawn_boat.parcels = 1 // ~ init/empty-ref
    if dawn_boat is not none {
        dawn_boat.parcels = 2
    }
    if scene is harbor {
        dawn_boat.parcels = 3
    }
    called = none
}

on touched(other) {
    if called is not none {
        go marsh
    }
}
"#,
                r#"script pier for harbor

on bell {
    if dawn_boat.parcels > 0 { // ~ sharing/order-hazard
        note "{dawn_boat.parcels}"
    }
}
"#,
            ],
        );
    }

    #[test]
    fn a_scene_that_nothing_leads_out_of_stays_loaded() {
        let load = "[variables]\nmailboat.load = { type = \"int\", scope = \"instance\", default = 0, engine = \"both\", writers = [\"*\"] }\n";
        let desk = |mark: &str, goes: &str| {
            let script = format!(
                "script desk for office\n\non bell {{\n    dawn_boat.load = 1{mark}\n    note \"Ding.\"\n{goes}}}\n"
            );
            expect_in_scripts(load, &[&script]);
        };
        desk("", "");
        desk("", "    go harbor\n");
        desk(" // ~ init/empty-ref", "    go marsh\n");
    }

    #[test]
    fn nobody_hears_what_is_sent_to_none() {
        expect_in_scripts(
            r#"[variables]
mailboat.mate = { type = "ref", of = "mailboat", scope = "instance" }
[signals.hailed]
from = "script"
"#,
            &[r#"script crew for mailboat

on touched(other: mailboat) {
    send hailed to mate // ~ init/empty-ref
    send hailed to other
    send hailed to self
    if mate is not none {
        send hailed to mate
    }
    mate = other
    wait 1s
    remove other
    remove mate
}

on hailed {
    note "Ahoy."
}
"#],
        );
    }

    #[test]
    fn a_ref_that_nothing_fills_leads_nowhere() {
        expect(
            r#"[variables.mailboat]
oil = { type = "int", scope = "instance", default = 6, min = 0, max = 6, engine = "reads" }
mate = { type = "ref", of = "mailboat", scope = "instance" }
lead = { type = "ref", of = "mailboat", scope = "instance", engine = "writes" }
"#,
            &[r#"script crew for mailboat

on touched(other) {
    if mate is not none {
        mate.oil -= 1
    }
    if lead is not none {
        lead.oil -= 1 // ~ range/can-fall-below
    }
    mate.oil = 3 // ~ init/empty-ref
}
"#],
        );
    }

    #[test]
    fn what_a_test_tells_of_the_kind_stays_with_the_name() {
        let registry = r#"[variables.mailboat.sent]
type = "int"
scope = "instance"
default = 0
engine = "reads"
[variables.lighthouse.visits]
type = "int"
scope = "instance"
default = 0
engine = "reads"
writers = ["*"]
[variables.parcel.weight]
type = "int"
scope = "instance"
default = 1
engine = "reads"
writers = ["*"]
"#;
        // Parcels are removed, lighthouses never are.
        expect(
            registry,
            &[r#"script loading for mailboat

private busy: bool = false

on touched(other) when not busy {
    busy = true
    if other is parcel {
        wait 1s
        other.weight = 2 // ~ init/empty-ref
    } else if other is lighthouse {
        let light = other
        wait 1s
        other.visits += 1
        light.visits += 1
    }
    busy = false
}

on bumped(other) {
    if other is not parcel {
        return
    }
    remove other
    sent += 1
}
"#],
        );
    }

    #[test]
    fn a_ref_that_was_filled_and_is_never_emptied() {
        let registry = r#"[instances.old_light]
of = "lighthouse"
[variables.lighthouse.visits]
type = "int"
scope = "instance"
default = 0
engine = "reads"
writers = ["*"]
[variables.tide.lead]
type = "ref"
of = "lighthouse"
scope = "global"
[variables.office.first_light]
type = "ref"
of = "lighthouse"
scope = "global"
default = "old_light"
[variables.mailboat.goal]
type = "ref"
of = "lighthouse"
scope = "instance"
"#;
        let script = |emptied: &str, mark: &str| {
            format!(
                "script tides for tide\n\non start {{\n    lead = old_light\n}}\n\non enter {{\n    go marsh\n}}\n\non bell {{\n    lead.visits += 1{mark}\n    office.first_light.visits += 1\n}}\n\non tide_turned {{\n    {emptied}\n}}\n"
            )
        };
        let boat = "script goals for mailboat\n\non spawn {\n    goal = old_light\n}\n\non touched(other) {\n    goal.visits += 1\n    send tide_turned\n}\n";
        expect(registry, &[boat, &script("note \"turned\"", "")]);
        expect(registry, &[boat, &script("lead = none", " // ~ init/empty-ref")]);
        expect(registry, &[boat, &script("clear lead", " // ~ init/empty-ref")]);
    }

    #[test]
    fn a_flag_worked_out_before_says_nothing_of_what_is_there_now() {
        let registry = r#"[instances]
old_light = { of = "parcel" }
[variables.parcel.sealed]
type = "bool"
scope = "instance"
default = false
engine = "writes"
"#;
        let gone = " // ~ init/empty-ref";
        let asked_again = format!(
            "    if loose {{\n        if not old_light.sealed {{{gone}\n            note \"loose\"\n        }}\n    }}\n"
        );
        let script = format!(
            "script ends for office\n\non bumped(other: parcel) {{\n    let loose = not old_light.sealed{gone}\n    remove other\n{asked_again}}}\n"
        );
        expect(registry, &[&script]);
    }

    #[test]
    fn what_a_test_removes_on_the_way_is_gone_whichever_way_it_comes_out() {
        let registry =
            "[variables.parcel.weight]\ntype = \"int\"\nscope = \"instance\"\ndefault = 1\nengine = \"both\"\n";
        let takes = "proc takes(what: parcel) -> bool {\n    if what is not none {\n        remove what\n    }\n    return false\n}\n";
        let gone = " // ~ init/empty-ref";
        for (asked, mark) in [
            ("    for boat in mailboat where takes(other) {\n        note \"{boat is mailboat}\"\n    }\n", gone),
            ("    for boat in mailboat where other.weight > 1 {\n        note \"{boat is mailboat}\"\n    }\n", ""),
            ("    let taken = takes(other)\n    note \"{taken}\"\n", gone),
            ("    wait until takes(other) or chance(0.5)\n", gone),
        ] {
            let asks = format!("on touched(other: parcel) {{\n{asked}    note \"{{other.weight}}\"{mark}\n}}\n");
            let calls = "on bumped(other: parcel) {\n    note \"{takes(other)}\"\n}\n";
            expect(registry, &[&format!("script ends for office\n\n{asks}\n{calls}\n{takes}")]);
        }
    }

    #[test]
    fn what_a_signal_brings_may_be_gone_before_it_is_answered() {
        let registry = r#"[signals.handed]
from = "script"
parameters = { what = "parcel" }
[variables.parcel.weight]
type = "int"
scope = "instance"
default = 1
engine = "reads"
writers = ["*"]
"#;
        let desk =
            |mark: &str| format!("script desk for office\n\non handed(what) {{\n    what.weight = 2{mark}\n}}\n");
        let boat = |last: &str| {
            format!(
                "script loading for mailboat\n\non touched(other: parcel) {{\n    send handed(other)\n    {last}\n}}\n"
            )
        };
        let gone = " // ~ init/empty-ref";
        expect(registry, &[&boat("note \"handed\""), &desk("")]);
        expect(registry, &[&boat("remove other"), &desk(gone)]);
        let same = "script ends for office\n\non touched(other: parcel) {\n    remove other\n}\n";
        expect(registry, &[&boat("note \"handed\""), &desk(gone), same]);
        // Another signal of the game comes only when nothing is queued.
        let apart = "script ends for office\n\non bumped(other: parcel) {\n    remove other\n}\n";
        expect(registry, &[&boat("note \"handed\""), &desk(""), apart]);
        let swept = "script ends for office\n\non every 5s {\n    for p in parcel {\n        remove p\n    }\n}\n";
        expect(registry, &[&boat("note \"handed\""), &desk(""), swept]);
        let each = "script sends for office\n\non tick {\n    for p in parcel {\n        send handed(p)\n    }\n}\n";
        expect(registry, &[each, &desk(gone), swept]);
        let changed =
            "script scenes for tide\n\non touched(other) {\n    go marsh\n}\n\non bell {\n    spawn parcel\n}\n";
        expect(registry, &[&boat("note \"handed\""), &desk(gone), changed]);
    }
}
