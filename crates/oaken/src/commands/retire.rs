//! `oaken retire ID`

use super::{Outcome, edits};
use census::edit::{find_variable, retire};
use std::path::Path;
use std::process::ExitCode;

/// Options of `oaken retire`.
#[derive(clap::Args)]
pub struct Options {
    /// The variable: `OWNER.NAME`, or its name alone where only one has it.
    id: String,
    /// What is to be used instead.
    #[arg(long = "use", value_name = "OTHER", conflicts_with = "remove")]
    instead: Option<String>,
    /// Since when: a version, a date. Without it, "now".
    #[arg(long, value_name = "WHEN", conflicts_with = "remove")]
    since: Option<String>,
    /// Take the entry out altogether; only where nothing uses it.
    #[arg(long)]
    remove: bool,
    /// Show what would change, and write nothing.
    #[arg(long)]
    dry_run: bool,
}

/// Marks a variable as retired, or takes it out.
pub fn run(folder: Option<&Path>, options: &Options) -> Outcome {
    let editing = edits::open(folder)?;
    let id = find_variable(&editing.project, &options.id)?;
    let identity = editing.project.registry.identity(id);
    let (files, done) = if options.remove {
        (retire::remove(&editing.project, id)?, format!("`{identity}` is out of the registry."))
    } else {
        let since = options.since.as_deref().unwrap_or("now");
        let files = retire::mark(&editing.project, id, since, options.instead.as_deref())?;
        (files, format!("`{identity}` is retired; `oaken check` tells where it is still used."))
    };
    editing.finish(&files, options.dry_run, &done)?;
    Ok(ExitCode::SUCCESS)
}
