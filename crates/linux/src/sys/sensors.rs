//! Temperature sensors: hwmon (Documentation/hwmon/sysfs-interface.rst), else thermal zones
//! (Documentation/driver-api/thermal/sysfs-api.rst).

use super::{number_in, text_in};
use dozor_core::known::Raw;
use dozor_core::reading::SensorRow;
use dozor_core::text::Text;
use std::path::{Path, PathBuf};

/// Sensors that were found, with their limits; only temperatures are read again.
pub struct Sensors(Vec<Sensor>);

struct Sensor {
    name: Text,
    path: PathBuf,
    limit: Raw,
}

/// Folders below `path` whose names begin with `prefix`, in order.
fn folders(path: &Path, prefix: &str) -> Vec<PathBuf> {
    let mut found: Vec<PathBuf> = std::fs::read_dir(path)
        .into_iter()
        .flatten()
        .flatten()
        .filter(|entry| entry.file_name().to_string_lossy().starts_with(prefix))
        .map(|entry| entry.path())
        .collect();
    found.sort();
    found
}

impl Sensors {
    /// Looks for sensors.
    pub fn find(sys: &Path) -> Sensors {
        let mut sensors: Vec<Sensor> =
            folders(&sys.join("class/hwmon"), "hwmon").iter().flat_map(|chip| of_chip(chip)).collect();
        if sensors.is_empty() {
            sensors = folders(&sys.join("class/thermal"), "thermal_zone")
                .iter()
                .filter_map(|z| of_zone(z))
                .collect();
        }
        // Two chips of one kind have the same names; rows of a reading must not.
        for at in 1..sensors.len() {
            let same = sensors[..at].iter().filter(|other| other.name == sensors[at].name).count();
            if same > 0 {
                sensors[at].name = format!("{} #{}", sensors[at].name, same + 1).into();
            }
        }
        Sensors(sensors)
    }

    /// Temperatures now. A sensor that does not answer is absent, not zero.
    pub fn read(&self) -> Vec<SensorRow> {
        let row = |sensor: &Sensor| SensorRow {
            name: sensor.name.clone(),
            temperature: number_in(&sensor.path).into(),
            limit: sensor.limit,
        };
        self.0.iter().map(row).collect()
    }
}

/// Temperature inputs of a hwmon chip. `crit` is where the hardware acts; `max` serves where it is missing.
fn of_chip(chip: &Path) -> Vec<Sensor> {
    let chip_name = text_in(&chip.join("name")).unwrap_or_else(|| "sensor".to_owned());
    folders(chip, "temp")
        .into_iter()
        .filter_map(|path| {
            let file = path.file_name()?.to_str()?;
            let input = file.strip_suffix("_input")?;
            let sibling = |suffix: &str| chip.join(format!("{input}_{suffix}"));
            let label = text_in(&sibling("label")).unwrap_or_else(|| input.to_owned());
            let limit = number_in(&sibling("crit")).or_else(|| number_in(&sibling("max")));
            Some(Sensor { name: format!("{chip_name} {label}").into(), path, limit: plausible(limit) })
        })
        .collect()
}

fn of_zone(zone: &Path) -> Option<Sensor> {
    let name = text_in(&zone.join("type"))?;
    let path = zone.join("temp");
    path.exists().then_some(())?;
    let critical = folders(zone, "trip_point_").into_iter().find_map(|path| {
        let point = path.file_name()?.to_str()?.strip_suffix("_type")?.to_owned();
        (text_in(&path)? == "critical").then(|| number_in(&zone.join(format!("{point}_temp"))))?
    });
    Some(Sensor { name: name.into(), path, limit: plausible(critical) })
}

/// Drivers without a limit often state zero or something absurd.
fn plausible(limit: Option<i64>) -> Raw {
    limit.filter(|limit| (1..=200_000).contains(limit)).into()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tree(files: &[(&str, &str)]) -> tempfile::TempDir {
        let root = tempfile::tempdir().expect("a scratch folder");
        for (path, text) in files {
            let path = root.path().join(path);
            std::fs::create_dir_all(path.parent().expect("a parent")).expect("folders");
            std::fs::write(path, text).expect("a file");
        }
        root
    }

    #[test]
    fn hwmon_sensors_have_labels_and_their_own_limits() {
        let root = tree(&[
            ("class/hwmon/hwmon0/name", "coretemp\n"),
            ("class/hwmon/hwmon0/temp1_input", "61000\n"),
            ("class/hwmon/hwmon0/temp1_label", "Package id 0\n"),
            ("class/hwmon/hwmon0/temp1_crit", "95000\n"),
            ("class/hwmon/hwmon1/name", "nvme\n"),
            ("class/hwmon/hwmon1/temp1_input", "garbage\n"),
            ("class/hwmon/hwmon1/temp1_max", "0\n"),
            ("class/hwmon/hwmon2/name", "nvme\n"),
            ("class/hwmon/hwmon2/temp1_input", "-4000\n"),
        ]);
        let rows = Sensors::find(root.path()).read();
        let shown: Vec<_> =
            rows.iter().map(|row| (&*row.name, row.temperature.value(), row.limit.value())).collect();
        assert_eq!(
            shown,
            [
                ("coretemp Package id 0", Some(61_000), Some(95_000)),
                ("nvme temp1", None, None),
                ("nvme temp1 #2", Some(-4_000), None),
            ]
        );
    }

    #[test]
    fn thermal_zones_serve_where_there_is_no_hwmon() {
        let root = tree(&[
            ("class/thermal/thermal_zone0/type", "soc\n"),
            ("class/thermal/thermal_zone0/temp", "48500\n"),
            ("class/thermal/thermal_zone0/trip_point_0_type", "passive\n"),
            ("class/thermal/thermal_zone0/trip_point_0_temp", "80000\n"),
            ("class/thermal/thermal_zone0/trip_point_1_type", "critical\n"),
            ("class/thermal/thermal_zone0/trip_point_1_temp", "100000\n"),
        ]);
        let rows = Sensors::find(root.path()).read();
        assert_eq!(rows.len(), 1);
        assert_eq!((rows[0].temperature.value(), rows[0].limit.value()), (Some(48_500), Some(100_000)));
        assert!(Sensors::find(Path::new("/nowhere")).read().is_empty(), "no sensors is not an error");
    }
}
