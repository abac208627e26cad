//! `sharing/lost-update`: a variable is set from what was read of it before a wait, while others can write it meanwhile.

use crate::finding::{Finding, Level, RuleName};
use crate::flow::engine::Event;
use crate::rules::Facts;
use crate::rules::facts::each_event;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("sharing/lost-update"),
    level: Level::Error,
    means: "A variable is set from what was read of it before a wait, while others can write it meanwhile.",
    hurts: "What the others wrote is overwritten: a coin, a parcel, a point is gone.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on bell {
    let before = height
    wait 1s
    height = before + 1
    note "{height}"
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
    wait 1s
    height += 1
    note "{height}"
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    each_event(facts, |unit, event| {
        let Event::Lost { at, place } = event else { return None };
        let name = facts.place_name(unit, *place);
        let message =
            format!("this sets `{name}` from what it was before the wait: whatever changed it meanwhile is lost");
        let mut finding = Finding::new(RULE.name, unit.at(*at), message);
        finding.variable = facts.identity_of(unit, *place);
        Some(finding.help(format!("step it, `{name} += …`, or read it again after the wait")))
    })
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn only_what_others_can_change_is_lost() {
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

private own: int = 0

on bell {
    let before = height
    wait 1s
    height = before // ~ sharing/lost-update
}

on touched(other) {
    let now = height
    height = min(now + 1, 6)
    own = now
    note "{own}"
}
"#],
        );
    }

    #[test]
    fn a_chain_of_lets_and_a_fresh_read() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 6
overflow = "clamp"
engine = "reads"
"#,
            &[r#"script tides for tide

on bell {
    let before = height
    let more = before + 1
    wait 1s
    height = more // ~ sharing/lost-update
}

on touched(other) {
    wait 1s
    let now = height
    height = now
}
"#],
        );
    }
}
