//! Something for each lane.

use super::Lane;
use std::ops::{Index, IndexMut};

/// Something for each lane, found by the lane.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct PerLane<T>([T; 5]);

impl<T> PerLane<T> {
    /// Asks for it lane by lane.
    pub fn from_fn(of: impl FnMut(Lane) -> T) -> PerLane<T> {
        PerLane(Lane::ALL.map(of))
    }

    /// All, from the top to the bottom.
    pub fn iter(&self) -> impl Iterator<Item = (Lane, &T)> {
        Lane::ALL.into_iter().zip(&self.0)
    }
}

impl<T> Index<Lane> for PerLane<T> {
    type Output = T;

    fn index(&self, lane: Lane) -> &T {
        &self.0[lane as usize]
    }
}

impl<T> IndexMut<Lane> for PerLane<T> {
    fn index_mut(&mut self, lane: Lane) -> &mut T {
        &mut self.0[lane as usize]
    }
}
