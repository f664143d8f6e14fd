//! What the program writes of a task: words of 64 bits, and how they are read again.

use super::{EndedWait, Seen, Task, Whole};

/// Words that are written of a task and of what belongs to its whole process.
pub const WORDS: usize = 52;
/// Bytes of them.
pub const BYTES: usize = WORDS * 8;
/// Bytes that are written of a task of which nothing changed: its number and that of its process.
pub const SHORT: usize = 8;
/// Says of a number that the counters follow.
pub const FOLLOWS: u32 = 1 << 31;
pub const RUN_WORD: usize = 2;
pub const STATE_WORD: usize = 9;
pub const PRIORITY_WORD: usize = 11;
pub const CORE_WORD: usize = 12;
pub const IO_WORD: usize = 13;
pub const WAIT_WORD: usize = 20;
pub const PARENT_WORD: usize = 21;
pub const WHOLE_RUN_WORD: usize = 28;
pub const WHOLE_WAITED_WORD: usize = 33;
pub const WHOLE_IO_WORD: usize = 34;
pub const USER_WORD: usize = 41;
pub const VIRTUAL_WORD: usize = 42;
pub const PAGES_WORD: usize = 43;
pub const NAME_WORD: usize = 47;
pub const SESSION_WORD: usize = 49;
pub const CORE_WAIT_WORD: usize = 50;
pub const WHOLE_CORE_WAIT_WORD: usize = 51;
/// Stand for a time that the kernel does not keep, and for nobody whose time that would be.
pub const UNKNOWN: i32 = -1;
pub const NOBODY: i32 = -2;

/// Splits what was read into records; `None` where one is cut off, which the kernel does not do.
pub fn records(bytes: &[u8], see: &mut impl FnMut(&Seen)) -> Option<()> {
    let mut rest = bytes;
    while let Some((head, _)) = rest.split_first_chunk::<8>() {
        let record = Record(rest);
        let (tid, pid) = (record.half(0, 0), record.half(0, 1));
        if tid & FOLLOWS == 0 {
            see(&Seen::Same { tid, pid });
            rest = &rest[head.len()..];
            continue;
        }
        let after = rest.get(8 * WORDS..)?;
        see(&Seen::Changed(record.task(tid & !FOLLOWS, pid), record.whole()));
        rest = after;
    }
    rest.is_empty().then_some(())
}

/// A record as it was written; it is long enough for what is asked.
struct Record<'a>(&'a [u8]);

impl Record<'_> {
    fn word(&self, at: usize) -> u64 {
        self.0.get(at * 8..).and_then(|rest| rest.first_chunk()).map_or(0, |word| u64::from_ne_bytes(*word))
    }

    fn half(&self, at: usize, half: usize) -> u32 {
        let rest = self.0.get(at * 8 + half * 4..);
        rest.and_then(|rest| rest.first_chunk()).map_or(0, |word| u32::from_ne_bytes(*word))
    }

    fn task(&self, tid: u32, pid: u32) -> Task {
        Task {
            tid,
            pid,
            start_ns: self.word(1),
            run_ns: self.word(RUN_WORD),
            user_ns: self.word(3),
            system_ns: self.word(4),
            faults_minor: self.word(5),
            faults_major: self.word(6),
            switches_wait: self.word(7),
            switches_forced: self.word(8),
            state: self.half(STATE_WORD, 0),
            exit_state: self.half(STATE_WORD, 1),
            flags: self.half(10, 0),
            policy: self.half(10, 1),
            priority: self.half(PRIORITY_WORD, 0) as i32,
            static_priority: self.half(PRIORITY_WORD, 1) as i32,
            core: self.half(CORE_WORD, 0),
            io: std::array::from_fn(|at| self.word(IO_WORD + at)),
            disk_wait_ns: self.word(WAIT_WORD),
            core_wait_ns: Some(self.word(CORE_WAIT_WORD)).filter(|word| *word as i64 != i64::from(UNKNOWN)),
        }
    }

    fn whole(&self) -> Whole {
        let mut name = [0; 16];
        for (half, bytes) in name.chunks_exact_mut(8).enumerate() {
            bytes.copy_from_slice(&self.word(NAME_WORD + half).to_ne_bytes());
        }
        Whole {
            parent: self.half(PARENT_WORD, 0),
            threads: self.half(PARENT_WORD, 1),
            user_ns: self.word(22),
            system_ns: self.word(23),
            children_user_ns: self.word(24),
            children_system_ns: self.word(25),
            told_user_ns: self.word(26),
            told_system_ns: self.word(27),
            run_ns: self.word(WHOLE_RUN_WORD),
            switches_wait: self.word(29),
            switches_forced: self.word(30),
            faults_minor: self.word(31),
            faults_major: self.word(32),
            children_faults: self.word(WHOLE_WAITED_WORD),
            io: std::array::from_fn(|at| self.word(WHOLE_IO_WORD + at)),
            real_uid: self.half(USER_WORD, 0),
            uid: self.half(USER_WORD, 1),
            has_memory: self.half(SESSION_WORD, 1) == 1,
            virtual_pages: self.word(VIRTUAL_WORD),
            // What the cores have not added yet may make a sum of few pages negative for a moment.
            pages: std::array::from_fn(|kind| (self.word(PAGES_WORD + kind) as i64).max(0)),
            name,
            session: self.half(SESSION_WORD, 0),
            core_wait: match self.word(WHOLE_CORE_WAIT_WORD) {
                word if word as i64 == i64::from(UNKNOWN) => EndedWait::Unknown,
                word if word as i64 == i64::from(NOBODY) => EndedWait::Nobody,
                word => EndedWait::Ns(word),
            },
        }
    }
}
