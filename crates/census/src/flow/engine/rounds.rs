//! What a `for` over all instances leaves true of each of them.
//!
//! One round is run from whatever the loop's head allows: what holds of its instance at its end holds of every instance
//! behind the loop, by induction over the rounds, as long as nothing else in the loop touches what it is about.

use super::*;

/// A loop over the instances of an actor.
#[derive(Clone, Copy)]
pub(super) struct Each {
    /// Its head.
    pub head: BlockId,
    /// The name that holds the instance.
    pub place: PlaceId,
    /// The first block of a round.
    pub body: BlockId,
}

/// What is known of a variable, whichever instance it is taken from.
pub(super) struct OfAll {
    slot: Slot,
    value: Abstract,
    facts: SmallVec<[Linear; 4]>,
}

impl<'w> Run<'w, '_> {
    /// What holds of all instances once a loop over them is through: with the state in which a round begins, and the one of
    /// an instance that is passed over.
    pub(super) fn known_of_all(
        &mut self,
        graph: &'w Graph,
        each: Each,
        actor: OwnerId,
        inside: Option<&State>,
        passed_over: Option<&State>,
    ) -> Vec<OfAll> {
        let pairs = self.slots_of_any(each.place);
        // Rounds within rounds would take longer with each loop around them.
        if pairs.is_empty() || self.trying_a_round || graph.blocks[each.head.index()].loops > 0 {
            return Vec::new();
        }
        let there_is_one = self.world.least_count(self.handler, actor) >= 1.0;
        let quiet = std::mem::replace(&mut self.quiet, true);
        self.trying_a_round = true;
        let (mut ends, mut visited) = (Vec::new(), BTreeSet::new());
        if let Some(inside) = inside {
            (_, ends) = self.blocks(graph, each.body, inside.clone(), Some(each.head), &mut visited);
        }
        (self.quiet, self.trying_a_round) = (quiet, false);
        ends.extend(passed_over.cloned());
        let Some(written) = self.written_in(visited.iter().map(|&id| &graph.blocks[id.index()])) else {
            return Vec::new();
        };
        let mut known = Vec::new();
        for (own, any) in pairs {
            let Some((first, rest)) = ends.split_first() else { break };
            let variable = self.table.slots[own as usize].variable;
            let only_own =
                written.iter().all(|&slot| slot == own || self.table.slots[slot as usize].variable != variable);
            if !only_own {
                continue;
            }
            let told = first.facts.about(own).filter(|fact| {
                fact.terms.iter().all(|&(slot, _)| slot == own || self.is_kept(slot) && !written.contains(&slot))
            });
            let told = told.filter(|fact| rest.iter().all(|end| end.facts.implies(fact, &|slot| end.ends(slot))));
            let mut facts: SmallVec<[Linear; 4]> =
                told.map(|fact| fact.without(own).plus(&Linear::slot(any), fact.factor(own))).collect();
            let mut value = rest.iter().fold(first.value(own).clone(), |value, end| value.join(end.value(own)));
            if !there_is_one {
                // What a value that nothing holds lies between would be narrowed by it.
                value.value = anything(self.table.slots[own as usize].ty);
                let up = facts.iter().any(|fact| fact.factor(any) > 0.0);
                facts.retain(|fact| (fact.factor(any) > 0.0) == up);
            }
            known.push(OfAll { slot: any, value, facts });
        }
        known
    }

    /// Takes in what holds of all instances.
    pub(super) fn take_known_of_all(&self, state: &mut State, known: Vec<OfAll>) {
        for OfAll { slot, value, facts } in known {
            state.facts.forget(slot);
            state.values[slot as usize] = value;
            facts.into_iter().for_each(|fact| state.facts.add(fact));
        }
    }

    /// The variables taken from a name, each beside the slot that stands for any instance's.
    fn slots_of_any(&self, place: PlaceId) -> SmallVec<[(Slot, Slot); 2]> {
        let holder = self.slot(place).map(|holder| &self.table.slots[holder as usize]);
        let dependents = holder.into_iter().flat_map(SlotFacts::dependents);
        let pairs = dependents.filter_map(|&own| {
            let variable = self.table.slots[own as usize].variable?;
            Some((own, self.table.of_variable(variable, Base::Some)?))
        });
        pairs.collect()
    }

    /// Whether a slot means the same before and behind a loop.
    fn is_kept(&self, slot: Slot) -> bool {
        let facts = &self.table.slots[slot as usize];
        facts.cell.is_some() && matches!(facts.base, None | Some(Base::One | Base::Own | Base::Listed(_)))
    }

    /// The slots that blocks write; none where others can act in between, or a procedure is called.
    fn written_in(&self, blocks: impl Iterator<Item = &'w Block>) -> Option<SmallVec<[Slot; 8]>> {
        let mut written = SmallVec::new();
        for block in blocks {
            if let Exit::Fork { .. } | Exit::Choose(_) = block.exit {
                return None;
            }
            for step in &block.steps {
                match &step.kind {
                    StepKind::Assign { place, value, .. } if !self.calls_any(*value) => {
                        written.extend(self.slot(*place))
                    }
                    StepKind::Clear { place, .. } => written.extend(self.slot(*place)),
                    StepKind::Let { value, .. } if !self.calls_any(*value) => {}
                    StepKind::Bind { .. }
                    | StepKind::Read(_)
                    | StepKind::Begin { .. }
                    | StepKind::Send { .. }
                    | StepKind::Show { .. }
                    | StepKind::Hide { .. }
                    | StepKind::Note(_) => {}
                    _ => return None,
                }
            }
        }
        Some(written)
    }
}
