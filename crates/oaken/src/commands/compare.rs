//! `oaken compare OLD [NEW]`

use super::Outcome;
use crate::Failure;
use crate::print::{Out, level_style, plain_line, strong};
use census::compare::{Change, compare};
use census::finding::Level;
use census::project::{self, Project, load};
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode, Stdio};

/// Options of `oaken compare`.
#[derive(clap::Args)]
pub struct Options {
    /// What was: a project's folder, or a git revision of this project.
    old: String,
    /// What is: likewise; without it, the project as it stands.
    new: Option<String>,
    /// End with exit code 1 where something breaks saves, or where anything changed.
    #[arg(long, value_enum, default_value = "never")]
    fail_on: FailOn,
    /// How the changes are written.
    #[arg(long, value_enum, default_value = "text")]
    format: Format,
}

#[derive(Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum FailOn {
    /// Something breaks saves that players have.
    Saves,
    /// Anything changed.
    Any,
    Never,
}

#[derive(Clone, Copy, clap::ValueEnum)]
enum Format {
    /// For people.
    Text,
    /// For programs.
    Json,
    /// For a review.
    Markdown,
}

/// Compares two states of the registry.
pub fn run(folder: Option<&Path>, options: &Options) -> Outcome {
    let old = state(folder, &options.old)?;
    let new = match &options.new {
        Some(new) => state(folder, new)?,
        None => super::open(folder)?,
    };
    let changes = compare(&old, &new);
    let mut out = Out::new();
    match options.format {
        Format::Text => text(&mut out, &changes)?,
        Format::Json => out.json(&document(&new, &changes))?,
        Format::Markdown => markdown(&mut out, &changes)?,
    }
    out.finish()?;
    let failed = match options.fail_on {
        FailOn::Saves => changes.iter().any(|change| change.breaks.is_some()),
        FailOn::Any => !changes.is_empty(),
        FailOn::Never => false,
    };
    Ok(ExitCode::from(u8::from(failed)))
}

fn state(folder: Option<&Path>, name: &str) -> Result<Project, Failure> {
    let path = Path::new(name);
    if path.join(load::CONFIG_FILE).is_file() {
        return super::open(Some(path));
    }
    if path.is_dir() {
        return Err(Failure(format!("there is no `{}` in {name}", load::CONFIG_FILE)));
    }
    let root = super::root(folder)?;
    Ok(project::build(load::from_memory(revision(&root, name)?)?))
}

// ---- git ----

/// The files of the project in a revision, by their paths from the project's folder.
fn revision(root: &Path, name: &str) -> Result<BTreeMap<String, Vec<u8>>, Failure> {
    let commit = format!("{name}^{{commit}}");
    let hash = git(root, &["rev-parse", "--verify", "--quiet", "--end-of-options", &commit])
        .map_err(|_| Failure(format!("{name} is no project's folder, and no revision that git knows here")))?;
    let prefix = git(root, &["rev-parse", "--show-prefix"])?;
    let tree = format!("{}:{}", hash.trim(), prefix.trim_end_matches('\n'));
    // From the top: below it, git archives only what lies below as well.
    let top = git(root, &["rev-parse", "--show-toplevel"])?;
    let mut child = Command::new("git")
        .arg("-C")
        .arg(top.trim_end_matches('\n'))
        .args(["archive", "--format=tar", &tree])
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .map_err(|error| Failure(format!("git can't be run: {error}")))?;
    let mut files = BTreeMap::new();
    if let Some(stream) = child.stdout.take() {
        let mut archive = tar::Archive::new(stream);
        for entry in archive.entries()? {
            let mut entry = entry?;
            let path: PathBuf = entry.path()?.into_owned();
            let wanted = path.extension().is_some_and(|ending| ending == "toml" || ending == "oaken");
            if wanted && entry.header().entry_type().is_file() {
                let mut bytes = Vec::new();
                entry.read_to_end(&mut bytes)?;
                files.insert(path.to_string_lossy().replace('\\', "/"), bytes);
            }
        }
        // An archive ends before its padding does; git must be let finish that too.
        std::io::copy(&mut archive.into_inner(), &mut std::io::sink())?;
    }
    if !child.wait()?.success() {
        return Err(Failure(format!("the project's folder is not in {name}")));
    }
    Ok(files)
}

fn git(root: &Path, arguments: &[&str]) -> Result<String, Failure> {
    let output = Command::new("git")
        .arg("-C")
        .arg(root)
        .args(arguments)
        .stderr(Stdio::null())
        .output()
        .map_err(|error| Failure(format!("git can't be run: {error}")))?;
    if !output.status.success() {
        return Err(Failure(format!("git {} failed", arguments.join(" "))));
    }
    Ok(String::from_utf8_lossy(&output.stdout).into_owned())
}

// ---- reports ----

fn summary(changes: &[Change]) -> String {
    let breaks = changes.iter().filter(|change| change.breaks.is_some()).count();
    if changes.is_empty() {
        return "Nothing changed.".to_owned();
    }
    let all = census::words::count(changes.len(), "change");
    let verb = if breaks == 1 { "breaks" } else { "break" };
    if breaks == 0 { format!("{all}; none breaks saves.") } else { format!("{all}; {breaks} {verb} saves.") }
}

fn text(out: &mut Out, changes: &[Change]) -> std::io::Result<()> {
    let (strong, error) = (strong(), level_style(Level::Error));
    let mut kind = None;
    for change in changes {
        if kind != Some(change.kind) {
            kind = Some(change.kind);
            out.line(&format!("{strong}{}{strong:#}", change.kind.word()))?;
        }
        out.line(&format!("  {:<28} {}", plain_line(&change.identity), plain_line(&change.text)))?;
        if let Some(breaks) = &change.breaks {
            out.line(&format!("  {:<28} {error}breaks saves{error:#}: {}", "", plain_line(breaks)))?;
        }
    }
    out.line(&summary(changes))
}

fn document(new: &Project, changes: &[Change]) -> Value {
    let list: Vec<Value> = changes
        .iter()
        .map(|change| {
            json!({
                "id": change.identity, "kind": change.kind.word(), "text": change.text,
                "breaks_saves": change.breaks.is_some(), "why": change.breaks,
            })
        })
        .collect();
    json!({
        "schema": "oaken-census/comparison/1",
        "project": new.config.name,
        "breaks_saves": changes.iter().any(|change| change.breaks.is_some()),
        "changes": list,
    })
}

fn markdown(out: &mut Out, changes: &[Change]) -> std::io::Result<()> {
    out.line("## Registry\n")?;
    out.line(&summary(changes))?;
    if changes.is_empty() {
        return Ok(());
    }
    out.line("\n| change | what | how | breaks saves |\n|---|---|---|---|")?;
    for change in changes {
        let cells = [change.kind.word(), &change.identity, &change.text, change.breaks.as_deref().unwrap_or("")];
        let cells: Vec<String> = cells.iter().map(|cell| cell_text(cell)).collect();
        out.line(&format!("| {} |", cells.join(" | ")))?;
    }
    Ok(())
}

/// A text in a table of Markdown: nothing in it is markup.
fn cell_text(text: &str) -> String {
    let mut out = String::new();
    for c in plain_line(text).chars() {
        if matches!(c, '|' | '\\' | '*' | '_' | '[' | ']' | '<' | '>' | '#' | '&' | '~' | '!') {
            out.push('\\');
        }
        out.push(c);
    }
    out
}
