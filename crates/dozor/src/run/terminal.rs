//! Setting up the terminal and giving it back as it was: at the end, on suspend, on a panic.

use crate::run::compact::Compact;
use crossterm::clipboard::CopyToClipboard;
use dozor_linux::last_words;
use ratatui::Terminal;
use ratatui::crossterm::event::{
    DisableBracketedPaste, DisableMouseCapture, EnableBracketedPaste, EnableMouseCapture,
};
use ratatui::crossterm::terminal::{
    BeginSynchronizedUpdate, EndSynchronizedUpdate, EnterAlternateScreen, LeaveAlternateScreen,
    disable_raw_mode, enable_raw_mode,
};
use ratatui::crossterm::{cursor, execute, queue};
use ratatui::layout::Rect;
use ratatui::style::Stylize as _;
use ratatui::text::Line;
use rustix::termios::{LocalModes, OptionalActions, tcgetattr, tcsetattr};
use std::io::{self, BufWriter, Stdout, Write as _};
use std::mem::ManuallyDrop;
use std::sync::atomic::{AtomicBool, Ordering};

/// A frame leaves in one piece: a buffer that holds the largest one.
const BUFFER: usize = 64 << 10;

/// What stands on the screen before anything is known.
const COMING: &str = "collecting …";

/// Whether the terminal is ours at the moment; the panic hook must know without holding the screen.
static OURS: AtomicBool = AtomicBool::new(false);

/// The terminal while Dozor draws on it.
pub struct Console {
    /// Never dropped by itself: that writes to the terminal, complains on standard error where it cannot, and panics where
    /// that is the same terminal and gone.
    terminal: ManuallyDrop<Terminal<Compact<BufWriter<Stdout>>>>,
    mouse: bool,
}

impl Console {
    /// Takes the terminal and shows that something is coming. Until [`Console::begin`] ctrl-c interrupts, since no key is read.
    pub fn open() -> io::Result<Console> {
        take(false)?;
        let backend = Compact::new(BufWriter::with_capacity(BUFFER, io::stdout()));
        let terminal = Terminal::new(backend).inspect_err(|_| restore())?;
        let mut console = Console { terminal: ManuallyDrop::new(terminal), mouse: false };
        interrupts(true);
        console.draw(|frame| {
            let area = frame.area();
            let line = |y: u16| Rect { y, height: 1, ..area }.intersection(area);
            frame.render_widget(Line::from(" dozor").bold(), line(0));
            frame.render_widget(Line::from(COMING).centered(), line(area.height / 2));
        })?;
        Ok(console)
    }

    /// The screen runs: keys are read, and the mouse is ours where that is wanted.
    pub fn begin(&mut self, mouse: bool) -> io::Result<()> {
        interrupts(false);
        if mouse { self.take_mouse(true) } else { Ok(()) }
    }

    /// Takes the mouse, or leaves it to the terminal.
    pub fn take_mouse(&mut self, ours: bool) -> io::Result<()> {
        self.mouse = ours;
        if ours {
            execute!(io::stdout(), EnableMouseCapture)
        } else {
            execute!(io::stdout(), DisableMouseCapture)
        }
    }

    /// Gives text to the clipboard of the terminal: OSC 52, of xterm's control sequences. Terminals that do not
    /// know it, or do not permit it, ignore it.
    pub fn copy(&mut self, text: &str) -> io::Result<()> {
        execute!(io::stdout(), CopyToClipboard::to_clipboard_from(text))
    }

    /// Rings the bell.
    pub fn ring(&mut self) -> io::Result<()> {
        let mut out = io::stdout();
        out.write_all(b"\x07").and_then(|()| out.flush())
    }

    /// Width and height.
    pub fn size(&self) -> io::Result<(u16, u16)> {
        self.terminal.size().map(|size| (size.width, size.height))
    }

    /// Draws a frame; the terminal shows it all at once where it can.
    pub fn draw(&mut self, view: impl FnOnce(&mut ratatui::Frame<'_>)) -> io::Result<()> {
        queue!(self.terminal.backend_mut(), BeginSynchronizedUpdate)?;
        self.terminal.draw(view)?;
        execute!(self.terminal.backend_mut(), EndSynchronizedUpdate)
    }

    /// Forgets what is on the screen, so that the next frame draws all of it.
    pub fn forget(&mut self) -> io::Result<()> {
        // Not `clear`: that asks the terminal for its cursor, and the answer goes to the thread that reads keys.
        self.terminal.backend_mut().forget();
        let size = self.terminal.size()?;
        self.terminal.resize(Rect::new(0, 0, size.width, size.height))
    }

    /// Takes the terminal again after it was given back.
    pub fn take_again(&mut self) -> io::Result<()> {
        take(self.mouse)?;
        self.forget()
    }
}

impl Drop for Console {
    fn drop(&mut self) {
        restore();
    }
}

/// Whether ctrl-c and the like are signals, as before the terminal was taken; termios(3) ISIG.
fn interrupts(on: bool) {
    let out = io::stdout();
    if let Ok(mut modes) = tcgetattr(&out) {
        modes.local_modes.set(LocalModes::ISIG, on);
        let _ = tcsetattr(&out, OptionalActions::Now, &modes);
    }
}

/// The bytes that give the terminal back.
fn farewell(out: &mut impl io::Write) -> io::Result<()> {
    execute!(out, DisableBracketedPaste, DisableMouseCapture, LeaveAlternateScreen, cursor::Show)
}

fn take(mouse: bool) -> io::Result<()> {
    let mut bytes = vec![];
    farewell(&mut bytes)?;
    last_words::prepare(bytes);
    enable_raw_mode()?;
    OURS.store(true, Ordering::SeqCst);
    execute!(io::stdout(), EnterAlternateScreen, EnableBracketedPaste, cursor::Hide)?;
    if mouse { execute!(io::stdout(), EnableMouseCapture) } else { Ok(()) }
}

/// Gives the terminal back. Harmless when it is not ours; errors do not matter when it is gone.
pub fn restore() {
    if OURS.swap(false, Ordering::SeqCst) {
        last_words::forget();
        let _ = farewell(&mut io::stdout());
        let _ = disable_raw_mode();
        let _ = io::stdout().flush();
    }
}

/// A panic of any thread gives the terminal back, says what happened and ends the program: what others still count on may be half
/// done. Of a recording each reading is written already.
pub fn end_on_panic() {
    let default = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |panic| {
        restore();
        default(panic);
        std::process::exit(101);
    }));
}
