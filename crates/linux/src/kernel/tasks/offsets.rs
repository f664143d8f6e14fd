//! Where the kernel keeps what belongs to each core.

use crate::kernel::call;
use crate::kernel::code::{Code, Helper, Operation, Register, When, Width};
use crate::kernel::layout::Layout;
use Register::{FP, R0, R1, R2, R3, R6, R7, R8};
use Width::Eight;
use std::os::fd::{AsFd as _, AsRawFd as _};

/// How far each core's own part of the memory is from where the kernel's pointers to such parts point. No symbol of the
/// kernel is needed: a map with a part for each core knows both its pointer and where the parts are.
pub fn offsets(layout: Layout<'_>, function: u32, cores: usize) -> Option<Vec<u64>> {
    // The pointers of such a map follow its description.
    let first = i32::try_from(layout.0.bytes("bpf_array")?).ok()?;
    let map = call::of_cores(8).ok()?;
    let [meta, task] = ["meta", "task"].map(|path| layout.has("bpf_iter__task", path));
    let file = layout.has("bpf_iter_meta", "seq")?;
    let mut code = Code::default();
    let (out, next) = (code.label(), code.label());
    let write = |code: &mut Code, from: i16| {
        code.register(Operation::Set, R1, R6).register(Operation::Set, R2, FP);
        code.number(Operation::Add, R2, i32::from(from)).number(Operation::Set, R3, 8).call(Helper::SeqWrite);
    };
    let copy = |code: &mut Code, to: i16| {
        code.register(Operation::Set, R1, FP).number(Operation::Add, R1, i32::from(to));
        code.number(Operation::Set, R2, 8).call(Helper::ProbeReadKernel);
    };
    code.load(Eight, R6, R1, meta?.offset).load(Eight, R7, R1, task?.offset);
    code.jump_if(R7, When::Equal, 0, out).load(Eight, R6, R6, file.offset);
    // A pointer on the stack becomes a number by being copied.
    code.put(Eight, FP, -16, 0).put(Eight, FP, -24, 0).map(R1, map.as_raw_fd()).store(Eight, FP, -8, R1);
    code.register(Operation::Set, R3, FP).number(Operation::Add, R3, -8);
    copy(&mut code, -16);
    code.load(Eight, R3, FP, -16).number(Operation::Add, R3, first);
    copy(&mut code, -24);
    write(&mut code, -24);
    code.number(Operation::Set, R8, 0).here(next).put(Eight, FP, -16, 0);
    code.map(R1, map.as_raw_fd()).register(Operation::Set, R2, FP).number(Operation::Add, R2, -16);
    code.register(Operation::Set, R3, R8).call(Helper::MapLookupPercpuElem);
    code.jump_if(R0, When::Equal, 0, out).store(Eight, FP, -8, R0);
    write(&mut code, -8);
    code.number(Operation::Add, R8, 1).jump_if(R8, When::Below, cores as i32, next);
    code.here(out).end(0);
    let program = call::load_iterator(&code.finish(), function).ok()?;
    let link = call::link_iterator(program.as_fd()).ok()?;
    // The first task has told all that is asked.
    let mut told = vec![0; 8 * (cores + 1)];
    let got = rustix::io::read(call::walk(link.as_fd()).ok()?, &mut told[..]).ok()?;
    let words: Vec<u64> =
        told.get(..got)?.as_chunks().0.iter().map(|word| u64::from_ne_bytes(*word)).collect();
    let (pointer, places) =
        words.split_first().filter(|(pointer, places)| **pointer != 0 && places.len() == cores)?;
    Some(places.iter().map(|place| place.wrapping_sub(*pointer)).collect())
}
