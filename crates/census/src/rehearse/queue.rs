//! The queue of what is to be dispatched: first in, first out.

use super::activation::Activation;
use super::layout::InstanceAt;
use super::machine::Trigger;
use std::collections::VecDeque;

/// The queue. It knows how many activations in it are about to go on, since whatever is removed or left asks for those among
/// perhaps very many triggers.
#[derive(Clone, Debug, Default)]
pub(super) struct Queue {
    triggers: VecDeque<Trigger>,
    resuming: usize,
}

impl Queue {
    pub fn push(&mut self, trigger: Trigger) {
        self.resuming += usize::from(matches!(trigger, Trigger::Resume(_)));
        self.triggers.push_back(trigger);
    }

    pub fn pop(&mut self) -> Option<Trigger> {
        let trigger = self.triggers.pop_front()?;
        self.resuming -= usize::from(matches!(trigger, Trigger::Resume(_)));
        Some(trigger)
    }

    pub fn is_empty(&self) -> bool {
        self.triggers.is_empty()
    }

    pub fn clear(&mut self) {
        self.triggers.clear();
        self.resuming = 0;
    }

    /// The activations that are about to go on.
    pub fn resuming(&self) -> impl Iterator<Item = &Activation> {
        let some = if self.resuming == 0 { 0 } else { self.triggers.len() };
        self.triggers.iter().take(some).filter_map(|trigger| match trigger {
            Trigger::Resume(activation) => Some(&**activation),
            _ => None,
        })
    }

    /// Whether the `removed` handlers of an instance are still to come.
    pub fn has_removed(&self, at: InstanceAt) -> bool {
        self.triggers.iter().any(|trigger| matches!(trigger, Trigger::Removed(gone) if *gone == at))
    }

    /// Drops those activations that do not stay.
    pub fn retain_resuming(&mut self, mut stays: impl FnMut(&Activation) -> bool) {
        if self.resuming == 0 {
            return;
        }
        let mut dropped = 0;
        self.triggers.retain(|trigger| {
            let drops = matches!(trigger, Trigger::Resume(activation) if !stays(activation));
            dropped += usize::from(drops);
            !drops
        });
        self.resuming -= dropped;
    }
}
