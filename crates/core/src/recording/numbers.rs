//! Differences of numbers since version 2: a byte that tells the size, which compresses well, and behind it the bits
//! below, which look random and are kept apart as they are.

use super::codec::{Bytes, DecodeError};
use crate::known::{Known, Raw};

/// Tables on their way into a frame.
#[derive(Default)]
pub struct Out {
    /// What will be compressed.
    pub bytes: Vec<u8>,
    /// Bits that would not become fewer.
    pub bits: Vec<u8>,
    held: u128,
    count: u32,
}

impl Out {
    /// Begins anew.
    pub fn clear(&mut self) {
        self.bytes.clear();
        self.bits.clear();
        (self.held, self.count) = (0, 0);
    }

    /// Appends the lowest bits of a number, the lowest first.
    fn put_bits(&mut self, value: u64, count: u32) {
        self.held |= u128::from(value) << self.count;
        self.count += count;
        while self.count >= 8 {
            self.bits.push(self.held as u8);
            self.held >>= 8;
            self.count -= 8;
        }
    }

    /// Fills the last byte with zeros.
    pub fn finish(&mut self) {
        if self.count > 0 {
            self.bits.push(self.held as u8);
            (self.held, self.count) = (0, 0);
        }
    }
}

/// Tables out of a frame.
pub struct In<'a> {
    /// What was compressed.
    pub bytes: Bytes<'a>,
    bits: &'a [u8],
    held: u128,
    count: u32,
}

impl<'a> In<'a> {
    /// The tables of a frame; those of version 1 have no bits apart.
    pub fn new(bytes: &'a [u8], bits: &'a [u8]) -> In<'a> {
        In { bytes: Bytes(bytes), bits, held: 0, count: 0 }
    }

    #[inline]
    fn take_bits(&mut self, count: u32) -> Result<u64, DecodeError> {
        if count == 0 {
            return Ok(0);
        }
        // Eight bytes at a time while there are so many.
        if self.count < count
            && let Some((eight, rest)) = self.bits.split_first_chunk::<8>()
        {
            self.held |= u128::from(u64::from_le_bytes(*eight)) << self.count;
            self.bits = rest;
            self.count += 64;
        }
        while self.count < count {
            let (&byte, rest) = self.bits.split_first().ok_or(DecodeError::TooShort)?;
            self.bits = rest;
            self.held |= u128::from(byte) << self.count;
            self.count += 8;
        }
        let value = self.held & ((1u128 << count) - 1);
        self.held >>= count;
        self.count -= count;
        Ok(value as u64)
    }

    /// Goes past so many bits.
    fn pass_bits(&mut self, count: usize) -> Result<(), DecodeError> {
        let Some(rest) = count.checked_sub(self.count as usize) else {
            self.held >>= count;
            self.count -= count as u32;
            return Ok(());
        };
        (self.held, self.count) = (0, 0);
        self.bits = self.bits.get(rest / 8..).ok_or(DecodeError::TooShort)?;
        self.take_bits(rest as u32 % 8).map(drop)
    }

    /// Whether everything was read.
    pub fn is_done(&self) -> bool {
        self.bytes.0.is_empty() && self.bits.is_empty() && self.count < 8
    }
}

const ABSENT: u8 = 0;
const DENIED: u8 = 1;
/// The code of zero; differences follow, each size twice: positive and negative.
const ZERO: u8 = 2;
/// Sizes below this are the size itself.
const SMALL: u64 = 8;
/// Up to so many bits the two highest are part of the code, beyond it the highest alone.
const FINE_BITS: u32 = 32;

/// From this code on come differences in whole pages, by their number of pages, again each size twice.
const PAGES: u8 = ZERO + 2 * CLASSES;
/// Size classes of differences.
const CLASSES: u8 = SMALL as u8 + (FINE_BITS as u8 - 3) * 2 + (64 - FINE_BITS as u8);
/// Size classes of numbers of pages, as many as there are codes left.
const PAGE_CLASSES: u8 = ((u8::MAX - PAGES) as u16 + 1) as u8 / 2;
/// Bytes of a page, as a power of two.
const PAGE_BITS: u32 = 12;

/// The size class of a magnitude, and how many bits stand behind it.
fn class(magnitude: u64) -> (u8, u32) {
    if magnitude < SMALL {
        return (magnitude as u8, 0);
    }
    let bits = 64 - magnitude.leading_zeros();
    if bits <= FINE_BITS {
        let second = (magnitude >> (bits - 2) & 1) as u8;
        (SMALL as u8 + (bits as u8 - 4) * 2 + second, bits - 2)
    } else {
        (SMALL as u8 + (FINE_BITS as u8 - 3) * 2 + (bits - FINE_BITS - 1) as u8, bits - 1)
    }
}

/// What a code says of the number behind it.
#[derive(Clone, Copy)]
struct Coded {
    /// The highest bits.
    begin: u64,
    /// How many bits stand behind them; more than a number has where there is no such code.
    bits: u32,
    /// By how many bits all of it is shifted.
    shift: u32,
    negative: bool,
}

/// Of each code what it says.
static CODES: [Coded; 256] = {
    let mut codes = [Coded { begin: 0, bits: 0, shift: 0, negative: false }; 256];
    let mut code = ZERO as usize;
    while code < codes.len() {
        let (from, shift) = if code < PAGES as usize { (ZERO, 0) } else { (PAGES, PAGE_BITS) };
        let class = (code - from as usize) / 2;
        let (begin, bits) = begin_of(class as u8);
        codes[code] = Coded { begin, bits, shift, negative: (code - from as usize) % 2 == 1 };
        code += 1;
    }
    codes
};

/// The highest bits that a size class stands for, and how many bits stand behind it.
const fn begin_of(class: u8) -> (u64, u32) {
    let small = SMALL as u8;
    let fine = small + (FINE_BITS as u8 - 3) * 2;
    if class < small {
        (class as u64, 0)
    } else if class < fine {
        let bits = (class - small) as u32 / 2 + 4;
        let second = (class - small) as u64 % 2;
        ((2 | second) << (bits - 2), bits - 2)
    } else {
        let bits = (class - fine) as u32 + FINE_BITS + 1;
        if bits > 64 { (0, u32::MAX) } else { (1 << (bits - 1), bits - 1) }
    }
}

/// Appends a number against another.
pub fn put_number(value: Raw, before: Raw, out: &mut Out) {
    match value.get() {
        Known::Absent => out.bytes.push(ABSENT),
        Known::Denied => out.bytes.push(DENIED),
        Known::Value(value) => {
            let difference = value.wrapping_sub(before.value().unwrap_or(0));
            let magnitude = difference.unsigned_abs();
            let in_pages = magnitude > 0 && magnitude.trailing_zeros() >= PAGE_BITS;
            let (begin, magnitude, (class, bits)) = match class(magnitude >> PAGE_BITS) {
                small if in_pages && small.0 < PAGE_CLASSES => (PAGES, magnitude >> PAGE_BITS, small),
                _ => (ZERO, magnitude, class(magnitude)),
            };
            out.bytes.push(begin + class * 2 + u8::from(difference < 0));
            out.put_bits(magnitude & ((1u64 << bits) - 1), bits);
        }
    }
}

/// The next number against another.
#[inline]
pub fn number(before: Raw, input: &mut In<'_>) -> Result<Raw, DecodeError> {
    let (&code, rest) = input.bytes.0.split_first().ok_or(DecodeError::TooShort)?;
    input.bytes.0 = rest;
    Ok(match code {
        ABSENT => Raw::ABSENT,
        DENIED => Raw::DENIED,
        code => {
            let Coded { begin, bits, shift, negative } = CODES[code as usize];
            if bits > 64 {
                return Err(DecodeError::TooLarge);
            }
            let magnitude = ((begin | input.take_bits(bits)?) << shift) as i64;
            let difference = if negative { magnitude.wrapping_neg() } else { magnitude };
            Raw::new(before.value().unwrap_or(0).wrapping_add(difference))
        }
    })
}

/// Goes past so many numbers.
pub fn pass(count: usize, input: &mut In<'_>) -> Result<(), DecodeError> {
    let mut bits = 0;
    for code in input.bytes.take(count)? {
        match CODES[*code as usize].bits {
            of_one @ 0..=64 => bits += of_one as usize,
            _ => return Err(DecodeError::TooLarge),
        }
    }
    input.pass_bits(bits)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn any_raw() -> impl Strategy<Value = Raw> {
        let near = any::<i64>().prop_flat_map(|value| (0..64u32).prop_map(move |shift| value >> shift));
        let pages = (-20_000i64..20_000).prop_map(|pages| pages << PAGE_BITS);
        prop_oneof![Just(Raw::ABSENT), Just(Raw::DENIED), near.prop_map(Raw::new), pages.prop_map(Raw::new)]
    }

    proptest! {
        #[test]
        fn any_numbers_against_any_others_are_read_back(
            pairs in proptest::collection::vec((any_raw(), any_raw()), 0..40)
        ) {
            let mut out = Out::default();
            for (value, before) in &pairs {
                put_number(*value, *before, &mut out);
            }
            out.finish();
            let mut input = In::new(&out.bytes, &out.bits);
            for (value, before) in &pairs {
                prop_assert_eq!(number(*before, &mut input), Ok(*value));
            }
            prop_assert!(input.is_done());
        }

        #[test]
        fn going_past_numbers_comes_to_the_same_place_as_reading_them(
            pairs in proptest::collection::vec((any_raw(), any_raw()), 0..40), from in 0..40usize, count in 0..40usize
        ) {
            let mut out = Out::default();
            for (value, before) in &pairs {
                put_number(*value, *before, &mut out);
            }
            out.finish();
            let from = from.min(pairs.len());
            let until = (from + count).min(pairs.len());
            let mut input = In::new(&out.bytes, &out.bits);
            for (value, before) in &pairs[..from] {
                prop_assert_eq!(number(*before, &mut input), Ok(*value));
            }
            prop_assert_eq!(pass(until - from, &mut input), Ok(()));
            for (value, before) in &pairs[until..] {
                prop_assert_eq!(number(*before, &mut input), Ok(*value));
            }
            prop_assert!(input.is_done());
        }

        #[test]
        fn every_code_is_a_number_or_an_error(code in any::<u8>(), bits in proptest::collection::vec(any::<u8>(), 8)) {
            let bytes = [code];
            let _ = number(Raw::new(5), &mut In::new(&bytes, &bits));
        }
    }
}
