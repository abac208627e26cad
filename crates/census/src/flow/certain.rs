//! What is certain to have been assigned: by a handler, on every way, before its first wait.

use super::graph::{BlockId, Graph, StepKind, Waiting};
use crate::project::{Meaning, PlaceId, ProcId, ScriptUnit};
use crate::script::ast::AssignOp;
use rustc_hash::{FxHashMap, FxHashSet};

/// What is asked to be certain of a place.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Wanted {
    /// It has a value.
    Value,
    /// It was written, be it by a step from what it held.
    Write,
    /// What it held before is gone: a value that is worked out from that is none of its own.
    Renewal,
}

/// Finds what a graph certainly assigns, by a forward must-analysis; procedures count by their bodies.
#[must_use]
pub fn certain(
    unit: &ScriptUnit,
    graph: &Graph,
    procedures: &[Graph],
    wanted: Wanted,
    depth: u32,
) -> FxHashSet<PlaceId> {
    let mut known: FxHashMap<BlockId, FxHashSet<PlaceId>> = FxHashMap::default();
    let mut ends: Option<FxHashSet<PlaceId>> = None;
    known.insert(BlockId(0), FxHashSet::default());
    // Blocks stand in reverse postorder; what a loop's body adds on the way back can only shrink the head's set,
    // and the head's set came from before the loop, so one pass is enough.
    for (at, block) in (0u32..).zip(&graph.blocks) {
        let Some(mut assigned) = known.remove(&BlockId(at)) else { continue };
        let mut waits = false;
        for step in &block.steps {
            match &step.kind {
                StepKind::Assign { place, axis, op, value, .. } => {
                    let does = match wanted {
                        Wanted::Write => true,
                        Wanted::Value => *op == AssignOp::Set,
                        Wanted::Renewal => {
                            *op == AssignOp::Set && axis.is_none() && !super::access::names(unit, *value, *place)
                        }
                    };
                    // A part of a vector that had no value gives it one: what was missing is told there.
                    if does {
                        assigned.insert(*place);
                    }
                }
                StepKind::Clear { place, .. } => match wanted {
                    Wanted::Value | Wanted::Write => {
                        assigned.remove(place);
                    }
                    Wanted::Renewal => {
                        assigned.insert(*place);
                    }
                },
                StepKind::Wait(_) => waits = true,
                StepKind::Call(call) => {
                    if let Meaning::Procedure(id) = unit.meaning(*call) {
                        if depth > 0 {
                            assigned.extend(of_procedure(unit, id, procedures, wanted, depth));
                        }
                        waits |= unit.procedures[id.index()].waits;
                    }
                }
                _ => {}
            }
            if waits {
                break;
            }
        }
        if waits || block.exit.successors().is_empty() {
            meet(&mut ends, assigned);
            continue;
        }
        for next in block.exit.successors_now() {
            match known.get_mut(&next) {
                Some(other) => other.retain(|place| assigned.contains(place)),
                None => {
                    known.insert(next, assigned.clone());
                }
            }
        }
    }
    ends.unwrap_or_default()
}

fn of_procedure(unit: &ScriptUnit, id: ProcId, procedures: &[Graph], wanted: Wanted, depth: u32) -> FxHashSet<PlaceId> {
    let graph = procedures.get(id.index());
    graph.map_or_else(FxHashSet::default, |graph| certain(unit, graph, procedures, wanted, depth - 1))
}

fn meet(ends: &mut Option<FxHashSet<PlaceId>>, assigned: FxHashSet<PlaceId>) {
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
