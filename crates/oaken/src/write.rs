//! Writing files: whole, or not at all.

use crate::Failure;
use std::io::Write;
use std::path::Path;

/// Writes a file beside its place and moves it there, so that nobody ever sees half of it.
///
/// # Errors
/// The folder or the disk refuses; then nothing has changed.
pub fn whole(path: &Path, text: &str) -> Result<(), Failure> {
    whole_bytes(path, text.as_bytes())
}

/// The same for a file that is no text.
///
/// # Errors
/// The folder or the disk refuses; then nothing has changed.
pub fn whole_bytes(path: &Path, bytes: &[u8]) -> Result<(), Failure> {
    let failed = |error: std::io::Error| {
        Failure(format!("{} can't be written: {}; nothing was changed", path.display(), error.kind()))
    };
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let before = std::fs::metadata(path).ok();
    if before.as_ref().is_some_and(|before| before.permissions().readonly()) {
        return Err(Failure(format!("{} is read-only; nothing was changed", path.display())));
    }
    std::fs::create_dir_all(folder).map_err(failed)?;
    let mut file = tempfile::NamedTempFile::new_in(folder).map_err(failed)?;
    file.write_all(bytes).map_err(failed)?;
    file.as_file().sync_all().map_err(failed)?;
    match before {
        Some(before) => file.as_file().set_permissions(before.permissions()).map_err(failed)?,
        None => open_to_all(file.as_file()).map_err(failed)?,
    }
    file.persist(path).map_err(|error| failed(error.error))?;
    Ok(())
}

/// A new file is readable like any other, not only by its owner as a temporary one is.
#[cfg(unix)]
fn open_to_all(file: &std::fs::File) -> std::io::Result<()> {
    use std::os::unix::fs::PermissionsExt;
    file.set_permissions(std::fs::Permissions::from_mode(0o644))
}

#[cfg(not(unix))]
fn open_to_all(_file: &std::fs::File) -> std::io::Result<()> {
    Ok(())
}
