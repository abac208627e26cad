//! `oaken.toml`: where things are, and what the project has agreed on.

use super::read::{EntryReader, Problems};
use super::toml::{Table, Value};
use super::{EntryPlace, Lifetime};
use crate::finding::Level;
use crate::source::{FileId, Location, Span};

/// How variables are to be spelled.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum NameStyle {
    /// `hold_size`
    Snake,
    /// `holdSize`
    Camel,
    /// `HoldSize`
    Pascal,
    /// As one likes.
    Any,
}

/// A line of `[rules]`.
#[derive(Clone, Debug)]
pub struct RuleLevel {
    /// A rule, or a family.
    pub name: String,
    /// The level.
    pub level: Level,
    /// The key.
    pub at: Location,
}

/// A path of `order.first`.
#[derive(Clone, Debug)]
pub struct OrderedScript {
    /// Relative to the project's folder.
    pub path: String,
    /// Where it is written.
    pub at: Location,
}

/// The whole of `oaken.toml`.
#[derive(Clone, Debug)]
pub struct Config {
    /// The project's name.
    pub name: String,
    /// Where registry files are.
    pub registry: Vec<String>,
    /// Where scripts are.
    pub scripts: Vec<String>,
    /// Where rehearsals are.
    pub rehearsals: Vec<String>,
    /// The scene a run begins in.
    pub first_scene: Option<String>,
    /// The lifetime of a variable that states none.
    pub lifetime: Lifetime,
    /// Ticks in a second.
    pub tick_rate: f64,
    /// Scripts that answer first, in this order.
    pub order: Vec<OrderedScript>,
    /// Whether anyone may write a variable that lists no writers.
    pub anyone_writes: bool,
    /// The spelling of variables.
    pub style: NameStyle,
    /// Prefixes by type.
    pub prefixes: Vec<(String, Vec<String>)>,
    /// Changed levels.
    pub rules: Vec<RuleLevel>,
    /// Where `[project]` stands.
    pub place: EntryPlace,
}

impl Config {
    /// How many seconds a tick is long.
    #[must_use]
    pub fn tick_length(&self) -> f64 {
        1.0 / self.tick_rate
    }

    /// The defaults, for a file that says nothing.
    #[must_use]
    pub fn empty(file: FileId) -> Self {
        let header = Location { file, span: Span::default() };
        Self {
            name: String::new(),
            registry: vec!["registry".to_owned()],
            scripts: vec!["scripts".to_owned()],
            rehearsals: vec!["rehearsals".to_owned()],
            first_scene: None,
            lifetime: Lifetime::Run,
            tick_rate: 60.0,
            order: Vec::new(),
            anyone_writes: false,
            style: NameStyle::Snake,
            prefixes: Vec::new(),
            rules: Vec::new(),
            place: EntryPlace { header, keys: Vec::new() },
        }
    }
}

/// Whether a path written in a project stays inside the project's folder.
#[must_use]
pub fn stays_inside(path: &str) -> bool {
    let path = path.replace('\\', "/");
    let drive = path.as_bytes().get(1) == Some(&b':');
    !path.starts_with('/') && !drive && !path.split('/').any(|part| part == "..")
}

/// Reads the file's tables.
#[must_use]
pub fn read(mut table: Table, file: FileId, problems: &mut Problems) -> Config {
    super::mend::mend_config(&mut table, file, problems);
    let mut config = Config::empty(file);
    let known = ["project", "order", "sharing", "names", "rules"];
    let mut root = EntryReader::new(&table, Location { file, span: Span::new(0, 0) }, problems);
    let [project, order, sharing, names, rules] = known.map(|key| root.table(key));
    root.finish("oaken.toml");
    match project {
        Some((table, at)) => read_project(&mut config, table, at, problems),
        None => problems.entry(config.place.header, "`oaken.toml` has no `[project]` with a `name`"),
    }
    if let Some((table, at)) = order {
        let mut reader = EntryReader::new(table, at, problems);
        for (path, span) in reader.text_list("first").unwrap_or_default() {
            config.order.push(OrderedScript { path, at: Location { file, span } });
        }
        reader.finish("[order]");
    }
    if let Some((table, at)) = sharing {
        let mut reader = EntryReader::new(table, at, problems);
        config.anyone_writes = reader.choice("writers", &[("owner", false), ("anyone", true)]).unwrap_or(false);
        reader.finish("[sharing]");
    }
    if let Some((table, at)) = names {
        read_names(&mut config, table, at, problems);
    }
    if let Some((table, _)) = rules {
        read_rules(&mut config, table, file, problems);
    }
    config
}

fn read_project(config: &mut Config, table: &Table, at: Location, problems: &mut Problems) {
    let mut reader = EntryReader::new(table, at, problems);
    match reader.text("name") {
        Some(name) => config.name = name,
        None if !reader.has("name") => reader.problems.entry(at, "the project has no `name`"),
        None => {}
    }
    for (key, paths) in
        [("registry", &mut config.registry), ("scripts", &mut config.scripts), ("rehearsals", &mut config.rehearsals)]
    {
        if let Some(list) = reader.text_list(key) {
            paths.clear();
            for (path, span) in list {
                if stays_inside(&path) {
                    paths.push(path);
                } else {
                    let message = format!("the path \"{path}\" leads outside the project's folder");
                    reader.problems.entry(Location { file: at.file, span }, &message);
                }
            }
        }
    }
    config.first_scene = reader.text("first_scene");
    let lifetimes = [Lifetime::Run, Lifetime::Session, Lifetime::Saved].map(|lifetime| (lifetime.word(), lifetime));
    config.lifetime = reader.choice("lifetime", &lifetimes).unwrap_or(Lifetime::Run);
    if let Some((rate, span)) = reader.number("tick_rate") {
        if rate > 0.0 && rate <= 1e6 {
            config.tick_rate = rate;
        } else {
            let message = "`tick_rate` is the count of ticks in a second: more than 0, and a million at most";
            reader.problems.entry(Location { file: at.file, span }, message);
        }
    }
    config.place = reader.finish("[project]");
}

fn read_names(config: &mut Config, table: &Table, at: Location, problems: &mut Problems) {
    let mut reader = EntryReader::new(table, at, problems);
    let styles = [
        ("snake", NameStyle::Snake),
        ("camel", NameStyle::Camel),
        ("pascal", NameStyle::Pascal),
        ("any", NameStyle::Any),
    ];
    config.style = reader.choice("variable", &styles).unwrap_or(NameStyle::Snake);
    let prefixes = reader.table("prefixes");
    reader.finish("[names]");
    let Some((prefixes, at)) = prefixes else { return };
    let types = ["bool", "int", "number", "text", "enum", "ref", "vec2", "vec3"];
    let mut reader = EntryReader::new(prefixes, at, problems);
    for ty in types {
        if let Some(list) = reader.text_list(ty) {
            config.prefixes.push((ty.to_owned(), list.into_iter().map(|(text, _)| text).collect()));
        }
    }
    reader.finish("prefixes");
}

fn read_rules(config: &mut Config, table: &Table, file: FileId, problems: &mut Problems) {
    for entry in &table.entries {
        let at = Location { file, span: entry.key_span.to(entry.item.span) };
        let level = match &entry.item.value {
            Value::Text(word) => Level::parse(word),
            _ => None,
        };
        match level {
            Some(level) => config.rules.push(RuleLevel { name: entry.key.clone(), level, at }),
            None => problems.entry(at, "a rule's level is \"off\", \"note\", \"warning\" or \"error\""),
        }
    }
}
