//! Random programs over the whole language: a registry, scripts of all kinds of owners, and code that is mostly guarded, as
//! people write it, with a slip here and there.

mod body;
mod expressions;

use body::Body;
use std::fmt::Write as _;

/// A small generator of random numbers; the same seed gives the same program on every machine.
pub struct Dice(u64);

impl Dice {
    pub fn new(seed: u64) -> Self {
        Self(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ 0xD1B5_4A32_D192_ED03)
    }

    pub fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        z ^ (z >> 31)
    }

    pub fn below(&mut self, count: usize) -> usize {
        (self.next() % count.max(1) as u64) as usize
    }

    pub fn one_in(&mut self, count: usize) -> bool {
        self.below(count) == 0
    }

    pub fn pick<'a, T>(&mut self, of: &'a [T]) -> &'a T {
        &of[self.below(of.len())]
    }

    pub fn between(&mut self, low: i64, high: i64) -> i64 {
        low + self.below((high - low + 1) as usize) as i64
    }
}

#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Ty {
    Int,
    Number,
    Bool,
    Enum(usize),
    Text,
    Vec2,
    Ref(&'static str),
    Any,
}

#[derive(Clone, Debug)]
struct Var {
    /// How it is written where it is visible.
    path: String,
    owner: &'static str,
    name: String,
    ty: Ty,
    scope: &'static str,
    min: bool,
    max: bool,
    has_default: bool,
    constant: bool,
    /// It states a lifetime of its own.
    lasts: bool,
    /// It begins at zero, and nothing bounds it: it can be the `min` of others.
    low: bool,
}

const VALUES: [&str; 4] = ["calm", "brisk", "storm", "fog"];
const ACTORS: [&str; 3] = ["mailboat", "parcel", "lighthouse"];
const OWNERS: [(&str, &str); 7] = [
    ("tide", "global"),
    ("office", "global"),
    ("harbor", "scene"),
    ("marsh", "scene"),
    ("mailboat", "instance"),
    ("parcel", "instance"),
    ("lighthouse", "instance"),
];

const WORLD: &str = r#"[owners.tide]
kind = "system"
[owners.office]
kind = "system"
[owners.harbor]
kind = "scene"
[owners.marsh]
kind = "scene"
[owners.mailboat]
kind = "actor"
count = "many"
[owners.parcel]
kind = "actor"
count = "many"
[owners.lighthouse]
kind = "actor"
[signals.touched]
from = "engine"
parameters = { other = "actor" }
[signals.gust]
from = "engine"
to = "all"
parameters = { force = { type = "number", min = 0, max = 12 } }
[signals.dealt]
from = "engine"
parameters = { amount = { type = "int", min = -2, max = 5 }, plain = "int" }
[signals.hailed]
from = "engine"
parameters = { boat = "mailboat", loud = "bool" }
[signals.bell]
from = "engine"
to = "all"
bursts = true
[signals.told]
from = "script"
parameters = { amount = "int" }
[signals.passed]
from = "script"
parameters = { amount = "int" }
[signals.carried]
from = "script"
parameters = { amount = "int" }
[signals.handed]
from = "script"
parameters = { what = "parcel" }
[instances.dawn_boat]
of = "mailboat"
scene = "harbor"
[instances.dusk_boat]
of = "mailboat"
scene = "marsh"
[instances.old_boat]
of = "mailboat"
[instances.first_parcel]
of = "parcel"
scene = "harbor"
[variables.tide.free]
type = "int"
scope = "global"
default = 3
min = 0
max = 3
[variables.mailboat.seats]
type = "int"
scope = "instance"
default = 0
min = 0
max = 2
"#;

#[derive(Clone)]
pub struct Program {
    pub config: String,
    pub registry: String,
    pub scripts: Vec<String>,
}

struct Writer {
    dice: Dice,
    vars: Vec<Var>,
    next: usize,
    uses_scenes: bool,
    removes: bool,
    waits: bool,
    /// One step in so many is written without care.
    slips: usize,
}

/// A whole program.
pub fn program(seed: u64) -> Program {
    let mut dice = Dice::new(seed);
    let (uses_scenes, removes, waits) = (dice.one_in(3), dice.one_in(2), !dice.one_in(3));
    let slips = *dice.pick(&[6, 15, 60, 400]);
    let mut writer = Writer { dice, vars: Vec::new(), next: 0, uses_scenes, removes, waits, slips };
    let registry = writer.registry();
    let count = writer.dice.between(2, 5);
    let scripts = (0..count).map(|at| writer.script(at as usize)).collect();
    let lifetime = ["run", "run", "session"][writer.dice.below(3)];
    let config = format!(
        "[project]\nname = \"Saltmarsh Mail\"\nfirst_scene = \"harbor\"\nlifetime = \"{lifetime}\"\ntick_rate = 4\n\n[sharing]\nwriters = \"anyone\"\n"
    );
    Program { config, registry, scripts }
}

impl Writer {
    fn fresh(&mut self, letter: char) -> String {
        self.next += 1;
        format!("{letter}{}", self.next)
    }

    // ---- the registry ----

    fn registry(&mut self) -> String {
        let mut text = WORLD.to_owned();
        for (owner, scope) in OWNERS {
            for _ in 0..self.dice.between(1, 4) {
                self.variable(&mut text, owner, scope);
            }
        }
        self.starts(&mut text);
        if self.dice.one_in(3) {
            self.invariant(&mut text);
        }
        text
    }

    fn variable(&mut self, text: &mut String, owner: &'static str, scope: &'static str) {
        let scope = if scope == "instance" && self.dice.one_in(5) { "type" } else { scope };
        let ty = match self.dice.below(26) {
            0..=11 => Ty::Int,
            12..=15 => Ty::Number,
            16..=19 => Ty::Bool,
            20..=21 => Ty::Enum(self.vars.len()),
            22 => Ty::Text,
            23 => Ty::Vec2,
            24 => Ty::Any,
            _ => Ty::Ref(ACTORS[self.dice.below(2)]),
        };
        let name = self.fresh('v');
        let has_default = !self.dice.one_in(12);
        let numeric = matches!(ty, Ty::Int | Ty::Number);
        let constant = has_default && numeric && self.dice.one_in(6);
        let ranged = numeric && !constant && !self.dice.one_in(3);
        // Room above what it may bound, so that a run begins in order.
        let low = ty == Ty::Int && has_default && !ranged && !constant && self.dice.one_in(4);
        let default = if low {
            0
        } else if numeric && !ranged {
            self.dice.between(5, 9)
        } else {
            self.dice.between(0, 4)
        };
        let _ = writeln!(text, "[variables.{owner}.{name}]\nscope = \"{scope}\"");
        let kind = match ty {
            Ty::Int => "int",
            Ty::Number => "number",
            Ty::Bool => "bool",
            Ty::Enum(_) => "enum",
            Ty::Text => "text",
            Ty::Vec2 => "vec2",
            Ty::Ref(_) | Ty::Any => "ref",
        };
        let _ = writeln!(text, "type = \"{kind}\"");
        match ty {
            Ty::Enum(_) => text.push_str("values = [\"calm\", \"brisk\", \"storm\", \"fog\"]\n"),
            Ty::Ref(of) => {
                let _ = writeln!(text, "of = \"{of}\"");
            }
            _ => {}
        }
        if has_default {
            let value = match ty {
                Ty::Int => default.to_string(),
                Ty::Number => format!("{default}.5"),
                Ty::Bool => self.dice.one_in(2).to_string(),
                Ty::Enum(_) => "\"calm\"".to_owned(),
                Ty::Text => format!("\"{}\"", self.dice.pick(&["", "Brill", "7"])),
                Ty::Vec2 => "[0.0, 1.5]".to_owned(),
                Ty::Ref(_) | Ty::Any => String::new(),
            };
            if !value.is_empty() {
                let _ = writeln!(text, "default = {value}");
            }
        }
        let mut var = Var {
            path: name.clone(),
            owner,
            name,
            ty,
            scope,
            min: false,
            max: false,
            has_default: has_default || matches!(ty, Ty::Ref(_) | Ty::Any),
            constant,
            lasts: false,
            low,
        };
        if constant {
            text.push_str("constant = true\n");
        }
        let mut bounded = false;
        if ranged {
            var.min = self.dice.one_in(4) || has_default;
            if var.min {
                match self.low_bound_for(&var) {
                    Some(bound) if self.dice.one_in(2) => {
                        let _ = writeln!(text, "min = \"{bound}\"");
                        bounded = true;
                    }
                    _ => {
                        let _ = writeln!(text, "min = {}", self.dice.between(-2, 0));
                    }
                }
            }
            var.max = true;
            match self.bound_for(&var) {
                Some(bound) if self.dice.one_in(2) => {
                    bounded = true;
                    let _ = writeln!(text, "max = \"{bound}\"");
                }
                _ => {
                    let _ = writeln!(text, "max = {}", self.dice.between(5, 20));
                }
            }
            if self.dice.one_in(8) && (!bounded || !var.min) {
                text.push_str("overflow = \"clamp\"\n");
            } else if ty == Ty::Int && var.min && !bounded && self.dice.one_in(8) {
                text.push_str("overflow = \"wrap\"\n");
            }
        }
        let stays = text.ends_with("\"clamp\"\n") || text.ends_with("\"wrap\"\n");
        if (ranged && !stays && self.dice.one_in(10)) || (matches!(ty, Ty::Bool | Ty::Enum(_)) && self.dice.one_in(8)) {
            text.push_str("engine = \"writes\"\n");
        }
        if scope != "scene" && !bounded && self.dice.one_in(10) {
            var.lasts = true;
            let _ = writeln!(text, "lifetime = \"{}\"", self.dice.pick(&["run", "session", "saved"]));
        }
        self.vars.push(var);
    }

    /// A variable that may bound another: a constant or a plain one with a default of its own.
    fn bound_for(&mut self, var: &Var) -> Option<String> {
        let fit: Vec<&Var> = self
            .vars
            .iter()
            .filter(|other| {
                let shared = other.scope == "global" || other.scope == "type";
                let mine = other.owner == var.owner && (other.scope == var.scope);
                other.has_default
                    && other.ty == Ty::Int
                    && !(other.max || other.lasts || other.low)
                    && (shared || mine)
                    && other.scope != "scene"
            })
            .collect();
        if fit.is_empty() {
            return None;
        }
        let other = fit[self.dice.below(fit.len())];
        Some(format!("{}.{}", other.owner, other.name))
    }

    /// A variable that begins low enough to be the `min` of another.
    fn low_bound_for(&mut self, var: &Var) -> Option<String> {
        let fit: Vec<String> = self
            .vars
            .iter()
            .filter(|other| {
                other.low
                    && !other.lasts
                    && other.owner == var.owner
                    && other.scope == var.scope
                    && other.scope != "scene"
            })
            .map(|other| format!("{}.{}", other.owner, other.name))
            .collect();
        (!fit.is_empty()).then(|| self.dice.pick(&fit).clone())
    }

    fn starts(&mut self, text: &mut String) {
        for (instance, actor) in [("dawn_boat", "mailboat"), ("old_boat", "mailboat")] {
            let fit: Vec<String> = self
                .vars
                .iter()
                .filter(|var| var.owner == actor && var.scope == "instance" && var.ty == Ty::Int)
                .map(|var| var.name.clone())
                .collect();
            if !fit.is_empty() && self.dice.one_in(2) {
                // A variable and its bound may both be the instance's own.
                let (first, count) =
                    (self.dice.below(fit.len()), fit.len().min(if self.dice.one_in(2) { 1 } else { 2 }));
                let names = (first..first + count).map(|at| &fit[at % fit.len()]);
                let given: Vec<String> = names.map(|name| format!("{name} = {}", self.dice.between(1, 9))).collect();
                let entry = format!("[instances.{instance}]\n");
                *text = text.replace(&entry, &format!("{entry}start = {{ {} }}\n", given.join(", ")));
            }
        }
    }

    fn invariant(&mut self, text: &mut String) {
        let fit: Vec<Var> = self
            .vars
            .iter()
            .filter(|var| var.has_default && var.ty == Ty::Int && (var.scope == "global" || var.owner == "mailboat"))
            .cloned()
            .collect();
        if fit.len() < 2 {
            return;
        }
        let (a, b) = (self.dice.pick(&fit).clone(), self.dice.pick(&fit).clone());
        let expr = match self.dice.below(3) {
            0 => format!("{0}.{1} > 3 implies {2}.{3} < 9", a.owner, a.name, b.owner, b.name),
            1 => format!("{0}.{1} <= {2}.{3} + 6", a.owner, a.name, b.owner, b.name),
            _ => format!("{0}.{1} + {2}.{3} >= -5", a.owner, a.name, b.owner, b.name),
        };
        let _ = writeln!(text, "[invariants.kept]\nholds = \"{expr}\"");
    }

    // ---- scripts ----

    fn script(&mut self, at: usize) -> String {
        let (owner, _) = OWNERS[self.dice.below(OWNERS.len())];
        let is_scene = owner == "harbor" || owner == "marsh";
        let in_scene = if is_scene || !self.dice.one_in(3) { "" } else { " in harbor" };
        let mut text = format!("script s{at} for {owner}{in_scene}\n\n");
        let scene = if is_scene { Some(owner) } else { (!in_scene.is_empty()).then_some("harbor") };
        let mut body = Body {
            writer: self,
            owner,
            scope: Vec::new(),
            procedures: Vec::new(),
            prices: Vec::new(),
            choosers: Vec::new(),
            level: None,
            depth: 0,
            loops: 0,
            plain: false,
            gives: None,
        };
        body.see(scene);
        for _ in 0..body.writer.dice.between(0, 2) {
            body.private(&mut text);
        }
        for _ in 0..body.writer.dice.between(0, 2) {
            body.procedure(&mut text);
        }
        if body.writer.dice.one_in(2) {
            body.price(&mut text);
        }
        if body.writer.dice.one_in(2) {
            body.level(&mut text);
        }
        for _ in 0..body.writer.dice.below(3) {
            body.chooser(&mut text);
        }
        for _ in 0..body.writer.dice.between(2, 5) {
            body.handler(&mut text);
        }
        text
    }
}
