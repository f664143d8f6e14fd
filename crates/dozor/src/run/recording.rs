//! The recording that is written while the screen goes on: a thread of its own, so that a slow disk keeps no key waiting.

use crate::recorder::{Recorder, Written, in_file_name};
use crate::screen::Event;
use crate::state::State;
use crate::state::data::Stay;
use dozor_core::lane::Severity;
use dozor_core::reading::Reading;
use dozor_core::recording::Mark;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, SyncSender, TrySendError, sync_channel};
use std::thread::JoinHandle;

/// What goes into a recording.
enum Item {
    Reading(Arc<Reading>),
    Mark(Mark),
}

/// A recording that is written, or none.
#[derive(Default)]
pub struct Recording {
    /// What the thread takes; dropping it ends the recording.
    items: Option<SyncSender<Item>>,
    thread: Option<JoinHandle<()>>,
    /// Readings that found no room, since the last that did.
    left_out: u64,
}

/// Readings that wait for a slow disk at most.
const WAITING: usize = 64;

impl Recording {
    /// Begins one in the working directory; what becomes of it is said as events. Where one runs, nothing happens.
    pub fn start(&mut self, state: &State, say: impl Fn(Event) + Send + 'static) {
        // The key may be pressed again before the thread has said that it began.
        if self.thread.as_ref().is_some_and(|thread| !thread.is_finished()) {
            return;
        }
        let host = state.time().timeline.host().clone();
        let wall = state.moment().sample.as_ref().map_or(0, |sample| sample.now.wall_ns());
        let name = in_file_name(&host.name);
        let path = PathBuf::from(format!("{name}-{}.dozor", state.time().zone.for_file_name(wall)));
        let (sender, items) = sync_channel(WAITING);
        // The sample on the screen needs the reading before it as well: rates then begin with the recording.
        if let Some(sample) = &state.moment().sample
            && state.time().cursor.is_none()
        {
            for reading in sample.before.iter().chain([&sample.now]) {
                let _ = sender.send(Item::Reading(reading.clone()));
            }
        }
        let every = state.values.every;
        let thread = std::thread::spawn(move || match Recorder::create(&path, host, every) {
            Ok(recorder) => {
                say(Event::RecordingBegan(Ok(path)));
                let result = write(recorder, &items, &say);
                say(Event::RecordingEnded(result));
            }
            Err(error) => say(Event::RecordingBegan(Err(format!("no recording: {error}")))),
        });
        *self = Recording { items: Some(sender), thread: Some(thread), left_out: 0 };
    }

    /// Keeps a reading, where one is written. A disk that cannot keep up delays nobody: readings are left out then, which is said;
    /// the next that is written has all that was counted meanwhile.
    pub fn reading(&mut self, reading: &Arc<Reading>, state: &mut State) {
        let Some(items) = &self.items else { return };
        match items.try_send(Item::Reading(reading.clone())) {
            Ok(()) => self.left_out = 0,
            Err(TrySendError::Full(_)) => {
                self.left_out += 1;
                let text = format!("the disk cannot keep up: {} readings are not recorded", self.left_out);
                state.say_for(Severity::Critical, text, Stay::UntilKey);
            }
            Err(TrySendError::Disconnected(_)) => self.stop(),
        }
    }

    /// Keeps a mark; gives it back where nothing is written.
    pub fn mark(&self, mark: Mark) -> Option<Mark> {
        let Some(items) = &self.items else { return Some(mark) };
        match items.try_send(Item::Mark(mark)) {
            Err(TrySendError::Full(Item::Mark(mark))) => Some(mark),
            _ => None,
        }
    }

    /// Ends it.
    pub fn stop(&mut self) {
        self.items = None;
    }

    /// Ends it and waits for it: the account of a recording is worth that; it is on the disk then.
    pub fn finish(&mut self) {
        self.stop();
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

/// Writes what comes until nothing comes any more; gives the account.
fn write(mut recorder: Recorder, items: &Receiver<Item>, say: &impl Fn(Event)) -> Result<String, String> {
    for item in items {
        let written = match item {
            Item::Reading(reading) => recorder.write(&reading),
            Item::Mark(mark) => recorder.mark(&mark).map(|()| Written::Done),
        };
        match written {
            Ok(Written::Done | Written::Lost(_, false)) => {}
            Ok(Written::Lost(reason, true)) => say(Event::RecordingStalled(Some(reason))),
            Ok(Written::Again(..)) => say(Event::RecordingStalled(None)),
            Err(error) => {
                return Err(format!("the recording ended: {error}; what was written before stays readable"));
            }
        }
    }
    recorder.finish().map_err(|error| error.to_string())
}
