//! Steps and tests in procedures that call one another.

use crate::{Dice, EACH};
use std::fmt::{self, Write as _};

/// A system with counts up to 50.
pub fn registry(text: &mut String, owner: usize) {
    super::counts(text, owner, |at| (at, 50));
}

/// For each four variables the procedures that give, take, ask, and trade one for the other.
pub fn head(text: &mut String, owner: usize) -> fmt::Result {
    for part in 0..EACH / 4 {
        let (coins, goods) = (format!("value{owner}_{}", part * 4), format!("value{owner}_{}", part * 4 + 1));
        writeln!(text, "proc can_pay{part}(price: int) -> bool {{\n    return {coins} >= price\n}}\n")?;
        writeln!(text, "proc pay{part}(price: int) {{\n    {coins} = max({coins} - price, 0)\n}}\n")?;
        writeln!(
            text,
            "proc room{part}() -> int {{\n    if {goods} > 45 {{\n        return 0\n    }}\n    return 50 - {goods}\n}}\n"
        )?;
        writeln!(
            text,
            "proc trade{part}(price: int) {{\n    if can_pay{part}(price) and room{part}() > 0 {{\n        pay{part}(price)\n        {goods} += 1\n    }}\n}}\n"
        )?;
    }
    Ok(())
}

/// A call, or a step with a test before it.
pub fn piece(text: &mut String, owner: usize, careless: bool, dice: &mut Dice) -> fmt::Result {
    let part = dice.below(EACH / 4);
    let (goods, rest) = (format!("value{owner}_{}", part * 4 + 1), format!("value{owner}_{}", part * 4 + 2));
    match dice.below(5) {
        _ if careless => writeln!(text, "    {goods} += amount"),
        0 => writeln!(text, "    trade{part}(amount)"),
        1 => writeln!(
            text,
            "    if can_pay{part}(amount + {}) {{\n        trade{part}(amount)\n        trade{part}(2)\n    }}",
            dice.below(9)
        ),
        2 => {
            writeln!(text, "    {rest} += min(amount, 50 - {rest})\n    if {rest} == 50 {{\n        {rest} = 0\n    }}")
        }
        3 => writeln!(text, "    if {goods} >= amount {{\n        {goods} -= amount\n        pay{part}(1)\n    }}"),
        _ => writeln!(
            text,
            "    let room{part} = room{part}()\n    if room{part} >= amount {{\n        {goods} += amount\n    }} else {{\n        note \"full\"\n    }}"
        ),
    }
}
