//! What leaves the terminal: charts and pictures of the screen as SVG and PDF.
//!
//! A drawing is a [`scene::Scene`]: lines, areas and texts in points. It is laid out once and written by two backends, [`svg`]
//! and [`pdf`]. Nothing here reads a clock, a file or the kernel: recordings come in as timelines, drawings go out as bytes.
#![forbid(unsafe_code)]

pub mod chart;
pub mod file;
pub mod font;
pub mod hues;
pub mod open;
pub mod pdf;
mod plot;
pub mod report;
pub mod sample;
pub mod scene;
pub mod svg;
pub mod table;
