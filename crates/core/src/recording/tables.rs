//! Tables of rows out of bytes, since version 2; the counterpart of [`columnar`](super::columnar).

use super::codec::{Bytes, DecodeError, Holder};
use super::columnar::Clocks;
use super::mapping::Columns;
use super::models::{Both, ByteModel, MapModel, Models, StepModel, TextModel};
use super::numbers::{In, number, pass};
use super::past::{Kin, Past};
use super::pool::Pool;
use super::texts::{Name, Read};
use crate::known::Raw;
use crate::row::{Cells, Field, Row, TextField};
use crate::sorting::ColdSort as _;
use std::borrow::Cow;

/// Rising indexes, each below `end`.
fn steps(end: usize, model: &mut StepModel, input: &mut In<'_>) -> Result<Vec<usize>, DecodeError> {
    let count = input.count(&mut model.count)?;
    let mut next = 0;
    // None is there twice.
    let mut indexes = Vec::with_capacity(count.min(end));
    for _ in 0..count {
        let index = next + input.count(&mut model.step)?;
        if index >= end {
            return Err(DecodeError::NoSuch);
        }
        indexes.push(index);
        next = index + 1;
    }
    Ok(indexes)
}

/// The union of the bitmaps of some rows, and the bits of each column in it.
struct Bitmaps<'a> {
    all: u64,
    bits: Cow<'a, [u8]>,
    bytes_each: usize,
    single: bool,
}

impl<'a> Bitmaps<'a> {
    /// Of so many rows that changed and so many that are added.
    fn read(
        (changed, added): (usize, usize),
        known: usize,
        models: &mut Both<MapModel>,
        input: &mut In<'a>,
    ) -> Result<Bitmaps<'a>, DecodeError> {
        let rows = changed + added;
        let Some(first) = input.map(models.of(changed > 0), known) else {
            return Bitmaps::by_column(rows, known, &mut input.bytes);
        };
        let mut maps = Vec::with_capacity(rows);
        maps.push(first?);
        while maps.len() < rows {
            maps.extend(input.map(models.of(maps.len() < changed), known).transpose()?);
        }
        Ok(Bitmaps::of(&maps))
    }

    /// Of each row its own, as since version 5.
    fn of(maps: &[u64]) -> Bitmaps<'a> {
        let all = maps.iter().fold(0, |all, map| all | map);
        let single = maps.len() == 1;
        let bytes_each = if single { 0 } else { maps.len().div_ceil(8) };
        let mut bits = vec![0; all.count_ones() as usize * bytes_each];
        for (row, map) in maps.iter().enumerate().filter(|_| !single) {
            let mut rest = *map;
            while rest != 0 {
                let place = (all & ((rest & rest.wrapping_neg()) - 1)).count_ones() as usize;
                bits[place * bytes_each + row / 8] |= 1 << (row % 8);
                rest &= rest - 1;
            }
        }
        Bitmaps { all, bits: Cow::Owned(bits), bytes_each, single }
    }

    /// The union, then the bits of each column, as before version 5.
    fn by_column(rows: usize, known: usize, bytes: &mut Bytes<'a>) -> Result<Bitmaps<'a>, DecodeError> {
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
        Ok(Bitmaps { all, bits: Cow::Borrowed(bits), bytes_each, single })
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

    /// How many of the first rows, so many, have something in a column, by its place among the columns, and how many of
    /// the others.
    fn count(&self, place: usize, first: usize) -> Both<usize> {
        if self.single {
            return Both { changed: first, added: 1 - first };
        }
        let bits = &self.bits[place * self.bytes_each..(place + 1) * self.bytes_each];
        let ones = |bits: &[u8]| bits.iter().map(|byte| byte.count_ones() as usize).sum::<usize>();
        let shared = bits.get(first / 8).map_or(0, |byte| byte & ((1 << (first % 8)) - 1));
        let changed = ones(&bits[..first / 8]) + shared.count_ones() as usize;
        Both { changed, added: ones(bits) - changed }
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

/// Where a column of a recording goes to.
enum Ours<R: 'static> {
    Text(&'static TextField<R>),
    Number(&'static Field<R>),
}

impl<R: Row> Columns<R> {
    /// Where a column goes to; nowhere where nobody looks at it, or this version does not know it.
    fn ours(&self, column: usize, cells: Cells) -> Option<Ours<R>> {
        match column.checked_sub(self.texts.len()) {
            None => self.text(column, cells).map(Ours::Text),
            Some(field) => self.fields[field]
                .filter(|ours| cells.has_number::<R>(*ours))
                .map(|ours| Ours::Number(&R::FIELDS[ours])),
        }
    }

    /// The same of a column of texts.
    fn text(&self, column: usize, cells: Cells) -> Option<&'static TextField<R>> {
        let ours = self.texts.get(column).copied().flatten();
        ours.filter(|ours| cells.has_text(*ours)).map(|ours| &R::TEXTS[ours])
    }

    /// Changes a table by a difference; the result is sorted by key. `room` is how many bytes of rows the
    /// part may still have. Of the rows only the cells of the pool are read.
    pub fn change<H: Holder<R>>(
        &self,
        rows: &mut Vec<H>,
        pool: &mut Pool<H>,
        past: &mut Past<R, Name>,
        texts: &mut Read,
        room: &mut usize,
        input: &mut In<'_>,
    ) -> Result<(), DecodeError> {
        let cells = pool.cells;
        pool.turn();
        let removed = steps(rows.len(), &mut past.models.removed, input)?;
        if !removed.is_empty() {
            let (mut gone, mut at) = (removed.iter().peekable(), 0);
            rows.retain(|_| {
                at += 1;
                gone.next_if(|index| **index == at - 1).is_none()
            });
        }
        let mut changed = steps(rows.len(), &mut past.models.changed, input)?;
        let count = input.count(&mut past.models.added)?;
        *room = room.checked_sub((rows.len() + count) * size_of::<R>()).ok_or(DecodeError::TooMany)?;
        let mut fresh = vec![];
        if !changed.is_empty() || count > 0 {
            past.models.expect(self.texts.len(), self.fields.len());
            let known = self.texts.len() + self.fields.len();
            let bitmaps = Bitmaps::read((changed.len(), count), known, &mut past.models.maps, input)?;
            if let (true, [at]) = (bitmaps.single, &changed[..]) {
                let row = rows[*at].edit(&mut pool.spare);
                self.change_one(row, &bitmaps, cells, (&mut past.models, texts), input)?;
            } else {
                // Who changed in nothing that somebody looks at is left alone.
                let touched = bitmaps.touched(changed.len(), |column| self.ours(column, cells).is_some());
                let old = edited(rows, &changed, &touched, &mut pool.spare);
                fresh = self.cells((old, count), &bitmaps, cells, past, texts, input)?;
                let mut touched = touched.iter();
                changed.retain(|_| touched.next() == Some(&true));
            }
        }
        if fresh.is_empty() {
            if removed.is_empty() {
                pool.changed(changed);
            }
            return Ok(());
        }
        // Most often the new come behind the old.
        let after = rows.last().is_none_or(|last| last.row().key() <= fresh[0].key());
        let sorted = after && fresh.is_sorted_by_key(Row::key);
        rows.extend(fresh.into_iter().map(H::hold));
        if !sorted {
            rows.cold_sort_by_key(|holder| holder.row().key());
        }
        Ok(())
    }

    /// Reads the cells of rows that changed, and of so many that are added: these come back.
    fn cells(
        &self,
        (mut old, count): (Vec<Option<&mut R>>, usize),
        bitmaps: &Bitmaps<'_>,
        cells: Cells,
        past: &mut Past<R, Name>,
        texts: &mut Read,
        input: &mut In<'_>,
    ) -> Result<Vec<R>, DecodeError> {
        let mut clocks = self.clocks_of(old.len());
        let mut places = vec![];
        let mut columns = bitmaps.columns().peekable();
        let named = self.by_kin && count > 0 && !self.texts.is_empty();
        let mut names = vec![];
        if named {
            // The names come first: they say what the rows follow.
            if let Some((place, _)) = columns.next_if(|(_, column)| *column == 0) {
                bitmaps.rows(place, &mut places);
            }
            let places = Places::of(&places, old.len());
            let model = &mut past.models.texts[0];
            changed_texts(self.text(0, cells), places, &mut old, (model, texts), input)?;
            names = names_of(places, count, &past.last_name, (model, texts), input)?;
        }
        let mut fresh = Fresh::begin(count, &names, past);
        if let (true, Some(ours)) = (named, self.text(0, cells)) {
            fresh.rows.iter_mut().zip(&names).for_each(|(row, name)| (ours.set)(row, name.text.clone()));
        }
        fresh.past.expect(self.levels.iter().copied());
        for (place, column) in columns {
            let Some(ours) = self.ours(column, cells) else {
                let models = &mut fresh.past.models;
                self.pass_column((place, column), (bitmaps, old.len()), &mut clocks, (models, texts), input)?;
                continue;
            };
            bitmaps.rows(place, &mut places);
            let places = Places::of(&places, old.len());
            match ours {
                Ours::Text(ours) => {
                    let model = &mut fresh.past.models.texts[column];
                    changed_texts(Some(ours), places, &mut old, (model, texts), input)?;
                    fresh.texts(ours, column, places, texts, input)?;
                }
                Ours::Number(ours) => {
                    let field = column - self.texts.len();
                    let mut clocks = self.clocks[field].then_some(&mut clocks);
                    let model = &mut fresh.past.models.numbers[field].changed;
                    for at in places.changed {
                        match &mut old[*at] {
                            Some(row) => {
                                changed_number((ours.place)(row), *at, clocks.as_deref_mut(), model, input)?;
                            }
                            None => pass(1, model, input)?,
                        }
                    }
                    fresh.numbers(ours, (field, self.base_of(field)), places, input)?;
                }
            }
        }
        fresh.past.keep(|at| &fresh.rows[at], count, names.last());
        Ok(fresh.rows)
    }

    /// What the numbers of a column of added rows are written against.
    fn base_of(&self, field: usize) -> Base {
        match (self.by_kin, self.levels[field]) {
            (true, _) => Base::Served,
            (false, true) => Base::Nothing,
            (false, false) => Base::Before,
        }
    }

    /// Changes a row that is the only one to change.
    fn change_one(
        &self,
        row: &mut R,
        bitmaps: &Bitmaps<'_>,
        cells: Cells,
        (models, texts): (&mut Models, &mut Read),
        input: &mut In<'_>,
    ) -> Result<(), DecodeError> {
        let mut clocks = self.clocks_of(1);
        for (place, column) in bitmaps.columns() {
            match self.ours(column, cells) {
                Some(Ours::Text(ours)) => (ours.set)(row, texts.get(&mut models.texts[column], input)?),
                Some(Ours::Number(ours)) => {
                    let field = column - self.texts.len();
                    let clocks = self.clocks[field].then_some(&mut clocks);
                    changed_number((ours.place)(row), 0, clocks, &mut models.numbers[field].changed, input)?;
                }
                None => {
                    let place = (place, column);
                    self.pass_column(place, (bitmaps, 1), &mut clocks, (&mut *models, texts), input)?;
                }
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
        models: &mut Models,
        texts: &mut Read,
        room: &mut usize,
        input: &mut In<'_>,
    ) -> Result<(), DecodeError> {
        *rows -= steps(*rows, &mut models.removed, input)?.len();
        let changed = steps(*rows, &mut models.changed, input)?.len();
        let added = input.count(&mut models.added)?;
        *room = room.checked_sub((*rows + added) * size_of::<R>()).ok_or(DecodeError::TooMany)?;
        *rows += added;
        if changed + added == 0 {
            return Ok(());
        }
        models.expect(self.texts.len(), self.fields.len());
        let known = self.texts.len() + self.fields.len();
        let bitmaps = Bitmaps::read((changed, added), known, &mut models.maps, input)?;
        let mut clocks = Clocks::new(0);
        bitmaps.columns().try_for_each(|column| {
            let state = (&mut *models, &mut *texts);
            self.pass_column(column, (&bitmaps, changed), &mut clocks, state, input)
        })
    }

    /// Goes past a column that nobody looks at, by its place among those of the difference; so many rows changed.
    fn pass_column(
        &self,
        (place, column): (usize, usize),
        (bitmaps, changed): (&Bitmaps<'_>, usize),
        clocks: &mut Clocks,
        (models, texts): (&mut Models, &mut Read),
        input: &mut In<'_>,
    ) -> Result<(), DecodeError> {
        let count = bitmaps.count(place, changed);
        match column.checked_sub(self.texts.len()) {
            None => {
                let model = &mut models.texts[column];
                (0..count.changed + count.added).try_for_each(|_| texts.get(model, input).map(drop))
            }
            // What this clock went forward by the next one of the row is expected to do as well.
            Some(field) if self.clocks[field] => {
                let mut places = vec![];
                bitmaps.rows(place, &mut places);
                places.into_iter().try_for_each(|at| {
                    let model = models.numbers[field].of(at < changed);
                    clocks.passed(at, number(Raw::ABSENT, model, input)?);
                    Ok(())
                })
            }
            Some(field) => {
                let models = &mut models.numbers[field];
                pass(count.changed, &mut models.changed, input)?;
                pass(count.added, &mut models.added, input)
            }
        }
    }
}

/// The rows that changed, for changing; none for those that nobody looks at.
fn edited<'a, R: Row, H: Holder<R>>(
    rows: &'a mut [H],
    changed: &[usize],
    touched: &[bool],
    spare: &mut Vec<H>,
) -> Vec<Option<&'a mut R>> {
    // Shared rows are copied once, not for each of their cells.
    let mut old = Vec::with_capacity(changed.len());
    let (mut rest, mut next) = (rows, 0);
    for (at, touched) in changed.iter().zip(touched) {
        let Some((row, behind)) = rest.split_at_mut(at - next).1.split_first_mut() else { break };
        old.push(touched.then(|| row.edit(spare)));
        (rest, next) = (behind, at + 1);
    }
    old
}

/// Reads a number of a row that changed, by its place among those.
#[inline]
fn changed_number(
    place: &mut Raw,
    row: usize,
    clocks: Option<&mut Clocks>,
    model: &mut ByteModel,
    input: &mut In<'_>,
) -> Result<(), DecodeError> {
    let Some(clocks) = clocks else {
        *place = number(*place, model, input)?;
        return Ok(());
    };
    *place = number(clocks.expected(row, *place), model, input)?;
    clocks.saw(row, *place);
    Ok(())
}

/// Reads the texts of a column of rows that changed.
fn changed_texts<R>(
    ours: Option<&TextField<R>>,
    places: Places<'_>,
    old: &mut [Option<&mut R>],
    (model, texts): (&mut TextModel, &mut Read),
    input: &mut In<'_>,
) -> Result<(), DecodeError> {
    for at in places.changed {
        let text = texts.get(model, input)?;
        if let (Some(ours), Some(row)) = (ours, &mut old[*at]) {
            (ours.set)(row, text);
        }
    }
    Ok(())
}

/// Reads the names of added rows; `last` is that of the row added before them.
fn names_of(
    places: Places<'_>,
    count: usize,
    last: &Name,
    (model, texts): (&mut TextModel, &mut Read),
    input: &mut In<'_>,
) -> Result<Vec<Name>, DecodeError> {
    let mut name = last.clone();
    let mut has = places.added();
    let of = |at| {
        if has(at) {
            name = texts.name(model, input)?;
        }
        Ok(name.clone())
    };
    (0..count).map(of).collect()
}

/// The places of the rows that have something in a column: of those that changed, and behind them of those that were added.
#[derive(Clone, Copy)]
struct Places<'a> {
    changed: &'a [usize],
    added: &'a [usize],
    /// How many rows changed.
    first: usize,
}

impl<'a> Places<'a> {
    fn of(all: &'a [usize], changed: usize) -> Places<'a> {
        let (of_changed, added) = all.split_at(all.partition_point(|at| *at < changed));
        Places { changed: of_changed, added, first: changed }
    }

    /// Tells of each added row in turn whether it has something there.
    fn added(self) -> impl FnMut(usize) -> bool + use<'a> {
        let mut added = self.added.iter().peekable();
        move |at| added.next_if(|place| **place == self.first + at).is_some()
    }
}

/// What numbers of added rows are written against.
#[derive(Clone, Copy)]
enum Base {
    /// Nothing: before version 4, levels.
    Nothing,
    /// The row added before: then, all others.
    Before,
    /// What served the column best.
    Served,
}

/// Rows that are being added.
struct Fresh<'a, R> {
    rows: Vec<R>,
    kin: Vec<Kin>,
    past: &'a mut Past<R, Name>,
}

impl<'a, R: Row> Fresh<'a, R> {
    /// So many of them, as what each follows is. Without names each follows the one before.
    fn begin(count: usize, names: &[Name], past: &'a mut Past<R, Name>) -> Fresh<'a, R> {
        let kin = if names.is_empty() { vec![Kin::Before; count] } else { past.kin(names.iter()) };
        let mut rows: Vec<R> = Vec::with_capacity(count);
        for kin in &kin {
            let like = match *kin {
                Kin::Before => rows.last().unwrap_or(&past.last),
                Kin::Earlier(earlier) => &rows[earlier],
                Kin::Named(place) => &past.named[place],
            };
            rows.push(like.clone());
        }
        Fresh { rows, kin, past }
    }

    /// The row added before one.
    fn before(&self, at: usize) -> &R {
        at.checked_sub(1).map_or(&self.past.last, |before| &self.rows[before])
    }

    /// What a row follows.
    fn kin(&self, at: usize) -> &R {
        match self.kin[at] {
            Kin::Before => self.before(at),
            Kin::Earlier(earlier) => &self.rows[earlier],
            Kin::Named(place) => &self.past.named[place],
        }
    }

    /// Reads a column of texts.
    fn texts(
        &mut self,
        ours: &TextField<R>,
        column: usize,
        places: Places<'_>,
        texts: &mut Read,
        input: &mut In<'_>,
    ) -> Result<(), DecodeError> {
        let mut has = places.added();
        for at in 0..self.rows.len() {
            let model = &mut self.past.models.texts[column];
            let text = if has(at) { texts.get(model, input)? } else { (ours.get)(self.kin(at)).clone() };
            (ours.set)(&mut self.rows[at], text);
        }
        Ok(())
    }

    /// Reads a column of numbers.
    fn numbers(
        &mut self,
        ours: &Field<R>,
        (field, base): (usize, Base),
        places: Places<'_>,
        input: &mut In<'_>,
    ) -> Result<(), DecodeError> {
        let mut has = places.added();
        for at in 0..self.rows.len() {
            let has = has(at);
            // It began as one of those that were there before.
            if !has && self.is_first(at) {
                continue;
            }
            let kin = (ours.get)(self.kin(at));
            if !has {
                ours.set(&mut self.rows[at], kin);
                continue;
            }
            let before = if self.follows_before(at) { kin } else { (ours.get)(self.before(at)) };
            let Past { models, served, .. } = &mut *self.past;
            let model = &mut models.numbers[field].added;
            let value = match base {
                Base::Nothing => number(Raw::ABSENT, model, input)?,
                Base::Before => number(before, model, input)?,
                Base::Served => {
                    let bases = [Raw::ABSENT, before, kin];
                    let served = &mut served[field];
                    let value = number(served.base(bases), model, input)?;
                    served.saw(value, bases);
                    value
                }
            };
            ours.set(&mut self.rows[at], value);
        }
        Ok(())
    }

    /// Whether a row follows one that was there before all of these.
    fn is_first(&self, at: usize) -> bool {
        matches!(self.kin[at], Kin::Named(_)) || at == 0
    }

    /// Whether a row follows the one that was added before it.
    fn follows_before(&self, at: usize) -> bool {
        match self.kin[at] {
            Kin::Before => true,
            Kin::Earlier(earlier) => earlier + 1 == at,
            Kin::Named(_) => false,
        }
    }
}
