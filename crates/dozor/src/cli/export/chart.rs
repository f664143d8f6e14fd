//! `dozor export --chart`, `--lanes`: drawings.

use super::{Export, Lanes, Source, Theme, ending, no_form, put};
use crate::cli::options::Misuse;
use dozor_core::lane::Lane;
use dozor_export::chart::{Composing, Look, compose, draw};
use dozor_export::pdf::{self, About};
use dozor_export::scene::Scene;
use dozor_export::svg;

/// Points of a line: more than one for each point of the page's width shows nothing more.
const POINTS: f64 = 0.8;

impl Export {
    pub(super) fn chart(&self) -> anyhow::Result<Option<i32>> {
        let form = match ending(self.output.as_ref()).as_deref() {
            Some("svg") => Written::Svg,
            Some("pdf") => Written::Pdf,
            _ => return Err(no_form(self.output.as_ref(), ".svg or .pdf").into()),
        };
        let Source { mut timeline, numbers } = self.source()?;
        let mut lanes: Vec<Lane> = vec![];
        for lane in self.lanes.iter().flatten() {
            match lane {
                Lanes::All => lanes = Lane::ALL.to_vec(),
                Lanes::One(lane) => lanes.push(*lane),
            }
        }
        if lanes.is_empty() && self.charts.is_empty() {
            lanes = Lane::ALL.to_vec();
        }
        let what = Composing {
            wishes: self.charts.clone(),
            form: self.form,
            lanes,
            columns: (self.size.0 * POINTS) as usize,
            happenings: 8,
            brief: false,
            title: self.title.clone(),
        };
        let chart = compose(&mut timeline, numbers, &what)?;
        let light = self.theme == Theme::Light;
        let scene = draw(&chart, self.size, Look { light }).map_err(|error| Misuse(error.to_string()))?;
        put(self.output.as_ref(), &form.bytes(&[scene], &chart.host)?)?;
        Ok(None)
    }
}

/// A form of a drawing.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Written {
    Svg,
    Pdf,
}

impl Written {
    /// Drawings of a host as a file; SVG has one page.
    pub fn bytes(self, scenes: &[Scene], host: &str) -> anyhow::Result<Vec<u8>> {
        let title = scenes.first().map_or(String::new(), |scene| scene.title.clone());
        Ok(match self {
            Written::Svg => scenes.first().map(svg::write).unwrap_or_default().into_bytes(),
            Written::Pdf => {
                let about = About {
                    title,
                    author: format!("Dozor on {host}"),
                    subject: scenes.first().map_or(String::new(), |scene| scene.description.clone()),
                    made_ns: None,
                };
                pdf::write(scenes, &about)?
            }
        })
    }
}
