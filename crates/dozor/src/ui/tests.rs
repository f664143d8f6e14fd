//! The screen without a terminal: literal screens of the simulated night, and what keys and mouse do to them.

use super::action::ACTIONS;
use super::frugal::Frugal;
use super::sheet::Sheet;
use super::state::{Mode, SignKind, State};
use super::theme::{Depth, Theme};
use super::update::{Effect, Event, next_tick, update};
use super::view;
use crate::hands::Outcome;
use dozor_core::demo::{PRELUDE, SimulatedMachine, Site};
use dozor_core::known::Raw;
use dozor_core::lane::Lane;
use dozor_core::parts::PartId;
use dozor_core::reading::{HostFacts, ProcessRow, Reading};
use dozor_core::row::Row as _;
use dozor_core::timeline::Timeline;
use dozor_core::wanted::Part;
use ratatui::backend::TestBackend;
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use ratatui::{Terminal, TerminalOptions, Viewport};
use std::cell::{Cell, RefCell};
use std::collections::HashSet;
use std::rc::Rc;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// The simulated machine on a screen of a given size, with a clock of its own.
struct Desk {
    machine: SimulatedMachine,
    state: State,
    begin: Instant,
    seconds: u64,
}

impl Desk {
    /// Begins so many seconds into the story, with the minute before in the timeline.
    fn at(seconds: u64, size: (u16, u16)) -> Desk {
        Desk::of(SimulatedMachine::new(1), seconds, size)
    }

    /// The same on another machine.
    fn of(machine: SimulatedMachine, seconds: u64, size: (u16, u16)) -> Desk {
        let timeline = Timeline::live(Arc::new(machine.host()));
        let theme = Theme::new(Depth::Mono, false);
        let state = State::new(timeline, theme, Duration::from_secs(1), size);
        let begin = PRELUDE as u64 + seconds - 60;
        let mut desk = Desk { machine, state, begin: Instant::now(), seconds: begin };
        desk.run(61);
        desk
    }

    fn now(&self) -> Instant {
        self.begin + Duration::from_secs(self.seconds)
    }

    /// Lets so many readings come, one a second.
    fn run(&mut self, readings: u64) {
        for _ in 0..readings {
            self.machine.advance_to(Duration::from_secs(self.seconds));
            let reading = Arc::new(self.machine.reading());
            self.event(Event::Reading(reading));
            self.event(Event::Tick);
            self.seconds += 1;
        }
    }

    fn event(&mut self, event: Event) -> Vec<Effect> {
        let now = self.now();
        update(&mut self.state, event, now)
    }

    /// Presses keys, separated by blanks; `:text` types text.
    fn press(&mut self, keys: &str) -> Vec<Effect> {
        let mut effects = vec![];
        for key in keys.split(' ') {
            let codes: Vec<KeyCode> = match key {
                "enter" => vec![KeyCode::Enter],
                "esc" => vec![KeyCode::Esc],
                "down" => vec![KeyCode::Down],
                "up" => vec![KeyCode::Up],
                "tab" => vec![KeyCode::Tab],
                "home" => vec![KeyCode::Home],
                "end" => vec![KeyCode::End],
                "left" => vec![KeyCode::Left],
                "right" => vec![KeyCode::Right],
                "insert" => vec![KeyCode::Insert],
                "pageup" => vec![KeyCode::PageUp],
                "pagedown" => vec![KeyCode::PageDown],
                "backtab" => vec![KeyCode::BackTab],
                "f1" => vec![KeyCode::F(1)],
                "shift-up" | "shift-down" => vec![],
                "space" => vec![KeyCode::Char(' ')],
                "backspace" => vec![KeyCode::Backspace],
                text => text.trim_start_matches(':').chars().map(KeyCode::Char).collect(),
            };
            for code in codes {
                effects.extend(self.event(Event::Key(KeyEvent::new(code, KeyModifiers::NONE))));
            }
        }
        effects
    }

    fn mouse(&mut self, kind: MouseEventKind, column: u16, row: u16) {
        self.event(Event::Mouse(MouseEvent { kind, column, row, modifiers: KeyModifiers::NONE }));
    }

    fn click(&mut self, column: u16, row: u16) {
        self.mouse(MouseEventKind::Down(MouseButton::Left), column, row);
    }

    /// The lines that one would see, without blanks at their ends.
    fn lines(&self) -> Vec<String> {
        let mut terminal =
            Terminal::new(TestBackend::new(self.state.size.0, self.state.size.1)).expect("a screen");
        let now = self.now();
        terminal.draw(|frame| view::draw(&self.state, frame, now)).expect("a frame");
        let text = terminal.backend().to_string();
        text.lines().map(|line| line.trim_matches('"').trim_end().to_owned()).collect()
    }

    fn screen(&self) -> String {
        self.lines().join("\n")
    }

    fn process(&self, row: usize) -> &ProcessRow {
        self.state.everybody().expect("a sample").view(self.state.rows[row]).now
    }

    fn order_of(&self, rows: usize) -> Vec<String> {
        (0..rows).map(|row| self.process(row).name.to_string()).collect()
    }

    fn selected_name(&self) -> String {
        let row = self.state.row_of_selected().expect("a selected row");
        self.process(row).name.to_string()
    }
}

#[test]
fn the_screen_at_80_by_24() {
    let mut desk = Desk::at(50, (80, 24));
    desk.press("3");
    insta::assert_snapshot!(desk.screen());
}

#[test]
fn the_overview_at_160_by_48() {
    insta::assert_snapshot!(Desk::at(50, (160, 48)).screen());
}

#[test]
fn the_sheet_of_signals_names_its_targets() {
    let mut desk = Desk::at(50, (80, 24));
    desk.press("/ :nightqueue enter m esc / :stacker enter m x down");
    insta::assert_snapshot!(desk.screen());
}

#[test]
fn a_terminal_that_is_too_small_says_what_it_needs() {
    let desk = Desk::at(10, (60, 12));
    assert_eq!(desk.lines()[..2], ["Dozor needs 72 × 16 cells;", "this terminal has 60 × 12."]);
    for (width, height) in [(1, 1), (2, 30), (300, 3)] {
        let mut desk = Desk::at(10, (80, 24));
        desk.event(Event::Resize(width, height));
        desk.press("x enter ? down esc / :a enter");
        desk.lines();
    }
}

#[test]
fn every_size_and_every_sheet_can_be_drawn() {
    let mut desk = Desk::at(50, (80, 24));
    for keys in ["esc", "esc m m x", "esc o :disk", "esc ?", "esc / :zzz"] {
        desk.press(keys);
        for width in (72..230).step_by(13) {
            for height in (16..70).step_by(9) {
                desk.event(Event::Resize(width, height));
                assert_eq!(desk.lines().len(), usize::from(height));
            }
        }
    }
}

#[test]
fn a_lane_orders_by_what_its_users_use() {
    let mut desk = Desk::at(50, (120, 40));
    assert_eq!(desk.order_of(2), ["platesolve", "skycam-ingest"], "what is gone has its place as well");
    desk.press("3");
    assert_eq!((&*desk.process(0).name, desk.state.lane), ("stacker", Some(Lane::Disk)));
    desk.press("O");
    assert_ne!(&*desk.process(0).name, "stacker");
    desk.press("o :virtual enter");
    assert_eq!(desk.state.order.metric.alias, "virtual");
    assert_eq!(&*desk.process(0).name, "stacker");
    desk.press("tab");
    assert_eq!(desk.state.lane, Some(Lane::Network));
    desk.press("0");
    assert_eq!((desk.state.lane, desk.state.order.metric.alias), (None, "cpu"));
}

#[test]
fn narrowing_shows_as_one_types_and_can_be_undone() {
    let mut desk = Desk::at(50, (120, 40));
    desk.press("/ :stack");
    assert_eq!(desk.state.rows.len(), 1);
    desk.press("enter");
    assert!(desk.state.prompt.is_none());
    assert!(desk.screen().contains("1 of 20") && desk.screen().contains("narrowed: stack"));
    desk.press("/ :xyz");
    assert!(desk.screen().contains("no process contains 'stackxyz'"));
    desk.press("esc");
    assert_eq!(desk.state.narrow.text(), "stack", "esc goes back to what was narrowed before");
    desk.press("esc");
    assert!(desk.state.narrow.is_empty());
    desk.press("/");
    desk.event(Event::Paste("dome\ncam\x1b".to_owned()));
    assert_eq!(desk.state.narrow.text(), "domecam");
}

#[test]
fn the_selection_follows_its_process_and_the_order_holds_while_choosing() {
    let mut desk = Desk::at(20, (120, 40));
    desk.press("3 down down");
    let name = desk.selected_name();
    let order: Vec<i64> = (0..6).map(|row| desk.process(row).pid.value().expect("a PID")).collect();
    assert!(desk.screen().contains("order held"));
    // The story begins: another process takes the first place, but not under the hand.
    desk.press("up");
    let held_name = desk.selected_name();
    desk.run(2);
    assert_eq!((0..6).map(|row| desk.process(row).pid.value().expect("a PID")).collect::<Vec<_>>(), order);
    assert_eq!(desk.selected_name(), held_name);
    desk.run(12);
    assert!(!desk.screen().contains("order held"));
    assert_eq!(&*desk.process(0).name, "stacker", "after a while the order is current again");
    assert_eq!(desk.selected_name(), held_name, "the selection went with its process");
    assert!(name.starts_with("skycam") || held_name.starts_with("skycam"));
}

#[test]
fn the_wheel_does_not_change_what_is_selected() {
    let mut desk = Desk::at(50, (120, 24));
    desk.press("down");
    let (selected, row) = (desk.state.selected, desk.state.layout().expect("a layout").rows.y);
    for _ in 0..10 {
        desk.mouse(MouseEventKind::ScrollDown, 5, row + 2);
    }
    assert_eq!(desk.state.scroll, 30);
    let first = desk.process(30).key();
    desk.run(2);
    assert_eq!((desk.state.selected, desk.process(desk.state.scroll).key()), (selected, first));
    for _ in 0..200 {
        desk.mouse(MouseEventKind::ScrollDown, 5, row + 2);
    }
    let height = usize::from(desk.state.layout().expect("a layout").rows.height);
    assert_eq!(desk.state.scroll, desk.state.rows.len() - height, "the last row is the end");
}

#[test]
fn the_mouse_orders_selects_and_goes_back_in_time() {
    let mut desk = Desk::at(50, (120, 40));
    let layout = desk.state.layout().expect("a layout");
    let lines = desk.lines();
    let heading = &lines[usize::from(layout.headings.y)];
    let column =
        heading.chars().collect::<Vec<_>>().windows(3).position(|w| w == ['r', 's', 's']).expect("rss")
            as u16;
    desk.click(column, layout.headings.y);
    assert_eq!((desk.state.order.metric.alias, desk.state.order.descending), ("rss", true));
    desk.click(column, layout.headings.y);
    assert!(!desk.state.order.descending);
    desk.click(40, layout.rows.y + 3);
    assert_eq!(desk.state.row_of_selected(), Some(3));
    desk.click(5, layout.lanes[1].1.y);
    assert_eq!(desk.state.lane, Some(Lane::Memory));
    desk.click(layout.strip_x + layout.strip_width - 20, layout.lanes[0].1.y);
    let gone_back = desk.state.cursor.expect("frozen");
    let back = desk.state.timeline.end() - gone_back;
    // Between two moves of the paper there is room for the newest at the right edge.
    assert!((10..22).contains(&back), "{back}");
    assert!(desk.screen().contains("FROZEN"));
}

#[test]
fn freezing_and_stepping_show_what_was() {
    let mut desk = Desk::at(20, (120, 40));
    desk.press("3");
    let quiet = desk.screen();
    assert!(!quiet.contains("stacker[3820] writes"));
    desk.run(30);
    assert!(desk.screen().contains("stacker[3820] writes"), "{}", desk.screen());
    desk.press("{ { {");
    assert!(desk.screen().contains("FROZEN") && !desk.screen().contains("stacker[3820] writes"));
    let shown = desk.state.shown();
    desk.run(3);
    assert_eq!(desk.state.shown(), shown, "a frozen moment stays while readings go on");
    desk.press("] [");
    assert_eq!(desk.state.shown(), shown);
    desk.press("<");
    assert_eq!(desk.state.shown(), Some(0));
    desk.press("L");
    assert!(desk.screen().contains("LIVE"));
    assert_eq!(desk.state.shown(), Some(desk.state.timeline.end() - 1));
    desk.press("space");
    assert!(desk.screen().contains("FROZEN"));
    desk.press("space");
    assert!(desk.screen().contains("LIVE"));
}

#[test]
fn a_signal_goes_to_the_selected_or_the_marked_and_its_outcome_is_said() {
    let mut desk = Desk::at(50, (120, 40));
    desk.press("3 home");
    let Some(Effect::Signal(signal, targets)) = desk.press("x enter").pop() else { panic!("a signal") };
    assert_eq!((signal.number, targets.len(), targets[0].label()), (15, 1, "stacker[3820]".to_owned()));
    assert!(desk.screen().contains("TERM sent to stacker[3820]; waiting for the end"));
    desk.event(Event::Acted(signal, targets, vec![Outcome::GoneAfter(Duration::from_millis(420))]));
    assert!(desk.screen().contains("stacker[3820]: gone 0.4 s after TERM"));
    desk.press("esc m m x down");
    let Some(Effect::Signal(signal, targets)) = desk.press("enter").pop() else { panic!("a signal") };
    assert_eq!((&*signal.name, targets.len()), ("KILL", 2));
    assert_eq!(desk.press("x esc"), []);
    assert!(desk.state.sheet.is_none());
}

#[test]
fn what_cannot_be_seen_is_not_acted_on() {
    let mut desk = Desk::at(50, (120, 40));
    desk.press("/ :archived enter home esc / :stacker enter");
    let Some(Effect::Signal(_, targets)) = desk.press("x enter").pop() else { panic!("a signal") };
    assert_eq!(targets[0].label(), "stacker[3820]", "the narrowed-out selection is not the target");
    desk.press("esc esc esc x");
    assert!(desk.state.sheet.is_none(), "rows move: the first x only selects");
    assert!(desk.screen().contains("x again acts on it"));
    desk.press("x");
    assert!(matches!(desk.state.sheet, Some(Sheet::Act(_))));
    desk.press("esc");
    let key = desk.state.selected.expect("selected");
    desk.machine.signal(key, 9).expect("it ends");
    desk.run(2);
    assert_eq!(desk.press("x enter"), [], "the neighbour of a process that ended is not the target");
    assert!(desk.screen().contains("no process any more"));
}

#[test]
fn nothing_can_be_done_to_the_processes_of_a_recording() {
    let mut desk = Desk::at(50, (120, 40));
    desk.state.tied = Some("this is a recording");
    assert_eq!(desk.press("home x"), []);
    assert!(desk.state.sheet.is_none() && desk.screen().contains("this is a recording"));
    assert_eq!(desk.press("+"), []);
}

#[test]
fn a_replay_plays_at_its_own_pace_and_stops_at_the_end() {
    let mut desk = Desk::at(50, (120, 40));
    desk.state.mode = Mode::Replay { playing: false, due: None };
    desk.press("<");
    assert!(desk.screen().contains("REPLAY PAUSED"));
    desk.press("space");
    for expected in [0, 1, 2] {
        assert_eq!(desk.state.shown(), Some(expected));
        assert!(next_tick(&desk.state).is_some_and(|tick| tick > desk.now()));
        desk.seconds += 1;
        desk.event(Event::Tick);
    }
    desk.press("> space");
    assert_eq!(desk.state.shown(), Some(0), "playing at the end begins anew");
    desk.press(">");
    desk.press("[ space");
    desk.seconds += 1;
    desk.event(Event::Tick);
    desk.seconds += 1;
    desk.event(Event::Tick);
    assert_eq!(desk.state.mode, Mode::Replay { playing: false, due: None });
    assert_eq!(desk.press("r"), [], "a recording is not recorded again");
}

#[test]
fn the_interval_and_the_recording_are_asked_for() {
    let mut desk = Desk::at(50, (120, 40));
    assert_eq!(desk.press("+"), [Effect::Every(Duration::from_secs(2))]);
    assert_eq!(desk.press("- -"), [1000, 500].map(|ms| Effect::Every(Duration::from_millis(ms))));
    assert_eq!(desk.press("r"), [Effect::Record]);
    desk.event(Event::RecordingBegan(Ok("lynx.dozor".into())));
    desk.run(1);
    assert!(desk.screen().contains("● rec 00:00:01"));
    assert_eq!(desk.press("r"), [Effect::StopRecording]);
    desk.event(Event::RecordingEnded(Err("the disk is full".to_owned())));
    assert!(desk.screen().contains("◆ the disk is full") && !desk.screen().contains("● rec"));
}

#[test]
fn hostile_names_reach_the_screen_as_plain_text() {
    let host = Arc::new(HostFacts { name: "lynx-obs".to_owned(), cores: 8, ..HostFacts::default() });
    let mut state =
        State::new(Timeline::live(host), Theme::new(Depth::Mono, false), Duration::from_secs(1), (130, 24));
    let name = dozor_core::text::clean(b"a\x1b[31m\nb\xff\xe2\x80\xae");
    let row = ProcessRow {
        pid: 7.into(),
        start_ticks: 1.into(),
        name: name.as_str().into(),
        command: name.as_str().into(),
        ..ProcessRow::default()
    };
    let reading = Reading { processes: vec![Arc::new(row)], ..Reading::default() };
    let now = Instant::now();
    update(&mut state, Event::Reading(Arc::new(reading)), now);
    let mut terminal = Terminal::new(TestBackend::new(130, 24)).expect("a screen");
    terminal.draw(|frame| view::draw(&state, frame, now)).expect("a frame");
    let screen = terminal.backend().to_string();
    assert!(screen.contains("a\\x1b[31m\\nb\\xff\\u{202e}"), "{screen}");
    assert!(!screen.contains('\x1b') && !screen.contains('\u{202e}'));
    assert!(screen.contains('–'), "what is unknown is no zero");
}

#[test]
fn unknown_forbidden_and_zero_look_different() {
    let host = Arc::new(HostFacts { cores: 8, ticks_per_second: 100, ..HostFacts::default() });
    let theme = Theme::new(Depth::Mono, false);
    let mut state = State::new(Timeline::live(host), theme, Duration::from_secs(1), (140, 24));
    let now = Instant::now();
    for second in 1..3i64 {
        let mut reading = Reading::default();
        reading.system.monotonic_ns = (second * 1_000_000_000).into();
        reading.system.boot_ns = reading.system.monotonic_ns;
        reading.system.wall_ns = reading.system.monotonic_ns;
        reading.processes = vec![Arc::new(ProcessRow {
            pid: 7.into(),
            start_ticks: 1.into(),
            read_bytes: Raw::DENIED,
            write_bytes: 0.into(),
            ..ProcessRow::default()
        })];
        update(&mut state, Event::Reading(Arc::new(reading)), now);
    }
    update(&mut state, Event::Key(KeyEvent::new(KeyCode::Char('3'), KeyModifiers::NONE)), now);
    let mut terminal = Terminal::new(TestBackend::new(140, 24)).expect("a screen");
    terminal.draw(|frame| view::draw(&state, frame, now)).expect("a frame");
    let screen = terminal.backend().to_string();
    let row = screen.lines().find(|line| line.contains("    7  ")).expect("the row");
    let cells: Vec<&str> = row.trim_matches('"').split_whitespace().collect();
    // PID, user, state; reading and writing together, writing, reading, waiting.
    assert_eq!(cells[..8], ["+", "7", "–", "–", "×", "0", "×", "–"], "{row}");
}

#[test]
fn the_help_page_shows_every_action() {
    let mut desk = Desk::at(10, (140, 70));
    desk.press("?");
    assert!(matches!(desk.state.sheet, Some(Sheet::Help(0))));
    let screen = desk.screen();
    for entry in ACTIONS {
        assert!(screen.contains(entry.name), "{} is missing", entry.name);
    }
    desk.press("q");
    assert!(desk.state.sheet.is_none(), "q closes the help and does not leave");
}

/// Whatever somebody presses and clicks, whatever the size: no panic, the selection and the rows stay sound.
#[test]
fn random_keys_clicks_and_sizes_do_no_harm() {
    let special = ["enter", "backspace", ":a", ":sky", "left", "right"];
    let of_table = ACTIONS.iter().flat_map(|entry| entry.keys).filter(|key| !key.starts_with("ctrl-"));
    let keys: Vec<&str> = of_table.copied().chain(special).collect();
    let mut random = 88_172_645_463_325_252_u64;
    let mut next = |below: usize| {
        random ^= random << 13;
        random ^= random >> 7;
        random ^= random << 17;
        (random % below as u64) as usize
    };
    let mut desk = Desk::at(40, (120, 40));
    for step in 0..3000 {
        match next(20) {
            0 => desk.run(1),
            1 | 2 => {
                let kinds = [
                    MouseEventKind::ScrollDown,
                    MouseEventKind::ScrollUp,
                    MouseEventKind::Down(MouseButton::Left),
                    MouseEventKind::Down(MouseButton::Right),
                    MouseEventKind::Drag(MouseButton::Left),
                    MouseEventKind::Up(MouseButton::Left),
                ];
                desk.mouse(kinds[next(kinds.len())], next(130) as u16, next(45) as u16);
            }
            3 if step % 3 == 0 => {
                desk.event(Event::Resize(next(200) as u16, next(70) as u16));
            }
            4 => {
                if let Some(key) = desk.state.key_of_row(next(10)) {
                    let _ = desk.machine.signal(key, 9);
                }
            }
            _ => {
                desk.press(keys[next(keys.len())]);
            }
        }
        if step % 5 == 0 {
            desk.lines();
        }
        let everybody = desk.state.everybody().expect("a sample");
        let keys: HashSet<_> = desk.state.rows.iter().map(|row| everybody.view(*row).now.key()).collect();
        assert_eq!(keys.len(), desk.state.rows.len(), "no process stands twice");
        assert!(desk.state.scroll <= desk.state.rows.len());
        let sections = desk.state.parts.sections.len();
        assert!(desk.state.parts.current < sections.max(1), "a table that is there");
    }
}

#[test]
fn a_gap_is_drawn_as_one_on_the_lanes() {
    let mut desk = Desk::at(0, (120, 40));
    // The clock is set forward by twenty seconds: the columns between stay empty, nothing is bridged.
    desk.machine.advance_to(Duration::from_secs(desk.seconds));
    let shift = |reading: &Reading, seconds: i64| {
        let mut moved = reading.clone();
        moved.system.wall_ns = (moved.wall_ns() + seconds * 1_000_000_000).into();
        Arc::new(moved)
    };
    let reading = desk.machine.reading();
    desk.event(Event::Reading(shift(&reading, 20)));
    assert!(
        desk.screen().contains("the clock was set forward by 20 s; no rates over that"),
        "{}",
        desk.screen()
    );
    assert!(desk.screen().contains("user –"), "rates over the change are unknown");
    for _ in 0..5 {
        desk.seconds += 1;
        desk.machine.advance_to(Duration::from_secs(desk.seconds));
        let reading = desk.machine.reading();
        desk.event(Event::Reading(shift(&reading, 20)));
    }
    let layout = desk.state.layout().expect("a layout");
    let lines = desk.lines();
    let lane: Vec<char> = lines[usize::from(layout.lanes[0].1.bottom()) - 1].chars().collect();
    let strip = &lane[usize::from(layout.strip_x)..usize::from(layout.strip_x + layout.strip_width)];
    let gap: Vec<usize> = (0..strip.len()).filter(|at| strip[*at] == '┄').collect();
    assert!((20..=22).contains(&gap.len()), "{gap:?}: {strip:?}");
    assert_eq!(gap.last().map(|last| last - gap[0]), Some(gap.len() - 1), "in one piece");
    assert_eq!(strip[gap[0] - 1], '█', "what was before the gap is still there");
    assert_ne!(strip[gap[gap.len() - 1] + 1], ' ', "and what came after it");
}

/// What was written, for a terminal that is none.
#[derive(Clone, Default)]
struct Written(Rc<RefCell<Vec<u8>>>);

impl std::io::Write for Written {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.0.borrow_mut().extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

/// Draws a frame after each of some steps as on a terminal; gives the bytes of each, and checks that a terminal which
/// gets them shows what was drawn.
fn bytes_of_frames(desk: &mut Desk, frames: usize, step: impl Fn(&mut Desk)) -> Vec<usize> {
    let (width, height) = desk.state.size;
    let out = Written::default();
    let viewport = Viewport::Fixed(ratatui::layout::Rect::new(0, 0, width, height));
    let mut terminal =
        Terminal::with_options(Frugal::new(out.clone()), TerminalOptions { viewport }).expect("a screen");
    let mut parser = vt100::Parser::new(height, width, 0);
    let mut bytes = vec![];
    for _ in 0..frames {
        step(desk);
        let now = desk.now();
        terminal.draw(|frame| view::draw(&desk.state, frame, now)).expect("a frame");
        let written = std::mem::take(&mut *out.0.borrow_mut());
        parser.process(&written);
        bytes.push(written.len());
        let shown: Vec<String> =
            parser.screen().rows(0, width).map(|line| line.trim_end().to_owned()).collect();
        assert_eq!(shown, desk.lines(), "the terminal shows what was drawn");
    }
    bytes
}

/// Raw numbers side by side.
trait IntoRaws {
    fn into_raws(self) -> (Raw, Raw, Raw);
}

impl IntoRaws for (i64, i64, i64) {
    fn into_raws(self) -> (Raw, Raw, Raw) {
        (self.0.into(), self.1.into(), self.2.into())
    }
}

/// An idle machine: 300 processes sleep, five of them do a little, the clock goes on.
fn idle_reading(second: i64) -> Reading {
    let ns = |seconds: i64| dozor_core::reading::raw(seconds * 1_000_000_000);
    let mut reading = Reading::default();
    let up = 900_000 + second;
    let system = &mut reading.system;
    (system.wall_ns, system.monotonic_ns, system.boot_ns) = (ns(1_928_800_000 + second), ns(up), ns(up));
    (system.user, system.system, system.idle) =
        (4_000 + second * 2, 900 + second, 100_000 + second * 797).into_raws();
    (system.nice, system.iowait, system.irq) = (0, 40, 0).into_raws();
    (system.softirq, system.steal, system.running) = (3, 0, 1).into_raws();
    (system.mem_total, system.mem_available, system.mem_free) = (32 << 30, 24 << 30, 3 << 30).into_raws();
    reading.processes = (1..=300)
        .map(|pid| {
            let busy = if pid % 60 == 0 { second / (1 + pid / 100) + second / 7 } else { 0 };
            Arc::new(ProcessRow {
                pid: pid.into(),
                start_ticks: pid.into(),
                name: format!("daemon{pid}").as_str().into(),
                command: format!("/usr/sbin/daemon{pid} --serve").as_str().into(),
                user: "root".into(),
                state: i64::from(b'S').into(),
                user_ticks: (busy * 2).into(),
                system_ticks: busy.into(),
                rss_bytes: (pid << 18).into(),
                ..ProcessRow::default()
            })
        })
        .collect();
    reading
}

#[test]
fn a_quiet_frame_takes_few_bytes_and_shows_what_was_drawn() {
    let mut desk = Desk::at(5, (160, 48));
    desk.state.theme = Theme::new(Depth::True, false);
    let host = Arc::new(HostFacts { cores: 8, ticks_per_second: 100, ..HostFacts::default() });
    desk.state.timeline = Timeline::live(host);
    let second = Cell::new(0);
    let bytes = bytes_of_frames(&mut desk, 60, |desk| {
        second.set(second.get() + 1);
        desk.event(Event::Reading(Arc::new(idle_reading(second.get()))));
    });
    let mut frames = bytes[5..].to_vec();
    frames.sort_unstable();
    let median = frames[frames.len() / 2];
    assert!(median <= 2048, "{median} bytes for a quiet frame: {bytes:?}");
    // When the paper moves on, the strips are drawn anew.
    assert!(frames[frames.len() - 1] <= 8 * 1024, "{bytes:?}");
}

#[test]
fn a_busy_screen_of_any_size_and_theme_reaches_the_terminal_whole() {
    for (size, theme, keys) in [
        ((80, 24), Theme::new(Depth::Indexed, true), "3 p down"),
        ((160, 48), Theme::new(Depth::Sixteen, false), "1 p p down"),
        ((120, 40), Theme::new(Depth::Mono, false), "2 m m ?"),
    ] {
        let mut desk = Desk::at(100, size);
        desk.state.theme = theme;
        desk.press(keys);
        bytes_of_frames(&mut desk, 12, |desk| desk.run(1));
    }
}

#[test]
fn every_lane_shows_its_parts_and_users() {
    for (name, seconds, keys) in [
        ("cpu", 140, "1"),
        ("memory", 246, "2"),
        ("disk", 60, "3"),
        ("network", 310, "4"),
        ("heat", 150, "5"),
    ] {
        let mut desk = Desk::at(seconds, (160, 48));
        desk.press(keys);
        insta::assert_snapshot!(format!("lane_{name}"), desk.screen());
    }
}

#[test]
fn a_hundred_and_twenty_eight_cores_are_a_map_with_the_hot_one_told() {
    for (name, size) in [("large", (160, 48)), ("small", (80, 24))] {
        let mut desk = Desk::of(SimulatedMachine::at(Site::Server, 1), 140, size);
        desk.press("1");
        insta::assert_snapshot!(format!("map_of_cores_{name}"), desk.screen());
        desk.press("p down");
        assert_eq!(desk.state.parts.selected, Some(PartId::Core(0)));
        desk.press("right right left");
        assert_eq!(desk.state.parts.selected, Some(PartId::Core(1)));
        desk.press("down");
        let line = desk.state.parts.selected_row().expect("a core") - 1;
        assert!(line > 7, "down goes to the next line of the map, {line} cores on");
        assert!(desk.screen().contains(&format!("last on core {}", line + 1)));
        desk.press("end");
        assert_eq!(desk.state.parts.selected, Some(PartId::Core(127)));
        let layout = desk.state.layout().expect("a layout");
        let placed = desk.state.parts.placed(layout.parts.expect("its parts"))[0];
        let seen = placed.first..placed.first + usize::from(placed.rows.height) * line;
        assert!(seen.contains(&127), "the chosen core is seen: {seen:?}");
    }
}

#[test]
fn a_part_narrows_to_its_users_and_gives_them_back() {
    let mut desk = Desk::at(60, (160, 48));
    let all = {
        desk.press("3");
        desk.state.rows.len()
    };
    desk.press("p p down down");
    assert_eq!(desk.state.parts.selected, Some(PartId::Mount("/archive".into())));
    assert!(desk.screen().contains("with files on /archive · 2 of 203"), "{}", desk.screen());
    desk.press("enter down");
    assert!(desk.state.selected.is_some(), "the arrows are the processes' again");
    assert_eq!(desk.state.rows.len(), 2);
    desk.press("esc");
    assert_eq!(desk.state.rows.len(), all, "esc gives all back");
    desk.press("p down");
    assert_eq!(desk.state.parts.selected, Some(PartId::Mount("/".into())), "p goes on where one was");
    desk.press("P down");
    assert!(matches!(&desk.state.parts.selected, Some(PartId::Device(name)) if &**name == "nvme0n1"));
    desk.press("4");
    assert_eq!(desk.state.parts.selected, None, "another lane has other parts");
    desk.press("p down");
    assert!(desk.screen().contains("all: the kernel does not say which process uses which interface"));
    assert!(desk.state.rows.len() > 200);
}

#[test]
fn a_sign_of_shortage_orders_by_what_it_is_about_unless_somebody_chose_an_order() {
    let mut desk = Desk::at(246, (160, 48));
    desk.press("2 p p down down");
    assert_eq!(desk.state.order.metric.alias, "swap");
    desk.press("esc");
    assert_eq!(desk.state.order.metric.alias, "rss");
    desk.press("o :cpu_time enter p p down down");
    assert_eq!(desk.state.order.metric.alias, "cpu_time", "a chosen order stays");
}

#[test]
fn what_must_be_collected_follows_what_is_looked_at() {
    let mut desk = Desk::at(20, (160, 48));
    let has = |desk: &Desk, part| desk.state.wanted().has(part);
    assert!(has(&desk, Part::Ended) && has(&desk, Part::Filesystems) && has(&desk, Part::Sockets));
    assert!(!has(&desk, Part::Interrupts) && !has(&desk, Part::Mounts));
    desk.press("1");
    assert!(has(&desk, Part::Interrupts) && !has(&desk, Part::Sockets));
    desk.press("3 p p down");
    assert!(has(&desk, Part::Mounts), "who has files on a mount is asked only while somebody wants to know");
    desk.press("esc");
    assert!(!has(&desk, Part::Mounts));
}

#[test]
fn lanes_fold_hide_and_change_places() {
    let mut desk = Desk::at(50, (160, 48));
    let height = |desk: &Desk| desk.state.layout().expect("a layout").rows.height;
    let before = height(&desk);
    desk.press("f");
    assert_eq!(height(&desk), before + 5, "folded lanes make room for rows");
    desk.press("f 3 K K h");
    let order = |desk: &Desk| -> Vec<Lane> {
        desk.state.layout().expect("a layout").lanes.iter().map(|(lane, _)| *lane).collect()
    };
    assert_eq!(order(&desk), [Lane::Cpu, Lane::Memory, Lane::Network, Lane::Heat]);
    assert_eq!(desk.state.lane, None);
    desk.press("3");
    assert_eq!(order(&desk)[0], Lane::Disk, "its number brings it to the place it had");
    desk.press("0 H");
    assert_eq!(order(&desk), Lane::ALL);
    let lanes = desk.state.layout().expect("a layout").lanes;
    desk.mouse(MouseEventKind::Down(MouseButton::Right), 5, lanes[1].1.y);
    assert!(desk.state.lanes.is_folded(Lane::Memory));
}

#[test]
fn the_strips_show_more_time_and_say_what_a_column_is() {
    let mut desk = Desk::at(100, (120, 40));
    assert!(desk.screen().contains("peak of 1 s"));
    desk.press("z z");
    assert!(desk.screen().contains("peak of 5 s"), "{}", desk.screen());
    desk.press("^");
    assert!(desk.screen().contains("mean of 5 s"));
    desk.press("Z Z Z ^");
    assert!(desk.screen().contains("peak of 1 s"));
    let layout = desk.state.layout().expect("a layout");
    desk.mouse(MouseEventKind::ScrollDown, layout.strip_x + 5, layout.lanes[0].1.y);
    assert!(desk.screen().contains("peak of 2 s"), "the wheel over the strips");
    let axis = desk.state.strips.axis.expect("an axis");
    desk.run(1);
    let next = desk.state.strips.axis.expect("an axis");
    assert!(next.end == axis.end || (next.end - axis.end) / axis.step >= 4, "the paper moves in jumps");
}

#[test]
fn bookmarks_and_actions_are_signs_that_one_can_go_to() {
    let mut desk = Desk::at(50, (120, 40));
    desk.press("b :disk enter");
    desk.press("3 home x enter");
    let kinds: Vec<SignKind> = desk.state.signs.iter().map(|sign| sign.kind).collect();
    assert_eq!(kinds, [SignKind::Bookmark, SignKind::Action]);
    desk.run(5);
    let screen = desk.screen();
    assert!(screen.contains('⚑') || screen.contains('✶'), "{screen}");
    desk.press("(");
    assert!(desk.screen().contains("done at") && desk.screen().contains("TERM sent to stacker[3820]"));
    desk.press("b esc");
    assert_eq!(desk.state.signs.len(), 2, "a note that was given up leaves no sign");
    desk.press("esc < (");
    assert!(desk.screen().contains("no sign before this moment"));
}

#[test]
fn new_gone_and_persistent_processes_are_marked() {
    let mut desk = Desk::at(50, (160, 48));
    let stacker = {
        desk.press("3 / :stacker enter");
        desk.process(0).key()
    };
    let row = |desk: &Desk, text: &str| {
        let found = desk.lines().into_iter().find(|line| line.contains(text));
        found.unwrap_or_else(|| panic!("{text} is not there"))
    };
    assert!(row(&desk, "stacker --night").contains(" 25 s "), "{}", row(&desk, "stacker --night"));
    desk.run(60);
    assert!(row(&desk, "stacker --night").contains(" 1:2"), "{}", row(&desk, "stacker --night"));
    desk.machine.signal(stacker, 9).expect("it ends");
    desk.run(1);
    let gone = row(&desk, "stacker --night");
    assert!(gone.contains(" gone "), "{gone}");
    desk.run(1);
    assert!(!desk.screen().contains("stacker --night"), "once");
    // The kernel ends the leak, and its service starts it anew.
    let mut desk = Desk::at(250, (160, 48));
    desk.press("2");
    for _ in 0..14 {
        desk.run(1);
        if desk.screen().contains("because memory ran out") {
            break;
        }
    }
    assert!(
        desk.screen().contains("the kernel ended 1 because memory ran out; skyboard-cache[1620] is gone.")
    );
    let new = row(&desk, "60001");
    assert!(new.starts_with(" +"), "{new}");
}

#[test]
fn the_scroll_bar_is_dragged_and_the_order_holds_meanwhile() {
    let mut desk = Desk::at(20, (120, 40));
    desk.press("3");
    let layout = desk.state.layout().expect("a layout");
    let bar = layout.scroll_bar();
    desk.click(bar.x, bar.y);
    assert!(desk.screen().contains("order held"));
    desk.mouse(MouseEventKind::Drag(MouseButton::Left), bar.x, bar.bottom() - 1);
    let last = desk.state.rows.len() - usize::from(layout.rows.height);
    assert_eq!(desk.state.scroll, last, "the lowest place of the bar is the end");
    let first = desk.process(desk.state.scroll).key();
    desk.run(2);
    assert_eq!(desk.process(desk.state.scroll).key(), first, "the rows stay under the pointer");
    desk.mouse(MouseEventKind::Drag(MouseButton::Left), bar.x, 0);
    assert_eq!(desk.state.scroll, 0);
    desk.mouse(MouseEventKind::Up(MouseButton::Left), bar.x, 0);
    assert_eq!(desk.state.drag, None);
    desk.run(6);
    assert!(!desk.screen().contains("order held"));
}

#[test]
fn a_high_cost_of_its_own_is_said() {
    let mut desk = Desk::at(20, (160, 48));
    desk.event(Event::OwnCost(7.2));
    desk.run(1);
    assert!(desk.screen().contains("Dozor itself uses 7 % of a core at this interval; + reads less often."));
    desk.event(Event::OwnCost(0.4));
    desk.run(1);
    assert!(desk.screen().contains("own 0.4 %") && !desk.screen().contains("Dozor itself"));
}

#[test]
fn taking_readings_by_hand_the_clipboard_and_the_mouse_are_asked_for() {
    let mut desk = Desk::at(50, (120, 40));
    assert_eq!(desk.press("i"), [Effect::ByHand(true)]);
    assert!(desk.screen().contains("by hand"));
    assert_eq!(desk.press(". i"), [Effect::ReadNow, Effect::ByHand(false)]);
    assert_eq!(desk.press("y"), [], "nothing is selected");
    assert_eq!(desk.press("3 home y"), [Effect::Copy("3820".to_owned())]);
    let copied = desk.press("m Y").pop();
    assert!(matches!(copied, Some(Effect::Copy(text)) if text.starts_with("/opt/lynx/bin/stacker --night")));
    assert_eq!(desk.press("S S"), [Effect::Mouse(false), Effect::Mouse(true)]);
    desk.state.mode = Mode::Replay { playing: false, due: None };
    assert_eq!(desk.press("i ."), [], "a recording has its own pace");
}

#[test]
fn looking_back_survives_that_old_moments_are_thinned() {
    let mut desk = Desk::at(20, (120, 40));
    // More than is kept as it came: the oldest hours become coarser while somebody looks at them.
    let host = Arc::new(HostFacts { cores: 8, ticks_per_second: 100, ..HostFacts::default() });
    desk.state.timeline = Timeline::live(host);
    desk.state.cursor = None;
    desk.state.sample = None;
    for second in 0..100 {
        desk.event(Event::Reading(Arc::new(idle_reading(second))));
    }
    desk.press("< } } } } ]");
    let looked_at = desk.state.sample.as_ref().expect("a sample").now.wall_ns();
    for second in 100..7_400 {
        desk.event(Event::Reading(Arc::new(idle_reading(second))));
    }
    let now = desk.state.sample.as_ref().expect("a sample").now.wall_ns();
    assert!((now - looked_at).abs() <= 8_000_000_000, "{looked_at} became {now}");
    assert!(desk.state.timeline.first() > 0, "something was thinned");
    assert!(desk.screen().contains("mean of 8 s"), "{}", desk.screen());
}
