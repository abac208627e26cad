//! What a handler's run builds on, of all that the fixpoint changes: as long as that stays as it was, so does what the run
//! finds, and it need not be made again.

use super::waiting::{Beside, KeptOut};
use super::*;
use std::hash::{Hash, Hasher};

/// A fingerprint of what a run was told. Only those of one question, asked earlier and later, are compared.
type Told = u64;

/// What a run asked others for, and what it was told.
#[derive(Debug, Default)]
pub struct Asked {
    /// At its waits: what others do, but for the handlers that are kept out, and what goes on beside.
    waited: Vec<(KeptOut, Beside, Told)>,
    /// Where it spawned: what the handlers of these actors do at once, and what the new instances hold.
    spawned: Vec<(OwnerId, Told)>,
    /// Where an `after` block was put off: what the handler itself does.
    forked: Option<Told>,
}

impl Asked {
    pub(super) fn waited(&mut self, out: &KeptOut, beside: Beside, others: &Others) {
        if !self.waited.iter().any(|(known, then, _)| known == out && *then == beside) {
            self.waited.push((out.clone(), beside, told(others)));
        }
    }

    /// It put off an `after` block.
    pub fn forked(&mut self, itself: &Others) {
        self.forked = Some(told(itself));
    }

    /// It spawned one of an actor's.
    pub fn spawned(&mut self, actor: OwnerId, others: &Others, new: &[Option<Value>]) {
        if !self.spawned.iter().any(|&(known, _)| known == actor) {
            self.spawned.push((actor, told((others, new))));
        }
    }
}

/// What a run has built on.
#[derive(Debug)]
pub(super) struct Outlook {
    entry: Told,
    asked: Asked,
}

/// A hasher that multiplies each word with what it has by then, twice as wide, and folds the two halves of the product into one
/// (the step of W. Yi's wyhash, 2019). A cheaper one, that multiplies within one width, takes two numbers that have both changed
/// their sign for the same two.
#[derive(Default)]
struct Folder(u64);

impl Folder {
    const FIRST: u64 = 0xa076_1d64_78bd_642f;
    const SECOND: u64 = 0xe703_7ed1_a0b4_28db;
}

#[allow(clippy::cast_possible_truncation, reason = "the halves of a product are meant")]
impl Hasher for Folder {
    fn write_u64(&mut self, word: u64) {
        let product = u128::from(self.0 ^ word ^ Self::FIRST) * u128::from(Self::SECOND);
        self.0 = (product as u64 ^ (product >> 64) as u64).wrapping_add(word);
    }

    fn write_u8(&mut self, value: u8) {
        self.write_u64(u64::from(value));
    }

    fn write_u32(&mut self, value: u32) {
        self.write_u64(u64::from(value));
    }

    fn write_usize(&mut self, value: usize) {
        self.write_u64(value as u64);
    }

    fn write(&mut self, bytes: &[u8]) {
        for chunk in bytes.chunks(8) {
            let mut word = [0; 8];
            word[..chunk.len()].copy_from_slice(chunk);
            self.write_u64(u64::from_le_bytes(word));
        }
    }

    fn finish(&self) -> u64 {
        self.0
    }
}

fn told(what: impl Hash) -> Told {
    let mut hasher = Folder::default();
    what.hash(&mut hasher);
    hasher.finish()
}

impl World<'_> {
    /// What a run has built on that was told this as it began.
    pub(super) fn outlook(&self, run: &mut Run<'_, '_>, entry: Told) -> Outlook {
        Outlook { entry, asked: std::mem::take(&mut run.built_on) }
    }

    /// Whether a run would be told something else by now. It asks the same as long as it is told the same.
    pub(super) fn is_outdated(&self, handler: HandlerId, outlook: &Outlook) -> bool {
        let run = Run::new(self, handler);
        let Asked { waited, spawned, forked } = &outlook.asked;
        let let_in = |out: &KeptOut| out.iter().any(|&(id, extent)| self.is_under_way(id, Part::Main, handler, extent));
        self.told_at_entry(&run, &run.values_at_entry()) != outlook.entry
            || waited.iter().any(|(out, ..)| let_in(out))
            || waited.iter().any(|(out, beside, known)| told(self.effects_but_for(&run, out, *beside)) != *known)
            || spawned.iter().any(|&(actor, known)| self.told_by_spawning(&run, actor) != known)
            || forked.is_some_and(|known| told(self.effects_of_itself(&run)) != known)
    }

    fn told_by_spawning(&self, run: &Run<'_, '_>, actor: OwnerId) -> Told {
        told((&self.effects_of_spawning(run, actor), &self.values_of_new(run.table, actor)[..]))
    }

    /// What a run is told as it begins, where its places hold these values.
    pub(super) fn told_at_entry(&self, run: &Run<'_, '_>, values: &Values) -> Told {
        let mut hasher = Folder::default();
        for (at, facts) in run.table.slots.iter().enumerate() {
            values[at].hash(&mut hasher);
            facts.cell.into_iter().for_each(|cell| self.told_of_margins(cell).hash(&mut hasher));
            // Other values are what their cells can hold; a name may be known to hold one where its cell may be empty.
            if let (Some(cell), Type::Ref(_)) = (facts.cell, facts.ty) {
                self.reach[cell.index()].hash(&mut hasher);
            }
        }
        self.is_sent_unread(run.handler).hash(&mut hasher);
        self.told_of_handed(run).hash(&mut hasher);
        hasher.finish()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn two_that_change_their_sign_are_told_apart() {
        let value = |number: f64| Value::Num(Num::constant(number, true));
        let all: Vec<u64> = (-40..40).map(|at| told(value(f64::from(at)))).collect();
        let twice: Vec<u64> = (-40..40).map(|at| told([value(f64::from(at)), value(f64::from(at))])).collect();
        for told in [all, twice] {
            let distinct: FxHashSet<u64> = told.iter().copied().collect();
            assert_eq!(distinct.len(), told.len());
        }
    }
}
