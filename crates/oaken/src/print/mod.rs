//! Printers: each takes a report of the core and writes it in one form.

pub mod csv;
pub mod findings_github;
pub mod findings_json;
pub mod findings_sarif;
pub mod findings_text;
pub mod rehearsal_csv;
pub mod rehearsal_json;
pub mod rehearsal_text;
pub mod table;

use anstyle::{AnsiColor, Style};
use census::finding::Level;
use std::io::{self, Write};

/// Where reports go: standard output, colours taken out where it is no terminal. A reader that has gone away is no error.
pub struct Out {
    stream: io::BufWriter<io::Stdout>,
    coloured: bool,
}

/// How many bytes are written at once: a report can be long.
const AT_ONCE: usize = 1 << 16;

impl Out {
    /// Standard output.
    #[must_use]
    pub fn new() -> Self {
        let stdout = io::stdout();
        let coloured = anstream::AutoStream::choice(&stdout) != anstream::ColorChoice::Never;
        Self { stream: io::BufWriter::with_capacity(AT_ONCE, stdout), coloured }
    }

    /// Writes a text.
    pub fn write(&mut self, text: &str) -> io::Result<()> {
        let written = match self.coloured {
            true => self.stream.write_all(text.as_bytes()),
            false => write!(self.stream, "{}", anstream::adapter::strip_str(text)),
        };
        quiet(written)
    }

    /// Writes a text and ends the line.
    pub fn line(&mut self, text: &str) -> io::Result<()> {
        self.write(text)?;
        self.write("\n")
    }

    /// Writes a value as JSON, and ends the line. There is no colour in it that would have to be taken out.
    pub fn json(&mut self, value: &impl serde::Serialize) -> io::Result<()> {
        quiet(self.stream.flush())?;
        let mut plain = io::BufWriter::new(io::stdout().lock());
        quiet(serde_json::to_writer_pretty(&mut plain, value).map_err(io::Error::from))?;
        quiet(plain.write_all(b"\n").and_then(|()| plain.flush()))
    }

    /// Ends writing.
    pub fn finish(mut self) -> io::Result<()> {
        quiet(self.stream.flush())
    }
}

/// A pipe that was closed ends the writing, not the program's good name.
fn quiet(result: io::Result<()>) -> io::Result<()> {
    match result {
        Err(error) if error.kind() == io::ErrorKind::BrokenPipe => std::process::exit(0),
        other => other,
    }
}

/// Says on standard error why something could not be done.
pub fn complain(message: &str) {
    let style = AnsiColor::Red.on_default().bold();
    let line = format!("{style}oaken{style:#}: {}\n", plain(message));
    let mut stream = anstream::AutoStream::auto(io::stderr());
    let _ = stream.write_all(line.as_bytes());
}

/// Says something on standard error that is no complaint.
pub fn remark(message: &str) {
    let mut stream = anstream::AutoStream::auto(io::stderr());
    let _ = stream.write_all(format!("{}\n", plain(message)).as_bytes());
}

/// A text from a file, made harmless for a terminal: control characters are shown, not sent.
#[must_use]
pub fn plain(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '\t' => out.push_str("    "),
            '\n' => out.push('\n'),
            '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{feff}' => {
                out.push_str(&format!("\\u{{{:x}}}", c as u32));
            }
            c if c.is_control() => out.push_str(&c.escape_default().to_string()),
            c => out.push(c),
        }
    }
    out
}

/// The same on one line.
#[must_use]
pub fn plain_line(text: &str) -> String {
    plain(text).replace('\n', "\\n")
}

/// The colour of a level.
#[must_use]
pub fn level_style(level: Level) -> Style {
    match level {
        Level::Error => AnsiColor::Red.on_default().bold(),
        Level::Warning => AnsiColor::Yellow.on_default().bold(),
        _ => AnsiColor::Cyan.on_default(),
    }
}

/// Bold.
#[must_use]
pub fn strong() -> Style {
    Style::new().bold()
}

/// Dim.
#[must_use]
pub fn faint() -> Style {
    Style::new().dimmed()
}

/// The width of the terminal, or 100 columns.
#[must_use]
pub fn width() -> usize {
    let columns = std::env::var("COLUMNS").ok().and_then(|columns| columns.parse().ok());
    columns
        .or_else(|| terminal_size::terminal_size().map(|(width, _)| usize::from(width.0)))
        .unwrap_or(100)
        .clamp(40, 200)
}

/// Breaks a text into lines of at most `width` columns, at blanks.
#[must_use]
pub fn wrap(text: &str, width: usize) -> Vec<String> {
    // Each line as full as it gets: to even them out takes longer than all else that is done for a line.
    let options = textwrap::Options::new(width.max(20))
        .break_words(false)
        .word_separator(textwrap::WordSeparator::AsciiSpace)
        .wrap_algorithm(textwrap::WrapAlgorithm::FirstFit);
    textwrap::wrap(text, options).into_iter().map(std::borrow::Cow::into_owned).collect()
}

/// How many columns of a source line are shown.
const LINE_LIMIT: usize = 160;

/// A line of a file, cut where it is very long.
#[must_use]
pub fn shorten(line: &str) -> String {
    let mut short: String = line.chars().take(LINE_LIMIT).collect();
    let left = line.chars().count().saturating_sub(LINE_LIMIT);
    if left > 0 {
        short.push_str(&format!(" … and {left} characters more"));
    }
    short
}
