//! What is certain to have been assigned: by a handler, on every way, before its first wait.

use super::called::{self, Called};
use super::graph::{BlockId, Exit, Graph, StepKind, Waiting};
use crate::project::{Base, Meaning, Place, PlaceId, ProcId, ScriptUnit};
use crate::registry::VarId;
use crate::script::ast::{AssignOp, ExprId, ExprKind};
use rustc_hash::{FxHashMap, FxHashSet};
use std::cell::RefCell;
use std::collections::BTreeMap;

/// What is asked to be certain of a place.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Wanted {
    /// It has a value.
    Value,
    /// It was written, be it by a step from what it held.
    Write,
    /// What it held before is gone: a value that is worked out from that is none of its own.
    Renewal,
    /// It was written, stepped or cleared: what it holds by then is what that has left.
    Touch,
}

/// What is certain to have been assigned.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub enum Assigned {
    /// A place.
    Place(PlaceId),
    /// A variable of the instance that a place holds.
    Of(PlaceId, VarId),
    /// A variable of each instance that is there, by a `for`.
    OfAll(VarId),
}

/// A script's bodies, and what is asked of them.
pub struct Asked<'a> {
    /// The script.
    pub unit: &'a ScriptUnit,
    /// The graphs of its procedures.
    pub procedures: &'a [Graph],
    /// What is asked to be certain.
    pub wanted: Wanted,
    /// What is known of procedures so far: nothing, of one that is still being looked at.
    pub known: RefCell<FxHashMap<ProcId, FxHashSet<Assigned>>>,
}

/// How deep procedures are gone into.
const DEEPEST: u32 = 32;

/// Finds what a graph certainly assigns, by a forward must-analysis; procedures count by their bodies.
#[must_use]
pub fn certain(asked: &Asked<'_>, graph: &Graph) -> FxHashSet<Assigned> {
    asked.of_graph(graph, DEEPEST)
}

type Known = BTreeMap<BlockId, FxHashSet<Assigned>>;

impl Asked<'_> {
    fn of_graph(&self, graph: &Graph, depth: u32) -> FxHashSet<Assigned> {
        let mut ends = None;
        let mut known = Known::from([(BlockId(0), FxHashSet::default())]);
        // Blocks stand in reverse postorder; what a loop's body adds on the way back can only shrink the head's set,
        // and the head's set came from before the loop, so one pass is enough.
        while let Some((at, mut assigned)) = known.pop_first() {
            let exit = &graph.blocks[at.index()].exit;
            if self.steps(graph, at, &mut assigned, depth) || exit.successors().is_empty() {
                meet(&mut ends, assigned);
                continue;
            }
            for next in exit.successors_now().into_iter().filter(|&next| next > at) {
                let mut assigned = assigned.clone();
                if let Exit::Each { done, .. } = exit
                    && next == *done
                {
                    assigned.extend(self.by_each(graph, at, depth));
                }
                join(&mut known, next, assigned);
            }
        }
        ends.unwrap_or_default()
    }

    /// What a `for` without a filter certainly gives each of its instances, in rounds that come to their end and don't wait.
    fn by_each(&self, graph: &Graph, head: BlockId, depth: u32) -> Vec<Assigned> {
        let Exit::Each { place, filter: None, body, done, .. } = graph.blocks[head.index()].exit else {
            return Vec::new();
        };
        let (mut rounds, mut known) = (None, Known::from([(body, FxHashSet::default())]));
        while let Some((at, mut assigned)) = known.pop_first() {
            if self.steps(graph, at, &mut assigned, depth) {
                return Vec::new();
            }
            for next in graph.blocks[at.index()].exit.successors_now() {
                if next == head {
                    meet(&mut rounds, assigned.clone());
                } else if next > at && next != done {
                    join(&mut known, next, assigned.clone());
                }
            }
        }
        let of_all = |assigned| match assigned {
            Assigned::Of(instance, id) if instance == place => Some(Assigned::OfAll(id)),
            _ => None,
        };
        rounds.into_iter().flatten().filter_map(of_all).collect()
    }

    /// Adds what a block's steps assign up to the first wait; says whether there is one.
    fn steps(&self, graph: &Graph, at: BlockId, assigned: &mut FxHashSet<Assigned>, depth: u32) -> bool {
        let block = &graph.blocks[at.index()];
        for step in &block.steps {
            if self.calls(called::by_step(self.unit, step), assigned, depth) {
                return true;
            }
            match &step.kind {
                StepKind::Assign { place, axis, op, value, .. } => {
                    if let Place::Local(_) = self.unit.place(*place) {
                        // Whatever it held goes by that name no more.
                        assigned.retain(|known| !matches!(known, Assigned::Of(holder, _) if holder == place));
                    }
                    let does = match self.wanted {
                        Wanted::Write | Wanted::Touch => true,
                        Wanted::Value => *op == AssignOp::Set,
                        Wanted::Renewal => {
                            *op == AssignOp::Set && axis.is_none() && !super::access::names(self.unit, *value, *place)
                        }
                    };
                    // A part of a vector that had no value gives it one: what was missing is told there.
                    if does {
                        assigned.insert(self.assigned(*place));
                    }
                }
                StepKind::Clear { place, .. } => match self.wanted {
                    Wanted::Value | Wanted::Write => self.take_out(*place, assigned),
                    Wanted::Renewal | Wanted::Touch => {
                        assigned.insert(self.assigned(*place));
                    }
                },
                StepKind::Wait(_) => return true,
                _ => {}
            }
        }
        self.calls(called::by_exit(self.unit, &block.exit), assigned, depth)
    }

    /// Adds what procedures assign that are called for certain; says whether one waits.
    fn calls(&self, calls: Vec<Called>, assigned: &mut FxHashSet<Assigned>, depth: u32) -> bool {
        for Called { call, procedure, .. } in calls.into_iter().filter(|called| called.certain) {
            let of_it = self.of_procedure(procedure, depth).into_iter();
            assigned.extend(of_it.filter_map(|assigned| self.as_passed(assigned, procedure, call)));
            if self.unit.procedures[procedure.index()].waits {
                return true;
            }
        }
        false
    }

    /// What a procedure certainly assigns, each looked at once.
    fn of_procedure(&self, id: ProcId, depth: u32) -> FxHashSet<Assigned> {
        if let Some(known) = self.known.borrow().get(&id) {
            return known.clone();
        }
        let Some(graph) = self.procedures.get(id.index()).filter(|_| depth > 0) else { return FxHashSet::default() };
        self.known.borrow_mut().insert(id, FxHashSet::default());
        let found = self.of_graph(graph, depth - 1);
        self.known.borrow_mut().insert(id, found.clone());
        found
    }

    fn assigned(&self, place: PlaceId) -> Assigned {
        match self.unit.place(place) {
            Place::Variable(id, Base::Held(instance)) => Assigned::Of(instance, id),
            _ => Assigned::Place(place),
        }
    }

    /// What a procedure assigns, by the name that its caller has for it.
    fn as_passed(&self, assigned: Assigned, id: ProcId, call: ExprId) -> Option<Assigned> {
        let Assigned::Of(instance, variable) = assigned else { return Some(assigned) };
        let Place::Local(local) = self.unit.place(instance) else { return Some(assigned) };
        let at = self.unit.procedures[id.index()].parameters.iter().position(|&parameter| parameter == local)?;
        let ExprKind::Call(_, arguments) = &self.unit.tree.expr(call).kind else { return None };
        Some(Assigned::Of(self.unit.place_of(*arguments.get(at)?)?, variable))
    }

    /// Takes out what is cleared, and what may be that by another name.
    fn take_out(&self, place: PlaceId, assigned: &mut FxHashSet<Assigned>) {
        assigned.remove(&self.assigned(place));
        if let Place::Variable(id, _) = self.unit.place(place) {
            assigned.remove(&Assigned::OfAll(id));
        }
    }
}

/// Of what comes together before a block only that stays which all ways bring.
fn join(known: &mut Known, block: BlockId, assigned: FxHashSet<Assigned>) {
    match known.get_mut(&block) {
        Some(other) => other.retain(|place| assigned.contains(place)),
        None => {
            known.insert(block, assigned);
        }
    }
}

fn meet(ends: &mut Option<FxHashSet<Assigned>>, assigned: FxHashSet<Assigned>) {
    match ends {
        Some(ends) => ends.retain(|place| assigned.contains(place)),
        None => *ends = Some(assigned),
    }
}

/// Whether a step waits.
#[must_use]
pub fn waits(unit: &ScriptUnit, kind: &StepKind) -> bool {
    match kind {
        StepKind::Wait(Waiting::Time(_) | Waiting::Until(_) | Waiting::Answer) => true,
        StepKind::Call(call) => match unit.meaning(*call) {
            Meaning::Procedure(id) => unit.procedures[id.index()].waits,
            _ => false,
        },
        _ => false,
    }
}
