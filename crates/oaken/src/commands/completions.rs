//! `oaken completions SHELL` and `oaken manual`

use super::Outcome;
use crate::print::Out;
use std::path::PathBuf;
use std::process::ExitCode;

/// Options of `oaken completions`.
#[derive(clap::Args)]
pub struct CompletionOptions {
    /// The shell.
    #[arg(value_enum)]
    shell: clap_complete::Shell,
}

/// Options of `oaken manual`.
#[derive(clap::Args)]
pub struct ManualOptions {
    /// The folder where the pages are written; without it, the first page goes to standard output.
    dir: Option<PathBuf>,
}

/// Writes what a shell needs to complete the program's commands and options.
pub fn completions(mut command: clap::Command, options: &CompletionOptions) -> Outcome {
    let mut text = Vec::new();
    clap_complete::generate(options.shell, &mut command, "oaken", &mut text);
    write(&text)
}

/// Writes the manual: one page for the program, and one for each command.
pub fn manual(command: clap::Command, options: &ManualOptions) -> Outcome {
    let Some(dir) = &options.dir else {
        let mut text = Vec::new();
        clap_mangen::Man::new(command).render(&mut text)?;
        return write(&text);
    };
    std::fs::create_dir_all(dir)?;
    clap_mangen::generate_to(command, dir)?;
    Ok(ExitCode::SUCCESS)
}

fn write(text: &[u8]) -> Outcome {
    let mut out = Out::new();
    out.write(&String::from_utf8_lossy(text))?;
    out.finish()?;
    Ok(ExitCode::SUCCESS)
}
