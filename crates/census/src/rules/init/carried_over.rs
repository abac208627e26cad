//! `init/carried-over`: the project keeps variables for the session, a handler changes this one, and no `start` handler gives it a fresh value.

use crate::finding::{Finding, Level, RuleName};
use crate::flow::access::{Access, AccessKind, Body};
use crate::flow::world::HandlerId;
use crate::project::CellId;
use crate::registry::{Lifetime, Scope, VarId, Variable};
use crate::rules::Facts;
use crate::rules::{Example, Rule};
use crate::script::ast::{Handler, Trigger};
use crate::source::Span;
use crate::words::names_in;

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("init/carried-over"),
    level: Level::Warning,
    means: "The project keeps variables for the session, a handler changes this one, and no `start` handler gives it a fresh value.",
    hurts: "The next run begins with what the last one left behind.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on bell {
    height += 1
    note "{height}"
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
lifetime = "session"
"#,
        script: r#"script tides for tide

on bell {
    height += 1
    note "{height}"
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let registry = facts.registry();
    if facts.project.config.lifetime != Lifetime::Session {
        return Vec::new();
    }
    let starts = facts.handlers().filter(|handler| matches!(handler.tree.trigger, Trigger::Start));
    let unread_starts: Vec<HandlerId> =
        starts.map(|handler| handler.id).filter(|&id| facts.world.guards_unread(id)).collect();
    let carried = registry.var_ids().filter(|&id| {
        let variable = registry.var(id);
        let cell = CellId(id.0);
        !variable.lifetime_stated
            && !registry.mistaken.contains(&id)
            && !variable.constant
            && facts.uses(cell).any(|(_, access)| changes(variable, access))
            && !facts.world.fresh_at_start(cell)
            && !may_be_set_unread(facts, &unread_starts, &variable.name)
            && !may_be_set_in_a_lost_handler(facts, cell)
            && kept(facts, id)
    });
    carried
        .map(|id| {
            let variable = registry.var(id);
            let default = variable.default.as_ref().map_or("unset".to_owned(), |value| registry.value_text(value));
            let message = format!(
                "`{}` keeps its value for the session, and no `start` handler sets it anew: the next run begins with what this one leaves, not with {default}",
                registry.identity(id)
            );
            Finding::new(RULE.name, variable.place.header, message)
                .about(registry.identity(id))
                .help("write `lifetime = \"run\"` here, or `lifetime = \"session\"` if it is meant to last")
        })
        .collect()
}

/// Whether a use leaves something to carry over: what begins without a value, and is only ever cleared, has nothing.
fn changes(variable: &Variable, access: &Access) -> bool {
    let in_script = matches!(access.body, Body::Handler(_) | Body::Procedure(_));
    in_script && access.writes() && (access.kind != AccessKind::Clear || variable.default.is_some())
}

/// Whether a `start` handler may set what has that name, in what could not be read.
fn may_be_set_unread(facts: &Facts<'_>, unread_starts: &[HandlerId], name: &str) -> bool {
    unread_starts.iter().any(|&id| facts.world.may_be_meant(id, name))
        || facts.project.scripts.iter().any(|unit| {
            let handlers = &unit.tree.handlers;
            let starts = |handler: &Handler| matches!(handler.trigger, Trigger::Start | Trigger::Unreadable);
            let of_nobody = unit.owner.is_none() && unit.may_use(name) && handlers.iter().any(starts);
            let elsewhere = |at: Span| handlers.iter().any(|handler| handler.span.contains(at) && !starts(handler));
            let names_it = |at: Span| names_in(facts.project.text(unit, at)).any(|word| word == name);
            of_nobody || unit.tree.skipped.iter().any(|&at| names_it(at) && !elsewhere(at))
        })
}

/// Whether a handler sets it of which nobody can tell whether it answers `start`, or for whom.
fn may_be_set_in_a_lost_handler(facts: &Facts<'_>, cell: CellId) -> bool {
    facts.uses(cell).filter(|(_, access)| access.writes()).any(|(unit, access)| {
        let Body::Handler(at) = access.body else { return false };
        match unit.tree.handlers[at].trigger {
            Trigger::Start => unit.owner.is_none(),
            Trigger::Unreadable => true,
            Trigger::Signal { .. } => unit.handlers[at].signal.is_none(),
            _ => false,
        }
    })
}

/// Only listed instances keep their values into the next run.
fn kept(facts: &Facts<'_>, id: VarId) -> bool {
    let variable = facts.registry().var(id);
    variable.scope != Scope::Instance || facts.registry().instances_of(variable.owner).next().is_some()
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect_with;

    #[test]
    fn what_never_has_a_value_carries_none_over() {
        let config = "[project]\nname = \"Saltmarsh Mail\"\nfirst_scene = \"harbor\"\nlifetime = \"session\"\n";
        let registry =
            |mark: &str| format!("[variables.tide]\nmark = {{ type = \"int\", scope = \"global\" }} # ~ {mark}\n");
        let script = |line: &str| {
            format!(
                "script tides for tide\n\non bell {{\n    if mark is set {{\n        note \"{{mark}}\"\n    }}\n    {line}\n}}\n"
            )
        };
        expect_with(config, &registry("init/never-set"), &[&script("clear mark")]);
        expect_with(config, &registry("init/carried-over"), &[&script("mark = 3")]);
    }

    #[test]
    fn only_what_start_sets_anew_is_fresh() {
        expect_with(
            r#"[project]
name = "Saltmarsh Mail"
first_scene = "harbor"
lifetime = "session"
"#,
            r#"[variables.tide.height] # ~ init/carried-over
type = "int"
scope = "global"
default = 0
engine = "reads"

[variables.tide.flow]
type = "int"
scope = "global"
default = 0
engine = "reads"

[variables.tide.record]
type = "int"
scope = "global"
default = 0
lifetime = "session"
engine = "reads"
"#,
            &[r#"script tides for tide

on start {
    flow = 0
}

on bell {
    height += 1
    flow += 1
    record += 1
}
"#],
        );
    }

    #[test]
    fn a_start_that_may_pass_it_by_is_not_enough() {
        expect_with(
            "[project]\nname = \"Saltmarsh Mail\"\nfirst_scene = \"harbor\"\nlifetime = \"session\"\n",
            r#"[variables.tide]
fresh = { type = "int", scope = "global", default = 0, engine = "reads" }
half = { type = "int", scope = "global", default = 0, engine = "reads" } # ~ init/carried-over
late = { type = "int", scope = "global", default = 0, engine = "reads" } # ~ init/carried-over
counted = { type = "int", scope = "global", default = 0, engine = "reads" } # ~ init/carried-over
emptied = { type = "int", scope = "global", engine = "reads" }
meant = { type = "int", scope = "global", default = 0, lifetime = "session", engine = "reads" }
"#,
            &[r#"script tides for tide

on start {
    fresh = 0
    if chance(0.5) {
        half = 0
    }
    let runs = counted
    counted = runs + 1
    clear emptied
    wait 1s
    late = 0
}

on bell {
    fresh += 1
    half += 1
    late += 1
    meant += 1
    emptied = 3
}
"#],
        );
    }

    #[test]
    fn a_loop_over_all_gives_each_a_fresh_value() {
        expect_with(
            "[project]\nname = \"Saltmarsh Mail\"\nfirst_scene = \"harbor\"\nlifetime = \"session\"\n",
            r#"[variables.mailboat]
rust = { type = "int", scope = "instance", default = 0, engine = "reads", writers = ["*"] }
pay = { type = "int", scope = "instance", default = 0, engine = "reads", writers = ["*"] }
mud = { type = "int", scope = "instance", default = 0, engine = "reads", writers = ["*"] } # ~ init/carried-over
tar = { type = "int", scope = "instance", default = 0, engine = "reads", writers = ["*"] } # ~ init/carried-over
wax = { type = "int", scope = "instance", default = 0, engine = "reads", writers = ["*"] } # ~ init/carried-over
oil = { type = "int", scope = "instance", default = 0, engine = "reads", writers = ["*"] } # ~ init/carried-over
"#,
            &[r#"script tides for tide

proc reset(boat: mailboat) {
    boat.pay = 0
}

on start {
    for boat in mailboat {
        boat.rust = 0
        boat.wax += 1
        reset(boat)
    }
    for boat in mailboat where boat.mud > 2 {
        boat.mud = 0
    }
    for boat in mailboat {
        if boat.tar > 4 {
            break
        }
        boat.tar = 0
    }
    for boat in mailboat {
        boat.oil = 0
        wait 1s
    }
}

on bell {
    for boat in mailboat {
        boat.rust += 1
        boat.pay += 1
        boat.mud += 1
        boat.tar += 1
        boat.wax += 1
        boat.oil += 1
    }
}
"#],
        );
    }
}
