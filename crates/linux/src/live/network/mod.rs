//! Traffic of processes: sockets with their bytes, tied to processes by inode.
//!
//! Only sockets that are new are looked for, first among the processes that ran since the last reading, then once
//! among all. A connection that came and went between two readings is known by its end alone, which names no process: what
//! came in through a port where somebody listens is that one's; what went out is that of whoever opens such connections to
//! the same address. What cannot be tied to a process is counted as such, never dropped.

mod datagrams;
mod guesses;
mod holders;
mod members;
mod spaces;

use crate::Roots;
use crate::clock::ticks;
use crate::kernel::owners::{Finished, Owners};
use crate::kernel::{self, How, Later};
use crate::netlink::sockets::{InetSocket, Protocol};
use crate::users::Users;
use datagrams::Datagrams;
use dozor_core::known::Raw;
use dozor_core::reading::{ConnectionRow, ListenerRow, ProcessKey, ProcessRow, Reading};
use dozor_core::row::Row as _;
use dozor_core::text::{Text, no_text};
use dozor_core::wanted::{Demand, Wanted};
use guesses::{Guesses, Whose};
use holders::{Holders, of_several};
use members::{Bytes, Member, Place, SocketKey, counts};
use spaces::Spaces;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::Path;
use std::sync::Arc;

/// Every so many readings it is looked again who holds the sockets that moved bytes, and all processes are asked for sockets
/// that nobody was found for.
const ASK_ALL_EVERY: u64 = 8;
/// PIDs of further holders that a row names.
const NAMED: usize = 64;

/// A socket that a dump has shown.
struct Known {
    inode: u32,
    protocol: Protocol,
    /// All who hold it.
    holders: Vec<ProcessKey>,
    remote: (std::net::SocketAddr, bool),
    counted: Bytes,
    drops: u32,
    /// What waits for an owner.
    unowned: Bytes,
    /// How often an owner was looked for.
    searches: u8,
    /// Whether it moved bytes since its holders were looked at.
    moved: bool,
    /// Whether somebody else may have sent: none of its holders ran (the kernel sent what they left there, or it was handed on), or
    /// it is new.
    maybe_passed_on: bool,
    /// The reading at which it was asked last whether it was handed on.
    asked: u64,
    /// Number of the reading that showed it first, and last.
    first: u64,
    seen: u64,
}

impl Known {
    /// One that no dump has shown, which is over and held.
    fn finished(owner: ProcessKey, counted: Bytes, reading: u64) -> Known {
        Known {
            inode: 0,
            protocol: Protocol::Tcp,
            holders: vec![owner],
            remote: (std::net::SocketAddr::from(([0; 4], 0)), false),
            counted,
            drops: 0,
            unowned: Bytes::default(),
            searches: 0,
            moved: false,
            maybe_passed_on: false,
            asked: reading,
            first: reading,
            seen: reading,
        }
    }

    /// What it counted since it was looked at last. What it says may go back at its end, when it is only growth that counts.
    fn grow(&mut self, now: Bytes) -> Bytes {
        let grown = now.since(self.counted);
        self.counted.received = self.counted.received.max(now.received);
        self.counted.sent = self.counted.sent.max(now.sent);
        grown
    }

    /// Whom its bytes are counted for; `ran` are those that ran since the last reading.
    fn owner(&self, ran: &HashSet<ProcessKey>) -> Option<ProcessKey> {
        match &self.holders[..] {
            [] => None,
            [only] => Some(*only),
            several => of_several(several, ran),
        }
    }
}

/// Counts traffic by process.
#[derive(Default)]
pub struct Network {
    spaces: Spaces,
    reading: u64,
    members: Vec<Member>,
    /// Those of them that ran since the last reading.
    ran: HashSet<ProcessKey>,
    sockets: HashMap<SocketKey, Known>,
    /// Those that the last reading told as destroyed.
    destroyed: HashSet<SocketKey>,
    accounts: HashMap<ProcessKey, Bytes>,
    /// Those of processes that ended since the last reading.
    gone: HashMap<ProcessKey, Bytes>,
    /// Those of processes that no reading has shown, and since which reading: their end is told with them, at this one or the
    /// next.
    late: HashMap<ProcessKey, (Bytes, u64)>,
    by_kernel: How,
    owners: Later<Owners>,
    datagrams: Datagrams,
    guesses: Guesses,
    /// What no process was found for, by user where that is known.
    unattributed: BTreeMap<Option<u32>, Bytes>,
    users: Users,
    lost: u64,
    /// Rows of the last readings, given again where nothing moved.
    connections: Vec<ConnectionRow>,
    listeners: Vec<ListenerRow>,
}

impl Network {
    /// Whether a program in the kernel is to note whose connections are.
    pub fn ask_kernel(&mut self, how: How) {
        self.by_kernel = how;
    }

    /// Nobody wants to know of traffic; how it is known is kept.
    pub fn silence(&mut self) {
        *self = Network { by_kernel: self.by_kernel, ..Network::default() };
    }

    /// How often notifications were lost so far.
    pub fn lost(&self) -> u64 {
        self.lost
    }

    /// Adds traffic to a reading whose processes are complete.
    pub fn complete(&mut self, roots: &Roots, wanted: Wanted, reading: &mut Reading) {
        let proc = &*roots.proc;
        self.owners.begin(self.by_kernel, roots, kernel::owners);
        self.owners.arrives();
        self.meet(&reading.processes);
        let mut datagrams = std::mem::take(&mut self.datagrams);
        let moved = reading.system.udp_in.value().zip(reading.system.udp_out.value());
        datagrams.count(wanted.has(Demand::Datagrams), moved.map(|(received, sent)| received + sent));
        datagrams.take(self.by_kernel, roots, |key| self.is_there(key));
        reading.system.datagrams_missed = datagrams.missed();
        self.datagrams = datagrams;
        // Before those that are destroyed: what is told of both counts once.
        let finished = self.owners.get_mut().map(Owners::finished).unwrap_or_default();
        let Some((destroyed, lost)) = self.spaces.ask(roots, &mut self.members) else { return };
        self.reading += 1;
        self.lost += lost;
        let fresh = self.spaces.open.iter().any(|space| space.fresh);
        self.take_in_all();
        for one in finished {
            self.take_finished(&one);
        }
        self.destroyed.clear();
        for (space, socket) in &destroyed {
            self.destroyed.insert((*space, socket.cookie));
            self.take_last(*space, socket);
        }
        self.forget_gone();
        let looked = self.reading.is_multiple_of(ASK_ALL_EVERY);
        if fresh || looked || self.reading <= 2 {
            self.find_owners(proc);
        }
        if fresh {
            self.look_for_new_holders(proc);
            self.members.iter_mut().for_each(|member| member.ran_since_list = false);
        }
        if looked {
            self.look_again(proc);
        }
        let resolved = self.guesses.resolve(self.reading);
        for (owner, bytes) in resolved {
            match owner {
                Whose::Process(owner) => self.accounts.entry(owner).or_default().add(bytes),
                Whose::Nobody(user) => self.unattributed.entry(user).or_default().add(bytes),
            }
        }
        if fresh {
            self.list();
        }
        if fresh || looked || !self.gone.is_empty() {
            self.name_owners();
        }
        (reading.connections, reading.listeners) = (self.connections.clone(), self.listeners.clone());
        self.fill(reading);
    }

    /// Takes over what is known of the processes that are still there; both lists are in order.
    fn meet(&mut self, processes: &[Arc<ProcessRow>]) {
        // Mostly they are the same ones, and most of them are as they were.
        let mut same = 0;
        for (member, row) in self.members.iter_mut().zip(processes) {
            if !Arc::ptr_eq(&member.base, row) && member.key != row.key() {
                break;
            }
            member.meet(row);
            same += 1;
        }
        let mut earlier = self.members.split_off(same).into_iter().peekable();
        self.members.reserve(processes.len() - same);
        for row in &processes[same..] {
            let key = row.key();
            while earlier.next_if(|member| member.key < key).is_some() {}
            self.members.push(match earlier.next_if(|member| member.key == key) {
                Some(mut member) => {
                    member.meet(row);
                    member
                }
                None => Member::new(row.clone()),
            });
        }
        self.ran.clear();
        self.ran.extend(self.members.iter().filter(|member| member.ran).map(|member| member.key));
    }

    fn take_in_all(&mut self) {
        let mut spaces = std::mem::take(&mut self.spaces.open);
        for space in spaces.iter_mut().filter(|space| space.fresh) {
            for socket in space.tcp.iter().filter(|socket| !socket.is_remembered()) {
                self.take_in(space.number(), socket, Protocol::Tcp, space.first);
            }
            for socket in &space.udp {
                self.take_in(space.number(), socket, Protocol::Udp, space.first);
            }
            space.first = false;
        }
        self.spaces.open = spaces;
    }

    /// A socket of a dump. What it counted before the first dump is not ours to tell.
    fn take_in(&mut self, space: i64, socket: &InetSocket, protocol: Protocol, first: bool) {
        let reading = self.reading;
        let listens = protocol == Protocol::Tcp && socket.listens();
        let known = self.sockets.entry((space, socket.cookie)).or_insert_with(|| Known {
            inode: socket.inode,
            protocol,
            holders: vec![],
            remote: (socket.remote, listens),
            counted: if first { counts(socket) } else { Bytes::default() },
            drops: if first { socket.drops.unwrap_or(0) } else { 0 },
            unowned: Bytes::default(),
            searches: 0,
            moved: true,
            maybe_passed_on: false,
            asked: 0,
            first: reading,
            seen: 0,
        });
        known.seen = reading;
        known.remote.0 = socket.remote;
        if socket.inode != 0 && known.inode == 0 {
            known.inode = socket.inode;
        }
        if listens {
            self.guesses.listens((space, socket.cookie), socket.local);
        } else if protocol == Protocol::Tcp && known.first == reading && !first {
            self.guesses.belongs(space, socket.remote, socket.uid, reading);
        }
        let mut grown = known.grow(counts(socket));
        if protocol == Protocol::Udp {
            let drops = socket.drops.unwrap_or(0);
            // The kernel counts in 32 bits and goes round.
            grown.dropped = u64::from(drops.wrapping_sub(known.drops));
            known.drops = drops;
        }
        // Who listens, or takes datagrams, shows no growth when it forks.
        known.moved |= grown != Bytes::default() || listens || protocol == Protocol::Udp;
        let ran = known.holders.iter().any(|holder| self.ran.contains(holder));
        // Who accepts a connection passes it on at once, if at all.
        let is_due = match (ran, known.asked) {
            (true, _) => known.first + 1 == reading && !first && known.first > 1,
            (false, asked) => asked == 0 || reading - asked >= ASK_ALL_EVERY,
        };
        // What nobody holds any more was sent by who held it last.
        let is_held = protocol == Protocol::Tcp && socket.inode != 0 && !known.holders.is_empty();
        known.maybe_passed_on = is_held && grown.sent > 0 && is_due;
        match known.owner(&self.ran).filter(|_| !known.maybe_passed_on) {
            Some(owner) => self.accounts.entry(owner).or_default().add(grown),
            None => known.unowned.add(grown),
        }
    }

    /// A connection that is over while somebody holds it: it is in no dump, and its end is told when it is closed. Where neither a
    /// dump nor the kernel's notes say whose it is, it is counted then.
    fn take_finished(&mut self, finished: &Finished) {
        let key = finished.socket;
        // The other side's end counts as a byte.
        let now = Bytes { received: finished.received.saturating_sub(1), sent: finished.sent, dropped: 0 };
        let noted = self.noted(key).filter(|owner| self.is_there(*owner));
        match (self.sockets.get_mut(&key), noted) {
            (Some(known), _) => {
                let grown = known.grow(now);
                match known.owner(&self.ran) {
                    Some(owner) => self.accounts.entry(owner).or_default().add(grown),
                    None => known.unowned.add(grown),
                }
            }
            (None, Some(owner)) if !self.destroyed.contains(&key) => {
                self.accounts.entry(owner).or_default().add(now);
                self.sockets.insert(key, Known::finished(owner, now, self.reading));
            }
            (None, _) => {}
        }
    }

    /// The last counts of a socket that is gone. One that no dump saw names no process, nor does one that nobody was found for.
    fn take_last(&mut self, space: i64, socket: &InetSocket) {
        let key = (space, socket.cookie);
        let (owner, rest) = match self.sockets.remove(&key) {
            Some(mut known) => {
                let mut rest = known.grow(counts(socket));
                rest.add(known.unowned);
                (known.owner(&self.ran), rest)
            }
            None => (None, counts(socket)),
        };
        self.guesses.ended(key, self.reading);
        match owner.or_else(|| self.noted(key)) {
            Some(owner) if self.accounts.contains_key(&owner) || self.is_there(owner) => {
                self.accounts.entry(owner).or_default().add(rest);
            }
            Some(owner) => self.late.entry(owner).or_insert((Bytes::default(), self.reading)).0.add(rest),
            None => self.guesses.wait(space, socket, rest, self.reading),
        }
    }

    /// Whose a connection was by what the kernel noted.
    fn noted(&self, (space, cookie): SocketKey) -> Option<ProcessKey> {
        let (pid, start) = self.owners.get()?.of(u64::try_from(space).ok()?, cookie)?;
        let second = rustix::param::clock_ticks_per_second() as i64;
        Some(ProcessKey { pid: i64::from(pid), start: ticks(start, second) })
    }

    /// Holders that are gone, and sockets that are gone without a word. A socket that is closed but still held is in no dump;
    /// it is kept until its end is told, or its holder is gone.
    fn forget_gone(&mut self) {
        let mut sockets = std::mem::take(&mut self.sockets);
        let (reading, mut nobodys) = (self.reading, Bytes::default());
        sockets.retain(|(space, _), known| {
            let had = known.holders.len();
            known.holders.retain(|key| self.is_there(*key));
            if had > 0 && known.holders.is_empty() {
                // It belongs to a child that took it over, or to nobody.
                known.searches = 0;
            }
            let space = self.spaces.open.iter().find(|open| open.number() == *space);
            let stays = space.is_some_and(|space| {
                let listed = !space.fresh || known.seen == reading;
                let told = space.tells_ends() && known.protocol == Protocol::Tcp;
                listed || told && (!known.holders.is_empty() || known.seen + 2 >= reading)
            });
            if !stays {
                nobodys.add(known.unowned);
            }
            stays
        });
        self.sockets = sockets;
        self.nobodys(nobodys);
        let accounts = std::mem::take(&mut self.accounts);
        let (there, gone) = accounts.into_iter().partition(|(key, _)| self.is_there(*key));
        (self.accounts, self.gone) = (there, gone);
        // Nobody told of their end, or it is told without them.
        let mut unclaimed = Bytes::default();
        self.late.retain(|_, (bytes, since)| {
            let waits = *since + 1 >= reading;
            if !waits {
                unclaimed.add(*bytes);
            }
            waits
        });
        self.nobodys(unclaimed);
    }

    fn is_there(&self, key: ProcessKey) -> bool {
        self.members.binary_search_by_key(&key, |member| member.key).is_ok()
    }

    /// Bytes received and sent of a process that the last reading showed and this one does not, or that none has shown.
    /// Numbers come back: of several with one the first that started is the first whose end is asked for.
    pub fn of_gone(&mut self, pid: i64, seen: bool) -> Option<(i64, i64)> {
        let first = |keys: &mut dyn Iterator<Item = &ProcessKey>| {
            keys.filter(|key| key.pid == pid).min_by_key(|key| key.start).copied()
        };
        let gone = first(&mut self.gone.keys()).filter(|_| seen);
        let late = first(&mut self.late.keys());
        // Bytes of one that a reading has shown may have come late as well.
        let late = late.filter(|late| gone.is_none_or(|gone| gone.start == late.start));
        let gone = gone.and_then(|key| self.gone.remove(&key));
        let late = late.and_then(|key| self.late.remove(&key)).map(|(bytes, _)| bytes);
        let found = gone.is_some() || late.is_some();
        let mut bytes = Bytes::default();
        gone.into_iter().chain(late).for_each(|some| bytes.add(some));
        found.then_some((bytes.received as i64, bytes.sent as i64))
    }

    /// Bytes received and sent over UDP of a process that the last reading showed and this one does not, or that none has shown;
    /// nothing where nobody counts.
    pub fn datagrams_of_gone(&mut self, pid: i64) -> Option<[i64; 2]> {
        self.datagrams.of_gone(pid)
    }

    fn find_owners(&mut self, proc: &Path) {
        let unknown = |known: &Known, searches: u8| {
            known.holders.is_empty() && known.inode != 0 && known.searches == searches
        };
        // Asking everybody is left to now and then, so that sockets whose owner cannot be found cost little; at the first reading the
        // first round does.
        let rounds = if self.reading.is_multiple_of(ASK_ALL_EVERY) { 2 } else { 1 };
        for round in 0..rounds {
            let mut wanted: Holders = HashMap::new();
            for known in self.sockets.values_mut().filter(|known| unknown(known, round)) {
                known.searches += 1;
                wanted.insert(known.inode, vec![]);
            }
            // Whoever made or took over a socket ran since they were listed last; only the second round asks everybody.
            let asks = |member: &&Member| round == 1 || self.reading == 1 || member.ran_since_list;
            holders::look(proc, self.members.iter().filter(asks), &mut wanted);
            self.hand_out(&wanted);
        }
        let mut nobodys = Bytes::default();
        for known in self.sockets.values_mut() {
            if known.holders.is_empty() && known.searches >= 2 {
                nobodys.add(std::mem::take(&mut known.unowned));
            }
        }
        self.nobodys(nobodys);
    }

    fn nobodys(&mut self, bytes: Bytes) {
        if bytes != Bytes::default() {
            self.unattributed.entry(None).or_default().add(bytes);
        }
    }

    /// Who holds the sockets that moved bytes: they may have been handed on, or are shared with a child by now.
    fn look_again(&mut self, proc: &Path) {
        let mut wanted: Holders = HashMap::new();
        let mut asked: Vec<ProcessKey> = vec![];
        for known in self.sockets.values_mut() {
            if std::mem::take(&mut known.moved) && known.inode != 0 && !known.holders.is_empty() {
                wanted.insert(known.inode, vec![]);
                asked.extend(&known.holders);
            }
        }
        asked.sort_unstable();
        let asks = |member: &&Member| member.ran_since_look || asked.binary_search(&member.key).is_ok();
        holders::look(proc, self.members.iter().filter(asks), &mut wanted);
        wanted.retain(|_, holders| !holders.is_empty());
        self.hand_out(&wanted);
        for member in &mut self.members {
            member.ran_since_look = false;
        }
    }

    /// Who holds the sockets that sent while none of their holders ran: somebody who ran, or the same ones, whose last bytes the
    /// kernel sent.
    fn look_for_new_holders(&mut self, proc: &Path) {
        let mut wanted: Holders = HashMap::new();
        let mut asked: HashSet<ProcessKey> = HashSet::new();
        for known in self.sockets.values_mut().filter(|known| known.maybe_passed_on) {
            known.asked = self.reading;
            wanted.insert(known.inode, vec![]);
            asked.extend(&known.holders);
        }
        if wanted.is_empty() {
            return;
        }
        let asks = |member: &&Member| member.ran_since_list || asked.contains(&member.key);
        holders::look(proc, self.members.iter().filter(asks), &mut wanted);
        self.hand_out(&wanted);
        for known in self.sockets.values_mut().filter(|known| known.maybe_passed_on) {
            known.maybe_passed_on = false;
            if let Some(owner) = known.owner(&self.ran) {
                self.accounts.entry(owner).or_default().add(std::mem::take(&mut known.unowned));
            }
        }
    }

    fn hand_out(&mut self, found: &Holders) {
        for (key, known) in &mut self.sockets {
            let Some(holders) = found.get(&known.inode).filter(|holders| !holders.is_empty()) else {
                continue;
            };
            known.holders.clone_from(holders);
            let Some(owner) = known.owner(&self.ran) else { continue };
            let waiting = std::mem::take(&mut known.unowned);
            self.accounts.entry(owner).or_default().add(waiting);
            let (remote, listens) = known.remote;
            if listens {
                self.guesses.owned(*key, holders);
            } else if known.protocol == Protocol::Tcp && known.first > 1 {
                self.guesses.opens(key.0, remote, owner, self.reading);
            }
        }
    }

    /// Rows of connections and of those who wait for them, from the last dumps.
    fn list(&mut self) {
        (self.connections, self.listeners) = (vec![], vec![]);
        for space in &self.spaces.open {
            let foreign = Raw::from(self.spaces.foreign(space.number()));
            let label = |cookie: u64| label(cookie, foreign);
            for socket in space.tcp.iter().filter(|socket| !socket.listens()) {
                self.connections.push(ConnectionRow {
                    local: socket.local.to_string().into(),
                    remote: socket.remote.to_string().into(),
                    others: no_text(),
                    cookie: Raw::new(label(socket.cookie) as i64),
                    pid: Raw::ABSENT,
                    state: i64::from(socket.state).into(),
                    in_bytes: Raw::new(socket.received as i64),
                    out_bytes: Raw::new(socket.sent as i64),
                    resent: socket.resent.map_or(Raw::ABSENT, |count| i64::from(count).into()),
                    namespace: foreign,
                });
            }
            let streams = space.tcp.iter().filter(|socket| socket.listens()).map(|s| (s, Protocol::Tcp));
            for (socket, protocol) in streams.chain(space.udp.iter().map(|s| (s, Protocol::Udp))) {
                let connected = socket.remote.port() != 0;
                let most = (protocol == Protocol::Tcp).then_some(i64::from(socket.queue_most));
                self.listeners.push(ListenerRow {
                    local: socket.local.to_string().into(),
                    remote: if connected { socket.remote.to_string().into() } else { no_text() },
                    others: no_text(),
                    cookie: Raw::new(label(socket.cookie) as i64),
                    protocol: Raw::new(protocol as i64),
                    port: i64::from(socket.local.port()).into(),
                    pid: Raw::ABSENT,
                    queue: i64::from(socket.queue).into(),
                    queue_most: most.into(),
                    drops: socket.drops.map(i64::from).into(),
                    namespace: foreign,
                });
            }
        }
    }

    /// Puts holders into the rows of sockets.
    fn name_owners(&mut self) {
        let mut by_label: HashMap<i64, &Known> = HashMap::with_capacity(self.sockets.len());
        for ((space, cookie), known) in &self.sockets {
            let label = label(*cookie, self.spaces.foreign(*space).into());
            by_label.insert(label as i64, known);
        }
        let holders = |cookie: Raw| -> (Raw, Text) {
            let known = cookie.value().and_then(|cookie| by_label.get(&cookie));
            let Some((known, owner)) = known.and_then(|known| Some((known, known.owner(&self.ran)?))) else {
                return (Raw::ABSENT, no_text());
            };
            if known.holders.len() == 1 {
                return (Raw::new(owner.pid), no_text());
            }
            let others = known.holders.iter().filter(|key| **key != owner).take(NAMED);
            let others: Vec<String> = others.map(|key| key.pid.to_string()).collect();
            (Raw::new(owner.pid), others.join(" ").into())
        };
        for row in &mut self.connections {
            (row.pid, row.others) = holders(row.cookie);
        }
        for row in &mut self.listeners {
            (row.pid, row.others) = holders(row.cookie);
        }
    }

    /// Puts the accounts into the rows. They have those of the last reading already.
    fn fill(&mut self, reading: &mut Reading) {
        let mut numbers: HashMap<ProcessKey, [i64; 3]> = HashMap::new();
        for known in self.sockets.values() {
            for holder in &known.holders {
                let [connections, datagrams, shared] = numbers.entry(*holder).or_default();
                match known.protocol {
                    Protocol::Tcp => *connections += 1,
                    Protocol::Udp => *datagrams += 1,
                }
                *shared += i64::from(known.holders.len() > 1);
            }
        }
        let datagrams_known = self.spaces.open.first().is_some_and(|space| space.datagrams_known);
        let own = self.spaces.own();
        // Who has sockets, traffic or datagrams; of the others nothing needs to be looked up.
        let with_traffic = self.accounts.keys().chain(self.datagrams.moved());
        let mut loud: Vec<ProcessKey> = numbers.keys().chain(with_traffic).copied().collect();
        loud.sort_unstable();
        let (mut loud, still) = (loud.into_iter().peekable(), self.datagrams.of_nobody());
        let mut members = std::mem::take(&mut self.members);
        for (row, member) in reading.processes.iter_mut().zip(&mut members) {
            while loud.next_if(|key| *key < member.key).is_some() {}
            if !member.ran && loud.peek() != Some(&member.key) {
                let quiet = (datagrams_known, still[0], self.spaces.knows(member.place), member.place);
                if member.quiet == Some(quiet) {
                    continue;
                }
            }
            let account = self.accounts.get(&member.key).copied().unwrap_or_default();
            let [count, datagrams, shared] = numbers.get(&member.key).copied().unwrap_or_default();
            let moved = self.datagrams.of(member.key);
            let nothing = count + datagrams == 0 && account == Bytes::default();
            let known = self.spaces.knows(member.place);
            let quiet = nothing && moved.iter().all(|bytes| bytes.value().is_none_or(|bytes| bytes == 0));
            let quiet = quiet.then_some((datagrams_known, moved[0], known, member.place));
            member.quiet = quiet;
            // Whose descriptors may not be read has sockets that may not be told from others'.
            let denied = row.read_bytes == Raw::DENIED && nothing;
            let value = |number: i64| match (denied, known) {
                (true, _) => Raw::DENIED,
                (false, true) => Raw::new(number),
                (false, false) => Raw::ABSENT,
            };
            let told = |number| if datagrams_known { value(number) } else { Raw::ABSENT };
            let traffic = [
                value(account.received as i64),
                value(account.sent as i64),
                moved[0],
                moved[1],
                value(count),
                value(shared),
                told(datagrams),
                told(account.dropped as i64),
                match member.place {
                    Some(Place::In(id)) if Some(id) != own => Raw::new(id),
                    Some(Place::In(_)) => Raw::new(0),
                    Some(Place::Denied) => Raw::DENIED,
                    _ => Raw::ABSENT,
                },
            ];
            if traffic_of(row) != traffic {
                put_traffic(traffic, Arc::make_mut(row));
                member.base = row.clone();
            }
        }
        self.members = members;
        let mut all = Bytes::default();
        let mut rows = vec![];
        for (user, bytes) in &self.unattributed {
            all.add(*bytes);
            if bytes.received + bytes.sent == 0 {
                continue;
            }
            let (received, sent) = (Raw::new(bytes.received as i64), Raw::new(bytes.sent as i64));
            let mut row = ProcessRow::unattributed(received, sent);
            if let Some(uid) = user {
                row.user = self.users.name(*uid);
                row.service = self.only_service(&row.user);
                row.start_ticks = Raw::new(i64::from(*uid));
            }
            rows.push(Arc::new(row));
        }
        reading.processes.splice(0..0, rows);
        reading.system.unattributed_in = Raw::new(all.received as i64);
        reading.system.unseen_traffic = Raw::new(self.guesses.unseen as i64);
        reading.system.unattributed_out = Raw::new(all.sent as i64);
    }

    /// The service that all processes of a user belong to, where it is one.
    fn only_service(&self, user: &Text) -> Text {
        let mut services = self.members.iter().filter(|member| member.base.user == *user);
        let first = services.next().map_or_else(no_text, |member| member.base.service.clone());
        if services.all(|member| member.base.service == first) { first } else { no_text() }
    }
}

/// The cookie of a socket in the rows; those of other namespaces are made different.
fn label(cookie: u64, foreign: Raw) -> u64 {
    foreign.value().map_or(cookie, |namespace| cookie ^ (namespace as u64) << 32)
}

fn traffic_of(row: &ProcessRow) -> [Raw; 9] {
    [
        row.net_in_bytes,
        row.net_out_bytes,
        row.udp_in_bytes,
        row.udp_out_bytes,
        row.connections,
        row.shared_sockets,
        row.datagram_sockets,
        row.datagram_drops,
        row.net_namespace,
    ]
}

fn put_traffic(traffic: [Raw; 9], row: &mut ProcessRow) {
    [
        row.net_in_bytes,
        row.net_out_bytes,
        row.udp_in_bytes,
        row.udp_out_bytes,
        row.connections,
        row.shared_sockets,
        row.datagram_sockets,
        row.datagram_drops,
        row.net_namespace,
    ] = traffic;
}

/// Puts the traffic of a process at the last reading into its row of this one: mostly it stays.
pub fn keep_traffic(known: &ProcessRow, row: &mut ProcessRow) {
    put_traffic(traffic_of(known), row);
}
