//! Expressions that stand outside of scripts: what a rehearsal expects.

use super::names::NameTable;
use super::{ScriptUnit, resolve};
use crate::registry::Registry;
use crate::script::ast::ExprId;
use crate::script::parser;
use crate::source::FileId;
use std::sync::Arc;

/// A condition over the registry, read and resolved.
#[derive(Debug)]
pub struct Condition {
    /// Its tree and tables, as a script without handlers.
    pub unit: ScriptUnit,
    /// The whole of it.
    pub root: ExprId,
    /// As it was written.
    pub text: Arc<str>,
}

/// Why an expression can't be read.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Unreadable {
    /// In plain words.
    pub message: String,
    /// The cure, where one is known.
    pub help: Option<String>,
}

/// Reads conditions over one registry.
pub struct Conditions<'a> {
    names: NameTable<'a>,
}

impl<'a> Conditions<'a> {
    /// A reader over a registry.
    #[must_use]
    pub fn new(registry: &'a Registry) -> Self {
        Self { names: NameTable::new(registry) }
    }

    /// Reads a condition that stands in `file`.
    ///
    /// # Errors
    /// It does not parse, or a name or a type in it is wrong: the first mistake is told.
    pub fn read(&self, text: &str, file: FileId) -> Result<Condition, Unreadable> {
        let (mut tree, root) = parser::parse_expression(text);
        if let Some(error) = tree.errors.drain(..).next() {
            return Err(Unreadable { message: error.message, help: error.help });
        }
        let Some(root) = root else {
            return Err(Unreadable { message: "a condition is wanted".to_owned(), help: None });
        };
        let text: Arc<str> = text.into();
        let resolved = resolve::expectation(&text, file, tree, root, &self.names);
        match resolved.findings.into_iter().next() {
            Some(finding) => Err(Unreadable { message: finding.message, help: finding.help }),
            None => Ok(Condition { unit: resolved.unit, root, text }),
        }
    }
}
