//! Made-up machines: trees of files that stand in for hardware that is not there.
//!
//! `cargo run -p dozor-linux --example stand_in -- laptop FOLDER` writes one; `dozor snapshot --proc-root FOLDER/proc
//! --sys-root FOLDER/sys` reads it. Values are plausible, not measured.

use std::fmt::Write as _;
use std::io;
use std::path::Path;

/// Machines that can be written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Machine {
    /// Four cores with a sensor each, a battery, a fan, wireless.
    Laptop,
    /// 128 cores in two packages with one sensor each; all network interrupts on one core.
    Server,
    /// A graphics processor and a program that uses it.
    Workstation,
    /// A kernel without stall pressure, exact CPU times and delay accounting.
    OldKernel,
    /// Garbage in every file.
    Hostile,
}

impl Machine {
    /// All machines with their names.
    pub const ALL: [(&'static str, Machine); 5] = [
        ("laptop", Machine::Laptop),
        ("server", Machine::Server),
        ("workstation", Machine::Workstation),
        ("old-kernel", Machine::OldKernel),
        ("hostile", Machine::Hostile),
    ];

    /// Writes the machine's files below a folder.
    pub fn write(self, root: &Path) -> io::Result<()> {
        let tree = Tree(root);
        let cores = match self {
            Machine::Server => 128,
            _ => 4,
        };
        common(&tree, cores)?;
        match self {
            Machine::Laptop => laptop(&tree),
            Machine::Server => server(&tree, cores),
            Machine::Workstation => workstation(&tree),
            Machine::OldKernel => Ok(()),
            Machine::Hostile => hostile(root),
        }?;
        if matches!(self, Machine::Laptop | Machine::Server | Machine::Workstation) {
            for of in ["cpu", "memory", "io"] {
                tree.put(
                    &format!("proc/pressure/{of}"),
                    "some avg10=1.00 total=1000\nfull avg10=0.00 total=10\n",
                )?;
            }
            tree.put("proc/42/schedstat", "1303590 98364 2\n")?;
            tree.put("proc/sys/kernel/task_delayacct", "1\n")?;
        } else if self == Machine::OldKernel {
            tree.put("proc/sys/kernel/task_delayacct", "0\n")?;
        }
        Ok(())
    }
}

struct Tree<'a>(&'a Path);

impl Tree<'_> {
    fn put(&self, path: &str, text: &str) -> io::Result<()> {
        let path = self.0.join(path);
        if let Some(folder) = path.parent() {
            std::fs::create_dir_all(folder)?;
        }
        std::fs::write(path, text)
    }
}

/// What every machine has.
fn common(tree: &Tree<'_>, cores: usize) -> io::Result<()> {
    let mut stat = format!("cpu  {} 0 {} {} 40 0 7 0 0 0\n", 500 * cores, 200 * cores, 9_000 * cores);
    for core in 0..cores {
        let _ = writeln!(stat, "cpu{core} 500 0 200 9000 10 0 2 0 0 0");
    }
    stat.push_str("intr 92471 0 0\nctxt 171709\nprocesses 2090\nprocs_running 2\nprocs_blocked 0\n");
    tree.put("proc/stat", &stat)?;
    tree.put("proc/loadavg", "0.53 0.19 0.07 2/79 1960\n")?;
    tree.put("proc/meminfo", "MemTotal: 16000000 kB\nMemFree: 1000000 kB\nMemAvailable: 9000000 kB\nSwapTotal: 0 kB\nSwapFree: 0 kB\n")?;
    tree.put("proc/vmstat", "pswpin 0\npswpout 0\npgmajfault 12\noom_kill 0\n")?;
    tree.put("proc/diskstats", " 259 0 nvme0n1 100 0 8000 50 200 0 16000 90 0 120 140\n 259 1 nvme0n1p1 90 0 7000 40 200 0 16000 90 0 110 130\n")?;
    tree.put("sys/block/nvme0n1/queue/rotational", "0\n")?;
    tree.put("sys/block/nvme0n1/device/model", "Made-up SSD\n")?;
    let mut interrupts = (0..cores).fold(" ".repeat(8), |line, core| line + &format!("CPU{core} "));
    interrupts.push_str("\n LOC:");
    (0..cores).for_each(|_| interrupts.push_str(" 7000"));
    interrupts.push_str(" Local timer interrupts\n");
    tree.put("proc/interrupts", &interrupts)?;
    tree.put("proc/42/stat", "42 (skycam-ingest) S 1 42 42 0 -1 4194304 100 0 1 0 310 70 0 0 20 0 1 0 9794 31334400 394 0 0 0 0 0 0 0 0 0 0 0 0 0 17 1 0 0 4\n")?;
    tree.put(
        "proc/42/io",
        "rchar: 7272\nwchar: 296\nsyscr: 12\nsyscw: 1\nread_bytes: 4096\nwrite_bytes: 8192\n",
    )?;
    tree.put("proc/42/status", "Name:\tskycam-ingest\nUid:\t0\t0\t0\t0\nRssFile:\t 100 kB\nRssShmem:\t 0 kB\nVmSwap:\t 0 kB\nvoluntary_ctxt_switches:\t5\nnonvoluntary_ctxt_switches:\t7\n")?;
    tree.put("proc/42/cmdline", "/opt/lynx/bin/skycam-ingest\0--camera\x002\0")
}

/// A core's place, frequency and throttling.
fn core(tree: &Tree<'_>, number: usize, package: usize, core: usize) -> io::Result<()> {
    let folder = format!("sys/devices/system/cpu/cpu{number}");
    tree.put(&format!("{folder}/topology/physical_package_id"), &format!("{package}\n"))?;
    tree.put(&format!("{folder}/topology/core_id"), &format!("{core}\n"))?;
    tree.put(&format!("{folder}/cpufreq/scaling_cur_freq"), &format!("{}\n", 800_000 + number * 1000))?;
    tree.put(&format!("{folder}/cpufreq/cpuinfo_max_freq"), "4200000\n")?;
    tree.put(&format!("{folder}/thermal_throttle/core_throttle_count"), "3\n")?;
    tree.put(&format!("{folder}/thermal_throttle/package_throttle_count"), "4\n")
}

fn laptop(tree: &Tree<'_>) -> io::Result<()> {
    let chip = "sys/class/hwmon/hwmon0";
    tree.put(&format!("{chip}/name"), "coretemp\n")?;
    tree.put(&format!("{chip}/temp1_label"), "Package id 0\n")?;
    tree.put(&format!("{chip}/temp1_input"), "61000\n")?;
    tree.put(&format!("{chip}/temp1_crit"), "100000\n")?;
    for number in 0..4 {
        core(tree, number, 0, number)?;
        tree.put(&format!("{chip}/temp{}_label", number + 2), &format!("Core {number}\n"))?;
        tree.put(&format!("{chip}/temp{}_input", number + 2), &format!("{}\n", 55_000 + number * 1000))?;
    }
    tree.put("sys/class/hwmon/hwmon1/name", "fans\n")?;
    tree.put("sys/class/hwmon/hwmon1/fan1_input", "2900\n")?;
    for (file, text) in [
        ("type", "Battery"),
        ("status", "Discharging"),
        ("energy_now", "30000000"),
        ("energy_full", "40000000"),
        ("power_now", "10000000"),
    ] {
        tree.put(&format!("sys/class/power_supply/BAT0/{file}"), &format!("{text}\n"))?;
    }
    tree.put("proc/net/dev", "a\nb\n wlan0: 1000 10 0 0 0 0 0 0 500 5 0 0 0 0 0 0\n")?;
    tree.put("proc/net/wireless", "a\nb\n wlan0: 0000   54.  -56.  -256        0\n")
}

fn server(tree: &Tree<'_>, cores: usize) -> io::Result<()> {
    for package in 0..2 {
        // The chip's device carries the number of the package in its name.
        let device = format!("sys/devices/platform/coretemp.{package}/hwmon/hwmon{package}");
        tree.put(&format!("{device}/name"), "coretemp\n")?;
        tree.put(&format!("{device}/temp1_label"), &format!("Package id {package}\n"))?;
        tree.put(&format!("{device}/temp1_input"), &format!("{}\n", 60_000 + package * 9000))?;
        tree.put(&format!("{device}/temp1_crit"), "95000\n")?;
        let class = tree.0.join("sys/class/hwmon");
        std::fs::create_dir_all(&class)?;
        std::os::unix::fs::symlink(tree.0.join(&device), class.join(format!("hwmon{package}")))?;
        std::os::unix::fs::symlink("../..", tree.0.join(&device).join("device"))?;
    }
    for number in 0..cores {
        core(tree, number, number * 2 / cores, number % (cores / 2))?;
    }
    let mut interrupts = (0..cores).fold(" ".repeat(8), |line, core| line + &format!("CPU{core} "));
    interrupts.push_str("\n  77:");
    (0..cores).for_each(|core| interrupts.push_str(if core == 3 { " 900000" } else { " 0" }));
    interrupts.push_str(" PCI-MSI 7-edge enp3s0\n");
    tree.put("proc/interrupts", &interrupts)?;
    tree.put("proc/net/dev", "a\nb\n enp3s0: 1000 10 0 0 0 0 0 0 500 5 0 0 0 0 0 0\n")?;
    network_file_system(tree)?;
    limited_group(tree)?;
    tree.put("sys/class/net/enp3s0/speed", "10000\n")
}

/// A file system of another machine that was used a little.
fn network_file_system(tree: &Tree<'_>) -> io::Result<()> {
    tree.put(
        "proc/self/mountstats",
        "device vault.lynx.example:/nights mounted on /mnt/vault with fstype nfs4 statvers=1.1\n\
         \tage:\t4711\n\tbytes:\t10 20 0 0 1000000 2000000 3 4\n\tper-op statistics\n\
         \t        READ: 100 104 0 17600 1310720 5 2200 2400 0\n\t       WRITE: 40 40 0 9000 900 1 300 350 0\n",
    )
}

/// A control group that may use half a core, eight gigabytes and 64 tasks, with the one program of the machine in it.
fn limited_group(tree: &Tree<'_>) -> io::Result<()> {
    let mount = tree.0.join("sys/fs/cgroup");
    let line = format!("30 1 0:26 / {} rw - cgroup2 cgroup rw\n", mount.display());
    tree.put("proc/self/mountinfo", &line)?;
    tree.put("proc/42/cgroup", "0::/system.slice/skycam-ingest.service\n")?;
    for (file, text) in [
        ("cpu.max", "50000 100000"),
        ("cpu.stat", "usage_usec 1500000\nnr_periods 100\nnr_throttled 80\nthrottled_usec 250000"),
        ("memory.max", "8589934592"),
        ("memory.current", "6442450944"),
        ("memory.events", "low 0\nhigh 0\nmax 2\noom 0\noom_kill 0"),
        ("pids.max", "64"),
        ("pids.current", "60"),
    ] {
        let path = format!("sys/fs/cgroup/system.slice/skycam-ingest.service/{file}");
        tree.put(&path, &format!("{text}\n"))?;
    }
    Ok(())
}

fn workstation(tree: &Tree<'_>) -> io::Result<()> {
    let device = "sys/class/drm/card0/device";
    for (file, text) in [
        ("gpu_busy_percent", "37"),
        ("mem_info_vram_used", "1073741824"),
        ("mem_info_vram_total", "8589934592"),
        ("hwmon/hwmon3/temp1_input", "55000"),
        ("hwmon/hwmon3/power1_average", "90000000"),
        ("hwmon/hwmon3/fan1_input", "1200"),
    ] {
        tree.put(&format!("{device}/{file}"), &format!("{text}\n"))?;
    }
    let client = "pos: 0\ndrm-driver: made-up\ndrm-client-id: 17\ndrm-engine-gfx: 5000000 ns\ndrm-memory-vram: 3 MiB\n";
    tree.put("proc/42/fdinfo/5", client)?;
    let folder = tree.0.join("proc/42/fd");
    std::fs::create_dir_all(&folder)?;
    std::os::unix::fs::symlink("/dev/dri/renderD128", folder.join("5"))
}

/// Overwrites every file with bytes that mean nothing.
fn hostile(folder: &Path) -> io::Result<()> {
    let garbage =
        b"\xff\x00\x1b[2J)((: 99999999999999999999999 -1 kB\ncpu\n: :\n\n18446744073709551616\n- - -\n";
    for entry in std::fs::read_dir(folder)? {
        let path = entry?.path();
        if path.is_dir() { hostile(&path)? } else { std::fs::write(&path, garbage)? }
    }
    Ok(())
}
