//! Heat: sensors against their own limits, fans, power, batteries, graphics processors, throttling.

use super::section::{Column, Look, PartId, PartRow, Section};
use crate::catalogue::{Unit, Value};
use crate::known::Known;
use crate::lane::{CHARGE, NEAR_HEAT, Severity, battery_severity, fan_severity, temperature_severity};
use crate::reading::SensorRow;
use crate::sample::Sample;
use crate::sorting::ColdSort as _;

pub fn sections(sample: &Sample) -> Vec<Section> {
    vec![
        fans(sample),
        temperatures(sample),
        batteries(sample),
        graphics(sample),
        throttling(sample),
        power(sample),
    ]
}

fn of_sensors(
    section: &mut Section,
    sample: &Sample,
    measures: impl Fn(&SensorRow) -> bool,
    severity: impl Fn(&SensorRow) -> Severity,
) {
    let mut sensors: Vec<&SensorRow> = sample.now.sensors.iter().filter(|sensor| measures(sensor)).collect();
    // The worst first; of equal ones the nearest to its limit, by whole degrees so that rows do not jump about.
    let left = |sensor: &SensorRow| {
        let left = sensor.limit.get().zip(sensor.temperature.get()).map(|(limit, now)| (limit - now) / 1000);
        left.value().unwrap_or(i64::MAX)
    };
    sensors.cold_sort_by_key(|sensor| (std::cmp::Reverse(severity(sensor)), left(sensor)));
    for sensor in sensors {
        section.add(PartId::Sensor(sensor.name.clone()), &sensor.name).severity = severity(sensor);
    }
}

/// The sensor of a row.
fn sensor_of<'a>(sample: &'a Sample, row: &PartRow) -> Option<&'a SensorRow> {
    let PartId::Sensor(name) = &row.id else { return None };
    sample.now.sensors.iter().find(|sensor| sensor.name == *name)
}

/// Temperature and limit of the sensor of a row, in thousandths of a degree.
fn limited(sample: &Sample, row: &PartRow) -> Known<(f64, f64)> {
    let sensor = sensor_of(sample, row);
    sensor.map_or(Known::Absent, |sensor| sensor.temperature.float().zip(sensor.limit.float()))
}

fn temperatures(sample: &Sample) -> Section {
    let mut section = Section::new("temperatures", "sensor", 24);
    of_sensors(
        &mut section,
        sample,
        |s| s.temperature.value().is_some(),
        |s| temperature_severity(s, NEAR_HEAT),
    );
    section.metric(sample, "sensor.temperature", "°C", Look::Number, 0);
    section.metric(sample, "sensor.limit", "limit °C", Look::Number, 2);
    let against = Column { heading: "of its limit", unit: Unit::Percent, look: Look::Bar, keep: 0 };
    section
        .column(against, |row| limited(sample, row).map(|(now, limit)| now / limit.max(1.0) * 100.0).into());
    let to_go = Column { heading: "°C to go", unit: Unit::Celsius, look: Look::Number, keep: 1 };
    section.column(to_go, |row| limited(sample, row).map(|(now, limit)| (limit - now) / 1000.0).into());
    section
}

fn fans(sample: &Sample) -> Section {
    let mut section = Section::new("fans", "fan", 24);
    of_sensors(&mut section, sample, |s| s.fan.value().is_some(), fan_severity);
    section.metric(sample, "sensor.fan", "rpm", Look::Number, 0);
    section.metric(sample, "sensor.fan_min", "at least", Look::Number, 1);
    section.text("", 40, 1, |row| {
        let sensor = sensor_of(sample, row);
        match sensor.map(fan_severity) {
            Some(Severity::Fine) | None => Value::Word(""),
            Some(_) if sensor.and_then(|sensor| sensor.fan.value()) == Some(0) => Value::Word("stands still"),
            Some(_) => Value::Word("slower than the board allows"),
        }
    });
    section
}

fn batteries(sample: &Sample) -> Section {
    let mut section = Section::new("batteries", "battery", 24);
    for battery in &sample.now.batteries {
        section.add(PartId::Battery(battery.name.clone()), &battery.name).severity =
            battery_severity(battery, CHARGE);
    }
    section.metric(sample, "battery.charge", "charge", Look::Bar, 0);
    section.metric(sample, "battery.time_left", "time left", Look::Number, 0);
    let mut rows = sample.now.batteries.iter();
    let watts = Column { heading: "W", unit: Unit::Watts, look: Look::Number, keep: 1 };
    section.column(watts, |_| {
        rows.next().map_or(Value::Absent, |row| row.power.float().map(|micro| micro / 1e6).into())
    });
    let mut rows = sample.now.batteries.iter();
    section.text("", 20, 1, |_| rows.next().map_or(Value::Absent, |row| Value::from(&row.status)));
    section
}

fn graphics(sample: &Sample) -> Section {
    let mut section = Section::new("graphics processors", "card", 24);
    for gpu in &sample.now.gpus {
        section.add(PartId::Gpu(gpu.name.clone()), &gpu.name);
    }
    section.metric(sample, "gpu.utilization", "busy", Look::Bar, 0);
    section.numbers(
        sample,
        &[
            ("gpu.memory", "memory", 1),
            ("gpu.temperature", "°C", 1),
            ("gpu.power", "W", 2),
            ("gpu.fan", "rpm", 3),
        ],
    );
    section
}

/// Cores that slowed down because of heat; empty where none did or none says.
fn throttling(sample: &Sample) -> Section {
    let mut section = Section::new("slowed down by heat", "core", 24);
    for core in sample.parts(|reading| &reading.cores[..]) {
        if let Some(rate) = core.rate(|row| row.throttles).value().filter(|rate| *rate > 0.0) {
            let number = core.now.number.value().unwrap_or(-1);
            let row = section.add(PartId::Core(number), &number.to_string().into());
            row.severity = Severity::reached(rate, [0.0, 0.0, f64::INFINITY]);
        }
    }
    section.metric(sample, "cpu.throttled", "times/s", Look::Number, 0);
    section.metric(sample, "cpu.frequency", "Hz", Look::Number, 1);
    section.metric(sample, "cpu.frequency_max", "Hz at most", Look::Number, 2);
    section
}

fn power(sample: &Sample) -> Section {
    let mut section = Section::new("power and voltage", "sensor", 24);
    let measures = |s: &SensorRow| [s.power, s.energy, s.voltage].iter().any(|raw| raw.value().is_some());
    of_sensors(&mut section, sample, measures, |_| Severity::Fine);
    section.metric(sample, "sensor.power", "W", Look::Number, 0);
    section.metric(sample, "sensor.voltage", "V", Look::Number, 0);
    section
}
