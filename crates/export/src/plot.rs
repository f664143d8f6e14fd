//! What the plotting library draws: lines and areas in coordinates, put into a scene. The library counts whole pixels, so it is
//! given a canvas that is twenty times finer than a point.

use crate::hues::Rgb;
use crate::scene::{Paint, Scene, Shape, Stroke};
use plotters::coord::Shift;
use plotters::prelude::*;
use plotters_backend::{BackendColor, BackendCoord, BackendStyle, DrawingBackend, DrawingErrorKind};
use std::convert::Infallible;

/// Pixels of a point.
const FINE: f64 = 20.0;

/// Where a plot stands in its scene.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Field {
    /// Its left edge.
    pub left: f64,
    /// Its upper edge.
    pub top: f64,
    /// Its width.
    pub width: f64,
    /// Its height.
    pub height: f64,
}

impl Field {
    /// Its right edge.
    pub fn right(&self) -> f64 {
        self.left + self.width
    }

    /// Its lower edge.
    pub fn bottom(&self) -> f64 {
        self.top + self.height
    }
}

/// Coordinates of a plot: instants from left to right, values from below.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Axes {
    /// The first and the last instant, in nanoseconds.
    pub time: (i64, i64),
    /// The value at the bottom and at the top.
    pub values: (f64, f64),
}

impl Axes {
    /// Where an instant is.
    pub fn x(&self, field: Field, wall: i64) -> f64 {
        let span = (self.time.1 - self.time.0).max(1) as f64;
        field.left + (wall - self.time.0) as f64 / span * field.width
    }

    /// Where a value is.
    pub fn y(&self, field: Field, value: f64) -> f64 {
        let span = (self.values.1 - self.values.0).max(f64::MIN_POSITIVE);
        field.bottom() - (value - self.values.0) / span * field.height
    }
}

/// What is plotted.
pub enum Curve<'a> {
    /// Lines from point to point.
    Line(&'a [(i64, f64)], Stroke),
    /// What is between two lines; the lower one is given from left to right as well.
    Area(&'a [(i64, f64)], &'a [(i64, f64)], Paint),
}

/// Gathers what the library draws.
struct Pen<'a> {
    shapes: &'a mut Vec<Shape>,
    field: Field,
    /// The stroke of the curve that is drawn now; the library knows neither dashes nor broken pixels.
    stroke: Stroke,
}

impl Pen<'_> {
    fn points(&self, path: impl IntoIterator<Item = BackendCoord>) -> Vec<(f64, f64)> {
        let place = |(x, y): BackendCoord| {
            (self.field.left + f64::from(x) / FINE, self.field.top + f64::from(y) / FINE)
        };
        path.into_iter().map(place).collect()
    }
}

fn paint(colour: BackendColor) -> Paint {
    let (r, g, b) = colour.rgb;
    Paint { colour: u32::from(r) << 16 | u32::from(g) << 8 | u32::from(b), cover: colour.alpha }
}

impl DrawingBackend for Pen<'_> {
    type ErrorType = Infallible;

    fn get_size(&self) -> (u32, u32) {
        ((self.field.width * FINE) as u32, (self.field.height * FINE) as u32)
    }

    fn ensure_prepared(&mut self) -> Result<(), DrawingErrorKind<Infallible>> {
        Ok(())
    }

    fn present(&mut self) -> Result<(), DrawingErrorKind<Infallible>> {
        Ok(())
    }

    fn draw_pixel(
        &mut self,
        at: BackendCoord,
        colour: BackendColor,
    ) -> Result<(), DrawingErrorKind<Infallible>> {
        let [(x, y)] = self.points([at])[..] else { return Ok(()) };
        let side = self.stroke.width.max(1.0);
        let place = [x - side / 2.0, y - side / 2.0, side, side];
        self.shapes.push(Shape::Box { place, fill: paint(colour) });
        Ok(())
    }

    fn draw_path<S: BackendStyle, I: IntoIterator<Item = BackendCoord>>(
        &mut self,
        path: I,
        _: &S,
    ) -> Result<(), DrawingErrorKind<Infallible>> {
        let points = self.points(path);
        self.shapes.push(Shape::Path { points, fill: None, stroke: Some(self.stroke) });
        Ok(())
    }

    fn fill_polygon<S: BackendStyle, I: IntoIterator<Item = BackendCoord>>(
        &mut self,
        corners: I,
        style: &S,
    ) -> Result<(), DrawingErrorKind<Infallible>> {
        let points = self.points(corners);
        self.shapes.push(Shape::Path { points, fill: Some(paint(style.color())), stroke: None });
        Ok(())
    }
}

fn colour(rgb: Rgb, cover: f64) -> RGBAColor {
    RGBAColor((rgb >> 16) as u8, (rgb >> 8) as u8, rgb as u8, cover)
}

/// Draws a curve into a field of a scene.
pub fn curve(scene: &mut Scene, field: Field, axes: &Axes, curve: &Curve<'_>) {
    let stroke = match curve {
        Curve::Line(_, stroke) => *stroke,
        Curve::Area(_, _, paint) => Stroke { paint: *paint, width: 0.0, dash: None },
    };
    let pen = Pen { shapes: &mut scene.shapes, field, stroke };
    let area: DrawingArea<_, Shift> = pen.into_drawing_area();
    let (low, high) = axes.values;
    let built =
        ChartBuilder::on(&area).build_cartesian_2d(axes.time.0..axes.time.1.max(axes.time.0 + 1), low..high);
    let Ok(mut chart) = built else { return };
    // Nothing that is drawn can fail: it only goes into a list.
    match curve {
        Curve::Line(points, stroke) if points.len() > 1 => {
            let style = colour(stroke.paint.colour, stroke.paint.cover);
            let _ = chart.draw_series(LineSeries::new(points.iter().copied(), style));
        }
        Curve::Line(points, stroke) => {
            let style = colour(stroke.paint.colour, stroke.paint.cover);
            let _ = chart.draw_series(points.iter().map(|point| Pixel::new(*point, style)));
        }
        Curve::Area(above, below, paint) => {
            let corners: Vec<(i64, f64)> = above.iter().chain(below.iter().rev()).copied().collect();
            let style = colour(paint.colour, paint.cover).filled();
            let _ = chart.draw_series([Polygon::new(corners, style)]);
        }
    }
}
