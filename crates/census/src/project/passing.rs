//! Names that pass an instance on: what is asked of one name's instance, and matters where another name holds it, must be known
//! by every name between these two, though the script asks nothing through that one.

use super::{Base, Meaning, Place, PlaceId, ProcId, ScriptUnit};
use crate::registry::VarId;
use crate::script::ast::{ExprId, LocalId};
use rustc_hash::FxHashMap;
use std::collections::BTreeSet;

/// How many times an instance may be passed on between the first name and the last.
const MOST_BETWEEN: usize = 8;

/// How many times instances are passed on in a script at most: in longer ones, each name knows what is asked through itself.
const MOST_WAYS: usize = 256;
/// How many variables names come to know in this way.
const MOST_FOUND: usize = 256;

/// Who takes an instance.
#[derive(Clone, Copy)]
pub(super) enum Taker {
    /// A name that is assigned.
    Place(PlaceId),
    /// A `let`, or a parameter.
    Local(LocalId),
    /// Whoever calls the procedure that gives it.
    CallerOf(ProcId),
}

/// Where an instance may be: with a name, or on its way out of a procedure.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
enum Stop {
    At(Base),
    From(ProcId),
}

type Known = FxHashMap<Stop, BTreeSet<VarId>>;

/// The variables that names between two others come to know, by name: what is taken, by whom.
pub(super) fn find(unit: &ScriptUnit, taken: &[(Taker, ExprId)]) -> Vec<(PlaceId, VarId)> {
    let ways: BTreeSet<(Stop, Stop)> = taken.iter().filter_map(|&(taker, value)| way(unit, taker, value)).collect();
    if ways.len() < 2 || ways.len() > MOST_WAYS {
        return Vec::new();
    }
    let mut named = Known::default();
    for place in &unit.places {
        if let Place::Variable(variable, base) = *place {
            named.entry(Stop::At(base)).or_default().insert(variable);
        }
    }
    let before = along(&named, ways.iter().copied());
    let behind = along(&named, ways.iter().map(|&(from, to)| (to, from)));
    let mut found: Vec<(PlaceId, VarId)> = Vec::new();
    for (&stop, before) in &before {
        let (Stop::At(Base::Held(place)), Some(behind)) = (stop, behind.get(&stop)) else { continue };
        let own = named.get(&stop);
        let is_new = |variable: &&VarId| own.is_none_or(|own| !own.contains(*variable));
        found.extend(before.intersection(behind).filter(is_new).map(|&variable| (place, variable)));
    }
    found.sort_unstable();
    found.truncate(MOST_FOUND);
    found
}

/// From where an instance comes, and where it goes.
fn way(unit: &ScriptUnit, taker: Taker, value: ExprId) -> Option<(Stop, Stop)> {
    let from = match unit.meaning(value) {
        Meaning::Value(place) => Stop::At(Base::Held(place)),
        Meaning::Own => Stop::At(Base::Own),
        Meaning::Instance(instance) => Stop::At(Base::Listed(instance)),
        Meaning::Procedure(id) => Stop::From(id),
        _ => return None,
    };
    let to = match taker {
        Taker::Place(place) => Stop::At(Base::Held(place)),
        Taker::Local(local) => Stop::At(Base::Held(unit.local_places[local.0 as usize])),
        Taker::CallerOf(id) => Stop::From(id),
    };
    Some((from, to))
}

/// What is named at each stop, or at one from which it can be reached.
fn along(named: &Known, ways: impl Iterator<Item = (Stop, Stop)> + Clone) -> Known {
    let mut reached = named.clone();
    for _ in 0..=MOST_BETWEEN {
        let mut grown = false;
        for (from, to) in ways.clone().filter(|(from, to)| from != to) {
            let Some(more) = reached.get(&from).cloned() else { continue };
            let known = reached.entry(to).or_default();
            let count = known.len();
            known.extend(more);
            grown |= known.len() > count;
        }
        if !grown {
            break;
        }
    }
    reached
}
