//! How likely a symbol is in its place, counted from those that stood there since the key frame. Writer and reader count
//! alike.

use super::codec::DecodeError;
use super::coder::{Coded, Coder, Part};

/// Symbols that are told apart in a place, at most; others take more bits.
const MOST_KNOWN: usize = 256;
/// Once so many symbols are counted, each counts half.
const MEMORY: u32 = 1 << 13;
/// Bits of a byte of a varint.
const SEVEN: u32 = 7;

/// What stood in a place how often, the frequent first. What is new comes behind all of it, as if it had been there once.
pub struct Model<S> {
    known: Vec<(S, u32)>,
    sum: u32,
}

impl<S> Default for Model<S> {
    fn default() -> Model<S> {
        Model { known: vec![], sum: 0 }
    }
}

impl<S: Copy + Eq> Model<S> {
    /// Appends a symbol; one that is new as such alone, and then false comes back.
    fn put(&mut self, symbol: S, coder: &mut Coder) -> bool {
        let mut before = 0;
        let mut known = self.known.iter().enumerate();
        let found = known.find_map(|(at, &(other, times))| {
            if other == symbol {
                return Some((at, times));
            }
            before += times;
            None
        });
        coder.put(Part { before, own: found.map_or(1, |(_, times)| times), of: self.sum + 1 });
        match found {
            Some((at, _)) => self.again(at),
            None => self.first(symbol),
        }
        found.is_some()
    }

    /// The next symbol; none where a new one follows.
    #[inline]
    fn take(&mut self, coded: &mut Coded<'_>) -> Result<Option<S>, DecodeError> {
        let unit = coded.unit(self.sum + 1);
        let point = coded.point();
        let mut begin = 0;
        for (at, &(symbol, times)) in self.known.iter().enumerate() {
            let length = times * unit;
            if point - begin < length {
                coded.take(begin, length);
                self.again(at);
                return Ok(Some(symbol));
            }
            begin += length;
        }
        if point - begin >= unit {
            return Err(DecodeError::Packing);
        }
        coded.take(begin, unit);
        Ok(None)
    }

    /// A known symbol came again.
    #[inline]
    fn again(&mut self, at: usize) {
        self.known[at].1 += 1;
        if at > 0 && self.known[at - 1].1 < self.known[at].1 {
            self.known.swap(at - 1, at);
        }
        self.counted();
    }

    /// A symbol came that was new.
    fn first(&mut self, symbol: S) {
        if self.known.len() < MOST_KNOWN {
            self.known.push((symbol, 1));
            self.counted();
        }
    }

    #[inline]
    fn counted(&mut self) {
        self.sum += 1;
        if self.sum >= MEMORY {
            self.halve();
        }
    }

    #[cold]
    #[inline(never)]
    fn halve(&mut self) {
        self.sum = 0;
        for (_, times) in &mut self.known {
            *times = times.div_ceil(2);
            self.sum += *times;
        }
    }
}

/// Bytes; new ones are all equally likely.
#[derive(Default)]
pub struct ByteModel(Model<u8>);

impl ByteModel {
    pub fn put(&mut self, byte: u8, coder: &mut Coder) {
        if !self.0.put(byte, coder) {
            coder.put(Part { before: byte.into(), own: 1, of: 256 });
        }
    }

    #[inline]
    pub fn take(&mut self, coded: &mut Coded<'_>) -> Result<u8, DecodeError> {
        if let Some(byte) = self.0.take(coded)? {
            return Ok(byte);
        }
        let byte = coded.even(256)? as u8;
        self.0.first(byte);
        Ok(byte)
    }
}

/// Numbers that come seven bits a byte, lowest first: the first byte is told apart from those behind it.
#[derive(Default)]
struct VarintModel([ByteModel; 2]);

impl VarintModel {
    fn put(&mut self, mut value: u64, coder: &mut Coder) {
        let mut model = &mut self.0[0];
        while value >= 1 << SEVEN {
            model.put(value as u8 | 0x80, coder);
            value >>= SEVEN;
            model = &mut self.0[1];
        }
        model.put(value as u8, coder);
    }

    fn take(&mut self, coded: &mut Coded<'_>) -> Result<u64, DecodeError> {
        let mut value = 0;
        for (at, shift) in (0..63).step_by(SEVEN as usize).enumerate() {
            let byte = self.0[at.min(1)].take(coded)?;
            value |= u64::from(byte & 0x7f) << shift;
            if byte < 0x80 {
                return Ok(value);
            }
        }
        Err(DecodeError::TooLarge)
    }
}

/// Counts and steps.
#[derive(Default)]
pub struct CountModel {
    counts: Model<u64>,
    new: VarintModel,
}

impl CountModel {
    pub fn put(&mut self, count: u64, coder: &mut Coder) {
        if !self.counts.put(count, coder) {
            self.new.put(count, coder);
        }
    }

    pub fn take(&mut self, coded: &mut Coded<'_>) -> Result<u64, DecodeError> {
        if let Some(count) = self.counts.take(coded)? {
            return Ok(count);
        }
        let count = self.new.take(coded)?;
        self.counts.first(count);
        Ok(count)
    }
}

/// Numbers of texts, from 1 on; 0 stands for a text that has none yet. One that is new here is told by how far it is from
/// the newest.
#[derive(Default)]
pub struct TextModel {
    numbers: Model<u64>,
    new: VarintModel,
}

impl TextModel {
    /// `newest` is the highest number that a text has so far.
    pub fn put(&mut self, number: u64, newest: u64, coder: &mut Coder) {
        if !self.numbers.put(number, coder) {
            self.new.put(if number == 0 { 0 } else { newest - number + 1 }, coder);
        }
    }

    pub fn take(&mut self, newest: u64, coded: &mut Coded<'_>) -> Result<u64, DecodeError> {
        if let Some(number) = self.numbers.take(coded)? {
            return Ok(number);
        }
        let number = match self.new.take(coded)? {
            0 => 0,
            back => (newest + 1).checked_sub(back).filter(|number| *number > 0).ok_or(DecodeError::NoSuch)?,
        };
        self.numbers.first(number);
        Ok(number)
    }
}

/// Which columns a row has otherwise: new maps are eight columns a byte, each byte told apart.
#[derive(Default)]
pub struct MapModel {
    maps: Model<u64>,
    new: [ByteModel; 8],
}

impl MapModel {
    /// A map of so many columns.
    pub fn put(&mut self, map: u64, columns: usize, coder: &mut Coder) {
        if !self.maps.put(map, coder) {
            let bytes = self.new.iter_mut().zip(map.to_le_bytes());
            bytes.take(columns.div_ceil(8)).for_each(|(model, byte)| model.put(byte, coder));
        }
    }

    pub fn take(&mut self, columns: usize, coded: &mut Coded<'_>) -> Result<u64, DecodeError> {
        if let Some(map) = self.maps.take(coded)? {
            return Ok(map);
        }
        let mut bytes = [0; 8];
        for (model, byte) in self.new.iter_mut().zip(&mut bytes).take(columns.div_ceil(8)) {
            *byte = model.take(coded)?;
        }
        let map = u64::from_le_bytes(bytes);
        if columns < 64 && map >> columns != 0 {
            return Err(DecodeError::NoSuch);
        }
        self.maps.first(map);
        Ok(map)
    }
}

/// Rising indexes: how many they are, and their steps.
#[derive(Default)]
pub struct StepModel {
    pub count: CountModel,
    pub step: CountModel,
}

/// Of rows that changed, and of rows that were added.
#[derive(Default)]
pub struct Both<M> {
    pub changed: M,
    pub added: M,
}

impl<M> Both<M> {
    /// Of a row that changed, else of one that was added.
    #[inline]
    pub fn of(&mut self, changed: bool) -> &mut M {
        if changed { &mut self.changed } else { &mut self.added }
    }
}

/// What stands in a table.
#[derive(Default)]
pub struct Models {
    pub removed: StepModel,
    pub changed: StepModel,
    pub added: CountModel,
    pub maps: Both<MapModel>,
    /// By column.
    pub texts: Vec<TextModel>,
    /// By column.
    pub numbers: Vec<Both<ByteModel>>,
}

impl Models {
    /// So many columns of texts and of numbers are about to come.
    pub fn expect(&mut self, texts: usize, numbers: usize) {
        self.texts.resize_with(texts, TextModel::default);
        self.numbers.resize_with(numbers, Both::default);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Mostly few different ones, sometimes any.
    fn words() -> impl Strategy<Value = Vec<u64>> {
        let word = prop_oneof![6 => 0..5u64, 2 => 0..1_000u64, 1 => any::<u64>().prop_map(|any| any >> 1)];
        proptest::collection::vec(word, 0..2_000)
    }

    proptest! {
        #[test]
        fn whatever_was_put_in_is_taken_out(words in words(), columns in 1..=64usize) {
            let (mut coder, mut counts, mut bytes, mut maps) =
                (Coder::default(), CountModel::default(), ByteModel::default(), MapModel::default());
            let mut texts = TextModel::default();
            let map_of = |word: u64| word & (u64::MAX >> (64 - columns));
            for (newest, word) in words.iter().enumerate() {
                counts.put(*word, &mut coder);
                bytes.put(*word as u8, &mut coder);
                maps.put(map_of(*word), columns, &mut coder);
                texts.put(*word % (newest as u64 + 1), newest as u64, &mut coder);
            }
            coder.finish();
            let mut coded = Coded::new(coder.bytes());
            let (mut counts, mut bytes, mut maps) =
                (CountModel::default(), ByteModel::default(), MapModel::default());
            let mut texts = TextModel::default();
            for (newest, word) in words.iter().enumerate() {
                prop_assert_eq!(counts.take(&mut coded), Ok(*word));
                prop_assert_eq!(bytes.take(&mut coded), Ok(*word as u8));
                prop_assert_eq!(maps.take(columns, &mut coded), Ok(map_of(*word)));
                prop_assert_eq!(texts.take(newest as u64, &mut coded), Ok(*word % (newest as u64 + 1)));
            }
            prop_assert!(coded.is_done());
        }

        #[test]
        fn foreign_bytes_are_symbols_or_an_error(foreign in proptest::collection::vec(any::<u8>(), 0..400)) {
            let mut coded = Coded::new(&foreign);
            let mut models = Models::default();
            models.expect(1, 1);
            for _ in 0..1_000 {
                let _ = models.removed.count.take(&mut coded);
                let _ = models.maps.changed.take(9, &mut coded).map(|map| assert!(map < 1 << 9));
                let _ = models.texts[0].take(5, &mut coded).map(|number| assert!(number <= 5));
                let _ = models.numbers[0].added.take(&mut coded);
            }
        }
    }

    #[test]
    fn what_stands_there_nearly_always_takes_a_small_part_of_a_bit() {
        let (mut coder, mut bytes) = (Coder::default(), ByteModel::default());
        (0..8_000).for_each(|_| bytes.put(7, &mut coder));
        coder.finish();
        assert!(coder.bytes().len() < 6, "{} bytes", coder.bytes().len());
    }

    #[test]
    fn among_two_that_come_equally_often_each_takes_a_bit() {
        let (mut coder, mut bytes) = (Coder::default(), ByteModel::default());
        let mut noise = 1u32;
        for _ in 0..8_000 {
            noise = noise.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            bytes.put((noise >> 31) as u8, &mut coder);
        }
        coder.finish();
        assert!((990..1_020).contains(&coder.bytes().len()), "{} bytes", coder.bytes().len());
    }
}
