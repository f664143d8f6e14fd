//! A close look: states, system calls and waits of the threads of one process many times a second; `proc_pid_syscall(5)`,
//! `proc_pid_wchan(5)`, `proc_pid_stack(5)`.

use super::facts::channel;
use super::process::{Inside, told_apart};
use super::sockets::Peers;
use crate::proc::{lines, number, pid_stat, read_file, words};
use crate::{Roots, kernel};
use dozor_core::inside::close::{Calls, CloseLook, OfCall};
use dozor_core::inside::{Doing, Sighting, Spent};
use dozor_core::known::{Known, Raw};
use dozor_core::reading::ProcessKey;
use dozor_core::text::{Text, clean};
use rustix::time::{ClockId, clock_gettime};
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

/// Looks follow each other after 10 to 30 ms, so that nothing that happens 50 times a second hides between them.
const SHORTEST: u64 = 10;
const SPREAD: u64 = 21;
/// Looking takes at most this part of the time, however many threads there are.
const REST: u32 = 4;
/// Functions of a stack that are kept, the innermost first.
const DEPTH: usize = 8;
/// News are given so often.
const NEWS: Duration = Duration::from_millis(250);

/// Looks closely at a process for some time, or until `stop` says so or the process is gone; gives what was seen so far now
/// and then, and at the end.
pub fn look_closely(
    roots: &Roots,
    key: ProcessKey,
    time: Duration,
    stop: &AtomicBool,
    news: impl FnMut(&CloseLook),
) -> CloseLook {
    let inside = Inside::of(roots, key);
    let mut peers = Peers::default();
    // Numbers without names are of no use.
    let counted =
        inside.is_of_other_width().and_then(|other| Some((kernel::calls(roots, key.pid).ok()?, other)));
    let sightings = || inside.is_there().then(|| inside.sightings(&mut peers));
    look_for(
        time,
        stop,
        sightings,
        |seconds| counted.as_ref().map(|(calls, other)| told(calls, *other, seconds)),
        news,
    )
}

/// What was counted, by the names of the calls.
fn told(calls: &kernel::calls::Calls, other_width: bool, seconds: f64) -> Calls {
    let kind = |(number, counted): (i64, kernel::calls::Counted)| {
        let name =
            super::calls::name(number, other_width).map_or_else(|| format!("call {number}"), str::to_owned);
        OfCall {
            bytes: super::calls::moves_bytes(&name).then_some(counted.given),
            name: name.into(),
            count: counted.count,
            seconds: counted.ns as f64 / 1e9,
            failed: counted.failed,
        }
    };
    let kinds = calls.counted().into_iter().map(kind).collect();
    let at_least = calls.missed() > 0;
    Calls { at_least, ..Calls::new(kinds, seconds, calls.each().as_secs_f64() * 1e9) }
}

/// The same through whatever gives sightings at all threads, and whether system calls may not be seen; none ends it. `calls`
/// tells what was counted of system calls in so many seconds, where somebody counts.
pub fn look_for(
    time: Duration,
    stop: &AtomicBool,
    mut sightings: impl FnMut() -> Option<(Vec<Sighting>, bool)>,
    calls: impl Fn(f64) -> Option<Calls>,
    mut news: impl FnMut(&CloseLook),
) -> CloseLook {
    let mut look = CloseLook::default();
    let (begin, spent) = (Instant::now(), own_time());
    let (mut told, mut chance) = (begin, crate::clock::monotonic_ns() as u64);
    while begin.elapsed() < time && !stop.load(Ordering::Relaxed) {
        let round = Instant::now();
        let Some((sightings, denied)) = sightings() else { break };
        let cost = own_time().saturating_sub(spent).as_secs_f64();
        look.add(&sightings, begin.elapsed().as_secs_f64(), cost, denied);
        if told.elapsed() >= NEWS {
            told = Instant::now();
            look.count_calls(calls(begin.elapsed().as_secs_f64()));
            news(&look);
        }
        chance = chance.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        let pause = Duration::from_millis(SHORTEST + (chance >> 33) % SPREAD);
        let left = time.saturating_sub(begin.elapsed());
        std::thread::sleep(pause.max(round.elapsed() * REST).min(left));
    }
    look.count_calls(calls(begin.elapsed().as_secs_f64()));
    look
}

/// What a thread has spent; none where the kernel does not count it.
fn spent(folder: &Path, stat: &pid_stat::ProcessStat<'_>) -> Option<Spent> {
    let text = read_file(&folder.join("schedstat")).ok()?;
    let mut numbers = words(text.trim_ascii()).map(number);
    let mut next = || numbers.next().flatten().and_then(|value| u64::try_from(value).ok());
    let (run_ns, wait_ns) = (next()?, next()?);
    let ticks = |raw: Raw| raw.value().and_then(|value| u64::try_from(value).ok()).unwrap_or(0);
    Some(Spent {
        run_ns,
        wait_ns,
        user_ticks: ticks(stat.user_ticks),
        system_ticks: ticks(stat.system_ticks),
    })
}

/// CPU time of this thread.
fn own_time() -> Duration {
    let time = clock_gettime(ClockId::ThreadCPUTime);
    Duration::new(time.tv_sec.try_into().unwrap_or(0), time.tv_nsec.try_into().unwrap_or(0))
}

impl Inside {
    /// What each thread does now, and whether system calls may not be seen.
    fn sightings(&self, peers: &mut Peers) -> (Vec<Sighting>, bool) {
        let Ok(entries) = self.at("task").and_then(std::fs::read_dir) else { return (vec![], false) };
        let mut denied = false;
        let sightings = entries
            .flatten()
            .filter_map(|entry| {
                let folder = entry.path();
                let tid = number(folder.file_name()?.as_encoded_bytes())?;
                // Who looks at itself always finds the thread that looks at work.
                if tid == i64::from(rustix::thread::gettid().as_raw_nonzero().get()) {
                    return None;
                }
                let stat = read_file(&folder.join("stat")).ok()?;
                let stat = pid_stat::parse(&stat, 1)?;
                let state = char::from(u8::try_from(stat.state.value()?).ok()?);
                let mut sighting = Sighting {
                    tid,
                    name: clean(stat.name).into(),
                    state,
                    call: "".into(),
                    on: "".into(),
                    wait_channel: "".into(),
                    stack: vec![],
                    spent: spent(&folder, &stat),
                };
                let text = told_apart(read_file(&folder.join("syscall")));
                match self.doing(&text, peers) {
                    Known::Value(Doing::Call { name, on }) => {
                        (sighting.call, sighting.on) = (name, on.unwrap_or_else(|| "".into()));
                    }
                    Known::Denied => denied = true,
                    Known::Value(Doing::Running | Doing::Kernel) | Known::Absent => {}
                }
                if state != 'R' {
                    if let Known::Value(channel) = channel(told_apart(read_file(&folder.join("wchan")))) {
                        sighting.wait_channel = channel.into();
                    }
                    sighting.stack = stack(&read_file(&folder.join("stack")).unwrap_or_default());
                }
                Some(sighting)
            })
            .collect();
        (sightings, denied)
    }
}

/// Functions of the kernel that a task is in, the innermost first, without those that every call begins with.
fn stack(text: &[u8]) -> Vec<Text> {
    let name = |line: &[u8]| {
        let line = clean(line);
        let name = line.split_once("] ")?.1.split('+').next()?.to_owned();
        let entry = name.starts_with("entry_SYSCALL")
            || name.starts_with("do_syscall")
            || name.starts_with("ret_from");
        (!entry && name != "0").then(|| Text::from(name))
    };
    lines(text).filter_map(name).take(DEPTH).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_stack_is_read_without_its_common_ends() {
        let text =
            b"[<0>] pipe_read+0x2b1/0x440\n[<0>] vfs_read+0xbb/0x3d0\n[<0>] do_syscall_64+0x71/0x290\n\
            [<0>] entry_SYSCALL_64_after_hwframe+0x76/0x7e\n";
        let names: Vec<String> = stack(text).iter().map(ToString::to_string).collect();
        assert_eq!(names, ["pipe_read", "vfs_read"]);
        assert!(stack(b"\n[<0>]\nnonsense\n").is_empty());
    }
}
