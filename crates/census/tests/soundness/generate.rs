//! Random programs over the whole language: a registry, scripts of all kinds of owners, and code that is mostly guarded, as
//! people write it, with a slip here and there.

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
[signals.bell]
from = "engine"
to = "all"
[signals.told]
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
        let ty = match self.dice.below(12) {
            0..=5 => Ty::Int,
            6..=7 => Ty::Number,
            8..=9 => Ty::Bool,
            10 => Ty::Enum(self.vars.len()),
            _ => Ty::Ref(ACTORS[self.dice.below(2)]),
        };
        let name = self.fresh('v');
        let has_default = !self.dice.one_in(12);
        let numeric = matches!(ty, Ty::Int | Ty::Number);
        let constant = has_default && numeric && self.dice.one_in(6);
        let ranged = numeric && !constant && !self.dice.one_in(3);
        // Room above what it may bound, so that a run begins in order.
        let default = if numeric && !ranged { self.dice.between(5, 9) } else { self.dice.between(0, 4) };
        let _ = writeln!(text, "[variables.{owner}.{name}]\nscope = \"{scope}\"");
        let kind = match ty {
            Ty::Int => "int",
            Ty::Number => "number",
            Ty::Bool => "bool",
            Ty::Enum(_) => "enum",
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
            has_default: has_default || matches!(ty, Ty::Ref(_)),
            constant,
        };
        if constant {
            text.push_str("constant = true\n");
        }
        if ranged {
            var.min = self.dice.one_in(4) || has_default;
            if var.min {
                let _ = writeln!(text, "min = {}", self.dice.between(-2, 0));
            }
            var.max = true;
            match self.bound_for(&var) {
                Some(bound) if self.dice.one_in(2) => {
                    let _ = writeln!(text, "max = \"{bound}\"");
                }
                _ => {
                    let _ = writeln!(text, "max = {}", self.dice.between(5, 20));
                }
            }
            if self.dice.one_in(8) && !(var.min && text.ends_with("\"\n")) {
                text.push_str("overflow = \"clamp\"\n");
            }
        }
        if ranged && self.dice.one_in(10) && !text.ends_with("\"clamp\"\n") {
            text.push_str("engine = \"writes\"\n");
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
                other.has_default && other.ty == Ty::Int && !other.max && (shared || mine) && other.scope != "scene"
            })
            .collect();
        if fit.is_empty() {
            return None;
        }
        let other = fit[self.dice.below(fit.len())];
        Some(format!("{}.{}", other.owner, other.name))
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
                let name = &fit[self.dice.below(fit.len())];
                let entry = format!("[instances.{instance}]\n");
                let value = self.dice.between(1, 4);
                *text = text.replace(&entry, &format!("{entry}start = {{ {name} = {value} }}\n"));
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
            depth: 0,
            loops: 0,
            plain: false,
            gives: false,
        };
        body.see(scene);
        for _ in 0..body.writer.dice.between(0, 2) {
            body.private(&mut text);
        }
        for _ in 0..body.writer.dice.between(0, 2) {
            body.procedure(&mut text);
        }
        for _ in 0..body.writer.dice.between(2, 5) {
            body.handler(&mut text);
        }
        text
    }
}

struct Body<'w> {
    writer: &'w mut Writer,
    owner: &'static str,
    /// What can be named, innermost last.
    scope: Vec<Var>,
    /// The procedures that can be called: their names, and whether they give an int.
    procedures: Vec<(String, bool)>,
    depth: usize,
    loops: usize,
    /// No waits here.
    plain: bool,
    /// Whether a `return` gives a value.
    gives: bool,
}

impl Body<'_> {
    fn dice(&mut self) -> &mut Dice {
        &mut self.writer.dice
    }

    /// What the script can name: its own, its scene's, and globals and types of others.
    fn see(&mut self, scene: Option<&str>) {
        let actor = ACTORS.contains(&self.owner);
        for var in self.writer.vars.clone() {
            let own = var.owner == self.owner;
            let path = match var.scope {
                "global" if own => var.name.clone(),
                "global" => format!("{}.{}", var.owner, var.name),
                "scene" if Some(var.owner) == scene => var.name.clone(),
                "type" => format!("{}.{}", var.owner, var.name),
                "instance" if own && actor => var.name.clone(),
                "instance" if var.owner == "lighthouse" => format!("lighthouse.{}", var.name),
                "instance" if var.owner == "mailboat" && self.dice().one_in(4) => format!("old_boat.{}", var.name),
                _ => continue,
            };
            self.scope.push(Var { path, ..var });
        }
    }

    fn local(&self, name: &str, ty: Ty) -> Var {
        Var {
            path: name.to_owned(),
            owner: "",
            name: name.to_owned(),
            ty,
            scope: "local",
            min: false,
            max: false,
            has_default: true,
            constant: false,
        }
    }

    fn private(&mut self, text: &mut String) {
        let name = self.writer.fresh('p');
        let (ty, word, start) = match self.dice().below(3) {
            0 => (Ty::Bool, "bool", "false".to_owned()),
            1 => (Ty::Int, "int", self.dice().between(0, 5).to_string()),
            _ => (Ty::Number, "number", "1.5".to_owned()),
        };
        let start = if self.dice().one_in(10) { String::new() } else { format!(" = {start}") };
        let _ = writeln!(text, "private {name}: {word}{start}");
        let mut var = self.local(&name, ty);
        var.has_default = !start.is_empty();
        self.scope.push(var);
    }

    fn procedure(&mut self, text: &mut String) {
        let name = self.writer.fresh('q');
        let parameter = self.writer.fresh('a');
        let gives = self.dice().one_in(2);
        let known = self.scope.len();
        let var = self.local(&parameter, Ty::Int);
        self.scope.push(var);
        self.plain = gives || self.dice().one_in(2);
        self.gives = gives;
        let _ = writeln!(text, "proc {name}({parameter}: int){} {{", if gives { " -> int" } else { "" });
        self.block(text, 2);
        if gives {
            let value = self.int(1);
            let _ = writeln!(text, "    return {value}");
        }
        text.push_str("}\n\n");
        self.scope.truncate(known);
        self.plain = false;
        self.gives = false;
        self.procedures.push((name, gives));
    }

    fn handler(&mut self, text: &mut String) {
        let known = self.scope.len();
        let trigger = match self.dice().below(14) {
            0 => "start".to_owned(),
            1 => "enter".to_owned(),
            2 => "tick".to_owned(),
            3 => "every 1s".to_owned(),
            4 if ACTORS.contains(&self.owner) => "spawn".to_owned(),
            5 => self.changed(),
            6 => self.told(),
            7 => {
                let var = self.local("what", Ty::Ref("parcel"));
                self.scope.push(var);
                if self.dice().one_in(2) { "handed(what)".to_owned() } else { "handed(what: parcel)".to_owned() }
            }
            8 | 9 => {
                let actor = ACTORS[self.dice().below(2)];
                if self.dice().one_in(3) {
                    let var = self.local("other", Ty::Any);
                    self.scope.push(var);
                    "touched(other)".to_owned()
                } else {
                    let var = self.local("other", Ty::Ref(actor));
                    self.scope.push(var);
                    format!("touched(other: {actor})")
                }
            }
            10 => {
                let var = self.local("force", Ty::Number);
                self.scope.push(var);
                "gust(force)".to_owned()
            }
            11 | 12 => {
                let (amount, plain) = (self.local("amount", Ty::Int), self.local("plain", Ty::Int));
                self.scope.extend([amount, plain]);
                "dealt(amount, plain)".to_owned()
            }
            _ => "bell".to_owned(),
        };
        let when = if self.dice().one_in(3) { format!(" when {}", self.condition(1)) } else { String::new() };
        let _ = writeln!(text, "on {trigger}{when} {{");
        let count = self.dice().between(2, 6) as usize;
        self.block(text, count);
        text.push_str("}\n\n");
        self.scope.truncate(known);
    }

    fn told(&mut self) -> String {
        let var = self.local("amount", Ty::Int);
        self.scope.push(var);
        "told(amount)".to_owned()
    }

    fn changed(&mut self) -> String {
        let fit: Vec<Var> = self
            .scope
            .iter()
            .filter(|var| var.ty == Ty::Int && var.scope != "local" && !var.path.starts_with("old"))
            .cloned()
            .collect();
        if fit.is_empty() {
            return "bell".to_owned();
        }
        let var = self.dice().pick(&fit).clone();
        let mut was = self.local("was", Ty::Int);
        was.constant = true;
        self.scope.push(was);
        format!("changed {}", var.path)
    }

    /// Whether this is written without care.
    fn slip(&mut self) -> bool {
        let slips = self.writer.slips;
        self.dice().one_in(slips)
    }

    // ---- statements ----

    fn block(&mut self, text: &mut String, count: usize) {
        let known = self.scope.len();
        self.depth += 1;
        for _ in 0..count {
            self.statement(text);
        }
        self.depth -= 1;
        self.scope.truncate(known);
    }

    fn line(&self, text: &mut String, line: &str) {
        let _ = writeln!(text, "{}{line}", "    ".repeat(self.depth));
    }

    fn inner(&mut self, text: &mut String, head: &str, count: usize) {
        self.line(text, &format!("{head} {{"));
        self.block(text, count);
        self.line(text, "}");
    }

    fn statement(&mut self, text: &mut String) {
        let deep = self.depth > 3;
        match self.dice().below(40) {
            0..=13 => self.step(text),
            14..=17 => self.assign(text),
            18..=21 if !deep => {
                let test = self.condition(2);
                self.inner(text, &format!("if {test}"), 2);
                if self.dice().one_in(2) {
                    text.truncate(text.trim_end().len());
                    text.push_str(" else {\n");
                    self.block(text, 2);
                    self.line(text, "}");
                }
            }
            22 => {
                let test = self.condition(1);
                let gives = if self.gives { " 0" } else { "" };
                self.line(text, &format!("if {test} {{ return{gives} }}"));
            }
            23..=24 => {
                let name = self.writer.fresh('l');
                let value = self.int(2);
                self.line(text, &format!("let {name} = {value}"));
                let var = self.local(&name, Ty::Int);
                self.scope.push(var);
            }
            25 if !self.plain && self.writer.waits => self.wait(text),
            26 if !deep && !self.plain && self.writer.waits => self.inner(text, "after 0.5s", 2),
            27 => {
                let value = self.int(1);
                self.line(text, &format!("send told({value})"));
            }
            28 if !deep => {
                let count = self.dice().between(0, 3);
                self.inner(text, &format!("repeat {count}"), 2);
            }
            29 if !deep => self.each(text),
            30 if !deep => self.match_(text),
            31 => self.call(text),
            32 => {
                let (a, b) = (self.int(1), self.number(1));
                self.line(text, &format!("show board \"{{{a}}} and {{{b}:1}}\""));
            }
            33 if !deep && !self.plain && self.writer.waits => self.ask(text),
            34 => self.spawn(text),
            35 if self.writer.removes => self.remove(text),
            36 if self.writer.uses_scenes && self.dice().one_in(2) => {
                let scene = if self.dice().one_in(2) { "harbor" } else { "marsh" };
                self.line(text, &format!("go {scene}"));
            }
            37 if self.dice().one_in(4) => self.line(text, "restart"),
            38 => self.clear(text),
            39 if !deep => self.while_(text),
            _ => self.through_ref(text),
        }
    }

    fn wait(&mut self, text: &mut String) {
        if self.dice().one_in(4) {
            let test = self.condition(1);
            self.line(text, &format!("wait until {test}"));
        } else {
            self.line(text, "wait 0.5s");
        }
    }

    fn numeric(&mut self, ty: Ty) -> Option<Var> {
        let fit: Vec<Var> = self
            .scope
            .iter()
            .filter(|var| var.ty == ty && !var.constant && !["amount", "plain", "force"].contains(&var.path.as_str()))
            .cloned()
            .collect();
        (!fit.is_empty()).then(|| self.dice().pick(&fit).clone())
    }

    /// A step of a number, in one of the forms in which people keep it within its range.
    fn step(&mut self, text: &mut String) {
        let Some(var) = self.numeric(Ty::Int) else { return self.assign(text) };
        let x = &var.path;
        let amount = self.dice().between(1, 4);
        let careless = self.slip();
        let up = self.dice().one_in(2);
        if var.max && up && !careless {
            let line = match self.dice().below(7) {
                0 => format!("if {x} + {amount} <= {x}.max {{ {x} += {amount} }}"),
                1 => format!("{x} = min({x} + {amount}, {x}.max)"),
                2 => format!("if {x} < {x}.max {{ {x} += 1 }}"),
                3 => {
                    let room = self.writer.fresh('l');
                    let other = self.int(1);
                    self.line(text, &format!("let {room} = {x}.max - {x}"));
                    format!("{x} += clamp({other}, 0, {room})")
                }
                4 => format!("if not ({x} >= {x}.max) {{ {x} = {x} + 1 }}"),
                5 => {
                    self.line(text, &format!("{x} += {amount}"));
                    format!("if {x} > {x}.max {{ {x} = {x}.max }}")
                }
                _ => format!("{x} += min({amount}, {x}.max - {x})"),
            };
            return self.line(text, &line);
        }
        if var.min && !up && !careless {
            let line = match self.dice().below(4) {
                0 => format!("if {x} - {amount} >= {x}.min {{ {x} -= {amount} }}"),
                1 => format!("{x} = max({x} - {amount}, {x}.min)"),
                2 => format!("if {x} > {x}.min {{ {x} -= 1 }}"),
                _ => {
                    self.line(text, &format!("{x} -= {amount}"));
                    format!("if {x} < {x}.min {{ {x} = {x}.min }}")
                }
            };
            return self.line(text, &line);
        }
        if careless || !(var.min || var.max) {
            let by = if self.dice().one_in(3) { self.int(1) } else { amount.to_string() };
            self.line(text, &format!("{x} {} {by}", if up { "+=" } else { "-=" }));
        }
    }

    fn assign(&mut self, text: &mut String) {
        match self.dice().below(5) {
            0 => {
                if let Some(var) = self.numeric(Ty::Bool) {
                    let value =
                        if self.dice().one_in(2) { self.condition(1) } else { self.dice().one_in(2).to_string() };
                    self.line(text, &format!("{} = {value}", var.path));
                }
            }
            1 => {
                let fit: Vec<Var> = self.scope.iter().filter(|var| matches!(var.ty, Ty::Enum(_))).cloned().collect();
                if !fit.is_empty() {
                    let (var, value) = (self.dice().pick(&fit).clone(), *self.dice().pick(&VALUES));
                    self.line(text, &format!("{} = \"{value}\"", var.path));
                }
            }
            2 => {
                if let Some(var) = self.numeric(Ty::Number) {
                    let value = self.number(2);
                    let x = &var.path;
                    let value = match (var.min, var.max) {
                        (true, true) if !self.slip() => format!("clamp({value}, {x}.min, {x}.max)"),
                        (false, true) if !self.slip() => format!("min({value}, {x}.max)"),
                        _ => value,
                    };
                    self.line(text, &format!("{x} = {value}"));
                }
            }
            3 => self.assign_ref(text),
            _ => {
                if let Some(var) = self.numeric(Ty::Int) {
                    let value = self.int(2);
                    let x = &var.path;
                    let value = match (var.min, var.max) {
                        (true, true) if !self.slip() => format!("clamp({value}, {x}.min, {x}.max)"),
                        (false, true) if !self.slip() => format!("min({value}, {x}.max)"),
                        (true, true) => self.dice().between(0, 5).to_string(),
                        _ => value,
                    };
                    self.line(text, &format!("{x} = {value}"));
                }
            }
        }
    }

    fn assign_ref(&mut self, text: &mut String) {
        let fit: Vec<Var> =
            self.scope.iter().filter(|var| matches!(var.ty, Ty::Ref(_)) && var.scope != "local").cloned().collect();
        if fit.is_empty() {
            return;
        }
        let var = self.dice().pick(&fit).clone();
        let Ty::Ref(of) = var.ty else { return };
        let given: Vec<String> = self
            .scope
            .iter()
            .filter(|other| other.ty == var.ty)
            .map(|other| other.path.clone())
            .chain((of == "mailboat").then(|| "old_boat".to_owned()))
            .chain((of == self.owner).then(|| "self".to_owned()))
            .chain(["none".to_owned()])
            .collect();
        let value = self.dice().pick(&given).clone();
        self.line(text, &format!("{} = {value}", var.path));
    }

    fn each(&mut self, text: &mut String) {
        let actor = ACTORS[self.dice().below(2)];
        let name = self.writer.fresh('e');
        let known = self.scope.len();
        let var = self.local(&name, Ty::Ref(actor));
        self.scope.push(var);
        self.members(&name, actor);
        let filter = if self.dice().one_in(3) { format!(" where {}", self.condition(1)) } else { String::new() };
        self.inner(text, &format!("for {name} in {actor}{filter}"), 2);
        self.scope.truncate(known);
    }

    /// The variables that can be taken from a name.
    fn members(&mut self, name: &str, actor: &str) {
        for var in self.writer.vars.clone() {
            if var.owner == actor && var.scope == "instance" {
                self.scope.push(Var { path: format!("{name}.{}", var.name), ..var });
            }
        }
    }

    /// Something done through a `ref`, mostly behind a test.
    fn through_ref(&mut self, text: &mut String) {
        let fit: Vec<Var> = self.scope.iter().filter(|var| matches!(var.ty, Ty::Ref(_) | Ty::Any)).cloned().collect();
        if fit.is_empty() || self.depth > 3 {
            return self.assign(text);
        }
        let var = self.dice().pick(&fit).clone();
        let x = &var.path;
        let known = self.scope.clone();
        // What an outer test said of its kind is not so in here.
        self.scope.retain(|other| !other.path.starts_with(&format!("{x}.")));
        match var.ty {
            Ty::Ref(actor) => {
                self.members(x, actor);
                if self.slip() {
                    self.step(text);
                } else {
                    let test = if self.dice().one_in(2) { "is not none" } else { "is set" };
                    self.inner(text, &format!("if {x} {test}"), 2);
                }
            }
            _ => {
                let actor = ACTORS[self.dice().below(2)];
                self.members(x, actor);
                self.inner(text, &format!("if {x} is {actor}"), 2);
            }
        }
        self.scope = known;
    }

    fn match_(&mut self, text: &mut String) {
        let fit: Vec<Var> = self.scope.iter().filter(|var| matches!(var.ty, Ty::Enum(_))).cloned().collect();
        let (subject, arms): (String, Vec<String>) = match fit.is_empty() || self.dice().one_in(2) {
            false => (
                self.dice().pick(&fit).path.clone(),
                VALUES[..self.dice().between(2, 4) as usize].iter().map(|value| format!("\"{value}\"")).collect(),
            ),
            true => (self.int(1), vec!["0".to_owned(), "1, 2".to_owned(), "3".to_owned()]),
        };
        self.line(text, &format!("match {subject} {{"));
        self.depth += 1;
        for arm in arms {
            self.inner(text, &arm, 1);
        }
        if self.dice().one_in(2) {
            self.inner(text, "else", 1);
        }
        self.depth -= 1;
        self.line(text, "}");
    }

    fn call(&mut self, text: &mut String) {
        let waits = self.plain;
        let fit: Vec<String> =
            self.procedures.iter().filter(|(_, gives)| !gives && !waits).map(|(name, _)| name.clone()).collect();
        if !fit.is_empty() {
            let (name, value) = (self.dice().pick(&fit).clone(), self.int(1));
            self.line(text, &format!("{name}({value})"));
        }
    }

    fn ask(&mut self, text: &mut String) {
        self.line(text, "ask \"Which way?\" {");
        self.depth += 1;
        let when = if self.dice().one_in(2) { format!(" when {}", self.condition(1)) } else { String::new() };
        self.inner(text, &format!("choice \"Out\"{when}"), 1);
        self.inner(text, "choice \"Home\"", 1);
        self.depth -= 1;
        self.line(text, "}");
    }

    fn spawn(&mut self, text: &mut String) {
        if self.loops > 0 || self.depth > 2 {
            return;
        }
        let name = self.writer.fresh('n');
        self.line(text, &format!("spawn parcel as {name}"));
        let var = self.local(&name, Ty::Ref("parcel"));
        self.scope.push(var);
        if self.dice().one_in(2) {
            self.line(text, &format!("send handed({name})"));
        }
    }

    fn remove(&mut self, text: &mut String) {
        let fit: Vec<Var> =
            self.scope.iter().filter(|var| var.scope == "local" && matches!(var.ty, Ty::Ref(_))).cloned().collect();
        if !fit.is_empty() {
            let var = self.dice().pick(&fit).clone();
            self.line(text, &format!("if {0} is not none {{ remove {0} }}", var.path));
        } else if self.owner == "parcel" {
            self.line(text, "remove self");
        }
    }

    fn clear(&mut self, text: &mut String) {
        let fit: Vec<Var> = self.scope.iter().filter(|var| !var.has_default && var.scope != "local").cloned().collect();
        if !fit.is_empty() && self.dice().one_in(3) {
            let var = self.dice().pick(&fit).clone();
            self.line(text, &format!("clear {}", var.path));
        }
    }

    fn while_(&mut self, text: &mut String) {
        let name = self.writer.fresh('l');
        let count = self.dice().between(1, 4);
        self.line(text, &format!("let {name} = 0"));
        let mut var = self.local(&name, Ty::Int);
        var.constant = true;
        self.line(text, &format!("while {name} < {count} {{"));
        self.loops += 1;
        let known = self.scope.len();
        self.scope.push(var);
        self.block(text, 2);
        self.scope.truncate(known);
        self.loops -= 1;
        self.line(text, &format!("    {name} += 1"));
        self.line(text, "}");
    }

    // ---- expressions ----

    fn readable(&mut self, ty: Ty) -> Option<Var> {
        let all_set = !self.slip();
        let fit: Vec<Var> =
            self.scope.iter().filter(|var| var.ty == ty && (var.has_default || !all_set)).cloned().collect();
        (!fit.is_empty()).then(|| self.dice().pick(&fit).clone())
    }

    fn int(&mut self, depth: usize) -> String {
        if depth == 0 || self.dice().one_in(3) {
            return match self.readable(Ty::Int) {
                Some(var) if !self.dice().one_in(3) => var.path,
                _ => self.dice().between(-2, 9).to_string(),
            };
        }
        let a = self.int(depth - 1);
        let b = self.int(depth - 1);
        match self.dice().below(14) {
            0..=2 => format!("{a} + {b}"),
            3..=4 => format!("{a} - {b}").replace("- -", "+ "),
            5 => format!("({a}) * {}", self.dice().between(-2, 3)),
            6 => format!("min({a}, {b})"),
            7 => format!("max({a}, {b})"),
            8 => format!("clamp({a}, 0, {})", self.dice().between(1, 9)),
            9 => format!("random({a}, {b})"),
            10 => format!("abs({a})"),
            11 => format!("({a}) % {}", self.dice().between(2, 5)),
            12 => {
                let c = self.number(depth - 1);
                format!("floor({c})")
            }
            _ => {
                let fit: Vec<String> =
                    self.procedures.iter().filter(|(_, gives)| *gives).map(|(name, _)| name.clone()).collect();
                if fit.is_empty() { a } else { format!("{}({a})", self.dice().pick(&fit)) }
            }
        }
    }

    fn number(&mut self, depth: usize) -> String {
        if depth == 0 || self.dice().one_in(3) {
            return match self.readable(Ty::Number) {
                Some(var) if !self.dice().one_in(3) => var.path,
                _ => format!("{}.5", self.dice().between(0, 6)),
            };
        }
        let (a, b) = (self.number(depth - 1), self.int(depth - 1));
        match self.dice().below(6) {
            0 => format!("{a} + {b}"),
            1 => format!("{a} * 0.5"),
            2 => format!("max({a}, {b})"),
            3 => format!("({b}) / {}", self.dice().between(2, 4)),
            4 => format!("({a}) / max({b}, 1)"),
            _ if self.slip() => format!("({a}) / ({b})"),
            _ => a,
        }
    }

    fn condition(&mut self, depth: usize) -> String {
        if depth > 1 && self.dice().one_in(3) {
            let (a, b) = (self.condition(depth - 1), self.condition(depth - 1));
            let word = if self.dice().one_in(2) { "and" } else { "or" };
            return format!("({a}) {word} ({b})");
        }
        match self.dice().below(10) {
            0..=4 => {
                let (a, b) = (self.int(1), self.int(1));
                let sign = *self.dice().pick(&["<", "<=", ">", ">=", "==", "!="]);
                format!("{a} {sign} {b}")
            }
            5 | 6 => match self.readable(Ty::Bool) {
                Some(var) if self.dice().one_in(2) => format!("not {}", var.path),
                Some(var) => var.path,
                None => "chance(0.5)".to_owned(),
            },
            7 => {
                let (a, b) = (self.number(1), self.number(1));
                format!("{a} < {b}")
            }
            8 => {
                let fit: Vec<Var> = self.scope.iter().filter(|var| !var.has_default).cloned().collect();
                if fit.is_empty() {
                    "chance(0.3)".to_owned()
                } else {
                    format!("{} is set", self.dice().pick(&fit).path)
                }
            }
            _ => {
                let fit: Vec<Var> =
                    self.scope.iter().filter(|var| matches!(var.ty, Ty::Enum(_)) && var.has_default).cloned().collect();
                if fit.is_empty() {
                    "scene is harbor".to_owned()
                } else {
                    let value = *self.dice().pick(&VALUES);
                    format!("{} == \"{value}\"", self.dice().pick(&fit).path)
                }
            }
        }
    }
}
