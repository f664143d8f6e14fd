//! `dozor replay`: a recording on the same screen.

use super::{Look, need_terminal, plain_theme, show};
use crate::feed;
use crate::hands::Hands;
use crate::ui::run::Connections;
use crate::ui::state::{Mode, State};
use anyhow::Context as _;
use clap::Args;
use dozor_core::recording::StreamReader;
use dozor_core::timeline::Timeline;
use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::mpsc::channel;
use std::time::{Duration, Instant};

#[derive(Args)]
pub struct Replay {
    /// The recording; - reads one that arrives on standard input
    #[arg(value_name = "FILE")]
    file: PathBuf,
    /// Begin paused
    #[arg(long)]
    paused: bool,
    #[command(flatten)]
    look: Look,
}

const TIED: &str = "this is a recording: nothing can be done to its processes";

impl Replay {
    pub fn run(self) -> anyhow::Result<Option<i32>> {
        let (sender, incoming) = channel();
        let name = self.file.display().to_string();
        let mut problem = None;
        let mut state = if self.file == Path::new("-") {
            let stream = StreamReader::open(std::io::stdin(), true).context("standard input")?;
            need_terminal()?;
            let every = Duration::from_secs_f64(stream.every().unwrap_or(1.0).clamp(0.05, 86_400.0));
            let state = State::new(Timeline::live(stream.host().clone()), plain_theme(), every, (0, 0));
            feed::follow(stream, sender.clone());
            state
        } else {
            let (state, found) = self.open(&name)?;
            need_terminal()?;
            problem = found;
            state
        };
        state.tied = Some(TIED);
        if let Some(problem) = problem {
            state.configured.problems.push(problem);
        }
        let every = state.every;
        show(&self.look, &mut state, "replay", Some(every), |_| Connections {
            hands: Hands::Tied(TIED),
            notes: None,
            pace: None,
            incoming,
            sender,
        })
    }

    /// Opens a file; gives what could not be read of it as well.
    fn open(&self, name: &str) -> anyhow::Result<(State, Option<String>)> {
        let file = File::open(&self.file).with_context(|| name.to_owned())?;
        if file.metadata().is_ok_and(|data| data.is_dir()) {
            anyhow::bail!("{name} is a folder, not a recording");
        }
        let timeline = Timeline::open(file).with_context(|| name.to_owned())?;
        let damages = timeline.damages();
        if timeline.is_empty() {
            let reason = damages.first().map_or("it holds no reading".to_owned(), ToString::to_string);
            anyhow::bail!("{name}: {reason}");
        }
        let problem = damages.first().map(|first| match damages.len() {
            1 => format!("{name} is {first}"),
            many => format!("{name} is {first}; {} more places are damaged", many - 1),
        });
        let every = usual_interval(&timeline);
        let mut state = State::new(timeline, plain_theme(), every, (0, 0));
        state.cursor = Some(state.timeline.first());
        let due = (!self.paused).then(Instant::now);
        state.mode = Mode::Replay { playing: !self.paused, due };
        Ok((state, problem))
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
