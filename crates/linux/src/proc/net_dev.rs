//! `/proc/net/dev`; `proc_net(5)`.

use super::names::Names;
use super::{lines, next, words};
use dozor_core::reading::InterfaceRow;

/// Reads all interfaces; the two lines of headings have no colon behind their first word.
pub fn parse(bytes: &[u8], names: &mut Names, mut interfaces: Vec<InterfaceRow>) -> Vec<InterfaceRow> {
    for line in lines(bytes).skip(2) {
        // An alias such as `eth0:1` has a colon of its own, so the last one ends the name.
        let Some(colon) = line.iter().rposition(|byte| *byte == b':') else { continue };
        let mut words = words(&line[colon + 1..]);
        let mut field = || next(&mut words);
        let (in_bytes, in_packets, in_errors, in_drops) = (field(), field(), field(), field());
        let (_fifo, _frame, _compressed, _multicast) = (field(), field(), field(), field());
        let (out_bytes, out_packets, out_errors, out_drops) = (field(), field(), field(), field());
        interfaces.push(InterfaceRow {
            name: names.at(interfaces.len(), line[..colon].trim_ascii()),
            in_bytes,
            in_packets,
            in_errors,
            in_drops,
            out_bytes,
            out_packets,
            out_errors,
            out_drops,
            ..InterfaceRow::default()
        });
    }
    interfaces
}

#[cfg(test)]
mod tests {
    use super::*;
    use dozor_core::known::Raw;

    #[test]
    fn captured_text_is_read() {
        let interfaces = parse(include_bytes!("../../tests/fixtures/net_dev"), &mut Names::default(), vec![]);
        let names: Vec<&str> = interfaces.iter().map(|interface| &*interface.name).collect();
        assert_eq!(names, ["lo", "ifb0", "eth0"]);
        assert_eq!(interfaces[2].in_bytes, Raw::new(9_017_390));
        assert_eq!((interfaces[2].out_bytes, interfaces[2].out_packets), (Raw::new(15_609), Raw::new(184)));
        assert_eq!((interfaces[2].in_drops, interfaces[2].out_drops), (Raw::new(4), Raw::new(2)));
    }
}
