//! Who listens: sockets that wait for others, with the processes that hold them.

use crate::reading::ProcessKey;
use crate::row::Row as _;
use crate::sample::Sample;
use crate::sorting::ColdSort as _;
use crate::text::Text;

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
    rows.cold_sort_by(|a, b| (a.port, a.protocol, &a.local).cmp(&(b.port, b.protocol, &b.local)));
    rows
}
