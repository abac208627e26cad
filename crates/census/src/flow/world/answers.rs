//! What is certain to be done in answer to a signal: the queue is through before the game's next signal and before more time
//! passes, so what a handler leaves for that answer to deal with is there for nobody else.

use super::certain::Wanted;
use super::*;
use crate::flow::called::{self, Called};
use crate::flow::engine::Parting;
use crate::flow::graph::BlockId;

/// What the handlers of a signal certainly do before they first wait.
#[derive(Debug, Default)]
pub(super) struct Answer {
    /// They write or clear these, wherever they are.
    touched: FxHashSet<CellId>,
    /// They do so for their own instance.
    touched_of_own: FxHashSet<CellId>,
    /// The instances of these remove themselves.
    removed: FxHashSet<OwnerId>,
    /// The run ends.
    restarts: bool,
    /// The scene is left.
    goes: bool,
}

impl Answer {
    fn is_empty(&self) -> bool {
        let Self { touched, touched_of_own, removed, restarts, goes } = self;
        touched.is_empty() && touched_of_own.is_empty() && removed.is_empty() && !restarts && !goes
    }
}

/// What ends more than the handler that does it.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Ending {
    Restart,
    Go,
    RemoveSelf,
}

/// The procedures that were looked at, and whether every way through them comes to an ending.
type Endings = FxHashMap<ProcId, bool>;

impl World<'_> {
    /// Whether every way through a body comes to an ending before it first waits.
    fn comes_to(&self, ending: Ending, script: ScriptId, graph: &Graph, known: &mut Endings) -> bool {
        let unit = self.project.script(script);
        let (mut seen, mut open) = (vec![false; graph.blocks.len()], vec![BlockId(0)]);
        while let Some(at) = open.pop() {
            if std::mem::replace(&mut seen[at.index()], true) {
                continue;
            }
            let block = &graph.blocks[at.index()];
            let mut called = |calls: Vec<Called>| {
                let mut certain = calls.into_iter().filter(|called| called.certain);
                certain.any(|called| self.procedure_comes_to(ending, script, called.procedure, known))
            };
            let mut ends = |step: &graph::Step| match &step.kind {
                StepKind::Go(Some(_)) => ending == Ending::Go,
                _ => called(called::by_step(unit, step)),
            };
            let waits = |step: &graph::Step| super::certain::waits(unit, &step.kind);
            match block.steps.iter().find(|step| waits(step) || ends(step)) {
                Some(step) if waits(step) => return false,
                Some(_) => continue,
                None if called(called::by_exit(unit, &block.exit)) => continue,
                None => {}
            }
            match block.exit {
                Exit::Restart if ending == Ending::Restart => {}
                Exit::Gone if ending == Ending::RemoveSelf => {}
                Exit::End | Exit::Return(_) | Exit::Choose(_) | Exit::Restart | Exit::Gone => return false,
                _ => open.extend(block.exit.successors_now()),
            }
        }
        true
    }

    fn procedure_comes_to(&self, ending: Ending, script: ScriptId, id: ProcId, known: &mut Endings) -> bool {
        if let Some(&comes) = known.get(&id) {
            return comes;
        }
        known.insert(id, false); // Of one that calls itself nothing is certain.
        let comes = self.comes_to(ending, script, self.procedure_graph(script, id), known);
        known.insert(id, comes);
        comes
    }

    pub(super) fn find_certain_answers(&self) -> FxHashMap<SignalId, Answer> {
        let sent = self.senders.keys().filter_map(|signal| self.answers.get_key_value(signal));
        let answers: Vec<_> = sent.collect();
        let all = answers.into_par_iter().map(|(&signal, handlers)| (signal, self.certain_answer(handlers)));
        all.filter(|(_, answer)| !answer.is_empty()).collect()
    }

    fn certain_answer(&self, handlers: &[HandlerId]) -> Answer {
        let mut answer = Answer::default();
        for &id in handlers {
            let (unit, _, graph) = self.parts(id);
            let Some(owner) = unit.owner.filter(|_| self.answers_each_time(id) && unit.scene.is_none()) else {
                continue;
            };
            let script = self.handler(id).0;
            let comes_to = |ending| self.comes_to(ending, script, graph, &mut Endings::default());
            let touched = self.certain_of(id, graph, Wanted::Touch).into_iter();
            match self.project.registry.owner(owner).kind {
                OwnerKind::System => {
                    answer.touched.extend(touched.filter(|&cell| matches!(self.home(cell), Home::Everywhere)));
                    answer.restarts |= comes_to(Ending::Restart);
                    answer.goes |= comes_to(Ending::Go);
                }
                OwnerKind::Actor { .. } => {
                    let own = |cell: CellId| matches!(self.home(cell), Home::Instance(actor) if actor == owner);
                    answer.touched_of_own.extend(touched.filter(|&cell| own(cell)));
                    if comes_to(Ending::RemoveSelf) {
                        answer.removed.insert(owner);
                    }
                }
                OwnerKind::Scene => {}
            }
        }
        answer
    }

    /// Whether a handler has no test or filter that may keep it from answering.
    pub(super) fn answers_each_time(&self, id: HandlerId) -> bool {
        let (unit, handler, _) = self.parts(id);
        let is_picky = unit.handlers[self.handler(id).1].parameters.iter().any(|(_, filter)| filter.is_some());
        handler.when.is_none() && !is_picky && !self.guards_unread(id)
    }

    /// Whether more is certain of a signal's answer than that it comes.
    #[must_use]
    pub fn has_certain_answer(&self, signal: SignalId) -> bool {
        self.certain_answers.contains_key(&signal)
    }

    /// Whether what a handler leaves in a cell, perhaps of its own instance, is gone once a signal that it sent is answered.
    #[must_use]
    pub fn is_settled_by(
        &self,
        handler: HandlerId,
        (signal, to_own): (SignalId, bool),
        cell: CellId,
        is_own: bool,
    ) -> bool {
        let Some(answer) = self.certain_answers.get(&signal) else { return false };
        let goes_with = |parting| self.goes_with(handler, Some(cell), parting);
        let by_all = !to_own
            && (answer.touched.contains(&cell)
                || answer.restarts && goes_with(Parting::Restarted)
                || answer.goes && goes_with(Parting::Left));
        let removed = || self.parts(handler).0.owner.is_some_and(|owner| answer.removed.contains(&owner));
        let by_own = is_own && (answer.touched_of_own.contains(&cell) || removed() && goes_with(Parting::Removed));
        by_all || by_own
    }

    /// Whether a handler's turn can come between what leads to an answer and the answer: it is in the queue before, or due at
    /// the same moment.
    pub(super) fn comes_before_answer(&self, by: HandlerId, handler: HandlerId) -> bool {
        match (&self.parts(by).1.trigger, &self.parts(handler).1.trigger) {
            (_, Trigger::Signal { .. }) => {
                self.signal_of(handler).is_none_or(|signal| self.senders.contains_key(&signal))
                    || self.may_follow(by, handler)
            }
            (Trigger::Tick, Trigger::Every(_)) => true,
            (Trigger::Every(_), Trigger::Every(_)) => by != handler || self.answers_for_many(by),
            (_, Trigger::Tick | Trigger::Every(_)) => self.may_follow(by, handler),
            _ => true,
        }
    }
}
