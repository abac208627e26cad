//! `init/placeholder-shown`: a default that only stands in can still be there when a text prints it.

use crate::finding::{Finding, Level, RuleName};
use crate::flow::engine::Event;
use crate::rules::Facts;
use crate::rules::facts::each_event;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("init/placeholder-shown"),
    level: Level::Warning,
    means: "A default that only stands in can still be there when a text prints it.",
    hurts: "The player reads the stand-in.",
    bad: Example {
        registry: r#"[variables.tide.title]
type = "text"
scope = "global"
default = "TITLE"
placeholder = true
"#,
        script: r#"script tides for tide

on bell {
    show "{title}"
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.title]
type = "text"
scope = "global"
default = "TITLE"
placeholder = true
"#,
        script: r#"script tides for tide

on start {
    title = "Low water"
}

on bell {
    show "{title}"
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    each_event(facts, |unit, event| {
        let Event::StandIn { at, place } = event else { return None };
        let identity = facts.identity_of(unit, *place)?;
        let variable = facts.registry().find(&identity)?;
        let default =
            facts.registry().var(variable).default.as_ref().map(|value| facts.registry().value_text(value))?;
        let message = format!("`{identity}` may still be its stand-in, {default}, when this is shown");
        let finding = Finding::new(RULE.name, unit.at(unit.tree.expr(*at).span), message).about(identity.clone());
        Some(finding.help(format!("set `{identity}` in a handler `on start`, before anything shows it")))
    })
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn the_player_reads_the_stand_in() {
        expect(
            r#"[variables.tide.title]
type = "text"
scope = "global"
default = "TITLE"
placeholder = true
"#,
            &[r#"script tides for tide

on bell {
    show "{title}" // ~ init/placeholder-shown
    title = "Spring tide"
    show "{title}"
    note "{title}"
}
"#],
        );
    }

    #[test]
    fn a_question_shows_it_too_and_start_may_have_set_it() {
        expect(
            r#"[variables.tide]
title = { type = "text", scope = "global", default = "TITLE", placeholder = true }
hint = { type = "text", scope = "global", default = "HINT", placeholder = true }
"#,
            &[r#"script tides for tide

on start {
    hint = "Ring the bell"
}

on bell {
    show "{hint}"
    ask "{title}?" { // ~ init/placeholder-shown
        choice "Yes" {
            title = "Spring tide"
            show "{title}"
        }
    }
}
"#],
        );
    }

    #[test]
    fn a_test_tells_that_it_is_no_stand_in() {
        expect(
            r#"[variables.tide]
title = { type = "text", scope = "global", default = "TITLE", placeholder = true }
level = { type = "int", scope = "global", default = -1, placeholder = true }
"#,
            &[r#"script tides for tide

on bell {
    if title != "TITLE" {
        show "{title}"
    }
    if title == "Neap tide" {
        show "{title}"
    } else {
        show "{title}" // ~ init/placeholder-shown
    }
    if level >= 0 {
        show "{level}"
    }
    if level != 2 {
        show "{level}" // ~ init/placeholder-shown
    }
}

on touched(other) {
    title = "Neap tide"
    level = random(1, 4)
}
"#],
        );
    }
    #[test]
    fn an_instance_s_own_starting_value_is_no_stand_in() {
        let registry = r#"[instances.ann]
of = "parcel"
start = { label = "For Ann" }
[variables]
parcel.label = { type = "text", scope = "instance", default = "LABEL", placeholder = true }
mailboat.title = { type = "text", scope = "instance", default = "TITLE", placeholder = true }
"#;
        let read = r#"script desk for office

on bell {
    show "{ann.label}"
    show "{dawn_boat.title}" // ~ init/placeholder-shown
}

on touched(other: parcel) {
    show "{other.label}" // MARK
}
"#;
        expect(registry, &[&read.replace("// MARK", "")]);
        // One that comes later has the default.
        let told = read.replace("// MARK", "// ~ init/placeholder-shown");
        expect(registry, &[&told, "script piers for harbor\n\non bell {\n    spawn parcel\n}\n"]);
    }
}
