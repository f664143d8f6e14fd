//! `/proc/PID/stat`; `proc_pid_stat(5)`.

use super::{next, number, scaled, words};
use dozor_core::known::Raw;
use dozor_core::text::Text;
use dozor_core::text::no_text;

/// The kernel's flag for a thread of its own; `PF_KTHREAD` in include/linux/sched.h.
const KERNEL_THREAD: i64 = 0x0020_0000;

/// What the file says. The name borrows from the text.
#[derive(Debug)]
#[allow(missing_docs, reason = "fields are named as in the reading's process row")]
pub struct ProcessStat<'a> {
    pub pid: i64,
    pub name: &'a [u8],
    pub state: Raw,
    pub ppid: Raw,
    pub group: Raw,
    pub session: Raw,
    pub tty: Raw,
    pub is_kernel_thread: bool,
    pub faults_minor: Raw,
    pub children_faults: Raw,
    pub faults_major: Raw,
    pub user_ticks: Raw,
    pub system_ticks: Raw,
    pub children_user_ticks: Raw,
    pub children_system_ticks: Raw,
    pub priority: Raw,
    pub nice: Raw,
    pub threads: Raw,
    pub start_ticks: i64,
    pub virtual_bytes: Raw,
    pub rss_bytes: Raw,
    pub core: Raw,
    pub policy: Raw,
    pub disk_wait_ticks: Raw,
}

/// Reads the file's text; `None` where it is not whole as far as the start time.
///
/// A name may hold blanks, brackets and line ends; it ends at the last bracket, since nothing after it has one.
pub fn parse(bytes: &[u8], page: i64) -> Option<ProcessStat<'_>> {
    let open = bytes.iter().position(|byte| *byte == b'(')?;
    let close = bytes.iter().rposition(|byte| *byte == b')')?;
    let name = bytes.get(open + 1..close)?;
    let mut words = words(bytes[close + 1..].trim_ascii());
    let state = words.next()?.first().map(|letter| i64::from(*letter)).into();
    let ppid = next(&mut words);
    let (group, session, tty, _terminal_group) =
        (next(&mut words), next(&mut words), next(&mut words), next(&mut words));
    let flags = next(&mut words).value().unwrap_or(0);
    let (faults_minor, children_faults) = (next(&mut words), next(&mut words));
    let (faults_major, _children) = (next(&mut words), next(&mut words));
    let (user_ticks, system_ticks) = (next(&mut words), next(&mut words));
    let (children_user_ticks, children_system_ticks) = (next(&mut words), next(&mut words));
    let (priority, nice, threads) = (next(&mut words), next(&mut words), next(&mut words));
    let _alarm = next(&mut words);
    let start_ticks = next(&mut words).value()?;
    let (virtual_bytes, rss_pages) = (next(&mut words), next(&mut words));
    // Fields 25 to 38: limits, addresses and signal masks.
    let mut words = words.skip(14);
    let (core, _real_time_priority, policy) = (next(&mut words), next(&mut words), next(&mut words));
    Some(ProcessStat {
        pid: number(bytes[..open].trim_ascii())?,
        name,
        state,
        ppid,
        group,
        session,
        tty,
        is_kernel_thread: flags & KERNEL_THREAD != 0,
        faults_minor,
        children_faults,
        faults_major,
        user_ticks,
        system_ticks,
        children_user_ticks,
        children_system_ticks,
        priority,
        nice,
        threads,
        start_ticks,
        virtual_bytes,
        rss_bytes: scaled(rss_pages, page),
        core,
        policy,
        disk_wait_ticks: next(&mut words),
    })
}

/// Name of a controlling terminal; empty where there is none. Minor numbers are split; Documentation/admin-guide/devices.txt.
pub fn terminal(tty: Raw) -> Text {
    let Some(number) = tty.value().filter(|number| *number != 0) else { return no_text() };
    let (major, minor) = (number >> 8 & 0xfff, number & 0xff | number >> 12 & 0xfff00);
    match major {
        136..=143 => format!("pts/{}", (major - 136) * 256 + minor),
        4 if minor >= 64 => format!("ttyS{}", minor - 64),
        4 => format!("tty{minor}"),
        204 => format!("ttyAMA{}", minor - 64),
        _ => format!("{major}:{minor}"),
    }
    .into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn captured_text_is_read() {
        let stat = parse(include_bytes!("../../tests/fixtures/pid_stat"), 4096).expect("a whole line");
        assert_eq!((stat.pid, stat.name, stat.ppid), (1960, &b"cat"[..], Raw::new(1942)));
        assert_eq!((stat.state, stat.is_kernel_thread), (Raw::new(i64::from(b'R')), false));
        assert_eq!(
            (stat.faults_minor, stat.user_ticks, stat.system_ticks),
            (Raw::new(100), Raw::new(31), Raw::new(7))
        );

        assert_eq!((stat.priority, stat.nice, stat.threads), (Raw::new(20), Raw::new(0), Raw::new(1)));
        assert_eq!((stat.start_ticks, stat.rss_bytes), (9794, Raw::new(394 * 4096)));
        assert_eq!((stat.core, stat.policy, stat.disk_wait_ticks), (Raw::new(1), Raw::new(0), Raw::new(4)));
    }

    #[test]
    fn terminals_have_names() {
        for (number, name) in
            [(0, ""), (34_816, "pts/0"), (34_818, "pts/2"), (1_025, "tty1"), (1_088, "ttyS0")]
        {
            assert_eq!(&*terminal(Raw::new(number)), name);
        }
    }

    #[test]
    fn a_hostile_name_fakes_no_field() {
        let line = b"77 (x) R 1 (\n\x1b[2J) S 5 1 1 0 -1 64 1 7 2 0 3 4 0 0 20 0 1 0 99 4096 1 0";
        let stat = parse(line, 4096).expect("a whole line");
        assert_eq!(stat.name, b"x) R 1 (\n\x1b[2J");
        assert_eq!((stat.ppid, stat.start_ticks), (Raw::new(5), 99));
        assert_eq!(stat.children_faults, Raw::new(7));
        assert_eq!(stat.core, Raw::ABSENT, "what is cut off is absent");
    }
}
