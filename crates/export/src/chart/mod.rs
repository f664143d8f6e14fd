//! Charts: what is in one ([`Chart`], put together by [`compose`]) and how it is drawn ([`draw`]).

mod compose;
mod draw;
mod heat;
mod labels;
mod lines;
mod look;

pub use compose::{Composing, assemble, compose};
pub use draw::{SizeError, draw, least_size};
pub use look::Look;

use dozor_core::catalogue::Metric;
use dozor_core::chart::{Happenings, Point, Series};
use dozor_core::clock::Zone;
use dozor_core::lane::Lane;

/// How values are drawn.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Form {
    /// What suits each metric.
    Auto,
    /// A line for each.
    Lines,
    /// Parts of a whole over each other.
    Stacked,
    /// A row for each, its values as lightness.
    Heat,
}

impl Form {
    /// All of them, with their words.
    pub const ALL: [(Form, &'static str); 4] =
        [(Form::Auto, "auto"), (Form::Lines, "lines"), (Form::Stacked, "stacked"), (Form::Heat, "heat")];
}

/// What a chart shows beneath each other over one time axis.
#[derive(Clone, Debug)]
pub enum Panel {
    /// Lines on one axis, or on two where they are of two units.
    Lines(Vec<Series>),
    /// Parts of a whole, the largest below. The peak is the largest that all had together in a point.
    Stacked {
        /// The metric.
        metric: &'static Metric,
        /// The parts, the largest first.
        parts: Vec<Series>,
        /// All of them together.
        whole: Series,
    },
    /// Rows of lightness.
    Heat {
        /// The metric.
        metric: &'static Metric,
        /// Its rows.
        rows: Vec<Series>,
        /// How many rows there are that are not drawn.
        more: usize,
    },
    /// What a lane of the screen shows.
    Lane(Lane, Vec<Point>),
}

/// A chart without its drawing.
#[derive(Clone, Debug)]
pub struct Chart {
    /// Its title.
    pub title: String,
    /// The host that it is about.
    pub host: String,
    /// The zone of its times.
    pub zone: Zone,
    /// Its first instant.
    pub from_ns: i64,
    /// Its last.
    pub until_ns: i64,
    /// Panels from top to bottom.
    pub panels: Vec<Panel>,
    /// Wishes of which there is no value in this time.
    pub unknown: Vec<String>,
    /// Times without readings.
    pub gaps: Vec<(i64, i64)>,
    /// What happened meanwhile.
    pub happenings: Happenings,
    /// It stands in a page that says of which host and time it is: without that, and with a small title.
    pub brief: bool,
    /// How long a point is, in nanoseconds, where several samples became one.
    pub thinned: Option<i64>,
}
