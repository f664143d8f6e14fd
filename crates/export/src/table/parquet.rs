//! Tables as Apache Parquet: typed columns, a row group for each batch (so by time), zstd; units, meanings and the standard's names in
//! the metadata.

use super::{Batch, Column, Filled, Sink, Type, VERSION, Values, Which, WriteError};
use dozor_core::reading::HostFacts;
use dozor_core::text::Text;
use parquet::basic::{Compression, Encoding, LogicalType, Repetition, TimeUnit, Type as Physical, ZstdLevel};
use parquet::data_type::{ByteArray, ByteArrayType, DoubleType, Int64Type};
use parquet::file::metadata::KeyValue;
use parquet::file::properties::{EnabledStatistics, WriterProperties};
use parquet::file::writer::{SerializedColumnWriter, SerializedFileWriter};
use parquet::schema::types::{ColumnPath, Type as Schema};
use std::collections::HashMap;
use std::io::Write;
use std::sync::Arc;

/// The columns that name what may not be seen, and what is only the least that it may be.
const NAMING: [(&str, Rows); 2] = [("denied", |column| &column.denied), ("at_least", |column| &column.least)];

/// Rows of a column.
type Rows = fn(&Filled) -> &[u32];

/// Writes Parquet.
pub struct Parquet<W: Write + Send> {
    writer: Option<SerializedFileWriter<W>>,
    keys: Vec<&'static str>,
}

fn field(key: &str, kind: Type) -> Result<Schema, WriteError> {
    let required = if key == "time" { Repetition::REQUIRED } else { Repetition::OPTIONAL };
    let nanos = LogicalType::timestamp(true, TimeUnit::NANOS);
    let (physical, logical) = match kind {
        Type::Time => (Physical::INT64, Some(nanos)),
        Type::Whole => (Physical::INT64, None),
        Type::Number => (Physical::DOUBLE, None),
        Type::Text => (Physical::BYTE_ARRAY, Some(LogicalType::String)),
    };
    let built =
        Schema::primitive_type_builder(key, physical).with_logical_type(logical).with_repetition(required);
    Ok(built.build()?)
}

/// What a file says of its table: the version of the schema, the host, and of each column its unit and its meaning.
fn metadata(which: Which, columns: &[Column], host: &HostFacts) -> Vec<KeyValue> {
    let mut all = vec![
        KeyValue::new("dozor.schema.version".to_owned(), VERSION.to_string()),
        KeyValue::new("dozor.table".to_owned(), which.name().to_owned()),
        KeyValue::new("host.name".to_owned(), host.name.clone()),
        KeyValue::new("time_zone".to_owned(), host.time_zone.clone()),
    ];
    for column in columns {
        let mut put = |what: &str, text: &str| {
            if !text.is_empty() {
                all.push(KeyValue::new(format!("column.{}.{what}", column.key), text.to_owned()));
            }
        };
        put("unit", column.unit);
        put("meaning", column.help);
        if let Some(metric) = column.metric {
            put("name", metric.name);
            put("kind", metric.kind.word());
        }
    }
    all
}

impl<W: Write + Send> Parquet<W> {
    /// Begins a file.
    pub fn begin(
        out: W,
        which: Which,
        columns: &[Column],
        host: &HostFacts,
    ) -> Result<Parquet<W>, WriteError> {
        let mut fields = vec![];
        for column in columns {
            fields.push(Arc::new(field(column.key, column.kind)?));
        }
        for (key, _) in NAMING {
            fields.push(Arc::new(field(key, Type::Text)?));
        }
        let schema = Schema::group_type_builder("dozor").with_fields(fields).build()?;
        let mut properties = WriterProperties::builder()
            .set_compression(Compression::ZSTD(ZstdLevel::try_new(1)?))
            .set_statistics_enabled(EnabledStatistics::Chunk)
            .set_created_by(concat!("dozor ", env!("CARGO_PKG_VERSION")).to_owned())
            .set_key_value_metadata(Some(metadata(which, columns, host)));
        // Times are the same for all rows of a sample, and always a little later: differences are short.
        properties = properties
            .set_column_dictionary_enabled(ColumnPath::from("time"), false)
            .set_column_encoding(ColumnPath::from("time"), Encoding::DELTA_BINARY_PACKED);
        let writer = SerializedFileWriter::new(out, Arc::new(schema), Arc::new(properties.build()))?;
        Ok(Parquet { writer: Some(writer), keys: columns.iter().map(|column| column.key).collect() })
    }
}

/// Each text once as bytes: the same text is the same place in memory for as long as the batch holds it.
fn bytes(texts: &[Text]) -> Vec<ByteArray> {
    let mut known: HashMap<*const u8, ByteArray> = HashMap::new();
    let one = |text: &Text| {
        known.entry(text.as_ptr()).or_insert_with(|| ByteArray::from(text.as_bytes().to_vec())).clone()
    };
    texts.iter().map(one).collect()
}

fn put(column: &Filled, required: bool, writer: &mut SerializedColumnWriter<'_>) -> Result<(), WriteError> {
    let there = (!required).then_some(&column.there[..]);
    match &column.values {
        Values::Whole(values) => writer.typed::<Int64Type>().write_batch(values, there, None)?,
        Values::Number(values) => writer.typed::<DoubleType>().write_batch(values, there, None)?,
        Values::Text(values) => writer.typed::<ByteArrayType>().write_batch(&bytes(values), there, None)?,
    };
    Ok(())
}

impl<W: Write + Send> Sink for Parquet<W> {
    fn put(&mut self, batch: &Batch) -> Result<(), WriteError> {
        if batch.rows == 0 {
            return Ok(());
        }
        let Some(writer) = &mut self.writer else { return Ok(()) };
        let mut group = writer.next_row_group()?;
        for (place, column) in batch.columns.iter().enumerate() {
            let Some(mut next) = group.next_column()? else { break };
            put(column, place == 0, &mut next)?;
            next.close()?;
        }
        for (_, rows) in NAMING {
            if let Some(mut next) = group.next_column()? {
                put(&naming(batch, &self.keys, rows), false, &mut next)?;
                next.close()?;
            }
        }
        group.close()?;
        Ok(())
    }

    fn end(&mut self) -> Result<(), WriteError> {
        if let Some(writer) = self.writer.take() {
            writer.close()?;
        }
        Ok(())
    }
}

/// For each row the keys of the columns among whose rows it is.
fn naming(batch: &Batch, keys: &[&'static str], of: Rows) -> Filled {
    let mut rows: std::collections::BTreeMap<u32, Vec<&str>> = std::collections::BTreeMap::new();
    for (column, key) in batch.columns.iter().zip(keys) {
        for row in of(column) {
            rows.entry(*row).or_default().push(key);
        }
    }
    let mut known: HashMap<Vec<&str>, Text> = HashMap::new();
    let mut there = vec![0; batch.rows];
    let mut values = vec![];
    for (row, keys) in rows {
        there[row as usize] = 1;
        values.push(known.entry(keys).or_insert_with_key(|keys| Text::from(keys.join(","))).clone());
    }
    Filled { values: Values::Text(values), there, denied: vec![], least: vec![] }
}
