//! The event-script language: from bytes to a typed tree that keeps the place of every byte.
//!
//! [`lexer`] cuts a file into tokens, comments among them; what lies between two tokens is white space, so tokens and
//! text together are the whole file. [`parser`] builds the tree of [`ast`] over them and goes on at the next statement
//! after a mistake. Nothing here knows the registry: names are spans, and what they mean is found in `project`.

pub mod ast;
pub mod format;
pub mod lexer;
pub mod parser;

pub use parser::parse;
