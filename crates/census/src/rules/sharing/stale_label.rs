//! `sharing/stale-label`: a label on the screen prints a variable, a handler changes the variable, and on some way nothing prints the label again.

use super::sequence::{Counts, Sequence};
use crate::finding::{Finding, Level, RuleName};
use crate::flow::access::{Access, walk_behind};
use crate::flow::called::{self, Called};
use crate::flow::graph::{Block, Exit, Graph, Step, StepKind};
use crate::flow::world::HandlerId;
use crate::project::{Base, CellId, Place, PlaceId, ProcId, ScriptId, ScriptUnit};
use crate::registry::{OwnerId, SignalId};
use crate::rules::Facts;
use crate::rules::facts::HandlerView;
use crate::rules::{Example, Rule};
use crate::script::ast::{ExprId, LocalKind, Trigger};
use crate::source::Span;
use rayon::prelude::*;
use rustc_hash::{FxHashMap, FxHashSet};
use std::collections::{BTreeMap, BTreeSet};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("sharing/stale-label"),
    level: Level::Warning,
    means: "A label on the screen prints a variable, a handler changes the variable, and on some way nothing prints the label again.",
    hurts: "The screen shows the value from before the change.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on touched(other) {
    show gauge "{height} marks"
}

on bell {
    height += 1
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on touched(other) {
    show gauge "{height} marks"
}

on bell {
    height += 1
    show gauge "{height} marks"
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let all_writers = all_writers(facts);
    let labels: Vec<(String, Label<'_, '_>)> = labels(facts).into_iter().collect();
    labels.into_par_iter().flat_map_iter(|(name, label)| about(facts, &all_writers, &name, label)).collect()
}

/// The findings about one label.
fn about<'p, 'f>(facts: &'f Facts<'p>, all_writers: &Writers, name: &str, mut label: Label<'p, 'f>) -> Vec<Finding> {
    let mut findings = Vec::new();
    let is_printed_anyhow = add_causes(facts, all_writers, &mut label);
    if is_printed_anyhow || follows_all(facts, &label) || may_be_shown_unread(facts, name, &label) {
        return findings;
    }
    let printers = by_occasion(facts, &label);
    for handler in writers(facts, all_writers, &label) {
        // What is sent that means nothing may have been meant to show it.
        if matches!(handler.tree.trigger, Trigger::Start) || facts.world.guards_unread(handler.id) {
            continue;
        }
        let same = printers.get(&occasion(facts, &handler)).map_or(&[][..], Vec::as_slice);
        let others = others_print(facts, &handler, name, same);
        let judge = Judge { facts, handler, name, label: &label, others };
        if let Some((at, cell)) = judge.last_unprinted() {
            findings.push(word(facts, handler.unit, name, at, cell));
        }
    }
    findings
}

/// Whether what could not be read names a label, or sends a signal whose answer shows it.
fn may_be_shown_unread(facts: &Facts<'_>, name: &str, label: &Label<'_, '_>) -> bool {
    let signals = label.printers.iter().filter_map(|handler| handler.unit.handlers[handler.index].signal);
    facts.is_unread_word(name) || signals.into_iter().any(|id| facts.is_unread_word(&facts.registry().signal(id).name))
}

/// What is known of a label.
#[derive(Default)]
struct Label<'p, 'f> {
    /// The cells that it prints.
    printed: FxHashSet<CellId>,
    /// The handlers that print or hide it on some way, procedures included, or lead to one that does, in script order.
    printers: Vec<HandlerView<'p, 'f>>,
}

fn labels<'p, 'f>(facts: &'f Facts<'p>) -> BTreeMap<String, Label<'p, 'f>> {
    let mut labels: BTreeMap<String, Label<'p, 'f>> = BTreeMap::new();
    for handler in facts.handlers() {
        for name in touched_labels(facts, handler.script, handler.graph) {
            if !may_keep_silent(facts, &handler, &name) {
                labels.entry(name).or_default().printers.push(handler);
            }
        }
    }
    for (script, unit) in facts.project.script_ids() {
        let graphs = &facts.world.graphs[script.index()];
        for step in graphs.handlers.iter().chain(&graphs.procedures).flat_map(|g| &g.blocks).flat_map(|b| &b.steps) {
            let StepKind::Show { label: Some(label), text } = &step.kind else { continue };
            let cells = &mut labels.entry(facts.project.text(unit, label.span).to_owned()).or_default().printed;
            walk_behind(unit, *text, &mut |expr| {
                cells.extend(unit.place_of(expr).and_then(|place| facts.project.cell_of(unit, place)));
            });
        }
    }
    labels
}

/// Whether a handler `on changed` has a way that prints nothing, which the changed variable alone decides: `if oil < 10`.
/// Other tests may ask whether the label is wanted at all.
fn may_keep_silent(facts: &Facts<'_>, handler: &HandlerView<'_, '_>, label: &str) -> bool {
    let Some(cell) = changed_cell(facts, handler) else { return false };
    let unit = handler.unit;
    let outcome = |test: ExprId| handler.found.outcomes.get(&test).map_or((true, true), |found| (found.yes, found.no));
    let decides = |test: ExprId| {
        let (mut about, mut alone) = (false, true);
        walk_behind(unit, test, &mut |inner| {
            if let Some(place) = unit.place_of(inner).filter(|_| unit.behind(inner) == inner) {
                let same = facts.project.cell_of(unit, place) == Some(cell);
                about |= same;
                alone &= same;
            }
        });
        about && alone
    };
    if handler.tree.when.is_some_and(|when| decides(when) && outcome(when).1) {
        return true;
    }
    let shows = |id: ProcId| {
        let graph = &facts.world.graphs[handler.script.index()].procedures[id.index()];
        touched_labels(facts, handler.script, graph).contains(label)
    };
    let prints = |step: &Step| matches!(step.kind, StepKind::Send { .. }) || is_print(facts, unit, step, label);
    let shown_by = |deed: Deed<'_>| match deed {
        Deed::Call(called) => shows(called.procedure),
        Deed::Step(step) => prints(step),
    };
    let shown_in = |block: &Block| deeds(unit, block).into_iter().any(shown_by);
    let inside: Vec<bool> = handler.graph.blocks.iter().map(shown_in).collect();
    // Backward to the greatest fixpoint, as in `certain`; a test that asks about something else counts as coming out well.
    let mut at_start = vec![true; inside.len()];
    loop {
        let before = at_start.clone();
        for (at, block) in handler.graph.blocks.iter().enumerate().rev() {
            let mut ways = block.exit.successors().into_iter().map(|next| at_start[next.index()]);
            let on = match &block.exit {
                Exit::Branch { test, yes, no } => match outcome(*test) {
                    (true, false) => at_start[yes.index()],
                    (false, true) => at_start[no.index()],
                    _ if decides(*test) => ways.all(|way| way),
                    _ => ways.any(|way| way),
                },
                Exit::Match { subject, .. } if decides(*subject) => ways.all(|way| way),
                Exit::Restart | Exit::Gone => true,
                _ => ways.any(|way| way),
            };
            at_start[at] = inside[at] || on;
        }
        if before == at_start {
            return !at_start[0];
        }
    }
}

/// Adds the handlers that set off one that prints: by a signal, or by changing what it listens to. Says whether one of them has
/// its turn again and again, or may have it at any time; then no others are looked for.
fn add_causes<'p, 'f>(facts: &'f Facts<'p>, all_writers: &Writers, label: &mut Label<'p, 'f>) -> bool {
    let mut open: Vec<HandlerId> = label.printers.iter().map(|printer| printer.id).collect();
    let mut all: FxHashSet<HandlerId> = open.iter().copied().collect();
    // Many handlers answer one signal, and all of them have the same senders.
    let (mut signals, mut cells) = (FxHashSet::default(), FxHashSet::default());
    while let Some(id) = open.pop() {
        let handler = facts.handler(id);
        if comes_anyhow(&handler) {
            return true;
        }
        let signal = handler.unit.handlers[handler.index].signal.filter(|&signal| signals.insert(signal));
        let senders = signal.map_or(&[][..], |signal| facts.senders(signal));
        let cell = changed_cell(facts, &handler).filter(|&cell| cells.insert(cell));
        let writers = cell.map_or(&[][..], |cell| &all_writers[cell.index()]);
        open.extend(senders.iter().chain(writers).copied().filter(|&cause| all.insert(cause)));
    }
    let mut all: Vec<HandlerId> = all.into_iter().collect();
    all.sort_unstable();
    label.printers = all.into_iter().map(|id| facts.handler(id)).collect();
    false
}

/// Whether a handler has its turn again and again, or, as what it answers could not be read, nobody can tell when.
fn comes_anyhow(handler: &HandlerView<'_, '_>) -> bool {
    let facts = &handler.unit.handlers[handler.index];
    match handler.tree.trigger {
        Trigger::Tick | Trigger::Every(_) | Trigger::Unreadable => true,
        Trigger::Signal { .. } => facts.signal.is_none(),
        Trigger::Changed(_) => facts.changed.is_none(),
        _ => false,
    }
}

/// By cell: the handlers that write it, also by the procedures that they call, in script order.
type Writers = Vec<Vec<HandlerId>>;

fn all_writers(facts: &Facts<'_>) -> Writers {
    let mut all = vec![Vec::new(); facts.project.cells.len()];
    for handler in facts.handlers() {
        let reached = |access: &&Access| access.writes() && handler.found.reached.contains_key(&access.statement);
        for access in facts.accesses_of(&handler).filter(reached) {
            let writers: &mut Vec<HandlerId> = &mut all[access.cell.index()];
            if writers.last() != Some(&handler.id) {
                writers.push(handler.id);
            }
        }
    }
    all
}

/// The handlers that write something the label prints, in script order.
fn writers<'p, 'f>(facts: &'f Facts<'p>, all: &Writers, label: &Label<'p, 'f>) -> Vec<HandlerView<'p, 'f>> {
    let found: BTreeSet<HandlerId> = label.printed.iter().flat_map(|cell| &all[cell.index()]).copied().collect();
    found.into_iter().map(|id| facts.handler(id)).collect()
}

/// Whether handlers `on changed` of all cells print the label.
fn follows_all(facts: &Facts<'_>, label: &Label<'_, '_>) -> bool {
    let mut open: FxHashSet<CellId> = label.printed.clone();
    for cell in label.printers.iter().filter_map(|handler| changed_cell(facts, handler)) {
        open.remove(&cell);
    }
    open.is_empty()
}

/// The cell whose change a handler answers.
fn changed_cell(facts: &Facts<'_>, handler: &HandlerView<'_, '_>) -> Option<CellId> {
    let place = handler.unit.handlers[handler.index].changed?;
    facts.project.cell_of(handler.unit, place)
}

/// The labels that a body shows or hides on some way, procedures included.
fn touched_labels(facts: &Facts<'_>, script: ScriptId, graph: &Graph) -> BTreeSet<String> {
    let unit = facts.project.script(script);
    let steps =
        facts.world.bodies(script, graph).into_iter().flat_map(|graph| &graph.blocks).flat_map(|block| &block.steps);
    let labels = steps.filter_map(|step| match &step.kind {
        StepKind::Show { label: Some(own), .. } | StepKind::Hide { label: own } => Some(own),
        _ => None,
    });
    labels.map(|label| facts.project.text(unit, label.span).to_owned()).collect()
}

/// What is done in a block.
#[derive(Clone, Copy)]
enum Deed<'s> {
    Call(Called),
    Step(&'s Step),
}

/// What a block does, in order: a step comes behind what it calls.
fn deeds<'b>(unit: &ScriptUnit, block: &'b Block) -> Vec<Deed<'b>> {
    let steps = block.steps.iter().flat_map(|step| {
        let calls = called::by_step(unit, step).into_iter().map(Deed::Call);
        calls.chain(std::iter::once(Deed::Step(step)))
    });
    steps.chain(called::by_exit(unit, &block.exit).into_iter().map(Deed::Call)).collect()
}

fn is_print(facts: &Facts<'_>, unit: &ScriptUnit, step: &Step, label: &str) -> bool {
    match &step.kind {
        StepKind::Show { label: Some(own), .. } | StepKind::Hide { label: own } => {
            facts.project.text(unit, own.span) == label
        }
        _ => false,
    }
}

/// When other handlers that answer the same trigger print the label.
#[derive(Clone, Copy)]
struct Others {
    /// One that comes later in the same dispatch does.
    at_once: bool,
    /// One does after a wait.
    later: bool,
}

/// What handlers answer in one dispatch.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
enum Occasion {
    Signal(SignalId),
    Changed(Option<CellId>),
    Spawn(Option<OwnerId>),
    Removed(Option<OwnerId>),
    /// What could not be read, of this handler.
    Unreadable(HandlerId),
    Other(std::mem::Discriminant<Trigger>),
}

fn occasion(facts: &Facts<'_>, handler: &HandlerView<'_, '_>) -> Occasion {
    match handler.tree.trigger {
        Trigger::Signal { .. } => {
            let signal = handler.unit.handlers[handler.index].signal;
            signal.map_or(Occasion::Unreadable(handler.id), Occasion::Signal)
        }
        Trigger::Changed(_) => Occasion::Changed(changed_cell(facts, handler)),
        Trigger::Spawn => Occasion::Spawn(handler.unit.owner),
        Trigger::Removed => Occasion::Removed(handler.unit.owner),
        ref other => Occasion::Other(std::mem::discriminant(other)),
    }
}

fn by_occasion<'p, 'f>(facts: &Facts<'_>, label: &Label<'p, 'f>) -> FxHashMap<Occasion, Vec<HandlerView<'p, 'f>>> {
    let mut printers: FxHashMap<Occasion, Vec<HandlerView<'p, 'f>>> = FxHashMap::default();
    for printer in &label.printers {
        printers.entry(occasion(facts, printer)).or_default().push(*printer);
    }
    printers
}

fn others_print(facts: &Facts<'_>, handler: &HandlerView<'_, '_>, name: &str, same: &[HandlerView<'_, '_>]) -> Others {
    let after_wait = |other: &HandlerView<'_, '_>| {
        let bodies = facts.world.bodies(other.script, other.graph);
        let mut steps = bodies.into_iter().flat_map(|graph| &graph.blocks).flat_map(|block| &block.steps);
        let late = |step: &Step| other.found.reached.get(&step.span).is_some_and(|reached| reached.after_wait);
        steps.any(|step| is_print(facts, other.unit, step, name) && late(step))
    };
    let mut others = Others { at_once: false, later: false };
    for other in same.iter().filter(|other| other.id != handler.id) {
        others.at_once |= other.id > handler.id;
        others.later |= after_wait(other);
    }
    others
}

/// What happens around a body.
#[derive(Clone, Copy, Default)]
struct Around {
    /// What follows prints the label for certain.
    printed_after: bool,
    /// A print stands in the queue as it begins.
    queued_before: bool,
}

struct Judge<'f, 'p, 'a> {
    facts: &'a Facts<'p>,
    handler: HandlerView<'p, 'f>,
    name: &'a str,
    label: &'a Label<'p, 'f>,
    others: Others,
}

impl Judge<'_, '_, '_> {
    /// The last write after which some way prints nothing.
    fn last_unprinted(&self) -> Option<(Span, CellId)> {
        let mut writes = self.unprinted(self.handler.graph, Around::default(), &mut Vec::new());
        if writes.len() > 1 {
            let sequence = Sequence::new(self.facts, &self.handler, Counts::Last);
            writes.sort_unstable_by_key(|&(at, _)| sequence.turn(at));
        }
        writes.pop()
    }

    /// The writes of a graph after which some way reaches the end without printing.
    fn unprinted(&self, graph: &Graph, around: Around, stack: &mut Vec<ProcId>) -> Vec<(Span, CellId)> {
        let at_start = self.certain(graph, around.printed_after, stack);
        let queued = self.queued(graph, &at_start, around.queued_before);
        let mut writes = Vec::new();
        for (at, block) in graph.blocks.iter().enumerate() {
            let mut printed = self.at_end(block, &at_start, around.printed_after);
            let deeds = deeds(self.handler.unit, block);
            let mut before = Vec::with_capacity(deeds.len());
            deeds.iter().fold(queued[at], |queued, &deed| {
                before.push(queued);
                self.queues(deed, queued)
            });
            let calls = deeds.iter().any(|deed| matches!(deed, Deed::Call(_)));
            let mut found = false;
            for (&deed, &queued) in deeds.iter().zip(&before).rev() {
                match deed {
                    Deed::Call(called) if !stack.contains(&called.procedure) => {
                        stack.push(called.procedure);
                        let around = Around { printed_after: printed, queued_before: queued };
                        writes.extend(self.unprinted(self.procedure(called.procedure), around, stack));
                        stack.pop();
                        printed |= self.prints(deed, stack);
                    }
                    Deed::Call(_) => {}
                    Deed::Step(step) => {
                        printed |= self.prints(deed, stack);
                        let write = self.printed_write(step).filter(|_| !printed && !queued);
                        found |= write.is_some();
                        writes.extend(write);
                    }
                }
                // What stands before this in the block is either printed or not the last.
                if (printed || found) && !calls {
                    break;
                }
            }
        }
        writes
    }

    /// A write of what the label prints that nobody follows with a print.
    fn printed_write(&self, step: &Step) -> Option<(Span, CellId)> {
        let (StepKind::Assign { place, .. } | StepKind::Clear { place, .. }) = step.kind else { return None };
        let cell = self.facts.project.cell_of(self.handler.unit, place)?;
        let counts = self.label.printed.contains(&cell) && self.is_open(step.span) && !self.is_new(place);
        counts.then_some((step.span, cell))
    }

    /// Whether a place is a variable of an instance that the handler itself has just made, before any label could show it.
    fn is_new(&self, place: PlaceId) -> bool {
        let unit = self.handler.unit;
        let Place::Variable(_, Base::Held(holder)) = unit.place(place) else { return false };
        let Place::Local(local) = unit.place(holder) else { return false };
        let is_spawned = unit.tree.local(local).kind == LocalKind::Spawned;
        is_spawned && !touched_labels(self.facts, self.handler.script, self.handler.graph).contains(self.name)
    }

    /// Whether a write is reached, and no other handler of the same trigger prints when it is done.
    fn is_open(&self, write: Span) -> bool {
        let reached = self.handler.found.reached.get(&write);
        reached.is_some_and(|reached| match reached.after_wait {
            true => !self.others.later,
            false => !self.others.at_once && !self.others.later,
        })
    }

    /// For each block whether a print stands in the queue on every way to its start: a signal or a change that one answers,
    /// or an `after` block, with no wait since. A forward must-analysis to its greatest fixpoint.
    fn queued(&self, graph: &Graph, at_start: &[bool], before: bool) -> Vec<bool> {
        let mut queued = vec![true; graph.blocks.len()];
        if let Some(first) = queued.first_mut() {
            *first = before;
        }
        loop {
            let mut changed = false;
            for (at, block) in graph.blocks.iter().enumerate() {
                let deeds = deeds(self.handler.unit, block).into_iter();
                let behind = deeds.fold(queued[at], |queued, deed| self.queues(deed, queued));
                let follows: Vec<(usize, bool)> = match &block.exit {
                    Exit::Fork { now, later, .. } => {
                        vec![(now.index(), behind || at_start[later.index()]), (later.index(), false)]
                    }
                    Exit::Choose(_) => block.exit.successors().iter().map(|next| (next.index(), false)).collect(),
                    exit => exit.successors().iter().map(|next| (next.index(), behind)).collect(),
                };
                for (next, is_queued) in follows {
                    changed |= queued[next] && !is_queued;
                    queued[next] &= is_queued;
                }
            }
            if !changed {
                return queued;
            }
        }
    }

    /// Whether a print stands in the queue behind what was done.
    fn queues(&self, deed: Deed<'_>, queued: bool) -> bool {
        match deed {
            Deed::Call(called) => queued && !self.handler.unit.procedures[called.procedure.index()].waits,
            Deed::Step(step) => !matches!(step.kind, StepKind::Wait(_)) && (queued || self.answered_by_print(step)),
        }
    }

    /// For each block whether every way on from its start prints: a backward must-analysis to its greatest fixpoint.
    fn certain(&self, graph: &Graph, after: bool, stack: &mut Vec<ProcId>) -> Vec<bool> {
        let mut at_start = vec![true; graph.blocks.len()];
        let prints = |block: &Block| deeds(self.handler.unit, block).into_iter().any(|deed| self.prints(deed, stack));
        let inside: Vec<bool> = graph.blocks.iter().map(prints).collect();
        loop {
            let mut changed = false;
            for (at, block) in graph.blocks.iter().enumerate().rev() {
                let now = inside[at] || self.at_end(block, &at_start, after);
                changed |= now != at_start[at];
                at_start[at] = now;
            }
            if !changed {
                return at_start;
            }
        }
    }

    fn at_end(&self, block: &Block, at_start: &[bool], after: bool) -> bool {
        match &block.exit {
            Exit::Fork { now, later, .. } => at_start[now.index()] || at_start[later.index()],
            Exit::Restart => true, // The labels are cleared.
            Exit::End | Exit::Return(_) => after,
            Exit::Gone => false,
            exit => exit.successors().iter().all(|next| at_start[next.index()]),
        }
    }

    fn procedure(&self, id: ProcId) -> &Graph {
        &self.facts.world.graphs[self.handler.script.index()].procedures[id.index()]
    }

    /// Whether what is done prints the label for certain: itself, by a procedure, or by a signal that a printing handler answers.
    fn prints(&self, deed: Deed<'_>, stack: &mut Vec<ProcId>) -> bool {
        match deed {
            Deed::Step(step) => {
                is_print(self.facts, self.handler.unit, step, self.name) || self.answered_by_print(step)
            }
            Deed::Call(Called { procedure, certain, .. }) => {
                if !certain || stack.contains(&procedure) || stack.len() >= 16 {
                    return false;
                }
                stack.push(procedure);
                let printed = self.certain(self.procedure(procedure), false, stack)[0];
                stack.pop();
                printed
            }
        }
    }

    /// Whether a handler prints the label in answer to what a step sends, or changes.
    fn answered_by_print(&self, step: &Step) -> bool {
        let mut printers = self.label.printers.iter();
        match &step.kind {
            StepKind::Send { signal: Some(signal), .. } => {
                printers.any(|other| other.unit.handlers[other.index].signal == Some(*signal))
            }
            StepKind::Assign { place, .. } | StepKind::Clear { place, .. } => {
                let cell = self.facts.project.cell_of(self.handler.unit, *place);
                cell.is_some() && printers.any(|other| changed_cell(self.facts, other) == cell)
            }
            _ => false,
        }
    }
}

fn word(facts: &Facts<'_>, unit: &ScriptUnit, label: &str, at: Span, cell: CellId) -> Finding {
    let name = facts.cell_name(cell);
    let message = format!(
        "the label `{label}` shows `{name}`, this changes it, and on some way nothing shows it again: the screen keeps the old value"
    );
    let mut finding = Finding::new(RULE.name, unit.at(at), message);
    finding.variable = facts.project.variable_of(cell).map(|_| name.clone());
    finding.help(format!(
        "show it again behind the change, or in one place for all: `on changed {name} {{ show {label} … }}`"
    ))
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::{expect, expect_in_scripts};

    #[test]
    fn a_signal_that_passes_the_word_on_leads_to_the_print() {
        let registry = r#"[variables.tide]
height = { type = "int", scope = "global", default = 0, max = 9 }
[signals.told]
from = "script"
[signals.retold]
from = "script"
"#;
        let script = |told: &str, mark: &str| {
            format!(
                "script board for tide\n\non bell {{\n    height = min(height + 1, height.max){mark}\n    send told\n}}\n\non told {{\n    {told}\n}}\n\non retold {{\n    show board \"{{height}}\"\n}}\n"
            )
        };
        expect(registry, &[&script("send retold", "")]);
        let silent = script("note \"told\"", " // ~ sharing/stale-label");
        expect(registry, &[&silent, "script horn for tide\n\non touched(other) {\n    send retold\n}\n"]);
    }

    #[test]
    fn a_print_that_stands_in_the_queue_comes_after_the_change() {
        let registry = r#"[variables.tide]
height = { type = "int", scope = "global", default = 0, max = 9 }
[signals.told]
from = "script"
"#;
        let script = |change: &str, rest: &str| {
            let change = change.replace("RISE", "height = random(0, 9)");
            expect_in_scripts(registry, &[&format!("script board for tide\n\non bell {{\n{change}}}\n\n{rest}\n")]);
        };
        let answer = "on told {\n    show board \"{height}\"\n}";
        script("    send told\n    RISE\n", answer);
        script("    send told\n    wait 1s\n    RISE // ~ sharing/stale-label\n", answer);
        let late =
            |change: &str| script(&format!("    after 1s {{\n        show board \"{{height}}\"\n    }}\n{change}"), "");
        late("    RISE\n");
        late("    wait 2s\n    RISE // ~ sharing/stale-label\n");
        let second = "on bell {\n    show board \"{height}\"\n}";
        script("    RISE\n", second);
        script("    wait 1s\n    RISE // ~ sharing/stale-label\n", second);
    }

    #[test]
    fn printed_again_in_every_way_that_counts() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 6
overflow = "clamp"
engine = "reads"
"#,
            &[r#"script tides for tide

on bell {
    height += 1
    if height > 3 {
        show gauge "{height} marks"
    } else {
        hide gauge
    }
}

on touched(other) {
    raise()
    show gauge "{height} marks"
}

on bumped(other) {
    if other is parcel {
        remove other
        height = 0 // ~ sharing/stale-label
    }
}

proc raise() {
    height = min(height + 2, height.max)
}
"#],
        );
    }

    #[test]
    fn on_changed_prints_for_all() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 6
overflow = "clamp"
engine = "reads"
"#,
            &[r#"script tides for tide

on bell {
    height += 1
}

on changed height {
    show gauge "{height} marks"
}
"#],
        );
    }

    #[test]
    fn a_change_that_is_shown_only_while_it_is_low() {
        let shown = |body: &str, mark: &str| {
            let printer = format!(
                "script board for tide\n\nprivate open: bool = true\n\non changed oil {{\n{body}\n}}\n\non touched(other) {{\n    open = not open\n    note \"{{open}}\"\n}}\n"
            );
            let writer = format!("script lamps for tide\n\non bell {{\n    oil = random(0, 50){mark}\n}}\n");
            let registry =
                "[variables.tide]\noil = { type = \"int\", scope = \"global\", default = 9, engine = \"reads\" }\n";
            expect(registry, &[&printer, &writer]);
        };
        let stale = " // ~ sharing/stale-label";
        shown("    if oil < 10 {\n        show oil_label \"{oil} left\"\n    }", stale);
        shown("    if oil >= 10 {\n        return\n    }\n    show oil_label \"{oil} left\"", stale);
        shown(
            "    if oil < 10 {\n        show oil_label \"{oil} left\"\n    } else {\n        hide oil_label\n    }",
            "",
        );
        shown("    if open {\n        show oil_label \"{oil} left\"\n    }", "");
        shown("    if oil != was {\n        show oil_label \"{oil} left\"\n    }", "");
    }

    #[test]
    fn another_prints_behind_its_wait_only_where_its_procedures_do() {
        let judged = |call: &str, told: &str| {
            let shows = format!(
                "script a for tide\n\nproc tell() {{ note \"high\" }}\nproc draw() {{ paint() }}\nproc paint() {{ show line \"{{height}}\" }}\n\non bell {{\n    draw()\n    tell()\n    wait 1s\n    {call}\n}}\n"
            );
            let changes =
                format!("script b for tide\n\non bell {{\n    height += 1 // ~ sharing/order-hazard{told}\n}}\n");
            expect_in_scripts(
                "[variables.tide]\nheight = { type = \"int\", scope = \"global\", default = 0, engine = \"reads\" }\n",
                &[&shows, &changes],
            );
        };
        judged("draw()", "");
        judged("tell()", " sharing/stale-label");
    }
}
