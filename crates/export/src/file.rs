//! A drawing as a file, in the form that is asked for.

use crate::pdf::{self, About};
use crate::scene::Scene;
use crate::svg;

/// Forms of a drawing.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Form {
    /// SVG.
    Svg,
    /// PDF.
    Pdf,
}

impl Form {
    /// The form that the ending of a file's name says.
    pub fn by_ending(ending: &str) -> Option<Form> {
        match ending {
            "svg" => Some(Form::Svg),
            "pdf" => Some(Form::Pdf),
            _ => None,
        }
    }

    /// A drawing of a host as a file.
    pub fn bytes(self, scene: &Scene, host: &str) -> Vec<u8> {
        match self {
            Form::Svg => svg::write(scene).into_bytes(),
            Form::Pdf => {
                let about = About {
                    title: scene.title.clone(),
                    author: format!("Dozor on {host}"),
                    subject: scene.description.clone(),
                };
                pdf::write(std::slice::from_ref(scene), &about)
            }
        }
    }
}
