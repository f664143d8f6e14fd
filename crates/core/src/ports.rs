//! Ports of processes: those of their sockets, on this side and on the other.

use crate::catalogue::Value;
use crate::known::Raw;
use crate::reading::Reading;
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
