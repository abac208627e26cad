//! One module for each command: its options, and what it does with them.

pub mod add;
pub mod change;
pub mod check;
pub mod compare;
pub mod completions;
pub mod demo;
pub mod edits;
pub mod entry;
pub mod explain;
pub mod export;
pub mod format;
pub mod import;
pub mod init;
pub mod list;
pub mod manual;
pub mod rehearse;
pub mod rename;
pub mod retire;
pub mod show;
pub mod tally;
pub mod uses;
pub mod whatif;

use crate::Failure;
use census::project::{self, Project, load};
use std::path::{Path, PathBuf};

/// What a command gives back: an exit code, or why it could not run.
pub type Outcome = Result<std::process::ExitCode, Failure>;

/// The folder of the project that a command works on.
///
/// # Errors
/// There is no project there or above.
pub fn root(project: Option<&Path>) -> Result<PathBuf, Failure> {
    match project {
        Some(folder) if folder.join(load::CONFIG_FILE).is_file() => Ok(folder.to_owned()),
        Some(folder) if !folder.is_dir() => Err(Failure(format!("{} is no folder", folder.display()))),
        Some(folder) => Err(Failure(format!(
            "there is no `{}` in {}; `oaken init` makes a project",
            load::CONFIG_FILE,
            folder.display()
        ))),
        None => Ok(load::find_root(Path::new("."))?),
    }
}

/// Reads and resolves the project that a command works on.
///
/// # Errors
/// There is no project, or one of its files can't be read.
pub fn open(project: Option<&Path>) -> Result<Project, Failure> {
    let root = root(project)?;
    let _lock = crate::transaction::read_lock(&root)?;
    Ok(project::build(load::load(&root)?))
}

/// How a report is written.
#[derive(Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub enum Format {
    /// For people.
    Text,
    /// For programs.
    Json,
}

/// The project's files that the paths name; none where no path was given.
///
/// # Errors
/// A path that is not of this project.
pub fn wanted_files<'p>(root: &Path, project: &'p Project, paths: &[PathBuf]) -> Result<Option<Vec<&'p str>>, Failure> {
    if paths.is_empty() {
        return Ok(None);
    }
    let real_root = root.canonicalize()?;
    let mut wanted = Vec::new();
    for path in paths {
        let real =
            path.canonicalize().map_err(|error| Failure(format!("{} can't be read: {error}", path.display())))?;
        let Ok(inside) = real.strip_prefix(&real_root) else {
            return Err(Failure(format!("{} lies outside the project's folder", path.display())));
        };
        let found: Vec<&str> = project
            .sources
            .files
            .iter()
            .map(|file| &*file.path)
            .filter(|file| Path::new(file).starts_with(inside))
            .collect();
        if found.is_empty() {
            return Err(Failure(format!("{} is no file of this project", path.display())));
        }
        wanted.extend(found);
    }
    Ok(Some(wanted))
}
