//! `unused/never-read`: a variable is written and nothing ever reads it, but for working out its own next value.

use crate::finding::{Finding, Level, RuleName};
use crate::project::CellId;
use crate::rules::Facts;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("unused/never-read"),
    level: Level::Warning,
    means: "A variable is written and nothing ever reads it, but for working out its own next value.",
    hurts: "Somebody keeps a count that nobody looks at, or the reader has another name.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: "script tides for tide

on bell {
    height += 1
}
",
    },
    good: Example {
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
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let registry = facts.registry();
    let unread = registry.var_ids().filter(|&id| {
        let cell = CellId(id.0);
        facts.is_written(cell) && !facts.is_read(cell) && registry.var(id).retired.is_none()
    });
    unread
        .map(|id| {
            let identity = registry.identity(id);
            let writes = facts.uses(CellId(id.0)).filter(|(_, access)| access.writes()).count();
            let by = if writes == 0 { "the game".to_owned() } else { crate::words::count(writes, "statement") };
            let verb = if writes <= 1 { "sets" } else { "set" };
            let mut finding = Finding::new(
                RULE.name,
                registry.var(id).place.header,
                format!("{by} {verb} `{identity}`, and nothing ever reads it"),
            )
            .about(identity.clone())
            .help("read it somewhere, give it `engine = \"reads\"` if the game shows it, or take it out");
            if let Some((unit, access)) = facts.uses(CellId(id.0)).find(|(_, access)| access.writes()) {
                finding = finding.with(unit.at(access.at), "set here");
            }
            finding
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn its_own_next_value_is_no_read() {
        expect(
            r#"[variables.tide.height] # ~ unused/never-read
type = "int"
scope = "global"
default = 0

[variables.tide.open] # ~ unused/never-read
type = "bool"
scope = "global"
default = false

[variables.tide.flow]
type = "int"
scope = "global"
default = 0
"#,
            &[r#"script tides for tide

on bell {
    height = min(height + 1, 9)
    open = not open
    flow += 1
}

on changed flow {
    note "flows"
}
"#],
        );
    }
}
