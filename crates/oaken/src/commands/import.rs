//! `oaken import FILE`

use super::{Outcome, edits};
use crate::Failure;
use crate::print::csv::as_it_was;
use crate::print::{self, Out, plain, plain_line};
use census::sheet;
use serde_json::{Map, Value};
use std::path::{Path, PathBuf};
use std::process::ExitCode;

/// Options of `oaken import`.
#[derive(clap::Args)]
pub struct Options {
    /// A file that `oaken export` wrote, as CSV or JSON.
    file: PathBuf,
    /// Show what would change, and write nothing.
    #[arg(long)]
    dry_run: bool,
}

/// Takes in what a table changes.
pub fn run(folder: Option<&Path>, options: &Options) -> Outcome {
    let failed = |why: &dyn std::fmt::Display| Failure(format!("{} can't be read: {why}", options.file.display()));
    let bytes = std::fs::read(&options.file).map_err(|error| failed(&error))?;
    let text = String::from_utf8(bytes).map_err(|_| failed(&"it is not UTF-8; save it as CSV UTF-8"))?;
    let text = text.trim_start_matches('\u{feff}');
    let is_json = text.trim_start().starts_with('{');
    let (head, rows) = if is_json { from_json(text) } else { from_csv(text) }.map_err(|error| failed(&error.0))?;
    let editing = edits::open(folder)?;
    let imported = sheet::import(&editing.project, &head, &rows)?;
    let mut out = Out::new();
    edits::changes(&mut out, &imported.files)?;
    out.finish()?;
    let (added, changed) = (imported.added.len(), imported.changed.len());
    let counts = format!(
        "{} changed, {} added, {} refused",
        census::words::count(changed, "variable"),
        added,
        census::words::count(imported.refused.len(), "row")
    );
    let first = if is_json { 1 } else { 2 };
    for (row, id, why) in &imported.refused {
        print::complain(&format!("row {}, `{}`: {}", row + first - 1, plain_line(id), plain(why)));
    }
    let absent = match imported.absent {
        0 => String::new(),
        count => format!("; {} without a row stay as they are", census::words::count(count, "variable")),
    };
    let done = format!("{counts}{absent}.");
    if options.dry_run {
        print::remark(&format!("{done} Nothing was written."));
    } else {
        editing.finish(&imported.files, false, &done)?;
    }
    Ok(ExitCode::from(u8::from(!imported.refused.is_empty())))
}

type Table = (Vec<String>, Vec<Vec<String>>);

fn from_csv(text: &str) -> Result<Table, Failure> {
    // Spreadsheets of some countries part cells with `;`.
    let first = text.lines().next().unwrap_or("");
    let delimiter = if first.contains(';') && !first.contains(',') { b';' } else { b',' };
    let mut reader = csv::ReaderBuilder::new().delimiter(delimiter).flexible(true).from_reader(text.as_bytes());
    let cells = |record: &csv::StringRecord| record.iter().map(|cell| as_it_was(cell).to_owned()).collect();
    let head = cells(reader.headers()?);
    let rows = reader.records().map(|record| record.map(|record| cells(&record))).collect::<Result<_, _>>()?;
    Ok((head, rows))
}

fn from_json(text: &str) -> Result<Table, Failure> {
    let document: Value = serde_json::from_str(text)?;
    let wrong = || Failure("it has no list `variables` of entries".to_owned());
    let entries = document["variables"].as_array().ok_or_else(wrong)?;
    let mut head: Vec<String> = Vec::new();
    for key in entries.iter().filter_map(Value::as_object).flat_map(Map::keys) {
        if !head.contains(key) {
            head.push(key.clone());
        }
    }
    let cell = |entry: &Value, key: &str| match &entry[key] {
        Value::Null => String::new(),
        Value::String(text) if matches!(key, "min" | "max" | "default" | "slot" | "retired") && !text.is_empty() => {
            text.clone()
        }
        Value::String(text) => sheet::text_cell(text),
        Value::Array(items) if items.iter().all(Value::is_string) => {
            let items: Vec<&str> = items.iter().filter_map(Value::as_str).collect();
            sheet::list_cell(&items)
        }
        other => other.to_string(),
    };
    let rows = entries.iter().map(|entry| head.iter().map(|key| cell(entry, key)).collect()).collect();
    Ok((head, rows))
}
