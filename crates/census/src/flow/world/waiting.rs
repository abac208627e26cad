//! What others can do while a handler waits.

use super::super::access::walk_expr;
use super::*;

/// What others do to the cells of a handler, by slot.
pub type Others = Vec<Together>;

/// A moment that comes before all that can happen to what it opens.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Opening {
    /// Of the run.
    Start,
    /// Of an instance.
    Spawn,
    /// Of a scene.
    Enter,
}

impl Opening {
    /// In the order in which they come.
    pub(super) const ALL: [Self; 3] = [Self::Start, Self::Spawn, Self::Enter];
}

/// For which instances of an owner something is so.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum Extent {
    /// For the one that the run is about.
    ForTheInstance,
    /// For all of them.
    Everywhere,
}

impl Extent {
    /// From the least.
    pub const ALL: [Self; 2] = [Self::ForTheInstance, Self::Everywhere];
}

/// A part of an activation that may be under way.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub enum Part {
    /// Its own way from beginning to end.
    Main,
    /// Its `after` blocks.
    Later,
}

impl Part {
    /// Both.
    pub const ALL: [Self; 2] = [Self::Main, Self::Later];

    fn of(later: bool) -> Self {
        if later { Self::Later } else { Self::Main }
    }
}

/// Which other parts of an activation may go on while one of them waits.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Beside {
    /// Its own way, beside an `after` block.
    pub main: bool,
    /// An `after` block.
    pub later: bool,
    /// It has not waited before.
    pub first: bool,
    /// For how many ticks it waits, where that matters.
    pub ticks: Option<u32>,
}

/// The one `after` block that an activation puts off.
#[derive(Clone, Copy, Debug)]
pub(super) struct OnlyAfter {
    /// The activation may still wait behind it.
    main_waits: bool,
}

/// The handlers that can't begin while another waits, in order, and for whom they can't.
pub(super) type KeptOut = Vec<(HandlerId, Extent)>;

impl<'p> World<'p> {
    /// What can happen to cells while an activation waits, and what is known once it goes on.
    ///
    /// Handlers are kept out whose entry test fails at first and, by induction over what happens, also after all that the
    /// others can do; provided that none of them was under way when this one began.
    #[must_use]
    pub fn while_waiting(&self, run: &mut Run<'_, 'p>, state: &State, beside: Beside) -> State {
        let kept_out =
            |run: &Run<'_, 'p>, state: &State, id| self.is_kept_out(run, state, id).map(|extent| (id, extent));
        let mut out: KeptOut = self.peers_of(run.handler).filter_map(|id| kept_out(run, state, id)).collect();
        out.sort_unstable();
        loop {
            let mut after = state.clone();
            let others = self.effects_but_for(run, &out, beside);
            run.built_on.waited(&out, beside, &others);
            run.apply(&mut after, &others);
            let still = out.iter().filter_map(|&(id, extent)| Some((id, extent.min(kept_out(run, &after, id)?.1))));
            let still: KeptOut = still.collect();
            if still == out {
                self.note_who_is_let_in(run, Part::of(state.later), &out);
                return after;
            }
            out = still;
        }
    }

    /// What goes on beside an `after` block that waits: the activation's own way, and other such blocks.
    #[must_use]
    pub fn goes_on_beside_after(&self, handler: HandlerId) -> (bool, bool) {
        self.only_after[handler.index()].map_or((true, true), |only| (only.main_waits, false))
    }

    pub(super) fn find_only_after(&self, id: HandlerId) -> Option<OnlyAfter> {
        let (unit, _, graph) = self.parts(id);
        let forks = |block: &&graph::Block| matches!(block.exit, Exit::Fork { .. });
        let block = graph.blocks.iter().find(forks).filter(|block| block.loops == 0 && !block.loop_head)?;
        let Exit::Fork { now, .. } = block.exit else { return None };
        if self.bodies_of(id).flat_map(|graph| &graph.blocks).filter(forks).nth(1).is_some() {
            return None;
        }
        let behind = graph.from(now).flat_map(|block| &block.steps);
        let waits = behind.into_iter().any(|step| super::super::certain::waits(unit, &step.kind));
        Some(OnlyAfter { main_waits: waits })
    }

    /// Only of what could be kept out will anybody ask whether it can begin.
    fn note_who_is_let_in(&self, run: &mut Run<'_, 'p>, part: Part, out: &KeptOut) {
        if self.entries[run.handler.index()].is_none() {
            return;
        }
        for id in self.peers_of(run.handler).filter(|id| self.yields[id.index()]) {
            let extents = Extent::ALL.into_iter().filter(|&extent| !is_out(out, id, extent));
            run.let_in.extend(extents.map(|extent| (id, part, extent)));
        }
    }

    /// Whether a part of one handler can be under way as another begins.
    pub(super) fn is_under_way(&self, waiting: HandlerId, part: Part, begins: HandlerId, extent: Extent) -> bool {
        if !self.yields[waiting.index()] {
            return false;
        }
        let held_against = self.peers[waiting.index()].binary_search(&begins).is_ok();
        !held_against || self.begins_within.contains(&(waiting, part, begins, extent))
    }

    /// The other handlers that may be kept out while one waits.
    pub(super) fn peers_of(&self, handler: HandlerId) -> impl Iterator<Item = HandlerId> + '_ {
        self.peers[handler.index()].iter().copied()
    }

    pub(super) fn find_peers(&self) -> Vec<Vec<HandlerId>> {
        let mut asking: FxHashMap<CellId, Vec<HandlerId>> = FxHashMap::default();
        for id in self.handler_ids() {
            let unit = self.project.script(self.handler(id).0);
            for &(test, _) in self.entries[id.index()].iter().flatten() {
                walk_expr(unit, test, &mut |expr| {
                    let place = unit.place_of(expr).filter(|&place| {
                        matches!(unit.place(place), Place::Variable(_, Base::One | Base::Own | Base::Listed(_)))
                    });
                    let cell = place.and_then(|place| self.project.cell_of(unit, place));
                    cell.into_iter().for_each(|cell| asking.entry(cell).or_default().push(id));
                });
            }
        }
        asking.values_mut().for_each(Vec::dedup);
        asking.retain(|_, ids| ids.len() <= MOST_PEERS);
        let ids: Vec<HandlerId> = self.handler_ids().collect();
        let peers = ids.into_par_iter().map(|id| {
            if !self.yields[id.index()] {
                return Vec::new();
            }
            let (script, _) = self.handler(id);
            let cells = self.table(id).slots.iter().filter_map(|slot| slot.cell);
            let others = cells.filter_map(|cell| asking.get(&cell)).flatten().copied();
            let mut peers: Vec<HandlerId> = others.filter(|&other| self.handler(other).0 != script).collect();
            peers.extend(self.own_peers(script));
            peers.sort_unstable();
            peers.dedup();
            peers
        });
        peers.collect()
    }

    /// The handlers of a script that ask something on entry; none where too many do.
    fn own_peers(&self, script: ScriptId) -> impl Iterator<Item = HandlerId> + '_ {
        let asking = || self.handlers_of(script).filter(|id| self.entries[id.index()].is_some());
        (asking().nth(MOST_PEERS).is_none()).then(asking).into_iter().flatten()
    }

    /// Whether the handler of a run could not begin in a state for the same instance.
    pub(in crate::flow) fn is_shut(&self, run: &Run<'_, '_>, state: &State) -> bool {
        let entry = Entry { world: self, run, state, script: run.script, extent: Extent::ForTheInstance };
        self.entries[run.handler.index()].as_ref().is_some_and(|tests| entry.fails(tests))
    }

    /// For whom a handler can't begin in a state, and was not under way as the run began.
    fn is_kept_out(&self, run: &Run<'_, '_>, state: &State, id: HandlerId) -> Option<Extent> {
        let tests = self.entries[id.index()].as_ref()?;
        let owner = |script| self.project.script(script).owner;
        let (script, _) = self.handler(id);
        let apart = !self.runs_once(run) && owner(script) == owner(run.script);
        let extents = if apart { &[Extent::Everywhere, Extent::ForTheInstance][..] } else { &[Extent::Everywhere] };
        let fails = |extent| {
            !self.is_under_way(id, Part::Main, run.handler, extent)
                && Entry { world: self, run, state, script, extent }.fails(tests)
        };
        extents.iter().copied().find(|&extent| fails(extent))
    }

    /// What the handlers do while a handler waits, but for those that are kept out and those whose moment is past. Of one that
    /// is kept out an `after` block may be still to come; and of the activation itself what goes on beside.
    pub(super) fn effects_but_for(&self, run: &Run<'_, '_>, out: &KeptOut, beside: Beside) -> Others {
        let out = &if beside.first { self.with_silenced(run, out) } else { out.clone() };
        let runs_once = self.runs_once(run);
        let alone = self.alone[run.handler.index()].then_some(run.handler);
        let goes_on = |effect: &Effect| {
            effect.handler == Some(run.handler) && if effect.later { beside.later } else { beside.main }
        };
        let is_to_come = |effect: &Effect, by: HandlerId, extent| {
            goes_on(effect) || effect.later && self.is_under_way(by, Part::Later, run.handler, extent)
        };
        let is_past = |opening| self.past(opening, run.handler) == Some(Extent::Everywhere);
        let drip_of = |cell: CellId| beside.ticks.and_then(|ticks| Some((self.drips.get(&cell)?, ticks)));
        let mut others = self.effects_on(run, is_past, |cell, effect, own| {
            if drip_of(cell).is_some_and(|((by, _), _)| effect.handler == Some(*by)) {
                return false;
            }
            let past = if effect.handler.is_some() && effect.handler == alone && !goes_on(effect) {
                Some(if runs_once { Extent::Everywhere } else { Extent::ForTheInstance })
            } else {
                self.is_past(effect, run.handler)
            };
            let kept_out =
                effect.handler.and_then(|by| extent_of(out, by).filter(|&extent| !is_to_come(effect, by, extent)));
            match kept_out.max(past) {
                Some(Extent::Everywhere) => false,
                Some(Extent::ForTheInstance) => !(own && effect.own),
                None => true,
            }
        });
        for (facts, together) in run.table.slots.iter().zip(&mut others) {
            if let Some(((_, rate), ticks)) = facts.cell.and_then(drip_of) {
                together.drip(rate * f64::from(ticks.max(1))); // Also who waits no time may be behind a tick of that moment.
            }
        }
        others
    }

    /// Whether what a handler does before its first wait is certainly done before another one waits.
    fn is_past(&self, effect: &Effect, waiting: HandlerId) -> Option<Extent> {
        let opening = self.openings[effect.handler?.index()].filter(|_| !effect.after_wait)?;
        self.past(opening, waiting)
    }

    /// For whom a moment is certainly past before a handler waits: `start` comes first in a run, `spawn` first for an instance,
    /// and `enter` first in a scene, which a wait does not outlive.
    fn past(&self, opening: Opening, waiting: HandlerId) -> Option<Extent> {
        match (opening, self.openings[waiting.index()]) {
            (_, Some(Opening::Start | Opening::Spawn)) | (Opening::Enter, Some(Opening::Enter)) => None,
            (Opening::Start, _) => Some(Extent::Everywhere),
            (Opening::Spawn, _) => Some(Extent::ForTheInstance),
            (Opening::Enter, _) => self.parts(waiting).0.scene.is_some().then_some(Extent::Everywhere),
        }
    }

    /// The moment that a handler is for.
    pub(super) fn find_opening(&self, id: HandlerId) -> Option<Opening> {
        match self.parts(id).1.trigger {
            Trigger::Start => Some(Opening::Start),
            Trigger::Spawn => Some(Opening::Spawn),
            Trigger::Enter => Some(Opening::Enter),
            _ => None,
        }
    }
}

fn extent_of(out: &KeptOut, handler: HandlerId) -> Option<Extent> {
    out.binary_search_by_key(&handler, |&(id, _)| id).ok().map(|at| out[at].1)
}

fn is_out(out: &KeptOut, handler: HandlerId, extent: Extent) -> bool {
    extent_of(out, handler).is_some_and(|known| known >= extent)
}

/// A look at the entry tests of a script's handler from a state of another that waits.
struct Entry<'a, 'w, 'p> {
    world: &'a World<'p>,
    run: &'a Run<'w, 'p>,
    state: &'a State,
    script: ScriptId,
    extent: Extent,
}

impl Entry<'_, '_, '_> {
    /// Whether one of the tests certainly comes out the other way, by what outlives the activation alone.
    fn fails(&self, tests: &[(ExprId, bool)]) -> bool {
        tests.iter().any(|&(test, wanted)| self.test_fails(test, wanted))
    }

    /// Of the parts joined by `and` one is enough, where others ask about what is not known here.
    fn test_fails(&self, test: ExprId, wanted: bool) -> bool {
        if self.is_own_script()
            && let Some(outcome) = self.flag(test)
        {
            return outcome == Some(!wanted);
        }
        let unit = self.unit();
        let (mut known, mut narrowed) = (true, false);
        walk_expr(unit, test, &mut |expr| match unit.meaning(expr) {
            Meaning::Value(place) | Meaning::Axis(place, _) => match self.slot(place) {
                Some(slot) => narrowed |= self.is_narrowed(slot),
                None => known = false,
            },
            Meaning::None => {
                let nameless =
                    matches!(unit.tree.expr(expr).kind, ExprKind::Path(_) | ExprKind::Call(..) | ExprKind::Error);
                known &= !nameless;
            }
            Meaning::Bound(place, _) => known &= self.is_own_script() && self.is_meant(place),
            Meaning::Owner(_) | Meaning::Instance(_) => {}
            Meaning::Own | Meaning::Procedure(_) => known &= self.is_own_script() && self.is_about_one(),
            _ => known &= self.is_own_script(),
        });
        if !narrowed && !self.is_own_script() {
            return false;
        }
        if known {
            return self.comes_out_otherwise(test, wanted);
        }
        match (&unit.tree.expr(test).kind, wanted) {
            (ExprKind::Binary(BinaryOp::And, left, right), true)
            | (ExprKind::Binary(BinaryOp::Or, left, right), false) => {
                self.test_fails(*left, wanted) || self.test_fails(*right, wanted)
            }
            (ExprKind::Unary(UnaryOp::Not, inner), _) => self.test_fails(*inner, !wanted),
            _ => false,
        }
    }

    fn comes_out_otherwise(&self, test: ExprId, wanted: bool) -> bool {
        let mut probe = Run::new(self.world, self.run.handler);
        probe.quiet = true;
        if !self.is_own_script() {
            probe.look_from(self.world.project.script(self.script));
        }
        let (yes, no) = probe.branch(self.state.clone(), test);
        if wanted { yes.is_none() } else { no.is_none() }
    }

    fn unit(&self) -> &ScriptUnit {
        self.world.project.script(self.script)
    }

    fn is_own_script(&self) -> bool {
        self.script == self.run.script
    }

    /// Whether the script's own instance is the one that the run is for.
    fn is_about_one(&self) -> bool {
        self.extent == Extent::ForTheInstance || self.world.runs_once(self.run)
    }

    /// Whether a place outlives an activation, and is the same for all that the question is about.
    fn is_meant(&self, place: PlaceId) -> bool {
        match self.unit().place(place) {
            Place::Private(_) | Place::Variable(_, Base::Own) => self.is_about_one(),
            Place::Variable(_, Base::One | Base::Listed(_)) => true,
            _ => false,
        }
    }

    /// The slot of such a place, if the run knows it.
    fn slot(&self, place: PlaceId) -> Option<Slot> {
        match self.unit().place(place) {
            _ if !self.is_meant(place) => None,
            _ if self.is_own_script() => self.run.slot(place),
            Place::Variable(variable, base) => self.run.table.of_variable(variable, base),
            _ => None,
        }
    }

    /// Whether a place holds less than it ever may: a test of others comes out either way.
    fn is_narrowed(&self, slot: Slot) -> bool {
        let reach = self.run.table.slots[slot as usize].cell.map(|cell| &self.world.reach[cell.index()]);
        reach.is_none_or(|reach| self.state.value(slot).value != *reach)
    }

    /// How a test of a flag alone, `busy` or `not busy`, comes out, as most tests on entry do that keep a handler out: the
    /// outer `None` where it is not such a test.
    fn flag(&self, test: ExprId) -> Option<Option<bool>> {
        let unit = self.unit();
        match &unit.tree.expr(test).kind {
            ExprKind::Unary(UnaryOp::Not, inner) => Some(self.flag(*inner)?.map(|outcome| !outcome)),
            ExprKind::Path(_) => {
                let Meaning::Value(place) = unit.meaning(test) else { return None };
                let value = self.slot(place).map(|slot| &self.state.value(slot).value);
                Some(match value {
                    Some(Value::Bool { yes: true, no: false }) => Some(true),
                    Some(Value::Bool { yes: false, no: true }) => Some(false),
                    _ => None,
                })
            }
            _ => None,
        }
    }
}
