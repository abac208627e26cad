//! State that more than one hand touches.

pub mod constant_written;
pub mod foreign_write;
pub mod lost_update;
pub mod other_scene;
pub mod type_through_instance;
pub mod unchecked_kind;
pub mod which_instance;

use super::Rule;

/// The rules of this family.
pub const RULES: &[&Rule] = &[&constant_written::RULE, &foreign_write::RULE, &lost_update::RULE, &other_scene::RULE, &type_through_instance::RULE, &unchecked_kind::RULE, &which_instance::RULE];
