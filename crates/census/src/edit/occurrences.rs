//! Every place that names a variable, an owner or an instance: in scripts, in the registry, in rehearsals.

use crate::project::expression::Conditions;
use crate::project::{Base, Meaning, Place, Project, ScriptUnit};
use crate::registry::toml::{self, Word};
use crate::registry::{InstanceId, Named, OwnerId, Registry, VarId};
use crate::script::ast::{ExprKind, Name, Parameter, Trigger, TypeName};
use crate::source::{FileId, FileKind, Location, Span};

/// What is named.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Target {
    /// A variable.
    Variable(VarId),
    /// An owner. An actor and its only instance share a name, and are meant together.
    Owner(OwnerId),
    /// A listed instance.
    Instance(InstanceId),
}

impl Target {
    /// The name that changes when it is renamed.
    #[must_use]
    pub fn name(self, registry: &Registry) -> String {
        match self {
            Self::Variable(id) => registry.var(id).name.to_string(),
            Self::Owner(id) => registry.owner(id).name.to_string(),
            Self::Instance(id) => registry.instance(id).name.to_string(),
        }
    }
}

/// A place that names the target.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Occurrence {
    /// The name itself; of a text that can't be patched in place, all of it, quotes included.
    pub at: Location,
    /// What must stand there so that a new name is used.
    pub kind: Kind,
}

/// How the name stands there.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Kind {
    /// As a bare name.
    Bare,
    /// As a TOML key, perhaps in quotes.
    Key,
    /// In a TOML text: what stands before and behind it, decoded. A text may hold it more than once.
    InText(Vec<String>),
}

/// All places that name a target, in the order of the files.
#[must_use]
pub fn find(project: &Project, target: Target) -> Vec<Occurrence> {
    let mut finder = Finder {
        project,
        conditions: Conditions::new(&project.registry),
        target,
        name: target.name(&project.registry),
        found: Vec::new(),
    };
    for unit in &project.scripts {
        finder.script(unit);
    }
    let kinds = [FileKind::Config, FileKind::Registry, FileKind::Rehearsal];
    for file in kinds.into_iter().flat_map(|kind| project.sources.of_kind(kind)) {
        finder.toml(file);
    }
    finder.found.sort_by_key(|occurrence| occurrence.at);
    finder.found.dedup();
    finder.found
}

struct Finder<'p> {
    project: &'p Project,
    conditions: Conditions<'p>,
    target: Target,
    name: String,
    found: Vec<Occurrence>,
}

impl Finder<'_> {
    fn registry(&self) -> &Registry {
        &self.project.registry
    }

    // ---- scripts ----

    fn script(&mut self, unit: &ScriptUnit) {
        for span in self.in_unit(unit, &self.project.sources.file(unit.file).text) {
            self.found.push(Occurrence { at: unit.at(span), kind: Kind::Bare });
        }
    }

    /// The names of the target in a script, or in an expression with the tables of one.
    fn in_unit(&self, unit: &ScriptUnit, text: &str) -> Vec<Span> {
        let mut spans = Vec::new();
        for (at, expr) in unit.tree.exprs.iter().enumerate() {
            if let ExprKind::Path(names) = &expr.kind {
                self.in_path(unit, unit.meanings[at], names, text, &mut spans);
            }
        }
        let slice = |name: Name| text.get(name.span.range()).unwrap_or("").to_owned();
        if let Some(header) = unit.tree.header {
            let names = [Some(header.owner), header.scene];
            spans.extend(names.into_iter().flatten().filter(|&name| self.is_owner(&slice(name))).map(|name| name.span));
        }
        for (&start, &named) in &unit.named {
            let meant = match (named, self.target) {
                (Named::Owner(owner), Target::Owner(wanted)) => owner == wanted,
                (Named::Instance(instance), Target::Instance(wanted)) => instance == wanted,
                _ => false,
            };
            if meant {
                spans.push(Span::new(start as usize, start as usize + self.name.len()));
            }
        }
        for ty in types(unit) {
            self.in_type(ty, &slice, &mut spans);
        }
        spans
    }

    fn is_owner(&self, name: &str) -> bool {
        matches!(self.target, Target::Owner(owner) if *self.registry().owner(owner).name == *name)
    }

    fn in_type(&self, ty: TypeName, slice: &dyn Fn(Name) -> String, spans: &mut Vec<Span>) {
        let registry = self.registry();
        let first = slice(ty.first);
        if self.is_owner(&first) {
            spans.push(ty.first.span);
        }
        if let (Some(second), Target::Variable(id)) = (ty.second, self.target)
            && registry.find(&format!("{first}.{}", slice(second))) == Some(id)
        {
            spans.push(second.span);
        }
    }

    /// A path's names from the last to the first: what is left of a bound or an axis, then the places that hold one another,
    /// then perhaps an owner, an instance or `self`.
    fn in_path(&self, unit: &ScriptUnit, meaning: Meaning, names: &[Name], text: &str, spans: &mut Vec<Span>) {
        let slice = |name: Name| text.get(name.span.range()).unwrap_or("");
        let (place, mut left) = match meaning {
            Meaning::Value(place) => (place, names.len()),
            Meaning::Axis(place, _) | Meaning::Bound(place, _) => (place, names.len().saturating_sub(1)),
            Meaning::Instance(_) | Meaning::Owner(_) => {
                if let [only] = names
                    && self.is_head(slice(*only))
                {
                    spans.push(only.span);
                }
                return;
            }
            _ => return,
        };
        let mut place = unit.place(place);
        while let Place::Variable(variable, base) = place {
            let Some(index) = left.checked_sub(1) else { return };
            left = index;
            if self.target == Target::Variable(variable) {
                spans.push(names[index].span);
            }
            match base {
                Base::Held(held) => place = unit.place(held),
                _ => break,
            }
        }
        if let (Place::Variable(..), 1) = (place, left)
            && self.is_head(slice(names[0]))
        {
            spans.push(names[0].span);
        }
    }

    /// Whether the first name of a path means the target: the owner's name, or the instance's.
    fn is_head(&self, name: &str) -> bool {
        match self.target {
            Target::Variable(_) => false,
            Target::Owner(_) | Target::Instance(_) => self.name == name,
        }
    }

    // ---- TOML ----

    fn toml(&mut self, file: FileId) {
        let source = self.project.sources.file(file);
        let kind = source.kind;
        for word in toml::words(&source.text) {
            let at = Location { file, span: word.span };
            if word.is_key {
                if self.key_means(kind, &word) {
                    self.found.push(Occurrence { at, kind: Kind::Key });
                } else if let Some(parts) = self.split_identity(&word.text).filter(|_| kind == FileKind::Rehearsal) {
                    self.found.push(Occurrence { at, kind: Kind::InText(parts) });
                }
            } else if let Some(parts) = self.text_parts(kind, &word, file) {
                self.found.push(Occurrence { at, kind: Kind::InText(parts) });
            }
        }
    }

    fn key_means(&self, kind: FileKind, word: &Word) -> bool {
        let registry = self.registry();
        let path: Vec<&str> = word.path.iter().map(String::as_str).collect();
        let owner_of = |name: &str| registry.find_owner(name);
        match (kind, self.target, &path[..]) {
            (FileKind::Registry, Target::Variable(id), ["variables", owner, name]) => {
                owner_of(owner).and_then(|owner| registry.member(owner, name)) == Some(id)
            }
            (FileKind::Registry, Target::Variable(id), ["instances", instance, "start", name]) => {
                let of = registry.instances.iter().find(|known| *known.name == **instance).map(|known| known.of);
                of.and_then(|of| registry.member(of, name)) == Some(id)
            }
            (FileKind::Registry, Target::Owner(_), ["owners" | "variables", name]) => self.name == *name,
            (FileKind::Registry, Target::Owner(_) | Target::Instance(_), ["instances", name]) => self.name == *name,
            // `given.dawn_boat.parcels = 1`, with the dot as a table's.
            (FileKind::Rehearsal, Target::Variable(id), ["given", whose, name] | ["step", "set", whose, name]) => {
                self.means(&format!("{whose}.{name}"), id)
            }
            (FileKind::Rehearsal, _, ["given", whose] | ["step", "set", whose]) => self.is_head(whose),
            _ => false,
        }
    }

    /// Whether `WHOSE.NAME` of a rehearsal or a bound means a variable.
    fn means(&self, identity: &str, id: VarId) -> bool {
        let registry = self.registry();
        let Some((whose, name)) = identity.rsplit_once('.') else { return false };
        let listed = registry.instances.iter().find(|known| *known.name == *whose).map(|known| known.of);
        let made = whose.split_once(' ').map_or(whose, |(actor, _)| actor);
        let owner = registry.find_owner(whose).or(listed).or_else(|| registry.find_owner(made));
        owner.and_then(|owner| registry.member(owner, name)) == Some(id)
    }

    /// A text `WHOSE.NAME`, cut where the target's name stands in it.
    fn split_identity(&self, text: &str) -> Option<Vec<String>> {
        let (whose, name) = text.rsplit_once('.')?;
        match self.target {
            Target::Variable(id) => self.means(text, id).then(|| vec![format!("{whose}."), String::new()]),
            Target::Owner(_) | Target::Instance(_) => {
                self.head_parts(whose).map(|parts| vec![parts[0].clone(), format!("{}.{name}", parts[1])])
            }
        }
    }

    /// `mailboat`, or `mailboat 2`.
    fn head_parts(&self, text: &str) -> Option<Vec<String>> {
        let rest = text.strip_prefix(self.name.as_str())?;
        let numbered = rest.strip_prefix(' ').is_some_and(|number| number.parse::<u32>().is_ok());
        (rest.is_empty() || numbered && self.is_actor()).then(|| vec![String::new(), rest.to_owned()])
    }

    fn is_actor(&self) -> bool {
        matches!(self.target, Target::Owner(owner) if self.registry().is_actor(owner))
    }

    /// A text value, cut where the target's name stands in it.
    fn text_parts(&self, kind: FileKind, word: &Word, file: FileId) -> Option<Vec<String>> {
        let path: Vec<&str> = word.path.iter().map(String::as_str).collect();
        let is_name = |parts: Option<Vec<String>>| parts.filter(|_| !matches!(self.target, Target::Variable(_)));
        match (kind, &path[..]) {
            (FileKind::Config, ["project", "first_scene"]) => is_name(self.head_parts(&word.text)),
            (FileKind::Registry, ["invariants", _, "holds"]) => self.in_invariant(word),
            (FileKind::Registry, ["variables", _, _, "min" | "max"] | ["variables", _, _, "retired", "use"]) => {
                self.split_identity(&word.text)
            }
            (FileKind::Registry, ["variables", owner, name, key]) => {
                let own = self.registry().find(&format!("{owner}.{name}")).map(|id| self.registry().var(id).ty);
                let names = matches!(*key, "of" | "writers")
                    || matches!((*key, own), ("default", Some(crate::registry::Type::Ref(_))));
                is_name(self.head_parts(&word.text)).filter(|_| names)
            }
            (FileKind::Registry, ["instances", _, "of" | "scene"]) => is_name(self.head_parts(&word.text)),
            (FileKind::Registry, ["instances", instance, "start", name]) => {
                let registry = self.registry();
                let of = registry.instances.iter().find(|known| *known.name == **instance).map(|known| known.of);
                let ty = of.and_then(|of| registry.member(of, name)).map(|id| registry.var(id).ty);
                is_name(self.head_parts(&word.text)).filter(|_| matches!(ty, Some(crate::registry::Type::Ref(_))))
            }
            (FileKind::Registry, ["signals", _, "parameters", _] | ["signals", _, "parameters", _, "type"]) => {
                is_name(self.head_parts(&word.text)).or_else(|| self.split_identity(&word.text))
            }
            (FileKind::Rehearsal, ["watch"]) => self.split_identity(&word.text),
            (FileKind::Rehearsal, ["step", "expect"]) => self.in_expectation(word, file),
            (FileKind::Rehearsal, ["step", "on" | "go"] | ["step", "with", _]) => is_name(self.head_parts(&word.text)),
            (FileKind::Rehearsal, ["given", name] | ["step", "set", name]) => {
                let is_ref = self.registry().var_ids().any(|id| {
                    matches!(self.registry().var(id).ty, crate::registry::Type::Ref(_)) && self.means(name, id)
                });
                is_name(self.head_parts(&word.text)).filter(|_| is_ref)
            }
            _ => None,
        }
    }

    fn in_invariant(&self, word: &Word) -> Option<Vec<String>> {
        let registry = self.registry();
        let at = registry.invariants.iter().position(|invariant| invariant.holds == word.text)?;
        let unit = &self.project.invariants[at].unit;
        self.cut(&word.text, self.in_unit(unit, &word.text))
    }

    fn in_expectation(&self, word: &Word, file: FileId) -> Option<Vec<String>> {
        let condition = self.conditions.read(&word.text, file).ok()?;
        self.cut(&word.text, self.in_unit(&condition.unit, &word.text))
    }

    fn cut(&self, text: &str, mut spans: Vec<Span>) -> Option<Vec<String>> {
        spans.sort_unstable();
        spans.dedup();
        if spans.is_empty() {
            return None;
        }
        let mut parts = Vec::new();
        let mut at = 0;
        for span in spans {
            parts.push(text.get(at..span.start as usize)?.to_owned());
            at = span.end as usize;
        }
        parts.push(text.get(at..)?.to_owned());
        Some(parts)
    }
}

/// All types that a script writes out.
fn types(unit: &ScriptUnit) -> Vec<TypeName> {
    let of = |parameters: &[Parameter]| parameters.iter().filter_map(|parameter| parameter.ty).collect::<Vec<_>>();
    let mut types: Vec<TypeName> = unit.tree.privates.iter().filter_map(|private| private.ty).collect();
    for handler in &unit.tree.handlers {
        if let Trigger::Signal { parameters, .. } = &handler.trigger {
            types.extend(of(parameters));
        }
    }
    for procedure in &unit.tree.procedures {
        types.extend(of(&procedure.parameters));
        types.extend(procedure.gives);
    }
    types
}
