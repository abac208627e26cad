//! A project: the registry and the scripts with every name resolved to what it means.
//!
//! Built once by [`build`] and read-only from then on: the flow analysis and the rules share it. What a name or an
//! expression means stands in flat tables beside each script's tree, indexed by [`ExprId`] and [`LocalId`]; everything
//! that can hold a value is a [`Place`], interned per script.

pub mod build;
pub mod builtin;
pub mod expression;
pub mod load;
mod names;
mod passing;
mod resolve;
mod steady;

pub use resolve::is_constant;

pub use build::build;

use crate::finding::Finding;
use crate::registry::config::Config;
use crate::registry::{End, InstanceId, Named, OwnerId, Registry, SignalId, Type, VarId, ids};
use crate::script::ast::{ExprId, ExprKind, LocalId, Script};
use crate::source::{FileId, Location, Sources, Span};
use builtin::Builtin;
use rustc_hash::{FxHashMap, FxHashSet};

/// How many `let`s are followed, each to what it is given.
const MOST_LETS: usize = 8;

ids! {
    /// A script, in script order.
    ScriptId,
    /// Something that can hold a value, as one script names it.
    PlaceId,
    /// State that outlives an activation: a registry variable, or a private.
    CellId,
    /// A procedure of a script.
    ProcId,
}

/// Which instance a variable is taken from.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum Base {
    /// None is needed: there is one value.
    One,
    /// The script's own instance.
    Own,
    /// A listed instance.
    Listed(InstanceId),
    /// The instance that another place holds.
    Held(PlaceId),
    /// Some instance, it can't be told which.
    Some,
}

/// Something that can hold a value.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum Place {
    /// A `let`, a parameter, a `for` or `as` name.
    Local(LocalId),
    /// A private, by its index in the script.
    Private(u32),
    /// A registry variable.
    Variable(VarId, Base),
    /// The old value, in `on changed`.
    Was,
}

/// What a path, or the head of a call, means.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub enum Meaning {
    /// Nothing; reported, or no name at all.
    None,
    /// The value of a place.
    Value(PlaceId),
    /// One number of a vector.
    Axis(PlaceId, u8),
    /// A bound of a variable.
    Bound(PlaceId, End),
    /// A listed instance.
    Instance(InstanceId),
    /// The script's own instance.
    Own,
    /// The word `scene`.
    Scene,
    /// A built-in function.
    Builtin(Builtin),
    /// A procedure of the script.
    Procedure(ProcId),
    /// `is ACTOR`, `scene is NAME`: the owner asked about.
    Owner(OwnerId),
}

/// A private, resolved.
#[derive(Clone, Debug)]
pub struct PrivateFacts {
    /// Its type.
    pub ty: Type,
    /// Its cell.
    pub cell: CellId,
}

/// A handler, resolved.
#[derive(Clone, Debug, Default)]
pub struct HandlerFacts {
    /// The signal it answers.
    pub signal: Option<SignalId>,
    /// The variable whose change it answers.
    pub changed: Option<PlaceId>,
    /// The parameters, in order; and the actor that each one lets pass.
    pub parameters: Vec<(LocalId, Option<OwnerId>)>,
}

/// A procedure, resolved.
#[derive(Clone, Debug)]
pub struct ProcFacts {
    /// The parameters, in order.
    pub parameters: Vec<LocalId>,
    /// The type of what it gives.
    pub gives: Option<Type>,
    /// Whether it waits, by itself or through one that it calls.
    pub waits: bool,
    /// What it reads, where it does nothing but work out a value from that.
    pub steady: Option<Vec<PlaceId>>,
    /// Whether it does nothing but give one of a few values that are written out, as the case may be.
    pub sorts: bool,
}

/// A script with the tables that say what its names mean.
#[derive(Debug)]
pub struct ScriptUnit {
    /// Its file.
    pub file: FileId,
    /// Its tree.
    pub tree: Script,
    /// Whose it is; none where the header is broken.
    pub owner: Option<OwnerId>,
    /// The scene it runs in: the header's, or the scene that owns it.
    pub scene: Option<OwnerId>,
    /// The type of each expression.
    pub types: Vec<Type>,
    /// The meaning of each expression that is a name.
    pub meanings: Vec<Meaning>,
    /// All places.
    pub places: Vec<Place>,
    /// The type of each place.
    pub place_types: Vec<Type>,
    /// The type of each local.
    pub local_types: Vec<Type>,
    /// The place of each local.
    pub local_places: Vec<PlaceId>,
    /// The value of each local that is a `let`, never set again, and not asked for after a wait unless it is a literal: whoever
    /// reads its name may as well read that.
    pub lets: Vec<Option<ExprId>>,
    /// What the names in statements mean that are no expressions (signals, actors, scenes), by their first byte.
    pub named: FxHashMap<u32, Named>,
    /// The privates.
    pub privates: Vec<PrivateFacts>,
    /// The handlers.
    pub handlers: Vec<HandlerFacts>,
    /// The procedures.
    pub procedures: Vec<ProcFacts>,
    /// Whether any of them gives something back.
    pub gives_values: bool,
    /// Names that were resolved bare: the declaring level, for the rules about names.
    pub bare_uses: Vec<BareUse>,
    /// Variables of one actor that are taken from names which may hold any, as far as reading tells.
    pub unchecked: Vec<Unchecked>,
    /// Names that only pass an instance on, each with a variable of it that those before and behind ask for.
    pub passed_on: Vec<(PlaceId, PlaceId)>,
    /// Names in stretches that could not be read: whatever has such a name may be used there.
    pub unread_names: FxHashSet<String>,
    /// The nearest names to those that mean nothing: what has such a name may be meant there.
    pub meant_names: FxHashSet<String>,
    /// Those of them that may be meant where something is written, or a procedure called.
    pub meant_targets: FxHashSet<String>,
    /// Where something is done to what means nothing: the targets of writes, and the signals that are sent.
    pub unread_acts: Vec<Span>,
    /// Whether a procedure is called that there is not, and that none is near to: what it may do nobody can tell.
    pub calls_nobody: bool,
    /// Tests in which something is wrong, and the targets of writes whose value is.
    pub mistaken: Vec<Span>,
    /// Targets of writes in which something is wrong, though they name a variable.
    pub mistaken_targets: Vec<Span>,
    /// Calls of procedures, and signals that are sent, with arguments in which something is wrong.
    pub mistaken_calls: Vec<Span>,
    /// What procedures give back in which something is wrong.
    pub mistaken_returns: Vec<Span>,
}

/// A variable of one actor, taken from a name that may hold any.
#[derive(Clone, Copy, Debug)]
pub struct Unchecked {
    /// The variable.
    pub variable: VarId,
    /// What it is taken from.
    pub base: Base,
    /// The variable's name.
    pub span: Span,
}

/// A bare name that means a variable of the registry.
#[derive(Clone, Copy, Debug)]
pub struct BareUse {
    /// The variable.
    pub variable: VarId,
    /// The name.
    pub span: Span,
}

impl ScriptUnit {
    /// Whether what has that name may be used where it could not be read, or was misspelled.
    #[must_use]
    pub fn may_use(&self, name: &str) -> bool {
        self.unread_names.contains(name) || self.meant_names.contains(name)
    }

    /// Whether all of the script could be read, and means something.
    #[must_use]
    pub fn is_read_whole(&self) -> bool {
        self.unread_names.is_empty()
            && self.meant_names.is_empty()
            && self.tree.skipped.is_empty()
            && self.tree.left_open.is_empty()
            && [&self.unread_acts, &self.mistaken, &self.mistaken_targets, &self.mistaken_calls, &self.mistaken_returns]
                .iter()
                .all(|mistaken| mistaken.is_empty())
    }

    /// Whether what could not be read, or means nothing, may write what has this name.
    #[must_use]
    pub fn may_write(&self, name: &str) -> bool {
        self.unread_names.contains(name) || self.meant_targets.contains(name)
    }

    /// Whether something behind a place, in the same body, could not be read: it may let others act.
    #[must_use]
    pub fn is_unread_behind(&self, at: Span) -> bool {
        let handlers = self.tree.handlers.iter().map(|handler| handler.span);
        let mut bodies = handlers.chain(self.tree.procedures.iter().map(|procedure| procedure.span));
        !self.tree.skipped.is_empty()
            && bodies.find(|body| body.contains(at)).is_some_and(|body| {
                self.tree.skipped.iter().any(|&skipped| skipped.start >= at.end && body.contains(skipped))
            })
    }

    /// The place of an id.
    #[inline]
    #[must_use]
    pub fn place(&self, id: PlaceId) -> Place {
        self.places[id.index()]
    }

    /// The type of an expression.
    #[inline]
    #[must_use]
    pub fn ty(&self, id: ExprId) -> Type {
        self.types[id.0 as usize]
    }

    /// The meaning of an expression.
    #[inline]
    #[must_use]
    pub fn meaning(&self, id: ExprId) -> Meaning {
        self.meanings[id.0 as usize]
    }

    /// The place that an expression names, whole or one number of it.
    #[inline]
    #[must_use]
    pub fn place_of(&self, id: ExprId) -> Option<PlaceId> {
        match self.meaning(id) {
            Meaning::Value(place) | Meaning::Axis(place, _) => Some(place),
            _ => None,
        }
    }

    /// What stands behind the name of a `let`: its value, or what stands behind that in turn. Other expressions stand for
    /// themselves.
    #[must_use]
    pub fn behind(&self, mut expr: ExprId) -> ExprId {
        for _ in 0..MOST_LETS {
            let Meaning::Value(place) = self.meaning(expr) else { break };
            let Place::Local(local) = self.place(place) else { break };
            let Some(value) = self.lets[local.0 as usize] else { break };
            expr = value;
        }
        expr
    }

    /// The calls of a procedure, with what they pass.
    pub fn calls_of(&self, id: ProcId) -> impl Iterator<Item = (ExprId, &[ExprId])> {
        let all = (0..).map(ExprId).zip(&self.tree.exprs);
        all.filter_map(move |(call, expr)| match &expr.kind {
            ExprKind::Call(_, arguments) if self.meaning(call) == Meaning::Procedure(id) => Some((call, &**arguments)),
            _ => None,
        })
    }

    /// A stretch and, where it stands in a procedure, the calls by which it is reached.
    #[must_use]
    pub fn ways_to(&self, at: Span) -> Vec<Span> {
        let mut ways = vec![at];
        let mut called: Vec<usize> = Vec::new();
        let mut next = 0;
        while let Some(&at) = ways.get(next) {
            next += 1;
            let around = self.tree.procedures.iter().position(|procedure| procedure.body.span.contains(at));
            if let Some(id) = around.filter(|id| !called.contains(id)) {
                called.push(id);
                ways.extend(self.calls_of(ProcId::at(id)).map(|(call, _)| self.tree.expr(call).span));
            }
        }
        ways
    }

    /// The owner that a name in a statement means.
    #[must_use]
    pub fn owner_named(&self, name: crate::script::ast::Name) -> Option<OwnerId> {
        match self.named.get(&name.span.start) {
            Some(Named::Owner(owner)) => Some(*owner),
            _ => None,
        }
    }

    /// The signal that a name in a statement means.
    #[must_use]
    pub fn signal_named(&self, name: crate::script::ast::Name) -> Option<SignalId> {
        match self.named.get(&name.span.start) {
            Some(Named::Signal(signal)) => Some(*signal),
            _ => None,
        }
    }

    /// A span of this script as a location.
    #[must_use]
    pub fn at(&self, span: Span) -> Location {
        Location { file: self.file, span }
    }
}

/// A cell: state that outlives an activation.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Cell {
    /// A registry variable.
    Variable(VarId),
    /// A private of a script.
    Private(ScriptId, u32),
}

/// An invariant whose expression was read.
#[derive(Debug)]
pub struct InvariantFacts {
    /// Its tree and tables, as a script without handlers.
    pub unit: ScriptUnit,
    /// The expression, if it is sound.
    pub holds: Option<ExprId>,
    /// The actor whose instances it speaks of.
    pub actor: Option<OwnerId>,
    /// The variables it names.
    pub variables: Vec<VarId>,
}

/// A project, read and resolved.
#[derive(Debug)]
pub struct Project {
    /// The files.
    pub sources: Sources,
    /// `oaken.toml`.
    pub config: Config,
    /// The registry.
    pub registry: Registry,
    /// The scripts, in script order.
    pub scripts: Vec<ScriptUnit>,
    /// The invariants, beside those of the registry.
    pub invariants: Vec<InvariantFacts>,
    /// All cells: the registry's variables first, under their own numbers.
    pub cells: Vec<Cell>,
    /// What reading and resolving found.
    pub findings: Vec<Finding>,
}

impl Project {
    /// The script of an id.
    #[inline]
    #[must_use]
    pub fn script(&self, id: ScriptId) -> &ScriptUnit {
        &self.scripts[id.index()]
    }

    /// All scripts with their ids.
    pub fn script_ids(&self) -> impl Iterator<Item = (ScriptId, &ScriptUnit)> {
        self.scripts.iter().enumerate().map(|(at, unit)| (ScriptId::at(at), unit))
    }

    /// The text of a span of a script.
    #[must_use]
    pub fn text(&self, unit: &ScriptUnit, span: Span) -> &str {
        self.sources.file(unit.file).slice(span)
    }

    /// The cell of a place, if it outlives an activation.
    #[must_use]
    pub fn cell_of(&self, unit: &ScriptUnit, place: PlaceId) -> Option<CellId> {
        match unit.place(place) {
            Place::Variable(variable, _) => Some(CellId(variable.0)),
            Place::Private(index) => Some(unit.privates[index as usize].cell),
            Place::Local(_) | Place::Was => None,
        }
    }

    /// The registry variable of a cell.
    #[must_use]
    pub fn variable_of(&self, cell: CellId) -> Option<VarId> {
        match self.cells[cell.index()] {
            Cell::Variable(variable) => Some(variable),
            Cell::Private(..) => None,
        }
    }

    /// A place as a designer would write it.
    #[must_use]
    pub fn place_name(&self, unit: &ScriptUnit, place: PlaceId) -> String {
        match unit.place(place) {
            Place::Local(local) => self.text(unit, unit.tree.local(local).name.span).to_owned(),
            Place::Private(index) => self.text(unit, unit.tree.privates[index as usize].name.span).to_owned(),
            Place::Variable(variable, base) => {
                let name = &self.registry.var(variable).name;
                match base {
                    Base::Own => name.to_string(),
                    Base::One if Some(self.registry.var(variable).owner) == unit.owner => name.to_string(),
                    Base::One | Base::Some => self.registry.identity(variable),
                    Base::Listed(instance) => format!("{}.{name}", self.registry.instance(instance).name),
                    Base::Held(held) => format!("{}.{name}", self.place_name(unit, held)),
                }
            }
            Place::Was => "was".to_owned(),
        }
    }
}
