//! How many firings of what take a variable from its start to its limits, or how long it takes.
//!
//! Read off the registry and the statements, without running anything: each statement that steps the variable has a size,
//! a range where it hangs on other variables, and the distance to a limit divided by it is the count.

use crate::flow::access::{Access, AccessKind, Body};
use crate::flow::value::Value as Abstract;
use crate::project::builtin::Builtin;
use crate::project::{Base, Meaning, Place, PlaceId, ScriptUnit};
use crate::registry::{Bound, End, InstanceId, Scope, Type, VarId};
use crate::rehearsal::record::trigger_of;
use crate::rehearse::layout::duration_ticks;
use crate::rules::Facts;
use crate::script::ast::{AssignOp, BinaryOp, ExprId, ExprKind, LocalId, StatementKind, Trigger, UnaryOp, walk};
use crate::source::Location;
use crate::words::number;

/// How deep expressions are followed.
const MOST_DEPTH: u32 = 32;

/// The tally of one variable.
#[derive(Clone, Debug)]
pub struct Tally {
    /// The variable.
    pub variable: VarId,
    /// Where it starts, and how far from there it may go: one for each group of instances that are alike.
    pub starts: Vec<Start>,
    /// The statements that move it.
    pub steps: Vec<Step>,
    /// From each start to each target, by each step that leads there.
    pub ways: Vec<Way>,
}

/// Where a variable starts.
#[derive(Clone, PartialEq, Debug)]
pub struct Start {
    /// Whose: the instances' names; empty where there is only one value.
    pub whose: Vec<String>,
    /// What it starts as; none: unset.
    pub value: Option<f64>,
    /// The values worth reaching, the least first.
    pub targets: Vec<Target>,
    /// The instance that stands for all of them.
    of: Option<InstanceId>,
}

/// A value worth reaching.
#[derive(Clone, PartialEq, Debug)]
pub struct Target {
    /// The value.
    pub value: f64,
    /// What it is: `max`, or the test that asks for it.
    pub what: String,
    /// Whether a test asks for exactly this value.
    pub exact: bool,
}

/// How far a statement moves the variable.
#[derive(Clone, PartialEq, Debug)]
pub enum Size {
    /// By something between these, the same each time where they are equal.
    By(f64, f64),
    /// To something between these.
    To(f64, f64),
    /// That can't be told, for this reason.
    Unbounded(String),
}

/// How often a handler runs.
#[derive(Clone, Copy, PartialEq, Debug)]
pub enum Pace {
    /// Whenever it is triggered.
    Firing,
    /// By itself, each time so many ticks have passed.
    Ticks(u64),
}

/// A statement that moves the variable.
#[derive(Clone, PartialEq, Debug)]
pub struct Step {
    /// The handler's trigger, or the procedure.
    pub trigger: String,
    /// The statement.
    pub at: Location,
    /// How often it runs.
    pub pace: Pace,
    /// How far it goes, by start.
    pub sizes: Vec<Size>,
    /// Whether the value is cut at a limit, by the statement or by `overflow`.
    pub cut: bool,
}

/// A way from a start to a target.
#[derive(Clone, PartialEq, Debug)]
pub struct Way {
    /// Index into [`Tally::starts`].
    pub start: usize,
    /// Index into the start's targets.
    pub target: usize,
    /// Index into [`Tally::steps`].
    pub step: usize,
    /// The fewest times.
    pub least: f64,
    /// The most; none where a step may also not move it.
    pub most: Option<f64>,
    /// By how much the last time goes beyond, at most.
    pub over: f64,
}

/// Works out a variable's tally.
#[must_use]
pub fn tally(facts: &Facts<'_>, variable: VarId) -> Tally {
    let work = Work { facts, variable };
    let starts = work.starts();
    let steps = work.steps(&starts);
    let mut ways = Vec::new();
    for (at, start) in starts.iter().enumerate() {
        for target in 0..start.targets.len() {
            for (step, facts) in steps.iter().enumerate() {
                let way = work.way(start, &start.targets[target], &facts.sizes[at]);
                ways.extend(way.map(|(least, most, over)| Way { start: at, target, step, least, most, over }));
            }
        }
    }
    Tally { variable, starts, steps, ways }
}

type Span = Result<(f64, f64), String>;

struct Work<'f, 'p> {
    facts: &'f Facts<'p>,
    variable: VarId,
}

impl Work<'_, '_> {
    // ---- starts and targets ----

    fn starts(&self) -> Vec<Start> {
        let registry = self.facts.registry();
        let variable = registry.var(self.variable);
        let mut starts: Vec<Start> = Vec::new();
        if variable.scope != Scope::Instance {
            starts.push(self.start(Vec::new(), None));
            return starts;
        }
        for id in registry.instances_of(variable.owner) {
            self.group(&mut starts, self.start(vec![registry.instance(id).name.to_string()], Some(id)));
        }
        if registry.is_many(variable.owner) {
            let name = format!("a new {}", registry.owner(variable.owner).name);
            self.group(&mut starts, self.start(vec![name], None));
        }
        starts
    }

    fn group(&self, starts: &mut Vec<Start>, mut new: Start) {
        match starts.iter_mut().find(|known| known.value == new.value && known.targets == new.targets) {
            Some(known) => known.whose.append(&mut new.whose),
            None => starts.push(new),
        }
    }

    fn start(&self, whose: Vec<String>, of: Option<InstanceId>) -> Start {
        let value = self.start_of(self.variable, of);
        Start { whose, value, targets: self.targets(of), of }
    }

    /// What a variable starts as, for an instance where it is of the same actor.
    fn start_of(&self, variable: VarId, of: Option<InstanceId>) -> Option<f64> {
        let registry = self.facts.registry();
        let own = of.filter(|&of| registry.instance(of).of == registry.var(variable).owner);
        let value = match own {
            Some(of) if registry.var(variable).scope == Scope::Instance => registry.start_of(variable, of),
            _ => registry.var(variable).default.as_ref(),
        };
        value.and_then(crate::registry::Value::as_number)
    }

    fn targets(&self, of: Option<InstanceId>) -> Vec<Target> {
        let registry = self.facts.registry();
        let variable = registry.var(self.variable);
        let mut targets: Vec<Target> = Vec::new();
        for end in [End::Min, End::Max] {
            let (value, what) = match variable.bound(end) {
                None => continue,
                Some(Bound::Number(value)) => (Some(*value), format!("`{}`", end.word())),
                Some(Bound::Variable(other)) => {
                    (self.start_of(*other, of), format!("`{}`, `{}`", end.word(), registry.identity(*other)))
                }
            };
            targets.extend(value.map(|value| Target { value, what, exact: false }));
        }
        for (value, what, exact) in self.tested(of) {
            match targets.iter_mut().find(|target| target.value == value) {
                Some(target) => target.exact |= exact,
                None => targets.push(Target { value, what, exact }),
            }
        }
        targets.sort_by(|a, b| a.value.total_cmp(&b.value));
        targets
    }

    /// The fixed values that conditions compare the variable with.
    fn tested(&self, of: Option<InstanceId>) -> Vec<(f64, String, bool)> {
        let mut found = Vec::new();
        for unit in &self.facts.project.scripts {
            let file = self.facts.project.sources.file(unit.file);
            for expr in &unit.tree.exprs {
                let ExprKind::Binary(op, left, right) = &expr.kind else { continue };
                use BinaryOp::{Equal, Greater, GreaterEqual, Less, LessEqual, NotEqual};
                if !matches!(op, Equal | NotEqual | Less | LessEqual | Greater | GreaterEqual) {
                    continue;
                }
                let other = match (self.is_it(unit, *left), self.is_it(unit, *right)) {
                    (true, false) => *right,
                    (false, true) => *left,
                    _ => continue,
                };
                if let Ok((low, high)) = self.span(unit, other, of, 0)
                    && low == high
                {
                    let text = self.facts.project.text(unit, expr.span);
                    let line = file.position(expr.span.start).line;
                    found.push((low, format!("`{text}` in {}:{line}", file.path), *op == Equal));
                }
            }
        }
        found
    }

    fn is_it(&self, unit: &ScriptUnit, expr: ExprId) -> bool {
        match unit.meaning(expr) {
            Meaning::Value(place) => self.is_place(unit, place),
            _ => false,
        }
    }

    fn is_place(&self, unit: &ScriptUnit, place: PlaceId) -> bool {
        matches!(unit.place(place), Place::Variable(variable, _) if variable == self.variable)
    }

    // ---- steps ----

    fn steps(&self, starts: &[Start]) -> Vec<Step> {
        let cell = crate::project::CellId(self.variable.0);
        let mut steps: Vec<Step> = Vec::new();
        for (unit, access) in self.facts.uses(cell).filter(|(_, access)| access.writes()) {
            let sizes: Vec<(Size, bool)> = starts.iter().map(|start| self.size(unit, access, start.of)).collect();
            let (trigger, pace) = self.trigger(unit, access.body);
            let clamped = self.facts.registry().var(self.variable).overflow == crate::registry::Overflow::Clamp;
            let cut = clamped || sizes.iter().any(|(_, cut)| *cut);
            let sizes = sizes.into_iter().map(|(size, _)| size).collect();
            steps.push(Step { trigger, at: unit.at(access.statement), pace, sizes, cut });
        }
        steps
    }

    fn trigger(&self, unit: &ScriptUnit, body: Body) -> (String, Pace) {
        let project = self.facts.project;
        let rate = project.config.tick_rate;
        match body {
            Body::Procedure(id) => {
                let name = project.text(unit, unit.tree.procedures[id.index()].name.span);
                (format!("proc {name}"), Pace::Firing)
            }
            Body::Handler(at) => {
                let pace = match &unit.tree.handlers[at].trigger {
                    Trigger::Tick => Pace::Ticks(1),
                    Trigger::Every(duration) => Pace::Ticks(duration_ticks(*duration, rate).max(1)),
                    _ => Pace::Firing,
                };
                (trigger_of(project, unit, at), pace)
            }
        }
    }

    /// How far a statement goes, and whether it cuts the value itself.
    fn size(&self, unit: &ScriptUnit, access: &Access, of: Option<InstanceId>) -> (Size, bool) {
        let told = |size: Result<Size, String>| size.unwrap_or_else(Size::Unbounded);
        match access.kind {
            AccessKind::Write(AssignOp::Add, Some(value)) => {
                (told(self.span(unit, value, of, 0).map(|(low, high)| Size::By(low, high))), false)
            }
            AccessKind::Write(AssignOp::Subtract, Some(value)) => {
                (told(self.span(unit, value, of, 0).map(|(low, high)| Size::By(-high, -low))), false)
            }
            AccessKind::Write(AssignOp::Set, Some(value)) => self.set(unit, value, of),
            AccessKind::Write(..) => (Size::Unbounded("it is multiplied or divided".to_owned()), false),
            _ => (Size::Unbounded("it is made unset".to_owned()), false),
        }
    }

    /// `x = x + 1`, `x = min(x + 1, top)`, `x = 0`.
    fn set(&self, unit: &ScriptUnit, value: ExprId, of: Option<InstanceId>) -> (Size, bool) {
        match &unit.tree.expr(value).kind {
            ExprKind::Binary(op @ (BinaryOp::Add | BinaryOp::Subtract), left, right) => {
                let by = match (op, self.is_it(unit, *left), self.is_it(unit, *right)) {
                    (BinaryOp::Add, true, false) => Some(self.span(unit, *right, of, 0)),
                    (BinaryOp::Add, false, true) => Some(self.span(unit, *left, of, 0)),
                    (_, true, false) => Some(self.span(unit, *right, of, 0).map(|(low, high)| (-high, -low))),
                    _ => None,
                };
                if let Some(by) = by {
                    return (by.map_or_else(Size::Unbounded, |(low, high)| Size::By(low, high)), false);
                }
            }
            ExprKind::Call(_, arguments) => {
                let cuts =
                    matches!(unit.meaning(value), Meaning::Builtin(Builtin::Min | Builtin::Max | Builtin::Clamp));
                let inner = arguments.iter().map(|&argument| self.set(unit, argument, of).0);
                if let Some(by) = inner.into_iter().find(|size| matches!(size, Size::By(..)))
                    && cuts
                {
                    return (by, true);
                }
            }
            _ => {}
        }
        let to = self.span(unit, value, of, 0);
        (to.map_or_else(Size::Unbounded, |(low, high)| Size::To(low, high)), false)
    }

    // ---- what expressions can be ----

    fn span(&self, unit: &ScriptUnit, expr: ExprId, of: Option<InstanceId>, depth: u32) -> Span {
        if depth > MOST_DEPTH {
            return Err("the expression is too deep to follow".to_owned());
        }
        let inner = |expr: ExprId| self.span(unit, expr, of, depth + 1);
        match &unit.tree.expr(expr).kind {
            #[allow(clippy::cast_precision_loss, reason = "counts are told, not reckoned with")]
            ExprKind::Int(value) => Ok((*value as f64, *value as f64)),
            ExprKind::Float(value) => Ok((*value, *value)),
            ExprKind::Unary(UnaryOp::Minus, operand) => inner(*operand).map(|(low, high)| (-high, -low)),
            ExprKind::Unary(UnaryOp::Plus, operand) => inner(*operand),
            ExprKind::Binary(op, left, right) => combine(*op, inner(*left)?, inner(*right)?)
                .ok_or_else(|| format!("`{}` can be anything", self.text(unit, expr))),
            ExprKind::Call(_, arguments) => self.call(unit, expr, arguments, of, depth),
            ExprKind::Path(_) => self.path(unit, expr, of, depth),
            _ => Err(format!("`{}` is no number", self.text(unit, expr))),
        }
    }

    fn text<'t>(&'t self, unit: &ScriptUnit, expr: ExprId) -> &'t str {
        self.facts.project.text(unit, unit.tree.expr(expr).span)
    }

    fn call(&self, unit: &ScriptUnit, expr: ExprId, arguments: &[ExprId], of: Option<InstanceId>, depth: u32) -> Span {
        let unknown = || format!("`{}` can be anything", self.text(unit, expr));
        let Meaning::Builtin(builtin) = unit.meaning(expr) else { return Err(unknown()) };
        let spans: Vec<(f64, f64)> =
            arguments.iter().map(|&argument| self.span(unit, argument, of, depth + 1)).collect::<Result<_, _>>()?;
        let each = |fold: fn(f64, f64) -> f64| {
            spans.iter().copied().reduce(|a, b| (fold(a.0, b.0), fold(a.1, b.1))).ok_or_else(unknown)
        };
        match (builtin, &spans[..]) {
            (Builtin::Min, _) => each(f64::min),
            (Builtin::Max, _) => each(f64::max),
            (Builtin::Clamp, [x, low, high]) => Ok((x.0.max(low.0).min(high.0), x.1.max(low.1).min(high.1))),
            (Builtin::Floor, [x]) => Ok((x.0.floor(), x.1.floor())),
            (Builtin::Ceil, [x]) => Ok((x.0.ceil(), x.1.ceil())),
            (Builtin::Round, [x]) => Ok((x.0.round(), x.1.round())),
            (Builtin::Abs, [x]) if x.0 >= 0.0 => Ok(*x),
            (Builtin::Random, [a, b]) => Ok((a.0.min(b.0), a.1.max(b.1))),
            (Builtin::TickLength, []) => {
                let length = self.facts.project.config.tick_length();
                Ok((length, length))
            }
            _ => Err(unknown()),
        }
    }

    fn path(&self, unit: &ScriptUnit, expr: ExprId, of: Option<InstanceId>, depth: u32) -> Span {
        let name = self.text(unit, expr);
        let known =
            |value: Option<f64>| value.map(|value| (value, value)).ok_or_else(|| format!("`{name}` is not fixed"));
        match unit.meaning(expr) {
            Meaning::Bound(place, end) => match unit.place(place) {
                Place::Variable(variable, _) => match self.facts.registry().var(variable).bound(end) {
                    Some(Bound::Number(value)) => Ok((*value, *value)),
                    Some(Bound::Variable(other)) => known(self.start_of(*other, of)),
                    None => Err(format!("`{name}` has no end")),
                },
                _ => Err(format!("`{name}` is not fixed")),
            },
            Meaning::Value(place) => match unit.place(place) {
                Place::Variable(variable, base) => self.variable(variable, base, name, of),
                Place::Private(index) => self.reach(unit.privates[index as usize].cell.index(), name),
                Place::Local(local) => self.local(unit, local, name, of, depth),
                Place::Was => Err("`was` can be anything".to_owned()),
            },
            _ => Err(format!("`{name}` can be anything")),
        }
    }

    fn variable(&self, variable: VarId, base: Base, name: &str, of: Option<InstanceId>) -> Span {
        let facts = self.facts.registry().var(variable);
        let own = facts.scope != Scope::Instance || base == Base::Own;
        if facts.constant && own {
            return self.start_of(variable, of).map(|value| (value, value)).ok_or_else(|| format!("`{name}` is unset"));
        }
        self.reach(variable.index(), name)
    }

    fn reach(&self, cell: usize, name: &str) -> Span {
        match self.facts.world.reach.get(cell) {
            Some(Abstract::Num(num)) if num.lo.is_finite() && num.hi.is_finite() && num.lo <= num.hi => {
                Ok((num.lo, num.hi))
            }
            _ => Err(format!("`{name}` has no end")),
        }
    }

    /// A parameter with the range that its signal declares, or a `let` with what it was given.
    fn local(&self, unit: &ScriptUnit, local: LocalId, name: &str, of: Option<InstanceId>, depth: u32) -> Span {
        for facts in &unit.handlers {
            let at = facts.parameters.iter().position(|&(parameter, _)| parameter == local);
            let Some((at, signal)) = at.zip(facts.signal) else { continue };
            let parameter = self.facts.registry().signal(signal).parameters.get(at);
            return match parameter.map(|parameter| (parameter.min, parameter.max)) {
                Some((Some(min), Some(max))) => Ok((min, max)),
                _ => Err(format!("`{name}` comes with the signal, and has no range")),
            };
        }
        let mut given: Vec<ExprId> = Vec::new();
        let bodies = unit.tree.handlers.iter().map(|handler| &handler.body);
        for body in bodies.chain(unit.tree.procedures.iter().map(|procedure| &procedure.body)) {
            walk(body, &mut |statement| match &statement.kind {
                StatementKind::Let { local: other, value } if *other == local => given.push(*value),
                StatementKind::Assign { target, value, .. }
                    if unit.place_of(*target) == Some(unit.local_places[local.0 as usize]) =>
                {
                    given.push(*value);
                }
                _ => {}
            });
        }
        match given[..] {
            [only] => self.span(unit, only, of, depth + 1),
            _ => Err(format!("`{name}` can be anything")),
        }
    }

    // ---- counting ----

    /// The fewest and the most times, and by how much the last one goes beyond.
    fn way(&self, start: &Start, target: &Target, size: &Size) -> Option<(f64, Option<f64>, f64)> {
        let from = start.value?;
        let Size::By(low, high) = *size else { return None };
        let distance = target.value - from;
        // Downwards is upwards seen from the other side.
        let (distance, low, high) = if distance < 0.0 { (-distance, -high, -low) } else { (distance, low, high) };
        if distance == 0.0 || high <= 0.0 {
            return None;
        }
        let times = |by: f64| (distance / by - 1e-9).ceil().max(1.0);
        let least = times(high);
        let most = (low > 0.0).then(|| times(low));
        let whole = self.facts.registry().var(self.variable).ty == Type::Int;
        let over = if low == high {
            least * high - distance
        } else if whole {
            high - 1.0
        } else {
            high
        };
        Some((least, most, if over.abs() < 1e-9 { 0.0 } else { over }))
    }
}

fn combine(op: BinaryOp, a: (f64, f64), b: (f64, f64)) -> Option<(f64, f64)> {
    let ends = |f: fn(f64, f64) -> f64| {
        let all = [f(a.0, b.0), f(a.0, b.1), f(a.1, b.0), f(a.1, b.1)];
        let low = all.iter().copied().fold(f64::INFINITY, f64::min);
        (low, all.iter().copied().fold(f64::NEG_INFINITY, f64::max))
    };
    let found = match op {
        BinaryOp::Add => (a.0 + b.0, a.1 + b.1),
        BinaryOp::Subtract => (a.0 - b.1, a.1 - b.0),
        BinaryOp::Multiply => ends(|a, b| a * b),
        BinaryOp::Divide if b.0 > 0.0 || b.1 < 0.0 => ends(|a, b| a / b),
        _ => return None,
    };
    (found.0.is_finite() && found.1.is_finite()).then_some(found)
}

/// A step's size in words: "+3", "+1 to +4", "to 0".
#[must_use]
pub fn size_text(size: &Size) -> String {
    let signed = |value: f64| if value > 0.0 { format!("+{}", number(value)) } else { number(value) };
    match size {
        Size::By(low, high) if low == high => format!("{} each", signed(*low)),
        Size::By(low, high) => format!("{} to {} each", signed(*low), signed(*high)),
        Size::To(low, high) if low == high => format!("sets it to {}", number(*low)),
        Size::To(low, high) => format!("sets it to {} to {}", number(*low), number(*high)),
        Size::Unbounded(why) => format!("can't be counted: {why}"),
    }
}

/// How often, or how long: "7 firings", "5 to 20 firings", "50 seconds".
#[must_use]
#[allow(clippy::cast_precision_loss, reason = "told, not reckoned with")]
pub fn way_text(facts: &Facts<'_>, pace: Pace, least: f64, most: Option<f64>) -> String {
    let rate = facts.project.config.tick_rate;
    let (scale, unit) = match pace {
        Pace::Firing => (1.0, "firing"),
        Pace::Ticks(ticks) => (ticks as f64 / rate, "second"),
    };
    let told = |times: f64| number((times * scale * 1000.0).round() / 1000.0);
    let plural = |times: f64| if told(times) == "1" { "" } else { "s" };
    match most {
        Some(most) if most == least => format!("{} {unit}{}", told(least), plural(least)),
        Some(most) => format!("{} to {} {unit}s", told(least), told(most)),
        None => format!("{} {unit}{} or more", told(least), plural(least)),
    }
}

/// The ways, start by start and target by target.
#[must_use]
pub fn lines(facts: &Facts<'_>, tally: &Tally) -> Vec<String> {
    let mut lines = Vec::new();
    for (at, start) in tally.starts.iter().enumerate() {
        let whose = if start.whose.is_empty() { String::new() } else { format!(" ({})", start.whose.join(", ")) };
        let Some(from) = start.value else {
            lines.push(format!("  starts unset{whose}: there is nothing to count from"));
            continue;
        };
        for (index, target) in start.targets.iter().enumerate() {
            let ways: Vec<_> = tally.ways.iter().filter(|way| way.start == at && way.target == index).collect();
            if ways.is_empty() {
                continue;
            }
            lines.push(format!("  from {}{whose} to {}, {}", number(from), number(target.value), target.what));
            for way in ways {
                let step = &tally.steps[way.step];
                let count = way_text(facts, step.pace, way.least, way.most);
                let mut line = format!(
                    "    `{}` {}, {}: {count}",
                    step.trigger,
                    place(facts, step.at),
                    size_text(&step.sizes[at])
                );
                let several = way.most != Some(way.least);
                if way.over > 0.0 {
                    let up_to = if several { "up to " } else { "" };
                    let end = if step.cut { "the last one is cut by" } else { "the last one goes beyond by" };
                    line.push_str(&format!("; {end} {up_to}{}", number(way.over)));
                    if target.exact && !several {
                        line.push_str(", so the test is jumped over");
                    }
                }
                lines.push(line);
            }
        }
    }
    lines
}

/// `scripts/loading.oaken:9`
#[must_use]
pub fn place(facts: &Facts<'_>, at: Location) -> String {
    let file = facts.project.sources.file(at.file);
    format!("{}:{}", file.path, file.position(at.span.start).line)
}
