//! `oaken show ID`

use super::{Format, Outcome};
use crate::print;
use crate::print::{Out, faint, plain_line, shorten, strong};
use census::edit::{find_variable, type_key};
use census::flow::access::{Access, AccessKind, Body};
use census::flow::value::Value;
use census::project::{CellId, ScriptUnit};
use census::registry::{Registry, VarId};
use census::report;
use census::rules::Facts;
use census::rules::facts::range_text;
use census::script::ast::Trigger;
use census::tally::{lines, tally};
use serde_json::json;
use std::io;
use std::path::Path;
use std::process::ExitCode;

/// Options of `oaken show`.
#[derive(clap::Args)]
pub struct Options {
    /// The variable: `OWNER.NAME`, or its name alone where only one has it.
    id: String,
    /// How it is written.
    #[arg(long, value_enum, default_value = "text")]
    format: Format,
}

/// Shows a variable.
pub fn run(folder: Option<&Path>, options: &Options) -> Outcome {
    let project = super::open(folder)?;
    let id = find_variable(&project, &options.id)?;
    let facts = Facts::new(&project);
    let mut out = Out::new();
    match options.format {
        Format::Text => text(&mut out, &facts, id)?,
        Format::Json => out.json(&as_json(&facts, id))?,
    }
    out.finish()?;
    Ok(ExitCode::SUCCESS)
}

/// The entry's facts, as pairs of a word and what it is.
fn entry(facts: &Facts<'_>, id: VarId) -> Vec<(&'static str, String)> {
    let registry = facts.registry();
    let variable = registry.var(id);
    let owner = registry.owner(variable.owner);
    let mut rows = vec![
        ("type", format!("{}, {} scope", type_key(variable.ty), variable.scope.word())),
        ("starts as", registry.starts_as(variable)),
    ];
    let range = super::list::range(registry, id);
    if !range.is_empty() {
        rows.push((if variable.values.is_empty() { "range" } else { "values" }, range));
    }
    if let Value::Num(num) = &facts.world.reach[id.index()]
        && !num.is_empty()
    {
        rows.push(("reaches", range_text(num.lo, num.hi)));
    }
    rows.push(("lifetime", variable.lifetime.word().to_owned()));
    if variable.constant {
        rows.push(("writers", "nobody: it is a constant".to_owned()));
    } else {
        rows.push(("writers", writers(registry, id)));
    }
    let steward = variable.steward.as_ref().or(owner.steward.as_ref());
    rows.extend(steward.map(|steward| ("steward", steward.clone())));
    if !variable.tags.is_empty() {
        rows.push(("tags", variable.tags.join(", ")));
    }
    rows.extend(overrides(registry, id));
    rows
}

fn writers(registry: &Registry, id: VarId) -> String {
    let variable = registry.var(id);
    match &variable.writers {
        None => "anyone".to_owned(),
        Some(others) => {
            let all = std::iter::once(&variable.owner).chain(others);
            let names: Vec<&str> = all.map(|&owner| &*registry.owner(owner).name).collect();
            names.join(", ")
        }
    }
}

fn overrides(registry: &Registry, id: VarId) -> Vec<(&'static str, String)> {
    let starts =
        registry.instances.iter().flat_map(|instance| instance.start.iter().map(move |start| (instance, start)));
    let own: Vec<String> = starts
        .filter(|(_, start)| start.variable == id)
        .map(|(instance, start)| format!("{} {}", instance.name, registry.value_text(&start.value)))
        .collect();
    if own.is_empty() { Vec::new() } else { vec![("instances", own.join(", "))] }
}

fn text(out: &mut Out, facts: &Facts<'_>, id: VarId) -> io::Result<()> {
    let (strong, faint) = (strong(), faint());
    let registry = facts.registry();
    let variable = registry.var(id);
    let file = facts.project.sources.file(variable.place.header.file);
    let line = file.position(variable.place.header.span.start).line;
    out.line(&format!(
        "{strong}{}{strong:#}  {faint}{}:{line}{faint:#}",
        registry.identity(id),
        plain_line(&file.path)
    ))?;
    if let Some(about) = &variable.about {
        out.line(&plain_line(about))?;
    }
    out.line("")?;
    for (word, what) in entry(facts, id) {
        out.line(&format!("  {word:<10} {}", plain_line(&what)))?;
    }
    let uses: Vec<(&ScriptUnit, &Access)> = facts.uses(CellId(id.0)).collect();
    for (title, writes) in [("Written", true), ("Read", false)] {
        let chosen: Vec<_> = uses.iter().filter(|(_, access)| access.writes() == writes).collect();
        if chosen.is_empty() {
            continue;
        }
        out.line(&format!("\n{strong}{title}{strong:#}"))?;
        for (unit, access) in chosen {
            out.line(&use_line(facts, unit, access))?;
        }
    }
    let steps = lines(facts, &tally(facts, id));
    if !steps.is_empty() {
        out.line(&format!("\n{strong}Steps to the limits{strong:#}"))?;
    }
    for line in steps {
        out.line(&plain_line(&line))?;
    }
    findings(out, facts, id)
}

/// The handler or procedure that a use stands in.
fn body_name(facts: &Facts<'_>, unit: &ScriptUnit, body: Body) -> String {
    match body {
        Body::Procedure(id) => {
            let name = unit.tree.procedures[id.index()].name.span;
            format!("proc {}", facts.project.text(unit, name))
        }
        Body::Handler(at) => match &unit.tree.handlers[at].trigger {
            Trigger::Signal { name, .. } => format!("on {}", facts.project.text(unit, name.span)),
            _ => {
                let head = facts.project.text(unit, unit.tree.handlers[at].head);
                head.split(" when ").next().unwrap_or(head).to_owned()
            }
        },
    }
}

fn use_line(facts: &Facts<'_>, unit: &ScriptUnit, access: &Access) -> String {
    let file = facts.project.sources.file(unit.file);
    let at = file.position(access.at.start);
    let line = file.slice(file.line_span(file.line_index(access.at.start))).trim();
    let faint = faint();
    let place = format!("{}:{}", file.path, at.line);
    format!(
        "  {:<28} {faint}{:<16}{faint:#} {}",
        plain_line(&place),
        plain_line(&body_name(facts, unit, access.body)),
        plain_line(&shorten(line))
    )
}

fn findings(out: &mut Out, facts: &Facts<'_>, id: VarId) -> io::Result<()> {
    let identity = facts.registry().identity(id);
    let report = report::report(facts);
    let own: Vec<_> = report.findings.iter().filter(|told| told.finding.variable.as_ref() == Some(&identity)).collect();
    if own.is_empty() {
        return Ok(());
    }
    let strong = strong();
    out.line(&format!("\n{strong}Findings{strong:#}"))?;
    for told in own {
        let file = facts.project.sources.file(told.finding.at.file);
        let line = file.position(told.finding.at.span.start).line;
        let level = print::level_style(told.level);
        out.line(&format!(
            "  {level}{}{level:#} {} at {}:{line}",
            told.level.word(),
            told.finding.rule,
            plain_line(&file.path)
        ))?;
    }
    Ok(())
}

fn as_json(facts: &Facts<'_>, id: VarId) -> serde_json::Value {
    let entry: serde_json::Map<String, serde_json::Value> =
        entry(facts, id).into_iter().map(|(word, what)| (word.replace(' ', "_"), json!(what))).collect();
    let uses: Vec<_> = facts
        .uses(CellId(id.0))
        .map(|(unit, access)| {
            let file = facts.project.sources.file(unit.file);
            let at = file.position(access.at.start);
            let kind = match access.kind {
                AccessKind::Read => "read",
                AccessKind::Write(..) => "write",
                AccessKind::Clear => "clear",
            };
            json!({ "file": &*file.path, "line": at.line, "column": at.column, "kind": kind, "in": body_name(facts, unit, access.body) })
        })
        .collect();
    let report = report::report(facts);
    let identity = facts.registry().identity(id);
    let told: Vec<_> =
        report.findings.iter().filter(|told| told.finding.variable.as_ref() == Some(&identity)).collect();
    json!({
        "schema": "oaken-census/variable/1",
        "variable": facts.registry().identity(id),
        "about": facts.registry().var(id).about,
        "entry": entry,
        "uses": uses,
        "steps": lines(facts, &tally(facts, id)).iter().map(|line| line.trim()).collect::<Vec<_>>(),
        "findings": told
            .iter()
            .map(|told| json!({ "rule": told.finding.rule.0, "level": told.level.word(), "message": told.finding.message }))
            .collect::<Vec<_>>(),
    })
}
