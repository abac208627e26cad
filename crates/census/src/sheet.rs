//! The registry as a table, one row a variable and one column a key, and back in from one.
//!
//! A cell is empty where the entry lacks the key. Texts stand as they are; one that is empty, or begins with a quote, is
//! written as TOML writes it, so that it can be told from nothing. Lists are parted by commas, or written as TOML writes
//! them where an item has a comma.

use crate::edit::change::{Tables, change_patches, find_entry};
use crate::edit::patch::{NewFile, apply, rebuilt, tried};
use crate::edit::{self, Form, Given, Refused};
use crate::project::Project;
use crate::registry::VarId;
use crate::registry::toml::{Item, Value};
use crate::words::did_you_mean;
use rustc_hash::{FxHashMap, FxHashSet};

/// A column, and how its values are written in TOML.
const COLUMNS: [(&str, Form); 20] = [
    ("type", Form::Text),
    ("scope", Form::Text),
    ("of", Form::Text),
    ("values", Form::TextList),
    ("default", Form::ByType),
    ("min", Form::Bound),
    ("max", Form::Bound),
    ("overflow", Form::Text),
    ("unit", Form::Text),
    ("engine", Form::Text),
    ("constant", Form::Plain),
    ("lifetime", Form::Text),
    ("writers", Form::TextList),
    ("placeholder", Form::Plain),
    ("slot", Form::Plain),
    ("steward", Form::Text),
    ("about", Form::Text),
    ("tags", Form::TextList),
    ("formerly", Form::TextList),
    ("retired", Form::Plain),
];

/// The names of the columns; the first one is `id`.
#[must_use]
pub fn columns() -> Vec<&'static str> {
    std::iter::once("id").chain(COLUMNS.iter().map(|(name, _)| *name)).collect()
}

/// All variables as rows, in the order of the registry.
#[must_use]
pub fn rows(project: &Project) -> Vec<Vec<String>> {
    let mut tables = Tables::default();
    project.registry.var_ids().map(|id| row(project, id, &mut tables)).collect()
}

fn row(project: &Project, id: VarId, tables: &mut Tables) -> Vec<String> {
    let header = project.registry.var(id).place.header;
    let file = project.sources.file(header.file);
    let keys = find_entry(tables.of(project, header.file), header.span).map(|entry| &entry.item.value);
    let mut cells = vec![project.registry.identity(id)];
    for (key, _) in COLUMNS {
        let item = match keys {
            Some(Value::Table(keys)) => keys.get(key).map(|entry| &entry.item),
            _ => None,
        };
        cells.push(item.map_or_else(String::new, |item| cell(item, file.slice(item.span))));
    }
    cells
}

fn cell(item: &Item, raw: &str) -> String {
    match &item.value {
        Value::Text(text) => text_cell(text),
        Value::Array(items) => {
            let texts: Option<Vec<&str>> = items
                .iter()
                .map(|item| match &item.value {
                    Value::Text(text) => Some(text.as_str()),
                    _ => None,
                })
                .collect();
            let texts = texts.filter(|texts| !texts.is_empty());
            texts.map_or_else(|| raw.to_owned(), |texts| list_cell(&texts))
        }
        _ => raw.to_owned(),
    }
}

/// A text as a cell.
#[must_use]
pub fn text_cell(text: &str) -> String {
    let plain = !text.is_empty() && !text.starts_with('"') && text.trim() == text && !text.contains(char::is_control);
    if plain { text.to_owned() } else { basic(text) }
}

/// A text in double quotes, whatever is in it: other quotes would not be known for what they are.
fn basic(text: &str) -> String {
    let mut quoted = String::from("\"");
    for c in text.chars() {
        match c {
            '"' | '\\' => quoted.extend(['\\', c]),
            c if c.is_control() => quoted.push_str(&format!("\\u{:04X}", u32::from(c))),
            c => quoted.push(c),
        }
    }
    quoted.push('"');
    quoted
}

/// A list of texts as a cell.
#[must_use]
pub fn list_cell(items: &[&str]) -> String {
    let plain = |text: &&str| !text.is_empty() && !text.contains([',', '[', '"']) && text.trim() == *text;
    if items.iter().all(plain) && !items.is_empty() {
        return items.join(", ");
    }
    let quoted: Vec<String> = items.iter().map(|item| basic(item)).collect();
    format!("[{}]", quoted.join(", "))
}

/// The text of a cell, or the texts of a list's; none where the cell is neither.
#[must_use]
pub fn texts_of(cell: &str) -> Option<Vec<String>> {
    if !cell.starts_with('[') {
        return Some(cell.split(',').map(|item| item.trim().to_owned()).collect());
    }
    let value = cell.parse::<toml_edit::Value>().ok()?;
    value.as_array()?.iter().map(|item| item.as_str().map(str::to_owned)).collect()
}

/// The text that a cell stands for.
#[must_use]
pub fn text_of(cell: &str) -> String {
    match cell.parse::<toml_edit::Value>() {
        Ok(value) if cell.starts_with('"') => value.as_str().map_or_else(|| cell.to_owned(), str::to_owned),
        _ => cell.to_owned(),
    }
}

/// What an import would do.
#[derive(Clone, Debug, Default)]
pub struct Imported {
    /// The files as it leaves them.
    pub files: Vec<NewFile>,
    /// The variables that are new.
    pub added: Vec<String>,
    /// The variables that change.
    pub changed: Vec<String>,
    /// The rows that were refused: their number, from 1 for the first behind the head, the variable, and why.
    pub refused: Vec<(usize, String, String)>,
    /// How many variables have no row: they stay as they are.
    pub absent: usize,
}

/// A row of the table that comes in.
struct Row<'t> {
    number: usize,
    id: &'t str,
    cells: Vec<(usize, &'t str)>,
}

/// Works out what a table changes. Rows that can't be taken are refused one by one.
///
/// # Errors
/// The head has no `id`, or names a column that there is none of.
pub fn import(project: &Project, head: &[String], table: &[Vec<String>]) -> Result<Imported, Refused> {
    let places = read_head(head)?;
    let known: FxHashMap<String, Vec<String>> = rows(project).into_iter().map(|row| (row[0].clone(), row)).collect();
    let mut imported = Imported::default();
    let mut seen: FxHashSet<&str> = FxHashSet::default();
    let mut wanted: Vec<(Row<'_>, Vec<Given>, Vec<String>)> = Vec::new();
    for (at, cells) in table.iter().enumerate() {
        let cell = |place: usize| cells.get(place).map_or("", |cell| cell.trim());
        let id = cell(places.id);
        let row = Row { number: at + 1, id, cells: places.keys.iter().map(|&(key, at)| (key, cell(at))).collect() };
        if id.is_empty() && row.cells.iter().all(|(_, cell)| cell.is_empty()) {
            continue;
        }
        if !seen.insert(id) {
            imported.refused.push((row.number, id.to_owned(), "the variable has a row above already".to_owned()));
            continue;
        }
        let before = known.get(id);
        let (set, unset) = difference(before, &row);
        if before.is_none() || !set.is_empty() || !unset.is_empty() {
            wanted.push((row, set, unset));
        }
    }
    imported.absent = known.keys().filter(|id| !seen.contains(id.as_str())).count();
    take_all(project, &wanted, &mut imported);
    Ok(imported)
}

struct Places {
    id: usize,
    /// The column in [`COLUMNS`], and the one in the table.
    keys: Vec<(usize, usize)>,
}

fn read_head(head: &[String]) -> Result<Places, Refused> {
    let mut places = Places { id: usize::MAX, keys: Vec::new() };
    for (at, name) in head.iter().enumerate() {
        let name = name.trim();
        match COLUMNS.iter().position(|(known, _)| *known == name) {
            Some(key) => places.keys.push((key, at)),
            None if name == "id" => places.id = at,
            None if name.is_empty() => {}
            None => {
                let near = did_you_mean(name, columns()).map_or(String::new(), |near| format!("; {near}"));
                return Err(Refused(format!("there is no column `{name}`{near}")));
            }
        }
    }
    if places.id == usize::MAX {
        return Err(Refused("the table has no column `id`: its first row names the columns".to_owned()));
    }
    Ok(places)
}

/// The keys that a row sets, and those that it takes out.
fn difference(before: Option<&Vec<String>>, row: &Row<'_>) -> (Vec<Given>, Vec<String>) {
    let (mut set, mut unset) = (Vec::new(), Vec::new());
    for &(key, cell) in &row.cells {
        let was = before.map_or("", |before| before[key + 1].as_str());
        if same(was, cell) {
            continue;
        }
        let (name, form) = COLUMNS[key];
        if cell.is_empty() {
            unset.push(name.to_owned());
        } else {
            set.push(given(name, form, cell));
        }
    }
    (set, unset)
}

/// Whether a spreadsheet may have made one of the other: `2.50` and `2.5`, `true` and `TRUE`.
fn same(was: &str, is: &str) -> bool {
    let number = |text: &str| text.replace('_', "").parse::<f64>().ok();
    let list = |text: &str| text.split(',').map(|item| item.trim().to_owned()).collect::<Vec<_>>();
    was == is
        || (was.starts_with('"') && text_of(was) == text_of(is))
        || matches!((number(was), number(is)), (Some(was), Some(is)) if was == is)
        || (matches!(was, "true" | "false") && was.eq_ignore_ascii_case(is))
        || (was.contains(',') && list(was) == list(is))
}

fn given(key: &'static str, form: Form, cell: &str) -> Given {
    let values = match form {
        Form::TextList if cell.starts_with('[') => {
            return Given { key, values: vec![cell.to_owned()], form: Form::Plain };
        }
        Form::TextList => cell.split(',').map(|item| item.trim().to_owned()).collect(),
        Form::Plain if cell.eq_ignore_ascii_case("true") || cell.eq_ignore_ascii_case("false") => {
            vec![cell.to_ascii_lowercase()]
        }
        Form::ByType if cell.eq_ignore_ascii_case("true") || cell.eq_ignore_ascii_case("false") => {
            vec![cell.to_ascii_lowercase()]
        }
        Form::Plain => vec![cell.to_owned()],
        _ => vec![text_of(cell)],
    };
    Given { key, values, form }
}

/// A key with a value as a cell writes it; an empty one takes the key out.
///
/// # Errors
/// There is no such key.
pub fn key_given(key: &str, cell: &str) -> Result<Given, Refused> {
    match COLUMNS.iter().find(|(name, _)| *name == key) {
        Some(&(name, form)) => Ok(given(name, form, cell)),
        None => {
            let near = did_you_mean(key, COLUMNS.iter().map(|(name, _)| *name));
            let near = near.map_or(String::new(), |near| format!("; {near}"));
            Err(Refused(format!("an entry has no key `{key}`{near}")))
        }
    }
}

// ---- taking rows ----

type Wanted<'t> = (Row<'t>, Vec<Given>, Vec<String>);

/// All changes at once where they can be; row by row where something is wrong.
fn take_all(project: &Project, wanted: &[Wanted<'_>], imported: &mut Imported) {
    let mut now = Step { project: None, files: Vec::new() };
    let (old, new): (Vec<_>, Vec<_>) = wanted.iter().partition(|(row, ..)| project.registry.find(row.id).is_some());
    if let Some((files, after)) = at_once(project, &old) {
        now = Step { project: Some(after), files };
        imported.changed.extend(old.iter().map(|(row, ..)| row.id.to_owned()));
    } else {
        for wanted in old {
            match now.change(project, wanted) {
                Ok(()) => imported.changed.push(wanted.0.id.to_owned()),
                Err(why) => imported.refused.push((wanted.0.number, wanted.0.id.to_owned(), why.0)),
            }
        }
    }
    for wanted in new {
        match now.add(project, wanted) {
            Ok(()) => imported.added.push(wanted.0.id.to_owned()),
            Err(why) => imported.refused.push((wanted.0.number, wanted.0.id.to_owned(), why.0)),
        }
    }
    imported.refused.sort();
    imported.files = now.files;
}

fn at_once(project: &Project, wanted: &[&Wanted<'_>]) -> Option<(Vec<NewFile>, Project)> {
    let mut patches = Vec::new();
    let mut tables = Tables::default();
    for (row, set, unset) in wanted {
        let id = project.registry.find(row.id)?;
        patches.extend(change_patches(project, &mut tables, id, set, unset).ok()?);
    }
    let files = apply(project, patches);
    let after = tried(project, &files).ok()?;
    Some((files, after))
}

/// The project as the rows taken so far leave it.
struct Step {
    project: Option<Project>,
    files: Vec<NewFile>,
}

impl Step {
    fn change(&mut self, first: &Project, (row, set, unset): &Wanted<'_>) -> Result<(), Refused> {
        let project = self.project.as_ref().unwrap_or(first);
        let id = edit::find_variable(project, row.id)?;
        let files = edit::change::change(project, id, set, unset)?;
        self.go_on(first, files);
        Ok(())
    }

    fn add(&mut self, first: &Project, (row, set, _): &Wanted<'_>) -> Result<(), Refused> {
        let project = self.project.as_ref().unwrap_or(first);
        let new = edit::add(project, row.id, set)?;
        self.go_on(first, vec![new.file]);
        Ok(())
    }

    fn go_on(&mut self, first: &Project, files: Vec<NewFile>) {
        let project = self.project.as_ref().unwrap_or(first);
        let after = rebuilt(project, &files);
        for file in files {
            match self.files.iter_mut().find(|known| known.path == file.path) {
                Some(known) => known.after = file.after,
                None => self.files.push(file),
            }
        }
        self.project = Some(after);
    }
}
