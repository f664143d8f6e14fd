//! Tables of rows as bytes, since version 2: column by column, so that what is alike stands together.
//!
//! A changed row is written against itself before, an added one against the row that was added last: processes that
//! start one after another have nearly everything in common. Where their levels differ they have nothing to do with each
//! other and are written as they are.

use super::codec::{Bytes, DecodeError, Holder, Read, Written, put_varint};
use super::mapping::{Columns, is_clock};
use super::numbers::{In, Out, number, pass, put_number};
use super::pool::Pool;
use crate::known::Raw;
use crate::row::{Cells, Field, Kind, Row};
use crate::text::Text;
use std::cmp::Ordering;

/// Appends rising indexes as steps.
fn put_steps(indexes: &[usize], out: &mut Vec<u8>) {
    put_varint(indexes.len() as u128, out);
    let mut next = 0;
    for index in indexes {
        put_varint((index - next) as u128, out);
        next = index + 1;
    }
}

/// Rising indexes, each below `end`.
fn steps(end: usize, bytes: &mut Bytes<'_>) -> Result<Vec<usize>, DecodeError> {
    let count = bytes.count()?;
    let mut next = 0;
    // Each takes a byte at least.
    let mut indexes = Vec::with_capacity(count.min(bytes.0.len()));
    for _ in 0..count {
        let index = next + bytes.count()?;
        if index >= end {
            return Err(DecodeError::NoSuch);
        }
        indexes.push(index);
        next = index + 1;
    }
    Ok(indexes)
}

/// Appends a table as its difference from the table before; both are sorted by key. `added_last` is the row that was
/// added to the table last, since the last key frame.
pub fn put_table<R: Row, H: Holder<R>>(
    rows: &[H],
    before: &[H],
    added_last: &mut R,
    texts: &mut Written,
    out: &mut Out,
) {
    let (mut removed, mut changed, mut added) = (vec![], vec![], vec![]);
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
                added.push(new);
                new += 1;
            }
            Ordering::Equal => {
                changed.push(kept);
                bases.push((rows[new].row(), before[old].row()));
                (old, new, kept) = (old + 1, new + 1, kept + 1);
            }
        }
    }
    put_steps(&removed, &mut out.bytes);
    put_steps(&changed, &mut out.bytes);
    put_varint(added.len() as u128, &mut out.bytes);
    let mut base: &R = added_last;
    for new in &added {
        bases.push((rows[*new].row(), base));
        base = rows[*new].row();
    }
    put_cells(&bases, changed.len(), texts, out);
    if let Some(last) = added.last() {
        *added_last = rows[*last].row().clone();
    }
}

/// Appends what rows have otherwise than others: which columns, in which rows, and the values. Behind the changed rows
/// stand the added ones.
fn put_cells<R: Row>(rows: &[(&R, &R)], changed: usize, texts: &mut Written, out: &mut Out) {
    const { assert!(R::TEXTS.len() + R::FIELDS.len() <= 64, "the bitmap has 64 bits") }
    if rows.is_empty() {
        return;
    }
    let differs = |row: &R, base: &R| {
        let texts = R::TEXTS.iter().map(|field| (field.get)(row) != (field.get)(base));
        let fields = R::FIELDS.iter().map(|field| (field.get)(row) != (field.get)(base));
        texts.chain(fields).enumerate().fold(0u64, |map, (at, bit)| map | u64::from(bit) << at)
    };
    let maps: Vec<u64> = rows.iter().map(|(row, base)| differs(row, base)).collect();
    let all = maps.iter().fold(0, |all, map| all | map);
    put_varint(u128::from(all), &mut out.bytes);
    let columns = || (0..R::TEXTS.len() + R::FIELDS.len()).filter(|at| all >> at & 1 == 1);
    // A single row has all of them.
    if rows.len() > 1 {
        for column in columns() {
            for eight in maps.chunks(8) {
                let bits = eight.iter().enumerate().map(|(at, map)| ((map >> column & 1) as u8) << at);
                out.bytes.push(bits.fold(0, |byte, bit| byte | bit));
            }
        }
    }
    let mut clocks = Clocks::new(rows.len());
    for column in columns() {
        let rows = rows.iter().zip(&maps).enumerate().filter(|(_, (_, map))| *map >> column & 1 == 1);
        match column.checked_sub(R::TEXTS.len()) {
            None => {
                for (_, ((row, _), _)) in rows {
                    texts.put((R::TEXTS[column].get)(row), &mut out.bytes);
                }
            }
            Some(at) => {
                let Field { get, kind, unit, .. } = R::FIELDS[at];
                let clock = is_clock(kind.word(), unit);
                rows.for_each(|(at, ((row, base), _))| {
                    let base = match at < changed {
                        true if clock => clocks.expected(at, get(base)),
                        false if kind == Kind::Level => Raw::ABSENT,
                        _ => get(base),
                    };
                    put_number(get(row), base, out);
                    if clock {
                        clocks.saw(at, get(row));
                    }
                });
            }
        }
    }
}

/// What the first clock of each row went forward by: the others are expected to do the same.
struct Clocks {
    moved: Vec<Option<i64>>,
    base: i64,
}

impl Clocks {
    fn new(rows: usize) -> Clocks {
        Clocks { moved: vec![None; rows], base: 0 }
    }

    /// What a clock of a row shows that showed `base` before.
    fn expected(&mut self, row: usize, base: Raw) -> Raw {
        self.base = base.value().unwrap_or(0);
        base.value().map_or(base, |base| Raw::new(base.wrapping_add(self.moved[row].unwrap_or(0))))
    }

    /// What a clock went forward by that nobody looks at, or an added row shows.
    fn passed(&mut self, row: usize, step: Raw) {
        if let Some(moved) = self.moved.get_mut(row) {
            moved.get_or_insert(step.value().unwrap_or(0));
        }
    }

    /// What it showed in fact.
    fn saw(&mut self, row: usize, value: Raw) {
        self.moved[row].get_or_insert(value.value().map_or(0, |value| value.wrapping_sub(self.base)));
    }
}

/// The union of the bitmaps of some rows, and the bits of each column in it.
struct Bitmaps<'a> {
    all: u64,
    bits: &'a [u8],
    bytes_each: usize,
    single: bool,
}

impl<'a> Bitmaps<'a> {
    fn read(rows: usize, known: usize, bytes: &mut Bytes<'a>) -> Result<Bitmaps<'a>, DecodeError> {
        let all = u64::try_from(bytes.varint()?).map_err(|_| DecodeError::TooLarge)?;
        if known < 64 && all >> known != 0 {
            return Err(DecodeError::NoSuch);
        }
        let single = rows == 1;
        let bytes_each = if single { 0 } else { rows.div_ceil(8) };
        let bits = bytes.take(all.count_ones() as usize * bytes_each)?;
        // Bits behind the last row.
        let behind =
            |bits: &[u8]| !rows.is_multiple_of(8) && bits.last().is_some_and(|last| last >> (rows % 8) != 0);
        if !single && bits.chunks(bytes_each.max(1)).any(behind) {
            return Err(DecodeError::NoSuch);
        }
        Ok(Bitmaps { all, bits, bytes_each, single })
    }

    /// The columns, each with its place among them.
    fn columns(&self) -> impl Iterator<Item = (usize, usize)> + use<> {
        let mut rest = self.all;
        let next = move || {
            let column = (rest != 0).then_some(rest.trailing_zeros() as usize);
            rest &= rest.wrapping_sub(1);
            column
        };
        std::iter::from_fn(next).enumerate()
    }

    /// Which of the first rows have something in a column that matters.
    fn touched(&self, rows: usize, matters: impl Fn(usize) -> bool) -> Vec<bool> {
        let mut all = vec![0; self.bytes_each];
        let mut any = false;
        for (place, _) in self.columns().filter(|(_, column)| matters(*column)) {
            let bits = &self.bits[place * self.bytes_each..][..self.bytes_each];
            all.iter_mut().zip(bits).for_each(|(all, bits)| *all |= bits);
            any = true;
        }
        (0..rows).map(|row| if self.single { any } else { all[row / 8] >> (row % 8) & 1 == 1 }).collect()
    }

    /// How many rows have something in a column, by its place among the columns.
    fn count(&self, place: usize) -> usize {
        if self.single {
            return 1;
        }
        let bits = &self.bits[place * self.bytes_each..(place + 1) * self.bytes_each];
        bits.iter().map(|byte| byte.count_ones() as usize).sum()
    }

    /// Puts the places of the rows into `places` that have something in a column, by its place among the columns.
    fn rows(&self, place: usize, places: &mut Vec<usize>) {
        places.clear();
        if self.single {
            places.push(0);
        }
        let bits = &self.bits[place * self.bytes_each..(place + 1) * self.bytes_each];
        for (at, byte) in bits.iter().enumerate() {
            let mut rest = *byte;
            while rest != 0 {
                places.push(at * 8 + rest.trailing_zeros() as usize);
                rest &= rest - 1;
            }
        }
    }
}

impl<R: Row> Columns<R> {
    /// Where a column goes to; nowhere where nobody looks at it, or this version does not know it.
    fn ours(&self, column: usize, cells: Cells) -> Option<Ours<R>> {
        match column.checked_sub(self.texts.len()) {
            None => self.texts[column]
                .filter(|ours| cells.has_text(*ours))
                .map(|ours| Ours::Text(R::TEXTS[ours].set)),
            Some(field) => self.fields[field]
                .filter(|ours| cells.has_number::<R>(*ours))
                .map(|ours| Ours::Number(&R::FIELDS[ours])),
        }
    }

    /// Changes a table by a difference; the result is sorted by key. `room` is how many bytes of rows the
    /// part may still have. Of the rows only the cells of the pool are read.
    pub fn change<H: Holder<R>>(
        &self,
        rows: &mut Vec<H>,
        pool: &mut Pool<H>,
        added_last: &mut R,
        texts: &mut Read,
        room: &mut usize,
        input: &mut In<'_>,
    ) -> Result<(), DecodeError> {
        let cells = pool.cells;
        pool.turn();
        let removed = steps(rows.len(), &mut input.bytes)?;
        if !removed.is_empty() {
            let (mut gone, mut at) = (removed.iter().peekable(), 0);
            rows.retain(|_| {
                at += 1;
                gone.next_if(|index| **index == at - 1).is_none()
            });
        }
        let mut changed = steps(rows.len(), &mut input.bytes)?;
        let added = input.bytes.count()?;
        *room = room.checked_sub((rows.len() + added) * size_of::<R>()).ok_or(DecodeError::TooMany)?;
        if changed.is_empty() && added == 0 {
            if removed.is_empty() {
                pool.changed(changed);
            }
            return Ok(());
        }
        let known = self.texts.len() + self.fields.len();
        let bitmaps = Bitmaps::read(changed.len() + added, known, &mut input.bytes)?;
        if let (true, [at]) = (bitmaps.single, &changed[..]) {
            let row = rows[*at].edit(&mut pool.spare);
            self.change_one(row, &bitmaps, cells, texts, input)?;
            if removed.is_empty() {
                pool.changed(changed);
            }
            return Ok(());
        }
        let mut fresh: Vec<R> = (0..added).map(|_| added_last.clone()).collect();
        // Who changed in nothing that somebody looks at is left alone.
        let touched = bitmaps.touched(changed.len(), |column| self.ours(column, cells).is_some());
        // Shared rows are copied once, not for each of their cells.
        let mut old: Vec<Option<&mut R>> = Vec::with_capacity(changed.len());
        let (mut rest, mut next) = (&mut rows[..], 0);
        for (at, touched) in changed.iter().zip(&touched) {
            let Some((row, behind)) = rest.split_at_mut(at - next).1.split_first_mut() else { break };
            old.push(touched.then(|| row.edit(&mut pool.spare)));
            (rest, next) = (behind, at + 1);
        }
        let mut places = vec![];
        let mut clocks = self.clocks_of(changed.len());
        for (place, column) in bitmaps.columns() {
            let Some(ours) = self.ours(column, cells) else {
                self.pass_column((place, column), &bitmaps, &mut clocks, texts, input)?;
                continue;
            };
            bitmaps.rows(place, &mut places);
            let places = Places { all: &places, changed: changed.len() };
            match ours {
                Ours::Text(set) => text_column(set, places, &mut old, &mut fresh, texts, input)?,
                Ours::Number(ours) => {
                    let field = column - self.texts.len();
                    let clocks = self.clocks[field].then_some(&mut clocks);
                    let last = (ours.get)(added_last);
                    let numbers = Numbers { ours, alone: self.levels[field], last };
                    numbers.read(places, &mut old, &mut fresh, clocks, input)?;
                }
            }
        }
        let mut touched = touched.iter();
        changed.retain(|_| touched.next() == Some(&true));
        let Some(last) = fresh.last() else {
            if removed.is_empty() {
                pool.changed(changed);
            }
            return Ok(());
        };
        *added_last = last.clone();
        // Most often the new come behind the old.
        let after = rows.last().is_none_or(|last| last.row().key() <= fresh[0].key());
        let sorted = after && fresh.is_sorted_by_key(Row::key);
        rows.extend(fresh.into_iter().map(H::hold));
        if !sorted {
            rows.sort_by_key(|holder| holder.row().key());
        }
        Ok(())
    }

    /// Changes a row that is the only one to change.
    fn change_one(
        &self,
        row: &mut R,
        bitmaps: &Bitmaps<'_>,
        cells: Cells,
        texts: &mut Read,
        input: &mut In<'_>,
    ) -> Result<(), DecodeError> {
        let mut clocks = self.clocks_of(1);
        for (place, column) in bitmaps.columns() {
            match self.ours(column, cells) {
                Some(Ours::Text(set)) => set(row, texts.get(&mut input.bytes)?),
                Some(Ours::Number(ours)) => {
                    let clocks = self.clocks[column - self.texts.len()].then_some(&mut clocks);
                    changed_number((ours.place)(row), 0, clocks, input)?;
                }
                None => self.pass_column((place, column), bitmaps, &mut clocks, texts, input)?,
            }
        }
        Ok(())
    }

    /// The clocks of rows, where this table has any.
    fn clocks_of(&self, rows: usize) -> Clocks {
        Clocks::new(if self.clocks.contains(&true) { rows } else { 0 })
    }

    /// Goes past the difference of a table that nobody looks at; `rows` is how many rows it has.
    pub fn pass(
        &self,
        rows: &mut usize,
        texts: &mut Read,
        room: &mut usize,
        input: &mut In<'_>,
    ) -> Result<(), DecodeError> {
        *rows -= steps(*rows, &mut input.bytes)?.len();
        let changed = steps(*rows, &mut input.bytes)?.len();
        let added = input.bytes.count()?;
        *room = room.checked_sub((*rows + added) * size_of::<R>()).ok_or(DecodeError::TooMany)?;
        *rows += added;
        if changed + added == 0 {
            return Ok(());
        }
        let known = self.texts.len() + self.fields.len();
        let bitmaps = Bitmaps::read(changed + added, known, &mut input.bytes)?;
        bitmaps
            .columns()
            .try_for_each(|column| self.pass_column(column, &bitmaps, &mut Clocks::new(0), texts, input))
    }

    /// Goes past a column that nobody looks at, by its place among those of the difference.
    fn pass_column(
        &self,
        (place, column): (usize, usize),
        bitmaps: &Bitmaps<'_>,
        clocks: &mut Clocks,
        texts: &mut Read,
        input: &mut In<'_>,
    ) -> Result<(), DecodeError> {
        let count = bitmaps.count(place);
        match column.checked_sub(self.texts.len()) {
            None => (0..count).try_for_each(|_| texts.get(&mut input.bytes).map(drop)),
            // What this clock went forward by the next one of the row is expected to do as well.
            Some(field) if self.clocks[field] => {
                let mut places = vec![];
                bitmaps.rows(place, &mut places);
                places.into_iter().try_for_each(|at| {
                    clocks.passed(at, number(Raw::ABSENT, input)?);
                    Ok(())
                })
            }
            Some(_) => pass(count, input),
        }
    }
}

/// Reads a column of texts into the rows that changed and those that are new.
fn text_column<R>(
    set: fn(&mut R, Text),
    places: Places<'_>,
    old: &mut [Option<&mut R>],
    fresh: &mut [R],
    texts: &mut Read,
    input: &mut In<'_>,
) -> Result<(), DecodeError> {
    let mut last = None;
    for_each(places, fresh, |row| {
        match row {
            Place::Changed(at) => {
                let text = texts.get(&mut input.bytes)?;
                if let Some(row) = &mut old[at] {
                    set(row, text);
                }
            }
            Place::Added(row, has) => {
                if has {
                    last = Some(texts.get(&mut input.bytes)?);
                }
                if let Some(last) = &last {
                    set(row, last.clone());
                }
            }
        }
        Ok(())
    })
}

/// Where a column of a recording goes to.
enum Ours<R: 'static> {
    Text(fn(&mut R, Text)),
    Number(&'static Field<R>),
}

/// A column of numbers.
struct Numbers<R: 'static> {
    /// Our field.
    ours: &'static Field<R>,
    /// Its values do not follow from those of the row before.
    alone: bool,
    /// The value of the row that was added last.
    last: Raw,
}

impl<R> Numbers<R> {
    /// Reads it into the rows that changed and those that are new.
    fn read(
        self,
        places: Places<'_>,
        old: &mut [Option<&mut R>],
        fresh: &mut [R],
        mut clocks: Option<&mut Clocks>,
        input: &mut In<'_>,
    ) -> Result<(), DecodeError> {
        let Numbers { ours, alone, mut last } = self;
        for_each(places, fresh, |row| {
            match row {
                Place::Changed(at) => {
                    let Some(row) = &mut old[at] else { return pass(1, input) };
                    changed_number((ours.place)(row), at, clocks.as_deref_mut(), input)?;
                }
                Place::Added(row, has) => {
                    if has {
                        last = number(if alone { Raw::ABSENT } else { last }, input)?;
                    }
                    ours.set(row, last);
                }
            }
            Ok(())
        })
    }
}

/// Reads a number of a row that changed, by its place among those.
#[inline]
fn changed_number(
    place: &mut Raw,
    row: usize,
    clocks: Option<&mut Clocks>,
    input: &mut In<'_>,
) -> Result<(), DecodeError> {
    let Some(clocks) = clocks else {
        *place = number(*place, input)?;
        return Ok(());
    };
    *place = number(clocks.expected(row, *place), input)?;
    clocks.saw(row, *place);
    Ok(())
}

/// A row whose column is being read.
enum Place<'a, R> {
    /// One of the changed rows, which has something there.
    Changed(usize),
    /// An added row, and whether it has something else there than the row added before it.
    Added(&'a mut R, bool),
}

/// The places of the rows that have something in a column: of those that changed, and behind them of those that were added.
#[derive(Clone, Copy)]
struct Places<'a> {
    all: &'a [usize],
    changed: usize,
}

/// Goes through the rows of a column: the changed ones that have something there, then all that were added.
#[inline]
fn for_each<R>(
    places: Places<'_>,
    fresh: &mut [R],
    mut what: impl FnMut(Place<'_, R>) -> Result<(), DecodeError>,
) -> Result<(), DecodeError> {
    let (changed, added) = places.all.split_at(places.all.partition_point(|at| *at < places.changed));
    for at in changed {
        what(Place::Changed(*at))?;
    }
    let mut added = added.iter().peekable();
    for (at, row) in fresh.iter_mut().enumerate() {
        let has = added.next_if(|place| **place == places.changed + at).is_some();
        what(Place::Added(row, has))?;
    }
    Ok(())
}
