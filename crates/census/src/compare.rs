//! What changed between two states of the registry, and what of it breaks saves that players have.

use crate::edit::type_key;
use crate::project::Project;
use crate::registry::read::bound_at_start;
use crate::registry::{Bound, End, Lifetime, Registry, Type, VarId};
use crate::words::{both, number};
use rustc_hash::FxHashSet;
use std::cmp::Ordering;

/// How alike two entries must be to be taken for one that was renamed.
const ALIKE: u32 = 7;

/// One thing that changed.
#[derive(Clone, PartialEq, Debug)]
pub struct Change {
    /// What it is about: a variable's identity as it is now; as it was, where it is gone.
    pub identity: String,
    /// The kind.
    pub kind: Kind,
    /// In plain words.
    pub text: String,
    /// Why it breaks saves, if it does.
    pub breaks: Option<String>,
}

/// The kinds of changes, in the order in which they are told.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
#[allow(missing_docs, reason = "the kinds say what they are")]
pub enum Kind {
    Removed,
    Renamed,
    Retyped,
    Rescoped,
    Narrowed,
    Widened,
    Values,
    Default,
    Writers,
    Lifetime,
    Other,
    Added,
}

impl Kind {
    /// The kind in a word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Removed => "removed",
            Self::Renamed => "renamed",
            Self::Retyped => "retyped",
            Self::Rescoped => "rescoped",
            Self::Narrowed => "narrowed",
            Self::Widened => "widened",
            Self::Values => "values",
            Self::Default => "default",
            Self::Writers => "writers",
            Self::Lifetime => "lifetime",
            Self::Other => "changed",
            Self::Added => "added",
        }
    }
}

/// Compares two states; the changes come by kind, then by identity.
#[must_use]
pub fn compare(old: &Project, new: &Project) -> Vec<Change> {
    let mut work = Compare { old: &old.registry, new: &new.registry, changes: Vec::new() };
    let pairs = work.pairs();
    for &(was, is) in &pairs {
        work.pair(was, is);
    }
    let (gone, come): (FxHashSet<VarId>, FxHashSet<VarId>) = pairs.into_iter().unzip();
    for id in work.old.var_ids().filter(|id| !gone.contains(id)) {
        work.removed(id);
    }
    for id in work.new.var_ids().filter(|id| !come.contains(id)) {
        let facts = work.new.var(id);
        let text = format!("{}, {}, {}", type_key(facts.ty), facts.scope.word(), work.new.starts_as(facts));
        work.tell(work.new.identity(id), Kind::Added, text, None);
    }
    work.entries();
    work.changes.sort_by(|a, b| (a.kind, &a.identity, &a.text).cmp(&(b.kind, &b.identity, &b.text)));
    work.changes
}

struct Compare<'p> {
    old: &'p Registry,
    new: &'p Registry,
    changes: Vec<Change>,
}

impl Compare<'_> {
    fn tell(&mut self, identity: String, kind: Kind, text: String, breaks: Option<String>) {
        self.changes.push(Change { identity, kind, text, breaks });
    }

    /// Which entry of the one state is which of the other: by identity, by what it was formerly called, then by content.
    fn pairs(&self) -> Vec<(VarId, VarId)> {
        let mut pairs: Vec<(VarId, VarId)> = Vec::new();
        let (mut gone, mut come) = (Vec::new(), Vec::new());
        for was in self.old.var_ids() {
            match self.new.find(&self.old.identity(was)) {
                Some(is) => pairs.push((was, is)),
                None => gone.push(was),
            }
        }
        come.extend(self.new.var_ids().filter(|&is| self.old.find(&self.new.identity(is)).is_none()));
        gone.retain(|&was| {
            let identity = self.old.identity(was);
            let Some(at) = come.iter().position(|&is| self.new.var(is).formerly.contains(&identity)) else {
                return true;
            };
            pairs.push((was, come.remove(at)));
            false
        });
        let mut alike: Vec<(u32, VarId, VarId)> = gone
            .iter()
            .flat_map(|&was| come.iter().map(move |&is| (was, is)))
            .map(|(was, is)| (self.likeness(was, is), was, is))
            .filter(|(likeness, ..)| *likeness >= ALIKE)
            .collect();
        alike.sort_by(|a, b| b.0.cmp(&a.0).then((a.1, a.2).cmp(&(b.1, b.2))));
        let (mut used_old, mut used_new) = (FxHashSet::default(), FxHashSet::default());
        for (_, was, is) in alike {
            if !used_old.contains(&was) && !used_new.contains(&is) {
                used_old.insert(was);
                used_new.insert(is);
                pairs.push((was, is));
            }
        }
        pairs
    }

    /// How much two entries have in common; nothing where they could not stand for each other.
    fn likeness(&self, was: VarId, is: VarId) -> u32 {
        let (a, b) = (self.old.var(was), self.new.var(is));
        if type_key(a.ty) != type_key(b.ty) || a.scope != b.scope {
            return 0;
        }
        let owners = (&self.old.owner(a.owner).name, &self.new.owner(b.owner).name);
        let same_about = a.about.is_some() && a.about == b.about;
        let points = [
            (self.old.starts_as(a) == self.new.starts_as(b), 2),
            (self.range(was, true) == self.range(is, false), 2),
            (a.values == b.values, 1),
            (same_about, 4),
            (owners.0 == owners.1, 1),
            (a.name == b.name, 3),
            (a.unit == b.unit && a.lifetime == b.lifetime && a.constant == b.constant, 1),
            (a.slot.is_some() && a.slot == b.slot, 4),
            (strsim::normalized_damerau_levenshtein(&a.name, &b.name) > 0.6, 1),
        ];
        points.iter().filter(|(same, _)| *same).map(|(_, points)| points).sum()
    }

    fn range(&self, id: VarId, old: bool) -> [Option<f64>; 2] {
        let registry = if old { self.old } else { self.new };
        [End::Min, End::Max].map(|end| registry.var(id).bound(end).and_then(|bound| bound_at_start(bound, registry)))
    }

    fn removed(&mut self, id: VarId) {
        let facts = self.old.var(id);
        let breaks = (facts.lifetime == Lifetime::Saved).then(|| "saves hold a value that nothing reads".to_owned());
        let text = format!("was {}, {}", type_key(facts.ty), facts.scope.word());
        self.tell(self.old.identity(id), Kind::Removed, text, breaks);
    }

    fn pair(&mut self, was: VarId, is: VarId) {
        let (a, b) = (self.old.var(was), self.new.var(is));
        let identity = self.new.identity(is);
        let saved = a.lifetime == Lifetime::Saved;
        let breaks = |why: &str| saved.then(|| why.to_owned());
        let old_name = self.old.identity(was);
        if old_name != identity {
            let known = b.formerly.contains(&old_name);
            let why = format!("saves know it as `{old_name}`: write `formerly = [\"{old_name}\"]`");
            let text = if known { format!("was `{old_name}`") } else { format!("was `{old_name}`, by its content") };
            self.tell(identity.clone(), Kind::Renamed, text, breaks(&why).filter(|_| !known));
        }
        let (old_type, new_type) = (type_key(a.ty), type_key(b.ty));
        if old_type != new_type {
            let text = format!("{old_type} → {new_type}");
            self.tell(identity.clone(), Kind::Retyped, text, breaks("saves hold a value of the old type"));
        }
        if a.scope != b.scope {
            let text = format!("{} → {}", a.scope.word(), b.scope.word());
            self.tell(identity.clone(), Kind::Rescoped, text, breaks("saves hold it for another scope"));
        }
        self.ranges(was, is, &identity, saved);
        self.values(was, is, &identity, saved);
        let (old_start, new_start) = (self.old.starts_as(a), self.new.starts_as(b));
        if old_start != new_start {
            self.tell(identity.clone(), Kind::Default, format!("{old_start} → {new_start}"), None);
        }
        let writers = |registry: &Registry, id: VarId| match &registry.var(id).writers {
            None => "anyone".to_owned(),
            Some(owners) if owners.is_empty() => "its owner".to_owned(),
            Some(owners) => {
                let names: Vec<&str> = owners.iter().map(|&owner| &*registry.owner(owner).name).collect();
                format!("its owner, {}", both(&names))
            }
        };
        let (old_writers, new_writers) = (writers(self.old, was), writers(self.new, is));
        if old_writers != new_writers {
            self.tell(identity.clone(), Kind::Writers, format!("{old_writers} → {new_writers}"), None);
        }
        if a.lifetime != b.lifetime {
            let text = format!("{} → {}", a.lifetime.word(), b.lifetime.word());
            let why = "it is no longer saved: what players have is lost";
            self.tell(identity.clone(), Kind::Lifetime, text, breaks(why));
        }
        self.others(was, is, identity);
    }

    fn ranges(&mut self, was: VarId, is: VarId, identity: &str, saved: bool) {
        let (old, new) = (self.range(was, true), self.range(is, false));
        let (names_old, names_new) = (self.bound_names(was, true), self.bound_names(is, false));
        if old == new && names_old == names_new {
            return;
        }
        let ends = |range: [Option<f64>; 2]| [range[0].unwrap_or(f64::NEG_INFINITY), range[1].unwrap_or(f64::INFINITY)];
        let (from, to) = (ends(old), ends(new));
        let text = format!("{} → {}", range_text(old, &names_old), range_text(new, &names_new));
        let narrowed = to[0].total_cmp(&from[0]) == Ordering::Greater || to[1].total_cmp(&from[1]) == Ordering::Less;
        if narrowed {
            let breaks = saved.then(|| "saves may hold a value that is outside now".to_owned());
            self.tell(identity.to_owned(), Kind::Narrowed, text, breaks);
        } else if old != new {
            self.tell(identity.to_owned(), Kind::Widened, text, None);
        } else {
            self.tell(identity.to_owned(), Kind::Other, format!("range: {text}"), None);
        }
    }

    fn bound_names(&self, id: VarId, old: bool) -> [Option<String>; 2] {
        let registry = if old { self.old } else { self.new };
        [End::Min, End::Max].map(|end| match registry.var(id).bound(end) {
            Some(Bound::Variable(other)) => Some(registry.identity(*other)),
            _ => None,
        })
    }

    fn values(&mut self, was: VarId, is: VarId, identity: &str, saved: bool) {
        let (old, new) = (&self.old.var(was).values, &self.new.var(is).values);
        if old == new || old.is_empty() || new.is_empty() {
            return;
        }
        let gone: Vec<&str> = old.iter().filter(|value| !new.contains(value)).map(|value| &**value).collect();
        let come: Vec<&str> = new.iter().filter(|value| !old.contains(value)).map(|value| &**value).collect();
        let text = match (gone.is_empty(), come.is_empty()) {
            (true, true) => "the same values in another order".to_owned(),
            (true, false) => format!("new: {}", both(&come)),
            (false, true) => format!("gone: {}", both(&gone)),
            (false, false) => format!("gone: {}; new: {}", both(&gone), both(&come)),
        };
        let breaks = (saved && !gone.is_empty()).then(|| format!("saves may hold {}", both(&gone)));
        self.tell(identity.to_owned(), Kind::Values, text, breaks);
    }

    fn others(&mut self, was: VarId, is: VarId, identity: String) {
        let (a, b) = (self.old.var(was), self.new.var(is));
        let yes = |value: bool| if value { "yes" } else { "no" }.to_owned();
        let some = |value: &Option<String>| value.clone().unwrap_or_else(|| "none".to_owned());
        let of = |registry: &Registry, ty: Type| match ty {
            Type::Ref(Some(actor)) => registry.owner(actor).name.to_string(),
            _ => "any".to_owned(),
        };
        let facts = [
            ("of", of(self.old, a.ty), of(self.new, b.ty)),
            ("overflow", format!("{:?}", a.overflow).to_lowercase(), format!("{:?}", b.overflow).to_lowercase()),
            ("constant", yes(a.constant), yes(b.constant)),
            ("read by the engine", yes(a.engine_reads), yes(b.engine_reads)),
            ("written by the engine", yes(a.engine_writes), yes(b.engine_writes)),
            ("placeholder", yes(a.placeholder), yes(b.placeholder)),
            ("unit", some(&a.unit), some(&b.unit)),
            ("steward", some(&a.steward), some(&b.steward)),
            ("about", some(&a.about), some(&b.about)),
            ("slot", format!("{:?}", a.slot), format!("{:?}", b.slot)),
            ("retired", yes(a.retired.is_some()), yes(b.retired.is_some())),
            ("tags", a.tags.join(", "), b.tags.join(", ")),
        ];
        for (what, old, new) in facts {
            if old != new {
                let plain = |text: String| text.replace("Some(", "").replace(')', "").replace("None", "none");
                let (old, new) = if what == "slot" { (plain(old), plain(new)) } else { (old, new) };
                self.tell(identity.clone(), Kind::Other, format!("{what}: {old} → {new}"), None);
            }
        }
    }

    /// Owners, instances, signals and invariants: what came and what went.
    fn entries(&mut self) {
        let lists = |registry: &Registry| -> Vec<(&'static str, String)> {
            let owners = registry.owners.iter().map(|owner| ("owner", owner.name.to_string()));
            let listed = registry.instances.iter().filter(|instance| instance.place.is_some());
            let instances = listed.map(|instance| ("instance", instance.name.to_string()));
            let signals = registry.signals.iter().map(|signal| ("signal", signal.name.to_string()));
            let invariants = registry.invariants.iter().map(|invariant| ("invariant", invariant.name.to_string()));
            owners.chain(instances).chain(signals).chain(invariants).collect()
        };
        let (old, new) = (lists(self.old), lists(self.new));
        for (what, name) in old.iter().filter(|entry| !new.contains(entry)) {
            self.tell(name.clone(), Kind::Removed, format!("the {what}"), None);
        }
        for (what, name) in new.iter().filter(|entry| !old.contains(entry)) {
            self.tell(name.clone(), Kind::Added, format!("the {what}"), None);
        }
    }
}

fn range_text(range: [Option<f64>; 2], names: &[Option<String>; 2]) -> String {
    let end = |at: usize, open: &str| match (&names[at], range[at]) {
        (Some(name), Some(value)) => format!("{name} ({})", number(value)),
        (Some(name), None) => name.clone(),
        (None, Some(value)) => number(value),
        (None, None) => open.to_owned(),
    };
    format!("{} to {}", end(0, "any depth"), end(1, "any height"))
}
