//! What a witness does, in words.

use crate::project::Project;
use crate::rehearsal::Action;

/// How long what is done again and again is at most, in acts.
const LONGEST_CYCLE: usize = 4;
/// How often something is done at least that is not told time and again.
const FEWEST: usize = 3;

/// The acts of a run: "`hit` on `boat`, then `gust` then choice 1, 7 times over".
pub(super) fn all(project: &Project, acts: &[Action]) -> String {
    let words: Vec<String> = acts.iter().map(|act| one(project, act)).collect();
    let mut told: Vec<String> = Vec::new();
    let mut rest = words.as_slice();
    while let Some(first) = rest.first() {
        let cycles = (1..=LONGEST_CYCLE.min(rest.len())).map(|length| (length, repeats(rest, length)));
        let again = cycles.filter(|&(_, times)| times >= FEWEST).max_by_key(|&(length, times)| (length * times, times));
        let (length, text) = match again {
            Some((length, times)) => (length * times, format!("{}, {times} times over", rest[..length].join(" then "))),
            None => (1, first.clone()),
        };
        told.push(text);
        rest = &rest[length..];
    }
    if told.is_empty() { "the start of a run".to_owned() } else { told.join(", then ") }
}

/// How often the first acts, so many, come one after the other.
fn repeats(words: &[String], length: usize) -> usize {
    words.chunks(length).take_while(|chunk| *chunk == &words[..length]).count()
}

/// An act in words: "`touched` on `dawn_boat` 7 times".
fn one(project: &Project, act: &Action) -> String {
    let keys = crate::rehearsal::write::step_keys(project, act);
    let value = |key: &str| keys.iter().find(|(name, _)| *name == key).map(|(_, value)| value.trim_matches('"'));
    match act {
        Action::Fire { times, .. } => {
            let mut text = format!("`{}`", value("fire").unwrap_or(""));
            if let Some(on) = value("on") {
                text.push_str(&format!(" on `{on}`"));
            }
            if let Some(with) = value("with") {
                text.push_str(&format!(" with {}", with.trim_matches(['{', '}', ' '])));
            }
            if *times > 1 {
                text.push_str(&format!(" {times} times"));
            }
            text
        }
        Action::Pass(_) => format!("{} pass", value("pass").unwrap_or("")),
        Action::Choose(choice) => format!("choice {}", choice + 1),
        Action::Set(_) => format!("the game sets {}", value("set").unwrap_or("").trim_matches(['{', '}', ' '])),
        Action::Go(_) => format!("the scene `{}` is loaded", value("go").unwrap_or("")),
        Action::Restart => "the run begins anew".to_owned(),
        Action::Expect { .. } => String::new(),
    }
}
