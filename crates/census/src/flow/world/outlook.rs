//! What a handler's run builds on, of all that the fixpoint changes: as long as that stays as it was, so does what the run
//! finds, and it need not be made again.

use super::*;
use std::hash::{DefaultHasher, Hash, Hasher};

/// What a run asked others for.
#[derive(Debug, Default)]
pub struct Asked {
    /// At its waits: what others do, but for the handlers that are kept out.
    pub(super) waited: Vec<Vec<HandlerId>>,
    /// Where it spawned: what the handlers of these actors do at once.
    pub(super) spawned: Vec<OwnerId>,
}

impl Asked {
    pub(super) fn waited(&mut self, out: &[HandlerId]) {
        if !self.waited.iter().any(|known| known == out) {
            self.waited.push(out.to_vec());
        }
    }

    /// It spawned one of an actor's.
    pub fn spawned(&mut self, actor: OwnerId) {
        if !self.spawned.contains(&actor) {
            self.spawned.push(actor);
        }
    }
}

/// A run that was made: what it asked, and a fingerprint of all that it was told.
#[derive(Debug)]
pub(super) struct Outlook {
    asked: Asked,
    told: u64,
}

impl World<'_> {
    /// What a run has built on that asked this.
    pub(super) fn outlook(&self, handler: HandlerId, asked: Asked) -> Outlook {
        let told = self.told(handler, &asked);
        Outlook { asked, told }
    }

    /// Whether a run would be told something else by now. It asks the same as long as it is told the same.
    pub(super) fn is_outdated(&self, handler: HandlerId, outlook: &Outlook) -> bool {
        self.told(handler, &outlook.asked) != outlook.told
    }

    fn told(&self, handler: HandlerId, asked: &Asked) -> u64 {
        let mut hasher = DefaultHasher::new();
        let run = Run::new(self, handler);
        for facts in &run.table.slots {
            self.entry_value(handler, facts).hash(&mut hasher);
            // Other values are what their cells can hold; a name may be known to hold one where its cell may be empty.
            if let (Some(cell), Type::Ref(_)) = (facts.cell, facts.ty) {
                self.reach[cell.index()].hash(&mut hasher);
            }
        }
        asked.waited.iter().for_each(|out| self.effects_but_for(&run, out).hash(&mut hasher));
        asked.spawned.iter().for_each(|&actor| self.effects_of_spawning(&run, actor).hash(&mut hasher));
        for other in self.handlers_of(run.script) {
            self.begins_within.contains(&(other, handler)).hash(&mut hasher);
        }
        self.is_sent_unread(handler).hash(&mut hasher);
        hasher.finish()
    }
}
