//! What the scripts of a project do: one module for each shape, with its entries and its pieces of a handler.

mod hot;
mod instances;
mod procedures;
mod references;
mod signals;
mod worlds;

use super::{Dice, EACH};
use std::fmt::Write as _;

/// What the scripts of a project do.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, clap::ValueEnum)]
pub enum Shape {
    /// Small worlds that count, guard, wait and show.
    #[default]
    Worlds,
    /// Steps and tests in procedures that call one another.
    Procedures,
    /// A few variables that everyone steps and asks for.
    Hot,
    /// Signals that set off signals, changes that are listened to, labels.
    Signals,
    /// Actors that refer to one another, questions, modes.
    References,
    /// Many listed instances with starting values, and invariants.
    Instances,
    /// All of these, owner by owner.
    Mixed,
}

/// The shapes that a mixed project is made of.
const PLAIN: [Shape; 6] =
    [Shape::Worlds, Shape::Procedures, Shape::Hot, Shape::Signals, Shape::References, Shape::Instances];

impl Shape {
    /// The shape that one owner of such a project has.
    pub(crate) fn of(self, owner: usize) -> Self {
        if self == Self::Mixed { PLAIN[owner % PLAIN.len()] } else { self }
    }

    /// The entries of one owner.
    pub(crate) fn registry(self, text: &mut String, owner: usize, dice: &mut Dice) {
        match self {
            Self::Worlds | Self::Mixed => worlds::registry(text, owner, dice),
            Self::Procedures => procedures::registry(text, owner),
            Self::Hot => hot::registry(text, owner),
            Self::Signals => signals::registry(text, owner),
            Self::References => references::registry(text, owner),
            Self::Instances => instances::registry(text, owner, dice),
        }
    }

    /// A script of one owner, of so many lines, about.
    pub(crate) fn script(self, at: usize, owner: usize, lines: usize, mistakes: f64, dice: &mut Dice) -> String {
        let mut text = format!("// What owner{owner} does, part {at}.\nscript part{at} for owner{owner}\n\n");
        let _ = match self {
            Self::Worlds | Self::Mixed => worlds::head(&mut text),
            Self::Procedures => procedures::head(&mut text, owner),
            Self::Signals => signals::head(&mut text, owner),
            Self::Hot | Self::References | Self::Instances => Ok(()),
        };
        let mut written = text.matches('\n').count();
        while written < lines {
            let from = text.len();
            self.handler(&mut text, owner, mistakes, dice);
            written += text[from..].matches('\n').count();
        }
        text
    }

    fn handler(self, text: &mut String, owner: usize, mistakes: f64, dice: &mut Dice) {
        let mut careless = |dice: &mut Dice| mistakes > 0.0 && dice.below(1000) as f64 <= mistakes * 1000.0;
        if matches!(self, Self::Worlds | Self::Mixed) {
            return worlds::handler(text, owner, &mut careless, dice);
        }
        let _ = writeln!(text, "// Something happens.\non engine{}(amount) {{", dice.below(super::SIGNALS));
        for _ in 0..3 + dice.below(3) {
            let careless = careless(dice);
            let _ = match self {
                Self::Procedures => procedures::piece(text, owner, careless, dice),
                Self::Hot => hot::piece(text, owner, careless, dice),
                Self::Signals => signals::piece(text, owner, careless, dice),
                Self::References => references::piece(text, owner, careless, dice),
                _ => instances::piece(text, owner, careless, dice),
            };
        }
        text.push_str("}\n\n");
    }
}

/// The entries of counts that a system has, from a number up to another.
fn counts(text: &mut String, owner: usize, range: impl Fn(usize) -> (usize, usize)) {
    let _ = writeln!(text, "[owners.owner{owner}]\nkind = \"system\"\n");
    for at in 0..EACH {
        let (default, most) = range(at);
        let _ = writeln!(
            text,
            "[variables.owner{owner}.value{owner}_{at}]\ntype = \"int\"\nscope = \"global\"\ndefault = {default}\nmin = 0\nmax = {most}\n"
        );
    }
}
