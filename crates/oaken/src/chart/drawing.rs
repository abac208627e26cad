//! Puts a chart on paper.

use super::scene::{Lane, Moment, Panel, Scene};
use census::words::number;
use plotters::coord::Shift;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};

type Drawn<D> = Result<(), DrawingAreaErrorKind<<D as DrawingBackend>::ErrorType>>;

const LEFT: i32 = 76;
const RIGHT: i32 = 226;
const TOP: i32 = 80;
const BOTTOM: i32 = 74;
const GAP: i32 = 34;
const LANE: i32 = 26;
const INK: RGBColor = RGBColor(34, 38, 42);
const FAINT: RGBColor = RGBColor(120, 124, 128);
const GRID: RGBColor = RGBColor(226, 224, 218);
const PAPER: RGBColor = RGBColor(251, 250, 247);
const FAULT: RGBColor = RGBColor(176, 0, 32);
/// Dark enough for paper, and of different greys.
const LINES: [RGBColor; 6] = [
    RGBColor(16, 66, 92),
    RGBColor(196, 98, 16),
    RGBColor(60, 130, 90),
    RGBColor(128, 50, 120),
    RGBColor(90, 90, 90),
    RGBColor(40, 150, 190),
];
/// Drawn and left blank, in pixels, for each line of a panel; the first is whole.
const DASHES: [(i32, i32); 6] = [(0, 0), (10, 4), (3, 3), (16, 5), (6, 6), (2, 5)];

/// Draws a chart.
pub fn draw<D: DrawingBackend>(area: &DrawingArea<D, Shift>, scene: &Scene) -> Drawn<D> {
    area.fill(&PAPER)?;
    let (width, height) = area.dim_in_pixel();
    let paper = Paper {
        area,
        scene,
        left: LEFT,
        right: i32::try_from(width).unwrap_or(1280) - RIGHT,
        height: i32::try_from(height).unwrap_or(800),
    };
    paper.write(&scene.title, (LEFT, 22), 20, INK, true, HPos::Left)?;
    let lanes = i32::try_from(scene.lanes.len()).unwrap_or(0) * LANE;
    let room = paper.height - TOP - BOTTOM - lanes - if lanes > 0 { GAP } else { 0 };
    let panels = i32::try_from(scene.panels.len()).unwrap_or(1).max(1);
    let each = (room - GAP * (panels - 1)) / panels;
    let mut top = TOP;
    for panel in &scene.panels {
        paper.panel(panel, top, top + each)?;
        top += each + GAP;
    }
    for lane in &scene.lanes {
        paper.lane(lane, top)?;
        top += LANE;
    }
    if scene.panels.is_empty() && scene.lanes.is_empty() {
        paper.write("Nothing that is watched has a value.", (LEFT, TOP + 40), 16, FAINT, false, HPos::Left)?;
    }
    paper.axis()?;
    paper.faults()?;
    area.present()
}

struct Paper<'a, D: DrawingBackend> {
    area: &'a DrawingArea<D, Shift>,
    scene: &'a Scene,
    left: i32,
    right: i32,
    height: i32,
}

/// Where a panel's values lie.
#[derive(Clone, Copy)]
struct Scale {
    low: f64,
    high: f64,
    top: i32,
    bottom: i32,
}

impl Scale {
    #[allow(clippy::cast_possible_truncation, reason = "pixels")]
    fn y(self, value: f64) -> i32 {
        let share = (value - self.low) / (self.high - self.low);
        self.bottom - (share.clamp(-0.05, 1.05) * f64::from(self.bottom - self.top)).round() as i32
    }
}

impl<D: DrawingBackend> Paper<'_, D> {
    #[allow(clippy::cast_possible_truncation, reason = "pixels")]
    fn x(&self, at: f64) -> i32 {
        self.left + (at / self.scene.end * f64::from(self.right - self.left)).round() as i32
    }

    fn write(&self, text: &str, at: (i32, i32), size: i32, color: RGBColor, bold: bool, side: HPos) -> Drawn<D> {
        let style = if bold { FontStyle::Bold } else { FontStyle::Normal };
        let font = ("sans-serif", size, style).into_font().color(&color).pos(Pos::new(side, VPos::Center));
        self.area.draw(&Text::new(text.to_owned(), at, font))
    }

    fn stroke(&self, points: Vec<(i32, i32)>, color: RGBColor, width: u32) -> Drawn<D> {
        self.area.draw(&PathElement::new(points, color.stroke_width(width)))
    }

    // ---- numbers ----

    fn panel(&self, panel: &Panel, top: i32, bottom: i32) -> Drawn<D> {
        let scale = scale(panel, top, bottom);
        let title = format!("{}{}", panel.title, far_bounds(panel, scale));
        self.write(&title, (self.left, top - 14), 13, FAINT, false, HPos::Left)?;
        let whole = panel.lines.iter().all(|line| values(&line.moments).iter().all(|value| value.fract() == 0.0));
        let least = if whole { 1.0 } else { 0.0 };
        for value in ticks(scale.low, scale.high, (bottom - top) / 34, least) {
            let y = scale.y(value);
            self.stroke(vec![(self.left, y), (self.right, y)], GRID, 1)?;
            self.write(&number(value), (self.left - 8, y), 12, FAINT, false, HPos::Right)?;
        }
        self.bounds(panel, scale)?;
        let mut names: Vec<(i32, &str, usize)> = Vec::new();
        for (at, line) in panel.lines.iter().enumerate() {
            for run in runs(&line.moments, self.scene.end) {
                let points: Vec<(i32, i32)> = steps(&run).into_iter().map(|(x, y)| (self.x(x), scale.y(y))).collect();
                self.dashed(&points, LINES[at % LINES.len()], DASHES[at % DASHES.len()], 2)?;
            }
            let last = line.moments.iter().rev().find_map(|moment| moment.value);
            names.extend(last.map(|last| (scale.y(last), line.name.as_str(), at)));
        }
        self.names(names, bottom)
    }

    /// The ends of the ranges, each different one once.
    fn bounds(&self, panel: &Panel, scale: Scale) -> Drawn<D> {
        let mut drawn: Vec<&[Moment<f64>]> = Vec::new();
        for line in &panel.lines {
            for (word, moments) in [("min", &line.min), ("max", &line.max)] {
                let inside =
                    |moment: &Moment<f64>| moment.value.is_some_and(|value| value >= scale.low && value <= scale.high);
                if !moments.iter().any(inside) || drawn.contains(&&moments[..]) {
                    continue;
                }
                drawn.push(moments);
                for run in runs(moments, self.scene.end) {
                    let points: Vec<(i32, i32)> =
                        steps(&run).into_iter().map(|(x, y)| (self.x(x), scale.y(y))).collect();
                    self.dashed(&points, FAINT, (2, 4), 1)?;
                    if let (Some(&(x, y)), Some(&(_, value))) = (points.first(), run.first()) {
                        let away = if word == "min" { 9 } else { -9 };
                        let text = format!("{word} {}", number(value));
                        self.write(&text, (x + 6, y + away), 11, FAINT, false, HPos::Left)?;
                    }
                }
            }
        }
        Ok(())
    }

    /// The names of the lines at their right ends, pushed apart where they would meet.
    fn names(&self, mut names: Vec<(i32, &str, usize)>, bottom: i32) -> Drawn<D> {
        names.sort_unstable();
        let mut floor = bottom + 8;
        for (y, ..) in names.iter_mut().rev() {
            *y = (*y).min(floor);
            floor = *y - 16;
        }
        for (y, name, at) in names {
            let color = LINES[at % LINES.len()];
            self.dashed(&[(self.right + 6, y), (self.right + 30, y)], color, DASHES[at % DASHES.len()], 2)?;
            self.write(&short(name, 24), (self.right + 36, y), 13, color, false, HPos::Left)?;
        }
        Ok(())
    }

    fn dashed(&self, points: &[(i32, i32)], color: RGBColor, (on, off): (i32, i32), width: u32) -> Drawn<D> {
        if on == 0 {
            return self.stroke(points.to_vec(), color, width);
        }
        for pair in points.windows(2) {
            let ((x0, y0), (x1, y1)) = (pair[0], pair[1]);
            let length = (x1 - x0).abs().max((y1 - y0).abs());
            let (dx, dy) = ((x1 - x0).signum(), (y1 - y0).signum());
            let mut at = 0;
            while at < length {
                let end = (at + on).min(length);
                let from = (x0 + dx * at, y0 + dy * at);
                self.stroke(vec![from, (x0 + dx * end, y0 + dy * end)], color, width)?;
                at += on + off;
            }
        }
        Ok(())
    }

    // ---- words ----

    fn lane(&self, lane: &Lane, top: i32) -> Drawn<D> {
        let (y0, y1) = (top + 3, top + LANE - 3);
        let mut known: Vec<&str> = Vec::new();
        for (at, moment) in lane.moments.iter().enumerate() {
            let end = lane.moments.get(at + 1).map_or(self.scene.end, |next| next.at);
            let Some(value) = moment.value.as_deref() else { continue };
            let shade = known.iter().position(|other| *other == value).unwrap_or_else(|| {
                known.push(value);
                known.len() - 1
            });
            let (x0, x1) = (self.x(moment.at), self.x(end).max(self.x(moment.at) + 1));
            let grey = lane_shade(value, shade);
            self.area.draw(&Rectangle::new([(x0, y0), (x1, y1)], grey.filled()))?;
            self.stroke(vec![(x0, y0), (x0, y1)], PAPER, 1)?;
            let ink = if grey.0 < 140 { WHITE } else { INK };
            let fits = usize::try_from((x1 - x0 - 8) / 7).unwrap_or(0);
            if fits >= value.chars().count().min(4) {
                self.write(&short(value, fits), (x0 + 5, (y0 + y1) / 2), 12, ink, false, HPos::Left)?;
            }
        }
        self.write(&short(&lane.name, 26), (self.right + 8, (y0 + y1) / 2), 13, INK, false, HPos::Left)
    }

    // ---- around them ----

    fn axis(&self) -> Drawn<D> {
        let y = self.height - BOTTOM + 8;
        self.stroke(vec![(self.left, y), (self.right, y)], INK, 1)?;
        for value in ticks(0.0, self.scene.end, 10, 0.0) {
            let x = self.x(value);
            self.stroke(vec![(x, y), (x, y + 5)], INK, 1)?;
            self.write(&number(value), (x, y + 16), 12, INK, false, HPos::Center)?;
        }
        self.write(self.scene.axis, (self.right + 8, y), 12, FAINT, false, HPos::Left)?;
        if self.scene.left_out > 0 {
            let more = census::words::count(self.scene.left_out, "more value");
            let text = format!("{more} did not fit: choose with `watch`");
            self.write(&text, (self.right + RIGHT - 10, 22), 12, FAINT, false, HPos::Right)?;
        }
        Ok(())
    }

    fn faults(&self) -> Drawn<D> {
        let y = self.height - BOTTOM + 8;
        let mut rules: Vec<&str> = Vec::new();
        let mut last = i32::MIN;
        for &(at, rule) in &self.scene.faults {
            if !rules.contains(&rule) {
                rules.push(rule);
            }
            let x = self.x(at);
            if x == last {
                continue;
            }
            last = x;
            self.dashed(&[(x, TOP - 26), (x, y)], FAULT, (4, 4), 1)?;
            for (from, to) in [((-5, -5), (5, 5)), ((-5, 5), (5, -5))] {
                let cross = vec![(x + from.0, TOP - 33 + from.1), (x + to.0, TOP - 33 + to.1)];
                self.stroke(cross, FAULT, 2)?;
            }
        }
        if rules.is_empty() {
            return Ok(());
        }
        let count = census::words::count(self.scene.faults.len(), "fault");
        let text = format!("× {count}: {}", rules.join(", "));
        self.write(&short(&text, 150), (self.left, self.height - 20), 13, FAULT, false, HPos::Left)
    }
}

/// From white to dark, by the order in which values appear; false is always the lightest.
fn lane_shade(value: &str, at: usize) -> RGBColor {
    let shades = [205, 160, 110, 70, 185, 135, 90, 225];
    let level = match value {
        "no" | "none" => 228,
        "yes" | "set" => 96,
        _ => shades[at % shades.len()],
    };
    RGBColor(level, level, level)
}

fn short(text: &str, most: usize) -> String {
    if text.chars().count() <= most {
        return text.to_owned();
    }
    let mut cut: String = text.chars().take(most.saturating_sub(1)).collect();
    cut.push('…');
    cut
}

/// The values, and the ends of the ranges that do not lie so far off that the values would be flattened.
fn scale(panel: &Panel, top: i32, bottom: i32) -> Scale {
    let own: Vec<f64> = panel.lines.iter().flat_map(|line| values(&line.moments)).collect();
    let mut low = own.iter().copied().fold(f64::INFINITY, f64::min);
    let mut high = own.iter().copied().fold(f64::NEG_INFINITY, f64::max);
    let spread = (high - low).max(high.abs() * 0.5).max(1.0);
    for line in &panel.lines {
        for end in values(&line.min).into_iter().chain(values(&line.max)) {
            if end >= low - spread * 2.0 && end <= high + spread * 2.0 {
                low = low.min(end);
                high = high.max(end);
            }
        }
    }
    let margin = if high > low { (high - low) * 0.04 } else { 1.0 };
    Scale { low: low - margin, high: high + margin, top, bottom }
}

fn values(moments: &[Moment<f64>]) -> Vec<f64> {
    moments.iter().filter_map(|moment| moment.value).collect()
}

/// The ends of ranges that lie too far off to be drawn, in words.
fn far_bounds(panel: &Panel, scale: Scale) -> String {
    let mut told: Vec<String> = Vec::new();
    for line in &panel.lines {
        for (word, moments) in [("min", &line.min), ("max", &line.max)] {
            let far = values(moments).into_iter().filter(|value| *value < scale.low || *value > scale.high);
            for text in far.map(|value| format!("{word} {}", number(value))) {
                if !told.contains(&text) && told.len() < 4 {
                    told.push(text);
                }
            }
        }
    }
    if told.is_empty() { String::new() } else { format!(" ({}, not in the picture)", told.join(", ")) }
}

/// Round numbers between two ends, about `wanted` of them: 1, 2 or 5 times a power of ten apart, and `least` at least.
fn ticks(low: f64, high: f64, wanted: i32, least: f64) -> Vec<f64> {
    let rough = ((high - low) / f64::from(wanted.max(2))).max(least);
    if !rough.is_finite() || rough <= 0.0 {
        return Vec::new();
    }
    let power = 10_f64.powf(rough.log10().floor());
    let step =
        [1.0, 2.0, 5.0, 10.0].map(|times| times * power).into_iter().find(|&step| step >= rough).unwrap_or(power);
    let mut found = Vec::new();
    let mut at = (low / step).ceil();
    while at * step <= high && found.len() < 50 {
        // Reckoned in steps, so that 0.3 is not told as 0.30000000000000004.
        found.push((at * step * 1e9).round() / 1e9);
        at += 1.0;
    }
    found
}

/// Stretches without a gap, each up to where it ends.
fn runs(moments: &[Moment<f64>], end: f64) -> Vec<Vec<(f64, f64)>> {
    let mut all: Vec<Vec<(f64, f64)>> = Vec::new();
    let mut run: Vec<(f64, f64)> = Vec::new();
    for moment in moments {
        match (moment.value, run.last().copied()) {
            (Some(value), _) => run.push((moment.at, value)),
            (None, Some((_, last))) => {
                run.push((moment.at, last));
                all.push(std::mem::take(&mut run));
            }
            (None, None) => {}
        }
    }
    if let Some(&(_, last)) = run.last() {
        run.push((end, last));
        all.push(run);
    }
    all
}

/// A value holds until the next one.
fn steps(run: &[(f64, f64)]) -> Vec<(f64, f64)> {
    let mut points = Vec::with_capacity(run.len() * 2);
    for (at, &(x, y)) in run.iter().enumerate() {
        if at > 0 {
            points.push((x, run[at - 1].1));
        }
        points.push((x, y));
    }
    points
}
