//! What processes receive and send over UDP, counted where their calls end: the kernel itself counts it for nobody.
//!
//! Counted is what is handed over, without headers; what a call only looked at counts when it is taken. Kernels before 6.3 do not
//! say so of each call. It makes every call on any socket of the machine some tens of nanoseconds longer.

use super::attached::Attached;
use super::btf::Btf;
use super::code::{Code, Operation, Register, When, Width};
use super::layout::Layout;
use super::refused::Refused;
use super::tally::{COUNTS, Counted, GROUP, Tally, WITH};
use Register::{FP, R0, R1, R6, R8};
use Width::{Eight, Four, Two};

/// netinet/in.h, sys/socket.h.
const UDP: i32 = 17;
const INET: i32 = 2;
const INET6: i32 = 10;
/// Flags of calls that only look, or learn what became of what was sent.
const PEEK: i32 = 0x2;
const ERRQUEUE: i32 = 0x2000;
/// Places where bytes are counted: received, and sent.
const PLACES: [&str; 2] = ["btf_trace_sock_recv_length", "btf_trace_sock_send_length"];
/// Structures and places that are looked up.
pub const NAMES: [&str; 4] = ["task_struct", "sock", PLACES[0], PLACES[1]];

/// Counts bytes over UDP.
pub struct Datagrams {
    tally: Tally,
    attached: [Attached; 2],
}

fn program(layout: Layout<'_>, tally: &Tally, count: i16) -> Result<Vec<u64>, Refused> {
    let [protocol, family] = ["sk_protocol", "__sk_common.skc_family"].map(|path| layout.need("sock", path));
    let mut code = Code::default();
    let [out, inet] = std::array::from_fn(|_| code.label());
    // What is told: the socket, the bytes that the call gave or took, or an error below zero, in 32 bits, and how it was called.
    code.load(Eight, R6, R1, 0).load(Eight, R8, R1, 8).load(Eight, R1, R1, 16);
    code.number(Operation::And, R1, PEEK | ERRQUEUE).jump_if(R1, When::Different, 0, out);
    code.number(Operation::ShiftLeft, R8, 32);
    code.number(Operation::ShiftRight, R8, 32).jump_if(R8, When::Equal, 0, out);
    code.register(Operation::Set, R1, R8).number(Operation::ShiftRight, R1, 31);
    code.jump_if(R1, When::Different, 0, out);
    code.load(Two, R1, R6, protocol?.offset).jump_if(R1, When::Different, UDP, out);
    code.load(Two, R1, R6, family?.offset).jump_if(R1, When::Equal, INET, inet);
    code.jump_if(R1, When::Different, INET6, out).here(inet).put(Four, FP, WITH, 0).put(Eight, FP, GROUP, 0);
    tally.of_this_process(&mut code, layout, out)?;
    code.add_to(R0, count, R8).here(out).end(0);
    Ok(code.finish())
}

impl Datagrams {
    /// Puts the programs together and loads them.
    pub fn load(btf: &Btf) -> Result<Datagrams, Refused> {
        let tally = Tally::new()?;
        let attached =
            |(place, count): (&str, i16)| Attached::at(btf, place, &program(Layout(btf), &tally, count)?);
        let [receives, sends] = [(PLACES[0], COUNTS[0]), (PLACES[1], COUNTS[1])].map(attached);
        Ok(Datagrams { attached: [receives?, sends?], tally })
    }

    /// How many calls on any socket were not looked at.
    pub fn missed(&self) -> u64 {
        self.attached.iter().map(Attached::missed).sum()
    }

    /// Bytes received and sent so far, by process, in no order.
    pub fn counted(&self) -> Result<Vec<Counted>, Refused> {
        self.tally.counted()
    }
}
