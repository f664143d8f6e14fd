//! Wall clock times as text: the zone of this machine.

pub use dozor_core::clock::Zone;
use jiff::tz::TimeZone;

/// The zone of this machine, by its name where it has one.
pub fn of_this_machine() -> Zone {
    Zone::of(TimeZone::system())
}
