//! What is certain to have been assigned before a handler begins: by `start`, `spawn` and `enter`.

use super::certain::{Assigned, Wanted};
use super::*;
use std::cell::RefCell;

impl World<'_> {
    pub(super) fn find_certain(&mut self) {
        let mut beforehand = Beforehand::default();
        for id in self.handler_ids() {
            let (unit, handler, graph) = self.parts(id);
            if handler.when.is_some() {
                continue;
            }
            let into = match handler.trigger {
                Trigger::Start if self.starts_for_certain(unit) => &mut beforehand.start,
                Trigger::Spawn if self.spawns_for_certain(unit) => &mut beforehand.spawn,
                Trigger::Enter => &mut beforehand.enter,
                _ => continue,
            };
            // Who is made later than a `spawn` handler of another actor has run finds nothing of it.
            let of_others = |cell: &CellId| match self.home(*cell) {
                Home::Instance(actor) => self.project.registry.is_many(actor) && unit.owner != Some(actor),
                _ => false,
            };
            let is_spawn = matches!(handler.trigger, Trigger::Spawn);
            for cell in self.certainly_written(id).filter(|cell| !is_spawn || !of_others(cell)) {
                into.entry(cell).or_insert(id);
            }
            if matches!(handler.trigger, Trigger::Start) && self.starts_for_certain(unit) {
                beforehand.renewed.extend(self.certain_of(id, graph, Wanted::Renewal));
            }
        }
        self.beforehand = beforehand;
    }

    /// The cells that a handler certainly gives a value. What is stepped has one by then too, whatever was missing is told at
    /// the step; only what stands in is no better for that.
    pub(super) fn certainly_written(&self, id: HandlerId) -> impl Iterator<Item = CellId> {
        let graph = self.handler_graph(id);
        let given = self.certain_of(id, graph, Wanted::Value).into_iter();
        given.chain(self.certain_of(id, graph, Wanted::Write).into_iter().filter(|&cell| !self.stands_in(cell)))
    }

    /// Whether a cell starts from a value that a player should never read.
    fn stands_in(&self, cell: CellId) -> bool {
        self.project.variable_of(cell).is_some_and(|id| self.project.registry.var(id).placeholder)
    }

    /// The cells of which a handler makes something certain, each for its own instance or for all.
    pub(super) fn certain_of(&self, handler: HandlerId, graph: &Graph, wanted: Wanted) -> Vec<CellId> {
        let (script, _) = self.handler(handler);
        let unit = self.project.script(script);
        let is_own = |place: &PlaceId| match unit.place(*place) {
            Place::Private(_) | Place::Variable(_, Base::One | Base::Own) => true,
            // Of many, one that is named gets a value, and the others none.
            Place::Variable(id, Base::Listed(_)) => !self.project.registry.is_many(self.project.registry.var(id).owner),
            _ => false,
        };
        let procedures = &self.graphs[script.index()].procedures;
        let asked = certain::Asked { unit, procedures, wanted, known: RefCell::default() };
        let cell = |assigned| match assigned {
            Assigned::Place(place) => self.project.cell_of(unit, place).filter(|_| is_own(&place)),
            Assigned::OfAll(id) => Some(CellId(id.0)),
            Assigned::Of(..) => None,
        };
        certain::certain(&asked, graph).into_iter().filter_map(cell).collect()
    }

    pub(super) fn first_scene(&self) -> Option<OwnerId> {
        self.project.config.first_scene.as_deref().and_then(|name| self.project.registry.find_owner(name))
    }

    /// Whether a script's `start` handlers run at every start.
    fn starts_for_certain(&self, unit: &ScriptUnit) -> bool {
        let registry = &self.project.registry;
        let first = self.first_scene();
        let there = unit.scene.is_none() || unit.scene == first;
        let some = unit.owner.is_some_and(|owner| {
            !registry.is_actor(owner)
                || registry.instances_of(owner).any(|id| {
                    let scene = registry.instance(id).scene;
                    scene.is_none() || scene == first
                })
        });
        there && some
    }

    /// Whether a script's `spawn` handlers run for every instance of its actor: its scene is the only one, or each instance
    /// is made while it is loaded.
    fn spawns_for_certain(&self, unit: &ScriptUnit) -> bool {
        let Some(scene) = unit.scene else { return true };
        let registry = &self.project.registry;
        let first = self.first_scene();
        let scenes = registry.owners.iter().filter(|owner| owner.kind == OwnerKind::Scene).count();
        let made_there = |script: ScriptId| {
            self.scenes_of(self.project.script(script)).is_some_and(|scenes| scenes.as_slice() == [scene.0])
        };
        (scenes == 1 && first == Some(scene))
            || unit.owner.is_some_and(|actor| {
                self.spawned.get(&actor).into_iter().flatten().all(|&script| made_there(script))
                    && registry.instances_of(actor).all(|id| registry.instance(id).scene.or(first) == Some(scene))
            })
    }

    /// Whether `start` handlers are certain not to leave a cell what it held before.
    #[must_use]
    pub fn fresh_at_start(&self, cell: CellId) -> bool {
        self.beforehand.renewed.contains(&cell)
    }

    /// Whether a cell is certain to have been assigned when a handler begins, or starts with a value of its own.
    #[must_use]
    pub fn assigned_before(&self, handler: HandlerId, cell: CellId, base: Option<Base>) -> bool {
        let starts = || matches!(self.home(cell), Home::Instance(actor) if self.all_start_with(cell, actor));
        self.given_before(handler, cell, base) || starts()
    }

    /// Whether handlers are certain to have assigned a cell when a handler begins.
    pub(super) fn given_before(&self, handler: HandlerId, cell: CellId, base: Option<Base>) -> bool {
        let (unit, at, _) = self.parts(handler);
        let earlier = |by: Option<&HandlerId>, same: bool| by.is_some_and(|&by| !same || by < handler);
        let (is_start, is_spawn) = (matches!(at.trigger, Trigger::Start), matches!(at.trigger, Trigger::Spawn));
        let is_enter = matches!(at.trigger, Trigger::Enter);
        match self.home(cell) {
            Home::Everywhere => {
                let by = self.beforehand.start.get(&cell);
                // A `spawn` handler may run inside an earlier `start` handler.
                let inside = is_spawn && unit.owner.is_some_and(|actor| self.spawned_at_start(actor, by));
                earlier(by, is_start) && !inside
            }
            Home::Scene => earlier(self.beforehand.enter.get(&cell), is_enter) && !is_start && !is_spawn,
            Home::Instance(actor) => {
                let by = self.beforehand.spawn.get(&cell);
                let own = base.is_none_or(|base| matches!(base, Base::Own | Base::Listed(_)));
                let by_spawn = match (is_spawn, unit.owner == Some(actor) && own) {
                    (true, true) => earlier(by, true),
                    (true, false) => false,
                    (false, _) => by.is_some(),
                };
                let by_start =
                    || earlier(self.beforehand.start.get(&cell), is_start) && self.is_there_from_start(actor);
                by_spawn && !is_start || by_start()
            }
        }
    }

    /// Whether all instances of an actor that there ever are stand in every scene as a run starts.
    fn is_there_from_start(&self, actor: OwnerId) -> bool {
        let registry = &self.project.registry;
        !self.spawned.contains_key(&actor)
            && registry.instances_of(actor).all(|id| registry.instance(id).scene.is_none())
    }

    /// Whether a `start` handler up to the one given spawns instances of an actor.
    fn spawned_at_start(&self, actor: OwnerId, by: Option<&HandlerId>) -> bool {
        self.handler_ids().take_while(|id| by.is_none_or(|by| id <= by)).any(|id| {
            let (_, handler, graph) = self.parts(id);
            matches!(handler.trigger, Trigger::Start)
                && graph
                    .blocks
                    .iter()
                    .flat_map(|block| &block.steps)
                    .any(|step| matches!(step.kind, StepKind::Spawn { actor: Some(other), .. } if other == actor))
        })
    }

    /// Whether every instance listed starts with a value of its own, and nothing spawns more.
    fn all_start_with(&self, cell: CellId, actor: OwnerId) -> bool {
        let Cell::Variable(variable) = self.project.cells[cell.index()] else { return false };
        let registry = &self.project.registry;
        !self.spawned.contains_key(&actor)
            && registry.instances_of(actor).next().is_some()
            && registry.instances_of(actor).all(|id| registry.own_start_of(variable, id).is_some())
    }
}
