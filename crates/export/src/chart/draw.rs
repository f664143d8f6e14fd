//! The page of a chart: title, signs of what happened, panels over one time axis, what the signs mean.

use super::look::{Look, SMALL, lane_of, panel_name};
use super::{Chart, Panel, heat, lines};
use crate::font::{self, cut};
use crate::hues::{self, Rgb};
use crate::plot::{Axes, Field};
use crate::scene::{Anchor, Face, Paint, Scene, Shape, Stroke};
use dozor_core::chart::{Happening, time_ticks};
use dozor_core::lane::{Lane, Severity};
use dozor_core::units::{NANOS, long_duration};

/// A size in which nothing can be drawn.
#[derive(Debug, thiserror::Error)]
#[error("{0:.0}x{1:.0} is too small for this chart; it needs at least {2:.0}x{3:.0}")]
pub struct SizeError(f64, f64, f64, f64);

const MARGIN: f64 = 16.0;
const LINE_HEIGHT: f64 = 12.0;
/// Between two panels, with the heading of the lower one.
const BETWEEN: f64 = 22.0;
const LEAST_PANEL: f64 = 34.0;
/// Room for names at the right of the panels.
const NAMES: f64 = 148.0;

/// The least width and height that a chart needs.
pub fn least_size(chart: &Chart) -> (f64, f64) {
    (420.0, head(chart) + 64.0 + chart.panels.len() as f64 * (LEAST_PANEL + BETWEEN))
}

/// Room that the title takes.
fn head(chart: &Chart) -> f64 {
    if chart.brief { 16.0 } else { 46.0 }
}

/// Draws a chart.
pub fn draw(chart: &Chart, (width, height): (f64, f64), look: Look) -> Result<Scene, SizeError> {
    let (least_width, least_height) = least_size(chart);
    if width < least_width || height < least_height {
        return Err(SizeError(width, height, least_width, least_height));
    }
    let mut scene = Scene::new(width, height, Some(look.ground()));
    scene.title = format!("{} – {}", chart.title, chart.host);
    scene.description = description(chart);
    scene.headings.push((chart.title.clone(), 0.0));
    let (quiet, strong) = (look.of(hues::QUIET), look.of(hues::STRONG));
    let room = width - 2.0 * MARGIN;
    if chart.brief {
        let title = cut(Face::Bold, 10.5, &chart.title, room);
        scene.words(title, (MARGIN, 12.0), Anchor::Start, (Face::Bold, 10.5), strong);
    } else {
        let title = cut(Face::Bold, 14.0, &chart.title, room);
        scene.words(title, (MARGIN, 25.0), Anchor::Start, (Face::Bold, 14.0), strong);
        let under = cut(Face::Plain, 9.0, &subtitle(chart), room);
        scene.words(under, (MARGIN, 40.0), Anchor::Start, (Face::Plain, 9.0), quiet);
    }
    let head = head(chart);
    // From below: what the signs mean, the time axis.
    let fitting = ((height - least_height) / LINE_HEIGHT).floor().max(0.0) as usize;
    let told: Vec<&Happening> = chart.happenings.list.iter().take(fitting.min(12)).collect();
    let left_out = chart.happenings.list.len() - told.len() + chart.happenings.more;
    let legend = (told.len() + usize::from(left_out > 0 && fitting > told.len())) as f64 * LINE_HEIGHT;
    let bottom = height - MARGIN / 2.0 - legend - if legend > 0.0 { 8.0 } else { 0.0 };
    let axis = bottom - 18.0;
    let axis_width = chart.panels.iter().map(|panel| lines::left_width(panel, chart)).fold(30.0, f64::max);
    let left = MARGIN + axis_width;
    let right = width - MARGIN - NAMES.min(width * 0.27);
    let signs = if told.is_empty() { 0.0 } else { 14.0 };
    let top = head + signs;
    let all = axis - top;
    let each = (all - chart.panels.len() as f64 * BETWEEN) / chart.panels.len().max(1) as f64;
    let time = (chart.from_ns, chart.until_ns.max(chart.from_ns + 1));
    let x_of = |wall: i64| {
        let field = Field { left, top, width: right - left, height: all };
        Axes { time, values: (0.0, 1.0) }.x(field, wall)
    };
    // The grid of times goes through all panels, below everything else.
    let first_top = top + BETWEEN - 4.0;
    let most = ((right - left) / 70.0).max(2.0) as usize;
    for (wall, text) in time_ticks(time.0, time.1, most, &chart.zone) {
        let x = x_of(wall);
        scene.line(
            (x, first_top),
            (x, axis),
            Stroke::plain(hues::mixed(look.ground(), look.of(hues::LINE), 0.7), 0.6),
        );
        scene.words(text, (x, axis + 13.5), Anchor::Middle, (Face::Plain, SMALL), quiet);
    }
    for (at, panel) in chart.panels.iter().enumerate() {
        let y = top + at as f64 * (each + BETWEEN) + BETWEEN;
        let field = Field { left, top: y, width: right - left, height: each };
        let name = panel_name(panel);
        scene.headings.push((name.clone(), y - BETWEEN));
        let mut inside = Scene { description: name, ..Scene::new(width, height, None) };
        gaps(&mut inside, chart, field, time, look);
        match panel {
            Panel::Heat { .. } => heat::draw(&mut inside, panel, field, time, look),
            _ => lines::draw(&mut inside, panel, field, time, look),
        }
        if let Some(lane) = lane_of(panel) {
            bands(&mut inside, chart, lane, field, time, look);
        }
        scene.put(Shape::Group { name: inside.description, shapes: inside.shapes });
    }
    for (at, happening) in told.iter().enumerate() {
        sign(&mut scene, (at, happening), x_of(happening.from_ns.max(time.0)), (head, first_top, axis), look);
    }
    let mut y = height - MARGIN / 2.0 - legend + LINE_HEIGHT - 3.0;
    for (at, happening) in told.iter().enumerate() {
        legend_line(&mut scene, (at, happening), chart, (y, room), look);
        y += LINE_HEIGHT;
    }
    if left_out > 0 && fitting > told.len() {
        let text = format!("{left_out} more stood out less or found no room here");
        scene.words(text, (MARGIN + 26.0, y), Anchor::Start, (Face::Plain, SMALL), quiet);
    }
    Ok(scene)
}

fn subtitle(chart: &Chart) -> String {
    let (from, until) = (chart.zone.date_time(chart.from_ns), chart.zone.date_time(chart.until_ns));
    let thinned = chart.thinned.map_or(String::new(), |ns| {
        format!(
            " · each point {}, from its smallest to its largest value",
            long_duration(ns as f64 / NANOS as f64)
        )
    });
    // Where a zone has only its short name, that stands behind the times already.
    let zone = chart.zone.name();
    let zone = if until.ends_with(&zone) { String::new() } else { format!(" ({zone})") };
    format!("{}   {from} to {until}{zone}{thinned}", chart.host)
}

/// What a chart shows, in words.
fn description(chart: &Chart) -> String {
    let panels: Vec<String> = chart.panels.iter().map(panel_name).collect();
    let told: Vec<String> = chart.happenings.list.iter().map(|one| one.text.clone()).collect();
    let stood_out =
        if told.is_empty() { String::new() } else { format!(" What happened: {}", told.join(" ")) };
    format!("{}. {}.{stood_out}", subtitle(chart), panels.join("; "))
}

/// Times without readings.
fn gaps(scene: &mut Scene, chart: &Chart, field: Field, time: (i64, i64), look: Look) {
    let axes = Axes { time, values: (0.0, 1.0) };
    for (from, until) in &chart.gaps {
        let (x, end) = (axes.x(field, *from).max(field.left), axes.x(field, *until).min(field.right()));
        if end - x < 0.5 {
            continue;
        }
        let place = [x, field.top, end - x, field.height];
        scene.put(Shape::Box { place, fill: Paint::thin(look.of(hues::LINE), 0.45) });
        let text = "no readings";
        if font::width(Face::Plain, 7.0, text) < end - x - 4.0 {
            let at = (f64::midpoint(x, end), field.top + 10.0);
            scene.words(text, at, Anchor::Middle, (Face::Plain, 7.0), look.of(hues::QUIET));
        }
    }
}

/// How bad it was, as a strip at the foot of a panel: the worse the higher and the stronger.
fn bands(scene: &mut Scene, chart: &Chart, lane: Lane, field: Field, time: (i64, i64), look: Look) {
    let axes = Axes { time, values: (0.0, 1.0) };
    for band in chart.happenings.bands.iter().filter(|band| band.lane == lane) {
        let (x, end) =
            (axes.x(field, band.from_ns).max(field.left), axes.x(field, band.until_ns).min(field.right()));
        let height = match band.severity {
            Severity::Fine | Severity::Notice => 1.6,
            Severity::Warning => 2.8,
            Severity::Critical => 4.0,
        };
        let place = [x, field.bottom() + 0.8, (end - x).max(0.8), height];
        scene.put(Shape::Box { place, fill: Paint::full(look.of(hues::severity(band.severity))) });
    }
}

fn colour_of(happening: &Happening, look: Look) -> Rgb {
    match happening.severity {
        Some((severity, _)) => look.of(hues::severity(severity)),
        None => look.of(hues::ACCENT),
    }
}

/// The sign of what happened, with its number, above the panels.
fn sign(
    scene: &mut Scene,
    (at, happening): (usize, &Happening),
    x: f64,
    (y, top, bottom): (f64, f64, f64),
    look: Look,
) {
    let colour = colour_of(happening, look);
    // Signs that would stand on each other step aside.
    let text = format!("{}{}", happening.sign(), at + 1);
    let width = font::width(Face::Bold, SMALL, &text) + 3.0;
    let taken: Vec<f64> = scene
        .shapes
        .iter()
        .filter_map(|shape| match shape {
            Shape::Words(words) if (words.at.1 - (y + 12.0)).abs() < 0.1 => Some(words.at.0),
            _ => None,
        })
        .collect();
    let mut place = x;
    while taken.iter().any(|other| (other - place).abs() < width) {
        place += width / 2.0;
    }
    scene.words(text, (place, y + 12.0), Anchor::Start, (Face::Bold, SMALL), colour);
    let line = Stroke { paint: Paint::thin(colour, 0.7), width: 0.7, dash: Some([1.5, 2.5]) };
    scene.line((x, top), (x, bottom), line);
}

fn legend_line(
    scene: &mut Scene,
    (at, happening): (usize, &Happening),
    chart: &Chart,
    (y, room): (f64, f64),
    look: Look,
) {
    let colour = colour_of(happening, look);
    let sign = format!("{}{}", happening.sign(), at + 1);
    scene.words(sign, (MARGIN, y), Anchor::Start, (Face::Bold, SMALL), colour);
    let span = if happening.times > 1 {
        format!("{}, {} times", chart.zone.time(happening.from_ns.max(chart.from_ns)), happening.times)
    } else if happening.until_ns - happening.from_ns < NANOS {
        chart.zone.time(happening.from_ns)
    } else {
        let long = long_duration((happening.until_ns - happening.from_ns) as f64 / NANOS as f64);
        format!("{}, {long}", chart.zone.time(happening.from_ns.max(chart.from_ns)))
    };
    scene.words(span, (MARGIN + 26.0, y), Anchor::Start, (Face::Plain, SMALL), look.of(hues::QUIET));
    let text = cut(Face::Plain, SMALL, &happening.text, room - 160.0);
    scene.words(text, (MARGIN + 150.0, y), Anchor::Start, (Face::Plain, SMALL), look.of(hues::TEXT));
}
