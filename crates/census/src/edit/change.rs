//! Changes keys of an entry, in the lines where they stand.

use super::patch::{NewFile, Patch, apply, tried};
use super::{Given, Refused, key_text, value_text};
use crate::project::Project;
use crate::registry::VarId;
use crate::registry::toml::{self, Entry, Table, Value};
use crate::source::{FileId, SourceFile, Span};
use rustc_hash::FxHashMap;

/// Works out an entry with some keys given new values, and some taken out.
///
/// # Errors
/// A key to take out is not there, or the registry would be wrong with the new values.
pub fn change(project: &Project, id: VarId, set: &[Given], unset: &[String]) -> Result<Vec<NewFile>, Refused> {
    let files = apply(project, change_patches(project, &mut Tables::default(), id, set, unset)?);
    tried(project, &files)?;
    Ok(files)
}

/// Files of a project as TOML, each read once.
#[derive(Default)]
pub(crate) struct Tables(FxHashMap<FileId, Table>);

impl Tables {
    /// A file as it stands.
    pub fn of(&mut self, project: &Project, file: FileId) -> &Table {
        self.0.entry(file).or_insert_with(|| toml::read(&project.sources.file(file).text).0)
    }
}

/// The change as patches of the entry's file, not tried yet.
pub(crate) fn change_patches(
    project: &Project,
    tables: &mut Tables,
    id: VarId,
    set: &[Given],
    unset: &[String],
) -> Result<Vec<Patch>, Refused> {
    let variable = project.registry.var(id);
    let header = variable.place.header;
    let file = project.sources.file(header.file);
    let entry = find_entry(tables.of(project, header.file), header.span)
        .ok_or_else(|| Refused(format!("the entry of `{}` can't be found", project.registry.identity(id))))?;
    let Value::Table(keys) = &entry.item.value else {
        return Err(Refused(format!("the entry of `{}` is no table", project.registry.identity(id))));
    };
    let ty = set.iter().find(|given| given.key == "type").and_then(|given| given.values.first().cloned());
    let ty = ty.unwrap_or_else(|| super::type_key(variable.ty).to_owned());
    let mut patches: Vec<Patch> = Vec::new();
    let mut new: Vec<(String, String)> = Vec::new();
    for given in set {
        let value = value_text(given, &ty)?;
        match keys.get(given.key) {
            Some(known) => patches.push(Patch { file: header.file, span: known.item.span, text: value }),
            None => new.push((given.key.to_owned(), value)),
        }
    }
    for key in unset {
        let known =
            keys.get(key).ok_or_else(|| Refused(format!("`{}` has no `{key}`", project.registry.identity(id))))?;
        patches.push(Patch { file: header.file, span: without(file, entry, keys, known), text: String::new() });
    }
    if !new.is_empty() {
        let (at, text) = put_in(file, entry, keys, unset, &new);
        patches.push(Patch { file: header.file, span: Span { start: at, end: at }, text });
    }
    Ok(patches)
}

/// The entry `variables.OWNER.NAME` whose header, or key, stands there.
pub(crate) fn find_entry(table: &Table, header: Span) -> Option<&Entry> {
    fn inner(entry: &Entry) -> impl Iterator<Item = &Entry> {
        match &entry.item.value {
            Value::Table(table) => table.entries.iter(),
            _ => [].iter(),
        }
    }
    let owners = table.entries.iter().filter(|entry| entry.key == "variables").flat_map(inner);
    let mut entries = owners.flat_map(inner);
    entries.find(|entry| entry.item.span == header || entry.key_span == header || header.contains(entry.key_span))
}

/// How an entry is written.
enum Shape {
    /// Under a header of its own.
    Header,
    /// `name = { … }`
    Inline,
    /// `name.key = …`
    Dotted,
}

fn shape(file: &SourceFile, entry: &Entry) -> Shape {
    match file.slice(entry.item.span).chars().next() {
        Some('[') => Shape::Header,
        Some('{') => Shape::Inline,
        _ => Shape::Dotted,
    }
}

/// Where new keys go, and the text that goes there.
fn put_in(file: &SourceFile, entry: &Entry, keys: &Table, unset: &[String], new: &[(String, String)]) -> (u32, String) {
    let ending = if file.text.contains("\r\n") { "\r\n" } else { "\n" };
    let kept = keys.entries.iter().filter(|entry| !unset.contains(&entry.key));
    let last = kept.max_by_key(|entry| entry.item.span.end);
    let line_end = |offset: u32| file.line_span(file.line_index(offset)).end;
    match (shape(file, entry), last) {
        (Shape::Inline, last) => {
            let pairs: Vec<String> = new.iter().map(|(key, value)| format!("{} = {value}", key_text(key))).collect();
            match last {
                Some(last) => (last.item.span.end, format!(", {}", pairs.join(", "))),
                None => (entry.item.span.start + 1, format!(" {} ", pairs.join(", "))),
            }
        }
        (Shape::Header, last) => {
            let at = line_end(last.map_or(entry.item.span.end, |last| last.item.span.end));
            let lines = new.iter().map(|(key, value)| format!("{ending}{} = {value}", key_text(key)));
            (at, lines.collect())
        }
        (Shape::Dotted, last) => {
            let last = last.map_or(entry.item.span, |last| last.key_span.to(last.item.span));
            let line = file.line_span(file.line_index(last.start));
            let prefix = file.slice(Span { start: line.start, end: last.start }).to_owned();
            let lines = new.iter().map(|(key, value)| format!("{ending}{prefix}{} = {value}", key_text(key)));
            (line_end(last.end), lines.collect())
        }
    }
}

/// What goes when a key goes: its line, or its part of an inline table with one comma.
fn without(file: &SourceFile, entry: &Entry, keys: &Table, known: &Entry) -> Span {
    let own = known.key_span.to(known.item.span);
    if let Shape::Inline = shape(file, entry) {
        let at = keys.entries.iter().position(|other| other.key_span == known.key_span).unwrap_or(0);
        if let Some(next) = keys.entries.get(at + 1) {
            return Span { start: own.start, end: next.key_span.start };
        }
        let before = at.checked_sub(1).and_then(|at| keys.entries.get(at));
        return Span { start: before.map_or(own.start, |before| before.item.span.end), end: own.end };
    }
    let first = file.line_span(file.line_index(own.start));
    let last = file.line_index(own.end);
    let end = if last + 1 < file.line_count() { file.line_span(last + 1).start } else { file.line_span(last).end };
    Span { start: first.start, end }
}

/// What goes when the whole entry goes: its lines, and one blank line behind them.
pub(super) fn whole_entry(file: &SourceFile, entry: &Entry) -> Span {
    let Value::Table(keys) = &entry.item.value else { return entry.key_span.to(entry.item.span) };
    let ends = keys.entries.iter().map(|entry| entry.item.span.end).max().unwrap_or(entry.item.span.end);
    let end = match shape(file, entry) {
        Shape::Inline => entry.item.span.end,
        _ => ends.max(entry.item.span.end),
    };
    let mut first = file.line_index(entry.key_span.start.min(entry.item.span.start));
    let mut last = file.line_index(end);
    // Comments right above a header speak of the entry.
    if let Shape::Header = shape(file, entry) {
        while first > 0 && file.slice(file.line_span(first - 1)).trim_start().starts_with('#') {
            first -= 1;
        }
        let blank = |line: usize| line < file.line_count() && file.slice(file.line_span(line)).trim().is_empty();
        let blank_above = first == 0 || blank(first - 1);
        if blank_above && blank(last + 1) && last + 2 < file.line_count() {
            last += 1;
        } else if first > 0 && blank(first - 1) && last + 1 >= file.line_count() - usize::from(blank(last + 1)) {
            first -= 1;
        }
    }
    let end = if last + 1 < file.line_count() { file.line_span(last + 1).start } else { file.line_span(last).end };
    Span { start: file.line_span(first).start, end }
}
