//! `dozor export --chart`, `--lanes`: drawings.

use super::{Export, Lanes, Source, Theme, ending, no_form, put};
use crate::cli::options::Misuse;
use crate::cli::problem;
use dozor_core::lane::Lane;
use dozor_export::chart::{Composing, Look, compose, draw};
use dozor_export::file::Form;

/// Points of a line: more than one for each point of the page's width shows nothing more.
const POINTS: f64 = 0.8;

impl Export {
    pub(super) fn chart(&self) -> anyhow::Result<Option<i32>> {
        let form = ending(self.output.as_ref()).and_then(|ending| Form::by_ending(&ending));
        let form = form.ok_or_else(|| no_form(self.output.as_ref(), ".svg or .pdf"))?;
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
        for wish in &chart.unknown {
            problem::say(&format!("{wish}: in this time there is no value of it"));
        }
        let light = self.theme == Theme::Light;
        let scene = draw(&chart, self.size, Look { light }).map_err(|error| Misuse(error.to_string()))?;
        put(self.output.as_ref(), &form.bytes(&scene, &chart.host))?;
        Ok(None)
    }
}
