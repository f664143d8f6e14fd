//! What reaches the terminal: every byte, and how few of them.

use super::{Desk, Written, idle_reading};
use crate::look::theme::{Depth, Theme};
use crate::run::compact::Compact;
use dozor_core::reading::HostFacts;
use dozor_core::timeline::Timeline;
use ratatui::{Terminal, TerminalOptions, Viewport};
use std::cell::Cell;
use std::sync::Arc;

/// Draws a frame after each of some steps as on a terminal; gives the bytes of each, and checks that a terminal which
/// gets them shows what was drawn.
fn bytes_of_frames(desk: &mut Desk, frames: usize, step: impl Fn(&mut Desk)) -> Vec<usize> {
    let (width, height) = desk.state.size;
    let out = Written::default();
    let viewport = Viewport::Fixed(ratatui::layout::Rect::new(0, 0, width, height));
    let mut terminal =
        Terminal::with_options(Compact::new(out.clone()), TerminalOptions { viewport }).expect("a screen");
    let mut parser = vt100::Parser::new(height, width, 0);
    let mut bytes = vec![];
    for _ in 0..frames {
        step(desk);
        let now = desk.now();
        terminal.draw(|frame| desk.screen.draw(frame, now)).expect("a frame");
        let written = out.take();
        parser.process(&written);
        bytes.push(written.len());
        let shown: Vec<String> =
            parser.screen().rows(0, width).map(|line| line.trim_end().to_owned()).collect();
        assert_eq!(shown, desk.lines(), "the terminal shows what was drawn");
    }
    bytes
}

#[test]
fn a_quiet_frame_takes_few_bytes_and_shows_what_was_drawn() {
    let mut desk = Desk::at(5, (160, 48));
    desk.state.theme = Theme::new(Depth::True, false);
    let host = Arc::new(HostFacts { cores: 8, ticks_per_second: 100, ..HostFacts::default() });
    desk.state.time_mut().timeline = Timeline::live(host);
    let second = Cell::new(0);
    let bytes = bytes_of_frames(&mut desk, 60, |desk| {
        second.set(second.get() + 1);
        desk.receive(Arc::new(idle_reading(second.get())));
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
