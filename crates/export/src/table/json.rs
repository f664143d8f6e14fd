//! Tables as JSON: an array of objects, or an object a line. What is not known is null; what is not permitted is null as well, and
//! named in `denied`; what is only the least that it may be is named in `at_least`.

use super::{Batch, Cell, Column, Sink, WriteError};
use dozor_core::clock::Zone;
use serde_json::{Map, Number, Value as Json};
use std::io::Write;

/// Writes JSON.
pub struct Rows<W: Write> {
    out: W,
    columns: Vec<Column>,
    zone: Zone,
    /// One object a line, else one array.
    lines: bool,
    first: bool,
}

impl<W: Write> Rows<W> {
    /// Begins.
    pub fn begin(out: W, columns: &[Column], zone: &Zone, lines: bool) -> Rows<W> {
        Rows { out, columns: columns.to_vec(), zone: zone.clone(), lines, first: true }
    }
}

fn number(value: f64) -> Json {
    Number::from_f64(value).map_or(Json::Null, Json::Number)
}

impl<W: Write> Sink for Rows<W> {
    fn put(&mut self, batch: &Batch) -> Result<(), WriteError> {
        batch.each(|cells| {
            let mut object = Map::with_capacity(cells.len());
            let (mut denied, mut least) = (vec![], vec![]);
            for (cell, column) in cells.iter().zip(&self.columns) {
                let value = match cell {
                    Cell::Absent => Json::Null,
                    Cell::Denied => {
                        denied.push(Json::from(column.key));
                        Json::Null
                    }
                    Cell::Whole(wall) if column.is_instant() => Json::from(self.zone.rfc3339(*wall)),
                    Cell::Whole(ns) if column.is_seconds() => number(*ns as f64 / 1e9),
                    Cell::Whole(value) => Json::from(*value),
                    Cell::Number(value) => number(*value),
                    Cell::Least(value) => {
                        least.push(Json::from(column.key));
                        number(*value)
                    }
                    Cell::Text(text) => Json::from(*text),
                };
                object.insert(column.key.to_owned(), value);
            }
            for (name, keys) in [("denied", denied), ("at_least", least)] {
                if !keys.is_empty() {
                    object.insert(name.to_owned(), Json::from(keys));
                }
            }
            if !self.lines {
                self.out.write_all(if self.first { b"[\n" } else { b",\n" })?;
            }
            self.first = false;
            serde_json::to_writer(&mut self.out, &object)?;
            if self.lines {
                self.out.write_all(b"\n")?;
            }
            Ok(())
        })
    }

    fn end(&mut self) -> Result<(), WriteError> {
        if !self.lines {
            self.out.write_all(if self.first { b"[]\n" } else { b"\n]\n" })?;
        }
        Ok(self.out.flush()?)
    }
}
