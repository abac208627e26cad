//! Findings for people: file by file, each with its line, what happens in play, and the cure.

use super::{Out, faint, level_style, plain, plain_line, shorten, strong, width, wrap};
use census::finding::Level;
use census::project::Project;
use census::report::{Report, Told, sizes};
use census::words::count;
use std::io;

/// Writes a report.
pub fn print(project: &Project, report: &Report) -> io::Result<()> {
    let mut out = Out::new();
    let mut file = None;
    for told in &report.findings {
        let at = told.finding.at.file;
        if file != Some(at) {
            file = Some(at);
            let strong = strong();
            out.line(&format!("{strong}{}{strong:#}", plain_line(&project.sources.file(at).path)))?;
        }
        one(&mut out, project, told)?;
    }
    out.line(&summary(project, report))?;
    out.finish()
}

/// One finding.
fn one(out: &mut Out, project: &Project, told: &Told) -> io::Result<()> {
    let finding = &told.finding;
    let file = project.sources.file(finding.at.file);
    let at = file.position(finding.at.span.start);
    let (level, faint) = (level_style(told.level), faint());
    let place = format!("{}:{}", at.line, at.column);
    out.line(&format!("  {place:>7}  {level}{}{level:#}  {}", told.level.word(), finding.rule))?;
    let line = file.slice(file.line_span(file.line_index(finding.at.span.start)));
    let shown = plain_line(line.trim_start_matches('\u{feff}').trim());
    if !shown.is_empty() {
        out.line(&format!("           {faint}│{faint:#} {}", shorten(&shown)))?;
    }
    for line in wrap(&plain(&finding.message), width().saturating_sub(11)) {
        out.line(&format!("           {line}"))?;
    }
    if let Some(help) = &finding.help {
        for (at, line) in wrap(&plain(help), width().saturating_sub(13)).into_iter().enumerate() {
            let lead = if at == 0 { "→" } else { " " };
            out.line(&format!("           {lead} {line}"))?;
        }
    }
    if let Some(witness) = &told.witness {
        let text = format!("Witness: {}.", witness.sentence);
        for (at, line) in wrap(&plain(&text), width().saturating_sub(13)).into_iter().enumerate() {
            let lead = if at == 0 { "▸" } else { " " };
            out.line(&format!("           {lead} {line}"))?;
        }
    }
    for related in &finding.related {
        let file = project.sources.file(related.at.file);
        let at = file.position(related.at.span.start);
        let place = format!("{}:{}", plain_line(&file.path), at.line);
        out.line(&format!("           {faint}{}: {place}{faint:#}", plain_line(&related.message)))?;
    }
    out.line("")
}

/// "3 errors, 2 warnings and 1 note in 41 variables and 12 scripts"
fn summary(project: &Project, report: &Report) -> String {
    let (variables, scripts) = sizes(project);
    let looked = format!("{} and {}", count(variables, "variable"), count(scripts, "script"));
    let counts: Vec<String> = [(Level::Error, "error"), (Level::Warning, "warning"), (Level::Note, "note")]
        .into_iter()
        .map(|(level, word)| (report.count(level), word))
        .filter(|(number, _)| *number > 0)
        .map(|(number, word)| count(number, word))
        .collect();
    let mut text = match counts.split_last() {
        None => format!("Nothing to report in {looked}."),
        Some((last, [])) => format!("{last} in {looked}."),
        Some((last, rest)) => format!("{} and {last} in {looked}.", rest.join(", ")),
    };
    if report.waived > 0 {
        text.push_str(&format!(" {} waived.", count(report.waived, "finding")));
    }
    if report.accepted > 0 {
        text.push_str(&format!(" {} accepted before.", count(report.accepted, "finding")));
    }
    text
}
