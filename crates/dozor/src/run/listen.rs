//! Threads that listen: to the terminal, to its end, to signals.

use super::incoming::{Incoming, Post};
use super::terminal::restore;
use crate::screen::Event;
use ratatui::crossterm::event::{
    self as terminal_event, Event as TerminalEvent, KeyEventKind, MouseEventKind,
};
use rustix::event::{PollFd, PollFlags, poll};
use rustix::io::Errno;
use signal_hook::consts::{
    SIGALRM, SIGCONT, SIGHUP, SIGINT, SIGQUIT, SIGTERM, SIGTSTP, SIGUSR1, SIGUSR2, SIGWINCH,
};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

/// Sends keys, the mouse and what is pasted.
pub fn listen_to_terminal(out: Post) {
    std::thread::spawn(move || {
        loop {
            let event = match terminal_event::read() {
                Ok(TerminalEvent::Key(key)) if key.kind != KeyEventKind::Release => Event::Key(key),
                // A pointer that merely moves would have every cell drawn anew at each of its steps.
                Ok(TerminalEvent::Mouse(mouse)) if mouse.kind == MouseEventKind::Moved => continue,
                Ok(TerminalEvent::Mouse(mouse)) => Event::Mouse(mouse),
                Ok(TerminalEvent::Paste(text)) => Event::Paste(text),
                // Another size is told by its signal: this one goes missing when keys arrive together with it.
                Ok(_) => continue,
                Err(_) => {
                    out.send(Incoming::TerminalGone);
                    return;
                }
            };
            if !out.send(Incoming::Event(event)) {
                return;
            }
        }
    });
}

/// A terminal that is not the controlling one goes without a signal, and reading from it would go on for ever.
pub fn listen_for_hangup(out: Post) {
    std::thread::spawn(move || {
        let terminal = std::io::stdout();
        // No events are asked for: only the end of the terminal is told.
        let mut watched = [PollFd::new(&terminal, PollFlags::empty())];
        loop {
            match poll(&mut watched, None) {
                Err(Errno::INTR) => {}
                Ok(_) if watched[0].revents().is_empty() => {}
                // Without an answer it is not known to be gone.
                Err(_) => return,
                Ok(_) => {
                    out.send(Incoming::TerminalGone);
                    return;
                }
            }
        }
    });
}

/// An answer to a signal takes so long at most; who asks again after that is not kept waiting.
const ANSWER: Duration = Duration::from_secs(2);

/// Sends signals that mean something here. As long as the screen does not run yet, those that end the program do it at once.
pub fn listen_to_signals(out: Post, runs: Arc<AtomicBool>) -> anyhow::Result<()> {
    // Those that would end the program without a word end it in order; what nobody can answer is for `last_words`.
    let ending = [SIGTERM, SIGHUP, SIGINT, SIGQUIT, SIGUSR1, SIGUSR2, SIGALRM];
    let mut signals =
        signal_hook::iterator::Signals::new(ending.iter().chain(&[SIGTSTP, SIGCONT, SIGWINCH]))?;
    std::thread::spawn(move || {
        let mut asked: Option<Instant> = None;
        for signal in signals.forever() {
            if ending.contains(&signal) {
                let first = *asked.get_or_insert_with(Instant::now);
                if !runs.load(Ordering::SeqCst) || first.elapsed() > ANSWER {
                    restore();
                    std::process::exit(128 + signal);
                }
            }
            let incoming = match signal {
                SIGTSTP | SIGCONT if !runs.load(Ordering::SeqCst) => continue,
                SIGTSTP => Incoming::Suspend,
                SIGCONT => Incoming::Continued,
                SIGWINCH => Incoming::Resized,
                other => Incoming::Stop(other),
            };
            if !out.send(incoming) {
                return;
            }
        }
    });
    Ok(())
}
