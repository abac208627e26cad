//! `shadow/lookalike`: two names of one owner, or in one script, or of two labels, that differ only in case, underscores, or one letter.

use crate::finding::{Finding, Level, RuleName};
use crate::registry::VarId;
use crate::rules::Facts;
use crate::rules::{Example, Rule};
use crate::script::ast::{StatementKind, walk};
use rustc_hash::{FxHashMap, FxHashSet, FxHasher};
use smallvec::SmallVec;
use std::collections::BTreeMap;
use std::hash::{Hash, Hasher};

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

/// How many letters a name has at least that is looked at.
const SHORTEST: usize = 5;
/// In how many names a form may occur; beyond that they are numbered in some way.
const MOST_OF_A_FORM: usize = 200;
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
    let mut by_form: FxHashMap<u64, Vec<VarId>> = FxHashMap::default();
    for &id in all {
        let name: Vec<char> = registry.var(id).name.chars().collect();
        if name.len() >= SHORTEST {
            forms(&name, |form| by_form.entry(form).or_default().push(id));
        }
    }
    let path = |id: VarId| {
        let place = registry.var(id).place.header;
        (facts.project.sources.file(place.file).path.clone(), place.span)
    };
    for group in by_form.values().filter(|group| group.len() < MOST_OF_A_FORM) {
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

/// A name without its case and underscores.
fn folded(name: &[char]) -> impl Iterator<Item = char> {
    name.iter().filter(|&&c| c != '_').flat_map(|c| c.to_lowercase())
}

/// Fingerprints of a name, of its folded form, and of the name with each of its letters taken out: names that can be near
/// have one in common.
fn forms(name: &[char], mut take: impl FnMut(u64)) {
    let mut print = |letters: &mut dyn Iterator<Item = char>, mark: u32| {
        let mut hasher = FxHasher::default();
        letters.for_each(|letter| u32::from(letter).hash(&mut hasher));
        mark.hash(&mut hasher);
        take(hasher.finish());
    };
    for without in 0..name.len() {
        print(&mut name[..without].iter().chain(&name[without + 1..]).copied(), 0);
    }
    print(&mut name.iter().copied(), 0);
    print(&mut folded(name), 1);
}

/// Alike but for case and underscores, or for one letter added, dropped or changed.
fn is_near(a: &str, b: &str) -> bool {
    let (a, b): (SmallVec<[char; 32]>, SmallVec<[char; 32]>) = (a.chars().collect(), b.chars().collect());
    let ahead = a.iter().zip(&b).take_while(|(a, b)| a == b).count();
    let (rest_a, rest_b) = (&a[ahead..], &b[ahead..]);
    let behind = rest_a.iter().rev().zip(rest_b.iter().rev()).take_while(|(a, b)| a == b).count();
    rest_a.len().max(rest_b.len()) - behind <= 1 || folded(&a).eq(folded(&b))
}

fn labels(facts: &Facts<'_>, findings: &mut Vec<Finding>) {
    let mut seen: Vec<(&str, crate::source::Location)> = Vec::new();
    let mut by_form: FxHashMap<u64, Vec<usize>> = FxHashMap::default();
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
                let letters: Vec<char> = name.chars().collect();
                if letters.len() < SHORTEST {
                    return;
                }
                let own = seen.len();
                seen.push((name, unit.at(label.span)));
                let mut earlier: Option<usize> = None;
                forms(&letters, |form| {
                    let group = by_form.entry(form).or_default();
                    let near = group.iter().copied().find(|&at| at != own && is_near(name, seen[at].0));
                    earlier = earlier.into_iter().chain(near).min();
                    if group.len() < MOST_OF_A_FORM {
                        group.push(own);
                    }
                });
                if let Some(&(other, at)) = earlier.map(|at| &seen[at]) {
                    let message = format!("the labels `{name}` and `{other}` are easily taken for each other");
                    findings.push(
                        Finding::new(RULE.name, unit.at(label.span), message)
                            .help("write one name for one place on the screen")
                            .with(at, "the other one is here"),
                    );
                }
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
