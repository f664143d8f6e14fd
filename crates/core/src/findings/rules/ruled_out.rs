//! Resources that are not it, and why.

use crate::lane::{Lane, Severity, run_queue};
use crate::sample::Sample;
use crate::units::long_bytes;

/// A resource, with what speaks for it being fine.
pub struct Resource {
    /// Which.
    pub lane: Lane,
    /// Numbers, in a few words.
    pub why: String,
}

/// What the numbers say of each resource.
pub fn resources(sample: &Sample) -> Vec<Resource> {
    Lane::ALL.into_iter().map(|lane| Resource { lane, why: why(sample, lane) }).collect()
}

/// The resources that are known and fine, in words: without that of a finding, and without those of which something stands out.
pub fn ruled_out(sample: &Sample, of: Lane, standing_out: &[Lane]) -> Vec<String> {
    let others = Lane::ALL.into_iter().filter(|lane| *lane != of && !standing_out.contains(lane));
    let fine = others.filter(|lane| is_fine(sample, *lane));
    fine.map(|lane| format!("{} ({})", lane.name(), why(sample, lane))).collect()
}

/// Whether the numbers of a resource are known, and nothing of them stands out.
pub fn is_fine(sample: &Sample, lane: Lane) -> bool {
    let point = lane.point(sample);
    point.value.value().is_some() && point.severity == Severity::Fine
}

fn stalled(sample: &Sample, counter: fn(&crate::reading::Reading) -> crate::known::Raw) -> Option<f64> {
    sample.rate(counter).value().map(|us| (us / 1e4).min(100.0))
}

fn why(sample: &Sample, lane: Lane) -> String {
    let point = lane.point(sample);
    let [first, second] = lane.facts(sample);
    let waits = |part: Option<f64>| {
        part.map_or(String::new(), |part| format!("; tasks wait {part:.0} % of the time"))
    };
    match lane {
        Lane::Cpu => {
            let free = point
                .value
                .value()
                .map_or("unknown".to_owned(), |busy| format!("{:.0} % free", 100.0 - busy));
            let queue = run_queue(sample).map_or(String::new(), |queue| format!("; {queue}"));
            format!("{free}{queue}{}", waits(stalled(sample, |r| r.system.pressure_cpu_some)))
        }
        Lane::Memory => {
            let system = &sample.now.system;
            let swap = sample.rate(|r| r.system.swap_in).value().unwrap_or(0.0)
                + sample.rate(|r| r.system.swap_out).value().unwrap_or(0.0);
            let swap = if swap < 1.0 {
                "nothing is swapped".to_owned()
            } else {
                format!("{}/s to and from swap", long_bytes(swap))
            };
            match (system.mem_available.float().value(), system.mem_total.float().value()) {
                (Some(available), Some(total)) => {
                    format!("{} available of {}; {swap}", long_bytes(available), long_bytes(total))
                }
                _ => swap,
            }
        }
        Lane::Disk => format!("{first}{}", waits(stalled(sample, |r| r.system.pressure_io_some))),
        Lane::Network if second.is_empty() => first,
        Lane::Network => format!("{first}; {second}"),
        Lane::Heat if second.is_empty() => first,
        Lane::Heat => format!("{} at {first}; {second}", lane.label(&point)),
    }
}
