//! Says how long each part of a check takes, each rule, and how much memory stands by then, on a project of the size given.

use census::flow::world::World;
use census::rules::{self, Facts};
use clap::Parser;
use std::path::PathBuf;
use std::time::Instant;

/// Says how long each part of a check takes.
#[derive(Parser)]
struct Options {
    /// How many lines of script.
    #[arg(default_value_t = 10_000)]
    lines: usize,
    /// What its scripts do.
    #[arg(long, value_enum, default_value_t)]
    shape: bench::Shape,
    /// A project that nobody would write instead, by number.
    #[arg(long)]
    perverse: Option<usize>,
    /// The project in this folder instead.
    #[arg(long)]
    project: Option<PathBuf>,
    /// Stop before the rules.
    #[arg(long)]
    brief: bool,
}

/// How the system counts the work of cores.
const TICKS_A_SECOND: f64 = 100.0;

fn main() {
    let options = Options::parse();
    let sources = match &options.project {
        Some(root) => match timed("load", || census::project::load::load(root)) {
            Ok(sources) => sources,
            Err(problem) => return eprintln!("{problem}"),
        },
        None => bench::sources(&made(&options)),
    };
    let project = timed("read and resolve", || census::project::build(sources));
    let mut world = timed("graphs and plain facts", || World::new(&project));
    timed("what can happen", || world.solve());
    if options.brief {
        return;
    }
    drop(world);
    let facts = timed("all facts", || Facts::new(&project));
    for rule in rules::all() {
        if let Some(check) = rule.check {
            let begun = Instant::now();
            let found = check(&facts).len();
            if begun.elapsed().as_millis() > 5 {
                println!("{:>10.3} s {:>6} MB  {} ({found})", begun.elapsed().as_secs_f64(), resident(), rule.name);
            }
        }
    }
    timed("the whole report", || census::report::report(&facts));
}

fn made(options: &Options) -> Vec<bench::File> {
    let size = bench::Size {
        shape: options.shape,
        variables: options.lines / 50,
        lines: options.lines,
        mistakes: 0.02,
        seed: 1,
    };
    match options.perverse.and_then(|at| bench::perverse::KINDS.get(at)) {
        Some((_, make)) => make(),
        None => bench::project(size),
    }
}

fn timed<T>(what: &str, work: impl FnOnce() -> T) -> T {
    let (begun, worked) = (Instant::now(), work_so_far());
    let made = work();
    let worked = work_so_far() - worked;
    println!("{:>10.3} s {worked:>8.2} s of all cores {:>6} MB  {what}", begun.elapsed().as_secs_f64(), resident());
    made
}

/// How long all cores have worked for the program so far, in seconds, where the system tells; 0 elsewhere.
fn work_so_far() -> f64 {
    let status = std::fs::read_to_string("/proc/self/stat").unwrap_or_default();
    let after_name = status.rsplit(')').next().unwrap_or_default();
    let ticks = after_name.split_whitespace().skip(11).take(2).filter_map(|ticks| ticks.parse::<u32>().ok());
    f64::from(ticks.sum::<u32>()) / TICKS_A_SECOND
}

/// The memory that the program holds, in megabytes, where the system tells; 0 elsewhere.
fn resident() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).unwrap_or("0");
    line.trim().trim_end_matches("kB").trim().parse::<u64>().unwrap_or(0) / 1024
}
