//! Who sends what only scripts send, and whose turn comes before it is answered: the queue is through before the game's next
//! signal, so whoever answers can build on what the senders knew, but for what others do in between.

use super::*;
use crate::flow::called;
use crate::flow::graph::{BlockId, Waiting};
use std::sync::Arc;

/// How many handlers may send a signal.
const MOST_SENDERS: usize = 4;

/// A handler as the sender of a signal: as it begins, or as it goes on after a wait.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub struct Sender {
    /// The handler.
    pub handler: HandlerId,
    /// It sends after a wait, or in an `after` block.
    pub later: bool,
}

/// A signal that a handler sends, and who acts before it is answered.
#[derive(Debug)]
pub(super) struct Handover {
    pub sender: Sender,
    /// Nobody else sends it at that moment.
    pub alone: bool,
    /// The signal is not in the queue twice, as far as others than this one activation go.
    pub once: bool,
    /// The statements that send it to each instance in turn, once.
    pub in_turn: SmallVec<[Span; 1]>,
    /// It goes to the sender's own instance, wherever it is sent.
    pub to_own: bool,
    /// What the sender writes afterwards.
    pub rewritten: FxHashSet<CellId>,
    /// Whose turn may come between the `send` and the answers, beside those for an instance that comes or goes; in order. Of
    /// those who answer too, those before count; where the signal is sent once, the sender doesn't.
    pub between: SmallVec<[Arc<[HandlerId]>; 2]>,
}

/// What is done for instances that come and go, whenever that is.
struct ComingAndGoing {
    /// What is sent as they come.
    sent: FxHashSet<SignalId>,
    /// The scene may be left.
    goes: bool,
}

/// Those whose turn may come before what one of them sends is answered.
#[derive(Clone)]
struct Company {
    /// In order.
    all: Arc<[HandlerId]>,
    /// One of them may leave the scene: another may be there by then.
    leaves: bool,
}

/// The companies that are known so far.
struct Companies {
    coming: ComingAndGoing,
    /// Of what time lets go on: all that are due at one moment are in the queue before what any of them sends.
    due: Company,
    /// Of what each tick sets off, which comes after what goes on at that moment.
    of_tick: Company,
    /// Of what comes every so often: after the ticks, but not after what these send.
    of_every: Company,
    of_start: Company,
    by_signal: FxHashMap<SignalId, Company>,
    changes: chains::Changes,
    /// All that time sets off or lets go on.
    all_due: Vec<HandlerId>,
}

impl World<'_> {
    /// What is known ahead of the signals that are handed over.
    pub(super) fn find_handovers(&self) -> FxHashMap<SignalId, Vec<Handover>> {
        let coming = self.find_coming_and_going();
        if coming.goes {
            return FxHashMap::default(); // Another scene may be there by then.
        }
        let ids = |meant: &dyn Fn(HandlerId) -> bool| self.handler_ids().filter(|&id| meant(id)).collect::<Vec<_>>();
        let by_time = |id: HandlerId| matches!(self.parts(id).1.trigger, Trigger::Tick | Trigger::Every(_));
        let changed = ids(&|id| matches!(self.parts(id).1.trigger, Trigger::Changed(_)));
        let due = ids(&|id| by_time(id) || self.yields[id.index()]);
        let goes_on_at_once = |id: HandlerId| self.yields[id.index()] && self.may_wait_no_time(id);
        let is_tick = |id: HandlerId| matches!(self.parts(id).1.trigger, Trigger::Tick);
        let from_tick_on = ids(&|id| by_time(id) || goes_on_at_once(id));
        let behind_tick = ids(&|id| by_time(id) && !is_tick(id) || goes_on_at_once(id));
        let opening = ids(&|id| self.openings[id.index()].is_some());
        let mut companies = Companies {
            of_tick: self.company(&due, [from_tick_on, changed.clone()].concat(), &coming),
            of_every: self.company(&due, [behind_tick, changed.clone()].concat(), &coming),
            due: self.company(&due, [&due[..], &changed].concat(), &coming),
            of_start: self.company(&opening, opening.clone(), &coming),
            by_signal: FxHashMap::default(),
            changes: self.find_changes(),
            all_due: due,
            coming,
        };
        let mut signals: Vec<SignalId> = self.answers.keys().copied().collect();
        signals.sort_unstable();
        let of = |signal: SignalId| Some((signal, self.handovers_of(signal, &mut companies)?));
        signals.into_iter().filter_map(of).collect()
    }

    fn find_coming_and_going(&self) -> ComingAndGoing {
        let mut coming = ComingAndGoing { sent: FxHashSet::default(), goes: false };
        for id in self.handler_ids().filter(|&id| self.is_for_coming_or_going(id)) {
            coming.goes |= self.leaves_scene(id);
            if matches!(self.parts(id).1.trigger, Trigger::Spawn) {
                coming.sent.extend(self.sending.sent_by(id));
            }
        }
        coming
    }

    pub(super) fn is_for_coming_or_going(&self, id: HandlerId) -> bool {
        matches!(self.parts(id).1.trigger, Trigger::Spawn | Trigger::Removed)
    }

    /// Those who are meant, and who answers what some of the others or new instances send.
    fn company(&self, sending: &[HandlerId], mut all: Vec<HandlerId>, coming: &ComingAndGoing) -> Company {
        let mut signals = coming.sent.clone();
        signals.extend(sending.iter().flat_map(|&id| self.sending.sent_by(id)));
        all.extend(signals.iter().filter_map(|sent| self.answers.get(sent)).flatten());
        all.sort_unstable();
        all.dedup();
        Company { leaves: all.iter().any(|&id| self.leaves_scene(id)), all: all.into() }
    }

    /// Whether a handler may go on at once after a wait: behind what is in the queue by then, and before what is sent later.
    pub(super) fn may_wait_no_time(&self, id: HandlerId) -> bool {
        let may_be_nothing =
            |time: &Duration| time.ticks(self.project.config.tick_rate).is_none_or(|ticks| ticks < 1.0);
        let waits =
            |step: &graph::Step| matches!(&step.kind, StepKind::Wait(Waiting::Time(time)) if may_be_nothing(time));
        let forks = |exit: &Exit| matches!(exit, Exit::Fork { delay, .. } if may_be_nothing(delay));
        let mut blocks = self.bodies_of(id).flat_map(|graph| &graph.blocks);
        blocks.any(|block| block.steps.iter().any(waits) || forks(&block.exit))
    }

    fn handovers_of(&self, signal: SignalId, companies: &mut Companies) -> Option<Vec<Handover>> {
        let declared = self.project.registry.signal(signal);
        let senders = self.sending.senders_of(signal);
        let is_fit = !declared.from_engine && senders.len() <= MOST_SENDERS;
        if !is_fit || self.unread.contains(&*declared.name) || self.sending.is_sent_in_asking(signal) {
            return None;
        }
        if senders.iter().chain(&self.answers[&signal]).any(|&id| self.leaves_scene(id)) {
            return None;
        }
        let mut handovers = Vec::new();
        for &handler in senders {
            let in_turn = self.sent_in_turn(handler, signal);
            let (to_own, rewritten) = (self.sends_to_own(handler, signal), self.rewritten_after(handler, signal));
            for later in [false, true].into_iter().filter(|later| !later || self.yields[handler.index()]) {
                let sender = Sender { handler, later };
                let (mut once, company) = self.company_of(handler, companies)?;
                let mut all: SmallVec<[Company; 2]> = smallvec![company];
                if later {
                    once = self.sends_once_in_all(handler, signal);
                    all.push(companies.due.clone());
                }
                if all.iter().any(|company| company.leaves) {
                    return None;
                }
                let sends_too = |&id: &HandlerId| id != handler && self.sending.sent_by(id).contains(&signal);
                let alone = !all.iter().flat_map(|company| company.all.iter()).any(sends_too)
                    && !companies.coming.sent.contains(&signal);
                once &= alone;
                let between = all.into_iter().map(|company| company.all).collect();
                let (in_turn, rewritten) = (in_turn.clone(), rewritten.clone());
                handovers.push(Handover { sender, alone, once, in_turn, to_own, rewritten, between });
            }
        }
        Some(handovers)
    }

    /// Whose turn may come before what a handler sends before it waits is answered, and whether one trigger sets off one
    /// activation of it; none where anyone's may.
    fn company_of(&self, handler: HandlerId, companies: &mut Companies) -> Option<(bool, Company)> {
        let is_one = self.is_one(handler);
        let led = self.signal_of(handler).filter(|&led| self.is_the_games_alone(led));
        match (&self.parts(handler).1.trigger, led) {
            (Trigger::Signal { .. }, Some(led)) => {
                let declared = self.project.registry.signal(led);
                if declared.bursts {
                    return None;
                }
                let Companies { by_signal, coming, .. } = companies;
                let new = || self.company(&self.answers[&led], self.answers[&led].clone(), coming);
                Some((is_one || !declared.to_all, by_signal.entry(led).or_insert_with(new).clone()))
            }
            (Trigger::Signal { .. } | Trigger::Changed(_), _) => {
                let all = self.answering_in_line(handler, &companies.changes, &companies.all_due)?;
                Some((is_one, self.company(&[], all, &companies.coming)))
            }
            (Trigger::Tick, _) => Some((is_one, companies.of_tick.clone())),
            (Trigger::Every(_), _) => Some((is_one, companies.of_every.clone())),
            (Trigger::Start, _) => Some((is_one, companies.of_start.clone())),
            _ => None,
        }
    }

    /// Whether a signal is never sent twice at one moment by what a handler goes on to do after its waits: there is one
    /// activation only, and no two parts of that go on beside each other, or only one statement sends it.
    fn sends_once_in_all(&self, id: HandlerId, signal: SignalId) -> bool {
        let forks = |graph: &Graph| graph.blocks.iter().any(|block| matches!(block.exit, Exit::Fork { .. }));
        let by_one_statement = || self.senders.get(&signal).is_some_and(Option::is_some);
        self.is_one(id) && self.alone[id.index()] && (!self.bodies_of(id).any(forks) || by_one_statement())
    }

    fn leaves_scene(&self, id: HandlerId) -> bool {
        self.goes && self.steps_of(id).any(|step| matches!(step.kind, StepKind::Go(_)))
    }

    /// The signal that a handler answers.
    #[must_use]
    pub fn signal_of(&self, id: HandlerId) -> Option<SignalId> {
        self.parts(id).0.handlers[self.handler(id).1].signal
    }

    /// Whether only the game sends a signal: the queue is empty as it comes.
    pub(super) fn is_the_games_alone(&self, signal: SignalId) -> bool {
        let declared = self.project.registry.signal(signal);
        declared.from_engine && !self.senders.contains_key(&signal) && !self.unread.contains(&*declared.name)
    }

    /// Whether a handler answers what only the game sends, and that one by one: the queue is empty as it comes.
    pub(super) fn answers_with_nothing_before(&self, id: HandlerId) -> bool {
        let is_single =
            |signal: SignalId| !self.project.registry.signal(signal).bursts && self.is_the_games_alone(signal);
        self.signal_of(id).is_some_and(is_single)
    }

    /// The bodies that a handler runs: its own, and those of all procedures that it comes to call, also as it asks whether it
    /// begins.
    pub(super) fn bodies_of(&self, id: HandlerId) -> impl Iterator<Item = &Graph> {
        let (script, index) = self.handler(id);
        let called = self.called_from(script, index..index + 1).into_iter();
        called.map(move |procedure| self.procedure_graph(script, procedure)).chain([self.handler_graph(id)])
    }

    pub(super) fn steps_of(&self, id: HandlerId) -> impl Iterator<Item = &graph::Step> {
        self.bodies_of(id).flat_map(|graph| &graph.blocks).flat_map(|block| &block.steps)
    }

    /// The signals that a handler sends, itself or through procedures.
    pub(super) fn sent_by(&self, id: HandlerId) -> Vec<SignalId> {
        self.steps_of(id).filter_map(once::sent).map(|(signal, _)| signal).collect()
    }

    /// The signals that a handler sends, itself or through procedures.
    #[must_use]
    pub fn signals_sent_by(&self, id: HandlerId) -> &[SignalId] {
        self.sending.sent_by(id)
    }

    /// The same, and the statements that send them.
    pub fn sends(&self, id: HandlerId) -> impl Iterator<Item = (SignalId, Span)> {
        self.steps_of(id).filter_map(|step| once::sent(step).map(|(signal, _)| (signal, step.span)))
    }

    fn sends_to_own(&self, id: HandlerId, signal: SignalId) -> bool {
        let unit = self.parts(id).0;
        let mut sent = self.steps_of(id).filter_map(once::sent).filter(|(sent, _)| *sent == signal);
        sent.all(|(_, to)| to.is_some_and(|to| unit.meaning(to) == Meaning::Own))
    }

    /// The statements by which a handler sends a signal to the instance that a loop has come to: once to each.
    fn sent_in_turn(&self, id: HandlerId, signal: SignalId) -> SmallVec<[Span; 1]> {
        let (unit, _, graph) = self.parts(id);
        let steps = || graph.blocks.iter().flat_map(|block| &block.steps);
        let given = |held| steps().any(|step| matches!(step.kind, StepKind::Assign { place, .. } if place == held));
        let visits = |to: ExprId| {
            let Meaning::Value(held) = unit.meaning(to) else { return false };
            let goes_over = |block: &graph::Block| matches!(block.exit, Exit::Each { place, .. } if place == held);
            graph.blocks.iter().any(goes_over) && !given(held)
        };
        let in_one_loop = graph.blocks.iter().filter(|block| block.loops == 1 && !block.loop_head);
        let sends =
            |step: &&graph::Step| once::sent(step).is_some_and(|(sent, to)| sent == signal && to.is_some_and(visits));
        in_one_loop.flat_map(|block| &block.steps).filter(sends).map(|step| step.span).collect()
    }

    /// Whether a handler sends a signal there to each instance in turn, once.
    pub(in crate::flow) fn sends_in_turn(&self, sender: HandlerId, signal: SignalId, at: Span) -> bool {
        let handovers = self.handovers.get(&signal).into_iter().flatten();
        handovers.into_iter().any(|handover| handover.sender.handler == sender && handover.in_turn.contains(&at))
    }

    /// What a handler writes behind a step that sends a signal, itself or through procedures.
    fn rewritten_after(&self, id: HandlerId, signal: SignalId) -> FxHashSet<CellId> {
        let (script, index) = self.handler(id);
        let sends = |step: &graph::Step| once::sent(step).is_some_and(|(sent, _)| sent == signal);
        let leads_there = |&id: &ProcId| {
            let bodies = self.called_by(script, vec![id]).into_iter().map(|id| self.procedure_graph(script, id));
            bodies.flat_map(|graph| &graph.blocks).flat_map(|block| &block.steps).any(sends)
        };
        let procedures: FxHashSet<ProcId> =
            self.called_from(script, index..index + 1).into_iter().filter(leads_there).collect();
        let mut written = FxHashSet::default();
        for graph in self.bodies_of(id) {
            self.add_rewritten(script, graph, &sends, &procedures, &mut written);
        }
        written
    }

    /// Adds what a body writes behind a step of this kind, or a call of one of these procedures.
    fn add_rewritten(
        &self,
        script: ScriptId,
        graph: &Graph,
        sends: &dyn Fn(&graph::Step) -> bool,
        procedures: &FxHashSet<ProcId>,
        written: &mut FxHashSet<CellId>,
    ) {
        let unit = self.project.script(script);
        let calls = |called: Vec<called::Called>| called.iter().any(|called| procedures.contains(&called.procedure));
        for block in &graph.blocks {
            let first = block.steps.iter().position(|step| sends(step) || calls(called::by_step(unit, step)));
            if first.is_none() && !calls(called::by_exit(unit, &block.exit)) {
                continue;
            }
            // The step itself may write what a procedure gives.
            let rest = first.map_or(&[][..], |first| &block.steps[first..]);
            let rest = graph::Block { steps: rest.to_vec(), ..block.clone() };
            written.extend(self.written_in(script, unit, &rest));
            let behind: FxHashSet<BlockId> = block.exit.successors().into_iter().collect();
            for next in behind {
                graph.from(next).for_each(|block| written.extend(self.written_in(script, unit, block)));
            }
        }
    }

    /// Whether a run keeps what it knows as it sends a signal.
    #[must_use]
    pub fn hands_over(&self, sender: HandlerId, signal: SignalId) -> bool {
        let handovers = self.handovers.get(&signal).into_iter().flatten();
        handovers.into_iter().any(|handover| handover.sender.handler == sender)
    }

    /// Whether what others do may come between what a handler answers and its turn.
    pub(super) fn is_handed(&self, id: HandlerId) -> bool {
        self.signal_of(id).is_some_and(|signal| self.handovers.contains_key(&signal))
    }
}
