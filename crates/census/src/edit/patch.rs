//! Small changes of files, put together into whole new texts.

use super::Refused;
use crate::finding::Finding;
use crate::project::{self, Project};
use crate::source::{FileId, SourceFile, Sources, Span};
use rustc_hash::FxHashMap;

/// One change: a stretch of a file and what stands there instead.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct Patch {
    /// The file.
    pub file: FileId,
    /// What is replaced; empty where something is put in.
    pub span: Span,
    /// What stands there instead.
    pub text: String,
}

/// A file as an edit leaves it, beside what it was.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct NewFile {
    /// Relative to the project's folder, with `/`.
    pub path: String,
    /// What it was; none where there was no such file.
    pub before: Option<String>,
    /// What it becomes.
    pub after: String,
}

/// Applies patches; equal ones count once. Files that stay as they are do not come up.
#[must_use]
pub fn apply(project: &Project, mut patches: Vec<Patch>) -> Vec<NewFile> {
    patches.sort();
    patches.dedup();
    let mut files: Vec<NewFile> = Vec::new();
    for group in patches.chunk_by(|a, b| a.file == b.file) {
        let file = project.sources.file(group[0].file);
        let mut after = String::with_capacity(file.text.len() + 64);
        let mut at = 0;
        for patch in group {
            let (start, end) = (patch.span.start as usize, patch.span.end as usize);
            if start < at {
                continue;
            }
            after.push_str(&file.text[at..start]);
            after.push_str(&patch.text);
            at = end;
        }
        after.push_str(&file.text[at..]);
        if *after != *file.text {
            files.push(NewFile { path: file.path.to_string(), before: Some(file.text.to_string()), after });
        }
    }
    files
}

/// The project as it would be with new texts; refused where the registry or the scripts would be worse with them.
///
/// # Errors
/// What would be wrong, with its cure.
pub fn tried(project: &Project, files: &[NewFile]) -> Result<Project, Refused> {
    let after = rebuilt(project, files);
    match after.findings.iter().find(|finding| is_new(project, finding)) {
        None => Ok(after),
        Some(finding) => {
            let help = finding.help.as_ref().map_or(String::new(), |help| format!("; {help}"));
            Err(Refused(format!("{}{help}", finding.message)))
        }
    }
}

fn is_new(project: &Project, finding: &Finding) -> bool {
    let same =
        |old: &Finding| old.rule == finding.rule && old.message == finding.message && old.at.file == finding.at.file;
    !project.findings.iter().any(same)
}

/// The project as it would be with new texts.
#[must_use]
pub fn rebuilt(project: &Project, files: &[NewFile]) -> Project {
    let new: FxHashMap<&str, &str> = files.iter().map(|file| (file.path.as_str(), file.after.as_str())).collect();
    let mut sources = Sources::default();
    for file in &project.sources.files {
        sources.add(match new.get(&*file.path) {
            Some(text) => SourceFile::new(file.path.clone(), file.kind, text.as_bytes().to_vec()),
            None => file.clone(),
        });
    }
    project::build(sources)
}
