//! What is known of invariants before anything runs: which of them may be built on, and what can upset them.

use super::*;

impl World<'_> {
    /// Whether each invariant is false of the defaults and the instances' own starting values. It is worked out in any
    /// handler that knows all its variables; where none does, nobody asks.
    pub(super) fn find_begins_false(&self) -> Vec<bool> {
        let mut begins_false = vec![false; self.project.invariants.len()];
        let mut by_handler: FxHashMap<HandlerId, Vec<(usize, Base)>> = FxHashMap::default();
        let mut knowing: Vec<Vec<HandlerId>> = vec![Vec::new(); begins_false.len()];
        for id in self.handler_ids() {
            self.table(id).invariants().for_each(|at| knowing[at].push(id));
        }
        for (at, knowing) in knowing.iter().enumerate() {
            let knows_all = |id: HandlerId| {
                let bases = self.table(id).invariant_bases(at).iter().copied();
                bases.map(move |base| (id, base)).find(|&(id, base)| self.slots_of(at, id, base).is_some())
            };
            if let Some((handler, base)) = knowing.iter().copied().find_map(knows_all) {
                by_handler.entry(handler).or_default().push((at, base));
            }
        }
        for (handler, invariants) in by_handler {
            let mut run = Run::new(self, handler);
            let state = run.unassuming();
            for (at, base) in invariants {
                begins_false[at] = self.begins_false(&mut run, &state, at, base);
            }
        }
        begins_false
    }

    /// The slots of an invariant's variables in a handler, if it knows all of them.
    fn slots_of(&self, invariant: usize, handler: HandlerId, base: Base) -> Option<Vec<(Slot, VarId)>> {
        let table = self.table(handler);
        let slots = self.project.invariants[invariant].variables.iter().map(|&variable| {
            let own = self.project.registry.var(variable).scope == Scope::Instance;
            table.of_variable(variable, if own { base } else { Base::One }).map(|slot| (slot, variable))
        });
        slots.collect()
    }

    fn begins_false(&self, run: &mut Run<'_, '_>, state: &State, at: usize, base: Base) -> bool {
        let registry = &self.project.registry;
        let Some(slots) = self.slots_of(at, run.handler, base) else { return false };
        let whose: Vec<Option<InstanceId>> = match self.project.invariants[at].actor {
            Some(actor) => std::iter::once(None).chain(registry.instances_of(actor).map(Some)).collect(),
            None => vec![None],
        };
        whose.into_iter().any(|instance| {
            let mut state = state.clone();
            for &(slot, variable) in &slots {
                let facts = registry.var(variable);
                let own = instance.and_then(|instance| registry.start_of(variable, instance));
                let Some(start) = own.or(facts.default.as_ref()) else { return false };
                state.values[slot as usize] = Abstract::of(self.constant(start, facts.ty));
            }
            run.judge(state, at, base).0.is_none()
        })
    }

    /// Whether an invariant can be taken to hold when a handler begins.
    #[must_use]
    pub fn can_be_assumed(&self, invariant: usize) -> bool {
        !self.begins_false[invariant]
    }

    /// Which moves of a variable can make an invariant false that was true.
    pub(in crate::flow) fn upsets(&self, invariant: usize, variable: VarId) -> Moved {
        self.upsets.get(&(invariant, variable)).copied().unwrap_or(Moved::EITHER)
    }

    /// Whether some script clears a variable.
    #[must_use]
    pub fn is_cleared(&self, variable: VarId) -> bool {
        self.cleared[variable.index()]
    }

    /// Whether a variable stands in an invariant.
    #[must_use]
    pub fn in_invariant(&self, variable: VarId) -> bool {
        self.invariants_of.contains_key(&variable)
    }

    /// The invariants that name a variable.
    #[must_use]
    pub fn invariants_of(&self, variable: VarId) -> &[usize] {
        self.invariants_of.get(&variable).map_or(&[], Vec::as_slice)
    }
}

pub(super) fn find_upsets(project: &Project) -> FxHashMap<(usize, VarId), Moved> {
    let all =
        project.invariants.iter().enumerate().filter_map(|(at, invariant)| Some((at, invariant, invariant.holds?)));
    let upsets = all.flat_map(|(at, invariant, holds)| {
        invariant.variables.iter().map(move |&variable| {
            let trend = Trend { project, unit: &invariant.unit, variable };
            ((at, variable), trend.upsets(holds, true))
        })
    });
    upsets.collect()
}

/// The words of stretches that could not be read, and those that names which mean nothing may stand for.
pub(super) fn invariants_of(project: &Project) -> FxHashMap<VarId, Vec<usize>> {
    let mut all: FxHashMap<VarId, Vec<usize>> = FxHashMap::default();
    for (at, invariant) in project.invariants.iter().enumerate() {
        invariant.variables.iter().for_each(|&variable| all.entry(variable).or_default().push(at));
    }
    all
}
