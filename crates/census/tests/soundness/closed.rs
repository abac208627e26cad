//! Small programs as people write them, all of whose states can be gone through: every fault that can happen must have been
//! reported, and of what is reported little may be never seen.

use super::generate::{Dice, Program};
use census::project::{CellId, Project};
use census::registry::{SignalId, Type};
use census::rehearse::layout::Layout;
use census::rehearse::machine::{Machine, Reach, Unobserved};
use census::rehearse::value::Value;
use std::collections::{BTreeSet, HashSet};

/// How many states a program may have that is gone through.
const MOST_STATES: usize = 1_500;
/// What a handler may bring: 1 to this.
const MOST_BROUGHT: i64 = 3;

struct Number {
    name: &'static str,
    min: i64,
    max: i64,
}

struct Writer {
    dice: Dice,
    numbers: Vec<Number>,
}

/// A program of two or three handlers over a few numbers, a flag, a mode and a direction.
pub fn program(seed: u64) -> Program {
    let mut dice = Dice::new(seed);
    let number =
        |(name, most): (&'static str, &[i64])| Number { name, min: i64::from(dice.one_in(5)), max: *dice.pick(most) };
    let numbers = [("sacks", &[3, 5, 9][..]), ("coins", &[4, 7, 12])].map(number).into();
    let mut writer = Writer { dice, numbers };
    let registry = writer.registry();
    let mut script = "script desk for office\n\nprivate way: int = 1\n".to_owned();
    for head in ["bell", "rung", "load(n)"].into_iter().take(2 + writer.dice.below(2)) {
        script += &writer.handler(head);
    }
    if writer.dice.one_in(2) {
        script += &writer.listener();
    }
    if writer.dice.one_in(2) {
        script += &writer.handler("told");
    }
    if writer.dice.one_in(2) {
        script += &format!("\non passed(n) {{\nsacks {} n\n}}\n", writer.dice.pick(&["+=", "-="]));
    }
    Program { config: "[project]\nname = \"Saltmarsh Mail\"\n".to_owned(), registry, scripts: vec![script] }
}

impl Writer {
    fn registry(&mut self) -> String {
        let mut text = "[owners.office]\nkind = \"system\"\n".to_owned();
        for (signal, rest) in [
            ("bell", String::new()),
            ("rung", String::new()),
            ("load", format!("parameters = {{ n = {{ type = \"int\", min = 1, max = {MOST_BROUGHT} }} }}\n")),
        ] {
            text += &format!("[signals.{signal}]\nfrom = \"engine\"\nto = \"all\"\n{rest}");
        }
        text += "[signals.told]\nfrom = \"script\"\n";
        text += "[signals.passed]\nfrom = \"script\"\nparameters = { n = \"int\" }\n";
        text +=
            "[variables.office]\nopen = { type = \"bool\", scope = \"global\", default = false, engine = \"reads\" }\n";
        text += "state = { type = \"enum\", scope = \"global\", default = \"in\", values = [\"in\", \"out\"], engine = \"reads\" }\n";
        for &Number { name, min, max } in &self.numbers {
            let default = self.dice.between(min, max);
            text += &format!(
                "{name} = {{ type = \"int\", scope = \"global\", default = {default}, min = {min}, max = {max}, engine = \"reads\" }}\n"
            );
        }
        text
    }

    fn handler(&mut self, head: &str) -> String {
        let by = if head.ends_with("(n)") { "n" } else { "2" };
        let when = if self.dice.one_in(3) { format!(" when {}", self.test()) } else { String::new() };
        let lines: Vec<String> = (0..=self.dice.below(2)).map(|_| self.piece(by, true)).collect();
        format!("\non {head}{when} {{\n{}\n}}\n", lines.join("\n"))
    }

    /// What deals with the changes of a number.
    fn listener(&mut self) -> String {
        let at = self.dice.below(self.numbers.len());
        let Number { name: x, min, max } = self.numbers[at];
        let pieces = [
            format!(" {{\nopen = {x} == {x}.max\n}}"),
            format!(" {{\nif {x} >= {max} {{\nopen = true\n}}\n}}"),
            format!(" when {x} == {x}.max {{\n{x} = {min}\n}}"),
            format!(" {{\nif {x} < {max} {{\nopen = false\n}}\n}}"),
        ];
        format!("\non changed {x}{}\n", self.dice.pick(&pieces))
    }

    fn test(&mut self) -> String {
        let at = self.dice.below(self.numbers.len());
        let Number { name, min, max } = self.numbers[at];
        let number = self.dice.between(min, max);
        let tests = [
            format!("{name} < {name}.max"),
            format!("{name} > {number}"),
            format!("{name} != {number}"),
            "not open".to_owned(),
            "state == \"out\"".to_owned(),
        ];
        self.dice.pick(&tests).clone()
    }

    /// A piece of code about one number, or about what decides on such pieces.
    fn piece(&mut self, by: &str, outermost: bool) -> String {
        match self.dice.below(if outermost { 5 } else { 3 }) {
            3 => self.choice(by),
            4 => self.hung_on_something(),
            _ => self.step(by),
        }
    }

    /// A step of a number, mostly one that keeps to its range.
    fn step(&mut self, by: &str) -> String {
        let at = self.dice.below(self.numbers.len());
        let Number { name: x, min, max } = self.numbers[at];
        let (to, round) = (self.dice.between(min, max), max + 1);
        let round = if min == 0 { format!("{x} = ({x} + {by}) % {round}") } else { format!("{x} = {x} % {max} + 1") };
        let steps = [
            format!("if {x} < {x}.max {{\n{x} += 1\n}}"),
            format!("if {x} + {by} <= {x}.max {{\n{x} += {by}\n}}"),
            format!("if {x} - {by} >= {min} {{\n{x} -= {by}\n}} else {{\n{x} = {min}\n}}"),
            format!("{x} += {by}\nif {x} > {x}.max {{\n{x} = {min}\n}}"),
            format!("{x} -= {by}\nif {x} < {min} {{\n{x} = {x}.max\n}}"),
            round,
            format!("{x} = min({x} + {by}, {x}.max)"),
            format!("{x} = max({x} - {by}, {min})"),
            format!("let left = {x} - {by}\nif left >= {min} {{\n{x} = left\n}}"),
            format!("{x} += min({by}, {x}.max - {x})"),
            format!("{x} = {min}\nif open {{\n{x} += 1\n}}\n{x} = max({x}, {to})"),
            format!("{x} = {to}"),
            format!("while {x} < {x}.max {{\n{x} += 1\n}}"),
            format!("{x} -= {by}"),
            format!("if not open {{\n{x} += 1\n}}"),
            format!("{x} += 1\nif {x} == {x}.max {{\n{x} = {min}\n}}"),
        ];
        self.dice.pick(&steps).clone()
    }

    fn choice(&mut self, by: &str) -> String {
        let (one, other, test) = (self.piece(by, false), self.piece(by, false), self.test());
        let at = self.dice.below(self.numbers.len());
        let Number { name: x, min, max } = self.numbers[at];
        match self.dice.below(4) {
            0 => format!("if {test} {{\n{one}\n}} else {{\n{other}\n}}"),
            1 => format!("match {x} {{\n{min} {{\n{one}\n}}\n{max} {{\n{other}\n}}\n}}"),
            2 => format!(
                "match state {{\n\"in\" {{\nstate = \"out\"\n{one}\n}}\n\"out\" {{\n{other}\nstate = \"in\"\n}}\n}}"
            ),
            _ => format!("repeat 2 {{\n{one}\n}}"),
        }
    }

    /// Numbers that hang on a flag, a direction or each other.
    fn hung_on_something(&mut self) -> String {
        let at = self.dice.below(self.numbers.len());
        let (Number { name: x, min, max }, y) = (&self.numbers[at], self.numbers[1 - at].name);
        let pieces = [
            format!(
                "if open {{\n{x} -= 1\nif {x} == {min} {{\nopen = false\n}}\n}} else {{\n{x} = {max}\nopen = true\n}}"
            ),
            format!("if {x} + way > {x}.max or {x} + way < {min} {{\nway = -way\n}}\n{x} += way"),
            format!("if {x} > {min} and {y} < {y}.max {{\n{x} -= 1\n{y} += 1\n}}"),
            format!("{x} -= 1\nif {x} <= {min} {{\n{x} = {max}\nopen = not open\n}}"),
            format!("if {x} - 2 >= {min} {{\nsend told\n}}"),
            "if sacks + 2 <= sacks.max {\nsend passed(2)\n}".to_owned(),
            format!("if sacks > sacks.min {{\nsend passed(1)\n{y} = {y}.max\n}}"),
            format!("{x} += 1\nif {x} == {max} {{\nsend told\n{x} = {min}\n}}"),
        ];
        self.dice.pick(&pieces).clone()
    }
}

/// What all ways through a program come to.
#[derive(Default)]
pub struct Seen {
    /// The faults that some way comes to first: their places and rules.
    pub faults: BTreeSet<String>,
    /// What a number was before a signal and afterwards, by its identity.
    moves: BTreeSet<(String, i64, i64)>,
}

impl Seen {
    /// Whether some signal takes a number from one side of a value to the other.
    pub fn passes(&self, name: &str, value: i64) -> bool {
        self.moves.iter().any(|(moved, a, b)| moved == name && a.min(b) < &value && &value < a.max(b))
    }
}

/// Goes through all states of a program; none where there are too many.
pub fn go_through(project: &Project, layout: &Layout<'_>) -> Option<Seen> {
    let mut machine = Machine::new(layout, 0, Unobserved);
    machine.start();
    let cells: Vec<CellId> = (0..project.cells.len()).map(CellId::at).collect();
    let state = |machine: &Machine<'_, '_, Unobserved>| -> Vec<Option<Value>> {
        cells.iter().map(|&cell| machine.memory.get(cell, None)).collect()
    };
    let mut known: HashSet<String> = [format!("{:?}", state(&machine))].into();
    let mut open = vec![machine];
    let mut seen = Seen::default();
    while let Some(machine) = open.pop() {
        let before = state(&machine);
        for (signal, arguments) in acts(project) {
            let mut next = machine.clone();
            next.fire(signal, arguments, Reach::All);
            if let Some(fault) = next.faults.first() {
                seen.faults.insert(format!("{} {}", super::place(project, fault.at), fault.rule));
                continue;
            }
            let after = state(&next);
            for ((cell, before), after) in cells.iter().zip(&before).zip(&after) {
                if let (Some(id), Some(Value::Int(a)), Some(Value::Int(b))) =
                    (project.variable_of(*cell), before, after)
                {
                    seen.moves.insert((project.registry.identity(id), *a, *b));
                }
            }
            if known.insert(format!("{after:?}")) {
                open.push(next);
            }
        }
        if known.len() > MOST_STATES {
            return None;
        }
    }
    Some(seen)
}

/// All that the game can do.
fn acts(project: &Project) -> Vec<(SignalId, Vec<Value>)> {
    let mut acts = Vec::new();
    for (at, signal) in project.registry.signals.iter().enumerate().filter(|(_, signal)| signal.from_engine) {
        match signal.parameters.first().map(|parameter| parameter.ty) {
            Some(Type::Int) => acts.extend((1..=MOST_BROUGHT).map(|n| (SignalId::at(at), vec![Value::Int(n)]))),
            _ => acts.push((SignalId::at(at), Vec::new())),
        }
    }
    acts
}
