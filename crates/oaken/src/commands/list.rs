//! `oaken list`

use super::Outcome;
use crate::print::csv::Csv;
use crate::{Failure, print};
use census::edit::type_key;
use census::project::{CellId, Project};
use census::registry::{Bound, Registry, VarId};
use census::rules::Facts;
use census::words::{count, did_you_mean, number};
use serde_json::json;
use std::path::Path;
use std::process::ExitCode;

/// Options of `oaken list`.
#[derive(clap::Args)]
pub struct Options {
    /// Only this owner's variables.
    #[arg(long)]
    owner: Option<String>,
    /// Only variables of this scope.
    #[arg(long)]
    scope: Option<String>,
    /// Only variables of this type.
    #[arg(long = "type", value_name = "TYPE")]
    ty: Option<String>,
    /// Only what this person or team answers for.
    #[arg(long)]
    steward: Option<String>,
    /// Only variables with this tag.
    #[arg(long)]
    tag: Option<String>,
    /// Only variables that nothing reads or writes.
    #[arg(long)]
    unused: bool,
    /// The order of the rows.
    #[arg(long, value_enum, default_value = "name")]
    sort: Sort,
    /// How the list is written.
    #[arg(long, value_enum, default_value = "text")]
    format: Format,
}

#[derive(Clone, Copy, clap::ValueEnum)]
enum Sort {
    /// By identity.
    Name,
    /// By type, then identity.
    Type,
    /// By scope, then identity.
    Scope,
    /// By how many places use it, the most used first.
    Uses,
    /// As in the files.
    File,
}

#[derive(Clone, Copy, clap::ValueEnum)]
enum Format {
    /// For people.
    Text,
    /// For programs.
    Json,
    /// For a spreadsheet.
    Csv,
}

/// The columns, in text and in CSV.
const COLUMNS: [&str; 7] = ["variable", "type", "scope", "starts as", "range", "uses", "about"];

/// Lists variables.
pub fn run(folder: Option<&Path>, options: &Options) -> Outcome {
    let project = super::open(folder)?;
    check_filters(&project.registry, options)?;
    let facts = Facts::new(&project);
    let mut chosen: Vec<VarId> = project.registry.var_ids().filter(|&id| fits(&facts, id, options)).collect();
    sort(&facts, &mut chosen, options.sort);
    let mut out = print::Out::new();
    match options.format {
        Format::Json => {
            let rows: Vec<_> = chosen.iter().map(|&id| as_json(&facts, id)).collect();
            let document =
                json!({ "schema": "oaken-census/variables/1", "project": project.config.name, "variables": rows });
            out.json(&document)?;
        }
        Format::Csv => {
            let mut csv = Csv::new(&COLUMNS)?;
            for &id in &chosen {
                csv.row(row(&facts, id))?;
            }
            out.write(&csv.finish()?)?;
        }
        Format::Text => text(&mut out, &project, &facts, &chosen)?,
    }
    out.finish()?;
    Ok(ExitCode::SUCCESS)
}

fn text(out: &mut print::Out, project: &Project, facts: &Facts<'_>, chosen: &[VarId]) -> Result<(), Failure> {
    let rows: Vec<Vec<String>> = chosen.iter().map(|&id| row(facts, id)).collect();
    if rows.is_empty() {
        out.line("No variable fits.")?;
        return Ok(());
    }
    print::table::print(out, &COLUMNS, &rows)?;
    let all = project.registry.variables.len();
    let of = if rows.len() == all { String::new() } else { format!(" of {all}") };
    out.line(&format!("\n{}{of}", count(rows.len(), "variable")))?;
    Ok(())
}

/// A filter that can fit nothing is a slip, not an empty answer.
fn check_filters(registry: &Registry, options: &Options) -> Result<(), Failure> {
    let stewards = registry.owners.iter().filter_map(|owner| owner.steward.as_deref());
    let stewards: Vec<&str> = stewards.chain(registry.variables.iter().filter_map(|v| v.steward.as_deref())).collect();
    let tags: Vec<&str> = registry.variables.iter().flat_map(|v| v.tags.iter().map(String::as_str)).collect();
    let owners: Vec<&str> = registry.owners.iter().map(|owner| &*owner.name).collect();
    let scopes = vec!["global", "scene", "type", "instance"];
    let types = vec!["bool", "int", "number", "text", "enum", "ref", "vec2", "vec3"];
    for (what, given, known) in [
        ("owner", &options.owner, owners),
        ("scope", &options.scope, scopes),
        ("type", &options.ty, types),
        ("steward", &options.steward, stewards),
        ("tag", &options.tag, tags),
    ] {
        if let Some(given) = given
            && !known.contains(&given.as_str())
        {
            let near = did_you_mean(given, known).map_or(String::new(), |near| format!("; {near}"));
            return Err(Failure(format!("there is no {what} `{given}`{near}")));
        }
    }
    Ok(())
}

fn steward(registry: &Registry, id: VarId) -> Option<&str> {
    let variable = registry.var(id);
    variable.steward.as_deref().or(registry.owner(variable.owner).steward.as_deref())
}

fn fits(facts: &Facts<'_>, id: VarId, options: &Options) -> bool {
    let registry = facts.registry();
    let variable = registry.var(id);
    let same = |wanted: &Option<String>, own: &str| wanted.as_ref().is_none_or(|wanted| wanted == own);
    same(&options.owner, &registry.owner(variable.owner).name)
        && same(&options.scope, variable.scope.word())
        && same(&options.ty, type_key(variable.ty))
        && options.steward.as_deref().is_none_or(|wanted| steward(registry, id) == Some(wanted))
        && options.tag.as_ref().is_none_or(|wanted| variable.tags.contains(wanted))
        && (!options.unused || census::rules::unused::variable::is_unused(facts, CellId(id.0)))
}

fn uses(facts: &Facts<'_>, id: VarId) -> usize {
    facts.uses(CellId(id.0)).count()
}

fn sort(facts: &Facts<'_>, chosen: &mut [VarId], by: Sort) {
    let registry = facts.registry();
    match by {
        Sort::Name => chosen.sort_by_key(|&id| registry.identity(id)),
        Sort::Type => chosen.sort_by_key(|&id| (type_key(registry.var(id).ty), registry.identity(id))),
        Sort::Scope => chosen.sort_by_key(|&id| (registry.var(id).scope.word(), registry.identity(id))),
        Sort::Uses => chosen.sort_by_key(|&id| (usize::MAX - uses(facts, id), registry.identity(id))),
        Sort::File => chosen.sort_by_key(|&id| registry.var(id).place.header),
    }
}

/// "0 to hold_size"
pub fn range(registry: &Registry, id: VarId) -> String {
    let end = |bound: &Option<Bound>| match bound {
        None => None,
        Some(Bound::Number(value)) => Some(number(*value)),
        Some(Bound::Variable(other)) if registry.var(*other).owner == registry.var(id).owner => {
            Some(registry.var(*other).name.to_string())
        }
        Some(Bound::Variable(other)) => Some(registry.identity(*other)),
    };
    let variable = registry.var(id);
    match (end(&variable.min), end(&variable.max)) {
        (Some(low), Some(high)) => format!("{low} to {high}"),
        (Some(low), None) => format!("{low} or more"),
        (None, Some(high)) => format!("{high} or less"),
        (None, None) if !variable.values.is_empty() => variable.values.join(", "),
        (None, None) => String::new(),
    }
}

fn row(facts: &Facts<'_>, id: VarId) -> Vec<String> {
    let registry = facts.registry();
    let variable = registry.var(id);
    let default = registry.starts_as(variable);
    vec![
        registry.identity(id),
        type_key(variable.ty).to_owned(),
        variable.scope.word().to_owned(),
        default,
        range(registry, id),
        uses(facts, id).to_string(),
        variable.about.clone().unwrap_or_default(),
    ]
}

fn as_json(facts: &Facts<'_>, id: VarId) -> serde_json::Value {
    let registry = facts.registry();
    let variable = registry.var(id);
    let bound = |bound: &Option<Bound>| match bound {
        None => serde_json::Value::Null,
        Some(Bound::Number(value)) => json!(value),
        Some(Bound::Variable(other)) => json!(registry.identity(*other)),
    };
    let file = facts.project.sources.file(variable.place.header.file);
    json!({
        "variable": registry.identity(id),
        "owner": &*registry.owner(variable.owner).name,
        "type": type_key(variable.ty),
        "scope": variable.scope.word(),
        "default": variable.default.as_ref().map(|value| registry.value_text(value)),
        "min": bound(&variable.min),
        "max": bound(&variable.max),
        "values": variable.values.iter().map(|value| &**value).collect::<Vec<_>>(),
        "constant": variable.constant,
        "lifetime": variable.lifetime.word(),
        "steward": steward(registry, id),
        "tags": variable.tags,
        "about": variable.about,
        "uses": uses(facts, id),
        "file": &*file.path,
        "line": file.position(variable.place.header.span.start).line,
    })
}
