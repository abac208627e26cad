//! What those who send a signal have found out before, for whoever answers it.

use super::handovers::{Handover, Sender};
use super::*;
use crate::flow::engine::HandedAt;
use crate::flow::linear::{BodyLength, Facts};

/// How often what is handed over may change before it counts for nothing.
const MOST_CHANGES: u32 = 12;

/// A place that two handlers know, by different slots.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
enum Common {
    Cell(CellId, Option<Base>),
    /// What the instance holds to which the signal goes.
    OfAnswering(CellId),
    Argument(usize),
    /// What the instance holds that goes along.
    Through(usize, CellId),
}

/// What holds as a signal is sent, or as its sender lets the queue go on.
#[derive(PartialEq, Debug)]
struct Held {
    /// What the places hold, as far as that is known.
    places: Vec<(Common, Option<Abstract>)>,
    /// How they relate, numbered as they stand there.
    facts: Vec<Linear>,
}

/// What a sender hands over.
#[derive(PartialEq, Debug)]
pub(super) struct Handed {
    /// By statement that sends it: what holds there of what is not written afterwards.
    sent: Vec<Held>,
    /// What holds once the sender waits or ends.
    left: Option<Held>,
    /// One activation may send it twice.
    again: bool,
}

/// What was handed over last, and how often that was something new; none where nothing can be said.
pub(super) type HandedOver = (Option<Handed>, u32);

impl<'p> World<'p> {
    /// What a run has found out before the signals that it sends.
    pub(super) fn handed_by(&self, run: &mut Run<'_, 'p>) -> Vec<(SignalId, Sender, Option<Handed>)> {
        let all = std::mem::take(&mut run.handing);
        let of = |((signal, later), handed): (_, HandedAt<'_>)| {
            let sender = Sender { handler: run.handler, later };
            let known = Some(handed).filter(|_| !run.leaves_calls());
            (signal, sender, known.and_then(|handed| self.handed(run, (signal, sender), &handed)))
        };
        all.into_iter().map(of).collect()
    }

    fn handed(
        &self,
        run: &Run<'_, 'p>,
        (signal, sender): (SignalId, Sender),
        HandedAt { sent, left, again }: &HandedAt<'_>,
    ) -> Option<Handed> {
        let handover = self.handovers[&signal].iter().find(|handover| handover.sender == sender)?;
        let stays = |cell| !handover.rewritten.contains(&cell);
        let sent = sent.values().map(|sent| self.held(run, &sent.state, (sent.arguments, sent.to), stays)).collect();
        let left = left.as_ref().filter(|_| !handover.rewritten.is_empty());
        Some(Handed { sent, left: left.map(|state| self.held(run, state, (&[], None), |_| true)), again: *again })
    }

    /// What holds of the cells that are meant, and of what goes along.
    fn held(
        &self,
        run: &Run<'_, 'p>,
        state: &State,
        (arguments, to): (&[ExprId], Option<Base>),
        meant: impl Fn(CellId) -> bool,
    ) -> Held {
        let slots = Slot::try_from(run.table.slots.len()).unwrap_or(Slot::MAX);
        let mut facts = state.facts.clone();
        let mut spans: Vec<(f64, f64)> = Vec::new();
        for (slot, &argument) in (slots..).zip(arguments) {
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
        let brought: SmallVec<[Option<Base>; 4]> = arguments.iter().map(|&argument| run.base_of(argument)).collect();
        let through = |slot: Slot| {
            let cell = |to: &Option<Base>| to.and_then(|to| self.cell_of(run, slot, to));
            brought.iter().enumerate().find_map(|(at, to)| Some(Common::Through(at, cell(to)?)))
        };
        let mut places: Vec<(Common, Option<Abstract>)> = Vec::new();
        let mut numbers: FxHashMap<Slot, Slot> = FxHashMap::default();
        for slot in 0..slots {
            let of_answering = to.and_then(|to| self.cell_of(run, slot, to)).map(Common::OfAnswering);
            let common = || {
                self.common_cell(run.unit, &run.table.slots[slot as usize]).map(|(cell, base)| Common::Cell(cell, base))
            };
            let is_meant = |common: &Common| match *common {
                Common::Cell(cell, _) | Common::OfAnswering(cell) | Common::Through(_, cell) => meant(cell),
                Common::Argument(_) => true,
            };
            if let Some(common) = of_answering.or_else(common).or_else(|| through(slot)).filter(is_meant) {
                numbers.insert(slot, Slot::try_from(places.len()).unwrap_or(Slot::MAX));
                places.push((common, Some(state.value(slot).clone())));
            } else {
                facts.forget_within(slot, &ends, true);
            }
        }
        for (at, &(lo, hi)) in spans.iter().enumerate() {
            let number = |len: usize| Slot::try_from(len).unwrap_or(Slot::MAX);
            numbers.insert(slots.saturating_add(number(at)), number(places.len()));
            let is_known = lo.is_finite() || hi.is_finite();
            let value = is_known.then(|| Abstract::of(Value::Num(Num::range(lo, hi, false))));
            places.push((Common::Argument(at), value));
        }
        let facts = facts.iter().filter_map(|fact| renumbered(&fact, |slot| numbers.get(&slot).copied())).collect();
        Held { places, facts }
    }

    /// The cell behind a slot of the instance that a base names, but for the script's own.
    fn cell_of(&self, run: &Run<'_, 'p>, slot: Slot, to: Base) -> Option<CellId> {
        let facts = &run.table.slots[slot as usize];
        let is_meant = to != Base::Own && facts.base == Some(to) && !matches!(facts.ty, Type::Ref(_));
        facts.cell.filter(|&cell| is_meant && !self.follows_a_bound(cell))
    }

    /// The cell behind a slot that means the same to handlers for the same instance.
    pub(super) fn common_cell(&self, unit: &ScriptUnit, facts: &SlotFacts) -> Option<passed::CommonCell> {
        let place = match facts.key {
            Key::Place(place) => place,
            Key::Passed(cell, base) => return Some((cell, base)),
            _ => return None,
        };
        let cell = facts.cell.filter(|&cell| !matches!(facts.ty, Type::Ref(_)) && !self.follows_a_bound(cell))?;
        match unit.place(place) {
            Place::Private(_) => Some((cell, None)),
            Place::Variable(_, base @ (Base::One | Base::Listed(_))) => Some((cell, Some(base))),
            Place::Variable(_, Base::Own) => {
                let only = unit.owner.and_then(|actor| self.project.registry.only_instance(actor));
                Some((cell, Some(only.map_or(Base::Own, Base::Listed))))
            }
            _ => None,
        }
    }

    /// The cell behind a slot of the script's own instance.
    fn own_cell(&self, run: &Run<'_, 'p>, slot: Slot) -> Option<CellId> {
        let facts = &run.table.slots[slot as usize];
        let Key::Place(place) = facts.key else { return None };
        let is_own = matches!(run.unit.place(place), Place::Variable(_, Base::Own)) && run.unit.owner.is_some();
        facts.cell.filter(|_| is_own && !matches!(facts.ty, Type::Ref(_)))
    }

    /// Takes in what a handler was handed over; says whether that is something new.
    pub(super) fn take_handed(&mut self, signal: SignalId, sender: Sender, handed: Option<Handed>) -> bool {
        let (known, changes) = self.handed.entry((signal, sender)).or_insert_with(|| (None, 0));
        if *known == handed && *changes > 0 || *changes > MOST_CHANGES {
            return false;
        }
        *changes += 1;
        *known = handed.filter(|_| *changes <= MOST_CHANGES);
        true
    }

    /// What its senders hand over to a handler, as far as they have been looked at; none where nothing can be said.
    fn handed_to(&self, id: HandlerId) -> Option<Vec<(&Handover, &Handed, u32)>> {
        let signal = self.signal_of(id)?;
        let mut all = Vec::new();
        for handover in self.handovers.get(&signal)? {
            if let Some((handed, changes)) = self.handed.get(&(signal, handover.sender)) {
                all.push((handover, handed.as_ref()?, *changes));
            }
        }
        (!all.is_empty()).then_some(all)
    }

    /// What a handler builds on of that which it was handed over.
    pub(super) fn told_of_handed(&self, run: &Run<'_, 'p>) -> Option<Vec<(u32, Others)>> {
        let all = self.handed_to(run.handler)?.into_iter();
        Some(all.map(|(handover, handed, changes)| (changes, self.effects_between(run, handover, handed))).collect())
    }

    /// What is done between the `send` and the answer.
    fn effects_between(&self, run: &Run<'_, 'p>, handover: &Handover, handed: &Handed) -> Others {
        let signal = self.signal_of(run.handler);
        let once = handover.once && !handed.again;
        // What goes to the sender itself goes to this one once, however many send it.
        let once_for_it = once || handover.alone && handover.to_own && !handed.again;
        let comes_before = |by: HandlerId| {
            if self.is_for_coming_or_going(by) {
                return true;
            }
            if self.signal_of(by) == signal {
                return by < run.handler || !once || by == run.handler && !self.is_one(by);
            }
            let is_between = handover.between.iter().any(|company| company.binary_search(&by).is_ok());
            is_between && !(handover.once && by == handover.sender.handler)
        };
        self.effects_on(
            run,
            |_| false,
            |_, effect, own| {
                let of_this = own && effect.own && effect.handler == Some(run.handler);
                effect.handler.is_none_or(comes_before) && !(of_this && once_for_it)
            },
        )
    }

    /// Takes in what the senders knew as they sent what this handler answers; says whether they knew anything.
    pub(in crate::flow) fn take_over(&self, run: &mut Run<'_, 'p>, state: &mut State) -> bool {
        let Some(all) = self.handed_to(run.handler) else { return false };
        // What the places hold goes together with what comes along: one sender has made sure that there is room for one
        // parcel, the other that there is room for three.
        let brought = self.brought_to(run);
        let mut joined: Option<State> = None;
        for (handover, handed, _) in all {
            let mut ways = handed.sent.iter().map(|held| self.with_held(run, handover, held, state.clone()));
            let Some(first) = ways.next() else { continue };
            let mut way = ways.fold(first, |all, way| all.joined(&way, &brought));
            if let Some(left) = &handed.left {
                way = self.with_held(run, handover, left, way);
            }
            let others = self.effects_between(run, handover, handed);
            run.apply(&mut way, &others);
            joined = Some(match joined {
                Some(joined) => joined.joined(&way, &brought),
                None => way,
            });
        }
        let knows = joined.is_some();
        *state = joined.unwrap_or_else(|| state.clone());
        knows
    }

    /// The slots of what comes along with a signal.
    fn brought_to(&self, run: &Run<'_, 'p>) -> Vec<Slot> {
        let parameters = &run.unit.handlers[self.handler(run.handler).1].parameters;
        let is_brought = |slot: Slot| match run.table.slots[slot as usize].key {
            Key::Place(place) => match run.unit.place(place) {
                Place::Local(local) => parameters.iter().any(|&(parameter, _)| parameter == local),
                _ => false,
            },
            _ => false,
        };
        (0..Slot::try_from(run.table.slots.len()).unwrap_or(Slot::MAX)).filter(|&slot| is_brought(slot)).collect()
    }

    /// A state with what a sender knew.
    fn with_held(&self, run: &Run<'_, 'p>, handover: &Handover, held: &Held, mut state: State) -> State {
        let slots = self.common_slots(run, handover, held);
        for (&slot, (_, value)) in slots.iter().zip(&held.places) {
            if let (Some(slot), Some(value)) = (slot, value) {
                let known = &mut state.values[slot as usize];
                known.unset &= value.unset;
                known.value = known.value.meet(&value.value).unwrap_or_else(|| known.value.clone());
            }
        }
        let facts = known_of(held, &slots, run.table.length);
        for fact in facts.iter().filter_map(|fact| renumbered(&fact, |place| slots[place as usize])) {
            let mut narrowed = state.clone();
            if narrowed.assume(fact).is_some() {
                state = narrowed;
            }
        }
        state
    }

    /// The slots of the places in a handler that answers.
    fn common_slots(&self, run: &Run<'_, 'p>, handover: &Handover, held: &Held) -> Vec<Option<Slot>> {
        let sender = self.parts(handover.sender.handler).0;
        let same_instance = sender.owner == run.unit.owner && (self.is_one(handover.sender.handler) || handover.to_own);
        let parameters = &run.unit.handlers[self.handler(run.handler).1].parameters;
        let mut slots: FxHashMap<Common, Slot> = FxHashMap::default();
        for slot in 0..Slot::try_from(run.table.slots.len()).unwrap_or(Slot::MAX) {
            if let Some(cell) = self.own_cell(run, slot) {
                slots.insert(Common::OfAnswering(cell), slot);
            }
            if let Some((cell, base)) = self.common_cell(run.unit, &run.table.slots[slot as usize]) {
                if same_instance || !matches!(base, None | Some(Base::Own)) {
                    slots.insert(Common::Cell(cell, base), slot);
                }
            } else if let Key::Place(place) = run.table.slots[slot as usize].key {
                let brought = |place: PlaceId| match run.unit.place(place) {
                    Place::Local(local) => parameters.iter().position(|&(parameter, _)| parameter == local),
                    _ => None,
                };
                let common = match run.unit.place(place) {
                    Place::Variable(variable, Base::Held(name)) => {
                        brought(name).map(|at| Common::Through(at, CellId(variable.0)))
                    }
                    _ => brought(place).map(Common::Argument),
                };
                slots.extend(common.map(|common| (common, slot)));
            }
        }
        held.places.iter().map(|(place, _)| slots.get(place).copied()).collect()
    }
}

/// What is known of the places that the one who answers knows too, also by way of others.
fn known_of(held: &Held, slots: &[Option<Slot>], length: BodyLength) -> Facts {
    let mut facts = Facts::of_body(length);
    held.facts.iter().for_each(|fact| facts.add(*fact));
    let unknown = (0..).zip(slots).filter(|(_, slot)| slot.is_none());
    unknown.for_each(|(place, _)| facts.forget(place));
    facts
}

/// A form over other slots, where it has one for each of its own.
fn renumbered(form: &Linear, slot: impl Fn(Slot) -> Option<Slot>) -> Option<Linear> {
    let mut renumbered = Linear::constant(form.constant);
    for &(own, factor) in form.terms.iter() {
        renumbered = renumbered.plus(&Linear::slot(slot(own)?), factor);
    }
    renumbered.is_known().then_some(renumbered)
}
