//! `oaken whatif ID.KEY=VALUE…`

use super::{Format, Outcome};
use crate::print::{Out, plain, plain_line, strong, width, wrap};
use anstyle::AnsiColor;
use census::whatif::{Effects, whatif};
use serde_json::{Value, json};
use std::collections::HashSet;
use std::path::Path;
use std::process::ExitCode;

/// Options of `oaken whatif`.
#[derive(clap::Args)]
pub struct Options {
    /// The changes: a variable, a key, and what it would be. Nothing behind the `=` takes the key out.
    #[arg(required = true, value_name = "ID.KEY=VALUE")]
    changes: Vec<String>,
    /// How it is written.
    #[arg(long, value_enum, default_value = "text")]
    format: Format,
}

/// Says what changes would do, and writes nothing.
pub fn run(folder: Option<&Path>, options: &Options) -> Outcome {
    let project = super::open(folder)?;
    let effects = whatif(&project, &options.changes)?;
    let mut out = Out::new();
    match options.format {
        Format::Text => text(&mut out, &effects)?,
        Format::Json => out.json(&document(options, &effects))?,
    }
    out.finish()?;
    Ok(ExitCode::SUCCESS)
}

fn text(out: &mut Out, effects: &Effects) -> std::io::Result<()> {
    let strong = strong();
    let (gone, new) = (AnsiColor::Red.on_default(), AnsiColor::Green.on_default());
    if effects.is_empty() {
        return out.line("Nothing would change: no finding, no tally, no rehearsal.");
    }
    for (title, list) in [("Found then, and not now", &effects.gained), ("Found now, and not then", &effects.lost)] {
        if list.is_empty() {
            continue;
        }
        out.line(&format!("{strong}{title}{strong:#}"))?;
        for finding in list {
            for (at, line) in wrap(&plain(finding), width().saturating_sub(4)).into_iter().enumerate() {
                out.line(&format!("{:1$}{line}", "", if at == 0 { 2 } else { 4 }))?;
            }
        }
    }
    for (variable, before, after) in &effects.tallies {
        out.line(&format!("{strong}The tally of {}{strong:#}", plain_line(variable)))?;
        let (were, are): (HashSet<&String>, HashSet<&String>) = (before.iter().collect(), after.iter().collect());
        for line in before.iter().filter(|line| !are.contains(line)) {
            out.line(&format!("{gone}- {}{gone:#}", plain_line(line)))?;
        }
        for line in after.iter().filter(|line| !were.contains(line)) {
            out.line(&format!("{new}+ {}{new:#}", plain_line(line)))?;
        }
    }
    if !effects.rehearsals.is_empty() {
        out.line(&format!("{strong}Rehearsals{strong:#}"))?;
    }
    for (file, before, after) in &effects.rehearsals {
        out.line(&format!("  {}: {before} now, {after} then", plain_line(file)))?;
    }
    out.line("Nothing was written.")
}

fn document(options: &Options, effects: &Effects) -> Value {
    let tallies = effects.tallies.iter();
    let rehearsals = effects.rehearsals.iter();
    json!({
        "schema": "oaken-census/whatif/1",
        "changes": options.changes,
        "gained": effects.gained,
        "lost": effects.lost,
        "tallies": tallies
            .map(|(id, before, after)| json!({ "variable": id, "before": before, "after": after }))
            .collect::<Vec<_>>(),
        "rehearsals": rehearsals
            .map(|(file, before, after)| json!({ "file": file, "before": before, "after": after }))
            .collect::<Vec<_>>(),
    })
}
