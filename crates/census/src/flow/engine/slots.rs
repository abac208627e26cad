//! What each place of a handler stands for: its slots, and how they hang together.

use crate::flow::access::Used;
use crate::flow::world::{LoneSlot, ModeSlots};
use crate::project::InvariantFacts;

use super::*;

/// What a slot stands for.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub enum Key {
    /// A place of the script.
    Place(PlaceId),
    /// A cell that the handler doesn't name, and whose it is where it is a variable's: what is known of it is passed on.
    Passed(CellId, Option<Base>),
    /// What a procedure's call gave.
    Result(ExprId),
    /// Which scene is loaded.
    Scene,
    /// Whether a listed instance is there.
    Instance(InstanceId),
    /// How many instances of an actor there are.
    Count(OwnerId),
    /// How many rounds of a `repeat` are still to come.
    Rounds(ExprId),
    /// How many rounds of a `for` are still to come, by its name.
    RoundsOver(PlaceId),
    /// What a term gave that stands in several places, by each of those.
    Term(ExprId),
    /// What a procedure's call gave, times the place that a name stands for.
    Product(ExprId, ExprId),
}

/// One end of a slot's range.
#[derive(Clone, Copy, PartialEq, Debug)]
pub enum Limit {
    /// A number.
    Number(f64),
    /// Another slot.
    Slot(Slot),
}

/// What is known of a slot beforehand.
#[derive(Clone, Debug)]
pub struct SlotFacts {
    /// What it stands for.
    pub key: Key,
    /// Its type.
    pub ty: Type,
    /// The cell behind it.
    pub cell: Option<CellId>,
    /// The registry variable behind it.
    pub variable: Option<VarId>,
    /// Which instance that is taken from.
    pub base: Option<Base>,
    /// The lower end of its range.
    pub min: Option<Limit>,
    /// The upper end.
    pub max: Option<Limit>,
    /// The slots that hang on this one; few have any.
    links: Option<Box<Links>>,
    /// The group of slots of its variable, if there is more than one.
    group: Option<u32>,
    /// The slot that this one goes through.
    pub holder: Option<Slot>,
    /// The one number that it ever holds: a tuning value, say.
    pub fixed: Option<f64>,
    /// Since when there is the instance that it is taken from.
    origin: Origin,
}

/// The slots that hang on another.
#[derive(Clone, Debug, Default)]
struct Links {
    dependents: Vec<Slot>,
    bounds: Vec<Slot>,
    /// Those of the bounded that clamp.
    clamped: Vec<Slot>,
    /// Which ends of theirs it is: the least one, the greatest one.
    ends: (bool, bool),
}

/// One of the slots of a variable, and what it is taken from: all that the many others ask for, side by side.
#[derive(Clone, Copy, Debug)]
pub struct Alias {
    /// The slot.
    pub slot: Slot,
    /// The slot that it goes through.
    pub holder: Option<Slot>,
    /// Which instance it is taken from.
    pub base: Base,
    /// Since when there is that one.
    origin: Origin,
}

/// Since when there is an instance.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Origin {
    /// A `spawn` of this body made it.
    New,
    /// It was there before the activation began.
    Before,
    /// That is not known.
    Unknown,
}

/// The slots of one variable.
#[derive(Clone, Debug, Default)]
struct Group {
    slots: Vec<Alias>,
    /// Whether any of them bounds another.
    bounds: bool,
}

impl SlotFacts {
    /// Both ends of its range, each with the sign by which what is beyond it is more.
    #[must_use]
    pub fn limits(&self) -> [(End, Option<Limit>, f64); 2] {
        [(End::Max, self.max, 1.0), (End::Min, self.min, -1.0)]
    }

    /// Slots that go through this one.
    #[must_use]
    pub fn dependents(&self) -> &[Slot] {
        self.links.as_ref().map_or(&[], |links| &links.dependents)
    }

    /// Slots that this one bounds.
    #[must_use]
    pub fn bounds(&self) -> &[Slot] {
        self.links.as_ref().map_or(&[], |links| &links.bounds)
    }

    /// Those of the slots that this one bounds that move with it.
    #[must_use]
    pub fn clamped(&self) -> &[Slot] {
        self.links.as_ref().map_or(&[], |links| &links.clamped)
    }

    /// Whether this slot is such an end of another's range.
    #[must_use]
    pub fn is_bound(&self, end: End) -> bool {
        self.links.as_ref().is_some_and(|links| if end == End::Min { links.ends.0 } else { links.ends.1 })
    }

    fn links(&mut self) -> &mut Links {
        self.links.get_or_insert_default()
    }

    /// What stands for the slot's value in a linear form.
    #[must_use]
    pub fn form(&self, slot: Slot) -> Linear {
        self.fixed.map_or_else(|| Linear::slot(slot), Linear::constant)
    }
}

/// The slots of one handler.
#[derive(Clone, Debug, Default)]
pub struct SlotTable {
    /// All of them.
    pub slots: Vec<SlotFacts>,
    by_key: FxHashMap<Key, Slot>,
    by_variable: FxHashMap<(VarId, Base), Slot>,
    groups: Vec<Group>,
    /// The bases through which the handler names variables of instances, in order.
    bases: Vec<Base>,
    /// The slot of the loaded scene.
    pub scene: Slot,
    /// The `bool` locals that are assigned again, the numbers that are only given ones that are written out or that turn
    /// round, what procedures find out, and the flags of invariants: what they say of the way that was taken is kept.
    pub flags: Vec<Slot>,
    /// The names that something goes through.
    pub holders: Vec<Slot>,
    /// The numbers among the locals that are assigned again, those that procedures give, and those that a `match`
    /// with a way out asks for: how
    /// much a step is to move, say.
    pub amounts: Vec<Slot>,
    /// The slots of variables with a limit.
    pub limited: Vec<Slot>,
    /// The counts of actors' instances.
    pub counts: Vec<(Slot, OwnerId)>,
    /// Whether there are terms.
    pub has_terms: bool,
    /// Whether procedures are called that only sort things into a few.
    pub has_sorting: bool,
    /// The parameters of procedures that are named in terms.
    pub passed: Vec<Slot>,
    /// How long the bodies are.
    pub length: BodyLength,
    /// The invariants that can be judged here, in order, with the instances for which.
    invariants: Vec<(usize, Vec<Base>)>,
    /// The modes with the numbers that hang on them.
    pub modes: Vec<ModeSlots>,
    /// What nobody names the other half of such a pair beside.
    pub lone: Vec<LoneSlot>,
    /// The products that are kept track of.
    pub(super) products: Vec<products::Product>,
}

impl SlotTable {
    /// The slot of a key.
    #[must_use]
    pub fn slot(&self, key: Key) -> Option<Slot> {
        self.by_key.get(&key).copied()
    }

    /// The slot of a variable as taken from a base.
    #[must_use]
    pub fn of_variable(&self, variable: VarId, base: Base) -> Option<Slot> {
        self.by_variable.get(&(variable, base)).copied()
    }

    fn group(&self, slot: Slot) -> Option<&Group> {
        self.slots[slot as usize].group.map(|group| &self.groups[group as usize])
    }

    /// The other slots that may be the same variable of the same instance.
    pub fn aliases(&self, slot: Slot) -> impl Iterator<Item = &Alias> {
        let facts = &self.slots[slot as usize];
        let all = self.group(slot).map_or(&[][..], |group| &group.slots);
        let base = facts.base.map(|base| (base, facts.origin));
        all.iter().filter(move |alias| {
            alias.slot != slot && base.is_some_and(|base| may_be_same(base, (alias.base, alias.origin)))
        })
    }

    /// Of a slot of the script's own instance, the others of its variable that are taken through a name, with that name;
    /// of one taken through a name, the own instance's.
    pub fn beside_self(&self, slot: Slot) -> impl Iterator<Item = (Slot, Slot)> {
        let facts = &self.slots[slot as usize];
        let is_own = facts.base == Some(Base::Own);
        let through_names = self.group(slot).filter(|_| is_own).map_or(&[][..], |group| &group.slots);
        let through_name = matches!(facts.base, Some(Base::Held(_))) && facts.origin != Origin::New;
        let own = facts.holder.zip(facts.variable).filter(|_| through_name);
        let own = own.and_then(|(holder, variable)| Some((self.of_variable(variable, Base::Own)?, holder)));
        let through_names = through_names.iter().filter(|alias| alias.origin != Origin::New);
        through_names.filter_map(|alias| Some((alias.slot, alias.holder?))).chain(own)
    }

    /// Whether a slot, or another of the same variable, bounds others.
    #[must_use]
    pub fn bounds_by_any_name(&self, slot: Slot) -> bool {
        self.group(slot).map_or_else(|| !self.slots[slot as usize].bounds().is_empty(), |group| group.bounds)
    }

    /// The instances for which an invariant can be judged here.
    #[must_use]
    pub fn invariant_bases(&self, invariant: usize) -> &[Base] {
        let found = self.invariants.binary_search_by_key(&invariant, |&(at, _)| at);
        found.map_or(&[], |at| &self.invariants[at].1)
    }

    /// The invariants that can be judged here, in order.
    pub fn invariants(&self) -> impl Iterator<Item = usize> + '_ {
        self.invariants.iter().map(|&(at, _)| at)
    }

    fn find_invariants(&mut self, world: &World<'_>) {
        let variables = self.by_variable.keys().map(|&(variable, _)| variable);
        let mut all: Vec<usize> = variables.flat_map(|variable| world.invariants_of(variable)).copied().collect();
        all.sort_unstable();
        all.dedup();
        let known = all.into_iter().map(|at| (at, self.bases_of(&world.project.invariants[at])));
        self.invariants = known.filter(|(_, bases)| !bases.is_empty()).collect();
    }

    fn bases_of(&self, invariant: &InvariantFacts) -> Vec<Base> {
        if invariant.holds.is_none() {
            return Vec::new();
        }
        let known = |base| invariant.variables.iter().any(|&variable| self.of_variable(variable, base).is_some());
        if invariant.actor.is_none() {
            return if known(Base::One) { vec![Base::One] } else { Vec::new() };
        }
        self.bases.iter().copied().filter(|&base| known(base)).collect()
    }

    /// Makes the table for the places that a body and its procedures use.
    #[must_use]
    pub fn new(world: &World<'_>, unit: &ScriptUnit, used: &Used) -> Self {
        let mut table = Self::default();
        let others = used.results.len()
            + used.instances.len()
            + used.counted.len()
            + used.rounds.len()
            + used.rounds_over.len()
            + used.terms.terms.len()
            + used.products.len();
        table.slots.reserve_exact(1 + used.places.len() + others);
        table.scene = table.add(Key::Scene, Type::Text, None, None);
        table.add_places(world, unit, &used.places);
        table.has_sorting = used.results.iter().any(|&call| crate::flow::access::sorts(unit, call));
        for &call in &used.results {
            table.add(Key::Result(call), unit.ty(call), None, None);
        }
        for &instance in &used.instances {
            table.add(Key::Instance(instance), Type::Ref(None), None, None);
        }
        for &actor in &used.counted {
            let slot = table.add(Key::Count(actor), Type::Int, None, None);
            table.counts.push((slot, actor));
        }
        for &count in &used.rounds {
            table.add(Key::Rounds(count), Type::Int, None, None);
        }
        for &place in &used.rounds_over {
            table.add(Key::RoundsOver(place), Type::Int, None, None);
        }
        for places in &used.terms.terms {
            let slot = table.add(Key::Term(places[0]), unit.ty(places[0]), None, None);
            table.by_key.extend(places.iter().map(|&term| (Key::Term(term), slot)));
        }
        table.has_terms = !used.terms.terms.is_empty();
        table.passed = used.terms.passed.iter().filter_map(|&place| table.slot(Key::Place(place))).collect();
        table.length = used.length;
        table.find_products(unit, used);
        table.flags = used.flags.iter().filter_map(|&flag| table.slot(Key::Place(flag))).collect();
        table.flags.extend(table.flags_of_invariants(world));
        let given = used.results.iter().filter(|&&call| unit.ty(call).is_numeric()).map(|&call| Key::Result(call));
        let amounts = used.amounts.iter().map(|&place| Key::Place(place)).chain(given);
        table.amounts = amounts.filter(|_| used.length < BodyLength::Long).filter_map(|key| table.slot(key)).collect();
        table.link(world, unit);
        table.find_limited();
        table.find_invariants(world);
        table
    }

    /// The same table with more places, which stand behind all others: what is known by slot stays so.
    #[must_use]
    pub fn with_places(&self, world: &World<'_>, unit: &ScriptUnit, places: &[PlaceId]) -> Self {
        self.with(world, unit, |table| table.add_places(world, unit, places))
    }

    /// The same table with cells that the handler doesn't name.
    #[must_use]
    pub fn with_passed(&self, world: &World<'_>, unit: &ScriptUnit, passed: &[(CellId, Option<Base>)]) -> Self {
        self.with(world, unit, |table| {
            for &(cell, base) in passed {
                let variable = world.project.variable_of(cell).zip(base);
                let slot = table.add(Key::Passed(cell, base), world.type_of(cell), Some(cell), variable);
                table.by_variable.extend(variable.map(|variable| (variable, slot)));
            }
        })
    }

    fn with(&self, world: &World<'_>, unit: &ScriptUnit, add: impl FnOnce(&mut Self)) -> Self {
        let mut table = self.clone();
        for facts in &mut table.slots {
            (facts.links, facts.holder, facts.group) = (None, None, None);
        }
        add(&mut table);
        table.link(world, unit);
        table.find_limited();
        table.find_invariants(world);
        table
    }

    fn add_places(&mut self, world: &World<'_>, unit: &ScriptUnit, places: &[PlaceId]) {
        for &place in places {
            let cell = world.project.cell_of(unit, place);
            let variable = match unit.place(place) {
                Place::Variable(variable, base) => {
                    let slot = Slot::try_from(self.slots.len()).unwrap_or(Slot::MAX);
                    self.by_variable.insert((variable, base), slot);
                    Some((variable, base))
                }
                _ => None,
            };
            let slot = self.add(Key::Place(place), unit.place_types[place.index()], cell, variable);
            self.slots[slot as usize].fixed = cell.and_then(|cell| world.fixed(cell));
        }
    }

    fn find_limited(&mut self) {
        let all = (0..).zip(&self.slots);
        self.limited =
            all.filter(|(_, facts)| facts.min.is_some() || facts.max.is_some()).map(|(slot, _)| slot).collect();
        let bases: BTreeSet<Base> = self.by_variable.keys().map(|&(_, base)| base).collect();
        self.bases = bases.into_iter().filter(|base| *base != Base::One).collect();
    }

    /// The `bool` variables of invariants that say something of others here, too: which way was taken decides between them.
    fn flags_of_invariants(&self, world: &World<'_>) -> Vec<Slot> {
        let used: FxHashSet<VarId> = self.slots.iter().filter_map(|facts| facts.variable).collect();
        let beside = |flag: VarId| {
            let named = world.invariants_of(flag).iter().flat_map(|&at| &world.project.invariants[at].variables);
            named.into_iter().any(|other| *other != flag && used.contains(other))
        };
        let all = (0..).zip(&self.slots).filter(|(_, facts)| facts.ty == Type::Bool);
        let named = all.filter(|(_, facts)| facts.variable.is_some_and(beside));
        named.map(|(slot, _)| slot).collect()
    }

    pub(super) fn add(&mut self, key: Key, ty: Type, cell: Option<CellId>, variable: Option<(VarId, Base)>) -> Slot {
        let slot = Slot::try_from(self.slots.len()).unwrap_or(Slot::MAX);
        let facts = SlotFacts {
            key,
            ty,
            cell,
            variable: variable.map(|(id, _)| id),
            base: variable.map(|(_, base)| base),
            min: None,
            max: None,
            links: None,
            group: None,
            holder: None,
            fixed: None,
            origin: Origin::Unknown,
        };
        self.slots.push(facts);
        self.by_key.insert(key, slot);
        slot
    }

    fn link(&mut self, world: &World<'_>, unit: &ScriptUnit) {
        let mut same: FxHashMap<VarId, Vec<(Slot, Base)>> = FxHashMap::default();
        let mut all: Vec<(VarId, Base, Slot)> = self.by_variable.iter().map(|(&(v, b), &slot)| (v, b, slot)).collect();
        all.sort_unstable_by_key(|&(.., slot)| slot);
        for &(variable, base, slot) in &all {
            same.entry(variable).or_default().push((slot, base));
            let facts = world.project.registry.var(variable);
            for end in [End::Min, End::Max] {
                let limit = match facts.bound(end) {
                    Some(Bound::Number(value)) => Some(Limit::Number(*value)),
                    Some(Bound::Variable(other)) if world.fixed(CellId(other.0)).is_some() => {
                        world.fixed(CellId(other.0)).map(Limit::Number)
                    }
                    Some(Bound::Variable(other)) => {
                        let own = world.project.registry.var(*other).scope == crate::registry::Scope::Instance;
                        self.of_variable(*other, if own { base } else { Base::One }).map(Limit::Slot)
                    }
                    None => None,
                };
                match end {
                    End::Min => self.slots[slot as usize].min = limit,
                    End::Max => self.slots[slot as usize].max = limit,
                }
                if let Some(Limit::Slot(bound)) = limit {
                    let links = self.slots[bound as usize].links();
                    links.bounds.push(slot);
                    if facts.overflow == Overflow::Clamp {
                        links.clamped.push(slot);
                    }
                    links.ends = (links.ends.0 || end == End::Min, links.ends.1 || end == End::Max);
                }
            }
            if let Base::Held(held) = base
                && let Some(held) = self.slot(Key::Place(held))
            {
                self.slots[held as usize].links().dependents.push(slot);
                self.slots[slot as usize].holder = Some(held);
            }
            self.slots[slot as usize].origin = origin(unit, base);
        }
        let holds = |(slot, facts): (Slot, &SlotFacts)| (!facts.dependents().is_empty()).then_some(slot);
        self.holders = (0..).zip(&self.slots).filter_map(holds).collect();
        self.groups = same.into_values().filter(|group| group.len() > 1).map(|group| self.grouped(&group)).collect();
        for (at, group) in (0..).zip(&self.groups) {
            for alias in &group.slots {
                self.slots[alias.slot as usize].group = Some(at);
            }
        }
    }

    fn grouped(&self, slots: &[(Slot, Base)]) -> Group {
        let facts = |slot: Slot| &self.slots[slot as usize];
        let alias = |&(slot, base): &(Slot, Base)| {
            let facts = facts(slot);
            Alias { slot, base, holder: facts.holder, origin: facts.origin }
        };
        Group {
            slots: slots.iter().map(alias).collect(),
            bounds: slots.iter().any(|&(slot, _)| !facts(slot).bounds().is_empty()),
        }
    }
}

/// Since when there is an instance.
fn origin(unit: &ScriptUnit, base: Base) -> Origin {
    let is_spawned = |local: LocalId| unit.tree.local(local).kind == LocalKind::Spawned;
    match base {
        Base::Own | Base::Listed(_) => Origin::Before,
        Base::Held(place) => match unit.place(place) {
            Place::Local(local) if is_spawned(local) => Origin::New,
            _ => Origin::Unknown,
        },
        _ => Origin::Unknown,
    }
}

/// Whether two may be the same instance: what a `spawn` makes is none that another name was given before.
fn may_be_same((a, a_since): (Base, Origin), (b, b_since): (Base, Origin)) -> bool {
    match (a, b, a_since, b_since) {
        (Base::Listed(a), Base::Listed(b), ..) => a == b,
        (_, _, Origin::New, Origin::New | Origin::Before) | (_, _, Origin::Before, Origin::New) => false,
        _ => true,
    }
}
