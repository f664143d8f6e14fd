//! Tables of rows as bytes, since version 2: column by column, so that what is alike stands together. Written here, read in
//! [`tables`](super::tables).
//!
//! A changed row is written against itself before, an added one against the row of its name that was added last
//! ([`Past`]).

use super::codec::Holder;
use super::coder::Coder;
use super::mapping::is_clock;
use super::models::{Models, StepModel};
use super::numbers::{Out, put_number};
use super::past::{Kin, Past, Served};
use super::texts::Written;
use crate::known::Raw;
use crate::row::{Field, Kind, Row};
use crate::text::Text;
use std::cmp::Ordering;

/// Appends rising indexes as steps.
fn put_steps(indexes: &[usize], model: &mut StepModel, coder: &mut Coder) {
    model.count.put(indexes.len() as u64, coder);
    let mut next = 0;
    for index in indexes {
        model.step.put((index - next) as u64, coder);
        next = index + 1;
    }
}

/// Appends a table as its difference from the table before; both are sorted by key. `added` is what was added to the table
/// since the last key frame.
pub fn put_table<R: Row, H: Holder<R>>(
    rows: &[H],
    before: &[H],
    past: &mut Past<R, Text>,
    texts: &mut Written,
    out: &mut Out,
) {
    let (mut removed, mut changed, mut new_rows) = (vec![], vec![], vec![]);
    let mut bases: Vec<(&R, &R)> = vec![];
    let (mut old, mut new, mut kept) = (0, 0, 0);
    while old < before.len() || new < rows.len() {
        let ordering = match (before.get(old), rows.get(new)) {
            (Some(a), Some(b)) if a.same(b) => {
                (old, new, kept) = (old + 1, new + 1, kept + 1);
                continue;
            }
            (Some(a), Some(b)) => a.row().key().cmp(&b.row().key()),
            (Some(_), None) => Ordering::Less,
            (None, _) => Ordering::Greater,
        };
        match ordering {
            Ordering::Less => {
                removed.push(old);
                old += 1;
            }
            Ordering::Greater => {
                new_rows.push(rows[new].row());
                new += 1;
            }
            Ordering::Equal => {
                changed.push(kept);
                bases.push((rows[new].row(), before[old].row()));
                (old, new, kept) = (old + 1, new + 1, kept + 1);
            }
        }
    }
    let models = &mut past.models;
    put_steps(&removed, &mut models.removed, &mut out.coder);
    put_steps(&changed, &mut models.changed, &mut out.coder);
    models.added.put(new_rows.len() as u64, &mut out.coder);
    if changed.is_empty() && new_rows.is_empty() {
        return;
    }
    let kin = match R::TEXTS.first() {
        Some(name) => past.kin(new_rows.iter().map(|row| (name.get)(row))),
        None => vec![Kin::Before; new_rows.len()],
    };
    past.expect(R::FIELDS.iter().map(|field| field.kind == Kind::Level));
    let Past { models, last, named, served, .. } = &mut *past;
    let mut prior = &*last;
    for (row, kin) in new_rows.iter().zip(kin) {
        let kin = match kin {
            Kin::Before => prior,
            Kin::Earlier(at) => new_rows[at],
            Kin::Named(place) => &named[place],
        };
        bases.push((row, kin));
        prior = row;
    }
    let table = Differences { rows: &bases, changed: changed.len(), last };
    table.put(served, models, texts, out);
    past.keep(|at| new_rows[at], new_rows.len(), None);
}

/// Rows that are otherwise than others, each with its base. Behind the changed rows stand the added ones.
struct Differences<'a, R> {
    rows: &'a [(&'a R, &'a R)],
    changed: usize,
    /// The row that was added before them.
    last: &'a R,
}

impl<R: Row> Differences<'_, R> {
    /// The row that was added before an added one.
    fn prior(&self, at: usize) -> &R {
        if at == self.changed { self.last } else { self.rows[at - 1].0 }
    }

    /// What a row has otherwise. Whose name an added row shares is only known once its name is.
    fn differs(&self, at: usize) -> u64 {
        let (row, base) = self.rows[at];
        let first = if at < self.changed { base } else { self.prior(at) };
        let texts = R::TEXTS.iter().enumerate();
        let texts =
            texts.map(|(place, text)| (text.get)(row) != (text.get)(if place == 0 { first } else { base }));
        let fields = R::FIELDS.iter().map(|field| (field.get)(row) != (field.get)(base));
        texts.chain(fields).enumerate().fold(0u64, |map, (at, bit)| map | u64::from(bit) << at)
    }

    /// Appends which columns each row has, and the values.
    fn put(&self, served: &mut [Served], models: &mut Models, texts: &mut Written, out: &mut Out) {
        let all_columns = R::TEXTS.len() + R::FIELDS.len();
        const { assert!(R::TEXTS.len() + R::FIELDS.len() <= 64, "the bitmap has 64 bits") }
        models.expect(R::TEXTS.len(), R::FIELDS.len());
        let maps: Vec<u64> = (0..self.rows.len()).map(|at| self.differs(at)).collect();
        for (at, map) in maps.iter().enumerate() {
            models.maps.of(at < self.changed).put(*map, all_columns, &mut out.coder);
        }
        let all = maps.iter().fold(0, |all, map| all | map);
        let columns = (0..all_columns).filter(|at| all >> at & 1 == 1);
        let mut clocks = Clocks::new(self.rows.len());
        for column in columns {
            let rows =
                self.rows.iter().zip(&maps).enumerate().filter(|(_, (_, map))| *map >> column & 1 == 1);
            match column.checked_sub(R::TEXTS.len()) {
                None => {
                    for (_, ((row, _), _)) in rows {
                        texts.put((R::TEXTS[column].get)(row), &mut models.texts[column], out);
                    }
                }
                Some(place) => {
                    let Field { get, kind, unit, .. } = R::FIELDS[place];
                    let clock = is_clock(kind.word(), unit);
                    rows.for_each(|(at, ((row, base), _))| {
                        let value = get(row);
                        let model = models.numbers[place].of(at < self.changed);
                        if at < self.changed {
                            let base = if clock { clocks.expected(at, get(base)) } else { get(base) };
                            put_number(value, base, model, out);
                        } else {
                            let bases = [Raw::ABSENT, get(self.prior(at)), get(base)];
                            put_number(value, served[place].base(bases), model, out);
                            served[place].saw(value, bases);
                        }
                        if clock && at < self.changed {
                            clocks.saw(at, value);
                        }
                    });
                }
            }
        }
    }
}

/// What the first clock of each row went forward by: the others are expected to do the same.
pub struct Clocks {
    moved: Vec<Option<i64>>,
    base: i64,
}

impl Clocks {
    pub fn new(rows: usize) -> Clocks {
        Clocks { moved: vec![None; rows], base: 0 }
    }

    /// What a clock of a row shows that showed `base` before.
    pub fn expected(&mut self, row: usize, base: Raw) -> Raw {
        self.base = base.value().unwrap_or(0);
        base.value().map_or(base, |base| Raw::new(base.wrapping_add(self.moved[row].unwrap_or(0))))
    }

    /// What a clock went forward by that nobody looks at, or an added row shows.
    pub fn passed(&mut self, row: usize, step: Raw) {
        if let Some(moved) = self.moved.get_mut(row) {
            moved.get_or_insert(step.value().unwrap_or(0));
        }
    }

    /// What it showed in fact.
    pub fn saw(&mut self, row: usize, value: Raw) {
        self.moved[row].get_or_insert(value.value().map_or(0, |value| value.wrapping_sub(self.base)));
    }
}
