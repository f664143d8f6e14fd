//! What charts are made of, without any drawing: which values over time ([`Wish`], [`gather`]), ticks that people read
//! ([`number_ticks`], [`time_ticks`]), and what happened meanwhile ([`happenings`]). The screen's charts and those in files
//! are made of the same.

mod gather;
mod growing;
mod happening;
mod part;
mod processes;
mod series;
mod ticks;
mod wish;

pub use gather::{Gathered, gaps, gather, lane_series, reach_of};
pub use happening::{Band, Happening, Happenings, happenings};
pub use part::charted;
pub use series::{Point, Series};
pub use ticks::{Ticks, number_ticks, time_ticks};
pub use wish::{Of, Wish};
