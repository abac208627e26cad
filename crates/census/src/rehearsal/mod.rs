//! Rehearsals: fire these signals, let this much time pass, expect this.
//!
//! [`read`] turns a file into a [`Rehearsal`], [`play`] plays it on the engine of [`crate::rehearse`] with
//! what [`stage`] can do, and [`record`] keeps
//! what was seen on the way: the log, and the values over time that a chart draws.

pub mod play;
pub mod read;
pub mod record;
pub mod stage;
pub mod write;

use crate::finding::RuleName;
use crate::project::expression::Condition;
use crate::registry::{InstanceId, OwnerId, SignalId, Value, VarId};
use crate::source::{FileId, Location};

/// A rehearsal, read and resolved.
#[derive(Debug)]
pub struct Rehearsal {
    /// Its file.
    pub file: FileId,
    /// Its title; without one, its file's path.
    pub title: String,
    /// What the run's draws begin from.
    pub seed: u64,
    /// What the log and the chart follow; nothing means all that changes.
    pub watch: Vec<Watched>,
    /// Values put in place once the run has started.
    pub given: Vec<Put>,
    /// The steps, in order.
    pub steps: Vec<Step>,
    /// The faults that are meant to happen.
    pub faults: Vec<RuleName>,
    /// What the steps expect.
    pub conditions: Vec<Condition>,
}

/// A variable that the log and the chart follow.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Watched {
    /// The variable.
    pub variable: VarId,
    /// The one instance meant; without it, all of them.
    pub of: Option<InstanceId>,
}

/// An instance, as a rehearsal names it.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Who {
    /// A listed one, or the only one of its actor.
    Listed(InstanceId),
    /// A new one of that actor.
    New(OwnerId),
    /// The how-manieth, from 1, that the run has made of that actor: `parcel 2`.
    Made(OwnerId, u32),
}

/// A value, as a rehearsal gives it.
#[derive(Clone, PartialEq, Debug)]
pub enum Given {
    /// A constant.
    Plain(Value),
    /// An instance.
    Instance(Who),
    /// *none*
    Nobody,
}

/// A value put in place.
#[derive(Clone, PartialEq, Debug)]
pub struct Put {
    /// The variable.
    pub variable: VarId,
    /// Whose, where each instance has its own.
    pub of: Option<Who>,
    /// The value.
    pub value: Given,
}

/// A step, and where it stands.
#[derive(Debug)]
pub struct Step {
    /// Its header.
    pub at: Location,
    /// What it does.
    pub action: Action,
}

/// What a step does.
#[derive(Clone, PartialEq, Debug)]
pub enum Action {
    /// The game sends a signal.
    Fire {
        /// The signal.
        signal: SignalId,
        /// The instance that it happens to.
        on: Option<Who>,
        /// The arguments, in the order of the parameters.
        with: Vec<Given>,
        /// How often.
        times: u64,
    },
    /// Time passes, in ticks.
    Pass(u64),
    /// The oldest open question is answered, by the choice of that number, from 0.
    Choose(usize),
    /// Something is expected.
    Expect {
        /// Index into [`Rehearsal::conditions`].
        condition: usize,
        /// Why.
        because: Option<String>,
    },
    /// Values are put in place.
    Set(Vec<Put>),
    /// A scene is loaded.
    Go(OwnerId),
    /// The run ends and the next begins.
    Restart,
}
