//! Tables of rows as bytes in version 1: row by row. Only read, no longer written.

use super::codec::{Bytes, DecodeError, Holder, raw};
use super::format::MOST_BYTES;
use super::mapping::Columns;
use super::texts::Read;
use crate::known::Raw;
use crate::row::Row;
use crate::sorting::ColdSort as _;

impl<R: Row> Columns<R> {
    fn row(&self, row: &mut R, texts: &mut Read, bytes: &mut Bytes<'_>) -> Result<(), DecodeError> {
        let bitmap = u64::try_from(bytes.varint()?).map_err(|_| DecodeError::TooLarge)?;
        let known = self.texts.len() + self.fields.len();
        if known < 64 && bitmap >> known != 0 {
            return Err(DecodeError::NoSuch);
        }
        for (at, ours) in self.texts.iter().enumerate() {
            if bitmap >> at & 1 == 1 {
                let text = texts.get_plain(bytes)?;
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
                    R::FIELDS[*ours].set(row, value);
                }
            }
        }
        Ok(())
    }

    /// Changes a table by a difference; the result is sorted by key.
    pub fn change_row_wise<H: Holder<R>>(
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
            self.row(holder.edit(&mut vec![]), texts, bytes)?;
            next = index + 1;
        }
        let added = bytes.count()?;
        if (rows.len() + added) * size_of::<R>() > MOST_BYTES {
            return Err(DecodeError::TooMany);
        }
        for _ in 0..added {
            let mut row = R::default();
            self.row(&mut row, texts, bytes)?;
            rows.push(H::hold(row));
        }
        if added > 0 {
            rows.cold_sort_by_key(|holder| holder.row().key());
        }
        Ok(())
    }
}
