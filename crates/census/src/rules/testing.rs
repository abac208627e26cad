//! Helpers for the rules' tests: projects written in a test, with the findings wanted marked in them.
//!
//! A line that ends in `// ~ rule` (in TOML `# ~ rule`) wants that finding on it; several rules stand behind one mark,
//! with a space between. Errors and warnings must match the marks exactly; notes only where a note is marked.

use crate::finding::Level;
use crate::project::{self, Project};
use crate::report::{self, Report};
use crate::rules::Rule;
use crate::source::{FileKind, SourceFile, Sources};
use std::collections::BTreeSet;

/// The `oaken.toml` of test projects.
pub const CONFIG: &str = "[project]\nname = \"Saltmarsh Mail\"\nfirst_scene = \"harbor\"\n";

/// Builds a project from `oaken.toml`, registry text and scripts.
pub fn project(config: &str, registry: &str, scripts: &[&str]) -> Project {
    let mut sources = Sources::default();
    sources.add(SourceFile::new("oaken.toml", FileKind::Config, config.as_bytes().to_vec()));
    sources.add(SourceFile::new("registry/base.toml", FileKind::Registry, super::EXAMPLE_BASE.as_bytes().to_vec()));
    sources.add(SourceFile::new("registry/more.toml", FileKind::Registry, registry.as_bytes().to_vec()));
    for (at, script) in scripts.iter().enumerate() {
        let path = format!("scripts/{}.oaken", char::from(b'a' + u8::try_from(at).unwrap_or(25)));
        sources.add(SourceFile::new(path, FileKind::Script, script.as_bytes().to_vec()));
    }
    project::build(sources)
}

/// Checks that the findings are those marked.
#[track_caller]
pub fn expect(registry: &str, scripts: &[&str]) {
    expect_with(CONFIG, registry, scripts);
}

/// The same, but only what is found in the scripts counts.
#[track_caller]
pub fn expect_in_scripts(registry: &str, scripts: &[&str]) {
    compare(&project(CONFIG, registry, scripts), |path| path.starts_with("scripts/"));
}

/// The same with an `oaken.toml`.
#[track_caller]
pub fn expect_with(config: &str, registry: &str, scripts: &[&str]) {
    compare(&project(config, registry, scripts), |_| true);
}

#[track_caller]
fn compare(project: &Project, counts: impl Fn(&str) -> bool) {
    let report = report::check(project);
    let (marked, rules) = marks(project);
    let mut found: BTreeSet<String> = found(project, &report, &rules);
    found.retain(|told| counts(told));
    let missing: Vec<&String> = marked.difference(&found).collect();
    let extra: Vec<&String> = found.difference(&marked).collect();
    let told: Vec<&str> = report.findings.iter().map(|told| told.finding.message.as_str()).collect();
    assert!(missing.is_empty() && extra.is_empty(), "missing: {missing:?}\nnot wanted: {extra:?}\nall: {told:#?}");
}

fn marks(project: &Project) -> (BTreeSet<String>, BTreeSet<String>) {
    let mut marks = BTreeSet::new();
    let mut rules = BTreeSet::new();
    for file in &project.sources.files {
        for (at, line) in file.text.lines().enumerate() {
            let Some((_, wanted)) = line.split_once("// ~ ").or_else(|| line.split_once("# ~ ")) else { continue };
            for rule in wanted.split_whitespace() {
                marks.insert(format!("{}:{} {rule}", file.path, at + 1));
                rules.insert(rule.to_owned());
            }
        }
    }
    (marks, rules)
}

/// The findings that count: errors and warnings, notes that some mark names, and nothing of the shared base.
fn found(project: &Project, report: &Report, rules: &BTreeSet<String>) -> BTreeSet<String> {
    let counted = report.findings.iter().filter(|told| {
        let file = &project.sources.file(told.finding.at.file).path;
        (told.level > Level::Note || rules.contains(told.finding.rule.0)) && &**file != "registry/base.toml"
    });
    counted
        .map(|told| {
            let file = project.sources.file(told.finding.at.file);
            let line = file.position(told.finding.at.span.start).line;
            format!("{}:{line} {}", file.path, told.finding.rule)
        })
        .collect()
}

/// An example may show several scripts, each from its header on.
fn split(text: &str) -> Vec<String> {
    text.split("\nscript ")
        .enumerate()
        .map(|(at, part)| if at == 0 { part.to_owned() } else { format!("script {part}") })
        .collect()
}

/// How often a rule speaks of an example, but for the base that all of them share.
pub fn finds(rule: &Rule, registry: &str, script: &str) -> usize {
    let lifetime = if rule.name.0 == "init/carried-over" { "lifetime = \"session\"\n" } else { "" };
    let config = format!("{CONFIG}{lifetime}\n[rules]\n\"{}\" = \"error\"\n", rule.name);
    let scripts = split(script);
    let scripts: Vec<&str> = scripts.iter().map(String::as_str).collect();
    let project = project(&config, registry, &scripts);
    let found = report::check(&project).findings;
    let own = found.iter().filter(|told| told.finding.rule == rule.name);
    own.filter(|told| &*project.sources.file(told.finding.at.file).path != "registry/base.toml").count()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Every rule finds its bad example and leaves its good one alone.
    #[test]
    fn examples_tell_the_truth() {
        for rule in crate::rules::all() {
            assert!(
                finds(rule, rule.bad.registry, rule.bad.script) > 0,
                "{}: the bad example is not found\n{}",
                rule.name,
                rule.bad.script
            );
            assert_eq!(
                finds(rule, rule.good.registry, rule.good.script),
                0,
                "{}: the good example is found\n{}",
                rule.name,
                rule.good.script
            );
        }
    }
}
