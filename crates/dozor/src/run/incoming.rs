//! What the other threads send to the one that draws: signals stand in front of everything, what is typed and what else comes have
//! bounds, and whoever meets one waits until there is room.

use crate::feed;
use crate::screen::Event;
use std::collections::VecDeque;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

/// Keys, moves of the mouse and pasted texts that wait at most.
const TYPED: usize = 4_096;
/// Readings and answers that wait at most: each holds thousands of rows.
const OTHERS: usize = 4;

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

/// What waits.
#[derive(Default)]
struct Waiting {
    /// Signals and the end of the terminal. There are only so many kinds, and each waits once.
    signals: Vec<Incoming>,
    typed: VecDeque<Event>,
    others: VecDeque<Event>,
    /// Nobody takes anything any more.
    closed: bool,
    /// What was typed was taken last: the others are next.
    typed_last: bool,
}

#[derive(Default)]
struct Shared {
    waiting: Mutex<Waiting>,
    /// Something came, or there is room again.
    changed: Condvar,
}

impl Shared {
    fn waiting(&self) -> MutexGuard<'_, Waiting> {
        self.waiting.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// For those who send.
#[derive(Clone)]
pub struct Post(Arc<Shared>);

/// For the thread that draws.
pub struct Inbox(Arc<Shared>);

impl Drop for Inbox {
    fn drop(&mut self) {
        let mut waiting = self.0.waiting();
        waiting.closed = true;
        (waiting.typed, waiting.others) = (VecDeque::new(), VecDeque::new());
        drop(waiting);
        self.0.changed.notify_all();
    }
}

/// What is taken at once.
pub enum Taken {
    /// A signal, the end of the terminal.
    Signal(Incoming),
    /// All that was typed, in its order.
    Typed(Vec<Event>),
    /// Anything else.
    Other(Event),
}

/// A way from those who send to the thread that draws.
pub fn channel() -> (Post, Inbox) {
    let shared = Arc::new(Shared::default());
    (Post(shared.clone()), Inbox(shared))
}

impl Post {
    /// For what reads a source.
    pub fn of_feed(&self) -> feed::Out {
        let post = self.clone();
        Arc::new(move |delivery| post.send(Incoming::Event(Event::Feed(delivery))))
    }

    /// Sends, and waits where there is no room; says whether somebody still takes it.
    pub fn send(&self, incoming: Incoming) -> bool {
        let mut waiting = self.0.waiting();
        match incoming {
            Incoming::Event(event) => {
                let is_typed = matches!(event, Event::Key(_) | Event::Mouse(_) | Event::Paste(_));
                loop {
                    let full =
                        if is_typed { waiting.typed.len() >= TYPED } else { waiting.others.len() >= OTHERS };
                    if waiting.closed || !full {
                        break;
                    }
                    waiting = self.0.changed.wait(waiting).unwrap_or_else(PoisonError::into_inner);
                }
                if waiting.closed {
                    return false;
                }
                if is_typed { waiting.typed.push_back(event) } else { waiting.others.push_back(event) }
            }
            signal => {
                let kind = std::mem::discriminant(&signal);
                waiting.signals.retain(|other| std::mem::discriminant(other) != kind);
                waiting.signals.push(signal);
            }
        }
        let open = !waiting.closed;
        drop(waiting);
        self.0.changed.notify_all();
        open
    }
}

impl Inbox {
    /// A signal that waits.
    pub fn signal(&self) -> Option<Incoming> {
        let mut waiting = self.0.waiting();
        (!waiting.signals.is_empty()).then(|| waiting.signals.remove(0))
    }

    /// What comes next: a signal, or else by turns what was typed and the others; nothing where nothing comes in that time.
    pub fn take(&self, at_most: Duration) -> Option<Taken> {
        let end = Instant::now() + at_most;
        let mut waiting = self.0.waiting();
        loop {
            if !waiting.signals.is_empty() {
                return Some(Taken::Signal(waiting.signals.remove(0)));
            }
            let typed = !waiting.typed.is_empty() && (!waiting.typed_last || waiting.others.is_empty());
            waiting.typed_last = typed;
            let taken = if typed {
                Some(Taken::Typed(std::mem::take(&mut waiting.typed).into()))
            } else {
                waiting.others.pop_front().map(Taken::Other)
            };
            if taken.is_some() {
                drop(waiting);
                self.0.changed.notify_all();
                return taken;
            }
            let left = end.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return None;
            }
            (waiting, _) = self.0.changed.wait_timeout(waiting, left).unwrap_or_else(PoisonError::into_inner);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

    fn key(letter: char) -> Incoming {
        Incoming::Event(Event::Key(KeyEvent::new(KeyCode::Char(letter), KeyModifiers::NONE)))
    }

    #[test]
    fn signals_stand_in_front_and_what_is_typed_does_not_keep_readings_waiting() {
        let (post, inbox) = channel();
        for letter in ['a', 'b'] {
            assert!(post.send(key(letter)));
        }
        assert!(post.send(Incoming::Event(Event::Tick)) && post.send(Incoming::Event(Event::Tick)));
        assert!(
            post.send(Incoming::Resized) && post.send(Incoming::Resized) && post.send(Incoming::Stop(15))
        );
        let mut order = vec![];
        while let Some(taken) = inbox.take(Duration::ZERO) {
            order.push(match taken {
                Taken::Signal(Incoming::Stop(_)) => "stop",
                Taken::Signal(_) => "resized",
                Taken::Typed(keys) => {
                    assert_eq!(keys.len(), 2, "all of them together");
                    assert!(post.send(key('c')) && post.send(key('d')));
                    if order.len() < 4 { "typed" } else { break }
                }
                Taken::Other(_) => "other",
            });
        }
        assert_eq!(order, ["resized", "stop", "typed", "other"]);
    }

    #[test]
    fn whoever_meets_the_bound_waits_until_there_is_room_or_nobody_takes_anything() {
        let (post, inbox) = channel();
        let sender = std::thread::spawn(move || {
            let mut sent = 0;
            while post.send(Incoming::Event(Event::Tick)) {
                sent += 1;
            }
            sent
        });
        let begin = Instant::now();
        while inbox.0.waiting().others.len() < OTHERS {
            assert!(begin.elapsed() < Duration::from_secs(20));
            std::thread::yield_now();
        }
        std::thread::sleep(Duration::from_millis(20));
        assert_eq!(inbox.0.waiting().others.len(), OTHERS);
        assert!(matches!(inbox.take(Duration::ZERO), Some(Taken::Other(Event::Tick))));
        drop(inbox);
        assert!((OTHERS..OTHERS + 3).contains(&sender.join().expect("it ends")));
    }
}
