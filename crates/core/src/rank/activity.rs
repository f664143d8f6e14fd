//! Who does something.

use crate::catalogue::{Metric, listed};
use crate::sample::{ProcessView, process_state};
use std::sync::LazyLock;

/// What an active process uses.
pub fn uses() -> &'static [&'static Metric] {
    static USES: LazyLock<[&Metric; 3]> = LazyLock::new(|| ["cpu", "disk", "net"].map(listed));
    &*USES
}

/// Whether a process used a core, a disk or the network in its sample, wants to (it runs or is blocked), or has just
/// started.
pub fn is_active(process: &ProcessView<'_>) -> bool {
    matches!(process_state(process.now), Some("running" | "blocked"))
        || process.born
        || uses().iter().any(|metric| metric.of(process).number().is_some_and(|used| used > 0.0))
}
