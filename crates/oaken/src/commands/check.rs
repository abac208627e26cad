//! `oaken check`

use super::Outcome;
use crate::{Failure, print, write};
use census::accepted::{self, FILE};
use census::finding::Level;
use census::project::Project;
use census::report::{self, Report, Told};
use census::rules::Facts;
use census::witness;
use std::mem::ManuallyDrop;
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
    /// Look for runs that really do what is found, and show them.
    #[arg(long)]
    prove: bool,
    /// How many dispatches the search may spend on one finding, in thousands.
    #[arg(long, value_name = "N", default_value_t = witness::USUAL_EFFORT / 1000, value_parser = clap::value_parser!(u64).range(1..=10_000_000))]
    effort: u64,
    /// Write the run that does what one finding says as a rehearsal.
    #[arg(long, value_name = "RULE@FILE:LINE", conflicts_with_all = ["paths", "accept", "prove", "format"])]
    witness: Option<String>,
    /// Where that rehearsal is written; without it, on standard output.
    #[arg(long, value_name = "FILE", requires = "witness")]
    save: Option<PathBuf>,
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
    // The program ends with this command: taking everything apart first would only cost time.
    let project = ManuallyDrop::new(super::open(Some(&root))?);
    let wanted = super::wanted_files(&root, &project, &options.paths)?;
    let facts = ManuallyDrop::new(Facts::new(&project));
    let mut report = ManuallyDrop::new(report::report(&facts));
    let effort = options.effort.saturating_mul(1000);
    if let Some(wanted) = &options.witness {
        return save_witness(&facts, &mut report, wanted, options.save.as_deref(), effort);
    }
    if options.accept {
        return accept(&root, &project, &report);
    }
    let gone = leave_out_accepted(&root, &mut report)?;
    if let Some(wanted) = wanted {
        report.findings.retain(|told| wanted.contains(&&*project.sources.file(told.finding.at.file).path));
    }
    if options.prove {
        prove(&facts, &mut report, effort);
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

/// Looks for witnesses, and says how many were found.
fn prove(facts: &Facts<'_>, report: &mut Report, effort: u64) {
    let wanted = report::prove(facts, report, effort);
    let found = report.findings.iter().filter(|told| told.witness.is_some()).count();
    let findings = census::words::count(wanted, "finding");
    print::remark(&format!("{findings} can have a witness, and {found} of them have one."));
}

/// Writes the witness of the finding that is meant.
fn save_witness(facts: &Facts<'_>, report: &mut Report, wanted: &str, save: Option<&Path>, effort: u64) -> Outcome {
    let place = |told: &Told| {
        let file = facts.project.sources.file(told.finding.at.file);
        format!("{}@{}:{}", told.finding.rule, file.path, file.position(told.finding.at.span.start).line)
    };
    let all: Vec<String> = report.findings.iter().map(place).collect();
    let Some(at) = all.iter().position(|name| name == wanted) else {
        let near = census::words::did_you_mean(wanted, all.iter().map(String::as_str));
        let near = near.unwrap_or_else(|| "`oaken check` shows the findings".to_owned());
        return Err(Failure(format!("there is no finding `{wanted}`; {near}")));
    };
    report.findings.swap(0, at);
    report.findings.truncate(1);
    if report::prove(facts, report, effort) == 0 {
        return Err(Failure(format!("`{wanted}` says nothing that happens in a run, so no run can show it")));
    }
    let Some(witness) = report.findings.first().and_then(|told| told.witness.as_ref()) else {
        print::complain(&format!("no run was found that does what `{wanted}` says; `--effort` looks longer"));
        return Ok(ExitCode::from(1));
    };
    let mut out = print::Out::new();
    match save {
        None => out.write(&witness.rehearsal)?,
        Some(path) => {
            write::whole(path, &witness.rehearsal)?;
            let path = print::plain_line(&path.display().to_string());
            let does =
                if witness.fails { "fails until this is mended" } else { "does this, and nothing in it can fail" };
            out.line(&format!("{path} {does}: {}.", print::plain(&witness.sentence)))?;
        }
    }
    out.finish()?;
    Ok(ExitCode::SUCCESS)
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
