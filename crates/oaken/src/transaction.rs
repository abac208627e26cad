//! Edits of several files at once: all of them or none, also when the program is killed in the middle.
//!
//! A redo log (C. Mohan and others, "ARIES", ACM Transactions on Database Systems, 1992, in its smallest form). The new
//! texts are first written beside the files that they are to replace, and a journal at the project's root lists them.
//! Once the journal says `ready` the edit counts as done: what is left of it is a number of renames, which the next
//! command completes if this one can't. A journal that does not say so is undone. Whoever reads or edits a project holds
//! a lock on its folder.

use crate::{Failure, print};
use census::edit::patch::NewFile;
use serde::{Deserialize, Serialize};
use std::fs::{self, File};
use std::io::{self, Write};
use std::path::{Component, Path, PathBuf};

/// The journal's name, at a project's root.
const JOURNAL: &str = ".oaken-edit.json";
/// What the name of a new text ends in until it takes its place.
const STAGED: &str = ".oaken-new";

/// A project's folder, held against others.
pub struct Lock {
    _folder: Option<File>,
}

#[derive(Serialize, Deserialize)]
struct Journal {
    /// Whether all new texts are there.
    ready: bool,
    /// The files, relative to the root.
    files: Vec<String>,
}

/// Holds a project for reading: nobody edits it meanwhile. An edit that was interrupted is brought to its end first.
///
/// # Errors
/// An interrupted edit can't be completed.
pub fn read_lock(root: &Path) -> Result<Lock, Failure> {
    if root.join(JOURNAL).exists() {
        drop(write_lock(root)?);
    }
    let folder = open(root);
    if let Some(folder) = &folder {
        folder.lock_shared().ok();
    }
    Ok(Lock { _folder: folder })
}

/// Holds a project for an edit, from reading it to writing it: no other edit is lost.
///
/// # Errors
/// An interrupted edit can't be completed.
pub fn write_lock(root: &Path) -> Result<Lock, Failure> {
    let folder = open(root);
    if let Some(folder) = &folder {
        folder.lock().ok();
    }
    recover(root)?;
    Ok(Lock { _folder: folder })
}

/// The folder itself is what is locked, so that no lock file is left lying about.
fn open(root: &Path) -> Option<File> {
    File::open(root).or_else(|_| File::open(root.join(census::project::load::CONFIG_FILE))).ok()
}

fn staged(path: &Path) -> PathBuf {
    let mut name = path.file_name().unwrap_or_default().to_os_string();
    name.push(STAGED);
    path.with_file_name(name)
}

/// Brings an interrupted edit to its end, and says so.
fn recover(root: &Path) -> Result<(), Failure> {
    let path = root.join(JOURNAL);
    let text = match fs::read_to_string(&path) {
        Ok(text) => text,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(()),
        Err(error) => return Err(Failure(format!("an edit was interrupted, and {JOURNAL} can't be read: {error}"))),
    };
    // A journal that was cut off had not said `ready`, so nothing had been replaced.
    let journal: Journal = serde_json::from_str(&text).unwrap_or(Journal { ready: false, files: Vec::new() });
    // Whoever wrote it, it moves nothing outside of the project.
    let inside = |file: &&String| Path::new(file).components().all(|part| matches!(part, Component::Normal(_)));
    let files: Vec<PathBuf> = journal.files.iter().filter(inside).map(|file| root.join(file)).collect();
    let failed = |error: io::Error| Failure(format!("an edit was interrupted and can't be completed: {error}"));
    let count = census::words::count(files.len(), "file");
    if journal.ready {
        replace(&files).map_err(failed)?;
        print::remark(&format!("An edit of {count} was interrupted; it is completed now."));
    } else {
        files.iter().for_each(|file| drop(fs::remove_file(staged(file))));
        print::remark(&format!("An edit of {count} was interrupted before it began; nothing was changed."));
    }
    fs::remove_file(&path).map_err(failed)
}

fn replace(files: &[PathBuf]) -> io::Result<()> {
    for file in files {
        match fs::rename(staged(file), file) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
            _ => {}
        }
    }
    Ok(())
}

/// Writes all files of an edit, or none. The caller holds the [`write_lock`].
///
/// # Errors
/// A file is read-only, was changed meanwhile, or the disk refuses; then nothing has changed.
pub fn commit(root: &Path, files: &[NewFile]) -> Result<(), Failure> {
    let mut paths: Vec<PathBuf> = Vec::with_capacity(files.len());
    for file in files {
        paths.push(target(root, file)?);
    }
    let names: Vec<String> = paths.iter().map(|path| relative(root, path)).collect();
    let journal = root.join(JOURNAL);
    let undo = |error: Failure| {
        paths.iter().for_each(|path| drop(fs::remove_file(staged(path))));
        let _ = fs::remove_file(&journal);
        error
    };
    write_journal(&journal, &Journal { ready: false, files: names.clone() }).map_err(undo)?;
    for (file, path) in files.iter().zip(&paths) {
        stage(path, &file.after).map_err(|error| {
            undo(Failure(format!("{} can't be written: {}; nothing was changed", path.display(), error.kind())))
        })?;
    }
    write_journal(&journal, &Journal { ready: true, files: names }).map_err(undo)?;
    // From here on the edit counts: what fails now is completed by the next command.
    replace(&paths).map_err(|error| {
        Failure(format!("the edit is written down but not in place yet: {error}; the next command completes it"))
    })?;
    fs::remove_file(&journal)?;
    Ok(())
}

/// The real place of a file, checked: inside the project, not read-only, and still as it was read.
fn target(root: &Path, file: &NewFile) -> Result<PathBuf, Failure> {
    let path = root.join(&file.path);
    let Some(before) = &file.before else { return Ok(path) };
    let real = path.canonicalize().map_err(|error| Failure(format!("{} can't be read: {error}", file.path)))?;
    if !real.starts_with(root.canonicalize()?) {
        return Err(Failure(format!("{} leads outside the project's folder; nothing was changed", file.path)));
    }
    if fs::metadata(&real)?.permissions().readonly() {
        return Err(Failure(format!("{} is read-only; nothing was changed", file.path)));
    }
    if fs::read(&real)? != before.as_bytes() {
        return Err(Failure(format!(
            "{} was changed by somebody else meanwhile, or is not UTF-8; nothing was changed",
            file.path
        )));
    }
    Ok(real)
}

fn relative(root: &Path, path: &Path) -> String {
    let real = root.canonicalize().unwrap_or_else(|_| root.to_owned());
    let inside = path.strip_prefix(&real).or_else(|_| path.strip_prefix(root)).unwrap_or(path);
    inside.to_string_lossy().into_owned()
}

fn stage(path: &Path, text: &str) -> io::Result<()> {
    let new = staged(path);
    let mut file = File::create(&new)?;
    file.write_all(text.as_bytes())?;
    if let Ok(before) = fs::metadata(path) {
        file.set_permissions(before.permissions())?;
    }
    file.sync_all()
}

/// The journal itself is replaced whole, so that it says one thing or the other.
fn write_journal(path: &Path, journal: &Journal) -> Result<(), Failure> {
    let text = serde_json::to_string(journal).unwrap_or_default();
    crate::write::whole(path, &text)
}
