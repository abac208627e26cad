//! `oaken check`

use super::Outcome;
use crate::{Failure, print};
use census::finding::Level;
use census::project::Project;
use census::report::{self, Report};
use std::path::{Path, PathBuf};
use std::process::ExitCode;

/// Options of `oaken check`.
#[derive(clap::Args)]
pub struct Options {
    /// Show the findings in these files or folders only.
    paths: Vec<PathBuf>,
    /// End with exit code 1 where something of this level, or above, is found.
    #[arg(long, value_enum, default_value = "error")]
    fail_on: FailOn,
    /// How the findings are written.
    #[arg(long, value_enum, default_value = "text")]
    format: Format,
}

#[derive(Clone, Copy, clap::ValueEnum)]
enum FailOn {
    Error,
    Warning,
    Note,
    Never,
}

#[derive(Clone, Copy, clap::ValueEnum)]
enum Format {
    /// For people.
    Text,
    /// For programs.
    Json,
}

/// Checks the project.
pub fn run(folder: Option<&Path>, options: &Options) -> Outcome {
    let root = super::root(folder)?;
    let project = super::open(Some(&root))?;
    let wanted = wanted_files(&root, &project, &options.paths)?;
    let mut report = report::check(&project);
    if let Some(wanted) = wanted {
        report.findings.retain(|told| wanted.contains(&&*project.sources.file(told.finding.at.file).path));
    }
    match options.format {
        Format::Text => print::findings_text::print(&project, &report)?,
        Format::Json => print::findings_json::print(&project, &report)?,
    }
    Ok(code(&report, options.fail_on))
}

fn code(report: &Report, fail_on: FailOn) -> ExitCode {
    let least = match fail_on {
        FailOn::Error => Level::Error,
        FailOn::Warning => Level::Warning,
        FailOn::Note => Level::Note,
        FailOn::Never => return ExitCode::SUCCESS,
    };
    ExitCode::from(u8::from(report.findings.iter().any(|told| told.level >= least)))
}

/// The project's files that the paths name; none where no path was given.
fn wanted_files<'p>(root: &Path, project: &'p Project, paths: &[PathBuf]) -> Result<Option<Vec<&'p str>>, Failure> {
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
