//! The control-flow graph of a handler or a procedure.
//!
//! Blocks of steps, each ended by one [`Exit`]. A `wait` is a step: what others may do meanwhile happens inside it. An
//! `after` block hangs on a [`Exit::Fork`], since it runs later, as part of its handler. Built from the tree by
//! [`lower`]; blocks are numbered so that, but for the edges back to a loop's head, every edge leads to a later block.

use super::called::procedures;
use super::chosen::{Chosen, chosen};
use super::linear::BodyLength;
use crate::project::{Meaning, PlaceId, ProcId, ScriptUnit};
use crate::registry::{OwnerId, SignalId, Type};
use crate::script::ast::*;
use crate::source::Span;
use smallvec::{SmallVec, smallvec};

mod rounds;

pub use rounds::{Change, Rounds};

/// A block of a graph.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub struct BlockId(pub u32);

impl BlockId {
    /// As an index.
    #[must_use]
    pub fn index(self) -> usize {
        self.0 as usize
    }
}

/// What a wait waits for.
#[derive(Clone, Copy, Debug)]
pub enum Waiting {
    /// Time to pass.
    Time(Duration),
    /// A condition.
    Until(ExprId),
    /// The player's choice.
    Answer,
}

/// One thing done.
#[derive(Clone, Debug)]
#[allow(missing_docs, reason = "the fields are those of the statements")]
pub enum StepKind {
    Assign {
        target: ExprId,
        place: PlaceId,
        axis: Option<u8>,
        op: AssignOp,
        value: ExprId,
    },
    Clear {
        target: ExprId,
        place: PlaceId,
    },
    Let {
        place: PlaceId,
        value: ExprId,
    },
    /// A name takes a new instance: of a `for`, or of a `spawn … as`.
    Bind {
        place: PlaceId,
    },
    /// A value is worked out and used for nothing else.
    Read(ExprId),
    /// A loop begins anew; `count` is how many rounds a `repeat` makes. Where that is a number above zero
    /// the first round follows at once, without a look at the head. `over` is the name and the actor of a `for` in which
    /// something is stepped.
    Begin {
        head: BlockId,
        count: Option<ExprId>,
        at_once: bool,
        over: Option<(PlaceId, OwnerId)>,
    },
    Wait(Waiting),
    Send {
        signal: Option<SignalId>,
        arguments: Vec<ExprId>,
        to: Option<ExprId>,
    },
    Show {
        label: Option<Name>,
        text: ExprId,
    },
    Hide {
        label: Name,
    },
    Note(ExprId),
    Spawn {
        actor: Option<OwnerId>,
        place: Option<PlaceId>,
    },
    Remove(ExprId),
    Go(Option<OwnerId>),
    Call(ExprId),
}

/// A step and the statement it came from.
#[derive(Clone, Debug)]
pub struct Step {
    /// What is done.
    pub kind: StepKind,
    /// The statement.
    pub span: Span,
}

/// A choice of an `ask`.
#[derive(Clone, Copy, Debug)]
pub struct Offer {
    /// Whether it is offered.
    pub when: Option<ExprId>,
    /// What the player reads.
    pub text: ExprId,
    /// What happens when it is taken.
    pub block: BlockId,
}

/// How a block ends.
#[derive(Clone, Debug)]
#[allow(missing_docs, reason = "the fields name the blocks that follow")]
pub enum Exit {
    Goto(BlockId),
    Branch {
        test: ExprId,
        yes: BlockId,
        no: BlockId,
    },
    Match {
        subject: ExprId,
        arms: Vec<(Vec<ExprId>, BlockId)>,
        otherwise: Option<BlockId>,
        /// Whether what is done in some arm may leave the body.
        leaves: bool,
    },
    /// An `after`: `now` goes on at once, `later` begins when the time has passed.
    Fork {
        now: BlockId,
        later: BlockId,
        delay: Duration,
    },
    Choose(Vec<Offer>),
    Each {
        place: PlaceId,
        actor: Option<OwnerId>,
        filter: Option<ExprId>,
        body: BlockId,
        done: BlockId,
    },
    Repeat {
        count: ExprId,
        body: BlockId,
        done: BlockId,
    },
    Return(Option<ExprId>),
    /// The body, or the `after` block, is through.
    End,
    Restart,
    /// `remove self`
    Gone,
}

impl Exit {
    /// The blocks that may follow.
    #[must_use]
    pub fn successors(&self) -> Successors {
        match self {
            Self::Goto(next) => smallvec![*next],
            Self::Branch { yes, no, .. } => smallvec![*yes, *no],
            Self::Match { arms, otherwise, .. } => arms.iter().map(|(_, block)| *block).chain(*otherwise).collect(),
            Self::Fork { now, later, .. } => smallvec![*now, *later],
            Self::Choose(offers) => offers.iter().map(|offer| offer.block).collect(),
            Self::Each { body, done, .. } | Self::Repeat { body, done, .. } => smallvec![*body, *done],
            Self::Return(_) | Self::End | Self::Restart | Self::Gone => Successors::new(),
        }
    }

    /// The same, but for what an `after` puts off.
    #[must_use]
    pub fn successors_now(&self) -> Successors {
        match self {
            Self::Fork { now, .. } => smallvec![*now],
            _ => self.successors(),
        }
    }
}

/// The blocks that follow one: few, mostly.
pub type Successors = SmallVec<[BlockId; 4]>;

/// A run of steps.
#[derive(Clone, Debug)]
pub struct Block {
    /// The steps, in order.
    pub steps: Vec<Step>,
    /// What comes then.
    pub exit: Exit,
    /// The statement or condition that the exit came from.
    pub exit_span: Span,
    /// Whether an edge leads back here.
    pub loop_head: bool,
    /// How many loops it stands in, each of whose rounds runs it.
    pub loops: usize,
    /// Of a loop's head: what a round does to the places that it steps.
    pub changes: Vec<(PlaceId, Change)>,
    /// Locals whose numbers nobody asks for again: from the block's begin on (0), or after that many of its steps.
    pub last_uses: Box<[(u32, PlaceId)]>,
}

impl Block {
    /// How many steps and ways there are; more for each pair of loops around them.
    #[must_use]
    pub fn size(&self) -> usize {
        (self.steps.len() + 1) * (1 + self.loops * self.loops.saturating_sub(1) / 2)
    }
}

/// The graph of one body.
#[derive(Clone, Debug)]
pub struct Graph {
    /// The blocks; the first is the entry.
    pub blocks: Vec<Block>,
    /// The first statements of stretches that no way leads to.
    pub unreachable: Vec<Span>,
    /// The places by which its ways can be told apart.
    pub chosen: Vec<Chosen>,
    /// The procedures that it calls, each once.
    pub calls: Vec<ProcId>,
}

/// Lowers a body.
#[must_use]
pub fn lower(
    unit: &ScriptUnit,
    body: &crate::script::ast::Block,
    enum_values: &dyn Fn(Type) -> Option<usize>,
) -> Graph {
    let mut builder = Builder {
        unit,
        enum_values,
        blocks: Vec::new(),
        unreachable: Vec::new(),
        current: None,
        dead: false,
        breaks: Vec::new(),
        past_loops: 0,
    };
    let entry = builder.new_block();
    builder.current = Some(entry);
    builder.block(body);
    builder.leave(Exit::End, body.span);
    let mut graph =
        Graph { blocks: builder.blocks, unreachable: builder.unreachable, chosen: Vec::new(), calls: Vec::new() };
    graph = graph.in_order();
    graph.calls = procedures(unit, &graph.blocks);
    if BodyLength::of(graph.size()) != BodyLength::Long {
        graph.chosen = chosen(unit, &graph);
    }
    super::live::mark_last_uses(unit, &mut graph);
    graph
}

struct Builder<'a> {
    unit: &'a ScriptUnit,
    /// How many values a type has, if they can be counted.
    enum_values: &'a dyn Fn(Type) -> Option<usize>,
    blocks: Vec<Block>,
    unreachable: Vec<Span>,
    /// The block that is being filled; none where no way leads.
    current: Option<BlockId>,
    /// Whether the present stretch has been reported as unreachable.
    dead: bool,
    breaks: Vec<BlockId>,
    /// How many of these loops are over by the time that the `after` block begins which is being filled.
    past_loops: usize,
}

impl Builder<'_> {
    fn new_block(&mut self) -> BlockId {
        self.blocks.push(Block {
            steps: Vec::new(),
            exit: Exit::End,
            exit_span: Span::default(),
            loop_head: false,
            loops: self.breaks.len(),
            changes: Vec::new(),
            last_uses: Box::default(),
        });
        BlockId(u32::try_from(self.blocks.len() - 1).unwrap_or(u32::MAX))
    }

    fn leave(&mut self, exit: Exit, span: Span) {
        if let Some(at) = self.current.take() {
            let block = &mut self.blocks[at.index()];
            block.exit = exit;
            block.exit_span = span;
        }
    }

    fn goto(&mut self, next: BlockId, span: Span) {
        self.leave(Exit::Goto(next), span);
    }

    fn step(&mut self, kind: StepKind, span: Span) {
        if let Some(at) = self.current {
            self.blocks[at.index()].steps.push(Step { kind, span });
        }
    }

    fn block(&mut self, block: &crate::script::ast::Block) {
        for statement in &block.statements {
            if self.current.is_none() {
                if !self.dead {
                    self.unreachable.push(statement.span);
                }
                self.dead = true;
                self.current = Some(self.new_block());
            }
            self.statement(statement);
        }
    }

    /// A block with its own way in; gives whether its end is reached.
    fn inner(&mut self, block: &crate::script::ast::Block) -> BlockId {
        let start = self.new_block();
        self.current = Some(start);
        let dead = self.dead;
        self.block(block);
        self.dead = dead;
        start
    }

    fn local(&self, local: LocalId) -> PlaceId {
        self.unit.local_places[local.0 as usize]
    }

    #[allow(clippy::too_many_lines, reason = "one arm for each statement")]
    fn statement(&mut self, statement: &Statement) {
        let span = statement.span;
        match &statement.kind {
            StatementKind::Assign { target, op, value } => {
                let (place, axis) = match self.unit.meaning(*target) {
                    Meaning::Value(place) => (place, None),
                    Meaning::Axis(place, axis) => (place, Some(axis)),
                    _ => return self.step(StepKind::Read(*value), span),
                };
                // What can't be stepped was meant to be set, and that it is stepped was reported.
                let ty = self.unit.place_types[place.index()];
                let can_step = ty.is_numeric() || matches!(ty, Type::Vec2 | Type::Vec3 | Type::Unknown);
                let op = if can_step { *op } else { AssignOp::Set };
                self.step(StepKind::Assign { target: *target, place, axis, op, value: *value }, span);
            }
            StatementKind::Clear { target } => {
                if let Some(place) = self.unit.place_of(*target) {
                    self.step(StepKind::Clear { target: *target, place }, span);
                }
            }
            StatementKind::Let { local, value } => {
                let place = self.local(*local);
                self.step(StepKind::Let { place, value: *value }, span);
            }
            StatementKind::If { arms, otherwise } => self.if_(arms, otherwise.as_ref(), span),
            StatementKind::Match { subject, arms, otherwise } => {
                self.match_(*subject, arms, otherwise.as_ref(), span);
            }
            StatementKind::While { condition, body } => self.while_(*condition, body),
            StatementKind::Repeat { count, body } => {
                self.loop_(body, span, (Some(*count), None), |body, done| Exit::Repeat { count: *count, body, done });
            }
            StatementKind::For { local, filter, body, .. } => {
                let place = self.local(*local);
                let actor = self.actor_of(*local);
                let over = actor.map(|actor| (place, actor));
                self.loop_(body, span, (None, over), |body, done| Exit::Each {
                    place,
                    actor,
                    filter: *filter,
                    body,
                    done,
                });
            }
            StatementKind::Wait(duration) => self.step(StepKind::Wait(Waiting::Time(*duration)), span),
            StatementKind::WaitUntil(test) => self.step(StepKind::Wait(Waiting::Until(*test)), span),
            StatementKind::After { delay, body } => {
                let from = self.current.take();
                let past_loops = std::mem::replace(&mut self.past_loops, self.breaks.len());
                let later = self.inner(body);
                self.past_loops = past_loops;
                self.leave(Exit::End, span);
                let now = self.new_block();
                self.current = from;
                self.leave(Exit::Fork { now, later, delay: *delay }, span);
                self.current = Some(now);
            }
            StatementKind::Send { signal, arguments, to } => {
                let signal = self.unit.signal_named(*signal);
                self.step(StepKind::Send { signal, arguments: arguments.clone(), to: *to }, span);
            }
            StatementKind::Show { label, text } => self.step(StepKind::Show { label: *label, text: *text }, span),
            StatementKind::Hide { label } => self.step(StepKind::Hide { label: *label }, span),
            StatementKind::Ask { text, choices } => self.ask(*text, choices, span),
            StatementKind::Note { text } => self.step(StepKind::Note(*text), span),
            StatementKind::Spawn { local, actor } => {
                let place = local.map(|local| self.local(local));
                let actor = self.unit.owner_named(*actor);
                self.step(StepKind::Spawn { actor, place }, span);
            }
            StatementKind::Remove(what) => {
                self.step(StepKind::Remove(*what), span);
                if self.unit.meaning(*what) == Meaning::Own {
                    self.leave(Exit::Gone, span);
                }
            }
            StatementKind::Go(scene) => {
                let scene = self.unit.owner_named(*scene);
                self.step(StepKind::Go(scene), span);
            }
            StatementKind::Restart => self.leave(Exit::Restart, span),
            StatementKind::Return(value) => self.leave(Exit::Return(*value), span),
            StatementKind::Break => {
                if self.past_loops < self.breaks.len()
                    && let Some(&done) = self.breaks.last()
                {
                    self.goto(done, span);
                } else if self.past_loops > 0 {
                    self.leave(Exit::End, span);
                } // One that stands in no loop is a finding of its own.
            }
            StatementKind::Call(call) => self.step(StepKind::Call(*call), span),
        }
    }

    fn if_(&mut self, arms: &[Arm], otherwise: Option<&crate::script::ast::Block>, span: Span) {
        let mut ends = Vec::new();
        for arm in arms {
            let test = arm.tests[0];
            let from = self.current;
            let yes = self.inner(&arm.body);
            ends.extend(self.current.take());
            let no = self.new_block();
            self.current = from;
            let test_span = self.unit.tree.expr(test).span;
            self.leave(Exit::Branch { test, yes, no }, test_span);
            self.current = Some(no);
        }
        if let Some(block) = otherwise {
            let dead = self.dead;
            self.block(block);
            self.dead = dead;
        }
        ends.extend(self.current.take());
        self.meet(ends, span);
    }

    /// The actor of a `for`, by its name.
    fn actor_of(&self, local: LocalId) -> Option<OwnerId> {
        match self.unit.place_types[self.local(local).index()] {
            Type::Ref(actor) => actor,
            _ => None,
        }
    }

    /// Lets several ends go on together; with none, nothing goes on.
    fn meet(&mut self, ends: Vec<BlockId>, span: Span) {
        if let [] | [_] = ends[..] {
            self.current = ends.first().copied();
            return;
        }
        let next = self.new_block();
        for end in ends {
            self.current = Some(end);
            self.goto(next, span);
        }
        self.current = Some(next);
    }

    fn match_(&mut self, subject: ExprId, arms: &[Arm], otherwise: Option<&crate::script::ast::Block>, span: Span) {
        let from = self.current;
        let mut ends = Vec::new();
        let mut targets = Vec::new();
        let mut values: Vec<&ExprKind> = Vec::new();
        for arm in arms {
            let start = self.inner(&arm.body);
            ends.extend(self.current.take());
            targets.push((arm.tests.clone(), start));
            values.extend(arm.tests.iter().map(|&test| &self.unit.tree.expr(test).kind));
        }
        let rest = if let Some(block) = otherwise {
            let start = self.inner(block);
            ends.extend(self.current.take());
            Some(start)
        } else if (self.enum_values)(self.unit.ty(subject)).is_some_and(|count| distinct(&values) >= count) {
            None
        } else {
            let start = self.new_block();
            ends.push(start);
            Some(start)
        };
        self.current = from;
        let mut leaves = false;
        for block in arms.iter().map(|arm| &arm.body).chain(otherwise) {
            walk(block, &mut |statement| leaves |= matches!(statement.kind, StatementKind::Return(_)));
        }
        self.leave(Exit::Match { subject, arms: targets, otherwise: rest, leaves }, span);
        self.meet(ends, span);
    }

    fn while_(&mut self, condition: ExprId, body: &crate::script::ast::Block) {
        let span = self.unit.tree.expr(condition).span;
        let head = self.new_block();
        self.loop_head(head, body);
        self.step(StepKind::Begin { head, count: None, at_once: false, over: None }, span);
        self.goto(head, span);
        let done = self.new_block();
        self.breaks.push(done);
        let start = self.inner(body);
        self.goto(head, span);
        self.breaks.pop();
        self.current = Some(head);
        let for_ever = matches!(self.unit.tree.expr(condition).kind, ExprKind::Bool(true));
        if for_ever {
            self.goto(start, span);
        } else {
            self.leave(Exit::Branch { test: condition, yes: start, no: done }, span);
        }
        let left = !for_ever || self.blocks.iter().any(|block| matches!(block.exit, Exit::Goto(next) if next == done));
        self.current = left.then_some(done);
    }

    fn loop_head(&mut self, head: BlockId, body: &crate::script::ast::Block) {
        let changes = self.round_changes(body);
        let block = &mut self.blocks[head.index()];
        block.loop_head = true;
        block.changes = changes;
    }

    fn loop_(
        &mut self,
        body: &crate::script::ast::Block,
        span: Span,
        (count, over): (Option<ExprId>, Option<(PlaceId, OwnerId)>),
        exit: impl FnOnce(BlockId, BlockId) -> Exit,
    ) {
        let head = self.new_block();
        let at_once =
            count.is_some_and(|count| matches!(self.unit.tree.expr(count).kind, ExprKind::Int(rounds) if rounds > 0));
        self.loop_head(head, body);
        let steps = !self.blocks[head.index()].changes.is_empty();
        self.step(StepKind::Begin { head, count, at_once, over: over.filter(|_| steps) }, span);
        let before = self.current;
        let done = self.new_block();
        self.breaks.push(done);
        let start = self.inner(body);
        self.goto(head, span);
        self.breaks.pop();
        self.current = before;
        self.goto(if at_once { start } else { head }, span);
        self.current = Some(head);
        self.leave(exit(start, done), span);
        self.current = Some(done);
    }

    fn ask(&mut self, text: ExprId, choices: &[Choice], span: Span) {
        self.step(StepKind::Show { label: None, text }, self.unit.tree.expr(text).span);
        self.step(StepKind::Wait(Waiting::Answer), span);
        let from = self.current;
        let mut ends = Vec::new();
        let mut targets = Vec::new();
        for choice in choices {
            let start = self.inner(&choice.body);
            ends.extend(self.current.take());
            targets.push(Offer { when: choice.when, text: choice.text, block: start });
        }
        self.current = from;
        self.leave(Exit::Choose(targets), span);
        self.meet(ends, span);
    }
}

/// How many different constants there are.
fn distinct(values: &[&ExprKind]) -> usize {
    let mut seen: Vec<String> = values
        .iter()
        .filter_map(|kind| match kind {
            ExprKind::Bool(value) => Some(value.to_string()),
            ExprKind::Text(parts) => match &parts[..] {
                [TextPart::Plain(text)] => Some(text.clone()),
                _ => None,
            },
            _ => None,
        })
        .collect();
    seen.sort_unstable();
    seen.dedup();
    seen.len()
}

impl Graph {
    /// How many steps and ways there are, those inside loops within loops counted several times: so often they are gone through.
    #[must_use]
    pub fn size(&self) -> usize {
        self.blocks.iter().map(Block::size).sum()
    }

    /// The blocks that some way leads to which goes around one.
    pub fn but_through(&self, around: BlockId) -> impl Iterator<Item = &Block> {
        self.ways(BlockId(0), Some(around))
    }

    /// The blocks that some way leads to from one, itself included.
    pub fn from(&self, first: BlockId) -> impl Iterator<Item = &Block> {
        self.ways(first, None)
    }

    fn ways(&self, first: BlockId, around: Option<BlockId>) -> impl Iterator<Item = &Block> {
        let (mut seen, mut open) = (vec![false; self.blocks.len()], vec![first]);
        around.into_iter().for_each(|at| seen[at.index()] = true);
        std::iter::from_fn(move || {
            while let Some(at) = open.pop() {
                if !std::mem::replace(&mut seen[at.index()], true) {
                    let block = &self.blocks[at.index()];
                    open.extend(block.exit.successors());
                    return Some(block);
                }
            }
            None
        })
    }

    /// Renumbers the blocks in reverse postorder, so that edges lead forward but for those to a loop's head; blocks
    /// that no way leads to come last.
    fn in_order(mut self) -> Self {
        let count = self.blocks.len();
        let mut seen = vec![false; count];
        let mut post = Vec::with_capacity(count);
        let mut stack = vec![(BlockId(0), self.blocks[0].exit.successors())];
        seen[0] = true;
        while let Some((at, open)) = stack.last_mut() {
            // The last successor is visited first, so that a loop's body stands before what follows the loop.
            if let Some(next) = open.pop() {
                if !std::mem::replace(&mut seen[next.index()], true) {
                    let successors = self.blocks[next.index()].exit.successors();
                    stack.push((next, successors));
                }
            } else {
                post.push(*at);
                stack.pop();
            }
        }
        post.reverse();
        post.extend((0u32..).take(count).map(BlockId).filter(|id| !seen[id.index()]));
        let mut number = vec![BlockId(0); count];
        for (new, old) in (0u32..).zip(&post) {
            number[old.index()] = BlockId(new);
        }
        let mut old: Vec<Option<Block>> = std::mem::take(&mut self.blocks).into_iter().map(Some).collect();
        self.blocks = Vec::with_capacity(count);
        self.blocks.extend(post.iter().filter_map(|id| old[id.index()].take()));
        for block in &mut self.blocks {
            block.steps.shrink_to_fit(); // Graphs stay, and there may be a million steps.
            for step in &mut block.steps {
                if let StepKind::Begin { head, .. } = &mut step.kind {
                    *head = number[head.index()];
                }
            }
            renumber(&mut block.exit, &number);
        }
        self
    }
}

fn renumber(exit: &mut Exit, number: &[BlockId]) {
    let new = |id: &mut BlockId| *id = number[id.index()];
    match exit {
        Exit::Goto(next) => new(next),
        Exit::Branch { yes, no, .. } => {
            new(yes);
            new(no);
        }
        Exit::Match { arms, otherwise, .. } => {
            arms.iter_mut().for_each(|(_, block)| new(block));
            otherwise.iter_mut().for_each(new);
        }
        Exit::Fork { now, later, .. } => {
            new(now);
            new(later);
        }
        Exit::Choose(choices) => choices.iter_mut().for_each(|offer| new(&mut offer.block)),
        Exit::Each { body, done, .. } | Exit::Repeat { body, done, .. } => {
            new(body);
            new(done);
        }
        Exit::Return(_) | Exit::End | Exit::Restart | Exit::Gone => {}
    }
}
