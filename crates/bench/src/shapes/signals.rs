//! Signals that set off signals, changes that are listened to, labels.

use crate::{Dice, EACH, SIGNALS};
use std::fmt::{self, Write as _};

/// A system with counts up to 20.
pub fn registry(text: &mut String, owner: usize) {
    let _ = writeln!(text, "[signals.turn{owner}]\nfrom = \"script\"\nparameters = {{ step = \"int\" }}\n");
    super::counts(text, owner, |_| (0, 20));
}

/// Who answers the owner's own signal and what changes.
pub fn head(text: &mut String, owner: usize) -> fmt::Result {
    writeln!(text, "private round: int = 0\n")?;
    writeln!(
        text,
        "on turn{owner}(step) {{\n    round = min(round + max(step, 1), 20)\n    if round == 20 {{\n        round = 0\n        send word{}\n    }}\n}}\n",
        owner % SIGNALS
    )?;
    for at in 0..EACH / 4 {
        writeln!(
            text,
            "on changed value{owner}_{} {{\n    show board{owner}_{at} \"{{value{owner}_{}}}\"\n}}\n",
            at * 4,
            at * 4
        )?;
    }
    Ok(())
}

/// A send, a block that is put off, a label.
pub fn piece(text: &mut String, owner: usize, careless: bool, dice: &mut Dice) -> fmt::Result {
    let count = format!("value{owner}_{}", dice.below(EACH));
    match dice.below(5) {
        _ if careless => writeln!(text, "    {count} += amount"),
        0 => writeln!(text, "    if amount > 1 {{\n        send turn{owner}(amount)\n    }}"),
        1 => {
            writeln!(text, "    {count} = min({count} + amount, {count}.max)\n    show line{owner} \"{{{count}}} now\"")
        }
        2 => writeln!(text, "    after 2s {{\n        if {count} > 0 {{\n            {count} -= 1\n        }}\n    }}"),
        3 => {
            writeln!(text, "    if {count} == {count}.max {{\n        send turn{owner}(1)\n        {count} = 0\n    }}")
        }
        _ => {
            writeln!(text, "    if {count} < 19 {{\n        {count} += 2\n    }} else {{\n        {count} = 10\n    }}")
        }
    }
}
