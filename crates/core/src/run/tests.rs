//! What the account of a command adds up to.

use super::*;
use crate::reading::raw;
use std::sync::Arc;

fn process(pid: i64, ppid: i64, name: &str, ticks: i64) -> Arc<ProcessRow> {
    Arc::new(ProcessRow {
        pid: raw(pid),
        ppid: raw(ppid),
        start_ticks: raw(pid * 10),
        name: name.into(),
        state: raw(i64::from(b'R')),
        user_ticks: raw(ticks),
        system_ticks: raw(0),
        rss_bytes: raw(1 << 20),
        threads: raw(2),
        ..ProcessRow::default()
    })
}

fn end(pid: i64, ppid: i64, name: &str, user_us: i64) -> EndedRow {
    EndedRow {
        pid: raw(pid),
        ppid: raw(ppid),
        name: name.into(),
        user: raw(user_us),
        system: raw(0),
        peak_bytes: raw(3 << 20),
        ..EndedRow::default()
    }
}

#[test]
fn the_whole_family_counts_once_and_nobody_else() {
    let mut family = Family::new(100, 100, 0);
    let first = Reading {
        processes: vec![
            process(7, 1, "other", 900),
            process(101, 100, "make", 1),
            process(102, 101, "calibrate", 10),
        ],
        ended: vec![end(55, 7, "foreign", 5_000_000)],
        ..Reading::default()
    };
    family.take(&first, 1_000_000_000, true);
    // A grandchild whose parent ended in the same moment, told before it; one that a reading has shown.
    let second = Reading {
        processes: vec![process(7, 1, "other", 999), process(101, 100, "make", 2)],
        ended: vec![
            end(104, 103, "fits", 2_000),
            end(103, 101, "sh", 1_000),
            end(102, 101, "calibrate", 150_000),
        ],
        ..Reading::default()
    };
    family.take(&second, 2_000_000_000, true);
    family.reap(&Reaped {
        pid: 101,
        start: 1010,
        name: "make".into(),
        own_us: 20_000,
        user_us: 173_000,
        ..Reaped::default()
    });
    let account = family.finish("make".into(), (0, None), 2_000_000_000, &Reading::default());
    let programs: Vec<(&str, i64, i64)> = account
        .programs
        .iter()
        .map(|program| (program.name.as_str(), program.processes, program.cpu_us))
        .collect();
    assert_eq!(
        programs,
        [("calibrate", 1, 150_000), ("make", 1, 20_000), ("fits", 1, 2_000), ("sh", 1, 1_000)]
    );
    assert_eq!((account.processes, account.most_at_once, account.most_threads), (4, 2, 4));
    assert_eq!(account.user_us, 173_000);
    assert!(account.text().contains("4 processes, 2 seen at once"), "{}", account.text());
    let again = RunAccount { user_us: 346_000, ..account.clone() };
    assert!(again.beside(&account).contains("+100 %"), "{}", again.beside(&account));
}

/// Fifty children that nobody waited for: the exact account of the others is not theirs.
#[test]
fn time_of_children_that_nobody_waited_for_is_not_halved() {
    let told = |cpu_us: i64, total_us: i64| {
        let mut family = Family::new(100, 100, 0);
        let parent = Reading { processes: vec![process(101, 100, "queue", 1)], ..Reading::default() };
        family.take(&parent, 1_000_000_000, true);
        let ended = (0..50).map(|child| end(200 + child, 101, "job", cpu_us)).collect();
        family.take(&Reading { ended, ..Reading::default() }, 2_000_000_000, true);
        family.reap(&Reaped {
            pid: 101,
            start: 1010,
            name: "queue".into(),
            own_us: 10_000,
            user_us: total_us,
            ..Reaped::default()
        });
        family.finish("queue".into(), (0, None), 2_000_000_000, &Reading::default())
    };
    let unwaited = told(24_000, 10_000);
    let job = unwaited.programs.iter().find(|program| program.name == "job").expect("it is told");
    assert_eq!((job.processes, job.cpu_us), (50, 1_200_000));
    assert_eq!(unwaited.user_us + unwaited.system_us, 1_210_000);
    // What ticks are off goes to those that they tell of.
    let waited = told(20_000, 1_110_000);
    assert_eq!(waited.programs[0].cpu_us, 1_100_000);
}

#[test]
fn the_memory_of_who_starts_it_is_not_the_commands() {
    let account = |peak: i64, told: Option<i64>| {
        let mut family = Family::new(100, 100, 16 << 20);
        let ended = told.map(|peak| EndedRow { peak_bytes: raw(peak), ..end(101, 100, "true", 0) });
        let reading = Reading { ended: ended.into_iter().collect(), ..Reading::default() };
        family.take(&reading, 1_000_000_000, true);
        family.reap(&Reaped {
            pid: 101,
            start: 1010,
            name: "true".into(),
            peak_rss: peak,
            ..Reaped::default()
        });
        family.finish("true".into(), (0, None), 2_000_000_000, &Reading::default())
    };
    let small = account(16 << 20, Some(16 << 20));
    assert_eq!((small.peak_rss, small.peak_rss_at_most), (16 << 20, true));
    assert!(small.text().contains("most memory ≤ 16.0 MiB"), "{}", small.text());
    let large = account(40 << 20, Some(40 << 20));
    assert_eq!((large.peak_rss, large.peak_rss_at_most), (40 << 20, false));
}

/// Of one that ended between two readings nobody knows its connections, but its datagrams were counted.
#[test]
fn bytes_over_udp_are_added_where_they_are_known() {
    let mut family = Family::new(100, 100, 0);
    let mut alive = process(101, 100, "send", 1);
    let row = Arc::make_mut(&mut alive);
    (row.net_in_bytes, row.net_out_bytes) = (raw(5), raw(7));
    family.take(&Reading { processes: vec![alive], ..Reading::default() }, 1_000_000_000, true);
    let told = EndedRow { udp_in_bytes: raw(30), udp_out_bytes: raw(400), ..end(101, 100, "send", 1_000) };
    family.take(&Reading { ended: vec![told], ..Reading::default() }, 2_000_000_000, true);
    let account = family.finish("send".into(), (0, None), 2_000_000_000, &Reading::default());
    assert_eq!((account.net_in, account.net_out), (Some(35), Some(407)));
}

#[test]
fn an_account_is_kept_and_read_back() {
    let account = RunAccount { command: "make\u{1b}[2J".into(), wall_ns: 5, ..RunAccount::default() };
    let text = serde_json::to_string(&account).expect("plain fields");
    let read: RunAccount = serde_json::from_str(&text).expect("what was written");
    assert_eq!(read, account);
    assert!(!read.cleaned().command.contains('\u{1b}'));
}

#[test]
fn more_than_write_calls_can_make_dirty_was_written_otherwise() {
    let mib = |mib: i64| raw(mib << 20);
    let of = |dirtied: i64, handed: i64, calls: Raw| {
        bytes_written(mib(dirtied), mib(1), mib(handed), calls).map(|bytes| bytes >> 20)
    };
    assert_eq!(of(401, 3, raw(300)), Some(3), "folios that were brought to the disk again and again");
    assert_eq!(of(51, 1, raw(2)), Some(50), "splice(2) makes no write calls");
    assert_eq!(of(51, 1, Raw::ABSENT), Some(1), "an older recording does not say");
    assert_eq!(of(51, 0, raw(0)), Some(50));
}

/// A shell and what it starts have more write calls together than the one that splices.
#[test]
fn all_together_wrote_no_less_than_each_of_them() {
    let mut family = Family::new(100, 100, 0);
    let mib = |mib: i64| raw(mib << 20);
    let ended = EndedRow {
        write_bytes: mib(52),
        cancelled_bytes: raw(0),
        write_any_bytes: mib(1),
        write_calls: raw(2),
        ..end(102, 101, "mover", 5_000)
    };
    family.take(&Reading { ended: vec![ended, end(101, 100, "sh", 1_000)], ..Reading::default() }, 1, true);
    let reaped = Reaped { pid: 101, name: "sh".into(), written: Some(1 << 20), ..Reaped::default() };
    family.reap(&reaped);
    let account = family.finish("sh".into(), (0, None), 2_000_000_000, &Reading::default());
    assert_eq!(account.written, Some(52 << 20), "{:?}", account.programs);
}
