//! Actors that refer to one another, questions, modes.

use crate::{Dice, EACH};
use std::fmt::{self, Write as _};

/// An actor with counts, a mode and a friend.
pub fn registry(text: &mut String, owner: usize) {
    let _ = writeln!(text, "[owners.owner{owner}]\nkind = \"actor\"\ncount = \"many\"\n");
    let _ = writeln!(text, "[instances.first{owner}]\nof = \"owner{owner}\"\n");
    let _ = writeln!(text, "[instances.second{owner}]\nof = \"owner{owner}\"\n");
    let _ = writeln!(
        text,
        "[variables.owner{owner}.friend{owner}]\ntype = \"ref\"\nof = \"owner{owner}\"\nscope = \"instance\"\n"
    );
    let _ = writeln!(
        text,
        "[variables.owner{owner}.mode{owner}]\ntype = \"enum\"\nvalues = [\"calm\", \"busy\", \"late\"]\ndefault = \"calm\"\nscope = \"instance\"\n"
    );
    for at in 2..EACH {
        let _ = writeln!(
            text,
            "[variables.owner{owner}.value{owner}_{at}]\ntype = \"int\"\nscope = \"instance\"\ndefault = 3\nmin = 0\nmax = 12\n"
        );
    }
}

/// Something about a friend, all friends, the mode, or what the player says.
pub fn piece(text: &mut String, owner: usize, careless: bool, dice: &mut Dice) -> fmt::Result {
    let (count, friend, mode) =
        (format!("value{owner}_{}", 2 + dice.below(EACH - 2)), format!("friend{owner}"), format!("mode{owner}"));
    match dice.below(6) {
        _ if careless => writeln!(text, "    {friend}.{count} -= amount"),
        0 => writeln!(
            text,
            "    if {friend} is not none and {friend}.{count} > 0 {{\n        {friend}.{count} -= 1\n        {count} = min({count} + 1, 12)\n    }}"
        ),
        1 => writeln!(
            text,
            "    for other in owner{owner} where other.{count} > 2 {{\n        other.{count} -= 2\n        {friend} = other\n    }}"
        ),
        2 => writeln!(
            text,
            "    match {mode} {{\n        \"calm\" {{\n            {mode} = \"busy\"\n        }}\n        \"busy\" {{\n            {mode} = \"late\"\n        }}\n        \"late\" {{\n            {mode} = \"calm\"\n            {count} = 0\n        }}\n    }}"
        ),
        3 => writeln!(
            text,
            "    ask \"What now?\" {{\n        choice \"More\" when {count} < 12 {{\n            {count} = min({count} + amount, 12)\n        }}\n        choice \"Nothing\" {{\n            note \"nothing\"\n        }}\n    }}"
        ),
        4 => writeln!(text, "    if {mode} == \"late\" and {count} >= amount {{\n        {count} -= amount\n    }}"),
        _ => writeln!(text, "    while {count} > 6 {{\n        {count} -= 3\n    }}"),
    }
}
