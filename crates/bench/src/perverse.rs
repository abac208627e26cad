//! Projects that nobody would write, of about ten thousand lines each.

use super::{Dice, File, config};
use std::fmt::Write as _;

/// A kind of them: its name, and what makes it.
pub type Kind = (&'static str, fn() -> Vec<File>);

/// All kinds.
pub const KINDS: [Kind; 30] = [
    ("deep branching", deep_branching),
    ("many variables in one handler", many_variables),
    ("procedures calling each other", procedures),
    ("a long chain of changes", changes),
    ("long handlers with many writes", many_writes),
    ("many ways that meet", many_ways),
    ("one long expression after another", long_expressions),
    ("many labels", labels),
    ("a web of changes without a circle", web),
    ("many names of one kind", spawned),
    ("one bound of many variables", one_bound),
    ("a waiver for each step", waivers),
    ("all wait for one thing", lenders),
    ("one block put off by another", put_off),
    ("ways out of long loops", ways_out),
    ("bounds that move", moving_bounds),
    ("a flag for each countdown", countdowns),
    ("loops in loops", loops_in_loops),
    ("one text after another", texts),
    ("many tokens", tokens),
    ("many invariants", invariants),
    ("a chain of bounds", chained_bounds),
    ("one tangled handler", one_tangled_handler),
    ("tangles with waits", tangles_with_waits),
    ("procedures that turn flags", turning_procedures),
    ("one variable that all write", shared_by_all),
    ("one number after another", numbers_asked_for),
    ("labels behind signals", labels_behind_signals),
    ("loops in procedures", loops_in_procedures),
    ("trees of procedures", trees_of_procedures),
];

fn files(registry: String, script: String) -> Vec<File> {
    vec![
        ("oaken.toml".to_owned(), config("Perverse")),
        ("registry/all.toml".to_owned(), registry),
        ("scripts/all.oaken".to_owned(), script),
    ]
}

fn world(variables: usize, entry: &str) -> String {
    let mut text = "[owners.tide]\nkind = \"system\"\n[signals.bell]\nfrom = \"engine\"\nparameters = { amount = { type = \"int\", min = 0, max = 9 } }\n".to_owned();
    for at in 0..variables {
        let _ = writeln!(text, "[variables.tide.v{at}]\ntype = \"int\"\nscope = \"global\"\ndefault = 0\n{entry}");
    }
    text
}

fn deep_branching() -> Vec<File> {
    let mut script = "script all for tide\n\n".to_owned();
    for _ in 0..27 {
        script.push_str("on bell(amount) {\n");
        for depth in 0..180 {
            let _ = writeln!(script, "if v{} < amount + {depth} {{\nv{} += 1", depth % 40, (depth + 1) % 40);
        }
        script.push_str(&"}\n".repeat(180));
        script.push_str("}\n");
    }
    files(world(40, "min = 0\nmax = 50"), script)
}

fn many_variables() -> Vec<File> {
    let mut script = "script all for tide\n\non bell(amount) {\n".to_owned();
    for at in 0..5000 {
        let _ = writeln!(script, "v{at} += amount\nif v{at} > v{} {{ v{at} = 0 }}", (at + 1) % 5000);
    }
    script.push_str("}\n");
    files(world(5000, "min = 0\nmax = 50"), script)
}

fn procedures() -> Vec<File> {
    let mut script = "script all for tide\n\non bell(amount) {\n    p0(amount)\n}\n".to_owned();
    for at in 0..1600 {
        let _ = writeln!(
            script,
            "proc p{at}(n: int) {{\n    if n < v{} {{\n        p{}(n + 1)\n        p{}(n)\n    }}\n    v{} = min(n, 50)\n}}",
            at % 50,
            (at + 1) % 1600,
            (at * 7 + 3) % 1600,
            at % 50
        );
    }
    files(world(50, "max = 50"), script)
}

fn changes() -> Vec<File> {
    let mut script = "script all for tide\n\non bell(amount) {\n    v0 += amount\n}\n".to_owned();
    for at in 0..3300 {
        let _ = writeln!(script, "on changed v{at} {{\n    v{} = v{at} + 1\n}}", at + 1);
    }
    files(world(3301, ""), script)
}

fn many_writes() -> Vec<File> {
    let mut script = "script all for tide\n\n".to_owned();
    for _ in 0..10 {
        script.push_str("on bell(amount) {\n");
        for at in 0..1000 {
            let _ = writeln!(script, "v{} += v{} - amount", at % 30, (at * 7 + 1) % 30);
        }
        script.push_str("}\n");
    }
    files(world(30, "min = 0\nmax = 50"), script)
}

fn many_ways() -> Vec<File> {
    let mut script = "script all for tide\n\n".to_owned();
    for _ in 0..10 {
        script.push_str("on bell(amount) {\n    while v0 < amount {\n");
        for at in 0..330 {
            let _ = writeln!(
                script,
                "if v{} > v{} {{ v{} += 1 }} else {{ v{} -= 1 }}\nwhile v{} < 3 {{\n    v{} += 1\n}}",
                at % 20,
                (at + 3) % 20,
                (at + 5) % 20,
                (at + 7) % 20,
                at % 20,
                at % 20
            );
        }
        script.push_str("}\n}\n");
    }
    files(world(20, "min = 0\nmax = 50"), script)
}

fn long_expressions() -> Vec<File> {
    let mut script = "script all for tide\n\n".to_owned();
    for _ in 0..100 {
        script.push_str("on bell(amount) {\n");
        for at in 0..98 {
            let sum: Vec<String> = (0..60).map(|part| format!("v{}", (at + part) % 100)).collect();
            let _ = writeln!(script, "v{} = min(max({}, 0), 50)", at % 100, sum.join(" + "));
        }
        script.push_str("}\n");
    }
    files(world(100, "min = 0\nmax = 50"), script)
}

fn labels() -> Vec<File> {
    let mut script = "script all for tide\n\non bell(amount) {\n".to_owned();
    for at in 0..9990_u32 {
        let name: String = (0..5).map(|place| char::from(b'a' + (at / 9_u32.pow(place) % 9) as u8 * 2)).collect();
        let _ = writeln!(script, "    show {name} \"{{v0}}\"");
    }
    script.push_str("}\n");
    files(world(1, ""), script)
}

fn web() -> Vec<File> {
    let mut script = "script all for tide\n\n".to_owned();
    for from in 0..135 {
        let _ = writeln!(script, "on changed v{from} {{");
        for to in from + 1..135 {
            let _ = writeln!(script, "    v{to} += 1");
        }
        script.push_str("}\n");
    }
    files(world(135, ""), script)
}

fn spawned() -> Vec<File> {
    let mut script = "script all for tide\n\non bell(amount) {\n".to_owned();
    for at in 0..5000 {
        let _ = writeln!(script, "    spawn boat as b{at}\n    b{at}.cargo = 3");
    }
    script.push_str("}\n");
    let boat = "[owners.boat]\nkind = \"actor\"\n[variables.boat.cargo]\ntype = \"int\"\nscope = \"instance\"\ndefault = 0\nmax = 9\n";
    files(world(1, "") + boat, script)
}

fn one_bound() -> Vec<File> {
    let mut script = "script all for tide\n\non bell(amount) {\n".to_owned();
    for at in 1..5000 {
        let _ = writeln!(script, "    v{at} = amount");
        if at % 10 == 0 {
            script.push_str("    v0 += 1\n");
        }
    }
    script.push_str("}\n");
    files(world(5000, "max = \"tide.v0\"").replacen("max = \"tide.v0\"\n", "", 1), script)
}

fn waivers() -> Vec<File> {
    let mut script = "script all for tide\n\non bell(amount) {\n".to_owned();
    for _ in 0..5000 {
        script.push_str("    // waive range/can-exceed: nobody comes this far\n    v0 = 99\n");
    }
    script.push_str("}\n");
    files(world(1, "max = 9"), script)
}

fn lenders() -> Vec<File> {
    let mut script = "script all for tide\n\n".to_owned();
    for _ in 0..1600 {
        script.push_str("on bell when v0 < 9 {\n    v0 += 1\n    wait 1s\n    v0 -= 1\n}\n\n");
    }
    files(world(1, "min = 0\nmax = 9"), script)
}

fn put_off() -> Vec<File> {
    let mut script = "script all for tide\n\n".to_owned();
    for _ in 0..18 {
        script.push_str("on bell(amount) {\n");
        for at in 0..180 {
            let _ = writeln!(script, "v{} += 1\nafter 1s {{", at % 30);
        }
        script.push_str(&"}\n".repeat(181));
    }
    files(world(30, "min = 0\nmax = 50"), script)
}

fn ways_out() -> Vec<File> {
    let mut script = "script all for tide\n\n".to_owned();
    for _ in 0..8 {
        script.push_str("on bell(amount) {\nwhile true {\n");
        for at in 0..390 {
            let (one, other) = (at % 30, (at * 3 + 1) % 30);
            let _ = writeln!(script, "if v{one} > v{other} {{ break }}");
            let _ = writeln!(script, "if v{one} == {} {{ return }}\nv{one} += 1", at % 50);
        }
        script.push_str("}\n}\n");
    }
    files(world(30, "min = 0\nmax = 50"), script)
}

fn moving_bounds() -> Vec<File> {
    let mut registry = world(10, "min = 0\nmax = 50");
    for at in 0..300 {
        let _ = writeln!(registry, "[variables.tide.w{at}]\ntype = \"int\"\nscope = \"global\"\ndefault = 0\nmin = 0");
        let _ = writeln!(registry, "max = \"tide.v{}\"", at % 10);
    }
    let mut script = "script all for tide\n\n".to_owned();
    for _ in 0..10 {
        script.push_str("on bell(amount) {\n");
        for at in 0..490 {
            let (bound, within) = (at % 10, at % 300);
            let _ = writeln!(script, "v{bound} = v{bound} + 1\nif w{within} < v{bound} {{ w{within} += 1 }}");
        }
        script.push_str("}\n");
    }
    files(registry, script)
}

fn countdowns() -> Vec<File> {
    let mut script = "script all for tide\n\n".to_owned();
    (0..900).for_each(|at| _ = writeln!(script, "private busy_{at}: bool = false"));
    for at in 0..900 {
        let _ = writeln!(script, "on bell {{\n    if busy_{at} {{\n        v{at} -= 1");
        let _ = writeln!(script, "        if v{at} == 0 {{ busy_{at} = false }}\n    }} else {{");
        let _ = writeln!(script, "        v{at} = 10\n        busy_{at} = true\n    }}\n}}\n");
    }
    files(world(900, "min = 0\nmax = 50"), script)
}

fn loops_in_loops() -> Vec<File> {
    let mut script = "script all for tide\n\n".to_owned();
    for from in 0..40 {
        script.push_str("on bell(amount) {\n");
        for depth in from..from + 60 {
            let (one, other) = (depth % 20, (depth + 1) % 20);
            let _ = writeln!(script, "repeat amount {{\nif v{one} < v{other} {{ v{one} += 1 }}\nv{other} = amount");
        }
        script.push_str(&"}\n".repeat(61));
    }
    files(world(20, "min = 0\nmax = 50"), script)
}

fn texts() -> Vec<File> {
    let mut registry = world(5, "");
    let values: Vec<String> = (0..3000).map(|at| format!("\"m{at}\"")).collect();
    let _ = writeln!(
        registry,
        "[variables.tide.mode]\ntype = \"enum\"\nscope = \"global\"\ndefault = \"m0\"\nvalues = [{}]",
        values.join(", ")
    );
    let mut script = "script all for tide\n\non bell {\nmatch mode {\n".to_owned();
    (0..3000).for_each(|at| _ = writeln!(script, "\"m{at}\" {{ mode = \"m{}\" }}", (at + 1) % 3000));
    script.push_str("}\n}\n");
    (0..1500).for_each(|at| _ = writeln!(script, "on bell when mode == \"m{}\" {{\nv1 = 1\n}}\n", at * 2));
    files(registry, script)
}

fn tokens() -> Vec<File> {
    let mut script = "script all for tide\n\non bell {\n".to_owned();
    for at in 0..4900 {
        let tokens: Vec<String> = (0..60).map(|of| format!("{{v{} + v{}}}", of % 20, (of + at) % 20)).collect();
        let _ = writeln!(script, "show label{at} \"{}\"\nv{} = 2", tokens.join(" "), at % 20);
    }
    script.push_str("}\n");
    files(world(20, "min = 0\nmax = 50"), script)
}

fn invariants() -> Vec<File> {
    let mut registry = world(20, "min = 0\nmax = 50");
    for at in 0..3000 {
        let (one, other, most) = (at % 20, (at * 7 + 3) % 20, 60 + at % 40);
        let _ = writeln!(registry, "[invariants.n{at}]\nholds = \"tide.v{one} + tide.v{other} <= {most}\"");
    }
    let mut script = "script all for tide\n\n".to_owned();
    for _ in 0..50 {
        script.push_str("on bell {\n");
        (0..40).for_each(|at| _ = writeln!(script, "if v{0} < 20 {{ v{0} += 1 }}", at % 20));
        script.push_str("}\n");
    }
    files(registry, script)
}

fn chained_bounds() -> Vec<File> {
    let mut registry = world(1, "min = 0\nmax = 50");
    let mut script = "script all for tide\n\n".to_owned();
    for at in 0..1000 {
        let _ = writeln!(registry, "[variables.tide.w{at}]\ntype = \"int\"\nscope = \"global\"\ndefault = 0\nmin = 0");
        let bound = if at == 0 { "v0".to_owned() } else { format!("w{}", at - 1) };
        let _ = writeln!(registry, "max = \"tide.{bound}\"");
        let _ = writeln!(
            script,
            "on bell(amount) {{\nw{at} = min(w{at} + amount, {bound})\nif w{at} > 3 {{ w{at} -= 1 }}\n}}"
        );
    }
    files(registry, script)
}

/// Steps of twenty variables, in ways and loops inside each other.
fn tangle(dice: &mut Dice, depth: usize, most: usize, script: &mut String) {
    for _ in 0..most {
        let (one, other) = (dice.below(20), dice.below(20));
        let _ = match dice.below(if depth > 0 { 8 } else { 4 }) {
            0 => writeln!(script, "v{one} += 1"),
            1 => writeln!(script, "v{one} = v{other}"),
            2 => writeln!(script, "v{one} = max(v{other} - amount, 0)"),
            3 => writeln!(script, "if v{one} < 50 {{ v{one} += 1 }}"),
            4 => writeln!(script, "if v{one} < v{other} {{"),
            5 => writeln!(script, "while v{one} < {other} {{"),
            6 => writeln!(script, "repeat amount {{"),
            _ => writeln!(script, "if v{one} == {other} {{"),
        };
        if script.ends_with("{\n") {
            tangle(dice, depth - 1, most, script);
            script.push_str("}\n");
        }
    }
}

fn one_tangled_handler() -> Vec<File> {
    let mut dice = Dice(7);
    let mut script = "script all for tide\n\non bell(amount) {\n".to_owned();
    (0..55).for_each(|_| tangle(&mut dice, 4, 4, &mut script));
    script.push_str("}\n");
    files(world(20, "min = 0\nmax = 50"), script)
}

fn tangles_with_waits() -> Vec<File> {
    let mut dice = Dice(7);
    let mut script = "script all for tide\n\n".to_owned();
    for _ in 0..100 {
        script.push_str("on bell(amount) {\n");
        for depth in [3, 3, 2] {
            tangle(&mut dice, depth, 3, &mut script);
            script.push_str("wait 1s\n");
        }
        script.push_str("}\n\n");
    }
    files(world(20, "min = 0\nmax = 50"), script)
}

fn turning_procedures() -> Vec<File> {
    let mut dice = Dice(7);
    let mut script = "script all for tide\n\n".to_owned();
    for at in 0..60 {
        let _ = writeln!(script, "proc p{at}(amount: int) {{");
        let _ = writeln!(script, "if v{} < 40 {{ v{} += amount }}\nup{} = not up{}", at % 20, at % 20, at % 8, at % 8);
        if at > 0 {
            let _ = writeln!(script, "if up{} {{ p{}(1) }} else {{ p{}(2) }}", at % 5, at - 1, dice.below(at));
        }
        script.push_str("}\n\n");
    }
    for at in 0..1200 {
        let _ = writeln!(script, "on bell(amount) {{\nif v{} > 3 {{ p{}(3) }}", at % 20, at % 12);
        let _ = writeln!(script, "v{} += 1\np{}(1)\nv{} = 0\n}}\n", at % 20, 11 - at % 12, at % 20);
    }
    let mut registry = world(20, "min = 0\nmax = 50");
    for at in 0..8 {
        let _ = writeln!(registry, "[variables.tide.up{at}]\ntype = \"bool\"\nscope = \"global\"\ndefault = false");
    }
    files(registry, script)
}

fn shared_by_all() -> Vec<File> {
    let mut script = "script all for tide\n\n".to_owned();
    for at in 0..1400 {
        let _ = writeln!(script, "on bell(amount) when v0 != {} {{\nif v0 < 50 {{ v0 += 1 }}", at % 50);
        let _ = writeln!(script, "wait {}s\nif v1 < v0 {{ v1 += 1 }}\nv{} = v0\n}}\n", at % 9 + 1, at % 18 + 2);
    }
    files(world(20, "min = 0\nmax = 50"), script)
}

fn numbers_asked_for() -> Vec<File> {
    let mut script = "script all for tide\n\n".to_owned();
    for at in 0..2000 {
        let _ = writeln!(script, "on bell(amount) {{\nif v{} > {} {{ v{} = 1 }}", at % 20, at % 900, (at + 1) % 20);
        let _ = writeln!(script, "v{} = min(v{} + 1, 1000)\n}}\n", at % 20, at % 20);
    }
    files(world(20, "min = 0\nmax = 1000"), script)
}

fn labels_behind_signals() -> Vec<File> {
    let mut registry = world(20, "min = 0\nmax = 50");
    let mut script = "script all for tide\n\n".to_owned();
    for at in 0..40 {
        let _ = writeln!(registry, "[signals.rope_{at}]\nfrom = \"script\"");
    }
    for at in 0..1600 {
        let _ = writeln!(script, "on rope_{} {{\nif v{} < 9 {{ v{} += 1 }}", at % 40, at % 20, at % 20);
        let _ = writeln!(script, "show label_{at} \"{{v{}}}\"\nsend rope_{}\n}}\n", at % 20, at * 7 % 40);
    }
    files(registry, script)
}

fn loops_in_procedures() -> Vec<File> {
    let mut script = "script all for tide\n\n".to_owned();
    for at in 0..60_usize {
        let _ = writeln!(script, "proc p{at}(b: boat) {{\n    b.w = {}\n    for e in boat {{\n        e.w = 2", at % 9);
        for below in at.saturating_sub(2)..at {
            let _ = writeln!(script, "        p{below}(e)");
        }
        script.push_str("    }\n}\n\n");
    }
    for _ in 0..20 {
        script.push_str("on bell {\n    for b in boat {\n        p59(b)\n    }\n}\n\n");
    }
    let boats = "[owners.boat]\nkind = \"actor\"\ncount = \"many\"\n[instances.dawn]\nof = \"boat\"\n[variables.boat.w]\ntype = \"int\"\nscope = \"instance\"\ndefault = 0\nmin = 0\nmax = 9\nwriters = [\"*\"]\n";
    files(world(0, "") + boats, script)
}

/// Each calls two that stand before it, so that one call is millions, and each of many handlers begins with another.
fn trees_of_procedures() -> Vec<File> {
    let mut script = "script all for tide\n\n".to_owned();
    for at in 0..800_usize {
        let (stepped, lowered) = (at % 30, (at + 3) % 30);
        let _ = writeln!(script, "proc p{at}() {{\n    if v{lowered} > 0 {{\n        v{lowered} -= 1\n    }}");
        if at > 11 {
            let _ = writeln!(script, "    p{}()\n    if v{stepped} < 9 {{", at - 1 - at % 7);
            let _ = writeln!(script, "        v{stepped} += 1\n    }}\n    p{}()", at - 2 - at % 5);
        }
        script.push_str("}\n\n");
    }
    for at in 200..800 {
        let _ = writeln!(script, "on bell {{\n    p{at}()\n}}\n");
    }
    files(world(30, "min = 0\nmax = 9"), script)
}
