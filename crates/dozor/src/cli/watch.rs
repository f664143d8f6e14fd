//! `dozor` and `dozor watch`: this machine, live.

use super::{KernelFiles, Look, interval, need_terminal, plain_theme, show};
use crate::feed;
use crate::hands::Hands;
use crate::ui::run::Connections;
use crate::ui::state::State;
use clap::Args;
use dozor_core::source::Source as _;
use dozor_core::timeline::Timeline;
use dozor_linux::LiveSource;
use std::sync::Arc;
use std::sync::mpsc::channel;
use std::time::Duration;

/// Time between readings where nobody says anything else.
const EVERY: Duration = Duration::from_secs(2);

#[derive(Args)]
pub struct Watch {
    /// Time between readings [default: 2s, or what the settings say]
    #[arg(long, value_name = "DURATION", value_parser = interval)]
    every: Option<Duration>,
    #[command(flatten)]
    look: Look,
    #[command(flatten)]
    files: KernelFiles,
}

impl Watch {
    pub fn run(self) -> anyhow::Result<Option<i32>> {
        need_terminal()?;
        let source = LiveSource::open(self.files.roots())?;
        let timeline = Timeline::live(Arc::new(source.host()));
        let mut state = State::new(timeline, plain_theme(), EVERY, (0, 0));
        show(&self.look, &mut state, "watch", self.every, |state| {
            let (sender, incoming) = channel();
            let pace = feed::start(Box::new(source), state.every, vec![], sender.clone());
            Connections { hands: Hands::Live, notes: None, pace: Some(pace), incoming, sender }
        })
    }
}
