//! `dozor replay`: recordings on the same screen.

use super::options::{Look, Misuse, Pids, need_terminal};
use super::query::standpoint;
use super::show::{followed, plain_theme, show};
use crate::feed;
use crate::machine::Machine;
use crate::recorder::Notes;
use crate::recordings::{self, Opened};
use crate::run::{Connections, begin};
use crate::state::State;
use anyhow::Context as _;
use clap::Args;
use dozor_core::recording::StreamReader;
use dozor_core::timeline::Timeline;
use dozor_core::when::When;
use std::path::{Path, PathBuf};
use std::time::Duration;

#[derive(Args)]
pub struct Replay {
    /// Recordings, or a folder of segments, as one timeline; - reads one that arrives on standard input
    #[arg(value_name = "FILE", required = true)]
    recordings: Vec<PathBuf>,
    /// Begin paused
    #[arg(long)]
    paused: bool,
    /// Begin at this time, such as 02:10, 'yesterday 14:00' or '10m ago' (before the end)
    #[arg(long, value_name = "TIME", value_parser = When::parse, allow_hyphen_values = true)]
    at: Option<When>,
    /// Times as fast as it was, from 0.25 to 64
    #[arg(long, value_name = "NUMBER", value_parser = speed)]
    speed: Option<f64>,
    /// Only this process; may be given several times
    #[arg(long = "pid", value_name = "PID", value_parser = super::options::pid)]
    pids: Vec<i64>,
    /// With the PIDs: also all that descend from them
    #[arg(long, requires = "pids")]
    descendants: bool,
    #[command(flatten)]
    look: Look,
}

const TIED: &str = "this is a recording: nothing can be done to its processes";

fn speed(text: &str) -> Result<f64, String> {
    let number = text.strip_suffix(['x', '×']).unwrap_or(text).parse().ok();
    number
        .filter(|speed| (0.25..=64.0).contains(speed))
        .ok_or_else(|| format!("'{text}' is not a number from 0.25 to 64"))
}

impl Replay {
    pub fn run(self) -> anyhow::Result<Option<i32>> {
        self.look.check()?;
        let begun;
        let mut problems = vec![];
        let mut notes = None;
        let mut state = if self.recordings == [Path::new("-")] {
            let stream = StreamReader::open(std::io::stdin(), true).context("standard input")?;
            need_terminal()?;
            begun = begin()?;
            followed(stream, None, &begun.post)
        } else {
            if self.recordings.iter().any(|path| path == Path::new("-")) {
                return Err(
                    Misuse("standard input is watched alone, without other recordings".to_owned()).into()
                );
            }
            let opened = recordings::open(&self.recordings)?;
            need_terminal()?;
            begun = begin()?;
            notes = where_notes_go(&opened);
            feed::watch(opened.files.clone(), opened.folders.clone(), begun.post.of_feed());
            problems = opened.problems;
            self.state(opened.timeline)?
        };
        // What is wrong with them comes with what is wrong with the settings.
        state.values.configured.problems.extend(recordings::told(&problems));
        let every = state.values.every;
        let tied = state.session().actions_refused.unwrap_or(TIED);
        let pids = Pids { pids: self.pids.clone(), descendants: self.descendants };
        let connections = Connections { machine: Machine::Elsewhere(tied), notes, pace: None };
        show(&self.look, &pids, state, "replay", Some(every), begun, |_, _| connections)
    }

    fn state(&self, timeline: Timeline) -> anyhow::Result<State> {
        let every = usual_interval(&timeline);
        let mut state = State::new(timeline, plain_theme(), every, (0, 0));
        state.refuse_actions(TIED);
        // The first sample has no rates: it is not what somebody wants to begin with.
        let timeline = &state.time().timeline;
        let mut number = (timeline.first() + 1).min(timeline.end() - 1);
        if let Some(when) = &self.at {
            let wall = when
                .resolve(standpoint(&state.time().timeline), state.time().zone.time_zone())
                .ok_or_else(|| Misuse("there is no such day".to_owned()))?;
            number = state.time().timeline.at(wall);
            let said = state.distance_said(wall, number);
            state.values.configured.problems.extend(said);
        }
        state.replay(number, self.speed.unwrap_or(1.0), !self.paused);
        Ok(state)
    }
}

/// Signs made on the screen go into the recording itself where it is one file, else beside the segments.
fn where_notes_go(opened: &Opened) -> Option<Notes> {
    match (&opened.files[..], &opened.folders[..]) {
        ([file], []) => Some(Notes::Recording(file.clone())),
        (_, [folder, ..]) => Some(Notes::Folder(folder.clone(), dozor_linux::own::user().to_string())),
        (files, []) => files.last().cloned().map(Notes::Recording),
    }
}

/// The median time between readings: what a column of the lanes stands for.
fn usual_interval(timeline: &Timeline) -> Duration {
    let moments = (timeline.first()..timeline.end()).filter_map(|number| timeline.moment(number));
    let mut seconds: Vec<f64> = moments.filter_map(|moment| moment.seconds).collect();
    seconds.sort_by(f64::total_cmp);
    let median = seconds.get(seconds.len() / 2).copied().unwrap_or(1.0);
    Duration::from_secs_f64(median.clamp(0.05, 86_400.0))
}
