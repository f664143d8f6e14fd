//! Rows of raw counters, each counter declared once.
//!
//! The [`rows!`](crate::rows) macro turns one declaration into the struct field, the entry of the recording's
//! schema and the line of the documents. Everything that walks over counters (the recording, the laws in the
//! tests) goes through [`Row`] and never names a field.

use crate::known::Raw;
use crate::text::Text;

/// What a raw number counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// Only grows while its owner lives; its rate is what matters.
    Counter,
    /// A level at the instant of the reading.
    Level,
    /// Identifies the row or names a state; differences mean nothing.
    Label,
}

impl Kind {
    /// The word used in the schema of a recording.
    pub const fn word(self) -> &'static str {
        match self {
            Kind::Counter => "counter",
            Kind::Level => "level",
            Kind::Label => "label",
        }
    }
}

/// One raw number of a row type.
pub struct Field<R> {
    /// Name in the struct and in the recording.
    pub name: &'static str,
    /// Unit as written in the schema: `ticks`, `bytes`, `ms`, ….
    pub unit: &'static str,
    /// What kind of number it is.
    pub kind: Kind,
    /// What it means and which kernel file it comes from.
    pub help: &'static str,
    /// Reads it.
    pub get: fn(&R) -> Raw,
    /// Where it stands.
    pub place: fn(&mut R) -> &mut Raw,
}

impl<R> Field<R> {
    /// Writes it.
    pub fn set(&self, row: &mut R, value: Raw) {
        *(self.place)(row) = value;
    }
}

/// One text of a row type.
pub struct TextField<R> {
    /// Name in the struct and in the recording.
    pub name: &'static str,
    /// What it means.
    pub help: &'static str,
    /// Reads it.
    pub get: fn(&R) -> &Text,
    /// Writes it.
    pub set: fn(&mut R, Text),
}

/// Which texts and numbers of a row somebody looks at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Cells(u64);

impl Cells {
    /// All of them.
    pub const ALL: Cells = Cells(u64::MAX);
    /// None of them.
    pub const NONE: Cells = Cells(0);

    /// Those with these names; a name that the row does not have is none.
    pub fn named<R: Row>(names: &[&str]) -> Cells {
        let texts = R::TEXTS.iter().map(|field| field.name);
        let all = texts.chain(R::FIELDS.iter().map(|field| field.name));
        Cells(all.enumerate().fold(0, |map, (at, name)| map | u64::from(names.contains(&name)) << at))
    }

    /// Those of both.
    #[must_use]
    pub fn and(self, other: Cells) -> Cells {
        Cells(self.0 | other.0)
    }

    /// Whether any of these are among them.
    #[must_use]
    pub fn meet(self, other: Cells) -> bool {
        self.0 & other.0 != 0
    }

    /// Whether all of these are among them.
    #[must_use]
    pub fn cover(self, other: Cells) -> bool {
        self.0 & other.0 == other.0
    }

    /// Whether the text in this place of [`Row::TEXTS`] is among them.
    pub fn has_text(self, place: usize) -> bool {
        self.0 >> place & 1 == 1
    }

    /// Whether the number in this place of [`Row::FIELDS`] is among them.
    pub fn has_number<R: Row>(self, place: usize) -> bool {
        self.0 >> (R::TEXTS.len() + place) & 1 == 1
    }
}

/// A row of raw numbers and texts that a recording can hold without knowing its fields.
pub trait Row: Clone + PartialEq + Default + 'static {
    /// Name of the group in the recording's schema.
    const GROUP: &'static str;
    /// All numbers, in the order of the declaration.
    const FIELDS: &'static [Field<Self>];
    /// All texts, in the order of the declaration.
    const TEXTS: &'static [TextField<Self>];
    /// What tells two rows of one reading apart.
    type Key: Ord + Clone + std::hash::Hash;
    /// The row's identity; rows of a reading are sorted by it.
    fn key(&self) -> Self::Key;
}

/// Declares a row type: `rows! { /// doc … Name "group" key(|row| …): KeyType; texts {…} fields {…} }`.
#[macro_export]
macro_rules! rows {
    (
        $(#[$meta:meta])*
        $name:ident $group:literal key $key_type:ty : |$row:ident| $key:expr;
        texts { $( $(#[doc = $text_help:literal])+ $text:ident; )* }
        fields { $( $(#[doc = $help:literal])+ $field:ident: $unit:literal $kind:ident; )* }
    ) => {
        $(#[$meta])*
        #[derive(Debug, PartialEq)]
        pub struct $name {
            $( $(#[doc = $text_help])+ pub $text: $crate::text::Text, )*
            $( $(#[doc = $help])+ pub $field: $crate::known::Raw, )*
        }

        impl Clone for $name {
            fn clone(&self) -> Self {
                $name {
                    $( $text: self.$text.clone(), )*
                    $( $field: self.$field, )*
                }
            }

            #[allow(unused_variables, reason = "a row may have no fields")]
            fn clone_from(&mut self, from: &Self) {
                // Of the same row before, nearly all texts are there already.
                $( if !std::sync::Arc::ptr_eq(&self.$text, &from.$text) {
                    self.$text = from.$text.clone();
                } )*
                $( self.$field = from.$field; )*
            }
        }

        impl Default for $name {
            fn default() -> Self {
                $name {
                    $( $text: $crate::text::no_text(), )*
                    $( $field: $crate::known::Raw::ABSENT, )*
                }
            }
        }

        impl $crate::row::Row for $name {
            const GROUP: &'static str = $group;
            const FIELDS: &'static [$crate::row::Field<Self>] = &[$(
                $crate::row::Field {
                    name: stringify!($field),
                    unit: $unit,
                    kind: $crate::row::Kind::$kind,
                    help: concat!($($help),+),
                    get: |row| row.$field,
                    place: |row| &mut row.$field,
                },
            )*];
            const TEXTS: &'static [$crate::row::TextField<Self>] = &[$(
                $crate::row::TextField {
                    name: stringify!($text),
                    help: concat!($($text_help),+),
                    get: |row| &row.$text,
                    set: |row, text| row.$text = text,
                },
            )*];
            type Key = $key_type;
            fn key(&self) -> Self::Key {
                let $row = self;
                $key
            }
        }
    };
}
