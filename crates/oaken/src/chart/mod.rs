//! The chart of a rehearsal: the watched values over time, as SVG or PNG.
//!
//! [`scene`] decides what is in the picture (panels of numbers, lanes of words, faults) in terms of moments and values;
//! [`drawing`] puts it on paper. Told apart by dashes and by names at the lines' ends, it is readable in grey.

mod drawing;
mod scene;

use crate::{Failure, write};
use census::project::Project;
use census::rehearsal::Rehearsal;
use census::rehearsal::play::Outcome;
use plotters::prelude::{IntoDrawingArea, SVGBackend};
use plotters::style::{FontStyle, register_font};
use resvg::{tiny_skia, usvg};
use scene::Scene;
use std::path::Path;

/// The picture's size in pixels.
const SIZE: (u32, u32) = (1280, 800);

/// Draws the chart of a rehearsal into a file, by the file's ending.
///
/// # Errors
/// The ending is neither `.svg` nor `.png`, nothing numbered or named changed, or the file can't be written.
pub fn draw(path: &Path, project: &Project, rehearsal: &Rehearsal, outcome: &Outcome<'_>) -> Result<(), Failure> {
    let failed = |error: &dyn std::fmt::Display| Failure(format!("the chart can't be drawn: {error}"));
    for (style, bytes) in [(FontStyle::Normal, dejavu::sans::regular()), (FontStyle::Bold, dejavu::sans::bold())] {
        register_font("sans-serif", style, bytes).map_err(|_| failed(&"its font can't be read"))?;
    }
    let scene = Scene::new(project, rehearsal, outcome);
    let mut text = String::new();
    {
        let area = SVGBackend::with_string(&mut text, SIZE).into_drawing_area();
        drawing::draw(&area, &scene).map_err(|error| failed(&error))?;
    }
    match path.extension().and_then(|ending| ending.to_str()) {
        Some("svg") => write::whole(path, &text),
        Some("png") => write::whole_bytes(path, &png(&text).map_err(|error| failed(&error))?),
        _ => Err(Failure(format!("{} is neither .svg nor .png", path.display()))),
    }
}

/// The same picture in pixels, with the font that the program brings along.
fn png(svg: &str) -> Result<Vec<u8>, Box<dyn std::error::Error>> {
    let mut options = usvg::Options::default();
    let fonts = options.fontdb_mut();
    fonts.load_font_data(dejavu::sans::regular().to_vec());
    fonts.load_font_data(dejavu::sans::bold().to_vec());
    fonts.set_sans_serif_family("DejaVu Sans");
    let tree = usvg::Tree::from_str(svg, &options)?;
    let mut pixels = tiny_skia::Pixmap::new(SIZE.0, SIZE.1).ok_or("there is no memory for it")?;
    resvg::render(&tree, tiny_skia::Transform::identity(), &mut pixels.as_mut());
    Ok(pixels.encode_png()?)
}
