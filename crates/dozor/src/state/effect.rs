//! What must be done outside of the state.

use crate::machine::Sought;
use crate::settings::file::Change;
use dozor_core::deed::{Deed, Target};
use dozor_core::inside::Subject;
use dozor_core::reading::ProcessKey;
use dozor_core::recording::Mark;
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
    /// Do something to processes, at this instant of the time axis.
    Act(Deed, Vec<Target>, Option<i64>),
    /// Look into a process; of questions on one subject only the newest is answered.
    Look(ProcessKey, Subject),
    /// Look for who has something open; of several questions the newest counts.
    Seek(Sought),
    /// Look closely at what a process does, so long.
    LookClosely(ProcessKey, Duration),
    /// Stop looking closely.
    LookAway,
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
    /// Save a file in the folder that Dozor was started in.
    Save(String, Vec<u8>),
    /// Save a picture of the screen with this ending.
    SaveScreen(&'static str),
    /// Ring the terminal's bell, and start a command, where there is one.
    Alarm(bool, Vec<String>),
    /// Take in more of a recording that has grown, once what was done meanwhile is drawn.
    GrowOn,
}
