//! The values of a run: shared ones, and those of instances that come and go.

use super::layout::{Home, InstanceAt, Layout};
use super::plain::Plain;
use super::value::{Scalar, Value};
use crate::project::CellId;
use crate::registry::{self, InstanceId, Lifetime, OwnerId, Type};
use rustc_hash::FxHashMap;

/// An instance.
#[derive(Clone, Debug)]
pub struct Instance {
    /// Its actor.
    pub actor: OwnerId,
    /// Its entry, if it is a listed one.
    pub listed: Option<InstanceId>,
    /// Whether it is there.
    pub alive: bool,
    /// The scene that it goes with; none: it stays.
    pub scene: Option<OwnerId>,
    /// The how-manieth of its actor it is, from 1, of those that no entry lists; 0 for a listed one.
    pub number: u32,
    /// Its values, in the order of its actor's cells.
    values: Vec<Option<Value>>,
}

impl Instance {
    /// One of its values, by index.
    #[inline]
    pub(super) fn value(&self, index: u32) -> Option<&Value> {
        self.values.get(index as usize)?.as_ref()
    }
}

/// All values.
#[derive(Clone, Debug)]
pub struct Memory<'l, 'p> {
    layout: &'l Layout<'p>,
    shared: Vec<Option<Value>>,
    /// The instances, by number.
    pub instances: Vec<Instance>,
    /// The live instances of each owner, the oldest first.
    live: Vec<Vec<InstanceAt>>,
    /// How many instances of each owner were made beside the listed ones.
    made: Vec<u32>,
    /// The number that each listed instance has, or will have when it is made.
    listed: Vec<InstanceAt>,
    /// What listed instances that are not there will come back with.
    kept: FxHashMap<(InstanceId, CellId), Option<Value>>,
}

impl<'l, 'p> Memory<'l, 'p> {
    /// The memory as the program starts: every shared variable has its default, and no instance is there.
    #[must_use]
    pub fn new(layout: &'l Layout<'p>) -> Self {
        let mut memory = Self {
            layout,
            shared: vec![None; layout.shared],
            instances: Vec::new(),
            live: vec![Vec::new(); layout.project.registry.owners.len()],
            made: vec![0; layout.project.registry.owners.len()],
            listed: Vec::new(),
            kept: FxHashMap::default(),
        };
        for at in 0..layout.project.registry.instances.len() {
            let number = memory.reserve(InstanceId::at(at));
            memory.listed.push(number);
        }
        memory.reset_shared(|_| true);
        memory
    }

    /// Where the values are kept.
    #[must_use]
    pub fn layout(&self) -> &'l Layout<'p> {
        self.layout
    }

    fn reserve(&mut self, listed: InstanceId) -> InstanceAt {
        let facts = self.layout.project.registry.instance(listed);
        let (actor, scene) = (facts.of, facts.scene);
        self.instances.push(Instance {
            actor,
            listed: Some(listed),
            alive: false,
            scene,
            number: 0,
            values: Vec::new(),
        });
        InstanceAt(u32::try_from(self.instances.len() - 1).unwrap_or(u32::MAX))
    }

    /// Gives the shared cells that are meant their defaults.
    pub fn reset_shared(&mut self, meant: impl Fn(CellId) -> bool) {
        for at in 0..self.layout.cells.len() {
            let cell = CellId::at(at);
            if let Home::Shared(index) = self.layout.cells[at].home
                && meant(cell)
            {
                self.shared[index] = self.start_of(cell, None);
            }
        }
    }

    /// Gives a live instance's cells that are meant their starting values.
    pub fn reset_instance(&mut self, at: InstanceAt, meant: impl Fn(CellId) -> bool) {
        let instance = &self.instances[at.0 as usize];
        let (actor, listed) = (instance.actor, instance.listed);
        for (index, &cell) in self.layout.of_actor.get(&actor).into_iter().flatten().enumerate() {
            if meant(cell) {
                let value = self.start_of(cell, listed);
                if let Some(slot) = self.instances[at.0 as usize].values.get_mut(index) {
                    *slot = value;
                }
            }
        }
    }

    /// What a cell starts as.
    fn start_of(&self, cell: CellId, listed: Option<InstanceId>) -> Option<Value> {
        let facts = &self.layout.cells[cell.index()];
        let registry = &self.layout.project.registry;
        let Some(variable) = facts.variable else { return self.start_of_private(cell) };
        let constant = match listed {
            Some(listed) => registry.start_of(variable, listed),
            None => registry.var(variable).default.as_ref(),
        };
        match constant {
            Some(registry::Value::Ref(instance)) => Some(Value::Ref(self.listed.get(instance.index()).copied())),
            Some(constant) => Some(Value::constant(constant, facts.ty)),
            None if matches!(facts.ty, Type::Ref(_)) => Some(Value::Ref(None)),
            None => None,
        }
    }

    fn start_of_private(&self, cell: CellId) -> Option<Value> {
        let crate::project::Cell::Private(script, index) = self.layout.project.cells[cell.index()] else { return None };
        let unit = self.layout.project.script(script);
        let ty = unit.privates[index as usize].ty;
        match unit.tree.privates[index as usize].start {
            Some(start) => {
                let tick = self.layout.project.config.tick_length();
                Some(super::evaluate::constant(unit, start, tick).fitted(ty))
            }
            None => matches!(ty, Type::Ref(_)).then_some(Value::Ref(None)),
        }
    }

    // ---- instances ----

    /// Makes a listed instance, with what it kept or starts with.
    pub fn make_listed(&mut self, listed: InstanceId) -> InstanceAt {
        let at = self.listed[listed.index()];
        self.make(at);
        at
    }

    /// Makes a new instance of an actor.
    pub fn make_new(&mut self, actor: OwnerId, scene: Option<OwnerId>) -> InstanceAt {
        self.made[actor.index()] += 1;
        let number = self.made[actor.index()];
        self.instances.push(Instance { actor, listed: None, alive: false, scene, number, values: Vec::new() });
        let at = InstanceAt(u32::try_from(self.instances.len() - 1).unwrap_or(u32::MAX));
        self.make(at);
        at
    }

    fn make(&mut self, at: InstanceAt) {
        let (actor, listed) = (self.instances[at.0 as usize].actor, self.instances[at.0 as usize].listed);
        let cells = self.layout.of_actor.get(&actor).map_or(&[][..], Vec::as_slice);
        let values = cells
            .iter()
            .map(|&cell| match listed.and_then(|listed| self.kept.remove(&(listed, cell))) {
                Some(kept) => kept,
                None => self.start_of(cell, listed),
            })
            .collect();
        let instance = &mut self.instances[at.0 as usize];
        instance.values = values;
        instance.alive = true;
        self.live[actor.index()].push(at);
    }

    /// An instance is gone; its last values can still be read until [`Memory::forget`].
    pub fn end(&mut self, at: InstanceAt) {
        let instance = &mut self.instances[at.0 as usize];
        if !std::mem::replace(&mut instance.alive, false) {
            return;
        }
        let (actor, listed) = (instance.actor, instance.listed);
        self.live[actor.index()].retain(|&other| other != at);
        let Some(listed) = listed else { return };
        for (index, &cell) in self.layout.of_actor.get(&actor).into_iter().flatten().enumerate() {
            let variable = self.layout.cells[cell.index()].variable;
            if variable.is_some_and(|id| self.layout.project.registry.var(id).lifetime > Lifetime::Run) {
                self.kept.insert((listed, cell), self.instances[at.0 as usize].values[index].clone());
            }
        }
        self.listed[listed.index()] = self.reserve(listed);
    }

    /// Lets the last values of an instance go.
    pub fn forget(&mut self, at: InstanceAt) {
        self.instances[at.0 as usize].values = Vec::new();
    }

    /// The live instances of an actor, the oldest first.
    #[must_use]
    pub fn live(&self, actor: OwnerId) -> &[InstanceAt] {
        &self.live[actor.index()]
    }

    /// All live instances, the oldest first.
    #[must_use]
    pub fn all_live(&self) -> Vec<InstanceAt> {
        let mut all: Vec<InstanceAt> = self.live.iter().flatten().copied().collect();
        all.sort_unstable();
        all
    }

    /// The instance, if it is there.
    #[inline]
    #[must_use]
    pub fn there(&self, at: InstanceAt) -> Option<InstanceAt> {
        self.instances[at.0 as usize].alive.then_some(at)
    }

    /// A listed instance, if it is there.
    #[inline]
    #[must_use]
    pub fn listed(&self, listed: InstanceId) -> Option<InstanceAt> {
        self.there(self.listed[listed.index()])
    }

    /// A listed instance, if it is there; the script's own one also while it goes.
    #[inline]
    pub(super) fn listed_for(&self, of: Option<InstanceAt>, listed: InstanceId) -> Option<InstanceAt> {
        let own = of.filter(|of| self.instances[of.0 as usize].listed == Some(listed));
        own.or_else(|| self.listed(listed))
    }

    #[inline]
    pub(super) fn listed_instance(&self, listed: InstanceId) -> Option<&Instance> {
        self.listed(listed).map(|at| &self.instances[at.0 as usize])
    }

    /// The name of an instance: a listed one's own, or its actor's and a number.
    #[must_use]
    pub fn name(&self, at: InstanceAt) -> String {
        let instance = &self.instances[at.0 as usize];
        let registry = &self.layout.project.registry;
        match instance.listed {
            Some(listed) => registry.instance(listed).name.to_string(),
            None => format!("{} {}", registry.owner(instance.actor).name, instance.number),
        }
    }

    // ---- values ----

    /// The value of a cell, of the instance given where each has its own. A `ref` to what is gone is *none*.
    #[inline]
    #[must_use]
    pub fn get(&self, cell: CellId, of: Option<InstanceAt>) -> Option<Value> {
        match self.slot(cell, of)? {
            Value::Ref(Some(at)) if !self.instances[at.0 as usize].alive => Some(Value::Ref(None)),
            value => Some(value.clone()),
        }
    }

    /// A shared value, by its index.
    #[inline]
    pub(super) fn shared(&self, index: u32) -> Option<&Value> {
        self.shared.get(index as usize)?.as_ref()
    }

    /// Gives the value that is kept there another one.
    #[inline]
    pub(super) fn put_at(&mut self, home: Plain, of: Option<InstanceAt>, value: Scalar) {
        let slot = match (home, of) {
            (Plain::Shared(index), _) => self.shared.get_mut(index as usize),
            (Plain::Own(index) | Plain::Listed(_, index), Some(of)) => {
                self.instances[of.0 as usize].values.get_mut(index as usize)
            }
            _ => None,
        };
        if let Some(slot) = slot {
            *slot = Some(value.into());
        }
    }

    /// The number in a cell.
    #[inline]
    #[must_use]
    pub fn number(&self, cell: CellId, of: Option<InstanceAt>) -> Option<f64> {
        self.slot(cell, of)?.as_number()
    }

    #[inline]
    fn slot(&self, cell: CellId, of: Option<InstanceAt>) -> Option<&Value> {
        match self.layout.cells[cell.index()].home {
            Home::Shared(index) => self.shared[index].as_ref(),
            Home::Each(_, index) => self.instances[of?.0 as usize].values.get(index)?.as_ref(),
        }
    }

    /// Gives a cell a value, or takes it away.
    #[inline]
    pub fn put(&mut self, cell: CellId, of: Option<InstanceAt>, value: Option<Value>) {
        match (self.layout.cells[cell.index()].home, of) {
            (Home::Shared(index), _) => self.shared[index] = value,
            (Home::Each(_, index), Some(of)) => {
                if let Some(slot) = self.instances[of.0 as usize].values.get_mut(index) {
                    *slot = value;
                }
            }
            (Home::Each(..), None) => {}
        }
    }
}
