//! State that more than one hand touches.

mod apart;
mod bodies;
pub mod burst;
pub mod constant_written;
mod differing;
pub mod feedback;
pub mod foreign_write;
pub mod guard;
pub mod last_writer_wins;
pub mod lost_update;
pub mod order_hazard;
pub mod other_scene;
pub mod reentry;
mod resent;
mod rounds;
mod sequence;
pub mod stale_label;
pub mod stale_ref;
pub mod stuck_guard;
pub mod type_through_instance;
pub mod unchecked_kind;
pub mod which_instance;
pub mod wider_than_needed;

use super::Rule;

/// The rules of this family.
pub const RULES: &[&Rule] = &[
    &burst::RULE,
    &constant_written::RULE,
    &feedback::RULE,
    &foreign_write::RULE,
    &last_writer_wins::RULE,
    &lost_update::RULE,
    &order_hazard::RULE,
    &other_scene::RULE,
    &reentry::RULE,
    &stale_label::RULE,
    &stale_ref::RULE,
    &stuck_guard::RULE,
    &type_through_instance::RULE,
    &unchecked_kind::RULE,
    &which_instance::RULE,
    &wider_than_needed::RULE,
];
