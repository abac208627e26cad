//! A name that means something else than it seems.

pub mod inner_scope;
pub mod local;
pub mod lookalike;

use super::Rule;

/// The rules of this family.
pub const RULES: &[&Rule] = &[&inner_scope::RULE, &local::RULE, &lookalike::RULE];
