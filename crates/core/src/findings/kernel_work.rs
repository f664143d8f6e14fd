//! What a thread of the kernel works for, as far as its name says: a device, a driver, a task of the kernel itself.

use crate::reading::SoftirqRow;
use crate::sample::Sample;

/// What a thread of the kernel with this name does, as the rest of a sentence: `writes back to sda`. None where its name does
/// not say; Documentation/core-api/workqueue.rst.
pub fn kernel_work(name: &str, sample: &Sample) -> Option<String> {
    let after = |prefix: &str| name.strip_prefix(prefix).filter(|rest| !rest.is_empty());
    if let Some((_, number)) = name.split_once("-flush-").filter(|_| name.starts_with("kworker/")) {
        return Some(format!("writes back to {}", device(number, sample)));
    }
    if let Some((_, queue)) = after("kworker/").and_then(|rest| rest.split_once(['-', '+'])) {
        return Some(format!("runs work of the queue {queue}"));
    }
    if let Some(rest) = after("jbd2/") {
        let device = rest.rsplit_once('-').map_or(rest, |(device, _)| device);
        return Some(format!("writes the journal of {device}"));
    }
    if let Some((number, driver)) = after("irq/").and_then(|rest| rest.split_once('-')) {
        return Some(format!("serves interrupt {number} of {driver}"));
    }
    if let Some(core) = after("ksoftirqd/").and_then(|core| core.parse::<i64>().ok()) {
        let rows = sample.parts(|reading| &reading.softirqs[..]);
        let here = rows.filter(|row| row.now.core.value() == Some(core));
        let most = here
            .filter_map(|row| Some((row.now.kind.clone(), row.rate(|r: &SoftirqRow| r.count).value()?)))
            .max_by(|a, b| a.1.total_cmp(&b.1))
            .filter(|(_, rate)| *rate > 0.0);
        let kind = most.map_or(String::new(), |(kind, _)| format!(", mostly {kind}"));
        return Some(format!("handles soft interrupts on core {core}{kind}"));
    }
    for (prefix, what) in [
        ("xfsaild/", "writes the metadata of"),
        ("dmcrypt_write/", "writes encrypted data to"),
        ("scsi_eh_", "handles errors of SCSI host"),
        ("loop", "serves loop"),
    ] {
        if let Some(rest) = after(prefix) {
            let gap = if prefix == "loop" { "" } else { " " };
            return Some(format!(
                "{what}{gap}{}",
                if rest.contains(':') { device(rest, sample) } else { rest.to_owned() }
            ));
        }
    }
    if let Some((device, _)) = name.split_once("_raid").filter(|(device, _)| device.starts_with("md")) {
        return Some(format!("runs the RAID array {device}"));
    }
    let known = [
        ("kswapd", "reclaims memory because little is free"),
        ("kcompactd", "compacts memory for large pages"),
        ("khugepaged", "merges small pages into large ones"),
        ("nfsd", "serves files to other machines"),
    ];
    known.iter().find(|(prefix, _)| name.starts_with(prefix)).map(|(_, what)| (*what).to_owned())
}

/// The name of the device with a number such as `8:0`, where somebody is known to have handed something to it.
fn device(number: &str, sample: &Sample) -> String {
    let device = number.split_once(':').and_then(|(major, minor)| {
        let (major, minor): (i64, i64) = (major.parse().ok()?, minor.parse().ok()?);
        // As in st_rdev; makedev(3).
        let wanted = (minor & 0xff) | (major & 0xfff) << 8 | (minor & !0xff) << 12;
        let mut rows = sample.now.transfers.iter();
        rows.find(|row| {
            row.number.value().is_some_and(|number| number == wanted || number == major << 20 | minor)
        })
    });
    device.map_or_else(|| format!("device {number}"), |row| row.device.to_string())
}

#[cfg(test)]
mod tests {
    use super::kernel_work;
    use crate::reading::{HostFacts, Reading, TransferRow, raw};
    use crate::sample::Sample;
    use std::sync::Arc;

    #[test]
    fn names_of_kernel_threads_say_what_they_work_for() {
        let to_sda = TransferRow { device: "sda".into(), number: raw(8 << 20), ..TransferRow::default() };
        let reading = Reading { transfers: vec![to_sda], ..Reading::default() };
        let sample = Sample::new(Arc::new(HostFacts::default()), None, Arc::new(reading));
        for (name, does) in [
            ("kworker/u8:3-flush-8:0", Some("writes back to sda")),
            ("kworker/u8:3-flush-259:1", Some("writes back to device 259:1")),
            ("kworker/0:1-mlx5_health", Some("runs work of the queue mlx5_health")),
            ("kworker/0:1", None),
            ("jbd2/nvme0n1p2-8", Some("writes the journal of nvme0n1p2")),
            ("irq/45-eth0-rx-0", Some("serves interrupt 45 of eth0-rx-0")),
            ("ksoftirqd/3", Some("handles soft interrupts on core 3")),
            ("kswapd0", Some("reclaims memory because little is free")),
            ("md127_raid1", Some("runs the RAID array md127")),
            ("loop7", Some("serves loop7")),
            ("scsi_eh_2", Some("handles errors of SCSI host 2")),
            ("stacker", None),
        ] {
            assert_eq!(kernel_work(name, &sample).as_deref(), does, "{name}");
        }
    }
}
