//! Frequency, throttling and place of each core; Documentation/admin-guide/pm/cpufreq.rst,
//! Documentation/ABI/testing/sysfs-devices-system-cpu.

use super::number_in;
use dozor_core::known::Raw;
use dozor_core::reading::CoreRow;
use dozor_core::text::Text;
use std::collections::HashMap;
use std::path::{Path, PathBuf};

/// What does not change of a core, found at its first reading.
struct Core {
    folder: PathBuf,
    frequency_max: Raw,
    has_frequency: bool,
    has_throttle: bool,
    sensor: Option<Text>,
}

/// Cores seen so far.
#[derive(Default)]
pub struct Cores(HashMap<i64, Core>);

impl Cores {
    /// Adds frequency, throttling and sensor to a core's counters. `sensor` finds the sensor of a package and core.
    pub fn complete(&mut self, sys: &Path, row: &mut CoreRow, sensor: impl Fn(i64, i64) -> Option<Text>) {
        let Some(number) = row.number.value() else { return };
        let core = self.0.entry(number).or_insert_with(|| {
            let folder = sys.join(format!("devices/system/cpu/cpu{number}"));
            let topology = |name: &str| number_in(&folder.join("topology").join(name));
            let place = topology("physical_package_id").zip(topology("core_id"));
            Core {
                frequency_max: kilohertz(number_in(&folder.join("cpufreq/cpuinfo_max_freq"))),
                has_frequency: folder.join("cpufreq/scaling_cur_freq").exists(),
                has_throttle: folder.join("thermal_throttle").exists(),
                sensor: place
                    .map_or_else(|| sensor(0, number), |(package, core)| sensor(package.max(0), core)),
                folder,
            }
        });
        row.frequency_max = core.frequency_max;
        if core.has_frequency {
            row.frequency = kilohertz(number_in(&core.folder.join("cpufreq/scaling_cur_freq")));
        }
        if core.has_throttle {
            let count = |name: &str| number_in(&core.folder.join("thermal_throttle").join(name));
            let counts = [count("core_throttle_count"), count("package_throttle_count")];
            row.throttles = counts.into_iter().flatten().reduce(i64::saturating_add).into();
        }
        if let Some(sensor) = &core.sensor {
            row.sensor = sensor.clone();
        }
    }
}

fn kilohertz(value: Option<i64>) -> Raw {
    value.and_then(|value| value.checked_mul(1000)).into()
}
