//! Cuts a script into tokens. White space is what lies between them.

use crate::source::Span;

/// What a token is.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum TokenKind {
    /// A name or a word of the language.
    Word,
    /// `12`
    Int,
    /// `0.5`
    Float,
    /// `0.5s`, `200ms`, `10t`
    Duration,
    /// `"text"`, quotes included; one that is not closed ends at its line's end.
    Text,
    /// `// …`
    Comment,
    /// The end of a line.
    Newline,
    /// An operator or a bracket.
    Punct(Punct),
    /// Something that the language does not have.
    Unknown,
    /// The end of the file.
    End,
}

/// Operators and brackets.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
#[allow(missing_docs, reason = "each name says its sign")]
pub enum Punct {
    OpenBrace,
    CloseBrace,
    OpenParen,
    CloseParen,
    Comma,
    Colon,
    Dot,
    Arrow,
    Assign,
    PlusAssign,
    MinusAssign,
    StarAssign,
    SlashAssign,
    Equal,
    NotEqual,
    Less,
    LessEqual,
    Greater,
    GreaterEqual,
    Plus,
    Minus,
    Star,
    Slash,
    Percent,
}

/// A token and where it stands.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Token {
    /// What it is.
    pub kind: TokenKind,
    /// Where it stands.
    pub span: Span,
}

fn single(byte: u8) -> Option<Punct> {
    Some(match byte {
        b'{' => Punct::OpenBrace,
        b'}' => Punct::CloseBrace,
        b'(' => Punct::OpenParen,
        b')' => Punct::CloseParen,
        b',' => Punct::Comma,
        b':' => Punct::Colon,
        b'=' => Punct::Assign,
        b'.' => Punct::Dot,
        b'<' => Punct::Less,
        b'>' => Punct::Greater,
        b'+' => Punct::Plus,
        b'-' => Punct::Minus,
        b'*' => Punct::Star,
        b'/' => Punct::Slash,
        b'%' => Punct::Percent,
        _ => return None,
    })
}

/// The operator or bracket that a text begins with, and its length.
fn punct(bytes: &[u8]) -> Option<(Punct, usize)> {
    let long = match bytes {
        [b'-', b'>', ..] => Punct::Arrow,
        [b'+', b'=', ..] => Punct::PlusAssign,
        [b'-', b'=', ..] => Punct::MinusAssign,
        [b'*', b'=', ..] => Punct::StarAssign,
        [b'/', b'=', ..] => Punct::SlashAssign,
        [b'=', b'=', ..] => Punct::Equal,
        [b'!', b'=', ..] => Punct::NotEqual,
        [b'<', b'=', ..] => Punct::LessEqual,
        [b'>', b'=', ..] => Punct::GreaterEqual,
        _ => return single(*bytes.first()?).map(|punct| (punct, 1)),
    };
    Some((long, 2))
}

/// Whether a character may begin a name.
#[must_use]
#[inline]
pub fn is_name_start(c: char) -> bool {
    c == '_' || c.is_ascii_alphabetic() || (!c.is_ascii() && (unicode_ident::is_xid_start(c) || c.is_alphabetic()))
}

/// Whether a character may go on in a name.
#[must_use]
#[inline]
pub fn is_name_part(c: char) -> bool {
    c == '_' || c.is_ascii_alphanumeric() || (!c.is_ascii() && (is_name_start(c) || is_wide_part(c)))
}

fn is_wide_part(c: char) -> bool {
    unicode_ident::is_xid_continue(c) || c.is_numeric()
}

/// Whether a text is a name of the language: a letter or `_`, then letters, digits and `_`.
#[must_use]
pub fn is_name(text: &str) -> bool {
    let mut chars = text.chars();
    chars.next().is_some_and(is_name_start) && chars.all(is_name_part)
}

/// All tokens of `text[from..to]`, comments and line ends included, with an [`TokenKind::End`] behind them.
#[must_use]
pub fn tokens(text: &str, from: usize, to: usize) -> Vec<Token> {
    let mut lexer = Lexer { text: &text[..to], at: from };
    let mut tokens = Vec::with_capacity((to - from) / 5 + 1);
    while let Some(token) = lexer.next_token() {
        tokens.push(token);
    }
    tokens.push(Token { kind: TokenKind::End, span: Span::new(to, to) });
    tokens
}

struct Lexer<'a> {
    text: &'a str,
    at: usize,
}

impl Lexer<'_> {
    fn rest(&self) -> &[u8] {
        &self.text.as_bytes()[self.at..]
    }

    fn skip_while(&mut self, accept: impl Fn(char) -> bool) {
        while let Some(&byte) = self.text.as_bytes().get(self.at) {
            // Nearly all is ASCII, where a byte is a character.
            let next = if byte.is_ascii() { Some(char::from(byte)) } else { self.text[self.at..].chars().next() };
            let Some(c) = next.filter(|&c| accept(c)) else { return };
            self.at += c.len_utf8();
        }
    }

    fn skip_blanks(&mut self) {
        // A byte-order mark is white space wherever it stands; `\r` belongs to the line end that follows it.
        self.skip_while(|c| matches!(c, ' ' | '\t' | '\r' | '\u{feff}' | '\u{a0}'));
    }

    fn next_token(&mut self) -> Option<Token> {
        self.skip_blanks();
        let start = self.at;
        let first = self.text[start..].chars().next()?;
        let kind = match first {
            '\n' => {
                self.at += 1;
                TokenKind::Newline
            }
            '"' => self.text_literal(),
            '0'..='9' => self.number(),
            '/' if self.rest().starts_with(b"//") => {
                self.skip_while(|c| c != '\n');
                TokenKind::Comment
            }
            c if is_name_start(c) => {
                self.skip_while(is_name_part);
                TokenKind::Word
            }
            c => match punct(self.rest()) {
                Some((punct, length)) => {
                    self.at += length;
                    TokenKind::Punct(punct)
                }
                None => {
                    self.at += c.len_utf8();
                    TokenKind::Unknown
                }
            },
        };
        let end = if kind == TokenKind::Comment {
            start + self.text[start..self.at].trim_end_matches('\r').len()
        } else {
            self.at
        };
        Some(Token { kind, span: Span::new(start, end) })
    }

    fn text_literal(&mut self) -> TokenKind {
        let bytes = self.rest();
        let mut length = 1;
        while let Some(&byte) = bytes.get(length) {
            match byte {
                b'"' => {
                    length += 1;
                    break;
                }
                b'\n' => break,
                b'\\' if bytes.get(length + 1).is_some_and(|&next| next != b'\n') => length += 2,
                _ => length += 1,
            }
        }
        // A backslash before a character of several bytes must not leave us inside it.
        while !self.text.is_char_boundary(self.at + length) {
            length += 1;
        }
        self.at += length;
        TokenKind::Text
    }

    fn number(&mut self) -> TokenKind {
        let mut kind = TokenKind::Int;
        self.skip_while(|c| c.is_ascii_digit());
        if self.rest().first() == Some(&b'.') && self.rest().get(1).is_some_and(u8::is_ascii_digit) {
            kind = TokenKind::Float;
            self.at += 1;
            self.skip_while(|c| c.is_ascii_digit());
        }
        if self.text[self.at..].chars().next().is_some_and(is_name_start) {
            kind = TokenKind::Duration;
            self.skip_while(is_name_part);
        }
        kind
    }
}
