//! Small worlds: an actor or a system that counts, guards, waits and shows.

use crate::{Dice, EACH, SIGNALS};
use std::fmt::{self, Write as _};

fn is_actor(owner: usize) -> bool {
    owner.is_multiple_of(2)
}

/// Actors and systems in turn, with constants, counts up to them, levels and flags.
pub fn registry(text: &mut String, owner: usize, dice: &mut Dice) {
    let (kind, scope) = if is_actor(owner) { ("actor\"\ncount = \"many", "instance") } else { ("system", "global") };
    let _ = writeln!(text, "[owners.owner{owner}]\nkind = \"{kind}\"\n");
    if is_actor(owner) {
        let _ = writeln!(text, "[instances.first{owner}]\nof = \"owner{owner}\"\n");
    }
    for at in 0..EACH {
        let _ = writeln!(text, "[variables.owner{owner}.value{owner}_{at}]\nscope = \"{scope}\"");
        let entry = match at % 5 {
            0 => format!("type = \"int\"\ndefault = {}\nconstant = true", 10 + dice.below(30)),
            1 | 2 => {
                format!("type = \"int\"\ndefault = 0\nmin = 0\nmax = \"owner{owner}.value{owner}_{}\"", at - at % 5)
            }
            3 => "type = \"number\"\ndefault = 1.5\nmin = 0\nmax = 100".to_owned(),
            _ => "type = \"bool\"\ndefault = false".to_owned(),
        };
        let _ = writeln!(text, "{entry}\nabout = \"Something that play moves\"\n");
    }
}

/// What each script has for itself.
pub fn head(text: &mut String) -> fmt::Result {
    writeln!(text, "private busy: bool = false\nprivate rounds: int = 0\n")
}

/// A handler that keeps itself out while it waits.
pub fn handler(text: &mut String, owner: usize, careless: &mut impl FnMut(&mut Dice) -> bool, dice: &mut Dice) {
    let _ = writeln!(text, "// Something happens.\non engine{}(amount) when not busy {{", dice.below(SIGNALS));
    let _ = writeln!(text, "    busy = true");
    for _ in 0..3 + dice.below(3) {
        piece(text, owner, careless, dice);
    }
    let _ = writeln!(
        text,
        "    wait 0.5s\n    rounds = min(rounds + 1, 9)\n    if rounds == 9 {{\n        rounds = 0\n    }}\n    busy = false\n}}\n"
    );
}

fn piece(text: &mut String, owner: usize, careless: &mut impl FnMut(&mut Dice) -> bool, dice: &mut Dice) {
    let group = dice.below(EACH / 5) * 5;
    let name = |at: usize| format!("value{owner}_{}", group + at);
    let (cap, count, other, oil, flag) = (name(0), name(1), name(2), name(3), name(4));
    let careless = careless(dice);
    let _ = match dice.below(6) {
        _ if careless => writeln!(text, "    {count} += amount"),
        0 => writeln!(
            text,
            "    if {count} < {cap} {{\n        {count} += 1\n        show board{owner} \"{{{count}}} of {{{cap}}}\"\n    }} else {{\n        note \"full\"\n    }}"
        ),
        1 => writeln!(
            text,
            "    {other} = clamp({other} + amount, 0, {cap})\n    if {other} == {cap} and not {flag} {{\n        {flag} = true\n        send word{}\n    }}",
            dice.below(SIGNALS)
        ),
        2 => writeln!(
            text,
            "    let room{group} = {cap} - {count}\n    {count} += min(amount, room{group})\n    if {count} > {other} {{\n        note \"{{{count}}} and {{{other}}}\"\n    }}"
        ),
        3 => writeln!(
            text,
            "    if {oil} >= amount {{\n        {oil} -= amount\n    }} else {{\n        {oil} = 0\n        {flag} = false\n    }}"
        ),
        4 => writeln!(
            text,
            "    match amount {{\n        0 {{\n            {flag} = false\n        }}\n        1, 2 {{\n            {oil} = min({oil} + 0.5, 100)\n        }}\n        else {{\n            {count} = max({count} - amount, 0)\n        }}\n    }}"
        ),
        _ => writeln!(
            text,
            "    repeat amount {{\n        if {count} > 0 {{\n            {count} -= 1\n        }}\n    }}"
        ),
    };
}
