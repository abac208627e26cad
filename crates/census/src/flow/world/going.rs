//! Instances that come and go: what is spawned and removed, and what a name or a signal may have lost on the way.

use super::*;
use std::sync::Arc;

/// How many actors are followed that are spawned one by the other.
const MOST_SPAWNED_IN_TURN: usize = 64;

/// What may take instances away, between a `send` and the answer, say.
#[derive(Debug, Default)]
pub(super) struct Between {
    /// The types of the names whose instances may be removed.
    removed: Vec<Type>,
    /// The same, but for those that remove themselves.
    of_others: Vec<Type>,
    /// What may be spawned.
    spawned: Vec<OwnerId>,
    /// The scene may be left.
    goes: bool,
}

/// What happens at once where a script spawns an instance of an actor.
#[derive(Debug, Default)]
pub(super) struct AtSpawn {
    /// Its `spawn` handlers, and those of what they spawn in turn.
    pub(super) handlers: FxHashSet<HandlerId>,
    /// The types of the names whose instances may be removed.
    removed: Vec<Type>,
    /// The new instance may be gone right away.
    takes_itself: bool,
}

/// How many instances of an actor there are.
#[derive(Clone, Copy, Debug)]
pub(super) struct Count {
    least: f64,
    pub(super) most: f64,
}

impl Between {
    /// Whether an instance of an actor may be among what is removed.
    pub(super) fn may_remove(&self, actor: OwnerId) -> bool {
        may_be_among(&self.removed, Some(actor))
    }

    /// Takes in what a step does.
    fn take(&mut self, unit: &ScriptUnit, step: &graph::Step) {
        match step.kind {
            StepKind::Remove(what) => {
                self.removed.push(unit.ty(what));
                if unit.meaning(what) != Meaning::Own {
                    self.of_others.push(unit.ty(what));
                }
            }
            StepKind::Spawn { actor: Some(actor), .. } => add_new(&mut self.spawned, actor),
            StepKind::Go(_) => self.goes = true,
            _ => {}
        }
    }
}

impl World<'_> {
    /// Finds what scripts spawn and remove, and whether they change the scene.
    pub(super) fn find_comings_and_goings(&mut self) {
        for ((script, unit), graphs) in self.project.script_ids().zip(&self.graphs) {
            for graph in graphs.handlers.iter().chain(&graphs.procedures) {
                self.restarts |= graph.blocks.iter().any(|block| matches!(block.exit, Exit::Restart));
                for step in graph.blocks.iter().flat_map(|block| &block.steps) {
                    match &step.kind {
                        StepKind::Spawn { actor: Some(actor), .. } => {
                            self.spawned.entry(*actor).or_default().push(script);
                        }
                        StepKind::Remove(what) => match (unit.meaning(*what), unit.ty(*what)) {
                            (Meaning::Own, _) => self.removed.extend(unit.owner),
                            (_, Type::Ref(Some(actor))) => {
                                self.removed.insert(actor);
                            }
                            (_, Type::Unknown) => {} // What is meant to go was not to be read.
                            _ => self.removes_any = true,
                        },
                        StepKind::Go(scene) => {
                            self.goes = true;
                            self.gone_to.extend(scene);
                        }
                        _ => {}
                    }
                }
            }
        }
    }

    /// What a handler may take away before it first waits.
    pub(super) fn find_removals(&self, id: HandlerId) -> Between {
        let (unit, _, graph) = self.parts(id);
        let mut taken = Between::default();
        for body in self.bodies(self.handler(id).0, graph) {
            take_at_once(unit, body, &mut taken);
        }
        taken
    }

    /// For each actor that has `spawn` handlers: what they do at once, and those of what they spawn in turn. Where one thing
    /// leads to very much, any `spawn` handler may run.
    pub(super) fn find_at_spawn(&self) -> FxHashMap<OwnerId, Arc<AtSpawn>> {
        let mut answers: FxHashMap<OwnerId, Vec<HandlerId>> = FxHashMap::default();
        for id in self.handler_ids().filter(|&id| self.openings[id.index()] == Some(waiting::Opening::Spawn)) {
            if let Some(owner) = self.parts(id).0.owner {
                answers.entry(owner).or_default().push(id);
            }
        }
        let of = |actor: OwnerId| answers.get(&actor).into_iter().flatten().copied();
        let all = OnceLock::new();
        let at_spawn = |actor: OwnerId| match self.spawned_in_turn(actor, &of) {
            Some(actors) => Arc::new(self.gather_at_spawn(Some(actor), actors.into_iter().flat_map(of))),
            None => {
                all.get_or_init(|| Arc::new(self.gather_at_spawn(None, answers.values().flatten().copied()))).clone()
            }
        };
        answers.keys().map(|&actor| (actor, at_spawn(actor))).collect()
    }

    /// An actor, and what comes of spawning one of it; none where that is very much.
    fn spawned_in_turn<I: Iterator<Item = HandlerId>>(
        &self,
        actor: OwnerId,
        answers: &impl Fn(OwnerId) -> I,
    ) -> Option<Vec<OwnerId>> {
        let (mut actors, mut at) = (vec![actor], 0);
        while let Some(&next) = actors.get(at) {
            for id in answers(next) {
                for &spawned in &self.removes_at_once[id.index()].spawned {
                    add_new(&mut actors, spawned);
                }
            }
            if actors.len() > MOST_SPAWNED_IN_TURN {
                return None;
            }
            at += 1;
        }
        Some(actors)
    }

    /// What these handlers do at once where one of an actor is spawned, or of any.
    fn gather_at_spawn(&self, actor: Option<OwnerId>, handlers: impl Iterator<Item = HandlerId>) -> AtSpawn {
        let mut all = AtSpawn { handlers: handlers.collect(), ..AtSpawn::default() };
        for &id in &all.handlers {
            let taken = &self.removes_at_once[id.index()];
            taken.of_others.iter().for_each(|&ty| add_new(&mut all.removed, ty));
            let own = actor.is_none_or(|actor| self.parts(id).0.owner == Some(actor));
            all.takes_itself |= own && taken.removed.len() > taken.of_others.len();
        }
        all.takes_itself |= may_be_among(&all.removed, actor);
        all
    }

    /// What is removed includes what the `spawn` handlers remove of what is spawned.
    fn with_what_is_spawned(&self, mut between: Between) -> Between {
        for spawned in std::mem::take(&mut between.spawned) {
            if let Some(at_spawn) = self.at_spawn.get(&spawned) {
                at_spawn.removed.iter().for_each(|&ty| add_new(&mut between.removed, ty));
            }
        }
        between
    }

    /// What handlers take away includes what the `spawn` handlers take away of what they spawn.
    pub(super) fn take_in_what_is_spawned(&mut self) {
        let all = std::mem::take(&mut self.removes_at_once);
        self.removes_at_once = all.into_iter().map(|between| self.with_what_is_spawned(between)).collect();
    }

    /// Of which types a `spawn` of an actor may at once take away instances that names hold already.
    pub(in crate::flow) fn taken_by_spawning(&self, spawned: OwnerId) -> &[Type] {
        self.at_spawn.get(&spawned).map_or(&[], |at_spawn| &at_spawn.removed)
    }

    /// Whether a new instance of an actor may be gone before its `spawn` statement is done.
    pub(in crate::flow) fn may_be_gone_at_once(&self, spawned: OwnerId) -> bool {
        self.at_spawn.get(&spawned).is_some_and(|at_spawn| at_spawn.takes_itself)
    }

    /// What may be taken away in the dispatch that opens a run, or a scene.
    pub(super) fn find_removed_in_openings(&self) -> Between {
        let opening = self.handler_ids().filter(|id| self.openings[id.index()].is_some());
        opening.fold(Between::default(), |mut all, id| {
            all.removed.extend(&self.removes_at_once[id.index()].removed);
            all
        })
    }

    /// For each signal that scripts send, what may be removed, or go with its scene, before it is answered: by its sender, by
    /// others that answer what its sender answers, and by whatever may stand in the queue before it. The game's own signals
    /// come when the queue is empty, so before what is sent in answer to one stands only what was sent there too.
    pub(super) fn find_removed_between(&self) -> FxHashMap<SignalId, Between> {
        let in_handler = |id: HandlerId| {
            let (unit, _, graph) = self.parts(id);
            let (mut between, mut sent) = (Between::default(), Vec::new());
            let bodies = self.bodies(self.handler(id).0, graph);
            for step in bodies.iter().flat_map(|graph| &graph.blocks).flat_map(|block| &block.steps) {
                between.take(unit, step);
                if let StepKind::Send { signal: Some(signal), .. } = step.kind {
                    sent.push(signal);
                }
            }
            (id, self.with_what_is_spawned(between), sent)
        };
        let ids: Vec<HandlerId> = self.handler_ids().collect();
        let all: Vec<(HandlerId, Between, Vec<SignalId>)> = ids.into_par_iter().map(in_handler).collect();
        let mut senders: FxHashMap<SignalId, Vec<HandlerId>> = FxHashMap::default();
        let mut removing: Vec<(HandlerId, Between)> = Vec::new();
        for (id, between, sent) in all {
            sent.into_iter().for_each(|signal| senders.entry(signal).or_default().push(id));
            if between.goes || !between.removed.is_empty() {
                removing.push((id, between));
            }
        }
        let between = |senders: &[HandlerId]| {
            let first = senders.iter().all(|&sender| self.comes_alone(sender));
            let meets = |&&(id, _): &&(HandlerId, Between)| {
                let before = if first { self.answers_scripts(id) } else { !self.comes_alone(id) };
                before || senders.iter().any(|&sender| self.answer_together(sender, id))
            };
            removing.iter().filter(meets).fold(Between::default(), |mut all, (id, ever)| {
                // In the queue before stand only handlers that begin.
                let taken = if first { &self.removes_at_once[id.index()] } else { ever };
                all.removed.extend(&taken.removed);
                all.goes |= taken.goes;
                all
            })
        };
        senders.iter().map(|(&signal, senders)| (signal, between(senders))).collect()
    }

    /// Whether a handler runs only while nothing is queued: it answers the game or the start of a run, and is through at once.
    fn comes_alone(&self, id: HandlerId) -> bool {
        let (unit, handler, _) = self.parts(id);
        let signal = unit.handlers[self.handler(id).1].signal;
        let from_engine = signal.is_some_and(|signal| self.project.registry.signal(signal).from_engine);
        (from_engine || matches!(handler.trigger, Trigger::Start)) && !self.yields[id.index()]
    }

    /// Whether a handler answers what scripts do, at once or from the queue.
    fn answers_scripts(&self, id: HandlerId) -> bool {
        let (unit, handler, _) = self.parts(id);
        let signal = unit.handlers[self.handler(id).1].signal;
        let sent = signal.is_some_and(|signal| !self.project.registry.signal(signal).from_engine);
        sent || matches!(handler.trigger, Trigger::Spawn | Trigger::Removed | Trigger::Enter | Trigger::Leave)
    }

    /// Whether one trigger may be answered by both handlers, or one is the other.
    fn answer_together(&self, a: HandlerId, b: HandlerId) -> bool {
        let of = |id: HandlerId| {
            let (unit, handler, _) = self.parts(id);
            (unit.handlers[self.handler(id).1].signal, matches!(handler.trigger, Trigger::Start))
        };
        a == b || (of(a) == of(b) && of(a) != (None, false))
    }

    /// Whether the instance that a signal brings may have been removed by the time a handler's turn comes: by one before it
    /// that answers too, or by the handler itself, for another instance.
    pub(super) fn may_be_taken_away(&self, handler: HandlerId, signal: SignalId, of: Option<OwnerId>) -> bool {
        let (unit, _, _) = self.parts(handler);
        let declared = self.project.registry.signal(signal);
        let repeated = (declared.to_all || !declared.from_engine)
            && unit.owner.is_some_and(|owner| self.project.registry.is_many(owner));
        let answering = self.answers.get(&signal).into_iter().flatten().copied();
        let mut earlier = answering.take_while(|&id| id < handler || repeated && id == handler);
        // What happens to one instance is answered by its own scripts, and by systems and scenes.
        let actor = |unit: &ScriptUnit| unit.owner.filter(|&owner| self.project.registry.is_actor(owner));
        let apart = |other: &ScriptUnit| match (actor(unit), actor(other)) {
            (Some(a), Some(b)) => declared.from_engine && !declared.to_all && a != b,
            _ => false,
        };
        earlier.any(|id| {
            let (script, _) = self.handler(id);
            if apart(self.project.script(script)) {
                return false;
            }
            may_be_among(&self.removes_at_once[id.index()].removed, of)
        })
    }

    /// Whether the instance that a script's signal brings may be gone before anybody answers.
    pub(super) fn may_be_lost_on_the_way(&self, signal: SignalId, of: Option<OwnerId>) -> bool {
        self.removed_between.get(&signal).is_some_and(|between| {
            may_be_among(&between.removed, of) || between.goes && of.is_none_or(|actor| self.in_scenes(actor))
        })
    }

    /// Whether an instance that is listed was made in the very dispatch that a handler begins in, and nothing in it may have
    /// taken it away again.
    pub(super) fn is_just_made(&self, handler: HandlerId, instance: InstanceId) -> bool {
        let listed = self.project.registry.instance(instance);
        let made = match self.openings[handler.index()] {
            Some(waiting::Opening::Start) => listed.scene.is_none() || listed.scene == self.first_scene(),
            Some(waiting::Opening::Enter) => listed.scene.is_some() && listed.scene == self.parts(handler).0.scene,
            _ => false,
        };
        made && !self.removed_in_openings.may_remove(listed.of)
    }

    /// How many instances of an actor there are at least whenever a handler goes on.
    pub(in crate::flow) fn least_count(&self, handler: HandlerId, actor: OwnerId) -> f64 {
        let (unit, at, _) = self.parts(handler);
        let own = unit.owner == Some(actor) && !matches!(at.trigger, Trigger::Removed);
        self.count_in(handler, actor).least.max(f64::from(own))
    }

    /// How many instances of an actor there are at most while a handler runs.
    pub(in crate::flow) fn most_count(&self, handler: HandlerId, actor: OwnerId) -> f64 {
        self.count_in(handler, actor).most
    }

    /// How many instances of an actor there are while the handlers of a handler's script run.
    pub(super) fn count_in(&self, handler: HandlerId, actor: OwnerId) -> Count {
        let (script, _) = self.handler(handler);
        self.counts.get(&(script, actor)).copied().unwrap_or_else(|| self.find_count(script, actor))
    }

    /// How many instances of the actors there are that handlers count, or go through.
    pub(super) fn find_counts(&self) -> FxHashMap<(ScriptId, OwnerId), Count> {
        let counted = self.handler_ids().flat_map(|id| {
            let unit = self.parts(id).0;
            let actor = |facts: &SlotFacts| match facts.key {
                Key::Count(actor) => Some(actor),
                Key::RoundsOver(place) => match unit.place_types[place.index()] {
                    Type::Ref(actor) => actor,
                    _ => None,
                },
                _ => None,
            };
            let actors: SmallVec<[OwnerId; 4]> = self.table(id).slots.iter().filter_map(actor).collect();
            actors.into_iter().map(move |actor| (self.handler(id).0, actor))
        });
        let all: FxHashSet<(ScriptId, OwnerId)> = counted.collect();
        all.into_par_iter().map(|key| (key, self.find_count(key.0, key.1))).collect()
    }

    /// How many instances of an actor there are while a script's handlers run: those of the scene, and those of all.
    pub(super) fn find_count(&self, script: ScriptId, actor: OwnerId) -> Count {
        let registry = &self.project.registry;
        let loaded = self.loaded_with(self.project.script(script));
        let (mut everywhere, mut by_scene) = (0.0, FxHashMap::default());
        for id in registry.instances_of(actor) {
            match registry.instance(id).scene {
                None => everywhere += 1.0,
                Some(scene) => *by_scene.entry(scene.0).or_insert(0.0) += 1.0,
            }
        }
        let of_scene = |scene: &Symbol| by_scene.get(scene).copied().unwrap_or(0.0);
        let sure = if let [only] = loaded[..] { of_scene(&only) } else { 0.0 };
        Count {
            least: if self.removable(actor) { 0.0 } else { everywhere + sure },
            most: match self.is_spawned(actor) {
                true => f64::INFINITY,
                false => everywhere + loaded.iter().map(of_scene).fold(0.0, f64::max),
            },
        }
    }

    /// The scenes that can be loaded while a script's handlers run: of all that there are, those that a run comes to.
    pub(super) fn loaded_with(&self, unit: &ScriptUnit) -> SmallVec<[Symbol; 4]> {
        let mut scenes = self.scenes_of(unit).unwrap_or_else(|| self.scenes.clone());
        if let (Some(first), 2..) = (self.first_scene(), scenes.len()) {
            scenes.retain(|scene| *scene == first.0 || self.gone_to.contains(&OwnerId(*scene)));
        }
        scenes
    }

    /// Whether what goes with a scene may be made anew while a script's handler waits: the scene is left and loaded once more, and
    /// the handler goes on through that.
    #[must_use]
    pub fn may_be_made_anew(&self, unit: &ScriptUnit, facts: &SlotFacts) -> bool {
        let registry = &self.project.registry;
        let scene = match (facts.variable.map(|id| registry.var(id)), facts.base) {
            (Some(variable), _) if variable.scope == Scope::Scene => Some(variable.owner),
            (Some(_), Some(Base::Listed(instance))) => registry.instance(instance).scene,
            _ => None,
        };
        let is_dropped = |scene: OwnerId| {
            let goes_along = |owner| registry.is_actor(owner) && self.go_along(owner);
            unit.scene.is_some() || unit.owner == Some(scene) || unit.owner.is_some_and(goes_along)
        };
        self.goes && scene.is_some_and(|scene| !is_dropped(scene))
    }

    /// Whether the number of an actor's instances never changes.
    #[must_use]
    pub fn is_counted_for_good(&self, actor: OwnerId) -> bool {
        !(self.is_spawned(actor) || self.removable(actor) || self.goes && self.in_scenes(actor))
    }

    /// Whether scripts remove instances of an actor.
    #[must_use]
    pub fn removable(&self, actor: OwnerId) -> bool {
        self.may_be_removed(Some(actor))
    }

    /// Whether scripts spawn instances of an actor.
    #[must_use]
    pub fn is_spawned(&self, actor: OwnerId) -> bool {
        self.spawned.contains_key(&actor)
    }

    /// Whether some script leaves a scene for another.
    #[must_use]
    pub fn changes_scene(&self) -> bool {
        self.goes
    }

    /// Whether an instance that a name holds can be gone after a wait.
    #[must_use]
    pub fn may_vanish(&self, unit: &ScriptUnit, of: Option<OwnerId>) -> bool {
        // What waits in a scene's scripts is dropped with the scene; others may outlive its instances.
        self.may_be_removed(of) || unit.scene.is_none() && self.may_go_with_scene(of)
    }

    /// Whether scripts remove instances of an actor, or of any.
    pub(super) fn may_be_removed(&self, of: Option<OwnerId>) -> bool {
        self.removes_any || of.map_or(!self.removed.is_empty(), |actor| self.removed.contains(&actor))
    }

    /// Whether an instance of an actor, or of any, may go with a scene that scripts leave.
    pub(super) fn may_go_with_scene(&self, of: Option<OwnerId>) -> bool {
        self.goes && of.is_none_or(|actor| self.in_scenes(actor))
    }

    /// Whether instances of an actor come and go with scenes.
    #[must_use]
    pub fn in_scenes(&self, actor: OwnerId) -> bool {
        let registry = &self.project.registry;
        self.spawned.contains_key(&actor)
            || registry.instances_of(actor).any(|id| registry.instance(id).scene.is_some())
    }
}

/// Takes in what a body does before it first waits.
fn take_at_once(unit: &ScriptUnit, body: &Graph, taken: &mut Between) {
    let mut seen = vec![false; body.blocks.len()];
    let mut open = vec![graph::BlockId(0)];
    while let Some(at) = open.pop() {
        if std::mem::replace(&mut seen[at.index()], true) {
            continue;
        }
        let block = &body.blocks[at.index()];
        let before = block.steps.iter().take_while(|step| !certain::waits(unit, &step.kind));
        before.for_each(|step| taken.take(unit, step));
        if !block.steps.iter().any(|step| certain::waits(unit, &step.kind)) {
            open.extend(block.exit.successors_now());
        }
    }
}

fn add_new<T: PartialEq>(all: &mut Vec<T>, one: T) {
    if !all.contains(&one) {
        all.push(one);
    }
}

/// Whether an instance of an actor, or of any, may be among those that names of these types hold.
pub(in crate::flow) fn may_be_among(types: &[Type], of: Option<OwnerId>) -> bool {
    types.iter().any(|ty| match (ty, of) {
        (Type::Ref(Some(a)), Some(b)) => *a == b,
        (Type::Ref(_), _) => true,
        _ => false,
    })
}
