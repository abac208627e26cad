//! Projects of any size, as a team would write them, for benchmarks.
//!
//! A project is made of many small worlds: an actor or a system with some twenty variables, and a few scripts that count,
//! guard, wait and show. A share of the steps can be written without their guard. [`perverse`] makes the other kind:
//! projects that nobody would write, each pulling at one part of the analysis.

pub mod perverse;

use std::fmt::Write as _;

/// The same allocator as the program's.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// What a project is to be like.
#[derive(Clone, Copy, Debug)]
pub struct Size {
    /// How many variables, about.
    pub variables: usize,
    /// How many lines of script, about.
    pub lines: usize,
    /// What share of the steps is written without care, from 0 to 1.
    pub mistakes: f64,
    /// The same number gives the same project.
    pub seed: u64,
}

/// A file: its path in the project, and its text.
pub type File = (String, String);

/// How many variables one owner has.
const EACH: usize = 20;
/// How many lines one script has, about.
const SCRIPT: usize = 400;

/// Makes a project.
#[must_use]
pub fn project(size: Size) -> Vec<File> {
    let owners = (size.variables / EACH).max(1);
    let scripts = (size.lines / SCRIPT).max(1);
    let mut dice = Dice(size.seed);
    let mut files = vec![("oaken.toml".to_owned(), config("A large project"))];
    for part in 0..owners.div_ceil(50) {
        let mut text = if part == 0 { signals() } else { String::new() };
        for owner in part * 50..((part + 1) * 50).min(owners) {
            registry(&mut text, owner, &mut dice);
        }
        files.push((format!("registry/part{part}.toml"), text));
    }
    for at in 0..scripts {
        let owner = at % owners;
        let lines = size.lines / scripts;
        files.push((
            format!("scripts/{:03}/script{at}.oaken", at / 100),
            script(at, owner, lines, size.mistakes, &mut dice),
        ));
    }
    files
}

/// `oaken.toml` of a project.
#[must_use]
pub fn config(name: &str) -> String {
    format!("[project]\nname = \"{name}\"\n")
}

fn signals() -> String {
    let mut text = String::new();
    for at in 0..40 {
        let _ = writeln!(
            text,
            "[signals.engine{at}]\nfrom = \"engine\"\nto = \"all\"\nparameters = {{ amount = {{ type = \"int\", min = 0, max = 4 }} }}\n"
        );
        let _ = writeln!(text, "[signals.word{at}]\nfrom = \"script\"\n");
    }
    text
}

fn is_actor(owner: usize) -> bool {
    owner.is_multiple_of(2)
}

fn registry(text: &mut String, owner: usize, dice: &mut Dice) {
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

fn script(at: usize, owner: usize, lines: usize, mistakes: f64, dice: &mut Dice) -> String {
    let mut text = format!(
        "// What owner{owner} does, part {at}.\nscript part{at} for owner{owner}\n\nprivate busy: bool = false\nprivate rounds: int = 0\n\n"
    );
    let mut written = 6;
    while written < lines {
        let from = text.len();
        handler(&mut text, owner, mistakes, dice);
        written += text[from..].matches('\n').count();
    }
    text
}

fn handler(text: &mut String, owner: usize, mistakes: f64, dice: &mut Dice) {
    let _ = writeln!(text, "// Something happens.\non engine{}(amount) when not busy {{", dice.below(40));
    let _ = writeln!(text, "    busy = true");
    for _ in 0..3 + dice.below(3) {
        piece(text, owner, mistakes, dice);
    }
    let _ = writeln!(
        text,
        "    wait 0.5s\n    rounds = min(rounds + 1, 9)\n    if rounds == 9 {{\n        rounds = 0\n    }}\n    busy = false\n}}\n"
    );
}

fn piece(text: &mut String, owner: usize, mistakes: f64, dice: &mut Dice) {
    let group = dice.below(EACH / 5) * 5;
    let name = |at: usize| format!("value{owner}_{}", group + at);
    let (cap, count, other, oil, flag) = (name(0), name(1), name(2), name(3), name(4));
    let careless = dice.below(1000) as f64 <= mistakes * 1000.0 && mistakes > 0.0;
    let _ = match dice.below(6) {
        _ if careless => writeln!(text, "    {count} += amount"),
        0 => writeln!(
            text,
            "    if {count} < {cap} {{\n        {count} += 1\n        show board{owner} \"{{{count}}} of {{{cap}}}\"\n    }} else {{\n        note \"full\"\n    }}"
        ),
        1 => writeln!(
            text,
            "    {other} = clamp({other} + amount, 0, {cap})\n    if {other} == {cap} and not {flag} {{\n        {flag} = true\n        send word{}\n    }}",
            dice.below(40)
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

/// A small generator of random numbers.
#[derive(Clone, Copy, Debug)]
pub struct Dice(pub u64);

impl Dice {
    /// A number below `count`.
    pub fn below(&mut self, count: usize) -> usize {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        usize::try_from(self.0 >> 33).unwrap_or(0) % count.max(1)
    }
}

/// The files as a core project reads them.
#[must_use]
pub fn sources(files: &[File]) -> census::source::Sources {
    use census::source::{FileKind, SourceFile, Sources};
    let mut sources = Sources::default();
    for (path, text) in files {
        let kind = match path.as_str() {
            "oaken.toml" => FileKind::Config,
            path if path.ends_with(".oaken") => FileKind::Script,
            _ => FileKind::Registry,
        };
        sources.add(SourceFile::new(path.as_str(), kind, text.clone().into_bytes()));
    }
    sources
}
