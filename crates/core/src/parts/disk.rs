//! Disks: devices with their partitions, and file systems.

use super::section::{Column, Look, NEVER, PartId, Section, figures};
use crate::catalogue::{Unit, Value};
use crate::lane::{DISKS, FULL, SLOW_SERVER, disk_severity, filesystem_severity, remote_severity};
use crate::reading::FilesystemRow;
use crate::sample::Sample;
use crate::sorting::ColdSort as _;

pub fn sections(sample: &Sample) -> Vec<Section> {
    vec![devices(sample), filesystems(sample), remotes(sample), stalls(sample)]
}

/// Mount points of the file systems on a device and its partitions.
pub fn mounts_of<'a>(sample: &'a Sample, device: &'a str) -> impl Iterator<Item = &'a FilesystemRow> {
    let disks = &sample.now.disks;
    sample.now.filesystems.iter().filter(move |filesystem| {
        let name = filesystem.device.strip_prefix("/dev/").unwrap_or("");
        if name.is_empty() {
            return false;
        }
        // A mapped device is mounted by its name, which stands where others have their model.
        let mapped = name.strip_prefix("mapper/");
        let row = disks.iter().find(|disk| match mapped {
            Some(name) => &*disk.model == name,
            None => &*disk.name == name,
        });
        row.is_some_and(|disk| &*disk.name == device || &*disk.whole == device)
    })
}

fn devices(sample: &Sample) -> Section {
    let mut section = Section::new("devices", "device", 14);
    let disks: Vec<_> = sample.parts(|reading| &reading.disks[..]).collect();
    let wholes = disks.iter().filter(|disk| disk.now.whole.is_empty());
    for whole in wholes {
        let parts = disks.iter().filter(|disk| disk.now.whole == whole.now.name);
        for disk in std::iter::once(whole).chain(parts) {
            let row = section.add(PartId::Device(disk.now.name.clone()), &disk.now.name);
            row.under = !disk.now.whole.is_empty();
            if !row.under {
                row.severity = disk_severity(disk, &DISKS);
            }
        }
    }
    let find = |row: &super::PartRow| match &row.cells[0] {
        Value::Text(name) => disks.iter().find(|disk| disk.now.name == *name),
        _ => None,
    };
    section.text("kind", 9, 4, |row| match find(row).and_then(|disk| disk.now.rotational.value()) {
        Some(1) if !row.under => Value::Word("spinning"),
        Some(0) if !row.under => Value::Word("solid"),
        Some(2) if !row.under => Value::Word("virtual"),
        _ => Value::Word(""),
    });
    section.metric(sample, "disk.busy", "busy", Look::Bar, 0);
    section.numbers(
        sample,
        &[
            ("disk.read", "read/s", 0),
            ("disk.write", "write/s", 0),
            ("disk.reads", "read requests/s", 5),
            ("disk.writes", "write requests/s", 5),
            ("disk.discard", "discard/s", 9),
            ("disk.flushes", "flushes/s", 9),
            ("disk.request", "request", 7),
            ("disk.wait", "wait", 1),
            ("disk.queue", "queue", 2),
        ],
    );
    section.text("model", 18, 8, |row| {
        find(row).map_or(Value::Absent, |disk| {
            if row.under { Value::Word("") } else { Value::from(&disk.now.model) }
        })
    });
    section.text("mounted at", 22, 3, |row| {
        let Value::Text(name) = &row.cells[0] else { return Value::Absent };
        let has_partitions = disks.iter().any(|disk| disk.now.whole == *name);
        let mounts: Vec<&str> = mounts_of(sample, name).map(|filesystem| &*filesystem.mount).collect();
        if has_partitions || mounts.is_empty() {
            return Value::Word("");
        }
        Value::Text(mounts.join(" ").into())
    });
    section
}

/// Network file systems at work.
fn remotes(sample: &Sample) -> Section {
    let mut section = Section::new("network file systems", "mounted at", 22);
    for remote in sample.parts(|reading| &reading.remotes[..]) {
        let row = section.add(PartId::Mount(remote.now.mount.clone()), &remote.now.mount);
        row.severity = remote_severity(&remote, SLOW_SERVER);
    }
    section.numbers(
        sample,
        &[
            ("nfs.wait", "wait", 0),
            ("nfs.answer", "answer", 1),
            ("nfs.operations", "operations/s", 2),
            ("nfs.read", "read/s", 0),
            ("nfs.write", "write/s", 0),
            ("nfs.again", "again/s", 1),
            ("nfs.timeouts", "timeouts/s", 3),
        ],
    );
    let devices = sample.now.remotes.iter().map(|row| Value::from(&row.device));
    let column = Column { heading: "server", unit: Unit::Text, look: Look::Text(28), keep: 4 };
    section.values(column, devices);
    section
}

fn filesystems(sample: &Sample) -> Section {
    let mut section = Section::new("file systems", "mounted at", 22);
    let mut rows: Vec<&FilesystemRow> = sample.now.filesystems.iter().collect();
    // Those of this machine first, network file systems behind them.
    rows.cold_sort_by_key(|row| row.remote.value() == Some(1));
    for row in &rows {
        section.add(PartId::Mount(row.mount.clone()), &row.mount).severity = filesystem_severity(row, FULL);
    }
    let mut column = |heading, width, keep, value: &dyn Fn(&FilesystemRow) -> Value| {
        let values = rows.iter().map(|row| value(row));
        section.values(Column { heading, unit: Unit::Text, look: Look::Text(width), keep }, values);
    };
    column("device or server", 28, 5, &|row| Value::from(&row.device));
    column("type", 9, 4, &|row| Value::from(&row.kind));
    section.metric(sample, "fs.usage", "used", Look::Bar, 0);
    section.numbers(sample, &[("fs.used", "used", 2), ("fs.size", "of", 1), ("fs.available", "left", 0)]);
    section.metric(sample, "fs.inodes_usage", "inodes %", Look::Number, 3);
    let words = rows.iter().map(|row| match (row.answers.value(), row.remote.value()) {
        (Some(0), _) => Value::Word("does not answer"),
        (_, Some(1)) => Value::Word("on another machine"),
        _ => Value::Word(""),
    });
    section.values(Column { heading: "", unit: Unit::Text, look: Look::Text(19), keep: 2 }, words);
    section
}

fn stalls(sample: &Sample) -> Section {
    figures(
        "who waits for disks?",
        sample,
        &[
            ("pressure.io.some", "pressure: some wait", [20.0, 50.0, 80.0]),
            ("pressure.io.full", "pressure: all wait", [10.0, 30.0, 60.0]),
            ("tasks.blocked", "tasks blocked", [1.0, 8.0, 64.0]),
            ("cpu.iowait", "cores idle for that", [20.0, 40.0, f64::INFINITY]),
            ("mem.dirty", "waits to be written", NEVER),
        ],
    )
}
