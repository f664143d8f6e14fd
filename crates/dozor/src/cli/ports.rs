//! `dozor ports`: who listens.

use super::chosen::{kept, sample};
use super::end::End;
use super::listed::{Format, Listed};
use super::problem;
use super::table::table;
use clap::Args;
use dozor_core::listening::{Listening, listening};
use dozor_core::wanted::Demand;
use serde_json::json;
use std::collections::HashSet;
use std::io::{self, Write as _};

#[derive(Args)]
pub struct Ports {
    /// Only these ports
    #[arg(value_name = "PORT")]
    only: Vec<u16>,
    #[command(flatten)]
    listed: Listed,
}

impl Ports {
    /// Status 1 where nobody listens.
    pub fn run(self) -> anyhow::Result<End> {
        self.listed.check()?;
        let mut narrowing = self.listed.kept.narrowing()?;
        let wanted = narrowing.wanted().with(Demand::Sockets);
        let sample = sample(&self.listed.kernel, wanted, self.listed.kept.says())?;
        if sample.now.system.unattributed_in.value().is_none() {
            anyhow::bail!("sockets cannot be listed here; dozor access says why");
        }
        let mut rows = listening(&sample);
        if self.listed.kept.says() {
            let meant: HashSet<_> = kept(&mut narrowing, &sample).into_iter().collect();
            rows.retain(|row| row.holders.iter().any(|holder| meant.contains(holder)));
        }
        if !self.only.is_empty() {
            let named = |row: &Listening| {
                row.port.is_some_and(|port| self.only.iter().any(|it| i64::from(*it) == port))
            };
            rows.retain(named);
        }
        let number = |value: Option<i64>| value.map_or_else(|| "–".to_owned(), |value| value.to_string());
        match self.listed.format {
            Format::Table => {
                let row = |row: &Listening| {
                    vec![
                        row.protocol.to_owned(),
                        row.local.to_string(),
                        number(row.waiting),
                        number(row.at_most),
                        number(row.drops),
                        row.who(),
                    ]
                };
                let rows: Vec<Vec<String>> = rows.iter().map(row).collect();
                let headings = ["kind", "address", "waiting", "at most", "dropped", "process"];
                table(&headings, &[2, 3, 4], &rows, &mut io::stdout().lock())?;
            }
            Format::Json => {
                let all: Vec<_> = rows
                    .iter()
                    .map(|row| {
                        let pids: Vec<i64> = row.holders.iter().map(|key| key.pid).collect();
                        json!({
                            "protocol": row.protocol.to_lowercase(), "address": &*row.local, "port": row.port,
                            "waiting": row.waiting, "waiting_at_most": row.at_most, "dropped": row.drops,
                            "namespace": row.namespace, "pids": pids, "processes": row.names, "users": row.users,
                        })
                    })
                    .collect();
                let unknown = rows.iter().filter(|row| row.holders.is_empty()).count();
                let whole = json!({"ports": all, "holders_not_permitted": unknown});
                writeln!(io::stdout().lock(), "{whole}")?;
            }
            Format::Csv => {
                let mut writer = csv::Writer::from_writer(io::stdout().lock());
                writer.write_record([
                    "protocol",
                    "address",
                    "port",
                    "waiting",
                    "waiting_at_most",
                    "dropped",
                    "pids",
                    "users",
                ])?;
                let cell = |value: Option<i64>| value.map_or_else(String::new, |value| value.to_string());
                for row in &rows {
                    let pids: Vec<String> = row.holders.iter().map(|key| key.pid.to_string()).collect();
                    writer.write_record([
                        row.protocol.to_lowercase(),
                        row.local.to_string(),
                        cell(row.port),
                        cell(row.waiting),
                        cell(row.at_most),
                        cell(row.drops),
                        pids.join(" "),
                        self.listed.cells.text(&row.users.join(" ")),
                    ])?;
                }
                writer.flush()?;
            }
        }
        let unknown = rows.iter().filter(|row| row.holders.is_empty()).count();
        if unknown > 0 {
            problem::say(&format!("who holds {unknown} of them may not be seen; {}", problem::who_may()));
        }
        Ok(if rows.is_empty() { End::Status(1) } else { End::Done })
    }
}
