//! Plays scripts without the game: the meaning of a run, with concrete values.
//!
//! [`machine`] keeps time, the queue and the scenes; [`activation`] runs bodies over the same control-flow graphs that the
//! checks use, which [`code`] has as lists of operations; [`evaluate`] works out expressions, the [`plain`] ones at once;
//! [`settle`] writes and judges; [`memory`] holds the values, where [`layout`] says. A run is the same every time: the only
//! source of chance is a generator with a seed.

pub mod activation;
pub mod code;
pub mod condition;
pub mod evaluate;
pub mod fault;
pub mod layout;
pub mod machine;
pub mod memory;
pub mod plain;
mod queue;
mod settle;
mod suspects;
pub mod value;

use crate::project::{Cell, CellId};
use crate::words::number;
use layout::{InstanceAt, Layout};
use memory::Memory;
use value::Value;

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

/// A value as a log or a report writes it: texts in quotes, and a word for what has none.
#[must_use]
pub fn value_text(memory: &Memory<'_, '_>, value: Option<&Value>) -> String {
    let joined = |parts: &[f64]| {
        let parts: Vec<String> = parts.iter().map(|&part| number(part)).collect();
        format!("({})", parts.join(", "))
    };
    match value {
        None => "unset".to_owned(),
        Some(Value::Bool(value)) => value.to_string(),
        Some(Value::Int(value)) => value.to_string(),
        Some(Value::Number(value)) => number(*value),
        Some(Value::Text(text)) => format!("\"{text}\""),
        Some(Value::Ref(None)) => "none".to_owned(),
        Some(Value::Ref(Some(at))) => memory.name(*at),
        Some(Value::Vec2(parts)) => joined(parts),
        Some(Value::Vec3(parts)) => joined(parts),
    }
}
