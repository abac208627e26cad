//! What is in a chart: values as steps over time, in panels and lanes.

use crate::print::plain_line;
use census::project::Project;
use census::rehearsal::Rehearsal;
use census::rehearsal::play::Outcome;
use census::rehearsal::record::{Point, Track};
use census::rehearse::value::Value;

/// How many panels of numbers fit.
const MOST_PANELS: usize = 5;
/// How many lines fit into one panel.
const MOST_LINES: usize = 6;
/// How many lanes of words fit.
const MOST_LANES: usize = 8;
/// How many moments of one line are drawn; more can't be told apart.
const MOST_MOMENTS: usize = 2_000;

/// A value that holds from a moment on.
#[derive(Clone, Debug, PartialEq)]
pub struct Moment<T> {
    /// On the axis: seconds, or firings.
    pub at: f64,
    /// None: there is no value.
    pub value: Option<T>,
}

/// One line of numbers.
#[derive(Debug)]
pub struct Line {
    /// Its name.
    pub name: String,
    /// Its values.
    pub moments: Vec<Moment<f64>>,
    /// The lower end of its range.
    pub min: Vec<Moment<f64>>,
    /// The upper end of its range.
    pub max: Vec<Moment<f64>>,
}

/// Lines that share their unit.
#[derive(Debug)]
pub struct Panel {
    /// Above it: the unit, or the variable.
    pub title: String,
    /// Its lines.
    pub lines: Vec<Line>,
}

/// A value in words over time.
#[derive(Debug)]
pub struct Lane {
    /// Its name.
    pub name: String,
    /// Its values.
    pub moments: Vec<Moment<String>>,
}

/// A whole chart.
#[derive(Debug)]
pub struct Scene {
    /// The rehearsal's title.
    pub title: String,
    /// Under the axis.
    pub axis: &'static str,
    /// Where the axis ends.
    pub end: f64,
    /// The panels.
    pub panels: Vec<Panel>,
    /// The lanes.
    pub lanes: Vec<Lane>,
    /// When faults happened.
    pub faults: Vec<(f64, &'static str)>,
    /// What did not fit.
    pub left_out: usize,
}

impl Scene {
    /// What the chart of a rehearsal shows.
    #[must_use]
    #[allow(clippy::cast_precision_loss, reason = "moments are drawn, not reckoned with")]
    pub fn new(project: &Project, rehearsal: &Rehearsal, outcome: &Outcome<'_>) -> Self {
        // Where no time passes at all, the firings themselves are the axis.
        let by_time = outcome.ticks > 0;
        let rate = project.config.tick_rate;
        let place = move |tick: u64, act: u64| if by_time { tick as f64 / rate } else { act as f64 };
        let end = place(outcome.ticks, outcome.recorder.act);
        let mut scene = Self {
            title: plain_line(&rehearsal.title),
            axis: if by_time { "seconds" } else { "acts" },
            end: if end > 0.0 { end } else { 1.0 },
            panels: Vec::new(),
            lanes: Vec::new(),
            faults: outcome.recorder.marks.iter().map(|mark| (place(mark.tick, mark.act), mark.rule)).collect(),
            left_out: 0,
        };
        for track in &outcome.recorder.tracks {
            scene.add(project, track, &place);
        }
        scene
    }

    fn add(&mut self, project: &Project, track: &Track, place: &dyn Fn(u64, u64) -> f64) {
        let at = |point: &Point| place(point.tick, point.act);
        let name = plain_line(&track.name);
        let is_number = |point: &Point| point.value.as_ref().is_some_and(|value| value.as_number().is_some());
        if !track.points.iter().any(is_number) {
            let moments = track.points.iter().map(|point| Moment { at: at(point), value: word(point) });
            if self.lanes.len() < MOST_LANES {
                self.lanes.push(Lane { name, moments: thin(moments.collect()) });
            } else {
                self.left_out += 1;
            }
            return;
        }
        let numbers = |pick: &dyn Fn(&Point) -> Option<f64>| -> Vec<Moment<f64>> {
            thin(track.points.iter().map(|point| Moment { at: at(point), value: pick(point) }).collect())
        };
        let line = Line {
            name,
            moments: numbers(&|point| point.value.as_ref().and_then(Value::as_number)),
            min: numbers(&|point| point.range.0),
            max: numbers(&|point| point.range.1),
        };
        let variable = project.variable_of(track.cell).map(|id| (id, project.registry.var(id)));
        let title = match variable {
            Some((_, facts)) if facts.unit.is_some() => facts.unit.clone().unwrap_or_default(),
            Some((id, _)) => project.registry.identity(id),
            None => track.name.clone(),
        };
        self.place(plain_line(&title), line);
    }

    fn place(&mut self, title: String, line: Line) {
        match self.panels.iter().position(|panel| panel.title == title) {
            Some(at) if self.panels[at].lines.len() < MOST_LINES => self.panels[at].lines.push(line),
            None if self.panels.len() < MOST_PANELS => self.panels.push(Panel { title, lines: vec![line] }),
            _ => self.left_out += 1,
        }
    }
}

/// A value in words: none where there is nothing to show.
fn word(point: &Point) -> Option<String> {
    Some(match point.value.as_ref()? {
        Value::Bool(value) => if *value { "yes" } else { "no" }.to_owned(),
        Value::Text(text) => plain_line(text),
        Value::Ref(None) => "none".to_owned(),
        Value::Ref(Some(_)) => "set".to_owned(),
        Value::Vec2(parts) => format!("({:.1}, {:.1})", parts[0], parts[1]),
        Value::Vec3(parts) => format!("({:.1}, {:.1}, {:.1})", parts[0], parts[1], parts[2]),
        number => number.as_number().map_or_else(String::new, |number| number.to_string()),
    })
}

/// Leaves out moments that repeat the value before, and then those that lie too close to be told apart.
fn thin<T: PartialEq + Clone>(mut moments: Vec<Moment<T>>) -> Vec<Moment<T>> {
    moments.dedup_by(|next, before| next.value == before.value);
    if moments.len() <= MOST_MOMENTS {
        return moments;
    }
    let stride = moments.len().div_ceil(MOST_MOMENTS);
    let last = moments.last().cloned();
    let mut thinned: Vec<Moment<T>> = moments.into_iter().step_by(stride).collect();
    thinned.extend(last);
    thinned
}
