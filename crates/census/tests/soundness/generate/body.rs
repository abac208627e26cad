//! The code of a script: handlers, procedures and statements, mostly guarded, as people write them.

use super::*;

/// A procedure takes an int, and perhaps something else.
#[derive(Clone)]
pub(super) struct Procedure {
    name: String,
    /// What it gives, if anything: a number or a truth.
    pub(super) gives: Option<Ty>,
    second: Option<Ty>,
}

/// What something costs, and whether that can be paid: two procedures, and the number that it is taken from.
#[derive(Clone)]
pub(super) struct Price {
    cost: String,
    can: String,
    from: String,
}

/// A procedure that gives some instance that has enough of something, or none.
#[derive(Clone)]
pub(super) struct Chooser {
    name: String,
    actor: &'static str,
    /// The variable that it looks at.
    of: String,
}

pub(super) struct Body<'w> {
    pub(super) writer: &'w mut Writer,
    pub(super) owner: &'static str,
    /// What can be named, innermost last.
    pub(super) scope: Vec<Var>,
    /// The procedures that can be called.
    pub(super) procedures: Vec<Procedure>,
    pub(super) prices: Vec<Price>,
    pub(super) choosers: Vec<Chooser>,
    /// A procedure that sorts numbers.
    pub(super) level: Option<String>,
    pub(super) depth: usize,
    pub(super) loops: usize,
    /// No waits here.
    pub(super) plain: bool,
    /// What a `return` gives, if anything.
    pub(super) gives: Option<Ty>,
}

impl Body<'_> {
    pub(super) fn dice(&mut self) -> &mut Dice {
        &mut self.writer.dice
    }

    /// What the script can name: its own, its scene's, and globals and types of others.
    pub(super) fn see(&mut self, scene: Option<&str>) {
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
            lasts: false,
            low: false,
        }
    }

    pub(super) fn private(&mut self, text: &mut String) {
        let name = self.writer.fresh('p');
        let mood = self.writer.vars.iter().position(|var| matches!(var.ty, Ty::Enum(_)));
        let (ty, word, start) = match self.dice().below(5) {
            3 => (Ty::Ref("mailboat"), "mailboat", "none".to_owned()),
            4 if mood.is_some() => {
                let var = self.writer.vars[mood.unwrap_or(0)].clone();
                let _ = writeln!(text, "private {name}: {}.{} = \"calm\"", var.owner, var.name);
                let private = self.local(&name, var.ty);
                self.scope.push(private);
                return;
            }
            0 => (Ty::Bool, "bool", "false".to_owned()),
            1 => (Ty::Int, "int", self.dice().between(0, 5).to_string()),
            _ => (Ty::Number, "number", "1.5".to_owned()),
        };
        let start = if self.dice().one_in(10) { String::new() } else { format!(" = {start}") };
        let _ = writeln!(text, "private {name}: {word}{start}");
        let mut var = self.local(&name, ty);
        var.has_default = !start.is_empty() || matches!(ty, Ty::Ref(_));
        self.scope.push(var);
    }

    pub(super) fn procedure(&mut self, text: &mut String) {
        let name = self.writer.fresh('q');
        let parameter = self.writer.fresh('a');
        let gives = [None, None, Some(Ty::Int), Some(Ty::Bool)][self.dice().below(4)];
        let known = self.scope.len();
        let var = self.local(&parameter, Ty::Int);
        self.scope.push(var);
        let again = gives != Some(Ty::Bool) && self.dice().one_in(3);
        self.plain = gives.is_some() || again || self.dice().one_in(2);
        self.gives = gives;
        let second = match self.dice().below(4) {
            0 => Some((Ty::Bool, "bool")),
            1 => Some((Ty::Ref("mailboat"), "mailboat")),
            2 => Some((Ty::Any, "actor")),
            _ => None,
        };
        let more = second.filter(|_| !again).map_or(String::new(), |(ty, word)| {
            let name = self.writer.fresh('a');
            let var = self.local(&name, ty);
            self.scope.push(var);
            format!(", {name}: {word}")
        });
        let second = second.filter(|_| !again).map(|(ty, _)| ty);
        let typed = if self.dice().one_in(3) { "" } else { ": int" };
        let _ = writeln!(
            text,
            "proc {name}({parameter}{typed}{more}){} {{",
            match gives {
                None => "",
                Some(Ty::Bool) => " -> bool",
                Some(_) => " -> int",
            }
        );
        self.block(text, 2);
        // One that comes to its end without a value gives zero.
        if gives.is_some() && again {
            let (value, sign) = (self.int(1), *self.dice().pick(&["+", "-"]));
            let inner = format!("{value} {sign} {name}(min({parameter}, 3) - 1)");
            let _ = writeln!(text, "    if {parameter} > 0 {{ return {inner} }}");
        }
        if gives.is_some() && !self.dice().one_in(5) {
            self.result(text);
        }
        if again && gives.is_none() {
            let _ = writeln!(text, "    if {parameter} > 0 {{ {name}(min({parameter}, 3) - 1) }}");
        }
        text.push_str("}\n\n");
        self.scope.truncate(known);
        self.plain = false;
        self.gives = None;
        self.procedures.push(Procedure { name, gives, second });
    }

    /// What a procedure gives at its end: for a truth mostly whether it could do something.
    fn result(&mut self, text: &mut String) {
        let does_something = self.dice().one_in(2);
        let value = match self.gives {
            Some(Ty::Bool) if does_something => {
                let test = self.condition(1);
                self.depth += 1;
                self.line(text, &format!("if {test} {{"));
                self.block(text, 1);
                self.line(text, "    return true");
                self.line(text, "}");
                self.depth -= 1;
                "false".to_owned()
            }
            Some(Ty::Bool) => self.condition(1),
            _ => self.int(1),
        };
        let _ = writeln!(text, "    return {value}");
    }

    pub(super) fn handler(&mut self, text: &mut String) {
        let known = self.scope.len();
        let trigger = match self.dice().below(18) {
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
            13 => (*self.dice().pick(&["leave", "every 0.5s"])).to_owned(),
            14 if ACTORS.contains(&self.owner) => "removed".to_owned(),
            15 => {
                let (boat, loud) = (self.local("boat", Ty::Ref("mailboat")), self.local("loud", Ty::Bool));
                self.scope.extend([boat, loud]);
                self.members("boat", "mailboat");
                "hailed(boat, loud)".to_owned()
            }
            _ => "bell".to_owned(),
        };
        let when = if self.dice().one_in(3) { format!(" when {}", self.condition(1)) } else { String::new() };
        let _ = writeln!(text, "on {trigger}{when} {{");
        if let Some(hold) = self.hold().filter(|_| trigger.ends_with("(amount)")) {
            let _ = writeln!(text, "    {hold} += amount");
        }
        let count = self.dice().between(2, 6) as usize;
        self.block(text, count);
        text.push_str("}\n\n");
        self.scope.truncate(known);
    }

    fn told(&mut self) -> String {
        let var = self.local("amount", Ty::Int);
        self.scope.push(var);
        format!("{}(amount)", self.dice().pick(&["told", "passed", "carried"]))
    }

    fn changed(&mut self) -> String {
        let fit: Vec<Var> = self
            .scope
            .iter()
            .filter(|var| !matches!(var.ty, Ty::Vec2) && var.scope != "local" && !var.path.starts_with("old"))
            .cloned()
            .collect();
        if fit.is_empty() {
            return "bell".to_owned();
        }
        let var = self.dice().pick(&fit).clone();
        let mut was = self.local("was", var.ty);
        (was.constant, was.has_default) = (true, var.has_default);
        self.scope.push(was);
        format!("changed {}", var.path)
    }

    /// Whether this is written without care.
    pub(super) fn slip(&mut self) -> bool {
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
        match self.dice().below(52) {
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
                let gives = match self.gives {
                    None => "",
                    Some(Ty::Bool) => *self.dice().pick(&[" true", " false"]),
                    Some(_) => " 0",
                };
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
            26 if !deep && !self.plain && self.writer.waits => {
                let delay = self.time();
                self.inner(text, &format!("after {delay}"), 2);
            }
            27 => self.send(text),
            28 if !deep => {
                let count = if self.dice().one_in(3) { self.int(1) } else { self.dice().between(0, 3).to_string() };
                self.loops += 1;
                self.inner(text, &format!("repeat min({count}, 6)"), 2);
                self.loops -= 1;
            }
            29 if !deep => self.each(text),
            30 if !deep => self.match_(text),
            31 => self.call(text),
            32 => {
                let (a, b) = (self.token(), self.number(1));
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
            40 if self.loops > 0 => {
                let test = self.condition(1);
                self.line(text, &format!("if {test} {{ break }}"));
            }
            41 => self.scale(text),
            42 => self.vector(text),
            43 => self.words(text),
            44 => self.keep(text),
            45 if !deep => self.elsewhere(text),
            46 if !deep && !self.plain && self.writer.waits => self.lend(text),
            47 if !deep => self.choose(text),
            48 if !deep => self.run_down(text),
            49 if !deep && self.dice().one_in(2) => self.tally(text),
            49 if !deep && self.dice().one_in(2) => self.pay(text),
            49 if !deep => self.sort_out(text),
            50 if !self.choosers.is_empty() => self.take_chosen(text),
            _ => self.through_ref(text),
        }
    }

    /// One that a loop chooses, if any, and what is done with it.
    fn choose(&mut self, text: &mut String) {
        let is_own = |var: &&Var| matches!(var.ty, Ty::Ref(_)) && var.scope != "local" && !var.constant;
        let fit: Vec<Var> = self.scope.iter().filter(is_own).cloned().collect();
        if fit.is_empty() {
            return;
        }
        let var = self.dice().pick(&fit).clone();
        let (Ty::Ref(actor), x) = (var.ty, &var.path) else { return };
        let known = self.scope.clone();
        if !self.slip() {
            self.line(text, &format!("{x} = none"));
        }
        let name = self.writer.fresh('e');
        let each = self.local(&name, Ty::Ref(actor));
        self.scope.push(each);
        self.members(&name, actor);
        let test = self.condition(1);
        let ends = if self.dice().one_in(3) { "break" } else { "" };
        self.line(text, &format!("for {name} in {actor} where {test} {{\n{x} = {name}\n{ends}\n}}"));
        self.scope.clone_from(&known);
        self.members(x, actor);
        self.inner(text, &format!("if {x} is not none"), 2);
        self.scope = known;
    }

    /// A number that runs down while a flag is up, one of the two that only go together, or a flag that says so.
    fn run_down(&mut self, text: &mut String) {
        let Some(number) = self.numeric(Ty::Int).filter(|var| var.min) else { return };
        let of = number.path.rsplit_once('.').map_or("", |(of, _)| of);
        let is_beside = |var: &&Var| {
            var.ty == Ty::Bool && var.path.rsplit_once('.').map_or("", |(of, _)| of) == of && !var.constant
        };
        let flags: Vec<Var> = self.scope.iter().filter(is_beside).filter(|var| var.scope != "local").cloned().collect();
        if flags.is_empty() {
            return;
        }
        let (flag, x) = (self.dice().pick(&flags).path.clone(), &number.path);
        let least = format!("{x}.min");
        let careless = self.slip();
        let line = match self.dice().below(6) {
            0 => format!("if {flag} {{\n{x} -= 1\nif {x} == {least} {{ {flag} = false }}\n}}"),
            1 if !careless => format!("if {x} > {least} {{ {flag} = true }}"),
            2 if number.max => format!("if not {flag} {{\n{x} = {x}.max\n{flag} = {x} > {least}\n}}"),
            3 => format!("{flag} = {x} > {least}"),
            4 if number.max => format!("{x} = min({x} + 2, {x}.max)"),
            5 if careless => format!("{flag} = true"),
            _ => format!("{flag} = false"),
        };
        self.line(text, &line);
    }

    /// A share of what a loop has counted, where a flag or the count itself tells that it is any.
    fn tally(&mut self, text: &mut String) {
        let Some(var) = self.numeric(Ty::Int).filter(|var| var.max && var.min) else { return };
        let actor = ACTORS[self.dice().below(2)];
        let [name, any, count] = ['e', 'l', 'l'].map(|letter| self.writer.fresh(letter));
        let known = self.scope.clone();
        let each = self.local(&name, Ty::Ref(actor));
        self.scope.push(each);
        self.members(&name, actor);
        let test = self.condition(1);
        self.scope = known;
        let (x, whole) = (&var.path, self.int(0));
        let asked = match self.slip() {
            true => "chance(0.5)".to_owned(),
            false => self.dice().pick(&[any.clone(), format!("{count} > 0")]).clone(),
        };
        self.line(text, &format!("let {any} = false\nlet {count} = 0"));
        self.line(text, &format!("for {name} in {actor} where {test} {{\n{any} = true\n{count} += 1\n}}"));
        let share = match self.dice().below(3) {
            0 => format!("{x} = clamp(floor({whole} / {count}), {x}.min, {x}.max)"),
            1 => format!("{x} = {x}.min + floor(({x} - {x}.min) / {count})"),
            _ => format!("{x} = {x}.min + floor(({x} - {x}.min) * min({whole}, {count}) / {count})"),
        };
        self.line(text, &format!("if {asked} {{ {share} }}"));
    }

    /// Two procedures that only work out what something costs, and whether that can be paid.
    pub(super) fn price(&mut self, text: &mut String) {
        let Some(from) = self.numeric(Ty::Int).filter(|var| var.min && var.scope != "local") else { return };
        let from = from.path;
        let [cost, can] = ['q', 'q'].map(|letter| self.writer.fresh(letter));
        let [count, wanted] = ['a', 'a'].map(|letter| self.writer.fresh(letter));
        let (test, each, low) = (self.condition(0), self.int(0), self.dice().between(1, 3));
        let sign = *self.dice().pick(&["*", "+"]);
        let cheap = format!("if {test} {{ return {count} * {low} }}");
        let _ = writeln!(text, "proc {cost}({count}: int) -> int {{\n{cheap}\nreturn {count} {sign} {each}\n}}");
        let _ = writeln!(text, "proc {can}({wanted}) -> bool {{\nreturn {from} - {cost}({wanted}) >= {from}.min\n}}");
        self.prices.push(Price { cost, can, from });
    }

    /// A procedure that says of a number whether it is little, some or much.
    pub(super) fn level(&mut self, text: &mut String) {
        let [name, of] = ['q', 'a'].map(|letter| self.writer.fresh(letter));
        let unless = if self.dice().one_in(3) { format!(" and {}", self.condition(0)) } else { String::new() };
        let _ = writeln!(
            text,
            "proc {name}({of}: int) -> int {{\nif {of} >= 6{unless} {{ return 2 }}\nif {of} >= 2 {{ return 1 }}\nreturn 0\n}}"
        );
        self.level = Some(name);
    }

    /// Something is done by how much there is: by what a procedure says, or by what was put down.
    fn sort_out(&mut self, text: &mut String) {
        let Some(var) = self.numeric(Ty::Int).filter(|var| var.min) else { return };
        let (x, careless) = (&var.path, self.slip());
        let (much, some) = if careless { (8, 3) } else { (6, 2) };
        let amount = if var.scope == "local" { x.clone() } else { format!("({x} - {x}.min)") };
        let is_fit = |other: &&Var| [Ty::Bool, Ty::Int].contains(&other.ty) && !other.constant && other.path != *x;
        let kept: Vec<Var> = self.scope.iter().filter(is_fit).filter(|other| other.scope != "local").cloned().collect();
        let put_down = if kept.is_empty() { None } else { Some(self.dice().pick(&kept).clone()) };
        let known = match (self.level.clone(), put_down) {
            (Some(level), put_down) if self.dice().one_in(2) || put_down.is_none() => {
                let name = self.writer.fresh('l');
                self.line(text, &format!("let {name} = {level}({amount})"));
                (format!("{name} == 2"), format!("{name} == 1"))
            }
            (_, Some(Var { ty: Ty::Bool, path, .. })) => {
                self.line(text, &format!("if {amount} >= 6 {{ {path} = true }} else {{ {path} = false }}"));
                (path.clone(), format!("not {path} and {amount} >= 2"))
            }
            (_, Some(Var { path, .. })) => {
                self.line(text, &format!("if {amount} >= 6 {{ {path} = 2 }} else if {amount} >= 2 {{ {path} = 1 }}"));
                self.line(text, &format!("else {{ {path} = 0 }}"));
                (format!("{path} == 2"), format!("{path} == 1"))
            }
            _ => return,
        };
        if self.dice().one_in(3) {
            self.block(text, 1);
        }
        self.line(text, &format!("if {} {{ {x} -= {much} }}\nelse if {} {{ {x} -= {some} }}", known.0, known.1));
    }

    /// Something is paid for, mostly where there is enough.
    fn pay(&mut self, text: &mut String) {
        if self.prices.is_empty() {
            return;
        }
        let prices = self.prices.clone();
        let Price { cost, can, from } = self.dice().pick(&prices).clone();
        let wanted = self.int(1);
        let bought = if self.slip() { self.int(0) } else { wanted.clone() };
        self.line(text, &format!("if {can}({wanted}) {{"));
        if self.dice().one_in(4) {
            self.block(text, 1);
        }
        self.line(text, &format!("{from} -= {cost}({bought})\n}}"));
    }

    /// A procedure that gives some instance that has enough of something, or none.
    pub(super) fn chooser(&mut self, text: &mut String) {
        let actor = ACTORS[self.dice().below(2)];
        let has_enough = |var: &&Var| var.owner == actor && var.scope == "instance" && var.ty == Ty::Int && var.min;
        let fit: Vec<Var> = self.writer.vars.iter().filter(has_enough).filter(|var| !var.constant).cloned().collect();
        if fit.is_empty() {
            return;
        }
        let of = self.dice().pick(&fit).name.clone();
        let [name, enough, each] = ['q', 'a', 'e'].map(|letter| self.writer.fresh(letter));
        let earlier: Vec<Chooser> =
            self.choosers.iter().filter(|known| known.actor == actor && known.of == of).cloned().collect();
        let asked = |instance: &str| format!("{instance}.{of} - {instance}.{of}.min >= {enough}");
        let loop_over = |told: &str| format!("for {each} in {actor} where {} {{\n{told}\n}}", asked(&each));
        let mut lines = match self.dice().below(3) {
            0 => vec![loop_over(&format!("if chance(0.5) {{ return {each} }}"))],
            1 if actor == self.owner => vec![format!("if {} {{ return self }}", asked("self"))],
            _ => vec![loop_over(&format!("return {each}"))],
        };
        let last = match (self.dice().below(6), earlier.last()) {
            (0 | 1, Some(other)) => format!("return {}({enough} + 1)", other.name),
            (2, Some(other)) => format!("let {each} = {}({enough})\nreturn {each}", other.name),
            (3, _) if actor == "mailboat" && self.slip() => "return old_boat".to_owned(),
            (4, _) => String::new(),
            (5, _) => format!("return {name}({enough} + 1)"),
            _ => "return none".to_owned(),
        };
        let again = last.contains(&format!("{name}("));
        lines.extend(again.then(|| format!("if {enough} > 4 {{ return none }}")));
        let _ = writeln!(text, "proc {name}({enough}: int) -> {actor} {{\n{}\n{last}\n}}", lines.join("\n"));
        self.choosers.push(Chooser { name, actor, of });
    }

    /// Something is taken from the instance that a procedure gives.
    fn take_chosen(&mut self, text: &mut String) {
        let choosers = self.choosers.clone();
        let Chooser { name, actor, of } = self.dice().pick(&choosers).clone();
        let is_fit = |var: &&Var| var.ty == Ty::Ref(actor) && var.scope != "local" && !var.constant;
        let kept: Vec<String> = self.scope.iter().filter(is_fit).map(|var| var.path.clone()).collect();
        let enough = self.dice().between(0, 3);
        let taken = if self.slip() { enough + 1 } else { enough };
        let taker = if kept.is_empty() || self.dice().one_in(2) {
            let taker = self.writer.fresh('l');
            self.line(text, &format!("let {taker} = {name}({enough})"));
            taker
        } else {
            let taker = self.dice().pick(&kept).clone();
            self.line(text, &format!("{taker} = {name}({enough})"));
            taker
        };
        if self.dice().one_in(4) {
            self.block(text, 1);
        }
        self.line(text, &format!("if {taker} is not none {{ {taker}.{of} -= {taken} }}"));
    }

    /// Something is passed on, mostly where there is room for it.
    fn send(&mut self, text: &mut String) {
        let to = match self.dice().below(6) {
            0 if ACTORS.contains(&self.owner) => " to self",
            1 => " to old_boat",
            _ => "",
        };
        let careful = !self.dice().one_in(3);
        let (hold, to) = match self.others_hold().filter(|_| self.dice().one_in(2)) {
            Some((boat, hold)) => (Some(hold), format!(" to {boat}")),
            None => (self.hold(), to.to_owned()),
        };
        let Some(x) = hold.filter(|_| careful) else {
            let value = self.int(1);
            return self.line(text, &format!("send told({value}){to}"));
        };
        // Few send the same, so that who answers can build on what they have tested.
        let signal = *self.dice().pick(&["passed", "carried"]);
        let amount = if self.dice().one_in(3) { self.int(0) } else { self.dice().between(1, 3).to_string() };
        self.line(text, &format!("if {amount} >= 0 and {x} + {amount} <= {x}.max {{"));
        self.line(text, &format!("    send {signal}({amount}){to}"));
        if self.dice().one_in(3) {
            self.block(text, 1);
        }
        self.line(text, "}");
    }

    /// A mail boat that has a name here, and the number into which goes what is passed on to it.
    fn others_hold(&self) -> Option<(String, String)> {
        let boats = self.scope.iter().filter(|var| var.ty == Ty::Ref("mailboat") && var.scope == "local");
        let of = |boat: &Var| {
            let of_boat = format!("{}.", boat.path);
            let hold = self.scope.iter().find(|var| var.path.starts_with(&of_boat) && var.ty == Ty::Int && var.max)?;
            Some((boat.path.clone(), hold.path.clone()))
        };
        boats.filter_map(of).next_back()
    }

    /// The number into which goes what is passed on: the same for all scripts, or that of a mail boat.
    fn hold(&self) -> Option<String> {
        let is_fit = |var: &&Var| {
            let scope = if self.owner == "mailboat" { "instance" } else { "global" };
            (var.scope, var.ty, var.max, var.constant) == (scope, Ty::Int, true, false) && !var.path.contains('.')
        };
        let of_all = |var: &&Var| (var.scope, var.ty, var.max, var.constant) == ("global", Ty::Int, true, false);
        let hold = self.scope.iter().find(is_fit).or_else(|| self.scope.iter().find(of_all));
        hold.map(|var| var.path.clone())
    }

    fn time(&mut self) -> String {
        (*self.dice().pick(&["0.5s", "0.5s", "0.1s", "0s", "1s", "2t"])).to_owned()
    }

    fn wait(&mut self, text: &mut String) {
        if self.dice().one_in(4) {
            let test = self.condition(1);
            self.line(text, &format!("wait until {test}"));
        } else {
            let time = match self.dice().below(4) {
                0 => format!("seconds(clamp({}, 0, 3))", self.int(1)),
                _ => self.time(),
            };
            self.line(text, &format!("wait {time}"));
        }
    }

    /// A number is multiplied or divided.
    fn scale(&mut self, text: &mut String) {
        let Some(var) = self.numeric(Ty::Number) else { return };
        let x = &var.path;
        let line = match self.dice().below(4) {
            0 => format!("{x} *= 0.5"),
            1 => format!("{x} /= {}", self.dice().between(2, 4)),
            2 if self.slip() || !(var.min || var.max) => format!("{x} *= {}", self.dice().between(-1, 3)),
            _ => format!("{x} = clamp({x} * 2, {}, 4.5)", if var.min { format!("{x}.min") } else { "0".to_owned() }),
        };
        self.line(text, &line);
    }

    /// An axis of a vector, or all of it.
    fn vector(&mut self, text: &mut String) {
        let fit: Vec<Var> = self.scope.iter().filter(|var| var.ty == Ty::Vec2).cloned().collect();
        if fit.is_empty() {
            return;
        }
        let (var, number) = (self.dice().pick(&fit).clone(), self.number(1));
        let line = match self.dice().below(3) {
            0 => format!("{}.x = {number}", var.path),
            1 => format!("{}.y += {number}", var.path),
            _ => format!("{} = vec2({number}, 1)", var.path),
        };
        self.line(text, &line);
    }

    /// What can stand in a token: no text.
    fn token(&mut self) -> String {
        Some(self.int(1)).filter(|int| !int.contains('"')).unwrap_or_else(|| "1".to_owned())
    }

    /// A text is given another.
    fn words(&mut self, text: &mut String) {
        let fit: Vec<Var> = self.scope.iter().filter(|var| var.ty == Ty::Text && !var.constant).cloned().collect();
        if fit.is_empty() {
            return;
        }
        let (var, int) = (self.dice().pick(&fit).clone(), self.token());
        let value = match self.dice().below(4) {
            0 => "\"Brill\"".to_owned(),
            1 => "\"\"".to_owned(),
            2 => format!("text({int})"),
            _ => format!("\"{{{int}}} parcels\""),
        };
        self.line(text, &format!("{} = {value}", var.path));
    }

    /// What may not be there, mostly behind a test: a listed instance, or another scene's variables.
    fn elsewhere(&mut self, text: &mut String) {
        let known = self.scope.len();
        let (test, careless) = (self.dice().one_in(2), self.slip());
        let head = if test {
            let boat = *self.dice().pick(&["dawn_boat", "dusk_boat", "old_boat"]);
            self.members(boat, "mailboat");
            format!("if {boat} is not none")
        } else {
            for var in self.writer.vars.clone() {
                if var.owner == "marsh" && var.scope == "scene" {
                    self.scope.push(Var { path: format!("marsh.{}", var.name), ..var });
                }
            }
            "if scene is marsh".to_owned()
        };
        if careless {
            self.step(text);
        } else {
            self.inner(text, &head, 2);
        }
        self.scope.truncate(known);
    }

    /// A `let` that is no whole number: a test, or an instance.
    fn keep(&mut self, text: &mut String) {
        let name = self.writer.fresh('l');
        if self.dice().one_in(2) {
            let test = self.answer().unwrap_or_else(|| self.condition(2));
            self.line(text, &format!("let {name} = {test}"));
            let var = self.local(&name, Ty::Bool);
            self.scope.push(var);
            // Asked again later, when what it was found out from may be another.
            if self.depth < 4 && self.dice().one_in(2) {
                self.statement(text);
                let not = if self.dice().one_in(3) { "not " } else { "" };
                self.inner(text, &format!("if {not}{name}"), 2);
            }
            return;
        }
        let fit: Vec<Var> = self.scope.iter().filter(|var| matches!(var.ty, Ty::Ref(_) | Ty::Any)).cloned().collect();
        if !fit.is_empty() {
            let var = self.dice().pick(&fit).clone();
            self.line(text, &format!("let {name} = {}", var.path));
            let var = self.local(&name, var.ty);
            self.scope.push(var);
        }
    }

    /// A test of what a procedure gives, which may do something on the way.
    fn answer(&mut self) -> Option<String> {
        if self.plain || self.dice().one_in(2) {
            return None;
        }
        let value = self.int(1);
        if let Some(truth) = self.given(Ty::Bool, &value) {
            return Some(truth);
        }
        let (number, sign) = (self.given(Ty::Int, &value)?, *self.dice().pick(&["<", ">=", "=="]));
        Some(format!("{number} {sign} {}", self.int(0)))
    }

    /// A call, with this number, of a procedure that gives a value of this type.
    pub(super) fn given(&mut self, ty: Ty, number: &str) -> Option<String> {
        let fit: Vec<Procedure> = self.procedures.iter().filter(|known| known.gives == Some(ty)).cloned().collect();
        if fit.is_empty() {
            return None;
        }
        let procedure = self.dice().pick(&fit).clone();
        Some(self.called(&procedure, number))
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

    /// Something that is taken and given back, or put in and taken back, mostly as much as it was.
    fn lend(&mut self, text: &mut String) {
        let own = self.owner == "mailboat" && self.dice().one_in(2);
        let (path, test, [first, then]) = match own {
            true => ("seats", "seats < seats.max", ["+=", "-="]),
            false => ("tide.free", "tide.free > 0", ["-=", "+="]),
        };
        let careless = self.writer.slips;
        let back = if self.dice().one_in(careless) { 2 } else { 1 };
        let give_back = format!("{path} {then} {back}");
        self.line(text, &format!("if {test} {{"));
        self.depth += 1;
        self.line(text, &format!("{path} {first} 1"));
        if self.dice().one_in(2) {
            let delay = self.time();
            self.line(text, &format!("after {delay} {{ {give_back} }}"));
        } else {
            let known = self.scope.len();
            self.wait(text);
            self.statement(text);
            self.scope.truncate(known);
            self.line(text, &give_back);
        }
        self.depth -= 1;
        self.line(text, "}");
    }

    /// A step of a number, in one of the forms in which people keep it within its range.
    fn step(&mut self, text: &mut String) {
        let Some(var) = self.numeric(Ty::Int) else { return self.assign(text) };
        let x = &var.path;
        let amount = self.dice().between(1, 4);
        let careless = self.slip();
        let up = self.dice().one_in(2);
        match self.dice().below(18) {
            0..=2 => return self.step_by_term(text, &var, up),
            3 => return self.step_by_division(text, &var),
            4 => return self.step_towards(text),
            _ => {}
        }
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

    /// A step that a quotient keeps within bounds: as many as there is money for, while a share is below the whole.
    fn step_by_division(&mut self, text: &mut String, var: &Var) {
        let x = &var.path;
        let (a, b) = (self.int(0), self.int(0));
        if var.max && self.dice().one_in(3) {
            let (part, whole) = (self.writer.fresh('l'), self.writer.fresh('l'));
            let more = if self.slip() { " + 1" } else { "" };
            self.line(text, &format!("let {whole} = max({b}, 1)\nlet {part} = clamp({a}, 0, {whole}{more})"));
            let low = if var.min { format!("max({x}.min, 0)") } else { "0".to_owned() };
            let share = format!("floor({part} * ({x}.max - {low}) / {whole})");
            self.line(text, &format!("if {x}.max >= {low} {{ {x} = {low} + {share} }}"));
        } else if self.dice().one_in(2) {
            let (price, many) = (self.writer.fresh('l'), self.writer.fresh('l'));
            let cut = *self.dice().pick(&["floor", "floor", "round"]);
            self.line(text, &format!("let {price} = max({b}, 1)"));
            self.line(text, &format!("let {many} = max(min({a}, {cut}({x} / {price})), 0)"));
            if self.slip() {
                self.line(text, &format!("{price} += 1"));
            }
            self.line(text, &format!("{x} -= {many} * {price}"));
        } else {
            let (share, limit) = (self.writer.fresh('l'), self.dice().between(1, 3));
            let whole = if var.max { format!("max({x}.max, 1)") } else { format!("max({b}, 1)") };
            self.line(text, &format!("let {share} = {x} / {whole}"));
            if self.dice().one_in(3) {
                self.statement(text);
            }
            let sign = if self.slip() { "<=" } else { "<" };
            self.line(text, &format!("if {share} {sign} {limit} {{ {x} += 1 }}"));
        }
    }

    /// A number that moves some of the way to another.
    fn step_towards(&mut self, text: &mut String) {
        let Some(var) = self.numeric(Ty::Number) else { return };
        let x = &var.path;
        let goal = if var.min && var.max && !self.slip() {
            let (low, high) = (format!("{x}.min"), format!("{x}.max"));
            format!("clamp({}, {low}, {high})", self.number(1))
        } else {
            self.number(0)
        };
        let share = *self.dice().pick(&["0.5", "0.25", "random(0.0, 1.0)", "tick_length()"]);
        let line = match self.dice().below(4) {
            0 => format!("{x} += ({goal} - {x}) * {share}"),
            1 => {
                let part = self.writer.fresh('l');
                self.line(text, &format!("let {part} = {share}"));
                format!("{x} = {x} * (1 - {part}) + {goal} * {part}")
            }
            2 => {
                let step = self.writer.fresh('l');
                self.line(text, &format!("let {step} = min(abs({goal} - {x}), {share})"));
                format!("if {x} < {goal} {{ {x} += {step} }} else {{ {x} -= {step} }}")
            }
            _ => format!("{x} = ({x} * 3 + {goal}) / 4"),
        };
        self.line(text, &line);
    }

    /// A step by what is written out a second time, behind a test of it; now and then something happens in between.
    fn step_by_term(&mut self, text: &mut String, var: &Var, up: bool) {
        let x = &var.path;
        let (a, b) = (self.int(0), self.int(0));
        let worked_out = self.given(Ty::Int, &a);
        let term = match self.dice().below(8) {
            5 | 6 if worked_out.is_some() => worked_out.unwrap_or_default(),
            0 | 1 => format!("{a} * {b}"),
            2 => format!("{a} % max({b}, 2)"),
            3 => format!("floor({a} / max({b}, 1))"),
            4 => format!("round({} * {b})", self.number(0)),
            _ => format!("ceil({})", self.number(1)),
        };
        let fits = match (up, var.max, var.min) {
            (true, true, _) => format!("{x} + {term} <= {x}.max and {term} >= 0"),
            (false, _, true) => format!("{x} - {term} >= {x}.min and {term} >= 0"),
            _ => format!("{term} > {}", self.int(0)),
        };
        self.line(text, &format!("if {fits} {{"));
        if self.dice().one_in(3) {
            self.block(text, 1);
        }
        let term = if self.slip() { format!("{b} * {a}") } else { term };
        self.line(text, &format!("    {x} {} {term}", if up { "+=" } else { "-=" }));
        self.line(text, "}");
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
                let may = |var: &&Var| matches!(var.ty, Ty::Enum(_)) && !var.constant;
                let fit: Vec<Var> = self.scope.iter().filter(may).cloned().collect();
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
        let fit: Vec<Var> = self
            .scope
            .iter()
            .filter(|var| matches!(var.ty, Ty::Ref(_)) && var.scope != "local" && !var.constant)
            .cloned()
            .collect();
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
        let filter = match self.dice().below(6) {
            0 | 1 => format!(" where {}", self.condition(1)),
            2 if actor == self.owner => format!(" where {name} != self"),
            _ => String::new(),
        };
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
            true if self.dice().one_in(4) => (self.condition(1), vec!["true".to_owned(), "false".to_owned()]),
            true => (self.int(1), vec!["0".to_owned(), "1, 2".to_owned(), "-3".to_owned()]),
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
        let fit: Vec<Procedure> =
            self.procedures.iter().filter(|known| known.gives.is_none() && !waits).cloned().collect();
        if !fit.is_empty() {
            let procedure = self.dice().pick(&fit).clone();
            let value = self.int(1);
            let call = self.called(&procedure, &value);
            self.line(text, &call);
        }
    }

    /// A call of a procedure.
    pub(super) fn called(&mut self, procedure: &Procedure, value: &str) -> String {
        let more = match procedure.second {
            None => String::new(),
            Some(Ty::Bool) => format!(", {}", self.condition(1)),
            Some(ty) => {
                let given: Vec<String> = self
                    .scope
                    .iter()
                    .filter(|var| var.ty == ty || ty == Ty::Any && matches!(var.ty, Ty::Ref(_)))
                    .map(|var| var.path.clone())
                    .chain(["none".to_owned(), "old_boat".to_owned()])
                    .collect();
                format!(", {}", self.dice().pick(&given))
            }
        };
        format!("{}({value}{more})", procedure.name)
    }

    fn ask(&mut self, text: &mut String) {
        let asked = if self.dice().one_in(3) { format!("{{{}}} left?", self.token()) } else { "Which way?".to_owned() };
        self.line(text, &format!("ask \"{asked}\" {{"));
        self.depth += 1;
        let when = if self.dice().one_in(2) { format!(" when {}", self.condition(1)) } else { String::new() };
        let out = if self.dice().one_in(3) { format!("Out by {{{}}}", self.token()) } else { "Out".to_owned() };
        self.inner(text, &format!("choice \"{out}\"{when}"), 1);
        self.inner(text, "choice \"Home\"", 1);
        self.depth -= 1;
        self.line(text, "}");
    }

    fn spawn(&mut self, text: &mut String) {
        if self.loops > 1 || self.depth > 3 {
            return;
        }
        let name = self.writer.fresh('n');
        let actor = if self.dice().one_in(5) { "mailboat" } else { "parcel" };
        self.line(text, &format!("spawn {actor} as {name}"));
        let var = self.local(&name, Ty::Ref(actor));
        self.scope.push(var);
        self.members(&name, actor);
        if actor == "parcel" && self.dice().one_in(2) {
            self.line(text, &format!("send handed({name})"));
        }
    }

    fn remove(&mut self, text: &mut String) {
        let fit: Vec<Var> =
            self.scope.iter().filter(|var| var.scope == "local" && matches!(var.ty, Ty::Ref(_))).cloned().collect();
        if !fit.is_empty() {
            let var = self.dice().pick(&fit).clone();
            self.line(text, &format!("if {0} is not none {{ remove {0} }}", var.path));
        } else if self.owner == "parcel" || self.owner == "mailboat" && self.dice().one_in(4) {
            self.line(text, "remove self");
        }
    }

    fn clear(&mut self, text: &mut String) {
        let fit: Vec<Var> = self
            .scope
            .iter()
            .filter(|var| var.scope != "local" && !var.constant && !var.path.starts_with("old"))
            .cloned()
            .collect();
        // What has a default is rarely cleared: not much else would be seen then.
        let fit: Vec<Var> = fit.into_iter().filter(|var| !var.has_default || self.dice().one_in(12)).collect();
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
}
