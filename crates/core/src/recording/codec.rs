//! What tables of rows as bytes are made of: variable-length integers, numbers of version 1, rows alone or shared.

use super::format::MOST_ROWS;
use crate::known::Raw;
use crate::row::Row;
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
    /// More than a recording of this size may take to read.
    #[error("it takes more to read than a recording of its size should")]
    TooMuch,
    /// The compressed bytes are not what a compressor writes.
    #[error("a frame cannot be decompressed")]
    Packing,
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
#[derive(Clone)]
pub struct Bytes<'a>(pub &'a [u8]);

impl<'a> Bytes<'a> {
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

    /// So many bytes.
    pub fn take(&mut self, length: usize) -> Result<&'a [u8], DecodeError> {
        if length > self.0.len() {
            return Err(DecodeError::TooShort);
        }
        let (taken, rest) = self.0.split_at(length);
        self.0 = rest;
        Ok(taken)
    }
}

/// A number of version 1 against the one before: 0 absent, 1 denied, else two more than the zigzag difference.
pub(super) fn raw(before: Raw, bytes: &mut Bytes<'_>) -> Result<Raw, DecodeError> {
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

/// A row, alone or shared between readings.
pub trait Holder<R: Row>: Clone {
    /// Takes a new row.
    fn hold(row: R) -> Self;
    /// The row.
    fn row(&self) -> &R;
    /// The row for changing; a shared one is copied first, into one of those that nobody needs any more where there is one.
    fn edit(&mut self, spare: &mut Vec<Self>) -> &mut R;
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
    fn edit(&mut self, _spare: &mut Vec<Self>) -> &mut R {
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
    fn edit(&mut self, spare: &mut Vec<Self>) -> &mut R {
        if Arc::strong_count(self) > 1
            && let Some(mut copy) = spare.pop()
            && let Some(row) = Arc::get_mut(&mut copy)
        {
            row.clone_from(self);
            *self = copy;
        }
        Arc::make_mut(self)
    }
    fn same(&self, other: &Self) -> bool {
        Arc::ptr_eq(self, other) || self == other
    }
}
