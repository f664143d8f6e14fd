//! Joins the threads: the terminal, the source, signals and workers send events; this thread changes the state
//! and draws.

mod alarm;
pub mod compact;
mod incoming;
mod listen;
mod looking;
mod recording;
pub mod terminal;
mod typed;

pub use incoming::{Incoming, Post};

use crate::draw::picture::picture;
use crate::feed::{Delivery, Request};
use crate::machine::Machine;
use crate::recorder::Notes;
use crate::screen::{Event, Screen};
use crate::settings;
use crate::state::State;
use crate::state::data::Stay;
use crate::state::effect::Effect;
use alarm::Alarms;
use anyhow::Context as _;
use dozor_core::lane::Severity;
use dozor_core::recording::Mark;
use dozor_core::wanted::Wanted;
use dozor_linux::files as trusted;
use incoming::{Inbox, Taken, channel};
use looking::Looking;
use recording::Recording;
use rustix::process::Signal;
use signal_hook::consts::{SIGHUP, SIGTSTP};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::Sender;
use std::time::{Duration, Instant};
use terminal::{Console, restore};
use typed::Typed;

/// What the screen is connected to.
pub struct Connections {
    /// Where processes are acted on.
    pub machine: Machine,
    /// Where signs are kept while nothing is recorded here.
    pub notes: Option<Notes>,
    /// For another interval or other parts; none where the source has its own pace.
    pub pace: Option<Sender<Request>>,
}

/// The terminal is ours and shows that something is coming, before anything is asked of the machine; from here on signals are heard.
pub struct Begun {
    console: Console,
    /// For those who send.
    pub post: Post,
    inbox: Inbox,
    runs: Arc<AtomicBool>,
}

/// Takes the terminal.
pub fn begin() -> anyhow::Result<Begun> {
    let (post, inbox) = channel();
    let runs = Arc::new(AtomicBool::new(false));
    listen::listen_to_signals(post.clone(), runs.clone())?;
    let console = Console::open().context("the terminal cannot be used")?;
    Ok(Begun { console, post, inbox, runs })
}

/// So long events are taken in before a frame is drawn.
const FRAME: Duration = Duration::from_millis(50);

/// Without an event the screen is drawn this often at least, so that running times go on.
const IDLE: Duration = Duration::from_secs(1);

/// Runs the screen until somebody leaves. Gives the signal that ended it, if one did.
pub fn run(screen: &mut Screen, begun: Begun, connections: Connections) -> anyhow::Result<Option<i32>> {
    let Connections { machine, notes, pace } = connections;
    let Begun { mut console, post: sender, inbox: incoming, runs } = begun;
    runs.store(true, Ordering::SeqCst);
    console.begin(screen.state.values.mouse).context("the terminal cannot be used")?;
    listen::listen_to_terminal(sender.clone());
    listen::listen_for_hangup(sender.clone());
    screen.begin(console.size()?);
    let wanted = screen.wanted();
    let looking = Looking::start(machine.clone(), sender.clone());
    let mut session = Session {
        machine,
        notes,
        pace,
        sender,
        wanted,
        looking,
        recording: Recording::default(),
        alarms: Alarms::default(),
        typed: Typed::new(Instant::now()),
        grow_on: false,
    };
    session.order(Request::Want(wanted));
    let ended = session.turn(screen, &mut console, &incoming);
    // Whoever has something to say from here on is not waited for.
    drop(incoming);
    session.recording.finish();
    ended
}

struct Session {
    machine: Machine,
    notes: Option<Notes>,
    pace: Option<Sender<Request>>,
    sender: Post,
    /// What the source was last asked for.
    wanted: Wanted,
    /// Who looks into processes.
    looking: Looking,
    recording: Recording,
    alarms: Alarms,
    /// What was typed and is not taken in yet.
    typed: Typed,
    /// More of a recording is to be taken in when nothing else is to be done.
    grow_on: bool,
}

/// How the screen ended: somebody left, or this signal.
type End = Option<i32>;

impl Session {
    fn turn(&mut self, screen: &mut Screen, console: &mut Console, inbox: &Inbox) -> anyhow::Result<End> {
        loop {
            let now = Instant::now();
            // A terminal that is gone is said by its own event or by a signal.
            let _ = console.draw(|frame| screen.draw(frame, now));
            // What has arrived in the meantime is drawn in one frame, unless that takes long.
            let mut next = self.wait(screen, inbox);
            let begin = Instant::now();
            loop {
                if let Some(end) = self.take_in(next, screen, console, inbox, begin + FRAME)? {
                    return Ok(end);
                }
                if begin.elapsed() > FRAME {
                    break;
                }
                match inbox.take(Duration::ZERO) {
                    Some(taken) => next = taken,
                    None => break,
                }
            }
            let wanted = screen.wanted();
            if std::mem::replace(&mut self.wanted, wanted) != wanted {
                self.order(Request::Want(wanted));
            }
            if screen.next_tick().is_some_and(|tick| tick <= Instant::now()) {
                screen.update(Event::Tick, Instant::now());
            }
        }
    }

    /// Waits for what comes next, at most until the screen changes by itself.
    fn wait(&mut self, screen: &mut Screen, inbox: &Inbox) -> Taken {
        let now = Instant::now();
        let due = screen.next_tick().map_or(IDLE, |tick| tick.saturating_duration_since(now)).min(IDLE);
        let at_once = self.grow_on || !self.typed.is_empty();
        match inbox.take(if at_once { Duration::ZERO } else { due }) {
            Some(taken) => taken,
            None if !self.typed.is_empty() => Taken::Typed(vec![]),
            None if std::mem::take(&mut self.grow_on) => Taken::Other(Event::Feed(Delivery::Grown)),
            None => Taken::Other(Event::Tick),
        }
    }

    fn take_in(
        &mut self,
        taken: Taken,
        screen: &mut Screen,
        console: &mut Console,
        inbox: &Inbox,
        until: Instant,
    ) -> anyhow::Result<Option<End>> {
        match taken {
            Taken::Signal(signal) => self.heard(signal, screen, console),
            Taken::Other(event) => {
                if let Event::Feed(Delivery::Reading(reading)) = &event {
                    self.recording.reading(reading, &mut screen.state);
                }
                self.happened(event, screen, console)
            }
            Taken::Typed(events) => {
                self.typed.extend(events);
                while let Some(event) = self.typed.next(screen, Instant::now()) {
                    if let Some(end) = self.happened(event, screen, console)? {
                        return Ok(Some(end));
                    }
                    if let Some(signal) = inbox.signal()
                        && let Some(end) = self.heard(signal, screen, console)?
                    {
                        return Ok(Some(end));
                    }
                    if Instant::now() > until {
                        break;
                    }
                }
                Ok(None)
            }
        }
    }

    /// An event for the screen, and what follows from it.
    fn happened(
        &mut self,
        event: Event,
        screen: &mut Screen,
        console: &mut Console,
    ) -> anyhow::Result<Option<End>> {
        for effect in screen.update(event, Instant::now()) {
            if effect == Effect::Quit {
                return Ok(Some(None));
            }
            self.carry_out(effect, screen, console)?;
        }
        Ok(None)
    }

    /// A signal, or the end of the terminal.
    fn heard(
        &mut self,
        signal: Incoming,
        screen: &mut Screen,
        console: &mut Console,
    ) -> anyhow::Result<Option<End>> {
        match signal {
            Incoming::Event(event) => return self.happened(event, screen, console),
            Incoming::Resized => {
                // It may be the old size again by now, but what stood there is gone.
                // A terminal that is gone is said by its own event or by a signal.
                if let Ok((width, height)) = console.forget().and_then(|()| console.size()) {
                    screen.update(Event::Resize(width, height), Instant::now());
                }
            }
            Incoming::Stop(signal) => return Ok(Some(Some(signal))),
            Incoming::TerminalGone => return Ok(Some(Some(SIGHUP))),
            Incoming::Suspend => {
                restore();
                signal_hook::low_level::emulate_default_handler(SIGTSTP)?;
                console.take_again()?;
            }
            Incoming::Continued => console.take_again()?,
        }
        Ok(None)
    }

    fn order(&self, order: Request) {
        if let Some(pace) = &self.pace {
            let _ = pace.send(order);
        }
    }

    fn carry_out(
        &mut self,
        effect: Effect,
        screen: &mut Screen,
        console: &mut Console,
    ) -> anyhow::Result<()> {
        let state = &mut screen.state;
        match effect {
            Effect::Quit => {}
            // The whole job stops, so that the other end of a pipe does as well; our handler then sees the signal.
            Effect::Suspend => rustix::process::kill_current_process_group(Signal::TSTP)?,
            Effect::Redraw => console.forget()?,
            Effect::Every(every) => self.order(Request::Every(every)),
            Effect::ByHand(on) => self.order(Request::ByHand(on)),
            Effect::ReadNow => self.order(Request::Now),
            Effect::Copy(text) => console.copy(&text)?,
            Effect::Mouse(ours) => console.take_mouse(ours)?,
            Effect::Configure(change) => {
                // The change is there either way; only keeping it may fail.
                if let Err(problem) = settings::file::change(&state.values.configured, &change) {
                    state.say_for(Severity::Warning, problem, Stay::Long);
                }
            }
            Effect::Act(deed, targets, wall) => {
                let (machine, out) = (self.machine.clone(), self.sender.clone());
                let patience = state.values.patience;
                std::thread::spawn(move || {
                    let accounts = machine.act(&targets, &deed, patience);
                    out.send(Incoming::Event(Event::Acted(deed, targets, accounts, wall)));
                });
            }
            Effect::Look(key, subject) => self.looking.ask(key, subject),
            Effect::Seek(sought) => self.looking.seek(sought),
            Effect::LookClosely(key, time) => self.looking.closely(key, time),
            Effect::LookAway => self.looking.look_away(),
            Effect::Keep(mark) => {
                if let Err(problem) = self.keep(mark, screen) {
                    screen.state.say_for(Severity::Warning, format!("not kept: {problem}"), Stay::Long);
                }
            }
            Effect::Export(job, samples) => {
                let out = self.sender.clone();
                std::thread::spawn(move || {
                    let made = samples.take().map_or_else(|| Err(String::new()), |copy| job.work(copy));
                    out.send(Incoming::Event(Event::Exported(samples, made)));
                });
            }
            Effect::Save(name, bytes) => save(state, &name, &bytes),
            Effect::SaveScreen(ending) => {
                if let Err(problem) = save_screen(screen, console, ending) {
                    screen.state.say_for(Severity::Warning, format!("not saved: {problem}"), Stay::Long);
                }
            }
            Effect::GrowOn => self.grow_on = true,
            Effect::Alarm(bell, command) => {
                if bell {
                    console.ring()?;
                }
                let out = self.sender.clone();
                let told = move |why| _ = out.send(Incoming::Event(Event::Failed(why)));
                if let Err(why) = self.alarms.start(command, told) {
                    state.say(Severity::Warning, why);
                }
            }
            Effect::Record => {
                let out = self.sender.clone();
                self.recording.start(state, move |event| _ = out.send(Incoming::Event(event)));
            }
            Effect::StopRecording => self.recording.stop(),
        }
        Ok(())
    }

    /// Keeps a sign where the readings are kept: in the recording that is written, or where the past lies.
    fn keep(&self, mark: Mark, screen: &Screen) -> Result<(), String> {
        match (self.recording.mark(mark), &self.notes) {
            (Some(mark), Some(notes)) => {
                notes.add(screen.state.time().timeline.host(), &mark).map_err(|problem| problem.to_string())
            }
            (None, _) | (_, None) => Ok(()),
        }
    }
}

/// Saves a file in the folder that Dozor was started in, under a name that is free, and says where.
fn save(state: &mut State, name: &str, bytes: &[u8]) {
    let (stem, ending) = name.rsplit_once('.').unwrap_or((name, ""));
    let free = (1..1_000)
        .map(|number| if number == 1 { name.to_owned() } else { format!("{stem}-{number}.{ending}") })
        .find(|name| std::fs::symlink_metadata(name).is_err());
    let folder = std::env::current_dir().unwrap_or_default();
    let path = folder.join(free.unwrap_or_else(|| name.to_owned()));
    match trusted::replace(&path, bytes) {
        Ok(()) => state.say_for(Severity::Fine, format!("saved {}", path.display()), Stay::Long),
        Err(error) => {
            let why = dozor_core::text::without_number(&error);
            state.say_for(Severity::Warning, format!("not saved: {}: {why}", path.display()), Stay::Long);
        }
    }
}

/// Saves a picture of the screen as it is.
fn save_screen(screen: &mut Screen, console: &Console, ending: &str) -> Result<(), String> {
    let (width, height) = console.size().map_err(|error| error.to_string())?;
    let mut canvas = ratatui::Terminal::new(ratatui::backend::TestBackend::new(width, height))
        .map_err(|error| error.to_string())?;
    canvas.draw(|frame| screen.draw(frame, Instant::now())).map_err(|error| error.to_string())?;
    let state = &mut screen.state;
    let host = state.time().timeline.host().name.clone();
    let wall = state.moment().sample.as_ref().map_or(0, |sample| sample.now.wall_ns());
    let title = format!("{host}, {}", state.time().zone.date_time(wall));
    let picture = picture(canvas.backend().buffer(), &state.theme, &title);
    let bytes = crate::state::job::file(&picture, &host, ending)?;
    state.save(ending, bytes);
    Ok(())
}
