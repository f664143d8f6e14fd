//! `/proc/net/snmp`; `proc_net(5)`: a line of names, then a line of numbers.

use super::{lines, number, words};
use dozor_core::known::Raw;

/// TCP segments sent, and sent again.
pub fn parse(bytes: &[u8]) -> (Raw, Raw) {
    let mut of_tcp = lines(bytes).filter(|line| line.starts_with(b"Tcp:"));
    let (Some(names), Some(numbers)) = (of_tcp.next(), of_tcp.next()) else {
        return (Raw::ABSENT, Raw::ABSENT);
    };
    let value = |wanted: &[u8]| -> Raw {
        let pairs = words(names).zip(words(numbers));
        pairs.into_iter().find(|(name, _)| *name == wanted).and_then(|(_, value)| number(value)).into()
    };
    (value(b"OutSegs"), value(b"RetransSegs"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_are_found_by_name() {
        let text =
            b"Ip: Forwarding\nIp: 1\nTcp: RtoAlgorithm MaxConn OutSegs RetransSegs\nTcp: 1 -1 4711 12\n";
        assert_eq!(parse(text), (Raw::new(4711), Raw::new(12)));
        assert_eq!(parse(b"Tcp: OutSegs\n"), (Raw::ABSENT, Raw::ABSENT));
    }
}
