//! Many listed instances with starting values, and invariants.

use crate::{Dice, EACH};
use std::fmt::{self, Write as _};

/// An actor with five counts up to bounds of their own, one invariant, and three instances for each count.
pub fn registry(text: &mut String, owner: usize, dice: &mut Dice) {
    let _ = writeln!(text, "[owners.owner{owner}]\nkind = \"actor\"\ncount = \"many\"\n");
    for at in 0..EACH / 4 {
        let _ = writeln!(
            text,
            "[variables.owner{owner}.size{owner}_{at}]\ntype = \"int\"\nscope = \"instance\"\ndefault = 20\nconstant = true\n"
        );
        for name in ["value", "spare"] {
            let _ = writeln!(
                text,
                "[variables.owner{owner}.{name}{owner}_{at}]\ntype = \"int\"\nscope = \"instance\"\ndefault = 0\nmin = 0\nmax = \"owner{owner}.size{owner}_{at}\"\n"
            );
        }
        let _ = writeln!(
            text,
            "[variables.owner{owner}.open{owner}_{at}]\ntype = \"bool\"\nscope = \"instance\"\ndefault = false\n"
        );
    }
    let _ = writeln!(
        text,
        "[invariants.rule{owner}]\nholds = \"owner{owner}.open{owner}_0 implies owner{owner}.value{owner}_0 > 0\"\n"
    );
    for at in 0..EACH / 4 * 3 {
        let _ = writeln!(
            text,
            "[instances.thing{owner}_{at}]\nof = \"owner{owner}\"\nstart = {{ size{owner}_{} = {} }}\n",
            at % 5,
            15 + dice.below(20)
        );
    }
}

/// A step up to the instance's own bound, or what keeps the invariant.
pub fn piece(text: &mut String, owner: usize, careless: bool, dice: &mut Dice) -> fmt::Result {
    let part = dice.below(EACH / 4);
    let name = |name: &str| format!("{name}{owner}_{part}");
    let (value, spare, size, open) = (name("value"), name("spare"), name("size"), name("open"));
    match dice.below(4) {
        _ if careless => writeln!(text, "    {value} += amount"),
        0 => writeln!(
            text,
            "    if {value} < {size} {{\n        {value} += 1\n    }} else {{\n        note \"full\"\n    }}"
        ),
        1 => writeln!(text, "    {spare} = min({spare} + amount, {size})"),
        2 => writeln!(
            text,
            "    if {value} > 0 {{\n        {open} = true\n    }} else {{\n        {open} = false\n    }}"
        ),
        _ => writeln!(text, "    if not {open} and {spare} >= amount {{\n        {spare} -= amount\n    }}"),
    }
}
