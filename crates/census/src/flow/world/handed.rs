//! What the only one who sends a signal has found out before: the queue is through before the game's next signal, so whoever
//! answers can build on that, but for what others do whose turn comes in between.

use super::*;
use crate::flow::graph::BlockId;

/// How often what is handed over may change before it counts for nothing.
const MOST_CHANGES: u32 = 12;

/// A signal that one statement sends alone, in answer to one of the game's.
#[derive(Debug)]
pub(super) struct Handover {
    sender: HandlerId,
    /// One signal of the game's sets off one activation of the sender, and so the signal is sent once.
    once: bool,
    /// It goes to the sender's own instance.
    to_own: bool,
    /// What goes along.
    arguments: Vec<ExprId>,
    /// What the sender writes afterwards.
    rewritten: FxHashSet<CellId>,
    /// Whose turn may come between the `send` and the answers, beside those who answer too and those for an instance that
    /// comes or goes; in order.
    between: Vec<HandlerId>,
}

/// What is done for instances that come and go, whenever that is.
struct ComingAndGoing {
    /// What is sent as they come.
    sent: FxHashSet<SignalId>,
    /// The scene may be left.
    goes: bool,
}

/// A place that two handlers know, by different slots.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
enum Common {
    Cell(CellId, Option<Base>),
    Argument(usize),
}

/// What holds as a signal is sent.
#[derive(PartialEq, Debug)]
pub(super) struct Handed {
    /// What the places hold; of arguments that is known anyhow.
    places: Vec<(Common, Option<Abstract>)>,
    /// How they relate, numbered as they stand there.
    facts: Vec<Linear>,
}

/// What was handed over last, and how often that was something new; none where nothing can be said.
pub(super) type HandedOver = (Option<Handed>, u32);

impl<'p> World<'p> {
    /// What is known ahead of the signals that are handed over.
    pub(super) fn find_handovers(&self) -> FxHashMap<SignalId, Handover> {
        let sent = self.senders.iter().filter_map(|(&signal, sender)| Some((signal, (*sender)?)));
        let coming = self.find_coming_and_going();
        sent.filter_map(|(signal, sender)| Some((signal, self.find_handover(signal, sender, &coming)?))).collect()
    }

    fn find_coming_and_going(&self) -> ComingAndGoing {
        let mut coming = ComingAndGoing { sent: FxHashSet::default(), goes: false };
        for id in self.handler_ids().filter(|&id| self.is_for_coming_or_going(id)) {
            coming.goes |= self.leaves_scene(id);
            if matches!(self.parts(id).1.trigger, Trigger::Spawn) {
                coming.sent.extend(self.sent_by(id));
            }
        }
        coming
    }

    fn is_for_coming_or_going(&self, id: HandlerId) -> bool {
        matches!(self.parts(id).1.trigger, Trigger::Spawn | Trigger::Removed)
    }

    fn find_handover(&self, signal: SignalId, sent: once::Sender, coming: &ComingAndGoing) -> Option<Handover> {
        let once::Sender { handler: sender, to_own, at: (block, step) } = sent;
        let answering = self.answers.get(&signal)?;
        let led = self.signal_of(sender).filter(|&led| self.is_the_games_alone(led))?;
        if self.project.registry.signal(led).bursts {
            return None;
        }
        if self.unread.contains(&*self.project.registry.signal(signal).name) {
            return None;
        }
        let once = self.is_one(sender) || !self.project.registry.signal(led).to_all;
        let mut between: Vec<HandlerId> =
            self.answers[&led].iter().copied().filter(|&id| id != sender || !once).collect();
        let mut signals = coming.sent.clone();
        signals.extend(between.iter().chain([&sender]).flat_map(|&id| self.sent_by(id)));
        let later = signals.iter().filter(|&&other| other != signal).filter_map(|other| self.answers.get(other));
        between.extend(later.flatten());
        between.sort_unstable();
        between.dedup();
        if coming.goes || between.iter().chain([&sender]).chain(answering).any(|&id| self.leaves_scene(id)) {
            return None; // Another scene may be there by then.
        }
        let (unit, _, graph) = self.parts(sender);
        let StepKind::Send { arguments, .. } = &graph.blocks[block.index()].steps[step].kind else { return None };
        let rewritten = self.rewritten_after(unit, sender, (block, step));
        Some(Handover { sender, once, to_own, arguments: arguments.clone(), rewritten, between })
    }

    fn leaves_scene(&self, id: HandlerId) -> bool {
        self.goes && self.steps_of(id).any(|step| matches!(step.kind, StepKind::Go(_)))
    }

    pub(super) fn signal_of(&self, id: HandlerId) -> Option<SignalId> {
        self.parts(id).0.handlers[self.handler(id).1].signal
    }

    /// Whether only the game sends a signal: the queue is empty as it comes.
    pub(super) fn is_the_games_alone(&self, signal: SignalId) -> bool {
        let declared = self.project.registry.signal(signal);
        declared.from_engine && !self.senders.contains_key(&signal) && !self.unread.contains(&*declared.name)
    }

    /// The steps of a handler and of all procedures that it comes to call, also as it asks whether it begins.
    fn steps_of(&self, id: HandlerId) -> impl Iterator<Item = &graph::Step> {
        let (script, index) = self.handler(id);
        let called = self.called_from(script, index..index + 1).into_iter();
        let bodies =
            called.map(move |procedure| self.procedure_graph(script, procedure)).chain([self.handler_graph(id)]);
        bodies.flat_map(|graph| &graph.blocks).flat_map(|block| &block.steps)
    }

    /// The signals that a handler sends, itself or through procedures.
    pub(super) fn sent_by(&self, id: HandlerId) -> Vec<SignalId> {
        self.steps_of(id).filter_map(once::sent).map(|(signal, _)| signal).collect()
    }

    /// What a handler writes behind one of its steps.
    fn rewritten_after(&self, unit: &ScriptUnit, id: HandlerId, at: (BlockId, usize)) -> FxHashSet<CellId> {
        let block = &self.handler_graph(id).blocks[at.0.index()];
        let (script, _) = self.handler(id);
        let rest = graph::Block { steps: block.steps[at.1 + 1..].to_vec(), ..block.clone() };
        let mut written = self.written_in(script, unit, &rest);
        for next in block.exit.successors() {
            written.extend(self.written_from(id).all(next));
        }
        written
    }

    /// Whether a run keeps what it knows as it sends a signal.
    #[must_use]
    pub fn hands_over(&self, sender: HandlerId, signal: SignalId) -> bool {
        self.handovers.get(&signal).is_some_and(|handover| handover.sender == sender)
    }

    /// What a run has found out before the signals that it sends.
    pub(super) fn handed_by(&self, run: &mut Run<'_, 'p>) -> Vec<(SignalId, Option<Handed>)> {
        let all = std::mem::take(&mut run.handing);
        all.into_iter().map(|(signal, state)| (signal, state.map(|state| self.handed(run, signal, &state)))).collect()
    }

    fn handed(&self, run: &Run<'_, 'p>, signal: SignalId, state: &State) -> Handed {
        let handover = &self.handovers[&signal];
        let slots = Slot::try_from(run.table.slots.len()).unwrap_or(Slot::MAX);
        let mut facts = state.facts.clone();
        let mut spans: Vec<(f64, f64)> = Vec::new();
        for (slot, &argument) in (slots..).zip(&handover.arguments) {
            let forms = run.forms(state, argument);
            let own = Linear::slot(slot);
            spans.push(crate::flow::forms::span(state, &forms));
            forms.uppers().iter().for_each(|upper| facts.add(own.plus(upper, -1.0)));
            forms.lowers().iter().for_each(|lower| facts.add(lower.plus(&own, -1.0)));
        }
        let ends = |slot: Slot| match slot.checked_sub(slots) {
            Some(argument) => spans[argument as usize],
            None => state.ends(slot),
        };
        let mut places: Vec<(Common, Option<Abstract>)> = Vec::new();
        let mut numbers: FxHashMap<Slot, Slot> = FxHashMap::default();
        for slot in 0..slots {
            let common = self.common_cell(run, slot).filter(|(cell, _)| !handover.rewritten.contains(cell));
            if let Some((cell, base)) = common {
                numbers.insert(slot, Slot::try_from(places.len()).unwrap_or(Slot::MAX));
                places.push((Common::Cell(cell, base), Some(state.value(slot).clone())));
            } else {
                facts.forget_within(slot, &ends, true);
            }
        }
        for at in 0..handover.arguments.len() {
            let number = |len: usize| Slot::try_from(len).unwrap_or(Slot::MAX);
            numbers.insert(slots.saturating_add(number(at)), number(places.len()));
            places.push((Common::Argument(at), None));
        }
        let facts = facts.iter().filter_map(|fact| renumbered(&fact, |slot| numbers.get(&slot).copied())).collect();
        Handed { places, facts }
    }

    /// The cell behind a slot that means the same to handlers for the same instance.
    fn common_cell(&self, run: &Run<'_, 'p>, slot: Slot) -> Option<(CellId, Option<Base>)> {
        let facts = &run.table.slots[slot as usize];
        let Key::Place(place) = facts.key else { return None };
        let cell = facts.cell.filter(|&cell| !matches!(facts.ty, Type::Ref(_)) && !self.follows_a_bound(cell))?;
        match run.unit.place(place) {
            Place::Private(_) => Some((cell, None)),
            Place::Variable(_, base @ (Base::One | Base::Listed(_))) => Some((cell, Some(base))),
            Place::Variable(_, Base::Own) => {
                let only = run.unit.owner.and_then(|actor| self.project.registry.only_instance(actor));
                Some((cell, Some(only.map_or(Base::Own, Base::Listed))))
            }
            _ => None,
        }
    }

    /// Takes in what a handler was handed over; says whether that is something new.
    pub(super) fn take_handed(&mut self, signal: SignalId, handed: Option<Handed>) -> bool {
        let (known, changes) = self.handed.entry(signal).or_insert_with(|| (None, 0));
        if *known == handed || *changes > MOST_CHANGES {
            return false;
        }
        *changes += 1;
        *known = handed.filter(|_| *changes <= MOST_CHANGES);
        true
    }

    /// Whether what others do may come between what a handler answers and its turn.
    pub(super) fn is_handed(&self, id: HandlerId) -> bool {
        self.signal_of(id).is_some_and(|signal| self.handovers.contains_key(&signal))
    }

    /// What a handler builds on of that which it was handed over.
    pub(super) fn told_of_handed(&self, run: &Run<'_, 'p>) -> Option<(u32, Others)> {
        let signal = self.signal_of(run.handler)?;
        let handover = self.handovers.get(&signal)?;
        let (known, changes) = self.handed.get(&signal)?;
        known.as_ref().map(|_| (*changes, self.effects_between(run, signal, handover)))
    }

    /// What is done between the `send` and the answer.
    fn effects_between(&self, run: &Run<'_, 'p>, signal: SignalId, handover: &Handover) -> Others {
        let comes_before = |by: HandlerId| {
            let answers = || self.answers[&signal].binary_search(&by).is_ok();
            let repeats = !handover.once || by == run.handler && !self.is_one(by);
            self.is_for_coming_or_going(by)
                || handover.between.binary_search(&by).is_ok()
                || (by < run.handler || repeats) && answers()
        };
        self.effects_on(
            run,
            |_| false,
            |effect, own| {
                effect.handler.is_none_or(comes_before) && !(own && effect.own && effect.handler == Some(run.handler))
            },
        )
    }

    /// Takes in what the sender knew as it sent what this handler answers; says whether it knew anything.
    pub(in crate::flow) fn take_over(&self, run: &mut Run<'_, 'p>, state: &mut State) -> bool {
        let Some(signal) = self.signal_of(run.handler) else { return false };
        let Some(handover) = self.handovers.get(&signal) else { return false };
        let Some((Some(handed), _)) = self.handed.get(&signal) else { return false };
        let slots = self.common_slots(run, handover, handed);
        for (&slot, (_, held)) in slots.iter().zip(&handed.places) {
            if let (Some(slot), Some(held)) = (slot, held) {
                let known = &mut state.values[slot as usize];
                known.unset &= held.unset;
                known.value = known.value.meet(&held.value).unwrap_or_else(|| known.value.clone());
            }
        }
        for fact in handed.facts.iter().filter_map(|fact| renumbered(fact, |place| slots[place as usize])) {
            let mut narrowed = state.clone();
            if narrowed.assume(fact).is_some() {
                *state = narrowed;
            }
        }
        let others = self.effects_between(run, signal, handover);
        run.apply(state, &others);
        true
    }

    /// The slots of the places in a handler that answers.
    fn common_slots(&self, run: &Run<'_, 'p>, handover: &Handover, handed: &Handed) -> Vec<Option<Slot>> {
        let sender = self.parts(handover.sender).0;
        let same_instance = sender.owner == run.unit.owner && (self.is_one(handover.sender) || handover.to_own);
        let parameters = &run.unit.handlers[self.handler(run.handler).1].parameters;
        let mut slots: FxHashMap<Common, Slot> = FxHashMap::default();
        for slot in 0..Slot::try_from(run.table.slots.len()).unwrap_or(Slot::MAX) {
            if let Some((cell, base)) = self.common_cell(run, slot) {
                if same_instance || !matches!(base, None | Some(Base::Own)) {
                    slots.insert(Common::Cell(cell, base), slot);
                }
            } else if let Key::Place(place) = run.table.slots[slot as usize].key
                && let Place::Local(local) = run.unit.place(place)
                && let Some(at) = parameters.iter().position(|&(parameter, _)| parameter == local)
            {
                slots.insert(Common::Argument(at), slot);
            }
        }
        handed.places.iter().map(|(place, _)| slots.get(place).copied()).collect()
    }
}

/// A form over other slots, where it has one for each of its own.
fn renumbered(form: &Linear, slot: impl Fn(Slot) -> Option<Slot>) -> Option<Linear> {
    let mut renumbered = Linear::constant(form.constant);
    for &(own, factor) in form.terms.iter() {
        renumbered = renumbered.plus(&Linear::slot(slot(own)?), factor);
    }
    renumbered.is_known().then_some(renumbered)
}
