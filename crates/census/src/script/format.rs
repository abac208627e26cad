//! Scripts in one style: four blanks for each block, one blank around operators, one empty line between handlers.
//!
//! It works on tokens, line by line: what stands on a line stays on it, so that the author's grouping is kept, and so are
//! all comments. Nothing but white space changes; whoever calls it can rely on that, for the tokens are compared.

use super::lexer::{Punct, Token, TokenKind, tokens};
use super::parse;

/// One level of blocks, or of a line that goes on.
const INDENT: &str = "    ";

/// A script in the one style; none where it has mistakes that keep it from being read.
#[must_use]
pub fn format(text: &str) -> Option<String> {
    let bare = text.strip_prefix('\u{feff}').unwrap_or(text);
    if !parse(bare).errors.is_empty() {
        return None;
    }
    let ending = if bare.contains("\r\n") { "\r\n" } else { "\n" };
    let plain = bare.replace("\r\n", "\n");
    let mut printer = Printer { text: &plain, out: String::new(), depth: 0, parens: 0, goes_on: false };
    printer.all(&lines(&plain));
    let formatted = printer.out;
    if !same_tokens(&plain, &formatted) {
        return None;
    }
    Some(if ending == "\r\n" { formatted.replace('\n', "\r\n") } else { formatted })
}

/// The tokens of each line, without the ends of lines.
fn lines(text: &str) -> Vec<Vec<Token>> {
    let mut lines: Vec<Vec<Token>> = vec![Vec::new()];
    for token in tokens(text, 0, text.len()) {
        match token.kind {
            TokenKind::Newline => lines.push(Vec::new()),
            TokenKind::End => {}
            _ => {
                if let Some(line) = lines.last_mut() {
                    line.push(token);
                }
            }
        }
    }
    lines
}

fn same_tokens(before: &str, after: &str) -> bool {
    let plain = |text: &str| -> Vec<(TokenKind, String)> {
        tokens(text, 0, text.len())
            .into_iter()
            .filter(|token| !matches!(token.kind, TokenKind::Newline | TokenKind::End))
            .map(|token| (token.kind, text[token.span.range()].trim_end().to_owned()))
            .collect()
    };
    plain(before) == plain(after) && parse(after).errors.is_empty()
}

struct Printer<'t> {
    text: &'t str,
    out: String,
    depth: usize,
    parens: usize,
    /// The last line ended in an operator or a comma.
    goes_on: bool,
}

impl Printer<'_> {
    fn all(&mut self, lines: &[Vec<Token>]) {
        let mut blank = false;
        let mut at_block_start = true;
        let mut after_comment = false;
        for (at, line) in lines.iter().enumerate() {
            if line.is_empty() {
                blank = true;
                continue;
            }
            let closes = self.is(line[0], Punct::CloseBrace);
            let top = self.depth == 0 && self.parens == 0 && self.begins_item(&lines[at..]);
            if (blank || (top && !after_comment)) && !at_block_start && !closes {
                self.out.push('\n');
            }
            blank = false;
            self.line(line);
            at_block_start = self.opens(line);
            after_comment = line[0].kind == TokenKind::Comment;
        }
    }

    /// Whether a handler or a procedure begins here, its comments included.
    fn begins_item(&self, lines: &[Vec<Token>]) -> bool {
        let line = lines.iter().find(|line| line.first().is_none_or(|token| token.kind != TokenKind::Comment));
        let first = line.and_then(|line| line.first());
        first.is_some_and(|token| matches!(self.slice(*token), "on" | "proc"))
    }

    fn slice(&self, token: Token) -> &str {
        self.text.get(token.span.range()).unwrap_or("")
    }

    fn is(&self, token: Token, punct: Punct) -> bool {
        token.kind == TokenKind::Punct(punct)
    }

    fn opens(&self, line: &[Token]) -> bool {
        let last = line.iter().rev().find(|token| token.kind != TokenKind::Comment);
        last.is_some_and(|token| self.is(*token, Punct::OpenBrace))
    }

    fn line(&mut self, line: &[Token]) {
        let leading = line.iter().take_while(|token| self.is(**token, Punct::CloseBrace)).count();
        let more = usize::from(self.goes_on || self.parens > 0);
        let depth = self.depth.saturating_sub(leading) + more;
        self.out.push_str(&INDENT.repeat(depth));
        for (at, &token) in line.iter().enumerate() {
            if at > 0 && self.blank_between(line, at) {
                self.out.push(' ');
            }
            let text = self.slice(token).trim_end().to_owned();
            self.out.push_str(&text);
            match token.kind {
                TokenKind::Punct(Punct::OpenBrace) => self.depth += 1,
                TokenKind::Punct(Punct::CloseBrace) => self.depth = self.depth.saturating_sub(1),
                TokenKind::Punct(Punct::OpenParen) => self.parens += 1,
                TokenKind::Punct(Punct::CloseParen) => self.parens = self.parens.saturating_sub(1),
                _ => {}
            }
        }
        self.out.push('\n');
        let last = line.iter().rev().find(|token| token.kind != TokenKind::Comment).copied();
        self.goes_on = match last {
            Some(last) => self.continues(last),
            None => self.goes_on,
        };
    }

    /// Whether a line that ends like this goes on in the next.
    fn continues(&self, token: Token) -> bool {
        match token.kind {
            TokenKind::Word => matches!(self.slice(token), "and" | "or" | "not" | "implies"),
            TokenKind::Punct(punct) => is_operator(punct) && punct != Punct::Assign || punct == Punct::Comma,
            _ => false,
        }
    }

    fn blank_between(&self, line: &[Token], at: usize) -> bool {
        let (before, token) = (line[at - 1], line[at]);
        if token.kind == TokenKind::Comment {
            return true;
        }
        match (before.kind, token.kind) {
            (TokenKind::Punct(Punct::OpenParen | Punct::Dot), _)
            | (_, TokenKind::Punct(Punct::CloseParen | Punct::Comma | Punct::Colon | Punct::Dot)) => false,
            (TokenKind::Punct(Punct::OpenBrace), TokenKind::Punct(Punct::CloseBrace)) => false,
            (TokenKind::Word, TokenKind::Punct(Punct::OpenParen)) => is_keyword(self.slice(before)),
            (TokenKind::Punct(Punct::Minus | Punct::Plus), _) => !self.is_sign(line, at - 1),
            _ => true,
        }
    }

    /// Whether a `-` or `+` belongs to the value behind it.
    fn is_sign(&self, line: &[Token], at: usize) -> bool {
        let Some(before) = at.checked_sub(1).map(|before| line[before]) else { return !self.goes_on };
        match before.kind {
            TokenKind::Punct(punct) => {
                is_operator(punct) || matches!(punct, Punct::OpenParen | Punct::Comma | Punct::OpenBrace)
            }
            TokenKind::Word => is_keyword(self.slice(before)),
            _ => false,
        }
    }
}

fn is_operator(punct: Punct) -> bool {
    !matches!(
        punct,
        Punct::OpenParen
            | Punct::CloseParen
            | Punct::OpenBrace
            | Punct::CloseBrace
            | Punct::Comma
            | Punct::Colon
            | Punct::Dot
            | Punct::Arrow
    )
}

/// Words behind which a parenthesis or a sign begins a value.
fn is_keyword(word: &str) -> bool {
    matches!(
        word,
        "if" | "while"
            | "repeat"
            | "match"
            | "where"
            | "when"
            | "until"
            | "return"
            | "and"
            | "or"
            | "not"
            | "implies"
            | "to"
            | "remove"
            | "in"
            | "choice"
            | "ask"
            | "show"
            | "note"
    )
}
