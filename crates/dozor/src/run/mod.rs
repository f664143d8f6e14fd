//! Joins the threads: the terminal, the source, signals and workers send events; this thread changes the state
//! and draws.

pub mod frugal;
pub mod terminal;

use crate::feed::Order;
use crate::machine::Hands;
use crate::recorder::{Notes, Recorder, Written, in_file_name};
use crate::run::terminal::{Screen, restore};
use crate::screen::{Effect, Event, next_tick, update};
use crate::settings;
use crate::state::State;
use anyhow::Context as _;
use dozor_core::lane::Severity;
use dozor_core::reading::Reading;
use dozor_core::recording::Mark;
use dozor_core::wanted::Wanted;
use ratatui::crossterm::event::{
    self as terminal_event, Event as TerminalEvent, KeyEventKind, MouseEventKind,
};
use rustix::event::{PollFd, PollFlags, poll};
use rustix::io::Errno;
use rustix::process::Signal;
use signal_hook::consts::{
    SIGALRM, SIGCONT, SIGHUP, SIGINT, SIGQUIT, SIGTERM, SIGTSTP, SIGUSR1, SIGUSR2, SIGWINCH,
};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::time::{Duration, Instant};

/// What the other threads send.
pub enum Incoming {
    /// Something that the state must know.
    Event(Event),
    /// Somebody asked this process to end.
    Stop(i32),
    /// Somebody asked this process to go to the background.
    Suspend,
    /// It came back to the foreground.
    Continued,
    /// The terminal has another size.
    Resized,
    /// The terminal cannot be read any more.
    TerminalGone,
}

/// What the screen is connected to.
pub struct Connections {
    /// Where processes are acted on.
    pub hands: Hands,
    /// Where signs are kept while nothing is recorded here.
    pub notes: Option<Notes>,
    /// For another interval or other parts; none where the source has its own pace.
    pub pace: Option<Sender<Order>>,
    /// What the other threads send.
    pub incoming: Receiver<Incoming>,
    /// For workers that this thread starts.
    pub sender: Sender<Incoming>,
}

/// Without an event the screen is drawn this often at least, so that running times go on.
const IDLE: Duration = Duration::from_secs(1);

/// Runs the screen until somebody leaves. Gives the signal that ended it, if one did.
pub fn run(state: &mut State, connections: Connections) -> anyhow::Result<Option<i32>> {
    listen_to_signals(connections.sender.clone())?;
    let mut screen = Screen::open(state.mouse).context("the terminal cannot be used")?;
    listen_to_terminal(connections.sender.clone());
    listen_for_hangup(connections.sender.clone());
    state.size = screen.size()?;
    let mut session = Session { connections, wanted: state.wanted(), recording: None, grow_on: false };
    session.order(Order::Want(session.wanted));
    let now = Instant::now();
    state.refresh(now);
    state.settle();
    let ended = session.turn(state, &mut screen);
    session.stop_recording();
    // The account of a recording is worth waiting for; it is on the disk then.
    if let Some(writing) = session.recording.take() {
        let _ = writing.thread.join();
    }
    ended
}

struct Session {
    connections: Connections,
    /// What the source was last asked for.
    wanted: Wanted,
    recording: Option<Writing>,
    /// More of a recording is to be taken in when nothing else is to be done.
    grow_on: bool,
}

/// What goes into a recording.
enum Item {
    Reading(Arc<Reading>),
    Mark(Mark),
}

/// The thread that writes a recording.
struct Writing {
    /// What it takes; dropping the sender ends the recording.
    items: Option<Sender<Item>>,
    thread: std::thread::JoinHandle<()>,
}

impl Session {
    fn turn(&mut self, state: &mut State, screen: &mut Screen) -> anyhow::Result<Option<i32>> {
        let mut stale = true;
        loop {
            if std::mem::take(&mut stale) {
                let now = Instant::now();
                // A terminal that is gone is said by its own event or by a signal.
                let _ = screen.draw(|frame| crate::screen::draw(state, frame, now));
            }
            let now = Instant::now();
            let due = next_tick(state).map_or(IDLE, |tick| tick.saturating_duration_since(now)).min(IDLE);
            let due = if self.grow_on { Duration::ZERO } else { due };
            let mut next = match self.connections.incoming.recv_timeout(due) {
                Ok(incoming) => Some(incoming),
                Err(RecvTimeoutError::Timeout) if std::mem::take(&mut self.grow_on) => {
                    Some(Incoming::Event(Event::Grown))
                }
                Err(RecvTimeoutError::Timeout) => {
                    update(state, Event::Tick, Instant::now());
                    stale = true;
                    None
                }
                Err(RecvTimeoutError::Disconnected) => return Ok(None),
            };
            // What has arrived in the meantime is drawn in one frame.
            while let Some(incoming) = next {
                stale = true;
                match incoming {
                    Incoming::Event(event) => {
                        if let Event::Reading(reading) = &event {
                            self.pass_on(reading);
                        }
                        for effect in update(state, event, Instant::now()) {
                            if effect == Effect::Quit {
                                return Ok(None);
                            }
                            self.carry_out(effect, state, screen)?;
                        }
                    }
                    Incoming::Resized => {
                        // It may be the old size again by now, but what stood there is gone.
                        // A terminal that is gone is said by its own event or by a signal.
                        if let Ok((width, height)) = screen.forget().and_then(|()| screen.size()) {
                            update(state, Event::Resize(width, height), Instant::now());
                        }
                    }
                    Incoming::Stop(signal) => return Ok(Some(signal)),
                    Incoming::TerminalGone => return Ok(Some(SIGHUP)),
                    Incoming::Suspend => {
                        restore();
                        signal_hook::low_level::emulate_default_handler(SIGTSTP)?;
                        screen.take_again()?;
                    }
                    Incoming::Continued => screen.take_again()?,
                }
                next = self.connections.incoming.try_recv().ok();
            }
            if self.wanted != state.wanted() {
                self.wanted = state.wanted();
                self.order(Order::Want(self.wanted));
            }
            if next_tick(state).is_some_and(|tick| tick <= Instant::now()) {
                update(state, Event::Tick, Instant::now());
            }
        }
    }

    fn order(&self, order: Order) {
        if let Some(pace) = &self.connections.pace {
            let _ = pace.send(order);
        }
    }

    fn carry_out(&mut self, effect: Effect, state: &mut State, screen: &mut Screen) -> anyhow::Result<()> {
        match effect {
            Effect::Quit => {}
            // The whole job stops, so that the other end of a pipe does as well; our handler then sees the signal.
            Effect::Suspend => rustix::process::kill_current_process_group(Signal::TSTP)?,
            Effect::Redraw => screen.forget()?,
            Effect::Every(every) => {
                self.order(Order::Every(every));
            }
            Effect::ByHand(on) => self.order(Order::ByHand(on)),
            Effect::ReadNow => self.order(Order::Now),
            Effect::Copy(text) => screen.copy(&text)?,
            Effect::Mouse(ours) => screen.take_mouse(ours)?,
            Effect::Configure(change) => {
                // The change is there either way; only keeping it may fail.
                if let Err(problem) = settings::file::change(&state.configured, &change) {
                    let until = Instant::now() + Duration::from_secs(12);
                    state.say(Severity::Warning, problem, Some(until));
                }
            }
            Effect::Signal(signal, targets) => {
                let (hands, out) = (self.connections.hands.clone(), self.connections.sender.clone());
                std::thread::spawn(move || {
                    let outcomes = hands.signal(&targets, &signal);
                    let _ = out.send(Incoming::Event(Event::Acted(signal, targets, outcomes)));
                });
            }
            Effect::Keep(mark) => self.keep(mark, state),
            Effect::GrowOn => self.grow_on = true,
            Effect::Record => self.start_recording(state),
            Effect::StopRecording => self.stop_recording(),
        }
        Ok(())
    }

    fn pass_on(&mut self, reading: &Arc<Reading>) {
        if let Some(Writing { items: Some(items), .. }) = &self.recording
            && items.send(Item::Reading(reading.clone())).is_err()
        {
            self.stop_recording();
        }
    }

    /// Keeps a sign where the readings are kept: in the recording that is written, or where the past lies.
    fn keep(&self, mark: Mark, state: &mut State) {
        if let Some(Writing { items: Some(items), .. }) = &self.recording {
            let _ = items.send(Item::Mark(mark));
            return;
        }
        if let Some(notes) = &self.connections.notes
            && let Err(problem) = notes.add(state.timeline.host(), &mark)
        {
            let until = Instant::now() + Duration::from_secs(12);
            state.say(Severity::Warning, format!("not kept: {problem}"), Some(until));
        }
    }

    fn stop_recording(&mut self) {
        if let Some(writing) = &mut self.recording {
            writing.items = None;
        }
    }

    fn start_recording(&mut self, state: &State) {
        // The key may be pressed again before the thread has said that it began.
        if self.recording.as_ref().is_some_and(|writing| !writing.thread.is_finished()) {
            return;
        }
        let host = state.timeline.host().clone();
        let wall = state.sample.as_ref().map_or(0, |sample| sample.now.wall_ns());
        let name = in_file_name(&host.name);
        let path = PathBuf::from(format!("{name}-{}.dozor", state.zone.for_file_name(wall)));
        let (sender, items) = channel();
        // The sample on the screen needs the reading before it as well: rates then begin with the recording.
        if let Some(sample) = &state.sample
            && state.cursor.is_none()
        {
            for reading in sample.before.iter().chain([&sample.now]) {
                let _ = sender.send(Item::Reading(reading.clone()));
            }
        }
        let (out, every) = (self.connections.sender.clone(), state.every);
        let say = move |event| {
            let _ = out.send(Incoming::Event(event));
        };
        let thread = std::thread::spawn(move || {
            let mut recorder = match Recorder::create(&path, host, every) {
                Ok(recorder) => recorder,
                Err(error) => return say(Event::RecordingBegan(Err(format!("no recording: {error}")))),
            };
            say(Event::RecordingBegan(Ok(path.clone())));
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
                        let problem =
                            format!("the recording ended: {error}; what was written before stays readable");
                        return say(Event::RecordingEnded(Err(problem)));
                    }
                }
            }
            say(Event::RecordingEnded(recorder.finish().map_err(|error| error.to_string())));
        });
        self.recording = Some(Writing { items: Some(sender), thread });
    }
}

fn listen_to_terminal(out: Sender<Incoming>) {
    std::thread::spawn(move || {
        loop {
            let event = match terminal_event::read() {
                Ok(TerminalEvent::Key(key)) if key.kind != KeyEventKind::Release => Event::Key(key),
                // A pointer that merely moves would have every cell drawn anew at each of its steps.
                Ok(TerminalEvent::Mouse(mouse)) if mouse.kind == MouseEventKind::Moved => continue,
                Ok(TerminalEvent::Mouse(mouse)) => Event::Mouse(mouse),
                Ok(TerminalEvent::Paste(text)) => Event::Paste(text),
                // Another size is told by its signal: this one goes missing when keys arrive together with it.
                Ok(_) => continue,
                Err(_) => {
                    let _ = out.send(Incoming::TerminalGone);
                    return;
                }
            };
            if out.send(Incoming::Event(event)).is_err() {
                return;
            }
        }
    });
}

/// A terminal that is not the controlling one goes without a signal, and reading from it would go on for ever.
fn listen_for_hangup(out: Sender<Incoming>) {
    std::thread::spawn(move || {
        let terminal = std::io::stdout();
        // No events are asked for: only the end of the terminal is told.
        let mut watched = [PollFd::new(&terminal, PollFlags::empty())];
        loop {
            match poll(&mut watched, None) {
                Err(Errno::INTR) => {}
                Ok(_) if watched[0].revents().is_empty() => {}
                // Without an answer it is not known to be gone.
                Err(_) => return,
                Ok(_) => {
                    let _ = out.send(Incoming::TerminalGone);
                    return;
                }
            }
        }
    });
}

fn listen_to_signals(out: Sender<Incoming>) -> anyhow::Result<()> {
    // Those that would end the program without a word end it in order; what nobody can answer is for `last_words`.
    let ending = [SIGTERM, SIGHUP, SIGINT, SIGQUIT, SIGUSR1, SIGUSR2, SIGALRM];
    let mut signals =
        signal_hook::iterator::Signals::new(ending.iter().chain(&[SIGTSTP, SIGCONT, SIGWINCH]))?;
    std::thread::spawn(move || {
        for signal in signals.forever() {
            let incoming = match signal {
                SIGTSTP => Incoming::Suspend,
                SIGCONT => Incoming::Continued,
                SIGWINCH => Incoming::Resized,
                other => Incoming::Stop(other),
            };
            if out.send(incoming).is_err() {
                return;
            }
        }
    });
    Ok(())
}
