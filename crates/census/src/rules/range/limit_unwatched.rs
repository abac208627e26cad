//! `range/limit-unwatched`: scripts can bring a variable to its limit, and no condition anywhere reads it.

use crate::finding::{Finding, Level, RuleName};
use crate::flow::value::Value;
use crate::flow::world::Effect;
use crate::project::CellId;
use crate::registry::{Bound, End, VarId};
use crate::rules::Facts;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("range/limit-unwatched"),
    level: Level::Note,
    means: "Scripts can bring a variable to its limit, and no condition anywhere reads it.",
    hurts: "The player arrives at the limit, and nothing happens.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 5
overflow = "clamp"
"#,
        script: r#"script tides for tide

on bell {
    height += 1
    show "{height}"
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 5
overflow = "clamp"
"#,
        script: r#"script tides for tide

on bell {
    height += 1
    if height == 5 {
        show "High water"
    }
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let registry = facts.registry();
    let mut findings = Vec::new();
    for id in registry.var_ids() {
        let (cell, variable) = (CellId(id.0), registry.var(id));
        let by_scripts = facts.uses(cell).any(|(_, access)| access.writes());
        let tested = facts.uses(cell).any(|(_, access)| access.tested) || is_in_invariant(facts, id);
        if !by_scripts || tested || facts.may_be_used_unread(cell) || facts.world.is_unsettled(cell) {
            continue;
        }
        let reach = &facts.world.reach[cell.index()];
        let written = facts.world.written_beyond(cell).map_or_else(|| reach.clone(), |written| reach.join(written));
        let Value::Num(reach) = &written else { continue };
        let reached: Vec<End> =
            [End::Min, End::Max].into_iter().filter(|&end| reaches(facts, id, end, (reach.lo, reach.hi))).collect();
        if !reached.is_empty() {
            let identity = registry.identity(id);
            let ends: Vec<&str> = reached.iter().map(|end| end.word()).collect();
            let message = format!(
                "scripts can bring `{identity}` to its {}, and no condition ever looks at it",
                crate::words::both(&ends)
            );
            findings.push(
                Finding::new(RULE.name, variable.place.header, message)
                    .about(identity)
                    .help("do something there, or leave it if nothing is to happen"),
            );
        }
    }
    findings
}

fn is_in_invariant(facts: &Facts<'_>, id: VarId) -> bool {
    facts.project.invariants.iter().any(|invariant| invariant.variables.contains(&id))
}

/// Whether scripts can move a variable to an end of its range from elsewhere.
fn reaches(facts: &Facts<'_>, id: VarId, end: End, reach: (f64, f64)) -> bool {
    let registry = facts.registry();
    let Some(bound) = registry.var(id).bound(end) else { return false };
    let limit = match bound {
        Bound::Number(value) => Some((*value, *value)),
        Bound::Variable(other) => match &facts.world.reach[other.index()] {
            Value::Num(num) => Some((num.lo, num.hi)),
            _ => None,
        },
    };
    let lies_there = |(lo, hi): (f64, f64)| {
        limit.is_some_and(|limit| match end {
            End::Min => lo <= limit.1,
            End::Max => hi >= limit.0,
        })
    };
    let moves = |effect: &Effect| match end {
        End::Min => effect.down,
        End::Max => effect.up,
    };
    // Where the game writes it too, that lies anywhere, and each script's own writes are looked at.
    let brings = |effect: &Effect| {
        let comes_there = || effect.set.as_ref().is_none_or(|set| lies_there(set.ends()));
        effect.handler.is_some() && moves(effect) && (!registry.var(id).engine_writes || comes_there())
    };
    // What a run, an instance or a scene begins with is set, wherever it was before.
    let sets = |effect: &Effect| {
        let opens = effect.handler.is_some_and(|handler| facts.world.is_opening(handler));
        opens && effect.set.as_ref().is_some_and(|set| lies_there(set.ends()))
    };
    lies_there(reach) && facts.world.effects[id.index()].iter().any(|effect| brings(effect) || sets(effect))
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn a_limit_that_is_reached_in_silence() {
        expect(
            r#"[variables.tide.height] # ~ range/limit-unwatched
type = "int"
scope = "global"
default = 0
min = 0
max = 6
engine = "reads" # the gauge
"#,
            &[r#"script tides for tide

on bell {
    height = min(height + 1, height.max)
}
"#],
        );
    }

    #[test]
    fn what_the_game_writes_is_not_the_scripts_doing() {
        expect(
            "[variables.tide]\nheight = { type = \"int\", scope = \"global\", default = 2, min = 0, max = 9, engine = \"both\" }\nflow = { type = \"int\", scope = \"global\", default = 2, min = 0, max = 9, engine = \"both\" } # ~ range/limit-unwatched\n",
            &[r#"script tides for tide

on bell {
    height = 3
    flow = 0
}
"#],
        );
    }
}
