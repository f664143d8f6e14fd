//! Which processes are shown, and in which order.

mod narrow;
mod order;
mod persistence;

pub use narrow::Narrow;
pub use order::Order;
pub use persistence::Persistence;

use crate::reading::ProcessRow;
use crate::sample::{ProcessView, Sample};

/// A row of the table.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Listed {
    /// The process in this place of the sample.
    Here(usize),
    /// The one in this place among those who are gone; see [`crate::aside`].
    Gone(usize),
}

/// A sample with those who are gone.
#[derive(Clone, Copy)]
pub struct Everybody<'a> {
    /// Those that are there.
    pub here: &'a Sample,
    /// Those who are just gone, and those that came and went unseen.
    pub gone: &'a Sample,
}

impl<'a> Everybody<'a> {
    /// The process of a row.
    pub fn view(&self, listed: Listed) -> ProcessView<'a> {
        match listed {
            Listed::Here(at) => self.here.process(at),
            Listed::Gone(at) => self.gone.process(at),
        }
    }

    /// Rows that are kept, in order.
    pub fn ranked(&self, keeps: impl Fn(&ProcessRow) -> bool, order: &Order) -> Vec<Listed> {
        let here = (0..self.here.now.processes.len()).map(Listed::Here);
        let gone = (0..self.gone.now.processes.len()).map(Listed::Gone);
        let mut rows: Vec<Listed> = here.chain(gone).filter(|row| keeps(self.view(*row).now)).collect();
        order.sort(|row| self.view(*row), &mut rows);
        rows
    }
}

/// Places of the processes that match, in order.
pub fn ranked(sample: &Sample, narrow: &Narrow, order: &Order) -> Vec<usize> {
    let mut places: Vec<usize> =
        (0..sample.now.processes.len()).filter(|at| narrow.keeps(&sample.now.processes[*at])).collect();
    order.sort(|at| sample.process(*at), &mut places);
    places
}
