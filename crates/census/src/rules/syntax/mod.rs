//! What can not be read.

pub mod error;

use super::Rule;

/// The rules of this family.
pub const RULES: &[&Rule] = &[&error::RULE];
