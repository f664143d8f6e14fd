//! What happens to the screen.

use crate::feed::Delivery;
use crate::machine::Sought;
use crate::state::effect::Samples;
use dozor_core::deed::{Account, Deed, Target};
use dozor_core::findings::Usual;
use dozor_core::inside::Told;
use dozor_core::inside::close::CloseLook;
use dozor_core::inside::holders::Holders;
use dozor_core::reading::ProcessKey;
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
    /// Something was done to processes, begun at this instant of the wall clock.
    Acted(Deed, Vec<Target>, Vec<Account>, Option<i64>),
    /// What was asked of a process.
    Told(ProcessKey, Told),
    /// Who has open what was looked for, or why that is not known.
    Found(Sought, Result<Holders, String>),
    /// What was seen of a process so far that is looked at closely, and whether that is all.
    SeenClosely(ProcessKey, Box<CloseLook>, bool),
    /// A recording has begun or could not begin.
    RecordingBegan(Result<PathBuf, String>),
    /// The recording cannot be written for this reason, or can be again.
    RecordingStalled(Option<String>),
    /// A recording has ended: with its account or with what went wrong.
    RecordingEnded(Result<String, String>),
    /// A file was made of these samples, with its ending, or cannot be.
    Exported(Samples, Result<(String, Vec<u8>), String>),
    /// Something beside the screen went wrong, in words.
    Failed(String),
    /// What is usual on this machine at this hour.
    Usual(Box<Usual>),
    /// Time passed.
    Tick,
}
