//! What the other threads send to the one that draws.

use crate::feed::Delivery;
use crate::screen::Event;

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

impl From<Delivery> for Incoming {
    fn from(delivery: Delivery) -> Incoming {
        Incoming::Event(Event::Feed(delivery))
    }
}
