//! Ports of processes: those of their sockets, on this side and on the other.

use crate::catalogue::Value;
use crate::known::Raw;
use crate::reading::{ProcessKey, Reading};
use crate::row::Row as _;
use crate::sample::Sample;
use crate::text::Text;
use std::collections::{BTreeSet, HashMap};

/// The port of an address as it is written in a reading; none in one that is not told.
pub fn port(address: &str) -> Option<u16> {
    address.rsplit_once(':')?.1.parse().ok().filter(|port| *port != 0)
}

/// Ports by process at one moment.
#[derive(Clone, Debug, Default)]
pub struct Ports {
    collected: bool,
    listening: HashMap<i64, u16>,
    all: HashMap<i64, BTreeSet<u16>>,
}

impl Ports {
    /// All ports of a reading.
    pub fn new(reading: &Reading) -> Ports {
        let mut ports =
            Ports { collected: reading.system.unattributed_in.value().is_some(), ..Ports::default() };
        let holders = |pid: Raw, others: &str| -> Vec<i64> {
            let others = others.split(' ').filter_map(|pid| pid.parse().ok());
            pid.value().into_iter().chain(others).collect()
        };
        for row in &reading.connections {
            for pid in holders(row.pid, &row.others) {
                let all = ports.all.entry(pid).or_default();
                all.extend([&row.local, &row.remote].into_iter().filter_map(|address| port(address)));
            }
        }
        for row in &reading.listeners {
            for pid in holders(row.pid, &row.others) {
                let all = ports.all.entry(pid).or_default();
                all.extend([&row.local, &row.remote].into_iter().filter_map(|address| port(address)));
                if let Some(port) = port(&row.local).filter(|_| row.remote.is_empty()) {
                    let lowest = ports.listening.entry(pid).or_insert(port);
                    *lowest = port.min(*lowest);
                }
            }
        }
        ports
    }

    /// The lowest port that a process waits for others on.
    pub fn listening(&self, pid: Raw) -> Value {
        let port = pid.value().and_then(|pid| self.listening.get(&pid));
        port.map_or(Value::Absent, |port| Value::Number(f64::from(*port)))
    }

    /// All ports of a process; nothing where sockets were not collected.
    pub fn of(&self, pid: Raw) -> Option<Vec<f64>> {
        let all = pid.value().and_then(|pid| self.all.get(&pid));
        self.collected.then(|| all.into_iter().flatten().map(|port| f64::from(*port)).collect())
    }
}

/// One socket that waits for others, with who holds it.
#[derive(Clone, Debug, PartialEq)]
pub struct Listening {
    /// TCP or UDP.
    pub protocol: &'static str,
    /// Address and port.
    pub local: Text,
    /// The port.
    pub port: Option<i64>,
    /// Connections that wait to be accepted; for UDP bytes that wait to be read.
    pub waiting: Option<i64>,
    /// Most connections that may wait; none for UDP.
    pub at_most: Option<i64>,
    /// Dropped for want of room since the socket was made.
    pub drops: Option<i64>,
    /// Its network namespace, where that is not our own.
    pub namespace: Option<i64>,
    /// Those who hold it, the youngest first; nobody where that may not be seen.
    pub holders: Vec<ProcessKey>,
    /// Their names with their PIDs.
    pub names: Vec<String>,
    /// Their users, each once.
    pub users: Vec<String>,
}

impl Listening {
    /// Who holds it, in words.
    pub fn who(&self) -> String {
        match &self.names[..] {
            [] => "× may not be seen".to_owned(),
            [one] => format!("{one} of {}", self.users.join(", ")),
            [first, _] => format!("{first} and 1 other of {}", self.users.join(", ")),
            [first, rest @ ..] => format!("{first} and {} others of {}", rest.len(), self.users.join(", ")),
        }
    }
}

/// Sockets that wait for others, by port.
pub fn listening(sample: &Sample) -> Vec<Listening> {
    let row_of = |pid: i64| sample.now.processes.iter().find(|row| row.pid.value() == Some(pid));
    let mut rows: Vec<Listening> = sample
        .now
        .listeners
        .iter()
        .map(|row| {
            let udp = row.protocol.value() == Some(17);
            let others = row.others.split(' ').filter_map(|pid| pid.parse().ok());
            let held: Vec<_> = row.pid.value().into_iter().chain(others).filter_map(row_of).collect();
            let mut users: Vec<String> = held.iter().map(|row| row.user.to_string()).collect();
            users.sort();
            users.dedup();
            Listening {
                protocol: if udp { "UDP" } else { "TCP" },
                local: row.local.clone(),
                port: row.port.value(),
                waiting: row.queue.value(),
                at_most: if udp { None } else { row.queue_most.value() },
                drops: row.drops.value(),
                namespace: row.namespace.value().filter(|namespace| *namespace != 0),
                holders: held.iter().map(|row| row.key()).collect(),
                names: held
                    .iter()
                    .map(|row| format!("{}[{}]", row.name, row.pid.value().unwrap_or(0)))
                    .collect(),
                users,
            }
        })
        .collect();
    rows.sort_by(|a, b| (a.port, a.protocol, &a.local).cmp(&(b.port, b.protocol, &b.local)));
    rows
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ports_are_read_from_both_kinds_of_addresses() {
        for (address, expected) in [
            ("192.0.2.2:443", Some(443)),
            ("[2001:db8::21]:4711", Some(4711)),
            ("0.0.0.0:0", None),
            ("", None),
        ] {
            assert_eq!(port(address), expected, "{address}");
        }
    }
}
