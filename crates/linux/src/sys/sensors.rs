//! Sensors: hwmon (Documentation/hwmon/sysfs-interface.rst), thermal zones where there is no temperature in hwmon
//! (Documentation/driver-api/thermal/sysfs-api.rst), energy counters (Documentation/power/powercap/powercap.rst).

use super::{folders, number_in, text_in};
use dozor_core::known::Raw;
use dozor_core::reading::SensorRow;
use dozor_core::text::Text;
use std::path::{Path, PathBuf};

/// Sensors that were found, with their limits; only values are read again.
pub struct Sensors(Vec<Sensor>);

#[derive(Clone, Copy, PartialEq, Eq)]
enum Measure {
    Temperature,
    Fan,
    Power,
    Energy,
    Voltage,
}

struct Sensor {
    name: Text,
    path: PathBuf,
    measure: Measure,
    limit: Raw,
    /// Where the chip says that the sensor is broken: what it measures is nothing then.
    fault: Option<PathBuf>,
    /// The package whose cores it stands for, and the core where it has one of its own.
    cores: Option<(i64, Option<i64>)>,
}

/// Prefix of the files of a kind of sensor, suffixes of its value in the order of preference.
const KINDS: [(&str, &[&str], Measure); 5] = [
    ("temp", &["_input"], Measure::Temperature),
    ("fan", &["_input"], Measure::Fan),
    ("power", &["_input", "_average"], Measure::Power),
    ("energy", &["_input"], Measure::Energy),
    ("in", &["_input"], Measure::Voltage),
];

/// Chips whose temperatures are those of the processor.
const PROCESSOR_CHIPS: [&str; 6] =
    ["coretemp", "k8temp", "k10temp", "zenpower", "cpu_thermal", "cpu-thermal"];
/// Thermal zones of the processor.
const PROCESSOR_ZONES: [&str; 4] = ["x86_pkg_temp", "cpu-thermal", "cpu_thermal", "soc-thermal"];

impl Sensors {
    /// Looks for sensors.
    pub fn find(sys: &Path) -> Sensors {
        let chips = folders(&sys.join("class/hwmon"), "hwmon");
        let mut sensors: Vec<Sensor> = chips.iter().flat_map(|chip| of_chip(chip)).collect();
        if !sensors.iter().any(|sensor| sensor.measure == Measure::Temperature) {
            let zones = folders(&sys.join("class/thermal"), "thermal_zone");
            sensors.extend(zones.iter().filter_map(|zone| of_zone(zone)));
        }
        sensors.extend(
            folders(&sys.join("class/powercap"), "intel-rapl:").iter().filter_map(|zone| of_energy(zone)),
        );
        // Two chips of one kind have the same names; rows of a reading must not.
        for at in 1..sensors.len() {
            let same = sensors[..at].iter().filter(|other| other.name == sensors[at].name).count();
            if same > 0 {
                sensors[at].name = format!("{} #{}", sensors[at].name, same + 1).into();
            }
        }
        Sensors(sensors)
    }

    /// Values now, put into a list that is empty. A sensor that does not answer is absent, not zero.
    pub fn read(&self, mut rows: Vec<SensorRow>) -> Vec<SensorRow> {
        let row = |sensor: &Sensor| {
            let broken = sensor.fault.as_deref().is_some_and(|fault| number_in(fault) == Some(1));
            let value = Raw::from(number_in(&sensor.path).filter(|_| !broken));
            let mut row = SensorRow { name: sensor.name.clone(), ..SensorRow::default() };
            match sensor.measure {
                Measure::Fan => row.fan_min = sensor.limit,
                _ => row.limit = sensor.limit,
            }
            *match sensor.measure {
                Measure::Temperature => &mut row.temperature,
                Measure::Fan => &mut row.fan,
                Measure::Power => &mut row.power,
                Measure::Energy => &mut row.energy,
                Measure::Voltage => &mut row.voltage,
            } = value;
            row
        };
        rows.extend(self.0.iter().map(row));
        rows
    }

    /// The temperature sensor that stands for a core: its own, else that of its package, else that of all.
    pub fn of_core(&self, package: i64, core: i64) -> Option<Text> {
        let rank = |sensor: &&Sensor| match sensor.cores {
            Some((of, Some(own))) if (of, own) == (package, core) => 0,
            Some((of, None)) if of == package => 1,
            Some((_, None)) => 2,
            _ => 3,
        };
        self.0.iter().min_by_key(rank).filter(|sensor| rank(sensor) < 3).map(|sensor| sensor.name.clone())
    }
}

/// Inputs of a hwmon chip. `crit` is where the hardware acts; `max` serves where it is missing.
fn of_chip(chip: &Path) -> Vec<Sensor> {
    let chip_name = text_in(&chip.join("name")).unwrap_or_else(|| "sensor".to_owned());
    // The platform device of a processor's chip carries the number of the package: coretemp.1.
    let device = std::fs::canonicalize(chip.join("device")).ok();
    let package =
        device.as_ref().and_then(|path| path.file_name()?.to_str()?.rsplit_once('.')?.1.parse().ok());
    let mut sensors = vec![];
    for (prefix, suffixes, measure) in KINDS {
        for path in folders(chip, prefix) {
            let Some(input) = path.file_name().and_then(|name| name.to_str()).and_then(|file| {
                let input = suffixes.iter().find_map(|suffix| file.strip_suffix(suffix))?;
                input[prefix.len()..].bytes().all(|byte| byte.is_ascii_digit()).then(|| input.to_owned())
            }) else {
                continue;
            };
            let sibling = |suffix: &str| chip.join(format!("{input}_{suffix}"));
            let label = text_in(&sibling("label")).unwrap_or_else(|| input.clone());
            let limit = number_in(&sibling("crit")).or_else(|| number_in(&sibling("max")));
            let of_processor =
                measure == Measure::Temperature && PROCESSOR_CHIPS.contains(&chip_name.as_str());
            let core = label.strip_prefix("Core ").and_then(|number| number.parse().ok());
            let whole =
                label.starts_with("Package id ") || label.starts_with("Tctl") || label.starts_with("temp");
            sensors.push(Sensor {
                name: format!("{chip_name} {label}").into(),
                path: path.clone(),
                measure,
                fault: Some(sibling("fault")).filter(|fault| fault.exists()),
                limit: match measure {
                    Measure::Temperature => plausible(limit),
                    Measure::Fan => number_in(&sibling("min")).into(),
                    _ => Raw::ABSENT,
                },
                cores: (of_processor && (whole || core.is_some())).then(|| (package.unwrap_or(0), core)),
            });
        }
    }
    sensors
}

fn of_zone(zone: &Path) -> Option<Sensor> {
    let name = text_in(&zone.join("type"))?;
    let path = zone.join("temp");
    path.exists().then_some(())?;
    let critical = folders(zone, "trip_point_").into_iter().find_map(|path| {
        let point = path.file_name()?.to_str()?.strip_suffix("_type")?.to_owned();
        (text_in(&path)? == "critical").then(|| number_in(&zone.join(format!("{point}_temp"))))?
    });
    let cores = PROCESSOR_ZONES.contains(&name.as_str()).then_some((0, None));
    Some(Sensor {
        name: name.into(),
        path,
        measure: Measure::Temperature,
        limit: plausible(critical),
        fault: None,
        cores,
    })
}

fn of_energy(zone: &Path) -> Option<Sensor> {
    let path = zone.join("energy_uj");
    path.exists().then_some(())?;
    let name = text_in(&zone.join("name"))?;
    let folder = zone.file_name()?.to_str()?;
    // Zones below a package have names that every package has.
    let of = folder
        .trim_start_matches("intel-rapl:")
        .split(':')
        .next()
        .filter(|_| folder.matches(':').count() > 1);
    let name =
        of.map_or_else(|| format!("energy {name}"), |package| format!("energy package-{package} {name}"));
    Some(Sensor {
        name: name.into(),
        path,
        measure: Measure::Energy,
        limit: Raw::ABSENT,
        fault: None,
        cores: None,
    })
}

/// Drivers without a limit often state zero or something absurd.
fn plausible(limit: Option<i64>) -> Raw {
    limit.filter(|limit| (1..=200_000).contains(limit)).into()
}

#[cfg(test)]
mod tests {
    use super::super::tests::tree;
    use super::*;

    #[test]
    fn hwmon_sensors_have_labels_and_their_own_limits() {
        let root = tree(&[
            ("class/hwmon/hwmon0/name", "coretemp\n"),
            ("class/hwmon/hwmon0/temp1_input", "61000\n"),
            ("class/hwmon/hwmon0/temp1_label", "Package id 0\n"),
            ("class/hwmon/hwmon0/temp1_crit", "95000\n"),
            ("class/hwmon/hwmon0/temp3_input", "58000\n"),
            ("class/hwmon/hwmon0/temp3_label", "Core 4\n"),
            ("class/hwmon/hwmon1/name", "nvme\n"),
            ("class/hwmon/hwmon1/temp1_input", "garbage\n"),
            ("class/hwmon/hwmon1/temp1_max", "0\n"),
            ("class/hwmon/hwmon2/name", "nvme\n"),
            ("class/hwmon/hwmon2/temp1_input", "-4000\n"),
        ]);
        let sensors = Sensors::find(root.path());
        let rows = sensors.read(vec![]);
        let shown: Vec<_> =
            rows.iter().map(|row| (&*row.name, row.temperature.value(), row.limit.value())).collect();
        assert_eq!(
            shown,
            [
                ("coretemp Package id 0", Some(61_000), Some(95_000)),
                ("coretemp Core 4", Some(58_000), None),
                ("nvme temp1", None, None),
                ("nvme temp1 #2", Some(-4_000), None),
            ]
        );
        assert_eq!(sensors.of_core(0, 4).as_deref(), Some("coretemp Core 4"));
        assert_eq!(sensors.of_core(0, 9).as_deref(), Some("coretemp Package id 0"), "one for the package");
    }

    #[test]
    fn fans_power_voltage_and_energy_are_told_apart() {
        let root = tree(&[
            ("class/hwmon/hwmon0/name", "board\n"),
            ("class/hwmon/hwmon0/fan2_input", "0\n"),
            ("class/hwmon/hwmon0/fan2_min", "600\n"),
            ("class/hwmon/hwmon0/power1_average", "15000000\n"),
            ("class/hwmon/hwmon0/energy1_input", "77000\n"),
            ("class/hwmon/hwmon0/temp9_input", "25000\n"),
            ("class/hwmon/hwmon0/temp9_fault", "1\n"),
            ("class/hwmon/hwmon0/in0_input", "1080\n"),
            ("class/hwmon/hwmon0/in0_label", "Vcore\n"),
            ("class/hwmon/hwmon0/intrusion0_alarm", "1\n"),
            ("class/powercap/intel-rapl:0/name", "package-0\n"),
            ("class/powercap/intel-rapl:0/energy_uj", "123456\n"),
            ("class/powercap/intel-rapl:0:0/name", "core\n"),
            ("class/powercap/intel-rapl:0:0/energy_uj", "99\n"),
        ]);
        let sensors = Sensors::find(root.path());
        let rows = sensors.read(vec![]);
        let find = |name: &str| rows.iter().find(|row| &*row.name == name).expect("a sensor");
        assert_eq!(rows.len(), 7);
        assert_eq!(find("board energy1").energy, Raw::new(77_000));
        assert_eq!(find("board temp9").temperature, Raw::ABSENT, "the chip calls it broken");
        assert_eq!(find("board fan2").fan, Raw::new(0), "a fan that stands is zero, not absent");
        assert_eq!((find("board fan2").fan_min, find("board fan2").limit), (Raw::new(600), Raw::ABSENT));
        assert_eq!(find("board power1").power, Raw::new(15_000_000));
        assert_eq!(find("board Vcore").voltage, Raw::new(1080));
        assert_eq!(find("energy package-0").energy, Raw::new(123_456));
        assert_eq!(find("energy package-0 core").energy, Raw::new(99));
        std::fs::remove_file(root.path().join("class/hwmon/hwmon0/fan2_input")).expect("our own");
        let later = sensors.read(vec![]);
        let fan = later.iter().find(|row| &*row.name == "board fan2").expect("its row");
        assert_eq!(fan.fan, Raw::ABSENT, "a sensor that vanished is unknown, not zero");
    }

    #[test]
    fn thermal_zones_serve_where_there_is_no_hwmon() {
        let root = tree(&[
            ("class/thermal/thermal_zone0/type", "soc-thermal\n"),
            ("class/thermal/thermal_zone0/temp", "48500\n"),
            ("class/thermal/thermal_zone0/trip_point_0_type", "passive\n"),
            ("class/thermal/thermal_zone0/trip_point_0_temp", "80000\n"),
            ("class/thermal/thermal_zone0/trip_point_1_type", "critical\n"),
            ("class/thermal/thermal_zone0/trip_point_1_temp", "100000\n"),
        ]);
        let sensors = Sensors::find(root.path());
        let rows = sensors.read(vec![]);
        assert_eq!(rows.len(), 1);
        assert_eq!((rows[0].temperature.value(), rows[0].limit.value()), (Some(48_500), Some(100_000)));
        assert_eq!(sensors.of_core(0, 3).as_deref(), Some("soc-thermal"));
        assert!(Sensors::find(Path::new("/nowhere")).read(vec![]).is_empty(), "no sensors is not an error");
    }
}
