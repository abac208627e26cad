//! Reads rehearsals. A mistake is one finding, and the rest of the file is still read.

use super::{Action, Given, Put, Rehearsal, Step, Watched, Who};
use crate::finding::{Finding, RuleName};
use crate::project::Project;
use crate::project::build::report_unreadable;
use crate::project::expression::Conditions;
use crate::registry::read::{EntryReader, Problems, constant};
use crate::registry::toml::{self, Entry, Item, Table, Value as Toml};
use crate::registry::{Named, OwnerId, Registry, Scope, SignalId, SignalParameter, Type, VarId};
use crate::rehearse::layout::duration_ticks;
use crate::rules;
use crate::script::parser::parse_duration;
use crate::source::{FileId, Location, SourceFile, Span};
use crate::words::{did_you_mean, number};
use rustc_hash::FxHashMap;

/// The kinds of steps: a step has exactly one of these keys.
pub const KINDS: [&str; 7] = ["fire", "pass", "choose", "expect", "set", "go", "restart"];

/// Reads a rehearsal.
///
/// # Errors
/// Everything that is wrong in it.
pub fn read(project: &Project, file: FileId) -> Result<Rehearsal, Vec<Finding>> {
    read_file(project, file, project.sources.file(file))
}

/// Reads a rehearsal that is perhaps no file yet; `file` is what its places are told by.
///
/// # Errors
/// Everything that is wrong in it.
pub fn read_file(project: &Project, file: FileId, source: &SourceFile) -> Result<Rehearsal, Vec<Finding>> {
    let mut problems = Problems::default();
    let start = Location { file, span: Span::default() };
    let mut reader = Reader {
        project,
        file,
        conditions: Conditions::new(&project.registry),
        known: FxHashMap::default(),
        rehearsal: blank(file, &source.path),
    };
    let mut in_steps = Problems::default();
    let (table, error) = toml::read_each(&source.text, "step", |item| reader.step_item(&item, &mut in_steps));
    report_unreadable(source, file, error, &mut problems);
    if !problems.findings.is_empty() {
        return Err(problems.findings);
    }
    reader.whole(&table, start, &mut problems);
    problems.findings.append(&mut in_steps.findings);
    if problems.findings.is_empty() { Ok(reader.rehearsal) } else { Err(problems.findings) }
}

fn blank(file: FileId, path: &str) -> Rehearsal {
    Rehearsal {
        file,
        title: path.to_owned(),
        seed: 0,
        watch: Vec::new(),
        given: Vec::new(),
        steps: Vec::new(),
        faults: Vec::new(),
        conditions: Vec::new(),
    }
}

struct Reader<'p> {
    project: &'p Project,
    file: FileId,
    conditions: Conditions<'p>,
    /// The conditions that were read already, by their text.
    known: FxHashMap<String, usize>,
    rehearsal: Rehearsal,
}

impl<'p> Reader<'p> {
    fn registry(&self) -> &'p Registry {
        &self.project.registry
    }

    fn at(&self, span: Span) -> Location {
        Location { file: self.file, span }
    }

    fn whole(&mut self, table: &Table, start: Location, problems: &mut Problems) {
        let mut reader = EntryReader::new(table, start, problems);
        if let Some(title) = reader.text("title") {
            self.rehearsal.title = title;
        }
        let seed = reader.whole("seed", i64::MIN);
        self.rehearsal.seed = seed.unwrap_or(0).cast_unsigned();
        for (name, span) in reader.text_list("watch").unwrap_or_default() {
            let watched = self.watched(&name, span, reader.problems);
            self.rehearsal.watch.extend(watched);
        }
        for (name, span) in reader.text_list("faults").unwrap_or_default() {
            let rule = known_rule(&name, self.at(span), reader.problems);
            self.rehearsal.faults.extend(rule);
        }
        if let Some((given, at)) = reader.table("given") {
            self.rehearsal.given = self.puts(given, at, reader.problems);
        }
        let steps = reader.item("step");
        reader.finish("a rehearsal");
        match steps.map(|item| (&item.value, item.span)) {
            None => {}
            Some((Toml::Array(items), _)) => {
                for item in items {
                    self.step_item(item, problems);
                }
            }
            Some((_, span)) => problems.entry(self.at(span), "a step begins with `[[step]]`"),
        }
    }

    fn step_item(&mut self, item: &Item, problems: &mut Problems) {
        let Toml::Table(table) = &item.value else {
            problems.entry(self.at(item.span), "a step is a table of keys");
            return;
        };
        let at = self.at(item.span);
        if let Some(action) = self.step(table, at, problems) {
            self.rehearsal.steps.push(Step { at, action });
        }
    }

    // ---- steps ----

    fn step(&mut self, table: &Table, at: Location, problems: &mut Problems) -> Option<Action> {
        let kinds: Vec<&Entry> = table.entries.iter().filter(|entry| KINDS.contains(&entry.key.as_str())).collect();
        let kind = match kinds[..] {
            [only] => only.key.as_str(),
            [] => {
                let all: Vec<String> = KINDS.iter().map(|kind| format!("`{kind}`")).collect();
                let unknown = table.entries.iter().find_map(|entry| did_you_mean(&entry.key, KINDS));
                problems.entry_with(
                    at,
                    &format!("this step does nothing: it needs one of {}", all.join(", ")),
                    unknown,
                );
                return None;
            }
            [first, second, ..] => {
                let message = format!("a step does one thing, and this one has `{}` and `{}`", first.key, second.key);
                let help = Some("make two steps of it".to_owned());
                problems.entry_with(self.at(second.key_span), &message, help);
                return None;
            }
        };
        let before = problems.findings.len();
        let mut reader = EntryReader::new(table, at, problems);
        let action = match kind {
            "fire" => self.fire(&mut reader),
            "pass" => self.pass(&mut reader),
            "choose" => {
                reader.whole("choose", 1).and_then(|choice| usize::try_from(choice - 1).ok()).map(Action::Choose)
            }
            "expect" => self.expect(&mut reader),
            "set" => reader.table("set").map(|(table, at)| Action::Set(self.puts(table, at, reader.problems))),
            "go" => self.go(&mut reader),
            _ => match reader.bool("restart") {
                Some(false) => {
                    reader.problems.entry(at, "`restart` is true, or it is left out");
                    None
                }
                value => value.map(|_| Action::Restart),
            },
        };
        reader.finish(&format!("a `{kind}` step"));
        action.filter(|_| problems.findings.len() == before)
    }

    fn fire(&mut self, reader: &mut EntryReader<'_, '_>) -> Option<Action> {
        let name = reader.text("fire");
        let signal = name.and_then(|name| self.signal(&name, reader));
        let on_item = reader.item("on");
        let on = on_item.and_then(|item| self.target(item, signal, reader));
        let with = reader.table("with");
        let times = reader.whole("times", 1).unwrap_or(1).cast_unsigned();
        let signal = signal?;
        let with = self.arguments(signal, with, reader);
        Some(Action::Fire { signal, on, with, times })
    }

    fn signal(&self, name: &str, reader: &mut EntryReader<'_, '_>) -> Option<SignalId> {
        let at = reader.place_of("fire");
        let registry = self.registry();
        let found = match registry.names.get(name) {
            Some(Named::Signal(signal)) => *signal,
            _ => {
                let help = did_you_mean(name, registry.signals.iter().map(|signal| &*signal.name));
                reader.problems.entry_with(at, &format!("there is no signal `{name}`"), help);
                return None;
            }
        };
        if registry.signal(found).from_engine {
            return Some(found);
        }
        let message = format!("`{name}` is sent by scripts only, and a rehearsal plays the game's part");
        let help = Some("fire the signal whose handler sends it".to_owned());
        reader.problems.entry_with(at, &message, help);
        None
    }

    fn target(&self, item: &Item, signal: Option<SignalId>, reader: &mut EntryReader<'_, '_>) -> Option<Who> {
        let Toml::Text(name) = &item.value else {
            let message = format!("`on` wants an instance's name, and this is {}", item.value.kind());
            reader.problems.entry(self.at(item.span), &message);
            return None;
        };
        if let Some(signal) = signal.map(|signal| self.registry().signal(signal))
            && signal.to_all
        {
            let message = format!("`{}` happens to everyone, so there is nothing to say in `on`", signal.name);
            reader.problems.entry(self.at(item.span), &message);
            return None;
        }
        self.who(name, None, item.span, reader.problems)
    }

    fn arguments(
        &self,
        signal: SignalId,
        with: Option<(&Table, Location)>,
        reader: &mut EntryReader<'_, '_>,
    ) -> Vec<Given> {
        let signal = self.registry().signal(signal);
        let blank = Table::default();
        let (table, at) = with.unwrap_or((&blank, reader.place_of("fire")));
        for entry in &table.entries {
            if !signal.parameters.iter().any(|parameter| parameter.name == entry.key) {
                let names = signal.parameters.iter().map(|parameter| parameter.name.as_str());
                let help = did_you_mean(&entry.key, names);
                let message = format!("`{}` has no parameter `{}`", signal.name, entry.key);
                reader.problems.entry_with(self.at(entry.key_span), &message, help);
            }
        }
        let mut given = Vec::with_capacity(signal.parameters.len());
        for parameter in &signal.parameters {
            match table.get(&parameter.name) {
                Some(entry) => {
                    let value = self.value(&parameter.name, &entry.item, parameter.ty, reader);
                    given.extend(value.filter(|value| self.in_range(value, parameter, entry, reader)));
                }
                None => {
                    let message =
                        format!("`{}` brings `{}` along, and this step does not say it", signal.name, parameter.name);
                    let help = Some(format!("say it in `with = {{ {} = … }}`", parameter.name));
                    reader.problems.entry_with(at, &message, help);
                }
            }
        }
        given
    }

    /// The game sends only what the signal's declaration allows.
    fn in_range(
        &self,
        value: &Given,
        parameter: &SignalParameter,
        entry: &Entry,
        reader: &mut EntryReader<'_, '_>,
    ) -> bool {
        let Given::Plain(value) = value else { return true };
        let Some(value) = value.as_number() else { return true };
        let (low, high) = (parameter.min.unwrap_or(f64::NEG_INFINITY), parameter.max.unwrap_or(f64::INFINITY));
        if value >= low && value <= high {
            return true;
        }
        let message = format!(
            "`{}` is {}, and the game sends {} to {} only",
            parameter.name,
            number(value),
            number(low),
            number(high)
        );
        reader.problems.entry(self.at(entry.item.span), &message);
        false
    }

    fn pass(&self, reader: &mut EntryReader<'_, '_>) -> Option<Action> {
        let text = reader.text("pass")?;
        let Some(duration) = parse_duration(&text) else {
            let message = if text.trim_start().starts_with('-') {
                format!("time does not run backwards: \"{text}\" is less than nothing")
            } else {
                format!("\"{text}\" is no length of time: write `0.5s`, `200ms` or `10t` (ticks)")
            };
            reader.problems.entry(reader.place_of("pass"), &message);
            return None;
        };
        Some(Action::Pass(duration_ticks(duration, self.project.config.tick_rate)))
    }

    fn expect(&mut self, reader: &mut EntryReader<'_, '_>) -> Option<Action> {
        let text = reader.text("expect");
        let because = reader.text("because");
        let text = text?;
        if let Some(&condition) = self.known.get(&text) {
            return Some(Action::Expect { condition, because });
        }
        match self.conditions.read(&text, self.file) {
            Ok(condition) => {
                self.rehearsal.conditions.push(condition);
                let condition = self.rehearsal.conditions.len() - 1;
                self.known.insert(text, condition);
                Some(Action::Expect { condition, because })
            }
            Err(error) => {
                let message = format!("`expect` can't be read: {}", error.message);
                reader.problems.entry_with(reader.place_of("expect"), &message, error.help);
                None
            }
        }
    }

    fn go(&self, reader: &mut EntryReader<'_, '_>) -> Option<Action> {
        let name = reader.text("go")?;
        let registry = self.registry();
        if let Some(scene) = registry.find_owner(&name).filter(|&owner| registry.is_scene(owner)) {
            return Some(Action::Go(scene));
        }
        let scenes = (0..registry.owners.len()).map(OwnerId::at).filter(|&owner| registry.is_scene(owner));
        let help = did_you_mean(&name, scenes.map(|owner| &*registry.owner(owner).name));
        reader.problems.entry_with(reader.place_of("go"), &format!("there is no scene `{name}`"), help);
        None
    }

    // ---- names and values ----

    /// The entries of `given` or `set`: names in quotes, or with the dot as a table's.
    fn puts(&self, table: &Table, at: Location, problems: &mut Problems) -> Vec<Put> {
        let mut puts = Vec::new();
        for entry in &table.entries {
            match &entry.item.value {
                Toml::Table(inner) => {
                    for member in &inner.entries {
                        let name = format!("{}.{}", entry.key, member.key);
                        let span = member.key_span;
                        puts.extend(self.put(&name, span, &member.item, at, table, problems));
                    }
                }
                _ => puts.extend(self.put(&entry.key, entry.key_span, &entry.item, at, table, problems)),
            }
        }
        puts
    }

    fn put(
        &self,
        name: &str,
        span: Span,
        item: &Item,
        at: Location,
        table: &Table,
        problems: &mut Problems,
    ) -> Option<Put> {
        let (variable, of) = self.variable(name, span, problems)?;
        let facts = self.registry().var(variable);
        if facts.scope == Scope::Instance && of.is_none() {
            let owner = &self.registry().owner(facts.owner).name;
            let message = format!("each `{owner}` has its own `{}`: name the instance", facts.name);
            let instances: Vec<String> = self
                .registry()
                .instances_of(facts.owner)
                .map(|id| format!("{}.{}", self.registry().instance(id).name, facts.name))
                .collect();
            let help = instances.first().map(|first| format!("as in `\"{first}\"`"));
            problems.entry_with(self.at(span), &message, help);
            return None;
        }
        let mut reader = EntryReader::new(table, at, problems);
        let value = self.value(name, item, facts.ty, &mut reader)?;
        Some(Put { variable, of, value })
    }

    /// A variable by the name of its owner or of an instance; whose it is, in the latter case.
    fn variable(&self, name: &str, span: Span, problems: &mut Problems) -> Option<(VarId, Option<Who>)> {
        let registry = self.registry();
        let Some((whose, short)) = name.rsplit_once('.') else {
            self.unknown_variable(name, span, problems);
            return None;
        };
        if let Some(owner) = registry.find_owner(whose)
            && let Some(id) = registry.member(owner, short)
        {
            let only = || registry.only_instance(owner).map(Who::Listed);
            let of = if registry.var(id).scope == Scope::Instance { only() } else { None };
            return Some((id, of));
        }
        let of = self.find_who(whose).filter(|who| !matches!(who, Who::New(_)));
        let actor = of.map(|who| self.actor_of(who));
        match (of, actor.and_then(|actor| registry.member(actor, short))) {
            (Some(of), Some(id)) => Some((id, Some(of).filter(|_| registry.var(id).scope == Scope::Instance))),
            _ => {
                self.unknown_variable(name, span, problems);
                None
            }
        }
    }

    fn unknown_variable(&self, name: &str, span: Span, problems: &mut Problems) {
        let registry = self.registry();
        let mut all: Vec<String> = registry.var_ids().map(|id| registry.identity(id)).collect();
        for instance in &registry.instances {
            let own = registry.owner(instance.of).variables.iter();
            all.extend(own.map(|&id| format!("{}.{}", instance.name, registry.var(id).name)));
        }
        let help = did_you_mean(name, all.iter().map(String::as_str));
        problems.entry_with(self.at(span), &format!("there is no variable `{name}`"), help);
    }

    fn watched(&self, name: &str, span: Span, problems: &mut Problems) -> Option<Watched> {
        let registry = self.registry();
        // `mailboat.parcels` follows every boat; `lighthouse.oil` the only lighthouse there is.
        let (variable, of) = self.variable(name, span, problems)?;
        let of = match of {
            Some(Who::Listed(instance)) if registry.find(name).is_none() => Some(instance),
            _ => None,
        };
        Some(Watched { variable, of })
    }

    fn find_who(&self, name: &str) -> Option<Who> {
        let registry = self.registry();
        if let Some(at) = registry.instances.iter().position(|instance| &*instance.name == name) {
            return Some(Who::Listed(crate::registry::InstanceId::at(at)));
        }
        if let Some(actor) = registry.find_owner(name).filter(|&owner| registry.is_actor(owner)) {
            return Some(Who::New(actor));
        }
        let (actor, number) = name.rsplit_once(' ')?;
        let actor = registry.find_owner(actor).filter(|&owner| registry.is_actor(owner))?;
        number.parse().ok().filter(|&number: &u32| number > 0).map(|number| Who::Made(actor, number))
    }

    fn actor_of(&self, who: Who) -> OwnerId {
        match who {
            Who::Listed(instance) => self.registry().instance(instance).of,
            Who::New(actor) | Who::Made(actor, _) => actor,
        }
    }

    fn who(&self, name: &str, wanted: Option<OwnerId>, span: Span, problems: &mut Problems) -> Option<Who> {
        let registry = self.registry();
        let Some(who) = self.find_who(name) else {
            let instances = registry.instances.iter().map(|instance| &*instance.name);
            let actors = (0..registry.owners.len()).map(OwnerId::at).filter(|&owner| registry.is_actor(owner));
            let near = did_you_mean(name, instances.chain(actors.map(|owner| &*registry.owner(owner).name)));
            problems.entry_with(self.at(span), &format!("there is no instance and no actor `{name}`"), near);
            return None;
        };
        let actor = self.actor_of(who);
        if let Some(wanted) = wanted.filter(|&wanted| wanted != actor) {
            let (is, holds) = (&registry.owner(actor).name, &registry.owner(wanted).name);
            problems.entry(self.at(span), &format!("`{name}` is a `{is}`, and a `{holds}` is wanted"));
            return None;
        }
        Some(who)
    }

    fn value(&self, key: &str, item: &Item, ty: Type, reader: &mut EntryReader<'_, '_>) -> Option<Given> {
        let Type::Ref(wanted) = ty else {
            return constant(reader, key, item, ty, self.registry()).map(Given::Plain);
        };
        match &item.value {
            Toml::Text(name) if name == "none" => Some(Given::Nobody),
            Toml::Text(name) => self.who(name, wanted, item.span, reader.problems).map(Given::Instance),
            other => {
                let message = format!("`{key}` wants an instance's or an actor's name, and this is {}", other.kind());
                reader.problems.entry(self.at(item.span), &message);
                None
            }
        }
    }
}

fn known_rule(name: &str, at: Location, problems: &mut Problems) -> Option<RuleName> {
    let found = rules::find(name).map(|rule| rule.name);
    if found.is_none() {
        let help = did_you_mean(name, rules::all().iter().map(|rule| rule.name.0));
        problems.entry_with(at, &format!("there is no rule `{name}`"), help);
    }
    found
}
