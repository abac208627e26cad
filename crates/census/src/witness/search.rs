//! Looks for a run that reaches a goal.
//!
//! Two ways, both the same each time. *Drills* do one thing over and over, as a player would: one signal with one set of
//! arguments, at one pace, or time alone. *Walks* are random, but led: signals whose handlers stand near the goal, in the
//! sense of [`Acts::nearness`], come up more often, and so do numbers that the scripts compare with; and a walk that
//! came where none was before (a statement that changed something, a number of another magnitude) is taken as the way to
//! begin others, as coverage-guided fuzzers do (M. Zalewski, "Technical details for afl-fuzz", 2014).

use super::acts::{Acts, actors};
use super::goal::{Goal, Reached, Watcher};
use crate::project::CellId;
use crate::registry::{OwnerId, Scope, SignalId, SignalParameter, Type, Value, VarId};
use crate::rehearsal::stage::Stage;
use crate::rehearsal::{Action, Given, Put, Who};
use crate::rehearse::layout::{InstanceAt, Layout};
use crate::rehearse::machine::{Limits, Machine};
use crate::source::Location;
use rand_core::{Rng as _, SeedableRng};
use rustc_hash::FxHashSet;

/// Limits of a run in a search: shorter than a rehearsal's.
const LIMITS: Limits = Limits { steps: 20_000, dispatches: 2_000, waiting: 500, beginnings: 100 };
/// How often a drill does its one thing.
const DRILL: usize = 220;
/// How many steps and judged values count as one dispatch.
const STEPS_OF_A_DISPATCH: u64 = 16;
/// How many walks may take as long together as one drill.
const WALKS_IN_A_DRILL: u64 = 10;
/// How many acts a walk has at most.
const WALK: usize = 24;
/// How many of one signal may come in a row.
const BURSTS: [u64; 5] = [2, 3, 5, 10, 50];
/// How many runs are kept as ways to begin others.
const MOST_WAYS: usize = 256;
/// How long a walk lets time go by at its end, in ticks.
const LAST_PASS: u64 = 1_200;
/// How long time goes by at once where nothing else is done, in ticks.
const PASSES: [u64; 3] = [120, 1_200, 12_000];
/// How many acts a duet has, and what is done over and over at a walk's end.
const REPEATED: usize = 100;
/// How many kinds of acts duets are made of.
const MOST_PLAYERS: usize = 14;
/// How many choices of one question are tried in turn.
const MOST_CHOICES: usize = 4;
/// After how many acts a question is answered that was left open.
const PATIENCE: usize = 4;
/// How many faults beside the goal a run may have.
const MOST_FAULTS: usize = 12;

/// A run: what its draws begin from, and what is done.
#[derive(Clone, Debug)]
pub struct Run {
    /// The seed.
    pub seed: u64,
    /// What is done.
    pub acts: Vec<Action>,
}

/// How a run went.
#[derive(Clone, Debug)]
pub struct Played {
    /// What was seen when the goal was reached.
    pub reached: Option<Reached>,
    /// How many acts were done by then.
    pub used: usize,
}

/// Plays a run up to its goal.
#[must_use]
pub fn play(layout: &Layout<'_>, goal: &Goal, run: &Run) -> Played {
    let mut stage = begin(layout, goal, run.seed);
    for (at, act) in run.acts.iter().enumerate() {
        if stage.machine.observer.reached.is_some() || stage.machine.stopped.is_some() {
            return Played { reached: stage.machine.observer.reached.take(), used: at };
        }
        // What can't be done now is passed over: a shorter run may do without what it needs.
        let _ = stage.act(act);
    }
    Played { reached: stage.machine.observer.reached.take(), used: run.acts.len() }
}

/// A run as it stands after its acts.
#[must_use]
pub fn staged<'l, 'p, 'g>(layout: &'l Layout<'p>, goal: &'g Goal, run: &Run) -> Stage<'l, 'p, Watcher<'g>> {
    let mut stage = begin(layout, goal, run.seed);
    for act in &run.acts {
        let _ = stage.act(act);
    }
    stage
}

/// A run that has done nothing yet.
pub(super) fn begin<'l, 'p, 'g>(layout: &'l Layout<'p>, goal: &'g Goal, seed: u64) -> Stage<'l, 'p, Watcher<'g>> {
    let mut machine = Machine::new(layout, seed, Watcher::new(goal));
    machine.limits = LIMITS;
    machine.start();
    Stage { machine }
}

/// Looks for a run that reaches the goal, with at most so many dispatches.
#[must_use]
pub fn search(layout: &Layout<'_>, acts: &Acts, goal: &Goal, effort: u64) -> Option<Run> {
    let near = acts.nearness(layout, goal.at);
    let ranked = acts.ranked(layout, &near);
    let seed = u64::from(goal.at.span.start) << 8 | u64::from(goal.at.file.0 & 0xff);
    let dice = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
    let mut search = Search {
        layout,
        acts,
        goal,
        ranked,
        left: effort,
        most: (effort / 25).max(4_000),
        covered: FxHashSet::default(),
        ways: Vec::new(),
        unclean: None,
        offered: 0,
        dice,
    };
    search
        .nothing()
        .or_else(|| search.drills())
        .or_else(|| search.duets())
        .or_else(|| search.walks())
        .or(search.unclean)
}

/// Does an act, and gives as much of it as could be done: of a signal in a row, the first ones.
fn done_of(stage: &mut Stage<'_, '_, Watcher<'_>>, act: Action) -> Option<Action> {
    let Action::Fire { signal, on, ref with, times } = act else { return stage.act(&act).ok().map(|()| act) };
    let fired = (0..times).take_while(|_| stage.fire(signal, on, with).is_ok()).count() as u64;
    (fired > 0).then(|| Action::Fire { signal, on, with: with.clone(), times: fired })
}

/// What a run has cost, in dispatches of an ordinary handler.
pub(super) fn cost(machine: &Machine<'_, '_, Watcher<'_>>) -> u64 {
    machine.dispatched.max(machine.worked / STEPS_OF_A_DISPATCH)
}

struct Search<'s, 'p> {
    layout: &'s Layout<'p>,
    acts: &'s Acts,
    goal: &'s Goal,
    /// The signals, and how near their handlers are.
    ranked: Vec<(SignalId, u32)>,
    /// How many dispatches are left.
    left: u64,
    /// How many dispatches one run may take.
    most: u64,
    /// Where some run has been.
    covered: FxHashSet<(Location, i32)>,
    /// Runs that came where none was before.
    ways: Vec<Run>,
    /// A run that reached the goal after other faults.
    unclean: Option<Run>,
    /// Among how many choices the last run that was asked something could choose.
    offered: usize,
    dice: rand_chacha::ChaCha8Rng,
}

/// What comes next in a duet.
#[derive(Clone, Copy)]
enum Beat {
    /// One of the two signals.
    Signal(usize),
    /// Ticks pass.
    Rest(u64),
}

/// Which parts of a number's range are tried beside its ends.
const PARTS: [f64; 4] = [0.55, 0.6, 0.3, 0.9];

/// A signal, and in which of its ways it comes.
type Player = (SignalId, usize);

/// All pairs of so many, those of the first ones first.
fn pairs(count: usize) -> impl Iterator<Item = (usize, usize)> {
    (0..count).flat_map(|last| {
        let ending = (0..last).flat_map(move |other| [(other, last), (last, other)]);
        std::iter::once((last, last)).chain(ending)
    })
}

/// What a walk does at its end, over and over.
#[derive(Clone, Copy)]
enum Last {
    /// It goes on as before.
    Anything,
    /// So many ticks pass.
    Time(u64),
    /// One signal comes, with so many ticks in between.
    Signal(Option<u64>),
}

/// How two signals are sent.
struct Duet {
    /// How many rounds of the first alone go before.
    alone: usize,
    /// The time between rounds, in ticks.
    pace: u64,
    /// The time between the two, in ticks.
    between: u64,
    /// Whether both come again in each round.
    over_and_over: bool,
}

impl<'s, 'p> Search<'s, 'p> {
    fn below(&mut self, count: usize) -> usize {
        let drawn = self.dice.next_u64() % (count.max(1) as u64);
        usize::try_from(drawn).unwrap_or(0)
    }

    /// Plays, asking for act after act; gives the run if it reached the goal and nothing else went wrong.
    fn attempt(
        &mut self,
        seed: u64,
        most: usize,
        mut next: impl FnMut(&mut Self, &Stage<'s, 'p, Watcher<'s>>, usize) -> Option<Action>,
    ) -> Option<Run> {
        let mut stage = begin(self.layout, self.goal, seed);
        let mut done: Vec<Action> = Vec::new();
        for at in 0..most {
            if self.is_over(&stage) {
                break;
            }
            let Some(act) = next(self, &stage, at) else { break };
            done.extend(done_of(&mut stage, act));
        }
        self.left = self.left.saturating_sub(cost(&stage.machine) + 20 + done.len() as u64);
        let watcher = stage.machine.observer;
        let run = Run { seed, acts: done };
        let before = self.covered.len();
        self.covered.extend(&watcher.covered);
        if self.covered.len() > before && !run.acts.is_empty() {
            if self.ways.len() == MOST_WAYS {
                self.ways.remove(0);
            }
            self.ways.push(run.clone());
        }
        let reached = watcher.reached?;
        if reached.clean {
            return Some(run);
        }
        if self.unclean.as_ref().is_none_or(|known| known.acts.len() > run.acts.len()) {
            self.unclean = Some(run);
        }
        None
    }

    fn is_over(&self, stage: &Stage<'_, '_, Watcher<'_>>) -> bool {
        let machine = &stage.machine;
        machine.observer.reached.is_some()
            || machine.stopped.is_some()
            || machine.faults.len() > MOST_FAULTS
            || cost(machine) > self.most
    }

    // ---- drills ----

    /// The start alone may do it.
    fn nothing(&mut self) -> Option<Run> {
        (0..3).find_map(|seed| self.attempt(seed, 0, |_, _, _| None))
    }

    fn drills(&mut self) -> Option<Run> {
        let near: Vec<SignalId> = self.ranked.iter().filter(|(_, depth)| *depth <= 2).map(|&(id, _)| id).collect();
        let enough = self.left / 8 * 5;
        let mut paces = vec![None, Some(1)];
        paces.extend(self.acts.waits_near(self.layout, self.goal.at).into_iter().map(Some));
        if let Some(run) = PASSES.iter().find_map(|&ticks| self.attempt(0, DRILL, |_, _, _| Some(Action::Pass(ticks))))
        {
            return Some(run);
        }
        for variant in 0..48 {
            for &signal in &near {
                for &pace in &paces {
                    if self.left <= enough {
                        return None;
                    }
                    if let Some(run) = self.drill_each_choice(signal, variant, pace) {
                        return Some(run);
                    }
                }
            }
        }
        None
    }

    /// A drill for each way to answer what it asks.
    fn drill_each_choice(&mut self, signal: SignalId, variant: usize, pace: Option<u64>) -> Option<Run> {
        self.offered = 1;
        let mut choice = 0;
        while choice < self.offered.min(MOST_CHOICES) {
            if let Some(run) = self.drill(signal, variant, pace, choice) {
                return Some(run);
            }
            choice += 1;
        }
        None
    }

    /// One signal over and over: the same target and arguments, a choice where one is asked, and perhaps time between.
    fn drill(&mut self, signal: SignalId, variant: usize, pace: Option<u64>, choice: usize) -> Option<Run> {
        let mut chosen: Option<(Option<Who>, usize)> = None;
        self.attempt(variant as u64, DRILL, |search, stage, at| {
            if let Some(choices) = search.is_to_answer(stage, at) {
                search.offered = choices;
                return Some(Action::Choose(choice % choices));
            }
            if let Some(ticks) = pace.filter(|_| at % 2 == 1) {
                return Some(Action::Pass(ticks));
            }
            let aim = *chosen.get_or_insert_with(|| search.target(stage, signal, variant));
            search.fire(stage, signal, aim)
        })
    }

    /// Among how many choices the oldest question is to be answered now, if it is. What is to come again while a question is
    /// open must find it open.
    fn is_to_answer(&self, stage: &Stage<'s, 'p, Watcher<'s>>, at: usize) -> Option<usize> {
        let questions = &stage.machine.questions;
        let is_patient = self.goal.is_done_again() && questions.len() < 2 && !at.is_multiple_of(PATIENCE);
        questions.front().filter(|_| !is_patient).map(|question| question.choices.len().max(1))
    }

    /// Two signals, the second right behind the first or a little later, then time; after a few rounds of the first alone.
    /// Over and over, or once.
    fn duets(&mut self) -> Option<Run> {
        let players = self.players();
        let enough = self.left / 4 * 3;
        let mut paces = self.acts.waits_near(self.layout, self.goal.at);
        if paces.is_empty() {
            paces.push(1);
        }
        let manners = [(0, 0, true), (1, 0, true), (0, 1, false), (2, 0, true), (1, 1, false)];
        // The likeliest pairs in all manners come before the others.
        for most in [0..players.len().min(2), players.len().min(2)..players.len()] {
            for (alone, between, over_and_over) in manners {
                for &pace in &paces {
                    let duet = Duet { alone, pace, between: between * pace / 2, over_and_over };
                    for (first, second) in pairs(players.len()).filter(|pair| most.contains(&pair.0.max(pair.1))) {
                        if self.left <= enough {
                            return None;
                        }
                        if let Some(run) = self.duet([players[first], players[second]], &duet) {
                            return Some(run);
                        }
                    }
                }
            }
        }
        None
    }

    /// What duets are made of: the near signals, each with its likeliest target and arguments, then with others.
    fn players(&mut self) -> Vec<Player> {
        let near: Vec<SignalId> = self.ranked.iter().filter(|(_, depth)| *depth <= 1).map(|&(id, _)| id).collect();
        let stage = begin(self.layout, self.goal, 0);
        let counts: Vec<usize> = near.iter().map(|&signal| self.variants(&stage, signal)).collect();
        let most = counts.iter().copied().max().unwrap_or(0).min(MOST_PLAYERS);
        let by_variant = (0..most).flat_map(|variant| {
            near.iter()
                .zip(&counts)
                .filter(move |(_, count)| variant < **count)
                .map(move |(&signal, _)| (signal, variant))
        });
        by_variant.take(MOST_PLAYERS.max(near.len().min(REPEATED))).collect()
    }

    /// In how many ways a signal can come, by target and arguments.
    fn variants(&self, stage: &Stage<'s, 'p, Watcher<'s>>, signal: SignalId) -> usize {
        let registry = &self.layout.project.registry;
        let parameters = &registry.signal(signal).parameters;
        let given = parameters.iter().map(|parameter| self.candidates(stage, signal, parameter).len().max(1));
        given.fold(self.targets(stage, signal).len().max(1), usize::saturating_mul)
    }

    fn duet(&mut self, players: [Player; 2], duet: &Duet) -> Option<Run> {
        let mut chosen: [Option<(Option<Who>, usize)>; 2] = [None, None];
        let between = (duet.between > 0).then_some(Beat::Rest(duet.between));
        let begin = std::iter::once(Beat::Signal(0)).chain(between);
        let round: Vec<Beat> = begin.chain([Beat::Signal(1), Beat::Rest(duet.pace)]).collect();
        self.attempt(0, REPEATED, |search, stage, at| {
            if let Some(choices) = search.is_to_answer(stage, at) {
                return Some(Action::Choose(at % choices));
            }
            let beat = match at.checked_sub(2 * duet.alone) {
                None => [Beat::Signal(0), Beat::Rest(duet.pace)][at % 2], // The first, then time.
                Some(at) if duet.over_and_over => round[at % round.len()],
                Some(at) => round.get(at).copied().unwrap_or(Beat::Rest(duet.pace)),
            };
            let at = match beat {
                Beat::Signal(at) => at,
                Beat::Rest(ticks) => return Some(Action::Pass(ticks)),
            };
            let (signal, variant) = *players.get(at)?;
            let aim = *chosen[at].get_or_insert_with(|| search.target(stage, signal, variant));
            search.fire(stage, signal, aim)
        })
    }

    /// The signal to a target, with the arguments that the rest of the variant's number picks.
    fn fire(
        &mut self,
        stage: &Stage<'s, 'p, Watcher<'s>>,
        signal: SignalId,
        (on, mut digits): (Option<Who>, usize),
    ) -> Option<Action> {
        let with = self.arguments(stage, signal, |search, stage, parameter| {
            let all = search.candidates(stage, signal, parameter);
            let given = all.get(digits % all.len().max(1)).cloned();
            digits /= all.len().max(1);
            given
        });
        Some(Action::Fire { signal, on, with: with?, times: 1 })
    }

    /// Whom a signal happens to, in the variant of that number, and what of the number is left for the arguments.
    fn target(&self, stage: &Stage<'_, '_, Watcher<'_>>, signal: SignalId, variant: usize) -> (Option<Who>, usize) {
        let all = self.targets(stage, signal);
        let count = all.len().max(1);
        (all.get(variant % count).copied(), variant / count)
    }

    /// Whom a signal can happen to; nobody where it is to all.
    fn targets(&self, stage: &Stage<'_, '_, Watcher<'_>>, signal: SignalId) -> Vec<Who> {
        let registry = &self.layout.project.registry;
        if registry.signal(signal).to_all {
            return Vec::new();
        }
        let handlers = self.layout.answers.signals.get(&signal).into_iter().flatten();
        let mut owners: Vec<_> = handlers
            .filter_map(|handler| {
                let at = self.layout.handlers[handler.index()];
                self.layout.project.script(at.script).owner
            })
            .filter(|&owner| registry.is_actor(owner))
            .collect();
        owners.dedup();
        let live: Vec<Who> =
            owners.iter().flat_map(|&owner| stage.machine.memory.live(owner)).map(|&at| who(stage, at)).collect();
        let new = owners.iter().filter(|&&owner| registry.is_many(owner)).map(|&owner| Who::New(owner));
        live.into_iter().take(4).chain(new).collect()
    }

    fn arguments(
        &mut self,
        stage: &Stage<'s, 'p, Watcher<'s>>,
        signal: SignalId,
        mut pick: impl FnMut(&mut Self, &Stage<'s, 'p, Watcher<'s>>, &SignalParameter) -> Option<Given>,
    ) -> Option<Vec<Given>> {
        let registry = &self.layout.project.registry;
        registry.signal(signal).parameters.iter().map(|parameter| pick(self, stage, parameter)).collect()
    }

    /// What may be passed for a parameter, the likeliest first.
    fn candidates(
        &self,
        stage: &Stage<'_, '_, Watcher<'_>>,
        signal: SignalId,
        parameter: &SignalParameter,
    ) -> Vec<Given> {
        match parameter.ty {
            Type::Ref(_) | Type::Unknown => self.instances(stage, signal, parameter.ty),
            _ => constants(self.layout, self.acts, parameter),
        }
    }

    /// The actors that the script of the goal tells apart come first, then those that some handler of the signal asks for.
    fn instances(&self, stage: &Stage<'_, '_, Watcher<'_>>, signal: SignalId, ty: Type) -> Vec<Given> {
        let project = self.layout.project;
        let filters = self.filters(signal);
        let near = project.scripts.iter().position(|unit| unit.file == self.goal.at.file);
        let asked = near.map_or(&[][..], |script| self.acts.asked_for(script));
        let rank = |actor: &OwnerId| (!asked.contains(actor), !filters.contains(actor));
        let mut ranked: Vec<((bool, bool), OwnerId)> =
            actors(project, ty).into_iter().map(|actor| (rank(&actor), actor)).collect();
        ranked.sort_by_key(|&(rank, _)| rank);
        let mut found = Vec::new();
        for alike in ranked.chunk_by(|a, b| a.0 == b.0) {
            let actors = || alike.iter().map(|&(_, actor)| actor);
            // New ones first: most of what is met in play was not met before.
            found.extend(actors().filter(|&actor| project.registry.is_many(actor)).map(Who::New));
            let live = actors().flat_map(|actor| stage.machine.memory.live(actor).iter().take(3));
            found.extend(live.map(|&at| who(stage, at)));
        }
        found.into_iter().map(Given::Instance).collect()
    }

    // ---- walks ----

    fn walks(&mut self) -> Option<Run> {
        let mut seed = 0;
        // There are to be many.
        self.most = (self.most / WALKS_IN_A_DRILL).max(1_000);
        while self.left > 0 {
            seed += 1;
            let most = 4 + self.below(WALK);
            let far = u32::try_from(self.below(3)).unwrap_or(0) + 1;
            let main = self.below(4).saturating_sub(2);
            let fresh = self.ways.is_empty() || self.below(3) == 0;
            let way = if fresh { Run { seed, acts: Vec::new() } } else { self.some_way() };
            let most = way.acts.len() + most;
            let last = self.some_last();
            let length = if matches!(last, Last::Anything) { most } else { most + REPEATED };
            let mut chosen = None;
            let walk = |search: &mut Self, stage: &Stage<'s, 'p, Watcher<'s>>, at: usize| match (way.acts.get(at), last)
            {
                (Some(act), _) => Some(act.clone()),
                (None, Last::Time(ticks)) if at + 1 >= most => Some(Action::Pass(ticks)),
                (None, Last::Signal(pace)) if at + 1 >= most => {
                    search.once_more(stage, (far, main), pace, at, &mut chosen)
                }
                (None, _) => search.step(stage, far, main),
            };
            if let Some(run) = self.attempt(way.seed, length, walk) {
                return Some(run);
            }
        }
        None
    }

    /// What a walk does at its end.
    fn some_last(&mut self) -> Last {
        match self.below(10) {
            0 => Last::Time(PASSES[self.below(PASSES.len())]),
            1 | 2 => Last::Time(LAST_PASS),
            3 | 4 => {
                let paces = self.acts.waits_near(self.layout, self.goal.at);
                let at = self.below(paces.len() + 2);
                Last::Signal(paces.get(at).copied().or((at == paces.len()).then_some(1)))
            }
            _ => Last::Anything,
        }
    }

    /// The signal that was chosen at first, once more, or time.
    fn once_more(
        &mut self,
        stage: &Stage<'s, 'p, Watcher<'s>>,
        (far, main): (u32, usize),
        pace: Option<u64>,
        at: usize,
        chosen: &mut Option<Action>,
    ) -> Option<Action> {
        if let Some(question) = stage.machine.questions.front() {
            return Some(Action::Choose(at % question.choices.len().max(1)));
        }
        if let Some(ticks) = pace.filter(|_| at.is_multiple_of(2)) {
            return Some(Action::Pass(ticks));
        }
        if chosen.is_none() {
            *chosen = self.some_signal(stage, far, main);
        }
        chosen.clone()
    }

    /// A way that some run went, or the beginning of one.
    fn some_way(&mut self) -> Run {
        // The latest came farthest.
        let among = if self.below(2) == 0 { self.ways.len().min(8) } else { self.ways.len() };
        let at = self.ways.len() - 1 - self.below(among);
        let mut way = self.ways[at].clone();
        let kept = self.below(way.acts.len()) + 1;
        if self.below(2) == 0 {
            way.acts.truncate(kept);
        }
        way
    }

    /// One random act; `far` is how many steps of nearness make a signal half as likely, `main` the instance that
    /// most things happen to.
    fn step(&mut self, stage: &Stage<'s, 'p, Watcher<'s>>, far: u32, main: usize) -> Option<Action> {
        if let Some(question) = stage.machine.questions.front()
            && self.below(3) > 0
        {
            return Some(Action::Choose(self.below(question.choices.len())));
        }
        match self.below(20) {
            0..=2 => {
                let at = self.below(self.acts.times.len());
                let at = self.below(at + 1);
                Some(Action::Pass(self.acts.times.get(at).copied().unwrap_or(1)))
            }
            4 | 5 if !self.acts.written.is_empty() => self.as_the_game(stage),
            3 if self.below(4) == 0 => Some(Action::Pass(PASSES[self.below(2)])),
            3 if self.below(3) == 0 => {
                let at = self.below(self.acts.times.len());
                Some(Action::Pass(self.acts.times.get(at).copied().unwrap_or(1).saturating_mul(8).min(2_000)))
            }
            _ => self.some_signal(stage, far, main),
        }
    }

    fn some_signal(&mut self, stage: &Stage<'s, 'p, Watcher<'s>>, far: u32, main: usize) -> Option<Action> {
        let weights: Vec<usize> = self.ranked.iter().map(|&(_, depth)| 64 >> (depth / far).min(6)).collect();
        let all: usize = weights.iter().sum();
        let mut drawn = self.below(all);
        let at = weights.iter().position(|&weight| {
            let here = drawn < weight;
            drawn = drawn.saturating_sub(weight);
            here
        });
        let Some(&(signal, _)) = at.and_then(|at| self.ranked.get(at)) else { return Some(Action::Pass(1)) };
        let variant = if self.below(4) > 0 { main } else { self.below(8) };
        let (on, _) = self.target(stage, signal, variant);
        let with = self.arguments(stage, signal, |search, stage, parameter| {
            let known = if search.below(3) == 0 { search.some_live(stage, signal, parameter) } else { None };
            // The ends of a range, and what some handler asks for, stand first and do most.
            known.or_else(|| {
                let all = search.candidates(stage, signal, parameter);
                let most = if search.below(3) == 0 { all.len() } else { all.len().min(2) };
                all.get(search.below(most)).cloned()
            })
        });
        // Now and then many in a row, as they come in play.
        let times = if self.below(8) == 0 { BURSTS[self.below(BURSTS.len())] } else { 1 };
        Some(Action::Fire { signal, on, with: with?, times })
    }

    /// An instance that has been met, or may have been: the first of an actor's, or the latest.
    fn some_live(
        &mut self,
        stage: &Stage<'s, 'p, Watcher<'s>>,
        signal: SignalId,
        parameter: &SignalParameter,
    ) -> Option<Given> {
        let actors: Vec<OwnerId> = match parameter.ty {
            Type::Ref(_) | Type::Unknown => self.actors_asked_for(signal, parameter.ty),
            _ => return None,
        };
        let live = actors.get(self.below(actors.len())).map(|&actor| stage.machine.memory.live(actor))?;
        let at = if self.below(2) == 0 { live.first() } else { live.last() };
        at.map(|&at| Given::Instance(who(stage, at)))
    }

    /// The actors that may be passed, those first that some handler of the signal asks for; only those, where any are.
    fn actors_asked_for(&self, signal: SignalId, ty: Type) -> Vec<OwnerId> {
        let mut all = actors(self.layout.project, ty);
        let filters = self.filters(signal);
        if all.iter().any(|actor| filters.contains(actor)) {
            all.retain(|actor| filters.contains(actor));
        }
        all
    }

    /// The actors that handlers of a signal ask for.
    fn filters(&self, signal: SignalId) -> Vec<OwnerId> {
        let project = self.layout.project;
        let handlers = self.layout.answers.signals.get(&signal).into_iter().flatten();
        let parameters = handlers.flat_map(|handler| {
            let at = self.layout.handlers[handler.index()];
            &project.script(at.script).handlers[at.index].parameters
        });
        parameters.filter_map(|&(_, filter)| filter).collect()
    }

    /// What the game may put into a `ref`: nobody, or an instance that there is.
    fn some_held(&mut self, stage: &Stage<'s, 'p, Watcher<'s>>, actor: Option<OwnerId>) -> Given {
        let all = actors(self.layout.project, Type::Ref(actor));
        let live: Vec<InstanceAt> = all.iter().flat_map(|&actor| stage.machine.memory.live(actor)).copied().collect();
        let drawn = self.below(live.len() + 1);
        live.get(drawn).map_or(Given::Nobody, |&at| Given::Instance(who(stage, at)))
    }

    /// A variable with `engine = "writes"` changes, within its range.
    #[allow(clippy::cast_possible_truncation, reason = "a cast from float saturates")]
    fn as_the_game(&mut self, stage: &Stage<'s, 'p, Watcher<'s>>) -> Option<Action> {
        let at = self.below(self.acts.written.len());
        let variable: VarId = *self.acts.written.get(at)?;
        let facts = self.layout.project.registry.var(variable);
        let live = stage.machine.memory.live(facts.owner);
        let of = match facts.scope {
            Scope::Instance if live.is_empty() => return Some(Action::Pass(1)),
            Scope::Instance => Some(live[self.below(live.len())]),
            Scope::Scene if stage.machine.scene != Some(facts.owner) => return Some(Action::Pass(1)),
            _ => None,
        };
        let (min, max) = stage.machine.range(CellId(variable.0), of);
        let (low, high) = (min.unwrap_or(f64::NEG_INFINITY), max.unwrap_or(f64::INFINITY));
        let mut numbers: Vec<f64> = self.acts.numbers.iter().copied().filter(|n| *n >= low && *n <= high).collect();
        let ends: Vec<f64> = [min, max].into_iter().flatten().collect();
        if !ends.is_empty() && self.below(2) == 0 {
            numbers = ends;
        }
        let number = numbers.get(self.below(numbers.len())).copied();
        if let Type::Ref(actor) = facts.ty {
            let held = self.some_held(stage, actor);
            let of = of.map(|at| who(stage, at));
            return Some(Action::Set(vec![Put { variable, of, value: held }]));
        }
        let value = match facts.ty {
            Type::Bool => Value::Bool(self.below(2) == 0),
            Type::Int => Value::Int(number?.floor() as i64),
            Type::Number => Value::Number(number?),
            Type::Enum(_) => Value::Text(facts.values.get(self.below(facts.values.len()))?.clone()),
            Type::Vec2 => Value::Vector(vec![number.unwrap_or(0.0), 0.0]),
            Type::Vec3 => Value::Vector(vec![number.unwrap_or(0.0), 0.0, 0.0]),
            _ => return Some(Action::Pass(1)),
        };
        let of = of.map(|at| who(stage, at));
        Some(Action::Set(vec![Put { variable, of, value: Given::Plain(value) }]))
    }
}

/// The values that may be passed for a parameter that takes no instance, the likeliest first.
#[must_use]
#[allow(clippy::cast_possible_truncation, reason = "a cast from float saturates")]
pub fn constants(layout: &Layout<'_>, acts: &Acts, parameter: &SignalParameter) -> Vec<Given> {
    let (low, high) = (parameter.min.unwrap_or(f64::NEG_INFINITY), parameter.max.unwrap_or(f64::INFINITY));
    let inside = |value: &f64| *value >= low && *value <= high;
    let ends = [parameter.max, parameter.min].into_iter().flatten();
    // Fractions of the range, so that what moves by them may come between whole steps.
    let between = parameter.min.zip(parameter.max).filter(|_| parameter.ty == Type::Number);
    let parts = between.into_iter().flat_map(|(min, max)| PARTS.map(|part| min + (max - min) * part));
    let numbers = || ends.clone().chain(acts.numbers.iter().copied().filter(inside)).chain(parts.clone());
    let plain = match parameter.ty {
        Type::Bool => vec![Value::Bool(true), Value::Bool(false)],
        Type::Int => numbers().filter(|value| value.fract() == 0.0).map(|value| Value::Int(value as i64)).collect(),
        Type::Number => numbers().map(Value::Number).collect(),
        Type::Text => vec![Value::Text("".into())],
        Type::Enum(of) => layout.project.registry.var(of).values.iter().cloned().map(Value::Text).collect(),
        Type::Vec2 => vec![Value::Vector(vec![0.0; 2])],
        Type::Vec3 => vec![Value::Vector(vec![0.0; 3])],
        Type::Ref(_) | Type::Unknown => Vec::new(),
    };
    plain.into_iter().map(Given::Plain).collect()
}

/// The name of an instance of a run.
fn who(stage: &Stage<'_, '_, Watcher<'_>>, at: InstanceAt) -> Who {
    let instance = &stage.machine.memory.instances[at.0 as usize];
    match instance.listed {
        Some(listed) => Who::Listed(listed),
        None => Who::Made(instance.actor, instance.number),
    }
}
