//! The tree of a script.
//!
//! Names are spans into the text, expressions live in one table and are named by [`ExprId`], and everything that
//! declares a name inside a body has a dense [`LocalId`], so that later stages keep what they learn in flat tables
//! beside the tree instead of in it. Every node knows its bytes; comments stand in [`Script::comments`].

use crate::source::Span;

/// An expression of a script: an index into [`Script::exprs`].
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub struct ExprId(pub u32);

/// A `let`, a parameter, or the name of a `for` or a `spawn … as`: an index into [`Script::locals`].
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub struct LocalId(pub u32);

/// A name as it stands in the text.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub struct Name {
    /// Where it stands.
    pub span: Span,
}

/// How a local came to be.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum LocalKind {
    /// `let x = …`
    Let,
    /// A parameter of a handler or a procedure.
    Parameter,
    /// `for x in ACTOR`
    For,
    /// `spawn ACTOR as x`
    Spawned,
}

/// A declared local.
#[derive(Clone, Copy, Debug)]
pub struct Local {
    /// Its name.
    pub name: Name,
    /// How it came to be.
    pub kind: LocalKind,
}

/// A whole script.
#[derive(Debug, Default)]
pub struct Script {
    /// `script NAME for OWNER in SCENE`, if it could be read.
    pub header: Option<Header>,
    /// The privates, in order.
    pub privates: Vec<Private>,
    /// The handlers, in order.
    pub handlers: Vec<Handler>,
    /// The procedures, in order.
    pub procedures: Vec<Procedure>,
    /// All expressions.
    pub exprs: Vec<Expr>,
    /// All names declared inside bodies.
    pub locals: Vec<Local>,
    /// All comments, in order.
    pub comments: Vec<Span>,
    /// What could not be read.
    pub errors: Vec<SyntaxError>,
    /// The stretches that reading passed over: whatever they name may be used there.
    pub skipped: Vec<Span>,
    /// Blocks that are not closed: what was meant to stand in them nobody can tell.
    pub left_open: Vec<Span>,
}

impl Script {
    /// The expression of an id.
    #[inline]
    #[must_use]
    pub fn expr(&self, id: ExprId) -> &Expr {
        &self.exprs[id.0 as usize]
    }

    /// What a comparison with `true` or `false` asks, and the answer that it wants: `lit == false` asks `lit`, and wants no.
    #[must_use]
    pub fn asked_for(&self, op: BinaryOp, left: ExprId, right: ExprId) -> Option<(ExprId, bool)> {
        let same = match op {
            BinaryOp::Equal => true,
            BinaryOp::NotEqual => false,
            _ => return None,
        };
        match (&self.expr(left).kind, &self.expr(right).kind) {
            (_, ExprKind::Bool(wanted)) => Some((left, same == *wanted)),
            (ExprKind::Bool(wanted), _) => Some((right, same == *wanted)),
            _ => None,
        }
    }

    /// The local of an id.
    #[must_use]
    pub fn local(&self, id: LocalId) -> &Local {
        &self.locals[id.0 as usize]
    }
}

/// A place where reading failed, and what to do about it.
#[derive(Clone, Debug)]
pub struct SyntaxError {
    /// Where.
    pub span: Span,
    /// What was expected, in plain words.
    pub message: String,
    /// What to write instead.
    pub help: Option<String>,
}

/// `script NAME for OWNER [in SCENE]`
#[derive(Clone, Copy, Debug)]
pub struct Header {
    /// The script's name.
    pub name: Name,
    /// Whose script it is.
    pub owner: Name,
    /// The scene it runs in.
    pub scene: Option<Name>,
    /// The whole line.
    pub span: Span,
}

/// A type as written: a word, or an enum variable's identity.
#[derive(Clone, Copy, Debug)]
pub struct TypeName {
    /// The first word.
    pub first: Name,
    /// The word behind the dot.
    pub second: Option<Name>,
}

impl TypeName {
    /// All of it.
    #[must_use]
    pub fn span(&self) -> Span {
        self.second.map_or(self.first.span, |second| self.first.span.to(second.span))
    }
}

/// `private NAME: TYPE [= expr]`
#[derive(Debug)]
pub struct Private {
    /// Its name.
    pub name: Name,
    /// Its type, if that could be read.
    pub ty: Option<TypeName>,
    /// What it starts as.
    pub start: Option<ExprId>,
    /// The whole line.
    pub span: Span,
}

/// `NAME [: TYPE]`
#[derive(Clone, Copy, Debug)]
pub struct Parameter {
    /// The local it declares.
    pub local: LocalId,
    /// Its type; without one, the signal's.
    pub ty: Option<TypeName>,
}

/// `on trigger [when expr] block`
#[derive(Debug)]
pub struct Handler {
    /// What it answers.
    pub trigger: Trigger,
    /// The test that is made when its turn comes.
    pub when: Option<ExprId>,
    /// What it does.
    pub body: Block,
    /// From `on` to the end of the trigger and its `when`.
    pub head: Span,
    /// All of it.
    pub span: Span,
}

/// What a handler answers.
#[derive(Debug)]
pub enum Trigger {
    /// One that could not be read.
    Unreadable,
    /// `start`
    Start,
    /// `enter`
    Enter,
    /// `leave`
    Leave,
    /// `spawn`
    Spawn,
    /// `removed`
    Removed,
    /// `tick`
    Tick,
    /// `every 2s`
    Every(Duration),
    /// `changed path`
    Changed(ExprId),
    /// A declared signal.
    Signal {
        /// Its name.
        name: Name,
        /// The parameters it takes.
        parameters: Vec<Parameter>,
    },
}

/// `proc NAME(parameters) [-> TYPE] block`
#[derive(Debug)]
pub struct Procedure {
    /// Its name.
    pub name: Name,
    /// Its parameters.
    pub parameters: Vec<Parameter>,
    /// The type of what it gives.
    pub gives: Option<TypeName>,
    /// What it does.
    pub body: Block,
    /// All of it.
    pub span: Span,
}

/// `{ … }`
#[derive(Debug, Default)]
pub struct Block {
    /// The statements, in order.
    pub statements: Vec<Statement>,
    /// From brace to brace.
    pub span: Span,
}

/// A statement and its bytes.
#[derive(Debug)]
pub struct Statement {
    /// What it is.
    pub kind: StatementKind,
    /// Where it stands, its blocks included.
    pub span: Span,
}

/// The sign of an assignment.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum AssignOp {
    /// `=`
    Set,
    /// `+=`
    Add,
    /// `-=`
    Subtract,
    /// `*=`
    Multiply,
    /// `/=`
    Divide,
}

impl AssignOp {
    /// What is done with the old value and the new one; none for `=`.
    #[must_use]
    pub fn operation(self) -> Option<BinaryOp> {
        match self {
            Self::Set => None,
            Self::Add => Some(BinaryOp::Add),
            Self::Subtract => Some(BinaryOp::Subtract),
            Self::Multiply => Some(BinaryOp::Multiply),
            Self::Divide => Some(BinaryOp::Divide),
        }
    }
}

/// `if expr block`, or an arm of a `match`.
#[derive(Debug)]
pub struct Arm {
    /// The condition, or the constants of a `match` arm.
    pub tests: Vec<ExprId>,
    /// What is done then.
    pub body: Block,
}

/// `choice TEXT [when expr] block`
#[derive(Debug)]
pub struct Choice {
    /// What the player reads.
    pub text: ExprId,
    /// Whether it is offered.
    pub when: Option<ExprId>,
    /// What is done when it is taken.
    pub body: Block,
}

/// What a statement is.
#[derive(Debug)]
#[allow(missing_docs, reason = "the fields are those of the grammar, in its order")]
pub enum StatementKind {
    Assign { target: ExprId, op: AssignOp, value: ExprId },
    Clear { target: ExprId },
    Let { local: LocalId, value: ExprId },
    If { arms: Vec<Arm>, otherwise: Option<Block> },
    Match { subject: ExprId, arms: Vec<Arm>, otherwise: Option<Block> },
    While { condition: ExprId, body: Block },
    Repeat { count: ExprId, body: Block },
    For { local: LocalId, actor: Name, filter: Option<ExprId>, body: Block },
    Wait(Duration),
    WaitUntil(ExprId),
    After { delay: Duration, body: Block },
    Send { signal: Name, arguments: Vec<ExprId>, to: Option<ExprId> },
    Show { label: Option<Name>, text: ExprId },
    Hide { label: Name },
    Ask { text: ExprId, choices: Vec<Choice> },
    Note { text: ExprId },
    Spawn { actor: Name, local: Option<LocalId> },
    Remove(ExprId),
    Go(Name),
    Restart,
    Return(Option<ExprId>),
    Break,
    Call(ExprId),
}

/// A length of time.
#[derive(Clone, Copy, Debug)]
pub enum Duration {
    /// `5s`, `200ms`, `10t`
    Literal {
        /// The number before the unit.
        amount: f64,
        /// The unit.
        unit: DurationUnit,
        /// Where it stands.
        span: Span,
    },
    /// `seconds(expr)`
    Seconds(ExprId),
}

/// The unit of a duration.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum DurationUnit {
    /// `s`
    Seconds,
    /// `ms`
    Milliseconds,
    /// `t`
    Ticks,
}

impl Duration {
    /// The duration in whole ticks, rounded up; none for one that is computed.
    #[must_use]
    pub fn ticks(&self, tick_rate: f64) -> Option<f64> {
        let Self::Literal { amount, unit, .. } = self else { return None };
        let ticks = match unit {
            DurationUnit::Seconds => amount * tick_rate,
            DurationUnit::Milliseconds => amount * tick_rate / 1000.0,
            DurationUnit::Ticks => *amount,
        };
        // 0.1 s at 60 ticks is 6 ticks, not 7 for the last bit of a product.
        let nearest = ticks.round();
        Some(if (ticks - nearest).abs() < 1e-9 * nearest.max(1.0) { nearest } else { ticks.ceil() })
    }
}

/// An expression and its bytes.
#[derive(Debug)]
pub struct Expr {
    /// What it is.
    pub kind: ExprKind,
    /// Where it stands.
    pub span: Span,
}

/// An operator with one operand.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub enum UnaryOp {
    /// `not`
    Not,
    /// `-`
    Minus,
    /// `+`
    Plus,
}

/// An operator with two operands.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
#[allow(missing_docs, reason = "each name says its sign")]
pub enum BinaryOp {
    Implies,
    Or,
    And,
    Equal,
    NotEqual,
    Less,
    LessEqual,
    Greater,
    GreaterEqual,
    Add,
    Subtract,
    Multiply,
    Divide,
    Remainder,
}

impl BinaryOp {
    /// Whether it compares.
    #[must_use]
    pub fn is_comparison(self) -> bool {
        matches!(self, Self::Equal | Self::NotEqual) || self.is_order()
    }

    /// Whether it asks which of two is more.
    #[must_use]
    pub fn is_order(self) -> bool {
        matches!(self, Self::Less | Self::LessEqual | Self::Greater | Self::GreaterEqual)
    }
}

/// What `is` asks.
#[derive(Clone, Copy, Debug)]
pub enum IsTest {
    /// `is set`
    Set,
    /// `is none`
    None,
    /// `is ACTOR`, or `scene is NAME`
    Named(Name),
}

/// A piece of a text literal.
#[derive(Debug)]
pub enum TextPart {
    /// Plain text, escapes resolved.
    Plain(String),
    /// `{expr}` or `{expr:decimals}`
    Token {
        /// What is printed.
        value: ExprId,
        /// The count of decimals.
        decimals: Option<u8>,
        /// From brace to brace.
        span: Span,
    },
}

/// What an expression is.
#[derive(Debug)]
pub enum ExprKind {
    /// A place that could not be read; already reported.
    Error,
    /// A whole number.
    Int(i64),
    /// A number with a fraction.
    Float(f64),
    /// `true`, `false`
    Bool(bool),
    /// `none`
    None,
    /// A text.
    Text(Vec<TextPart>),
    /// `a`, `a.b`, `a.b.c`
    Path(Vec<Name>),
    /// `not a`, `-a`, `+a`
    Unary(UnaryOp, ExprId),
    /// `a + b`
    Binary(BinaryOp, ExprId, ExprId),
    /// `f(a, b)`
    Call(Name, Vec<ExprId>),
    /// `a is [not] set|none|NAME`
    Is {
        /// What is asked about.
        subject: ExprId,
        /// Whether `not` stood there.
        negated: bool,
        /// What is asked.
        test: IsTest,
    },
}

/// The statements directly inside a statement's blocks, block by block.
pub fn blocks(statement: &Statement) -> Vec<&Block> {
    match &statement.kind {
        StatementKind::If { arms, otherwise } | StatementKind::Match { arms, otherwise, .. } => {
            arms.iter().map(|arm| &arm.body).chain(otherwise).collect()
        }
        StatementKind::While { body, .. }
        | StatementKind::Repeat { body, .. }
        | StatementKind::For { body, .. }
        | StatementKind::After { body, .. } => vec![body],
        StatementKind::Ask { choices, .. } => choices.iter().map(|choice| &choice.body).collect(),
        _ => Vec::new(),
    }
}

/// Calls `visit` for every statement of a block, outer before inner.
pub fn walk<'a>(block: &'a Block, visit: &mut impl FnMut(&'a Statement)) {
    for statement in &block.statements {
        visit(statement);
        for inner in blocks(statement) {
            walk(inner, visit);
        }
    }
}
