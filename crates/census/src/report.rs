//! From what the readers and the rules found to what is told: levels, waivers, order, fingerprints.

use crate::finding::{Finding, Level, RuleName, reader_rules};
use crate::project::Project;
use crate::registry::config::RuleLevel;
use crate::rules::{self, Facts};
use crate::source::{FileId, FileKind, Location, Span};
use crate::waivers;
use crate::witness::{self, Witness};
use crate::words::did_you_mean;
use rayon::prelude::*;
use rustc_hash::{FxHashMap, FxHashSet};

/// A finding as it is told.
#[derive(Clone, Debug)]
pub struct Told {
    /// The finding.
    pub finding: Finding,
    /// Its level in this project.
    pub level: Level,
    /// What it is known by when lines move.
    pub fingerprint: String,
    /// A run that does it, once one was looked for and found.
    pub witness: Option<Witness>,
}

/// The outcome of a check.
#[derive(Clone, Debug, Default)]
pub struct Report {
    /// What is told, by file, line, column and rule.
    pub findings: Vec<Told>,
    /// How many findings waivers took away.
    pub waived: usize,
    /// How many findings were accepted before.
    pub accepted: usize,
}

impl Report {
    /// How many findings have a level.
    #[must_use]
    pub fn count(&self, level: Level) -> usize {
        self.findings.iter().filter(|told| told.level == level).count()
    }
}

/// Looks for witnesses of a report's findings, with at most so many dispatches for each. Gives how many findings could
/// have one.
pub fn prove(facts: &Facts<'_>, report: &mut Report, effort: u64) -> usize {
    let wanted: Vec<usize> =
        (0..report.findings.len()).filter(|&at| witness::can_have(&report.findings[at].finding)).collect();
    let findings: Vec<&Finding> = wanted.iter().map(|&at| &report.findings[at].finding).collect();
    let found = witness::find_all(&facts.world, &findings, effort);
    for (&at, witness) in wanted.iter().zip(found) {
        report.findings[at].witness = witness;
    }
    wanted.len()
}

/// Checks a project with all rules.
#[must_use]
pub fn check(project: &Project) -> Report {
    let facts = Facts::new(project);
    report(&facts)
}

/// Checks a project whose facts are known.
#[must_use]
pub fn report(facts: &Facts<'_>) -> Report {
    let project = facts.project;
    let levels = Levels::new(&project.config.rules);
    let mut findings = project.findings.clone();
    findings.extend(unknown_rules(project));
    let active: Vec<_> = rules::all().into_iter().filter(|rule| levels.of(rule.name) != Level::Off).collect();
    // Two rules ask for these: neither is to wait for the other amid work that all cores share.
    if active.iter().any(|rule| DECIDED.contains(&rule.name.0)) {
        facts.decided();
    }
    let checked: Vec<Vec<Finding>> =
        active.par_iter().filter_map(|rule| rule.check).map(|check| check(facts)).collect();
    findings.extend(checked.into_iter().flatten());
    drop_consequences(&mut findings);
    let mut waivers = waivers::read(project, &mut findings);
    let before = findings.len();
    findings.retain(|finding| !waivers.cover(project, finding));
    let waived = before - findings.len();
    findings.extend(waivers.unused());
    findings.retain(|finding| levels.of(finding.rule) != Level::Off);
    sort(project, &mut findings);
    let fingerprints = fingerprints(project, &findings);
    let told = findings.into_iter().zip(fingerprints);
    let told =
        told.map(|(finding, fingerprint)| Told { level: levels.of(finding.rule), finding, fingerprint, witness: None });
    Report { findings: told.collect(), waived, accepted: 0 }
}

/// One mistake gives one finding: where a value has the wrong type or a name means nothing, what the analysis makes of
/// that statement's values follows from it.
fn drop_consequences(findings: &mut Vec<Finding>) {
    let causes: FxHashMap<FileId, Vec<(Span, RuleName)>> = findings
        .iter()
        .filter(|finding| CAUSES.contains(&finding.rule))
        .fold(FxHashMap::default(), |mut causes, finding| {
            causes.entry(finding.at.file).or_default().push((finding.at.span, finding.rule));
            causes
        });
    // A test that is jumped over may never come true for that very reason.
    let jumped: FxHashSet<Location> =
        findings.iter().filter(|finding| finding.rule.0 == "range/limit-skipped").map(|finding| finding.at).collect();
    // What an instance of another kind lacks is not looked for in one that is gone either.
    let unchecked: Vec<Location> = findings
        .iter()
        .filter(|finding| finding.rule.0 == "sharing/unchecked-kind")
        .map(|finding| finding.at)
        .collect();
    let of_no_kind = |finding: &Finding| {
        let here = |at: &Location| at.file == finding.at.file && finding.at.span.contains(at.span);
        finding.rule.0 == "init/empty-ref" && unchecked.iter().any(here)
    };
    findings.retain(|finding| {
        if of_no_kind(finding) {
            return false;
        }
        let follows =
            matches!(finding.rule.family(), "range" | "invariant" | "init") && !CAUSES.contains(&finding.rule);
        // What a fraction is worked out from may be wrong by itself.
        let stands_alone = finding.rule.0 == "range/divide-by-zero" || finding.rule.family() == "init";
        let inside = |causes: &Vec<(Span, RuleName)>| {
            let explains = |rule: RuleName| !(stands_alone && rule == reader_rules::FRACTION_LOST);
            causes.iter().any(|&(cause, rule)| finding.at.span.contains(cause) && explains(rule))
        };
        let skipped = matches!(finding.rule.0, "range/always" | "range/never") && jumped.contains(&finding.at);
        !(skipped || follows && causes.get(&finding.at.file).is_some_and(inside))
    });
}

/// The rules about tests that come out one way only.
const DECIDED: [&str; 2] = ["range/always", "range/never"];

/// Rules whose findings explain others at the same place.
const CAUSES: [RuleName; 5] = [
    reader_rules::SYNTAX,
    reader_rules::UNKNOWN_NAME,
    reader_rules::MISMATCH,
    reader_rules::FRACTION_LOST,
    reader_rules::UNKNOWN_VALUE,
];

/// The level of each rule in a project.
struct Levels {
    levels: FxHashMap<RuleName, Level>,
}

impl Levels {
    fn new(changed: &[RuleLevel]) -> Self {
        let find = |name: &str| changed.iter().rev().find(|line| line.name == name).map(|line| line.level);
        let level = |rule: &rules::Rule| find(rule.name.0).or_else(|| find(rule.name.family())).unwrap_or(rule.level);
        Self { levels: rules::all().into_iter().map(|rule| (rule.name, level(rule))).collect() }
    }

    fn of(&self, rule: RuleName) -> Level {
        self.levels.get(&rule).copied().unwrap_or(Level::Error)
    }
}

fn unknown_rules(project: &Project) -> Vec<Finding> {
    let known: Vec<&str> = rules::all().iter().map(|rule| rule.name.0).chain(rules::families()).collect();
    let unknown = project.config.rules.iter().filter(|line| !known.contains(&line.name.as_str()));
    unknown
        .map(|line| {
            let mut finding =
                Finding::new(reader_rules::BAD_ENTRY, line.at, format!("there is no rule or family `{}`", line.name));
            finding.help = did_you_mean(&line.name, known.iter().copied());
            finding
        })
        .collect()
}

/// By file, line, column, rule.
fn sort(project: &Project, findings: &mut Vec<Finding>) {
    let path = |at: Location| project.sources.file(at.file).path.clone();
    findings.sort_by_cached_key(|finding| {
        (path(finding.at), finding.at.span.start, finding.rule, finding.at.span.end, finding.message.clone())
    });
    findings.dedup();
}

/// A hash of what stays when lines move: rule, file, variable, the line's words, and which of several alike it is.
fn fingerprints(project: &Project, findings: &[Finding]) -> Vec<String> {
    let mut seen: FxHashMap<u64, u32> = FxHashMap::default();
    findings
        .iter()
        .map(|finding| {
            let file = project.sources.file(finding.at.file);
            let line = file.slice(file.line_span(file.line_index(finding.at.span.start)));
            let words: Vec<&str> = line.split_whitespace().collect();
            let parts = [finding.rule.0, &file.path, finding.variable.as_deref().unwrap_or(""), &words.join(" ")];
            let mut hash = fnv(parts.iter().flat_map(|part| part.bytes().chain([0])));
            let nth = seen.entry(hash).or_default();
            *nth += 1;
            if *nth > 1 {
                hash = fnv(hash.to_le_bytes().into_iter().chain(nth.to_le_bytes()));
            }
            format!("{hash:016x}")
        })
        .collect()
}

/// FNV-1a, 64 bits: small, and the same on every machine and in every version.
fn fnv(bytes: impl Iterator<Item = u8>) -> u64 {
    bytes.fold(0xcbf2_9ce4_8422_2325, |hash, byte| (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3))
}

/// How many variables and scripts a project has.
#[must_use]
pub fn sizes(project: &Project) -> (usize, usize) {
    (project.registry.variables.len(), project.sources.of_kind(FileKind::Script).count())
}
