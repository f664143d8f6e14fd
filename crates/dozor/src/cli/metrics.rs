//! `dozor metrics`: the catalogue.

use anyhow::Result;
use clap::{Args, ValueEnum};
use dozor_core::catalogue::{Metric, PROCESS_METRICS, SYSTEM_METRICS};
use dozor_core::sorting::ColdSort as _;
use dozor_core::text::nearest;
use serde_json::json;
use std::io::{self, Write as _};

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Format {
    /// For people
    Text,
    /// An array of objects
    Json,
}

#[derive(Args)]
pub struct Metrics {
    /// Only metrics that have this in their alias, name or explanation
    #[arg(value_name = "WORD")]
    word: Option<String>,
    /// How it is written
    #[arg(long, value_enum, default_value = "text")]
    format: Format,
}

/// Every metric with what it belongs to.
fn all() -> impl Iterator<Item = (&'static str, &'static Metric)> {
    let of_processes = PROCESS_METRICS.iter().map(|metric| ("process", metric));
    of_processes.chain(SYSTEM_METRICS.iter().map(|metric| ("system", metric)))
}

impl Metrics {
    pub fn run(self) -> Result<Option<i32>> {
        let word = self.word.unwrap_or_default().to_lowercase();
        let has = |text: &str| text.to_lowercase().contains(&word);
        let mut found: Vec<_> = all().filter(|(_, m)| has(m.alias) || has(m.name) || has(m.help)).collect();
        // The one that is called so first, then what begins so, then what has it anywhere.
        found.cold_sort_by_key(|(_, m)| (m.alias != word, !m.alias.starts_with(&word), !has(m.alias)));
        if found.is_empty() {
            let near = nearest(&word, all().map(|(_, metric)| metric.alias));
            let near = near.map(|near| format!("; did you mean {near}?")).unwrap_or_default();
            return Err(super::options::Misuse(format!(
                "no metric has '{word}' in its name or explanation{near}"
            ))
            .into());
        }
        let mut out = io::BufWriter::new(io::stdout().lock());
        if self.format == Format::Json {
            let list: Vec<_> = found
                .iter()
                .map(|(of, m)| {
                    json!({
                        "alias": m.alias, "name": m.name, "of": of, "unit": m.unit.word(), "kind": m.kind.word(),
                        "explanation": m.help, "source": m.source, "on_demand": m.needs.is_some(),
                    })
                })
                .collect();
            writeln!(out, "{}", serde_json::to_string_pretty(&list)?)?;
        } else {
            for (of, m) in found {
                let demand = if m.needs.is_some() { ", collected on demand" } else { "" };
                writeln!(out, "{}  {} of a {of}, {}{demand}", m.alias, m.kind.word(), m.unit.word())?;
                writeln!(out, "    {}\n    {}\n    from {}", m.name, m.help, m.source)?;
            }
        }
        out.flush()?;
        Ok(None)
    }
}
