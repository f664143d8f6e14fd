//! `/proc/PID/fdinfo/N` of graphics devices; Documentation/gpu/drm-usage-stats.rst.

use super::{lines, next, scaled, words};
use dozor_core::known::Raw;
use dozor_core::text::clean;

/// What one descriptor says of its client.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Client {
    /// Device and number of the client: descriptors that share them count once.
    pub client: String,
    /// Time that engines worked for it; nothing where its driver counts cycles only.
    pub engine_ns: Option<i64>,
    /// Memory in use; nothing where its driver does not tell.
    pub memory: Option<i64>,
}

/// Reads the file's text; `None` where it is not a graphics device.
pub fn parse(bytes: &[u8]) -> Option<Client> {
    let (mut id, mut device, mut client) = (None, String::new(), Client::default());
    // The older name of resident memory; drivers that give both say the same twice.
    let mut older: Option<i64> = None;
    for line in lines(bytes) {
        let mut words = words(line);
        let Some(name) = words.next() else { continue };
        if name == b"drm-client-id:" {
            id = words.next().map(clean);
        } else if name == b"drm-pdev:" {
            device = words.next().map(clean).unwrap_or_default();
        } else if name.starts_with(b"drm-engine-") && !name.starts_with(b"drm-engine-capacity-") {
            let more = next(&mut words).value().unwrap_or(0);
            client.engine_ns = Some(client.engine_ns.unwrap_or(0).saturating_add(more));
        } else if name.starts_with(b"drm-resident-") || name.starts_with(b"drm-memory-") {
            let value = next(&mut words);
            let factor = match words.next() {
                Some(b"KiB") => 1 << 10,
                Some(b"MiB") => 1 << 20,
                _ => 1,
            };
            let sum = if name.starts_with(b"drm-memory-") { &mut older } else { &mut client.memory };
            *sum = Some(sum.unwrap_or(0).saturating_add(scaled(value, factor).value().unwrap_or(0)));
        }
    }
    client.memory = client.memory.or(older);
    client.client = format!("{device} {}", id?);
    Some(client)
}

/// Sums over the clients of a process.
pub fn sum(clients: &[Client]) -> (Raw, Raw) {
    let sum =
        |of: fn(&Client) -> Option<i64>| clients.iter().filter_map(of).reduce(i64::saturating_add).into();
    (sum(|client| client.engine_ns), sum(|client| client.memory))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn engines_and_memory_are_summed_with_their_units() {
        let text = b"pos: 0\ndrm-driver: made-up\ndrm-pdev: 0000:03:00.0\ndrm-client-id: 17\ndrm-engine-gfx: 5000 ns\n\
            drm-engine-capacity-gfx: 2\ndrm-engine-dec: 7 ns\ndrm-memory-vram: 3 MiB\ndrm-memory-gtt: 4 KiB\n";
        let client = parse(text).expect("a graphics device");
        assert_eq!((client.client.as_str(), client.engine_ns), ("0000:03:00.0 17", Some(5007)));
        assert_eq!(sum(&[client]), (Raw::new(5007), Raw::new((3 << 20) + (4 << 10))));
        assert_eq!(parse(b"pos: 0\nflags: 02\n"), None);
        let both =
            b"drm-client-id: 3\ndrm-memory-vram: 5 KiB\ndrm-resident-vram: 5 KiB\ndrm-cycles-rcs: 77\n";
        let client = parse(both).expect("a graphics device");
        assert_eq!((client.engine_ns, client.memory), (None, Some(5 << 10)), "cycles are no time");
    }
}
