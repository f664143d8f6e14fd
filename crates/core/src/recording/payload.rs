//! The payload of a frame: what is told by how likely it is, new texts where there are any, and the bits behind them.

use super::codec::{Bytes, DecodeError, put_varint};

/// The pieces of a payload.
#[derive(Clone, Copy)]
pub struct Pieces<'a> {
    /// Symbols; none before version 5.
    pub coded: Option<&'a [u8]>,
    /// Texts, compressed; before version 5 all but the bits. None where nothing was compressed.
    pub packed: Option<&'a [u8]>,
    /// Bits that would not become fewer.
    pub bits: &'a [u8],
}

impl<'a> Pieces<'a> {
    /// Puts them together, as since version 5.
    pub fn put(self, out: &mut Vec<u8>) {
        out.clear();
        let coded = self.coded.unwrap_or_default();
        put_varint((coded.len() as u128) << 1 | u128::from(self.packed.is_some()), out);
        if let Some(packed) = self.packed {
            put_varint(packed.len() as u128, out);
        }
        out.extend_from_slice(coded);
        out.extend_from_slice(self.packed.unwrap_or_default());
        out.extend_from_slice(self.bits);
    }

    /// Takes a payload apart; `coded` says that it is of version 5 or later.
    pub fn of(payload: &'a [u8], coded: bool) -> Result<Pieces<'a>, DecodeError> {
        let mut bytes = Bytes(payload);
        let first = length(&mut bytes)?;
        if !coded {
            return Ok(Pieces { coded: None, packed: Some(bytes.take(first)?), bits: bytes.0 });
        }
        let packed = if first & 1 == 1 { Some(length(&mut bytes)?) } else { None };
        let coded = bytes.take(first >> 1)?;
        let packed = packed.map(|length| bytes.take(length)).transpose()?;
        Ok(Pieces { coded: Some(coded), packed, bits: bytes.0 })
    }
}

fn length(bytes: &mut Bytes<'_>) -> Result<usize, DecodeError> {
    usize::try_from(bytes.varint()?).map_err(|_| DecodeError::TooLarge)
}
