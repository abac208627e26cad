//! The demo's project with slips in its scripts: code as people write it, and mistakes as people make them.

use crate::generate::{Dice, Program};
use std::path::{Path, PathBuf};

/// What is written for something else by mistake.
const CONFUSED: [(&str, &str); 16] = [
    (" < ", " <= "),
    (" <= ", " < "),
    (" > ", " >= "),
    (" >= ", " > "),
    (" == ", " != "),
    (" += ", " -= "),
    (" -= ", " += "),
    (" += ", " = "),
    (" and ", " or "),
    (" or ", " and "),
    (" true", " false"),
    (" false", " true"),
    ("not ", ""),
    ("min(", "max("),
    ("max(", "min("),
    (" 1", " 3"),
];

/// The demo's project, or that of `OAKEN_PROJECT`: one whose scripts all lie in `scripts`.
pub fn demo() -> Program {
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo");
    let root = std::env::var_os("OAKEN_PROJECT").map_or(demo, PathBuf::from);
    let read =
        |path: &Path| std::fs::read_to_string(path).unwrap_or_else(|error| panic!("{}: {error}", path.display()));
    let scripts = files(&root.join("scripts"));
    // A script's number says when it answers: the numbers' order as texts must be that of the paths.
    let mut numbers: Vec<usize> = (0..scripts.len()).collect();
    numbers.sort_by_key(ToString::to_string);
    let mut config = read(&root.join("oaken.toml"));
    let mut texts = vec![String::new(); scripts.len()];
    for (path, &number) in scripts.iter().zip(&numbers) {
        let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
        config = config.replace(&format!("scripts/{name}"), &format!("scripts/{number}.oaken"));
        texts[number] = read(path);
    }
    let registry = files(&root.join("registry")).iter().map(|path| read(path)).collect::<Vec<_>>().join("\n");
    Program { config, registry, scripts: texts }
}

fn files(folder: &Path) -> Vec<PathBuf> {
    let entries = std::fs::read_dir(folder).expect("the demo is there");
    let mut files: Vec<PathBuf> = entries.map(|entry| entry.expect("an entry").path()).collect();
    files.sort();
    files
}

/// The program with one to three slips.
pub fn with_slips(program: &Program, seed: u64) -> Program {
    let (mut program, mut dice) = (program.clone(), Dice::new(seed));
    for _ in 0..=dice.below(3) {
        let at = dice.below(program.scripts.len());
        program.scripts[at] = slip(&program.scripts[at], &mut dice);
    }
    program
}

fn slip(script: &str, dice: &mut Dice) -> String {
    let mut lines: Vec<String> = script.lines().map(str::to_owned).collect();
    let simple: Vec<usize> = (0..lines.len()).filter(|&at| is_simple(&lines[at])).collect();
    if simple.is_empty() {
        return script.to_owned();
    }
    let at = *dice.pick(&simple);
    match dice.below(8) {
        0 => drop(lines.remove(at)),
        1 => lines.insert(at, "    wait 0.3s".to_owned()),
        2 => lines.insert(at, lines[at].clone()),
        3 => lines.insert(at, lines[*dice.pick(&simple)].clone()),
        _ => confuse(&mut lines, dice),
    }
    lines.join("\n") + "\n"
}

/// A statement on a line of its own.
fn is_simple(line: &str) -> bool {
    line.starts_with("    ") && !line.contains(['{', '}']) && !line.contains("//") && !line.trim().is_empty()
}

fn confuse(lines: &mut [String], dice: &mut Dice) {
    let from = dice.below(lines.len());
    let (meant, written) = *dice.pick(&CONFUSED);
    if let Some(line) = lines[from..].iter_mut().find(|line| !line.starts_with("//") && line.contains(meant)) {
        *line = line.replacen(meant, written, 1);
    }
}
