//! What handlers of a script make certain for those that answer the same trigger after them: `on bell { load = 0 }`, and then
//! `on bell { load += 3 }`. Where handlers of two scripts do so, which one comes first is a matter of names, and not built on.

use super::*;

/// How many handlers may write a cell between the one that makes it certain and the one that finds it.
const MOST_BETWEEN: usize = 64;

/// How many handlers of a script may answer one trigger, and how many steps they have all in all: each waits for the first run
/// of the one before it.
const MOST_IN_TURN: (usize, usize) = (16, 1000);

/// By handler: the cells that it certainly finds written, each with the last handler before it that does so.
pub(super) type Leaders = FxHashMap<HandlerId, Vec<(CellId, HandlerId)>>;

/// What is answered, where handlers answer it one right after the other.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
enum Answered {
    Signal(SignalId),
    Tick,
    Every(u64),
    Changed(CellId),
}

impl World<'_> {
    pub(super) fn find_leaders(&self) -> Leaders {
        let mut groups: FxHashMap<(ScriptId, Answered), Vec<HandlerId>> = FxHashMap::default();
        for id in self.handler_ids() {
            if let Some(trigger) = self.answered_by(id) {
                groups.entry((self.handler(id).0, trigger)).or_default().push(id);
            }
        }
        let mut leaders = Leaders::default();
        groups.retain(|_, group| {
            let steps: usize = group.iter().map(|&id| self.size(id)).sum();
            (2..=MOST_IN_TURN.0).contains(&group.len()) && steps <= MOST_IN_TURN.1
        });
        groups.values().for_each(|group| self.lead(group, &mut leaders));
        leaders
    }

    fn answered_by(&self, id: HandlerId) -> Option<Answered> {
        let (unit, handler, _) = self.parts(id);
        Some(match &handler.trigger {
            Trigger::Signal { .. } => Answered::Signal(self.signal_of(id)?),
            Trigger::Tick => Answered::Tick,
            Trigger::Every(length) => Answered::Every(length.ticks(self.project.config.tick_rate)?.max(1.0).to_bits()),
            Trigger::Changed(_) => {
                let place = unit.place(unit.handlers[self.handler(id).1].changed?);
                let is_own = matches!(place, Place::Private(_) | Place::Variable(_, Base::One | Base::Own));
                return self.changed_cell(id).filter(|_| is_own).map(Answered::Changed);
            }
            _ => return None,
        })
    }

    /// Finds, for each handler of a script that answers a trigger, what those before it make certain.
    fn lead(&self, group: &[HandlerId], leaders: &mut Leaders) {
        let mut last: FxHashMap<CellId, HandlerId> = FxHashMap::default();
        for &id in group {
            let cells: FxHashSet<CellId> = self.table(id).slots.iter().filter_map(|slot| slot.cell).collect();
            for cell in cells {
                if let Some(&by) = last.get(&cell).filter(|_| self.is_given_by_scripts(cell)) {
                    leaders.entry(id).or_default().push((cell, by));
                }
            }
            if self.may_spawn(id) {
                // A new instance finds nothing of what was done before it was there.
                last.clear();
            } else if self.answers_each_time(id) {
                last.extend(self.certainly_written(id).map(|cell| (cell, id)));
            }
        }
    }

    /// Whether something in a handler, or in the procedures of its script, spawns.
    fn may_spawn(&self, id: HandlerId) -> bool {
        let (script, index) = self.handler(id);
        let graphs = &self.graphs[script.index()];
        let mut bodies = std::iter::once(&graphs.handlers[index]).chain(&graphs.procedures);
        bodies.any(|body| body.blocks.iter().flat_map(|block| &block.steps).any(spawns))
    }

    /// Whether those that a handler comes after in their dispatch have been looked at.
    pub(super) fn is_led_in(&self, id: HandlerId) -> bool {
        let known = self.leaders.get(&id).into_iter().flatten();
        known.into_iter().all(|&(_, by)| self.runs[by.index()] > 0 || !self.can_begin(by))
    }

    /// What a cell holds as a handler begins, by those that came before it in the same dispatch, and whether it may be unset.
    pub(super) fn led_value(&self, handler: HandlerId, cell: CellId, base: Option<Base>) -> Option<(Value, bool)> {
        let is_its_own = match base {
            None | Some(Base::One | Base::Own) => true,
            Some(Base::Listed(instance)) => !self.project.registry.is_many(self.project.registry.instance(instance).of),
            Some(_) => false,
        };
        let &(_, by) = self.leaders.get(&handler)?.iter().find(|(known, _)| is_its_own && *known == cell)?;
        let (mut value, mut clears) = (None::<Value>, false);
        for (at, effect) in self.done_before_its_turn(by, handler, cell).enumerate() {
            if at == MOST_BETWEEN {
                return None;
            }
            clears |= effect.clears;
            value = match (value, &effect.set) {
                (Some(a), Some(b)) => Some(a.join(b)),
                (a, b) => a.or_else(|| b.clone()),
            };
        }
        value.map(|value| (value, clears))
    }

    /// What is done to a cell from one handler on until another has its turn.
    fn done_before_its_turn(&self, by: HandlerId, handler: HandlerId, cell: CellId) -> impl Iterator<Item = &Effect> {
        let effects = &self.effects[cell.index()];
        let first = effects.partition_point(|effect| effect.handler < Some(by));
        let each_its_own = matches!(self.home(cell), Home::Instance(_));
        effects[first..].iter().take_while(move |effect| effect.handler <= Some(handler)).filter(move |effect| {
            // Other instances may have had the same turn already.
            let by_itself = effect.handler == Some(handler) && each_its_own && effect.own;
            !effect.later && !by_itself && effect.handler.is_some_and(|other| self.may_follow(other, handler))
        })
    }
}

fn spawns(step: &graph::Step) -> bool {
    matches!(step.kind, StepKind::Spawn { .. })
}
