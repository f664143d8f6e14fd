//! Differences of numbers since version 2: a byte that tells the size, which takes as much as it is unlikely, and behind it
//! the bits below, which look random and are kept apart as they are.

use super::codec::{Bytes, DecodeError};
use super::coder::{Coded, Coder};
use super::format::{MOST_ROWS, TEXT_WORK};
use super::models::{ByteModel, CountModel, MapModel, TextModel};
use crate::known::{Known, Raw};

/// Tables on their way into a frame.
#[derive(Default)]
pub struct Out {
    /// What is told by how likely it is.
    pub coder: Coder,
    /// New texts, which will be compressed.
    pub texts: Vec<u8>,
    /// Bits that would not become fewer.
    pub bits: Vec<u8>,
    held: u128,
    count: u32,
}

impl Out {
    /// Begins anew.
    pub fn clear(&mut self) {
        self.coder.clear();
        self.texts.clear();
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

    /// Nothing more will come: fills the last byte with zeros.
    pub fn finish(&mut self) {
        self.coder.finish();
        if self.count > 0 {
            self.bits.push(self.held as u8);
            (self.held, self.count) = (0, 0);
        }
    }
}

/// Tables out of a frame.
pub struct In<'a> {
    /// Since version 5.
    coded: Option<Coded<'a>>,
    /// What was compressed: new texts, and before version 5 all but the bits.
    pub bytes: Bytes<'a>,
    bits: &'a [u8],
    held: u128,
    count: u32,
    taken: Taken,
}

/// How much was taken out of a frame, and how much may be.
struct Taken {
    spent: u64,
    most: u64,
}

impl Taken {
    #[inline]
    fn spend(&mut self, work: u64) -> Result<(), DecodeError> {
        self.spent += work;
        if self.spent > self.most { Err(DecodeError::TooMuch) } else { Ok(()) }
    }
}

/// What taking a number out costs that is told apart from many, as a multiple of one of a byte.
const WORD_WORK: u64 = 4;

impl<'a> In<'a> {
    /// The tables of a frame: symbols, since version 5; what was compressed; the bits, which version 1 has not apart. Of a
    /// few bytes any number of symbols can come, so they are bounded by `most`.
    pub fn new(coded: Option<&'a [u8]>, bytes: &'a [u8], bits: &'a [u8], most: u64) -> In<'a> {
        let each = if coded.is_some() { TEXT_WORK } else { 1 };
        let taken = Taken { spent: bytes.len() as u64 * each, most };
        In { coded: coded.map(Coded::new), bytes: Bytes(bytes), bits, held: 0, count: 0, taken }
    }

    /// Whether new texts stand alone.
    pub fn is_coded(&self) -> bool {
        self.coded.is_some()
    }

    /// What it took so far.
    pub fn spent(&self) -> u64 {
        self.taken.spent
    }

    /// An unsigned integer that counts something.
    pub fn count(&mut self, model: &mut CountModel) -> Result<usize, DecodeError> {
        let count = match &mut self.coded {
            None => u64::try_from(self.bytes.varint()?).map_err(|_| DecodeError::TooLarge)?,
            Some(coded) => {
                self.taken.spend(WORD_WORK)?;
                model.take(coded)?
            }
        };
        let count = usize::try_from(count).map_err(|_| DecodeError::TooLarge)?;
        if count > MOST_ROWS { Err(DecodeError::TooMany) } else { Ok(count) }
    }

    /// The number of a text, where `newest` is the highest so far; 0 where it has none yet.
    pub fn text_number(&mut self, model: &mut TextModel, newest: usize) -> Result<usize, DecodeError> {
        let number = match &mut self.coded {
            None => u64::try_from(self.bytes.varint()?).map_err(|_| DecodeError::TooLarge)?,
            Some(coded) => {
                self.taken.spend(WORD_WORK)?;
                model.take(newest as u64, coded)?
            }
        };
        usize::try_from(number).map_err(|_| DecodeError::TooLarge)
    }

    /// Which of so many columns a row has otherwise; none before version 5, which tells it by column.
    pub fn map(&mut self, model: &mut MapModel, columns: usize) -> Option<Result<u64, DecodeError>> {
        let coded = self.coded.as_mut()?;
        Some(self.taken.spend(WORD_WORK).and_then(|()| model.take(columns, coded)))
    }

    /// The code of a number.
    #[inline]
    fn code(&mut self, model: &mut ByteModel) -> Result<u8, DecodeError> {
        match &mut self.coded {
            None => {
                let (&code, rest) = self.bytes.0.split_first().ok_or(DecodeError::TooShort)?;
                self.bytes.0 = rest;
                Ok(code)
            }
            Some(coded) => {
                self.taken.spend(1)?;
                model.take(coded)
            }
        }
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
        let coded = self.coded.as_ref().is_none_or(Coded::is_done);
        coded && self.bytes.0.is_empty() && self.bits.is_empty() && self.count < 8
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
struct Said {
    /// The highest bits.
    begin: u64,
    /// How many bits stand behind them; more than a number has where there is no such code.
    bits: u32,
    /// By how many bits all of it is shifted.
    shift: u32,
    negative: bool,
}

/// Of each code what it says.
static CODES: [Said; 256] = {
    let mut codes = [Said { begin: 0, bits: 0, shift: 0, negative: false }; 256];
    let mut code = ZERO as usize;
    while code < codes.len() {
        let (from, shift) = if code < PAGES as usize { (ZERO, 0) } else { (PAGES, PAGE_BITS) };
        let class = (code - from as usize) / 2;
        let (begin, bits) = begin_of(class as u8);
        codes[code] = Said { begin, bits, shift, negative: (code - from as usize) % 2 == 1 };
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

/// The code of a number against another, the bits behind it, and how many they are.
fn code_of(value: Raw, before: Raw) -> (u8, u64, u32) {
    let value = match value.get() {
        Known::Absent => return (ABSENT, 0, 0),
        Known::Denied => return (DENIED, 0, 0),
        Known::Value(value) => value,
    };
    let difference = value.wrapping_sub(before.value().unwrap_or(0));
    let magnitude = difference.unsigned_abs();
    let in_pages = magnitude > 0 && magnitude.trailing_zeros() >= PAGE_BITS;
    let (begin, magnitude, (class, bits)) = match class(magnitude >> PAGE_BITS) {
        small if in_pages && small.0 < PAGE_CLASSES => (PAGES, magnitude >> PAGE_BITS, small),
        _ => (ZERO, magnitude, class(magnitude)),
    };
    (begin + class * 2 + u8::from(difference < 0), magnitude & ((1u64 << bits) - 1), bits)
}

/// Appends a number against another.
pub fn put_number(value: Raw, before: Raw, model: &mut ByteModel, out: &mut Out) {
    let (code, bits, count) = code_of(value, before);
    model.put(code, &mut out.coder);
    out.put_bits(bits, count);
}

/// The next number against another.
#[inline]
pub fn number(before: Raw, model: &mut ByteModel, input: &mut In<'_>) -> Result<Raw, DecodeError> {
    Ok(match input.code(model)? {
        ABSENT => Raw::ABSENT,
        DENIED => Raw::DENIED,
        code => {
            let Said { begin, bits, shift, negative } = CODES[code as usize];
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
pub fn pass(count: usize, model: &mut ByteModel, input: &mut In<'_>) -> Result<(), DecodeError> {
    let mut bits = 0;
    let mut passed = |code: u8| match CODES[code as usize].bits {
        of_one @ 0..=64 => {
            bits += of_one as usize;
            Ok(())
        }
        _ => Err(DecodeError::TooLarge),
    };
    match &mut input.coded {
        None => input.bytes.take(count)?.iter().try_for_each(|code| passed(*code))?,
        Some(coded) => {
            input.taken.spend(count as u64)?;
            (0..count).try_for_each(|_| passed(model.take(coded)?))?;
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

    fn pairs() -> impl Strategy<Value = Vec<(Raw, Raw)>> {
        proptest::collection::vec((any_raw(), any_raw()), 0..40)
    }

    /// Numbers as they are written, and their codes as they stood before version 5.
    fn put(pairs: &[(Raw, Raw)]) -> (Out, Vec<u8>) {
        let (mut out, mut codes, mut model) = (Out::default(), vec![], ByteModel::default());
        for (value, before) in pairs {
            put_number(*value, *before, &mut model, &mut out);
            codes.push(code_of(*value, *before).0);
        }
        out.finish();
        (out, codes)
    }

    fn both((out, codes): &(Out, Vec<u8>)) -> [In<'_>; 2] {
        [In::new(Some(out.coder.bytes()), &[], &out.bits, 1_000), In::new(None, codes, &out.bits, 0)]
    }

    proptest! {
        #[test]
        fn any_numbers_against_any_others_are_read_back(pairs in pairs()) {
            for mut input in both(&put(&pairs)) {
                let mut model = ByteModel::default();
                for (value, before) in &pairs {
                    prop_assert_eq!(number(*before, &mut model, &mut input), Ok(*value));
                }
                prop_assert!(input.is_done());
            }
        }

        #[test]
        fn going_past_numbers_comes_to_the_same_place_as_reading_them(
            pairs in pairs(), from in 0..40usize, count in 0..40usize
        ) {
            let from = from.min(pairs.len());
            let until = (from + count).min(pairs.len());
            for mut input in both(&put(&pairs)) {
                let mut model = ByteModel::default();
                for (value, before) in &pairs[..from] {
                    prop_assert_eq!(number(*before, &mut model, &mut input), Ok(*value));
                }
                prop_assert_eq!(pass(until - from, &mut model, &mut input), Ok(()));
                for (value, before) in &pairs[until..] {
                    prop_assert_eq!(number(*before, &mut model, &mut input), Ok(*value));
                }
                prop_assert!(input.is_done());
            }
        }

        #[test]
        fn every_code_is_a_number_or_an_error(code in any::<u8>(), bits in proptest::collection::vec(any::<u8>(), 8)) {
            let bytes = [code];
            let _ = number(Raw::new(5), &mut ByteModel::default(), &mut In::new(None, &bytes, &bits, 0));
        }
    }

    #[test]
    fn of_a_few_bytes_no_more_is_taken_than_is_allowed() {
        let mut model = ByteModel::default();
        let mut input = In::new(Some(&[]), &[], &[], 1_000);
        let end = (0..)
            .find_map(|taken| number(Raw::ABSENT, &mut model, &mut input).err().map(|error| (taken, error)));
        assert_eq!(end, Some((1_000, DecodeError::TooMuch)));
    }
}
