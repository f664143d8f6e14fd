//! What a block device is; Documentation/ABI/stable/sysfs-block.

use super::{number_in, text_in};
use dozor_core::known::Raw;
use dozor_core::reading::DiskRow;
use dozor_core::text::{Text, no_text};
use std::collections::HashMap;
use std::path::Path;

#[derive(Clone)]
struct Block {
    whole: Text,
    model: Text,
    rotational: Raw,
}

/// Devices seen so far; they are looked at once.
#[derive(Default)]
pub struct Blocks(HashMap<Text, Block>);

impl Blocks {
    /// Adds model, kind and the whole device of a partition.
    pub fn complete(&mut self, sys: &Path, row: &mut DiskRow) {
        let block = self.0.entry(row.name.clone()).or_insert_with(|| look(sys, &row.name));
        row.whole = block.whole.clone();
        row.model = block.model.clone();
        row.rotational = block.rotational;
    }
}

fn look(sys: &Path, name: &str) -> Block {
    // A device with a slash in its name has an exclamation mark in sysfs.
    let file = name.replace('/', "!");
    let folder = sys.join("block").join(&file);
    let rotational = if is_virtual(&folder) {
        Raw::new(VIRTUAL)
    } else {
        number_in(&folder.join("queue/rotational")).into()
    };
    if folder.exists() {
        // A mapped device (a logical volume, an encrypted one) has a name instead of a model.
        let model = text_in(&folder.join("device/model")).or_else(|| text_in(&folder.join("dm/name")));
        let model = model.map_or_else(no_text, Text::from);
        return Block { whole: no_text(), model, rotational };
    }
    let class = std::fs::canonicalize(sys.join("class/block").join(&file)).ok();
    let parent = class
        .as_ref()
        .and_then(|path| path.parent()?.file_name()?.to_str().map(|name| name.replace('!', "/")));
    let whole = parent.filter(|parent| sys.join("block").join(parent.replace('/', "!")).exists());
    match whole {
        Some(whole) => {
            Block { rotational: look(sys, &whole).rotational, whole: whole.into(), model: no_text() }
        }
        // A partition that sysfs does not know goes by its name without the number.
        None if sys.join("block").exists() => {
            Block { whole: without_number(name).into(), model: no_text(), rotational }
        }
        None => Block { whole: no_text(), model: no_text(), rotational },
    }
}

/// A disk of a virtual machine, in [`DiskRow::rotational`].
const VIRTUAL: i64 = 2;

/// Whether a host made the device up: by the driver of a hypervisor's devices, or by what the device calls itself.
fn is_virtual(folder: &Path) -> bool {
    const DRIVERS: [&str; 3] = ["virtio_blk", "vbd", "xen-blkfront"];
    const MAKERS: [&str; 5] = ["virtual", "qemu", "vmware", "vbox", "msft"];
    let driver = std::fs::read_link(folder.join("device/driver")).ok();
    let driver = driver.as_ref().and_then(|path| path.file_name()?.to_str());
    let named = ["device/model", "device/vendor"].iter().filter_map(|file| text_in(&folder.join(file)));
    driver.is_some_and(|driver| DRIVERS.contains(&driver))
        || named.map(|name| name.to_lowercase()).any(|name| MAKERS.iter().any(|maker| name.contains(maker)))
}

fn without_number(name: &str) -> &str {
    let bare = name.trim_end_matches(|letter: char| letter.is_ascii_digit());
    bare.strip_suffix('p').filter(|device| device.ends_with(|c: char| c.is_ascii_digit())).unwrap_or(bare)
}

#[cfg(test)]
mod tests {
    use super::super::tests::tree;
    use super::*;

    #[test]
    fn partitions_know_their_device() {
        let root = tree(&[
            ("block/sda/queue/rotational", "1\n"),
            ("block/sda/device/model", "Spinner 7200   \n"),
            ("block/nvme0n1/queue/rotational", "0\n"),
        ]);
        let mut blocks = Blocks::default();
        let mut complete = |name: &str| {
            let mut row = DiskRow { name: name.into(), ..DiskRow::default() };
            blocks.complete(root.path(), &mut row);
            (row.whole.to_string(), row.model.to_string(), row.rotational.value())
        };
        assert_eq!(complete("sda"), (String::new(), "Spinner 7200".to_owned(), Some(1)));
        assert_eq!(complete("sda1").0, "sda");
        assert_eq!(complete("nvme0n1"), (String::new(), String::new(), Some(0)));
        assert_eq!(complete("nvme0n1p12").0, "nvme0n1");
    }

    #[test]
    fn a_disk_that_a_host_made_up_is_called_virtual_whatever_its_driver_claims() {
        let root = tree(&[
            ("block/vda/queue/rotational", "1\n"),
            ("block/vda/device/modalias", "virtio\n"),
            ("block/sdb/queue/rotational", "1\n"),
            ("block/sdb/device/vendor", "QEMU    \n"),
        ]);
        std::os::unix::fs::symlink(
            "../../bus/virtio/drivers/virtio_blk",
            root.path().join("block/vda/device/driver"),
        )
        .expect("a link");
        for name in ["vda", "sdb"] {
            let mut row = DiskRow { name: name.into(), ..DiskRow::default() };
            Blocks::default().complete(root.path(), &mut row);
            assert_eq!(row.rotational.value(), Some(VIRTUAL), "{name}");
        }
    }
}
