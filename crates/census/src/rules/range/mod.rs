//! Values where they should not be.

pub mod always;
pub mod can_exceed;
pub mod can_fall_below;
pub mod circles;
pub mod decided;
pub mod display_clamp_only;
pub mod divide_by_zero;
pub mod guards;
pub mod hardcoded_limit;
pub mod limit_skipped;
pub mod limit_unwatched;
pub mod never;
pub mod outside;
pub mod start_outside;
pub mod unknown_value;

use super::Rule;

/// The rules of this family.
pub const RULES: &[&Rule] = &[
    &always::RULE,
    &can_exceed::RULE,
    &can_fall_below::RULE,
    &display_clamp_only::RULE,
    &divide_by_zero::RULE,
    &hardcoded_limit::RULE,
    &limit_skipped::RULE,
    &limit_unwatched::RULE,
    &never::RULE,
    &start_outside::RULE,
    &unknown_value::RULE,
];
