//! The thread that reads a source at its interval and sends what it reads.

use crate::recordings;
use dozor_core::reading::Reading;
use dozor_core::recording::{Event as Recorded, Frames, Mark, StreamReader};
use dozor_core::source::Source;
use dozor_core::wanted::Wanted;
use dozor_linux::{files as trusted, own};
use std::io::Read;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::time::{Duration, Instant};

/// Readings follow so soon after the first: one so that rates are there at once, and one because in those the start of Dozor
/// itself has its part, and the time of cores is known in steps of 10 ms.
const SOON: [Duration; 2] = [Duration::from_millis(60), Duration::from_millis(600)];

/// A past that takes longer than this to make is shown as it grows.
const SHOWN_AFTER: Duration = Duration::from_millis(400);

/// How often it is said how far the first reading is.
const STEP: Duration = Duration::from_millis(200);

/// What comes from where readings come from.
pub enum Delivery {
    /// The first reading has come so far: so many processes, of so many.
    Reached(u32, u32),
    /// The source gave a reading.
    Reading(Arc<Reading>),
    /// Readings of the time before.
    History(Vec<Arc<Reading>>),
    /// The source gives nothing more, for this reason.
    Ended(String),
    /// Nothing comes for now, for this reason, but is waited for; nothing when it comes again.
    Waits(Option<String>),
    /// A mark came with the readings.
    Mark(Mark),
    /// Recordings have grown.
    Grown,
    /// A recording was begun beside those that are looked at.
    Begun(Arc<dyn Frames>),
    /// Dozor's own CPU time in percent of a core.
    OwnCost(f64),
}

/// What the source shall do differently.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Request {
    /// Read at another interval.
    Every(Duration),
    /// Collect other parts.
    Want(Wanted),
    /// Read only when asked, or by itself again.
    ByHand(bool),
    /// Read now.
    Now,
}

/// Takes what comes, and waits where it finds no room; says whether somebody still takes it.
pub type Out = Arc<dyn Fn(Delivery) -> bool + Send + Sync>;

/// Starts reading: `past` first, then the source. Gives the channel for orders. The first part of the past is sent before this
/// returns, so that the screen begins with it.
pub fn start(
    mut source: Box<dyn Source>,
    every: Duration,
    mut past: impl Iterator<Item = Reading> + Send + 'static,
    out: Out,
) -> Sender<Request> {
    let (sender, orders) = channel();
    let mut goes_on = send_past(&mut past, &out);
    if let Some(progress) = source.progress() {
        let out = out.clone();
        std::thread::spawn(move || {
            while let Some((done, of)) = progress.get() {
                if done > 0 && !out(Delivery::Reached(done, of)) {
                    return;
                }
                std::thread::sleep(STEP);
            }
        });
    }
    std::thread::spawn(move || {
        while goes_on == Some(true) {
            goes_on = send_past(&mut past, &out);
        }
        if goes_on.is_none() {
            return;
        }
        read_on(&mut *source, every, &orders, &out);
    });
    sender
}

/// Sends the part of the past that can be made within [`SHOWN_AFTER`]. Returns whether there may be more, or nothing when the
/// receiver is gone.
fn send_past(past: &mut impl Iterator<Item = Reading>, out: &Out) -> Option<bool> {
    let begun = Instant::now();
    let mut some = vec![];
    for reading in past {
        some.push(Arc::new(reading));
        if begun.elapsed() >= SHOWN_AFTER {
            return out(Delivery::History(some)).then_some(true);
        }
    }
    (some.is_empty() || out(Delivery::History(some))).then_some(false)
}

fn read_on(source: &mut dyn Source, mut every: Duration, orders: &Receiver<Request>, out: &Out) {
    let begun = Instant::now();
    let (mut last, mut by_hand) = (begun, false);
    let mut soon = SOON.iter().map(|after| begun + *after);
    // The next of them, until there is none.
    let mut early = soon.next();
    // What the start costs is no part of it.
    let mut settled = false;
    let mut measured: Option<(Instant, Duration)> = None;
    loop {
        let reading = Arc::new(source.read());
        let now = (Instant::now(), own::cpu_time());
        let begin = *measured.get_or_insert(now);
        let elapsed = now.0.duration_since(begin.0).as_secs_f64();
        // Before the reading, so that both are drawn in one frame.
        if elapsed >= 0.9 {
            let share = now.1.saturating_sub(begin.1).as_secs_f64() / elapsed * 100.0;
            // The first time it holds the start as well.
            if std::mem::replace(&mut settled, true) {
                out(Delivery::OwnCost(share));
            }
            measured = Some(now);
        }
        if !out(Delivery::Reading(reading)) {
            return;
        }
        if early.is_none() {
            source.settle();
        }
        // From the last due time on, so that the interval does not grow by the time that reading takes; what is
        // late is left out, not made up for.
        let mut due = early.map_or(last + every, |early| early.min(last + every));
        loop {
            let order = if by_hand {
                orders.recv().map_err(|_| RecvTimeoutError::Disconnected)
            } else {
                orders.recv_timeout(due.saturating_duration_since(Instant::now()))
            };
            match order {
                Ok(Request::Want(wanted)) => source.want(wanted),
                Ok(Request::Every(other)) => {
                    every = other;
                    due = early.map_or(Instant::now(), |early| early.min(last + every));
                }
                Ok(Request::ByHand(on)) => (by_hand, due) = (on, Instant::now()),
                Ok(Request::Now) => {
                    due = Instant::now();
                    break;
                }
                Err(RecvTimeoutError::Timeout) => break,
                Err(RecvTimeoutError::Disconnected) => return,
            }
        }
        last = if due + every < Instant::now() { Instant::now() } else { due };
        early = early.and_then(|_| soon.next());
    }
}

/// Asks for a stream once more; else why there is none.
pub type Again<R> = Box<dyn FnMut() -> Result<StreamReader<R>, String> + Send>;

/// Seconds between two questions for a stream that broke off: at first, and at most.
const AGAIN: [u64; 2] = [1, 10];

/// Reads the rest of a recording that arrives through a pipe or over a network. Where one can ask again for what broke off, it
/// is asked for until it comes.
pub fn follow<R>(mut stream: StreamReader<R>, mut again: Option<Again<R>>, out: Out)
where
    R: Read + Send + 'static,
{
    std::thread::spawn(move || {
        let mut marks_until = i64::MIN;
        while let Some(reason) = drain(&mut stream, &mut marks_until, &out) {
            let Some(again) = &mut again else {
                out(Delivery::Ended(reason));
                return;
            };
            let [mut wait, most] = AGAIN;
            let mut why = reason;
            stream = loop {
                let told = format!("the connection is lost: {why}; asked again every {wait} s");
                if !out(Delivery::Waits(Some(told))) {
                    return;
                }
                std::thread::sleep(Duration::from_secs(wait));
                wait = (wait * 2).min(most);
                match again() {
                    Ok(stream) => break stream,
                    Err(error) => why = error,
                }
            };
            if !out(Delivery::Waits(None)) {
                return;
            }
        }
    });
}

/// Hands over all that comes, and gives why nothing more does; nothing where nobody listens any more. Marks up to a time were
/// there before.
fn drain<R: Read>(stream: &mut StreamReader<R>, marks_until: &mut i64, out: &Out) -> Option<String> {
    let mut damage = None;
    loop {
        let delivery = match stream.next_event() {
            Ok(Some(Recorded::Reading { reading, .. })) => Delivery::Reading(Arc::new(*reading)),
            Ok(Some(Recorded::Mark(mark))) if mark.wall_ns <= *marks_until => continue,
            Ok(Some(Recorded::Mark(mark))) => {
                *marks_until = mark.wall_ns;
                Delivery::Mark(mark)
            }
            Ok(Some(Recorded::Damage(found))) => {
                damage = Some(found);
                continue;
            }
            Ok(None) => {
                let whole = || "the recording has ended".to_owned();
                return Some(damage.map_or_else(whole, |damage| damage.to_string()));
            }
            Err(error) => return Some(error.to_string()),
        };
        if !out(delivery) {
            return None;
        }
    }
}

/// Looks now and then whether recordings have grown, and whether their folders hold new ones.
pub fn watch(mut files: Vec<PathBuf>, folders: Vec<PathBuf>, out: Out) {
    const LOOK: Duration = Duration::from_secs(1);
    let length = |path: &PathBuf| std::fs::metadata(path).map_or(0, |data| data.len());
    std::thread::spawn(move || {
        let mut lengths: Vec<u64> = files.iter().map(length).collect();
        loop {
            std::thread::sleep(LOOK);
            let mut events = vec![];
            for folder in &folders {
                for path in recordings::in_folder(folder).unwrap_or_default() {
                    if !files.contains(&path)
                        && length(&path) > 0
                        && let Ok(file) = trusted::open(&path)
                    {
                        events.push(Delivery::Begun(Arc::new(recordings::Recorded(file))));
                        lengths.push(length(&path));
                        files.push(path);
                    }
                }
            }
            let now: Vec<u64> = files.iter().map(length).collect();
            if now.iter().zip(&lengths).any(|(now, before)| now > before) {
                events.insert(0, Delivery::Grown);
                lengths = now;
            }
            for event in events {
                if !out(event) {
                    return;
                }
            }
        }
    });
}
