//! What happens on an event: the only place where the state changes.

use super::action::{Action, action_of};
use super::columns::{self, Columns};
use super::line_edit::LineEdit;
use super::sheet::{ActSheet, OrderSheet, Sheet};
use super::state::{HOLD, Mode, Narrowing, Recording, State};
use super::view;
use crate::hands::{Outcome, Target, summary};
use dozor_core::lane::{Lane, Severity};
use dozor_core::rank::{Narrow, Order};
use dozor_core::reading::{ProcessKey, Reading};
use dozor_core::signals::Signal;
use ratatui::crossterm::event::{KeyCode, KeyEvent, MouseButton, MouseEvent, MouseEventKind};
use ratatui::layout::{Position, Rect};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// Intervals that `+` and `-` go through, in milliseconds.
const INTERVALS: [u64; 8] = [200, 500, 1_000, 2_000, 5_000, 10_000, 30_000, 60_000];
/// How long an ordinary message stays.
const MESSAGE: Duration = Duration::from_secs(8);
/// Rows that a turn of the wheel moves.
const WHEEL: isize = 3;

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
    /// The source gives nothing more, for this reason.
    Ended(String),
    /// An action was carried out.
    Acted(Signal, Vec<Target>, Vec<Outcome>),
    /// A recording has begun or could not begin.
    RecordingBegan(Result<PathBuf, String>),
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
}

/// Takes in an event.
pub fn update(state: &mut State, event: Event, now: Instant) -> Vec<Effect> {
    match event {
        Event::Key(key) => return key_pressed(state, &key, now),
        Event::Mouse(mouse) => mouse_moved(state, mouse, now),
        Event::Paste(text) => {
            if let Some(narrowing) = &mut state.narrowing {
                narrowing.line.insert_text(&text);
                narrow_as_typed(state);
            }
        }
        Event::Resize(width, height) => {
            state.size = (width, height);
            state.keep_selection_visible();
        }
        Event::Reading(reading) => {
            state.timeline.append(reading);
            if state.cursor.is_none() || state.sample.is_none() {
                state.refresh(now);
            } else if state.cursor.is_some_and(|cursor| cursor < state.timeline.first()) {
                state.cursor = Some(state.timeline.first());
                state.refresh(now);
            }
        }
        Event::Ended(reason) => state.ended = Some(reason),
        Event::Acted(signal, targets, outcomes) => {
            let good =
                outcomes.iter().all(|outcome| matches!(outcome, Outcome::Sent | Outcome::GoneAfter(_)));
            let severity = if good { Severity::Fine } else { Severity::Warning };
            state.say(severity, summary(&signal, &targets, &outcomes), Some(now + 2 * MESSAGE));
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
        Event::OwnCost(share) => state.own_cost = Some(share),
        Event::Tick => tick(state, now),
    }
    vec![]
}

/// When the state changes by itself next.
pub fn next_tick(state: &State) -> Option<Instant> {
    let message = state.message.as_ref().and_then(|message| message.until);
    let playing = match state.mode {
        Mode::Replay { playing: true, due } => due,
        _ => None,
    };
    [message, playing, state.held_until].into_iter().flatten().min()
}

fn tick(state: &mut State, now: Instant) {
    if state.message.as_ref().is_some_and(|message| message.until.is_some_and(|until| until <= now)) {
        state.message = None;
    }
    if state.held_until.is_some_and(|until| until <= now) {
        state.held_until = None;
        state.refresh(now);
    }
    if let Mode::Replay { playing: true, due: Some(due) } = state.mode
        && due <= now
    {
        let next = state.shown().map_or(0, |shown| shown + 1);
        if next >= state.timeline.end() {
            state.mode = Mode::Replay { playing: false, due: None };
        } else {
            state.cursor = Some(next);
            state.refresh(now);
            plan_next(state, due.max(now.checked_sub(Duration::from_secs(1)).unwrap_or(now)));
        }
    }
}

/// Plans the next sample of a replay at its own pace, gaps left out.
fn plan_next(state: &mut State, from: Instant) {
    const LONGEST: f64 = 10.0;
    let next = state.shown().and_then(|shown| state.timeline.moment(shown + 1));
    let seconds = next.map(|moment| moment.seconds.unwrap_or(1.0).clamp(0.02, LONGEST));
    let due = Some(from + Duration::from_secs_f64(seconds.unwrap_or(0.0)));
    state.mode = Mode::Replay { playing: true, due };
}

fn key_pressed(state: &mut State, key: &KeyEvent, now: Instant) -> Vec<Effect> {
    let action = action_of(key);
    // These mean the same wherever one is.
    if matches!(action, Some(Action::Suspend | Action::Redraw)) || key_is_interrupt(key) {
        return action.map(|action| act(state, action, now)).unwrap_or_default();
    }
    if state.narrowing.is_some() {
        narrow_key(state, key);
        return vec![];
    }
    match &mut state.sheet {
        Some(Sheet::Act(_)) => return act_key(state, key, now),
        Some(Sheet::Order(_)) => order_key(state, key),
        Some(Sheet::Help(_)) => help_key(state, key, action),
        None => return action.map(|action| act(state, action, now)).unwrap_or_default(),
    }
    vec![]
}

fn key_is_interrupt(key: &KeyEvent) -> bool {
    super::action::key_name(key) == "ctrl-c"
}

/// Does what an action says.
pub fn act(state: &mut State, action: Action, now: Instant) -> Vec<Effect> {
    match action {
        Action::Quit => return vec![Effect::Quit],
        Action::Suspend => return vec![Effect::Suspend],
        Action::Redraw => return vec![Effect::Redraw],
        Action::Lane(lane) => choose_lane(state, Some(lane)),
        Action::Overview => choose_lane(state, None),
        Action::NextLane => step_lane(state, 1),
        Action::PreviousLane => step_lane(state, 5),
        Action::Down => move_selection(state, 1, now),
        Action::Up => move_selection(state, -1, now),
        Action::PageDown => move_selection(state, page(state), now),
        Action::PageUp => move_selection(state, -page(state), now),
        Action::First => select_row(state, 0, now),
        Action::Last => select_row(state, state.rows.len().saturating_sub(1), now),
        Action::Narrow => {
            let before = state.narrow.clone();
            state.narrowing = Some(Narrowing { line: LineEdit::new(before.text()), before });
        }
        Action::Order => state.sheet = Some(Sheet::Order(OrderSheet::default())),
        Action::OtherWay => {
            state.order = state.order.reversed();
            state.rank_anew();
        }
        Action::Mark => mark(state, now),
        Action::ClearMarks => state.marked.clear(),
        Action::Act => open_act(state, now),
        Action::Freeze => freeze(state, now),
        Action::StepBack => step_time(state, -1, now),
        Action::StepOn => step_time(state, 1, now),
        Action::TenBack => step_time(state, -10, now),
        Action::TenOn => step_time(state, 10, now),
        Action::Begin => go_to(state, state.timeline.first(), now),
        Action::End => go_to(state, state.timeline.end().saturating_sub(1), now),
        Action::Live => live(state, now),
        Action::Record => return record(state, now),
        Action::Slower => return interval(state, true, now),
        Action::Faster => return interval(state, false, now),
        Action::Help => state.sheet = Some(Sheet::Help(0)),
        Action::Back => back(state),
    }
    vec![]
}

fn back(state: &mut State) {
    if state.message.take().is_some() {
        return;
    }
    if !state.narrow.is_empty() {
        state.narrow = Narrow::default();
        state.rank_anew();
    } else if state.selected.take().is_some() {
        state.scroll = 0;
        state.held_until = None;
    } else {
        state.marked.clear();
    }
}

fn choose_lane(state: &mut State, lane: Option<Lane>) {
    state.lane = lane;
    state.order = lane.map_or_else(Order::by_cpu, |lane| Order::by(lane.lens()));
    state.rank_anew();
    if state.selected.is_none() {
        state.scroll = 0;
    }
}

fn step_lane(state: &mut State, steps: usize) {
    let present =
        state.lane.map_or(0, |lane| 1 + Lane::ALL.iter().position(|other| *other == lane).unwrap_or(0));
    let next = (present + steps) % 6;
    choose_lane(state, next.checked_sub(1).map(|at| Lane::ALL[at]));
}

fn page(state: &State) -> isize {
    state.layout().map_or(1, |layout| isize::try_from(layout.rows.height).unwrap_or(1)).max(2) - 1
}

fn move_selection(state: &mut State, rows: isize, now: Instant) {
    let target = match (state.selected, state.row_of_selected()) {
        (None, _) => state.scroll,
        (Some(_), Some(row)) => row.saturating_add_signed(rows),
        // The selected process is gone: go on from where it was.
        (Some(_), None) => state.selected_row,
    };
    select_row(state, target, now);
}

fn select_row(state: &mut State, row: usize, now: Instant) {
    let row = row.min(state.rows.len().saturating_sub(1));
    state.selected = state.key_of_row(row);
    state.selected_row = row;
    state.held_until = Some(now + HOLD);
    state.keep_selection_visible();
}

/// Where nothing is selected, or what is selected cannot be seen because of the narrowing, the first visible row
/// is. A process that has ended stays selected, so that nobody acts on its neighbour by accident.
fn select_something(state: &mut State, now: Instant) {
    let sample = state.sample.as_ref();
    let ended = state.selected.is_some_and(|key| sample.is_some_and(|sample| sample.find(key).is_none()));
    if !ended && state.row_of_selected().is_none() {
        select_row(state, state.scroll, now);
    }
}

fn mark(state: &mut State, now: Instant) {
    select_something(state, now);
    let Some(key) = state.selected else { return };
    if !state.marked.remove(&key) {
        state.marked.insert(key);
    }
    move_selection(state, 1, now);
}

fn target(state: &State, key: ProcessKey) -> Option<Target> {
    let sample = state.sample.as_ref()?;
    let row = &sample.now.processes[sample.find(key)?];
    row.pid.value()?;
    let is_child = |other: &&Arc<_>| {
        let other: &dozor_core::reading::ProcessRow = other;
        other.ppid.value() == Some(key.pid)
    };
    let children = sample.now.processes.iter().filter(is_child).count();
    Some(Target { key, name: row.name.clone(), user: row.user.clone(), children })
}

fn open_act(state: &mut State, now: Instant) {
    if let Some(reason) = state.tied {
        state.say(Severity::Notice, reason.to_owned(), Some(now + MESSAGE));
        return;
    }
    if state.marked.is_empty() {
        let selected = state.selected;
        select_something(state, now);
        // Rows move: what stands at the top now may be another one than when the hand went to the key.
        if state.selected != selected && state.rows.len() > 1 {
            let name = state.selected.and_then(|key| target(state, key)).map(|target| target.label());
            let text = format!("selected {}; x again acts on it", name.unwrap_or_default());
            state.say(Severity::Notice, text, Some(now + MESSAGE));
            return;
        }
    }
    let keys: Vec<ProcessKey> = if state.marked.is_empty() {
        state.selected.into_iter().collect()
    } else {
        state.marked.iter().copied().collect()
    };
    let targets: Vec<Target> = keys.into_iter().filter_map(|key| target(state, key)).collect();
    if targets.is_empty() {
        state.say(
            Severity::Notice,
            "that is no process any more; select another".to_owned(),
            Some(now + MESSAGE),
        );
    } else {
        state.sheet = Some(Sheet::Act(ActSheet::new(targets)));
    }
}

fn act_key(state: &mut State, key: &KeyEvent, now: Instant) -> Vec<Effect> {
    let Some(Sheet::Act(sheet)) = &mut state.sheet else { return vec![] };
    let last = sheet.signals.len() - 1;
    match key.code {
        KeyCode::Down | KeyCode::Char('j') => sheet.at = (sheet.at + 1).min(last),
        KeyCode::Up | KeyCode::Char('k') => sheet.at = sheet.at.saturating_sub(1),
        KeyCode::PageDown => sheet.at = (sheet.at + 10).min(last),
        KeyCode::PageUp => sheet.at = sheet.at.saturating_sub(10),
        KeyCode::Home => sheet.at = 0,
        KeyCode::End => sheet.at = last,
        KeyCode::Enter => {
            let signal = sheet.signals[sheet.at].clone();
            let targets = std::mem::take(&mut sheet.targets);
            state.sheet = None;
            state.held_until = Some(now + HOLD);
            let who = match &targets[..] {
                [one] => one.label(),
                many => format!("{} processes", many.len()),
            };
            let waiting = if signal.ends { "; waiting for the end …" } else { "" };
            state.say(Severity::Fine, format!("{} sent to {who}{waiting}", signal.name), None);
            return vec![Effect::Signal(signal, targets)];
        }
        KeyCode::Esc | KeyCode::Char('q' | 'x') => state.sheet = None,
        _ => {}
    }
    vec![]
}

fn order_key(state: &mut State, key: &KeyEvent) {
    let Some(Sheet::Order(sheet)) = &mut state.sheet else { return };
    let last = sheet.matching().len().saturating_sub(1);
    match key.code {
        KeyCode::Down => sheet.at = (sheet.at + 1).min(last),
        KeyCode::Up => sheet.at = sheet.at.saturating_sub(1),
        KeyCode::PageDown => sheet.at = (sheet.at + 10).min(last),
        KeyCode::PageUp => sheet.at = sheet.at.saturating_sub(10),
        KeyCode::Enter => {
            let chosen = sheet.matching().get(sheet.at).copied();
            state.sheet = None;
            if let Some(metric) = chosen {
                state.order = Order::by(metric);
                state.rank_anew();
            }
        }
        KeyCode::Esc => state.sheet = None,
        _ => {
            sheet.typed.key(key);
            sheet.at = 0;
        }
    }
}

fn help_key(state: &mut State, key: &KeyEvent, action: Option<Action>) {
    let most = view::help_lines(state).len().saturating_sub(1);
    let Some(Sheet::Help(scroll)) = &mut state.sheet else { return };
    match (key.code, action) {
        (_, Some(Action::Down)) => *scroll = (*scroll + 1).min(most),
        (_, Some(Action::Up)) => *scroll = scroll.saturating_sub(1),
        (_, Some(Action::PageDown | Action::Freeze)) => *scroll = (*scroll + 10).min(most),
        (_, Some(Action::PageUp)) => *scroll = scroll.saturating_sub(10),
        (_, Some(Action::First)) => *scroll = 0,
        (_, Some(Action::Last)) => *scroll = most,
        (KeyCode::Enter, _) | (_, Some(Action::Back | Action::Help | Action::Quit)) => state.sheet = None,
        _ => {}
    }
}

fn narrow_key(state: &mut State, key: &KeyEvent) {
    let Some(narrowing) = &mut state.narrowing else { return };
    match key.code {
        KeyCode::Enter => state.narrowing = None,
        KeyCode::Esc => {
            state.narrow = narrowing.before.clone();
            state.narrowing = None;
            state.rank_anew();
        }
        _ => {
            if narrowing.line.key(key) {
                narrow_as_typed(state);
            }
        }
    }
}

fn narrow_as_typed(state: &mut State) {
    if let Some(narrowing) = &state.narrowing {
        state.narrow = Narrow::by_text(&narrowing.line.text());
        state.scroll = 0;
        state.rank_anew();
    }
}

fn freeze(state: &mut State, now: Instant) {
    match state.mode {
        Mode::Live => {
            state.cursor = if state.cursor.is_some() { None } else { state.shown() };
            state.refresh(now);
        }
        Mode::Replay { playing: true, .. } => state.mode = Mode::Replay { playing: false, due: None },
        Mode::Replay { playing: false, .. } => {
            if state.shown().is_some_and(|shown| shown + 1 >= state.timeline.end()) {
                state.cursor = Some(state.timeline.first());
                state.refresh(now);
            }
            plan_next(state, now);
        }
    }
}

fn pause(state: &mut State) {
    if let Mode::Replay { .. } = state.mode {
        state.mode = Mode::Replay { playing: false, due: None };
    }
}

fn go_to(state: &mut State, number: usize, now: Instant) {
    if state.timeline.is_empty() {
        return;
    }
    pause(state);
    state.cursor = Some(number.clamp(state.timeline.first(), state.timeline.end() - 1));
    state.refresh(now);
}

fn step_time(state: &mut State, steps: isize, now: Instant) {
    if let Some(shown) = state.shown() {
        go_to(state, shown.saturating_add_signed(steps), now);
    }
}

fn live(state: &mut State, now: Instant) {
    match state.mode {
        Mode::Live => {
            state.cursor = None;
            state.refresh(now);
        }
        Mode::Replay { .. } => {
            let text = "this is a recording: > goes to its end, space plays it";
            state.say(Severity::Notice, text.to_owned(), Some(now + MESSAGE));
        }
    }
}

fn record(state: &mut State, now: Instant) -> Vec<Effect> {
    if let Mode::Replay { .. } = state.mode {
        state.say(Severity::Notice, "this is a recording already".to_owned(), Some(now + MESSAGE));
        return vec![];
    }
    if state.recording.is_some() { vec![Effect::StopRecording] } else { vec![Effect::Record] }
}

fn interval(state: &mut State, longer: bool, now: Instant) -> Vec<Effect> {
    if matches!(state.mode, Mode::Replay { .. }) || state.tied.is_some() {
        let text = "the interval belongs to whoever records".to_owned();
        state.say(Severity::Notice, text, Some(now + MESSAGE));
        return vec![];
    }
    let steps = INTERVALS.map(Duration::from_millis);
    let next = if longer {
        steps.into_iter().find(|step| *step > state.every)
    } else {
        steps.into_iter().rev().find(|step| *step < state.every)
    };
    let Some(every) = next else { return vec![] };
    state.every = every;
    vec![Effect::Every(every)]
}

fn columns_of(state: &State) -> Columns {
    columns::fit(state.lane, state.order.metric, state.size.0)
}

fn mouse_moved(state: &mut State, mouse: MouseEvent, now: Instant) {
    let Some(layout) = state.layout() else { return };
    let at = Position::new(mouse.column, mouse.row);
    match mouse.kind {
        MouseEventKind::ScrollDown | MouseEventKind::ScrollUp => {
            let rows = if mouse.kind == MouseEventKind::ScrollDown { WHEEL } else { -WHEEL };
            scroll(state, rows, now);
        }
        MouseEventKind::Down(MouseButton::Left) if state.sheet.is_none() => {
            if layout.headings.contains(at) {
                order_by_heading(state, at.x);
            } else if layout.rows.contains(at) {
                let row = state.scroll + usize::from(at.y - layout.rows.y);
                if row < state.rows.len() {
                    select_row(state, row, now);
                }
            } else if let Some(place) = layout.lanes.iter().position(|lane| lane.contains(at)) {
                let strip = Rect::new(layout.strip_x, at.y, layout.strip_width, 1);
                if strip.contains(at) {
                    if let Some(number) = view::sample_at_column(state, &layout, at.x) {
                        go_to(state, number, now);
                    }
                } else {
                    choose_lane(state, Some(Lane::ALL[place]));
                }
            } else if layout.top.contains(at) {
                choose_lane(state, None);
            }
        }
        _ => {}
    }
}

fn scroll(state: &mut State, rows: isize, now: Instant) {
    let height = state.layout().map_or(1, |layout| usize::from(layout.rows.height));
    let last_of_help = view::help_lines(state).len().saturating_sub(1);
    match &mut state.sheet {
        Some(Sheet::Help(lines)) => *lines = lines.saturating_add_signed(rows).min(last_of_help),
        Some(Sheet::Act(sheet)) => {
            sheet.at = sheet.at.saturating_add_signed(rows.signum()).min(sheet.signals.len() - 1);
        }
        Some(Sheet::Order(sheet)) => {
            let last = sheet.matching().len().saturating_sub(1);
            sheet.at = sheet.at.saturating_add_signed(rows.signum()).min(last);
        }
        None => {
            let most = state.rows.len().saturating_sub(height);
            state.scroll = state.scroll.saturating_add_signed(rows).min(most);
            state.held_until = Some(now + HOLD);
        }
    }
}

fn order_by_heading(state: &mut State, x: u16) {
    let columns = columns_of(state);
    let hit = columns.list.iter().find(|column| x + 1 >= column.x && x < column.x + column.width);
    let Some(column) = hit else { return };
    state.order =
        if state.order.metric == column.metric { state.order.reversed() } else { Order::by(column.metric) };
    state.rank_anew();
}
