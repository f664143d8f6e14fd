//! Tables as CSV (RFC 4180): a line of keys, then a line for each row. What is not known is empty, what is not permitted says so.

use super::{Batch, Cell, Column, Sink, WriteError};
use dozor_core::clock::Zone;
use std::io::Write;

/// How texts stand in cells.
pub type TextCell = fn(&str) -> String;

/// Writes CSV.
pub struct Csv<W: Write> {
    writer: csv::Writer<W>,
    columns: Vec<Column>,
    zone: Zone,
    text: TextCell,
}

impl<W: Write> Csv<W> {
    /// Begins with the keys.
    pub fn begin(out: W, columns: &[Column], zone: &Zone, text: TextCell) -> Result<Csv<W>, WriteError> {
        let mut writer = csv::Writer::from_writer(out);
        writer.write_record(columns.iter().map(|column| column.key))?;
        Ok(Csv { writer, columns: columns.to_vec(), zone: zone.clone(), text })
    }
}

/// A number in as few digits as say it exactly.
pub(super) fn number(value: f64) -> String {
    value.to_string()
}

impl<W: Write> Sink for Csv<W> {
    fn put(&mut self, batch: &Batch) -> Result<(), WriteError> {
        batch.each(|cells| {
            for (cell, column) in cells.iter().zip(&self.columns) {
                match cell {
                    Cell::Absent => self.writer.write_field("")?,
                    Cell::Denied => self.writer.write_field("denied")?,
                    Cell::Whole(wall) if column.is_instant() => {
                        self.writer.write_field(self.zone.rfc3339(*wall))?;
                    }
                    Cell::Whole(ns) if column.is_seconds() => {
                        self.writer.write_field(number(*ns as f64 / 1e9))?;
                    }
                    Cell::Whole(value) => self.writer.write_field(value.to_string())?,
                    Cell::Number(value) | Cell::Least(value) => self.writer.write_field(number(*value))?,
                    Cell::Text(text) => self.writer.write_field((self.text)(text))?,
                }
            }
            self.writer.write_record(None::<&[u8]>)?;
            Ok(())
        })
    }

    fn end(&mut self) -> Result<(), WriteError> {
        Ok(self.writer.flush()?)
    }
}
