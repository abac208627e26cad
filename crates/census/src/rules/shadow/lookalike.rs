//! `shadow/lookalike`: two names of one owner, or in one script, or of two labels, that differ only in case, underscores, or one letter.

use crate::finding::{Finding, Level, RuleName};
use crate::registry::VarId;
use crate::rules::Facts;
use crate::rules::{Example, Rule};
use crate::script::ast::{StatementKind, walk};
use rustc_hash::{FxHashMap, FxHashSet};

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

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let registry = facts.registry();
    let mut findings = Vec::new();
    let mut pairs: FxHashSet<(VarId, VarId)> = FxHashSet::default();
    for owner in &registry.owners {
        near_pairs(facts, &owner.variables, &mut pairs);
    }
    for accesses in &facts.world.accesses {
        let mut used: Vec<VarId> =
            accesses.iter().filter_map(|access| facts.project.variable_of(access.cell)).collect();
        used.sort_unstable();
        used.dedup();
        near_pairs(facts, &used, &mut pairs);
    }
    let mut pairs: Vec<(VarId, VarId)> = pairs.into_iter().collect();
    pairs.sort_unstable();
    for (a, b) in pairs {
        let place = |id: VarId| registry.var(id).place.header;
        let path = |id: VarId| (facts.project.sources.file(place(id).file).path.clone(), place(id).span);
        let (first, later) = if path(a) <= path(b) { (a, b) } else { (b, a) };
        let (one, other) = (registry.identity(later), registry.identity(first));
        let message = format!("`{one}` and `{other}` are easily taken for each other");
        findings.push(
            Finding::new(RULE.name, place(later), message)
                .about(one.clone())
                .help(format!("rename one of them: `oaken rename {one} …`"))
                .with(place(first), "the other one is here"),
        );
    }
    labels(facts, &mut findings);
    findings
}

fn near_pairs(facts: &Facts<'_>, all: &[VarId], pairs: &mut FxHashSet<(VarId, VarId)>) {
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
    for group in by_form.values().filter(|group| group.len() < 200) {
        for (at, &a) in group.iter().enumerate() {
            for &b in &group[at + 1..] {
                let (x, y) = (&registry.var(a).name, &registry.var(b).name);
                if a != b && x != y && is_near(x, y) {
                    pairs.insert((a.min(b), a.max(b)));
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
    for unit in &facts.project.scripts {
        let bodies = unit.tree.handlers.iter().map(|handler| &handler.body);
        for body in bodies.chain(unit.tree.procedures.iter().map(|procedure| &procedure.body)) {
            walk(body, &mut |statement| {
                let label = match &statement.kind {
                    StatementKind::Show { label: Some(label), .. } | StatementKind::Hide { label } => label,
                    _ => return,
                };
                let name = facts.project.text(unit, label.span);
                if seen.iter().any(|(known, _)| *known == name) {
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
