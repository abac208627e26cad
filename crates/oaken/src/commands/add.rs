//! `oaken add ID …`

use super::Outcome;
use super::edits;
use super::entry::Keys;
use crate::{Failure, print, transaction};
use census::edit;
use std::path::Path;
use std::process::ExitCode;

/// Options of `oaken add`: one for each key of an entry.
#[derive(clap::Args)]
pub struct Options {
    /// The new variable, `OWNER.NAME`.
    id: String,
    /// bool, int, number, text, enum, ref, vec2 or vec3.
    #[arg(long = "type", value_name = "TYPE")]
    ty: String,
    #[command(flatten)]
    keys: Keys,
    /// Show the new entry, and write nothing.
    #[arg(long)]
    dry_run: bool,
}

/// Adds an entry.
pub fn run(folder: Option<&Path>, options: &Options) -> Outcome {
    let editing = edits::open(folder)?;
    let scope = edit::usual_scope(&editing.project, &options.id);
    let new = edit::add(&editing.project, &options.id, &options.keys.given(Some(&options.ty), Some(scope)))?;
    let mut out = print::Out::new();
    if !options.dry_run {
        transaction::commit(&editing.root, std::slice::from_ref(&new.file))?;
    }
    let entry: Vec<&str> =
        new.file.after.lines().skip(new.line - 1).take_while(|line| !line.trim().is_empty()).collect();
    let verb = if options.dry_run { "would be" } else { "is" };
    out.line(&format!(
        "`{}` {verb} in {}, line {}:\n",
        print::plain_line(&options.id),
        print::plain_line(&new.file.path),
        new.line
    ))?;
    for line in entry {
        out.line(&format!("    {}", print::plain_line(line)))?;
    }
    out.finish()?;
    Ok::<_, Failure>(ExitCode::SUCCESS)
}
