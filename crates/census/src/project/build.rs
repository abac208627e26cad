//! From files to a resolved project.

use super::names::NameTable;
use super::resolve::{self, Resolved};
use super::*;
use crate::finding::{Finding, reader_rules};
use crate::registry::read::{Problems, RegistryFile};
use crate::registry::{config, read, toml};
use crate::script::{self, parser};
use crate::source::{FileKind, SourceFile};
use crate::words::{did_you_mean, nearest};
use rayon::prelude::*;
use std::sync::Arc;

/// Reads and resolves everything. What is wrong stands in [`Project::findings`].
#[must_use]
pub fn build(sources: Sources) -> Project {
    let mut problems = Problems::default();
    let mut config = read_config(&sources, &mut problems);
    let mut registry = read_registry(&sources, &config, &mut problems);
    let order = script_order(&sources, &mut config, &mut problems);
    let names = NameTable::new(&registry);
    let mut findings = std::mem::take(&mut problems.findings);
    let invariants = read_invariants(&registry, &names, &mut findings);
    let mut resolved: Vec<Resolved> = order
        .par_iter()
        .map(|&file| {
            let tree = script::parse(&sources.file(file).text);
            resolve::script(&sources, file, tree, &names, &invariants)
        })
        .collect();
    for one in &mut resolved {
        findings.append(&mut one.findings);
    }
    let mut scripts: Vec<ScriptUnit> = resolved.into_iter().map(|one| one.unit).collect();
    let cells = number_cells(&registry, &mut scripts);
    registry.unread.extend(unread_in_invariants(&registry, &invariants));
    Project { sources, config, registry, scripts, invariants, cells, findings }
}

fn read_config(sources: &Sources, problems: &mut Problems) -> Config {
    let Some(file) = sources.of_kind(FileKind::Config).next() else { return Config::empty(FileId(0)) };
    let (table, error) = toml::read(&sources.file(file).text);
    report_toml(sources, file, error, problems);
    config::read(table, file, problems)
}

fn report_toml(sources: &Sources, file: FileId, error: Option<toml::TomlError>, problems: &mut Problems) {
    report_unreadable(sources.file(file), file, error, problems);
}

/// Tells where a file stops being UTF-8, or TOML.
pub(crate) fn report_unreadable(
    source: &SourceFile,
    file: FileId,
    error: Option<toml::TomlError>,
    problems: &mut Problems,
) {
    if let Some(offset) = source.invalid_utf8 {
        let at = Location { file, span: Span { start: offset, end: offset } };
        problems.entry(at, "this file is not UTF-8 from here on");
    } else if let Some(error) = error {
        let at = Location { file, span: error.span };
        // TOML takes only plain letters bare; names of other scripts stand in quotes there.
        let found = source.text.get(error.span.start as usize..).and_then(|rest| rest.chars().next());
        let foreign = found.is_some_and(|c| !c.is_ascii() && c.is_alphabetic());
        let help = foreign.then(|| "put the name in quotes, as in `[owners.\"船\"]`".to_owned());
        problems.entry_with(at, &format!("this is not TOML: {}", error.message), help);
    }
}

fn read_registry(sources: &Sources, config: &Config, problems: &mut Problems) -> Registry {
    let ids: Vec<FileId> = sources.of_kind(FileKind::Registry).collect();
    let parsed: Vec<_> = ids.par_iter().map(|&file| (file, toml::read(&sources.file(file).text))).collect();
    let mut files = Vec::new();
    let mut broken: Vec<FileId> = Vec::new();
    for (file, (table, error)) in parsed {
        if error.is_some() || sources.file(file).invalid_utf8.is_some() {
            broken.push(file);
        }
        report_toml(sources, file, error, problems);
        files.push(RegistryFile { file, table });
    }
    let before = problems.findings.len();
    let mut registry = read::read(files, config, problems);
    // What is wrong in the rest of a file that could not be read follows from that, and so do names that it has.
    let told = problems.findings.split_off(before);
    problems.findings.extend(told.into_iter().filter(|finding| !broken.contains(&finding.at.file)));
    for file in broken {
        let words = sources.file(file).text.split(|c: char| !c.is_alphanumeric() && c != '_');
        registry.unread.extend(words.filter(|word| !word.is_empty()).map(str::to_owned));
    }
    registry
}

/// The scripts of `order.first`, then all others by path, byte by byte.
fn script_order(sources: &Sources, config: &mut Config, problems: &mut Problems) -> Vec<FileId> {
    let mut others: Vec<FileId> = sources.of_kind(FileKind::Script).collect();
    others.sort_by(|&a, &b| sources.file(a).path.as_bytes().cmp(sources.file(b).path.as_bytes()));
    let mut order = Vec::with_capacity(others.len());
    for first in &mut config.order {
        if !others.iter().any(|&file| &*sources.file(file).path == first.path.trim_start_matches("./")) {
            let paths = || others.iter().map(|&file| &*sources.file(file).path);
            let message = format!("there is no script \"{}\"", first.path);
            problems.entry_with(first.at, &message, did_you_mean(&first.path, paths()));
            let meant = nearest(&first.path, paths()).first().map(|&path| path.to_owned());
            first.path = meant.unwrap_or_default();
        }
        let wanted = first.path.trim_start_matches("./");
        if let Some(at) = others.iter().position(|&file| &*sources.file(file).path == wanted) {
            order.push(others.remove(at));
        }
    }
    order.extend(others);
    order
}

fn number_cells(registry: &Registry, scripts: &mut [ScriptUnit]) -> Vec<Cell> {
    let mut cells: Vec<Cell> = registry.var_ids().map(Cell::Variable).collect();
    for (at, unit) in scripts.iter_mut().enumerate() {
        for (index, private) in (0u32..).zip(&mut unit.privates) {
            private.cell = CellId::at(cells.len());
            cells.push(Cell::Private(ScriptId::at(at), index));
        }
    }
    cells
}

// ---- invariants ----

fn read_invariants(registry: &Registry, names: &NameTable<'_>, findings: &mut Vec<Finding>) -> Vec<InvariantFacts> {
    registry.invariants.iter().map(|invariant| read_invariant(invariant, registry, names, findings)).collect()
}

/// The names in invariants that can't be read, and those that may be meant there.
fn unread_in_invariants(registry: &Registry, invariants: &[InvariantFacts]) -> Vec<String> {
    let unread = registry.invariants.iter().zip(invariants).filter(|(_, facts)| facts.holds.is_none());
    let words = unread.flat_map(|(invariant, facts)| {
        let words = invariant.holds.split(|c: char| !c.is_alphanumeric() && c != '_').map(str::to_owned);
        words.chain(facts.unit.meant_names.iter().cloned())
    });
    words.filter(|word| !word.is_empty()).collect()
}

fn read_invariant(
    invariant: &crate::registry::Invariant,
    registry: &Registry,
    names: &NameTable<'_>,
    findings: &mut Vec<Finding>,
) -> InvariantFacts {
    let (mut tree, expr) = parser::parse_expression(&invariant.holds);
    let at = invariant.place.key("holds");
    let mut problems: Vec<(String, Option<String>)> =
        tree.errors.drain(..).map(|error| (error.message, error.help)).collect();
    let text: Arc<str> = invariant.holds.as_str().into();
    let mut resolved = resolve::invariant(&text, at.file, tree, expr, names);
    problems.extend(resolved.findings.drain(..).map(|finding| (finding.message, finding.help)));
    let mut facts = InvariantFacts { unit: resolved.unit, holds: expr, actor: None, variables: Vec::new() };
    let places = facts.unit.places.clone();
    for place in places {
        let Place::Variable(variable, base) = place else { continue };
        if !facts.variables.contains(&variable) {
            facts.variables.push(variable);
        }
        if base != Base::Own {
            continue;
        }
        let owner = registry.var(variable).owner;
        if facts.actor.is_some_and(|actor| actor != owner) {
            problems.push(("an invariant names instance variables of one actor only".to_owned(), None));
        }
        facts.actor = Some(owner);
    }
    for &variable in &facts.variables {
        let entry = registry.var(variable);
        // A `ref` starts as none, which is a value.
        let starts_unset = entry.default.is_none() && !matches!(entry.ty, Type::Ref(_));
        if starts_unset && !entry.place.has("default") {
            let message =
                format!("`{}` has no default, so the invariant may have nothing to judge", registry.identity(variable));
            problems.push((message, None));
        }
    }
    if !problems.is_empty() {
        facts.holds = None;
    }
    if let Some((message, help)) = problems.into_iter().next()
        && !invariant.holds.is_empty()
    {
        let mut finding = Finding::new(reader_rules::BAD_ENTRY, at, format!("`holds` can't be read: {message}"));
        finding.help = help;
        findings.push(finding);
    }
    facts
}
