//! What changes of the registry would do: to what the checks find, to tallies, to rehearsals.

use crate::edit::change::{Tables, change_patches};
use crate::edit::patch::{apply, rebuilt};
use crate::edit::{self, Refused};
use crate::finding::Level;
use crate::flow::world::graphs;
use crate::project::Project;
use crate::registry::{Bound, End, Registry, VarId};
use crate::rehearsal::play::play;
use crate::rehearsal::read;
use crate::rehearsal::record::Wanted;
use crate::rehearse::layout::Layout;
use crate::report::{self, Told};
use crate::rules::Facts;
use crate::sheet;
use crate::source::FileKind;
use crate::tally::{self, lines};
use rayon::prelude::*;

/// What the changes would do.
#[derive(Clone, Debug, Default)]
pub struct Effects {
    /// Findings that would come, as `place level rule: message`.
    pub gained: Vec<String>,
    /// Findings that would go.
    pub lost: Vec<String>,
    /// Tallies that would change: the variable, its lines before, its lines after.
    pub tallies: Vec<(String, Vec<String>, Vec<String>)>,
    /// Rehearsals whose outcome would change: the file, before, after.
    pub rehearsals: Vec<(String, &'static str, &'static str)>,
}

impl Effects {
    /// Whether nothing at all would change.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.gained.is_empty() && self.lost.is_empty() && self.tallies.is_empty() && self.rehearsals.is_empty()
    }
}

/// Works out what changes `ID.KEY=VALUE` would do. Nothing is written.
///
/// # Errors
/// A change that can't be read, or of a variable or a key that does not exist.
pub fn whatif(project: &Project, changes: &[String]) -> Result<Effects, Refused> {
    let (mut patches, mut tables) = (Vec::new(), Tables::default());
    let mut changed: Vec<VarId> = Vec::new();
    for change in changes {
        let (id, key, value) = read_change(project, change)?;
        let (set, unset) = if value.is_empty() {
            (Vec::new(), vec![key.to_owned()])
        } else {
            (vec![sheet::key_given(key, value)?], Vec::new())
        };
        patches.extend(change_patches(project, &mut tables, id, &set, &unset)?);
        changed.push(id);
    }
    let after = rebuilt(project, &apply(project, patches));
    let (old, new) = (Facts::new(project), Facts::new(&after));
    let mut effects = Effects::default();
    findings(&old, &new, &mut effects);
    for id in project.registry.var_ids().filter(|&id| concerned(&project.registry, id, &changed)) {
        let (before, after) = (lines(&old, &tally::tally(&old, id)), lines(&new, &tally::tally(&new, id)));
        if before != after {
            effects.tallies.push((project.registry.identity(id), before, after));
        }
    }
    rehearsals(project, &after, &mut effects);
    Ok(effects)
}

fn read_change<'c>(project: &Project, change: &'c str) -> Result<(VarId, &'c str, &'c str), Refused> {
    let wrong =
        || Refused(format!("`{change}` is no change: write ID.KEY=VALUE, as in `mailboat.hold_size.default=40`"));
    let (left, value) = change.split_once('=').ok_or_else(wrong)?;
    if project.registry.find(left.trim()).is_some() {
        return Err(Refused(format!("say which key of `{0}`, as in `{0}.default={1}`", left.trim(), value.trim())));
    }
    let (name, key) = left.trim().rsplit_once('.').ok_or_else(wrong)?;
    Ok((edit::find_variable(project, name)?, key, value.trim()))
}

/// The changed variables, and those that they bound.
fn concerned(registry: &Registry, id: VarId, changed: &[VarId]) -> bool {
    let bound =
        |end: End| matches!(registry.var(id).bound(end), Some(Bound::Variable(other)) if changed.contains(other));
    changed.contains(&id) || bound(End::Min) || bound(End::Max)
}

fn findings(old: &Facts<'_>, new: &Facts<'_>, effects: &mut Effects) {
    let (before, after) = (report::report(old), report::report(new));
    let is_in = |told: &Told, all: &[Told]| all.iter().any(|other| other.fingerprint == told.fingerprint);
    let word = |facts: &Facts<'_>, told: &Told| {
        let file = facts.project.sources.file(told.finding.at.file);
        let line = file.position(told.finding.at.span.start).line;
        format!("{}:{line} {} {}: {}", file.path, told.level.word(), told.finding.rule, told.finding.message)
    };
    let gained = after.findings.iter().filter(|told| told.level > Level::Off && !is_in(told, &before.findings));
    effects.gained = gained.map(|told| word(new, told)).collect();
    let lost = before.findings.iter().filter(|told| told.level > Level::Off && !is_in(told, &after.findings));
    effects.lost = lost.map(|told| word(old, told)).collect();
}

fn rehearsals(old: &Project, new: &Project, effects: &mut Effects) {
    let outcomes = |project: &Project| -> Vec<(String, &'static str)> {
        let all_graphs = graphs(project);
        let layout = Layout::new(project, &all_graphs);
        let files: Vec<_> = project.sources.of_kind(FileKind::Rehearsal).collect();
        files
            .par_iter()
            .map(|&file| {
                let outcome = match read::read(project, file) {
                    Err(_) => "can't be played",
                    Ok(rehearsal) if play(&layout, &rehearsal, Wanted::default()).passed() => "passes",
                    Ok(_) => "fails",
                };
                (project.sources.file(file).path.to_string(), outcome)
            })
            .collect()
    };
    for ((file, before), (_, after)) in outcomes(old).into_iter().zip(outcomes(new)) {
        if before != after {
            effects.rehearsals.push((file, before, after));
        }
    }
}
