//! Findings as workflow commands, one a line: a build service shows them beside the changed lines.

use super::Out;
use census::finding::Level;
use census::project::Project;
use census::report::{Report, Told};
use std::io;

/// Writes a report.
pub fn print(project: &Project, report: &Report) -> io::Result<()> {
    let mut out = Out::new();
    for told in &report.findings {
        out.line(&command(project, told))?;
    }
    out.finish()
}

fn command(project: &Project, told: &Told) -> String {
    let finding = &told.finding;
    let file = project.sources.file(finding.at.file);
    let (start, end) = (file.position(finding.at.span.start), file.position(finding.at.span.end));
    let word = match told.level {
        Level::Error => "error",
        Level::Warning => "warning",
        _ => "notice",
    };
    let text = match &finding.help {
        Some(help) => format!("{}\n{help}", finding.message),
        None => finding.message.clone(),
    };
    // A column only where the finding stands on one line, as these commands want it.
    let columns =
        if start.line == end.line { format!(",col={},endColumn={}", start.column, end.column) } else { String::new() };
    format!(
        "::{word} file={},line={},endLine={}{columns},title={}::{}",
        property(&file.path),
        start.line,
        end.line,
        property(finding.rule.0),
        data(&text)
    )
}

/// A text that must not end its line or start another command.
fn data(text: &str) -> String {
    let safe: String = text.chars().map(|c| if c.is_control() && c != '\n' { ' ' } else { c }).collect();
    safe.replace('%', "%25").replace('\r', "%0D").replace('\n', "%0A")
}

/// The same inside a list of properties.
fn property(text: &str) -> String {
    data(text).replace(':', "%3A").replace(',', "%2C")
}
