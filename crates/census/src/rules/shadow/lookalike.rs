//! `shadow/lookalike`: two names of one owner, or in one script, or of two labels, that differ only in case, underscores, or one letter.

use crate::finding::{Finding, Level, RuleName};
use crate::registry::VarId;
use crate::rules::Facts;
use crate::rules::{Example, Rule};
use crate::script::ast::{StatementKind, walk};
use rustc_hash::{FxHashMap, FxHashSet};
use std::collections::BTreeMap;

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("shadow/lookalike"),
    level: Level::Note,
    means: "Two names of one owner, or in one script, or of two labels, that differ only in case, underscores, or one letter.",
    hurts: "One is read for the other, and both look right.",
    bad: Example {
        registry: r#"[variables.tide.water_level]
type = "int"
scope = "global"
default = 0

[variables.tide.waterlevel]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on bell {
    water_level += 1
    waterlevel += water_level
    note "{waterlevel}"
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.water_level]
type = "int"
scope = "global"
default = 0

[variables.tide.flow]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on bell {
    water_level += 1
    flow += water_level
    note "{flow}"
}
"#,
    },
    check: Some(check),
};

/// How many names are kept that one can be taken for.
const MOST_ALIKE: usize = 4;

/// The names that each later entry can be taken for.
type Alike = BTreeMap<VarId, Vec<VarId>>;

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let registry = facts.registry();
    let mut alike = Alike::new();
    for owner in &registry.owners {
        near_names(facts, &owner.variables, &mut alike);
    }
    for accesses in &facts.world.accesses {
        let mut used: Vec<VarId> =
            accesses.iter().filter_map(|access| facts.project.variable_of(access.cell)).collect();
        used.sort_unstable();
        used.dedup();
        near_names(facts, &used, &mut alike);
    }
    let mut findings: Vec<Finding> = alike.iter().map(|(&later, others)| word(facts, later, others)).collect();
    labels(facts, &mut findings);
    findings
}

/// One finding for an entry, however many names it is near to.
fn word(facts: &Facts<'_>, later: VarId, others: &[VarId]) -> Finding {
    let registry = facts.registry();
    let place = |id: VarId| registry.var(id).place.header;
    let one = registry.identity(later);
    let names: Vec<String> = others.iter().map(|&id| registry.identity(id)).collect();
    let message = format!("`{one}` and {} are easily taken for each other", crate::words::both(&names));
    let finding = Finding::new(RULE.name, place(later), message).about(one).help("rename one of them".to_owned());
    others.iter().fold(finding, |finding, &other| finding.with(place(other), "the other one is here"))
}

fn near_names(facts: &Facts<'_>, all: &[VarId], alike: &mut Alike) {
    let registry = facts.registry();
    // Names that can be near share their folded form, or have it with one letter taken out.
    let mut by_form: FxHashMap<String, Vec<VarId>> = FxHashMap::default();
    for &id in all {
        let name = &*registry.var(id).name;
        if name.chars().count() < 5 {
            continue;
        }
        for form in forms(name) {
            by_form.entry(form).or_default().push(id);
        }
    }
    let path = |id: VarId| {
        let place = registry.var(id).place.header;
        (facts.project.sources.file(place.file).path.clone(), place.span)
    };
    for group in by_form.values().filter(|group| group.len() < 200) {
        for (at, &a) in group.iter().enumerate() {
            for &b in &group[at + 1..] {
                let (x, y) = (&registry.var(a).name, &registry.var(b).name);
                if a == b || x == y || !is_near(x, y) {
                    continue;
                }
                let (first, later) = if path(a) <= path(b) { (a, b) } else { (b, a) };
                let others = alike.entry(later).or_default();
                if let Err(place) = others.binary_search(&first) {
                    others.insert(place, first);
                    others.truncate(MOST_ALIKE);
                }
            }
        }
    }
}

fn folded(name: &str) -> String {
    name.chars().filter(|&c| c != '_').flat_map(char::to_lowercase).collect()
}

fn forms(name: &str) -> Vec<String> {
    let whole: Vec<char> = name.chars().collect();
    let without =
        |at: usize| whole.iter().enumerate().filter(|&(other, _)| other != at).map(|(_, c)| *c).collect::<String>();
    let mut forms: Vec<String> = (0..whole.len()).map(without).collect();
    forms.push(name.to_owned());
    forms.push(format!("~{}", folded(name)));
    forms
}

/// Alike but for case and underscores, or for one letter added, dropped or changed.
fn is_near(a: &str, b: &str) -> bool {
    folded(a) == folded(b) || strsim::levenshtein(a, b) <= 1
}

fn labels(facts: &Facts<'_>, findings: &mut Vec<Finding>) {
    let mut seen: Vec<(&str, crate::source::Location)> = Vec::new();
    let mut known: FxHashSet<&str> = FxHashSet::default();
    for unit in &facts.project.scripts {
        let bodies = unit.tree.handlers.iter().map(|handler| &handler.body);
        for body in bodies.chain(unit.tree.procedures.iter().map(|procedure| &procedure.body)) {
            walk(body, &mut |statement| {
                let label = match &statement.kind {
                    StatementKind::Show { label: Some(label), .. } | StatementKind::Hide { label } => label,
                    _ => return,
                };
                let name = facts.project.text(unit, label.span);
                if !known.insert(name) {
                    return;
                }
                if name.chars().count() >= 5
                    && let Some((other, at)) =
                        seen.iter().find(|(other, _)| other.chars().count() >= 5 && is_near(name, other))
                {
                    let message = format!("the labels `{name}` and `{other}` are easily taken for each other");
                    findings.push(
                        Finding::new(RULE.name, unit.at(label.span), message)
                            .help("write one name for one place on the screen")
                            .with(*at, "the other one is here"),
                    );
                }
                seen.push((name, unit.at(label.span)));
            });
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn one_letter_apart() {
        expect(
            r#"[variables.tide.levels]
type = "int"
scope = "global"
default = 0
engine = "both"

[variables.tide.level_s] # ~ shadow/lookalike
type = "int"
scope = "global"
default = 0
engine = "both"

[variables.tide.ebb]
type = "int"
scope = "global"
default = 0
engine = "both"

[variables.tide.abb]
type = "int"
scope = "global"
default = 0
engine = "both"
"#,
            &[r#"script tides for tide

on bell {
    show gauge_one "a"
    show gauge_two "b"
    show gauge_ona "c" // ~ shadow/lookalike
}
"#],
        );
    }
}
