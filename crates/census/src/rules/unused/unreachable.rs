//! `unused/unreachable`: statements that no way leads to.

use crate::finding::{Finding, Level, RuleName};
use crate::rules::Facts;
use crate::rules::{Example, Rule};
use crate::source::Span;

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("unused/unreachable"),
    level: Level::Warning,
    means: "Statements that no way leads to.",
    hurts: "They look as if they did something.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on bell {
    note "{height}"
    return
    height = 2
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
    note "{height}"
    height = 2
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (unit, graphs) in facts.project.scripts.iter().zip(&facts.world.graphs) {
        let is_left_open = |span: Span| unit.tree.left_open.iter().any(|open| open.contains(span));
        for &span in graphs.handlers.iter().chain(&graphs.procedures).flat_map(|graph| &graph.unreachable) {
            if is_left_open(span) {
                continue; // It may have been meant to stand behind the block.
            }
            findings.push(
                Finding::new(RULE.name, unit.at(span), "no way leads here: this is never done")
                    .help("take it out, or move it up"),
            );
        }
    }
    findings
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn after_ways_that_do_not_go_on() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 6
engine = "both"
"#,
            &[r#"script tides for tide

on bell {
    if height > 2 {
        return
    } else {
        restart
    }
    height = 1 // ~ unused/unreachable
}

on touched(other) {
    while true {
        wait 1s
        if height > 3 {
            break
        }
    }
    height = 2
}

on bumped(other) {
    while true {
        wait 1s
    }
    height = 2 // ~ unused/unreachable
    height = 3
}
"#],
        );
    }
}
