//! Rows of lightness: cores × time, programs × time. The more the farther from the ground, in grey as well.

use super::Panel;
use super::look::{Look, SMALL, lane_of, panel_name};
use crate::font::{cut, width};
use crate::hues::{self, Rgb};
use crate::plot::{Axes, Field};
use crate::scene::{Anchor, Face, Paint, Scene, Shape};
use dozor_core::catalogue::Unit;
use dozor_core::chart::{Point, Series, number_ticks};
use dozor_core::lane::Lane;

/// Shades that are told apart.
const SHADES: usize = 16;

/// The colour of a value between nothing and all.
fn shade(hue: Rgb, part: f64, look: Look) -> Rgb {
    let far = if look.light { 0x0000_0000 } else { 0x00ff_ffff };
    let near = hues::mixed(look.ground(), hue, 0.10);
    if part < 0.7 {
        hues::mixed(near, hue, part / 0.7)
    } else {
        hues::mixed(hue, far, (part - 0.7) / 0.3 * 0.55)
    }
}

/// Draws rows.
pub fn draw(scene: &mut Scene, panel: &Panel, field: Field, time: (i64, i64), look: Look) {
    let Panel::Heat { metric, rows, more } = panel else { return };
    let hue = look.of(hues::lane(lane_of(panel).unwrap_or(Lane::Cpu)));
    let quiet = look.of(hues::QUIET);
    let most = rows.iter().map(Series::most).fold(0.0, f64::max);
    let is_share = metric.unit == Unit::Percent && most <= 100.0;
    let ticks = number_ticks(metric.unit, 0.0, if is_share { 100.0 } else { most.max(f64::MIN_POSITIVE) }, 4);
    let full = ticks.at.last().map_or(1.0, |tick| tick.0);
    let axes = Axes { time, values: (0.0, 1.0) };
    heading(scene, panel, &ticks.unit, *more, field, look);
    if rows.is_empty() {
        scene.words(
            "– nothing known",
            (field.left + 6.0, field.top + 12.0),
            Anchor::Start,
            (Face::Plain, SMALL),
            quiet,
        );
        return;
    }
    let high = field.height / rows.len() as f64;
    let size = if high < 8.0 { 6.2 } else { 7.5 };
    let every = ((size * 1.02) / high).ceil().max(1.0) as usize;
    for (at, row) in rows.iter().enumerate() {
        let top = field.top + at as f64 * high;
        if at % every == 0 {
            let name = cut(Face::Plain, size, &row.name, 112.0);
            let y = top + (high * 0.5).min(7.0) + size * 0.35;
            scene.words(name, (field.left - 4.0, y), Anchor::End, (Face::Plain, size), look.of(hues::TEXT));
        }
        if row.points.is_empty() {
            let text = if row.denied > 0 { "×" } else { "–" };
            scene.words(
                text,
                (field.left + 3.0, top + high * 0.5 + 3.0),
                Anchor::Start,
                (Face::Plain, 7.5),
                quiet,
            );
        }
        // Cells of one shade that follow each other are one.
        let space = if high > 5.0 { 0.6 } else { 0.0 };
        let mut open: Option<(f64, f64, usize)> = None;
        let mut put = |(x, end, level): (f64, f64, usize)| {
            let colour = shade(hue, level as f64 / (SHADES - 1) as f64, look);
            let place = [x, top, (end - x).max(0.3), high - space];
            scene.put(Shape::Box { place, fill: Paint::full(colour) });
        };
        for (index, point) in row.points.iter().enumerate() {
            let begin = match index.checked_sub(1).map(|before| &row.points[before]) {
                Some(before) if Series::joined(before, point) => before.until_ns,
                _ => point.from_ns,
            };
            let (x, end) = (axes.x(field, begin).max(field.left), axes.x(field, point.until_ns));
            let level = level(point, full);
            open = Some(match open {
                Some((from, until, before)) if before == level && (x - until).abs() < 0.05 => {
                    (from, end, level)
                }
                Some(before) => {
                    put(before);
                    (x, end, level)
                }
                None => (x, end, level),
            });
        }
        if let Some(last) = open {
            put(last);
        }
    }
    scale(scene, (&ticks.at, &ticks.unit), full, hue, field, look);
}

fn level(point: &Point, full: f64) -> usize {
    let part = (point.high / full).clamp(0.0, 1.0);
    // What is not nothing is never drawn as nothing.
    let least = usize::from(point.high > 0.0);
    ((part * (SHADES - 1) as f64).round() as usize).clamp(least, SHADES - 1)
}

fn heading(scene: &mut Scene, panel: &Panel, unit: &str, more: usize, field: Field, look: Look) {
    let Panel::Heat { metric, .. } = panel else { return };
    let y = field.top - 6.0;
    let name = panel_name(panel);
    scene.words(&name, (field.left, y), Anchor::Start, (Face::Bold, 9.5), look.of(hues::STRONG));
    let mut x = field.left + width(Face::Bold, 9.5, &name) + 7.0;
    let text = if more > 0 { format!("{unit}, {more} smaller ones are not drawn") } else { unit.to_owned() };
    scene.words(&text, (x, y), Anchor::Start, (Face::Plain, SMALL), look.of(hues::TEXT));
    x += width(Face::Plain, SMALL, &text) + 10.0;
    let sentence = metric.help.split_inclusive(". ").next().unwrap_or("").trim();
    if field.right() - x > 60.0 {
        let text = cut(Face::Plain, SMALL, sentence, field.right() - x);
        scene.words(text, (x, y), Anchor::Start, (Face::Plain, SMALL), look.of(hues::QUIET));
    }
}

/// What the shades mean.
fn scale(
    scene: &mut Scene,
    (ticks, unit): (&[(f64, String)], &str),
    full: f64,
    hue: Rgb,
    field: Field,
    look: Look,
) {
    let (x, wide) = (field.right() + 16.0, 10.0);
    let high = field.height.min(120.0);
    let step = high / SHADES as f64;
    for level in 0..SHADES {
        let y = field.top + high - (level + 1) as f64 * step;
        let colour = shade(hue, level as f64 / (SHADES - 1) as f64, look);
        scene.put(Shape::Box { place: [x, y, wide, step + 0.1], fill: Paint::full(colour) });
    }
    for (value, text) in ticks {
        let y = field.top + high * (1.0 - value / full) + 3.0;
        let text = if (*value - full).abs() < f64::EPSILON { format!("{text} {unit}") } else { text.clone() };
        scene.words(text, (x + wide + 4.0, y), Anchor::Start, (Face::Plain, SMALL), look.of(hues::QUIET));
    }
}
