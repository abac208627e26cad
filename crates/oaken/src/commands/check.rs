//! `oaken check`

use super::Outcome;
use crate::{Failure, print, write};
use census::accepted::{self, FILE};
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
    /// Write down everything that is found as accepted: later checks count only what is new.
    #[arg(long, conflicts_with = "paths")]
    accept: bool,
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
    /// SARIF 2.1.0, for tools that gather results.
    Sarif,
    /// Commands for a build service's log.
    Github,
}

/// Checks the project.
pub fn run(folder: Option<&Path>, options: &Options) -> Outcome {
    let root = super::root(folder)?;
    let project = super::open(Some(&root))?;
    let wanted = wanted_files(&root, &project, &options.paths)?;
    let mut report = report::check(&project);
    if options.accept {
        return accept(&root, &project, &report);
    }
    let gone = leave_out_accepted(&root, &mut report)?;
    if let Some(wanted) = wanted {
        report.findings.retain(|told| wanted.contains(&&*project.sources.file(told.finding.at.file).path));
    }
    match options.format {
        Format::Text => print::findings_text::print(&project, &report)?,
        Format::Json => print::findings_json::print(&project, &report)?,
        Format::Sarif => print::findings_sarif::print(&project, &report)?,
        Format::Github => print::findings_github::print(&project, &report)?,
    }
    if gone > 0 {
        let lines = census::words::count(gone, "line");
        print::remark(&format!(
            "{lines} of {FILE} can go: what was accepted there is found no more. `oaken check --accept` writes it anew."
        ));
    }
    Ok(code(&report, options.fail_on))
}

/// Writes all findings into the accepted file.
fn accept(root: &Path, project: &Project, report: &Report) -> Outcome {
    write::whole(&root.join(FILE), &accepted::write(project, report))?;
    let mut out = print::Out::new();
    let count = census::words::count(report.findings.len(), "finding");
    out.line(&format!("{count} accepted in {FILE}. From now on `oaken check` tells only what is new."))?;
    out.finish()?;
    Ok(ExitCode::SUCCESS)
}

/// Leaves out what the accepted file lists; gives how many of its lines are about nothing any more.
fn leave_out_accepted(root: &Path, report: &mut Report) -> Result<usize, Failure> {
    let path = root.join(FILE);
    let text = match std::fs::read_to_string(&path) {
        Ok(text) => text,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(0),
        Err(error) => return Err(Failure(format!("{FILE} can't be read: {error}"))),
    };
    let known = accepted::read(&text).map_err(|message| Failure(format!("{FILE}, {message}")))?;
    Ok(report.accept(&known))
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
