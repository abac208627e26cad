//! Projects in temporary folders, and the built program run on them.

#![allow(dead_code, reason = "each test file uses its own part")]

use std::path::{Path, PathBuf};
use std::process::{Command, Output};

/// A project on the disk.
pub struct Project {
    folder: tempfile::TempDir,
}

pub const CONFIG: &str = "[project]\nname = \"Saltmarsh Mail\"\n";

pub const TIDE: &str = r#"[owners.tide]
kind = "system"
steward = "world"

[variables.tide.height] # marks on the pier
type = "int"
scope = "global"
default = 0
min = 0
max = 6
engine = "reads"
about = "How high the water stands"

[signals.bell]
from = "engine"
to = "all"
"#;

pub const RISE: &str = r"script tides for tide

on bell {
    height += 1
}
";

impl Project {
    /// A folder with nothing in it.
    pub fn empty() -> Self {
        Self { folder: tempfile::tempdir().expect("a temporary folder") }
    }

    /// A project in which anyone may write; `more` are lines of its `[project]`.
    pub fn open_to_all(more: &str, registry: &str) -> Self {
        let project = Self::empty();
        project.write("oaken.toml", format!("{CONFIG}{more}[sharing]\nwriters = \"anyone\"\n"));
        project.write("registry/all.toml", registry);
        project
    }

    /// A project with one mistake: `range/can-exceed` in line 4 of `scripts/tide.oaken`.
    pub fn tide() -> Self {
        let project = Self::empty();
        project.write("oaken.toml", CONFIG);
        project.write("registry/tide.toml", TIDE);
        project.write("scripts/tide.oaken", RISE);
        project
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub fn root(&self) -> &Path {
        self.folder.path()
    }

    pub fn write(&self, name: &str, text: impl AsRef<[u8]>) {
        let path = self.path(name);
        std::fs::create_dir_all(path.parent().expect("a parent")).expect("a folder");
        std::fs::write(path, text).expect("a file");
    }

    pub fn read(&self, name: &str) -> String {
        std::fs::read_to_string(self.path(name)).expect("a file")
    }

    /// Runs the program in the project's folder.
    pub fn oaken(&self, arguments: &[&str]) -> Run {
        let output = Command::new(env!("CARGO_BIN_EXE_oaken"))
            .args(arguments)
            .current_dir(self.root())
            .env("COLUMNS", "100")
            .env_remove("NO_COLOR")
            .output()
            .expect("the program");
        Run::new(&output)
    }

    /// The findings of a check, as JSON.
    pub fn findings(&self) -> Vec<serde_json::Value> {
        let run = self.oaken(&["check", "--format", "json", "--fail-on", "never"]);
        assert_eq!(run.code, 0, "{}", run.err);
        let document: serde_json::Value = serde_json::from_str(&run.out).expect("JSON");
        document["findings"].as_array().expect("findings").clone()
    }

    /// The findings as `file:line rule`.
    pub fn marks(&self) -> Vec<String> {
        let mark = |finding: &serde_json::Value| {
            format!("{}:{} {}", text(&finding["file"]), finding["line"], text(&finding["rule"]))
        };
        self.findings().iter().map(mark).collect()
    }
}

fn text(value: &serde_json::Value) -> &str {
    value.as_str().unwrap_or("")
}

/// What a run of the program gave.
pub struct Run {
    pub code: i32,
    pub out: String,
    pub err: String,
}

impl Run {
    fn new(output: &Output) -> Self {
        Self {
            code: output.status.code().unwrap_or(-1),
            out: String::from_utf8_lossy(&output.stdout).into_owned(),
            err: String::from_utf8_lossy(&output.stderr).into_owned(),
        }
    }

    /// Asserts that the program could not run, and said so with these words.
    #[track_caller]
    pub fn could_not(&self, words: &str) {
        assert_eq!(self.code, 2, "out: {}\nerr: {}", self.out, self.err);
        assert!(self.err.contains(words), "not said: {words}\n{}", self.err);
        assert!(!self.err.contains("panicked"), "{}", self.err);
    }
}
