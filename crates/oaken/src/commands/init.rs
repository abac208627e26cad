//! `oaken init`

use super::Outcome;
use crate::{Failure, print, write};
use std::path::{Path, PathBuf};
use std::process::ExitCode;

/// Options of `oaken init`.
#[derive(clap::Args)]
pub struct Options {
    /// The folder; it is made if it is not there.
    #[arg(default_value = ".")]
    dir: PathBuf,
}

const FILES: [(&str, &str); 3] = [
    ("oaken.toml", include_str!("../../templates/oaken.toml")),
    ("registry/tide.toml", include_str!("../../templates/tide.toml")),
    ("scripts/tide.oaken", include_str!("../../templates/tide.oaken")),
];

/// Makes a project.
pub fn run(options: &Options) -> Outcome {
    let dir = &options.dir;
    for (path, _) in FILES {
        if dir.join(path).exists() {
            return Err(Failure(format!("{} is there already; nothing was changed", dir.join(path).display())));
        }
    }
    let name =
        std::path::absolute(dir)?.file_name().map_or("New game".to_owned(), |name| name.to_string_lossy().into_owned());
    for (path, text) in FILES {
        let path = dir.join(path);
        make_folder(path.parent().unwrap_or(Path::new(".")))?;
        write::whole(&path, &text.replace("\"PROJECT\"", &toml_text(&name)))?;
    }
    let mut out = print::Out::new();
    out.line(&format!("A new project is in {}:", print::plain_line(&dir.display().to_string())))?;
    for (path, _) in FILES {
        out.line(&format!("  {path}"))?;
    }
    out.line("\nNow `oaken check` looks for mistakes, `oaken add OWNER.NAME --type … --scope …` adds a variable,")?;
    out.line("and `oaken demo` shows a larger project.")?;
    out.finish()?;
    Ok(ExitCode::SUCCESS)
}

fn make_folder(folder: &Path) -> Result<(), Failure> {
    std::fs::create_dir_all(folder).map_err(|error| Failure(format!("{} can't be made: {error}", folder.display())))
}

fn toml_text(text: &str) -> String {
    serde_json::to_string(text).unwrap_or_else(|_| "\"New game\"".to_owned())
}
