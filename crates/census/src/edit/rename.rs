//! Renames variables, owners and instances, everywhere.
//!
//! The places are those of [`super::occurrences`]. Whether the new name changes what any other name means is not argued
//! but tried: the project is built with it, and every name in every script must mean what it meant, and every check find
//! what it found.

use super::Refused;
use super::occurrences::{self, Kind, Occurrence, Target};
use super::patch::{NewFile, Patch, apply, rebuilt};
use crate::accepted;
use crate::project::{Meaning, Place, Project, ScriptUnit};
use crate::registry::{Named, Registry};
use crate::report::{self, Report, Told};
use crate::script::lexer;
use crate::source::Location;
use crate::words::{count, did_you_mean};
use rustc_hash::FxHashMap;
use std::collections::{BTreeMap, VecDeque};

/// What a name on the command line means.
///
/// # Errors
/// Nothing has that name; the nearest are told.
pub fn target(project: &Project, name: &str) -> Result<Target, Refused> {
    let registry = &project.registry;
    if let Some(id) = registry.find(name) {
        return Ok(Target::Variable(id));
    }
    match registry.names.get(name) {
        Some(Named::Owner(owner)) => return Ok(Target::Owner(*owner)),
        Some(Named::Instance(instance)) => return Ok(Target::Instance(*instance)),
        _ => {}
    }
    super::find_variable(project, name).map(Target::Variable).map_err(|refused| {
        let near = did_you_mean(name, registry.names.keys().map(|name| &**name));
        Refused(near.map_or(refused.0, |near| format!("nothing is called `{name}`; {near}")))
    })
}

/// A rename that can be done.
#[derive(Clone, Debug)]
pub struct Renamed {
    /// The files as it leaves them.
    pub files: Vec<NewFile>,
    /// How many places change.
    pub places: usize,
}

/// Works out a rename. `accepted` is the text of the accepted file, if there is one.
///
/// # Errors
/// The new name is none, is taken, or would change what another name means.
pub fn rename(project: &Project, target: Target, to: &str, accepted: Option<&str>) -> Result<Renamed, Refused> {
    let new = new_name(&project.registry, target, to)?;
    let old = target.name(&project.registry);
    if new == old {
        return Err(Refused(format!("that is its name already: `{old}`")));
    }
    unreadable_stretches(project, &old)?;
    let found = occurrences::find(project, target);
    let patches: Vec<Patch> = found.iter().map(|occurrence| patch(project, occurrence, &new)).collect();
    let mut files = apply(project, patches);
    let after = rebuilt(project, &files);
    same_registry(project, &after, &new)?;
    same_meanings(project, &after, &new)?;
    let (old_report, new_report) = (report::check(project), report::check(&after));
    same_findings(project, &old_report, &new_report, &after)?;
    let moved = moved(project, &old_report, &new_report, &after);
    files.extend(accepted.and_then(|text| accepted_file(text, &moved, &old, &new)));
    Ok(Renamed { files, places: found.len() })
}

/// The name alone: `OWNER.NEW` may be written out, as long as the owner stays.
fn new_name(registry: &Registry, target: Target, to: &str) -> Result<String, Refused> {
    let new = match (target, to.rsplit_once('.')) {
        (Target::Variable(id), Some((owner, name))) => {
            let own = &registry.owner(registry.var(id).owner).name;
            if *owner != **own {
                return Err(Refused(format!(
                    "a rename leaves a variable with its owner, `{own}`: write `{own}.{name}`, or just `{name}`"
                )));
            }
            name
        }
        _ => to,
    };
    if !lexer::is_name(new) {
        return Err(Refused(format!("`{new}` is no name: a name is a letter or `_`, then letters, digits and `_`")));
    }
    Ok(new.to_owned())
}

fn unreadable_stretches(project: &Project, old: &str) -> Result<(), Refused> {
    let unread = project.scripts.iter().find(|unit| unit.unread_names.contains(old));
    match unread {
        None => Ok(()),
        Some(unit) => Err(Refused(format!(
            "{} has a stretch that can't be read and names `{old}`: mend it first, `oaken check` shows where",
            project.sources.file(unit.file).path
        ))),
    }
}

fn patch(project: &Project, occurrence: &Occurrence, new: &str) -> Patch {
    let file = project.sources.file(occurrence.at.file);
    let raw = file.slice(occurrence.at.span);
    let text = match &occurrence.kind {
        Kind::Bare => new.to_owned(),
        Kind::Key => super::key_text(new),
        Kind::InText(parts) => in_text(raw, &parts.join(new)),
    };
    Patch { file: occurrence.at.file, span: occurrence.at.span, text }
}

/// A TOML text in the quotes that it had, where they can hold it.
fn in_text(raw: &str, text: &str) -> String {
    let plain = !text.contains(['\\', '"', '\'']) && !text.contains(char::is_control);
    match raw.chars().next() {
        Some(quote @ ('"' | '\'')) if plain && !raw.starts_with("\"\"\"") && !raw.starts_with("'''") => {
            format!("{quote}{text}{quote}")
        }
        Some('\'') if !text.contains(['\'', '\n']) && !raw.starts_with("'''") => format!("'{text}'"),
        Some('"') if !raw.starts_with("\"\"\"") && !text.contains(char::is_control) => {
            format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
        }
        _ => super::quoted(text),
    }
}

// ---- trying it ----

fn same_registry(before: &Project, after: &Project, new: &str) -> Result<(), Refused> {
    let known = |finding: &crate::finding::Finding| {
        before.findings.iter().filter(|old| old.rule == finding.rule && old.at.file == finding.at.file).count()
    };
    let worse = after.findings.iter().find(|finding| {
        after.findings.iter().filter(|other| other.rule == finding.rule && other.at.file == finding.at.file).count()
            > known(finding)
    });
    let Some(finding) = worse else { return Ok(()) };
    Err(Refused(format!("`{new}` can't be the name: {} ({})", finding.message, place(after, finding.at))))
}

fn place(project: &Project, at: Location) -> String {
    let file = project.sources.file(at.file);
    format!("{}:{}", file.path, file.position(at.span.start).line)
}

/// Every name in every script and invariant means what it meant.
fn same_meanings(before: &Project, after: &Project, new: &str) -> Result<(), Refused> {
    let invariants = before.invariants.iter().map(|facts| &facts.unit);
    let old = before.scripts.iter().chain(invariants);
    let units = old.zip(after.scripts.iter().chain(after.invariants.iter().map(|facts| &facts.unit)));
    for (was, is) in units {
        if let Some(expr) = (0..was.meanings.len()).find(|&at| !same_meaning(was, is, at)) {
            let span = was.tree.exprs[expr].span;
            let text = before.text(was, span);
            return Err(Refused(format!(
                "`{new}` would change what `{text}` means in {}: there the name is taken",
                place(before, was.at(span))
            )));
        }
    }
    Ok(())
}

fn same_meaning(was: &ScriptUnit, is: &ScriptUnit, at: usize) -> bool {
    let (Some(&old), Some(&new)) = (was.meanings.get(at), is.meanings.get(at)) else { return false };
    let place = |unit: &ScriptUnit, meaning: Meaning| -> Option<Vec<Place>> {
        let (Meaning::Value(id) | Meaning::Axis(id, _) | Meaning::Bound(id, _)) = meaning else { return None };
        let mut chain = vec![unit.place(id)];
        while let Some(Place::Variable(_, crate::project::Base::Held(held))) = chain.last() {
            chain.push(unit.place(*held));
        }
        // Ids of places are a matter of order; what they stand for counts.
        let plain = chain.into_iter().map(|place| match place {
            Place::Variable(variable, crate::project::Base::Held(_)) => {
                Place::Variable(variable, crate::project::Base::Some)
            }
            other => other,
        });
        Some(plain.collect())
    };
    std::mem::discriminant(&old) == std::mem::discriminant(&new)
        && match (place(was, old), place(is, new)) {
            (None, None) => old == new,
            (old, new) => old == new,
        }
}

/// A finding by its place and rule: what stays the same when names change.
type Known = (String, u32, &'static str);

fn known(project: &Project, told: &Told) -> Known {
    let file = project.sources.file(told.finding.at.file);
    (file.path.to_string(), file.position(told.finding.at.span.start).line, told.finding.rule.0)
}

/// Whether a rule is about names alone: a better name is what it asks for, and then it falls silent.
fn is_about_names(rule: &str) -> bool {
    rule.starts_with("shadow/") || rule == "registry/name-style"
}

/// The checks find the same, but for the name.
fn same_findings(before: &Project, old: &Report, new: &Report, after: &Project) -> Result<(), Refused> {
    let count = |project: &Project, report: &Report| {
        let mut counts: BTreeMap<Known, usize> = BTreeMap::new();
        for told in &report.findings {
            *counts.entry(known(project, told)).or_default() += 1;
        }
        counts
    };
    let (was, is) = (count(before, old), count(after, new));
    let more = |these: &BTreeMap<Known, usize>, those: &BTreeMap<Known, usize>, counts: &dyn Fn(&Known) -> bool| {
        let found = these.iter().find(|(one, times)| those.get(*one).is_none_or(|other| other < times) && counts(one));
        found.map(|(one, _)| one.clone())
    };
    let gained = more(&is, &was, &|_| true);
    let lost = more(&was, &is, &|one| !is_about_names(one.2));
    let (verb, (file, line, rule)) = match (gained, lost) {
        (Some(gained), _) => ("would find", gained),
        (None, Some(lost)) => ("would no longer find", lost),
        (None, None) => return Ok(()),
    };
    Err(Refused(format!(
        "with the new name the check {verb} {rule} at {file}:{line}, so the name means something there"
    )))
}

/// Fingerprints hang on the words of a line: the accepted ones are carried over.
fn accepted_file(text: &str, moved: &FxHashMap<String, String>, was: &str, is: &str) -> Option<NewFile> {
    let line = |line: &str| {
        let carried = line.split_once(' ').and_then(|(old, rest)| Some((moved.get(old)?, rest)));
        match carried {
            Some((new, rest)) => format!("{new} {}", accepted::renamed(rest, was, is)),
            None => line.to_owned(),
        }
    };
    let after: String = text.split_inclusive('\n').map(line).collect();
    (after != text).then(|| NewFile { path: accepted::FILE.to_owned(), before: Some(text.to_owned()), after })
}

/// The fingerprints that change, from what they were to what they are.
fn moved(before: &Project, old: &Report, new: &Report, after: &Project) -> FxHashMap<String, String> {
    let mut left: FxHashMap<Known, VecDeque<&Told>> = FxHashMap::default();
    for told in &new.findings {
        left.entry(known(after, told)).or_default().push_back(told);
    }
    let pairs = old.findings.iter().filter_map(|told| {
        let same = left.get_mut(&known(before, told))?.pop_front()?;
        Some((told.fingerprint.clone(), same.fingerprint.clone()))
    });
    pairs.filter(|(old, new)| old != new).collect()
}

/// "12 places in 4 files"
#[must_use]
pub fn extent(renamed: &Renamed) -> String {
    format!("{} in {}", count(renamed.places, "place"), count(renamed.files.len(), "file"))
}
