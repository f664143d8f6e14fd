//! What all panels of a chart have in common: colours, sizes, names.

use super::Panel;
use crate::hues::{self, Pair, Rgb};
use dozor_core::catalogue::{Eval, Metric};
use dozor_core::chart::Series;
use dozor_core::lane::Lane;

/// Size of small letters.
pub(super) const SMALL: f64 = 8.5;

/// Colours of a drawing.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Look {
    /// For a light ground, such as paper.
    pub light: bool,
}

impl Look {
    /// One of two colours.
    pub fn of(self, pair: Pair) -> Rgb {
        pair[usize::from(self.light)]
    }

    /// The ground of a drawing: paper is white.
    pub fn ground(self) -> Rgb {
        if self.light { 0x00ff_ffff } else { self.of(hues::SCREEN) }
    }
}

/// The name of a panel.
pub(super) fn panel_name(panel: &Panel) -> String {
    match panel {
        Panel::Lines(series) => {
            let mut names: Vec<&str> = series.iter().map(|one| one.metric.alias).collect();
            names.dedup();
            names.join(", ")
        }
        Panel::Stacked { metric, parts, .. } => format!("{} by {}", metric.alias, parts_word(parts)),
        Panel::Heat { metric, rows, .. } if matches!(metric.eval, Eval::Process(_)) => {
            format!("{} by {}", metric.alias, parts_word(rows))
        }
        Panel::Heat { metric, .. } => metric.alias.to_owned(),
        Panel::Lane(lane, _) => lane.name().to_owned(),
    }
}

fn parts_word(parts: &[Series]) -> &'static str {
    if parts.iter().any(|part| part.name.ends_with(']')) { "process" } else { "program" }
}

/// The resource of a panel.
pub(super) fn lane_of(panel: &Panel) -> Option<Lane> {
    let of = |metric: &Metric| hues::lane_of(metric.alias, metric.name);
    match panel {
        Panel::Lines(series) => series.first().and_then(|one| of(one.metric)),
        Panel::Stacked { metric, .. } | Panel::Heat { metric, .. } => of(metric),
        Panel::Lane(lane, _) => Some(*lane),
    }
}
