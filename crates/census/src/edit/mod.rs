//! Edits of the registry's files: worked out as new texts, checked before anything is written.
//!
//! An edit touches the lines that it must and no others, so comments, order and blank lines stay. It is checked by
//! reading the project as it would be; an edit that would make the registry wrong is refused with the reason.

pub mod change;
pub mod occurrences;
pub mod patch;
pub mod rename;
pub mod retire;

use crate::project::Project;
use crate::registry::{OwnerId, Type};
use crate::script::lexer;
use crate::words::did_you_mean;
use patch::NewFile;
use std::fmt;

/// A new entry.
#[derive(Clone, Debug)]
pub struct NewEntry {
    /// The file as it is with it.
    pub file: NewFile,
    /// The line at which the entry begins, from 1.
    pub line: usize,
}

/// Why an edit is not done.
#[derive(Clone, Debug)]
pub struct Refused(pub String);

impl fmt::Display for Refused {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl std::error::Error for Refused {}

/// A key of a new entry with its value as the user wrote it.
#[derive(Clone, Debug)]
pub struct Given {
    /// The key.
    pub key: &'static str,
    /// The values; several make a list.
    pub values: Vec<String>,
    /// How the value is written in TOML.
    pub form: Form,
}

/// How a given value is written in TOML.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Form {
    /// In quotes.
    Text,
    /// As it stands.
    Plain,
    /// A list of texts.
    TextList,
    /// As the variable's type asks.
    ByType,
    /// A number, or a variable's identity.
    Bound,
}

/// Works out a new entry `[variables.OWNER.NAME]`.
///
/// # Errors
/// The identity is no good, or the registry would be wrong with it.
pub fn add(project: &Project, identity: &str, given: &[Given]) -> Result<NewEntry, Refused> {
    let Some((owner_name, name)) = identity.split_once('.') else {
        return Err(Refused(format!("`{identity}` is no identity: write OWNER.NAME, as in `mailboat.parcels`")));
    };
    for part in [owner_name, name] {
        if !lexer::is_name(part) {
            return Err(Refused(format!(
                "`{part}` is no name: a name is a letter or `_`, then letters, digits and `_`"
            )));
        }
    }
    let registry = &project.registry;
    let Some(owner) = registry.find_owner(owner_name) else {
        let near = did_you_mean(owner_name, registry.owners.iter().map(|owner| &*owner.name)).unwrap_or_default();
        return Err(Refused(format!("there is no owner `{owner_name}`; {near}").trim_end_matches("; ").to_owned()));
    };
    if registry.member(owner, name).is_some() {
        return Err(Refused(format!("`{identity}` is in the registry already")));
    }
    let entry = entry_text(owner_name, name, given)?;
    let new = place(project, owner, &entry);
    patch::tried(project, std::slice::from_ref(&new.file))?;
    Ok(new)
}

fn entry_text(owner: &str, name: &str, given: &[Given]) -> Result<String, Refused> {
    let header = format!("[variables.{}.{}]\n", key_text(owner), key_text(name));
    let ty = given.iter().find(|given| given.key == "type").and_then(|given| given.values.first());
    let mut text = header;
    for given in given {
        let value = value_text(given, ty.map_or("", String::as_str))?;
        text.push_str(&format!("{} = {value}\n", given.key));
    }
    Ok(text)
}

fn key_text(name: &str) -> String {
    if name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_') { name.to_owned() } else { quoted(name) }
}

pub(crate) fn quoted(text: &str) -> String {
    toml_edit::Value::from(text).to_string().trim().to_owned()
}

fn value_text(given: &Given, ty: &str) -> Result<String, Refused> {
    let first = given.values.first().map_or("", String::as_str);
    Ok(match given.form {
        Form::Text => quoted(first),
        Form::Plain => plain(given.key, first)?,
        Form::TextList => {
            let items: Vec<String> = given.values.iter().map(|value| quoted(value)).collect();
            format!("[{}]", items.join(", "))
        }
        Form::ByType if matches!(ty, "text" | "enum" | "ref") => quoted(first),
        Form::ByType => plain(given.key, first)?,
        Form::Bound if first.contains('.') && first.parse::<f64>().is_err() => quoted(first),
        Form::Bound => plain(given.key, first)?,
    })
}

/// A value that stands in TOML as the user wrote it: it must be one TOML value, and nothing else.
fn plain(key: &str, text: &str) -> Result<String, Refused> {
    match text.trim().parse::<toml_edit::Value>() {
        Ok(_) => Ok(text.trim().to_owned()),
        Err(_) => Err(Refused(format!("`{text}` can't be the value of `{key}`"))),
    }
}

/// Puts an entry behind the last one of its owner, or behind the owner itself.
fn place(project: &Project, owner: OwnerId, entry: &str) -> NewEntry {
    let facts = project.registry.owner(owner);
    let last = facts.variables.last().map_or(facts.at, |&id| project.registry.var(id).place.header);
    let file = project.sources.file(last.file);
    let mut line = file.line_index(last.span.start) + 1;
    while line < file.line_count() && !file.slice(file.line_span(line)).trim_start().starts_with('[') {
        line += 1;
    }
    // What stands right above the next header, comments and blank lines, belongs to it.
    let above = |line: usize| {
        let text = file.slice(file.line_span(line)).trim();
        text.is_empty() || text.starts_with('#')
    };
    while line > 0 && above(line - 1) {
        line -= 1;
    }
    let at = if line < file.line_count() { file.line_span(line).start as usize } else { file.text.len() };
    let ending = if file.text.contains("\r\n") { "\r\n" } else { "\n" };
    let (before, after) = file.text.split_at(at);
    let mut text = before.to_owned();
    if !text.is_empty() && !text.ends_with('\n') {
        text.push_str(ending);
    }
    text.push_str(ending);
    text.push_str(&entry.replace('\n', ending));
    let first_line = before.lines().count() + 2;
    if !after.is_empty() && !after.starts_with(['\n', '\r']) {
        text.push_str(ending);
    }
    text.push_str(after);
    let before = Some(file.text.to_string());
    NewEntry { file: NewFile { path: file.path.to_string(), before, after: text }, line: first_line }
}

/// The identities that are nearest to a name that does not exist; a short name that only one variable has is enough.
///
/// # Errors
/// Nothing, or more than one thing, has the name.
pub fn find_variable(project: &Project, name: &str) -> Result<crate::registry::VarId, Refused> {
    let registry = &project.registry;
    if let Some(id) = registry.find(name) {
        return Ok(id);
    }
    match registry.by_short_name.get(name).map(Vec::as_slice) {
        Some([one]) => return Ok(*one),
        Some(several) if !several.is_empty() => {
            let names: Vec<String> = several.iter().map(|&id| registry.identity(id)).collect();
            return Err(Refused(format!("`{name}` can be {}", crate::words::either(&names))));
        }
        _ => {}
    }
    let names: Vec<String> = registry.var_ids().map(|id| registry.identity(id)).collect();
    let short = registry.var_ids().map(|id| &*registry.var(id).name);
    let near = did_you_mean(name, names.iter().map(String::as_str).chain(short));
    let near = near.unwrap_or_else(|| "`oaken list` shows them all".to_owned());
    Err(Refused(format!("there is no variable `{name}`; {near}")))
}

/// The type of a variable in the registry's own word.
#[must_use]
pub fn type_key(ty: Type) -> &'static str {
    match ty {
        Type::Unknown => "unknown",
        Type::Bool => "bool",
        Type::Int => "int",
        Type::Number => "number",
        Type::Text => "text",
        Type::Enum(_) => "enum",
        Type::Ref(_) => "ref",
        Type::Vec2 => "vec2",
        Type::Vec3 => "vec3",
    }
}

/// The scope that a variable of an identity's owner usually has.
#[must_use]
pub fn usual_scope(project: &Project, identity: &str) -> &'static str {
    let owner = identity.split('.').next().and_then(|owner| project.registry.find_owner(owner));
    match owner.map(|owner| project.registry.owner(owner).kind) {
        Some(crate::registry::OwnerKind::Scene) => "scene",
        Some(crate::registry::OwnerKind::Actor { .. }) => "instance",
        _ => "global",
    }
}
