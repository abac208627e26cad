//! Plays a program with random signals, arguments, choices and draws, up to its first fault.

use super::generate::Dice;
use census::project::Project;
use census::registry::{OwnerId, Scope, SignalId, Type};
use census::rehearse::fault::Fault;
use census::rehearse::layout::{InstanceAt, Layout};
use census::rehearse::machine::{Happening, Limits, Machine, Observer, Reach};
use census::rehearse::memory::Memory;
use census::rehearse::value::Value;
use std::collections::BTreeSet;

/// Counts what is made anew, and prints every change for whoever looks into a miss.
pub struct Trace<'l, 'p> {
    pub layout: &'l Layout<'p>,
    pub on: bool,
    /// How often a run began or a scene was loaded.
    pub loads: usize,
    /// What was noted before anything went wrong.
    notes: BTreeSet<String>,
    /// What was noted in the present act: it counts once it is seen that the game itself put nothing wrong.
    fresh: BTreeSet<String>,
    faulty: bool,
}

impl Observer for Trace<'_, '_> {
    fn see(&mut self, tick: u64, memory: &Memory<'_, '_>, happening: &Happening<'_>) {
        self.loads += usize::from(matches!(happening, Happening::Run | Happening::Scene(_)));
        match happening {
            Happening::Fault(_) => self.faulty = true,
            Happening::Noted { text, .. } if !self.faulty => drop(self.fresh.insert((*text).to_owned())),
            _ => {}
        }
        match happening {
            _ if !self.on => {}
            Happening::Changed { cell, of, old, new, at } => {
                let name = census::rehearse::cell_name(self.layout, memory, *cell, *of);
                let line = at.map(|at| crate::place(self.layout.project, at));
                println!("{tick} {name}: {old:?} -> {new:?} at {line:?}");
            }
            other => println!("{tick} {other:?}"),
        }
    }
}

type Run<'l, 'p> = Machine<'l, 'p, Trace<'l, 'p>>;

/// The first fault of one random run.
pub fn first_fault(layout: &Layout<'_>, seed: u64, trace: bool) -> Option<Fault> {
    play(&mut machine(layout, seed, trace), seed)
}

/// What is noted in one random run before its first fault.
pub fn notes(layout: &Layout<'_>, seed: u64) -> BTreeSet<String> {
    let mut machine = machine(layout, seed, false);
    play(&mut machine, seed);
    machine.observer.notes
}

fn machine<'l, 'p>(layout: &'l Layout<'p>, seed: u64, trace: bool) -> Run<'l, 'p> {
    let observer = Trace { layout, on: trace, loads: 0, notes: BTreeSet::new(), fresh: BTreeSet::new(), faulty: false };
    let mut machine = Machine::new(layout, seed, observer);
    machine.limits = Limits { steps: 5_000, dispatches: 1_000, waiting: 200, beginnings: 100 };
    machine
}

fn play(machine: &mut Run<'_, '_>, seed: u64) -> Option<Fault> {
    let mut dice = Dice::new(seed);
    machine.start();
    let mut anew_outside = false;
    for _ in 0..40 {
        if let Some(fault) = machine.faults.first() {
            return (!anew_outside).then(|| fault.clone());
        }
        // What the game writes may make an invariant false: no handler's fault.
        if machine.stopped.is_some() || began_outside(machine) || !machine.all_hold() {
            return None;
        }
        let observer = &mut machine.observer;
        observer.notes.append(&mut observer.fresh);
        let (outside, made) = (would_begin_outside(machine), made(machine));
        let by_game = act(machine, machine.layout.project, &mut dice);
        if by_game && machine.faults.first().is_some_and(|fault| fault.rule.0 == "invariant/can-break") {
            return None; // Who answers the game's write may not have been the one who broke it.
        }
        anew_outside = outside && made != self::made(machine);
    }
    machine.faults.first().filter(|_| !anew_outside).cloned()
}

/// How much was made so far: instances, and loads of scenes.
fn made(machine: &Run<'_, '_>) -> (usize, usize) {
    (machine.memory.instances.len(), machine.observer.loads)
}

/// Whether an instance or a scene that is made anew now would begin outside of its range, since a bound has moved.
fn would_begin_outside(machine: &Run<'_, '_>) -> bool {
    let registry = &machine.layout.project.registry;
    registry.var_ids().any(|id| {
        let variable = registry.var(id);
        let of = machine.memory.live(variable.owner).first().copied();
        let (min, max) = machine.range(census::project::CellId(id.0), of);
        let value = variable.default.as_ref().and_then(census::registry::Value::as_number);
        matches!(variable.scope, Scope::Instance | Scope::Scene)
            && value.is_some_and(|value| min.is_some_and(|min| value < min) || max.is_some_and(|max| value > max))
    })
}

/// Whether something that was made anew, with a scene or an instance, begins outside of its range: no write's fault.
fn began_outside(machine: &Run<'_, '_>) -> bool {
    let registry = &machine.layout.project.registry;
    registry.var_ids().any(|id| {
        let variable = registry.var(id);
        let cell = census::project::CellId(id.0);
        let whose: Vec<Option<InstanceAt>> = match variable.scope {
            Scope::Instance => machine.memory.live(variable.owner).iter().map(|&at| Some(at)).collect(),
            Scope::Scene if machine.scene != Some(variable.owner) => Vec::new(),
            _ => vec![None],
        };
        whose.into_iter().any(|of| {
            let (min, max) = machine.range(cell, of);
            let value = machine.memory.number(cell, of);
            value.is_some_and(|value| min.is_some_and(|min| value < min) || max.is_some_and(|max| value > max))
        })
    })
}

/// Something happens; says whether it was the game that wrote something.
fn act(machine: &mut Run<'_, '_>, project: &Project, dice: &mut Dice) -> bool {
    let what = dice.below(10);
    match what {
        0..=5 => fire(machine, project, dice),
        6 => {
            let _ = machine.choose(dice.below(2));
        }
        // Mostly little time: a second, or ten, now and then.
        7 => {
            let most = [12, 12, 12, 12, 60, 600][dice.below(6)];
            machine.pass(dice.below(most) as u64);
        }
        8 => machine.pass(1 + dice.below(3) as u64),
        _ => write_as_the_game(machine, project, dice),
    }
    what == 9
}

fn fire(machine: &mut Run<'_, '_>, project: &Project, dice: &mut Dice) {
    let engine: Vec<SignalId> = (0..project.registry.signals.len())
        .map(SignalId::at)
        .filter(|&id| project.registry.signal(id).from_engine)
        .collect();
    let id = *dice.pick(&engine);
    let signal = project.registry.signal(id);
    let live: Vec<InstanceAt> = machine.memory.all_live();
    let arguments: Vec<Value> = signal
        .parameters
        .iter()
        .map(|parameter| match parameter.ty {
            Type::Int => {
                // Not the ends of 64 bits: that a step there goes nowhere is no designer's concern.
                let low = parameter.min.map_or(-1_000_000_000, |min| min as i64);
                let high = parameter.max.map_or(1_000_000_000, |max| max as i64);
                let wanted = [low, high, 0, 1, -1, dice.between(-3, 12)][dice.below(6)];
                Value::Int(wanted.clamp(low, high))
            }
            Type::Number => {
                let (low, high) = (parameter.min.unwrap_or(-1e9), parameter.max.unwrap_or(1e9));
                Value::Number([low, high, 0.0, 0.25, dice.between(0, 12) as f64][dice.below(5)].clamp(low, high))
            }
            Type::Bool => Value::Bool(dice.one_in(2)),
            Type::Text => Value::Text(["", "marsh", "12"][dice.below(3)].into()),
            Type::Ref(Some(actor)) if !machine.memory.live(actor).is_empty() => {
                Value::Ref(Some(*dice.pick(machine.memory.live(actor))))
            }
            Type::Ref(None) if !live.is_empty() => Value::Ref(Some(*dice.pick(&live))),
            _ => Value::Ref(None),
        })
        .collect();
    let missing = signal
        .parameters
        .iter()
        .zip(&arguments)
        .any(|(parameter, value)| matches!(parameter.ty, Type::Ref(_)) && *value == Value::Ref(None));
    if missing {
        return;
    }
    let reach = match (signal.to_all, live.is_empty()) {
        (true, _) => Reach::All,
        (false, true) => Reach::NoInstance,
        (false, false) => Reach::Happens(*dice.pick(&live)),
    };
    machine.fire(id, arguments, reach);
}

/// A variable with `engine = "writes"` changes, within its range.
fn write_as_the_game(machine: &mut Run<'_, '_>, project: &Project, dice: &mut Dice) {
    let is_written = |id: &census::registry::VarId| {
        let variable = project.registry.var(*id);
        let plain = matches!(variable.ty, Type::Bool | Type::Enum(_) | Type::Int | Type::Number);
        variable.engine_writes && plain
    };
    let written: Vec<_> = project.registry.var_ids().filter(is_written).collect();
    if written.is_empty() {
        return;
    }
    let id = *dice.pick(&written);
    let cell = census::project::CellId(id.0);
    let variable = project.registry.var(id);
    let owner: OwnerId = variable.owner;
    let of = match variable.scope {
        census::registry::Scope::Instance => match machine.memory.live(owner) {
            [] => return,
            live => Some(*dice.pick(live)),
        },
        census::registry::Scope::Scene if machine.scene != Some(owner) => return,
        _ => None,
    };
    if variable.ty == Type::Bool {
        return machine.set(cell, of, Some(Value::Bool(dice.one_in(2))));
    }
    if matches!(variable.ty, Type::Enum(_)) {
        return machine.set(cell, of, Some(Value::Text(dice.pick(&variable.values).clone())));
    }
    let (min, max) = machine.range(cell, of);
    let (min, max) = (min.unwrap_or(-1e6).ceil(), max.unwrap_or(1e6).floor());
    let wanted: f64 = [min, max, 0.0, 3.0][dice.below(4)];
    if min <= max {
        machine.set(cell, of, Some(Value::Number(wanted.clamp(min, max)).fitted(variable.ty)));
    }
}
