//! TOML as it stands in a file: every key and value with its place, in order, and nothing thrown away.
//!
//! A strict reader stops at the second `[variables.a.b]`; here that is a finding about the registry, not the end of the
//! file. So this keeps all of them: the tree is built from the events of `toml_parser`.

use crate::source::Span;
use rustc_hash::FxHashMap;
use std::borrow::Cow;
use toml_parser::decoder::{Encoding, ScalarKind};
use toml_parser::lexer::{Token, TokenKind};
use toml_parser::parser::{EventReceiver, RecursionGuard, parse_document};
use toml_parser::{ErrorSink, ParseError, Source};

/// A value, and where it stands.
#[derive(Clone, Debug)]
pub struct Item {
    /// The value.
    pub value: Value,
    /// Where; of a table with a header, the header.
    pub span: Span,
}

/// A TOML value.
#[derive(Clone, Debug)]
#[allow(missing_docs, reason = "the kinds are TOML's own")]
pub enum Value {
    Bool(bool),
    Int(i64),
    Float(f64),
    Text(String),
    Date,
    Array(Vec<Item>),
    Table(Table),
}

impl Value {
    /// What it is, for messages.
    #[must_use]
    pub fn kind(&self) -> &'static str {
        match self {
            Self::Bool(_) => "true or false",
            Self::Int(_) => "a whole number",
            Self::Float(_) => "a number with a fraction",
            Self::Text(_) => "a text",
            Self::Date => "a date",
            Self::Array(_) => "a list",
            Self::Table(_) => "a table",
        }
    }
}

/// A key with its value.
#[derive(Clone, Debug)]
pub struct Entry {
    /// The key, decoded.
    pub key: String,
    /// Where the key stands.
    pub key_span: Span,
    /// The value.
    pub item: Item,
}

impl Entry {
    /// The table that it holds, if that is what it holds.
    #[must_use]
    pub fn table(&self) -> Option<&Table> {
        if let Value::Table(table) = &self.item.value { Some(table) } else { None }
    }
}

/// A table: its entries in order, repeated keys included.
#[derive(Clone, Debug, Default)]
pub struct Table {
    /// The entries.
    pub entries: Vec<Entry>,
    /// The latest entry of each key, once there are many.
    latest: FxHashMap<String, usize>,
    /// Whether a header or a value made it, rather than a longer header that passes through it.
    explicit: bool,
}

/// How many entries of a table are looked through one by one.
const FEW: usize = 12;

impl Table {
    /// The first entry of a key.
    #[must_use]
    pub fn get(&self, key: &str) -> Option<&Entry> {
        self.latest(key)?;
        self.entries.iter().find(|entry| entry.key == key)
    }

    /// Where the latest entry of a key is.
    fn latest(&self, key: &str) -> Option<usize> {
        if self.latest.is_empty() {
            return self.entries.iter().rposition(|entry| entry.key == key);
        }
        self.latest.get(key).copied()
    }

    /// Gives an entry another key.
    pub(super) fn rename(&mut self, at: usize, key: &str) {
        key.clone_into(&mut self.entries[at].key);
        if !self.latest.is_empty() {
            self.latest = self.entries.iter().enumerate().map(|(at, entry)| (entry.key.clone(), at)).collect();
        }
    }

    fn push(&mut self, entry: Entry) {
        self.entries.push(entry);
        let known = if self.latest.is_empty() { 0 } else { self.entries.len() - 1 };
        if self.entries.len() > FEW {
            let new = self.entries[known..].iter().zip(known..);
            self.latest.extend(new.map(|(entry, at)| (entry.key.clone(), at)));
        }
    }

    /// The table that a key leads through, made if need be.
    fn descend(&mut self, key: &Key) -> &mut Table {
        let found = self.latest(&key.text).filter(|&at| {
            matches!(&self.entries[at].item.value, Value::Table(_))
                || matches!(&self.entries[at].item.value, Value::Array(items)
                    if items.last().is_some_and(|item| matches!(item.value, Value::Table(_))))
        });
        let at = found.unwrap_or_else(|| {
            let item = Item { value: Value::Table(Table::default()), span: key.span };
            self.push(Entry { key: key.text.clone(), key_span: key.span, item });
            self.entries.len() - 1
        });
        match &mut self.entries[at].item.value {
            Value::Table(table) => table,
            Value::Array(items) => match items.last_mut().map(|item| &mut item.value) {
                Some(Value::Table(table)) => table,
                _ => unreachable!("only arrays that end in a table were kept above"),
            },
            _ => unreachable!("only tables were kept above"),
        }
    }
}

/// Where reading a file stopped making sense.
#[derive(Clone, Debug)]
pub struct TomlError {
    /// Where.
    pub span: Span,
    /// Why.
    pub message: String,
}

/// Reads a file. The first mistake is given beside what could be read around it.
#[must_use]
pub fn read(text: &str) -> (Table, Option<TomlError>) {
    read_each(text, "", |_| ())
}

/// Reads a file, and hands over the tables of one list at the top as soon as each is complete: there may be very many, and
/// then they need not all be held at once. What is handed over is not in the table that is given.
pub fn read_each(text: &str, key: &str, take: impl FnMut(Item)) -> (Table, Option<TomlError>) {
    let start = if text.starts_with('\u{feff}') { '\u{feff}'.len_utf8() } else { 0 };
    let mut errors: Vec<ParseError> = Vec::new();
    let mut builder = Builder::new(Source::new(text), key, take);
    in_pieces(Source::new(text), |tokens| {
        let mut guard = RecursionGuard::new(&mut builder, 64);
        parse_document(tokens, &mut guard, &mut errors);
    });
    let root = builder.finish();
    let error =
        errors.into_iter().map(|error| describe(&error, text.len(), start)).min_by_key(|error| error.span.start);
    (root, error)
}

/// How many tokens are held at least before they are parsed.
const PIECE: usize = 1 << 14;

/// Calls `parse` for one stretch of a file after another, each up to a header: so not all tokens must be held at once.
fn in_pieces(source: Source<'_>, mut parse: impl FnMut(&[Token])) {
    let mut piece: Vec<Token> = Vec::new();
    let mut depth = 0_u32;
    for token in source.lex() {
        let begins_line = piece.last().is_some_and(|last| last.kind() == TokenKind::Newline);
        match token.kind() {
            TokenKind::LeftSquareBracket if depth == 0 && begins_line && piece.len() >= PIECE => {
                parse(&piece);
                piece.clear();
                depth = 1;
            }
            TokenKind::LeftSquareBracket | TokenKind::LeftCurlyBracket => depth += 1,
            TokenKind::RightSquareBracket | TokenKind::RightCurlyBracket => depth = depth.saturating_sub(1),
            _ => {}
        }
        piece.push(token);
    }
    parse(&piece);
}

fn describe(error: &ParseError, length: usize, start: usize) -> TomlError {
    let span = error.unexpected().or(error.context());
    let (from, to) = span.map_or((start, start), |span| (span.start(), span.end()));
    TomlError { span: Span::new(from.min(length), to.min(length)), message: error.description().to_owned() }
}

#[derive(Clone)]
struct Key {
    text: String,
    span: Span,
}

enum Frame {
    Array(Vec<Item>, usize),
    Table(Table, usize, Vec<Key>),
}

struct Builder<'s, F: FnMut(Item)> {
    source: Source<'s>,
    /// The list at the top whose tables are handed over, and who takes them.
    list: &'s str,
    take: F,
    root: Table,
    /// The header that entries now belong to.
    header: Vec<Key>,
    /// Whether each part of the header path is the last of an array of tables is seen by `descend`.
    keys: Vec<Key>,
    in_header: Option<(usize, bool)>,
    frames: Vec<Frame>,
    /// The entry of the current header in the root, filled until the next header.
    current: Table,
    current_span: Span,
    current_is_array: bool,
}

impl<'s, F: FnMut(Item)> Builder<'s, F> {
    fn new(source: Source<'s>, list: &'s str, take: F) -> Self {
        Builder {
            source,
            list,
            take,
            root: Table::default(),
            header: Vec::new(),
            keys: Vec::new(),
            in_header: None,
            frames: Vec::new(),
            current: Table::default(),
            current_span: Span::default(),
            current_is_array: false,
        }
    }

    /// Puts the entries read since the last header where they belong.
    fn flush(&mut self) {
        let mut table = std::mem::take(&mut self.current);
        let Some((last, path)) = self.header.split_last() else {
            self.root = table;
            return;
        };
        let mut parent = &mut self.root;
        for key in path {
            parent = parent.descend(key);
        }
        table.explicit = true;
        if self.current_is_array {
            let item = Item { value: Value::Table(table), span: self.current_span };
            let existing = parent.latest(&last.text);
            if let Some(at) = existing
                && let Value::Array(items) = &mut parent.entries[at].item.value
            {
                // The one before is complete now.
                if path.is_empty() && last.text == self.list {
                    items.drain(..).for_each(&mut self.take);
                }
                items.push(item);
                return;
            }
            let span = item.span;
            let array = Item { value: Value::Array(vec![item]), span };
            parent.push(Entry { key: last.text.clone(), key_span: last.span, item: array });
            return;
        }
        // A header that a longer one has already passed through fills that table; any other repeat stands by itself.
        if let Some(at) = parent.latest(&last.text)
            && let Value::Table(existing) = &mut parent.entries[at].item.value
            && !existing.explicit
        {
            existing.explicit = true;
            for entry in table.entries {
                existing.push(entry);
            }
            parent.entries[at].item.span = self.current_span;
            parent.entries[at].key_span = last.span;
            return;
        }
        let item = Item { value: Value::Table(table), span: self.current_span };
        parent.push(Entry { key: last.text.clone(), key_span: last.span, item });
    }

    fn finish(mut self) -> Table {
        self.flush();
        if let Some(at) = self.root.latest(self.list)
            && let Value::Array(items) = &mut self.root.entries[at].item.value
            && items.iter().all(|item| matches!(item.value, Value::Table(_)))
        {
            items.drain(..).for_each(&mut self.take);
        }
        self.root
    }

    fn open_header(&mut self, start: usize, array: bool) {
        self.flush();
        self.keys.clear();
        self.in_header = Some((start, array));
    }

    fn close_header(&mut self, end: usize) {
        let Some((start, array)) = self.in_header.take() else { return };
        self.header = std::mem::take(&mut self.keys);
        self.current_span = Span::new(start, end);
        self.current_is_array = array;
    }

    /// A finished value goes into the list or table that is open.
    fn value(&mut self, item: Item) {
        match self.frames.last_mut() {
            Some(Frame::Array(items, _)) => items.push(item),
            Some(Frame::Table(table, _, keys)) => insert(table, std::mem::take(keys), item),
            None => insert(&mut self.current, std::mem::take(&mut self.keys), item),
        }
    }
}

fn insert(table: &mut Table, mut keys: Vec<Key>, item: Item) {
    let Some(last) = keys.pop() else { return };
    let mut table = table;
    for key in &keys {
        table = table.descend(key);
    }
    table.push(Entry { key: last.text, key_span: last.span, item });
}

impl<F: FnMut(Item)> EventReceiver for Builder<'_, F> {
    fn std_table_open(&mut self, span: toml_parser::Span, _error: &mut dyn ErrorSink) {
        self.open_header(span.start(), false);
    }

    fn std_table_close(&mut self, span: toml_parser::Span, _error: &mut dyn ErrorSink) {
        self.close_header(span.end());
    }

    fn array_table_open(&mut self, span: toml_parser::Span, _error: &mut dyn ErrorSink) {
        self.open_header(span.start(), true);
    }

    fn array_table_close(&mut self, span: toml_parser::Span, _error: &mut dyn ErrorSink) {
        self.close_header(span.end());
    }

    fn inline_table_open(&mut self, span: toml_parser::Span, _error: &mut dyn ErrorSink) -> bool {
        self.frames.push(Frame::Table(Table { explicit: true, ..Table::default() }, span.start(), Vec::new()));
        true
    }

    fn inline_table_close(&mut self, span: toml_parser::Span, _error: &mut dyn ErrorSink) {
        if let Some(Frame::Table(table, start, _)) = self.frames.pop() {
            self.value(Item { value: Value::Table(table), span: Span::new(start, span.end()) });
        }
    }

    fn array_open(&mut self, span: toml_parser::Span, _error: &mut dyn ErrorSink) -> bool {
        self.frames.push(Frame::Array(Vec::new(), span.start()));
        true
    }

    fn array_close(&mut self, span: toml_parser::Span, _error: &mut dyn ErrorSink) {
        if let Some(Frame::Array(items, start)) = self.frames.pop() {
            self.value(Item { value: Value::Array(items), span: Span::new(start, span.end()) });
        }
    }

    fn simple_key(&mut self, span: toml_parser::Span, kind: Option<Encoding>, error: &mut dyn ErrorSink) {
        let mut text = Cow::Borrowed("");
        if let Some(raw) = self.source.get(span) {
            toml_parser::Raw::new_unchecked(raw.as_str(), kind, span).decode_key(&mut text, error);
        }
        let key = Key { text: text.into_owned(), span: Span::new(span.start(), span.end()) };
        match self.frames.last_mut() {
            Some(Frame::Table(_, _, keys)) => keys.push(key),
            _ => self.keys.push(key),
        }
    }

    fn scalar(&mut self, span: toml_parser::Span, kind: Option<Encoding>, error: &mut dyn ErrorSink) {
        let mut text = Cow::Borrowed("");
        let Some(raw) = self.source.get(span) else { return };
        let scalar = toml_parser::Raw::new_unchecked(raw.as_str(), kind, span).decode_scalar(&mut text, error);
        let at = Span::new(span.start(), span.end());
        let value = match scalar {
            ScalarKind::String => Value::Text(text.into_owned()),
            ScalarKind::Boolean(value) => Value::Bool(value),
            ScalarKind::DateTime => Value::Date,
            ScalarKind::Float => Value::Float(text.replace('_', "").parse().unwrap_or(f64::NAN)),
            ScalarKind::Integer(radix) => match i64::from_str_radix(&text.replace('_', ""), radix.value()) {
                Ok(value) => Value::Int(value),
                Err(_) => {
                    error.report_error(
                        ParseError::new("this whole number does not fit into 64 bits").with_unexpected(span),
                    );
                    Value::Int(0)
                }
            },
        };
        self.value(Item { value, span: at });
    }

    fn newline(&mut self, _span: toml_parser::Span, _error: &mut dyn ErrorSink) {
        // Keys that never met a value (`max =`) must not join the next line's.
        if self.frames.is_empty() && self.in_header.is_none() {
            self.keys.clear();
        }
    }
}

// ---- every key and text, with its path ----

/// A key or a text value as it stands in a file, with the keys that lead to it.
#[derive(Clone, Debug)]
pub struct Word {
    /// The keys from the top; a key's own path ends in itself.
    pub path: Vec<String>,
    /// The text, decoded.
    pub text: String,
    /// Where it stands, quotes included.
    pub span: Span,
    /// Whether it is a key.
    pub is_key: bool,
}

/// All keys and text values of a file, in order. Lists and repeated headers leave no trace in the paths.
#[must_use]
pub fn words(text: &str) -> Vec<Word> {
    let source = Source::new(text);
    let tokens = source.lex().into_vec();
    let mut errors: Vec<ParseError> = Vec::new();
    let mut walk = Walk { source, words: Vec::new(), header: Vec::new(), frames: vec![Vec::new()], in_header: false };
    {
        let mut guard = RecursionGuard::new(&mut walk, 64);
        parse_document(&tokens, &mut guard, &mut errors);
    }
    walk.words
}

struct Walk<'s> {
    source: Source<'s>,
    words: Vec<Word>,
    header: Vec<String>,
    /// The keys of the entry that is being read, one list for each open table.
    frames: Vec<Vec<String>>,
    in_header: bool,
}

impl Walk<'_> {
    fn path(&self) -> Vec<String> {
        let header: &[String] = if self.in_header { &[] } else { &self.header };
        header.iter().chain(self.frames.iter().flatten()).cloned().collect()
    }

    fn open(&mut self) {
        self.frames = vec![Vec::new()];
        self.header.clear();
        self.in_header = true;
    }

    fn close(&mut self) {
        self.header = std::mem::take(&mut self.frames[0]);
        self.in_header = false;
    }

    /// A value is over: its keys lead no further.
    fn end_value(&mut self) {
        if let Some(keys) = self.frames.last_mut() {
            keys.clear();
        }
    }
}

impl EventReceiver for Walk<'_> {
    fn std_table_open(&mut self, _: toml_parser::Span, _: &mut dyn ErrorSink) {
        self.open();
    }

    fn std_table_close(&mut self, _: toml_parser::Span, _: &mut dyn ErrorSink) {
        self.close();
    }

    fn array_table_open(&mut self, _: toml_parser::Span, _: &mut dyn ErrorSink) {
        self.open();
    }

    fn array_table_close(&mut self, _: toml_parser::Span, _: &mut dyn ErrorSink) {
        self.close();
    }

    fn inline_table_open(&mut self, _: toml_parser::Span, _: &mut dyn ErrorSink) -> bool {
        self.frames.push(Vec::new());
        true
    }

    fn inline_table_close(&mut self, _: toml_parser::Span, _: &mut dyn ErrorSink) {
        if self.frames.len() > 1 {
            self.frames.pop();
        }
    }

    fn array_open(&mut self, _: toml_parser::Span, _: &mut dyn ErrorSink) -> bool {
        self.frames.push(Vec::new());
        true
    }

    fn array_close(&mut self, _: toml_parser::Span, _: &mut dyn ErrorSink) {
        if self.frames.len() > 1 {
            self.frames.pop();
        }
    }

    fn value_sep(&mut self, _: toml_parser::Span, _: &mut dyn ErrorSink) {
        self.end_value();
    }

    fn simple_key(&mut self, span: toml_parser::Span, kind: Option<Encoding>, error: &mut dyn ErrorSink) {
        let mut text = Cow::Borrowed("");
        if let Some(raw) = self.source.get(span) {
            toml_parser::Raw::new_unchecked(raw.as_str(), kind, span).decode_key(&mut text, error);
        }
        let text = text.into_owned();
        if let Some(keys) = self.frames.last_mut() {
            keys.push(text.clone());
        }
        let span = Span::new(span.start(), span.end());
        self.words.push(Word { path: self.path(), text, span, is_key: true });
    }

    fn scalar(&mut self, span: toml_parser::Span, kind: Option<Encoding>, error: &mut dyn ErrorSink) {
        let mut text = Cow::Borrowed("");
        let Some(raw) = self.source.get(span) else { return };
        let scalar = toml_parser::Raw::new_unchecked(raw.as_str(), kind, span).decode_scalar(&mut text, error);
        if matches!(scalar, ScalarKind::String) {
            let span = Span::new(span.start(), span.end());
            self.words.push(Word { path: self.path(), text: text.into_owned(), span, is_key: false });
        }
    }

    fn newline(&mut self, _: toml_parser::Span, _: &mut dyn ErrorSink) {
        if self.frames.len() == 1 && !self.in_header {
            self.end_value();
        }
    }
}
