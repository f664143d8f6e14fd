//! Speed of network links; Documentation/ABI/testing/sysfs-class-net.

use super::number_in;
use dozor_core::known::Raw;
use std::path::Path;

/// Speed of an interface in bits per second; absent where it has none or is down.
pub fn speed_bits(sys: &Path, interface: &str) -> Raw {
    if interface.contains('/') || interface.starts_with('.') {
        return Raw::ABSENT;
    }
    let megabits = number_in(&sys.join("class/net").join(interface).join("speed"));
    megabits.filter(|megabits| *megabits > 0).and_then(|megabits| megabits.checked_mul(1_000_000)).into()
}
