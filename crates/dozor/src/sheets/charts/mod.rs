//! Charts on the screen: metrics of one's choice in several panes over a span of time of their own, with the values at the time cursor.

mod drawing;
mod model;
mod sheet;

pub use model::ChartSheet;
