//! Rows of the parts of a machine: cores, devices, interfaces, sensors, sockets, control groups and the like.

use crate::rows;
use crate::text::Text;

rows! {
    /// One logical processor. The classes are those of [`SystemRow`](super::SystemRow).
    CoreRow "core" key i64: |row| row.number.value().unwrap_or(-1);
    texts {
        /// Name of the temperature sensor that stands for this core; often one for a whole package.
        sensor;
    }
    fields {
        /// Number of the logical processor; proc_stat(5) cpuN.
        number: "" Label;
        /// Time in user mode at normal priority.
        user: "ticks" Counter;
        /// Time in user mode of processes with positive niceness.
        nice: "ticks" Counter;
        /// Time in the kernel.
        system: "ticks" Counter;
        /// Idle time without outstanding disk requests.
        idle: "ticks" Counter;
        /// Idle time while a task waited for a disk.
        iowait: "ticks" Counter;
        /// Time serving hardware interrupts.
        irq: "ticks" Counter;
        /// Time serving deferred interrupt work.
        softirq: "ticks" Counter;
        /// Time that the host gave to other virtual machines.
        steal: "ticks" Counter;
        /// Time running virtual machines, already contained in user.
        guest: "ticks" Counter;
        /// The same at positive niceness, already contained in nice.
        guest_nice: "ticks" Counter;
        /// Frequency now; Documentation/admin-guide/pm/cpufreq.rst scaling_cur_freq.
        frequency: "Hz" Level;
        /// Highest frequency that the hardware allows; cpuinfo_max_freq.
        frequency_max: "Hz" Level;
        /// How often the core or its package slowed down because of heat; thermal_throttle/*_throttle_count.
        throttles: "count" Counter;
    }
}

rows! {
    /// Interrupts of one source on one core; proc_interrupts(5). Pairs that never counted are left out.
    InterruptRow "interrupt" key (Text, i64): |row| (row.source.clone(), row.core.value().unwrap_or(-1));
    texts {
        /// Number or short name of the source.
        source;
        /// Device or meaning.
        label;
    }
    fields {
        /// Logical processor that served it.
        core: "" Label;
        /// Interrupts since boot.
        count: "count" Counter;
    }
}

rows! {
    /// Deferred interrupt work of one kind on one core; /proc/softirqs. Pairs that never counted are left out.
    SoftirqRow "softirq" key (Text, i64): |row| (row.kind.clone(), row.core.value().unwrap_or(-1));
    texts {
        /// Kind of work.
        kind;
    }
    fields {
        /// Logical processor that did it.
        core: "" Label;
        /// Times since boot.
        count: "count" Counter;
    }
}

rows! {
    /// One mounted file system; proc_pid_mountinfo(5), statvfs(3).
    FilesystemRow "filesystem" key Text: |row| row.mount.clone();
    texts {
        /// Where it is mounted.
        mount;
        /// Device or server.
        device;
        /// Type of file system.
        kind;
    }
    fields {
        /// 1 where it lives on another machine.
        remote: "" Label;
        /// 1 where it answers, 0 where a question has been waiting for too long.
        answers: "" Label;
        /// 1 where it can only be read, mounted so or made so after an error; proc_pid_mountinfo(5).
        read_only: "" Label;
        /// Size.
        size: "bytes" Level;
        /// Used by files.
        used: "bytes" Level;
        /// Left for ordinary users.
        available: "bytes" Level;
        /// Inodes; zero where the type has no fixed number.
        inodes: "count" Level;
        /// Inodes left.
        inodes_free: "count" Level;
    }
}

rows! {
    /// What one mounted network file system did; /proc/self/mountstats.
    RemoteRow "remote" key Text: |row| row.mount.clone();
    texts {
        /// Where it is mounted.
        mount;
        /// Server and what it exports.
        device;
        /// Type of file system.
        kind;
    }
    fields {
        /// Bytes that came from the server.
        read_bytes: "bytes" Counter;
        /// Bytes that went to the server.
        write_bytes: "bytes" Counter;
        /// Operations.
        operations: "count" Counter;
        /// How often operations were sent: more often than there are operations where some were sent again.
        transmissions: "count" Counter;
        /// Operations that the server did not answer in time.
        timeouts: "count" Counter;
        /// Time that operations waited to be sent, summed over operations.
        queue_ms: "ms" Counter;
        /// Time until the server answered, summed over operations.
        answer_ms: "ms" Counter;
        /// Time of operations from their beginning to their end, summed over operations.
        whole_ms: "ms" Counter;
    }
}

rows! {
    /// One control group that limits something; Documentation/admin-guide/cgroup-v2.rst, cgroup-v1/.
    GroupRow "group" key Text: |row| row.path.clone();
    texts {
        /// Its path; of version 1 with the controller in front: `memory:/PATH`.
        path;
    }
    fields {
        /// CPU time that it may use, in hundredths of a percent of one core; cpu.max.
        cpu_limit: "%/100" Level;
        /// CPU time that it used; cpu.stat usage_usec.
        cpu_us: "us" Counter;
        /// Periods in which its limit was looked at; cpu.stat nr_periods.
        periods: "count" Counter;
        /// Periods in which it was held back; cpu.stat nr_throttled.
        throttled_periods: "count" Counter;
        /// Time for which it was held back, summed over cores; cpu.stat throttled_usec.
        throttled_us: "us" Counter;
        /// Most memory that it may hold; memory.max.
        memory_limit: "bytes" Level;
        /// Memory from which on the kernel takes it away again and slows it down; memory.high.
        memory_high: "bytes" Level;
        /// Memory that it holds, caches included; memory.current.
        memory_bytes: "bytes" Level;
        /// Most that it may have in swap; memory.swap.max.
        swap_limit: "bytes" Level;
        /// What it has in swap; memory.swap.current.
        swap_bytes: "bytes" Level;
        /// How often it met its limit of memory; memory.events max.
        at_limit: "count" Counter;
        /// How often it was above memory_high; memory.events high.
        above_high: "count" Counter;
        /// Processes of it that were killed because its memory ran out; memory.events oom_kill.
        oom_kills: "count" Counter;
        /// Most processes and threads that it may have; pids.max.
        tasks_limit: "count" Level;
        /// Processes and threads that it has; pids.current.
        tasks: "count" Level;
        /// Bytes that it read from devices; io.stat rbytes.
        read_bytes: "bytes" Counter;
        /// Bytes that it wrote to devices; io.stat wbytes.
        write_bytes: "bytes" Counter;
    }
}

rows! {
    /// One battery; Documentation/ABI/testing/sysfs-class-power.
    BatteryRow "battery" key Text: |row| row.name.clone();
    texts {
        /// Name of the battery.
        name;
        /// Charging, discharging, full, not charging.
        status;
    }
    fields {
        /// Charge against the full charge, in hundredths of a percent.
        charge: "%/100" Level;
        /// Time until it is empty at the present load; only while it discharges.
        seconds_left: "s" Level;
        /// Power that flows in or out.
        power: "uW" Level;
    }
}

rows! {
    /// One graphics processor; sysfs of the kernel's DRM drivers.
    GpuRow "gpu" key Text: |row| row.name.clone();
    texts {
        /// Name of the card and its driver.
        name;
    }
    fields {
        /// Busy share, in percent; device/gpu_busy_percent.
        busy: "%" Level;
        /// Its own memory in use; device/mem_info_vram_used.
        memory_used: "bytes" Level;
        /// Its own memory; device/mem_info_vram_total.
        memory_total: "bytes" Level;
        /// Temperature; the hwmon chip of the card.
        temperature: "m°C" Level;
        /// Power; the hwmon chip of the card.
        power: "uW" Level;
        /// Fan; the hwmon chip of the card.
        fan: "rpm" Level;
    }
}

rows! {
    /// One block device or partition; Documentation/admin-guide/iostats.rst.
    DiskRow "disk" key Text: |row| row.name.clone();
    texts {
        /// Name of the device without /dev/.
        name;
        /// The device that a partition is on; empty for a whole device.
        whole;
        /// Model, where the device states one.
        model;
    }
    fields {
        /// 1 for a spinning disk, 0 for one without moving parts, 2 for one of a virtual machine, whose driver claims what it likes; queue/rotational, device/driver.
        rotational: "" Label;
        /// Requests read.
        reads: "count" Counter;
        /// Bytes read.
        read_bytes: "bytes" Counter;
        /// Time that read requests took, summed over requests.
        read_ms: "ms" Counter;
        /// Requests written.
        writes: "count" Counter;
        /// Bytes written.
        write_bytes: "bytes" Counter;
        /// Time that write requests took, summed over requests.
        write_ms: "ms" Counter;
        /// Requests in flight now.
        in_flight: "count" Level;
        /// Time with at least one request in flight.
        busy_ms: "ms" Counter;
        /// Time in flight, summed over requests: its rate is the mean queue length.
        queue_ms: "ms" Counter;
        /// Bytes that were discarded: the device was told that nobody needs them any more.
        discard_bytes: "bytes" Counter;
        /// Time that discards took, summed over requests.
        discard_ms: "ms" Counter;
        /// Flushes: what the device holds in its own memory was made safe.
        flushes: "count" Counter;
        /// Time that flushes took, summed over requests.
        flush_ms: "ms" Counter;
    }
}

rows! {
    /// One network interface; proc_net(5) dev.
    InterfaceRow "interface" key Text: |row| row.name.clone();
    texts {
        /// Name of the interface.
        name;
    }
    fields {
        /// Bytes received.
        in_bytes: "bytes" Counter;
        /// Packets received.
        in_packets: "count" Counter;
        /// Receive errors.
        in_errors: "count" Counter;
        /// Received packets dropped.
        in_drops: "count" Counter;
        /// Bytes sent.
        out_bytes: "bytes" Counter;
        /// Packets sent.
        out_packets: "count" Counter;
        /// Send errors.
        out_errors: "count" Counter;
        /// Packets dropped before sending.
        out_drops: "count" Counter;
        /// Link speed; /sys/class/net/NAME/speed (Documentation/ABI/testing/sysfs-class-net).
        speed_bits: "bit/s" Level;
        /// Wireless signal; /proc/net/wireless.
        wifi_signal: "dBm" Level;
        /// Wireless quality in the driver's own scale, usually up to 70; /proc/net/wireless.
        wifi_quality: "" Level;
    }
}

rows! {
    /// One sensor; Documentation/hwmon/sysfs-interface.rst, thermal/sysfs-api.rst, power/powercap/powercap.rst. A
    /// sensor measures one thing; the other fields are absent.
    SensorRow "sensor" key Text: |row| row.name.clone();
    texts {
        /// Chip and label, or the type of the thermal zone.
        name;
    }
    fields {
        /// Temperature in thousandths of a degree Celsius.
        temperature: "m°C" Level;
        /// The sensor's own critical limit, in thousandths of a degree Celsius.
        limit: "m°C" Level;
        /// Speed of a fan.
        fan: "rpm" Level;
        /// Speed below which the sensor itself calls the fan too slow.
        fan_min: "rpm" Level;
        /// Power.
        power: "uW" Level;
        /// Energy since some time in the past; its rate is the power.
        energy: "uJ" Counter;
        /// Voltage.
        voltage: "mV" Level;
    }
}

rows! {
    /// One TCP connection; sock_diag(7).
    ConnectionRow "connection" key i64: |row| row.cookie.value().unwrap_or(-1);
    texts {
        /// Address and port of this side.
        local;
        /// Address and port of the other side.
        remote;
        /// PIDs of others who hold it as well, separated by blanks.
        others;
    }
    fields {
        /// Names the socket for its whole life.
        cookie: "" Label;
        /// The process that holds it, of several the youngest that ran; absent where that is not known.
        pid: "" Label;
        /// Its state as the kernel's number; net/tcp_states.h.
        state: "" Label;
        /// Bytes received, headers excluded.
        in_bytes: "bytes" Counter;
        /// Bytes sent, each once, headers excluded.
        out_bytes: "bytes" Counter;
        /// Segments that were sent again; tcp_info tcpi_total_retrans.
        resent: "count" Counter;
        /// Its network namespace, where that is not our own; network_namespaces(7).
        namespace: "" Label;
    }
}

rows! {
    /// One TCP socket that waits for connections, or one UDP socket; sock_diag(7).
    ListenerRow "listener" key i64: |row| row.cookie.value().unwrap_or(-1);
    texts {
        /// Address and port of this side.
        local;
        /// Address and port of the other side, of a UDP socket that is tied to one.
        remote;
        /// PIDs of others who hold it as well, separated by blanks.
        others;
    }
    fields {
        /// Names the socket for its whole life.
        cookie: "" Label;
        /// 6 for TCP, 17 for UDP; netinet/in.h.
        protocol: "" Label;
        /// Port of this side.
        port: "" Label;
        /// The process that holds it, of several the youngest that ran; absent where that is not known.
        pid: "" Label;
        /// Connections that wait to be accepted; for UDP bytes that wait to be read.
        queue: "" Level;
        /// Most connections that may wait to be accepted; absent for UDP.
        queue_most: "" Level;
        /// Connections or datagrams that were dropped for want of room; SK_MEMINFO_DROPS in linux/sock_diag.h.
        drops: "count" Counter;
        /// Its network namespace, where that is not our own; network_namespaces(7).
        namespace: "" Label;
    }
}
