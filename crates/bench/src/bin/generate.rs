//! Writes a project of any size into a folder.

use clap::Parser;
use std::path::PathBuf;

/// Writes a project of any size into a folder.
#[derive(Parser)]
struct Options {
    /// The folder.
    folder: PathBuf,
    /// How many lines of script.
    #[arg(long, default_value_t = 10_000)]
    lines: usize,
    /// How many variables.
    #[arg(long, default_value_t = 500)]
    variables: usize,
    /// What share of the steps is written without care.
    #[arg(long, default_value_t = 0.02)]
    mistakes: f64,
    /// The same number gives the same project.
    #[arg(long, default_value_t = 1)]
    seed: u64,
    /// What its scripts do.
    #[arg(long, value_enum, default_value_t)]
    shape: bench::Shape,
    /// A project that nobody would write instead, by number.
    #[arg(long)]
    perverse: Option<usize>,
}

fn main() -> std::io::Result<()> {
    let options = Options::parse();
    let size = bench::Size {
        shape: options.shape,
        variables: options.variables,
        lines: options.lines,
        mistakes: options.mistakes,
        seed: options.seed,
    };
    let files = match options.perverse.and_then(|at| bench::perverse::KINDS.get(at)) {
        Some((_, make)) => make(),
        None => bench::project(size),
    };
    for (path, text) in files {
        let path = options.folder.join(path);
        if let Some(folder) = path.parent() {
            std::fs::create_dir_all(folder)?;
        }
        std::fs::write(path, text)?;
    }
    Ok(())
}
