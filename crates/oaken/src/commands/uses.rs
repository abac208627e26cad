//! `oaken uses ID`

use super::{Format, Outcome};
use crate::print::{Out, faint, plain_line, shorten, strong};
use census::edit::occurrences::{self, Occurrence};
use census::edit::rename;
use census::project::Project;
use serde_json::{Value, json};
use std::path::Path;
use std::process::ExitCode;

/// Options of `oaken uses`.
#[derive(clap::Args)]
pub struct Options {
    /// A variable (`OWNER.NAME`, or its name alone where only one has it), an owner or an instance.
    id: String,
    /// How it is written.
    #[arg(long, value_enum, default_value = "text")]
    format: Format,
}

/// Lists every place that names something.
pub fn run(folder: Option<&Path>, options: &Options) -> Outcome {
    let project = super::open(folder)?;
    let target = rename::target(&project, &options.id)?;
    let found = occurrences::find(&project, target);
    let mut out = Out::new();
    match options.format {
        Format::Text => text(&mut out, &project, &found)?,
        Format::Json => {
            let uses: Vec<Value> = found
                .iter()
                .map(|occurrence| {
                    let (file, line, column, text) = place(&project, occurrence);
                    json!({ "file": file, "line": line, "column": column, "text": text })
                })
                .collect();
            let document = json!({ "schema": "oaken-census/uses/1", "id": options.id, "uses": uses });
            out.json(&document)?;
        }
    }
    out.finish()?;
    Ok(ExitCode::SUCCESS)
}

fn text(out: &mut Out, project: &Project, found: &[Occurrence]) -> std::io::Result<()> {
    let (strong, faint) = (strong(), faint());
    let mut last = None;
    for occurrence in found {
        let (file, line, _, text) = place(project, occurrence);
        if last != Some(occurrence.at.file) {
            last = Some(occurrence.at.file);
            out.line(&format!("{strong}{}{strong:#}", plain_line(file)))?;
        }
        out.line(&format!("{faint}{line:>6}{faint:#}  {}", plain_line(&shorten(text))))?;
    }
    let mut files: Vec<_> = found.iter().map(|occurrence| occurrence.at.file).collect();
    files.dedup();
    let (places, files) = (census::words::count(found.len(), "place"), census::words::count(files.len(), "file"));
    out.line(&format!("{places} in {files}."))
}

/// The file, line, column, and the line's text.
fn place<'p>(project: &'p Project, occurrence: &Occurrence) -> (&'p str, u32, u32, &'p str) {
    let file = project.sources.file(occurrence.at.file);
    let at = file.position(occurrence.at.span.start);
    let text = file.slice(file.line_span(file.line_index(occurrence.at.span.start)));
    (&file.path, at.line, at.column, text.trim())
}
