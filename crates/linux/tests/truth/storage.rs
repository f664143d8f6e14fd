//! Truths about what processes write: bytes that a helper itself counted.

use super::helper::{Helper, agrees, wait_for_go};
use super::{CORE, wanting};
use dozor_core::aside::aside;
use dozor_core::catalogue::{find, process_metric};
use dozor_core::lane::sentences;
use dozor_core::rank::Everybody;
use dozor_core::reading::Reading;
use dozor_core::sample::Sample;
use dozor_core::source::Source as _;
use std::io::{Seek as _, SeekFrom, Write as _};
use std::os::unix::fs::{FileExt as _, OpenOptionsExt as _};
use std::sync::Arc;
use std::time::{Duration, Instant};

const FILE_BYTES: usize = 16 << 20;
const BLOCK: usize = 8 << 10;

/// A file of this process in a folder on a disk, without a name.
fn file(flags: i32) -> std::fs::File {
    let folder = std::path::Path::new(env!("CARGO_TARGET_TMPDIR"));
    let path = folder.join(format!("storage-{}", std::process::id()));
    let file = std::fs::OpenOptions::new()
        .read(true)
        .write(true)
        .create(true)
        .truncate(true)
        .custom_flags(flags)
        .open(&path)
        .expect("room for a file");
    std::fs::remove_file(&path).expect("its name is ours");
    file
}

/// Writes blocks all over a file and brings each to the disk, for a second and a half; says how many bytes it wrote.
pub fn rewrite(mapped: bool) {
    let mut whole = file(0);
    whole.write_all(&vec![1; FILE_BYTES]).expect("room");
    whole.sync_all().expect("a disk");
    let map = if mapped {
        use std::os::fd::AsRawFd as _;
        // SAFETY: a shared mapping of our own open file, which is that long.
        unsafe {
            libc::mmap(
                std::ptr::null_mut(),
                FILE_BYTES,
                libc::PROT_READ | libc::PROT_WRITE,
                libc::MAP_SHARED,
                whole.as_raw_fd(),
                0,
            )
        }
    } else {
        std::ptr::null_mut()
    };
    println!("> there");
    wait_for_go();
    let (begin, mut written, mut place) = (Instant::now(), 0usize, 0usize);
    while begin.elapsed() < Duration::from_millis(1500) {
        place = (place + 37 * BLOCK) % FILE_BYTES;
        if mapped {
            // SAFETY: the place is within the mapping, and so is the block that is synced.
            unsafe {
                let at = map.cast::<u8>().add(place);
                at.write_bytes(written as u8, BLOCK);
                libc::msync(at.cast(), BLOCK, libc::MS_SYNC);
            }
        } else {
            whole.write_all_at(&[written as u8; BLOCK], place as u64).expect("room");
            whole.sync_data().expect("a disk");
        }
        written += BLOCK;
    }
    println!("> {written}");
}

/// Writes past the cache.
pub fn write_directly() {
    let mut whole = file(libc::O_DIRECT);
    let layout = std::alloc::Layout::from_size_align(1 << 20, 4096).expect("a layout");
    // SAFETY: the layout is not empty, and zeros are bytes; it lives until the process ends.
    let block = unsafe { std::slice::from_raw_parts(std::alloc::alloc_zeroed(layout), layout.size()) };
    println!("> there");
    wait_for_go();
    for _ in 0..64 {
        whole.write_all(block).expect("room");
        whole.seek(SeekFrom::Start(0)).expect("a place");
    }
    println!("> {}", 64 << 20);
}

/// Runs a helper between two readings; gives the sample, its number and what it says.
fn run(name: &str) -> (Sample, i64, f64) {
    let mut child = Helper::start(name);
    child.says();
    child.says();
    let mut source = wanting(&[]);
    let before: Reading = source.read();
    child.go();
    // A process is asked how it writes after it has written.
    while source.read().processes.iter().all(|row| {
        row.pid.value() != Some(child.pid()) || row.write_bytes.value() == Some(0)
    }) {
        std::thread::sleep(Duration::from_millis(20));
    }
    let truth: f64 = child.says().parse().expect("bytes");
    let now = source.read();
    let sample = Sample::new(Arc::new(source.host()), Some(Arc::new(before)), Arc::new(now));
    (sample, child.pid(), truth)
}

fn of(sample: &Sample, pid: i64, alias: &str) -> f64 {
    let at = sample.now.processes.iter().position(|row| row.pid.value() == Some(pid)).expect("a row");
    let value = process_metric(alias).expect("a metric").of(&sample.process(at));
    value.number().expect("it is known") * sample.seconds().expect("an interval")
}

/// A database that commits: 8 KiB here and there, each brought to the disk.
#[test]
fn who_rewrites_the_same_pages_wrote_what_it_handed_over() {
    let _core = CORE.lock();
    let (loop_, pid, truth) = run("rewrite");
    agrees("write of a loop of pwrite and fdatasync, bytes", truth, of(&loop_, pid, "write"), truth * 0.01);
    println!("truth\tdirtied of the same loop, as the kernel counts\t{truth}\t{}", of(&loop_, pid, "dirtied"));
    let (direct, writer, bytes) = run("write directly");
    agrees("write past the cache, bytes", bytes, of(&direct, writer, "write"), bytes * 0.01);
    // Where folios are large, both differ much and a sentence says so.
    let (dirtied, written) = (of(&loop_, pid, "dirtied"), of(&loop_, pid, "write"));
    let seconds = loop_.seconds().expect("an interval");
    let gone = aside(&loop_);
    let everybody = Everybody::new(&loop_, &gone);
    let said = sentences(&everybody).into_iter().any(|(.., text)| text.contains("rewrites the same pages"));
    assert_eq!(said, dirtied >= 8.0 * written && dirtied / seconds >= 64e6, "{dirtied} {written}");
}

/// The same through a shared mapping, which no write call shows: at most what the devices took.
#[test]
fn who_writes_through_a_mapping_wrote_no_more_than_the_devices_took() {
    let _core = CORE.lock();
    let (sample, pid, truth) = run("rewrite a mapping");
    let ours = of(&sample, pid, "write");
    println!("truth\twrite through a shared mapping, bytes (at most what the devices took)\t{truth}\t{ours}");
    assert!(find("disk.write").is_some());
    let row = sample.now.processes.iter().find(|row| row.pid.value() == Some(pid)).expect("a row");
    let disks = sample.parts(|reading| &reading.disks[..]).filter(|disk| disk.now.whole.is_empty());
    let took: f64 = disks.filter_map(|disk| disk.rate(|d| d.write_bytes).value()).sum();
    let took = took * sample.seconds().expect("an interval");
    let dirtied = of(&sample, pid, "dirtied");
    if dirtied > took {
        assert_eq!(row.writes_otherwise.value(), Some(1));
        assert!(ours >= truth * 0.9 && ours <= took + f64::from(32 << 20), "{truth} {ours} {took}");
    }
}
