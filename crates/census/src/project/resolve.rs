//! Finds out what every name means and what type every expression has.
//!
//! One walk over a script, in the order in which it is read. Beside the names in scope the walk keeps *kinds*: places
//! known to hold an instance of one actor, because a test said so on every way to here (`other is parcel`). They hold
//! inside branches, after an early `return`, and to the right of `and` and `or`; an assignment ends them, and so does a
//! wait, for what others can assign meanwhile.

mod kinds;

use super::builtin::Builtin;
use super::names::NameTable;
use super::passing::{self, Taker};
use super::steady;
use super::*;
use crate::finding::{RuleName, reader_rules};
use crate::registry::read::type_of_word;
use crate::registry::{Named, OwnerKind, Scope};
use crate::script::ast::*;
use crate::script::lexer::{self, TokenKind};
use crate::words::{did_you_mean, nearest, offer};
use kinds::is_local;
use rustc_hash::FxHashMap;
use std::sync::Arc;

/// A script with its tables, and what was wrong in it.
pub struct Resolved {
    /// The script.
    pub unit: ScriptUnit,
    /// What was found.
    pub findings: Vec<Finding>,
}

/// Resolves a script.
#[must_use]
pub fn script(
    sources: &Sources,
    file: FileId,
    tree: Script,
    names: &NameTable<'_>,
    invariants: &[InvariantFacts],
) -> Resolved {
    let source = sources.file(file);
    let mut resolver = Resolver::new(source.text.clone(), file, &tree, names);
    if let Some(offset) = source.invalid_utf8 {
        let span = Span { start: offset, end: offset };
        resolver.report(reader_rules::SYNTAX, span, "this file is not UTF-8 from here on".to_owned());
    } else {
        for error in &tree.errors {
            resolver.report(reader_rules::SYNTAX, error.span, error.message.clone());
            resolver.set_help(error.help.clone());
        }
    }
    resolver.read_skipped(&tree);
    resolver.file(&tree);
    resolver.finish(tree, invariants)
}

/// Resolves an invariant's expression, in which `OWNER.x` of an actor means every instance's.
#[must_use]
pub fn invariant(text: &Arc<str>, file: FileId, tree: Script, expr: Option<ExprId>, names: &NameTable<'_>) -> Resolved {
    let mut resolver = Resolver::new(text.clone(), file, &tree, names);
    resolver.in_invariant = true;
    if let Some(expr) = expr {
        resolver.condition(&tree, expr);
    }
    resolver.finish(tree, &[])
}

/// Resolves what a rehearsal expects: a condition over the registry that may also ask what a label shows.
#[must_use]
pub fn expectation(text: &Arc<str>, file: FileId, tree: Script, expr: ExprId, names: &NameTable<'_>) -> Resolved {
    let mut resolver = Resolver::new(text.clone(), file, &tree, names);
    resolver.in_expectation = true;
    resolver.condition(&tree, expr);
    resolver.finish(tree, &[])
}

type Kinds = Vec<(PlaceId, OwnerId)>;

struct Resolver<'a> {
    text: Arc<str>,
    names: &'a NameTable<'a>,
    unit: ScriptUnit,
    findings: Vec<Finding>,
    interned: FxHashMap<Place, PlaceId>,
    /// Names in scope, innermost last.
    scope: Vec<(String, LocalId)>,
    privates: FxHashMap<String, u32>,
    procedures: FxHashMap<String, ProcId>,
    /// Parameters of procedures that state no type: they have that of what they are given.
    untyped: FxHashSet<LocalId>,
    kinds: Kinds,
    /// What a `let` that is never assigned again was given: a test through it tells what its value tells.
    definitions: FxHashMap<LocalId, ExprId>,
    /// The variable whose change is answered here.
    was: Option<Type>,
    gives: Option<Type>,
    in_procedure: Option<ProcId>,
    /// The call that is a statement of its own.
    stands_alone: Option<ExprId>,
    in_invariant: bool,
    in_expectation: bool,
    /// What is being read is written, or called.
    in_target: bool,
    silent: bool,
    /// Nobody knows whose the script is.
    homeless: bool,
    /// What sets the present handler off could not be read.
    unreadable: bool,
    loops: u32,
    /// The registry variables that the script writes, and through what.
    written: Vec<(VarId, Base)>,
    /// The instances that are passed on, and to whom.
    taken: Vec<(Taker, ExprId)>,
    /// How many waits have been met.
    waits: u32,
    /// By local: how many there were when its `let` was met.
    let_at: Vec<u32>,
}

impl<'a> Resolver<'a> {
    fn new(text: Arc<str>, file: FileId, tree: &Script, names: &'a NameTable<'a>) -> Self {
        let unit = ScriptUnit {
            file,
            tree: Script::default(),
            owner: None,
            scene: None,
            types: vec![Type::Unknown; tree.exprs.len()],
            meanings: vec![Meaning::None; tree.exprs.len()],
            places: Vec::new(),
            place_types: Vec::new(),
            local_types: vec![Type::Unknown; tree.locals.len()],
            local_places: vec![PlaceId(u32::MAX); tree.locals.len()],
            lets: vec![None; tree.locals.len()],
            named: FxHashMap::default(),
            privates: Vec::new(),
            handlers: Vec::new(),
            procedures: Vec::new(),
            bare_uses: Vec::new(),
            unchecked: Vec::new(),
            passed_on: Vec::new(),
            unread_names: FxHashSet::default(),
            meant_names: FxHashSet::default(),
            meant_targets: FxHashSet::default(),
            unread_acts: Vec::new(),
            calls_nobody: false,
            gives_values: false,
            mistaken: Vec::new(),
            mistaken_targets: Vec::new(),
            mistaken_calls: Vec::new(),
            mistaken_returns: Vec::new(),
        };
        Self {
            text,
            names,
            unit,
            findings: Vec::new(),
            interned: FxHashMap::default(),
            scope: Vec::new(),
            privates: FxHashMap::default(),
            procedures: FxHashMap::default(),
            untyped: FxHashSet::default(),
            kinds: Vec::new(),
            definitions: FxHashMap::default(),
            was: None,
            gives: None,
            in_procedure: None,
            stands_alone: None,
            in_invariant: false,
            in_expectation: false,
            in_target: false,
            silent: false,
            homeless: false,
            unreadable: false,
            loops: 0,
            written: Vec::new(),
            taken: Vec::new(),
            waits: 0,
            let_at: vec![0; tree.locals.len()],
        }
    }

    /// Keeps the words of what could not be read: they may be declared or used there.
    fn read_skipped(&mut self, tree: &Script) {
        for span in &tree.skipped {
            let (from, to) = (span.start as usize, (span.end as usize).min(self.text.len()));
            if self.text.is_char_boundary(from) && self.text.is_char_boundary(to) && from <= to {
                for token in lexer::tokens(&self.text, from, to) {
                    let text = &self.text[token.span.range()];
                    match token.kind {
                        TokenKind::Word => _ = self.unit.unread_names.insert(text.to_owned()),
                        // What a text prints stands in its tokens.
                        TokenKind::Text => {
                            self.unit.unread_names.extend(crate::words::names_in(text).map(str::to_owned))
                        }
                        _ => {}
                    }
                }
            }
        }
    }

    /// Whether a name may be one of what could not be read.
    fn is_unread(&self, name: &str) -> bool {
        self.unit.unread_names.contains(name) || self.registry().unread.contains(name)
    }

    fn finish(mut self, tree: Script, invariants: &[InvariantFacts]) -> Resolved {
        self.add_places_between();
        self.add_related_places(invariants);
        self.unit.tree = tree;
        let steady = steady::find(&self.unit);
        for (at, steady) in steady.into_iter().enumerate() {
            self.unit.procedures[at].sorts = steady.is_some() && steady::sorts(&self.unit, at);
            self.unit.procedures[at].steady = steady;
        }
        Resolved { unit: self.unit, findings: self.findings }
    }

    /// Interns the places that are known of names which only pass an instance on.
    fn add_places_between(&mut self) {
        for (name, variable) in passing::find(&self.unit, &self.taken) {
            let place = self.place(Place::Variable(variable, Base::Held(name)), self.registry().var(variable).ty);
            self.unit.passed_on.push((name, place));
        }
    }

    /// Somebody takes what an expression gives.
    fn taken_by(&mut self, taker: Taker, value: ExprId) {
        if matches!(self.unit.ty(value), Type::Ref(_)) {
            self.taken.push((taker, value));
        }
    }

    /// Interns the places that judging this script's writes needs beside those it names: the bounds of what it names,
    /// what its writes bound, and the other variables of the invariants that its writes touch.
    fn add_related_places(&mut self, invariants: &[InvariantFacts]) {
        let registry = self.registry();
        let beside = |variable: VarId, base: Base, home: Scope| match registry.var(variable).scope {
            Scope::Instance if home == Scope::Instance => Place::Variable(variable, base),
            Scope::Instance => Place::Variable(variable, Base::Some),
            _ => Place::Variable(variable, Base::One),
        };
        let mut wanted: Vec<Place> = Vec::new();
        self.written.sort_unstable();
        self.written.dedup();
        for &(variable, base) in &self.written {
            let home = registry.var(variable).scope;
            wanted.extend(self.names.bounded_by(variable).iter().map(|&other| beside(other, base, home)));
            for invariant in invariants.iter().filter(|invariant| invariant.variables.contains(&variable)) {
                wanted.extend(invariant.variables.iter().map(|&other| beside(other, base, home)));
            }
        }
        for place in wanted {
            if let Place::Variable(variable, _) = place {
                self.place(place, registry.var(variable).ty);
            }
        }
        let mut at = 0;
        while at < self.unit.places.len() {
            if let Place::Variable(variable, base) = self.unit.places[at] {
                let facts = registry.var(variable);
                for bound in [&facts.min, &facts.max].into_iter().flatten() {
                    if let crate::registry::Bound::Variable(other) = bound {
                        self.place(beside(*other, base, facts.scope), registry.var(*other).ty);
                    }
                }
            }
            at += 1;
        }
    }

    // ---- helpers ----

    fn registry(&self) -> &'a crate::registry::Registry {
        self.names.registry
    }

    fn slice(&self, span: Span) -> &str {
        self.text.get(span.range()).unwrap_or("")
    }

    fn name(&self, name: Name) -> String {
        self.slice(name.span).to_owned()
    }

    fn report(&mut self, rule: RuleName, span: Span, message: String) {
        if !self.silent {
            self.findings.push(Finding::new(rule, Location { file: self.unit.file, span }, message));
        }
    }

    fn set_help(&mut self, help: Option<String>) {
        if !self.silent
            && let (Some(finding), Some(help)) = (self.findings.last_mut(), help)
        {
            finding.help = Some(help);
        }
    }

    fn set_variable(&mut self, identity: String) {
        if !self.silent
            && let Some(finding) = self.findings.last_mut()
        {
            finding.variable = Some(identity);
        }
    }

    fn mismatch(&mut self, span: Span, message: String) {
        self.report(reader_rules::MISMATCH, span, message);
    }

    fn place(&mut self, place: Place, ty: Type) -> PlaceId {
        if let Some(&id) = self.interned.get(&place) {
            return id;
        }
        let id = PlaceId::at(self.unit.places.len());
        self.unit.places.push(place);
        self.unit.place_types.push(ty);
        self.interned.insert(place, id);
        id
    }

    fn type_word(&self, ty: Type) -> String {
        self.registry().type_word(ty)
    }

    // ---- declarations ----

    fn file(&mut self, tree: &Script) {
        self.header(tree);
        for private in &tree.privates {
            self.private(tree, private);
        }
        for procedure in &tree.procedures {
            self.declare_procedure(procedure);
        }
        self.find_waiting(tree);
        for handler in &tree.handlers {
            self.handler(tree, handler);
        }
        self.procedures_after_their_calls(tree);
    }

    /// Procedures whose parameters have no types of their own wait for what calls them to be read, where something does.
    fn procedures_after_their_calls(&mut self, tree: &Script) {
        let mut left: Vec<ProcId> = (0..tree.procedures.len()).map(ProcId::at).collect();
        while !left.is_empty() {
            let next = left.iter().position(|&id| self.knows_parameters(id)).unwrap_or(0);
            let id = left.remove(next);
            self.procedure(tree, id, &tree.procedures[id.index()]);
        }
    }

    fn knows_parameters(&self, id: ProcId) -> bool {
        let parameters = &self.unit.procedures[id.index()].parameters;
        parameters
            .iter()
            .all(|&local| !self.untyped.contains(&local) || self.unit.local_types[local.0 as usize] != Type::Unknown)
    }

    fn header(&mut self, tree: &Script) {
        let Some(header) = tree.header else {
            self.homeless = true;
            return;
        };
        let owner = self.name(header.owner);
        self.unit.owner = self.registry().find_owner(&owner);
        self.homeless = self.unit.owner.is_none();
        if self.homeless && !self.is_unread(&owner) {
            self.report(reader_rules::UNKNOWN_NAME, header.owner.span, format!("there is no owner `{owner}`"));
            let near = nearest(&owner, self.registry().owners.iter().map(|owner| &*owner.name));
            self.set_help(offer(&near).or_else(|| Some(format!("declare it in the registry: `[owners.{owner}]`"))));
            // The script is read as the nearest one's, so that not every name in it means nothing too.
            self.unit.owner = near.first().and_then(|near| self.registry().find_owner(near));
            self.homeless = self.unit.owner.is_none();
        }
        self.unit.scene = self.unit.owner.filter(|&owner| self.registry().is_scene(owner));
        if let Some(scene) = header.scene {
            self.unit.scene = self.scene_name(scene);
        }
    }

    /// The scene of that name; one that is misspelled is taken for the nearest, so that names of its variables mean something.
    fn scene_name(&mut self, name: Name) -> Option<OwnerId> {
        let text = self.name(name);
        let registry = self.registry();
        let found = registry.find_owner(&text).filter(|&owner| registry.is_scene(owner));
        self.remember(name, found.map(Named::Owner));
        if found.is_some() || self.is_unread(&text) {
            return found;
        }
        self.report(reader_rules::UNKNOWN_NAME, name.span, format!("there is no scene `{text}`"));
        let scenes = registry.owners.iter().filter(|owner| owner.kind == OwnerKind::Scene);
        let near = nearest(&text, scenes.map(|owner| &*owner.name));
        self.set_help(offer(&near));
        near.first().and_then(|meant| registry.find_owner(meant))
    }

    /// Keeps what a name in a statement means, for those that are no expressions.
    fn remember(&mut self, name: Name, meaning: Option<Named>) {
        if let Some(meaning) = meaning {
            self.unit.named.insert(name.span.start, meaning);
        }
    }

    fn actor_name(&mut self, name: Name) -> Option<OwnerId> {
        let text = self.name(name);
        let found = self.registry().find_owner(&text).filter(|&owner| self.registry().is_actor(owner));
        if found.is_none() && !self.is_unread(&text) {
            self.report(reader_rules::UNKNOWN_NAME, name.span, format!("there is no actor `{text}`"));
            let actors = self.registry().owners.iter().filter(|owner| matches!(owner.kind, OwnerKind::Actor { .. }));
            self.set_help(did_you_mean(&text, actors.map(|owner| &*owner.name)));
        }
        self.remember(name, found.map(Named::Owner));
        found
    }

    fn type_name(&mut self, ty: TypeName) -> Type {
        let text = self.slice(ty.span()).replace(char::is_whitespace, "");
        type_of_word(&text, self.registry()).unwrap_or_else(|| {
            let registry = self.registry();
            if self.is_unread(&text) || registry.find(&text).is_some_and(|id| registry.mistaken.contains(&id)) {
                return Type::Unknown;
            }
            self.report(reader_rules::UNKNOWN_NAME, ty.span(), format!("there is no type `{text}`"));
            let words = ["bool", "int", "number", "text", "vec2", "vec3", "actor"];
            let owners = self.registry().owners.iter().map(|owner| &*owner.name);
            self.set_help(did_you_mean(&text, words.into_iter().chain(owners)));
            Type::Unknown
        })
    }

    fn private(&mut self, tree: &Script, private: &Private) {
        let name = self.name(private.name);
        let index = u32::try_from(self.unit.privates.len()).unwrap_or(u32::MAX);
        let ty = private.ty.map_or(Type::Unknown, |ty| self.type_name(ty));
        if let Some(start) = private.start {
            self.value_for(tree, start, ty);
            if !is_constant(&self.unit, tree, start) {
                let span = tree.expr(start).span;
                self.mismatch(span, format!("`{name}` starts from a value that must be constant"));
                self.set_help(Some(format!("give `{name}` its first value in a handler `on start`")));
            }
        }
        if self.privates.insert(name.clone(), index).is_some() {
            self.report(
                reader_rules::DUPLICATE,
                private.name.span,
                format!("this script has a private `{name}` already"),
            );
        }
        self.unit.privates.push(PrivateFacts { ty, cell: CellId(u32::MAX) });
    }

    fn declare_procedure(&mut self, procedure: &Procedure) {
        let name = self.name(procedure.name);
        let id = ProcId::at(self.unit.procedures.len());
        for parameter in &procedure.parameters {
            match parameter.ty {
                Some(ty) => self.unit.local_types[parameter.local.0 as usize] = self.type_name(ty),
                None => _ = self.untyped.insert(parameter.local),
            }
        }
        let gives = procedure.gives.map(|ty| self.type_name(ty));
        if self.procedures.insert(name.clone(), id).is_some() {
            let message = format!("this script has a procedure `{name}` already");
            self.report(reader_rules::DUPLICATE, procedure.name.span, message);
        }
        let parameters = procedure.parameters.iter().map(|parameter| parameter.local).collect();
        self.unit.gives_values |= gives.is_some();
        self.unit.procedures.push(ProcFacts { parameters, gives, waits: false, steady: None, sorts: false });
    }

    /// The procedure that a call names.
    fn called(&self, tree: &Script, call: ExprId) -> Option<ProcId> {
        let ExprKind::Call(name, _) = &tree.expr(call).kind else { return None };
        self.procedures.get(self.slice(name.span)).copied()
    }

    /// Which procedures wait, by themselves or through others: a fixpoint over who calls whom.
    fn find_waiting(&mut self, tree: &Script) {
        let mut calls: Vec<Vec<ProcId>> = Vec::new();
        for (at, procedure) in tree.procedures.iter().enumerate() {
            let mut called = Vec::new();
            let mut waits = false;
            walk(&procedure.body, &mut |statement| match &statement.kind {
                StatementKind::Wait(_) | StatementKind::WaitUntil(_) | StatementKind::Ask { .. } => waits = true,
                StatementKind::Call(call) => called.extend(self.called(tree, *call)),
                _ => {}
            });
            self.unit.procedures[at].waits = waits;
            calls.push(called);
        }
        let mut callers: Vec<Vec<usize>> = vec![Vec::new(); calls.len()];
        for (at, called) in calls.iter().enumerate() {
            for id in called {
                callers[id.index()].push(at);
            }
        }
        let mut open: Vec<usize> = (0..calls.len()).filter(|&at| self.unit.procedures[at].waits).collect();
        while let Some(at) = open.pop() {
            for &caller in &callers[at] {
                if !self.unit.procedures[caller].waits {
                    self.unit.procedures[caller].waits = true;
                    open.push(caller);
                }
            }
        }
    }

    fn handler(&mut self, tree: &Script, handler: &Handler) {
        let mut facts = HandlerFacts::default();
        self.scope.clear();
        self.kinds.clear();
        self.was = None;
        self.in_procedure = None;
        self.unreadable = matches!(handler.trigger, Trigger::Unreadable);
        match &handler.trigger {
            Trigger::Signal { name, parameters } => self.signal_trigger(tree, *name, parameters, &mut facts),
            Trigger::Changed(path) => {
                facts.changed = self.changed_path(tree, *path);
                self.was = facts.changed.map(|place| self.unit.place_types[place.index()]);
                self.unreadable = self.was.is_none();
            }
            _ => {}
        }
        if let Some(when) = handler.when {
            self.condition(tree, when);
            self.learn(tree, when, true);
        }
        self.block(tree, &handler.body);
        self.was = None;
        self.unit.handlers.push(facts);
    }

    fn signal_trigger(&mut self, tree: &Script, name: Name, parameters: &[Parameter], facts: &mut HandlerFacts) {
        let text = self.name(name);
        let signal = match self.registry().names.get(text.as_str()) {
            Some(Named::Signal(id)) => Some(*id),
            _ => {
                self.unknown_signal(name);
                None
            }
        };
        facts.signal = signal;
        let declared = signal.map_or(&[][..], |id| &self.registry().signal(id).parameters);
        self.tell_parameters_apart(tree, parameters);
        for (at, parameter) in parameters.iter().enumerate() {
            let span = tree.local(parameter.local).name.span;
            let sent = declared.get(at).map(|declared| declared.ty);
            if signal.is_some() && sent.is_none() {
                let message = format!("the signal `{text}` has {}", crate::words::count(declared.len(), "parameter"));
                self.mismatch(span, message);
            }
            let mut ty = sent.unwrap_or(Type::Unknown);
            let mut filter = None;
            if let Some(written) = parameter.ty {
                let own = self.type_name(written);
                match (sent, own) {
                    (Some(Type::Ref(sent)), Type::Ref(Some(actor))) if sent.is_none() || sent == Some(actor) => {
                        filter = Some(actor); // What is gone by then does not pass, even where nothing else can come.
                        ty = own;
                    }
                    (Some(sent), own) if !self.goes_into(sent, own) => {
                        let message = format!(
                            "the signal `{text}` brings a `{}` here, not a `{}`",
                            self.type_word(sent),
                            self.type_word(own)
                        );
                        self.mismatch(written.span(), message);
                        ty = Type::Unknown;
                    }
                    _ => ty = own,
                }
            }
            self.declare(tree, parameter.local, ty);
            facts.parameters.push((parameter.local, filter));
        }
    }

    /// "did you mean …?"; what has one of these names counts as used here.
    fn meant<'n>(&mut self, name: &str, all: impl IntoIterator<Item = &'n str>) -> Option<String> {
        let near = nearest(name, all);
        if !self.silent {
            near.iter().for_each(|name| self.may_mean(name));
        }
        offer(&near)
    }

    fn unknown_signal(&mut self, name: Name) {
        let text = self.name(name);
        if self.is_unread(&text) {
            return;
        }
        self.report(reader_rules::UNKNOWN_SIGNAL, name.span, format!("no signal `{text}` is declared"));
        let registry = self.registry();
        let near = self.meant(&text, registry.signals.iter().map(|signal| &*signal.name));
        self.unit.meant_names.insert(text.clone());
        let declare = format!("declare it in the registry: `[signals.{text}]`");
        self.set_help(Some(near.map_or(declare.clone(), |near| format!("{near} Or {declare}"))));
    }

    fn changed_path(&mut self, tree: &Script, path: ExprId) -> Option<PlaceId> {
        self.expr(tree, path);
        let span = tree.expr(path).span;
        match self.unit.meaning(path) {
            Meaning::Value(place) => match self.unit.place(place) {
                Place::Variable(_, Base::Held(_)) => {
                    self.mismatch(span, "`on changed` names a variable straight, not through a `ref`".to_owned());
                    None
                }
                Place::Variable(..) | Place::Private(_) => Some(place),
                _ => None,
            },
            Meaning::None => None,
            _ => {
                self.mismatch(span, "`on changed` names a variable".to_owned());
                None
            }
        }
    }

    fn procedure(&mut self, tree: &Script, id: ProcId, procedure: &Procedure) {
        self.scope.clear();
        self.kinds.clear();
        self.was = None;
        self.gives = self.unit.procedures[id.index()].gives;
        self.in_procedure = Some(id);
        self.tell_parameters_apart(tree, &procedure.parameters);
        for parameter in &procedure.parameters {
            self.declare(tree, parameter.local, self.unit.local_types[parameter.local.0 as usize]);
        }
        self.block(tree, &procedure.body);
    }

    /// Each parameter has a name of its own.
    fn tell_parameters_apart(&mut self, tree: &Script, parameters: &[Parameter]) {
        let mut known: FxHashSet<String> = FxHashSet::default();
        for parameter in parameters {
            let name = tree.local(parameter.local).name;
            let text = self.name(name);
            if !known.insert(text.clone()) {
                let message = format!("there is a parameter `{text}` before this one already");
                self.report(reader_rules::DUPLICATE, name.span, message);
            }
        }
    }

    fn declare(&mut self, tree: &Script, local: LocalId, ty: Type) {
        self.unit.local_types[local.0 as usize] = ty;
        let name = self.name(tree.local(local).name);
        self.scope.push((name, local));
        self.unit.local_places[local.0 as usize] = self.place(Place::Local(local), ty);
    }

    // ---- statements ----

    /// Resolves a block; whether its end is never reached.
    fn block(&mut self, tree: &Script, block: &Block) -> bool {
        let depth = self.scope.len();
        let mut ends = false;
        for statement in &block.statements {
            ends |= self.statement(tree, statement);
        }
        self.scope.truncate(depth);
        ends
    }

    /// Resolves a statement; whether what follows it is never reached.
    fn statement(&mut self, tree: &Script, statement: &Statement) -> bool {
        match &statement.kind {
            StatementKind::Assign { target, op, value } => self.assign(tree, *target, *op, *value),
            StatementKind::Clear { target } => {
                self.target(tree, *target);
                self.need_target(tree, *target);
                self.forget(*target);
            }
            StatementKind::Let { local, value } => {
                let known = self.findings.len();
                let ty = self.expr(tree, *value);
                // What a mistaken value makes of the name nobody can tell.
                self.declare(tree, *local, if self.findings.len() > known { Type::Unknown } else { ty });
                self.taken_by(Taker::Local(*local), *value);
                self.definitions.insert(*local, *value);
                self.unit.lets[local.0 as usize] = Some(*value);
                self.let_at[local.0 as usize] = self.waits;
            }
            StatementKind::If { arms, otherwise } => return self.if_(tree, arms, otherwise.as_ref()),
            StatementKind::Match { subject, arms, otherwise } => {
                return self.match_(tree, *subject, arms, otherwise.as_ref());
            }
            StatementKind::While { condition, body } => self.while_(tree, *condition, body),
            StatementKind::Repeat { count, body } => {
                self.value_for(tree, *count, Type::Int);
                self.loop_body(tree, body, |_| {});
            }
            StatementKind::For { local, actor, filter, body } => self.for_(tree, *local, *actor, *filter, body),
            StatementKind::Wait(duration) => {
                self.duration(tree, *duration);
                self.forget_shared();
            }
            StatementKind::WaitUntil(condition) => {
                self.condition(tree, *condition);
                self.forget_shared();
                self.learn(tree, *condition, true);
            }
            StatementKind::After { delay, body } => {
                self.duration(tree, *delay);
                let kinds = self.kinds.clone();
                self.forget_shared();
                self.block(tree, body);
                self.kinds = kinds;
            }
            StatementKind::Send { signal, arguments, to } => self.send(tree, *signal, arguments, *to),
            StatementKind::Show { text, .. } | StatementKind::Note { text } => self.text_literal(tree, *text),
            StatementKind::Ask { text, choices } => return self.ask(tree, *text, choices),
            StatementKind::Spawn { actor, local } => {
                let actor = self.actor_name(*actor);
                if let Some(local) = local {
                    let ty = actor.map_or(Type::Unknown, |actor| Type::Ref(Some(actor)));
                    self.declare(tree, *local, ty);
                }
            }
            StatementKind::Remove(what) => {
                self.want_instance(tree, *what, "`remove`");
                return self.unit.meaning(*what) == Meaning::Own;
            }
            StatementKind::Go(scene) => {
                self.scene_name(*scene);
            }
            StatementKind::Restart => return true,
            StatementKind::Break => {
                if self.loops == 0 {
                    let help = "to leave the handler, write `return`".to_owned();
                    self.report(reader_rules::SYNTAX, statement.span, "`break` stands in no loop".to_owned());
                    self.set_help(Some(help));
                }
                return self.loops > 0;
            }
            StatementKind::Return(value) => {
                let known = self.findings.len();
                self.return_(tree, *value, statement.span);
                if self.findings.len() > known {
                    self.unit.mistaken_returns.push(statement.span);
                }
                return true;
            }
            StatementKind::Call(call) => {
                self.call_statement(tree, *call);
            }
            StatementKind::Hide { .. } => {}
        }
        false
    }

    fn assign(&mut self, tree: &Script, target: ExprId, op: AssignOp, value: ExprId) {
        let value_kinds = self.kinds.clone();
        let known = self.findings.len();
        let ty = self.target(tree, target);
        if op == AssignOp::Set && self.findings.len() > known {
            self.take_for_local(tree, target);
        }
        // The target is written, not read: a kind known of its old value says nothing about the new one.
        let ty = self.declared_type(target).unwrap_or(ty);
        self.unit.types[target.0 as usize] = ty;
        self.need_target(tree, target);
        let is_mistaken = self.findings.len() > known;
        let known = self.findings.len();
        let value_ty = if op == AssignOp::Set {
            self.value_for(tree, value, ty)
        } else {
            self.stepped(tree, target, ty, op, value)
        };
        if self.findings.len() > known || value_ty == Type::Unknown {
            self.unit.mistaken.push(tree.expr(target).span);
        } else if is_mistaken {
            self.unit.mistaken_targets.push(tree.expr(target).span);
        }
        self.kinds = value_kinds;
        self.forget(target);
        if let Some(Place::Local(local)) = self.unit.place_of(target).map(|place| self.unit.place(place)) {
            self.unit.lets[local.0 as usize] = None;
        }
        if let (Meaning::Value(place), Type::Ref(of), AssignOp::Set) = (self.unit.meaning(target), value_ty, op) {
            self.taken_by(Taker::Place(place), value);
            self.kinds.extend(of.map(|actor| (place, actor)));
        }
    }

    /// What is set and means nothing, nor nearly anything, was most likely to be a local: its uses are no further mistakes.
    fn take_for_local(&mut self, tree: &Script, target: ExprId) {
        let ExprKind::Path(names) = &tree.expr(target).kind else { return };
        let unhelped = self.findings.last().is_some_and(|finding| finding.help.is_none());
        if let ([name], Meaning::None, true) = (names.as_slice(), self.unit.meaning(target), unhelped) {
            let text = self.name(*name);
            self.set_help(Some(format!("to give a value a name of its own, write `let {text} = …`")));
            self.unit.unread_names.insert(text);
        }
    }

    fn declared_type(&self, target: ExprId) -> Option<Type> {
        match self.unit.meaning(target) {
            Meaning::Value(place) => Some(self.unit.place_types[place.index()]),
            _ => None,
        }
    }

    fn stepped(&mut self, tree: &Script, target: ExprId, ty: Type, op: AssignOp, value: ExprId) -> Type {
        let span = tree.expr(value).span;
        let value_ty = self.expr(tree, value);
        let vector = matches!(ty, Type::Vec2 | Type::Vec3);
        match (ty, value_ty) {
            (Type::Unknown, _) | (_, Type::Unknown) => {}
            _ if vector
                && (ty == value_ty || value_ty.is_numeric() && matches!(op, AssignOp::Multiply | AssignOp::Divide)) => {
            }
            (Type::Int | Type::Number, Type::Int | Type::Number) => {
                let fraction = value_ty == Type::Number || op == AssignOp::Divide;
                if ty == Type::Int && fraction {
                    let what = self.slice(tree.expr(target).span).to_owned();
                    let message = if op == AssignOp::Divide {
                        format!("`/` gives a number with a fraction, and `{what}` is an `int`")
                    } else {
                        format!("this is a number with a fraction, and `{what}` is an `int`")
                    };
                    self.report(reader_rules::FRACTION_LOST, span, message);
                    let sign = match op {
                        AssignOp::Add => "+",
                        AssignOp::Subtract => "-",
                        AssignOp::Multiply => "*",
                        _ => "/",
                    };
                    let text = self.slice(span).to_owned();
                    self.set_help(Some(format!("write `{what} = round({what} {sign} {text})`, or `floor`, or `ceil`")));
                }
            }
            (Type::Int | Type::Number, other) => {
                let message = format!("a number is wanted here, and this is a `{}`", self.type_word(other));
                self.mismatch(span, message);
            }
            (other, _) => {
                let what = self.slice(tree.expr(target).span).to_owned();
                let message = format!("`{what}` is a `{}` and can't be stepped", self.type_word(other));
                self.mismatch(span, message);
                let help = match other {
                    Type::Text => format!("texts are built with tokens: `{what} = \"{{{what}}} …\"`"),
                    _ => format!("write `{what} = {}`", self.slice(span)),
                };
                self.set_help(Some(help));
            }
        }
        value_ty
    }

    /// What is written.
    fn target(&mut self, tree: &Script, target: ExprId) -> Type {
        self.in_target = true;
        let ty = self.expr(tree, target);
        self.in_target = false;
        ty
    }

    /// What has this name may be meant here.
    fn may_mean(&mut self, name: &str) {
        self.unit.meant_names.insert(name.to_owned());
        if self.in_target {
            self.unit.meant_targets.insert(name.to_owned());
        }
    }

    /// A path that can be written.
    fn need_target(&mut self, tree: &Script, target: ExprId) {
        if let Some(place) = self.unit.place_of(target)
            && let Place::Variable(variable, base) = self.unit.place(place)
        {
            self.written.push((variable, base));
        }
        let span = tree.expr(target).span;
        let (what, help) = match self.unit.meaning(target) {
            Meaning::Bound(place, end) => {
                let bound = match self.unit.place(place) {
                    Place::Variable(variable, _) => self.registry().var(variable).bound(end).cloned(),
                    _ => None,
                };
                let help = match bound {
                    Some(crate::registry::Bound::Variable(id)) => format!("write `{}`", self.registry().identity(id)),
                    _ => "a bound that changes in play is a variable of its own: name it in the registry".to_owned(),
                };
                ("a bound is read only", Some(help))
            }
            Meaning::Instance(_) | Meaning::Own => ("an instance is no variable and can't be set", None),
            Meaning::Value(place) | Meaning::Axis(place, _) if self.unit.place(place) == Place::Was => {
                ("`was` is the old value and can't be set", None)
            }
            Meaning::Value(place) => match self.unit.place(place) {
                Place::Local(local) if tree.local(local).kind != LocalKind::Let => {
                    let what = match tree.local(local).kind {
                        LocalKind::Parameter => return,
                        LocalKind::For => "the name of a `for` can't be set",
                        _ => "the name of a `spawn` can't be set",
                    };
                    (what, Some("take a `let` of its own".to_owned()))
                }
                _ => return,
            },
            Meaning::None => return self.unit.unread_acts.push(span),
            Meaning::Axis(..) => return,
            _ => ("this can't be set", None),
        };
        self.mismatch(span, what.to_owned());
        self.set_help(help);
    }

    fn if_(&mut self, tree: &Script, arms: &[Arm], otherwise: Option<&Block>) -> bool {
        let mut ends: Vec<Kinds> = Vec::new();
        let definitions = self.definitions.clone();
        for arm in arms {
            let test = arm.tests[0];
            self.condition(tree, test);
            let before = self.kinds.clone();
            self.learn(tree, test, true);
            if !self.block(tree, &arm.body) {
                ends.push(std::mem::take(&mut self.kinds));
            }
            self.kinds = before;
            self.learn(tree, test, false);
        }
        let last_ends = otherwise.is_some_and(|block| self.block(tree, block));
        if !last_ends {
            ends.push(std::mem::take(&mut self.kinds));
        }
        self.definitions.retain(|local, value| definitions.get(local) == Some(value));
        self.merge(ends)
    }

    /// What is known where several ways meet; whether there is no way at all.
    fn merge(&mut self, ends: Vec<Kinds>) -> bool {
        let mut ends = ends.into_iter();
        let Some(first) = ends.next() else { return true };
        self.kinds = first;
        for other in ends {
            self.kinds.retain(|fact| other.contains(fact));
        }
        false
    }

    fn match_(&mut self, tree: &Script, subject: ExprId, arms: &[Arm], otherwise: Option<&Block>) -> bool {
        let ty = self.expr(tree, subject);
        let mut ends: Vec<Kinds> = Vec::new();
        let mut all_values = matches!(ty, Type::Enum(_) | Type::Bool);
        let mut seen: Vec<String> = Vec::new();
        for arm in arms {
            for &test in &arm.tests {
                self.compared(tree, test, ty);
                seen.push(self.slice(tree.expr(test).span).to_owned());
                if !is_constant(&self.unit, tree, test) && !self.is_constant_variable(test) {
                    let span = tree.expr(test).span;
                    self.mismatch(span, "an arm of a `match` is a constant".to_owned());
                    self.set_help(Some("compare other values with `if`".to_owned()));
                }
            }
            let before = self.kinds.clone();
            if !self.block(tree, &arm.body) {
                ends.push(self.kinds.clone());
            }
            self.kinds = before;
        }
        all_values &= match ty {
            Type::Enum(of) => self.registry().var(of).values.iter().all(|value| seen.contains(&format!("\"{value}\""))),
            Type::Bool => ["true", "false"].iter().all(|value| seen.iter().any(|seen| seen == value)),
            _ => false,
        };
        let ends_here = match otherwise {
            Some(block) => self.block(tree, block),
            None => all_values,
        };
        if !ends_here {
            ends.push(std::mem::take(&mut self.kinds));
        }
        self.definitions.clear();
        self.merge(ends)
    }

    fn is_constant_variable(&self, expr: ExprId) -> bool {
        match self.unit.meaning(expr) {
            Meaning::Value(place) => match self.unit.place(place) {
                Place::Variable(variable, _) => self.registry().var(variable).constant,
                _ => false,
            },
            Meaning::Bound(..) | Meaning::None | Meaning::Instance(_) => true,
            _ => false,
        }
    }

    fn while_(&mut self, tree: &Script, condition: ExprId, body: &Block) {
        self.before_loop(tree, body);
        self.condition(tree, condition);
        let before = self.kinds.clone();
        self.learn(tree, condition, true);
        self.loops += 1;
        self.block(tree, body);
        self.loops -= 1;
        self.kinds = before;
        self.definitions.clear();
        let mut breaks = false;
        walk(body, &mut |statement| breaks |= matches!(statement.kind, StatementKind::Break));
        if !breaks {
            self.learn(tree, condition, false);
        }
    }

    /// What the body assigns, or lets others assign, is not known when it begins again.
    fn before_loop(&mut self, tree: &Script, body: &Block) {
        let mut waits = false;
        let mut targets = Vec::new();
        walk(body, &mut |statement| match &statement.kind {
            StatementKind::Assign { target, .. } | StatementKind::Clear { target } => targets.push(*target),
            StatementKind::Wait(_) | StatementKind::WaitUntil(_) | StatementKind::Ask { .. } => waits = true,
            StatementKind::Call(call) => {
                waits |= self.called(tree, *call).is_some_and(|id| self.unit.procedures[id.index()].waits)
            }
            _ => {}
        });
        self.quietly(|resolver| {
            for target in targets {
                resolver.expr(tree, target);
                resolver.forget(target);
            }
        });
        if waits {
            self.forget_shared();
        }
        self.definitions.clear();
    }

    fn loop_body(&mut self, tree: &Script, body: &Block, enter: impl FnOnce(&mut Self)) {
        self.before_loop(tree, body);
        let before = self.kinds.clone();
        let depth = self.scope.len();
        enter(self);
        self.loops += 1;
        self.block(tree, body);
        self.loops -= 1;
        self.scope.truncate(depth);
        self.kinds = before;
        self.definitions.clear();
    }

    fn for_(&mut self, tree: &Script, local: LocalId, actor: Name, filter: Option<ExprId>, body: &Block) {
        let actor = self.actor_name(actor);
        let ty = actor.map_or(Type::Unknown, |actor| Type::Ref(Some(actor)));
        self.loop_body(tree, body, |this| {
            this.declare(tree, local, ty);
            if let Some(filter) = filter {
                this.condition(tree, filter);
                this.learn(tree, filter, true);
            }
        });
    }

    fn ask(&mut self, tree: &Script, text: ExprId, choices: &[Choice]) -> bool {
        self.text_literal(tree, text);
        for choice in choices {
            self.text_literal(tree, choice.text);
        }
        let asked = self.kinds.clone();
        self.forget_shared();
        let waited = self.kinds.clone();
        let mut ends: Vec<Kinds> = Vec::new();
        for choice in choices {
            if let Some(when) = choice.when {
                self.kinds = asked.clone();
                self.condition(tree, when);
            }
            self.kinds = waited.clone();
            if let Some(when) = choice.when {
                self.learn(tree, when, true);
                let places = &self.unit.places;
                self.kinds.retain(|&(known, _)| is_local(places, known));
            }
            if !self.block(tree, &choice.body) {
                ends.push(std::mem::take(&mut self.kinds));
            }
        }
        // With every choice hidden, nothing can be chosen and the activation waits for ever.
        if choices.is_empty() { false } else { self.merge(ends) }
    }

    fn send(&mut self, tree: &Script, signal: Name, arguments: &[ExprId], to: Option<ExprId>) {
        let text = self.name(signal);
        let declared = match self.registry().names.get(text.as_str()) {
            Some(Named::Signal(id)) => {
                self.remember(signal, Some(Named::Signal(*id)));
                Some(&self.registry().signal(*id).parameters)
            }
            _ => {
                self.unknown_signal(signal);
                self.unit.unread_acts.push(signal.span);
                None
            }
        };
        let known = self.findings.len();
        for (at, &argument) in arguments.iter().enumerate() {
            let wanted = declared.and_then(|declared| declared.get(at)).map_or(Type::Unknown, |declared| declared.ty);
            self.value_for(tree, argument, wanted);
        }
        if let Some(declared) = declared
            && declared.len() != arguments.len()
        {
            let span = arguments.get(declared.len()).map_or(signal.span, |&extra| tree.expr(extra).span);
            let wanted = crate::words::count(declared.len(), "parameter");
            self.mismatch(span, format!("the signal `{text}` has {wanted}, and {} given", arguments.len()));
        }
        if self.findings.len() > known {
            self.unit.mistaken_calls.push(signal.span);
        }
        if let Some(to) = to {
            self.want_instance(tree, to, "`send … to`");
        }
    }

    fn want_instance(&mut self, tree: &Script, expr: ExprId, what: &str) {
        let ty = self.expr(tree, expr);
        if !matches!(ty, Type::Ref(_) | Type::Unknown) {
            let message = format!("{what} wants an instance, and this is a `{}`", self.type_word(ty));
            self.mismatch(tree.expr(expr).span, message);
        }
    }

    fn return_(&mut self, tree: &Script, value: Option<ExprId>, span: Span) {
        match (value, self.gives.zip(self.in_procedure)) {
            (Some(value), Some((wanted, giver))) => {
                self.value_for(tree, value, wanted);
                self.taken_by(Taker::CallerOf(giver), value);
            }
            (Some(value), _) => {
                self.expr(tree, value);
                let in_procedure = self.in_procedure.is_some();
                let what = if in_procedure { "this procedure gives no value" } else { "a handler gives no value" };
                self.mismatch(tree.expr(value).span, what.to_owned());
                if in_procedure {
                    self.set_help(Some("write `-> TYPE` behind its parameters".to_owned()));
                }
            }
            (None, Some((wanted, _))) => {
                let message =
                    format!("this procedure gives a `{}`, and this `return` gives nothing", self.type_word(wanted));
                self.mismatch(span, message);
            }
            _ => {}
        }
    }

    fn call_statement(&mut self, tree: &Script, call: ExprId) {
        self.stands_alone = Some(call);
        self.expr(tree, call);
        if let Meaning::Procedure(id) = self.unit.meaning(call)
            && self.unit.procedures[id.index()].waits
        {
            self.forget_shared();
        }
    }

    fn duration(&mut self, tree: &Script, duration: Duration) {
        if let Duration::Seconds(value) = duration {
            self.value_for(tree, value, Type::Number);
        }
    }

    /// A place in the grammar that takes one text literal.
    fn text_literal(&mut self, tree: &Script, text: ExprId) {
        if matches!(tree.expr(text).kind, ExprKind::Text(_)) {
            self.expr(tree, text);
            return;
        }
        self.quietly(|resolver| resolver.expr(tree, text));
        let span = tree.expr(text).span;
        self.mismatch(span, "here stands one text, in quotes".to_owned());
        let help = match &tree.expr(text).kind {
            ExprKind::Binary(BinaryOp::Add, ..) => {
                "texts are not joined with `+`: put the value into the text as a token, `\"… {value}\"`".to_owned()
            }
            _ => format!("write `\"{{{}}}\"`", self.slice(span)),
        };
        self.set_help(Some(help));
    }

    // ---- expressions ----

    fn condition(&mut self, tree: &Script, expr: ExprId) {
        let known = self.findings.len();
        self.read_condition(tree, expr);
        if self.findings.len() > known {
            self.unit.mistaken.push(tree.expr(expr).span);
        }
    }

    fn read_condition(&mut self, tree: &Script, expr: ExprId) {
        let ty = self.expr(tree, expr);
        if !matches!(ty, Type::Bool | Type::Unknown) {
            let message = format!("a condition is true or false, and this is a `{}`", self.type_word(ty));
            self.mismatch(tree.expr(expr).span, message);
            if ty.is_numeric() {
                let text = self.slice(tree.expr(expr).span).to_owned();
                self.set_help(Some(format!("compare it: `{text} > 0`, or `{text} != 0`")));
            }
        }
    }

    /// Whether a value of one type may stand where another is wanted.
    fn goes_into(&self, from: Type, to: Type) -> bool {
        match (from, to) {
            (Type::Unknown, _) | (_, Type::Unknown) | (Type::Int, Type::Number) | (Type::Enum(_), Type::Text) => true,
            (Type::Enum(a), Type::Enum(b)) => {
                let (a, b) = (self.registry().var(a), self.registry().var(b));
                a.values.iter().all(|value| b.values.contains(value))
            }
            (Type::Ref(_), Type::Ref(None)) => true,
            _ => from == to,
        }
    }

    /// An expression where a type is wanted; gives what it has.
    fn value_for(&mut self, tree: &Script, expr: ExprId, wanted: Type) -> Type {
        let ty = self.expr(tree, expr);
        let span = tree.expr(expr).span;
        match (&tree.expr(expr).kind, wanted) {
            (ExprKind::None, Type::Ref(_) | Type::Unknown) => return ty,
            (ExprKind::Text(parts), Type::Enum(of)) => {
                self.enum_text(parts, span, of);
                return wanted;
            }
            _ => {}
        }
        if self.goes_into(ty, wanted) {
            return ty;
        }
        if ty == Type::Number && wanted == Type::Int {
            let text = self.slice(span).to_owned();
            self.report(
                reader_rules::FRACTION_LOST,
                span,
                "a whole number is wanted here, and this can have a fraction".to_owned(),
            );
            self.set_help(Some(format!("write `floor({text})`, `ceil({text})` or `round({text})`")));
            return Type::Int;
        }
        let message = format!(
            "{} is wanted here, and this is {}",
            self.described(wanted),
            if matches!(tree.expr(expr).kind, ExprKind::None) { "`none`".to_owned() } else { self.described(ty) }
        );
        self.mismatch(span, message);
        let help = match (ty, wanted) {
            (Type::Text, Type::Enum(of)) => Some(format!(
                "an enum takes only its own values: {}",
                crate::words::either(&self.registry().var(of).values)
            )),
            (Type::Ref(_), Type::Ref(Some(actor))) => {
                let name = &self.registry().owner(actor).name;
                Some(format!("test it first: `if {} is {name} {{ … }}`", self.slice(span)))
            }
            (Type::Int | Type::Number | Type::Bool, Type::Text) => {
                Some(format!("write `\"{{{}}}\"`", self.slice(span)))
            }
            (Type::Text, Type::Int | Type::Number) => Some(format!("write `number({})`", self.slice(span))),
            _ => None,
        };
        self.set_help(help);
        wanted
    }

    fn described(&self, ty: Type) -> String {
        match ty {
            Type::Unknown => "something unknown".to_owned(),
            Type::Bool => "`true` or `false`".to_owned(),
            Type::Int => "a whole number".to_owned(),
            Type::Number => "a number".to_owned(),
            Type::Text => "a text".to_owned(),
            Type::Enum(of) => format!("a value of `{}`", self.registry().identity(of)),
            Type::Ref(Some(actor)) => format!("a `{}`", self.registry().owner(actor).name),
            Type::Ref(None) => "an instance of any actor".to_owned(),
            Type::Vec2 => "a `vec2`".to_owned(),
            Type::Vec3 => "a `vec3`".to_owned(),
        }
    }

    /// A literal that stands for an enum's value.
    fn enum_text(&mut self, parts: &[TextPart], span: Span, of: VarId) {
        let [TextPart::Plain(text)] = parts else {
            let message = format!("a value of `{}` is written plainly, without tokens", self.registry().identity(of));
            self.mismatch(span, message);
            return;
        };
        let values = &self.registry().var(of).values;
        // Fewer than two are a mistake in the entry, which was reported there.
        if values.len() < 2 || values.iter().any(|value| **value == **text) {
            return;
        }
        let identity = self.registry().identity(of);
        let message = format!("`{identity}` never is \"{text}\": its values are {}", crate::words::both(values));
        self.report(reader_rules::UNKNOWN_VALUE, span, message);
        let help = did_you_mean(text, values.iter().map(|value| &**value))
            .unwrap_or_else(|| format!("write one of these values, or add \"{text}\" to the `values` of `{identity}`"));
        self.set_help(Some(help));
        self.set_variable(identity);
    }

    /// An operand of `==` or an arm of a `match`, against the other side's type.
    fn compared(&mut self, tree: &Script, expr: ExprId, other: Type) {
        let ty = self.expr(tree, expr);
        let span = tree.expr(expr).span;
        match (&tree.expr(expr).kind, other) {
            (ExprKind::Text(parts), Type::Enum(of)) => return self.enum_text(parts, span, of),
            (ExprKind::None, Type::Ref(_)) => return,
            _ => {}
        }
        if !self.alike(ty, other) {
            let message = format!("{} is compared with {}", self.described(other), self.described(ty));
            self.mismatch(span, message);
        }
    }

    fn alike(&self, a: Type, b: Type) -> bool {
        match (a, b) {
            (Type::Int | Type::Number, Type::Int | Type::Number) => true,
            (Type::Text | Type::Enum(_), Type::Text | Type::Enum(_)) => true,
            (Type::Ref(a), Type::Ref(b)) => a.is_none() || b.is_none() || a == b,
            _ => a == b || a == Type::Unknown || b == Type::Unknown,
        }
    }

    /// Resolves an expression and gives its type.
    fn expr(&mut self, tree: &Script, expr: ExprId) -> Type {
        let ty = self.expr_type(tree, expr);
        self.unit.types[expr.0 as usize] = ty;
        ty
    }

    fn expr_type(&mut self, tree: &Script, expr: ExprId) -> Type {
        let span = tree.expr(expr).span;
        match &tree.expr(expr).kind {
            ExprKind::Error => Type::Unknown,
            ExprKind::Int(_) => Type::Int,
            ExprKind::Float(_) => Type::Number,
            ExprKind::Bool(_) => Type::Bool,
            ExprKind::None => Type::Ref(None),
            ExprKind::Text(parts) => {
                for part in parts {
                    if let TextPart::Token { value, decimals, span } = part {
                        let ty = self.expr(tree, *value);
                        if decimals.is_some()
                            && !matches!(ty, Type::Int | Type::Number | Type::Vec2 | Type::Vec3 | Type::Unknown)
                        {
                            self.mismatch(
                                *span,
                                format!("decimals are for numbers, and this is {}", self.described(ty)),
                            );
                        }
                    }
                }
                Type::Text
            }
            ExprKind::Path(names) => {
                let (meaning, ty) = self.path(tree, names);
                self.unit.meanings[expr.0 as usize] = meaning;
                if meaning == Meaning::None && !self.silent {
                    // Those that are spelled right are used here.
                    names.iter().for_each(|&name| self.may_mean(&self.name(name)));
                }
                ty
            }
            ExprKind::Unary(op, operand) => self.unary(tree, *op, *operand),
            ExprKind::Binary(op, left, right) => self.binary(tree, *op, *left, *right),
            ExprKind::Call(name, arguments) => self.call(tree, expr, *name, arguments),
            ExprKind::Is { subject, test, .. } => {
                self.is_test(tree, expr, *subject, *test, span);
                Type::Bool
            }
        }
    }

    fn unary(&mut self, tree: &Script, op: UnaryOp, operand: ExprId) -> Type {
        if op == UnaryOp::Not {
            self.condition(tree, operand);
            return Type::Bool;
        }
        let ty = self.expr(tree, operand);
        match ty {
            Type::Int | Type::Number | Type::Vec2 | Type::Vec3 | Type::Unknown => ty,
            other => {
                let message = format!("a number is wanted here, and this is {}", self.described(other));
                self.mismatch(tree.expr(operand).span, message);
                Type::Unknown
            }
        }
    }

    fn binary(&mut self, tree: &Script, op: BinaryOp, left: ExprId, right: ExprId) -> Type {
        match op {
            BinaryOp::And | BinaryOp::Or | BinaryOp::Implies => {
                self.condition(tree, left);
                let before = self.kinds.clone();
                self.learn(tree, left, op != BinaryOp::Or);
                self.condition(tree, right);
                self.kinds = before;
                Type::Bool
            }
            BinaryOp::Equal | BinaryOp::NotEqual => {
                let left_ty = self.expr(tree, left);
                if let (ExprKind::Text(parts), Type::Enum(of)) = (&tree.expr(left).kind, self.peek_type(tree, right)) {
                    self.enum_text(parts, tree.expr(left).span, of);
                    self.expr(tree, right);
                } else {
                    self.compared(tree, right, left_ty);
                }
                Type::Bool
            }
            _ if op.is_comparison() => {
                for side in [left, right] {
                    let ty = self.expr(tree, side);
                    if !ty.is_numeric() && ty != Type::Unknown {
                        let message = format!("only numbers are larger or smaller, and this is {}", self.described(ty));
                        self.mismatch(tree.expr(side).span, message);
                        break;
                    }
                }
                Type::Bool
            }
            _ => self.arithmetic(tree, op, left, right),
        }
    }

    fn peek_type(&mut self, tree: &Script, expr: ExprId) -> Type {
        self.quietly(|resolver| resolver.expr(tree, expr))
    }

    /// A look at what will be looked at once more, or is wrong as it is: nothing that is found counts.
    fn quietly<T>(&mut self, look: impl FnOnce(&mut Self) -> T) -> T {
        let silent = std::mem::replace(&mut self.silent, true);
        let uses = (self.unit.bare_uses.len(), self.unit.unchecked.len());
        let found = look(self);
        self.unit.bare_uses.truncate(uses.0);
        self.unit.unchecked.truncate(uses.1);
        self.silent = silent;
        found
    }

    fn arithmetic(&mut self, tree: &Script, op: BinaryOp, left: ExprId, right: ExprId) -> Type {
        let (a, b) = (self.expr(tree, left), self.expr(tree, right));
        match (a, b) {
            (Type::Unknown, _) | (_, Type::Unknown) => Type::Unknown,
            (Type::Int, Type::Int) if op != BinaryOp::Divide => Type::Int,
            (Type::Int | Type::Number, Type::Int | Type::Number) => Type::Number,
            (Type::Vec2 | Type::Vec3, _) if a == b && matches!(op, BinaryOp::Add | BinaryOp::Subtract) => a,
            (Type::Vec2 | Type::Vec3, Type::Int | Type::Number)
                if matches!(op, BinaryOp::Multiply | BinaryOp::Divide) =>
            {
                a
            }
            (Type::Int | Type::Number, Type::Vec2 | Type::Vec3) if op == BinaryOp::Multiply => b,
            _ => {
                let text = |ty| matches!(ty, Type::Text | Type::Enum(_));
                let (side, ty) = if a.is_numeric() || (!text(a) && text(b)) { (right, b) } else { (left, a) };
                let message = if op == BinaryOp::Add && text(ty) {
                    "`+` joins no texts".to_owned()
                } else {
                    format!("a number is wanted here, and this is {}", self.described(ty))
                };
                self.mismatch(tree.expr(side).span, message);
                if text(ty) {
                    self.set_help(Some("put the value into the text as a token: `\"… {value} …\"`".to_owned()));
                }
                Type::Unknown
            }
        }
    }

    fn is_test(&mut self, tree: &Script, expr: ExprId, subject: ExprId, test: IsTest, span: Span) {
        let asks_scene = matches!(&tree.expr(subject).kind, ExprKind::Path(names)
            if names.len() == 1 && self.slice(names[0].span) == "scene")
            && self.lookup_local("scene").is_none();
        if asks_scene {
            self.unit.meanings[subject.0 as usize] = Meaning::Scene;
            match test {
                IsTest::Named(name) => {
                    if let Some(scene) = self.scene_name(name) {
                        self.unit.meanings[expr.0 as usize] = Meaning::Owner(scene);
                    }
                }
                _ => self.mismatch(span, "`scene is` asks for a scene's name".to_owned()),
            }
            return;
        }
        let ty = self.expr(tree, subject);
        let subject_span = tree.expr(subject).span;
        match test {
            IsTest::Set => {
                let meaning = self.unit.meaning(subject);
                let variable = matches!(meaning, Meaning::Value(_) | Meaning::Instance(_) | Meaning::None);
                if !variable && ty != Type::Unknown {
                    self.mismatch(subject_span, "`is set` asks about a variable".to_owned());
                }
            }
            IsTest::None | IsTest::Named(_) => {
                if !matches!(ty, Type::Ref(_) | Type::Unknown) {
                    let what = if matches!(test, IsTest::None) { "`is none`" } else { "`is` with an actor's name" };
                    let message = format!("{what} asks about an instance, and this is {}", self.described(ty));
                    self.mismatch(subject_span, message);
                }
                if let IsTest::Named(name) = test
                    && let Some(actor) = self.actor_name(name)
                {
                    self.unit.meanings[expr.0 as usize] = Meaning::Owner(actor);
                }
            }
        }
    }

    fn call(&mut self, tree: &Script, expr: ExprId, name: Name, arguments: &[ExprId]) -> Type {
        let text = self.name(name);
        if let Some(&id) = self.procedures.get(&text) {
            self.unit.meanings[expr.0 as usize] = Meaning::Procedure(id);
            return self.call_procedure(tree, expr, id, &text, arguments);
        }
        if let Some(builtin) = self.builtin(&text, name) {
            self.unit.meanings[expr.0 as usize] = Meaning::Builtin(builtin);
            return self.call_builtin(tree, expr, builtin, arguments);
        }
        let procedures: Vec<String> = self.procedures.keys().cloned().collect();
        let mut known: Vec<&str> = procedures.iter().map(String::as_str).collect();
        known.extend(Builtin::names().map(|name| -> &str { name }));
        let near = nearest(&text, known.iter().copied());
        for &argument in arguments {
            match near.contains(&Builtin::Count.name()).then(|| self.actor_alone(tree, argument)).flatten() {
                Some(actor) => self.unit.meanings[argument.0 as usize] = Meaning::Owner(actor),
                None => _ = self.expr(tree, argument),
            }
        }
        self.unit.unread_acts.push(name.span);
        self.unit.calls_nobody |= near.is_empty() || self.is_unread(&text);
        if self.is_unread(&text) {
            return Type::Unknown;
        }
        self.mismatch(name.span, format!("there is no function or procedure `{text}`"));
        let is_signal = matches!(self.registry().names.get(text.as_str()), Some(Named::Signal(_)));
        self.in_target = true; // What it is meant to call may write anything.
        let help = self.meant(&text, known);
        self.set_help(if is_signal { Some(format!("to send the signal, write `send {text}(…)`")) } else { help });
        self.may_mean(&text);
        self.in_target = false;
        Type::Unknown
    }

    /// The function of a name. What a label shows can be asked in a rehearsal alone, and there nothing is drawn.
    /// The actor that an expression names, and nothing else.
    fn actor_alone(&self, tree: &Script, expr: ExprId) -> Option<OwnerId> {
        let ExprKind::Path(names) = &tree.expr(expr).kind else { return None };
        let [name] = names[..] else { return None };
        match self.registry().names.get(self.name(name).as_str()) {
            Some(&Named::Owner(owner)) if self.registry().is_actor(owner) => Some(owner),
            _ => None,
        }
    }

    fn builtin(&mut self, text: &str, name: Name) -> Option<Builtin> {
        if self.in_expectation && text == Builtin::Shown.name() {
            return Some(Builtin::Shown);
        }
        let found = Builtin::find(text);
        if matches!(found, Some(Builtin::Random | Builtin::Chance)) {
            if self.in_expectation {
                self.mismatch(name.span, format!("an expectation can't draw: `{text}` would change the run"));
            } else if self.in_invariant {
                self.mismatch(name.span, format!("an invariant can't draw: `{text}` comes out otherwise each time"));
            }
        }
        found
    }

    fn call_procedure(&mut self, tree: &Script, expr: ExprId, id: ProcId, name: &str, arguments: &[ExprId]) -> Type {
        let facts = self.unit.procedures[id.index()].clone();
        let known = self.findings.len();
        for (at, &argument) in arguments.iter().enumerate() {
            let wanted = facts.parameters.get(at).map_or(Type::Unknown, |&local| self.wanted(tree, local, argument));
            self.value_for(tree, argument, wanted);
            facts.parameters.get(at).into_iter().for_each(|&local| self.taken_by(Taker::Local(local), argument));
        }
        if facts.parameters.len() != arguments.len() {
            let span =
                arguments.get(facts.parameters.len()).map_or(tree.expr(expr).span, |&extra| tree.expr(extra).span);
            let wanted = crate::words::count(facts.parameters.len(), "argument");
            self.mismatch(span, format!("`{name}` takes {wanted}, and {} given", arguments.len()));
        }
        let unknown = arguments.iter().any(|&argument| self.unit.ty(argument) == Type::Unknown);
        if self.findings.len() > known || unknown {
            self.unit.mistaken_calls.push(tree.expr(expr).span);
        }
        if self.stands_alone != Some(expr) && !self.gives_value(tree, expr, id, name) {
            return Type::Unknown;
        }
        facts.gives.unwrap_or(Type::Unknown)
    }

    /// Whether a procedure that is called for its value gives one.
    fn gives_value(&mut self, tree: &Script, call: ExprId, id: ProcId, name: &str) -> bool {
        let facts = &self.unit.procedures[id.index()];
        let returns_value = |procedure: &Procedure| {
            let mut found = false;
            walk(&procedure.body, &mut |statement| found |= matches!(statement.kind, StatementKind::Return(Some(_))));
            found
        };
        let (message, help) = match (facts.gives, facts.waits) {
            (_, true) => (
                format!("`{name}` waits, and a procedure that waits gives no value"),
                "let it set a private, and read that once it is through",
            ),
            // What it gives is told as out of place there.
            (None, false) if returns_value(&tree.procedures[id.index()]) => return true,
            (None, false) => (
                format!("`{name}` gives no value, and one is wanted here"),
                "write `-> TYPE` behind its parameters, and `return` the value",
            ),
            (Some(_), false) => return true,
        };
        self.mismatch(tree.expr(call).span, message);
        self.set_help(Some(help.to_owned()));
        false
    }

    /// The type that a procedure's parameter wants of an argument: its own, or what takes all that it is given.
    fn wanted(&mut self, tree: &Script, local: LocalId, argument: ExprId) -> Type {
        let known = self.unit.local_types[local.0 as usize];
        if !self.untyped.contains(&local) {
            return known;
        }
        let is_literal = matches!(tree.expr(argument).kind, ExprKind::Text(_) | ExprKind::None);
        let wanted = match (known, self.peek_type(tree, argument)) {
            (Type::Unknown, given) => given,
            (_, given) if is_literal || self.goes_into(given, known) => known,
            (_, given) if self.goes_into(known, given) => given,
            (Type::Ref(_), Type::Ref(_)) => Type::Ref(None),
            _ => known,
        };
        self.unit.local_types[local.0 as usize] = wanted;
        wanted
    }

    fn call_builtin(&mut self, tree: &Script, expr: ExprId, builtin: Builtin, arguments: &[ExprId]) -> Type {
        let span = tree.expr(expr).span;
        let (least, most) = builtin.arity();
        if arguments.len() < least || arguments.len() > most {
            let at = arguments.get(most).map_or(span, |&extra| tree.expr(extra).span);
            let wanted = crate::words::count(least, "argument");
            self.mismatch(at, format!("`{}` takes {wanted}, and {} given", builtin.name(), arguments.len()));
            for &argument in arguments {
                self.expr(tree, argument);
            }
            return Type::Unknown;
        }
        match builtin {
            Builtin::Count => {
                self.count_actor(tree, arguments[0]);
                Type::Int
            }
            Builtin::Length | Builtin::Number => {
                self.value_for(tree, arguments[0], Type::Text);
                if builtin == Builtin::Length { Type::Int } else { Type::Number }
            }
            Builtin::Text => {
                self.expr(tree, arguments[0]);
                Type::Text
            }
            Builtin::Shown => {
                self.value_for(tree, arguments[0], Type::Text);
                Type::Text
            }
            _ => {
                let mut ty = Type::Int;
                for &argument in arguments {
                    match self.value_for(tree, argument, Type::Number) {
                        Type::Int => {}
                        Type::Unknown => ty = if ty == Type::Number { ty } else { Type::Unknown },
                        _ => ty = Type::Number,
                    }
                }
                match builtin {
                    Builtin::Floor | Builtin::Ceil | Builtin::Round => Type::Int,
                    Builtin::Chance => Type::Bool,
                    Builtin::Vec2 => Type::Vec2,
                    Builtin::Vec3 => Type::Vec3,
                    Builtin::TickLength => Type::Number,
                    _ => ty,
                }
            }
        }
    }

    /// `count(ACTOR)`: the argument is a name, not a value.
    fn count_actor(&mut self, tree: &Script, argument: ExprId) {
        match &tree.expr(argument).kind {
            ExprKind::Path(names) if names.len() == 1 => {
                if let Some(actor) = self.actor_name(names[0]) {
                    self.unit.meanings[argument.0 as usize] = Meaning::Owner(actor);
                }
            }
            _ => self.mismatch(tree.expr(argument).span, "`count` wants an actor's name".to_owned()),
        }
    }

    // ---- paths ----

    fn lookup_local(&self, name: &str) -> Option<LocalId> {
        self.scope.iter().rev().find(|(known, _)| known == name).map(|&(_, local)| local)
    }

    fn path(&mut self, tree: &Script, names: &[Name]) -> (Meaning, Type) {
        let first = self.name(names[0]);
        let rest = &names[1..];
        if let Some(local) = self.lookup_local(&first) {
            let ty = self.unit.local_types[local.0 as usize];
            let place = self.place(Place::Local(local), ty);
            if self.let_at[local.0 as usize] != self.waits {
                self.grow_old(tree, local);
            }
            return self.go_on(tree, Meaning::Value(place), ty, rest);
        }
        match first.as_str() {
            "self" => return self.self_path(tree, names),
            "was" => {
                let Some(ty) = self.was else {
                    if self.unreadable {
                        return (Meaning::None, Type::Unknown);
                    }
                    self.report(
                        reader_rules::UNKNOWN_NAME,
                        names[0].span,
                        "`was` is the old value, and only `on changed` has one".to_owned(),
                    );
                    return (Meaning::None, Type::Unknown);
                };
                let place = self.place(Place::Was, ty);
                self.unit.place_types[place.index()] = ty;
                return self.go_on(tree, Meaning::Value(place), ty, rest);
            }
            _ => {}
        }
        if let Some(&index) = self.privates.get(&first) {
            let ty = self.unit.privates[index as usize].ty;
            let place = self.place(Place::Private(index), ty);
            return self.go_on(tree, Meaning::Value(place), ty, rest);
        }
        if let Some(variable) = self.bare_variable(&first, names[0].span) {
            let (meaning, ty) = match variable {
                Ok(variable) => {
                    self.unit.bare_uses.push(BareUse { variable, span: names[0].span });
                    let base = self.own_base(variable);
                    let ty = self.registry().var(variable).ty;
                    (Meaning::Value(self.place(Place::Variable(variable, base), ty)), ty)
                }
                Err(()) => (Meaning::None, Type::Unknown),
            };
            return self.go_on(tree, meaning, ty, rest);
        }
        match self.registry().names.get(first.as_str()) {
            Some(Named::Owner(owner)) => self.owner_path(tree, *owner, names),
            Some(Named::Instance(instance)) => {
                let ty = Type::Ref(Some(self.registry().instance(*instance).of));
                self.go_on(tree, Meaning::Instance(*instance), ty, rest)
            }
            _ => {
                self.unknown_bare(&first, names[0].span);
                (Meaning::None, Type::Unknown)
            }
        }
    }

    /// The variable that a bare name means, by owner, scene and systems; `Err` where it is ambiguous.
    fn bare_variable(&mut self, name: &str, span: Span) -> Option<Result<VarId, ()>> {
        let registry = self.registry();
        if let Some(found) = self.unit.owner.and_then(|owner| registry.member(owner, name)) {
            return Some(Ok(found));
        }
        if let Some(found) = self.unit.scene.and_then(|scene| registry.member(scene, name)) {
            return Some(Ok(found));
        }
        match self.names.globals(name).as_slice() {
            [] => None,
            [one] => Some(Ok(*one)),
            several => {
                let identities: Vec<String> = several.iter().map(|&id| registry.identity(id)).collect();
                let message = format!("`{name}` can mean {}", crate::words::either(&identities));
                self.report(reader_rules::AMBIGUOUS_NAME, span, message);
                self.set_help(Some(format!("write the owner's name before it, as in `{}`", identities[0])));
                Some(Err(()))
            }
        }
    }

    /// The base of a variable that was named bare or through `self`.
    fn own_base(&self, variable: VarId) -> Base {
        let facts = self.registry().var(variable);
        match facts.scope {
            Scope::Instance if Some(facts.owner) == self.unit.owner => self.own_or_only(facts.owner),
            Scope::Instance => Base::Some,
            _ => Base::One,
        }
    }

    /// `self`, or the one instance of an actor that has only one: both names then mean one place.
    fn own_or_only(&self, actor: OwnerId) -> Base {
        self.registry().only_instance(actor).map_or(Base::Own, Base::Listed)
    }

    fn unknown_bare(&mut self, name: &str, span: Span) {
        if self.silent {
            return;
        }
        // What has the name elsewhere, or further down, was meant.
        self.may_mean(name);
        if self.homeless || self.is_unread(name) {
            return; // Whose the script is, or what could not be read, is the mistake, and was reported.
        }
        self.report(reader_rules::UNKNOWN_NAME, span, format!("`{name}` means nothing here"));
        let here: Vec<String> =
            self.scope.iter().map(|(name, _)| name.clone()).chain(self.privates.keys().cloned()).collect();
        let names = self.names.bare_names(self.unit.owner, self.unit.scene);
        let near = self.meant(name, here.iter().map(String::as_str).chain(names));
        let elsewhere = self.names.belongs_elsewhere(name, self.unit.owner);
        self.set_help(elsewhere.or(near));
    }

    fn self_path(&mut self, tree: &Script, names: &[Name]) -> (Meaning, Type) {
        let Some(owner) = self.unit.owner else { return (Meaning::None, Type::Unknown) };
        let is_actor = self.registry().is_actor(owner);
        let Some(&member) = names.get(1) else {
            if is_actor {
                return (Meaning::Own, Type::Ref(Some(owner)));
            }
            let message = format!("`self` is an instance, and `{}` has none", self.registry().owner(owner).name);
            self.report(reader_rules::UNKNOWN_NAME, names[0].span, message);
            return (Meaning::None, Type::Unknown);
        };
        let text = self.name(member);
        let Some(variable) = self.registry().member(owner, &text) else {
            self.unknown_member(owner, &text, member.span);
            return (Meaning::None, Type::Unknown);
        };
        let base = self.own_base(variable);
        let ty = self.registry().var(variable).ty;
        let place = self.place(Place::Variable(variable, base), ty);
        self.go_on(tree, Meaning::Value(place), ty, &names[2..])
    }

    fn unknown_member(&mut self, owner: OwnerId, name: &str, span: Span) {
        let facts = self.registry().owner(owner);
        if facts.name.is_empty() {
            return; // What the instance is of is the mistake, and was reported.
        }
        if self.is_unread(name) {
            return;
        }
        let message = format!("`{}` has no variable `{name}`", facts.name);
        self.report(reader_rules::UNKNOWN_NAME, span, message);
        let registry = self.registry();
        let own = self.meant(name, facts.variables.iter().map(|&id| &*registry.var(id).name));
        let help = self.names.belongs_elsewhere(name, Some(owner)).or(own);
        self.set_help(help);
    }

    /// `OWNER.x`
    fn owner_path(&mut self, tree: &Script, owner: OwnerId, names: &[Name]) -> (Meaning, Type) {
        let registry = self.registry();
        let only = || registry.only_instance(owner);
        let Some(&member) = names.get(1) else {
            if let Some(instance) = only() {
                return (Meaning::Instance(instance), Type::Ref(Some(owner)));
            }
            let name = &registry.owner(owner).name;
            self.report(reader_rules::UNKNOWN_NAME, names[0].span, format!("`{name}` is an owner, not a value"));
            let first = registry.owner(owner).variables.first();
            self.set_help(first.map(|&id| format!("name one of its variables, as in `{}`", registry.identity(id))));
            return (Meaning::None, Type::Unknown);
        };
        let text = self.name(member);
        let Some(variable) = registry.member(owner, &text) else {
            self.unknown_member(owner, &text, member.span);
            return (Meaning::None, Type::Unknown);
        };
        let facts = registry.var(variable);
        let base = match facts.scope {
            Scope::Instance if self.in_invariant => Base::Own,
            Scope::Instance => match only() {
                Some(instance) => Base::Listed(instance),
                None => {
                    self.which_instance(owner, variable, names[0].span.to(member.span));
                    Base::Some
                }
            },
            _ => Base::One,
        };
        let place = self.place(Place::Variable(variable, base), facts.ty);
        self.go_on(tree, Meaning::Value(place), facts.ty, &names[2..])
    }

    fn which_instance(&mut self, owner: OwnerId, variable: VarId, span: Span) {
        let registry = self.registry();
        if registry.mistaken.contains(&variable) {
            return; // Its scope may be what is wrong.
        }
        let facts = registry.owner(owner);
        let name = &registry.var(variable).name;
        let message = format!(
            "there can be many `{0}`s, each with its own `{name}`: `{0}.{name}` does not say which one is meant",
            facts.name
        );
        self.report(reader_rules::WHICH_INSTANCE, span, message);
        let help = if self.unit.owner == Some(owner) {
            format!(
                "write `self.{name}` for this one's, or go through all: `for each in {} {{ … each.{name} … }}`",
                facts.name
            )
        } else {
            let listed = registry.instances_of(owner).next();
            let example = listed.map_or_else(String::new, |id| format!("`{}.{name}`, or ", registry.instance(id).name));
            format!("write {example}go through all: `for each in {} {{ … each.{name} … }}`", facts.name)
        };
        self.set_help(Some(help));
        self.set_variable(registry.identity(variable));
    }

    /// The names behind the first: variables of instances, numbers of vectors, bounds.
    fn go_on(&mut self, tree: &Script, meaning: Meaning, ty: Type, rest: &[Name]) -> (Meaning, Type) {
        let Some((&next, rest)) = rest.split_first() else {
            return match meaning {
                Meaning::Value(place) if matches!(ty, Type::Ref(None)) => {
                    (meaning, self.kind_of(place).map_or(ty, |actor| Type::Ref(Some(actor))))
                }
                _ => (meaning, ty),
            };
        };
        let text = self.name(next);
        match (meaning, ty) {
            (Meaning::None, _) => (Meaning::None, Type::Unknown),
            (Meaning::Value(place), Type::Int | Type::Number) if text == "min" || text == "max" => {
                let end = if text == "min" { End::Min } else { End::Max };
                self.bound(place, ty, end, next, rest)
            }
            (Meaning::Value(place), Type::Vec2 | Type::Vec3) => {
                let axis = match (text.as_str(), ty) {
                    ("x", _) => 0,
                    ("y", _) => 1,
                    ("z", Type::Vec3) => 2,
                    _ => {
                        self.no_member(next, &format!("a `{}` has no `{text}`", self.type_word(ty)));
                        return (Meaning::None, Type::Unknown);
                    }
                };
                self.go_on(tree, Meaning::Axis(place, axis), Type::Number, rest)
            }
            (Meaning::Value(_) | Meaning::Instance(_), Type::Ref(of)) => self.through(tree, meaning, of, next, rest),
            (_, Type::Unknown) => (Meaning::None, Type::Unknown),
            _ => {
                self.no_member(next, &format!("{} has nothing behind a dot named `{text}`", self.described(ty)));
                (Meaning::None, Type::Unknown)
            }
        }
    }

    fn no_member(&mut self, name: Name, message: &str) {
        self.report(reader_rules::UNKNOWN_NAME, name.span, message.to_owned());
    }

    fn bound(&mut self, place: PlaceId, ty: Type, end: End, name: Name, rest: &[Name]) -> (Meaning, Type) {
        let bound = match self.unit.place(place) {
            Place::Variable(variable, _) => self.registry().var(variable).bound(end).cloned(),
            _ => None,
        };
        if bound.is_none() && self.may_have_bound_unread(place) {
            return (Meaning::None, Type::Unknown);
        }
        if bound.is_none() {
            let what = self.place_text(place);
            self.no_member(name, &format!("`{what}` has no `{}`", end.word()));
            self.set_help(Some(format!("give it one in the registry: `{} = …`", end.word())));
            return (Meaning::None, Type::Unknown);
        }
        if let Some(extra) = rest.first() {
            self.no_member(*extra, "a bound is a number, and nothing stands behind it");
            return (Meaning::None, Type::Unknown);
        }
        let bound_ty = match bound {
            Some(crate::registry::Bound::Variable(id)) => self.registry().var(id).ty,
            _ => ty,
        };
        (Meaning::Bound(place, end), bound_ty)
    }

    /// Whether a bound may be meant that could not be read in the registry.
    fn may_have_bound_unread(&self, place: PlaceId) -> bool {
        let Place::Variable(variable, _) = self.unit.place(place) else { return false };
        self.registry().unread.contains(&*self.registry().var(variable).name)
    }

    fn place_text(&self, place: PlaceId) -> String {
        match self.unit.place(place) {
            Place::Variable(variable, _) => self.registry().identity(variable),
            _ => "this".to_owned(),
        }
    }

    /// A variable of the instance that a name or a `ref` holds.
    fn through(
        &mut self,
        tree: &Script,
        meaning: Meaning,
        of: Option<OwnerId>,
        next: Name,
        rest: &[Name],
    ) -> (Meaning, Type) {
        let text = self.name(next);
        let known = match meaning {
            Meaning::Value(place) => of.or_else(|| self.kind_of(place)),
            _ => of,
        };
        let variable = match known {
            Some(actor) => match self.registry().member(actor, &text) {
                Some(variable) => variable,
                None => {
                    self.unknown_member(actor, &text, next.span);
                    return (Meaning::None, Type::Unknown);
                }
            },
            None => match self.names.of_actors(&text).first() {
                Some(&variable) => variable,
                None => {
                    self.report(reader_rules::UNKNOWN_NAME, next.span, format!("no actor has a variable `{text}`"));
                    return (Meaning::None, Type::Unknown);
                }
            },
        };
        let facts = self.registry().var(variable);
        let base = match (facts.scope, meaning) {
            (Scope::Instance, Meaning::Value(place)) => Base::Held(place),
            (Scope::Instance, Meaning::Instance(instance)) => Base::Listed(instance),
            _ => Base::One,
        };
        if known.is_none() {
            self.unit.unchecked.push(Unchecked { variable, base, span: next.span });
        }
        let place = self.place(Place::Variable(variable, base), facts.ty);
        self.go_on(tree, Meaning::Value(place), facts.ty, rest)
    }
}

/// Whether an expression is made of literals alone, and comes out alike each time.
#[must_use]
pub fn is_constant(unit: &ScriptUnit, tree: &Script, expr: ExprId) -> bool {
    let is_constant = |expr: &ExprId| is_constant(unit, tree, *expr);
    match &tree.expr(expr).kind {
        ExprKind::Int(_) | ExprKind::Float(_) | ExprKind::Bool(_) | ExprKind::None | ExprKind::Error => true,
        ExprKind::Text(parts) => parts.iter().all(|part| matches!(part, TextPart::Plain(_))),
        ExprKind::Unary(_, operand) => is_constant(operand),
        ExprKind::Binary(_, left, right) => is_constant(left) && is_constant(right),
        ExprKind::Call(_, arguments) => {
            let draws = matches!(unit.meaning(expr), Meaning::Builtin(Builtin::Random | Builtin::Chance));
            !draws && arguments.iter().all(is_constant)
        }
        ExprKind::Path(_) | ExprKind::Is { .. } => false,
    }
}
