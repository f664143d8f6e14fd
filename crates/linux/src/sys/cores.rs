//! Frequency, throttling and place of each core; Documentation/admin-guide/pm/cpufreq.rst,
//! Documentation/ABI/testing/sysfs-devices-system-cpu.

use super::{folders, number_in, text_in};
use crate::proc::{number, read_file};
use dozor_core::cores::CoreSet;
use dozor_core::inside::CorePlace;
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

/// Where the cores are, and what they share; Documentation/ABI/stable/sysfs-devices-system-cpu.
pub fn places(sys: &Path) -> Vec<CorePlace> {
    let set = |path: PathBuf| -> Option<CoreSet> {
        std::str::from_utf8(read_file(&path).ok()?.trim_ascii()).ok()?.parse().ok()
    };
    let nodes: Vec<(i64, CoreSet)> = folders(&sys.join("devices/system/node"), "node")
        .into_iter()
        .filter_map(|folder| {
            let node = number(folder.file_name()?.as_encoded_bytes().strip_prefix(b"node")?)?;
            Some((node, set(folder.join("cpulist"))?))
        })
        .collect();
    let online = set(sys.join("devices/system/cpu/online")).unwrap_or_default();
    let place = |core: usize| {
        let folder = sys.join(format!("devices/system/cpu/cpu{core}"));
        let caches = folders(&folder.join("cache"), "index");
        let largest = caches.iter().max_by_key(|cache| number_in(&cache.join("level")));
        let size = largest.and_then(|cache| text_in(&cache.join("size")));
        // Written as `32768K`.
        let bytes = size.and_then(|size| number(size.strip_suffix('K')?.as_bytes())?.checked_mul(1024));
        CorePlace {
            number: core,
            node: nodes.iter().find(|(_, cores)| cores.has(core)).map(|(node, _)| *node).into(),
            siblings: set(folder.join("topology/thread_siblings_list")).unwrap_or_default(),
            cache: largest.and_then(|cache| set(cache.join("shared_cpu_list"))).unwrap_or_default(),
            cache_bytes: bytes.into(),
        }
    };
    online.iter().map(place).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_say_what_cores_share() {
        let cpu = "devices/system/cpu";
        let tree = crate::sys::tests::tree(&[
            (&format!("{cpu}/online"), "0-1\n"),
            (&format!("{cpu}/cpu0/cache/index0/level"), "1\n"),
            (&format!("{cpu}/cpu0/cache/index0/shared_cpu_list"), "0\n"),
            (&format!("{cpu}/cpu0/cache/index3/level"), "3\n"),
            (&format!("{cpu}/cpu0/cache/index3/size"), "32768K\n"),
            (&format!("{cpu}/cpu0/cache/index3/shared_cpu_list"), "0-1\n"),
            ("devices/system/node/node1/cpulist", "0-1\n"),
        ]);
        let places = places(tree.path());
        assert_eq!((places.len(), places[0].node, places[0].cache.len()), (2, Raw::new(1), 2));
        assert_eq!(places[0].cache_bytes, Raw::new(32 << 20));
        assert_eq!((places[1].cache.is_empty(), places[1].cache_bytes), (true, Raw::ABSENT));
    }
}
