//! `oaken export --to FORMAT`

use super::Outcome;
use crate::print::Out;
use crate::print::csv::Csv;
use crate::write;
use census::project::Project;
use census::schema::{self, Part};
use census::sheet;
use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use std::process::ExitCode;

/// Options of `oaken export`.
#[derive(clap::Args)]
pub struct Options {
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
pub fn run(folder: Option<&Path>, options: &Options) -> Outcome {
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
