//! The rules: one module for each, holding what it looks for, how it words it, its explanation and its tests.
//!
//! A rule is a constant [`Rule`] in the list [`all`]. It sees the read-only [`Facts`] and gives findings; levels,
//! waivers and accepted findings are applied afterwards, in [`crate::report`]. The rules that the readers themselves
//! report under (`syntax/error`, much of `registry` and `type`) have a module for their explanation and tests alone.

pub mod facts;
pub mod flow;
pub mod init;
pub mod invariant;
pub mod range;
pub mod registry;
pub mod shadow;
pub mod sharing;
pub mod syntax;
pub mod types;
pub mod unused;

#[cfg(test)]
pub mod testing;
#[cfg(test)]
mod tests;

pub use facts::Facts;

use crate::finding::{Finding, Level, RuleName};

/// A short project that shows a rule: registry entries, and one script.
#[derive(Clone, Copy, Debug)]
pub struct Example {
    /// Registry entries, beside those that all examples share.
    pub registry: &'static str,
    /// The script; several stand one behind the other, each from its header on.
    pub script: &'static str,
}

/// A rule.
#[derive(Clone, Copy)]
pub struct Rule {
    /// Its name.
    pub name: RuleName,
    /// Its level, unless the project sets another.
    pub level: Level,
    /// What it means.
    pub means: &'static str,
    /// Why it hurts in play.
    pub hurts: &'static str,
    /// An example that it flags.
    pub bad: Example,
    /// The same, mended.
    pub good: Example,
    /// How it looks; none for the rules that the readers report under.
    pub check: Option<fn(&Facts<'_>) -> Vec<Finding>>,
}

/// The owners and signals that all examples share.
pub const EXAMPLE_BASE: &str = r#"[owners.tide]
kind = "system"

[owners.office]
kind = "system"

[owners.harbor]
kind = "scene"

[owners.marsh]
kind = "scene"

[owners.mailboat]
kind = "actor"
count = "many"

[owners.parcel]
kind = "actor"
count = "many"

[owners.lighthouse]
kind = "actor"

[instances.dawn_boat]
of = "mailboat"
scene = "harbor"

[signals.touched]
from = "engine"
parameters = { other = "actor" }

[signals.bell]
from = "engine"
to = "all"

[signals.bumped]
from = "engine"
bursts = true
parameters = { other = "actor" }

[signals.tide_turned]
from = "script"
"#;

/// All rules, by family.
#[must_use]
pub fn all() -> Vec<&'static Rule> {
    let families: [&[&'static Rule]; 10] = [
        syntax::RULES,
        registry::RULES,
        types::RULES,
        init::RULES,
        shadow::RULES,
        unused::RULES,
        sharing::RULES,
        range::RULES,
        invariant::RULES,
        flow::RULES,
    ];
    families.into_iter().flatten().copied().collect()
}

/// The rule of a name.
#[must_use]
pub fn find(name: &str) -> Option<&'static Rule> {
    all().into_iter().find(|rule| rule.name.0 == name)
}

/// The names of all families.
#[must_use]
pub fn families() -> Vec<&'static str> {
    let mut names: Vec<&str> = all().iter().map(|rule| rule.name.family()).collect();
    names.dedup();
    names
}
