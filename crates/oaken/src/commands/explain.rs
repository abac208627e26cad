//! `oaken explain`

use super::{Format, Outcome};
use crate::Failure;
use crate::print::{Out, faint, level_style, strong, width, wrap};
use census::rules::{self, Rule};
use census::words::did_you_mean;
use serde_json::json;
use std::io;
use std::process::ExitCode;

/// Options of `oaken explain`.
#[derive(clap::Args)]
pub struct Options {
    /// The rule, as in `range/can-exceed`; without it, all rules are listed.
    rule: Option<String>,
    /// How it is written.
    #[arg(long, value_enum, default_value = "text")]
    format: Format,
}

/// Explains a rule, or lists them.
pub fn run(options: &Options) -> Outcome {
    let chosen: Vec<&Rule> = match &options.rule {
        None => rules::all(),
        Some(name) => vec![find(name)?],
    };
    let mut out = Out::new();
    match options.format {
        Format::Json => {
            let list: Vec<_> = chosen.iter().map(|rule| as_json(rule)).collect();
            let document = json!({ "schema": "oaken-census/rules/1", "rules": list });
            out.json(&document)?;
        }
        Format::Text if options.rule.is_some() => explain(&mut out, chosen[0])?,
        Format::Text => list(&mut out, &chosen)?,
    }
    out.finish()?;
    Ok(ExitCode::SUCCESS)
}

fn find(name: &str) -> Result<&'static Rule, Failure> {
    rules::find(name).ok_or_else(|| {
        let names = rules::all();
        let family: Vec<&str> =
            names.iter().map(|rule| rule.name.0).filter(|rule| rule.starts_with(&format!("{name}/"))).collect();
        let hint = if family.is_empty() {
            did_you_mean(name, names.iter().map(|rule| rule.name.0))
                .unwrap_or_else(|| "`oaken explain` lists them all".to_owned())
        } else {
            format!("it is a family: {}", family.join(", "))
        };
        Failure(format!("there is no rule `{name}`; {hint}"))
    })
}

fn as_json(rule: &Rule) -> serde_json::Value {
    json!({
        "rule": rule.name.0,
        "level": rule.level.word(),
        "means": rule.means,
        "hurts": rule.hurts,
        "bad": { "registry": rule.bad.registry, "script": rule.bad.script },
        "good": { "registry": rule.good.registry, "script": rule.good.script },
    })
}

fn list(out: &mut Out, rules: &[&Rule]) -> io::Result<()> {
    let mut family = "";
    for rule in rules {
        if rule.name.family() != family {
            if !family.is_empty() {
                out.line("")?;
            }
            family = rule.name.family();
        }
        let (level, faint) = (level_style(rule.level), faint());
        out.line(&format!(
            "{:<28} {level}{:<8}{level:#} {faint}{}{faint:#}",
            rule.name.0,
            rule.level.word(),
            first_clause(rule.means)
        ))?;
    }
    out.line("\n`oaken explain RULE` shows what one means, why it hurts in play, and an example.")
}

fn first_clause(text: &str) -> String {
    let room = width().saturating_sub(39);
    let mut short: String = text.chars().take(room).collect();
    if text.chars().count() > room {
        short.pop();
        short.push('…');
    }
    short
}

fn explain(out: &mut Out, rule: &Rule) -> io::Result<()> {
    let (strong, level) = (strong(), level_style(rule.level));
    out.line(&format!("{strong}{}{strong:#}  {level}{}{level:#}\n", rule.name, rule.level.word()))?;
    for text in [rule.means, rule.hurts] {
        for line in wrap(text, width().min(90)) {
            out.line(&line)?;
        }
    }
    for (title, example) in [("This is flagged:", rule.bad), ("This is not:", rule.good)] {
        out.line(&format!("\n{strong}{title}{strong:#}"))?;
        if !example.registry.is_empty() {
            block(out, example.registry)?;
        }
        block(out, example.script)?;
    }
    Ok(())
}

fn block(out: &mut Out, text: &str) -> io::Result<()> {
    let faint = faint();
    out.line("")?;
    for line in text.trim_end().lines() {
        out.line(format!("    {faint}│{faint:#} {line}").trim_end())?;
    }
    Ok(())
}
