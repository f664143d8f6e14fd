//! The system calls of one process by kind: how many, how long, how many bytes, counted where each begins and ends.
//!
//! While it lasts every call on the machine is looked at, if only to see that it is somebody else's: that cost is measured when
//! counting begins.

use super::attached::Attached;
use super::btf::Btf;
use super::call;
use super::code::{Code, Helper, Label, Operation, Register, When, Width};
use super::refused::Refused;
use Register::{FP, R0, R1, R2, R3, R4, R6, R7, R8, R9};
use Width::{Eight, Four};
use std::os::fd::{AsFd as _, AsRawFd as _, OwnedFd};
use std::time::{Duration, Instant};

/// Numbers of calls that are counted; those of all architectures are below.
const NUMBERS: u32 = 512;
/// Threads whose calls are followed at a time.
const THREADS: u32 = 16 << 10;
/// What is kept of a call that goes on, and its key, on the stack.
const BEGUN: i16 = -16;
const KEY: i16 = -24;
/// Calls that failed give a number from here on; include/linux/err.h.
const FAILED: i32 = -4095;

/// Places that are looked up.
pub const NAMES: [&str; 2] = ["btf_trace_sys_enter", "btf_trace_sys_exit"];

/// What was counted of a kind of call.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Counted {
    /// How many ended.
    pub count: u64,
    /// Time within them, nanoseconds.
    pub ns: u64,
    /// Sum of what they gave, where that is a positive number: bytes, of those that move some.
    pub given: u64,
    /// How many failed.
    pub failed: u64,
}

/// Counts the calls of a process until it is dropped.
pub struct Calls {
    counts: OwnedFd,
    attached: [Attached; 2],
    _begun: OwnedFd,
    each: Duration,
}

/// The program being put together.
struct Program {
    code: Code,
    pid: i32,
    begun: i32,
    counts: i32,
}

impl Program {
    /// Goes on with the calls of the process alone; the thread is the key.
    fn ours(&mut self, out: Label) {
        self.code.register(Operation::Set, R6, R1).call(Helper::GetCurrentPidTgid);
        self.code.store(Four, FP, KEY, R0).number(Operation::ShiftRight, R0, 32);
        self.code.jump_if(R0, When::Different, self.pid, out);
    }

    fn ask(&mut self, map: i32, helper: Helper) {
        self.code.map(R1, map).register(Operation::Set, R2, FP).number(Operation::Add, R2, i32::from(KEY));
        self.code.call(helper);
    }

    fn begins(mut self) -> Vec<u64> {
        let out = self.code.label();
        self.ours(out);
        self.code.load(Eight, R1, R6, 8).store(Eight, FP, BEGUN, R1).call(Helper::KtimeGetNs);
        self.code.store(Eight, FP, BEGUN + 8, R0).register(Operation::Set, R3, FP);
        self.code.number(Operation::Add, R3, i32::from(BEGUN)).number(Operation::Set, R4, 0);
        self.ask(self.begun, Helper::MapUpdateElem);
        self.code.here(out).end(0);
        self.code.finish()
    }

    fn ends(mut self) -> Vec<u64> {
        let [out, failed, none] = std::array::from_fn(|_| self.code.label());
        self.ours(out);
        self.ask(self.begun, Helper::MapLookupElem);
        // One that began before anybody counted.
        self.code.jump_if(R0, When::Equal, 0, out).load(Eight, R8, R0, 0).load(Eight, R9, R0, 8);
        // It ended: should the next one begin unseen, its end is not taken for that of this one.
        self.code.put(Eight, R0, 0, NUMBERS as i32);
        self.code.jump_if(R8, When::AtLeast, NUMBERS as i32, out).call(Helper::KtimeGetNs);
        self.code.register(Operation::Subtract, R0, R9).register(Operation::Set, R9, R0);
        self.code.load(Eight, R7, R6, 8).store(Four, FP, KEY, R8);
        self.ask(self.counts, Helper::MapLookupElem);
        let code = &mut self.code;
        code.jump_if(R0, When::Equal, 0, out).number(Operation::Set, R1, 1).add_to(R0, 0, R1);
        code.add_to(R0, 8, R9).jump_if(R7, When::AtLeast, FAILED, failed);
        // Other negative numbers are nothing that was moved.
        code.register(Operation::Set, R2, R7).number(Operation::ShiftRight, R2, 63);
        code.jump_if(R2, When::Different, 0, none).add_to(R0, 16, R7).jump(none);
        code.here(failed).add_to(R0, 24, R1).here(none).here(out).end(0);
        self.code.finish()
    }
}

impl Calls {
    /// Puts the programs together and loads them.
    pub fn load(btf: &Btf, pid: i32) -> Result<Calls, Refused> {
        let begun = call::recent(THREADS, 4, 16).map_err(Refused::of)?;
        let counts = call::array(NUMBERS, size_of::<Counted>() as u32).map_err(Refused::of)?;
        let program =
            || Program { code: Code::default(), pid, begun: begun.as_raw_fd(), counts: counts.as_raw_fd() };
        let before = one_call();
        let [begins, ends] = [program().begins(), program().ends()];
        let attached = [Attached::at(btf, NAMES[0], &begins)?, Attached::at(btf, NAMES[1], &ends)?];
        let each = one_call().saturating_sub(before);
        Ok(Calls { counts, attached, _begun: begun, each })
    }

    /// What was counted since the beginning of each kind of call that ended at least once, by number.
    pub fn counted(&self) -> Vec<(i64, Counted)> {
        let of = |number: u32| -> Option<(i64, Counted)> {
            let [count, ns, given, failed] = call::get(self.counts.as_fd(), &number).ok()?;
            (count > 0).then_some((i64::from(number), Counted { count, ns, given, failed }))
        };
        (0..NUMBERS).filter_map(of).collect()
    }

    /// How often the beginning or the end of a call of anybody was not looked at: such calls are not counted.
    pub fn missed(&self) -> u64 {
        self.attached.iter().map(Attached::missed).sum()
    }

    /// By how much it makes each call of anybody on this machine longer.
    pub fn each(&self) -> Duration {
        self.each
    }
}

/// What a call takes that does next to nothing.
fn one_call() -> Duration {
    const CALLS: u32 = 500;
    let batch = || {
        let begin = Instant::now();
        for _ in 0..CALLS {
            let _ = rustix::process::getppid();
        }
        begin.elapsed() / CALLS
    };
    (0..5).map(|_| batch()).min().unwrap_or_default()
}
