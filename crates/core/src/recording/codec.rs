//! Tables of rows as bytes: variable-length integers, strings once, differences per field with a bitmap.

use super::format::MOST_ROWS;
use crate::known::{Known, Raw};
use crate::row::Row;
use crate::text::{Text, clean};
use std::cmp::Ordering;
use std::collections::HashMap;
use std::sync::Arc;

/// A payload that its checksum calls whole, but that makes no sense.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
pub enum DecodeError {
    /// The payload ends in the middle of a number or text.
    #[error("a frame ends too early")]
    TooShort,
    /// A number does not fit.
    #[error("a number in a frame is too large")]
    TooLarge,
    /// A reference to a row or text that does not exist.
    #[error("a frame refers to something that does not exist")]
    NoSuch,
    /// More rows than a machine can have.
    #[error("a frame holds more rows than a machine can have")]
    TooMany,
    /// Bytes are left at the end.
    #[error("a frame holds more than its tables")]
    Trailing,
}

/// Appends an unsigned integer, seven bits a byte, lowest first.
pub fn put_varint(mut value: u128, out: &mut Vec<u8>) {
    while value >= 0x80 {
        out.push(value as u8 | 0x80);
        value >>= 7;
    }
    out.push(value as u8);
}

/// Reads bytes from the front.
pub struct Bytes<'a>(pub &'a [u8]);

impl Bytes<'_> {
    /// An unsigned integer of at most 70 bits.
    pub fn varint(&mut self) -> Result<u128, DecodeError> {
        let mut value = 0u128;
        for shift in (0..70).step_by(7) {
            let (&byte, rest) = self.0.split_first().ok_or(DecodeError::TooShort)?;
            self.0 = rest;
            value |= u128::from(byte & 0x7f) << shift;
            if byte < 0x80 {
                return Ok(value);
            }
        }
        Err(DecodeError::TooLarge)
    }

    /// An unsigned integer that counts something.
    pub fn count(&mut self) -> Result<usize, DecodeError> {
        let count = usize::try_from(self.varint()?).map_err(|_| DecodeError::TooLarge)?;
        if count > MOST_ROWS { Err(DecodeError::TooMany) } else { Ok(count) }
    }

    fn take(&mut self, length: usize) -> Result<&[u8], DecodeError> {
        if length > self.0.len() {
            return Err(DecodeError::TooShort);
        }
        let (taken, rest) = self.0.split_at(length);
        self.0 = rest;
        Ok(taken)
    }
}

/// A raw number against the one before: 0 absent, 1 denied, else two more than the zigzag difference.
fn put_raw(value: Raw, before: Raw, out: &mut Vec<u8>) {
    match value.get() {
        Known::Absent => put_varint(0, out),
        Known::Denied => put_varint(1, out),
        Known::Value(value) => {
            let difference = value.wrapping_sub(before.value().unwrap_or(0));
            let zigzag = ((difference << 1) ^ (difference >> 63)) as u64;
            put_varint(u128::from(zigzag) + 2, out);
        }
    }
}

fn raw(before: Raw, bytes: &mut Bytes<'_>) -> Result<Raw, DecodeError> {
    Ok(match bytes.varint()? {
        0 => Raw::ABSENT,
        1 => Raw::DENIED,
        code => {
            let zigzag = u64::try_from(code - 2).map_err(|_| DecodeError::TooLarge)?;
            let difference = (zigzag >> 1) as i64 ^ -((zigzag & 1) as i64);
            Raw::new(before.value().unwrap_or(0).wrapping_add(difference))
        }
    })
}

/// Texts already written since the last key frame, by number from 1.
#[derive(Default)]
pub struct Written(HashMap<Text, u32>);

impl Written {
    fn put(&mut self, text: &Text, out: &mut Vec<u8>) {
        if let Some(number) = self.0.get(text) {
            put_varint(u128::from(*number), out);
            return;
        }
        put_varint(0, out);
        put_varint(text.len() as u128, out);
        out.extend_from_slice(text.as_bytes());
        self.0.insert(text.clone(), self.0.len() as u32 + 1);
    }

    /// Forgets all texts, as a key frame demands.
    pub fn clear(&mut self) {
        self.0.clear();
    }
}

/// Texts already read since the last key frame.
#[derive(Default, Clone)]
pub struct Read(Vec<Text>);

impl Read {
    fn get(&mut self, bytes: &mut Bytes<'_>) -> Result<Text, DecodeError> {
        let number = usize::try_from(bytes.varint()?).map_err(|_| DecodeError::TooLarge)?;
        if number > 0 {
            return self.0.get(number - 1).cloned().ok_or(DecodeError::NoSuch);
        }
        let length = usize::try_from(bytes.varint()?).map_err(|_| DecodeError::TooLarge)?;
        if self.0.len() >= 4 * MOST_ROWS {
            return Err(DecodeError::TooMany);
        }
        let text = Text::from(clean(bytes.take(length)?));
        self.0.push(text.clone());
        Ok(text)
    }

    /// Forgets all texts, as a key frame demands.
    pub fn clear(&mut self) {
        self.0.clear();
    }
}

/// A row, alone or shared between readings.
pub trait Holder<R: Row>: Clone {
    /// Takes a new row.
    fn hold(row: R) -> Self;
    /// The row.
    fn row(&self) -> &R;
    /// The row for changing; a shared one is copied first.
    fn edit(&mut self) -> &mut R;
    /// Whether the two are the same, cheaply where they are shared.
    fn same(&self, other: &Self) -> bool;
}

impl<R: Row> Holder<R> for R {
    fn hold(row: R) -> Self {
        row
    }
    fn row(&self) -> &R {
        self
    }
    fn edit(&mut self) -> &mut R {
        self
    }
    fn same(&self, other: &Self) -> bool {
        self == other
    }
}

impl<R: Row> Holder<R> for Arc<R> {
    fn hold(row: R) -> Self {
        Arc::new(row)
    }
    fn row(&self) -> &R {
        self
    }
    fn edit(&mut self) -> &mut R {
        Arc::make_mut(self)
    }
    fn same(&self, other: &Self) -> bool {
        Arc::ptr_eq(self, other) || self == other
    }
}

/// Appends a row's difference from another: a bitmap of what changed (texts first), then the new values.
fn put_row<R: Row>(row: &R, before: &R, texts: &mut Written, out: &mut Vec<u8>) {
    const { assert!(R::TEXTS.len() + R::FIELDS.len() <= 64, "the bitmap has 64 bits") }
    let text_bits = R::TEXTS.iter().map(|field| (field.get)(row) != (field.get)(before));
    let field_bits = R::FIELDS.iter().map(|field| (field.get)(row) != (field.get)(before));
    let bitmap =
        text_bits.chain(field_bits).enumerate().fold(0u64, |map, (at, bit)| map | u64::from(bit) << at);
    put_varint(u128::from(bitmap), out);
    for (at, field) in R::TEXTS.iter().enumerate() {
        if bitmap >> at & 1 == 1 {
            texts.put((field.get)(row), out);
        }
    }
    for (at, field) in R::FIELDS.iter().enumerate() {
        if bitmap >> (R::TEXTS.len() + at) & 1 == 1 {
            put_raw((field.get)(row), (field.get)(before), out);
        }
    }
}

/// Appends a table as its difference from the table before; both are sorted by key.
pub fn put_table<R: Row, H: Holder<R>>(rows: &[H], before: &[H], texts: &mut Written, out: &mut Vec<u8>) {
    let (mut removed, mut changed, mut added) = (Vec::new(), Vec::new(), Vec::new());
    let (mut old, mut new, mut kept) = (0, 0, 0u128);
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
                removed.push(old as u128);
                old += 1;
            }
            Ordering::Greater => {
                added.push(new);
                new += 1;
            }
            Ordering::Equal => {
                changed.push((kept, old, new));
                (old, new, kept) = (old + 1, new + 1, kept + 1);
            }
        }
    }
    put_varint(removed.len() as u128, out);
    put_steps(removed.into_iter(), out, |_, _| {});
    put_varint(changed.len() as u128, out);
    put_steps(changed.iter().map(|(at, ..)| *at), out, |place, out| {
        let (_, old, new) = changed[place];
        put_row(rows[new].row(), before[old].row(), texts, out);
    });
    put_varint(added.len() as u128, out);
    for new in added {
        put_row(rows[new].row(), &R::default(), texts, out);
    }
}

/// Appends rising indexes as steps, with something behind each.
fn put_steps(
    indexes: impl Iterator<Item = u128>,
    out: &mut Vec<u8>,
    mut behind: impl FnMut(usize, &mut Vec<u8>),
) {
    let mut next = 0;
    for (place, index) in indexes.enumerate() {
        put_varint(index - next, out);
        next = index + 1;
        behind(place, out);
    }
}

/// How a recording's columns map to the fields of this program.
#[derive(Clone)]
pub struct Columns<R: Row> {
    /// For each text of the recording our text, or none where we do not know it.
    pub texts: Vec<Option<usize>>,
    /// For each number of the recording our field, or none where we do not know it.
    pub fields: Vec<Option<usize>>,
    row: std::marker::PhantomData<R>,
}

impl<R: Row> Columns<R> {
    /// Maps names; `None` when there are more than the bitmap can hold.
    pub fn by_name<'a>(
        texts: impl Iterator<Item = &'a str>,
        fields: impl Iterator<Item = &'a str>,
    ) -> Option<Columns<R>> {
        let texts: Vec<_> = texts.map(|name| R::TEXTS.iter().position(|field| field.name == name)).collect();
        let fields: Vec<_> =
            fields.map(|name| R::FIELDS.iter().position(|field| field.name == name)).collect();
        (texts.len() + fields.len() <= 64).then_some(Columns { texts, fields, row: std::marker::PhantomData })
    }

    fn row(&self, row: &mut R, texts: &mut Read, bytes: &mut Bytes<'_>) -> Result<(), DecodeError> {
        let bitmap = u64::try_from(bytes.varint()?).map_err(|_| DecodeError::TooLarge)?;
        let known = self.texts.len() + self.fields.len();
        if known < 64 && bitmap >> known != 0 {
            return Err(DecodeError::NoSuch);
        }
        for (at, ours) in self.texts.iter().enumerate() {
            if bitmap >> at & 1 == 1 {
                let text = texts.get(bytes)?;
                if let Some(ours) = ours {
                    (R::TEXTS[*ours].set)(row, text);
                }
            }
        }
        for (at, ours) in self.fields.iter().enumerate() {
            if bitmap >> (self.texts.len() + at) & 1 == 1 {
                let before = ours.map_or(Raw::ABSENT, |ours| (R::FIELDS[ours].get)(row));
                let value = raw(before, bytes)?;
                if let Some(ours) = ours {
                    (R::FIELDS[*ours].set)(row, value);
                }
            }
        }
        Ok(())
    }

    /// Changes a table by a difference; the result is sorted by key.
    pub fn table<H: Holder<R>>(
        &self,
        rows: &mut Vec<H>,
        texts: &mut Read,
        bytes: &mut Bytes<'_>,
    ) -> Result<(), DecodeError> {
        let mut removed = vec![];
        let mut next = 0;
        for _ in 0..bytes.count()? {
            let index = next + bytes.count()?;
            removed.push(index);
            next = index + 1;
        }
        if removed.last().is_some_and(|last| *last >= rows.len()) {
            return Err(DecodeError::NoSuch);
        }
        let mut gone = removed.iter().peekable();
        let mut at = 0;
        rows.retain(|_| {
            let keep = gone.next_if(|index| **index == at).is_none();
            at += 1;
            keep
        });
        let mut next = 0;
        for _ in 0..bytes.count()? {
            let index = next + bytes.count()?;
            let holder = rows.get_mut(index).ok_or(DecodeError::NoSuch)?;
            self.row(holder.edit(), texts, bytes)?;
            next = index + 1;
        }
        let added = bytes.count()?;
        if rows.len() + added > MOST_ROWS {
            return Err(DecodeError::TooMany);
        }
        for _ in 0..added {
            let mut row = R::default();
            self.row(&mut row, texts, bytes)?;
            rows.push(H::hold(row));
        }
        if added > 0 {
            rows.sort_by_key(|holder| holder.row().key());
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn any_raw() -> impl Strategy<Value = Raw> {
        prop_oneof![Just(Raw::ABSENT), Just(Raw::DENIED), any::<i64>().prop_map(Raw::new)]
    }

    proptest! {
        #[test]
        fn any_number_against_any_other_is_read_back(value in any_raw(), before in any_raw()) {
            let mut out = vec![];
            put_raw(value, before, &mut out);
            let mut bytes = Bytes(&out);
            prop_assert_eq!(raw(before, &mut bytes), Ok(value));
            prop_assert!(bytes.0.is_empty());
        }
    }
}
