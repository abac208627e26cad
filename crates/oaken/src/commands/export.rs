//! `oaken export --to FORMAT` and `oaken import FILE`

use super::{Outcome, edits};
use crate::print::csv::{Csv, as_it_was};
use crate::print::{self, Out, plain, plain_line};
use crate::{Failure, write};
use census::project::Project;
use census::schema::{self, Part};
use census::sheet;
use serde_json::{Map, Value, json};
use std::path::{Path, PathBuf};
use std::process::ExitCode;

/// Options of `oaken export`.
#[derive(clap::Args)]
pub struct ExportOptions {
    /// The format.
    #[arg(long, value_enum)]
    to: Format,
    /// Of a schema: what it describes.
    #[arg(long, value_enum, default_value = "registry")]
    part: SchemaPart,
    /// Where it is written; without it, on standard output.
    #[arg(long, value_name = "FILE")]
    save: Option<PathBuf>,
}

#[derive(Clone, Copy, clap::ValueEnum)]
enum Format {
    /// A table for a spreadsheet, one row a variable.
    Csv,
    /// A list of entries.
    Json,
    /// A JSON Schema, by which editors complete and check the project's files.
    Schema,
}

#[derive(Clone, Copy, clap::ValueEnum)]
enum SchemaPart {
    /// `oaken.toml`
    Config,
    /// Registry files.
    Registry,
    /// Rehearsals.
    Rehearsal,
}

/// Writes the registry in another form.
pub fn export(folder: Option<&Path>, options: &ExportOptions) -> Outcome {
    let text = match options.to {
        Format::Schema => {
            let part = match options.part {
                SchemaPart::Config => Part::Config,
                SchemaPart::Registry => Part::Registry,
                SchemaPart::Rehearsal => Part::Rehearsal,
            };
            serde_json::to_string_pretty(&schema::schema(part))? + "\n"
        }
        Format::Csv => {
            let project = super::open(folder)?;
            let mut csv = Csv::new(&sheet::columns())?;
            for row in sheet::rows(&project) {
                csv.row(row)?;
            }
            csv.finish()?
        }
        Format::Json => serde_json::to_string_pretty(&document(&super::open(folder)?))? + "\n",
    };
    match &options.save {
        Some(path) => write::whole(path, &text)?,
        None => {
            let mut out = Out::new();
            out.write(&text)?;
            out.finish()?;
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn document(project: &Project) -> Value {
    let columns = sheet::columns();
    let variables: Vec<Value> = sheet::rows(project)
        .into_iter()
        .map(|row| {
            let ty = row.get(1).cloned().unwrap_or_default();
            let cells = columns.iter().zip(row).filter(|(_, cell)| !cell.is_empty());
            Value::Object(cells.map(|(key, cell)| ((*key).to_owned(), from_cell(key, &ty, &cell))).collect())
        })
        .collect();
    json!({ "schema": "oaken-census/registry/1", "project": project.config.name, "variables": variables })
}

/// A cell as JSON: numbers, flags and lists as what they are. What JSON would write otherwise stays a text.
fn from_cell(key: &str, ty: &str, cell: &str) -> Value {
    let number = matches!(key, "min" | "max" | "slot") || (key == "default" && matches!(ty, "int" | "number"));
    let plain =
        matches!(key, "constant" | "placeholder") || (key == "default" && matches!(ty, "bool" | "vec2" | "vec3"));
    if matches!(key, "values" | "writers" | "tags" | "formerly") {
        return sheet::texts_of(cell).map_or_else(|| json!(cell), |items| json!(items));
    }
    if number || plain {
        let value: Option<Value> = serde_json::from_str(cell).ok();
        let as_written = |value: &Value| plain || serde_json::to_string(value).is_ok_and(|text| text == cell);
        return value.filter(as_written).unwrap_or_else(|| json!(cell));
    }
    json!(sheet::text_of(cell))
}

/// Options of `oaken import`.
#[derive(clap::Args)]
pub struct ImportOptions {
    /// A file that `oaken export` wrote, as CSV or JSON.
    file: PathBuf,
    /// Show what would change, and write nothing.
    #[arg(long)]
    dry_run: bool,
}

/// Takes in what a table changes.
pub fn import(folder: Option<&Path>, options: &ImportOptions) -> Outcome {
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
