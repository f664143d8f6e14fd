//! `dozor report`: what happened, in a form that is handed on.

use super::export::{ending, no_form, put};
use super::query::range;
use crate::look::clock::Zone;
use crate::recordings;
use clap::Args;
use dozor_core::when::When;
use dozor_export::report::{Asked, Report as Contents};
use std::path::PathBuf;

#[derive(Args)]
pub struct Report {
    /// Recordings, or folders of segments
    #[arg(value_name = "FILE", required = true)]
    files: Vec<PathBuf>,
    /// From this time on, such as 02:10, 'yesterday 14:00', '2031-02-14 02:10' or '10m ago' (before its end)
    #[arg(long, value_name = "TIME", value_parser = When::parse, allow_hyphen_values = true)]
    from: Option<When>,
    /// Until this time
    #[arg(long, value_name = "TIME", value_parser = When::parse, allow_hyphen_values = true)]
    to: Option<When>,
    /// Its title
    #[arg(long, value_name = "TEXT")]
    title: Option<String>,
    /// Programs in each table at most
    #[arg(long, value_name = "NUMBER", default_value_t = 6)]
    users: usize,
    /// Where it is written; the ending says the form: .pdf, .html or .md
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
}

impl Report {
    pub fn run(self) -> anyhow::Result<Option<i32>> {
        let output = self.output.as_ref();
        let form = ending(output).unwrap_or_default();
        if !["pdf", "html", "htm", "md"].contains(&form.as_str()) {
            return Err(no_form(output, ".pdf, .html or .md").into());
        }
        let recordings::Opened { mut timeline, problems, .. } = recordings::open(&self.files)?;
        for problem in problems {
            super::problem::say(&problem);
        }
        let zone = Zone::named(&timeline.host().time_zone);
        let numbers = range(&timeline, &zone, self.from.as_ref(), self.to.as_ref())?;
        let asked = Asked { title: self.title, users: self.users };
        let report = Contents::new(&mut timeline, numbers, &asked)?;
        let bytes = match form.as_str() {
            "pdf" => report.pdf(),
            "md" => report.markdown().into_bytes(),
            _ => report.html().into_bytes(),
        };
        put(output, &bytes)?;
        Ok(None)
    }
}
