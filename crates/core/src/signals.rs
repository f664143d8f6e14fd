//! Signals in plain words; signal(7). Numbers are those of Linux on all but a few old architectures.

use std::borrow::Cow;

/// One signal.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Signal {
    /// Its number.
    pub number: i32,
    /// Its name without `SIG`.
    pub name: Cow<'static, str>,
    /// What a person does with it.
    pub words: Cow<'static, str>,
    /// Whether processes end by it unless they say otherwise.
    pub ends: bool,
}

const fn signal(number: i32, name: &'static str, ends: bool, words: &'static str) -> Signal {
    Signal { number, name: Cow::Borrowed(name), words: Cow::Borrowed(words), ends }
}

/// The polite stop, which is the default.
pub const TERM: i32 = 15;
/// The forced stop.
pub const KILL: i32 = 9;
/// The pause that nobody can refuse.
pub const STOP: i32 = 19;
/// Signals that pause: STOP, TSTP, TTIN, TTOU.
pub const PAUSING: [i32; 4] = [STOP, 20, 21, 22];
/// What goes on after a pause.
pub const CONT: i32 = 18;
/// First and last real-time signal that programs may use; the C library keeps the two below for itself.
const REAL_TIME: std::ops::RangeInclusive<i32> = 34..=64;

/// The signals with a name, those that people need most often first.
const NAMED: [Signal; 31] = [
    signal(15, "TERM", true, "Stop politely: it may finish its work and clean up first"),
    signal(9, "KILL", true, "Force to stop: it cannot refuse; what it did not save is lost"),
    signal(2, "INT", true, "Interrupt, as Ctrl-C in its terminal does"),
    signal(1, "HUP", true, "Hang up: many services read their settings again"),
    signal(19, "STOP", false, "Pause: it keeps its memory and does nothing until continued"),
    signal(18, "CONT", false, "Continue after a pause"),
    signal(3, "QUIT", true, "Quit and leave a core dump for inspection"),
    signal(10, "USR1", true, "First signal with a meaning of the program's own"),
    signal(12, "USR2", true, "Second signal with a meaning of the program's own"),
    signal(20, "TSTP", false, "Pause as Ctrl-Z does; it may refuse"),
    signal(6, "ABRT", true, "Abort and leave a core dump"),
    signal(28, "WINCH", false, "Say that its terminal changed size"),
    signal(14, "ALRM", true, "Its timer ran out"),
    signal(13, "PIPE", true, "Nobody reads what it writes"),
    signal(17, "CHLD", false, "One of its children changed state"),
    signal(23, "URG", false, "Urgent data on a socket"),
    signal(29, "IO", true, "A file is ready"),
    signal(21, "TTIN", false, "It reads from a terminal in the background"),
    signal(22, "TTOU", false, "It writes to a terminal in the background"),
    signal(24, "XCPU", true, "Its CPU time limit is reached"),
    signal(25, "XFSZ", true, "Its file size limit is reached"),
    signal(26, "VTALRM", true, "Its timer of CPU time in user mode ran out"),
    signal(27, "PROF", true, "Its profiling timer ran out"),
    signal(30, "PWR", true, "Power fails"),
    signal(31, "SYS", true, "Bad system call"),
    signal(4, "ILL", true, "Illegal instruction"),
    signal(5, "TRAP", true, "Breakpoint reached"),
    signal(7, "BUS", true, "Memory access at an impossible address"),
    signal(8, "FPE", true, "Arithmetic error"),
    signal(11, "SEGV", true, "Memory access that is not allowed"),
    signal(16, "STKFLT", true, "Stack fault of a coprocessor, not used any more"),
];

/// All signals, those that people need most often first, the real-time ones last.
pub fn all() -> impl Iterator<Item = Signal> {
    NAMED.into_iter().chain(REAL_TIME.map(|number| Signal {
        number,
        name: Cow::Owned(match number - REAL_TIME.start() {
            0 => "RTMIN".to_owned(),
            offset => format!("RTMIN+{offset}"),
        }),
        words: Cow::Borrowed("Real-time signal with a meaning of the program's own"),
        ends: true,
    }))
}

/// The signal with this number.
pub fn by_number(number: i32) -> Option<Signal> {
    all().find(|signal| signal.number == number)
}

#[cfg(test)]
mod tests {
    #[test]
    fn every_signal_stands_once_and_the_polite_stop_is_first() {
        let mut numbers: Vec<i32> = super::all().map(|signal| signal.number).collect();
        assert_eq!(numbers[0], super::TERM);
        numbers.sort_unstable();
        assert!(numbers.iter().copied().eq((1..=31).chain(34..=64)), "{numbers:?}");
    }
}
