//! `oaken`: keeps the registry of a game's state, checks scripts against it, and plays them without the game.
//!
//! This program is a thin face over the `census` crate: options in, reports out. Each command is a module of
//! [`commands`]; what they print goes through [`print`].

mod chart;
mod commands;
mod print;
mod transaction;
mod write;

use clap::{CommandFactory, Parser, Subcommand};
use std::path::PathBuf;
use std::process::ExitCode;

/// The analysis makes and drops many small states; this allocator is quicker at that than the system's.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Keeps the registry of a game's state, and checks the event scripts against it.
#[derive(Parser)]
#[command(name = "oaken", version, about, max_term_width = 100)]
struct Cli {
    /// The project's folder; without it, the one around the folder you are in.
    #[arg(long, global = true, value_name = "DIR")]
    project: Option<PathBuf>,
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Make a new project that checks clean.
    Init(commands::init::Options),
    /// Write the demo project and show what each command says of it.
    Demo(commands::demo::Options),
    /// Check scripts and registry.
    Check(commands::check::Options),
    /// Say what a rule means, or list all rules.
    Explain(commands::explain::Options),
    /// List the registry's variables.
    List(commands::list::Options),
    /// Show everything about one variable.
    Show(commands::show::Options),
    /// Play rehearsals: see what happens, without the game.
    Rehearse(commands::rehearse::Options),
    /// Count what takes a variable from its start to its limits.
    Tally(commands::tally::Options),
    /// Say what changes of the registry would do; nothing is written.
    Whatif(commands::whatif::Options),
    /// List every place that names a variable, an owner or an instance.
    Uses(commands::uses::Options),
    /// Add a variable to the registry.
    Add(Box<commands::add::Options>),
    /// Change keys of a variable's entry.
    Change(Box<commands::change::Options>),
    /// Rename a variable, an owner or an instance, everywhere.
    Rename(commands::rename::Options),
    /// Mark a variable as retired, or take it out.
    Retire(commands::retire::Options),
    /// Write the registry as CSV or JSON, or the schema of the project's files.
    Export(commands::export::Options),
    /// Take changes in from a table that was exported.
    Import(commands::import::Options),
    /// Put scripts and registry into one style.
    Format(commands::format::Options),
    /// Write what a shell needs to complete commands and options.
    Completions(commands::completions::Options),
    /// Write the manual pages.
    Manual(commands::manual::Options),
    /// Compare two states of the registry, as folders or git revisions.
    Compare(commands::compare::Options),
}

/// Why a command could not do its work: said on standard error, with exit code 2.
pub struct Failure(pub String);

impl<E: std::fmt::Display> From<E> for Failure {
    fn from(error: E) -> Self {
        Self(error.to_string())
    }
}

/// How much stack a thread may use, in bytes: expressions, blocks and procedures can stand in one another deeply. What is not
/// used costs nothing.
const STACK: usize = 256 << 20;

fn main() -> ExitCode {
    // Where there is no such room, the analysis makes do with the stack that there is.
    let _ = rayon::ThreadPoolBuilder::new().stack_size(STACK).build_global();
    match std::thread::Builder::new().stack_size(STACK).spawn(run).map(std::thread::JoinHandle::join) {
        Ok(Ok(code)) => code,
        Ok(Err(_)) => ExitCode::from(101),
        Err(_) => run(),
    }
}

fn run() -> ExitCode {
    let cli = Cli::parse();
    let project = cli.project.as_deref();
    let outcome = match cli.command {
        Command::Init(options) => commands::init::run(&options),
        Command::Demo(options) => commands::demo::run(&options),
        Command::Check(options) => commands::check::run(project, &options),
        Command::Explain(options) => commands::explain::run(&options),
        Command::List(options) => commands::list::run(project, &options),
        Command::Show(options) => commands::show::run(project, &options),
        Command::Rehearse(options) => commands::rehearse::run(project, &options),
        Command::Tally(options) => commands::tally::run(project, &options),
        Command::Whatif(options) => commands::whatif::run(project, &options),
        Command::Uses(options) => commands::uses::run(project, &options),
        Command::Add(options) => commands::add::run(project, &options),
        Command::Change(options) => commands::change::run(project, &options),
        Command::Rename(options) => commands::rename::run(project, &options),
        Command::Retire(options) => commands::retire::run(project, &options),
        Command::Export(options) => commands::export::run(project, &options),
        Command::Import(options) => commands::import::run(project, &options),
        Command::Format(options) => commands::format::run(project, &options),
        Command::Completions(options) => commands::completions::run(Cli::command(), &options),
        Command::Manual(options) => commands::manual::run(Cli::command(), &options),
        Command::Compare(options) => commands::compare::run(project, &options),
    };
    match outcome {
        Ok(code) => code,
        Err(Failure(message)) => {
            print::complain(&message);
            ExitCode::from(2)
        }
    }
}
