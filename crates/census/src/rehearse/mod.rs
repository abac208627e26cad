//! Plays scripts without the game: the meaning of a run, with concrete values.
//!
//! [`machine`] keeps time, the queue and the scenes; [`activation`] runs bodies over the same control-flow graphs that the
//! checks use; [`evaluate`] works out expressions; [`settle`] writes and judges; [`memory`] holds the values, where
//! [`layout`] says. A run is the same every time: the only source of chance is a generator with a seed.

pub mod activation;
pub mod evaluate;
pub mod fault;
pub mod layout;
pub mod machine;
pub mod memory;
mod settle;
pub mod value;

use crate::project::{Cell, CellId};
use layout::{InstanceAt, Layout};
use memory::Memory;

/// A cell's name with its instance: `dawn_boat.parcels`, `tide.height`; a private stands behind its script's owner.
#[must_use]
pub fn cell_name(layout: &Layout<'_>, memory: &Memory<'_, '_>, cell: CellId, of: Option<InstanceAt>) -> String {
    let project = layout.project;
    let (owner, name) = match project.cells[cell.index()] {
        Cell::Variable(id) => (Some(project.registry.var(id).owner), project.registry.var(id).name.to_string()),
        Cell::Private(script, index) => {
            let unit = project.script(script);
            (unit.owner, project.text(unit, unit.tree.privates[index as usize].name.span).to_owned())
        }
    };
    let whose = match of {
        Some(of) => memory.name(of),
        None => owner.map_or_else(String::new, |owner| project.registry.owner(owner).name.to_string()),
    };
    format!("{whose}.{name}")
}
