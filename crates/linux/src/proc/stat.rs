//! `/proc/stat`; `proc_stat(5)`.

use super::{lines, next, number, words};
use dozor_core::known::Raw;
use dozor_core::reading::CoreRow;

/// What the file says.
#[derive(Default, Debug)]
pub struct Stat {
    /// All cores together; its number is absent.
    pub total: CoreRow,
    /// Each online core.
    pub cores: Vec<CoreRow>,
    /// Context switches.
    pub switches: Raw,
    /// Interrupts.
    pub interrupts: Raw,
    /// Processes and threads created.
    pub forks: Raw,
    /// Tasks running or ready to run.
    pub running: Raw,
    /// Tasks blocked on a disk.
    pub blocked: Raw,
}

/// Reads the file's text; cores are put into a list that is empty.
pub fn parse(bytes: &[u8], cores: Vec<CoreRow>) -> Stat {
    let mut stat = Stat { cores, ..Stat::default() };
    for line in lines(bytes) {
        let mut words = words(line);
        match words.next() {
            Some(b"cpu") => stat.total = core(Raw::ABSENT, &mut words),
            Some(name) if name.starts_with(b"cpu") => {
                if let Some(core_number) = number(&name[3..]) {
                    stat.cores.push(core(Raw::new(core_number), &mut words));
                }
            }
            Some(b"ctxt") => stat.switches = next(&mut words),
            Some(b"intr") => stat.interrupts = next(&mut words),
            Some(b"processes") => stat.forks = next(&mut words),
            Some(b"procs_running") => stat.running = next(&mut words),
            Some(b"procs_blocked") => stat.blocked = next(&mut words),
            _ => {}
        }
    }
    stat
}

fn core<'a>(number: Raw, words: &mut impl Iterator<Item = &'a [u8]>) -> CoreRow {
    CoreRow {
        number,
        user: next(words),
        nice: next(words),
        system: next(words),
        idle: next(words),
        iowait: next(words),
        irq: next(words),
        softirq: next(words),
        steal: next(words),
        guest: next(words),
        guest_nice: next(words),
        ..CoreRow::default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn captured_text_is_read() {
        let stat = parse(include_bytes!("../../tests/fixtures/stat"), vec![]);
        assert_eq!(stat.total.user, Raw::new(1421));
        assert_eq!(stat.total.steal, Raw::new(4401));
        assert_eq!(stat.cores.len(), 2);
        assert_eq!((stat.cores[1].number, stat.cores[1].idle), (Raw::new(1), Raw::new(7017)));
        assert_eq!((stat.interrupts, stat.switches), (Raw::new(92_471), Raw::new(171_709)));
        assert_eq!((stat.forks, stat.running, stat.blocked), (Raw::new(2_090), Raw::new(3), Raw::new(1)));
    }

    #[test]
    fn an_old_kernel_without_the_last_classes_leaves_them_absent() {
        let stat = parse(b"cpu 1 2 3 4\n", vec![]);
        assert_eq!((stat.total.idle, stat.total.iowait), (Raw::new(4), Raw::ABSENT));
    }
}
