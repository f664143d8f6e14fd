//! Texts of tables: each stands there once, from key frame to key frame, and is referred to by its number.

use super::codec::{Bytes, DecodeError, put_varint};
use super::format::{MOST_ROWS, MOST_TEXT};
use super::models::TextModel;
use super::numbers::{In, Out};
use crate::text::{Text, clean};
use std::collections::HashMap;
use std::hash::{Hash, Hasher};

/// Texts already written since the last key frame, by number from 1.
#[derive(Default)]
pub struct Written {
    numbers: HashMap<Text, u32>,
    bytes: usize,
}

impl Written {
    /// Appends the number of a text, and a new text itself.
    pub fn put(&mut self, text: &Text, model: &mut TextModel, out: &mut Out) {
        let known = self.numbers.get(text).copied();
        model.put(known.map_or(0, u64::from), self.numbers.len() as u64, &mut out.coder);
        if known.is_some() {
            return;
        }
        put_varint(text.len() as u128, &mut out.texts);
        out.texts.extend_from_slice(text.as_bytes());
        self.numbers.insert(text.clone(), self.numbers.len() as u32 + 1);
        self.bytes += text.len();
    }

    /// Bytes of all texts: a reader keeps them until the next key frame.
    pub fn bytes(&self) -> usize {
        self.bytes
    }

    /// Forgets all texts, as a key frame demands.
    pub fn clear(&mut self) {
        self.numbers.clear();
        self.bytes = 0;
    }
}

/// Texts already read since the last key frame.
#[derive(Default, Clone)]
pub struct Read {
    texts: Vec<Text>,
    /// Bytes of all of them.
    bytes: usize,
}

/// A text that was read, told apart by its number: what is not fit to be shown was taken from it.
#[derive(Clone, Debug, Default)]
pub struct Name {
    /// None where it is empty.
    number: Option<usize>,
    pub text: Text,
}

impl PartialEq for Name {
    fn eq(&self, other: &Name) -> bool {
        self.number == other.number
    }
}

impl Eq for Name {}

impl Hash for Name {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.number.hash(state);
    }
}

impl Read {
    /// The next text as a name.
    pub fn name(&mut self, model: &mut TextModel, input: &mut In<'_>) -> Result<Name, DecodeError> {
        let number = input.text_number(model, self.texts.len())?;
        // A new one gets the next number.
        let place = number.checked_sub(1).unwrap_or(self.texts.len());
        let text = self.by_number(number, &mut input.bytes)?;
        Ok(Name { number: (!text.is_empty()).then_some(place), text })
    }

    /// The next text.
    pub fn get(&mut self, model: &mut TextModel, input: &mut In<'_>) -> Result<Text, DecodeError> {
        let number = input.text_number(model, self.texts.len())?;
        self.by_number(number, &mut input.bytes)
    }

    /// The next text of version 1.
    pub fn get_plain(&mut self, bytes: &mut Bytes<'_>) -> Result<Text, DecodeError> {
        let number = usize::try_from(bytes.varint()?).map_err(|_| DecodeError::TooLarge)?;
        self.by_number(number, bytes)
    }

    /// All new texts of a frame that are left, where its tables are not read.
    pub fn rest(&mut self, input: &mut In<'_>) -> Result<(), DecodeError> {
        while input.is_coded() && !input.bytes.0.is_empty() {
            self.by_number(0, &mut input.bytes)?;
        }
        Ok(())
    }

    /// A text by its number; a new one stands in the bytes.
    fn by_number(&mut self, number: usize, bytes: &mut Bytes<'_>) -> Result<Text, DecodeError> {
        if number > 0 {
            return self.texts.get(number - 1).cloned().ok_or(DecodeError::NoSuch);
        }
        let length = usize::try_from(bytes.varint()?).map_err(|_| DecodeError::TooLarge)?;
        if self.texts.len() >= 4 * MOST_ROWS || self.bytes >= MOST_TEXT {
            return Err(DecodeError::TooMany);
        }
        let text = Text::from(clean(bytes.take(length)?));
        self.bytes += text.len() + size_of::<Text>();
        self.texts.push(text.clone());
        Ok(text)
    }

    /// Forgets all texts, as a key frame demands.
    pub fn clear(&mut self) {
        self.texts.clear();
        self.bytes = 0;
    }
}
