//! Bodies as flat lists of operations.
//!
//! Every step of a body, and the end of each of its blocks, is one operation. Most of what a body does is about numbers and
//! flags alone, and has its names looked up beforehand; it is done here, one operation after the other. Where something is
//! amiss in one (a value is unset, or goes beyond its range), nothing of it is done here, and it is the turn of the general
//! way.

use super::activation::Activation;
use super::layout::{CellFacts, InstanceAt, Limit};
use super::machine::{Happening, Machine, Observer};
use super::plain::{Plain, Sight, kept};
use super::value::Scalar;
use crate::flow::graph::{BlockId, Exit, Graph, Step, StepKind};
use crate::project::{CellId, Place, PlaceId, Project, ScriptUnit};
use crate::registry::{InstanceId, Type};
use crate::script::ast::{AssignOp, BinaryOp, ExprId, LocalId};
use crate::source::Location;

/// An operation. Which one it is stands in a byte of its own, since that is asked all the time.
#[derive(Clone, Debug)]
#[repr(u8)]
pub(super) enum Op {
    /// A step that is done the general way.
    General,
    /// Goes on elsewhere.
    Goto(u32),
    /// Goes on at the first or the second place, as the condition holds or not.
    Test(ExprId, u32, u32),
    /// Gives a local a value.
    Keep(LocalId, Type, ExprId),
    /// Gives a variable or a private a value.
    Set(Box<Set>),
}

/// A write that makes nothing else wrong than its own cell.
#[derive(Clone, Debug)]
pub(super) struct Set {
    cell: CellId,
    /// Where the cell is kept.
    home: Plain,
    ty: Type,
    /// What is done with the old value and the new one.
    operation: Option<BinaryOp>,
    value: ExprId,
    /// The ends of its range.
    min: Option<Plain>,
    max: Option<Plain>,
    /// Whether an `on changed` listens to it.
    watched: bool,
    at: Location,
}

/// A body.
#[derive(Clone, Debug)]
pub struct Code {
    pub(super) ops: Vec<Op>,
    /// Of each operation, the block and the step in it; the step past the last one is the block's end.
    places: Vec<(BlockId, u32)>,
    /// The first operation of each block.
    starts: Vec<u32>,
}

impl Code {
    /// Translates a body.
    #[must_use]
    pub fn new(project: &Project, unit: &ScriptUnit, cells: &[CellFacts], plain: &[Plain], graph: &Graph) -> Self {
        let mut code = Self { ops: Vec::new(), places: Vec::new(), starts: Vec::new() };
        for (at, block) in graph.blocks.iter().enumerate() {
            code.starts.push(dense(code.places.len()));
            code.places.extend((0..=block.steps.len()).map(|step| (BlockId(dense(at)), dense(step))));
        }
        let translator = Translator { project, unit, cells, plain };
        for block in &graph.blocks {
            code.ops.extend(block.steps.iter().map(|step| translator.step(step).unwrap_or(Op::General)));
            let start = |block: BlockId| code.starts[block.index()];
            let exit = match block.exit {
                Exit::Goto(next) => Op::Goto(start(next)),
                Exit::Branch { test, yes, no } if translator.is_plain(test) => Op::Test(test, start(yes), start(no)),
                _ => Op::General,
            };
            code.ops.push(exit);
        }
        code
    }

    /// The first operation of a block.
    #[inline]
    pub(super) fn start(&self, block: BlockId) -> u32 {
        self.starts[block.index()]
    }

    /// The block and the step of an operation.
    #[inline]
    pub(super) fn place(&self, at: u32) -> (BlockId, usize) {
        let (block, step) = self.places[at as usize];
        (block, step as usize)
    }
}

fn dense(at: usize) -> u32 {
    u32::try_from(at).unwrap_or(u32::MAX)
}

struct Translator<'a> {
    project: &'a Project,
    unit: &'a ScriptUnit,
    cells: &'a [CellFacts],
    plain: &'a [Plain],
}

impl Translator<'_> {
    fn is_plain(&self, expr: ExprId) -> bool {
        !matches!(self.plain[expr.0 as usize], Plain::Not)
    }

    fn step(&self, step: &Step) -> Option<Op> {
        match step.kind {
            StepKind::Let { place, value } if self.is_plain(value) => self.keep(place, value),
            StepKind::Assign { target, place, axis: None, op, value } if self.is_plain(value) => {
                if op == AssignOp::Set
                    && let Some(keep) = self.keep(place, value)
                {
                    return Some(keep);
                }
                let home = self.plain[target.0 as usize];
                self.set(place, home, op, value, self.unit.at(step.span))
            }
            _ => None,
        }
    }

    fn keep(&self, place: PlaceId, value: ExprId) -> Option<Op> {
        let Place::Local(local) = self.unit.place(place) else { return None };
        Some(Op::Keep(local, self.unit.place_types[place.index()], value))
    }

    fn set(&self, place: PlaceId, home: Plain, op: AssignOp, value: ExprId, at: Location) -> Option<Op> {
        let cell = self.project.cell_of(self.unit, place)?;
        let facts = &self.cells[cell.index()];
        if facts.concerns_others || !matches!(home, Plain::Own(_) | Plain::Listed(..) | Plain::Shared(_)) {
            return None;
        }
        let listed = if let Plain::Listed(listed, _) = home { Some(listed) } else { None };
        let (min, max) = (self.end(facts.min, listed)?, self.end(facts.max, listed)?);
        let (ty, watched) = (facts.ty, facts.watched);
        Some(Op::Set(Box::new(Set { cell, home, ty, operation: op.operation(), value, min, max, watched, at })))
    }

    /// An end of a range, if it has one; nothing where it takes more to find it.
    fn end(&self, limit: Option<Limit>, listed: Option<InstanceId>) -> Option<Option<Plain>> {
        let end = match limit {
            None => return Some(None),
            Some(Limit::Number(value)) => Plain::Literal(value.into()),
            Some(Limit::Cell(cell)) => kept(self.cells, cell, listed),
        };
        (!matches!(end, Plain::Not)).then_some(Some(end))
    }
}

impl<O: Observer> Machine<'_, '_, O> {
    /// What a plain expression of an activation's script looks at.
    #[inline]
    pub(super) fn sight<'a>(&'a self, activation: &'a Activation) -> Sight<'a> {
        let own = activation.of.map(|of| &self.memory.instances[of.0 as usize]);
        Sight { all: &self.layout.plain[activation.script.index()], memory: &self.memory, own, activation }
    }

    /// Does an operation, unless something is amiss or it is a general one; tells whether it did.
    #[inline]
    pub(super) fn does_quickly(&mut self, activation: &mut Activation, op: &Op) -> bool {
        match op {
            Op::General => return false,
            Op::Goto(next) => activation.go_to(*next),
            &Op::Test(test, yes, no) => {
                let Some(holds) = self.sight(activation).value(test) else { return false };
                activation.go_to(if holds.is_true() { yes } else { no });
            }
            &Op::Keep(local, ty, value) => {
                let Some(value) = self.sight(activation).value(value) else { return false };
                activation.set_local(local, value.fitted(ty).into());
            }
            Op::Set(set) => return self.sets_quickly(activation, set),
        }
        true
    }

    fn sets_quickly(&mut self, activation: &Activation, set: &Set) -> bool {
        let judged = set.min.is_some() || set.max.is_some();
        if judged && !self.suspects.is_empty() {
            return false;
        }
        let of = match set.home {
            Plain::Own(_) => activation.of,
            Plain::Listed(listed, _) => match self.memory.listed_for(activation.of, listed) {
                None => return false,
                there => there,
            },
            _ => None,
        };
        let Some(value) = new_value(&self.sight(activation), set) else { return false };
        self.worked += u64::from(judged);
        if set.watched {
            self.note_before(set.cell, of);
        }
        if O::LOOKS {
            self.put_seen(set, of, value);
        } else {
            self.memory.put_at(set.home, of, value);
        }
        true
    }

    /// Puts a value in place while somebody looks.
    #[inline(never)]
    fn put_seen(&mut self, set: &Set, of: Option<InstanceAt>, value: Scalar) {
        let old = self.memory.get(set.cell, of);
        self.memory.put_at(set.home, of, value);
        let (old, new) = (old.as_ref(), &value.into());
        self.tell(&Happening::Changed { cell: set.cell, of, old, new: Some(new), at: Some(set.at) });
    }
}

/// The value that a write gives; none where anything is amiss with it.
#[inline]
fn new_value(sight: &Sight<'_>, set: &Set) -> Option<Scalar> {
    let given = sight.value(set.value)?;
    let new = match set.operation {
        None => given,
        Some(operation) => sight.at(&set.home)?.operate(operation, given)?,
    };
    let new = new.fitted(set.ty);
    let end = |end: &Plain| sight.at(end)?.as_number();
    let below = match &set.min {
        Some(min) => new.as_number()? < end(min)?,
        None => false,
    };
    let above = match &set.max {
        Some(max) => new.as_number()? > end(max)?,
        None => false,
    };
    (!below && !above).then_some(new)
}
