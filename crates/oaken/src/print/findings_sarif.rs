//! Findings as SARIF 2.1.0, for tools that gather the results of many checkers.

use super::Out;
use census::finding::{Level, RuleName};
use census::project::Project;
use census::report::{Report, Told};
use census::rules::{self, Rule};
use census::source::Location;
use serde::{Serialize, Serializer};
use serde_json::{Value, json};
use std::collections::BTreeSet;
use std::io;

/// Writes a report.
pub fn print(project: &Project, report: &Report) -> io::Result<()> {
    let mut out = Out::new();
    out.json(&document(project, report))?;
    out.finish()
}

/// The whole document, its parts in alphabetical order as everywhere.
#[derive(Serialize)]
struct Document<'a> {
    #[serde(rename = "$schema")]
    schema: &'static str,
    runs: [Run<'a>; 1],
    version: &'static str,
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Run<'a> {
    column_kind: &'static str,
    results: Results<'a>,
    tool: Value,
}

/// All results. Each is made as its turn comes to be written: all of them together would take more memory than the check.
struct Results<'a> {
    project: &'a Project,
    report: &'a Report,
    rules: Vec<&'static Rule>,
}

impl Serialize for Results<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_seq(self.report.findings.iter().map(|told| result(self.project, told, &self.rules)))
    }
}

fn document<'a>(project: &'a Project, report: &'a Report) -> Document<'a> {
    let told: BTreeSet<RuleName> = report.findings.iter().map(|told| told.finding.rule).collect();
    let rules: Vec<&Rule> = rules::all().into_iter().filter(|rule| told.contains(&rule.name)).collect();
    let tool = json!({ "driver": {
        "name": "Oaken Census",
        "semanticVersion": env!("CARGO_PKG_VERSION"),
        "rules": rules.iter().map(|rule| described(rule)).collect::<Vec<_>>(),
    } });
    let results = Results { project, report, rules };
    Document {
        schema: "https://json.schemastore.org/sarif-2.1.0.json",
        runs: [Run { column_kind: "unicodeCodePoints", results, tool }],
        version: "2.1.0",
    }
}

fn described(rule: &Rule) -> Value {
    json!({
        "id": rule.name.0,
        "shortDescription": { "text": rule.means },
        "fullDescription": { "text": format!("{} {}", rule.means, rule.hurts) },
        "defaultConfiguration": { "level": level(rule.level) },
    })
}

fn level(level: Level) -> &'static str {
    match level {
        Level::Error => "error",
        Level::Warning => "warning",
        Level::Note => "note",
        Level::Off => "none",
    }
}

fn result(project: &Project, told: &Told, rules: &[&Rule]) -> Value {
    let finding = &told.finding;
    let text = match &finding.help {
        Some(help) => format!("{}\n{help}", finding.message),
        None => finding.message.clone(),
    };
    let related: Vec<Value> = finding
        .related
        .iter()
        .map(|related| {
            let mut place = location(project, related.at);
            place["message"] = json!({ "text": related.message });
            place
        })
        .collect();
    json!({
        "ruleId": finding.rule.0,
        "ruleIndex": rules.iter().position(|rule| rule.name == finding.rule),
        "level": level(told.level),
        "message": { "text": text },
        "locations": [location(project, finding.at)],
        "relatedLocations": related,
        "partialFingerprints": { "oakenCensus/v1": told.fingerprint },
    })
}

fn location(project: &Project, at: Location) -> Value {
    let file = project.sources.file(at.file);
    let (start, end) = (file.position(at.span.start), file.position(at.span.end));
    json!({ "physicalLocation": {
        "artifactLocation": { "uri": uri(&file.path) },
        "region": {
            "startLine": start.line,
            "startColumn": start.column,
            "endLine": end.line,
            "endColumn": end.column,
        },
    } })
}

/// A relative path as a URI: what is no plain character stands as `%` and its bytes.
fn uri(path: &str) -> String {
    let mut out = String::with_capacity(path.len());
    for byte in path.bytes() {
        match byte {
            b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' | b'/' => out.push(char::from(byte)),
            byte => out.push_str(&format!("%{byte:02X}")),
        }
    }
    out
}
