//! `range/start-outside`: a default, or an instance's starting value, lies outside the range.

use crate::finding::{Finding, Level, RuleName};
use crate::registry::read::bound_at_start;
use crate::registry::{Bound, End, InstanceId, Scope, Value, VarId};
use crate::rules::Facts;
use crate::rules::{Example, Rule};
use crate::source::Location;

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("range/start-outside"),
    level: Level::Error,
    means: "A default, or an instance's starting value, lies outside the range.",
    hurts: "The game is wrong before anybody has done anything.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 9
min = 0
max = 5
"#,
        script: r#"script tides for tide

on bell {
    note "{height}"
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 5
min = 0
max = 5
"#,
        script: r#"script tides for tide

on bell {
    note "{height}"
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let registry = facts.registry();
    let mut findings = Vec::new();
    for id in registry.var_ids() {
        let variable = registry.var(id);
        if registry.guessed.contains(&id) {
            continue;
        }
        let Some(start) = variable.default.as_ref().and_then(Value::as_number) else { continue };
        for end in [End::Max, End::Min] {
            let bound = variable.bound(end).filter(|bound| !is_guessed(facts, bound));
            let Some(limit) = bound.and_then(|bound| bound_at_start(bound, registry)) else { continue };
            if is_beyond(start, limit, end) {
                findings.push(word(facts, id, end, (start, limit), None, variable.place.key("default")));
            }
        }
    }
    for at in 0..registry.instances.len() {
        instance(facts, InstanceId::at(at), &mut findings);
    }
    findings
}

/// Whether a bound is a variable whose default was mistaken.
fn is_guessed(facts: &Facts<'_>, bound: &Bound) -> bool {
    matches!(bound, Bound::Variable(id) if facts.registry().guessed.contains(id))
}

fn is_beyond(value: f64, limit: f64, end: End) -> bool {
    match end {
        End::Max => value > limit,
        End::Min => value < limit,
    }
}

/// An instance that changes a value, or a bound, is held against its own range, at the key that changes it.
fn instance(facts: &Facts<'_>, id: InstanceId, findings: &mut Vec<Finding>) {
    let registry = facts.registry();
    if registry.mistaken_starts.contains(&id) {
        return;
    }
    let instance = registry.instance(id);
    let number = |variable: VarId| registry.start_of(variable, id).and_then(Value::as_number);
    for &variable in &registry.owner(instance.of).variables {
        let Some(value) = number(variable).filter(|_| registry.var(variable).scope == Scope::Instance) else {
            continue;
        };
        for end in [End::Max, End::Min] {
            let limit = match registry.var(variable).bound(end) {
                Some(Bound::Number(limit)) => Some(*limit),
                Some(Bound::Variable(other)) if registry.var(*other).scope == Scope::Instance => number(*other),
                Some(bound) => bound_at_start(bound, registry),
                None => None,
            };
            let Some(limit) = limit.filter(|&limit| is_beyond(value, limit, end)) else { continue };
            let bound = match registry.var(variable).bound(end) {
                Some(Bound::Variable(other)) => Some(*other),
                _ => None,
            };
            let own = |wanted: VarId| instance.start.iter().find(|start| start.variable == wanted);
            if let Some(start) = own(variable).or_else(|| bound.and_then(own)) {
                findings.push(word(facts, variable, end, (value, limit), Some(&instance.name), start.at));
            }
        }
    }
}

fn word(
    facts: &Facts<'_>,
    id: VarId,
    end: End,
    (value, limit): (f64, f64),
    who: Option<&str>,
    at: Location,
) -> Finding {
    let identity = facts.registry().identity(id);
    let who = who.map_or(String::new(), |name| format!(" of `{name}`"));
    let side = if end == End::Max { "above" } else { "below" };
    let bound = facts.bound_text(id, end, (limit, limit));
    let message = format!(
        "`{identity}`{who} starts as {}, and its {bound}: it is {side} that from the start",
        crate::words::number(value)
    );
    Finding::new(RULE.name, at, message).about(identity).help(
        format!("start it from {} at most, or move the bound", crate::words::number(limit))
            .replace(" at most", if end == End::Max { " at most" } else { " at least" }),
    )
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn instances_are_held_against_their_own_bounds() {
        expect(
            r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
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

[instances.dusk_boat]
of = "mailboat"
scene = "marsh"
start = { parcels = 12, hold_size = 10 } # ~ range/start-outside

[instances.noon_boat]
of = "mailboat"
start = { parcels = 12, hold_size = 15 }
"#,
            &[r#"script loading for mailboat in harbor

on bell {
    note "{parcels} of {hold_size}"
}
"#],
        );
    }

    #[test]
    fn a_bound_that_an_instance_changes_is_the_fault() {
        expect(
            r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 8
min = 0
max = "mailboat.hold_size"
engine = "reads"

[variables.mailboat.hold_size]
type = "int"
scope = "instance"
default = 20
constant = true

[instances.dusk_boat]
of = "mailboat"
start = { hold_size = 5 } # ~ range/start-outside
"#,
            &[r#"script loading for mailboat in harbor

on bell {
    note "{parcels}"
}
"#],
        );
    }
}
