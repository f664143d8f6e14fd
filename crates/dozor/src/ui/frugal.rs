//! A backend that says to the terminal only what changes, in few bytes: over a slow line every one counts.
//!
//! Colours and attributes stay as they are between frames; the cursor moves by the shorter of the two ways. The
//! sequences are those of ECMA-48, with the colours of ISO 8613-6 as xterm and all others write them.

use ratatui::backend::{Backend, ClearType, CrosstermBackend, WindowSize};
use ratatui::buffer::Cell;
use ratatui::layout::{Position, Size};
use ratatui::style::{Color, Modifier};
use std::io::{self, Write};

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
pub struct Frugal<W: Write> {
    inner: CrosstermBackend<W>,
    /// Not known at first, and after something else has written.
    pen: Option<Pen>,
    /// Where the terminal will write next, where that is known.
    at: Option<Position>,
}

impl<W: Write> Frugal<W> {
    /// Writes to this.
    pub fn new(writer: W) -> Frugal<W> {
        Frugal { inner: CrosstermBackend::new(writer), pen: None, at: None }
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

impl<W: Write> Backend for Frugal<W> {
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
            // Where a wide character ends is the terminal's own affair; behind the last column as well.
            self.at = if cell.symbol().len() == 1 { Some(Position { x: x + 1, y }) } else { None };
            if let [one] = cell.symbol().chars().collect::<Vec<_>>()[..]
                && unicode_width::UnicodeWidthChar::width(one) == Some(1)
            {
                self.at = Some(Position { x: x + 1, y });
            }
        }
        // Whoever writes next may move the cursor.
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

impl<W: Write> Write for Frugal<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.inner.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        Write::flush(&mut self.inner)
    }
}
