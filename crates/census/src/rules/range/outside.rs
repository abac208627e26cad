//! The common part of `range/can-exceed` and `range/can-fall-below`: wording a write that can leave a range.

use crate::finding::{Finding, RuleName};
use crate::flow::engine::Event;
use crate::project::ScriptUnit;
use crate::registry::{End, VarId};
use crate::rules::Facts;
use crate::rules::facts::{each_event, range_text};
use crate::source::Span;
use crate::words::{about, number};

/// All writes that can leave a range at one end.
#[must_use]
pub fn check(facts: &Facts<'_>, rule: RuleName, wanted: End) -> Vec<Finding> {
    each_event(facts, |unit, event| match event {
        Event::Outside { at, written, variable, end, before, after, limit } if *end == wanted => {
            let finding = if written == variable {
                own(facts, unit, rule, *at, *variable, wanted, [*before, *after, *limit])
            } else {
                through_bound(facts, unit, rule, *at, *written, *variable, wanted)
            };
            let place = &facts.registry().var(*variable).place;
            Some(finding.with(place.key(wanted.word()), format!("its `{}` is set here", wanted.word())))
        }
        _ => None,
    })
}

/// The write itself goes too far.
fn own(
    facts: &Facts<'_>,
    unit: &ScriptUnit,
    rule: RuleName,
    at: Span,
    variable: VarId,
    end: End,
    [before, after, limit]: [(f64, f64); 3],
) -> Finding {
    let registry = facts.registry();
    let identity = registry.identity(variable);
    let name = &registry.var(variable).name;
    let statement = first_line(facts.project.text(unit, at));
    let (far, side) = match end {
        End::Max => (after.1, "up to"),
        End::Min => (after.0, "as low as"),
    };
    let reached = if far.is_finite() {
        let limits = [limit.0, limit.1].map(number);
        let far = Some(about(far)).filter(|text| !limits.contains(text)).unwrap_or_else(|| number(far));
        format!("`{statement}` makes it {side} {far}")
    } else {
        format!("`{statement}` sets no limit to it")
    };
    let bound = facts.bound_text(variable, end, limit);
    let was = range_text(before.0, before.1);
    let mut message = format!("`{name}` is {was} here, {reached}, and its {bound}.");
    if let Some(when) = when(name, end, before, after, limit) {
        message.push(' ');
        message.push_str(&when);
    }
    Finding::new(rule, unit.at(at), message).about(identity).help(cure(facts, unit, at, variable, end))
}

/// "It happens when `parcels` is 18 or more", where the step is the same for all values.
fn when(name: &str, end: End, before: (f64, f64), after: (f64, f64), limit: (f64, f64)) -> Option<String> {
    let step = match end {
        End::Max => after.1 - before.1,
        End::Min => after.0 - before.0,
    };
    let even = step == after.0 - before.0 && step == after.1 - before.1 && step != 0.0;
    if !even || !step.is_finite() || limit.0 != limit.1 {
        return None;
    }
    let turn = limit.0 - step;
    Some(match end {
        End::Max => format!("It happens when `{name}` is more than {}.", about(turn)),
        End::Min => format!("It happens when `{name}` is less than {}.", about(turn)),
    })
}

/// Two lines that can be pasted: one that puts the value right, one that asks beforehand.
fn cure(facts: &Facts<'_>, unit: &ScriptUnit, at: Span, variable: VarId, end: End) -> String {
    let statement = first_line(facts.project.text(unit, at));
    let (target, step) = match statement.split_once('=') {
        Some((left, value)) => {
            let target = left.trim_end_matches(['+', '-', '*', '/', ' ']);
            let sign = left[target.len()..].trim().chars().next().filter(|sign| "+-".contains(*sign));
            (target, sign.map(|sign| (sign, value.trim())))
        }
        None => (&*facts.registry().var(variable).name, None),
    };
    let (fit, sign) = if end == End::Max { ("min", "<=") } else { ("max", ">=") };
    let limit = format!("{target}.{}", end.word());
    let behind = format!("write `{target} = {fit}({target}, {limit})` behind it");
    match step {
        Some((by, value)) if value.contains(' ') => {
            format!("{behind}, or test `{target} {by} ({value}) {sign} {limit}` before it")
        }
        Some((by, value)) => format!("{behind}, or test `{target} {by} {value} {sign} {limit}` before it"),
        None => behind,
    }
}

/// A bound is moved past what it bounds.
fn through_bound(
    facts: &Facts<'_>,
    unit: &ScriptUnit,
    rule: RuleName,
    at: Span,
    written: VarId,
    variable: VarId,
    end: End,
) -> Finding {
    let registry = facts.registry();
    let (bound, own) = (registry.identity(written), registry.identity(variable));
    let side = if end == End::Max { "below" } else { "above" };
    let message =
        format!("`{bound}` is the `{}` of `{own}`, and this can move it {side} what `{own}` is by then", end.word());
    let fit = if end == End::Max { "min" } else { "max" };
    let name = &registry.var(variable).name;
    Finding::new(rule, unit.at(at), message)
        .about(own.clone())
        .help(format!("move `{name}` along: `{name} = {fit}({name}, {})` behind it", registry.var(written).name))
}

fn first_line(text: &str) -> &str {
    text.lines().next().unwrap_or("").trim_end_matches('{').trim()
}
