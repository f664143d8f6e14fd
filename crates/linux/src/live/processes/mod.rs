//! The processes.
//!
//! Their counters come from files ([`files`]) or from the reader in the kernel ([`inside`]); texts, control groups and what
//! is asked for by name come from files in both cases. A process that did not run since the last reading keeps its row. What
//! others can change without it running is looked at by turns: its memory every few seconds, and at once while the machine
//! reclaims memory; its parent, niceness and the like at once when its parent ends. A process that vanishes between listing
//! and reading is normal and simply not in the reading.

mod demand;
mod files;
mod inside;
mod opened;
mod state;
mod walked;

use super::{threads, writing};
use crate::kernel::tasks::{Missing, Tasks};
use crate::kernel::{self, Refused};
use crate::live::ahead;
use crate::live::network::keep_traffic;
use crate::proc::mountinfo::Places;
use crate::proc::pid::{LINK, LinkRoom, is_from_memory, link_of, read_pid};
use crate::proc::{pid_cgroup, pid_cmdline, pid_stat, pid_status, read_file};
use crate::sys::cgroups;
use crate::sys::containers;
use dozor_core::known::Raw;
use dozor_core::reading::{GroupRow, ProcessRow, ThreadRow};
use dozor_core::text::{Text, clean, no_text};
use dozor_core::wanted::{Demand, Wanted};
use opened::{LIST_TURN, list};
use rustix::io::Errno;
pub use state::Processes;
use state::{Counted, Rest, Tracked, put_memory};
use std::sync::Arc;
use std::time::Instant;
use std::vec::Drain;
use walked::Inside;

/// Texts are refreshed every so many readings, and while the process is new: it may still start its program.
const TEXT_TURN: u64 = 128;
/// Processes that are asked in one reading whether they write otherwise than by write calls, and readings for which the answer
/// stands.
const WRITERS: u32 = 4;
const WRITER_TURN: u64 = 64;
/// So many processes ahead what is kept of one is asked for: meanwhile others are read.
const SOON: usize = 4;
/// Bytes since the last reading by which a process must have dirtied more than it handed over to be asked.
const TOO_MUCH: i64 = 1 << 20;

impl Processes {
    /// All processes. `reclaims`: the machine took memory away from somebody since the last reading.
    pub fn read(
        &mut self,
        wanted: Wanted,
        reclaims: bool,
        mut rows: Vec<Arc<ProcessRow>>,
    ) -> Vec<Arc<ProcessRow>> {
        self.turn += 1;
        self.groups.begin();
        let began = Instant::now();
        let seconds =
            self.began.replace(began).map_or(f64::INFINITY, |before| (began - before).as_secs_f64());
        for rotation in [&mut self.memory, &mut self.memory_seldom] {
            rotation.advance(if reclaims { f64::INFINITY } else { seconds });
        }
        self.files.begin(seconds);
        (self.writers, self.beyond_calls) = (WRITERS, 0);
        self.mount_looks = WRITERS;
        if wanted.has(Demand::Mounts) {
            self.places =
                Places::new(&read_file(&self.roots.proc.join("self/mountinfo")).unwrap_or_default());
        }
        let mut inside = self.walk();
        let gives = inside.as_ref().map_or_else(Default::default, Inside::gives);
        // The processes of the last reading become those of this one.
        let mut pids = std::mem::take(&mut self.pids);
        let mut buffer = std::mem::take(&mut self.buffer);
        match &inside {
            Some(inside) => {
                inside.pids(&mut pids);
                self.with_hidden(&mut pids);
            }
            None => self.files.list(&self.proc, self.turn, &mut pids, &mut buffer),
        }
        let mut before = std::mem::replace(&mut self.tracked, std::mem::take(&mut self.spare));
        for tracked in &before {
            ahead::fetch(&tracked.row);
        }
        rows.reserve(pids.len());
        self.vanished.clear();
        let is_first = before.is_empty();
        let mut earlier = before.drain(..);
        for (at, pid) in pids.iter().enumerate() {
            if is_first {
                self.progress.reach(at as u32, pids.len() as u32);
            }
            let next = |earlier: &Drain<'_, Tracked>| earlier.as_slice().first().map(|tracked| tracked.pid);
            while next(&earlier).is_some_and(|next| next < *pid) {
                earlier.next().iter().for_each(|gone| self.forget_process(gone));
            }
            let known = if next(&earlier) == Some(*pid) { earlier.next() } else { None };
            if inside.is_none()
                && let Some(soon) = earlier.as_slice().get(SOON)
            {
                ahead::fetch_whole(&soon.rest.kept.idle);
            }
            let was_known = known.is_some();
            let now = match &mut inside {
                Some(inside) if self.hidden.binary_search(pid).is_err() => match inside.record(*pid) {
                    Some(record) => self.by_kernel(record, known, wanted, &mut buffer, gives),
                    None => self.as_before(*pid, known, wanted, &mut buffer, gives.0),
                },
                _ => self.by_files(*pid, known, wanted, &mut buffer),
            };
            if let Some(now) = now {
                rows.push(now.row.clone());
                self.tracked.push(now);
            } else if was_known {
                self.vanished.push(*pid);
            }
        }
        for gone in earlier {
            self.forget_process(&gone);
        }
        self.adopt(&mut rows, &mut buffer);
        pids.clear();
        pids.extend(self.tracked.iter().map(|tracked| tracked.pid));
        (self.pids, self.buffer, self.spare, self.inside) = (pids, buffer, before, inside);
        if seconds.is_infinite() {
            // All was read just now, however long that took: nobody's memory is to be looked at again at once.
            self.began = Some(Instant::now());
        }
        self.limits(wanted, &mut rows);
        self.forget = false;
        self.progress.end();
        rows
    }

    /// Takes the rows of the last reading as they were given: others have put to them what they know. Before them there may
    /// be some that are no processes.
    pub fn take_back(&mut self, rows: &[Arc<ProcessRow>]) {
        let rows = &rows[rows.len() - self.tracked.len()..];
        for (tracked, row) in self.tracked.iter_mut().zip(rows) {
            if !Arc::ptr_eq(&tracked.row, row) {
                tracked.row = row.clone();
            }
        }
    }

    /// Adds the processes that the kernel does not show to its own programs, as some are built to do. Who they are is looked
    /// up in the list of all now and then.
    fn with_hidden(&mut self, pids: &mut Vec<i64>) {
        if self.looked_for_hidden.is_none_or(|turn| self.turn - turn >= LIST_TURN) {
            self.looked_for_hidden = Some(self.turn);
            list(&self.proc, &mut self.hidden);
        }
        self.hidden.retain(|pid| pids.binary_search(pid).is_err());
        if !self.hidden.is_empty() {
            pids.extend(&self.hidden);
            pids.sort_unstable();
        }
    }

    fn forget_process(&mut self, gone: &Tracked) {
        self.files.close(&gone.rest.kept);
        self.vanished.push(gone.pid);
    }

    /// Children whose parent ended have another by now, without having run.
    fn adopt(&mut self, rows: &mut [Arc<ProcessRow>], buffer: &mut Vec<u8>) {
        if self.vanished.is_empty() {
            return;
        }
        self.vanished.sort_unstable();
        for (tracked, row) in self.tracked.iter_mut().zip(rows) {
            if tracked.ppid.is_none_or(|parent| self.vanished.binary_search(&parent).is_err()) {
                continue;
            }
            let stat = read_pid(&self.proc, tracked.pid, "stat", buffer).ok();
            let stat = stat.and_then(|text| pid_stat::parse(text, self.page));
            if let Some(stat) = stat.filter(|stat| stat.ppid != tracked.row.ppid) {
                Arc::make_mut(row).ppid = stat.ppid;
                (tracked.row, tracked.ppid) = (row.clone(), stat.ppid.value());
            }
        }
    }

    /// Lets the reader in the kernel look at all tasks, where there is one; it is given up when it fails.
    fn walk(&mut self) -> Option<Inside> {
        if let Some(loaded) = self.loads.take_if(|loads| loads.is_finished()) {
            self.take(loaded.join().unwrap_or(Err(Refused::Kernel)));
        }
        let mut inside = self.inside.take()?;
        if inside.is_crowded() && self.loads.is_none() && self.refused.is_none() {
            // Where there is no more room, this reading is as right as any, only dearer; it is asked for once.
            self.look_from_inside_later();
        }
        match inside.walk(self.in_full || self.forget, &self.memory) {
            Ok(()) => Some(inside),
            Err(refused) => {
                self.refused = Some(refused);
                None
            }
        }
    }

    /// Takes the reader in the kernel if this machine lets us.
    pub fn look_from_inside(&mut self) {
        self.take(kernel::tasks(&self.roots));
    }

    /// The same, as soon as it is loaded.
    pub fn look_from_inside_later(&mut self) {
        let roots = self.roots.clone();
        let loads = std::thread::Builder::new().name("load".to_owned()).spawn(move || kernel::tasks(&roots));
        match loads {
            Ok(loads) => self.loads = Some(loads),
            Err(error) => {
                let error = Errno::from_io_error(&error).unwrap_or(Errno::AGAIN);
                self.refused = Some(Refused::Other(error));
            }
        }
    }

    fn take(&mut self, tasks: Result<Tasks, Refused>) {
        match tasks {
            Ok(tasks) => (self.inside, self.refused) = (Some(Inside::new(tasks)), None),
            Err(refused) => self.refused = Some(refused),
        }
    }

    /// Whether the reader in the kernel is used, or why not; nothing where nobody asked for it.
    pub fn inside(&self) -> Option<Result<(), &Refused>> {
        match (&self.inside, &self.refused) {
            (Some(_), _) => Some(Ok(())),
            (None, refused) => refused.as_ref().map(Err),
        }
    }

    /// A process whose counters are as they were. At its turn its texts and what is asked for by name are read again.
    fn as_before(
        &mut self,
        pid: i64,
        known: Option<Tracked>,
        wanted: Wanted,
        buffer: &mut Vec<u8>,
        missing: Missing,
    ) -> Option<Tracked> {
        // The kernel knows it and we do not: its first reading failed.
        let Some(mut known) = known else { return self.by_files(pid, None, wanted, buffer) };
        if missing.memory && known.row.kernel != Raw::new(1) && self.memory.has(pid) {
            self.look_at_memory(&mut known, buffer);
        }
        if self.is_full_turn(pid) {
            self.look_again(&mut known, wanted, buffer);
        }
        Some(known)
    }

    /// Reads the memory of an idle process again, where the reader in the kernel does not tell it.
    fn look_at_memory(&self, known: &mut Tracked, buffer: &mut Vec<u8>) {
        let Ok(text) = read_pid(&self.proc, known.pid, "status", buffer) else { return };
        let mut row = (*known.row).clone();
        put_memory(&mut row, &pid_status::parse(text));
        if *known.row != row {
            known.row = Arc::new(row);
        }
    }

    /// Reads again what others can change of an idle process beside its counters, and what is asked for by name.
    fn look_again(&mut self, known: &mut Tracked, wanted: Wanted, buffer: &mut Vec<u8>) {
        let mut row = (*known.row).clone();
        if row.kernel != Raw::new(1) {
            self.executable(known.pid, &mut row, &mut { LINK });
        }
        if wanted.has(Demand::ControlGroup) {
            known.rest.groups = self.control_group(known.pid, &mut row, buffer);
        }
        let files_before = row.files.value();
        self.on_demand(known.pid, wanted, &mut row, files_before, buffer);
        if *known.row != row {
            known.row = Arc::new(row);
        }
    }

    /// Puts texts and what is asked for by name to what was counted. `known`: the same process at the reading before.
    fn complete(
        &mut self,
        counted: Counted,
        known: Option<Tracked>,
        wanted: Wanted,
        buffer: &mut Vec<u8>,
    ) -> Tracked {
        let Counted { mut row, kept, name, kernel_thread, tty, uids } = counted;
        let pid = row.pid.value().unwrap_or(-1);
        self.ways_of_writing(known.as_ref(), &mut row);
        let mut groups = known.as_ref().map_or_else(no_text, |known| known.rest.groups.clone());
        let text_turn = (pid as u64).wrapping_add(self.turn).is_multiple_of(TEXT_TURN);
        if let Some(known) = known.as_ref().filter(|known| {
            !self.in_full
                && !self.forget
                && !text_turn
                && !self.is_new(known)
                && (kernel_thread || name.as_ref().is_none_or(|name| *known.row.name == **name))
                && known.rest.uids == uids
        }) {
            keep_texts(&known.row, &mut row);
            if let Some(name) = name {
                // The kernel's own workers are named after what they do, and nothing else of them changes with it.
                row.name = name.into();
                name_kernel_thread(&mut row);
            }
        } else {
            let kept = known.as_ref().map(|known| known.row.name.clone());
            row.name = name.map(Text::from).or(kept).unwrap_or_else(no_text);
            self.texts(pid, kernel_thread, uids, &mut row, known.as_ref().map(|known| &*known.row), buffer);
            let tty = tty.or_else(|| {
                let stat = read_pid(&self.proc, pid, "stat", buffer).ok()?;
                Some(pid_stat::parse(stat, self.page)?.tty)
            });
            row.tty = pid_stat::terminal(tty.unwrap_or(Raw::ABSENT));
            if wanted.has(Demand::ControlGroup) {
                groups = self.control_group(pid, &mut row, buffer);
            }
        }
        if let Some(known) = known.as_ref().filter(|_| !text_turn) {
            row.files_limit = known.row.files_limit;
        }
        if let Some(known) = known.as_ref().filter(|_| !wanted.has(Demand::Mounts)) {
            self.mounts_of_writers(pid, known, &mut row);
        }
        let files_before = known.as_ref().and_then(|known| known.row.files.value());
        self.on_demand(pid, wanted, &mut row, files_before, buffer);
        let (ppid, new) = (row.ppid.value(), Rest { kept, uids, groups });
        let Some(mut known) = known else { return Tracked::first(row, self.turn, new) };
        if wanted.has(Demand::Sockets) {
            keep_traffic(&known.row, &mut row);
        }
        if *known.row != row {
            known.row = Arc::new(row);
        }
        (known.ppid, *known.rest) = (ppid, new);
        known
    }

    /// Threads of these processes, where they are wanted.
    pub fn threads(&mut self, wanted: Wanted, processes: &[Arc<ProcessRow>]) -> Vec<ThreadRow> {
        if !wanted.has(Demand::Threads) {
            return vec![];
        }
        let mut rows = threads::read(&self.proc, processes, &mut self.buffer);
        if !self.delay_accounting {
            for row in &mut rows {
                row.disk_wait_ticks = Raw::ABSENT;
            }
        }
        rows
    }

    /// Whether a process that dirtied more than it handed to write calls writes in other ways too.
    fn ways_of_writing(&mut self, known: Option<&Tracked>, row: &mut ProcessRow) {
        let Some(known) = known else { return };
        row.writes_otherwise = known.row.writes_otherwise;
        let grown = |field: fn(&ProcessRow) -> Raw| {
            Some(field(row).value()?.saturating_sub(field(&known.row).value()?))
        };
        let pages = grown(|row| row.write_bytes).zip(grown(|row| row.write_any_bytes));
        let asks = pages.is_some_and(|(pages, calls)| pages.saturating_sub(calls) >= TOO_MUCH);
        self.beyond_calls += u32::from(asks);
        let stands =
            row.writes_otherwise.value().is_some() && !(self.turn - known.since).is_multiple_of(WRITER_TURN);
        let Some(pid) = row.pid.value().filter(|_| asks && !stands && self.writers > 0) else { return };
        self.writers -= 1;
        row.writes_otherwise = writing::otherwise(&self.proc, pid).map(i64::from).into();
    }

    fn texts(
        &mut self,
        pid: i64,
        kernel_thread: bool,
        (uid, real_uid): (Option<u32>, Option<u32>),
        row: &mut ProcessRow,
        before: Option<&ProcessRow>,
        buffer: &mut Vec<u8>,
    ) {
        row.replaced = Raw::new(0);
        if kernel_thread {
            name_kernel_thread(row);
        } else {
            let arguments = read_pid(&self.proc, pid, "cmdline", buffer).unwrap_or_default();
            // Mostly they are what they were.
            if let Some(before) = before.filter(|before| pid_cmdline::is(arguments, &before.command)) {
                row.command = before.command.clone();
            } else {
                let command = pid_cmdline::parse(arguments);
                row.command = if command.is_empty() { row.name.clone() } else { command.into() };
            }
            let mut room = LINK;
            let program = self.executable(pid, row, &mut room).or_else(|| pid_cmdline::program(arguments));
            row.program = match (program, before) {
                (None, _) => row.name.clone(),
                (Some(name), Some(before)) if name == before.program.as_bytes() => before.program.clone(),
                (Some(name), _) => clean(name).into(),
            };
        }
        let mut name = |uid: Option<u32>| uid.map_or_else(no_text, |uid| self.users.name(uid));
        (row.user, row.real_user) = (name(uid), name(real_uid));
    }

    /// Says in the row of a process whether the file of its program was replaced; gives that file's name.
    fn executable<'r>(&self, pid: i64, row: &mut ProcessRow, room: &'r mut LinkRoom) -> Option<&'r [u8]> {
        let link = link_of(&self.proc, pid, "exe", room);
        row.replaced = match &link {
            Ok(link) => i64::from(was_replaced(link)).into(),
            Err(Errno::ACCESS | Errno::PERM) => Raw::DENIED,
            Err(_) => Raw::ABSENT,
        };
        let path = link.ok()?;
        let path = path.strip_suffix(b" (deleted)").unwrap_or(path);
        path.rsplit(|byte| *byte == b'/').next()
    }

    /// Puts the control group of a process into its row; gives the names of all its groups.
    fn control_group(&mut self, pid: i64, row: &mut ProcessRow, buffer: &mut Vec<u8>) -> Text {
        let Ok(text) = read_pid(&self.proc, pid, "cgroup", buffer) else { return no_text() };
        let groups = Text::from(cgroups::names(text).join(" "));
        row.limits = self.groups.limiting(&groups);
        let Some(path) = pid_cgroup::parse(text) else { return groups };
        let path = Text::from(path);
        let lib = &self.roots.lib;
        let named = self.cgroups.entry(path.clone()).or_insert_with_key(|path| {
            let service = pid_cgroup::service(path).map_or_else(no_text, Text::from);
            let container = containers::of_group(path).map(|container| containers::name(&container, lib));
            (service, container.map_or_else(no_text, Text::from))
        });
        (row.service, row.container) = named.clone();
        row.cgroup = path;
        groups
    }

    /// The control groups that limit something. Whether they do is looked at by turns.
    fn limits(&mut self, wanted: Wanted, rows: &mut [Arc<ProcessRow>]) {
        if !wanted.has(Demand::ControlGroup) || !self.turn.is_multiple_of(cgroups::TURN) {
            return;
        }
        for (row, tracked) in rows.iter_mut().zip(&mut self.tracked) {
            let limits = self.groups.limiting(&tracked.rest.groups);
            if limits != row.limits {
                Arc::make_mut(row).limits = limits;
                tracked.row = row.clone();
            }
        }
    }

    /// What the control groups that limit something use.
    pub fn groups(&mut self, wanted: Wanted) -> Vec<GroupRow> {
        if wanted.has(Demand::ControlGroup) { self.groups.rows() } else { vec![] }
    }
}

/// Whether the file of a program is not there any more.
fn was_replaced(link: &[u8]) -> bool {
    link.ends_with(b" (deleted)") && !is_from_memory(link)
}

/// A thread of the kernel has no program and no command line but its name.
fn name_kernel_thread(row: &mut ProcessRow) {
    row.program = row.name.clone();
    row.command = format!("[{}]", row.name).into();
}

fn keep_texts(known: &ProcessRow, row: &mut ProcessRow) {
    row.name = known.name.clone();
    row.program = known.program.clone();
    row.command = known.command.clone();
    row.user = known.user.clone();
    row.real_user = known.real_user.clone();
    row.tty = known.tty.clone();
    row.cgroup = known.cgroup.clone();
    row.service = known.service.clone();
    row.limits = known.limits.clone();
    row.container = known.container.clone();
    row.replaced = known.replaced;
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Roots;
    use crate::kernel::tasks::Way;
    use crate::sys::tests::tree;

    #[test]
    fn after_the_first_reading_only_who_ran_is_read_again() {
        let page = rustix::param::page_size() as i64;
        let stat = |ticks: u8| format!("7 (pump) S 1 7 7 0 -1 0 0 0 0 0 {ticks} 0 0 0 20 0 1 0 3 8192 9 0");
        let memory = |pages: i64| format!("900 {pages} 4 1 0 30 0\n");
        let status =
            |pages: i64| format!("Uid:\t0\t0\t0\t0\nVmRSS:\t{} kB\nThreads:\t1\n", pages * page / 1024);
        let root = tree(&[
            ("7/stat", &stat(2)),
            ("7/status", &status(9)),
            ("7/schedstat", "20000000 5 1\n"),
            ("7/statm", &memory(9)),
            ("7/cmdline", "pump\0--low\0"),
        ]);
        let put =
            |name: &str, text: &str| std::fs::write(root.path().join("7").join(name), text).expect("room");
        let mut processes =
            Processes::open(&Roots { proc: root.path().to_owned(), ..Roots::default() }).expect("a tree");
        let mut read = |reclaims| processes.read(Wanted::NOTHING, reclaims, vec![]).remove(0);
        let first = read(false);
        assert_eq!((&*first.command, first.rss_bytes.value()), ("pump --low", Some(9 * page)));
        // Would be told by whoever read it in full. When its memory is asked for, it is what was read then.
        put("status", &status(5));
        for reclaims in [false, true, true] {
            assert!(Arc::ptr_eq(&first, &read(reclaims)), "{reclaims}");
        }
        put("statm", &memory(8));
        put("status", &status(8));
        assert_eq!(read(false).rss_bytes, first.rss_bytes);
        assert_eq!(read(true).rss_bytes.value(), Some(8 * page));
        put("stat", &stat(3));
        put("schedstat", "30000000 5 1\n");
        assert_eq!(read(false).user_ticks.value(), Some(3));
    }

    /// As where a machine does not let a program copy from memory.
    #[test]
    fn what_the_reader_in_the_kernel_does_not_tell_comes_from_files_also_of_who_sleeps() {
        let roots = Roots::default();
        let load = |types: Arc<kernel::btf::Btf>| Tasks::load_for(Way::List, false, &types, 1_000, 1);
        let tasks = match kernel::types(&roots).and_then(load) {
            Ok(tasks) => tasks,
            Err(refused) => return println!("not tested here: {refused}"),
        };
        let mut child = std::process::Command::new("sleep").arg("100").spawn().expect("a child");
        std::thread::sleep(std::time::Duration::from_millis(300));
        let pid = i64::from(child.id());
        let status = read_file(&roots.proc.join(format!("{pid}/status"))).expect("it is there");
        let resident = pid_status::parse(&status).resident;
        let mut processes = Processes::open(&roots).expect("the machine");
        processes.take(Ok(tasks));
        let read = |processes: &mut Processes, reclaims: bool| {
            let mut rows = processes.read(Wanted::NOTHING, reclaims, vec![]);
            let row = rows.iter_mut().find(|row| row.pid.value() == Some(pid)).expect("a row");
            let told = (row.rss_bytes, row.virtual_bytes.value() > row.rss_bytes.value());
            // It is told again only by whoever looks.
            Arc::make_mut(row).rss_bytes = Raw::new(1);
            processes.take_back(&rows);
            told
        };
        let told = (0..3).map(|_| read(&mut processes, false).0).collect::<Vec<_>>();
        assert_eq!(read(&mut processes, true), (resident, true), "{told:?}");
        assert!(processes.inside().is_some_and(|inside| inside.is_ok()));
        child.kill().and_then(|()| child.wait()).expect("it ends");
    }

    #[test]
    fn a_program_from_memory_was_not_replaced() {
        assert!(was_replaced(b"/usr/bin/skycam (deleted)"));
        assert!(!was_replaced(b"/usr/bin/skycam") && !was_replaced(b"/memfd:skycam (deleted)"));
    }
}
