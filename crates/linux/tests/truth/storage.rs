//! Truths about what processes write: bytes that a helper itself counted.

use super::helper::{Helper, agrees, wait_for_go};
use super::limits::Group;
use super::{CORE, INSIDE, wanting};
use dozor_core::catalogue::{Value, find, handed_for, process_metric};
use dozor_core::findings::{Adjusted, at_once};
use dozor_core::reading::Reading;
use dozor_core::sample::Sample;
use dozor_core::source::Source as _;
use dozor_core::wanted::Demand;
use std::io::{Seek as _, SeekFrom, Write as _};
use std::os::unix::fs::{FileExt as _, MetadataExt as _, OpenOptionsExt as _};
use std::process::Command;
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

/// Bytes that are handed over, those that are asked for again, and of a piece.
const HANDED: (usize, usize, usize) = (16 << 20, 6 << 20, 64 << 10);

/// Writes and reads without the cache.
pub fn hand_over() {
    let direct = file(libc::O_DIRECT);
    let mut room = vec![7u8; HANDED.2 + 4096];
    let begin = room.as_ptr().align_offset(4096);
    println!("> there");
    wait_for_go();
    let piece = &mut room[begin..begin + HANDED.2];
    for at in (0..HANDED.0).step_by(HANDED.2) {
        direct.write_all_at(piece, at as u64).expect("room");
    }
    for at in (0..HANDED.1).step_by(HANDED.2) {
        direct.read_exact_at(piece, at as u64).expect("it is there");
    }
    println!("> done");
    wait_for_go();
}

/// By what the process itself handed over, and by the kernel's account of a group that it is alone in.
#[test]
fn what_a_process_hands_to_a_device_is_its_own_to_the_byte() {
    if !INSIDE || !rustix::process::geteuid().is_root() {
        return;
    }
    let mut child = Helper::start("hand over");
    child.says();
    child.says();
    let account = "blkio.throttle.io_service_bytes";
    let number = std::fs::metadata(env!("CARGO_TARGET_TMPDIR")).expect("our own").dev();
    let device = format!("{}:{}", libc::major(number), libc::minor(number));
    // The kernel only keeps the account where there is a limit, here one that is never reached; on a whole disk.
    let limits = |group: &Group| {
        ["read", "write"].iter().all(|way| {
            group.put(&format!("blkio.throttle.{way}_bps_device"), &format!("{device} 1000000000000"))
        })
    };
    let group = Group::make("blkio", account).filter(limits);
    // In a tree of version 2 it always keeps it.
    let unified = || Group::below("/sys/fs/cgroup", &format!("dozor-io-{}", std::process::id()), "io.stat");
    let unified = if group.is_none() { unified() } else { None };
    for group in group.iter().chain(&unified) {
        assert!(group.put("cgroup.procs", &child.pid().to_string()));
    }
    let mut source = wanting(&[Demand::Transfers]);
    let before = source.read();
    child.go();
    child.says();
    let sample = Sample::new(Arc::new(source.host()), Some(Arc::new(before)), Arc::new(source.read()));
    let rows = sample.now.transfers.iter().filter(|row| row.pid.value() == Some(child.pid()));
    let rows: Vec<_> = rows.collect();
    let [row] = rows[..] else { panic!("{rows:?}") };
    let at = sample.now.processes.iter().position(|row| row.pid.value() == Some(child.pid())).expect("a row");
    let view = sample.process(at);
    let seconds = sample.seconds().expect("an interval");
    let of =
        |alias: &str| process_metric(alias).expect("a metric").of(&view).number().expect("known") * seconds;
    // The file's own blocks are looked up and noted as well.
    let slack = 256.0 * 1024.0;
    agrees("device_read of direct reads, bytes", HANDED.1 as f64, of("device_read"), slack);
    agrees("device_write of direct writes, bytes", HANDED.0 as f64, of("device_write"), slack);
    agrees(
        "device_requests of direct calls",
        ((HANDED.0 + HANDED.1) / HANDED.2) as f64,
        of("device_requests"),
        60.0,
    );
    let name = std::fs::read_to_string("/proc/diskstats").expect("the kernel's list");
    assert!(name.lines().any(|line| line.split_whitespace().nth(2) == Some(&*row.device)), "{}", row.device);
    if let Some(group) = &group {
        let number = row.number.value().expect("a number");
        assert_eq!(format!("{}:{}", number >> 20, number & 0xf_ffff), device);
        for (kind, ours) in [("Read", row.read_bytes), ("Write", row.write_bytes)] {
            let truth = group.number(account, &format!("{device} {kind} "));
            let ours = ours.value().expect("counted") as f64;
            agrees(&format!("{kind} of a control group by its block account, bytes"), truth, ours, 0.0);
        }
    }
    if let Some(group) = &unified {
        for (kind, ours) in [("rbytes", row.read_bytes), ("wbytes", row.write_bytes)] {
            let ours = ours.value().expect("counted") as f64;
            agrees(&format!("{kind} of a control group's io.stat"), group.io(kind), ours, 0.0);
        }
    }
    child.go();
}

/// What a group leaves in memory a thread of the kernel writes out later, for that group; by the kernel's account of the group.
#[test]
fn what_the_kernel_writes_out_later_is_of_the_group_that_left_it_in_memory() {
    if !INSIDE || !rustix::process::geteuid().is_root() {
        return;
    }
    let name = format!("dozor-left-{}", std::process::id());
    let group = Group::below("/sys/fs/cgroup", &name, "io.stat");
    // Whose memory it writes out the kernel knows only where both are counted in one tree.
    let Some(mut group) = group.filter(|group| group.has("memory.max")) else { return };
    let folder = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).expect("a folder");
    let path = folder.path().join("left");
    let mut source = wanting(&[Demand::Transfers]);
    let before = source.read();
    group.run(&format!("dd if=/dev/zero of={} bs=64k count=256 2>/dev/null; sleep 20", path.display()));
    while std::fs::metadata(&path).map_or(0, |file| file.len()) < 16 << 20 {
        std::thread::sleep(Duration::from_millis(20));
    }
    rustix::fs::sync();
    let name = format!("/{name}");
    let begin = Instant::now();
    let (sum, now) = loop {
        let now = source.read();
        let rows = now.transfers.iter().filter(|row| *row.group == name);
        let sum: i64 = rows.filter_map(|row| row.write_bytes.value()).sum();
        if sum >= 16 << 20 || begin.elapsed() > Duration::from_secs(10) {
            break (sum, now);
        }
        std::thread::sleep(Duration::from_millis(20));
    };
    agrees("written out by the kernel for a control group, bytes", group.io("wbytes"), sum as f64, 64e3);
    let own = now.transfers.iter().find(|row| *row.group == name).expect("a row").device.clone();
    let sample = Sample::new(Arc::new(source.host()), Some(Arc::new(before)), Arc::new(now));
    let (of, part) = handed_for(&sample, &own, false).expect("somebody's");
    assert_eq!(**of, *name);
    assert!(part > 0.5, "{part}");
}

/// A device whose content is a file: what is asked of it a worker of the kernel reads of the file.
struct Loop(String);

impl Loop {
    fn over(path: &std::path::Path) -> Option<Loop> {
        let made = Command::new("losetup").args(["--find", "--show"]).arg(path).output().ok()?;
        let name = String::from_utf8_lossy(&made.stdout).trim().to_owned();
        made.status.success().then_some(Loop(name))
    }
}

impl Drop for Loop {
    fn drop(&mut self) {
        let _ = Command::new("losetup").args(["--detach", &self.0]).status();
    }
}

/// A worker of the kernel asks for what a group needs, with the group noted, as it is where it writes out what a group left in memory.
#[test]
fn what_a_worker_of_the_kernel_asks_for_is_of_the_group_that_needs_it() {
    if !INSIDE || !rustix::process::geteuid().is_root() {
        return;
    }
    let folder = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).expect("a folder");
    let path = folder.path().join("content");
    let content = std::fs::File::create(&path).expect("room");
    content.write_all_at(&vec![7; HANDED.0], 0).and_then(|()| content.sync_all()).expect("a disk");
    // Nothing of it is in memory.
    rustix::fs::fadvise(&content, 0, None, rustix::fs::Advice::DontNeed).expect("a hint");
    let name = format!("dozor-served-{}", std::process::id());
    let trees = [("/blkio", "blkio.throttle.io_service_bytes"), ("", "io.stat")];
    let group =
        trees.iter().find_map(|(tree, file)| Group::below(&format!("/sys/fs/cgroup{tree}"), &name, file));
    let Some((mut group, device)) = group.zip(Loop::over(&path)) else { return };
    let mut source = wanting(&[Demand::Transfers]);
    let before = source.read();
    assert_eq!(before.system.transfers_noted.value(), Some(1));
    let name = format!("/{name}");
    group.run(&format!("dd if={} of=/dev/null bs=64k iflag=direct 2>/dev/null; sleep 20", device.0));
    let begin = Instant::now();
    let (sum, reading) = loop {
        let now = source.read();
        let rows = now.transfers.iter().filter(|row| *row.group == name && !row.device.starts_with("loop"));
        let sum: i64 = rows.filter_map(|row| row.read_bytes.value()).sum();
        if sum >= HANDED.0 as i64 || begin.elapsed() > Duration::from_secs(10) {
            break (sum, now);
        }
        std::thread::sleep(Duration::from_millis(20));
    };
    agrees("read by workers of the kernel for a control group, bytes", HANDED.0 as f64, sum as f64, 64e3);
    let sample = Sample::new(Arc::new(source.host()), Some(Arc::new(before)), Arc::new(reading));
    let metric = process_metric("device_for").expect("a metric");
    let workers = (0..sample.now.processes.len()).map(|at| sample.process(at));
    let worker = workers.into_iter().find(|view| metric.of(view) == Value::Text((&*name).into()));
    assert_eq!(worker.expect("one that did it").now.kernel.value(), Some(1), "a thread of the kernel");
    // What is done for groups that are gone is forgotten some time after.
    drop(device);
    drop(group);
    let mut is_told = || source.read().transfers.iter().any(|row| *row.group == name);
    assert!(!(0..80).all(|_| is_told()), "it stays for ever");
    std::fs::write(&path, vec![8; HANDED.2]).and_then(|()| content.sync_all()).expect("a disk");
    assert!(!is_told(), "it is not new when anything else is counted");
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

/// A pipe: its end to read from and that to write to.
fn pipe() -> [i32; 2] {
    let mut ends = [0; 2];
    // SAFETY: the array has room for two descriptors.
    assert_eq!(unsafe { libc::pipe(ends.as_mut_ptr()) }, 0);
    ends
}

/// Moves a file in memory through a pipe into a file on the disk, without a write call, and brings it to the disk.
pub fn splice() {
    use std::os::fd::AsRawFd as _;
    const PIECE: usize = 64 << 10;
    // SAFETY: the name is a C string; the descriptor is new and ours alone.
    let mut memory: std::fs::File = unsafe {
        std::os::fd::FromRawFd::from_raw_fd(libc::memfd_create(c"plates".as_ptr(), libc::MFD_CLOEXEC))
    };
    memory.write_all(&vec![7; FILE_BYTES]).expect("memory");
    memory.rewind().expect("a place");
    let to = file(0);
    let [from, into] = pipe();
    println!("> there");
    wait_for_go();
    let mut moved = 0;
    // SAFETY: all descriptors are open, and no places are given.
    let carry = |from: i32, to: i32, most: usize| unsafe {
        libc::splice(from, std::ptr::null_mut(), to, std::ptr::null_mut(), most, 0)
    };
    while moved < FILE_BYTES {
        let got = carry(memory.as_raw_fd(), into, PIECE);
        assert!(got > 0, "{}", std::io::Error::last_os_error());
        let mut left = got as usize;
        while left > 0 {
            let put = carry(from, to.as_raw_fd(), left);
            assert!(put > 0, "{}", std::io::Error::last_os_error());
            left -= put as usize;
        }
        moved += got as usize;
    }
    to.sync_data().expect("a disk");
    println!("> {moved}");
    wait_for_go();
}

/// Brings blocks to the disk one by one, and writes nine times as much into a pipe and a file in memory.
pub fn write_into_pipes() {
    let mut whole = file(0);
    whole.write_all(&vec![1; FILE_BYTES]).expect("room");
    whole.sync_all().expect("a disk");
    let [from, into] = pipe();
    // SAFETY: the descriptors are new and ours alone.
    let [mut from, mut into]: [std::fs::File; 2] =
        [from, into].map(|end| unsafe { std::os::fd::FromRawFd::from_raw_fd(end) });
    let path = format!("/dev/shm/dozor-truth-{}", std::process::id());
    let memory = std::fs::File::create(&path).expect("memory");
    std::fs::remove_file(&path).expect("its name is ours");
    println!("> there");
    wait_for_go();
    let (mut written, block) = (0, vec![3; BLOCK]);
    let mut back = vec![0; BLOCK];
    while written < FILE_BYTES {
        let place = written * 37 % FILE_BYTES;
        whole.write_all_at(&block, place as u64).expect("room");
        whole.sync_data().expect("a disk");
        for _ in 0..4 {
            into.write_all(&block).expect("a pipe");
            std::io::Read::read_exact(&mut from, &mut back).expect("what was written");
            memory.write_all_at(&block, 0).expect("memory");
        }
        into.write_all(&block).expect("a pipe");
        std::io::Read::read_exact(&mut from, &mut back).expect("what was written");
        written += BLOCK;
    }
    println!("> {written}");
    wait_for_go();
}

/// Runs a helper between two readings; gives the sample, its number and what it says.
fn run(name: &str) -> (Sample, i64, f64) {
    run_wanting(name, &[])
}

fn run_wanting(name: &str, parts: &[Demand]) -> (Sample, i64, f64) {
    let mut child = Helper::start(name);
    child.says();
    child.says();
    let mut source = wanting(parts);
    let before: Reading = source.read();
    child.go();
    // A process is asked how it writes after it has written.
    while source
        .read()
        .processes
        .iter()
        .all(|row| row.pid.value() != Some(child.pid()) || row.write_bytes.value() == Some(0))
    {
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
    println!(
        "truth\tdirtied of the same loop, as the kernel counts\t{truth}\t{}",
        of(&loop_, pid, "dirtied")
    );
    let (direct, writer, bytes) = run("write directly");
    agrees("write past the cache, bytes", bytes, of(&direct, writer, "write"), bytes * 0.01);
    // Where folios are large, both differ much and a sentence says so.
    let (dirtied, written) = (of(&loop_, pid, "dirtied"), of(&loop_, pid, "write"));
    let seconds = loop_.seconds().expect("an interval");
    // A saturated disk explains it, and would stand in its place.
    let mut adjusted = Adjusted::default();
    adjusted.set("disk-saturated", "off", "true").expect("a rule");
    let said =
        at_once(&loop_, &adjusted).into_iter().any(|(.., text)| text.contains("rewrites the same pages"));
    assert_eq!(said, dirtied >= 8.0 * written && dirtied / seconds >= 64e6, "{dirtied} {written}");
}

/// Whether the value is only the most that it may be.
fn is_most(sample: &Sample, pid: i64) -> bool {
    let at = sample.now.processes.iter().position(|row| row.pid.value() == Some(pid)).expect("a row");
    let write = process_metric("write").expect("a metric");
    write.most.is_some_and(|is_most| is_most(&sample.process(at)))
}

/// No write call shows what is spliced into a file.
#[test]
fn what_is_spliced_into_a_file_is_written() {
    let _core = CORE.lock();
    for parts in [&[][..], &[Demand::Transfers]] {
        let (sample, pid, truth) = run_wanting("splice", parts);
        let ours = of(&sample, pid, "write");
        let how = if INSIDE && !parts.is_empty() { ", requests counted" } else { "" };
        agrees(&format!("write of a file that is spliced into{how}, bytes"), truth, ours, truth * 0.02);
        assert!(is_most(&sample, pid) || !how.is_empty());
    }
}

/// Write calls on pipes and files in memory reach no disk; that they are not in it is known where requests are counted.
#[test]
fn what_goes_into_pipes_and_memory_is_not_written() {
    let _core = CORE.lock();
    // What others left in memory would be written out meanwhile.
    rustix::fs::sync();
    let (sample, pid, truth) = run_wanting("write into pipes", &[Demand::Transfers]);
    let (ours, dirtied) = (of(&sample, pid, "write"), of(&sample, pid, "dirtied"));
    let how = if INSIDE { "requests counted" } else { "at most" };
    println!("truth\twrite beside nine times as much into pipes and memory ({how}), bytes\t{truth}\t{ours}");
    // What the file system writes beside it, and what the machine's counters are behind; others may write meanwhile.
    let took = sample.storage_took().expect("disks") * sample.seconds().expect("an interval");
    let most = (truth * 1.25).max(took) + f64::from(3 << 20);
    assert!(ours >= truth * 0.98, "{truth} {ours} {took}");
    if INSIDE || dirtied > 20.0 * truth {
        assert!(ours <= most.max(if INSIDE { 0.0 } else { 2.0 * took }), "{truth} {ours} {took}");
        assert!(ours <= truth * 1.2 || is_most(&sample, pid));
    }
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

/// Maps a file that exists and touches all of it, then sleeps.
pub fn map_and_sleep() {
    use std::os::fd::AsRawFd as _;
    let path = std::env::var("DOZOR_TEST_FILE").expect("a file");
    let file = std::fs::File::open(path).expect("a file");
    // SAFETY: a mapping of our own open file, which is that long until somebody cuts it off; then it is not touched.
    unsafe {
        let at = libc::mmap(
            std::ptr::null_mut(),
            FILE_BYTES,
            libc::PROT_READ,
            libc::MAP_SHARED | libc::MAP_POPULATE,
            file.as_raw_fd(),
            0,
        );
        assert_ne!(at, libc::MAP_FAILED);
        // The harness has threads of its own; the process to look at has one.
        let child = libc::fork();
        if child == 0 {
            libc::prctl(libc::PR_SET_PDEATHSIG, libc::SIGKILL);
            let mut sum = 0u8;
            for page in 0..FILE_BYTES / 4096 {
                sum = sum.wrapping_add(at.cast::<u8>().add(page * 4096).read_volatile());
            }
            std::hint::black_box(sum);
            loop {
                libc::pause();
            }
        }
        println!("> {child}");
        wait_for_go();
        libc::kill(child, libc::SIGKILL);
        libc::waitpid(child, std::ptr::null_mut(), 0);
    }
}

/// What was taken away from a process that sleeps is seen within five seconds, whatever the interval.
#[test]
fn memory_that_a_sleeping_process_loses_is_seen_within_five_seconds() {
    let path =
        std::path::Path::new(env!("CARGO_TARGET_TMPDIR")).join(format!("mapped-{}", std::process::id()));
    std::fs::write(&path, vec![1; FILE_BYTES]).expect("room");
    let mut command = Command::new(std::env::current_exe().expect("our own path"));
    command.env("DOZOR_TEST_FILE", &path);
    let mut child = Helper::spawn(command, "map and sleep");
    child.says();
    let pid: i64 = child.says().parse().expect("a number");
    let mut source = wanting(&[]);
    let resident = |source: &mut dozor_linux::LiveSource| {
        let reading = source.read();
        let row = reading.processes.iter().find(|row| row.pid.value() == Some(pid)).expect("a row");
        let (rss, shared) = (row.rss_bytes.value().expect("rss"), row.shared_bytes.value().expect("shared"));
        assert!(rss >= shared, "{rss} {shared}");
        rss
    };
    // By then it is no longer new, and idle.
    for _ in 0..6 {
        std::thread::sleep(Duration::from_millis(100));
        resident(&mut source);
    }
    let before = resident(&mut source);
    assert!(before >= FILE_BYTES as i64, "{before}");
    let file = std::fs::OpenOptions::new().write(true).open(&path).expect("our file");
    file.set_len(0).expect("it is cut off");
    let begin = Instant::now();
    let mut seen = before;
    while seen > before - FILE_BYTES as i64 + (1 << 20) {
        assert!(begin.elapsed() < Duration::from_secs(7), "{before} before, still {seen}");
        std::thread::sleep(Duration::from_millis(700));
        seen = resident(&mut source);
    }
    println!(
        "truth\tseconds until lost memory of a sleeping process is seen (at most 5)\t5\t{}",
        begin.elapsed().as_secs_f64()
    );
    let _ = std::fs::remove_file(&path);
}

/// A thread that waits two thousand times.
pub fn wait_often() {
    println!("> there");
    wait_for_go();
    let (done, is_done) = std::sync::mpsc::channel();
    std::thread::scope(|scope| {
        scope.spawn(move || {
            for _ in 0..2_000 {
                std::thread::sleep(Duration::from_micros(50));
            }
            done.send(()).expect("somebody waits");
            std::thread::park_timeout(Duration::from_secs(60));
        });
        is_done.recv().expect("it waited as often");
        // It is on its way to sleep.
        std::thread::sleep(Duration::from_millis(50));
        // SAFETY: rusage is a plain C struct of numbers, for which zeros are valid, and the pointer is good.
        let usage = unsafe {
            let mut usage: libc::rusage = std::mem::zeroed();
            libc::getrusage(libc::RUSAGE_SELF, &raw mut usage);
            usage
        };
        println!("> {}", usage.ru_nvcsw);
        wait_for_go();
    });
}

#[test]
fn context_switches_are_those_of_all_threads_or_unknown() {
    let mut child = Helper::start("wait often");
    child.says();
    child.says();
    let mut source = wanting(&[Demand::Switches]);
    let before = source.read();
    child.go();
    let truth: f64 = child.says().parse().expect("a number");
    let now = source.read();
    let unasked = wanting(&[]).read();
    let sample = Sample::new(Arc::new(source.host()), Some(Arc::new(before)), Arc::new(now));
    let first = sample.before.as_ref().expect("a reading").processes.iter();
    let first = first.clone().find(|row| row.pid.value() == Some(child.pid())).expect("a row");
    let ours = of(&sample, child.pid(), "switches_wait") + first.switches_wait.value().expect("known") as f64;
    agrees("switches_wait of a process with threads", truth, ours, 5.0);
    let row = unasked.processes.iter().find(|row| row.pid.value() == Some(child.pid())).expect("a row");
    let is_known = row.switches_wait.value().is_some();
    assert_eq!(
        is_known,
        crate::source().inside() == Some(Ok(())),
        "of files not asked for, so not known; the kernel has them all the time"
    );
}
