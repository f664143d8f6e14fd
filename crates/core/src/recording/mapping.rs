//! How the columns of a recording map to the fields of this program.

use super::format::FIRST_BY_KIN;
use crate::row::{Kind, Row};

/// Whether a number is a clock: the clocks of a row go forward by nearly the same.
pub fn is_clock(kind: &str, unit: &str) -> bool {
    kind == Kind::Level.word() && unit == "ns"
}

/// How a recording's columns map to the fields of this program.
#[derive(Clone)]
pub struct Columns<R: Row> {
    /// For each text of the recording our text, or none where we do not know it.
    pub texts: Vec<Option<usize>>,
    /// For each number of the recording our field, or none where we do not know it.
    pub fields: Vec<Option<usize>>,
    /// For each number whether it is a level, as the recording says.
    pub levels: Vec<bool>,
    /// For each number whether it is a clock, as the recording says.
    pub clocks: Vec<bool>,
    /// Whether added rows are written against those of the same name, as since version 4.
    pub by_kin: bool,
    row: std::marker::PhantomData<R>,
}

impl<R: Row> Columns<R> {
    /// Maps names of a version of the format; `None` when there are more than the bitmap can hold. Numbers come with their
    /// kind and unit.
    pub fn by_name<'a>(
        texts: impl Iterator<Item = &'a str>,
        fields: impl Iterator<Item = (&'a str, &'a str, &'a str)>,
        version: u16,
    ) -> Option<Columns<R>> {
        let texts: Vec<_> = texts.map(|name| R::TEXTS.iter().position(|field| field.name == name)).collect();
        let by_kin = version >= FIRST_BY_KIN;
        let (fields_of, levels, clocks) = (vec![], vec![], vec![]);
        let mut columns =
            Columns { texts, fields: fields_of, levels, clocks, by_kin, row: std::marker::PhantomData };
        for (name, kind, unit) in fields {
            columns.fields.push(R::FIELDS.iter().position(|field| field.name == name));
            columns.levels.push(kind == Kind::Level.word());
            columns.clocks.push(is_clock(kind, unit));
        }
        (columns.texts.len() + columns.fields.len() <= 64).then_some(columns)
    }
}
