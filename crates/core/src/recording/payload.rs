//! The payload of a frame: compressed bytes, and the bits that compression would not make smaller behind them.

use super::codec::{Bytes, DecodeError, put_varint};

/// A payload of compressed bytes and the bits behind them.
pub fn together(packed: &[u8], bits: &[u8], out: &mut Vec<u8>) {
    out.clear();
    put_varint(packed.len() as u128, out);
    out.extend_from_slice(packed);
    out.extend_from_slice(bits);
}

/// The compressed bytes of a payload, and the bits behind them.
pub fn apart(payload: &[u8]) -> Result<(&[u8], &[u8]), DecodeError> {
    let mut bytes = Bytes(payload);
    let length = usize::try_from(bytes.varint()?).map_err(|_| DecodeError::TooLarge)?;
    Ok((bytes.take(length)?, bytes.0))
}
