//! Network: interfaces, the addresses on the other side, connections, and what no process owns.

use super::peers;
use super::peers::{address, connection_rates};
use super::section::{Column, Look, NEVER, PartId, Section, figures};
use crate::catalogue::{Unit, Value};
use crate::known::{Known, Raw};
use crate::lane::{RESENT, Severity, UNDELIVERED, interface_severity};
use crate::reading::{ConnectionRow, ListenerRow, with_pid};
use crate::sample::{PartView, Sample};
use crate::sorting::ColdSort as _;
use crate::text::Text;
use std::collections::{BTreeSet, HashMap};

/// Connections that are listed; the busiest of them.
const CONNECTIONS: usize = 500;

pub fn sections(sample: &Sample) -> Vec<Section> {
    vec![interfaces(sample), by_peer(sample), listeners(sample), connections(sample), protocols(sample)]
}

fn interfaces(sample: &Sample) -> Section {
    let mut section = Section::new("interfaces", "interface", 14);
    for interface in sample.parts(|reading| &reading.interfaces[..]) {
        let name = &interface.now.name;
        section.add(PartId::Interface(name.clone()), name).severity = interface_severity(&interface);
    }
    section.metric(sample, "net.usage", "of the link", Look::Bar, 1);
    section.numbers(
        sample,
        &[
            ("net.in", "in/s", 0),
            ("net.out", "out/s", 0),
            ("net.speed", "link bit/s", 3),
            ("net.packets_in", "packets in/s", 5),
            ("net.packets_out", "packets out/s", 5),
            ("net.errors", "errors/s", 0),
            ("net.drops", "drops/s", 2),
        ],
    );
    if sample.now.interfaces.iter().any(|interface| interface.wifi_signal.value().is_some()) {
        section.numbers(sample, &[("wifi.signal", "signal dBm", 4), ("wifi.quality", "quality", 6)]);
    }
    let apart = sample.now.processes.iter().filter(|row| row.net_namespace.value() > Some(0)).count();
    if apart > 0 {
        let many = if apart == 1 { "1 process is".to_owned() } else { format!("{apart} processes are") };
        section.note = Some(format!("of this network namespace; {many} in others"));
    }
    // Sockets are collected only while somebody looks at traffic; a moment before that has none.
    if sample.now.system.unattributed_in.value().is_none() {
        section.note = Some("peers and connections were not collected at this moment".to_owned());
    }
    section
}

fn state_word(row: &ConnectionRow) -> Value {
    // The kernel's numbers; net/tcp_states.h.
    Value::Word(match row.state.value() {
        Some(1) => "established",
        Some(2) => "connecting",
        Some(3 | 12) => "being accepted",
        Some(4..=6 | 9 | 11) => "closing",
        Some(7) => "closed",
        Some(8) => "closed there",
        Some(10) => "listening",
        _ => return Value::Absent,
    })
}

/// The holder of a socket, and how many others hold it too.
fn holder(sample: &Sample, pid: Raw, others: &str) -> Value {
    let count = others.split(' ').filter(|pid| !pid.is_empty()).count();
    match owner(sample, pid.value()) {
        Value::Text(name) if count > 0 => Value::Text(format!("{name} +{count}").into()),
        owner => owner,
    }
}

fn owner(sample: &Sample, pid: Option<i64>) -> Value {
    match pid.and_then(|pid| with_pid(&sample.now.processes, pid)).zip(pid) {
        Some((row, pid)) => Value::Text(format!("{}[{pid}]", row.name).into()),
        None => Value::Absent,
    }
}

fn traffic(rates: [Known<f64>; 2]) -> f64 {
    rates.iter().filter_map(|rate| rate.value()).sum()
}

fn rate_columns(section: &mut Section, rates: &[[Known<f64>; 2]]) {
    for (direction, heading) in ["in/s", "out/s"].into_iter().enumerate() {
        let values = rates.iter().map(|rates| Value::from(rates[direction]));
        let column = Column { heading, unit: Unit::BytesPerSecond, look: Look::Number, keep: 0 };
        section.values(column, values);
    }
}

fn by_peer(sample: &Sample) -> Section {
    let mut section = Section::new("peers", "address", 40);
    let peers = peers(sample);
    let mut rates: Vec<[Known<f64>; 2]> = vec![];
    let mut owners: Vec<Value> = vec![];
    let mut counts: Vec<Value> = vec![];
    // One walk over all connections: a server may have tens of thousands of them.
    let mut names: HashMap<&str, BTreeSet<String>> = HashMap::new();
    for row in &sample.now.connections {
        if let Value::Text(name) = owner(sample, row.pid.value()) {
            names.entry(address(&row.remote)).or_default().insert(name.to_string());
        }
    }
    for peer in &peers {
        section.add(PartId::Peer(peer.address.clone()), &peer.address);
        rates.push([peer.received, peer.sent]);
        counts.push(Value::Number(peer.connections as f64));
        let names = names.remove(&*peer.address).unwrap_or_default();
        let mut text = names.iter().take(3).cloned().collect::<Vec<_>>().join(" ");
        if names.len() > 3 {
            text.push_str(&format!(" and {} more", names.len() - 3));
        }
        owners.push(if text.is_empty() { Value::Absent } else { Value::Text(text.into()) });
    }
    // What cannot be attributed is a row of its own.
    let system = &sample.now.system;
    if system.unattributed_in.value().is_some() {
        section.add(PartId::Unattributed, &Text::from("of no process that could be found"));
        rates.push([
            sample.rate(|reading| reading.system.unattributed_in),
            sample.rate(|reading| reading.system.unattributed_out),
        ]);
        counts.push(Value::Absent);
        owners.push(Value::Absent);
    }
    rate_columns(&mut section, &rates);
    let values = counts.into_iter();
    let column = Column { heading: "connections", unit: Unit::Number, look: Look::Number, keep: 2 };
    section.values(column, values);
    let values = owners.into_iter();
    let column = Column { heading: "processes", unit: Unit::Text, look: Look::Rest, keep: 1 };
    section.values(column, values);
    section.note = Some("TCP without headers; the kernel counts no bytes of UDP by peer".to_owned());
    section
}

fn connections(sample: &Sample) -> Section {
    let mut section = Section::new("connections", "remote", 40);
    let mut rows: Vec<(PartView<'_, ConnectionRow>, [Known<f64>; 2])> = sample
        .parts(|reading| &reading.connections[..])
        .map(|connection| (connection, connection_rates(&connection)))
        .collect();
    rows.cold_sort_by(|(_, a), (_, b)| traffic(*b).total_cmp(&traffic(*a)));
    let left_out = rows.len().saturating_sub(CONNECTIONS);
    rows.truncate(CONNECTIONS);
    for (connection, _) in &rows {
        let cookie = connection.now.cookie.value().unwrap_or(-1);
        section.add(PartId::Connection(cookie), &connection.now.remote);
    }
    let rates: Vec<[Known<f64>; 2]> = rows.iter().map(|(_, rates)| *rates).collect();
    rate_columns(&mut section, &rates);
    let mut column = |heading, width, keep, value: &dyn Fn(&ConnectionRow) -> Value| {
        let values = rows.iter().map(|(connection, _)| value(connection.now));
        section.values(Column { heading, unit: Unit::Text, look: Look::Text(width), keep }, values);
    };
    column("process", 26, 1, &|row| holder(sample, row.pid, &row.others));
    column("state", 14, 3, &state_word);
    column("here", 40, 4, &|row| Value::from(&row.local));
    if left_out > 0 {
        section.note = Some(format!("{left_out} quieter ones are left out"));
    }
    section
}

/// Number of a protocol; netinet/in.h.
const UDP: Raw = Raw::new(17);

/// Who waits for others: the TCP sockets that listen, and the UDP sockets.
fn listeners(sample: &Sample) -> Section {
    let mut section = Section::new("listeners", "here", 26);
    let mut rows: Vec<PartView<'_, ListenerRow>> = sample.parts(|reading| &reading.listeners[..]).collect();
    let drops = |row: &PartView<'_, ListenerRow>| row.rate(|r| r.drops).value().unwrap_or(0.0);
    rows.cold_sort_by(|a, b| {
        let port = |row: &PartView<'_, ListenerRow>| (row.now.protocol == UDP, row.now.port.value());
        drops(b).total_cmp(&drops(a)).then_with(|| port(a).cmp(&port(b)))
    });
    let left_out = rows.len().saturating_sub(CONNECTIONS);
    rows.truncate(CONNECTIONS);
    for row in &rows {
        let cookie = row.now.cookie.value().unwrap_or(-1);
        let full = row.now.queue.value().zip(row.now.queue_most.value());
        let part = section.add(PartId::Listener(cookie), &row.now.local);
        part.severity = if drops(row) > 0.0 || full.is_some_and(|(now, most)| most > 0 && now > most) {
            Severity::Notice
        } else {
            Severity::Fine
        };
    }
    let text = |width, heading, keep| Column { heading, unit: Unit::Text, look: Look::Text(width), keep };
    let number = |heading, unit, keep| Column { heading, unit, look: Look::Number, keep };
    let protocol = |row: &ListenerRow| Value::Word(if row.protocol == UDP { "UDP" } else { "TCP" });
    section.values(text(4, "over", 2), rows.iter().map(|row| protocol(row.now)));
    section
        .values(text(26, "process", 0), rows.iter().map(|row| holder(sample, row.now.pid, &row.now.others)));
    let waiting = |row: &ListenerRow| if row.protocol == UDP { Value::Absent } else { row.queue.into() };
    section.values(number("waiting", Unit::Number, 1), rows.iter().map(|row| waiting(row.now)));
    section.values(number("at most", Unit::Number, 3), rows.iter().map(|row| row.now.queue_most.into()));
    let queue = |row: &ListenerRow| if row.protocol == UDP { row.queue.into() } else { Value::Absent };
    section.values(number("unread", Unit::Bytes, 4), rows.iter().map(|row| queue(row.now)));
    section
        .values(number("drops/s", Unit::PerSecond, 0), rows.iter().map(|row| row.rate(|r| r.drops).into()));
    section.note = Some(if left_out > 0 {
        format!("{left_out} more are left out")
    } else {
        "drops: connections or datagrams for which its queue had no room".to_owned()
    });
    section
}

fn protocols(sample: &Sample) -> Section {
    figures(
        "protocols",
        sample,
        &[
            ("tcp.retransmits", "TCP: sent again", RESENT),
            ("udp.in", "UDP datagrams in", NEVER),
            ("udp.out", "UDP datagrams out", NEVER),
            ("udp.errors", "UDP: not delivered", UNDELIVERED),
        ],
    )
}
