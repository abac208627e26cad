//! Source files, byte spans, and the lines and columns that people read.

use std::sync::Arc;

/// A file of the project: a dense index into [`Sources`].
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub struct FileId(pub u32);

/// A half-open range of bytes in one file.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug, Default)]
pub struct Span {
    /// Offset of the first byte.
    pub start: u32,
    /// Offset just past the last byte.
    pub end: u32,
}

impl Span {
    /// The span from `start` up to `end`.
    #[must_use]
    pub fn new(start: usize, end: usize) -> Self {
        let offset = |at: usize| u32::try_from(at).unwrap_or(u32::MAX);
        Self { start: offset(start), end: offset(end) }
    }

    /// The smallest span that holds both.
    #[must_use]
    pub fn to(self, other: Self) -> Self {
        Self { start: self.start.min(other.start), end: self.end.max(other.end) }
    }

    /// The range of bytes, to slice a text with.
    #[must_use]
    pub fn range(self) -> std::ops::Range<usize> {
        self.start as usize..self.end as usize
    }

    /// Whether `other` lies inside this span.
    #[must_use]
    pub fn contains(self, other: Self) -> bool {
        self.start <= other.start && other.end <= self.end
    }
}

/// A span in a known file.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub struct Location {
    /// The file.
    pub file: FileId,
    /// The bytes meant.
    pub span: Span,
}

/// A line and a column, both from 1; columns count characters.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct Position {
    /// The line, from 1.
    pub line: u32,
    /// The column in characters, from 1.
    pub column: u32,
}

/// What a file is for.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum FileKind {
    /// `oaken.toml`.
    Config,
    /// A registry file.
    Registry,
    /// A script.
    Script,
    /// A rehearsal.
    Rehearsal,
}

/// One file as read, with the table that turns offsets into lines.
#[derive(Clone, Debug)]
pub struct SourceFile {
    /// Relative to the project's folder, with `/`.
    pub path: Arc<str>,
    /// The whole text. Bytes that are no UTF-8 stand as U+FFFD.
    pub text: Arc<str>,
    /// What the file is for.
    pub kind: FileKind,
    /// Where the first byte stood that is no UTF-8, if any.
    pub invalid_utf8: Option<u32>,
    line_starts: Vec<u32>,
}

impl SourceFile {
    /// Takes a file's bytes. Never fails: what is no UTF-8 is replaced, and its place is kept.
    #[must_use]
    pub fn new(path: impl Into<Arc<str>>, kind: FileKind, bytes: Vec<u8>) -> Self {
        let (text, invalid_utf8) = match String::from_utf8(bytes) {
            Ok(text) => (text, None),
            Err(error) => {
                let at = u32::try_from(error.utf8_error().valid_up_to()).unwrap_or(u32::MAX);
                (String::from_utf8_lossy(error.as_bytes()).into_owned(), Some(at))
            }
        };
        let newlines = text.bytes().enumerate().filter(|&(_, byte)| byte == b'\n');
        let line_starts =
            std::iter::once(0).chain(newlines.map(|(at, _)| u32::try_from(at + 1).unwrap_or(u32::MAX))).collect();
        Self { path: path.into(), text: text.into(), kind, invalid_utf8, line_starts }
    }

    /// The line of an offset, from 0.
    #[must_use]
    pub fn line_index(&self, offset: u32) -> usize {
        self.line_starts.partition_point(|&start| start <= offset).saturating_sub(1)
    }

    /// How many lines the file has.
    #[must_use]
    pub fn line_count(&self) -> usize {
        self.line_starts.len()
    }

    /// The span of a line (from 0), without its line end.
    #[must_use]
    pub fn line_span(&self, line: usize) -> Span {
        let start = self.line_starts.get(line).map_or(self.text.len(), |&at| at as usize);
        let end = self.line_starts.get(line + 1).map_or(self.text.len(), |&at| at as usize);
        let trimmed = self.text[start..end].trim_end_matches(['\n', '\r']).len();
        Span::new(start, start + trimmed)
    }

    /// The line and column of an offset.
    #[must_use]
    pub fn position(&self, offset: u32) -> Position {
        let line = self.line_index(offset);
        let start = self.line_starts[line] as usize;
        let mut end = (offset as usize).min(self.text.len()).max(start);
        while !self.text.is_char_boundary(end) {
            end -= 1;
        }
        let column = self.text[start..end].chars().filter(|&c| c != '\u{feff}').count() + 1;
        Position {
            line: u32::try_from(line + 1).unwrap_or(u32::MAX),
            column: u32::try_from(column).unwrap_or(u32::MAX),
        }
    }

    /// The text of a span.
    #[must_use]
    pub fn slice(&self, span: Span) -> &str {
        self.text.get(span.range()).unwrap_or("")
    }
}

/// All files of a project, in path order within their kind.
#[derive(Clone, Debug, Default)]
pub struct Sources {
    /// The files, indexed by [`FileId`].
    pub files: Vec<SourceFile>,
}

impl Sources {
    /// Adds a file.
    pub fn add(&mut self, file: SourceFile) -> FileId {
        self.files.push(file);
        FileId(u32::try_from(self.files.len() - 1).unwrap_or(u32::MAX))
    }

    /// The file of an id.
    #[must_use]
    pub fn file(&self, id: FileId) -> &SourceFile {
        &self.files[id.0 as usize]
    }

    /// The ids of all files of a kind.
    pub fn of_kind(&self, kind: FileKind) -> impl Iterator<Item = FileId> + '_ {
        (0u32..).zip(&self.files).filter(move |(_, file)| file.kind == kind).map(|(id, _)| FileId(id))
    }
}
