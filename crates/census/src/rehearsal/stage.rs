//! The game's part in a run: signals and values, by the names that a rehearsal uses.

use super::{Action, Given, Put, Who};
use crate::project::CellId;
use crate::registry::{OwnerId, Scope, SignalId, VarId};
use crate::rehearse::layout::InstanceAt;
use crate::rehearse::machine::{Machine, Observer, Reach};
use crate::rehearse::value::Value;
use smallvec::SmallVec;

/// A run, and what is done to it from outside.
#[derive(Clone)]
pub struct Stage<'l, 'p, O: Observer> {
    /// The run.
    pub machine: Machine<'l, 'p, O>,
}

impl<O: Observer> Stage<'_, '_, O> {
    /// Does what a step does; what it expects is not looked at.
    ///
    /// # Errors
    /// It can't be done now.
    pub fn act(&mut self, action: &Action) -> Result<(), String> {
        match action {
            Action::Fire { signal, on, with, times } => {
                for _ in 0..*times {
                    self.fire(*signal, *on, with)?;
                }
            }
            Action::Pass(ticks) => self.machine.pass(*ticks),
            Action::Choose(choice) => {
                return self.machine.choose(*choice).map_err(|_| "that choice is not offered".to_owned());
            }
            Action::Expect { .. } => {}
            Action::Set(puts) => {
                for put in puts {
                    self.put(put)?;
                }
            }
            Action::Go(scene) => self.machine.go(*scene),
            Action::Restart => self.machine.restart(),
        }
        Ok(())
    }

    /// The game sends a signal.
    ///
    /// # Errors
    /// An instance is not there.
    pub fn fire(&mut self, signal: SignalId, on: Option<Who>, with: &[Given]) -> Result<(), String> {
        let on = match on {
            Some(who) => Some(self.instance(who)?),
            None => None,
        };
        let arguments: SmallVec<[Value; 2]> = with
            .iter()
            .map(|given| self.given(given, crate::registry::Type::Unknown))
            .collect::<Result<_, String>>()?;
        let to_all = self.machine.layout.project.registry.signal(signal).to_all;
        let reach = match on {
            Some(of) => Reach::Happens(of),
            None if to_all => Reach::All,
            None => Reach::NoInstance,
        };
        self.machine.fire(signal, arguments, reach);
        Ok(())
    }

    /// Puts a value in place.
    ///
    /// # Errors
    /// Its instance or its scene is not there.
    pub fn put(&mut self, put: &Put) -> Result<(), String> {
        let of = match put.of {
            Some(who) => Some(self.instance(who)?),
            None => None,
        };
        self.there(put.variable)?;
        let cell = CellId(put.variable.0);
        let value = self.given(&put.value, self.machine.layout.cells[cell.index()].ty)?;
        self.machine.set(cell, of, Some(value));
        Ok(())
    }

    /// A scene's variable is there while its scene is loaded.
    fn there(&self, variable: VarId) -> Result<(), String> {
        let registry = &self.machine.layout.project.registry;
        let facts = registry.var(variable);
        if facts.scope != Scope::Scene || self.machine.scene == Some(facts.owner) {
            return Ok(());
        }
        let scene = &registry.owner(facts.owner).name;
        Err(format!("`{}` is not there: the scene `{scene}` is not loaded", registry.identity(variable)))
    }

    fn given(&mut self, given: &Given, ty: crate::registry::Type) -> Result<Value, String> {
        Ok(match given {
            Given::Nobody => Value::Ref(None),
            Given::Instance(who) => Value::Ref(Some(self.instance(*who)?)),
            Given::Plain(crate::registry::Value::Int(value)) => Value::Int(*value).fitted(ty),
            Given::Plain(value) => Value::constant(value, ty),
        })
    }

    /// The instance meant; a new one is made here.
    fn instance(&mut self, who: Who) -> Result<InstanceAt, String> {
        let registry = &self.machine.layout.project.registry;
        match who {
            Who::Listed(id) => self.machine.memory.listed(id).ok_or_else(|| {
                let instance = registry.instance(id);
                let scene = instance.scene.filter(|&scene| self.machine.scene != Some(scene));
                let name = &instance.name;
                match scene.map(|scene| &registry.owner(scene).name) {
                    Some(scene) => format!("`{name}` is not there: the scene `{scene}` is not loaded"),
                    None => format!("`{name}` is not there: it was removed"),
                }
            }),
            Who::New(actor) => Ok(self.machine.spawn(actor)),
            Who::Made(actor, number) => self.made(actor, number),
        }
    }

    fn made(&self, actor: OwnerId, number: u32) -> Result<InstanceAt, String> {
        let memory = &self.machine.memory;
        let of = |&&at: &&InstanceAt| memory.instances[at.0 as usize].number == number;
        memory.live(actor).iter().find(of).copied().ok_or_else(|| {
            let name = &self.machine.layout.project.registry.owner(actor).name;
            format!("`{name} {number}` is not there: it was not made yet, or it was removed")
        })
    }
}
