//! What must be done outside of the state.

use crate::machine::Target;
use crate::settings::file::Change;
use dozor_core::recording::Mark;
use dozor_core::signals::Signal;
use std::time::Duration;

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
