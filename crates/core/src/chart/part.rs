//! What a part looks like over time: the metrics of the catalogue that tell it.

use super::wish::{Of, Wish};
use crate::catalogue::{Instances, SYSTEM_METRICS, listed_system};
use crate::parts::PartId;
use crate::sample::Sample;

/// Metrics that tell how a part is used and how it fares, the first of them first; none where the catalogue has none, as for
/// one connection.
pub fn charted(part: &PartId, sample: &Sample) -> Vec<Wish> {
    let (aliases, name): (&[&str], String) = match part {
        PartId::Core(number) => (&["core.total", "cpu.frequency"], number.to_string()),
        PartId::Interrupt(source) => (&["irq.rate"], source.to_string()),
        PartId::Softirq(kind) => (&["softirq.rate"], kind.to_string()),
        PartId::Device(name) => (&["disk.busy", "disk.wait", "disk.read", "disk.write"], name.to_string()),
        PartId::Mount(mount) => (&["fs.usage", "nfs.wait", "nfs.read", "nfs.write"], mount.to_string()),
        PartId::Group(path) => (&["group.cpu", "group.memory", "group.throttled"], path.to_string()),
        PartId::Interface(name) => (&["net.in", "net.out", "net.errors", "net.drops"], name.to_string()),
        PartId::Sensor(name) => {
            (&["sensor.temperature", "sensor.fan", "sensor.power", "sensor.voltage"], name.to_string())
        }
        PartId::Battery(name) => (&["battery.charge"], name.to_string()),
        PartId::Gpu(name) => (&["gpu.utilization", "gpu.memory", "gpu.temperature"], name.to_string()),
        PartId::Unattributed => (&["net.unattributed_in", "net.unattributed_out"], String::new()),
        // Rows that are metrics themselves; kinds of memory are parts of a whole.
        PartId::Figure(alias) => match SYSTEM_METRICS.iter().find(|metric| metric.alias == *alias) {
            Some(metric) => return vec![Wish { metric, of: Of::All }],
            None => (&["mem.used", "mem.cache", "mem.free"], String::new()),
        },
        PartId::Peer(_) | PartId::Connection(_) | PartId::Listener(_) => return vec![],
    };
    let wishes = aliases.iter().filter_map(|alias| {
        let metric = listed_system(alias);
        match metric.of_system(sample) {
            Instances::One(_) => Some(Wish { metric, of: Of::All }),
            // Interrupts stand beside the core that takes them.
            Instances::Many(values) => {
                let there = values.iter().find(|(instance, _)| {
                    **instance == *name || instance.rsplit_once(',').is_some_and(|(source, _)| source == name)
                });
                there.map(|(instance, _)| Wish { metric, of: Of::Instance(instance.to_string()) })
            }
        }
    });
    wishes.collect()
}
