//! Lets the programs run and counts as a kernel would.

use super::chance::{liveliness, share};
use super::hardware::{DISK_RATE, Load, MIB, Machine, STEP, UP_SECONDS, softirq_part};
use super::process::{Process, Totals, Wish};
use super::programs::{PROGRAMS, Program, Role};
use super::site::{Site, TICKS};
use super::story::{self, happens};
use super::ways::Ways;
use crate::reading::{
    EndedRow, GroupRow, HostFacts, ProcessKey, ProcessRow, Reading, RemoteRow, SystemRow, raw,
};
use crate::signals;
use crate::sorting::ColdSort as _;
use crate::text::Text;
use crate::units::NANOS;
use crate::wanted::{Demand, Wanted};
use std::sync::Arc;
use std::time::Duration;

/// The machine runs quietly so many seconds before the story begins, so that there is a past to look at.
pub const PRELUDE: f64 = 180.0;
/// 2031-02-14 02:04:00 UTC, when the story begins.
const BEGIN_WALL: i64 = 1_928_801_040;
/// Processes too short to be seen begin to count their PIDs here.
const SHORT_LIVED: i64 = 98_000;

/// The simulated machine.
#[derive(Clone)]
pub struct SimulatedMachine {
    seed: u64,
    step: u64,
    machine: Machine,
    processes: Vec<Process>,
    /// Ended since the last reading.
    ended: Vec<EndedRow>,
    /// Plate solvers so far, with the part of the next one.
    solved: f64,
    /// TCP traffic of no process that could be found.
    unattributed: f64,
    /// Periods in which the group of the cameras was held back.
    held_back: f64,
    vault: Vault,
    wanted: Wanted,
}

/// CPU time that the group of the cameras may use, in hundredths of a percent of one core.
const INGEST_CPU: i64 = 26_000;

/// What the mounted file system of the other observatory did.
#[derive(Clone, Default)]
struct Vault {
    operations: f64,
    again: f64,
    answer_ms: f64,
    whole_ms: f64,
    read: f64,
    written: f64,
}

impl Vault {
    /// While the link to it is full, its answers take long, and some come too late.
    fn advance(&mut self, seconds: f64, lively: f64) {
        let (operations, answer) =
            if happens(&story::UPLOAD, seconds) { (9.0, 1_240.0) } else { (24.0, 5.5) };
        let done = operations * lively * STEP;
        self.operations += done;
        self.answer_ms += done * answer;
        self.whole_ms += done * (answer * 1.06 + 0.4);
        self.again += if happens(&story::UPLOAD, seconds) { 1.8 * STEP } else { 0.0 };
        self.read += done * 3_000.0;
        self.written += done * 11_000.0;
    }

    fn row(&self) -> RemoteRow {
        let whole = |value: f64| raw(value as i64);
        RemoteRow {
            mount: "/mnt/vault".into(),
            device: "vault.lynx.example:/nights".into(),
            kind: "nfs4".into(),
            read_bytes: whole(self.read),
            write_bytes: whole(self.written),
            operations: whole(self.operations),
            transmissions: whole(self.operations.floor() + self.again),
            timeouts: raw(0),
            queue_ms: raw(0),
            answer_ms: whole(self.answer_ms),
            whole_ms: whole(self.whole_ms),
        }
    }
}

impl SimulatedMachine {
    /// The observatory at the beginning of the prelude.
    pub fn new(seed: u64) -> SimulatedMachine {
        SimulatedMachine::at(Site::Observatory, seed)
    }

    /// A machine at the beginning of the prelude.
    pub fn at(site: Site, seed: u64) -> SimulatedMachine {
        let mut simulated = SimulatedMachine {
            seed,
            step: 0,
            machine: Machine::new(site.hardware()),
            processes: vec![],
            ended: vec![],
            solved: 0.0,
            unattributed: 0.0,
            held_back: 0.0,
            vault: Vault::default(),
            wanted: Wanted::NOTHING,
        };
        for (kind, program) in PROGRAMS.iter().enumerate() {
            if program.only.is_some_and(|only| only != site) {
                continue;
            }
            let copies = if program.count > 1 { simulated.machine.hardware.copies } else { 1 };
            for number in 0..program.count * copies {
                simulated.start(program, kind as i64, number);
            }
        }
        simulated.processes.cold_sort_by_key(|process| process.pid);
        simulated
    }

    fn start(&mut self, program: &'static Program, kind: i64, number: u32) {
        let cores = self.machine.hardware.cores;
        let copies = i64::from(self.machine.hardware.copies);
        let pid = match (program.name, program.role) {
            ("init", _) => 1,
            ("kthreadd", _) => 2,
            (_, Role::Kernel) => 3 + kind * 50 * copies + i64::from(number),
            // Old programs have small PIDs, those of the evening large ones.
            _ if program.age > 86_400.0 => (400 + kind * 61) * copies + i64::from(number) * 2,
            _ => (2_000 + kind * 130) * copies + i64::from(number) * 3,
        };
        let parents: Vec<i64> =
            self.processes.iter().filter(|p| p.program.name == program.parent).map(|p| p.pid).collect();
        let parent = parents.get(number as usize % parents.len().max(1)).copied().unwrap_or(0);
        let name: Text = match (program.role, program.name) {
            (Role::Kernel, "kworker") => {
                format!("kworker/{}:{}", number as usize % cores, number as usize / cores).into()
            }
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
            core: (pid as usize * 5) % cores,
            state: b'S',
            stopped: false,
            ways: Ways::default(),
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
        self.machine.hardware.host_facts()
    }

    /// Seconds since the beginning of the story, negative during the prelude.
    pub(super) fn seconds(&self) -> f64 {
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

    /// Whether a process is there.
    pub fn is_alive(&self, key: ProcessKey) -> bool {
        self.find(key).is_some()
    }

    /// Cores that it has.
    pub(super) fn cores(&self) -> usize {
        self.machine.hardware.cores
    }

    pub(super) fn seed(&self) -> u64 {
        self.seed
    }

    /// Nanoseconds since boot.
    pub(super) fn monotonic_ns(&self) -> i64 {
        ((UP_SECONDS + self.seconds()) * 1e9) as i64
    }

    pub(super) fn all(&self) -> impl Iterator<Item = &Process> {
        self.processes.iter()
    }

    pub(super) fn find_process(&self, key: ProcessKey) -> Option<&Process> {
        self.find(key).map(|at| &self.processes[at])
    }

    pub(super) fn find_mut(&mut self, key: ProcessKey) -> Option<&mut Process> {
        self.find(key).map(|at| &mut self.processes[at])
    }

    pub(super) fn name_of(&self, pid: i64) -> Text {
        let found = self.processes.iter().find(|process| process.pid == pid);
        found.map_or_else(|| "".into(), |process| process.name.clone())
    }

    pub(super) fn end_process(&mut self, key: ProcessKey, signal: i32) {
        if let Some(at) = self.find(key) {
            self.end(at, i64::from(signal));
        }
    }

    fn find(&self, key: ProcessKey) -> Option<usize> {
        self.processes.iter().position(|process| process.pid == key.pid && process.start == key.start)
    }

    /// Ends one with this status; wait(2).
    fn end(&mut self, at: usize, status: i64) {
        if self.processes[at].program.role == Role::Zombie {
            return;
        }
        let gone = self.processes.remove(at);
        let lived = UP_SECONDS + self.seconds() - gone.start as f64 / TICKS;
        self.ended.push(EndedRow {
            name: gone.name.clone(),
            pid: raw(gone.pid),
            ppid: raw(gone.parent),
            seen: raw(1),
            elapsed: raw((lived * 1e6) as i64),
            user: raw((gone.totals.user * 1e6) as i64),
            system: raw((gone.totals.system * 1e6) as i64),
            peak_bytes: raw(gone.rss as i64),
            read_bytes: raw(gone.totals.read as i64),
            write_bytes: raw(gone.totals.write as i64),
            status: raw(status),
            ..EndedRow::default()
        });
        let init = self.processes.iter().any(|p| p.pid == 1);
        // Zombies whose parent ends are taken over and waited for; other children live on under PID 1.
        self.processes.retain(|p| p.parent != gone.pid || p.program.role != Role::Zombie);
        for child in self.processes.iter_mut().filter(|p| p.parent == gone.pid) {
            child.parent = i64::from(init);
        }
    }

    /// What a process wants to do in this step.
    pub(super) fn wish(&self, process: &Process, seconds: f64) -> Wish {
        let program = process.program;
        let lively = liveliness(self.seed, process.pid as u64, seconds);
        let copies = f64::from(self.machine.hardware.copies);
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
            graphics: 0.0,
        };
        match program.role {
            Role::Stacker if happens(&story::STACK, seconds) => {
                wish.user += 0.14;
                wish.system += 0.09;
                wish.write += 205.0 * MIB * lively * copies;
                wish.write_calls += 1_700.0;
            }
            Role::ZeroReader if happens(&story::ZERO_READS, seconds) => {
                wish.user = 0.24 * lively;
                wish.system = 0.78 * lively.max(0.95);
                wish.read_calls = 412_000.0 * lively;
                wish.read_any = 0.0;
            }
            Role::Uploader if happens(&story::UPLOAD, seconds) => {
                wish.user += 0.16 * lively;
                wish.system += 0.2 * lively;
                wish.read += 24.0 * MIB;
                wish.read_any = wish.read;
                let link = self.machine.hardware.interfaces[0].megabits as f64 * 1e6 / 8.0;
                wish.net_out += link * 0.95 * (0.985 + 0.03 * share(self.seed, 31, self.step));
            }
            Role::Graphics => wish.graphics = (0.62 * lively).min(0.98),
            _ => {}
        }
        // No thread runs on two cores at once.
        let most = (program.threads as f64 / (wish.user + wish.system).max(f64::EPSILON)).min(1.0);
        (wish.user, wish.system) = (wish.user * most, wish.system * most);
        if process.rests() || program.role == Role::Zombie {
            wish = Wish::default();
        }
        wish
    }

    fn run_step(&mut self) {
        let seconds = self.seconds();
        let wishes: Vec<Wish> = self.processes.iter().map(|process| self.wish(process, seconds)).collect();
        let solving = self.solve_plates(seconds);
        let cores = self.machine.hardware.cores;
        let crowding = (solving + wishes.iter().map(|w| w.user + w.system).sum::<f64>()) / cores as f64;
        let granted = 1.0 / crowding.max(1.0);
        let wanted_write: f64 = wishes.iter().map(|w| w.write).sum();
        let full = wanted_write / (DISK_RATE * f64::from(self.machine.hardware.copies));
        let disk_granted = 1.0 / full.max(1.0);
        let waiting = ((full - 0.55) / 0.4).clamp(0.0, 1.0);
        let taken = |core: usize| softirq_part(core) + solving / cores as f64;
        let mut room: Vec<f64> = (0..cores).map(|core| (STEP * (1.0 - taken(core))).max(0.0)).collect();
        let mut load = Load { crowding, full, waiting, ..Load::default() };
        // Who never lets go of its core is placed first, so that it stays there.
        let mut turns: Vec<usize> = (0..wishes.len()).collect();
        turns.sort_by_key(|at| wishes[*at].user + wishes[*at].system < 0.8);
        for at in turns {
            let (process, wish) = (&mut self.processes[at], &wishes[at]);
            let dice = share(self.seed, process.pid as u64, self.step * 3 + 1);
            let slowed = if wish.write > 100.0 * 1024.0 { 1.0 - 0.25 * waiting } else { 1.0 };
            let (user, system) = (wish.user * granted * slowed * STEP, wish.system * granted * slowed * STEP);
            process.place(user, system, &mut room, &mut self.machine.classes);
            let heavy = wish.write / (wish.write + 20.0 * MIB);
            let waits = if wish.write > 0.0 { waiting * (0.06 + 0.7 * heavy) } else { 0.0 };
            process.state = match process.program.role {
                Role::Zombie => b'Z',
                _ if process.rests() => b'T',
                _ if dice < waits => b'D',
                _ if dice < waits + wish.user + wish.system => b'R',
                Role::Kernel => b'I',
                _ => b'S',
            };
            load.running += i64::from(process.state == b'R');
            load.blocked += i64::from(process.state == b'D');
            process.totals.add(wish, disk_granted);
            let totals = &mut process.totals;
            totals.user += user;
            totals.system += system;
            totals.disk_wait += waits * STEP;
            // What it would have used more, had it been alone, and the short waits that there always are.
            totals.core_wait += (1.03 - granted) * (wish.user + wish.system) * STEP;
            totals.forced += (crowding - 0.6).max(0.0) * 40.0 * (user + system);
            // Who writes the log comes to read it too late while the machine swaps.
            if process.program.name == "logkeeper" && happens(&story::LEAK, seconds) {
                totals.dropped += 14.0 * STEP;
            }
            load.written += wish.write * disk_granted * STEP;
            load.read += wish.read * STEP;
            load.graphics += wish.graphics;
            if process.program.role == Role::Uploader {
                load.uploaded += wish.net_out * STEP;
            }
            if process.program.role == Role::Leaker && !process.rests() {
                let fast = 0.0105 * self.machine.hardware.memory;
                process.rss += if happens(&story::LEAK, seconds) { fast } else { 0.9 * MIB } * STEP;
            }
        }
        self.vault.advance(seconds, liveliness(self.seed, 77, seconds));
        let held = if happens(&story::STACK, seconds) { 0.42 } else { 0.08 };
        self.held_back += (10.0 * STEP * held * liveliness(self.seed, 78, seconds)).min(10.0 * STEP);
        // What is left of a core waits for the disk for a part of the time, and idles for the rest.
        for (core, left) in self.machine.classes.iter_mut().zip(&room) {
            core.iowait += left * waiting * 0.4;
        }
        self.unattributed += 2_600.0 * liveliness(self.seed, 61, seconds) * STEP;
        load.running = load.running.max(1) + (crowding * 3.0) as i64;
        load.memory = self.memory_used() / self.machine.hardware.memory;
        load.graphics = load.graphics.min(1.0);
        self.machine.account(self.seed, self.step, seconds, &load);
        if load.memory > 0.985 {
            self.run_out_of_memory();
        }
    }

    /// The kernel ends the largest process; its service starts it anew.
    fn run_out_of_memory(&mut self) {
        let Some(at) = self.processes.iter().position(|p| p.program.role == Role::Leaker) else { return };
        self.machine.oom_kills += 1;
        self.machine.forks += 1.0;
        let program = self.processes[at].program;
        let (parent, name, command) =
            (self.processes[at].parent, self.processes[at].name.clone(), self.processes[at].command.clone());
        self.end(at, i64::from(signals::KILL));
        let pid = 60_000 + self.machine.oom_kills;
        self.processes.push(Process {
            program,
            pid,
            start: ((UP_SECONDS + self.seconds()) * TICKS) as i64,
            parent,
            name,
            command,
            core: 3,
            state: b'R',
            stopped: false,
            ways: Ways::default(),
            rss: program.rss * 0.2,
            totals: Totals::default(),
            row: Arc::default(),
        });
        self.processes.cold_sort_by_key(|process| process.pid);
    }

    /// The plate solvers that start and end within this step: CPU time that only shows up at their parent, and a
    /// record of each end. Gives the part of a core that they use.
    fn solve_plates(&mut self, seconds: f64) -> f64 {
        let queue = self.processes.iter_mut().find(|p| p.program.role == Role::Queue && !p.rests());
        let Some(queue) = queue else { return 0.0 };
        let solved = (0.5 * liveliness(self.seed, 99, seconds)).min(1.0);
        let (user, system) = (1.1 * solved, 0.25 * solved);
        queue.totals.children_user += user * STEP;
        queue.totals.children_system += system * STEP;
        let parent = queue.pid;
        let first = self.solved as i64;
        self.solved += solved;

        self.machine.forks += solved;
        for number in first..self.solved as i64 {
            let chance = share(self.seed, 88, number as u64);
            self.ended.push(EndedRow {
                name: "platesolve".into(),
                parent: "nightqueue".into(),
                command: format!("platesolve --index tycho --frame {}", 4_100 + number).into(),
                status: raw(0),
                pid: raw(SHORT_LIVED + number),
                ppid: raw(parent),
                seen: raw(0),
                elapsed: raw((130_000.0 + 60_000.0 * chance) as i64),
                user: raw(110_000),
                system: raw(25_000),
                peak_bytes: raw(((20.0 + 4.0 * chance) * MIB) as i64),
                read_bytes: raw(0),
                write_bytes: raw(4096),
                ..EndedRow::default()
            });
        }
        let cores = self.machine.classes.len() as f64;
        for core in &mut self.machine.classes {
            core.nice += user * STEP / cores;
            core.system += system * STEP / cores;
        }
        user + system
    }

    /// The control groups that limit something: the cameras may use so much of the CPU, the board and its cache have only so
    /// many tasks, the catalogue only so much memory, most of which is its files' cache.
    fn groups(&self) -> Vec<GroupRow> {
        let of = |path: &str| -> (f64, f64, f64, i64) {
            let members = self.processes.iter().filter(|process| process.limits() == path);
            members.fold((0.0, 0.0, 0.0, 0), |(cpu, rss, written, tasks), process| {
                let totals = &process.totals;
                let used = totals.user + totals.system;
                (cpu + used, rss + process.rss, written + totals.write, tasks + process.program.threads)
            })
        };
        let named = |path: &str| {
            let (cpu, rss, written, tasks) = of(path);
            let row = GroupRow {
                path: path.into(),
                cpu_us: raw((cpu * 1e6) as i64),
                tasks: raw(tasks),
                write_bytes: raw(written as i64),
                ..GroupRow::default()
            };
            (row, rss, tasks)
        };
        let (ingest, ..) = named("/system.slice/skycam-ingest.service");
        let ingest = GroupRow {
            cpu_limit: raw(INGEST_CPU),
            periods: raw(((self.seconds() + PRELUDE) * 10.0) as i64),
            throttled_periods: raw(self.held_back as i64),
            throttled_us: raw((self.held_back * 4e4) as i64),
            ..ingest
        };
        let (board, _, tasks) = named("/system.slice/skyboard.service");
        let board = GroupRow { tasks_limit: raw((tasks + tasks / 2).max(32)), ..board };
        let (catalogue, rss, _) = named("/system.slice/catalogd.service");
        let catalogue = GroupRow {
            memory_limit: raw((4_096.0 * MIB) as i64),
            memory_high: raw((3_584.0 * MIB) as i64),
            memory_bytes: raw((rss * 1.1 + 900.0 * MIB).min(4_000.0 * MIB) as i64),
            swap_bytes: raw(0),
            at_limit: raw(0),
            oom_kills: raw(0),
            tasks_limit: raw(256),
            ..catalogue
        };
        [ingest, board, catalogue].into_iter().filter(|group| group.tasks.value() > Some(0)).collect()
    }

    fn memory_used(&self) -> f64 {
        let resident: f64 = self.processes.iter().map(|process| process.rss).sum();
        // What was moved out to swap is not in memory.
        (resident + 2.0 * 1024.0 * MIB - self.machine.swapped).min(self.machine.hardware.memory * 0.99)
    }

    /// What readings shall hold; threads only where they are wanted, everything else always.
    pub fn want(&mut self, wanted: Wanted) {
        self.wanted = wanted;
    }

    /// The counters at this instant.
    pub fn reading(&mut self) -> Reading {
        let seconds = self.seconds();
        let up = ((UP_SECONDS + seconds) * 1e9) as i64;
        let mut reading = Reading { system: self.system_row(seconds, up), ..Reading::default() };
        self.machine.rows(self.seed, seconds, &mut reading);
        for process in &self.processes {
            process.connections(self.seed, &mut reading.connections);
            process.listeners(seconds, &mut reading.listeners);
            if self.wanted.has(Demand::Threads) {
                process.threads(&mut reading.threads);
            }
        }
        reading.groups = self.groups();
        reading.remotes = vec![self.vault.row()];
        reading.ended = std::mem::take(&mut self.ended);
        reading.transfers = self.processes.iter().filter_map(Process::transfers).collect();
        for (order, row) in reading.ended.iter_mut().enumerate() {
            row.order = raw(order as i64);
        }
        let held: f64 = self.processes.iter().map(|process| process.program.rss).sum();
        let swapped = self.machine.swapped / held.max(1.0);
        let wanted = self.wanted;
        reading.processes = self.processes.iter_mut().map(|process| process.row(swapped, wanted)).collect();
        let unattributed = raw(self.unattributed as i64);
        reading.processes.push(Arc::new(ProcessRow::unattributed(unattributed, raw(0))));
        reading.sort();
        reading
    }

    fn system_row(&self, seconds: f64, up: i64) -> SystemRow {
        let machine = &self.machine;
        let memory = machine.hardware.memory;
        let used = self.memory_used();
        let threads: i64 = self.processes.iter().map(|process| process.program.threads).sum();
        let whole = |value: f64| raw(value as i64);
        SystemRow {
            wall_ns: raw(BEGIN_WALL * NANOS + (seconds * 1e9) as i64),
            monotonic_ns: raw(up),
            boot_ns: raw(up),
            user: machine.total(|core| core.user),
            nice: machine.total(|core| core.nice),
            system: machine.total(|core| core.system),
            idle: machine.idle(seconds),
            iowait: machine.total(|core| core.iowait),
            irq: raw(0),
            softirq: machine.total(|core| core.softirq),
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
            mem_total: whole(memory),
            mem_free: whole((memory - used) * 0.2),
            mem_available: whole(memory - used),
            mem_buffers: whole((memory - used) * 0.01),
            mem_cached: whole((memory - used) * 0.7),
            mem_shared: whole(210.0 * MIB),
            mem_slab: whole(900.0 * MIB),
            mem_reclaimable: whole(600.0 * MIB),
            mem_dirty: whole(machine.dirty),
            written_after: crate::known::Raw::ABSENT,
            dirty_after: crate::known::Raw::ABSENT,
            swap_total: whole(machine.hardware.swap),
            swap_free: whole(machine.hardware.swap - machine.swapped),
            swap_in: whole(machine.swap_in),
            swap_out: whole(machine.swap_out),
            faults_major: whole(machine.faults_major),
            oom_kills: raw(machine.oom_kills),
            reclaimed: whole(machine.swap_out * 1.4),
            users: raw(2),
            tcp_retransmits: whole(machine.retransmits),
            tcp_segments: whole(machine.segments),
            udp_in: whole(machine.datagrams),
            udp_out: whole(machine.datagrams * 0.8),
            udp_errors: raw(0),
            pressure_cpu_some: whole(machine.pressure[0]),
            pressure_cpu_full: raw(0),
            pressure_memory_some: whole(machine.pressure[1]),
            pressure_memory_full: whole(machine.pressure[2]),
            pressure_io_some: whole(machine.pressure[3]),
            pressure_io_full: whole(machine.pressure[4]),
            unattributed_in: whole(self.unattributed),
            unattributed_out: raw(0),
            unseen_traffic: raw(0),
            notifications_lost: raw(0),
            transfers_noted: raw(1),
            transfers_missed: raw(0),
            datagrams_missed: raw(0),
        }
    }
}
