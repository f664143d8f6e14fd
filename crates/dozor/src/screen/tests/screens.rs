//! Literal screens, and what must never be on one.

use super::Desk;
use crate::feed::Delivery;
use crate::look::action::ACTIONS;
use crate::look::theme::{Depth, Theme};
use crate::screen::{Event, Screen};
use crate::state::State;
use dozor_core::demo::Site;
use dozor_core::known::Raw;
use dozor_core::parts::PartId;
use dozor_core::reading::{HostFacts, ProcessRow, Reading};
use dozor_core::timeline::Timeline;
use ratatui::Terminal;
use ratatui::backend::TestBackend;
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use std::sync::Arc;
use std::time::{Duration, Instant};

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
fn hostile_names_reach_the_screen_as_plain_text() {
    let host = Arc::new(HostFacts { name: "lynx-obs".to_owned(), cores: 8, ..HostFacts::default() });
    let theme = Theme::new(Depth::Mono, false);
    let state = State::new(Timeline::live(host), theme, Duration::from_secs(1), (130, 24));
    let mut shown = Screen::new(state);
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
    shown.update(Event::Feed(Delivery::Reading(Arc::new(reading))), now);
    let mut terminal = Terminal::new(TestBackend::new(130, 24)).expect("a screen");
    terminal.draw(|frame| shown.draw(frame, now)).expect("a frame");
    let screen = terminal.backend().to_string();
    assert!(screen.contains("a\\x1b[31m\\nb\\xff\\u{202e}"), "{screen}");
    assert!(!screen.contains('\x1b') && !screen.contains('\u{202e}'));
    assert!(screen.contains('–'), "what is unknown is no zero");
}

#[test]
fn unknown_forbidden_and_zero_look_different() {
    let host = Arc::new(HostFacts { cores: 8, ticks_per_second: 100, ..HostFacts::default() });
    let theme = Theme::new(Depth::Mono, false);
    let state = State::new(Timeline::live(host), theme, Duration::from_secs(1), (140, 24));
    let mut shown = Screen::new(state);
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
        shown.update(Event::Feed(Delivery::Reading(Arc::new(reading))), now);
    }
    shown.update(Event::Key(KeyEvent::new(KeyCode::Char('3'), KeyModifiers::NONE)), now);
    let mut terminal = Terminal::new(TestBackend::new(140, 24)).expect("a screen");
    terminal.draw(|frame| shown.draw(frame, now)).expect("a frame");
    let screen = terminal.backend().to_string();
    let row = screen.lines().find(|line| line.contains("    7  ")).expect("the row");
    let cells: Vec<&str> = row.trim_matches('"').split_whitespace().collect();
    // PID, user, state; reading and writing together, writing, reading, waiting.
    assert_eq!(cells[..8], ["+", "7", "–", "–", "×", "0", "×", "–"], "{row}");
}

#[test]
fn the_help_page_shows_every_action() {
    let mut desk = Desk::at(10, (140, 160));
    desk.press("?");
    assert_eq!(desk.opened(), "Help");
    let screen = desk.screen();
    for entry in ACTIONS {
        assert!(screen.contains(entry.name), "{} is missing", entry.name);
    }
    desk.types("clipboard");
    let lines = desk.lines();
    assert!(lines.iter().any(|line| line.contains("copy the PID")) && !desk.screen().contains("redraw"));
    desk.press("esc");
    assert!(desk.opened().is_empty());
    desk.press("? ?");
    assert!(desk.opened().is_empty(), "the key that opened it closes it");
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
    desk.receive(shift(&reading, 20));
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
        desk.receive(shift(&reading, 20));
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
        let mut desk = Desk::of(Site::Server, 140, size);
        desk.press("1");
        insta::assert_snapshot!(format!("map_of_cores_{name}"), desk.screen());
        desk.press("p down");
        assert_eq!(desk.state.lanes().parts.selected, Some(PartId::Core(0)));
        desk.press("right right left");
        assert_eq!(desk.state.lanes().parts.selected, Some(PartId::Core(1)));
        desk.press("down");
        let line = desk.state.lanes().parts.selected_row().expect("a core") - 1;
        assert!(line > 7, "down goes to the next line of the map, {line} cores on");
        assert!(desk.screen().contains(&format!("last on core {}", line + 1)));
        desk.press("end");
        assert_eq!(desk.state.lanes().parts.selected, Some(PartId::Core(127)));
        let layout = desk.state.layout().expect("a layout");
        let placed = desk.state.lanes().parts.placed(layout.parts.expect("its parts"))[0];
        let seen = placed.first..placed.first + usize::from(placed.rows.height) * line;
        assert!(seen.contains(&127), "the chosen core is seen: {seen:?}");
    }
}
