//! Starts and ends of processes as they happen: the process events connector; linux/cn_proc.h.

use super::{Received, Socket, bytes_at, messages, u32_at};
use dozor_core::text::{Text, clean};
use rustix::io::Errno;
use rustix::net::netlink;

/// The connector's group and number of process events; linux/connector.h.
const CN_IDX_PROC: u32 = 1;
const CN_VAL_PROC: u32 = 1;
const LISTEN: u32 = 1;
/// Bytes of `struct cn_msg` before its data, and of `struct proc_event` before its union.
const CN_HEADER: usize = 20;
const EVENT_HEADER: usize = 16;
const NLMSG_DONE: u16 = 3;
/// Kinds of events.
const FORK: u32 = 1;
const EXEC: u32 = 2;
const COMM: u32 = 0x200;
const EXIT: u32 = 0x8000_0000;

/// What happened. Threads are left out: only the first thread of a process counts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ProcessEvent {
    /// A process was started by another.
    Fork {
        /// Who started it.
        parent: i64,
        /// The new process.
        child: i64,
    },
    /// A process started another program.
    Exec {
        /// Which process.
        pid: i64,
    },
    /// A process changed its name.
    Name {
        /// Which process.
        pid: i64,
        /// The new name.
        name: Text,
    },
    /// A process ended.
    Exit {
        /// Which process.
        pid: i64,
        /// Its parent at that time, where the kernel says.
        parent: Option<i64>,
    },
}

/// Hears of starts and ends.
pub struct Events(Socket);

impl Events {
    /// Joins the group; needs `CAP_NET_ADMIN`, and that the kernel has the connector.
    pub fn open() -> Result<Events, Errno> {
        let socket = Socket::open(netlink::CONNECTOR, CN_IDX_PROC)?;
        let mut request = vec![];
        for number in [CN_IDX_PROC, CN_VAL_PROC, 0, 0] {
            request.extend(number.to_ne_bytes());
        }
        request.extend(4u16.to_ne_bytes());
        request.extend(0u16.to_ne_bytes());
        request.extend(LISTEN.to_ne_bytes());
        socket.send(NLMSG_DONE, 0, &request)?;
        Ok(Events(socket))
    }

    /// What happened since the last call, in order; and how often events were lost.
    pub fn take(&mut self, events: &mut Vec<ProcessEvent>) -> u64 {
        events.clear();
        let mut overruns = 0;
        loop {
            match self.0.receive() {
                Ok(Received::Bytes(bytes)) => {
                    events.extend(messages(bytes).filter_map(|message| parse(message.payload)));
                }
                Ok(Received::Overrun) => overruns += 1,
                Ok(Received::Nothing) | Err(_) => return overruns,
            }
        }
    }
}

fn parse(payload: &[u8]) -> Option<ProcessEvent> {
    let event = payload.get(CN_HEADER..)?;
    let field = |at: usize| u32_at(event, EVENT_HEADER + 4 * at).map(i64::from);
    let first_thread = |pid: i64, group: i64| (pid == group).then_some(pid);
    Some(match u32_at(event, 0)? {
        FORK => ProcessEvent::Fork { parent: field(1)?, child: first_thread(field(2)?, field(3)?)? },
        EXEC => ProcessEvent::Exec { pid: first_thread(field(0)?, field(1)?)? },
        COMM => {
            let pid = first_thread(field(0)?, field(1)?)?;
            let name: [u8; 16] = bytes_at(event, EVENT_HEADER + 8)?;
            let end = name.iter().position(|byte| *byte == 0).unwrap_or(name.len());
            ProcessEvent::Name { pid, name: clean(&name[..end]).into() }
        }
        EXIT => ProcessEvent::Exit {
            pid: first_thread(field(0)?, field(1)?)?,
            parent: field(5).filter(|p| *p > 0),
        },
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn event(what: u32, fields: &[u32]) -> Vec<u8> {
        let mut bytes = vec![0; CN_HEADER];
        bytes.extend(what.to_ne_bytes());
        bytes.extend([0; 12]);
        for field in fields {
            bytes.extend(field.to_ne_bytes());
        }
        bytes
    }

    #[test]
    fn events_of_processes_are_read_and_those_of_threads_left_out() {
        assert_eq!(parse(&event(FORK, &[5, 5, 9, 9])), Some(ProcessEvent::Fork { parent: 5, child: 9 }));
        assert_eq!(parse(&event(FORK, &[5, 5, 10, 9])), None, "a thread");
        assert_eq!(parse(&event(EXEC, &[9, 9])), Some(ProcessEvent::Exec { pid: 9 }));
        assert_eq!(
            parse(&event(EXIT, &[9, 9, 0, 17, 5, 5])),
            Some(ProcessEvent::Exit { pid: 9, parent: Some(5) })
        );
        assert_eq!(parse(&event(EXIT, &[9, 9, 0, 17])), Some(ProcessEvent::Exit { pid: 9, parent: None }));
        let mut named = event(COMM, &[9, 9]);
        named.extend(b"plate\x1bsolve\0\0\0\0\0");
        assert_eq!(parse(&named), Some(ProcessEvent::Name { pid: 9, name: "plate\\x1bsolve".into() }));
        for cut in 0..named.len() {
            assert_eq!(parse(&named[..cut]), None);
        }
    }
}
