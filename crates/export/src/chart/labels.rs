//! Names at the right of a panel, each as near to its line as there is room.

use super::look::SMALL;
use crate::font::cut;
use crate::hues::Rgb;
use crate::plot::Field;
use crate::scene::{Anchor, Face, Scene, Stroke};
use dozor_core::sorting::ColdSort as _;

/// A name that wants to stand at a height.
pub struct Label {
    /// Where its line ends.
    pub y: f64,
    /// The name.
    pub name: String,
    /// What else is to be known of it.
    pub more: String,
    /// Its colours: of the name, of the rest.
    pub colours: (Rgb, Rgb),
    /// How its line is drawn.
    pub stroke: Option<Stroke>,
}

const APART: f64 = 10.5;

/// Draws names without one on another; those that find no room are counted.
pub fn draw(scene: &mut Scene, mut labels: Vec<Label>, field: Field, room: f64) {
    let fitting = ((field.height + 4.0) / APART).floor().max(1.0) as usize;
    let more = labels.len().saturating_sub(fitting);
    if more > 0 {
        labels.truncate(fitting.saturating_sub(1).max(1));
    }
    labels.cold_sort_by(|a, b| a.y.total_cmp(&b.y));
    let mut places: Vec<f64> =
        labels.iter().map(|label| label.y.clamp(field.top + 3.0, field.bottom())).collect();
    // Down where one would stand on the one above, then up again from the foot.
    for at in 1..places.len() {
        places[at] = places[at].max(places[at - 1] + APART);
    }
    let foot = field.bottom() + 1.0 - if more > 0 { APART } else { 0.0 };
    if let Some(last) = places.last_mut() {
        *last = last.min(foot);
    }
    for at in (0..places.len().saturating_sub(1)).rev() {
        places[at] = places[at].min(places[at + 1] - APART);
    }
    let x = field.right() + 16.0;
    let last = places.last().copied();
    for (label, y) in labels.iter().zip(places) {
        if let Some(stroke) = label.stroke {
            scene.line(
                (field.right() + 2.0, label.y),
                (field.right() + 6.0, y),
                Stroke { width: 0.6, dash: None, ..stroke },
            );
            scene.line((field.right() + 6.0, y), (x - 2.0, y), stroke);
        }
        let name = cut(Face::Bold, SMALL, &label.name, room - 18.0);
        let used = crate::font::width(Face::Bold, SMALL, &name) + 5.0;
        scene.words(name, (x, y + 3.0), Anchor::Start, (Face::Bold, SMALL), label.colours.0);
        let rest = room - 16.0 - used;
        if rest > crate::font::width(Face::Plain, SMALL, &label.more) {
            scene.words(
                &label.more,
                (x + used, y + 3.0),
                Anchor::Start,
                (Face::Plain, SMALL),
                label.colours.1,
            );
        }
    }
    if let (true, Some(last), Some(colours)) = (more > 0, last, labels.first().map(|label| label.colours)) {
        let text = format!("and {} more", more + 1);
        scene.words(text, (x, last + APART + 3.0), Anchor::Start, (Face::Plain, SMALL), colours.1);
    }
}
