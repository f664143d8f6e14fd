//! Lets the programs run and counts as a kernel would.

use super::chance::{liveliness, share};
use super::programs::{PROGRAMS, Program, Role, story};
use crate::known::Raw;
use crate::reading::{
    CoreRow, DiskRow, HostFacts, InterfaceRow, ProcessKey, ProcessRow, Reading, SensorRow, SystemRow, raw,
};
use crate::row::Row;
use crate::signals;
use crate::text::Text;
use crate::units::NANOS;
use std::sync::Arc;
use std::time::Duration;

const CORES: usize = 8;
const TICKS: f64 = 100.0;
/// Length of a step of the simulation in seconds.
const STEP: f64 = 0.1;
/// The simulated machine booted so long before the story begins.
const UP_SECONDS: f64 = 12.0 * 86_400.0 + 4.0 * 3600.0 + 25.0 * 60.0;
/// The machine runs quietly so many seconds before the story begins, so that there is a past to look at.
pub const PRELUDE: f64 = 180.0;
/// 2031-02-14 02:04:00 UTC, when the story begins.
const BEGIN_WALL: i64 = 1_928_801_040;
/// What the fast disk can write, bytes per second.
const DISK_RATE: f64 = 228.0 * 1_048_576.0;
const MIB: f64 = 1_048_576.0;
const MEMORY: f64 = 32.0 * 1024.0 * MIB;

/// Why the simulated kernel does not do what was asked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Refusal {
    /// The process belongs to somebody else; in the demo you are `astro`.
    NotPermitted,
    /// There is no such process any more.
    Gone,
}

/// Amounts that only grow, kept finer than the kernel shows them.
#[derive(Clone, Copy, Default)]
struct Totals {
    user: f64,
    system: f64,
    children_user: f64,
    children_system: f64,
    read: f64,
    write: f64,
    read_calls: f64,
    write_calls: f64,
    read_any: f64,
    write_any: f64,
    disk_wait: f64,
    net_in: f64,
    net_out: f64,
    faults: f64,
    waits: f64,
    forced: f64,
}

struct Process {
    program: &'static Program,
    pid: i64,
    start: i64,
    parent: i64,
    name: Text,
    command: Text,
    core: usize,
    state: u8,
    stopped: bool,
    rss: f64,
    totals: Totals,
    /// The row of the reading before, given again when nothing changed.
    row: Arc<ProcessRow>,
}

/// Counters of the machine, finer than the kernel shows them.
#[derive(Default)]
struct Machine {
    classes: [[f64; 5]; CORES],
    switches: f64,
    interrupts: f64,
    forks: f64,
    load: [f64; 3],
    running: i64,
    blocked: i64,
    disks: [[f64; 7]; 2],
    interfaces: [[f64; 6]; 2],
    temperature: f64,
    dirty: f64,
}

/// Indexes into [`Machine::classes`].
const USER: usize = 0;
const NICE: usize = 1;
const SYSTEM: usize = 2;
const IOWAIT: usize = 3;
const SOFTIRQ: usize = 4;

/// The simulated machine.
pub struct SimulatedMachine {
    seed: u64,
    step: u64,
    machine: Machine,
    processes: Vec<Process>,
}

impl SimulatedMachine {
    /// The machine at the beginning of the story.
    pub fn new(seed: u64) -> SimulatedMachine {
        let mut simulated = SimulatedMachine {
            seed,
            step: 0,
            machine: Machine { temperature: 58.0, load: [2.9, 2.7, 2.6], ..Machine::default() },
            processes: vec![],
        };
        for (kind, program) in PROGRAMS.iter().enumerate() {
            for number in 0..program.count {
                simulated.start(program, kind as i64, number);
            }
        }
        simulated.machine.forks = 910_000.0;
        // The counters do not begin at zero: the machine has been up for days.
        for core in &mut simulated.machine.classes {
            *core = [0.21, 0.02, 0.05, 0.01, 0.01].map(|part| part * UP_SECONDS);
        }
        simulated.processes.sort_by_key(|process| process.pid);
        simulated
    }

    fn start(&mut self, program: &'static Program, kind: i64, number: u32) {
        let pid = match (program.name, program.role) {
            ("init", _) => 1,
            ("kthreadd", _) => 2,
            (_, Role::Kernel) => 3 + kind * 50 + i64::from(number),
            // Old programs have small PIDs, those of the evening large ones.
            _ if program.age > 86_400.0 => 400 + kind * 61 + i64::from(number) * 2,
            _ => 2_000 + kind * 130 + i64::from(number) * 3,
        };
        let parents: Vec<i64> =
            self.processes.iter().filter(|p| p.program.name == program.parent).map(|p| p.pid).collect();
        let parent = parents.get(number as usize % parents.len().max(1)).copied().unwrap_or(0);
        let name: Text = match (program.role, program.name) {
            (Role::Kernel, "kworker") => format!("kworker/{}:{}", number % 8, number / 8).into(),
            (Role::Kernel, "ksoftirqd" | "migration") => format!("{}/{number}", program.name).into(),
            _ => program.name.into(),
        };
        let command = match program.role {
            Role::Kernel => format!("[{name}]"),
            Role::Zombie => String::new(),
            _ if program.count > 1 => {
                format!("/opt/lynx/bin/{} {} {}", program.name, program.arguments, number + 1)
            }
            _ => format!("/opt/lynx/bin/{} {}", program.name, program.arguments).trim_end().to_owned(),
        };
        let age = program.age - f64::from(number) * 2.0;
        let busy = program.user_share + program.system_share;
        self.processes.push(Process {
            program,
            pid,
            start: ((UP_SECONDS - age) * TICKS) as i64,
            parent,
            name,
            command: command.into(),
            core: (pid as usize * 5) % CORES,
            state: b'S',
            stopped: false,
            rss: program.rss * (0.9 + 0.2 * share(self.seed, pid as u64, 7)),
            totals: Totals {
                user: program.user_share * age * 0.8,
                system: program.system_share * age * 0.8,
                read: program.read * age * 0.5,
                write: program.write * age * 0.5,
                faults: 3_000.0 + busy * 50_000.0,
                ..Totals::default()
            },
            row: Arc::default(),
        });
    }

    /// What does not change.
    pub fn host(&self) -> HostFacts {
        HostFacts {
            name: "lynx-obs".to_owned(),
            kernel: "Linux 6.12".to_owned(),
            cpu_model: "Simulated 8-core processor".to_owned(),
            cores: CORES as u32,
            ticks_per_second: TICKS as u32,
            time_zone: "UTC".to_owned(),
            note: "simulated".to_owned(),
            inside: String::new(),
        }
    }

    /// Seconds since the beginning of the story, negative during the prelude.
    fn seconds(&self) -> f64 {
        self.step as f64 * STEP - PRELUDE
    }

    /// Lets the machine run until a time after the beginning of the prelude. Says whether its clock moved: it goes
    /// in steps of a tenth of a second.
    pub fn advance_to(&mut self, since_begin: Duration) -> bool {
        let before = self.step;
        while (self.step + 1) as f64 * STEP <= since_begin.as_secs_f64() + 1e-9 {
            self.run_step();
            self.step += 1;
        }
        self.step != before
    }

    /// Sends a signal as the user `astro` would.
    pub fn signal(&mut self, key: ProcessKey, number: i32) -> Result<(), Refusal> {
        let at = self.find(key).ok_or(Refusal::Gone)?;
        let process = &mut self.processes[at];
        if process.program.user != "astro" {
            return Err(Refusal::NotPermitted);
        }
        match number {
            19 | 20 => process.stopped = true,
            18 => process.stopped = false,
            signals::KILL => self.end(at),
            _ if matches!(process.program.role, Role::Zombie | Role::Stubborn) => {}
            _ if signals::by_number(number).is_some_and(|signal| signal.ends) => self.end(at),
            _ => {}
        }
        Ok(())
    }

    /// Whether a process is there.
    pub fn is_alive(&self, key: ProcessKey) -> bool {
        self.find(key).is_some()
    }

    fn find(&self, key: ProcessKey) -> Option<usize> {
        self.processes.iter().position(|process| process.pid == key.pid && process.start == key.start)
    }

    fn end(&mut self, at: usize) {
        if self.processes[at].program.role == Role::Zombie {
            return;
        }
        let gone = self.processes.remove(at);
        let init = self.processes.iter().any(|p| p.pid == 1);
        // Zombies whose parent ends are taken over and waited for; other children live on under PID 1.
        self.processes.retain(|p| p.parent != gone.pid || p.program.role != Role::Zombie);
        for child in self.processes.iter_mut().filter(|p| p.parent == gone.pid) {
            child.parent = i64::from(init);
        }
    }

    /// What a process wants to do in this step: shares of a core and bytes per second.
    fn wish(&self, process: &Process, seconds: f64) -> Wish {
        let program = process.program;
        let lively = liveliness(self.seed, process.pid as u64, seconds);
        let mut wish = Wish {
            user: program.user_share * lively,
            system: program.system_share * lively,
            read: program.read * lively,
            write: program.write * lively,
            read_calls: program.calls * lively * 0.6,
            write_calls: program.calls * lively * 0.4,
            read_any: program.read * lively * 1.3,
            net_in: program.net_in * lively,
            net_out: program.net_out * lively,
        };
        match program.role {
            Role::Stacker if story::STACK.contains(&(seconds % story::STACK_PERIOD)) => {
                wish.user += 0.14;
                wish.system += 0.09;
                wish.write += 205.0 * MIB * lively;
                wish.write_calls += 1_700.0;
            }
            Role::ZeroReader if story::ZERO_READS.contains(&seconds) => {
                wish.user = 0.21 * lively;
                wish.system = 0.74 * lively.min(1.05);
                wish.read_calls = 412_000.0 * lively;
                wish.read_any = 0.0;
            }
            _ => {}
        }
        // No thread runs on two cores at once.
        let most = (program.threads as f64 / (wish.user + wish.system).max(f64::EPSILON)).min(1.0);
        (wish.user, wish.system) = (wish.user * most, wish.system * most);
        if process.stopped || program.role == Role::Zombie {
            wish = Wish::default();
        }
        wish
    }

    fn run_step(&mut self) {
        let seconds = self.seconds();
        let wishes: Vec<Wish> = self.processes.iter().map(|process| self.wish(process, seconds)).collect();
        let solving = self.solve_plates(seconds);
        let crowding = (solving.0 + wishes.iter().map(|w| w.user + w.system).sum::<f64>()) / CORES as f64;
        let granted = 1.0 / crowding.max(1.0);
        let wanted_write: f64 = wishes.iter().map(|w| w.write).sum();
        let full = wanted_write / DISK_RATE;
        let disk_granted = 1.0 / full.max(1.0);
        let waiting = ((full - 0.55) / 0.4).clamp(0.0, 1.0);
        let mut room = [STEP; CORES];
        let (mut running, mut blocked) = (0, 0);
        let (mut written, mut read) = (0.0, 0.0);
        for (process, wish) in self.processes.iter_mut().zip(&wishes) {
            let dice = share(self.seed, process.pid as u64, self.step * 3 + 1);
            let slowed = if wish.write > 100.0 * 1024.0 { 1.0 - 0.25 * waiting } else { 1.0 };
            let (user, system) = (wish.user * granted * slowed * STEP, wish.system * granted * slowed * STEP);
            place(process, user, system, &mut room, &mut self.machine.classes);
            let heavy = wish.write / (wish.write + 20.0 * MIB);
            let waits = if wish.write > 0.0 { waiting * (0.06 + 0.7 * heavy) } else { 0.0 };
            process.state = match process.program.role {
                Role::Zombie => b'Z',
                _ if process.stopped => b'T',
                _ if dice < waits => b'D',
                _ if dice < waits + wish.user + wish.system => b'R',
                Role::Kernel => b'I',
                _ => b'S',
            };
            running += i64::from(process.state == b'R');
            blocked += i64::from(process.state == b'D');
            let totals = &mut process.totals;
            totals.user += user;
            totals.system += system;
            totals.read += wish.read * STEP;
            totals.write += wish.write * disk_granted * STEP;
            totals.read_calls += wish.read_calls * STEP;
            totals.write_calls += wish.write_calls * STEP;
            totals.read_any += wish.read_any * STEP;
            totals.write_any += wish.write * disk_granted * STEP * 1.02;
            totals.disk_wait += waits * STEP;
            totals.net_in += wish.net_in * STEP;
            totals.net_out += wish.net_out * STEP;
            totals.waits += (wish.read_calls + wish.write_calls).min(400.0) * STEP;
            totals.forced += (crowding - 0.6).max(0.0) * 40.0 * (user + system);
            written += wish.write * disk_granted * STEP;
            read += wish.read * STEP;
            if process.program.role == Role::Leaker && !process.stopped {
                process.rss += 0.9 * MIB * STEP;
            }
        }
        self.machine.running = running.max(1) + (crowding * 3.0) as i64;
        self.machine.blocked = blocked;
        self.account(seconds, crowding, full, written, read, waiting);
    }

    /// The plate solvers that start and end within this step: CPU time that only shows up at their parent.
    fn solve_plates(&mut self, seconds: f64) -> (f64, f64) {
        let Some(queue) = self.processes.iter_mut().find(|p| p.program.role == Role::Queue && !p.stopped)
        else {
            return (0.0, 0.0);
        };
        let solved = (0.5 * liveliness(self.seed, 99, seconds)).min(1.0);
        let (user, system) = (1.1 * solved, 0.25 * solved);
        queue.totals.children_user += user * STEP;
        queue.totals.children_system += system * STEP;
        self.machine.forks += solved;
        for core in &mut self.machine.classes {
            core[NICE] += user * STEP / CORES as f64;
            core[SYSTEM] += system * STEP / CORES as f64;
        }
        (user + system, solved)
    }

    fn account(&mut self, seconds: f64, crowding: f64, full: f64, written: f64, read: f64, waiting: f64) {
        let machine = &mut self.machine;
        for (at, core) in machine.classes.iter_mut().enumerate() {
            core[SOFTIRQ] += STEP * if at == 0 { 0.09 } else { 0.004 };
            core[IOWAIT] += STEP * (waiting * 0.3 * (1.0 - crowding).max(0.1));
        }
        machine.switches += STEP * (9_000.0 + 14_000.0 * crowding);
        machine.interrupts += STEP * (4_000.0 + written / STEP / 20_000.0);
        let wants = machine.running as f64 + machine.blocked as f64;
        for (load, minutes) in machine.load.iter_mut().zip([1.0, 5.0, 15.0]) {
            *load += (wants - *load) * (1.0 - (-STEP / (minutes * 60.0)).exp());
        }
        let busy = (full * 0.96).min(0.93 + 0.06 * share(self.seed, 3, self.step));
        let fast = &mut machine.disks[0];
        let requests = written / 122_000.0;
        let wait_ms = 0.6 + waiting * waiting * 40.0;
        *fast = [
            fast[0] + read / 64_000.0,
            fast[1] + read,
            fast[2] + read / 64_000.0 * wait_ms,
            fast[3] + requests,
            fast[4] + written,
            fast[5] + requests * wait_ms,
            fast[6] + busy * STEP * 1000.0,
        ];
        let slow = &mut machine.disks[1];
        let archive = 9.4 * MIB * liveliness(self.seed, 12, seconds) * STEP;
        let requests = archive / 300_000.0;
        *slow = [
            slow[0],
            slow[1],
            slow[2],
            slow[3] + requests,
            slow[4] + archive,
            slow[5] + requests * 3.9,
            slow[6] + 0.12 * STEP * 1000.0,
        ];
        machine.dirty = 40.0 * MIB + waiting * 900.0 * MIB;
        let lossy = story::LOSSY_LINK.contains(&seconds);
        let rates =
            [22.0 * MIB * liveliness(self.seed, 20, seconds), 0.3 * MIB * liveliness(self.seed, 21, seconds)];
        for (at, rate) in rates.into_iter().enumerate() {
            let interface = &mut machine.interfaces[at];
            interface[0] += rate * STEP;
            interface[1] += rate / 1_200.0 * STEP;
            interface[2] += rate * 0.085 * STEP;
            interface[3] += rate * 0.085 / 300.0 * STEP;
            interface[4] += if lossy && at == 1 { 14.0 * STEP } else { 0.0 };
            interface[5] += if lossy && at == 1 { 5.0 * STEP } else { 0.0 };
        }
        let target = 46.0 + 42.0 * crowding.min(1.0) + 5.0 * waiting;
        machine.temperature += (target - machine.temperature) * (1.0 - (-STEP / 25.0).exp());
    }

    /// The counters at this instant.
    pub fn reading(&mut self) -> Reading {
        let seconds = self.seconds();
        let up = ((UP_SECONDS + seconds) * 1e9) as i64;
        let mut reading = Reading {
            system: self.system_row(seconds, up),
            cores: self
                .machine
                .classes
                .iter()
                .enumerate()
                .map(|(at, core)| core_row(at, core, seconds))
                .collect(),
            disks: ["nvme0n1", "sda"].iter().zip(&self.machine.disks).map(|(n, d)| disk_row(n, d)).collect(),
            interfaces: ["enp3s0", "enp4s0"]
                .iter()
                .zip(&self.machine.interfaces)
                .map(|(n, i)| interface_row(n, i))
                .collect(),
            sensors: vec![
                sensor_row("cpu package", self.machine.temperature, 95.0),
                sensor_row("nvme0n1", 38.0 + self.machine.temperature / 8.0, 84.0),
            ],
            processes: self.processes.iter_mut().map(Process::row).collect(),
            ..Reading::default()
        };
        reading.sort();
        reading
    }

    fn system_row(&self, seconds: f64, up: i64) -> SystemRow {
        let machine = &self.machine;
        let sum = |class: usize| ticks(machine.classes.iter().map(|core| core[class]).sum());
        let resident: f64 = self.processes.iter().map(|process| process.rss).sum();
        let used = resident + 1.6 * 1024.0 * MIB;
        let threads: i64 = self.processes.iter().map(|process| process.program.threads).sum();
        let whole = |value: f64| raw(value as i64);
        let idle: f64 = (0..CORES).map(|at| idle(&machine.classes[at], seconds)).sum();
        SystemRow {
            wall_ns: raw(BEGIN_WALL * NANOS + (seconds * 1e9) as i64),
            monotonic_ns: raw(up),
            boot_ns: raw(up),
            user: sum(USER),
            nice: sum(NICE),
            system: sum(SYSTEM),
            idle: ticks(idle),
            iowait: sum(IOWAIT),
            irq: raw(0),
            softirq: sum(SOFTIRQ),
            steal: raw(0),
            guest: raw(0),
            guest_nice: raw(0),
            switches: whole(machine.switches),
            interrupts: whole(machine.interrupts),
            forks: whole(machine.forks),
            running: raw(machine.running),
            blocked: raw(machine.blocked),
            load_1: whole(machine.load[0] * 100.0),
            load_5: whole(machine.load[1] * 100.0),
            load_15: whole(machine.load[2] * 100.0),
            threads: raw(threads),
            mem_total: whole(MEMORY),
            mem_free: whole((MEMORY - used) * 0.2),
            mem_available: whole(MEMORY - used),
            mem_buffers: whole(300.0 * MIB),
            mem_cached: whole((MEMORY - used) * 0.7),
            mem_shared: whole(210.0 * MIB),
            mem_slab: whole(900.0 * MIB),
            mem_reclaimable: whole(600.0 * MIB),
            mem_dirty: whole(machine.dirty),
            swap_total: whole(8.0 * 1024.0 * MIB),
            swap_free: whole(7.6 * 1024.0 * MIB),
            swap_in: raw(0),
            swap_out: raw(0),
            faults_major: raw(81_000),
            oom_kills: raw(0),
            users: raw(2),
            ..SystemRow::default()
        }
    }
}

/// What a process wants in a step.
#[derive(Clone, Copy, Default)]
struct Wish {
    user: f64,
    system: f64,
    read: f64,
    write: f64,
    read_calls: f64,
    write_calls: f64,
    read_any: f64,
    net_in: f64,
    net_out: f64,
}

/// Puts a process's CPU time on cores: its own first, then those with the most room.
fn place(
    process: &mut Process,
    user: f64,
    system: f64,
    room: &mut [f64; CORES],
    classes: &mut [[f64; 5]; CORES],
) {
    let mut left = user + system;
    let kernel = if left > 0.0 { system / left } else { 0.0 };
    while left > 1e-9 {
        if room[process.core] < left.min(STEP / 2.0) {
            let most = (0..CORES).max_by(|a, b| room[*a].total_cmp(&room[*b])).unwrap_or(0);
            if room[most] <= 1e-9 {
                return;
            }
            process.core = most;
        }
        let part = left.min(room[process.core]);
        let class = if process.program.nice > 0 { NICE } else { USER };
        classes[process.core][class] += part * (1.0 - kernel);
        classes[process.core][SYSTEM] += part * kernel;
        room[process.core] -= part;
        left -= part;
    }
}

/// Seconds of CPU time in the kernel's clock ticks.
fn ticks(seconds: f64) -> Raw {
    raw((seconds * TICKS) as i64)
}

fn idle(core: &[f64; 5], seconds: f64) -> f64 {
    (UP_SECONDS + seconds - core.iter().sum::<f64>()).max(0.0)
}

fn core_row(number: usize, core: &[f64; 5], seconds: f64) -> CoreRow {
    CoreRow {
        number: raw(number as i64),
        user: ticks(core[USER]),
        nice: ticks(core[NICE]),
        system: ticks(core[SYSTEM]),
        idle: ticks(idle(core, seconds)),
        iowait: ticks(core[IOWAIT]),
        irq: raw(0),
        softirq: ticks(core[SOFTIRQ]),
        steal: raw(0),
        guest: raw(0),
        guest_nice: raw(0),
        ..CoreRow::default()
    }
}

fn disk_row(name: &str, disk: &[f64; 7]) -> DiskRow {
    let [reads, read_bytes, read_ms, writes, write_bytes, write_ms, busy_ms] =
        disk.map(|value| raw(value as i64));
    let in_flight = raw(0);
    let queue_ms = raw((disk[2] + disk[5]) as i64);
    DiskRow {
        name: name.into(),
        reads,
        read_bytes,
        read_ms,
        writes,
        write_bytes,
        write_ms,
        in_flight,
        busy_ms,
        queue_ms,
        ..DiskRow::default()
    }
}

fn interface_row(name: &str, interface: &[f64; 6]) -> InterfaceRow {
    let [in_bytes, in_packets, out_bytes, out_packets, in_errors, in_drops] =
        interface.map(|value| raw(value as i64));
    InterfaceRow {
        name: name.into(),
        in_bytes,
        in_packets,
        in_errors,
        in_drops,
        out_bytes,
        out_packets,
        out_errors: raw(0),
        out_drops: raw(0),
        speed_bits: raw(1_000_000_000),
        ..InterfaceRow::default()
    }
}

fn sensor_row(name: &str, temperature: f64, limit: f64) -> SensorRow {
    SensorRow {
        name: name.into(),
        temperature: raw((temperature * 1000.0) as i64),
        limit: raw((limit * 1000.0) as i64),
        ..SensorRow::default()
    }
}

impl Process {
    fn row(&mut self) -> Arc<ProcessRow> {
        let program = self.program;
        let totals = &self.totals;
        let whole = |value: f64| raw(value as i64);
        let user: Text =
            if *self.row.user == *program.user { self.row.user.clone() } else { program.user.into() };
        let row = ProcessRow {
            name: self.name.clone(),
            program: self.name.clone(),
            command: self.command.clone(),
            real_user: user.clone(),
            user,
            pid: raw(self.pid),
            start_ticks: raw(self.start),
            ppid: raw(self.parent),
            state: raw(i64::from(self.state)),
            faults_minor: whole(totals.faults),
            faults_major: raw(12),
            user_ticks: ticks(totals.user),
            system_ticks: ticks(totals.system),
            children_user_ticks: ticks(totals.children_user),
            children_system_ticks: ticks(totals.children_system),
            priority: raw(20 + program.nice),
            nice: raw(program.nice),
            policy: raw(0),
            threads: raw(program.threads),
            virtual_bytes: whole(self.rss * 2.6),
            rss_bytes: whole((self.rss / 4096.0).floor() * 4096.0),
            shared_bytes: whole((self.rss / 4096.0 * 0.1).floor() * 4096.0),
            swap_bytes: raw(0),
            core: raw(self.core as i64),
            disk_wait_ticks: ticks(totals.disk_wait),
            read_bytes: whole(totals.read),
            write_bytes: whole(totals.write),
            read_calls: whole(totals.read_calls),
            write_calls: whole(totals.write_calls),
            read_any_bytes: whole(totals.read_any),
            write_any_bytes: whole(totals.write_any),
            switches_wait: whole(totals.waits),
            switches_forced: whole(totals.forced),
            net_in_bytes: whole(totals.net_in),
            net_out_bytes: whole(totals.net_out),
            connections: raw(program.connections),
            ..ProcessRow::default()
        };
        if row != *self.row {
            self.row = Arc::new(row);
        }
        debug_assert_eq!(self.row.key().pid, self.pid);
        self.row.clone()
    }
}
