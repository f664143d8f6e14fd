//! Traffic by the other side: connections of a sample gathered by remote address.

use crate::known::Known;
use crate::sample::Sample;
use std::collections::BTreeMap;

/// One address that this machine talks to.
#[derive(Clone, Debug, PartialEq)]
pub struct Peer {
    /// The address without the port.
    pub address: String,
    /// Connections to it.
    pub connections: usize,
    /// Bytes received from it per second.
    pub received: Known<f64>,
    /// Bytes sent to it per second.
    pub sent: Known<f64>,
}

/// All peers, those with most traffic first.
pub fn peers(sample: &Sample) -> Vec<Peer> {
    let mut peers: BTreeMap<&str, Peer> = BTreeMap::new();
    for connection in sample.parts(|reading| &reading.connections[..]) {
        let address =
            connection.now.remote.rsplit_once(':').map_or(&*connection.now.remote, |(address, _)| address);
        let address = address.trim_start_matches('[').trim_end_matches(']');
        // A connection that was not there before counts from zero: all its bytes belong to this sample.
        let counted =
            |now: crate::known::Raw, rate: Known<f64>| match (rate, connection.seconds, connection.before) {
                (Known::Absent, Some(seconds), None) => now.float().map(|bytes| bytes / seconds),
                _ => rate,
            };
        let received = counted(connection.now.in_bytes, connection.rate(|c| c.in_bytes));
        let sent = counted(connection.now.out_bytes, connection.rate(|c| c.out_bytes));
        let zero = Known::Value(0.0);
        let peer = peers.entry(address).or_insert_with(|| Peer {
            address: address.to_owned(),
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
    peers.sort_by(|a, b| traffic(b).total_cmp(&traffic(a)));
    peers
}
