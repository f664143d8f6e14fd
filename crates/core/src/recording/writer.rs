//! Readings into frames.

use super::codec::{Written, put_table};
use super::format::{KEY_EVERY, Kind, header, put_frame};
use crate::reading::all_parts;
#[allow(clippy::wildcard_imports, reason = "all row types, as the list of parts names them")]
use crate::reading::*;
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

macro_rules! declare_tables {
    (
        system { $( $(#[$of_system:meta])* $system:ident: $system_row:ident, $system_name:ident; )* }
        process { $( $(#[$of_process:meta])* $process:ident: $process_row:ident, $process_name:ident; )* }
    ) => {
        /// The schema that this version writes: the tables of both frames, in order.
        pub fn groups() -> Vec<Group> {
            vec![
                group::<SystemRow>("system"),
                $( group::<$system_row>("system"), )*
                $( group::<$process_row>("process"), )*
                group::<ProcessRow>("process"),
            ]
        }

        /// Appends the tables of the system part, but for the machine's own row.
        fn put_system_parts(now: &Reading, before: &Reading, texts: &mut Written, out: &mut Vec<u8>) {
            $( put_table(&now.$system, &before.$system, texts, out); )*
        }

        /// Appends the tables of the process part.
        fn put_process_parts(now: &Reading, before: &Reading, texts: &mut Written, out: &mut Vec<u8>) {
            $( put_table(&now.$process, &before.$process, texts, out); )*
            put_table(&now.processes, &before.processes, texts, out);
        }
    };
}
all_parts!(declare_tables);

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
        put_system_parts(reading, before, texts, payload);
        put_frame(if key { Kind::SystemKey } else { Kind::SystemDifference }, payload, out);
        payload.clear();
        put_process_parts(reading, before, &mut self.process_texts, payload);
        put_frame(if key { Kind::ProcessKey } else { Kind::ProcessDifference }, payload, out);
        self.previous = Some(reading.clone());
        key
    }
}
