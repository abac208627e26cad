//! The most important invariant of the design: the core knows no interface.

use std::path::Path;
use std::process::Command;

/// Crates that would bring an interface into the core.
const INTERFACES: [&str; 9] =
    ["clap", "anstream", "anstyle", "comfy-table", "terminal_size", "textwrap", "crossterm", "ctrlc", "oaken"];

#[test]
fn the_core_depends_on_no_interface_crate() {
    let output = Command::new(env!("CARGO"))
        .args(["tree", "--offline", "--edges", "normal", "--prefix", "none", "--format", "{p}"])
        .current_dir(env!("CARGO_MANIFEST_DIR"))
        .output()
        .expect("cargo can be run");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let tree = String::from_utf8_lossy(&output.stdout);
    assert!(tree.contains("census"), "{tree}");
    for line in tree.lines() {
        let name = line.split(' ').next().unwrap_or("");
        assert!(!INTERFACES.contains(&name), "the core must not depend on {name}");
    }
}

#[test]
fn the_core_neither_prints_nor_ends_the_process() {
    let mut sources = Vec::new();
    gather(&Path::new(env!("CARGO_MANIFEST_DIR")).join("src"), &mut sources);
    assert!(sources.len() > 50, "the sources were not found");
    for (path, text) in sources {
        for word in ["println!", "eprintln!", "process::exit", "std::io::stdout", "std::env::args"] {
            assert!(!text.contains(word), "{path} has {word}");
        }
    }
}

fn gather(folder: &Path, into: &mut Vec<(String, String)>) {
    for entry in std::fs::read_dir(folder).expect("a folder of sources") {
        let path = entry.expect("an entry").path();
        if path.is_dir() {
            gather(&path, into);
        } else {
            into.push((path.display().to_string(), std::fs::read_to_string(&path).expect("a source")));
        }
    }
}
