//! Readings: what the kernel's counters said at one instant.
//!
//! Numbers are kept as the kernel gives them (clock ticks, milliseconds, bytes); only pages and sectors are
//! turned into bytes at the source, so that a reading means the same on another machine. Rows are sorted by
//! their key. Unchanged process rows are shared between consecutive readings.

mod parts;

pub use parts::{
    BatteryRow, ConnectionRow, CoreRow, DiskRow, FilesystemRow, GpuRow, GroupRow, InterfaceRow, InterruptRow,
    ListenerRow, RemoteRow, SensorRow, SoftirqRow,
};

use crate::known::Raw;
use crate::row::Row;
use crate::rows;
use crate::sorting::ColdSort as _;
use crate::text::Text;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

rows! {
    /// The machine as a whole at one instant.
    SystemRow "system" key (): |_row| ();
    texts {}
    fields {
        /// Wall clock, nanoseconds since 1970 (UTC); clock_gettime(2) CLOCK_REALTIME.
        wall_ns: "ns" Level;
        /// Time since boot without suspend; clock_gettime(2) CLOCK_MONOTONIC.
        monotonic_ns: "ns" Level;
        /// Time since boot with suspend; clock_gettime(2) CLOCK_BOOTTIME.
        boot_ns: "ns" Level;
        /// Time in user mode at normal priority, all cores; proc_stat(5).
        user: "ticks" Counter;
        /// Time in user mode of processes with positive niceness; proc_stat(5).
        nice: "ticks" Counter;
        /// Time in the kernel; proc_stat(5).
        system: "ticks" Counter;
        /// Idle time without outstanding disk requests; proc_stat(5).
        idle: "ticks" Counter;
        /// Idle time while a task waited for a disk; proc_stat(5).
        iowait: "ticks" Counter;
        /// Time serving hardware interrupts; proc_stat(5).
        irq: "ticks" Counter;
        /// Time serving deferred interrupt work; proc_stat(5).
        softirq: "ticks" Counter;
        /// Time that the host gave to other virtual machines; proc_stat(5).
        steal: "ticks" Counter;
        /// Time running virtual machines, already contained in user; proc_stat(5).
        guest: "ticks" Counter;
        /// The same at positive niceness, already contained in nice; proc_stat(5).
        guest_nice: "ticks" Counter;
        /// Context switches; proc_stat(5) ctxt.
        switches: "count" Counter;
        /// Interrupts of all sources; proc_stat(5) intr.
        interrupts: "count" Counter;
        /// Processes and threads created; proc_stat(5) processes.
        forks: "count" Counter;
        /// Tasks running or ready to run; proc_stat(5) procs_running.
        running: "count" Level;
        /// Tasks blocked on a disk; proc_stat(5) procs_blocked.
        blocked: "count" Level;
        /// Load average over 1 minute in hundredths; proc_loadavg(5).
        load_1: "1/100" Level;
        /// Load average over 5 minutes in hundredths; proc_loadavg(5).
        load_5: "1/100" Level;
        /// Load average over 15 minutes in hundredths; proc_loadavg(5).
        load_15: "1/100" Level;
        /// Kernel scheduling entities (processes and threads); proc_loadavg(5).
        threads: "count" Level;
        /// Usable memory; proc_meminfo(5) MemTotal.
        mem_total: "bytes" Level;
        /// Unused memory; proc_meminfo(5) MemFree.
        mem_free: "bytes" Level;
        /// What new programs can get without swapping; proc_meminfo(5) MemAvailable.
        mem_available: "bytes" Level;
        /// Block device buffers; proc_meminfo(5) Buffers.
        mem_buffers: "bytes" Level;
        /// File contents kept in memory; proc_meminfo(5) Cached.
        mem_cached: "bytes" Level;
        /// Shared memory and tmpfs; proc_meminfo(5) Shmem.
        mem_shared: "bytes" Level;
        /// Kernel data structures; proc_meminfo(5) Slab.
        mem_slab: "bytes" Level;
        /// Kernel data structures that can be given back; proc_meminfo(5) SReclaimable.
        mem_reclaimable: "bytes" Level;
        /// Waiting to be written to disk; proc_meminfo(5) Dirty.
        mem_dirty: "bytes" Level;
        /// Bytes that whole disks had written after processes were read, where one outgrew its write calls; proc_diskstats(5).
        written_after: "bytes" Counter;
        /// What waited then or was on its way; proc_meminfo(5) Dirty and Writeback.
        dirty_after: "bytes" Level;
        /// Swap space; proc_meminfo(5) SwapTotal.
        swap_total: "bytes" Level;
        /// Unused swap space; proc_meminfo(5) SwapFree.
        swap_free: "bytes" Level;
        /// Read back from swap; proc_vmstat(5) pswpin.
        swap_in: "bytes" Counter;
        /// Written to swap; proc_vmstat(5) pswpout.
        swap_out: "bytes" Counter;
        /// Page faults that had to read from a disk; proc_vmstat(5) pgmajfault.
        faults_major: "count" Counter;
        /// Processes killed because memory ran out; proc_vmstat(5) oom_kill.
        oom_kills: "count" Counter;
        /// Taken away from caches and programs because memory was wanted; proc_vmstat(5) pgsteal_*.
        reclaimed: "bytes" Counter;
        /// Users logged in.
        users: "count" Level;
        /// TCP segments sent again; proc_net(5) snmp RetransSegs.
        tcp_retransmits: "count" Counter;
        /// TCP segments sent; proc_net(5) snmp OutSegs.
        tcp_segments: "count" Counter;
        /// UDP datagrams received; proc_net(5) snmp InDatagrams.
        udp_in: "count" Counter;
        /// UDP datagrams sent; proc_net(5) snmp OutDatagrams.
        udp_out: "count" Counter;
        /// UDP datagrams that came and could not be delivered; proc_net(5) snmp InErrors.
        udp_errors: "count" Counter;
        /// Time in which some task waited for a CPU; Documentation/accounting/psi.rst.
        pressure_cpu_some: "us" Counter;
        /// Time in which all tasks waited for a CPU; Documentation/accounting/psi.rst.
        pressure_cpu_full: "us" Counter;
        /// Time in which some task waited for memory; Documentation/accounting/psi.rst.
        pressure_memory_some: "us" Counter;
        /// Time in which all tasks waited for memory; Documentation/accounting/psi.rst.
        pressure_memory_full: "us" Counter;
        /// Time in which some task waited for a device; Documentation/accounting/psi.rst.
        pressure_io_some: "us" Counter;
        /// Time in which all tasks waited for a device; Documentation/accounting/psi.rst.
        pressure_io_full: "us" Counter;
        /// Bytes received over TCP that no process could be found for, since watching began.
        unattributed_in: "bytes" Counter;
        /// Bytes of connections opened here that ended before a reading saw whose they were.
        unseen_traffic: "bytes" Counter;
        /// Bytes sent over TCP that no process could be found for, since watching began.
        unattributed_out: "bytes" Counter;
        /// How often notifications of ended sockets or processes came faster than they were read and were lost.
        notifications_lost: "count" Counter;
        /// 1 where it is noted what processes hand to block devices: then who has no row handed nothing. Denied where noting it is
        /// not permitted.
        transfers_noted: "" Label;
        /// Requests to block devices that were not noted, of anybody: what processes handed over is at least what is noted.
        transfers_missed: "count" Counter;
        /// Calls on sockets that were not looked at, of anybody: bytes over UDP are at least those counted.
        datagrams_missed: "count" Counter;
    }
}

rows! {
    /// One removed file that still takes room, since a process has it open; proc_pid_fd(5), statx(2).
    RemovedRow "removed" key (i64, i64, Text): |row| (
        row.pid.value().unwrap_or(-1),
        row.descriptor.value().unwrap_or(-1),
        row.path.clone(),
    );
    texts {
        /// Where it was.
        path;
        /// Name of the process; of several that have it open the first.
        name;
    }
    fields {
        /// Process identifier; absent of the row of all that are too small to have one of their own.
        pid: "" Label;
        /// Start of the process, in clock ticks since boot.
        start_ticks: "ticks" Label;
        /// Its number among the open files of the process.
        descriptor: "" Label;
        /// Bytes that it takes of its file system.
        bytes: "bytes" Level;
    }
}

rows! {
    /// One process that ended since the reading before, as our own programs in the kernel or its accounts of tasks tell; taskstats,
    /// Documentation/accounting/taskstats.rst.
    EndedRow "ended" key (i64, i64): |row| (row.order.value().unwrap_or(-1), row.pid.value().unwrap_or(-1));
    texts {
        /// Its name.
        name;
        /// Name of its parent, where that is known.
        parent;
        /// The beginning of its command line, where programs in the kernel saw it start.
        command;
    }
    fields {
        /// Place in the order of the ends within the reading.
        order: "" Label;
        /// Process identifier.
        pid: "" Label;
        /// PID of its parent.
        ppid: "" Label;
        /// 1 where a reading has shown it, 0 where it came and went between two.
        seen: "" Label;
        /// Life time.
        elapsed: "us" Level;
        /// CPU time in user mode.
        user: "us" Level;
        /// CPU time in the kernel.
        system: "us" Level;
        /// Most memory that it held.
        peak_bytes: "bytes" Level;
        /// Bytes fetched from storage, by itself and not by its children; from accounts all bytes of this row are of whole KiB, and absent where threads ended before
        /// anybody listened.
        read_bytes: "bytes" Level;
        /// Bytes of pages that it made dirty.
        write_bytes: "bytes" Level;
        /// Bytes of dirty pages that it dropped before they were written.
        cancelled_bytes: "bytes" Level;
        /// Bytes returned by read calls, cached or not.
        read_any_bytes: "bytes" Level;
        /// Bytes handed to write calls, cached or not.
        write_any_bytes: "bytes" Level;
        /// Write calls.
        write_calls: "count" Level;
        /// Bytes received over TCP, of a process that a reading has shown, or whose connections the kernel noted.
        net_in_bytes: "bytes" Level;
        /// Bytes sent over TCP, of the same.
        net_out_bytes: "bytes" Level;
        /// Bytes received over UDP since somebody counts them; of any process.
        udp_in_bytes: "bytes" Level;
        /// Bytes sent over UDP since somebody counts them; of any process.
        udp_out_bytes: "bytes" Level;
        /// How it ended, as wait(2) tells it: 0, an exit code in the second byte, or a signal in the first.
        status: "" Label;
        /// 1 where the kernel log says that it was ended because memory ran out; absent where it does not, or may not be read.
        oom: "" Label;
        /// How many it stands for where readings were thinned out: sums; of life and memory the most.
        alike: "" Label;
    }
}

rows! {
    /// What a process itself handed to a block device since that is noted, by a program of ours in the kernel. Pages that others
    /// write out later count for those, a thread of the kernel mostly, with the control group whose pages they are.
    TransferRow "transfer" key (i64, i64, i64): |row|
        (row.pid.value().unwrap_or(-1), row.number.value().unwrap_or(-1), row.group_number.value().unwrap_or(0));
    texts {
        /// Name of the device.
        device;
        /// Control group for which it was handed over, where that is not the one of the process; else empty.
        group;
    }
    fields {
        /// Process identifier.
        pid: "" Label;
        /// Start of the process, in clock ticks since boot.
        start_ticks: "ticks" Label;
        /// Number of the device, as in `st_rdev`; stat(2).
        number: "" Label;
        /// Number of the control group for which it was handed over, the inode of its folder; 0 for that of the process.
        group_number: "" Label;
        /// Bytes that it asked for.
        read_bytes: "bytes" Counter;
        /// Bytes that it handed over.
        write_bytes: "bytes" Counter;
        /// Requests of both kinds.
        requests: "count" Counter;
    }
}

rows! {
    /// One thread of a process with several; proc_pid_task(5).
    ThreadRow "thread" key (i64, i64): |row| (row.tid.value().unwrap_or(-1), row.start_ticks.value().unwrap_or(-1));
    texts {
        /// Its name; proc_pid_comm(5).
        name;
    }
    fields {
        /// Thread identifier; that of the first thread is the PID.
        tid: "" Label;
        /// The process that it belongs to.
        pid: "" Label;
        /// Start time in clock ticks after boot; proc_pid_stat(5) starttime.
        start_ticks: "ticks" Label;
        /// State as the kernel's letter code; proc_pid_stat(5) state.
        state: "" Label;
        /// CPU time in user mode; proc_pid_stat(5) utime.
        user_ticks: "ticks" Counter;
        /// CPU time in the kernel; proc_pid_stat(5) stime.
        system_ticks: "ticks" Counter;
        /// Time on a core; /proc/PID/task/TID/schedstat, Documentation/scheduler/sched-stats.rst.
        run_ns: "ns" Counter;
        /// Page faults served without a disk; proc_pid_stat(5) minflt.
        faults_minor: "count" Counter;
        /// Page faults that read from a disk; proc_pid_stat(5) majflt.
        faults_major: "count" Counter;
        /// Priority in the kernel's scale; proc_pid_stat(5) priority.
        priority: "" Level;
        /// Niceness; proc_pid_stat(5) nice.
        nice: "" Level;
        /// Scheduling policy; proc_pid_stat(5) policy, sched(7).
        policy: "" Label;
        /// Logical processor that it ran on last; proc_pid_stat(5) processor.
        core: "" Label;
        /// Time waiting for block devices; proc_pid_stat(5) delayacct_blkio_ticks.
        disk_wait_ticks: "ticks" Counter;
        /// Time ready to run without a core; /proc/PID/task/TID/schedstat, Documentation/scheduler/sched-stats.rst.
        core_wait_ns: "ns" Counter;
    }
}

rows! {
    /// One process; its identity is the PID together with the start time.
    ProcessRow "process" key ProcessKey:
        |row| ProcessKey { pid: row.pid.value().unwrap_or(-1), start: row.start_ticks.value().unwrap_or(-1) };
    texts {
        /// Name that the kernel keeps, at most 15 bytes; proc_pid_stat(5) comm.
        name;
        /// Base name of the executable, else of the first argument; proc_pid_exe(5).
        program;
        /// Command line with its arguments; for a kernel thread the name in brackets; proc_pid_cmdline(5).
        command;
        /// Name of the effective user; proc_pid_status(5) Uid.
        user;
        /// Name of the real user; proc_pid_status(5) Uid.
        real_user;
        /// Controlling terminal; proc_pid_stat(5) tty_nr.
        tty;
        /// Control group; proc_pid_cgroup(5).
        cgroup;
        /// Control groups that limit it, its own and those above it, separated by blanks, as [`GroupRow`] names them.
        limits;
        /// Service, session or container that the control group stands for.
        service;
        /// Container that it runs in, by name where that is known, else by a short number.
        container;
        /// Kernel function that it waits in; proc_pid_wchan(5).
        wait_on;
        /// Mount points of the file systems where its open files, working directory and executable are, separated by
        /// blanks and written as in proc_pid_mountinfo(5); proc_pid_fd(5), proc_pid_cwd(5), proc_pid_exe(5).
        mounts;
    }
    fields {
        /// Process identifier.
        pid: "" Label;
        /// Start time in clock ticks after boot; proc_pid_stat(5) starttime.
        start_ticks: "ticks" Label;
        /// PID of the parent; proc_pid_stat(5).
        ppid: "" Label;
        /// State as the kernel's letter code; proc_pid_stat(5) state.
        state: "" Label;
        /// Page faults served without a disk; proc_pid_stat(5) minflt.
        faults_minor: "count" Counter;
        /// Page faults that read from a disk; proc_pid_stat(5) majflt.
        faults_major: "count" Counter;
        /// CPU time in user mode; proc_pid_stat(5) utime.
        user_ticks: "ticks" Counter;
        /// CPU time in the kernel; proc_pid_stat(5) stime.
        system_ticks: "ticks" Counter;
        /// Time on a core, of all threads, also ended ones: by the clock of the process, clock_getcpuclockid(3), or counted in the
        /// kernel (task_struct se.sum_exec_runtime, signal_struct sum_sched_runtime). Where neither is, of a process with a single
        /// thread only: /proc/PID/schedstat, Documentation/scheduler/sched-stats.rst.
        run_ns: "ns" Counter;
        /// User CPU time of children that ended and were waited for; proc_pid_stat(5) cutime.
        children_user_ticks: "ticks" Counter;
        /// Kernel CPU time of children that ended and were waited for; proc_pid_stat(5) cstime.
        children_system_ticks: "ticks" Counter;
        /// Priority in the kernel's scale; proc_pid_stat(5) priority.
        priority: "" Level;
        /// Niceness, −20 (most CPU) to 19 (least); proc_pid_stat(5) nice.
        nice: "" Level;
        /// Scheduling policy; proc_pid_stat(5) policy, sched(7).
        policy: "" Label;
        /// Threads; proc_pid_stat(5) num_threads.
        threads: "count" Level;
        /// Address space; proc_pid_stat(5) vsize.
        virtual_bytes: "bytes" Level;
        /// Memory held in RAM; proc_pid_status(5) VmRSS, which the kernel counts roughly under load.
        rss_bytes: "bytes" Level;
        /// Part of the resident memory shared with others or backed by files; proc_pid_status(5) RssFile + RssShmem.
        shared_bytes: "bytes" Level;
        /// Memory moved out to swap; proc_pid_status(5) VmSwap.
        swap_bytes: "bytes" Level;
        /// Logical processor it ran on last; proc_pid_stat(5) processor.
        core: "" Label;
        /// Time waiting for block devices; proc_pid_stat(5) delayacct_blkio_ticks (needs delay accounting).
        disk_wait_ticks: "ticks" Counter;
        /// Bytes fetched from storage; proc_pid_io(5) read_bytes.
        read_bytes: "bytes" Counter;
        /// Bytes of pages that it made dirty; proc_pid_io(5) write_bytes. Kernels with large folios count each one whole.
        write_bytes: "bytes" Counter;
        /// Bytes of dirty pages that it dropped before they were written; proc_pid_io(5) cancelled_write_bytes.
        cancelled_bytes: "bytes" Counter;
        /// How often its own input and output could not be told from what it took over from children. Where this is known, all
        /// fields of input and output are its own; elsewhere they are the kernel's, which hold those of children that it waited for.
        io_unknown: "count" Counter;
        /// 1 where it writes in other ways than by write calls (shared mappings of files, asynchronous requests), 0 where it was
        /// looked at and does not; proc_pid_maps(5), proc_pid_fd(5).
        writes_otherwise: "" Label;
        /// Page faults of children that it waited for; proc_pid_stat(5) cminflt.
        children_faults: "count" Counter;
        /// Read calls; proc_pid_io(5) syscr.
        read_calls: "count" Counter;
        /// Write calls; proc_pid_io(5) syscw.
        write_calls: "count" Counter;
        /// Bytes returned by read calls, cached or not; proc_pid_io(5) rchar.
        read_any_bytes: "bytes" Counter;
        /// Bytes handed to write calls, cached or not; proc_pid_io(5) wchar.
        write_any_bytes: "bytes" Counter;
        /// Context switches because it waited, of all its threads; /proc/PID/task/TID/status voluntary_ctxt_switches.
        switches_wait: "count" Counter;
        /// Context switches because its turn was over, of all its threads; /proc/PID/task/TID/status nonvoluntary_ctxt_switches.
        switches_forced: "count" Counter;
        /// Time ready to run without a core, of all its threads; Documentation/scheduler/sched-stats.rst, schedstat's second
        /// number. The kernel adds a wait when it is over.
        core_wait_ns: "ns" Counter;
        /// Session; proc_pid_stat(5).
        session: "" Label;
        /// 1 for a thread of the kernel, which is no program; proc_pid_stat(5) flags, PF_KTHREAD.
        kernel: "" Label;
        /// 1 where the executable was replaced or removed since the start; proc_pid_exe(5).
        replaced: "" Label;
        /// How likely it is killed when memory runs out, 0 to 2000; proc_pid_oom_score(5).
        oom_score: "" Level;
        /// Open files; the size of proc_pid_fd(5).
        files: "count" Level;
        /// Most files that it may have open; proc_pid_limits(5) Max open files.
        files_limit: "count" Level;
        /// Resident memory with shared parts divided among their users; proc_pid_smaps(5) rollup.
        pss_bytes: "bytes" Level;
        /// Bytes received over TCP, headers excluded; tcp_info tcpi_bytes_received.
        net_in_bytes: "bytes" Counter;
        /// Bytes sent over TCP, each once, headers excluded; tcp_info tcpi_bytes_sent − tcpi_bytes_retrans.
        net_out_bytes: "bytes" Counter;
        /// Bytes received over UDP since somebody counts them, headers excluded; tracepoint sock_recv_length.
        udp_in_bytes: "bytes" Counter;
        /// Bytes sent over UDP since somebody counts them, headers excluded; tracepoint sock_send_length.
        udp_out_bytes: "bytes" Counter;
        /// TCP connections and listening sockets.
        connections: "count" Level;
        /// UDP sockets; the kernel itself counts no bytes for them.
        datagram_sockets: "count" Level;
        /// Datagrams that its UDP sockets dropped for want of room; SK_MEMINFO_DROPS in linux/sock_diag.h.
        datagram_drops: "count" Counter;
        /// Sockets that others hold as well.
        shared_sockets: "count" Level;
        /// Its network namespace where that is not our own, 0 where it is; network_namespaces(7).
        net_namespace: "" Label;
        /// Time that graphics processors worked for it; Documentation/gpu/drm-usage-stats.rst drm-engine-*.
        gpu_ns: "ns" Counter;
        /// Memory of graphics processors in use; Documentation/gpu/drm-usage-stats.rst.
        gpu_memory_bytes: "bytes" Level;
    }
}

impl EndedRow {
    /// CPU time as far as it is known, microseconds.
    pub fn cpu_us(&self) -> i64 {
        [self.user, self.system].iter().filter_map(|us| us.value()).fold(0, i64::saturating_add)
    }

    /// Processes that it stands for.
    pub fn processes(&self) -> i64 {
        self.alike.value().unwrap_or(1).max(1)
    }
}

impl ProcessRow {
    /// The row of TCP traffic that no process could be found for. It has no PID.
    pub fn unattributed(received: Raw, sent: Raw) -> ProcessRow {
        ProcessRow {
            name: "unattributed".into(),
            command: "unattributed: TCP traffic of no process that could be found".into(),
            net_in_bytes: received,
            net_out_bytes: sent,
            ..ProcessRow::default()
        }
    }
}

/// The process with this number among rows in their order.
pub fn with_pid(rows: &[Arc<ProcessRow>], pid: i64) -> Option<&Arc<ProcessRow>> {
    let at = rows.partition_point(|row| row.pid.value().unwrap_or(-1) < pid);
    rows.get(at).filter(|row| row.pid.value() == Some(pid))
}

/// A mount point as one word of [`ProcessRow::mounts`]: blanks are written as the kernel writes them.
pub fn mount_word(mount: &str) -> Text {
    if mount.contains(' ') { mount.replace(' ', "\\040").into() } else { mount.into() }
}

/// Identity of a process, or (−1, −1) for the row of traffic that no process could be found for: a PID that comes back has another start time.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct ProcessKey {
    /// Process identifier.
    pub pid: i64,
    /// Start time in clock ticks after boot.
    pub start: i64,
}

/// What does not change while the machine runs, kept once per recording.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, Default)]
#[serde(default)]
pub struct HostFacts {
    /// Host name.
    pub name: String,
    /// Kernel name and release.
    pub kernel: String,
    /// Processor model.
    pub cpu_model: String,
    /// Logical processors.
    pub cores: u32,
    /// Clock ticks per second of all tick counters; sysconf(3) `_SC_CLK_TCK`.
    pub ticks_per_second: u32,
    /// Time zone by its IANA name, or empty where it is not known (then times are UTC).
    pub time_zone: String,
    /// What this host is, when it is not a real one: `simulated`.
    pub note: String,
    /// Hints that it runs inside something else: `virtual machine (…)`, `container`; empty on bare hardware.
    pub inside: String,
}

/// Calls a macro with the parts of a reading: the field, the type of its rows, a short name. A new kind of part is
/// declared here, and nowhere else. Processes and the machine's own row are not among them.
macro_rules! all_parts {
    ($with:ident) => {
        $with! {
            system {
                /// Logical processors by number.
                cores: CoreRow, Core;
                /// Block devices and partitions by name.
                disks: DiskRow, Disk;
                /// Network interfaces by name.
                interfaces: InterfaceRow, Interface;
                /// Sensors by name.
                sensors: SensorRow, Sensor;
                /// Interrupts by source and core.
                interrupts: InterruptRow, Interrupt;
                /// Deferred interrupt work by kind and core.
                softirqs: SoftirqRow, Softirq;
                /// File systems by mount point.
                filesystems: FilesystemRow, Filesystem;
                /// Network file systems at work, by mount point.
                remotes: RemoteRow, Remote;
                /// Control groups that limit something, by path.
                groups: GroupRow, Group;
                /// Batteries by name.
                batteries: BatteryRow, Battery;
                /// Graphics processors by name.
                gpus: GpuRow, Gpu;
            }
            process {
                /// Processes that ended since the reading before.
                ended: EndedRow, Ended;
                /// TCP connections by cookie.
                connections: ConnectionRow, Connection;
                /// TCP sockets that wait for connections, and UDP sockets, by cookie.
                listeners: ListenerRow, Listener;
                /// What processes handed to block devices, by process and device.
                transfers: TransferRow, Transfer;
                /// Removed files that are still open, where a file system is nearly full.
                removed: RemovedRow, Removed;
                /// Threads of processes with several, by number; only where they are asked for.
                threads: ThreadRow, Thread;
            }
        }
    };
}
pub(crate) use all_parts;

/// Bytes of the texts of a row.
fn text_bytes<R: Row>(row: &R) -> usize {
    R::TEXTS.iter().map(|field| (field.get)(row).len()).sum()
}

impl ProcessRow {
    /// About how many bytes of memory it takes, with its texts.
    pub(crate) fn bytes(&self) -> usize {
        size_of::<ProcessRow>() + text_bytes(self)
    }
}

/// Bytes of rows that no two readings share, with their texts.
fn rows_bytes<R: Row>(rows: &[R]) -> usize {
    size_of_val(rows) + rows.iter().map(text_bytes).sum::<usize>()
}

macro_rules! declare_reading {
    (
        system { $( $(#[$of_system:meta])* $system:ident: $system_row:ident, $system_name:ident; )* }
        process { $( $(#[$of_process:meta])* $process:ident: $process_row:ident, $process_name:ident; )* }
    ) => {
        /// One instant of a machine.
        #[derive(Clone, Debug, PartialEq, Default)]
        pub struct Reading {
            /// The machine as a whole, and the time.
            pub system: SystemRow,
            $( $(#[$of_system])* pub $system: Vec<$system_row>, )*
            $( $(#[$of_process])* pub $process: Vec<$process_row>, )*
            /// Processes by PID and start time.
            pub processes: Vec<Arc<ProcessRow>>,
        }

        impl Reading {
            /// About how many bytes of memory it takes beside the reading before it, with which it shares the rows of
            /// processes that did not change.
            pub fn own_bytes(&self, before: Option<&Reading>) -> usize {
                let mut bytes = self.parts_bytes();
                let mut earlier = before.map_or(&[][..], |before| &before.processes).iter().peekable();
                for row in &self.processes {
                    while earlier.next_if(|other| other.key() < row.key()).is_some() {}
                    let shared = earlier.peek().filter(|other| other.key() == row.key());
                    bytes += match shared {
                        Some(other) if Arc::ptr_eq(other, row) => 0,
                        // Its texts are those of the row before.
                        Some(_) => size_of::<ProcessRow>(),
                        None => row.bytes(),
                    };
                }
                bytes
            }

            /// The same without the rows of processes.
            pub(crate) fn parts_bytes(&self) -> usize {
                let mut bytes = size_of::<Reading>() + self.processes.len() * size_of::<Arc<ProcessRow>>();
                $( bytes += rows_bytes(&self.$system); )*
                $( bytes += rows_bytes(&self.$process); )*
                bytes
            }

            /// Takes over all of another reading but its processes, into the memory that it has.
            pub(crate) fn parts_from(&mut self, other: &Reading) {
                self.system.clone_from(&other.system);
                $( self.$system.clone_from(&other.$system); )*
                $( self.$process.clone_from(&other.$process); )*
            }

            /// Sorts every part by its key, which everything after the source relies on; of two rows with one key
            /// the first stays.
            pub fn sort(&mut self) {
                fn tidy<T, K: Ord>(rows: &mut Vec<T>, key: impl Fn(&T) -> K) {
                    if !rows.is_sorted_by(|a, b| key(a) < key(b)) {
                        rows.cold_sort_by_key(&key);
                        rows.dedup_by(|a, b| key(a) == key(b));
                    }
                }
                $( tidy(&mut self.$system, Row::key); )*
                $( tidy(&mut self.$process, Row::key); )*
                tidy(&mut self.processes, |row| row.key());
            }
        }
    };
}
all_parts!(declare_reading);

impl Reading {
    /// Wall clock in nanoseconds since 1970 (UTC).
    pub fn wall_ns(&self) -> i64 {
        self.system.wall_ns.value().unwrap_or(0)
    }

    /// Time since boot without suspend, in nanoseconds: the clock of all rates.
    pub fn monotonic_ns(&self) -> i64 {
        self.system.monotonic_ns.value().unwrap_or(0)
    }

    /// Time since boot with suspend, in nanoseconds.
    pub fn boot_ns(&self) -> i64 {
        self.system.boot_ns.value().unwrap_or_else(|| self.monotonic_ns())
    }

    /// The process with this identity.
    pub fn process(&self, key: ProcessKey) -> Option<&Arc<ProcessRow>> {
        self.processes.binary_search_by_key(&key, |row| row.key()).ok().map(|at| &self.processes[at])
    }
}

/// Shorthand for tests and sources: a raw number.
pub fn raw(value: i64) -> Raw {
    Raw::new(value)
}
