//! Reads tokens into the tree. One function for each construct of the grammar, named for it.
//!
//! A function that cannot go on records one error and gives `None`; the statement around it then skips to the next
//! line, so one mistake is one finding. All nesting passes through [`Parser::nested`], which is where depth ends.

use super::ast::*;
use super::lexer::{Punct, Token, TokenKind, tokens};
use crate::source::Span;

/// How deep blocks and expressions may nest.
pub const MAX_DEPTH: u32 = 200;
/// How many operators one expression may chain.
const MAX_CHAIN: u32 = 1000;
/// How many tokens are looked at to find out what a missing `{` leaves open.
const FARTHEST: usize = 1024;

/// Reads a whole script. Never fails: mistakes stand in [`Script::errors`].
#[must_use]
pub fn parse(text: &str) -> Script {
    let mut parser = Parser::new(text, 0, text.len());
    parser.file();
    parser.script.exprs.shrink_to_fit();
    parser.script
}

/// Reads one expression, as in an invariant or an expectation. The names' spans lie in `text`.
#[must_use]
pub fn parse_expression(text: &str) -> (Script, Option<ExprId>) {
    let mut parser = Parser::new(text, 0, text.len());
    parser.parens = 1; // The line ends inside mean nothing here.
    parser.outside = true;
    let expr = parser.expr();
    if expr.is_some() && parser.peek().kind != TokenKind::End {
        parser.expected::<()>("nothing more behind the expression");
        return (parser.script, None);
    }
    (parser.script, expr)
}

/// Reads a length of time such as `0.5s`, `200ms` or `10t`, and nothing else.
#[must_use]
pub fn parse_duration(text: &str) -> Option<Duration> {
    let mut parser = Parser::new(text, 0, text.len());
    let duration = parser.duration()?;
    let alone = parser.peek().kind == TokenKind::End && parser.script.errors.is_empty();
    (alone && matches!(duration, Duration::Literal { .. })).then_some(duration)
}

struct Parser<'a> {
    text: &'a str,
    tokens: Vec<Token>,
    at: usize,
    /// How many parentheses are open: line ends inside them mean nothing.
    parens: u32,
    depth: u32,
    /// An expression outside of scripts is read: an invariant, or what a rehearsal expects.
    outside: bool,
    /// The last token taken.
    previous: Span,
    too_deep: bool,
    /// The next block is one that an `else` may follow.
    before_else: bool,
    /// Whether that was said of the present handler already.
    deep_told: bool,
    /// The first block of this handler or procedure that was closed by a `}` further out.
    doubted: Option<Span>,
    /// How many `{` are open around here.
    open_blocks: usize,
    script: Script,
}

/// Words that are never names, since an expression could not tell them apart.
const RESERVED: [&str; 11] = ["true", "false", "none", "and", "or", "not", "implies", "is", "self", "was", "if"];
/// Words that begin a statement.
const STATEMENTS: [&str; 21] = [
    "after", "ask", "break", "clear", "else", "for", "go", "hide", "if", "let", "match", "note", "remove", "repeat",
    "restart", "return", "send", "show", "spawn", "wait", "while",
];
/// Words that begin a statement, also where a sign of assignment follows.
const HARD_STATEMENTS: [&str; 9] = ["let", "if", "match", "while", "repeat", "for", "return", "break", "else"];
/// Words that begin a statement with a block.
const BLOCK_STATEMENTS: [&str; 9] = ["if", "match", "while", "repeat", "for", "after", "ask", "choice", "else"];

impl<'a> Parser<'a> {
    fn new(text: &'a str, from: usize, to: usize) -> Self {
        let mut script = Script::default();
        let mut kept = tokens(text, from, to);
        kept.retain(|token| {
            let comment = token.kind == TokenKind::Comment;
            if comment {
                script.comments.push(token.span);
            }
            !comment
        });
        let previous = Span::new(from, from);
        Self {
            text,
            tokens: kept,
            at: 0,
            parens: 0,
            depth: 0,
            outside: false,
            previous,
            too_deep: false,
            before_else: false,
            deep_told: false,
            doubted: None,
            open_blocks: 0,
            script,
        }
    }

    // ---- tokens ----

    fn raw(&self) -> Token {
        self.tokens[self.at.min(self.tokens.len() - 1)]
    }

    /// The next token that means something here.
    fn peek(&mut self) -> Token {
        if self.parens > 0 {
            self.skip_newlines();
        }
        self.raw()
    }

    fn peek_second(&self) -> Token {
        self.tokens[(self.at + 1).min(self.tokens.len() - 1)]
    }

    fn bump(&mut self) -> Token {
        let token = self.peek();
        if token.kind != TokenKind::End {
            self.at += 1;
        }
        self.previous = token.span;
        token
    }

    fn skip_newlines(&mut self) {
        while self.raw().kind == TokenKind::Newline {
            self.at += 1;
        }
    }

    fn slice(&self, span: Span) -> &'a str {
        &self.text[span.range()]
    }

    fn at_punct(&mut self, punct: Punct) -> bool {
        self.peek().kind == TokenKind::Punct(punct)
    }

    fn eat_punct(&mut self, punct: Punct) -> bool {
        let found = self.at_punct(punct);
        if found {
            self.bump();
        }
        found
    }

    fn at_word(&mut self, word: &str) -> bool {
        let token = self.peek();
        token.kind == TokenKind::Word && self.slice(token.span) == word
    }

    fn eat_word(&mut self, word: &str) -> bool {
        let found = self.at_word(word);
        if found {
            self.bump();
        }
        found
    }

    fn need_punct(&mut self, punct: Punct, what: &str) -> Option<()> {
        if self.eat_punct(punct) { Some(()) } else { self.expected(what) }
    }

    fn need_word(&mut self, word: &str) -> Option<()> {
        if self.eat_word(word) { Some(()) } else { self.expected(&format!("`{word}`")) }
    }

    // ---- errors ----

    fn error(&mut self, span: Span, message: String, help: Option<String>) {
        self.script.errors.push(SyntaxError { span, message, help });
    }

    /// Records that something else was expected here. What is missing at a line's end is reported on that line.
    fn expected<T>(&mut self, what: &str) -> Option<T> {
        let found = self.peek();
        let line_between = self.text
            [self.previous.end as usize..(found.span.start as usize).max(self.previous.end as usize)]
            .contains('\n');
        let ended = matches!(found.kind, TokenKind::Newline | TokenKind::End) || line_between;
        let (span, message) = if ended && self.previous.end > self.previous.start {
            (self.previous, format!("expected {what} after `{}`", shorten(self.slice(self.previous))))
        } else if ended {
            (found.span, format!("expected {what}"))
        } else {
            (found.span, format!("expected {what}, found `{}`", shorten(self.slice(found.span))))
        };
        let help = if ended { None } else { self.slip(found) };
        self.error(span, message, help.map(str::to_owned));
        None
    }

    /// Gives the last error its cure.
    fn help(&mut self, help: &str) {
        if let Some(error) = self.script.errors.last_mut() {
            error.help = Some(help.to_owned());
        }
    }

    /// The cure for signs that mean something elsewhere, and nothing here.
    fn slip(&self, found: Token) -> Option<&'static str> {
        let rest = self.text.get(found.span.start as usize..).unwrap_or("");
        let cures = [
            ("&&", "write `and`"),
            ("||", "write `or`"),
            ("!", "write `not`; to compare, `!=`"),
            ("'", "a text stands in `\"`"),
            (";", "a statement ends with its line: write the next one below"),
            ("/*", "a comment runs from `//` to the end of the line"),
            ("#", "a comment runs from `//` to the end of the line"),
            ("?", "there is no short form of `if`: write it out"),
        ];
        cures.into_iter().find(|(sign, _)| rest.starts_with(sign)).map(|(_, cure)| cure)
    }

    /// Runs a construct one level deeper, or refuses.
    fn nested<T>(&mut self, read: impl FnOnce(&mut Self) -> Option<T>) -> Option<T> {
        if self.depth >= MAX_DEPTH {
            if !self.deep_told {
                let span = self.peek().span;
                let help = "move the inner part into a procedure, or into a `let` of its own".to_owned();
                self.error(span, format!("this is nested deeper than {MAX_DEPTH} levels"), Some(help));
            }
            self.too_deep = true;
            self.deep_told = true;
            return None;
        }
        self.depth += 1;
        let result = read(self);
        self.depth -= 1;
        result
    }

    /// Skips the rest of a statement that could not be read, but reads the block it ends in, if any.
    fn recover(&mut self) {
        let parens = std::mem::take(&mut self.parens);
        let line_passed = self.is_line_passed();
        let start = self.raw().span;
        let mut open = if self.too_deep { parens } else { 0 };
        self.too_deep = false;
        if line_passed && open == 0 {
            return;
        }
        loop {
            let token = self.raw();
            match token.kind {
                TokenKind::End => break,
                TokenKind::Newline if open == 0 => break,
                TokenKind::Punct(Punct::OpenParen) if parens > 0 || open > 0 => open += 1,
                TokenKind::Punct(Punct::CloseParen) => open = open.saturating_sub(1),
                TokenKind::Punct(Punct::OpenBrace) => {
                    self.block();
                    self.recover_else();
                    break;
                }
                TokenKind::Punct(Punct::CloseBrace) => break,
                _ => {}
            }
            if open > 0 && parens == 0 && token.kind == TokenKind::Newline {
                break;
            }
            self.at += 1;
            self.previous = token.span;
        }
        self.script.skipped.push(start.to(self.previous));
    }

    /// Goes on behind a mistake in a list of arms or choices, at the next line at the latest.
    fn go_on(&mut self, before: usize) {
        if self.at == before {
            self.previous = self.raw().span;
            self.at += 1;
        }
        self.recover();
    }

    /// Reads the `else` blocks that belong to an `if` whose condition could not be read.
    fn recover_else(&mut self) {
        while self.at_else() {
            self.bump();
            if self.eat_word("if") && self.expr().is_none() {
                return;
            }
            if !self.at_punct(Punct::OpenBrace) {
                return;
            }
            self.block();
        }
    }

    // ---- file ----

    /// `header { private | handler | procedure }`
    fn file(&mut self) {
        self.skip_newlines();
        let mut lost = false;
        if self.at_word("script") {
            if self.header().is_none() {
                self.recover();
            }
        } else {
            lost = true;
            let help = "begin the file with `script NAME for OWNER`".to_owned();
            let span = self.raw().span;
            self.error(span, "a script begins with a line that says whose it is".to_owned(), Some(help));
        }
        loop {
            self.skip_newlines();
            let token = self.raw();
            let word = if token.kind == TokenKind::Word { self.slice(token.span) } else { "" };
            self.deep_told = false;
            let read = match word {
                _ if token.kind == TokenKind::End => return,
                "private" => self.private(),
                "on" => self.handler(),
                "proc" => self.procedure(),
                _ => {
                    self.stray(token, &mut lost);
                    continue;
                }
            };
            lost = false;
            if read.is_none() {
                self.recover();
            } else {
                let _ = self.line_end(true);
            }
        }
    }

    /// Something at the top of a file that does not belong there. A stretch of such lines is one mistake.
    fn stray(&mut self, token: Token, lost: &mut bool) {
        if !*lost {
            let message = format!("`{}` can't stand here, outside a handler", shorten(self.slice(token.span)));
            let usual = "what stands here is `private`, `on` or `proc`; look for a `}` too many above";
            let help = self.slip(token).unwrap_or(usual).to_owned();
            self.error(token.span, message, Some(help));
        }
        *lost = true;
        while !matches!(self.raw().kind, TokenKind::Newline | TokenKind::End) {
            self.previous = self.raw().span;
            self.at += 1;
        }
        self.script.skipped.push(token.span.to(self.previous));
    }

    /// A statement ends at the end of its line, or before a `}`. Behind a block that was left open its line is over too.
    /// Says whether what was read may stand: where more follows, it can mean anything, but behind a block, or before a `;`.
    fn line_end(&mut self, has_block: bool) -> bool {
        let ends = matches!(self.raw().kind, TokenKind::Newline | TokenKind::End | TokenKind::Punct(Punct::CloseBrace));
        if ends || self.at_declaration() {
            return true;
        }
        let stands = has_block || self.slice(self.raw().span) == ";";
        self.expected::<()>("the end of the line");
        self.recover_from(has_block);
        stands
    }

    /// Skips the rest of a statement that could not be read: where none of its kind has a block, braces that close on the same
    /// line are none either.
    fn recover_from(&mut self, has_block: bool) {
        let mut open = 0;
        let rest = self.tokens.iter().skip(self.at).take_while(|token| {
            match token.kind {
                TokenKind::Newline | TokenKind::End => return false,
                TokenKind::Punct(Punct::OpenBrace) => open += 1,
                TokenKind::Punct(Punct::CloseBrace) if open == 0 => return false,
                TokenKind::Punct(Punct::CloseBrace) => open -= 1,
                _ => {}
            }
            true
        });
        let rest = rest.count();
        if has_block || self.is_line_passed() || open > 0 || self.too_deep {
            return self.recover();
        }
        self.parens = 0;
        let from = self.raw().span;
        self.at += rest;
        self.previous = if rest > 0 { self.tokens[self.at - 1].span } else { self.previous };
        self.script.skipped.push(from.to(self.previous));
    }

    /// Whether the mistake ended its line.
    fn is_line_passed(&self) -> bool {
        let next = self.raw().span.start as usize;
        let between = self.text.get(self.previous.end as usize..next);
        between.is_some_and(|between| between.contains('\n'))
    }

    fn name(&mut self, what: &str) -> Option<Name> {
        let token = self.peek();
        if token.kind != TokenKind::Word {
            return self.expected(what);
        }
        self.bump();
        Some(Name { span: token.span })
    }

    /// A name that is declared here.
    fn new_name(&mut self, what: &str) -> Option<Name> {
        let name = self.name(what)?;
        let text = self.slice(name.span);
        if RESERVED.contains(&text) {
            self.error(name.span, format!("`{text}` is a word of the language and can't be a name"), None);
            return None;
        }
        Some(name)
    }

    fn local(&mut self, name: Name, kind: LocalKind) -> LocalId {
        self.script.locals.push(Local { name, kind });
        LocalId(u32::try_from(self.script.locals.len() - 1).unwrap_or(u32::MAX))
    }

    /// `script NAME for OWNER [in SCENE]`
    fn header(&mut self) -> Option<()> {
        let start = self.bump().span;
        let name = self.name("the script's name")?;
        self.need_word("for")?;
        let owner = self.name("the owner's name")?;
        let scene = if self.eat_word("in") { Some(self.name("a scene's name")?) } else { None };
        self.script.header = Some(Header { name, owner, scene, span: start.to(self.previous) });
        let _ = self.line_end(true);
        Some(())
    }

    /// `private NAME: TYPE [= expr]`
    fn private(&mut self) -> Option<()> {
        let start = self.bump().span;
        let name = self.new_name("the private's name")?;
        let ty = self.private_type();
        let value = match ty {
            None => self.unread_value(),
            Some(_) if self.eat_punct(Punct::Assign) => self.expr().or_else(|| self.unread_value()),
            Some(_) => self.no_value(),
        };
        self.script.privates.push(Private { name, ty, start: value, span: start.to(self.previous) });
        Some(())
    }

    /// `":" TYPE`. Without it there is a private all the same, and its name means something.
    fn private_type(&mut self) -> Option<TypeName> {
        self.need_punct(Punct::Colon, "`:` and a type")?;
        self.type_name()
    }

    /// A private without a first value; where something else stands in its place, that was meant to be one.
    fn no_value(&mut self) -> Option<ExprId> {
        if matches!(self.raw().kind, TokenKind::Newline | TokenKind::End) {
            return None;
        }
        self.expected::<()>("`=` and a value, or the end of the line");
        self.unread_value()
    }

    /// A value that could not be read: there is one all the same.
    fn unread_value(&mut self) -> Option<ExprId> {
        let from = self.raw().span;
        self.recover();
        Some(self.push(ExprKind::Error, from))
    }

    /// `TYPE`
    fn type_name(&mut self) -> Option<TypeName> {
        let first = self.name("a type")?;
        let second = if self.eat_punct(Punct::Dot) { Some(self.name("the enum's name")?) } else { None };
        Some(TypeName { first, second })
    }

    /// `"(" [ parameters ] ")"`, the opening already taken.
    fn parameters(&mut self) -> Option<Vec<Parameter>> {
        self.parens += 1;
        let mut parameters = Vec::new();
        while !self.at_punct(Punct::CloseParen) {
            let name = self.new_name("a parameter's name or `)`")?;
            let ty = if self.eat_punct(Punct::Colon) { Some(self.type_name()?) } else { None };
            let local = self.local(name, LocalKind::Parameter);
            parameters.push(Parameter { local, ty });
            if !self.eat_punct(Punct::Comma) && !self.at_punct(Punct::CloseParen) {
                return self.expected("`,` or `)`");
            }
        }
        self.bump();
        self.parens -= 1;
        Some(parameters)
    }

    /// `on trigger [when expr] block`
    fn handler(&mut self) -> Option<()> {
        self.doubted = None;
        let start = self.bump().span;
        let (trigger, when) = match self.handler_head() {
            Some(head) => head,
            None => {
                self.skip_to_block();
                self.script.skipped.push(start.to(self.previous)); // Also what had been read before the mistake.
                (Trigger::Unreadable, None)
            }
        };
        let head = start.to(self.previous);
        // A `{` that is missing is told once, and what follows is read as if it stood there.
        let body = if self.at_punct(Punct::OpenBrace) || self.next_line_opens() {
            self.skip_newlines();
            self.block()?
        } else {
            self.statements(head, false)
        };
        let span = start.to(self.previous);
        self.script.handlers.push(Handler { trigger, when, body, head, span });
        Some(())
    }

    fn handler_head(&mut self) -> Option<(Trigger, Option<ExprId>)> {
        let trigger = self.trigger()?;
        let when = if self.eat_word("when") { Some(self.condition()?) } else { None };
        if !self.at_punct(Punct::OpenBrace) {
            let ended = matches!(self.raw().kind, TokenKind::Newline | TokenKind::End);
            self.expected::<()>("`{`");
            if !ended {
                return None; // Something else stands here, so what was read may not be what was meant.
            }
        }
        Some((trigger, when))
    }

    /// After a mistake in a head: on to the `{` of the same line, so that the body is still read.
    fn skip_to_block(&mut self) {
        self.parens = 0;
        self.too_deep = false;
        let from = self.raw().span;
        while !matches!(
            self.raw().kind,
            TokenKind::Newline | TokenKind::End | TokenKind::Punct(Punct::OpenBrace | Punct::CloseBrace)
        ) {
            self.previous = self.raw().span;
            self.at += 1;
        }
        self.script.skipped.push(from.to(self.previous));
    }

    fn trigger(&mut self) -> Option<Trigger> {
        let name = self.name("what the handler answers")?;
        Some(match self.slice(name.span) {
            "start" => Trigger::Start,
            "enter" => Trigger::Enter,
            "leave" => Trigger::Leave,
            "spawn" => Trigger::Spawn,
            "removed" => Trigger::Removed,
            "tick" => Trigger::Tick,
            "every" => match self.duration()? {
                Duration::Seconds(_) => return self.expected("a duration such as `2s`"),
                literal => Trigger::Every(literal),
            },
            "changed" => Trigger::Changed(self.path()?),
            _ => {
                let open = self.eat_punct(Punct::OpenParen);
                let parameters = if open { self.parameters()? } else { Vec::new() };
                Trigger::Signal { name, parameters }
            }
        })
    }

    /// `proc NAME(parameters) [-> TYPE] block`
    fn procedure(&mut self) -> Option<()> {
        self.doubted = None;
        let start = self.bump().span;
        let Some((name, parameters, gives)) = self.procedure_head() else {
            self.script.skipped.push(start.to(self.previous));
            return None;
        };
        let body = self.block()?;
        let span = start.to(self.previous);
        self.script.procedures.push(Procedure { name, parameters, gives, body, span });
        Some(())
    }

    fn procedure_head(&mut self) -> Option<(Name, Vec<Parameter>, Option<TypeName>)> {
        let name = self.new_name("the procedure's name")?;
        self.need_punct(Punct::OpenParen, "`(`")?;
        let parameters = self.parameters()?;
        let gives = if self.eat_punct(Punct::Arrow) { Some(self.type_name()?) } else { None };
        Some((name, parameters, gives))
    }

    // ---- statements ----

    /// `"{" { statement } "}"`
    fn block(&mut self) -> Option<Block> {
        if !self.at_punct(Punct::OpenBrace) {
            self.expected::<()>("`{`");
            if !self.next_line_opens() {
                let missing = self.previous;
                return if self.closes_more() {
                    self.nested(|parser| Some(parser.statements(missing, false)))
                } else {
                    None
                };
            }
            self.help("a `{` stands on the line of what it belongs to");
            self.skip_newlines();
        }
        let open = self.raw().span;
        let deep = self.depth >= MAX_DEPTH;
        let block = self.nested(Self::block_inside);
        if block.is_none() && deep {
            self.skip_braces();
            self.too_deep = false;
            return Some(Block { statements: Vec::new(), span: open.to(self.previous) });
        }
        block
    }

    /// Whether more is closed from here to the next declaration than is open: then what follows is read as if the `{` that is
    /// missing stood here.
    fn closes_more(&self) -> bool {
        let mut open = self.open_blocks;
        for (at, token) in self.tokens[self.at..].iter().enumerate().take(FARTHEST) {
            match token.kind {
                TokenKind::Punct(Punct::OpenBrace) => open += 1,
                TokenKind::Punct(Punct::CloseBrace) if open == 0 => return true,
                TokenKind::Punct(Punct::CloseBrace) => open -= 1,
                _ if self.is_declaration(self.at + at) => return false,
                _ => {}
            }
        }
        false
    }

    /// Whether the next line begins with the `{` that is missing here.
    fn next_line_opens(&self) -> bool {
        let next = self.tokens[self.at..].iter().find(|token| token.kind != TokenKind::Newline);
        next.is_some_and(|token| token.kind == TokenKind::Punct(Punct::OpenBrace))
    }

    /// A block that an `else` may follow: one that is not closed before it ends there.
    fn arm_block(&mut self) -> Option<Block> {
        self.before_else = true;
        let block = self.block();
        self.before_else = false;
        block
    }

    fn block_inside(&mut self) -> Option<Block> {
        let open = self.bump().span;
        Some(self.statements(open, true))
    }

    /// The statements up to the `}`; `opened` is false where the `{` is missing, which is told already.
    fn statements(&mut self, open: Span, opened: bool) -> Block {
        self.open_blocks += 1;
        let block = self.statements_inside(open, opened);
        self.open_blocks -= 1;
        block
    }

    fn statements_inside(&mut self, open: Span, opened: bool) -> Block {
        let before_else = std::mem::take(&mut self.before_else);
        let mut statements = Vec::new();
        loop {
            self.skip_newlines();
            match self.raw().kind {
                TokenKind::Punct(Punct::CloseBrace) => {
                    self.doubt_by_indentation(open);
                    self.bump();
                    break;
                }
                TokenKind::End if opened => {
                    self.left_open(open, "this `{` is never closed");
                    break;
                }
                TokenKind::End => break,
                TokenKind::Word if before_else && self.slice(self.raw().span) == "else" => {
                    let at = self.raw().span;
                    self.error(at, "the `}` before this `else` is missing".to_owned(), None);
                    break;
                }
                _ if self.at_declaration() && !opened => break,
                _ if self.at_declaration() => {
                    self.left_open(open, "this `{` is not closed before the next declaration");
                    break;
                }
                _ => {}
            }
            let start = self.raw().span;
            let before = self.at;
            let has_block = BLOCK_STATEMENTS.contains(&self.slice(start));
            let read = self.statement().map(|kind| Statement { kind, span: start.to(self.previous) });
            let stands = match &read {
                Some(_) => self.line_end(has_block),
                None => {
                    self.recover_from(has_block);
                    false
                }
            };
            if stands {
                statements.extend(read);
            } else {
                // What stands before the mistake is not kept either.
                self.script.skipped.push(start.to(self.previous));
            }
            if self.at == before {
                self.at += 1; // A step for certain, whatever stood there.
            }
        }
        statements.shrink_to_fit(); // Trees stay.
        Block { statements, span: open.to(self.previous) }
    }

    /// Remembers the first block that a `}` further out closes: where one is missing, that is the one that lacks it.
    fn doubt_by_indentation(&mut self, open: Span) {
        let close = self.raw().span;
        // On one line there is nothing to tell, and a line may be as long as the file.
        let lines_between = self.text[open.start as usize..close.start as usize].contains('\n');
        if self.doubted.is_none() && lines_between && self.indentation(close) < self.indentation(open) {
            self.doubted = Some(open);
        }
    }

    /// How far in the line begins on which something stands, in bytes.
    fn indentation(&self, at: Span) -> usize {
        let before = &self.text[..at.start as usize];
        let line = &self.text[before.rfind('\n').map_or(0, |end| end + 1)..];
        line.len() - line.trim_start_matches([' ', '\t']).len()
    }

    /// Tells of a `}` that is missing. Which statements were meant to stand in the block nobody can tell, so what they do
    /// is no fact.
    fn left_open(&mut self, open: Span, message: &str) {
        let at = self.doubted.take().unwrap_or(open);
        self.error(at, message.to_owned(), None);
        self.script.skipped.push(open.to(self.previous));
        self.script.left_open.push(open.to(self.previous));
    }

    /// Whether a line that can only stand at the top of a file begins here: then a `}` is missing above.
    fn at_declaration(&mut self) -> bool {
        self.is_declaration(self.at)
    }

    fn is_declaration(&self, at: usize) -> bool {
        let Some(token) = self.tokens.get(at) else { return false };
        let column_one = token.span.start == 0 || self.text.as_bytes()[token.span.start as usize - 1] == b'\n';
        column_one
            && token.kind == TokenKind::Word
            && matches!(self.slice(token.span), "on" | "proc" | "private" | "script")
            && self.tokens.get(at + 1).is_some_and(|next| next.kind == TokenKind::Word)
    }

    /// Passes over a block that nests too deep, to its closing brace.
    fn skip_braces(&mut self) {
        let start = self.raw().span;
        let mut open = 0u32;
        loop {
            let token = self.raw();
            match token.kind {
                TokenKind::End => break,
                TokenKind::Punct(Punct::OpenBrace) => open += 1,
                TokenKind::Punct(Punct::CloseBrace) => open = open.saturating_sub(1),
                _ => {}
            }
            self.at += 1;
            self.previous = token.span;
            if open == 0 {
                break;
            }
        }
        self.script.skipped.push(start.to(self.previous));
    }

    fn statement(&mut self) -> Option<StatementKind> {
        let token = self.raw();
        if token.kind == TokenKind::Unknown {
            // It is passed over, so that the rest of its line is no second mistake.
            self.bump();
            let help = self.slip(token).map(str::to_owned);
            let found = shorten(self.slice(token.span)).to_owned();
            self.error(token.span, format!("expected a statement, found `{found}`"), help);
            return None;
        }
        if matches!(token.kind, TokenKind::Newline | TokenKind::End) {
            return self.expected("a statement");
        }
        if token.kind != TokenKind::Word {
            // It stands where a statement would begin, so it is what is wrong, and not the line before.
            let help = self.slip(token).map(str::to_owned);
            let found = shorten(self.slice(token.span)).to_owned();
            self.error(token.span, format!("expected a statement, found `{found}`"), help);
            return None;
        }
        let word = self.slice(token.span);
        let assigns = matches!(
            self.peek_second().kind,
            TokenKind::Punct(
                Punct::Assign
                    | Punct::PlusAssign
                    | Punct::MinusAssign
                    | Punct::StarAssign
                    | Punct::SlashAssign
                    | Punct::Dot
            )
        );
        if assigns && !HARD_STATEMENTS.contains(&word) {
            return self.assignment();
        }
        match word {
            "clear" => self.after_word(|p| Some(StatementKind::Clear { target: p.path()? })),
            "let" => self.after_word(Self::let_),
            "if" => self.if_(),
            "match" => self.after_word(Self::match_),
            "while" => self.after_word(|p| {
                let condition = p.condition()?;
                Some(StatementKind::While { condition, body: p.block()? })
            }),
            "repeat" => self.after_word(|p| {
                let count = p.expr()?;
                Some(StatementKind::Repeat { count, body: p.block()? })
            }),
            "for" => self.after_word(Self::for_),
            "wait" => self.after_word(|p| {
                if p.eat_word("until") {
                    return Some(StatementKind::WaitUntil(p.condition()?));
                }
                Some(StatementKind::Wait(p.duration_or_any()))
            }),
            "after" => self.after_word(|p| {
                let delay = p.duration_or_any();
                Some(StatementKind::After { delay, body: p.block()? })
            }),
            "send" => self.after_word(Self::send),
            "show" => self.after_word(Self::show),
            "hide" => self.after_word(|p| Some(StatementKind::Hide { label: p.name("a label's name")? })),
            "ask" => self.after_word(Self::ask),
            "note" => self.after_word(|p| Some(StatementKind::Note { text: p.expr()? })),
            "spawn" => self.after_word(Self::spawn),
            "remove" => self.after_word(|p| Some(StatementKind::Remove(p.expr()?))),
            "go" => self.after_word(|p| Some(StatementKind::Go(p.name("a scene's name")?))),
            "restart" => self.after_word(|_| Some(StatementKind::Restart)),
            "break" => self.after_word(|_| Some(StatementKind::Break)),
            "return" => self.after_word(|p| {
                let ends =
                    matches!(p.raw().kind, TokenKind::Newline | TokenKind::End | TokenKind::Punct(Punct::CloseBrace));
                Some(StatementKind::Return(if ends { None } else { Some(p.expr()?) }))
            }),
            "else" => {
                self.bump();
                self.error(token.span, "this `else` belongs to no `if`".to_owned(), None);
                None
            }
            _ if self.peek_second().kind == TokenKind::Punct(Punct::OpenParen) => {
                Some(StatementKind::Call(self.primary()?))
            }
            _ => self.no_statement(word),
        }
    }

    fn after_word(&mut self, read: impl FnOnce(&mut Self) -> Option<StatementKind>) -> Option<StatementKind> {
        self.bump();
        read(self)
    }

    fn no_statement(&mut self, word: &str) -> Option<StatementKind> {
        let span = self.bump().span;
        let next = self.peek();
        let help = match next.kind {
            TokenKind::Punct(Punct::Equal) => Some(format!("to set it, write `{word} = …` with one `=`")),
            TokenKind::Newline | TokenKind::End => {
                Some(format!("to call a procedure, write `{word}()`; to set a variable, `{word} = …`"))
            }
            _ => None,
        };
        self.error(span, format!("`{}` begins no statement", shorten(word)), help);
        None
    }

    /// `path ( "=" | "+=" | "-=" | "*=" | "/=" ) expr`
    fn assignment(&mut self) -> Option<StatementKind> {
        let target = self.path()?;
        let op = match self.peek().kind {
            TokenKind::Punct(Punct::Assign) => AssignOp::Set,
            TokenKind::Punct(Punct::PlusAssign) => AssignOp::Add,
            TokenKind::Punct(Punct::MinusAssign) => AssignOp::Subtract,
            TokenKind::Punct(Punct::StarAssign) => AssignOp::Multiply,
            TokenKind::Punct(Punct::SlashAssign) => AssignOp::Divide,
            _ => return self.expected("`=`, `+=`, `-=`, `*=` or `/=`"),
        };
        self.bump();
        Some(StatementKind::Assign { target, op, value: self.expr()? })
    }

    fn let_(&mut self) -> Option<StatementKind> {
        let name = self.new_name("a name")?;
        self.need_punct(Punct::Assign, "`=`")?;
        let value = self.expr()?;
        Some(StatementKind::Let { local: self.local(name, LocalKind::Let), value })
    }

    fn at_else(&mut self) -> bool {
        let here = self.at;
        self.skip_newlines();
        let found = self.at_word("else");
        if !found {
            self.at = here;
        }
        found
    }

    /// `"if" expr block { "else" "if" expr block } [ "else" block ]`
    fn if_(&mut self) -> Option<StatementKind> {
        self.bump();
        let condition = self.condition()?;
        let mut arms = vec![Arm { tests: vec![condition], body: self.arm_block()? }];
        let mut otherwise = None;
        while otherwise.is_none() && self.at_else() {
            self.bump();
            if self.eat_word("if") {
                let Some(condition) = self.condition() else {
                    // What was read stays; the broken arm's block is still read for its own mistakes.
                    self.recover();
                    break;
                };
                arms.push(Arm { tests: vec![condition], body: self.arm_block()? });
            } else {
                otherwise = Some(self.block()?);
            }
        }
        Some(StatementKind::If { arms, otherwise })
    }

    /// `"match" expr "{" { expr { "," expr } block } [ "else" block ] "}"`
    fn match_(&mut self) -> Option<StatementKind> {
        let subject = self.expr()?;
        self.need_list("`{`")?;
        self.open_blocks += 1;
        let arms = self.arms();
        self.open_blocks -= 1;
        let (arms, otherwise) = arms?;
        Some(StatementKind::Match { subject, arms, otherwise })
    }

    /// The `{` of a list of arms or choices. One that is missing is told, and what follows is read if it is closed.
    fn need_list(&mut self, what: &str) -> Option<()> {
        if self.eat_punct(Punct::OpenBrace) {
            return Some(());
        }
        self.expected::<()>(what);
        self.closes_more().then_some(())
    }

    fn arms(&mut self) -> Option<(Vec<Arm>, Option<Block>)> {
        let mut arms = Vec::new();
        let mut otherwise = None;
        loop {
            self.skip_newlines();
            if self.eat_punct(Punct::CloseBrace) {
                break;
            }
            if self.raw().kind == TokenKind::End {
                return self.expected("`}`");
            }
            if self.eat_word("else") {
                otherwise = Some(self.block()?);
                continue;
            }
            let before = self.at;
            match self.arm() {
                Some(arm) => arms.push(arm),
                None => self.go_on(before),
            }
        }
        Some((arms, otherwise))
    }

    /// `expr { "," expr } block`
    fn arm(&mut self) -> Option<Arm> {
        let mut tests = vec![self.expr()?];
        while self.eat_punct(Punct::Comma) {
            self.skip_newlines();
            tests.push(self.expr()?);
        }
        Some(Arm { tests, body: self.arm_block()? })
    }

    /// `"for" NAME "in" ACTOR [ "where" expr ] block`
    fn for_(&mut self) -> Option<StatementKind> {
        let name = self.new_name("a name")?;
        let local = self.local(name, LocalKind::For);
        self.need_word("in")?;
        let actor = self.name("an actor's name")?;
        let filter = if self.eat_word("where") { Some(self.condition()?) } else { None };
        Some(StatementKind::For { local, actor, filter, body: self.block()? })
    }

    /// `"send" SIGNAL [ "(" [ arguments ] ")" ] [ "to" expr ]`
    fn send(&mut self) -> Option<StatementKind> {
        let signal = self.name("a signal's name")?;
        let arguments = if self.eat_punct(Punct::OpenParen) { self.arguments()? } else { Vec::new() };
        let to = if self.eat_word("to") { Some(self.expr()?) } else { None };
        if arguments.is_empty() && !matches!(self.raw().kind, TokenKind::Newline | TokenKind::End | TokenKind::Punct(_))
        {
            return self.expected("`(`, `to` or the end of the line");
        }
        Some(StatementKind::Send { signal, arguments, to })
    }

    /// `"show" [ LABEL ] TEXT`
    fn show(&mut self) -> Option<StatementKind> {
        let labelled = self.raw().kind == TokenKind::Word
            && matches!(self.peek_second().kind, TokenKind::Text | TokenKind::Word | TokenKind::Int | TokenKind::Float);
        let label = if labelled { Some(self.name("a label's name")?) } else { None };
        Some(StatementKind::Show { label, text: self.expr()? })
    }

    /// `"ask" TEXT "{" { "choice" TEXT [ "when" expr ] block } "}"`
    fn ask(&mut self) -> Option<StatementKind> {
        let text = self.expr()?;
        self.need_list("`{` and the choices")?;
        self.open_blocks += 1;
        let choices = self.choices();
        self.open_blocks -= 1;
        Some(StatementKind::Ask { text, choices: choices? })
    }

    fn choices(&mut self) -> Option<Vec<Choice>> {
        let mut choices = Vec::new();
        loop {
            self.skip_newlines();
            if self.eat_punct(Punct::CloseBrace) {
                break;
            }
            if self.raw().kind == TokenKind::End {
                return self.expected("`}`");
            }
            let before = self.at;
            match self.choice() {
                Some(choice) => choices.push(choice),
                None => self.go_on(before),
            }
        }
        Some(choices)
    }

    /// `"choice" TEXT [ "when" expr ] block`
    fn choice(&mut self) -> Option<Choice> {
        if !self.eat_word("choice") {
            let found = self.peek().span;
            let word = shorten(self.slice(found));
            self.error(found, format!("a question has choices, and `{word}` is none"), None);
            return None;
        }
        let text = self.expr()?;
        let when = if self.eat_word("when") { Some(self.condition()?) } else { None };
        Some(Choice { text, when, body: self.block()? })
    }

    /// `"spawn" ACTOR [ "as" NAME ]`
    fn spawn(&mut self) -> Option<StatementKind> {
        let actor = self.name("an actor's name")?;
        let local = if self.eat_word("as") {
            let name = self.new_name("a name")?;
            Some(self.local(name, LocalKind::Spawned))
        } else {
            None
        };
        Some(StatementKind::Spawn { actor, local })
    }

    /// `DURATION | "seconds" "(" expr ")"`
    /// The duration of what waits for certain, for some time or other, also where it can't be read for how long.
    fn duration_or_any(&mut self) -> Duration {
        self.duration().unwrap_or_else(|| {
            let span = self.previous;
            self.skip_to_block();
            Duration::Literal { amount: 1.0, unit: DurationUnit::Seconds, span }
        })
    }

    fn duration(&mut self) -> Option<Duration> {
        if self.eat_word("seconds") {
            self.need_punct(Punct::OpenParen, "`(`")?;
            self.parens += 1;
            let value = self.expr()?;
            self.need_punct(Punct::CloseParen, "`)`")?;
            self.parens -= 1;
            return Some(Duration::Seconds(value));
        }
        let token = self.peek();
        let text = self.slice(token.span);
        let split = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
        let (amount, unit) = text.split_at(split);
        let unit = match unit {
            "s" => DurationUnit::Seconds,
            "ms" => DurationUnit::Milliseconds,
            "t" => DurationUnit::Ticks,
            _ => return self.expected("a duration such as `0.5s`, `200ms` or `10t`"),
        };
        let (TokenKind::Duration, Ok(amount)) = (token.kind, amount.parse::<f64>()) else {
            return self.expected("a duration such as `0.5s`, `200ms` or `10t`");
        };
        self.bump();
        Some(Duration::Literal { amount, unit, span: token.span })
    }

    // ---- expressions ----

    fn push(&mut self, kind: ExprKind, span: Span) -> ExprId {
        self.script.exprs.push(Expr { kind, span });
        ExprId(u32::try_from(self.script.exprs.len() - 1).unwrap_or(u32::MAX))
    }

    fn span_of(&self, expr: ExprId) -> Span {
        self.script.expr(expr).span
    }

    /// An expression where a `=` can only be a slip for `==`.
    fn condition(&mut self) -> Option<ExprId> {
        let expr = self.expr()?;
        if self.at_punct(Punct::Assign) {
            let span = self.bump().span;
            let help = "to compare, write `==`".to_owned();
            self.error(span, "`=` sets a value and can't stand in a condition".to_owned(), Some(help));
            let right = self.expr()?;
            let whole = self.span_of(expr).to(self.span_of(right));
            return Some(self.push(ExprKind::Binary(BinaryOp::Equal, expr, right), whole));
        }
        Some(expr)
    }

    fn expr(&mut self) -> Option<ExprId> {
        self.nested(|p| p.binary(0))
    }

    /// The binary operators, from the loosest level to the tightest.
    fn binary(&mut self, level: u8) -> Option<ExprId> {
        if level == 3 {
            return self.not();
        }
        if level == 4 {
            return self.comparison();
        }
        if level == 7 {
            return self.unary();
        }
        let start = self.peek().span; // The parenthesis too, where the left side stands in one.
        let mut left = self.binary(level + 1)?;
        let mut chain = 0;
        while let Some(op) = self.operator(level) {
            if op == BinaryOp::Implies && !self.outside {
                let help = "write `not a or b` for `a implies b`".to_owned();
                let span = self.peek().span;
                self.error(span, "`implies` is for invariants only".to_owned(), Some(help));
            }
            self.bump();
            self.skip_newlines();
            chain += 1;
            if chain > MAX_CHAIN {
                let span = self.span_of(left);
                let help = "split it with a `let`".to_owned();
                self.error(
                    Span { start: span.end, end: span.end },
                    format!("this expression chains more than {MAX_CHAIN} operators"),
                    Some(help),
                );
                self.too_deep = true;
                return None;
            }
            let right = self.binary(level + 1)?;
            let span = start.to(self.previous);
            left = self.push(ExprKind::Binary(op, left, right), span);
        }
        Some(left)
    }

    fn operator(&mut self, level: u8) -> Option<BinaryOp> {
        let token = self.peek();
        match (level, token.kind) {
            (0..=2, TokenKind::Word) => match (level, self.slice(token.span)) {
                (0, "implies") => Some(BinaryOp::Implies),
                (1, "or") => Some(BinaryOp::Or),
                (2, "and") => Some(BinaryOp::And),
                _ => None,
            },
            (5, TokenKind::Punct(Punct::Plus)) => Some(BinaryOp::Add),
            (5, TokenKind::Punct(Punct::Minus)) => Some(BinaryOp::Subtract),
            (6, TokenKind::Punct(Punct::Star)) => Some(BinaryOp::Multiply),
            (6, TokenKind::Punct(Punct::Slash)) => Some(BinaryOp::Divide),
            (6, TokenKind::Punct(Punct::Percent)) => Some(BinaryOp::Remainder),
            _ => None,
        }
    }

    /// `not expr`
    fn not(&mut self) -> Option<ExprId> {
        if !self.at_word("not") {
            return self.binary(4);
        }
        let start = self.bump().span;
        self.skip_newlines();
        let operand = self.nested(Self::not)?;
        let span = start.to(self.previous);
        Some(self.push(ExprKind::Unary(UnaryOp::Not, operand), span))
    }

    fn comparison_sign(&mut self) -> Option<BinaryOp> {
        Some(match self.peek().kind {
            TokenKind::Punct(Punct::Equal) => BinaryOp::Equal,
            TokenKind::Punct(Punct::NotEqual) => BinaryOp::NotEqual,
            TokenKind::Punct(Punct::Less) => BinaryOp::Less,
            TokenKind::Punct(Punct::LessEqual) => BinaryOp::LessEqual,
            TokenKind::Punct(Punct::Greater) => BinaryOp::Greater,
            TokenKind::Punct(Punct::GreaterEqual) => BinaryOp::GreaterEqual,
            _ => return None,
        })
    }

    /// `a == b`, `a is [not] set|none|NAME`
    fn comparison(&mut self) -> Option<ExprId> {
        let start = self.peek().span;
        let left = self.binary(5)?;
        let expr = if let Some(op) = self.comparison_sign() {
            self.bump();
            self.skip_newlines();
            let right = self.binary(5)?;
            let span = start.to(self.previous);
            self.push(ExprKind::Binary(op, left, right), span)
        } else if self.at_word("is") {
            self.bump();
            self.skip_newlines();
            let negated = self.eat_word("not");
            let name = self.name("`set`, `none`, or the name of an actor")?;
            let test = match self.slice(name.span) {
                "set" => IsTest::Set,
                "none" => IsTest::None,
                _ => IsTest::Named(name),
            };
            let span = start.to(self.previous);
            self.push(ExprKind::Is { subject: left, negated, test }, span)
        } else {
            return Some(left);
        };
        if self.comparison_sign().is_some() || self.at_word("is") {
            let span = self.peek().span;
            let help = "join two comparisons with `and`: `0 <= x and x < 5`".to_owned();
            self.error(span, "comparisons don't chain".to_owned(), Some(help));
            return None;
        }
        Some(expr)
    }

    /// `-a`, `+a`
    fn unary(&mut self) -> Option<ExprId> {
        let op = match self.peek().kind {
            TokenKind::Punct(Punct::Minus) => UnaryOp::Minus,
            TokenKind::Punct(Punct::Plus) => UnaryOp::Plus,
            _ => return self.primary(),
        };
        let start = self.bump().span;
        let number = self.peek();
        if op == UnaryOp::Minus && self.slice(number.span) == "9223372036854775808" {
            self.bump(); // The one whole number that is none without its sign.
            return Some(self.push(ExprKind::Int(i64::MIN), start.to(number.span)));
        }
        let operand = self.nested(Self::unary)?;
        let span = start.to(self.previous);
        Some(self.push(ExprKind::Unary(op, operand), span))
    }

    /// `call | path | literal | "(" expr ")"`
    fn primary(&mut self) -> Option<ExprId> {
        let token = self.peek();
        match token.kind {
            TokenKind::Int => self.int(token),
            TokenKind::Float => {
                self.bump();
                let value = self.slice(token.span).parse::<f64>().unwrap_or(f64::MAX);
                if value.is_finite() {
                    return Some(self.push(ExprKind::Float(value), token.span));
                }
                self.error(token.span, "this number is too large".to_owned(), None);
                None
            }
            TokenKind::Text => {
                self.bump();
                Some(self.text(token.span))
            }
            TokenKind::Punct(Punct::OpenParen) => {
                self.bump();
                self.parens += 1;
                let inner = self.expr()?;
                if !self.at_punct(Punct::CloseParen) {
                    return self.expected("`)`");
                }
                self.parens -= 1;
                self.bump();
                Some(inner)
            }
            TokenKind::Duration => {
                let help = "a duration stands only behind `wait`, `after` and `every`".to_owned();
                self.bump();
                self.error(token.span, format!("`{}` is no value", shorten(self.slice(token.span))), Some(help));
                None
            }
            TokenKind::Word => match self.slice(token.span) {
                "true" | "false" => {
                    self.bump();
                    Some(self.push(ExprKind::Bool(self.slice(token.span) == "true"), token.span))
                }
                "none" => {
                    self.bump();
                    Some(self.push(ExprKind::None, token.span))
                }
                "and" | "or" | "not" | "implies" | "is" => self.expected("a value"),
                word if HARD_STATEMENTS.contains(&word) || self.begins_the_next_statement(token) => {
                    self.expected("a value")
                }
                _ if self.peek_second().kind == TokenKind::Punct(Punct::OpenParen) => self.call(),
                _ => self.path(),
            },
            _ => self.expected("a value"),
        }
    }

    /// Whether a word stands on a line of its own and begins a statement: the line before goes on, but without a value.
    fn begins_the_next_statement(&self, word: Token) -> bool {
        let (from, to) = (self.previous.end as usize, word.span.start as usize);
        STATEMENTS.contains(&self.slice(word.span)) && self.text.get(from..to).is_some_and(|gap| gap.contains('\n'))
    }

    fn int(&mut self, token: Token) -> Option<ExprId> {
        self.bump();
        match self.slice(token.span).parse::<i64>() {
            Ok(value) => Some(self.push(ExprKind::Int(value), token.span)),
            Err(_) => {
                let message = format!("`{}` is too large for a whole number", shorten(self.slice(token.span)));
                self.error(token.span, message, Some(format!("the largest is {}", i64::MAX)));
                None
            }
        }
    }

    /// `NAME "(" [ arguments ] ")"`
    fn call(&mut self) -> Option<ExprId> {
        let name = self.name("a function's name")?;
        self.bump();
        let arguments = self.arguments()?;
        Some(self.push(ExprKind::Call(name, arguments), name.span.to(self.previous)))
    }

    /// `expr { "," expr } ")"`, the opening already taken.
    fn arguments(&mut self) -> Option<Vec<ExprId>> {
        self.parens += 1;
        let mut arguments = Vec::new();
        while !self.at_punct(Punct::CloseParen) {
            arguments.push(self.expr()?);
            if !self.eat_punct(Punct::Comma) && !self.at_punct(Punct::CloseParen) {
                return self.expected("`,` or `)`");
            }
        }
        self.parens -= 1;
        self.bump();
        Some(arguments)
    }

    /// `NAME { "." NAME }`
    fn path(&mut self) -> Option<ExprId> {
        let first = self.name("a variable's name")?;
        let mut names = vec![first];
        while self.eat_punct(Punct::Dot) {
            names.push(self.name("a name behind the dot")?);
            if names.len() > MAX_DEPTH as usize {
                return self.expected("a shorter path");
            }
        }
        Some(self.push(ExprKind::Path(names), first.span.to(self.previous)))
    }

    // ---- texts ----

    /// A text literal: escapes, `{{`, `}}` and tokens. Its mistakes are recorded; the literal itself stays one.
    fn text(&mut self, span: Span) -> ExprId {
        let mut parts = Vec::new();
        let mut plain = String::new();
        let end = span.end as usize;
        let mut at = span.start as usize + 1;
        let mut closed = false;
        while at < end {
            let c = self.text[at..end].chars().next().unwrap_or('"');
            let next = self.text[at..end].chars().nth(1);
            match (c, next) {
                ('"', _) => {
                    closed = true;
                    break;
                }
                ('\\', Some(escaped)) => {
                    match escaped {
                        '"' | '\\' => plain.push(escaped),
                        'n' => plain.push('\n'),
                        _ => {
                            let message = format!("`\\{escaped}` means nothing in a text");
                            let help = "write `\\\"`, `\\\\` or `\\n`".to_owned();
                            self.error(Span::new(at, at + 1 + escaped.len_utf8()), message, Some(help));
                        }
                    }
                    at += 1 + escaped.len_utf8();
                }
                ('{', Some('{')) | ('}', Some('}')) => {
                    plain.push(c);
                    at += 2;
                }
                ('{', _) => {
                    if !plain.is_empty() {
                        parts.push(TextPart::Plain(std::mem::take(&mut plain)));
                    }
                    at = self.token(at, end, &mut parts);
                }
                ('}', _) => {
                    let help = "write `}}` for a brace in a text".to_owned();
                    self.error(Span::new(at, at + 1), "this `}` closes no token".to_owned(), Some(help));
                    at += 1;
                }
                _ => {
                    plain.push(c);
                    at += c.len_utf8();
                }
            }
        }
        if !closed {
            self.error(span, "this text has no closing `\"` on its line".to_owned(), None);
        }
        if !plain.is_empty() || parts.is_empty() {
            parts.push(TextPart::Plain(plain));
        }
        self.push(ExprKind::Text(parts), span)
    }

    /// `{expr}` or `{expr:decimals}`; gives the offset behind it.
    fn token(&mut self, open: usize, end: usize, parts: &mut Vec<TextPart>) -> usize {
        let inside = &self.text[open + 1..end];
        let Some(close) = inside.find(['}', '{', '"']).filter(|&at| inside.as_bytes()[at] == b'}') else {
            let help = "close it with `}`; for a brace in a text write `{{`".to_owned();
            self.error(Span::new(open, open + 1), "this token is never closed".to_owned(), Some(help));
            return open + 1;
        };
        let close = open + 1 + close;
        let (expr_end, decimals) = self.decimals(open + 1, close);
        let value = self.inner_expr(open + 1, expr_end);
        parts.push(TextPart::Token { value, decimals, span: Span::new(open, close + 1) });
        close + 1
    }

    fn decimals(&mut self, from: usize, to: usize) -> (usize, Option<u8>) {
        let inside = &self.text[from..to];
        let Some(colon) = inside.rfind(':') else { return (to, None) };
        match inside[colon + 1..].trim().parse::<u8>() {
            Ok(count) if count <= 20 => (from + colon, Some(count)),
            _ => {
                let help = "write `{speed:1}` for one decimal; 20 is the most".to_owned();
                let span = Span::new(from + colon, to);
                self.error(span, "behind `:` stands the count of decimals".to_owned(), Some(help));
                (from + colon, None)
            }
        }
    }

    /// Reads one expression inside a token, with the same tables.
    fn inner_expr(&mut self, from: usize, to: usize) -> ExprId {
        let outer = (
            std::mem::replace(&mut self.tokens, tokens(self.text, from, to)),
            std::mem::take(&mut self.at),
            std::mem::replace(&mut self.parens, 1),
            std::mem::replace(&mut self.previous, Span::new(from, from)),
        );
        let mut expr = self.expr();
        if expr.is_some() && self.peek().kind != TokenKind::End {
            expr = self.expected("`}`");
        }
        if expr.is_none() {
            self.script.skipped.push(Span::new(from, to));
        }
        self.too_deep = false;
        (self.tokens, self.at, self.parens, self.previous) = outer;
        expr.unwrap_or_else(|| self.push(ExprKind::Error, Span::new(from, to)))
    }
}

/// A text short enough to stand in a message.
fn shorten(text: &str) -> String {
    let mut short: String = text.chars().take(40).collect();
    if text.chars().count() > 40 {
        short.push('…');
    }
    short
}
