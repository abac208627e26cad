//! Numbers and conditions.

use super::body::Body;
use super::*;

impl Body<'_> {
    pub(super) fn readable(&mut self, ty: Ty) -> Option<Var> {
        let all_set = !self.slip();
        let fit: Vec<Var> =
            self.scope.iter().filter(|var| var.ty == ty && (var.has_default || !all_set)).cloned().collect();
        (!fit.is_empty()).then(|| self.dice().pick(&fit).clone())
    }

    pub(super) fn int(&mut self, depth: usize) -> String {
        if depth == 0 || self.dice().one_in(3) {
            return match self.readable(Ty::Int) {
                Some(var) if !self.dice().one_in(3) => var.path,
                _ => self.dice().between(-2, 9).to_string(),
            };
        }
        let a = self.int(depth - 1);
        let b = self.int(depth - 1);
        match self.dice().below(19) {
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
                let cut = *self.dice().pick(&["floor", "ceil", "round"]);
                format!("{cut}({c})")
            }
            13 => format!("count({})", self.dice().pick(&ACTORS)),
            14 => match self.readable(Ty::Text) {
                Some(var) => format!("length({})", var.path),
                None => a,
            },
            15 => format!("-({a})"),
            16 if self.slip() => format!("({a}) % ({b})"),
            17 => format!("({a}) * ({b})"),
            _ => self.given(Ty::Int, &a).unwrap_or(a),
        }
    }

    pub(super) fn number(&mut self, depth: usize) -> String {
        if depth == 0 || self.dice().one_in(3) {
            return match self.readable(Ty::Number) {
                Some(var) if !self.dice().one_in(3) => var.path,
                _ => format!("{}.5", self.dice().between(0, 6)),
            };
        }
        let (a, b) = (self.number(depth - 1), self.int(depth - 1));
        match self.dice().below(9) {
            0 => format!("{a} + {b}"),
            1 => format!("{a} * 0.5"),
            2 => format!("max({a}, {b})"),
            3 => format!("({b}) / {}", self.dice().between(2, 4)),
            4 => format!("({a}) / max({b}, 1)"),
            5 => match self.readable(Ty::Vec2) {
                Some(var) => format!("{}.{}", var.path, self.dice().pick(&["x", "y"])),
                None => a,
            },
            6 => match self.readable(Ty::Text) {
                Some(var) => format!("number({})", var.path),
                None => "tick_length()".to_owned(),
            },
            _ if self.slip() => format!("({a}) / ({b})"),
            _ => a,
        }
    }

    pub(super) fn condition(&mut self, depth: usize) -> String {
        if depth > 1 && self.dice().one_in(3) {
            let (a, b) = (self.condition(depth - 1), self.condition(depth - 1));
            let word = if self.dice().one_in(2) { "and" } else { "or" };
            return format!("({a}) {word} ({b})");
        }
        match self.dice().below(14) {
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
            9 => self.same(),
            11 => {
                let value = self.int(0);
                self.given(Ty::Bool, &value).unwrap_or_else(|| "chance(0.4)".to_owned())
            }
            10 => match self.readable(Ty::Text) {
                Some(var) => format!("{} == \"Brill\"", var.path),
                None => "scene is marsh".to_owned(),
            },
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

    /// Whether two things of one kind are the same, or a name holds anything.
    fn same(&mut self) -> String {
        let fit: Vec<Var> = self.scope.iter().filter(|var| matches!(var.ty, Ty::Ref(_) | Ty::Any)).cloned().collect();
        if fit.is_empty() {
            return "chance(0.5)".to_owned();
        }
        let var = self.dice().pick(&fit).clone();
        let x = &var.path;
        let sign = *self.dice().pick(&["==", "!="]);
        let alike = |other: &&Var| var.ty != Ty::Any && other.ty == var.ty && other.path != *x;
        let others: Vec<&Var> = fit.iter().filter(alike).collect();
        match self.dice().below(4) {
            0 if var.ty == Ty::Ref(self.owner) => format!("{x} {sign} self"),
            1 if !others.is_empty() => format!("{x} {sign} {}", self.dice().pick(&others).path),
            2 => format!("{x} is {}", self.dice().pick(&ACTORS[..2])),
            _ => format!("{x} is {}none", self.dice().pick(&["", "not "])),
        }
    }
}
