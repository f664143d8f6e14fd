//! The five lanes: what each resource says in one number, in two facts and in one severity.

mod facts;
mod per_lane;
mod point;
mod severity;

pub use facts::run_queue;
pub use per_lane::PerLane;
pub use point::Point;
pub use severity::{
    CHARGE, DISKS, DiskLimits, FULL, MEMORY, NEAR_HEAT, NETWORK, RESENT, SLOW_SERVER, Severity, UNDELIVERED,
    battery_severity, disk_severity, fan_severity, filesystem_severity, group_severity, interface_severity,
    remote_severity, temperature_severity,
};

use crate::catalogue::{Metric, cpu_busy, cpu_share, listed};
use crate::known::Known;
use crate::sample::Sample;
use crate::units::short_bytes;
use facts::{
    busiest_disk, cpu_facts, disk_facts, heat_facts, heat_point, memory_facts, memory_point, network_facts,
    network_point,
};
use serde::{Deserialize, Serialize};
use severity::CPU;

/// One resource.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Lane {
    /// Processors.
    Cpu,
    /// Memory and swap.
    Memory,
    /// Block devices.
    Disk,
    /// Network interfaces.
    Network,
    /// Temperatures.
    Heat,
}

impl Lane {
    /// All lanes from top to bottom.
    pub const ALL: [Lane; 5] = [Lane::Cpu, Lane::Memory, Lane::Disk, Lane::Network, Lane::Heat];

    /// Its name.
    pub const fn name(self) -> &'static str {
        match self {
            Lane::Cpu => "cpu",
            Lane::Memory => "memory",
            Lane::Disk => "disk",
            Lane::Network => "network",
            Lane::Heat => "heat",
        }
    }

    /// Aliases of the columns that fit this lane; the first is what its users are ordered by.
    pub const fn columns(self) -> &'static [&'static str] {
        match self {
            Lane::Cpu => &[
                "cpu",
                "cpu_user",
                "cpu_system",
                "core_wait",
                "cpu_children",
                "threads",
                "core",
                "nice",
                "rss",
                "age",
            ],
            Lane::Memory => {
                &["rss", "growth", "swap", "mem", "shared", "faults_major", "virtual", "cpu", "age"]
            }
            Lane::Disk => {
                &["disk", "write", "read", "disk_wait", "cpu", "rss", "write_calls", "read_calls", "age"]
            }
            Lane::Network => &["net", "net_in", "net_out", "connections", "cpu", "rss", "age"],
            Lane::Heat => &["cpu", "core", "core_temp", "cpu_time", "nice", "threads", "age"],
        }
    }

    /// The metric that the lane's users are ordered by.
    pub fn lens(self) -> &'static Metric {
        listed(self.columns()[0])
    }

    /// What the strip draws.
    pub fn point(self, sample: &Sample) -> Point {
        let percent = |value: Known<f64>, thresholds| Point {
            value,
            full: Known::Value(100.0),
            severity: value.value().map_or(Severity::Fine, |value| Severity::reached(value, thresholds)),
        };
        match self {
            Lane::Cpu => {
                let nice = cpu_share(sample, |core| core.nice).value().unwrap_or(0.0);
                Point { value: cpu_busy(sample), ..percent(cpu_busy(sample).map(|busy| busy - nice), CPU) }
            }
            Lane::Memory => memory_point(sample),
            Lane::Disk => Point {
                value: busiest_disk(sample).map_or(Known::Absent, |(_, busy)| busy),
                full: Known::Value(100.0),
                severity: facts::disks_severity(sample)
                    .max(
                        facts::hung_filesystem(sample)
                            .map_or(Severity::Fine, |row| filesystem_severity(row, FULL)),
                    )
                    .max(facts::remotes_severity(sample)),
            },
            Lane::Network => network_point(sample),
            Lane::Heat => heat_point(sample),
        }
    }

    /// The value as the lane shows it: `84 %`, `22.4 M/s`, `83 °C`, `–`.
    pub fn label(self, point: &Point) -> String {
        match (self, point.value, point.full) {
            (_, Known::Absent, _) => "–".to_owned(),
            (_, Known::Denied, _) => "×".to_owned(),
            (Lane::Heat, Known::Value(value), _) => format!("{value:.0} °C"),
            (Lane::Network, Known::Value(value), Known::Value(full)) if full > 0.0 => {
                format!("{:.0} %", value / full * 100.0)
            }
            (Lane::Network, Known::Value(value), _) => format!("{}/s", short_bytes(value)),
            (_, Known::Value(value), _) => format!("{value:.0} %"),
        }
    }

    /// Two short facts that matter now.
    pub fn facts(self, sample: &Sample) -> [String; 2] {
        match self {
            Lane::Cpu => cpu_facts(sample),
            Lane::Memory => memory_facts(sample),
            Lane::Disk => disk_facts(sample),
            Lane::Network => network_facts(sample),
            Lane::Heat => heat_facts(sample),
        }
    }
}
