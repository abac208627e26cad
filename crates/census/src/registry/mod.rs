//! The registry: what every gameplay variable is called, what it holds, whose it is and how far it may go.
//!
//! [`toml`] keeps a file as it stands, [`read`] turns files into the entries below, and [`config`] reads `oaken.toml`.
//! Everything that has a name has a dense id; entries keep the place of each of their keys, so that a finding can point
//! at the key that is wrong.

pub mod config;
pub mod format;
mod mend;
pub mod read;
pub mod toml;

use crate::source::{Location, Span};
use rustc_hash::{FxHashMap, FxHashSet};
use std::sync::Arc;

macro_rules! ids {
    ($($(#[$doc:meta])* $name:ident),* $(,)?) => {$(
        $(#[$doc])*
        #[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
        pub struct $name(pub u32);
        impl $name {
            /// The id as an index.
            #[must_use]
            pub fn index(self) -> usize {
                self.0 as usize
            }

            /// The id of an index.
            #[must_use]
            pub fn at(index: usize) -> Self {
                Self(u32::try_from(index).unwrap_or(u32::MAX))
            }
        }
    )*};
}
pub(crate) use ids;

ids! {
    /// An owner.
    OwnerId,
    /// A registry variable.
    VarId,
    /// A listed instance, or the one that an actor without entries has.
    InstanceId,
    /// A declared signal.
    SignalId,
    /// An invariant.
    InvariantId,
}

/// What an owner is.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum OwnerKind {
    /// Always there, once.
    System,
    /// There while it is loaded.
    Scene,
    /// Placed or spawned in a scene.
    Actor {
        /// Whether many may be alive at a time.
        many: bool,
    },
}

/// An owner of variables.
#[derive(Clone, Debug)]
pub struct Owner {
    /// Its name.
    pub name: Arc<str>,
    /// What it is.
    pub kind: OwnerKind,
    /// What it is for.
    pub about: Option<String>,
    /// Who answers for it.
    pub steward: Option<String>,
    /// Its header.
    pub at: Location,
    /// Its variables, in order.
    pub variables: Vec<VarId>,
}

/// The type of a variable or an expression.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Type {
    /// Already reported as wrong; goes with everything.
    Unknown,
    /// `bool`
    Bool,
    /// A 64-bit whole number.
    Int,
    /// A 64-bit float.
    Number,
    /// `text`
    Text,
    /// One of the values of that variable.
    Enum(VarId),
    /// An instance of that actor, or of any.
    Ref(Option<OwnerId>),
    /// Two numbers.
    Vec2,
    /// Three numbers.
    Vec3,
}

impl Type {
    /// Whether it is `int` or `number`.
    #[must_use]
    pub fn is_numeric(self) -> bool {
        matches!(self, Self::Int | Self::Number)
    }

    /// Whether a value of this type is of the kind that the other one keeps, though perhaps not exactly of it.
    #[must_use]
    pub fn is_like(self, other: Self) -> bool {
        match other {
            Self::Int | Self::Number => self.is_numeric(),
            Self::Bool => self == Self::Bool,
            Self::Text | Self::Enum(_) => matches!(self, Self::Text | Self::Enum(_)),
            Self::Ref(_) => matches!(self, Self::Ref(_)),
            Self::Vec2 | Self::Vec3 | Self::Unknown => true,
        }
    }
}

/// How far a variable reaches.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Scope {
    /// A system's, one value.
    Global,
    /// A scene's, made anew each time it loads.
    Scene,
    /// One value for all instances of an actor.
    Type,
    /// A value for each instance of an actor.
    Instance,
}

impl Scope {
    /// The word in the registry.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Global => "global",
            Self::Scene => "scene",
            Self::Type => "type",
            Self::Instance => "instance",
        }
    }
}

/// How long a value is kept. Later ones live longer.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum Lifetime {
    /// Until the next run.
    Run,
    /// Until the program closes.
    Session,
    /// In the save file.
    Saved,
}

impl Lifetime {
    /// The word in the registry.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Run => "run",
            Self::Session => "session",
            Self::Saved => "saved",
        }
    }

    /// The lifetime of a word.
    #[must_use]
    pub fn parse(word: &str) -> Option<Self> {
        [Self::Run, Self::Session, Self::Saved].into_iter().find(|lifetime| lifetime.word() == word)
    }
}

/// What the game does with a write beyond the range.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Overflow {
    /// A fault.
    Error,
    /// The nearest value in the range is stored.
    Clamp,
    /// One past `max` is `min`.
    Wrap,
}

/// A constant value.
#[derive(Clone, PartialEq, Debug)]
#[allow(missing_docs, reason = "the kinds are those of `Type`")]
pub enum Value {
    Bool(bool),
    Int(i64),
    Number(f64),
    Text(Arc<str>),
    Ref(InstanceId),
    Vector(Vec<f64>),
}

impl Value {
    /// The value as a number, if it is one.
    #[must_use]
    #[allow(clippy::cast_precision_loss, reason = "the analysis rounds outward where it matters")]
    pub fn as_number(&self) -> Option<f64> {
        match self {
            Self::Int(value) => Some(*value as f64),
            Self::Number(value) => Some(*value),
            _ => None,
        }
    }
}

/// One end of a range.
#[derive(Clone, PartialEq, Debug)]
pub enum Bound {
    /// A fixed number.
    Number(f64),
    /// Another variable's value.
    Variable(VarId),
}

/// The end of a range meant.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum End {
    /// `min`
    Min,
    /// `max`
    Max,
}

impl End {
    /// The word in the registry.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Min => "min",
            Self::Max => "max",
        }
    }
}

/// Where the keys of an entry stand.
#[derive(Clone, Debug)]
pub struct EntryPlace {
    /// The entry's header, or its key where it has none.
    pub header: Location,
    /// Each key and its value.
    pub keys: Vec<(&'static str, Span)>,
}

impl EntryPlace {
    /// The place of a key; without that key, the header.
    #[must_use]
    pub fn key(&self, key: &str) -> Location {
        let found = self.keys.iter().find(|(name, _)| *name == key);
        found.map_or(self.header, |&(_, span)| Location { file: self.header.file, span })
    }

    /// Whether the entry has the key.
    #[must_use]
    pub fn has(&self, key: &str) -> bool {
        self.keys.iter().any(|(name, _)| *name == key)
    }
}

/// What marks a retired variable.
#[derive(Clone, Debug, Default)]
pub struct Retired {
    /// Since when.
    pub since: Option<String>,
    /// What to use instead.
    pub instead: Option<String>,
}

/// A registry variable.
#[derive(Clone, Debug)]
pub struct Variable {
    /// The name behind the dot.
    pub name: Arc<str>,
    /// Whose it is.
    pub owner: OwnerId,
    /// What it holds.
    pub ty: Type,
    /// How far it reaches.
    pub scope: Scope,
    /// What it starts as.
    pub default: Option<Value>,
    /// The lower end of its range.
    pub min: Option<Bound>,
    /// The upper end of its range.
    pub max: Option<Bound>,
    /// What happens to writes beyond it.
    pub overflow: Overflow,
    /// The values of an enum.
    pub values: Vec<Arc<str>>,
    /// Shown beside the value.
    pub unit: Option<String>,
    /// The game itself reads it.
    pub engine_reads: bool,
    /// The game itself writes it, at any time, within its range.
    pub engine_writes: bool,
    /// No script may write it.
    pub constant: bool,
    /// How long it is kept.
    pub lifetime: Lifetime,
    /// Whether the entry itself states the lifetime.
    pub lifetime_stated: bool,
    /// Who may write it beside its owner; none: anyone.
    pub writers: Option<Vec<OwnerId>>,
    /// A player should never read the default.
    pub placeholder: bool,
    /// The number by which an engine addresses it.
    pub slot: Option<i64>,
    /// Who answers for it, if not the owner's steward.
    pub steward: Option<String>,
    /// What it is for.
    pub about: Option<String>,
    /// Tags.
    pub tags: Vec<String>,
    /// What it was called before.
    pub formerly: Vec<String>,
    /// No longer to be used.
    pub retired: Option<Retired>,
    /// Where it all stands.
    pub place: EntryPlace,
}

impl Variable {
    /// A bound, if there is one.
    #[must_use]
    pub fn bound(&self, end: End) -> Option<&Bound> {
        match end {
            End::Min => self.min.as_ref(),
            End::Max => self.max.as_ref(),
        }
    }
}

/// A starting value of an instance.
#[derive(Clone, Debug)]
pub struct Start {
    /// The variable.
    pub variable: VarId,
    /// What it starts as.
    pub value: Value,
    /// The key and its value.
    pub at: Location,
}

/// An instance that exists without being spawned.
#[derive(Clone, Debug)]
pub struct Instance {
    /// Its name.
    pub name: Arc<str>,
    /// The actor.
    pub of: OwnerId,
    /// The scene it stands in; none: every scene.
    pub scene: Option<OwnerId>,
    /// Its own starting values.
    pub start: Vec<Start>,
    /// Its entry; none for the one that an actor without entries has.
    pub place: Option<EntryPlace>,
}

/// A parameter of a signal.
#[derive(Clone, Debug)]
pub struct SignalParameter {
    /// Its name.
    pub name: String,
    /// Its type.
    pub ty: Type,
    /// The least it can be.
    pub min: Option<f64>,
    /// The most it can be.
    pub max: Option<f64>,
}

/// A declared signal.
#[derive(Clone, Debug)]
pub struct Signal {
    /// Its name.
    pub name: Arc<str>,
    /// Whether the game sends it.
    pub from_engine: bool,
    /// Engine signals: whether everyone hears it.
    pub to_all: bool,
    /// Engine signals: whether one act may send it many times.
    pub bursts: bool,
    /// Its parameters, in order.
    pub parameters: Vec<SignalParameter>,
    /// Its entry.
    pub place: EntryPlace,
}

/// Something that must hold whenever a handler settles.
#[derive(Clone, Debug)]
pub struct Invariant {
    /// Its name.
    pub name: Arc<str>,
    /// The expression, as written.
    pub holds: String,
    /// What it is for.
    pub about: Option<String>,
    /// Its entry.
    pub place: EntryPlace,
}

/// What a name in the owners' shared space means.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Named {
    /// An owner.
    Owner(OwnerId),
    /// An instance.
    Instance(InstanceId),
    /// A signal.
    Signal(SignalId),
}

/// All entries of a project.
#[derive(Clone, Debug, Default)]
pub struct Registry {
    /// The owners.
    pub owners: Vec<Owner>,
    /// The variables.
    pub variables: Vec<Variable>,
    /// The instances.
    pub instances: Vec<Instance>,
    /// The signals.
    pub signals: Vec<Signal>,
    /// The invariants.
    pub invariants: Vec<Invariant>,
    /// Owners, instances and signals by name. An actor and its only instance share a name: the owner is meant.
    pub names: FxHashMap<Arc<str>, Named>,
    /// Variables by owner and name.
    pub by_identity: FxHashMap<(OwnerId, Arc<str>), VarId>,
    /// Variables by their short name.
    pub by_short_name: FxHashMap<Arc<str>, Vec<VarId>>,
    /// Words of files and entries that could not be read: they may be names of what is missing here.
    pub unread: FxHashSet<String>,
    /// Variables whose default was not of their type: what stands for it is what may have been meant.
    pub guessed: FxHashSet<VarId>,
    /// Variables in whose entries something beside the default is wrong: what they can hold nobody can tell.
    pub mistaken: FxHashSet<VarId>,
    /// Instances in whose starting values something is wrong.
    pub mistaken_starts: FxHashSet<InstanceId>,
    /// Instances by actor, once all are known.
    by_actor: FxHashMap<OwnerId, Vec<InstanceId>>,
}

impl Registry {
    /// The owner of an id.
    #[must_use]
    pub fn owner(&self, id: OwnerId) -> &Owner {
        &self.owners[id.index()]
    }

    /// The variable of an id.
    #[must_use]
    pub fn var(&self, id: VarId) -> &Variable {
        &self.variables[id.index()]
    }

    /// The instance of an id.
    #[must_use]
    pub fn instance(&self, id: InstanceId) -> &Instance {
        &self.instances[id.index()]
    }

    /// The signal of an id.
    #[must_use]
    pub fn signal(&self, id: SignalId) -> &Signal {
        &self.signals[id.index()]
    }

    /// All variable ids.
    pub fn var_ids(&self) -> impl Iterator<Item = VarId> + use<> {
        (0..self.variables.len()).map(VarId::at)
    }

    /// `owner.name`
    #[must_use]
    pub fn identity(&self, id: VarId) -> String {
        let variable = self.var(id);
        format!("{}.{}", self.owner(variable.owner).name, variable.name)
    }

    /// The variable of an identity.
    #[must_use]
    pub fn find(&self, identity: &str) -> Option<VarId> {
        let (owner, name) = identity.split_once('.')?;
        match self.names.get(owner)? {
            Named::Owner(owner) => self.member(*owner, name),
            _ => None,
        }
    }

    /// A variable of an owner.
    #[must_use]
    pub fn member(&self, owner: OwnerId, name: &str) -> Option<VarId> {
        self.by_short_name.get(name)?.iter().copied().find(|&id| self.var(id).owner == owner)
    }

    /// The owner of a name.
    #[must_use]
    pub fn find_owner(&self, name: &str) -> Option<OwnerId> {
        match self.names.get(name)? {
            Named::Owner(owner) => Some(*owner),
            _ => None,
        }
    }

    /// Whether an owner is a scene.
    #[must_use]
    pub fn is_scene(&self, id: OwnerId) -> bool {
        self.owner(id).kind == OwnerKind::Scene
    }

    /// Whether an owner is an actor.
    #[must_use]
    pub fn is_actor(&self, id: OwnerId) -> bool {
        matches!(self.owner(id).kind, OwnerKind::Actor { .. })
    }

    /// Whether an owner is an actor of which many may be alive.
    #[must_use]
    pub fn is_many(&self, id: OwnerId) -> bool {
        self.owner(id).kind == OwnerKind::Actor { many: true }
    }

    /// The instances of an actor.
    pub fn instances_of(&self, actor: OwnerId) -> impl Iterator<Item = InstanceId> + '_ {
        self.by_actor.get(&actor).into_iter().flatten().copied()
    }

    /// Puts down which instances each actor has.
    fn index_instances(&mut self) {
        self.by_actor.clear();
        for (at, instance) in self.instances.iter().enumerate() {
            self.by_actor.entry(instance.of).or_default().push(InstanceId::at(at));
        }
    }

    /// The one instance that is listed of an actor which is not `many`.
    #[must_use]
    pub fn only_instance(&self, actor: OwnerId) -> Option<InstanceId> {
        self.instances_of(actor).next().filter(|_| self.is_actor(actor) && !self.is_many(actor))
    }

    /// The starting value of a variable for an instance: its own, or the default.
    #[must_use]
    pub fn start_of(&self, variable: VarId, instance: InstanceId) -> Option<&Value> {
        self.own_start_of(variable, instance).or(self.var(variable).default.as_ref())
    }

    /// The starting value that an instance states for itself.
    #[must_use]
    pub fn own_start_of(&self, variable: VarId, instance: InstanceId) -> Option<&Value> {
        let own = self.instance(instance).start.iter().find(|start| start.variable == variable);
        own.map(|start| &start.value)
    }

    /// Whether some instance states a starting value of a variable for itself.
    #[must_use]
    pub fn has_own_start(&self, variable: VarId) -> bool {
        let mut instances = self.instances_of(self.var(variable).owner);
        instances.any(|instance| self.own_start_of(variable, instance).is_some())
    }

    /// What a variable starts as, with its unit, in words: without a default it is unset, and a `ref` is none.
    #[must_use]
    pub fn starts_as(&self, variable: &Variable) -> String {
        let unit = variable.unit.as_ref().map_or(String::new(), |unit| format!(" {unit}"));
        match (&variable.default, variable.ty) {
            (Some(value), _) => self.value_text(value) + &unit,
            (None, Type::Ref(_)) => "none".to_owned(),
            (None, _) => "unset".to_owned(),
        }
    }

    /// A type in the words of the language.
    #[must_use]
    pub fn type_word(&self, ty: Type) -> String {
        match ty {
            Type::Unknown => "unknown".to_owned(),
            Type::Bool => "bool".to_owned(),
            Type::Int => "int".to_owned(),
            Type::Number => "number".to_owned(),
            Type::Text => "text".to_owned(),
            Type::Enum(variable) => self.identity(variable),
            Type::Ref(Some(actor)) => self.owner(actor).name.to_string(),
            Type::Ref(None) => "actor".to_owned(),
            Type::Vec2 => "vec2".to_owned(),
            Type::Vec3 => "vec3".to_owned(),
        }
    }

    /// The text of a value.
    #[must_use]
    pub fn value_text(&self, value: &Value) -> String {
        match value {
            Value::Bool(value) => value.to_string(),
            Value::Int(value) => value.to_string(),
            Value::Number(value) => crate::words::number(*value),
            Value::Text(value) => format!("\"{value}\""),
            Value::Ref(instance) => self.instance(*instance).name.to_string(),
            Value::Vector(parts) => {
                let parts: Vec<String> = parts.iter().map(|&part| crate::words::number(part)).collect();
                format!("[{}]", parts.join(", "))
            }
        }
    }
}
