//! TOML files in one style: one blank around `=`, no indentation, one empty line above a header, none at a line's end.
//!
//! What stands inside of values is left as it is, and so is the order of everything.

use super::toml::{self, Entry, Table, Value};
use crate::source::Span;

/// A file in the one style; none where it is not TOML.
#[must_use]
pub fn format(text: &str) -> Option<String> {
    let bare = text.strip_prefix('\u{feff}').unwrap_or(text);
    let plain = bare.replace("\r\n", "\n");
    let (table, error) = toml::read(&plain);
    if error.is_some() {
        return None;
    }
    let mut found = Found::default();
    found.table(&table, &plain, true);
    let formatted = found.lines(&plain);
    let same = |text: &str| -> Vec<(Vec<String>, String, bool)> {
        toml::words(text).into_iter().map(|word| (word.path, word.text, word.is_key)).collect()
    };
    if same(&plain) != same(&formatted) {
        return None;
    }
    Some(if bare.contains("\r\n") { formatted.replace('\n', "\r\n") } else { formatted })
}

/// Where values stand that no line may cut, and what stands between keys and values.
#[derive(Default)]
struct Found {
    /// Values of more than one line.
    frozen: Vec<Span>,
    /// From the end of a key to the beginning of its value.
    equals: Vec<Span>,
}

impl Found {
    fn table(&mut self, table: &Table, text: &str, top: bool) {
        for entry in &table.entries {
            self.entry(entry, text, top);
        }
    }

    fn entry(&mut self, entry: &Entry, text: &str, top: bool) {
        let span = entry.item.span;
        let raw = text.get(span.range()).unwrap_or("");
        let header = raw.starts_with('[') && matches!(entry.item.value, Value::Table(_));
        if raw.contains('\n') && !header {
            self.frozen.push(span);
        }
        let between = text.get(entry.key_span.end as usize..span.start as usize).unwrap_or("");
        if top && between.trim() == "=" && !between.contains('\n') {
            self.equals.push(Span { start: entry.key_span.end, end: span.start });
        }
        match &entry.item.value {
            // Inside of an inline table nothing is touched; a header's or a dotted key's entries are lines of their own.
            Value::Table(table) => self.table(table, text, !raw.starts_with('{')),
            Value::Array(items) => {
                for item in items {
                    if let Value::Table(table) = &item.value {
                        let raw = text.get(item.span.range()).unwrap_or("");
                        self.table(table, text, raw.starts_with('['));
                    }
                }
            }
            _ => {}
        }
    }

    fn is_frozen(&self, at: usize) -> bool {
        self.frozen.iter().any(|span| at > span.start as usize && at < span.end as usize)
    }

    fn lines(&self, text: &str) -> String {
        let mut out = String::with_capacity(text.len());
        let (mut start, mut blank, mut comment) = (0, false, false);
        for line in text.split_inclusive('\n') {
            let at = start;
            start += line.len();
            let cut = line.strip_suffix('\n').unwrap_or(line);
            if self.is_frozen(at) {
                out.push_str(cut);
                out.push('\n');
                continue;
            }
            let told = self.line(at, cut);
            if told.is_empty() {
                blank = true;
                continue;
            }
            let heads = told.starts_with('[') || (told.starts_with('#') && above_header(text, start));
            if !out.is_empty() && (blank || (heads && !comment)) {
                out.push('\n');
            }
            out.push_str(&told);
            out.push('\n');
            blank = false;
            comment = told.starts_with('#');
        }
        out
    }

    /// A line without white space at its ends, and with one blank around its `=`.
    fn line(&self, at: usize, line: &str) -> String {
        let mut told = String::with_capacity(line.len());
        let mut from = 0;
        let inside = |span: &&Span| span.start as usize >= at && (span.end as usize) <= at + line.len();
        for span in self.equals.iter().filter(inside) {
            told.push_str(&line[from..span.start as usize - at]);
            told.push_str(" = ");
            from = span.end as usize - at;
        }
        told.push_str(&line[from..]);
        let trimmed = if self.is_frozen(at + line.len()) { told.trim_start() } else { told.trim() };
        trimmed.to_owned()
    }
}

/// Whether the lines behind a comment lead, comment by comment, to a header.
fn above_header(text: &str, from: usize) -> bool {
    let rest = text.get(from..).unwrap_or("");
    let next = rest.lines().map(str::trim).find(|line| !line.starts_with('#'));
    next.is_some_and(|line| line.starts_with('['))
}
