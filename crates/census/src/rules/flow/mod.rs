//! Ways through a handler.

pub mod copy_slip;
pub mod endless_loop;
pub mod match_gap;
pub mod wait_in_tick;

use super::Rule;

/// The rules of this family.
pub const RULES: &[&Rule] = &[&endless_loop::RULE, &wait_in_tick::RULE, &match_gap::RULE, &copy_slip::RULE];
