//! Network namespaces: sockets can only be asked for from within each; network_namespaces(7).
//!
//! A socket of ours that was opened in a namespace stays there, so each is entered once, by a thread of its own. Who may not
//! enter one does not know its sockets.

use super::members::{Member, Place};
use crate::Roots;
use crate::netlink::sockets::{Diagnostics, InetSocket, Protocol};
use crate::proc::kept::Kept;
use crate::proc::{lines, number, read_file};
use rustix::fs::{CWD, Mode, OFlags, openat, readlinkat};
use rustix::io::Errno;
use rustix::thread::{LinkNameSpaceType, move_into_link_name_space};
use std::collections::HashMap;
use std::os::fd::AsFd as _;
use std::path::Path;
use std::time::{Duration, Instant};

/// Namespaces that are asked; those that come later are not known.
const MOST: usize = 32;
/// Where no packet moved, it is looked at least as often as this whether there are other sockets, or some whose queues others
/// empty.
const PATIENCE: Duration = Duration::from_secs(5);
/// Sockets are asked for at least as often as this, also where there seem to be none but those that were there.
const LONG_PATIENCE: Duration = Duration::from_secs(30);
/// Every so many readings a process that ran is asked again which namespace it is in.
const ASK_AGAIN: u64 = 64;

/// One namespace with what it answered last.
pub struct Space {
    /// Its number; nothing for the only one where the kernel has none.
    pub id: Option<i64>,
    diagnostics: Diagnostics,
    /// What it counted of TCP and of UDP at the last question.
    moved: [Vec<u8>; 2],
    /// How many sockets there were.
    numbers: Vec<u8>,
    asked: Option<Instant>,
    /// When it was looked last how many there are.
    looked: Option<Instant>,
    /// TCP sockets.
    pub tcp: Vec<InetSocket>,
    /// UDP sockets.
    pub udp: Vec<InetSocket>,
    /// Whether UDP sockets were told: some kernels are built without.
    pub datagrams_known: bool,
    /// Whether the last question was put at this reading.
    pub fresh: bool,
    /// Whether it was there when watching began: what its sockets had counted before is not ours to tell.
    pub first: bool,
}

impl Space {
    fn new(id: Option<i64>, diagnostics: Diagnostics, first: bool) -> Space {
        Space {
            id,
            diagnostics,
            moved: [vec![], vec![]],
            numbers: vec![],
            asked: None,
            looked: None,
            tcp: vec![],
            udp: vec![],
            datagrams_known: false,
            fresh: false,
            first,
        }
    }

    /// Asks for all sockets, where a segment or a datagram moved since the last time or that is long ago. Sockets that were
    /// destroyed come first: then all that ended is told, or still listed. The kernel tells of an end some microseconds after it, of a
    /// busy machine up to milliseconds: what ended just then counts at the next reading.
    fn ask(&mut self, counters: &mut Counters<'_>, destroyed: &mut Vec<InetSocket>) -> u64 {
        let lost = self.diagnostics.destroyed(destroyed);
        let text = counters.read("net/snmp");
        let of = |name: &[u8]| -> Vec<u8> {
            lines(text).filter(|line| line.starts_with(name)).flatten().copied().collect()
        };
        let moved = [of(b"Tcp:"), of(b"Udp:")];
        let unknown = moved.iter().any(Vec::is_empty) || self.asked.is_none();
        let all = unknown || lost > 0 || self.is_due(counters);
        let [tcp, udp] = [0, 1].map(|at| all || moved[at] != self.moved[at]);
        let tcp = tcp || !destroyed.is_empty();
        self.fresh = false;
        if tcp {
            self.fresh |= self.diagnostics.dump(Protocol::Tcp, &mut self.tcp).is_ok();
        }
        if udp {
            self.datagrams_known = self.diagnostics.dump(Protocol::Udp, &mut self.udp).is_ok();
            self.fresh |= self.datagrams_known;
        }
        if tcp || udp {
            self.moved = moved;
            // Who got no answer asks again at the next reading.
            if all && self.fresh {
                self.asked = Some(Instant::now());
            }
        }
        lost
    }

    /// Whether it is time to ask although nothing moved: other sockets are there, or what waits in one is taken out.
    fn is_due(&mut self, counters: &mut Counters<'_>) -> bool {
        let past = |since: Option<Instant>, time| since.is_none_or(|since| since.elapsed() >= time);
        if past(self.asked, LONG_PATIENCE) {
            return true;
        }
        if !past(self.looked.max(self.asked), PATIENCE) {
            return false;
        }
        self.looked = Some(Instant::now());
        let mut numbers = counters.read("net/sockstat").to_vec();
        numbers.extend_from_slice(counters.read("net/sockstat6"));
        // Of one that listens this is what it is ready to let wait.
        let waits = |socket: &InetSocket| socket.queue > 0 || socket.queue_most > 0 && !socket.listens();
        let others = std::mem::replace(&mut self.numbers, numbers) != self.numbers;
        others || self.numbers.is_empty() || self.tcp.iter().chain(&self.udp).any(waits)
    }

    /// Its number, 0 where the kernel has no namespaces.
    pub fn number(&self) -> i64 {
        self.id.unwrap_or(0)
    }

    /// Whether destroyed sockets are told.
    pub fn tells_ends(&self) -> bool {
        self.diagnostics.tells_ends()
    }
}

/// Files with a namespace's counters.
enum Counters<'a> {
    /// Of our own, which stay open.
    Own(&'a mut Kept),
    /// Those of a process in it, and room for what they say.
    Of(&'a Path, i64, Vec<u8>),
}

impl Counters<'_> {
    fn read(&mut self, name: &'static str) -> &[u8] {
        match self {
            Counters::Own(files) => files.read(name),
            Counters::Of(proc, pid, text) => {
                *text = read_file(&proc.join(format!("{pid}/{name}"))).unwrap_or_default();
                text
            }
        }
    }
}

/// All namespaces that visible processes are in.
#[derive(Default)]
pub struct Spaces {
    files: Option<Kept>,
    own: Option<i64>,
    tried: bool,
    reading: u64,
    /// Those that could be entered; the own one first.
    pub open: Vec<Space>,
    refused: Vec<i64>,
}

impl Spaces {
    /// Asks all of them. Gives the sockets that were destroyed, with the place of their namespace, and how often
    /// notifications were lost; nothing where sockets cannot be asked for.
    pub fn ask(&mut self, roots: &Roots, members: &mut [Member]) -> Option<(Vec<(i64, InetSocket)>, u64)> {
        let proc = &*roots.proc;
        if !std::mem::replace(&mut self.tried, true) {
            self.own = match place_of(proc, "self") {
                Place::In(id) => Some(id),
                Place::Denied | Place::Nowhere => None,
            };
            self.open.extend(Diagnostics::open().ok().map(|asks| Space::new(self.own, asks, true)));
        }
        if self.open.is_empty() {
            return None;
        }
        self.reading += 1;
        let members = self.settle(proc, members);
        let (mut all, mut found, mut lost) = (vec![], vec![], 0);
        let own = self.own;
        // The sockets of a namespace that nobody is in any more are gone with it.
        self.open.retain(|space| space.id == own || space.id.is_some_and(|id| members.contains_key(&id)));
        let files = self.files.get_or_insert_with(|| Kept::new(roots));
        for space in &mut self.open {
            let mut counters = match space.id.filter(|_| space.id != own).and_then(|id| members.get(&id)) {
                Some(pid) => Counters::Of(proc, *pid, vec![]),
                None => Counters::Own(files),
            };
            lost += space.ask(&mut counters, &mut found);
            all.extend(found.drain(..).map(|socket| (space.number(), socket)));
        }
        Some((all, lost))
    }

    /// Finds out where processes are, and enters namespaces that are new. Gives one member of each.
    fn settle(&mut self, proc: &Path, processes: &mut [Member]) -> HashMap<i64, i64> {
        let mut members = HashMap::new();
        for member in processes {
            let pid = member.key.pid;
            let again = member.ran && self.reading.wrapping_add(pid as u64).is_multiple_of(ASK_AGAIN);
            if member.place.is_none() || again {
                member.place = Some(match (member.base.kernel.value(), self.own) {
                    (Some(1), Some(own)) => Place::In(own),
                    _ => place_of(proc, &pid.to_string()),
                });
            }
            if let Some(Place::In(id)) = member.place
                && Some(id) != self.own
            {
                members.entry(id).or_insert(pid);
            }
        }
        for (id, pid) in &members {
            let known = self.open.iter().any(|space| space.id == Some(*id)) || self.refused.contains(id);
            if known || Some(*id) == self.own {
                continue;
            }
            let first = self.reading == 1;
            match (self.open.len() < MOST).then(|| enter(proc, *pid)) {
                Some(Ok(asks)) => self.open.push(Space::new(Some(*id), asks, first)),
                _ => self.refused.push(*id),
            }
        }
        self.refused.retain(|id| members.contains_key(id));
        members
    }

    /// Whether the sockets of a namespace are known; the own one's always are.
    pub fn knows(&self, place: Option<Place>) -> bool {
        match place.unwrap_or(Place::Nowhere) {
            Place::In(id) => Some(id) == self.own || self.open.iter().any(|space| space.id == Some(id)),
            Place::Denied => false,
            // The kernel has no namespaces, so there is only one.
            Place::Nowhere => true,
        }
    }

    /// The number of our own namespace.
    pub fn own(&self) -> Option<i64> {
        self.own
    }

    /// The number of a namespace that is not ours.
    pub fn foreign(&self, number: i64) -> Option<i64> {
        (number != self.own.unwrap_or(0)).then_some(number)
    }
}

fn place_of(proc: &Path, process: &str) -> Place {
    match readlinkat(CWD, proc.join(process).join("ns/net"), Vec::new()) {
        Ok(link) => {
            let bytes = link.to_bytes().strip_prefix(b"net:[").and_then(|rest| rest.strip_suffix(b"]"));
            bytes.and_then(number).map_or(Place::Nowhere, Place::In)
        }
        Err(Errno::ACCESS | Errno::PERM) => Place::Denied,
        Err(_) => Place::Nowhere,
    }
}

/// Opens sockets in the namespace of a process. The thread that entered it ends; its sockets stay.
fn enter(proc: &Path, pid: i64) -> Result<Diagnostics, Errno> {
    let flags = OFlags::RDONLY | OFlags::CLOEXEC;
    let door = openat(CWD, proc.join(pid.to_string()).join("ns/net"), flags, Mode::empty())?;
    let inside = std::thread::spawn(move || {
        move_into_link_name_space(door.as_fd(), Some(LinkNameSpaceType::Network))?;
        Diagnostics::open()
    });
    inside.join().unwrap_or(Err(Errno::IO))
}
