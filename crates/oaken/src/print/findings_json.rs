//! Findings as JSON, in the form that the project's contract fixes.

use super::Out;
use census::finding::Level;
use census::project::Project;
use census::report::{Report, Told, sizes};
use census::witness::Witness;
use serde::{Serialize, Serializer};
use serde_json::{Value, json};
use std::io;

/// Writes a report.
pub fn print(project: &Project, report: &Report) -> io::Result<()> {
    let mut out = Out::new();
    out.json(&Document::new(project, report))?;
    out.finish()
}

/// The whole document.
#[derive(Serialize)]
struct Document<'a> {
    schema: &'static str,
    project: &'a str,
    summary: Value,
    findings: Findings<'a>,
}

impl<'a> Document<'a> {
    fn new(project: &'a Project, report: &'a Report) -> Self {
        let (variables, scripts) = sizes(project);
        let summary = json!({
            "errors": report.count(Level::Error),
            "warnings": report.count(Level::Warning),
            "notes": report.count(Level::Note),
            "waived": report.waived,
            "accepted": report.accepted,
            "variables": variables,
            "scripts": scripts,
        });
        Self {
            schema: "oaken-census/findings/1",
            project: &project.config.name,
            summary,
            findings: Findings { project, report },
        }
    }
}

/// The findings, made one at a time as they are written, since there can be very many.
struct Findings<'a> {
    project: &'a Project,
    report: &'a Report,
}

impl Serialize for Findings<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_seq(self.report.findings.iter().map(|told| finding(self.project, told)))
    }
}

/// A witness: its steps, as in a rehearsal.
fn witness(witness: &Witness) -> Value {
    let steps: Vec<Value> = witness
        .steps
        .iter()
        .map(|step| {
            let keys = step.iter().map(|(key, value)| ((*key).to_owned(), from_toml(value)));
            Value::Object(keys.collect())
        })
        .collect();
    json!({ "replayed": true, "steps": steps, "sentence": witness.sentence })
}

/// A value as TOML writes it, as JSON.
fn from_toml(text: &str) -> Value {
    fn turned(value: &toml_edit::Value) -> Value {
        match value {
            toml_edit::Value::String(text) => json!(text.value()),
            toml_edit::Value::Integer(number) => json!(number.value()),
            toml_edit::Value::Float(number) => json!(number.value()),
            toml_edit::Value::Boolean(value) => json!(value.value()),
            toml_edit::Value::Datetime(date) => json!(date.value().to_string()),
            toml_edit::Value::Array(items) => items.iter().map(turned).collect(),
            toml_edit::Value::InlineTable(table) => {
                Value::Object(table.iter().map(|(key, value)| (key.to_owned(), turned(value))).collect())
            }
        }
    }
    text.parse::<toml_edit::Value>().map_or_else(|_| json!(text), |value| turned(&value))
}

/// One finding; a report can hold a great many, so they borrow what they say.
#[derive(Serialize)]
struct Line<'a> {
    column: u32,
    end_column: u32,
    end_line: u32,
    file: &'a str,
    fingerprint: &'a str,
    help: Option<&'a str>,
    level: &'static str,
    line: u32,
    message: &'a str,
    related: Vec<RelatedLine<'a>>,
    rule: &'static str,
    variable: Option<&'a str>,
    witness: Option<Value>,
}

/// A place that a finding names beside its own.
#[derive(Serialize)]
struct RelatedLine<'a> {
    column: u32,
    file: &'a str,
    line: u32,
    message: &'a str,
}

fn finding<'a>(project: &'a Project, told: &'a Told) -> Line<'a> {
    let finding = &told.finding;
    let file = project.sources.file(finding.at.file);
    let (start, end) = (file.position(finding.at.span.start), file.position(finding.at.span.end));
    let related = finding.related.iter().map(|related| {
        let file = project.sources.file(related.at.file);
        let at = file.position(related.at.span.start);
        RelatedLine { column: at.column, file: &file.path, line: at.line, message: &related.message }
    });
    Line {
        column: start.column,
        end_column: end.column,
        end_line: end.line,
        file: &file.path,
        fingerprint: &told.fingerprint,
        help: finding.help.as_deref(),
        level: told.level.word(),
        line: start.line,
        message: &finding.message,
        related: related.collect(),
        rule: finding.rule.0,
        variable: finding.variable.as_deref(),
        witness: told.witness.as_ref().map(witness),
    }
}
