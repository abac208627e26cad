//! What is seen while a rehearsal is played: the log, the last changes of what is expected, and values over time.

use super::{Rehearsal, Watched};
use crate::flow::world::HandlerId;
use crate::project::{CellId, Project, ScriptUnit};
use crate::registry::InstanceId;
use crate::rehearse::layout::{InstanceAt, Layout, Limit};
use crate::rehearse::machine::{Happening, Observer};
use crate::rehearse::memory::Memory;
use crate::rehearse::value::Value;
use crate::rehearse::{cell_name, value_text};
use crate::script::ast::Trigger;
use crate::source::Location;
use rustc_hash::FxHashMap;
use std::collections::VecDeque;

/// How many of the last changes of an expected value are kept.
const LAST_CHANGES: usize = 3;

/// What to keep.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct Wanted {
    /// Every change, message and fault.
    pub log: bool,
    /// The watched values over time.
    pub tracks: bool,
}

/// One line of the log.
#[derive(Clone, PartialEq, Debug)]
pub struct Entry {
    /// When, in ticks since the program started.
    pub tick: u64,
    /// The step, from 0; none for the start and for what was `given`.
    pub step: Option<usize>,
    /// The handler that did it; none where the rehearsal itself did.
    pub handler: Option<HandlerId>,
    /// Where in a script.
    pub at: Option<Location>,
    /// What happened.
    pub what: What,
}

/// What a line of the log tells.
#[derive(Clone, PartialEq, Debug)]
#[allow(missing_docs, reason = "the fields are named for what they hold")]
pub enum What {
    /// A variable or a private changed.
    Changed { name: String, old: String, new: String },
    /// Something was printed.
    Shown { label: Option<String>, text: String },
    /// A label was cleared.
    Hidden { label: String },
    /// A question was asked.
    Asked { text: String, choices: Vec<String> },
    /// A note was written.
    Noted { text: String },
    /// Something went wrong.
    Fault { rule: &'static str, message: String },
    /// A scene was loaded.
    Scene { name: String },
    /// A run began.
    Run,
}

impl What {
    /// The kind in a word.
    #[must_use]
    pub fn kind(&self) -> &'static str {
        match self {
            Self::Changed { .. } => "change",
            Self::Shown { .. } => "show",
            Self::Hidden { .. } => "hide",
            Self::Asked { .. } => "ask",
            Self::Noted { .. } => "note",
            Self::Fault { .. } => "fault",
            Self::Scene { .. } => "scene",
            Self::Run => "run",
        }
    }
}

/// A moment of a track: from here on the value is this, and so are the ends of its range.
#[derive(Clone, PartialEq, Debug)]
pub struct Point {
    /// Ticks since the program started.
    pub tick: u64,
    /// How many acts of the rehearsal came before it.
    pub act: u64,
    /// The value; none where it is unset, or its instance is gone.
    pub value: Option<Value>,
    /// The ends of its range, where it has them.
    pub range: (Option<f64>, Option<f64>),
}

/// A value over time.
#[derive(Clone, Debug)]
pub struct Track {
    /// The cell.
    pub cell: CellId,
    /// Whose.
    pub of: Option<InstanceAt>,
    /// Its name.
    pub name: String,
    /// Its moments, in order.
    pub points: Vec<Point>,
}

/// A fault, for the chart.
#[derive(Clone, Debug)]
pub struct Mark {
    /// When, in ticks since the program started.
    pub tick: u64,
    /// How many acts of the rehearsal came before it.
    pub act: u64,
    /// The rule.
    pub rule: &'static str,
}

/// A change of an expected value. Few of those that are kept are ever told, so none is put into words before that.
#[derive(Clone, Debug)]
struct Change {
    tick: u64,
    step: Option<usize>,
    handler: Option<HandlerId>,
    at: Option<Location>,
    old: Option<Value>,
    new: Option<Value>,
}

/// Keeps what is wanted.
#[derive(Debug)]
pub struct Recorder<'r> {
    wanted: Wanted,
    watch: &'r [Watched],
    /// The cells that some condition may name.
    expected: Vec<bool>,
    /// The step that is being played.
    pub step: Option<usize>,
    /// How many acts there were: what was fired, passed, chosen, put in place.
    pub act: u64,
    /// Whether the values over time are kept from here on: they begin where what is given stands in place.
    pub following: bool,
    handlers: Vec<HandlerId>,
    /// The log.
    pub log: Vec<Entry>,
    recent: FxHashMap<(CellId, Option<InstanceAt>), VecDeque<Change>>,
    /// The tracks, in the order in which their values first appeared.
    pub tracks: Vec<Track>,
    track_of: FxHashMap<(CellId, Option<InstanceAt>), usize>,
    /// The faults, where tracks are kept.
    pub marks: Vec<Mark>,
}

impl<'r> Recorder<'r> {
    /// A recorder for a rehearsal.
    #[must_use]
    pub fn new(project: &Project, rehearsal: &'r Rehearsal, wanted: Wanted) -> Self {
        let mut expected = vec![false; project.cells.len()];
        for condition in &rehearsal.conditions {
            for place in &condition.unit.places {
                if let crate::project::Place::Variable(variable, _) = place {
                    expected[variable.index()] = true;
                }
            }
        }
        Self {
            wanted,
            watch: &rehearsal.watch,
            expected,
            step: None,
            act: 0,
            following: false,
            handlers: Vec::new(),
            log: Vec::new(),
            recent: FxHashMap::default(),
            tracks: Vec::new(),
            track_of: FxHashMap::default(),
            marks: Vec::new(),
        }
    }

    /// The last changes of a cell, the oldest first.
    #[must_use]
    pub fn last_changes(&self, memory: &Memory<'_, '_>, cell: CellId, of: Option<InstanceAt>) -> Vec<Entry> {
        let in_words = |change: &Change| {
            let what = changed(memory, (cell, of), change.old.as_ref(), change.new.as_ref());
            Entry { tick: change.tick, step: change.step, handler: change.handler, at: change.at, what }
        };
        self.recent.get(&(cell, of)).into_iter().flatten().map(in_words).collect()
    }

    fn is_watched(&self, memory: &Memory<'_, '_>, cell: CellId, of: Option<InstanceAt>) -> bool {
        let listed = |at: InstanceAt| -> Option<InstanceId> { memory.instances[at.0 as usize].listed };
        self.watch.is_empty()
            || self.watch.iter().any(|watched| {
                watched.variable.0 == cell.0 && (watched.of.is_none() || watched.of == of.and_then(listed))
            })
    }

    fn entry(&self, tick: u64, at: Option<Location>, what: What) -> Entry {
        Entry { tick, step: self.step, handler: self.handler(at), at, what }
    }

    /// The handler that does what is done there.
    fn handler(&self, at: Option<Location>) -> Option<HandlerId> {
        at.and(self.handlers.last().copied())
    }

    #[allow(clippy::too_many_arguments, reason = "a change has that many parts")]
    fn changed(
        &mut self,
        tick: u64,
        memory: &Memory<'_, '_>,
        cell: CellId,
        of: Option<InstanceAt>,
        old: Option<&Value>,
        new: Option<&Value>,
        at: Option<Location>,
    ) {
        if old == new {
            return;
        }
        if self.wanted.log && self.is_watched(memory, cell, of) {
            let entry = self.entry(tick, at, changed(memory, (cell, of), old, new));
            self.log.push(entry);
        }
        if self.expected[cell.index()] {
            let handler = self.handler(at);
            let change = Change { tick, step: self.step, handler, at, old: old.cloned(), new: new.cloned() };
            let recent = self.recent.entry((cell, of)).or_default();
            if recent.len() == LAST_CHANGES {
                recent.pop_front();
            }
            recent.push_back(change);
        }
        let following = self.wanted.tracks && self.following;
        if following && self.watch.is_empty() && !self.track_of.contains_key(&(cell, of)) {
            // Nobody asked for this one beforehand, so its track begins with what it was until now.
            let at = self.track(memory, cell, of);
            let range = range(memory, cell, of);
            self.tracks[at].points.push(Point { tick: 0, act: 0, value: old.cloned(), range });
        }
        if following {
            self.follow(tick, memory, cell, of);
        }
    }

    // ---- values over time ----

    fn track(&mut self, memory: &Memory<'_, '_>, cell: CellId, of: Option<InstanceAt>) -> usize {
        *self.track_of.entry((cell, of)).or_insert_with(|| {
            let name = cell_name(memory.layout(), memory, cell, of);
            self.tracks.push(Track { cell, of, name, points: Vec::new() });
            self.tracks.len() - 1
        })
    }

    /// A cell changed: its own track goes on, and those whose range it ends.
    fn follow(&mut self, tick: u64, memory: &Memory<'_, '_>, cell: CellId, of: Option<InstanceAt>) {
        let layout = memory.layout();
        for at in 0..self.tracks.len() {
            let track = &self.tracks[at];
            let same = track.cell == cell && track.of == of;
            if same || layout.cells[cell.index()].bounds.contains(&track.cell) {
                self.put_point(tick, memory, at);
            }
        }
    }

    fn put_point(&mut self, tick: u64, memory: &Memory<'_, '_>, at: usize) {
        let track = &mut self.tracks[at];
        let gone = track.of.is_some_and(|of| memory.there(of).is_none());
        let value = if gone { None } else { memory.get(track.cell, track.of) };
        let point = Point { tick, act: self.act, value, range: range(memory, track.cell, track.of) };
        match track.points.last_mut() {
            Some(last) if last.value == point.value && last.range == point.range => {}
            _ => track.points.push(point),
        }
    }

    /// Looks at all that is watched: what began, and what is gone.
    pub fn sample(&mut self, tick: u64, memory: &Memory<'_, '_>) {
        if !self.wanted.tracks || !self.following {
            return;
        }
        let layout = memory.layout();
        let watch = self.watch;
        for watched in watch {
            let cell = CellId(watched.variable.0);
            match layout.cells[cell.index()].home {
                crate::rehearse::layout::Home::Shared(_) => {
                    self.track(memory, cell, None);
                }
                crate::rehearse::layout::Home::Each(actor, _) => {
                    for &of in memory.live(actor) {
                        if self.is_watched(memory, cell, Some(of)) {
                            self.track(memory, cell, Some(of));
                        }
                    }
                }
            }
        }
        for at in 0..self.tracks.len() {
            self.put_point(tick, memory, at);
        }
    }
}

/// A change in words.
fn changed(
    memory: &Memory<'_, '_>,
    (cell, of): (CellId, Option<InstanceAt>),
    old: Option<&Value>,
    new: Option<&Value>,
) -> What {
    let name = cell_name(memory.layout(), memory, cell, of);
    What::Changed { name, old: value_text(memory, old), new: value_text(memory, new) }
}

/// The ends of a cell's range, as they are now.
fn range(memory: &Memory<'_, '_>, cell: CellId, of: Option<InstanceAt>) -> (Option<f64>, Option<f64>) {
    let facts = &memory.layout().cells[cell.index()];
    let limit = |limit: Option<Limit>| match limit? {
        Limit::Number(value) => Some(value),
        Limit::Cell(cell) => memory.number(cell, of),
    };
    (limit(facts.min), limit(facts.max))
}

impl Observer for Recorder<'_> {
    fn see(&mut self, tick: u64, memory: &Memory<'_, '_>, happening: &Happening<'_>) {
        let (at, what) = match happening {
            Happening::Changed { cell, of, old, new, at } => {
                return self.changed(tick, memory, *cell, *of, *old, *new, *at);
            }
            Happening::Sent { .. } | Happening::Spawned { .. } | Happening::Dropped { .. } => return,
            Happening::Began { handler, .. } => return self.handlers.push(*handler),
            Happening::Ended { .. } => {
                self.handlers.pop();
                return;
            }
            Happening::Fault(fault) => {
                if self.wanted.tracks {
                    self.marks.push(Mark { tick, act: self.act, rule: fault.rule.0 });
                }
                (Some(fault.at), What::Fault { rule: fault.rule.0, message: fault.message.clone() })
            }
            _ if !self.wanted.log => return,
            Happening::Shown { label, text, at } => {
                (Some(*at), What::Shown { label: label.map(str::to_owned), text: (*text).to_owned() })
            }
            Happening::Hidden { label, at } => (Some(*at), What::Hidden { label: (*label).to_owned() }),
            Happening::Noted { text, at } => (Some(*at), What::Noted { text: (*text).to_owned() }),
            Happening::Asked { text, choices, at } => {
                (Some(*at), What::Asked { text: (*text).to_owned(), choices: choices.to_vec() })
            }
            Happening::Scene(scene) => {
                let registry = &memory.layout().project.registry;
                (None, What::Scene { name: registry.owner(*scene).name.to_string() })
            }
            Happening::Run => (None, What::Run),
        };
        if self.wanted.log {
            let entry = self.entry(tick, at, what);
            self.log.push(entry);
        }
    }
}

/// A handler's trigger as a log names it: `touched`, `tick`, `changed tide.height`.
#[must_use]
pub fn trigger_text(layout: &Layout<'_>, handler: HandlerId) -> String {
    let at = layout.handlers[handler.index()];
    trigger_of(layout.project, layout.project.script(at.script), at.index)
}

/// The same, for a handler of a script.
#[must_use]
pub fn trigger_of(project: &Project, unit: &ScriptUnit, handler: usize) -> String {
    let handler = &unit.tree.handlers[handler];
    match &handler.trigger {
        Trigger::Signal { name, .. } => project.text(unit, name.span).to_owned(),
        _ => {
            let head = project.text(unit, handler.head);
            let head = head.split(" when ").next().unwrap_or(head);
            head.strip_prefix("on ").unwrap_or(head).trim().to_owned()
        }
    }
}
