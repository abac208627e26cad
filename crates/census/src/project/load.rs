//! Reads a project's files from the disk.

use crate::registry::config::{self, Config};
use crate::registry::read::Problems;
use crate::registry::toml;
use crate::source::{FileKind, SourceFile, Sources};
use rayon::prelude::*;
use std::collections::BTreeMap;
use std::fmt;
use std::path::{Path, PathBuf};

/// The name of the file at a project's root.
pub const CONFIG_FILE: &str = "oaken.toml";

/// Why a project can't be read at all.
#[derive(Debug)]
pub enum LoadError {
    /// No `oaken.toml` here or above.
    NoProject(PathBuf),
    /// A file or a folder that can't be read.
    Unreadable(PathBuf, std::io::Error),
    /// `oaken.toml` is not TOML.
    BrokenConfig {
        /// The file.
        path: PathBuf,
        /// The line, from 1.
        line: u32,
        /// The column, from 1.
        column: u32,
        /// What is wrong.
        message: String,
    },
    /// A path that leads, perhaps through a link, outside the project.
    Outside(PathBuf),
    /// A file of 4 GB or more.
    TooLarge(PathBuf),
}

impl fmt::Display for LoadError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::NoProject(from) => write!(
                f,
                "there is no `{CONFIG_FILE}` in {} or in any folder above it; `oaken init` makes a project",
                from.display()
            ),
            Self::Unreadable(path, error) => write!(f, "{} can't be read: {}", path.display(), error.kind()),
            Self::BrokenConfig { path, line, column, message } => {
                write!(f, "{}, line {line}, column {column}: this is not TOML: {message}", path.display())
            }
            Self::Outside(path) => write!(f, "{} leads outside the project's folder", path.display()),
            Self::TooLarge(path) => write!(f, "{} is too large: a file can have up to 4 GB", path.display()),
        }
    }
}

impl std::error::Error for LoadError {}

/// The folder of the project that `from` lies in: the nearest one, upwards, with an `oaken.toml`.
///
/// # Errors
/// [`LoadError::NoProject`] where there is none.
pub fn find_root(from: &Path) -> Result<PathBuf, LoadError> {
    let absolute = std::path::absolute(from).unwrap_or_else(|_| from.to_owned());
    let found = absolute.ancestors().find(|folder| folder.join(CONFIG_FILE).is_file());
    found.map(Path::to_owned).ok_or(LoadError::NoProject(from.to_owned()))
}

/// Reads all files of the project in `root`.
///
/// # Errors
/// Whatever of the project's own files and folders can't be read; a configured folder that is not there holds nothing.
pub fn load(root: &Path) -> Result<Sources, LoadError> {
    let path = root.join(CONFIG_FILE);
    let bytes = read_file(&path)?;
    let (mut sources, config) = with_config(path, bytes)?;
    for file in project_files(root, &config)? {
        sources.files.push(file);
    }
    Ok(sources)
}

/// The sources with `oaken.toml` in them, and what it says.
fn with_config(path: PathBuf, bytes: Vec<u8>) -> Result<(Sources, Config), LoadError> {
    let mut sources = Sources::default();
    let file = SourceFile::new(CONFIG_FILE, FileKind::Config, bytes);
    let (table, error) = toml::read(&file.text);
    if let Some(error) = error {
        let at = file.position(error.span.start);
        return Err(LoadError::BrokenConfig { path, line: at.line, column: at.column, message: error.message });
    }
    let id = sources.add(file);
    let config = config::read(table, id, &mut Problems::default());
    Ok((sources, config))
}

/// Takes a project's files from memory, by their paths from its folder, with `/`.
///
/// # Errors
/// There is no `oaken.toml` among them, or it is not TOML.
pub fn from_memory(mut files: BTreeMap<String, Vec<u8>>) -> Result<Sources, LoadError> {
    let missing = || LoadError::NoProject(PathBuf::from("that state"));
    let bytes = files.remove(CONFIG_FILE).ok_or_else(missing)?;
    let (mut sources, config) = with_config(PathBuf::from(CONFIG_FILE), bytes)?;
    for (kind, places, extension) in kinds(&config) {
        let inside = |path: &str| {
            let path = Path::new(path);
            let fits = path.extension().is_some_and(|found| found == extension);
            fits && places.iter().any(|place| path.starts_with(slashes(Path::new(place))))
        };
        let wanted: Vec<String> = files.keys().filter(|path| inside(path)).cloned().collect();
        for path in wanted {
            if let Some(bytes) = files.remove(&path) {
                sources.add(SourceFile::new(path, kind, bytes));
            }
        }
    }
    Ok(sources)
}

fn kinds(config: &Config) -> [(FileKind, &Vec<String>, &'static str); 3] {
    [
        (FileKind::Registry, &config.registry, "toml"),
        (FileKind::Script, &config.scripts, "oaken"),
        (FileKind::Rehearsal, &config.rehearsals, "toml"),
    ]
}

fn project_files(root: &Path, config: &Config) -> Result<Vec<SourceFile>, LoadError> {
    let mut wanted = Vec::new();
    for (kind, places, extension) in kinds(config) {
        let mut found = Vec::new();
        for place in places {
            find_files(root, place, extension, &mut found)?;
        }
        found.sort();
        found.dedup();
        found.retain(|path| path != CONFIG_FILE);
        wanted.extend(found.into_iter().map(|path| (kind, path)));
    }
    let files: Vec<Result<Option<SourceFile>, LoadError>> = wanted
        .into_par_iter()
        .map(|(kind, path)| match read_file(&root.join(&path)) {
            Ok(bytes) => Ok(Some(SourceFile::new(path, kind, bytes))),
            // A file that vanished between listing and reading is as if it had never been listed.
            Err(LoadError::Unreadable(_, error)) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(error),
        })
        .collect();
    files.into_iter().filter_map(Result::transpose).collect()
}

/// Adds the files below `place`, as paths relative to the root, with `/`.
fn find_files(root: &Path, place: &str, extension: &str, found: &mut Vec<String>) -> Result<(), LoadError> {
    let start = root.join(place);
    if !start.exists() {
        return Ok(());
    }
    let unreadable = |error: std::io::Error, path: &Path| LoadError::Unreadable(path.to_owned(), error);
    let real_root = root.canonicalize().map_err(|error| unreadable(error, root))?;
    let real_start = start.canonicalize().map_err(|error| unreadable(error, &start))?;
    if !real_start.starts_with(&real_root) {
        return Err(LoadError::Outside(start));
    }
    // Links inside a folder are not followed: so no loop, and no way out of the project.
    for entry in walkdir::WalkDir::new(&start).sort_by_file_name() {
        let entry = match entry {
            Ok(entry) => entry,
            Err(error) if error.io_error().is_some_and(|e| e.kind() == std::io::ErrorKind::NotFound) => continue,
            Err(error) => {
                let path = error.path().unwrap_or(&start).to_owned();
                let error = error.into_io_error().unwrap_or_else(|| std::io::Error::other("a loop of links"));
                return Err(LoadError::Unreadable(path, error));
            }
        };
        let is_file = entry.file_type().is_file() || (entry.depth() == 0 && entry.path().is_file());
        let fits = entry.path().extension().is_some_and(|found| found == extension);
        if is_file
            && fits
            && let Ok(relative) = entry.path().strip_prefix(root)
        {
            found.push(slashes(relative));
        }
    }
    Ok(())
}

/// A relative path with `/`, without `.` parts.
fn slashes(path: &Path) -> String {
    let parts: Vec<_> = path
        .components()
        .filter(|part| !matches!(part, std::path::Component::CurDir))
        .map(|part| part.as_os_str().to_string_lossy())
        .collect();
    parts.join("/")
}

fn read_file(path: &Path) -> Result<Vec<u8>, LoadError> {
    let bytes = std::fs::read(path).map_err(|error| LoadError::Unreadable(path.to_owned(), error))?;
    if bytes.len() >= u32::MAX as usize {
        return Err(LoadError::TooLarge(path.to_owned()));
    }
    Ok(bytes)
}
