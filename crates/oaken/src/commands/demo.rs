//! `oaken demo`

use super::Outcome;
use crate::print::{self, Out, strong};
use crate::{Failure, write};
use include_dir::{Dir, include_dir};
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode};

static DEMO: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/../../demo");

/// Options of `oaken demo`.
#[derive(clap::Args)]
pub struct Options {
    /// Where the demo project is written; without it, into a new temporary folder.
    dir: Option<PathBuf>,
}

/// The tour: what is said before each command, and the command.
const TOUR: [(&str, &[&str]); 11] = [
    (
        "The registry lists all the state of the game: what each variable holds, whose it is, how far it may go. \
         These are the mail boats' own.",
        &["list", "--owner", "mailboat"],
    ),
    (
        "One variable, with every place that sets it and every place that reads it. `reaches` is worked out from the \
         scripts, not from the entry.",
        &["show", "mailboat.parcels"],
    ),
    (
        "The check reads every script against the registry and says what would go wrong in play. Here it looks at one \
         script; `oaken check` alone looks at all of them.",
        &["check", "scripts/loading.oaken", "--fail-on", "never"],
    ),
    (
        "Each finding has a rule, and each rule says why it hurts and how it looks mended.",
        &["explain", "range/can-exceed"],
    ),
    (
        "A rehearsal plays the scripts without the game. This one expects a full hold to turn parcels away, and it does not.",
        &["rehearse", "rehearsals/full_hold.toml"],
    ),
    (
        "The tide over half a minute, as a picture: open tide.svg in a browser.",
        &["rehearse", "rehearsals/tide.toml", "--chart", "tide.svg"],
    ),
    (
        "How many firings of what take a variable from its start to its limits, or how long it takes.",
        &["tally", "mailboat.lamp_oil"],
    ),
    (
        "What a change would do, before anyone makes it: findings, tallies, rehearsals.",
        &["whatif", "mailboat.parcels.overflow=clamp"],
    ),
    (
        "A rename reaches registry, scripts, texts and rehearsals. This shows the edit, and writes nothing.",
        &["rename", "tide.turns", "tide.turnings", "--dry-run"],
    ),
    (
        "The registry as a table for a spreadsheet; `oaken import` takes changes back in.",
        &["export", "--to", "csv", "--save", "registry.csv"],
    ),
    (
        "A new variable is an entry made from options. It is checked before anything is written; this only shows it.",
        &[
            "add",
            "mailboat.spare_sails",
            "--type",
            "int",
            "--default",
            "1",
            "--min",
            "0",
            "--about",
            "Sails in the locker",
            "--dry-run",
        ],
    ),
];

/// Writes the demo project and walks through it.
pub fn run(options: &Options) -> Outcome {
    let folder = match &options.dir {
        Some(dir) => dir.clone(),
        None => tempfile::Builder::new().prefix("saltmarsh-mail-").tempdir()?.keep(),
    };
    extract(&folder)?;
    let program = std::env::current_exe()?;
    let shown = print::plain_line(&folder.display().to_string());
    say(&format!("Saltmarsh Mail, a small game about a mail boat among tidal islands, is in {shown}.\n"))?;
    for (text, arguments) in TOUR {
        let mut out = Out::new();
        for line in print::wrap(text, print::width().min(90)) {
            out.line(&line)?;
        }
        let strong = strong();
        out.line(&format!("\n{strong}$ oaken {}{strong:#}", quote(arguments)))?;
        out.finish()?;
        let status = Command::new(&program).args(arguments).current_dir(&folder).status();
        status.map_err(|error| Failure(format!("{} can't be run: {error}", program.display())))?;
        say("")?;
    }
    say(&format!(
        "Go on from here:\n\n    cd {shown}\n    oaken check\n\nThe scripts have a dozen honest mistakes. Mend one, and check again."
    ))?;
    Ok(ExitCode::SUCCESS)
}

fn say(text: &str) -> Result<(), Failure> {
    let mut out = Out::new();
    out.line(text)?;
    out.finish()?;
    Ok(())
}

fn quote(arguments: &[&str]) -> String {
    let quoted: Vec<String> = arguments
        .iter()
        .map(|word| if word.contains(' ') { format!("\"{word}\"") } else { (*word).to_owned() })
        .collect();
    quoted.join(" ")
}

fn extract(folder: &Path) -> Result<(), Failure> {
    let files = all_files(&DEMO);
    if let Some(there) = files.iter().map(|(path, _)| folder.join(path)).find(|path| path.exists()) {
        return Err(Failure(format!("{} is there already; nothing was changed", there.display())));
    }
    for (path, text) in files {
        let path = folder.join(path);
        if let Some(parent) = path.parent() {
            std::fs::create_dir_all(parent)
                .map_err(|error| Failure(format!("{} can't be made: {error}", parent.display())))?;
        }
        write::whole(&path, text)?;
    }
    Ok(())
}

fn all_files<'a>(dir: &'a Dir<'a>) -> Vec<(&'a Path, &'a str)> {
    let own = dir.files().map(|file| (file.path(), file.contents_utf8().unwrap_or_default()));
    own.chain(dir.dirs().flat_map(all_files)).collect()
}
