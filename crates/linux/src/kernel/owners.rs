//! Whose TCP connections are, as the kernel saw them opened or closed: also of those that live for a millisecond.
//!
//! Whoever opens one does so itself. One that was accepted belongs to whoever closes it; one that the other side resets is
//! closed by nobody.

use super::attached::Attached;
use super::btf::Btf;
use super::call;
use super::code::{Code, Helper, Operation, Register, When, Width};
use super::layout::Layout;
use super::refused::Refused;
use Register::{FP, R0, R1, R2, R3, R4, R6, R7, R8, R9};
use Width::{Eight, Four, Two};
use std::os::fd::{AsFd as _, AsRawFd as _, OwnedFd};

/// Connections that are kept: those of a busy second or two.
const KEPT: u32 = 32 << 10;
/// Bytes of what names a connection, and of what is kept of it: numbers of a process and when it started.
const KEY: u32 = 16;
const VALUE: u32 = 16;
const KEY_AT: i16 = -16;
const VALUE_AT: i16 = -32;
/// States that a process brings about itself; net/tcp_states.h.
const SYN_SENT: i32 = 2;
const FIN_WAIT1: i32 = 4;
const LAST_ACK: i32 = 9;
/// netinet/in.h.
const TCP: i32 = 6;
/// Structures and places that are looked up.
pub const NAMES: [&str; 4] = ["task_struct", "sock", "net", "btf_trace_inet_sock_set_state"];

/// Notes whose connections are.
pub struct Owners {
    kept: OwnedFd,
    _attached: Attached,
}

fn program(layout: Layout<'_>, kept: i32) -> Result<Vec<u64>, Refused> {
    let [protocol, net] = ["sk_protocol", "__sk_common.skc_net.net"].map(|path| layout.need("sock", path));
    let space = layout.need("net", "ns.inum")?;
    let [leader, number, start] =
        ["group_leader", "tgid", "start_boottime"].map(|path| layout.need("task_struct", path));
    let mut code = Code::default();
    let [out, opens, closes, goes_on] = std::array::from_fn(|_| code.label());
    code.load(Eight, R7, R1, 0).load(Eight, R8, R1, 16);
    code.jump_if(R8, When::Equal, SYN_SENT, opens).jump_if(R8, When::Equal, FIN_WAIT1, closes);
    code.jump_if(R8, When::Different, LAST_ACK, out);
    // Who opened one is not forgotten for who closes it: flags in include/uapi/linux/bpf.h.
    code.here(closes).number(Operation::Set, R9, 1).jump(goes_on);
    code.here(opens).number(Operation::Set, R9, 0).here(goes_on);
    code.load(Two, R1, R7, protocol?.offset).jump_if(R1, When::Different, TCP, out);
    code.register(Operation::Set, R1, R7).call(Helper::GetSocketCookie).store(Eight, FP, KEY_AT, R0);
    code.load(Eight, R1, R7, net?.offset).load(Four, R1, R1, space.offset).store(Eight, FP, KEY_AT + 8, R1);
    code.call(Helper::GetCurrentTaskBtf).load(Eight, R6, R0, leader?.offset);
    code.load(Four, R1, R6, number?.offset).store(Eight, FP, VALUE_AT, R1);
    code.load(Eight, R1, R6, start?.offset).store(Eight, FP, VALUE_AT + 8, R1);
    code.map(R1, kept).register(Operation::Set, R2, FP).number(Operation::Add, R2, i32::from(KEY_AT));
    code.register(Operation::Set, R3, FP).number(Operation::Add, R3, i32::from(VALUE_AT));
    code.register(Operation::Set, R4, R9).call(Helper::MapUpdateElem).here(out).end(0);
    Ok(code.finish())
}

impl Owners {
    /// Puts the program together and loads it.
    pub fn load(btf: &Btf) -> Result<Owners, Refused> {
        let kept = call::recent(KEPT, KEY, VALUE).map_err(Refused::of)?;
        let instructions = program(Layout(btf), kept.as_raw_fd())?;
        let attached = Attached::at(btf, "btf_trace_inet_sock_set_state", &instructions)?;
        Ok(Owners { kept, _attached: attached })
    }

    /// Whose a connection was, by its namespace and cookie: the number of a process, and when it started in nanoseconds after
    /// boot. None of connections that were opened before anybody noted, or too long ago.
    pub fn of(&self, space: u64, cookie: u64) -> Option<(u32, u64)> {
        let [pid, start] = call::get(self.kept.as_fd(), &[cookie, space]).ok()?;
        Some((pid as u32, start))
    }
}
