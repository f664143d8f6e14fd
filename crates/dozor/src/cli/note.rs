//! `dozor note`: a note at a moment of a recording that is finished.

use super::options::Misuse;
use super::query::standpoint;
use crate::look::clock::Zone;
use crate::recorder::add_mark;
use crate::recordings;
use clap::Args;
use dozor_core::recording::{Mark, MarkKind};
use dozor_core::when::When;
use std::path::{Path, PathBuf};

#[derive(Args)]
pub struct Note {
    /// The recording; what is in it stays as it is
    #[arg(value_name = "FILE")]
    file: PathBuf,
    /// What is worth remembering
    #[arg(value_name = "TEXT")]
    text: String,
    /// When it was, such as 02:10 or '10m ago' (before its end) [default: its end]
    #[arg(long, value_name = "TIME", value_parser = When::parse, allow_hyphen_values = true)]
    at: Option<When>,
}

impl Note {
    pub fn run(self) -> anyhow::Result<Option<i32>> {
        if self.file == Path::new(recordings::STANDARD_INPUT) {
            return Err(Misuse(
                "a note is for a file; what arrives on standard input is kept nowhere".to_owned(),
            )
            .into());
        }
        if self.file.is_dir() {
            return Err(
                Misuse(format!("{} is a folder; name one of its recordings", self.file.display())).into()
            );
        }
        let opened = recordings::open(std::slice::from_ref(&self.file))?;
        let stand = standpoint(&opened.timeline);
        let zone = Zone::named(&opened.timeline.host().time_zone);
        let wall = match &self.at {
            None => stand.newest,
            Some(when) => when
                .resolve(stand, zone.time_zone())
                .filter(|wall| (stand.first..=stand.newest).contains(wall))
                .ok_or_else(|| {
                    let (first, newest) = (zone.date_time(stand.first), zone.date_time(stand.newest));
                    Misuse(format!("the recording reaches from {first} to {newest}"))
                })?,
        };
        add_mark(&self.file, &Mark::new(wall, MarkKind::Bookmark, self.text.trim()))?;
        Ok(None)
    }
}
