//! `/proc/net/snmp`; `proc_net(5)`: for each protocol a line of names, then a line of numbers.

use super::{lines, number, words};
use dozor_core::known::Raw;

/// What protocols counted since boot. The kernel counts UDP in datagrams only, and not by socket.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Protocols {
    /// TCP segments sent.
    pub tcp_segments: Raw,
    /// TCP segments sent again.
    pub tcp_retransmits: Raw,
    /// UDP datagrams received.
    pub udp_in: Raw,
    /// UDP datagrams sent.
    pub udp_out: Raw,
    /// UDP datagrams that could not be delivered, for want of room or because they were broken.
    pub udp_errors: Raw,
}

/// Reads the file's text.
pub fn parse(bytes: &[u8]) -> Protocols {
    let value = |protocol: &[u8], wanted: &[u8]| -> Raw {
        let mut of_protocol = lines(bytes).filter(|line| line.starts_with(protocol));
        let (Some(names), Some(numbers)) = (of_protocol.next(), of_protocol.next()) else {
            return Raw::ABSENT;
        };
        words(names)
            .zip(words(numbers))
            .find(|(name, _)| *name == wanted)
            .and_then(|(_, value)| number(value))
            .into()
    };
    Protocols {
        tcp_segments: value(b"Tcp:", b"OutSegs"),
        tcp_retransmits: value(b"Tcp:", b"RetransSegs"),
        udp_in: value(b"Udp:", b"InDatagrams"),
        udp_out: value(b"Udp:", b"OutDatagrams"),
        udp_errors: value(b"Udp:", b"InErrors"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_are_found_by_name() {
        let text =
            b"Ip: Forwarding\nIp: 1\nTcp: RtoAlgorithm MaxConn OutSegs RetransSegs\nTcp: 1 -1 4711 12\n\
            Udp: InDatagrams NoPorts InErrors OutDatagrams\nUdp: 7 1 2 9\nUdpLite: InDatagrams\nUdpLite: 0\n";
        let expected = Protocols {
            tcp_segments: Raw::new(4711),
            tcp_retransmits: Raw::new(12),
            udp_in: Raw::new(7),
            udp_out: Raw::new(9),
            udp_errors: Raw::new(2),
        };
        assert_eq!(parse(text), expected);
        assert_eq!(parse(b"Tcp: OutSegs\n"), Protocols::default());
    }
}
