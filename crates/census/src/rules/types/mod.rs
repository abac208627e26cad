//! Values of the wrong kind.

pub mod fraction_lost;
pub mod mismatch;
pub mod plus_sign_assign;
pub mod raw_fraction_shown;

use super::Rule;

/// The rules of this family.
pub const RULES: &[&Rule] =
    &[&fraction_lost::RULE, &mismatch::RULE, &plus_sign_assign::RULE, &raw_fraction_shown::RULE];
