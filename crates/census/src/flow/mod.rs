//! What can happen: the flow analysis that the rules about values stand on.
//!
//! Three layers, from the ground up. [`graph`] lowers bodies to control-flow graphs. [`value`] and [`linear`] say what a
//! place may hold and how places relate; [`state`] puts them together. [`engine`] runs one handler abstractly, with
//! procedures in place, and [`world`] repeats that for all handlers until what they leave behind for each other no
//! longer grows (a fixpoint in the sense of Cousot and Cousot, 1977). The outcome is read-only: rules only word it.

pub mod access;
pub mod called;
pub mod certain;
mod chosen;
pub mod engine;
pub mod eval;
pub mod forms;
pub mod graph;
pub mod judge;
pub mod lasting;
pub mod linear;
mod live;
mod nonlinear;
pub mod shared;
pub mod state;
mod terms;
mod together;
mod trend;
pub mod value;
pub mod world;
