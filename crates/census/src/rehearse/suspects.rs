//! What is wrong for now, until somebody can see it.

use super::layout::InstanceAt;
use crate::project::CellId;
use crate::registry::End;
use crate::source::Location;
use rustc_hash::FxHashMap;

/// What is wrong with a suspect.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub(super) enum Wrong {
    Outside(CellId, Option<InstanceAt>, End),
    NoValue(CellId, Option<InstanceAt>),
    False(usize, Option<InstanceAt>),
}

/// Something that is wrong for now, and the write that made it so.
#[derive(Clone, Copy, Debug)]
pub(super) struct Suspect {
    pub wrong: Wrong,
    pub at: Option<Location>,
}

/// All that is wrong for now. One handler can do wrong to thousands of instances, so each is found by what it is.
#[derive(Clone, Default, Debug)]
pub(super) struct Suspects {
    all: FxHashMap<Wrong, (u64, Option<Location>)>,
    added: u64,
}

impl Suspects {
    pub fn is_empty(&self) -> bool {
        self.all.is_empty()
    }

    pub fn contains(&self, wrong: Wrong) -> bool {
        self.all.contains_key(&wrong)
    }

    pub fn add(&mut self, wrong: Wrong, at: Option<Location>) {
        self.added += 1;
        self.all.insert(wrong, (self.added, at));
    }

    pub fn clear_of(&mut self, wrong: Wrong) {
        if !self.is_empty() {
            self.all.remove(&wrong);
        }
    }

    pub fn clear(&mut self) {
        self.all.clear();
    }

    /// Takes out those that are chosen, in the order in which they went wrong.
    pub fn take(&mut self, chosen: impl Fn(Wrong) -> bool) -> Vec<Suspect> {
        let mut taken: Vec<(u64, Suspect)> = self
            .all
            .extract_if(|wrong, _| chosen(*wrong))
            .map(|(wrong, (added, at))| (added, Suspect { wrong, at }))
            .collect();
        taken.sort_unstable_by_key(|&(added, _)| added);
        taken.into_iter().map(|(_, suspect)| suspect).collect()
    }
}
