//! Graphics processors through the sysfs of the kernel's DRM drivers. What a driver does not state is absent.

use super::{folders, number_in, text_in};
use dozor_core::reading::GpuRow;
use std::path::Path;

/// All cards.
pub fn read(sys: &Path) -> Vec<GpuRow> {
    let cards = folders(&sys.join("class/drm"), "card");
    cards.iter().filter_map(|card| gpu(card)).collect()
}

fn gpu(card: &Path) -> Option<GpuRow> {
    let name = card.file_name()?.to_str()?;
    // Connectors of a card have its name and a dash.
    name.strip_prefix("card")?.parse::<u32>().ok()?;
    let device = card.join("device");
    let driver = std::fs::canonicalize(device.join("driver")).ok();
    let driver = driver.as_ref().and_then(|path| path.file_name()?.to_str());
    let driver = driver.map(str::to_owned).or_else(|| {
        let uevent = text_in(&device.join("uevent"))?;
        Some(uevent.split("DRIVER=").nth(1)?.split("\\n").next()?.to_owned())
    });
    let chip = folders(&device.join("hwmon"), "hwmon").into_iter().next();
    let of_chip = |file: &str| chip.as_ref().and_then(|chip| number_in(&chip.join(file)));
    Some(GpuRow {
        name: driver.map_or_else(|| name.to_owned(), |driver| format!("{name} {driver}")).into(),
        busy: number_in(&device.join("gpu_busy_percent")).into(),
        memory_used: number_in(&device.join("mem_info_vram_used")).into(),
        memory_total: number_in(&device.join("mem_info_vram_total")).into(),
        temperature: of_chip("temp1_input").into(),
        power: of_chip("power1_input").or_else(|| of_chip("power1_average")).into(),
        fan: of_chip("fan1_input").into(),
    })
}

#[cfg(test)]
mod tests {
    use super::super::tests::tree;
    use super::*;
    use dozor_core::known::Raw;

    #[test]
    fn a_card_says_what_its_driver_states() {
        let root = tree(&[
            ("class/drm/card0/device/gpu_busy_percent", "37\n"),
            ("class/drm/card0/device/mem_info_vram_used", "1048576\n"),
            ("class/drm/card0/device/mem_info_vram_total", "8589934592\n"),
            ("class/drm/card0/device/hwmon/hwmon3/temp1_input", "55000\n"),
            ("class/drm/card0/device/uevent", "DRIVER=made-up\nPCI_ID=1:2\n"),
            ("class/drm/card0-DP-1/status", "connected\n"),
            ("class/drm/renderD128/dev", "226:128\n"),
        ]);
        let gpus = read(root.path());
        assert_eq!(gpus.len(), 1);
        assert_eq!((&*gpus[0].name, gpus[0].busy), ("card0 made-up", Raw::new(37)));
        assert_eq!((gpus[0].temperature, gpus[0].fan), (Raw::new(55_000), Raw::ABSENT));
    }
}
