//! Tables for people: columns under each other, numbers in units that are read.

use super::{Batch, Cell, Column, Sink, Type, WriteError};
use dozor_core::catalogue::Value;
use dozor_core::clock::Zone;
use std::io::Write;

/// Writes text.
pub struct Lines<W: Write> {
    out: W,
    columns: Vec<Column>,
    zone: Zone,
    widths: Vec<usize>,
}

impl<W: Write> Lines<W> {
    /// Begins; the headings come with the first rows.
    pub fn begin(out: W, columns: &[Column], zone: &Zone) -> Lines<W> {
        Lines { out, columns: columns.to_vec(), zone: zone.clone(), widths: vec![] }
    }

    fn cell(&self, cell: Cell<'_>, column: &Column) -> String {
        match (cell, column.metric) {
            (Cell::Absent, _) => "–".to_owned(),
            (Cell::Denied, _) => "×".to_owned(),
            (Cell::Text(text), _) => text.to_owned(),
            (Cell::Whole(wall), _) if column.kind == Type::Time => self.zone.date_time(wall),
            (Cell::Whole(value), Some(metric)) => Value::Number(value as f64).short(metric.unit),
            (Cell::Whole(value), None) => value.to_string(),
            (Cell::Number(value), Some(metric)) => Value::Number(value).short(metric.unit),
            (Cell::Number(value), None) => format!("{value:.3}"),
            (Cell::Least(value), _) => format!("≥{}", self.cell(Cell::Number(value), column)),
        }
    }

    fn line(&mut self, cells: &[String]) -> std::io::Result<()> {
        let mut line = String::new();
        for ((cell, width), column) in cells.iter().zip(&self.widths).zip(&self.columns) {
            let room = width.saturating_sub(cell.chars().count());
            if column.kind == Type::Text || column.kind == Type::Time {
                line.push_str(cell);
                line.extend(std::iter::repeat_n(' ', room));
            } else {
                line.extend(std::iter::repeat_n(' ', room));
                line.push_str(cell);
            }
            line.push_str("  ");
        }
        writeln!(self.out, "{}", line.trim_end())
    }
}

impl<W: Write> Sink for Lines<W> {
    fn put(&mut self, batch: &Batch) -> Result<(), WriteError> {
        let mut rows: Vec<Vec<String>> = vec![];
        batch.each::<WriteError>(|cells| {
            rows.push(
                cells.iter().zip(&self.columns).map(|(cell, column)| self.cell(*cell, column)).collect(),
            );
            Ok(())
        })?;
        if self.widths.is_empty() && !rows.is_empty() {
            // What comes later is put under the same headings as well as it fits.
            let widest = |at: usize, column: &Column| {
                let cells = rows.iter().map(|row| row[at].chars().count()).max().unwrap_or(0);
                cells.max(column.key.chars().count()).min(if column.kind == Type::Text { 60 } else { 40 })
            };
            self.widths = self.columns.iter().enumerate().map(|(at, column)| widest(at, column)).collect();
            let headings: Vec<String> = self.columns.iter().map(|column| column.key.to_owned()).collect();
            self.line(&headings)?;
        }
        for row in &rows {
            self.line(row)?;
        }
        Ok(())
    }

    fn end(&mut self) -> Result<(), WriteError> {
        Ok(self.out.flush()?)
    }
}
