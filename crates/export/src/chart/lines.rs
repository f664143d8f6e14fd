//! Panels of lines, of parts of a whole, and of a lane.

use super::compose::axis_unit;
use super::labels::{self, Label};
use super::look::{Look, SMALL, lane_of, panel_name};
use super::{Chart, Panel};
use crate::font::{cut, width};
use crate::hues::{self, Rgb};
use crate::plot::{Axes, Curve, Field, curve};
use crate::scene::{Anchor, Face, Paint, Scene, Stroke};
use dozor_core::catalogue::Unit;
use dozor_core::chart::{Point, Series, Ticks, number_ticks};
use dozor_core::lane::Lane;

/// Dashes by which lines are told apart without colour.
const DASHES: [Option<[f64; 2]>; 4] = [None, Some([5.0, 2.0]), Some([1.6, 1.8]), Some([9.0, 2.5])];

/// The unit of a lane's strip.
fn lane_unit(lane: Lane) -> Unit {
    match lane {
        Lane::Network => Unit::BytesPerSecond,
        Lane::Heat => Unit::Celsius,
        _ => Unit::Percent,
    }
}

/// The units of the axes of a panel, left and right, with the largest value of each.
fn axes_of(panel: &Panel) -> Vec<(Unit, f64)> {
    match panel {
        Panel::Lines(series) => {
            let mut found: Vec<(Unit, f64)> = vec![];
            for one in series {
                let unit = axis_unit(one.metric.unit);
                match found.iter_mut().find(|(other, _)| *other == unit) {
                    Some((_, most)) => *most = most.max(one.most()),
                    None => found.push((unit, one.most())),
                }
            }
            found
        }
        Panel::Stacked { metric, parts, .. } => {
            vec![(axis_unit(metric.unit), stacked_most(parts))]
        }
        Panel::Heat { metric, rows, .. } => {
            vec![(metric.unit, rows.iter().map(Series::most).fold(0.0, f64::max))]
        }
        Panel::Lane(lane, points) => {
            vec![(lane_unit(*lane), points.iter().map(|point| point.high).fold(0.0, f64::max))]
        }
    }
}

/// The highest that a stack reaches.
fn stacked_most(parts: &[Series]) -> f64 {
    let mut sums: std::collections::BTreeMap<i64, f64> = std::collections::BTreeMap::new();
    for point in parts.iter().flat_map(|part| &part.points) {
        *sums.entry(point.until_ns).or_default() += point.mean;
    }
    sums.into_values().fold(0.0, f64::max)
}

/// Ticks of an axis.
fn ticks_for(unit: Unit, most: f64, height: f64) -> Ticks {
    let count = ((height / 22.0) as usize).clamp(1, 6);
    // A share that comes near to all is drawn against all.
    let most = if unit == Unit::Percent && most > 40.0 && most <= 100.0 { 100.0 } else { most };
    let most = if most > 0.0 { most } else { 1.0 };
    number_ticks(unit, 0.0, most, count)
}

/// Room that the texts at the left of a panel need.
pub fn left_width(panel: &Panel, _: &Chart) -> f64 {
    if let Panel::Heat { rows, .. } = panel {
        let widest = rows.iter().map(|row| width(Face::Plain, 7.5, &row.name)).fold(0.0, f64::max);
        return (widest + 8.0).min(120.0);
    }
    let Some((unit, most)) = axes_of(panel).first().copied() else { return 30.0 };
    let ticks = ticks_for(unit, most, 60.0);
    let texts = ticks.at.iter().map(|(_, text)| width(Face::Plain, SMALL, text));
    texts.fold(0.0, f64::max) + 8.0
}

/// Draws a panel.
pub fn draw(scene: &mut Scene, panel: &Panel, field: Field, time: (i64, i64), look: Look) {
    let units = axes_of(panel);
    let mut scales: Vec<(Unit, Ticks, Axes)> = vec![];
    for (unit, most) in units.into_iter().take(2) {
        let ticks = ticks_for(unit, most, field.height);
        let (low, high) =
            (ticks.at.first().map_or(0.0, |tick| tick.0), ticks.at.last().map_or(1.0, |tick| tick.0));
        scales.push((unit, ticks, Axes { time, values: (low, high) }));
    }
    frame(scene, &scales, field, look);
    heading(scene, panel, &scales, field, look);
    match panel {
        Panel::Lines(series) => lines(scene, panel, series, &scales, field, look),
        Panel::Stacked { parts, whole, .. } => {
            if let Some((_, ticks, axes)) = scales.first() {
                stacked(scene, panel, (parts, whole), (ticks, axes), field, look);
            }
        }
        Panel::Lane(lane, points) => {
            if let Some((unit, _, axes)) = scales.first() {
                lane_strip(scene, *lane, points, (*unit, axes), field, look);
            }
        }
        Panel::Heat { .. } => {}
    }
}

/// Ticks and their lines.
fn frame(scene: &mut Scene, scales: &[(Unit, Ticks, Axes)], field: Field, look: Look) {
    let quiet = look.of(hues::QUIET);
    let grid = hues::mixed(look.ground(), look.of(hues::LINE), 0.7);
    for (side, (_, ticks, axes)) in scales.iter().enumerate() {
        for (value, text) in &ticks.at {
            let y = axes.y(field, *value);
            if side == 0 {
                scene.line((field.left, y), (field.right(), y), Stroke::plain(grid, 0.6));
                scene.words(text, (field.left - 4.0, y + 3.0), Anchor::End, (Face::Plain, SMALL), quiet);
            } else {
                scene.words(text, (field.right() + 4.0, y + 3.0), Anchor::Start, (Face::Plain, SMALL), quiet);
            }
        }
    }
    let y = field.bottom();
    scene.line((field.left, y), (field.right(), y), Stroke::plain(look.of(hues::LINE), 0.9));
}

/// Name, unit and the first sentence of what it means.
fn heading(scene: &mut Scene, panel: &Panel, scales: &[(Unit, Ticks, Axes)], field: Field, look: Look) {
    let y = field.top - 6.0;
    let name = panel_name(panel);
    let unit: Vec<&str> = scales.iter().map(|(_, ticks, _)| ticks.unit.as_str()).collect();
    let unit = match (panel, &unit[..]) {
        (_, [left, right]) => format!("{left} at the left, {right} at the right"),
        (Panel::Lines(all), [unit]) if of_core(all.iter()) => format!("{unit} of one core"),
        (Panel::Stacked { parts, .. }, [unit]) if of_core(parts.iter()) => format!("{unit} of one core"),
        (_, [unit]) => (*unit).to_owned(),
        _ => String::new(),
    };
    let strong = look.of(hues::STRONG);
    scene.words(&name, (field.left, y), Anchor::Start, (Face::Bold, 9.5), strong);
    let x = field.left + width(Face::Bold, 9.5, &name) + 7.0;
    scene.words(&unit, (x, y), Anchor::Start, (Face::Plain, SMALL), look.of(hues::TEXT));
    let help = match panel {
        Panel::Lines(all) => one_metric(all).map_or("", |metric| metric.help),
        Panel::Stacked { metric, .. } | Panel::Heat { metric, .. } => metric.help,
        Panel::Lane(..) => "",
    };
    let x = x + width(Face::Plain, SMALL, &unit) + 10.0;
    let sentence = help.split_inclusive(". ").next().unwrap_or("").trim();
    if field.right() - x > 60.0 {
        let text = cut(Face::Plain, SMALL, sentence, field.right() - x);
        scene.words(text, (x, y), Anchor::Start, (Face::Plain, SMALL), look.of(hues::QUIET));
    }
}

fn of_core<'a>(mut all: impl Iterator<Item = &'a Series>) -> bool {
    all.all(|one| one.metric.unit == Unit::PercentOfCore)
}

fn one_metric(all: &[Series]) -> Option<&'static dozor_core::catalogue::Metric> {
    let first = all.first()?.metric;
    all.iter().all(|one| one.metric == first).then_some(first)
}

/// Colour and dash of a line: the resource's own hue first.
fn line_look(panel: &Panel, at: usize, look: Look) -> (Rgb, Option<[f64; 2]>) {
    let first = lane_of(panel).unwrap_or(Lane::Cpu);
    let begin = Lane::ALL.iter().position(|lane| *lane == first).unwrap_or(0);
    let lane = Lane::ALL[(begin + at * 2) % Lane::ALL.len()];
    (look.of(hues::lane(lane)), DASHES[at % DASHES.len()])
}

fn lines(
    scene: &mut Scene,
    panel: &Panel,
    series: &[Series],
    scales: &[(Unit, Ticks, Axes)],
    field: Field,
    look: Look,
) {
    let mut names = vec![];
    let banded = series.len() <= 3;
    for (at, one) in series.iter().enumerate() {
        let unit = axis_unit(one.metric.unit);
        let Some((side, (_, _, axes))) = scales.iter().enumerate().find(|(_, (other, ..))| *other == unit)
        else {
            continue;
        };
        let (colour, dash) = line_look(panel, at, look);
        let stroke = Stroke { paint: Paint::full(colour), width: 1.3, dash };
        for run in one.runs() {
            if banded {
                band(scene, run, colour, axes, field);
            }
            let value = |point: &Point| if banded { point.mean } else { point.high };
            curve(scene, field, axes, &Curve::Line(&steps(run, value), stroke));
        }
        let last = one.points.last();
        let y =
            last.map_or(field.bottom(), |point| axes.y(field, if banded { point.mean } else { point.high }));
        names.push(Label {
            y,
            name: series_name(one, series),
            more: facts(one, side == 1),
            colours: (colour, look.of(hues::QUIET)),
            stroke: (!one.points.is_empty()).then_some(stroke),
        });
    }
    let (shift, room) = if scales.len() > 1 {
        (34.0, names_room(scene, field) - 34.0)
    } else {
        (0.0, names_room(scene, field))
    };
    labels::draw(scene, names, Field { width: field.width + shift, ..field }, room);
}

/// What stands beside the name of a series.
fn facts(one: &Series, at_right: bool) -> String {
    let side = if at_right { " (right)" } else { "" };
    if one.points.is_empty() {
        return if one.denied > 0 { "× not permitted".to_owned() } else { "– nothing known".to_owned() };
    }
    let unit = one.metric.unit;
    let least = if one.at_least { "≥ " } else { "" };
    format!("{least}most {}{side}", unit.long(one.most()))
}

/// The name of a series beside others.
fn series_name(one: &Series, all: &[Series]) -> String {
    let several = all.iter().any(|other| other.metric != one.metric);
    match (one.name.as_str(), several) {
        ("", _) => one.metric.alias.to_owned(),
        (name, false) => name.to_owned(),
        (name, true) => format!("{} {name}", one.metric.alias),
    }
}

fn names_room(scene: &Scene, field: Field) -> f64 {
    scene.width - field.right() - 8.0
}

/// Points as they are joined: a value holds from the beginning of its time to its end.
fn steps(run: &[Point], value: impl Fn(&Point) -> f64) -> Vec<(i64, f64)> {
    match run {
        // One alone is drawn over its own time.
        [only] if only.until_ns > only.from_ns => {
            vec![(only.from_ns, value(only)), (only.until_ns, value(only))]
        }
        _ => run.iter().map(|point| (i64::midpoint(point.from_ns, point.until_ns), value(point))).collect(),
    }
}

/// From the smallest to the largest of each point.
fn band(scene: &mut Scene, run: &[Point], colour: Rgb, axes: &Axes, field: Field) {
    if run.iter().all(|point| point.high - point.low <= f64::EPSILON) {
        return;
    }
    let (above, below) = (steps(run, |point| point.high), steps(run, |point| point.low));
    curve(scene, field, axes, &Curve::Area(&above, &below, Paint::thin(colour, 0.28)));
    // A single peak is narrower than a pixel: its outline keeps it in sight.
    let outline = Stroke { paint: Paint::thin(colour, 0.55), width: 0.5, dash: None };
    curve(scene, field, axes, &Curve::Line(&above, outline));
}

fn lane_strip(
    scene: &mut Scene,
    lane: Lane,
    points: &[Point],
    (unit, axes): (Unit, &Axes),
    field: Field,
    look: Look,
) {
    let colour = look.of(hues::lane(lane));
    let series =
        |points: &[Point]| points.chunk_by(Series::joined).map(<[Point]>::to_vec).collect::<Vec<_>>();
    for run in series(points) {
        let (above, mean) = (steps(&run, |point| point.high), steps(&run, |point| point.mean));
        let floor: Vec<(i64, f64)> = above.iter().map(|(wall, _)| (*wall, axes.values.0)).collect();
        curve(scene, field, axes, &Curve::Area(&above, &floor, Paint::thin(colour, 0.3)));
        if mean != above {
            curve(scene, field, axes, &Curve::Area(&mean, &floor, Paint::thin(colour, 0.45)));
        }
        curve(scene, field, axes, &Curve::Line(&above, Stroke::plain(colour, 1.0)));
    }
    let most = points
        .iter()
        .map(|point| point.high)
        .fold(None, |most: Option<f64>, value| Some(most.map_or(value, |most| most.max(value))));
    let text = most.map_or("– nothing known".to_owned(), |most| format!("most {}", unit.long(most)));
    let y = points.last().map_or(field.bottom(), |point| axes.y(field, point.high));
    let room = names_room(scene, field);
    let label = Label {
        y,
        name: lane.name().to_owned(),
        more: text,
        colours: (colour, look.of(hues::QUIET)),
        stroke: None,
    };
    labels::draw(scene, vec![label], field, room);
}

fn stacked(
    scene: &mut Scene,
    panel: &Panel,
    (parts, whole): (&[Series], &Series),
    (_, axes): (&Ticks, &Axes),
    field: Field,
    look: Look,
) {
    let hue = look.of(hues::lane(lane_of(panel).unwrap_or(Lane::Cpu)));
    let count = parts.len().max(1);
    let mut names = vec![];
    // Every instant at which anybody has a point, with all that is below so far.
    let mut below: std::collections::BTreeMap<i64, (Point, f64)> =
        whole.points.iter().map(|point| (point.until_ns, (*point, 0.0))).collect();
    for (at, part) in parts.iter().enumerate() {
        let shade = hues::mixed(hue, look.ground(), 0.78 * at as f64 / count as f64);
        let before: Vec<(Point, f64)> = below.values().copied().collect();
        for point in &part.points {
            if let Some((_, sum)) = below.get_mut(&point.until_ns) {
                *sum += point.mean;
            }
        }
        let after: Vec<(Point, f64)> = below.values().copied().collect();
        let mut last_y = None;
        let mut begin = 0;
        for end in 1..=after.len() {
            if end < after.len() && Series::joined(&after[end - 1].0, &after[end].0) {
                continue;
            }
            let values = |from: &[(Point, f64)]| {
                let points: Vec<Point> =
                    from[begin..end].iter().map(|(point, sum)| Point { mean: *sum, ..*point }).collect();
                steps(&points, |point| point.mean)
            };
            let (above, under) = (values(&after), values(&before));
            curve(scene, field, axes, &Curve::Area(&above, &under, Paint::full(shade)));
            // A thin line of the ground keeps neighbours apart, in grey too.
            curve(scene, field, axes, &Curve::Line(&above, Stroke::plain(look.ground(), 0.5)));
            if let (Some(over), Some(under)) = (above.last(), under.last()) {
                last_y = Some(f64::midpoint(axes.y(field, over.1), axes.y(field, under.1)));
            }
            begin = end;
        }
        let mean = whole_mean(part, whole);
        let unit = part.metric.unit;
        let least = if part.at_least { "≥ " } else { "" };
        names.push(Label {
            y: last_y.unwrap_or(field.bottom()),
            name: part.name.clone(),
            more: format!("{least}mean {}", unit.long(mean)),
            colours: (legible(shade, look), look.of(hues::QUIET)),
            stroke: Some(Stroke::plain(shade, 4.0)),
        });
    }
    if parts.is_empty() {
        let text = if whole.denied > 0 { "× not permitted" } else { "– nothing known" };
        let at = (field.left + 6.0, field.top + field.height / 2.0);
        scene.words(text, at, Anchor::Start, (Face::Plain, SMALL), look.of(hues::QUIET));
    }
    let room = names_room(scene, field);
    labels::draw(scene, names, field, room);
}

/// The mean of a part over all the time of the whole.
fn whole_mean(part: &Series, whole: &Series) -> f64 {
    let weight = |point: &Point| (point.until_ns - point.from_ns).max(1) as f64;
    let all: f64 = whole.points.iter().map(weight).sum();
    part.points.iter().map(|point| point.mean * weight(point)).sum::<f64>() / all.max(1.0)
}

/// A shade as a colour for text: those that come near to the ground are taken back.
fn legible(shade: Rgb, look: Look) -> Rgb {
    if hues::contrast(shade, look.ground()) < 4.5 { look.of(hues::TEXT) } else { shade }
}
