//! What a task waits for, in words: from its state, the system call that it is in with its file, and the function of the
//! kernel that it waits in. Nothing is guessed beyond what those say.

use super::Doing;
use crate::known::Known;

/// What is known of a task at an instant.
#[derive(Clone, Copy, Debug)]
pub struct Task<'a> {
    /// State as the kernel's letter; `proc_pid_stat(5)`.
    pub state: Option<char>,
    /// What it does.
    pub doing: &'a Known<Doing>,
    /// Function of the kernel that it waits in.
    pub wait_channel: &'a Known<String>,
    /// Its control group is frozen.
    pub frozen: bool,
}

/// What a system call waits for, by its name; `None` for one that ends at once or whose wait has no common word.
fn call_words(call: &str) -> Option<&'static str> {
    Some(match call {
        "read" | "pread64" | "readv" | "preadv" | "preadv2" => "for data",
        "write" | "pwrite64" | "writev" | "pwritev" | "pwritev2" => "for room to write",
        "recvfrom" | "recvmsg" | "recvmmsg" => "for data of the other side",
        "sendto" | "sendmsg" | "sendmmsg" | "sendfile" => "for room to send",
        "accept" | "accept4" => "for a connection",
        "connect" => "for the other side to answer",
        "fsync" | "fdatasync" | "sync" | "syncfs" | "sync_file_range" | "msync" => "until it is on the disk",
        "futex" | "futex_waitv" | "futex_wait" => "for another thread (a lock, or work to do)",
        "poll" | "ppoll" | "select" | "pselect6" | "epoll_wait" | "epoll_pwait" | "epoll_pwait2"
        | "io_getevents" | "io_pgetevents" | "io_uring_enter" => "for something to do",
        "nanosleep" | "clock_nanosleep" => "for a time to pass",
        "wait4" | "waitid" => "for a child",
        "pause" | "rt_sigsuspend" | "rt_sigtimedwait" | "signalfd4" => "for a signal",
        "flock" | "fcntl" => "for a lock on a file",
        "open" | "openat" | "openat2" => "for a file to open",
        "msgrcv" | "mq_timedreceive" => "for a message",
        "semop" | "semtimedop" => "for a semaphore",
        "vfork" | "clone" | "clone3" => "for the child that it has just started",
        "getdents64" => "for the content of a folder",
        "restart_syscall" => "for a time to pass, or for another thread",
        _ => return None,
    })
}

/// What is behind a function of the kernel: for waits that no system call tells, such as page faults.
fn channel_words(channel: &str) -> Option<&'static str> {
    const KNOWN: [(&str, &str); 17] = [
        ("folio_wait_bit", "for a page that comes from the disk"),
        ("wait_on_page", "for a page that comes from the disk"),
        ("filemap_fault", "for a page that comes from the disk"),
        ("balance_dirty_pages", "because too much waits to be written"),
        ("jbd2_log_wait_commit", "for the journal of the file system"),
        ("wait_transaction_locked", "for the journal of the file system"),
        ("blk_mq_get_tag", "for a free place in the queue of the disk"),
        ("rq_qos_wait", "for a free place in the queue of the disk"),
        ("io_schedule", "for the disk"),
        ("submit_bio_wait", "for the disk"),
        ("nfs_wait_bit", "for a file server"),
        ("rpc_wait_bit", "for a file server"),
        ("fuse_wait_answer", "for the program behind a file system (FUSE)"),
        ("request_wait_answer", "for the program behind a file system (FUSE)"),
        ("percpu_rwsem_wait", "because its file system is frozen"),
        ("wait_for_partner", "for the other end of a FIFO"),
        ("fifo_open", "for the other end of a FIFO"),
    ];
    KNOWN.iter().find(|(name, _)| channel.contains(name)).map(|(_, words)| *words)
}

/// The call with its file: `fsync of /data/stack.fits`.
pub fn call_with_file(doing: &Doing) -> Option<String> {
    match doing {
        Doing::Call { name, on: Some(on) } => Some(format!("{name} of {on}")),
        Doing::Call { name, on: None } => Some(name.to_string()),
        Doing::Running | Doing::Kernel => None,
    }
}

/// What a task does or waits for, in a few words without a subject: `runs its own code`, `waits for a child (wait4)`.
pub fn words(task: Task<'_>) -> String {
    let Some(state) = task.state else { return "state not known".to_owned() };
    match state {
        'R' => return "runs, or waits for a core".to_owned(),
        'Z' => return "has ended and waits to be collected by its parent".to_owned(),
        'T' => return "stopped by a signal until it is continued".to_owned(),
        't' => return "stopped by who traces it".to_owned(),
        'X' | 'x' => return "is just going".to_owned(),
        'I' => return "idle: a worker of the kernel with nothing to do".to_owned(),
        _ => {}
    }
    if task.frozen {
        return "frozen with its control group until that is thawed".to_owned();
    }
    let uninterruptible = state == 'D';
    let waits = if uninterruptible { "blocked in the kernel: waits" } else { "waits" };
    let channel = match task.wait_channel {
        Known::Value(channel) if !channel.is_empty() => Some(channel.as_str()),
        _ => None,
    };
    let by_channel = channel.and_then(channel_words);
    match task.doing {
        Known::Value(doing @ Doing::Call { name, .. }) => {
            let call = call_with_file(doing).unwrap_or_default();
            // A blocked task waits for what the kernel does for the call, which its function tells better.
            let by_call = call_words(name);
            let what = if uninterruptible { by_channel.or(by_call) } else { by_call.or(by_channel) };
            match what {
                Some(what) => format!("{waits} {what}, in {call}"),
                None => format!("{waits} in {call}"),
            }
        }
        Known::Value(Doing::Running) => "has just woken up".to_owned(),
        _ => match (by_channel, channel) {
            (Some(what), _) => format!("{waits} {what}"),
            (None, Some(channel)) => format!("{waits} in {channel} of the kernel"),
            (None, None) if uninterruptible => "blocked in the kernel".to_owned(),
            (None, None) if matches!(task.doing, Known::Denied) => {
                "sleeps; what it waits for may not be seen".to_owned()
            }
            (None, None) => "sleeps".to_owned(),
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn said(state: char, call: Option<(&str, Option<&str>)>, channel: &str) -> String {
        let doing = match call {
            Some((name, on)) => Known::Value(Doing::Call { name: name.into(), on: on.map(Into::into) }),
            None => Known::Absent,
        };
        let wait_channel = Known::Value(channel.to_owned());
        words(Task { state: Some(state), doing: &doing, wait_channel: &wait_channel, frozen: false })
    }

    #[test]
    fn what_it_waits_for_is_said_with_its_file() {
        assert_eq!(
            said('S', Some(("read", Some("/data/night/frame.fits"))), "pipe_read"),
            "waits for data, in read of /data/night/frame.fits"
        );
        assert_eq!(
            said('D', Some(("fsync", Some("/data/stack.fits"))), "jbd2_log_wait_commit"),
            "blocked in the kernel: waits for the journal of the file system, in fsync of /data/stack.fits"
        );
        assert_eq!(
            said('D', None, "folio_wait_bit_common"),
            "blocked in the kernel: waits for a page that comes from the disk"
        );
        assert_eq!(said('S', None, "do_made_up"), "waits in do_made_up of the kernel");
        assert_eq!(said('S', Some(("made_up", None)), ""), "waits in made_up");
    }

    #[test]
    fn what_may_not_be_seen_is_not_taken_for_nothing() {
        let task =
            |doing| words(Task { state: Some('S'), doing, wait_channel: &Known::Denied, frozen: false });
        assert_eq!(task(&Known::Denied), "sleeps; what it waits for may not be seen");
        assert_eq!(task(&Known::Absent), "sleeps");
        let frozen =
            Task { state: Some('S'), doing: &Known::Absent, wait_channel: &Known::Absent, frozen: true };
        assert!(words(frozen).starts_with("frozen"));
    }
}
