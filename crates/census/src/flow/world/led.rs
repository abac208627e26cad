//! What handlers make certain for those that answer the same trigger after them: `on bell { load = 0 }`, and then
//! `on bell { load += 3 }`.

use super::*;

/// How many handlers may write a cell between the one that makes it certain and the one that finds it.
const MOST_BETWEEN: usize = 64;

/// How many handlers may answer one trigger, and how many steps they have all in all: each waits for the first run of the one
/// before it. Where they are more, those of one script are looked at by themselves.
const MOST_IN_TURN: (usize, usize) = (16, 1000);

/// By handler: the cells that it certainly finds written, each with the last handler before it that does so.
pub(super) type Leaders = FxHashMap<HandlerId, Vec<(CellId, HandlerId)>>;

/// What is answered, where handlers answer it one right after the other.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub(super) enum Answered {
    Start,
    Enter,
    Signal(SignalId),
    Tick,
    Every(u64),
    Changed(CellId),
}

impl World<'_> {
    pub(super) fn find_leaders(&self) -> Leaders {
        let groups = self.in_turn(|trigger| !matches!(trigger, Answered::Start | Answered::Enter));
        let leaders = groups.into_par_iter().flat_map_iter(|group| self.lead(&group));
        leaders.collect()
    }

    /// The handlers that answer one trigger of these one after another, in script order.
    pub(super) fn in_turn(&self, meant: impl Fn(Answered) -> bool) -> Vec<Vec<HandlerId>> {
        let mut groups: FxHashMap<Answered, Vec<HandlerId>> = FxHashMap::default();
        for id in self.handler_ids() {
            if let Some(trigger) = self.answered_by(id).filter(|&trigger| meant(trigger)) {
                groups.entry(trigger).or_default().push(id);
            }
        }
        let is_short = |group: &[HandlerId]| {
            group.len() <= MOST_IN_TURN.0
                && group.iter().map(|&id| self.handler_graph(id).size()).sum::<usize>() <= MOST_IN_TURN.1
        };
        let (mut short, long): (Vec<_>, Vec<_>) = groups.into_values().partition(|group| is_short(group));
        let of_script = |a: &HandlerId, b: &HandlerId| self.handler(*a).0 == self.handler(*b).0;
        short.extend(
            long.iter().flat_map(|group| group.chunk_by(of_script)).filter(|group| is_short(group)).map(<[_]>::to_vec),
        );
        short.retain(|group| group.len() > 1);
        short
    }

    /// Whether a handler has its turn whenever another one has that answers the same trigger: for the same instance where both
    /// are its own.
    pub(super) fn has_its_turn_with(&self, id: HandlerId, other: HandlerId) -> bool {
        let ((unit, handler, _), (beside, ..)) = (self.parts(id), self.parts(other));
        if self.handler(id).0 == self.handler(other).0 {
            return true;
        }
        let registry = &self.project.registry;
        let is_actor = |owner: Option<OwnerId>| owner.is_none_or(|owner| registry.is_actor(owner));
        // What a script sends to one instance is for that one's scripts alone.
        let to_one = matches!(handler.trigger, Trigger::Signal { .. })
            && is_actor(beside.owner)
            && self.signal_of(id).is_none_or(|signal| !self.is_the_games_alone(signal));
        let comes_along = unit.owner.is_some() && unit.owner == beside.owner || !is_actor(unit.owner) && !to_one;
        comes_along && (unit.scene.is_none() || unit.scene == beside.scene)
    }

    fn answered_by(&self, id: HandlerId) -> Option<Answered> {
        let (unit, handler, _) = self.parts(id);
        Some(match &handler.trigger {
            Trigger::Start => Answered::Start,
            Trigger::Enter => Answered::Enter,
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

    /// Finds, for each handler that answers a trigger, what those before it make certain.
    fn lead(&self, group: &[HandlerId]) -> Leaders {
        let mut leaders = Leaders::default();
        let mut writers: FxHashMap<CellId, Vec<HandlerId>> = FxHashMap::default();
        for &id in group {
            let cells: FxHashSet<CellId> = self.table(id).slots.iter().filter_map(|slot| slot.cell).collect();
            for cell in cells {
                let known = writers.get(&cell).filter(|_| self.is_given_by_scripts(cell));
                let last = known.and_then(|known| known.iter().rev().find(|&&by| self.has_its_turn_with(by, id)));
                if let Some(&by) = last {
                    leaders.entry(id).or_default().push((cell, by));
                }
            }
            if self.may_spawn(id) {
                // A new instance finds nothing of what was done before it was there.
                writers.clear();
            } else if self.answers_each_time(id) {
                self.certainly_written(id).for_each(|cell| writers.entry(cell).or_default().push(id));
            }
        }
        leaders
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

    /// Whether something that a handler finds is made certain by one of another script.
    pub(super) fn is_led_by_another_script(&self, id: HandlerId) -> bool {
        let leaders = self.leaders.get(&id).into_iter().flatten();
        leaders.into_iter().any(|&(_, by)| self.handler(by).0 != self.handler(id).0)
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
