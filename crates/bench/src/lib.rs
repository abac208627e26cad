//! Projects of any size, as a team would write them, for benchmarks.
//!
//! A project is made of owners with some twenty variables each, and a few scripts for each owner. What these do is the project's
//! [`Shape`]. A share of the steps can be written without their guard. [`perverse`] makes the other kind:
//! projects that nobody would write, each pulling at one part of the analysis.

pub mod perverse;
mod shapes;

pub use shapes::Shape;

use std::fmt::Write as _;

/// The same allocator as the program's.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// What a project is to be like.
#[derive(Clone, Copy, Debug)]
pub struct Size {
    /// What its scripts do.
    pub shape: Shape,
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
/// How many signals of either kind there are.
const SIGNALS: usize = 40;

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
            size.shape.of(owner).registry(&mut text, owner, &mut dice);
        }
        files.push((format!("registry/part{part}.toml"), text));
    }
    for at in 0..scripts {
        let owner = at % owners;
        let lines = size.lines / scripts;
        files.push((
            format!("scripts/{:03}/script{at}.oaken", at / 100),
            size.shape.of(owner).script(at, owner, lines, size.mistakes, &mut dice),
        ));
    }
    files
}

/// `oaken.toml` of a project.
#[must_use]
pub fn config(name: &str) -> String {
    format!("[project]\nname = \"{name}\"\n")
}

/// The signals that all shapes answer.
fn signals() -> String {
    let mut text = String::new();
    for at in 0..SIGNALS {
        let _ = writeln!(
            text,
            "[signals.engine{at}]\nfrom = \"engine\"\nto = \"all\"\nparameters = {{ amount = {{ type = \"int\", min = 0, max = 4 }} }}\n"
        );
        let _ = writeln!(text, "[signals.word{at}]\nfrom = \"script\"\n");
    }
    text
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
