//! How rehearsals went, for people: one line each, and what is behind a failure.

use super::{Out, faint, level_style, plain, plain_line, strong, width, wrap};
use crate::commands::rehearse::Played;
use anstyle::AnsiColor;
use census::finding::{Finding, Level};
use census::rehearsal::Rehearsal;
use census::rehearsal::play::{Failure, Happened, Outcome, Why, unmet_faults};
use census::rehearsal::record::{Entry, What, trigger_text};
use census::rehearse::layout::Layout;
use census::source::{FileId, Location};
use census::words::count;
use std::io;

/// Writes how rehearsals went.
pub fn print(layout: &Layout<'_>, played: &[Played<'_>], log: bool) -> io::Result<()> {
    let mut out = Out::new();
    let mut text = Text { layout, out: &mut out };
    for one in played {
        match one {
            Played::Done(rehearsal, outcome) => text.outcome(rehearsal, outcome, log)?,
            Played::Unreadable(file, problems) => text.unreadable(*file, problems)?,
        }
    }
    text.out.line(&summary(played))?;
    out.finish()
}

fn summary(played: &[Played<'_>]) -> String {
    let passed = played.iter().filter(|one| one.passed()).count();
    let unreadable = played.iter().filter(|one| matches!(one, Played::Unreadable(..))).count();
    let failed = played.len() - passed - unreadable;
    if played.is_empty() {
        return "There are no rehearsals: `rehearsals/NAME.toml` is where they go.".to_owned();
    }
    let mut text = format!("{} passed", count(passed, "rehearsal"));
    if failed > 0 {
        text.push_str(&format!(", {failed} failed"));
    }
    if unreadable > 0 {
        text.push_str(&format!(", {unreadable} can't be played"));
    }
    text + "."
}

/// A moment as people read it: `0.5s`.
#[must_use]
pub fn moment(layout: &Layout<'_>, tick: u64) -> String {
    format!("{}s", census::words::number(seconds(layout, tick)))
}

/// A moment in seconds, to the millisecond.
#[must_use]
#[allow(clippy::cast_precision_loss, reason = "a run is shorter than 2 to the 53rd ticks")]
pub fn seconds(layout: &Layout<'_>, tick: u64) -> f64 {
    (tick as f64 / layout.project.config.tick_rate * 1000.0).round() / 1000.0
}

struct Text<'a, 'p> {
    layout: &'a Layout<'p>,
    out: &'a mut Out,
}

impl Text<'_, '_> {
    fn outcome(&mut self, rehearsal: &Rehearsal, outcome: &Outcome<'_>, log: bool) -> io::Result<()> {
        let strong = strong();
        let (word, style) = if outcome.passed() {
            ("passed", AnsiColor::Green.on_default())
        } else {
            ("FAILED", level_style(Level::Error))
        };
        let file = &self.layout.project.sources.file(rehearsal.file).path;
        let title = if rehearsal.title == **file { String::new() } else { plain_line(&rehearsal.title) + "  " };
        let faint = faint();
        let took = moment(self.layout, outcome.ticks);
        let path = plain_line(file);
        self.out.line(&format!("{style}{word}{style:#}  {strong}{title}{strong:#}{faint}{path}, {took}{faint:#}"))?;
        if log {
            for entry in &outcome.recorder.log {
                self.entry(entry, 2)?;
            }
        }
        for failure in &outcome.failures {
            self.failure(rehearsal, failure)?;
        }
        self.left_out(outcome.failed, outcome.failures.len(), "failed step")?;
        for happened in outcome.faults.iter().filter(|happened| !happened.meant || log) {
            self.fault(happened)?;
        }
        let told: u64 = outcome.faults.iter().map(|happened| happened.times).sum();
        self.left_out(outcome.fault_count, usize::try_from(told).unwrap_or(usize::MAX), "fault")?;
        if let Some(stopped) = &outcome.stopped {
            let place = self.place(stopped.at);
            self.wrapped(&format!("stopped at {place}: {}", stopped.message), 2)?;
        }
        for rule in unmet_faults(rehearsal, outcome) {
            self.wrapped(&format!("`{rule}` is meant to happen here, and did not: `faults` can do without it"), 2)?;
        }
        Ok(())
    }

    fn left_out(&mut self, all: u64, told: usize, what: &str) -> io::Result<()> {
        let left = usize::try_from(all).unwrap_or(usize::MAX).saturating_sub(told);
        if left == 0 { Ok(()) } else { self.out.line(&format!("  … and {} more", count(left, what))) }
    }

    fn unreadable(&mut self, file: FileId, problems: &[Finding]) -> io::Result<()> {
        let (style, strong) = (level_style(Level::Error), strong());
        let source = self.layout.project.sources.file(file);
        let path = plain_line(&source.path);
        self.out.line(&format!("{style}UNREADABLE{style:#}  {strong}{path}{strong:#}"))?;
        for problem in problems {
            let at = source.position(problem.at.span.start);
            self.wrapped(&format!("line {}: {}", at.line, problem.message), 2)?;
            if let Some(help) = &problem.help {
                self.wrapped(&format!("→ {help}"), 4)?;
            }
        }
        Ok(())
    }

    fn failure(&mut self, rehearsal: &Rehearsal, failure: &Failure) -> io::Result<()> {
        let line = self.layout.project.sources.file(failure.at.file).position(failure.at.span.start).line;
        let step = match failure.step {
            Some(step) => format!("step {} of {}, line {line}", step + 1, rehearsal.steps.len()),
            None => "`given`".to_owned(),
        };
        match &failure.why {
            Why::Undoable(why) => self.wrapped(&format!("{step}: {why}"), 2),
            Why::Unmet { expected, because, unanswered, reads, changes } => {
                let strong = strong();
                self.out.line(&format!("  {step}: expected {strong}{}{strong:#}", plain_line(expected)))?;
                if let Some(because) = because {
                    self.wrapped(&format!("because {because}"), 4)?;
                }
                if let Some(unanswered) = unanswered {
                    self.wrapped(unanswered, 4)?;
                }
                let widest = reads.iter().map(|read| read.name.chars().count()).max().unwrap_or(0);
                for read in reads {
                    self.out.line(&format!("    {:<widest$}  {}", plain_line(&read.name), plain_line(&read.value)))?;
                }
                if !changes.is_empty() {
                    self.out.line("    the last changes before it:")?;
                }
                for entry in changes {
                    self.entry(entry, 4)?;
                }
                Ok(())
            }
        }
    }

    fn fault(&mut self, happened: &Happened) -> io::Result<()> {
        let fault = &happened.fault;
        let style = if happened.meant { faint() } else { level_style(Level::Error) };
        let times = if happened.times > 1 { format!(", {} times in all", happened.times) } else { String::new() };
        let (moment, place) = (moment(self.layout, fault.tick), self.place(fault.at));
        let meant = if happened.meant { " (meant)" } else { "" };
        self.out.line(&format!("  {style}fault{style:#} at {moment}, {place}: {}{meant}{times}", fault.rule))?;
        self.wrapped(&fault.message, 4)
    }

    fn place(&self, at: Location) -> String {
        let file = self.layout.project.sources.file(at.file);
        format!("{}:{}", plain_line(&file.path), file.position(at.span.start).line)
    }

    /// `0.5s  touched  scripts/loading.oaken:8  dawn_boat.parcels  19 → 20`
    fn entry(&mut self, entry: &Entry, indent: usize) -> io::Result<()> {
        let faint = faint();
        let trigger = match (entry.handler, entry.step) {
            (Some(handler), _) => trigger_text(self.layout, handler),
            (None, Some(step)) => format!("step {}", step + 1),
            (None, None) => "at the start".to_owned(),
        };
        let place = entry.at.map_or_else(String::new, |at| self.place(at));
        let moment = moment(self.layout, entry.tick);
        let what = plain_line(&what_text(&entry.what));
        let trigger = plain_line(&trigger);
        self.out.line(&format!("{:indent$}{moment:>8}  {faint}{trigger:<16} {place:<28}{faint:#} {what}", ""))
    }

    fn wrapped(&mut self, text: &str, indent: usize) -> io::Result<()> {
        for line in wrap(&plain(text), width().saturating_sub(indent)) {
            self.out.line(&format!("{:indent$}{line}", ""))?;
        }
        Ok(())
    }
}

fn what_text(what: &What) -> String {
    match what {
        What::Changed { name, old, new } => format!("{name}  {old} → {new}"),
        What::Shown { label: Some(label), text } => format!("{label} shows \"{text}\""),
        What::Shown { label: None, text } => format!("shows \"{text}\""),
        What::Hidden { label } => format!("{label} is hidden"),
        What::Asked { text, choices } => format!("asks \"{text}\": {}", choices.join(" / ")),
        What::Noted { text } => format!("note: {text}"),
        What::Fault { rule, message } => format!("fault {rule}: {message}"),
        What::Scene { name } => format!("the scene {name} is loaded"),
        What::Run => "a run begins".to_owned(),
    }
}
