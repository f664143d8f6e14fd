//! What processes hand to block devices, counted where they do it.
//!
//! Counted is what somebody asks for, not what is split up, passed on by a device made of others, or issued later by a worker
//! of the kernel: so it is the right process, and each byte counts once. Where that is done for another control group than that of
//! the process (a worker of the kernel writes out what a group left in memory), the group is noted too.

use super::attached::Attached;
use super::btf::Btf;
use super::code::{Code, Helper, Label, Operation, Register, When, Width};
use super::layout::Layout;
use super::refused::Refused;
use super::tally::{COUNTS, Counted, GROUP, Tally, WITH};
use Register::{FP, R0, R1, R6, R7, R8, R9};
use Width::{Eight, Four, Two};

/// Flag of what a device made of others passes on, and operations; include/linux/blk_types.h.
const CLONED: i32 = 1 << 1;
const OPERATION: i32 = 0xff;
const READ: i32 = 0;
const WRITE: i32 = 1;
const APPEND: i32 = 7;
/// Structures and places that are looked up.
pub const NAMES: [&str; 12] = [
    "task_struct",
    "bio",
    "block_device",
    "gendisk",
    "btf_trace_block_bio_queue",
    "blkcg_gq",
    "blkcg",
    "css_set",
    "cgroup_subsys_state",
    "cgroup",
    "kernfs_node",
    CONTROLLERS,
];
/// Controllers of control groups by number, and that of block devices among them.
const CONTROLLERS: &str = "cgroup_subsys_id";
const OF_DEVICES: &str = "io_cgrp_id";

/// Counts what is handed to block devices, by process and by the device as the kernel numbers it (12 bits of its kind above 20
/// bits): bytes read and written, and requests of both kinds.
pub struct Requests {
    tally: Tally,
    attached: Attached,
}

/// Puts the number of the control group that a request is for to the key, 0 where it is that of who asks; nothing where this kernel
/// does not count requests by group. Uses `R7`.
fn note_group(code: &mut Code, layout: Layout<'_>) -> Option<()> {
    let number = layout.0.enumerator(CONTROLLERS, OF_DEVICES)?;
    let of = |of, path| Some(layout.has(of, path)?.offset);
    let (group, number_of) = (of("cgroup", "kn")?, of("kernfs_node", "id")?);
    let request = [of("bio", "bi_blkg")?, of("blkcg_gq", "blkcg")?, of("blkcg", "css.cgroup")?];
    let own = [
        of("task_struct", "cgroups")?,
        of("css_set", &format!("subsys[{number}]"))?,
        of("cgroup_subsys_state", "cgroup")?,
    ];
    let same = code.label();
    // What leads nowhere reads as 0 in such programs.
    code.register(Operation::Set, R7, R6);
    for at in request.into_iter().chain([group, number_of]) {
        code.load(Eight, R7, R7, at);
    }
    code.jump_if(R7, When::Equal, 0, same).call(Helper::GetCurrentTaskBtf);
    for at in own.into_iter().chain([group, number_of]) {
        code.load(Eight, R0, R0, at);
    }
    code.jump_if_register(R0, When::Equal, R7, same).store(Eight, FP, GROUP, R7).here(same);
    Some(())
}

fn program(layout: Layout<'_>, tally: &Tally, with_group: bool) -> Result<Vec<u64>, Refused> {
    let of_bio = |path| layout.need("bio", path);
    let (flags, size, kind) = (of_bio("bi_flags")?, of_bio("bi_iter.bi_size")?, of_bio("bi_opf")?);
    let (at, disk) = (of_bio("bi_bdev")?, layout.need("block_device", "bd_disk")?);
    let (whole, device) = (layout.need("gendisk", "part0")?, layout.need("block_device", "bd_dev")?);
    let mut code = Code::default();
    let [out, reads, counted]: [Label; 3] = std::array::from_fn(|_| code.label());
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
    code.load(Eight, R1, R1, whole.offset).load(Four, R1, R1, device.offset).store(Four, FP, WITH, R1);
    code.put(Eight, FP, GROUP, 0);
    if with_group {
        let _ = note_group(&mut code, layout);
    }
    tally.of_this_process(&mut code, layout, out)?;
    code.jump_if(R9, When::Equal, READ, reads).add_to(R0, COUNTS[1], R8).jump(counted);
    code.here(reads).add_to(R0, COUNTS[0], R8).here(counted);
    code.number(Operation::Set, R1, 1).add_to(R0, COUNTS[2], R1);
    code.here(out).end(0);
    Ok(code.finish())
}

impl Requests {
    /// Puts the program together and loads it.
    pub fn load(btf: &Btf) -> Result<Requests, Refused> {
        let tally = Tally::new()?;
        let load = |with_group| {
            let instructions = program(Layout(btf), &tally, with_group)?;
            Attached::at(btf, "btf_trace_block_bio_queue", &instructions)
        };
        // A kernel that does not let a program go from a request to its group counts without.
        let attached = load(true).or_else(|_| load(false))?;
        Ok(Requests { tally, attached })
    }

    /// How many requests of anybody were not counted.
    pub fn missed(&self) -> u64 {
        self.attached.missed()
    }

    /// What was counted so far, in no order.
    pub fn counted(&self) -> Result<Vec<Counted>, Refused> {
        self.tally.counted()
    }
}
