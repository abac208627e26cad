//! `oaken rename OLD NEW`

use super::{Outcome, edits};
use census::edit::rename;
use std::path::Path;
use std::process::ExitCode;

/// Options of `oaken rename`.
#[derive(clap::Args)]
pub struct Options {
    /// A variable (`OWNER.NAME`, or its name alone where only one has it), an owner or an instance.
    old: String,
    /// The new name.
    new: String,
    /// Show what would change, and write nothing.
    #[arg(long)]
    dry_run: bool,
}

/// Renames something everywhere.
pub fn run(folder: Option<&Path>, options: &Options) -> Outcome {
    let editing = edits::open(folder)?;
    let target = rename::target(&editing.project, &options.old)?;
    let accepted = editing.accepted();
    let renamed = rename::rename(&editing.project, target, &options.new, accepted.as_deref())?;
    let done = format!("`{}` is `{}` now, in {}.", options.old, options.new, rename::extent(&renamed));
    editing.finish(&renamed.files, options.dry_run, &done)?;
    Ok(ExitCode::SUCCESS)
}
