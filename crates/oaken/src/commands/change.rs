//! `oaken change ID …`

use super::entry::Keys;
use super::{Outcome, edits};
use crate::Failure;
use census::edit::{change, find_variable};
use std::path::Path;
use std::process::ExitCode;

/// Options of `oaken change`: one for each key of an entry.
#[derive(clap::Args)]
pub struct Options {
    /// The variable: `OWNER.NAME`, or its name alone where only one has it.
    id: String,
    /// bool, int, number, text, enum, ref, vec2 or vec3.
    #[arg(long = "type", value_name = "TYPE")]
    ty: Option<String>,
    #[command(flatten)]
    keys: Keys,
    /// Keys to take out.
    #[arg(long, value_delimiter = ',', value_name = "KEY,…")]
    unset: Vec<String>,
    /// Show what would change, and write nothing.
    #[arg(long)]
    dry_run: bool,
}

/// Changes keys of an entry.
pub fn run(folder: Option<&Path>, options: &Options) -> Outcome {
    let given = options.keys.given(options.ty.as_deref(), None);
    if given.is_empty() && options.unset.is_empty() {
        return Err(Failure("nothing to change: every key of an entry is an option, as in `--max 30`".to_owned()));
    }
    let editing = edits::open(folder)?;
    let id = find_variable(&editing.project, &options.id)?;
    let files = change::change(&editing.project, id, &given, &options.unset)?;
    let identity = editing.project.registry.identity(id);
    let mut keys: Vec<&str> = given.iter().map(|given| given.key).collect();
    keys.extend(options.unset.iter().map(String::as_str));
    let done = if files.is_empty() {
        format!("`{identity}` is like that already.")
    } else {
        format!("`{identity}`: {} changed in {}.", census::words::both(&keys), files[0].path)
    };
    editing.finish(&files, options.dry_run, &done)?;
    Ok(ExitCode::SUCCESS)
}
