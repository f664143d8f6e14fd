//! Traffic by the other side: connections of a sample gathered by remote address.

use crate::known::{Known, Raw};
use crate::reading::ConnectionRow;
use crate::sample::{PartView, Sample};
use crate::sorting::ColdSort as _;
use crate::text::Text;
use std::collections::BTreeMap;

/// One address that this machine talks to.
#[derive(Clone, Debug, PartialEq)]
pub struct Peer {
    /// The address without the port.
    pub address: Text,
    /// Connections to it.
    pub connections: usize,
    /// Bytes received from it per second.
    pub received: Known<f64>,
    /// Bytes sent to it per second.
    pub sent: Known<f64>,
}

/// The address without its port.
pub fn address(remote: &str) -> &str {
    let address = remote.rsplit_once(':').map_or(remote, |(address, _)| address);
    address.trim_start_matches('[').trim_end_matches(']')
}

/// Bytes per second of a connection, received and sent. One that was not there before counts from zero: all its
/// bytes belong to this sample.
pub fn connection_rates(connection: &PartView<'_, ConnectionRow>) -> [Known<f64>; 2] {
    let rate = |counter: fn(&ConnectionRow) -> Raw| match (
        connection.rate(counter),
        connection.seconds,
        connection.before,
    ) {
        (Known::Absent, Some(seconds), None) => counter(connection.now).float().map(|bytes| bytes / seconds),
        (rate, ..) => rate,
    };
    [rate(|c| c.in_bytes), rate(|c| c.out_bytes)]
}

/// All peers, those with most traffic first.
pub fn peers(sample: &Sample) -> Vec<Peer> {
    let mut peers: BTreeMap<&str, Peer> = BTreeMap::new();
    for connection in sample.parts(|reading| &reading.connections[..]) {
        let address = address(&connection.now.remote);
        let [received, sent] = connection_rates(&connection);
        let zero = Known::Value(0.0);
        let peer = peers.entry(address).or_insert_with(|| Peer {
            address: address.into(),
            connections: 0,
            received: zero,
            sent: zero,
        });
        peer.connections += 1;
        peer.received = peer.received.zip(received).map(|(a, b)| a + b);
        peer.sent = peer.sent.zip(sent).map(|(a, b)| a + b);
    }
    let mut peers: Vec<Peer> = peers.into_values().collect();
    let traffic = |peer: &Peer| peer.received.value().unwrap_or(0.0) + peer.sent.value().unwrap_or(0.0);
    peers.cold_sort_by(|a, b| traffic(b).total_cmp(&traffic(a)));
    peers
}
