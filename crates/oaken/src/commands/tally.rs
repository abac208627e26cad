//! `oaken tally ID`

use super::{Format, Outcome};
use crate::print::{Out, faint, plain_line, strong};
use census::edit::find_variable;
use census::rules::Facts;
use census::tally::{Pace, Size, Tally, lines, place, size_text, tally};
use serde_json::{Value, json};
use std::io;
use std::path::Path;
use std::process::ExitCode;

/// Options of `oaken tally`.
#[derive(clap::Args)]
pub struct Options {
    /// The variable: `OWNER.NAME`, or its name alone where only one has it.
    id: String,
    /// How it is written.
    #[arg(long, value_enum, default_value = "text")]
    format: Format,
}

/// Counts what takes a variable to its limits.
pub fn run(folder: Option<&Path>, options: &Options) -> Outcome {
    let project = super::open(folder)?;
    let id = find_variable(&project, &options.id)?;
    let facts = Facts::new(&project);
    let tally = tally(&facts, id);
    let mut out = Out::new();
    match options.format {
        Format::Text => text(&mut out, &facts, &tally)?,
        Format::Json => out.json(&as_json(&facts, &tally))?,
    }
    out.finish()?;
    Ok(ExitCode::SUCCESS)
}

fn text(out: &mut Out, facts: &Facts<'_>, tally: &Tally) -> io::Result<()> {
    let (strong, faint) = (strong(), faint());
    let registry = facts.registry();
    out.line(&format!("{strong}{}{strong:#}", plain_line(&registry.identity(tally.variable))))?;
    if tally.steps.is_empty() {
        return out.line("  nothing steps it");
    }
    for line in lines(facts, tally) {
        out.line(&plain_line(&line))?;
    }
    for step in &tally.steps {
        let told = step.sizes.iter().find(|size| !matches!(size, Size::By(..)));
        if let Some(size) = told {
            let place = plain_line(&place(facts, step.at));
            let trigger = plain_line(&step.trigger);
            out.line(&format!("  `{trigger}` {faint}{place}{faint:#}: {}", plain_line(&size_text(size))))?;
        }
    }
    Ok(())
}

fn as_json(facts: &Facts<'_>, tally: &Tally) -> Value {
    let starts: Vec<Value> =
        tally.starts.iter().map(|start| json!({ "of": start.whose, "value": start.value })).collect();
    let ways: Vec<Value> = tally
        .ways
        .iter()
        .map(|way| {
            let (start, step) = (&tally.starts[way.start], &tally.steps[way.step]);
            let target = &start.targets[way.target];
            json!({
                "of": start.whose, "from": start.value, "to": target.value, "target": target.what,
                "trigger": step.trigger, "place": place(facts, step.at), "step": size_text(&step.sizes[way.start]),
                "least": way.least, "most": way.most,
                "every_ticks": match step.pace { Pace::Firing => None, Pace::Ticks(ticks) => Some(ticks) },
                "over": way.over, "cut": step.cut,
            })
        })
        .collect();
    let others: Vec<Value> = tally
        .steps
        .iter()
        .flat_map(|step| step.sizes.first().map(|size| (step, size)))
        .filter(|(_, size)| !matches!(size, Size::By(..)))
        .map(|(step, size)| json!({ "trigger": step.trigger, "place": place(facts, step.at), "step": size_text(size) }))
        .collect();
    json!({
        "schema": "oaken-census/tally/1",
        "variable": facts.registry().identity(tally.variable),
        "starts": starts,
        "ways": ways,
        "uncounted": others,
    })
}
