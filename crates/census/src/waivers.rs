//! Waivers: comments that drop a rule's findings at one place, for a reason that they give.

use crate::finding::{Finding, RuleName};
use crate::project::{Project, ScriptUnit};
use crate::rules;
use crate::script::ast::{Statement, walk};
use crate::source::{FileId, FileKind, Location, SourceFile, Span};
use crate::words::did_you_mean;

const BAD_WAIVER: RuleName = RuleName("registry/bad-waiver");
const UNUSED_WAIVER: RuleName = RuleName("unused/waiver");

struct Waiver {
    at: Location,
    /// A rule or a family.
    rule: String,
    /// The lines that it covers: the first and the last.
    lines: (usize, usize),
    used: bool,
}

impl Waiver {
    fn new(file: &SourceFile, at: Location, rule: String, covers: Span) -> Self {
        Self { at, rule, lines: (file.line_index(covers.start), file.line_index(covers.end)), used: false }
    }
}

/// All waivers of a project.
pub struct Waivers {
    all: Vec<Waiver>,
}

/// Reads all waivers. Those without a reason, or of no known rule, are findings and waive nothing.
pub fn read(project: &Project, findings: &mut Vec<Finding>) -> Waivers {
    let mut all = Vec::new();
    for unit in &project.scripts {
        let file = project.sources.file(unit.file);
        let mut spans: Option<Vec<Span>> = None;
        for &comment in &unit.tree.comments {
            let text = file.slice(comment).trim_start_matches('/');
            if let Some(rule) = parse(text, unit.at(comment), findings) {
                let spans = spans.get_or_insert_with(|| coverable(unit));
                let covers = covered_in_script(file, spans, comment);
                all.push(Waiver::new(file, unit.at(comment), rule, covers));
            }
        }
    }
    for id in project.sources.of_kind(FileKind::Registry).chain(project.sources.of_kind(FileKind::Config)) {
        read_toml(project, id, findings, &mut all);
    }
    Waivers { all }
}

fn read_toml(project: &Project, id: FileId, findings: &mut Vec<Finding>, all: &mut Vec<Waiver>) {
    let file = project.sources.file(id);
    if !file.text.contains("waive") {
        return;
    }
    for line in 0..file.line_count() {
        let span = file.line_span(line);
        let text = file.slice(span);
        let Some(hash) = comment_start(text) else { continue };
        let comment = Span { start: span.start + u32::try_from(hash).unwrap_or(0), end: span.end };
        let at = Location { file: id, span: comment };
        if let Some(rule) = parse(text[hash..].trim_start_matches('#'), at, findings) {
            let own_line = text[..hash].trim().is_empty();
            let covers = if own_line { entry_below(file, line) } else { span };
            all.push(Waiver::new(file, at, rule, covers));
        }
    }
}

/// Where a TOML line's comment begins, by quotes.
fn comment_start(line: &str) -> Option<usize> {
    let mut quote = None;
    for (at, c) in line.char_indices() {
        match (quote, c) {
            (None, '#') => return Some(at),
            (None, '"' | '\'') => quote = Some(c),
            (Some(open), c) if c == open => quote = None,
            _ => {}
        }
    }
    None
}

/// The entry below a line: from the next line that is no comment to the next header.
fn entry_below(file: &SourceFile, line: usize) -> Span {
    let is_note = |line: usize| {
        let text = file.slice(file.line_span(line)).trim();
        text.is_empty() || text.starts_with('#')
    };
    let mut first = line + 1;
    while first < file.line_count() && is_note(first) {
        first += 1;
    }
    let header = file.slice(file.line_span(first)).trim_start().starts_with('[');
    let mut last = first;
    while header && last + 1 < file.line_count() && !file.slice(file.line_span(last + 1)).trim_start().starts_with('[')
    {
        last += 1;
    }
    Span { start: file.line_span(first).start, end: file.line_span(last).end }
}

/// `waive RULE: reason`
fn parse(comment: &str, at: Location, findings: &mut Vec<Finding>) -> Option<String> {
    let rest = comment.trim_start().strip_prefix("waive")?;
    if !rest.starts_with(char::is_whitespace) {
        return None;
    }
    let (rule, reason) = rest.split_once(':').map_or((rest, ""), |(rule, reason)| (rule, reason));
    let rule = rule.trim();
    let known = rules::find(rule).is_some() || rules::families().contains(&rule);
    if !known {
        if !rule.contains('/') && reason.is_empty() {
            return None; // A sentence that happens to begin with the word.
        }
        let mut finding = Finding::new(BAD_WAIVER, at, format!("there is no rule `{rule}` to waive"));
        let names = rules::all();
        finding.help = did_you_mean(rule, names.iter().map(|rule| rule.name.0).chain(rules::families()));
        findings.push(finding);
        return None;
    }
    if reason.trim().is_empty() {
        let finding = Finding::new(BAD_WAIVER, at, "a waiver says why, and this one does not");
        findings.push(finding.help(format!("write `waive {rule}: ` and the reason; until then it waives nothing")));
        return None;
    }
    Some(rule.to_owned())
}

/// What a waiver in a script can cover: by where it begins, the longer first.
fn coverable(unit: &ScriptUnit) -> Vec<Span> {
    let mut spans: Vec<Span> = Vec::new();
    let tree = &unit.tree;
    spans.extend(tree.header.map(|header| header.span));
    spans.extend(tree.privates.iter().map(|private| private.span));
    spans.extend(tree.handlers.iter().map(|handler| handler.span));
    spans.extend(tree.procedures.iter().map(|procedure| procedure.span));
    let bodies = tree.handlers.iter().map(|handler| &handler.body);
    for body in bodies.chain(tree.procedures.iter().map(|procedure| &procedure.body)) {
        walk(body, &mut |statement: &Statement| spans.push(statement.span));
    }
    spans.sort_by_key(|span| (span.start, u32::MAX - span.end));
    spans
}

/// What a waiver in a script covers: the statement on its line, or the statement, handler or declaration below it.
fn covered_in_script(file: &SourceFile, spans: &[Span], comment: Span) -> Span {
    let line_start = file.line_span(file.line_index(comment.start)).start;
    let own_line = file.slice(Span { start: line_start, end: comment.start }).trim().is_empty();
    if own_line {
        let below = spans.get(spans.partition_point(|span| span.start <= comment.end));
        let between = below.map(|span| file.slice(Span { start: comment.end, end: span.start }));
        let adjacent = between
            .is_some_and(|text| text.lines().all(|line| line.trim().is_empty() || line.trim_start().starts_with("//")));
        return below.filter(|_| adjacent).copied().unwrap_or(comment);
    }
    // At the end of a handler's first line the handler is meant, else the first statement that begins on the line.
    let here = spans.get(spans.partition_point(|span| span.start < line_start));
    here.filter(|span| span.start < comment.start).copied().unwrap_or(Span { start: line_start, end: comment.end })
}

impl Waivers {
    /// Whether a waiver covers a finding; marks it as used.
    pub fn cover(&mut self, project: &Project, finding: &Finding) -> bool {
        let mut covered = false;
        let line = project.sources.file(finding.at.file).line_index(finding.at.span.start);
        for waiver in &mut self.all {
            let inside = waiver.at.file == finding.at.file && (waiver.lines.0..=waiver.lines.1).contains(&line);
            let fits = || waiver.rule == finding.rule.0 || waiver.rule == finding.rule.family();
            if inside && finding.rule != BAD_WAIVER && fits() {
                waiver.used = true;
                covered = true;
            }
        }
        covered
    }

    /// A finding for each waiver that waived nothing.
    #[must_use]
    pub fn unused(&self) -> Vec<Finding> {
        let unused = self.all.iter().filter(|waiver| !waiver.used);
        unused
            .map(|waiver| {
                let message = format!("there is nothing here for `{}` to find, so this waives nothing", waiver.rule);
                Finding::new(UNUSED_WAIVER, waiver.at, message).help("take the waiver out")
            })
            .collect()
    }
}
