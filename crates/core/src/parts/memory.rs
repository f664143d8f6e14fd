//! Memory: what it is used for, and whether it is short.

use super::groups::of_memory;
use super::section::{Column, Look, NEVER, PartId, Section, Shape, figures, meaning};
use crate::catalogue::{Unit, Value};
use crate::known::{Known, Raw};
use crate::sample::Sample;
use crate::text::Text;

pub fn sections(sample: &Sample) -> Vec<Section> {
    vec![kinds(sample), signs(sample), of_memory(sample)]
}

struct Kind {
    id: &'static str,
    name: &'static str,
    help: &'static str,
}

/// Kinds of memory from what cannot be given back to what is free. Together they are all of it.
const KINDS: [Kind; 6] = [
    Kind {
        id: "programs",
        name: "programs",
        help: "Held by processes for themselves. Only ending them or moving it to swap gives it back.",
    },
    Kind {
        id: "shared",
        name: "shared, tmpfs",
        help: "Shared memory and files in memory. It can only go to swap.",
    },
    Kind { id: "kernel", name: "kernel", help: "Data structures of the kernel that must stay." },
    Kind {
        id: "reclaimable",
        name: "kernel, reclaimable",
        help: "Data structures of the kernel that are given back when memory gets short.",
    },
    Kind {
        id: "cache",
        name: "cache, buffers",
        help: "Contents of files and devices. They are given back when programs need memory: not a shortage.",
    },
    Kind {
        id: "free",
        name: "free",
        help: "Holds nothing at all. It is small on any healthy machine that has run for a while.",
    },
];

fn kinds(sample: &Sample) -> Section {
    let system = &sample.now.system;
    let size = |raw: Raw| raw.float();
    let minus = |a: Known<f64>, b: Known<f64>| a.zip(b).map(|(a, b)| (a - b).max(0.0));
    let shared = size(system.mem_shared);
    let reclaimable = size(system.mem_reclaimable);
    let kernel = minus(size(system.mem_slab), reclaimable);
    // Shared memory and tmpfs are counted as cache, but cannot be given back like it.
    let buffers = size(system.mem_buffers);
    let cache = minus(size(system.mem_cached), shared).zip(buffers).map(|(cache, buffers)| cache + buffers);
    let free = size(system.mem_free);
    let rest = [shared, kernel, reclaimable, cache, free];
    let programs = rest.into_iter().fold(size(system.mem_total), minus);
    let total = size(system.mem_total);
    let sizes = [programs, shared, kernel, reclaimable, cache, free];
    let mut section = Section::new("memory by kind", "kind", 22);
    section.shape = Shape::Strip;
    for (kind, size) in KINDS.iter().zip(sizes) {
        let row = section.add(PartId::Figure(kind.id), &Text::from(kind.name));
        let share = size.zip(total).map(|(size, total)| size / total.max(1.0) * 100.0);
        row.stack = share.value().into_iter().collect();
    }
    let values = sizes.into_iter().map(Value::from);
    let bytes = Column { heading: "size", unit: Unit::Bytes, look: Look::Number, keep: 0 };
    section.values(bytes, values);
    let share = Column { heading: "of all", unit: Unit::Percent, look: Look::Bar, keep: 2 };
    section.column(share, |row| row.stack.first().map_or(Value::Absent, |share| Value::Number(*share)));
    let help = KINDS.iter().map(|kind| Value::Word(kind.help));
    section.values(meaning(), help);
    let available = system.mem_available.value().map(|bytes| crate::units::long_bytes(bytes as f64));
    section.note =
        available.map(|available| format!("{available} available to new programs without swapping"));
    section
}

const MIB: f64 = 1_048_576.0;

fn signs(sample: &Sample) -> Section {
    figures(
        "is it short?",
        sample,
        &[
            ("mem.available", "available", NEVER),
            ("swap.used", "swap used", NEVER),
            ("swap.in", "read back from swap", [0.5 * MIB, 4.0 * MIB, 32.0 * MIB]),
            ("swap.out", "moved out to swap", [MIB, 8.0 * MIB, 64.0 * MIB]),
            ("faults.major", "faults that wait for disk", [200.0, 500.0, 5_000.0]),
            ("oom.kills", "killed: out of memory", [1e-9, 1e-9, 1e-9]),
            ("pressure.memory.some", "pressure: some wait", [5.0, 20.0, 50.0]),
            ("pressure.memory.full", "pressure: all wait", [1.0, 10.0, 30.0]),
            ("mem.dirty", "waits to be written", NEVER),
            ("mem.slab", "kernel data", NEVER),
        ],
    )
}
