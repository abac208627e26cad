//! Two scripts that answer the same signals: where it makes a difference which of them comes first, that must have been told.

use super::generate::{Dice, Program};
use census::project::{CellId, Project};
use census::registry::{SignalId, Type};
use census::rehearse::layout::Layout;
use census::rehearse::machine::{Limits, Machine, Reach, Unobserved};
use census::rehearse::value::Value;

const NUMBERS: [&str; 3] = ["sacks", "coins", "crates"];
const FLAGS: [&str; 2] = ["open", "late"];

/// How many signals come in one run.
const LENGTH: usize = 12;

struct Writer(Dice);

/// Two scripts over a few numbers and flags, with nothing that waits.
pub fn program(seed: u64) -> Program {
    let mut writer = Writer(Dice::new(seed));
    let mut registry = "[owners.office]\nkind = \"system\"\n[signals.told]\nfrom = \"script\"\n".to_owned();
    for (signal, rest) in
        [("bell", ""), ("rung", ""), ("load", "parameters = { n = { type = \"int\", min = 1, max = 3 } }\n")]
    {
        registry += &format!("[signals.{signal}]\nfrom = \"engine\"\nto = \"all\"\n{rest}");
    }
    registry += "[variables.office]\n";
    for name in NUMBERS {
        registry += &format!("{name} = {{ type = \"int\", scope = \"global\", default = {} }}\n", writer.0.below(3));
    }
    for name in FLAGS {
        registry += &format!("{name} = {{ type = \"bool\", scope = \"global\", default = false }}\n");
    }
    let scripts = (0..2).map(|at| writer.script(at)).collect();
    Program { config: "[project]\nname = \"Saltmarsh Mail\"\n".to_owned(), registry, scripts }
}

impl Writer {
    fn script(&mut self, at: usize) -> String {
        let mut text = format!("script desk{at} for office\n");
        for (head, rarity) in [("bell", 2), ("load(n)", 2), ("rung", 2), ("told", 4), ("changed sacks", 5)] {
            if self.0.one_in(rarity) {
                let when = if self.0.one_in(3) { format!(" when {}", self.test()) } else { String::new() };
                let lines: Vec<String> = (0..=self.0.below(2)).map(|_| self.piece(2)).collect();
                text += &format!("\non {head}{when} {{\n{}\n}}\n", lines.join("\n"));
            }
        }
        text
    }

    fn number(&mut self) -> &'static str {
        NUMBERS[self.0.below(NUMBERS.len())]
    }

    fn test(&mut self) -> String {
        let (x, y, n, flag) = (self.number(), self.number(), self.0.below(5), *self.0.pick(&FLAGS));
        let tests =
            [format!("{x} > {n}"), format!("{x} == {n}"), flag.to_owned(), format!("not {flag}"), format!("{x} < {y}")];
        self.0.pick(&tests).clone()
    }

    fn piece(&mut self, depth: usize) -> String {
        let (x, y, n, flag) = (self.number(), self.number(), self.0.between(1, 4), *self.0.pick(&FLAGS));
        match self.0.below(if depth > 0 { 13 } else { 8 }) {
            0 => format!("{x} += {n}"),
            1 => format!("{x} -= 1"),
            2 => format!("{x} = {n}"),
            3 => format!("{x} = {y} + {n}"),
            4 => format!("{flag} = {}", self.0.pick(&["true", "false", "not open", "late"])),
            5 => format!("{x} = min({x} + {n}, 6)"),
            6 => format!("{x} = ({x} + 1) % 5"),
            7 => format!("let kept{n} = {x}\n{y} = kept{n}"),
            8 | 9 => {
                let (test, yes, no) = (self.test(), self.piece(depth - 1), self.piece(depth - 1));
                format!("if {test} {{\n{yes}\n}} else {{\n{no}\n}}")
            }
            10 => format!("if {} {{\nreturn\n}}", self.test()),
            11 => "send told".to_owned(),
            _ => format!("{}\n{}", self.piece(depth - 1), self.piece(depth - 1)),
        }
    }
}

/// Whether some of so many runs leaves other values behind once the second script comes first.
pub fn decides(program: &Program, seed: u64, runs: u64) -> bool {
    let mut turned = program.clone();
    turned.config += "[order]\nfirst = [\"scripts/1.oaken\"]\n";
    let projects = [super::build(program), super::build(&turned)];
    let worlds = projects.each_ref().map(census::flow::world::World::new);
    let layouts = [0, 1].map(|at| Layout::new(&projects[at], &worlds[at].graphs));
    (0..runs).any(|run| {
        let [one, other] = [0, 1].map(|at| values(&projects[at], &layouts[at], seed.wrapping_mul(1000) + run));
        one.iter().zip(&other).any(|(one, other)| one != other)
    })
}

/// What the variables hold after each of some signals, as far as the run comes.
fn values(project: &Project, layout: &Layout<'_>, seed: u64) -> Vec<Vec<Option<Value>>> {
    let (mut machine, mut dice) = (Machine::new(layout, 0, Unobserved), Dice::new(seed));
    machine.limits = Limits { steps: 5_000, dispatches: 1_000, waiting: 200, beginnings: 100 };
    machine.start();
    let signals: Vec<SignalId> = (0..project.registry.signals.len()).map(SignalId::at).collect();
    let by_game: Vec<SignalId> = signals.into_iter().filter(|&id| project.registry.signal(id).from_engine).collect();
    let mut all = Vec::new();
    for _ in 0..LENGTH {
        let (signal, n) = (*dice.pick(&by_game), dice.between(1, 3));
        let brings = project.registry.signal(signal).parameters.iter().any(|parameter| parameter.ty == Type::Int);
        machine.fire(signal, brings.then_some(Value::Int(n)), Reach::All);
        if machine.stopped.is_some() {
            break; // What goes round for ever has no last value.
        }
        all.push((0..project.cells.len()).map(|at| machine.memory.get(CellId::at(at), None)).collect());
    }
    all
}
