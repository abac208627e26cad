//! `oaken rehearse`

use super::{Format, Outcome};
use crate::print::{self, Out};
use crate::{Failure, chart, write};
use census::finding::{Finding, reader_rules};
use census::flow::world::graphs;
use census::project::{self, Project, load};
use census::rehearsal::play::{self, play};
use census::rehearsal::record::Wanted;
use census::rehearsal::{Rehearsal, read};
use census::rehearse::layout::Layout;
use census::source::{FileId, FileKind, SourceFile, Sources};
use rayon::prelude::*;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

/// Options of `oaken rehearse`.
#[derive(clap::Args)]
pub struct Options {
    /// The rehearsals to play; without any, all of the project's.
    files: Vec<PathBuf>,
    /// Print every change with its time, trigger, script and line, old and new value.
    #[arg(long)]
    log: bool,
    /// Draw the watched variables over time, as SVG or PNG by the file's ending.
    #[arg(long, value_name = "FILE")]
    chart: Option<PathBuf>,
    /// Write the log as CSV.
    #[arg(long, value_name = "FILE")]
    csv: Option<PathBuf>,
    /// How the outcome is written.
    #[arg(long, value_enum, default_value = "text")]
    format: Format,
}

/// A rehearsal with how it went, or with what is wrong in it.
pub enum Played<'r> {
    /// It was played.
    Done(&'r Rehearsal, Box<play::Outcome<'r>>),
    /// It can't be played.
    Unreadable(FileId, &'r [Finding]),
}

impl Played<'_> {
    /// Whether it was played, and all went as it should.
    #[must_use]
    pub fn passed(&self) -> bool {
        matches!(self, Self::Done(_, outcome) if outcome.passed())
    }
}

/// Plays rehearsals.
pub fn run(folder: Option<&Path>, options: &Options) -> Outcome {
    let root = super::root(folder)?;
    let lock = crate::transaction::read_lock(&root)?;
    let mut sources = load::load(&root)?;
    drop(lock);
    let files = wanted_files(&root, &mut sources, &options.files)?;
    if options.chart.is_some() && files.len() != 1 {
        let found = census::words::count(files.len(), "rehearsal");
        return Err(Failure(format!("a chart shows one rehearsal, and here are {found}: name the one to draw")));
    }
    let project = project::build(sources);
    warn_of_unreadable(&project);
    let all_graphs = graphs(&project);
    let layout = Layout::new(&project, &all_graphs);
    let read: Vec<(FileId, Result<Rehearsal, Vec<Finding>>)> =
        files.par_iter().map(|&file| (file, read::read(&project, file))).collect();
    let wanted = Wanted { log: options.log || options.csv.is_some(), tracks: options.chart.is_some() };
    let played: Vec<Played<'_>> = read
        .par_iter()
        .map(|(file, rehearsal)| match rehearsal {
            Ok(rehearsal) => Played::Done(rehearsal, Box::new(play(&layout, rehearsal, wanted))),
            Err(problems) => Played::Unreadable(*file, problems),
        })
        .collect();
    write_files(&layout, &played, options)?;
    match options.format {
        Format::Text => print::rehearsal_text::print(&layout, &played, options.log)?,
        Format::Json => {
            let mut out = Out::new();
            let document = print::rehearsal_json::document(&layout, &played, options.log);
            out.json(&document)?;
            out.finish()?;
        }
    }
    Ok(code(&played))
}

fn code(played: &[Played<'_>]) -> ExitCode {
    if played.iter().any(|one| matches!(one, Played::Unreadable(..))) {
        ExitCode::from(2)
    } else {
        ExitCode::from(u8::from(!played.iter().all(Played::passed)))
    }
}

fn write_files(layout: &Layout<'_>, played: &[Played<'_>], options: &Options) -> Result<(), Failure> {
    if let Some(path) = &options.csv {
        write::whole(path, &print::rehearsal_csv::document(layout, played)?)?;
    }
    if let (Some(path), [Played::Done(rehearsal, outcome)]) = (&options.chart, played) {
        chart::draw(path, layout.project, rehearsal, outcome)?;
    }
    Ok(())
}

/// What could not be read of the scripts and the registry is not played: whoever looks at the outcome should know.
fn warn_of_unreadable(project: &Project) {
    let unread = [reader_rules::SYNTAX, reader_rules::BAD_ENTRY, reader_rules::UNKNOWN_NAME, reader_rules::DUPLICATE];
    let errors = project.findings.iter().filter(|finding| unread.contains(&finding.rule)).count();
    if errors > 0 {
        let errors = census::words::count(errors, "error");
        print::remark(&format!(
            "The project has {errors} that `oaken check` tells of; what could not be read is not played."
        ));
    }
}

/// The rehearsals that the paths name; files that the project does not know are added.
fn wanted_files(root: &Path, sources: &mut Sources, paths: &[PathBuf]) -> Result<Vec<FileId>, Failure> {
    if paths.is_empty() {
        return Ok(sources.of_kind(FileKind::Rehearsal).collect());
    }
    let real_root = root.canonicalize()?;
    let mut wanted = Vec::new();
    for path in paths {
        let from_root = root.join(path);
        let path = if !path.exists() && from_root.exists() { &from_root } else { path };
        let failed = |error: std::io::Error| Failure(format!("{} can't be read: {error}", path.display()));
        let real = path.canonicalize().map_err(failed)?;
        let inside = real.strip_prefix(&real_root).ok();
        let known: Vec<FileId> = sources
            .of_kind(FileKind::Rehearsal)
            .filter(|&file| inside.is_some_and(|inside| Path::new(&*sources.file(file).path).starts_with(inside)))
            .collect();
        if known.is_empty() && real.is_dir() {
            return Err(Failure(format!("{} has no rehearsals of this project", path.display())));
        }
        if known.is_empty() {
            let shown = inside.unwrap_or(path).to_string_lossy().into_owned();
            let bytes = std::fs::read(&real).map_err(failed)?;
            wanted.push(sources.add(SourceFile::new(shown, FileKind::Rehearsal, bytes)));
        }
        wanted.extend(known);
    }
    wanted.sort_unstable();
    wanted.dedup();
    Ok(wanted)
}
