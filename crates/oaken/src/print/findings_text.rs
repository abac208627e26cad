//! Findings for people: file by file, each with its line, what happens in play, and the cure.

use super::{Out, faint, level_style, plain, plain_line, shorten, strong, width, wrap};
use census::finding::Level;
use census::project::Project;
use census::report::{Report, Told, sizes};
use census::words::count;
use rayon::prelude::*;
use std::fmt::{Arguments, Write};
use std::io;

/// How many files are made ready at once, to be written in order.
const FILES_AT_ONCE: usize = 256;

/// Writes a report.
pub fn print(project: &Project, report: &Report) -> io::Result<()> {
    let mut out = Out::new();
    let width = width();
    let files: Vec<&[Told]> = report.findings.chunk_by(|a, b| a.finding.at.file == b.finding.at.file).collect();
    for files in files.chunks(FILES_AT_ONCE) {
        let texts: Vec<String> = files.par_iter().map(|findings| one_file(project, findings, width)).collect();
        texts.iter().try_for_each(|text| out.write(text))?;
    }
    out.line(&summary(project, report))?;
    out.finish()
}

/// The findings of one file, on lines of at most this width.
fn one_file(project: &Project, findings: &[Told], width: usize) -> String {
    let mut out = String::new();
    if let Some(first) = findings.first() {
        let strong = strong();
        line(
            &mut out,
            format_args!("{strong}{}{strong:#}", plain_line(&project.sources.file(first.finding.at.file).path)),
        );
    }
    findings.iter().for_each(|told| one(&mut out, project, told, width));
    out
}

/// Adds a line.
fn line(out: &mut String, text: Arguments<'_>) {
    // Writing into a text can't fail.
    let _ = out.write_fmt(text);
    out.push('\n');
}

/// Adds a text that is broken into lines, the first of which has this sign before it.
fn signed(out: &mut String, sign: &str, text: &str, width: usize) {
    for (at, part) in wrap(&plain(text), width.saturating_sub(13)).into_iter().enumerate() {
        let lead = if at == 0 { sign } else { " " };
        line(out, format_args!("           {lead} {part}"));
    }
}

/// One finding.
fn one(out: &mut String, project: &Project, told: &Told, width: usize) {
    let finding = &told.finding;
    let file = project.sources.file(finding.at.file);
    let at = file.position(finding.at.span.start);
    let (level, faint) = (level_style(told.level), faint());
    let place = format!("{}:{}", at.line, at.column);
    line(out, format_args!("  {place:>7}  {level}{}{level:#}  {}", told.level.word(), finding.rule));
    let source = file.slice(file.line_span(file.line_index(finding.at.span.start)));
    let shown = plain_line(source.trim_start_matches('\u{feff}').trim());
    if !shown.is_empty() {
        line(out, format_args!("           {faint}│{faint:#} {}", shorten(&shown)));
    }
    for part in wrap(&plain(&finding.message), width.saturating_sub(11)) {
        line(out, format_args!("           {part}"));
    }
    if let Some(help) = &finding.help {
        signed(out, "→", help, width);
    }
    if let Some(witness) = &told.witness {
        signed(out, "▸", &format!("Witness: {}.", witness.sentence), width);
    }
    for related in &finding.related {
        let file = project.sources.file(related.at.file);
        let at = file.position(related.at.span.start);
        let place = format!("{}:{}", plain_line(&file.path), at.line);
        line(out, format_args!("           {faint}{}: {place}{faint:#}", plain_line(&related.message)));
    }
    out.push('\n');
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
