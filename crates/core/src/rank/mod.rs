//! Which processes are shown, and in which order.

mod narrow;
mod order;
mod persistence;

pub use narrow::Narrow;
pub use order::Order;
pub use persistence::{NearTop, Persistence};

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

    /// All rows.
    pub fn all(&self) -> impl Iterator<Item = Listed> + use<> {
        let here = (0..self.here.now.processes.len()).map(Listed::Here);
        here.chain((0..self.gone.now.processes.len()).map(Listed::Gone))
    }

    /// Rows that are kept, in order; ties go by PID.
    pub fn ranked(&self, keeps: impl Fn(&ProcessRow) -> bool, order: &Order) -> Vec<Listed> {
        self.ranked_from(self.all(), keeps, order)
    }

    /// The same, but ties stay in the order that the rows of the sample just before had: a process that falls asleep
    /// does not change places with all the others that sleep. Processes that were not there come last among equals.
    pub fn ranked_after(
        &self,
        rows: &[Listed],
        keeps: impl Fn(&ProcessRow) -> bool,
        order: &Order,
    ) -> Vec<Listed> {
        let count = self.here.now.processes.len();
        let earlier = self.here.before.as_ref().map_or(0, |before| before.processes.len());
        let mut now_at = vec![None; earlier];
        for at in 0..count {
            if let Some(place) = self.here.earlier_place(at) {
                now_at[place] = Some(at);
            }
        }
        let mut taken = vec![false; count];
        let mut start: Vec<Listed> = vec![];
        for row in rows {
            if let Listed::Here(place) = row
                && let Some(at) = now_at.get(*place).copied().flatten()
            {
                taken[at] = true;
                start.push(Listed::Here(at));
            }
        }
        let new = (0..count).filter(|at| !taken[*at]).map(Listed::Here);
        let gone = (0..self.gone.now.processes.len()).map(Listed::Gone);
        self.ranked_from(start.into_iter().chain(new).chain(gone), keeps, order)
    }

    fn ranked_from(
        &self,
        rows: impl Iterator<Item = Listed>,
        keeps: impl Fn(&ProcessRow) -> bool,
        order: &Order,
    ) -> Vec<Listed> {
        let mut rows: Vec<Listed> = rows.filter(|row| keeps(self.view(*row).now)).collect();
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
