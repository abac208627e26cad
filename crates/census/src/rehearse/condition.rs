//! Judging what a rehearsal expects: a condition, the values that it reads, and what keeps it from having an answer.

use super::activation::Activation;
use super::fault::{EMPTY_REF, OTHER_KIND, OTHER_SCENE, UNSET, ZERO};
use super::layout::InstanceAt;
use super::machine::{Machine, Observer};
use super::value_text;
use crate::flow::access::walk_expr;
use crate::project::builtin::Builtin;
use crate::project::expression::Condition;
use crate::project::{CellId, Meaning, Place};
use crate::script::ast::ExprId;

/// Something that a condition reads.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Read {
    /// As the condition names it.
    pub name: String,
    /// What it is now.
    pub value: String,
    /// The cell, and whose it is, where it is one.
    pub cell: Option<(CellId, Option<InstanceAt>)>,
}

impl<'p, O: Observer> Machine<'_, 'p, O> {
    /// Whether a condition holds now.
    ///
    /// # Errors
    /// Why it has no answer, in plain words: it reads what is unset, or goes through *none*.
    pub fn holds_now(&mut self, condition: &'p Condition) -> Result<bool, String> {
        self.unanswered = None;
        let silent = std::mem::replace(&mut self.silent, true);
        let value = self.eval(&mut Activation::onlooker(None), &condition.unit, condition.root);
        self.silent = silent;
        let Some((rule, span)) = self.unanswered.take() else { return Ok(value.is_true()) };
        let text = condition.text.get(span.range()).unwrap_or("it");
        Err(match rule {
            UNSET => format!("`{text}` is unset"),
            EMPTY_REF => format!("`{text}` leads through none: that instance is not there"),
            OTHER_SCENE => format!("`{text}` belongs to a scene that is not loaded"),
            OTHER_KIND => format!("`{text}` is taken from an instance of another actor"),
            ZERO => format!("`{text}` is 0, and something is divided by it"),
            _ => format!("`{text}` has no value"),
        })
    }

    /// What a condition reads, in the order in which it names it, each thing once.
    pub fn reads_of(&mut self, condition: &'p Condition) -> Vec<Read> {
        let unit = &condition.unit;
        let mut named: Vec<ExprId> = Vec::new();
        walk_expr(unit, condition.root, &mut |expr| {
            let told = matches!(
                unit.meaning(expr),
                Meaning::Value(_)
                    | Meaning::Axis(..)
                    | Meaning::Bound(..)
                    | Meaning::Builtin(Builtin::Shown | Builtin::Count)
            );
            if told {
                named.push(expr);
            }
        });
        named.sort_by_key(|&expr| unit.tree.expr(expr).span.start);
        let silent = std::mem::replace(&mut self.silent, true);
        let mut reads: Vec<Read> = Vec::new();
        for expr in named {
            let read = self.read_of(condition, expr);
            if !reads.iter().any(|known| known.name == read.name) {
                reads.push(read);
            }
        }
        self.silent = silent;
        self.unanswered = None;
        reads
    }

    fn read_of(&mut self, condition: &'p Condition, expr: ExprId) -> Read {
        let unit = &condition.unit;
        let name = condition.text.get(unit.tree.expr(expr).span.range()).unwrap_or("").to_owned();
        let mut onlooker = Activation::onlooker(None);
        let place = unit.place_of(expr).filter(|&place| matches!(unit.place(place), Place::Variable(..)));
        let cell = place.and_then(|place| self.locate(&mut onlooker, unit, place, expr));
        self.unanswered = None;
        let value = self.eval(&mut onlooker, unit, expr);
        let value = if self.unanswered.take().is_some() { None } else { Some(value) };
        Read { name, value: value_text(&self.memory, value.as_ref()), cell }
    }
}
