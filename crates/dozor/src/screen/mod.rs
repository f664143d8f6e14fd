//! What happens on an event: the only place where the state changes.
//!
//! [`keys`] and [`mouse`] turn what people do into actions; [`act`] carries an action out, with [`time`], [`lanes`],
//! [`rows`], [`pace`] and [`views`]. What is open takes keys for itself: [`prompt`], [`pick`], [`columns_sheet`],
//! [`settings_sheet`], [`compare`].

mod columns_sheet;
mod compare;
mod frame;
mod keys;
mod lanes;
mod mouse;
mod pace;
mod pick;
mod prompt;
mod rows;
mod settings_sheet;
mod time;
mod views;

pub use frame::draw;
pub use lanes::choose as choose_lane;
pub use mouse::thumb;
pub use time::{distance_said, speed_word};

use crate::look::action::Action;
use crate::machine::{Outcome, Target, summary};
use crate::settings::Origin;
use crate::settings::file::Change;
use crate::settings::table::{MEANS, setting, theme_names};
use crate::sheets::Sheet;
use crate::sheets::pick::{Item, Kind, Picker, Row};
use crate::sheets::prompt::{Prompt, Purpose};
use crate::state::{CommandForm, Mode, Recording, State};
use dozor_core::lane::Severity;
use dozor_core::rank::Whose;
use dozor_core::reading::Reading;
use dozor_core::recording::{Frames, Mark, MarkKind};
use dozor_core::signals::Signal;
use ratatui::crossterm::event::{KeyCode, KeyEvent, MouseEvent};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// How long an ordinary message stays.
const MESSAGE: Duration = Duration::from_secs(8);

/// What happened.
pub enum Event {
    /// A key was pressed.
    Key(KeyEvent),
    /// The mouse did something.
    Mouse(MouseEvent),
    /// Text was pasted.
    Paste(String),
    /// The terminal has another size.
    Resize(u16, u16),
    /// The source gave a reading.
    Reading(Arc<Reading>),
    /// Readings of the time before, all at once.
    History(Vec<Arc<Reading>>),
    /// The source gives nothing more, for this reason.
    Ended(String),
    /// A mark came with the readings.
    Mark(Mark),
    /// Recordings have grown.
    Grown,
    /// A recording was begun beside those that are looked at.
    Begun(Arc<dyn Frames>),
    /// An action was carried out.
    Acted(Signal, Vec<Target>, Vec<Outcome>),
    /// A recording has begun or could not begin.
    RecordingBegan(Result<PathBuf, String>),
    /// The recording cannot be written for this reason, or can be again.
    RecordingStalled(Option<String>),
    /// A recording has ended: with its account or with what went wrong.
    RecordingEnded(Result<String, String>),
    /// Dozor's own CPU time in percent of a core.
    OwnCost(f64),
    /// Time passed.
    Tick,
}

/// What must be done outside of the state.
#[derive(Debug, PartialEq)]
pub enum Effect {
    /// Leave.
    Quit,
    /// Go to the background.
    Suspend,
    /// Draw everything anew.
    Redraw,
    /// Send a signal.
    Signal(Signal, Vec<Target>),
    /// Begin a recording.
    Record,
    /// End the recording.
    StopRecording,
    /// Read at another interval.
    Every(Duration),
    /// Read only when asked, or by itself again.
    ByHand(bool),
    /// Take one reading now.
    ReadNow,
    /// Give text to the clipboard of the terminal.
    Copy(String),
    /// Take the mouse, or leave it to the terminal.
    Mouse(bool),
    /// Keep something in the file of settings.
    Configure(Change),
    /// Keep a sign.
    Keep(Mark),
    /// Take in more of a recording that has grown, once what was done meanwhile is drawn.
    GrowOn,
}

/// Takes in an event.
pub fn update(state: &mut State, event: Event, now: Instant) -> Vec<Effect> {
    let (every, mouse) = (state.every, state.mouse);
    let mut effects = take_in(state, event, now);
    // Whoever changed them: a key, the settings.
    if state.every != every {
        effects.push(Effect::Every(state.every));
    }
    if state.mouse != mouse {
        effects.push(Effect::Mouse(state.mouse));
    }
    effects.extend(std::mem::take(&mut state.fresh_signs).into_iter().map(Effect::Keep));
    state.settle();
    effects
}

fn take_in(state: &mut State, event: Event, now: Instant) -> Vec<Effect> {
    match event {
        Event::Key(key) => return keys::pressed(state, &key, now),
        Event::Mouse(mouse) => return mouse::moved(state, mouse, now),
        Event::Paste(text) => prompt::pasted(state, &text, now),
        Event::Resize(width, height) => {
            state.size = (width, height);
            state.drag = None;
            state.keep_selection_visible();
            lanes::keep_part_visible(state);
        }
        Event::Reading(reading) => arrived(state, reading, now),
        Event::History(readings) => {
            for reading in readings {
                state.timeline.append(reading);
            }
            state.refresh(now);
        }
        Event::Ended(reason) => state.ended = Some(reason),
        Event::Mark(mark) => state.show_sign(mark),
        Event::Grown => return time::grown(state, now),
        Event::Begun(frames) => time::begun(state, frames, now),
        Event::Acted(signal, targets, outcomes) => {
            let good =
                outcomes.iter().all(|outcome| matches!(outcome, Outcome::Sent | Outcome::GoneAfter(_)));
            let severity = if good { Severity::Fine } else { Severity::Warning };
            let mut text = summary(&signal, &targets, &outcomes, &state.key(Action::Act));
            if outcomes.iter().any(|outcome| matches!(outcome, Outcome::Zombie(_))) {
                text.push_str(&format!(" ({} goes to the parent)", state.key(Action::Parent)));
            }
            state.say(severity, text, Some(now + 2 * MESSAGE));
        }
        Event::RecordingBegan(Ok(path)) => {
            state.say(Severity::Fine, format!("recording into {}", path.display()), Some(now + MESSAGE));
            state.recording = Some(Recording { path, since: now });
        }
        Event::RecordingBegan(Err(problem)) => state.say(Severity::Warning, problem, Some(now + 2 * MESSAGE)),
        Event::RecordingEnded(result) => {
            state.recording = None;
            match result {
                Ok(account) => state.say(Severity::Fine, account, Some(now + MESSAGE)),
                Err(problem) => state.say(Severity::Critical, problem, None),
            }
        }
        Event::RecordingStalled(Some(reason)) => {
            state.say(
                Severity::Critical,
                format!("readings are not recorded: {reason}; trying goes on"),
                None,
            );
        }
        Event::RecordingStalled(None) => {
            state.say(Severity::Fine, "recording again".to_owned(), Some(now + MESSAGE));
        }
        Event::OwnCost(share) => state.own_cost = Some(share),
        Event::Tick => time::tick(state, now),
    }
    vec![]
}

fn arrived(state: &mut State, reading: Arc<Reading>, now: Instant) {
    // The numbers of old samples change when they are thinned; their time does not.
    let looked_at =
        state.cursor.and_then(|cursor| state.timeline.moment(cursor)).map(|moment| moment.wall_ns);
    state.timeline.append(reading);
    if let Some(wall) = looked_at {
        let cursor = state.timeline.at(wall);
        let same = state.timeline.moment(cursor).is_some_and(|moment| moment.wall_ns == wall);
        state.cursor = Some(cursor);
        if !same {
            state.refresh(now);
        }
    }
    if state.cursor.is_none() || state.sample.is_none() {
        state.refresh(now);
    }
}

/// When the state changes by itself next.
pub fn next_tick(state: &State) -> Option<Instant> {
    let message = state.message.as_ref().and_then(|message| message.until);
    let playing = match state.mode {
        Mode::Replay { playing: true, due } => due,
        _ => None,
    };
    // What is looked for goes on at once.
    if state.search.is_some() {
        return Some(Instant::now());
    }
    [message, playing, state.held_until].into_iter().flatten().min()
}

/// Does what an action says.
pub fn act(state: &mut State, action: Action, now: Instant) -> Vec<Effect> {
    match action {
        Action::Quit => return vec![Effect::Quit],
        Action::Suspend => return vec![Effect::Suspend],
        Action::Redraw => return vec![Effect::Redraw],
        Action::Lane(lane) => lanes::choose(state, Some(lane)),
        Action::Overview => lanes::choose(state, None),
        Action::NextLane => lanes::step(state, 1),
        Action::PreviousLane => lanes::step(state, -1),
        Action::Parts => lanes::next_parts(state, true, now),
        Action::PreviousParts => lanes::next_parts(state, false, now),
        Action::Fold => state.lanes.fold(state.lane),
        Action::Hide => lanes::hide(state, now),
        Action::AllLanes => state.lanes.restore(),
        Action::LaneUp | Action::LaneDown => lanes::shift(state, action == Action::LaneDown, now),
        Action::Down | Action::Up | Action::PageDown | Action::PageUp | Action::First | Action::Last => {
            if state.parts.in_focus {
                lanes::move_in_parts(state, action);
            } else {
                rows::go(state, action, now);
            }
        }
        Action::Narrow => prompt::begin_narrowing(state),
        Action::GoTo => prompt::begin_going(state),
        Action::NextMatch => rows::go_to_match(state, rows::Way::On, now),
        Action::PreviousMatch => rows::go_to_match(state, rows::Way::Back, now),
        Action::Parent => rows::go_to_parent(state, now),
        Action::Arrange => state.sheet = Some(arrange_sheet(state)),
        Action::ArrangeBy(arrange) => state.arrange_by(arrange),
        Action::Open => rows::open(state, now),
        Action::Close => rows::close(state, now),
        Action::FoldRows => {
            state.folds.turn_all();
            state.rank_anew();
        }
        Action::Columns => columns_sheet::open(state),
        Action::PanRight => rows::pan(state, true),
        Action::PanLeft => rows::pan(state, false),
        Action::Threads
        | Action::KernelThreads
        | Action::ActiveOnly
        | Action::Whose
        | Action::CommandForm
        | Action::Percent
        | Action::Mean
        | Action::Units
        | Action::Times
        | Action::Theme => switch(state, action, now),
        Action::NextView => views::next(state, now),
        Action::SaveView => {
            let name = state.view.clone().unwrap_or_default();
            state.prompt = Some(Prompt::new(Purpose::View, &name));
        }
        Action::MarkAll => rows::mark_all(state),
        Action::InvertMarks => rows::invert_marks(state),
        Action::Commands => state.sheet = Some(Sheet::Pick(Picker::new(Kind::Commands))),
        Action::Settings => settings_sheet::open(state),
        Action::Order => state.sheet = Some(order_sheet(state)),
        Action::OtherWay => {
            state.order = state.order.reversed();
            state.rank_anew();
        }
        Action::Mark => rows::mark(state, now),
        Action::ClearMarks => state.marked.clear(),
        Action::Act => rows::open_act(state, now),
        Action::CopyPid => return rows::copy(state, now, |target| target.key.pid.to_string()),
        Action::CopyCommand => return rows::copy(state, now, |target| target.command.to_string()),
        Action::GoToTime => prompt::begin_time(state),
        Action::Difference => compare::difference(state, now),
        Action::Wider => state.zoom = state.zoom.step(true, state.every),
        Action::Narrower => state.zoom = state.zoom.step(false, state.every),
        Action::Means => state.zoom.mean = !state.zoom.mean,
        Action::Bookmark => prompt::begin_note(state),
        Action::Record => return pace::record(state, now),
        Action::Slower | Action::Faster if state.mode == Mode::Live => {
            return pace::interval(state, action == Action::Slower, now);
        }
        Action::ByHand => return pace::by_hand(state, now),
        Action::ReadNow => return pace::read_now(state, now),
        Action::Mouse => {
            state.mouse = !state.mouse;
            let text = if state.mouse {
                "the mouse is Dozor's again".to_owned()
            } else {
                let key = state.key(Action::Mouse);
                format!("the mouse is the terminal's: select text with it; {key} takes it back")
            };
            state.say(Severity::Fine, text, Some(now + MESSAGE));
        }
        Action::Help => state.sheet = Some(Sheet::Pick(Picker::new(Kind::Help))),
        Action::Back => keys::back(state),
        // The rest is about time.
        _ => time::act(state, action, now),
    }
    vec![]
}

/// Moves within a list, if a key says so.
fn moves(at: &mut usize, last: usize, key: &KeyEvent) -> bool {
    const PAGE: usize = 10;
    *at = match key.code {
        KeyCode::Down => *at + 1,
        KeyCode::Up => at.saturating_sub(1),
        KeyCode::PageDown => *at + PAGE,
        KeyCode::PageUp => at.saturating_sub(PAGE),
        KeyCode::Home => 0,
        KeyCode::End => last,
        _ => return false,
    }
    .min(last);
    true
}

/// The list of metrics to order by, at the present one.
fn order_sheet(state: &State) -> Sheet {
    let mut picker = Picker::new(Kind::Order);
    let is_present = |row: &Row| row.item == Item::Metric(state.order.first.metric);
    picker.at = picker.items(state).iter().position(is_present).unwrap_or(0);
    Sheet::Pick(picker)
}

/// The list of arrangements, at the present one.
fn arrange_sheet(state: &State) -> Sheet {
    let mut picker = Picker::new(Kind::Arrange);
    let present = dozor_core::rank::Arrange::ALL.iter().position(|arrange| *arrange == state.arrange);
    picker.at = present.unwrap_or(0);
    Sheet::Pick(picker)
}

/// Goes to the next value of something that is switched, and says what it is now.
fn switch(state: &mut State, action: Action, now: Instant) {
    fn next<T: PartialEq>(all: &[T], present: &T) -> usize {
        all.iter().position(|other| other == present).map_or(0, |at| (at + 1) % all.len())
    }
    let turned = |on: bool| (!on).to_string();
    let (name, value) = match action {
        Action::Threads => ("threads", turned(state.threads)),
        Action::KernelThreads => ("kernel_threads", turned(state.narrowing.kernel_threads)),
        Action::ActiveOnly => ("active", turned(state.narrowing.active)),
        Action::Whose => {
            let next = Whose::ALL[next(&Whose::ALL, &state.narrowing.whose)];
            ("whose", next.word().to_owned())
        }
        Action::CommandForm => {
            let next = CommandForm::ALL[next(&CommandForm::ALL, &state.command_form)];
            ("command", next.word().to_owned())
        }
        Action::Percent => ("percent", if state.of_machine { "core" } else { "machine" }.to_owned()),
        Action::Mean => {
            let present = setting("mean").map_or(String::new(), |setting| setting.get(state));
            ("mean", MEANS[next(&MEANS, &present.as_str())].to_owned())
        }
        Action::Units => {
            let decimal = state.steps == dozor_core::units::Steps::Decimal;
            ("units", if decimal { "binary" } else { "decimal" }.to_owned())
        }
        Action::Times => ("times", if state.times_relative { "clock" } else { "relative" }.to_owned()),
        _ => {
            // What the terminal says is one of the others; it is not worth a step of its own.
            let names: Vec<String> = theme_names(state).into_iter().skip(1).collect();
            let present = match (state.configured.theme.as_str(), state.theme.light) {
                ("auto", _) if state.theme.depth == crate::look::theme::Depth::Mono => "mono".to_owned(),
                ("auto", true) => "light".to_owned(),
                ("auto", false) => "dark".to_owned(),
                (name, _) => name.to_owned(),
            };
            ("theme", names[next(&names, &present)].clone())
        }
    };
    let Some(setting) = setting(name) else { return };
    match setting.set(state, &value) {
        Ok(()) => {
            state.configured.origins.insert(setting.name, Origin::Session);
            let word = crate::panes::hints::now_word(state, action);
            let word = if word.is_empty() { value } else { word };
            let name = crate::look::action::entry_of(action).map_or(name, |entry| entry.name);
            state.say(Severity::Fine, format!("{name}: {word}"), Some(now + MESSAGE / 2));
        }
        Err(problem) => state.say(Severity::Notice, problem, Some(now + MESSAGE)),
    }
}

/// Puts a sign for something that was done on the axis.
fn sign_action(state: &mut State, text: String) {
    let newest = state.timeline.end().checked_sub(1).and_then(|number| state.timeline.moment(number));
    if let Some(wall) = newest.map(|moment| moment.wall_ns) {
        state.sign(wall, MarkKind::Action, text);
    }
}

#[cfg(test)]
pub mod tests;
