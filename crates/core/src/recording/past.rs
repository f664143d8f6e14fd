//! What a table had since the last key frame: what rows that are added are written against, and how likely what stands in
//! its columns is. Since version 4 an added row is written against the row of the same name that was added
//! last: programs that run again and again use nearly the same each time. Before, it was the row added last.

use super::models::Models;
use crate::known::Raw;
use crate::row::Row;
use std::collections::HashMap;
use std::hash::Hash;

/// Names whose last row is kept.
const NAMES: usize = 512;
/// How long what served before counts.
const FADES: u32 = 16;

/// What a number of an added row may be written against, in the order in which the first of equals is taken.
pub type Bases = [Raw; 3];

/// How many digits the numbers of a column would have had against each of their [`Bases`], the newest counting most.
#[derive(Clone, Copy)]
pub struct Served([u32; 3]);

impl Served {
    /// Nobody has been served: levels begin with nothing, all others with the row added before.
    fn new(level: bool) -> Served {
        Served(if level { [0, 1, 1] } else { [1, 0, 1] })
    }

    /// What the next number is written against.
    pub fn base(self, bases: Bases) -> Raw {
        let mut best = 0;
        for other in 1..bases.len() {
            if self.0[other] < self.0[best] {
                best = other;
            }
        }
        bases[best]
    }

    /// What the number was. Where it is not known nothing follows from it.
    pub fn saw(&mut self, value: Raw, bases: Bases) {
        let Some(value) = value.value() else { return };
        for (at, (served, base)) in self.0.iter_mut().zip(bases).enumerate() {
            let difference = value.wrapping_sub(base.value().unwrap_or(0));
            // Against another it has a sign as well.
            let digits = 64 - difference.unsigned_abs().leading_zeros() + u32::from(at > 0);
            *served = *served - *served / FADES + digits * FADES;
        }
    }
}

/// What an added row follows.
#[derive(Clone, Copy)]
pub enum Kin {
    /// The row that was added before it.
    Before,
    /// A row that was added earlier in the same frame.
    Earlier(usize),
    /// The row of a name.
    Named(usize),
}

/// What a table had since the last key frame. Names are told apart by `N`.
pub struct Past<R, N> {
    /// How likely what stands in its columns is; since version 5.
    pub models: Models,
    /// The row that was added last.
    pub last: R,
    /// Its first text.
    pub last_name: N,
    /// The last row of each name.
    pub named: Vec<R>,
    places: HashMap<N, usize>,
    /// For each name which of the rows that are being added is the last.
    newest: Vec<Option<usize>>,
    /// Of each column of numbers.
    pub served: Vec<Served>,
}

impl<R: Row, N: Default> Default for Past<R, N> {
    fn default() -> Past<R, N> {
        Past {
            models: Models::default(),
            last: R::default(),
            last_name: N::default(),
            named: vec![],
            places: HashMap::new(),
            newest: vec![],
            served: vec![],
        }
    }
}

impl<R: Row, N: Clone + Eq + Hash> Past<R, N> {
    /// Columns of numbers, each of which is a level or is not, are about to come.
    pub fn expect(&mut self, levels: impl Iterator<Item = bool>) {
        if self.served.is_empty() {
            self.served.extend(levels.map(Served::new));
        }
    }

    /// What rows of these names follow, that are about to be added in this order.
    pub fn kin<'a>(&mut self, names: impl Iterator<Item = &'a N>) -> Vec<Kin>
    where
        N: 'a,
    {
        self.newest.clear();
        self.newest.resize(self.named.len(), None);
        // One that runs again and again comes several times in a row, most often.
        let mut same: Option<(&N, Option<usize>)> = None;
        let of = |(at, name): (usize, &'a N)| {
            let place = match same {
                Some((last, place)) if last == name => place,
                _ => self.places.get(name).copied(),
            };
            same = Some((name, place));
            if let Some(place) = place {
                return self.newest[place].replace(at).map_or(Kin::Named(place), Kin::Earlier);
            }
            if self.named.len() < NAMES {
                same = Some((name, Some(self.named.len())));
                self.places.insert(name.clone(), self.named.len());
                self.named.push(R::default());
                self.newest.push(Some(at));
            }
            Kin::Before
        };
        names.enumerate().map(of).collect()
    }

    /// These are the rows that [`Past::kin`] was told of; without names where it was not asked.
    pub fn keep<'a>(&mut self, rows: impl Fn(usize) -> &'a R, count: usize, last_name: Option<&N>) {
        for (named, newest) in self.named.iter_mut().zip(&mut self.newest) {
            if let Some(at) = newest.take() {
                named.clone_from(rows(at));
            }
        }
        if let Some(last) = count.checked_sub(1) {
            self.last.clone_from(rows(last));
        }
        if let Some(name) = last_name {
            self.last_name.clone_from(name);
        }
    }
}
