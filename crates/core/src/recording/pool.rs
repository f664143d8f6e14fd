//! What frames changed in a table of shared rows, so that who follows it needs to touch nothing else.

use crate::row::Cells;

/// Rows that are kept for later, at most.
const SPARE: usize = 4_096;

/// What is read of a table, what the newest frames changed in that, and rows that nobody needs any more.
pub struct Pool<H> {
    /// What of the rows is read.
    pub cells: Cells,
    /// Rows that nobody needs any more: their memory is that of the next ones.
    pub spare: Vec<H>,
    /// Places of the rows that the newest frame changed; none where rows came or went.
    newest: Option<Vec<usize>>,
    /// The same of the frame before.
    earlier: Option<Vec<usize>>,
}

impl<H> Default for Pool<H> {
    fn default() -> Pool<H> {
        Pool::of(Cells::ALL)
    }
}

impl<H> Pool<H> {
    /// Of a table of whose rows these cells are read.
    pub fn of(cells: Cells) -> Pool<H> {
        Pool { cells, spare: vec![], newest: None, earlier: None }
    }

    /// Places of the rows that the newest frame changed; none where rows came or went.
    pub fn newest(&self) -> Option<&[usize]> {
        self.newest.as_deref()
    }

    /// Another frame is taken in. Until it is said otherwise rows came or went.
    pub fn turn(&mut self) {
        self.earlier = self.newest.take();
    }

    /// The newest frame put other rows into the table.
    pub fn replaced(&mut self) {
        self.newest = None;
    }

    /// The newest frame changed what is read of the rows in these places, and no row came or went.
    pub fn changed(&mut self, places: Vec<usize>) {
        self.newest = Some(places);
    }

    /// Brings the rows as they were two frames ago to what they are now. Rows that nobody else has are kept.
    pub fn renew(&mut self, old: &mut Vec<H>, now: &[H], is_alone: impl Fn(&H) -> bool)
    where
        H: Clone,
    {
        let Pool { spare, newest: Some(newest), earlier: Some(earlier), .. } = self else {
            old.clear();
            old.extend_from_slice(now);
            return;
        };
        // The last is the first to be taken again, and has the texts of who changes first, most often.
        for place in newest.iter().chain(&*earlier).rev() {
            let row = std::mem::replace(&mut old[*place], now[*place].clone());
            if spare.len() < SPARE && is_alone(&row) {
                spare.push(row);
            }
        }
    }
}
