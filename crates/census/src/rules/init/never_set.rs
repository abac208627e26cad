//! `init/never-set`: a variable that scripts read has no default, and nothing ever gives it a value.

use crate::finding::{Finding, Level, RuleName};
use crate::flow::access::AccessKind;
use crate::project::{Cell, CellId};
use crate::registry::Type;
use crate::rules::Facts;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("init/never-set"),
    level: Level::Error,
    means: "A variable that scripts read has no default, and nothing ever gives it a value.",
    hurts: "Every read of it is a read of nothing, wherever it stands.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
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
default = 0
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
    let cells = (0..facts.project.cells.len()).map(CellId::at);
    cells.filter(|&cell| is_never_set(facts, cell)).map(|cell| word(facts, cell)).collect()
}

/// Whether a cell is read and has no way to get a value.
#[must_use]
pub fn is_never_set(facts: &Facts<'_>, cell: CellId) -> bool {
    let (ty, has_start) = match facts.project.cells[cell.index()] {
        Cell::Variable(id) => {
            let variable = facts.registry().var(id);
            let started = facts.registry().has_own_start(id);
            (variable.ty, variable.default.is_some() || variable.place.has("default") || started)
        }
        Cell::Private(script, index) => {
            let unit = facts.project.script(script);
            (unit.privates[index as usize].ty, unit.tree.privates[index as usize].start.is_some())
        }
    };
    let assigned = facts.uses(cell).any(|(_, access)| matches!(access.kind, AccessKind::Write(..)));
    let engine = facts.project.variable_of(cell).is_some_and(|id| facts.registry().var(id).engine_writes);
    !has_start
        && !matches!(ty, Type::Ref(_) | Type::Unknown)
        && !assigned
        && !engine
        && !facts.may_be_used_unread(cell)
        && (facts.is_read_beside_scripts(cell) || facts.uses(cell).any(|(_, access)| access.kind == AccessKind::Read))
}

fn word(facts: &Facts<'_>, cell: CellId) -> Finding {
    let name = facts.cell_name(cell);
    let reads = facts.uses(cell).filter(|(_, access)| access.kind == AccessKind::Read).count();
    let game = facts.project.variable_of(cell).is_some_and(|id| facts.registry().var(id).engine_reads);
    let by = match reads {
        0 if game => "the game reads it".to_owned(),
        0 => "a bound, an invariant or an `on changed` asks for it".to_owned(),
        _ => format!("it is read in {}", crate::words::count(reads, "place")),
    };
    let message = format!("`{name}` has no default and nothing ever sets it, and {by}");
    let mut finding = Finding::new(RULE.name, facts.declared_at(cell), message);
    let private = facts.project.variable_of(cell).is_none();
    finding.variable = (!private).then(|| name.clone());
    for (unit, access) in facts.uses(cell).take(1) {
        finding = finding.with(unit.at(access.at), "read here");
    }
    finding.help(if private {
        format!("write `private {name}: … = …`, or set it before it is read")
    } else {
        "give it a `default`, or set it in a handler `on start`".to_owned()
    })
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn nothing_is_told_of_what_follows_from_it() {
        let registry = r#"[variables.tide.height] # ~ init/never-set
type = "int"
scope = "global"

[variables.tide.boats]
type = "int"
scope = "global"
default = 4
min = 0
max = 20
engine = "reads"
"#;
        for lines in [
            "boats += height",
            "boats = min(boats + height, 20)",
            "boats = floor(100 / height)",
            "let more = height * 2\n    boats -= more",
            "raise(height)",
            "if boats >= height {\n        boats -= height\n    }",
        ] {
            let script = format!(
                "script tides for tide\n\non bell {{\n    {lines}\n}}\n\nproc raise(n: int) {{\n    boats += n\n}}\n"
            );
            let script =
                if lines.starts_with("raise") { script } else { script.split("\nproc").next().unwrap_or("").into() };
            expect(registry, &[&script]);
        }
    }

    #[test]
    fn read_and_set_by_nobody() {
        expect(
            r#"[variables.tide.height] # ~ init/never-set
type = "int"
scope = "global"
"#,
            &[r#"script tides for tide

private seen: bool // ~ init/never-set

on bell {
    note "{height}"
    if not seen {
        note "{height}"
    }
}
"#],
        );
    }

    #[test]
    fn a_ref_starts_as_none() {
        expect(
            r#"[variables.tide.watcher]
type = "ref"
of = "mailboat"
scope = "global"
"#,
            &[r#"script tides for tide

on bell {
    if watcher is none {
        note "nobody"
    }
}
"#],
        );
    }
}
