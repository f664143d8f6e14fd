//! Which processes are shown, and in which order.

mod narrow;
mod order;

pub use narrow::Narrow;
pub use order::Order;

use crate::sample::Sample;

/// Places of the processes that match, in order.
pub fn ranked(sample: &Sample, narrow: &Narrow, order: &Order) -> Vec<usize> {
    let mut places: Vec<usize> =
        (0..sample.now.processes.len()).filter(|at| narrow.keeps(&sample.now.processes[*at])).collect();
    order.sort(sample, &mut places);
    places
}
