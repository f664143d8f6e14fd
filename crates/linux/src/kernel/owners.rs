//! Whose TCP connections are, as the kernel saw them opened or closed: also of those that live for a millisecond.
//!
//! Whoever opens one does so itself. One that was accepted belongs to whoever closes it; one that the other side resets is
//! closed by nobody. A connection that is over while somebody holds its descriptor is in no list of the kernel's until that is
//! closed: what went over it is told as it ends.

use super::attached::Attached;
use super::btf::Btf;
use super::call;
use super::code::{Code, Helper, Operation, Register, When, Width};
use super::layout::Layout;
use super::refused::Refused;
use super::ring::Ring;
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
/// The state in which it is over.
const CLOSE: i32 = 7;
/// Bytes of the ring of those that are over, and words of each.
const RING: u32 = 64 << 10;
const WORDS: i16 = 5;
/// netinet/in.h.
const TCP: i32 = 6;
/// Structures and places that are looked up.
pub const NAMES: [&str; 5] = ["task_struct", "sock", "tcp_sock", "net", PLACE];
const PLACE: &str = "btf_trace_inet_sock_set_state";

/// Notes whose connections are.
pub struct Owners {
    kept: OwnedFd,
    _attached: Attached,
    /// Connections that are over and held, where this kernel lets a program tell of them.
    finished: Option<(Ring, Attached)>,
}

/// A connection that is over while somebody holds it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Finished {
    /// Its namespace and its cookie.
    pub socket: (i64, u64),
    /// Bytes of data that were received, with the other side's end as a byte.
    pub received: u64,
    /// Bytes of data that were sent, each once.
    pub sent: u64,
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

/// Tells of connections that are finished and held.
fn program_finished(layout: Layout<'_>, ring: i32) -> Result<Vec<u64>, Refused> {
    let of_socket = |path| layout.need("sock", path);
    let (protocol, held) = (of_socket("sk_protocol")?, of_socket("sk_socket")?);
    let (net, space) = (of_socket("__sk_common.skc_net.net")?, layout.need("net", "ns.inum")?);
    let mut code = Code::default();
    let out = code.label();
    code.load(Eight, R7, R1, 0).load(Eight, R8, R1, 16).jump_if(R8, When::Different, CLOSE, out);
    code.load(Two, R1, R7, protocol.offset).jump_if(R1, When::Different, TCP, out);
    code.load(Eight, R1, R7, held.offset).jump_if(R1, When::Equal, 0, out);
    let place = |word: i16| (word - WORDS) * 8;
    code.register(Operation::Set, R1, R7).call(Helper::GetSocketCookie).store(Eight, FP, place(0), R0);
    code.load(Eight, R1, R7, net.offset).load(Four, R1, R1, space.offset).store(Eight, FP, place(1), R1);
    // A socket of TCP is longer than what such a program may look at.
    for (word, path) in [(2, "bytes_received"), (3, "bytes_sent"), (4, "bytes_retrans")] {
        let field = layout.need("tcp_sock", path)?;
        code.register(Operation::Set, R1, FP).number(Operation::Add, R1, i32::from(place(word)));
        code.number(Operation::Set, R2, 8).register(Operation::Set, R3, R7);
        code.number(Operation::Add, R3, i32::from(field.offset)).call(Helper::ProbeReadKernel);
    }
    code.map(R1, ring).number(Operation::Set, R2, i32::from(WORDS) * 8);
    code.number(Operation::Set, R3, 0).call(Helper::RingbufReserve).jump_if(R0, When::Equal, 0, out);
    for word in 0..WORDS {
        code.load(Eight, R1, FP, place(word)).store(Eight, R0, word * 8, R1);
    }
    code.register(Operation::Set, R1, R0).number(Operation::Set, R2, 0).call(Helper::RingbufSubmit);
    code.here(out).end(0);
    Ok(code.finish())
}

fn load_finished(btf: &Btf) -> Result<(Ring, Attached), Refused> {
    let ring = Ring::new(RING).map_err(Refused::of)?;
    let instructions = program_finished(Layout(btf), ring.descriptor())?;
    let attached = Attached::at(btf, PLACE, &instructions)?;
    Ok((ring, attached))
}

impl Owners {
    /// Puts the programs together and loads them.
    pub fn load(btf: &Btf) -> Result<Owners, Refused> {
        let kept = call::recent(KEPT, KEY, VALUE).map_err(Refused::of)?;
        let instructions = program(Layout(btf), kept.as_raw_fd())?;
        let attached = Attached::at(btf, PLACE, &instructions)?;
        Ok(Owners { kept, _attached: attached, finished: load_finished(btf).ok() })
    }

    /// Connections that were over since the last call while somebody held them.
    pub fn finished(&mut self) -> Vec<Finished> {
        let mut all = vec![];
        let Some((ring, _)) = &mut self.finished else { return all };
        ring.take(|record| {
            let word = |at: usize| record.get(at * 8..at * 8 + 8)?.try_into().ok().map(u64::from_ne_bytes);
            let (Some(cookie), Some(space), Some(received), Some(sent), Some(again)) =
                (word(0), word(1), word(2), word(3), word(4))
            else {
                return;
            };
            all.push(Finished { socket: (space as i64, cookie), received, sent: sent.saturating_sub(again) });
        });
        all
    }

    /// Whose a connection was, by its namespace and cookie: the number of a process, and when it started in nanoseconds after
    /// boot. None of connections that were opened before anybody noted, or too long ago.
    pub fn of(&self, space: u64, cookie: u64) -> Option<(u32, u64)> {
        let [pid, start] = call::get(self.kept.as_fd(), &[cookie, space]).ok()?;
        Some((pid as u32, start))
    }
}
