//! A drawing: shapes and texts at places in points (1/72 inch), from the upper left corner. It knows nothing of what becomes
//! of it.

use crate::hues::Rgb;

/// A colour, and how much of it covers what is below: 1 is all.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Paint {
    /// The colour.
    pub colour: Rgb,
    /// From 0 to 1.
    pub cover: f64,
}

impl Paint {
    /// A colour that covers all.
    pub const fn full(colour: Rgb) -> Paint {
        Paint { colour, cover: 1.0 }
    }

    /// A colour through which one sees what is below.
    pub const fn thin(colour: Rgb, cover: f64) -> Paint {
        Paint { colour, cover }
    }
}

/// A line that is drawn.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Stroke {
    /// Its colour.
    pub paint: Paint,
    /// Its width.
    pub width: f64,
    /// Lengths of a dash and of the gap behind it; none is a line without gaps.
    pub dash: Option<[f64; 2]>,
}

impl Stroke {
    /// A line without gaps.
    pub const fn plain(colour: Rgb, width: f64) -> Stroke {
        Stroke { paint: Paint::full(colour), width, dash: None }
    }
}

/// Where a text stands from its place.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Anchor {
    /// It begins there.
    Start,
    /// Its middle is there.
    Middle,
    /// It ends there.
    End,
}

/// Which letters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Face {
    /// For reading.
    Plain,
    /// Headings and names.
    Bold,
    /// All letters as wide as each other.
    Mono,
    /// The same, heavier.
    MonoBold,
}

/// A text in one line.
#[derive(Clone, Debug, PartialEq)]
pub struct Words {
    /// The text.
    pub text: String,
    /// Where it stands: on the line that letters stand on.
    pub at: (f64, f64),
    /// How it stands there.
    pub anchor: Anchor,
    /// Its letters.
    pub face: Face,
    /// Their size.
    pub size: f64,
    /// Their colour.
    pub colour: Rgb,
    /// Whether it is turned by a quarter, to be read from below.
    pub turned: bool,
    /// It takes just this width, as cells of a screen do.
    pub width: Option<f64>,
}

/// Something that is drawn.
#[derive(Clone, Debug, PartialEq)]
pub enum Shape {
    /// A rectangle: left, top, width, height.
    Box {
        /// Where.
        place: [f64; 4],
        /// What fills it.
        fill: Paint,
    },
    /// Lines from point to point.
    Path {
        /// The points.
        points: Vec<(f64, f64)>,
        /// What fills what they go round.
        fill: Option<Paint>,
        /// The line.
        stroke: Option<Stroke>,
    },
    /// A text.
    Words(Words),
    /// Shapes that belong together, with what they show in words.
    Group {
        /// What they show.
        name: String,
        /// The shapes.
        shapes: Vec<Shape>,
    },
}

/// A drawing.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Scene {
    /// Its width.
    pub width: f64,
    /// Its height.
    pub height: f64,
    /// What it is called.
    pub title: String,
    /// What it shows, for those who cannot see it.
    pub description: String,
    /// Its ground; none where there is none.
    pub ground: Option<Rgb>,
    /// What is drawn, one over the other.
    pub shapes: Vec<Shape>,
    /// Headings and how far down they stand, for a list of contents.
    pub headings: Vec<(String, f64)>,
}

impl Scene {
    /// An empty one.
    pub fn new(width: f64, height: f64, ground: Option<Rgb>) -> Scene {
        Scene { width, height, ground, ..Scene::default() }
    }

    /// Adds a shape.
    pub fn put(&mut self, shape: Shape) {
        self.shapes.push(shape);
    }

    /// Adds a line.
    pub fn line(&mut self, from: (f64, f64), to: (f64, f64), stroke: Stroke) {
        self.put(Shape::Path { points: vec![from, to], fill: None, stroke: Some(stroke) });
    }

    /// Adds a text that is read from left to right.
    pub fn words(
        &mut self,
        text: impl Into<String>,
        at: (f64, f64),
        anchor: Anchor,
        (face, size): (Face, f64),
        colour: Rgb,
    ) {
        let text = text.into();
        if !text.is_empty() {
            self.put(Shape::Words(Words {
                text,
                at,
                anchor,
                face,
                size,
                colour,
                turned: false,
                width: None,
            }));
        }
    }

    /// Adds another drawing at a place.
    pub fn inset(&mut self, scene: Scene, (dx, dy): (f64, f64)) {
        if let Some(ground) = scene.ground.filter(|ground| self.ground != Some(*ground)) {
            self.put(Shape::Box { place: [dx, dy, scene.width, scene.height], fill: Paint::full(ground) });
        }
        let moved = scene.shapes.into_iter().map(|shape| shape.moved(dx, dy)).collect();
        self.put(Shape::Group { name: scene.description, shapes: moved });
    }
}

impl Shape {
    /// The same somewhere else.
    #[must_use]
    pub fn moved(self, dx: f64, dy: f64) -> Shape {
        match self {
            Shape::Box { place: [x, y, w, h], fill } => Shape::Box { place: [x + dx, y + dy, w, h], fill },
            Shape::Path { points, fill, stroke } => Shape::Path {
                points: points.into_iter().map(|(x, y)| (x + dx, y + dy)).collect(),
                fill,
                stroke,
            },
            Shape::Words(words) => Shape::Words(Words { at: (words.at.0 + dx, words.at.1 + dy), ..words }),
            Shape::Group { name, shapes } => {
                Shape::Group { name, shapes: shapes.into_iter().map(|shape| shape.moved(dx, dy)).collect() }
            }
        }
    }
}
