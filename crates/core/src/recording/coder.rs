//! Range coding: each symbol takes as much of a file as it is unlikely, down to small parts of a bit. How likely one is
//! say the [`models`](super::models).

use super::codec::DecodeError;

/// Below this a range is too narrow to be divided, and its highest byte is known.
const NARROW: u32 = 1 << 24;
/// Bits of a byte.
const SHIFT: u32 = 8;

/// Up to so many parts a range is not divided by their number but multiplied with its inverse: where symbols are taken out,
/// each waits for the one before, and a division takes three times as long.
const MOST_INVERSE: usize = 1 << 13;
/// Binary places of an inverse. The 32 bits of a range and the 13 of a number of parts are together so many fewer that
/// what an inverse is rounded up by never makes a quotient too large.
const PLACES: u32 = 63;
/// By the number of parts.
static INVERSE: [u64; MOST_INVERSE + 1] = {
    let mut inverse = [0; MOST_INVERSE + 1];
    let mut of = 1;
    while of < inverse.len() {
        inverse[of] = (1u64 << PLACES).div_ceil(of as u64);
        of += 1;
    }
    inverse
};

/// What one part of so many is of a range.
#[inline]
fn unit(range: u32, of: u32) -> u32 {
    match INVERSE.get(of as usize) {
        Some(inverse) => ((u128::from(range) * u128::from(*inverse)) >> PLACES) as u32,
        None => range / of,
    }
}

/// Which part of a range a symbol has: so many parts of so many, behind so many that stand before it.
#[derive(Clone, Copy, Debug)]
pub struct Part {
    pub before: u32,
    pub own: u32,
    pub of: u32,
}

/// Symbols on their way into a frame.
pub struct Coder {
    low: u64,
    range: u32,
    bytes: Vec<u8>,
}

impl Default for Coder {
    fn default() -> Coder {
        Coder { low: 0, range: u32::MAX, bytes: vec![] }
    }
}

impl Coder {
    /// Begins anew.
    pub fn clear(&mut self) {
        (self.low, self.range) = (0, u32::MAX);
        self.bytes.clear();
    }

    /// What was written, once it is finished.
    pub fn bytes(&self) -> &[u8] {
        &self.bytes
    }

    /// Appends a symbol. `of` is at most 2 to the power of 16.
    pub fn put(&mut self, Part { before, own, of }: Part) {
        let unit = unit(self.range, of);
        self.low += u64::from(before * unit);
        self.range = own * unit;
        while self.range < NARROW {
            self.put_byte();
            self.range <<= SHIFT;
        }
    }

    /// Appends the highest byte of the low end.
    fn put_byte(&mut self) {
        self.carry();
        self.bytes.push((self.low >> 24) as u8);
        self.low = (self.low & 0x00ff_ffff) << SHIFT;
    }

    /// What went beyond 32 bits belongs to what was written before.
    fn carry(&mut self) {
        if self.low >> 32 == 0 {
            return;
        }
        self.low &= u64::from(u32::MAX);
        for byte in self.bytes.iter_mut().rev() {
            *byte = byte.wrapping_add(1);
            if *byte != 0 {
                break;
            }
        }
    }

    /// Appends as few bytes as tell the last symbol; behind them a reader takes zeros.
    pub fn finish(&mut self) {
        let end = self.low + u64::from(self.range);
        for zeros in [32, 24, 16, 8, 0] {
            let rounded = (self.low + (1 << zeros) - 1) >> zeros << zeros;
            if rounded < end {
                self.low = rounded;
                break;
            }
        }
        self.carry();
        while self.low != 0 {
            self.put_byte();
        }
        while self.bytes.last() == Some(&0) {
            self.bytes.pop();
        }
    }
}

/// Symbols out of a frame.
pub struct Coded<'a> {
    bytes: &'a [u8],
    /// How many of the bytes are in the point.
    taken: usize,
    point: u32,
    range: u32,
}

impl<'a> Coded<'a> {
    pub fn new(bytes: &'a [u8]) -> Coded<'a> {
        let mut coded = Coded { bytes, taken: 0, point: 0, range: u32::MAX };
        coded.point = coded.next_bytes();
        coded.taken = size_of::<u32>();
        coded
    }

    /// The next four bytes; behind the last there are zeros.
    #[inline]
    fn next_bytes(&self) -> u32 {
        match self.bytes.get(self.taken..self.taken + 4) {
            Some(&[a, b, c, d]) => u32::from_be_bytes([a, b, c, d]),
            _ => self.last_bytes(),
        }
    }

    #[cold]
    fn last_bytes(&self) -> u32 {
        let rest = self.bytes.get(self.taken..).unwrap_or_default();
        rest.iter().zip([24, 16, 8, 0]).map(|(byte, shift)| u32::from(*byte) << shift).sum()
    }

    /// What one part of so many is of the range, for [`Coded::take`].
    #[inline]
    pub fn unit(&self, of: u32) -> u32 {
        unit(self.range, of)
    }

    /// How far into the range the symbol is that comes next.
    #[inline]
    pub fn point(&self) -> u32 {
        self.point
    }

    /// Takes the symbol that begins so far into the range and has so much of it.
    #[inline]
    pub fn take(&mut self, begin: u32, length: u32) {
        // As many whole bytes as its highest bits are zero: without a branch, since nobody could foretell it.
        let shift = length.leading_zeros() & !(SHIFT - 1);
        let wide = u64::from(self.point - begin) << 32 | u64::from(self.next_bytes());
        self.point = ((wide << shift) >> 32) as u32;
        self.range = length << shift;
        self.taken += (shift / SHIFT) as usize;
    }

    /// The next of so many symbols that are equally likely.
    pub fn even(&mut self, of: u32) -> Result<u32, DecodeError> {
        let unit = self.unit(of);
        let symbol = self.point / unit;
        if symbol >= of {
            return Err(DecodeError::Packing);
        }
        self.take(symbol * unit, unit);
        Ok(symbol)
    }

    /// Whether all bytes were taken in.
    pub fn is_done(&self) -> bool {
        self.taken >= self.bytes.len()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Parts of a range, the narrowest and the widest among them.
    fn parts() -> impl Strategy<Value = Vec<Part>> {
        let of = prop_oneof![1..40u32, 8_100..8_300u32, Just(1u32 << 16), 60_000..1u32 << 16];
        let part = of
            .prop_flat_map(|of| (0..of, Just(of)))
            .prop_flat_map(|(before, of)| (1..=of - before).prop_map(move |own| Part { before, own, of }));
        let edge = Just(Part { before: (1 << 16) - 1, own: 1, of: 1 << 16 });
        proptest::collection::vec(prop_oneof![4 => part, 1 => edge], 0..300)
    }

    #[test]
    fn multiplying_with_an_inverse_gives_what_dividing_gives() {
        let most = MOST_INVERSE as u32;
        for of in 1..=most + 1 {
            // Where a quotient just reaches the next number, and just not.
            let steps = [NARROW / of, u32::MAX / of / 2, u32::MAX / of];
            let near = steps.into_iter().flat_map(|step| [step * of, (step * of).wrapping_sub(1)]);
            for range in near.chain([NARROW, u32::MAX - 1, u32::MAX]) {
                assert_eq!(unit(range, of), range / of, "{range} of {of}");
            }
        }
    }

    proptest! {
        #[test]
        fn symbols_come_back_in_their_order(parts in parts()) {
            let mut coder = Coder::default();
            for part in &parts {
                coder.put(*part);
            }
            coder.finish();
            let mut coded = Coded::new(coder.bytes());
            for Part { before, own, of } in parts {
                let unit = coded.unit(of);
                prop_assert!((before * unit..(before + own) * unit).contains(&coded.point()));
                coded.take(before * unit, own * unit);
            }
            prop_assert!(coded.is_done());
        }

        #[test]
        fn they_take_what_their_parts_say(parts in parts()) {
            let mut coder = Coder::default();
            for part in &parts {
                coder.put(*part);
            }
            coder.finish();
            let bits: f64 = parts.iter().map(|part| (f64::from(part.of) / f64::from(part.own)).log2()).sum();
            // A division leaves less than a 256th of a range unused.
            let lost = parts.len() as f64 * (257.0f64 / 256.0).log2();
            prop_assert!(coder.bytes().len() as f64 * 8.0 <= bits + lost + 16.0);
        }
    }
}
