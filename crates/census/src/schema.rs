//! JSON Schemas of `oaken.toml`, registry files and rehearsals, made from the same lists that the readers use.

use crate::finding::Level;
use crate::registry::Lifetime;
use crate::rehearsal::read::KINDS;
use crate::rules;
use serde_json::{Value, json};

/// What a schema describes.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Part {
    /// `oaken.toml`
    Config,
    /// A registry file.
    Registry,
    /// A rehearsal.
    Rehearsal,
}

const NAME: &str = "^[\\p{L}_][\\p{L}\\p{N}_]*$";
const TYPES: [&str; 9] = ["bool", "int", "number", "text", "enum", "ref", "vec2", "vec3", "actor"];

/// The schema, by draft 2020-12.
#[must_use]
pub fn schema(part: Part) -> Value {
    let mut schema = match part {
        Part::Config => config(),
        Part::Registry => registry(),
        Part::Rehearsal => rehearsal(),
    };
    schema["$schema"] = json!("https://json-schema.org/draft/2020-12/schema");
    schema
}

fn object(properties: Value) -> Value {
    json!({ "type": "object", "properties": properties, "additionalProperties": false })
}

fn with(mut schema: Value, required: &[&str]) -> Value {
    schema["required"] = json!(required);
    schema
}

fn entries(entry: Value) -> Value {
    json!({ "type": "object", "patternProperties": { NAME: entry }, "additionalProperties": false })
}

fn text(description: &str) -> Value {
    json!({ "type": "string", "description": description })
}

fn texts(description: &str) -> Value {
    json!({ "type": "array", "items": { "type": "string" }, "description": description })
}

fn flag(description: &str) -> Value {
    json!({ "type": "boolean", "description": description })
}

fn one_of(words: &[&str], description: &str) -> Value {
    json!({ "enum": words, "description": description })
}

fn lifetimes() -> [&'static str; 3] {
    [Lifetime::Run, Lifetime::Session, Lifetime::Saved].map(Lifetime::word)
}

fn config() -> Value {
    let levels = [Level::Off, Level::Note, Level::Warning, Level::Error].map(Level::word);
    let names: Vec<&str> = rules::all().iter().map(|rule| rule.name.0).chain(rules::families()).collect();
    let rules: serde_json::Map<String, Value> =
        names.into_iter().map(|name| (name.to_owned(), json!({ "enum": levels }))).collect();
    let project = object(json!({
        "name": text("The project's name"),
        "registry": texts("Files or folders, searched for *.toml"),
        "scripts": texts("Files or folders, searched for *.oaken"),
        "rehearsals": texts("Files or folders, searched for *.toml"),
        "first_scene": text("The scene a run begins in"),
        "lifetime": one_of(&lifetimes(), "The lifetime of a variable that states none"),
        "tick_rate": { "type": "number", "exclusiveMinimum": 0, "description": "Ticks in a second" },
    }));
    let whole = object(json!({
        "project": with(project, &["name"]),
        "order": object(json!({ "first": texts("Scripts that answer a trigger first, in this order") })),
        "sharing": object(json!({
            "writers": one_of(&["owner", "anyone"], "Who may write a variable that lists no writers"),
        })),
        "names": object(json!({
            "variable": one_of(&["snake", "camel", "pascal", "any"], "How variables are spelled"),
            "prefixes": { "type": "object", "additionalProperties": { "type": "array", "items": { "type": "string" } } },
        })),
        "rules": { "type": "object", "properties": rules, "additionalProperties": false },
    }));
    with(whole, &["project"])
}

fn registry() -> Value {
    object(json!({
        "owners": entries(with(
            object(json!({
                "kind": one_of(&["actor", "scene", "system"], "What it is"),
                "count": one_of(&["one", "many"], "Actors: how many may be alive at a time"),
                "about": text("What it is for"),
                "steward": text("Who answers for it"),
            })),
            &["kind"],
        )),
        "variables": { "type": "object", "patternProperties": { NAME: entries(variable()) }, "additionalProperties": false },
        "instances": entries(with(
            object(json!({
                "of": text("The actor"),
                "scene": text("Where it stands when that scene loads"),
                "start": { "type": "object", "description": "Its own starting values" },
            })),
            &["of"],
        )),
        "signals": entries(with(
            object(json!({
                "from": one_of(&["engine", "script"], "Who sends it"),
                "to": one_of(&["instance", "all"], "Engine signals: whom it happens to"),
                "bursts": flag("The game may send it many times for one act"),
                "parameters": { "type": "object", "additionalProperties": parameter() },
            })),
            &["from"],
        )),
        "invariants": entries(with(
            object(json!({
                "holds": text("An expression over registry variables"),
                "about": text("What it is for"),
            })),
            &["holds"],
        )),
    }))
}

fn parameter() -> Value {
    json!({ "anyOf": [
        { "type": "string", "description": "A type, `actor`, or an actor's name" },
        object(json!({ "type": { "type": "string" }, "min": { "type": "number" }, "max": { "type": "number" } })),
    ] })
}

fn variable() -> Value {
    let bound = |what: &str| json!({ "type": ["number", "string"], "description": what });
    let entry = object(json!({
        "type": one_of(&TYPES[..8], "What it holds"),
        "scope": one_of(&["global", "scene", "type", "instance"], "How far it reaches"),
        "default": {
            "type": ["boolean", "number", "string", "array"],
            "items": { "type": "number" },
            "description": "What it starts as",
        },
        "min": bound("The least it may be: a number, or a variable's identity"),
        "max": bound("The most it may be: a number, or a variable's identity"),
        "overflow": one_of(&["error", "clamp", "wrap"], "What the game does with a write beyond the range"),
        "values": { "type": "array", "items": { "type": "string" }, "minItems": 2, "uniqueItems": true },
        "of": text("The actor that a ref refers to"),
        "unit": text("Shown beside the value"),
        "engine": one_of(&["reads", "writes", "both"], "What the game itself does with it"),
        "constant": flag("A tuning value: no script may write it"),
        "lifetime": one_of(&lifetimes(), "How long it is kept"),
        "writers": texts("The owners whose scripts may write it"),
        "placeholder": flag("The default is a stand-in"),
        "slot": { "type": "integer", "minimum": 1, "description": "The number by which an engine addresses it" },
        "steward": text("Who answers for it"),
        "about": text("What it is for"),
        "tags": texts("Tags"),
        "formerly": texts("What it was called before"),
        "retired": with(object(json!({ "since": text("Since when"), "use": text("What to use instead") })), &["since"]),
    }));
    with(entry, &["type", "scope"])
}

fn rehearsal() -> Value {
    let values = json!({ "type": "object", "description": "Values by the names of variables" });
    let step = json!({
        "type": "object",
        "properties": {
            "fire": text("A signal of the game"),
            "on": text("The instance that it happens to"),
            "with": { "type": "object", "description": "Arguments by name" },
            "times": { "type": "integer", "minimum": 1 },
            "pass": { "type": "string", "pattern": "^[0-9]+(\\.[0-9]+)?(s|ms|t)$", "description": "Time to pass" },
            "choose": { "type": "integer", "minimum": 1, "description": "A choice of the oldest open question" },
            "expect": text("An expression that must hold"),
            "because": text("Why"),
            "set": values.clone(),
            "go": text("A scene to load"),
            "restart": { "const": true },
        },
        "additionalProperties": false,
        "oneOf": KINDS.map(|kind| json!({ "required": [kind] })),
    });
    let names: Vec<&str> = rules::all().iter().map(|rule| rule.name.0).collect();
    object(json!({
        "title": text("What it shows"),
        "seed": { "type": "integer" },
        "watch": texts("What the log and the chart follow"),
        "given": values,
        "faults": { "type": "array", "items": { "enum": names }, "description": "Faults that are meant to happen" },
        "step": { "type": "array", "items": step },
    }))
}
