//! Batteries; Documentation/ABI/testing/sysfs-class-power.

use super::{folders, number_in, text_in};
use dozor_core::known::Raw;
use dozor_core::reading::BatteryRow;
use dozor_core::text::no_text;
use std::path::Path;

/// All batteries that power the machine; those of mice and pens say so in `scope`.
pub fn batteries(sys: &Path) -> Vec<BatteryRow> {
    let supplies = folders(&sys.join("class/power_supply"), "");
    supplies.iter().filter_map(|supply| battery(supply)).collect()
}

fn battery(supply: &Path) -> Option<BatteryRow> {
    (text_in(&supply.join("type"))? == "Battery").then_some(())?;
    (text_in(&supply.join("scope")).as_deref() != Some("Device")).then_some(())?;
    let name = dozor_core::text::clean(supply.file_name()?.as_encoded_bytes());
    let value = |file: &str| number_in(&supply.join(file));
    // Some drivers count energy (µWh, µW), others charge (µAh, µA). Each is divided by its own kind of flow.
    let pair =
        |now: &str, full: &str, flow: &str| (value(now), value(full), value(flow).map(i64::saturating_abs));
    let energy = pair("energy_now", "energy_full", "power_now");
    let charge = pair("charge_now", "charge_full", "current_now");
    let (now, full, flow) = if energy.0.is_some() { energy } else { charge };
    let status = text_in(&supply.join("status"));
    let charge = match (now, full) {
        (Some(now), Some(full)) if full > 0 => now.checked_mul(10_000).map(|charge| charge / full),
        _ => value("capacity").and_then(|percent| percent.checked_mul(100)),
    };
    let discharging = status.as_deref() == Some("Discharging");
    let seconds_left = match (now, flow) {
        _ if !discharging => None,
        (Some(now), Some(flow)) if flow > 0 => now.checked_mul(3600).map(|left| left / flow),
        // The driver's own reckoning, in seconds.
        _ => value("time_to_empty_now").filter(|seconds| *seconds > 0),
    };
    let power = value("power_now").map(i64::saturating_abs).or_else(|| {
        let (current, voltage) = (value("current_now")?.saturating_abs(), value("voltage_now")?);
        Some((i128::from(current) * i128::from(voltage) / 1_000_000) as i64)
    });
    Some(BatteryRow {
        name: name.into(),
        status: status.map_or_else(no_text, |status| status.to_lowercase().into()),
        charge: charge.filter(|charge| (0..=10_500).contains(charge)).into(),
        seconds_left: Raw::from(seconds_left),
        power: power.into(),
    })
}

#[cfg(test)]
mod tests {
    use super::super::tests::tree;
    use super::*;

    #[test]
    fn charge_and_time_left_come_from_energy_or_current() {
        let root = tree(&[
            ("class/power_supply/AC/type", "Mains\n"),
            ("class/power_supply/BAT0/type", "Battery\n"),
            ("class/power_supply/BAT0/status", "Discharging\n"),
            ("class/power_supply/BAT0/energy_now", "30000000\n"),
            ("class/power_supply/BAT0/energy_full", "40000000\n"),
            ("class/power_supply/BAT0/power_now", "10000000\n"),
            ("class/power_supply/BAT1/type", "Battery\n"),
            ("class/power_supply/BAT1/status", "Charging\n"),
            ("class/power_supply/BAT1/charge_now", "1000000\n"),
            ("class/power_supply/BAT1/charge_full", "4000000\n"),
            ("class/power_supply/BAT1/current_now", "2000000\n"),
            ("class/power_supply/BAT1/voltage_now", "11000000\n"),
            ("class/power_supply/mouse/type", "Battery\n"),
            ("class/power_supply/mouse/scope", "Device\n"),
        ]);
        let batteries = batteries(root.path());
        assert_eq!(batteries.len(), 2);
        let first = &batteries[0];
        assert_eq!((&*first.name, &*first.status), ("BAT0", "discharging"));
        assert_eq!((first.charge, first.seconds_left), (Raw::new(7_500), Raw::new(3 * 3600)));
        let second = &batteries[1];
        assert_eq!((second.charge, second.seconds_left), (Raw::new(2_500), Raw::ABSENT), "it charges");
        assert_eq!(second.power, Raw::new(22_000_000));
    }

    #[test]
    fn energy_is_never_divided_by_a_current() {
        let root = tree(&[
            ("class/power_supply/BAT0/type", "Battery\n"),
            ("class/power_supply/BAT0/status", "Discharging\n"),
            ("class/power_supply/BAT0/energy_now", "30000000\n"),
            ("class/power_supply/BAT0/energy_full", "40000000\n"),
            ("class/power_supply/BAT0/current_now", "2000000\n"),
            ("class/power_supply/BAT1/type", "Battery\n"),
            ("class/power_supply/BAT1/status", "Discharging\n"),
            ("class/power_supply/BAT1/capacity", "40\n"),
            ("class/power_supply/BAT1/time_to_empty_now", "5400\n"),
        ]);
        let batteries = batteries(root.path());
        assert_eq!((batteries[0].charge, batteries[0].seconds_left), (Raw::new(7_500), Raw::ABSENT));
        assert_eq!((batteries[1].charge, batteries[1].seconds_left), (Raw::new(4_000), Raw::new(5_400)));
    }
}
