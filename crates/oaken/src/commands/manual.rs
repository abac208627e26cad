//! `oaken manual`

use super::Outcome;
use crate::print::Out;
use std::path::PathBuf;
use std::process::ExitCode;

/// Options of `oaken manual`.
#[derive(clap::Args)]
pub struct Options {
    /// The folder where the pages are written; without it, the first page goes to standard output.
    dir: Option<PathBuf>,
}

/// Writes the manual: one page for the program, and one for each command.
pub fn run(command: clap::Command, options: &Options) -> Outcome {
    if let Some(dir) = &options.dir {
        std::fs::create_dir_all(dir)?;
        clap_mangen::generate_to(command, dir)?;
        return Ok(ExitCode::SUCCESS);
    }
    let mut text = Vec::new();
    clap_mangen::Man::new(command).render(&mut text)?;
    let mut out = Out::new();
    out.write(&String::from_utf8_lossy(&text))?;
    out.finish()?;
    Ok(ExitCode::SUCCESS)
}
