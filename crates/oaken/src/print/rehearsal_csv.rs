//! The logs of rehearsals as CSV, one line for each thing that happened.

use super::csv::Csv;
use super::rehearsal_text::seconds;
use crate::Failure;
use crate::commands::rehearse::Played;
use census::rehearsal::record::{What, trigger_text};
use census::rehearse::layout::Layout;
use census::words::number;

const HEAD: [&str; 12] =
    ["rehearsal", "tick", "seconds", "step", "kind", "trigger", "script", "line", "name", "old", "new", "text"];

/// The whole document.
///
/// # Errors
/// None in practice: it is written to memory.
pub fn document(layout: &Layout<'_>, played: &[Played<'_>]) -> Result<String, Failure> {
    let mut csv = Csv::new(&HEAD)?;
    for one in played {
        let Played::Done(rehearsal, outcome) = one else { continue };
        let path = &*layout.project.sources.file(rehearsal.file).path;
        for entry in &outcome.recorder.log {
            let place = entry.at.map(|at| {
                let file = layout.project.sources.file(at.file);
                (file.path.to_string(), file.position(at.span.start).line.to_string())
            });
            let (script, line) = place.unwrap_or_default();
            let trigger = entry.handler.map(|handler| trigger_text(layout, handler)).unwrap_or_default();
            let step = entry.step.map(|step| (step + 1).to_string()).unwrap_or_default();
            let moment = number(seconds(layout, entry.tick));
            let [name, old, new, text] = facts(&entry.what);
            let kind = entry.what.kind();
            let tick = entry.tick.to_string();
            csv.row([path, &tick, &moment, &step, kind, &trigger, &script, &line, &name, &old, &new, &text])?;
        }
    }
    Ok(csv.finish()?)
}

/// The cells `name`, `old`, `new` and `text`.
fn facts(what: &What) -> [String; 4] {
    let none = String::new;
    match what {
        What::Changed { name, old, new } => [name.clone(), old.clone(), new.clone(), none()],
        What::Shown { label, text } => [label.clone().unwrap_or_default(), none(), none(), text.clone()],
        What::Hidden { label } => [label.clone(), none(), none(), none()],
        What::Asked { text, choices } => [none(), none(), none(), format!("{text} {}", choices.join(" / "))],
        What::Noted { text } => [none(), none(), none(), text.clone()],
        What::Fault { rule, message } => [(*rule).to_owned(), none(), none(), message.clone()],
        What::Scene { name } => [name.clone(), none(), none(), none()],
        What::Run => [none(), none(), none(), none()],
    }
}
