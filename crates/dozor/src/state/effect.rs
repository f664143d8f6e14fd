//! What must be done outside of the state.

use super::job::Job;
use crate::machine::Sought;
use crate::settings::file::Change;
use dozor_core::deed::{Deed, Target};
use dozor_core::inside::Subject;
use dozor_core::reading::ProcessKey;
use dozor_core::recording::Mark;
use dozor_core::timeline::TimelineCopy;
use std::sync::{Arc, Mutex, PoisonError};
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
    /// Make a file of these samples, on another thread.
    Export(Box<Job>, Samples),
    /// Save a file in the folder that Dozor was started in.
    Save(String, Vec<u8>),
    /// Save a picture of the screen with this ending.
    SaveScreen(&'static str),
    /// Ring the terminal's bell, and start a command, where there is one.
    Alarm(bool, Vec<String>),
    /// Take in more of a recording that has grown, once what was done meanwhile is drawn.
    GrowOn,
}

/// Samples for another thread, taken once.
#[derive(Clone)]
pub struct Samples(Arc<Mutex<Option<TimelineCopy>>>);

impl From<TimelineCopy> for Samples {
    fn from(copy: TimelineCopy) -> Samples {
        Samples(Arc::new(Mutex::new(Some(copy))))
    }
}

impl Samples {
    /// Takes them.
    pub fn take(&self) -> Option<TimelineCopy> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).take()
    }
}

impl PartialEq for Samples {
    fn eq(&self, other: &Samples) -> bool {
        Arc::ptr_eq(&self.0, &other.0)
    }
}

impl std::fmt::Debug for Samples {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("samples")
    }
}
