//! Readings into frames.

use super::codec::{Written, put_table};
use super::format::{KEY_EVERY, Kind, header, put_frame};
use crate::reading::{
    BatteryRow, ConnectionRow, CoreRow, DiskRow, EndedRow, FilesystemRow, GpuRow, HostFacts, InterfaceRow,
    InterruptRow, ProcessRow, Reading, SensorRow, SoftirqRow, SystemRow,
};
use crate::row::Row;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use std::time::Duration;

/// The head frame: whose recording it is and what its columns mean.
#[derive(Serialize, Deserialize)]
pub struct Head {
    /// The program that wrote it.
    #[serde(default)]
    pub program: String,
    /// Nominal time between readings in seconds, where there is one.
    #[serde(default)]
    pub every: Option<f64>,
    /// Whose recording it is.
    pub host: HostFacts,
    /// The tables of a reading in the order of their frames.
    pub groups: Vec<Group>,
}

/// Columns of one kind of row.
#[derive(Serialize, Deserialize)]
pub struct Group {
    /// Name of the group.
    pub name: String,
    /// The frame that holds its table: `system` or `process`.
    pub part: String,
    /// Its texts.
    pub texts: Vec<Column>,
    /// Its numbers.
    pub fields: Vec<Column>,
}

/// One column.
#[derive(Serialize, Deserialize)]
pub struct Column {
    /// Its name.
    pub name: String,
    /// Unit of a number.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub unit: String,
    /// `counter`, `level` or `label`.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub kind: String,
    /// What it means.
    #[serde(default)]
    pub help: String,
}

fn group<R: Row>(part: &str) -> Group {
    Group {
        name: R::GROUP.to_owned(),
        part: part.to_owned(),
        texts: R::TEXTS
            .iter()
            .map(|field| Column {
                name: field.name.to_owned(),
                unit: String::new(),
                kind: String::new(),
                help: field.help.trim().to_owned(),
            })
            .collect(),
        fields: R::FIELDS
            .iter()
            .map(|field| Column {
                name: field.name.to_owned(),
                unit: field.unit.to_owned(),
                kind: field.kind.word().to_owned(),
                help: field.help.trim().to_owned(),
            })
            .collect(),
    }
}

/// The schema that this version writes.
pub fn groups() -> Vec<Group> {
    vec![
        group::<SystemRow>("system"),
        group::<CoreRow>("system"),
        group::<DiskRow>("system"),
        group::<InterfaceRow>("system"),
        group::<SensorRow>("system"),
        group::<InterruptRow>("system"),
        group::<SoftirqRow>("system"),
        group::<FilesystemRow>("system"),
        group::<BatteryRow>("system"),
        group::<GpuRow>("system"),
        group::<ConnectionRow>("process"),
        group::<EndedRow>("process"),
        group::<ProcessRow>("process"),
    ]
}

/// Turns readings into frames, each as the difference from the one before, with a key frame now and then.
#[derive(Default)]
pub struct Encoder {
    previous: Option<Arc<Reading>>,
    since_key: u32,
    system_texts: Written,
    process_texts: Written,
    payload: Vec<u8>,
}

impl Encoder {
    /// The beginning of a recording: header and head frame.
    pub fn head(host: &HostFacts, every: Option<Duration>) -> Vec<u8> {
        let head = Head {
            program: concat!("dozor ", env!("CARGO_PKG_VERSION")).to_owned(),
            every: every.map(|every| every.as_secs_f64()),
            host: host.clone(),
            groups: groups(),
        };
        let json =
            serde_json::to_vec(&head).unwrap_or_else(|_| unreachable!("the head has only plain fields"));
        let mut out = header().to_vec();
        put_frame(Kind::Head, &json, &mut out);
        out
    }

    /// Appends a reading's two frames; says whether they are key frames.
    pub fn put(&mut self, reading: &Arc<Reading>, out: &mut Vec<u8>) -> bool {
        let before = self.previous.take().filter(|_| self.since_key + 1 < KEY_EVERY);
        let key = before.is_none();
        if key {
            self.since_key = 0;
            self.system_texts.clear();
            self.process_texts.clear();
        } else {
            self.since_key += 1;
        }
        let empty = Reading::default();
        let system_before = before.as_ref().map(|before| std::slice::from_ref(&before.system));
        let before = before.as_deref().unwrap_or(&empty);
        let payload = &mut self.payload;
        payload.clear();
        let texts = &mut self.system_texts;
        put_table(std::slice::from_ref(&reading.system), system_before.unwrap_or(&[]), texts, payload);
        put_table(&reading.cores, &before.cores, texts, payload);
        put_table(&reading.disks, &before.disks, texts, payload);
        put_table(&reading.interfaces, &before.interfaces, texts, payload);
        put_table(&reading.sensors, &before.sensors, texts, payload);
        put_table(&reading.interrupts, &before.interrupts, texts, payload);
        put_table(&reading.softirqs, &before.softirqs, texts, payload);
        put_table(&reading.filesystems, &before.filesystems, texts, payload);
        put_table(&reading.batteries, &before.batteries, texts, payload);
        put_table(&reading.gpus, &before.gpus, texts, payload);
        put_frame(if key { Kind::SystemKey } else { Kind::SystemDifference }, payload, out);
        payload.clear();
        let texts = &mut self.process_texts;
        put_table(&reading.connections, &before.connections, texts, payload);
        put_table(&reading.ended, &before.ended, texts, payload);
        put_table(&reading.processes, &before.processes, texts, payload);
        put_frame(if key { Kind::ProcessKey } else { Kind::ProcessDifference }, payload, out);
        self.previous = Some(reading.clone());
        key
    }
}
