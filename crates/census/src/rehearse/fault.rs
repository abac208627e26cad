//! What can go wrong in a run, and where it belongs.

use crate::finding::RuleName;
use crate::source::Location;

/// Something that went wrong.
#[derive(Clone, PartialEq, Debug)]
pub struct Fault {
    /// The rule under which the checks report it.
    pub rule: RuleName,
    /// The expression, or the statement of the write.
    pub at: Location,
    /// When, in ticks since the run began.
    pub tick: u64,
    /// What happened, in plain words.
    pub message: String,
}

/// A read of an unset place.
pub const UNSET: RuleName = RuleName("init/read-before-set");
/// A way through *none*.
pub const EMPTY_REF: RuleName = RuleName("init/empty-ref");
/// A variable of a scene that is not loaded.
pub const OTHER_SCENE: RuleName = RuleName("sharing/other-scene");
/// A variable that another kind of actor has.
pub const OTHER_KIND: RuleName = RuleName("sharing/unchecked-kind");
/// A division by zero.
pub const ZERO: RuleName = RuleName("range/divide-by-zero");
/// A value above its maximum.
pub const ABOVE: RuleName = RuleName("range/can-exceed");
/// A value below its minimum.
pub const BELOW: RuleName = RuleName("range/can-fall-below");
/// An enum with a value that it does not have.
pub const UNKNOWN_VALUE: RuleName = RuleName("range/unknown-value");
/// An invariant that is false.
pub const BROKEN: RuleName = RuleName("invariant/can-break");
