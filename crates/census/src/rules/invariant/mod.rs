//! What must always hold.

pub mod can_break;

use super::Rule;

/// The rules of this family.
pub const RULES: &[&Rule] = &[&can_break::RULE];
