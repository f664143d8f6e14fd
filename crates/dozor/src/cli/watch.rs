//! `dozor` and `dozor watch`: this machine, live.

use super::{KernelFiles, Look, interval, need_terminal};
use crate::feed;
use crate::hands::Hands;
use crate::ui::run::{Connections, run};
use crate::ui::state::State;
use clap::Args;
use dozor_core::source::Source as _;
use dozor_core::timeline::Timeline;
use dozor_linux::LiveSource;
use std::sync::Arc;
use std::sync::mpsc::channel;
use std::time::Duration;

#[derive(Args)]
pub struct Watch {
    /// Time between readings
    #[arg(long, value_name = "DURATION", default_value = "2s", value_parser = interval)]
    every: Duration,
    #[command(flatten)]
    look: Look,
    #[command(flatten)]
    files: KernelFiles,
}

impl Watch {
    pub fn run(self) -> anyhow::Result<Option<i32>> {
        need_terminal()?;
        let source = LiveSource::open(self.files.roots())?;
        let mut state =
            State::new(Timeline::live(Arc::new(source.host())), self.look.theme(), self.every, (0, 0));
        self.look.apply(&mut state);
        let (sender, incoming) = channel();
        let pace = feed::start(Box::new(source), self.every, vec![], sender.clone());
        run(state, Connections { hands: Hands::Live, pace: Some(pace), incoming, sender })
    }
}
