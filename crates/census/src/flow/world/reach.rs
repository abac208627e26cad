//! What cells can hold between dispatches, from what they start as, and what constants and literals stand for.

use super::plain::is_slip;
use super::*;

impl World<'_> {
    /// What a cell starts as.
    pub(super) fn start_value_of(&self, cell: CellId) -> Value {
        match self.project.cells[cell.index()] {
            Cell::Variable(id) => self.start_of(id),
            Cell::Private(script, index) => {
                let unit = self.project.script(script);
                let ty = unit.privates[index as usize].ty;
                // What nothing can start from is told as that, and nothing hangs on it.
                let start = unit.tree.privates[index as usize].start;
                let start = start.filter(|&start| is_constant(unit, &unit.tree, start));
                start.map_or_else(|| nothing(ty), |start| self.literal(unit, start, ty))
            }
        }
    }

    pub(super) fn start_reach(&mut self) {
        let registry = &self.project.registry;
        self.reach = (0..self.project.cells.len()).map(|at| self.start_value_of(CellId::at(at))).collect();
        for at in (0..self.unsettled.len()).filter(|&at| self.unsettled[at]) {
            let any = self.any_in(CellId::at(at));
            self.reach[at] = self.cell_within_bounds(CellId::at(at), any.clone()).unwrap_or(any);
        }
        for id in registry.var_ids().filter(|&id| self.by_game[id.index()]) {
            let variable = registry.var(id);
            let moves = |end| variable.engine_writes || self.bound_by_game(id, end).is_some();
            let (up, down) = (moves(End::Min), moves(End::Max));
            self.effects[id.index()].to_mut().push(Effect {
                handler: None,
                after_wait: false,
                later: false,
                own: false,
                up,
                down,
                set: None,
                clears: false,
                grown: 0,
            });
        }
        self.renew_engine_reach();
    }

    /// Whether a handler was found to call more than one run goes into.
    pub(in crate::flow) fn calls_much(&self, handler: HandlerId) -> bool {
        self.calling_much[handler.index()]
    }

    /// Whether what a cell holds hangs on something that could not be read, or means something else than it says.
    #[must_use]
    pub fn is_unsettled(&self, cell: CellId) -> bool {
        self.unsettled[cell.index()]
    }

    /// The same, where it hangs on nothing but what other scripts may do to it: then a script can still be told how its own
    /// tests come out, whatever that is.
    #[must_use]
    pub fn is_unsettled_by_others(&self, script: ScriptId, cell: CellId) -> bool {
        let unit = self.project.script(script);
        let registry = &self.project.registry;
        let wrong = |id: VarId| [&registry.mistaken, &registry.guessed].iter().any(|wrong| wrong.contains(&id));
        let slips = |access: &Access| access.cell == cell && is_slip(unit, access);
        self.is_unsettled(cell)
            && unit.is_read_whole()
            && !self.project.variable_of(cell).is_some_and(wrong)
            && !self.accesses[script.index()].iter().any(slips)
    }

    /// The cells that something writes, and those that are cut as a bound of theirs moves.
    pub(super) fn find_moved(&self) -> Vec<bool> {
        let registry = &self.project.registry;
        let mut cut_by: FxHashMap<VarId, Vec<VarId>> = FxHashMap::default();
        for id in registry.var_ids().filter(|&id| registry.var(id).overflow != Overflow::Error) {
            for end in [End::Min, End::Max] {
                if let Some(Bound::Variable(bound)) = registry.var(id).bound(end) {
                    cut_by.entry(*bound).or_default().push(id);
                }
            }
        }
        let mut moved = self.written.clone();
        let mut open: Vec<VarId> = cut_by.keys().copied().filter(|bound| moved[bound.index()]).collect();
        while let Some(bound) = open.pop() {
            for &id in cut_by.get(&bound).into_iter().flatten() {
                if !std::mem::replace(&mut moved[id.index()], true) {
                    open.push(id);
                }
            }
        }
        moved
    }

    /// The one number that a cell holds for good, where nothing writes it and all start with the same.
    #[must_use]
    pub fn fixed(&self, cell: CellId) -> Option<f64> {
        match &self.reach[cell.index()] {
            Value::Num(num) if !self.moved[cell.index()] && !self.unsettled[cell.index()] => num.single(),
            _ => None,
        }
    }

    /// What a cell is declared to hold.
    pub(in crate::flow) fn type_of(&self, cell: CellId) -> Type {
        match self.project.cells[cell.index()] {
            Cell::Variable(id) => self.project.registry.var(id).ty,
            Cell::Private(script, index) => self.project.script(script).privates[index as usize].ty,
        }
    }

    /// Anything that a cell may be given, by its type.
    pub(in crate::flow) fn any_in(&self, cell: CellId) -> Value {
        let ty = self.type_of(cell);
        if let Type::Enum(id) = ty { self.any_of(id) } else { anything(ty) }
    }

    /// Anything that a variable may be given: of an enum, any of its values.
    pub(in crate::flow) fn any_of(&self, id: VarId) -> Value {
        let variable = self.project.registry.var(id);
        let values = variable.values.iter().map(|value| self.symbols.get(value).copied());
        match (variable.ty, values.collect::<Option<SmallVec<[Symbol; 4]>>>()) {
            (Type::Enum(_), Some(mut all)) if (1..=TEXT_LIMIT).contains(&all.len()) => {
                all.sort_unstable();
                Value::Text(Some(all))
            }
            (ty, _) => anything(ty),
        }
    }

    /// What the game writes, or what could not be read may write, lies anywhere within the range, so it reaches as far as its
    /// bounds do by now. Gives the cells that have grown.
    pub(super) fn renew_engine_reach(&mut self) -> Vec<CellId> {
        let registry = &self.project.registry;
        let mut grown = Vec::new();
        let anything = |id: VarId| registry.var(id).engine_writes || self.unsettled[id.index()];
        let written: Vec<(VarId, bool)> = registry.var_ids().map(|id| (id, anything(id))).collect();
        for (id, anything) in written.into_iter().filter(|&(id, anything)| anything || self.by_game[id.index()]) {
            let value = match anything {
                true => self.within_bounds(id, self.any_of(id)).unwrap_or(Value::Other),
                false => self.pushed_by_game(id),
            };
            let known = &self.reach[id.index()];
            let joined = if is_nothing(known) { value.clone() } else { known.join(&value) };
            if joined != *known {
                self.reach[id.index()] = joined;
                grown.push(CellId(id.0));
            }
            for effect in self.effects[id.index()].to_mut().iter_mut().filter(|effect| effect.handler.is_none()) {
                effect.set = Some(value.clone());
            }
        }
        grown
    }

    /// The variables that the game writes, and those that move with a bound which it writes.
    pub(super) fn find_by_game(&self) -> Vec<bool> {
        let registry = &self.project.registry;
        let mut by_game: Vec<bool> = registry.variables.iter().map(|variable| variable.engine_writes).collect();
        let follows = |id: VarId| registry.var(id).overflow == Overflow::Clamp;
        let following: Vec<VarId> = registry.var_ids().filter(|&id| follows(id)).collect();
        let mut grows = true;
        while std::mem::take(&mut grows) {
            for id in &following {
                let bounds = [End::Min, End::Max].map(|end| registry.var(*id).bound(end));
                let moves = bounds
                    .into_iter()
                    .flatten()
                    .any(|bound| matches!(bound, Bound::Variable(other) if by_game[other.index()]));
                grows |= moves && !std::mem::replace(&mut by_game[id.index()], true);
            }
        }
        by_game
    }

    /// The variable by which the game can move another that is cut at it, from this end.
    fn bound_by_game(&self, id: VarId, end: End) -> Option<VarId> {
        let variable = self.project.registry.var(id);
        match variable.bound(end).filter(|_| variable.overflow == Overflow::Clamp) {
            Some(Bound::Variable(other)) => Some(*other).filter(|other| self.by_game[other.index()]),
            _ => None,
        }
    }

    /// What a variable can be moved to by bounds that the game writes.
    fn pushed_by_game(&self, id: VarId) -> Value {
        let mut pushed = self.reach[id.index()].clone();
        for end in [End::Min, End::Max] {
            let bound = self.bound_by_game(id, end).map(|bound| &self.reach[bound.index()]);
            if let (Value::Num(num), Some(Value::Num(bound))) = (&pushed, bound) {
                let moved = if end == End::Max { num.min(bound) } else { num.max(bound) };
                pushed = Value::Num(num.join(&moved));
            }
        }
        pushed
    }

    /// The value of a text as it is written in a script.
    #[must_use]
    pub fn text_value(&self, kind: &ExprKind) -> Value {
        let symbol = plain_text(kind).and_then(|text| self.symbols.get(text));
        Value::Text(symbol.map(|&symbol| smallvec![symbol]))
    }

    /// What a function that works with its arguments alone makes of numbers; nothing for others.
    #[must_use]
    pub fn worked_out(&self, builtin: Builtin, arguments: &[Num]) -> Option<Num> {
        Some(match (builtin, arguments) {
            (Builtin::Abs, [x]) => x.abs(),
            (Builtin::Floor, [x]) => x.rounded(f64::floor),
            (Builtin::Ceil, [x]) => x.rounded(f64::ceil),
            (Builtin::Round, [x]) => x.rounded(f64::round),
            (Builtin::Min, [first, rest @ ..]) => rest.iter().fold(first.clone(), |least, x| least.min(x)),
            (Builtin::Max, [first, rest @ ..]) => rest.iter().fold(first.clone(), |most, x| most.max(x)),
            (Builtin::Clamp, [x, low, high]) => x.max(low).min(high),
            (Builtin::TickLength, []) => Num::constant(self.project.config.tick_length(), false),
            _ => return None,
        })
    }

    /// What an expression that is made of literals comes to, where that is a number.
    #[must_use]
    pub fn constant_number(&self, unit: &ScriptUnit, expr: ExprId) -> Option<f64> {
        match self.literal(unit, expr, unit.ty(expr)) {
            Value::Num(num) => num.single(),
            _ => None,
        }
    }

    /// A constant expression's value.
    #[must_use]
    pub fn literal(&self, unit: &ScriptUnit, expr: ExprId, ty: Type) -> Value {
        let value = match &unit.tree.expr(expr).kind {
            #[allow(clippy::cast_precision_loss, reason = "the ends of 64 bits are rounded outward")]
            ExprKind::Int(value) => Value::Num(Num::constant(*value as f64, ty == Type::Int)),
            ExprKind::Float(value) => Value::Num(Num::constant(*value, false)),
            ExprKind::Bool(value) => Value::Bool { yes: *value, no: !*value },
            ExprKind::None => Value::Ref { none: true, some: false },
            kind @ ExprKind::Text(_) => self.text_value(kind),
            ExprKind::Unary(UnaryOp::Minus, inner) => match self.literal(unit, *inner, ty) {
                Value::Num(num) => Value::Num(num.neg()),
                other => other,
            },
            ExprKind::Binary(op, left, right) => {
                match (self.literal(unit, *left, ty), self.literal(unit, *right, ty)) {
                    (Value::Num(a), Value::Num(b)) => match op {
                        BinaryOp::Add => Value::Num(a.add(&b)),
                        BinaryOp::Subtract => Value::Num(a.sub(&b)),
                        BinaryOp::Multiply => Value::Num(a.mul(&b)),
                        BinaryOp::Divide => Value::Num(a.div(&b)),
                        BinaryOp::Remainder => Value::Num(a.rem(&b)),
                        _ => anything(ty),
                    },
                    _ => anything(ty),
                }
            }
            ExprKind::Call(_, arguments) => {
                let number = |&argument: &ExprId| match self.literal(unit, argument, ty) {
                    Value::Num(num) => Some(num),
                    _ => None,
                };
                let numbers: Option<Vec<Num>> = arguments.iter().map(number).collect();
                match (unit.meaning(expr), numbers) {
                    (Meaning::Builtin(builtin), Some(numbers)) => {
                        self.worked_out(builtin, &numbers).map_or_else(|| anything(ty), Value::Num)
                    }
                    _ => anything(ty),
                }
            }
            _ => anything(ty),
        };
        match (&value, ty) {
            (Value::Num(_), Type::Int | Type::Number)
            | (Value::Bool { .. }, Type::Bool)
            | (Value::Text(_), Type::Text | Type::Enum(_))
            | (Value::Ref { .. }, Type::Ref(_)) => value,
            _ => anything(ty),
        }
    }

    pub(super) fn start_of(&self, id: VarId) -> Value {
        let registry = &self.project.registry;
        let variable = registry.var(id);
        let own = registry.instances_of(variable.owner).filter(|_| variable.scope == Scope::Instance);
        let mut start =
            variable.default.as_ref().map_or_else(|| nothing(variable.ty), |value| self.start_value(id, value, None));
        for instance in own {
            if let Some(value) = registry.start_of(id, instance) {
                start = join_nothing(
                    &start,
                    &self.start_value(id, value, Some(instance)),
                    variable.ty,
                    variable.default.is_none(),
                );
            }
        }
        start
    }

    /// What a variable starts as, of an instance with its own bounds or of any other; one that would start outside of its
    /// range may be meant to be anything inside.
    pub(super) fn start_value(&self, id: VarId, value: &Constant, of: Option<InstanceId>) -> Value {
        let registry = &self.project.registry;
        let variable = registry.var(id);
        let at_start = |bound: &Bound| match (bound, of) {
            (Bound::Variable(bound), Some(of)) if registry.var(*bound).scope == Scope::Instance => {
                registry.start_of(*bound, of)?.as_number()
            }
            _ => crate::registry::read::bound_at_start(bound, registry),
        };
        let end = |bound: &Option<Bound>, open: f64| bound.as_ref().and_then(at_start).unwrap_or(open);
        let (min, max) = (end(&variable.min, f64::NEG_INFINITY), end(&variable.max, f64::INFINITY));
        match value.as_number() {
            Some(number) if min <= max && (number < min || number > max) => {
                Value::Num(Num::range(min, max, variable.ty == Type::Int))
            }
            _ => self.constant(value, variable.ty),
        }
    }

    /// The value of a constant of the registry.
    #[must_use]
    pub fn constant(&self, value: &Constant, ty: Type) -> Value {
        match value {
            Constant::Bool(value) => Value::Bool { yes: *value, no: !*value },
            Constant::Int(_) | Constant::Number(_) => {
                Value::Num(Num::constant(value.as_number().unwrap_or(0.0), ty == Type::Int))
            }
            Constant::Text(text) => Value::Text(self.symbols.get(text).map(|&symbol| smallvec![symbol])),
            Constant::Ref(_) => Value::Ref { none: false, some: true },
            Constant::Vector(_) => Value::Other,
        }
    }

    /// A value cut to the range that its variable may have; none if nothing of it is inside.
    pub(super) fn within_bounds(&self, id: VarId, value: Value) -> Option<Value> {
        let variable = self.project.registry.var(id);
        let Value::Num(num) = &value else { return Some(value) };
        let end = |bound: &Option<Bound>, low: bool| match bound {
            None => {
                if low {
                    f64::NEG_INFINITY
                } else {
                    f64::INFINITY
                }
            }
            Some(Bound::Number(value)) => *value,
            Some(Bound::Variable(other)) => match self.reach.get(other.index()) {
                Some(Value::Num(reach)) => {
                    if low {
                        reach.lo
                    } else {
                        reach.hi
                    }
                }
                _ => {
                    if low {
                        f64::NEG_INFINITY
                    } else {
                        f64::INFINITY
                    }
                }
            },
        };
        let (lo, hi) = (end(&variable.min, true), end(&variable.max, false));
        num.meet(&Num::range(lo, hi, num.int)).map(Value::Num)
    }

    /// What the variable behind a slot can hold between dispatches.
    #[must_use]
    pub fn reach(&self, facts: &SlotFacts) -> Value {
        match facts.cell {
            Some(cell) => {
                let reach = &self.reach[cell.index()];
                if is_nothing(reach) { anything(facts.ty) } else { reach.clone() }
            }
            None => anything(facts.ty),
        }
    }

    /// Whether an actor has `spawn` handlers.
    #[must_use]
    pub fn answers_spawn(&self, actor: OwnerId) -> bool {
        self.at_spawn.contains_key(&actor)
    }
}

pub(super) fn widen(known: &Value, joined: &Value, stops: &[f64]) -> Value {
    match (known, joined) {
        (Value::Num(a), Value::Num(b)) => Value::Num(a.widen(b, stops)),
        _ => joined.clone(),
    }
}

/// The value of a cell that nothing has given one yet.
pub(super) fn nothing(ty: Type) -> Value {
    match ty {
        Type::Ref(_) => Value::Ref { none: true, some: false },
        Type::Bool => Value::Bool { yes: false, no: false },
        Type::Int | Type::Number => {
            Value::Num(Num { lo: 1.0, hi: -1.0, step: 0.0, off: 0.0, set: None, int: ty == Type::Int, nonzero: false })
        }
        Type::Text | Type::Enum(_) => Value::Text(Some(SmallVec::new())),
        _ => Value::Other,
    }
}

/// Whether a cell was never given a value.
#[must_use]
pub fn is_nothing(value: &Value) -> bool {
    match value {
        Value::Num(num) => num.is_empty(),
        Value::Bool { yes, no } => !yes && !no,
        Value::Text(Some(symbols)) => symbols.is_empty(),
        _ => false,
    }
}

fn join_nothing(known: &Value, value: &Value, ty: Type, was_nothing: bool) -> Value {
    if was_nothing && *known == nothing(ty) && !matches!(ty, Type::Ref(_)) { value.clone() } else { known.join(value) }
}

/// A number for each text that a place can be seen to hold: the values of enums, and what is written of other texts.
pub(super) fn symbols(project: &Project) -> FxHashMap<Arc<str>, Symbol> {
    let registry = &project.registry;
    let mut symbols: FxHashMap<Arc<str>, Symbol> = FxHashMap::default();
    let mut add = |text: &str| {
        if !symbols.contains_key(text) {
            let next = Symbol::try_from(symbols.len()).unwrap_or(Symbol::MAX);
            symbols.insert(text.into(), next);
        }
    };
    registry.variables.iter().flat_map(|variable| &variable.values).for_each(|value| add(value));
    let defaults = registry.variables.iter().filter_map(|variable| variable.default.as_ref());
    let starts = registry.instances.iter().flat_map(|instance| instance.start.iter().map(|start| &start.value));
    for constant in defaults.chain(starts) {
        if let Constant::Text(text) = constant {
            add(text);
        }
    }
    for unit in project.scripts.iter().filter(|unit| unit.place_types.contains(&Type::Text)) {
        unit.tree.exprs.iter().filter_map(|expr| plain_text(&expr.kind)).for_each(&mut add);
    }
    symbols
}

/// A text that is written out, without tokens.
#[must_use]
pub fn plain_text(kind: &ExprKind) -> Option<&str> {
    match kind {
        ExprKind::Text(parts) => match &parts[..] {
            [] => Some(""),
            [TextPart::Plain(text)] => Some(text),
            _ => None,
        },
        _ => None,
    }
}
