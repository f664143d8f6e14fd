//! What programs in the kernel count for the process that runs, by something that each has to do with.

use super::call;
use super::code::{Code, Helper, Label, Operation, Register, When, Width};
use super::layout::Layout;
use super::refused::Refused;
use Register::{FP, R0, R1, R2, R3, R4, R7};
use Width::{Eight, Four};
use std::os::fd::{AsFd as _, AsRawFd as _, OwnedFd};

/// Processes, with what each has to do with, that are kept at a time; of those that were quiet for longest what follows is
/// counted anew.
const KEPT: u32 = 8 << 10;
/// Words of what is kept: since when the process is there, and three counts.
const WORDS: usize = 4;
const KEY_AT: i16 = -(size_of::<Key>() as i16);
const VALUE_AT: i16 = KEY_AT - 8 * WORDS as i16;
/// Where a program puts what else names a count, before it asks for [`Tally::of_this_process`]: 32 bits, and 64.
pub const WITH: i16 = KEY_AT + 4;
pub const GROUP: i16 = KEY_AT + 8;
/// Where the three counts are from the pointer in `R0`.
pub const COUNTS: [i16; 3] = [8, 16, 24];

/// What names a count.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[repr(C)]
struct Key {
    pid: u32,
    with: u32,
    group: u64,
}

/// What a process counted, with something.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Counted {
    /// The process.
    pub pid: u32,
    /// When it started in nanoseconds after boot.
    pub start_ns: u64,
    /// What it has to do with.
    pub with: u32,
    /// The control group for which it did so, where that is not its own; else 0.
    pub group: u64,
    /// Three counts.
    pub counts: [u64; 3],
}

/// Where it is counted.
pub struct Tally(OwnedFd);

impl Tally {
    pub fn new() -> Result<Tally, Refused> {
        call::recent(KEPT, size_of::<Key>() as u32, 8 * WORDS as u32).map(Tally).map_err(Refused::of)
    }

    fn ask(&self, code: &mut Code) {
        code.map(R1, self.0.as_raw_fd()).register(Operation::Set, R2, FP);
        code.number(Operation::Add, R2, i32::from(KEY_AT));
    }

    /// Points `R0` at the counts of the process that runs; `out` where there is no room. Uses `R7`.
    pub fn of_this_process(&self, code: &mut Code, layout: Layout<'_>, out: Label) -> Result<(), Refused> {
        let task = |path| layout.need("task_struct", path);
        let (leader, number, start) = (task("group_leader")?, task("tgid")?, task("start_boottime")?);
        let [known, fresh]: [Label; 2] = std::array::from_fn(|_| code.label());
        code.call(Helper::GetCurrentTaskBtf).load(Eight, R7, R0, leader.offset);
        code.load(Four, R1, R7, number.offset).store(Four, FP, KEY_AT, R1).load(Eight, R7, R7, start.offset);
        self.ask(code);
        code.call(Helper::MapLookupElem).jump_if(R0, When::Equal, 0, fresh).load(Eight, R1, R0, 0);
        // The number of a process that is gone came again.
        code.jump_if_register(R1, When::Equal, R7, known).here(fresh).store(Eight, FP, VALUE_AT, R7);
        for word in 1..WORDS as i16 {
            code.put(Eight, FP, VALUE_AT + word * 8, 0);
        }
        self.ask(code);
        code.register(Operation::Set, R3, FP).number(Operation::Add, R3, i32::from(VALUE_AT));
        code.number(Operation::Set, R4, 0).call(Helper::MapUpdateElem);
        self.ask(code);
        code.call(Helper::MapLookupElem).jump_if(R0, When::Equal, 0, out).here(known);
        Ok(())
    }

    /// What was counted so far, in no order.
    pub fn counted(&self) -> Result<Vec<Counted>, Refused> {
        let all = call::entries::<Key, WORDS>(self.0.as_fd(), KEPT).map_err(Refused::of)?;
        let counted = |(Key { pid, with, group }, [start_ns, counts @ ..]): (Key, [u64; WORDS])| Counted {
            pid,
            start_ns,
            with,
            group,
            counts,
        };
        Ok(all.into_iter().map(counted).collect())
    }
}
