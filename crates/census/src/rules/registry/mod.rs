//! The registry, and names that lead into it.

pub mod ambiguous_name;
pub mod bad_entry;
pub mod bad_waiver;
pub mod duplicate;
pub mod duplicate_slot;
pub mod name_style;
pub mod retired_used;
pub mod undocumented;
pub mod unknown_name;
pub mod unknown_signal;

use super::Rule;

/// The rules of this family.
pub const RULES: &[&Rule] = &[
    &ambiguous_name::RULE,
    &bad_entry::RULE,
    &bad_waiver::RULE,
    &duplicate::RULE,
    &duplicate_slot::RULE,
    &name_style::RULE,
    &retired_used::RULE,
    &undocumented::RULE,
    &unknown_name::RULE,
    &unknown_signal::RULE,
];
