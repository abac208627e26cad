//! What handlers take and give back, or give and take back: `free -= 1  wait 5s  free += 1`. Whatever comes in between, what is
//! still owed lies between a value and its range, so that giving back never leaves it. The debts are counted on every way of
//! each handler by itself; what `spawn` puts in, `removed` may take.

use super::*;
use crate::flow::called::{self, Called};
use crate::flow::graph::{Block, BlockId};
use crate::project::builtin::Builtin;
use crate::registry::{Bound, End};
use crate::script::ast::UnaryOp;

/// How many names and calls deep an amount is looked behind.
const MOST_BEHIND: u32 = 8;
/// How many flags of a body are followed.
const MOST_FLAGS: usize = 4;
/// How often the blocks of a body are gone through before a loop is given up.
const MOST_ROUNDS: usize = 4;
/// How much is moved at once at most, where different amounts are added up.
const MOST_AT_ONCE: f64 = 1e9;

/// A step of a body: its block, and which of that.
type StepAt = (BlockId, usize);

/// Before the first of them.
const BEGINNING: StepAt = (BlockId(0), 0);

/// How much is moved at once: a number that is written out, or what a place holds that nothing changes.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Amount {
    Number(u64),
    Place(PlaceId),
}

/// Which way a write moves the cell.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Way {
    /// Away from the end.
    Away(Amount),
    /// Towards it.
    Towards(Amount),
}

impl World<'_> {
    /// Leaves out the faults of writes that only give back: asked once all is known that others do.
    pub(super) fn leave_out_lent(&self, found: &mut [Found]) {
        let mut lent: FxHashMap<(VarId, End), bool> = FxHashMap::default();
        for (id, found) in self.handler_ids().zip(found) {
            let mut paid: FxHashMap<(VarId, End), bool> = FxHashMap::default();
            found.events.retain(|event| {
                let Event::Outside { written, variable, end, .. } = *event else { return true };
                // Of the others is only asked where this one does, and once.
                let gives_back = written == variable
                    && *paid.entry((variable, end)).or_insert_with(|| self.pays_back(id, variable, end));
                !gives_back || !*lent.entry((variable, end)).or_insert_with(|| self.is_lent(variable, end))
            });
        }
    }

    /// Whether all that moves a variable towards an end of its range gives back what the same activation has put in before.
    fn is_lent(&self, variable: VarId, end: End) -> bool {
        let cell = CellId(variable.0);
        let known = self.project.registry.var(variable);
        let moves = match known.bound(end) {
            Some(Bound::Variable(bound)) => self.moved[bound.index()],
            _ => false,
        };
        let others = self.by_game[variable.index()] || self.cleared[cell.index()] || self.unsettled[cell.index()];
        !moves
            && !others
            && self.effects[cell.index()]
                .iter()
                .filter(|effect| moves_towards(effect, end))
                .all(|effect| effect.handler.is_some_and(|handler| self.pays_back(handler, variable, end)))
    }

    /// Whether a handler takes no more than it has put in before, and the variable does not go meanwhile.
    fn pays_back(&self, id: HandlerId, variable: VarId, end: End) -> bool {
        let (cell, known) = (CellId(variable.0), self.project.registry.var(variable));
        let (script, index) = self.handler(id);
        let stays = known.scope != Scope::Scene || self.project.script(script).scene == Some(known.owner);
        let called = self.called_from(script, index..index + 1);
        let in_sight =
            |at: ProcId| self.only_write(script, at, cell).is_some() || self.write_if_yes(script, at, cell).is_some();
        let out_of_sight = |&at: &ProcId| self.written_by(script, at).contains(&cell) && !in_sight(at);
        stays && !called.iter().any(out_of_sight) && self.is_paid_back(id, cell, end)
    }

    /// The one step by which a procedure writes a cell, whichever way it takes.
    fn only_write(&self, script: ScriptId, id: ProcId, cell: CellId) -> Option<&graph::Step> {
        let (at, step) = self.single_write(script, id, cell)?;
        leads_through(self.procedure_graph(script, id), at).then_some(step)
    }

    /// The one step by which a procedure writes a cell, once at most, and its block: none where one that it calls writes it too.
    pub(super) fn single_write(&self, script: ScriptId, id: ProcId, cell: CellId) -> Option<(BlockId, &graph::Step)> {
        let unit = self.project.script(script);
        let graph = self.procedure_graph(script, id);
        let is_write = |step: &&graph::Step| match step.kind {
            StepKind::Assign { place, .. } | StepKind::Clear { place, .. } => {
                self.project.cell_of(unit, place) == Some(cell)
            }
            _ => false,
        };
        let all = (0..).map(BlockId).zip(&graph.blocks);
        let mut writes = all.flat_map(|(at, block)| block.steps.iter().filter(is_write).map(move |step| (at, step)));
        let (at, step) = writes.next().filter(|_| writes.next().is_none())?;
        let once = graph.blocks[at.index()].loops == 0 && !graph.blocks[at.index()].loop_head;
        let by_others = graph.calls.iter().any(|&id| self.written_by(script, id).contains(&cell));
        (once && !by_others).then_some((at, step))
    }

    /// How a step of a handler moves a cell, by itself or by a procedure that it calls, but for one whose answer is asked for by
    /// the block's exit; none where that is not known.
    fn way_of_step(
        &self,
        id: HandlerId,
        step: &graph::Step,
        answered: Option<ExprId>,
        of: (CellId, End),
    ) -> Option<Option<(PlaceId, Way)>> {
        let mut calls = called::by_step(self.parts(id).0, step);
        calls.retain(|called| Some(called.call) != answered);
        let mut ways = self.ways_of_calls(id, &calls, of);
        ways.extend(self.way_of_write(id, step, None, of));
        only(ways)
    }

    /// The ways in which procedures move a cell that are called: none of one where that is not known.
    fn ways_of_calls(&self, id: HandlerId, calls: &[Called], of: (CellId, End)) -> Vec<Option<(PlaceId, Way)>> {
        let script = self.handler(id).0;
        let writing = calls.iter().filter(|called| self.written_by(script, called.procedure).contains(&of.0));
        let way = |called: &Called| {
            let write = self.only_write(script, called.procedure, of.0).filter(|_| called.certain)?;
            self.way_of_write(id, write, Some(called), of)?
        };
        writing.map(way).collect()
    }

    /// How a step moves a cell that it writes itself; in a procedure that is called, by what it is given there.
    fn way_of_write(
        &self,
        id: HandlerId,
        step: &graph::Step,
        called: Option<&Called>,
        (cell, end): (CellId, End),
    ) -> Option<Option<(PlaceId, Way)>> {
        match step.kind {
            StepKind::Assign { place, axis, op, value, .. }
                if self.project.cell_of(self.parts(id).0, place) == Some(cell) =>
            {
                let plain = axis.is_none().then_some((op, value));
                Some(plain.and_then(|write| self.way_of(id, (place, write), called, end)).map(|way| (place, way)))
            }
            _ => None,
        }
    }

    /// Whether on every way through a handler no more is taken than was put in before.
    fn is_paid_back(&self, id: HandlerId, cell: CellId, end: End) -> bool {
        let (unit, tree, graph) = self.parts(id);
        let asked = tree.when.map(|when| called::by_expr(unit, when)).unwrap_or_default();
        if !self.ways_of_calls(id, &asked, (cell, end)).is_empty() {
            return false;
        }
        let mut place_of_all: Option<PlaceId> = None;
        let mut amounts: SmallVec<[Amount; 4]> = SmallVec::new();
        let mut ways: FxHashMap<(usize, usize), Way> = FxHashMap::default();
        let mut answers: FxHashMap<usize, (BlockId, Way)> = FxHashMap::default();
        for (block, at_block) in graph.blocks.iter().enumerate() {
            let answer = self.answer_asked(self.handler(id).0, at_block, cell);
            let answered = answer.as_ref().map(|answer| answer.called.call);
            let by_steps = at_block.steps.iter().map(|step| self.way_of_step(id, step, answered, (cell, end)));
            let mut at_exit = called::by_exit(unit, &at_block.exit);
            at_exit.retain(|called| Some(called.call) != answered);
            let by_exit = only(self.ways_of_calls(id, &at_exit, (cell, end)));
            let by_answer = answer.as_ref().map(|it| self.way_of_write(id, it.write, Some(&it.called), (cell, end)));
            for (at, moved) in by_steps.chain([by_exit]).chain(by_answer).enumerate() {
                let Some(moved) = moved else { return false };
                let Some((place, way)) = moved else { continue };
                if *place_of_all.get_or_insert(place) != place {
                    return false;
                }
                let (Way::Away(amount) | Way::Towards(amount)) = way;
                amounts.push(amount);
                match &answer {
                    Some(answer) if at > at_block.steps.len() => drop(answers.insert(block, (answer.done, way))),
                    _ => drop(ways.insert((block, at), way)),
                }
            }
        }
        let changes = |place: PlaceId| {
            let mut steps = graph.blocks.iter().flat_map(|block| &block.steps);
            steps.any(|step| matches!(step.kind, StepKind::Assign { place: changed, .. } if changed == place))
        };
        let is_same = |place: PlaceId| match unit.place(place) {
            Place::Variable(_, Base::Held(name)) => matches!(unit.place(name), Place::Local(_)) && !changes(name),
            Place::Local(_) => !changes(place),
            _ => self.is_one_place(unit, place),
        };
        let Some(counted) = Counting::of(&amounts) else { return false };
        let (amount, begun) = match counted {
            Counting::Times(amount) => (amount.place(), self.put_in_before(id, cell, end, amount)),
            Counting::Sums => (None, 0),
        };
        let count = |way: &Way| counted.count(*way);
        let moves = ways.iter().map(|(at, way)| (*at, count(way))).collect();
        let answers = answers.iter().map(|(at, (done, way))| (*at, (*done, count(way)))).collect();
        place_of_all.into_iter().chain(amount).all(is_same) && Ways { unit, graph, moves, answers }.are_paid_back(begun)
    }

    /// How often so much was certainly put in for what `removed` or `leave` takes leave of: by its `spawn` or `enter`.
    fn put_in_before(&self, id: HandlerId, cell: CellId, end: End, amount: Amount) -> usize {
        let (unit, tree, _) = self.parts(id);
        let is_actor = unit.owner.is_some_and(|owner| self.project.registry.is_actor(owner));
        let opening = match tree.trigger {
            Trigger::Removed if is_actor && !self.removes_in_openings() => waiting::Opening::Spawn,
            Trigger::Leave if !is_actor && unit.scene.is_some() => waiting::Opening::Enter,
            _ => return 0,
        };
        let scope = self.project.variable_of(cell).map(|variable| self.project.registry.var(variable).scope);
        if !matches!(scope, Some(Scope::Global | Scope::Type)) {
            return 0; // It may be another by then.
        }
        let takes_too = |&other: &HandlerId| {
            let (taking, with, graph) = self.parts(other);
            let is_alike = std::mem::discriminant(&with.trigger) == std::mem::discriminant(&tree.trigger);
            let mut steps = graph.blocks.iter().flat_map(|block| &block.steps);
            is_alike
                && other != id
                && steps.any(|step| match step.kind {
                    StepKind::Assign { place, .. } => self.project.cell_of(taking, place) == Some(cell),
                    _ => false,
                })
        };
        if self.handler_ids().any(|other| takes_too(&other)) {
            return 0; // What was put in once can't be taken twice.
        }
        let before = self.handler_ids().filter(|&other| {
            let (begins, tree, _) = self.parts(other);
            let is_there = if opening == waiting::Opening::Spawn { None } else { unit.scene };
            self.openings[other.index()] == Some(opening)
                && tree.when.is_none()
                && (begins.owner, begins.scene) == (unit.owner, is_there)
        });
        before.map(|other| self.put_in_at_once(other, cell, end, amount)).sum()
    }

    /// How often a handler puts so much in as it begins, whatever comes.
    fn put_in_at_once(&self, id: HandlerId, cell: CellId, end: End, amount: Amount) -> usize {
        let (unit, _, graph) = self.parts(id);
        let at_once = graph.blocks[0].steps.iter().take_while(|step| !certain::waits(unit, &step.kind));
        let puts_in = |step: &&graph::Step| match self.way_of_step(id, step, None, (cell, end)) {
            Some(Some((_, way))) => way == Way::Away(amount),
            _ => false,
        };
        at_once.filter(puts_in).count()
    }

    /// Whether something may be removed before its `spawn` handlers are through.
    fn removes_in_openings(&self) -> bool {
        let removes = |graph: &Graph| {
            let mut steps = graph.blocks.iter().flat_map(|block| &block.steps);
            steps.any(|step| matches!(step.kind, StepKind::Remove(_)))
                || graph.blocks.iter().any(|block| matches!(block.exit, graph::Exit::Gone))
        };
        self.handler_ids().any(|id| self.is_opening(id) && removes(self.handler_graph(id)))
            || self.graphs.iter().flat_map(|graphs| &graphs.procedures).any(removes)
    }

    /// What is given for a parameter that the procedure leaves as it is.
    fn given_once(&self, id: HandlerId, called: &Called, parameter: ExprId) -> Option<ExprId> {
        let (unit, graph) = (self.parts(id).0, self.procedure_graph(self.handler(id).0, called.procedure));
        let place = unit.place_of(parameter)?;
        let changes =
            |step: &graph::Step| matches!(step.kind, StepKind::Assign { place: changed, .. } if changed == place);
        let stays = !graph.blocks.iter().flat_map(|block| &block.steps).any(changes);
        called.given(unit, parameter).filter(|_| stays)
    }

    /// How a write moves a cell, where that is a plain step of a known sign.
    fn way_of(
        &self,
        id: HandlerId,
        (place, write): (PlaceId, (AssignOp, ExprId)),
        called: Option<&Called>,
        end: End,
    ) -> Option<Way> {
        let (unit, ..) = self.parts(id);
        let (op, value) = crate::flow::access::plain_step(unit, place, write)?;
        let value = called.and_then(|called| self.given_once(id, called, value)).unwrap_or(value);
        let behind = unit.behind(value);
        let is_number = matches!(unit.tree.expr(behind).kind, ExprKind::Int(_) | ExprKind::Float(_));
        let value = if is_number { behind } else { value };
        let amount = match (self.literal(unit, value, Type::Number), unit.place_of(value)) {
            (Value::Num(num), None) => Amount::Number(num.single().filter(|&number| number >= 0.0)?.to_bits()),
            (_, Some(place)) => Amount::Place(place).given(self.is_kept_above_zero(id, value))?,
            _ => return None,
        };
        match (op, end) {
            (BinaryOp::Add, End::Min) | (BinaryOp::Subtract, End::Max) => Some(Way::Away(amount)),
            (BinaryOp::Add, End::Max) | (BinaryOp::Subtract, End::Min) => Some(Way::Towards(amount)),
            _ => None,
        }
    }

    /// Whether what a place holds is never below zero, and the same as long as an activation lasts.
    fn is_kept_above_zero(&self, id: HandlerId, value: ExprId) -> bool {
        let (unit, ..) = self.parts(id);
        match unit.place_of(value).map(|place| unit.place(place)) {
            Some(Place::Variable(variable, _)) => {
                let known = self.project.registry.var(variable);
                !self.moved[variable.index()]
                    && !known.engine_writes
                    && self.is_above_zero(id, value, BEGINNING, MOST_BEHIND)
            }
            Some(Place::Local(_)) => self.is_above_zero(id, value, BEGINNING, MOST_BEHIND),
            _ => false,
        }
    }

    /// Whether a value that is worked out by a step is never below zero.
    fn is_above_zero(&self, id: HandlerId, value: ExprId, by: StepAt, depth: u32) -> bool {
        let (unit, _, graph) = self.parts(id);
        match (unit.meaning(value), &unit.tree.expr(value).kind) {
            (Meaning::Value(place), _) => match unit.place(place) {
                Place::Variable(variable, _) => {
                    matches!(self.project.registry.var(variable).min, Some(Bound::Number(min)) if min >= 0.0)
                        && !self.is_written_before(id, variable, by)
                }
                Place::Local(local) => match value_of(graph, place) {
                    Some((value, by)) => depth > 0 && self.is_above_zero(id, value, by, depth - 1),
                    None => self.least_given(id, local).is_some_and(|least| least >= 0.0),
                },
                _ => false,
            },
            (Meaning::Builtin(Builtin::Min | Builtin::Max), ExprKind::Call(_, arguments)) => {
                depth > 0 && arguments.iter().all(|&argument| self.is_above_zero(id, argument, by, depth - 1))
            }
            (_, ExprKind::Binary(BinaryOp::Subtract, left, right)) => {
                let all_within = [*left, *right].into_iter().filter_map(|side| unit.place_of(side)).all(|place| {
                    let Place::Variable(variable, _) = unit.place(place) else { return true };
                    !self.is_written_before(id, variable, by)
                });
                all_within && self.is_left_within(unit, *left, *right)
            }
            _ => matches!(self.literal(unit, value, Type::Number), Value::Num(num) if num.lo >= 0.0),
        }
    }

    /// Whether a handler may have written a variable before one of its steps: till others look it may be out of its range.
    fn is_written_before(&self, id: HandlerId, variable: VarId, (at, step): StepAt) -> bool {
        let (unit, _, graph) = self.parts(id);
        let script = self.handler(id).0;
        let writes = |block: &Block| self.written_in(script, unit, block).contains(&CellId(variable.0));
        let here = &graph.blocks[at.index()];
        let begun = Block { steps: here.steps[..step].to_vec(), exit: graph::Exit::Return(None), ..here.clone() };
        let comes_to = |next: BlockId| graph.from(next).any(|block| std::ptr::eq(block, here));
        let leads_here = |block: &&Block| block.exit.successors().into_iter().any(comes_to);
        writes(&begun) || graph.blocks.iter().filter(|block| writes(block)).any(|block| leads_here(&block))
    }

    /// Whether a difference is what lies between a variable and an end of its range: `coins - 1`, `coins.max - coins`.
    fn is_left_within(&self, unit: &ScriptUnit, left: ExprId, right: ExprId) -> bool {
        match (unit.meaning(left), unit.meaning(right)) {
            (Meaning::Bound(of, End::Max), Meaning::Value(place)) => of == place,
            (Meaning::Value(place), Meaning::Bound(of, End::Min)) => of == place,
            (Meaning::Value(place), _) => {
                let Place::Variable(variable, _) = unit.place(place) else { return false };
                let Value::Num(taken) = self.literal(unit, right, Type::Number) else { return false };
                let least = &self.project.registry.var(variable).min;
                matches!(least, Some(Bound::Number(min)) if taken.hi <= *min)
            }
            _ => false,
        }
    }

    /// The least that a signal brings in a parameter.
    fn least_given(&self, id: HandlerId, local: LocalId) -> Option<f64> {
        let handler = &self.parts(id).0.handlers[self.handler(id).1];
        let at = handler.parameters.iter().position(|&(parameter, _)| parameter == local)?;
        self.project.registry.signal(handler.signal?).parameters.get(at)?.min
    }
}

fn moves_towards(effect: &Effect, end: End) -> bool {
    if end == End::Max { effect.up } else { effect.down }
}

/// The one of these; none where there are several, or it is not known itself.
fn only<T>(ways: Vec<Option<T>>) -> Option<Option<T>> {
    let mut ways = ways.into_iter();
    match (ways.next(), ways.next()) {
        (Some(way), None) => way.map(Some),
        (None, _) => Some(None),
        _ => None,
    }
}

/// Whether all ways through a body lead through one of its blocks.
fn leads_through(graph: &Graph, through: BlockId) -> bool {
    !graph.but_through(through).any(|block| block.exit.successors().is_empty())
}

/// What a `let` begins with, and its step.
fn value_of(graph: &Graph, local: PlaceId) -> Option<(ExprId, StepAt)> {
    (0..).map(BlockId).zip(&graph.blocks).find_map(|(at, block)| {
        block.steps.iter().enumerate().find_map(|(step, kind)| match kind.kind {
            StepKind::Let { place, value } if place == local => Some((value, (at, step))),
            _ => None,
        })
    })
}

impl Amount {
    fn given(self, holds: bool) -> Option<Self> {
        holds.then_some(self)
    }

    fn place(self) -> Option<PlaceId> {
        match self {
            Self::Place(place) => Some(place),
            Self::Number(_) => None,
        }
    }

    /// A whole number that is written out, and not so large that its sums could be.
    fn whole(self) -> Option<isize> {
        let Self::Number(bits) = self else { return None };
        let number = f64::from_bits(bits);
        #[expect(clippy::cast_possible_truncation, reason = "whole, and small")]
        (number.fract() == 0.0 && number <= MOST_AT_ONCE).then_some(number as isize)
    }
}

/// How it is counted what is put in and taken out.
#[derive(Clone, Copy)]
enum Counting {
    /// It is the same amount each time.
    Times(Amount),
    /// The amounts are whole numbers, and added up.
    Sums,
}

impl Counting {
    fn of(amounts: &[Amount]) -> Option<Self> {
        match amounts {
            [] => Some(Self::Sums),
            [first, others @ ..] if others.iter().all(|other| other == first) => Some(Self::Times(*first)),
            _ => amounts.iter().all(|amount| amount.whole().is_some()).then_some(Self::Sums),
        }
    }

    /// How much a write puts in; less than nothing where it takes.
    fn count(self, way: Way) -> isize {
        let of = |amount: Amount| match self {
            Self::Times(_) => 1,
            Self::Sums => amount.whole().unwrap_or_default(),
        };
        match way {
            Way::Away(amount) => of(amount),
            Way::Towards(amount) => -of(amount),
        }
    }
}

/// What is left where a flag is down, and where it is up; none where it can't be that.
type Left = [Option<usize>; 2];

/// What is left behind a write; none where it takes more than there is.
fn moved(left: Left, by: Option<&isize>) -> Option<Left> {
    let mut moved = left;
    for left in moved.iter_mut().flatten() {
        *left = left.checked_add_signed(by.copied().unwrap_or_default())?;
    }
    Some(moved)
}

/// The least of both.
fn met(a: Left, b: Left) -> Left {
    [0, 1].map(|at| match (a[at], b[at]) {
        (Some(a), Some(b)) => Some(a.min(b)),
        (a, b) => a.or(b),
    })
}

/// How much the writes of a body to one cell put in, by block and step; those of its exit come behind the last step.
struct Ways<'a> {
    unit: &'a ScriptUnit,
    graph: &'a Graph,
    moves: FxHashMap<(usize, usize), isize>,
    /// By block, what its exit has done where it goes one way.
    answers: FxHashMap<usize, (BlockId, isize)>,
}

impl Ways<'_> {
    /// Whether no way takes more than it has put in, be it that a flag says which one was taken.
    fn are_paid_back(&self, begun: usize) -> bool {
        self.are_paid_back_by(begun, None)
            || self.flags().into_iter().any(|flag| self.are_paid_back_by(begun, Some(flag)))
    }

    /// The names that the body gives `true` or `false`.
    fn flags(&self) -> SmallVec<[PlaceId; 2]> {
        let mut flags = SmallVec::new();
        let given = self.graph.blocks.iter().flat_map(|block| &block.steps).filter_map(|step| self.given(step));
        for (place, _) in given.filter(|given| given.1.is_some()) {
            if flags.len() < MOST_FLAGS && !flags.contains(&place) {
                flags.push(place);
            }
        }
        flags
    }

    /// The local that a step gives a truth, and which one, where that is written there.
    fn given(&self, step: &graph::Step) -> Option<(PlaceId, Option<bool>)> {
        let (place, value) = match step.kind {
            StepKind::Let { place, value } | StepKind::Assign { place, value, .. } => (place, Some(value)),
            StepKind::Clear { place, .. } => (place, None),
            _ => return None,
        };
        let truth = value.and_then(|value| match self.unit.tree.expr(value).kind {
            ExprKind::Bool(truth) => Some(truth),
            _ => None,
        });
        matches!(self.unit.place(place), Place::Local(_)).then_some((place, truth))
    }

    /// Follows what is put in and taken out along all ways, with the least that may be left where they meet.
    fn are_paid_back_by(&self, begun: usize, flag: Option<PlaceId>) -> bool {
        let mut left: Vec<Left> = vec![[None; 2]; self.graph.blocks.len()];
        left[0] = [Some(begun); 2];
        for _ in 0..MOST_ROUNDS {
            let before = left.clone();
            for (at, block) in self.graph.blocks.iter().enumerate() {
                if left[at] == [None; 2] {
                    continue;
                }
                let Some(ended) = self.behind(at, block, left[at], flag) else { return false };
                for (next, given) in self.handed_on(at, block, ended, flag) {
                    let Some(given) = given else { return false };
                    left[next.index()] = met(left[next.index()], given);
                }
            }
            if left == before {
                return true;
            }
        }
        false
    }

    /// What is left behind a block; none where more is taken than there is.
    fn behind(&self, at: usize, block: &Block, begun: Left, flag: Option<PlaceId>) -> Option<Left> {
        let mut left = begun;
        for step in 0..=block.steps.len() {
            left = moved(left, self.moves.get(&(at, step)))?;
            let given = block.steps.get(step).and_then(|step| self.given(step));
            let Some((_, truth)) = given.filter(|&(place, _)| Some(place) == flag) else { continue };
            let least = left.into_iter().flatten().min();
            left = [false, true].map(|is| least.filter(|_| truth.is_none_or(|truth| truth == is)));
        }
        Some(left)
    }

    /// An `after` block takes along what it gives back; all else goes on as it is, but for what an answer was about, and where the
    /// flag leads elsewhere.
    fn handed_on(
        &self,
        at: usize,
        block: &Block,
        left: Left,
        flag: Option<PlaceId>,
    ) -> SmallVec<[(BlockId, Option<Left>); 2]> {
        match block.exit {
            graph::Exit::Fork { now, later, .. } => {
                let taken = if left.iter().flatten().any(|&left| left > 0) { self.taken_from(later) } else { 0 };
                let owed = left.map(|left| left.map(|left| left.min(taken)));
                let kept = left.map(|left| left.map(|left| left - left.min(taken)));
                smallvec![(now, Some(kept)), (later, Some(owed))]
            }
            graph::Exit::Branch { test, yes, no } if yes != no => {
                let goes = |next: BlockId, outcome: bool| {
                    let may_be = flag.map_or([true; 2], |flag| self.may_be(flag, test, outcome));
                    let left = [0, 1].map(|is| left[is].filter(|_| may_be[is]));
                    let answer = self.answers.get(&at).filter(|answer| answer.0 == next).map(|answer| &answer.1);
                    (next, moved(left, answer))
                };
                smallvec![goes(yes, true), goes(no, false)]
            }
            _ => block.exit.successors().into_iter().map(|next| (next, Some(left))).collect(),
        }
    }

    /// Whether a flag may be down, and whether up, where a test comes out like this.
    fn may_be(&self, flag: PlaceId, test: ExprId, outcome: bool) -> [bool; 2] {
        match self.unit.tree.expr(test).kind {
            ExprKind::Path(_) if self.unit.place_of(test) == Some(flag) => [!outcome, outcome],
            ExprKind::Unary(UnaryOp::Not, inner) => self.may_be(flag, inner, !outcome),
            ExprKind::Binary(op, left, right) => match self.unit.tree.asked_for(op, left, right) {
                Some((asked, wanted)) => self.may_be(flag, asked, outcome == wanted),
                None if matches!((op, outcome), (BinaryOp::And, true) | (BinaryOp::Or, false)) => {
                    let (a, b) = (self.may_be(flag, left, outcome), self.may_be(flag, right, outcome));
                    [a[0] && b[0], a[1] && b[1]]
                }
                None => [true; 2],
            },
            _ => [true; 2],
        }
    }

    /// How much is taken from a block on at most, where nothing is done over and over.
    fn taken_from(&self, first: BlockId) -> usize {
        let mut seen: FxHashSet<BlockId> = FxHashSet::default();
        let mut open = vec![first];
        let mut taken = 0;
        while let Some(at) = open.pop() {
            if seen.insert(at) {
                let block = &self.graph.blocks[at.index()];
                let moves = (0..=block.steps.len()).filter_map(|step| self.moves.get(&(at.index(), step)));
                taken += moves.filter(|by| **by < 0).map(|by| by.unsigned_abs()).sum::<usize>();
                open.extend(block.exit.successors());
            }
        }
        taken
    }
}
