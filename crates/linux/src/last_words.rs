//! The terminal given back when the program is ended by a signal that leaves no time for anything: an abort (also for lack of
//! memory), or one that nobody asks for. Only what signal-safety(7) permits is done: `write(2)`, `tcsetattr(3)`, and the
//! signal again with its default effect.

use std::sync::atomic::{AtomicPtr, Ordering};

/// Signals that end a program and that are handled nowhere else; signal(7).
const DEADLY: [libc::c_int; 13] = [
    libc::SIGABRT,
    libc::SIGILL,
    libc::SIGFPE,
    libc::SIGSEGV,
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
        // SAFETY: the handler does only what signal-safety(7) permits; the structures are valid ones. Those of before stand in a
        // table that the handler only reads; it is written before the handler is there.
        unsafe {
            let mut action: libc::sigaction = std::mem::zeroed();
            action.sa_sigaction = handle as *const () as usize;
            // On its own stack: this one may be what there is no more of.
            action.sa_flags = libc::SA_SIGINFO | libc::SA_RESETHAND | libc::SA_NODEFER | libc::SA_ONSTACK;
            let mut before: libc::sigaction = std::mem::zeroed();
            libc::sigaction(signal, std::ptr::null(), &raw mut before);
            if before.sa_sigaction != action.sa_sigaction {
                BEFORE[signal as usize].store(Box::into_raw(Box::new(before)), Ordering::SeqCst);
            }
            libc::sigaction(signal, &raw const action, std::ptr::null_mut());
        }
    }
}

/// How signals were handled before; the standard library tells of a stack that overflows.
static BEFORE: [AtomicPtr<libc::sigaction>; 32] = [const { AtomicPtr::new(std::ptr::null_mut()) }; 32];

/// The terminal was given back already.
pub fn forget() {
    SAVED.store(std::ptr::null_mut(), Ordering::SeqCst);
}

extern "C" fn handle(signal: libc::c_int, info: *const libc::siginfo_t, _: *const libc::c_void) {
    let saved = SAVED.swap(std::ptr::null_mut(), Ordering::SeqCst);
    // SAFETY: what is stored was made by `prepare` and is never freed; the calls are signal-safe.
    unsafe {
        if let Some(saved) = saved.as_ref() {
            libc::write(libc::STDOUT_FILENO, saved.bytes.as_ptr().cast(), saved.bytes.len());
            libc::tcsetattr(libc::STDOUT_FILENO, libc::TCSANOW, &raw const saved.modes);
        }
        // A fault of our own comes again when this returns, and goes to who was asked before us. What somebody sent
        // (`SI_USER` and the like are not positive; sigaction(2)) has its default effect, which `SA_RESETHAND` has set again.
        let before = BEFORE[signal as usize].load(Ordering::SeqCst);
        if !info.is_null() && (*info).si_code > 0 && !before.is_null() {
            libc::sigaction(signal, before, std::ptr::null_mut());
        } else {
            libc::raise(signal);
        }
    }
}
