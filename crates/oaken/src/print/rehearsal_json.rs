//! How rehearsals went, as JSON.

use super::rehearsal_text::seconds;
use crate::commands::rehearse::Played;
use census::rehearsal::Rehearsal;
use census::rehearsal::play::{Failure, Outcome, Why};
use census::rehearsal::record::{Entry, What, trigger_text};
use census::rehearse::layout::Layout;
use census::source::Location;
use serde_json::{Value, json};

/// The whole document.
#[must_use]
pub fn document(layout: &Layout<'_>, played: &[Played<'_>], log: bool) -> Value {
    let passed = played.iter().filter(|one| one.passed()).count();
    let unreadable = played.iter().filter(|one| matches!(one, Played::Unreadable(..))).count();
    json!({
        "schema": "oaken-census/rehearsals/1",
        "project": layout.project.config.name,
        "summary": {
            "passed": passed,
            "failed": played.len() - passed - unreadable,
            "unreadable": unreadable,
        },
        "rehearsals": played.iter().map(|one| rehearsal(layout, one, log)).collect::<Vec<_>>(),
    })
}

fn rehearsal(layout: &Layout<'_>, played: &Played<'_>, log: bool) -> Value {
    match played {
        Played::Done(rehearsal, outcome) => done(layout, rehearsal, outcome, log),
        Played::Unreadable(file, problems) => {
            let source = layout.project.sources.file(*file);
            let problems: Vec<Value> = problems
                .iter()
                .map(|problem| {
                    let at = source.position(problem.at.span.start);
                    json!({ "line": at.line, "column": at.column, "message": problem.message, "help": problem.help })
                })
                .collect();
            json!({ "file": &*source.path, "outcome": "unreadable", "problems": problems })
        }
    }
}

fn done(layout: &Layout<'_>, rehearsal: &Rehearsal, outcome: &Outcome<'_>, log: bool) -> Value {
    let faults: Vec<Value> = outcome
        .faults
        .iter()
        .map(|happened| {
            let (file, line, column) = place(layout, happened.fault.at);
            json!({
                "rule": happened.fault.rule.0,
                "file": file, "line": line, "column": column,
                "seconds": seconds(layout, happened.fault.tick),
                "message": happened.fault.message,
                "times": happened.times,
                "meant": happened.meant,
            })
        })
        .collect();
    let stopped = outcome.stopped.as_ref().map(|stopped| {
        let (file, line, _) = place(layout, stopped.at);
        json!({ "file": file, "line": line, "message": stopped.message })
    });
    let mut document = json!({
        "file": &*layout.project.sources.file(rehearsal.file).path,
        "title": rehearsal.title,
        "outcome": if outcome.passed() { "passed" } else { "failed" },
        "seed": rehearsal.seed,
        "seconds": seconds(layout, outcome.ticks),
        "steps": rehearsal.steps.len(),
        "failed_steps": outcome.failed,
        "failures": outcome.failures.iter().map(|failure| failed(layout, failure)).collect::<Vec<_>>(),
        "fault_count": outcome.fault_count,
        "faults": faults,
        "stopped": stopped,
    });
    if log {
        document["log"] = outcome.recorder.log.iter().map(|line| entry(layout, line)).collect();
    }
    document
}

fn place<'p>(layout: &Layout<'p>, at: Location) -> (&'p str, u32, u32) {
    let file = layout.project.sources.file(at.file);
    let position = file.position(at.span.start);
    (&file.path, position.line, position.column)
}

fn failed(layout: &Layout<'_>, failure: &Failure) -> Value {
    let (_, line, _) = place(layout, failure.at);
    let step = failure.step.map(|step| step + 1);
    match &failure.why {
        Why::Undoable(why) => json!({ "step": step, "line": line, "reason": why }),
        Why::Unmet { expected, because, unanswered, reads, changes } => json!({
            "step": step,
            "line": line,
            "expected": expected,
            "because": because,
            "reason": unanswered,
            "values": reads
                .iter()
                .map(|read| json!({ "name": read.name, "value": read.value }))
                .collect::<Vec<_>>(),
            "changes": changes.iter().map(|line| entry(layout, line)).collect::<Vec<_>>(),
        }),
    }
}

/// A line of the log.
fn entry(layout: &Layout<'_>, entry: &Entry) -> Value {
    let at = entry.at.map(|at| place(layout, at));
    let mut document = json!({
        "tick": entry.tick,
        "seconds": seconds(layout, entry.tick),
        "step": entry.step.map(|step| step + 1),
        "trigger": entry.handler.map(|handler| trigger_text(layout, handler)),
        "file": at.map(|(file, ..)| file),
        "line": at.map(|(_, line, _)| line),
        "kind": entry.what.kind(),
    });
    let facts = match &entry.what {
        What::Changed { name, old, new } => json!({ "name": name, "old": old, "new": new }),
        What::Shown { label, text } => json!({ "label": label, "text": text }),
        What::Hidden { label } => json!({ "label": label }),
        What::Asked { text, choices } => json!({ "text": text, "choices": choices }),
        What::Noted { text } => json!({ "text": text }),
        What::Fault { rule, message } => json!({ "rule": rule, "text": message }),
        What::Scene { name } => json!({ "name": name }),
        What::Run => json!({}),
    };
    if let (Some(document), Value::Object(facts)) = (document.as_object_mut(), facts) {
        document.extend(facts);
    }
    document
}
