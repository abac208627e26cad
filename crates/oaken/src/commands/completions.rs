//! `oaken completions SHELL`

use super::Outcome;
use crate::print::Out;
use std::process::ExitCode;

/// Options of `oaken completions`.
#[derive(clap::Args)]
pub struct Options {
    /// The shell.
    #[arg(value_enum)]
    shell: clap_complete::Shell,
}

/// Writes what a shell needs to complete the program's commands and options.
pub fn run(mut command: clap::Command, options: &Options) -> Outcome {
    let mut text = Vec::new();
    clap_complete::generate(options.shell, &mut command, "oaken", &mut text);
    let mut out = Out::new();
    out.write(&String::from_utf8_lossy(&text))?;
    out.finish()?;
    Ok(ExitCode::SUCCESS)
}
