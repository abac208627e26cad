//! What the checks say can't happen must not happen: a test that is told as never, or always, true is asked in every run
//! which way it comes out, and a statement that is told as unreachable whether it is reached.
//!
//! The questions are put into the scripts: a test is handed through a procedure that notes how it came out.

use crate::drive;
use crate::generate::Program;
use census::project::Project;
use census::registry::Type;
use census::rehearse::layout::Layout;
use census::report::Report;
use census::source::{FileKind, Span};
use std::fmt::Write as _;

/// Something that the checks say, and the note that would refute it.
struct Claim {
    told: String,
    refuted_by: String,
}

/// The program with its questions.
struct Asked {
    program: Program,
    claims: Vec<Claim>,
}

/// How many claims there are, and one that some run refutes.
pub fn refuted(program: &Program, project: &Project, report: &Report, seed: u64, runs: u64) -> (usize, Option<String>) {
    let Asked { program, claims } = ask(program, project, report);
    let project = crate::build(&program);
    let world = census::flow::world::World::new(&project);
    let layout = Layout::new(&project, &world.graphs);
    let refuted = (0..runs).filter(|_| !claims.is_empty()).find_map(|run| {
        let notes = drive::notes(&layout, seed.wrapping_mul(1000) + run);
        let against = claims.iter().find(|claim| notes.contains(&claim.refuted_by));
        against.map(|claim| format!("seed {seed}, run {run}: {}", claim.told))
    });
    (claims.len(), refuted)
}

fn ask(program: &Program, project: &Project, report: &Report) -> Asked {
    let mut claims = Vec::new();
    let mut scripts = Vec::new();
    for (at, script) in program.scripts.iter().enumerate() {
        let path = format!("scripts/{at}.oaken");
        let mut pieces: Vec<(Span, String, String)> = Vec::new();
        let mut procedures = String::new();
        for told in &report.findings {
            let finding = &told.finding;
            let file = project.sources.file(finding.at.file);
            let span = finding.at.span;
            let apart = pieces.iter().all(|(other, ..)| span.end <= other.start || other.end <= span.start);
            if file.kind != FileKind::Script || *file.path != *path || !apart {
                continue;
            }
            let number = claims.len();
            let refuted_by = match finding.rule.0 {
                "range/never" if is_test(project, finding.at.file, span) => format!("{number} yes"),
                "range/always" if is_test(project, finding.at.file, span) => format!("{number} no"),
                "unused/unreachable" => format!("{number} reached"),
                _ => continue,
            };
            if finding.rule.0 == "unused/unreachable" {
                pieces.push((span, format!("note \"{refuted_by}\"\n"), String::new()));
            } else {
                pieces.push((span, format!("asked{number}("), ")".to_owned()));
                let _ = write!(
                    procedures,
                    "\nproc asked{number}(test: bool) -> bool {{\n    if test {{\n        note \"{number} yes\"\n    }} else {{\n        \
                     note \"{number} no\"\n    }}\n    return test\n}}\n"
                );
            }
            let told = format!("{} {}: {}", crate::place(project, finding.at), finding.rule, finding.message);
            claims.push(Claim { told, refuted_by });
        }
        scripts.push(format!("{}\n{procedures}", put_in(script, pieces)));
    }
    Asked { program: Program { scripts, ..program.clone() }, claims }
}

/// Whether this is an expression that a procedure can take and give back.
fn is_test(project: &Project, file: census::source::FileId, span: Span) -> bool {
    let unit = project.scripts.iter().find(|unit| unit.file == file);
    unit.is_some_and(|unit| {
        let mut all = unit.tree.exprs.iter().zip(&unit.types);
        all.any(|(expr, ty)| expr.span == span && *ty == Type::Bool)
    })
}

fn put_in(script: &str, mut pieces: Vec<(Span, String, String)>) -> String {
    pieces.sort_by_key(|(span, ..)| span.start);
    let mut text = script.to_owned();
    for (span, before, after) in pieces.iter().rev() {
        text.insert_str(span.end as usize, after);
        text.insert_str(span.start as usize, before);
    }
    text
}
