//! What processes hand to block devices, counted where they do it.
//!
//! Counted is what somebody asks for, not what is split up, passed on by a device made of others, or issued later by a worker
//! of the kernel: so it is the right process, and each byte counts once.

use super::btf::Btf;
use super::call;
use super::code::{Code, Helper, Label, Operation, Register, When, Width};
use super::layout::Layout;
use super::refused::Refused;
use Register::{FP, R0, R1, R2, R3, R4, R6, R7, R8, R9};
use Width::{Eight, Four, Two};
use std::os::fd::{AsFd as _, AsRawFd as _, OwnedFd};

/// Processes and devices that are kept at a time; of those that were quiet for longest what follows is counted anew.
const KEPT: u32 = 8 << 10;
/// Bytes of what names a process and a device, and words of what is counted: since when the process is there, bytes read and
/// written, requests.
const KEY: u32 = 8;
const WORDS: usize = 4;
const KEY_AT: i16 = -8;
const VALUE_AT: i16 = KEY_AT - 8 * WORDS as i16;
/// Flag of what a device made of others passes on, and operations; include/linux/blk_types.h.
const CLONED: i32 = 1 << 1;
const OPERATION: i32 = 0xff;
const READ: i32 = 0;
const WRITE: i32 = 1;
const APPEND: i32 = 7;
/// Structures and places that are looked up.
pub const NAMES: [&str; 5] = ["task_struct", "bio", "block_device", "gendisk", "btf_trace_block_bio_queue"];

/// What a process handed to a device.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Handed {
    /// The process, and when it started in nanoseconds after boot.
    pub pid: u32,
    /// When it started.
    pub start_ns: u64,
    /// The device as the kernel numbers it: 12 bits of its kind above 20 bits.
    pub device: u32,
    /// Bytes read and written, and requests of both kinds.
    pub counts: [u64; 3],
}

/// Counts what is handed to block devices.
pub struct Requests {
    counts: OwnedFd,
    _attached: OwnedFd,
}

fn ask(code: &mut Code, counts: i32) {
    code.map(R1, counts).register(Operation::Set, R2, FP).number(Operation::Add, R2, i32::from(KEY_AT));
}

fn program(layout: Layout<'_>, counts: i32) -> Result<Vec<u64>, Refused> {
    let of_bio = |path| layout.need("bio", path);
    let (flags, size, kind) = (of_bio("bi_flags")?, of_bio("bi_iter.bi_size")?, of_bio("bi_opf")?);
    let (at, disk) = (of_bio("bi_bdev")?, layout.need("block_device", "bd_disk")?);
    let (whole, device) = (layout.need("gendisk", "part0")?, layout.need("block_device", "bd_dev")?);
    let task = |path| layout.need("task_struct", path);
    let (leader, number, start) = (task("group_leader")?, task("tgid")?, task("start_boottime")?);
    let mut code = Code::default();
    let [out, reads, known, fresh, counted]: [Label; 5] = std::array::from_fn(|_| code.label());
    code.load(Eight, R6, R1, 0).load(Two, R1, R6, flags.offset).number(Operation::And, R1, CLONED);
    code.jump_if(R1, When::Different, 0, out).load(Four, R8, R6, size.offset);
    // Orders that move nothing.
    code.jump_if(R8, When::Equal, 0, out).load(Four, R9, R6, kind.offset);
    code.number(Operation::And, R9, OPERATION);
    let moves = code.label();
    for operation in [READ, WRITE, APPEND] {
        code.jump_if(R9, When::Equal, operation, moves);
    }
    code.jump(out).here(moves).load(Eight, R1, R6, at.offset).load(Eight, R1, R1, disk.offset);
    code.load(Eight, R1, R1, whole.offset).load(Four, R1, R1, device.offset).store(Four, FP, KEY_AT + 4, R1);
    code.call(Helper::GetCurrentTaskBtf).load(Eight, R7, R0, leader.offset);
    code.load(Four, R1, R7, number.offset).store(Four, FP, KEY_AT, R1).load(Eight, R7, R7, start.offset);
    ask(&mut code, counts);
    code.call(Helper::MapLookupElem).jump_if(R0, When::Equal, 0, fresh).load(Eight, R1, R0, 0);
    // The number of a process that is gone came again.
    code.jump_if_register(R1, When::Equal, R7, known).here(fresh).store(Eight, FP, VALUE_AT, R7);
    for word in 1..WORDS as i16 {
        code.put(Eight, FP, VALUE_AT + word * 8, 0);
    }
    ask(&mut code, counts);
    code.register(Operation::Set, R3, FP).number(Operation::Add, R3, i32::from(VALUE_AT));
    code.number(Operation::Set, R4, 0).call(Helper::MapUpdateElem);
    ask(&mut code, counts);
    code.call(Helper::MapLookupElem).jump_if(R0, When::Equal, 0, out);
    code.here(known).jump_if(R9, When::Equal, READ, reads).add_to(R0, 16, R8).jump(counted);
    code.here(reads).add_to(R0, 8, R8).here(counted).number(Operation::Set, R1, 1).add_to(R0, 24, R1);
    code.here(out).end(0);
    Ok(code.finish())
}

impl Requests {
    /// Puts the program together and loads it.
    pub fn load(btf: &Btf) -> Result<Requests, Refused> {
        let counts = call::recent(KEPT, KEY, 8 * WORDS as u32).map_err(Refused::of)?;
        let instructions = program(Layout(btf), counts.as_raw_fd())?;
        let place = btf.tracepoint("btf_trace_block_bio_queue").ok_or(Refused::Kernel)?;
        let program = call::load_tracepoint(&instructions, place).map_err(Refused::said)?;
        let attached = call::attach(program.as_fd()).map_err(Refused::of)?;
        Ok(Requests { counts, _attached: attached })
    }

    /// What was counted so far, in no order.
    pub fn counted(&self) -> Result<Vec<Handed>, Refused> {
        let all = call::entries::<[u32; 2], WORDS>(self.counts.as_fd(), KEPT).map_err(Refused::of)?;
        let handed = |(key, counted): ([u32; 2], [u64; WORDS])| {
            let ([pid, device], [start_ns, counts @ ..]) = (key, counted);
            Handed { pid, start_ns, device, counts }
        };
        Ok(all.into_iter().map(handed).collect())
    }
}
