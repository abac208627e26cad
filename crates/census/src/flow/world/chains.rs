//! Triggers that come one behind the other: where each dispatch puts one thing in the queue at most, nothing comes between what
//! is sent and its answer. `on changed sacks` sends for a boat, and that takes the sacks along.

use super::*;
use crate::flow::called;

/// How many triggers there may be in a chain, and how many handlers lead to one.
const MOST_LINKS: usize = 32;
/// How many handlers may answer one of them.
const MOST_ANSWERING: usize = 16;

/// What sets off a dispatch.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
enum Cause {
    Signal(SignalId),
    Changed(CellId),
    /// The run begins.
    Opening,
    /// Time does it: the only handler that is ever due.
    Due(HandlerId),
}

/// Who deals with the changes of cells, and who brings them about.
#[derive(Default)]
pub(super) struct Changes {
    listeners: FxHashMap<CellId, Vec<HandlerId>>,
    writers: FxHashMap<CellId, Vec<HandlerId>>,
    /// By handler: the cells that it writes, of those that somebody listens to.
    written: FxHashMap<HandlerId, FxHashSet<CellId>>,
}

impl Changes {
    fn add(&mut self, by: HandlerId, cell: CellId) {
        if self.written.entry(by).or_default().insert(cell) {
            self.writers.entry(cell).or_default().push(by);
        }
    }
}

impl World<'_> {
    pub(super) fn find_changes(&self) -> Changes {
        let mut changes = Changes::default();
        for id in self.handler_ids() {
            if let Some(cell) = self.changed_cell(id) {
                changes.listeners.entry(cell).or_default().push(id);
            }
        }
        for (script, _) in self.project.script_ids() {
            let accesses = &self.accesses[script.index()];
            let heard = |access: &&Access| access.writes() && changes.listeners.contains_key(&access.cell);
            let heard: Vec<(Body, CellId)> =
                accesses.iter().filter(heard).map(|access| (access.body, access.cell)).collect();
            let in_procedures = heard.iter().any(|(body, _)| matches!(body, Body::Procedure(_)));
            let callers = if in_procedures { self.callers_in(script) } else { FxHashMap::default() };
            for (body, cell) in heard {
                match body {
                    Body::Handler(index) => changes.add(self.handler_id(script, index), cell),
                    Body::Procedure(id) => callers.get(&id).into_iter().flatten().for_each(|&by| changes.add(by, cell)),
                }
            }
        }
        changes
    }

    /// By procedure of a script: the handlers that come to call it.
    fn callers_in(&self, script: ScriptId) -> FxHashMap<ProcId, Vec<HandlerId>> {
        let mut callers: FxHashMap<ProcId, Vec<HandlerId>> = FxHashMap::default();
        for id in self.handlers_of(script) {
            let index = self.handler(id).1;
            let called = self.called_from(script, index..index + 1);
            called.into_iter().for_each(|procedure| callers.entry(procedure).or_default().push(id));
        }
        callers
    }

    /// Those who answer the same trigger as a handler, where that comes alone in the queue whatever leads to it, and so does
    /// whatever comes of that.
    pub(super) fn answering_in_line(
        &self,
        id: HandlerId,
        changes: &Changes,
        due: &[HandlerId],
    ) -> Option<Vec<HandlerId>> {
        if changes.listeners.keys().any(|&cell| self.follows_a_bound(cell)) {
            return None; // Whoever writes the bound may change it too.
        }
        let mut open = self.first_causes(id, changes, due)?;
        let mut seen: FxHashSet<Cause> = FxHashSet::default();
        while let Some(cause) = open.pop() {
            if seen.insert(cause) {
                open.extend(self.one_caused_by(cause, changes)?);
            }
            if seen.len() > MOST_LINKS {
                return None;
            }
        }
        Some(self.set_off_by(self.cause_of(id, due)?, changes))
    }

    /// What ever leads to a handler with nothing in the queue before; none where something else may.
    fn first_causes(&self, id: HandlerId, changes: &Changes, due: &[HandlerId]) -> Option<Vec<Cause>> {
        let (mut all, mut at, mut first) = (vec![id], 0, Vec::new());
        while let Some(&next) = all.get(at) {
            at += 1;
            let cause = self.cause_of(next, due)?;
            let by: &[HandlerId] = match cause {
                Cause::Signal(signal) => self.sending.senders_of(signal),
                Cause::Changed(cell) => changes.writers.get(&cell).map_or(&[], |writers| writers),
                Cause::Opening | Cause::Due(_) => &[],
            };
            if self.comes_by_itself(cause) {
                first.push(cause);
            }
            if self.yields[next.index()] {
                first.push(self.due_alone(next, due)?);
            }
            let new: Vec<HandlerId> = by.iter().copied().filter(|by| !all.contains(by)).collect();
            all.extend(new);
            if all.len() > MOST_LINKS {
                return None;
            }
        }
        Some(first)
    }

    fn due_alone(&self, id: HandlerId, due: &[HandlerId]) -> Option<Cause> {
        (due == [id]).then_some(Cause::Due(id))
    }

    /// What a handler answers; none where that may come together with something else.
    fn cause_of(&self, id: HandlerId, due: &[HandlerId]) -> Option<Cause> {
        match self.parts(id).1.trigger {
            Trigger::Signal { .. } => {
                let signal = self.signal_of(id)?;
                let declared = self.project.registry.signal(signal);
                let is_fit = !declared.bursts
                    && !self.unread.contains(&*declared.name)
                    && !self.sending.is_sent_in_asking(signal);
                is_fit.then_some(Cause::Signal(signal))
            }
            Trigger::Changed(_) => {
                let cell = self.changed_cell(id).filter(|&cell| !self.follows_a_bound(cell))?;
                Some(Cause::Changed(cell))
            }
            Trigger::Start => Some(Cause::Opening),
            Trigger::Enter if !self.goes => Some(Cause::Opening),
            Trigger::Tick | Trigger::Every(_) => self.due_alone(id, due),
            _ => None,
        }
    }

    /// Whether the game or time brings something about.
    fn comes_by_itself(&self, cause: Cause) -> bool {
        match cause {
            Cause::Signal(signal) => self.project.registry.signal(signal).from_engine,
            Cause::Changed(cell) => match self.project.cells[cell.index()] {
                Cell::Variable(id) => self.by_game[id.index()],
                Cell::Private(..) => false,
            },
            Cause::Opening | Cause::Due(_) => true,
        }
    }

    fn set_off_by(&self, cause: Cause, changes: &Changes) -> Vec<HandlerId> {
        let known = |all: Option<&Vec<HandlerId>>| all.cloned().unwrap_or_default();
        match cause {
            Cause::Signal(signal) => known(self.answers.get(&signal)),
            Cause::Changed(cell) => known(changes.listeners.get(&cell)),
            Cause::Opening => self.handler_ids().filter(|id| self.openings[id.index()].is_some()).collect(),
            Cause::Due(id) => vec![id],
        }
    }

    /// The one thing, if any, that a dispatch puts in the queue; none where it may be more.
    fn one_caused_by(&self, cause: Cause, changes: &Changes) -> Option<Option<Cause>> {
        let mut caused: Option<Cause> = None;
        let mut add = |cause: Cause| caused.replace(cause).is_none();
        let mut changed: FxHashSet<CellId> = FxHashSet::default();
        let all = self.set_off_by(cause, changes);
        if all.len() > MOST_ANSWERING {
            return None;
        }
        for id in all {
            let others_act = self
                .steps_of(id)
                .any(|step| matches!(step.kind, StepKind::Spawn { .. } | StepKind::Remove(_) | StepKind::Go(_)));
            if others_act || self.asks_by_procedure(id) || self.yields[id.index()] && self.may_wait_no_time(id) {
                return None;
            }
            let sent = self.sent_in_all(id);
            let written = changes.written.get(&id);
            if !self.is_one(id) && (!sent.is_empty() || written.is_some()) {
                return None;
            }
            if !sent.into_iter().all(|signal| add(Cause::Signal(signal))) {
                return None;
            }
            changed.extend(written.into_iter().flatten());
        }
        let is_one = |cell: CellId| !matches!(self.home(cell), Home::Instance(of) if self.project.registry.is_many(of));
        let adds = changed.into_iter().all(|cell| is_one(cell) && add(Cause::Changed(cell)));
        adds.then_some(caused)
    }

    /// What a handler sends, each as often as a statement of its own does; twice what it may send over and over.
    fn sent_in_all(&self, id: HandlerId) -> Vec<SignalId> {
        let unit = self.parts(id).0;
        let script = self.handler(id).0;
        let mut sent = Vec::new();
        for block in &self.handler_graph(id).blocks {
            let times = if block.loops > 0 || block.loop_head { 2 } else { 1 };
            let own = block.steps.iter().filter_map(once::sent).map(|(signal, _)| signal);
            let calls = called::by_blocks(unit, [block]).into_iter();
            let passed_on = calls.flat_map(|called| {
                let through = self.called_by(script, vec![called.procedure]);
                through.into_iter().flat_map(move |id| self.sent_over_and_over(script, id, called.procedure))
            });
            let all: Vec<SignalId> = own.chain(passed_on).collect();
            (0..times).for_each(|_| sent.extend(&all));
        }
        sent
    }

    /// What a procedure sends: twice, where it is not the one that is called.
    fn sent_over_and_over(&self, script: ScriptId, id: ProcId, called: ProcId) -> Vec<SignalId> {
        let mut sent = Vec::new();
        for block in &self.procedure_graph(script, id).blocks {
            let times = if block.loops > 0 || block.loop_head || id != called { 2 } else { 1 };
            let own: Vec<SignalId> = block.steps.iter().filter_map(once::sent).map(|(signal, _)| signal).collect();
            (0..times).for_each(|_| sent.extend(&own));
        }
        sent
    }
}
