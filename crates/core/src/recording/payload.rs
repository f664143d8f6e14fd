//! The payload of a frame: what is told by how likely it is, new texts where there are any, and the bits behind them.

use super::codec::{Bytes, DecodeError, put_varint};

/// The pieces of a payload.
#[derive(Clone, Copy)]
pub struct Pieces<'a> {
    /// Symbols; before version 5 there are none.
    pub coded: &'a [u8],
    /// Texts, compressed; before version 5 all but the bits. None where nothing was compressed.
    pub packed: Option<&'a [u8]>,
    /// Bits that would not become fewer.
    pub bits: &'a [u8],
}

impl<'a> Pieces<'a> {
    /// Puts them together.
    pub fn put(self, out: &mut Vec<u8>) {
        out.clear();
        put_varint((self.coded.len() as u128) << 1 | u128::from(self.packed.is_some()), out);
        if let Some(packed) = self.packed {
            put_varint(packed.len() as u128, out);
        }
        out.extend_from_slice(self.coded);
        out.extend_from_slice(self.packed.unwrap_or_default());
        out.extend_from_slice(self.bits);
    }

    /// Takes a payload apart.
    pub fn of(payload: &'a [u8]) -> Result<Pieces<'a>, DecodeError> {
        let mut bytes = Bytes(payload);
        let first = length(&mut bytes)?;
        let packed = if first & 1 == 1 { Some(length(&mut bytes)?) } else { None };
        let coded = bytes.take(first >> 1)?;
        let packed = packed.map(|length| bytes.take(length)).transpose()?;
        Ok(Pieces { coded, packed, bits: bytes.0 })
    }

    /// The same of a version before 5.
    pub fn plain(payload: &'a [u8]) -> Result<Pieces<'a>, DecodeError> {
        let mut bytes = Bytes(payload);
        let length = length(&mut bytes)?;
        Ok(Pieces { coded: &[], packed: Some(bytes.take(length)?), bits: bytes.0 })
    }
}

fn length(bytes: &mut Bytes<'_>) -> Result<usize, DecodeError> {
    usize::try_from(bytes.varint()?).map_err(|_| DecodeError::TooLarge)
}
