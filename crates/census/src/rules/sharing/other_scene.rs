//! `sharing/other-scene`: a scene's variable is used where another scene may be loaded.

use crate::finding::{Finding, Level, RuleName};
use crate::flow::engine::Event;
use crate::rules::Facts;
use crate::rules::facts::each_event;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("sharing/other-scene"),
    level: Level::Error,
    means: "A scene's variable is used where another scene may be loaded.",
    hurts: "The variable exists only while its scene does: the read gives nothing, the write is lost.",
    bad: Example {
        registry: r#"[variables.harbor.queue]
type = "int"
scope = "scene"
default = 0
"#,
        script: r#"script desk for office

on bell {
    note "{harbor.queue}"
}
"#,
    },
    good: Example {
        registry: r#"[variables.harbor.queue]
type = "int"
scope = "scene"
default = 0
"#,
        script: r#"script desk for office

on bell {
    if scene is harbor {
        note "{harbor.queue}"
    }
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    each_event(facts, |unit, event| {
        let Event::OtherScene { at, variable } = event else { return None };
        let registry = facts.registry();
        let scene = &registry.owner(registry.var(*variable).owner).name;
        let identity = registry.identity(*variable);
        let message =
            format!("`{identity}` exists only while `{scene}` is loaded, and another scene may be loaded here");
        let finding = Finding::new(RULE.name, unit.at(unit.tree.expr(*at).span), message).about(identity);
        Some(
            finding.help(format!(
                "ask first, `if scene is {scene} {{ … }}`, or write `in {scene}` in the script's header"
            )),
        )
    })
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn a_scenes_variable_lives_with_its_scene() {
        expect(
            r#"[variables.harbor.queue]
type = "int"
scope = "scene"
default = 0
writers = ["*"]
engine = "reads"
"#,
            &[
                r#"script desk for office

on bell {
    harbor.queue += 1 // ~ sharing/other-scene
}

on touched(other) {
    if scene is harbor {
        harbor.queue += 1
    }
}
"#,
                r#"script docks for office in harbor

on bumped(other) {
    if queue == 0 {
        queue = 1
    }
}
"#,
            ],
        );
    }

    #[test]
    fn one_scenes_script_that_reaches_for_another_still_has_its_own() {
        expect(
            r#"[variables.harbor.queue]
type = "int"
scope = "scene"
default = 0
writers = ["*"]
engine = "reads"
[variables.marsh.reeds]
type = "int"
scope = "scene"
default = 0
engine = "reads"
"#,
            &[r#"script reeds for marsh

on leave {
    harbor.queue = 0 // ~ sharing/other-scene
    reeds = 0
    cut()
}

proc cut() {
    reeds += 1
}
"#],
        );
    }

    #[test]
    fn a_run_begins_in_the_first_scene() {
        let registry = r#"[variables.harbor.queue]
type = "int"
scope = "scene"
default = 0
writers = ["*"]
engine = "reads"
[variables.marsh.reeds]
type = "int"
scope = "scene"
default = 0
writers = ["*"]
engine = "reads"
"#;
        let desk = r"script desk for office

on start {
    harbor.queue = 1
    marsh.reeds = 1 // ~ sharing/other-scene
    wait 1s
    harbor.queue = 2 // ~ sharing/other-scene
}

on bell {
    go marsh
}
";
        expect(registry, &[desk, "script reeds for marsh\n\non enter {\n    reeds = 2\n}\n"]);
    }
}
