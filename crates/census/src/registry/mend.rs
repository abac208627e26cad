//! Slips of spelling in the registry, told once and then read as what was meant: what hangs on an entry is no second mistake.
//!
//! A key, a word or an owner's name that means nothing is taken for the nearest one that does, where one is near.

use super::read::{Problems, RegistryFile, no_key, wrong_word};
use super::toml::{Entry, Table, Value as Toml};
use crate::source::{FileId, Location, Span};
use crate::words::{did_you_mean, either, nearest};

/// The sections of a registry.
pub(super) const SECTIONS: [&str; 5] = ["owners", "variables", "instances", "signals", "invariants"];

const VARIABLE: [&str; 20] = [
    "type",
    "scope",
    "default",
    "min",
    "max",
    "overflow",
    "values",
    "of",
    "unit",
    "engine",
    "constant",
    "lifetime",
    "writers",
    "placeholder",
    "slot",
    "steward",
    "about",
    "tags",
    "formerly",
    "retired",
];

/// What an entry of a section is called, and the keys that it can have.
fn keys_of(section: &str) -> (&'static str, &'static [&'static str]) {
    match section {
        "owners" => ("an owner", &["kind", "count", "about", "steward"]),
        "instances" => ("an instance", &["of", "scene", "start"]),
        "signals" => ("a signal", &["from", "to", "bursts", "parameters"]),
        "invariants" => ("an invariant", &["holds", "about"]),
        "parameters" => ("a parameter", &["type", "min", "max"]),
        "retired" => ("`retired`", &["since", "use"]),
        "oaken.toml" => ("oaken.toml", &["project", "order", "sharing", "names", "rules"]),
        "project" => {
            ("[project]", &["name", "registry", "scripts", "rehearsals", "first_scene", "lifetime", "tick_rate"])
        }
        "order" => ("[order]", &["first"]),
        "sharing" => ("[sharing]", &["writers"]),
        "names" => ("[names]", &["variable", "prefixes"]),
        _ => ("a variable", &VARIABLE),
    }
}

/// The words that a key of a section can have, where there are a few.
fn words_of(section: &str, key: &str) -> &'static [&'static str] {
    match key {
        _ if section == "parameters" => &[], // Its type may be an actor's.
        "writers" if section == "sharing" => &["owner", "anyone"],
        "variable" => &["snake", "camel", "pascal", "any"],
        "type" => &["bool", "int", "number", "text", "enum", "ref", "vec2", "vec3"],
        "scope" => &["global", "scene", "type", "instance"],
        "overflow" => &["error", "clamp", "wrap"],
        "engine" => &["reads", "writes", "both"],
        "lifetime" => &["run", "session", "saved"],
        "kind" => &["system", "scene", "actor"],
        "count" => &["one", "many"],
        "from" => &["engine", "script"],
        "to" => &["instance", "all"],
        _ => &[],
    }
}

/// Mends what is misspelled in `oaken.toml`, and tells of each slip.
pub(super) fn mend_config(table: &mut Table, file: FileId, problems: &mut Problems) {
    mend_entry("oaken.toml", table, file, problems);
}

/// Mends what is misspelled in the files of a registry, and tells of each slip.
pub(super) fn mend(files: &mut [RegistryFile], problems: &mut Problems) {
    for file in files.iter_mut() {
        mend_sections(file, problems);
    }
    let names = |kind: Option<&str>| -> Vec<String> {
        let sections = files.iter().flat_map(|file| file.table.entries.iter().filter(|entry| entry.key == "owners"));
        let owners = sections.filter_map(|section| section.table()).flat_map(|table| &table.entries);
        let meant = owners.filter(|owner| kind.is_none_or(|kind| word_at(owner, "kind") == Some(kind)));
        meant.map(|owner| owner.key.clone()).collect()
    };
    let (owners, actors, scenes) = (names(None), names(Some("actor")), names(Some("scene")));
    for file in files {
        let at = file.file;
        for section in &mut file.table.entries {
            let (of, Toml::Table(table)) = (section.key.clone(), &mut section.item.value) else { continue };
            if of == "variables" {
                mend_owners(table, at, &owners, problems);
            }
            mend_named(&of, table, at, &actors, "of", "there is no actor", problems);
            mend_named(&of, table, at, &scenes, "scene", "there is no scene", problems);
        }
    }
}

fn word_at<'a>(entry: &'a Entry, key: &str) -> Option<&'a str> {
    match &entry.table()?.get(key)?.item.value {
        Toml::Text(word) => Some(word),
        _ => None,
    }
}

fn mend_sections(file: &mut RegistryFile, problems: &mut Problems) {
    for at in 0..file.table.entries.len() {
        let entry = &file.table.entries[at];
        if !SECTIONS.contains(&entry.key.as_str()) && entry.table().is_some() {
            let Some(&meant) = nearest(&entry.key, SECTIONS).first() else { continue };
            let message = format!("a registry has no `{}`: it has {}", entry.key, either(&SECTIONS));
            problems.entry_with(place(file.file, entry.key_span), &message, did_you_mean(&entry.key, SECTIONS));
            file.table.rename(at, meant);
        }
        let entry = &mut file.table.entries[at];
        let section = entry.key.clone();
        let Toml::Table(table) = &mut entry.item.value else { continue };
        for inner in &mut table.entries {
            let Toml::Table(inner) = &mut inner.item.value else { continue };
            if section != "variables" {
                mend_entry(&section, inner, file.file, problems);
                continue;
            }
            for variable in &mut inner.entries {
                if let Toml::Table(variable) = &mut variable.item.value {
                    mend_entry(&section, variable, file.file, problems);
                }
            }
        }
    }
}

/// Mends the keys of one entry, and those of its values that are one of a few words.
fn mend_entry(section: &str, table: &mut Table, file: FileId, problems: &mut Problems) {
    let (what, known) = keys_of(section);
    for at in 0..table.entries.len() {
        let entry = &table.entries[at];
        if !known.contains(&entry.key.as_str()) {
            let missing = known.iter().copied().filter(|key| table.get(key).is_none());
            let Some(&meant) = nearest(&entry.key, missing).first() else { continue };
            let help = did_you_mean(&entry.key, known.iter().copied());
            problems.entry_with(place(file, entry.key_span), &no_key(what, &entry.key), help);
            table.rename(at, meant);
        }
        mend_value(section, &mut table.entries[at], file, problems);
    }
}

/// Mends a value that is one of a few words, or has keys of its own.
fn mend_value(section: &str, entry: &mut Entry, file: FileId, problems: &mut Problems) {
    let words = words_of(section, &entry.key);
    match (&mut entry.item.value, entry.key.as_str()) {
        (Toml::Text(word), key) if !words.contains(&word.as_str()) => {
            let Some(&meant) = nearest(word, words.iter().copied()).first() else { return };
            let help = did_you_mean(word, words.iter().copied());
            problems.entry_with(place(file, entry.item.span), &wrong_word(key, word, words), help);
            meant.clone_into(word);
        }
        (Toml::Table(retired), "retired") => mend_entry("retired", retired, file, problems),
        (Toml::Table(inner), "project" | "order" | "sharing" | "names") if section == "oaken.toml" => {
            mend_entry(&entry.key, inner, file, problems);
        }
        (Toml::Table(parameters), "parameters") => {
            for parameter in &mut parameters.entries {
                if let Toml::Table(parameter) = &mut parameter.item.value {
                    mend_entry("parameters", parameter, file, problems);
                }
            }
        }
        _ => {}
    }
}

/// Mends the owners in `[variables.OWNER.NAME]`.
fn mend_owners(variables: &mut Table, file: FileId, owners: &[String], problems: &mut Problems) {
    for at in 0..variables.entries.len() {
        let entry = &variables.entries[at];
        let Some(meant) = meant_of(&entry.key, owners) else { continue };
        let Some(table) = entry.table() else { continue };
        // Each header has the name; where entries are written within one table, that one has it.
        let headers = table.entries.iter().map(|inner| (inner.item.span, inner.key_span));
        let mut spans: Vec<Span> = headers.filter(|(all, key)| all.contains(*key)).map(|(all, _)| all).collect();
        if spans.len() < table.entries.len() {
            spans.push(entry.key_span);
        }
        for span in spans {
            let help = did_you_mean(&entry.key, owners.iter().map(String::as_str));
            problems.entry_with(place(file, span), &format!("`{}` is no owner", entry.key), help);
        }
        variables.rename(at, &meant);
    }
}

/// Mends the owner that a key of instances or variables names.
fn mend_named(
    section: &str,
    table: &mut Table,
    file: FileId,
    names: &[String],
    key: &str,
    message: &str,
    problems: &mut Problems,
) {
    for entry in &mut table.entries {
        let Toml::Table(inner) = &mut entry.item.value else { continue };
        if section == "variables" {
            mend_named("", inner, file, names, key, message, problems);
            continue;
        }
        if !matches!(section, "" | "instances") {
            return;
        }
        for named in inner.entries.iter_mut().filter(|named| named.key == key) {
            let Toml::Text(name) = &mut named.item.value else { continue };
            if let Some(meant) = meant_of(name, names) {
                let help = did_you_mean(name, names.iter().map(String::as_str));
                problems.entry_with(place(file, named.item.span), &format!("{message} `{name}`"), help);
                *name = meant;
            }
        }
    }
}

/// The name that is meant by one that is not among them.
fn meant_of(name: &str, names: &[String]) -> Option<String> {
    if names.iter().any(|known| known == name) {
        return None;
    }
    nearest(name, names.iter().map(String::as_str)).first().map(|&meant| meant.to_owned())
}

fn place(file: FileId, span: Span) -> Location {
    Location { file, span }
}
