//! A backend that says to the terminal only what changes, in few bytes: over a slow line every one counts.
//!
//! Colours and attributes stay as they are between frames; the cursor moves by the shorter of the two ways. The
//! sequences are those of ECMA-48, with the colours of ISO 8613-6 as xterm and all others write them.

use ratatui::backend::{Backend, ClearType, CrosstermBackend, WindowSize};
use ratatui::buffer::Cell;
use ratatui::layout::{Position, Size};
use ratatui::style::{Color, Modifier};
use std::io::{self, Write};
use unicode_width::UnicodeWidthStr as _;

/// Attributes that are used here, with what turns them on and off.
const ATTRIBUTES: [(Modifier, u8, u8); 4] = [
    (Modifier::BOLD, 1, 22),
    (Modifier::DIM, 2, 22),
    (Modifier::UNDERLINED, 4, 24),
    (Modifier::REVERSED, 7, 27),
];

/// How the terminal writes at the moment.
#[derive(Clone, Copy, Debug, PartialEq)]
struct Pen {
    fg: Color,
    bg: Color,
    modifier: Modifier,
}

const PLAIN: Pen = Pen { fg: Color::Reset, bg: Color::Reset, modifier: Modifier::empty() };

/// Writes frames to a terminal.
pub struct Compact<W: Write> {
    inner: CrosstermBackend<W>,
    /// Not known at first, and after something else has written.
    pen: Option<Pen>,
    /// Where the terminal will write next, where that is known.
    at: Option<Position>,
}

impl<W: Write> Compact<W> {
    /// Writes to this.
    pub fn new(writer: W) -> Compact<W> {
        Compact { inner: CrosstermBackend::new(writer), pen: None, at: None }
    }

    /// Somebody else may have written: nothing is known of the terminal.
    pub fn forget(&mut self) {
        (self.pen, self.at) = (None, None);
    }

    fn go_to(&mut self, x: u16, y: u16) -> io::Result<()> {
        if self.at == Some(Position { x, y }) {
            return Ok(());
        }
        match self.at {
            Some(at) if at.y == y && at.x < x && x - at.x == 1 => self.inner.write_all(b"\x1b[C"),
            Some(at) if at.y == y && at.x < x => write!(self.inner, "\x1b[{}C", x - at.x),
            Some(at) if at.y + 1 == y && x == 0 => self.inner.write_all(b"\r\n"),
            _ => write!(self.inner, "\x1b[{};{}H", y + 1, x + 1),
        }
    }

    fn take_pen(&mut self, wanted: Pen) -> io::Result<()> {
        if self.pen == Some(wanted) {
            return Ok(());
        }
        let mut codes = String::new();
        let mut add = |code: &str| {
            if !codes.is_empty() {
                codes.push(';');
            }
            codes.push_str(code);
        };
        let mut pen = self.pen.unwrap_or(PLAIN);
        if self.pen.is_none() {
            add("0");
        }
        let off = pen.modifier - wanted.modifier;
        for (modifier, _, code) in ATTRIBUTES {
            if off.contains(modifier) && pen.modifier.contains(modifier) {
                add(&code.to_string());
                // One code turns off both bold and dim.
                pen.modifier -= if code == 22 { Modifier::BOLD | Modifier::DIM } else { modifier };
            }
        }
        for (modifier, code, _) in ATTRIBUTES {
            if wanted.modifier.contains(modifier) && !pen.modifier.contains(modifier) {
                add(&code.to_string());
            }
        }
        if pen.fg != wanted.fg {
            add(&colour(wanted.fg, 30));
        }
        if pen.bg != wanted.bg {
            add(&colour(wanted.bg, 40));
        }
        if !codes.is_empty() {
            write!(self.inner, "\x1b[{codes}m")?;
        }
        self.pen = Some(wanted);
        Ok(())
    }
}

/// The code of a colour; `base` is 30 for text and 40 for its ground.
fn colour(colour: Color, base: u8) -> String {
    let bright = base + 60;
    let code = match colour {
        Color::Reset => base + 9,
        Color::Black => base,
        Color::Red => base + 1,
        Color::Green => base + 2,
        Color::Yellow => base + 3,
        Color::Blue => base + 4,
        Color::Magenta => base + 5,
        Color::Cyan => base + 6,
        Color::Gray => base + 7,
        Color::DarkGray => bright,
        Color::LightRed => bright + 1,
        Color::LightGreen => bright + 2,
        Color::LightYellow => bright + 3,
        Color::LightBlue => bright + 4,
        Color::LightMagenta => bright + 5,
        Color::LightCyan => bright + 6,
        Color::White => bright + 7,
        Color::Indexed(index) => return format!("{};5;{index}", base + 8),
        Color::Rgb(red, green, blue) => return format!("{};2;{red};{green};{blue}", base + 8),
    };
    code.to_string()
}

impl<W: Write> Backend for Compact<W> {
    type Error = io::Error;

    fn draw<'a, I>(&mut self, content: I) -> io::Result<()>
    where
        I: Iterator<Item = (u16, u16, &'a Cell)>,
    {
        for (x, y, cell) in content {
            self.go_to(x, y)?;
            let mut pen = Pen { fg: cell.fg, bg: cell.bg, modifier: cell.modifier };
            // A blank shows nothing of the colour of its text.
            if cell.symbol() == " " && !pen.modifier.intersects(Modifier::REVERSED | Modifier::UNDERLINED) {
                let now = self.pen.unwrap_or(PLAIN);
                pen.fg = now.fg;
                let turned = now.modifier.intersects(Modifier::REVERSED | Modifier::UNDERLINED);
                pen.modifier = if turned { Modifier::empty() } else { now.modifier };
            }
            self.take_pen(pen)?;
            self.inner.write_all(cell.symbol().as_bytes())?;
            // Where a wide character ends is the terminal's own affair.
            self.at = (cell.symbol().width() == 1).then_some(Position { x: x + 1, y });
        }
        Ok(())
    }

    fn hide_cursor(&mut self) -> io::Result<()> {
        self.inner.hide_cursor()
    }

    fn show_cursor(&mut self) -> io::Result<()> {
        self.inner.show_cursor()
    }

    fn get_cursor_position(&mut self) -> io::Result<Position> {
        self.inner.get_cursor_position()
    }

    fn set_cursor_position<P: Into<Position>>(&mut self, position: P) -> io::Result<()> {
        self.at = None;
        self.inner.set_cursor_position(position)
    }

    fn clear(&mut self) -> io::Result<()> {
        self.clear_region(ClearType::All)
    }

    fn clear_region(&mut self, region: ClearType) -> io::Result<()> {
        // Cleared cells take the ground that the terminal writes on at the moment.
        self.forget();
        self.inner.write_all(b"\x1b[0m")?;
        self.inner.clear_region(region)
    }

    fn size(&self) -> io::Result<Size> {
        self.inner.size()
    }

    fn window_size(&mut self) -> io::Result<WindowSize> {
        self.inner.window_size()
    }

    fn flush(&mut self) -> io::Result<()> {
        Backend::flush(&mut self.inner)
    }
}

impl<W: Write> Write for Compact<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.inner.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        Write::flush(&mut self.inner)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::screen::tests::Written;
    use proptest::prelude::*;
    use ratatui::buffer::Buffer;
    use ratatui::layout::Rect;
    use ratatui::style::Style;

    const SIZE: (u16, u16) = (24, 6);

    fn any_colour() -> impl Strategy<Value = Color> {
        prop_oneof![
            Just(Color::Reset),
            Just(Color::Red),
            Just(Color::LightCyan),
            any::<u8>().prop_map(Color::Indexed),
            (any::<u8>(), any::<u8>(), any::<u8>()).prop_map(|(r, g, b)| Color::Rgb(r, g, b)),
        ]
    }

    fn any_modifier() -> impl Strategy<Value = Modifier> {
        proptest::sample::subsequence(vec![Modifier::BOLD, Modifier::UNDERLINED, Modifier::REVERSED], 0..=3)
            .prop_map(|modifiers| modifiers.into_iter().fold(Modifier::empty(), |all, one| all | one))
    }

    /// Pieces of text anywhere on the screen. None of them has wide characters: what a terminal leaves of one whose half is
    /// written over differs from terminal to terminal.
    fn any_screen() -> impl Strategy<Value = Buffer> {
        let piece = (0..SIZE.0, 0..SIZE.1, "[a-z █▁·é]{0,9}", any_colour(), any_colour(), any_modifier());
        proptest::collection::vec(piece, 0..12).prop_map(|pieces| {
            let mut buffer = Buffer::empty(Rect::new(0, 0, SIZE.0, SIZE.1));
            for (x, y, text, fg, bg, modifier) in pieces {
                let room = usize::from(SIZE.0 - x);
                buffer.set_stringn(x, y, text, room, Style::new().fg(fg).bg(bg).add_modifier(modifier));
            }
            buffer
        })
    }

    fn colour_of(colour: vt100::Color) -> Color {
        match colour {
            vt100::Color::Default => Color::Reset,
            vt100::Color::Idx(1) => Color::Red,
            vt100::Color::Idx(14) => Color::LightCyan,
            vt100::Color::Idx(index) => Color::Indexed(index),
            vt100::Color::Rgb(r, g, b) => Color::Rgb(r, g, b),
        }
    }

    fn same(a: Color, b: Color) -> bool {
        let plain = |colour| match colour {
            Color::Red => Color::Indexed(1),
            Color::LightCyan => Color::Indexed(14),
            other => other,
        };
        plain(a) == plain(b)
    }

    proptest! {
        #[test]
        fn a_terminal_shows_every_frame_as_it_was_drawn(frames in proptest::collection::vec(any_screen(), 1..5)) {
            let out = Written::default();
            let mut backend = Compact::new(out.clone());
            let mut parser = vt100::Parser::new(SIZE.1, SIZE.0, 0);
            let mut before = Buffer::empty(Rect::new(0, 0, SIZE.0, SIZE.1));
            for frame in frames {
                backend.draw(before.diff(&frame).into_iter()).expect("a frame");
                let written = out.take();
                parser.process(&written);
                for y in 0..SIZE.1 {
                    for x in 0..SIZE.0 {
                        let cell = &frame[(x, y)];
                        let shown = parser.screen().cell(y, x).expect("a cell");
                        if shown.is_wide_continuation() {
                            continue;
                        }
                        let symbol = if shown.contents().is_empty() { " " } else { shown.contents() };
                        prop_assert_eq!(symbol, cell.symbol(), "at {} {}", x, y);
                        let turned = cell.modifier.contains(Modifier::REVERSED);
                        prop_assert_eq!(shown.inverse(), turned);
                        prop_assert!(same(colour_of(shown.bgcolor()), cell.bg), "ground at {} {}", x, y);
                        // What a blank would be written with cannot be seen, unless it is turned round.
                        if symbol != " " || turned {
                            prop_assert!(same(colour_of(shown.fgcolor()), cell.fg), "text at {} {}", x, y);
                        }
                        if symbol != " " {
                            prop_assert_eq!(shown.bold(), cell.modifier.contains(Modifier::BOLD));
                            prop_assert_eq!(shown.underline(), cell.modifier.contains(Modifier::UNDERLINED));
                        }
                    }
                }
                before = frame;
            }
        }
    }

    #[test]
    fn nothing_new_takes_no_bytes_and_what_follows_needs_no_move() {
        let out = Written::default();
        let mut backend = Compact::new(out.clone());
        let empty = Buffer::empty(Rect::new(0, 0, SIZE.0, SIZE.1));
        let mut frame = empty.clone();
        frame.set_string(3, 1, "ab", Style::new().fg(Color::Indexed(7)));
        frame.set_string(8, 1, "c", Style::new().fg(Color::Indexed(7)));
        backend.draw(empty.diff(&frame).into_iter()).expect("a frame");
        assert_eq!(out.take(), b"\x1b[2;4H\x1b[0;38;5;7mab\x1b[3Cc");
        backend.draw(frame.diff(&frame).into_iter()).expect("a frame");
        assert_eq!(out.take(), b"");
    }
}
