//! `sharing/unchecked-kind`: a variable of one actor is taken from a name that may be any actor.

use crate::finding::{Finding, Level, RuleName};
use crate::flow::engine::Event;
use crate::project::{Base, Place, ScriptUnit, Unchecked};
use crate::registry::{OwnerKind, VarId};
use crate::rules::Facts;
use crate::rules::{Example, Rule};
use crate::source::{FileId, Span};
use crate::words::both;
use rustc_hash::FxHashMap;

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("sharing/unchecked-kind"),
    level: Level::Error,
    means: "A variable of one actor is taken from a name that may be any actor.",
    hurts: "The day something else touches it, the script reads a variable that is not there.",
    bad: Example {
        registry: r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = 20
engine = "reads"
"#,
        script: "script pier for harbor

on touched(other) {
    other.parcels = 0
}
",
    },
    good: Example {
        registry: r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = 20
engine = "reads"
"#,
        script: "script pier for harbor

on touched(other) {
    if other is mailboat {
        other.parcels = 0
    }
}
",
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let mut reached: FxHashMap<(FileId, VarId), Vec<Span>> = FxHashMap::default();
    for (unit, event) in facts.events() {
        if let Event::OtherKind { at, variable } = event {
            reached.entry((unit.file, *variable)).or_default().push(unit.tree.expr(*at).span);
        }
    }
    let mut findings = Vec::new();
    for unit in &facts.project.scripts {
        for access in &unit.unchecked {
            let events = reached.get(&(unit.file, access.variable)).map_or(&[][..], |events| events);
            if !matches!(access.base, Base::Held(_)) || events.iter().any(|event| event.contains(access.span)) {
                findings.push(word(facts, unit, access));
            }
        }
    }
    findings
}

fn word(facts: &Facts<'_>, unit: &ScriptUnit, access: &Unchecked) -> Finding {
    let registry = facts.registry();
    let variable = registry.var(access.variable);
    let held = match access.base {
        Base::Held(held) if matches!(unit.place(held), Place::Variable(..)) => "this `ref`",
        _ => "this",
    };
    let name = &*variable.name;
    let having = registry.variables.iter().filter(|other| other.name == variable.name);
    let owners =
        having.map(|other| registry.owner(other.owner)).filter(|owner| matches!(owner.kind, OwnerKind::Actor { .. }));
    let owners: Vec<&str> = owners.map(|owner| &*owner.name).collect();
    let message = format!("{held} may be any actor, and only {} has `{name}`", both(&owners));
    Finding::new(RULE.name, unit.at(access.span), message)
        .about(registry.identity(access.variable))
        .help(format!("test it first with `is {}`", owners[0]))
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn a_test_tells_the_kind_wherever_it_holds() {
        expect(
            r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
writers = ["*"]
min = 0
max = "mailboat.hold_size"
engine = "reads"

[variables.mailboat.hold_size]
type = "int"
scope = "instance"
default = 20
constant = true

[variables.mailboat.oil]
type = "number"
scope = "instance"
default = 50
min = 0
max = 100
engine = "reads"
"#,
            &[r#"script pier for harbor

on touched(other) {
    other.parcels = 0 // ~ sharing/unchecked-kind
}

on bumped(other) {
    if other is not mailboat {
        return
    }
    other.parcels = 0
}

on bell {
    for boat in mailboat {
        boat.parcels = 0
    }
    note "{dawn_boat.oil:1}"
}
"#],
        );
    }
}
