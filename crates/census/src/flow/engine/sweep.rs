//! Procedures once a run has gone through more of them than it may call by call: at its end each of those is gone through from
//! whatever can be when it is called, for what it does to others and how its tests come out. No faults are told from
//! there: they would be of states that may never be.

use super::recursion::Recursion;
use super::*;
use std::collections::hash_map::Entry;

/// How often a procedure is gone through so, where its calls begin with more than was thought of.
const MOST_SWEEPS: u32 = 3;

/// The calls of a procedure that were not gone into.
struct Left {
    /// What they begin with.
    entry: State,
    /// How often it was gone through for them.
    sweeps: u32,
}

/// The procedures with such calls.
#[derive(Default)]
pub(super) struct LeftCalls {
    by_procedure: FxHashMap<ProcId, Left>,
    /// Those that are still to be gone through, by size: what calls others comes before them, and adds to what they begin with.
    due: BTreeSet<(usize, ProcId)>,
}

impl LeftCalls {
    fn add(&mut self, (size, id): (usize, ProcId), entry: State) {
        let is_new = match self.by_procedure.entry(id) {
            Entry::Vacant(vacant) => {
                vacant.insert(Left { entry, sweeps: 0 });
                true
            }
            Entry::Occupied(known) => known.into_mut().take(&entry),
        };
        if is_new {
            self.due.insert((size, id));
        }
    }

    fn next_due(&mut self) -> Option<(ProcId, State)> {
        let (_, id) = self.due.pop_last()?;
        let left = self.by_procedure.get_mut(&id)?;
        left.sweeps += 1;
        Some((id, left.entry.clone()))
    }
}

impl Left {
    /// Takes in what one more call begins with; says whether that is more.
    fn take(&mut self, entry: &State) -> bool {
        if self.sweeps == MOST_SWEEPS {
            return false;
        }
        let next = self.entry.clone().join(entry);
        let is_more = next != self.entry;
        self.entry = next;
        is_more
    }
}

impl Run<'_, '_> {
    /// A call that is not gone into by itself.
    pub(super) fn leave_call(&mut self, state: &mut State, mut entry: State, id: ProcId, call: ExprId) {
        self.answered = None;
        self.loosen(&mut entry);
        self.left_calls.add((self.world.size_of_procedure(self.script, id), id), entry);
        self.call_unseen(state, id);
        self.give_anything(state, call);
    }

    /// Whether the calls of some procedure were not gone into.
    pub(in crate::flow) fn leaves_calls(&self) -> bool {
        !self.left_calls.by_procedure.is_empty()
    }

    /// Goes through the procedures whose calls were left.
    pub(super) fn sweep(&mut self) {
        while let Some((id, entry)) = self.left_calls.next_due() {
            self.go_through(id, entry);
        }
    }

    /// Whatever can be: all cells hold anything that they ever do, whatever else holds.
    fn loosen(&self, state: &mut State) {
        state.suspects = Shared::default();
        state.unseen = Shared::default();
        state.facts = Facts::default();
        for (at, facts) in self.table.slots.iter().enumerate().filter(|(_, facts)| facts.cell.is_some()) {
            state.values[at] = state.values[at].join(&Abstract::of(self.world.reach(facts)));
        }
    }

    fn go_through(&mut self, id: ProcId, entry: State) {
        let graph = self.world.procedure_graph(self.script, id);
        let (told, in_loop) = (self.events.len(), std::mem::replace(&mut self.in_loop, true));
        self.stack.push(id);
        self.recursions.push(Recursion::given_up());
        self.results.push(None);
        self.answers.push(None);
        for mut end in self.body(graph, entry) {
            self.show_others(&mut end, |_| true);
        }
        self.answers.pop();
        self.results.pop();
        self.recursions.pop();
        self.stack.pop();
        self.in_loop = in_loop;
        self.events.truncate(told);
        self.reported.retain(|_, &mut at| at < told);
        self.dead = false;
    }
}
