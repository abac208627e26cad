//! What a check has to say: one finding, at one place, under one rule.

use crate::source::Location;

/// How much a finding matters.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum Level {
    /// Not reported.
    Off,
    /// Worth a look.
    Note,
    /// Probably wrong.
    Warning,
    /// Wrong.
    Error,
}

impl Level {
    /// The word used in files and output.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Off => "off",
            Self::Note => "note",
            Self::Warning => "warning",
            Self::Error => "error",
        }
    }

    /// The level of a word.
    #[must_use]
    pub fn parse(word: &str) -> Option<Self> {
        [Self::Off, Self::Note, Self::Warning, Self::Error].into_iter().find(|level| level.word() == word)
    }
}

/// The name of a rule, `family/slug`.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub struct RuleName(pub &'static str);

impl std::fmt::Display for RuleName {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.0)
    }
}

impl RuleName {
    /// The part before the slash.
    #[must_use]
    pub fn family(self) -> &'static str {
        self.0.split('/').next().unwrap_or(self.0)
    }
}

/// The rules that the readers themselves report under. All others live in `rules`.
pub mod reader_rules {
    use super::RuleName;

    /// A script that can't be read.
    pub const SYNTAX: RuleName = RuleName("syntax/error");
    /// Anything wrong in an entry that has no rule of its own.
    pub const BAD_ENTRY: RuleName = RuleName("registry/bad-entry");
    /// Two things of one name.
    pub const DUPLICATE: RuleName = RuleName("registry/duplicate");
    /// Two variables in one slot.
    pub const DUPLICATE_SLOT: RuleName = RuleName("registry/duplicate-slot");
    /// A name that means nothing.
    pub const UNKNOWN_NAME: RuleName = RuleName("registry/unknown-name");
    /// A name that means two things.
    pub const AMBIGUOUS_NAME: RuleName = RuleName("registry/ambiguous-name");
    /// A signal that is not declared.
    pub const UNKNOWN_SIGNAL: RuleName = RuleName("registry/unknown-signal");
    /// A value of another type than wanted.
    pub const MISMATCH: RuleName = RuleName("type/mismatch");
    /// A fraction where a whole number is wanted.
    pub const FRACTION_LOST: RuleName = RuleName("type/fraction-lost");
    /// A text that an enum does not have.
    pub const UNKNOWN_VALUE: RuleName = RuleName("range/unknown-value");
    /// An instance variable without an instance.
    pub const WHICH_INSTANCE: RuleName = RuleName("sharing/which-instance");
}

/// Another place that belongs to a finding.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Related {
    /// Where.
    pub at: Location,
    /// What stands there.
    pub message: String,
}

/// One thing that is wrong, or may be.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Finding {
    /// The rule.
    pub rule: RuleName,
    /// Where.
    pub at: Location,
    /// The identity of the variable that it is about.
    pub variable: Option<String>,
    /// What happens, in the player's terms.
    pub message: String,
    /// The cure, in one line.
    pub help: Option<String>,
    /// Other places.
    pub related: Vec<Related>,
}

impl Finding {
    /// A finding with a message alone.
    #[must_use]
    pub fn new(rule: RuleName, at: Location, message: impl Into<String>) -> Self {
        Self { rule, at, variable: None, message: message.into(), help: None, related: Vec::new() }
    }

    /// Adds the cure.
    #[must_use]
    pub fn help(mut self, help: impl Into<String>) -> Self {
        self.help = Some(help.into());
        self
    }

    /// Adds the variable.
    #[must_use]
    pub fn about(mut self, variable: impl Into<String>) -> Self {
        self.variable = Some(variable.into());
        self
    }

    /// Adds another place.
    #[must_use]
    pub fn with(mut self, at: Location, message: impl Into<String>) -> Self {
        self.related.push(Related { at, message: message.into() });
        self
    }
}
