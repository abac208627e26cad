//! A value that is not there yet, or not the right one yet.

pub mod carried_over;
pub mod empty_ref;
pub mod never_set;
pub mod placeholder_shown;
pub mod read_before_set;
pub mod saved_without_default;

use super::Rule;

/// The rules of this family.
pub const RULES: &[&Rule] = &[
    &carried_over::RULE,
    &empty_ref::RULE,
    &never_set::RULE,
    &placeholder_shown::RULE,
    &read_before_set::RULE,
    &saved_without_default::RULE,
];
