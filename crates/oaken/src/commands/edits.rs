//! What all commands that edit the project share: the lock, the diff, the writing.

use crate::print::{Out, faint, plain_line, strong};
use crate::{Failure, transaction};
use anstyle::AnsiColor;
use census::accepted;
use census::edit::patch::NewFile;
use census::project::{self, Project, load};
use similar::{ChangeTag, TextDiff};
use std::path::{Path, PathBuf};

/// A project that is being edited, held against others.
pub struct Editing {
    /// Its folder.
    pub root: PathBuf,
    /// As it is now.
    pub project: Project,
    _lock: transaction::Lock,
}

/// Opens a project for an edit.
///
/// # Errors
/// There is none, or a file can't be read.
pub fn open(folder: Option<&Path>) -> Result<Editing, Failure> {
    let root = super::root(folder)?;
    let lock = transaction::write_lock(&root)?;
    let project = project::build(load::load(&root)?);
    Ok(Editing { root, project, _lock: lock })
}

impl Editing {
    /// The text of the accepted file, if there is one.
    #[must_use]
    pub fn accepted(&self) -> Option<String> {
        std::fs::read_to_string(self.root.join(accepted::FILE)).ok()
    }

    /// Writes the files, or shows what would change.
    ///
    /// # Errors
    /// Something can't be written; then nothing has changed.
    pub fn finish(&self, files: &[NewFile], dry_run: bool, done: &str) -> Result<(), Failure> {
        let mut out = Out::new();
        if dry_run {
            diff(&mut out, files)?;
        } else {
            transaction::commit(&self.root, files)?;
            out.line(&plain_line(done))?;
        }
        out.finish()?;
        Ok(())
    }
}

/// Shows what would change.
///
/// # Errors
/// Standard output can't be written.
pub fn diff(out: &mut Out, files: &[NewFile]) -> std::io::Result<()> {
    changes(out, files)?;
    out.line("Nothing was written.")
}

/// Shows what changes, file by file, with three lines around each change.
///
/// # Errors
/// Standard output can't be written.
pub fn changes(out: &mut Out, files: &[NewFile]) -> std::io::Result<()> {
    let (strong, faint) = (strong(), faint());
    let (gone, new) = (AnsiColor::Red.on_default(), AnsiColor::Green.on_default());
    if files.is_empty() {
        return out.line("Nothing changes.");
    }
    for file in files {
        out.line(&format!("{strong}{}{strong:#}", plain_line(&file.path)))?;
        let before = file.before.as_deref().unwrap_or("");
        let diff = TextDiff::from_lines(before, &file.after);
        for (at, group) in diff.grouped_ops(3).iter().enumerate() {
            if at > 0 {
                out.line(&format!("       {faint}…{faint:#}"))?;
            }
            for change in group.iter().flat_map(|op| diff.iter_changes(op)) {
                let line = change.old_index().or(change.new_index()).map_or(0, |line| line + 1);
                let text = plain_line(change.value().trim_end_matches(['\n', '\r']));
                match change.tag() {
                    ChangeTag::Equal => out.line(&format!("{line:>6}   {text}"))?,
                    ChangeTag::Delete => out.line(&format!("{line:>6} {gone}- {text}{gone:#}"))?,
                    ChangeTag::Insert => out.line(&format!("{:>6} {new}+ {text}{new:#}", ""))?,
                }
            }
        }
    }
    Ok(())
}
