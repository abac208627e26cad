//! Turns registry files into entries. A mistake is one finding, and everything else is still read.
//!
//! Reading takes three steps, since entries may name each other in any order: [`collect`] learns which owners, signals,
//! instances and variables there are; [`fill`] reads their keys; [`checks`](check_bounds) look at what needs all of
//! them, such as bounds that lead in a circle.

use super::config::Config;
use super::toml::{Entry, Item, Table, Value as Toml};
use super::*;
use crate::finding::{Finding, reader_rules};
use crate::source::{FileId, Location, Span};
use crate::words::{did_you_mean, either, nearest};

/// The findings of reading.
#[derive(Debug, Default)]
pub struct Problems {
    /// All of them.
    pub findings: Vec<Finding>,
}

impl Problems {
    /// Something wrong in an entry.
    pub fn entry(&mut self, at: Location, message: &str) {
        self.findings.push(Finding::new(reader_rules::BAD_ENTRY, at, message));
    }

    /// Keeps a mistake, with its cure.
    pub fn entry_with(&mut self, at: Location, message: &str, help: Option<String>) {
        let mut finding = Finding::new(reader_rules::BAD_ENTRY, at, message);
        finding.help = help;
        self.findings.push(finding);
    }
}

/// Reads the keys of one table, remembering which it was asked for.
pub struct EntryReader<'a, 'p> {
    table: &'a Table,
    header: Location,
    keys: Vec<(&'static str, Span)>,
    /// Where mistakes go.
    pub problems: &'p mut Problems,
}

impl<'a, 'p> EntryReader<'a, 'p> {
    /// A reader of a table whose header stands at `header`.
    pub fn new(table: &'a Table, header: Location, problems: &'p mut Problems) -> Self {
        Self { table, header, keys: Vec::new(), problems }
    }

    /// Where a key and its value stand; without it, the header.
    #[must_use]
    pub fn place_of(&self, key: &str) -> Location {
        self.table.get(key).map_or(self.header, |entry| self.at(entry.key_span.to(entry.item.span)))
    }

    /// Whether the key is there, right or wrong.
    #[must_use]
    pub fn has(&self, key: &str) -> bool {
        self.table.get(key).is_some()
    }

    fn at(&self, span: Span) -> Location {
        Location { file: self.header.file, span }
    }

    /// The value of a key as it stands.
    pub fn item(&mut self, key: &'static str) -> Option<&'a Item> {
        self.take(key).map(|entry| &entry.item)
    }

    /// A whole number of at least `least`.
    pub fn whole(&mut self, key: &'static str, least: i64) -> Option<i64> {
        let item = self.item(key)?;
        match item.value {
            Toml::Int(value) if value >= least => Some(value),
            Toml::Int(_) => {
                self.problems.entry(self.at(item.span), &format!("`{key}` is {least} or more"));
                None
            }
            _ => self.wrong(key, "a whole number", item),
        }
    }

    fn take(&mut self, key: &'static str) -> Option<&'a Entry> {
        let entry = self.table.get(key);
        let span = entry.map_or(Span::default(), |entry| entry.key_span.to(entry.item.span));
        self.keys.push((key, span));
        entry
    }

    /// Says what was wanted, and gives nothing.
    fn wrong<T>(&mut self, key: &str, wanted: &str, item: &Item) -> Option<T> {
        let message = format!("`{key}` wants {wanted}, and this is {}", item.value.kind());
        self.problems.entry(self.at(item.span), &message);
        None
    }

    /// A text.
    pub fn text(&mut self, key: &'static str) -> Option<String> {
        let item = &self.take(key)?.item;
        match &item.value {
            Toml::Text(text) => Some(text.clone()),
            _ => self.wrong(key, "a text", item),
        }
    }

    /// True or false.
    pub fn bool(&mut self, key: &'static str) -> Option<bool> {
        let item = &self.take(key)?.item;
        match &item.value {
            Toml::Bool(value) => Some(*value),
            _ => self.wrong(key, "true or false", item),
        }
    }

    /// A number.
    #[allow(clippy::cast_precision_loss, reason = "a tick rate or a parameter's bound")]
    pub fn number(&mut self, key: &'static str) -> Option<(f64, Span)> {
        let item = &self.take(key)?.item;
        match &item.value {
            Toml::Int(value) => Some((*value as f64, item.span)),
            Toml::Float(value) if value.is_finite() => Some((*value, item.span)),
            Toml::Float(_) => self.wrong(key, "a number that is finite", item),
            _ => self.wrong(key, "a number", item),
        }
    }

    /// A list of texts, with their places.
    pub fn text_list(&mut self, key: &'static str) -> Option<Vec<(String, Span)>> {
        let item = &self.take(key)?.item;
        let Toml::Array(items) = &item.value else { return self.wrong(key, "a list of texts", item) };
        let mut list = Vec::with_capacity(items.len());
        for item in items {
            match &item.value {
                Toml::Text(text) => list.push((text.clone(), item.span)),
                _ => return self.wrong(key, "a list of texts", item),
            }
        }
        Some(list)
    }

    /// A table, and where it begins.
    pub fn table(&mut self, key: &'static str) -> Option<(&'a Table, Location)> {
        let item = &self.take(key)?.item;
        match &item.value {
            Toml::Table(table) => Some((table, self.at(item.span))),
            _ => self.wrong(key, "a table", item),
        }
    }

    /// One of a few words.
    pub fn choice<T: Copy>(&mut self, key: &'static str, choices: &[(&str, T)]) -> Option<T> {
        let item = &self.take(key)?.item;
        let Toml::Text(word) = &item.value else { return self.wrong(key, "a text", item) };
        if let Some((_, value)) = choices.iter().find(|(name, _)| name == word) {
            return Some(*value);
        }
        let words: Vec<&str> = choices.iter().map(|(name, _)| *name).collect();
        let message = wrong_word(key, word, &words);
        let at = self.at(item.span);
        self.problems.entry_with(at, &message, did_you_mean(word, words));
        None
    }

    /// Reports keys that nobody asked for and keys given twice, and says where the known ones stand.
    pub fn finish(mut self, what: &str) -> EntryPlace {
        let mut seen: rustc_hash::FxHashSet<&str> = rustc_hash::FxHashSet::default();
        for entry in &self.table.entries {
            let known = self.keys.iter().any(|(key, _)| *key == entry.key);
            if !known {
                let message = no_key(what, &entry.key);
                let help = did_you_mean(&entry.key, self.keys.iter().map(|(key, _)| *key));
                let at = self.at(entry.key_span);
                self.problems.entry_with(at, &message, help);
            } else if !seen.insert(&entry.key) {
                let at = self.at(entry.key_span);
                self.problems.entry(at, &format!("`{}` is given twice in this entry", entry.key));
            }
        }
        self.keys.retain(|(_, span)| *span != Span::default());
        EntryPlace { header: self.header, keys: self.keys }
    }
}

/// One registry file, parsed.
pub struct RegistryFile {
    /// The file.
    pub file: FileId,
    /// What stands in it.
    pub table: Table,
}

/// Words that mean something in the language and can't be names, in order.
const KEYWORDS: [&str; 54] = [
    "after", "and", "as", "ask", "break", "changed", "choice", "clear", "else", "enter", "every", "false", "for", "go",
    "hide", "if", "implies", "in", "is", "leave", "let", "match", "max", "min", "none", "not", "note", "on", "or",
    "private", "proc", "remove", "removed", "repeat", "restart", "return", "scene", "script", "seconds", "self",
    "send", "set", "show", "spawn", "start", "tick", "to", "true", "until", "wait", "was", "when", "where", "while",
];

/// Whether a word means something in the language and can't be a name.
pub(crate) fn is_keyword(word: &str) -> bool {
    KEYWORDS.binary_search(&word).is_ok()
}

/// What is said of a word that a key can't have.
pub(super) fn wrong_word(key: &str, word: &str, words: &[&str]) -> String {
    format!("`{key}` can't be \"{word}\": it is {}", either(words))
}

/// What is said of a key that means nothing.
pub(super) fn no_key(what: &str, key: &str) -> String {
    format!("{what} has no key `{key}`")
}

/// An entry that was found, before its keys are read.
struct Found<'a, Id> {
    id: Id,
    table: &'a Table,
    header: Location,
}

#[derive(Default)]
struct Collected<'a> {
    owners: Vec<Found<'a, OwnerId>>,
    signals: Vec<Found<'a, SignalId>>,
    instances: Vec<Found<'a, InstanceId>>,
    variables: Vec<Found<'a, VarId>>,
    invariants: Vec<Found<'a, InvariantId>>,
}

/// Reads all files, which stand in path order.
#[must_use]
pub fn read(mut files: Vec<RegistryFile>, config: &Config, problems: &mut Problems) -> Registry {
    let mut registry = Registry::default();
    super::mend::mend(&mut files, problems);
    let collected = collect(&files, &mut registry, problems);
    fill(&collected, config, &mut registry, problems);
    check_bounds(&mut registry, problems);
    check_slots(&registry, problems);
    registry
}

// ---- collecting names ----

fn collect<'a>(files: &'a [RegistryFile], registry: &mut Registry, problems: &mut Problems) -> Collected<'a> {
    let mut collected = Collected::default();
    // Names in the order of the files, so that the later of two is the one reported; variables need all owners.
    let mut entries: Vec<(&str, &Entry, FileId)> = Vec::new();
    for file in files {
        let mut own = section_entries(file, problems);
        own.sort_by_key(|(_, entry, _)| entry.key_span.start);
        entries.extend(own);
    }
    let (variables, named): (Vec<_>, Vec<_>) = entries.into_iter().partition(|(section, ..)| *section == "variables");
    for &(section, entry, file) in &named {
        collect_entry(section, entry, file, registry, &mut collected, problems);
    }
    guess_kinds(&collected, &variables, registry);
    for (section, entry, file) in variables {
        collect_entry(section, entry, file, registry, &mut collected, problems);
    }
    for found in &collected.instances {
        if let Some(Toml::Text(of)) = found.table.get("of").map(|entry| &entry.item.value)
            && let Some(owner) = registry.find_owner(of)
        {
            registry.instances[found.id.index()].of = owner;
        }
    }
    house_strays(registry);
    for file in files {
        check_sections(file, problems);
    }
    add_only_instances(registry);
    collected
}

/// The entries of a file, each with the section that it stands in.
fn section_entries<'a>(file: &'a RegistryFile, problems: &mut Problems) -> Vec<(&'static str, &'a Entry, FileId)> {
    let mut found = Vec::new();
    for section in ["owners", "instances", "signals", "invariants", "variables"] {
        for entry in file.table.entries.iter().filter(|entry| entry.key == section) {
            match &entry.item.value {
                Toml::Table(table) => found.extend(table.entries.iter().map(|entry| (section, entry, file.file))),
                _ => {
                    let at = Location { file: file.file, span: entry.item.span };
                    problems.entry(at, &format!("`{section}` is a table of entries"));
                }
            }
        }
    }
    found
}

fn check_sections(file: &RegistryFile, problems: &mut Problems) {
    let known = super::mend::SECTIONS;
    for entry in file.table.entries.iter().filter(|entry| !known.contains(&entry.key.as_str())) {
        let at = Location { file: file.file, span: entry.key_span };
        let message = format!("a registry has no `{}`: it has {}", entry.key, either(&known));
        problems.entry_with(at, &message, did_you_mean(&entry.key, known));
    }
}

fn collect_entry<'a>(
    section: &str,
    entry: &'a Entry,
    file: FileId,
    registry: &mut Registry,
    collected: &mut Collected<'a>,
    problems: &mut Problems,
) {
    let header = Location { file, span: entry.item.span };
    let Toml::Table(table) = &entry.item.value else {
        let at = Location { file, span: entry.key_span.to(entry.item.span) };
        problems.entry(at, &format!("`{}` is an entry and wants a table", entry.key));
        return;
    };
    if section == "variables" {
        collect_variables(entry, table, file, registry, collected, problems);
        return;
    }
    if section != "invariants" && !check_name(&entry.key, header, problems) {
        return;
    }
    let name: Arc<str> = entry.key.as_str().into();
    let place = EntryPlace { header, keys: Vec::new() };
    if section == "invariants" {
        if let Some(first) = registry.invariants.iter().find(|other| other.name == name) {
            let message = format!("the invariant `{name}` is defined twice");
            problems.findings.push(
                Finding::new(reader_rules::DUPLICATE, header, message).with(first.place.header, "first defined here"),
            );
            return;
        }
        let id = InvariantId::at(registry.invariants.len());
        registry.invariants.push(Invariant { name, holds: String::new(), about: None, place });
        collected.invariants.push(Found { id, table, header });
        return;
    }
    if let Some(&other) = registry.names.get(&name) {
        duplicate_name(&name, section, header, other, registry, problems);
        return;
    }
    let named = match section {
        "owners" => {
            let id = OwnerId::at(registry.owners.len());
            let owner = Owner {
                name: name.clone(),
                kind: OwnerKind::System,
                about: None,
                steward: None,
                at: header,
                variables: Vec::new(),
            };
            registry.owners.push(owner);
            collected.owners.push(Found { id, table, header });
            Named::Owner(id)
        }
        "instances" => {
            let id = InstanceId::at(registry.instances.len());
            let of = OwnerId(u32::MAX);
            registry.instances.push(Instance {
                name: name.clone(),
                of,
                scene: None,
                start: Vec::new(),
                place: Some(place),
            });
            collected.instances.push(Found { id, table, header });
            Named::Instance(id)
        }
        _ => {
            let id = SignalId::at(registry.signals.len());
            let signal = Signal {
                name: name.clone(),
                from_engine: true,
                to_all: false,
                bursts: false,
                parameters: Vec::new(),
                place,
            };
            registry.signals.push(signal);
            collected.signals.push(Found { id, table, header });
            Named::Signal(id)
        }
    };
    registry.names.insert(name, named);
}

/// The text that a key holds; nothing where it holds none.
fn word_of<'a>(table: &'a Table, key: &str) -> &'a str {
    match table.get(key).map(|entry| &entry.item.value) {
        Some(Toml::Text(text)) => text,
        _ => "",
    }
}

/// What an owner is whose `kind` can't be read, or how many there are where `count` can't, tell its variables and instances:
/// what they say is no further mistake.
fn guess_kinds(collected: &Collected<'_>, variables: &[(&str, &Entry, FileId)], registry: &mut Registry) {
    for found in &collected.owners {
        let name = registry.owner(found.id).name.clone();
        let placed = |key| collected.instances.iter().filter(|other| word_of(other.table, key) == &*name).count();
        let counted = matches!(word_of(found.table, "count"), "one" | "many") || found.table.get("count").is_none();
        let many = if counted { word_of(found.table, "count") == "many" } else { placed("of") > 1 };
        let has_scope = |words: &[&str]| {
            let own = variables.iter().filter(|(_, entry, _)| entry.key == *name);
            let tables = own.filter_map(|(_, entry, _)| entry.table()).flat_map(|table| &table.entries);
            tables.filter_map(Entry::table).any(|variable| words.contains(&word_of(variable, "scope")))
        };
        registry.owners[found.id.index()].kind = match word_of(found.table, "kind") {
            "system" => OwnerKind::System,
            "scene" => OwnerKind::Scene,
            "actor" => OwnerKind::Actor { many },
            _ if placed("of") > 0 || has_scope(&["instance", "type"]) => {
                OwnerKind::Actor { many: many || placed("of") > 1 }
            }
            _ if placed("scene") > 0 || has_scope(&["scene"]) => OwnerKind::Scene,
            _ => OwnerKind::System,
        };
    }
}

fn duplicate_name(name: &str, section: &str, at: Location, other: Named, registry: &Registry, problems: &mut Problems) {
    let (what, first) = match other {
        Named::Owner(id) => ("an owner", registry.owner(id).at),
        Named::Instance(id) => ("an instance", registry.instance(id).place.as_ref().map_or(at, |place| place.header)),
        Named::Signal(id) => ("a signal", registry.signal(id).place.header),
    };
    let message = format!("`{name}` is already the name of {what}");
    let singular = section.trim_end_matches('s');
    problems.findings.push(
        Finding::new(reader_rules::DUPLICATE, at, message)
            .help(format!(
                "owners, instances and signals share one space of names: give this {singular} a name of its own"
            ))
            .with(first, "first defined here"),
    );
}

fn check_name(name: &str, at: Location, problems: &mut Problems) -> bool {
    if !crate::script::lexer::is_name(name) {
        let message = format!("`{name}` is no name: a name is a letter or `_`, then letters, digits and `_`");
        problems.entry(at, &message);
        return false;
    }
    if is_keyword(name) {
        problems.entry(at, &format!("`{name}` is a word of the language and can't be a name in the registry"));
        return false;
    }
    true
}

fn collect_variables<'a>(
    owner_entry: &'a Entry,
    owner_table: &'a Table,
    file: FileId,
    registry: &mut Registry,
    collected: &mut Collected<'a>,
    problems: &mut Problems,
) {
    let owner = registry.find_owner(&owner_entry.key);
    for entry in &owner_table.entries {
        let header = Location { file, span: entry.item.span };
        let Toml::Table(table) = &entry.item.value else {
            let at = Location { file, span: entry.key_span };
            problems.entry(at, "a variable's entry is headed `[variables.OWNER.NAME]`");
            continue;
        };
        let Some(owner) = owner else {
            let message = format!("`{}` is no owner", owner_entry.key);
            let help = did_you_mean(&owner_entry.key, registry.owners.iter().map(|owner| &*owner.name))
                .unwrap_or_else(|| format!("declare it: `[owners.{}]`", owner_entry.key));
            problems.entry_with(header, &message, Some(help));
            registry.unread.insert(entry.key.clone());
            continue;
        };
        if !check_name(&entry.key, header, problems) {
            continue;
        }
        let name: Arc<str> = entry.key.as_str().into();
        if let Some(&first) = registry.by_identity.get(&(owner, name.clone())) {
            let message = format!("`{}` is defined twice", registry.identity(first));
            let first = registry.var(first).place.header;
            problems.findings.push(
                Finding::new(reader_rules::DUPLICATE, header, message)
                    .about(format!("{}.{name}", owner_entry.key))
                    .help("keep one of the two, or rename this one")
                    .with(first, "first defined here"),
            );
            continue;
        }
        let id = VarId::at(registry.variables.len());
        registry.variables.push(blank_variable(name.clone(), owner, registry.owner(owner).kind, header));
        registry.by_identity.insert((owner, name.clone()), id);
        registry.by_short_name.entry(name).or_default().push(id);
        registry.owners[owner.index()].variables.push(id);
        collected.variables.push(Found { id, table, header });
    }
}

fn blank_variable(name: Arc<str>, owner: OwnerId, kind: OwnerKind, header: Location) -> Variable {
    Variable {
        name,
        owner,
        ty: Type::Unknown,
        scope: match kind {
            OwnerKind::System => Scope::Global,
            OwnerKind::Scene => Scope::Scene,
            OwnerKind::Actor { .. } => Scope::Instance,
        },
        default: None,
        min: None,
        max: None,
        overflow: Overflow::Error,
        values: Vec::new(),
        unit: None,
        engine_reads: false,
        engine_writes: false,
        constant: false,
        lifetime: Lifetime::Run,
        lifetime_stated: false,
        writers: None,
        placeholder: false,
        slot: None,
        steward: None,
        about: None,
        tags: Vec::new(),
        formerly: Vec::new(),
        retired: None,
        place: EntryPlace { header, keys: Vec::new() },
    }
}

/// Instances of what is no actor keep their names, so that their uses are no further mistakes: they belong to an actor
/// without a name, of which nothing is known.
fn house_strays(registry: &mut Registry) {
    let known = |of: OwnerId, registry: &Registry| of.index() < registry.owners.len() && registry.is_actor(of);
    let strays: Vec<usize> =
        (0..registry.instances.len()).filter(|&at| !known(registry.instances[at].of, registry)).collect();
    let Some(&first) = strays.first() else { return };
    let at = registry.instances[first].place.as_ref().map(|place| place.header);
    let Some(at) = at else { return };
    let nobody = OwnerId::at(registry.owners.len());
    let kind = OwnerKind::Actor { many: true };
    let name: Arc<str> = Arc::from("");
    registry.owners.push(Owner { name, kind, about: None, steward: None, at, variables: Vec::new() });
    for stray in strays {
        registry.instances[stray].of = nobody;
    }
}

/// An actor of which there is one, and that no entry lists, has one instance named like itself.
fn add_only_instances(registry: &mut Registry) {
    registry.index_instances();
    for at in 0..registry.owners.len() {
        let id = OwnerId::at(at);
        let one = registry.owners[at].kind == OwnerKind::Actor { many: false };
        if one && registry.instances_of(id).next().is_none() {
            let name = registry.owners[at].name.clone();
            registry.instances.push(Instance { name, of: id, scene: None, start: Vec::new(), place: None });
        }
    }
    registry.index_instances();
}

// ---- filling in entries ----

fn fill(collected: &Collected<'_>, config: &Config, registry: &mut Registry, problems: &mut Problems) {
    for found in &collected.owners {
        fill_owner(found, registry, problems);
    }
    for found in &collected.variables {
        fill_type(found, registry);
    }
    for found in &collected.variables {
        fill_variable(found, config, registry, problems);
    }
    for found in &collected.instances {
        fill_instance(found, registry, problems);
    }
    for found in &collected.signals {
        fill_signal(found, registry, problems);
    }
    for found in &collected.invariants {
        let mut reader = EntryReader::new(found.table, found.header, problems);
        let holds = reader.text("holds");
        let about = reader.text("about");
        if holds.is_none() && !reader.has("holds") {
            reader.problems.entry(found.header, "an invariant says what `holds`");
        }
        let invariant = &mut registry.invariants[found.id.index()];
        invariant.holds = holds.unwrap_or_default();
        invariant.about = about;
        invariant.place = reader.finish("an invariant");
    }
    check_scenes(config, registry, problems);
}

fn check_scenes(config: &Config, registry: &Registry, problems: &mut Problems) {
    let scenes = || registry.owners.iter().filter(|owner| owner.kind == OwnerKind::Scene).map(|owner| &*owner.name);
    match &config.first_scene {
        Some(first) if !scenes().any(|scene| scene == first) => {
            let message = format!("`first_scene` is \"{first}\", and no scene has that name");
            problems.entry_with(config.place.key("first_scene"), &message, did_you_mean(first, scenes()));
        }
        None if scenes().next().is_some() && !config.place.has("first_scene") => {
            let scene = scenes().next().unwrap_or("");
            let help = format!("write `first_scene = \"{scene}\"` under `[project]`");
            let message = "the project has scenes, and no `first_scene` says where a run begins";
            problems.entry_with(config.place.header, message, Some(help));
        }
        _ => {}
    }
}

fn fill_owner(found: &Found<'_, OwnerId>, registry: &mut Registry, problems: &mut Problems) {
    let mut reader = EntryReader::new(found.table, found.header, problems);
    let kinds =
        [("system", OwnerKind::System), ("scene", OwnerKind::Scene), ("actor", OwnerKind::Actor { many: false })];
    let kind = reader.choice("kind", &kinds);
    if kind.is_none() && !reader.has("kind") {
        reader.problems.entry(found.header, "an owner has a `kind`: \"system\", \"scene\" or \"actor\"");
    }
    let count = reader.choice("count", &[("one", false), ("many", true)]);
    let about = reader.text("about");
    let steward = reader.text("steward");
    let place = reader.finish("an owner");
    if count.is_some() && kind.is_some_and(|kind| !matches!(kind, OwnerKind::Actor { .. })) {
        problems.entry(place.key("count"), "`count` is for actors only");
    }
    if kind.is_none() {
        registry.unread.insert(registry.owner(found.id).name.to_string());
    }
    let owner = &mut registry.owners[found.id.index()];
    owner.about = about;
    owner.steward = steward;
}

/// The type comes first, since bounds, defaults and starting values of others may lean on it.
fn fill_type(found: &Found<'_, VarId>, registry: &mut Registry) {
    let text = |key| match found.table.get(key).map(|entry| &entry.item.value) {
        Some(Toml::Text(text)) => Some(text.as_str()),
        _ => None,
    };
    let of = text("of").map(|name| registry.find_owner(name).filter(|&owner| registry.is_actor(owner)));
    let values = match found.table.get("values").map(|entry| &entry.item.value) {
        Some(Toml::Array(items)) => items
            .iter()
            .filter_map(|item| if let Toml::Text(text) = &item.value { Some(text.as_str().into()) } else { None })
            .collect(),
        _ => Vec::new(),
    };
    let constant = matches!(found.table.get("constant").map(|e| &e.item.value), Some(Toml::Bool(true)));
    let scope = match text("scope") {
        Some("type") => Some(Scope::Type),
        Some("instance") => Some(Scope::Instance),
        _ => None,
    };
    let variable = &mut registry.variables[found.id.index()];
    variable.ty = match text("type") {
        Some("bool") => Type::Bool,
        Some("int") => Type::Int,
        Some("number") => Type::Number,
        Some("text") => Type::Text,
        Some("enum") => Type::Enum(found.id),
        // What is the `ref` of nothing known tells nothing of what it holds.
        Some("ref") if of == Some(None) => Type::Unknown,
        Some("ref") => Type::Ref(of.flatten()),
        Some("vec2") => Type::Vec2,
        Some("vec3") => Type::Vec3,
        _ => Type::Unknown,
    };
    variable.values = values;
    variable.constant = constant;
    // The scope that the owner's kind allows stands already; a type's variable is told apart from an instance's here.
    if let (Some(scope), Scope::Instance) = (scope, variable.scope) {
        variable.scope = scope;
    }
}

fn fill_variable(found: &Found<'_, VarId>, config: &Config, registry: &mut Registry, problems: &mut Problems) {
    let ty = registry.var(found.id).ty;
    let mut reader = EntryReader::new(found.table, found.header, problems);
    check_type(&mut reader);
    let before = reader.problems.findings.len();
    check_scope(&mut reader, registry, found.id);
    let in_scope = reader.problems.findings.len() - before;
    let default = reader.take("default").map(|entry| &entry.item);
    let default = default.and_then(|item| {
        let read = constant(&mut reader, "default", item, ty, registry);
        if read.is_none() && ty != Type::Unknown {
            registry.guessed.insert(found.id);
        }
        read.or_else(|| meant_default(item, ty, &registry.var(found.id).values))
    });
    let known = reader.problems.findings.len() - in_scope;
    let min = read_bound(&mut reader, "min", ty, registry);
    let max = read_bound(&mut reader, "max", ty, registry);
    let overflows = [("error", Overflow::Error), ("clamp", Overflow::Clamp), ("wrap", Overflow::Wrap)];
    let overflow = reader.choice("overflow", &overflows).unwrap_or(Overflow::Error);
    check_values(&mut reader, ty);
    check_of(&mut reader, ty, registry);
    let unit = reader.text("unit");
    let engines = [("reads", (true, false)), ("writes", (false, true)), ("both", (true, true))];
    let engine = reader.choice("engine", &engines).unwrap_or((false, false));
    let is_constant = reader.bool("constant").unwrap_or(false);
    let lifetimes = [Lifetime::Run, Lifetime::Session, Lifetime::Saved].map(|lifetime| (lifetime.word(), lifetime));
    let lifetime = reader.choice("lifetime", &lifetimes);
    let writers = read_writers(&mut reader, config, registry);
    if reader.problems.findings.len() > known || ty == Type::Unknown {
        // What it holds, and who may write it, can't be told in full: what follows from that is no further mistake.
        let name = registry.var(found.id).name.to_string();
        registry.unread.insert(name);
        registry.mistaken.insert(found.id);
    }
    let placeholder = reader.bool("placeholder").unwrap_or(false);
    let slot = reader.whole("slot", 1);
    let steward = reader.text("steward");
    let about = reader.text("about");
    let tags = reader.text_list("tags").unwrap_or_default().into_iter().map(|(text, _)| text).collect();
    let formerly = read_formerly(&mut reader);
    let retired = read_retired(&mut reader, registry);
    let place = reader.finish("a variable");
    let scope = registry.var(found.id).scope;
    if scope == Scope::Scene && lifetime.is_some_and(|lifetime| lifetime != Lifetime::Run) {
        problems.entry(
            place.key("lifetime"),
            "a scene's variable is made anew each time the scene loads: its lifetime is always \"run\"",
        );
    }
    let variable = &mut registry.variables[found.id.index()];
    *variable = Variable {
        default,
        min,
        max,
        overflow,
        unit,
        engine_reads: engine.0,
        engine_writes: engine.1,
        constant: is_constant,
        lifetime: if scope == Scope::Scene { Lifetime::Run } else { lifetime.unwrap_or(config.lifetime) },
        lifetime_stated: lifetime.is_some() || scope == Scope::Scene,
        writers,
        placeholder,
        slot,
        steward,
        about,
        tags,
        formerly,
        retired,
        place,
        ..variable.clone()
    };
}

/// What a default that does not fit its type may have been meant to be: there was to be one, for certain.
#[allow(clippy::cast_possible_truncation, reason = "a number with a fraction where a whole one is wanted")]
fn meant_default(item: &Item, ty: Type, values: &[Arc<str>]) -> Option<Value> {
    let number = match &item.value {
        Toml::Float(value) => *value,
        Toml::Text(text) => text.parse().unwrap_or(0.0),
        _ => 0.0,
    };
    let number = if number.is_finite() { number } else { 0.0 };
    match ty {
        Type::Bool => Some(Value::Bool(false)),
        Type::Int => Some(Value::Int(number as i64)),
        Type::Number => Some(Value::Number(number)),
        Type::Text => Some(Value::Text("".into())),
        Type::Enum(_) => values.first().cloned().map(Value::Text),
        Type::Vec2 => Some(Value::Vector(vec![0.0; 2])),
        Type::Vec3 => Some(Value::Vector(vec![0.0; 3])),
        Type::Ref(_) | Type::Unknown => None,
    }
}

fn check_type(reader: &mut EntryReader<'_, '_>) {
    let types = ["bool", "int", "number", "text", "enum", "ref", "vec2", "vec3"].map(|word| (word, ()));
    if reader.choice("type", &types).is_none() && !reader.has("type") {
        reader.problems.entry(reader.header, "a variable has a `type`");
    }
}

fn check_scope(reader: &mut EntryReader<'_, '_>, registry: &Registry, id: VarId) {
    let scopes = [Scope::Global, Scope::Scene, Scope::Type, Scope::Instance].map(|scope| (scope.word(), scope));
    let owner = registry.owner(registry.var(id).owner);
    let Some(scope) = reader.choice("scope", &scopes) else {
        if !reader.has("scope") {
            reader.problems.entry(reader.header, "a variable has a `scope`");
        }
        return;
    };
    let (kind, fitting): (&str, &[Scope]) = match owner.kind {
        OwnerKind::System => ("a system", &[Scope::Global]),
        OwnerKind::Scene => ("a scene", &[Scope::Scene]),
        OwnerKind::Actor { .. } => ("an actor", &[Scope::Type, Scope::Instance]),
    };
    if !fitting.contains(&scope) && !registry.unread.contains(&*owner.name) {
        let words: Vec<&str> = fitting.iter().map(|scope| scope.word()).collect();
        let message = format!(
            "`{}` is {kind}, whose variables can't have the scope \"{}\": write {}",
            owner.name,
            scope.word(),
            either(&words)
        );
        let span = reader.table.get("scope").map_or(reader.header.span, |entry| entry.item.span);
        let at = reader.at(span);
        reader.problems.entry(at, &message);
    }
}

fn check_values(reader: &mut EntryReader<'_, '_>, ty: Type) {
    let Some(list) = reader.text_list("values") else {
        if matches!(ty, Type::Enum(_)) && !reader.has("values") {
            reader.problems.entry(reader.header, "an enum lists its `values`");
        }
        return;
    };
    let span = reader.table.get("values").map_or(Span::default(), |entry| entry.item.span);
    if !matches!(ty, Type::Enum(_)) {
        if ty != Type::Unknown {
            reader.problems.entry(reader.at(span), "`values` is for enums only");
        }
        return;
    }
    if list.len() < 2 {
        reader.problems.entry(reader.at(span), "an enum has at least two values");
    }
    for (at, (text, span)) in list.iter().enumerate() {
        if list[..at].iter().any(|(other, _)| other == text) {
            let message = format!("the value \"{text}\" stands twice in this list");
            reader.problems.entry(reader.at(*span), &message);
        }
    }
}

fn check_of(reader: &mut EntryReader<'_, '_>, ty: Type, registry: &Registry) {
    let Some(name) = reader.text("of") else { return };
    let at = reader.at(reader.table.get("of").map_or(Span::default(), |entry| entry.item.span));
    if !matches!(ty, Type::Ref(_) | Type::Unknown) {
        reader.problems.entry(at, "`of` is for a `ref` only");
    }
    check_actor(&name, at, registry, reader.problems);
}

fn check_actor(name: &str, at: Location, registry: &Registry, problems: &mut Problems) -> Option<OwnerId> {
    match registry.find_owner(name) {
        Some(owner) if registry.is_actor(owner) => return Some(owner),
        Some(_) if registry.unread.contains(name) => {} // What it is could not be read.
        Some(_) => problems.entry(at, &format!("`{name}` is no actor")),
        None => {
            let actors = registry.owners.iter().filter(|owner| matches!(owner.kind, OwnerKind::Actor { .. }));
            let help = did_you_mean(name, actors.map(|owner| &*owner.name));
            problems.entry_with(at, &format!("there is no actor `{name}`"), help);
        }
    }
    None
}

/// A constant of a type, as a default or a starting value.
#[allow(clippy::cast_precision_loss, reason = "an int where a number is wanted")]
pub(crate) fn constant(
    reader: &mut EntryReader<'_, '_>,
    key: &str,
    item: &Item,
    ty: Type,
    registry: &Registry,
) -> Option<Value> {
    let vector = |count: usize, items: &[Item]| -> Option<Value> {
        let parts: Option<Vec<f64>> = items
            .iter()
            .map(|item| match item.value {
                Toml::Int(value) => Some(value as f64),
                Toml::Float(value) if value.is_finite() => Some(value),
                _ => None,
            })
            .collect();
        parts.filter(|parts| parts.len() == count).map(Value::Vector)
    };
    let value = match (ty, &item.value) {
        (Type::Unknown, _) => return None,
        (Type::Bool, Toml::Bool(value)) => Some(Value::Bool(*value)),
        (Type::Int, Toml::Int(value)) => Some(Value::Int(*value)),
        (Type::Number, Toml::Int(value)) => Some(Value::Number(*value as f64)),
        (Type::Number, Toml::Float(value)) if value.is_finite() => Some(Value::Number(*value)),
        (Type::Text, Toml::Text(text)) => Some(Value::Text(text.as_str().into())),
        (Type::Enum(of), Toml::Text(text)) => return enum_value(reader, item, text, of, registry),
        (Type::Ref(of), Toml::Text(text)) => return ref_value(reader, item, text, of, registry),
        (Type::Vec2, Toml::Array(items)) => vector(2, items),
        (Type::Vec3, Toml::Array(items)) => vector(3, items),
        _ => None,
    };
    if value.is_none() {
        let wanted = match ty {
            Type::Bool => "true or false",
            Type::Int => "a whole number",
            Type::Number => "a number that is finite",
            Type::Text => "a text",
            Type::Enum(_) => "one of its values, as a text",
            Type::Ref(_) => "an instance's name, as a text",
            Type::Vec2 => "two numbers, `[x, y]`",
            _ => "three numbers, `[x, y, z]`",
        };
        return reader.wrong(key, wanted, item);
    }
    value
}

fn enum_value(
    reader: &mut EntryReader<'_, '_>,
    item: &Item,
    text: &str,
    of: VarId,
    registry: &Registry,
) -> Option<Value> {
    let values = &registry.var(of).values;
    if values.is_empty() || values.iter().any(|value| &**value == text) {
        return Some(Value::Text(text.into()));
    }
    let message = format!("`{}` has no value \"{text}\": it has {}", registry.identity(of), either(values));
    let help = did_you_mean(text, values.iter().map(|value| &**value));
    let at = reader.at(item.span);
    reader.problems.entry_with(at, &message, help);
    None
}

fn ref_value(
    reader: &mut EntryReader<'_, '_>,
    item: &Item,
    text: &str,
    of: Option<OwnerId>,
    registry: &Registry,
) -> Option<Value> {
    let at = reader.at(item.span);
    let named = registry.instances.iter().position(|instance| &*instance.name == text);
    let Some(found) = named else {
        let help = did_you_mean(text, registry.instances.iter().map(|instance| &*instance.name));
        reader.problems.entry_with(at, &format!("there is no instance `{text}`"), help);
        return None;
    };
    let actor = registry.instances[found].of;
    if let Some(of) = of
        && actor != of
        && actor.index() < registry.owners.len()
    {
        let message =
            format!("`{text}` is a `{}`, and this holds a `{}`", registry.owner(actor).name, registry.owner(of).name);
        reader.problems.entry(at, &message);
        return None;
    }
    Some(Value::Ref(InstanceId::at(found)))
}

#[allow(clippy::cast_precision_loss, reason = "the analysis reckons in floats and rounds outward")]
fn read_bound(reader: &mut EntryReader<'_, '_>, key: &'static str, ty: Type, registry: &Registry) -> Option<Bound> {
    let item = &reader.take(key)?.item;
    let at = reader.at(item.span);
    if !ty.is_numeric() {
        if ty != Type::Unknown {
            reader.problems.entry(at, &format!("`{key}` is for `int` and `number` only"));
        }
        return None;
    }
    match &item.value {
        Toml::Int(value) => Some(Bound::Number(*value as f64)),
        Toml::Float(value) if ty == Type::Number && value.is_finite() => Some(Bound::Number(*value)),
        Toml::Float(_) if ty == Type::Int => reader.wrong(key, "a whole number or a variable's identity", item),
        Toml::Text(identity) => match registry.find(identity) {
            Some(id) => Some(Bound::Variable(id)),
            None => {
                let names: Vec<String> = registry.var_ids().map(|id| registry.identity(id)).collect();
                let help = did_you_mean(identity, names.iter().map(String::as_str));
                reader.problems.entry_with(
                    at,
                    &format!("`{key}` names `{identity}`, and there is no such variable"),
                    help,
                );
                let meant = nearest(identity, names.iter().map(String::as_str)).first().copied();
                meant.and_then(|meant| registry.find(meant)).map(Bound::Variable)
            }
        },
        _ => reader.wrong(key, "a number or a variable's identity", item),
    }
}

fn read_writers(reader: &mut EntryReader<'_, '_>, config: &Config, registry: &Registry) -> Option<Vec<OwnerId>> {
    let Some(list) = reader.text_list("writers") else {
        return if config.anyone_writes || reader.has("writers") { None } else { Some(Vec::new()) };
    };
    if list.len() == 1 && list[0].0 == "*" {
        return None;
    }
    let mut owners = Vec::new();
    let mut unknown = false;
    for (name, span) in list {
        match registry.find_owner(&name) {
            Some(owner) => owners.push(owner),
            None => {
                unknown = true;
                let at = reader.at(span);
                let help = did_you_mean(&name, registry.owners.iter().map(|owner| &*owner.name));
                reader.problems.entry_with(at, &format!("there is no owner `{name}`"), help);
            }
        }
    }
    if unknown { None } else { Some(owners) } // Who else may write it can't be told.
}

fn read_formerly(reader: &mut EntryReader<'_, '_>) -> Vec<String> {
    let mut names = Vec::new();
    for (identity, span) in reader.text_list("formerly").unwrap_or_default() {
        let parts: Vec<&str> = identity.split('.').collect();
        if parts.len() == 2 && parts.iter().all(|part| crate::script::lexer::is_name(part)) {
            names.push(identity);
        } else {
            let message = format!("\"{identity}\" is no identity: write `owner.name`");
            reader.problems.entry(reader.at(span), &message);
        }
    }
    names
}

fn read_retired(reader: &mut EntryReader<'_, '_>, registry: &Registry) -> Option<Retired> {
    let (table, at) = reader.table("retired")?;
    let mut inner = EntryReader::new(table, at, reader.problems);
    let since = inner.text("since");
    let instead = inner.text("use");
    let place = inner.finish("`retired`");
    if since.is_none() && !place.has("since") {
        reader.problems.entry(at, "`retired` says `since` when");
    }
    if let Some(name) = &instead
        && registry.find(name).is_none()
    {
        let message = format!("`use` names `{name}`, and there is no such variable");
        reader.problems.entry(place.key("use"), &message);
    }
    Some(Retired { since, instead })
}

fn fill_instance(found: &Found<'_, InstanceId>, registry: &mut Registry, problems: &mut Problems) {
    let mut reader = EntryReader::new(found.table, found.header, problems);
    let of_entry = reader.take("of");
    let of = match of_entry.map(|entry| &entry.item) {
        None => {
            reader.problems.entry(found.header, "an instance says what it is `of`");
            None
        }
        Some(item) => match &item.value {
            Toml::Text(name) => check_actor(name, reader.at(item.span), registry, reader.problems),
            _ => reader.wrong("of", "an actor's name", item),
        },
    };
    let scene = reader.take("scene").and_then(|entry| match &entry.item.value {
        Toml::Text(name) => match registry.find_owner(name).filter(|&owner| registry.is_scene(owner)) {
            Some(scene) => Some(scene),
            None => {
                let scenes = registry.owners.iter().filter(|owner| owner.kind == OwnerKind::Scene);
                let help = did_you_mean(name, scenes.map(|owner| &*owner.name));
                let at = reader.at(entry.item.span);
                reader.problems.entry_with(at, &format!("there is no scene `{name}`"), help);
                None
            }
        },
        _ => reader.wrong("scene", "a scene's name", &entry.item),
    });
    let start_table = reader.table("start");
    let place = reader.finish("an instance");
    let mut starts = Vec::new();
    if let (Some((table, at)), Some(of)) = (start_table, of) {
        let known = problems.findings.len();
        read_starts(table, at, of, registry, problems, &mut starts);
        if problems.findings.len() > known {
            registry.mistaken_starts.insert(found.id);
        }
    }
    if let Some(of) = of
        && registry.owner(of).kind == (OwnerKind::Actor { many: false })
        && registry.instances_of(of).next() != Some(found.id)
    {
        let name = &registry.owner(of).name;
        let message = format!("there is one `{name}`, and another entry is it already");
        let help = format!("write `count = \"many\"` in `[owners.{name}]` if there can be more");
        problems.entry_with(place.header, &message, Some(help));
    }
    let instance = &mut registry.instances[found.id.index()];
    instance.scene = scene;
    instance.start = starts;
    instance.place = Some(place);
}

fn read_starts(
    table: &Table,
    header: Location,
    of: OwnerId,
    registry: &Registry,
    problems: &mut Problems,
    starts: &mut Vec<Start>,
) {
    let owner = registry.owner(of);
    for entry in &table.entries {
        let at = Location { file: header.file, span: entry.key_span.to(entry.item.span) };
        let Some(variable) = registry.member(of, &entry.key) else {
            let message = format!("`{}` has no variable `{}`", owner.name, entry.key);
            let help = did_you_mean(&entry.key, owner.variables.iter().map(|&id| &*registry.var(id).name));
            problems.entry_with(at, &message, help);
            continue;
        };
        if registry.var(variable).scope != Scope::Instance {
            let message = format!(
                "`{}` has one value for all: an instance can't start with its own",
                registry.identity(variable)
            );
            problems.entry(at, &message);
            continue;
        }
        if starts.iter().any(|start: &Start| start.variable == variable) {
            problems.entry(at, &format!("`{}` is given twice in this entry", entry.key));
            continue;
        }
        let mut reader = EntryReader::new(table, header, problems);
        let ty = registry.var(variable).ty;
        if let Some(value) = constant(&mut reader, &entry.key, &entry.item, ty, registry) {
            starts.push(Start { variable, value, at });
        }
    }
}

fn fill_signal(found: &Found<'_, SignalId>, registry: &mut Registry, problems: &mut Problems) {
    let mut reader = EntryReader::new(found.table, found.header, problems);
    let from = reader.choice("from", &[("engine", true), ("script", false)]);
    if from.is_none() && !reader.has("from") {
        reader.problems.entry(found.header, "a signal says who sends it: `from = \"engine\"` or `from = \"script\"`");
    }
    let to_all = reader.choice("to", &[("instance", false), ("all", true)]);
    let bursts = reader.bool("bursts");
    let table = reader.table("parameters");
    let place = reader.finish("a signal");
    if from == Some(false) {
        for (key, given) in [("to", to_all.is_some()), ("bursts", bursts.is_some())] {
            if given {
                problems.entry(place.key(key), &format!("`{key}` is for signals from the engine only"));
            }
        }
    }
    let known = problems.findings.len();
    let mut parameters: Vec<SignalParameter> = Vec::new();
    if let Some((table, at)) = table {
        for entry in &table.entries {
            if parameters.iter().any(|parameter| parameter.name == entry.key) {
                let at = Location { file: at.file, span: entry.key_span };
                problems.entry(at, &format!("the parameter `{}` is given twice", entry.key));
                continue;
            }
            parameters.push(read_parameter(entry, at, registry, problems));
        }
    }
    if from.is_none() || problems.findings.len() > known {
        // What it brings, and who sends it, can't be told in full.
        registry.unread.insert(registry.signal(found.id).name.to_string());
    }
    let signal = &mut registry.signals[found.id.index()];
    signal.from_engine = from.unwrap_or(true);
    signal.to_all = to_all.unwrap_or(false);
    signal.bursts = bursts.unwrap_or(false);
    signal.parameters = parameters;
    signal.place = place;
}

fn read_parameter(entry: &Entry, header: Location, registry: &Registry, problems: &mut Problems) -> SignalParameter {
    let at = Location { file: header.file, span: entry.item.span };
    let mut parameter = SignalParameter { name: entry.key.clone(), ty: Type::Unknown, min: None, max: None };
    let name = match &entry.item.value {
        Toml::Text(name) => name.clone(),
        Toml::Table(table) => {
            let mut reader = EntryReader::new(table, at, problems);
            let name = reader.text("type");
            let min = reader.number("min");
            let max = reader.number("max");
            if name.is_none() && !reader.has("type") {
                reader.problems.entry(at, "a parameter has a `type`");
            }
            reader.finish("a parameter");
            let ty = name.as_deref().map(|name| type_of_word(name, registry));
            if let (Some((low, _)), Some((high, span))) = (min, max)
                && low > high
            {
                problems.entry(Location { file: at.file, span }, &min_above_max(low, high));
            } else if let (Some(Some(ty)), Some((_, span))) = (ty, min.or(max))
                && !ty.is_numeric()
            {
                problems.entry(Location { file: at.file, span }, "a range is for `int` and `number` only");
            } else {
                parameter.min = min.map(|(value, _)| value);
                parameter.max = max.map(|(value, _)| value);
            }
            let Some(name) = name else { return parameter };
            name
        }
        other => {
            let message = format!("a parameter wants a type, and this is {}", other.kind());
            problems.entry(at, &message);
            return parameter;
        }
    };
    match type_of_word(&name, registry) {
        Some(ty) => parameter.ty = ty,
        None => {
            let words = ["bool", "int", "number", "text", "vec2", "vec3", "actor"];
            let actors = registry.owners.iter().map(|owner| &*owner.name);
            let help = did_you_mean(&name, words.into_iter().chain(actors));
            problems.entry_with(at, &format!("there is no type `{name}`"), help);
            let meant = nearest(&name, words.into_iter().chain(registry.owners.iter().map(|owner| &*owner.name)));
            parameter.ty = meant.first().and_then(|name| type_of_word(name, registry)).unwrap_or(Type::Unknown);
        }
    }
    parameter
}

/// The type of a word: a plain type, `actor`, an actor's name, or an enum variable's identity.
#[must_use]
pub fn type_of_word(word: &str, registry: &Registry) -> Option<Type> {
    Some(match word {
        "bool" => Type::Bool,
        "int" => Type::Int,
        "number" => Type::Number,
        "text" => Type::Text,
        "vec2" => Type::Vec2,
        "vec3" => Type::Vec3,
        "actor" => Type::Ref(None),
        _ if word.contains('.') => {
            let variable = registry.find(word)?;
            matches!(registry.var(variable).ty, Type::Enum(_)).then_some(Type::Enum(variable))?
        }
        _ => Type::Ref(Some(registry.find_owner(word).filter(|&owner| registry.is_actor(owner))?)),
    })
}

fn min_above_max(min: f64, max: f64) -> String {
    format!("`min` ({}) is above `max` ({})", crate::words::number(min), crate::words::number(max))
}

// ---- what needs all entries ----

fn check_bounds(registry: &mut Registry, problems: &mut Problems) {
    for id in registry.var_ids() {
        for end in [End::Min, End::Max] {
            if let Some(Bound::Variable(other)) = registry.var(id).bound(end).cloned()
                && let Some(reason) = unfit_bound(id, other, registry)
            {
                let at = registry.var(id).place.key(end.word());
                problems
                    .entry(at, &format!("`{}` can't be a `{}` here: {reason}", registry.identity(other), end.word()));
                drop_bound(registry, id, end);
                registry.unread.insert(registry.var(id).name.to_string());
            }
        }
    }
    break_circles(registry, problems);
    let has_mistaken_bound = |&id: &VarId| {
        let ends = [End::Min, End::Max].into_iter().filter_map(|end| registry.var(id).bound(end));
        ends.into_iter().any(|bound| matches!(bound, Bound::Variable(other) if registry.mistaken.contains(other)))
    };
    let hanging: Vec<VarId> = registry.var_ids().filter(has_mistaken_bound).collect();
    registry.mistaken.extend(hanging);
    for id in registry.var_ids() {
        check_min_max(id, registry, problems);
    }
}

fn drop_bound(registry: &mut Registry, id: VarId, end: End) {
    let variable = &mut registry.variables[id.index()];
    match end {
        End::Min => variable.min = None,
        End::Max => variable.max = None,
    }
}

/// Why a variable can't bound another.
fn unfit_bound(id: VarId, bound: VarId, registry: &Registry) -> Option<String> {
    let (variable, other) = (registry.var(id), registry.var(bound));
    if other.ty == Type::Unknown || id == bound {
        return None;
    }
    if !other.ty.is_numeric() {
        return Some(format!("it is a `{}`, and a bound is a number", registry.type_word(other.ty)));
    }
    let fits = match other.scope {
        Scope::Global | Scope::Type => true,
        Scope::Scene => other.owner == variable.owner,
        Scope::Instance => variable.scope == Scope::Instance && other.owner == variable.owner,
    };
    if !fits {
        return Some(
            "a bound is a global or a type's variable, or one of the same scene or the same instance".to_owned(),
        );
    }
    if other.default.is_none() && !other.place.has("default") {
        return Some("it has no default, so there may be no bound".to_owned());
    }
    let lives_shorter = other.lifetime < variable.lifetime && !other.constant;
    lives_shorter.then(|| {
        format!(
            "its lifetime is \"{}\", and what it bounds is \"{}\": the bound would be gone first",
            other.lifetime.word(),
            variable.lifetime.word()
        )
    })
}

/// The bounds of a variable that are variables.
type Edges = Vec<(End, VarId)>;

/// Finds bounds that lead in a circle by following them depth first; each circle is reported at its earliest entry.
fn break_circles(registry: &mut Registry, problems: &mut Problems) {
    let edges = |registry: &Registry, id: VarId| -> Vec<(End, VarId)> {
        [End::Min, End::Max]
            .into_iter()
            .filter_map(|end| match registry.var(id).bound(end) {
                Some(Bound::Variable(other)) => Some((end, *other)),
                _ => None,
            })
            .collect()
    };
    let mut done = vec![false; registry.variables.len()];
    for root in registry.var_ids() {
        // The path from the root, and for each variable on it the edges not yet followed.
        let mut path: Vec<(VarId, End, Edges)> = Vec::new();
        if !done[root.index()] {
            path.push((root, End::Min, edges(registry, root)));
        }
        while let Some((id, taken, open)) = path.last_mut() {
            let Some((end, next)) = open.pop() else {
                done[id.index()] = true;
                path.pop();
                continue;
            };
            *taken = end;
            if let Some(start) = path.iter().position(|&(id, ..)| id == next) {
                let circle = &path[start..];
                let earliest = circle
                    .iter()
                    .min_by_key(|(id, ..)| registry.var(*id).place.header)
                    .map_or((next, end), |&(id, end, _)| (id, end));
                let mut names: Vec<String> = circle.iter().map(|&(id, ..)| registry.identity(id)).collect();
                names.push(registry.identity(next));
                let at = registry.var(earliest.0).place.key(earliest.1.word());
                problems.entry(at, &format!("these bounds lead in a circle: {}", names.join(" → ")));
                // None of them can be taken at its word.
                let all: Vec<(VarId, End)> = circle.iter().map(|&(id, end, _)| (id, end)).collect();
                all.into_iter().for_each(|(id, end)| drop_bound(registry, id, end));
            } else if !done[next.index()] {
                path.push((next, End::Min, edges(registry, next)));
            }
        }
    }
}

/// The value of a bound as the run starts.
#[must_use]
pub fn bound_at_start(bound: &Bound, registry: &Registry) -> Option<f64> {
    match bound {
        Bound::Number(value) => Some(*value),
        Bound::Variable(id) => registry.var(*id).default.as_ref()?.as_number(),
    }
}

fn check_min_max(id: VarId, registry: &mut Registry, problems: &mut Problems) {
    let variable = registry.var(id);
    if variable.overflow == Overflow::Wrap {
        // One that could not be read was told of, and may be meant for a number.
        let is_number = |end: End| match variable.bound(end) {
            Some(bound) => matches!(bound, Bound::Number(_)),
            None => variable.place.has(end.word()),
        };
        let numbers = [End::Min, End::Max].into_iter().all(is_number);
        if variable.ty != Type::Unknown && (variable.ty != Type::Int || !numbers) {
            let at = variable.place.key("overflow");
            problems.entry(at, "`overflow = \"wrap\"` is for an `int` with a number for `min` and for `max`");
            registry.variables[id.index()].overflow = Overflow::Error;
            return;
        }
    }
    let (Some(min), Some(max)) = (&variable.min, &variable.max) else { return };
    let ends = (bound_at_start(min, registry), bound_at_start(max, registry));
    if let (Some(low), Some(high)) = ends
        && low > high
    {
        problems.entry(variable.place.key("max"), &min_above_max(low, high));
        drop_bound(registry, id, End::Min);
        drop_bound(registry, id, End::Max);
        let name = registry.var(id).name.to_string();
        registry.unread.insert(name);
        registry.mistaken.insert(id);
    }
}

fn check_slots(registry: &Registry, problems: &mut Problems) {
    let mut first: FxHashMap<i64, VarId> = FxHashMap::default();
    for id in registry.var_ids() {
        let Some(slot) = registry.var(id).slot else { continue };
        if let Some(&other) = first.get(&slot) {
            let message = format!("slot {slot} is taken by `{}`", registry.identity(other));
            problems.findings.push(
                Finding::new(reader_rules::DUPLICATE_SLOT, registry.var(id).place.key("slot"), message)
                    .about(registry.identity(id))
                    .help("give each variable a slot of its own")
                    .with(registry.var(other).place.key("slot"), "the slot is given here"),
            );
        } else {
            first.insert(slot, id);
        }
    }
}
