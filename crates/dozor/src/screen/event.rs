//! What happens to the screen.

use crate::feed::Delivery;
use crate::machine::{Outcome, Target};
use dozor_core::signals::Signal;
use ratatui::crossterm::event::{KeyEvent, MouseEvent};
use std::path::PathBuf;

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
    /// Something came from where readings come from.
    Feed(Delivery),
    /// An action was carried out.
    Acted(Signal, Vec<Target>, Vec<Outcome>),
    /// A recording has begun or could not begin.
    RecordingBegan(Result<PathBuf, String>),
    /// The recording cannot be written for this reason, or can be again.
    RecordingStalled(Option<String>),
    /// A recording has ended: with its account or with what went wrong.
    RecordingEnded(Result<String, String>),
    /// Time passed.
    Tick,
}
