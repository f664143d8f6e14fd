//! The screen as the settings, the last time and the options say.

use super::options::{Look, Misuse, Pids};
use super::problem;
use crate::feed;
use crate::look::theme::{Depth, Found, Theme};
use crate::run::{Begun, Connections, Post, run};
use crate::screen::Screen;
use crate::settings::configured::Origin;
use crate::settings::file::Places;
use crate::settings::{file, left, table};
use crate::state::State;
use crate::state::data::Stay;
use clap::ValueEnum as _;
use dozor_core::lane::Severity;
use dozor_core::recording::StreamReader;
use dozor_core::timeline::Timeline;
use std::io::Read;
use std::sync::Arc;
use std::time::Duration;

/// Why nothing can be done to processes of a machine that is watched from here.
pub const FAR: &str = "these processes run elsewhere: nothing can be done to them from here";

/// The state of a screen on readings that arrive from another machine.
pub fn followed<R: Read + Send + 'static>(
    stream: StreamReader<R>,
    again: Option<feed::Again<R>>,
    out: &Post,
) -> State {
    let every = Duration::from_secs_f64(stream.every().unwrap_or(1.0).clamp(0.05, 86_400.0));
    let mut state = State::new(Timeline::live(stream.host().clone()), plain_theme(), every, (0, 0));
    state.refuse_actions(FAR);
    feed::follow(stream, again, out.of_feed());
    state
}

/// Makes the screen as the settings, the last time and the options say, and runs it. `screen` names the kind of screen
/// whose last time is meant. `every` is kept where the pace is not the settings' business.
pub fn show(
    look: &Look,
    pids: &Pids,
    mut state: State,
    screen: &str,
    every: Option<Duration>,
    begun: Begun,
    start: impl FnOnce(&State, &Post) -> Connections,
) -> anyhow::Result<Option<i32>> {
    let places = Places::find();
    look.prepare(pids, &mut state, &places, screen)?;
    if let Some(every) = every {
        state.values.every = every;
        state.values.configured.origins.insert("every", Origin::CommandLine);
    }
    let connections = start(&state, &begun.post);
    let mut shown = Screen::new(state);
    let result = run(&mut shown, begun, connections);
    shown.state.leave();
    if let Err(problem) = left::keep(&shown.state.values, &places, screen) {
        problem::say(&format!("how the screen was left is not kept: {problem}"));
    }
    result
}

impl Look {
    /// What is wrong with the options can be said before a terminal is asked for, and before anything is read.
    pub fn check(&self) -> anyhow::Result<()> {
        let mut state =
            State::new(Timeline::live(Arc::default()), plain_theme(), Duration::from_secs(1), (0, 0));
        self.prepare(&Pids::default(), &mut state, &Places::find(), "demo")
    }

    fn prepare(&self, pids: &Pids, state: &mut State, places: &Places, screen: &str) -> anyhow::Result<()> {
        let variable = |name: &str| std::env::var(name).ok();
        state.begin(|values| {
            values.narrowing.me = dozor_linux::own::user();
            values.configured.found = Some(Found::by(variable));
            file::load(values, places);
            if values.configured.remember {
                left::restore(values, places, screen);
            }
        });
        let first = self.view.clone().unwrap_or_else(|| state.values.configured.first_view.clone());
        if !first.is_empty() {
            set(state, "view", &first).map_err(|problem| Misuse(format!("--view: {problem}")))?;
        }
        self.apply(pids, state)?;
        if let Some(problem) = state.values.configured.problem() {
            state.say_for(Severity::Warning, problem, Stay::UntilKey);
        }
        Ok(())
    }

    /// What the options say goes before everything else.
    fn apply(&self, pids: &Pids, state: &mut State) -> anyhow::Result<()> {
        let word =
            |value: Option<clap::builder::PossibleValue>| value.map(|value| value.get_name().to_owned());
        let texts = [
            ("theme", self.theme.clone()),
            ("colors", self.colors.and_then(|colors| word(colors.to_possible_value()))),
            ("symbols", self.symbols.and_then(|symbols| word(symbols.to_possible_value()))),
            ("mouse", self.no_mouse.then(|| "false".to_owned())),
            ("arrange", self.arrange.map(|arrange| arrange.word().to_owned())),
            ("order", self.order.map(|order| order.written())),
        ];
        for (name, text) in texts {
            if let Some(text) = text {
                set(state, name, &text).map_err(|problem| Misuse(format!("--{name}: {problem}")))?;
            }
        }
        if let Some(columns) = &self.columns {
            state.values.column_sets.insert(state.values.lane, columns.clone());
            state.values.configured.given_columns = Some((state.values.lane, columns.clone()));
        }
        let by_pid = pids.apply(&mut state.values.narrowing);
        if self.kept.apply(&mut state.values.narrowing)? || by_pid {
            for name in ["narrow", "whose", "active"] {
                state.values.configured.origins.insert(name, Origin::CommandLine);
            }
        }
        Ok(())
    }
}

/// Sets something for this time only.
fn set(state: &mut State, name: &'static str, text: &str) -> Result<(), String> {
    let setting = table::setting(name).ok_or_else(|| format!("no setting is called '{name}'"))?;
    state.change(|values| setting.set(values, text))?;
    state.values.configured.origins.insert(name, Origin::CommandLine);
    Ok(())
}

/// The screen before anything is known of the settings.
pub fn plain_theme() -> Theme {
    Theme::new(Depth::Sixteen, false)
}
