//! The three clocks of a reading; `clock_gettime(2)`.

use dozor_core::units::NANOS;
use rustix::time::{ClockId, clock_gettime};

/// The clocks at one instant, in nanoseconds.
#[derive(Clone, Copy, Debug)]
pub struct Clocks {
    /// Since 1970 (UTC).
    pub wall: i64,
    /// Since boot, without suspend.
    pub monotonic: i64,
    /// Since boot, with suspend.
    pub boot: i64,
}

/// Reads the three clocks one after another, some tens of nanoseconds apart.
pub fn now() -> Clocks {
    let read = |id| {
        let time = clock_gettime(id);
        time.tv_sec.saturating_mul(NANOS).saturating_add(time.tv_nsec)
    };
    Clocks {
        wall: read(ClockId::Realtime),
        monotonic: read(ClockId::Monotonic),
        boot: read(ClockId::Boottime),
    }
}

/// Nanoseconds since boot, without suspend.
pub fn monotonic_ns() -> i64 {
    now().monotonic
}

/// Nanoseconds in clock ticks, as the kernel tells them.
pub fn ticks(nanoseconds: u64, second: i64) -> i64 {
    (nanoseconds / (NANOS as u64 / second.max(1) as u64).max(1)) as i64
}
