//! What a recording says of itself in its head: whose it is, and what its columns mean.

use crate::reading::HostFacts;
use crate::row::Row;
use serde::{Deserialize, Serialize};

/// The head frame: whose recording it is and what its columns mean.
#[derive(Serialize, Deserialize)]
pub struct Head {
    /// The program that wrote it.
    #[serde(default)]
    pub program: String,
    /// Nominal time between readings in seconds, where there is one.
    #[serde(default)]
    pub every: Option<f64>,
    /// Whether each reading stands for several that were left out.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub thinned: bool,
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
    /// The frame that holds its table: `system`, `process` or `index`.
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

/// The columns of a kind of row.
pub fn group<R: Row>(part: &str) -> Group {
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
