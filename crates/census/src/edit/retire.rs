//! Marks variables as retired, and takes out those that nothing uses.

use super::occurrences::{self, Target};
use super::patch::{NewFile, Patch, apply, tried};
use super::{Form, Given, Refused, change, quoted};
use crate::project::Project;
use crate::registry::VarId;
use crate::words::count;

/// Works out an entry marked as retired since a version, with what is to be used instead.
///
/// # Errors
/// What is to be used instead does not exist.
pub fn mark(project: &Project, id: VarId, since: &str, instead: Option<&str>) -> Result<Vec<NewFile>, Refused> {
    let mut pairs = vec![format!("since = {}", quoted(since))];
    if let Some(instead) = instead {
        let other = super::find_variable(project, instead)?;
        if other == id {
            return Err(Refused("a variable can't take its own place".to_owned()));
        }
        pairs.push(format!("use = {}", quoted(&project.registry.identity(other))));
    }
    let given = Given { key: "retired", values: vec![format!("{{ {} }}", pairs.join(", "))], form: Form::Plain };
    change::change(project, id, &[given], &[])
}

/// Works out the registry without an entry that nothing uses.
///
/// # Errors
/// Something uses it: the places are told.
pub fn remove(project: &Project, id: VarId) -> Result<Vec<NewFile>, Refused> {
    let identity = project.registry.identity(id);
    let header = project.registry.var(id).place.header;
    let file = project.sources.file(header.file);
    let mut tables = change::Tables::default();
    let entry = change::find_entry(tables.of(project, header.file), header.span)
        .ok_or_else(|| Refused(format!("the entry of `{identity}` can't be found")))?;
    let own = change::whole_entry(file, entry);
    let others: Vec<String> = occurrences::find(project, Target::Variable(id))
        .into_iter()
        .filter(|occurrence| occurrence.at.file != header.file || !own.contains(occurrence.at.span))
        .map(|occurrence| {
            let file = project.sources.file(occurrence.at.file);
            format!("{}:{}", file.path, file.position(occurrence.at.span.start).line)
        })
        .collect();
    if !others.is_empty() {
        let shown = others.iter().take(5).cloned().collect::<Vec<_>>().join(", ");
        let more = if others.len() > 5 { format!(" and {} more", others.len() - 5) } else { String::new() };
        return Err(Refused(format!(
            "`{identity}` is used in {}: {shown}{more}. `oaken retire {identity}` without `--remove` marks it",
            count(others.len(), "place")
        )));
    }
    let files = apply(project, vec![Patch { file: header.file, span: own, text: String::new() }]);
    tried(project, &files)?;
    Ok(files)
}
