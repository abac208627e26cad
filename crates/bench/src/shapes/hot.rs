//! A few variables that everyone steps and asks for.

use crate::{Dice, EACH};
use std::fmt::{self, Write as _};

/// A system whose counts anyone may write. Those of few owners are for all: see [`hub`].
pub fn registry(text: &mut String, owner: usize) {
    let _ = writeln!(text, "[owners.owner{owner}]\nkind = \"system\"\n");
    for at in 0..EACH {
        let writers = if owner == hub(owner) { "writers = [\"*\"]\n" } else { "" };
        let _ = writeln!(
            text,
            "[variables.owner{owner}.value{owner}_{at}]\ntype = \"int\"\nscope = \"global\"\ndefault = 0\nmin = 0\nmax = {}\n{writers}",
            30 + at * 10
        );
    }
}

/// The owner whose variables this one steps: of each three hundred one for every sixth, since in a mixed project every sixth owner is of this
/// shape.
fn hub(owner: usize) -> usize {
    owner / 300 * 300 + owner % 6
}

/// A step or a test of a hot variable, beside one of the owner's.
pub fn piece(text: &mut String, owner: usize, careless: bool, dice: &mut Dice) -> fmt::Result {
    let hub = hub(owner);
    let (hot, own) =
        (format!("owner{hub}.value{hub}_{}", dice.below(EACH)), format!("value{owner}_{}", dice.below(EACH)));
    match dice.below(5) {
        _ if careless => writeln!(text, "    {hot} += amount"),
        0 => writeln!(text, "    if {hot} < {hot}.max {{\n        {hot} += 1\n    }}"),
        1 => writeln!(text, "    {hot} = max({hot} - amount, 0)"),
        2 => writeln!(text, "    if {hot} == {} {{\n        note \"there\"\n        {own} = 0\n    }}", dice.below(30)),
        3 => writeln!(
            text,
            "    if {own} + amount <= {own}.max and {hot} > {} {{\n        {own} += amount\n    }}",
            dice.below(20)
        ),
        _ => writeln!(
            text,
            "    if {own} > amount {{\n        {own} -= amount\n        {hot} = min({hot} + amount, {hot}.max)\n    }}"
        ),
    }
}
