//! Accepted findings: a file that lists what a project had when it came to the tool, so that only new findings count.
//!
//! It is TOML, one entry a line, sorted by file and rule, so that a change of it reads well in a review. An entry is known
//! by its fingerprint, which survives moved lines; the words beside it are for people.

use crate::project::Project;
use crate::report::{Report, Told};
use rustc_hash::FxHashSet;
use std::fmt::Write as _;

/// The name of the file, at a project's root.
pub const FILE: &str = "accepted.toml";

const HEAD: &str =
    "# Findings that this project came with. `oaken check` leaves them out; `oaken check --accept` writes this file
# anew from what is found by then. Take a line out, and its finding counts again.

[accepted]
";

/// The fingerprints in an accepted file.
///
/// # Errors
/// Where the text is not TOML, or an entry is no table: what is wrong, with its line.
pub fn read(text: &str) -> Result<FxHashSet<String>, String> {
    let document: toml_edit::DocumentMut = text.parse().map_err(|error: toml_edit::TomlError| {
        let at = error.span().map_or(0, |span| text[..span.start.min(text.len())].matches('\n').count());
        format!("line {}: this is not TOML: {}", at + 1, error.message())
    })?;
    let Some(entries) = document.get("accepted") else { return Ok(FxHashSet::default()) };
    let Some(entries) = entries.as_table_like() else { return Err("`accepted` is no table".to_owned()) };
    Ok(entries.iter().map(|(fingerprint, _)| fingerprint.to_owned()).collect())
}

/// The text of a file that accepts everything in a report.
#[must_use]
pub fn write(project: &Project, report: &Report) -> String {
    let mut lines: Vec<(String, String)> = report.findings.iter().map(|told| line(project, told)).collect();
    lines.sort();
    let mut text = HEAD.to_owned();
    for (_, line) in lines {
        text.push_str(&line);
    }
    text
}

/// The rest of a line behind its fingerprint, with the words that it quotes as they read after a rename.
#[must_use]
pub fn renamed(rest: &str, was: &str, is: &str) -> String {
    let Some((head, words)) = rest.split_once(", at = ") else { return rest.to_owned() };
    let mut renamed = String::new();
    let mut word = String::new();
    for c in words.chars().chain(std::iter::once('\0')) {
        if crate::script::lexer::is_name_part(c) {
            word.push(c);
            continue;
        }
        renamed.push_str(if word == was { is } else { &word });
        word.clear();
        if c != '\0' {
            renamed.push(c);
        }
    }
    format!("{head}, at = {renamed}")
}

fn line(project: &Project, told: &Told) -> (String, String) {
    let file = project.sources.file(told.finding.at.file);
    let words = file.slice(file.line_span(file.line_index(told.finding.at.span.start))).trim();
    let quoted = |text: &str| toml_edit::Value::from(text).to_string().trim().to_owned();
    let mut line = String::new();
    let _ = writeln!(
        line,
        "{} = {{ rule = {}, file = {}, at = {} }}",
        told.fingerprint,
        quoted(told.finding.rule.0),
        quoted(&file.path),
        quoted(&one_line(words))
    );
    (format!("{}\0{}\0{}", file.path, told.finding.rule, told.fingerprint), line)
}

/// The first part of a line, without what would break it.
fn one_line(words: &str) -> String {
    words.chars().filter(|c| !c.is_control()).take(80).collect()
}

impl Report {
    /// Takes out the findings that were accepted, and gives how many of the accepted ones are found no more.
    pub fn accept(&mut self, accepted: &FxHashSet<String>) -> usize {
        let before = self.findings.len();
        self.findings.retain(|told| !accepted.contains(&told.fingerprint));
        self.accepted = before - self.findings.len();
        accepted.len().saturating_sub(self.accepted)
    }
}
