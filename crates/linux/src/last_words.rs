//! The terminal given back when the program is ended by a signal that leaves no time for anything: an abort (also for lack of
//! memory), or one that nobody asks for. Only what signal-safety(7) permits is done: `write(2)`, `tcsetattr(3)`, and the
//! signal again with its default effect.

use std::sync::atomic::{AtomicPtr, Ordering};

/// Signals that end a program and that are handled nowhere else; signal(7).
const DEADLY: [libc::c_int; 10] = [
    libc::SIGABRT,
    libc::SIGBUS,
    libc::SIGSYS,
    libc::SIGTRAP,
    libc::SIGVTALRM,
    libc::SIGPROF,
    libc::SIGIO,
    libc::SIGPWR,
    libc::SIGXCPU,
    libc::SIGSTKFLT,
];

/// What is to be put back.
struct Saved {
    bytes: Vec<u8>,
    modes: libc::termios,
}

static SAVED: AtomicPtr<Saved> = AtomicPtr::new(std::ptr::null_mut());

/// From now on standard output, which is a terminal, gets these bytes and its present modes back when a deadly signal comes.
/// Before the modes are changed. What is no terminal is left alone.
pub fn prepare(bytes: Vec<u8>) {
    let mut modes = std::mem::MaybeUninit::<libc::termios>::uninit();
    // SAFETY: the call fills the structure where it succeeds, and only then it is taken.
    let modes = unsafe {
        if libc::tcgetattr(libc::STDOUT_FILENO, modes.as_mut_ptr()) != 0 {
            return;
        }
        modes.assume_init()
    };
    // Leaked on purpose: a handler may be reading the one before.
    SAVED.store(Box::into_raw(Box::new(Saved { bytes, modes })), Ordering::SeqCst);
    for signal in DEADLY {
        // SAFETY: the handler does only what signal-safety(7) permits; the structure is a valid one.
        unsafe {
            let mut action: libc::sigaction = std::mem::zeroed();
            action.sa_sigaction = handle as *const () as usize;
            action.sa_flags = libc::SA_RESETHAND | libc::SA_NODEFER;
            libc::sigaction(signal, &raw const action, std::ptr::null_mut());
        }
    }
}

/// The terminal was given back already.
pub fn forget() {
    SAVED.store(std::ptr::null_mut(), Ordering::SeqCst);
}

extern "C" fn handle(signal: libc::c_int) {
    let saved = SAVED.swap(std::ptr::null_mut(), Ordering::SeqCst);
    // SAFETY: what is stored was made by `prepare` and is never freed; the calls are signal-safe.
    unsafe {
        if let Some(saved) = saved.as_ref() {
            libc::write(libc::STDOUT_FILENO, saved.bytes.as_ptr().cast(), saved.bytes.len());
            libc::tcsetattr(libc::STDOUT_FILENO, libc::TCSANOW, &raw const saved.modes);
        }
        // The default effect is set again by `SA_RESETHAND`.
        libc::raise(signal);
    }
}
