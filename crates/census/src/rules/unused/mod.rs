//! State that does nothing.

pub mod dead_write;
pub mod enum_value;
pub mod local;
pub mod never_changes;
pub mod never_read;
pub mod override_;
pub mod procedure;
pub mod signal;
pub mod unreachable;
pub mod variable;
pub mod waiver;

use super::Rule;

/// The rules of this family.
pub const RULES: &[&Rule] = &[
    &dead_write::RULE,
    &enum_value::RULE,
    &local::RULE,
    &never_changes::RULE,
    &never_read::RULE,
    &override_::RULE,
    &procedure::RULE,
    &signal::RULE,
    &unreachable::RULE,
    &variable::RULE,
    &waiver::RULE,
];
