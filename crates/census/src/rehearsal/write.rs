//! Writes a rehearsal as TOML, as a person would.

use super::{Action, Given, Put, Who};
use crate::project::Project;
use crate::registry::Value;
use std::fmt::Write;

/// What a new rehearsal says beside its steps.
#[derive(Clone, Debug, Default)]
pub struct Head {
    /// Its title.
    pub title: String,
    /// What its draws begin from.
    pub seed: u64,
    /// Lines of comment above all.
    pub comment: Vec<String>,
    /// What it follows.
    pub watch: Vec<String>,
}

/// A whole rehearsal. `expect` are conditions that stand at its end, each with its reason.
#[must_use]
pub fn document(project: &Project, head: &Head, steps: &[Action], expect: &[(String, String)]) -> String {
    let mut text = String::new();
    for line in &head.comment {
        let _ = writeln!(text, "# {}", line.replace(char::is_control, " "));
    }
    let _ = writeln!(text, "title = {}", quoted(&head.title));
    if head.seed != 0 {
        let _ = writeln!(text, "seed = {}", head.seed.cast_signed());
    }
    if !head.watch.is_empty() {
        let names: Vec<String> = head.watch.iter().map(|name| quoted(name)).collect();
        let _ = writeln!(text, "watch = [{}]", names.join(", "));
    }
    for step in steps {
        let _ = write!(text, "\n[[step]]\n");
        for (key, value) in step_keys(project, step) {
            let _ = writeln!(text, "{key} = {value}");
        }
    }
    for (condition, because) in expect {
        let _ = write!(text, "\n[[step]]\nexpect = {}\nbecause = {}\n", quoted(condition), quoted(because));
    }
    text
}

/// The keys of a step with their values in TOML; an `expect` can't be written back.
#[must_use]
pub fn step_keys(project: &Project, step: &Action) -> Vec<(&'static str, String)> {
    match step {
        Action::Fire { signal, on, with, times } => {
            let signal = project.registry.signal(*signal);
            let mut keys = vec![("fire", quoted(&signal.name))];
            keys.extend(on.map(|who| ("on", quoted(&who_name(project, who)))));
            let pairs: Vec<String> = signal
                .parameters
                .iter()
                .zip(with)
                .map(|(parameter, given)| format!("{} = {}", key(&parameter.name), given_text(project, given)))
                .collect();
            if !pairs.is_empty() {
                keys.push(("with", format!("{{ {} }}", pairs.join(", "))));
            }
            if *times > 1 {
                keys.push(("times", times.to_string()));
            }
            keys
        }
        Action::Pass(ticks) => vec![("pass", quoted(&duration_text(project, *ticks)))],
        Action::Choose(choice) => vec![("choose", (choice + 1).to_string())],
        Action::Set(puts) => {
            let pairs: Vec<String> = puts
                .iter()
                .map(|put| format!("{} = {}", quoted(&put_name(project, put)), given_text(project, &put.value)))
                .collect();
            vec![("set", format!("{{ {} }}", pairs.join(", ")))]
        }
        Action::Go(scene) => vec![("go", quoted(&project.registry.owner(*scene).name))],
        Action::Restart => vec![("restart", "true".to_owned())],
        Action::Expect { .. } => Vec::new(),
    }
}

/// The name by which a rehearsal calls a variable of an instance.
#[must_use]
pub fn put_name(project: &Project, put: &Put) -> String {
    match put.of {
        Some(who) => format!("{}.{}", who_name(project, who), project.registry.var(put.variable).name),
        None => project.registry.identity(put.variable),
    }
}

/// The name by which a rehearsal calls an instance.
#[must_use]
pub fn who_name(project: &Project, who: Who) -> String {
    match who {
        Who::Listed(instance) => project.registry.instance(instance).name.to_string(),
        Who::New(actor) => project.registry.owner(actor).name.to_string(),
        Who::Made(actor, number) => format!("{} {number}", project.registry.owner(actor).name),
    }
}

fn given_text(project: &Project, given: &Given) -> String {
    match given {
        Given::Nobody => quoted("none"),
        Given::Instance(who) => quoted(&who_name(project, *who)),
        Given::Plain(Value::Text(text)) => quoted(text),
        Given::Plain(Value::Bool(value)) => value.to_string(),
        Given::Plain(Value::Int(value)) => value.to_string(),
        Given::Plain(Value::Number(value)) => format!("{value:?}"),
        Given::Plain(Value::Vector(parts)) => {
            let parts: Vec<String> = parts.iter().map(|part| format!("{part:?}")).collect();
            format!("[{}]", parts.join(", "))
        }
        Given::Plain(Value::Ref(instance)) => quoted(&project.registry.instance(*instance).name),
    }
}

/// A length of time, in seconds where that is exact to the millisecond.
#[must_use]
#[allow(clippy::cast_precision_loss, reason = "lengths are far below 2 to the 53rd ticks")]
pub fn duration_text(project: &Project, ticks: u64) -> String {
    let seconds = ticks as f64 / project.config.tick_rate;
    let rounded = (seconds * 1000.0).round() / 1000.0;
    if (rounded - seconds).abs() < 1e-9 && ticks > 0 { format!("{rounded}s") } else { format!("{ticks}t") }
}

fn key(name: &str) -> String {
    let plain = !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_' || c == '-');
    if plain { name.to_owned() } else { quoted(name) }
}

fn quoted(text: &str) -> String {
    toml_edit::Value::from(text).to_string().trim().to_owned()
}
