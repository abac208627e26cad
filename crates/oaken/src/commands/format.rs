//! `oaken format`

use super::{Outcome, edits};
use crate::print::{self, Out, plain_line};
use census::edit::patch::NewFile;
use census::source::FileKind;
use census::{registry, script};
use std::path::{Path, PathBuf};
use std::process::ExitCode;

/// Options of `oaken format`.
#[derive(clap::Args)]
pub struct Options {
    /// The files or folders to format; without any, all of the project's.
    paths: Vec<PathBuf>,
    /// Write nothing, and end with exit code 1 where a file is not in style.
    #[arg(long)]
    check: bool,
}

/// Puts scripts and registry into one style.
pub fn run(folder: Option<&Path>, options: &Options) -> Outcome {
    let editing = edits::open(folder)?;
    let wanted = super::wanted_files(&editing.root, &editing.project, &options.paths)?;
    let mut files: Vec<NewFile> = Vec::new();
    let mut unread = 0;
    for file in &editing.project.sources.files {
        if wanted.as_ref().is_some_and(|wanted| !wanted.contains(&&*file.path)) || file.invalid_utf8.is_some() {
            continue;
        }
        let formatted = match file.kind {
            FileKind::Script => script::format::format(&file.text),
            FileKind::Config | FileKind::Registry | FileKind::Rehearsal => registry::format::format(&file.text),
        };
        match formatted {
            None => {
                unread += 1;
                print::remark(&format!(
                    "{} has mistakes, so it is left as it is; `oaken check` shows them.",
                    file.path
                ));
            }
            Some(after) if *after != *file.text => {
                files.push(NewFile { path: file.path.to_string(), before: Some(file.text.to_string()), after });
            }
            Some(_) => {}
        }
    }
    let count = census::words::count(files.len(), "file");
    if options.check {
        let mut out = Out::new();
        for file in &files {
            out.line(&format!("{} is not in style", plain_line(&file.path)))?;
        }
        out.line(&if files.is_empty() { "All files are in style.".to_owned() } else { format!("{count} to format.") })?;
        out.finish()?;
        return Ok(ExitCode::from(u8::from(!files.is_empty() || unread > 0)));
    }
    let done = if files.is_empty() { "All files are in style.".to_owned() } else { format!("{count} formatted.") };
    editing.finish(&files, false, &done)?;
    Ok(ExitCode::SUCCESS)
}
